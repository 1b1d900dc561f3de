//! A bare io_uring loop that moves a file's bytes and does nothing else: the yardstick of the engine's benchmarks.

use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

use io_uring::{IoUring, opcode, squeue, types};

/// What is moved.
#[derive(Debug, Clone, Copy)]
pub struct Job {
    /// Writes, or else reads.
    pub write: bool,
    /// Addresses in a random order, or else one after the other.
    pub random: bool,
    /// Bytes of one operation.
    pub block: usize,
    /// Operations in flight.
    pub depth: usize,
}

/// Moves the first `size` bytes of a file or device over and over, for so long; gives operations a second.
pub fn run(path: &Path, size: u64, job: Job, time: Duration) -> f64 {
    let Job { write, random, block, depth } = job;
    let file = std::fs::OpenOptions::new()
        .read(!write)
        .write(write)
        .custom_flags(libc::O_DIRECT)
        .open(path)
        .unwrap();
    let layout = std::alloc::Layout::from_size_align(block * depth, 2 << 20).unwrap();
    // SAFETY: the layout is not empty; freed below with the same one.
    let memory = unsafe { std::alloc::alloc(layout) };
    // The same kind of memory as the engine's, or the loop would be slower for that alone.
    // SAFETY: advice on memory that is ours.
    unsafe { libc::madvise(memory.cast(), block * depth, libc::MADV_HUGEPAGE) };
    for i in 0..block * depth {
        // SAFETY: within the allocation.
        unsafe { memory.add(i).write((i * 2_654_435_761) as u8) };
    }
    let mut ring: IoUring = IoUring::builder()
        .setup_single_issuer()
        .setup_defer_taskrun()
        .build(depth.next_power_of_two() as u32)
        .unwrap_or_else(|_| IoUring::new(depth.next_power_of_two() as u32).unwrap());
    let vectors: Vec<libc::iovec> = (0..depth)
        // SAFETY: within the allocation.
        .map(|i| libc::iovec { iov_base: unsafe { memory.add(i * block) }.cast(), iov_len: block })
        .collect();
    // SAFETY: the memory outlives the ring.
    unsafe { ring.submitter().register_buffers(&vectors) }.unwrap();
    ring.submitter().register_files(&[file.as_raw_fd()]).unwrap();
    let blocks = size / block as u64;
    let (mut next, mut seed) = (0u64, 0x9e37_79b9_7f4a_7c15u64);
    let mut free: Vec<usize> = (0..depth).collect();
    let began = Instant::now();
    let mut done = 0u64;
    let mut stop = false;
    while !stop || free.len() < depth {
        while !stop && let Some(slot) = free.pop() {
            // SAFETY: within the allocation.
            let pointer = unsafe { memory.add(slot * block) };
            let (fd, length, index) = (types::Fixed(0), block as u32, slot as u16);
            let at = if random {
                seed ^= seed << 13;
                seed ^= seed >> 7;
                seed ^= seed << 17;
                seed % blocks
            } else {
                next = (next + 1) % blocks;
                next
            } * block as u64;
            let entry: squeue::Entry = if write {
                opcode::WriteFixed::new(fd, pointer, length, index).offset(at).build()
            } else {
                opcode::ReadFixed::new(fd, pointer, length, index).offset(at).build()
            };
            // SAFETY: the slot is free until its completion.
            unsafe { ring.submission().push(&entry.user_data(slot as u64)) }.unwrap();
        }
        ring.submit_and_wait(1).unwrap();
        for c in ring.completion() {
            assert_eq!(c.result() as usize, block);
            free.push(c.user_data() as usize);
            done += 1;
        }
        stop = began.elapsed() >= time;
    }
    let took = began.elapsed();
    drop(ring);
    // SAFETY: allocated above with this layout, and nothing is in flight.
    unsafe { std::alloc::dealloc(memory, layout) };
    done as f64 / took.as_secs_f64()
}

/// The median.
pub fn median(values: impl IntoIterator<Item = f64>) -> f64 {
    let mut all: Vec<f64> = values.into_iter().collect();
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}
