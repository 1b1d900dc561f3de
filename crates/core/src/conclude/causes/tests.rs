//! Causes on hand-made records: each a small story whose cause is known.

use super::super::Readings;
use crate::conclude::Finding;
use crate::drive::Vitals;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{Event, Sample};
use std::time::Duration;

/// A record of ten samples a second, told stretch by stretch: seconds, MB/s, from °C, to °C, others' MB/s.
pub(super) struct Story {
    pub readings: Readings,
    pub end: Duration,
}

impl Story {
    pub fn with_limit(limit: Option<f64>) -> Self {
        let mut readings = Readings::new();
        let mut text = String::from("name='x'\n[[leg]]\nkind='write'\nuntil={bytes='100 %'}\n");
        text.push_str(
            "[[leg]]\nkind='read'\nuntil={bytes='100 %'}\n[[leg]]\nkind='rest'\nuntil={duration='1 h'}\n",
        );
        let route = crate::route::Route::from_toml(&text).unwrap();
        let drive = crate::drive::DriveIdentity {
            throttle_limit: limit.map(Celsius::new),
            ..crate::drive::DriveIdentity::plain(
                "sim:story",
                crate::drive::DriveKind::Simulated,
                Bytes::from_gb(4000),
            )
        };
        readings.push(&Event::HaulStarted(Box::new(crate::record::HaulHead::plain("story", drive, route))));
        Self { readings, end: Duration::ZERO }
    }

    pub fn tell(
        mut self,
        leg: u16,
        seconds: u32,
        mb_s: f64,
        heat: Option<(f64, f64)>,
        others: Option<f64>,
    ) -> Self {
        let n = seconds * 10;
        for i in 0..n {
            self.end += Duration::from_millis(100);
            let share = f64::from(i) / f64::from(n);
            // A wobble of 1 % stands for noise.
            let wobble = f64::from(i * 7 % 5) / 200.0 - 0.01;
            let bytes = Bytes::new((mb_s * 1e5 * (1.0 + wobble)) as u64);
            let (written, read) = if leg == 0 { (bytes, Bytes::ZERO) } else { (Bytes::ZERO, bytes) };
            self.readings.push(&Event::Sample(Sample {
                end: self.end,
                span: Duration::from_millis(100),
                leg,
                written,
                read,
                temperature: heat.map(|(a, b)| Celsius::new((a + (b - a) * share).round())),
                other: others.map(|o| Bytes::new((o * 1e5) as u64)),
                ..Sample::default()
            }));
        }
        self
    }

    pub fn write(self, seconds: u32, mb_s: f64, from: f64, to: f64) -> Self {
        self.tell(0, seconds, mb_s, Some((from, to)), None)
    }

    /// Samples made one by one: n of them, ten a second; each is told its number.
    pub fn samples(mut self, n: u64, make: impl Fn(u64) -> Sample) -> Self {
        for i in 0..n {
            self.end += Duration::from_millis(100);
            let span = Duration::from_millis(100);
            let made = make(i);
            // Cool, and alive.
            let temperature = made.temperature.or(Some(Celsius::new(40.0 + (i / 100 % 2) as f64)));
            self.readings.push(&Event::Sample(Sample { end: self.end, span, temperature, ..made }));
        }
        self
    }

    pub fn counted(mut self, transitions: u64) -> Self {
        let vitals = Box::new(Vitals { thermal_transitions: Some(transitions), ..Vitals::default() });
        self.readings.push(&Event::Vitals { at: self.end, vitals });
        self
    }

    pub fn found(self) -> Vec<Finding> {
        self.readings.conclude().findings
    }
}

pub(super) fn kinds(found: &[Finding]) -> Vec<FindingKind> {
    found.iter().map(|f| f.kind).collect()
}

#[test]
fn the_same_fall_is_heat_at_the_limit_and_the_cache_far_below_it() {
    let hot = Story::with_limit(Some(80.0))
        .write(60, 2000.0, 50.0, 80.0)
        .write(30, 900.0, 80.0, 74.0)
        .write(60, 2000.0, 74.0, 78.0);
    let hot = hot.found();
    assert_eq!(kinds(&hot), [FindingKind::Throttle]);
    assert!((hot[0].elapsed.as_secs_f64() - 60.0).abs() < 1.0);
    assert!((hot[0].end_elapsed.unwrap().as_secs_f64() - 90.0).abs() < 1.0);
    let cool =
        Story::with_limit(Some(80.0)).write(60, 2000.0, 40.0, 58.0).write(90, 900.0, 58.0, 48.0).found();
    assert_eq!(kinds(&cool), [FindingKind::CacheEnd]);
    assert!(
        cool[0].evidence.iter().any(|e| e == "Heat is not the cause: 58 °C at that moment, limit 80 °C."),
        "{cool:#?}"
    );
}

#[test]
fn a_sawtooth_on_top_of_a_cache_end_is_both() {
    let mut s = Story::with_limit(Some(80.0)).write(50, 3000.0, 45.0, 80.0);
    for _ in 0..4 {
        s = s.write(12, 1200.0, 80.0, 75.0).write(14, 3000.0, 75.0, 80.0);
    }
    let found =
        s.write(12, 1200.0, 80.0, 75.0).write(9, 3000.0, 75.0, 78.0).write(120, 700.0, 78.0, 52.0).found();
    assert_eq!(kinds(&found), [FindingKind::Throttle, FindingKind::CacheEnd]);
    let end = 50.0 + 4.0 * 26.0 + 12.0 + 9.0;
    assert!((found[1].elapsed.as_secs_f64() - end).abs() < 1.0, "{found:#?}");
    assert!(found[0].evidence.iter().any(|e| e.contains("came back 5 times")), "{found:#?}");
}

#[test]
fn a_controller_that_holds_the_temperature_is_found_without_a_step() {
    let mut s = Story::with_limit(Some(80.0)).write(60, 2000.0, 50.0, 80.0);
    for i in 1..=20 {
        s = s.write(2, 2000.0 - 40.0 * f64::from(i), 80.0, 80.0);
    }
    let found = s.write(120, 1200.0, 80.0, 80.0).found();
    assert_eq!(kinds(&found), [FindingKind::Throttle], "{found:#?}");
    assert!((57.0..75.0).contains(&found[0].elapsed.as_secs_f64()), "{found:#?}");
}

#[test]
fn the_drives_own_counter_decides_for_and_against_heat() {
    let fall = |counts: [u64; 2]| {
        Story::with_limit(Some(80.0))
            .counted(3)
            .write(60, 2000.0, 60.0, 80.0)
            .counted(counts[0])
            .write(40, 900.0, 80.0, 79.0)
            .counted(counts[1])
            .found()
    };
    assert_eq!(kinds(&fall([3, 4])), [FindingKind::Throttle]);
    assert_eq!(kinds(&fall([3, 3])), [FindingKind::CacheEnd]);
}

#[test]
fn with_no_limit_stated_three_equal_falls_tell_one() {
    let mut s = Story::with_limit(None).write(60, 2000.0, 50.0, 77.0);
    for _ in 0..3 {
        s = s.write(15, 900.0, 77.0, 71.0).write(20, 2000.0, 71.0, 77.0);
    }
    let found = s.write(15, 900.0, 77.0, 71.0).write(20, 2000.0, 71.0, 76.0).found();
    assert_eq!(kinds(&found), [FindingKind::Throttle]);
    assert!(found[0].evidence[0].contains("judging by where it fell each time"), "{found:#?}");
}

#[test]
fn traffic_of_others_explains_what_it_can_explain() {
    let fall = |others: f64| {
        Story::with_limit(None)
            .tell(0, 60, 2000.0, None, Some(0.0))
            .tell(0, 40, 1200.0, None, Some(others))
            .tell(0, 60, 2000.0, None, Some(0.0))
            .found()
    };
    assert_eq!(kinds(&fall(800.0)), [FindingKind::OtherTraffic]);
    let open = fall(20.0);
    assert_eq!(kinds(&open), [FindingKind::Unexplained]);
    assert!(open[0].evidence.iter().any(|e| e.contains("Nobody else")), "{open:#?}");
}

#[test]
fn reads_have_no_write_cache_and_a_slope_is_no_step() {
    let read = Story::with_limit(None).tell(1, 60, 2000.0, None, None).tell(1, 60, 900.0, None, None).found();
    assert_eq!(kinds(&read), [FindingKind::Unexplained]);
    let mut slope = Story::with_limit(None);
    for i in 0..120 {
        slope = slope.tell(0, 4, 260.0 - f64::from(i), None, None);
    }
    assert_eq!(slope.found(), []);
}

#[test]
fn a_rest_begins_the_count_of_bytes_anew() {
    let burst = |s: Story| s.write(30, 1000.0, 40.0, 40.0).write(40, 200.0, 40.0, 40.0);
    let s = burst(Story::with_limit(Some(80.0)));
    let found = burst(s.tell(2, 60, 0.0, Some((40.0, 40.0)), None)).found();
    assert_eq!(kinds(&found), [FindingKind::CacheEnd, FindingKind::CacheEnd]);
    assert!(
        found.iter().all(|f| f.evidence[0].contains("after 30") || f.evidence[0].contains("after 29.9")),
        "{found:#?}"
    );
}

/// A wobble of 1 %, in bytes of a tenth of a second.
pub(super) fn at(mb_s: u64, i: u64) -> Bytes {
    Bytes::new(mb_s * 1000 * (99 + i * 7 % 5 / 2))
}

#[test]
fn a_beat_is_the_drives_own_work_and_stalls_at_random_are_not() {
    let beat = Story::with_limit(None).samples(3000, |i| Sample {
        written: at(if (70..76).contains(&(i % 150)) { 300 } else { 2000 }, i),
        ..Sample::default()
    });
    let found = beat.found();
    assert_eq!(kinds(&found), [FindingKind::Background]);
    assert!(found[0].evidence[0].starts_with("20 dips, one every 15 s"), "{}", found[0].evidence[0]);
    let mut seed = 7u64;
    let stalls: Vec<bool> = (0..3000)
        .map(|_| {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            (seed >> 33).is_multiple_of(150)
        })
        .collect();
    let random = Story::with_limit(None).samples(3000, |i| Sample {
        written: at(if stalls[i as usize] { 300 } else { 2000 }, i),
        ..Sample::default()
    });
    assert_eq!(random.found(), []);
}

#[test]
fn a_stretch_that_is_slow_on_two_passes_is_the_place() {
    // Two passes over 20 GB, slow between 8 and 10 GB; a minute's other cause at another place on the second pass only.
    let pass = |story: Story, second: bool| {
        story.samples(1000, move |i| Sample {
            leg: 1,
            read: at(if (400..500).contains(&i) || second && (700..800).contains(&i) { 80 } else { 200 }, i),
            position: Some(Bytes::new((i + 1) * 20_000_000)),
            ..Sample::default()
        })
    };
    let found = pass(pass(Story::with_limit(None), false), true).found();
    let zones: Vec<&Finding> = found.iter().filter(|f| f.kind == FindingKind::SlowZone).collect();
    assert_eq!(zones.len(), 2, "{found:#?}");
    assert!(
        zones.iter().all(|z| z.position.unwrap().gb().round() == 8.0 && z.evidence.len() == 2),
        "{zones:#?}"
    );
    let other = found.iter().find(|f| f.kind == FindingKind::Unexplained).unwrap();
    assert!(other.evidence.last().unwrap().starts_with("It is not the place"), "{other:#?}");
}

#[test]
fn a_saturated_host_and_a_rise_are_told() {
    let busy = |ppm| {
        move |i| Sample {
            leg: 1,
            read: at(if ppm > 900_000 { 900 } else { 2000 }, i),
            host_busy_ppm: Some(ppm),
            ..Sample::default()
        }
    };
    let found = Story::with_limit(None).samples(300, busy(500_000)).samples(300, busy(999_000)).found();
    assert_eq!(kinds(&found), [FindingKind::HostLimit]);
    assert!(
        found[0].evidence.iter().any(|e| e.contains("busy for 100 % of the time, and 50 % before")),
        "{found:#?}"
    );
    let rise = Story::with_limit(None)
        .tell(1, 30, 500.0, None, Some(1500.0))
        .tell(1, 30, 2000.0, None, Some(0.0))
        .found();
    assert_eq!(kinds(&rise), [FindingKind::OtherTraffic]);
    assert!(rise[0].before < rise[0].after);
}

#[test]
fn a_cache_that_ends_while_heat_holds_the_drive_is_found_by_what_never_comes_back() {
    let found = Story::with_limit(Some(80.0))
        .write(60, 2000.0, 50.0, 80.0)
        .write(30, 900.0, 80.0, 74.0)
        .write(40, 2000.0, 74.0, 80.0)
        .write(20, 450.0, 80.0, 74.0)
        .write(120, 1000.0, 74.0, 70.0)
        .found();
    assert_eq!(kinds(&found), [FindingKind::Throttle, FindingKind::CacheEnd]);
    let end = &found[1];
    // Less sure than one that is seen as it comes.
    assert!((end.elapsed.as_secs_f64() - 130.0).abs() < 2.0 && end.confidence < 0.95, "{end:#?}");
    assert_eq!((end.before.unwrap().mb_s().round(), end.after.unwrap().mb_s().round()), (2000.0, 1000.0));
}

#[test]
fn earlier_hauls_speak_for_the_same_cause() {
    let told = |earlier: Vec<crate::record::Earlier>| {
        let mut story = Story::with_limit(Some(80.0));
        let mut head = story.readings.head().unwrap().clone();
        head.conditions.earlier = earlier;
        story.readings.push(&Event::HaulStarted(Box::new(head)));
        story.write(60, 2000.0, 40.0, 58.0).write(90, 900.0, 58.0, 48.0).found().remove(0)
    };
    let earlier = |gb: u64, degrees| crate::record::Earlier {
        haul: "7f3a91c2".into(),
        kind: FindingKind::CacheEnd,
        bytes: Bytes::from_gb(gb),
        position: None,
        position_end: None,
        temperature: Some(Celsius::new(degrees)),
    };
    let alone = told(Vec::new());
    let same = told(vec![earlier(119, 71.0)]);
    assert!(same.confidence > alone.confidence);
    let words = "Same place in haul 7f3a: 119 GB at 71 °C, so it is the bytes and not the heat.";
    assert_eq!(same.evidence.last().map(String::as_str), Some(words));
    let other = told(vec![earlier(60, 50.0)]);
    assert_eq!(other.confidence, alone.confidence);
    assert!(other.evidence.last().unwrap().starts_with("In haul 7f3a it ended after 60 GB"), "{other:#?}");
}

#[test]
fn the_same_load_on_a_fuller_drive_is_compared_and_one_after_another_rest_is_not() {
    let told = |rests: [u32; 2], fills: [u32; 2]| {
        let mut story =
            Story::with_limit(None).samples(300, |i| Sample { written: at(1000, i), ..Sample::default() });
        for (n, (rest, fill)) in rests.into_iter().zip(fills).enumerate() {
            let leg = |story: &mut Story, leg: u16| {
                let at = story.end;
                story.readings.push(&Event::LegStarted { at, leg });
            };
            leg(&mut story, 2);
            story = story.samples(u64::from(rest) * 10, |_| Sample { leg: 2, ..Sample::default() });
            leg(&mut story, 0);
            let cache = if n == 0 { 400 } else { 200 };
            story = story.samples(cache + 400, |i| Sample {
                written: at(if i < cache { 2000 } else { 500 }, i),
                fill_ppm: Some(fill),
                ..Sample::default()
            });
        }
        story.found().into_iter().filter(|f| f.kind == FindingKind::FillSlowdown).collect::<Vec<_>>()
    };
    let fuller = told([300, 300], [200_000, 600_000]);
    assert_eq!(fuller.len(), 1, "{fuller:#?}");
    let words = &fuller[0].evidence[0];
    assert!(
        words.starts_with("The cache ended after ") && words.contains(" at 60 % full, after "),
        "{words}"
    );
    assert_eq!(told([300, 300], [200_000, 210_000]), [], "as full as before");
    assert_eq!(told([900, 300], [200_000, 600_000]), [], "after a shorter rest");
}

#[test]
fn two_like_falls_tell_a_limit_that_nobody_states() {
    let story = |second: f64| {
        Story::with_limit(None)
            .write(60, 2000.0, 50.0, 78.0)
            .write(20, 1000.0, 78.0, 72.0)
            .write(40, 2000.0, 72.0, second)
            .write(20, 1000.0, second, second - 6.0)
            .write(120, 600.0, second - 6.0, 60.0)
    };
    let twins = story(78.0).found();
    assert_eq!(kinds(&twins)[0], FindingKind::Throttle, "{twins:#?}");
    assert!(twins.iter().all(|f| f.kind != FindingKind::Unexplained), "{twins:#?}");
    // The second fall at another temperature is no such sign.
    assert!(!kinds(&story(84.0).found()).contains(&FindingKind::Throttle));
}

#[test]
fn one_fall_while_it_was_hottest_is_heat_unless_it_is_as_hot_again_at_full_speed() {
    let once = |after: f64| {
        Story::with_limit(None)
            .write(80, 2000.0, 45.0, 76.0)
            .write(30, 900.0, 76.0, 70.0)
            .write(60, 2000.0, 70.0, after)
            .found()
    };
    let heat = once(75.0);
    assert_eq!(kinds(&heat), [FindingKind::Throttle], "{heat:#?}");
    assert!(heat[0].confidence < 0.9 && heat[0].evidence.iter().any(|e| e.contains("second fall")));
    assert_eq!(kinds(&once(84.0)), [FindingKind::Unexplained], "it was hotter later, and not slow");
}

#[test]
fn a_temperature_that_stands_after_a_fall_is_heat_and_one_that_sinks_is_not() {
    // The drive does less, and is as warm as before. With no limit known that may be chance, where it had hardly warmed any more.
    for limit in [Some(80.0), None] {
        let held =
            Story::with_limit(limit).write(90, 3000.0, 50.0, 80.0).write(200, 1400.0, 80.0, 80.0).found();
        assert_eq!(kinds(&held), [FindingKind::Throttle], "{held:#?}");
        let settled = Story::with_limit(limit).write(90, 3000.0, 50.0, 77.8).write(60, 3000.0, 77.8, 80.0);
        let settled = settled.write(200, 1400.0, 80.0, 80.0).found();
        let kind = limit.map_or(FindingKind::Unexplained, |_| FindingKind::Throttle);
        assert_eq!(kinds(&settled), [kind], "{settled:#?}");
        if limit.is_none() {
            assert_eq!(settled[0].may_be[0].kind, FindingKind::Throttle);
            assert!((settled[0].may_be.iter().map(|c| c.share).sum::<f64>() - 1.0).abs() < 1e-9);
        }
        let ended =
            Story::with_limit(limit).write(90, 3000.0, 50.0, 80.0).write(200, 900.0, 80.0, 58.0).found();
        assert_eq!(kinds(&ended), [FindingKind::CacheEnd], "{ended:#?}");
    }
}

#[test]
fn without_a_thermometer_a_fall_that_heat_could_make_is_left_open() {
    let fall = |seconds: u32, left: f64, heat: Option<(f64, f64)>| {
        let found = Story::with_limit(Some(80.0))
            .tell(0, seconds, 3000.0, heat, None)
            .tell(0, 90, left, heat, None)
            .found();
        kinds(&found)
    };
    assert_eq!(fall(60, 1500.0, None), [FindingKind::Unexplained]);
    assert_eq!(fall(60, 1500.0, Some((45.0, 52.0))), [FindingKind::CacheEnd]);
    // A sensor that never moves while gigabytes are written measures nothing.
    assert_eq!(fall(60, 1500.0, Some((40.0, 40.0))), [FindingKind::Unexplained]);
    // Too soon, or too far down, for heat.
    assert_eq!(fall(7, 1500.0, None), [FindingKind::CacheEnd]);
    assert_eq!(fall(60, 400.0, None), [FindingKind::CacheEnd]);
}

#[test]
fn a_fall_at_the_hottest_moment_of_a_short_record_is_left_open() {
    let found = Story::with_limit(None).write(90, 3000.0, 50.0, 78.0).write(30, 1400.0, 78.0, 72.0).found();
    assert_eq!(kinds(&found), [FindingKind::Unexplained]);
    assert!(found[0].confidence < 0.1 && found[0].evidence[2].contains("limit would decide"), "{found:#?}");
    // Far from any limit there is nothing to doubt.
    let cool = Story::with_limit(None).write(90, 3000.0, 40.0, 58.0).write(30, 1400.0, 58.0, 52.0).found();
    assert_eq!(kinds(&cool), [FindingKind::CacheEnd]);
}

#[test]
fn the_last_of_many_equal_falls_is_heat_too_though_the_record_ends_in_it() {
    let mut s = Story::with_limit(Some(80.0)).write(60, 4000.0, 50.0, 80.0);
    for _ in 0..3 {
        s = s.write(20, 1000.0, 80.0, 70.0).write(20, 4000.0, 70.0, 80.0);
    }
    let found = s.write(14, 1000.0, 80.0, 74.0).found();
    assert_eq!(kinds(&found), [FindingKind::Throttle], "{found:#?}");
}

#[test]
fn a_sawtooth_of_a_few_samples_a_tooth_is_heat() {
    let mut readings = Story::with_limit(Some(82.0)).readings;
    let (mut t, mut held) = (50.0, false);
    for i in 1..=900u64 {
        t += if held { -0.35 } else { 0.9 } * if t < 70.0 { 1.0 } else { 0.8 };
        held = if held { t > 78.5 } else { t >= 82.0 };
        let wobble = 1.0 + (i * 37 % 11) as f64 / 100.0 - 0.05;
        readings.push(&Event::Sample(Sample {
            end: Duration::from_secs(i),
            span: Duration::from_secs(1),
            written: Bytes::new((if held { 1.3e9 } else { 2.9e9 } * wobble) as u64),
            temperature: Some(Celsius::new(f64::round(t))),
            ..Sample::default()
        }));
    }
    let found = readings.conclude().findings;
    assert_eq!(kinds(&found), [FindingKind::Throttle], "{found:#?}");
}

#[test]
fn a_record_that_contradicts_itself_is_told_and_not_believed() {
    // The end of a cache at 6 TB of writing without a rest, on a drive of 4 TB.
    let beyond =
        Story::with_limit(Some(85.0)).write(3000, 2000.0, 40.0, 45.0).write(300, 700.0, 45.0, 43.0).found();
    assert_eq!(kinds(&beyond), [FindingKind::Unexplained]);
    assert!(beyond[0].evidence.iter().any(|e| e.contains("more than the drive holds")), "{beyond:#?}");
    // 45 °C, then 99 °C within a tenth of a second, and back: the sensor, and not the drive.
    let jumps = |i: u64| if (500..520).contains(&i) { 99.0 } else { 45.0 + (i / 100 % 2) as f64 };
    let mut story = Story::with_limit(Some(85.0));
    story = story.samples(1200, |i| Sample {
        written: at(2000, i),
        temperature: Some(Celsius::new(jumps(i))),
        ..Sample::default()
    });
    let c = story.readings.conclude();
    assert_eq!((c.findings.len(), c.figures.hottest_c), (0, Some(46.0)), "{:#?}", c.findings);
    assert!(story.readings.doubts().iter().any(|d| d.starts_with("20 temperature readings were impossible")));
}
