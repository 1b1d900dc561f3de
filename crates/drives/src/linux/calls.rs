//! One operation at a time by pread and pwrite on the caller's own thread: for a queue of one on file systems where the
//! kernel would hand every operation of a ring to a thread of its own (tmpfs and others without `RWF_NOWAIT`, see
//! preadv2(2)). The two wake-ups of that would be measured as the drive's latency.

use std::io::IoSliceMut;
use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::time::{Duration, Instant};

use rustix::io::{Errno, ReadWriteFlags, preadv2};

use super::buffers::Buffers;
use super::guard::Access;
use super::queue::{Completion, Operation, Queue};

/// A file, and the operation that is to be called.
pub struct Calls {
    file: Arc<OwnedFd>,
    buffers: Arc<Buffers>,
    next: Option<Operation>,
}

/// Performs an operation; gives the bytes moved or a negative error number.
///
/// # Safety
/// The operation's slot must be in use by nothing else.
pub(super) unsafe fn perform(file: &OwnedFd, buffers: &Buffers, op: Operation) -> i32 {
    let range = op.from as usize..(op.from + op.length) as usize;
    // SAFETY: by the caller's promise.
    let slot = unsafe { buffers.slice(op.slot as usize) };
    let result = match (slot.get_mut(range), op.write) {
        (Some(data), true) => rustix::io::pwrite(file, data, op.address),
        (Some(data), false) => rustix::io::pread(file, data, op.address),
        (None, _) => Err(Errno::FAULT),
    };
    match result {
        Ok(n) => i32::try_from(n).unwrap_or(i32::MAX),
        Err(e) => -e.raw_os_error(),
    }
}

impl Queue for Calls {
    /// Refuses where a ring serves better.
    fn new(access: &Access, buffers: &Arc<Buffers>, depth: u32) -> std::io::Result<Self> {
        let file = access.descriptor().clone();
        // SAFETY: nothing is in flight yet.
        let probe = unsafe { buffers.slice(0) };
        let asked = preadv2(&file, &mut [IoSliceMut::new(probe)], 0, ReadWriteFlags::NOWAIT);
        if depth > 1 || asked != Err(Errno::OPNOTSUPP) {
            return Err(std::io::ErrorKind::Unsupported.into());
        }
        Ok(Self { file, buffers: buffers.clone(), next: None })
    }

    fn words(&self) -> String {
        "pread and pwrite, one at a time".into()
    }

    unsafe fn push(&mut self, operation: Operation) -> std::io::Result<()> {
        self.next = Some(operation);
        Ok(())
    }

    fn wait(&mut self, _: Instant, _: Duration, out: &mut Vec<Completion>) -> std::io::Result<()> {
        if let Some(op) = self.next.take() {
            // SAFETY: by the promise of `push`, and it is the only operation.
            let result = unsafe { perform(&self.file, &self.buffers, op) };
            out.push(Completion { slot: op.slot, result });
        }
        Ok(())
    }
}
