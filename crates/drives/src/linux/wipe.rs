//! Discards a region, a stretch at a time, and reads back whether what was there is gone.

use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::path::Path;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::permutation::Permutation;
use hollow_mile_core::drive::{DriveError, Load, Tally};
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::buffers::Buffers;
use super::guard::Access;
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
}

impl Wipe {
    /// Of the region of this load.
    pub const fn new(load: &Load) -> Self {
        Self { start: load.start.get(), end: load.end.get(), next: load.start.get() }
    }

    /// Discards stretches until the interval is over.
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
        let Access::Write(writable) = access else {
            return Err(mover.refused("discarding", &std::io::ErrorKind::PermissionDenied.into()));
        };
        while self.next < self.end && Instant::now() < deadline {
            let length = STRETCH.min(self.end - self.next);
            writable.discard(self.next, length).map_err(|e| match e.raw_os_error() {
                Some(libc::EOPNOTSUPP) => mover.refused(
                    "discarding",
                    &std::io::Error::other("the drive knows no discard: write it over instead"),
                ),
                _ => mover.refused("discarding", &e),
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
            return "nothing was discarded".into();
        }
        match self.look(path) {
            Ok((looks, 0)) => format!("{region} discarded; {looks} of {looks} places read back hold no data"),
            Ok((looks, kept)) => format!(
                "{region} discarded, but {kept} of {looks} places read back still hold data: this drive need not forget what is discarded, so write it over where that matters"
            ),
            Err(e) => format!("{region} discarded; reading back failed: {e}"),
        }
    }

    /// How many places were read, and how many of them hold more than one byte over and over.
    fn look(&self, path: &Path) -> std::io::Result<(u64, u64)> {
        let open = |flags| std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path);
        // Past the page cache, which might still hold what the drive has forgotten.
        let file = open(libc::O_DIRECT).or_else(|_| open(0))?;
        let blocks = (self.next - self.start) / LOOK as u64;
        let memory = Buffers::new(1, LOOK, 0)?;
        // SAFETY: this memory is nobody else's.
        let block = unsafe { memory.slice(0) };
        let looks = blocks.min(LOOKS);
        let stride = blocks.checked_div(looks).unwrap_or(1);
        let mut order = Permutation::new(stride.max(1), 11);
        let mut kept = 0;
        for i in 0..looks {
            let at = self.start + (i * stride + order.next()) * LOOK as u64;
            file.read_exact_at(block, at)?;
            kept += u64::from(block.iter().any(|b| *b != block[0]));
        }
        Ok((looks, kept))
    }
}
