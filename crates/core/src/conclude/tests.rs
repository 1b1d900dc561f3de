use crate::drive::FaultKind;
use crate::quantity::units::Celsius;
use crate::record::{Event, HaulHead, Sample};
use crate::route::LegKind;
use std::time::Duration;

use proptest::prelude::*;
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

use super::*;
use crate::drive::{DriveIdentity, DriveKind};
use crate::quantity::FindingKind;
use crate::record::bytes;
use crate::route;

/// A made-up record: levels with noise, stalls, an interval, perhaps a rest in the middle.
#[derive(Debug, Clone)]
struct Made {
    seed: u64,
    /// Rate in MB/s and length in seconds.
    levels: Vec<(f64, f64)>,
    sigma: f64,
    stall_every: Option<u32>,
    interval_ms: u64,
    limit: Option<f64>,
}

fn head(limit: Option<f64>) -> Event {
    Event::HaulStarted(Box::new(HaulHead::plain(
        "made",
        DriveIdentity {
            throttle_limit: limit.map(Celsius::new),
            ..DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000))
        },
        route::shipped("long-haul").unwrap(),
    )))
}

fn normal(rng: &mut Xoshiro256PlusPlus) -> f64 {
    (0..12).map(|_| rng.random::<f64>()).sum::<f64>() - 6.0
}

fn events(made: &Made) -> Vec<Event> {
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(made.seed);
    let mut all = vec![head(made.limit), Event::LegStarted { at: Duration::ZERO, leg: 0 }];
    let dt = made.interval_ms as f64 / 1000.0;
    let (mut end, mut position) = (Duration::ZERO, 0u64);
    for (rate, seconds) in &made.levels {
        for _ in 0..(seconds / dt) as usize {
            end += Duration::from_millis(made.interval_ms);
            let stalls = made.stall_every.is_some_and(|n| rng.random_range(0..n) == 0);
            let factor = if stalls { 0.02 } else { (normal(&mut rng) * made.sigma).exp() };
            let bytes = (rate * 1e6 * dt * factor) as u64;
            position += bytes;
            all.push(Event::Sample(Sample {
                end,
                span: Duration::from_millis(made.interval_ms),
                written: Bytes::new(bytes),
                position: Some(Bytes::new(position)),
                // Cool, and alive.
                temperature: Some(Celsius::new(55.0 + (end.as_secs() % 2) as f64)),
                ..Sample::default()
            }));
        }
    }
    all
}

fn fold(events: &[Event]) -> Readings {
    let mut r = Readings::new();
    events.iter().for_each(|e| r.push(e));
    r
}

fn cache_ends(r: &Readings) -> Vec<f64> {
    r.conclude().findings.iter().filter(|f| f.kind == FindingKind::CacheEnd).map(|f| f.written.gb()).collect()
}

fn any_made() -> impl Strategy<Value = Made> {
    let level = (50.0f64..6000.0, 2.0f64..40.0);
    (any::<u64>(), proptest::collection::vec(level, 1..4), 0.0f64..0.2, proptest::option::of(20u32..500))
        .prop_map(|(seed, levels, sigma, stall_every)| Made {
            seed,
            levels,
            sigma,
            stall_every,
            interval_ms: 100,
            limit: Some(84.0),
        })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// What was concluded live at any moment is what the record says when it is read later, up to that moment; and
    /// looking does not change what is seen.
    #[test]
    fn live_findings_equal_replayed_findings(made in any_made(), batch in 1usize..300, looks in 1usize..8) {
        let all = events(&made);
        let mut live = Readings::new();
        let mut recorded: Vec<Vec<u8>> = Vec::new();
        let every = all.len() / looks + 1;
        for chunk in all.chunks(batch) {
            chunk.iter().for_each(|e| live.push(e));
            recorded.push(bytes::encode(chunk, serde_json::to_vec).unwrap());
            if live.series().len() % every < batch {
                let mut replayed = Readings::new();
                for bytes in &recorded {
                    let back = bytes::decode(bytes, |j| serde_json::from_slice(j).map_err(|e| e.to_string())).unwrap();
                    back.iter().for_each(|e| replayed.push(e));
                }
                prop_assert_eq!(live.conclude(), replayed.conclude());
            }
        }
        prop_assert_eq!(live.conclude(), fold(&all).conclude());
    }

    /// The interval holds the place, and the place lies in the record.
    #[test]
    fn findings_lie_within_their_intervals_and_the_record(made in any_made()) {
        let r = fold(&events(&made));
        for f in r.conclude().findings {
            prop_assert!(f.written_low <= f.written && f.written <= f.written_high && f.written_high <= r.written());
            prop_assert!(f.elapsed <= r.elapsed() && (0.0..=1.0).contains(&f.confidence));
            prop_assert!(!f.evidence.is_empty());
        }
    }
}

#[test]
fn flat_and_merely_noisy_runs_find_nothing() {
    for seed in 0..240 {
        let sigma = [0.0, 0.01, 0.05, 0.1, 0.2, 0.35][seed as usize % 6];
        let made = Made {
            seed,
            levels: vec![(900.0, 60.0 + f64::from(seed as u32) * 10.0)],
            sigma,
            stall_every: (seed % 3 == 0).then_some(40),
            interval_ms: 100,
            limit: None,
        };
        assert_eq!(fold(&events(&made)).conclude().findings, [], "{made:?}");
    }
}

#[test]
fn stalls_are_no_levels_but_a_beat() {
    let mut all = events(&Made {
        seed: 1,
        levels: vec![(900.0, 300.0)],
        sigma: 0.02,
        stall_every: None,
        interval_ms: 100,
        limit: None,
    });
    // A second and a half without a byte, twenty seconds apart.
    for (i, event) in all.iter_mut().enumerate() {
        if let Event::Sample(s) = event
            && i % 200 < 15
        {
            s.written = Bytes::ZERO;
        }
    }
    let c = fold(&all).conclude();
    let kinds: Vec<FindingKind> = c.findings.iter().map(|f| f.kind).collect();
    assert_eq!(kinds, [FindingKind::Background], "{:#?}", c.findings);
    assert!((c.figures.longest_stall_s.unwrap() - 1.5).abs() < 0.11, "{:?}", c.figures);
}

#[test]
fn steps_are_found_where_they_are() {
    for seed in 0..60u64 {
        let first = [3.0, 9.0, 30.0, 120.0][seed as usize % 4];
        let sigma = [0.005, 0.03, 0.08][seed as usize % 3];
        let made = Made {
            seed,
            levels: vec![(2500.0, first), (1100.0, 60.0), (300.0, 200.0)],
            sigma,
            stall_every: Some(300),
            interval_ms: 100,
            limit: Some(90.0),
        };
        let r = fold(&events(&made));
        let truth: Vec<f64> = {
            let at = |s: f64| {
                let i = r.series().index_at(Duration::from_secs_f64(s));
                r.series().written(i) as f64 / 1e9
            };
            vec![at(first), at(first + 60.0)]
        };
        let found = cache_ends(&r);
        assert_eq!(found.len(), 2, "seed {seed}: {found:?} for {truth:?}");
        for (f, t) in found.iter().zip(&truth) {
            assert!((f / t - 1.0).abs() < 0.02, "seed {seed}: {f} for {t}");
        }
    }
}

#[test]
fn a_record_of_next_to_nothing_says_nothing() {
    for n in 0..8 {
        let made = Made {
            seed: n,
            levels: vec![(500.0, 0.1 * n as f64)],
            sigma: 0.3,
            stall_every: Some(2),
            interval_ms: 100,
            limit: None,
        };
        assert_eq!(fold(&events(&made)).conclude().findings, []);
    }
    let mut r = Readings::new();
    r.push(&Event::Sample(Sample::default()));
    r.push(&Event::Sample(Sample { end: Duration::from_secs(1), ..Sample::default() }));
    assert_eq!(r.conclude().findings, []);
}

#[test]
fn a_pause_is_no_stall_and_brings_the_cache_back() {
    let made = Made {
        seed: 3,
        levels: vec![(900.0, 30.0)],
        sigma: 0.02,
        stall_every: None,
        interval_ms: 100,
        limit: None,
    };
    let mut all = events(&made);
    all.push(Event::Paused { at: Duration::from_secs(30) });
    for i in 1..=100u64 {
        let end = Duration::from_secs(30) + Duration::from_millis(100 * i);
        all.push(Event::Sample(Sample { end, span: Duration::from_millis(100), ..Sample::default() }));
    }
    all.push(Event::Resumed { at: Duration::from_secs(40) });
    let r = fold(&all);
    assert_eq!(r.conclude().findings, []);
    assert_eq!(r.conclude().figures.longest_stall_s, Some(0.0));
}

#[test]
fn thermometers_are_lanes_of_their_own() {
    let mut readings = Readings::new();
    for i in 1..=100u64 {
        let end = Duration::from_secs(i);
        let sample =
            Sample { end, span: Duration::from_secs(1), written: Bytes::from_mib(1), ..Sample::default() };
        readings.push(&Event::Sample(sample));
        if i % 10 == 0 {
            let value = Celsius::new(20.0 + i as f64 / 10.0);
            readings.push(&Event::Temperatures { at: end, readings: vec![("air".into(), value)] });
        }
    }
    let lanes = readings.temperature_columns(Ruler::Elapsed, 0.0, 100.0, 50);
    assert_eq!(lanes.len(), 1);
    let (name, values) = &lanes[0];
    assert_eq!(
        (*name, values[0], values[5], values[9], values[49]),
        ("air", None, Some(21.0), Some(21.0), Some(30.0))
    );
    assert!(readings.temperature_columns(Ruler::Elapsed, 0.0, 100.0, 0)[0].1.is_empty());
}

/// Samples of 100 ms of one leg: bytes of each, and operations that failed in it.
fn leg_events(leg: crate::route::Leg, samples: &[(u64, u32)], flushes: &[usize]) -> Vec<Event> {
    let mut first = head(None);
    if let Event::HaulStarted(head) = &mut first {
        head.route.legs = vec![leg];
    }
    let mut all = vec![first, Event::LegStarted { at: Duration::ZERO, leg: 0 }];
    for (i, (bytes, errors)) in samples.iter().enumerate() {
        let end = Duration::from_millis(100 * (i as u64 + 1));
        if flushes.contains(&i) {
            let took = Duration::from_millis(3);
            all.push(Event::Flushed { at: end - Duration::from_millis(100), leg: 0, took });
        }
        let span = Duration::from_millis(100);
        let written = Bytes::new(*bytes);
        all.push(Event::Sample(Sample { end, span, written, errors: *errors, ..Sample::default() }));
    }
    all
}

fn kinds(events: &[Event]) -> Vec<FindingKind> {
    fold(events).conclude().findings.iter().map(|f| f.kind).collect()
}

#[test]
fn a_mean_is_bytes_over_time_also_where_a_load_lasts_less_than_a_second() {
    let write = || crate::route::Leg::new(LegKind::Write);
    // 0.7 s at 2,000 MB/s alone: no whole second, and a mean all the same.
    let r = fold(&leg_events(write(), &[(200_000_000, 0); 7], &[]));
    assert!((r.conclude().figures.mean.unwrap().mb_s() - 2000.0).abs() < 1e-6);
    // With 20.5 s at 20 MB/s behind it: 1,400 MB and 410 MB in 21.2 s.
    let mut samples = vec![(200_000_000, 0); 7];
    samples.extend(vec![(2_000_000, 0); 205]);
    let mean = fold(&leg_events(write(), &samples, &[])).conclude().figures.mean.unwrap().mb_s();
    assert!((mean - 1810.0 / 21.2).abs() < 1e-6, "{mean}");
}

#[test]
fn a_pace_of_our_own_is_no_beat_of_the_drive() {
    // 20 MB/s in operations of 1 MiB: one or two of them in 100 ms, the fewer every tenth or so.
    let due = |n: u64| (n as f64 * 20e6 * 0.1 / f64::from(1 << 20)) as u64;
    let samples: Vec<(u64, u32)> = (0..3000).map(|i| ((due(i + 1) - due(i)) << 20, 0)).collect();
    assert!(samples.iter().filter(|s| s.0 == 1 << 20).count() > 80, "there are dips");
    let paced =
        crate::route::Leg { rate: Some(Rate::from_mb_s(20.0)), ..crate::route::Leg::new(LegKind::Write) };
    assert_eq!(kinds(&leg_events(paced.clone(), &samples, &[])), []);
    // A drive that cannot keep the pace for two seconds in every twenty is told of.
    let slow: Vec<(u64, u32)> =
        samples.iter().enumerate().map(|(i, s)| if i % 200 < 20 { (100_000, 0) } else { *s }).collect();
    assert_eq!(kinds(&leg_events(paced, &slow, &[])), [FindingKind::Background]);
}

#[test]
fn a_flush_that_we_ask_for_is_no_beat_of_the_drive() {
    let samples: Vec<(u64, u32)> =
        (0..2000).map(|i| if i % 100 == 99 { (20_000_000, 0) } else { (100_000_000, 0) }).collect();
    let write = || crate::route::Leg::new(LegKind::Write);
    let flushes: Vec<usize> = (1..20).map(|i| 100 * i).collect();
    assert_eq!(kinds(&leg_events(write(), &samples, &[])), [FindingKind::Background], "unasked for it is");
    assert_eq!(kinds(&leg_events(write(), &samples, &flushes)), []);
}

#[test]
fn a_fall_while_operations_fail_is_no_cache_end() {
    let level = |n: usize, bytes: u64, errors: u32| vec![(bytes, errors); n];
    let write = || crate::route::Leg::new(LegKind::Write);
    let plain: Vec<_> = [level(300, 50_000_000, 0), level(600, 5_000_000, 0)].concat();
    assert_eq!(kinds(&leg_events(write(), &plain, &[])), [FindingKind::CacheEnd]);
    let failing: Vec<_> = [level(300, 50_000_000, 0), level(600, 5_000_000, 3)].concat();
    let r = fold(&leg_events(write(), &failing, &[]));
    let c = r.conclude();
    assert_eq!(c.findings.iter().map(|f| f.kind).collect::<Vec<_>>(), [FindingKind::MediaError]);
    assert!(c.findings[0].evidence[0].contains("1800 operations failed"), "{:?}", c.findings[0].evidence);
    assert_eq!(c.figures.cache_bytes, None);
}

#[test]
fn failures_are_counted_by_the_counters_and_not_by_those_that_were_told() {
    let mut samples = vec![(50_000_000, 0); 100];
    samples[40] = (10_000_000, 700);
    samples[41] = (10_000_000, 752);
    let mut events = leg_events(crate::route::Leg::new(LegKind::Write), &samples, &[]);
    for at in [4100u64, 4200] {
        let fault = Event::Fault {
            at: Duration::from_millis(at),
            position: Some(Bytes::new(at << 20)),
            kind: FaultKind::Failed,
            message: "write of 4 KiB failed: Input/output error".into(),
        };
        events.push(fault);
    }
    let r = fold(&events);
    let found = r.conclude().findings;
    let told: Vec<&String> = found.iter().flat_map(|f| &f.evidence).collect();
    assert_eq!(r.errors(), 1452);
    assert!(
        told.iter().any(|t| t.starts_with("700 operations failed, 1 of them told one by one")),
        "{told:?}"
    );
    assert!(told.iter().any(|t| t.starts_with("752 operations failed")), "{told:?}");
}

#[test]
fn what_old_records_say_of_a_fault_in_words_is_read_as_its_kind() {
    let fault = |position: Option<u64>, message: &str| Event::Fault {
        at: Duration::ZERO,
        position: position.map(Bytes::new),
        kind: FaultKind::default(),
        message: message.into(),
    };
    let r = fold(&[
        fault(Some(1), "read of 4 KiB failed: medium error"),
        fault(Some(1), "read of 4 KiB failed, and a second try alone succeeded: medium error"),
        fault(None, "the drive warns: spare is low"),
        fault(None, "sim:puppet is gone"),
    ]);
    let kinds: Vec<FaultKind> = r.faults().iter().map(|f| f.kind).collect();
    assert_eq!(kinds, [FaultKind::Failed, FaultKind::Recovered, FaultKind::Warning, FaultKind::Drive]);
}

#[test]
fn a_burst_without_a_cache_end_is_the_usual_rate_and_not_the_mean() {
    // Stalls of a second in every four take a fifth of the mean, and nothing of the median.
    let samples: Vec<(u64, u32)> =
        (0..1200).map(|i| if i % 50 < 10 { (10_000_000, 0) } else { (100_000_000, 0) }).collect();
    let figures = fold(&leg_events(crate::route::Leg::new(LegKind::Write), &samples, &[])).conclude().figures;
    assert!((figures.mean.unwrap().mb_s() - 820.0).abs() < 1.0, "{figures:?}");
    assert!((figures.burst.unwrap().mb_s() - 1000.0).abs() < 1.0, "{figures:?}");
}

#[test]
fn the_same_load_at_another_level_of_a_group_is_the_same_load() {
    use crate::route::{Leg, Turn};
    let turn = |round, percent: f64| {
        Some(Turn {
            part: Some(0),
            round,
            label: format!("{percent} % full"),
            fill_percent: Some(percent),
            rounds: None,
        })
    };
    let rest = |round, percent| Leg { turn: turn(round, percent), ..Leg::new(LegKind::Rest) };
    let write = |round, percent| Leg { turn: turn(round, percent), ..Leg::new(LegKind::Write) };
    let mut first = head(None);
    if let Event::HaulStarted(head) = &mut first {
        head.route.legs = vec![rest(0, 10.0), write(0, 10.0), rest(1, 80.0), write(1, 80.0)];
    }
    let mut all = vec![first];
    let mut end = Duration::ZERO;
    let mut leg = |leg: u16, seconds: u64, bytes: u64, fill: u32, all: &mut Vec<Event>| {
        all.push(Event::LegStarted { at: end, leg });
        for _ in 0..seconds {
            end += Duration::from_secs(1);
            all.push(Event::Sample(Sample {
                end,
                span: Duration::from_secs(1),
                leg,
                written: Bytes::new(bytes),
                fill_ppm: Some(fill),
                ..Sample::default()
            }));
        }
    };
    leg(0, 120, 0, 100_000, &mut all);
    leg(1, 60, 900_000_000, 100_000, &mut all);
    leg(2, 120, 0, 800_000, &mut all);
    leg(3, 60, 500_000_000, 800_000, &mut all);
    // A load after a rest of the same length at each level: the first of the record has none before it.
    leg(2, 120, 0, 900_000, &mut all);
    leg(3, 60, 300_000_000, 900_000, &mut all);
    assert!(write(0, 10.0).same_load(&write(1, 80.0)) && write(0, 10.0) != write(1, 80.0));
    assert!(!write(0, 10.0).same_load(&Leg { depth: 7, ..write(0, 10.0) }));
    assert_eq!(kinds(&all), [FindingKind::FillSlowdown]);
}

/// A throttle lets just so many bytes through, a block more now and then; a busy machine holds some back for a moment, and they follow.
fn throttled(seed: u64) -> Vec<(u64, u32)> {
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
    let (block, usual) = (262_144, 19 * 262_144);
    let (n, disturbed) = (rng.random_range(100..260), rng.random_range(0.0..0.5));
    let mut owed = 0u64;
    let mut busy = false;
    let mut all: Vec<(u64, u32)> = (0..n)
        .map(|i| {
            busy = if busy {
                rng.random_range(0.0..1.0) < 0.8
            } else {
                rng.random_range(0.0..1.0) < 0.1 * disturbed
            };
            let more = if i % 13 == 0 { block } else { 0 };
            let due = usual + more + owed;
            let share = if busy { rng.random_range(0.0..1.3f64).min(1.0) } else { 1.0 };
            let moved = (due as f64 * share) as u64;
            owed = (due - moved).min(usual);
            (moved, 0)
        })
        .collect();
    all.extend(vec![(7 * block, 0); rng.random_range(0..60)]);
    all
}

#[test]
fn no_fall_is_told_between_rates_that_are_the_same() {
    // The smallest step that counts is 8 %.
    for seed in 0..4_000 {
        let r = fold(&leg_events(crate::route::Leg::new(LegKind::Write), &throttled(seed), &[]));
        for f in r.conclude().findings {
            let Some((b, a)) = f.before.zip(f.after) else { continue };
            assert!((b.get() / a.get()).ln().abs() > 0.05, "{seed}: {f:?}");
        }
    }
}
