//! Where one level gives way to the next little by little: level, slope, level, fitted to a stretch of rates. The rate is taken as it
//! is, not its logarithm: while a cache fills, the share of operations that it takes falls evenly, and so does their mean.
//!
//! The two knots are searched on bins of the stretch, and again on finer bins around what was found. For each pair of knots the two
//! levels follow by least squares from running sums, so a search costs some thousands of additions, however long the stretch.

use std::ops::Range;

use crate::quantity::stats;

/// Bins of one search.
const BINS: usize = 120;
/// Points of a bin that are looked at for its median.
const LOOKED_AT: usize = 15;
/// A slope of so few points is a step.
const LEAST_POINTS: f64 = 4.0;

/// Level, slope, level.
#[derive(Debug, Clone, PartialEq)]
pub struct Ramp {
    /// First and last point of the slope.
    pub points: Range<usize>,
    /// ln(rate) before and after.
    pub before: f64,
    /// See `before`.
    pub after: f64,
    /// Sum of squares that is left over, in units of the bins' noise, for this shape, for a step, and for a line that bends once.
    pub left: f64,
    /// See `left`.
    pub step: f64,
    /// See `left`: for two steps.
    pub steps: f64,
    /// The same on the whole stretch, for this shape and for a line that bends evenly.
    pub whole: f64,
    /// See `whole`.
    pub bow: f64,
}

impl Ramp {
    /// The slope explains what a step does not: the slope is longer than what separates two points.
    pub fn beats_a_step(&self) -> bool {
        self.points.len() as f64 >= LEAST_POINTS
            && self.step - self.left > 25.0
            && self.left < 0.7 * self.step
    }

    /// It explains more than two steps do.
    pub fn beats_two_steps(&self) -> bool {
        self.beats_a_step() && self.left < 0.9 * self.steps
    }

    /// Levels before and after the slope explain what a line does not, even one that bends evenly.
    pub fn beats_a_line(&self) -> bool {
        self.bow - self.whole > 30.0 && self.whole < 0.6 * self.bow
    }
}

/// Sums over the bins before each.
struct Sums {
    y: Vec<f64>,
    ky: Vec<f64>,
}

impl Sums {
    fn of(bins: &[f64]) -> Self {
        let (mut y, mut ky) = (vec![0.0], vec![0.0]);
        for (k, v) in bins.iter().enumerate() {
            y.push(y[k] + v);
            ky.push(ky[k] + k as f64 * v);
        }
        Self { y, ky }
    }

    fn count(&self) -> usize {
        self.y.len() - 1
    }

    /// The levels by least squares for a slope that begins after bin `i` and is over at bin `j`: before, and after.
    fn levels(&self, i: usize, j: usize) -> (f64, f64) {
        let (n, y) = (self.count() as f64, self.y[self.count()]);
        let (w, ww) = weights(i, j, self.count());
        let rise = (n * self.weighed(i, j) - w * y) / (n * ww - w * w);
        let before = (y - rise * w) / n;
        (before, before + rise)
    }

    /// Sum of the bins, each as much as it has of the rise.
    fn weighed(&self, i: usize, j: usize) -> f64 {
        let on_slope = self.ky[j] - self.ky[i + 1] - i as f64 * (self.y[j] - self.y[i + 1]);
        on_slope / (j - i) as f64 + self.y[self.count()] - self.y[j]
    }

    /// What a slope from bin `i` to bin `j` explains beyond one level. The rise r and the level b of least squares explain
    /// b Σy + r Σwy = (Σy)²/n + (n Σwy − Σw Σy)² / n (n Σw² − (Σw)²).
    fn slope(&self, i: usize, j: usize) -> f64 {
        let (n, y) = (self.count() as f64, self.y[self.count()]);
        let (w, ww) = weights(i, j, self.count());
        let along = n * self.weighed(i, j) - w * y;
        along * along / (n * (n * ww - w * w)).max(1e-9)
    }

    /// What two steps, at bins `i` and `j`, explain.
    fn two_steps(&self, i: usize, j: usize) -> f64 {
        let flat = |from: usize, to: usize| (self.y[to] - self.y[from]).powi(2) / (to - from) as f64;
        flat(0, i) + flat(i, j) + flat(j, self.count())
    }

    /// The slope that explains most, and how much of the sum of squares is explained by it, by the best step and by the best two.
    fn search(&self) -> Option<Found> {
        let n = self.count();
        let ((i, j), slope) = search(n, |i, j| self.slope(i, j))?;
        let (_, steps) = search(n, |i, j| self.two_steps(i, j))?;
        let step = (1..n - 2).map(|i| self.slope(i, i + 1)).fold(0.0, f64::max);
        let flat = self.y[n] * self.y[n] / n as f64;
        Some(Found { i, j, slope: flat + slope.max(step), step: flat + step, steps })
    }
}

/// Bins between the pairs of a first look.
const STRIDE: usize = 4;
/// The best of them are looked at again, bin by bin.
const AGAIN: usize = 3;

/// The pair i < j of bins 1 to n − 2 that explains most: every fourth is looked at, and all around the best of those. What a pair
/// explains changes little from one bin to the next.
fn search(n: usize, explains: impl Fn(usize, usize) -> f64) -> Option<((usize, usize), f64)> {
    let mut best: Vec<((usize, usize), f64)> = Vec::with_capacity(AGAIN + 1);
    let take = |best: &mut Vec<((usize, usize), f64)>, i: usize, j: usize, most: usize| {
        let value = explains(i, j);
        let at = best.partition_point(|b| b.1 >= value);
        if at < most {
            best.insert(at, ((i, j), value));
            best.truncate(most);
        }
    };
    for i in (1..n.saturating_sub(2)).step_by(STRIDE) {
        for j in (i + 1..n - 1).step_by(STRIDE) {
            take(&mut best, i, j, AGAIN);
        }
    }
    let mut finest = Vec::with_capacity(2);
    for ((i, j), _) in best {
        for near_i in i.saturating_sub(STRIDE - 1).max(1)..(i + STRIDE).min(n - 2) {
            for near_j in j.saturating_sub(STRIDE - 1).max(near_i + 1)..(j + STRIDE).min(n - 1) {
                take(&mut finest, near_i, near_j, 1);
            }
        }
    }
    finest.first().copied()
}

/// The slope of a search, and what of the sum of squares each shape explains.
struct Found {
    i: usize,
    j: usize,
    slope: f64,
    step: f64,
    steps: f64,
}

/// Σw and Σw² over the bins within a slope of so many bins: w is k/width for k from 1 to width − 1.
fn slope_weights(width: usize) -> (f64, f64) {
    let m = width.saturating_sub(1) as f64;
    (m / 2.0, (m * (m + 1.0) * (2.0 * m + 1.0) / 6.0) / (width.max(1) * width.max(1)) as f64)
}

/// Σw and Σw² over all bins: w is 0 up to `i`, rises on the slope, and is 1 from `j` on.
fn weights(i: usize, j: usize, n: usize) -> (f64, f64) {
    let (w, ww) = slope_weights(j - i);
    (w + (n - j) as f64, ww + (n - j) as f64)
}

/// What a straight line with an even bend leaves over.
fn bow(bins: &[f64]) -> f64 {
    let n = bins.len() as f64;
    // Orthogonal polynomials on the bins.
    let centre = (n - 1.0) / 2.0;
    let x: Vec<f64> = (0..bins.len()).map(|k| k as f64 - centre).collect();
    let mean_square = x.iter().map(|v| v * v).sum::<f64>() / n;
    let mean = bins.iter().sum::<f64>() / n;
    let mut left: f64 = bins.iter().map(|v| (v - mean).powi(2)).sum();
    for shape in [x.clone(), x.iter().map(|v| v * v - mean_square).collect::<Vec<f64>>()] {
        let length: f64 = shape.iter().map(|v| v * v).sum();
        let along: f64 = shape.iter().zip(bins).map(|(s, v)| s * v).sum();
        left -= along * along / length.max(1e-12);
    }
    left.max(0.0)
}

/// When a point begins, s of load since the run began: points are not all of one length, since those of a long run are coarser than those of its beginning.
pub type Clock<'a> = dyn Fn(usize) -> f64 + 'a;

/// First points of bins that last equally long, and the end of the last: each has a point at least.
fn edges(range: &Range<usize>, clock: &Clock<'_>) -> Vec<usize> {
    let count = range.len().min(BINS);
    let (from, to) = (clock(range.start), clock(range.end));
    let mut all = Vec::with_capacity(count + 1);
    let (mut low, mut last) = (range.start, None);
    for k in 0..=count {
        let due = from + (to - from) * k as f64 / count as f64;
        // The first point that begins then or later, to the nearest.
        let mut high = range.end;
        while low < high {
            let middle = low.midpoint(high);
            if clock(middle) < due { low = middle + 1 } else { high = middle }
        }
        if low > range.start && due - clock(low - 1) < clock(low) - due {
            low -= 1;
        }
        // A point for each bin before it, and one for each that follows.
        let edge = low.max(last.map_or(range.start, |l: usize| l + 1)).min(range.end - (count - k));
        all.push(edge);
        last = Some(edge);
        low = edge;
    }
    all
}

fn bins(points: &[f32], edges: &[usize]) -> Vec<f64> {
    let middle =
        |w: &[usize]| stats::median(&mut stats::spaced(&points[w[0]..w[1]], LOOKED_AT)).unwrap_or(0.0);
    edges.windows(2).map(middle).collect()
}

/// Points are looked through for dips in blocks of so many.
const BLOCK: usize = 256;
/// A dip is deeper than this, in ln: a third.
const DIP: f32 = 0.35;

/// The points with dips deeper than a third, and shorter than `window`, filled up to what is beside them: the morphological closing
/// (greatest of the window, then least of that; Serra 1982) keeps steps and slopes where they are.
///
/// Block by block: where nothing within reach of a block is so much lower than the rest, there is nothing to fill.
pub fn without_dips(points: &[f32], window: usize) -> Vec<f32> {
    let mut filled = points.to_vec();
    for from in (0..points.len()).step_by(BLOCK) {
        let block = from..(from + BLOCK).min(points.len());
        // What is closed at a point depends on half a window around the half around it.
        let near = block.start.saturating_sub(window)..(block.end + window).min(points.len());
        let (low, high) =
            points[near.clone()].iter().fold((f32::MAX, f32::MIN), |(l, h), v| (l.min(*v), h.max(*v)));
        if high - low <= DIP {
            continue;
        }
        let highest = slid(&points[near.clone()], window, |a, b| a >= b);
        let closed = slid(&highest, window, |a, b| a <= b);
        for i in block {
            let c = closed[i - near.start];
            if c - points[i] > DIP {
                filled[i] = c;
            }
        }
    }
    filled
}

/// For each place the value in the window around it that `wins` over all others.
fn slid(points: &[f32], window: usize, wins: fn(f32, f32) -> bool) -> Vec<f32> {
    let half = window / 2;
    let mut best: std::collections::VecDeque<usize> = std::collections::VecDeque::new();
    let mut out = Vec::with_capacity(points.len());
    let mut next = 0;
    for i in 0..points.len() {
        while next < points.len() && next <= i + half {
            while best.back().is_some_and(|b| wins(points[next], points[*b])) {
                best.pop_back();
            }
            best.push_back(next);
            next += 1;
        }
        while best.front().is_some_and(|b| b + half < i) {
            best.pop_front();
        }
        out.push(best.front().map_or(points[i], |b| points[*b]));
    }
    out
}

/// A slope of so many bins is seen well enough.
const WELL_SEEN: f64 = 20.0;

/// Fits level, slope, level to these points, and again nearer, so often at most; `None` of too few.
pub fn fit(points: &[f32], whole: Range<usize>, clock: &Clock<'_>, nearer: usize) -> Option<Ramp> {
    let first = fit_once(points, &whole, clock)?;
    // Again, nearer and nearer: where the slope is short against the bins.
    let (mut best, mut range) = (first.clone(), whole.clone());
    for _ in 0..nearer {
        let width = range.len() as f64 / BINS as f64;
        let slope = best.points.clone();
        let reach = (slope.len() as f64 * 1.5 + 12.0 * width.max(1.0)) as usize;
        let near = slope.start.saturating_sub(reach).max(whole.start)..(slope.end + reach).min(whole.end);
        let seen = range != whole && slope.len() as f64 > WELL_SEEN * width;
        if seen || width <= 1.0 || near.len() * 2 > range.len() {
            break;
        }
        let Some(finer) = fit_once(points, &near, clock) else { break };
        (best, range) = (finer, near);
    }
    Some(Ramp { whole: first.whole, bow: first.bow, ..best })
}

fn fit_once(points: &[f32], range: &Range<usize>, clock: &Clock<'_>) -> Option<Ramp> {
    if range.len() < 12 {
        return None;
    }
    let edges = edges(range, clock);
    let mut bins = bins(points, &edges);
    let n = bins.len();
    let top = bins.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    bins.iter_mut().for_each(|v| *v = (*v - top).exp());
    let sums = Sums::of(&bins);
    let all: f64 = bins.iter().map(|v| v * v).sum();
    let found = sums.search()?;
    let (i, j) = (found.i, found.j);
    let (before, after) = sums.levels(i, j);
    let [left, step, steps] =
        [found.slope, found.step, found.steps].map(|explained| (all - explained).max(0.0));
    let mut residuals: Vec<f64> = (0..n)
        .map(|k| {
            let w = ((k as f64 - i as f64) / (j - i) as f64).clamp(0.0, 1.0);
            (bins[k] - before - w * (after - before)).abs()
        })
        .collect();
    // Noise of a bin: correlated noise leaves more over in all shapes alike.
    let noise = (stats::median(&mut residuals).unwrap_or(0.0) / 0.6745).max(0.002).powi(2);
    // The middle of a bin.
    let at = |k: usize| edges[k].midpoint(edges[k + 1]);
    Some(Ramp {
        points: at(i)..(at(j) + 1).min(range.end),
        before: before.max(1e-4).ln() + top,
        after: after.max(1e-4).ln() + top,
        left: left / noise,
        step: step / noise,
        steps: steps / noise,
        whole: left / noise,
        bow: bow(&bins) / noise,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn made(n: usize, from: usize, to: usize, high: f64, low: f64) -> Vec<f32> {
        let wobble = |k: usize| 0.01 * ((k * 7919 % 13) as f64 / 6.0 - 1.0);
        let w = |k: usize| ((k as f64 - from as f64) / (to - from) as f64).clamp(0.0, 1.0);
        let rate = |k: usize| f64::exp(high) + w(k) * (f64::exp(low) - f64::exp(high));
        (0..n).map(|k| (rate(k).ln() + wobble(k)) as f32).collect()
    }

    /// Points of one length.
    fn even(point: usize) -> f64 {
        point as f64
    }

    #[test]
    fn bins_last_equally_long_whatever_their_points_do() {
        // A hundred points of a tenth of a second, then a hundred of a second: 110 s in 120 bins.
        let clock = |i: usize| if i <= 100 { i as f64 / 10.0 } else { 10.0 + (i - 100) as f64 };
        let all = edges(&(0..200), &clock);
        assert_eq!((all.len(), all[0], all[120]), (121, 0, 200));
        assert!(all.windows(2).all(|w| w[0] < w[1]), "{all:?}");
        assert_eq!(edges(&(3..300), &even)[60], 3 + 149, "half way");
        // Platters from 252 to 118 MB/s, of which the first hour is in finer points: a line that bends evenly, and no levels.
        let clock =
            |i: usize| if i <= 20_000 { i as f64 * 0.17 } else { 3400.0 + (i - 20_000) as f64 * 0.95 };
        let made: Vec<f32> = (0..40_000)
            .map(|i| {
                ((252e6f64 * (-clock(i) / 29_600.0).exp()).ln() + 0.01 * ((i * 7919 % 13) as f64 / 6.0 - 1.0))
                    as f32
            })
            .collect();
        assert!(!fit(&made, 0..40_000, &clock, 3).unwrap().beats_a_line());
    }

    #[test]
    fn a_slope_between_two_levels_is_found_with_its_knots() {
        for (n, from, to) in [(600, 200, 300), (3000, 1000, 2200), (20_000, 4000, 4100), (100, 40, 60)] {
            let r = fit(&made(n, from, to, 22.0, 21.0), 0..n, &even, 3).unwrap();
            assert!(r.beats_a_step() && r.beats_a_line(), "{n}: {r:?}");
            let off = (1.5 * n as f64 / BINS as f64).max(6.0);
            assert!((r.points.start as f64 - from as f64).abs() < off, "{n}: {r:?}");
            assert!((r.points.end as f64 - to as f64).abs() < off, "{n}: {r:?}");
            assert!((r.before - 22.0).abs() < 0.02 && (r.after - 21.0).abs() < 0.02, "{r:?}");
        }
    }

    #[test]
    fn a_step_is_no_slope_and_a_line_has_no_levels() {
        let step = fit(&made(400, 200, 201, 22.0, 21.0), 0..400, &even, 3).unwrap();
        assert!(!step.beats_a_step(), "{step:?}");
        let line = fit(&made(400, 0, 399, 22.0, 21.5), 0..400, &even, 3).unwrap();
        assert!(!line.beats_a_line(), "{line:?}");
        let flat = fit(&made(400, 0, 399, 22.0, 22.0), 0..400, &even, 3).unwrap();
        assert!(!flat.beats_a_line() && !flat.beats_a_step(), "{flat:?}");
    }
}
