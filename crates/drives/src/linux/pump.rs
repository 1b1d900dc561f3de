//! Keeps a queue full: issues operations, pairs them with their completions, times them. The same for io_uring and for
//! worker threads; the queue is a type parameter, so nothing in the loop is called dynamically and nothing allocates.

use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hdrhistogram::Histogram;
use hollow_mile_core::drive::{Load, LoadKind};
use hollow_mile_core::units::Bytes;

use super::buffers::Buffers;
use super::queue::{Completion, Operation, Queue};
use crate::latency::histogram;

/// What happened since it was last asked.
#[derive(Debug, Default)]
pub struct Pumped {
    /// Bytes moved.
    pub bytes: u64,
    /// Failed operations.
    pub errors: u32,
    /// The first that failed: address and error number.
    pub first_error: Option<(u64, i32)>,
    /// Everything that the load asks for was moved and nothing is in flight.
    pub finished: bool,
}

#[derive(Debug, Clone, Copy)]
struct InFlight {
    operation: Operation,
    since: Instant,
}

/// One load on one file.
pub struct Pump<Q: Queue> {
    queue: Q,
    buffers: Arc<Buffers>,
    free: Vec<u32>,
    flights: Vec<Option<InFlight>>,
    completions: Vec<Completion>,
    write: bool,
    block: u64,
    start: u64,
    end: u64,
    next: u64,
    left: u64,
    issued: u64,
    moved: u64,
    pub(super) interval: Histogram<u32>,
    pub(super) whole: Histogram<u32>,
}

impl<Q: Queue> Pump<Q> {
    /// Sets up for a load, from this address on (within its region), moving at most `limit` bytes.
    ///
    /// # Errors
    /// When memory or the queue cannot be had.
    pub fn new(
        file: &Arc<OwnedFd>,
        load: &Load,
        from: u64,
        limit: Option<u64>,
        seed: u64,
    ) -> std::io::Result<Self> {
        let block = load.block.get();
        let buffers = Arc::new(Buffers::new(load.depth as usize, block as usize, seed)?);
        let queue = Q::new(file, &buffers, load.depth)?;
        Ok(Self {
            queue,
            buffers,
            free: (0..load.depth).rev().collect(),
            flights: vec![None; load.depth as usize],
            completions: Vec::with_capacity(load.depth as usize * 2),
            write: load.kind == LoadKind::Write,
            block,
            start: load.start.get(),
            end: load.end.get(),
            next: from,
            left: limit.unwrap_or(u64::MAX),
            issued: 0,
            moved: 0,
            interval: histogram(),
            whole: histogram(),
        })
    }

    /// In words, for the record.
    pub fn words(&self) -> String {
        self.queue.words()
    }

    /// Address just past what was moved, for a sequential load.
    pub fn position(&self) -> Bytes {
        let in_flight: u64 = self.flights.iter().flatten().map(|f| u64::from(f.operation.length)).sum();
        let position = self.next.saturating_sub(in_flight);
        // What is in flight may lie on both sides of the region's end, and the end itself is not its start.
        let wrapped = position < self.start || position == self.start && self.issued > 0;
        Bytes::new(if wrapped { self.end - (self.start - position) } else { position })
    }

    fn in_flight(&self) -> usize {
        self.flights.len() - self.free.len()
    }

    fn issue(&mut self) -> std::io::Result<()> {
        while self.left > 0 {
            let Some(slot) = self.free.pop() else { break };
            let length = self.block.min(self.end - self.next).min(self.left);
            let operation =
                Operation { slot, write: self.write, address: self.next, from: 0, length: length as u32 };
            if self.write {
                // SAFETY: the slot is free, so nothing in flight uses it.
                unsafe { self.buffers.stamp(slot as usize, length as usize, self.next, self.issued) };
            }
            self.issued += 1;
            self.left -= length;
            self.next += length;
            if self.next >= self.end {
                self.next = self.start;
            }
            self.flights[slot as usize] = Some(InFlight { operation, since: Instant::now() });
            // SAFETY: the slot is free, and stays marked in flight until its completion is taken.
            unsafe { self.queue.push(operation)? };
        }
        Ok(())
    }

    fn take(&mut self, done: Completion, now: Instant, sum: &mut Pumped) -> std::io::Result<()> {
        let slot = done.slot as usize;
        let Some(flight) = self.flights.get_mut(slot).and_then(Option::take) else { return Ok(()) };
        let op = flight.operation;
        let again = |op: Operation, pump: &mut Self| {
            pump.flights[slot] = Some(InFlight { operation: op, since: flight.since });
            // SAFETY: its completion was just taken, so the slot is ours.
            unsafe { pump.queue.push(op) }
        };
        match done.result {
            n if n >= 0 && (n as u32) < op.length => {
                if n == 0 {
                    // The end of the file where there should be none: counted as an error, or it would go on for ever.
                    sum.errors += 1;
                    sum.first_error.get_or_insert((op.address, libc::EIO));
                    self.free.push(done.slot);
                    return Ok(());
                }
                let n = n as u32;
                sum.bytes += u64::from(n);
                self.moved += u64::from(n);
                let rest = Operation {
                    address: op.address + u64::from(n),
                    from: op.from + n,
                    length: op.length - n,
                    ..op
                };
                return again(rest, self);
            }
            n if n >= 0 => {
                let ns = now.duration_since(flight.since).as_nanos() as u64;
                self.interval.saturating_record(ns.max(1));
                sum.bytes += u64::from(op.length);
                self.moved += u64::from(op.length);
            }
            e if -e == libc::EAGAIN || -e == libc::EINTR => return again(op, self),
            e => {
                sum.errors += 1;
                sum.first_error.get_or_insert((op.address, -e));
            }
        }
        self.free.push(done.slot);
        Ok(())
    }

    fn turn(&mut self, at_most: Duration, sum: &mut Pumped) -> std::io::Result<()> {
        let mut completions = std::mem::take(&mut self.completions);
        let waited = self.queue.wait(at_most, &mut completions);
        let now = Instant::now();
        for done in completions.drain(..) {
            self.take(done, now, sum)?;
        }
        self.completions = completions;
        waited
    }

    /// Keeps the queue full until `deadline`.
    ///
    /// # Errors
    /// When the queue fails.
    pub fn run(&mut self, deadline: Instant) -> std::io::Result<Pumped> {
        let mut sum = Pumped::default();
        loop {
            self.issue()?;
            if self.in_flight() == 0 {
                sum.finished = true;
                return Ok(sum);
            }
            let now = Instant::now();
            if now >= deadline {
                return Ok(sum);
            }
            self.turn(deadline - now, &mut sum)?;
            if self.left == 0 && self.in_flight() == 0 {
                sum.finished = true;
                return Ok(sum);
            }
        }
    }

    /// Issues nothing more and waits for what is in flight.
    ///
    /// # Errors
    /// When the queue fails.
    pub fn drain(&mut self) -> std::io::Result<Pumped> {
        let mut sum = Pumped::default();
        while self.in_flight() > 0 {
            self.turn(Duration::from_secs(1), &mut sum)?;
        }
        Ok(sum)
    }

    /// The histogram of the interval, added to that of the whole and emptied by `read`.
    pub fn close_interval<T>(&mut self, read: impl FnOnce(&Histogram<u32>) -> T) -> T {
        let value = read(&self.interval);
        // Both have the same bounds, so every value of one fits the other.
        let _ = self.whole.add(&self.interval);
        self.interval.reset();
        value
    }
}

impl<Q: Queue> Drop for Pump<Q> {
    fn drop(&mut self) {
        // The kernel may still write into the buffers: they go only when it is done with them.
        while self.in_flight() > 0 {
            if self.turn(Duration::from_secs(1), &mut Pumped::default()).is_err() {
                std::mem::forget(self.buffers.clone());
                return;
            }
        }
    }
}
