//! A drive as the source of a copy: its bytes are taken as they lie, one stretch a file, past the page cache.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use hollow_mile_core::quantity::units::Bytes;
use rustix::io::pread;

use super::super::guard::Access;
use super::files::{Trouble, UNIT, read_with};
use super::shared::Shared;
use crate::account::Account;

/// The drive, and how far it was read.
pub struct Raw {
    access: Access,
    capacity: u64,
    next: AtomicU64,
}

/// The stretch of one file.
pub struct Part {
    raw: Arc<Raw>,
    at: u64,
}

impl Raw {
    /// A drive that is open for reading.
    pub fn new(access: Access, capacity: Bytes) -> Self {
        Self { access, capacity: capacity.get() / UNIT as u64 * UNIT as u64, next: AtomicU64::new(0) }
    }

    /// The next stretch; at the end of the drive it begins again.
    pub fn begin(self: &Arc<Self>, size: u64) -> Part {
        let whole = size.next_multiple_of(UNIT as u64);
        Part { raw: self.clone(), at: self.next.fetch_add(whole, Ordering::Relaxed) % self.capacity.max(1) }
    }
}

impl Part {
    /// Reads what is next, of so many bytes that are left; gives how many came.
    pub fn read(
        &mut self,
        buffer: &mut [u8],
        left: u64,
        account: &Shared<Account>,
    ) -> Result<usize, Trouble> {
        let to_end = self.raw.capacity - self.at;
        let wanted = left.next_multiple_of(UNIT as u64).min(buffer.len() as u64).min(to_end) as usize;
        let drive = self.raw.access.descriptor();
        let (n, _) =
            read_with(account, "reading the source", || pread(&**drive, &mut buffer[..wanted], self.at))?;
        self.at = (self.at + n as u64) % self.raw.capacity;
        Ok(n)
    }
}
