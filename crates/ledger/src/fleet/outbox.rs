//! What a bench has not sent yet. The ledger notes it itself, in the transaction that changes a haul, so that nothing is forgotten
//! whichever program wrote it.

use rusqlite::params;

use super::FleetError;
use crate::Ledger;

/// New in version 6 of the ledger.
///
/// `outbox`: a haul that has something new; `turn` counts on, so that what changes while it is sent is sent again. `sent`: how many of
/// its batches the server has, and whether the whole record is there.
pub(crate) const TABLES: &str = "
CREATE TABLE outbox (
    haul TEXT PRIMARY KEY REFERENCES hauls (haul) ON DELETE CASCADE,
    turn INTEGER NOT NULL
) WITHOUT ROWID;
CREATE TABLE sent (
    haul TEXT PRIMARY KEY REFERENCES hauls (haul) ON DELETE CASCADE,
    batches INTEGER NOT NULL,
    whole INTEGER NOT NULL DEFAULT 0,
    kept_samples INTEGER
) WITHOUT ROWID;
ALTER TABLE hauls ADD COLUMN edited_unix_ms INTEGER;
INSERT INTO outbox (haul, turn) SELECT haul, 1 FROM hauls;
CREATE TRIGGER outbox_new AFTER INSERT ON hauls BEGIN
    INSERT INTO outbox (haul, turn) VALUES (NEW.haul, 1) ON CONFLICT (haul) DO UPDATE SET turn = turn + 1;
END;
CREATE TRIGGER outbox_changed AFTER UPDATE ON hauls BEGIN
    INSERT INTO outbox (haul, turn) VALUES (NEW.haul, 1) ON CONFLICT (haul) DO UPDATE SET turn = turn + 1;
END;
CREATE TRIGGER outbox_overview AFTER INSERT ON overviews BEGIN
    INSERT INTO outbox (haul, turn) VALUES (NEW.haul, 1) ON CONFLICT (haul) DO UPDATE SET turn = turn + 1;
END;
";

/// A haul with something to send.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiting {
    /// Which.
    pub haul: String,
    /// The outbox's turn when it was looked at.
    pub turn: i64,
    /// Batches that the server has.
    pub sent: i64,
    /// The server has the whole record.
    pub whole: bool,
    /// It was compacted, and the server does not have that.
    pub compacted_since: bool,
    /// It is under way.
    pub running: bool,
}

/// A batch.
pub struct Batch {
    /// Number within its haul.
    pub seq: i64,
    /// As it was committed.
    pub bytes: Vec<u8>,
}

impl Ledger {
    /// Hauls with something to send, what is under way first, then the oldest.
    pub(super) fn waiting(&self, most: usize) -> Result<Vec<Waiting>, FleetError> {
        let mut statement = self.db.prepare_cached(
            "SELECT o.haul, o.turn, COALESCE(s.batches, 0), COALESCE(s.whole, 0), h.state = 'running',
                    h.kept_samples IS NOT s.kept_samples
             FROM outbox o JOIN hauls h ON h.haul = o.haul LEFT JOIN sent s ON s.haul = o.haul
             ORDER BY h.state <> 'running', h.started_unix_ms LIMIT ?1",
        )?;
        let rows = statement.query_map([most as i64], |r| {
            Ok(Waiting {
                haul: r.get(0)?,
                turn: r.get(1)?,
                sent: r.get(2)?,
                whole: r.get(3)?,
                running: r.get(4)?,
                compacted_since: r.get(5)?,
            })
        })?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// How many hauls have something to send.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn unsent(&self) -> Result<u64, crate::LedgerError> {
        let n: i64 = self.db.query_row("SELECT COUNT(*) FROM outbox", [], |r| r.get(0))?;
        Ok(n.unsigned_abs())
    }

    /// Batches of a haul from this number on, so many bytes of them or one; and whether these are all.
    pub(super) fn batches_from(
        &self,
        haul: &str,
        seq: i64,
        most_bytes: usize,
    ) -> Result<(Vec<Batch>, bool), FleetError> {
        let mut statement = self
            .db
            .prepare_cached("SELECT seq, bytes FROM batches WHERE haul = ?1 AND seq >= ?2 ORDER BY seq")?;
        let mut rows = statement.query(params![haul, seq])?;
        let (mut all, mut bytes) = (Vec::<Batch>::new(), 0);
        while let Some(r) = rows.next()? {
            let batch = Batch { seq: r.get(0)?, bytes: r.get(1)? };
            if !all.is_empty() && bytes + batch.bytes.len() > most_bytes {
                return Ok((all, false));
            }
            bytes += batch.bytes.len();
            all.push(batch);
        }
        Ok((all, true))
    }

    /// Notes what the server has now. Of what changed since it was looked at, the outbox keeps the haul.
    pub(super) fn was_sent(&self, haul: &Waiting, batches: i64, all: bool) -> Result<(), FleetError> {
        let tx = self.db.unchecked_transaction()?;
        tx.prepare_cached(
            "INSERT INTO sent (haul, batches, whole, kept_samples)
             VALUES (?1, ?2, ?3, (SELECT kept_samples FROM hauls WHERE haul = ?1))
             ON CONFLICT (haul) DO UPDATE SET batches = ?2, whole = ?3, kept_samples = excluded.kept_samples",
        )?
        .execute(params![haul.haul, batches, haul.whole || (all && !haul.running)])?;
        if all {
            tx.prepare_cached("DELETE FROM outbox WHERE haul = ?1 AND turn = ?2")?
                .execute(params![haul.haul, haul.turn])?;
        }
        Ok(tx.commit()?)
    }

    /// The server has lost what it had of a haul: all of it is to be sent.
    pub(super) fn send_anew(&self, haul: &str) -> Result<(), FleetError> {
        self.db.execute("DELETE FROM sent WHERE haul = ?1", [haul])?;
        Ok(())
    }

    /// The bench joins another fleet, or joins again: all is to be sent.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn send_all_anew(&self) -> Result<(), crate::LedgerError> {
        let tx = self.db.unchecked_transaction()?;
        tx.execute("DELETE FROM sent", [])?;
        tx.execute("INSERT OR IGNORE INTO outbox (haul, turn) SELECT haul, 1 FROM hauls", [])?;
        Ok(tx.commit()?)
    }
}
