//! What may be asked of a haul while it runs.

use hollow_mile_core::record::Fall;
use serde::{Deserialize, Serialize};

/// What the one at the controls can ask for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Command {
    /// Take the load off, or put it on again. A simulated drive's clock stands meanwhile.
    Pause(bool),
    /// Go on to the next leg.
    SkipLeg,
    /// End the haul.
    Stop,
    /// Write words into the record.
    Note(String),
    /// Find out by experiments why the rate fell.
    FindOut(Box<Fall>),
    /// How fast a simulated drive's clock runs.
    Speed(Speed),
}

/// How fast a simulated drive's clock runs.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Speed {
    /// So many times as fast as real time.
    Times(f64),
    /// As fast as possible.
    Most,
}

impl Speed {
    const STEPS: [f64; 7] = [1.0, 4.0, 15.0, 60.0, 240.0, 900.0, 3600.0];

    /// The next faster one.
    #[must_use]
    pub fn faster(self) -> Self {
        match self {
            Self::Times(t) => Self::STEPS.into_iter().find(|s| *s > t).map_or(Self::Most, Self::Times),
            Self::Most => Self::Most,
        }
    }

    /// The next slower one.
    #[must_use]
    pub fn slower(self) -> Self {
        match self {
            Self::Most => Self::Times(Self::STEPS[Self::STEPS.len() - 1]),
            Self::Times(t) => Self::Times(Self::STEPS.into_iter().rev().find(|s| *s < t).unwrap_or(1.0)),
        }
    }

    /// `60 × real time`.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Most => "as fast as possible".into(),
            Self::Times(1.0) => "real time".into(),
            Self::Times(t) => format!("{t} × real time"),
        }
    }
}
