//! What nobody who looks at the curve overlooks: each was missed, or told as something else, in records of a generator that the analysis had
//! never seen.

use std::time::Duration;

use super::tests::{Story, kinds};
use crate::quantity::FindingKind::{self, Background, CacheEnd, Throttle, Unexplained};
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{Event, Sample};

/// Samples of so many seconds, with the mean rate in MB/s and a temperature of each from its time; the noise is even, and a little of it
/// remembers.
pub(super) fn record(
    limit: Option<f64>,
    seconds: f64,
    each_s: f64,
    noise: f64,
    made: impl Fn(f64) -> (f64, Option<f64>),
) -> Story {
    let (mut seed, mut kept) = (7u64, 0.0);
    let mut story = Story::with_limit(limit);
    for i in 0..(seconds / each_s) as u64 {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        kept = 0.5 * kept + (seed >> 40) as f64 / f64::from(1 << 24) - 0.5;
        // A sample is the mean of twenty moments.
        let moments = (0..20).map(|k| made((i as f64 + f64::from(k) / 20.0) * each_s));
        let (sum, last) = moments.fold((0.0, None), |(sum, _), (r, t)| (sum + r, t));
        let span = Duration::from_secs_f64(each_s);
        story.end += span;
        story.readings.push(&Event::Sample(Sample {
            end: story.end,
            span,
            written: Bytes::new((sum / 20.0 * (1.0 + noise * kept) * 1e6 * each_s) as u64),
            temperature: last.map(Celsius::new),
            ..Sample::default()
        }));
    }
    story
}

/// Far from any limit, and alive.
fn cool(t: f64) -> Option<f64> {
    Some(38.0 + (t / 50.0).floor() % 2.0)
}

fn found(story: Story) -> Vec<FindingKind> {
    kinds(&story.found())
}

/// Heat that comes late and then goes in and out, told in whole degrees by a sensor that hardly follows: the first time after `from`, then
/// every `every` seconds for half of that.
fn cycles(t: f64, from: f64, every: f64) -> bool {
    t >= from && (t - from) % every < 0.5 * every
}

#[test]
fn a_slope_that_begins_with_the_write_is_no_cache_end() {
    // Down to three fifths over five minutes, then even; and over half a minute in samples of two seconds.
    for (over, each_s) in [(300.0, 0.5), (30.0, 2.0)] {
        let slope = |t: f64| (2000.0 * (1.0 - 0.4 * (t / over).min(1.0)), cool(t));
        assert_eq!(found(record(Some(85.0), 900.0, each_s, 0.02, slope)), [], "{over} s");
    }
    // A level before it makes it one.
    let end = |t: f64| (2000.0 * (1.0 - 0.4 * ((t - 100.0) / 100.0).clamp(0.0, 1.0)), cool(t));
    assert_eq!(found(record(Some(85.0), 900.0, 0.5, 0.02, end)), [CacheEnd]);
}

/// A rate that goes from level to level over slopes: MB/s, and for each slope when it begins, how long it takes, and where it leads.
fn levels(first: f64, slopes: &[(f64, f64, f64)], t: f64) -> f64 {
    let part = |s: &(f64, f64, f64)| ((t - s.0) / s.1).clamp(0.0, 1.0);
    slopes.iter().fold(first, |rate, s| if part(s) > 0.0 { rate + part(s) * (s.2 - rate) } else { rate })
}

#[test]
fn two_slopes_with_a_level_between_them_are_two_ends_and_one_is_one() {
    // When each begins, how long it takes, where it leads; the interval; the length of the record. Each was nothing, or one for two, or two for one.
    type Slopes<'a> = &'a [(f64, f64, f64)];
    let cases: [(f64, Slopes<'_>, f64, f64); 6] = [
        (1008.0, &[(74.0, 39.0, 560.0), (328.0, 100.0, 117.0)], 0.5, 1061.0),
        (1508.0, &[(319.0, 19.0, 1131.0), (400.0, 2.2, 848.0)], 0.2, 478.0),
        (7555.0, &[(37.0, 79.0, 5063.0), (161.0, 1.8, 3798.0)], 1.0, 365.0),
        (3403.0, &[(36.0, 33.0, 1535.0), (151.0, 37.0, 417.0)], 1.0, 332.0),
        // One, over minutes, and one of three seconds in eighteen minutes.
        (1667.0, &[(136.0, 205.0, 313.0)], 0.2, 642.0),
        (4805.0, &[(450.0, 3.5, 328.0)], 0.1, 1065.0),
    ];
    for (first, slopes, each_s, seconds) in cases {
        let story = record(Some(85.0), seconds, each_s, 0.012, |t| (levels(first, slopes, t), cool(t)));
        let told = story.found();
        assert_eq!(kinds(&told), vec![CacheEnd; slopes.len()], "{first}: {told:#?}");
        for (f, s) in told.iter().zip(slopes) {
            let (at, middle) = (f.elapsed.as_secs_f64(), s.0 + 0.5 * s.1);
            assert!((at - middle).abs() < (0.05 * s.1).max(1.5 * each_s), "{at} for {middle}: {f:#?}");
            let (before, after) = (f.before.unwrap().mb_s(), f.after.unwrap().mb_s());
            assert!((after / s.2 - 1.0).abs() < 0.02, "{before} to {after}: {f:#?}");
        }
    }
}

#[test]
fn a_step_within_a_sample_is_placed_as_well_as_the_noise_allows() {
    // After 35 hundredths of a sample that lasts a second; of a rate that swings from then on, after 60 of one that lasts a fifth.
    let calm = |t: f64| (if t < 100.349 { 2000.0 } else { 800.0 }, cool(t));
    let swings = |t: f64| {
        let low = (t - 100.119) % 4.0 < 2.0;
        let past = if low { 700.0 } else { 1400.0 };
        (if t < 100.119 { 6000.0 } else { past }, cool(t))
    };
    let stories = [record(Some(85.0), 300.0, 1.0, 0.004, calm), record(Some(85.0), 300.0, 0.2, 0.02, swings)];
    // The sample, its share before, what it would have moved, and the widest interval in parts of that.
    for (story, (sample, share, whole_gb, widest)) in
        stories.into_iter().zip([(100, 0.35, 2.0, 0.05), (500, 0.6, 1.2, 1.0)])
    {
        let truth = story.readings.series().written_before(sample) as f64 / 1e9 + share * whole_gb;
        let told = story.found();
        assert_eq!(kinds(&told), [CacheEnd], "{told:#?}");
        let (low, high) = (told[0].written_low.gb(), told[0].written_high.gb());
        assert!(low <= truth && truth <= high, "{truth} in {low} to {high}");
        assert!(high - low < widest * whole_gb, "{low} to {high}");
    }
}

#[test]
fn a_step_at_the_end_of_a_level_that_sloped_before_is_a_step() {
    // Even, down to two fifths over three minutes, even for two, and to a twelfth of that.
    let ends = |t: f64| {
        let slope = 6870.0 - (6870.0 - 2517.0) * ((t - 93.0) / 188.0).clamp(0.0, 1.0);
        (if t < 406.0 { slope } else { 208.0 }, cool(t))
    };
    let told = record(Some(75.0), 595.0, 1.0, 0.012, ends).found();
    assert_eq!(kinds(&told), [CacheEnd, CacheEnd], "{told:#?}");
    assert!((told[1].elapsed.as_secs_f64() - 406.0).abs() < 2.0, "{told:#?}");
}

#[test]
fn a_step_is_one_whatever_slopes_behind_it() {
    // The cache ends at once, and what follows wears down over minutes: soon after it, and for the rest of the record.
    for (step, floor, over, noise) in
        [(1850.0, 840.0, 150.0, 0.01), (1225.0, 900.0, 400.0, 0.02), (2000.0, 700.0, 60.0, 0.005)]
    {
        let made = |t: f64| {
            let worn = floor + (step - floor) * (-((t - 45.0).max(0.0)) / over).exp();
            (if t < 45.0 { 3100.0 } else { worn }, cool(t))
        };
        let told = record(Some(85.0), 1250.0, 0.5, noise, made).found();
        assert_eq!(kinds(&told), [CacheEnd], "{step} to {floor} MB/s: {told:#?}");
        assert!((told[0].elapsed.as_secs_f64() - 45.0).abs() < 1.0, "{told:#?}");
    }
}

#[test]
fn a_level_that_noise_cuts_before_swings_ends_where_they_begin() {
    // A little slower for some seconds, within the band of the swings that follow.
    let made = |t: f64| {
        let fast = (t - 60.0).rem_euclid(6.0) > 3.4;
        let level = if t < 55.4 { 1800.0 } else { 1772.0 };
        (
            if t < 60.0 {
                level
            } else if fast {
                1520.0
            } else {
                866.0
            },
            cool(t),
        )
    };
    let told = record(Some(85.0), 600.0, 0.2, 0.004, made).found();
    assert!((told[0].elapsed.as_secs_f64() - 60.0).abs() < 0.5, "{told:#?}");
    assert!(
        told.iter().all(|f| f.kind != CacheEnd || (f.elapsed.as_secs_f64() - 60.0).abs() < 0.5),
        "{told:#?}"
    );
}

#[test]
fn a_heavy_drive_that_begins_to_cool_when_its_rate_is_long_down_is_not_held_by_heat() {
    // It warms by its rate, with a time constant of 132 s, and gives way over 36 s.
    let rate = |t: f64| 7136.0 - (7136.0 - 2045.0) * ((t - 210.0) / 36.0).clamp(0.0, 1.0);
    let mut degrees = vec![46.0];
    for i in 0..1700 {
        let now = degrees[i];
        degrees.push(now + 0.5 / 132.0 * (43.0 + 26.0 * rate(0.5 * i as f64) / 7136.0 - now));
    }
    let warm = |t: f64| (rate(t), degrees.get((2.0 * t) as usize).map(|d| (10.0 * d).round() / 10.0));
    let told = record(None, 840.0, 0.5, 0.05, warm).found();
    assert!(!kinds(&told).contains(&Throttle), "{told:#?}");
}

#[test]
fn narrow_cycles_of_heat_are_told_in_whole_degrees() {
    let degrees = |t: f64| (40.0 + 37.0 * (1.0 - (-t / 30.0).exp()) / (1.0 - f64::exp(-3.5))).min(77.0);
    let heat = |t: f64| {
        let low = cycles(t, 105.0, 10.0);
        // One stall while it is cold.
        let rate = if (30.0..30.4).contains(&t) { 200.0 } else { 5000.0 };
        // It reads a degree less at the end of the fall and until it is warm again.
        let cooler = t >= 105.0 && (4.0..8.0).contains(&((t - 105.0) % 10.0));
        (if low { 3250.0 } else { rate }, Some((degrees(t) - if cooler { 1.0 } else { 0.0 }).round()))
    };
    assert_eq!(found(record(None, 600.0, 0.1, 0.05, heat)), [Throttle]);
    // The sensor shows nothing of the cycles, and stands from the first on.
    let late = |t: f64| (if cycles(t, 105.0, 10.0) { 1500.0 } else { 5000.0 }, Some(degrees(t).round()));
    assert_eq!(found(record(None, 600.0, 0.1, 0.05, late)), [Throttle]);
    // The same clock from the beginning, while the drive still warms.
    let clock = |t: f64| (if cycles(t, 5.0, 10.0) { 3250.0 } else { 5000.0 }, Some(degrees(t).round()));
    let told = record(None, 600.0, 0.1, 0.05, clock).found();
    assert!(!kinds(&told).contains(&Throttle), "{told:#?}");
}

#[test]
fn a_few_short_falls_at_a_stated_limit_in_a_long_record_are_heat() {
    // It comes to 78 °C after ten minutes, falls for a few seconds now and then, and gets a fan: two falls, and four.
    for (falls, each_s, lasts) in [(4, 0.5, 3.5), (2, 1.0, 7.0)] {
        let (mut degrees, mut held, mut done, mut states) = (40.0, false, 0, Vec::new());
        for i in 0..26_000 {
            let t = f64::from(i) / 20.0;
            let was = held;
            held = if held { degrees > 78.0 - lasts } else { done < falls && degrees >= 78.0 };
            done += usize::from(was && !held);
            let warmer = if done == falls && !held {
                50.0
            } else {
                78.0 + 4.0 * (1.0 - (-t / 120.0).exp()) - 34.0 * (-t / 200.0).exp()
            };
            degrees = if held { degrees - 1.0 / 20.0 } else { degrees + (warmer - degrees) / 8.0 / 20.0 };
            states.push((if held { 2200.0 } else { 4530.0 }, (degrees * 10.0).round() / 10.0));
        }
        let made = |t: f64| {
            let (rate, degrees) = states[((t * 20.0) as usize).min(states.len() - 1)];
            (rate, Some(degrees))
        };
        let told = record(Some(78.0), 1300.0, each_s, 0.01, made).found();
        assert_eq!(kinds(&told), [Throttle], "{falls} falls: {told:#?}");
    }
}

#[test]
fn a_level_that_swings_ends_where_it_ends() {
    // 3 % up and down every three seconds, and a fall to a thirtieth.
    let swings = |t: f64| 1.0 + 0.03 * (std::f64::consts::TAU * t / 3.1).sin();
    let ends = |t: f64| (if t < 23.0 { 6800.0 } else { 219.0 } * swings(t), cool(t));
    let told = record(Some(70.0), 460.0, 0.1, 0.01, ends).found();
    assert_eq!(kinds(&told), [CacheEnd], "{told:#?}");
    assert!((told[0].elapsed.as_secs_f64() - 23.0).abs() < 0.5, "{told:#?}");
    // Slow swings, which the segmenter cuts at their turns.
    let slow = |t: f64| 1.0 + 0.1 * (std::f64::consts::TAU * t / 19.0).sin();
    let ends = |t: f64| (if t < 113.7 { 475.0 } else { 167.0 } * slow(t), cool(t));
    let told = record(Some(70.0), 700.0, 0.25, 0.01, ends).found();
    assert_eq!(kinds(&told), [CacheEnd], "{told:#?}");
    assert!((told[0].elapsed.as_secs_f64() - 113.7).abs() < 2.0, "{told:#?}");
    // One swing and a half before the fall: the noise remembers for longer than that, and still everybody sees it.
    let ends = |t: f64| (if t < 30.0 { 4900.0 } else { 2450.0 } * slow(t), cool(t));
    assert_eq!(found(record(Some(70.0), 480.0, 2.0, 0.02, ends)), [CacheEnd]);
}

#[test]
fn a_rate_that_swings_on_after_a_standstill_did_not_rise() {
    // High for four fifths of the time, low for the rest, no two swings as long as each other; still for half a second at 17 s, and now and then.
    for (period, share) in [(1.1, 0.67), (4.7, 0.83)] {
        let swings = move |t: f64| {
            let k = (t / period).floor();
            let here = share * (1.0 + 0.2 * (k * 2.4).sin());
            let rate = if t - k * period < here * period { 475.0 } else { 221.0 };
            (if (17.0..17.5).contains(&(t % 77.0)) { 0.5 } else { rate }, cool(t))
        };
        let told = record(None, 330.0, 0.1, 0.01, swings).found();
        assert!(!kinds(&told).contains(&Unexplained), "{period} s: {told:#?}");
    }
}

#[test]
fn what_is_fast_half_of_the_time_did_not_stay_down() {
    // Two slow swings in three from the middle on, and one in three before.
    let swings = |t: f64| {
        let share = if t < 300.0 { 0.42 } else { 0.58 };
        (if t > 100.0 && t % 13.0 < 13.0 * share { 720.0 } else { 1880.0 }, cool(t))
    };
    assert!(!found(record(Some(85.0), 640.0, 1.0, 0.04, swings)).contains(&CacheEnd));
}

#[test]
fn dips_that_begin_late_may_be_heat_where_no_thermometer_tells() {
    let dips = |from: f64, every: f64| {
        let made = move |t: f64| (if t >= from && (t - from) % every < 5.0 { 450.0 } else { 1740.0 }, None);
        record(None, 950.0, 2.0, 0.01, made).found()
    };
    let late = dips(212.0, 14.0);
    assert_eq!(kinds(&late), [Unexplained], "{late:#?}");
    let causes: Vec<FindingKind> = late[0].may_be.iter().map(|c| c.kind).collect();
    assert_eq!(causes, [Throttle, Background]);
    assert_eq!(kinds(&dips(20.0, 20.0)), [Background]);
}

#[test]
fn dips_that_a_sensor_is_read_less_often_than_may_be_heat() {
    // Every nine seconds from 141 s on, at about 69 °C; the sensor is read every ten seconds, somewhere in the cycle.
    let dips = |limit, top: f64| {
        let made = move |t: f64| {
            let in_turn = (t - 141.0).rem_euclid(9.3);
            let read = (t / 10.0).floor() * 10.0;
            let then = (read - 141.0).rem_euclid(9.3);
            let degrees = if read < 141.0 {
                top - 40.0 * (-read / 45.0).exp()
            } else if then < 3.0 {
                top - 1.5 * then
            } else {
                top - 4.5 + 4.5 * (then - 3.0) / 6.3
            };
            (if t >= 141.0 && in_turn < 3.0 { 212.0 } else { 525.0 }, Some(degrees.round()))
        };
        record(limit, 1200.0, 1.0, 0.01, made).found()
    };
    let warm = dips(None, 69.0);
    assert_eq!(kinds(&warm), [Unexplained], "{warm:#?}");
    assert_eq!(kinds(&dips(None, 49.0)), [Background]);
    // At the limit that is stated it may be heat, too; far below it is none.
    let limited = dips(Some(70.0), 69.0);
    assert_eq!(kinds(&limited), [Unexplained], "{limited:#?}");
    assert!(limited[0].evidence.iter().all(|e| !e.starts_with("Not heat")), "{limited:#?}");
    assert_eq!(kinds(&dips(Some(92.0), 69.0)), [Background]);
}

#[test]
fn of_long_samples_a_few_are_a_fall() {
    // Thirty seconds at half the rate, three times, at 72 °C and cooler by the end, in samples of five seconds.
    let held = |t: f64| [400.0, 530.0, 660.0].into_iter().find(|at| (*at..*at + 30.0).contains(&t));
    let made = |t: f64| {
        let warm = 40.0 + 32.0 * (t / 380.0).min(1.0);
        let before = [430.0, 560.0, 690.0].into_iter().rev().find(|at| t >= *at);
        let degrees = match (held(t), before) {
            (Some(at), _) => 72.0 - (t - at) / 10.0,
            (None, Some(over)) => (69.0 + (t - over) / 30.0).min(72.0),
            _ => warm,
        };
        (if held(t).is_some() { 670.0 } else { 1260.0 }, Some(degrees.round()))
    };
    assert_eq!(found(record(None, 800.0, 5.0, 0.01, made)), [Throttle]);
    // One sample alone is none, however long.
    let stall = |t: f64| (if (400.0..405.0).contains(&t) { 670.0 } else { 1260.0 }, cool(t));
    assert_eq!(found(record(None, 800.0, 5.0, 0.01, stall)), []);
}

#[test]
fn two_slopes_with_a_level_between_them_are_two_ends() {
    let two = |t: f64| {
        let first = ((t - 10.8) / 17.0).clamp(0.0, 1.0);
        let second = ((t - 76.0) / 17.0).clamp(0.0, 1.0);
        (6571.0 - first * 2284.0 - second * 2631.0, cool(t))
    };
    assert_eq!(found(record(Some(85.0), 490.0, 0.1, 0.03, two)), [CacheEnd, CacheEnd]);
    // With five samples before the first.
    let few = |t: f64| {
        let first = ((t - 48.0) / 29.0).clamp(0.0, 1.0);
        let second = ((t - 152.0) / 29.0).clamp(0.0, 1.0);
        (2977.0 - first * 1754.0 - second * 844.0, cool(t))
    };
    let told = record(Some(67.0), 2000.0, 10.0, 0.005, few).found();
    assert_eq!(kinds(&told), [CacheEnd, CacheEnd], "{told:#?}");
}

#[test]
fn an_end_within_heat_is_none_where_the_speed_is_back_later() {
    // A drive that swings by a tenth and throttles: where heat lets go it is now at the top of a swing, now at the bottom.
    let mut held = false;
    let mut degrees = 35.0;
    let mut states = Vec::new();
    for i in 0..9000 {
        let t = f64::from(i) / 10.0;
        held = if held { degrees > 63.0 } else { degrees >= 70.8 };
        let rate =
            if held { 1000.0 } else { 1650.0 } * (1.0 + 0.1 * (std::f64::consts::TAU * t / 32.5).sin());
        let goal = 35.0 + 45.0 * rate / 1650.0;
        degrees = goal + (degrees - goal) * f64::exp(-0.1 / 60.0);
        states.push((rate, degrees));
    }
    let made = |t: f64| {
        let (rate, degrees) = states[((t * 10.0) as usize).min(states.len() - 1)];
        (rate, Some(f64::round(degrees)))
    };
    assert_eq!(found(record(Some(71.0), 860.0, 0.25, 0.01, made)), [Throttle]);
}

#[test]
fn what_gives_way_at_the_temperature_that_is_held_is_heat() {
    // A controller: down over two minutes while the temperature stands, in samples of ten seconds.
    let made = |t: f64| {
        let rate = 1100.0 + 700.0 * (-((t - 225.0).max(0.0)) / 70.0).exp();
        (rate, Some((35.0 + 28.0 * (t / 215.0).min(1.0)).round()))
    };
    assert_eq!(found(record(None, 2800.0, 10.0, 0.005, made)), [Throttle]);
}

#[test]
fn a_short_fast_beginning_that_noise_makes_is_no_level() {
    // Noise that remembers for five seconds, as large as the fall.
    let noise =
        |t: f64| 0.12 * (t / 4.3).sin() * (t / 7.9).cos() + 0.1 * (std::f64::consts::TAU * t / 33.0).cos();
    let made = |t: f64| (200.0 * (1.0 + noise(t) + if t < 12.0 { 0.08 } else { 0.0 }), cool(t));
    assert!(!found(record(Some(85.0), 700.0, 0.25, 0.02, made)).contains(&CacheEnd));
}

#[test]
fn at_its_limit_within_what_is_rounded_it_is_left_open() {
    // It falls at 72.4 °C, which reads 72, with a limit of 72.5 that is stated as 73; and it stays down, three kelvin cooler: no heat let go.
    let made = |t: f64| {
        let degrees = if t < 247.0 { 40.0 + 32.4 * t / 247.0 } else { (72.4 - (t - 247.0) / 10.0).max(69.0) };
        (if t < 247.0 { 3070.0 } else { 1990.0 }, Some(degrees.round()))
    };
    assert_eq!(found(record(Some(73.0), 800.0, 1.0, 0.01, made)), [Unexplained]);
}
