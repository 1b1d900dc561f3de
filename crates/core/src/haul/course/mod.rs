//! Courses: how a leg that goes through several loads chooses the next one. Pure: it sees the readings so far and says
//! what to do; the runner does it and tells it as a [`Step`].

mod ladder;
mod pace;
mod scan;
mod spans;
mod verify;

use std::time::Duration;

use crate::drive::stamp::Expected;
use crate::drive::{DriveIdentity, Load};
use crate::readings::Readings;
use crate::record::{Step, Task};
use crate::route::{Leg, LegKind};

/// A step about to be taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Planned {
    /// What it is for.
    pub task: Task,
    /// What the drive is told.
    pub load: Load,
    /// It ends after this time, or when the load's limit is reached.
    pub duration: Option<Duration>,
}

impl Planned {
    /// As it stands in the record.
    #[must_use]
    pub fn step(&self) -> Step {
        let Load { kind, start, end, block, depth, workers, pattern, rate, .. } = self.load;
        Step { task: self.task, load: kind, start, end, block, depth, workers, pattern, rate }
    }
}

/// Chooses the steps of one leg.
#[derive(Debug, Clone)]
pub enum Course {
    /// Passes, then the slow stretches again.
    Scan(scan::Scan),
    /// Nested shares, round after round.
    Spans(spans::Spans),
    /// Block sizes, depths, workers and patterns.
    Ladder(ladder::Ladder),
    /// A stream, or the highest that holds.
    Pace(pace::Pace),
    /// Stamped blocks read back.
    Verify(verify::Verify),
}

impl Course {
    /// Of a leg; `None` when it has one load only. `stamped` is what earlier writes should have left.
    ///
    /// # Errors
    /// Why the leg cannot be done on this drive.
    pub fn of(leg: &Leg, drive: &DriveIdentity, stamped: &[Expected]) -> Result<Option<Self>, String> {
        Ok(Some(match leg.kind {
            LegKind::Scan => Self::Scan(scan::Scan::new(leg, drive)),
            LegKind::Spans => Self::Spans(spans::Spans::new(leg, drive)),
            LegKind::Ladder => Self::Ladder(ladder::Ladder::new(leg, drive)),
            LegKind::Pace => Self::Pace(pace::Pace::new(leg, drive)?),
            LegKind::Verify => Self::Verify(verify::Verify::new(leg, drive, stamped)?),
            _ => return Ok(None),
        }))
    }

    /// The next step, given all that was seen; `None` when the leg is done.
    pub fn next(&mut self, readings: &Readings) -> Option<Planned> {
        match self {
            Self::Scan(c) => c.next(readings),
            Self::Spans(c) => c.next(),
            Self::Ladder(c) => c.next(),
            Self::Pace(c) => c.next(readings),
            Self::Verify(c) => c.next(),
        }
    }
}

#[cfg(test)]
mod tests;
