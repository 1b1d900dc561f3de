//! What was seen, set beside what each cause predicts for it.

use serde::{Deserialize, Serialize};

use super::CycleForm;
use super::effects::{Effects, Stretched};
use super::hypotheses::{Hypothesis, Sorted, dot};
use super::rates::LogRate;
use super::rests::{AgainstModel, LightFirst};
use super::shares::{alike, back_by_model, by_two_workers, faster, parts, parts_of_reads, reads_low, trust};
use crate::quantity::FindingKind;
use crate::record::Fall;

/// A cause predicts what was seen when that is as likely by it as this share of what it is by the best. Chosen.
const PREDICTS: f64 = 0.2;

/// What was seen; named as in what an inquiry says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Observed {
    /// The load elsewhere, against here.
    Elsewhere,
    /// Reads against the load.
    Reads,
    /// A heavier load, against the load.
    Heavier,
    /// The load by two workers, against the load.
    Workers,
    /// The load with data that compress, against the load.
    Compressible,
    /// The load before the address of the fall, against behind it.
    Stretch,
    /// The load with nothing asked of the drive beside it, against twice as much.
    Quiet,
    /// Reads after the rest, against those before it.
    ReadsCool,
    /// The load right after the rest, against before it.
    Again,
    /// Reads when the rate was back, against while it was low.
    ReadsBack,
    /// A second rest with a light load behind it.
    WithLight,
    /// Bytes until it fell after the first rest, against what the model of the cache has.
    AgainstModel,
    /// A fast stretch with a rest in it.
    WithRest,
    /// A fast stretch with reads in it.
    WithReads,
    /// A load that is a little lighter than the drive keeps in the mean.
    Lighter,
}

/// Which causes predict something that was seen.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Prediction {
    /// What was seen.
    pub seen: Observed,
    /// The causes by which it is likely, each alone or two at once; none where no cause predicts it. What every cause predicts is left out.
    pub likely_by: Vec<Vec<FindingKind>>,
}

impl Prediction {
    /// Of how likely it is by each explanation; `None` where that is the same by all.
    fn of(seen: Observed, unforeseen: bool, likely: impl Fn(Hypothesis) -> f64) -> Option<Self> {
        if unforeseen {
            return Some(Self { seen, likely_by: Vec::new() });
        }
        let all = Hypothesis::ALL.map(|h| (h, likely(h)));
        let best = all.iter().map(|l| l.1).fold(0.0, f64::max);
        let predicts = |l: &&(Hypothesis, f64)| l.1 >= PREDICTS * best;
        let mut likely_by: Vec<Vec<FindingKind>> = Vec::new();
        for causes in all.iter().filter(predicts).map(|l| l.0.causes().to_vec()) {
            // This machine and this program are one cause.
            if !likely_by.contains(&causes) {
                likely_by.push(causes);
            }
        }
        (!all.iter().all(|l| predicts(&l))).then_some(Self { seen, likely_by })
    }

    fn sorted<const K: usize>(
        seen: Observed,
        sorted: Option<Sorted<K>>,
        likely: impl Fn(Hypothesis, Sorted<K>) -> f64,
    ) -> Option<Self> {
        let sorted = sorted?;
        Self::of(seen, sorted.less > 0.5, |h| likely(h, sorted))
    }
}

/// What each thing that was seen is by the causes.
pub(super) fn predictions(fall: &Fall, effects: &Effects) -> Vec<Prediction> {
    let lost = effects.lost.max(0.05);
    let beside = |seen: Option<LogRate>| seen.filter(|_| !effects.came_back);
    let part = |seen: Option<LogRate>| beside(seen).map(|s| parts(s, lost));
    let cooled = effects.cooled;
    let cools = cooled.map_or(0.0, |c| trust(&c));
    let modelled = cooled.is_some_and(|c| back_by_model(fall, c.rest_s));
    let outcome = |seen: Option<Stretched>| seen.and_then(Stretched::outcome);
    let put_in = |seen: Observed, o: Option<usize>, form: CycleForm| {
        let by =
            |h: Hypothesis| if form == CycleForm::Rest { h.in_turn(o, None) } else { h.in_turn(None, o) };
        o.and_then(|_| Prediction::of(seen, false, by))
    };
    let lighter = || {
        let by = |h: Hypothesis| -> f64 {
            let odds = h.falls_when_lighter();
            effects.lighter.iter().zip(odds).map(|(times, odds)| odds.powi(*times as i32)).product()
        };
        (effects.lighter != [0; 3]).then(|| Prediction::of(Observed::Lighter, false, by)).flatten()
    };
    [
        Prediction::sorted(Observed::Elsewhere, part(effects.elsewhere), |h, s| s.by(h.elsewhere())),
        beside(effects.reads)
            .and_then(|s| Prediction::of(Observed::Reads, false, |h| dot(alike(s), h.reads()))),
        Prediction::sorted(Observed::Heavier, beside(effects.heavier).map(faster), |h, s| s.by(h.heavier())),
        Prediction::sorted(
            Observed::Workers,
            beside(effects.workers).map(|s| by_two_workers(s, lost)),
            |h, s| s.by(h.workers()),
        ),
        Prediction::sorted(Observed::Compressible, beside(effects.compressible).map(faster), |h, s| {
            s.by(h.compressible())
        }),
        Prediction::sorted(Observed::Stretch, part(effects.stretch), |h, s| s.by(h.stretch())),
        Prediction::sorted(Observed::Quiet, part(effects.quiet), |h, s| s.by(h.quiet())),
        Prediction::sorted(
            Observed::ReadsCool,
            cooled.and_then(|c| c.reads).map(|s| parts_of_reads(s, lost)),
            |h, s| h.after_rest(Some(s), None, cools, modelled),
        ),
        Prediction::sorted(Observed::Again, cooled.and_then(|c| c.again).map(|s| parts(s, lost)), |h, s| {
            h.after_rest(None, Some(s), cools, modelled)
        }),
        effects.reads_back.filter(|_| fall.turns.is_some() && !effects.stayed).and_then(|s| {
            Prediction::of(Observed::ReadsBack, false, |h| dot(reads_low(s, lost), h.reads_low()))
        }),
        effects
            .light_first
            .and_then(LightFirst::outcome)
            .and_then(|o| Prediction::of(Observed::WithLight, false, |h| h.light_first()[o])),
        effects
            .against_model
            .and_then(AgainstModel::outcome)
            .and_then(|o| Prediction::of(Observed::AgainstModel, false, |h| h.as_modelled()[o])),
        put_in(Observed::WithRest, outcome(effects.rested), CycleForm::Rest),
        put_in(Observed::WithReads, outcome(effects.read_between), CycleForm::Read),
        lighter(),
    ]
    .into_iter()
    .flatten()
    .collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::{Bench, elsewhere, fallen};
    use super::super::{Decision, Inquiry, Shares};
    use super::*;
    use crate::record::{ArmKind, Experiment, InquiryEnd};

    /// What is said once the load elsewhere had this rate, of a fall from 1,000 to 400 MB/s; the shares before and after.
    fn told(mb_s: f64) -> (Decision, Vec<String>, [Shares; 2]) {
        let readings = elsewhere(fallen(), mb_s).end(InquiryEnd::NothingLeft).readings();
        let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
        let decision = inquiry.decision(readings.elapsed());
        let sentences = inquiry.sentences(&decision);
        (decision, sentences, [Shares::prior(&inquiry.reading.fall), inquiry.shares])
    }

    fn predicted(mb_s: f64) -> (Vec<Prediction>, String) {
        let (decision, sentences, _) = told(mb_s);
        let of = |p: &Prediction| p.seen == Observed::Elsewhere;
        let said = sentences.into_iter().find(|s| s.starts_with("The same load in other places")).unwrap();
        (decision.predicted.into_iter().filter(of).collect(), said)
    }

    #[test]
    fn what_was_seen_names_the_causes_that_predict_it() {
        use FindingKind::{CacheEnd, SlowZone, Throttle};
        let (all, said) = predicted(1000.0);
        assert_eq!(all, [Prediction { seen: Observed::Elsewhere, likely_by: vec![vec![SlowZone]] }]);
        assert!(said.ends_with("Only slow addresses predict that."), "{said}");
        // Half of what was lost, by its logarithm.
        let (all, said) = predicted(632.0);
        assert_eq!(all[0].likely_by, [vec![CacheEnd, SlowZone], vec![Throttle, SlowZone]]);
        assert!(said.ends_with("Only slow addresses beside another cause would do that."), "{said}");
        let (all, said) = predicted(400.0);
        assert_eq!(all[0].likely_by.len(), 5, "the four others, and two of them at once: {all:?}");
        assert!(said.ends_with("That speaks against slow addresses."), "{said}");
    }

    #[test]
    fn what_only_two_causes_at_once_predict_is_not_called_unforeseen() {
        use FindingKind::{CacheEnd, SlowZone, Throttle};
        let pairs = vec![vec![CacheEnd, SlowZone], vec![CacheEnd, Throttle], vec![Throttle, SlowZone]];
        let said = Prediction { seen: Observed::Again, likely_by: pairs }.words();
        assert_eq!(said.as_deref(), Some(" Only two causes at once would do that."));
    }

    /// The share of the machine, and what is said, once another load had this rate beside one of 400 MB/s.
    fn beside(experiment: Experiment, kind: ArmKind, what: &str, mb_s: f64) -> (f64, String) {
        let of = |bench: Bench, kind, rate| bench.arm(experiment, kind, 2.0, rate);
        let bench = of(fallen().ask(), ArmKind::Here, 400.0);
        let bench = of(of(bench, kind, mb_s), kind, mb_s);
        let readings = of(bench, ArmKind::Here, 400.0).end(InquiryEnd::NothingLeft).readings();
        let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
        let sentences = inquiry.sentences(&inquiry.decision(readings.elapsed()));
        let host = inquiry.shares.causes().into_iter().find(|c| c.0 == FindingKind::HostLimit);
        (host.map_or(0.0, |h| h.1), sentences.into_iter().find(|s| s.starts_with(what)).unwrap())
    }

    #[test]
    fn what_gains_by_data_that_compress_is_the_drive() {
        let with = |mb_s| {
            beside(Experiment::Compressible, ArmKind::Compressible, "With data that compress it was", mb_s)
        };
        let (faster, as_slow) = (with(1600.0), with(400.0));
        assert!(faster.0 < 0.5 * as_slow.0, "{faster:?} {as_slow:?}");
        assert!(faster.1.ends_with("That speaks against this machine or the link."), "{faster:?}");
        // Few drives compress: that one does not tells nothing, and is called nothing.
        assert!(!as_slow.1.contains("predict") && !as_slow.1.contains("speaks"), "{as_slow:?}");
    }

    #[test]
    fn what_two_workers_move_is_a_limit_of_the_machine() {
        let with = |two| beside(Experiment::Workers, ArmKind::Workers, "By two workers it was", two);
        let (faster, as_slow, slower) = (with(800.0), with(400.0), with(200.0));
        assert!(faster.0 > 1.8 * as_slow.0, "{faster:?} {as_slow:?}");
        assert!(
            faster.1.contains("2.00 times")
                && faster.1.ends_with("Only this machine or the link predicts that.")
        );
        assert!(slower.1.ends_with("No cause predicts that."), "{slower:?}");
    }

    #[test]
    fn what_no_cause_predicts_is_said_and_tells_nothing() {
        let (decision, sentences, [before, after]) = told(240.0);
        assert!(decision.predicted.iter().any(|p| p.seen == Observed::Elsewhere && p.likely_by.is_empty()));
        let said =
            |s: &String| s.contains("0.60 times as fast as here") && s.ends_with("No cause predicts that.");
        assert!(sentences.iter().any(said), "{sentences:?}");
        let off = before.0.iter().zip(after.0).map(|(b, a)| (b - a).abs()).fold(0.0, f64::max);
        assert!(off < 0.01, "{before:?} {after:?}");
        let [before, after] = told(400.0).2;
        let off = before.0.iter().zip(after.0).map(|(b, a)| (b - a).abs()).fold(0.0, f64::max);
        assert!(off > 0.1, "what is as slow elsewhere tells something: {before:?} {after:?}");
    }
}
