//! Digests of hauls: kept when a haul ends, made from the record when one is missing or of another version.

use hollow_mile_core::archive::contrast::Subject;
use hollow_mile_core::archive::digest::{Digest, VERSION};
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::limits;
use hollow_mile_core::conclude::limits::{Judged, Verdict};
use hollow_mile_core::conclude::models::recovery::Recovery;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Recovers;
use rusqlite::{OptionalExtension, params};

use crate::{Ledger, LedgerError};

/// How limits stand, in a few words: `2 met, 1 missed`.
#[must_use]
pub fn limits_words(limits: &[Judged]) -> String {
    let count = |v: Verdict| limits.iter().filter(|l| l.verdict == v).count();
    let parts = [(Verdict::Missed, "missed"), (Verdict::Met, "met"), (Verdict::Open, "open")];
    let words: Vec<String> = parts
        .into_iter()
        .filter(|(v, _)| count(*v) > 0)
        .map(|(v, word)| format!("{} {word}", count(v)))
        .collect();
    words.join(", ")
}

impl Ledger {
    /// Keeps the digest of a haul and how its limits stand.
    pub(crate) fn keep_digest(
        &self,
        haul: &str,
        readings: &Readings,
        conclusions: &Conclusions,
    ) -> Result<Digest, LedgerError> {
        let digest = self.write_digest(haul, &Digest::of(readings, conclusions))?;
        let limits = limits_words(&limits::judge(readings, conclusions));
        if !self.read_only {
            self.db.execute("UPDATE hauls SET limits = ?2 WHERE haul = ?1", params![haul, limits])?;
        }
        Ok(digest)
    }

    /// Writes a digest down, and gives it as it will be read back, to the digit.
    fn write_digest(&self, haul: &str, digest: &Digest) -> Result<Digest, LedgerError> {
        let json = serde_json::to_string(digest).unwrap_or_default();
        if !self.read_only {
            self.db.execute("UPDATE hauls SET digest = ?2 WHERE haul = ?1", params![haul, json])?;
        }
        Ok(serde_json::from_str(&json).unwrap_or_else(|_| digest.clone()))
    }

    /// How the cache of a drive comes back with rest, as the newest of its last hauls that could tell had it.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn recovers(&self, serial: &str) -> Result<Option<Recovers>, LedgerError> {
        if serial.is_empty() || serial == "unknown" {
            return Ok(None);
        }
        let mut statement = self.db.prepare_cached(
            "SELECT haul, digest FROM hauls WHERE serial = ?1 AND digest IS NOT NULL AND state <> 'running'
               AND deleted_unix_ms IS NULL
             ORDER BY started_unix_ms DESC LIMIT 32",
        )?;
        let rows = statement.query_map([serial], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))?;
        for row in rows {
            let (haul, json) = row?;
            // Digests of another version of the program may have another shape: they are left out.
            let Ok(digest) = serde_json::from_str::<Digest>(&json) else { continue };
            let model = digest.cache_model.known().and_then(|m| m.recovery.known());
            if let Some(Recovery { half_s, all_s, whole_bytes, .. }) = model {
                let (half_s, all_s, whole_bytes) = (*half_s, *all_s, *whole_bytes);
                return Ok(Some(Recovers { haul, half_s, all_s, whole_bytes }));
            }
        }
        Ok(None)
    }

    /// The digest of a haul. One that is not kept is made from the whole record, and kept when the haul is over.
    ///
    /// # Errors
    /// When there is no such haul, or its record cannot be read.
    pub fn digest(&self, haul: &str) -> Result<Digest, LedgerError> {
        let kept: Option<(Option<String>, String, bool)> = self
            .db
            .query_row("SELECT digest, state, kept_samples NOTNULL FROM hauls WHERE haul = ?1", [haul], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?))
            })
            .optional()?;
        let Some((json, state, compacted)) = kept else {
            return Err(LedgerError::NoSuchHaul(haul.to_owned()));
        };
        let digest = json.and_then(|j| serde_json::from_str::<Digest>(&j).ok());
        if let Some(digest) = digest.clone().filter(|d| d.version == VERSION) {
            return Ok(digest);
        }
        let (readings, conclusions) = self.concluded(haul)?;
        if state == "running" {
            return Ok(Digest::of(&readings, &conclusions));
        }
        match digest.filter(|_| compacted) {
            // Its figures were concluded from more than what is left.
            Some(earlier) => {
                let digest = Digest::of(&readings, &conclusions).completing(earlier);
                self.write_digest(haul, &digest)?;
                Ok(digest)
            }
            None => self.keep_digest(haul, &readings, &conclusions),
        }
    }

    /// The digest of a haul where one is kept, of whatever version: no record is read for it.
    #[must_use]
    pub fn digest_at_hand(&self, haul: &str) -> Option<Digest> {
        let kept = self.db.query_row("SELECT digest FROM hauls WHERE haul = ?1", [haul], |r| r.get(0));
        let json: Option<String> = kept.ok().flatten();
        serde_json::from_str(&json?).ok()
    }

    /// A haul as a contrast takes it.
    ///
    /// # Errors
    /// When there is no such haul, or its record cannot be read.
    pub fn subject(&self, haul: &str) -> Result<Subject, LedgerError> {
        let row = self.haul(haul)?;
        Ok(Subject {
            head: self.head(&row.haul)?,
            state: row.state,
            tags: row.conditions.tags,
            label: row.label,
            digest: self.digest(&row.haul)?,
        })
    }

    /// The curves of a haul, for a view: of a long one from its overview.
    ///
    /// # Errors
    /// When the record cannot be read.
    pub fn curves(&self, haul: &str) -> Result<Readings, LedgerError> {
        match self.overview(haul) {
            Some((readings, _)) => Ok(readings),
            None => self.readings(haul),
        }
    }
}
