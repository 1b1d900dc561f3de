//! A lookout on storage whose reads take as long as this test says: a file system of its own, in user space, that holds one file in memory.
#![allow(clippy::unwrap_used, clippy::panic)]

use std::ffi::OsStr;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant, SystemTime};

use fuser::{
    Config, Errno, FileAttr, FileHandle, FileType, Filesystem, FopenFlags, Generation, INodeNo, LockOwner,
    OpenFlags, ReplyAttr, ReplyCreate, ReplyData, ReplyEmpty, ReplyEntry, ReplyOpen, ReplyStatfs, ReplyWrite,
    Request, WriteFlags,
};
use hollow_mile_core::drive::{Drive, Ending, Load, LoadKind};
use hollow_mile_core::quantity::histogram::Histogram;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_drives::linux::{EngineChoice, FileDrive};

const FILE: INodeNo = INodeNo(2);
const TTL: Duration = Duration::from_secs(60);

/// What reads take: most the first, one in forty the second.
/// Long beside what waking takes on a machine whose processors are all busy.
const USUAL: Duration = Duration::from_millis(30);
const SELDOM: Duration = Duration::from_millis(120);
const ONE_IN: u64 = 40;

#[derive(Default)]
struct Slow {
    file: Mutex<Option<Vec<u8>>>,
    reads: AtomicU64,
    /// What each read took, in fact: a thread that sleeps may wake milliseconds late.
    took: Arc<Mutex<Vec<Duration>>>,
}

fn attr(ino: INodeNo, size: u64, kind: FileType) -> FileAttr {
    let now = SystemTime::UNIX_EPOCH;
    let perm = if kind == FileType::Directory { 0o755 } else { 0o600 };
    FileAttr {
        ino,
        size,
        blocks: size.div_ceil(512),
        atime: now,
        mtime: now,
        ctime: now,
        crtime: now,
        kind,
        perm,
        nlink: 1,
        uid: 0,
        gid: 0,
        rdev: 0,
        blksize: 4096,
        flags: 0,
    }
}

impl Slow {
    fn of(&self, ino: INodeNo) -> Option<FileAttr> {
        if ino != FILE {
            return Some(attr(ino, 0, FileType::Directory));
        }
        let file = self.file.lock().unwrap();
        file.as_ref().map(|f| attr(FILE, f.len() as u64, FileType::RegularFile))
    }
}

impl Filesystem for Slow {
    fn lookup(&self, _: &Request, _: INodeNo, _: &OsStr, reply: ReplyEntry) {
        match self.of(FILE) {
            Some(attr) => reply.entry(&TTL, &attr, Generation(0)),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn getattr(&self, _: &Request, ino: INodeNo, _: Option<FileHandle>, reply: ReplyAttr) {
        match self.of(ino) {
            Some(attr) => reply.attr(&TTL, &attr),
            None => reply.error(Errno::ENOENT),
        }
    }

    fn create(&self, _: &Request, _: INodeNo, _: &OsStr, _: u32, _: u32, _: i32, reply: ReplyCreate) {
        *self.file.lock().unwrap() = Some(Vec::new());
        let made = attr(FILE, 0, FileType::RegularFile);
        reply.created(&TTL, &made, Generation(0), FileHandle(0), FopenFlags::FOPEN_DIRECT_IO);
    }

    fn open(&self, _: &Request, _: INodeNo, _: OpenFlags, reply: ReplyOpen) {
        reply.opened(FileHandle(0), FopenFlags::FOPEN_DIRECT_IO);
    }

    fn read(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        size: u32,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyData,
    ) {
        let began = Instant::now();
        let nth = self.reads.fetch_add(1, Ordering::Relaxed);
        let takes = if nth.is_multiple_of(ONE_IN) { SELDOM } else { USUAL };
        // A thread that sleeps wakes late: the last of it is waited for without sleep.
        std::thread::sleep(takes.saturating_sub(Duration::from_micros(300)));
        while began.elapsed() < takes {
            std::hint::spin_loop();
        }
        let file = self.file.lock().unwrap();
        let all = file.as_deref().unwrap_or_default();
        let from = (offset as usize).min(all.len());
        self.took.lock().unwrap().push(began.elapsed());
        reply.data(&all[from..(from + size as usize).min(all.len())]);
    }

    fn write(
        &self,
        _: &Request,
        _: INodeNo,
        _: FileHandle,
        offset: u64,
        data: &[u8],
        _: WriteFlags,
        _: OpenFlags,
        _: Option<LockOwner>,
        reply: ReplyWrite,
    ) {
        let mut file = self.file.lock().unwrap();
        let file = file.get_or_insert_default();
        let past = offset as usize + data.len();
        if file.len() < past {
            file.resize(past, 0);
        }
        file[offset as usize..past].copy_from_slice(data);
        reply.written(data.len() as u32);
    }

    fn fsync(&self, _: &Request, _: INodeNo, _: FileHandle, _: bool, reply: ReplyEmpty) {
        reply.ok();
    }

    fn unlink(&self, _: &Request, _: INodeNo, _: &OsStr, reply: ReplyEmpty) {
        *self.file.lock().unwrap() = None;
        reply.ok();
    }

    fn statfs(&self, _: &Request, _: INodeNo, reply: ReplyStatfs) {
        reply.statfs(1 << 20, 1 << 20, 1 << 20, 1000, 1000, 4096, 255, 4096);
    }
}

/// Works until a load is over, or so long; what the lookout saw.
fn run(drive: &mut FileDrive, load: &Load, most: Duration) -> Histogram {
    drive.begin(load).unwrap();
    let (began, mut seen) = (Instant::now(), Histogram::default());
    while began.elapsed() < most {
        let tally = drive.work(Duration::from_millis(100)).unwrap();
        seen.add(&tally.lookout);
        assert_eq!(tally.errors, 0, "{:?}", tally.faults);
        if tally.finished {
            break;
        }
    }
    seen.add(&drive.finish(Ending::AsItIs).unwrap().late.lookout);
    seen
}

/// By how much later than they asked for sleepers are woken here: median and p99.
fn lateness(most: Duration) -> (Duration, Duration) {
    let (began, mut late) = (Instant::now(), Vec::new());
    while began.elapsed() < most {
        let slept = Instant::now();
        std::thread::sleep(USUAL);
        late.push(slept.elapsed().saturating_sub(USUAL));
    }
    late.sort();
    (late[late.len() / 2], late[late.len() * 99 / 100])
}

#[test]
fn a_lookout_tells_the_delay_of_reads_that_is_known_to_three_percent() {
    let dir = tempfile::tempdir().unwrap();
    let mut config = Config::default();
    config.n_threads = Some(4);
    let took = Arc::new(Mutex::new(Vec::new()));
    let slow = Slow { took: took.clone(), ..Slow::default() };
    let Ok(session) = fuser::spawn_mount(slow, dir.path(), &config) else {
        println!("left out: no file system in user space can be mounted here");
        return;
    };
    let path = dir.path().join("f");
    let size = Bytes::from_mib(8);
    let mut drive = FileDrive::create(&path, size, EngineChoice::Best, 1).unwrap();
    let write = Load {
        limit: Some(size),
        ..Load::sequential(LoadKind::Write, Bytes::ZERO, size, Bytes::new(128 << 10), 4)
    };
    run(&mut drive, &write, Duration::from_secs(60));
    took.lock().unwrap().clear();
    let rest = Load { lookout: Some(Duration::from_millis(60)), ..Load::rest() };
    let (seen, late) = std::thread::scope(|scope| {
        let late = scope.spawn(|| lateness(Duration::from_secs(15)));
        let seen = run(&mut drive, &rest, Duration::from_secs(16));
        (seen, late.join().unwrap())
    });
    let told = |q: f64| seen.told_bin(q).unwrap().middle_ns() / 1e6;
    println!("{} reads: p50 {:.3} ms, p99 {:.3} ms", seen.total(), told(0.5), told(0.99));
    assert!(seen.total() > 200, "{}", seen.total());
    let mut truth = took.lock().unwrap().clone();
    truth.sort();
    let true_ms = |q: f64| truth[((q * truth.len() as f64).ceil() as usize).max(1) - 1].as_secs_f64() * 1e3;
    // A machine that lends its processors to others wakes everybody late, the lookout too: then it tells more than the truth, and never less.
    let wakes_late = late.0 > Duration::from_micros(200) || late.1 > Duration::from_millis(2);
    if wakes_late {
        println!(
            "this machine wakes sleepers {late:.1?} late (median, p99): what is told is held to the lower bound only"
        );
    }
    let close = |q: f64| told(q) > 0.97 * true_ms(q) && (wakes_late || told(q) < 1.03 * true_ms(q));
    assert!(true_ms(0.5) >= USUAL.as_secs_f64() * 1e3 && true_ms(0.99) >= SELDOM.as_secs_f64() * 1e3);
    assert!(close(0.5), "p50 {:.3} ms of {:.3} ms", told(0.5), true_ms(0.5));
    assert!(close(0.99), "p99 {:.3} ms of {:.3} ms", told(0.99), true_ms(0.99));
    drive.release().unwrap();
    drop(session);
}
