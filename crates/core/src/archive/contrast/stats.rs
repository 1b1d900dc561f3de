//! Statistics of a comparison.

use serde::Serialize;
use statrs::distribution::{ContinuousCDF, StudentsT};

/// A difference of two means and how sure it is.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Difference {
    /// Mean of the second less mean of the first.
    pub value: f64,
    /// Lower end of its 95 % interval.
    pub low: f64,
    /// Upper end.
    pub high: f64,
    /// How likely so large a difference would be, were there none (two-sided).
    pub p: f64,
}

fn moments(values: &[f64]) -> (f64, f64) {
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    (mean, values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (n - 1.0))
}

/// Welch's test of two means whose variances may differ (B. L. Welch, Biometrika 34, 1947), degrees of freedom after
/// Welch and Satterthwaite. `None` with fewer than two values on a side.
///
/// `rounding` is the standard deviation that the scale itself adds to each value; a variance is never taken to be less.
/// Values that are all equal and have no rounding differ for certain or not at all.
#[must_use]
pub fn welch(first: &[f64], second: &[f64], rounding: f64) -> Option<Difference> {
    if first.len() < 2 || second.len() < 2 {
        return None;
    }
    let ((m1, v1), (m2, v2)) = (moments(first), moments(second));
    let least = rounding * rounding;
    let (n1, n2) = (first.len() as f64, second.len() as f64);
    let (s1, s2) = (v1.max(least) / n1, v2.max(least) / n2);
    let value = m2 - m1;
    let error = (s1 + s2).sqrt();
    // Below the last digits of the numbers themselves nothing is a deviation.
    if error <= 1e-12 * m1.abs().max(m2.abs()) {
        let p = if value.abs() <= 1e-9 * m1.abs().max(m2.abs()) { 1.0 } else { 0.0 };
        return Some(Difference { value, low: value, high: value, p });
    }
    let freedom = (s1 + s2).powi(2) / (s1 * s1 / (n1 - 1.0) + s2 * s2 / (n2 - 1.0));
    let t = StudentsT::new(0.0, 1.0, freedom).ok()?;
    let half = t.inverse_cdf(0.975) * error;
    let p = 2.0 * t.cdf(-(value / error).abs());
    Some(Difference { value, low: value - half, high: value + half, p })
}

/// Holm's correction for many tests at once (S. Holm, Scandinavian Journal of Statistics 6, 1979): each p as it counts when any
/// of them may be called a difference. In the order given.
#[must_use]
pub fn holm(ps: &[f64]) -> Vec<f64> {
    let mut order: Vec<usize> = (0..ps.len()).collect();
    order.sort_by(|a, b| ps[*a].total_cmp(&ps[*b]));
    let mut out = vec![1.0; ps.len()];
    let mut most = 0.0f64;
    for (rank, i) in order.iter().enumerate() {
        most = most.max(((ps.len() - rank) as f64 * ps[*i]).min(1.0));
        out[*i] = most;
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Values from scipy 1.17.1, `ttest_ind(b, a, equal_var=False)`.
    #[test]
    fn welch_by_a_known_answer() {
        let a = [19.8, 20.4, 19.6, 17.8, 18.5, 18.9, 18.3, 18.9, 19.5, 22.0];
        let b = [28.2, 26.6, 20.1, 23.3, 25.2, 22.1, 17.7, 27.6, 20.6, 13.7];
        let d = welch(&a, &b, 0.0).unwrap();
        assert!((d.value * 100.0 - 314.0).abs() < 1e-6 && (d.p - 0.064_279_997).abs() < 1e-6, "{d:?}");
        assert!((d.low + 0.223_994).abs() < 1e-5 && (d.high - 6.503_994).abs() < 1e-5, "{d:?}");
    }

    #[test]
    fn holm_by_hand() {
        let out = holm(&[0.01, 0.04, 0.03, 0.005]);
        let want = [0.03, 0.06, 0.06, 0.02];
        assert!(out.iter().zip(want).all(|(a, b)| (a - b).abs() < 1e-12), "{out:?}");
        assert_eq!(holm(&[]), Vec::<f64>::new());
        assert_eq!(holm(&[0.9, 0.9]), [1.0, 1.0]);
    }

    #[test]
    fn equal_values_and_whole_degrees() {
        assert_eq!(welch(&[1.0], &[2.0, 3.0], 0.0), None);
        assert_eq!(welch(&[5.0, 5.0], &[5.0, 5.0], 0.0).unwrap().p, 1.0);
        assert_eq!(welch(&[5.0, 5.0], &[6.0, 6.0], 0.0).unwrap().p, 0.0);
        // One whole degree apart, twice each: rounding alone may do that.
        assert!(welch(&[61.0, 61.0], &[62.0, 62.0], 0.288_675).unwrap().p > 0.05);
    }

    proptest! {
        #[test]
        fn the_other_way_round_is_the_other_sign(
            a in proptest::collection::vec(-1e6f64..1e6, 2..12), b in proptest::collection::vec(-1e6f64..1e6, 2..12)
        ) {
            let (d, e) = (welch(&a, &b, 0.0).unwrap(), welch(&b, &a, 0.0).unwrap());
            prop_assert!((d.value + e.value).abs() < 1e-6 && (d.p - e.p).abs() < 1e-9);
            prop_assert!(d.low <= d.value && d.value <= d.high && (0.0..=1.0).contains(&d.p));
            // Beyond the 5 % line is the same as zero outside of the interval.
            prop_assert!((d.p < 0.05) == (d.low > 0.0 || d.high < 0.0) || (d.p - 0.05).abs() < 1e-6);
        }

        #[test]
        fn holm_keeps_order_and_never_lessens(ps in proptest::collection::vec(0.0f64..1.0, 0..20)) {
            let out = holm(&ps);
            for i in 0..ps.len() {
                prop_assert!(out[i] >= ps[i] && out[i] <= 1.0);
                for j in 0..ps.len() {
                    prop_assert!(ps[i] > ps[j] || out[i] <= out[j]);
                }
            }
        }
    }
}
