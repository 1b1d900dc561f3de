//! Falls that heat may have made though no limit was reached, and ends that heat is said to hide: what speaks for either.

use super::eye_tests::record;
use super::tests::{Story, kinds};
use crate::quantity::FindingKind::{CacheEnd, Throttle, Unexplained};

#[test]
fn what_stopped_warming_as_it_fell_may_be_heat_though_it_cooled_once_it_fell_further() {
    // The second fall lets it cool, whatever held it before.
    let two = |from: f64, to: f64| {
        let s = Story::with_limit(None).write(40, 2000.0, 45.0, from).write(12, 2000.0, from, to);
        s.write(40, 1300.0, to, to - 0.5).write(120, 300.0, to - 0.5, 50.0)
    };
    let steep = two(70.0, 80.0).found();
    assert_eq!(kinds(&steep), [Unexplained, CacheEnd], "{steep:#?}");
    assert!(steep[0].may_be.iter().any(|c| c.kind == CacheEnd) && steep[0].may_be.len() == 2);
    // Near its balance, it stands whatever happens.
    assert_eq!(kinds(&two(79.0, 80.0).found()), [CacheEnd, CacheEnd]);
}

#[test]
fn a_sensor_that_goes_on_warming_past_the_limit_is_not_the_one_that_the_limit_is_of() {
    let fall = |limit, began: f64, to: f64| {
        let made = |t: f64| match t {
            ..20.0 => (850.0, Some((began + (66.0 - began) * t / 20.0).round())),
            _ => (620.0, Some((to - (to - 66.0) * f64::exp((20.0 - t) / 35.0)).round())),
        };
        kinds(&record(limit, 400.0, 1.0, 0.01, made).found())
    };
    assert_eq!(fall(Some(80.0), 40.0, 96.0), [Unexplained]);
    assert_eq!(fall(None, 26.0, 110.0), [Unexplained]);
    // So far below its limit it was none.
    assert_eq!(fall(Some(95.0), 40.0, 80.0), [CacheEnd]);
}

#[test]
fn near_its_balance_a_drive_that_cools_once_it_does_less_met_no_limit() {
    let fall = |from: f64, to: f64| {
        let s = Story::with_limit(Some(80.0)).write(60, 2000.0, 45.0, from).write(40, 2000.0, from, 70.0);
        kinds(&s.write(200, 1000.0, 70.0, to).found())
    };
    assert_eq!(fall(69.0, 66.0), [CacheEnd]);
    assert_eq!(fall(60.0, 66.0), [Unexplained], "it warmed by ten kelvin until it fell");
    assert_eq!(fall(69.0, 70.0), [Unexplained], "something may hold it there");
}

#[test]
fn one_fall_of_heat_hides_no_end() {
    // Heat takes two thirds and gives them back long after the cache ended; a sensor well below the limit saw it.
    let s = Story::with_limit(Some(83.0)).write(40, 1640.0, 45.0, 65.0).write(9, 1640.0, 65.0, 72.0);
    let s = s.write(197, 500.0, 72.0, 65.0).write(12, 54.0, 65.0, 63.0).write(240, 178.0, 63.0, 58.0);
    let found = s.found();
    assert_eq!(kinds(&found), [Throttle, CacheEnd], "{found:#?}");
    assert!((found[1].written.gb() - 178.9).abs() < 1.0, "{found:#?}");
}

#[test]
fn samples_that_mix_what_is_held_with_what_is_free_are_no_level() {
    // Held from 157 s to 567 s, free for 38 s, held once more as the cache ends at 622 s; in samples of 20 s, wherever they begin.
    for off in 0..20 {
        let made = |t: f64| {
            let t = t - f64::from(off);
            let rate = match t {
                ..157.0 => 448.0,
                ..567.0 => 229.0,
                ..605.0 => 448.0,
                ..622.0 => 229.0,
                ..660.0 => 60.0,
                _ => 116.0,
            };
            let degrees = match t {
                ..157.0 => 45.0 + 39.0 * t / 157.0,
                ..567.0 => 84.0 - 8.0 * (t - 157.0) / 410.0,
                ..605.0 => 76.0 + 8.0 * (t - 567.0) / 38.0,
                _ => 50.0 + 34.0 * f64::exp((605.0 - t) / 165.0),
            };
            (rate, Some(degrees.round()))
        };
        let found = record(Some(84.0), 1700.0, 20.0, 0.01, made).found();
        let early = found.iter().filter(|f| f.kind == CacheEnd).find(|f| f.written.gb() < 150.0);
        assert!(early.is_none() && found.iter().any(|f| f.kind == CacheEnd), "{off} s: {found:#?}");
    }
}

#[test]
fn falls_of_which_the_first_was_cooler_and_as_soon_go_by_the_clock() {
    // A drive that comes near its balance between two chores: from the second on each falls at the same temperature.
    let chores = |limit| {
        let (mut degrees, tau) = (30.0f64, 25.0);
        let mut told = Vec::new();
        for second in 0..500 {
            let busy = (second + 20) % 50 < 14;
            let rate = if busy { 460.0 } else { 836.0 };
            let goal = if busy { 52.0 } else { 70.0 };
            degrees = goal + (degrees - goal) * f64::exp(-1.0 / tau);
            told.push((rate, degrees.round()));
        }
        kinds(
            &record(limit, 500.0, 1.0, 0.01, move |t| {
                let (rate, degrees) = told[(t as usize).min(499)];
                (rate, Some(degrees))
            })
            .found(),
        )
    };
    for limit in [None, Some(68.0)] {
        let found = chores(limit);
        assert!(!found.contains(&Throttle) && found.contains(&Unexplained), "{limit:?}: {found:?}");
    }
}

#[test]
fn what_a_later_fall_took_is_not_given_back_by_an_earlier_one() {
    // The cache ends twice while it warms up; later a slow stretch halves what is left, and ends.
    let s = Story::with_limit(None).write(114, 1119.0, 40.0, 72.0).write(7, 520.0, 72.0, 74.0);
    let s = s.write(58, 39.0, 74.0, 60.0).write(50, 19.0, 60.0, 55.0).write(100, 39.0, 55.0, 50.0);
    let found = s.found();
    assert!(!kinds(&found).contains(&Throttle), "{found:#?}");
    assert!(
        kinds(&found).starts_with(&[Unexplained]) || kinds(&found).starts_with(&[CacheEnd]),
        "{found:#?}"
    );
}

#[test]
fn a_drive_at_its_limit_is_not_held_there_by_what_one_fall_took() {
    let s = Story::with_limit(Some(80.0)).write(100, 888.0, 50.0, 78.5).write(20, 888.0, 79.0, 80.0);
    let found = s.write(40, 422.0, 80.0, 79.0).write(200, 422.0, 79.0, 60.0).found();
    assert_eq!(kinds(&found), [CacheEnd], "{found:#?}");
}

#[test]
fn a_controller_with_a_coarse_sensor_in_long_samples_is_no_end_of_a_cache() {
    // From 411 s on it holds 68 °C, told in steps of 5 K every 5 s, and takes a fifth of the speed over four minutes.
    let made = |t: f64| {
        let degrees = (68.0 - 38.0 * f64::exp(-t / 130.0)).min(68.0);
        let held = (1.0 - f64::exp(-(t - 411.0).max(0.0) / 120.0)) * 0.2;
        (1835.0 * (1.0 - held), Some((degrees / 5.0).round() * 5.0))
    };
    let found = record(Some(68.0), 2900.0, 5.0, 0.02, made).found();
    assert!(!kinds(&found).contains(&CacheEnd) && !found.is_empty(), "{found:#?}");
}

#[test]
fn what_was_as_slow_before_the_heat_did_not_end_in_it() {
    // The rate goes up and down by itself, and is at its highest as the drive first comes to its limit.
    let mut s = Story::with_limit(Some(82.0));
    for i in 0..4 {
        let warm = 50.0 + 7.0 * f64::from(i);
        s = s.write(25, 430.0, warm, warm + 4.0).write(25, 472.0, warm + 4.0, warm + 7.0);
    }
    s = s.write(25, 528.0, 78.0, 82.0);
    for _ in 0..3 {
        s = s.write(60, 300.0, 82.0, 77.0).write(40, 440.0, 77.0, 82.0);
    }
    let found = s.write(60, 300.0, 82.0, 77.0).found();
    assert!(kinds(&found).contains(&Throttle) && !kinds(&found).contains(&CacheEnd), "{found:#?}");
}
