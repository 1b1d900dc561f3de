//! Streams: how often a recorder's buffer ran over, how late the drive was, and the highest rate that held.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::conclude::Finding;
use crate::quantity::units::{Bytes, Rate, clock, span_words};
use crate::readings::{Readings, StepReading};
use crate::record::Task;

use super::buffer::{self, Needed};
use crate::quantity::stats::histogram_quantile;

/// A stream that was offered to the drive.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Trial {
    /// The stream, MB/s.
    pub mb_s: f64,
    /// The buffer, bytes.
    pub buffer_bytes: u64,
    /// It never ran over.
    pub held: bool,
    /// How often it ran over.
    pub misses: u64,
    /// Bytes of the stream that were lost by it.
    pub lost_bytes: u64,
    /// For how long some of it was being lost, s: whole samples, so that it is an upper bound.
    #[serde(default)]
    pub lost_s: f64,
    /// Longest backlog, bytes.
    pub backlog_bytes: u64,
    /// When it first ran over, since the haul began, s.
    pub first_miss_s: Option<f64>,
    /// What was found then.
    pub cause: Option<String>,
    /// 99th percentile of the latency from when each operation was due, µs.
    pub p99_us: f64,
    /// Time it was offered, s.
    pub over_s: f64,
    /// The buffers that this stream and slower ones would have needed, the slowest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub hold: Vec<Needed>,
    /// The highest rate that this buffer would have held, MB/s; no more than the one that was offered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub buffer_holds_mb_s: Option<f64>,
    /// Index of its step in the record.
    #[serde(skip)]
    pub step: usize,
}

/// What a pace leg says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct StreamSurvey {
    /// In the order they were offered.
    pub trials: Vec<Trial>,
    /// The highest rate that held, MB/s.
    pub highest_mb_s: Option<f64>,
    /// The lowest that did not, MB/s.
    pub lowest_missed_mb_s: Option<f64>,
}

impl Trial {
    /// What was lost, for how long, from when on and why: `618 GB lost in 22 of 30 min, from 0:08:28 on (cache end)`.
    #[must_use]
    pub fn loss(&self) -> String {
        let (lost, all) = (span_words(self.lost_s), span_words(self.over_s));
        // `22 of 30 min`, where both have one unit.
        let time = match (lost.split_once(' '), all.split_once(' ')) {
            (Some((n, unit)), Some((_, of))) if unit == of && !unit.contains(' ') => format!("{n} of {all}"),
            _ => format!("{lost} of {all}"),
        };
        let times = if self.misses > 1 { format!(", {} times", self.misses) } else { String::new() };
        format!(
            "{} lost in {time}{times}, from {} on{}",
            Bytes::new(self.lost_bytes),
            clock(Duration::from_secs_f64(self.first_miss_s.unwrap_or(0.0))),
            self.cause.as_ref().map_or_else(String::new, |c| format!(" ({})", c.replace('-', " ")))
        )
    }

    /// The buffer that it would have needed, bytes: of one that held its longest backlog, to the byte.
    #[must_use]
    pub fn needed_bytes(&self) -> u64 {
        if self.held { self.backlog_bytes } else { self.hold.last().map_or(self.backlog_bytes, |n| n.bytes) }
    }
}

impl StreamSurvey {
    /// In a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let rate = |mb_s: f64| Rate::from_mb_s(mb_s).to_string();
        match (self.trials.as_slice(), self.highest_mb_s, self.lowest_missed_mb_s) {
            ([t], ..) if t.held => format!(
                "{} was held for {}; the longest backlog was {}.",
                rate(t.mb_s),
                span_words(t.over_s),
                Bytes::new(t.backlog_bytes)
            ),
            ([t], ..) => {
                format!("{} was missed: {}.", rate(t.mb_s), t.loss())
            }
            (_, Some(h), Some(m)) => {
                format!("The highest stream that holds is {}; {} is missed.", rate(h), rate(m))
            }
            (_, Some(h), None) => format!("{} holds, and nothing above it was offered.", rate(h)),
            (_, None, _) => "No stream that was offered holds.".into(),
        }
    }
}

fn trial(readings: &Readings, index: usize, step: &StepReading) -> Option<Trial> {
    let Task::Stream { buffer, .. } = step.step.task else { return None };
    let stream = step.step.rate?;
    let series = readings.series();
    let samples = step.samples(series.len());
    let room = buffer.as_f64();
    let (mut most, mut misses, mut lost, mut lost_s, mut over, mut first) =
        (0.0f64, 0, 0.0, 0.0, false, None);
    for (i, s) in buffer::steps(series, samples.clone(), stream, buffer) {
        most = most.max(s.backlog + s.lost);
        // One miss lasts until the buffer has room again; what did not fit is gone.
        if s.lost > 0.0 {
            lost += s.lost;
            lost_s += s.loaded_s;
            misses += u64::from(!over);
            first = first.or(Some(series.end(i)));
            over = true;
        } else {
            over &= s.backlog > room * 0.5;
        }
    }
    let taken = buffer::Taken::of(series, samples.clone());
    Some(Trial {
        mb_s: stream.mb_s(),
        buffer_bytes: buffer.get(),
        held: misses == 0,
        misses,
        lost_bytes: lost as u64,
        lost_s,
        backlog_bytes: most as u64,
        first_miss_s: first.map(|d: Duration| d.as_secs_f64()),
        cause: None,
        p99_us: histogram_quantile(step.histogram().unwrap_or(&[]), 0.99).unwrap_or(0.0) / 1e3,
        over_s: series.loaded_s(samples),
        hold: taken.hold_curve(stream),
        buffer_holds_mb_s: Some(taken.highest(stream, buffer).mb_s()),
        step: index,
    })
}

/// Every stream of the record that was offered to the end, or is being offered.
#[must_use]
pub fn trials(readings: &Readings) -> Vec<Trial> {
    readings.steps().iter().enumerate().filter_map(|(i, s)| trial(readings, i, s)).collect()
}

/// What the pace legs say so far; the cause of a miss is what was found within a minute before it.
#[must_use]
pub fn survey(readings: &Readings, findings: &[Finding]) -> Option<StreamSurvey> {
    let mut all = trials(readings);
    for t in &mut all {
        let Some(at) = t.first_miss_s else { continue };
        let near = |f: &&Finding| {
            let (from, to) = (f.elapsed.as_secs_f64(), f.end_elapsed.map(|e| e.as_secs_f64()));
            from <= at + 1.0 && to.is_none_or(|e| e + 60.0 >= at)
        };
        t.cause = findings.iter().rev().find(near).map(|f| f.kind.word().to_owned());
    }
    let held = all.iter().filter(|t| t.held).map(|t| t.mb_s).reduce(f64::max);
    let missed = all.iter().filter(|t| !t.held).map(|t| t.mb_s).reduce(f64::min);
    (!all.is_empty()).then_some(StreamSurvey { trials: all, highest_mb_s: held, lowest_missed_mb_s: missed })
}
