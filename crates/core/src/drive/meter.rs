//! Meters beside a drive: what it draws, and whatever else somebody measures on the bench.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::quantity::text::named;
use crate::quantity::units::significant;

/// What a meter measures.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub enum MeterUnit {
    /// Degrees Celsius.
    #[serde(rename = "°C")]
    Celsius,
    /// Watts.
    #[serde(rename = "W")]
    Watt,
    /// Volts.
    #[serde(rename = "V")]
    Volt,
    /// Amperes.
    #[serde(rename = "A")]
    Ampere,
    /// Percent, as of humidity or of a fan.
    #[serde(rename = "%")]
    Percent,
    /// Turns per minute.
    #[serde(rename = "rpm")]
    Rpm,
    /// Metres per second, as of air.
    #[serde(rename = "m/s")]
    MetresPerSecond,
    /// Megabytes per second that a member of an array moves; the name is the member's.
    #[serde(rename = "MB/s")]
    MegabytesPerSecond,
    /// Share of the time in which a member of an array has something to do, percent.
    #[serde(rename = "% busy")]
    Busy,
}

impl MeterUnit {
    /// Each, in the order in which records number them.
    pub const ALL: [Self; 9] = [
        Self::Celsius,
        Self::Watt,
        Self::Volt,
        Self::Ampere,
        Self::Percent,
        Self::Rpm,
        Self::MetresPerSecond,
        Self::MegabytesPerSecond,
        Self::Busy,
    ];

    /// It is measured of the members of an array alone.
    #[must_use]
    pub const fn is_of_member(self) -> bool {
        matches!(self, Self::MegabytesPerSecond | Self::Busy)
    }

    /// As it is written.
    #[must_use]
    pub const fn symbol(self) -> &'static str {
        match self {
            Self::Celsius => "°C",
            Self::Watt => "W",
            Self::Volt => "V",
            Self::Ampere => "A",
            Self::Percent => "%",
            Self::Rpm => "rpm",
            Self::MetresPerSecond => "m/s",
            Self::MegabytesPerSecond => "MB/s",
            Self::Busy => "% busy",
        }
    }

    /// What no meter on a bench says: lowest and highest.
    const fn bounds(self) -> (f64, f64) {
        match self {
            Self::Celsius => (-60.0, 200.0),
            Self::Watt => (-1e4, 1e5),
            Self::Volt => (-1e3, 1e3),
            Self::Ampere => (-1e3, 1e4),
            Self::Percent => (-1e3, 1e3),
            Self::Rpm => (0.0, 1e6),
            Self::MetresPerSecond => (-100.0, 100.0),
            Self::MegabytesPerSecond => (0.0, 1e6),
            Self::Busy => (0.0, 100.0),
        }
    }

    /// A line of a meter: a number, perhaps with its unit behind it, which may be a thousandth (`4350 mW`). `None` where it is none, has
    /// another unit, or is beyond what any such meter says.
    #[must_use]
    pub fn read(self, line: &str) -> Option<MeterValue> {
        let text = line.trim();
        let end = text
            .find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+' | 'e' | 'E')))
            .unwrap_or(text.len());
        let value: f64 = text[..end].parse().ok()?;
        let unit = text[end..].trim();
        let scale = match unit.strip_suffix(self.symbol()) {
            _ if unit.is_empty() => 1.0,
            Some("") => 1.0,
            Some("m") => 1e-3,
            Some("k") => 1e3,
            _ if self == Self::Celsius && matches!(unit, "C" | "degC") => 1.0,
            _ => return None,
        };
        self.value(value * scale)
    }

    /// A value in this unit; `None` beyond what any such meter says.
    #[must_use]
    pub fn value(self, value: f64) -> Option<MeterValue> {
        let (low, high) = self.bounds();
        (low..=high).contains(&value).then(|| MeterValue { unit: self, micros: (value * 1e6).round() as i64 })
    }
}

impl fmt::Display for MeterUnit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.symbol())
    }
}

impl FromStr for MeterUnit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        // What members of an array do is measured here, and by no meter.
        let known = Self::ALL.into_iter().find(|u| u.symbol() == text && !u.is_of_member());
        known.or((text == "C").then_some(Self::Celsius)).ok_or_else(|| {
            format!("\"{}\" is no unit of a meter: give °C (or C), W, V, A, %, rpm or m/s", named(text))
        })
    }
}

/// What a meter said: a whole number of millionths, so that a record replays to the digit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct MeterValue {
    /// In which unit.
    pub unit: MeterUnit,
    /// Millionths of it.
    pub micros: i64,
}

impl MeterValue {
    /// In its unit.
    #[must_use]
    pub fn get(self) -> f64 {
        self.micros as f64 / 1e6
    }
}

impl fmt::Display for MeterValue {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", significant(self.get()), self.unit)
    }
}

/// A reading of one meter.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MeterReading {
    /// Name of the meter.
    pub name: String,
    /// What it said.
    #[serde(flatten)]
    pub value: MeterValue,
}

impl MeterReading {
    /// The meter that tells the current where this one tells the voltage of the same name.
    fn current<'a>(&self, all: &'a [Self]) -> Option<&'a Self> {
        let volts = self.value.unit == MeterUnit::Volt;
        all.iter().find(|r| volts && r.value.unit == MeterUnit::Ampere && r.name == self.name)
    }

    /// It is one of those that tell power: in W, or in V or A with the other beside it.
    #[must_use]
    pub fn feeds(&self, all: &[Self]) -> bool {
        match self.value.unit {
            MeterUnit::Watt => true,
            MeterUnit::Volt => self.current(all).is_some(),
            MeterUnit::Ampere => all.iter().any(|r| r.current(all).is_some_and(|c| std::ptr::eq(c, self))),
            _ => false,
        }
    }
}

/// What all lines that feed the drive carry at one moment, W: meters in W, and those in V and A of one name. `None` where there are none.
#[must_use]
pub fn power(all: &[MeterReading]) -> Option<f64> {
    let of = |r: &MeterReading| match r.value.unit {
        MeterUnit::Watt => Some(r.value.get()),
        _ => r.current(all).map(|a| r.value.get() * a.value.get()),
    };
    all.iter().filter_map(of).reduce(|a, b| a + b)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(unit: MeterUnit, line: &str) -> Option<f64> {
        unit.read(line).map(MeterValue::get)
    }

    #[test]
    fn a_line_is_a_number_with_or_without_its_unit() {
        assert_eq!(said(MeterUnit::Watt, " 4.35 W\r"), Some(4.35));
        assert_eq!(said(MeterUnit::Watt, "4350mW"), Some(4.35));
        assert_eq!(said(MeterUnit::Watt, "4.35"), Some(4.35));
        assert_eq!(said(MeterUnit::Watt, "12 V"), None, "a unit of something else");
        assert_eq!(said(MeterUnit::Ampere, "-4e-3 A"), Some(-0.004));
        assert_eq!(said(MeterUnit::Celsius, "23.5 °C"), Some(23.5));
        assert_eq!(said(MeterUnit::Celsius, "900"), None);
        assert_eq!(said(MeterUnit::Celsius, "warm"), None);
        assert_eq!(said(MeterUnit::Watt, "nan"), None);
        assert_eq!(said(MeterUnit::Rpm, "1 200 rpm"), None, "not two numbers");
        assert_eq!(said(MeterUnit::Percent, ""), None);
        assert_eq!(MeterUnit::Watt.read("4.3512345678").unwrap().to_string(), "4.351 W");
    }

    #[test]
    fn units_read_back_what_they_say() {
        for unit in MeterUnit::ALL {
            assert_eq!(unit.to_string().parse::<MeterUnit>().is_ok(), !unit.is_of_member());
            let text = serde_json::to_string(&unit).unwrap();
            assert_eq!(text, format!("\"{unit}\""));
            assert_eq!(serde_json::from_str::<MeterUnit>(&text).unwrap(), unit);
        }
        assert_eq!("C".parse(), Ok(MeterUnit::Celsius));
        assert!("kWh".parse::<MeterUnit>().unwrap_err().contains("give °C"));
    }
}
