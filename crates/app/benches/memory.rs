//! Resident memory over time: eight drives at once.
//!
//! `cargo bench -p hollow-mile --bench memory` runs eight simulated drives for 24 hours (`-- hours N`) of their clocks each, side by side, and
//! prints the slope of resident memory over the second half, open file handles, and the ledger's size; a week is `-- hours 168`.
//! `-- real MINUTES` runs files of 128 MiB (eight, or `files N`) for so many real minutes. Headless, as `hollow-mile haul` runs them.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::time::{Duration, Instant};

use hollow_mile::command::Speed;
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target, Wish};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

fn resident_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmRSS")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1024.0 / 1e6
}

/// Slope of the least-squares line, in y per x.
fn slope(points: &[(f64, f64)]) -> f64 {
    let n = points.len() as f64;
    let mean = |f: fn(&(f64, f64)) -> f64| points.iter().map(f).sum::<f64>() / n;
    let (mx, my) = (mean(|p| p.0), mean(|p| p.1));
    let num: f64 = points.iter().map(|p| (p.0 - mx) * (p.1 - my)).sum();
    num / points.iter().map(|p| (p.0 - mx).powi(2)).sum::<f64>().max(1e-12)
}

/// Open file handles of this program.
fn handles() -> usize {
    std::fs::read_dir("/proc/self/fd").map_or(0, Iterator::count)
}

fn main() {
    let args: Vec<String> = std::env::args().collect();
    let given = |word: &str| -> Option<f64> {
        args.iter().position(|a| a == word).and_then(|i| args.get(i + 1)?.parse().ok())
    };
    let minutes = given("real");
    let folder = if minutes.is_some() { std::env::current_dir().unwrap() } else { std::env::temp_dir() };
    let dir = tempfile::tempdir_in(folder).unwrap();
    let hours = minutes.map_or(given("hours").unwrap_or(24.0), |m| m / 60.0);
    let text = format!(
        "name = 'day'\n[[leg]]\nkind = 'write'\nblock = '256 KiB'\ndepth = 4\n{}until = {{ duration = '{} s' }}\n",
        if minutes.is_some() { "rate = '20 MB/s'\n" } else { "" },
        hours * 3600.0
    );
    let route = Route::from_toml(&text).unwrap();
    let names = ["corrie-2t", "ptarmigan-4t", "moraine-1t", "skerry-8t"];
    let began = Instant::now();
    let count = given("files").map_or(8, |n| n as u64);
    let sessions: Vec<Session> = (0..count)
        .map(|i| {
            let ledger = Ledger::open(dir.path()).unwrap();
            let (target, size) = match minutes {
                None => (Target::Sim(names[i as usize % 4].into()), None),
                Some(_) => (Target::File(dir.path().join(format!("f{i}"))), Some(Bytes::from_mib(128))),
            };
            let wish = Wish { size, repeat: i, destroys: true, ..Wish::default() };
            let opened = targets::open(&target, &wish).unwrap();
            let haul = ledger.new_haul_id().unwrap();
            let setup = Setup { conditions: wish.conditions.clone(), ..Setup::plain(&haul, route.clone()) };
            Session::start(opened, setup, ledger, Speed::Most).unwrap()
        })
        .collect();
    // Hours of the drives' own clocks against memory, as the events of all come by.
    let mut clocks = vec![0.0f64; sessions.len()];
    let mut points: Vec<(f64, f64)> = Vec::new();
    let mut over = vec![false; sessions.len()];
    let mut most_handles = (0, 0);
    while !over.iter().all(|o| *o) {
        for (i, session) in sessions.iter().enumerate() {
            match session.try_events() {
                Ok(Some(events)) => {
                    clocks[i] = events.last().map_or(clocks[i], |e| e.at().as_secs_f64() / 3600.0)
                }
                Ok(None) => std::thread::sleep(Duration::from_micros(200)),
                Err(_) => over[i] = true,
            }
        }
        let mean = clocks.iter().sum::<f64>() / clocks.len() as f64;
        // The first that ends begins to conclude, which is another matter.
        let all_haul = clocks.iter().all(|c| *c < hours * 0.99);
        if all_haul && mean >= points.len() as f64 * hours / 200.0 {
            points.push((mean, resident_mb()));
            let now = handles();
            // At the first look, and the most at any later one.
            most_handles = (if most_handles.0 == 0 { now } else { most_handles.0 }, most_handles.1.max(now));
        }
    }
    let half = &points[points.len() / 2..];
    let during = slope(half);
    println!(
        "{count} {} for {:.2} h each, in {:.0} s: resident {:.1} MB at half time, {:.1} MB at the end, slope {:+.3} MB an hour over the second half",
        if minutes.is_some() { "files" } else { "simulated drives" },
        hours,
        began.elapsed().as_secs_f64(),
        half[0].1,
        half[half.len() - 1].1,
        during
    );
    let size = |name: &str| std::fs::metadata(dir.path().join(name)).map_or(0, |m| m.len()) as f64 / 1e6;
    println!("file handles: {} at first, {} at most", most_handles.0, most_handles.1);
    let log_mb = size("ledger.sqlite-wal");
    let samples: usize = sessions.into_iter().map(|s| s.finish().unwrap().readings.series().len()).sum();
    let ledger_mb = size("ledger.sqlite");
    println!(
        "ledger: {ledger_mb:.1} MB at the end, {:.1} B a sample; its log {log_mb:.1} MB before",
        ledger_mb * 1e6 / samples as f64
    );
    println!("then, with the findings of {samples} samples made from the ledger: {:.1} MB", resident_mb());
}
