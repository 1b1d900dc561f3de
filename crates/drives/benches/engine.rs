//! The file engine beside a bare io_uring loop over the same file, in turns, in one run: the ratio is the median of paired rounds.
//!
//! `cargo bench -p hollow-mile-drives`. Prints MB/s of both and their ratio: 1 MiB × 32, direct I/O, every round 1 GiB.
//! The bare loop does nothing else: no stamps, no histogram, no interval, no record.
#![allow(clippy::unwrap_used, missing_docs)]

mod bare;

use std::path::PathBuf;
use std::time::{Duration, Instant};

use bare::{BLOCK, DEPTH};
use hollow_mile_core::drive::{Drive, Load, LoadKind};
use hollow_mile_core::units::Bytes;
use hollow_mile_drives::linux::{EngineChoice, FileDrive};

const SIZE: u64 = 1 << 30;
const ROUNDS: usize = 11;

fn ours(drive: &mut FileDrive) -> f64 {
    let (end, block) = (Bytes::new(SIZE), Bytes::new(BLOCK as u64));
    let load =
        Load { limit: Some(end), ..Load::sequential(LoadKind::Write, Bytes::ZERO, end, block, DEPTH as u32) };
    drive.begin(&load).unwrap();
    let began = Instant::now();
    while !drive.work(Duration::from_millis(100)).unwrap().finished {}
    let rate = SIZE as f64 / began.elapsed().as_secs_f64() / 1e6;
    drive.finish(false).unwrap();
    rate
}

fn main() {
    for folder in [PathBuf::from("/dev/shm"), std::env::current_dir().unwrap()] {
        let path = folder.join(format!("hollow-mile-bench-{}.hm", std::process::id()));
        let Ok(mut drive) = FileDrive::create(&path, Bytes::new(SIZE), EngineChoice::Best, 1) else {
            println!("{}: not enough room, left out", folder.display());
            continue;
        };
        // Once before the clock runs: both then write over blocks that exist.
        ours(&mut drive);
        let pairs: Vec<(f64, f64)> =
            (0..ROUNDS).map(|_| (bare::write(&path, SIZE), ours(&mut drive))).collect();
        let (bare, ours, ratio) = bare::medians(&pairs);
        println!(
            "{}: bare {bare:.0} MB/s, engine {ours:.0} MB/s, ratio {ratio:.3} (medians of {ROUNDS} rounds; {})",
            folder.display(),
            drive.engine()
        );
    }
}
