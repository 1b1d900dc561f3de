//! The findings document: everything that is concluded of a haul, as JSON.

use crate::conclude::models::stream::Holding;
use crate::conclude::models::{Models, Told};
use serde::Serialize;

use crate::conclude::{Figures, Finding};

/// Words for the record, and when they came.
#[derive(Debug, Serialize)]
pub struct Noted<'a> {
    /// Seconds since the haul began.
    pub elapsed_s: f64,
    /// The words.
    pub text: &'a str,
}

/// The findings object of the design, ready for JSON.
#[derive(Debug, Serialize)]
pub struct FindingsDocument<'a> {
    /// Identifier of the haul, or the name of the file.
    pub haul: &'a str,
    /// As the user names it.
    pub drive: &'a str,
    /// In the order of their place.
    pub findings: &'a [Finding],
    /// Of the whole haul.
    pub figures: &'a Figures,
    /// What the record cannot tell, and why.
    pub doubts: Vec<String>,
    /// What was noted while it ran.
    pub notes: Vec<Noted<'a>>,
    /// How the cache is built and comes back, how warm the drive gets.
    #[serde(flatten)]
    pub models: &'a Models,
    /// What scans, spans, ladders, streams, fill sweeps and verifies say.
    pub surveys: &'a crate::conclude::surveys::Surveys,
    /// Legs that were ended by hand.
    pub cut_legs: &'a [crate::readings::CutLeg],
    /// How the limits of the route stand.
    pub limits: &'a [crate::conclude::limits::Judged],
    /// Figures against what the maker claims.
    pub claims: &'a [crate::archive::claims::Stands],
    /// What the haul cost of the endurance that is claimed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cost: Option<crate::archive::claims::Cost>,
    /// Whether it holds the stream that was asked about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stream: Option<Told<Holding>>,
}
