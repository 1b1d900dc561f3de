use super::*;
use crate::drive::{LoadKind, Pattern};
use crate::record::Sample;
use crate::record::Step;
use proptest::prelude::*;
use std::time::Duration;

/// Sweeps over 1,000 bins of 1 MB with this rate at each, MB/s, one sample a bin.
fn sweep(scans: &mut Scans, task: Task, backward: bool, rate: impl Fn(u64) -> f64) {
    let (start, end) = match task {
        Task::Again { from, to } => {
            let beside = to.get() - from.get();
            (from.get().saturating_sub(beside), (to.get() + beside).min(1_000_000_000))
        }
        _ => (0, 1_000_000_000),
    };
    let step = Step {
        task,
        load: LoadKind::Read,
        start: Bytes::new(start),
        end: Bytes::new(end),
        block: Bytes::new(4096),
        depth: 1,
        workers: 1,
        pattern: if backward { Pattern::Backward } else { Pattern::Sequential },
        rate: None,
    };
    scans.begin(0, &step);
    let size = if matches!(task, Task::Again { .. }) { 125_000 } else { 1_000_000 };
    let mut starts: Vec<u64> = (start..end).step_by(size as usize).collect();
    if backward {
        starts.reverse();
    }
    for at in starts {
        let to = (at + size).min(end);
        scans.push(&Sample {
            read: Bytes::new(to - at),
            span: Duration::from_secs_f64((to - at) as f64 / 1e6 / rate(at / 1_000_000)),
            position: Some(Bytes::new(if backward { at } else { to })),
            ..Sample::default()
        });
    }
}

fn pass(pass: u16) -> Task {
    Task::Pass { pass, bins: 1000 }
}

/// Platters: twice as fast outside.
fn platters(bin: u64) -> f64 {
    250.0 - 0.125 * bin as f64
}

#[test]
fn the_fall_to_the_inner_tracks_is_a_trend_and_no_stretch() {
    let mut scans = Scans::default();
    sweep(&mut scans, pass(0), false, platters);
    sweep(&mut scans, pass(1), true, platters);
    let survey = survey(&scans).unwrap();
    assert!(survey.stretches.is_empty(), "{:?}", survey.stretches);
    assert!((survey.first_over_last.unwrap() - 248.0 / 127.0).abs() < 0.05, "{survey:?}");
    assert!(survey.noise < 0.01);
}

#[test]
fn what_one_pass_saw_is_a_stranger_and_no_stretch() {
    let mut scans = Scans::default();
    sweep(&mut scans, pass(0), false, |b| platters(b) * if (300..330).contains(&b) { 0.4 } else { 1.0 });
    sweep(&mut scans, pass(1), true, platters);
    assert!(candidates(scans.passes()).is_empty());
}

#[test]
fn a_stretch_that_is_well_when_visited_again_does_not_stand() {
    let weak = |b| platters(b) * if (300..330).contains(&b) { 0.6 } else { 1.0 };
    let mut scans = Scans::default();
    sweep(&mut scans, pass(0), false, weak);
    sweep(&mut scans, pass(1), true, weak);
    let c = candidates(scans.passes());
    assert_eq!(c.len(), 1);
    let pending = survey(&scans).unwrap();
    assert!(
        pending.slow().next().is_none() && pending.sentence().contains("to be visited again"),
        "{}",
        pending.sentence()
    );
    let again = Task::Again { from: Bytes::new(c[0].from), to: Bytes::new(c[0].to) };
    let mut well = scans.clone();
    sweep(&mut well, again, false, platters);
    let s = &survey(&well).unwrap().stretches[0];
    assert_eq!((s.again, s.stands()), (Some(false), false));
    sweep(&mut scans, again, false, weak);
    let s = &survey(&scans).unwrap().stretches[0];
    assert_eq!((s.again, s.stands(), s.seen), (Some(true), true, 2));
    assert!((s.inside_mb_s / s.beside_mb_s - 0.6).abs() < 0.02, "{s:?}");
}

/// A quick drive on a noisy host: neighbours differ by a third, and eight bins are 400 times slower.
#[test]
fn noise_does_not_drown_a_short_deep_stretch() {
    let rate = |seed: u64| {
        move |b: u64| {
            let hash = (b + seed * 104_729).wrapping_mul(0x9e37_79b9_7f4a_7c15) >> 40;
            let noise = 1.0 + (hash % 997) as f64 / 1500.0;
            if (470..478).contains(&b) { 7.5 } else { 3000.0 * noise }
        }
    };
    let mut scans = Scans::default();
    sweep(&mut scans, pass(0), false, rate(1));
    sweep(&mut scans, pass(1), true, rate(2));
    assert!(survey(&scans).unwrap().noise > 0.08);
    let found = candidates(scans.passes());
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!((found[0].from, found[0].to), (470_000_000, 478_000_000));
}

#[test]
fn a_few_milliseconds_are_the_start_of_a_pass_and_no_stretch() {
    // Five bins of 1 MB at half of 3 GB/s: 1.7 ms lost.
    let mut scans = Scans::default();
    for p in 0..2 {
        sweep(&mut scans, pass(p), p == 1, |b| if b < 5 { 1500.0 } else { 3000.0 });
    }
    assert!(candidates(scans.passes()).is_empty());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    #[test]
    fn a_stretch_of_any_place_and_length_is_found_to_the_bin(
        from in 2u64..940, length in 1u64..50, factor in 0.2f64..0.72, passes in 2u16..4
    ) {
        // An eighth as fast: a single bin must cost more than the start of a pass does.
        let rate = |b: u64| platters(b) / 8.0 * if (from..from + length).contains(&b) { factor } else { 1.0 }
            // One in a hundred, either way, from a hash of the bin.
            * (1.0 + ((b * 7919 % 201) as f64 - 100.0) / 10_000.0);
        let mut scans = Scans::default();
        for p in 0..passes {
            sweep(&mut scans, pass(p), p % 2 == 1, rate);
        }
        let found = candidates(scans.passes());
        prop_assert_eq!(found.len(), 1, "{:?}", found);
        prop_assert!(found[0].from.abs_diff(from * 1_000_000) <= 1_000_000, "{:?}", found);
        prop_assert!(found[0].to.abs_diff((from + length) * 1_000_000) <= 1_000_000, "{:?}", found);
    }
}
