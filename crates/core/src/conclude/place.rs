//! Where exactly one level gives way to the next: to the sample, and within it.

use std::ops::Range;
use std::time::Duration;

use crate::quantity::units::Bytes;

use super::levels::Level;
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
    let split = best_split(series, &range, left, right);
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
    // Within the sample the place is no better known than the rates are: two standard deviations of what a sample
    // moves at the level before, and no less than the share below which a shared sample does not show as one.
    let whole = span * hi.max(lo);
    let half = (whole * (2.0 * left.sigma.max(right.sigma)).clamp(0.08, 1.0)) as u64;
    let low = series.written_before(split.low).min(written.saturating_sub(half));
    let high = series.written_before(split.high.min(series.len())).max(written + half);
    let high = high.min(series.written(series.len() - 1));
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

struct Split {
    best: usize,
    low: usize,
    high: usize,
    between_s: f64,
}

fn best_split(series: &Series, range: &Range<usize>, left: &Level, right: &Level) -> Split {
    let scale = (left.sigma.max(right.sigma) / std::f64::consts::SQRT_2).max(0.004);
    // One stall must not outweigh the rest.
    let most = 12.0;
    let (before, after) = (left.exit_rate().get(), right.entry_rate().get());
    let cost = |i: usize, level: f64| ((series.rate(i).max(1.0) / level).ln().abs() / scale).min(most);
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
    let low = costs.iter().position(near).map_or(best, |k| range.start + k);
    let high = costs.iter().rposition(near).map_or(best, |k| range.start + k);
    let (top, bottom) = (before.max(after), before.min(after));
    let between = |i: &usize| (0.1..0.9).contains(&((series.rate(*i) - bottom) / (top - bottom)));
    let around = low.saturating_sub(3).max(range.start)..(high + 3).min(range.end);
    let between_s = around.filter(between).map(|i| series.loaded_s(i..i + 1)).sum();
    Split { best, low, high, between_s }
}
