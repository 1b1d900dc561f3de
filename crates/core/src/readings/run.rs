//! A run: samples under one kind of load with no rest between them, and the levels its rate went through.
//!
//! Levels come in two steps. The [`Segmenter`] proposes where the rate changed, online, in the logarithm of the rate,
//! where noise is about the same at every speed. Proposals are then weighed: a boundary stays only if the step is
//! large, well beyond the noise, and abrupt; short dips that return to where they came from are no levels.

use std::ops::Range;

use crate::drive::LoadKind;
use crate::units::Rate;

use super::segment::Segmenter;
use super::series::Series;
use super::stats;

/// ln of the slowest rate told from a stall, 1 kB/s, and of the fastest that occurs.
const LOG_LOW: f64 = 6.9;
const LOG_HIGH: f64 = 27.0;
/// Up to here every sample is a point of its own, so that caches of a fraction of a second are seen; then points are
/// at least [`POINT_S`] long.
const SINGLE_POINTS: usize = 20_000;
const POINT_S: f64 = 1.0;
/// The smallest step that is a change of level: 8 %.
const LEAST_STEP: f64 = 0.08;
/// A step must exceed this many standard errors of the difference of the medians.
const LEAST_SIGMAS: f64 = 5.0;
/// No noise is taken to be smaller than 0.5 %: the clock and the last operation of an interval cost about that.
const LEAST_SIGMA: f64 = 0.005;
/// Fewer independent points than this do not tell their own noise.
const FEW_INDEPENDENT: f64 = 20.0;
/// Noise is taken to have forgotten itself after so many points.
const LAG: usize = 8;
/// More points than this say nothing new of a level's median, since noise is correlated.
const MOST_INDEPENDENT: f64 = 40.0;

/// The typical size of the noise so far, from the median of differences between neighbours (median |Δ| of a normal
/// pair is 0.954 σ). A running median: moves by a factor up or down at each point, ever less.
#[derive(Debug, Clone)]
struct RunningNoise {
    median_difference: f64,
    last: Option<f64>,
    seen: u32,
}

impl RunningNoise {
    const fn new() -> Self {
        Self { median_difference: 0.03, last: None, seen: 0 }
    }
    fn push(&mut self, value: f64) -> f64 {
        if let Some(last) = self.last.replace(value) {
            self.seen += 1;
            let pace = (2.0 / f64::from(self.seen)).clamp(0.03, 0.3);
            let up = (value - last).abs() > self.median_difference;
            self.median_difference *= if up { pace.exp() } else { (-pace).exp() };
            self.median_difference = self.median_difference.clamp(LEAST_SIGMA, 0.7);
        }
        (self.median_difference / 0.954).max(LEAST_SIGMA)
    }
}

/// Robust standard deviation of a point from differences over `lag` points (median |Δ| / 0.6745 / √2).
fn lagged(points: &[f32], lag: usize) -> Option<f64> {
    let mut differences: Vec<f64> =
        points.iter().zip(points.get(lag..)?).map(|(a, b)| f64::from((b - a).abs())).collect();
    stats::median(&mut differences).map(|m| m / 0.6745 / std::f64::consts::SQRT_2)
}

/// A stretch of a run at one rate.
#[derive(Debug, Clone, PartialEq)]
pub struct Level {
    /// Points of the run.
    pub points: Range<usize>,
    /// Median of ln(rate).
    pub log_rate: f64,
    /// Robust standard deviation of ln(rate).
    pub sigma: f64,
    /// How many independent points its points are worth: fewer, the more each resembles the one before.
    pub independent: f64,
    /// ln(rate) where it begins and where it ends: differ from the median on a slope, as on platters.
    pub entry: f64,
    /// See `entry`.
    pub exit: f64,
}

impl Level {
    /// Median rate.
    pub fn rate(&self) -> Rate {
        Rate::new(self.log_rate.exp())
    }

    /// The median, or the rate at one end of a level that slopes.
    fn rate_at(&self, end: f64) -> Rate {
        Rate::new(if (end - self.log_rate).abs() > LEAST_STEP { end.exp() } else { self.log_rate.exp() })
    }

    /// Rate with which it begins.
    pub fn entry_rate(&self) -> Rate {
        self.rate_at(self.entry)
    }

    /// Rate with which it ends.
    pub fn exit_rate(&self) -> Rate {
        self.rate_at(self.exit)
    }
}

/// Samples under one kind of load with no rest between them.
#[derive(Debug, Clone)]
pub struct Run {
    /// Which way the bytes go.
    pub kind: LoadKind,
    /// First sample.
    pub first: usize,
    /// Bytes that had been written since the last rest when it began.
    pub written_since_rest: u64,
    /// ln(rate) of each point.
    points: Vec<f32>,
    /// One past the last sample of each point.
    point_ends: Vec<u32>,
    segmenter: Segmenter,
    noise: RunningNoise,
}

impl Run {
    /// A run that begins with this sample.
    pub fn new(kind: LoadKind, first: usize, written_since_rest: u64) -> Self {
        Self {
            kind,
            first,
            written_since_rest,
            points: Vec::new(),
            point_ends: Vec::new(),
            segmenter: Segmenter::new(LOG_LOW, LOG_HIGH),
            noise: RunningNoise::new(),
        }
    }

    /// One past the last sample that lies in a point.
    pub fn past(&self) -> usize {
        self.point_ends.last().map_or(self.first, |e| *e as usize)
    }

    /// Number of points.
    pub fn len(&self) -> usize {
        self.points.len()
    }

    /// Takes notice of the newest sample of the series.
    pub fn extend(&mut self, series: &Series) {
        let from = self.past();
        let open = from..series.len();
        if self.points.len() >= SINGLE_POINTS && series.loaded_s(open.clone()) < POINT_S * 0.999 {
            return;
        }
        let value = series.mean_rate(open).max(1.0).ln().clamp(LOG_LOW, LOG_HIGH);
        let sigma = self.noise.push(value);
        // A change costs more the more places it could be at: the usual logarithmic penalty, doubled for the robust
        // loss, and a constant that keeps the first points together.
        let penalty = 10.0 + 3.0 * ((self.points.len() + 8) as f64).ln();
        self.segmenter.push(value, sigma, penalty);
        self.points.push(value as f32);
        self.point_ends.push(series.len() as u32);
    }

    /// Samples of a range of points.
    pub fn samples(&self, points: &Range<usize>) -> Range<usize> {
        let start = if points.start == 0 { self.first } else { self.point_ends[points.start - 1] as usize };
        let end = if points.end == 0 { self.first } else { self.point_ends[points.end - 1] as usize };
        start..end
    }

    /// Seconds of a range of points.
    pub fn seconds(&self, series: &Series, points: &Range<usize>) -> f64 {
        series.loaded_s(self.samples(points))
    }

    fn level(&self, points: Range<usize>) -> Level {
        // The points at the ends of a short level are shared with its neighbours.
        let inner =
            if (4..=12).contains(&points.len()) { points.start + 1..points.end - 1 } else { points.clone() };
        let mut values = stats::spaced(&self.points[inner], 513);
        let (log_rate, sigma) = stats::median_and_spread(&mut values).unwrap_or((LOG_LOW, 0.0));
        let independent = self.independent(&points);
        let window = (points.len() / 6).clamp(3, 60).min(points.len());
        let entry = self.local(points.start..points.start + window);
        let exit = self.local(points.end - window..points.end);
        Level { points, log_rate, sigma: sigma.max(LEAST_SIGMA), independent, entry, exit }
    }

    /// Standard deviation of the noise in the neighbourhood of a point, from differences over [`LAG`] points: a change of
    /// level touches only a few of them, and noise that resembles its neighbour is not underrated.
    fn noise_around(&self, point: usize) -> f64 {
        let some = &self.points[point.saturating_sub(160)..(point + 160).min(self.points.len())];
        lagged(some, LAG.min(some.len() / 12).max(1)).unwrap_or(LEAST_SIGMA)
    }

    /// For noise in which each point resembles the one before by ρ, n points are worth n·(1 − ρ)/(1 + ρ). ρ follows from
    /// the variance of differences between neighbours against those over [`LAG`] points: 1 − ρ, if ρ^LAG is small.
    fn independent(&self, points: &Range<usize>) -> f64 {
        let middle = points.start.midpoint(points.end);
        let reach = (points.len() / 2).clamp(160, 1024);
        let some = &self.points[middle.saturating_sub(reach)..(middle + reach).min(self.points.len())];
        let lag = LAG.min(some.len() / 12).max(1);
        let ratio =
            lagged(some, 1).zip(lagged(some, lag)).map_or(1.0, |(near, far)| (near / far.max(1e-9)).powi(2));
        let rho = (1.0 - ratio).clamp(0.0, 0.95);
        (points.len() as f64 * (1.0 - rho) / (1.0 + rho)).clamp(1.0, MOST_INDEPENDENT)
    }

    /// Median of ln(rate) over a few points.
    fn local(&self, points: Range<usize>) -> f64 {
        let mut values = stats::spaced(&self.points[points], 61);
        stats::median(&mut values).unwrap_or(LOG_LOW)
    }

    /// How well a boundary stands: below 1 it is none.
    fn strength(&self, left: &Level, right: &Level) -> f64 {
        let step = (left.log_rate - right.log_rate).abs();
        let (nl, nr) = (left.points.len() as f64, right.points.len() as f64);
        // A few points know little of their own noise: they take that of the wider neighbourhood, if it is larger.
        let wide = self.noise_around(right.points.start);
        let noise = |l: &Level| if l.independent < FEW_INDEPENDENT { l.sigma.max(wide) } else { l.sigma };
        let (sl, sr) = (noise(left), noise(right));
        let error = (sl.powi(2) / left.independent + sr.powi(2) / right.independent).sqrt();
        // A slope is cut into steps by the segmenter, but close to the cut both sides are alike.
        // At least nine points where there are so many, so that a stall is not the median.
        let fewest = nl.min(nr) as usize;
        let window = (fewest / 6).max(9).min(fewest / 2).clamp(3, 60);
        let edge = right.points.start;
        // The cut may be off by a few points: they are left out on both sides, where there are enough.
        let gap = ((nl.min(nr) / 6.0) as usize).min(4);
        let before_to = edge - gap;
        let before = self.local(before_to.saturating_sub(window).max(left.points.start)..before_to);
        let after = self.local(edge + gap..(edge + gap + window).min(right.points.end));
        let abrupt = (before - after).abs() / (0.5 * step).max(1e-9);
        let abrupt =
            if (before - after).signum() == (left.log_rate - right.log_rate).signum() { abrupt } else { 0.0 };
        (step / LEAST_STEP).min(step / (LEAST_SIGMAS * error)).min(abrupt)
    }

    /// The levels that the rate went through, in order.
    pub fn levels(&self, series: &Series) -> Vec<Level> {
        let starts = self.segmenter.starts();
        let mut levels: Vec<Level> = starts
            .iter()
            .enumerate()
            .map(|(i, s)| self.level(*s..starts.get(i + 1).copied().unwrap_or(self.points.len())))
            .collect();
        self.drop_dips(series, &mut levels);
        self.merge_weak(&mut levels);
        self.drop_dips(series, &mut levels);
        self.absorb_transitions(series, &mut levels);
        self.merge_weak(&mut levels);
        levels
    }

    fn merge_weak(&self, levels: &mut Vec<Level>) {
        let mut strengths: Vec<f64> = levels.windows(2).map(|w| self.strength(&w[0], &w[1])).collect();
        while let Some((i, weakest)) =
            strengths.iter().copied().enumerate().min_by(|a, b| a.1.total_cmp(&b.1))
        {
            if weakest >= 1.0 {
                break;
            }
            levels[i] = self.level(levels[i].points.start..levels[i + 1].points.end);
            levels.remove(i + 1);
            strengths.remove(i);
            if i > 0 {
                strengths[i - 1] = self.strength(&levels[i - 1], &levels[i]);
            }
            if i < strengths.len() {
                strengths[i] = self.strength(&levels[i], &levels[i + 1]);
            }
        }
    }

    /// A short excursion that returns to where it came from is a stall, not a level; so is one that the run ends in,
    /// or begins with, for as long as it is too short to tell.
    fn drop_dips(&self, series: &Series, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (left, middle, right) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let out = (middle.log_rate - left.log_rate).abs().min((middle.log_rate - right.log_rate).abs());
            let returns = (left.log_rate - right.log_rate).abs() < 0.5 * out;
            let same_side =
                (middle.log_rate - left.log_rate).signum() == (middle.log_rate - right.log_rate).signum();
            let seconds = self.seconds(series, &middle.points);
            let around = self.seconds(series, &left.points).min(self.seconds(series, &right.points));
            if returns && same_side && (middle.points.len() <= 3 || seconds < 3.0 || seconds < 0.02 * around)
            {
                // The level's own statistics ignore the few points of the dip.
                levels[i - 1] = self.level(left.points.start..right.points.end);
                levels.drain(i..=i + 1);
                i = i.saturating_sub(1).max(1);
            } else {
                i += 1;
            }
        }
        let open = |l: &Level| l.points.len() < 5 || self.seconds(series, &l.points) < 2.5;
        while levels.len() > 1 && levels.last().is_some_and(open) {
            let last = levels.pop().map_or(0, |l| l.points.end);
            if let Some(level) = levels.last_mut() {
                *level = self.level(level.points.start..last);
            }
        }
        while levels.len() > 1 && levels[0].points.len() < 3 {
            let first = levels.remove(0).points.start;
            levels[0] = self.level(first..levels[0].points.end);
        }
    }

    /// A short level on the way from one to the next is part of the transition.
    fn absorb_transitions(&self, series: &Series, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (left, middle, right) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let between = (left.log_rate > middle.log_rate) == (middle.log_rate > right.log_rate);
            let seconds = self.seconds(series, &middle.points);
            let around = self.seconds(series, &left.points).min(self.seconds(series, &right.points));
            let whole = (left.log_rate - right.log_rate).abs();
            let slopes = middle.sigma > 0.12 * whole || middle.points.len() < 6;
            let few = middle.points.len() <= 3 && seconds < 0.3 * around;
            if between && (few || seconds < 0.03 * around && slopes) {
                let nearer_left =
                    (middle.log_rate - left.log_rate).abs() < (middle.log_rate - right.log_rate).abs();
                if nearer_left {
                    levels[i - 1] = self.level(left.points.start..middle.points.end);
                } else {
                    levels[i + 1] = self.level(middle.points.start..right.points.end);
                }
                levels.remove(i);
            } else {
                i += 1;
            }
        }
    }
}
