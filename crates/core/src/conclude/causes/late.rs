//! A sensor that follows late: how late, and how warm the drive was before it said so.
//!
//! Two first-order stages in a row: the drive follows its load with a time constant τ, and the sensor follows the drive with a lag ℓ.
//! The temperature that is told is then linear in three known shapes (idle level, the load as both stages see it, what is left of the
//! start), which follow by least squares for each pair of τ and ℓ. A drive whose heat goes through two stages side by side, quick and
//! slow, fits no lag at all: it answers sooner than one stage, not later.

use crate::conclude::models::fit::{Fit, golden, least_squares};
use crate::conclude::models::grid::Grid;
use crate::readings::Series;

/// Steps of the grid, and its longest step, s: a lag of two seconds is not seen in longer ones.
const POINTS: usize = 900;
const LONGEST_STEP_S: f64 = 4.0;
/// So much of a record tells the lag of its sensor, s.
const ENOUGH_S: f64 = 1800.0;
/// Shorter than this it makes no difference, longer no sensor follows, s. Habit: a sensor is read once a second or so, and one on a board
/// beside the chip follows within a quarter of a minute.
const LEAST_S: f64 = 1.7;
const MOST_S: f64 = 25.0;
/// A record in which the temperature moved less than this tells nothing, K.
const LEAST_RANGE: f64 = 6.0;
/// What is left over without a lag must be so much more than with it, as a ratio of the sums of squares. Chosen.
const BETTER: f64 = 1.8;
/// And with it no more than this, K, beside the sensor's own steps. Chosen.
const LEFT_OVER: f64 = 0.5;
/// Without a lag at least so much more is left over, K, beside a quarter of the sensor's step: readings that are a second old do as much.
const WORTH_IT: f64 = 0.15;

/// By how much the drive was warmer than its sensor said.
pub struct Late {
    /// The lag, s.
    pub lag_s: f64,
    /// For each sample, K.
    ahead: Vec<f32>,
}

/// The two stages, as they stand.
struct Stages {
    tau: f64,
    lag: f64,
    drive: f64,
    sensor: f64,
}

impl Stages {
    const fn new(tau: f64, lag: f64, start: f64) -> Self {
        Self { tau, lag, drive: start, sensor: start }
    }

    /// What is left of a difference after so long: in the drive, in the sensor.
    fn decays(&self, seconds: f64) -> (f64, f64) {
        let sensor = if self.lag > 0.0 { (-seconds / self.lag).exp() } else { 0.0 };
        ((-seconds / self.tau).exp(), sensor)
    }

    /// The load is `goal` for as long as these decays were made for.
    fn pass(&mut self, goal: f64, (drive, sensor): (f64, f64)) {
        let was = self.drive;
        self.drive = goal + (was - goal) * drive;
        // A sensor that follows at once is where the drive is, not where it was in the mean.
        let follows = if self.lag > 0.0 { 0.5 * (was + self.drive) } else { self.drive };
        self.sensor = follows + (self.sensor - follows) * sensor;
    }

    fn ahead(&self) -> f64 {
        self.drive - self.sensor
    }
}

fn fit(grid: &Grid, tau: f64, lag: f64) -> Option<Fit> {
    let (mut load, mut start) = (Stages::new(tau, lag, 0.0), Stages::new(tau, lag, 1.0));
    let (mut warm, mut left) = (Vec::with_capacity(grid.gb_s.len()), Vec::with_capacity(grid.gb_s.len()));
    let decays = load.decays(grid.step_s);
    for r in &grid.gb_s {
        load.pass(*r, decays);
        start.pass(0.0, decays);
        warm.push(load.sensor);
        left.push(start.sensor);
    }
    least_squares(&[vec![1.0; grid.gb_s.len()], warm, left], &grid.degrees)
}

/// What such a fit leaves over, as a sum of squares: by the normal equations, of sums that are taken on the way. It is asked for a hundred times.
fn squares(grid: &Grid, tau: f64, lag: f64) -> f64 {
    let (mut load, mut start) = (Stages::new(tau, lag, 0.0), Stages::new(tau, lag, 1.0));
    let decays = load.decays(grid.step_s);
    let n = grid.degrees.len() as f64;
    // About their mean, so that their squares are no larger than what they tell.
    let mean = grid.degrees.iter().sum::<f64>() / n;
    let (mut sums, mut moments, mut all) = ([[0.0; 3]; 3], [0.0; 3], 0.0);
    sums[0][0] = n;
    for (r, t) in grid.gb_s.iter().zip(&grid.degrees) {
        load.pass(*r, decays);
        start.pass(0.0, decays);
        let (warm, left, y) = (load.sensor, start.sensor, t - mean);
        sums[1][0] += warm;
        sums[2][0] += left;
        sums[1][1] += warm * warm;
        sums[2][1] += warm * left;
        sums[2][2] += left * left;
        moments[0] += y;
        moments[1] += y * warm;
        moments[2] += y * left;
        all += y * y;
    }
    // Cholesky's triangle, and what each column explains beyond those before it.
    let mut explained = 0.0;
    let mut known = [0.0; 3];
    for (i, moment) in moments.into_iter().enumerate() {
        for j in 0..i {
            let sum: f64 = (0..j).map(|k| sums[i][k] * sums[j][k]).sum();
            sums[i][j] = (sums[i][j] - sum) / sums[j][j];
        }
        let size = sums[i][i];
        let rest = size - (0..i).map(|k| sums[i][k] * sums[i][k]).sum::<f64>();
        // A column that differs from the others by less than rounding says nothing.
        if rest.is_nan() || rest <= 1e-9 * size.max(1e-300) {
            return f64::INFINITY;
        }
        sums[i][i] = rest.sqrt();
        known[i] = (moment - (0..i).map(|k| sums[i][k] * known[k]).sum::<f64>()) / sums[i][i];
        explained += known[i] * known[i];
    }
    (all - explained).max(0.0)
}

impl Late {
    /// What the record says of it; `None` where the sensor follows at once, or the record does not tell.
    pub fn of(series: &Series) -> Option<Self> {
        let grid = Grid::of(series, POINTS, ENOUGH_S).filter(|g| g.step_s <= LONGEST_STEP_S)?;
        let (low, high) = grid.degrees.iter().fold((f64::MAX, f64::MIN), |(l, h), t| (l.min(*t), h.max(*t)));
        if high - low < LEAST_RANGE {
            return None;
        }
        let squares = |ln_tau: f64, lag: f64| squares(&grid, ln_tau.exp(), lag);
        let (shortest, longest) = (5f64.ln(), 600f64.ln());
        let taus = || (0..9).map(|i| shortest + (longest - shortest) * f64::from(i) / 8.0);
        let best = |lags: &[f64]| {
            let pairs = lags.iter().flat_map(|l| taus().map(move |t| (t, *l)));
            pairs.map(|(t, l)| (squares(t, l), t, l)).min_by(|a, b| a.0.total_cmp(&b.0))
        };
        let (_, at_once, _) = best(&[0.0])?;
        let at_once = squares(golden(at_once - 0.6, at_once + 0.6, 10, |t| squares(t, 0.0)), 0.0);
        let without = (at_once / grid.degrees.len() as f64).sqrt();
        let worth_it = WORTH_IT + 0.2 * grid.resolution;
        // No lag can leave less than nothing.
        if without < worth_it {
            return None;
        }
        let (rough, mut ln_tau, mut lag) = best(&[2.0, 4.0, 7.0, 11.0, 16.0])?;
        // A lag that is there leaves less even where it is not yet the best one.
        if rough >= at_once {
            return None;
        }
        for reach in [0.6, 0.3] {
            lag = golden((lag * (1.0 - reach)).max(0.5), (lag * (1.0 + reach)).min(MOST_S), 9, |l| {
                squares(ln_tau, l)
            });
            ln_tau = golden(ln_tau - reach, ln_tau + reach, 9, |t| squares(t, lag));
        }
        let tau = ln_tau.exp();
        let found = fit(&grid, tau, lag)?;
        let poor = found.residual > LEFT_OVER + 0.4 * grid.resolution;
        let little = without - found.residual < worth_it;
        if lag < LEAST_S || poor || little || at_once < BETTER * found.squares || found.values[1] <= 0.0 {
            return None;
        }
        let (mut load, mut start) = (Stages::new(tau, lag, 0.0), Stages::new(tau, lag, 1.0));
        let mut before = 0.0;
        let (mut lasts, mut decays) = (0.0, (1.0, 1.0));
        let ahead = (0..series.len())
            .map(|i| {
                let seconds = (series.end_s(i) - before).max(1e-6);
                before = series.end_s(i);
                let moved = series.moved(i) - series.moved_before(i);
                // Most samples are as long as the one before.
                if seconds != lasts {
                    (lasts, decays) = (seconds, load.decays(seconds));
                }
                load.pass(moved as f64 / seconds / 1e9, decays);
                start.pass(0.0, decays);
                (found.values[1] * load.ahead() + found.values[2] * start.ahead()) as f32
            })
            .collect();
        Some(Self { lag_s: lag, ahead })
    }

    /// So far ahead in each sample, K.
    #[cfg(test)]
    pub(super) const fn known(lag_s: f64, ahead: Vec<f32>) -> Self {
        Self { lag_s, ahead }
    }

    /// In a sample, K.
    pub fn ahead(&self, sample: usize) -> f64 {
        self.ahead.get(sample).copied().map_or(0.0, f64::from)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_fit_leaves_over_is_what_its_residuals_are() {
        // A drive of 40 s behind a sensor of 6 s, under a load that goes on and off, in whole degrees.
        let step_s = 2.0;
        let gb_s: Vec<f64> = (0..400).map(|i| if i / 60 % 2 == 0 { 3.0 } else { 0.4 }).collect();
        let mut stages = Stages::new(40.0, 6.0, 0.0);
        let decays = stages.decays(step_s);
        let degrees = gb_s.iter().map(|r| {
            stages.pass(*r, decays);
            (35.0 + 9.0 * stages.sensor).round()
        });
        let grid = Grid { step_s, resolution: 1.0, degrees: degrees.collect(), gb_s };
        let lean = |tau, lag| squares(&grid, tau, lag);
        for (tau, lag) in [(40.0, 6.0), (40.0, 0.0), (12.0, 3.0), (300.0, 20.0)] {
            let whole = fit(&grid, tau, lag).unwrap().squares;
            assert!((lean(tau, lag) / whole - 1.0).abs() < 1e-6, "{tau} {lag}: {} {whole}", lean(tau, lag));
        }
        assert!(lean(40.0, 6.0) < 0.1 * lean(40.0, 0.0) && lean(40.0, 6.0) < lean(40.0, 9.0));
        // A load that never changes says nothing beside what is left of the start.
        let even = Grid { gb_s: vec![0.0; 400], ..grid };
        assert_eq!(squares(&even, 40.0, 6.0), f64::INFINITY);
    }
}
