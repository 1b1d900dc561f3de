//! What the buffer of a stream went through, and how large it would have to be for other streams.
//!
//! Backlog q\[n+1\] = max(0, q\[n\] + r·Δt − moved\[n\]); what does not fit into a buffer of B bytes is lost, and q stays at B.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::quantity::units::{Bytes, Rate};
use crate::readings::Series;

/// Rates at which the hold curve is worked out.
const RATES: usize = 24;
/// Samples beyond this are taken together, so that a haul of days is asked in a blink.
const STEPS: usize = 50_000;

/// The buffer that a stream of this rate would have needed.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Needed {
    /// The stream, MB/s.
    pub mb_s: f64,
    /// The buffer, bytes.
    pub bytes: u64,
}

/// A stretch of time in which a stream was offered.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Stretch {
    /// Where it begins, s since the haul began.
    pub from_s: f64,
    /// Where it ends.
    pub to_s: f64,
    /// The longest backlog in it, bytes.
    pub backlog: f64,
    /// Bytes of the stream that were lost in it.
    pub lost: f64,
    /// What the drive took in it, bytes.
    pub taken: f64,
    /// Time in it with the stream on, s.
    pub loaded_s: f64,
}

impl Stretch {
    /// The rate at which the drive took it.
    #[must_use]
    pub fn rate(&self) -> Option<Rate> {
        (self.loaded_s > 0.0).then(|| Rate::new(self.taken / self.loaded_s))
    }
}

/// One sample's worth of a stream.
#[derive(Debug, Clone, Copy)]
pub(super) struct Step {
    /// Backlog after it, bytes, no more than the buffer.
    pub backlog: f64,
    /// Bytes that did not fit.
    pub lost: f64,
    /// What the drive took, bytes.
    pub taken: f64,
    /// Time with the stream on, s.
    pub loaded_s: f64,
}

/// The samples of a stream, one after the other.
pub(super) fn steps(
    series: &Series,
    samples: Range<usize>,
    stream: Rate,
    buffer: Bytes,
) -> impl Iterator<Item = (usize, Step)> {
    let (rate, room) = (stream.get(), buffer.as_f64());
    let mut q = 0.0f64;
    samples.map(move |i| {
        let taken = (series.moved(i) - series.moved_before(i)) as f64;
        let loaded_s = series.loaded_s(i..i + 1);
        q = (q + rate * loaded_s - taken).max(0.0);
        let lost = (q - room).max(0.0);
        q -= lost;
        (i, Step { backlog: q, lost, taken, loaded_s })
    })
}

/// What the buffer went through, in so many stretches of equal length or fewer; nothing is averaged away.
#[must_use]
pub fn stretches(
    series: &Series,
    samples: Range<usize>,
    stream: Rate,
    buffer: Bytes,
    most: usize,
) -> Vec<Stretch> {
    let Some(last) = samples.end.checked_sub(1).filter(|last| *last >= samples.start) else {
        return Vec::new();
    };
    let begin = if samples.start == 0 { 0.0 } else { series.end_s(samples.start - 1) };
    let end = series.end_s(last);
    let width = ((end - begin) / most.max(1) as f64).max(f64::MIN_POSITIVE);
    let mut all: Vec<Stretch> = Vec::with_capacity(most);
    let mut before = begin;
    for (i, step) in steps(series, samples, stream, buffer) {
        let to = series.end_s(i);
        // A sample belongs to the stretch that its middle lies in.
        let at = ((f64::midpoint(before, to) - begin) / width) as usize;
        let place = begin + at as f64 * width;
        if all.last().is_none_or(|s| place > s.from_s + width * 0.5) {
            all.push(Stretch { from_s: place, to_s: place + width, ..Stretch::default() });
        }
        if let Some(s) = all.last_mut() {
            s.backlog = s.backlog.max(step.backlog);
            s.lost += step.lost;
            s.taken += step.taken;
            s.loaded_s += step.loaded_s;
        }
        before = to;
    }
    all
}

/// What a drive took while a stream was offered, bytes and seconds of each stretch.
pub(super) struct Taken(Vec<(f64, f64)>);

impl Taken {
    pub(super) fn of(series: &Series, samples: Range<usize>) -> Self {
        let group = samples.len().div_ceil(STEPS).max(1);
        let one = |i: usize| {
            let to = (i + group).min(samples.end);
            ((series.moved(to - 1) - series.moved_before(i)) as f64, series.loaded_s(i..to))
        };
        Self(samples.clone().step_by(group).map(one).collect())
    }

    /// The buffer that a stream of so many bytes a second would have needed, bytes.
    fn needed(&self, rate: f64) -> f64 {
        let (mut q, mut most) = (0.0f64, 0.0f64);
        for (bytes, seconds) in &self.0 {
            q = (q + rate * seconds - bytes).max(0.0);
            most = most.max(q);
        }
        most
    }

    /// The buffers that streams up to this rate would have needed: beyond the rate that was offered a record says nothing.
    pub(super) fn hold_curve(&self, stream: Rate) -> Vec<Needed> {
        let rates = (1..=RATES).map(|i| stream.get() * i as f64 / RATES as f64);
        rates.map(|r| Needed { mb_s: r / 1e6, bytes: self.needed(r).ceil() as u64 }).collect()
    }

    /// The highest rate up to this one that a buffer would have held.
    pub(super) fn highest(&self, stream: Rate, buffer: Bytes) -> Rate {
        let (mut low, mut high) = (0.0, stream.get());
        if self.needed(high) <= buffer.as_f64() {
            return stream;
        }
        // To one part in a million and better.
        for _ in 0..30 {
            let middle = f64::midpoint(low, high);
            if self.needed(middle) <= buffer.as_f64() { low = middle } else { high = middle }
        }
        Rate::new(low)
    }
}
