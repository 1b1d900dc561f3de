//! A scan: passes over the region, in turn forwards and backwards; then every stretch that was slow is visited again,
//! with as much beside it as it is long, in finer steps.

use crate::conclude::surveys::ground;
use crate::conclude::surveys::ground::Candidate;
use crate::drive::{DriveIdentity, Load, Pattern};
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::Task;
use crate::route::Leg;

use super::Planned;

/// Stretches visited again at most.
const MOST_STRETCHES: usize = 64;
/// Bins beside a stretch that are visited with it at least, on each side.
const LEAST_BESIDE: u64 = 8;
/// Samples to a bin when a stretch is visited again.
const FINER: u64 = 8;

/// Zones that are told apart one by one at most.
const MOST_ZONES: u32 = 20_000;

/// Where a scan stands.
#[derive(Debug, Clone)]
pub struct Scan {
    load: Load,
    bins: u32,
    passes: u16,
    done: u16,
    /// Stretches still to be visited, and whether from their end.
    again: Option<Vec<(Candidate, bool)>>,
}

impl Scan {
    pub(super) fn new(leg: &Leg, drive: &DriveIdentity) -> Self {
        let mut load = leg.load(drive.capacity);
        load.pattern = Pattern::Sequential;
        // No bin is smaller than a block.
        let blocks = load.end.saturating_sub(load.start).get() / load.block.get().max(1);
        // Of a zoned drive each bin is a zone, where these are not too many to be looked at one by one.
        let zones = drive.zones.as_ref().filter(|_| leg.bins.is_none()).and_then(|z| {
            let (size, region) = (z.size.get().max(1), load.end.saturating_sub(load.start).get());
            let whole = load.start.get().is_multiple_of(size) && region.is_multiple_of(size);
            u32::try_from(region / size).ok().filter(|n| whole && (1..=MOST_ZONES).contains(n))
        });
        let bins = zones.unwrap_or_else(|| leg.bins());
        let bins = bins.min(u32::try_from(blocks).unwrap_or(u32::MAX)).max(1);
        Self { load, bins, passes: leg.passes(), done: 0, again: None }
    }

    fn width(&self) -> u64 {
        (self.load.end.saturating_sub(self.load.start).get() / u64::from(self.bins)).max(1)
    }

    pub(super) fn next(&mut self, readings: &Readings) -> Option<Planned> {
        let width = self.width();
        if self.done < self.passes {
            let pass = self.done;
            self.done += 1;
            let pattern = if pass.is_multiple_of(2) { Pattern::Sequential } else { Pattern::Backward };
            let limit = Some(self.load.end.saturating_sub(self.load.start));
            let from = Some(if pass.is_multiple_of(2) { self.load.start } else { self.load.end });
            let sample = Some(Bytes::new(width));
            return Some(Planned {
                task: Task::Pass { pass, bins: self.bins },
                load: Load { pattern, limit, from, sample, ..self.load.clone() },
                duration: None,
            });
        }
        let again = self.again.get_or_insert_with(|| {
            let mut all = readings.scan().map(|s| ground::candidates(s.passes())).unwrap_or_default();
            // Those that cost the most, should there be too many; they are visited in the order of their place.
            let cost = |c: &Candidate| c.depth * (c.to - c.from) as f64;
            all.sort_by(|a, b| cost(a).total_cmp(&cost(b)));
            all.truncate(MOST_STRETCHES);
            all.sort_by_key(|c| std::cmp::Reverse(c.from));
            // What a single pass saw is visited twice, once from each side.
            let visits = if self.passes == 1 { 2 } else { 1 };
            all.into_iter().flat_map(|c| (0..visits).map(move |i| (c, i == 1))).collect()
        });
        let (stretch, backward) = again.pop()?;
        let block = Bytes::new((self.load.block.get() / 4).max(64 << 10).min(self.load.block.get()));
        let whole = |n: u64| n / block.get() * block.get();
        let beside = (stretch.to - stretch.from).max(LEAST_BESIDE * width);
        let start = whole(stretch.from.saturating_sub(beside)).max(self.load.start.get());
        let end = whole((stretch.to + beside).min(self.load.end.get()));
        let load = Load {
            start: Bytes::new(start),
            end: Bytes::new(end),
            limit: Some(Bytes::new(end - start)),
            sample: Some(Bytes::new((width / FINER).max(block.get()))),
            from: Some(Bytes::new(if backward { end } else { start })),
            pattern: if backward { Pattern::Backward } else { Pattern::Sequential },
            block,
            ..self.load.clone()
        };
        let (from, to) = (Bytes::new(stretch.from), Bytes::new(stretch.to));
        Some(Planned { task: Task::Again { from, to }, load, duration: None })
    }
}
