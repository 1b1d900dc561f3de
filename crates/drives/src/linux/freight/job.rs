//! The threads of a freight leg: with one drive so many that each take the next file; with two so many pairs, one that reads at the
//! source and one that writes at the target, with a queue of blocks between them.

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::thread::JoinHandle;
use std::time::Duration;

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, TrySendError, bounded};
use hollow_mile_core::drive::freight::{Carry, Durable, Tree};
use quanta::Instant;
use rustix::io::Errno;

use super::super::buffers::Buffers;
use super::super::guard::{Inside, Way};
use super::files::{Reading, Trouble, UNIT, Writing, remove};
use super::raw::Raw;
use super::shared::{Gate, Shared};
use crate::account::{Account, At, Looks};

/// How long a thread waits for the other side before it looks whether it is still wanted, and says what it waited.
const A_WHILE: Duration = Duration::from_millis(20);

/// From where a copy comes.
pub enum From {
    /// A tree of ours.
    Tree(Inside),
    /// A drive, whose bytes are taken as they lie.
    Raw(Arc<Raw>),
}

/// What is done.
pub struct Plan {
    /// What with the tree.
    pub carry: Carry,
    /// Which tree.
    pub tree: Arc<Tree>,
    /// Its files in order.
    pub order: Arc<Vec<u32>>,
    /// Where the tree lies or shall lie, but for a copy's source.
    pub inside: Inside,
    /// Of a copy.
    pub from: Option<From>,
    /// The tree is not whole: files that are not there are passed over.
    pub partial: bool,
    /// Size of a read or write.
    pub block: usize,
    /// Files at once.
    pub threads: usize,
    /// Blocks in the queue of a copy.
    pub depth: usize,
    /// Past the page cache.
    pub direct: bool,
    /// When data is made durable.
    pub durable: Durable,
    /// Share of the blocks that are like some before.
    pub duplicates_percent: u8,
    /// Share of the data that could be squeezed away.
    pub compressible_percent: u8,
    /// Of the data in memory.
    pub seed: u64,
}

/// Has its cache line for itself: what one thread changes at every file keeps no other from what it only looks at.
#[repr(align(128))]
struct Apart<T>(T);

/// What all threads see.
struct Common {
    plan: Plan,
    next: Apart<AtomicU64>,
    gate: Apart<Gate>,
    failed: Shared<Option<(At, Trouble)>>,
    /// Blocks that wait in queues.
    queued: AtomicUsize,
}

impl Common {
    /// The next file's place in the order. A thread alone needs no locked addition, which waits for all that it stored before.
    fn claim(&self) -> u64 {
        let numbers = &self.next.0;
        if self.plan.threads > 1 || self.plan.carry == Carry::Copy {
            return numbers.fetch_add(1, Ordering::Relaxed);
        }
        let number = numbers.load(Ordering::Relaxed);
        numbers.store(number + 1, Ordering::Relaxed);
        number
    }
}

/// Threads at work.
pub struct Job {
    common: Arc<Common>,
    hands: Vec<Told>,
    threads: Vec<JoinHandle<()>>,
}

/// What a thread tells.
struct Told {
    account: Arc<Shared<Account>>,
    /// Size of the file in hand.
    in_hand: Arc<AtomicU64>,
    /// Since when it has been over; what was told of that is not told again.
    over: Arc<Shared<Option<Instant>>>,
}

/// A block on its way, in a slot of its pair's memory.
enum Parcel {
    /// A file begins.
    File(u32),
    /// So many bytes of it.
    Data(usize, usize),
}

impl Job {
    /// Begins.
    ///
    /// # Errors
    /// When memory or threads cannot be had.
    pub fn begin(plan: Plan) -> std::io::Result<Self> {
        let pairs = plan.threads.max(1);
        let copies = plan.carry == Carry::Copy;
        let threads = if copies { 2 * pairs } else { pairs };
        let common = Arc::new(Common {
            next: Apart(AtomicU64::new(0)),
            gate: Apart(Gate::new(threads)),
            failed: Shared::default(),
            queued: AtomicUsize::new(0),
            plan,
        });
        let mut job = Self { common, hands: Vec::new(), threads: Vec::new() };
        for pair in 0..pairs {
            // A thread that cannot be had: those that can are let go again.
            if let Err(e) = job.pair(pair, copies) {
                job.common.gate.0.stop();
                return Err(e);
            }
        }
        Ok(job)
    }

    fn pair(&mut self, pair: usize, copies: bool) -> std::io::Result<()> {
        let plan = &self.common.plan;
        let slot = plan.block.next_multiple_of(UNIT);
        let slots = if copies { plan.depth.div_ceil(plan.threads.max(1)).max(2) } else { 1 };
        // All from one seed: what shall be alike is alike, whoever writes it.
        let mut buffers = Buffers::new(slots, slot, plan.seed)?;
        buffers.prepare(plan.compressible_percent, false);
        let buffers = Arc::new(buffers);
        if !copies {
            return self.spawn(At::Target, pair, move |hand| hand.alone(&buffers));
        }
        let (give, take) = bounded::<Parcel>(2 * slots + 2);
        let (give_back, free) = bounded::<usize>(slots);
        for slot in 0..slots {
            let _ = give_back.send(slot);
        }
        let memory = buffers.clone();
        self.spawn(At::Source, pair, move |hand| hand.fetch(&memory, &free, &give))?;
        self.spawn(At::Target, pair, move |hand| hand.put(&buffers, &take, &give_back))
    }

    fn spawn(
        &mut self,
        at: At,
        pair: usize,
        work: impl FnOnce(&mut Hand) -> Result<(), Trouble> + Send + 'static,
    ) -> std::io::Result<()> {
        let (account, over) = (Arc::new(Shared::new(Account::new(at))), Arc::<Shared<_>>::default());
        let in_hand = Arc::<AtomicU64>::default();
        self.hands.push(Told { account: account.clone(), in_hand: in_hand.clone(), over: over.clone() });
        let common = self.common.clone();
        let way = match (at, &common.plan.from) {
            (At::Source, Some(From::Tree(inside))) => inside.way(),
            _ => common.plan.inside.way(),
        };
        let thread = std::thread::Builder::new().name(format!("freight-{pair}")).spawn(move || {
            let mut hand =
                Hand { common, account, in_hand, way, pair, looks: Looks::default(), mark: None, blocks: 0 };
            if let Err(trouble) = work(&mut hand) {
                let mut failed = hand.common.failed.lock();
                if failed.is_none() {
                    *failed = Some((at, trouble));
                }
                drop(failed);
                hand.common.gate.0.stop();
            }
            *over.lock() = Some(Instant::now());
            hand.common.gate.0.leave();
        })?;
        self.threads.push(thread);
        Ok(())
    }

    /// Waits for so long, or until nothing is left to do; tells whether nothing is.
    pub fn wait(&self, within: Duration) -> bool {
        self.common.gate.0.all_over(within)
    }

    /// What every thread did since it was last asked, and how long those that are over had nothing to do.
    pub fn take(&self) -> Vec<Account> {
        let now = Instant::now();
        let one = |hand: &Told| {
            let mut taken = hand.account.lock().take();
            if let Some(since) = &mut *hand.over.lock() {
                taken.idle(now.saturating_duration_since(std::mem::replace(since, now)));
            }
            taken
        };
        self.hands.iter().map(one).collect()
    }

    /// How full the queue is, in parts per million; `None` where there is none.
    pub fn queue_ppm(&self) -> Option<u32> {
        let plan = &self.common.plan;
        (plan.carry == Carry::Copy).then(|| {
            let threads = plan.threads.max(1);
            let room = plan.depth.div_ceil(threads).max(2) * threads;
            (self.common.queued.load(Ordering::Relaxed) as f64 / room as f64 * 1e6).min(1e6) as u32
        })
    }

    /// Size of the largest file in hand.
    pub fn in_hand(&self) -> u64 {
        self.hands.iter().map(|h| h.in_hand.load(Ordering::Relaxed)).max().unwrap_or(0)
    }

    /// Why it could not go on.
    pub fn failed(&self) -> Option<(At, Trouble)> {
        *self.common.failed.lock()
    }

    /// Files that it has to do with.
    pub fn files(&self) -> u64 {
        self.common.plan.order.len() as u64
    }

    /// Threads on the side of the target.
    pub fn threads(&self) -> u32 {
        self.common.plan.threads.max(1) as u32
    }

    /// Takes the load off.
    pub fn pause(&self) {
        self.common.gate.0.pause(Duration::from_secs(60));
    }

    /// Puts it on again.
    pub fn go_on(&self) {
        // A pause is no time in which others still work.
        self.hands.iter().filter_map(|h| h.over.lock().as_mut().map(|o| *o = Instant::now())).for_each(drop);
        self.common.gate.0.go();
    }

    /// Ends it, and waits for what is in flight. True when every file was done with.
    pub fn end(&mut self) -> bool {
        self.common.gate.0.stop();
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
        self.common.next.0.load(Ordering::Relaxed) >= self.files() && self.failed().is_none()
    }
}

impl Drop for Job {
    fn drop(&mut self) {
        self.end();
    }
}

/// One thread.
struct Hand {
    common: Arc<Common>,
    account: Arc<Shared<Account>>,
    in_hand: Arc<AtomicU64>,
    way: Way,
    pair: usize,
    looks: Looks,
    /// When the file before was done with, where this one follows at once.
    mark: Option<Instant>,
    /// Blocks that it wrote from memory.
    blocks: u64,
}

impl Hand {
    /// The next file; `None` when there is none, or it is over.
    fn next(&mut self) -> Option<u32> {
        if !self.common.gate.0.is_open() {
            // What a pause takes is no file's.
            self.mark = None;
            if !self.common.gate.0.wait_until_open() {
                return None;
            }
        }
        let next = self.common.claim();
        let file = self.common.plan.order.get(next as usize).copied();
        if file.is_none() {
            // Not counted on for ever.
            self.common.next.0.store(self.common.plan.order.len() as u64, Ordering::Relaxed);
        }
        file
    }

    /// All wait until the first has made the folders.
    fn make_folders(&mut self) -> Result<(), Trouble> {
        let common = self.common.clone();
        let result = if self.pair == 0 { self.each_folder(false) } else { Ok(()) };
        // Where it could not make them, the others learn that it is over.
        if result.is_ok() {
            let account = &self.account;
            common.gate.0.meet(common.plan.threads.max(1), |t| account.lock().done.spent.metadata += t);
        }
        result
    }

    fn each_folder(&mut self, remove: bool) -> Result<(), Trouble> {
        let tree = self.common.plan.tree.clone();
        let many = tree.folders() as u32;
        for n in 1..=many {
            if !self.common.gate.0.may_go_on() {
                break;
            }
            let began = Instant::now();
            let (doing, result) = if remove {
                ("removing a folder", self.way.remove_folder(&tree, many + 1 - n))
            } else {
                ("making a folder", self.way.make_folder(&tree, n))
            };
            match result {
                Err(Errno::NOENT) if remove && self.common.plan.partial => {}
                other => other.map_err(|error| Trouble { doing, error })?,
            }
            self.account.lock().folders(1, began.elapsed());
        }
        Ok(())
    }

    /// Writes, reads or removes files, from and into memory.
    fn alone(&mut self, buffers: &Buffers) -> Result<(), Trouble> {
        let common = self.common.clone();
        let plan = &common.plan;
        let writes = plan.carry == Carry::Write;
        if writes {
            self.make_folders()?;
        }
        while let Some(file) = self.next() {
            let done = match plan.carry {
                Carry::Delete => remove(&mut self.way, &plan.tree, file, &self.account),
                Carry::Read => self.read(file, buffers),
                Carry::Write | Carry::Copy => self.write(file, buffers),
            };
            match done {
                Err(t) if t.error == Errno::NOENT && plan.partial && !writes => {}
                // The media, and no more than this file.
                Err(t) if t.error == Errno::IO && plan.carry == Carry::Read => {
                    self.account.lock().fault(format!("{} failed: {}", t.doing, t.error));
                }
                other => other?,
            }
        }
        self.in_hand.store(0, Ordering::Relaxed);
        if plan.carry == Carry::Delete {
            let account = &self.account;
            common.gate.0.meet(plan.threads.max(1), |t| account.lock().done.spent.idle += t);
            if self.pair == 0 {
                self.each_folder(true)?;
            }
        }
        Ok(())
    }

    fn write(&mut self, file: u32, buffers: &Buffers) -> Result<(), Trouble> {
        let Self { common, account, in_hand, way, looks, mark, blocks, pair, .. } = self;
        let plan = &common.plan;
        in_hand.store(plan.tree.size(file as usize), Ordering::Relaxed);
        // Between two files lies nothing that takes time, but where the load was paused.
        let began = mark.take().unwrap_or_else(Instant::now);
        let mut writing = Writing::begin(way, &plan.tree, file, plan.direct, began)?;
        while writing.left() > 0 {
            // The first block follows at once.
            if writing.has_begun() && !common.gate.0.may_go_on() {
                return Ok(());
            }
            let length = writing.left().min(plan.block as u64) as usize;
            // Evenly spread over the blocks of each thread, and not the first. What is like none before has a number of its own.
            let (turn, percent) = (*blocks, u64::from(plan.duplicates_percent));
            let own = turn * plan.threads.max(1) as u64 + *pair as u64 + 1;
            let like_before = (turn * percent) % 100 < percent && own > 8;
            let number = if like_before { turn % 8 + 1 } else { own };
            *blocks += 1;
            // SAFETY: this thread alone has this memory, and no operation of it is in flight.
            let data = unsafe {
                buffers.stamp(0, length.next_multiple_of(UNIT), 0, number);
                buffers.slice(0)
            };
            writing.write(data, length, looks.next(), account)?;
        }
        *mark = Some(writing.end(plan.durable, account)?);
        Ok(())
    }

    fn read(&mut self, file: u32, buffers: &Buffers) -> Result<(), Trouble> {
        let Self { common, account, in_hand, way, .. } = self;
        let plan = &common.plan;
        in_hand.store(plan.tree.size(file as usize), Ordering::Relaxed);
        let mut reading = Reading::begin(way, &plan.tree, file, plan.direct)?;
        let mut came = 0;
        while came < reading.size {
            if !common.gate.0.may_go_on() {
                return Ok(());
            }
            // SAFETY: this thread alone has this memory, and no operation of it is in flight.
            let n = reading.read(unsafe { buffers.slice(0) }, account)?;
            if n == 0 {
                break;
            }
            came += n as u64;
        }
        if came < reading.size && !plan.partial {
            let short = format!("a file of {} bytes gave {came} when it was read back", reading.size);
            account.lock().fault(short);
        }
        reading.end(true, account);
        Ok(())
    }

    /// Waits for something of the other side, a while at a time; `None` when it is over. What it waited is told as it waits.
    fn wait_for<T>(&self, channel: &Receiver<T>, told: fn(&mut Account) -> &mut Duration) -> Option<T> {
        if let Ok(value) = channel.try_recv() {
            return Some(value);
        }
        loop {
            let began = Instant::now();
            let got = self.common.gate.0.while_waiting(|| channel.recv_timeout(A_WHILE));
            let waited = began.elapsed();
            *told(&mut self.account.lock()) += waited;
            match got {
                Ok(value) => return Some(value),
                Err(RecvTimeoutError::Disconnected) => return None,
                Err(RecvTimeoutError::Timeout) if self.common.gate.0.may_go_on() => {}
                Err(RecvTimeoutError::Timeout) => return None,
            }
        }
    }

    /// Puts a parcel into the queue; false when nobody takes from it any more.
    fn hand_on(&self, give: &Sender<Parcel>, parcel: Parcel) -> bool {
        match give.try_send(parcel) {
            Ok(()) => true,
            Err(TrySendError::Disconnected(_)) => false,
            Err(TrySendError::Full(parcel)) => {
                let began = Instant::now();
                let sent = self.common.gate.0.while_waiting(|| give.send(parcel)).is_ok();
                self.account.lock().done.spent.held += began.elapsed();
                sent
            }
        }
    }

    /// Reads at the source.
    fn fetch(
        &mut self,
        buffers: &Buffers,
        free: &Receiver<usize>,
        give: &Sender<Parcel>,
    ) -> Result<(), Trouble> {
        let common = self.common.clone();
        let plan = &common.plan;
        while let Some(file) = self.next() {
            let mut source = match &plan.from {
                Some(From::Raw(raw)) => Source::Raw(raw.begin(plan.tree.size(file as usize))),
                _ => match Reading::begin(&mut self.way, &plan.tree, file, plan.direct) {
                    Ok(reading) => Source::File(reading),
                    Err(t) if t.error == Errno::NOENT && plan.partial => continue,
                    Err(t) => return Err(t),
                },
            };
            if !self.hand_on(give, Parcel::File(file)) {
                return Ok(());
            }
            let size = plan.tree.size(file as usize);
            let mut came = 0;
            while came < size {
                let Some(slot) = self.wait_for(free, |a| &mut a.done.spent.held) else { return Ok(()) };
                if !common.gate.0.may_go_on() {
                    return Ok(());
                }
                // SAFETY: a slot is with this thread from when it comes out of `free` until it goes into `give`.
                let memory = unsafe { buffers.slice(slot) };
                let n = match &mut source {
                    Source::File(reading) => reading.read(memory, &self.account)?,
                    Source::Raw(part) => part.read(memory, size - came, &self.account)?,
                };
                if n == 0 {
                    let short = format!("a file of {size} bytes gave {came} at the source");
                    self.account.lock().fault(short);
                    return Err(Trouble { doing: "reading the source", error: Errno::IO });
                }
                let n = n.min((size - came) as usize);
                came += n as u64;
                common.queued.fetch_add(1, Ordering::Relaxed);
                if !self.hand_on(give, Parcel::Data(slot, n)) {
                    return Ok(());
                }
            }
            if let Source::File(reading) = source {
                reading.end(false, &self.account);
            }
        }
        Ok(())
    }

    /// Writes at the target.
    fn put(
        &mut self,
        buffers: &Buffers,
        take: &Receiver<Parcel>,
        give_back: &Sender<usize>,
    ) -> Result<(), Trouble> {
        let common = self.common.clone();
        let plan = &common.plan;
        self.make_folders()?;
        let mut writing: Option<Writing> = None;
        while let Some(parcel) = self.wait_for(take, |a| &mut a.done.spent.starved) {
            if !common.gate.0.may_go_on() {
                return Ok(());
            }
            match parcel {
                Parcel::File(file) => {
                    self.in_hand.store(plan.tree.size(file as usize), Ordering::Relaxed);
                    let began = Instant::now();
                    writing = Some(Writing::begin(&mut self.way, &plan.tree, file, plan.direct, began)?);
                }
                Parcel::Data(slot, length) => {
                    common.queued.fetch_sub(1, Ordering::Relaxed);
                    if let Some(writing) = &mut writing {
                        let looks = self.account.lock().looks();
                        // SAFETY: a slot is with this thread from when it comes out of `take` until it goes into `give_back`.
                        let data = unsafe { buffers.slice(slot) };
                        writing.write(data, length, looks, &self.account)?;
                    }
                    let _ = give_back.send(slot);
                }
            }
            if let Some(whole) = writing.take_if(|w| w.left() == 0) {
                whole.end(plan.durable, &self.account)?;
            }
        }
        self.in_hand.store(0, Ordering::Relaxed);
        Ok(())
    }
}

enum Source {
    File(Reading),
    Raw(super::raw::Part),
}
