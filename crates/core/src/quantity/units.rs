//! Quantities as types: [`Bytes`], [`Rate`], [`Celsius`]; spans of time are [`std::time::Duration`].
//!
//! Rates and capacities print decimally, as drive makers state them (MB/s is 10^6 B/s); memory and I/O sizes print in
//! binary units (KiB, MiB). Parsing says which it took by the suffix: `GB` is 10^9, `GiB` is 2^30.

use crate::quantity::text::named;
use std::fmt;
use std::ops::{Add, AddAssign, Sub};
use std::str::FromStr;
use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Why a quantity written by a person was not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{given}\" is not {wanted}")]
pub struct ParseUnitError {
    given: String,
    wanted: &'static str,
}

impl ParseUnitError {
    /// This text is not what was wanted: `a size: give a number and a unit`.
    #[must_use]
    pub(crate) fn new(given: &str, wanted: &'static str) -> Self {
        Self { given: named(given), wanted }
    }
}

fn unit_error(given: &str, wanted: &'static str) -> ParseUnitError {
    ParseUnitError::new(given, wanted)
}

/// Splits `"12.5 GB"` into the number and the suffix; `None` when there is no finite, non-negative number in front.
fn split_number(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text
        .find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '_' | ' ' | '-' | '+')))
        .unwrap_or(text.len());
    let digits: String = text[..end].chars().filter(|c| !matches!(c, ' ' | '_')).collect();
    let value = digits.parse::<f64>().ok().filter(|v| v.is_finite())?;
    Some((value, text[end..].trim()))
}

/// An amount of data, in bytes.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Bytes(u64);

impl Bytes {
    /// No data.
    pub const ZERO: Self = Self(0);

    /// From a count of bytes.
    #[must_use]
    pub const fn new(bytes: u64) -> Self {
        Self(bytes)
    }

    /// From decimal gigabytes (10^9 B).
    #[must_use]
    pub const fn from_gb(gb: u64) -> Self {
        Self(gb * 1_000_000_000)
    }

    /// From binary mebibytes (2^20 B).
    #[must_use]
    pub const fn from_mib(mib: u64) -> Self {
        Self(mib << 20)
    }

    /// The count of bytes.
    #[must_use]
    pub const fn get(self) -> u64 {
        self.0
    }

    /// The count of bytes as a float; exact below 2^53 (9 PB).
    #[must_use]
    pub fn as_f64(self) -> f64 {
        self.0 as f64
    }

    /// In decimal gigabytes.
    #[must_use]
    pub fn gb(self) -> f64 {
        self.as_f64() / 1e9
    }

    /// Difference, or zero where `other` is larger.
    #[must_use]
    pub const fn saturating_sub(self, other: Self) -> Self {
        Self(self.0.saturating_sub(other.0))
    }

    /// A share of this amount; `share` is clamped to 0..=1.
    #[must_use]
    pub fn share(self, share: f64) -> Self {
        Self((self.as_f64() * share.clamp(0.0, 1.0)).round() as u64)
    }

    /// Mean rate of moving this amount in `span`; zero for an empty span.
    #[must_use]
    pub fn over(self, span: Duration) -> Rate {
        let seconds = span.as_secs_f64();
        Rate(if seconds > 0.0 { self.as_f64() / seconds } else { 0.0 })
    }

    /// Written in binary units where it is a whole number of them: `1 MiB`, `4 KiB`. For I/O sizes and memory.
    #[must_use]
    pub fn binary(self) -> String {
        for (shift, unit) in [(30, "GiB"), (20, "MiB"), (10, "KiB")] {
            let whole = 1u64 << shift;
            if self.0 >= whole && self.0.is_multiple_of(whole) {
                return format!("{} {unit}", self.0 >> shift);
            }
        }
        format!("{} B", self.0)
    }
}

impl Add for Bytes {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self(self.0.saturating_add(other.0))
    }
}

impl AddAssign for Bytes {
    fn add_assign(&mut self, other: Self) {
        *self = *self + other;
    }
}

impl Sub for Bytes {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        self.saturating_sub(other)
    }
}

impl fmt::Display for Bytes {
    /// Decimal, four significant digits at most: `312.4 GB`, `4 TB`, `512 B`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let v = self.as_f64();
        let (scale, unit) = match self.0 {
            0..1_000 => return f.pad(&format!("{} B", self.0)),
            1_000..1_000_000 => (1e3, "kB"),
            1_000_000..1_000_000_000 => (1e6, "MB"),
            1_000_000_000..1_000_000_000_000 => (1e9, "GB"),
            1_000_000_000_000..1_000_000_000_000_000 => (1e12, "TB"),
            _ => (1e15, "PB"),
        };
        f.pad(&format!("{} {unit}", significant(v / scale)))
    }
}

impl FromStr for Bytes {
    type Err = ParseUnitError;

    /// `4 TB`, `1 MiB`, `512 B`, `4096`; a letter alone (`64M`) is decimal.
    fn from_str(text: &str) -> Result<Self, ParseUnitError> {
        const WANTED: &str = "a size such as \"4 TB\", \"1 MiB\" or \"4096\"";
        let (value, suffix) = split_number(text).ok_or_else(|| unit_error(text, WANTED))?;
        let scale: f64 = match suffix {
            "" | "B" => 1.0,
            "k" | "K" | "kB" | "KB" => 1e3,
            "M" | "MB" => 1e6,
            "G" | "GB" => 1e9,
            "T" | "TB" => 1e12,
            "P" | "PB" => 1e15,
            "KiB" | "Ki" => 1024.0,
            "MiB" | "Mi" => 1_048_576.0,
            "GiB" | "Gi" => 1_073_741_824.0,
            "TiB" | "Ti" => 1_099_511_627_776.0,
            "PiB" | "Pi" => 1_125_899_906_842_624.0,
            _ => return Err(unit_error(text, WANTED)),
        };
        let bytes = value * scale;
        if !(0.0..9.0e18).contains(&bytes) || (bytes - bytes.round()).abs() > 1e-3 {
            return Err(unit_error(text, WANTED));
        }
        Ok(Self(bytes.round() as u64))
    }
}

/// A rate of data, in bytes per second. Never NaN.
#[derive(Debug, Clone, Copy, Default, PartialEq, PartialOrd, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Rate(f64);

impl Rate {
    /// Nothing moves.
    pub const ZERO: Self = Self(0.0);

    /// From bytes per second; NaN and negatives become zero.
    #[must_use]
    pub fn new(bytes_per_second: f64) -> Self {
        Self(if bytes_per_second > 0.0 { bytes_per_second } else { 0.0 })
    }

    /// From MB/s (10^6 B/s).
    #[must_use]
    pub fn from_mb_s(mb_s: f64) -> Self {
        Self::new(mb_s * 1e6)
    }

    /// In bytes per second.
    #[must_use]
    pub const fn get(self) -> f64 {
        self.0
    }

    /// In MB/s (10^6 B/s).
    #[must_use]
    pub fn mb_s(self) -> f64 {
        self.0 / 1e6
    }

    /// Time to move `amount` at this rate; `None` when nothing moves.
    #[must_use]
    pub fn time_for(self, amount: Bytes) -> Option<Duration> {
        (self.0 > 0.0).then(|| Duration::try_from_secs_f64(amount.as_f64() / self.0).ok()).flatten()
    }
}

impl fmt::Display for Rate {
    /// In MB/s: whole from 1,000 up, else four significant digits: `3 180 MB/s`, `141.8 MB/s`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{} MB/s", mb_s_figure(self.mb_s())))
    }
}

impl FromStr for Rate {
    type Err = ParseUnitError;

    /// `620 MB/s`, `1.2 GB/s`, `500 kB/s`.
    fn from_str(text: &str) -> Result<Self, ParseUnitError> {
        const WANTED: &str = "a rate such as \"620 MB/s\"";
        let (value, suffix) = split_number(text).ok_or_else(|| unit_error(text, WANTED))?;
        let scale = match suffix {
            "B/s" => 1.0,
            "kB/s" => 1e3,
            "MB/s" => 1e6,
            "GB/s" => 1e9,
            "MiB/s" => 1_048_576.0,
            _ => return Err(unit_error(text, WANTED)),
        };
        if value < 0.0 {
            return Err(unit_error(text, WANTED));
        }
        Ok(Self::new(value * scale))
    }
}

/// A temperature, kept in thousandths of a degree so that a record replays to the digit.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(from = "f64", into = "f64")]
pub struct Celsius(i32);

impl Celsius {
    /// From degrees; out of −273.15..=10,000 or NaN is clamped, for sensors that answer nonsense.
    #[must_use]
    pub fn new(degrees: f64) -> Self {
        let degrees = if degrees.is_nan() { -273.15 } else { degrees.clamp(-273.15, 10_000.0) };
        Self((degrees * 1000.0).round() as i32)
    }

    /// From kelvin as NVMe reports it (NVM Express Base 2.0, figure 207: Composite Temperature).
    #[must_use]
    pub fn from_kelvin(kelvin: u16) -> Self {
        Self(i32::from(kelvin) * 1000 - 273_000)
    }

    /// From thousandths of a degree, as the kernel's hwmon reports it.
    #[must_use]
    pub const fn from_millis(millis: i32) -> Self {
        Self(millis)
    }

    /// In thousandths of a degree.
    #[must_use]
    pub const fn millis(self) -> i32 {
        self.0
    }

    /// In degrees.
    #[must_use]
    pub fn degrees(self) -> f64 {
        f64::from(self.0) / 1000.0
    }
}

impl From<f64> for Celsius {
    fn from(degrees: f64) -> Self {
        Self::new(degrees)
    }
}

impl From<Celsius> for f64 {
    fn from(t: Celsius) -> Self {
        t.degrees()
    }
}

impl fmt::Display for Celsius {
    /// Whole degrees where they are whole: `61 °C`, `61.4 °C`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text =
            if self.0 % 1000 == 0 { format!("{}", self.0 / 1000) } else { format!("{:.1}", self.degrees()) };
        f.pad(&format!("{text} °C"))
    }
}

impl FromStr for Celsius {
    type Err = ParseUnitError;

    /// `84 °C`, `84 C` or `84`.
    fn from_str(text: &str) -> Result<Self, ParseUnitError> {
        const WANTED: &str = "a temperature such as \"84 °C\"";
        let (value, suffix) = split_number(text).ok_or_else(|| unit_error(text, WANTED))?;
        if !matches!(suffix, "" | "C" | "°C") || !(-273.15..=1_000.0).contains(&value) {
            return Err(unit_error(text, WANTED));
        }
        Ok(Self::new(value))
    }
}

/// Reads a span of time: `100 ms`, `90 s`, `10 min`, `2 h`, `3 d`.
///
/// # Errors
/// When there is no number, no known unit, or the span is longer than a year.
pub fn parse_duration(text: &str) -> Result<Duration, ParseUnitError> {
    const WANTED: &str = "a time such as \"100 ms\", \"90 s\", \"10 min\" or \"2 h\"";
    let (value, suffix) = split_number(text).ok_or_else(|| unit_error(text, WANTED))?;
    let scale = match suffix {
        "us" | "µs" => 1e-6,
        "ms" => 1e-3,
        "s" => 1.0,
        "min" => 60.0,
        "h" => 3600.0,
        "d" => 86_400.0,
        _ => return Err(unit_error(text, WANTED)),
    };
    let seconds = value * scale;
    if !(0.0..=366.0 * 86_400.0).contains(&seconds) {
        return Err(unit_error(text, WANTED));
    }
    Ok(Duration::from_secs_f64(seconds))
}

/// A span as people write it, the largest unit that leaves it whole: `10 min`, `90 s`, `100 ms`.
/// [`parse_duration`] reads it back.
#[must_use]
pub fn plain_duration(span: Duration) -> String {
    let ms = span.as_millis();
    match ms {
        0 => "0 s".into(),
        _ if ms.is_multiple_of(3_600_000) => format!("{} h", ms / 3_600_000),
        _ if ms.is_multiple_of(60_000) => format!("{} min", ms / 60_000),
        _ if ms.is_multiple_of(1000) => format!("{} s", ms / 1000),
        _ => format!("{ms} ms"),
    }
}

/// A span as it is said, to two digits or so: milliseconds, seconds, minutes, hours and minutes.
#[must_use]
pub fn span_words(seconds: f64) -> String {
    match seconds {
        s if !s.is_finite() => "ever".into(),
        s if s < 0.95 => plain_duration(Duration::from_millis((s.max(0.0) * 100.0).round() as u64 * 10)),
        s if s < 9.95 => format!("{} s", significant((s * 10.0).round() / 10.0)),
        s if s < 120.0 => format!("{s:.0} s"),
        s => {
            let minutes = (s / 60.0).round() as u64;
            match (minutes / 60, minutes % 60) {
                (0, m) => format!("{m} min"),
                (h, 0) => format!("{h} h"),
                (h, m) => format!("{h} h {m} min"),
            }
        }
    }
}

/// A place in time on a haul: `0:48:10` (hours, minutes, seconds).
#[must_use]
pub fn clock(span: Duration) -> String {
    let s = span.as_secs();
    format!("{}:{:02}:{:02}", s / 3600, s / 60 % 60, s % 60)
}

/// A latency: µs below 1 ms, ms below 1 s, then s; three significant digits at most.
#[must_use]
pub fn latency(span: Duration) -> String {
    let us = span.as_secs_f64() * 1e6;
    let (value, unit) = match us {
        v if v < 1e3 => (v, "µs"),
        v if v < 1e6 => (v / 1e3, "ms"),
        v => (v / 1e6, "s"),
    };
    let digits = if value >= 100.0 {
        0
    } else if value >= 10.0 {
        1
    } else {
        2
    };
    format!("{} {unit}", trimmed(value, digits))
}

/// The figure of a rate in MB/s without its unit: `3 180`, `141.8`, `9.42`.
#[must_use]
pub fn mb_s_figure(mb_s: f64) -> String {
    if mb_s >= 999.95 { grouped(mb_s.round() as u64) } else { significant(mb_s) }
}

/// Groups thousands with a space: `3 180`.
#[must_use]
pub fn grouped(n: u64) -> String {
    let digits = n.to_string();
    let mut out = String::with_capacity(digits.len() + digits.len() / 3);
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(' ');
        }
        out.push(c);
    }
    out
}

/// Four significant digits at most and no trailing zeros: `312.4`, `24`, `9.42`.
#[must_use]
pub fn significant(v: f64) -> String {
    let digits = match v.abs() {
        a if a >= 999.95 => 0,
        a if a >= 99.995 => 1,
        a if a >= 9.9995 => 2,
        _ => 3,
    };
    trimmed(v, digits)
}

/// A count in three significant digits, thousands as k and M: `3.74 k`, `454 k`, `1.2 M`.
#[must_use]
pub fn counted(v: f64) -> String {
    let three = |v: f64| {
        let digits = if v >= 99.95 {
            0
        } else if v >= 9.995 {
            1
        } else {
            2
        };
        trimmed(v, digits)
    };
    match v {
        v if v >= 999_500.0 => format!("{} M", three(v / 1e6)),
        v if v >= 999.5 => format!("{} k", three(v / 1e3)),
        v => three(v),
    }
}

fn trimmed(v: f64, digits: usize) -> String {
    let text = format!("{v:.digits$}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_owned() } else { text }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn counts_have_three_digits() {
        for (v, words) in [
            (453_746.0, "454 k"),
            (3739.0, "3.74 k"),
            (65_660.0, "65.7 k"),
            (999_600.0, "1 M"),
            (1_234_567.0, "1.23 M"),
            (999.7, "1 k"),
            (999.4, "999"),
            (12.34, "12.3"),
            (0.0, "0"),
        ] {
            assert_eq!(counted(v), words);
        }
    }

    #[test]
    fn known_sizes_parse_and_print() {
        for (text, bytes, shown) in [
            ("4 TB", 4_000_000_000_000, "4 TB"),
            ("312.4GB", 312_400_000_000, "312.4 GB"),
            ("1 MiB", 1 << 20, "1.049 MB"),
            ("64M", 64_000_000, "64 MB"),
            ("4096", 4096, "4.096 kB"),
            ("512 B", 512, "512 B"),
        ] {
            let parsed: Bytes = text.parse().unwrap();
            assert_eq!(parsed.get(), bytes, "{text}");
            assert_eq!(parsed.to_string(), shown, "{text}");
        }
        for bad in ["", "GB", "-1 GB", "1 gb", "1.5 B", "1e40 TB", "nan"] {
            assert!(bad.parse::<Bytes>().is_err(), "{bad:?} was taken");
        }
        assert_eq!(Bytes::new(1 << 20).binary(), "1 MiB");
        assert_eq!(Bytes::new(1000).binary(), "1000 B");
    }

    #[test]
    fn rates_temperatures_and_times_print_with_their_units() {
        assert_eq!(Rate::from_mb_s(3180.4).to_string(), "3 180 MB/s");
        assert_eq!(Rate::from_mb_s(141.84).to_string(), "141.8 MB/s");
        assert_eq!(Rate::from_mb_s(999.99).to_string(), "1 000 MB/s");
        assert_eq!("1.2 GB/s".parse::<Rate>().unwrap().mb_s(), 1200.0);
        assert!("12 MBit/s".parse::<Rate>().is_err());
        assert_eq!(Celsius::new(61.4).to_string(), "61.4 °C");
        assert_eq!(Celsius::from_kelvin(334).to_string(), "61 °C");
        assert_eq!(clock(Duration::from_secs(2890)), "0:48:10");
        assert_eq!(latency(Duration::from_micros(9100)), "9.1 ms");
        assert_eq!(latency(Duration::from_nanos(82_400)), "82.4 µs");
        assert_eq!(grouped(12_345_678), "12 345 678");
    }

    proptest! {
        #[test]
        fn a_plain_duration_reads_back(ms in 0u64..10_000_000) {
            let span = Duration::from_millis(ms);
            prop_assert_eq!(parse_duration(&plain_duration(span)).unwrap(), span);
        }

        #[test]
        fn binary_sizes_read_back(n in 0u64..1 << 50) {
            prop_assert_eq!(Bytes::new(n).binary().parse::<Bytes>().unwrap(), Bytes::new(n));
        }

        #[test]
        fn no_text_panics(text in ".{0,20}") {
            let _ = text.parse::<Bytes>();
            let _ = text.parse::<Rate>();
            let _ = text.parse::<Celsius>();
            let _ = parse_duration(&text);
        }
    }
}
