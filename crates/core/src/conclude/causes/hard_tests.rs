//! Heat, clocks and caches where they are hardest to tell apart: each story beside the one that differs in what decides.

use super::tests::{Story, kinds};
use crate::quantity::FindingKind::{self, CacheEnd, Throttle, Unexplained};
use crate::quantity::units::{Bytes, Celsius};
use crate::record::Sample;

/// A drive that warms by the first-order model and is told ten times a second; what it does about heat is up to `rate`, which is given
/// its temperature and the time.
fn warmed(
    limit: Option<f64>,
    seconds: u32,
    step: f64,
    lag_s: f64,
    mut rate: impl FnMut(f64, f64) -> f64,
) -> Story {
    let (idle, rise, tau) = (35.0, 60.0, 40.0);
    let (mut degrees, mut felt) = (idle, idle);
    let mut samples = Vec::new();
    for i in 0..seconds * 10 {
        let t = f64::from(i) / 10.0;
        let mb_s = rate(degrees, t);
        let goal = idle + rise * mb_s / 3000.0;
        degrees = goal + (degrees - goal) * f64::exp(-0.1 / tau);
        felt = if lag_s > 0.0 { degrees + (felt - degrees) * f64::exp(-0.1 / lag_s) } else { degrees };
        let wobble = 1.0 + f64::from(i * 7 % 5) / 200.0 - 0.01;
        samples.push((mb_s * wobble, (felt / step).round() * step));
    }
    let n = samples.len() as u64;
    Story::with_limit(limit).samples(n, move |i| Sample {
        written: Bytes::new((samples[i as usize].0 * 1e5) as u64),
        temperature: Some(Celsius::new(samples[i as usize].1)),
        ..Sample::default()
    })
}

/// Down to `low` at `on`, back at `off`.
fn hysteresis(on: f64, off: f64, low: f64) -> impl FnMut(f64, f64) -> f64 {
    let mut held = false;
    move |degrees, _| {
        held = if held { degrees > off } else { degrees >= on };
        if held { low } else { 3000.0 }
    }
}

fn found(story: Story) -> Vec<FindingKind> {
    kinds(&story.found())
}

#[test]
fn a_sensor_in_steps_of_five_kelvin_is_allowed_half_of_one() {
    // It falls at 82 °C, which reads as 80, with a limit of 82; and at 68, which reads as 70.
    assert_eq!(found(warmed(Some(82.0), 400, 5.0, 0.0, hysteresis(82.0, 74.0, 1200.0))), [Throttle]);
    let ends = |_: f64, t: f64| if t < 38.0 { 3000.0 } else { 1200.0 };
    assert_eq!(found(warmed(Some(82.0), 400, 5.0, 0.0, ends)), [CacheEnd]);
}

#[test]
fn a_sensor_that_follows_late_tells_by_what_it_shows_each_time() {
    assert_eq!(found(warmed(Some(82.0), 500, 1.0, 8.0, hysteresis(82.0, 74.0, 1200.0))), [Throttle]);
    assert_eq!(found(warmed(None, 500, 1.0, 8.0, hysteresis(82.0, 74.0, 1200.0))), [Throttle]);
}

#[test]
fn two_stages_are_one_throttling() {
    let (mut light, mut heavy) = (false, false);
    let stages = move |t: f64, _: f64| {
        light = if light { t > 70.0 } else { t >= 78.0 };
        heavy = if heavy { t > 78.0 } else { t >= 81.0 };
        if heavy {
            900.0
        } else if light {
            2500.0
        } else {
            3000.0
        }
    };
    assert_eq!(found(warmed(Some(78.0), 600, 0.5, 0.0, stages)), [Throttle]);
}

#[test]
fn falls_by_the_clock_are_not_heat_however_warm() {
    // Every 200 s for 20 s, on a drive that is warm for long when it falls.
    let clock = |_: f64, t: f64| if t % 200.0 > 180.0 { 1500.0 } else { 3000.0 };
    let story = found(warmed(None, 1400, 0.5, 0.0, clock));
    assert!(
        !story.contains(&Throttle) && !story.contains(&CacheEnd) && story.contains(&Unexplained),
        "{story:?}"
    );
}

#[test]
fn the_last_of_many_equal_falls_is_no_cache_end() {
    // Cool, with a limit far away: five falls that came back after 30 s, the sixth 10 s before the record ends.
    let falls = |_: f64, t: f64| 0.3 * if t % 100.0 > 70.0 { 1500.0 } else { 3000.0 };
    assert!(!found(warmed(Some(85.0), 580, 1.0, 0.0, falls)).contains(&CacheEnd));
    // One that lasts ten times as long is another thing.
    let ends = |_: f64, t: f64| {
        let down = t > 570.0 || t < 500.0 && t % 100.0 > 70.0;
        0.3 * if down { 1500.0 } else { 3000.0 }
    };
    assert!(found(warmed(Some(85.0), 900, 1.0, 0.0, ends)).contains(&CacheEnd));
}

#[test]
fn a_controller_at_a_limit_that_nobody_states_is_told_by_what_stands() {
    let mut integral = 0.0f64;
    let held = move |t: f64, _: f64| {
        integral = (integral + 0.1 * (t - 75.0) * 0.1 / 30.0).clamp(0.0, 0.9);
        3000.0 * (1.0 - integral - 0.1 * (t - 75.0)).clamp(0.1, 1.0)
    };
    assert_eq!(found(warmed(None, 500, 0.5, 0.0, held)), [Throttle]);
    // The same rates on a drive that hardly warms are a cache that gives way.
    let slope = |_: f64, t: f64| 0.3 * (3000.0 - 20.0 * (t - 60.0).clamp(0.0, 90.0));
    assert_eq!(found(warmed(None, 500, 0.5, 0.0, slope)), [CacheEnd]);
}

#[test]
fn an_end_that_takes_a_minute_has_its_slope_as_interval() {
    let slope = |_: f64, t: f64| 0.3 * (3000.0 - 30.0 * (t - 100.0).clamp(0.0, 60.0));
    let f = warmed(Some(85.0), 400, 1.0, 0.0, slope).found();
    assert_eq!(kinds(&f), [CacheEnd], "{f:#?}");
    let (took, at) = (f[0].transition.unwrap().as_secs_f64(), f[0].elapsed.as_secs_f64());
    assert!((45.0..70.0).contains(&took) && (at - 130.0).abs() < 4.0, "{took} {at}");
    // 90 GB up to its start, and 33 GB more to its end.
    assert!(
        (f[0].written_low.gb() - 90.0).abs() < 5.0 && (f[0].written_high.gb() - 127.8).abs() < 5.0,
        "{f:#?}"
    );
    assert!(f[0].evidence[0].starts_with("Gave way from 900"), "{f:#?}");
    let step = |_: f64, t: f64| 0.3 * if t < 130.0 { 3000.0 } else { 1200.0 };
    assert_eq!(warmed(Some(85.0), 400, 1.0, 0.0, step).found()[0].transition, None);
}

#[test]
fn a_rate_that_swings_is_one_level_and_its_end_is_one() {
    let swings = |_: f64, t: f64| 0.3 * if t % 3.0 < 1.5 { 3000.0 } else { 2000.0 };
    assert_eq!(found(warmed(Some(85.0), 300, 1.0, 0.0, swings)), []);
    let ends = |_: f64, t: f64| {
        0.3 * (if t % 3.0 < 1.5 { 3000.0 } else { 2000.0 }) * if t < 150.0 { 1.0 } else { 0.4 }
    };
    assert_eq!(found(warmed(Some(85.0), 300, 1.0, 0.0, ends)), [CacheEnd]);
}

#[test]
fn how_late_a_sensor_follows_is_seen_and_taken_off() {
    use super::Late;
    for (lag, step) in [(4.0, 1.0), (8.0, 1.0), (8.0, 0.1), (12.0, 2.0)] {
        let story = warmed(Some(82.0), 400, step, lag, hysteresis(82.0, 74.0, 1200.0));
        let late = Late::of(&story.readings.series).expect("a lag of seconds is seen");
        assert!((late.lag_s / lag - 1.0).abs() < 0.35, "{} s of {lag}", late.lag_s);
        // Where it fell the sensor was behind, and together they are at the limit.
        let series = &story.readings.series;
        let fell = (1..series.len()).find(|i| series.rate(*i) < 2e9).unwrap() - 1;
        let reckoned = series.degrees(fell).unwrap() + late.ahead(fell);
        assert!((reckoned - 82.0).abs() < 1.5 + step, "{reckoned} with {lag} s of lag in steps of {step}");
    }
    for step in [0.1, 1.0, 3.0] {
        let at_once = warmed(Some(82.0), 400, step, 0.0, hysteresis(82.0, 74.0, 1200.0));
        assert!(Late::of(&at_once.readings.series).is_none(), "in steps of {step}");
    }
}

#[test]
fn heat_gives_back_what_it_took_though_the_cache_ended_meanwhile() {
    let (mut held, low) = (false, 0.6);
    let both = move |degrees: f64, t: f64| {
        held = if held { degrees > 66.0 } else { degrees >= 75.0 };
        let level = if t < 58.0 { 3000.0 } else { 500.0 };
        if held { low * level } else { level }
    };
    let told = warmed(None, 300, 1.0, 0.0, both).found();
    assert_eq!(kinds(&told), [Throttle, CacheEnd], "{told:#?}");
    assert!(told[0].end_elapsed.is_some() && told[0].evidence[1].contains("came back"), "{told:#?}");
    // The same falls, and nothing comes back as it cools: two ends.
    let ends = |_: f64, t: f64| match t {
        ..=44.0 => 3000.0,
        ..=58.0 => 1800.0,
        _ => 300.0,
    };
    assert!(!found(warmed(None, 300, 1.0, 0.0, ends)).contains(&Throttle));
}

#[test]
fn what_comes_up_for_a_moment_and_goes_down_again_is_no_end() {
    let cool = |s: Story, seconds, mb_s| s.write(seconds, mb_s, 45.0, 46.0);
    let s = cool(cool(Story::with_limit(Some(85.0)), 60, 2000.0), 60, 500.0);
    let told = cool(cool(s, 4, 800.0), 60, 500.0).found();
    let ends = told.iter().filter(|f| f.kind == CacheEnd).count();
    assert_eq!((ends, told[0].kind), (1, CacheEnd), "{told:#?}");
}

#[test]
fn below_its_limit_and_as_warm_from_then_on_it_may_be_another_sensor() {
    let fall = |to: f64| {
        let s = Story::with_limit(Some(80.0)).write(90, 2000.0, 45.0, 72.0);
        s.write(120, 1000.0, 72.0, to).found()
    };
    let open = fall(71.0);
    assert_eq!(kinds(&open), [Unexplained], "{open:#?}");
    assert_eq!(open[0].may_be.len(), 2);
    assert_eq!(kinds(&fall(62.0)), [CacheEnd]);
    // Too far below it.
    let cool = Story::with_limit(Some(90.0)).write(90, 2000.0, 45.0, 70.0).write(120, 1000.0, 70.0, 70.0);
    assert_eq!(kinds(&cool.found()), [CacheEnd]);
}

#[test]
fn of_two_falls_the_first_is_no_heat_when_it_had_cooled_after_the_second() {
    let first = |to: f64| {
        let s = Story::with_limit(None).write(90, 2000.0, 45.0, 72.0).write(60, 1000.0, 72.0, 68.0);
        kinds(&s.write(120, 200.0, 68.0, to).found())
    };
    assert_eq!(first(50.0), [CacheEnd, CacheEnd]);
    assert_eq!(first(67.0)[0], Unexplained);
}
