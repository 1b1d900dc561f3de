//! A plan for accepting a delivery by measuring some of its drives (in the spirit of ISO 3951-1, s-method; its numbers are computed from
//! the noncentral t, and none is copied): measure n drives, accept when the mean is at least k deviations on the good side of the limit.

use serde::Serialize;

use super::tolerance::{noncentral_t_cdf, normal_quantile};

/// What a plan shall do.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Aim {
    /// Share of drives beyond the limit at which a delivery is good, 0 to 1.
    pub good: f64,
    /// Risk that a good one is refused, 0 to 1.
    pub refused: f64,
    /// Share of drives beyond the limit at which it is bad.
    pub bad: f64,
    /// Risk that a bad one is accepted.
    pub accepted: f64,
}

impl Default for Aim {
    fn default() -> Self {
        Self { good: 0.005, refused: 0.05, bad: 0.05, accepted: 0.10 }
    }
}

/// A plan.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Plan {
    /// What it is made for.
    pub aim: Aim,
    /// Drives to be measured, drawn at random.
    pub drives: usize,
    /// Acceptable when (mean − limit) / deviation is at least this.
    pub factor: f64,
}

impl Plan {
    /// The smallest plan that does it; `None` where the aim is none (good not less than bad, risks that are no shares).
    #[must_use]
    pub fn of(aim: Aim) -> Option<Self> {
        let is_share = |p: f64| p > 0.0 && p < 0.5;
        if ![aim.good, aim.refused, aim.bad, aim.accepted].into_iter().all(is_share) || aim.good >= aim.bad {
            return None;
        }
        // With so many drives: the factor that lets no more than the stated share of bad deliveries through.
        let factor = |n: usize| {
            let level = super::Level { content: 1.0 - aim.bad, confidence: 1.0 - aim.accepted };
            super::tolerance::one_sided_factor(n, level)
        };
        let refused = |n: usize| {
            let root = (n as f64).sqrt();
            noncentral_t_cdf(factor(n) * root, n as f64 - 1.0, normal_quantile(1.0 - aim.good) * root)
        };
        let (mut low, mut high) = (1, 2);
        while refused(high) > aim.refused {
            (low, high) = (high, high * 2);
            if high > 10_000 {
                return None;
            }
        }
        while high - low > 1 {
            let middle = usize::midpoint(low, high);
            if refused(middle) > aim.refused {
                low = middle;
            } else {
                high = middle;
            }
        }
        Some(Self { aim, drives: high, factor: factor(high) })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_keeps_both_risks_and_one_drive_less_does_not() {
        let aim = Aim { good: 0.01, refused: 0.05, bad: 0.08, accepted: 0.10 };
        let plan = Plan::of(aim).unwrap();
        // Wallis's approximation (Techniques of Statistical Analysis, 1947): k = (2.326 · 1.2816 + 1.405 · 1.6449) / 2.9265 = 1.81,
        // n = (1 + k² / 2) · (2.9265 / 0.9213)² = 27.
        assert!((25..=29).contains(&plan.drives), "{plan:?}");
        assert!((plan.factor - 1.81).abs() < 0.03, "{plan:?}");
        let accepts = |n: usize, k: f64, beyond: f64| {
            let root = (n as f64).sqrt();
            1.0 - noncentral_t_cdf(k * root, n as f64 - 1.0, normal_quantile(1.0 - beyond) * root)
        };
        assert!(accepts(plan.drives, plan.factor, 0.01) >= 0.95);
        assert!(accepts(plan.drives, plan.factor, 0.08) <= 0.1001);
        assert_eq!(Plan::of(Aim { good: 0.1, bad: 0.05, ..aim }), None);
    }
}
