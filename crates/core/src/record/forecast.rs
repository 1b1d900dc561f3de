//! A forecast as it is kept with a haul: what each leg was expected to be like.

use serde::{Deserialize, Deserializer, Serialize};

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
    /// By how much the mean rate of this part may be off, as a share: what lies further away is no chance. Infinite where nothing
    /// tells, which JSON has no number for.
    #[serde(default, deserialize_with = "null_is_infinite")]
    pub apart: f64,
    /// Temperature, °C.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub degrees: Option<Band>,
}

fn null_is_infinite<'de, D: Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or(f64::INFINITY))
}

/// What tells of a leg, from what tells most to what tells least.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    /// Hauls of the drive itself.
    #[default]
    Drive,
    /// Hauls of other drives of its model.
    Model,
    /// What its maker claims: no haul at all.
    Claims,
}

impl Source {
    /// The drive itself.
    #[must_use]
    #[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
    pub const fn is_drive(&self) -> bool {
        matches!(self, Self::Drive)
    }
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
    /// What tells it.
    #[serde(default, skip_serializing_if = "Source::is_drive")]
    pub source: Source,
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

    /// No haul tells of any of it.
    #[must_use]
    pub fn is_claimed(&self) -> bool {
        !self.legs.is_empty() && self.legs.iter().all(|l| l.source == Source::Claims)
    }

    /// What tells it: of the leg of which the least is known.
    #[must_use]
    pub fn source(&self) -> Source {
        self.legs.iter().map(|l| l.source).max().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_part_of_which_nothing_tells_how_far_off_it_may_be_is_read_again() {
        let part = Part { to: 1e9, seconds: 1.0, rate: None, apart: f64::INFINITY, degrees: None };
        let leg =
            LegForecast { leg: 0, hauls: 0, same_route: false, source: Source::Claims, parts: vec![part] };
        let kept = serde_json::to_string(&leg).unwrap();
        assert_eq!(serde_json::from_str::<LegForecast>(&kept).unwrap(), leg, "{kept}");
        // As earlier versions wrote it: by the drive's own hauls.
        let before =
            r#"{"leg":1,"hauls":3,"same_route":true,"parts":[{"to":1.0,"seconds":1.0,"apart":0.1}]}"#;
        assert_eq!(serde_json::from_str::<LegForecast>(before).unwrap().source, Source::Drive);
    }
}
