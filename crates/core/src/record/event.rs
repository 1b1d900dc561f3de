//! The events of a haul: everything that is seen of one, live or later, is a fold over these.
//!
//! Times are spans since the haul began. A sample's `end` is the end of its interval; its own length is `span`, so
//! samples need not be evenly spaced and a gap between two samples is visible as such.

use crate::drive::{FaultKind, LatencySummary, MeterReading, Vitals};
use crate::record::forecast::Forecast;
use crate::record::held_to::HeldTo;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::stamp::Mismatch;
use crate::drive::{DriveIdentity, LoadSummary};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::{Arm, Fall, FreightSecond, InquiryEnd, Latencies, Recovers, Step};
use crate::route::Route;

/// Stated by the user, written into the record, used for comparing.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Conditions {
    /// Temperature of the air around the drive.
    pub ambient: Option<Celsius>,
    /// How the drive is cooled, in the user's words: `bare`, `heatsink`, `fan 1200 rpm`.
    pub cooling: Option<String>,
    /// Slot or port.
    pub slot: Option<String>,
    /// A name for this haul.
    pub label: Option<String>,
    /// The drive or folder that files are copied from, as the user named it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// How long the drive had nothing to do before.
    pub rested_for: Option<Duration>,
    /// Free `key=value` pairs.
    pub tags: Vec<(String, String)>,
    /// What earlier hauls of the drive had found when this one began, newest first.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub earlier: Vec<Earlier>,
    /// How its cache comes back with rest, as the newest of them that could tell had it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recovers: Option<Recovers>,
}

/// A finding of an earlier haul of the same drive. Part of the record, so that a review concludes what was concluded live.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Earlier {
    /// Which haul.
    pub haul: String,
    /// What.
    pub kind: FindingKind,
    /// Bytes written before it since that haul began.
    pub bytes: Bytes,
    /// Address where it began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<Bytes>,
    /// Address where it ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position_end: Option<Bytes>,
    /// Temperature there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<Celsius>,
}

/// What happened in one interval.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Sample {
    /// End of the interval, since the haul began.
    pub end: Duration,
    /// Length of the interval.
    pub span: Duration,
    /// Index of the leg in the route.
    pub leg: u16,
    /// Bytes written in the interval.
    pub written: Bytes,
    /// Bytes read in the interval.
    pub read: Bytes,
    /// Address at the end of the interval.
    pub position: Option<Bytes>,
    /// Temperature of the drive.
    pub temperature: Option<Celsius>,
    /// Latency of the operations that completed in it.
    pub latency: Option<LatencySummary>,
    /// Bytes moved for others in the interval, where the kernel's counters tell.
    pub other: Option<Bytes>,
    /// Operations that failed.
    pub errors: u32,
    /// Share of addresses that hold data, in parts per million.
    pub fill_ppm: Option<u32>,
    /// Share of the interval that the threads which drive the load were busy, in parts per million: near a million, it
    /// is this machine that cannot keep up.
    pub host_busy_ppm: Option<u32>,
}

impl Sample {
    /// Mean rate over the interval, both ways together.
    #[must_use]
    pub fn rate(&self) -> Rate {
        (self.written + self.read).over(self.span)
    }
}

/// Why a leg ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LegEnd {
    /// The bytes were moved.
    Bytes,
    /// The time was up.
    Duration,
    /// The temperature was reached.
    Temperature,
    /// So much was written past the cache end.
    PastCacheEnd,
    /// The rate was steady over five rounds.
    Steady,
    /// As many operations failed as the route allows.
    Errors,
    /// There was nothing left to do: the wipe or the self-test is over.
    Complete,
    /// The user went on to the next leg.
    Skipped,
    /// The haul was stopped.
    Stopped,
    /// The drive failed.
    Failed,
}

impl LegEnd {
    /// In words, after "ended because".
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Bytes => "the bytes were moved",
            Self::Steady => "the rate was steady over five rounds",
            Self::Duration => "the time was up",
            Self::Temperature => "the temperature was reached",
            Self::PastCacheEnd => "enough was written past the cache end",
            Self::Errors => "too many operations failed",
            Self::Complete => "it was complete",
            Self::Skipped => "it was skipped",
            Self::Stopped => "the haul was stopped",
            Self::Failed => "the drive failed",
        }
    }
}

/// How a haul stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum HaulState {
    /// Under way.
    Running,
    /// Every leg ended by itself or was skipped.
    Done,
    /// Stopped by the user.
    Stopped,
    /// The program ended in the middle; what was committed is here.
    CutShort,
    /// The drive failed.
    Failed,
}

impl HaulState {
    /// As in the record and in JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Stopped => "stopped",
            Self::CutShort => "cut-short",
            Self::Failed => "failed",
        }
    }

    /// Reads [`HaulState::word`] back.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        [Self::Running, Self::Done, Self::Stopped, Self::CutShort, Self::Failed]
            .into_iter()
            .find(|s| s.word() == word)
    }
}

/// The head of a record: who, what, under which conditions, with which engine.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HaulHead {
    /// Identifier, unique in a ledger.
    pub haul: String,
    /// The drive.
    pub drive: DriveIdentity,
    /// What was to be done.
    pub route: Route,
    /// Under which conditions.
    pub conditions: Conditions,
    /// Wall-clock start, milliseconds since 1970-01-01 UTC.
    pub started_unix_ms: i64,
    /// Which engine moved the bytes.
    pub engine: String,
    /// Version of the program.
    pub program: String,
    /// What it was expected to be like, from earlier hauls of the drive.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forecast: Option<Forecast>,
    /// What it is held to beside its route's limits.
    #[serde(default, skip_serializing_if = "HeldTo::is_empty")]
    pub held_to: HeldTo,
}

impl HaulHead {
    /// Of a haul of which no more is stated.
    #[must_use]
    pub fn plain(haul: &str, drive: DriveIdentity, route: Route) -> Self {
        Self {
            haul: haul.to_owned(),
            drive,
            route,
            conditions: Conditions::default(),
            started_unix_ms: 0,
            engine: String::new(),
            program: String::new(),
            forecast: None,
            held_to: HeldTo::default(),
        }
    }
}

/// One thing that happened on a haul.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// The haul began. Always first.
    HaulStarted(Box<HaulHead>),
    /// A leg began.
    LegStarted {
        /// Since the haul began.
        at: Duration,
        /// Index in the route.
        leg: u16,
    },
    /// An interval went by.
    Sample(Sample),
    /// So long took the operations of the last second.
    Latencies(Box<Latencies>),
    /// So it went with the files of the last second.
    Freight(Box<FreightSecond>),
    /// A health reading was taken.
    Vitals {
        /// Since the haul began.
        at: Duration,
        /// The reading.
        vitals: Box<Vitals>,
    },
    /// Temperatures beside the drive's own in the samples: its further sensors, and thermometers of the user's.
    Temperatures {
        /// Since the haul began.
        at: Duration,
        /// By name.
        readings: Vec<(String, Celsius)>,
    },
    /// Meters beside the drive, all that answered at that moment.
    Meters {
        /// Since the haul began.
        at: Duration,
        /// By name.
        readings: Vec<MeterReading>,
    },
    /// Something went wrong with the drive.
    Fault {
        /// Since the haul began.
        at: Duration,
        /// Where on the drive, where that is known.
        position: Option<Bytes>,
        /// Of what kind; older records do not say, and [`crate::readings`] reads it from their words.
        #[serde(default)]
        kind: FaultKind,
        /// In a sentence.
        message: String,
    },
    /// A leg that goes through several loads began with the next.
    StepStarted {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// What is done.
        step: Box<Step>,
    },
    /// It is over.
    StepEnded {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// Flush time and latency histogram.
        summary: LoadSummary,
    },
    /// All that the leg had written was made durable, and the leg went on.
    Flushed {
        /// Since the haul began, when the drive had said so.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// How long the drive took.
        took: Duration,
    },
    /// Blocks did not read back as written.
    Mismatch {
        /// Since the haul began.
        at: Duration,
        /// Where, and in what way.
        found: Mismatch,
    },
    /// The user said something.
    Note {
        /// Since the haul began.
        at: Duration,
        /// In the user's words.
        text: String,
    },
    /// The load was taken off by the user; samples that follow are rest.
    Paused {
        /// Since the haul began.
        at: Duration,
    },
    /// The load was put on again.
    Resumed {
        /// Since the haul began.
        at: Duration,
    },
    /// The leg's load is interrupted to learn why the rate fell.
    InquiryStarted {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// Which fall.
        fall: Box<Fall>,
    },
    /// Another load begins in an inquiry.
    ArmStarted {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// What is done.
        arm: Arm,
    },
    /// It is over.
    ArmEnded {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
    },
    /// The leg's own load goes on.
    InquiryEnded {
        /// Since the haul began.
        at: Duration,
        /// Index of the leg in the route.
        leg: u16,
        /// Why.
        why: InquiryEnd,
    },
    /// A leg ended.
    LegEnded {
        /// Since the haul began.
        at: Duration,
        /// Index in the route.
        leg: u16,
        /// Why.
        why: LegEnd,
        /// Flush time and latency histogram.
        summary: LoadSummary,
    },
    /// The haul ended. Always last, missing in a record that was cut short.
    HaulEnded {
        /// Since the haul began.
        at: Duration,
        /// How.
        state: HaulState,
        /// In a sentence, where there is something to say.
        reason: Option<String>,
    },
}

impl Event {
    /// When it happened, since the haul began.
    #[must_use]
    pub fn at(&self) -> Duration {
        match self {
            Self::HaulStarted(_) => Duration::ZERO,
            Self::Sample(sample) => sample.end,
            Self::Latencies(latencies) => latencies.end,
            Self::Freight(freight) => freight.end,
            Self::LegStarted { at, .. }
            | Self::Vitals { at, .. }
            | Self::Temperatures { at, .. }
            | Self::Meters { at, .. }
            | Self::Fault { at, .. }
            | Self::StepStarted { at, .. }
            | Self::StepEnded { at, .. }
            | Self::Flushed { at, .. }
            | Self::Mismatch { at, .. }
            | Self::Note { at, .. }
            | Self::InquiryStarted { at, .. }
            | Self::ArmStarted { at, .. }
            | Self::ArmEnded { at, .. }
            | Self::InquiryEnded { at, .. }
            | Self::Paused { at }
            | Self::Resumed { at }
            | Self::LegEnded { at, .. }
            | Self::HaulEnded { at, .. } => *at,
        }
    }
}
