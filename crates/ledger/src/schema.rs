//! Tables of the ledger, and how an older file becomes a newer one.

use std::path::Path;

use rusqlite::Connection;

use crate::{LedgerError, overview, wear};

/// Written into the file as `user_version`.
pub const VERSION: i32 = 3;

const TABLES: &str = "
CREATE TABLE hauls (
    haul TEXT PRIMARY KEY,
    drive TEXT NOT NULL,
    model TEXT NOT NULL,
    serial TEXT NOT NULL,
    route TEXT NOT NULL,
    state TEXT NOT NULL,
    reason TEXT,
    started_unix_ms INTEGER NOT NULL,
    elapsed_ns INTEGER NOT NULL DEFAULT 0,
    written_bytes INTEGER NOT NULL DEFAULT 0,
    read_bytes INTEGER NOT NULL DEFAULT 0,
    samples INTEGER NOT NULL DEFAULT 0,
    label TEXT,
    head TEXT NOT NULL,
    summary TEXT,
    findings TEXT
);
CREATE INDEX hauls_by_start ON hauls (started_unix_ms);
CREATE INDEX hauls_by_drive ON hauls (serial);
CREATE TABLE batches (
    haul TEXT NOT NULL REFERENCES hauls (haul) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    bytes BLOB NOT NULL,
    PRIMARY KEY (haul, seq)
) WITHOUT ROWID;
CREATE TABLE leftovers (
    path TEXT PRIMARY KEY,
    device INTEGER NOT NULL,
    inode INTEGER NOT NULL,
    haul TEXT NOT NULL
);
";

/// Brings a file to this version.
///
/// # Errors
/// When it was written by a newer program, or cannot be written.
pub fn prepare(db: &mut Connection, home: &Path) -> Result<(), LedgerError> {
    let version: i32 = db.pragma_query_value(None, "user_version", |r| r.get(0))?;
    match version {
        VERSION => Ok(()),
        0 => {
            // Two programs may come here at once; the one that waits finds the tables made.
            let tx = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let version: i32 = tx.pragma_query_value(None, "user_version", |r| r.get(0))?;
            if version == 0 {
                tx.execute_batch(TABLES)?;
                tx.execute_batch(wear::TABLE)?;
                tx.execute_batch(overview::TABLE)?;
                tx.pragma_update(None, "user_version", VERSION)?;
            }
            tx.commit()?;
            Ok(())
        }
        1 | 2 => {
            // A copy of the file as it was; one that is there already is as good.
            let copy = home.join(format!("ledger-version-{version}.sqlite"));
            if !copy.exists() {
                db.execute("VACUUM INTO ?1", [copy.to_string_lossy()])?;
            }
            let tx = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let version: i32 = tx.pragma_query_value(None, "user_version", |r| r.get(0))?;
            if version == 1 {
                tx.execute_batch(wear::TABLE)?;
                wear::fill(&tx)?;
            }
            if version < VERSION {
                tx.execute_batch(overview::TABLE)?;
                tx.pragma_update(None, "user_version", VERSION)?;
            }
            tx.commit()?;
            Ok(())
        }
        found => Err(LedgerError::Newer { found, known: VERSION }),
    }
}
