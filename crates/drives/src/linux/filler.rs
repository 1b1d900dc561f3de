//! Brings a file system to a level of fill: a second file beside the haul's own grows until so much is used, and goes with it.

use hollow_mile_core::drive::Ending;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hollow_mile_core::drive::{DriveError, Load, LoadKind, LoadSummary, Tally};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use rustix::fs::{lstat, statvfs};

use super::crew::EngineChoice;
use super::file_system::Room;
use super::guard::{Access, Announce, Writable};
use super::mover::Mover;

/// Operations of a filler: large ones, many at once.
const BLOCK: u64 = 1 << 20;
const DEPTH: u32 = 16;

/// The file that fills.
pub struct Filler {
    path: PathBuf,
    inode: (u64, u64),
    mover: Mover,
    /// Bytes it has.
    size: u64,
    /// There is something to write.
    at_work: bool,
    remark: Option<String>,
}

/// Where the filler of a file lies.
#[must_use]
pub fn filler_path(path: &Path) -> PathBuf {
    let mut name = path.file_name().unwrap_or_default().to_owned();
    name.push(".filler");
    path.with_file_name(name)
}

/// Used and whole bytes of the file system that holds this path.
fn used(path: &Path) -> std::io::Result<(u64, u64)> {
    let v = statvfs(path)?;
    let used = (v.f_blocks - v.f_bfree.min(v.f_blocks)).saturating_mul(v.f_frsize);
    Ok((used, v.f_blocks.saturating_mul(v.f_frsize)))
}

/// Bytes that are still to be written beside a path until so many parts per million of its file system are used.
///
/// # Errors
/// Why there is no room for them, or what the kernel says.
pub fn room_for_level(path: &Path, to_ppm: u32) -> Result<Bytes, String> {
    let (used, whole) = used(path).map_err(|e| e.to_string())?;
    let room = Room::of(path).map_err(|e| e.to_string())?;
    let wanted = (whole as f64 * f64::from(to_ppm) / 1e6) as u64;
    let more = Bytes::new(wanted.saturating_sub(used) / BLOCK * BLOCK);
    if more > room.usable() {
        return Err(format!(
            "{:.1} % full needs {more} more, and {} may be used: {} are free, {} stay free for others",
            f64::from(to_ppm) / 1e4,
            room.usable(),
            room.free,
            room.reserve
        ));
    }
    Ok(more)
}

impl Filler {
    /// Makes the file beside another. It must not exist; nothing is written yet.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn create(
        beside: &Path,
        block: u64,
        choice: EngineChoice,
        announce: Announce,
    ) -> Result<Self, DriveError> {
        let path = filler_path(beside);
        let target = format!("file:{}", path.display());
        let refused =
            |why: String| DriveError::Refused { target: target.clone(), doing: "making the filler", why };
        let (file, direct) = Writable::create_file(&path, announce).map_err(|e| refused(e.to_string()))?;
        let stat = lstat(&path).map_err(|e| refused(e.to_string()))?;
        let io = if direct { "direct I/O" } else { "page cache" };
        let mover = Mover::new(&target, Access::Write(Arc::new(file)), io, block, choice, None, 0x5eed);
        let inode = (stat.st_dev, stat.st_ino);
        Ok(Self { path, inode, mover, size: 0, at_work: false, remark: None })
    }

    /// Grows until so many parts per million of the file system are used. The room is taken before the first byte.
    ///
    /// # Errors
    /// When the level would touch the reserve, or there is no room.
    pub fn begin(&mut self, to_ppm: u32) -> Result<(), DriveError> {
        let refused = |why: String| DriveError::Refused {
            target: format!("file:{}", self.path.display()),
            doing: "filling the file system",
            why,
        };
        let (used, whole) = used(&self.path).map_err(|e| refused(e.to_string()))?;
        let more = room_for_level(&self.path, to_ppm).map_err(&refused)?.get();
        let (now, wanted) = (used as f64 / whole.max(1) as f64 * 100.0, f64::from(to_ppm) / 1e4);
        self.at_work = more > 0;
        if more == 0 {
            self.remark = Some(format!(
                "the file system is {now:.1} % full already, no less than the {wanted:.1} % asked for"
            ));
            return Ok(());
        }
        let end = self.size + more;
        if let Access::Write(writable) = self.mover.access() {
            let taken = writable.allocate(Bytes::new(end));
            taken.map_err(|e| self.mover.refused("taking room for the filler", &e.into()))?;
        }
        self.remark = Some(format!("the file system was brought from {now:.1} % to {wanted:.1} %"));
        let (start, end) = (Bytes::new(self.size), Bytes::new(end));
        let load = Load {
            limit: Some(Bytes::new(more)),
            from: Some(start),
            ..Load::sequential(LoadKind::Write, start, end, Bytes::new(BLOCK), DEPTH)
        };
        self.mover.begin(&load)?;
        self.size += more;
        Ok(())
    }

    /// Writes for one interval.
    ///
    /// # Errors
    /// When it cannot go on.
    pub fn work(&mut self, interval: Duration, temperature: Option<Celsius>) -> Result<Tally, DriveError> {
        if !self.at_work {
            return Ok(Tally {
                took: Duration::from_millis(1),
                temperature,
                finished: true,
                ..Tally::default()
            });
        }
        // Its addresses are not those of the haul's own file.
        self.mover.work(interval, temperature).map(|t| Tally { position: None, ..t })
    }

    /// The level is reached, or was given up.
    ///
    /// # Errors
    /// When what is in flight cannot be waited for.
    pub fn finish(&mut self) -> Result<LoadSummary, DriveError> {
        self.at_work = false;
        Ok(LoadSummary { remark: self.remark.take(), ..self.mover.finish(Ending::Durable)? })
    }

    /// Removes the file.
    ///
    /// # Errors
    /// When it could not be removed; the words say where it is.
    pub fn remove(mut self) -> Result<(), DriveError> {
        self.mover.stop();
        let same = lstat(&self.path).is_ok_and(|s| (s.st_dev, s.st_ino) == self.inode);
        if !same {
            return Ok(());
        }
        std::fs::remove_file(&self.path).map_err(|e| DriveError::Refused {
            target: format!("file:{}", self.path.display()),
            doing: "removing the filler",
            why: format!("{e}; {} is left there", self.path.display()),
        })
    }
}
