//! The noise of a run: how large it is around a point, and how many points are worth one that is independent.

use std::ops::Range;

use crate::quantity::stats;
use crate::readings::run::LEAST_SIGMA;

/// Noise is taken to have forgotten itself after so many points.
const LAG: usize = 8;
/// The correlation is taken from so many points at most.
const MOST_POINTS: usize = 8192;

/// Noise in which each point resembles the one before, measured from differences between points with no change of level
/// between them.
pub(super) struct Noise {
    /// For each point, a number that differs where the level does, by the segments that were proposed.
    level_of: Vec<u32>,
    /// Correlation of a point's noise with that of the one before.
    rho: f64,
    /// The mean of many points varies as if they were so many times fewer: what noise that remembers for long makes of them.
    excess: f64,
}

impl Noise {
    pub(super) fn of(points: &[f32], starts: &[usize]) -> Self {
        let mut noise = Self { level_of: vec![0; points.len()], rho: 0.0, excess: 1.0 };
        let some = 0..points.len().min(MOST_POINTS);
        let near = noise.difference(points, some.clone(), 1).unwrap_or(0.0).max(LEAST_SIGMA);
        let middle = |range: Range<usize>| stats::median(&mut stats::spaced(&points[range], 61));
        let mut calm = points[some.clone()].to_vec();
        let (mut level, mut before) = (0, None);
        for (i, start) in starts.iter().enumerate() {
            let end = starts.get(i + 1).copied().unwrap_or(points.len());
            let here = middle(*start..end).unwrap_or(0.0);
            // Correlated noise is cut into segments too, but their steps are small against the noise.
            level += u32::from(before.is_some_and(|b: f64| (b - here).abs() > 3.5 * near));
            before = Some(here);
            noise.level_of[*start..end].fill(level);
            // Stalls are no noise.
            let (low, high) = ((here - 4.0 * near) as f32, (here + 4.0 * near) as f32);
            let within = *start..end.min(calm.len());
            calm.get_mut(within).into_iter().flatten().for_each(|v| *v = v.clamp(low, high));
        }
        // Variance of differences over one point against that over `lag`: (1 − ρ) / (1 − ρ^lag).
        let far = |lag| noise.difference(points, some.clone(), lag).map(|f| (f, lag));
        let near = noise.difference(points, some.clone(), 1);
        if let Some(((far, lag), near)) = (2..=LAG).rev().find_map(far).zip(near) {
            let ratio = (near / far.max(1e-9)).powi(2);
            for _ in 0..20 {
                noise.rho = (1.0 - ratio * (1.0 - noise.rho.powi(lag as i32))).clamp(0.0, 0.95);
            }
        }
        noise.excess = noise.long_memory(&calm);
        noise
    }

    /// Variance of the means of ever longer blocks against that of independent points, by second differences, which a slope does not
    /// enlarge.
    fn long_memory(&self, points: &[f32]) -> f64 {
        let sums: Vec<f64> = std::iter::once(0.0)
            .chain(points.iter().scan(0.0, |sum, v| {
                *sum += f64::from(*v);
                Some(*sum)
            }))
            .collect();
        let variance = |m: usize| {
            let mean = |k: usize| (sums[(k + 1) * m] - sums[k * m]) / m as f64;
            let same = |k: &usize| self.level_of[(k - 1) * m] == self.level_of[(k + 2) * m - 1];
            let mut all: Vec<f64> = (1..(points.len() / m).saturating_sub(1))
                .filter(same)
                .map(|k| (mean(k + 1) - 2.0 * mean(k) + mean(k - 1)).abs())
                .collect();
            // The second difference of independent values has six times their variance.
            (all.len() >= 12)
                .then(|| stats::median(&mut all).map(|d| (d / 0.6745).powi(2) / 6.0 * m as f64))
                .flatten()
        };
        let Some(single) = variance(1) else { return 1.0 };
        // Neighbours that resemble each other make small second differences: (3 − 4ρ + ρ²) / 3 of the variance.
        let own = single / ((3.0 - 4.0 * self.rho + self.rho.powi(2)) / 3.0).max(0.05);
        let most = [4, 8, 16, 32, 64, 128, 256, 512].into_iter().filter_map(variance).fold(0.0, f64::max);
        (most / own.max(1e-12)).max(1.0)
    }

    /// Median of the differences over `lag` points; `None` with fewer than a dozen of them.
    fn difference(&self, points: &[f32], range: Range<usize>, lag: usize) -> Option<f64> {
        let pairs = (range.start + lag..range.end).filter(|i| self.level_of[*i] == self.level_of[*i - lag]);
        let mut all: Vec<f64> = pairs.map(|i| f64::from((points[i] - points[i - lag]).abs())).collect();
        if all.len() < 12 { None } else { stats::median(&mut all) }
    }

    /// Standard deviation in the neighbourhood of a point (median |Δ| / 0.6745 / √2, with ρ taken into account).
    pub(super) fn around(&self, points: &[f32], point: usize) -> f64 {
        let range = point.saturating_sub(160)..(point + 160).min(points.len());
        let near = self.difference(points, range, 1).unwrap_or(0.0);
        near / 0.6745 / std::f64::consts::SQRT_2 / (1.0 - self.rho).sqrt()
    }

    /// How many independent points so many are worth.
    pub(super) fn worth(&self, points: f64) -> f64 {
        (points * (1.0 - self.rho) / (1.0 + self.rho)).min(points / self.excess).max(1.0)
    }
}
