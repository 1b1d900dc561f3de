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

/// The values of a side, and what is known of each of them apart from the others.
#[derive(Debug, Clone, Copy)]
pub struct Sample<'a> {
    /// One of each repeat.
    pub values: &'a [f64],
    /// Variance of a value by the interval that its haul gives it; 0 where there is none.
    pub own_variance: f64,
}

/// What two samples say of the difference of their means, before anything is called one.
#[derive(Debug, Clone, Copy)]
pub struct Compared {
    value: f64,
    error: f64,
    freedom: f64,
    /// Steps in which values are read: a difference of one says nothing.
    step: f64,
    /// Of samples without any spread: the smallest p that so many values can have.
    least_p: f64,
}

/// Sets two samples beside each other: Welch's error of a difference (B. L. Welch, Biometrika 34, 1947), degrees of freedom after Welch
/// and Satterthwaite. `None` with fewer than two values on a side.
///
/// A variance is never taken to be less than what the hauls themselves say of their values. `step` is that of the scale; readings
/// may be off by half of it, all in the same way, so it does not shrink with repeats.
#[must_use]
pub fn compare(first: Sample<'_>, second: Sample<'_>, step: f64) -> Option<Compared> {
    if first.values.len() < 2 || second.values.len() < 2 {
        return None;
    }
    let ((m1, v1), (m2, v2)) = (moments(first.values), moments(second.values));
    let (n1, n2) = (first.values.len() as f64, second.values.len() as f64);
    // Rounding spreads what falls on either side of an edge, too: by 1/√12 of a step.
    let rounding = step * step / 12.0;
    let (s1, s2) =
        (v1.max(first.own_variance).max(rounding) / n1, v2.max(second.own_variance).max(rounding) / n2);
    let error = (s1 + s2).sqrt();
    // Below the last digits of the numbers themselves nothing is a deviation.
    let spread = error > 1e-12 * m1.abs().max(m2.abs());
    let freedom = (s1 + s2).powi(2) / (s1 * s1 / (n1 - 1.0) + s2 * s2 / (n2 - 1.0));
    let ways = (1..=first.values.len()).fold(1.0, |c, k| c * (n2 + k as f64) / k as f64);
    Some(Compared {
        value: m2 - m1,
        error: if spread { error } else { 0.0 },
        freedom: if spread { freedom } else { n1 + n2 - 2.0 },
        step,
        least_p: if spread { 0.0 } else { 2.0 / ways },
    })
}

impl Compared {
    fn student(self) -> Option<StudentsT> {
        StudentsT::new(0.0, 1.0, self.freedom).ok()
    }

    /// The difference with its 95 % interval, and p for none (two-sided). Of values without any spread p is no less than a permutation
    /// of them can have.
    #[must_use]
    pub fn difference(self) -> Option<Difference> {
        let t = self.student()?;
        let half = t.inverse_cdf(0.975) * self.error + self.step;
        let beyond = (self.value.abs() - self.step).max(0.0);
        let p = if beyond <= 1e-12 * self.value.abs() {
            1.0
        } else if self.error == 0.0 {
            self.least_p.min(1.0)
        } else {
            2.0 * t.cdf(-beyond / self.error)
        };
        Some(Difference { value: self.value, low: self.value - half, high: self.value + half, p })
    }

    /// The same to within a margin: two one-sided tests at 5 % (D. J. Schuirmann, Journal of Pharmacokinetics and Biopharmaceutics 15, 1987).
    #[must_use]
    pub fn is_same_within(self, margin: f64) -> bool {
        self.error > 0.0
            && self
                .student()
                .is_some_and(|t| self.value.abs() + t.inverse_cdf(0.95) * self.error + self.step < margin)
    }

    /// The difference that so many repeats of this spread show four times in five.
    #[must_use]
    pub fn can_show(self) -> Option<f64> {
        let t = self.student()?;
        (self.error > 0.0).then(|| (t.inverse_cdf(0.975) + t.inverse_cdf(0.8)) * self.error + self.step)
    }
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

    fn of(values: &[f64]) -> Sample<'_> {
        Sample { values, own_variance: 0.0 }
    }

    fn welch(a: &[f64], b: &[f64], step: f64) -> Option<Difference> {
        compare(of(a), of(b), step)?.difference()
    }

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
    fn a_margin_and_what_repeats_can_show() {
        // Deviation 1 on both sides, three each: error √(2/3), four degrees of freedom.
        let c = compare(of(&[99.0, 100.0, 101.0]), of(&[99.5, 100.5, 101.5]), 0.0).unwrap();
        let error = (2.0f64 / 3.0).sqrt();
        assert!((c.can_show().unwrap() - (2.776_445 + 0.940_965) * error).abs() < 1e-4, "{c:?}");
        // 0.5 + 2.132 · 0.8165 = 2.24.
        assert!(!c.is_same_within(2.2) && c.is_same_within(2.3));
        // The hauls' own intervals say that each value is known to no better than 4.
        let doubtful = |values| Sample { values, own_variance: 16.0 };
        let c = compare(doubtful(&[99.0, 100.0, 101.0]), doubtful(&[99.5, 100.5, 101.5]), 0.0).unwrap();
        assert!((c.error - 16f64.sqrt() * error).abs() < 1e-9 && !c.is_same_within(5.0));
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
        assert!(welch(&[1.0], &[2.0, 3.0], 0.0).is_none());
        assert_eq!(welch(&[5.0, 5.0], &[5.0, 5.0], 0.0).unwrap().p, 1.0);
        // Two and two values without spread can be ordered in six ways: 2/6.
        assert!((welch(&[5.0, 5.0], &[6.0, 6.0], 0.0).unwrap().p - 1.0 / 3.0).abs() < 1e-12);
        assert!((welch(&[5.0; 5], &[6.0; 5], 0.0).unwrap().p - 2.0 / 252.0).abs() < 1e-12);
        // 61.49 and 61.51 °C read as 61 and 62, however often: a step of the sensor is no difference.
        for n in [2, 5, 50] {
            let d = welch(&vec![61.0; n], &vec![62.0; n], 1.0).unwrap();
            assert!(d.p == 1.0 && d.low <= 0.0, "{n}: {d:?}");
        }
        assert!(welch(&[61.0, 61.0, 62.0, 61.0], &[66.0, 66.0, 65.0, 66.0], 1.0).unwrap().p < 0.01);
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
