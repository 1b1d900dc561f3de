//! Each cause with a near miss on both sides of the line that decides it.

use super::eye_tests::record;
use super::tests::{Story, at, kinds};
use crate::quantity::FindingKind;
use crate::quantity::FindingKind::{
    Background, CacheEnd, FillSlowdown, HostLimit, MediaError, OtherTraffic, Throttle, Unexplained,
};
use crate::quantity::units::Bytes;
use crate::record::{Event, Sample};

/// What was found, told apart by a number.
fn check<T: std::fmt::Debug + Copy>(what: &str, cases: &[(T, &[FindingKind])], story: impl Fn(T) -> Story) {
    for (number, want) in cases {
        let found = story(*number).found();
        assert_eq!(kinds(&found), *want, "{what}: {number:?}: {found:#?}");
    }
}

#[test]
fn a_step_of_a_twentieth_is_noise_and_one_of_a_fifth_is_none() {
    check("step", &[(0.95, &[]), (0.97, &[]), (0.8, &[CacheEnd]), (0.5, &[CacheEnd])], |share: f64| {
        Story::with_limit(Some(85.0)).write(90, 2000.0, 40.0, 50.0).write(120, 2000.0 * share, 50.0, 45.0)
    });
}

#[test]
fn at_the_limit_it_is_heat_and_well_below_it_is_not() {
    // What the drive had when it fell, with a limit of 80 °C, and the speed back as it cools.
    check(
        "temperature of the fall",
        &[(80.0, &[Throttle]), (79.0, &[Throttle]), (70.0, &[Unexplained]), (55.0, &[Unexplained])],
        |top: f64| {
            Story::with_limit(Some(80.0)).write(90, 2000.0, 40.0, top).write(25, 900.0, top, top - 6.0).write(
                90,
                2000.0,
                top - 6.0,
                top - 2.0,
            )
        },
    );
}

#[test]
fn what_cools_and_stays_slow_is_the_cache() {
    // How far it cools below its limit of 80 °C without a gain of speed.
    check("cooled to", &[(60.0, &[CacheEnd]), (52.0, &[CacheEnd]), (80.0, &[Throttle])], |to: f64| {
        Story::with_limit(Some(80.0)).write(90, 3000.0, 50.0, 80.0).write(200, 1200.0, 80.0, to)
    });
}

#[test]
fn more_than_half_back_is_no_cache_end() {
    // Of 2,000 MB/s 800 are left for 40 s; what comes after, without a rest.
    check(
        "what comes back",
        &[(800.0, &[CacheEnd]), (1000.0, &[CacheEnd]), (1900.0, &[Unexplained]), (2000.0, &[Unexplained])],
        |after: f64| {
            Story::with_limit(Some(85.0))
                .write(60, 2000.0, 40.0, 45.0)
                .write(40, 800.0, 45.0, 44.0)
                .write(80, after, 44.0, 45.0)
        },
    );
}

#[test]
fn only_a_write_has_a_write_cache() {
    check("leg", &[(0, &[CacheEnd]), (1, &[Unexplained])], |leg: u16| {
        let cool = Some((45.0, 47.0));
        Story::with_limit(Some(85.0)).tell(leg, 60, 2000.0, cool, None).tell(leg, 120, 900.0, cool, None)
    });
}

#[test]
fn traffic_explains_from_two_fifths_of_the_loss_on() {
    // 800 MB/s are lost for 40 s.
    check(
        "others\u{2019} MB/s",
        &[(0.0, &[Unexplained]), (200.0, &[Unexplained]), (480.0, &[OtherTraffic]), (800.0, &[OtherTraffic])],
        |others: f64| {
            Story::with_limit(None)
                .tell(0, 60, 2000.0, None, Some(0.0))
                .tell(0, 40, 1200.0, None, Some(others))
                .tell(0, 60, 2000.0, None, Some(0.0))
        },
    );
}

#[test]
fn a_host_is_the_limit_when_it_has_no_time_left_and_had_some_before() {
    let story = |(before, after): (u32, u32)| {
        let part = |mb_s: u64, ppm: u32| {
            move |i| Sample { leg: 1, read: at(mb_s, i), host_busy_ppm: Some(ppm), ..Sample::default() }
        };
        Story::with_limit(None).samples(400, part(2000, before)).samples(400, part(1000, after))
    };
    check(
        "busy before and after, ppm",
        &[
            ((500_000, 990_000), &[HostLimit]),
            ((850_000, 975_000), &[HostLimit]),
            ((500_000, 900_000), &[Unexplained]),
            ((500_000, 600_000), &[Unexplained]),
        ],
        story,
    );
}

#[test]
fn eight_deep_and_regular_dips_are_a_beat() {
    // Dips of 0.6 s every 12 s: how many, how deep, and how far each is off the beat, in tenths of a second.
    let story = |(dips, left, off): (u64, u64, u64)| {
        Story::with_limit(None).samples(dips * 120 + 100, move |i| {
            let (n, phase) = (i / 120, i % 120);
            let begin = 60 + if n.is_multiple_of(2) { 0 } else { off };
            let dip = n < dips && (begin..begin + 6).contains(&phase);
            Sample { written: at(if dip { left } else { 2000 }, i), ..Sample::default() }
        })
    };
    check(
        "dips, MB/s left, off the beat",
        &[
            ((20, 400, 0), &[Background]),
            ((9, 400, 0), &[Background]),
            ((6, 400, 0), &[]),
            ((20, 1500, 0), &[]),
            ((20, 400, 5), &[Background]),
            ((20, 400, 50), &[]),
        ],
        story,
    );
}

#[test]
fn failed_operations_take_the_time_from_one_sample_in_five_on() {
    // 60 s at full speed, then 60 s at less, in which every n-th sample has a failed operation.
    let story = |every: u64| {
        let slow = move |i: u64| Sample {
            written: at(900, i),
            errors: u32::from(i.is_multiple_of(every)),
            ..Sample::default()
        };
        Story::with_limit(None)
            .samples(600, |i| Sample { written: at(2000, i), ..Sample::default() })
            .samples(600, slow)
    };
    for (every, heavy) in [(2, true), (4, true), (12, false), (60, false)] {
        let found = story(every).found();
        let told = found.iter().any(|f| f.kind == MediaError);
        assert_eq!(told, heavy, "one in {every}: {found:#?}");
        assert_eq!(found.iter().any(|f| f.kind == CacheEnd), !heavy, "one in {every}: {found:#?}");
    }
}

/// Two writes after rests, at two levels of fill: bytes at full speed (tenths of a second at 2,000 MB/s), rests in seconds.
fn at_two_levels(rests: [u64; 2], fills: [u32; 2], caches: [u64; 2]) -> Story {
    let mut story =
        Story::with_limit(None).samples(300, |i| Sample { written: at(1000, i), ..Sample::default() });
    for n in 0..2 {
        for (leg, length) in [(2u16, rests[n] * 10), (0, caches[n] + 400)] {
            let begin = story.end;
            story.readings.push(&Event::LegStarted { at: begin, leg });
            let (cache, fill) = (caches[n], fills[n]);
            story = story.samples(length, move |i| match leg {
                2 => Sample { leg, ..Sample::default() },
                _ => Sample {
                    written: at(if i < cache { 2000 } else { 500 }, i),
                    fill_ppm: Some(fill),
                    ..Sample::default()
                },
            });
        }
    }
    story
}

#[test]
fn a_fuller_drive_is_slower_when_nothing_else_differs() {
    let told = |rests, fills, caches| {
        let found = at_two_levels(rests, fills, caches).found();
        found.iter().filter(|f| f.kind == FillSlowdown).count()
    };
    let (rests, fills) = ([300, 300], [200_000, 600_000]);
    for (second, want) in [(200, 1), (330, 1), (380, 0), (400, 0)] {
        assert_eq!(told(rests, fills, [400, second]), want, "a cache of {second} after one of 400");
    }
    for (fill, want) in [(600_000, 1), (260_000, 1), (230_000, 0), (200_000, 0)] {
        assert_eq!(told(rests, [200_000, fill], [400, 200]), want, "{fill} ppm full after 200,000");
    }
    for (rest, want) in [(300, 1), (320, 1), (200, 0), (900, 0)] {
        assert_eq!(told([300, rest], fills, [400, 200]), want, "{rest} s of rest after 300 s");
    }
    assert_eq!(told([20, 20], fills, [400, 200]), 0, "rests below a minute tell nothing");
}

#[test]
fn a_controllers_plateau_needs_the_limit() {
    let story = |stands_at: f64| {
        let mut s = Story::with_limit(Some(80.0)).write(60, 2000.0, 50.0, stands_at);
        for i in 1..=20 {
            s = s.write(2, 2000.0 - 40.0 * f64::from(i), stands_at, stands_at);
        }
        s.write(120, 1200.0, stands_at, stands_at)
    };
    assert_eq!(kinds(&story(80.0).found()), [Throttle]);
    assert!(!kinds(&story(62.0).found()).contains(&Throttle), "18 K below it heat does nothing");
}

#[test]
fn a_counter_that_moved_decides_at_any_temperature() {
    let story = |(counts, top): ([u64; 2], f64)| {
        Story::with_limit(Some(80.0))
            .counted(3)
            .write(60, 2000.0, 50.0, top)
            .counted(counts[0])
            .write(8, 900.0, top, top)
            .counted(counts[1])
            .write(40, 900.0, top, top - 1.0)
    };
    check(
        "counts and temperature",
        &[
            (([3, 4], 80.0), &[Throttle]),
            (([3, 4], 66.0), &[Throttle]),
            (([3, 3], 80.0), &[CacheEnd]),
            (([3, 3], 66.0), &[CacheEnd]),
        ],
        story,
    );
}

#[test]
fn places_lie_where_the_rate_fell() {
    for seconds in [40u32, 75, 130] {
        let found = Story::with_limit(Some(85.0))
            .write(seconds, 2000.0, 40.0, 50.0)
            .write(120, 700.0, 50.0, 45.0)
            .found();
        let (end, true_bytes) = (&found[0], f64::from(seconds) * 2e9);
        assert!((end.elapsed.as_secs_f64() - f64::from(seconds)).abs() < 0.2, "{end:#?}");
        assert!((end.written.as_f64() / true_bytes - 1.0).abs() < 0.01, "{end:#?}");
        assert!(end.written_low <= end.written && end.written <= end.written_high);
        assert!(end.written_high.saturating_sub(end.written_low) < Bytes::from_gb(2), "{end:#?}");
    }
}

#[test]
fn where_the_rate_swings_the_sample_of_an_end_may_have_held_either_end_of_its_swings() {
    // The cache ends 30 ms into a sample, at the upper end of swings that are at their lower one from the next sample on.
    let (end, sample) = (25.03, 250);
    let made = |t: f64| match t {
        ..25.03 => (979.0, Some(40.0)),
        ..25.1 => (430.0, Some(40.0)),
        _ if (t - 25.1) % 2.4 < 1.8 => (292.0, Some(40.0)),
        _ => (430.0, Some(40.0)),
    };
    let story = record(Some(80.0), 120.0, 0.1, 0.005, made);
    let written = story.readings.series().written_before(sample) as f64 + (end - 25.0) * 979e6;
    let found = story.found();
    let [told] = &found[..] else { panic!("{found:#?}") };
    let held = told.written_low.as_f64()..=told.written_high.as_f64();
    assert!(held.contains(&written), "{held:?} {written}");
    assert!(
        told.written_high.as_f64() - told.written_low.as_f64() < 30e6,
        "within a third of the sample: {held:?}"
    );
}
