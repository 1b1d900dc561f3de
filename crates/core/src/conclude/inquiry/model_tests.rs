//! Rests as long as a model of the drive's cache says.

use super::tests::{Bench, fallen};
use super::*;
use crate::quantity::Interval;
use crate::quantity::units::Bytes;
use crate::record::{ArmKind, Experiment, Recovers};

/// Half of 60 GB is back after this, all after three times as long.
fn half_after(half_s: f64) -> Recovers {
    let within = |value: f64| Interval { value, low: 0.9 * value, high: 1.1 * value };
    let whole_bytes = Interval::around(60e9, 1e9);
    Recovers { haul: "before".into(), half_s: within(half_s), all_s: within(3.0 * half_s), whole_bytes }
}

fn knowing(model: Option<Recovers>) -> Bench {
    fallen().ask_knowing(None, model).arm(Experiment::Cool, ArmKind::Here, 2.0, 400.0)
}

/// After a rest of so long the load was as fast as this for so long, and then as slow as before.
fn rested(model: Option<Recovers>, rest_s: f64, mb_s: f64, fast_s: f64) -> Bench {
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cool, kind, s, rate);
    let b = of(of(knowing(model), ArmKind::ReadHot, 2.0, 900.0), ArmKind::Rest, rest_s, 0.0);
    let b = of(b, ArmKind::ReadCool, 2.0, 900.0);
    if fast_s > 0.0 {
        b.arm_that_falls(Experiment::Cool, ArmKind::Again, fast_s, mb_s)
    } else {
        of(b, ArmKind::Again, 1.6, 400.0)
    }
}

fn next(bench: &Bench, thermometer: bool, left_s: f64) -> Trial {
    let readings = bench.readings();
    let possible = Possible {
        elsewhere: false,
        reads: false,
        heavier: false,
        workers: false,
        compressible: false,
        stretch: false,
        quiet: false,
        thermometer,
    };
    Inquiry::of(&readings.inquiries()[0], &readings).next(possible, left_s).unwrap()
}

fn share(bench: &Bench, of: Hypothesis) -> f64 {
    let readings = bench.readings();
    let shares = Inquiry::of(&readings.inquiries()[0], &readings).shares;
    Hypothesis::ALL.iter().zip(shares.0).find(|a| *a.0 == of).unwrap().1
}

#[test]
fn a_model_says_how_much_is_back_after_a_rest() {
    let model = half_after(90.0);
    let back = [0.0, 45.0, 90.0, 180.0, 270.0, 900.0].map(|s| model.back_after(s).value);
    assert_eq!(back, [0.0, 0.25, 0.5, 0.75, 1.0, 1.0]);
    // Where even the shortest rest was enough, only a bound is known.
    let bound = Interval { value: 60.0, low: 0.0, high: 60.0 };
    let at_once = Recovers { half_s: bound, all_s: bound, ..model.clone() };
    let back = [30.0, 60.0].map(|s| at_once.back_after(s)).map(|i| (i.value, i.low, i.high));
    assert_eq!(back, [(0.25, 0.25, 1.0), (1.0, 1.0, 1.0)]);
    let bytes = model.bytes_after(90.0);
    assert!(
        (bytes.low / 1e9 - 59.0 * 0.5 / 1.1).abs() < 0.01 && (bytes.value - 30e9).abs() < 1.0,
        "{bytes:?}"
    );
    assert!((bytes.high / 1e9 - 61.0 * (0.5 + 0.5 * 9.0 / 162.0)).abs() < 0.01, "{bytes:?}");
}

#[test]
fn a_rest_is_as_long_as_the_model_says_half_and_then_all_of_the_cache_needs() {
    let first = next(&fallen().ask_knowing(None, Some(half_after(90.0))), true, 600.0);
    assert_eq!((first.experiment, first.rest_s(), first.least_rest_s), (Experiment::Cool, 90.0, 90.0));
    // 30 GB come back, which take 30 s at 1,000 MB/s: it is waited for a little longer.
    assert!((first.again_s - 39.0).abs() < 0.1, "{first:?}");
    let second = next(&rested(Some(half_after(90.0)), 90.0, 0.0, 0.0), true, 600.0);
    assert_eq!((second.round, second.rest_s()), (1, 270.0));
    // A model never makes a rest shorter than one that cools a drive.
    let short = next(&fallen().ask_knowing(None, Some(half_after(5.0))), false, 600.0);
    assert_eq!((short.rest_s(), short.least_rest_s), (60.0, 10.0));
    // What is left bounds it, and what is then back is waited for.
    let cut = next(&fallen().ask_knowing(None, Some(half_after(90.0))), true, 80.0);
    assert!(cut.seconds <= 80.0 && cut.rest_s() < 45.0 && cut.again_s < 39.0, "{cut:?}");
    let without = next(&fallen().ask_knowing(None, None), true, 600.0);
    assert_eq!((without.rest_s(), without.again_s, without.least_rest_s), (45.0, 10.0, 10.0));
}

#[test]
fn what_does_not_come_back_as_the_model_says_is_not_the_cache() {
    let slow = |model| share(&rested(model, 90.0, 0.0, 0.0), Hypothesis::Cache);
    let (with, without) = (slow(Some(half_after(90.0))), slow(None));
    assert!(with < 0.4 * without, "{with} {without}");
    // After a tenth of that the model says nothing of the kind.
    let (soon, without) = (slow(Some(half_after(900.0))), slow(None));
    assert!((soon - without).abs() < 1e-9, "{soon} {without}");
}

#[test]
fn as_many_bytes_as_the_model_has_speak_for_the_cache_and_others_do_not() {
    let fast = |gb: f64| rested(Some(half_after(90.0)), 90.0, 1000.0, gb);
    let odds = |b: &Bench| share(b, Hypothesis::Cache) / share(b, Hypothesis::Heat);
    let (as_many, fewer) = (fast(29.0), fast(6.0));
    assert!(odds(&as_many) > 15.0 * odds(&fewer), "{} {}", odds(&as_many), odds(&fewer));
    let told = |b: &Bench| {
        let readings = b.readings();
        let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
        let decision = inquiry.decision(readings.elapsed());
        let said = inquiry.sentences(&decision).into_iter().find(|s| s.starts_with("The model of its cache"));
        (decision.against_model.unwrap().times, said.unwrap())
    };
    let (times, said) = told(&as_many);
    assert!((times - 29.0 / 30.0).abs() < 0.02, "{times}");
    assert!(
        said.starts_with(
            "The model of its cache has 26.82 GB to 32.19 GB back after the first rest; the load took 29"
        ),
        "{said}"
    );
    assert!((told(&fewer).0 - 0.2).abs() < 0.02);
    // One that has not fallen yet tells nothing, unless it took far more.
    let readings = as_many.readings();
    let effects = Inquiry::of(&readings.inquiries()[0], &readings).effects;
    let seen = effects.against_model.unwrap();
    let open = AgainstModel { fell: false, ..seen };
    assert_eq!((seen.outcome(), open.outcome()), (Some(0), None));
    assert_eq!(AgainstModel { fast: Bytes::from_gb(60), ..open }.outcome(), Some(1));
}
