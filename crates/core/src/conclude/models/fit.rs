//! Linear least squares with the covariance of what it finds.

use crate::quantity::stats::student_975;

/// What a fit found.
pub struct Fit {
    /// One for each column.
    pub values: Vec<f64>,
    /// Covariance of the values, for noise that is correlated as that of the residuals is, row by row.
    covariance: Square,
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
        let row = |r: &Vec<f64>| dot(r, weights);
        self.covariance.iter().zip(weights).map(|(r, w)| w * row(r)).sum::<f64>().max(0.0)
    }

    /// The factor that makes a 95 % interval of a standard error (Student's t).
    pub fn t95(&self) -> f64 {
        student_975(self.freedom)
    }
}

/// A small square matrix, row by row.
type Square = Vec<Vec<f64>>;

fn square(k: usize, f: impl Fn(usize, usize) -> f64) -> Square {
    (0..k).map(|i| (0..k).map(|j| f(i, j)).collect()).collect()
}

/// In four sums, which go on at once.
fn dot(a: &[f64], b: &[f64]) -> f64 {
    let (a, b) = (&a[..a.len().min(b.len())], &b[..a.len().min(b.len())]);
    let mut sums = [0.0; 4];
    let (fours, others) = (a.chunks_exact(4).zip(b.chunks_exact(4)), a.len() / 4 * 4);
    for (a, b) in fours {
        (0..4).for_each(|k| sums[k] += a[k] * b[k]);
    }
    let rest: f64 = a[others..].iter().zip(&b[others..]).map(|(a, b)| a * b).sum();
    sums.iter().sum::<f64>() + rest
}

/// The inverse of a symmetric matrix by its eigenvalues, which Jacobi's rotations find (C. G. J. Jacobi, Crelle 30, 1846); `None`
/// when one of them is less than `least`.
fn inverse(mut a: Square, least: f64) -> Option<Square> {
    let k = a.len();
    let mut v = square(k, |i, j| f64::from(u8::from(i == j)));
    // Convergence is quadratic: a handful of sweeps for the sizes that occur here.
    for _ in 0..50 {
        let off: f64 = (0..k).flat_map(|i| (0..i).map(move |j| (i, j))).map(|(i, j)| a[i][j] * a[i][j]).sum();
        if off < 1e-30 {
            break;
        }
        for p in 0..k {
            for q in p + 1..k {
                if a[p][q] == 0.0 {
                    continue;
                }
                let theta = (a[q][q] - a[p][p]) / (2.0 * a[p][q]);
                let t = theta.signum() / (theta.abs() + theta.hypot(1.0));
                let c = 1.0 / t.hypot(1.0);
                let s = t * c;
                let turn = |x: &mut f64, y: &mut f64| (*x, *y) = (c * *x - s * *y, s * *x + c * *y);
                for row in a.iter_mut().chain(&mut v) {
                    let (mut x, mut y) = (row[p], row[q]);
                    turn(&mut x, &mut y);
                    (row[p], row[q]) = (x, y);
                }
                let (above, below) = a.split_at_mut(q);
                above[p].iter_mut().zip(&mut below[0]).for_each(|(x, y)| turn(x, y));
            }
        }
    }
    if (0..k).any(|i| a[i][i].is_nan() || a[i][i] < least) {
        return None;
    }
    Some(square(k, |i, j| (0..k).map(|e| v[i][e] * v[j][e] / a[e][e]).sum()))
}

/// Fits `y` by a weighted sum of columns; `None` when they do not tell each other apart. The residuals may be correlated in
/// time: n of them are worth n · (1 − ρ)/(1 + ρ), ρ their correlation with their neighbours.
pub fn least_squares(columns: &[Vec<f64>], y: &[f64]) -> Option<Fit> {
    let (n, k) = (y.len(), columns.len());
    if n <= k {
        return None;
    }
    let mut normal: Square = vec![vec![0.0; k]; k];
    for i in 0..k {
        for j in 0..=i {
            normal[i][j] = dot(&columns[i], &columns[j]);
            normal[j][i] = normal[i][j];
        }
    }
    // Columns that differ by less than rounding say nothing apart from each other.
    let scale: Vec<f64> = (0..k).map(|j| normal[j][j].sqrt().max(1e-300)).collect();
    let scaled = square(k, |i, j| normal[i][j] / scale[i] / scale[j]);
    let inverse = inverse(scaled, 1e-9)?;
    let inverse = square(k, |i, j| inverse[i][j] / scale[i] / scale[j]);
    let moments: Vec<f64> = columns.iter().map(|c| dot(c, y)).collect();
    let values: Vec<f64> = inverse.iter().map(|r| dot(r, &moments)).collect();
    let mut residuals = y.to_vec();
    for (column, value) in columns.iter().zip(&values) {
        residuals.iter_mut().zip(column).for_each(|(r, c)| *r -= c * value);
    }
    let squares = dot(&residuals, &residuals);
    let near = dot(&residuals[1..], &residuals);
    let rho = (near / squares.max(1e-300)).clamp(0.0, 0.98);
    let worth = n as f64 * (1.0 - rho) / (1.0 + rho);
    let freedom = (worth - k as f64).max(1.0);
    let variance = squares / n as f64 * (1.0 + rho) / (1.0 - rho) * (worth / freedom);
    Some(Fit {
        values,
        covariance: square(k, |i, j| inverse[i][j] * variance),
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
    golden(at(best.saturating_sub(1)), at((best + 1).min(LOOKS)), 40, f)
}

/// The place of the least value of a function with one valley between two bounds, by so many golden sections.
pub fn golden(low: f64, high: f64, sections: u32, f: impl Fn(f64) -> f64) -> f64 {
    let (mut a, mut b) = (low, high);
    let ratio = 0.5 * (5f64.sqrt() - 1.0);
    for _ in 0..sections {
        let (c, d) = (b - ratio * (b - a), a + ratio * (b - a));
        if f(c) < f(d) { b = d } else { a = c }
    }
    0.5 * (a + b)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_matrix_by_its_inverse_is_one() {
        // By hand: the inverse of [[2, 1], [1, 3]] is [[3, −1], [−1, 2]] / 5.
        let by_hand = inverse(vec![vec![2.0, 1.0], vec![1.0, 3.0]], 1e-9).unwrap();
        for (row, want) in by_hand.iter().zip([[0.6, -0.2], [-0.2, 0.4]]) {
            assert!(row.iter().zip(want).all(|(a, b)| (a - b).abs() < 1e-14), "{by_hand:?}");
        }
        assert!(inverse(vec![vec![1.0, 1.0], vec![1.0, 1.0]], 1e-9).is_none(), "singular");
        assert!(inverse(vec![vec![f64::NAN]], 1e-9).is_none());
    }

    proptest::proptest! {
        #[test]
        fn a_sum_of_columns_is_found_again(
            a in proptest::collection::vec(-1.0f64..1.0, 40), b in proptest::collection::vec(-1.0f64..1.0, 40),
            weights in proptest::array::uniform3(-10.0f64..10.0)
        ) {
            let columns = [vec![1.0; 40], a, b];
            let y: Vec<f64> = (0..40).map(|i| (0..3).map(|j| weights[j] * columns[j][i]).sum()).collect();
            let fit = least_squares(&columns, &y).unwrap();
            for (found, want) in fit.values.iter().zip(weights) {
                proptest::prop_assert!((found - want).abs() < 1e-8, "{:?} for {weights:?}", fit.values);
            }
        }
    }

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
