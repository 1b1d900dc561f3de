//! Records of hauls that are over, made smaller: fewer samples, with a stated loss.
//!
//! Findings, figures, digest and surveys stay as they were concluded from the whole record; so does every extreme of rate,
//! latency and temperature ([`Thin`]). Lost is how the samples between two extremes lay: at most thirteen of a hundred are left.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Thin;
use hollow_mile_core::record::Event;
use hollow_mile_core::record::bytes;
use rusqlite::{OptionalExtension, params};

use crate::{Ledger, LedgerError, overview, record_error};

/// Samples that are joined at most.
pub(crate) const EACH: usize = 100;
/// Shorter records are left alone.
pub(crate) const LEAST_SAMPLES: u64 = 1_000;
/// Events of a batch.
pub(crate) const BATCH: usize = 16_384;

/// What compaction did.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Compacted {
    /// Hauls whose records were made smaller.
    pub hauls: Vec<String>,
    /// Their samples before.
    pub samples_before: u64,
    /// And after.
    pub samples_after: u64,
    /// Size of the file before, in bytes.
    pub bytes_before: u64,
    /// And after.
    pub bytes_after: u64,
}

impl Ledger {
    /// What was concluded from the whole record of a haul that was compacted since; `None` for another one.
    pub(crate) fn kept_conclusions(&self, haul: &str) -> Result<Option<Conclusions>, LedgerError> {
        self.fetch_overview(haul);
        let json: Option<String> = self
            .db
            .prepare_cached(
                "SELECT conclusions FROM overviews WHERE haul = ?1
                 AND (SELECT kept_samples FROM hauls WHERE haul = ?1) IS NOT NULL",
            )?
            .query_row([haul], |r| r.get(0))
            .optional()?;
        // What another version of the program concluded may not be readable: then what is left of the record tells.
        Ok(json.and_then(|j| serde_json::from_str(&j).ok()))
    }

    fn bytes(&self) -> u64 {
        let size = |name: &str| std::fs::metadata(self.home.join(name)).map_or(0, |m| m.len());
        size("ledger.sqlite") + size("ledger.sqlite-wal")
    }

    /// Makes the records of hauls smaller that began before a moment and are over, and gives the space back to the file system.
    ///
    /// # Errors
    /// When a haul is under way (it could not write meanwhile), a record cannot be read, or the file cannot be written. Each haul
    /// is changed as a whole or not at all.
    pub fn compact(&self, before_unix_ms: i64) -> Result<Compacted, LedgerError> {
        self.is_own()?;
        if let Some(row) = self.under_way()?.first() {
            return Err(LedgerError::InUse(row.haul.clone()));
        }
        let mut done = Compacted { bytes_before: self.bytes(), ..Compacted::default() };
        for row in self.hauls()? {
            if row.kept_samples.is_none()
                && row.samples >= LEAST_SAMPLES
                && row.started_unix_ms < before_unix_ms
            {
                done.samples_after += self.thin(&row.haul)?;
                done.samples_before += row.samples;
                done.hauls.push(row.haul);
            }
        }
        if !done.hauls.is_empty() {
            self.db.execute_batch("VACUUM")?;
            self.db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?;
        }
        done.bytes_after = self.bytes();
        Ok(done)
    }

    /// Thins one record. How many samples are left.
    fn thin(&self, haul: &str) -> Result<u64, LedgerError> {
        let (_, conclusions) = self.concluded(haul)?;
        let mut thin = Thin::new(EACH);
        self.replay(haul, |e| thin.push(e))?;
        let events = thin.finish();
        let left = events.iter().filter(|e| matches!(e, Event::Sample(_))).count() as u64;
        let why = |batch: usize| move |e: serde_json::Error| record_error(haul, batch as i64, &e);
        let tx = self.db.unchecked_transaction()?;
        tx.execute("DELETE FROM batches WHERE haul = ?1", [haul])?;
        for (seq, part) in events.chunks(BATCH).enumerate() {
            let bytes = bytes::encode(part, serde_json::to_vec).map_err(why(seq))?;
            tx.execute(
                "INSERT INTO batches (haul, seq, bytes) VALUES (?1, ?2, ?3)",
                params![haul, seq as i64, bytes],
            )?;
        }
        let short = bytes::encode(&Self::overview_of(&events, left), serde_json::to_vec).map_err(why(0))?;
        let concluded = serde_json::to_string(&conclusions).map_err(why(0))?;
        overview::keep(&tx, haul, &short, &concluded, Some(overview::PROGRAM))?;
        tx.execute("UPDATE hauls SET kept_samples = ?2 WHERE haul = ?1", params![haul, left as i64])?;
        tx.commit()?;
        Ok(left)
    }
}
