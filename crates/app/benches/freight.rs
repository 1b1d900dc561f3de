//! Trees of files beside a bare program that makes the same files with the same calls in the same order, in turns, in one run: the ratio
//! is the median of paired rounds, time to durable, the making of names and of the folder that holds all counted on both sides. Then 100,000 files in one leg, and what memory they take.
//!
//! `cargo bench -p hollow-mile --bench freight`; `-- ROUNDS` for another number of rounds than 12, `only direct` for cases and `on xfs` for
//! file systems with these words, `phases` for when each part of it was over. On tmpfs and (as root) on ext4, xfs and btrfs on
//! loop devices over a file of tmpfs.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::ffi::CString;
use std::io::Write;
use std::os::fd::{AsRawFd, FromRawFd, OwnedFd};
use std::path::Path;
use std::process::{Command as Process, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::freight::{
    Carry, Durable, FileClass, FileOrder, Freight, Side, Through, Tree, TreeSpec,
};
use hollow_mile_core::drive::{Drive, Ending, Load, LoadKind};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_drives::linux::FolderDrive;

const MIB: u64 = 1 << 20;

struct Case {
    name: &'static str,
    files: u64,
    size: u64,
    workers: u32,
    through: Through,
    durable: Durable,
}

const CASES: [Case; 5] = [
    Case {
        name: "4 KiB × 60,000, cache",
        files: 60_000,
        size: 4096,
        workers: 1,
        through: Through::Cache,
        durable: Durable::End,
    },
    Case {
        name: "4 KiB × 60,000, cache, 2 at once",
        files: 60_000,
        size: 4096,
        workers: 2,
        through: Through::Cache,
        durable: Durable::End,
    },
    Case {
        name: "4 KiB × 20,000, direct",
        files: 20_000,
        size: 4096,
        workers: 1,
        through: Through::Direct,
        durable: Durable::End,
    },
    Case {
        name: "8 MiB × 150, cache",
        files: 60,
        size: 8 * MIB,
        workers: 1,
        through: Through::Cache,
        durable: Durable::End,
    },
    Case {
        name: "8 MiB × 150, direct, 2 at once",
        files: 60,
        size: 8 * MIB,
        workers: 2,
        through: Through::Direct,
        durable: Durable::End,
    },
];

impl Case {
    fn tree(&self) -> Tree {
        let class = FileClass { from: Bytes::new(self.size), to: Bytes::new(self.size), percent: 100.0 };
        let spec = TreeSpec {
            classes: vec![class],
            total: None,
            count: Some(self.files),
            folder_depth: 1,
            folder_width: 20,
            seed: 1,
        };
        spec.make().unwrap()
    }

    fn load(&self, tree: &Arc<Tree>, carry: Carry) -> Load {
        let freight = Freight {
            carry,
            side: Side::Target,
            tree: tree.clone(),
            through: self.through,
            durable: self.durable,
            order: FileOrder::Folder,
            duplicates_percent: 0,
            resumed: false,
        };
        Load {
            freight: Some(freight),
            workers: self.workers,
            ..Load::sequential(LoadKind::Freight, Bytes::ZERO, Bytes::ZERO, Bytes::new(MIB), 32)
        }
    }
}

/// Seconds until a load is over and durable, with samples a tenth of a second long as in a haul.
fn run(drive: &mut FolderDrive, load: &Load) -> f64 {
    let began = Instant::now();
    drive.begin(load).unwrap();
    let begun = began.elapsed();
    while !drive.work(Duration::from_millis(100)).unwrap().finished {}
    let made = began.elapsed();
    drive.finish(Ending::Durable).unwrap();
    phases("freight", &[begun, made, began.elapsed()]);
    began.elapsed().as_secs_f64()
}

/// With `phases` among the arguments: when each phase was over.
fn phases(who: &str, over: &[Duration]) {
    if std::env::args().any(|a| a == "phases") {
        println!("    {who}: {over:.3?}");
    }
}

fn open(at: i32, path: &str, flags: i32) -> OwnedFd {
    let path = CString::new(path).unwrap();
    // SAFETY: the path ends in a zero and lives through the call; the descriptor is new, and ours.
    unsafe {
        let fd = libc::openat(at, path.as_ptr(), flags | libc::O_CLOEXEC, 0o600);
        assert!(fd >= 0, "{}", std::io::Error::last_os_error());
        OwnedFd::from_raw_fd(fd)
    }
}

/// The same files by nothing but these calls; seconds until they are durable.
/// `folder` lies in one that stays from round to round, as the trees of freight do: a file system puts what is in it to the same place.
fn bare(folder: &Path, tree: &Tree, case: &Case) -> f64 {
    let began = Instant::now();
    std::fs::create_dir(folder).unwrap();
    let root = open(libc::AT_FDCWD, folder.to_str().unwrap(), libc::O_DIRECTORY);
    let flags = libc::O_WRONLY | libc::O_CREAT | libc::O_EXCL | libc::O_CLOEXEC;
    let flags = if case.through == Through::Direct { flags | libc::O_DIRECT } else { flags };
    for folder in 1..=tree.folders() as u32 {
        let path = CString::new(tree.folder_path(folder)).unwrap();
        // SAFETY: the path ends in a zero and lives through the call.
        assert_eq!(unsafe { libc::mkdirat(root.as_raw_fd(), path.as_ptr(), 0o700) }, 0);
    }
    let next = AtomicUsize::new(0);
    let at = root.as_raw_fd();
    std::thread::scope(|scope| {
        for _ in 0..case.workers {
            scope.spawn(|| {
                let layout = std::alloc::Layout::from_size_align(MIB as usize, 4096).unwrap();
                // SAFETY: the layout is not empty; freed below with the same one, written before it is read.
                let memory = unsafe { std::alloc::alloc(layout) };
                // SAFETY: within the allocation.
                (0..MIB as usize).for_each(|i| unsafe { memory.add(i).write((i * 2_654_435_761) as u8) });
                // Names are made as they are needed, as any program has to.
                let mut path = Vec::with_capacity(64);
                loop {
                    let file = next.fetch_add(1, Ordering::Relaxed);
                    if file >= tree.files() {
                        break;
                    }
                    path.clear();
                    match tree.folder_of(file as u32) {
                        0 => write!(path, "f{file}\0").unwrap(),
                        folder => write!(path, "d{folder}/f{file}\0").unwrap(),
                    }
                    // SAFETY: the path ends in a zero, and the memory is as long as what is written of it.
                    unsafe {
                        let fd = libc::openat(at, path.as_ptr().cast(), flags, 0o600);
                        assert!(fd >= 0, "{}", std::io::Error::last_os_error());
                        let mut left = case.size;
                        while left > 0 {
                            let n = libc::write(fd, memory.cast(), left.min(MIB) as usize);
                            assert!(n > 0, "{}", std::io::Error::last_os_error());
                            left -= n as u64;
                        }
                        libc::close(fd);
                    }
                }
                // SAFETY: as above.
                unsafe { std::alloc::dealloc(memory, layout) };
            });
        }
    });
    let made = began.elapsed();
    // SAFETY: an open descriptor.
    assert_eq!(unsafe { libc::syncfs(at) }, 0);
    phases("bare   ", &[made, began.elapsed()]);
    let took = began.elapsed().as_secs_f64();
    std::fs::remove_dir_all(folder).unwrap();
    // SAFETY: as above; what was removed is no part of the next turn.
    unsafe { libc::syncfs(at) };
    took
}

fn measure(name: &str, folder: &Path, rounds: usize) {
    let named = |word: &str| std::env::args().skip_while(|a| a != word).nth(1).unwrap_or_default();
    if !name.contains(&named("on")) {
        return;
    }
    println!("{name}");
    let only = named("only");
    for case in CASES.iter().filter(|c| c.name.contains(&only)) {
        let tree = Arc::new(case.tree());
        let mut drive = FolderDrive::create(folder, 1).unwrap();
        let stays = folder.join("bare");
        std::fs::create_dir(&stays).unwrap();
        let mut pairs = Vec::new();
        for round in 0..=rounds {
            // In turns first: what one leaves behind for the other to wait for is shared.
            let mut times = (0.0, 0.0);
            for ours in [round % 2 == 0, round % 2 != 0] {
                if ours {
                    times.1 = run(&mut drive, &case.load(&tree, Carry::Write));
                    run(&mut drive, &case.load(&tree, Carry::Delete));
                } else {
                    times.0 = bare(&stays.join(format!("t{round}")), &tree, case);
                }
                let _ = Process::new("sync").status();
                // File systems go on with what was removed for a while.
                std::thread::sleep(Duration::from_millis(300));
            }
            let (plain, ours) = times;
            // The first of each meets a cold machine.
            if round > 0 {
                pairs.push((plain, ours));
            }
        }
        drive.release().unwrap();
        std::fs::remove_dir(&stays).unwrap();
        let of = |f: fn(&(f64, f64)) -> f64| median(pairs.iter().map(f));
        println!(
            "  {:<34} bare {:>7.3} s   freight {:>7.3} s   ratio {:.3} of pairs, {:.3} of the faster quarters (asked 0.95)",
            case.name,
            of(|p| p.0),
            of(|p| p.1),
            // What runs first in a round is slower on some file systems: two rounds, one each way round, are one value.
            median(pairs.chunks_exact(2).map(|p| (p[0].0 / p[0].1 * (p[1].0 / p[1].1)).sqrt())),
            // What else goes on in the machine only ever takes time: a quarter of the rounds of each is the least disturbed.
            quarter(pairs.iter().map(|p| p.0)) / quarter(pairs.iter().map(|p| p.1))
        );
    }
}

fn median(values: impl IntoIterator<Item = f64>) -> f64 {
    hollow_mile_core::quantity::stats::median(&mut values.into_iter().collect::<Vec<_>>()).unwrap()
}

/// Below which a quarter of them lie.
fn quarter(values: impl IntoIterator<Item = f64>) -> f64 {
    hollow_mile_core::quantity::stats::quantile(&mut values.into_iter().collect::<Vec<_>>(), 0.25).unwrap()
}

/// Resident memory, MB.
fn resident() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap();
    line.split_ascii_whitespace().nth(1).unwrap().parse::<f64>().unwrap() / 1e3
}

fn many(folder: &Path) {
    let case = Case { files: 100_000, ..CASES[1] };
    let tree = Arc::new(case.tree());
    let mut drive = FolderDrive::create(folder, 1).unwrap();
    drive.begin(&case.load(&tree, Carry::Write)).unwrap();
    let (mut files, mut early) = (0, None);
    loop {
        let tally = drive.work(Duration::from_millis(100)).unwrap();
        files += tally.freight.map_or(0, |f| f.files);
        if files > 10_000 && early.is_none() {
            early = Some(resident());
        }
        if tally.finished {
            break;
        }
    }
    println!(
        "100,000 files of 4 KiB in one leg: resident {:.1} MB after a tenth of them, {:.1} MB after all",
        early.unwrap_or(0.0),
        resident()
    );
    drive.finish(Ending::AsItIs).unwrap();
    drive.release().unwrap();
}

fn main() {
    let rounds = std::env::args().find_map(|a| a.parse().ok()).unwrap_or(12);
    let dir = tempfile::tempdir_in("/dev/shm").unwrap();
    let tmpfs = dir.path().join("tmpfs");
    std::fs::create_dir(&tmpfs).unwrap();
    many(&tmpfs);
    measure("tmpfs", &tmpfs, rounds);
    for (name, make) in [("ext4", "mkfs.ext4 -q"), ("xfs", "mkfs.xfs -q"), ("btrfs", "mkfs.btrfs -q")] {
        let backing = dir.path().join("backing");
        std::fs::File::create(&backing).unwrap().set_len(3 << 30).unwrap();
        let out = Process::new("losetup").args(["--find", "--show"]).arg(&backing).output();
        let Some(out) = out.ok().filter(|o| o.status.success()) else {
            println!("{name}: no loop device to be had here, left out");
            continue;
        };
        let node = String::from_utf8(out.stdout).unwrap().trim().to_owned();
        let point = dir.path().join(name);
        std::fs::create_dir(&point).unwrap();
        let done = |c: &mut Process| {
            c.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
        };
        let mut words = make.split(' ');
        let made = done(Process::new(words.next().unwrap()).args(words).arg(&node));
        if made && done(Process::new("mount").arg(&node).arg(&point)) {
            measure(name, &point, rounds);
            done(Process::new("umount").arg(&point));
        } else {
            println!("{name}: cannot be made here, left out");
        }
        done(Process::new("losetup").arg("--detach").arg(&node));
    }
}
