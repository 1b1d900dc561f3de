//! Health readings over time: the first and the newest of every haul, kept beside the record so that a drive's history
//! is read without its samples.

use hollow_mile_core::drive::Vitals;
use hollow_mile_core::record::Event;
use hollow_mile_core::record::bytes;
use rusqlite::{Connection, Transaction, params};

use crate::{Ledger, LedgerError, record_error};

/// The table, new in version 2.
pub(crate) const TABLE: &str = "
CREATE TABLE vitals (
    haul TEXT NOT NULL REFERENCES hauls (haul) ON DELETE CASCADE,
    newest INTEGER NOT NULL,
    vitals TEXT NOT NULL,
    PRIMARY KEY (haul, newest)
) WITHOUT ROWID;
";

/// What a haul did to a drive's health.
#[derive(Debug, Clone, PartialEq)]
pub struct Wear {
    /// The haul.
    pub haul: String,
    /// Its route.
    pub route: String,
    /// When it began, milliseconds since 1970-01-01 UTC.
    pub started_unix_ms: i64,
    /// Its first reading.
    pub before: Vitals,
    /// Its newest reading.
    pub after: Vitals,
}

/// Keeps a reading: the first of a haul for good, the newest in place of the one before.
pub(crate) fn keep(db: &Connection, haul: &str, newest: bool, vitals: &Vitals) -> Result<(), LedgerError> {
    let json = serde_json::to_string(vitals).map_err(|e| record_error(haul, -1, &e))?;
    db.prepare_cached("INSERT OR REPLACE INTO vitals (haul, newest, vitals) VALUES (?1, ?2, ?3)")?
        .execute(params![haul, newest, json])?;
    Ok(())
}

/// Fills the table of a ledger that had none from the first and the last batches of each haul.
pub(crate) fn fill(tx: &Transaction<'_>) -> Result<(), LedgerError> {
    let hauls: Vec<String> =
        tx.prepare("SELECT haul FROM hauls")?.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?;
    for haul in hauls {
        for (newest, order) in [(false, "ASC"), (true, "DESC")] {
            let sql = format!("SELECT bytes FROM batches WHERE haul = ?1 ORDER BY seq {order} LIMIT 200");
            let mut statement = tx.prepare(&sql)?;
            let mut rows = statement.query([&haul])?;
            while let Some(row) = rows.next()? {
                let bytes: Vec<u8> = row.get(0)?;
                // A batch that cannot be read has no reading to give; the record itself stays as it is.
                let events =
                    bytes::decode(&bytes, |json| serde_json::from_slice(json).map_err(|e| e.to_string()))
                        .unwrap_or_default();
                let mut found = events.iter().filter_map(|e| match e {
                    Event::Vitals { vitals, .. } => Some(vitals),
                    _ => None,
                });
                if let Some(vitals) = if newest { found.next_back() } else { found.next() } {
                    keep(tx, &haul, newest, vitals)?;
                    break;
                }
            }
        }
    }
    Ok(())
}

impl Ledger {
    /// The health of the drive with this serial over all its hauls, newest first.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn wear(&self, serial: &str) -> Result<Vec<Wear>, LedgerError> {
        let mut statement = self.db.prepare_cached(
            "SELECT h.haul, h.route, h.started_unix_ms, a.vitals, b.vitals FROM hauls h
             JOIN vitals a ON a.haul = h.haul AND a.newest = 0
             JOIN vitals b ON b.haul = h.haul AND b.newest = 1
             WHERE h.serial = ?1 ORDER BY h.started_unix_ms DESC",
        )?;
        let rows = statement.query_map([serial], |r| {
            let vitals = |i| r.get::<_, String>(i).map(|t| serde_json::from_str(&t).unwrap_or_default());
            Ok(Wear {
                haul: r.get(0)?,
                route: r.get(1)?,
                started_unix_ms: r.get(2)?,
                before: vitals(3)?,
                after: vitals(4)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }
}
