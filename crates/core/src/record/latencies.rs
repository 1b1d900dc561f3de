//! How long operations took, second by second.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::quantity::histogram::Histogram;

/// Whose operations were timed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Whose {
    /// The load's.
    Load,
    /// The lookout's, beside the load.
    Lookout,
}

/// The latencies of a second of a leg, or of an interval that is longer; of the end of a leg also of less.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Latencies {
    /// End of the stretch, since the haul began.
    pub end: Duration,
    /// Its length.
    pub span: Duration,
    /// Index of the leg in the route.
    pub leg: u16,
    /// Whose.
    pub whose: Whose,
    /// Operations by how long they took.
    pub counts: Histogram,
}

impl Latencies {
    /// The stretch that follows on this one, of the same leg and the same operations.
    #[must_use]
    pub fn goes_on_in(&self, next: &Self) -> bool {
        self.leg == next.leg && self.whose == next.whose
    }

    /// Takes in the stretch that follows.
    pub fn join(&mut self, next: &Self) {
        self.span = next.end.saturating_sub(self.end.saturating_sub(self.span));
        self.end = next.end;
        self.counts.add(&next.counts);
    }
}
