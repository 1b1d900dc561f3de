//! A bare io_uring loop that writes a file once over and does nothing else: the yardstick of the engine's benchmarks.

use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;
use std::time::Instant;

use io_uring::{IoUring, opcode, types};

/// Bytes of one operation.
pub const BLOCK: usize = 1 << 20;
/// Operations in flight.
pub const DEPTH: usize = 32;

/// Writes `size` bytes over a file that exists, and gives MB/s.
pub fn write(path: &Path, size: u64) -> f64 {
    let file = std::fs::OpenOptions::new().write(true).custom_flags(libc::O_DIRECT).open(path).unwrap();
    let layout = std::alloc::Layout::from_size_align(BLOCK * DEPTH, 2 << 20).unwrap();
    // SAFETY: the layout is not empty; freed below with the same one.
    let memory = unsafe { std::alloc::alloc(layout) };
    // The same kind of memory as the engine's, or the loop would be slower for that alone.
    // SAFETY: advice on memory that is ours.
    unsafe { libc::madvise(memory.cast(), BLOCK * DEPTH, libc::MADV_HUGEPAGE) };
    for i in 0..BLOCK * DEPTH {
        // SAFETY: within the allocation.
        unsafe { memory.add(i).write((i * 2_654_435_761) as u8) };
    }
    let mut ring: IoUring = IoUring::builder()
        .setup_single_issuer()
        .setup_defer_taskrun()
        .build(DEPTH as u32)
        .unwrap_or_else(|_| IoUring::new(DEPTH as u32).unwrap());
    let vectors: Vec<libc::iovec> = (0..DEPTH)
        // SAFETY: within the allocation.
        .map(|i| libc::iovec { iov_base: unsafe { memory.add(i * BLOCK) }.cast(), iov_len: BLOCK })
        .collect();
    // SAFETY: the memory outlives the ring.
    unsafe { ring.submitter().register_buffers(&vectors) }.unwrap();
    ring.submitter().register_files(&[file.as_raw_fd()]).unwrap();
    let began = Instant::now();
    let (mut next, mut done) = (0u64, 0u64);
    let mut free: Vec<usize> = (0..DEPTH).collect();
    while done < size {
        while next < size
            && let Some(slot) = free.pop()
        {
            let entry =
                // SAFETY: within the allocation.
                opcode::WriteFixed::new(types::Fixed(0), unsafe { memory.add(slot * BLOCK) }, BLOCK as u32, slot as u16)
                    .offset(next)
                    .build()
                    .user_data(slot as u64);
            // SAFETY: the slot is free until its completion.
            unsafe { ring.submission().push(&entry) }.unwrap();
            next += BLOCK as u64;
        }
        ring.submit_and_wait(1).unwrap();
        for c in ring.completion() {
            assert_eq!(c.result() as usize, BLOCK);
            free.push(c.user_data() as usize);
            done += BLOCK as u64;
        }
    }
    let rate = size as f64 / began.elapsed().as_secs_f64() / 1e6;
    drop(ring);
    // SAFETY: allocated above with this layout, and nothing is in flight.
    unsafe { std::alloc::dealloc(memory, layout) };
    rate
}

/// Median of paired ratios, and of each of the two.
pub fn medians(pairs: &[(f64, f64)]) -> (f64, f64, f64) {
    let median = |mut v: Vec<f64>| {
        v.sort_by(f64::total_cmp);
        v[v.len() / 2]
    };
    (
        median(pairs.iter().map(|p| p.0).collect()),
        median(pairs.iter().map(|p| p.1).collect()),
        median(pairs.iter().map(|p| p.1 / p.0).collect()),
    )
}
