//! A file as a drive: made by us, written past the page cache, removed at the end.

use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, DriveKind, Load, LoadKind, LoadSummary, Tally,
};
use hollow_mile_core::event::{LatencySummary, Vitals};
use hollow_mile_core::units::Bytes;
use rustix::fs::{
    AtFlags, FallocateFlags, Mode, OFlags, StatxFlags, fallocate, fdatasync, fstat, open, statx,
};
use rustix::io::Errno;

use super::file_system::{FileSystem, Room};
use super::pump::{Pump, Pumped};
use super::ring::Ring;
use super::thermometer::Thermometer;
use super::threads::Threads;
use crate::latency::points;

/// Why a file cannot be a target.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FileError {
    /// The path is a folder.
    #[error("{0} is a folder: give the name of a new file in it")]
    Folder(String),
    /// Something is there already.
    #[error("{0} exists and is not a file of this program: give the name of a file that does not exist")]
    Exists(String),
    /// The folder is not there.
    #[error("the folder of {0} does not exist: make it, or give another path")]
    NoFolder(String),
    /// The size cannot be addressed.
    #[error("the size {size} is not a multiple of the block of {block}: give a size such as {near} B")]
    Uneven {
        /// As asked.
        size: String,
        /// Smallest unit there.
        block: String,
        /// The nearest size below that could be.
        near: u64,
    },
    /// Too little is free.
    #[error(
        "no space for {asked} at {path}: {free} free, of which {reserve} stay free for others; at most --size {most}"
    )]
    NoSpace {
        /// As asked.
        asked: String,
        /// Where.
        path: String,
        /// Free now.
        free: String,
        /// Kept free.
        reserve: String,
        /// What would do.
        most: u64,
    },
    /// The system said no.
    #[error("{path} cannot be {doing}: {why}")]
    System {
        /// Where.
        path: String,
        /// What was tried.
        doing: &'static str,
        /// The kernel's words.
        why: String,
    },
}

/// Which engine to use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum EngineChoice {
    /// `io_uring`, or threads where it is refused.
    #[default]
    Best,
    /// Worker threads.
    Threads,
}

enum Engine {
    Idle,
    Ring(Box<Pump<Ring>>),
    Threads(Box<Pump<Threads>>),
}

/// Runs the same code on whichever pump there is.
macro_rules! with_pump {
    ($engine:expr, $pump:ident => $body:expr, idle => $idle:expr) => {
        match $engine {
            Engine::Idle => $idle,
            Engine::Ring($pump) => $body,
            Engine::Threads($pump) => $body,
        }
    };
}

/// A file that this program made for one haul.
pub struct FileDrive {
    identity: DriveIdentity,
    path: PathBuf,
    file: Arc<OwnedFd>,
    inode: (u64, u64),
    direct: bool,
    choice: EngineChoice,
    engine: Engine,
    engine_words: Option<String>,
    allocated: bool,
    load: Option<Load>,
    next: u64,
    mark: Instant,
    thermometer: Option<Thermometer>,
    released: bool,
    seed: u64,
}

fn system(path: &Path, doing: &'static str, e: impl std::fmt::Display) -> FileError {
    FileError::System { path: shown(path), doing, why: e.to_string() }
}

fn shown(path: &Path) -> String {
    path.to_string_lossy().chars().filter(|c| !c.is_control()).collect()
}

/// Where, and what is there: checks all that can be known before a byte is written.
fn check(path: &Path, size: Bytes) -> Result<(PathBuf, Room), FileError> {
    let text = path.as_os_str().to_string_lossy();
    if path.is_dir() || text.ends_with('/') {
        return Err(FileError::Folder(shown(path)));
    }
    if path.symlink_metadata().is_ok() {
        return Err(FileError::Exists(shown(path)));
    }
    let folder = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let folder = folder.canonicalize().map_err(|_| FileError::NoFolder(shown(path)))?;
    let room = Room::of(&folder).map_err(|e| system(&folder, "asked for its room", e))?;
    if size > room.usable() {
        return Err(FileError::NoSpace {
            asked: size.to_string(),
            path: shown(path),
            free: room.free.to_string(),
            reserve: room.reserve.to_string(),
            most: room.usable().get() / 4096 * 4096,
        });
    }
    let name = path.file_name().ok_or_else(|| FileError::Folder(shown(path)))?;
    Ok((folder.join(name), room))
}

impl FileDrive {
    /// Makes the file. It must not exist; nothing is written yet.
    ///
    /// # Errors
    /// When the place, the size or the room does not allow it.
    pub fn create(path: &Path, size: Bytes, choice: EngineChoice, seed: u64) -> Result<Self, FileError> {
        if size.get() < 4096 {
            return Err(FileError::Uneven { size: size.binary(), block: "4 KiB".into(), near: 4096 });
        }
        let (path, _) = check(path, size)?;
        let flags = OFlags::RDWR | OFlags::CREATE | OFlags::EXCL | OFlags::CLOEXEC;
        let mode = Mode::from_bits_truncate(0o600);
        // Made first and opened for direct I/O then: a file system may make the file and refuse the flag.
        let plain = open(&path, flags, mode).map_err(|e| match e {
            Errno::EXIST => FileError::Exists(shown(&path)),
            e => system(&path, "made", e),
        })?;
        let direct = open(&path, OFlags::RDWR | OFlags::CLOEXEC | OFlags::DIRECT, Mode::empty());
        let (file, direct) = match direct {
            Ok(file) => (file, true),
            Err(_) => (plain, false),
        };
        let stat = fstat(&file).map_err(|e| system(&path, "examined", e))?;
        let align = statx(&file, "", AtFlags::EMPTY_PATH, StatxFlags::DIOALIGN)
            .ok()
            .map_or(0, |s| u64::from(s.stx_dio_offset_align));
        let block = align.clamp(512, 1 << 20);
        let made = Self::assemble(&path, size, file, direct, (stat.st_dev, stat.st_ino), block, choice, seed);
        if !size.get().is_multiple_of(block) {
            let error = FileError::Uneven {
                size: format!("{} B", size.get()),
                block: Bytes::new(block).binary(),
                near: (size.get() / block * block).max(block),
            };
            drop(made);
            return Err(error);
        }
        Ok(made)
    }

    #[allow(clippy::too_many_arguments)]
    fn assemble(
        path: &Path,
        size: Bytes,
        file: OwnedFd,
        direct: bool,
        inode: (u64, u64),
        block: u64,
        choice: EngineChoice,
        seed: u64,
    ) -> Self {
        let fs = FileSystem::of(path);
        let (kind, source) =
            fs.as_ref().map_or(("unknown".into(), "unknown".into()), |f| (f.kind.clone(), f.source.clone()));
        let device = fs.and_then(|f| f.device);
        Self {
            identity: DriveIdentity {
                target: format!("file:{}", shown(path)),
                kind: DriveKind::File,
                model: format!("file on {kind}"),
                serial: source,
                firmware: String::new(),
                capacity: size,
                block: Bytes::new(block),
                rotational: false,
                link: None,
                throttle_limit: None,
                rated_writes: None,
                fill_percent: None,
            },
            path: path.to_owned(),
            file: Arc::new(file),
            inode,
            direct,
            choice,
            engine: Engine::Idle,
            engine_words: None,
            allocated: false,
            load: None,
            next: 0,
            mark: Instant::now(),
            thermometer: device.and_then(|d| Thermometer::of(&d)),
            released: false,
            seed,
        }
    }

    /// Where the file lies.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    fn refused(&self, doing: &'static str, e: &std::io::Error) -> DriveError {
        let target = self.identity.target.clone();
        match e.raw_os_error() {
            Some(libc::ENOSPC | libc::EDQUOT) => DriveError::NoSpace { target, at: Bytes::new(self.next) },
            Some(libc::ENODEV | libc::ENXIO | libc::ESTALE) => {
                DriveError::Gone { target, why: e.to_string() }
            }
            _ => DriveError::Refused { target, doing, why: e.to_string() },
        }
    }

    /// Takes the room on the file system before the first byte, so that it cannot run out in the middle.
    fn allocate(&mut self) -> Result<(), DriveError> {
        if self.allocated {
            return Ok(());
        }
        match fallocate(self.file.as_fd(), FallocateFlags::empty(), 0, self.identity.capacity.get()) {
            Ok(()) | Err(Errno::OPNOTSUPP | Errno::NOSYS) => {
                self.allocated = true;
                Ok(())
            }
            Err(e) => Err(self.refused("taking room for the file", &e.into())),
        }
    }

    /// Tells why an operation that failed ends the haul, if it does.
    fn fatal(&self, pumped: &Pumped) -> Result<(), DriveError> {
        match pumped.first_error {
            Some((_, code @ (libc::ENOSPC | libc::EDQUOT | libc::ENODEV | libc::ENXIO | libc::ESTALE))) => {
                Err(self.refused("writing", &std::io::Error::from_raw_os_error(code)))
            }
            _ => Ok(()),
        }
    }

    fn lap(&mut self) -> Duration {
        let now = Instant::now();
        let took = now - self.mark;
        self.mark = now;
        took
    }
}

impl Drive for FileDrive {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }

    /// Asked before the first load too: what will be tried is found out by trying.
    fn engine(&self) -> String {
        let io = if self.direct { "direct I/O" } else { "page cache (this file system refuses direct I/O)" };
        let words = self.engine_words.clone().unwrap_or_else(|| {
            let load = Load {
                kind: LoadKind::Read,
                start: Bytes::ZERO,
                end: self.identity.capacity,
                block: Bytes::new(4096),
                depth: 1,
                limit: Some(Bytes::ZERO),
            };
            let ring = (self.choice == EngineChoice::Best)
                .then(|| Pump::<Ring>::new(&self.file, &load, 0, Some(0), 0).ok())
                .flatten();
            ring.map_or_else(|| "worker threads".into(), |r| r.words())
        });
        format!("{words}, {io}")
    }

    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.mark = Instant::now();
        self.load = Some(load.clone());
        self.engine = Engine::Idle;
        if load.kind == LoadKind::Rest {
            return Ok(());
        }
        self.allocate()?;
        let block = self.identity.block.get();
        if !load.block.get().is_multiple_of(block) {
            return Err(DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "preparing the load",
                why: format!(
                    "its block of {} is not a multiple of {}",
                    load.block.binary(),
                    Bytes::new(block).binary()
                ),
            });
        }
        if !(load.start.get()..load.end.get()).contains(&self.next) {
            self.next = load.start.get();
        }
        let limit = load.limit.map(|l| l.get() / block * block);
        self.seed = self.seed.wrapping_add(1);
        let ring = match self.choice {
            EngineChoice::Best => Pump::<Ring>::new(&self.file, load, self.next, limit, self.seed)
                .map(|p| Engine::Ring(Box::new(p))),
            EngineChoice::Threads => Err(std::io::ErrorKind::Unsupported.into()),
        };
        self.engine = match ring {
            Ok(ring) => ring,
            Err(_) => Pump::<Threads>::new(&self.file, load, self.next, limit, self.seed)
                .map(|p| Engine::Threads(Box::new(p)))
                .map_err(|e| self.refused("setting up the queue", &e))?,
        };
        self.engine_words = with_pump!(&self.engine, p => Some(p.words()), idle => None);
        self.mark = Instant::now();
        Ok(())
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        let deadline = self.mark + interval;
        let writes = self.load.as_ref().is_some_and(|l| l.kind == LoadKind::Write);
        let ran = with_pump!(&mut self.engine,
        p => p.run(deadline).map(|pumped| {
            let latency = p.close_interval(LatencySummary::of);
            Some((pumped, latency, p.position()))
        }),
        idle => {
            std::thread::sleep(deadline.saturating_duration_since(Instant::now()));
            Ok(None)
        });
        let ran = ran.map_err(|e| self.refused("moving data", &e))?;
        let took = self.lap();
        let temperature = self.thermometer.as_ref().and_then(Thermometer::reading);
        let Some((pumped, latency, position)) = ran else {
            return Ok(Tally { took, temperature, ..Tally::default() });
        };
        self.next = position.get();
        self.fatal(&pumped)?;
        let bytes = Bytes::new(pumped.bytes);
        Ok(Tally {
            took,
            written: if writes { bytes } else { Bytes::ZERO },
            read: if writes { Bytes::ZERO } else { bytes },
            position: Some(position),
            temperature,
            latency,
            other: None,
            errors: pumped.errors,
            first_error: pumped.first_error.map(|(address, code)| {
                let verb = if writes { "write" } else { "read" };
                (Bytes::new(address), format!("{verb} failed: {}", std::io::Error::from_raw_os_error(code)))
            }),
            fill_ppm: None,
            finished: pumped.finished,
        })
    }

    fn finish(&mut self, flush: bool) -> Result<LoadSummary, DriveError> {
        let drained = with_pump!(&mut self.engine,
        p => p.drain().map(|pumped| {
            p.close_interval(|_| ());
            (pumped, p.position(), points(&p.whole))
        }).map(Some),
        idle => Ok(None));
        let drained = drained.map_err(|e| self.refused("draining the queue", &e))?;
        self.engine = Engine::Idle;
        let drain = self.lap();
        let mut summary = LoadSummary::default();
        if let Some((pumped, position, histogram)) = drained {
            self.next = position.get();
            // A drain of nothing takes microseconds, which is no part of the record.
            if pumped.bytes > 0 {
                summary.drained = Bytes::new(pumped.bytes);
                summary.drain = drain;
            }
            summary.histogram = histogram;
            summary.engine = Some(self.engine());
        }
        if flush {
            fdatasync(self.file.as_fd()).map_err(|e| self.refused("flushing", &e.into()))?;
            summary.flush = Some(self.lap());
        }
        Ok(summary)
    }

    fn vitals(&mut self) -> Option<Vitals> {
        let composite_temperature = self.thermometer.as_ref()?.reading();
        Some(Vitals { composite_temperature, ..Vitals::default() })
    }

    fn release(&mut self) -> Result<(), DriveError> {
        self.engine = Engine::Idle;
        if self.released {
            return Ok(());
        }
        self.released = true;
        // Only what we made: another file by this name stays.
        let same = rustix::fs::lstat(&self.path).is_ok_and(|s| (s.st_dev, s.st_ino) == self.inode);
        if same {
            std::fs::remove_file(&self.path).map_err(|e| DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "removing the file",
                why: format!("{e}; {} is left there", self.path.display()),
            })?;
        }
        Ok(())
    }
}

impl Drop for FileDrive {
    fn drop(&mut self) {
        let _ = self.release();
    }
}
