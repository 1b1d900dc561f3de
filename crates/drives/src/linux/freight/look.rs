//! The lookout of a folder: a file of ours beside the tree, which it reads as another user of the drive would.

use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;

use hollow_mile_core::drive::{Fault, FaultKind, Load, Tally, lookout_block};
use hollow_mile_core::quantity::units::Bytes;
use rustix::fs::fsync;
use rustix::io::{Errno, write};

use super::super::buffers::Buffers;
use super::super::guard::{Access, OwnFolder};
use super::super::lookout::Lookout;
use crate::latency::Bins;

/// How large the file is: more than a drive answers from its own memory at once.
const SIZE: u64 = 64 << 20;
const BLOCK: usize = 1 << 20;

/// A file that is read, and who reads it.
#[derive(Default)]
pub struct Outlook {
    access: Option<Access>,
    lookout: Option<Lookout>,
}

impl Outlook {
    /// Begins to look out beside a load, or ends that. The file is made when one is first asked for.
    ///
    /// # Errors
    /// In words: when it cannot be made, or a thread cannot be had.
    pub fn begin(&mut self, load: &Load, own: &OwnFolder, seed: u64) -> Result<(), String> {
        self.lookout = None;
        let Some(every) = load.lookout else { return Ok(()) };
        let access = match &self.access {
            Some(access) => access.clone(),
            None => self.access.insert(Access::Read(Arc::new(made(own, seed)?))).clone(),
        };
        let block = lookout_block(Bytes::new(4096)).get();
        let holds = Arc::new(AtomicU64::new(SIZE));
        self.lookout = Some(Lookout::begin(&access, every, block, holds, seed).map_err(|e| e.to_string())?);
        Ok(())
    }

    /// What it saw in an interval.
    pub fn add(&self, tally: &mut Tally) {
        let Some(lookout) = &self.lookout else { return };
        let seen = lookout.take();
        if let Some((address, code)) = seen.failed {
            let e = std::io::Error::from_raw_os_error(code);
            let message = format!("a read of the lookout failed, and it looks no more in this leg: {e}");
            tally.faults.push(Fault { position: Bytes::new(address), kind: FaultKind::Failed, message });
            tally.errors += 1;
        }
        tally.lookout = seen.waits;
    }

    /// Ends it; gives what it saw since the last interval.
    pub fn end(&mut self) -> Bins {
        self.lookout.take().map(Lookout::end).unwrap_or_default().waits
    }
}

/// Makes the file and opens it past the page cache, for reading only.
fn made(own: &OwnFolder, seed: u64) -> Result<OwnedFd, String> {
    let (file, reader) = own.make_lookout_file().map_err(|e| match e {
        Errno::INVAL => {
            "this file system reads only through the page cache, which answers in place of the drive".into()
        }
        e => e.to_string(),
    })?;
    let buffers = Buffers::new(1, BLOCK, seed).map_err(|e| e.to_string())?;
    for block in 0..SIZE / BLOCK as u64 {
        // SAFETY: no operation is in flight, and nobody else knows of this memory.
        let data = unsafe {
            buffers.stamp(0, BLOCK, block * BLOCK as u64, block);
            buffers.slice(0)
        };
        let mut done = 0;
        while done < BLOCK {
            done += write(&file, &data[done..]).map_err(|e| e.to_string())?;
        }
    }
    fsync(&file).map_err(|e| e.to_string())?;
    Ok(reader)
}
