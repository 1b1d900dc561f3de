//! Small statistics that readings, conclusions and the archive share.

use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};

/// Median by selection; the lower middle one of an even count. `None` when empty. Cost O(n); reorders `values`.
pub fn median(values: &mut [f64]) -> Option<f64> {
    quantile(values, 0.5)
}

/// The value at rank `floor(q · (n − 1))` of the sorted values, so always one that occurs. `None` when empty.
/// Cost O(n); reorders `values`. Values must not be NaN (they are ordered by `total_cmp` all the same).
pub fn quantile(values: &mut [f64], q: f64) -> Option<f64> {
    if values.is_empty() {
        return None;
    }
    let rank = ((values.len() - 1) as f64 * q.clamp(0.0, 1.0)).floor() as usize;
    Some(*values.select_nth_unstable_by(rank, f64::total_cmp).1)
}

/// Median and the standard deviation that a normal distribution with the same median absolute deviation would have
/// (factor 1.4826 = 1 / Φ⁻¹(3/4)). `None` when empty. Cost O(n); overwrites `values`.
pub fn median_and_spread(values: &mut [f64]) -> Option<(f64, f64)> {
    let m = median(values)?;
    values.iter_mut().for_each(|v| *v = (*v - m).abs());
    Some((m, median(values)? * 1.4826))
}

/// Tukey's biweight mean about a centre (one step; Mosteller and Tukey 1977, chapter 10): values beyond 6 σ do not count,
/// and for normal noise it is nearly as good as the mean, where the median is worth two thirds of its points. The centre
/// itself when nothing counts.
pub fn biweight_mean(values: &[f64], centre: f64, sigma: f64) -> f64 {
    let (mut sum, mut weights) = (0.0, 0.0);
    for v in values {
        let u = (v - centre) / (6.0 * sigma);
        let w = (1.0 - u * u).max(0.0).powi(2);
        sum += w * v;
        weights += w;
    }
    if weights > 0.0 { sum / weights } else { centre }
}

/// At most `most` values of a slice, evenly spaced, so that statistics of long segments stay cheap.
pub fn spaced(values: &[f32], most: usize) -> Vec<f64> {
    let step = values.len().div_ceil(most.max(1)).max(1);
    values.iter().step_by(step).map(|v| f64::from(*v)).collect()
}

/// A figure with its 95 % interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Interval {
    /// Best estimate.
    pub value: f64,
    /// Lower bound.
    pub low: f64,
    /// Upper bound; without one, JSON has `null`.
    #[serde(deserialize_with = "null_is_no_bound")]
    pub high: f64,
}

fn null_is_no_bound<'d, D: serde::Deserializer<'d>>(d: D) -> Result<f64, D::Error> {
    Ok(Option::<f64>::deserialize(d)?.unwrap_or(f64::INFINITY))
}

impl Interval {
    /// A value with the half width of its interval.
    #[must_use]
    pub const fn around(value: f64, half: f64) -> Self {
        Self { value, low: value - half, high: value + half }
    }

    /// Half the width.
    #[must_use]
    pub const fn half(&self) -> f64 {
        (self.high - self.low) / 2.0
    }

    /// The same with every bound changed by a monotonic function.
    #[must_use]
    pub fn map(&self, f: impl Fn(f64) -> f64) -> Self {
        let (a, b) = (f(self.low), f(self.high));
        Self { value: f(self.value), low: a.min(b), high: a.max(b) }
    }
}

/// So many standard errors to each side hold 95 %, with so many degrees of freedom (Student's t).
#[must_use]
pub fn student_975(freedom: f64) -> f64 {
    StudentsT::new(0.0, 1.0, freedom.max(1.0)).map_or(1.96, |t| t.inverse_cdf(0.975))
}

/// A mean over repeats.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Repeated {
    /// Mean of the repeats.
    pub mean: f64,
    /// Standard deviation; 0 of a single one.
    pub deviation: f64,
    /// Half the 95 % interval (Student t); `None` of a single one.
    pub interval: Option<f64>,
    /// How many.
    pub repeats: usize,
}

impl Repeated {
    /// Of some values; `None` of none.
    #[must_use]
    pub fn of(values: &[f64]) -> Option<Self> {
        let n = values.len() as f64;
        (!values.is_empty()).then_some(())?;
        let mean = values.iter().sum::<f64>() / n;
        if values.len() == 1 {
            return Some(Self { mean, deviation: 0.0, interval: None, repeats: 1 });
        }
        let deviation = (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
        let half = student_975(n - 1.0) * deviation / n.sqrt();
        Some(Self { mean, deviation, interval: Some(half), repeats: values.len() })
    }
}

/// Quantile of a histogram of (value, count).
#[must_use]
pub fn histogram_quantile(points: &[(u64, u64)], q: f64) -> Option<f64> {
    let all: u64 = points.iter().map(|p| p.1).sum();
    let wanted = ((all as f64 * q).ceil() as u64).max(1);
    let mut seen = 0;
    points.iter().find_map(|(value, count)| {
        seen += count;
        (seen >= wanted).then_some(*value as f64)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_answers() {
        assert_eq!(median(&mut [3.0, 1.0, 2.0]), Some(2.0));
        assert_eq!(median(&mut [4.0, 1.0, 2.0, 3.0]), Some(2.0));
        assert_eq!(median(&mut []), None);
        assert_eq!(quantile(&mut [5.0, 1.0, 3.0], 0.0), Some(1.0));
        assert_eq!(quantile(&mut [5.0, 1.0, 3.0], 1.0), Some(5.0));
        let (m, s) = median_and_spread(&mut [1.0, 2.0, 3.0, 4.0, 100.0]).unwrap();
        assert_eq!((m, s), (3.0, 1.4826));
        let mean = biweight_mean(&[1.0, 2.0, 3.0, 2.0, 100.0], 2.0, 1.0);
        assert!((mean - 2.0).abs() < 1e-9, "{mean}");
        assert_eq!(biweight_mean(&[], 5.0, 1.0), 5.0);
        assert_eq!(spaced(&[1.0, 2.0, 3.0, 4.0, 5.0], 2), [1.0, 4.0]);
    }

    #[test]
    fn student_by_hand() {
        // Mean 10, deviation 1, t(0.975; 4) = 2.776.
        let values = [9.0, 9.0, 10.0, 11.0, 11.0];
        let r = Repeated::of(&values).unwrap();
        assert!((r.mean - 10.0).abs() < 1e-12 && (r.deviation - 1.0).abs() < 1e-12);
        assert!((r.interval.unwrap() - 2.776_445 / 5f64.sqrt()).abs() < 1e-4, "{r:?}");
        assert_eq!(Repeated::of(&[3.0]).unwrap().interval, None);
        assert_eq!(Repeated::of(&[]), None);
    }

    #[test]
    fn quantiles_of_counts() {
        let points = [(1, 50), (2, 49), (9, 1)];
        assert_eq!(
            (histogram_quantile(&points, 0.5), histogram_quantile(&points, 0.99)),
            (Some(1.0), Some(2.0))
        );
        assert_eq!((histogram_quantile(&points, 1.0), histogram_quantile(&[], 0.5)), (Some(9.0), None));
    }
}
