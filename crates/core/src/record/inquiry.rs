//! Inquiries: what is done to a drive in the middle of a load to learn why it fell. Part of the record, so that a review sees the same arms
//! and concludes the same.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::quantity::{FindingKind, Interval};

/// What is tried. The causes that it tells apart are in [`crate::conclude::inquiry`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Experiment {
    /// The same load in turn here and in other places.
    Elsewhere,
    /// Reads between the writes.
    OtherWay,
    /// Reads before and after a rest in which the drive cools; then the load again, until it falls once more.
    Cool,
    /// The load as it is and with larger blocks and more in flight, in turn.
    Heavier,
    /// The load from one fall to the next, then a lighter one for as many bytes: does it fall too?
    Cycle,
    /// The addresses on both sides of the fall again, first towards it and then away from it.
    SameStretch,
    /// What this program asks of the drive beside the load held off and doubled, in turn.
    Quiet,
    /// The load as it is and by two workers, in turn.
    Workers,
    /// The load as it is and with data that compress, in turn.
    Compressible,
}

impl Experiment {
    /// Each of them.
    pub const ALL: [Self; 9] = [
        Self::Elsewhere,
        Self::OtherWay,
        Self::Cool,
        Self::Heavier,
        Self::Cycle,
        Self::SameStretch,
        Self::Quiet,
        Self::Workers,
        Self::Compressible,
    ];

    /// As in JSON and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Elsewhere => "elsewhere",
            Self::OtherWay => "the other way",
            Self::Cool => "cool",
            Self::Heavier => "heavier",
            Self::Cycle => "from fall to fall",
            Self::SameStretch => "the same stretch",
            Self::Quiet => "quiet",
            Self::Workers => "two workers",
            Self::Compressible => "compressible",
        }
    }
}

/// What is done in one arm of an experiment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ArmKind {
    /// The load goes on as it was.
    Here,
    /// The same load in another place.
    Elsewhere,
    /// What was written last is read.
    Read,
    /// The same, right before the rest.
    ReadHot,
    /// Nothing is asked of the drive.
    Rest,
    /// What was read before the rest is read again.
    ReadCool,
    /// The load again after the rest.
    Again,
    /// Larger blocks, and more in flight.
    Heavier,
    /// The load until it falls.
    ToFall,
    /// The load until it is back.
    ToBack,
    /// The load held to a rate that the drive keeps in the mean.
    Lighter,
    /// The load where it was fast, right before the address of the fall.
    Before,
    /// The load where it was slow, right behind that address.
    Behind,
    /// The load while nothing else is asked of the drive.
    Quiet,
    /// The load while twice as much is asked of the drive beside it.
    Asked,
    /// The load by two workers, together as deep as the one, right ahead of it.
    Workers,
    /// The load with data of which three quarters are zeros.
    Compressible,
}

impl ArmKind {
    /// Each of them.
    pub const ALL: [Self; 17] = [
        Self::Here,
        Self::Elsewhere,
        Self::Read,
        Self::ReadHot,
        Self::Rest,
        Self::ReadCool,
        Self::Again,
        Self::Heavier,
        Self::ToFall,
        Self::ToBack,
        Self::Lighter,
        Self::Before,
        Self::Behind,
        Self::Quiet,
        Self::Asked,
        Self::Workers,
        Self::Compressible,
    ];

    /// The leg's load goes on, with nothing done to it.
    #[must_use]
    pub const fn goes_on_as_it_is(self) -> bool {
        matches!(self, Self::Here | Self::ToFall | Self::ToBack)
    }

    /// As on screen, in ten cells or so: how often stands behind it.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Here => "here",
            Self::Elsewhere => "elsewhere",
            Self::Read => "read",
            Self::ReadHot => "read, hot",
            Self::Rest => "rest",
            Self::ReadCool => "read, cool",
            Self::Again => "again",
            Self::Heavier => "heavier",
            Self::ToFall => "to the fall",
            Self::ToBack => "until back",
            Self::Lighter => "lighter",
            Self::Before => "before it",
            Self::Behind => "behind it",
            Self::Quiet => "quiet",
            Self::Asked => "asked more",
            Self::Workers => "2 workers",
            Self::Compressible => "75 % zeros",
        }
    }
}

/// A load that is put on the drive for a moment, in place of the leg's own.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Arm {
    /// The experiment that it belongs to.
    pub experiment: Experiment,
    /// What is done.
    pub kind: ArmKind,
    /// Which way the bytes go.
    pub load: LoadKind,
    /// First byte of the region.
    pub start: Bytes,
    /// One past the last.
    pub end: Bytes,
    /// Size of one operation.
    pub block: Bytes,
    /// Operations in flight.
    pub depth: u32,
    /// No faster than this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
}

/// How a rate came and went before it was looked into: medians over its fast and its slow stretches.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Turns {
    /// Fast stretches between two slow ones.
    pub count: u32,
    /// Bytes of a fast one.
    pub fast_bytes: Bytes,
    /// How long it lasts, s.
    pub fast_s: f64,
    /// How long a slow one lasts, s.
    pub slow_s: f64,
    /// From the median to the stretch that is furthest from it in bytes, as a share of the median.
    pub uneven: f64,
}

/// How the cache of a drive comes back with rest, as an earlier haul of it told. Part of the record, so that a review sees what was known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recovers {
    /// Which haul.
    pub haul: String,
    /// Rest for half of it, s.
    pub half_s: Interval,
    /// Rest for all of it, s.
    pub all_s: Interval,
    /// All of it, bytes.
    pub whole_bytes: Interval,
}

impl Recovers {
    /// The share that is back after a rest, 0 to 1: as much in each second until half is back, and from there to all.
    #[must_use]
    pub fn back_after(&self, rest_s: f64) -> Interval {
        let of = |half: f64, all: f64| {
            let half = half.max(1e-3);
            match rest_s {
                t if t >= all.max(half) => 1.0,
                t if t >= half => 0.5 + 0.5 * (t - half) / (all - half),
                t => 0.5 * t / half,
            }
        };
        Interval {
            value: of(self.half_s.value, self.all_s.value),
            low: of(self.half_s.high, self.all_s.high),
            high: of(self.half_s.low, self.all_s.low),
        }
    }

    /// Bytes that are back after a rest.
    #[must_use]
    pub fn bytes_after(&self, rest_s: f64) -> Interval {
        let (back, whole) = (self.back_after(rest_s), self.whole_bytes);
        Interval {
            value: back.value * whole.value,
            low: back.low * whole.low.max(0.0),
            high: back.high * whole.high,
        }
    }
}

/// The fall whose cause is asked for, as the record told it when the inquiry began.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Fall {
    /// When, since the haul began.
    pub elapsed: Duration,
    /// Bytes written before it.
    pub written: Bytes,
    /// Address where it began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub position: Option<Bytes>,
    /// Median rate before.
    pub before: Rate,
    /// Median rate after.
    pub after: Rate,
    /// Temperature of the drive there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<Celsius>,
    /// The thermometer tells temperatures in steps of so many kelvin.
    #[serde(default)]
    pub sensor_step_k: f64,
    /// It came back by itself and fell again, more than once.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub recurs: bool,
    /// How it came and went before, where it did so more than once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub turns: Option<Turns>,
    /// Bytes of the fast stretch in the middle of which it is asked about, so far; none where it is asked about while the rate is low.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fast_so_far: Option<Bytes>,
    /// How its cache comes back, where an earlier haul told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recovers: Option<Recovers>,
    /// What the record alone says: causes with their shares.
    pub may_be: Vec<(FindingKind, f64)>,
}

impl Fall {
    /// The rate was known before and after, and it fell: what others ask for may be anything.
    #[must_use]
    pub fn makes_sense(&self) -> bool {
        let (before, after) = (self.before.get(), self.after.get());
        before.is_finite() && after > 0.0 && before > after
    }
}

/// Why an inquiry ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum InquiryEnd {
    /// One answer stands.
    Decided,
    /// Nothing that can be tried here would tell more.
    NothingLeft,
    /// The time, the bytes or the wear that may be spent on it are spent.
    Budget,
    /// The rate came back by itself.
    CameBack,
    /// The rate fell further.
    FellFurther,
    /// The rate had come and gone, and no longer came back.
    Stays,
    /// The user paused, skipped or stopped, or the leg ended.
    Interrupted,
}

impl InquiryEnd {
    /// After "it ended because".
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Decided => "one answer stands",
            Self::NothingLeft => "nothing that can be tried here would tell more",
            Self::Budget => "the time, the bytes or the wear for it were spent",
            Self::CameBack => "the rate came back by itself",
            Self::Stays => "the rate no longer came back",
            Self::FellFurther => "the rate fell further while it was looked into",
            Self::Interrupted => "it was interrupted",
        }
    }
}
