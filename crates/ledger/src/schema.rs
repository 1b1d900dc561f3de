//! Tables of the ledger, and how an older file becomes a newer one.

use std::fs::OpenOptions;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use rusqlite::Connection;

use crate::{LedgerError, fleet, overview, wear};

/// Written into the file as `user_version`.
pub const VERSION: i32 = 6;

/// New in version 4: what lists show of a haul's conditions, what people say of it afterwards, its digest.
const COLUMNS_4: [&str; 7] = [
    "conditions TEXT",
    "tags TEXT",
    "note TEXT",
    "deleted_unix_ms INTEGER",
    "digest TEXT",
    "limits TEXT",
    "kept_samples INTEGER",
];

fn add_columns(db: &Connection) -> Result<(), LedgerError> {
    for column in COLUMNS_4 {
        db.execute(&format!("ALTER TABLE hauls ADD COLUMN {column}"), [])?;
    }
    // Which version of the program made an overview; none for those before version 4.
    db.execute("ALTER TABLE overviews ADD COLUMN program TEXT", [])?;
    // Asked once a second by whoever looks at the yard.
    db.execute("CREATE INDEX IF NOT EXISTS hauls_under_way ON hauls (state) WHERE state = 'running'", [])?;
    Ok(())
}

fn to_version_4(db: &Connection) -> Result<(), LedgerError> {
    add_columns(db)?;
    db.execute_batch("ALTER TABLE batches RENAME TO batches_3")?;
    db.execute_batch(BATCHES)?;
    db.execute_batch(
        "INSERT INTO batches (haul, seq, bytes) SELECT haul, seq, bytes FROM batches_3 ORDER BY haul, seq;
         DROP TABLE batches_3;",
    )?;
    // A head that is no JSON keeps its haul in the list, without conditions.
    db.execute(
        "UPDATE hauls SET conditions = json_remove(json_extract(head, '$.conditions'), '$.earlier'),
                          tags = json_extract(head, '$.conditions.tags') WHERE json_valid(head)",
        [],
    )?;
    Ok(())
}

/// A table of its own key: up to version 3 the batches lay in the index, where finding one reads others on its way, and a
/// damaged one hides its neighbours.
const BATCHES: &str = "
CREATE TABLE batches (
    id INTEGER PRIMARY KEY,
    haul TEXT NOT NULL REFERENCES hauls (haul) ON DELETE CASCADE,
    seq INTEGER NOT NULL,
    bytes BLOB NOT NULL,
    UNIQUE (haul, seq)
);
";

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
CREATE TABLE leftovers (
    path TEXT PRIMARY KEY,
    device INTEGER NOT NULL,
    inode INTEGER NOT NULL,
    haul TEXT NOT NULL
);
";

/// New in version 5: what a file that was left behind is known again by, beside numbers that file systems use again.
fn to_version_5(db: &Connection) -> Result<(), LedgerError> {
    db.execute("ALTER TABLE leftovers ADD COLUMN mark TEXT", [])?;
    db.execute("ALTER TABLE leftovers ADD COLUMN born_ns INTEGER", [])?;
    Ok(())
}

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
                tx.execute_batch(BATCHES)?;
                tx.execute_batch(wear::TABLE)?;
                tx.execute_batch(overview::TABLE)?;
                add_columns(&tx)?;
                to_version_5(&tx)?;
                tx.execute_batch(fleet::OUTBOX)?;
                tx.pragma_update(None, "user_version", VERSION)?;
            }
            tx.commit()?;
            Ok(())
        }
        1..VERSION => {
            // A copy of the file as it was; one that is there already is as good.
            let copy = home.join(format!("ledger-version-{version}.sqlite"));
            if !copy.exists() {
                // An empty file may be written into, and this one is its user's alone.
                let made = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&copy);
                made.map_err(|e| LedgerError::NotWritable {
                    home: home.display().to_string(),
                    why: e.to_string(),
                })?;
                db.execute("VACUUM INTO ?1", [copy.to_string_lossy()])?;
            }
            let tx = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
            let version: i32 = tx.pragma_query_value(None, "user_version", |r| r.get(0))?;
            if version == 1 {
                tx.execute_batch(wear::TABLE)?;
                wear::fill(&tx)?;
            }
            if version < 3 {
                tx.execute_batch(overview::TABLE)?;
            }
            if version < 4 {
                to_version_4(&tx)?;
            }
            if version < 5 {
                to_version_5(&tx)?;
            }
            if version < VERSION {
                tx.execute_batch(fleet::OUTBOX)?;
                tx.pragma_update(None, "user_version", VERSION)?;
            }
            tx.commit()?;
            Ok(())
        }
        found => Err(LedgerError::Newer { found, known: VERSION }),
    }
}
