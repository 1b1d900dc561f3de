//! What a pump needs of the system: operations go in, completions come out.

use std::sync::Arc;
use std::time::{Duration, Instant};

use super::buffers::Buffers;
use super::guard::Access;

/// One operation on one slot.
#[derive(Debug, Clone, Copy)]
pub struct Operation {
    /// Slot of the buffers; also names the operation.
    pub slot: u32,
    /// Writes, or else reads.
    pub write: bool,
    /// Address on the file or device.
    pub address: u64,
    /// First byte of the slot that is used: above zero only for the rest of a short transfer.
    pub from: u32,
    /// Bytes.
    pub length: u32,
}

/// An operation that is over.
#[derive(Debug, Clone, Copy)]
pub struct Completion {
    /// Its slot.
    pub slot: u32,
    /// Bytes moved, or a negative error number.
    pub result: i32,
}

/// A way to get operations to the kernel. Generic parameter of the pump, so that there is no dynamic call in the loop.
pub trait Queue: Sized {
    /// Sets up for one file and these buffers.
    ///
    /// # Errors
    /// When the system refuses.
    fn new(access: &Access, buffers: &Arc<Buffers>, depth: u32) -> std::io::Result<Self>;

    /// In words, for the record.
    fn words(&self) -> String;

    /// Takes an operation; it may start only at the next [`Queue::wait`].
    ///
    /// # Safety
    /// The slot must not be in use, and stays the kernel's until its completion has been seen.
    unsafe fn push(&mut self, operation: Operation) -> std::io::Result<()>;

    /// Starts what was pushed, when it would not start by itself.
    ///
    /// # Errors
    /// When the queue fails.
    fn start(&mut self) -> std::io::Result<()> {
        Ok(())
    }

    /// Starts what was pushed and waits for one completion or until the time is up, perhaps less; appends all there are to
    /// `out`.
    ///
    /// # Errors
    /// When the queue itself fails; failed operations come as completions.
    /// `now` is the caller's clock a moment ago, which saves a look at it.
    fn wait(&mut self, now: Instant, at_most: Duration, out: &mut Vec<Completion>) -> std::io::Result<()>;
}
