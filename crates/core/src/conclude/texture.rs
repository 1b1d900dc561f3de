//! Rates that swing second by second, and are one level all the same: a drive that writes to the medium and tidies up in turns, or fills
//! small buffers one after the other.
//!
//! The segmenter cuts such a stretch into its swings. Here the swings are told by their order: up, down, up, for many times, each short,
//! the ups like each other and the downs too. The stretch is smoothed over some of its periods and weighed as one.

use std::ops::Range;

use crate::quantity::stats;

/// Swings of this length, on the median, are texture, s; no single one may be longer than three of them.
const SWING_S: f64 = 4.0;
/// So many swings up or down make a texture.
const LEAST_SWINGS: usize = 8;
/// What falls further, in ln, is no swing: it stalls.
const STALL: f64 = 1.6;
/// Their highs, and their lows, resemble each other to this share of the way between.
const ALIKE: f64 = 0.35;

/// Stretches that swing, in order, each with the length of a period in points.
pub fn stretches(
    points: &[f32],
    starts: &[usize],
    seconds: &dyn Fn(Range<usize>) -> f64,
) -> Vec<(Range<usize>, usize)> {
    let segments: Vec<Range<usize>> = starts
        .iter()
        .enumerate()
        .map(|(i, s)| *s..starts.get(i + 1).copied().unwrap_or(points.len()))
        .collect();
    let middles: Vec<f64> = segments
        .iter()
        .map(|s| stats::median(&mut stats::spaced(&points[s.clone()], 15)).unwrap_or(0.0))
        .collect();
    let short: Vec<bool> = segments.iter().map(|s| seconds(s.clone()) <= 3.0 * SWING_S).collect();
    let mut found = Vec::new();
    let mut i = 0;
    while i < segments.len() {
        if !short[i] {
            i += 1;
            continue;
        }
        let mut j = i + 1;
        while j < segments.len()
            && short[j]
            && (j < i + 2 || (middles[j] > middles[j - 1]) != (middles[j - 1] > middles[j - 2]))
        {
            j += 1;
        }
        if j - i >= LEAST_SWINGS && swings(&segments[i..j], &middles[i..j], seconds) {
            let whole = segments[i].start..segments[j - 1].end;
            let period = 2 * whole.len() / (j - i);
            // Noise breaks the order at times: what goes on right away is the same texture.
            match found.last_mut() {
                Some((last, _)) if last_end_is_near(last, &whole, period) => last.end = whole.end,
                _ => found.push((whole, period)),
            }
        }
        i = j.max(i + 1);
    }
    found
}

fn last_end_is_near(last: &Range<usize>, next: &Range<usize>, period: usize) -> bool {
    next.start - last.end <= 3 * period
}

fn swings(segments: &[Range<usize>], middles: &[f64], seconds: &dyn Fn(Range<usize>) -> f64) -> bool {
    let mut lengths: Vec<f64> = segments.iter().map(|s| seconds(s.clone())).collect();
    if stats::median(&mut lengths).is_none_or(|l| l > SWING_S) {
        return false;
    }
    let side = |first: usize| {
        let mut some: Vec<f64> = middles.iter().skip(first).step_by(2).copied().collect();
        stats::median_and_spread(&mut some).unwrap_or_default()
    };
    let ((a, spread_a), (b, spread_b)) = (side(0), side(1));
    spread_a.max(spread_b) < ALIKE * (a - b).abs() && (a - b).abs() < STALL
}

/// The points, smoothed over three periods of each stretch that swings: the mean of the rates, not of their logarithms.
pub fn smoothed(points: &[f32], stretches: &[(Range<usize>, usize)]) -> Vec<f32> {
    let mut out = points.to_vec();
    for (whole, period) in stretches {
        let top = points[whole.clone()].iter().copied().fold(f32::NEG_INFINITY, f32::max);
        let mut sums = vec![0.0f64];
        for v in &points[whole.clone()] {
            sums.push(sums[sums.len() - 1] + f64::from(*v - top).exp());
        }
        let half = (3 * period / 2).max(1);
        for k in 0..whole.len() {
            // The window keeps its length at the ends.
            let from = k.saturating_sub(half).min(whole.len().saturating_sub(2 * half + 1));
            let to = (from + 2 * half + 1).min(whole.len());
            let mean = (sums[to] - sums[from]) / (to - from) as f64;
            out[whole.start + k] = (mean.max(1e-9).ln()) as f32 + top;
        }
    }
    out
}

/// Starts without those within a stretch that swings.
pub fn without_inner(starts: &[usize], stretches: &[(Range<usize>, usize)]) -> Vec<usize> {
    let inner = |s: &usize| stretches.iter().any(|(w, _)| w.start < *s && *s < w.end);
    starts.iter().copied().filter(|s| !inner(s)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn swings_are_one_stretch_and_smooth_and_a_few_are_none() {
        let swing = |k: usize| if k % 20 < 10 { 21.0 } else { 20.0 };
        let points: Vec<f32> =
            (0..600).map(|k| if (200..400).contains(&k) { swing(k) } else { 20.5 }).collect();
        let starts: Vec<usize> = std::iter::once(0).chain((200..=400).step_by(10)).collect();
        let tenth = |r: Range<usize>| r.len() as f64 * 0.1;
        let found = stretches(&points, &starts, &tenth);
        assert_eq!(found, [(200..400, 20)]);
        assert_eq!(without_inner(&starts, &found), [0, 200, 400]);
        let smooth = smoothed(&points, &found);
        let mean = ((1.0 + f64::exp(-1.0)) / 2.0).ln() + 21.0;
        assert!((f64::from(smooth[300]) - mean).abs() < 0.02, "{}", smooth[300]);
        assert!(smooth[..200].iter().all(|v| *v == 20.5));
        // The same at a second a point are levels of ten seconds.
        assert!(stretches(&points, &starts, &|r| r.len() as f64).is_empty());
        assert!(stretches(&points, &[0, 200, 210, 220, 230], &tenth).is_empty());
    }
}
