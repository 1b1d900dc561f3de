//! What remains of the causes of a fall once experiments were made.
//!
//! What is seen is sorted into none, part and all of what was lost, softly by its standard error; how likely each is by each explanation is in
//! [`super::hypotheses`].

use super::CycleForm;
use super::effects::{Effects, Stretched};
use super::hypotheses::{CAUSES, Hypothesis, N, Sorted, dot};
use super::rates::LogRate;
use super::rests::{AgainstModel, Cooled, LightFirst};
use crate::quantity::FindingKind;
use crate::record::{Experiment, Fall};

use Hypothesis::{HostWrites, Ours, Passing};

/// Below, between and above these shares of what was lost, none, part and all of it is back.
const PART: (f64, f64) = (0.25, 0.82);
/// What is slower than before by more than this is less of it than there was, as a logarithm: no experiment takes anything away.
const LESS: f64 = 0.1;
/// Reads that a rest makes faster by no more than this, and by less than this share of what was lost, gained what folding may take.
const LITTLE: (f64, f64) = (0.25, 0.55);
/// A heavier load is faster from this share on.
const FASTER: f64 = 0.12;
/// Reads that are off by less than this are as fast.
pub const SAME: f64 = 0.025;
/// Within so many kelvin, or the sensor's step, a temperature is the same.
const SAME_K: f64 = 2.0;
/// A rest that cools the drive by less tells nothing of heat, K.
pub const COOLS_K: f64 = 3.0;
/// What comes and goes by itself, and was low for so long while it was looked at, s, is so much less likely still to do so: little, since a drive
/// that is busy with what it was given is so for as long as it is given more.
const LONG_LOOK_S: f64 = 24.0;
const STILL_PASSING: f64 = 0.8;
/// And so much less likely when it is back right after a rest.
const WAITED_FOR: f64 = 0.8;
/// Of heat that a first rest did not take from the reads, so much is heat that a second one does not take from them either.
const STILL_HEAT: f64 = 0.35;
/// Without a thermometer a rest of this length has cooled a drive as a rule, s; a shorter one tells less.
pub const COOLS_S: f64 = 50.0;

/// No drive throttles below this, °C, as a rule; where another sensor than the one that is told is the hottest, that tells so much less.
const HOT_C: f64 = 60.0;
const HOTTEST_ELSEWHERE_K: f64 = 16.0;
/// What is left of heat on a drive that is cooler than both say. A sensor may be wrong.
const HEAT_WHEN_COOL: f64 = 0.02;

/// What is left of heat on a drive that fell at so many degrees.
fn warm_enough(degrees: f64) -> f64 {
    let below = (HOT_C - degrees).clamp(0.0, HOTTEST_ELSEWHERE_K) / HOTTEST_ELSEWHERE_K;
    HEAT_WHEN_COOL.powf(below)
}

/// The share of a normal that lies below x.
fn below(x: f64, at: LogRate) -> f64 {
    let z = (x - at.value) / at.error.max(1e-6);
    // Logistic in place of the error function: within 0.01 of it, with heavier tails.
    1.0 / (1.0 + (-1.702 * z).exp())
}

/// How likely none, part and all of what was lost is back.
pub(super) fn parts(seen: LogRate, lost: f64) -> Sorted<3> {
    let less = below(-LESS.max(PART.0 * lost), seen);
    let low = below(PART.0 * lost, seen).max(less);
    let high = below(PART.1 * lost, seen).max(low);
    Sorted { outcomes: [low - less, high - low, 1.0 - high], less }
}

/// The same of reads after a rest.
pub(super) fn parts_of_reads(seen: LogRate, lost: f64) -> Sorted<4> {
    let Sorted { outcomes: [none, part, all], less } = parts(seen, lost);
    let little = (below(LITTLE.0.min(LITTLE.1 * lost), seen) - none - less).clamp(0.0, part);
    Sorted { outcomes: [none, little, part - little, all], less }
}

/// Rates that are not the same may lie anywhere in so wide a range of logarithms: reads against a load, a heavier load against it. A figure
/// out of a wide range is seldom found in a narrow place, so what is seen there speaks the more for what must lie there.
const READS_RANGE: f64 = 3.0;
const HEAVIER_RANGE: f64 = 1.0;

/// How likely a load is as fast, and how likely it is faster.
pub(super) fn faster(seen: LogRate) -> Sorted<2> {
    let less = below(-FASTER, seen);
    let same = below(FASTER, seen) - less;
    Sorted { outcomes: [same, 2.0 * FASTER / HEAVIER_RANGE * (1.0 - same - less)], less }
}

/// How likely two rates are the same.
pub(super) fn alike(seen: LogRate) -> [f64; 2] {
    let same = (below(SAME, seen) - below(-SAME, seen)).max(0.0);
    [same, 2.0 * SAME / READS_RANGE * (1.0 - same)]
}

/// How likely reads while the load is low are as fast as when it is back, and how likely they are slower.
pub(super) fn reads_low(back: LogRate, lost: f64) -> [f64; 2] {
    let same = below(FASTER.min(0.5 * lost), back);
    [same, 1.0 - same]
}

/// A load that two workers make faster by this, as a logarithm, is another load than of one, however little that is of what was lost.
const MUCH_FASTER: f64 = 0.41;

/// How likely two workers bring back none, part and all of what was lost, or are much faster than one.
pub(super) fn by_two_workers(seen: LogRate, lost: f64) -> Sorted<3> {
    parts(seen, lost.min(MUCH_FASTER))
}

/// How far a rest is trusted to have cooled the drive.
pub(super) fn trust(rest: &Cooled) -> f64 {
    match rest.by {
        Some(by) => (by / COOLS_K).clamp(0.0, 1.0),
        None => (0.4 + 0.6 * rest.rest_s / COOLS_S).min(1.0),
    }
}

/// A rest after which the model of the cache surely has so much of it back is one that brings the load back, if it is the cache.
const BACK_BY_MODEL: f64 = 0.3;

/// The model of the drive's cache says that the load is back after such a rest.
pub(super) fn back_by_model(fall: &Fall, rest_s: f64) -> bool {
    fall.recovers.as_ref().is_some_and(|m| m.back_after(rest_s).low >= BACK_BY_MODEL)
}

/// Explanations with their shares, in the order of [`Hypothesis::ALL`].
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Shares(pub [f64; N]);

impl Shares {
    fn normal(mut all: [f64; N]) -> Self {
        let sum: f64 = all.iter().sum();
        all.iter_mut().for_each(|s| *s /= sum.max(1e-300));
        Self(all)
    }

    /// Of what the record alone says. A record that is sure of a cause may be wrong: no cause is left without a share.
    #[must_use]
    pub fn prior(fall: &Fall) -> Self {
        let told = |kind: FindingKind| fall.may_be.iter().filter(|m| m.0 == kind).map(|m| m.1).sum::<f64>();
        let passes = told(FindingKind::OtherTraffic);
        let one =
            |h: Hypothesis| 0.2 * told(h.causes()[0]) + if h == Passing { 0.2 * passes + 0.06 } else { 0.15 };
        let warm = fall.temperature.map_or(1.0, |t| warm_enough(t.degrees()));
        Self::normal(Hypothesis::ALL.map(|h| {
            let share = match h.causes() {
                // Of what this program asks a drive feels little as a rule, and few machines hold back one way alone.
                [_] if matches!(h, Ours | HostWrites) => 0.03,
                [_] => one(h),
                pair => 0.06 * (0.5 + told(pair[0]).max(told(pair[1]))),
            };
            if h.causes().contains(&FindingKind::Throttle) { share * warm } else { share }
        }))
    }

    /// After what was seen.
    #[must_use]
    pub fn after(fall: &Fall, effects: &Effects) -> Self {
        let prior = Self::prior(fall);
        let lost = effects.lost.max(0.05);
        let mut all = prior.0;
        for (share, h) in all.iter_mut().zip(Hypothesis::ALL) {
            // What comes and goes while arms stand beside each other says nothing of them.
            let beside = |seen: Option<LogRate>| seen.filter(|_| !effects.came_back);
            if let Some(seen) = beside(effects.elsewhere) {
                *share *= parts(seen, lost).by(h.elsewhere());
            }
            if let Some(seen) = beside(effects.stretch) {
                *share *= parts(seen, lost).by(h.stretch());
            }
            if let Some(seen) = beside(effects.quiet) {
                *share *= parts(seen, lost).by(h.quiet());
            }
            if let Some(seen) = beside(effects.reads) {
                *share *= dot(alike(seen), h.reads());
            }
            if let Some(seen) = beside(effects.heavier) {
                *share *= faster(seen).by(h.heavier());
            }
            if let Some(seen) = beside(effects.workers) {
                *share *= by_two_workers(seen, lost).by(h.workers());
            }
            if let Some(seen) = beside(effects.compressible) {
                *share *= faster(seen).by(h.compressible());
            }
            if let Some(back) = effects.comes_back() {
                *share *= h.comes_back()[usize::from(!back)];
                // The longer it is looked at the less likely it only has not come back yet.
                if h == Passing && !back && effects.looked_s() >= LONG_LOOK_S {
                    *share *= STILL_PASSING;
                }
            }
            for (times, odds) in effects.lighter.iter().zip(h.falls_when_lighter()) {
                *share *= odds.powi(*times as i32);
            }
            let outcome = |seen: Option<Stretched>| seen.and_then(Stretched::outcome);
            *share *= h.in_turn(outcome(effects.rested), outcome(effects.read_between));
            if let Some(o) = effects.light_first.and_then(LightFirst::outcome) {
                *share *= h.light_first()[o];
            }
            if let Some(o) = effects.against_model.and_then(AgainstModel::outcome) {
                *share *= h.as_modelled()[o];
            }
            if let Some(turns) = fall.turns.filter(|_| !effects.stayed) {
                *share *= h.recurs(turns.count);
            }
            if let Some(seen) = effects.reads_back.filter(|_| !effects.stayed) {
                *share *= dot(reads_low(seen, lost), h.reads_low());
            }
            if let Some(c) = effects.cooled {
                let trust = trust(&c);
                let (reads, again) =
                    (c.reads.map(|s| parts_of_reads(s, lost)), c.again.map(|s| parts(s, lost)));
                *share *= h.after_rest(reads, again, trust, back_by_model(fall, c.rest_s));
                // What was never seen to come back by itself, and is back after a rest, has waited for the rest.
                if h == Passing && effects.comes_back() == Some(false) {
                    let back = again.map_or(0.0, |a| a.outcomes[2]);
                    *share *= 1.0 - (1.0 - WAITED_FOR) * back;
                }
                if h.causes().contains(&FindingKind::Throttle) {
                    // Reads that gain a tenth each time are not as before, however little that is of the loss.
                    let as_before = |seen: Option<LogRate>| seen.map_or(0.0, |s| below(2.0 * SAME, s));
                    *share *=
                        1.0 - (1.0 - STILL_HEAT) * trust * as_before(c.reads) * as_before(c.reads_first);
                }
                if let Some((now, then)) = c.lost_at.zip(fall.temperature) {
                    let cooler = then.degrees() - now.degrees() > SAME_K.max(fall.sensor_step_k);
                    *share *= h.lost_again()[usize::from(!cooler)];
                }
            }
        }
        Self::normal(all)
    }

    /// The likeliest, with its share.
    #[must_use]
    pub fn first(&self) -> (Hypothesis, f64) {
        let best = (0..N).max_by(|a, b| self.0[*a].total_cmp(&self.0[*b])).unwrap_or(0);
        (Hypothesis::ALL[best], self.0[best])
    }

    /// By how much what was seen speaks for the causes for which `speaks` holds, against the best of the others: the ratio of their likelihoods,
    /// as of a sequential test (A. Wald, Sequential tests of statistical hypotheses, Ann. Math. Statist. 16, 1945).
    #[must_use]
    pub fn ratio(&self, before: &Self, speaks: impl Fn(Hypothesis) -> bool) -> f64 {
        let likelihood = |i: usize| self.0[i] / before.0[i].max(1e-300);
        let of = |wanted: bool| {
            let all = (0..N).filter(|i| speaks(Hypothesis::ALL[*i]) == wanted);
            all.map(likelihood).fold(0.0, f64::max)
        };
        of(true) / of(false).max(1e-300)
    }

    /// How likely each cause takes part, the likeliest first.
    #[must_use]
    pub fn causes(&self) -> Vec<(FindingKind, f64)> {
        let of = |kind: FindingKind| -> f64 {
            let has = |h: &Hypothesis| h.causes().contains(&kind);
            Hypothesis::ALL.iter().zip(self.0).filter(|(h, _)| has(h)).map(|(_, s)| s).sum()
        };
        let mut all: Vec<(FindingKind, f64)> = CAUSES.map(|k| (k, of(k))).to_vec();
        all.sort_by(|a, b| b.1.total_cmp(&a.1));
        all
    }

    fn entropy(&self) -> f64 {
        self.0.iter().filter(|p| **p > 0.0).map(|p| -p * p.log2()).sum()
    }

    /// What a light load after a second rest would tell in the mean, bits.
    #[must_use]
    pub fn would_tell_light_first(&self) -> f64 {
        self.would_tell_by(|h| h.light_first().to_vec())
    }

    /// What the outcomes of an experiment would tell in the mean, bits; `modelled` is whether a model of the cache has the load back after a rest.
    #[must_use]
    pub fn would_tell(
        &self,
        experiment: Experiment,
        has_thermometer: bool,
        modelled: bool,
        form: CycleForm,
    ) -> f64 {
        self.would_tell_by(|h| -> Vec<f64> {
            match experiment {
                Experiment::Elsewhere => h.elsewhere().to_vec(),
                Experiment::OtherWay => h.reads().to_vec(),
                Experiment::Heavier => h.heavier().to_vec(),
                Experiment::Workers => h.workers().to_vec(),
                Experiment::Compressible => h.compressible().to_vec(),
                Experiment::Cycle => match form {
                    CycleForm::Lighter => h.falls_when_lighter().to_vec(),
                    CycleForm::Rest => (0..3).map(|o| h.in_turn(Some(o), None)).collect(),
                    CycleForm::Read => (0..3).map(|o| h.in_turn(None, Some(o))).collect(),
                },
                Experiment::SameStretch => h.stretch().to_vec(),
                Experiment::Quiet => h.quiet().to_vec(),
                Experiment::Cool => h.cooled(has_thermometer, modelled),
            }
        })
    }

    /// How likely each outcome is by each explanation: what they would tell in the mean, bits.
    fn would_tell_by(&self, outcomes: impl Fn(Hypothesis) -> Vec<f64>) -> f64 {
        let table: Vec<Vec<f64>> = Hypothesis::ALL.iter().map(|h| outcomes(*h)).collect();
        let after: f64 = (0..table[0].len())
            .map(|o| {
                let joint: [f64; N] = std::array::from_fn(|h| self.0[h] * table[h][o]);
                let p: f64 = joint.iter().sum();
                p * Self::normal(joint).entropy()
            })
            .sum();
        self.entropy() - after
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use Hypothesis::{Cache, Heat, Place};

    #[test]
    fn what_is_seen_is_sorted_softly() {
        let seen = |value, error| parts(LogRate { value, error }, 1.0).outcomes;
        assert!(seen(0.0, 0.02)[0] > 0.99 && seen(1.0, 0.02)[2] > 0.99 && seen(0.4, 0.05)[1] > 0.99);
        let unclear = seen(0.4, 5.0);
        assert!(unclear.iter().all(|p| *p < 0.6), "what is not known is not sorted: {unclear:?}");
    }

    #[test]
    fn an_experiment_tells_most_where_its_causes_are_in_question() {
        let of = |pairs: &[(Hypothesis, f64)]| {
            let share = |h: Hypothesis| pairs.iter().find(|p| p.0 == h).map_or(0.0, |p| p.1);
            Shares(Hypothesis::ALL.map(share))
        };
        let cache_or_place = of(&[(Cache, 0.5), (Place, 0.5)]);
        let cache_or_heat = of(&[(Cache, 0.5), (Heat, 0.5)]);
        let tells = |s: &Shares, e| s.would_tell(e, true, false, CycleForm::Lighter);
        assert!(tells(&cache_or_place, Experiment::Elsewhere) > 0.85);
        assert!(tells(&cache_or_heat, Experiment::Elsewhere) < 0.01, "both are the same elsewhere");
        assert!(tells(&cache_or_heat, Experiment::Cool) > 0.7);
        let sure = of(&[(Cache, 1.0)]);
        assert!(Experiment::ALL.iter().all(|e| tells(&sure, *e) < 1e-9));
        let comes_and_goes = of(&[(Heat, 0.5), (Passing, 0.5)]);
        let in_turn = |form| comes_and_goes.would_tell(Experiment::Cycle, true, false, form);
        assert!(in_turn(CycleForm::Lighter) > in_turn(CycleForm::Rest) && in_turn(CycleForm::Rest) > 0.3);
        assert!(in_turn(CycleForm::Read) > 0.3);
    }

    #[test]
    fn a_second_rest_speaks_for_the_cache_only_where_reads_stay_as_they_were() {
        use crate::quantity::units::{Bytes, Rate};
        let fall = Fall {
            elapsed: std::time::Duration::from_secs(300),
            written: Bytes::from_gb(100),
            position: None,
            before: Rate::new(512e6),
            after: Rate::new(233e6),
            temperature: None,
            sensor_step_k: 0.0,
            recurs: false,
            turns: None,
            fast_so_far: None,
            recovers: None,
            may_be: vec![(FindingKind::Throttle, 0.5), (FindingKind::CacheEnd, 0.3)],
        };
        // All of the load is back after the rests; reads gained so much, the first time and the second.
        let heat = |first: Option<f64>, gain: f64| {
            let of = |times: f64| LogRate { value: times.ln(), error: 0.01 };
            let cooled = Cooled {
                rest_s: 120.0,
                by: None,
                reads: Some(of(gain)),
                reads_first: first.map(of),
                again: Some(of(512.0 / 233.0)),
                lasted_s: None,
                lost_at: None,
            };
            let effects = Effects {
                arms: Vec::new(),
                here: Some(LogRate { value: 233e6f64.ln(), error: 0.01 }),
                lost: (512.0f64 / 233.0).ln(),
                elsewhere: None,
                reads: Some(of(477.0 / 233.0)),
                heavier: None,
                workers: None,
                compressible: None,
                cooled: Some(cooled),
                until_lost: None,
                against_model: None,
                light_first: None,
                came_back: false,
                glimpsed: false,
                stayed: false,
                fell_again_to_stay: false,
                rested: None,
                read_between: None,
                lighter: [0; 3],
                reads_back: None,
                stretch: None,
                quiet: None,
            };
            Shares::after(&fall, &effects)
                .causes()
                .into_iter()
                .find(|c| c.0 == FindingKind::Throttle)
                .unwrap()
                .1
        };
        assert!(heat(Some(1.0), 1.0) < 0.5 * heat(None, 1.0), "the same twice says more");
        assert!((heat(Some(1.14), 1.14) / heat(None, 1.14) - 1.0).abs() < 1e-3, "a gain is not the same");
    }
}
