//! Where exactly one level gives way to the next: to the sample, and within it.

use std::ops::Range;
use std::time::Duration;

use crate::quantity::stats;
use crate::quantity::units::Bytes;

use super::levels::{LEAST_STEP, Level};
use crate::readings::Series;
use crate::readings::run::Run;

/// A place in a record, on every ruler.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// First sample that belongs wholly or mostly to what follows.
    pub sample: usize,
    /// Since the haul began.
    pub elapsed: Duration,
    /// When it began to change: the same, unless it took its time.
    pub begins: Duration,
    /// Bytes written since the haul began.
    pub written: Bytes,
    /// 95 % interval of `written`.
    pub low: Bytes,
    /// 95 % interval of `written`.
    pub high: Bytes,
    /// Address.
    pub position: Option<Bytes>,
    /// Seconds in which the rate lay between the two levels.
    pub width_s: f64,
}

impl Place {
    /// How long it took, where it was no step.
    pub fn took(&self) -> Option<Duration> {
        (self.begins < self.elapsed).then(|| Duration::from_secs_f64(self.width_s))
    }

    /// Bytes written when it began to change.
    pub fn starts(&self) -> Bytes {
        if self.begins < self.elapsed { self.low } else { self.written }
    }
}

/// Likelihood ratio that bounds a 95 % interval: half of χ²₁(0.95) = 3.84.
const WITHIN: f64 = 1.92;
/// Degrees of freedom of the noise of a single sample (Student's t): heavier tails than the normal law's, lighter than Laplace's. Chosen.
const TAILS: f64 = 14.0;
/// No drive is as even as this, in ln.
const LEAST_SAMPLE_SIGMA: f64 = 0.004;
/// So many samples on either side tell what the rate was there, beside the one that may have been shared.
const BESIDE: usize = 3;
/// They count where they are off their level by more than so many of its standard deviations, or by a step.
const OFF_SIGMAS: f64 = 3.0;
/// So long on either side the rate is looked at for swings.
const SWINGS: Duration = Duration::from_secs(16);
/// It swings where it goes so often from the one to the other of two rates that are further apart than so many standard deviations of a sample.
const LEAST_TURNS: usize = 3;
const SWUNG_SIGMAS: f64 = 6.0;
/// One stall must not outweigh the rest.
const MOST_COST: f64 = 12.0;

/// Finds the place of the boundary between two neighbouring levels of a run.
///
/// Over the raw samples around it the split with the least sum of absolute deviations from the two levels is taken
/// (Laplace noise: robust against stalls); splits whose likelihood is within the χ² bound make the interval. A sample
/// that lies between the two levels was shared by them; its share gives the place within it.
pub fn locate(run: &Run, series: &Series, left: &Level, right: &Level) -> Place {
    if let Some(slope) = &right.ramp {
        return on_slope(run, series, left, right, slope);
    }
    let edge = right.points.start;
    let points = edge.saturating_sub(4).max(left.points.start)..(edge + 4).min(right.points.end);
    let range = run.samples(&points);
    let split = best_split(run, series, &range, points.len(), left, right);
    let (hi, lo) = (left.exit_rate().get(), right.entry_rate().get());
    let mut sample = split.best;
    let mut share = 0.0;
    // What noise makes of a whole sample is no share.
    let margin = (3.0 * left.sigma.max(right.sigma)).clamp(0.01, 0.08);
    // The sample in which it happened stands on either side of the split.
    for i in [split.best.saturating_sub(1), split.best] {
        let part = (series.rate(i.min(series.len() - 1)) - lo) / (hi - lo);
        if range.contains(&i) && (margin..1.0 - margin).contains(&part) {
            sample = i;
            share = part;
            break;
        }
    }
    let sample = sample.min(series.len() - 1);
    let begin_s = if sample == 0 { 0.0 } else { series.end_s(sample - 1) };
    let written_here = series.written(sample) - series.written_before(sample);
    // Time share at the level before; bytes in that time at that level, never more than there were.
    let span = series.loaded_s(sample..sample + 1);
    let before = ((span * share * hi) as u64).min(written_here);
    let written = series.written_before(sample) + before;
    let low = split.low.min(written);
    let high = split.high.max(written).min(series.written(series.len() - 1));
    let position = series.position(sample).map(|end| {
        let moved = series.moved(sample) - series.moved_before(sample);
        let past = moved.saturating_sub(before.min(moved));
        Bytes::new(end.get().saturating_sub(past))
    });
    Place {
        sample,
        elapsed: Duration::from_secs_f64((begin_s + span * share).max(0.0)),
        begins: Duration::from_secs_f64((begin_s + span * share).max(0.0)),
        written: Bytes::new(written),
        low: Bytes::new(low),
        high: Bytes::new(high),
        position,
        width_s: split.between_s,
    }
}

/// The place of a boundary that is a slope: where half of the fall is over. The interval is the slope.
fn on_slope(run: &Run, series: &Series, left: &Level, right: &Level, slope: &Range<usize>) -> Place {
    let samples = run.samples(slope);
    let half = 0.5 * (left.exit_rate().get() + right.entry_rate().get());
    let falls = left.log_rate > right.log_rate;
    // The split of the slope with the fewest samples on the wrong side of half of the fall.
    let beyond = |i: usize| (series.rate(i) < half) == falls;
    let mut wrong = samples.clone().filter(|i| !beyond(*i)).count() as i64;
    let (mut best, mut least) = (samples.start, wrong);
    for i in samples.clone() {
        wrong += if beyond(i) { 1 } else { -1 };
        if wrong < least {
            (best, least) = (i + 1, wrong);
        }
    }
    let sample = best.min(series.len() - 1);
    let begin_s = if sample == 0 { 0.0 } else { series.end_s(sample - 1) };
    let last = series.len() - 1;
    Place {
        sample,
        elapsed: Duration::from_secs_f64(begin_s.max(0.0)),
        begins: series.end(samples.start.max(1) - 1),
        written: Bytes::new(series.written_before(sample)),
        low: Bytes::new(series.written_before(samples.start)),
        high: Bytes::new(series.written(samples.end.max(1).min(last + 1) - 1)),
        position: series.position(sample),
        width_s: series.loaded_s(samples),
    }
}

/// How far a sample is off the one before it, in ln, as noise of a single one: what swings for several samples is not in it.
fn from_one_to_next(series: &Series, stretches: [Range<usize>; 2]) -> f64 {
    let mut steps: Vec<f64> = stretches
        .into_iter()
        .flat_map(|s| s.clone().zip(s.skip(1)))
        .map(|(i, j)| (series.rate(j).max(1.0) / series.rate(i).max(1.0)).ln().abs())
        .collect();
    stats::median(&mut steps)
        .map_or(f64::INFINITY, |m| (m * 1.4826 / std::f64::consts::SQRT_2).max(LEAST_SAMPLE_SIGMA))
}

/// The two rates between which these samples go up and down.
fn swings_between(series: &Series, samples: Range<usize>, sigma: f64) -> Option<[f64; 2]> {
    let rates: Vec<f64> = samples.map(|i| series.rate(i)).collect();
    let mut some = rates.clone();
    let middle = stats::median(&mut some)?;
    // Stalls are none of it.
    some.retain(|r| *r > 0.2 * middle);
    some.sort_by(f64::total_cmp);
    let (low, high) = (*some.get(some.len() / 10)?, *some.get(some.len() * 9 / 10)?);
    let apart = (high / low).ln();
    if apart < (SWUNG_SIGMAS * sigma).max(LEAST_STEP) {
        return None;
    }
    let (lower, upper) = (low * (0.35 * apart).exp(), low * (0.65 * apart).exp());
    let (mut turns, mut was_high) = (0, None);
    for rate in rates.into_iter().filter(|r| *r > 0.2 * middle && (*r < lower || *r > upper)) {
        let is_high = rate > upper;
        turns += usize::from(was_high.is_some_and(|h| h != is_high));
        was_high = Some(is_high);
    }
    (turns >= LEAST_TURNS).then_some([low, high])
}

struct Split {
    best: usize,
    /// 95 % interval of the bytes written before it.
    low: u64,
    high: u64,
    between_s: f64,
}

/// Where points are longer than samples, the samples scatter more: by how much, in ln, about whichever of the two levels is nearer.
fn noise_of_samples(
    series: &Series,
    range: &Range<usize>,
    points: usize,
    left: &Level,
    right: &Level,
) -> f64 {
    if range.len() < 2 * points {
        return 0.0;
    }
    let (before, after) = (left.exit_rate().get(), right.entry_rate().get());
    let off = |i: usize| {
        let rate = series.rate(i).max(1.0);
        (rate / before).ln().abs().min((rate / after).ln().abs())
    };
    stats::median(&mut range.clone().map(off).collect::<Vec<_>>()).map_or(0.0, |m| m * 1.4826)
}

fn best_split(
    run: &Run,
    series: &Series,
    range: &Range<usize>,
    points: usize,
    left: &Level,
    right: &Level,
) -> Split {
    let of_samples = noise_of_samples(series, range, points, left, right);
    let sigma = left.sigma.max(right.sigma).max(of_samples);
    let scale = (sigma / std::f64::consts::SQRT_2).max(0.004);
    let (before, after) = (left.exit_rate().get(), right.entry_rate().get());
    let cost = |i: usize, level: f64| ((series.rate(i).max(1.0) / level).ln().abs() / scale).min(MOST_COST);
    let mut sum: f64 = range.clone().map(|i| cost(i, after)).sum();
    let mut costs = vec![sum];
    let (mut best, mut least) = (range.start, sum);
    for i in range.clone() {
        sum += cost(i, before) - cost(i, after);
        costs.push(sum);
        if sum < least {
            least = sum;
            best = i + 1;
        }
    }
    let near = |c: &f64| *c <= least + WITHIN;
    let first = costs.iter().position(near).map_or(best, |k| range.start + k);
    let last = costs.iter().rposition(near).map_or(best, |k| range.start + k);
    let (top, bottom) = (before.max(after), before.min(after));
    let between = |i: &usize| (0.1..0.9).contains(&((series.rate(*i) - bottom) / (top - bottom)));
    let around = first.saturating_sub(3).max(range.start)..(last + 3).min(range.end);
    let between_s = around.filter(between).map(|i| series.loaded_s(i..i + 1)).sum();
    let (befores, afters) = possible_rates(run, series, range, best, sigma, (before, after));
    let of_both = (0.5 * (left.sigma.powi(2) + right.sigma.powi(2))).sqrt().max(of_samples);
    let pairs = befores.iter().flat_map(|b| afters.iter().map(move |a| (*b, *a)));
    let (low, high) = pairs
        .filter(|(b, a)| b.total_cmp(a) == before.total_cmp(&after) && b != a)
        .filter_map(|pair| interval(series, range, of_both, pair))
        .reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)))
        .unwrap_or_else(|| (series.written_before(first), series.written_before(last.min(series.len()))));
    Split { best, low, high, between_s }
}

/// The rates that a sample in which one level gave way to the other may have shared. A rate that swings is not what its level is in the mean:
/// it may have been what it was beside the split, or either end of its swings.
fn possible_rates(
    run: &Run,
    series: &Series,
    range: &Range<usize>,
    split: usize,
    sigma: f64,
    (before, after): (f64, f64),
) -> (Vec<f64>, Vec<f64>) {
    let at = |i: usize| i.clamp(range.start, range.end);
    let (left_of, right_of) = (range.start..at(split.saturating_sub(1)), at(split + 1)..range.end);
    let own = from_one_to_next(series, [left_of.clone(), right_of.clone()]).min(sigma);
    let rates = |beside: Range<usize>, wide: Range<usize>, level: f64| {
        let mut near: Vec<f64> = beside.map(|i| series.rate(i).max(1.0)).collect();
        let middle = stats::median(&mut near).filter(|_| near.len() == BESIDE).unwrap_or(level);
        near.retain(|_| (middle / level).ln().abs() > (OFF_SIGMAS * sigma).min(LEAST_STEP));
        near.push(level);
        near.extend(swings_between(series, wide, own).into_iter().flatten());
        near
    };
    let middle = series.end(split.min(series.len() - 1));
    let from = series.index_at(middle.saturating_sub(SWINGS)).max(run.first).min(left_of.end);
    let past = series.index_at(middle + SWINGS).min(run.past()).max(right_of.start);
    (
        rates(at(left_of.end.saturating_sub(BESIDE))..left_of.end, from..left_of.end, before),
        rates(right_of.start..at(right_of.start + BESIDE), right_of.start..past, after),
    )
}

/// The 95 % interval of the bytes that were written when `before` gave way to `after`: wherever in whichever sample of the range it may have been,
/// by the likelihood of them all. The sample itself was shared by both rates, the others had one.
fn interval(
    series: &Series,
    range: &Range<usize>,
    sigma: f64,
    (before, after): (f64, f64),
) -> Option<(u64, u64)> {
    let sigma = sigma.max(LEAST_SAMPLE_SIGMA);
    // How far a sample may be off its rate, in ln, for so much cost; and what it costs.
    let cost_of =
        |off: f64| (0.5 * (TAILS + 1.0) * (1.0 + (off / sigma).powi(2) / TAILS).ln()).min(MOST_COST);
    let off_for = |cost: f64| sigma * (TAILS * ((2.0 * cost / (TAILS + 1.0)).exp() - 1.0)).sqrt();
    let cost = |i: usize, rate: f64| cost_of((series.rate(i).max(1.0) / rate).ln());
    // Of the samples beside each, if it happened in it.
    let mut beside: Vec<f64> = Vec::with_capacity(range.len());
    let mut sum: f64 = range.clone().skip(1).map(|i| cost(i, after)).sum();
    for i in range.clone() {
        beside.push(sum);
        sum += cost(i, before) - if i + 1 < range.end { cost(i + 1, after) } else { 0.0 };
    }
    // The share of time at the rate before that a sample of this rate had.
    let share = |rate: f64| ((rate - after) / (before - after)).clamp(0.0, 1.0);
    let shared = |i: usize| after + share(series.rate(i)) * (before - after);
    let least = range.clone().zip(&beside).map(|(i, b)| b + cost(i, shared(i))).fold(f64::INFINITY, f64::min);
    let mut ends: Option<(u64, u64)> = None;
    for (i, beside) in range.clone().zip(&beside) {
        let left = least + WITHIN - beside;
        if left < cost(i, shared(i)) {
            continue;
        }
        // Rates that the sample may have been meant to have.
        let rate = series.rate(i).max(1.0);
        let off = if left >= MOST_COST { f64::INFINITY } else { off_for(left).exp() };
        let shares = [share(rate / off), share(rate * off)];
        let here = (series.written(i) - series.written_before(i)) as f64;
        // Of the bytes of the sample that part was written before.
        let bytes = shares.map(|s| {
            let part = s * before / (s * before + (1.0 - s) * after).max(1.0);
            series.written_before(i) + (here * part).round() as u64
        });
        let (low, high) = (bytes[0].min(bytes[1]), bytes[0].max(bytes[1]));
        ends = Some(ends.map_or((low, high), |(l, h)| (l.min(low), h.max(high))));
    }
    ends
}
