//! One haul with all that is concluded from it.

use std::path::Path;

use hollow_mile_core::archive::claims::{Claims, Cost, Stands};
use hollow_mile_core::archive::digest::Digest;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::limits::{self, Judged, Verdict};
use hollow_mile_core::conclude::models::Models;
use hollow_mile_core::readings::Readings;
use hollow_mile_ledger::{HaulRow, Ledger};

use crate::claims;
use crate::error::AppError;

/// Everything that is told of one haul.
pub struct Told {
    /// Identifier of the haul, or the name of the file.
    pub haul: String,
    /// As the ledger lists it; `None` of a file.
    pub row: Option<HaulRow>,
    /// Its record.
    pub readings: Readings,
    /// What it says.
    pub conclusions: Conclusions,
    /// What is kept of it.
    pub digest: Digest,
    /// How the cache is built, how warm it gets.
    pub models: Models,
    /// What its maker states.
    pub claims: Option<Claims>,
    /// How the limits of its route stand.
    pub limits: Vec<Judged>,
}

impl Told {
    /// A haul of the ledger: id, unique beginning of one, or `last`.
    ///
    /// # Errors
    /// When there is no such haul, or its record cannot be read.
    pub fn of_haul(ledger: &Ledger, home: &Path, haul: &str) -> Result<Self, AppError> {
        let row = ledger.haul(haul)?;
        let (readings, conclusions) = ledger.concluded(&row.haul)?;
        let digest = ledger.digest(&row.haul)?;
        Ok(Self::with(row.haul.clone(), Some(row), readings, conclusions, digest, home))
    }

    /// A record that is in no ledger, by the name of its file.
    #[must_use]
    pub fn of_record(name: &str, readings: Readings, home: &Path) -> Self {
        let conclusions = readings.conclude();
        let digest = Digest::of(&readings, &conclusions);
        let haul = readings.head().map_or_else(|| name.to_owned(), |h| h.haul.clone());
        Self::with(haul, None, readings, conclusions, digest, home)
    }

    fn with(
        haul: String,
        row: Option<HaulRow>,
        readings: Readings,
        conclusions: Conclusions,
        digest: Digest,
        home: &Path,
    ) -> Self {
        Self {
            models: Models::of(&readings, &conclusions),
            claims: readings.head().and_then(|h| claims::of_model(home, &h.drive.model)),
            limits: limits::judge(&readings, &conclusions),
            haul,
            row,
            readings,
            conclusions,
            digest,
        }
    }

    /// Its figures against what the maker states.
    #[must_use]
    pub fn stands(&self) -> Vec<Stands> {
        self.claims.as_ref().map(|c| c.against(&self.digest)).unwrap_or_default()
    }

    /// Its temperatures against those that the maker states, in sentences without their points.
    #[must_use]
    pub fn claimed_heat(&self) -> Vec<String> {
        self.claims.as_ref().map(|c| c.heat_words(&self.digest)).unwrap_or_default()
    }

    /// What it cost of the endurance that is claimed.
    #[must_use]
    pub fn cost(&self) -> Option<Cost> {
        self.claims.as_ref()?.cost(self.readings.written())
    }

    /// How many limits were missed.
    #[must_use]
    pub fn missed(&self) -> usize {
        self.limits.iter().filter(|l| l.verdict == Verdict::Missed).count()
    }
}
