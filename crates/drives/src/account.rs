//! What one thread of a freight leg did, added up until it is asked for.

use std::time::Duration;

use hdrhistogram::Histogram;
use hollow_mile_core::drive::freight::Freighted;
use hollow_mile_core::drive::{Fault, FaultKind, LatencySummary, Tally};
use hollow_mile_core::quantity::units::Bytes;

use crate::latency::{bins, histogram};

/// Of so many transfers one is looked at for how much of its time the processor was at work.
const LOOK_AT: u32 = 32;
/// What a single file takes beyond so many times the usual to be made, opened, closed or removed is no work that each costs.
const STALLS: u32 = 8;
/// So many files make a usual.
const USUAL: u32 = 32;
/// The first few faults of an interval are told one by one.
const TOLD: usize = 16;

/// On which side of a copy a thread works; with one drive all work at the target.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum At {
    /// The side that gives.
    Source,
    /// The side that takes, or the only one.
    Target,
}

/// What one thread did since it was last asked.
pub struct Account {
    at: At,
    /// Files, times, classes.
    pub done: Freighted,
    /// Bytes that it wrote.
    pub written: u64,
    /// Bytes that it read.
    pub read: u64,
    /// Latency of its reads and writes.
    pub latency: Histogram<u64>,
    /// Operations that failed.
    pub errors: u32,
    /// The first of them.
    pub faults: Vec<Fault>,
    /// Of transfers that were looked at: their time, and how long the processor was at work in it.
    looked: (Duration, Duration),
    /// Time of all transfers.
    transfers: Duration,
    /// Share of the processor in the last that were looked at.
    share: f64,
    usual: Usual,
    looks: Looks,
}

/// Which transfers are looked at.
#[derive(Debug, Clone, Copy, Default)]
pub struct Looks(u32);

impl Looks {
    /// Whether the next shall be.
    pub const fn next(&mut self) -> bool {
        self.0 = self.0.wrapping_add(1);
        self.0.is_multiple_of(LOOK_AT) || self.0 <= 4
    }
}

/// How long it usually takes to make, open, close or remove a file: a running median.
#[derive(Debug, Clone, Copy, Default)]
struct Usual {
    seconds: f64,
    seen: u32,
}

impl Usual {
    /// What of this time is beyond the usual.
    fn beyond(&mut self, took: Duration) -> Duration {
        let s = took.as_secs_f64();
        self.seen = self.seen.saturating_add(1);
        if self.seen == 1 {
            self.seconds = s;
        }
        // From then on the pace is the least, and its powers of e are known.
        let (up, down) = if self.seen > 200 {
            (1.010_050_167, 0.990_049_834)
        } else {
            let pace = (2.0 / f64::from(self.seen)).clamp(0.01, 0.3);
            (pace.exp(), (-pace).exp())
        };
        self.seconds *= if s > self.seconds { up } else { down };
        if self.seen < USUAL || s <= f64::from(STALLS) * self.seconds {
            return Duration::ZERO;
        }
        Duration::from_secs_f64(s - self.seconds)
    }
}

impl Account {
    /// Of a thread that has done nothing.
    pub fn new(at: At) -> Self {
        Self {
            at,
            done: Freighted::default(),
            written: 0,
            read: 0,
            latency: histogram(),
            errors: 0,
            faults: Vec::new(),
            looked: Default::default(),
            transfers: Duration::ZERO,
            share: 0.0,
            usual: Usual::default(),
            looks: Looks::default(),
        }
    }

    /// Whether the next transfer shall be looked at.
    pub const fn looks(&mut self) -> bool {
        self.looks.next()
    }

    /// A read or a write took so long, and of that the processor was at work for so long, where it was looked at.
    pub fn transfer(&mut self, took: Duration, at_work: Option<Duration>) {
        self.transfers += took;
        self.latency.saturating_record(u64::try_from(took.as_nanos()).unwrap_or(u64::MAX));
        if let Some(at_work) = at_work {
            self.looked.0 += took;
            self.looked.1 += at_work.min(took);
        }
    }

    /// A file was made, opened, closed or removed: all that in so long.
    pub fn metadata(&mut self, took: Duration) {
        let spent = &mut self.done.spent;
        match self.at {
            At::Source => spent.source_metadata += took,
            At::Target => {
                spent.metadata += took;
                spent.stalled += self.usual.beyond(took);
            }
        }
    }

    /// It had no file left for so long, while others still had one; at the source nobody counts that.
    pub fn idle(&mut self, time: Duration) {
        if self.at == At::Target {
            self.done.spent.idle += time;
        }
    }

    /// Folders were made or removed by this thread.
    pub fn folders(&mut self, many: u64, took: Duration) {
        self.done.folders += many;
        self.done.folder_time += took;
        self.done.spent.metadata += took;
    }

    /// Something could not be read.
    pub fn fault(&mut self, message: String) {
        self.errors += 1;
        if self.faults.len() < TOLD {
            self.faults.push(Fault { position: Bytes::ZERO, kind: FaultKind::Failed, message });
        }
    }

    /// All since it was last asked. Of transfers the share in which the processor was at work is this machine's, the rest the drive's.
    pub fn take(&mut self) -> Self {
        let mut taken = std::mem::replace(self, Self::new(self.at));
        let (all, at_work) = taken.looked;
        // Where none was looked at, what was before holds.
        if !all.is_zero() {
            taken.share = (at_work.as_secs_f64() / all.as_secs_f64()).clamp(0.0, 1.0);
        }
        (self.usual, self.looks, self.share) = (taken.usual, taken.looks, taken.share);
        let machine = taken.transfers.mul_f64(taken.share);
        let waits = taken.transfers.saturating_sub(machine);
        let spent = &mut taken.done.spent;
        match taken.at {
            At::Source => {
                spent.source_data += waits;
                spent.source_machine += machine;
            }
            At::Target => {
                spent.data += waits;
                spent.machine += machine;
            }
        }
        taken
    }
}

/// What all threads did, as a tally, what happened to files, and the latency of their reads and writes.
pub fn gather(accounts: impl Iterator<Item = Account>) -> (Tally, Freighted, Histogram<u64>) {
    let (mut tally, mut done, mut latency) = (Tally::default(), Freighted::default(), histogram());
    for mut account in accounts {
        done.add(&account.done);
        tally.written += Bytes::new(account.written);
        tally.read += Bytes::new(account.read);
        tally.errors += account.errors;
        tally.faults.append(&mut account.faults);
        let _ = latency.add(&account.latency);
    }
    let us = |ns: u64| u32::try_from(ns.div_ceil(1000)).unwrap_or(u32::MAX);
    tally.latency = (!latency.is_empty()).then(|| LatencySummary {
        operations: u32::try_from(latency.len()).unwrap_or(u32::MAX),
        p50_us: us(latency.value_at_quantile(0.5)),
        p99_us: us(latency.value_at_quantile(0.99)),
        max_us: us(latency.max()),
    });
    tally.latencies = bins(&latency);
    (tally, done, latency)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_single_files_take_beyond_the_usual_is_told_apart() {
        let mut a = Account::new(At::Target);
        for i in 0..200u32 {
            let slow = i == 150;
            a.metadata(if slow {
                Duration::from_millis(50)
            } else {
                Duration::from_micros(100 + u64::from(i % 7))
            });
        }
        let spent = a.take().done.spent;
        assert!((0.048..0.0501).contains(&spent.stalled.as_secs_f64()), "{spent:?}");
        assert!(spent.metadata > Duration::from_millis(69));
        for _ in 0..100 {
            a.metadata(Duration::from_micros(300));
        }
        assert!(a.take().done.spent.stalled.is_zero(), "three times the usual is no stall");
    }

    #[test]
    fn transfers_are_the_drives_but_for_what_the_processor_does() {
        let mut a = Account::new(At::Target);
        let ms = Duration::from_millis;
        (0..10).for_each(|i| a.transfer(ms(10), (i % 5 == 0).then(|| ms(2))));
        let taken = a.take();
        assert_eq!((taken.done.spent.data, taken.done.spent.machine), (ms(80), ms(20)));
        assert_eq!(taken.latency.len(), 10);
        let mut source = Account::new(At::Source);
        source.transfer(ms(10), Some(ms(10)));
        source.metadata(ms(3));
        let spent = source.take().done.spent;
        assert_eq!((spent.source_data, spent.source_machine, spent.source_metadata), (ms(0), ms(10), ms(3)));
    }
}
