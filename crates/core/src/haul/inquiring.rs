//! An inquiry under way: what has moved, which arm is on, and when it is over.

use std::collections::VecDeque;
use std::time::Duration;

use super::arms::Planned;
use super::budget::Budget;
use crate::conclude::inquiry::{COOLS_K, paced_has_fallen_below};
use crate::drive::LoadKind;
use crate::drive::permutation::spread;
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{ArmKind, Experiment, Fall};

/// A rest is over when the drive has cooled by so much more than what tells something, K.
const COOL_ENOUGH: f64 = COOLS_K + 5.0;
/// A load that is slower than this share of what it was after the fall has fallen further; after a small fall, one that lost nearly as much once
/// more.
const FURTHER: f64 = 0.65;
const ONCE_MORE: f64 = 0.95;
/// So many arms in a row tell that it fell further.
const LOW_ARMS: u32 = 2;
/// An arm that waits for the rate to change lasts so long at least, s.
pub(super) const SEEN_S: f64 = 1.5;
/// A paced load that is low for so long has fallen, s.
const LOW_S: f64 = 0.5;

/// An inquiry under way.
#[derive(Debug)]
pub(super) struct Inquiring {
    pub began: Duration,
    pub moved: Bytes,
    /// Bytes written.
    pub wrote: Bytes,
    pub most: Budget,
    /// What is asked of the drive beside the load can be held off.
    pub quiet: bool,
    /// Where the leg's own load goes on.
    pub here: Bytes,
    pub fall: Fall,
    pub next: VecDeque<Planned>,
    pub arm: Option<(Planned, Duration)>,
    /// Temperature when the arm began.
    pub began_at: Option<Celsius>,
    /// Bytes and time of the arm's last second, newest last.
    pub recent: VecDeque<(f64, f64)>,
    pub seed: u64,
    /// Numbers drawn from it.
    pub drawn: u64,
    /// The drive has done all that the arm's load asks for: a limit that is no multiple of a block ends in the block before it.
    pub finished: bool,
    /// How long a paced load has been below its pace, s.
    pub low_s: f64,
    /// Arms of the leg's own load that were much slower than after the fall, in a row.
    pub low_arms: u32,
}

impl Inquiring {
    /// What is drawn next.
    pub const fn draw(&mut self) -> u64 {
        self.drawn += 1;
        spread(self.seed, self.drawn)
    }

    /// The load under way reads.
    pub fn reads(&self) -> bool {
        self.arm.as_ref().is_some_and(|(a, _)| a.load.kind == LoadKind::Read)
    }

    /// Takes what moved in an interval, and whether the load is finished by it.
    pub fn take(&mut self, bytes: Bytes, took: Duration, finished: bool) {
        self.finished |= finished;
        self.moved += bytes;
        self.wrote += if self.reads() { Bytes::ZERO } else { bytes };
        self.recent.push_back((bytes.as_f64(), took.as_secs_f64()));
        while self.recent.iter().skip(1).map(|r| r.1).sum::<f64>() >= 1.0 {
            self.recent.pop_front();
        }
        self.low_s = if self.is_below_pace() { self.low_s + took.as_secs_f64() } else { 0.0 };
    }

    /// Bytes a second over the arm's last second.
    pub fn recent_rate(&self) -> f64 {
        let (bytes, seconds) = self.recent.iter().fold((0.0, 0.0), |a, r| (a.0 + r.0, a.1 + r.1));
        bytes / seconds.max(1e-9)
    }

    /// Of the arm under way.
    pub fn experiment(&self) -> Option<Experiment> {
        self.arm.as_ref().map(|(a, _)| a.experiment)
    }

    /// What an arm waited for did not come, or need not be waited for: those that build on it are not made.
    pub fn cuts_the_rest(&self) -> bool {
        match self.arm.as_ref().map(|(a, _)| a.kind) {
            Some(ArmKind::ToFall) => !self.is_slow(),
            Some(ArmKind::ToBack) => self.is_slow(),
            Some(ArmKind::Lighter) if self.experiment() == Some(Experiment::Cycle) => !self.lighter_fell(),
            _ => false,
        }
    }

    /// The leg's own load is much slower by now than it was after the fall that is looked into, one arm of it after the other: it is another
    /// fall. One arm alone may have stood still for a moment. Asked once an arm, at its end.
    pub fn fell_further(&mut self) -> bool {
        let as_it_is = |k| matches!(k, ArmKind::Here | ArmKind::ToFall | ArmKind::ToBack | ArmKind::Quiet);
        if self.arm.as_ref().is_some_and(|(a, _)| as_it_is(a.kind)) {
            let (before, after) = (self.fall.before.get(), self.fall.after.get());
            let low = self.recent_rate() < FURTHER.max(ONCE_MORE * after / before.max(1.0)) * after;
            self.low_arms = if low { self.low_arms + 1 } else { 0 };
        }
        self.low_arms >= LOW_ARMS
    }

    /// The paced load has fallen, and not for a moment.
    pub fn lighter_fell(&self) -> bool {
        self.low_s >= LOW_S
    }

    /// The paced load no longer keeps its pace.
    pub fn is_below_pace(&self) -> bool {
        let pace = self.arm.as_ref().and_then(|(a, _)| a.load.rate);
        let low = self.fall.after.get();
        pace.is_some_and(|r| self.recent_rate() < paced_has_fallen_below(r.get(), low))
    }

    /// The load is nearer to what it was after the fall than to what it was before.
    pub fn is_slow(&self) -> bool {
        self.recent_rate() < (self.fall.before.get() * self.fall.after.get()).sqrt()
    }

    pub fn arm_is_over(&self, now: Duration, temperature: Option<Celsius>) -> bool {
        let Some((arm, began)) = &self.arm else { return true };
        let lasted = (now - *began).as_secs_f64();
        let seen = lasted >= SEEN_S;
        match arm.kind {
            _ if self.finished || now - *began >= arm.most => true,
            ArmKind::Rest => {
                let by = self.began_at.zip(temperature).map(|(then, now)| then.degrees() - now.degrees());
                arm.ends_cool.is_some_and(|least| lasted >= least) && by.is_some_and(|k| k >= COOL_ENOUGH)
            }
            ArmKind::Again | ArmKind::ToFall => seen && self.is_slow(),
            ArmKind::ToBack => seen && !self.is_slow(),
            ArmKind::Lighter => seen && self.lighter_fell(),
            _ => false,
        }
    }
}
