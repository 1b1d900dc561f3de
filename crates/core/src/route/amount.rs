//! How much of a drive, and which part of it.

use serde::{Deserialize, Serialize};

use crate::quantity::plain::{self, Plain};
use crate::quantity::units::{Bytes, ParseUnitError};

/// Bytes as such, or as a share of the region: `"200 GB"`, `"80 %"`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Amount {
    /// So many bytes.
    Bytes(Bytes),
    /// So many percent of the region, in 0..=10,000 (more than 100 goes round again).
    Percent(f64),
}

impl Amount {
    /// In bytes, for a region of this size, rounded down to whole blocks of 512 B.
    #[must_use]
    pub fn of(self, region: Bytes) -> Bytes {
        match self {
            Self::Bytes(b) => b,
            Self::Percent(100.0) => region,
            Self::Percent(p) => Bytes::new((region.as_f64() * p / 100.0) as u64 / 512 * 512),
        }
    }
}

impl Plain for Amount {
    fn plain(&self) -> String {
        match self {
            Self::Bytes(b) => b.plain(),
            Self::Percent(p) => format!("{p} %"),
        }
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        if let Some(number) = text.trim().strip_suffix('%')
            && let Ok(p) = number.trim().parse::<f64>()
            && p > 0.0
            && p <= 10_000.0
        {
            return Ok(Self::Percent(p));
        }
        text.parse().map(Self::Bytes)
    }
}

/// A part of the drive; without it a leg has the whole.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Region {
    /// First byte, or share of the drive before it.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub from: Option<Amount>,
    /// One past the last byte.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub to: Option<Amount>,
}

impl Region {
    /// First byte and one past the last on a drive of this capacity, cut to whole blocks.
    #[must_use]
    pub fn on(&self, capacity: Bytes, block: Bytes) -> (Bytes, Bytes) {
        let whole = |b: Bytes| Bytes::new(b.get() / block.get().max(1) * block.get().max(1));
        let start = self.from.map_or(Bytes::ZERO, |a| whole(a.of(capacity)));
        let end = self.to.map_or(capacity, |a| match a.of(capacity) {
            end if end == capacity => capacity,
            end => whole(end),
        });
        (start, end)
    }
}
