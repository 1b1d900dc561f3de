//! How each leg of a haul went on its way: rate and temperature over what it had moved, or over its time where it rested. What is
//! kept of a haul for forecasts of later ones.

use serde::{Deserialize, Serialize};

use crate::drive::Pattern;
use crate::quantity::stats::quantile;
use crate::readings::{Readings, Ruler};
use crate::record::LegEnd;
use crate::route::{Leg, LegKind};

/// Bins of a leg at most, and samples of one at least.
const BINS: usize = 64;
const LEAST: usize = 30;
/// Legs of a haul that are kept.
const LEGS: usize = 16;

/// What a leg does, as far as its rate depends on it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Doing {
    /// What kind of leg.
    pub kind: LegKind,
    /// In which order addresses come.
    pub pattern: Pattern,
    /// Bytes of an operation.
    pub block_bytes: u64,
    /// Operations in flight, of all threads together.
    pub depth: u32,
    /// Held to this many bytes a second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pace: Option<f64>,
}

impl Doing {
    /// Of a leg.
    #[must_use]
    pub fn of(leg: &Leg) -> Self {
        Self {
            kind: leg.kind,
            pattern: leg.pattern,
            block_bytes: leg.block.get(),
            depth: leg.depth * leg.workers.max(1),
            pace: leg.rate.map(|r| r.get()),
        }
    }
}

/// A part of a leg.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Bin {
    /// Where it ends: bytes moved in the leg, or seconds of it where it rests.
    pub to: f64,
    /// How long it took, s; of a load the time under it.
    pub seconds: f64,
    /// Rate of one sample, bytes per second: 5 %, half and 95 % of them were no faster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<[f64; 3]>,
    /// Lowest and highest temperature, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub degrees: Option<[f64; 2]>,
}

/// A leg as it went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LegProfile {
    /// Its index in the route as it was laid out.
    pub leg: u16,
    /// What it did.
    pub doing: Doing,
    /// Bytes that had been written since the last rest when it began.
    pub since_rest_bytes: u64,
    /// It came to its end by itself.
    pub whole: bool,
    /// From its beginning on.
    pub bins: Vec<Bin>,
}

fn bins(readings: &Readings, samples: std::ops::Range<usize>, moves: bool) -> Vec<Bin> {
    let series = readings.series();
    let (first, last) = (samples.start, samples.end - 1);
    let begin = if first == 0 { 0.0 } else { series.end_s(first - 1) };
    let moved_before = series.moved_before(first) as f64;
    // Along bytes where it moves them, along time where it rests.
    let place =
        |i: usize| if moves { series.moved(i) as f64 - moved_before } else { series.end_s(i) - begin };
    let count = (samples.len() / LEAST).clamp(1, BINS);
    let width = place(last).max(f64::MIN_POSITIVE) / count as f64;
    let mut all = Vec::with_capacity(count);
    let mut from = first;
    for bin in 1..=count {
        let mut past = from;
        while past <= last && (bin == count || place(past) <= width * bin as f64) {
            past += 1;
        }
        if past == from {
            continue;
        }
        let part = from..past;
        let mut rates: Vec<f64> =
            part.clone().filter(|i| series.loaded_s(*i..*i + 1) > 0.0).map(|i| series.rate(i)).collect();
        let rate = (moves && !rates.is_empty())
            .then(|| [0.05, 0.5, 0.95].map(|q| quantile(&mut rates, q).unwrap_or_default()));
        let degrees = part.clone().filter_map(|i| series.degrees(i));
        let degrees = degrees.fold(None, |range: Option<[f64; 2]>, t| {
            Some(range.map_or([t, t], |[low, high]| [low.min(t), high.max(t)]))
        });
        let start = if from == 0 { 0.0 } else { series.end_s(from - 1) };
        // A pause of the user's is no time that the drive took.
        let seconds = if moves { series.loaded_s(part.clone()) } else { series.end_s(past - 1) - start };
        all.push(Bin { to: place(past - 1), seconds, rate, degrees });
        from = past;
    }
    all
}

/// Of each leg of a record that moves bytes or rests, the first ones.
#[must_use]
pub fn legs(readings: &Readings) -> Vec<LegProfile> {
    let route = readings.head().map(|h| h.route.legs.as_slice()).unwrap_or_default();
    let series = readings.series();
    let mut since_rest = 0u64;
    let mut all = Vec::new();
    for reading in readings.legs() {
        let Some(leg) = route.get(usize::from(reading.leg)) else { continue };
        let end = reading.ended.as_ref().map_or(readings.elapsed(), |e| e.0);
        let samples = series.between(Ruler::Elapsed, reading.from.as_secs_f64() + 1e-6, end.as_secs_f64());
        if samples.is_empty() {
            continue;
        }
        if matches!(leg.kind, LegKind::Rest | LegKind::Wipe) {
            since_rest = 0;
        }
        let plain =
            leg.kind.is_plain_load() || matches!(leg.kind, LegKind::Rest | LegKind::Scan | LegKind::Verify);
        if plain && all.len() < LEGS {
            all.push(LegProfile {
                leg: reading.leg,
                doing: Doing::of(leg),
                since_rest_bytes: since_rest,
                whole: reading.ended.as_ref().is_some_and(|e| by_itself(&e.1)),
                bins: bins(readings, samples.clone(), leg.kind != LegKind::Rest),
            });
        }
        since_rest += series.written(samples.end - 1) - series.written_before(samples.start);
    }
    all
}

const fn by_itself(end: &LegEnd) -> bool {
    match end {
        LegEnd::Bytes
        | LegEnd::Duration
        | LegEnd::Temperature
        | LegEnd::PastCacheEnd
        | LegEnd::Steady
        | LegEnd::Complete => true,
        LegEnd::Errors | LegEnd::Skipped | LegEnd::Stopped | LegEnd::Failed => false,
    }
}
