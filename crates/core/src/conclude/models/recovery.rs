//! How the cache comes back with rest: what was back after each, and the curves that agree with that.

use serde::{Deserialize, Serialize};

use super::Refusal;
use super::curves::{Curve, FAMILIES, Fitted, Point, Shape, fit};
use crate::conclude::Stint;
use crate::quantity::Interval;
use crate::quantity::stats::student_975;
use crate::quantity::units::span_words;

/// What one write after a rest got from the cache.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Restored {
    /// Length of the rest, seconds.
    pub rest_s: f64,
    /// Bytes at the first level's speed after it.
    pub bytes: f64,
    /// It was not used up: there may have been more.
    pub at_least: bool,
    /// How full the drive was when the write began, 0 to 1.
    #[serde(default)]
    pub fill: Option<f64>,
    /// Standard error of the bytes, from how well the place of the end is known.
    #[serde(default)]
    pub error: f64,
}

/// How the cache comes back with rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recovery {
    /// What was measured, shortest rest first.
    pub measured: Vec<Restored>,
    /// Bytes in the long run, at the fill of the first write.
    pub whole_bytes: Interval,
    /// Bytes that rest restores in a second, up to half of the cache.
    pub bytes_per_s: f64,
    /// It comes back at an even pace until it is whole; otherwise ever slower, with this time constant in seconds.
    pub tau_s: Option<f64>,
    /// Rest for half, seconds.
    pub half_s: Interval,
    /// Rest for all of it but a twentieth, seconds: less than that no drive gives back alike.
    pub all_s: Interval,
    /// How much the drive scatters.
    #[serde(skip)]
    pub(super) scatter: Scatter,
}

/// How much more or less a drive gives back from one time to the next.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(super) struct Scatter {
    /// Variance, in that which is assumed at first (see [`assumed_variance`]).
    variance: f64,
    /// Degrees of freedom that it is known with, what is assumed counted in.
    freedom: f64,
}

impl Scatter {
    /// From what was left over, in that which is assumed, by so many measurements more than there were parameters.
    pub(super) fn of(left_over: f64, freedom: f64) -> Self {
        let freedom = PRIOR_WORTH + freedom;
        Self { variance: ((PRIOR_WORTH + left_over) / freedom).max(0.5), freedom }
    }

    /// Square of what makes a 95 % interval of a standard error in what is assumed (Student's t).
    pub(super) fn reach(self) -> f64 {
        student_975(self.freedom).powi(2) * self.variance
    }
}

/// What counts as all of it.
const ALL: f64 = 0.95;
/// Writes at levels of fill closer than this meet the same cache.
pub(super) const LIKE_FILL: f64 = 0.03;
/// A drive gives back not the same each time: by so much of the whole, one standard deviation. Counts as `PRIOR_WORTH` measurements.
const SCATTER: f64 = 0.02;
const PRIOR_WORTH: f64 = 3.0;
/// Where no end was found there may have been so much, as a share of the whole: too little to show.
const OVERLOOKED: f64 = 0.05;
/// The first write is left out where the curves leave so much less over without it, in variances of what the drive scatters by them.
const LEFT_OUT: f64 = 9.0;
/// Curves of four families cover a little more than one would: their profiles are cut at this share of what a single one is cut at. Chosen
/// on 1,200 hauls of `proving::cache`; what it comes to on others is in docs/findings.md.
pub(super) const FAMILIES_COVER: f64 = 0.9;
/// What is left over by more than this, for each degree of freedom in variances of what a drive scatters, follows none of what was tried.
pub(super) const NONE_OF_THEM: f64 = 25.0;
/// Intervals wider than this, as ratio of their ends, say nothing.
const WIDEST: f64 = 20.0;

/// Of which a profile is taken.
#[derive(Debug, Clone, Copy)]
enum Of {
    Half,
    All,
}

impl Of {
    const fn share(self) -> f64 {
        match self {
            Self::Half => 0.5,
            Self::All => ALL,
        }
    }
}

/// Variance of what a drive gives back, as it is assumed at first, and of how well it is known: small amounts scatter less, though never by
/// nothing.
pub(super) fn assumed_variance(bytes: f64, error: f64, whole: f64) -> f64 {
    (SCATTER * bytes.max(0.2 * whole)).powi(2) + error.powi(2)
}

/// The curves that are tried.
struct Search<'a> {
    points: &'a [Point],
    shortest: f64,
    longest: f64,
    /// The shortest rest that brought something back: it may wait as long.
    some: f64,
    /// The most that a cache may shrink for each share of fill; 0 where all fills are alike.
    shrinks: f64,
}

impl<'a> Search<'a> {
    fn new(points: &'a [Point], complete: &[&Restored], whole: f64) -> Self {
        let (shortest, longest) = (complete[0].rest_s, complete[complete.len() - 1].rest_s);
        let some = complete.iter().find(|m| m.bytes > 0.03 * whole).map_or(shortest, |m| m.rest_s);
        let apart = apart(points);
        let shrinks = if apart > LIKE_FILL { (0.95 / apart).min(1.5) } else { 0.0 };
        Self { points, shortest, longest, some, shrinks }
    }

    /// Measurements beyond what a curve has of parameters.
    fn freedom(&self) -> f64 {
        let counted = self.points.iter().filter(|p| !p.at_least).count() as f64;
        (counted - if self.shrinks > 0.0 { 4.0 } else { 3.0 }).max(0.0)
    }

    /// Variance of what the drive scatters, in that which was assumed, by what a curve leaves over.
    fn scatter(&self, cost: f64) -> f64 {
        Scatter::of(cost, self.freedom()).variance
    }

    /// The best curve of each family.
    fn valleys(&self) -> Vec<Fitted> {
        FAMILIES.iter().filter_map(|f| Some(self.polished(self.coarse(f)?, None))).collect()
    }

    /// The longest scale that is tried.
    fn most(&self) -> f64 {
        self.longest * 20.0
    }

    /// The best of a coarse look at these shapes.
    fn coarse(&self, shapes: &[Shape]) -> Option<Fitted> {
        let shrunk = if self.shrinks > 0.0 { 5 } else { 1 };
        let least = (self.shortest / 20.0).max(0.05);
        let step = (self.most() / least).ln() / 60.0;
        let mut best: Option<Fitted> = None;
        for &shape in shapes {
            for wait in 0..4 {
                for part in 0..shrunk {
                    for i in 0..=60 {
                        let curve = Curve {
                            shape,
                            delay: self.some * f64::from(wait) * 0.24,
                            scale: least * (step * f64::from(i)).exp(),
                            shrinks: self.shrinks * f64::from(part) / 4.0,
                        };
                        best = better(best, fit(curve, self.points));
                    }
                }
            }
        }
        best
    }

    /// The nearest valley: steps in each direction, ever smaller. With a time that is held the scale follows from the others.
    fn polished(&self, from: Fitted, held: Option<(Of, f64)>) -> Fitted {
        let mut best = from;
        let mut reach = 1.0;
        for _ in 0..12 {
            let mut moved = true;
            let mut turns = 0;
            while moved && turns < 20 {
                moved = false;
                turns += 1;
                for axis in 0..5 {
                    for sign in [-1.0, 1.0] {
                        let Some(curve) = self.step(best.curve, axis, sign * reach, held) else { continue };
                        if let Some(found) = fit(curve, self.points)
                            && found.cost < best.cost - 1e-9
                        {
                            (best, moved) = (found, true);
                        }
                    }
                }
            }
            reach *= 0.5;
        }
        best
    }

    fn step(&self, from: Curve, axis: usize, by: f64, held: Option<(Of, f64)>) -> Option<Curve> {
        let mut curve = from;
        match (axis, curve.shape) {
            (0, _) if held.is_none() => curve.scale *= (0.3 * by).exp(),
            (1, _) => curve.delay = (curve.delay + 0.3 * by * self.some).clamp(0.0, 0.95 * self.some),
            (2, Shape::Power(p)) => curve.shape = Shape::Power((p * (0.3 * by).exp()).clamp(0.4, 2.5)),
            (2, Shape::Ends(p)) => curve.shape = Shape::Ends((p * (0.3 * by).exp()).clamp(1.0, 4.0)),
            (2, Shape::Knee(time, back)) => {
                curve.shape = Shape::Knee((time + 0.3 * by).clamp(0.05, 0.95), back);
            }
            (3, Shape::Knee(time, back)) => {
                curve.shape = Shape::Knee(time, (back + 0.3 * by).clamp(0.2, 0.8));
            }
            (4, _) if self.shrinks > 0.0 => {
                curve.shrinks = (curve.shrinks + 0.3 * by * self.shrinks).clamp(0.0, self.shrinks);
            }
            _ => return None,
        }
        held.map_or(Some(curve), |(of, time)| Self::held_to(curve, of, time))
    }

    /// The same with the scale at which this share is back after this time.
    fn held_to(curve: Curve, of: Of, time: f64) -> Option<Curve> {
        let scale = (time - curve.delay) / curve.shape.until(of.share());
        (scale > 0.0).then_some(Curve { scale, ..curve })
    }

    /// The curves that hold a time, ever further from that of the best, until they leave over more than `most`.
    fn profile(&self, best: Fitted, of: Of, most: f64, agree: &mut Vec<Fitted>) {
        agree.push(best);
        for sign in [-1.0, 1.0] {
            let (mut last, mut stride) = (best, 0.02);
            let mut time = best.curve.rest_for(of.share());
            for _ in 0..80 {
                let next = time * f64::exp(sign * stride);
                // The delay gives way where the time is shorter than it.
                let delay = last.curve.delay.min(0.9 * next);
                let start = Self::held_to(Curve { delay, ..last.curve }, of, next);
                let Some(start) = start.and_then(|c| fit(c, self.points)) else { break };
                let found = self.polished(start, Some((of, next)));
                if found.cost > most {
                    if stride < 0.006 {
                        break;
                    }
                    stride *= 0.5;
                    continue;
                }
                (time, last) = (next, found);
                stride = (stride * 1.3).min(0.2);
                agree.push(found);
                if found.curve.scale > self.most() {
                    break;
                }
            }
        }
    }
}

fn better(a: Option<Fitted>, b: Option<Fitted>) -> Option<Fitted> {
    match (a, b) {
        (Some(a), Some(b)) => Some(if b.cost < a.cost { b } else { a }),
        (a, b) => a.or(b),
    }
}

/// How far the fills of writes lie from that of the first.
fn apart(points: &[Point]) -> f64 {
    points.iter().map(|p| p.fuller.abs()).fold(0.0, f64::max)
}

/// Bytes of a write up to its first end, and their standard error by how well the place of the end is known.
pub(super) fn until_end(write: &Stint) -> Option<(f64, f64)> {
    let end = write.ends.first()?;
    let error = end.written_high.saturating_sub(end.written_low).as_f64() / 3.92;
    Some((end.written.saturating_sub(write.written_before).as_f64(), error))
}

/// What was back after each rest that followed a cache that was used up, shortest rest first; each with the fill over that of the first
/// write that ended.
fn measured(stints: &[Stint], only_rested: &[bool], whole: f64, capacity: f64) -> Vec<(Restored, f64)> {
    let fastest = stints.first().map_or(0.0, |s| s.fastest.get());
    let first = stints.iter().find(|s| !s.ends.is_empty());
    // Where nobody told the fill, all that was written may have gone to new places.
    let fuller = |s: &Stint| {
        first.map_or(0.0, |f| match s.fill.zip(f.fill) {
            Some((now, then)) => now - then,
            None => s.written_before.saturating_sub(f.written_before).as_f64() / capacity.max(1.0),
        })
    };
    let mut measured: Vec<(Restored, f64)> = stints
        .windows(2)
        .zip(only_rested.iter().skip(1))
        .filter(|(_, only_rested)| **only_rested)
        .map(|(w, _)| w)
        .filter(|w| !w[0].ends.is_empty() || w[0].fastest.get() < 0.7 * fastest)
        .filter_map(|w| {
            let rest_s = w[1].rested_s?;
            // A write that is as slow as the cache-less drive from its start found nothing to use.
            let nothing = w[1].ends.is_empty() && w[1].fastest.get() < 0.6 * fastest;
            let (bytes, error) = match until_end(&w[1]) {
                Some(known) => known,
                None if nothing => (0.0, OVERLOOKED * whole),
                None => (w[1].written.as_f64(), 0.0),
            };
            let at_least = w[1].ends.is_empty() && !nothing;
            Some((Restored { rest_s, bytes, at_least, fill: w[1].fill, error }, fuller(&w[1])))
        })
        .collect();
    measured.sort_by(|a, b| a.0.rest_s.total_cmp(&b.0.rest_s));
    measured
}

/// How the cache comes back, from the writes of one load in order, and which of them came after nothing but a rest; `whole` is the first
/// level of the first of them that ended, in bytes, `capacity` that of the drive.
///
/// The curves that are tried (even or slowing, with or without a delay, on a cache that shrinks with fill or not) are weighed against
/// each other by what they leave over; an interval holds whatever curve is not refused at 95 % (profile likelihood, with the scatter of
/// the drive as unknown).
///
/// # Errors
/// Why it cannot be told.
pub fn recovery(
    stints: &[Stint],
    only_rested: &[bool],
    whole: Interval,
    capacity: f64,
) -> Result<Recovery, Refusal> {
    let remedy = "haul breather: it writes past the cache end after ever longer rests";
    let refuse = |why: &str| {
        Err(Refusal::new(format!("Cannot tell how the cache comes back, because {why}."), remedy))
    };
    let found = measured(stints, only_rested, whole.value, capacity);
    let complete: Vec<&Restored> = found.iter().map(|(m, _)| m).filter(|m| !m.at_least).collect();
    if complete.len() < 2 {
        return refuse("fewer than two rests were followed by a write to the cache end");
    }
    let (shortest, longest) = (complete[0].rest_s, complete[complete.len() - 1].rest_s);
    if longest < 1.5 * shortest.max(1.0) {
        return refuse("the rests are of about one length");
    }
    let variance = |bytes: f64, error: f64| assumed_variance(bytes, error, whole.value);
    let mut points: Vec<Point> = found
        .iter()
        .map(|(m, fuller)| Point {
            rest_s: Some(m.rest_s),
            bytes: m.bytes,
            at_least: m.at_least,
            fuller: *fuller,
            variance: variance(m.bytes, m.error),
        })
        .collect();
    // The first write found what a rest as long as may be gives, and perhaps more than ever comes back while others write.
    points.push(Point {
        rest_s: None,
        bytes: whole.value,
        at_least: false,
        fuller: 0.0,
        variance: variance(whole.value, whole.half() / 1.96),
    });
    let least = |found: &[Fitted]| found.iter().copied().reduce(|a, b| if b.cost < a.cost { b } else { a });
    let with_first = Search::new(&points, &complete, whole.value).valleys();
    let alone = Search::new(&points[..points.len() - 1], &complete, whole.value);
    let without_first = alone.valleys();
    let leave_out = least(&with_first).zip(least(&without_first)).is_some_and(|(with, without)| {
        with.cost - without.cost > LEFT_OUT * alone.scatter(without.cost)
            && complete.iter().filter(|m| without.curve.at(m.rest_s) >= 0.95).count() >= 2
    });
    let tried = if leave_out {
        // What came back after long rests is one amount, and another than was there at first: of that no rest tells.
        points.pop();
        without_first
    } else {
        with_first
    };
    let search = Search::new(&points, &complete, whole.value);
    let Some(best) = least(&tried) else {
        return refuse("what came back after the rests does not follow one curve");
    };
    let free = search.freedom();
    let scatter = Scatter::of(best.cost, free);
    let beyond = scatter.reach();
    // Far more than a drive scatters: none of the curves.
    if free >= 1.0 && best.cost / free > NONE_OF_THEM {
        return refuse("what came back after the rests does not follow one curve");
    }
    let most = best.cost + FAMILIES_COVER * beyond;
    let mut agree = Vec::new();
    for valley in tried.iter().filter(|f| f.cost <= most) {
        for of in [Of::Half, Of::All] {
            search.profile(*valley, of, most, &mut agree);
        }
    }
    let span = |value: f64, of: &dyn Fn(&Fitted) -> (f64, f64)| {
        let (low, high) = agree.iter().map(of).fold((value, value), |(l, h), (a, b)| (l.min(a), h.max(b)));
        Interval { value, low, high }
    };
    let same = |x: f64| (x, x);
    let whole_bytes = span(best.whole, &|f| {
        let reach = ((best.cost + beyond - f.cost).max(0.0) / f.information).sqrt();
        (f.whole - reach, f.whole + reach)
    });
    // The longest of those tried: there is no telling how long.
    if agree.iter().any(|f| f.curve.scale >= search.most() * 0.99) {
        return refuse(&format!("too little came back within {}", span_words(longest)));
    }
    let there = |fuller: f64| whole_bytes.value * (1.0 - best.curve.shrinks * fuller);
    let measured: Vec<Restored> = found.iter().map(|(m, _)| *m).collect();
    if found.iter().filter(|(m, _)| !m.at_least).all(|(m, fuller)| m.bytes >= 0.96 * there(*fuller)) {
        // Even the shortest rest was enough: only a bound is known.
        let at_most = Interval { value: shortest, low: 0.0, high: shortest };
        let bytes_per_s = whole_bytes.value / shortest.max(1.0);
        return Ok(Recovery {
            measured,
            whole_bytes,
            bytes_per_s,
            tau_s: None,
            half_s: at_most,
            all_s: at_most,
            scatter,
        });
    }
    let all_of = |f: &Fitted| f.curve.rest_for(ALL);
    let half_s = span(best.curve.rest_for(0.5), &|f| same(f.curve.rest_for(0.5)));
    let all_s = span(all_of(&best), &|f| same(all_of(f)));
    if half_s.high > WIDEST * half_s.low {
        return refuse("the rests are too few, or too much alike, to tell one curve from another");
    }
    Ok(Recovery {
        measured,
        whole_bytes,
        bytes_per_s: 0.5 * best.whole / half_s.value,
        tau_s: (best.curve.shape == Shape::Slowing).then_some(best.curve.scale),
        half_s,
        all_s,
        scatter,
    })
}
