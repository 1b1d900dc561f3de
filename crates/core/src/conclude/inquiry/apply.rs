//! The verdict of an inquiry, put in the place of what the record alone had said.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::falls::FALLS_BY;
use super::predictions::{Prediction, predictions};
use super::{AgainstModel, Hypothesis, Inquiry, LogRate, STANDS, Shares};
use crate::conclude::{Candidate, Finding};
use crate::quantity::FindingKind;
use crate::quantity::Interval;
use crate::quantity::units::Rate;
use crate::readings::Readings;
use crate::record::{ArmKind, InquiryEnd};

/// One thing that was seen, with its 95 % interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Seen {
    /// So many times as fast as before.
    pub times: f64,
    /// Lower bound.
    pub low: f64,
    /// Upper bound.
    pub high: f64,
}

impl From<LogRate> for Seen {
    fn from(l: LogRate) -> Self {
        let at = |z: f64| (l.value + z * l.error).exp();
        Self { times: at(0.0), low: at(-1.96), high: at(1.96) }
    }
}

impl Seen {
    /// Bytes against those of a model, whose interval it has.
    fn of_model(seen: AgainstModel) -> Self {
        let times = |model: f64| seen.fast.as_f64() / model.max(1.0);
        let Interval { value, low, high } = seen.predicted;
        Self { times: times(value), low: times(high), high: times(low) }
    }
}

/// An arm as it was told.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct ToldArm {
    /// What was done.
    pub kind: ArmKind,
    /// How long, s.
    pub seconds: f64,
    /// How fast, MB/s; none of a rest.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mb_s: Option<f64>,
}

/// What an inquiry says of a fall.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Decision {
    /// Why it ended; none while it goes on, or where the record ends in it.
    pub ended: Option<InquiryEnd>,
    /// The causes that stand, where one answer does; two where both took part.
    pub causes: Vec<FindingKind>,
    /// How likely each cause takes part.
    pub shares: Vec<Candidate>,
    /// What the record alone had said.
    pub before: Vec<Candidate>,
    /// The load elsewhere, against here.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub elsewhere: Option<Seen>,
    /// Reads against the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reads: Option<Seen>,
    /// A heavier load, against the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub heavier: Option<Seen>,
    /// The load by two workers, against the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub workers: Option<Seen>,
    /// The load with data that compress, against the load.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub compressible: Option<Seen>,
    /// Reads after the rest, against those before it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reads_cool: Option<Seen>,
    /// The load right after the rest, against before it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub again: Option<Seen>,
    /// Reads when the rate was back, against while it was low, of what comes and goes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reads_back: Option<Seen>,
    /// Bytes of a fast stretch with a rest in it, against those of one without.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_rest: Option<f64>,
    /// Bytes written in a fast stretch with reads in it, against those of one without.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_reads: Option<f64>,
    /// Bytes until it fell after a rest, the first of them at a light load, against those after a rest with the full load alone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub with_light: Option<f64>,
    /// Bytes that were fast after the first rest, against what the model of the drive's cache has back by then.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against_model: Option<Seen>,
    /// The load before the address of the fall, against behind it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stretch: Option<Seen>,
    /// The load with nothing asked of the drive beside it, against twice as much.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quiet: Option<Seen>,
    /// Which causes predict what was seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub predicted: Vec<Prediction>,
    /// How many times likelier what was seen is by the causes that stand than by any other; none where nothing stands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ratio: Option<f64>,
    /// What it took, s.
    pub seconds: f64,
    /// What was written and read for it.
    pub bytes: u64,
    /// In order.
    pub arms: Vec<ToldArm>,
}

/// A finding and an inquiry are of one fall when they lie no further apart than this.
pub(super) const SAME_FALL: Duration = Duration::from_secs(5);

/// Lets every inquiry of a record say what it found of its fall.
pub fn apply(readings: &Readings, findings: &mut Vec<Finding>) {
    for reading in readings.inquiries() {
        Inquiry::of(reading, readings).apply(readings, findings);
    }
}

/// Lets what was found out of one fall hold for those of its leg that come and go between the same two rates, of which nothing else is known.
pub fn carry_over(readings: &Readings, findings: &mut [Finding]) {
    for reading in readings.inquiries() {
        Inquiry::of(reading, readings).carry_over(reading.leg, readings, findings);
    }
}

impl Inquiry<'_> {
    /// What it says.
    #[must_use]
    pub fn decision(&self, now: Duration) -> Decision {
        let (first, share) = self.answer();
        let e = &self.effects;
        let seen = |l: Option<LogRate>| l.map(Seen::from);
        let beside = |l: Option<LogRate>| seen(l.filter(|_| !e.came_back));
        let causes = self.standing_causes(first, share);
        let prior = Shares::prior(&self.reading.fall);
        let main = self.main_cause(first);
        let ratio = self.shares.ratio(&prior, |h| self.main_cause(h) == main);
        let candidate = |(kind, share): (FindingKind, f64)| Candidate { kind, share };
        Decision {
            ended: self.reading.ended.map(|e| e.1),
            ratio: (!causes.is_empty()).then_some(ratio),
            causes,
            shares: self.shares.causes().into_iter().map(candidate).collect(),
            before: self.reading.fall.may_be.iter().copied().map(candidate).collect(),
            elsewhere: beside(e.elsewhere),
            reads: beside(e.reads),
            heavier: beside(e.heavier),
            workers: beside(e.workers),
            compressible: beside(e.compressible),
            reads_back: seen(e.reads_back),
            with_rest: e.rested.map(|s| s.share),
            with_reads: e.read_between.map(|s| s.share),
            with_light: e.light_first.map(|s| s.share),
            against_model: e.against_model.map(Seen::of_model),
            stretch: beside(e.stretch),
            quiet: beside(e.quiet),
            reads_cool: seen(e.cooled.and_then(|c| c.reads)),
            again: seen(e.cooled.and_then(|c| c.again)),
            predicted: predictions(&self.reading.fall, e),
            seconds: self.reading.until(now).saturating_sub(self.reading.from).as_secs_f64(),
            bytes: e.arms.iter().map(|a| a.bytes).sum(),
            arms: e
                .arms
                .iter()
                .map(|a| ToldArm { kind: a.kind, seconds: a.seconds, mb_s: a.rate.map(|r| r.rate().mb_s()) })
                .collect(),
        }
    }

    /// The causes that stand: the one that takes the larger part, and a second that is as sure.
    fn standing_causes(&self, first: Hypothesis, share: f64) -> Vec<FindingKind> {
        if share < STANDS {
            return Vec::new();
        }
        let main = self.main_cause(first);
        let sure = self.shares.causes();
        let stands = |k: &FindingKind| *k == main || sure.iter().any(|s| s.0 == *k && s.1 >= STANDS);
        first.causes().iter().copied().filter(stands).collect()
    }

    /// The likeliest explanation, and how likely the cause is that takes the larger part in it: explanations that differ in what takes the
    /// smaller part alone agree.
    #[must_use]
    pub fn answer(&self) -> (Hypothesis, f64) {
        let main = |h: Hypothesis| self.main_cause(h);
        let (first, _) = self.shares.first();
        let kind = main(first);
        let all = Hypothesis::ALL.into_iter().zip(self.shares.0);
        (first, all.filter(|(h, _)| main(*h) == kind).map(|(_, s)| s).sum())
    }

    /// The cause that took the larger part, of those that stand.
    fn main_cause(&self, hypothesis: Hypothesis) -> FindingKind {
        let lost = self.effects.lost.max(0.05);
        let part = |kind: FindingKind| match kind {
            FindingKind::SlowZone if self.effects.came_back => None,
            FindingKind::SlowZone => self.effects.elsewhere.or(self.effects.stretch).map(|s| s.value / lost),
            FindingKind::Throttle => self.effects.cooled.and_then(|c| c.reads).map(|s| s.value / lost),
            _ => None,
        };
        let causes = hypothesis.causes();
        let other = causes[causes.len() - 1];
        // What a second cause took is measured; the first has the rest.
        match part(other) {
            Some(share) if share >= 0.5 => other,
            // Where no part was measured, as of what comes and goes, it is heat that comes and goes.
            None if causes.contains(&FindingKind::Throttle) => FindingKind::Throttle,
            _ => causes[0],
        }
    }

    /// The load was seen to be lower than before the fall, and did not come back.
    fn is_low(&self) -> bool {
        let e = &self.effects;
        e.here.is_some() && e.lost > FALLS_BY.ln() && !e.came_back
    }

    /// Puts what it says in the place of what the record alone says of the same fall.
    fn apply(&self, readings: &Readings, findings: &mut Vec<Finding>) {
        let decision = self.decision(readings.elapsed());
        let fall = &self.reading.fall;
        let (hypothesis, share) = self.answer();
        let stands = !decision.causes.is_empty();
        let evidence = self.sentences(&decision);
        let off = |f: &Finding| f.elapsed.abs_diff(fall.elapsed);
        let near = |f: &&mut Finding| {
            f.before.is_some() && f.after.is_some() && f.elapsed < self.reading.from && off(f) < SAME_FALL
        };
        let told = findings.iter_mut().filter(near).min_by_key(|f| off(f));
        let finding = match told {
            Some(finding) => finding,
            // Without an answer nothing is told that the record does not tell by now; but what fell within an inquiry it cannot tell.
            None if !(stands || fall.may_be.is_empty() && self.is_low()) => return,
            None => {
                findings.push(Finding {
                    elapsed: fall.elapsed,
                    written: fall.written,
                    written_low: fall.written,
                    written_high: fall.written,
                    position: fall.position,
                    before: Some(fall.before),
                    after: Some(fall.after),
                    temperature: fall.temperature,
                    ..Finding::new(FindingKind::Unexplained)
                });
                let last = findings.len() - 1;
                &mut findings[last]
            }
        };
        let alone = (finding.kind, finding.confidence);
        if stands {
            finding.kind = self.main_cause(hypothesis);
            finding.confidence = share;
            finding.may_be.clear();
        } else if !decision.arms.is_empty() {
            // Which of two takes the larger part may be open where it is plain that one takes part.
            let plain = decision.shares.first().filter(|c| c.share >= TOLD_FROM);
            let told = if share >= TOLD_FROM {
                Some((self.main_cause(hypothesis), share))
            } else {
                plain.map(|c| (c.kind, c.share))
            };
            if let Some((kind, sure)) = told {
                (finding.kind, finding.confidence) = (kind, sure.min(MOST_TOLD));
            }
            let of =
                |kind: FindingKind| decision.shares.iter().find(|c| c.kind == kind).map_or(0.0, |c| c.share);
            if finding.kind != FindingKind::Unexplained && of(finding.kind) < 0.5 {
                finding.kind = FindingKind::Unexplained;
            }
            if finding.kind == FindingKind::Unexplained {
                finding.may_be = decision.shares.iter().copied().filter(|c| c.share >= 0.02).collect();
            } else if told.is_none() {
                // Experiments that speak for it leave it as sure as the record is.
                let (now, then) = (of(finding.kind), share_of(&Shares::prior(fall).causes(), finding.kind));
                if now < then {
                    finding.confidence = finding.confidence.min(now);
                }
            }
        }
        if stands || !decision.arms.is_empty() {
            let mut record = std::mem::replace(&mut finding.evidence, evidence);
            if finding.kind != alone.0 {
                // What the record's sentences argue for is not so; the first says what happened.
                record.truncate(1);
                finding.evidence.push(format!(
                    "The record alone had it as {}, {:.2}.",
                    alone.0.word(),
                    alone.1
                ));
            }
            finding.evidence.extend(record);
        }
        finding.decided = Some(Box::new(decision));
        let (began, before, is_place) = (finding.elapsed, fall.before, finding.kind == FindingKind::SlowZone);
        if stands && is_place {
            self.end_of_stretch(findings, began, before);
        }
        if !stands && self.effects.came_back && !self.effects.fell_again_to_stay {
            self.same_again(findings);
        }
    }
}

/// What does not stand, and is as likely as this by experiment, is told as the cause, no surer than so.
const TOLD_FROM: f64 = 0.9;
const MOST_TOLD: f64 = 0.98;
/// A cause with a smaller share is not left open.
const LEFT_OPEN: f64 = 0.1;
/// Rates whose logarithms differ by less are the same.
const SAME_RATE: f64 = 0.15;

/// What is told of a fall alike is told of this one no surer than so.
const ALIKE_SURE: f64 = 0.95;
/// From so much on the record tells a cause.
const TOLD_SURE: f64 = 0.7;

impl Inquiry<'_> {
    /// Falls of one leg between the same two rates that come and go have one cause: what is known of one of them holds for those of which
    /// nothing else is known.
    fn carry_over(&self, leg: u16, readings: &Readings, findings: &mut [Finding]) {
        let fall = &self.reading.fall;
        if !self.effects.came_back || self.effects.fell_again_to_stay {
            return;
        }
        let near = |a: Option<Rate>, b: Rate| a.is_some_and(|a| (a.get() / b.get()).ln().abs() < SAME_RATE);
        let Some(leg) = readings.legs().iter().rev().find(|l| l.leg == leg) else { return };
        let within = leg.from..leg.ended.as_ref().map_or(Duration::MAX, |e| e.0);
        let alike = |f: &Finding| {
            within.contains(&f.elapsed) && near(f.before, fall.before) && near(f.after, fall.after)
        };
        let known =
            |f: &&Finding| alike(f) && f.kind != FindingKind::Unexplained && f.confidence >= TOLD_SURE;
        // What experiments decided comes first; two that disagree say nothing.
        let decided = |f: &&Finding| f.decided.as_ref().is_some_and(|d| !d.causes.is_empty());
        let all = || findings.iter().filter(known);
        let told = all().find(decided).or_else(|| all().next());
        let Some((kind, sure)) = told.map(|f| (f.kind, f.confidence.min(ALIKE_SURE))) else { return };
        let possible = self.shares.causes().iter().any(|c| c.0 == kind && c.1 >= LEFT_OPEN);
        if !possible || all().any(|f| f.kind != kind) {
            return;
        }
        // One that stays may be the end of something else, and what an inquiry all but excluded is not put in its place.
        let open = |f: &Finding| {
            let left = |m: &Candidate| m.kind == kind && m.share >= LEFT_OPEN;
            (f.end_elapsed.is_some() || f.decided.is_some())
                && (f.may_be.is_empty() || f.may_be.iter().any(left))
        };
        for f in findings.iter_mut().filter(|f| alike(f) && open(f) && f.kind == FindingKind::Unexplained) {
            (f.kind, f.confidence) = (kind, sure);
            f.may_be.clear();
            // Of many that are one, what happened, and nothing that the cause answers.
            if f.times.is_some() {
                f.evidence.truncate(2);
            }
            f.evidence.push("The same fall comes again in this leg, and its cause was found there.".into());
        }
    }

    /// A fall that came back by itself is no end of a cache when it comes again: as little is known of its cause.
    fn same_again(&self, findings: &mut [Finding]) {
        let fall = &self.reading.fall;
        let near = |a: Option<Rate>, b: Rate| a.is_some_and(|a| (a.get() / b.get()).ln().abs() < SAME_RATE);
        let same = |f: &&mut Finding| {
            let later =
                f.kind == FindingKind::CacheEnd && f.elapsed > self.reading.from && f.decided.is_none();
            later && near(f.before, fall.before) && near(f.after, fall.after)
        };
        let shares = self.shares.causes();
        for f in findings.iter_mut().filter(same) {
            f.kind = FindingKind::Unexplained;
            let candidate = |(kind, share): &(FindingKind, f64)| Candidate { kind: *kind, share: *share };
            f.may_be = shares.iter().filter(|s| s.1 >= 0.02).map(candidate).collect();
            f.evidence.truncate(1);
            f.evidence.push(
                "The same fall had come back by itself when it was looked into: no cache ends so.".into(),
            );
        }
    }
}

fn share_of(all: &[(FindingKind, f64)], kind: FindingKind) -> f64 {
    all.iter().find(|c| c.0 == kind).map_or(0.0, |c| c.1)
}

impl Inquiry<'_> {
    /// Where the rate rose to what it was before, in the same leg, a slow stretch ended: that is no change of its own.
    fn end_of_stretch(&self, findings: &mut Vec<Finding>, began: Duration, before: Rate) {
        let back = |f: &Finding| {
            let rises = f.before.zip(f.after).is_some_and(|(b, a)| a.get() > 1.2 * b.get());
            let whole = f.after.is_some_and(|a| (a.get() / before.get()).ln().abs() < 0.15);
            f.kind == FindingKind::Unexplained && f.elapsed > self.reading.from && rises && whole
        };
        let Some(at) = findings.iter().position(back) else { return };
        let end = findings.remove(at);
        if let Some(f) = findings.iter_mut().find(|f| f.elapsed == began && f.decided.is_some()) {
            f.end_elapsed = Some(end.elapsed);
            f.position_end = end.position;
        }
    }
}
