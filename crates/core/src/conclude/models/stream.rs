//! Which stream a record could have taken: a recorder gives r bytes a second into a buffer of B bytes, and the drive takes
//! out what it wrote. Backlog q\[n+1\] = max(0, q\[n\] + r·Δt − written\[n\]); a miss is q > B.

use std::time::Duration;

use serde::Serialize;

use crate::conclude::Conclusions;
use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Rate};
use crate::readings::{Readings, Series};

use super::Refusal;
use crate::route::Stream;

/// What a record says of a stream.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Holding {
    /// The stream asked about, MB/s.
    pub stream_mb_s: f64,
    /// The buffer asked about, bytes.
    pub buffer_bytes: u64,
    /// Longest backlog, bytes: the buffer that this stream needs.
    pub needed_bytes: u64,
    /// When the buffer first ran over, seconds since the haul began.
    pub first_miss_s: Option<f64>,
    /// What was found then.
    pub cause: Option<String>,
    /// The highest rate that this buffer never misses, MB/s. Of a write that was held back it is no more than that pace.
    pub highest_mb_s: f64,
    /// The pace that the write was held to, MB/s: what the drive can do beyond it is not in the record.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub paced_mb_s: Option<f64>,
    /// Length of the write that this was asked of, seconds.
    pub over_s: f64,
}

/// Longest backlog of a stream over samples of a series, bytes, and the sample in which a buffer first ran over.
fn backlog(series: &Series, samples: std::ops::Range<usize>, rate: f64, buffer: f64) -> (f64, Option<usize>) {
    let (mut q, mut most, mut miss) = (0.0f64, 0.0f64, None);
    for i in samples {
        q = (q + rate * series.loaded_s(i..i + 1) - (series.written(i) - series.written_before(i)) as f64)
            .max(0.0);
        if q > most {
            most = q;
            if q > buffer && miss.is_none() {
                miss = Some(i);
            }
        }
    }
    (most, miss)
}

/// Asks the longest write of a record whether it could have taken a stream.
///
/// # Errors
/// When it has no write of a second at least.
pub fn hold(
    readings: &Readings,
    conclusions: &Conclusions,
    stream: Stream,
    buffer: Bytes,
) -> Result<Holding, Refusal> {
    let series = readings.series();
    let stints = readings.stints(conclusions);
    let longest = stints
        .iter()
        .filter(|s| s.kind == LoadKind::Write && s.seconds >= 1.0)
        .max_by(|a, b| a.seconds.total_cmp(&b.seconds));
    let Some(stint) = longest else {
        return Err(Refusal::new(
            "Cannot tell which stream it holds, because the record has no write of a second or more.",
            "haul stream, or any long write",
        ));
    };
    let samples = stint.samples.clone();
    let pace = readings.runs.iter().find(|r| r.first == samples.start).and_then(|r| r.pace).map(|p| p.0);
    if let Some(pace) = pace.filter(|p| stream.rate.get() > 1.01 * p) {
        return Err(Refusal::new(
            format!(
                "Cannot tell whether it holds {}, because this write was held to {}.",
                stream.rate,
                Rate::new(pace)
            ),
            "haul long-haul, or a pace leg with search = true",
        ));
    }
    let room = buffer.as_f64();
    let (needed, miss) = backlog(series, samples.clone(), stream.rate.get(), room);
    // The highest rate: above the mean of the whole write the backlog only grows.
    let mean = stint.written.as_f64() / stint.seconds;
    let (mut low, mut high) = (0.0, mean + room / stint.seconds);
    for _ in 0..50 {
        let middle = 0.5 * (low + high);
        if backlog(series, samples.clone(), middle, room).1.is_none() { low = middle } else { high = middle }
    }
    let at = miss.map(|i| series.end(i));
    let cause = at.and_then(|at| {
        let known = |f: &&crate::conclude::Finding| {
            f.elapsed <= at + Duration::from_secs(1)
                && f.end_elapsed.is_none_or(|e| e + Duration::from_secs(60) >= at)
        };
        conclusions.findings.iter().rev().find(known).map(|f| f.kind.word().to_owned())
    });
    Ok(Holding {
        stream_mb_s: stream.rate.mb_s(),
        buffer_bytes: buffer.get(),
        needed_bytes: needed.ceil() as u64,
        first_miss_s: at.map(|d| d.as_secs_f64()),
        cause,
        highest_mb_s: pace.map_or(low, |p| low.min(p)) / 1e6,
        paced_mb_s: pace.map(|p| p / 1e6),
        over_s: stint.seconds,
    })
}

impl Holding {
    /// In a sentence or two.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let (rate, buffer) = (Rate::from_mb_s(self.stream_mb_s), Bytes::new(self.buffer_bytes));
        let over = crate::quantity::units::span_words(self.over_s);
        let first = match self.first_miss_s {
            None => format!("{rate} with a buffer of {buffer} is held over the {over} of this write."),
            Some(at) => format!(
                "{rate} with a buffer of {buffer} is missed from {} on{}.",
                crate::quantity::units::clock(Duration::from_secs_f64(at)),
                self.cause.as_ref().map_or_else(String::new, |c| format!(" ({c})"))
            ),
        };
        let highest = Rate::from_mb_s(self.highest_mb_s);
        let buffer_needed = Bytes::new(self.needed_bytes);
        vec![
            first,
            match self.paced_mb_s.map(Rate::from_mb_s) {
                Some(pace) => format!(
                    "It needs a buffer of {buffer_needed}. The write was held to {pace}: this buffer holds {highest}, and what it holds beyond that is not in the record."
                ),
                None => format!(
                    "It needs a buffer of {buffer_needed}; this buffer holds {highest} over the {over}."
                ),
            },
        ]
    }
}
