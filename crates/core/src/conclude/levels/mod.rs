//! The levels that the rate of a run went through.
//!
//! What the segmenter proposes is weighed: a boundary stays only if the step is large, well beyond the noise, and abrupt;
//! short dips that return to where they came from are no levels.

mod noise;
mod ramp;
mod slopes;
mod texture;

use std::ops::Range;

use crate::quantity::units::Rate;

use crate::quantity::stats;
use crate::readings::Series;
use crate::readings::run::{LEAST_SIGMA, LOG_LOW, Run};
use noise::Noise;

/// The smallest step that is a change of level: 8 %.
pub(super) const LEAST_STEP: f64 = 0.08;
/// A step must exceed this many standard errors of the difference of the means.
const LEAST_SIGMAS: f64 = 4.5;
/// With very few independent points it must exceed so many more.
const MORE_SIGMAS: f64 = 1.0;
/// And a small one so many more: chance makes many of those, and little depends on one. Chosen.
const SMALL_SIGMAS: f64 = 1.5;
/// A step among levels that wander is no smaller than so many times their spread.
const WANDERS: f64 = 4.0;
/// With fewer independent points than this the noise of a level is weighed with that of its neighbourhood.
const FEW: f64 = 20.0;
/// The neighbourhood's noise counts as so many points of the level's own.
const PRIOR: f64 = 6.0;
/// Points further than this from the rate of their level, in its logarithm, are stalls.
const FAR: f64 = 1.0;
/// A step that two points are enough for, in ln: 22 %.
const PLAIN_STEP: f64 = 0.2;
/// A piece of no more points may hold a step. Chosen: the segmenter finds one that has a dozen points on either side.
const SHORT_PIECE: usize = 24;
/// It does where its points are off its two neighbours by less than this share of what they are off its own rate. Chosen.
const PARTED: f64 = 0.5;
/// Medians that differ by less than this share of the smallest step are the same.
const ALIKE: f64 = 0.6;
/// Fewer points than this are a short level.
const SHORT: usize = 60;
/// Stalls up to so long are left out where slopes are sought, s.
const STALL_S: f64 = 3.0;
/// What takes fewer than four points is a dip up to so long, s: of long samples two or three are a level.
const DIP_S: f64 = 8.0;
/// Points that go on by this share of the way each are on their way, and no level. Chosen.
const ON_THE_WAY: f64 = 0.12;
/// Points from here on are long, s.
const LONG_POINT_S: f64 = 4.0;
/// A step that is plain to the eye, in ln, and how much of it lies between what nearly all points before it are above and nearly all after
/// it below. Chosen.
const SEEN_STEP: f64 = 0.4;
const SEEN_GAP: f64 = 0.4;
/// More points than this say nothing new of a level's median, since noise is correlated.
const MOST_INDEPENDENT: f64 = 40.0;

/// The points at the ends of a short level are shared with its neighbours.
fn inner(points: &Range<usize>) -> Range<usize> {
    if (4..=12).contains(&points.len()) { points.start + 1..points.end - 1 } else { points.clone() }
}

/// How far levels that follow each other are spread, in ln, beside the largest step among them, which may be a true one; nothing of
/// fewer than seven.
fn spread_beside_one_step(rates: &[f64]) -> f64 {
    if rates.len() < 7 {
        return 0.0;
    }
    let mut sorted = rates.to_vec();
    sorted.sort_by(f64::total_cmp);
    let gaps = sorted.windows(2).map(|w| w[1] - w[0]).enumerate();
    let cut = gaps.max_by(|a, b| a.1.total_cmp(&b.1)).map_or(0, |(i, _)| i + 1);
    let (low, high) = sorted.split_at(cut);
    let off = |part: &[f64]| {
        let middle = part[part.len() / 2];
        part.iter().map(|v| (v - middle).abs()).collect::<Vec<_>>()
    };
    let mut all = off(low);
    all.extend(off(high));
    stats::median(&mut all).map_or(0.0, |m| m * 1.4826)
}

/// A stretch of a run at one rate.
#[derive(Debug, Clone, PartialEq)]
pub struct Level {
    /// Points of the run.
    pub points: Range<usize>,
    /// Median of ln(rate).
    pub log_rate: f64,
    /// Robust mean of ln(rate): nearer to the truth than the median where there are few points.
    centre: f64,
    /// Robust standard deviation of ln(rate).
    pub sigma: f64,
    /// How many independent points its points are worth: fewer, the more each resembles the one before.
    pub independent: f64,
    /// ln(rate) where it begins and where it ends: differ from the median on a slope, as on platters.
    pub entry: f64,
    /// See `entry`.
    pub exit: f64,
    /// The points over which the level before gave way to this one, where that was no step.
    pub ramp: Option<Range<usize>>,
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

/// The levels that the rate of a run went through, in order.
pub fn levels(run: &Run, series: &Series) -> Vec<Level> {
    let raw = run.points();
    let swings = texture::stretches(raw, &run.starts(), &|points| run.seconds(series, &points));
    let (points, starts) = (&texture::smoothed(raw, &swings), texture::without_inner(&run.starts(), &swings));
    let length = run.seconds(series, &(0..run.len())) / run.len().max(1) as f64;
    let window = (STALL_S / length.max(1e-6)).ceil().clamp(3.0, 90.0) as usize;
    let filled = ramp::without_dips(points, window);
    Weigher { run, series, raw, points, filled, noise: Noise::of(points, &starts) }.weigh(&starts)
}

struct Weigher<'a> {
    run: &'a Run,
    series: &'a Series,
    /// As recorded.
    raw: &'a [f32],
    /// What swings is smoothed.
    points: &'a [f32],
    /// The points without stalls.
    filled: Vec<f32>,
    noise: Noise,
}

impl Weigher<'_> {
    fn level(&self, points: Range<usize>) -> Level {
        let mut values = stats::spaced(&self.points[inner(&points)], 513);
        // Stalls are no part of a level, unless it is one.
        if let Some(upper) = stats::quantile(&mut values.clone(), 0.75) {
            values.retain(|v| *v > upper - FAR);
        }
        let mut deviations = values.clone();
        let (log_rate, sigma) = stats::median_and_spread(&mut deviations).unwrap_or((LOG_LOW, 0.0));
        // Of what was recorded, whether it was smoothed or not.
        let mut off = stats::spaced(&self.raw[inner(&points)], 513);
        off.iter_mut().for_each(|v| *v = (*v - log_rate).abs());
        let sigma = stats::median(&mut off).map_or(0.0, |m| m * 1.4826).max(sigma).max(LEAST_SIGMA);
        let centre = stats::biweight_mean(&values, log_rate, sigma);
        let independent = self.noise.worth(points.len() as f64).min(MOST_INDEPENDENT);
        let window = (points.len() / 6).clamp(3, 60).min(points.len());
        let at = |from: usize| self.local(from..from + window, log_rate) - log_rate;
        // What is over after the first few points of a short level is no slope: the boundary is off by so many.
        let slopes =
            |end: f64, next: f64| if next.abs() < 0.5 * end.abs() { log_rate } else { log_rate + end };
        let short = (2 * window..SHORT).contains(&points.len());
        let ends = (at(points.start), at(points.end - window));
        let next = if short { (at(points.start + window), at(points.end - 2 * window)) } else { ends };
        let (entry, exit) = (slopes(ends.0, next.0), slopes(ends.1, next.1));
        Level { points, log_rate, centre, sigma, independent, entry, exit, ramp: None }
    }

    /// Variance of the noise of a level. Many points know their own; that of a few is weighed with the neighbourhood's.
    fn variance(&self, level: &Level, near: usize) -> f64 {
        if level.independent >= FEW {
            return level.sigma.powi(2);
        }
        let inner = inner(&level.points);
        let around = self.noise.around(self.points, near);
        let far = (5.0 * level.sigma.max(around)).min(FAR);
        let off = self.points[inner].iter().map(|v| f64::from(*v) - level.centre);
        let some: Vec<f64> = off.filter(|v| v.abs() < far).collect();
        let n = some.len().max(1) as f64;
        let independent = self.noise.worth(n);
        let sum = some.iter().map(|v| v * v).sum::<f64>() / n * independent;
        let worth = independent - 1.0 + PRIOR;
        ((sum + PRIOR * around.powi(2)) / worth).max(LEAST_SIGMA.powi(2))
    }

    /// Median of ln(rate) over a few points of a level, without what is far from it: a stall at its end is not its rate there.
    fn local(&self, points: Range<usize>, log_rate: f64) -> f64 {
        let mut values = stats::spaced(&self.points[points], 61);
        values.retain(|v| (v - log_rate).abs() < FAR);
        stats::median(&mut values).unwrap_or(log_rate)
    }

    /// How well a boundary stands: below 1 it is none.
    fn strength(&self, left: &Level, right: &Level) -> f64 {
        let step = (left.centre - right.centre).abs();
        let (nl, nr) = (left.points.len() as f64, right.points.len() as f64);
        let left_noise = self.variance(left, right.points.start);
        let right_noise = self.variance(right, right.points.start);
        let error = (left_noise / left.independent + right_noise / right.independent).sqrt();
        // A slope is cut into steps by the segmenter, but close to the cut both sides are alike.
        // At least nine points where there are so many, so that a stall is not the median.
        let fewest = nl.min(nr) as usize;
        let window = (fewest / 6).max(9).min(fewest / 2).clamp(3, 60);
        let edge = right.points.start;
        // The cut may be off by a few points: they are left out on both sides, where there are enough.
        let gap = ((nl.min(nr) / 6.0) as usize).min(4);
        let before_to = edge - gap;
        let before =
            self.local(before_to.saturating_sub(window).max(left.points.start)..before_to, left.log_rate);
        let after = self.local(edge + gap..(edge + gap + window).min(right.points.end), right.log_rate);
        // Of a few long points one or two lie on the step itself.
        let long = self.seconds(left) > LONG_POINT_S * left.points.len() as f64;
        let most = if long && fewest < 12 { 0.4 } else { 0.5 };
        let abrupt = (before - after).abs() / (most * step).max(1e-9);
        let abrupt =
            if (before - after).signum() == (left.log_rate - right.log_rate).signum() { abrupt } else { 0.0 };
        // A level that slopes far away behind its edge is no measure of what happens there.
        let abrupt = if abrupt < 1.0 && self.is_cliff(left, right) { 1.0 } else { abrupt };
        // Where little is independent, the segmenter has found the largest of many chances.
        let few = left.independent.min(right.independent).min(FEW) / FEW;
        let small = if step < PLAIN_STEP { SMALL_SIGMAS } else { 0.0 };
        let sigmas = LEAST_SIGMAS + MORE_SIGMAS * (1.0 - few) + small;
        let seen = if self.is_seen(left, right, step) { 1.0 } else { 0.0 };
        (step / LEAST_STEP).min((step / (sigmas * error)).max(seen)).min(abrupt)
    }

    /// Nearly all points before lie above nearly all after, with a gap between them: whatever the noise remembers, nobody overlooks it.
    fn is_seen(&self, left: &Level, right: &Level, step: f64) -> bool {
        let fewest = left.points.len().min(right.points.len());
        if step < SEEN_STEP || fewest < 9 {
            return false;
        }
        let (high, low) = if left.centre > right.centre { (left, right) } else { (right, left) };
        let at = |level: &Level, share: f64| {
            let mut some = stats::spaced(&self.points[level.points.clone()], 513);
            stats::quantile(&mut some, share)
        };
        at(high, 0.08).zip(at(low, 0.92)).is_some_and(|(above, below)| above - below > SEEN_GAP * step)
    }

    fn weigh(&self, starts: &[usize]) -> Vec<Level> {
        let mut levels: Vec<Level> = starts
            .iter()
            .enumerate()
            .map(|(i, s)| self.level(*s..starts.get(i + 1).copied().unwrap_or(self.points.len())))
            .collect();
        self.part_at_steps(&mut levels);
        self.split_start(&mut levels);
        self.drop_dips(&mut levels);
        self.merge_weak(&mut levels);
        self.drop_dips(&mut levels);
        self.absorb_transitions(&mut levels);
        self.merge_weak(&mut levels);
        self.merge_wander(&mut levels);
        self.join_slopes(&mut levels);
        self.stretch_steps(&mut levels);
        self.join_pieces(&mut levels);
        self.drop_lines(&mut levels);
        self.split_slopes(&mut levels);
        // What a level was split from may have been a slope all along.
        self.stretch_steps(&mut levels);
        self.join_pieces(&mut levels);
        self.part_slopes(&mut levels);
        self.merge_alike(&mut levels);
        self.drop_slopes_without_level(&mut levels);
        levels
    }

    /// Levels whose medians, and whose rates at the boundary, are the same are one: what lies between them was a disturbance. Their means may
    /// differ, where it lies on one side.
    fn merge_alike(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i < levels.len() {
            let (left, right) = (&levels[i - 1], &levels[i]);
            let same = |a: f64, b: f64| (a - b).abs() < ALIKE * LEAST_STEP;
            let ends = (left.exit_rate().get().ln(), right.entry_rate().get().ln());
            if same(left.log_rate, right.log_rate) && same(ends.0, ends.1) {
                let carried = levels[i - 1].ramp.take();
                levels[i - 1] =
                    Level { ramp: carried, ..self.level(levels[i - 1].points.start..levels[i].points.end) };
                levels.remove(i);
                i = i.saturating_sub(1).max(1);
            } else {
                if (ends.0 - ends.1).abs() < LEAST_STEP {
                    // Nothing falls there: the boundary lies beside its fall, and is told by the levels.
                    levels[i - 1].exit = levels[i - 1].log_rate;
                    levels[i].entry = levels[i].log_rate;
                }
                i += 1;
            }
        }
    }

    fn seconds(&self, level: &Level) -> f64 {
        self.run.seconds(self.series, &level.points)
    }

    /// A run may begin with a level of two or three points, too short to be proposed: its points all stand far above the level that
    /// follows, and one alone may be an outlier.
    fn split_start(&self, levels: &mut Vec<Level>) {
        let Some(first) = levels.first().filter(|l| l.points.len() > 12) else { return };
        let sigma = self.noise.around(self.points, 0).max(first.sigma);
        let far = first.log_rate + (7.0 * sigma).max(PLAIN_STEP);
        let start = first.points.start;
        let leading = self.points[first.points.clone()].iter().take_while(|v| f64::from(**v) > far).count();
        if (2..=5).contains(&leading) {
            let rest = start + leading..first.points.end;
            levels[0] = self.level(start..start + leading);
            levels.insert(1, self.level(rest));
        }
    }

    /// A step may lie within a short piece: where the rate swings, the segmenter cuts at the turn of the swing. What of the piece is like the one
    /// before belongs to that, and the rest to the one behind.
    fn part_at_steps(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (a, b, c) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let apart = (a.log_rate - c.log_rate).abs();
            let piece = b.points.clone();
            if piece.len() > SHORT_PIECE || apart < PLAIN_STEP {
                i += 1;
                continue;
            }
            let off = |from: usize, to: usize, rate: f64| -> f64 {
                self.points[from..to].iter().map(|v| (f64::from(*v) - rate).abs().min(FAR)).sum()
            };
            let parted = |at: usize| off(piece.start, at, a.log_rate) + off(at, piece.end, c.log_rate);
            let best = (piece.start..=piece.end).min_by(|x, y| parted(*x).total_cmp(&parted(*y)));
            let Some(at) = best.filter(|at| {
                // Two points of either kind at least: one alone lies on the step itself.
                at - piece.start >= 2
                    && piece.end - at >= 2
                    && parted(*at) < PARTED * off(piece.start, piece.end, b.log_rate)
            }) else {
                i += 1;
                continue;
            };
            levels[i - 1] = self.level(levels[i - 1].points.start..at);
            levels[i + 1] = self.level(at..levels[i + 1].points.end);
            levels.remove(i);
        }
    }

    /// Two points at the start are a level when they stand plainly above the next.
    fn is_plain_start(&self, first: &Level, next: &Level) -> bool {
        first.points.len() == 2
            && first.centre - next.centre > PLAIN_STEP
            && self.strength(first, next) >= 1.0
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

    /// A rate that wanders goes through many levels, none like another: what is no further from the next than they are spread is no
    /// change. A sawtooth has two, each like itself.
    fn merge_wander(&self, levels: &mut Vec<Level>) {
        loop {
            let rates: Vec<f64> = levels.iter().map(|l| l.centre).collect();
            let beyond = |i: &usize| {
                let spread = spread_beside_one_step(&rates[i.saturating_sub(4)..(i + 6).min(rates.len())]);
                (rates[*i] - rates[i + 1]).abs() / (WANDERS * spread).max(1e-9)
            };
            let all = (0..rates.len().saturating_sub(1)).map(|i| (i, beyond(&i)));
            let Some((i, _)) = all.filter(|(_, b)| *b < 1.0).min_by(|a, b| a.1.total_cmp(&b.1)) else {
                return;
            };
            levels[i] = self.level(levels[i].points.start..levels[i + 1].points.end);
            levels.remove(i + 1);
        }
    }

    /// A short excursion that returns to where it came from is a stall, not a level; so is one that the run ends in,
    /// or begins with, for as long as it is too short to tell.
    fn drop_dips(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (left, middle, right) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let out = (middle.log_rate - left.log_rate).abs().min((middle.log_rate - right.log_rate).abs());
            let returns = (left.log_rate - right.log_rate).abs() < 0.5 * out;
            let same_side =
                (middle.log_rate - left.log_rate).signum() == (middle.log_rate - right.log_rate).signum();
            let seconds = self.run.seconds(self.series, &middle.points);
            let around =
                self.run.seconds(self.series, &left.points).min(self.run.seconds(self.series, &right.points));
            // Two stalls with a moment of work between them are not a level with an excursion.
            let up = middle.log_rate > left.log_rate && around < 3.0 * seconds;
            if returns
                && same_side
                && !up
                && (middle.points.len() <= 3 && (seconds < DIP_S || middle.points.len() < 2)
                    || seconds < 3.0
                    || seconds < 0.02 * around)
            {
                // A stall may fall on the very place where one level gives way to the next.
                if self.strength(left, right) >= 1.0 {
                    levels[i] = self.level(middle.points.start..right.points.end);
                    levels.remove(i + 1);
                } else {
                    // The level's own statistics ignore the few points of the dip.
                    levels[i - 1] = self.level(left.points.start..right.points.end);
                    levels.drain(i..=i + 1);
                    i = i.saturating_sub(1).max(1);
                }
            } else {
                i += 1;
            }
        }
        let open = |l: &Level| l.points.len() < 5 || self.run.seconds(self.series, &l.points) < 2.5;
        while levels.len() > 1 && levels.last().is_some_and(open) {
            let last = levels.pop().map_or(0, |l| l.points.end);
            if let Some(level) = levels.last_mut() {
                *level = self.level(level.points.start..last);
            }
        }
        while levels.len() > 1 && levels[0].points.len() < 3 && !self.is_plain_start(&levels[0], &levels[1]) {
            let first = levels.remove(0).points.start;
            levels[0] = self.level(first..levels[0].points.end);
        }
    }

    /// Each point goes on from the one before by a good part of the whole way, in one direction; one alone between two levels does.
    fn goes_on(&self, points: &Range<usize>, whole: f64) -> bool {
        let steps: Vec<f64> =
            self.points[points.clone()].windows(2).map(|w| f64::from(w[0] - w[1]) / whole).collect();
        steps.iter().all(|s| *s > ON_THE_WAY) || steps.iter().all(|s| *s < -ON_THE_WAY)
    }

    /// A short level on the way from one to the next is part of the transition.
    fn absorb_transitions(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (left, middle, right) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let between = (left.log_rate > middle.log_rate) == (middle.log_rate > right.log_rate);
            let seconds = self.run.seconds(self.series, &middle.points);
            let around =
                self.run.seconds(self.series, &left.points).min(self.run.seconds(self.series, &right.points));
            let whole = (left.log_rate - right.log_rate).abs();
            let slopes = middle.sigma > 0.12 * whole || middle.points.len() < 6;
            let few = middle.points.len() <= 3 && seconds < 0.3 * around;
            let on_the_way = middle.points.len() <= 4 && self.goes_on(&middle.points, whole);
            if between && (few || on_the_way || seconds < 0.03 * around && slopes) {
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
