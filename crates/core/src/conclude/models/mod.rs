//! What a record says about the drive beyond its findings: how its cache is built and comes back, how warm it gets, which
//! stream it can hold. Each model says how sure it is, or why it cannot tell and what haul would make it able to.

pub mod cache;
mod curves;
pub(super) mod fit;
pub(super) mod grid;
pub mod heat;
pub mod recovery;
pub mod stream;
#[cfg(test)]
mod tests;

use serde::{Deserialize, Serialize};

use crate::conclude::Conclusions;
use crate::quantity::units::{Celsius, Rate};
use crate::readings::Readings;

/// A model, or why there is none.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Told<T> {
    /// What is known.
    Known(T),
    /// What cannot be told.
    CannotTell(Refusal),
}

impl<T> Told<T> {
    /// What is known.
    #[must_use]
    pub const fn known(&self) -> Option<&T> {
        match self {
            Self::Known(t) => Some(t),
            Self::CannotTell(_) => None,
        }
    }
}

impl<T> From<Result<T, Refusal>> for Told<T> {
    fn from(r: Result<T, Refusal>) -> Self {
        match r {
            Ok(t) => Self::Known(t),
            Err(e) => Self::CannotTell(e),
        }
    }
}

/// All that a record tells beyond its findings.
#[derive(Debug, Clone, Serialize)]
pub struct Models {
    /// How the cache is built and comes back.
    pub cache: Told<cache::CacheModel>,
    /// How warm the drive gets.
    pub heat: Told<heat::HeatModel>,
}

impl Models {
    /// Of a record and what was concluded from it.
    #[must_use]
    pub fn of(readings: &Readings, conclusions: &Conclusions) -> Self {
        Self {
            cache: cache::CacheModel::of(readings, conclusions).into(),
            heat: heat::HeatModel::of(readings).into(),
        }
    }

    /// The cache in sentences.
    #[must_use]
    pub fn cache_words(&self) -> Vec<String> {
        match &self.cache {
            Told::Known(m) => m.sentences(),
            Told::CannotTell(r) => vec![r.words()],
        }
    }

    /// The heat in sentences, at a rate, in the air of the haul and in another.
    #[must_use]
    pub fn heat_words(&self, rate: Rate, ambient: Option<Celsius>) -> Vec<String> {
        match &self.heat {
            Told::Known(m) => m.sentences(rate, ambient.map(Celsius::degrees)),
            Told::CannotTell(r) => vec![r.words()],
        }
    }
}

/// Why a model cannot be made, and what would make it possible.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Refusal {
    /// A sentence: cannot tell, because.
    pub why: String,
    /// What to haul.
    pub remedy: String,
}

impl Refusal {
    /// Both in two sentences.
    #[must_use]
    pub fn words(&self) -> String {
        let mut c = self.remedy.chars();
        let begin = c.next().map_or_else(String::new, |f| f.to_uppercase().to_string());
        format!("{} {begin}{}.", self.why, c.as_str())
    }

    pub(crate) fn new(why: impl Into<String>, remedy: impl Into<String>) -> Self {
        Self { why: why.into(), remedy: remedy.into() }
    }
}
