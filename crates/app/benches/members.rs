//! What it costs to follow the members of an array: CPU time of asking eight of them once a second, over the CPU time of the load beside it.
//!
//! `cargo bench -p hollow-mile --bench members`, as root: a btrfs over eight loop devices on memory, and a file on it. `-- SECONDS` for another
//! time than 10.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::Path;
use std::process::Command;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::{Drive, Ending, Load, LoadKind, Pattern};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_drives::linux::{EngineChoice, FileDrive};

const MEMBERS: usize = 8;
const SIZE: Bytes = Bytes::from_mib(512);

fn run(program: &str, args: &[&str]) -> String {
    let out = Command::new(program).args(args).output().unwrap();
    assert!(out.status.success(), "{program} {args:?}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8(out.stdout).unwrap().trim().to_owned()
}

/// CPU time of this process, its threads together.
fn cpu() -> Duration {
    let t = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    Duration::new(t.tv_sec as u64, t.tv_nsec as u32)
}

/// Loop devices and what is mounted on them, taken down again.
struct Array {
    loops: Vec<String>,
    folder: tempfile::TempDir,
}

impl Array {
    fn new() -> Self {
        let folder = tempfile::tempdir_in("/dev/shm").unwrap();
        let made = |i: usize| {
            let file = folder.path().join(format!("member-{i}"));
            std::fs::File::create(&file).unwrap().set_len(256 << 20).unwrap();
            run("losetup", &["--find", "--show", file.to_str().unwrap()])
        };
        let loops: Vec<String> = (0..MEMBERS).map(made).collect();
        let all: Vec<&str> = ["-q", "-f", "-d", "raid0", "-m", "raid0"]
            .into_iter()
            .chain(loops.iter().map(String::as_str))
            .collect();
        run("mkfs.btrfs", &all);
        let point = folder.path().join("on");
        std::fs::create_dir(&point).unwrap();
        run("btrfs", &["device", "scan"]);
        run("mount", &[&loops[0], point.to_str().unwrap()]);
        Self { loops, folder }
    }

    fn point(&self) -> std::path::PathBuf {
        self.folder.path().join("on")
    }
}

impl Drop for Array {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg(self.point()).status();
        for device in &self.loops {
            let _ = Command::new("losetup").args(["-d", device]).status();
        }
    }
}

/// Loads the file and asks its members each second: CPU time of all, CPU time of asking, operations, members that answered.
fn measure(path: &Path, time: Duration) -> (Duration, Duration, u64, usize) {
    let mut drive = FileDrive::create(path, SIZE, EngineChoice::Best, 7).unwrap();
    let fill = Load {
        limit: Some(SIZE),
        ..Load::sequential(LoadKind::Write, Bytes::ZERO, SIZE, Bytes::from_mib(1), 8)
    };
    drive.begin(&fill).unwrap();
    while !drive.work(Duration::from_millis(100)).unwrap().finished {}
    drive.finish(Ending::Durable).unwrap();
    let load = Load {
        pattern: Pattern::Random,
        ..Load::sequential(LoadKind::Read, Bytes::ZERO, SIZE, Bytes::new(4096), 64)
    };
    drive.begin(&load).unwrap();
    let (began, mut asked, mut asking) = (cpu(), Instant::now(), Duration::ZERO);
    let (start, mut operations, mut answered) = (Instant::now(), 0, 0);
    while start.elapsed() < time {
        let tally = drive.work(Duration::from_millis(100)).unwrap();
        operations += tally.read.get() / 4096;
        if asked.elapsed() >= Duration::from_secs(1) {
            asked = Instant::now();
            let before = cpu();
            // A rate and a share of time of each.
            answered = drive.meters().len() / 2;
            let _ = drive.temperatures();
            asking += cpu() - before;
        }
    }
    let all = cpu() - began;
    drive.finish(Ending::AsItIs).unwrap();
    drive.release().unwrap();
    (all, asking, operations, answered)
}

fn main() {
    let seconds = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(10);
    let array = Array::new();
    let (all, asking, operations, members) =
        measure(&array.point().join("load.bin"), Duration::from_secs(seconds));
    let each = |d: Duration| d.as_secs_f64() * 1e6 / operations.max(1) as f64;
    println!(
        "4 KiB × 64 random reads from a file on a btrfs of {MEMBERS} members, {seconds} s, {members} members followed"
    );
    println!(
        "CPU time: {:.3} µs an operation, of it {:.5} µs for following the members: {:.3} % (asked: under 1 %)",
        each(all),
        each(asking),
        asking.as_secs_f64() / all.as_secs_f64() * 100.0
    );
}
