//! Slow stretches: runs of bins well below the trend around them, seen by most passes, and again when they were visited
//! once more together with what lies beside them.
//!
//! The trend is robust and local: a Theil–Sen line through medians of blocks of bins takes the fall from the outer to
//! the inner tracks, a running median what is left. All is done in the logarithm of the rate, where noise is about the
//! same at every speed.

use serde::{Deserialize, Serialize};

use crate::quantity::units::{Bytes, Rate};
use crate::readings::{Grid, Scans};
use crate::record::Task;

/// A stretch is slow below this share of the trend.
const SLOW: f64 = 0.8;
/// Bins that stand beyond this share on the slow side belong to it.
const EDGE: f64 = 0.88;
/// Visited again, it must still be slower than what lies beside it by this.
const AGAIN: f64 = 0.85;
/// Noise of a smoothed bin, at most, so that a single one does not cross the line by chance.
const CALM: f64 = 0.03;
/// Standard deviations that the mean of a stretch lies below the trend at least.
const BEYOND: f64 = 6.0;
/// Time that a stretch costs over the trend at least, in each pass that counts, s: less is the start of a pass, or a late
/// wake-up of the host.
const LEAST_LOST_S: f64 = 0.01;
/// Blocks of bins for the trend, and how many of them the running median looks at.
const BLOCKS: usize = 128;
const WINDOW: usize = 33;

/// A run of slow bins, before it is visited again.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Candidate {
    /// First byte.
    pub from: u64,
    /// One past the last.
    pub to: u64,
    /// Mean of the logarithm of its rate over the trend: below zero.
    pub depth: f64,
}

/// A slow stretch.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Stretch {
    /// First byte.
    pub position_bytes: u64,
    /// One past the last.
    pub position_end_bytes: u64,
    /// Rate in it, MB/s.
    pub inside_mb_s: f64,
    /// Rate of the trend there, or of what lies beside it when it was visited again, MB/s.
    pub beside_mb_s: f64,
    /// Longest operation in it, µs.
    pub worst_us: u32,
    /// Failed operations in it.
    pub errors: u64,
    /// Passes that saw it.
    pub seen: u16,
    /// Passes there were.
    pub passes: u16,
    /// Slow again when visited again: `None` when it was not visited.
    pub again: Option<bool>,
}

/// What a scan says of the ground.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GroundSurvey {
    /// First byte that was scanned.
    pub start_bytes: u64,
    /// One past the last.
    pub end_bytes: u64,
    /// Bytes of a bin.
    pub bin_bytes: u64,
    /// How much of each pass is done, 0 to 1.
    pub passes: Vec<f64>,
    /// Mean rate over all passes, MB/s.
    pub mean_mb_s: f64,
    /// Rate of the first thirty-second of the region over that of the last.
    pub first_over_last: Option<f64>,
    /// Standard deviation of a bin's rate around the trend, as a share.
    pub noise: f64,
    /// In the order of their place; those that were not slow again are among them.
    pub stretches: Vec<Stretch>,
}

fn median(values: &mut [f64]) -> Option<f64> {
    let n = values.len();
    let middle = n.checked_sub(1)? / 2;
    values.select_nth_unstable_by(middle, f64::total_cmp);
    Some(values[middle])
}

/// The trend of the logarithm of the rate at every bin; `None` without a bin that was seen.
fn trend(logs: &[Option<f64>]) -> Option<Vec<f64>> {
    let size = logs.len().div_ceil(BLOCKS).max(1);
    let mut blocks: Vec<(f64, f64)> = Vec::new();
    for (i, block) in logs.chunks(size).enumerate() {
        let mut seen: Vec<f64> = block.iter().flatten().copied().collect();
        if let Some(m) = median(&mut seen) {
            blocks.push(((i * size) as f64 + block.len() as f64 / 2.0, m));
        }
    }
    let mut slopes: Vec<f64> = Vec::with_capacity(blocks.len() * blocks.len() / 2);
    for (i, a) in blocks.iter().enumerate() {
        slopes.extend(blocks[i + 1..].iter().map(|b| (b.1 - a.1) / (b.0 - a.0)));
    }
    let slope = median(&mut slopes).unwrap_or(0.0);
    let left: Vec<f64> = blocks.iter().map(|(x, y)| y - slope * x).collect();
    let half = WINDOW / 2;
    let running: Vec<f64> = (0..left.len())
        .map(|i| {
            // At the ends it looks further inwards: a stretch there must not become its own trend.
            let from = i.saturating_sub(half).min(left.len().saturating_sub(WINDOW));
            let mut near = left[from..(from + WINDOW).min(left.len())].to_vec();
            median(&mut near).unwrap_or(left[i])
        })
        .collect();
    (!blocks.is_empty()).then_some(())?;
    let mut at = 0;
    Some(
        (0..logs.len())
            .map(|i| {
                let x = i as f64 + 0.5;
                while at + 1 < blocks.len() && blocks[at + 1].0 < x {
                    at += 1;
                }
                let (a, b) = (blocks[at], blocks.get(at + 1).copied().unwrap_or(blocks[at]));
                let share = if b.0 > a.0 { ((x - a.0) / (b.0 - a.0)).clamp(0.0, 1.0) } else { 0.0 };
                let next = running.get(at + 1).copied().unwrap_or(running[at]);
                slope * x + running[at] + share * (next - running[at])
            })
            .collect(),
    )
}

/// Robust standard deviation from the differences of neighbours.
fn noise(values: &[Option<f64>]) -> f64 {
    let pairs = values.windows(2).filter_map(|w| Some((w[1]? - w[0]?).abs()));
    let mut steps: Vec<f64> = pairs.collect();
    median(&mut steps).map_or(0.01, |m| (m / 0.954).max(0.003))
}

/// What all passes together say of each bin: so slow, or slower, in two of three passes.
struct Residuals {
    combined: Vec<Option<f64>>,
    passes: Vec<Vec<Option<f64>>>,
    trend: Vec<f64>,
    sigma: f64,
}

fn residuals(grids: &[Grid]) -> Option<Residuals> {
    let bins = grids.first()?.bins.len();
    let mut passes = Vec::new();
    let mut trends: Vec<Vec<f64>> = Vec::new();
    for grid in grids.iter().filter(|g| g.bins.len() == bins) {
        let logs: Vec<Option<f64>> = grid.bins.iter().map(|b| b.rate().map(f64::ln)).collect();
        let Some(trend) = trend(&logs) else { continue };
        passes.push(logs.iter().zip(&trend).map(|(l, t)| l.map(|l| l - t)).collect::<Vec<_>>());
        trends.push(trend);
    }
    let combined: Vec<Option<f64>> = (0..bins)
        .map(|i| {
            let mut seen: Vec<f64> = passes.iter().filter_map(|p| p[i]).collect();
            seen.sort_unstable_by(f64::total_cmp);
            let most = (seen.len() * 2).div_ceil(3);
            seen.get(most.checked_sub(1)?).copied()
        })
        .collect();
    let sigma = noise(&combined);
    let trend = (0..bins).map(|i| trends.iter().map(|t| t[i]).sum::<f64>() / trends.len() as f64).collect();
    (!passes.is_empty()).then_some(Residuals { combined, passes, trend, sigma })
}

/// A mean over `width` bins around each, of those that were seen.
fn smooth(values: &[Option<f64>], width: usize) -> Vec<Option<f64>> {
    if width <= 1 {
        return values.to_vec();
    }
    let mut sums = vec![(0.0, 0usize); values.len() + 1];
    for (i, v) in values.iter().enumerate() {
        sums[i + 1] = (sums[i].0 + v.unwrap_or(0.0), sums[i].1 + usize::from(v.is_some()));
    }
    let half = width / 2;
    (0..values.len())
        .map(|i| {
            let (a, b) = (sums[i.saturating_sub(half)], sums[(i + half + 1).min(values.len())]);
            (b.1 > a.1).then(|| (b.0 - a.0) / (b.1 - a.1) as f64)
        })
        .collect()
}

/// The edge between two levels near a guess: where the squares around both are least.
fn edge(
    values: &[Option<f64>],
    range: std::ops::Range<usize>,
    falls: bool,
    inside: f64,
    outside: f64,
) -> usize {
    let (before, after) = if falls { (outside, inside) } else { (inside, outside) };
    // A stall weighs no more than a slow bin: it must not pull the edge towards itself.
    let bounded = |v: f64| v.clamp(inside.min(outside) * 1.3 - 0.02, inside.max(outside) + 0.2);
    let loss = |v: Option<f64>, level: f64| v.map_or(0.0, |v| (bounded(v) - level).powi(2));
    let mut cost: f64 = values[range.clone()].iter().map(|v| loss(*v, after)).sum();
    let (mut best, mut least) = (range.start, cost);
    for i in range {
        cost += loss(values[i], before) - loss(values[i], after);
        if cost < least {
            (best, least) = (i + 1, cost);
        }
    }
    best
}

/// Sharpens a rough run of slow bins to its edges; gives them and the mean inside.
fn sharpen(values: &[Option<f64>], from: usize, to: usize, reach: usize) -> (usize, usize, f64) {
    let mean = |range: std::ops::Range<usize>| {
        let mut seen: Vec<f64> = values[range].iter().flatten().copied().collect();
        median(&mut seen)
    };
    let (mut from, mut to) = (from, to);
    let mut level = mean(from..to).unwrap_or(0.0);
    for _ in 0..2 {
        let middle = usize::midpoint(from, to);
        from =
            edge(values, from.saturating_sub(reach)..(from + reach).min(middle).max(from), true, level, 0.0);
        let last = (to + reach).min(values.len());
        to = edge(
            values,
            to.saturating_sub(reach).max(middle).max(from + 1).min(last)..last,
            false,
            level,
            0.0,
        );
        level = mean(from..to.max(from + 1)).unwrap_or(level);
    }
    (from, to.max(from + 1), level)
}

/// A run of slow bins: from, to, mean of the logarithm over the trend.
type Run = (usize, usize, f64);

/// Runs of bins that are slow when `width` of them are taken together.
fn runs(r: &Residuals, width: usize) -> Vec<Run> {
    let mut rough: Vec<(usize, usize)> = Vec::new();
    for (i, v) in smooth(&r.combined, width).iter().enumerate() {
        if v.is_some_and(|v| v < EDGE.ln()) {
            match rough.last_mut() {
                // One bin between two slow ones belongs to them.
                Some(run) if run.1 + 1 >= i => run.1 = i + 1,
                _ => rough.push((i, i + 1)),
            }
        }
    }
    let mut runs: Vec<Run> = Vec::new();
    for (from, to) in rough {
        let (from, to, _) = sharpen(&r.combined, from, to, width + 1);
        let inside: Vec<f64> = r.combined[from..to].iter().flatten().copied().collect();
        let n = inside.len() as f64;
        let mean = inside.iter().sum::<f64>() / n.max(1.0);
        if inside.is_empty() || mean > SLOW.ln() || -mean * n.sqrt() < BEYOND * r.sigma {
            continue;
        }
        match runs.last_mut() {
            Some(last) if last.1 >= from => last.1 = to,
            _ => runs.push((from, to, mean)),
        }
    }
    runs
}

/// Time that a run of bins costs over the trend, s: at least so much in two of three passes.
fn lost_s(grids: &[Grid], trend: &[f64], from: usize, to: usize) -> f64 {
    let mut lost: Vec<f64> = grids
        .iter()
        .filter(|g| g.bins.len() == trend.len())
        .map(|g| {
            let bins = g.bins[from..to].iter().zip(&trend[from..to]);
            bins.map(|(b, t)| f64::from(b.seconds) - f64::from(b.bytes) / t.exp()).sum()
        })
        .collect();
    lost.sort_unstable_by(f64::total_cmp);
    lost.get(lost.len() / 3).copied().unwrap_or(0.0)
}

/// Runs of bins that are slow in two of three passes.
///
/// Noise asks for many bins taken together, but a short deep stretch would drown in that: so it is looked for at every
/// width up to the one that calms the noise, and of what overlaps the clearest is kept.
#[must_use]
pub fn candidates(grids: &[Grid]) -> Vec<Candidate> {
    let Some(r) = residuals(grids) else { return Vec::new() };
    let grid = &grids[0];
    let calm = ((r.sigma / CALM).powi(2).ceil() as usize).clamp(1, r.combined.len() / 8 + 1) | 1;
    let widths = std::iter::successors(Some(1), |w| (*w < calm).then(|| (w * 3).min(calm)));
    let mut all: Vec<Run> = widths.flat_map(|w| runs(&r, w)).collect();
    all.retain(|(from, to, _)| lost_s(grids, &r.trend, *from, *to) > LEAST_LOST_S);
    let clear = |(from, to, mean): &Run| -mean * ((to - from) as f64).sqrt();
    all.sort_by(|a, b| clear(b).total_cmp(&clear(a)));
    let mut kept: Vec<Run> = Vec::new();
    for run in all {
        if kept.iter().all(|k| run.1 <= k.0 || run.0 >= k.1) {
            kept.push(run);
        }
    }
    kept.sort_unstable_by_key(|run| run.0);
    let candidate = |(from, to, depth)| Candidate { from: grid.address(from), to: grid.address(to), depth };
    kept.into_iter().map(candidate).collect()
}

/// What a visit again says: edges, rates inside and beside in bytes per second.
fn visited(grid: &Grid, from: u64, to: u64) -> Option<(u64, u64, f64, f64)> {
    let logs: Vec<Option<f64>> = grid.bins.iter().map(|b| b.rate().map(f64::ln)).collect();
    let (a, b) = (grid.bin_of(from), grid.bin_of(to.saturating_sub(1)) + 1);
    let mut beside: Vec<f64> = logs[..a].iter().chain(&logs[b..]).flatten().copied().collect();
    let mut inside: Vec<f64> = logs[a..b].iter().flatten().copied().collect();
    let (beside, inside) = (median(&mut beside)?, median(&mut inside)?);
    let relative: Vec<Option<f64>> = logs.iter().map(|l| l.map(|l| l - beside)).collect();
    let reach = (grid.bins.len() / 8).max(8);
    let (a, b, _) = sharpen(&relative, a, b, reach);
    Some((grid.address(a), grid.address(b), inside.exp(), beside.exp()))
}

/// What the newest scan says.
#[must_use]
pub fn survey(scans: &Scans) -> Option<GroundSurvey> {
    let grids = scans.passes();
    let first = grids.first()?;
    let r = residuals(grids)?;
    let stretches = candidates(grids)
        .into_iter()
        .map(|c| {
            let (a, b) = (first.bin_of(c.from), first.bin_of(c.to.saturating_sub(1)) + 1);
            let saw = |p: &&Vec<Option<f64>>| {
                let mut seen: Vec<f64> = p[a..b].iter().flatten().copied().collect();
                median(&mut seen).is_some_and(|m| m < EDGE.ln())
            };
            let mut levels: Vec<f64> = r.trend[a..b].to_vec();
            let beside = median(&mut levels).unwrap_or(0.0).exp();
            let again = scans.again().iter().filter(|g| {
                matches!(g.task, Task::Again { from, to } if from == Bytes::new(c.from) && to == Bytes::new(c.to))
            });
            let visits: Vec<_> =
                again.filter(|g| g.progress() > 0.99).filter_map(|g| visited(g, c.from, c.to)).collect();
            let mut of_stretch = grids.iter().flat_map(|g| &g.bins[a..b]);
            let worst_us = of_stretch.clone().map(|b| b.worst_us).max().unwrap_or(0);
            let mut stretch = Stretch {
                position_bytes: c.from,
                position_end_bytes: c.to,
                inside_mb_s: beside * c.depth.exp() / 1e6,
                beside_mb_s: beside / 1e6,
                worst_us,
                errors: of_stretch.by_ref().map(|b| u64::from(b.errors)).sum(),
                seen: r.passes.iter().filter(saw).count() as u16,
                passes: r.passes.len() as u16,
                again: None,
            };
            if let Some((from, to, inside, beside)) = visits.first().copied() {
                let slow = visits.iter().all(|v| v.2 < v.3 * AGAIN);
                stretch.again = Some(slow);
                if slow {
                    (stretch.position_bytes, stretch.position_end_bytes) = (from, to);
                    (stretch.inside_mb_s, stretch.beside_mb_s) = (inside / 1e6, beside / 1e6);
                }
            }
            stretch
        })
        .collect();
    let part = (r.trend.len() / 32).max(1);
    let mean_of = |bins: &[f64]| bins.iter().map(|l| l.exp()).sum::<f64>() / bins.len() as f64;
    let whole = grids.iter().all(|g| g.progress() > 0.99);
    let (bytes, seconds) = grids
        .iter()
        .flat_map(|g| &g.bins)
        .fold((0.0, 0.0), |(b, s), x| (b + f64::from(x.bytes), s + f64::from(x.seconds)));
    Some(GroundSurvey {
        start_bytes: first.start,
        end_bytes: first.end,
        bin_bytes: first.width() as u64,
        passes: grids.iter().map(Grid::progress).collect(),
        mean_mb_s: if seconds > 0.0 { bytes / seconds / 1e6 } else { 0.0 },
        first_over_last: whole.then(|| mean_of(&r.trend[..part]) / mean_of(&r.trend[r.trend.len() - part..])),
        noise: r.sigma,
        stretches,
    })
}

impl GroundSurvey {
    /// Stretches that stand.
    pub fn slow(&self) -> impl Iterator<Item = &Stretch> {
        self.stretches.iter().filter(|s| s.stands())
    }

    /// Stretches that look slow and were not visited again yet.
    pub fn pending(&self) -> impl Iterator<Item = &Stretch> {
        self.stretches.iter().filter(|s| s.again.is_none())
    }

    /// In a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let over = Bytes::new(self.end_bytes - self.start_bytes);
        let done = self.passes.iter().sum::<f64>();
        let slow: Vec<&Stretch> = self.slow().collect();
        let mean = Rate::from_mb_s(self.mean_mb_s);
        let fall = match self.first_over_last {
            Some(r) if r > 1.15 => format!(" It is {r:.2} times as fast at its start as at its end, evenly."),
            _ => String::new(),
        };
        let pending = self.pending().count();
        let found = match slow.as_slice() {
            [] if pending > 0 => format!(
                "{pending} stretch{} so far, to be visited again before {} called slow",
                if pending == 1 { " looks slow" } else { "es look slow" },
                if pending == 1 { "it is" } else { "they are" }
            ),
            [] => "no slow stretch".to_owned(),
            [s] => format!("one slow stretch, {}", s.words()),
            all => {
                let worst = all.iter().min_by(|a, b| a.share().total_cmp(&b.share())).map(|s| s.words());
                format!("{} slow stretches, the slowest {}", all.len(), worst.unwrap_or_default())
            }
        };
        format!("{done:.1} passes over {over} at {mean}: {found}.{fall}")
    }
}

impl Stretch {
    /// What is left of the rate in it, 0 to 1.
    #[must_use]
    pub fn share(&self) -> f64 {
        self.inside_mb_s / self.beside_mb_s
    }

    /// `3210 GB to 3274 GB at 42 %`.
    #[must_use]
    pub fn words(&self) -> String {
        let (from, to) = (Bytes::new(self.position_bytes), Bytes::new(self.position_end_bytes));
        format!("{from} to {to} at {:.0} % of what lies beside it", self.share() * 100.0)
    }

    /// It was slow again when it was visited again. What passes saw alone may be a chain of stalls.
    #[must_use]
    pub fn stands(&self) -> bool {
        self.again == Some(true)
    }
}

#[cfg(test)]
#[path = "ground_tests.rs"]
mod tests;
