//! Limits: the user's pass/fail lines for figures and findings, in words.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::Route;
use super::leg::LegKind;
use crate::finding::{Finding, FindingKind};
use crate::units::{Bytes, Celsius, Rate, latency, parse_duration};

/// A figure that a limit can stand on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measured {
    /// Median rate after the last cache end.
    Sustained,
    /// Median rate up to the first cache end.
    Burst,
    /// Mean rate under load.
    Mean,
    /// Mean rate of the slowest whole second.
    WorstSecond,
    /// Rate that 99 % of the seconds exceed.
    P1,
    /// Bytes absorbed at full speed.
    Cache,
    /// Longest time without a byte.
    LongestStall,
    /// Highest temperature.
    Hottest,
    /// Failed operations.
    Errors,
    /// Highest rate that a pace leg found to hold.
    HighestStream,
    /// Times that a stream's buffer ran over.
    Misses,
    /// Mean access time over the whole drive.
    Access,
    /// Stretches that a scan found slow.
    SlowStretches,
    /// Blocks that came back other than they were written.
    Mismatches,
}

/// What a number stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Unit {
    Rate,
    Bytes,
    Seconds,
    Degrees,
    Count,
}

impl Measured {
    const ALL: [(Self, &'static str); 14] = [
        (Self::Sustained, "sustained"),
        (Self::Burst, "burst"),
        (Self::Mean, "mean"),
        (Self::WorstSecond, "worst second"),
        (Self::P1, "p1"),
        (Self::Cache, "cache"),
        (Self::LongestStall, "longest stall"),
        (Self::Hottest, "hottest"),
        (Self::Errors, "errors"),
        (Self::HighestStream, "highest stream"),
        (Self::Misses, "misses"),
        (Self::Access, "access"),
        (Self::SlowStretches, "slow stretches"),
        (Self::Mismatches, "mismatches"),
    ];

    /// As in a limit.
    #[must_use]
    pub fn word(self) -> &'static str {
        Self::ALL.iter().find(|(m, _)| *m == self).map_or("", |(_, w)| w)
    }

    const fn unit(self) -> Unit {
        match self {
            Self::Sustained | Self::Burst | Self::Mean | Self::WorstSecond | Self::P1 => Unit::Rate,
            Self::HighestStream => Unit::Rate,
            Self::Cache => Unit::Bytes,
            Self::LongestStall | Self::Access => Unit::Seconds,
            Self::Hottest => Unit::Degrees,
            Self::Errors | Self::Misses | Self::SlowStretches | Self::Mismatches => Unit::Count,
        }
    }

    /// A number of it with its unit. Rates are in bytes per second, times in seconds.
    #[must_use]
    pub fn shown(self, value: f64) -> String {
        match self.unit() {
            Unit::Rate => Rate::new(value).to_string(),
            Unit::Bytes => Bytes::new(value.max(0.0) as u64).to_string(),
            Unit::Seconds => latency(std::time::Duration::from_secs_f64(value.max(0.0))),
            Unit::Degrees => Celsius::new(value).to_string(),
            Unit::Count => format!("{value:.0}"),
        }
    }

    fn read(self, text: &str) -> Result<f64, String> {
        let wrong = |e: &dyn fmt::Display| format!("{e}; {} needs a number with its unit", self.word());
        match self.unit() {
            Unit::Rate => text.parse::<Rate>().map(Rate::get).map_err(|e| wrong(&e)),
            Unit::Bytes => text.parse::<Bytes>().map(Bytes::as_f64).map_err(|e| wrong(&e)),
            Unit::Seconds => parse_duration(text).map(|d| d.as_secs_f64()).map_err(|e| wrong(&e)),
            Unit::Degrees => text.parse::<Celsius>().map(Celsius::degrees).map_err(|e| wrong(&e)),
            Unit::Count => text.parse::<u64>().map(|n| n as f64).map_err(|_| {
                format!("\"{}\" is no whole number, as {} needs", text.escape_default(), self.word())
            }),
        }
    }

    /// What a route must have in it so that this is measured.
    fn needs(self, route: &Route) -> Result<(), &'static str> {
        fn any(legs: &[super::Leg], of: &dyn Fn(&super::Leg) -> bool) -> bool {
            legs.iter().any(|l| of(l) || any(&l.legs, of))
        }
        let has = |of: &dyn Fn(&super::Leg) -> bool| any(&route.legs, of);
        let (found, what) = match self {
            Self::Cache => (has(&|l| l.written_share() > 0.0), "a leg that writes"),
            Self::HighestStream => {
                (has(&|l| l.kind == LegKind::Pace && l.search), "a pace leg with search = true")
            }
            Self::Misses => (has(&|l| l.kind == LegKind::Pace), "a pace leg"),
            Self::Access => (has(&|l| l.kind == LegKind::Spans), "a spans leg"),
            Self::SlowStretches => (has(&|l| l.kind == LegKind::Scan), "a scan leg"),
            Self::Mismatches => (has(&|l| l.kind == LegKind::Verify), "a verify leg"),
            Self::Hottest | Self::Errors => (true, ""),
            _ => (has(&|l| l.kind.moves()), "a leg that reads or writes"),
        };
        if found { Ok(()) } else { Err(what) }
    }
}

/// One line that must hold.
#[derive(Debug, Clone, PartialEq)]
pub enum Limit {
    /// A figure at or above, or else at or below, a number.
    Figure {
        /// Which.
        of: Measured,
        /// The number is the least that passes, or else the most.
        at_least: bool,
        /// In bytes per second, bytes, seconds, °C, or a count.
        bound: f64,
        /// As it was written.
        text: String,
    },
    /// No finding of a kind, or of any.
    No {
        /// Which; any without it.
        kind: Option<FindingKind>,
        /// Only asked for when the air is cooler than this.
        below_ambient: Option<Celsius>,
        /// As it was written.
        text: String,
    },
    /// Failed operations and wrong blocks are what the route looks for: they do not end the program with an error.
    ErrorsAllowed,
}

/// How a limit stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// It holds.
    Met,
    /// It does not.
    Missed,
    /// The record does not say.
    Open,
}

impl Verdict {
    /// As on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Met => "met",
            Self::Missed => "missed",
            Self::Open => "open",
        }
    }
}

/// A limit with how it stands.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Judged {
    /// As it was written.
    pub limit: String,
    /// How it stands.
    pub verdict: Verdict,
    /// What was measured, with its unit, or why it is open.
    pub because: String,
}

impl Limit {
    /// As it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        match self {
            Self::Figure { text, .. } | Self::No { text, .. } => text,
            Self::ErrorsAllowed => ERRORS_ALLOWED,
        }
    }

    /// It says how many failed operations or wrong blocks there may be.
    #[must_use]
    pub const fn speaks_of_errors(&self) -> bool {
        match self {
            Self::Figure { of, .. } => matches!(of, Measured::Errors | Measured::Mismatches),
            Self::No { kind, .. } => {
                matches!(kind, None | Some(FindingKind::MediaError | FindingKind::DataMismatch))
            }
            Self::ErrorsAllowed => true,
        }
    }

    /// Whether a route measures what this needs.
    ///
    /// # Errors
    /// What is missing in the route.
    pub fn is_measured_by(&self, route: &Route) -> Result<(), &'static str> {
        match self {
            Self::Figure { of, .. } => of.needs(route),
            Self::ErrorsAllowed => Ok(()),
            Self::No { kind: Some(FindingKind::DataMismatch), .. } => Measured::Mismatches.needs(route),
            Self::No { .. } => Measured::Mean.needs(route),
        }
    }

    /// How it stands, given figures, findings and the air around the drive.
    #[must_use]
    pub fn judge(
        &self,
        figure: impl Fn(Measured) -> Option<f64>,
        findings: &[Finding],
        ambient: Option<Celsius>,
    ) -> Judged {
        let (verdict, because) = match self {
            Self::ErrorsAllowed => (
                Verdict::Met,
                figure(Measured::Errors).map_or_else(String::new, |n| Measured::Errors.shown(n)),
            ),
            Self::Figure { of, at_least, bound, .. } => match figure(*of) {
                Some(v) if (v >= *bound) == *at_least || v == *bound => (Verdict::Met, of.shown(v)),
                Some(v) => (Verdict::Missed, of.shown(v)),
                None => (Verdict::Open, "not measured".into()),
            },
            Self::No { kind, below_ambient, .. } => {
                let found = findings.iter().find(|f| kind.is_none_or(|k| f.kind == k));
                match (found, below_ambient.zip(ambient), below_ambient) {
                    (_, Some((below, now)), _) if now >= below => {
                        (Verdict::Open, format!("the air had {now}"))
                    }
                    (None, ..) => (Verdict::Met, "none found".into()),
                    (Some(_), None, Some(_)) => {
                        (Verdict::Open, "the ambient temperature was not stated".into())
                    }
                    (Some(f), ..) => {
                        let at = crate::units::clock(f.elapsed);
                        (Verdict::Missed, format!("{} at {at}", f.kind.word()))
                    }
                }
            }
        };
        Judged { limit: self.text().to_owned(), verdict, because }
    }
}

const ERRORS_ALLOWED: &str = "errors allowed";

const EXPECTED: &str = "give a figure with a bound (sustained >= 620 MB/s), or no and a finding (no throttle below 38 °C ambient)";

impl FromStr for Limit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let clean = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let shown = text.escape_default();
        if clean == ERRORS_ALLOWED {
            return Ok(Self::ErrorsAllowed);
        }
        if let Some(rest) = clean.strip_prefix("no ") {
            let (what, below) = match rest.split_once(" below ") {
                Some((what, below)) => {
                    let degrees = below.trim_end_matches("ambient").trim();
                    (what, Some(degrees.parse::<Celsius>().map_err(|e| e.to_string())?))
                }
                None => (rest, None),
            };
            let kind = match what {
                "finding" | "findings" => None,
                word => Some(FindingKind::from_word(word).ok_or_else(|| {
                    format!("\"{}\" is no kind of finding; {EXPECTED}", word.escape_default())
                })?),
            };
            return Ok(Self::No { kind, below_ambient: below, text: clean });
        }
        let at =
            clean.find(['<', '>', '≤', '≥']).ok_or_else(|| format!("\"{shown}\" is no limit: {EXPECTED}"))?;
        let name = clean[..at].trim();
        let at_least = clean[at..].starts_with(['>', '≥']);
        let number = clean[at..].trim_start_matches(['<', '>', '=', '≤', '≥']).trim();
        let of = Measured::ALL.iter().find(|(_, w)| *w == name).map(|(m, _)| *m).ok_or_else(|| {
            let names: Vec<&str> = Measured::ALL.iter().map(|(_, w)| *w).collect();
            format!("\"{}\" is no figure: there are {}", name.escape_default(), names.join(", "))
        })?;
        Ok(Self::Figure { of, at_least, bound: of.read(number)?, text: clean })
    }
}

impl Serialize for Limit {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(self.text())
    }
}

impl<'de> Deserialize<'de> for Limit {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        String::deserialize(d)?.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn judge(limit: &str, value: Option<f64>) -> Verdict {
        limit.parse::<Limit>().unwrap().judge(|_| value, &[], None).verdict
    }

    #[test]
    fn figures_are_judged_at_their_bound() {
        assert_eq!(judge("sustained >= 620 MB/s", Some(620e6)), Verdict::Met);
        assert_eq!(judge("sustained ≥ 620 MB/s", Some(619e6)), Verdict::Missed);
        assert_eq!(judge("hottest <= 70 °C", Some(71.0)), Verdict::Missed);
        assert_eq!(judge("longest stall < 2 s", Some(0.1)), Verdict::Met);
        assert_eq!(judge("cache >= 100 GB", None), Verdict::Open);
        assert_eq!(judge("mismatches <= 0", Some(0.0)), Verdict::Met);
    }

    #[test]
    fn what_is_no_limit_says_what_would_be() {
        for (text, words) in [
            ("sustained", "is no limit"),
            ("speed >= 3 MB/s", "is no figure"),
            ("sustained >= 620", "needs a number with its unit"),
            ("errors alowed", "is no limit"),
            ("no slowness", "is no kind of finding"),
            ("errors <= many", "whole number"),
        ] {
            let error = text.parse::<Limit>().unwrap_err();
            assert!(error.contains(words), "{text}: {error}");
        }
    }

    #[test]
    fn a_finding_is_excused_by_warm_air() {
        let limit: Limit = "no throttle below 38 °C ambient".parse().unwrap();
        let finding = Finding::new(FindingKind::Throttle);
        let at = |degrees: Option<f64>| {
            limit.judge(|_| None, std::slice::from_ref(&finding), degrees.map(Celsius::new)).verdict
        };
        assert_eq!(
            (at(Some(24.0)), at(Some(40.0)), at(None)),
            (Verdict::Missed, Verdict::Open, Verdict::Open)
        );
        assert_eq!(limit.judge(|_| None, &[], None).verdict, Verdict::Met);
    }
}
