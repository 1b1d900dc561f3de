//! What a transfer waited for. Up to three things go on at once: threads at the target, threads at the source, and the drive, to which
//! memory gives what was written. What is waited for is what would make the whole shorter if it took no time, and by how much.

use std::collections::BTreeMap;
use std::time::Duration;

use super::costs::{classes, line};
use crate::drive::freight::{Carry, ClassSums, Freighted, Spent};
use crate::quantity::units::Bytes;
use crate::quantity::waited_for::{WaitedFor, Waiting};
use crate::record::FreightSecond;

/// What holds a leg up takes at least this share of its time.
const LEAST_SHARE: f64 = 0.4;
/// And so much more than the next.
const LEAST_LEAD: f64 = 0.1;
/// Memory was full where threads waited for room in it for so much of their time.
const WAITED_FOR_ROOM: f64 = 0.01;

/// How much smaller and how much larger than told the share of the time is that goes without a thing, in 95 of 100 simulated
/// transfers, by the share that is told: the worst of two sides, 2.5 % each. What was measured is exact; what is not known is how the
/// stages would run together if one of them took no time.
const OFF: [(f64, f64, f64); 12] = [
    (0.0, 0.0, 0.06),
    (0.05, 0.05, 0.08),
    (0.15, 0.15, 0.16),
    (0.25, 0.25, 0.19),
    (0.35, 0.29, 0.12),
    (0.45, 0.34, 0.12),
    (0.55, 0.34, 0.11),
    (0.65, 0.36, 0.064),
    (0.75, 0.38, 0.039),
    (0.85, 0.38, 0.024),
    (0.925, 0.285, 0.008),
    (1.0, 0.2, 0.0),
];

/// What went on in a stretch, as shares of its time.
#[derive(Debug, Clone, Default)]
struct Stages {
    /// What the threads at the target did, by what is waited for; what is left to 1 they waited for the source.
    target: BTreeMap<WaitedFor, f64>,
    /// What those at the source did; what is left to 1 they waited for room in the queue.
    source: BTreeMap<WaitedFor, f64>,
    /// How long the drive at the target was at work.
    drive: f64,
}

impl Stages {
    /// `None` where nothing was done.
    fn of(spent: &Spent, busy: Option<Duration>, of_bytes: OfBytes, threads: f64) -> Option<Self> {
        let s = |d: Duration| d.as_secs_f64();
        let at_target = s(spent.at_target());
        (at_target > 0.0).then_some(())?;
        // All threads together, those too that have no file left: so long was the stretch.
        let drive = busy.map(|b| (s(b) * threads / (at_target + s(spent.idle))).min(1.0));
        // While files are made durable the drive is at work, or the journal is.
        let durable = drive.unwrap_or(of_bytes.durable);
        let stalled = s(spent.stalled).min(s(spent.metadata));
        let usual = s(spent.metadata) - stalled;
        let target = [
            (WaitedFor::Target, s(spent.data) + s(spent.durable) * durable),
            (WaitedFor::FileSystem, stalled + usual * of_bytes.metadata + s(spent.durable) * (1.0 - durable)),
            (WaitedFor::SmallFiles, usual * (1.0 - of_bytes.metadata)),
            (WaitedFor::Machine, s(spent.machine)),
        ];
        let source = [
            (WaitedFor::Source, s(spent.source_data)),
            (WaitedFor::SmallFiles, s(spent.source_metadata)),
            (WaitedFor::Machine, s(spent.source_machine)),
        ];
        let shares = |all: &[(WaitedFor, f64)]| all.iter().map(|(on, s)| (*on, s / at_target)).collect();
        Some(Self { target: shares(&target), source: shares(&source), drive: drive.unwrap_or(0.0) })
    }

    /// How long the whole takes without one thing, or with all.
    fn takes(&self, without: Option<WaitedFor>) -> f64 {
        let rest = |of: &BTreeMap<WaitedFor, f64>| -> f64 {
            of.iter().filter(|(on, _)| Some(**on) != without).map(|(_, share)| share).sum()
        };
        let drive = if without == Some(WaitedFor::Target) { 0.0 } else { self.drive };
        rest(&self.target).max(rest(&self.source)).max(drive)
    }

    fn shares(&self) -> BTreeMap<WaitedFor, f64> {
        let whole = self.takes(None).max(1e-12);
        WaitedFor::ALL.into_iter().map(|on| (on, 1.0 - self.takes(Some(on)) / whole)).collect()
    }
}

/// Shares of two times that grow with the bytes of a file; the rest each file costs whatever its size.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct OfBytes {
    /// Of the time in which files are made durable.
    durable: f64,
    /// Of the time in which they are removed: extents are found and freed.
    metadata: f64,
}

impl OfBytes {
    /// From files by class: a time is a line over their size.
    fn of(classes: &BTreeMap<u8, ClassSums>, carry: Carry) -> Self {
        // To make and to open a file takes no longer because it will be large.
        let metadata = if carry == Carry::Delete { grows(classes, |c| c.metadata) } else { 0.0 };
        Self { durable: grows(classes, |c| c.durable), metadata }
    }
}

fn grows(classes: &BTreeMap<u8, ClassSums>, time: fn(&ClassSums) -> Duration) -> f64 {
    let total: f64 = classes.values().map(|c| time(c).as_secs_f64()).sum();
    let bytes: f64 = classes.values().map(|c| c.bytes.as_f64()).sum();
    if total <= 0.0 || bytes <= 0.0 {
        return 0.0;
    }
    let point = |c: &ClassSums| {
        let n = c.files as f64;
        let (size, each) = (c.bytes.as_f64() / n, time(c).as_secs_f64() / n);
        // Times of large files differ as they are long.
        (n / each.max(1e-6).powi(2), size, each)
    };
    match line(classes.values().filter(|c| c.files > 0).map(point)) {
        Some((_, per_byte)) => (per_byte.max(0.0) * bytes / total).clamp(0.0, 1.0),
        // All of one size: small ones cost what each costs, large ones what their bytes do.
        None => {
            let files: u64 = classes.values().map(|c| c.files).sum();
            if bytes / files.max(1) as f64 >= 4e6 { 1.0 } else { 0.0 }
        }
    }
}

/// Of what the drive wrote, the share that had to be written before the last file was done with: memory held the rest. None of it
/// where nobody waited for room in memory.
fn beyond_memory(seconds: &[FreightSecond]) -> f64 {
    let all = |of: fn(&Freighted) -> Bytes| seconds.iter().map(|s| of(&s.done).as_f64()).sum::<f64>();
    let files = all(|d| d.classes.values().fold(Bytes::ZERO, |sum, c| sum + c.bytes));
    let written = all(|d| d.device_written.unwrap_or_default());
    let held = seconds.iter().filter_map(|s| s.done.unwritten).max().map_or(0.0, Bytes::as_f64);
    let spent = spent(seconds).0;
    let full = spent.data.as_secs_f64() > WAITED_FOR_ROOM * spent.at_target().as_secs_f64();
    if full && written > 0.0 { ((files - held) / written).clamp(0.0, 1.0) } else { 0.0 }
}

fn spent(seconds: &[FreightSecond]) -> (Spent, Option<Duration>) {
    let mut all = Spent::default();
    let mut busy = Some(Duration::ZERO);
    for s in seconds {
        all.add(&s.done.spent);
        busy = busy.zip(s.done.device_busy).map(|(a, b)| a + b);
    }
    (all, busy)
}

/// The interval of a share: between the lines of the table.
pub(super) fn bounds(share: f64) -> (f64, f64) {
    let after = OFF.iter().position(|o| o.0 >= share).unwrap_or(OFF.len() - 1).max(1);
    let (a, b) = (OFF[after - 1], OFF[after]);
    let part = ((share - a.0) / (b.0 - a.0)).clamp(0.0, 1.0);
    let between = |x: f64, y: f64| x + (y - x) * part;
    ((share - between(a.1, b.1)).max(0.0), (share + between(a.2, b.2)).min(1.0))
}

/// Of a leg, most first; `flush` is how long all took to become durable after the last file, while every thread waited for the drive.
/// `None` where nothing was asked to be durable: then nobody waits for what the drive does with data that memory has room for.
pub(super) fn of(seconds: &[FreightSecond], carry: Carry, flush: Option<Duration>) -> Vec<Waiting> {
    let threads = seconds.iter().map(|s| s.done.threads).max().unwrap_or(1).max(1);
    let of_bytes = OfBytes::of(&classes(&[seconds]), carry);
    let binds = if flush.is_some() { 1.0 } else { beyond_memory(seconds) };
    let flush = flush.unwrap_or_default();
    let threads = f64::from(threads);
    let (mut spent, busy) = spent(seconds);
    spent.data += flush.mul_f64(threads);
    let Some(stages) = Stages::of(&spent, busy.map(|b| b + flush), of_bytes, threads) else {
        return Vec::new();
    };
    let shares = Stages { drive: stages.drive * binds, ..stages }.shares();
    let waiting = |(on, share)| {
        let (low, high) = bounds(share);
        Waiting { on, share, low, high }
    };
    let mut all: Vec<Waiting> = shares.into_iter().map(waiting).collect();
    all.sort_by(|a, b| b.share.total_cmp(&a.share));
    all
}

/// What held files up most in a stretch, and how much less time it would have taken without; `None` where nothing was done.
#[must_use]
pub fn held_up(done: &Freighted, carry: Carry) -> Option<(WaitedFor, f64)> {
    let of_bytes = OfBytes::of(&done.classes, carry);
    let stages = Stages::of(&done.spent, done.device_busy, of_bytes, f64::from(done.threads.max(1)))?;
    // What the drive does with data in memory is waited for where threads wait for room in it.
    let waits = done.spent.data > Duration::ZERO
        && stages.target.get(&WaitedFor::Target).is_some_and(|s| *s > WAITED_FOR_ROOM);
    let stages = if waits { stages } else { Stages { drive: 0.0, ..stages } };
    stages.shares().into_iter().max_by(|a, b| a.1.total_cmp(&b.1))
}

/// The one thing that held a leg up: the most waited for. What the threads did was measured, all of it: how much it differed from one
/// part of the leg to the next is no doubt about the whole.
pub(super) fn bottleneck(waits: &[Waiting]) -> Option<Waiting> {
    let (first, next) = (waits.first()?, waits.get(1)?);
    (first.share >= LEAST_SHARE && first.share - next.share >= LEAST_LEAD).then_some(*first)
}

/// How often such a finding is right.
pub(super) fn confidence(waits: &Waiting) -> f64 {
    if waits.share >= 0.6 { 0.98 } else { 0.93 }
}
