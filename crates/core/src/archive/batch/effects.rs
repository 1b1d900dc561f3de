//! What drives of a batch differ by with what is stated of them: firmware, slot and every tag (lot, bench, purchase), and with time.

use serde::Serialize;

use super::layers::{OfDrive, two_sided};
use crate::archive::contrast::stats::{Sample, compare};
use crate::quantity::stats::student_975;

/// Levels of a thing, at most, that are compared: what has more of them is a name and no group.
const LEVELS: usize = 40;

/// A level of something that is stated, against the commonest of its levels.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Effect {
    /// Index of the figure.
    pub row: usize,
    /// What is stated: `firmware`, `slot`, `lot`.
    pub thing: String,
    /// This level of it.
    pub level: String,
    /// The commonest, with which it is compared.
    pub against: String,
    /// Drives at this level, and at the other.
    pub drives: (usize, usize),
    /// The same drives were measured at both levels, and each is compared with itself.
    pub paired: bool,
    /// Mean at this level less mean at the other, in the figure's unit.
    pub value: f64,
    /// Low end of its 95 % interval.
    pub low: f64,
    /// High end.
    pub high: f64,
    /// How likely so large a difference would be, were there none.
    pub p: f64,
    /// The same after Holm's correction over all that was asked of the batch.
    pub p_holm: f64,
}

/// How a figure moves with the time at which drives were first measured.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Drift {
    /// Index of the figure.
    pub row: usize,
    /// Change in 30 days, in the figure's unit.
    pub a_month: f64,
    /// Low end of its 95 % interval.
    pub low: f64,
    /// High end.
    pub high: f64,
    /// How likely, were there none.
    pub p: f64,
    /// After Holm's correction over all that was asked of the batch.
    pub p_holm: f64,
}

/// One haul of a figure: its drive, its value, what is stated of it.
#[derive(Debug, Clone)]
pub struct Stated<'a> {
    /// Index of the drive.
    pub drive: usize,
    /// The figure's value.
    pub value: f64,
    /// What is stated.
    pub facts: &'a [(String, String)],
}

/// Mean of each drive over the hauls of a level.
fn at_level(hauls: &[Stated<'_>], thing: &str, level: &str) -> Vec<(usize, f64)> {
    let is = |h: &&Stated<'_>| h.facts.iter().any(|(t, l)| t == thing && l == level);
    let mut sums: std::collections::BTreeMap<usize, (f64, f64)> = std::collections::BTreeMap::new();
    for haul in hauls.iter().filter(is) {
        let sum = sums.entry(haul.drive).or_default();
        *sum = (sum.0 + haul.value, sum.1 + 1.0);
    }
    sums.into_iter().map(|(drive, (sum, n))| (drive, sum / n)).collect()
}

/// Differences of drives with themselves, where at least three were measured at both levels.
fn paired(a: &[(usize, f64)], b: &[(usize, f64)], step: f64) -> Option<(f64, f64, f64)> {
    let gaps: Vec<f64> =
        a.iter().filter_map(|(d, v)| Some(v - b.iter().find(|(other, _)| other == d)?.1)).collect();
    if gaps.len() < 3 {
        return None;
    }
    let n = gaps.len() as f64;
    let mean = gaps.iter().sum::<f64>() / n;
    let variance = gaps.iter().map(|g| (g - mean).powi(2)).sum::<f64>() / (n - 1.0);
    let error = (variance.max(step * step / 12.0) / n).sqrt();
    if error <= 0.0 {
        return None;
    }
    Some((
        mean,
        student_975(n - 1.0) * error + step / 2.0,
        two_sided(mean.abs().max(step / 2.0) / error, n - 1.0),
    ))
}

/// All effects on a figure, `p_holm` not yet corrected. `step` is that of the scale.
#[must_use]
pub fn effects(row: usize, hauls: &[Stated<'_>], step: f64) -> Vec<Effect> {
    let mut things: Vec<&str> = hauls.iter().flat_map(|h| h.facts).map(|(t, _)| t.as_str()).collect();
    things.sort_unstable();
    things.dedup();
    let mut all = Vec::new();
    for thing in things {
        let mut levels: Vec<&str> =
            hauls.iter().flat_map(|h| h.facts).filter(|(t, _)| t == thing).map(|(_, l)| l.as_str()).collect();
        levels.sort_unstable();
        levels.dedup();
        if !(2..=LEVELS).contains(&levels.len()) {
            continue;
        }
        let mut groups: Vec<(&str, Vec<(usize, f64)>)> =
            levels.into_iter().map(|l| (l, at_level(hauls, thing, l))).collect();
        // The commonest first; of equals the first by name, so that the order of hauls does not matter.
        groups.sort_by_key(|(_, drives)| std::cmp::Reverse(drives.len()));
        let Some(((against, common), others)) = groups.split_first() else { continue };
        for (level, drives) in others {
            let mut effect = Effect {
                row,
                thing: thing.to_owned(),
                level: (*level).to_owned(),
                against: (*against).to_owned(),
                drives: (drives.len(), common.len()),
                paired: false,
                value: 0.0,
                low: 0.0,
                high: 0.0,
                p: 1.0,
                p_holm: 1.0,
            };
            if let Some((value, half, p)) = paired(drives, common, step) {
                effect = Effect { paired: true, value, low: value - half, high: value + half, p, ..effect };
            } else {
                // A drive that was measured at both says nothing here.
                let alone = |a: &[(usize, f64)], b: &[(usize, f64)]| -> Vec<f64> {
                    a.iter().filter(|(d, _)| b.iter().all(|(o, _)| o != d)).map(|d| d.1).collect()
                };
                let (own, other) = (alone(drives, common), alone(common, drives));
                let sample = |values| Sample { values, own_variance: 0.0 };
                let Some(test) = compare(sample(&other), sample(&own), step).and_then(|c| c.difference())
                else {
                    continue;
                };
                effect.drives = (own.len(), other.len());
                effect = Effect { value: test.value, low: test.low, high: test.high, p: test.p, ..effect };
            }
            all.push(effect);
        }
    }
    all
}

/// The slope of drives' values over the days at which each was first measured; `None` of too few, or all at once.
#[must_use]
pub fn drift(row: usize, drives: &[OfDrive], days: &[f64]) -> Option<Drift> {
    let points: Vec<(f64, f64)> = drives
        .iter()
        .filter_map(|d| Some((*days.get(d.drive)?, d.values.iter().sum::<f64>() / d.values.len() as f64)))
        .collect();
    let n = points.len() as f64;
    if points.len() < 8 {
        return None;
    }
    let (x, y) = (points.iter().map(|p| p.0).sum::<f64>() / n, points.iter().map(|p| p.1).sum::<f64>() / n);
    let spread: f64 = points.iter().map(|p| (p.0 - x).powi(2)).sum();
    // Within a day or so nothing drifts that is worth the name.
    if spread / n < 1.0 {
        return None;
    }
    let slope = points.iter().map(|p| (p.0 - x) * (p.1 - y)).sum::<f64>() / spread;
    let left: f64 = points.iter().map(|p| (p.1 - y - slope * (p.0 - x)).powi(2)).sum();
    let error = (left / (n - 2.0) / spread).sqrt();
    if error <= 0.0 {
        return None;
    }
    let (half, p) = (student_975(n - 2.0) * error, two_sided(slope / error, n - 2.0));
    let month = |v: f64| v * 30.0;
    Some(Drift {
        row,
        a_month: month(slope),
        low: month(slope - half),
        high: month(slope + half),
        p,
        p_holm: p,
    })
}
