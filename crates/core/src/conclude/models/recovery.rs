//! How the cache comes back with rest: what was back after each, and the curves that agree with that.

use serde::{Deserialize, Serialize};

use super::Refusal;
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
const FAMILIES_COVER: f64 = 0.9;
/// Intervals wider than this, as ratio of their ends, say nothing.
const WIDEST: f64 = 20.0;

/// The shape in which it comes back. Drives do not ask what curves we know: what lies between the rests is left as open as these leave it.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Shape {
    /// As a power of the time until it is whole: at 1 as much in each second, below quickly at first and above slowly at first.
    Power(f64),
    /// At two paces, each of them even: after this share of the time this share is back. Each brings back a fifth at least.
    Knee(f64, f64),
    /// As much of what is missing in each second.
    Slowing,
    /// Slow at both ends: the odds of what is back are this power of those of the time.
    Ends(f64),
}

impl Shape {
    /// The share of the scale after which this share is back.
    fn until(self, share: f64) -> f64 {
        match self {
            Self::Power(p) => share.powf(1.0 / p),
            Self::Knee(time, back) if share <= back => share / back * time,
            Self::Knee(time, back) => time + (share - back) / (1.0 - back) * (1.0 - time),
            Self::Slowing => -(1.0 - share).ln(),
            Self::Ends(p) => {
                let odds = (share / (1.0 - share)).powf(1.0 / p);
                odds / (1.0 + odds)
            }
        }
    }
}

/// What is tried first of each family.
const FAMILIES: [&[Shape]; 4] = [
    &[Shape::Power(1.0), Shape::Power(0.5), Shape::Power(0.7), Shape::Power(1.6)],
    &[Shape::Knee(0.3, 0.7), Shape::Knee(0.7, 0.3), Shape::Knee(0.2, 0.4), Shape::Knee(0.5, 0.8)],
    &[Shape::Slowing],
    &[Shape::Ends(1.4), Shape::Ends(2.0), Shape::Ends(2.8)],
];

/// A curve: nothing for so long, then in this shape.
#[derive(Debug, Clone, Copy)]
struct Curve {
    shape: Shape,
    delay: f64,
    /// Until it is whole, or the time constant.
    scale: f64,
    /// What of the cache goes with each share of fill.
    shrinks: f64,
}

impl Curve {
    /// Share that is back after such a rest.
    fn at(&self, rest_s: f64) -> f64 {
        let x = ((rest_s - self.delay) / self.scale).max(0.0);
        match self.shape {
            Shape::Power(1.0) => x.min(1.0),
            Shape::Power(p) => x.min(1.0).powf(p),
            Shape::Knee(time, back) if x <= time => x / time * back,
            Shape::Knee(time, back) => (back + (x - time) / (1.0 - time) * (1.0 - back)).min(1.0),
            Shape::Slowing => 1.0 - (-x).exp(),
            Shape::Ends(_) if x >= 1.0 => 1.0,
            Shape::Ends(p) => {
                let odds = (x / (1.0 - x)).powf(p);
                odds / (1.0 + odds)
            }
        }
    }

    /// Rest for this share.
    fn rest_for(&self, share: f64) -> f64 {
        self.delay + self.scale * self.shape.until(share)
    }
}

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

/// A write as the fit sees it.
struct Point {
    /// `None`: before the haul, as long as may be.
    rest_s: Option<f64>,
    bytes: f64,
    at_least: bool,
    /// Fill over that of the first write.
    fuller: f64,
    variance: f64,
}

/// A curve with what it leaves over.
#[derive(Debug, Clone, Copy)]
struct Fitted {
    curve: Curve,
    whole: f64,
    /// Sum of the squares of what is left over, in standard errors.
    cost: f64,
    /// Information about the whole: 1 / its variance for this curve.
    information: f64,
}

fn fit(curve: Curve, points: &[Point]) -> Option<Fitted> {
    let share = |p: &Point| {
        let room = (1.0 - curve.shrinks * p.fuller).max(0.0);
        p.rest_s.map_or(1.0, |t| curve.at(t)) * room
    };
    // What is only a lower bound counts where the curve stays below it: found again and again until it stays.
    let mut counted: Vec<bool> = points.iter().map(|p| !p.at_least).collect();
    for _ in 0..4 {
        let of = || points.iter().zip(&counted).filter(|(_, c)| **c).map(|(p, _)| p);
        let information: f64 = of().map(|p| share(p).powi(2) / p.variance).sum();
        if information <= 0.0 {
            return None;
        }
        let whole = of().map(|p| share(p) * p.bytes / p.variance).sum::<f64>() / information;
        let cost = of().map(|p| (whole * share(p) - p.bytes).powi(2) / p.variance).sum();
        let now: Vec<bool> = points.iter().map(|p| !p.at_least || whole * share(p) < p.bytes).collect();
        if now == counted {
            return Some(Fitted { curve, whole, cost, information });
        }
        counted = now;
    }
    None
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
        ((PRIOR_WORTH + cost) / (PRIOR_WORTH + self.freedom())).max(0.5)
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
            let (bytes, error) = match w[1].ends.first() {
                Some(end) => (
                    end.written.saturating_sub(w[1].written_before).as_f64(),
                    end.written_high.saturating_sub(end.written_low).as_f64() / 3.92,
                ),
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
    let variance = |bytes: f64, error: f64| {
        // Small amounts scatter less, though never by nothing.
        (SCATTER * bytes.max(0.2 * whole.value)).powi(2) + error.powi(2)
    };
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
    let beyond = student_975(PRIOR_WORTH + free).powi(2) * search.scatter(best.cost);
    // Far more than a drive scatters: none of the curves.
    if free >= 1.0 && best.cost / free > 25.0 {
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
    })
}
