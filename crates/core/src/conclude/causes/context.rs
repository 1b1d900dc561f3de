//! What is known beside the rate: temperatures, the drive's own counts, earlier hauls.

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
        self.read_in(samples).fold(None, |m: Option<f64>, t| Some(m.map_or(t, |m| m.max(t))))
    }

    pub(super) fn coldest(&self, samples: Range<usize>) -> Option<f64> {
        self.read_in(samples).fold(None, |m: Option<f64>, t| Some(m.map_or(t, |m| m.min(t))))
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
