//! Linear least squares with the covariance of what it finds.

use nalgebra::{DMatrix, DVector};
use statrs::distribution::{ContinuousCDF, StudentsT};

/// What a fit found.
pub struct Fit {
    /// One for each column.
    pub values: Vec<f64>,
    /// Covariance of the values, for noise that is correlated as that of the residuals is.
    pub covariance: DMatrix<f64>,
    /// Root mean square of the residuals.
    pub residual: f64,
    /// Sum of squares of the residuals.
    pub squares: f64,
    /// Degrees of freedom that are left.
    pub freedom: f64,
}

impl Fit {
    /// Variance of a sum of the values with these weights.
    pub fn variance(&self, weights: &[f64]) -> f64 {
        let w = DVector::from_column_slice(weights);
        (w.transpose() * &self.covariance * &w)[(0, 0)].max(0.0)
    }

    /// The factor that makes a 95 % interval of a standard error (Student's t).
    pub fn t95(&self) -> f64 {
        StudentsT::new(0.0, 1.0, self.freedom.max(1.0)).map_or(1.96, |t| t.inverse_cdf(0.975))
    }
}

/// Fits `y` by a weighted sum of columns; `None` when they do not tell each other apart. The residuals may be correlated in
/// time: n of them are worth n · (1 − ρ)/(1 + ρ), ρ their correlation with their neighbours.
pub fn least_squares(columns: &[Vec<f64>], y: &[f64]) -> Option<Fit> {
    let (n, k) = (y.len(), columns.len());
    if n <= k {
        return None;
    }
    let x = DMatrix::from_fn(n, k, |i, j| columns[j][i]);
    let target = DVector::from_column_slice(y);
    let normal = x.transpose() * &x;
    // Columns that differ by less than rounding say nothing apart from each other.
    let scale: Vec<f64> = (0..k).map(|j| normal[(j, j)].sqrt().max(1e-300)).collect();
    let scaled = DMatrix::from_fn(k, k, |i, j| normal[(i, j)] / scale[i] / scale[j]);
    if scaled.clone().symmetric_eigenvalues().min() < 1e-9 {
        return None;
    }
    let inverse = scaled.try_inverse()?;
    let inverse = DMatrix::from_fn(k, k, |i, j| inverse[(i, j)] / scale[i] / scale[j]);
    let values = &inverse * (x.transpose() * &target);
    let residuals = &target - &x * &values;
    let squares = residuals.norm_squared();
    let near: f64 = residuals.as_slice().windows(2).map(|w| w[0] * w[1]).sum();
    let rho = (near / squares.max(1e-300)).clamp(0.0, 0.98);
    let worth = n as f64 * (1.0 - rho) / (1.0 + rho);
    let freedom = (worth - k as f64).max(1.0);
    let variance = squares / n as f64 * (1.0 + rho) / (1.0 - rho) * (worth / freedom);
    Some(Fit {
        values: values.as_slice().to_vec(),
        covariance: inverse * variance,
        residual: (squares / n as f64).sqrt(),
        squares,
        freedom,
    })
}

/// The place of the least value of a function between two bounds, by golden sections after a coarse look; `f` may give
/// infinity where it cannot be had.
pub fn least_between(low: f64, high: f64, f: impl Fn(f64) -> f64) -> f64 {
    const LOOKS: usize = 24;
    let at = |i: usize| low + (high - low) * i as f64 / LOOKS as f64;
    let best = (0..=LOOKS).min_by(|a, b| f(at(*a)).total_cmp(&f(at(*b)))).unwrap_or(0);
    let (mut a, mut b) = (at(best.saturating_sub(1)), at((best + 1).min(LOOKS)));
    let golden = 0.5 * (5f64.sqrt() - 1.0);
    for _ in 0..40 {
        let (c, d) = (b - golden * (b - a), a + golden * (b - a));
        if f(c) < f(d) { b = d } else { a = c }
    }
    0.5 * (a + b)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_is_found_with_its_error() {
        let x: Vec<f64> = (0..100).map(f64::from).collect();
        let noise = |i: usize| if i.is_multiple_of(2) { 0.1 } else { -0.1 };
        let y: Vec<f64> = x.iter().enumerate().map(|(i, x)| 3.0 + 0.5 * x + noise(i)).collect();
        let fit = least_squares(&[vec![1.0; 100], x], &y).unwrap();
        assert!((fit.values[0] - 3.0).abs() < 0.02 && (fit.values[1] - 0.5).abs() < 1e-3, "{:?}", fit.values);
        assert!((fit.residual - 0.1).abs() < 0.01);
        assert!(fit.variance(&[0.0, 1.0]).sqrt() < 1e-3);
        assert!((1.9..2.1).contains(&fit.t95()));
        assert!(least_squares(&[vec![1.0; 9], vec![2.0; 9]], &[1.0; 9]).is_none(), "columns that are alike");
        assert!((least_between(0.0, 10.0, |x| (x - 3.3).powi(2)) - 3.3).abs() < 1e-6);
    }
}
