//! What happened to files, second by second, and leg by leg.

use std::time::Duration;

use crate::drive::freight::Freighted;
use crate::record::FreightSecond;

/// The seconds of all freight legs.
#[derive(Debug, Clone, Default)]
pub struct FreightLog {
    seconds: Vec<FreightSecond>,
}

impl FreightLog {
    pub(super) fn push(&mut self, second: &FreightSecond) {
        self.seconds.push(second.clone());
    }

    /// No files were moved.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.seconds.is_empty()
    }

    /// In order of time.
    #[must_use]
    pub fn seconds(&self) -> &[FreightSecond] {
        &self.seconds
    }

    /// Those of a leg.
    #[must_use]
    pub fn of_leg(&self, leg: u16) -> &[FreightSecond] {
        let first = self.seconds.iter().position(|s| s.leg == leg).unwrap_or(self.seconds.len());
        let past =
            self.seconds[first..].iter().position(|s| s.leg != leg).map_or(self.seconds.len(), |n| first + n);
        &self.seconds[first..past]
    }

    /// All that was done between two moments: the seconds of which the middle lies there.
    #[must_use]
    pub fn between(&self, from: Duration, to: Duration) -> Freighted {
        let mut sum = Freighted::default();
        for s in &self.seconds {
            let middle = s.end.saturating_sub(s.span / 2);
            if middle >= from && middle < to {
                sum.add(&s.done);
            }
        }
        sum
    }
}
