//! One load of files in simulated time. Each thread has a clock of its own and does one operation at a time; the one that is furthest
//! behind goes next. What it waits for is told as a real thread's is.

use std::cmp::Reverse;
use std::collections::{BinaryHeap, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use hdrhistogram::Histogram;
use hollow_mile_core::drive::freight::{Carry, Durable, Freight, Freighted, Side, Through, Tree};
use hollow_mile_core::drive::{Load, Tally};
use hollow_mile_core::quantity::units::Bytes;
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::super::{SimDrive, normal};
use super::{Host, Moved};
use crate::account::{Account, At, gather};
use crate::latency::{histogram, points};

/// Nanoseconds since the load began: whole, so that they can be ordered.
type Time = u64;

/// What data in memory goes to the drive in at a time.
const WRITE_BACK: u64 = 1 << 20;
/// A folder, a file: what is open costs as much to close as this share of opening it.
const CLOSES: f64 = 0.25;

fn ns(seconds: f64) -> Time {
    (seconds * 1e9).round().max(0.0) as Time
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Waits {
    /// For data from the other side.
    Data,
    /// For room in the queue.
    Room,
    /// For room in memory.
    Memory,
    /// Until so much in all has left memory: its file is durable then.
    Written(u64),
    /// For the folders, or for the others.
    Others,
    /// For nothing: it is over.
    Nothing,
}

/// A file in the hands of a thread.
#[derive(Debug, Clone, Copy)]
struct File {
    size: u64,
    left: u64,
    took: f64,
    metadata: f64,
    durable: f64,
}

struct Hand {
    account: Account,
    file: Option<File>,
    waits: Option<(Waits, Time)>,
}

impl Hand {
    /// What it has waited so far is told, and it waits on.
    fn tell_wait(&mut self, at: Time) {
        let Some((waits, since)) = &mut self.waits else { return };
        let waited = Duration::from_nanos(at.saturating_sub(*since));
        *since = at;
        let spent = &mut self.account.done.spent;
        match waits {
            Waits::Data => spent.starved += waited,
            Waits::Room => spent.held += waited,
            Waits::Memory => spent.data += waited,
            Waits::Written(_) => spent.durable += waited,
            // One makes the folders, the others wait for them.
            Waits::Others => spent.metadata += waited,
            Waits::Nothing => self.account.idle(waited),
        }
        let seconds = waited.as_secs_f64();
        match (waits, &mut self.file) {
            (Waits::Memory, Some(file)) => file.took += seconds,
            (Waits::Written(_), Some(file)) => {
                file.took += seconds;
                file.durable += seconds;
            }
            _ => {}
        }
    }
}

/// What lies in the queue of a pair.
#[derive(Debug, Clone, Copy)]
enum Parcel {
    File(u64),
    Data(u64),
}

#[derive(Default)]
struct Queue {
    parcels: VecDeque<Parcel>,
    /// Blocks in it, or on their way into it.
    blocks: usize,
    /// Nothing more comes.
    ended: bool,
}

pub(super) struct Transport {
    host: Host,
    freight: Freight,
    tree: Arc<Tree>,
    order: Vec<u32>,
    next: usize,
    block: u64,
    pairs: usize,
    room: usize,
    now: Time,
    clocks: BinaryHeap<Reverse<(Time, usize)>>,
    /// Those at the target, or alone; then those at the source.
    hands: Vec<Hand>,
    queues: Vec<Queue>,
    folders: usize,
    rng: Xoshiro256PlusPlus,
    /// When each drive is free: target, source.
    free: [Time; 2],
    /// Bytes that wait in memory, that have left it in all, and that have come into it.
    unwritten: u64,
    left_memory: u64,
    into_memory: u64,
    writes_back: bool,
    since_commit: u64,
    /// Until then whoever makes or removes files waits for the journal.
    committing: Time,
    moved: Moved,
    latency: Histogram<u64>,
    /// Bytes of the drives since the last tally, and seconds that the one at the target was at work.
    device: (u64, u64),
    busy_s: f64,
}

impl Transport {
    pub fn new(host: &Host, load: &Load, freight: &Freight, tree: Arc<Tree>, seed: u64) -> Self {
        let pairs = (load.workers as usize).max(1);
        let copies = freight.carry == Carry::Copy;
        let hand = |at| Hand { account: Account::new(at), file: None, waits: None };
        let mut hands: Vec<Hand> = (0..pairs).map(|_| hand(At::Target)).collect();
        if copies {
            hands.extend((0..pairs).map(|_| hand(At::Source)));
        }
        Self {
            host: host.clone(),
            freight: freight.clone(),
            order: tree.order(freight.order),
            folders: if freight.carry.makes() { 0 } else { tree.folders() },
            tree,
            next: 0,
            block: load.block.get(),
            pairs,
            room: (load.depth as usize).div_ceil(pairs).max(2),
            now: 0,
            clocks: (0..hands.len()).map(|i| Reverse((0, i))).collect(),
            hands,
            queues: (0..pairs).map(|_| Queue::default()).collect(),
            rng: Xoshiro256PlusPlus::seed_from_u64(seed ^ 0xF1E1),
            free: [0, 0],
            unwritten: 0,
            left_memory: 0,
            into_memory: 0,
            writes_back: false,
            since_commit: 0,
            committing: 0,
            moved: Moved::default(),
            latency: histogram(),
            device: (0, 0),
            busy_s: 0.0,
        }
    }

    pub const fn carry(&self) -> Carry {
        self.freight.carry
    }

    pub const fn side(&self) -> Side {
        self.freight.side
    }

    pub const fn durable(&self) -> Durable {
        self.freight.durable
    }

    pub fn tree(&self) -> Arc<Tree> {
        self.tree.clone()
    }

    pub fn take_histogram(&mut self) -> Vec<(u64, u64)> {
        let all = points(&self.latency);
        self.latency.clear();
        all
    }

    /// Every thread is over.
    pub fn is_over(&self) -> bool {
        self.hands.iter().all(|h| matches!(h.waits, Some((Waits::Nothing, _))))
    }

    /// Goes on for so many seconds, or to the end.
    pub fn run(
        &mut self,
        seconds: f64,
        target: &mut SimDrive,
        source: Option<&mut SimDrive>,
    ) -> (Tally, Moved) {
        let (begin, until) = (self.now, self.now + ns(seconds));
        self.moved = Moved::default();
        let mut drives = [Some(target), source];
        if self.freight.side == Side::Source {
            drives.swap(0, 1);
        }
        while let Some(&Reverse((at, who))) = self.clocks.peek() {
            if at >= until || self.is_over() {
                break;
            }
            self.clocks.pop();
            self.now = self.now.max(at);
            if who == self.hands.len() {
                self.write_back(at, &mut drives);
            } else {
                self.step(who, at, &mut drives);
            }
        }
        let over = self.is_over();
        let end = if over { self.now.max(begin + 1) } else { until };
        self.now = end;
        self.tell_waits(end);
        let (mut tally, mut done, latency) = gather(self.hands.iter_mut().map(|h| h.account.take()));
        let _ = self.latency.add(&latency);
        tally.took = Duration::from_nanos(end - begin);
        tally.finished = over;
        done.threads = self.pairs as u32;
        done.of_files = self.order.len() as u64;
        if self.freight.carry == Carry::Copy {
            let blocks: usize = self.queues.iter().map(|q| q.blocks).sum();
            done.queue_ppm = Some((blocks as f64 / (self.room * self.pairs) as f64 * 1e6) as u32);
        }
        let device = std::mem::take(&mut self.device);
        (done.device_written, done.device_read) = (Some(Bytes::new(device.0)), Some(Bytes::new(device.1)));
        done.device_busy = Some(Duration::from_secs_f64(std::mem::take(&mut self.busy_s)));
        done.unwritten = Some(Bytes::new(self.unwritten));
        done.in_hand =
            self.hands[..self.pairs].iter().filter_map(|h| h.file.map(|f| Bytes::new(f.size))).max();
        tally.freight = Some(Box::new(done));
        (tally, self.moved)
    }

    /// Writes what is still in memory; gives the seconds that it takes.
    pub fn settle(&mut self, drive: &mut SimDrive) -> f64 {
        let bytes = std::mem::take(&mut self.unwritten);
        self.device.0 += bytes;
        let begun = self.free[0].saturating_sub(self.now) as f64 / 1e9;
        let seconds = begun + drive.serve(bytes, true) + self.host.flush.as_secs_f64();
        drive.let_pass(seconds, bytes);
        seconds
    }

    /// What the block layer wrote after the last tally.
    pub fn last_words(&mut self) -> Option<Box<Freighted>> {
        let device = std::mem::take(&mut self.device);
        (device.0 > 0).then(|| {
            Box::new(Freighted { device_written: Some(Bytes::new(device.0)), ..Freighted::default() })
        })
    }

    /// What threads have waited so far is told, and they wait on.
    fn tell_waits(&mut self, at: Time) {
        self.hands.iter_mut().for_each(|h| h.tell_wait(at));
    }

    fn wait(&mut self, who: usize, waits: Waits, at: Time) {
        self.hands[who].waits = Some((waits, at));
    }

    /// Those who wait for this go on.
    fn wake(&mut self, at: Time, is_it: impl Fn(usize, Waits) -> bool) {
        for who in 0..self.hands.len() {
            let Some((waits, since)) = self.hands[who].waits else { continue };
            if !is_it(who, waits) {
                continue;
            }
            let at = at.max(since);
            self.hands[who].tell_wait(at);
            self.hands[who].waits = None;
            self.clocks.push(Reverse((at, who)));
        }
    }

    /// A cost of the file system, each time another.
    fn cost(&mut self, of: Duration, share: f64) -> f64 {
        of.as_secs_f64() * share * (self.host.sigma * normal(&mut self.rng)).exp()
    }

    /// How long so much takes to be copied in memory, s.
    fn copied(&mut self, bytes: u64) -> f64 {
        let sigma = self.host.copy_sigma;
        let slower = if sigma > 0.0 { (sigma * normal(&mut self.rng)).exp() } else { 1.0 };
        bytes as f64 / self.host.copy.get() * slower
    }

    /// Work on a file's name, with what the journal makes it wait.
    fn metadata(&mut self, who: usize, at: Time, seconds: f64, journals: bool) -> Time {
        let mut seconds = seconds;
        if journals {
            self.since_commit += 1;
            if self.host.commit_every.is_some_and(|n| self.since_commit >= n) {
                self.since_commit = 0;
                self.committing = at + ns(self.host.commit.as_secs_f64());
            }
            seconds += self.committing.saturating_sub(at) as f64 / 1e9;
        }
        let hand = &mut self.hands[who];
        hand.account.metadata(Duration::from_secs_f64(seconds));
        if let Some(file) = &mut hand.file {
            file.took += seconds;
            file.metadata += seconds;
        }
        at + ns(seconds)
    }

    /// A drive moves so many bytes from when it is free.
    fn serve(
        &mut self,
        drive: usize,
        bytes: u64,
        writes: bool,
        at: Time,
        drives: &mut [Option<&mut SimDrive>; 2],
    ) -> Time {
        let Some(medium) = &mut drives[drive] else { return at };
        let seconds = medium.serve(bytes, writes);
        self.free[drive] = self.free[drive].max(at) + ns(seconds);
        if drive == 0 {
            self.busy_s += seconds;
        }
        match drive {
            0 => self.moved.target += bytes,
            _ => self.moved.source += bytes,
        }
        if writes {
            self.device.0 += bytes;
        } else {
            self.device.1 += bytes;
        }
        self.free[drive]
    }

    fn step(&mut self, who: usize, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        let pair = who % self.pairs;
        if who >= self.pairs {
            return self.fetch(who, pair, at, drives);
        }
        if self.freight.carry.makes() && self.folders < self.tree.folders() {
            return self.make_folder(who, at);
        }
        match self.freight.carry {
            Carry::Delete => self.delete(who, at),
            Carry::Read => self.read(who, at, drives),
            Carry::Write => self.write(who, at, drives),
            Carry::Copy => self.put(who, pair, at, drives),
        }
    }

    fn make_folder(&mut self, who: usize, at: Time) {
        if who > 0 {
            return self.wait(who, Waits::Others, at);
        }
        let seconds = self.cost(self.host.folder, 1.0);
        self.folders += 1;
        self.hands[who].account.folders(1, Duration::from_secs_f64(seconds));
        let end = at + ns(seconds);
        if self.folders == self.tree.folders() {
            self.wake(end, |_, w| w == Waits::Others);
        }
        self.clocks.push(Reverse((end, who)));
    }

    fn next_file(&mut self) -> Option<u64> {
        let file = self.order.get(self.next)?;
        self.next += 1;
        Some(self.tree.size(*file as usize))
    }

    fn take_up(&mut self, who: usize, size: u64) {
        let hand = &mut self.hands[who];
        hand.file = Some(File { size, left: size, took: 0.0, metadata: 0.0, durable: 0.0 });
    }

    /// A file is done with.
    fn put_down(&mut self, who: usize, at: Time) {
        let hand = &mut self.hands[who];
        if let Some(f) = hand.file.take() {
            let [took, metadata, durable] = [f.took, f.metadata, f.durable].map(Duration::from_secs_f64);
            hand.account.done.file(f.size, took, metadata, durable);
        }
        self.clocks.push(Reverse((at, who)));
    }

    fn delete(&mut self, who: usize, at: Time) {
        let Some(size) = self.next_file() else {
            if who == 0 && self.folders > 0 {
                let all_over = self.hands.iter().skip(1).all(|h| h.waits.is_some());
                if all_over {
                    let seconds = self.cost(self.host.folder, 1.0);
                    self.folders -= 1;
                    self.hands[0].account.folders(1, Duration::from_secs_f64(seconds));
                    return self.clocks.push(Reverse((at + ns(seconds), who)));
                }
                return self.clocks.push(Reverse((at + 10_000, who)));
            }
            return self.wait(who, Waits::Nothing, at);
        };
        self.take_up(who, size);
        let seconds = self.cost(self.host.remove, 1.0);
        let end = self.metadata(who, at, seconds, true);
        self.put_down(who, end);
    }

    fn read(&mut self, who: usize, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        let Some(file) = self.hands[who].file else {
            let Some(size) = self.next_file() else { return self.wait(who, Waits::Nothing, at) };
            self.take_up(who, size);
            let seconds = self.cost(self.host.open, 1.0);
            let end = self.metadata(who, at, seconds, false);
            return self.clocks.push(Reverse((end, who)));
        };
        if file.left == 0 {
            let seconds = self.cost(self.host.open, CLOSES);
            let end = self.metadata(who, at, seconds, false);
            return self.put_down(who, end);
        }
        let (end, _) = self.transfer_in(who, 0, at, drives);
        self.clocks.push(Reverse((end, who)));
    }

    /// A block comes from a drive; gives when it is there, and its bytes.
    fn transfer_in(
        &mut self,
        who: usize,
        drive: usize,
        at: Time,
        drives: &mut [Option<&mut SimDrive>; 2],
    ) -> (Time, u64) {
        let bytes = self.hands[who].file.map_or(0, |f| f.left.min(self.block));
        let served = self.serve(drive, bytes, false, at, drives);
        let copied = self.copied(bytes);
        // Past the page cache an access is waited for; through it the next blocks are read ahead.
        let end = match self.freight.through {
            Through::Direct => served + ns(self.host.access.as_secs_f64()),
            Through::Cache => served.max(at) + ns(copied),
        };
        let at_work = if self.freight.through == Through::Cache { copied } else { 0.0 };
        self.transferred(who, end - at, at_work, bytes, false);
        (end, bytes)
    }

    fn transferred(&mut self, who: usize, took: Time, at_work: f64, bytes: u64, writes: bool) {
        let hand = &mut self.hands[who];
        hand.account.transfer(Duration::from_nanos(took), Some(Duration::from_secs_f64(at_work)));
        if writes {
            hand.account.written += bytes;
        } else {
            hand.account.read += bytes;
        }
        if let Some(file) = &mut hand.file {
            file.left -= bytes;
            file.took += took as f64 / 1e9;
        }
    }

    fn write(&mut self, who: usize, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        let Some(file) = self.hands[who].file else {
            let Some(size) = self.next_file() else { return self.wait(who, Waits::Nothing, at) };
            return self.create(who, size, at);
        };
        if file.left == 0 {
            return self.close(who, at);
        }
        if let Some(end) = self.transfer_out(who, file.left.min(self.block), at, drives) {
            self.clocks.push(Reverse((end, who)));
        }
    }

    fn create(&mut self, who: usize, size: u64, at: Time) {
        self.take_up(who, size);
        let seconds = self.cost(self.host.create, 1.0 - CLOSES);
        let end = self.metadata(who, at, seconds, true);
        self.clocks.push(Reverse((end, who)));
    }

    /// A block goes to memory or to the drive; `None` while it waits for memory.
    fn transfer_out(
        &mut self,
        who: usize,
        bytes: u64,
        at: Time,
        drives: &mut [Option<&mut SimDrive>; 2],
    ) -> Option<Time> {
        let copied = self.copied(bytes);
        if self.freight.through == Through::Direct {
            let served = self.serve(0, bytes, true, at, drives);
            let end = served + ns(self.host.access.as_secs_f64());
            self.transferred(who, end - at, 0.0, bytes, true);
            return Some(end);
        }
        if self.unwritten > 0 && self.unwritten + bytes > self.host.memory.get() {
            self.wait(who, Waits::Memory, at);
            return None;
        }
        self.unwritten += bytes;
        self.into_memory += bytes;
        if !self.writes_back {
            self.writes_back = true;
            self.clocks.push(Reverse((at, self.hands.len())));
        }
        let end = at + ns(copied);
        self.transferred(who, end - at, copied, bytes, true);
        Some(end)
    }

    /// The kernel writes what waits in memory.
    fn write_back(&mut self, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        let bytes = self.unwritten.min(WRITE_BACK);
        if bytes == 0 {
            self.writes_back = false;
            return;
        }
        let end = self.serve(0, bytes, true, at, drives);
        self.unwritten -= bytes;
        self.left_memory += bytes;
        let left = self.left_memory;
        self.wake(end, |_, w| match w {
            Waits::Memory => true,
            Waits::Written(until) => left >= until,
            _ => false,
        });
        self.clocks.push(Reverse((end, self.hands.len())));
    }

    fn close(&mut self, who: usize, at: Time) {
        let file = self.hands[who].file;
        let asked =
            self.freight.durable == Durable::Each && file.is_some_and(|f| f.durable == 0.0 && f.size > 0);
        if asked && self.freight.through == Through::Cache && self.left_memory < self.into_memory {
            // Looked at again once it has left memory.
            let until = self.into_memory;
            return self.wait(who, Waits::Written(until), at);
        }
        let mut end = at;
        if self.freight.durable == Durable::Each {
            let seconds = self.cost(self.host.flush, 1.0);
            let hand = &mut self.hands[who];
            hand.account.done.spent.durable += Duration::from_secs_f64(seconds);
            if let Some(file) = &mut hand.file {
                file.took += seconds;
                file.durable += seconds;
            }
            end += ns(seconds);
        }
        let seconds = self.cost(self.host.create, CLOSES);
        let end = self.metadata(who, end, seconds, false);
        self.put_down(who, end);
    }

    /// At the source of a copy.
    fn fetch(&mut self, who: usize, pair: usize, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        let Some(file) = self.hands[who].file else {
            let Some(size) = self.next_file() else {
                self.queues[pair].ended = true;
                self.wake(at, |w, waits| w == pair && waits == Waits::Data);
                return self.wait(who, Waits::Nothing, at);
            };
            self.take_up(who, size);
            let seconds = self.cost(self.host.open, 1.0);
            let end = self.metadata(who, at, seconds, false);
            self.queues[pair].parcels.push_back(Parcel::File(size));
            self.wake(end, |w, waits| w == pair && waits == Waits::Data);
            return self.clocks.push(Reverse((end, who)));
        };
        if file.left == 0 {
            let seconds = self.cost(self.host.open, CLOSES);
            let end = self.metadata(who, at, seconds, false);
            self.hands[who].file = None;
            return self.clocks.push(Reverse((end, who)));
        }
        if self.queues[pair].blocks >= self.room {
            return self.wait(who, Waits::Room, at);
        }
        self.queues[pair].blocks += 1;
        let (end, bytes) = self.transfer_in(who, 1, at, drives);
        self.queues[pair].parcels.push_back(Parcel::Data(bytes));
        self.wake(end, |w, waits| w == pair && waits == Waits::Data);
        self.clocks.push(Reverse((end, who)));
    }

    /// At the target of a copy.
    fn put(&mut self, who: usize, pair: usize, at: Time, drives: &mut [Option<&mut SimDrive>; 2]) {
        if self.hands[who].file.is_some_and(|f| f.left == 0) {
            return self.close(who, at);
        }
        match self.queues[pair].parcels.front().copied() {
            None if self.queues[pair].ended => self.wait(who, Waits::Nothing, at),
            None => self.wait(who, Waits::Data, at),
            Some(Parcel::File(size)) => {
                self.queues[pair].parcels.pop_front();
                self.create(who, size, at);
            }
            Some(Parcel::Data(bytes)) => {
                let Some(end) = self.transfer_out(who, bytes, at, drives) else { return };
                self.queues[pair].parcels.pop_front();
                self.queues[pair].blocks -= 1;
                let reader = self.pairs + pair;
                self.wake(end, |w, waits| w == reader && waits == Waits::Room);
                self.clocks.push(Reverse((end, who)));
            }
        }
    }
}
