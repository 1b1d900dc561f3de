//! Quantities in files as people write them (`"1 MiB"`, `"10 min"`, `"84 °C"`): serde through [`Plain`].
//!
//! The error comes from inside the value's own deserialisation, so the TOML reader adds line and column.

use std::fmt;
use std::marker::PhantomData;
use std::time::Duration;

use serde::de::{self, Visitor};
use serde::{Deserializer, Serializer};

use crate::quantity::units::{Bytes, Celsius, ParseUnitError, Rate, parse_duration, plain_duration};

/// A quantity with a text form that reads back to the same value.
pub trait Plain: Sized {
    /// As a person would write it.
    fn plain(&self) -> String;
    /// Reads it back.
    ///
    /// # Errors
    /// When the text is not such a quantity.
    fn read(text: &str) -> Result<Self, ParseUnitError>;
}

impl Plain for Bytes {
    /// The shortest exact form, decimal or binary.
    fn plain(&self) -> String {
        let n = self.get();
        [(1_000_000_000_000, "TB"), (1_000_000_000, "GB"), (1_000_000, "MB"), (1_000, "kB")]
            .into_iter()
            .filter(|(scale, _)| n >= *scale && n.is_multiple_of(*scale))
            .map(|(scale, unit)| format!("{} {unit}", n / scale))
            .chain([self.binary()])
            .min_by_key(String::len)
            .unwrap_or_default()
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        text.parse()
    }
}

impl Plain for Celsius {
    fn plain(&self) -> String {
        format!("{} °C", self.degrees())
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        text.parse()
    }
}

impl Plain for Rate {
    fn plain(&self) -> String {
        format!("{} MB/s", self.mb_s())
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        text.parse()
    }
}

impl Plain for Duration {
    fn plain(&self) -> String {
        plain_duration(*self)
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        parse_duration(text)
    }
}

struct PlainVisitor<T>(PhantomData<T>);

impl<T: Plain> Visitor<'_> for PlainVisitor<T> {
    type Value = T;
    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a quantity with its unit, in quotes")
    }
    fn visit_str<E: de::Error>(self, text: &str) -> Result<T, E> {
        T::read(text).map_err(E::custom)
    }
    fn visit_i64<E: de::Error>(self, n: i64) -> Result<T, E> {
        self.visit_str(&n.to_string())
    }
    fn visit_u64<E: de::Error>(self, n: u64) -> Result<T, E> {
        self.visit_str(&n.to_string())
    }
    fn visit_f64<E: de::Error>(self, n: f64) -> Result<T, E> {
        self.visit_str(&n.to_string())
    }
}

/// For `#[serde(with = "plain")]`.
///
/// # Errors
/// Those of the serialiser.
pub fn serialize<T: Plain, S: Serializer>(value: &T, s: S) -> Result<S::Ok, S::Error> {
    s.serialize_str(&value.plain())
}

/// For `#[serde(with = "plain")]`.
///
/// # Errors
/// When the value is not such a quantity.
pub fn deserialize<'de, T: Plain, D: Deserializer<'de>>(d: D) -> Result<T, D::Error> {
    d.deserialize_any(PlainVisitor(PhantomData))
}

/// The same for `Option<T>`; use with `default` and `skip_serializing_if`.
pub mod option {
    use super::{Deserializer, Plain, Serializer};

    /// For `#[serde(with = "plain::option")]`.
    ///
    /// # Errors
    /// Those of the serialiser.
    pub fn serialize<T: Plain, S: Serializer>(value: &Option<T>, s: S) -> Result<S::Ok, S::Error> {
        match value {
            Some(v) => super::serialize(v, s),
            None => s.serialize_none(),
        }
    }

    /// For `#[serde(with = "plain::option")]`.
    ///
    /// # Errors
    /// When the value is not such a quantity.
    pub fn deserialize<'de, T: Plain, D: Deserializer<'de>>(d: D) -> Result<Option<T>, D::Error> {
        super::deserialize(d).map(Some)
    }
}

/// The same for `Vec<T>`.
pub mod list {
    use std::fmt;
    use std::marker::PhantomData;

    use serde::de::{Deserialize, SeqAccess, Visitor};
    use serde::ser::SerializeSeq;

    use super::{Deserializer, Plain, Serializer};

    struct One<T>(T);

    impl<'de, T: Plain> Deserialize<'de> for One<T> {
        fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
            super::deserialize(d).map(One)
        }
    }

    struct Many<T>(PhantomData<T>);

    impl<'de, T: Plain> Visitor<'de> for Many<T> {
        type Value = Vec<T>;
        fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
            f.write_str("a list of quantities with their units, in quotes")
        }
        fn visit_seq<A: SeqAccess<'de>>(self, mut seq: A) -> Result<Vec<T>, A::Error> {
            let mut all = Vec::new();
            while let Some(One(value)) = seq.next_element()? {
                all.push(value);
            }
            Ok(all)
        }
    }

    /// For `#[serde(with = "plain::list")]`.
    ///
    /// # Errors
    /// Those of the serialiser.
    pub fn serialize<T: Plain, S: Serializer>(values: &[T], s: S) -> Result<S::Ok, S::Error> {
        let mut seq = s.serialize_seq(Some(values.len()))?;
        for value in values {
            seq.serialize_element(&value.plain())?;
        }
        seq.end()
    }

    /// For `#[serde(with = "plain::list")]`.
    ///
    /// # Errors
    /// When a value is not such a quantity.
    pub fn deserialize<'de, T: Plain, D: Deserializer<'de>>(d: D) -> Result<Vec<T>, D::Error> {
        d.deserialize_seq(Many(PhantomData))
    }
}
