//! Access time over nested shares of the drive: mean over repeats with its interval, and where a shorter span stops paying.

use crate::quantity::stats::{Repeated, histogram_quantile};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::quantity::units::{Bytes, latency};
use crate::readings::{Readings, StepReading};
use crate::record::Task;

/// A shorter span pays when it saves this share of the access time at least.
const PAYS: f64 = 0.03;

/// Access time over one span.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Span {
    /// First byte.
    pub start_bytes: u64,
    /// One past the last.
    pub end_bytes: u64,
    /// Mean access time of each repeat, µs.
    pub access_us: Repeated,
    /// Median over all, µs.
    pub median_us: f64,
    /// 99th percentile over all, µs.
    pub p99_us: f64,
    /// Operations per second.
    pub operations_per_s: f64,
    /// Access time of the first span over this one's.
    pub gain: f64,
}

/// What a spans leg says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SpansSurvey {
    /// In the order of the route; the last is the one at the end of the drive.
    pub spans: Vec<Span>,
    /// The shortest span, from the start, that still gained over the one before it.
    pub pays_to_bytes: Option<u64>,
}

fn merged(steps: &[&StepReading]) -> Vec<(u64, u64)> {
    let mut all: Vec<(u64, u64)> = steps.iter().filter_map(|s| s.histogram()).flatten().copied().collect();
    all.sort_unstable();
    all
}

/// Mean of a histogram of ns, in µs.
fn mean_us(points: &[(u64, u64)]) -> Option<f64> {
    let n: u64 = points.iter().map(|p| p.1).sum();
    let sum: f64 = points.iter().map(|(v, c)| *v as f64 * *c as f64).sum();
    (n > 0).then(|| sum / n as f64 / 1e3)
}

impl SpansSurvey {
    /// In a sentence.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let whole = self.spans.first()?;
        let time = |us: f64| latency(Duration::from_secs_f64(us / 1e6));
        let pays = self.pays_to_bytes.and_then(|b| self.spans.iter().find(|s| s.end_bytes == b));
        Some(match pays {
            Some(s) => format!(
                "A random read takes {} over the whole drive and {} over its first {}; {}.",
                time(whole.access_us.mean),
                time(s.access_us.mean),
                Bytes::new(s.end_bytes),
                match self.spans.iter().any(|o| o.start_bytes == 0 && o.end_bytes < s.end_bytes) {
                    true => "a shorter span gains no more",
                    false => "nothing shorter was measured",
                }
            ),
            None => format!(
                "A random read takes {} over the whole drive; a shorter span gains nothing.",
                time(whole.access_us.mean)
            ),
        })
    }
}

/// What the newest spans leg says so far.
#[must_use]
pub fn survey(readings: &Readings) -> Option<SpansSurvey> {
    let all: Vec<&StepReading> =
        readings.steps().iter().filter(|s| matches!(s.step.task, Task::Span { .. })).collect();
    let leg = all.last()?.leg;
    let mut spans: Vec<Span> = Vec::new();
    for which in 0u16.. {
        let steps: Vec<&StepReading> = all
            .iter()
            .filter(|s| s.leg == leg && matches!(s.step.task, Task::Span { span, .. } if span == which))
            .copied()
            .collect();
        let Some(first) = steps.first() else { break };
        let means: Vec<f64> = steps.iter().filter_map(|s| mean_us(s.histogram()?)).collect();
        let Some(access_us) = Repeated::of(&means) else { break };
        let points = merged(&steps);
        spans.push(Span {
            start_bytes: first.step.start.get(),
            end_bytes: first.step.end.get(),
            median_us: histogram_quantile(&points, 0.5).unwrap_or(0.0) / 1e3,
            p99_us: histogram_quantile(&points, 0.99).unwrap_or(0.0) / 1e3,
            operations_per_s: 1e6 / access_us.mean,
            gain: spans.first().map_or(1.0, |s| s.access_us.mean / access_us.mean),
            access_us,
        });
    }
    let from_start: Vec<&Span> = spans.iter().filter(|s| s.start_bytes == 0).collect();
    let mut pays_to_bytes = None;
    for pair in from_start.windows(2) {
        let (wide, narrow) = (&pair[0].access_us, &pair[1].access_us);
        let noise = wide.interval.unwrap_or(0.0).hypot(narrow.interval.unwrap_or(0.0));
        if wide.mean - narrow.mean <= (PAYS * wide.mean).max(noise) {
            break;
        }
        pays_to_bytes = Some(pair[1].end_bytes);
    }
    (!spans.is_empty()).then_some(SpansSurvey { spans, pays_to_bytes })
}
