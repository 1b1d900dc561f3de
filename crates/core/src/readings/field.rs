//! The latency field: how many operations took how long, over the whole of a haul, to be added up over any stretch of it.

use std::ops::Range;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::Ruler;
use super::sixteens::{FACTOR, largest_node};
use crate::quantity::histogram::{Histogram, Sum};
use crate::quantity::units::Bytes;
use crate::record::Latencies;

/// What the drive was asked for meanwhile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum During {
    /// To read or write.
    Load,
    /// Nothing.
    Rest,
    /// Something else: a wipe, a test of its own.
    Other,
}

#[derive(Debug, Clone, Copy)]
struct Stretch {
    begin_ns: u64,
    end_ns: u64,
    /// Bytes moved since the haul began, at both ends.
    moved: [u64; 2],
    during: During,
    /// Where its bins begin in the bytes.
    at: usize,
}

impl Stretch {
    fn begin(&self, ruler: Ruler) -> f64 {
        if ruler == Ruler::Elapsed { self.begin_ns as f64 / 1e9 } else { self.moved[0] as f64 }
    }

    fn end(&self, ruler: Ruler) -> f64 {
        if ruler == Ruler::Elapsed { self.end_ns as f64 / 1e9 } else { self.moved[1] as f64 }
    }
}

/// Histograms in the order of time, as few bytes; above them their sums by sixteens, so that a picture of days costs no more
/// than one of minutes.
#[derive(Debug, Clone, Default)]
pub struct LatencyField {
    stretches: Vec<Stretch>,
    bytes: Vec<u8>,
    sums: Vec<Vec<Histogram>>,
    /// Of the stretches that no sum has yet, a level each.
    open: Vec<Vec<Histogram>>,
}

impl LatencyField {
    /// Takes the next stretch; `moved` is what the haul had moved at its beginning and its end.
    pub(super) fn push(&mut self, latencies: &Latencies, moved: [Bytes; 2], during: During) {
        self.stretches.push(Stretch {
            begin_ns: latencies.end.saturating_sub(latencies.span).as_nanos() as u64,
            end_ns: latencies.end.as_nanos() as u64,
            moved: moved.map(Bytes::get),
            during,
            at: self.bytes.len(),
        });
        latencies.counts.write(&mut self.bytes);
        self.sum_up(0, latencies.counts.clone());
    }

    fn sum_up(&mut self, level: usize, counts: Histogram) {
        if self.open.len() == level {
            self.open.push(Vec::with_capacity(FACTOR));
            self.sums.push(Vec::new());
        }
        self.open[level].push(counts);
        if self.open[level].len() == FACTOR {
            let mut sum = Sum::default();
            self.open[level].drain(..).for_each(|h| sum.add(&h));
            let sum = sum.histogram();
            self.sums[level].push(sum.clone());
            self.sum_up(level + 1, sum);
        }
    }

    /// Nothing was timed.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.stretches.is_empty()
    }

    fn leaf(&self, i: usize, sum: &mut Sum) {
        sum.add_written(&self.bytes[self.stretches[i].at..]);
    }

    fn add_up(&self, range: Range<usize>, sum: &mut Sum) {
        let mut i = range.start;
        while i < range.end {
            let (level, step) = largest_node(&(i..range.end), |l| self.sums.get(l).map_or(0, Vec::len));
            match level {
                0 => self.leaf(i, sum),
                _ => sum.add(&self.sums[level - 1][i / step]),
            }
            i += step;
        }
    }

    /// Stretches that end after one place and begin before another.
    fn touching(&self, ruler: Ruler, from: f64, to: f64) -> Range<usize> {
        let first = self.stretches.partition_point(|s| s.end(ruler) <= from);
        first..self.stretches.partition_point(|s| s.begin(ruler) < to).max(first)
    }

    /// All operations.
    #[must_use]
    pub fn whole(&self) -> Histogram {
        let mut sum = Sum::default();
        self.add_up(0..self.stretches.len(), &mut sum);
        sum.histogram()
    }

    /// All operations while the drive did this.
    #[must_use]
    pub fn during(&self, during: During) -> Histogram {
        let mut sum = Sum::default();
        let mut from = 0;
        for same in self.stretches.chunk_by(|a, b| a.during == b.during) {
            if same[0].during == during {
                self.add_up(from..from + same.len(), &mut sum);
            }
            from += same.len();
        }
        sum.histogram()
    }

    /// Bytes that the load moved in the stretches in which the drive did this.
    #[must_use]
    pub fn moved(&self, during: During) -> Bytes {
        let same = self.stretches.iter().filter(|s| s.during == during);
        Bytes::new(same.map(|s| s.moved[1].saturating_sub(s.moved[0])).sum())
    }

    /// The operations of the stretches that lie between two places, to within half a stretch at either end. By address nothing
    /// is known.
    #[must_use]
    pub fn between(&self, ruler: Ruler, from: f64, to: f64) -> Histogram {
        let middle = |s: &Stretch| f64::midpoint(s.begin(ruler), s.end(ruler));
        let mut sum = Sum::default();
        if ruler != Ruler::Position {
            let first = self.stretches.partition_point(|s| middle(s) <= from);
            let past = self.stretches.partition_point(|s| middle(s) <= to).max(first);
            self.add_up(first..past, &mut sum);
        }
        sum.histogram()
    }

    /// What lies between two places of a ruler in so many equal parts; a part that is narrower than a stretch shows that.
    #[must_use]
    pub fn columns(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Histogram> {
        if ruler == Ruler::Position || to <= from {
            return vec![Histogram::default(); columns];
        }
        let width = (to - from) / columns.max(1) as f64;
        let mut sum = Sum::default();
        let mut last: Option<(Range<usize>, Histogram)> = None;
        (0..columns)
            .map(|c| {
                let range = self.touching(ruler, from + width * c as f64, from + width * (c + 1) as f64);
                if let Some((_, same)) = last.as_ref().filter(|(r, _)| *r == range) {
                    return same.clone();
                }
                self.add_up(range.clone(), &mut sum);
                let counts = sum.take();
                last = Some((range, counts.clone()));
                counts
            })
            .collect()
    }

    /// Each stretch: its end, its length, what the drive did, and the operations.
    pub fn stretches(&self) -> impl Iterator<Item = (Duration, Duration, During, Histogram)> + '_ {
        self.stretches.iter().filter_map(|s| {
            let counts = Histogram::read(&mut &self.bytes[s.at..])?;
            let span = Duration::from_nanos(s.end_ns.saturating_sub(s.begin_ns));
            Some((Duration::from_nanos(s.end_ns), span, s.during, counts))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Whose;
    use proptest::prelude::*;

    /// A second each, 1 MB a second.
    fn field(of: &[Vec<(u64, u64)>]) -> LatencyField {
        let mut field = LatencyField::default();
        for (i, points) in of.iter().enumerate() {
            let l = Latencies {
                end: Duration::from_secs(i as u64 + 1),
                span: Duration::from_secs(1),
                leg: 0,
                whose: Whose::Load,
                counts: Histogram::of(points.iter().copied()),
            };
            let during = if i < of.len() / 2 { During::Load } else { During::Rest };
            let moved = [i as u64, i as u64 + 1].map(|mb| Bytes::new(mb * 1_000_000));
            field.push(&l, moved, during);
        }
        field
    }

    proptest! {
        #[test]
        fn any_stretch_adds_up_to_what_it_holds(
            of in proptest::collection::vec(proptest::collection::vec((1u64..1 << 34, 1u64..99), 1..6), 1..600),
            a in 0.0f64..1.0, b in 0.0f64..1.0
        ) {
            let f = field(&of);
            let (a, b) = (a.min(b) * of.len() as f64, a.max(b) * of.len() as f64);
            let inside = |i: &usize| (*i as f64 + 0.5) > a && (*i as f64 + 0.5) <= b;
            let wanted = Histogram::of((0..of.len()).filter(inside).flat_map(|i| of[i].clone()));
            prop_assert_eq!(&f.between(Ruler::Elapsed, a, b), &wanted);
            prop_assert_eq!(f.between(Ruler::Moved, a * 1e6, b * 1e6).total(), wanted.total());
            prop_assert_eq!(f.whole(), Histogram::of(of.concat()));
            prop_assert_eq!(f.during(During::Load), Histogram::of(of[..of.len() / 2].concat()));
        }
    }

    #[test]
    fn columns_wider_and_narrower_than_a_second_show_what_lies_in_them() {
        let f = field(&(0..100).map(|i| vec![(1000 + i, 1), (1 << 20, 1)]).collect::<Vec<_>>());
        let totals = |n, from, to| -> Vec<u64> {
            f.columns(Ruler::Elapsed, from, to, n).iter().map(Histogram::total).collect()
        };
        assert_eq!(totals(4, 0.0, 100.0), [50, 50, 50, 50]);
        assert_eq!(totals(4, 10.0, 11.0), [2, 2, 2, 2], "each shows the second that it lies in");
        assert_eq!(totals(2, 99.0, 101.0), [2, 0], "nothing after the end");
        assert_eq!(f.columns(Ruler::Position, 0.0, 1e9, 1)[0].total(), 0);
    }
}
