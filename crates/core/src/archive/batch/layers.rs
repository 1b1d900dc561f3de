//! Hauls within drives, drives within a batch: a one-way random-effects model, so that ten hauls of one drive are not ten drives.

use serde::Serialize;
use statrs::distribution::{ContinuousCDF, StudentsT};

use super::tolerance::Layers;
use crate::quantity::stats::student_975;

/// A drive's figure over its hauls.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Point {
    /// Index of the drive in the batch.
    pub drive: usize,
    /// Mean of its hauls.
    pub value: f64,
    /// 95 % interval of that mean: by the scatter of repeats of all drives together, or by the haul's own where none has repeats.
    pub interval: Option<(f64, f64)>,
    /// Its hauls.
    pub hauls: usize,
}

/// One drive's values, a haul each, with the haul's own interval where it has one.
#[derive(Debug, Clone)]
pub struct OfDrive {
    /// Index of the drive in the batch.
    pub drive: usize,
    /// A value a haul.
    pub values: Vec<f64>,
    /// The interval that a haul gives itself; of drives with one haul.
    pub own: Option<(f64, f64)>,
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len().max(1) as f64
}

/// What the hauls say of drives; `None` of fewer than two drives.
#[must_use]
pub fn layers(drives: &[OfDrive]) -> Option<Layers> {
    if drives.len() < 2 {
        return None;
    }
    let means: Vec<f64> = drives.iter().map(|d| mean(&d.values)).collect();
    let centre = mean(&means);
    let count = drives.len() as f64;
    let squares: f64 =
        drives.iter().zip(&means).flat_map(|(d, m)| d.values.iter().map(move |v| (v - m).powi(2))).sum();
    let freedom = drives.iter().map(|d| d.values.len() - 1).sum::<usize>();
    Some(Layers {
        drives: drives.len(),
        mean: centre,
        variance_of_means: means.iter().map(|m| (m - centre).powi(2)).sum::<f64>() / (count - 1.0),
        within: if freedom > 0 { squares / freedom as f64 } else { 0.0 },
        within_freedom: freedom,
        share: drives.iter().map(|d| 1.0 / d.values.len() as f64).sum::<f64>() / count,
    })
}

impl Layers {
    /// Standard deviation between drives, repeats' scatter taken away: unweighted means, which is unbiased before the root however
    /// many hauls each drive has.
    #[must_use]
    pub fn between(&self) -> f64 {
        (self.variance_of_means - self.share * self.within).max(0.0).sqrt()
    }

    /// Half the 95 % interval of the centre.
    #[must_use]
    pub fn half_of_mean(&self) -> f64 {
        let drives = self.drives as f64;
        student_975(drives - 1.0) * (self.variance_of_means / drives).sqrt()
    }
}

/// A point a drive.
#[must_use]
pub fn points(drives: &[OfDrive], layers: Option<&Layers>) -> Vec<Point> {
    drives
        .iter()
        .map(|d| {
            let value = mean(&d.values);
            let repeats = layers.filter(|l| l.within_freedom > 0).map(|l| {
                let half = student_975(l.within_freedom as f64) * (l.within / d.values.len() as f64).sqrt();
                (value - half, value + half)
            });
            Point { drive: d.drive, value, interval: repeats.or(d.own), hauls: d.values.len() }
        })
        .collect()
}

/// Each drive's distance from the centre, in standard deviations that a drive with so many hauls has.
#[must_use]
pub fn deviations(drives: &[OfDrive], layers: &Layers) -> Vec<f64> {
    let between = layers.between().powi(2);
    drives
        .iter()
        .map(|d| {
            let variance = if layers.within_freedom > 0 {
                between + layers.within / d.values.len() as f64
            } else {
                layers.variance_of_means
            };
            let gap = mean(&d.values) - layers.mean;
            if variance > 0.0 { gap / variance.sqrt() } else { 0.0 }
        })
        .collect()
}

/// Probability beyond |t| on both sides.
#[must_use]
pub fn two_sided(t: f64, freedom: f64) -> f64 {
    StudentsT::new(0.0, 1.0, freedom.max(1.0)).map_or(1.0, |s| 2.0 * s.cdf(-t.abs()))
}
