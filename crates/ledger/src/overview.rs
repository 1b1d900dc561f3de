//! A short stand-in for each long record, with what was concluded from it: on screen at once, while the whole is read.

use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::readings::{Readings, Thin};
use hollow_mile_core::record::bytes;
use hollow_mile_core::record::{Earlier, Event};
use rusqlite::{Connection, OptionalExtension, params};

use crate::{Ledger, LedgerError, record_error};

/// Its table.
pub const TABLE: &str = "
CREATE TABLE overviews (
    haul TEXT PRIMARY KEY REFERENCES hauls (haul) ON DELETE CASCADE,
    bytes BLOB NOT NULL,
    conclusions TEXT NOT NULL
) WITHOUT ROWID;
";

/// Another version of the program may conclude other things.
pub(crate) const PROGRAM: &str = env!("CARGO_PKG_VERSION");

/// Shorter records are read as fast without.
pub(crate) const LEAST_SAMPLES: u64 = 50_000;
/// Groups of samples in an overview, of each of which the extremes are kept: several to a column of the widest picture.
const GROUPS: u64 = 3_000;

/// Keeps an overview in place of the one before; `program` is the version that concluded, where that is known.
pub(crate) fn keep(
    db: &Connection,
    haul: &str,
    bytes: &[u8],
    conclusions: &str,
    program: Option<&str>,
) -> Result<(), LedgerError> {
    db.execute(
        "INSERT OR REPLACE INTO overviews (haul, bytes, conclusions, program) VALUES (?1, ?2, ?3, ?4)",
        params![haul, bytes, conclusions, program],
    )?;
    Ok(())
}

impl Ledger {
    /// Keeps an overview of a haul that is over, when it is long.
    pub(crate) fn keep_overview(&self, haul: &str, conclusions: &Conclusions) -> Result<(), LedgerError> {
        let samples = self.haul(haul)?.samples;
        if samples < LEAST_SAMPLES {
            return Ok(());
        }
        let mut overview = Thin::overview(samples.div_ceil(GROUPS) as usize);
        self.replay(haul, |e: &Event| overview.push(e))?;
        let why = |e: serde_json::Error| record_error(haul, 0, &e);
        let bytes = bytes::encode(&overview.finish(), serde_json::to_vec).map_err(why)?;
        let concluded = serde_json::to_string(conclusions).map_err(why)?;
        keep(&self.db, haul, &bytes, &concluded, Some(PROGRAM))
    }

    /// What a picture of a whole haul is drawn from: of a long one its overview, when this version of the program made it.
    ///
    /// # Errors
    /// As [`Ledger::concluded`].
    pub fn pictured(&self, haul: &str) -> Result<(Readings, Conclusions), LedgerError> {
        self.fetch_overview(haul);
        let made_by: Option<Option<String>> = self
            .db
            .prepare_cached("SELECT program FROM overviews WHERE haul = ?1")?
            .query_row([haul], |r| r.get(0))
            .optional()?;
        let ours = made_by.flatten().is_some_and(|p| p == PROGRAM);
        ours.then(|| self.overview(haul)).flatten().map_or_else(|| self.concluded(haul), Ok)
    }

    /// The overview of a record that is at hand.
    pub(crate) fn overview_of(events: &[Event], samples: u64) -> Vec<Event> {
        let mut overview = Thin::overview(samples.div_ceil(GROUPS) as usize);
        events.iter().for_each(|e| overview.push(e));
        overview.finish()
    }

    /// What the last hauls of a drive found that a next one may find again: the first cache end of each, and slow stretches.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn earlier(&self, serial: &str) -> Result<Vec<Earlier>, LedgerError> {
        if serial.is_empty() || serial == "unknown" {
            return Ok(Vec::new());
        }
        let mut statement = self.db.prepare_cached(
            "SELECT haul, findings FROM hauls WHERE serial = ?1 AND findings IS NOT NULL AND state <> 'running'
               AND deleted_unix_ms IS NULL
             ORDER BY started_unix_ms DESC LIMIT 8",
        )?;
        let rows = statement
            .query_map([serial], |r| Ok((r.get(0)?, r.get(1)?)))?
            .collect::<Result<Vec<(String, String)>, _>>()?;
        let mut all = Vec::new();
        for (haul, json) in rows {
            // Findings of another version of the program may have another shape: they are left out.
            let Ok((findings, _)) = serde_json::from_str::<(Vec<Finding>, serde_json::Value)>(&json) else {
                continue;
            };
            let first_end = findings.iter().find(|f| f.kind == FindingKind::CacheEnd);
            let slow = findings.iter().filter(|f| {
                matches!(f.kind, FindingKind::SlowZone | FindingKind::Unexplained) && f.position_end.is_some()
            });
            all.extend(first_end.into_iter().chain(slow.take(8)).map(|f| Earlier {
                haul: haul.clone(),
                kind: f.kind,
                bytes: f.written,
                position: f.position,
                position_end: f.position_end,
                temperature: f.temperature,
            }));
        }
        Ok(all)
    }

    /// The overview of a haul; `None` when it has none, or one that cannot be read: then the whole record is read.
    #[must_use]
    pub fn overview(&self, haul: &str) -> Option<(Readings, Conclusions)> {
        self.fetch_overview(haul);
        let row: (Vec<u8>, String) = self
            .db
            .query_row("SELECT bytes, conclusions FROM overviews WHERE haul = ?1", [haul], |r| {
                Ok((r.get(0)?, r.get(1)?))
            })
            .optional()
            .ok()??;
        let events =
            bytes::decode(&row.0, |json| serde_json::from_slice(json).map_err(|e| e.to_string())).ok()?;
        let mut readings = Readings::new();
        events.iter().for_each(|e| readings.push(e));
        Some((readings, serde_json::from_str(&row.1).ok()?))
    }
}
