//! A folder as a drive: a folder of our own is made in it, trees of files are written there, read back, copied to and deleted, and it
//! goes with all that is in it.

mod files;
mod job;
mod look;
mod place;
mod raw;
mod shape;
mod shared;

use std::fs::File;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::freight::{Cargo, Carry, Durable, Freight, Side, Through};
use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, DriveKind, Ending, Late, Load, LoadKind, LoadSummary, Tally, Vitals,
};
use hollow_mile_core::quantity::units::Bytes;
use rustix::fs::{fstat, statvfs, syncfs};
use rustix::io::Errno;

use super::file_system::{FileSystem, Room, shown, whole_drive};
use super::guard::{Announce, OwnFolder, open_for_reading, to_nobody};
use super::sysfs::Sysfs;
use crate::account::{At, gather};
use crate::latency::{histogram, points};
use hdrhistogram::Histogram;
use job::{From, Job, Plan};
use look::Outlook;
use raw::Raw;

pub use place::FolderError;
pub use shape::shape_of;

use place::{Below, Laid, Place, fits, takes_direct, unwritten};

/// The room of a file system is looked at again so often while files are written.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// From where copies come.
enum Source {
    Folder(Place),
    Drive(Arc<Raw>, Below),
}

impl Source {
    fn below(&mut self) -> &mut Below {
        match self {
            Self::Folder(place) => &mut place.below,
            Self::Drive(_, below) => below,
        }
    }
}

/// A load under way.
struct Running {
    job: Job,
    freight: Freight,
    told: Instant,
    looked: Instant,
    latency: Histogram<u64>,
}

/// A folder of ours.
pub struct FolderDrive {
    identity: DriveIdentity,
    target: Place,
    source: Option<Source>,
    running: Option<Running>,
    rest: Option<Instant>,
    outlook: Outlook,
    /// Dirty and Writeback of /proc/meminfo.
    memory: Option<File>,
    seed: u64,
}

impl FolderDrive {
    /// Makes a folder of our own in one that exists. Nothing but its mark is written yet.
    ///
    /// # Errors
    /// When there is no such folder, or none can be made in it.
    pub fn create(folder: &Path, seed: u64) -> Result<Self, FolderError> {
        Self::create_announced(folder, seed, &to_nobody)
    }

    /// Makes the folder as [`Self::create`] does, after it was announced.
    ///
    /// # Errors
    /// As [`Self::create`], and when it cannot be announced.
    pub fn create_announced(folder: &Path, seed: u64, announce: Announce) -> Result<Self, FolderError> {
        // The clock of the threads reads the processor's own counter, and takes a moment to learn how fast that is.
        let _ = quanta::Instant::now();
        let (target, fs) = Place::make(folder, announce)?;
        let (kind, source) = fs.map_or(("unknown".into(), "unknown".into()), |f| (f.kind, f.source));
        // The whole, and not what is free: that is another from haul to haul.
        let whole = statvfs(target.own.path())
            .map_err(|e| FolderError::System { path: shown(folder), why: e.to_string() })?;
        let capacity = Bytes::new(whole.f_blocks.saturating_mul(whole.f_frsize));
        let mut identity =
            DriveIdentity::plain(&format!("folder:{}", shown(folder)), DriveKind::Folder, capacity);
        identity.model = format!("folder on {kind}");
        identity.serial = source;
        identity.block = Bytes::new(512);
        let memory = File::open("/proc/meminfo").ok();
        Ok(Self {
            identity,
            target,
            source: None,
            running: None,
            rest: None,
            outlook: Outlook::default(),
            memory,
            seed,
        })
    }

    /// Names what copies come from: a folder, in which one of our own is made, or a drive, which is opened read-only.
    ///
    /// # Errors
    /// When it cannot be used so.
    pub fn set_source(&mut self, source: &Path, announce: Announce) -> Result<(), FolderError> {
        // There are folders below /dev too.
        self.source = Some(if source.starts_with("/dev") && !source.is_dir() {
            let device = Sysfs::default().by_path(source).map_err(FolderError::Source)?;
            let access = open_for_reading(&device).map_err(FolderError::Source)?;
            let capacity = device.identity().capacity;
            if capacity.get() < 1 << 20 {
                return Err(FolderError::Source(format!(
                    "{} holds {capacity}: too little to copy from",
                    source.display()
                )));
            }
            Source::Drive(Arc::new(Raw::new(access, capacity)), Below::of(Some(&device.folder)))
        } else {
            Source::Folder(Place::make(source, announce)?.0)
        });
        Ok(())
    }

    /// The folders that were made, to be written down before a byte lies in them.
    #[must_use]
    pub fn folders(&self) -> Vec<PathBuf> {
        let mut all = vec![self.target.own.path().to_owned()];
        if let Some(Source::Folder(place)) = &self.source {
            all.push(place.own.path().to_owned());
        }
        all
    }

    /// Source and target share a file system, or the drive that holds it.
    #[must_use]
    pub fn shares_a_drive(&self) -> bool {
        let device = |path: &Path| FileSystem::of(path).and_then(|f| f.device);
        match &self.source {
            Some(Source::Folder(place)) => {
                self.shares_a_file_system(place)
                    || device(place.own.path())
                        .zip(device(self.target.own.path()))
                        .is_some_and(|(a, b)| whole_drive(&a) == whole_drive(&b))
            }
            _ => false,
        }
    }

    /// Whether trees that lie there at once fit, on the target and on the source.
    ///
    /// # Errors
    /// What does not, and how much would.
    pub fn fits(&self, target: Cargo, source: Cargo) -> Result<(), FolderError> {
        fits(self.target.own.path(), target)?;
        match &self.source {
            Some(Source::Folder(place)) if self.shares_a_file_system(place) => {
                fits(self.target.own.path(), target + source)
            }
            Some(Source::Folder(place)) => fits(place.own.path(), source),
            _ => Ok(()),
        }
    }

    fn shares_a_file_system(&self, place: &Place) -> bool {
        let number = |own: &OwnFolder| fstat(own.root()).map(|s| s.st_dev).ok();
        number(&place.own) == number(&self.target.own)
    }

    fn refused(&self, doing: &'static str, why: impl Into<String>) -> DriveError {
        DriveError::Refused { target: self.identity.target.clone(), doing, why: why.into() }
    }

    /// Where a leg works, and on what tree.
    fn plan(&mut self, load: &Load, freight: &Freight) -> Result<Option<Plan>, DriveError> {
        let from = match (freight.carry, &self.source) {
            (Carry::Copy, Some(Source::Drive(raw, _))) => {
                Some((From::Raw(raw.clone()), freight.tree.clone(), false))
            }
            (Carry::Copy, Some(Source::Folder(place))) => {
                let Some(laid) = place.laid.last() else {
                    let why = "nothing lies at the source: put a leg before it that writes a tree there (at = \"source\")";
                    return Err(self.refused("copying", why));
                };
                Some((From::Tree(laid.inside.clone()), laid.tree.clone(), laid.partial))
            }
            (Carry::Copy, None) => {
                return Err(self.refused("copying", "it needs a source: give one with --from"));
            }
            _ => None,
        };
        let place = match (freight.side, &mut self.source) {
            (Side::Target, _) => &mut self.target,
            (Side::Source, Some(Source::Folder(place))) => place,
            // A drive is read as it lies.
            (Side::Source, Some(Source::Drive(..))) => return Ok(None),
            (Side::Source, None) => {
                return Err(self.refused("working at the source", "there is none: give one with --from"));
            }
        };
        let (inside, tree, partial) = if freight.carry.makes() {
            let tree = from.as_ref().map_or(&freight.tree, |f| &f.1).clone();
            let cargo = tree.cargo();
            fits(place.own.path(), cargo).map_err(|e| DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "making room for the files",
                why: e.to_string(),
            })?;
            place.made += 1;
            let name = format!("t{}", place.made);
            let inside = place.own.make_inside(&name).map_err(|e| DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "making a folder",
                why: e.to_string(),
            })?;
            // Whole once every file is there.
            place.laid.push(Laid { inside: inside.clone(), tree: tree.clone(), partial: true });
            (inside, tree, from.as_ref().is_some_and(|f| f.2))
        } else {
            let Some(laid) = place.laid.last() else {
                return Err(self.refused(
                    freight.carry.word(),
                    "no tree lies there: put a leg before it that writes one",
                ));
            };
            if freight.carry == Carry::Read && freight.through == Through::Cache {
                // What is still to be written cannot be let go of, and would be read from memory.
                let _ = syncfs(laid.inside.root());
            }
            (laid.inside.clone(), laid.tree.clone(), laid.partial)
        };
        let largest = (0..tree.files()).map(|f| tree.size(f)).max().unwrap_or(0);
        Ok(Some(Plan {
            carry: freight.carry,
            order: Arc::new(tree.order(freight.order)),
            tree,
            inside,
            from: from.map(|f| f.0),
            partial,
            // No more memory than the largest file needs.
            block: load.block.get().min(largest).max(1) as usize,
            threads: load.workers as usize,
            depth: load.depth as usize,
            direct: freight.through == Through::Direct,
            durable: freight.durable,
            duplicates_percent: freight.duplicates_percent,
            compressible_percent: load.compressible_percent,
            seed: self.seed,
        }))
    }

    /// What was done since the last tally.
    fn tally(&mut self) -> Tally {
        let Some(running) = &mut self.running else { return Tally::default() };
        let (mut tally, mut done, latency) = gather(running.job.take().into_iter());
        let at_work = done.spent.machine + done.spent.source_machine;
        let now = Instant::now();
        tally.took = now - running.told;
        running.told = now;
        done.threads = running.job.threads();
        done.of_files = running.job.files();
        done.queue_ppm = running.job.queue_ppm();
        done.in_hand = Some(running.job.in_hand()).filter(|b| *b > 0).map(Bytes::new);
        done.unwritten = self.memory.as_ref().and_then(unwritten);
        let below = self.target.below.moved();
        done.device_written = below.map(|m| Bytes::new(m.written));
        done.device_busy = below.map(|m| Duration::from_millis(m.busy_ms));
        let read = match &mut self.source {
            Some(source) => source.below().moved(),
            None => below,
        };
        done.device_read = read.map(|m| Bytes::new(m.read));
        done.source_temperature = self.source.as_mut().and_then(|s| s.below().temperature());
        if running.freight.side == Side::Source {
            // What is done at the source is told of the source.
            (done.device_written, done.device_busy) = (None, None);
        }
        let _ = running.latency.add(&latency);
        let threads = f64::from(running.job.threads()) * tally.took.as_secs_f64();
        tally.host_busy_ppm =
            (threads > 0.0).then(|| (at_work.as_secs_f64() / threads * 1e6).min(1e6) as u32);
        tally.freight = Some(Box::new(done));
        tally.temperature = self.target.below.temperature();
        tally
    }

    /// The error of a job that could not go on.
    fn failure(&self) -> Option<DriveError> {
        let (at, trouble) = self.running.as_ref()?.job.failed()?;
        let target = match at {
            At::Source => "the source".to_owned(),
            At::Target => self.identity.target.clone(),
        };
        let why = trouble.error.to_string();
        Some(match trouble.error {
            Errno::NODEV | Errno::STALE | Errno::NXIO | Errno::NOENT | Errno::NOTCONN => {
                DriveError::Gone { target, why }
            }
            Errno::NOSPC | Errno::DQUOT => {
                let why = format!("{why}; the files that were made are removed");
                DriveError::Refused { target, doing: trouble.doing, why }
            }
            _ => DriveError::Refused { target, doing: trouble.doing, why },
        })
    }

    /// Others may take the room while files are written.
    fn look_at_room(&mut self) -> Result<(), DriveError> {
        let Some(running) = &mut self.running else { return Ok(()) };
        if running.looked.elapsed() < LOOK_EVERY || !running.freight.carry.makes() {
            return Ok(());
        }
        running.looked = Instant::now();
        let place = match (running.freight.side, &self.source) {
            (Side::Source, Some(Source::Folder(place))) => place,
            _ => &self.target,
        };
        match Room::of(place.own.path()) {
            Ok(room) if room.free.get() < room.reserve.get() / 2 => {
                Err(self
                    .refused("writing files", format!("only {} are left free on its file system", room.free)))
            }
            _ => Ok(()),
        }
    }
}

impl Drive for FolderDrive {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }

    fn engine(&self) -> String {
        "threads, one file each at a time".into()
    }

    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        let seed = self.seed;
        let looks = self.outlook.begin(load, &self.target.own, seed);
        looks.map_err(|why| self.refused("setting up the lookout", why))?;
        if load.kind == LoadKind::Rest {
            self.rest = Some(Instant::now());
            return Ok(());
        }
        self.rest = None;
        let Some(freight) = load.freight.as_ref().filter(|_| load.kind == LoadKind::Freight) else {
            return Err(self.refused(
                load.kind.word(),
                "a folder takes freight legs and rests; give file:PATH or a drive",
            ));
        };
        if freight.resumed
            && let Some(running) = &mut self.running
        {
            running.told = Instant::now();
            running.job.go_on();
            return Ok(());
        }
        self.running = None;
        let Some(plan) = self.plan(load, freight)? else { return Ok(()) };
        if plan.direct && plan.carry.makes() {
            takes_direct(&plan.inside)
                .map_err(|why| self.refused("opening files past the page cache", why))?;
        }
        self.target.below.moved();
        if let Some(source) = &mut self.source {
            source.below().moved();
        }
        let job = Job::begin(plan).map_err(|e| self.refused("beginning with the files", e.to_string()))?;
        let now = Instant::now();
        self.running =
            Some(Running { job, freight: freight.clone(), told: now, looked: now, latency: histogram() });
        Ok(())
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        if let Some(rest) = &mut self.rest {
            std::thread::sleep(interval);
            let took = rest.elapsed();
            *rest = Instant::now();
            let mut tally = Tally { took, temperature: self.target.below.temperature(), ..Tally::default() };
            self.outlook.add(&mut tally);
            return Ok(tally);
        }
        let Some(running) = &self.running else {
            // The source is a drive: nothing is to be done there.
            return Ok(Tally { took: Duration::from_millis(1), finished: true, ..Tally::default() });
        };
        let left = interval.saturating_sub(running.told.elapsed());
        let finished = running.job.wait(left);
        let mut tally = self.tally();
        self.outlook.add(&mut tally);
        if let Some(error) = self.failure() {
            return Err(error);
        }
        self.look_at_room()?;
        tally.finished = finished;
        Ok(tally)
    }

    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        let lookout = self.outlook.end();
        if self.rest.take().is_some() {
            let late = Late { lookout, ..Late::default() };
            return Ok(LoadSummary { late, ..LoadSummary::default() });
        }
        let Some(mut running) = self.running.take() else {
            let remark = "the source is a drive, and is read as it lies: nothing was to be done there";
            return Ok(LoadSummary { remark: Some(remark.into()), ..LoadSummary::default() });
        };
        let pauses = ending == Ending::AsItIs && !running.job.wait(Duration::ZERO);
        let complete = if pauses {
            running.job.pause();
            false
        } else {
            running.job.end()
        };
        let (carry, side, durable) = (running.freight.carry, running.freight.side, running.freight.durable);
        self.running = Some(running);
        let last = self.tally();
        let place = match (side, &mut self.source) {
            (Side::Source, Some(Source::Folder(place))) => place,
            _ => &mut self.target,
        };
        let mut flush = None;
        if !pauses && carry.makes() {
            if let Some(laid) = place.laid.last_mut() {
                laid.partial = !complete;
                flush = match durable {
                    Durable::Never => None,
                    Durable::Each => Some(Duration::ZERO),
                    Durable::End => {
                        let began = Instant::now();
                        syncfs(laid.inside.root()).map_err(|e| DriveError::Refused {
                            target: self.identity.target.clone(),
                            doing: "making the files durable",
                            why: e.to_string(),
                        })?;
                        Some(began.elapsed())
                    }
                };
            }
        } else if !pauses && carry == Carry::Delete && complete {
            place.laid.pop();
        }
        let after = self.target.below.moved();
        let mut freight = last.freight;
        if let (Some(freight), Some(after)) = (&mut freight, after) {
            freight.device_written = freight.device_written.map(|w| w + Bytes::new(after.written));
        }
        let histogram = self.running.as_ref().map(|r| points(&r.latency)).unwrap_or_default();
        if pauses {
            if let Some(running) = &mut self.running {
                running.latency.clear();
            }
        } else {
            self.running = None;
        }
        let late = Late {
            lookout,
            errors: last.errors,
            faults: last.faults,
            latencies: last.latencies,
            freight,
            ..Default::default()
        };
        Ok(LoadSummary {
            flush,
            drained: last.written + last.read,
            drained_read: last.read,
            drain: last.took,
            histogram,
            late,
            ..LoadSummary::default()
        })
    }

    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        let began = Instant::now();
        syncfs(self.target.own.root())
            .map_err(|e| self.refused("making the files durable", e.to_string()))?;
        Ok(LoadSummary { flush: Some(began.elapsed()), ..LoadSummary::default() })
    }

    fn vitals(&mut self) -> Option<Vitals> {
        Some(Vitals { composite_temperature: Some(self.target.below.temperature()?), ..Vitals::default() })
    }

    fn release(&mut self) -> Result<(), DriveError> {
        self.running = None;
        self.target.laid.clear();
        let mut left = Vec::new();
        left.extend(self.target.own.remove().err());
        if let Some(Source::Folder(place)) = &mut self.source {
            place.laid.clear();
            left.extend(place.own.remove().err());
        }
        if left.is_empty() { Ok(()) } else { Err(self.refused("removing the files", left.join("; "))) }
    }
}

#[cfg(test)]
mod tests;
