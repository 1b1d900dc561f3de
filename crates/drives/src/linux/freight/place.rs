//! Where files lie: a folder of ours on a file system, the trees in it, and what the kernel tells of the drive below.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;
use std::sync::Arc;

use hollow_mile_core::drive::freight::{Cargo, Tree};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use rustix::fs::statvfs;
use rustix::io::Errno;

use super::super::file_system::{FileSystem, Room, shown, whole_drive};
use super::super::guard::{Announce, Inside, NotMade, OwnFolder, Way};
use super::super::thermometer::Thermometer;
use super::super::traffic::{Counters, Moved};

/// Why a folder cannot be hauled on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FolderError {
    /// There is none.
    #[error(
        "{0} is no folder: give one that exists; a folder of our own is made in it and removed at the end"
    )]
    NotThere(String),
    /// The system said no.
    #[error("no folder can be made in {path}: {why}")]
    System {
        /// Where.
        path: String,
        /// The kernel's words.
        why: String,
    },
    /// The drive that files come from cannot be read.
    #[error("{0}")]
    Source(String),
    /// The trees do not fit.
    #[error("{0}")]
    NoRoom(String),
}

/// What the kernel tells of the drive below a folder.
pub(super) struct Below {
    counters: Option<Counters>,
    last: Option<Moved>,
    thermometer: Option<Thermometer>,
}

impl Below {
    pub fn of(device: Option<&Path>) -> Self {
        // Bytes are counted for the whole drive, also where the folder lies in a partition of it.
        let counters = device.map(whole_drive).and_then(Counters::of);
        let last = counters.as_ref().and_then(Counters::read);
        Self { counters, last, thermometer: device.and_then(Thermometer::of) }
    }

    /// What it did since the last call.
    pub fn moved(&mut self) -> Option<Moved> {
        let (last, now) = (self.last?, self.counters.as_ref()?.read()?);
        self.last = Some(now);
        Some(Moved {
            read: now.read.saturating_sub(last.read),
            written: now.written.saturating_sub(last.written),
            busy_ms: now.busy_ms.saturating_sub(last.busy_ms),
        })
    }

    pub fn temperature(&self) -> Option<Celsius> {
        self.thermometer.as_ref().and_then(Thermometer::reading)
    }
}

/// A tree that lies in a folder of ours.
pub(super) struct Laid {
    pub inside: Inside,
    pub tree: Arc<Tree>,
    /// Some of its files are not there.
    pub partial: bool,
}

/// A folder of ours on a file system, and the trees in it.
pub(super) struct Place {
    pub own: OwnFolder,
    pub laid: Vec<Laid>,
    pub made: u32,
    pub below: Below,
}

impl Place {
    pub fn make(folder: &Path, announce: Announce) -> Result<(Self, Option<FileSystem>), FolderError> {
        let shown = shown(folder);
        let path = folder.canonicalize().map_err(|_| FolderError::NotThere(shown.clone()))?;
        if !path.is_dir() {
            return Err(FolderError::NotThere(shown));
        }
        let fs = FileSystem::of(&path);
        let why = |e: NotMade| FolderError::System { path: shown.clone(), why: e.to_string() };
        let own = OwnFolder::create(&path, announce).map_err(why)?;
        let below = Below::of(fs.as_ref().and_then(|f| f.device.as_deref()));
        Ok((Self { own, laid: Vec::new(), made: 0, below }, fs))
    }
}

/// Whether a tree fits beside what is there: each file takes whole blocks, and an inode.
pub(super) fn fits(path: &Path, cargo: Cargo) -> Result<(), FolderError> {
    let system = |e: &dyn std::fmt::Display| FolderError::System { path: shown(path), why: e.to_string() };
    let room = Room::of(path).map_err(|e| system(&e))?;
    let v = statvfs(path).map_err(|e| system(&e))?;
    // Half a block a file is lost on average; metadata takes a hundredth more.
    let block = v.f_frsize.max(512);
    let needs = cargo.bytes.get() + cargo.bytes.get() / 100 + (cargo.files / 2 + cargo.folders + 64) * block;
    let needs = Bytes::new(needs);
    if needs > room.usable() {
        return Err(FolderError::NoRoom(format!(
            "no space for the tree: it takes {needs}, and {} may be used at {}: {} are free, {} stay free for others",
            room.usable(),
            shown(path),
            room.free,
            room.reserve
        )));
    }
    let inodes = cargo.files + cargo.folders + 64;
    if v.f_files > 0 && inodes > v.f_favail {
        return Err(FolderError::NoRoom(format!(
            "the tree has {} files and folders, and the file system at {} has room for {} more",
            cargo.files + cargo.folders,
            shown(path),
            v.f_favail
        )));
    }
    Ok(())
}

/// Dirty and Writeback of /proc/meminfo (proc_meminfo(5)).
pub(super) fn unwritten(memory: &File) -> Option<Bytes> {
    let mut buffer = [0u8; 4096];
    let n = memory.read_at(&mut buffer, 0).ok()?;
    let text = std::str::from_utf8(&buffer[..n]).ok()?;
    let of = |key: &str| {
        let line = text.lines().find_map(|l| l.strip_prefix(key))?;
        line.trim().trim_end_matches("kB").trim().parse::<u64>().ok()
    };
    Some(Bytes::new((of("Dirty:")? + of("Writeback:")?) * 1024))
}

/// Whether the file system opens files for direct I/O.
pub(super) fn takes_direct(inside: &Inside) -> Result<(), String> {
    let mut way: Way = inside.way();
    way.takes_direct().map_err(|e| match e {
        Errno::INVAL => "this file system does not do that: use through = \"cache\"".into(),
        e => e.to_string(),
    })
}
