//! Routes: what to do on a drive, as an ordered list of legs, in a TOML file.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::erasure::Erasure;
use crate::quantity::plain;
use crate::quantity::units::Bytes;

mod amount;
mod check;
pub mod fields;
mod group;
mod leg;
mod limit;
mod rounds;
mod stream;
mod walk;
mod words;

pub use crate::quantity::text::line_and_column;
pub use amount::{Amount, Region};
pub use fields::Field;
pub use group::{LaidOn, Over, Turn};
pub use leg::{Leg, LegKind, Operation, SelfTestLength, Until};
pub use limit::Limit;
pub use rounds::{Followed, Round, Steady};
pub use stream::Stream;
pub use walk::{Edit, all_legs, edit_legs, leg_mut};

const fn default_interval() -> Duration {
    Duration::from_millis(100)
}

/// What to do on a drive.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// Short name, as given on the command line.
    pub name: String,
    /// What it finds out, in one sentence.
    #[serde(default)]
    pub about: String,
    /// Length of one sample.
    #[serde(default = "default_interval", with = "plain")]
    pub interval: Duration,
    /// What must hold, in words: `sustained >= 620 MB/s`, `no throttle below 38 °C ambient`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub limits: Vec<Limit>,
    /// The parts, in order.
    #[serde(rename = "leg", default)]
    pub legs: Vec<Leg>,
}

/// What is wrong with a route file, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RouteError {
    /// Not TOML, an unknown field, or a value out of place.
    #[error("line {line}, column {column}: {message}")]
    File {
        /// From 1.
        line: usize,
        /// From 1, in characters.
        column: usize,
        /// In a sentence.
        message: String,
    },
    /// Each value reads, but they do not fit together.
    #[error("{place}: {message}")]
    Sense {
        /// `leg 2`, `interval`.
        place: String,
        /// In a sentence.
        message: String,
    },
}

impl Route {
    /// Reads a route from the text of its file, and checks that it makes sense.
    ///
    /// # Errors
    /// The first fault, with line and column where it has one.
    pub fn from_toml(text: &str) -> Result<Self, RouteError> {
        Self::read_all_faults(text).map_err(|mut all| all.remove(0))
    }

    /// The route as the text of a file; [`Route::from_toml`] reads it back.
    ///
    /// # Errors
    /// Never for a route that passed [`Route::check`].
    pub fn to_toml(&self) -> Result<String, toml::ser::Error> {
        toml::to_string(self)
    }

    /// The ways to erase a whole drive that it has, each once.
    #[must_use]
    pub fn whole_erasures(&self) -> Vec<Erasure> {
        let flat = self.laid_out(LaidOn::Drive);
        let has =
            |e: &Erasure| e.is_whole() && flat.legs.iter().any(|l| l.kind == LegKind::Wipe && l.by == *e);
        Erasure::ALL.into_iter().filter(has).collect()
    }

    /// Bytes that will be written at most on a drive of this capacity; `None` when a write leg has no such bound.
    #[must_use]
    pub fn bytes_written_on(&self, capacity: Bytes) -> Option<Bytes> {
        let (mut sum, mut filled) = (Bytes::ZERO, Bytes::ZERO);
        for leg in &self.laid_out(LaidOn::Drive).legs {
            let bytes = match leg.kind {
                LegKind::Wipe => {
                    filled = Bytes::ZERO;
                    continue;
                }
                // Each level adds to the one before.
                LegKind::Fill => {
                    let to = leg.bytes_on(capacity)?;
                    let more = to.saturating_sub(filled);
                    filled = filled.max(to);
                    more
                }
                _ if leg.written_share() > 0.0 => leg.bytes_on(capacity)?.share(leg.written_share()),
                _ => continue,
            };
            sum += bytes;
        }
        Some(sum)
    }

    /// The highest level of fill that it brings the drive to, percent; `None` when it fills nothing. A level in bytes
    /// counts as none.
    #[must_use]
    pub fn fills(&self) -> Option<f64> {
        let flat = self.laid_out(LaidOn::FileSystem);
        let levels = flat.legs.iter().filter(|l| l.kind == LegKind::Fill).map(|l| match l.level {
            Some(Amount::Percent(p)) => p,
            _ => 0.0,
        });
        levels.reduce(f64::max)
    }

    /// True when any leg writes or discards.
    #[must_use]
    pub fn destroys(&self) -> bool {
        self.legs.iter().any(Leg::destroys)
    }
}

/// The routes that ship with the program, by name.
pub const SHIPPED: [(&str, &str); 25] = [
    ("long-haul", include_str!("../../routes/long-haul.toml")),
    ("cache-edge", include_str!("../../routes/cache-edge.toml")),
    ("hot-walk", include_str!("../../routes/hot-walk.toml")),
    ("breather", include_str!("../../routes/breather.toml")),
    ("first-look", include_str!("../../routes/first-look.toml")),
    ("high-water", include_str!("../../routes/high-water.toml")),
    ("ground", include_str!("../../routes/ground.toml")),
    ("spans", include_str!("../../routes/spans.toml")),
    ("ladder", include_str!("../../routes/ladder.toml")),
    ("stream", include_str!("../../routes/stream.toml")),
    ("proof", include_str!("../../routes/proof.toml")),
    ("busy", include_str!("../../routes/busy.toml")),
    ("folder", include_str!("../../routes/folder.toml")),
    ("clips", include_str!("../../routes/clips.toml")),
    ("hand-over", include_str!("../../routes/hand-over.toml")),
    ("full-day", include_str!("../../routes/full-day.toml")),
    ("why", include_str!("../../routes/why.toml")),
    ("pts-iops", include_str!("../../routes/pts-iops.toml")),
    ("pts-throughput", include_str!("../../routes/pts-throughput.toml")),
    ("pts-latency", include_str!("../../routes/pts-latency.toml")),
    ("pts-saturation", include_str!("../../routes/pts-saturation.toml")),
    ("pts-idle", include_str!("../../routes/pts-idle.toml")),
    ("pts-stimulus", include_str!("../../routes/pts-stimulus.toml")),
    ("pts-demand", include_str!("../../routes/pts-demand.toml")),
    ("jedec-enterprise", include_str!("../../routes/jedec-enterprise.toml")),
];

/// A shipped route by its name.
#[must_use]
pub fn shipped(name: &str) -> Option<Route> {
    SHIPPED.iter().find(|(n, _)| *n == name).and_then(|(_, text)| Route::from_toml(text).ok())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::plain::Plain;

    #[test]
    fn every_shipped_route_reads_and_survives_a_round_trip() {
        for (name, text) in SHIPPED {
            let route = Route::from_toml(text).unwrap_or_else(|e| panic!("{name}: {e}"));
            assert_eq!(route.name, name);
            assert!(!route.about.is_empty(), "{name} says nothing about itself");
            assert_eq!(Route::from_toml(&route.to_toml().unwrap()).unwrap(), route);
        }
    }

    #[test]
    fn faults_name_their_line_and_column() {
        let text = "name = \"x\"\n[[leg]]\nkind = \"write\"\nblock = \"1 mib\"\n";
        let error = Route::from_toml(text).unwrap_err().to_string();
        assert!(error.starts_with("line 4, column 9: \"1 mib\" is not a size"), "{error}");
        let error = Route::from_toml("name = \"x\"\n[[leg]]\nkind = \"rites\"\n").unwrap_err().to_string();
        assert!(error.starts_with("line 3, column 8: unknown variant `rites`"), "{error}");
        let error = Route::from_toml("name = \"x\"\ndepht = 3\n").unwrap_err().to_string();
        assert!(error.starts_with("line 2, column 1: unknown field `depht`"), "{error}");
    }

    #[test]
    fn every_leg_that_cannot_be_read_is_named() {
        let text = "name = \"x\"\n[[leg]]\nkind = \"write\"\nblock = \"1 mib\"\n[[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }\n\
                    [[leg]]\nkind = \"read\"\ndepht = 3\n";
        let all: Vec<String> =
            Route::read_all_faults(text).unwrap_err().iter().map(ToString::to_string).collect();
        assert_eq!(all.len(), 2, "{all:?}");
        assert!(all[0].starts_with("line 4, column 9") && all[1].starts_with("line 10, column 1"), "{all:?}");
    }

    #[test]
    fn amounts_are_bytes_or_shares() {
        assert_eq!(Amount::read("50 %").unwrap().of(Bytes::from_gb(4)), Bytes::from_gb(2));
        assert_eq!(Amount::read("1 GB").unwrap().of(Bytes::from_gb(4)), Bytes::from_gb(1));
        assert!(Amount::read("-1 %").is_err());
        assert_eq!(Amount::read("100%").unwrap().of(Bytes::new(1_000_001)), Bytes::new(1_000_001));
    }

    #[test]
    fn the_cost_is_known_beforehand() {
        let route = shipped("long-haul").unwrap();
        assert_eq!(route.bytes_written_on(Bytes::from_gb(10)), Some(Bytes::from_gb(10)));
        assert!(route.destroys());
        assert_eq!(shipped("breather").unwrap().bytes_written_on(Bytes::from_gb(1000)), None);
    }
}
