//! What the arms of an inquiry show: differences of rates, each with its standard error, as shares of what was lost.
//!
//! Rates are compared by their logarithms, where the causes of a fall add up: a drive that has a tenth of its speed because half of it went
//! for heat and four fifths for its cache shows both parts, whichever is taken away.

use super::rates::{Arm, LogRate, arm, rate_over};
use super::rests::{AgainstModel, Cooled, LightFirst, against_model, cooled, until_lost};
use crate::quantity::units::Bytes;
use crate::readings::{ArmReading, InquiryReading, Series};
use crate::record::{ArmKind, Experiment, Turns};

/// Nor does one that fell within less than this share of its bytes and its time: it was about to fall.
const TOO_SOON: f64 = 0.55;
/// It fell after just as many when it did within this share of them.
const JUST: f64 = 0.08;
/// What is fast for less than this is a moment of the machine, s; and of a smaller loss, as a logarithm, noise is half way back.
const GLIMPSE_S: f64 = 0.4;
const PLAIN_LOSS: f64 = 0.3;
/// A fast stretch into which something was put is as long as usual within this share of it, and plainly is not from so many times that on.
const EVENLY: f64 = 0.04;
const PLAINLY: f64 = 2.5;
/// Twice as much as the stretches before it differ by is the same; where that is more than this share, they say nothing of one.
pub(super) const MOST_JUST: f64 = 0.1;
/// It ended in the fall that is asked about when it is as slow as that, within this of the logarithm.
const SAME_LOW: f64 = 0.15;
/// A fast stretch of what comes and goes, into which a rest or reads were put.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretched {
    /// Bytes written in it, as a share of the usual.
    pub share: f64,
    /// It ended; else it holds so many at least.
    pub fell: bool,
    /// Shares that differ by less are the same.
    pub just: f64,
}

impl Stretched {
    /// As long as usual (0), longer (1), shorter (2); `None` where that is not plain.
    pub(super) fn outcome(self) -> Option<usize> {
        let off = self.share - 1.0;
        let plainly = PLAINLY * self.just;
        match off {
            // Stretches that are not even say nothing of one.
            _ if self.just > MOST_JUST => None,
            o if o > plainly => Some(1),
            _ if !self.fell => None,
            o if o.abs() < self.just => Some(0),
            o if o < -plainly => Some(2),
            _ => None,
        }
    }
}

/// What was measured so far.
#[derive(Debug, Clone, PartialEq)]
pub struct Effects {
    /// Every arm, in order.
    pub arms: Vec<Arm>,
    /// The rate of the load as it is now.
    pub here: Option<LogRate>,
    /// How much slower that is than before the fall.
    pub lost: f64,
    /// How much faster the load is elsewhere.
    pub elsewhere: Option<LogRate>,
    /// How much faster reads are than the load.
    pub reads: Option<LogRate>,
    /// How much faster a heavier load is.
    pub heavier: Option<LogRate>,
    /// How much faster the load is by two workers.
    pub workers: Option<LogRate>,
    /// How much faster it is with data that compress.
    pub compressible: Option<LogRate>,
    /// Of the newest rest that tells.
    pub cooled: Option<Cooled>,
    /// Bytes of the load that were fast after the first rest until it fell once more.
    pub until_lost: Option<Bytes>,
    /// The same against what the model of its cache has, where an earlier haul told.
    pub against_model: Option<AgainstModel>,
    /// The same after a second rest, of which the first part was written by a light load, against that.
    pub light_first: Option<LightFirst>,
    /// The load got back most of what it had lost, with nothing done.
    pub came_back: bool,
    /// It was fast for a moment in one arm of the load as it is: it may have come back, or something was ready to be written fast by then.
    pub glimpsed: bool,
    /// It had come and gone before, and this time it did not come back: it is another fall than those.
    pub stayed: bool,
    /// It came back, and fell once more to stay: that is the next fall, and says nothing of this one.
    pub fell_again_to_stay: bool,
    /// How often a lighter load fell after just as many bytes or seconds as the full one and came back; within about as many; and how often it
    /// did not fall.
    pub lighter: [u32; 3],
    /// A fast stretch with a rest in it.
    pub rested: Option<Stretched>,
    /// A fast stretch with reads in it.
    pub read_between: Option<Stretched>,
    /// How much faster reads are when the rate is back than while it is low, of what comes and goes.
    pub reads_back: Option<LogRate>,
    /// How much faster the load is before the address of the fall than behind it.
    pub stretch: Option<LogRate>,
    /// How much faster it is with nothing asked of the drive beside it than with twice as much.
    pub quiet: Option<LogRate>,
}

/// How often a lighter load fell after as many bytes as the full one is fast for, within about as many, and how often it did not fall.
fn falls_when_lighter(arms: &[Arm], turns: Turns, half: f64) -> [u32; 3] {
    let mut seen = [0; 3];
    // A load that was held to its pace is as slow as that in a moment in which the machine stands still. What fell is low for a while.
    let was_low = |a: Option<&Arm>| a.and_then(|a| a.rate).is_some_and(|r| r.value < half.ln());
    let back = |a: Option<&Arm>| a.is_some_and(|a| a.kind == ArmKind::ToBack && !a.fell);
    let began_fast = |at: usize| {
        let read = arms[at - 1].kind == ArmKind::ReadCool;
        back((at - 1).checked_sub(usize::from(read)).and_then(|i| arms.get(i)))
    };
    // What begins in the middle of a fast stretch is no measure.
    for at in (1..arms.len()).filter(|i| arms[*i].kind == ArmKind::Lighter && began_fast(*i)) {
        let arm = &arms[at];
        // What was written after it had come back, and before the lighter load was on, belongs to it.
        let waited = arms[..at].iter().rev().take(2).find(|a| a.kind == ArmKind::ToBack);
        let bytes_before = waited.map_or(0, |a| a.fast_bytes) as f64;
        let all = turns.fast_bytes.as_f64().max(1.0);
        let bytes = (arm.bytes as f64 + bytes_before) / all;
        let seconds = arm.seconds / turns.fast_s.max(0.1) + bytes_before / all;
        let late = bytes > turns.enough().max(1.0 + turns.uneven);
        let soon = bytes.max(seconds) < TOO_SOON;
        let just = JUST.max(1.5 * turns.uneven);
        // One that does not come back was the end of something else.
        if arm.fell && !late && !soon && back(arms.get(at + 1)) && was_low(arms.get(at + 1)) {
            let as_many = (bytes - 1.0).abs() < just || (seconds - 1.0).abs() < just;
            seen[usize::from(!as_many)] += 1;
        } else if !arm.fell && bytes >= turns.enough() {
            seen[2] += 1;
        }
    }
    seen
}

/// The fast stretch into which an arm of this kind was put.
fn stretched(
    inquiry: &InquiryReading,
    series: &Series,
    over: &[ArmReading],
    arms: &[Arm],
    kind: ArmKind,
) -> Option<Stretched> {
    let (turns, so_far) = inquiry.fall.turns.zip(inquiry.fall.fast_so_far)?;
    let put = |a: &ArmReading| a.arm.experiment == Experiment::Cycle && a.arm.kind == kind;
    let at = over.iter().position(put)? + 1;
    let to_fall = arms.get(at).filter(|a| a.kind == ArmKind::ToFall)?;
    // What ends it is the fall that is asked about, and not another: it is as slow.
    let samples = over.get(at)?.samples(series.len());
    let last = rate_over(series, samples.end.saturating_sub(3).max(samples.start)..samples.end);
    let as_slow = (last.max(1.0) / inquiry.fall.after.get().max(1.0)).ln().abs() < SAME_LOW;
    if to_fall.fell && !as_slow {
        return None;
    }
    let share = (so_far.as_f64() + to_fall.fast_bytes as f64) / turns.fast_bytes.as_f64().max(1.0);
    Some(Stretched { share, fell: to_fall.fell, just: EVENLY.max(2.0 * turns.uneven) })
}

impl Effects {
    /// Whether it came back with nothing done; `None` while too little was seen.
    #[must_use]
    pub fn comes_back(&self) -> Option<bool> {
        let seen = self.arms.iter().filter(|a| a.kind == ArmKind::Here).count();
        (self.came_back || seen >= 3 && !self.glimpsed).then_some(self.came_back)
    }

    /// How long the load was seen as it is, before any rest, s.
    #[must_use]
    pub fn looked_s(&self) -> f64 {
        let before_rest = self.arms.iter().take_while(|a| a.kind != ArmKind::Rest);
        before_rest
            .filter(|a| matches!(a.kind, ArmKind::Here | ArmKind::Quiet | ArmKind::Asked))
            .map(|a| a.seconds)
            .sum()
    }

    /// Of an inquiry as far as it has come.
    #[must_use]
    pub fn of(inquiry: &InquiryReading, series: &Series) -> Self {
        let over: Vec<ArmReading> = inquiry.arms.iter().filter(|a| a.ended.is_some()).copied().collect();
        let half = (inquiry.fall.before.get() * inquiry.fall.after.get()).sqrt();
        let arms: Vec<Arm> = over.iter().map(|a| arm(series, a, half, inquiry.fall.after.get())).collect();
        let rates = |kind: ArmKind| -> Vec<LogRate> {
            arms.iter().filter(|a| a.kind == kind).filter_map(|a| a.rate).collect()
        };
        let here_all = rates(ArmKind::Here);
        let here = LogRate::mean(&here_all);
        let before = inquiry.fall.before.get().max(1.0).ln();
        let stated = before - inquiry.fall.after.get().max(1.0).ln();
        let lost = here.map_or(stated, |h| before - h.value);
        let (until_lost, light_first) = until_lost(&over, &arms, before.exp());
        let faster =
            |kind: ArmKind| LogRate::mean(&rates(kind)).zip(here).map(|(there, here)| there.over(here));
        let between = |a: ArmKind, b: ArmKind| {
            LogRate::mean(&rates(a)).zip(LogRate::mean(&rates(b))).map(|(a, b)| a.over(b))
        };
        // Only what is not after a rest tells of coming back by itself.
        let rested = arms.iter().position(|a| a.kind == ArmKind::Rest).unwrap_or(arms.len());
        let by_itself: Vec<LogRate> =
            arms[..rested].iter().filter(|a| a.kind == ArmKind::Here).filter_map(|a| a.rate).collect();
        let most_of = if stated >= PLAIN_LOSS { 0.4 } else { 0.2 };
        let back = by_itself.iter().filter(|h| h.value > before - most_of * stated).count();
        let fast_s = |a: &Arm| a.fast_bytes as f64 / before.exp();
        let as_it_is = |a: &&Arm| matches!(a.kind, ArmKind::Here | ArmKind::Quiet | ArmKind::Asked);
        let glimpsed =
            stated >= PLAIN_LOSS && arms[..rested].iter().filter(as_it_is).any(|a| fast_s(a) >= GLIMPSE_S);
        // What slows reads too has gone where these are suddenly faster.
        let reads: Vec<f64> = arms[..rested]
            .iter()
            .filter(|a| matches!(a.kind, ArmKind::Read | ArmKind::ReadHot))
            .filter_map(|a| a.rate.map(|r| r.value))
            .collect();
        // What rises little by little, or back to what it was before a moment of standstill, is no sudden end of anything.
        let rose = |i: usize| reads[i] - reads[..i].iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let reads_rose = (1..reads.len()).map(rose).fold(0.0, f64::max) > (0.4 * stated).max(0.12);
        // What had come and gone was waited for, and did not come; or it did, and not once more. Where reads are faster by then, what slowed them
        // has gone, and something else keeps the load low.
        let waited = || arms.iter().filter(|a| a.kind == ArmKind::ToBack);
        let never_back = waited().next().is_some_and(|a| a.fell);
        let stayed = never_back && !reads_rose;
        let fell_again_to_stay = waited().next_back().is_some_and(|a| a.fell) && !stayed;
        Self {
            elsewhere: faster(ArmKind::Elsewhere),
            reads: LogRate::mean(&[rates(ArmKind::Read), rates(ArmKind::ReadHot)].concat())
                .zip(here)
                .map(|(there, here)| there.over(here)),
            heavier: faster(ArmKind::Heavier),
            workers: faster(ArmKind::Workers),
            compressible: faster(ArmKind::Compressible),
            reads_back: inquiry.fall.turns.and_then(|_| between(ArmKind::ReadCool, ArmKind::ReadHot)),
            stretch: between(ArmKind::Before, ArmKind::Behind),
            quiet: between(ArmKind::Quiet, ArmKind::Asked),
            cooled: here.and_then(|here| cooled(series, &over, here, lost)),
            until_lost,
            against_model: inquiry.fall.recovers.as_ref().and_then(|m| against_model(&over, &arms, m)),
            light_first,
            came_back: inquiry.fall.recurs && !stayed
                || by_itself.len() >= 2 && back >= 1
                || reads_rose && !stayed,
            glimpsed,
            stayed,
            fell_again_to_stay,
            rested: stretched(inquiry, series, &over, &arms, ArmKind::Rest),
            read_between: stretched(inquiry, series, &over, &arms, ArmKind::Read),
            lighter: inquiry.fall.turns.map_or([0; 3], |turns| falls_when_lighter(&arms, turns, half)),
            arms,
            here,
            lost,
        }
    }
}
