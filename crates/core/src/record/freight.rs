//! What happened to the files of a freight leg, second by second.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::freight::Freighted;

/// A second of a freight leg, or an interval that is longer; at the end of the leg also less.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FreightSecond {
    /// End of the stretch, since the haul began.
    pub end: Duration,
    /// Its length.
    pub span: Duration,
    /// Index of the leg in the route.
    pub leg: u16,
    /// What was done.
    #[serde(flatten)]
    pub done: Freighted,
}

impl FreightSecond {
    /// Takes in the stretch that follows, of the same leg.
    pub fn join(&mut self, next: &Self) {
        self.span = next.end.saturating_sub(self.end.saturating_sub(self.span));
        self.end = next.end;
        self.done.add(&next.done);
    }
}
