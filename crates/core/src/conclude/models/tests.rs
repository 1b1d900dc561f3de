//! Models on made records with a known truth.

use crate::route::Stream;
use std::time::Duration;

use crate::drive::{DriveIdentity, DriveKind};
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::readings::Readings;
use crate::record::{Conditions, Event, HaulHead, Sample};
use crate::route::Route;

use super::cache::CacheModel;
use super::heat::HeatModel;
use super::recovery::Recovery;
use super::stream::hold;
use super::{Models, Told};

/// A drive that is told second by second: MB/s, or a rest. Its heat is the model's own, read in whole degrees.
struct Bench {
    readings: Readings,
    at: u64,
    degrees: f64,
    seed: u64,
    fill: Option<f64>,
}

const TAU: f64 = 90.0;
const IDLE: f64 = 35.0;
const RISE: f64 = 12.0;

impl Bench {
    fn new(ambient: Option<f64>) -> Self {
        let legs =
            "[[leg]]\nkind='write'\nuntil={bytes='100 %'}\n[[leg]]\nkind='rest'\nuntil={duration='1 h'}\n";
        let mut readings = Readings::new();
        readings.push(&Event::HaulStarted(Box::new(HaulHead {
            haul: "made".into(),
            drive: DriveIdentity {
                throttle_limit: Some(Celsius::new(80.0)),
                ..DriveIdentity::plain("made", DriveKind::Imported, Bytes::from_gb(4000))
            },
            route: Route::from_toml(&format!("name='x'\n{legs}")).unwrap(),
            conditions: Conditions { ambient: ambient.map(Celsius::new), ..Conditions::default() },
            started_unix_ms: 0,
            engine: String::new(),
            program: String::new(),
            forecast: None,
            held_to: Default::default(),
        })));
        Self { readings, at: 0, degrees: IDLE, seed: 1, fill: None }
    }

    fn second(&mut self, mb_s: f64, leg: u16) {
        self.seed = self.seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        let noise = 1.0 + 0.02 * ((self.seed >> 40) as f64 / f64::from(1u32 << 24) - 0.5);
        self.degrees += (IDLE + RISE * mb_s / 1e3 - self.degrees) * (1.0 - (-1.0 / TAU).exp());
        self.at += 1;
        self.readings.push(&Event::Sample(Sample {
            end: Duration::from_secs(self.at),
            span: Duration::from_secs(1),
            leg,
            written: Bytes::new((mb_s * noise * 1e6) as u64),
            temperature: Some(Celsius::new(self.degrees.round())),
            fill_ppm: self.fill.map(|f| (f * 1e6) as u32),
            ..Sample::default()
        }));
    }

    fn write(mut self, seconds: u32, mb_s: f64) -> Self {
        (0..seconds).for_each(|_| self.second(mb_s, 0));
        self
    }

    fn rest(mut self, seconds: u32) -> Self {
        self.readings.push(&Event::LegStarted { at: Duration::from_secs(self.at), leg: 1 });
        (0..seconds).for_each(|_| self.second(0.0, 1));
        self.readings.push(&Event::LegStarted { at: Duration::from_secs(self.at), leg: 0 });
        self
    }
}

#[test]
fn the_heat_of_a_known_drive_is_found_and_carried_to_other_air() {
    let bench = Bench::new(Some(22.0)).rest(120).write(900, 2500.0).rest(600);
    let m = HeatModel::of(&bench.readings).unwrap();
    assert!(
        (m.tau_s.value / TAU - 1.0).abs() < 0.05 && m.tau_s.low < TAU && m.tau_s.high > TAU * 0.97,
        "{m:?}"
    );
    assert!(
        (m.idle_c.value - IDLE).abs() < 0.6 && (m.rise_k_per_gb_s.value / RISE - 1.0).abs() < 0.04,
        "{m:?}"
    );
    let rate = Rate::from_mb_s(2500.0);
    let steady = m.steady(rate, None).unwrap();
    assert!((steady.value - (IDLE + RISE * 2.5)).abs() < 0.8 && steady.half() < 2.0, "{steady:?}");
    // 80 °C is 45 K above rest: 3.75 GB/s.
    let most = m.highest_rate(None).unwrap();
    assert!((most.value / 3.75e9 - 1.0).abs() < 0.05 && most.low < most.value, "{most:?}");
    // In air that is 16 K warmer everything is 16 K warmer.
    let warmer = m.steady(rate, Some(38.0)).unwrap();
    assert!((warmer.value - steady.value - 16.0).abs() < 1e-9);
    let sooner = m.time_to(80.0, rate, Some(38.0)).unwrap();
    let truth = -TAU * (1.0 - (80.0 - IDLE - 16.0) / (RISE * 2.5)).ln();
    assert!(sooner.low < truth && truth < sooner.high * 1.05, "{sooner:?} against {truth}");
    assert_eq!(m.time_to(80.0, rate, None), None, "65 °C in the long run");
}

#[test]
fn a_record_that_cannot_tell_is_refused_with_what_would() {
    let even = HeatModel::of(&Bench::new(None).write(40, 500.0).readings).unwrap_err();
    assert!(
        even.why.starts_with("Cannot tell how warm it gets, because") && even.remedy.contains("hot-walk"),
        "{even:?}"
    );
    let mut strange = Bench::new(None).rest(100);
    for i in 0..800 {
        // Warm and cold without regard to the load.
        strange.degrees = 40.0 + 15.0 * f64::from(i / 100 % 2);
        strange.second(1000.0, 0);
    }
    assert!(HeatModel::of(&strange.readings).is_err());
    assert!(HeatModel::of(&Readings::new()).unwrap_err().why.contains("no temperature"));
    let flat = Bench::new(None).write(60, 900.0);
    let models = Models::of(&flat.readings, &flat.readings.conclude());
    assert!(models.cache_words()[0].contains("did not end within 54."), "{:?}", models.cache_words());
}

#[test]
fn a_cache_that_comes_back_ever_slower_is_fitted() {
    // 100 GB at 2,000 MB/s; 1 − e^(−t/300 s) of it comes back.
    let mut bench = Bench::new(None).write(50, 2000.0).write(40, 300.0);
    for rest in [60u32, 240, 900, 2700] {
        let back = 50.0 * (1.0 - (-f64::from(rest) / 300.0).exp());
        bench = bench.rest(rest).write(back.round() as u32, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    assert_eq!(m.levels.len(), 1);
    assert!(
        (m.levels[0].bytes.value / 1e11 - 1.0).abs() < 0.01 && (m.after_mb_s / 300.0 - 1.0).abs() < 0.02,
        "{m:?}"
    );
    let Told::Known(r) = &m.recovery else { unreachable!("{:?}", m.recovery) };
    assert_eq!(r.measured.len(), 4);
    let half = 300.0 * std::f64::consts::LN_2;
    assert!(
        r.half_s.low < half && half < r.half_s.high && (r.half_s.value / half - 1.0).abs() < 0.15,
        "{r:?}"
    );
    assert!((r.all_s.value / (300.0 * 20f64.ln()) - 1.0).abs() < 0.15 && r.tau_s.is_some(), "{r:?}");
    assert!(
        m.sentences().iter().any(|s| s.contains("Half of it comes back in") && s.contains("all in")),
        "{:?}",
        m.sentences()
    );
}

#[test]
fn a_stream_is_held_as_the_arithmetic_says() {
    let bench = Bench::new(None).write(100, 1000.0).write(100, 400.0);
    let c = bench.readings.conclude();
    let ask = |stream: &str, gb: f64| {
        hold(&bench.readings, &c, stream.parse().unwrap(), Bytes::new((gb * 1e9) as u64)).unwrap()
    };
    // 600 MB/s falls behind by 200 MB/s for a hundred seconds.
    let short = ask("600 MB/s", 10.0);
    assert!((short.needed_bytes as f64 / 20e9 - 1.0).abs() < 0.03, "{short:?}");
    assert!(
        (short.first_miss_s.unwrap() - 150.0).abs() < 3.0 && short.cause.as_deref() == Some("cache-end"),
        "{short:?}"
    );
    assert!((short.highest_mb_s - 500.0).abs() < 5.0, "{short:?}");
    let enough = ask("600 MB/s", 21.0);
    assert!(enough.first_miss_s.is_none() && enough.highest_mb_s > 600.0, "{enough:?}");
    let one = ask("400 channels x 24 bit x 500 kHz", 21.0);
    assert!((one.stream_mb_s - 600.0).abs() < 1e-9, "{one:?}");
    for bad in [
        "",
        "fast",
        "0 MB/s",
        "16 x 24 bit",
        "16 x 96 kHz",
        "-3 x 24 bit x 1 Hz",
        "2 x 24 bit x 24 bit x 1 Hz",
        "1 x 1 bit x nan Hz",
    ] {
        assert!(bad.parse::<Stream>().is_err(), "{bad}");
    }
}

#[test]
fn a_write_that_was_held_back_says_nothing_of_more() {
    let legs = "[[leg]]\nkind='write'\nrate='500 MB/s'\nuntil={bytes='100 %'}\n";
    let mut bench = Bench::new(None);
    bench.readings.push(&Event::HaulStarted(Box::new(HaulHead {
        route: Route::from_toml(&format!("name='x'\n{legs}")).unwrap(),
        ..bench.readings.head().unwrap().clone()
    })));
    bench.readings.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    let bench = bench.write(100, 495.0);
    let c = bench.readings.conclude();
    let ask = |stream: &str| hold(&bench.readings, &c, stream.parse().unwrap(), Bytes::from_gb(1));
    let held = ask("480 MB/s").unwrap();
    assert!(
        held.first_miss_s.is_none() && held.paced_mb_s == Some(500.0) && held.highest_mb_s <= 500.0,
        "{held:?}"
    );
    assert!(held.sentences()[1].contains("not in the record"), "{:?}", held.sentences());
    assert!(ask("700 MB/s").unwrap_err().words().contains("this write was held to 500 MB/s"));
}

/// A cache of 100 GB at 2,000 MB/s before writes at 300 MB/s, and what came back after each rest, as a share.
fn breather(rests: &[u32], back: impl Fn(f64) -> f64) -> CacheModel {
    let mut bench = Bench::new(None).write(50, 2000.0).write(40, 300.0);
    for rest in rests {
        let quick = (50.0 * back(f64::from(*rest))).round() as u32;
        bench = bench.rest(*rest).write(quick, 2000.0).write(40, 300.0);
    }
    CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap()
}

fn recovered(model: &CacheModel) -> &Recovery {
    let Told::Known(r) = &model.recovery else { unreachable!("{:?}", model.recovery) };
    r
}

#[test]
fn all_is_back_when_it_was_and_not_later() {
    // At an even pace, all after 400 s; the rests do not grow by half from one to the next.
    let m = breather(&[100, 200, 300, 390, 480, 600], |t| (t / 400.0).min(1.0));
    let all = recovered(&m).all_s;
    assert!(all.low <= 380.0 && 380.0 <= all.high && all.high < 430.0, "{all:?}");
    assert!((all.value / 380.0 - 1.0).abs() < 0.1, "{all:?}");
}

#[test]
fn a_drive_that_gives_back_less_than_it_had_at_first_is_known_by_its_plateau() {
    // 70 GB come back however long it rests, the last two rests are of about one length.
    let m = breather(&[60, 120, 240, 400, 500], |t| 0.7 * (t / 200.0).min(1.0));
    let r = recovered(&m);
    assert!((r.whole_bytes.value / 70e9 - 1.0).abs() < 0.05, "{r:?}");
    assert!(r.all_s.low <= 205.0 && r.all_s.high < 300.0, "{r:?}");
}

#[test]
fn curves_that_agree_as_well_widen_the_interval() {
    // Two rests on a curve of which nobody knows the shape: half is known within them, and no better.
    let two = recovered(&breather(&[100, 400, 3000], |t| 1.0 - (-t / 300.0).exp())).half_s;
    let many =
        recovered(&breather(&[60, 120, 180, 240, 400, 800, 3000], |t| 1.0 - (-t / 300.0).exp())).half_s;
    let half = 300.0 * std::f64::consts::LN_2;
    for interval in [two, many] {
        assert!(interval.low <= half && half <= interval.high, "{interval:?}");
    }
    assert!(two.high / two.low > many.high / many.low, "{two:?} {many:?}");
}

#[test]
fn two_levels_of_fill_are_not_three_and_no_bound_is_below_nothing() {
    let model = |fills: &[f64]| {
        let mut bench = Bench::new(None);
        for fill in fills {
            bench.fill = Some(*fill);
            bench = bench.rest(7200).write((50.0 - 40.0 * fill).round() as u32, 2000.0).write(40, 300.0);
        }
        CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap()
    };
    let two = model(&[0.1, 0.11, 0.6, 0.61]);
    assert!(
        matches!(&two.shrinking, Told::CannotTell(r) if r.why.contains("three levels")),
        "{:?}",
        two.shrinking
    );
    let three = model(&[0.05, 0.3, 0.6, 0.9]);
    let Told::Known(s) = &three.shrinking else { unreachable!("{:?}", three.shrinking) };
    assert!(s.empty_bytes.low <= 100e9 && 100e9 <= s.empty_bytes.high, "{s:?}");
    assert!(s.static_bytes.low >= 0.0 && s.static_bytes.low <= s.static_bytes.value, "{s:?}");
}

#[test]
fn amounts_that_lie_on_a_line_by_chance_are_known_no_better_for_that() {
    let mut bench = Bench::new(None);
    for fill in [0.1, 0.5, 0.9] {
        bench.fill = Some(fill);
        bench = bench.rest(7200).write((50.0 - 40.0 * fill).round() as u32, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    let Told::Known(s) = &m.shrinking else { unreachable!("{:?}", m.shrinking) };
    // What a drive gives back differs by some hundredths from one time to the next.
    assert!(s.empty_bytes.half() > 0.02 * s.empty_bytes.value, "{s:?}");
    assert!(s.static_bytes.half() > 0.01 * s.empty_bytes.value, "{s:?}");
}

#[test]
fn a_cache_that_does_not_go_down_evenly_with_fill_has_no_line() {
    // As large as ever up to half, a third of it beyond.
    let mut bench = Bench::new(None);
    for (fill, seconds) in [(0.1, 60), (0.3, 60), (0.5, 60), (0.9, 20)] {
        bench.fill = Some(fill);
        bench = bench.rest(7200).write(seconds, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    assert!(matches!(&m.shrinking, Told::CannotTell(r) if r.why.contains("evenly")), "{:?}", m.shrinking);
}

#[test]
fn a_write_began_at_the_fill_from_before_its_first_sample() {
    let mut bench = Bench::new(None);
    // 2 GB/s on 20 GB for each point: each second fills it by a tenth.
    for write in [3, 2] {
        for _ in 0..write {
            bench.fill = Some(bench.fill.unwrap_or(0.1) + 0.1);
            bench = bench.write(1, 2000.0);
        }
        bench = bench.rest(20);
    }
    let stints = bench.readings.stints(&bench.readings.conclude());
    let fills: Vec<f64> = stints.iter().filter_map(|s| s.fill).collect();
    assert!((fills[0] - 0.1).abs() < 0.005 && (fills[1] - 0.4).abs() < 1e-5, "{fills:?}");
}

#[test]
fn a_cache_that_shrinks_with_fill_is_told_from_one_that_comes_back_slowly() {
    // 100 GB on an empty drive and 70 GB from then on; 100 GB in 10 min at an even pace.
    let mut bench = Bench::new(None);
    bench.fill = Some(0.0);
    bench = bench.rest(1).write(50, 2000.0);
    bench.fill = Some(0.3);
    bench = bench.write(40, 300.0);
    for rest in [60u32, 240, 720, 2700] {
        let back = (50.0 * f64::from(rest) / 600.0).min(35.0);
        bench = bench.rest(rest).write(back.round() as u32, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    let r = recovered(&m);
    assert!(r.half_s.low <= 210.0 && 210.0 <= r.half_s.high && r.half_s.high < 300.0, "{r:?}");
    assert!(r.all_s.low <= 399.0 && 399.0 <= r.all_s.high && r.all_s.high < 1000.0, "{r:?}");
}

#[test]
fn what_came_back_while_it_was_read_is_no_rest() {
    // After each write ten minutes of reading and a second of rest: all is back, and not for that second.
    let route = "name='x'\n[[leg]]\nkind='write'\nuntil={bytes='100 %'}\n[[leg]]\nkind='rest'\nuntil={duration='1 h'}\n\
                 [[leg]]\nkind='read'\nuntil={duration='1 h'}\n";
    let mut bench = Bench::new(None);
    bench.readings.push(&Event::HaulStarted(Box::new(HaulHead {
        route: Route::from_toml(route).unwrap(),
        ..bench.readings.head().unwrap().clone()
    })));
    bench = bench.write(50, 2000.0).write(40, 300.0);
    for rest in [1, 2, 4] {
        let at = |bench: &Bench| Duration::from_secs(bench.at);
        bench.readings.push(&Event::LegStarted { at: at(&bench), leg: 2 });
        for _ in 0..600 {
            bench.at += 1;
            bench.readings.push(&Event::Sample(Sample {
                end: Duration::from_secs(bench.at),
                span: Duration::from_secs(1),
                leg: 2,
                read: Bytes::from_gb(2),
                ..Sample::default()
            }));
        }
        bench = bench.rest(rest).write(50, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    assert!(
        matches!(&m.recovery, Told::CannotTell(r) if r.why.contains("fewer than two rests")),
        "{:?}",
        m.recovery
    );
}

#[test]
fn a_load_of_another_size_is_no_cache_that_is_used_up() {
    // Small random writes at 400 MB/s between large ones at 2,000: they used nothing up, and a second brought nothing back.
    let route = "name='x'\n[[leg]]\nkind='write'\nuntil={bytes='100 %'}\n[[leg]]\nkind='rest'\nuntil={duration='1 h'}\n\
                 [[leg]]\nkind='write'\nblock='4 KiB'\npattern='random'\nuntil={duration='1 h'}\n";
    let mut bench = Bench::new(None);
    bench.readings.push(&Event::HaulStarted(Box::new(HaulHead {
        route: Route::from_toml(route).unwrap(),
        ..bench.readings.head().unwrap().clone()
    })));
    bench = bench.rest(10).write(50, 2000.0).write(40, 300.0);
    for rest in [1, 3, 2] {
        bench = bench.rest(3600);
        bench.readings.push(&Event::LegStarted { at: Duration::from_secs(bench.at), leg: 2 });
        (0..30).for_each(|_| bench.second(400.0, 2));
        bench = bench.rest(rest).write(50, 2000.0).write(40, 300.0);
    }
    let m = CacheModel::of(&bench.readings, &bench.readings.conclude()).unwrap();
    assert!(
        matches!(&m.recovery, Told::CannotTell(r) if r.why.contains("fewer than two rests")),
        "{:?}",
        m.recovery
    );
}
