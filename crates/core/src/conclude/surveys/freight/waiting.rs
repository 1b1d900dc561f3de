//! What a transfer waited for: shares of the time of the threads on the side of the target, what they waited for the source told by
//! what the source's own threads did.

use std::collections::BTreeMap;
use std::time::Duration;

use super::costs::{jackknife, line, parts};
use crate::drive::freight::{ClassSums, Spent};
use crate::quantity::waited_for::{WaitedFor, Waiting};
use crate::record::FreightSecond;

/// What holds a leg up takes at least this share of its time.
const LEAST_SHARE: f64 = 0.4;

/// Shares of the time of the threads by what they waited for; they add up to 1. `None` where nothing was done.
#[must_use]
pub fn shares(spent: &Spent, of_bytes: OfBytes) -> Option<BTreeMap<WaitedFor, f64>> {
    let s = |d: Duration| d.as_secs_f64();
    let whole = s(spent.data) + s(spent.metadata) + s(spent.durable) + s(spent.machine) + s(spent.starved);
    let source = s(spent.source_data) + s(spent.source_metadata) + s(spent.source_machine);
    (whole > 0.0).then_some(())?;
    let stalled = s(spent.stalled).min(s(spent.metadata));
    let mut all: BTreeMap<WaitedFor, f64> = WaitedFor::ALL.into_iter().map(|w| (w, 0.0)).collect();
    let mut add = |on, seconds: f64| *all.entry(on).or_default() += seconds / whole;
    add(WaitedFor::Target, s(spent.data) + s(spent.durable) * of_bytes.durable);
    let usual = s(spent.metadata) - stalled;
    add(
        WaitedFor::FileSystem,
        stalled + usual * of_bytes.metadata + s(spent.durable) * (1.0 - of_bytes.durable),
    );
    add(WaitedFor::SmallFiles, usual * (1.0 - of_bytes.metadata));
    add(WaitedFor::Machine, s(spent.machine));
    if source > 0.0 {
        let part = |d: Duration| s(spent.starved) * s(d) / source;
        add(WaitedFor::Source, part(spent.source_data));
        add(WaitedFor::SmallFiles, part(spent.source_metadata));
        add(WaitedFor::Machine, part(spent.source_machine));
    } else {
        add(WaitedFor::Source, s(spent.starved));
    }
    Some(all)
}

/// Shares of two times that grow with the bytes of a file; the rest each file costs whatever its size.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct OfBytes {
    /// Of the time in which files are made durable.
    pub durable: f64,
    /// Of the time in which they are made, opened, closed and removed: extents are found and freed.
    pub metadata: f64,
}

impl OfBytes {
    /// From files by class: a time is a line over their size.
    pub(super) fn of(classes: &BTreeMap<u8, ClassSums>) -> Self {
        Self { durable: grows(classes, |c| c.durable), metadata: grows(classes, |c| c.metadata) }
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

fn spent(parts: &[&[FreightSecond]]) -> Spent {
    let mut all = Spent::default();
    parts.iter().copied().flatten().for_each(|s| all.add(&s.done.spent));
    all
}

/// Of a leg, most first; `flush` is how long all took to become durable after the last file, while every thread waited for the drive.
pub(super) fn of(seconds: &[FreightSecond], flush: Duration) -> Vec<Waiting> {
    let parts = parts(seconds);
    let threads = seconds.iter().map(|s| s.done.threads).max().unwrap_or(1).max(1);
    let mut classes: BTreeMap<u8, ClassSums> = BTreeMap::new();
    for (class, sums) in seconds.iter().flat_map(|s| &s.done.classes) {
        classes.entry(*class).or_default().add(sums);
    }
    let of_bytes = OfBytes::of(&classes);
    let with_flush = |mut spent: Spent, share: f64| {
        spent.data += flush.mul_f64(f64::from(threads) * share);
        shares(&spent, of_bytes)
    };
    let Some(whole) = with_flush(spent(&parts), 1.0) else { return Vec::new() };
    let share_left = 1.0 - 1.0 / parts.len() as f64;
    let without: Vec<BTreeMap<WaitedFor, f64>> = (0..parts.len())
        .filter_map(|left_out| {
            let rest: Vec<&[FreightSecond]> =
                parts.iter().enumerate().filter(|(i, _)| *i != left_out).map(|(_, p)| *p).collect();
            with_flush(spent(&rest), share_left)
        })
        .collect();
    let mut all: Vec<Waiting> = whole
        .into_iter()
        .map(|(on, share)| {
            let values: Vec<f64> = without.iter().map(|w| w[&on]).collect();
            let interval = jackknife(share, &values);
            let (low, high) = interval.map_or((0.0, 1.0), |i| (i.low.max(0.0), i.high.min(1.0)));
            Waiting { on, share, low, high }
        })
        .collect();
    all.sort_by(|a, b| b.share.total_cmp(&a.share));
    all
}

/// The one thing that held a leg up: the most waited for, beyond what chance could make of the next.
pub(super) fn bottleneck(waits: &[Waiting]) -> Option<Waiting> {
    let (first, next) = (waits.first()?, waits.get(1)?);
    (first.share >= LEAST_SHARE && first.low > next.high).then_some(*first)
}

/// How often such a finding is right.
pub(super) fn confidence(waits: &Waiting) -> f64 {
    if waits.share >= 0.6 { 0.98 } else { 0.93 }
}
