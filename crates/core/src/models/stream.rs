//! Which stream a record could have taken: a recorder gives r bytes a second into a buffer of B bytes, and the drive takes
//! out what it wrote. Backlog q\[n+1\] = max(0, q\[n\] + r·Δt − written\[n\]); a miss is q > B.

use std::str::FromStr;
use std::time::Duration;

use serde::Serialize;

use crate::drive::LoadKind;
use crate::finding::Conclusions;
use crate::readings::{Readings, Series};
use crate::units::{Bytes, Rate};

use super::Refusal;

/// A stream: a rate, or the geometry that makes it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Stream {
    /// Bytes a second.
    pub rate: Rate,
}

impl FromStr for Stream {
    type Err = String;

    /// `620 MB/s`, or factors that make bits a second: `16 channels x 24 bit x 96 kHz`, `4096 x 2160 x 30 bit x 60 Hz`.
    fn from_str(s: &str) -> Result<Self, String> {
        let expected = |what: &str| {
            format!(
                "{what}: give a rate (620 MB/s), or factors that make bits a second (16 channels x 24 bit x 96 kHz)"
            )
        };
        if let Ok(rate) = s.trim().parse::<Rate>() {
            return if rate.get() > 0.0 {
                Ok(Self { rate })
            } else {
                Err(expected("a stream needs a rate above zero"))
            };
        }
        let (mut bits, mut has_bits, mut has_time) = (1.0, false, false);
        for factor in s.split(['x', '×', '*']) {
            let factor = factor.trim();
            let digits = factor.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(factor.len());
            let number: f64 =
                factor[..digits].parse().map_err(|_| expected(&format!("'{factor}' is not a factor")))?;
            let scale = match factor[digits..].trim().to_ascii_lowercase().as_str() {
                "" | "channels" | "channel" | "samples" | "pixels" | "beams" | "lanes" | "sensors" => 1.0,
                "bit" | "bits" if !has_bits => {
                    has_bits = true;
                    1.0
                }
                "byte" | "bytes" if !has_bits => {
                    has_bits = true;
                    8.0
                }
                unit @ ("hz" | "khz" | "mhz" | "ghz" | "/s" | "per second" | "fps") if !has_time => {
                    has_time = true;
                    match unit {
                        "khz" => 1e3,
                        "mhz" => 1e6,
                        "ghz" => 1e9,
                        _ => 1.0,
                    }
                }
                other => {
                    return Err(expected(&format!("'{other}' in '{factor}' is not known, or given twice")));
                }
            };
            bits *= number * scale;
        }
        if !has_bits || !has_time {
            return Err(expected(&format!("'{s}' says no bits, or not how often")));
        }
        let rate = Rate::new(bits / 8.0);
        if rate.get() > 0.0 && rate.get().is_finite() {
            Ok(Self { rate })
        } else {
            Err(expected("a stream needs a rate above zero"))
        }
    }
}

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
    /// The highest rate that this buffer never misses, MB/s.
    pub highest_mb_s: f64,
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
        let known = |f: &&crate::finding::Finding| {
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
        highest_mb_s: low / 1e6,
        over_s: stint.seconds,
    })
}

impl Holding {
    /// In a sentence or two.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let (rate, buffer) = (Rate::from_mb_s(self.stream_mb_s), Bytes::new(self.buffer_bytes));
        let over = crate::units::span_words(self.over_s);
        let first = match self.first_miss_s {
            None => format!("{rate} with a buffer of {buffer} is held over the {over} of this write."),
            Some(at) => format!(
                "{rate} with a buffer of {buffer} is missed from {} on{}.",
                crate::units::clock(Duration::from_secs_f64(at)),
                self.cause.as_ref().map_or_else(String::new, |c| format!(" ({c})"))
            ),
        };
        vec![
            first,
            format!(
                "It needs a buffer of {}; this buffer holds {} over the {over}.",
                Bytes::new(self.needed_bytes),
                Rate::from_mb_s(self.highest_mb_s)
            ),
        ]
    }
}
