//! Limits: the user's pass/fail lines for figures and findings, in words.

use crate::quantity::text::named;
use std::str::FromStr;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::Route;
use super::leg::{Leg, LegKind};
use crate::quantity::units::Celsius;
use crate::quantity::{FigureId, FindingKind, Needs, Quantity};

/// One line that must hold.
#[derive(Debug, Clone, PartialEq)]
pub enum Limit {
    /// A figure at or above, or else at or below, a number.
    Figure {
        /// Which.
        of: FigureId,
        /// The number is the least that passes, or else the most.
        at_least: bool,
        /// In bytes per second, bytes, seconds, °C, or a count.
        bound: f64,
        /// As it was written.
        text: String,
    },
    /// No finding of a kind, or of any.
    No {
        /// Which; any without it.
        kind: Option<FindingKind>,
        /// Only asked for when the air is cooler than this.
        below_ambient: Option<Celsius>,
        /// As it was written.
        text: String,
    },
    /// Failed operations and wrong blocks are what the route looks for: they do not end the program with an error.
    ErrorsAllowed,
}

impl Limit {
    /// As it was written.
    #[must_use]
    pub fn text(&self) -> &str {
        match self {
            Self::Figure { text, .. } | Self::No { text, .. } => text,
            Self::ErrorsAllowed => ERRORS_ALLOWED,
        }
    }

    /// It says how many failed operations or wrong blocks there may be.
    #[must_use]
    pub const fn speaks_of_errors(&self) -> bool {
        match self {
            Self::Figure { of, .. } => matches!(of, FigureId::Errors | FigureId::Mismatches),
            Self::No { kind, .. } => {
                matches!(kind, None | Some(FindingKind::MediaError | FindingKind::DataMismatch))
            }
            Self::ErrorsAllowed => true,
        }
    }

    /// Whether a route measures what this needs.
    ///
    /// # Errors
    /// What is missing in the route.
    pub fn is_measured_by(&self, route: &Route) -> Result<(), &'static str> {
        match self {
            Self::Figure { of, .. } => has(route, of.needs()),
            Self::ErrorsAllowed => Ok(()),
            Self::No { kind: Some(FindingKind::DataMismatch), .. } => has(route, Needs::Verify),
            Self::No { .. } => has(route, Needs::Load),
        }
    }
}

/// Whether a route has in it what a figure needs, or else what is missing.
fn has(route: &Route, needs: Needs) -> Result<(), &'static str> {
    fn any(legs: &[Leg], of: &dyn Fn(&Leg) -> bool) -> bool {
        legs.iter().any(|l| of(l) || any(&l.legs, of))
    }
    let has = |of: &dyn Fn(&Leg) -> bool| any(&route.legs, of);
    let kind = |kind: LegKind| has(&|l| l.kind == kind);
    let found = match needs {
        Needs::Nothing => true,
        Needs::Load => has(&|l| l.kind.moves()),
        Needs::Rest => has(&|l| l.kind == LegKind::Rest),
        Needs::Write => has(&|l| l.written_share() > 0.0),
        Needs::Scan => kind(LegKind::Scan),
        Needs::Spans => kind(LegKind::Spans),
        Needs::Pace => kind(LegKind::Pace),
        Needs::Search => has(&|l| l.kind == LegKind::Pace && l.search),
        Needs::Verify => kind(LegKind::Verify),
        Needs::Freight => has(&|l| l.kind == LegKind::Freight && l.carry.makes()),
        Needs::Lookout => has(&|l| l.lookout.is_some()),
    };
    if found { Ok(()) } else { Err(needs.words()) }
}

const ERRORS_ALLOWED: &str = "errors allowed";

const EXPECTED: &str = "give a figure with a bound (sustained >= 620 MB/s), or no and a finding (no throttle below 38 °C ambient)";

impl FromStr for Limit {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let clean = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let shown = named(text);
        if clean == ERRORS_ALLOWED {
            return Ok(Self::ErrorsAllowed);
        }
        if let Some(rest) = clean.strip_prefix("no ") {
            let (what, below) = match rest.split_once(" below ") {
                Some((what, below)) => {
                    let degrees = below.trim_end_matches("ambient").trim();
                    (what, Some(degrees.parse::<Celsius>().map_err(|e| e.to_string())?))
                }
                None => (rest, None),
            };
            let kind = match what {
                "finding" | "findings" => None,
                word => Some(
                    FindingKind::from_word(word)
                        .ok_or_else(|| format!("\"{}\" is no kind of finding; {EXPECTED}", named(word)))?,
                ),
            };
            return Ok(Self::No { kind, below_ambient: below, text: clean });
        }
        let at =
            clean.find(['<', '>', '≤', '≥']).ok_or_else(|| format!("\"{shown}\" is no limit: {EXPECTED}"))?;
        let name = clean[..at].trim();
        let at_least = clean[at..].starts_with(['>', '≥']);
        let number = clean[at..].trim_start_matches(['<', '>', '=', '≤', '≥']).trim();
        let of = FigureId::from_name(name).ok_or_else(|| {
            let names: Vec<&str> = FigureId::all().map(FigureId::name).collect();
            format!("\"{}\" is no figure: there are {}", named(name), names.join(", "))
        })?;
        let bound = of.quantity().read(number).map_err(|e| {
            let wants =
                if of.quantity() == Quantity::Count { "a whole number" } else { "a number with its unit" };
            format!("{e}; {name} needs {wants}")
        })?;
        Ok(Self::Figure { of, at_least, bound, text: clean })
    }
}

impl Serialize for Limit {
    fn serialize<S: Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(self.text())
    }
}

impl<'de> Deserialize<'de> for Limit {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        String::deserialize(d)?.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_no_limit_says_what_would_be() {
        for (text, words) in [
            ("sustained", "is no limit"),
            ("speed >= 3 MB/s", "is no figure"),
            ("sustained >= 620", "needs a number with its unit"),
            ("errors alowed", "is no limit"),
            ("no slowness", "is no kind of finding"),
            ("errors <= many", "whole number"),
        ] {
            let error = text.parse::<Limit>().unwrap_err();
            assert!(error.contains(words), "{text}: {error}");
        }
    }
}
