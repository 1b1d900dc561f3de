//! A file as a drive: made by us, written past the page cache, removed at the end.

use hollow_mile_core::drive::{Asking, Ending};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, DriveKind, Load, LoadKind, LoadSummary, Tally,
};
use hollow_mile_core::drive::{MeterReading, Vitals};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use rustix::fs::{AtFlags, StatxFlags, fstat, statx};
use rustix::io::Errno;

use super::crew::EngineChoice;
use super::file_system::{FileSystem, Room, shown, whole_drive};
use super::filler::Filler;
use super::guard::{Access, Announce, NotMade, Writable, to_nobody};
use super::members::Members;
use super::mover::Mover;
use super::sysfs::Sysfs;
use super::thermometer::Thermometer;
use super::traffic::{Counters, Others};
use super::wipe::Wipe;

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

/// A file that this program made for one haul.
pub struct FileDrive {
    identity: DriveIdentity,
    path: PathBuf,
    inode: (u64, u64),
    allocated: bool,
    mover: Mover,
    wipe: Option<Wipe>,
    /// Brings the file system to a level of fill; made when a route asks for it.
    filler: Option<Filler>,
    filling: bool,
    choice: EngineChoice,
    thermometer: Option<Thermometer>,
    members: Members,
    released: bool,
}

fn system(path: &Path, doing: &'static str, e: impl std::fmt::Display) -> FileError {
    FileError::System { path: shown(path), doing, why: e.to_string() }
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
        Self::create_announced(path, size, choice, seed, &to_nobody)
    }

    /// Makes the file as [`Self::create`] does, after it was announced.
    ///
    /// # Errors
    /// As [`Self::create`], and when it cannot be announced.
    pub fn create_announced(
        path: &Path,
        size: Bytes,
        choice: EngineChoice,
        seed: u64,
        announce: Announce,
    ) -> Result<Self, FileError> {
        if size.get() < 4096 {
            return Err(FileError::Uneven { size: size.binary(), block: "4 KiB".into(), near: 4096 });
        }
        let (path, _) = check(path, size)?;
        let (file, direct) = Writable::create_file(&path, announce).map_err(|e| match e {
            NotMade::Kernel(Errno::EXIST) => FileError::Exists(shown(&path)),
            e => system(&path, "made", e),
        })?;
        let access = Access::Write(Arc::new(file));
        let file = access.descriptor();
        let stat = fstat(file).map_err(|e| system(&path, "examined", e))?;
        let align = statx(file, "", AtFlags::EMPTY_PATH, StatxFlags::DIOALIGN)
            .ok()
            .map_or(0, |s| u64::from(s.stx_dio_offset_align));
        let block = align.clamp(512, 1 << 20);
        let made =
            Self::assemble(&path, size, access, direct, (stat.st_dev, stat.st_ino), block, choice, seed);
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
        access: Access,
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
        let target = format!("file:{}", shown(path));
        // Others may use another part of the same drive.
        let whole = device.as_deref().map(whole_drive);
        let io = if direct { "direct I/O" } else { "page cache (this file system refuses direct I/O)" };
        let others = whole.and_then(Counters::of).map(Others::new);
        let mut identity = DriveIdentity::plain(&target, DriveKind::File, size);
        identity.model = format!("file on {kind}");
        identity.serial = source;
        identity.block = Bytes::new(block);
        Self {
            identity,
            path: path.to_owned(),
            inode,
            allocated: false,
            mover: Mover::new(&target, access, io, block, choice, others, seed),
            wipe: None,
            filler: None,
            filling: false,
            choice,
            thermometer: device.and_then(|d| Thermometer::of(&d)),
            members: Members::under(&Sysfs::default(), path),
            released: false,
        }
    }

    /// Makes the file that brings the file system to a level of fill. Whoever writes down what may be left behind asks
    /// for it before the haul; else it is made when a route first fills.
    ///
    /// # Errors
    /// When it cannot be made.
    pub fn make_filler(&mut self, announce: Announce) -> Result<(), DriveError> {
        if self.filler.is_none() {
            let block = self.identity.block.get();
            self.filler = Some(Filler::create(&self.path, block, self.choice, announce)?);
        }
        Ok(())
    }

    /// Where the file lies.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Takes the room on the file system before the first byte, so that it cannot run out in the middle.
    fn allocate(&mut self) -> Result<(), DriveError> {
        if let (false, Access::Write(writable)) = (self.allocated, self.mover.access()) {
            writable
                .allocate(self.identity.capacity)
                .map_err(|e| self.mover.refused("taking room for the file", &e.into()))?;
            self.allocated = true;
        }
        Ok(())
    }
}

impl Drive for FileDrive {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }

    fn engine(&self) -> String {
        self.mover.engine()
    }

    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        if matches!(load.kind, LoadKind::SelfTest { .. }) {
            return Err(self.mover.refused("starting a self-test", &std::io::ErrorKind::Unsupported.into()));
        }
        if load.kind.moves() || load.kind == LoadKind::Wipe {
            self.allocate()?;
        }
        self.filling = false;
        if let LoadKind::Fill { to_ppm } = load.kind {
            self.make_filler(&to_nobody)?;
            self.mover.look_out(load)?;
            if let Some(filler) = &mut self.filler {
                filler.begin(to_ppm)?;
                self.filling = true;
            }
            return Ok(());
        }
        self.wipe = (load.kind == LoadKind::Wipe).then(|| Wipe::new(load, &[]));
        self.mover.begin(load)
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        let temperature = self.thermometer.as_ref().and_then(Thermometer::reading);
        match (&mut self.wipe, &mut self.filler) {
            (_, Some(filler)) if self.filling => {
                let mut tally = filler.work(interval, temperature)?;
                self.mover.add_lookout(&mut tally);
                Ok(tally)
            }
            (Some(wipe), _) => wipe.work(&mut self.mover, interval, temperature),
            (None, _) => self.mover.work(interval, temperature),
        }
    }

    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        if let Some(filler) = self.filler.as_mut().filter(|_| self.filling) {
            self.filling = false;
            let mut summary = filler.finish()?;
            summary.late.lookout = self.mover.end_lookout();
            return Ok(summary);
        }
        let remark = self.wipe.take().map(|w| w.confirm(&self.path));
        Ok(LoadSummary { remark, ..self.mover.finish(ending)? })
    }

    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        self.mover.flush()
    }

    fn vitals(&mut self) -> Option<Vitals> {
        let composite_temperature = self.thermometer.as_ref()?.reading();
        Some(Vitals { composite_temperature, ..Vitals::default() })
    }

    fn ask_health(&mut self, how: Asking) -> bool {
        self.thermometer.iter().for_each(|t| t.ask_health(how));
        self.thermometer.is_some() | self.members.ask_health(how)
    }

    fn temperatures(&mut self) -> Vec<(String, Celsius)> {
        self.members.temperatures()
    }

    fn meters(&mut self) -> Vec<MeterReading> {
        self.members.readings()
    }

    fn release(&mut self) -> Result<(), DriveError> {
        self.mover.stop();
        if self.released {
            return Ok(());
        }
        self.released = true;
        let filler = self.filler.take().map_or(Ok(()), Filler::remove);
        // Only what we made: another file by this name stays.
        let same = rustix::fs::lstat(&self.path).is_ok_and(|s| (s.st_dev, s.st_ino) == self.inode);
        if same {
            std::fs::remove_file(&self.path).map_err(|e| DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "removing the file",
                why: format!("{e}; {} is left there", self.path.display()),
            })?;
        }
        filler
    }
}

impl Drop for FileDrive {
    fn drop(&mut self) {
        let _ = self.release();
    }
}
