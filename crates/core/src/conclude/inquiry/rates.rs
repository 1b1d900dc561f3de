//! The arms of an inquiry, and their rates: by their logarithms, each with its standard error.

use std::ops::Range;

use crate::quantity::stats::student_975;
use crate::quantity::units::Rate;
use crate::readings::{ArmReading, Series};
use crate::record::ArmKind;

/// What an arm begins with is left out, s: queues fill, and heads move.
pub(super) const SETTLES_S: f64 = 0.25;
/// Of an arm with more samples than this the last is left out: while a queue is emptied less of it is at work.
const ENDS_WITH: usize = 8;
/// Parts of an arm that are compared, s.
const PART_S: f64 = 0.25;
/// Parts beside each other are alike: their spread says less than it would of independent ones.
const ALIKE: f64 = 1.5;
/// No arm tells a rate better than this, as a share.
const LEAST_ERROR: f64 = 0.01;
/// From so many arms on their own scatter tells how well their mean is known.
const ENOUGH_ARMS: usize = 4;
/// So many standard errors of a normal to each side hold 95 %.
const NORMAL_975: f64 = 1.96;

/// A paced load keeps its rate as long as it has this share of it, or is nearer to it than to the rate that others fell to.
const KEEPS: f64 = 0.88;

/// A paced load that is slower than this has fallen, B/s; `low` is what the load fell to before. A machine that stands still for a moment holds
/// a load below its pace, and seldom as low as that.
#[must_use]
pub fn paced_has_fallen_below(pace: f64, low: f64) -> f64 {
    (KEEPS * pace).min((pace * low).sqrt())
}

/// The logarithm of a rate, with its standard error.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LogRate {
    /// ln of bytes per second.
    pub value: f64,
    /// Standard error.
    pub error: f64,
}

/// So many of `n` values are left out on each side: a quarter.
const fn trimmed(n: usize) -> usize {
    n / 4
}

/// The mean of the middle half with its standard error, of two or more; all of fewer than four. A moment in which everything stands still is not
/// what a drive does at a place or after a rest. (K. K. Yuen, The two-sample trimmed t for unequal population variances, Biometrika 61,
/// 1974: the error from the values drawn in to the last that are kept.)
fn middle(values: &mut [f64]) -> Option<(f64, f64)> {
    let (n, out) = (values.len(), trimmed(values.len()));
    (n >= 2).then_some(())?;
    values.sort_by(f64::total_cmp);
    let kept = &values[out..n - out];
    let mean = kept.iter().sum::<f64>() / kept.len() as f64;
    let drawn_in = |i: usize| values[i.clamp(out, n - out - 1)];
    let of_drawn_in = (0..n).map(drawn_in).sum::<f64>() / n as f64;
    let squares: f64 = (0..n).map(|i| (drawn_in(i) - of_drawn_in).powi(2)).sum();
    let h = kept.len() as f64;
    Some((mean, (squares / (h * (h - 1.0))).sqrt()))
}

impl LogRate {
    /// The rate of a stretch of samples, of which the beginning is left out; `None` where nothing moved long enough.
    pub(super) fn of(series: &Series, samples: Range<usize>, from_s: f64) -> Option<Self> {
        let mut parts: Vec<f64> = Vec::new();
        let (mut bytes, mut seconds, mut all) = (0u64, 0.0, (0u64, 0.0));
        // What an arm ends with is the rest of its queue.
        let past = if samples.len() > ENDS_WITH { samples.end - 1 } else { samples.end };
        for i in samples.start..past {
            let begin = if i == 0 { 0.0 } else { series.end_s(i - 1) };
            if begin + 1e-9 < from_s {
                continue;
            }
            let (moved, took) = (series.moved(i) - series.moved_before(i), series.end_s(i) - begin);
            (bytes, seconds) = (bytes + moved, seconds + took);
            all = (all.0 + moved, all.1 + took);
            if seconds >= PART_S {
                parts.push(bytes as f64 / seconds);
                (bytes, seconds) = (0, 0.0);
            }
        }
        if all.0 == 0 || all.1 <= 0.0 {
            return None;
        }
        let whole = all.0 as f64 / all.1;
        // Of one part nothing is known; it is taken to scatter as rates of a quarter second may.
        let Some((mean, error)) = middle(&mut parts).filter(|(mean, _)| *mean > 0.0) else {
            return Some(Self { value: whole.ln(), error: 0.1 });
        };
        Some(Self { value: mean.ln(), error: (ALIKE * error / mean).max(LEAST_ERROR) })
    }

    /// The mean of several, whose own scatter counts too. Of a few arms the scatter of the parts within each counts as well; of more, that of the
    /// arms alone, widened as t is against the normal: where bytes come in pulses, the parts within an arm scatter and the arms do not.
    pub(super) fn mean(all: &[Self]) -> Option<Self> {
        let n = all.len() as f64;
        (n > 0.0).then_some(())?;
        let within = (all.iter().map(|a| a.error.powi(2)).sum::<f64>() / n).sqrt() / n.sqrt();
        let mut values: Vec<f64> = all.iter().map(|a| a.value).collect();
        let (value, between) = middle(&mut values).unwrap_or((values[0], 0.0));
        if all.len() < ENOUGH_ARMS {
            return Some(Self { value, error: within.max(between) });
        }
        let wider = student_975(n - 2.0 * trimmed(all.len()) as f64 - 1.0) / NORMAL_975;
        let error = within.max(between).min(wider * between).max(LEAST_ERROR / n.sqrt());
        Some(Self { value, error })
    }

    /// How much faster this is than another.
    pub(super) fn over(self, other: Self) -> Self {
        Self { value: self.value - other.value, error: self.error.hypot(other.error) }
    }

    /// How much of it is open whether there is a difference of more than this: 0 where there surely is one, or surely none.
    pub(super) fn may_be_none(self, least: f64) -> f64 {
        if self.value.abs() > 3.0 * self.error + least { 0.0 } else { (self.error / least).clamp(0.0, 1.0) }
    }

    /// As a rate.
    #[must_use]
    pub fn rate(self) -> Rate {
        Rate::new(self.value.exp())
    }
}

/// Bytes a second over samples that count in no figure of the load.
pub(super) fn rate_over(series: &Series, samples: Range<usize>) -> f64 {
    let Some(last) = samples.end.checked_sub(1).filter(|l| *l >= samples.start) else { return 0.0 };
    let begin = samples.start.checked_sub(1).map_or(0.0, |i| series.end_s(i));
    (series.moved(last) - series.moved_before(samples.start)) as f64 / (series.end_s(last) - begin).max(1e-9)
}

/// An arm with its rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arm {
    /// What was done.
    pub kind: ArmKind,
    /// How fast; `None` of a rest, and of what was too short to tell.
    pub rate: Option<LogRate>,
    /// How long, s.
    pub seconds: f64,
    /// Bytes moved in it.
    pub bytes: u64,
    /// Of these, those that moved at more than half way from the rate after the fall to the one before.
    pub fast_bytes: u64,
    /// At its end it was nearer to the rate after the fall than to the one before.
    pub fell: bool,
}

/// An arm that is over. `low` is the rate after the fall and `half` half way from there to the one before, B/s.
pub(super) fn arm(series: &Series, a: &ArmReading, half: f64, low: f64) -> Arm {
    let samples = a.samples(series.len());
    let from = a.from.as_secs_f64();
    let end = samples.end.checked_sub(1).map_or(from, |last| series.end_s(last));
    let moved = |i: usize| series.moved(i) - series.moved_before(i);
    let last = samples.end.saturating_sub(5).max(samples.start)..samples.end;
    let pace = a.arm.rate.map_or(half, |r| paced_has_fallen_below(r.get(), low));
    Arm {
        kind: a.arm.kind,
        rate: LogRate::of(series, samples.clone(), from + SETTLES_S),
        seconds: (end - from).max(0.0),
        bytes: samples.clone().map(moved).sum(),
        fast_bytes: samples.clone().filter(|i| rate_over(series, *i..*i + 1) > half).map(moved).sum(),
        fell: samples.len() >= 3 && rate_over(series, last) < pace,
    }
}
