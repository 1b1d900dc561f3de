//! What is known beside the rate: temperatures, the drive's own counts, earlier hauls.

use std::cell::OnceCell;
use std::ops::Range;
use std::time::Duration;

use crate::conclude::place::Place;
use crate::drive::{Link, Vitals};
use crate::quantity::units::{Bytes, Celsius};
use crate::readings::Series;
use crate::record::Earlier;

use super::numbers::*;

/// What is known beside the series.
pub struct Context<'a> {
    /// All samples.
    pub series: &'a Series,
    /// The limit that the drive or its maker states.
    pub limit: Option<Celsius>,
    /// The temperatures are those of a sensor that measures nothing.
    pub dead_sensor: bool,
    /// What the drive holds; zero where nobody said.
    pub capacity: Bytes,
    /// Health readings, in order of time.
    pub vitals: &'a [(Duration, Vitals)],
    /// What earlier hauls of the drive found.
    pub earlier: &'a [Earlier],
    /// How the drive is connected.
    pub link: Option<&'a Link>,
    /// The temperature is read in steps of so many K.
    pub resolution: f64,
    /// The sensor follows late.
    pub late: Option<super::late::Late>,
    /// Samples before which we ourselves let the queue run empty, in order.
    pub flushes: &'a [usize],
    /// Of each [`BLOCK`] samples the coldest and the hottest, once a long range of them was asked for.
    pub extremes: OnceCell<Vec<Extremes>>,
}

/// So many samples have their extremes told together. Chosen: a day of samples is asked for some ten times in each conclusion.
const BLOCK: usize = 64;

/// The coldest and the hottest of some samples, °C; nothing where none was read.
pub type Extremes = Option<(f64, f64)>;

fn wider(a: Extremes, b: Extremes) -> Extremes {
    match (a, b) {
        (Some(a), Some(b)) => Some((a.0.min(b.0), a.1.max(b.1))),
        (one, other) => one.or(other),
    }
}

impl Context<'_> {
    /// Temperature in a sample, from a sensor that measures; of one that follows late, what it is going to say.
    pub(super) fn degrees(&self, sample: usize) -> Option<f64> {
        let ahead = self.late.as_ref().map_or(0.0, |l| l.ahead(sample));
        self.series.degrees(sample).filter(|_| !self.dead_sensor).map(|t| t + ahead)
    }

    /// Temperatures in these samples, as far as there are so many: a place that is reckoned may lie behind the last.
    pub(super) fn read_in(&self, samples: Range<usize>) -> impl Iterator<Item = f64> + '_ {
        (samples.start..samples.end.min(self.series.len())).filter_map(|i| self.degrees(i))
    }

    pub(super) fn hottest(&self, samples: Range<usize>) -> Option<f64> {
        self.extremes_in(samples).map(|e| e.1)
    }

    pub(super) fn coldest(&self, samples: Range<usize>) -> Option<f64> {
        self.extremes_in(samples).map(|e| e.0)
    }

    fn extremes_in(&self, samples: Range<usize>) -> Extremes {
        let one_by_one = |range| self.read_in(range).fold(None, |all: Extremes, t| wider(all, Some((t, t))));
        if self.late.is_none() {
            // As read: the series knows.
            let all =
                self.series.column(samples.start.min(self.series.len())..samples.end.min(self.series.len()));
            let both = all.coldest.zip(all.hottest).filter(|_| !self.dead_sensor);
            return both.map(|(c, h)| (c.degrees(), h.degrees()));
        }
        if samples.len() < 4 * BLOCK {
            return one_by_one(samples);
        }
        let blocks = self.extremes.get_or_init(|| {
            (0..self.series.len()).step_by(BLOCK).map(|from| one_by_one(from..from + BLOCK)).collect()
        });
        let whole = samples.start.div_ceil(BLOCK)..(samples.end / BLOCK).min(blocks.len());
        let ends = [samples.start..whole.start * BLOCK, whole.end * BLOCK..samples.end];
        let within = blocks.get(whole).unwrap_or_default().iter().copied();
        ends.into_iter().map(one_by_one).chain(within).fold(None, wider)
    }

    /// How long each of these samples is in the mean, under load, s.
    pub(super) fn sample_s(&self, samples: Range<usize>) -> f64 {
        self.series.loaded_s(samples.clone()) / samples.len().max(1) as f64
    }

    /// Samples within so many seconds before and after a place.
    pub(super) fn around(&self, at: Duration, before_s: u64, after_s: u64) -> Range<usize> {
        let from = self.series.index_at(at.saturating_sub(Duration::from_secs(before_s)));
        let to = self.series.index_at(at + Duration::from_secs(after_s)).max(from + 1);
        from.min(self.series.len())..to.min(self.series.len())
    }

    /// By how much the drive may have been nearer to its limit than its newest reading says, K: half a step of the sensor, or of
    /// the limit, which is stated in whole kelvin; and what it gained since, at the pace of the last ten seconds.
    pub(super) fn unread(&self, at: Duration) -> f64 {
        let range = self.around(at, 10, 0);
        let seconds = self.series.loaded_s(range.clone()).max(1.0);
        let mut read = range.filter_map(|i| self.degrees(i));
        let first = read.next();
        let gained = first.zip(read.next_back()).map_or(0.0, |(a, b)| (b - a).max(0.0));
        let most = AT_LIMIT.max(0.5 * self.resolution + 0.7);
        (0.5 * self.resolution.max(1.0) + 1.2 * gained / seconds + 0.1).min(most)
    }

    /// The count of thermal transitions as the newest reading of this moment had it.
    pub(super) fn counted_at(&self, at: Duration) -> Option<u64> {
        let newest = self.vitals.partition_point(|(t, _)| *t <= at).checked_sub(1)?;
        self.vitals[newest].1.thermal_transitions
    }

    /// Did they move while a rate gave way, or around a moment?
    pub(super) fn counters_moved_in(&self, place: &Place) -> Option<bool> {
        if place.begins == place.elapsed {
            return self.counters_moved(place.elapsed);
        }
        self.counted_between(place.begins.saturating_sub(BEFORE_IT_SHOWS), place.elapsed)
    }

    /// The count after a moment: what was read soon after it, or else the next reading, however late.
    pub(super) fn counted_after(&self, at: Duration) -> Option<u64> {
        // A reading taken in the same moment may stand on either side of it.
        let next = self.vitals.get(self.vitals.partition_point(|(t, _)| *t < at + MOMENT))?;
        if next.0 <= at + READ_WITHIN {
            self.counted_at(at + READ_WITHIN)
        } else {
            next.1.thermal_transitions
        }
    }

    /// Did they move from one moment to another?
    pub(super) fn counted_between(&self, from: Duration, to: Duration) -> Option<bool> {
        Some(self.counted_after(to).or(self.counted_at(to))? > self.counted_at(from)?)
    }

    /// Did the drive's own thermal counters move around this time? `None` when it has none.
    pub(super) fn counters_moved(&self, at: Duration) -> Option<bool> {
        Some(self.counted_after(at)? > self.counted_at(at.checked_sub(MOMENT)?)?)
    }
}

#[cfg(test)]
mod tests {
    use super::super::late::Late;
    use super::*;
    use crate::readings::Readings;
    use crate::record::{Event, Sample};

    proptest::proptest! {
        #[test]
        fn extremes_of_a_long_range_are_those_of_its_samples(
            degrees in proptest::collection::vec(proptest::option::weighted(0.7, 20u8..95), 1..1500),
            ends in proptest::array::uniform2(0usize..1700),
            late in proptest::bool::ANY
        ) {
            let mut readings = Readings::new();
            for (i, t) in degrees.iter().enumerate() {
                readings.push(&Event::Sample(Sample {
                    end: Duration::from_secs(i as u64 + 1),
                    span: Duration::from_secs(1),
                    temperature: t.map(|t| Celsius::new(f64::from(t))),
                    ..Sample::default()
                }));
            }
            // What is reckoned ahead of a late sensor is no reading of the series.
            let ahead = || (0..degrees.len()).map(|i| (i % 7) as f32).collect();
            let cx = Context {
                series: &readings.series,
                limit: None,
                dead_sensor: false,
                capacity: Bytes::ZERO,
                vitals: &[],
                earlier: &[],
                link: None,
                resolution: 1.0,
                late: late.then(|| Late::known(5.0, ahead())),
                flushes: &[],
                extremes: OnceCell::new(),
            };
            let range = ends[0].min(ends[1])..ends[0].max(ends[1]);
            let all: Vec<f64> = cx.read_in(range.clone()).collect();
            let found = (cx.coldest(range.clone()), cx.hottest(range));
            let expected = (all.iter().copied().reduce(f64::min), all.iter().copied().reduce(f64::max));
            proptest::prop_assert_eq!(found, expected);
        }
    }
}
