//! Small robust statistics that the analysis shares.

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
}
