//! io_uring: registered buffers and file where the system allows it (see io_uring_register(2)), plain ones otherwise.

use std::os::fd::{AsRawFd, OwnedFd};
use std::sync::Arc;
use std::time::Duration;

use io_uring::types::{Fd, Fixed, SubmitArgs, Timespec};
use io_uring::{IoUring, opcode, squeue};

use super::buffers::Buffers;
use super::guard::Access;
use super::queue::{Completion, Operation, Queue};

/// A ring for one file.
pub struct Ring {
    ring: IoUring,
    buffers: Arc<Buffers>,
    file: Arc<OwnedFd>,
    fixed_buffers: bool,
    fixed_file: bool,
}

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

impl Queue for Ring {
    fn new(access: &Access, buffers: &Arc<Buffers>, depth: u32) -> std::io::Result<Self> {
        let file = access.descriptor();
        let ring = Self::build(depth.next_power_of_two())?;
        let vectors: Vec<libc::iovec> = (0..buffers.slots())
            .map(|i| libc::iovec { iov_base: buffers.pointer(i).cast(), iov_len: buffers.slot_size() })
            .collect();
        // SAFETY: the memory stays mapped for as long as the ring, which holds the buffers.
        let fixed_buffers = unsafe { ring.submitter().register_buffers(&vectors) }.is_ok();
        let fixed_file = ring.submitter().register_files(&[file.as_raw_fd()]).is_ok();
        Ok(Self { ring, buffers: buffers.clone(), file: file.clone(), fixed_buffers, fixed_file })
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

    fn wait(&mut self, at_most: Duration, out: &mut Vec<Completion>) -> std::io::Result<()> {
        let time = Timespec::new().sec(at_most.as_secs()).nsec(at_most.subsec_nanos());
        let args = SubmitArgs::new().timespec(&time);
        match self.ring.submitter().submit_with_args(1, &args) {
            Ok(_) => {}
            Err(e) if matches!(e.raw_os_error(), Some(libc::ETIME | libc::EINTR | libc::EBUSY)) => {}
            Err(e) => return Err(e),
        }
        out.extend(
            self.ring.completion().map(|c| Completion { slot: c.user_data() as u32, result: c.result() }),
        );
        Ok(())
    }
}
