//! What a haul is held to beside the limits of its route, as it was known when it began: the standing limits of its model, and what
//! other drives of the model showed by the same route.

use serde::{Deserialize, Serialize};

use crate::drive::{LoadKind, Pattern};
use crate::quantity::FigureKey;
use crate::quantity::units::Rate;
use crate::route::Limit;

/// What a haul is held to.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct HeldTo {
    /// The standing limits of its model that its route measures.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limit>,
    /// Other drives of its model.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sisters: Option<Sisters>,
    /// Of an array: what its members moved alone, by their newest hauls.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub alone: Vec<Alone>,
}

/// A load on one member of an array, alone.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Alone {
    /// Serial of the member.
    pub serial: String,
    /// Which way the bytes went.
    pub kind: LoadKind,
    /// In which order.
    pub pattern: Pattern,
    /// Bytes of an operation.
    pub block_bytes: u64,
    /// Operations in flight.
    pub depth: u32,
    /// Mean rate.
    pub rate: Rate,
}

impl HeldTo {
    /// Nothing is known to hold it to.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.limits.is_empty() && self.sisters.is_none() && self.alone.is_empty()
    }
}

/// Other drives of a model by one route, cooled alike.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Sisters {
    /// Drives.
    pub drives: usize,
    /// Their hauls.
    pub hauls: usize,
    /// All have the firmware that this drive has.
    pub same_firmware: bool,
    /// Figures that were compared when the haul began: as many as look for something odd.
    pub figures: Vec<Expected>,
}

/// A figure over those drives.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Expected {
    /// Which.
    pub figure: FigureKey,
    /// Drives that have it.
    pub drives: usize,
    /// Mean over them, in the figure's unit.
    pub mean: f64,
    /// Standard deviation of one haul of one further drive from that mean.
    pub deviation: f64,
    /// The worst or best of their means: the lowest.
    pub low: f64,
    /// The highest.
    pub high: f64,
}
