//! Rounds: a group that is repeated until a figure of one of its legs is steady, as the performance tests of SNIA PTS ask.

use serde::{Deserialize, Serialize};

/// The figure that is followed from round to round.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Followed {
    /// Mean rate of the leg; operations per second are steady when it is.
    #[default]
    Rate,
    /// Mean latency of its operations.
    MeanLatency,
    /// 99th percentile of their latency.
    P99Latency,
}

impl Followed {
    /// As in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Rate => "rate",
            Self::MeanLatency => "mean-latency",
            Self::P99Latency => "p99-latency",
        }
    }

    /// As it is said.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Rate => "mean rate",
            Self::MeanLatency => "mean latency",
            Self::P99Latency => "p99 latency",
        }
    }
}

/// Of a group: until what is steady its rounds go on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Steady {
    /// Which legs of a round, from 1, counted as the legs are run; all of them must be steady over the same five rounds.
    pub legs: Vec<u16>,
    /// Which figure of them.
    #[serde(default)]
    pub figure: Followed,
}

/// Which round of such a group a leg belongs to; the program's own, when it lays a route out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Round {
    /// Which of the route's groups of rounds, from 0.
    pub group: u16,
    /// Which round, from 0.
    pub number: u16,
    /// So many at most.
    pub most: u16,
    /// Which leg of the round this is, from 0.
    pub place: u16,
    /// What is followed.
    pub steady: Steady,
}

impl Round {
    /// Which of the legs that are followed it is, from 0; `None` of the others.
    #[must_use]
    pub fn followed(&self) -> Option<usize> {
        self.steady.legs.iter().position(|leg| *leg == self.place + 1)
    }

    /// They belong to one round.
    #[must_use]
    pub fn is_with(&self, other: &Self) -> bool {
        (self.group, self.number) == (other.group, other.number)
    }
}
