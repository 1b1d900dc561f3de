//! Figures: what a haul is told in. One table says of each its name, what it is a number of, which way is well, what must be
//! measured for it, and what it means. Limits, digests, contrasts, claims, reports and the docs all take it from here.

use crate::quantity::text::named;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::histogram;
use super::units::{Bytes, Celsius, Rate, grouped, latency, parse_duration, significant, span_words};

/// What a figure is a number of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Quantity {
    /// Bytes per second.
    #[serde(rename = "B/s")]
    Rate,
    /// Operations per second.
    #[serde(rename = "1/s")]
    PerSecond,
    /// Bytes.
    #[serde(rename = "B")]
    Bytes,
    /// Seconds.
    #[serde(rename = "s")]
    Seconds,
    /// Degrees Celsius.
    #[serde(rename = "°C")]
    Celsius,
    /// Kelvin: a rise or a difference.
    #[serde(rename = "K")]
    Kelvin,
    /// A number of things.
    #[serde(rename = "1")]
    Count,
    /// A share, 0 to 1.
    #[serde(rename = "share")]
    Share,
    /// A share for each byte.
    #[serde(rename = "1/B")]
    SharePerByte,
    /// Watts.
    #[serde(rename = "W")]
    Watts,
    /// Joules a byte.
    #[serde(rename = "J/B")]
    JoulesPerByte,
    /// Bytes a joule: bytes per second for each watt.
    #[serde(rename = "B/J")]
    BytesPerJoule,
}

/// In three significant digits, as much as meters are worth.
fn three(v: f64) -> String {
    let digits = match v.abs() {
        a if a >= 99.5 => 0,
        a if a >= 9.95 => 1,
        _ => 2,
    };
    format!("{v:.digits$}")
}

impl Quantity {
    /// With its unit.
    #[must_use]
    pub fn words(self, v: f64) -> String {
        match self {
            Self::Rate => Rate::new(v).to_string(),
            Self::PerSecond => format!("{} IOPS", grouped(v.max(0.0).round() as u64)),
            Self::Bytes => Bytes::new(v.max(0.0) as u64).to_string(),
            Self::Seconds if v <= 0.0 => "0 s".into(),
            Self::Seconds if v < 1.0 => latency(std::time::Duration::from_secs_f64(v.max(0.0))),
            Self::Seconds => span_words(v),
            Self::Celsius => Celsius::new(v).to_string(),
            Self::Kelvin => format!("{} K", significant((v * 10.0).round() / 10.0)),
            Self::Count => grouped(v.max(0.0).round() as u64),
            Self::Share => format!("{:.1} %", v * 100.0),
            Self::SharePerByte => format!("{} % a TB", three(v * 1e14)),
            Self::Watts => format!("{} W", three(v)),
            Self::JoulesPerByte => format!("{} J/GB", three(v * 1e9)),
            Self::BytesPerJoule => format!("{} MB/s a watt", three(v / 1e6)),
        }
    }

    /// The unit that suits a number, and how much one of it is.
    fn unit_for(self, v: f64) -> (&'static str, f64) {
        match self {
            Self::Rate => ("MB/s", 1e6),
            Self::PerSecond => ("IOPS", 1.0),
            Self::Bytes => match v.abs() {
                v if v < 1e3 => ("B", 1.0),
                v if v < 1e6 => ("kB", 1e3),
                v if v < 1e9 => ("MB", 1e6),
                v if v < 1e12 => ("GB", 1e9),
                v if v < 1e15 => ("TB", 1e12),
                _ => ("PB", 1e15),
            },
            Self::Seconds => match v.abs() {
                v if v < 1e-3 => ("µs", 1e-6),
                v if v < 1.0 => ("ms", 1e-3),
                v if v < 120.0 => ("s", 1.0),
                v if v < 7200.0 => ("min", 60.0),
                _ => ("h", 3600.0),
            },
            Self::Celsius => ("°C", 1.0),
            Self::Kelvin => ("K", 1.0),
            Self::Count => ("", 1.0),
            Self::Share => ("%", 0.01),
            Self::SharePerByte => ("% a TB", 1e-14),
            Self::Watts => ("W", 1.0),
            Self::JoulesPerByte => ("J/GB", 1e-9),
            Self::BytesPerJoule => ("MB/s a watt", 1e6),
        }
    }

    /// A number and half the width of its interval in one unit, no digit beyond the second of the half: `1 487 ± 21 MB/s`.
    #[must_use]
    pub fn plus_minus(self, value: f64, half: f64) -> String {
        let (unit, scale) = self.unit_for(value);
        let (value, half) = (value / scale, (half / scale).abs());
        // What is lost in the last digits of the value is no width.
        let half = if half < 1e-9 * value.abs() { 0.0 } else { half };
        let digits = if half > 0.0 { (1.0 - half.log10().floor()).clamp(0.0, 4.0) as usize } else { 0 };
        // A half of hundreds has zeros behind its second digit.
        let rough = if half > 0.0 { 10f64.powf((half.log10().floor() - 1.0).max(0.0)) } else { 1.0 };
        let number = |v: f64| match digits {
            0 if v < 0.0 => format!("−{}", grouped((v.abs() / rough).round() as u64 * rough as u64)),
            0 => grouped((v / rough).round() as u64 * rough as u64),
            d => {
                let text = format!("{v:.d$}");
                match text.split_once('.') {
                    Some((whole, rest)) if v >= 1e3 => {
                        format!("{}.{rest}", grouped(whole.parse().unwrap_or(0)))
                    }
                    _ => text,
                }
            }
        };
        format!("{} ± {} {unit}", number(value), number(half)).trim_end().to_owned()
    }

    /// A bound in three digits that [`Quantity::read`] reads back, rounded up or down: `1.02 GB/s` stays `1020 MB/s`.
    #[must_use]
    pub fn bound(self, v: f64, up: bool) -> String {
        let (unit, scale) = self.unit_for(v);
        let x = v / scale;
        // Things are whole, and so are single bytes.
        let least = if unit.is_empty() || unit == "B" { 0 } else { -12 };
        let power = if x > 0.0 { (x.log10().floor() as i32 - 2).max(least) } else { 0 };
        let step = 10f64.powi(power);
        // What is off in the last digits of the division is no reason to go a step further.
        let steps = if up { (x / step - 1e-9).ceil() } else { (x / step + 1e-9).floor() };
        let digits = usize::try_from(-power).unwrap_or(0);
        let number = format!("{:.digits$}", steps * step);
        let number =
            if digits > 0 { number.trim_end_matches('0').trim_end_matches('.') } else { number.as_str() };
        format!("{number} {unit}").trim_end().to_owned()
    }

    /// A number with its unit, read back: bytes per second, bytes, seconds, °C, K, a share, or a count.
    ///
    /// # Errors
    /// What would be one.
    pub fn read(self, text: &str) -> Result<f64, String> {
        let shown = named(text);
        let number = |unit: &str| {
            text.strip_suffix(unit).and_then(|n| n.trim().parse::<f64>().ok()).filter(|n| n.is_finite())
        };
        let told = |e: &dyn fmt::Display| e.to_string();
        match self {
            Self::Rate => text.parse::<Rate>().map(Rate::get).map_err(|e| told(&e)),
            Self::Bytes => text.parse::<Bytes>().map(Bytes::as_f64).map_err(|e| told(&e)),
            Self::Seconds => parse_duration(text).map(|d| d.as_secs_f64()).map_err(|e| told(&e)),
            Self::Celsius => text.parse::<Celsius>().map(Celsius::degrees).map_err(|e| told(&e)),
            Self::Kelvin => {
                number("K").ok_or_else(|| format!("\"{shown}\" is no difference of temperature such as 24 K"))
            }
            Self::Share => {
                number("%").map(|p| p / 100.0).ok_or_else(|| format!("\"{shown}\" is no share such as 5 %"))
            }
            Self::SharePerByte => number("% a TB")
                .map(|v| v * 1e-14)
                .ok_or_else(|| format!("\"{shown}\" is no wear such as 0.4 % a TB")),
            Self::Watts => number("W").ok_or_else(|| format!("\"{shown}\" is no power such as 4.5 W")),
            Self::JoulesPerByte => number("J/GB")
                .map(|v| v * 1e-9)
                .ok_or_else(|| format!("\"{shown}\" is no energy such as 2.5 J/GB")),
            Self::BytesPerJoule => number("MB/s a watt")
                .map(|v| v * 1e6)
                .ok_or_else(|| format!("\"{shown}\" is no rate for a watt such as 400 MB/s a watt")),
            Self::PerSecond => {
                number("IOPS").ok_or_else(|| format!("\"{shown}\" is no rate such as 900 IOPS"))
            }
            Self::Count => {
                text.parse::<u64>().map(|n| n as f64).map_err(|_| format!("\"{shown}\" is no whole number"))
            }
        }
    }

    /// A difference, with its sign and its unit.
    #[must_use]
    pub fn signed(self, v: f64) -> String {
        let unit = if self == Self::Celsius { Self::Kelvin } else { self };
        let sign = if v < 0.0 { "−" } else { "+" };
        let words = unit.words(v.abs());
        // What rounds to nothing is nothing.
        if words.split(' ').next().is_some_and(|n| n.parse() == Ok(0.0)) {
            return "none".into();
        }
        format!("{sign}{words}")
    }

    /// Steps in which it is read: thermometers in drives tell whole degrees.
    #[must_use]
    pub const fn step(self) -> f64 {
        match self {
            Self::Celsius | Self::Kelvin => 1.0,
            _ => 0.0,
        }
    }

    /// What is taken for the same: so much of the first mean, or so many kelvin; `None` where there is no such margin.
    #[must_use]
    pub fn margin(self, mean: f64) -> Option<f64> {
        match self {
            Self::Celsius | Self::Kelvin => Some(2.0),
            Self::Share | Self::Count => None,
            _ => (mean != 0.0).then(|| 0.02 * mean.abs()),
        }
    }
}

/// Whether more of it is what people want.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Better {
    /// More.
    Higher,
    /// Less.
    Lower,
}

/// What a haul must do so that a figure is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Needs {
    /// Any haul gives it.
    Nothing,
    /// A leg that reads or writes.
    Load,
    /// A rest leg.
    Rest,
    /// A leg that writes.
    Write,
    /// A scan leg.
    Scan,
    /// A spans leg.
    Spans,
    /// A pace leg.
    Pace,
    /// A pace leg that searches for the highest rate.
    Search,
    /// A verify leg.
    Verify,
    /// A leg with a lookout.
    Lookout,
    /// A freight leg that writes or copies.
    Freight,
}

impl Needs {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Nothing => "any leg",
            Self::Load => "a leg that reads or writes",
            Self::Rest => "a rest leg",
            Self::Write => "a leg that writes",
            Self::Scan => "a scan leg",
            Self::Spans => "a spans leg",
            Self::Pace => "a pace leg",
            Self::Search => "a pace leg with search = true",
            Self::Verify => "a verify leg",
            Self::Lookout => "a leg with a lookout",
            Self::Freight => "a freight leg that writes or copies",
        }
    }
}

/// A row of the table of figures.
#[derive(Debug, Clone, Copy)]
struct Row {
    id: FigureId,
    name: &'static str,
    quantity: Quantity,
    better: Better,
    needs: Needs,
    about: &'static str,
}

/// Makes the identifiers and their table from one list.
macro_rules! figures {
    ($($id:ident, $name:literal, $quantity:ident, $better:ident, $needs:ident, $about:literal;)*) => {
        /// A figure of a haul.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum FigureId {
            $(#[doc = $about] $id,)*
        }

        const TABLE: &[Row] = &[$(Row {
            id: FigureId::$id,
            name: $name,
            quantity: Quantity::$quantity,
            better: Better::$better,
            needs: Needs::$needs,
            about: $about,
        },)*];
    };
}

figures! {
    Burst, "burst", Rate, Higher, Load, "Median rate up to the first cache end, or up to where heat first slowed it, or else over the longest load; of one that slopes the rate at its start.";
    Sustained, "sustained", Rate, Higher, Load, "Median rate after the last cache end, or the mean from where heat first slowed it, or else the median over the longest load; of one that slopes the rate at its end.";
    Cache, "cache", Bytes, Higher, Write, "Bytes written at full speed: up to the first cache end.";
    Mean, "mean", Rate, Higher, Load, "Mean rate under load.";
    WorstSecond, "worst second", Rate, Higher, Load, "Mean rate of the slowest whole second under load.";
    P1, "p1", Rate, Higher, Load, "Rate that 99 % of the seconds under load exceed.";
    Variation, "variation", Share, Lower, Load, "Standard deviation of the rate of the seconds over their mean.";
    LongestStall, "longest stall", Seconds, Lower, Load, "Longest time under load without a byte.";
    LongestOperation, "longest operation", Seconds, Lower, Load, "Longest time that an operation took under load.";
    LatencyP50, "latency p50", Seconds, Lower, Load, "Half of the operations under load took no longer.";
    LatencyP99, "latency p99", Seconds, Lower, Load, "99 of 100 operations under load took no longer.";
    LatencyP999, "latency p99.9", Seconds, Lower, Load, "999 of 1,000 operations under load took no longer.";
    Hottest, "hottest", Celsius, Lower, Nothing, "Highest temperature.";
    RiseAboveAmbient, "rise above ambient", Kelvin, Lower, Nothing, "Highest temperature less that of the air, where the haul states it.";
    Throttlings, "throttlings", Count, Lower, Load, "Times that heat lowered the speed.";
    UntilItThrottles, "until it throttles", Seconds, Higher, Load, "Time until heat first lowered the speed.";
    Access, "access", Seconds, Lower, Spans, "Mean time of a random read over the whole drive.";
    HighestStream, "highest stream", Rate, Higher, Search, "Highest rate of a stream that the drive held.";
    Misses, "misses", Count, Lower, Pace, "Times that the buffer of a stream ran over.";
    MeanOverTheGround, "mean over the ground", Rate, Higher, Scan, "Mean rate of a scan over all bins.";
    SlowStretches, "slow stretches", Count, Lower, Scan, "Stretches that a scan found slow, and slow again.";
    StartOverEnd, "start over end", Share, Lower, Scan, "Rate at the start of the drive over the rate at its end.";
    FreightRate, "freight rate", Rate, Higher, Freight, "Bytes in the files of the first leg that writes or copies a tree, over the time until all was durable.";
    FileCost, "file cost", Seconds, Lower, Freight, "What each of its files costs, however small.";
    FolderCost, "folder cost", Seconds, Lower, Freight, "What each of its folders costs.";
    TimeToReturn, "time to return", Seconds, Lower, Freight, "Time until its last file was done with, for the program.";
    TimeToDurable, "time to durable", Seconds, Lower, Freight, "Time until all its files were durable.";
    Amplification, "file system amplification", Share, Lower, Freight, "Bytes that the block layer wrote over those in its files.";
    WriteAmplification, "write amplification", Share, Lower, Write, "Bytes that the drive wrote to its media over those that hosts wrote, by its own counts.";
    WearPerByte, "wear per terabyte", SharePerByte, Lower, Write, "Share of its rated life that a terabyte from hosts took, by its own count.";
    PowerAtRest, "power at rest", Watts, Lower, Rest, "Mean power at rest, its first five seconds left out, by the meters.";
    PowerUnderLoad, "power under load", Watts, Lower, Load, "Mean power under load, by the meters.";
    HighestPower, "highest power", Watts, Lower, Load, "Highest power of a second under load, by the meters.";
    EnergyPerByte, "energy per gigabyte", JoulesPerByte, Lower, Load, "Energy under load over what was read and written, by the meters.";
    RatePerWatt, "rate per watt", BytesPerJoule, Higher, Load, "Bytes read and written for a joule under load, by the meters.";
    LookoutP50, "lookout p50", Seconds, Lower, Lookout, "Half of the lookout's reads waited no longer under load.";
    LookoutP99, "lookout p99", Seconds, Lower, Lookout, "99 of 100 of the lookout's reads waited no longer under load.";
    LookoutP999, "lookout p99.9", Seconds, Lower, Lookout, "999 of 1,000 of the lookout's reads waited no longer under load.";
    LookoutLongest, "lookout longest", Seconds, Lower, Lookout, "Longest time that a read of the lookout waited under load.";
    LookoutAtRest, "lookout p99 at rest", Seconds, Lower, Lookout, "99 of 100 of the lookout's reads waited no longer at rest.";
    WrongBytes, "wrong bytes", Bytes, Lower, Verify, "Bytes that did not read back as they were written.";
    Mismatches, "mismatches", Count, Lower, Verify, "Stretches that did not read back as they were written.";
    Errors, "errors", Count, Lower, Nothing, "Operations that failed.";
}

impl FigureId {
    /// Each, in the order in which they are told.
    pub fn all() -> impl Iterator<Item = Self> {
        TABLE.iter().map(|r| r.id)
    }

    fn row(self) -> &'static Row {
        // The table is made from the same list as the identifiers, in their order.
        &TABLE[self as usize]
    }

    /// As in a limit, in JSON and on screen.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// Reads [`FigureId::name`] back.
    #[must_use]
    pub fn from_name(name: &str) -> Option<Self> {
        TABLE.iter().find(|r| r.name == name).map(|r| r.id)
    }

    /// What it is a number of.
    #[must_use]
    pub fn quantity(self) -> Quantity {
        self.row().quantity
    }

    /// Which way is well.
    #[must_use]
    pub fn better(self) -> Better {
        self.row().better
    }

    /// It is a quantile of latencies, which are counted in bins.
    #[must_use]
    pub const fn is_binned(self) -> bool {
        matches!(
            self,
            Self::LatencyP50
                | Self::LatencyP99
                | Self::LatencyP999
                | Self::LookoutP50
                | Self::LookoutP99
                | Self::LookoutP999
                | Self::LookoutLongest
                | Self::LookoutAtRest
        )
    }

    /// Steps in which it is read at this value: repeats may all be off by half of one, in the same way.
    #[must_use]
    pub fn step(self, value: f64) -> f64 {
        if self.is_binned() { value.abs() * histogram::WIDEST } else { self.quantity().step() }
    }

    /// What must be measured for it.
    #[must_use]
    pub fn needs(self) -> Needs {
        self.row().needs
    }

    /// What it means, in a sentence.
    #[must_use]
    pub fn about(self) -> &'static str {
        self.row().about
    }
}

/// Which figure a haul has: one of the table, or one that its own loads make (`random read 4 KiB × 32`).
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub enum FigureKey {
    /// One of the table.
    Of(FigureId),
    /// One of the haul's own.
    Own(String),
}

impl FigureKey {
    /// As in JSON and on screen.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Of(id) => id.name(),
            Self::Own(name) => name,
        }
    }
}

impl fmt::Display for FigureKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name())
    }
}

impl From<String> for FigureKey {
    fn from(name: String) -> Self {
        FigureId::from_name(&name).map_or(Self::Own(name), Self::Of)
    }
}

impl From<FigureKey> for String {
    fn from(key: FigureKey) -> Self {
        key.name().to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_figure_has_a_row_of_its_own_and_is_found_by_its_name() {
        for id in FigureId::all() {
            assert_eq!(id.row().id, id);
            assert_eq!(FigureId::from_name(id.name()), Some(id), "two figures are called {}", id.name());
            assert!(id.about().ends_with('.'), "{id:?}");
            let key = FigureKey::Of(id);
            assert_eq!(FigureKey::from(String::from(key.clone())), key);
        }
        assert_eq!(FigureKey::from("random read".to_owned()), FigureKey::Own("random read".into()));
    }

    /// The table of `docs/routes.md`.
    fn table() -> String {
        let mut out = String::from("| figure | in | needs | meaning |\n|---|---|---|---|\n");
        for r in TABLE {
            let unit = match r.quantity {
                Quantity::Rate => "MB/s",
                Quantity::PerSecond => "IOPS",
                Quantity::Bytes => "bytes",
                Quantity::Seconds => "time",
                Quantity::Celsius => "°C",
                Quantity::Kelvin => "K",
                Quantity::Count => "a number",
                Quantity::Share => "%",
                Quantity::SharePerByte => "% a TB",
                Quantity::Watts => "W",
                Quantity::JoulesPerByte => "J/GB",
                Quantity::BytesPerJoule => "MB/s a watt",
            };
            out.push_str(&format!("| `{}` | {unit} | {} | {} |\n", r.name, r.needs.words(), r.about));
        }
        out
    }

    #[test]
    fn the_table_in_the_docs_is_this_one() {
        let docs = include_str!("../../../../docs/routes.md");
        assert!(docs.contains(&table()), "put this into docs/routes.md:\n{}", table());
    }

    #[test]
    fn a_number_has_no_more_digits_than_its_interval_allows() {
        for (quantity, value, half, words) in [
            (Quantity::Rate, 1487.3e6, 21.4e6, "1 487 ± 21 MB/s"),
            (Quantity::Watts, 4.3512, 0.031, "4.351 ± 0.031 W"),
            (Quantity::JoulesPerByte, 2.5e-9, 0.12e-9, "2.50 ± 0.12 J/GB"),
            (Quantity::BytesPerJoule, 4e8, 1.2e7, "400 ± 12 MB/s a watt"),
            (Quantity::Rate, 1487.3e6, 214e6, "1 490 ± 210 MB/s"),
            (Quantity::Rate, 1082.83e6, 2.51e6, "1 082.8 ± 2.5 MB/s"),
            (Quantity::Seconds, 0.4, 1e-17, "400 ± 0 ms"),
            (Quantity::Rate, 141.812e6, 0.0421e6, "141.812 ± 0.042 MB/s"),
            (Quantity::Bytes, 312.4e9, 0.6e9, "312.40 ± 0.60 GB"),
            (Quantity::Bytes, 312.4e9, 5.8e6, "312.4000 ± 0.0058 GB"),
            (Quantity::Seconds, 0.0156, 0.0000895, "15.600 ± 0.089 ms"),
            (Quantity::Seconds, 45.0, 1.1, "45.0 ± 1.1 s"),
            (Quantity::Seconds, 600.0, 90.0, "10.0 ± 1.5 min"),
            (Quantity::Celsius, 61.0, 0.288, "61.00 ± 0.29 °C"),
            (Quantity::Kelvin, 37.0, 2.0, "37.0 ± 2.0 K"),
            (Quantity::Count, 3.0, 0.0, "3 ± 0"),
            (Quantity::Share, 0.714, 0.012, "71.4 ± 1.2 %"),
            (Quantity::PerSecond, 452_336.0, 1_540.0, "452 300 ± 1 500 IOPS"),
        ] {
            assert_eq!(quantity.plus_minus(value, half), words);
        }
    }

    #[test]
    fn numbers_are_read_back_in_their_unit() {
        for (quantity, text, value) in [
            (Quantity::Rate, "620 MB/s", 620e6),
            (Quantity::Bytes, "2 GB", 2e9),
            (Quantity::Seconds, "250 ms", 0.25),
            (Quantity::Celsius, "70 °C", 70.0),
            (Quantity::Kelvin, "24 K", 24.0),
            (Quantity::Share, "5 %", 0.05),
            (Quantity::PerSecond, "900 IOPS", 900.0),
            (Quantity::Count, "3", 3.0),
        ] {
            assert!((quantity.read(text).unwrap() - value).abs() < 1e-9, "{text}");
            assert!(quantity.read("3 parsecs").is_err(), "{quantity:?}");
        }
    }
}
