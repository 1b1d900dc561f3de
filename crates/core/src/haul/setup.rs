//! What is set before a haul.

use crate::drive::freight::Trees;
use crate::drive::stamp::Expected;
use crate::quantity::units::Bytes;
use crate::record::Conditions;
use crate::record::forecast::Forecast;
use crate::record::held_to::HeldTo;
use crate::route::Route;

/// What is set before a haul.
#[derive(Debug, Clone)]
pub struct Setup {
    /// Identifier, unique in the ledger.
    pub haul: String,
    /// What to do.
    pub route: Route,
    /// Under which conditions.
    pub conditions: Conditions,
    /// Wall-clock start, milliseconds since 1970-01-01 UTC.
    pub started_unix_ms: i64,
    /// Version of the program, for the record.
    pub program: String,
    /// What an earlier haul left on the drive, for a verify leg that reads it back.
    pub stamped: Option<Expected>,
    /// Where to go on, when this haul continues another.
    pub resume: Option<Resume>,
    /// What it should be like, from earlier hauls of the drive.
    pub forecast: Option<Forecast>,
    /// What it is held to beside the limits of its route.
    pub held_to: HeldTo,
    /// What the drive is rated to take over its life, as its user has it; without that what the drive states.
    pub endurance: Option<Bytes>,
    /// Trees of legs that take the shape of a folder, by what the leg calls it.
    pub trees: Trees,
}

impl Setup {
    /// Of a haul of which no more is stated.
    #[must_use]
    pub fn plain(haul: &str, route: Route) -> Self {
        Self {
            haul: haul.to_owned(),
            route,
            conditions: Conditions::default(),
            started_unix_ms: 0,
            program: String::new(),
            stamped: None,
            resume: None,
            forecast: None,
            held_to: HeldTo::default(),
            endurance: None,
            trees: Trees::new(),
        }
    }
}

/// Where a haul that was stopped goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Resume {
    /// Index of the leg in the route as it is laid out.
    pub leg: usize,
    /// Bytes that were moved in it.
    pub moved: Bytes,
    /// Share of the drive that fill legs had brought it to.
    pub filled: Bytes,
}
