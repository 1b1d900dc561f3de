//! Stretches of load without a rest, and the levels in them.

use std::time::Duration;

use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Rate};
use crate::readings::Readings;
use crate::readings::run::Run;

use super::{Conclusions, Finding, levels};

/// A stretch of load at one rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LevelReading {
    /// End of its first interval.
    pub from: Duration,
    /// End of its last interval.
    pub to: Duration,
    /// Median rate.
    pub rate: Rate,
    /// Robust standard deviation of the logarithm of the rate.
    pub spread: f64,
}

/// A stretch of load without a rest.
#[derive(Debug, Clone, PartialEq)]
pub struct Stint {
    /// Which way the bytes went.
    pub kind: LoadKind,
    /// Samples of the series.
    pub samples: std::ops::Range<usize>,
    /// Time under load.
    pub seconds: f64,
    /// How long there had been no load before, seconds; `None` for the first.
    pub rested_s: Option<f64>,
    /// It goes on after an inquiry.
    pub after_inquiry: bool,
    /// How full the drive was when it began, 0 to 1.
    pub fill: Option<f64>,
    /// Bytes written in the haul before.
    pub written_before: Bytes,
    /// Bytes written in it.
    pub written: Bytes,
    /// Rate of its first level.
    pub fastest: Rate,
    /// Cache ends found in it.
    pub ends: Vec<Finding>,
}

impl Readings {
    /// The stretches of load without a rest, in order, each with the cache ends that lie in it.
    #[must_use]
    pub fn stints(&self, conclusions: &Conclusions) -> Vec<Stint> {
        self.runs
            .iter()
            .filter(|r| r.len() > 0)
            .map(|r| {
                let samples = r.samples(&(0..r.len()));
                let written_from = self.series.written_before(samples.start);
                let written_to = self.series.written(samples.end - 1);
                let inside = |f: &&Finding| {
                    f.may_be_cache_end()
                        && (written_from..=written_to).contains(&f.written.get())
                        && f.elapsed <= self.series.end(samples.end - 1)
                        && f.elapsed >= self.series.end(samples.start).saturating_sub(Duration::from_secs(1))
                };
                Stint {
                    kind: r.kind,
                    seconds: self.series.loaded_s(samples.clone()),
                    rested_s: r.rested_s,
                    after_inquiry: r.after_inquiry,
                    fill: r.fill_ppm.map(|f| f64::from(f) / 1e6),
                    written_before: Bytes::new(written_from),
                    written: Bytes::new(written_to - written_from),
                    fastest: self.levels_of(r).first().map_or_else(Rate::default, levels::Level::rate),
                    ends: conclusions.findings.iter().filter(inside).cloned().collect(),
                    samples,
                }
            })
            .collect()
    }

    pub(super) fn levels_of(&self, run: &Run) -> Vec<levels::Level> {
        levels::levels(run, &self.series)
    }

    /// The levels that the rate went through under load, in order.
    #[must_use]
    pub fn levels(&self) -> Vec<LevelReading> {
        let mut all = Vec::new();
        for run in self.runs.iter().filter(|r| r.len() > 0) {
            all.extend(levels::levels(run, &self.series).iter().map(|level| {
                let samples = run.samples(&level.points);
                LevelReading {
                    from: self.series.end(samples.start),
                    to: self.series.end(samples.end.max(1) - 1),
                    rate: level.rate(),
                    spread: level.sigma,
                }
            }));
        }
        all
    }
}
