//! What the analysis costs: ten million samples on one core, a live sample, a three-day record opened and panned.
//!
//! `cargo bench -p hollow-mile --bench analysis`. Prints times and memory; nothing here is a test.
#![allow(clippy::unwrap_used, missing_docs)]

use std::time::{Duration, Instant};

use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::event::{Conditions, Event, HaulHead, LatencySummary, Sample};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_core::units::{Bytes, Celsius};

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
        Event::HaulStarted(Box::new(HaulHead {
            haul: "bench".into(),
            drive: DriveIdentity {
                throttle_limit: Some(Celsius::new(84.0)),
                ..DriveIdentity::plain("bench", DriveKind::Imported, Bytes::from_gb(2_000_000))
            },
            route: Route {
                name: "bench".into(),
                about: String::new(),
                interval: Self::STEP,
                legs: vec![Leg::new(LegKind::Write)],
            },
            conditions: Conditions::default(),
            started_unix_ms: 0,
            engine: String::new(),
            program: String::new(),
        }))
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

fn main() {
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
