//! Rate and worst latency by position: the drive cut into bins, first address first.

use std::time::Duration;

use crate::quantity::units::{Bytes, Rate};
use crate::record::Sample;

use super::series::Column;

/// One stretch of the drive.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Bin {
    bytes: f64,
    seconds: f64,
    slowest: f64,
    fastest: f64,
    p99_us: u32,
    hottest: Option<crate::quantity::units::Celsius>,
}

/// The drive in equal bins.
#[derive(Debug, Clone, Default)]
pub struct Ground {
    capacity: u64,
    bins: Vec<Bin>,
}

/// Enough for every view at its widest, and for charts.
const BINS: usize = 2048;

impl Ground {
    /// For a drive of this capacity.
    #[must_use]
    pub fn new(capacity: Bytes) -> Self {
        Self { capacity: capacity.get(), bins: vec![Bin::default(); BINS] }
    }

    fn bin_of(&self, address: f64) -> usize {
        ((address / self.capacity.max(1) as f64 * BINS as f64) as usize).min(BINS - 1)
    }

    /// Spreads a sequential sample over the bins it passed. Samples without a position are left out.
    pub fn push(&mut self, sample: &Sample, backward: bool) {
        let moved = (sample.written + sample.read).get();
        let (Some(position), true) = (sample.position, self.capacity > 0 && moved > 0) else { return };
        let end = if backward { position.get() + moved } else { position.get() } as f64;
        // A sample that went round the end of the drive is taken from the start on.
        let start = (end - moved as f64).max(0.0);
        let seconds = sample.span.as_secs_f64();
        let rate = sample.rate().get();
        let (first, last) = (self.bin_of(start), self.bin_of((end - 1.0).max(start)));
        let width = self.capacity as f64 / BINS as f64;
        for i in first..=last {
            let overlap = ((i + 1) as f64 * width).min(end) - (i as f64 * width).max(start);
            let share = (overlap / (end - start).max(1.0)).clamp(0.0, 1.0);
            let bin = &mut self.bins[i];
            bin.slowest = if bin.seconds > 0.0 { bin.slowest.min(rate) } else { rate };
            bin.fastest = bin.fastest.max(rate);
            bin.bytes += moved as f64 * share;
            bin.seconds += seconds * share;
            bin.p99_us = bin.p99_us.max(sample.latency.map_or(0, |l| l.p99_us));
            bin.hottest = bin.hottest.max(sample.temperature);
        }
    }

    /// Share of each of `parts` equal stretches that was visited, 0 to 1, with its mean rate: for the spine.
    #[must_use]
    pub fn stretches(&self, parts: usize) -> Vec<(f64, Option<Rate>)> {
        (0..parts)
            .map(|p| {
                let range = p * BINS / parts..((p + 1) * BINS / parts).max(p * BINS / parts + 1);
                let bins = self.bins.get(range).unwrap_or(&[]);
                let visited = bins.iter().filter(|b| b.seconds > 0.0).count();
                let (bytes, seconds) = bins.iter().fold((0.0, 0.0), |(b, s), x| (b + x.bytes, s + x.seconds));
                let share = if bins.is_empty() { 0.0 } else { visited as f64 / bins.len() as f64 };
                (share, (seconds > 0.0).then(|| Rate::new(bytes / seconds)))
            })
            .collect()
    }

    /// What lies between two addresses, in `columns` equal parts.
    #[must_use]
    pub fn columns(&self, from: f64, to: f64, columns: usize) -> Vec<Column> {
        let width = (to - from) / columns.max(1) as f64;
        (0..columns)
            .map(|c| {
                let left = from + width * c as f64;
                if self.bins.is_empty() || left < 0.0 || left >= self.capacity as f64 {
                    return Column::default();
                }
                let (first, last) = (self.bin_of(left), self.bin_of((left + width * 0.999).max(left)));
                let bins: Vec<&Bin> = self.bins[first..=last].iter().filter(|b| b.seconds > 0.0).collect();
                if bins.is_empty() {
                    return Column::default();
                }
                let bytes: f64 = bins.iter().map(|b| b.bytes).sum();
                let seconds: f64 = bins.iter().map(|b| b.seconds).sum();
                let p99 = bins.iter().map(|b| b.p99_us).max().filter(|p| *p > 0);
                let hottest = bins.iter().filter_map(|b| b.hottest).max();
                Column {
                    rate: Some(Rate::new(bytes / seconds)),
                    slowest: bins.iter().map(|b| b.slowest).reduce(f64::min).map(Rate::new),
                    fastest: bins.iter().map(|b| b.fastest).reduce(f64::max).map(Rate::new),
                    p99: p99.map(|p| Duration::from_micros(p.into())),
                    coldest: hottest,
                    hottest,
                }
            })
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bytes_land_where_they_were_written() {
        let capacity = 2048 * 1000;
        let mut ground = Ground::new(Bytes::new(capacity));
        let sample = |position: u64, moved: u64, ms: u64| Sample {
            position: Some(Bytes::new(position)),
            written: Bytes::new(moved),
            span: Duration::from_millis(ms),
            ..Sample::default()
        };
        ground.push(&sample(capacity / 2, capacity / 2, 1000), false);
        ground.push(&sample(capacity / 2, capacity / 2, 4000), true);
        let halves = ground.columns(0.0, capacity as f64, 2);
        assert!((halves[0].rate.unwrap().get() - capacity as f64 / 2.0).abs() < 1.0);
        assert!((halves[1].rate.unwrap().get() - capacity as f64 / 8.0).abs() < 1.0);
        assert_eq!(ground.stretches(4).iter().filter(|s| s.0 == 1.0).count(), 4);
        assert_eq!(Ground::new(Bytes::new(10)).stretches(3)[0], (0.0, None));
    }
}
