//! Keeps a queue full: issues operations, pairs them with their completions, times them. The same for io_uring and for
//! worker threads; the queue is a type parameter, so nothing in the loop is called dynamically and nothing allocates.

use std::collections::VecDeque;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hdrhistogram::Histogram;
use hollow_mile_core::drive::mixture::Draw;
use hollow_mile_core::drive::permutation::Permutation;
use hollow_mile_core::drive::stamp::{Expected, Mismatch, Origin};
use hollow_mile_core::drive::{Load, LoadKind, Pattern};
use hollow_mile_core::quantity::units::Bytes;

use super::buffers::Buffers;
use super::guard::Access;
use super::queue::{Completion, Operation, Queue};
use super::zones::{ZoneMap, ZoneOrder, ZonePlan, ZoneWrite};
use crate::latency::histogram;

/// Failed operations that are told one by one in an interval; all are counted.
const FAULTS: usize = 32;
/// The kernel ends a command that hangs after its own time-outs and retries; what has not come back after this never will.
const GIVE_UP: Duration = Duration::from_secs(600);
/// A load with a rate limit that fell behind makes up for no more than this.
const CATCH_UP: Duration = Duration::from_millis(100);

/// An interval that ends so much late was not waited for.
const STOOD_STILL: Duration = Duration::from_millis(50);

/// An interval that ends by bytes is not shorter than this.
const LEAST_SAMPLE: Duration = Duration::from_millis(2);

/// An operation that failed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Failed {
    /// Its address.
    pub address: u64,
    /// Its bytes.
    pub length: u32,
    /// It wrote, or else it read.
    pub write: bool,
    /// Error number.
    pub code: i32,
    /// A second try, alone, succeeded: it is told, and not counted.
    pub recovered: bool,
}

/// What happened since it was last asked.
#[derive(Debug, Default)]
pub struct Pumped {
    /// Bytes written.
    pub written: u64,
    /// Bytes read.
    pub read: u64,
    /// Bytes of transfers that failed, at the first try or at all: the block layer has counted them.
    pub in_vain: u64,
    /// Failed operations.
    pub errors: u32,
    /// The first few of them.
    pub faults: Vec<Failed>,
    /// Blocks that did not read back as written.
    pub mismatches: Vec<Mismatch>,
    /// Everything that the load asks for was moved and nothing is in flight.
    pub finished: bool,
}

impl Pumped {
    fn fail(&mut self, operation: Operation, code: i32, recovered: bool) {
        self.errors += u32::from(!recovered);
        if !recovered {
            self.in_vain += u64::from(operation.length);
        }
        if self.faults.len() < FAULTS {
            let Operation { address, length, write, .. } = operation;
            self.faults.push(Failed { address, length, write, code, recovered });
        }
    }

    /// Adds what another worker did.
    pub fn add(&mut self, other: Self) {
        self.written += other.written;
        self.read += other.read;
        self.errors += other.errors;
        self.in_vain += other.in_vain;
        self.mismatches.extend(other.mismatches);
        self.faults.extend(other.faults.into_iter().take(FAULTS.saturating_sub(self.faults.len())));
    }
}

#[derive(Debug, Clone, Copy)]
struct InFlight {
    operation: Operation,
    since: Instant,
    /// Why it failed at first, when this is its second try.
    failed: Option<i32>,
}

/// Errors of the medium. The kernel merges neighbours into one request, which fails as a whole: only a second try, alone,
/// tells which of them it was.
const fn is_doubtful(code: i32) -> bool {
    matches!(code, libc::EIO | libc::ENODATA | libc::EILSEQ | libc::EREMOTEIO)
}

/// In which order addresses come.
enum Order {
    Sequential,
    Backward,
    Random(Permutation),
    /// Sizes and places of operations are drawn.
    Drawn(Draw),
    /// Zones in sequence, one write in flight in each.
    Zones(Box<ZoneOrder>),
}

/// No faster than so much.
struct Pace {
    per_second: f64,
    began: Instant,
    issued: f64,
    /// Made up for after a stall, at most.
    catch_up: Duration,
    /// Latency counts from when an operation was due.
    from_due: bool,
}

impl Pace {
    /// When the next operation is due.
    fn due(&self) -> Instant {
        self.began + Duration::from_secs_f64(self.issued / self.per_second)
    }

    fn count(&mut self, bytes: u64, now: Instant) {
        // What a stall held up is not made up for in one burst.
        let behind = now.saturating_duration_since(self.due());
        if behind > self.catch_up {
            self.began += behind - self.catch_up;
        }
        self.issued += bytes as f64;
    }
}

/// What one worker has of a load.
#[derive(Debug, Clone)]
pub struct Share {
    /// First byte of its part of the region.
    pub start: u64,
    /// One past the last.
    pub end: u64,
    /// Where it begins.
    pub from: u64,
    /// Bytes that it moves at most.
    pub limit: Option<u64>,
    /// Operations in flight.
    pub depth: u32,
    /// Bytes a second at most.
    pub rate: Option<f64>,
    /// Of its data and its random order.
    pub seed: u64,
    /// Of a write that must go over zones in sequence.
    pub zones: Option<Arc<ZonePlan>>,
    /// Addresses above count only what zones hold: where that lies.
    pub map: Option<Arc<ZoneMap>>,
}

/// An operation about to be issued.
#[derive(Debug, Clone, Copy)]
struct Next {
    write: bool,
    address: u64,
    length: u64,
    /// The pass over the region that it belongs to.
    lap: u32,
}

/// One load on one file or device.
pub struct Pump<Q: Queue> {
    queue: Q,
    buffers: Arc<Buffers>,
    free: Vec<u32>,
    /// Operations in flight at most.
    depth: usize,
    /// Slots whose blocks were read and wait to be judged: slot, address, bytes.
    to_judge: Vec<(u32, u64, u32)>,
    flights: Vec<Option<InFlight>>,
    /// Slots that failed and wait for their second try; one at a time is tried, so that no two are merged again.
    doubtful: VecDeque<u32>,
    trying: bool,
    /// What is in flight is not waited for any longer.
    lost: bool,
    completions: Vec<Completion>,
    kind: LoadKind,
    /// Reads of a hundred operations, for a mixed load, and what is left over from the operations before.
    reads: u8,
    reads_due: u8,
    order: Order,
    map: Option<Arc<ZoneMap>>,
    pace: Option<Pace>,
    stamp: Option<Origin>,
    check: Option<Expected>,
    /// An interval ends early when so much was moved in it.
    sample: u64,
    lap: u32,
    block: u64,
    start: u64,
    end: u64,
    next: u64,
    left: u64,
    issued: u64,
    pub(super) interval: Histogram<u64>,
    pub(super) whole: Histogram<u64>,
}

impl<Q: Queue> Pump<Q> {
    /// Sets up for a share of a load.
    ///
    /// # Errors
    /// When memory or the queue cannot be had, or the load writes and the guard was not passed.
    pub fn new(access: &Access, load: &Load, share: &Share) -> std::io::Result<Self> {
        if load.kind.destroys() && !access.may_write() {
            return Err(std::io::ErrorKind::PermissionDenied.into());
        }
        let block = load.block.get();
        // What was read is judged while as many others are read.
        let slots = if load.check.is_some() { share.depth * 2 } else { share.depth };
        let mut buffers = Buffers::new(slots as usize, block as usize, share.seed)?;
        if load.kind.destroys() {
            buffers.prepare(load.compressible_percent, load.stamp.is_some());
        }
        let buffers = Arc::new(buffers);
        let queue = Q::new(access, &buffers, slots)?;
        let order = match load.pattern {
            _ if let (Some(plan), Access::Write(writable)) = (&share.zones, access) => {
                Order::Zones(Box::new(ZoneOrder::new(Box::new(writable.clone()), plan, slots as usize)))
            }
            Pattern::Sequential => Order::Sequential,
            Pattern::Backward => Order::Backward,
            Pattern::Random => match &load.mixture {
                // All workers over the whole region: what is hot is so for each of them.
                Some(mixture) => {
                    let reads = if load.kind == LoadKind::Mixed {
                        load.read_percent
                    } else {
                        100 * u8::from(!load.kind.destroys())
                    };
                    let (start, end) = (load.start.get(), load.end.get());
                    Order::Drawn(
                        Draw::new(mixture, start, end, reads, share.seed)
                            .ok_or(std::io::ErrorKind::InvalidInput)?,
                    )
                }
                None => Order::Random(Permutation::new((share.end - share.start) / block, share.seed)),
            },
        };
        let pace = |per_second| Pace {
            per_second,
            began: Instant::now(),
            issued: 0.0,
            catch_up: load.catch_up.unwrap_or(CATCH_UP),
            from_due: load.catch_up.is_some(),
        };
        Ok(Self {
            queue,
            buffers,
            free: (0..slots).rev().collect(),
            depth: share.depth as usize,
            to_judge: Vec::new(),
            flights: vec![None; slots as usize],
            doubtful: VecDeque::with_capacity(share.depth as usize),
            trying: false,
            lost: false,
            completions: Vec::with_capacity(share.depth as usize * 2),
            kind: load.kind,
            reads: load.read_percent,
            reads_due: 0,
            order,
            map: share.map.clone(),
            pace: share.rate.map(pace),
            stamp: load.stamp,
            check: load.check,
            sample: load.sample.map_or(u64::MAX, |s| (s.get() / u64::from(load.workers.max(1))).max(1)),
            lap: (load.done.get() / (share.end - share.start).max(1)) as u32,
            block,
            start: share.start,
            end: share.end,
            next: match load.pattern {
                Pattern::Backward if share.from <= share.start => share.end,
                _ => share.from,
            },
            left: share.limit.unwrap_or(u64::MAX),
            issued: 0,
            interval: histogram(),
            whole: histogram(),
        })
    }

    /// In words, for the record.
    pub fn words(&self) -> String {
        self.queue.words()
    }

    /// Address just past what was moved, for a sequential load.
    pub fn position(&self) -> Option<Bytes> {
        match &self.order {
            Order::Random(_) | Order::Drawn(_) => return None,
            Order::Zones(order) => return order.position().map(Bytes::new),
            Order::Sequential | Order::Backward => {}
        }
        let position = self.counted_position();
        // The end of a zone is told as that, and not as the start of the next.
        let real =
            |map: &Arc<ZoneMap>| if position == 0 { map.place(0).0 } else { map.place(position - 1).0 + 1 };
        Some(Bytes::new(self.map.as_ref().map_or(position, real)))
    }

    /// Where a load that follows goes on, for one that has an order.
    pub fn goes_on_at(&self) -> Option<Bytes> {
        match &self.order {
            Order::Zones(order) => Some(Bytes::new(order.goes_on_at())),
            _ => self.position(),
        }
    }

    fn counted_position(&self) -> u64 {
        let in_flight = self.bytes_in_flight();
        if matches!(self.order, Order::Backward) {
            let position = self.next + in_flight;
            // Once round, the end of the region is its start.
            let wrapped = position > self.end || position == self.end && self.issued > 0;
            return if wrapped { self.start + (position - self.end) } else { position };
        }
        let position = self.next.saturating_sub(in_flight);
        // What is in flight may lie on both sides of the region's end, and the end itself is not its start.
        let wrapped = position < self.start || position == self.start && self.issued > 0;
        if wrapped { self.end - (self.start - position) } else { position }
    }

    fn in_flight(&self) -> usize {
        self.flights.len() - self.free.len() - self.to_judge.len()
    }

    /// Bytes in flight.
    pub fn bytes_in_flight(&self) -> u64 {
        self.flights.iter().flatten().map(|f| u64::from(f.operation.length)).sum()
    }

    /// Whether the next operation writes: reads are spread evenly among them.
    fn writes_next(&mut self) -> bool {
        match self.kind {
            LoadKind::Write | LoadKind::Fill { .. } => true,
            LoadKind::Mixed => {
                self.reads_due += self.reads;
                let read = self.reads_due >= 100;
                if read {
                    self.reads_due -= 100;
                }
                !read
            }
            _ => false,
        }
    }

    /// The next operation; `None` while there is no place for one.
    fn next_operation(&mut self, slot: u32) -> std::io::Result<Option<Next>> {
        let lap = self.lap;
        let next = match &mut self.order {
            Order::Zones(order) => {
                let next = order.next(slot, self.block, self.left)?;
                let of = |w: ZoneWrite| Next {
                    write: true,
                    address: w.address,
                    length: w.length,
                    lap: lap + w.lap,
                };
                return Ok(next.map(of));
            }
            Order::Drawn(draw) => {
                let drawn = draw.next();
                let length = u64::from(drawn.length).min(self.left);
                Next { write: drawn.write, address: drawn.address, length, lap }
            }
            _ => {
                let write = self.writes_next();
                let (address, length) = self.next_place();
                Next { write, address, length, lap }
            }
        };
        Ok(Some(match &self.map {
            None => next,
            Some(map) => {
                let (address, room) = map.place(next.address);
                Next { address, length: next.length.min(room), ..next }
            }
        }))
    }

    /// The next address and length.
    fn next_place(&mut self) -> (u64, u64) {
        match &mut self.order {
            // Chosen with the operation.
            Order::Drawn(_) | Order::Zones(_) => (self.start, 0),
            Order::Random(order) => (self.start + order.next() * self.block, self.block.min(self.left)),
            Order::Backward => {
                // What is left over of a block lies at the end of the region.
                let length = ((self.next - self.start - 1) % self.block + 1).min(self.left);
                let length = self.map.as_ref().map_or(length, |m| length.min(m.behind(self.next)));
                self.next -= length;
                let at = self.next;
                if self.next <= self.start {
                    self.next = self.end;
                    self.lap += 1;
                }
                (at, length)
            }
            Order::Sequential => {
                let (at, length) = (self.next, self.block.min(self.end - self.next).min(self.left));
                let length = self.map.as_ref().map_or(length, |m| length.min(m.place(at).1));
                self.next += length;
                if self.next >= self.end {
                    self.next = self.start;
                    self.lap += 1;
                }
                (at, length)
            }
        }
    }

    /// Fills the queue; all that is issued together counts from `now`, since it is submitted together.
    fn issue(&mut self, now: Instant) -> std::io::Result<()> {
        self.try_again()?;
        while self.left > 0 {
            let full = self.free.is_empty() || self.in_flight() >= self.depth;
            if full || self.pace.as_ref().is_some_and(|p| now < p.due()) {
                break;
            }
            let Some(slot) = self.free.pop() else { break };
            let Some(Next { write, address, length, lap }) = self.next_operation(slot)? else {
                self.free.push(slot);
                // Nothing is left that may be written, where nothing is in flight that could make room.
                if self.in_flight() == 0 {
                    self.left = 0;
                }
                break;
            };
            let operation = Operation { slot, write, address, from: 0, length: length as u32 };
            if write {
                // SAFETY: the slot is free, so nothing in flight uses it.
                unsafe {
                    match self.stamp {
                        Some(origin) => {
                            let origin = Origin { pass: origin.pass << 16 | lap & 0xffff, ..origin };
                            self.buffers.sign(slot as usize, length as usize, address, origin);
                        }
                        None => self.buffers.stamp(slot as usize, length as usize, address, self.issued),
                    }
                }
            }
            self.issued += 1;
            self.left -= length;
            let mut since = now;
            if let Some(pace) = &mut self.pace {
                if pace.from_due {
                    since = pace.due().min(now);
                }
                pace.count(length, now);
            }
            self.flights[slot as usize] = Some(InFlight { operation, since, failed: None });
            // SAFETY: the slot is free, and stays marked in flight until its completion is taken.
            unsafe { self.queue.push(operation)? };
        }
        Ok(())
    }

    /// Gives the next doubtful operation its second try.
    fn try_again(&mut self) -> std::io::Result<()> {
        if self.trying {
            return Ok(());
        }
        let Some(slot) = self.doubtful.pop_front() else { return Ok(()) };
        let Some(flight) = self.flights[slot as usize] else { return Ok(()) };
        self.trying = true;
        // SAFETY: its completion was taken, and nothing has used the slot since.
        unsafe { self.queue.push(flight.operation) }
    }

    fn take(&mut self, done: Completion, now: Instant, sum: &mut Pumped) -> std::io::Result<()> {
        let slot = done.slot as usize;
        let Some(flight) = self.flights.get_mut(slot).and_then(Option::take) else { return Ok(()) };
        let op = flight.operation;
        let again = |op: Operation, pump: &mut Self| {
            pump.flights[slot] = Some(InFlight { operation: op, ..flight });
            // SAFETY: its completion was just taken, so the slot is ours.
            unsafe { pump.queue.push(op) }
        };
        let mut moved =
            |n: u32| if op.write { sum.written += u64::from(n) } else { sum.read += u64::from(n) };
        match done.result {
            // The end of the file where there should be none: counted as an error, or it would go on for ever.
            0 => sum.fail(op, libc::EIO, false),
            n if n > 0 && (n as u32) < op.length => {
                let n = n as u32;
                moved(n);
                let rest = Operation {
                    address: op.address + u64::from(n),
                    from: op.from + n,
                    length: op.length - n,
                    ..op
                };
                return again(rest, self);
            }
            n if n > 0 => {
                let ns = now.duration_since(flight.since).as_nanos() as u64;
                self.interval.saturating_record(ns.max(1));
                moved(op.length);
                if let Some(code) = flight.failed {
                    sum.fail(op, code, true);
                }
            }
            e if -e == libc::EAGAIN || -e == libc::EINTR => return again(op, self),
            e if flight.failed.is_none() && is_doubtful(-e) && self.flights.len() > 1 => {
                self.flights[slot] = Some(InFlight { failed: Some(-e), ..flight });
                self.doubtful.push_back(done.slot);
                sum.in_vain += u64::from(op.length);
                return Ok(());
            }
            e => sum.fail(op, -e, false),
        }
        self.trying &= flight.failed.is_none();
        if let Order::Zones(order) = &mut self.order {
            let skipped = order.done(done.slot, op.address + u64::from(op.length), done.result < 0);
            // Of an endless load nothing is taken off.
            if self.left < u64::MAX / 2 {
                self.left = self.left.saturating_sub(skipped);
            }
        }
        if self.check.is_some() && done.result > 0 {
            self.to_judge.push((done.slot, op.address - u64::from(op.from), op.from + op.length));
        } else {
            self.free.push(done.slot);
        }
        Ok(())
    }

    /// Judges what was read, while the next operations are under way.
    fn judge(&mut self, sum: &mut Pumped) -> std::io::Result<()> {
        let (Some(check), false) = (self.check, self.to_judge.is_empty()) else { return Ok(()) };
        self.queue.start()?;
        for (slot, from, whole) in self.to_judge.drain(..) {
            // SAFETY: the operation is complete, and the slot is free only after this.
            unsafe { self.buffers.judge(slot as usize, whole as usize, from, &check, &mut sum.mismatches) };
            self.free.push(slot);
        }
        Ok(())
    }

    /// Waits for completions; gives the time at which they were taken.
    fn turn(&mut self, now: Instant, at_most: Duration, sum: &mut Pumped) -> std::io::Result<Instant> {
        let mut completions = std::mem::take(&mut self.completions);
        let waited = self.queue.wait(now, at_most, &mut completions);
        let now = Instant::now();
        for done in completions.drain(..) {
            self.take(done, now, sum)?;
        }
        self.completions = completions;
        waited.map(|()| now)
    }

    /// Keeps the queue full until `deadline`.
    ///
    /// # Errors
    /// When the queue fails.
    pub fn run(&mut self, deadline: Instant) -> std::io::Result<Pumped> {
        let mut sum = Pumped::default();
        let began = Instant::now();
        let mut now = began;
        loop {
            // This process stood still meanwhile (it was stopped, or had no processor): what has completed since belongs
            // to this interval and not to the next, which would seem to take no time.
            if now > deadline + STOOD_STILL && self.in_flight() > 0 {
                self.turn(now, Duration::ZERO, &mut sum)?;
                self.judge(&mut sum)?;
                return Ok(sum);
            }
            self.issue(now)?;
            self.judge(&mut sum)?;
            if self.left == 0 && self.in_flight() == 0 {
                sum.finished = true;
                return Ok(sum);
            }
            let enough = sum.written + sum.read >= self.sample && now >= began + LEAST_SAMPLE;
            if now >= deadline || enough {
                return Ok(sum);
            }
            // With a rate limit, wake up when the next operation is due.
            let wake = match &self.pace {
                Some(pace) if self.left > 0 && !self.free.is_empty() => pace.due().clamp(now, deadline),
                _ => deadline,
            };
            if self.in_flight() == 0 {
                std::thread::sleep(wake - now);
                now = Instant::now();
            } else {
                now = self.turn(now, wake - now, &mut sum)?;
            }
        }
    }

    /// Issues nothing more and waits for what is in flight.
    ///
    /// # Errors
    /// When the queue fails.
    pub fn drain(&mut self) -> std::io::Result<Pumped> {
        let mut sum = Pumped::default();
        let (mut left, mut since) = (self.in_flight(), Instant::now());
        while self.in_flight() > 0 {
            self.try_again()?;
            let now = self.turn(Instant::now(), Duration::from_secs(1), &mut sum)?;
            if self.in_flight() < left {
                (left, since) = (self.in_flight(), now);
            } else if now.duration_since(since) > GIVE_UP {
                self.lost = true;
                let why = format!("{left} operations have not come back for {} min", GIVE_UP.as_secs() / 60);
                return Err(std::io::Error::new(std::io::ErrorKind::TimedOut, why));
            }
        }
        self.judge(&mut sum)?;
        Ok(sum)
    }

    /// The histogram of the interval, added to that of the whole and emptied by `read`.
    pub fn close_interval<T>(&mut self, read: impl FnOnce(&Histogram<u64>) -> T) -> T {
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
        if self.lost || self.drain().is_err() {
            std::mem::forget(self.buffers.clone());
        }
    }
}

#[cfg(test)]
#[path = "pump_tests.rs"]
mod tests;
