//! Rates in files whose names say MB/s (10^6 B/s): `#[serde(with = "mb_s")]`, or `"mb_s::maybe"` where there may be none.

use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::units::Rate;

/// # Errors
/// The serializer's.
pub fn serialize<S: Serializer>(rate: &Rate, to: S) -> Result<S::Ok, S::Error> {
    rate.mb_s().serialize(to)
}

/// # Errors
/// What is no number.
pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Rate, D::Error> {
    f64::deserialize(from).map(Rate::from_mb_s)
}

/// A rate, or null.
pub mod maybe {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    use crate::quantity::units::Rate;

    /// # Errors
    /// The serializer's.
    pub fn serialize<S: Serializer>(rate: &Option<Rate>, to: S) -> Result<S::Ok, S::Error> {
        rate.map(Rate::mb_s).serialize(to)
    }

    /// # Errors
    /// What is neither a number nor null.
    pub fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Option<Rate>, D::Error> {
        Option::<f64>::deserialize(from).map(|v| v.map(Rate::from_mb_s))
    }
}
