//! A run: samples under one kind of load with no rest between them.
//!
//! The [`Segmenter`] proposes where the rate changed, online, in the logarithm of the rate, where noise is about the
//! same at every speed. [`super::levels`] weighs what it proposes.

use std::ops::Range;

use crate::drive::LoadKind;

use super::segment::{BIWEIGHT, Segmenter};
use super::series::Series;

/// ln of the slowest rate told from a stall, 1 kB/s, and of the fastest that occurs.
pub const LOG_LOW: f64 = 6.9;
const LOG_HIGH: f64 = 27.0;
/// Up to here every sample is a point of its own, so that caches of a fraction of a second are seen; then points are
/// at least [`POINT_S`] long, and after three days four times as long.
const SINGLE_POINTS: usize = 20_000;
const MANY_POINTS: usize = 280_000;
const POINT_S: f64 = 1.0;
/// No noise is taken to be smaller than 0.5 %: the clock and the last operation of an interval cost about that.
pub const LEAST_SIGMA: f64 = 0.005;
/// What is off for less than this is a stall, s: of long samples a few are a level. Chosen.
const STALLS_S: f64 = 12.0;
/// A single sample, however long, is no level on its own.
const MOST_REACH: f64 = 6.0;

/// The typical size of the noise so far, from the median of differences between neighbours (median |Δ| of a normal
/// pair is 0.954 σ). A running median: moves by a factor up or down at each point, ever less.
#[derive(Debug, Clone)]
struct RunningNoise {
    median_difference: f64,
    last: Option<f64>,
    seen: u32,
}

impl RunningNoise {
    const fn new() -> Self {
        Self { median_difference: 0.03, last: None, seen: 0 }
    }
    fn push(&mut self, value: f64) -> f64 {
        if let Some(last) = self.last.replace(value) {
            self.seen += 1;
            let pace = (2.0 / f64::from(self.seen)).clamp(0.03, 0.3);
            let up = (value - last).abs() > self.median_difference;
            self.median_difference *= if up { pace.exp() } else { (-pace).exp() };
            self.median_difference = self.median_difference.clamp(LEAST_SIGMA, 0.7);
        }
        (self.median_difference / 0.954).max(LEAST_SIGMA)
    }
}

/// Samples under one kind of load with no rest between them.
#[derive(Debug, Clone)]
pub struct Run {
    /// Which way the bytes go.
    pub kind: LoadKind,
    /// First sample.
    pub first: usize,
    /// Bytes that had been written since the last rest when it began.
    pub written_since_rest: u64,
    /// How long there had been no load when it began, seconds; `None` for the first.
    pub rested_s: Option<f64>,
    /// It goes on after an inquiry, in which the drive neither rested nor went on as before.
    pub after_inquiry: bool,
    /// How full the drive was, parts in a million.
    pub fill_ppm: Option<u32>,
    /// The rate that it was not to exceed, bytes per second, and the bytes of one operation.
    pub pace: Option<(f64, f64)>,
    /// ln(rate) of each point.
    points: Vec<f32>,
    /// One past the last sample of each point.
    point_ends: Vec<u32>,
    segmenter: Segmenter,
    noise: RunningNoise,
}

impl Run {
    /// A run that begins with this sample.
    pub fn new(kind: LoadKind, first: usize, written_since_rest: u64) -> Self {
        Self {
            kind,
            first,
            written_since_rest,
            rested_s: None,
            after_inquiry: false,
            fill_ppm: None,
            pace: None,
            points: Vec::new(),
            point_ends: Vec::new(),
            segmenter: Segmenter::new(LOG_LOW, LOG_HIGH),
            noise: RunningNoise::new(),
        }
    }

    /// One past the last sample that lies in a point.
    pub fn past(&self) -> usize {
        self.point_ends.last().map_or(self.first, |e| *e as usize)
    }

    /// Number of points.
    pub fn len(&self) -> usize {
        self.points.len()
    }

    /// ln(rate) of each point.
    pub fn points(&self) -> &[f32] {
        &self.points
    }

    /// Where the segments of the best partition begin.
    pub fn starts(&self) -> Vec<usize> {
        self.segmenter.starts()
    }

    /// Takes notice of the newest sample of the series.
    pub fn extend(&mut self, series: &Series) {
        let from = self.past();
        let open = from..series.len();
        let least = match self.points.len() {
            0..SINGLE_POINTS => 0.0,
            SINGLE_POINTS..MANY_POINTS => POINT_S,
            _ => 4.0 * POINT_S,
        };
        if series.loaded_s(open.clone()) < least * 0.999 {
            return;
        }
        let seconds = series.loaded_s(open.clone());
        let value = series.mean_rate(open).max(1.0).ln().clamp(LOG_LOW, LOG_HIGH);
        let sigma = self.noise.push(value);
        // A change costs more the more places it could be at: the usual logarithmic penalty, doubled for the robust
        // loss, and a constant that keeps the first points together.
        let penalty = 10.0 + 3.0 * ((self.points.len() + 8) as f64).ln();
        // Two changes cost as much as what is off for so long, so that no stall is a level and what lasts is one.
        let reach = (2.0 * penalty * seconds / STALLS_S).sqrt().clamp(BIWEIGHT, MOST_REACH);
        self.segmenter.push(value, sigma, penalty, reach);
        self.points.push(value as f32);
        self.point_ends.push(series.len() as u32);
    }

    /// Samples of a range of points.
    pub fn samples(&self, points: &Range<usize>) -> Range<usize> {
        let start = if points.start == 0 { self.first } else { self.point_ends[points.start - 1] as usize };
        let end = if points.end == 0 { self.first } else { self.point_ends[points.end - 1] as usize };
        start..end
    }

    /// Seconds of a range of points.
    pub fn seconds(&self, series: &Series, points: &Range<usize>) -> f64 {
        series.loaded_s(self.samples(points))
    }
}
