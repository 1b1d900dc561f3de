//! What people say of a haul after it: a name, tags, a note; and hauls taken out of the list, which can be had back.
//!
//! The record itself is never changed.

use std::time::{SystemTime, UNIX_EPOCH};

use rusqlite::params;

use crate::{Ledger, LedgerError};

/// How long a deleted haul can be had back, ms: thirty days.
const KEPT_MS: i64 = 30 * 86_400_000;

fn now_unix_ms() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

/// Which deleted hauls are removed for good.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Purge {
    /// Those whose thirty days are over.
    Old,
    /// All.
    All,
}

// What is said later stands, in a fleet too. Clocks of benches may be years off: what is said after something was known is later than that,
// whatever the clock says.
impl Ledger {
    fn set(&self, column: &str, haul: &str, value: Option<&str>) -> Result<(), LedgerError> {
        let sql = format!(
            "UPDATE hauls SET {column} = ?2, edited_unix_ms = MAX(?3, COALESCE(edited_unix_ms, 0) + 1) WHERE haul = ?1"
        );
        match self.db.execute(&sql, params![haul, value, now_unix_ms()])? {
            0 => Err(LedgerError::NoSuchHaul(haul.to_owned())),
            _ => Ok(()),
        }
    }

    /// Gives a haul another name; none takes it away.
    ///
    /// # Errors
    /// When there is no such haul, or the ledger cannot be written.
    pub fn rename(&self, haul: &str, label: Option<&str>) -> Result<(), LedgerError> {
        self.set("label", haul, label)
    }

    /// Writes a note on a haul; none takes it away.
    ///
    /// # Errors
    /// When there is no such haul, or the ledger cannot be written.
    pub fn note(&self, haul: &str, note: Option<&str>) -> Result<(), LedgerError> {
        self.set("note", haul, note)
    }

    /// Gives a haul these tags in place of those it has.
    ///
    /// # Errors
    /// When there is no such haul, or the ledger cannot be written.
    pub fn tag(&self, haul: &str, tags: &[(String, String)]) -> Result<(), LedgerError> {
        self.set("tags", haul, Some(&serde_json::to_string(tags).unwrap_or_default()))
    }

    /// Takes hauls out of the list. They can be had back for thirty days.
    ///
    /// # Errors
    /// When one is under way (none is taken out then), or the ledger cannot be written.
    pub fn delete(&self, hauls: &[String]) -> Result<(), LedgerError> {
        let tx = self.db.unchecked_transaction()?;
        let now = now_unix_ms();
        for haul in hauls {
            let changed = tx.execute(
                "UPDATE hauls SET deleted_unix_ms = ?2, edited_unix_ms = MAX(?2, COALESCE(edited_unix_ms, 0) + 1)
                 WHERE haul = ?1 AND state <> 'running'",
                params![haul, now],
            )?;
            if changed == 0 {
                return Err(LedgerError::UnderWay(haul.clone()));
            }
        }
        Ok(tx.commit()?)
    }

    /// Puts hauls back that were taken out.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn restore(&self, hauls: &[String]) -> Result<(), LedgerError> {
        let tx = self.db.unchecked_transaction()?;
        for haul in hauls {
            tx.execute(
                "UPDATE hauls SET deleted_unix_ms = NULL, edited_unix_ms = MAX(?2, COALESCE(edited_unix_ms, 0) + 1) WHERE haul = ?1",
                params![haul, now_unix_ms()],
            )?;
        }
        Ok(tx.commit()?)
    }

    /// Removes deleted hauls for good, with their records: those whose thirty days are over, or all. How many.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn purge(&self, which: Purge) -> Result<usize, LedgerError> {
        let before = match which {
            Purge::Old => now_unix_ms() - KEPT_MS,
            Purge::All => i64::MAX,
        };
        Ok(self.db.execute("DELETE FROM hauls WHERE deleted_unix_ms < ?1", [before])?)
    }

    /// Pages of the file contradict each other. Reads all of it.
    ///
    /// # Errors
    /// When the file cannot be asked at all.
    pub fn damage(&self) -> Result<bool, LedgerError> {
        let told: rusqlite::Result<String> = self.db.query_row("PRAGMA quick_check(1)", [], |r| r.get(0));
        match told.map_err(LedgerError::from) {
            Ok(words) => Ok(words != "ok"),
            Err(LedgerError::Damaged(_)) => Ok(true),
            Err(e) => Err(e),
        }
    }
}
