//! Hauls as lists show them, and how one is found by its name.

use hollow_mile_core::quantity::text::named;
use std::time::Duration;

use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::{Conditions, HaulHead, HaulState};
use rusqlite::{OptionalExtension, Row};

use crate::{Ledger, LedgerError, record_error};

/// A haul as the list shows it.
#[derive(Debug, Clone, PartialEq)]
pub struct HaulRow {
    /// Identifier.
    pub haul: String,
    /// The drive, as the user named it.
    pub drive: String,
    /// Model of the drive.
    pub model: String,
    /// Serial of the drive.
    pub serial: String,
    /// Name of the route.
    pub route: String,
    /// How it stands.
    pub state: HaulState,
    /// Wall-clock start, milliseconds since 1970-01-01 UTC.
    pub started_unix_ms: i64,
    /// How long it took so far.
    pub elapsed: Duration,
    /// Bytes written.
    pub written: Bytes,
    /// Bytes read.
    pub read: Bytes,
    /// Number of samples.
    pub samples: u64,
    /// The user's name for it.
    pub label: Option<String>,
    /// What was found, in a few words; empty while it runs.
    pub summary: String,
    /// Under which conditions it ran; the label and the tags are as they are now.
    pub conditions: Conditions,
    /// The user's note on it.
    pub note: Option<String>,
    /// How the limits of its route stand, in a few words; empty without limits.
    pub limits: String,
    /// Samples that are left since it was compacted; none when it was not.
    pub kept_samples: Option<u64>,
}

const COLUMNS: &str = "haul, drive, model, serial, route, state, started_unix_ms, elapsed_ns, written_bytes, \
                       read_bytes, samples, label, summary, conditions, tags, note, limits, kept_samples";

fn row(r: &Row<'_>) -> rusqlite::Result<HaulRow> {
    let count = |i: usize| r.get::<_, i64>(i).map(i64::unsigned_abs);
    // What another version wrote there and this one cannot read is shown as not stated.
    let json = |i: usize| r.get::<_, Option<String>>(i).map(Option::unwrap_or_default);
    let label: Option<String> = r.get(11)?;
    let stated: Conditions = serde_json::from_str(&json(13)?).unwrap_or_default();
    let tags = serde_json::from_str(&json(14)?).unwrap_or_default();
    Ok(HaulRow {
        haul: r.get(0)?,
        drive: r.get(1)?,
        model: r.get(2)?,
        serial: r.get(3)?,
        route: r.get(4)?,
        state: HaulState::from_word(&r.get::<_, String>(5)?).unwrap_or(HaulState::Failed),
        started_unix_ms: r.get(6)?,
        elapsed: Duration::from_nanos(count(7)?),
        written: Bytes::new(count(8)?),
        read: Bytes::new(count(9)?),
        samples: count(10)?,
        summary: r.get::<_, Option<String>>(12)?.unwrap_or_default(),
        conditions: Conditions { label: label.clone(), tags, ..stated },
        label,
        note: r.get(15)?,
        limits: r.get::<_, Option<String>>(16)?.unwrap_or_default(),
        kept_samples: r.get::<_, Option<i64>>(17)?.map(i64::unsigned_abs),
    })
}

impl Ledger {
    fn rows(&self, filter: &str, args: impl rusqlite::Params) -> Result<Vec<HaulRow>, LedgerError> {
        let sql = format!("SELECT {COLUMNS} FROM hauls WHERE {filter}");
        let mut statement = self.db.prepare_cached(&sql)?;
        let rows = statement.query_map(args, row)?.collect::<Result<Vec<_>, _>>()?;
        Ok(rows)
    }

    /// All hauls but those that were deleted, newest first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn hauls(&self) -> Result<Vec<HaulRow>, LedgerError> {
        self.rows("deleted_unix_ms IS NULL ORDER BY started_unix_ms DESC, haul", [])
    }

    /// So many of them.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn newest(&self, most: usize) -> Result<Vec<HaulRow>, LedgerError> {
        self.rows("deleted_unix_ms IS NULL ORDER BY started_unix_ms DESC, haul LIMIT ?1", [most as i64])
    }

    /// Hauls under way, newest first. Those whose program was killed are marked as cut short first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn under_way(&self) -> Result<Vec<HaulRow>, LedgerError> {
        self.mark_cut_short()?;
        self.rows("state = 'running' AND deleted_unix_ms IS NULL ORDER BY started_unix_ms DESC, haul", [])
    }

    /// Another number whenever somebody else has written into the file.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn changes(&self) -> Result<i64, LedgerError> {
        Ok(self.db.pragma_query_value(None, "data_version", |r| r.get(0))?)
    }

    /// Hauls that were deleted and can be had back, the last deleted first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn deleted(&self) -> Result<Vec<HaulRow>, LedgerError> {
        self.rows("deleted_unix_ms IS NOT NULL ORDER BY deleted_unix_ms DESC, haul", [])
    }

    /// One haul: by its identifier, a unique beginning of it, or `last`. A deleted one is found by its whole identifier alone.
    ///
    /// # Errors
    /// When there is none, or more than one begins so.
    pub fn haul(&self, given: &str) -> Result<HaulRow, LedgerError> {
        let mut found = if given == "last" {
            self.rows("deleted_unix_ms IS NULL ORDER BY started_unix_ms DESC, rowid DESC LIMIT 1", [])?
        } else {
            self.rows(
                "haul >= lower(?1) AND haul < lower(?1) || char(1114111) AND substr(haul, 1, length(?1)) = lower(?1) AND ?1 <> '' AND (deleted_unix_ms IS NULL OR haul = lower(?1))
                 ORDER BY started_unix_ms DESC, rowid DESC LIMIT 50",
                [given],
            )?
        };
        match found.len() {
            1 => Ok(found.remove(0)),
            0 => Err(LedgerError::NoSuchHaul(named(given))),
            count => Err(LedgerError::Ambiguous { given: given.to_owned(), count }),
        }
    }

    /// The head of a haul's record.
    ///
    /// # Errors
    /// When there is no such haul, or its head cannot be read.
    pub fn head(&self, haul: &str) -> Result<HaulHead, LedgerError> {
        let text: Option<String> =
            self.db.query_row("SELECT head FROM hauls WHERE haul = ?1", [haul], |r| r.get(0)).optional()?;
        let text = text.ok_or_else(|| LedgerError::NoSuchHaul(haul.to_owned()))?;
        serde_json::from_str(&text).map_err(|e| record_error(haul, 0, &e))
    }
}
