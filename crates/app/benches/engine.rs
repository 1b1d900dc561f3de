//! Whole hauls beside a bare io_uring loop over the same storage, in turns, in one run: the ratio is the median of paired
//! rounds. A haul runs as the program runs it: histogram, sampling, others' traffic, health, ledger.
//!
//! `cargo bench -p hollow-mile --bench engine`; `-- ROUNDS` for another number of rounds than 15, `only 'KiB × 1'` for cases with
//! these words. On a file of tmpfs, a
//! file of the present folder's file system, and (as root) loop devices with direct I/O over both and a zram device; `on zram` for
//! places with this word.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod bare;

use std::path::{Path, PathBuf};
use std::process::Command as Process;
use std::time::{Duration, Instant};

use bare::{Job, median};
use hollow_mile::command::{Command, Speed};
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target, Wish};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::Event;
use hollow_mile_core::route::Route;
use hollow_mile_drives::linux::guard::Consent;
use hollow_mile_ledger::Ledger;

const SIZE: u64 = 1 << 30;
/// How long a turn of each is.
const TURN: Duration = Duration::from_millis(400);

struct Case {
    name: &'static str,
    job: Job,
    stamped: bool,
    /// Sizes and places are drawn from a table: all of 4 KiB, to be as the case before it.
    drawn: bool,
    least: f64,
}

const fn case(name: &'static str, write: bool, random: bool, block: usize, depth: usize, least: f64) -> Case {
    Case { name, job: Job { write, random, block, depth }, stamped: false, drawn: false, least }
}

const CASES: [Case; 9] = [
    case("1 MiB × 32 write", true, false, 1 << 20, 32, 0.98),
    Case { stamped: true, ..case("1 MiB × 32 write, stamped", true, false, 1 << 20, 32, 0.90) },
    case("128 KiB × 16 read", false, false, 128 << 10, 16, 0.98),
    case("4 KiB × 64 random write", true, true, 4096, 64, 0.92),
    Case { drawn: true, ..case("4 KiB × 64 write, composite", true, true, 4096, 64, 0.89) },
    case("4 KiB × 64 random read", false, true, 4096, 64, 0.97),
    Case { drawn: true, ..case("4 KiB × 64 read, composite", false, true, 4096, 64, 0.94) },
    case("4 KiB × 1 random write", true, true, 4096, 1, 0.95),
    case("4 KiB × 1 random read", false, true, 4096, 1, 0.97),
];

/// Six outcomes in a table, all alike.
const DRAWN: &str =
    "mix = ['50 % 4 KiB', '30 % 4 KiB', '20 % 4 KiB']\nspread = ['50 % in 50 %', '50 % in 50 %']\n";

struct Place {
    name: String,
    path: PathBuf,
    target: Target,
    size: Option<Bytes>,
}

fn cpu() -> Duration {
    let mut usage = std::mem::MaybeUninit::<libc::rusage>::zeroed();
    // SAFETY: fills the structure; zeroes are valid before.
    let usage = unsafe {
        libc::getrusage(libc::RUSAGE_SELF, usage.as_mut_ptr());
        usage.assume_init()
    };
    let span = |t: libc::timeval| Duration::new(t.tv_sec as u64, t.tv_usec as u32 * 1000);
    span(usage.ru_utime) + span(usage.ru_stime)
}

/// One measurement: operations a second, and CPU time of the whole process for one, in µs (the kernel's workers for this
/// process count too).
#[derive(Clone, Copy)]
struct Turn {
    operations: f64,
    cpu_us: f64,
}

/// Takes the haul's events until one of this kind comes; gives bytes and seconds of the samples before it.
fn until(session: &Session, is_end: impl Fn(&Event) -> bool, time: Option<Duration>) -> (f64, f64) {
    let (mut bytes, mut seconds, began) = (0.0, 0.0, Instant::now());
    let mut first = true;
    loop {
        for event in session.next_events(Duration::from_millis(20)).into_iter().flatten() {
            if let Event::Sample(s) = &event {
                // The first sample after a start fills the queue.
                if !first {
                    bytes += (s.written + s.read).as_f64();
                    seconds += s.span.as_secs_f64();
                }
                first = false;
            }
            if is_end(&event) {
                return (bytes, seconds);
            }
        }
        if time.is_some_and(|t| began.elapsed() >= t) {
            return (bytes, seconds);
        }
    }
}

/// One haul over one file or device, paused again and again; while it is paused the bare loop moves the same bytes. So
/// both have the same blocks, and a disk whose speed comes and goes is met by both.
fn measure(home: &Path, place: &Place, rounds: usize) {
    let named = |word: &str| std::env::args().skip_while(|a| a != word).nth(1).unwrap_or_default();
    if !place.name.contains(&named("on")) {
        return;
    }
    println!("{}", place.name);
    let only = named("only");
    for case in CASES.iter().filter(|c| c.name.contains(&only)) {
        let Job { write, random, block, depth } = case.job;
        let text = format!(
            "name = 'bench'\n[[leg]]\nkind = 'write'\nuntil = {{ bytes = '100 %' }}\n\
             [[leg]]\nkind = '{}'\nblock = '{block} B'\ndepth = {depth}\npattern = '{}'\nstamped = {}\n\
             {}until = {{ duration = '1 h' }}\n",
            if write { "write" } else { "read" },
            if random { "random" } else { "sequential" },
            case.stamped,
            if case.drawn { DRAWN } else { "" }
        );
        let route = Route::from_toml(&text).unwrap();
        let ledger = Ledger::open(home).unwrap();
        let erase = place.path.file_name().map(|n| n.to_string_lossy().into_owned());
        let wish = Wish {
            size: place.size,
            destroys: true,
            // What the bare loop of the case before wrote bears no mark; only devices made here are ever named.
            consent: Consent { erase, give_up: vec!["data".into()], ..Consent::default() },
            ..Wish::default()
        };
        let opened = targets::open(&place.target, &wish).unwrap_or_else(|e| panic!("{}", e.message));
        let setup = Setup {
            conditions: wish.conditions.clone(),
            ..Setup::plain(&ledger.new_haul_id().unwrap(), route)
        };
        let session = Session::start(opened, setup, ledger, Speed::Most).unwrap();
        until(&session, |e| matches!(e, Event::LegStarted { leg: 1, .. }), None);
        until(&session, |_| false, Some(TURN));
        let pairs: Vec<(Turn, Turn)> = (0..rounds)
            .map(|_| {
                session.ask(Command::Pause(true));
                until(&session, |e| matches!(e, Event::Paused { .. }), None);
                let before = cpu();
                let operations = bare::run(&place.path, SIZE, case.job, TURN);
                let used = (cpu() - before).as_secs_f64() * 1e6;
                let bare = Turn { operations, cpu_us: used / (operations * TURN.as_secs_f64()) };
                session.ask(Command::Pause(false));
                until(&session, |e| matches!(e, Event::Resumed { .. }), None);
                let before = cpu();
                let (bytes, seconds) = until(&session, |_| false, Some(TURN));
                let used = (cpu() - before).as_secs_f64() * 1e6;
                let operations = bytes / block as f64 / seconds;
                (bare, Turn { operations, cpu_us: used / (operations * TURN.as_secs_f64()) })
            })
            .collect();
        session.ask(Command::Stop);
        session.finish().unwrap();
        let of = |f: fn(&(Turn, Turn)) -> f64| median(pairs.iter().map(f));
        println!(
            "  {:<26} bare {:>8.0} op/s {:>7.2} µs CPU   haul {:>8.0} op/s {:>7.2} µs CPU   ratio {:.3} (asked {:.2})   CPU {:.2}",
            case.name,
            of(|p| p.0.operations),
            of(|p| p.0.cpu_us),
            of(|p| p.1.operations),
            of(|p| p.1.cpu_us),
            of(|p| p.1.operations / p.0.operations),
            case.least,
            of(|p| p.1.cpu_us / p.0.cpu_us)
        );
    }
}

fn main() {
    let rounds = std::env::args().find_map(|a| a.parse().ok()).unwrap_or(15);
    let dir = tempfile::tempdir_in("/dev/shm").unwrap();
    for folder in [PathBuf::from("/dev/shm"), std::env::current_dir().unwrap()] {
        let path = folder.join(format!("hollow-mile-bench-{}.hm", std::process::id()));
        let name = format!("a file in {}", folder.display());
        let place = Place { name, target: Target::File(path.clone()), path, size: Some(Bytes::new(SIZE)) };
        measure(dir.path(), &place, rounds);
    }
    // Over a file of tmpfs: the block layer, without a disk's own noise.
    let here = tempfile::tempdir_in(std::env::current_dir().unwrap()).unwrap();
    for (what, folder) in [("tmpfs", dir.path()), ("this folder's file system", here.path())] {
        let backing = folder.join("backing");
        std::fs::File::create(&backing).unwrap().set_len(SIZE).unwrap();
        let made =
            Process::new("losetup").args(["--find", "--show", "--direct-io=on"]).arg(&backing).output();
        match made {
            Ok(out) if out.status.success() => {
                let path = PathBuf::from(String::from_utf8(out.stdout).unwrap().trim());
                let name = format!("{}, a loop device over {what}", path.display());
                let place = Place { name, target: Target::Device(path.clone()), path, size: None };
                measure(dir.path(), &place, rounds);
                Process::new("losetup").arg("--detach").arg(&place.path).status().unwrap();
            }
            _ => println!("no loop device to be had here: left out"),
        }
    }
    zram(dir.path(), rounds);
}

/// A device of compressed memory, made for this and taken away again.
fn zram(home: &Path, rounds: usize) {
    let Ok(number) = std::fs::read_to_string("/sys/class/zram-control/hot_add") else {
        return println!("no zram device to be had here: left out");
    };
    let number = number.trim();
    std::fs::write(format!("/sys/block/zram{number}/disksize"), SIZE.to_string()).unwrap();
    let path = PathBuf::from(format!("/dev/zram{number}"));
    let name = format!("{}, a zram device", path.display());
    measure(home, &Place { name, target: Target::Device(path.clone()), path, size: None }, rounds);
    let _ = std::fs::write(format!("/sys/block/zram{number}/reset"), "1");
    let _ = std::fs::write("/sys/class/zram-control/hot_remove", number);
}
