//! What was concluded from a record: findings with place, evidence and confidence, and figures.

use super::Figures;
use crate::quantity::FindingKind;
use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::quantity::waited_for::Waiting;

/// One conclusion, with its place on every ruler. Serialises as the design's findings JSON: seconds, bytes, MB/s, °C.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Finding {
    /// What.
    pub kind: FindingKind,
    /// When it began, since the haul began.
    #[serde(rename = "elapsed_s", serialize_with = "seconds", deserialize_with = "from_seconds")]
    pub elapsed: Duration,
    /// When it ended, where it did.
    #[serde(
        rename = "end_elapsed_s",
        serialize_with = "optional_seconds",
        deserialize_with = "from_optional_seconds"
    )]
    pub end_elapsed: Option<Duration>,
    /// How long the rate took to give way, where that was no step.
    #[serde(
        rename = "transition_s",
        default,
        serialize_with = "optional_seconds",
        deserialize_with = "from_optional_seconds"
    )]
    pub transition: Option<Duration>,
    /// Bytes written since the haul began.
    #[serde(rename = "written_bytes")]
    pub written: Bytes,
    /// Lower bound of the 95 % interval of `written`.
    pub written_low: Bytes,
    /// Upper bound of the 95 % interval of `written`.
    pub written_high: Bytes,
    /// Address where it began.
    #[serde(rename = "position_bytes")]
    pub position: Option<Bytes>,
    /// Address where it ended.
    #[serde(rename = "position_end_bytes")]
    pub position_end: Option<Bytes>,
    /// Median rate before.
    #[serde(
        rename = "before_mb_s",
        serialize_with = "optional_mb_s",
        deserialize_with = "from_optional_mb_s"
    )]
    pub before: Option<Rate>,
    /// Median rate after.
    #[serde(
        rename = "after_mb_s",
        serialize_with = "optional_mb_s",
        deserialize_with = "from_optional_mb_s"
    )]
    pub after: Option<Rate>,
    /// Temperature of the drive at the place.
    #[serde(rename = "temperature_c")]
    pub temperature: Option<Celsius>,
    /// 0 to 1: of findings given 0.9, nine in ten are right.
    pub confidence: f64,
    /// Of what is unexplained: the causes that remain, the likeliest first. Empty otherwise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub may_be: Vec<Candidate>,
    /// Of what came and went: how often it fell, from the first time to the last.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub times: Option<u32>,
    /// Of what is off its forecast: the assumption that failed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<Assumption>,
    /// Of a bottleneck: what is waited for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waits_for: Option<Waiting>,
    /// Of an outlier: figures that are not like those of other drives of its model, the oddest first. Empty otherwise.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unlike: Vec<super::sisters::Unlike>,
    /// What experiments said of it, where it was inquired into.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub decided: Option<Box<super::inquiry::Decision>>,
    /// Plain sentences with numbers.
    pub evidence: Vec<String>,
}

/// What a forecast took for granted, and what was met.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "assumption", rename_all = "kebab-case")]
pub enum Assumption {
    /// The rate of a level.
    Level,
    /// The bytes of the leg after which the level changes.
    Change {
        /// In the earlier hauls.
        expected_bytes: u64,
        /// In this one.
        found_bytes: u64,
    },
    /// The temperature.
    Heat {
        /// The highest that was expected there, °C.
        expected_c: f64,
        /// That was read, °C.
        found_c: f64,
    },
    /// The link carries as much as before.
    Link {
        /// What it carries in this haul, MB/s.
        carries_mb_s: f64,
    },
}

/// A cause that the record does not rule out.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Candidate {
    /// Which.
    pub kind: FindingKind,
    /// How often it is this one, in records like this: 0 to 1.
    pub share: f64,
}

impl Finding {
    /// Of this kind, at the beginning of the record, with nothing said of it.
    #[must_use]
    pub const fn new(kind: FindingKind) -> Self {
        Self {
            kind,
            elapsed: Duration::ZERO,
            end_elapsed: None,
            transition: None,
            written: Bytes::ZERO,
            written_low: Bytes::ZERO,
            written_high: Bytes::ZERO,
            position: None,
            position_end: None,
            before: None,
            after: None,
            temperature: None,
            confidence: 1.0,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
            unlike: Vec::new(),
            decided: None,
            evidence: Vec::new(),
        }
    }
}

impl Finding {
    /// A cache ended here, or the record does not rule it out: what comes after is not at the speed of before, whatever the cause.
    #[must_use]
    pub fn may_be_cache_end(&self) -> bool {
        self.kind == FindingKind::CacheEnd || self.may_be.iter().any(|c| c.kind == FindingKind::CacheEnd)
    }
}

fn rounded(v: f64) -> f64 {
    (v * 1e6).round() / 1e6
}

fn seconds<S: Serializer>(v: &Duration, s: S) -> Result<S::Ok, S::Error> {
    s.serialize_f64(rounded(v.as_secs_f64()))
}

fn optional_seconds<S: Serializer>(v: &Option<Duration>, s: S) -> Result<S::Ok, S::Error> {
    v.map(|d| rounded(d.as_secs_f64())).serialize(s)
}

fn optional_mb_s<S: Serializer>(v: &Option<Rate>, s: S) -> Result<S::Ok, S::Error> {
    v.map(|r| rounded(r.mb_s())).serialize(s)
}

fn from_seconds<'d, D: Deserializer<'d>>(d: D) -> Result<Duration, D::Error> {
    Ok(Duration::try_from_secs_f64(f64::deserialize(d)?).unwrap_or_default())
}

fn from_optional_seconds<'d, D: Deserializer<'d>>(d: D) -> Result<Option<Duration>, D::Error> {
    Ok(Option::<f64>::deserialize(d)?.and_then(|s| Duration::try_from_secs_f64(s).ok()))
}

fn from_optional_mb_s<'d, D: Deserializer<'d>>(d: D) -> Result<Option<Rate>, D::Error> {
    Ok(Option::<f64>::deserialize(d)?.map(Rate::from_mb_s))
}

/// Everything concluded from a record so far.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Conclusions {
    /// In the order of their place.
    pub findings: Vec<Finding>,
    /// Of the whole haul.
    pub figures: Figures,
    /// What scans, spans, ladders, streams, fill sweeps and verifies say.
    #[serde(default)]
    pub surveys: crate::conclude::surveys::Surveys,
    /// Legs that were ended by hand: what they tell is less than a whole leg tells.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cut_legs: Vec<crate::readings::CutLeg>,
}
