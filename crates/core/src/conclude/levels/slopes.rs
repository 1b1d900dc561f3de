//! Boundaries that are slopes: steps looked at closely, pieces of one slope joined, slopes found within a level.

use std::ops::{Range, RangeInclusive};

use super::ramp::{self, Ramp};
use super::{LEAST_SIGMAS, LEAST_STEP, Level, MOST_INDEPENDENT, PLAIN_STEP, SHORT_PIECE, Weigher};
use crate::quantity::stats;
use crate::readings::run::LEAST_SIGMA;

/// A slope shorter than this is a step, s.
const LEAST_SLOPE_S: f64 = 0.8;
/// The level before a slope down lasts one part in so many of it at least. Chosen.
const LEVEL_BEFORE: f64 = 5.0;
/// And one that follows a slope one part in so many. Chosen.
const LEVEL_AFTER: f64 = 12.0;
/// A level between two slopes lasts so long, s: a shorter one may be what heat holds for a moment. Chosen.
const LEAST_BETWEEN_S: f64 = 3.0;
/// Two slopes leave no more over than this share of what one does, and so much less over all points, in variances of their noise. Chosen.
const TWO_LEAVE: f64 = 0.6;
const TWO_TELL: f64 = 60.0;
/// One slope explains as well as two what it leaves no more over of than so many times as much. Chosen.
const AS_WELL: f64 = 1.1;
/// What is before a slope is a piece of it from this share of its steepness on. Chosen: half would be halfway between a level and the slope.
const AS_STEEP: f64 = 0.4;
/// So often a slope is looked at again nearer.
const NEARER: usize = 3;
/// A stretch is looked at in so many blocks, so many points of each, to see whether it moves; and so each of its ends, one part in so many.
const BLOCKS: usize = 24;
const IN_BLOCK: usize = 25;
const ENDS: usize = 16;
/// A jump between two levels is a step, whatever else slopes in them, when it has so much of what they differ by, and what lies beside it within
/// three points changes by less than this share of it. Chosen.
const SHARP_HERE: f64 = 0.5;
const FLAT_BESIDE: f64 = 0.1;
/// A cliff is so many standard deviations of the noise beside it high. Chosen.
const CLIFF_SIGMAS: f64 = 8.0;

/// A slope, from a rate to a rate in ln, to be held against the points.
struct Piece {
    points: Range<usize>,
    before: f64,
    after: f64,
}

impl Piece {
    fn of(ramp: &Ramp) -> Self {
        Self { points: ramp.points.clone(), before: ramp.before, after: ramp.after }
    }
}

impl Weigher<'_> {
    fn fit(&self, whole: Range<usize>) -> Option<Ramp> {
        ramp::fit(&self.filled, whole, &|point| self.lasts(0..point), NEARER)
    }

    /// The same, seen less sharply: what lies beside a slope may be a level of a few points.
    fn rough_fit(&self, whole: Range<usize>) -> Option<Ramp> {
        ramp::fit(&self.filled, whole, &|point| self.lasts(0..point), 1)
    }

    fn lasts(&self, points: Range<usize>) -> f64 {
        self.run.seconds(self.series, &points)
    }

    /// The stretch that two neighbours share, no more of the longer than the shorter can be compared with.
    fn shared(left: &Level, right: &Level) -> Range<usize> {
        let reach = |other: &Level| 4 * other.points.len() + 200;
        let from = right.points.start.saturating_sub(reach(right)).max(left.points.start);
        from..(right.points.start + reach(left)).min(right.points.end)
    }

    /// Where a level stands, beside the slopes at its ends that are known.
    fn stands(levels: &[Level], i: usize) -> Range<usize> {
        let points = &levels[i].points;
        let from = levels[i].ramp.as_ref().map_or(points.start, |r| r.end.clamp(points.start, points.end));
        let to = levels.get(i + 1).and_then(|l| l.ramp.as_ref()).map_or(points.end, |r| r.start);
        from..to.clamp(from, points.end)
    }

    /// Parts the levels `which` into the two to the left and right of a slope, which belongs half to each.
    fn part(&self, levels: &mut Vec<Level>, which: RangeInclusive<usize>, slope: Range<usize>) {
        let (first, last) = (*which.start(), *which.end());
        let whole = levels[first].points.start..levels[last].points.end;
        let (from, to) = (Self::stands(levels, first).start, Self::stands(levels, last).end);
        let middle = slope.start.midpoint(slope.end).clamp(whole.start + 1, whole.end - 1);
        let least = 3;
        let or = |part: Range<usize>, else_this: Range<usize>| if part.is_empty() { else_this } else { part };
        let before = from..slope.start.max(from + least).min(middle.max(from + 1));
        let after = slope.end.min(to.saturating_sub(least)).max(middle)..to;
        let mut left = self.level(or(before, whole.start..middle));
        let mut right = self.level(or(after, middle..whole.end));
        left.points = whole.start..middle;
        left.ramp = levels[first].ramp.take();
        right.points = middle..whole.end;
        right.ramp = Some(slope);
        levels.splice(which, [left, right]);
    }

    /// A level between two others that is a piece of one slope is none.
    pub(super) fn join_slopes(&self, levels: &mut Vec<Level>) {
        let mut i = 0;
        while i + 2 < levels.len() {
            let (a, b, c) = (&levels[i], &levels[i + 1], &levels[i + 2]);
            let falls = (a.log_rate > b.log_rate) == (b.log_rate > c.log_rate);
            let whole = Self::shared(a, b).start..Self::shared(b, c).end;
            let ramp = falls.then(|| self.fit(whole)).flatten();
            let covers = |r: &Ramp| {
                let inside = r.points.start.max(b.points.start)..r.points.end.min(b.points.end);
                inside.len() * 4 > b.points.len() * 3
            };
            let steps = || self.steps_between(a, b) || self.steps_between(b, c);
            let is_slope =
                |r: &Ramp| r.beats_two_steps() && covers(r) && !self.is_level_between(b, r) && !steps();
            if let Some(r) = ramp.filter(is_slope) {
                self.part(levels, i..=i + 2, r.points);
                i = i.saturating_sub(1);
            } else {
                i += 1;
            }
        }
    }

    /// By how much it goes from three points to the three after the next, where it goes beside them by a tenth of that at most.
    fn jump_at(&self, edge: usize) -> Option<f64> {
        let jump = self.mean(edge - 4..edge - 1) - self.mean(edge + 1..edge + 4);
        let beside = |a: Range<usize>, b: Range<usize>| (self.mean(a) - self.mean(b)).abs();
        let most = beside(edge - 7..edge - 4, edge - 4..edge - 1)
            .max(beside(edge + 2..edge + 5, edge + 5..edge + 8));
        (most < FLAT_BESIDE * jump.abs()).then_some(jump)
    }

    /// A jump between two levels, whatever they do elsewhere: plain, far more than noise, and towards the second.
    pub(super) fn is_cliff(&self, left: &Level, right: &Level) -> bool {
        let edge = right.points.start;
        left.points.len().min(right.points.len()) >= 8
            && self.jump_at(edge).is_some_and(|jump| {
                let plain = PLAIN_STEP.max(CLIFF_SIGMAS * self.noise.around(self.points, edge));
                jump.signum() == (left.log_rate - right.log_rate).signum() && jump.abs() > plain
            })
    }

    /// The middle of a level does not go down as a slope through it would: it stands between two slopes.
    fn is_level_between(&self, level: &Level, r: &Ramp) -> bool {
        // Half of a slope that is known before it is no part of it.
        let from = level.ramp.as_ref().map_or(level.points.start, |r| r.end.min(level.points.end));
        let n = level.points.end - from;
        let at = |tenth: usize| from + n * tenth / 10;
        if n < 20 {
            return false;
        }
        let local = |points: Range<usize>| self.local(points, level.log_rate).exp();
        let (first, last) = (local(at(3)..at(5)), local(at(5)..at(7)));
        let expected =
            (r.before.exp() - r.after.exp()) / self.lasts(r.points.clone()) * self.lasts(at(4)..at(6));
        let error = self.noise.around(self.points, at(5)).max(LEAST_SIGMA)
            * first
            * (2.0 / self.noise.worth((n / 5) as f64)).sqrt();
        expected.abs() > LEAST_SIGMAS * error && (first - last) / expected < AS_STEEP
    }

    /// Steps that are slopes, looked at closely.
    pub(super) fn stretch_steps(&self, levels: &mut Vec<Level>) {
        for i in 1..levels.len() {
            let (left, right) = (&levels[i - 1], &levels[i]);
            if right.ramp.is_some() || self.seconds(left).min(self.seconds(right)) < LEAST_SLOPE_S {
                continue;
            }
            if self.is_sharp(left, right) {
                continue;
            }
            let Some(r) = self.fit(Self::shared(left, right)) else { continue };
            let falls = (left.log_rate > right.log_rate) == (r.before > r.after);
            if !falls || !r.beats_two_steps() || self.run.seconds(self.series, &r.points) < LEAST_SLOPE_S {
                continue;
            }
            self.part(levels, i - 1..=i, r.points);
        }
    }

    /// Nearly all of the step lies between three points and the three after the next: that is no slope, and need not be fitted.
    fn is_sharp(&self, left: &Level, right: &Level) -> bool {
        let edge = right.points.start;
        if left.points.len() < 5 || right.points.len() < 5 {
            return false;
        }
        let (before, after) = (self.mean(edge - 4..edge - 1), self.mean(edge + 1..edge + 4));
        let (step, jump) = (left.log_rate - right.log_rate, before - after);
        if jump / step > 0.85 {
            return true;
        }
        // A level that slopes far away is no measure of what happens at its end: it is flat on both sides of the jump, as no slope is.
        self.steps_between(left, right)
    }

    /// What slopes before it or behind it belongs to the levels: between these two it jumps.
    fn steps_between(&self, left: &Level, right: &Level) -> bool {
        let way = left.log_rate - right.log_rate;
        left.points.len().min(right.points.len()) >= 8
            && self.jump_at(right.points.start).is_some_and(|jump| jump / way > SHARP_HERE)
    }

    /// Slopes that follow each other closely in one direction are pieces of one, and so are those that one explains as well.
    pub(super) fn join_pieces(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i + 1 < levels.len() {
            let (a, b, c) = (&levels[i - 1], &levels[i], &levels[i + 1]);
            let slope = |l: &Level| l.ramp.clone().unwrap_or(l.points.start..l.points.start + 1);
            let (first, second) = (slope(b), slope(c));
            let falls = (a.log_rate > b.log_rate) == (b.log_rate > c.log_rate);
            let level = second.start.saturating_sub(first.end);
            let both = first.len() + second.len();
            let all = first.start..second.end.max(first.end);
            // A step with a slope behind it is no slope.
            let steps = |left: &Level, right: &Level| right.ramp.is_none() && self.steps_between(left, right);
            let is_one = falls && (b.ramp.is_some() || c.ramp.is_some()) && !steps(a, b) && !steps(b, c);
            let as_well = || self.one_slope(levels, i, [first.clone(), second.clone()]);
            let joined = is_one.then(|| if 4 * level <= both { Some(all) } else { as_well() }).flatten();
            if let Some(slope) = joined {
                self.part(levels, i - 1..=i + 1, slope);
                i = i.saturating_sub(1).max(1);
            } else {
                i += 1;
            }
        }
    }

    /// A slope may be two, with a level between them that nobody overlooks.
    pub(super) fn part_slopes(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i < levels.len() {
            if let Some([first, second]) = self.two_slopes(levels, i) {
                let is_step = |r: &Ramp| !r.beats_a_step() || self.lasts(r.points.clone()) < LEAST_SLOPE_S;
                let steps = [is_step(&first), is_step(&second)];
                self.part(levels, i - 1..=i, first.points);
                self.part(levels, i..=i, second.points);
                for (level, _) in levels[i..].iter_mut().zip(steps).filter(|(_, is_step)| *is_step) {
                    level.ramp = None;
                }
            } else {
                i += 1;
            }
        }
    }

    /// The two slopes that explain much more than the one that leads to this level.
    fn two_slopes(&self, levels: &[Level], i: usize) -> Option<[Ramp; 2]> {
        let slope = levels[i].ramp.clone()?;
        if slope.len() < SHORT_PIECE || self.lasts(slope.clone()) < 4.0 * LEAST_SLOPE_S {
            return None;
        }
        let from = Self::stands(levels, i - 1).start.max(slope.start.saturating_sub(slope.len()));
        let to = Self::stands(levels, i).end.min(slope.end + slope.len());
        let one = self.left_over(&[Piece::of(&self.fit(from..to)?)], from..to);
        let (two, pair) = (1..10)
            .filter_map(|tenth| {
                let middle = slope.start + slope.len() * tenth / 10;
                let pair = [self.fit(from..middle)?, self.fit(middle..to)?];
                Some((self.left_over(&pair.each_ref().map(Piece::of), from..to), pair))
            })
            .min_by(|a, b| a.0.total_cmp(&b.0))?;
        let between = pair[0].points.end..pair[1].points.start;
        let way = |r: &Ramp| r.before - r.after;
        let goes_on = way(&pair[0]).signum() == way(&pair[1]).signum();
        let least = pair.iter().map(|r| way(r).abs()).fold(f64::INFINITY, f64::min);
        let [first, second, level] =
            [pair[0].points.clone(), pair[1].points.clone(), between.clone()].map(|r| self.lasts(r));
        let stands = between.len() >= 5
            && level > LEAST_BETWEEN_S
            && LEVEL_BEFORE * level > second
            && LEVEL_AFTER * level > first;
        let worth = self.noise.worth((to - from) as f64);
        (goes_on
            && stands
            && least > 1.2 * LEAST_STEP
            && two < TWO_LEAVE * one
            && (one - two) * worth > TWO_TELL)
            .then_some(pair)
    }

    /// What levels with these slopes between them leave over of a stretch: mean square in variances of its noise, where nothing counts for more
    /// than a hundred.
    fn left_over(&self, slopes: &[Piece], stretch: Range<usize>) -> f64 {
        let sigma = self.noise.around(self.points, stretch.start).max(LEAST_SIGMA);
        let rate = |point: usize| {
            let r = slopes.iter().find(|r| point < r.points.end).or(slopes.last())?;
            let begins = (point as f64 - r.points.start as f64) / r.points.len().max(1) as f64;
            let (before, after) = (r.before.exp(), r.after.exp());
            Some((before + begins.clamp(0.0, 1.0) * (after - before)).ln())
        };
        let every = (stretch.len() / 500).max(1);
        let off = |p: usize| rate(p).map(|r| ((f64::from(self.filled[p]) - r) / sigma).powi(2).min(100.0));
        let all: Vec<f64> = stretch.step_by(every).filter_map(off).collect();
        all.iter().sum::<f64>() / all.len().max(1) as f64
    }

    /// The one slope that explains two, to this level and to the next, as well as they do.
    fn one_slope(&self, levels: &[Level], i: usize, slopes: [Range<usize>; 2]) -> Option<Range<usize>> {
        let [first, second] = slopes.clone();
        let length = second.end.max(first.end) - first.start;
        let from = Self::stands(levels, i - 1).start.max(first.start.saturating_sub(length));
        let to = Self::stands(levels, i + 1).end.min(second.end + length);
        let one = self.fit(from..to)?;
        let rates = [levels[i - 1].log_rate, levels[i].log_rate, levels[i + 1].log_rate];
        let two = [(first, 0), (second, 1)].map(|(points, k)| Piece {
            points,
            before: rates[k],
            after: rates[k + 1],
        });
        let (left, of_two) = (self.left_over(&[Piece::of(&one)], from..to), self.left_over(&two, from..to));
        (one.beats_a_step() && left < AS_WELL * of_two).then_some(one.points)
    }

    /// A slope that takes up most of the two levels beside it, and tells no more than a line that bends evenly, parts none: the whole
    /// slopes, as platters do from the first address to the last.
    pub(super) fn drop_lines(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i < levels.len() {
            let whole = levels[i - 1].points.start..levels[i].points.end;
            let most = levels[i]
                .ramp
                .as_ref()
                .is_some_and(|r| 2.0 * self.lasts(r.clone()) > self.lasts(whole.clone()));
            if most && self.fit(whole.clone()).is_some_and(|r| !r.beats_a_line()) {
                let carried = levels[i - 1].ramp.take();
                levels[i - 1] = Level { ramp: carried, ..self.level(whole) };
                levels.remove(i);
            } else {
                i += 1;
            }
        }
    }

    /// A slope down with no level before it that is worth one parts none: a drive whose spare blocks run out goes down so from the first byte
    /// on.
    pub(super) fn drop_slopes_without_level(&self, levels: &mut Vec<Level>) {
        let mut i = 1;
        while i < levels.len() {
            let (first, second) = (&levels[i - 1], &levels[i]);
            let slope = second.ramp.clone().filter(|r| self.goes_down(r)).unwrap_or_default();
            let begins = first.ramp.as_ref().map_or(first.points.start, |r| r.end);
            let before = begins..slope.start.min(first.points.end).max(begins);
            if !slope.is_empty()
                && (self.lasts(before.clone()) * LEVEL_BEFORE < self.lasts(slope.clone())
                    || i == 1 && self.slopes_like(before, first.log_rate, second, &slope))
            {
                let carried = levels[i - 1].ramp.take();
                let whole = levels[i - 1].points.start..levels[i].points.end;
                levels[i - 1] = Level { ramp: carried, ..self.level(whole) };
                levels.remove(i);
            } else {
                i += 1;
            }
        }
    }

    /// Mean ln(rate) of points without their stalls.
    fn mean(&self, points: Range<usize>) -> f64 {
        let all = &self.filled[points];
        all.iter().map(|v| f64::from(*v)).sum::<f64>() / all.len().max(1) as f64
    }

    /// By its own ends: what is beside it may hold another slope.
    fn goes_down(&self, slope: &Range<usize>) -> bool {
        let part = (slope.len() / 4).max(1);
        self.mean(slope.start..(slope.start + part).min(slope.end))
            > self.mean(slope.end.saturating_sub(part)..slope.end)
    }

    /// The stretch before a slope goes down as well, nearly as steeply, and by more than its noise.
    fn slopes_like(&self, before: Range<usize>, log_rate: f64, after: &Level, slope: &Range<usize>) -> bool {
        let third = before.len() / 3;
        if third < 3 {
            return false;
        }
        let ends = [before.start..before.start + third, before.end - third..before.end];
        let [from, to] = ends.clone().map(|r| self.local(r, log_rate));
        let error = self.noise.around(self.points, before.start).max(LEAST_SIGMA)
            * (2.0 / self.noise.worth(third as f64)).sqrt();
        let between = self.lasts(before.clone()) * 2.0 / 3.0;
        let steep = (to.exp() - after.log_rate.exp()) / self.lasts(slope.clone());
        from - to > LEAST_SIGMAS * error && (from.exp() - to.exp()) / between > AS_STEEP * steep
    }

    /// Medians of blocks of a stretch, or of either of its ends, differ by most of a step at least: else no slope is in it that is worth a fit.
    fn moves(&self, stretch: &Range<usize>) -> bool {
        let end = stretch.len() / ENDS;
        let ends = [stretch.start..stretch.start + end, stretch.end - end..stretch.end];
        std::iter::once(stretch.clone()).chain(ends).any(|range| {
            let blocks = range.len().min(BLOCKS);
            let edge = |k: usize| range.start + range.len() * k / blocks.max(1);
            let middle =
                |k: usize| stats::median(&mut stats::spaced(&self.filled[edge(k)..edge(k + 1)], IN_BLOCK));
            let (low, high) = (0..blocks)
                .filter_map(middle)
                .fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), m| (l.min(m), h.max(m)));
            high - low > 0.8 * LEAST_STEP
        })
    }

    /// What looks like one level may be two with a slope between them, which has no place to be cut at.
    pub(super) fn split_slopes(&self, levels: &mut Vec<Level>) {
        let mut i = 0;
        while i < levels.len() {
            let Range { start: from, end: to } = Self::stands(levels, i);
            let comes_down = levels[i].ramp.as_ref().map(|r| self.goes_down(r));
            let stands = |r: &Ramp| {
                let (before, after) = (r.points.start - from, to - r.points.end);
                let least = self.lasts(r.points.clone()) / 12.0;
                let stands_long = |points: Range<usize>| points.len() >= 5 && self.lasts(points) >= least;
                let noise = self.noise.around(self.points, r.points.start).max(LEAST_SIGMA);
                let worth = |n: usize| self.noise.worth(n as f64).min(MOST_INDEPENDENT);
                let error = noise * (1.0 / worth(before.max(1)) + 1.0 / worth(after.max(1))).sqrt();
                let step = (r.before - r.after).abs();
                // Where a slope turns there is no level, or hardly one.
                let turns = comes_down.is_some_and(|down| down != (r.before > r.after));
                (turns || stands_long(from..r.points.start))
                    && stands_long(r.points.end..to)
                    && step >= 1.2 * LEAST_STEP
                    && step > LEAST_SIGMAS * error
                    && r.beats_a_step()
                    && r.beats_a_line()
            };
            // The whole, or parts of it, where one slope hides another.
            let tenth = |n: usize| from + (to - from) * n / 10;
            let parts = [(0, 10), (0, 6), (4, 10), (2, 8)].map(|(a, b)| tenth(a)..tenth(b));
            // A record begins with its shortest levels.
            let begins = [4, 8, 16, 32, 64].map(|n| from..from + (to - from) / n);
            let parts = parts.into_iter().chain(begins.into_iter().filter(|p| p.len() >= 40));
            let long = self.run.seconds(self.series, &(from..to)) > 4.0 * LEAST_SLOPE_S;
            let found =
                parts.filter(|p| long && self.moves(p)).find_map(|p| self.rough_fit(p).filter(stands));
            if let Some(r) = found {
                // What is left of it may hold another.
                self.part(levels, i..=i, r.points);
            } else {
                i += 1;
            }
        }
    }
}
