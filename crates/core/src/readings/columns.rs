//! What is read now and then, in the columns of a picture: each has the newest reading in it, or the one before it.

use std::time::Duration;

use super::{Readings, Ruler, TemperatureLane};

impl Readings {
    /// Temperatures beside the drive's own between two places of a ruler, in so many columns, °C: name and newest reading
    /// of each column; a column between two readings has the one before it.
    #[must_use]
    pub fn temperature_columns(
        &self,
        ruler: Ruler,
        from: f64,
        to: f64,
        columns: usize,
    ) -> Vec<(&str, Vec<Option<f64>>)> {
        let of = |l: &TemperatureLane| {
            self.newest_columns(&l.readings, |t| t.degrees(), ruler, (from, to), columns)
        };
        self.temperatures.iter().map(|l| (l.name.as_str(), of(l))).collect()
    }

    /// Power between two places of a ruler, in so many columns, W, as [`Self::temperature_columns`] has temperatures.
    #[must_use]
    pub fn power_columns(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Option<f64>> {
        self.newest_columns(self.meters.power(), |w| w, ruler, (from, to), columns)
    }

    /// Write amplification between two places of a ruler, in so many columns.
    #[must_use]
    pub fn write_amplification_columns(
        &self,
        ruler: Ruler,
        from: f64,
        to: f64,
        columns: usize,
    ) -> Vec<Option<f64>> {
        self.newest_columns(&self.write_amplification_over_time(), |v| v, ruler, (from, to), columns)
    }

    fn newest_columns<T: Copy>(
        &self,
        readings: &[(Duration, T)],
        value_of: impl Fn(T) -> f64,
        ruler: Ruler,
        (from, to): (f64, f64),
        columns: usize,
    ) -> Vec<Option<f64>> {
        let width = (to - from).max(f64::MIN_POSITIVE);
        let mut out = vec![None; columns];
        let mut before: Option<(usize, f64)> = None;
        let inside = if ruler == Ruler::Elapsed {
            let index = |s: f64| readings.partition_point(|(at, _)| at.as_secs_f64() < s);
            &readings[index(from)..index(to + 1e-9).max(index(from))]
        } else {
            readings
        };
        // A few readings a column show as much as all of them, and days of them would take too long for a frame.
        let stride = (inside.len() / (columns * 8).max(1)).max(1);
        for (at, value) in inside.iter().step_by(stride) {
            let Some(place) = self.place_of(ruler, *at) else { continue };
            let share = (place - from) / width;
            if !(0.0..=1.0).contains(&share) || columns == 0 {
                continue;
            }
            let column = ((share * columns as f64) as usize).min(columns - 1);
            if let Some((last, value)) = before.filter(|(last, _)| *last < column) {
                out[last + 1..column].fill(Some(value));
            }
            let value = value_of(*value);
            out[column] = Some(value);
            before = Some((column, value));
        }
        out
    }
}
