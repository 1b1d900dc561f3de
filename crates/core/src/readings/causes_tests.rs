//! Causes on hand-made records: each a small story whose cause is known.

use super::super::Readings;
use crate::event::{Event, Sample, Vitals};
use crate::finding::{Finding, FindingKind};
use crate::units::{Bytes, Celsius};
use std::time::Duration;

/// A record of ten samples a second, told stretch by stretch: seconds, MB/s, from °C, to °C, others' MB/s.
struct Story {
    readings: Readings,
    end: Duration,
}

impl Story {
    fn with_limit(limit: Option<f64>) -> Self {
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
        readings.push(&Event::HaulStarted(Box::new(crate::event::HaulHead {
            haul: "story".into(),
            drive,
            route,
            conditions: crate::event::Conditions::default(),
            started_unix_ms: 0,
            engine: String::new(),
            program: String::new(),
        })));
        Self { readings, end: Duration::ZERO }
    }

    fn tell(
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

    fn write(self, seconds: u32, mb_s: f64, from: f64, to: f64) -> Self {
        self.tell(0, seconds, mb_s, Some((from, to)), None)
    }

    fn counted(mut self, transitions: u64) -> Self {
        let vitals = Box::new(Vitals { thermal_transitions: Some(transitions), ..Vitals::default() });
        self.readings.push(&Event::Vitals { at: self.end, vitals });
        self
    }

    fn found(self) -> Vec<Finding> {
        self.readings.conclude().findings
    }
}

fn kinds(found: &[Finding]) -> Vec<FindingKind> {
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
    assert!((60.0..75.0).contains(&found[0].elapsed.as_secs_f64()), "{found:#?}");
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
