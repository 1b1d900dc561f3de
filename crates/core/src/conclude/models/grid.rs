//! A record on an even grid of time: what models of heat are fitted to.

use crate::readings::Series;

/// The record on an even grid.
pub(in crate::conclude) struct Grid {
    pub step_s: f64,
    /// Steps in which the temperature is read, K.
    pub resolution: f64,
    pub degrees: Vec<f64>,
    /// Mean rate of each step.
    pub gb_s: Vec<f64>,
}

impl Grid {
    /// The first `until_s` seconds in `points` steps at most, none shorter than a second; `None` with fewer than thirty readings.
    pub fn of(series: &Series, points: usize, until_s: f64) -> Option<Self> {
        let last = series.len().checked_sub(1)?;
        let total = series.end_s(last).min(until_s);
        // No finer than the samples: in between there is neither a reading nor a rate.
        let step_s = (total / points as f64).max(1.0).max(usual_length(series));
        let mut grid =
            Self { step_s, resolution: series.temperature_step(), degrees: Vec::new(), gb_s: Vec::new() };
        // Bytes moved up to a moment: evenly over the sample that it lies in.
        let moved_by = |at: f64| {
            let i = series.index_at(std::time::Duration::from_secs_f64(at.max(0.0))).min(last);
            let begin = if i == 0 { 0.0 } else { series.end_s(i - 1) };
            let share = ((at - begin) / (series.end_s(i) - begin).max(1e-9)).clamp(0.0, 1.0);
            let before = series.moved_before(i) as f64;
            before + share * (series.moved(i) as f64 - before)
        };
        let (mut i, mut read, mut before) = (0, None, 0.0);
        let mut at = step_s;
        while at <= total + 1e-9 {
            while i <= last && series.end_s(i) <= at + 1e-9 {
                read = series.degrees(i).or(read);
                i += 1;
            }
            let now = moved_by(at);
            if let Some(t) = read {
                grid.degrees.push(t);
                grid.gb_s.push((now - before).max(0.0) / step_s / 1e9);
            }
            before = now;
            at += step_s;
        }
        (grid.degrees.len() >= 30).then_some(grid)
    }

    /// Neighbours taken together, so that there are `most` at most: for what is fitted many times.
    pub fn thinned(&self, most: usize) -> Self {
        let by = self.degrees.len().div_ceil(most).max(1);
        // The reading at the end of each, as in the grid itself.
        let ends = self.degrees.chunks_exact(by).map(|c| c[by - 1]);
        Self {
            step_s: self.step_s * by as f64,
            resolution: self.resolution,
            degrees: ends.collect(),
            gb_s: self.gb_s.chunks_exact(by).map(|c| c.iter().sum::<f64>() / by as f64).collect(),
        }
    }
}

/// Median length of a sample, s, of a few hundred.
fn usual_length(series: &Series) -> f64 {
    let every = (series.len() / 300).max(1);
    let mut all: Vec<f64> =
        (1..series.len()).step_by(every).map(|i| series.end_s(i) - series.end_s(i - 1)).collect();
    crate::quantity::stats::median(&mut all).unwrap_or(1.0)
}
