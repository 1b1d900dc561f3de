//! What was concluded from a record: findings with place, evidence and confidence, and figures.

use std::time::Duration;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use crate::models::stream::Holding;
use crate::models::{Models, Told};
use crate::units::{Bytes, Celsius, Rate};

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FindingKind {
    /// The fast part of the write cache was used up.
    CacheEnd,
    /// The drive lowered its speed because it was hot.
    Throttle,
    /// A stretch of addresses is slow.
    SlowZone,
    /// The drive is slower because it is fuller.
    FillSlowdown,
    /// The drive was busy with itself.
    Background,
    /// Somebody else used the drive.
    OtherTraffic,
    /// This machine could not keep up.
    HostLimit,
    /// Addresses that could not be read or written.
    MediaError,
    /// What came back is not what was written.
    DataMismatch,
    /// The speed changed and the record does not say why.
    Unexplained,
}

impl FindingKind {
    /// Each of them.
    pub const ALL: [Self; 10] = [
        Self::CacheEnd,
        Self::Throttle,
        Self::SlowZone,
        Self::FillSlowdown,
        Self::Background,
        Self::OtherTraffic,
        Self::HostLimit,
        Self::MediaError,
        Self::DataMismatch,
        Self::Unexplained,
    ];

    /// Reads [`FindingKind::word`] back.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.word() == word)
    }

    /// As in JSON and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::CacheEnd => "cache-end",
            Self::Throttle => "throttle",
            Self::SlowZone => "slow-zone",
            Self::FillSlowdown => "fill-slowdown",
            Self::Background => "background",
            Self::OtherTraffic => "other-traffic",
            Self::HostLimit => "host-limit",
            Self::MediaError => "media-error",
            Self::DataMismatch => "data-mismatch",
            Self::Unexplained => "unexplained",
        }
    }
}

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
    /// Plain sentences with numbers.
    pub evidence: Vec<String>,
}

impl Finding {
    /// Of this kind, at the beginning of the record, with nothing said of it.
    #[must_use]
    pub const fn new(kind: FindingKind) -> Self {
        Self {
            kind,
            elapsed: Duration::ZERO,
            end_elapsed: None,
            written: Bytes::ZERO,
            written_low: Bytes::ZERO,
            written_high: Bytes::ZERO,
            position: None,
            position_end: None,
            before: None,
            after: None,
            temperature: None,
            confidence: 1.0,
            evidence: Vec::new(),
        }
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

/// How steady the end of the record is, after SNIA PTS-E 2.0: over a window of five rounds the excursion is at most
/// 20 % of the mean and the rise of the least-squares line at most 10 % of it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Steadiness {
    /// Both criteria hold.
    pub reached: bool,
    /// (max − min) / mean over the window.
    pub excursion: f64,
    /// |rise of the line over the window| / mean.
    pub slope: f64,
    /// Length of one round, seconds.
    pub round_s: f64,
}

/// How even the rate was.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Consistency {
    /// Mean rate of the slowest whole second, MB/s.
    pub worst_second_mb_s: f64,
    /// Rate that 99 % of the seconds exceed, MB/s.
    pub p1_mb_s: f64,
    /// Rate that 1 % of the seconds exceed, MB/s.
    pub p99_mb_s: f64,
    /// Mean rate, MB/s.
    pub mean_mb_s: f64,
    /// Standard deviation of the rate of the seconds over their mean.
    pub variation: f64,
    /// Longest time without a byte, s.
    pub longest_stall_s: f64,
}

/// The figures of a haul. A figure that the record cannot give is `None`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Figures {
    /// Median rate up to the first cache end, or over the whole when there is none, MB/s.
    pub burst_mb_s: Option<f64>,
    /// Median rate after the last cache end, MB/s; the same as the burst when there is none.
    pub sustained_mb_s: Option<f64>,
    /// Bytes absorbed at full speed: up to the first cache end.
    pub cache_bytes: Option<u64>,
    /// Mean rate of the slowest whole second under load, MB/s.
    pub worst_second_mb_s: Option<f64>,
    /// Rate that 99 % of the seconds under load exceed, MB/s.
    pub p1_mb_s: Option<f64>,
    /// Rate that 1 % of the seconds under load exceed, MB/s.
    pub p99_mb_s: Option<f64>,
    /// Mean rate under load, MB/s.
    pub mean_mb_s: Option<f64>,
    /// Standard deviation of the rate of the seconds over their mean.
    pub variation: Option<f64>,
    /// Longest time without a byte under load, s.
    pub longest_stall_s: Option<f64>,
    /// Highest temperature, °C.
    pub hottest_c: Option<f64>,
    /// Steadiness at the end of the longest stretch of load.
    pub steady: Option<Steadiness>,
    /// How many rounds up to the end of it lie inside: 5 is steady.
    pub steady_rounds: Option<u8>,
    /// From the last cache end on, to the end of the write it is in.
    pub after_cache: Option<Consistency>,
}

impl Figures {
    /// The rate at which heat is asked about: the burst, at which a drive gets warmest, or else what it sustains.
    #[must_use]
    pub fn hottest_rate(&self) -> Rate {
        Rate::from_mb_s(self.burst_mb_s.or(self.sustained_mb_s).unwrap_or(0.0))
    }

    /// How even the whole was.
    #[must_use]
    pub fn whole(&self) -> Option<Consistency> {
        Some(Consistency {
            worst_second_mb_s: self.worst_second_mb_s?,
            p1_mb_s: self.p1_mb_s?,
            p99_mb_s: self.p99_mb_s?,
            mean_mb_s: self.mean_mb_s?,
            variation: self.variation.unwrap_or(0.0),
            longest_stall_s: self.longest_stall_s.unwrap_or(0.0),
        })
    }
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
    pub surveys: crate::surveys::Surveys,
}

/// Words for the record, and when they came.
#[derive(Debug, Serialize)]
pub struct Noted<'a> {
    /// Seconds since the haul began.
    pub elapsed_s: f64,
    /// The words.
    pub text: &'a str,
}

/// The findings object of the design, ready for JSON.
#[derive(Debug, Serialize)]
pub struct FindingsDocument<'a> {
    /// Identifier of the haul, or the name of the file.
    pub haul: &'a str,
    /// As the user names it.
    pub drive: &'a str,
    /// In the order of their place.
    pub findings: &'a [Finding],
    /// Of the whole haul.
    pub figures: &'a Figures,
    /// What the record cannot tell, and why.
    pub doubts: Vec<String>,
    /// What was noted while it ran.
    pub notes: Vec<Noted<'a>>,
    /// How the cache is built and comes back, how warm the drive gets.
    #[serde(flatten)]
    pub models: Option<Models>,
    /// What scans, spans, ladders, streams, fill sweeps and verifies say.
    pub surveys: &'a crate::surveys::Surveys,
    /// How the limits of the route stand.
    pub limits: &'a [crate::route::Judged],
    /// Figures against what the maker claims.
    pub claims: &'a [crate::claims::Stands],
    /// What the haul cost of the endurance that is claimed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<crate::claims::Cost>,
    /// Whether it holds the stream that was asked about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stream: Option<Told<Holding>>,
}
