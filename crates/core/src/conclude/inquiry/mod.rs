//! Inquiries: what experiments in the middle of a load say of the cause of a fall.
//!
//! | experiment | cache | heat | place | host or link |
//! |---|---|---|---|---|
//! | elsewhere | as slow | as slow | fast | as slow |
//! | the other way | reads are fast | | | reads are as slow |
//! | cool: reads after the rest | as before it | faster | as before it | as before it |
//! | cool: the load again | fast for what came back | fast, lost at the same temperature | slow at once | slow at once |
//! | heavier | as slow | as slow | as slow | faster, as a rule |
//!
//! What comes and goes by itself is told from heat by a load that is a little lighter than the drive keeps in the mean: heat does not return.
//!
//! [`Inquiry::of`] depends on the record alone, so live and replay agree; the runner asks [`Inquiry::next`] what to try.

mod apply;
mod effects;
mod hypotheses;
mod words;

use crate::quantity::FindingKind;
use crate::readings::{InquiryReading, Readings};
use crate::record::{ArmKind, Experiment, InquiryEnd};

pub use apply::{Decision, Seen, ToldArm, apply};
pub use effects::{Arm, Cooled, Effects, KEEPS, LogRate};
pub use hypotheses::{COOLS_K, Hypothesis, Shares};

/// One answer stands with this share.
pub const STANDS: f64 = 0.99;
/// What would tell less, bits, is not tried.
const TELLS_LITTLE: f64 = 0.02;
/// A pair of arms, one of each, takes so long; an experiment begins with two pairs, and may take two more.
pub const ARM_S: f64 = 2.0;
/// The rests of the cooling experiment, s: the first at most, and a second, longer one.
pub const RESTS_S: [f64; 2] = [45.0, 120.0];
/// What lasts shorter than this may have passed by itself, s; to wait for it costs nothing, since the leg goes on.
const KNOWN_S: f64 = 40.0;
/// What comes back sooner is no fall, s.
const RECURS_S: f64 = 3.0;
/// Two falls, the waits for them, and the lighter load, s, as a rule.
const CYCLE_S: f64 = 75.0;
/// What comes with a rest: the load before it, reads on both sides, the load after it, s.
const AROUND_REST_S: f64 = 14.0;

/// An inquiry as far as it has come, with what it says.
#[derive(Debug, Clone, PartialEq)]
pub struct Inquiry<'a> {
    /// As it went.
    pub reading: &'a InquiryReading,
    /// What was measured.
    pub effects: Effects,
    /// What remains of each explanation.
    pub shares: Shares,
}

/// What is tried next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trial {
    /// Which.
    pub experiment: Experiment,
    /// How often it was begun before.
    pub round: u32,
    /// How long it takes at most, s.
    pub seconds: f64,
}

/// What can be tried, on this load and in its region.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Possible {
    /// There is another place.
    pub elsewhere: bool,
    /// Something that was written can be read.
    pub reads: bool,
    /// Larger blocks, and more in flight, fit.
    pub heavier: bool,
    /// The drive has a thermometer.
    pub thermometer: bool,
}

impl<'a> Inquiry<'a> {
    /// Of an inquiry in a record.
    #[must_use]
    pub fn of(reading: &'a InquiryReading, readings: &Readings) -> Self {
        let effects = Effects::of(reading, readings.series());
        let shares = Shares::after(&reading.fall, &effects);
        Self { reading, effects, shares }
    }

    /// How often an experiment was begun: each begins with arms of its own.
    fn rounds(&self, experiment: Experiment) -> u32 {
        let arms = self.reading.arms.iter().filter(|a| a.arm.experiment == experiment);
        let marks = |kind: ArmKind| match experiment {
            Experiment::Elsewhere => kind == ArmKind::Elsewhere,
            Experiment::OtherWay => kind == ArmKind::Read,
            Experiment::Heavier => kind == ArmKind::Heavier,
            // It begins with either.
            Experiment::Cool => matches!(kind, ArmKind::Here | ArmKind::ToFall),
            Experiment::Cycle => kind == ArmKind::ToFall,
        };
        let n = arms.filter(|a| marks(a.arm.kind)).count() as u32;
        match experiment {
            Experiment::Cool => n,
            _ => n.div_ceil(2),
        }
    }

    /// How much of an experiment is still open once it was made: 1 before it, 0 where its outcome is plain.
    fn open(&self, experiment: Experiment) -> f64 {
        let unclear = |seen: Option<LogRate>| {
            seen.map_or(1.0, |s| (2.0 * s.error / self.effects.lost.max(0.05)).clamp(0.0, 1.0))
        };
        match (experiment, self.rounds(experiment)) {
            (_, 0) => 1.0,
            (_, 2..) => 0.0,
            (Experiment::Elsewhere, _) => unclear(self.effects.elsewhere),
            (Experiment::OtherWay, _) => unclear(self.effects.reads),
            (Experiment::Heavier, _) => unclear(self.effects.heavier),
            // A longer rest tells what a short one left open.
            (Experiment::Cool, _) => 0.7,
            (Experiment::Cycle, _) => 0.5,
        }
    }

    /// What to try next, or why nothing more is tried. `left_s` is what may still be spent.
    ///
    /// # Errors
    /// Why the inquiry ends here.
    pub fn next(&self, possible: Possible, left_s: f64) -> Result<Trial, InquiryEnd> {
        let back = self.effects.came_back;
        if self.answer().1 >= STANDS {
            return Err(InquiryEnd::Decided);
        }
        let trial = |experiment: Experiment| {
            let round = self.rounds(experiment);
            let seconds = match experiment {
                Experiment::Cool => RESTS_S[(round as usize).min(1)] + AROUND_REST_S,
                Experiment::Cycle => CYCLE_S,
                _ => 4.0 * ARM_S,
            };
            Trial { experiment, round, seconds }
        };
        // After a rest the load is another than before it: nothing is set beside what was measured then.
        let rested = self.rounds(Experiment::Cool) > 0;
        let can = |e: &Experiment| match e {
            // Arms beside each other tell nothing of what comes and goes while they last.
            Experiment::Cycle => back,
            _ if back => false,
            Experiment::Cool => true,
            _ if rested => false,
            Experiment::Elsewhere => possible.elsewhere,
            Experiment::OtherWay => possible.reads,
            Experiment::Heavier => possible.heavier,
        };
        let tells = |e: Experiment| {
            let bits = self.open(e) * self.shares.would_tell(e, possible.thermometer);
            (bits > TELLS_LITTLE).then(|| (trial(e), bits / trial(e).seconds))
        };
        let all: Vec<(Trial, f64)> = Experiment::ALL.into_iter().filter(can).filter_map(tells).collect();
        let best = |all: &mut dyn Iterator<Item = &(Trial, f64)>| {
            all.max_by(|a, b| a.1.total_cmp(&b.1)).map(|t| t.0)
        };
        match best(&mut all.iter().filter(|t| t.0.seconds <= left_s)) {
            Some(trial) => Ok(trial),
            None if all.is_empty() && back => Err(InquiryEnd::CameBack),
            None if all.is_empty() => Err(InquiryEnd::NothingLeft),
            None => Err(InquiryEnd::Budget),
        }
    }
}

impl crate::conclude::Finding {
    /// The fall that it tells of, as an inquiry asks about it; `None` where it is of something else.
    fn as_fall(&self, sensor_step_k: f64, recurs: bool) -> Option<crate::record::Fall> {
        let (before, after) = self.before.zip(self.after)?;
        (crate::conclude::verdict::changes_the_rate(self.kind) && before > after).then_some(())?;
        let may_be = if self.may_be.is_empty() {
            vec![(self.kind, self.confidence)]
        } else {
            self.may_be.iter().map(|c| (c.kind, c.share)).collect()
        };
        Some(crate::record::Fall {
            elapsed: self.elapsed,
            written: self.written,
            position: self.position,
            before,
            after,
            temperature: self.temperature,
            sensor_step_k,
            recurs,
            may_be,
        })
    }
}

impl Readings {
    /// The fall in a leg whose cause is worth asking for: the newest that the rate has not come back from.
    /// Of one that the record is as sure of as `sure` nothing is asked.
    #[must_use]
    pub fn standing_fall(&self, leg: u16, sure: f64) -> Option<crate::record::Fall> {
        let from = self.legs().iter().rev().find(|l| l.leg == leg)?.from;
        let series = self.series();
        let now = series.len().checked_sub(1)?;
        let newest = self.run_samples()?;
        let recent = series.index_at(series.end(now).saturating_sub(std::time::Duration::from_secs(3)));
        let rate = series.mean_rate(recent.max(newest.start)..now + 1);
        let asked = self.inquiries().iter().filter(|i| i.leg == leg);
        let lowest = asked.map(|i| i.fall.after.get()).fold(f64::INFINITY, f64::min);
        let findings = self.conclude().findings;
        let is_fall = |f: &&crate::conclude::Finding| {
            let asks = matches!(
                f.kind,
                FindingKind::CacheEnd
                    | FindingKind::Throttle
                    | FindingKind::SlowZone
                    | FindingKind::HostLimit
                    | FindingKind::Background
                    | FindingKind::Unexplained
            );
            let falls = f.before.zip(f.after).is_some_and(|(b, a)| b.get() > 1.2 * a.get());
            asks && falls && f.elapsed >= from.max(series.end(newest.start))
        };
        // What came back by itself is asked about when it does so again and again.
        let over = |f: &crate::conclude::Finding| {
            f.end_elapsed.filter(|e| series.end_s(now) - e.as_secs_f64() >= RECURS_S)
        };
        let lasts = |f: &crate::conclude::Finding| {
            over(f).is_some_and(|e| e.saturating_sub(f.elapsed).as_secs_f64() >= RECURS_S)
        };
        let recurring = findings.iter().filter(is_fall).filter(|f| lasts(f)).count();
        let fall = findings
            .iter()
            .rev()
            .find(|f| is_fall(f) && (over(f).is_none() || lasts(f) && recurring >= 2))?;
        let recurs = over(fall).is_some();
        let (before, after) = fall.before.zip(fall.after)?;
        let stands = rate < (before.get() * after.get()).sqrt();
        let known = series.end_s(now) - fall.elapsed.as_secs_f64() >= KNOWN_S;
        // One that was asked about is not asked about again, unless the rate fell much lower.
        let new = after.get() < 0.7 * lowest;
        ((stands || recurs) && known && new && fall.confidence < sure).then_some(())?;
        fall.as_fall(series.temperature_step(), recurs)
    }

    /// The fall that a finding of this record tells of, for whoever wants to have it looked into; `None` where it is of something else.
    #[must_use]
    pub fn fall_of(&self, finding: &crate::conclude::Finding) -> Option<crate::record::Fall> {
        finding.as_fall(self.series().temperature_step(), finding.end_elapsed.is_some())
    }

    /// Samples of the run under way.
    fn run_samples(&self) -> Option<std::ops::Range<usize>> {
        let run = self.runs.last().filter(|r| r.len() > 0)?;
        Some(run.samples(&(0..run.len())))
    }
}

#[cfg(test)]
mod tests;
