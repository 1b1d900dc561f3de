//! A ladder: rate, operations and latency at each rung, where more depth stops helping, and where the link limits.

use serde::{Deserialize, Serialize};

use crate::drive::Pattern;
use crate::quantity::units::{Bytes, Rate};
use crate::readings::{Readings, StepReading};
use crate::record::Task;

use crate::quantity::stats::histogram_quantile;

/// A depth saturates when it gives this share of the best.
const SATURATED: f64 = 0.95;
/// Halves of a rung that differ by less are steady.
const STEADY: f64 = 0.1;
/// The link limits when a rung reaches this share of its payload ceiling.
const LINK: f64 = 0.9;

/// One measurement.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Rung {
    /// Size of an operation, bytes.
    pub block_bytes: u64,
    /// Operations in flight.
    pub depth: u32,
    /// Threads that issue them.
    pub workers: u32,
    /// In which order addresses come.
    pub pattern: Pattern,
    /// Mean rate, MB/s.
    pub mb_s: f64,
    /// Operations per second.
    pub operations_per_s: f64,
    /// Median latency, µs.
    pub median_us: f64,
    /// 99th percentile, µs.
    pub p99_us: f64,
    /// Its two halves agree within 10 %.
    pub steady: bool,
    /// It comes within 10 % of what the link can carry.
    pub at_link: bool,
}

/// Where more depth stops helping.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Saturation {
    /// Size of an operation, bytes.
    pub block_bytes: u64,
    /// Threads that issue them.
    pub workers: u32,
    /// In which order addresses come.
    pub pattern: Pattern,
    /// The smallest depth that gives 95 % of the best.
    pub depth: u32,
    /// The rate there, MB/s.
    pub mb_s: f64,
}

/// What a ladder says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LadderSurvey {
    /// In the order of the route.
    pub rungs: Vec<Rung>,
    /// One for each block, pattern and number of workers that was measured at two depths or more.
    pub saturation: Vec<Saturation>,
}

impl LadderSurvey {
    /// In a sentence.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let best = self.rungs.iter().max_by(|a, b| a.mb_s.total_cmp(&b.mb_s))?;
        let link = if best.at_link { ", which is what the link can carry" } else { "" };
        let block = Bytes::new(best.block_bytes).binary();
        let mut words = format!("Fastest at {block} × {}: {}{link}.", best.depth, Rate::from_mb_s(best.mb_s));
        if let Some(s) = self.saturation.iter().min_by_key(|s| s.block_bytes) {
            let block = Bytes::new(s.block_bytes).binary();
            let order = s.pattern.words();
            let rate = Rate::from_mb_s(s.mb_s);
            words += &format!(" At {block} {order} a depth of {} is enough: {rate}.", s.depth);
        }
        Some(words)
    }
}

fn rung(readings: &Readings, step: &StepReading) -> Option<Rung> {
    let series = readings.series();
    let samples = step.samples(series.len());
    let seconds = series.loaded_s(samples.clone());
    (seconds > 0.0).then_some(())?;
    let rate = series.mean_rate(samples.clone());
    let middle = usize::midpoint(samples.start, samples.end);
    let (a, b) = (series.mean_rate(samples.start..middle), series.mean_rate(middle..samples.end));
    let histogram = step.histogram().unwrap_or(&[]);
    let ceiling = readings.head().and_then(|h| h.drive.link.as_ref()?.payload_ceiling());
    let us = |q| histogram_quantile(histogram, q).unwrap_or(0.0) / 1e3;
    let s = &step.step;
    Some(Rung {
        block_bytes: s.block.get(),
        depth: s.depth,
        workers: s.workers,
        pattern: s.pattern,
        mb_s: rate / 1e6,
        operations_per_s: rate / s.block.as_f64(),
        median_us: us(0.5),
        p99_us: us(0.99),
        steady: samples.len() >= 2 && (a - b).abs() <= STEADY * rate,
        at_link: ceiling.is_some_and(|c| rate >= LINK * c.get()),
    })
}

/// What the newest ladder says so far.
#[must_use]
pub fn survey(readings: &Readings) -> Option<LadderSurvey> {
    let is_rung = |s: &&StepReading| matches!(s.step.task, Task::Rung { .. });
    let leg = readings.steps().iter().rfind(is_rung)?.leg;
    let rungs: Vec<Rung> = readings
        .steps()
        .iter()
        .filter(|s| s.leg == leg && is_rung(s) && s.ended.is_some())
        .filter_map(|s| rung(readings, s))
        .collect();
    let mut saturation: Vec<Saturation> = Vec::new();
    for r in &rungs {
        let alike =
            |o: &&Rung| (o.block_bytes, o.workers, o.pattern) == (r.block_bytes, r.workers, r.pattern);
        if saturation
            .iter()
            .any(|s| (s.block_bytes, s.workers, s.pattern) == (r.block_bytes, r.workers, r.pattern))
        {
            continue;
        }
        let best = rungs.iter().filter(alike).map(|o| o.mb_s).fold(0.0, f64::max);
        if rungs.iter().filter(alike).count() < 2 {
            continue;
        }
        let enough = rungs.iter().filter(alike).filter(|o| o.mb_s >= SATURATED * best);
        if let Some(o) = enough.min_by_key(|o| o.depth) {
            let Rung { block_bytes, workers, pattern, depth, mb_s, .. } = *o;
            saturation.push(Saturation { block_bytes, workers, pattern, depth, mb_s });
        }
    }
    (!rungs.is_empty()).then_some(LadderSurvey { rungs, saturation })
}
