//! Where the memory of this machine is full of data that is still to be written. Up to there writing takes as long as copying in memory;
//! from there on it waits for the drive. It looks like the end of a drive's cache, and is none.

use serde::{Deserialize, Serialize};

use crate::quantity::mb_s;
use crate::quantity::units::{Bytes, Rate};
use crate::readings::Readings;
use crate::record::FreightSecond;

/// Less than this held back is no write-back that anybody sees.
const LEAST_HELD: f64 = 100e6;
/// Full is where so much of the most is held back that ever was.
const FULL: f64 = 0.85;
/// Before, files go at least so many times as fast as after.
const LEAST_FALL: f64 = 1.3;
/// After, what returns is what the device writes, but for so much.
const AGREES: f64 = 0.2;
/// It takes so long to see that.
const LEAST_AFTER_S: f64 = 3.0;

/// Where memory was full.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct WriteBack {
    /// Since the haul began, s.
    pub at_s: f64,
    /// Bytes that were written by then, as the program saw it, since the leg began.
    pub returned: Bytes,
    /// Of these, what the device had not written yet.
    pub held: Bytes,
    /// Rate until then.
    #[serde(rename = "before_mb_s", with = "mb_s")]
    pub before: Rate,
    /// Rate from then on.
    #[serde(rename = "after_mb_s", with = "mb_s")]
    pub after: Rate,
    /// Rate of the device from then on.
    #[serde(rename = "device_mb_s", with = "mb_s")]
    pub device: Rate,
}

/// Of a leg; `None` where memory was never full, or the block layer's counters are not known.
pub(super) fn of(readings: &Readings, seconds: &[FreightSecond]) -> Option<WriteBack> {
    let series = readings.series();
    let mut points: Vec<(f64, f64, f64, f64)> = Vec::with_capacity(seconds.len());
    let (mut returned, mut device) = (0.0, 0.0);
    let begin = seconds.first().map(|s| s.end.saturating_sub(s.span))?;
    let before = series.written_at(begin) as f64;
    for s in seconds {
        device += s.done.device_written?.as_f64();
        returned = series.written_at(s.end) as f64 - before;
        points.push((s.end.as_secs_f64(), s.span.as_secs_f64(), returned, device));
    }
    let most = points.iter().map(|p| p.2 - p.3).fold(0.0, f64::max);
    let full = points.iter().position(|p| p.2 - p.3 >= FULL * most).filter(|_| most >= LEAST_HELD)?;
    let (at, _, returned_then, device_then) = points[full];
    let until: f64 = points[..=full].iter().map(|p| p.1).sum();
    let after_s: f64 = points[full + 1..].iter().map(|p| p.1).sum();
    (after_s >= LEAST_AFTER_S).then_some(())?;
    let rates =
        (returned_then / until, (returned - returned_then) / after_s, (device - device_then) / after_s);
    let agrees = (rates.1 - rates.2).abs() <= AGREES * rates.1;
    (agrees && rates.0 >= LEAST_FALL * rates.1).then(|| WriteBack {
        at_s: at,
        returned: Bytes::new(returned_then as u64),
        held: Bytes::new((returned_then - device_then).max(0.0) as u64),
        before: Rate::new(rates.0),
        after: Rate::new(rates.1),
        device: Rate::new(rates.2),
    })
}

impl WriteBack {
    /// In a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        format!(
            "After {} this machine held {} in memory; from then on writing went at {} instead of {}, as fast as the drive took it.",
            self.returned, self.held, self.after, self.before
        )
    }

    /// As evidence.
    #[must_use]
    pub(super) fn evidence(&self) -> Vec<String> {
        vec![
            format!(
                "{} had been written for the program, {} of them not yet by the device.",
                self.returned, self.held
            ),
            format!(
                "From then on {} returned and the device wrote {}: writing waits for the drive, and before it did not. This is no end of the drive's cache.",
                self.after, self.device
            ),
        ]
    }
}
