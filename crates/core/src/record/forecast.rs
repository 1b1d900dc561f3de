//! A forecast as it is kept with a haul: what each leg was expected to be like.

use serde::{Deserialize, Serialize};

/// A figure and where nine in ten of its samples lie.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Band {
    /// 5 % lie lower.
    pub low: f64,
    /// In the middle.
    pub likely: f64,
    /// 5 % lie higher.
    pub high: f64,
}

impl Band {
    /// Whether a value lies in it.
    #[must_use]
    pub fn holds(&self, v: f64) -> bool {
        (self.low..=self.high).contains(&v)
    }
}

/// A part of a leg.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// Where it ends: bytes moved in the leg, or seconds of it where it rests.
    pub to: f64,
    /// How long it takes, s.
    pub seconds: f64,
    /// Rate of one sample, bytes per second.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Band>,
    /// By how much the mean rate of this part may be off, as a share: what lies further away is no chance.
    #[serde(default)]
    pub apart: f64,
    /// Temperature, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub degrees: Option<Band>,
}

/// What a leg will be like.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LegForecast {
    /// Its index in the route as it is laid out.
    pub leg: u16,
    /// Hauls that showed it.
    pub hauls: usize,
    /// They were of this route, and this leg of it, and cooled alike: no other load, on no other ground.
    #[serde(default)]
    pub same_route: bool,
    /// From its beginning on.
    pub parts: Vec<Part>,
}

impl LegForecast {
    /// How long it takes, s.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.parts.iter().map(|p| p.seconds).sum()
    }

    /// The part at a place: bytes moved in the leg, or seconds of it where it rests.
    #[must_use]
    pub fn at(&self, place: f64) -> Option<&Part> {
        let i = self.parts.partition_point(|p| p.to < place);
        self.parts.get(i)
    }
}

/// What a route will be like: of the legs of which something is known.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Forecast {
    /// In order.
    pub legs: Vec<LegForecast>,
}

impl Forecast {
    /// Of a leg.
    #[must_use]
    pub fn leg(&self, leg: u16) -> Option<&LegForecast> {
        self.legs.iter().find(|l| l.leg == leg)
    }

    /// Hauls it is from: of the leg that has the fewest.
    #[must_use]
    pub fn hauls(&self) -> usize {
        self.legs.iter().map(|l| l.hauls).min().unwrap_or(0)
    }
}
