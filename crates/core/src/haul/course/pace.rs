//! A stream at a given rate with a given buffer; or a search for the highest rate that holds, by halving.

use std::time::Duration;

use crate::conclude::surveys::stream::trials;
use crate::drive::{DriveIdentity, Load};
use crate::quantity::units::{Bytes, Rate};
use crate::readings::Readings;
use crate::record::Task;
use crate::route::Leg;
use crate::route::Stream;

use super::Planned;

/// A search ends when what holds and what does not are this close.
const CLOSE: f64 = 1.02;
const MOST_TRIALS: u16 = 20;

/// Where it stands.
#[derive(Debug, Clone)]
pub struct Pace {
    load: Load,
    rate: f64,
    buffer: Bytes,
    /// Time of one trial of a search.
    search: Option<Duration>,
    trial: u16,
    holds: Option<f64>,
    fails: Option<f64>,
    /// Steps of the record before this leg's first.
    before: Option<usize>,
}

impl Pace {
    pub(super) fn new(leg: &Leg, drive: &DriveIdentity) -> Result<Self, String> {
        let rate = match (&leg.stream, leg.rate) {
            (Some(text), _) => text.parse::<Stream>()?.rate.get(),
            (None, Some(rate)) => rate.get(),
            (None, None) => return Err("the stream has no rate".into()),
        };
        let search = leg.search.then(|| leg.step.unwrap_or(Duration::from_secs(30)));
        let load = Load { rate: None, ..leg.load(drive.capacity) };
        let buffer = leg.buffer.unwrap_or(Bytes::from_mib(256));
        Ok(Self { load, rate, buffer, search, trial: 0, holds: None, fails: None, before: None })
    }

    fn planned(&mut self, duration: Option<Duration>) -> Planned {
        let trial = self.trial;
        self.trial += 1;
        let load = Load {
            rate: Some(Rate::new(self.rate)),
            catch_up: Some(Duration::from_secs_f64(self.buffer.as_f64() / self.rate)),
            ..self.load.clone()
        };
        Planned { task: Task::Stream { trial, buffer: self.buffer }, load, duration }
    }

    pub(super) fn next(&mut self, readings: &Readings) -> Option<Planned> {
        let before = *self.before.get_or_insert(readings.steps().len());
        if self.trial == 0 {
            let duration = self.search;
            return Some(self.planned(duration));
        }
        let duration = self.search?;
        let held = trials(readings).iter().rfind(|t| t.step >= before).is_some_and(|t| t.held);
        if held {
            self.holds = Some(self.holds.map_or(self.rate, |h| h.max(self.rate)));
        } else {
            self.fails = Some(self.fails.map_or(self.rate, |f| f.min(self.rate)));
        }
        self.rate = match (self.holds, self.fails) {
            (Some(h), Some(f)) if f / h <= CLOSE => return None,
            (Some(h), Some(f)) => (h * f).sqrt(),
            (Some(h), None) => h * 1.5,
            (None, Some(f)) => f / 1.5,
            (None, None) => return None,
        };
        (self.trial < MOST_TRIALS && self.rate >= 1e3).then(|| self.planned(Some(duration)))
    }
}
