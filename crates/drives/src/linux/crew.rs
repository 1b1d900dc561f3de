//! One worker or several: a load with one worker runs on the caller's thread, with more each on a thread of its own with
//! its own queue, its own part of the region, its share of depth, rate and limit.

use std::sync::Arc;
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, bounded};
use hdrhistogram::Histogram;
use hollow_mile_core::drive::{Load, Pattern};
use hollow_mile_core::quantity::units::Bytes;

use super::calls::Calls;
use super::guard::Access;
use super::pump::{Pump, Pumped, Share};
use super::ring::Ring;
use super::threads::Threads;
use super::zones::{ZoneMap, ZonePlan};
use crate::latency::{Bins, bins, histogram};

/// Which engine to use.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum EngineChoice {
    /// `io_uring`, plain calls where a ring would only add to them, or threads where it is refused.
    #[default]
    Best,
    /// Worker threads.
    Threads,
}

/// A pump on whichever queue there is.
enum AnyPump {
    Ring(Box<Pump<Ring>>),
    Calls(Box<Pump<Calls>>),
    Threads(Box<Pump<Threads>>),
}

/// Runs the same code on whichever pump there is.
macro_rules! with_pump {
    ($any:expr, $pump:ident => $body:expr) => {
        match $any {
            AnyPump::Ring($pump) => $body,
            AnyPump::Calls($pump) => $body,
            AnyPump::Threads($pump) => $body,
        }
    };
}

impl AnyPump {
    /// With it, in words, what it is and why it is no ring where it is none.
    fn new(
        access: &Access,
        load: &Load,
        share: &Share,
        choice: EngineChoice,
    ) -> std::io::Result<(Self, String)> {
        if choice == EngineChoice::Best
            && share.depth == 1
            && let Ok(pump) = Pump::<Calls>::new(access, load, share)
        {
            let words = pump.words();
            return Ok((Self::Calls(Box::new(pump)), words));
        }
        let why = match choice {
            EngineChoice::Best => match Pump::<Ring>::new(access, load, share) {
                Ok(pump) => {
                    let words = pump.words();
                    return Ok((Self::Ring(Box::new(pump)), words));
                }
                Err(e) => refused(&e),
            },
            EngineChoice::Threads => "as it was asked for".into(),
        };
        let pump = Pump::<Threads>::new(access, load, share)?;
        let words = format!("{} ({why})", pump.words());
        Ok((Self::Threads(Box::new(pump)), words))
    }
}

/// Why there is no ring, as far as the kernel tells (io_uring_setup(2), errors).
fn refused(e: &std::io::Error) -> String {
    match e.raw_os_error() {
        Some(libc::ENOMEM) => {
            "io_uring was refused: the limit on locked memory, ulimit -l, is too small".into()
        }
        Some(libc::EPERM) => {
            "io_uring was refused: this system forbids it (kernel.io_uring_disabled, or a sandbox)".into()
        }
        Some(libc::ENOSYS) => "io_uring was refused: this kernel has none".into(),
        _ => format!("io_uring was refused: {e}"),
    }
}

/// CPU time of the calling thread.
fn thread_time() -> Duration {
    let t = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
    Duration::new(u64::try_from(t.tv_sec).unwrap_or(0), u32::try_from(t.tv_nsec).unwrap_or(0))
}

/// What a crew did in an interval.
pub struct Report {
    /// Bytes, errors.
    pub pumped: Pumped,
    /// Address just past what was moved, for one worker in sequence.
    pub position: Option<Bytes>,
    /// Where a load that follows goes on, for one worker in order.
    pub goes_on_at: Option<Bytes>,
    /// CPU time of the workers, in all.
    pub busy: Duration,
    /// Bytes in flight at its end.
    pub in_flight: u64,
}

enum Order {
    Run(Instant),
    Drain,
}

type Answer = std::io::Result<(Report, Histogram<u64>)>;

struct Worker {
    orders: Sender<Order>,
    answers: Receiver<Answer>,
    thread: Option<JoinHandle<()>>,
}

impl Drop for Worker {
    fn drop(&mut self) {
        // Without orders to come, the worker ends; its pump drains what is in flight.
        self.orders = bounded(0).0;
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

enum Hands {
    Own(AnyPump),
    Workers(Vec<Worker>),
}

/// The workers of one load.
pub struct Crew {
    hands: Hands,
    words: String,
    whole: Histogram<u64>,
    interval: Histogram<u64>,
}

fn serve(pump: &mut AnyPump, order: Order) -> Answer {
    let began = thread_time();
    let ran = with_pump!(pump, p => match order {
        Order::Run(deadline) => p.run(deadline),
        Order::Drain => p.drain(),
    });
    let pumped = ran?;
    let (histogram, position, in_flight) =
        with_pump!(pump, p => (p.close_interval(Histogram::clone), p.position(), p.bytes_in_flight()));
    let busy = thread_time().saturating_sub(began);
    Ok((Report { pumped, position, goes_on_at: position, busy, in_flight }, histogram))
}

/// Cuts a load into the shares of its workers: each has whole blocks, the last what is left over.
fn shares(load: &Load, from: u64, limit: Option<u64>, seed: u64) -> Vec<Share> {
    let n = u64::from(load.workers.clamp(1, load.depth));
    let (start, end, block) = (load.start.get(), load.end.get(), load.block.get());
    let blocks = (end - start) / block;
    // A region of fewer blocks than workers has work for so many only.
    let n = n.min(blocks.max(1));
    let rate = load.rate.map(|r| r.get() / n as f64);
    (0..n)
        .map(|i| {
            let cut = |i: u64| if i == n { end } else { start + blocks * i / n * block };
            let part = |total: u64| total / n + u64::from(i < total % n);
            // Whole rounds of its own part, and its cut of the rest: one pass over the region is one over each part.
            let cut_of = |total: u64| total * (i + 1) / n - total * i / n;
            let limit = limit.map(|l| {
                let (rounds, rest) = (l / block / blocks.max(1), l / block % blocks.max(1));
                (rounds * cut_of(blocks) + cut_of(rest)) * block + if i + 1 == n { l % block } else { 0 }
            });
            let depth = (part(u64::from(load.depth)) as u32).max(1);
            let (start, end) = (cut(i), cut(i + 1));
            let inside = if load.pattern == Pattern::Backward {
                start < from && from <= end
            } else {
                (start..end).contains(&from)
            };
            let from = if n == 1 && inside { from } else { start };
            Share {
                start,
                end,
                from,
                limit,
                depth,
                rate,
                seed: seed.wrapping_add(i << 32),
                zones: None,
                map: None,
            }
        })
        .collect()
}

impl Crew {
    /// Sets up for a load. It begins at `from` where it has one worker in sequence.
    ///
    /// # Errors
    /// When memory, threads or queues cannot be had.
    pub fn new(
        access: &Access,
        load: &Load,
        from: u64,
        limit: Option<u64>,
        seed: u64,
        choice: EngineChoice,
    ) -> std::io::Result<Self> {
        Self::of(access, load, shares(load, from, limit, seed), choice)
    }

    /// Sets up for a load that reads what zones hold: its region, `from` and `limit` count only that.
    ///
    /// # Errors
    /// As for [`Crew::new`].
    pub fn over_map(
        access: &Access,
        load: &Load,
        (from, limit): (u64, Option<u64>),
        map: ZoneMap,
        seed: u64,
        choice: EngineChoice,
    ) -> std::io::Result<Self> {
        let map = Some(Arc::new(map));
        let shares = shares(load, from, limit, seed).into_iter();
        Self::of(access, load, shares.map(|s| Share { map: map.clone(), ..s }).collect(), choice)
    }

    /// Sets up for a write over zones, by one worker.
    ///
    /// # Errors
    /// As for [`Crew::new`].
    pub fn over_zones(
        access: &Access,
        load: &Load,
        plan: ZonePlan,
        limit: Option<u64>,
        seed: u64,
        choice: EngineChoice,
    ) -> std::io::Result<Self> {
        let (start, end) = (load.start.get(), load.end.get());
        let share = Share {
            start,
            end,
            from: start,
            limit: limit.map(|l| plan.limit(l, end - start)),
            depth: plan.lanes(),
            rate: load.rate.map(|r| r.get()),
            seed,
            zones: Some(Arc::new(plan)),
            map: None,
        };
        let zones = share.depth;
        let load = Load { workers: 1, depth: zones, ..load.clone() };
        let mut crew = Self::of(access, &load, vec![share], choice)?;
        let many = if zones == 1 { "1 zone".to_owned() } else { format!("{zones} zones") };
        crew.words = format!("{}, {many} at once", crew.words);
        Ok(crew)
    }

    fn of(access: &Access, load: &Load, shares: Vec<Share>, choice: EngineChoice) -> std::io::Result<Self> {
        let (hands, words) = if let [share] = shares.as_slice() {
            let (pump, words) = AnyPump::new(access, load, share, choice)?;
            (Hands::Own(pump), words)
        } else {
            let mut workers = Vec::with_capacity(shares.len());
            let mut words = String::new();
            for (i, share) in shares.into_iter().enumerate() {
                let (worker, its_words) = Worker::new(i, access.clone(), load.clone(), share, choice)?;
                workers.push(worker);
                words = its_words;
            }
            let words = format!("{} workers, each {words}", workers.len());
            (Hands::Workers(workers), words)
        };
        Ok(Self { hands, words, whole: histogram(), interval: histogram() })
    }

    /// In words, for the record.
    pub fn words(&self) -> &str {
        &self.words
    }

    /// How many threads drive it.
    pub const fn workers(&self) -> usize {
        match &self.hands {
            Hands::Own(_) => 1,
            Hands::Workers(w) => w.len(),
        }
    }

    /// Keeps the queues full until `deadline`.
    ///
    /// # Errors
    /// When a queue fails.
    pub fn run<T>(
        &mut self,
        deadline: Instant,
        read: impl FnOnce(&Histogram<u64>) -> T,
    ) -> std::io::Result<(Report, T)> {
        let report = self.all(|| Order::Run(deadline))?;
        // One worker keeps its own histograms; those of several were added up here.
        let value = match &mut self.hands {
            Hands::Own(pump) => with_pump!(pump, p => p.close_interval(read)),
            Hands::Workers(_) => {
                let value = read(&self.interval);
                let _ = self.whole.add(&self.interval);
                self.interval.reset();
                value
            }
        };
        Ok((report, value))
    }

    fn all(&mut self, order: impl Fn() -> Order) -> std::io::Result<Report> {
        match &mut self.hands {
            Hands::Own(pump) => {
                let began = thread_time();
                let pumped = with_pump!(pump, p => match order() {
                    Order::Run(deadline) => p.run(deadline),
                    Order::Drain => p.drain(),
                })?;
                let (position, goes_on_at, in_flight) =
                    with_pump!(pump, p => (p.position(), p.goes_on_at(), p.bytes_in_flight()));
                let busy = thread_time().saturating_sub(began);
                Ok(Report { pumped, position, goes_on_at, busy, in_flight })
            }
            Hands::Workers(workers) => {
                let gone = || std::io::Error::other("a worker thread ended in a fault");
                for worker in workers.iter() {
                    worker.orders.send(order()).map_err(|_| gone())?;
                }
                let mut pumped = Pumped { finished: true, ..Pumped::default() };
                let (mut busy, mut in_flight) = (Duration::ZERO, 0);
                for worker in workers.iter() {
                    let (report, histogram) = worker.answers.recv().map_err(|_| gone())??;
                    pumped.finished &= report.pumped.finished;
                    pumped.add(report.pumped);
                    busy += report.busy;
                    in_flight += report.in_flight;
                    let _ = self.interval.add(&histogram);
                }
                Ok(Report { pumped, position: None, goes_on_at: None, busy, in_flight })
            }
        }
    }

    /// Issues nothing more and waits for what is in flight; gives the histograms of that and of the whole load too.
    ///
    /// # Errors
    /// When a queue fails.
    pub fn drain(&mut self) -> std::io::Result<(Report, Bins, Histogram<u64>)> {
        let report = self.all(|| Order::Drain)?;
        let (late, whole) = match &mut self.hands {
            Hands::Own(pump) => with_pump!(pump, p => (p.close_interval(bins), p.whole.clone())),
            Hands::Workers(_) => {
                let late = bins(&self.interval);
                let _ = self.whole.add(&self.interval);
                self.interval.reset();
                (late, self.whole.clone())
            }
        };
        Ok((report, late, whole))
    }
}

impl Worker {
    fn new(
        index: usize,
        access: Access,
        load: Load,
        share: Share,
        choice: EngineChoice,
    ) -> std::io::Result<(Self, String)> {
        let (orders, obey) = bounded::<Order>(1);
        let (answer, answers) = bounded::<Answer>(1);
        let (ready, is_ready) = bounded::<std::io::Result<String>>(1);
        let thread = std::thread::Builder::new().name(format!("haul-{index}")).spawn(move || {
            // Made on the thread that uses it: a ring belongs to its first issuer.
            let (mut pump, words) = match AnyPump::new(&access, &load, &share, choice) {
                Ok(made) => made,
                Err(e) => {
                    let _ = ready.send(Err(e));
                    return;
                }
            };
            let _ = ready.send(Ok(words));
            for order in obey {
                if answer.send(serve(&mut pump, order)).is_err() {
                    return;
                }
            }
        })?;
        let words =
            is_ready.recv().map_err(|_| std::io::Error::other("a worker thread ended in a fault"))??;
        Ok((Self { orders, answers, thread: Some(thread) }, words))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::drive::LoadKind;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn shares_cover_the_region_and_the_limit_exactly(
            blocks in 1u64..5000, workers in 1u32..20, depth in 1u32..70, limit in proptest::option::of(0u64..9_000_000)
        ) {
            let load = Load {
                workers: workers.min(depth),
                ..Load::sequential(LoadKind::Read, Bytes::new(8192), Bytes::new(8192 + blocks * 4096 + 512), Bytes::new(4096), depth)
            };
            let all = shares(&load, 8192, limit, 1);
            prop_assert_eq!(all[0].start, 8192);
            prop_assert_eq!(all[all.len() - 1].end, load.end.get());
            prop_assert!(all.windows(2).all(|w| w[0].end == w[1].start));
            prop_assert!(all.iter().all(|s| s.start < s.end && s.depth >= 1));
            if let Some(limit) = limit {
                prop_assert_eq!(all.iter().map(|s| s.limit.unwrap()).sum::<u64>(), limit);
            }
            if all.len() as u32 == workers.min(depth) {
                prop_assert_eq!(all.iter().map(|s| s.depth).sum::<u32>(), depth);
            }
        }
    }
}
