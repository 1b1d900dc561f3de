//! Latencies, and what happened to files, of a second at a time, from those of intervals.

use std::time::Duration;

use crate::drive::freight::Freighted;
use crate::quantity::histogram::Histogram;
use crate::record::{Event, FreightSecond, Latencies, Whose};

/// What is kept apart; an interval that is longer is kept as it is.
const SECOND: Duration = Duration::from_secs(1);

/// The second under way.
#[derive(Debug, Default)]
pub(super) struct Second {
    began: Duration,
    load: Histogram,
    lookout: Histogram,
    freight: Option<Box<Freighted>>,
}

impl Second {
    /// Of a leg that begins at this time.
    pub fn begin(at: Duration) -> Self {
        Self { began: at, ..Self::default() }
    }

    /// Takes in what was timed in an interval.
    pub fn add(&mut self, load: &Histogram, lookout: &Histogram) {
        self.load.add(load);
        self.lookout.add(lookout);
    }

    /// Takes in what happened to files in an interval.
    pub fn add_freight(&mut self, freight: Option<Box<Freighted>>) {
        match (&mut self.freight, freight) {
            (Some(all), Some(next)) => all.add(&next),
            (all, next) => *all = all.take().or(next),
        }
    }

    /// A second is over, but for what a clock rounds away.
    pub fn is_over(&self, at: Duration) -> bool {
        at + Duration::from_millis(1) >= self.began + SECOND
    }

    /// Closes it, and begins the next.
    pub fn close(&mut self, at: Duration, leg: u16) -> Vec<Event> {
        let closed = std::mem::replace(self, Self::begin(at));
        let span = at.saturating_sub(closed.began);
        let freight = closed.freight.map(|done| FreightSecond { end: at, span, leg, done: *done });
        let freight = freight.map(|f| Event::Freight(Box::new(f)));
        let latencies = [(Whose::Load, closed.load), (Whose::Lookout, closed.lookout)]
            .into_iter()
            .filter(|(_, counts)| !counts.is_empty())
            .map(|(whose, counts)| {
                Event::Latencies(Box::new(Latencies { end: at, span, leg, whose, counts }))
            });
        latencies.chain(freight).collect()
    }
}
