//! What the analysis costs: ten million samples on one core, a live sample, a three-day record opened and panned.
//!
//! `cargo bench -p hollow-mile --bench analysis`. Prints times and memory; nothing here is a test.
#![allow(clippy::unwrap_used, missing_docs)]

use std::time::{Duration, Instant};

use hollow_mile::ui::actions::Action;
use hollow_mile::ui::app::App;
use hollow_mile::ui::cadence::Cadence;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use hollow_mile_core::drive::LatencySummary;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::histogram::Histogram;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::{Event, HaulHead, HaulState, Latencies, Sample, Whose};
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_drives::latency;
use hollow_mile_ledger::Ledger;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

fn resident_mb(field: &str) -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with(field)).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1024.0 / 1e6
}

/// A write with two cache ends, noise, stalls and a warming drive; sample by sample, so that only the readings take memory.
struct Record {
    seed: u64,
    n: u64,
}

impl Record {
    const STEP: Duration = Duration::from_millis(100);

    fn head() -> Event {
        Event::HaulStarted(Box::new(HaulHead::plain(
            "bench",
            DriveIdentity {
                throttle_limit: Some(Celsius::new(84.0)),
                ..DriveIdentity::plain("bench", DriveKind::Imported, Bytes::from_gb(2_000_000))
            },
            Route {
                name: "bench".into(),
                about: String::new(),
                interval: Self::STEP,
                limits: Vec::new(),
                legs: vec![Leg::new(LegKind::Write)],
            },
        )))
    }

    fn uniform(&mut self) -> f64 {
        self.seed ^= self.seed << 13;
        self.seed ^= self.seed >> 7;
        self.seed ^= self.seed << 17;
        (self.seed >> 11) as f64 / (1u64 << 53) as f64
    }

    fn next(&mut self, of: u64) -> Sample {
        let share = self.n as f64 / of as f64;
        let rate = if share < 0.2 {
            3200e6
        } else if share < 0.5 {
            1400e6
        } else {
            420e6
        };
        let noise = 1.0 + 0.08 * (self.uniform() + self.uniform() - 1.0);
        let stall = self.uniform() < 0.001;
        self.n += 1;
        let bytes = if stall { 0.0 } else { rate * noise * 0.1 };
        let heat = 70.0 - 30.0 * (-(self.n as f64) / 3000.0).exp();
        Sample {
            end: Self::STEP * self.n as u32,
            span: Self::STEP,
            written: Bytes::new(bytes as u64),
            temperature: Some(Celsius::new(heat.round())),
            latency: Some(LatencySummary { operations: 300, p50_us: 9_000, p99_us: 12_000, max_us: 15_000 }),
            ..Sample::default()
        }
    }
}

fn fold(samples: u64) -> (Readings, Duration) {
    let mut record = Record { seed: 0x9e37_79b9_7f4a_7c15, n: 0 };
    let mut readings = Readings::new();
    readings.push(&Record::head());
    readings.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    let mut took = Duration::ZERO;
    let mut left = samples;
    while left > 0 {
        let some = left.min(10_000);
        let events: Vec<Event> = (0..some).map(|_| Event::Sample(record.next(samples))).collect();
        let began = Instant::now();
        events.iter().for_each(|e| readings.push(e));
        took += began.elapsed();
        left -= some;
    }
    (readings, took)
}

/// The latencies of a second at 4 KiB × 64: 200,000 operations about 300 µs, a tail to 20 ms.
fn second(seed: u64) -> Histogram {
    let mut h = latency::histogram();
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    for _ in 0..2_000 {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let u = (state >> 11) as f64 / (1u64 << 53) as f64;
        let tail = if u > 0.995 { 60.0 * (u - 0.995) / 0.005 } else { 0.0 };
        let spread: f64 = (0..4).map(|i| (state >> (8 * i) & 0xff) as f64 / 255.0 - 0.5).sum();
        h.saturating_record_n((300_000.0 * (1.0 + 0.25 * spread + tail)).max(1.0) as u64, 100);
    }
    latency::bins(&h)
}

/// What it costs to keep a histogram a second.
fn field() {
    let mut h = latency::histogram();
    (0..20_000u64)
        .for_each(|i| h.saturating_record(250_000 + i * 37 % 120_000 + u64::from(i % 400 == 0) * 9_000_000));
    let began = Instant::now();
    for _ in 0..1_000 {
        std::hint::black_box(latency::bins(&h));
    }
    let each = began.elapsed().as_secs_f64() / 1_000.0;
    println!("bins of an interval: {:.1} µs, ten a second are {:.3} % of a core", each * 1e6, each * 1e3);
    let mut bytes = Vec::new();
    (0..1_000).for_each(|i| second(i).write(&mut bytes));
    println!("a second of latencies takes {} B in the mean", bytes.len() / 1_000);
    let mut readings = Readings::new();
    let before = resident_mb("VmRSS:");
    for second in 0..3 * 86_400u64 {
        let (end, span) = (Duration::from_secs(second + 1), Duration::from_secs(1));
        let counts = self::second(second % 997);
        let latencies = Latencies { end, span, leg: 0, whose: Whose::Load, counts };
        readings.push(&Event::Latencies(Box::new(latencies)));
    }
    let all = 3.0 * 86_400.0;
    for share in [1.0, 0.1, 0.001] {
        let began = Instant::now();
        for i in 0..20 {
            let from = all * (1.0 - share) * f64::from(i) / 20.0;
            std::hint::black_box(readings.latencies().columns(Ruler::Elapsed, from, from + all * share, 180));
        }
        println!(
            "180 columns of {share} of three days of it: {:.2} ms",
            began.elapsed().as_secs_f64() * 50.0
        );
    }
    println!("three days of it in memory: {:.0} MB", resident_mb("VmRSS:") - before);
}

/// A three-day record in a ledger: opened from the list, and panned when all of it is there.
fn three_days() {
    let dir = tempfile::tempdir().unwrap();
    let samples = 2_592_000;
    {
        let ledger = Ledger::open(dir.path()).unwrap();
        let Event::HaulStarted(head) = Record::head() else { return };
        let mut writer = ledger.begin(&head).unwrap();
        writer.push(Event::HaulStarted(head)).unwrap();
        writer.push(Event::LegStarted { at: Duration::ZERO, leg: 0 }).unwrap();
        let mut record = Record { seed: 7, n: 0 };
        for i in 0..samples {
            let sample = record.next(samples);
            let end = sample.end;
            writer.push(Event::Sample(sample)).unwrap();
            if i % 10 == 9 {
                let counts = second(i);
                let span = Record::STEP * 10;
                let latencies = Latencies { end, span, leg: 0, whose: Whose::Load, counts };
                writer.push(Event::Latencies(Box::new(latencies))).unwrap();
            }
        }
        let at = Record::STEP * samples as u32;
        writer.push(Event::HaulEnded { at, state: HaulState::Done, reason: None }).unwrap();
        let readings = writer.readings().unwrap();
        let conclusions = readings.conclude();
        writer.finish(HaulState::Done, None, &readings, &conclusions).unwrap();
    }
    let mut app = App::new(dir.path().to_owned(), true, Theme::new(Depth::True)).unwrap();
    let area = Rect::new(0, 0, 160, 47);
    app.act(Action::GoLedger);
    let began = Instant::now();
    app.act(Action::Open);
    let mut buf = Buffer::empty(area);
    views::render(&app, area, &mut buf);
    println!(
        "three days, {samples} samples: first frame after {:.1} ms",
        began.elapsed().as_secs_f64() * 1e3
    );
    while app.is_moving() {
        app.follow(Duration::from_millis(5));
        std::thread::sleep(Duration::from_millis(1));
    }
    println!("all of it read after {:.0} ms", began.elapsed().as_secs_f64() * 1e3);
    for _ in 0..4 {
        app.act(Action::ZoomIn);
    }
    let mut times: Vec<f64> = (0..100)
        .map(|i| {
            app.act(if i < 50 { Action::PanRight } else { Action::PanLeft });
            let mut buf = Buffer::empty(area);
            let began = Instant::now();
            views::render(&app, area, &mut buf);
            began.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    times.sort_by(f64::total_cmp);
    println!("a frame while panning: {:.2} ms median, {:.2} ms worst of 100", times[50], times[99]);
}

/// What a sample costs while it is live, ten minutes of it: fold, and conclusions when the interface makes them. `falls`: in the middle of it.
fn live(falls: bool) {
    let samples = 200_000u64;
    let (mut readings, _) = fold(samples);
    let (at, more) = (samples as f64, 6_000u64);
    // The rate falls at half of the whole record.
    let whole = if falls { 2 * samples + more } else { 2 * samples };
    let mut record = Record { seed: 3, n: samples };
    let (mut took, mut cost, mut concluded) = (Duration::ZERO, Duration::from_millis(30), 0);
    let mut cadence = Cadence::default();
    cadence.saw(Duration::ZERO, &readings, false);
    cadence.concluded(Duration::from_secs(3600), cost, &readings);
    for i in 0..more as u32 {
        let event = Event::Sample(record.next(whole));
        let now = Duration::from_secs(3600) + Record::STEP * (i + 1);
        let began = Instant::now();
        readings.push(&event);
        cadence.saw(now, &readings, false);
        if cadence.is_due(now, &readings) {
            let at = Instant::now();
            std::hint::black_box(readings.conclude());
            cost = at.elapsed();
            cadence.concluded(now, cost, &readings);
            concluded += 1;
        }
        took += began.elapsed();
    }
    let fold_only = fold(100_000).1.as_secs_f64() * 1e6 / 1e5;
    println!(
        "live, after {at} samples, {}: {fold_only:.2} µs a sample to fold, {:.1} µs with {concluded} conclusions ({:.1} ms each)",
        if falls { "one fall in ten minutes" } else { "nothing new in ten minutes" },
        took.as_secs_f64() * 1e6 / more as f64,
        cost.as_secs_f64() * 1e3
    );
}

fn main() {
    live(false);
    live(true);
    field();
    three_days();
    for samples in [100_000u64, 1_000_000, 2_600_000, 10_000_000] {
        let before = resident_mb("VmRSS:");
        let (readings, took) = fold(samples);
        let began = Instant::now();
        let found = readings.conclude().findings.len();
        let concluded = began.elapsed();
        println!(
            "{samples:>10} samples: folded in {:.3} s ({:.0} ns a sample), concluded in {:.1} ms ({found} findings), {:.0} MB",
            took.as_secs_f64(),
            took.as_secs_f64() * 1e9 / samples as f64,
            concluded.as_secs_f64() * 1e3,
            resident_mb("VmRSS:") - before
        );
        let extent = readings.extent(Ruler::Elapsed);
        let began = Instant::now();
        for i in 0..100 {
            let from = extent * 0.005 * f64::from(i);
            std::hint::black_box(readings.columns(Ruler::Elapsed, from, from + extent * 0.4, 220));
        }
        println!("{:>10}          220 columns of it in {:.3} ms", "", began.elapsed().as_secs_f64() * 10.0);
    }
    println!("at most resident: {:.0} MB", resident_mb("VmHWM:"));
}
