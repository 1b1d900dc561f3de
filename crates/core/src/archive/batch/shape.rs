//! Whether values look normal (Anderson and Darling's A², mean and deviation estimated; R. B. D'Agostino and M. A. Stephens, Goodness-of-Fit
//! Techniques, 1986, table 4.9), and which of them do not belong (generalised extreme Studentized deviate: B. Rosner, Technometrics 25, 1983).

use serde::Serialize;
use statrs::distribution::{ContinuousCDF, StudentsT};

use super::tolerance::normal_cdf;

/// Fewer values are called neither normal nor odd.
pub const LEAST: usize = 8;

/// What shape the drives' values have.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shape {
    /// Nothing speaks against a normal distribution.
    Normal,
    /// Not normal.
    NotNormal,
    /// All the same.
    Same,
    /// Steps of the scale too coarse to see a shape.
    Coarse,
    /// Too few drives to say; taken as normal.
    TooFew,
}

fn moments(values: &[f64]) -> (f64, f64) {
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    (mean, (values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt())
}

/// Probability of values so far from normal, were they normal; `None` of too few, or without any spread.
#[must_use]
pub fn normality_p(values: &[f64]) -> Option<f64> {
    if values.len() < LEAST {
        return None;
    }
    let (mean, deviation) = moments(values);
    if deviation <= 1e-12 * mean.abs() {
        return None;
    }
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let n = sorted.len();
    let p = |i: usize| normal_cdf((sorted[i] - mean) / deviation).clamp(1e-15, 1.0 - 1e-15);
    let sum: f64 = (0..n).map(|i| (2 * i + 1) as f64 * (p(i).ln() + (1.0 - p(n - 1 - i)).ln())).sum();
    let n = n as f64;
    let a = (-n - sum / n) * (1.0 + 0.75 / n + 2.25 / (n * n));
    Some(match a {
        a if a >= 0.6 => (1.2937 - 5.709 * a + 0.0186 * a * a).exp(),
        a if a > 0.34 => (0.9177 - 4.279 * a - 1.38 * a * a).exp(),
        a if a > 0.2 => 1.0 - (-8.318 + 42.796 * a - 59.938 * a * a).exp(),
        a => 1.0 - (-13.436 + 101.14 * a - 223.73 * a * a).exp(),
    })
}

/// The shape of values read in steps of `step`.
#[must_use]
pub fn shape(values: &[f64], step: f64) -> Shape {
    if values.len() > 1 && values.iter().all(|v| *v == values[0]) {
        return Shape::Same;
    }
    if values.len() < LEAST {
        return Shape::TooFew;
    }
    // Steps of more than half a deviation are seen by the test as peaks.
    if step > moments(values).1 / 2.0 {
        return Shape::Coarse;
    }
    // Asked of every figure and every level: at 5 % one in twenty would be refused for nothing.
    if normality_p(values).is_some_and(|p| p < 0.01) { Shape::NotNormal } else { Shape::Normal }
}

impl Shape {
    /// A normal distribution is gone by.
    #[must_use]
    pub const fn is_taken_as_normal(self) -> bool {
        !matches!(self, Self::NotNormal | Self::Same)
    }
}

/// Indices of values that do not belong to a normal batch, at most `most` of them, the oddest first; `level` is the chance of any
/// where there is none.
#[must_use]
pub fn odd_ones(values: &[f64], most: usize, level: f64) -> Vec<usize> {
    if values.len() < LEAST {
        return Vec::new();
    }
    let n = values.len();
    let mut left: Vec<usize> = (0..n).collect();
    let (mut taken, mut odd) = (Vec::new(), 0);
    for i in 1..=most.min(n.saturating_sub(4)) {
        let now: Vec<f64> = left.iter().map(|j| values[*j]).collect();
        let (mean, deviation) = moments(&now);
        if deviation <= 1e-12 * mean.abs() {
            break;
        }
        let gap = |j: &usize| (values[*j] - mean).abs() / deviation;
        let Some(at) = (0..left.len()).max_by(|a, b| gap(&left[*a]).total_cmp(&gap(&left[*b]))) else {
            break;
        };
        let furthest = gap(&left[at]);
        taken.push(left.swap_remove(at));
        let rest = (n - i + 1) as f64;
        let p = 1.0 - level / (2.0 * rest);
        let t = StudentsT::new(0.0, 1.0, rest - 2.0).map_or(f64::INFINITY, |t| t.inverse_cdf(p));
        if furthest > (rest - 1.0) * t / ((rest - 2.0 + t * t) * rest).sqrt() {
            odd = i;
        }
    }
    taken.truncate(odd);
    taken
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The 54 values of Rosner's own example (1983): three do not belong, at 5 %.
    const ROSNER: [f64; 54] = [
        -0.25, 0.68, 0.94, 1.15, 1.20, 1.26, 1.26, 1.34, 1.38, 1.43, 1.49, 1.49, 1.55, 1.56, 1.58, 1.65,
        1.69, 1.70, 1.76, 1.77, 1.81, 1.91, 1.94, 1.96, 1.99, 2.06, 2.09, 2.10, 2.14, 2.15, 2.23, 2.24, 2.26,
        2.35, 2.37, 2.40, 2.47, 2.54, 2.62, 2.64, 2.90, 2.92, 2.92, 2.93, 3.21, 3.26, 3.30, 3.59, 3.68, 4.30,
        4.64, 5.34, 5.42, 6.01,
    ];

    #[test]
    fn rosners_example_has_three_odd_ones() {
        let odd: Vec<f64> = odd_ones(&ROSNER, 10, 0.05).into_iter().map(|i| ROSNER[i]).collect();
        assert_eq!(odd, [6.01, 5.42, 5.34]);
    }

    #[test]
    fn two_alike_do_not_hide_each_other() {
        let mut values: Vec<f64> = (0..40).map(|i| f64::from(i % 10)).collect();
        values.extend([60.0, 61.0]);
        let mut odd = odd_ones(&values, 5, 0.05);
        odd.sort_unstable();
        assert_eq!(odd, [40, 41]);
        assert!(odd_ones(&values[..40], 5, 0.05).is_empty());
        assert!(odd_ones(&[1.0, 1.0, 90.0], 1, 0.05).is_empty(), "three are too few");
    }

    #[test]
    fn shapes_are_told_apart() {
        let quantiles = |f: fn(f64) -> f64| -> Vec<f64> {
            (0..100)
                .map(|i| f(super::super::tolerance::normal_quantile((f64::from(i) + 0.5) / 100.0)))
                .collect()
        };
        assert_eq!(shape(&quantiles(|z| 1000.0 + 20.0 * z), 0.0), Shape::Normal);
        assert_eq!(shape(&quantiles(|z| z.exp()), 0.0), Shape::NotNormal);
        assert_eq!(shape(&quantiles(|z| (60.0 + 0.8 * z).round()), 1.0), Shape::Coarse);
        assert_eq!(shape(&[5.0; 20], 0.0), Shape::Same);
        assert_eq!(shape(&[5.0; 2], 0.0), Shape::Same);
        assert_eq!(shape(&[1.0, 2.0], 0.0), Shape::TooFew);
    }
}
