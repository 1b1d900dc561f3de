//! Legs that were ended by hand.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::Readings;
use crate::quantity::units::{Bytes, clock};
use crate::record::LegEnd;

/// A leg that the user ended before its end. What it tells is less than a whole one tells.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CutLeg {
    /// Index in the route.
    pub leg: u16,
    /// It moves bytes; else it rests, wipes or tests.
    pub moves: bool,
    /// Bytes that it had moved.
    pub moved_bytes: u64,
    /// Bytes that it would have moved, where it says so.
    pub of_bytes: Option<u64>,
    /// How long it took, s.
    pub took_s: f64,
}

impl CutLeg {
    /// `after 712 GB of 4 TB`.
    #[must_use]
    pub fn how_far(&self) -> String {
        let of = self.of_bytes.map(|b| format!(" of {}", Bytes::new(b))).unwrap_or_default();
        let took = Duration::from_secs_f64(self.took_s.max(0.0));
        match self.moves {
            true => format!("after {}{of}", Bytes::new(self.moved_bytes)),
            false => format!("after {}", clock(took)),
        }
    }

    /// `Leg 1 was ended by hand after 712 GB of 4 TB.`
    #[must_use]
    pub fn sentence(&self) -> String {
        format!("Leg {} was ended by hand {}.", self.leg + 1, self.how_far())
    }
}

impl Readings {
    /// Legs that were ended by hand, in order.
    #[must_use]
    pub fn cut_legs(&self) -> Vec<CutLeg> {
        let all = self.legs.iter().enumerate();
        let cut = all.filter(|(_, l)| l.ended.as_ref().is_some_and(|e| e.1 == LegEnd::Skipped));
        cut.map(|(i, l)| {
            let leg = self.leg(l.leg);
            let capacity = self.head().map_or(Bytes::ZERO, |h| h.drive.capacity);
            let took = l.ended.as_ref().map_or(Duration::ZERO, |e| e.0.saturating_sub(l.from));
            CutLeg {
                leg: l.leg,
                moves: leg.is_some_and(|l| l.kind.moves()),
                moved_bytes: self.moved_in(i).get(),
                of_bytes: leg.and_then(|l| l.bytes_on(capacity)).map(Bytes::get),
                took_s: took.as_secs_f64(),
            }
        })
        .collect()
    }
}
