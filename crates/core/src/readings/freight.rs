//! What happened to files, second by second, and leg by leg.

use std::time::Duration;

use super::{Readings, Ruler};
use crate::drive::freight::Freighted;
use crate::quantity::units::Rate;
use crate::record::FreightSecond;

/// The seconds of all freight legs.
#[derive(Debug, Clone, Default)]
pub struct FreightLog {
    seconds: Vec<FreightSecond>,
}

impl FreightLog {
    pub(super) fn push(&mut self, second: &FreightSecond) {
        self.seconds.push(second.clone());
    }

    /// No files were moved.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.seconds.is_empty()
    }

    /// In order of time.
    #[must_use]
    pub fn seconds(&self) -> &[FreightSecond] {
        &self.seconds
    }

    /// Those of a leg.
    #[must_use]
    pub fn of_leg(&self, leg: u16) -> &[FreightSecond] {
        let first = self.seconds.iter().position(|s| s.leg == leg).unwrap_or(self.seconds.len());
        let past =
            self.seconds[first..].iter().position(|s| s.leg != leg).map_or(self.seconds.len(), |n| first + n);
        &self.seconds[first..past]
    }
}

impl Readings {
    /// What was done with files between two places of a ruler, in so many columns, with the leg it was done in; a second belongs to
    /// every column that it touches. `None` where nothing was done, and by position, where files have no place.
    #[must_use]
    pub fn freight_columns(
        &self,
        ruler: Ruler,
        from: f64,
        to: f64,
        columns: usize,
    ) -> Vec<Option<(u16, Freighted)>> {
        let mut out: Vec<Option<(u16, Freighted)>> = vec![None; columns];
        if ruler == Ruler::Position || columns == 0 || to <= from {
            return out;
        }
        let width = (to - from) / columns as f64;
        for second in self.freight.seconds() {
            let place = |at: Duration| self.place_of(ruler, at).unwrap_or(0.0);
            let (a, b) = (place(second.end.saturating_sub(second.span)), place(second.end));
            if b < from || a > to {
                continue;
            }
            let column = |x: f64| (((x - from) / width).floor().max(0.0) as usize).min(columns - 1);
            let last = if b > a { column(b - width * 1e-6) } else { column(a) };
            for cell in &mut out[column(a)..=last.max(column(a))] {
                match cell {
                    Some((leg, sum)) if *leg == second.leg => sum.add(&second.done),
                    other => *other = Some((second.leg, second.done.clone())),
                }
            }
        }
        out
    }

    /// Bytes written and bytes read a second between two places of a ruler, in so many columns.
    #[must_use]
    pub fn both_ways(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Option<(Rate, Rate)>> {
        let width = (to - from) / columns.max(1) as f64;
        let series = self.series();
        let one = |c: usize| {
            let (a, b) = (from + width * c as f64, from + width * (c + 1) as f64);
            let mut samples = series.between(ruler, a, b);
            if samples.is_empty() && samples.start < series.len() && samples.start > 0 {
                samples = samples.start..samples.start + 1;
            }
            let (first, last) = (samples.start, samples.end.checked_sub(1)?);
            (first <= last && last < series.len()).then_some(())?;
            let seconds = series.loaded_s(first..last + 1);
            (seconds > 0.0).then_some(())?;
            let written = series.written(last).saturating_sub(series.written_before(first));
            let moved = series.moved(last).saturating_sub(series.moved_before(first));
            let rate = |bytes: u64| Rate::new(bytes as f64 / seconds);
            Some((rate(written), rate(moved.saturating_sub(written))))
        };
        if ruler == Ruler::Position || to <= from {
            vec![None; columns]
        } else {
            (0..columns).map(one).collect()
        }
    }
}
