//! Discards a region, or writes zeroes to it, a stretch at a time, and reads back whether what was there is gone.

use std::hash::{BuildHasher, BuildHasherDefault, DefaultHasher};
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::permutation::Permutation;
use hollow_mile_core::drive::zones::Zone;
use hollow_mile_core::drive::{DriveError, Load, Tally};
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::buffers::Buffers;
use super::guard::{Access, Writable};
use super::mover::Mover;

/// Discarded at once: small enough to show progress and to stop between two.
const STRETCH: u64 = 1 << 30;
/// Places that are read back, spread over the region, and bytes of each.
const LOOKS: u64 = 512;
const LOOK: usize = 4096;

/// A wipe under way.
pub struct Wipe {
    start: u64,
    end: u64,
    next: u64,
    by: Erasure,
    /// From one zone to the next, of a drive that has such.
    zones: Option<Bytes>,
    /// Zones that can be neither written nor reset any more.
    left_alone: Vec<u64>,
}

impl Wipe {
    /// Of the region of this load; zones as they are now.
    pub fn new(load: &Load, zones: &[Zone]) -> Self {
        let (mut start, mut end) = (load.start.get(), load.end.get());
        let by_zone = load.erasure == Erasure::ResetZones && !zones.is_empty();
        if by_zone {
            // A zone that lies partly outside stays as it is.
            let whole = |z: &&Zone| z.start >= start && z.start + z.length <= end;
            let first = zones.iter().find(whole).map_or(end, |z| z.start);
            end = zones.iter().rfind(whole).map_or(first, |z| z.start + z.length);
            start = first;
        }
        Self {
            start,
            end,
            next: start,
            by: load.erasure,
            zones: zones.first().filter(|_| by_zone).map(|z| Bytes::new(z.length)),
            left_alone: zones.iter().filter(|z| by_zone && !z.may_reset()).map(|z| z.start).collect(),
        }
    }

    fn reset(&self, writable: &Writable, length: u64) -> std::io::Result<()> {
        if self.zones.is_none() {
            return Err(std::io::Error::from_raw_os_error(libc::EOPNOTSUPP));
        }
        if self.left_alone.contains(&self.next) { Ok(()) } else { writable.reset_zones(self.next, length) }
    }

    /// Erases stretches until the interval is over.
    ///
    /// # Errors
    /// When the device refuses, with what else would empty it.
    pub fn work(
        &mut self,
        mover: &mut Mover,
        interval: Duration,
        temperature: Option<Celsius>,
    ) -> Result<Tally, DriveError> {
        let deadline = mover.deadline(interval);
        let access = mover.access().clone();
        let (doing, unknown) = match self.by {
            Erasure::WriteZeroes => {
                ("writing zeroes", "the drive knows no such command: write it over instead")
            }
            Erasure::ResetZones => ("resetting zones", "the drive has no zones: wipe it by discard instead"),
            _ => ("discarding", "the drive knows no discard: write it over instead"),
        };
        let Access::Write(writable) = access else {
            return Err(mover.refused(doing, &std::io::ErrorKind::PermissionDenied.into()));
        };
        while self.next < self.end && Instant::now() < deadline {
            let length = match &self.zones {
                // A whole zone at a time; what lies partly outside of the region was left out when it began.
                Some(zone) => zone.get().min(self.end - self.next),
                None => STRETCH.min(self.end - self.next),
            };
            let result = match self.by {
                Erasure::Discard => writable.discard(self.next, length),
                Erasure::WriteZeroes => writable.zero(self.next, length),
                Erasure::ResetZones => self.reset(&writable, length),
                by => Err(std::io::Error::other(format!(
                    "{by} is for whole NVMe and ATA drives, and this is none"
                ))),
            };
            result.map_err(|e| match e.raw_os_error() {
                Some(libc::EOPNOTSUPP) => mover.refused(doing, &std::io::Error::other(unknown)),
                _ => mover.refused(doing, &e),
            })?;
            self.next += length;
        }
        Ok(Tally {
            took: mover.lap(),
            position: Some(Bytes::new(self.next)),
            temperature,
            finished: self.next >= self.end,
            ..Tally::default()
        })
    }

    /// Reads back blocks all over what was discarded, and says what came.
    pub fn confirm(&self, path: &Path) -> String {
        let region = Bytes::new(self.next - self.start);
        if region == Bytes::ZERO {
            return format!("nothing was {}", self.by.done());
        }
        let kept = match self.left_alone.iter().filter(|z| (self.start..self.next).contains(z)).count() {
            0 => String::new(),
            n => format!(", but for {n} zones that take no reset"),
        };
        let done = format!("{}{kept}", self.by.done());
        match Places::read(path, self.start, self.next).map(|p| p.held()) {
            Ok((looks, 0)) => format!("{region} {done}; {looks} of {looks} places read back hold no data"),
            Ok((looks, kept)) if self.by == Erasure::Discard => format!(
                "{region} discarded, but {kept} of {looks} places read back still hold data: this drive need not forget what is discarded, so write it over where that matters"
            ),
            Ok((looks, kept)) => {
                format!("{region} {done}, but {kept} of {looks} places read back still hold data")
            }
            Err(e) => format!("{region} {done}; reading back failed: {e}"),
        }
    }
}

/// What lies at places all over a region: a number for what it is, or `None` where one byte stands over and over.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct Places(Vec<Option<u64>>);

impl Places {
    /// Reads them; the same places of the same region each time.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn read(path: &Path, start: u64, end: u64) -> std::io::Result<Self> {
        let open = |flags| std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path);
        // Past the page cache, which might still hold what the drive has forgotten.
        let file = open(libc::O_DIRECT).or_else(|_| open(0))?;
        let blocks = (end - start) / LOOK as u64;
        let memory = Buffers::new(1, LOOK, 0)?;
        // SAFETY: this memory is nobody else's.
        let block = unsafe { memory.slice(0) };
        let looks = blocks.min(LOOKS);
        let stride = blocks.checked_div(looks).unwrap_or(1);
        let mut order = Permutation::new(stride.max(1), 11);
        let mut all = Vec::with_capacity(looks as usize);
        for i in 0..looks {
            let at = start + (i * stride + order.next()) * LOOK as u64;
            file.read_exact_at(block, at)?;
            let data = block.iter().any(|b| *b != block[0]);
            all.push(data.then(|| BuildHasherDefault::<DefaultHasher>::default().hash_one(&*block)));
        }
        Ok(Self(all))
    }

    #[cfg(test)]
    pub fn of(all: Vec<Option<u64>>) -> Self {
        Self(all)
    }

    /// How many there are, and how many hold data.
    pub fn held(&self) -> (usize, usize) {
        (self.0.len(), self.0.iter().flatten().count())
    }

    /// How many of those that hold data hold the same later, and of how many.
    pub fn same_in(&self, later: &Self) -> (usize, usize) {
        let same = self.0.iter().zip(&later.0).filter(|(a, b)| a.is_some() && a == b).count();
        (same, self.held().1)
    }
}
