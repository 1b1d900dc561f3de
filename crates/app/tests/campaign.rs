//! The fault campaign: whatever breaks in the middle of a haul, what was committed is intact, the haul's state is true, and what
//! it left on the file system is known and can be removed.
//!
//! A short one is part of the tests; `scripts/campaign` runs all of it (200 kills) and prints the table. Faults that need a
//! kernel of their own (medium errors, drives that go and come back, answers that take half a minute, the ledger's disk gone,
//! clocks set) are tests of the lab.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::os::unix::fs::FileExt;
use std::os::unix::process::ExitStatusExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use common::{Bench, exists, wait_until};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_ledger::{HaulRow, Ledger, rescue};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};

/// One line of the table.
#[derive(Default)]
struct Case {
    name: &'static str,
    times: usize,
    /// Samples that were committed when the fault came, and that are there afterwards.
    committed: u64,
    kept: u64,
    /// What is not as it should be.
    wrong: Vec<String>,
}

impl Case {
    fn new(name: &'static str) -> Self {
        Self { name, ..Self::default() }
    }

    fn check(&mut self, so: bool, otherwise: impl FnOnce() -> String) {
        if !so {
            self.wrong.push(otherwise());
        }
    }
}

fn kills() -> usize {
    std::env::var("HOLLOW_MILE_KILLS").ok().and_then(|n| n.parse().ok()).unwrap_or(9)
}

/// What stands in the file now, as another program sees it.
fn committed(home: &Path) -> u64 {
    let flags = rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY;
    rusqlite::Connection::open_with_flags(home.join("ledger.sqlite"), flags)
        .and_then(|db| {
            db.query_row("SELECT samples FROM hauls ORDER BY rowid DESC LIMIT 1", [], |r| r.get::<_, i64>(0))
        })
        .map_or(0, i64::unsigned_abs)
}

/// The newest haul after a fault: its record can be read to its end, has no hole, and says what the list says.
fn examine(case: &mut Case, home: &Path, committed: u64, states: &[HaulState]) -> Option<HaulRow> {
    let ledger = match Ledger::open(home) {
        Ok(l) => l,
        Err(e) => {
            case.wrong.push(format!("the ledger cannot be opened: {e}"));
            return None;
        }
    };
    case.check(!ledger.damage().unwrap_or(true), || "pages of the ledger are damaged".into());
    let Some(row) = ledger.hauls().unwrap().into_iter().next() else {
        case.check(committed == 0, || format!("{committed} samples were committed, and no haul is there"));
        return None;
    };
    let (mut samples, mut spans, mut written, mut end) = (0, Duration::ZERO, 0, Duration::ZERO);
    let read = ledger.replay(&row.haul, |e| {
        if let Event::Sample(s) = e {
            samples += 1;
            spans += s.span;
            written += s.written.get();
            end = s.end;
        }
    });
    case.check(read.is_ok(), || format!("the record cannot be read: {read:?}"));
    case.check(states.contains(&row.state), || format!("state {}", row.state.word()));
    case.check(samples == row.samples && written == row.written.get(), || {
        format!(
            "the list says {} samples and {}, the record has {samples} and {written} B",
            row.samples, row.written
        )
    });
    case.check(spans <= end, || format!("samples of {spans:?} until {end:?}"));
    case.check(samples >= committed, || format!("{committed} samples were committed, {samples} are there"));
    case.times += 1;
    case.committed += committed;
    case.kept += samples;
    Some(row)
}

/// A file that a haul made is gone, or known and then removed.
fn tidy(case: &mut Case, home: &Path, target: &Path) {
    let Ok(ledger) = Ledger::open(home) else { return };
    let left = ledger.leftovers().unwrap();
    if target.exists() {
        case.check(left.iter().any(|l| l.path == target), || {
            format!("{} is left, and not known", target.display())
        });
    }
    for l in &left {
        let removed = ledger.remove_leftover(l, |folder| Err(format!("{} is no file", folder.display())));
        case.check(removed.as_ref().is_ok_and(|r| *r), || format!("{removed:?}"));
    }
    case.check(!target.exists() && ledger.leftovers().unwrap().is_empty(), || {
        "something is left behind".into()
    });
}

fn route(bench: &Bench, name: &str, legs: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    std::fs::write(&path, format!("name = \"{name}\"\n{legs}")).unwrap();
    path
}

fn home(bench: &Bench) -> PathBuf {
    bench.dir.path().join("home")
}

fn begin(bench: &Bench, args: &[&str]) -> Child {
    bench.command(args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

const FILE_WRITE: &str = "interval = \"10 ms\"\n[[leg]]\nkind = \"write\"\nstamped = true\nblock = \"128 KiB\"\nrate = \"60 MB/s\"\nuntil = { duration = \"60 s\" }\n";

fn killed(case: &mut Case, seed: u64) {
    let mut rng = SmallRng::seed_from_u64(seed);
    let bench = Bench::new();
    let target = bench.dir.path().join("killed.hm");
    let on = format!("file:{}", target.display());
    let file = route(&bench, "file", FILE_WRITE);
    let (args, detach): (Vec<&str>, bool) = match seed % 3 {
        0 => (vec!["haul", "long-haul", "--on", "sim:skerry-8t"], false),
        1 => (vec!["haul", &file, "--on", &on, "--size", "64MiB"], false),
        _ => (vec!["haul", &file, "--on", &on, "--size", "64MiB", "--detach"], true),
    };
    let mut child = begin(&bench, &args);
    let mut victim = child.id();
    if detach {
        let done = child.wait().unwrap();
        assert!(done.success());
        victim = bench.json(&["live", "--json"])[0]["process"].as_u64().unwrap() as u32;
    }
    let moment = Duration::from_millis(rng.random_range(0..if seed.is_multiple_of(3) { 500 } else { 2500 }));
    let began = Instant::now();
    let mut seen = 0;
    while began.elapsed() < moment {
        seen = committed(&home(&bench)).max(seen);
        std::thread::sleep(Duration::from_millis(2));
    }
    Command::new("kill").args(["-KILL", &victim.to_string()]).stderr(Stdio::null()).status().unwrap();
    // Once more does no harm to one that has ended.
    child.wait().unwrap();
    // A dead process that nobody has waited for yet is a zombie of one task: only then are its files closed and its lock is free.
    let tasks = || std::fs::read_dir(format!("/proc/{victim}/task")).map_or(0, Iterator::count);
    let dead =
        || std::fs::read_to_string(format!("/proc/{victim}/stat")).map_or(true, |s| s.contains(") Z "));
    wait_until("the process to be gone", || dead() && tasks() <= 1);
    examine(case, &home(&bench), seen, &[HaulState::CutShort, HaulState::Done]);
    tidy(case, &home(&bench), &target);
}

/// Killed as soon as the file of the haul is there: before a byte lies in it, and before the haul is in the ledger.
fn killed_at_birth(case: &mut Case) {
    let bench = Bench::new();
    let target = bench.dir.path().join("born.hm");
    let file = route(&bench, "file", FILE_WRITE);
    let on = format!("file:{}", target.display());
    let mut child = begin(&bench, &["haul", &file, "--on", &on, "--size", "64MiB"]);
    let began = Instant::now();
    while !target.exists() {
        assert!(began.elapsed() < Duration::from_secs(60), "the file is never made");
        std::hint::spin_loop();
    }
    let _ = child.kill();
    child.wait().unwrap();
    case.times += 1;
    tidy(case, &home(&bench), &target);
}

fn signalled(case: &mut Case, signal: &str) {
    let bench = Bench::new();
    let target = bench.dir.path().join("signalled.hm");
    let file = route(&bench, "file", FILE_WRITE);
    let mut child =
        begin(&bench, &["haul", &file, "--on", &format!("file:{}", target.display()), "--size", "64MiB"]);
    wait_until("samples", || committed(&home(&bench)) > 20);
    let seen = committed(&home(&bench));
    let kill = |s: &str| Command::new("kill").args([s, &child.id().to_string()]).status().unwrap();
    if signal == "-STOP" {
        // As when the machine is frozen: it goes on as if nothing had been, with one long interval.
        kill("-STOP");
        std::thread::sleep(Duration::from_secs(3));
        kill("-CONT");
        std::thread::sleep(Duration::from_secs(1));
        kill("-TERM");
    } else {
        kill(signal);
    }
    let code = child.wait().unwrap();
    case.check(code.code() == Some(5), || format!("exit {code:?} (signal {:?})", code.signal()));
    if let Some(row) = examine(case, &home(&bench), seen, &[HaulState::Stopped])
        && signal == "-STOP"
    {
        let readings = Ledger::open(&home(&bench)).unwrap().readings(&row.haul).unwrap();
        let s = readings.series();
        let longest = (1..s.len()).map(|i| s.end(i) - s.end(i - 1)).max().unwrap_or_default();
        case.check(longest > Duration::from_millis(2500), || {
            format!("no interval of the freeze: {longest:?} at most")
        });
        let made = readings
            .conclude()
            .findings
            .iter()
            .any(|f| f.kind == hollow_mile_core::quantity::FindingKind::CacheEnd);
        case.check(!made, || "a freeze was called a cache end".into());
    }
    case.check(!target.exists(), || "the file is still there".into());
}

/// A file system of so many KiB in memory, mounted until dropped; `None` where mounting is not allowed.
struct Small(PathBuf);

impl Small {
    fn mount(at: &Path, kib: u32) -> Option<Self> {
        std::fs::create_dir_all(at).unwrap();
        let options = format!("size={kib}k,mode=0700");
        let ok = Command::new("mount")
            .args(["-t", "tmpfs", "-o", &options, "hm"])
            .arg(at)
            .stderr(Stdio::null())
            .status();
        ok.is_ok_and(|s| s.success()).then(|| Self(at.to_owned()))
    }

    fn grow(&self) {
        let ok = Command::new("mount").args(["-o", "remount,size=64m"]).arg(&self.0).status().unwrap();
        assert!(ok.success());
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

fn ledger_disk_full(case: &mut Case, on_file: bool) {
    let bench = Bench::new();
    let at = home(&bench);
    let Some(small) = Small::mount(&at, if on_file { 600 } else { 3000 }) else {
        eprintln!("left out: nothing can be mounted here");
        case.times += 1;
        return;
    };
    let target = bench.dir.path().join("full.hm");
    let on = format!("file:{}", target.display());
    let file = route(&bench, "file", FILE_WRITE);
    let args = if on_file {
        vec!["haul", &file, "--on", &on, "--size", "64MiB"]
    } else {
        vec!["haul", "long-haul", "--on", "sim:skerry-8t"]
    };
    let out = begin(&bench, &args).wait_with_output().unwrap();
    let error = String::from_utf8_lossy(&out.stderr);
    case.check(error.contains("the haul was stopped because"), || {
        format!("exit {:?}: {error}", out.status.code())
    });
    case.check(!error.contains("panicked"), || error.to_string());
    let seen = committed(&at);
    case.check(seen > 100, || format!("only {seen} samples were committed"));
    case.check(!target.exists(), || "the file is still there".into());
    small.grow();
    examine(case, &at, seen, &[HaulState::CutShort, HaulState::Stopped, HaulState::Failed]);
    tidy(case, &at, &target);
}

fn no_memory_for_buffers(case: &mut Case) {
    let bench = Bench::new();
    let target = bench.dir.path().join("large.hm");
    let large = route(
        &bench,
        "large",
        "[[leg]]\nkind = \"write\"\nblock = \"16 MiB\"\ndepth = 128\nuntil = { bytes = \"100 %\" }\n",
    );
    let out = Command::new("prlimit")
        .args(["--as=1500000000", common::PROGRAM, "haul", &large, "--size", "64MiB", "--on"])
        .arg(format!("file:{}", target.display()))
        .env("HOLLOW_MILE_HOME", home(&bench))
        .output()
        .unwrap();
    let error = String::from_utf8_lossy(&out.stderr);
    case.check(matches!(out.status.code(), Some(2 | 4)), || format!("{:?}: {error}", out.status));
    case.check(error.contains("memory") && !error.contains("panicked"), || error.to_string());
    if committed(&home(&bench)) > 0 || Ledger::open(&home(&bench)).unwrap().hauls().unwrap().len() == 1 {
        examine(case, &home(&bench), 0, &[HaulState::Failed]);
    } else {
        case.times += 1;
    }
    tidy(case, &home(&bench), &target);
}

/// A ledger with three hauls in it, whole.
fn some_hauls() -> Bench {
    let bench = Bench::new();
    for drive in ["sim:corrie-2t", "sim:moraine-1t", "sim:ptarmigan-4t"] {
        bench.json(&["haul", "long-haul", "--on", drive, "--json"]);
    }
    drop(Ledger::open(&home(&bench)).unwrap());
    bench
}

fn killed_while_compacting(case: &mut Case, whole: &Bench, rng: &mut SmallRng) {
    let bench = Bench::new();
    std::fs::create_dir_all(home(&bench)).unwrap();
    std::fs::copy(home(whole).join("ledger.sqlite"), home(&bench).join("ledger.sqlite")).unwrap();
    let findings = |b: &Bench| -> Vec<String> {
        let ledger = Ledger::open(&home(b)).unwrap();
        let hauls = ledger.hauls().unwrap();
        hauls
            .iter()
            .map(|h| format!("{:?} {}", ledger.concluded(&h.haul).unwrap().1.findings.len(), h.summary))
            .collect()
    };
    let before = findings(whole);
    let mut child = begin(&bench, &["ledger", "--compact", "0"]);
    std::thread::sleep(Duration::from_millis(rng.random_range(0..400)));
    let _ = child.kill();
    child.wait().unwrap();
    let after = findings(&bench);
    case.check(after == before, || format!("{after:?}, not {before:?}"));
    case.check(!Ledger::open(&home(&bench)).unwrap().damage().unwrap(), || "damaged".into());
    case.times += 1;
}

fn corrupted_page(case: &mut Case, whole: &Bench, rng: &mut SmallRng) {
    let bench = Bench::new();
    let path = home(&bench).join("ledger.sqlite");
    std::fs::create_dir_all(home(&bench)).unwrap();
    std::fs::copy(home(whole).join("ledger.sqlite"), &path).unwrap();
    let pages = std::fs::metadata(&path).unwrap().len() / 4096;
    let file = std::fs::OpenOptions::new().write(true).open(&path).unwrap();
    for _ in 0..3 {
        let garbage: Vec<u8> = (0..4096).map(|_| rng.random()).collect();
        file.write_all_at(&garbage, rng.random_range(1..pages) * 4096).unwrap();
    }
    drop(file);
    let hauls = Ledger::open(&home(whole)).unwrap().hauls().unwrap();
    match rescue::rescue(&home(&bench)) {
        Err(e) => case.wrong.push(format!("not rescued: {e}")),
        Ok((ledger, said)) => {
            let left = ledger.hauls().unwrap();
            case.check(left.len() + said.lost.len() >= hauls.len(), || {
                format!(
                    "{} hauls are left, {} said to be lost, of {}",
                    left.len(),
                    said.lost.len(),
                    hauls.len()
                )
            });
            for row in &left {
                let all = hauls.iter().find(|h| h.haul == row.haul).map_or(0, |h| h.samples);
                let torn = said.torn.iter().any(|t| t.0 == row.haul);
                let samples = ledger.readings(&row.haul).map_or(0, |r| r.series().len() as u64);
                case.check(torn || samples == all, || {
                    format!("{samples} of {all} samples, and not said to be torn")
                });
                case.committed += all;
                case.kept += samples;
            }
        }
    }
    case.times += 1;
}

#[test]
fn nothing_committed_is_lost_and_every_state_is_true() {
    let kills = kills();
    let mut table = Vec::new();
    let mut case = Case::new("killed (SIGKILL) at a random moment");
    (0..kills as u64).for_each(|seed| killed(&mut case, seed));
    table.push(case);
    let mut case = Case::new("killed (SIGKILL) as its file is made");
    (0..kills).for_each(|_| killed_at_birth(&mut case));
    table.push(case);
    for (name, signal) in [
        ("told to end (SIGTERM)", "-TERM"),
        ("terminal hung up (SIGHUP)", "-HUP"),
        ("frozen for 3 s, then told to end", "-STOP"),
    ] {
        let mut case = Case::new(name);
        signalled(&mut case, signal);
        table.push(case);
    }
    for (name, on_file) in
        [("ledger's disk full, simulated drive", false), ("ledger's disk full, file", true)]
    {
        let mut case = Case::new(name);
        ledger_disk_full(&mut case, on_file);
        table.push(case);
    }
    let mut case = Case::new("no memory for the buffers");
    no_memory_for_buffers(&mut case);
    table.push(case);
    let whole = some_hauls();
    let mut rng = SmallRng::seed_from_u64(7);
    let mut case = Case::new("killed while compacting");
    (0..kills.div_ceil(5)).for_each(|_| killed_while_compacting(&mut case, &whole, &mut rng));
    table.push(case);
    // What lay on a page that is gone cannot be had back; that it is said is what counts here.
    let mut case = Case::new("three pages of the ledger overwritten");
    (0..kills.div_ceil(3)).for_each(|_| corrupted_page(&mut case, &whole, &mut rng));
    table.push(case);

    println!("{:<40} {:>6} {:>12} {:>12} {:>6}", "FAULT", "TIMES", "COMMITTED", "THERE", "WRONG");
    for c in &table {
        println!("{:<40} {:>6} {:>12} {:>12} {:>6}", c.name, c.times, c.committed, c.kept, c.wrong.len());
    }
    for c in &table {
        assert!(c.wrong.is_empty() && c.times > 0, "{}: {:#?}", c.name, c.wrong);
        assert!(exists("/proc") && (c.kept >= c.committed || c.name.contains("overwritten")), "{}", c.name);
    }
}
