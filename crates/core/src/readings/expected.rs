//! What was expected beside what was measured: the forecast that came with a haul, at the places where the haul has been.

use super::{Readings, Ruler};
use crate::record::forecast::{Part, Source};
use crate::route::LegKind;

impl Readings {
    /// The part of the forecast that a sample lies in: by what its leg had moved, or by its time where it rests.
    #[must_use]
    pub fn expected_at(&self, sample: usize) -> Option<&Part> {
        let head = self.head()?;
        let forecast = head.forecast.as_ref()?;
        let series = self.series();
        let end = series.end(sample);
        let legs = self.legs();
        let reading = &legs[legs.partition_point(|l| l.from < end).checked_sub(1)?];
        // What is claimed is no expectation: how claims stand beside what was measured is told elsewhere.
        let expected = forecast.leg(reading.leg).filter(|l| l.source != Source::Claims)?;
        let rests = head.route.legs.get(usize::from(reading.leg)).is_some_and(|l| l.kind == LegKind::Rest);
        let place = if rests {
            (end.saturating_sub(reading.from)).as_secs_f64()
        } else {
            f64::midpoint(series.moved_before(sample) as f64, series.moved(sample) as f64)
                - reading.moved_before.as_f64()
        };
        expected.at(place)
    }

    /// What was expected in each of so many columns of a ruler; by position a forecast says nothing.
    #[must_use]
    pub fn expected(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Option<Part>> {
        let has = self.head().is_some_and(|h| h.forecast.as_ref().is_some_and(|f| !f.is_claimed()));
        if ruler == Ruler::Position || !has {
            return vec![None; columns];
        }
        let width = (to - from) / columns.max(1) as f64;
        (0..columns)
            .map(|i| {
                let left = from + width * i as f64;
                let samples = self.series().between(ruler, left, left + width);
                (!samples.is_empty())
                    .then(|| self.expected_at(usize::midpoint(samples.start, samples.end - 1)))?
            })
            .map(|p| p.copied())
            .collect()
    }
}
