//! Tolerance limits: bounds that a stated share of all such drives keeps, with a stated confidence.
//!
//! One-sided limits of a normal distribution by the noncentral t (ISO 16269-6:2014, annex for one-sided factors k), limits without a
//! distribution by order statistics (ISO 16269-6:2014, clause on distribution-free intervals; S. S. Wilks, Ann. Math. Stat. 12, 1941), and
//! limits of what drives truly are where each was measured more than once (generalised pivotal quantities: K. Krishnamoorthy and
//! T. Mathew, Technometrics 46, 2004, for one-way random models).

use statrs::distribution::{Binomial, ChiSquared, ContinuousCDF, DiscreteCDF, Normal};
use statrs::function::{erf, gamma::ln_gamma};

/// How much of what: the share of all drives that keeps a bound, and how sure that is.
#[derive(Debug, Clone, Copy, PartialEq, serde::Serialize)]
pub struct Level {
    /// Share of the drives, 0 to 1.
    pub content: f64,
    /// Confidence, 0 to 1.
    pub confidence: f64,
}

impl Default for Level {
    fn default() -> Self {
        Self { content: 0.99, confidence: 0.95 }
    }
}

/// More drives than this nobody buys to know.
pub const MOST: usize = 100_000;
/// Points of a numerical integral; even.
const POINTS: usize = 2000;

/// The standard normal distribution function.
#[must_use]
pub fn normal_cdf(z: f64) -> f64 {
    0.5 * erf::erfc(-z / std::f64::consts::SQRT_2)
}

/// The point below which a standard normal lies with probability `p`.
#[must_use]
pub fn normal_quantile(p: f64) -> f64 {
    Normal::standard().inverse_cdf(p)
}

/// Distribution function of the noncentral t at `t`, with `freedom` degrees and shift `delta`, by Simpson's rule over its definition:
/// T = (Z + δ) / S, with ν S² chi-squared of ν degrees.
#[must_use]
pub fn noncentral_t_cdf(t: f64, freedom: f64, delta: f64) -> f64 {
    let nu = freedom.max(1.0);
    let spread = 9.0 / (2.0 * nu).sqrt();
    let (from, to) = ((1.0 - spread).max(0.0), 1.0 + spread);
    let step = (to - from) / POINTS as f64;
    // ln of the density of S at s: 2 (ν/2)^(ν/2) / Γ(ν/2) · s^(ν−1) · e^(−ν s²/2).
    let constant = 2f64.ln() + nu / 2.0 * (nu / 2.0).ln() - ln_gamma(nu / 2.0);
    let at = |i: usize| {
        let s = from + step * i as f64;
        let power = if nu > 1.0 { (nu - 1.0) * s.ln() } else { 0.0 };
        (constant + power - nu * s * s / 2.0).exp() * normal_cdf(t * s - delta)
    };
    let inner: f64 = (1..POINTS).map(|i| if i % 2 == 1 { 4.0 } else { 2.0 } * at(i)).sum();
    ((at(0) + inner + at(POINTS)) * step / 3.0).clamp(0.0, 1.0)
}

/// Where a function that rises from below zero to above crosses it, between two bounds.
fn crossing(mut low: f64, mut high: f64, rises: impl Fn(f64) -> f64) -> f64 {
    for _ in 0..60 {
        let middle = f64::midpoint(low, high);
        if rises(middle) < 0.0 {
            low = middle;
        } else {
            high = middle;
        }
        if high - low < 1e-7 * high.abs().max(1.0) {
            break;
        }
    }
    f64::midpoint(low, high)
}

/// The factor k of a one-sided limit `mean − k · deviation` from `n` values of a normal distribution; infinite of fewer than two.
#[must_use]
pub fn one_sided_factor(n: usize, level: Level) -> f64 {
    if n < 2 {
        return f64::INFINITY;
    }
    let (root, z) = ((n as f64).sqrt(), normal_quantile(level.content));
    let gap = |k: f64| noncentral_t_cdf(k * root, n as f64 - 1.0, z * root) - level.confidence;
    let mut high = z.abs() + 1.0;
    while gap(high) < 0.0 && high < 1e5 {
        high *= 2.0;
    }
    crossing(-high, high, gap)
}

/// Which value, counted from the worst (1), is a limit without any distribution assumed, and the confidence that it truly has; `None`
/// where there are too few values.
#[must_use]
pub fn order_statistic(n: usize, level: Level) -> Option<(usize, f64)> {
    let worse = Binomial::new(1.0 - level.content, n as u64).ok()?;
    // Confidence of the r-th: that at least r of n lie below the true limit.
    let confidence = |r: usize| 1.0 - worse.cdf(r as u64 - 1);
    let most = (1..=n).take_while(|r| confidence(*r) >= level.confidence).last()?;
    Some((most, confidence(most)))
}

/// How many values are needed before the worst of them is a limit without any distribution assumed: 299 for 99 % and 95 %.
#[must_use]
pub fn values_without_distribution(level: Level) -> usize {
    ((1.0 - level.confidence).ln() / level.content.ln()).ceil() as usize
}

/// The share of all drives that the worst of `n` values bounds with this confidence, nothing assumed of the distribution.
#[must_use]
pub fn content_of_worst(n: usize, confidence: f64) -> f64 {
    (1.0 - confidence).powf(1.0 / n.max(1) as f64)
}

/// How many values are needed until the factor is as small as `margin`, that is (mean − bound) / deviation; `None` where no number
/// would do, as the share itself is not there.
#[must_use]
pub fn values_for_factor(margin: f64, level: Level) -> Option<usize> {
    if margin <= normal_quantile(level.content) || one_sided_factor(MOST, level) > margin {
        return None;
    }
    let (mut low, mut high) = (1, MOST);
    while high - low > 1 {
        let middle = usize::midpoint(low, high);
        if one_sided_factor(middle, level) > margin {
            low = middle;
        } else {
            high = middle;
        }
    }
    Some(high)
}

/// What repeats say of drives: means of drives about their centre, and repeats about the means.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Layers {
    /// Drives.
    pub drives: usize,
    /// Mean of the drives' means.
    pub mean: f64,
    /// Variance of the drives' means.
    pub variance_of_means: f64,
    /// Variance of a haul about its drive's mean; 0 where no drive has repeats.
    pub within: f64,
    /// Degrees of freedom of `within`: hauls less drives.
    pub within_freedom: usize,
    /// Mean of one over the number of hauls of each drive.
    pub share: f64,
}

/// Quantiles of chi-squared over its degrees, by a table: the limits need thousands of them.
struct Chi {
    table: Vec<(f64, f64)>,
}

impl Chi {
    fn new(freedom: f64) -> Option<Self> {
        let chi = ChiSquared::new(freedom).ok()?;
        let top = freedom + 12.0 * (2.0 * freedom).sqrt() + 30.0;
        // Denser near nought, where small degrees have their weight.
        let table = (0..=600)
            .map(|i| {
                let x = top * (f64::from(i) / 600.0).powi(2);
                (chi.cdf(x), x / freedom)
            })
            .collect();
        Some(Self { table })
    }

    fn quantile(&self, p: f64) -> f64 {
        let i = self.table.partition_point(|t| t.0 < p).clamp(1, self.table.len() - 1);
        let ((p0, x0), (p1, x1)) = (self.table[i - 1], self.table[i]);
        if p1 > p0 { x0 + (x1 - x0) * ((p - p0) / (p1 - p0)).clamp(0.0, 1.0) } else { x1 }
    }
}

/// The `i`-th number of van der Corput's sequence to a base: evenly spread over 0 to 1, and the same at every run.
fn spread_out(mut i: u32, base: u32) -> f64 {
    let (mut value, mut part) = (0.0, 1.0);
    while i > 0 {
        part /= f64::from(base);
        value += part * f64::from(i % base);
        i /= base;
    }
    value
}

/// Limits by repeats.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ByRepeats {
    /// A bound below which, or above which, no more than the rest of drives truly are.
    pub low: f64,
    /// The same to the other side.
    pub high: f64,
    /// 95 % interval of the standard deviation between drives.
    pub between: (f64, f64),
}

/// Limits of what drives truly are, their repeats' scatter taken away.
#[must_use]
pub fn by_repeats(layers: &Layers, level: Level) -> Option<ByRepeats> {
    const DRAWS: u32 = 4000;
    let drives = layers.drives as f64;
    let (means, within) = (Chi::new(drives - 1.0)?, Chi::new(layers.within_freedom as f64)?);
    let z = normal_quantile(level.content);
    let mut draws: Vec<(f64, f64)> = (1..=DRAWS)
        .map(|i| {
            // Of the means of drives: what they vary by is what drives vary by and a share of what repeats do.
            let total = layers.variance_of_means / means.quantile(spread_out(i, 2)).max(1e-300);
            let repeats = layers.within / within.quantile(spread_out(i, 3)).max(1e-300);
            let between = (total - layers.share * repeats).max(0.0).sqrt();
            let off = normal_quantile(spread_out(i, 5).clamp(1e-9, 1.0 - 1e-9)) * (total / drives).sqrt();
            (off, between)
        })
        .collect();
    let at = |values: &mut Vec<f64>, q: f64| crate::quantity::stats::quantile(values, q).unwrap_or(f64::NAN);
    let mut lows: Vec<f64> = draws.iter().map(|(off, d)| layers.mean + off - z * d).collect();
    let mut highs: Vec<f64> = draws.iter().map(|(off, d)| layers.mean + off + z * d).collect();
    let mut between: Vec<f64> = draws.drain(..).map(|d| d.1).collect();
    Some(ByRepeats {
        low: at(&mut lows, 1.0 - level.confidence),
        high: at(&mut highs, level.confidence),
        between: (at(&mut between, 0.025), at(&mut between, 0.975)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn factors_are_those_of_the_tables() {
        // ISO 16269-6:2014 and any handbook of quality: k for one-sided limits, deviation unknown.
        for (n, content, confidence, k) in [
            (10, 0.99, 0.95, 3.981),
            (2, 0.90, 0.95, 20.581),
            (5, 0.95, 0.95, 4.203),
            (20, 0.90, 0.95, 1.926),
            (50, 0.99, 0.99, 3.124),
            (10, 0.95, 0.90, 2.568),
        ] {
            let found = one_sided_factor(n, Level { content, confidence });
            assert!((found - k).abs() < 0.002, "{n} {content} {confidence}: {found}, {k} in the table");
        }
        let many = one_sided_factor(100_000, Level::default());
        assert!((many - 2.326).abs() < 0.02, "{many}");
        assert!(one_sided_factor(1, Level::default()).is_infinite());
    }

    #[test]
    fn without_a_distribution_it_takes_299_drives() {
        assert_eq!(values_without_distribution(Level::default()), 299);
        assert_eq!(order_statistic(298, Level::default()), None);
        let (rank, confidence) = order_statistic(299, Level::default()).unwrap();
        assert_eq!(rank, 1);
        assert!((confidence - 0.9505).abs() < 0.0002, "{confidence}");
        // 473 allow the second worst (99 %, 95 %).
        assert_eq!(order_statistic(473, Level::default()).map(|o| o.0), Some(2));
        assert_eq!(order_statistic(472, Level::default()).map(|o| o.0), Some(1));
        assert!((content_of_worst(59, 0.95) - 0.9505).abs() < 0.0005);
    }

    #[test]
    fn what_a_promise_needs_is_where_the_factor_meets_it() {
        let level = Level::default();
        let n = values_for_factor(3.981, level).unwrap();
        assert!((10..=11).contains(&n), "{n}");
        assert!(one_sided_factor(n, level) <= 3.981 && one_sided_factor(n - 1, level) > 3.98);
        assert_eq!(
            values_for_factor(2.3, level),
            None,
            "one in a hundred is below it however many are measured"
        );
    }

    #[test]
    fn central_t_is_a_special_case() {
        // 97.5 % of t with 9 degrees: 2.2622.
        assert!((noncentral_t_cdf(2.2622, 9.0, 0.0) - 0.975).abs() < 1e-4);
        assert!((noncentral_t_cdf(12.706, 1.0, 0.0) - 0.975).abs() < 1e-3);
    }
}
