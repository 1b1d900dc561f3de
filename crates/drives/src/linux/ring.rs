//! io_uring: registered buffers and file where the system allows it (see io_uring_register(2)), plain ones otherwise.

use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::Arc;
use std::time::{Duration, Instant};

use io_uring::types::{Fd, Fixed, SubmitArgs, Timespec};
use io_uring::{IoUring, opcode, squeue};

use super::buffers::Buffers;
use super::guard::Access;
use super::queue::{Completion, Operation, Queue};

/// A wait may take so much longer than it was told.
const SLACK: Duration = Duration::from_millis(2);

/// A ring for one file.
pub struct Ring {
    ring: IoUring,
    buffers: Arc<Buffers>,
    file: Arc<OwnedFd>,
    fixed_buffers: bool,
    fixed_file: bool,
    /// When the timer that lies in the ring goes off. Arming one for every wait would cost more than a short operation.
    timer: Option<Instant>,
    time: Box<Timespec>,
}

/// The timer's completion; slots are small numbers.
const TIMER: u64 = u64::MAX;

impl Ring {
    fn build(depth: u32) -> std::io::Result<IoUring> {
        // One thread submits and reaps, and asks for completions itself (kernel 6.1); older kernels get a plain ring.
        IoUring::builder()
            .setup_single_issuer()
            .setup_defer_taskrun()
            .build(depth)
            .or_else(|_| IoUring::new(depth))
    }
}

impl Drop for Ring {
    fn drop(&mut self) {
        // The kernel takes a ring down in its own time; the file must be free for the next haul at once.
        if self.fixed_file {
            let _ = self.ring.submitter().unregister_files();
        }
    }
}

impl Queue for Ring {
    fn new(access: &Access, buffers: &Arc<Buffers>, depth: u32) -> std::io::Result<Self> {
        let file = access.descriptor();
        // One more than the operations: the timer.
        let ring = Self::build((depth + 1).next_power_of_two())?;
        let vectors: Vec<libc::iovec> = (0..buffers.slots())
            .map(|i| libc::iovec { iov_base: buffers.pointer(i).cast(), iov_len: buffers.slot_size() })
            .collect();
        // SAFETY: the memory stays mapped for as long as the ring, which holds the buffers.
        let fixed_buffers = unsafe { ring.submitter().register_buffers(&vectors) }.is_ok();
        let fixed_file = ring.submitter().register_files(&[file.as_raw_fd()]).is_ok();
        Ok(Self {
            ring,
            buffers: buffers.clone(),
            file: file.clone(),
            fixed_buffers,
            fixed_file,
            timer: None,
            time: Box::new(Timespec::new()),
        })
    }

    fn words(&self) -> String {
        let buffers =
            if self.fixed_buffers { "registered buffers" } else { "plain buffers (memory lock limit)" };
        let file = if self.fixed_file { "registered file" } else { "plain file" };
        format!("io_uring, {buffers}, {file}")
    }

    unsafe fn push(&mut self, op: Operation) -> std::io::Result<()> {
        // SAFETY: `from` lies within the slot, by the pump's arithmetic.
        let pointer = unsafe { self.buffers.pointer(op.slot as usize).add(op.from as usize) };
        let index = op.slot as u16;
        macro_rules! entry {
            ($file:expr) => {
                match (op.write, self.fixed_buffers) {
                    (true, true) => {
                        opcode::WriteFixed::new($file, pointer, op.length, index).offset(op.address).build()
                    }
                    (true, false) => opcode::Write::new($file, pointer, op.length).offset(op.address).build(),
                    (false, true) => {
                        opcode::ReadFixed::new($file, pointer, op.length, index).offset(op.address).build()
                    }
                    (false, false) => opcode::Read::new($file, pointer, op.length).offset(op.address).build(),
                }
            };
        }
        let entry: squeue::Entry =
            if self.fixed_file { entry!(Fixed(0)) } else { entry!(Fd(self.file.as_raw_fd())) };
        let entry = entry.user_data(u64::from(op.slot));
        // SAFETY: the buffer stays valid and untouched until the completion, by the caller's promise.
        while unsafe { self.ring.submission().push(&entry) }.is_err() {
            self.ring.submit()?;
        }
        Ok(())
    }

    fn start(&mut self) -> std::io::Result<()> {
        self.ring.submit().map(drop)
    }

    fn wait(&mut self, now: Instant, at_most: Duration, out: &mut Vec<Completion>) -> std::io::Result<()> {
        let until = now + at_most;
        let time = || Timespec::new().sec(at_most.as_secs()).nsec(at_most.subsec_nanos());
        if self.timer.is_none() {
            *self.time = time();
            let entry = opcode::Timeout::new(&raw const *self.time).build().user_data(TIMER);
            // SAFETY: the kernel reads the time when the entry is submitted; it lives as long as the ring.
            while unsafe { self.ring.submission().push(&entry) }.is_err() {
                self.ring.submit()?;
            }
            self.timer = Some(until);
        }
        // A timer that goes off too late (a load with a rate limit has short waits) is helped by one for this wait alone.
        let late = self.timer.is_some_and(|t| t > until + SLACK);
        let waited = if late {
            let time = time();
            self.ring.submitter().submit_with_args(1, &SubmitArgs::new().timespec(&time))
        } else {
            self.ring.submit_and_wait(1)
        };
        match waited {
            Ok(_) => {}
            Err(e) if matches!(e.raw_os_error(), Some(libc::ETIME | libc::EINTR | libc::EBUSY)) => {}
            Err(e) => return Err(e),
        }
        for c in self.ring.completion() {
            if c.user_data() == TIMER {
                self.timer = None;
            } else {
                out.push(Completion { slot: c.user_data() as u32, result: c.result() });
            }
        }
        Ok(())
    }
}
