//! What is tried next: the experiment that tells most bits a second of those that can be made here and fit what may still be spent.

use super::rates::LogRate;
use super::rests::LEAST_REST_AGAIN;
use super::shares::{SAME, back_by_model};
use super::{ARM_S, CycleForm, Inquiry, STANDS};
use crate::quantity::units::{Bytes, Rate};
use crate::record::{ArmKind, Experiment, InquiryEnd};

/// What would tell less, bits, is not tried.
const TELLS_LITTLE: f64 = 0.02;
/// The rests of the cooling experiment, s: the first at most, and a second, longer one.
const RESTS_S: [f64; 2] = [45.0, 120.0];
/// The first where no thermometer tells when it may end.
const BLIND_REST_S: f64 = 60.0;
/// A rest that is cut shorter by the time that is left tells little, s.
const LEAST_REST_S: f64 = 25.0;
/// What comes with a rest: the load before it, reads on both sides, the load after it, s.
const AROUND_REST_S: f64 = AGAIN_S + 4.0;
/// The load after a rest goes on so long at most, s; where a model says how many bytes come back, a little longer than these take, and no more
/// than so long.
const AGAIN_S: f64 = 10.0;
const AGAIN_BY_MODEL: (f64, f64) = (1.3, 60.0);
/// A rest is over when the drive has cooled, and lasts so long at least, s.
const LEAST_COOL_S: f64 = 10.0;
/// The same where a light load comes first, s, and what the light load and the full one take then, in times of how long the load was fast after
/// the first rest.
const BEFORE_LIGHT_S: f64 = 6.0;
const LIGHT_TAKES: f64 = LIGHT_PART / LIGHT_RATE + THEN_FULL;
const THEN_FULL: f64 = 1.3;
/// A drive that is fast for longer after a rest is not asked so, s.
const LIGHT_FOR_S: f64 = 12.0;
/// The rate of a light load, as a share of the one before the fall, and its bytes, as a share of those that were fast after a rest.
const LIGHT_RATE: f64 = 0.25;
const LIGHT_PART: f64 = 0.5;
/// The load is back after a rest with so much of what was lost.
const IS_BACK: f64 = 0.6;
/// It is as it was before with no more than so much.
const NOTHING_BACK: f64 = 0.2;
/// The heads of a drive that is sent to a place begin there late, s.
const GOES_THERE_S: f64 = 0.5;

/// What is tried next.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Trial {
    /// Which.
    pub experiment: Experiment,
    /// How often it was begun before.
    pub round: u32,
    /// Of what comes and goes.
    pub form: CycleForm,
    /// Of a second rest: a light load comes before the full one.
    pub light_first: bool,
    /// What comes with its rest, s.
    pub around_s: f64,
    /// The rest lasts so long at least, s.
    pub least_rest_s: f64,
    /// The load after it is waited for so long, s.
    pub again_s: f64,
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
    /// Two workers have room, and no heads that go from one to the other.
    pub workers: bool,
    /// The data do not compress so far.
    pub compressible: bool,
    /// The addresses on both sides of the fall are known, and were written.
    pub stretch: bool,
    /// What is asked of the drive beside the load can be held off.
    pub quiet: bool,
    /// The drive has a thermometer.
    pub thermometer: bool,
}

impl Possible {
    /// Everything, with a thermometer or without.
    #[must_use]
    pub const fn everything(thermometer: bool) -> Self {
        Self {
            elsewhere: true,
            reads: true,
            heavier: true,
            workers: true,
            compressible: true,
            stretch: true,
            quiet: true,
            thermometer,
        }
    }

    /// Everything, with a thermometer.
    #[cfg(test)]
    pub const ALL: Self = Self::everything(true);
}

/// A rest without a light load behind it.
struct PlainRest {
    seconds: f64,
    /// It is not over before, however cool the drive is, s.
    least_s: f64,
    /// The load after it, s at most.
    again_s: f64,
}

impl Trial {
    /// How long the drive is left alone in it, s.
    #[must_use]
    pub fn rest_s(&self) -> f64 {
        self.seconds - self.around_s
    }
}

impl Inquiry<'_> {
    /// How often an experiment was begun: each begins with arms of its own.
    fn rounds(&self, experiment: Experiment) -> u32 {
        let arms = self.reading.arms.iter().filter(|a| a.arm.experiment == experiment);
        let marks = |kind: ArmKind| match experiment {
            Experiment::Elsewhere => kind == ArmKind::Elsewhere,
            Experiment::OtherWay => kind == ArmKind::Read,
            Experiment::Heavier => kind == ArmKind::Heavier,
            // It begins with either.
            Experiment::Cool => matches!(kind, ArmKind::Here | ArmKind::ToFall),
            Experiment::Cycle => matches!(kind, ArmKind::Lighter | ArmKind::Rest | ArmKind::Read),
            Experiment::SameStretch => kind == ArmKind::Before,
            Experiment::Quiet => kind == ArmKind::Quiet,
            Experiment::Workers => kind == ArmKind::Workers,
            Experiment::Compressible => kind == ArmKind::Compressible,
        };
        let n = arms.filter(|a| marks(a.arm.kind)).count() as u32;
        match experiment {
            Experiment::Cool | Experiment::Cycle => n,
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
            // Whether reads are just as fast is worth knowing to a few per cent, and else not.
            (Experiment::OtherWay, 1..=3) => self.effects.reads.map_or(1.0, |seen| seen.may_be_none(SAME)),
            (_, 2..) => 0.0,
            (Experiment::Elsewhere, _) => unclear(self.effects.elsewhere),
            (Experiment::Heavier, _) => unclear(self.effects.heavier),
            (Experiment::Workers, _) => unclear(self.effects.workers),
            (Experiment::Compressible, _) => unclear(self.effects.compressible),
            (Experiment::SameStretch, _) => unclear(self.effects.stretch),
            (Experiment::Quiet, _) => unclear(self.effects.quiet),
            // A longer rest tells what a short one left open.
            (Experiment::Cool, _) => 0.7,
            // What is put into a fast stretch ends with it.
            (Experiment::Cycle, _) if self.reading.fall.fast_so_far.is_some() => 0.0,
            (Experiment::Cycle, _) => 0.5,
        }
    }

    /// A light load after a second rest: where the first rest brought the load back, and it did not stay so for long. What comes by bytes is told
    /// so from heat without a thermometer.
    fn asks_light_first(&self) -> bool {
        let e = &self.effects;
        let back = e.cooled.and_then(|c| c.again).is_some_and(|a| a.value > IS_BACK * e.lost);
        back && self.rounds(Experiment::Cool) == 1
    }

    /// The load went on after a rest just as it was before it.
    fn rest_brought_nothing(&self) -> bool {
        let e = &self.effects;
        e.cooled.and_then(|c| c.again).is_some_and(|a| a.value.abs() < NOTHING_BACK * e.lost)
    }

    /// How long the second rest is that a light load follows, as long as the first where there is time, and what comes with it, s.
    fn light_trial_s(&self, left_s: f64) -> Option<(f64, f64)> {
        let first_s = self.effects.cooled.filter(|_| self.asks_light_first())?.rest_s;
        // Where it has not fallen again yet it is not known how long it is fast.
        let fast_s = self.effects.until_lost.map_or(LIGHT_FOR_S, |fast| fast.as_f64() / self.before());
        let around_s = BEFORE_LIGHT_S + LIGHT_TAKES * fast_s.min(LIGHT_FOR_S);
        let rest_s = first_s.min(left_s - around_s);
        (rest_s >= LEAST_REST_AGAIN * first_s).then_some((rest_s, around_s))
    }

    /// The next rest without a light load behind it: as long as a model of the cache says it takes half of it to come back, and then all; else,
    /// and for heat, as long as most drives take to cool.
    fn plain_rest(&self, thermometer: bool, left_s: f64) -> PlainRest {
        let model = self.reading.fall.recovers.as_ref();
        let first = if thermometer { RESTS_S[0] } else { BLIND_REST_S };
        let round = self.rounds(Experiment::Cool);
        let (usual, modelled) = match round {
            0 => (first, model.map(|m| m.half_s.value)),
            _ => (RESTS_S[1], model.map(|m| m.all_s.value)),
        };
        let wanted = match (round, modelled) {
            (0, Some(half)) => usual.max(half),
            (_, Some(all)) => first.max(all),
            (_, None) => usual,
        };
        let waited = |rest_s: f64| {
            let bytes = model.filter(|_| round == 0).map_or(0.0, |m| m.bytes_after(rest_s).value);
            (AGAIN_BY_MODEL.0 * bytes / self.before()).clamp(AGAIN_S, AGAIN_BY_MODEL.1)
        };
        let again_s = waited(wanted);
        let seconds = wanted.min(left_s - (AROUND_REST_S - AGAIN_S + again_s)).max(LEAST_REST_S);
        let least_s = modelled.map_or(LEAST_COOL_S, |m| m.clamp(LEAST_COOL_S, seconds.max(LEAST_COOL_S)));
        PlainRest { seconds, again_s: waited(seconds), least_s }
    }

    /// The rate before the fall, B/s.
    fn before(&self) -> f64 {
        self.reading.fall.before.get().max(1.0)
    }

    /// The rate and the bytes of a light load after a second rest, and how long the full one is waited for then to fall, s; `None` where it was
    /// fast for too short or too long a time after the first rest to ask so.
    #[must_use]
    pub fn light_load(&self) -> Option<(Rate, Bytes, f64)> {
        let fast = self.effects.until_lost?.as_f64();
        let fast_s = fast / self.before();
        (fast_s <= LIGHT_FOR_S).then(|| {
            (
                Rate::new(LIGHT_RATE * self.before()),
                Bytes::new((LIGHT_PART * fast) as u64),
                THEN_FULL * fast_s,
            )
        })
    }

    /// What to try next, or why nothing more is tried. `left_s` is what may still be spent.
    ///
    /// # Errors
    /// Why the inquiry ends here.
    pub fn next(&self, possible: Possible, left_s: f64) -> Result<Trial, InquiryEnd> {
        let back = self.effects.came_back;
        // How it comes and goes is in the record, or will be: the leg goes on, and it is looked into then.
        let turns = self.reading.fall.turns.filter(|_| back);
        if self.answer().1 >= STANDS {
            return Err(InquiryEnd::Decided);
        }
        if self.effects.fell_again_to_stay {
            return Err(InquiryEnd::Stays);
        }
        let form = match self.reading.fall.fast_so_far {
            None => CycleForm::Lighter,
            Some(_) if self.effects.rested.is_none() => CycleForm::Rest,
            Some(_) => CycleForm::Read,
        };
        let light = self.light_trial_s(left_s);
        let plain_rest = self.plain_rest(possible.thermometer, left_s);
        let trial = |experiment: Experiment| {
            let round = self.rounds(experiment);
            let light = light.filter(|_| experiment == Experiment::Cool);
            let seconds = match experiment {
                Experiment::Cool => match light {
                    Some((rest_s, around_s)) => rest_s + around_s,
                    None => plain_rest.seconds + AROUND_REST_S - AGAIN_S + plain_rest.again_s,
                },
                // What is left of a slow stretch, the lighter load, and a slow stretch.
                Experiment::Cycle => turns.map_or(0.0, |t| match form {
                    CycleForm::Lighter => {
                        0.8 * t.slow_s + self.reading.fall.lighter_s().unwrap_or(0.0) + 2.0 * ARM_S
                    }
                    form => t.put_in_s() + self.reading.fall.still_fast_s(form),
                }),
                Experiment::SameStretch => 4.0 * (ARM_S + GOES_THERE_S),
                _ => 4.0 * ARM_S,
            };
            let PlainRest { again_s, least_s: least_rest_s, .. } = plain_rest;
            let around_s = light.map_or(AROUND_REST_S - AGAIN_S + again_s, |l| l.1);
            let light_first = light.is_some();
            Trial { experiment, round, form, light_first, around_s, least_rest_s, again_s, seconds }
        };
        // After a rest that brought something back the load is another than before it: nothing is set beside what was measured then.
        let rested = self.rounds(Experiment::Cool) > 0 && !self.rest_brought_nothing();
        let can = |e: &Experiment| match e {
            // Arms beside each other tell nothing of what comes and goes while they last.
            Experiment::Cycle if form == CycleForm::Read => {
                turns.is_some() && possible.reads && self.effects.read_between.is_none()
            }
            Experiment::Cycle if form == CycleForm::Lighter => {
                turns.is_some() && self.reading.fall.lighter().is_some()
            }
            Experiment::Cycle => turns.is_some(),
            _ if back => false,
            Experiment::Cool => true,
            _ if rested => false,
            Experiment::Elsewhere => possible.elsewhere,
            Experiment::OtherWay => possible.reads,
            Experiment::Heavier => possible.heavier,
            Experiment::Workers => possible.workers,
            Experiment::Compressible => possible.compressible,
            Experiment::SameStretch => possible.stretch,
            Experiment::Quiet => possible.quiet,
        };
        let modelled = back_by_model(&self.reading.fall, plain_rest.seconds);
        let tells = |e: Experiment| {
            let bits = match e {
                Experiment::Cool if light.is_some() => self.shares.would_tell_light_first(),
                e => self.open(e) * self.shares.would_tell(e, possible.thermometer, modelled, form),
            };
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
