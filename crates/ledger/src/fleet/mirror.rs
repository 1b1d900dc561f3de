//! A ledger of everything on the server: what lists show and figures are taken from is kept here; records come when they are asked for.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use postgres::Row;
use rusqlite::{OptionalExtension, params};

use super::{Address, FleetError, Membership, connected};
use crate::{Ledger, LedgerError};

/// Records of other benches are kept up to so many bytes; what was opened longest ago goes first.
const MOST_BYTES: i64 = 2_000_000_000;
/// Rows of one answer.
const PAGE: i64 = 2000;
/// Transactions that ended late are asked for again, s.
const LATE_S: f64 = 30.0;

/// Beside the tables of every ledger: which haul of which bench each is.
pub(crate) const TABLES: &str = "
CREATE TABLE IF NOT EXISTS mirrored (
    haul TEXT PRIMARY KEY REFERENCES hauls (haul) ON DELETE CASCADE,
    bench INTEGER NOT NULL,
    remote TEXT NOT NULL,
    opened_unix_ms INTEGER,
    edited_unix_ms INTEGER NOT NULL DEFAULT 0,
    bytes INTEGER NOT NULL DEFAULT 0
) WITHOUT ROWID;
DROP TRIGGER IF EXISTS outbox_new;
DROP TRIGGER IF EXISTS outbox_changed;
DROP TRIGGER IF EXISTS outbox_overview;
CREATE TABLE IF NOT EXISTS mirror (changed_s REAL NOT NULL, benches TEXT NOT NULL);
";

/// What a list shows of a haul, in the order in which [`put`] takes it.
const COLUMNS: &str = "bench, haul, EXTRACT(EPOCH FROM changed_at)::FLOAT8, drive, model, serial, route, state, reason, started_unix_ms, \
                       elapsed_ns, written_bytes, read_bytes, samples, head, summary, findings, conditions, digest, limits, \
                       kept_samples, label, tags, note, deleted_unix_ms, edited_unix_ms";

/// What came from the server.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Pulled {
    /// Hauls that are new or changed.
    pub hauls: usize,
    /// Hauls of which something was said here that the server does not take from this user, or that was said later elsewhere.
    pub not_taken: usize,
}

/// Where the records of a mirror come from.
#[derive(Debug)]
pub(crate) struct Remote {
    address: Address,
}

/// The mirror of a fleet beside a bench's own ledger.
pub struct Mirror {
    address: Address,
    ledger: Ledger,
}

/// The folder of the mirror.
fn folder(home: &Path) -> PathBuf {
    home.join("fleet")
}

fn bench_name(number: i32, names: &[(i32, String)]) -> String {
    names.iter().find(|n| n.0 == number).map_or_else(|| number.to_string(), |n| n.1.clone())
}

impl Mirror {
    /// The bench in this folder has followed a fleet before.
    #[must_use]
    pub fn is_here(home: &Path) -> bool {
        folder(home).join("fleet-server").is_file()
    }

    /// Opens the mirror of the fleet that the bench in this folder is in.
    ///
    /// # Errors
    /// When it is in none, or the folder cannot be written.
    pub fn open(home: &Path) -> Result<Self, FleetError> {
        let membership = Membership::read(home)?.ok_or(FleetError::NotJoined)?;
        let address = membership.address()?;
        let folder = folder(home);
        let mut ledger = Ledger::open(&folder)?;
        // Another fleet's hauls are none of this one's.
        let mark = folder.join("fleet-server");
        if std::fs::read_to_string(&mark).is_ok_and(|s| s != address.server()) {
            ledger.db.execute_batch("DELETE FROM hauls; DELETE FROM mirror")?;
        }
        std::fs::write(&mark, address.server())
            .map_err(|e| FleetError::File { path: mark.display().to_string(), why: e.to_string() })?;
        ledger.db.execute_batch(TABLES)?;
        ledger.remote = Some(Arc::new(Remote { address: address.clone() }));
        Ok(Self { address, ledger })
    }

    /// Brings the list up to date with the server.
    ///
    /// # Errors
    /// When the server cannot be asked; what is here stays.
    pub fn pull(&mut self) -> Result<Pulled, FleetError> {
        let mut client = connected(&self.address)?;
        let said = |e: postgres::Error| FleetError::of(&e, &self.address);
        let names: Vec<(i32, String)> = client
            .query("SELECT number, name FROM hollow_mile.bench", &[])
            .map_err(said)?
            .iter()
            .map(|r| (r.get(0), r.get(1)))
            .collect();
        let not_taken = self.push_edits(&mut client, &names)?;
        let known: f64 = self
            .ledger
            .db
            .query_row("SELECT changed_s FROM mirror", [], |r| r.get(0))
            .optional()?
            .unwrap_or(0.0);
        let mut pulled = Pulled { hauls: 0, not_taken };
        let (mut from, mut last) = ((known - LATE_S).max(0.0), (0_i32, String::new()));
        loop {
            let rows = client
                .query(
                    &format!(
                        "SELECT {COLUMNS} FROM hollow_mile.haul
                         WHERE changed_at > to_timestamp($1) OR (changed_at = to_timestamp($1) AND (bench, haul) > ($2, $3))
                         ORDER BY changed_at, bench, haul LIMIT $4"
                    ),
                    &[&from, &last.0, &last.1, &PAGE],
                )
                .map_err(said)?;
            let tx = self.ledger.db.unchecked_transaction()?;
            for row in &rows {
                put(&tx, row, &names)?;
            }
            if let Some(newest) = rows.last() {
                (from, last) = (newest.get(2), (newest.get(0), newest.get(1)));
                tx.execute("DELETE FROM mirror", [])?;
                let names = serde_json::to_string(&names).unwrap_or_default();
                tx.execute(
                    "INSERT INTO mirror (changed_s, benches) VALUES (?1, ?2)",
                    params![from.max(known), names],
                )?;
            }
            tx.commit()?;
            pulled.hauls += rows.len();
            if (rows.len() as i64) < PAGE {
                break;
            }
        }
        self.vitals(&mut client)?;
        Ok(pulled)
    }

    /// What was said here of hauls of other benches goes to the server, where nothing later was said.
    /// How many of them are not taken: those are here as they are there again.
    fn push_edits(
        &self,
        client: &mut postgres::Client,
        names: &[(i32, String)],
    ) -> Result<usize, FleetError> {
        let mut not_taken = 0;
        type Edited = (String, i32, String, Option<String>, Option<String>, Option<String>, Option<i64>, i64);
        let edited: Vec<Edited> = self
            .ledger
            .db
            .prepare_cached(
                "SELECT m.haul, m.bench, m.remote, h.label, h.tags, h.note, h.deleted_unix_ms, h.edited_unix_ms
                 FROM mirrored m JOIN hauls h ON h.haul = m.haul WHERE h.edited_unix_ms > m.edited_unix_ms",
            )?
            .query_map([], |r| {
                Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?, r.get(6)?, r.get(7)?))
            })?
            .collect::<Result<_, _>>()?;
        for (local, bench, remote, label, tags, note, deleted, edited) in edited {
            let mut own: Vec<(String, String)> =
                tags.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
            own.retain(|t| t.0 != "bench");
            let tags = serde_json::to_string(&own).unwrap_or_default();
            let said = |e: postgres::Error| FleetError::of(&e, &self.address);
            let told = client.execute(
                "UPDATE hollow_mile.haul SET label = $3, tags = $4, note = $5, deleted_unix_ms = $6, edited_unix_ms = $7,
                        changed_at = CLOCK_TIMESTAMP()
                 WHERE bench = $1 AND haul = $2 AND edited_unix_ms < $7",
                &[&bench, &remote, &label, &tags, &note, &deleted, &edited],
            );
            let taken = match told {
                Ok(n) => n > 0,
                // A reader may not.
                Err(e) if e.as_db_error().is_some_and(|d| d.code().code() == "42501") => false,
                Err(e) => return Err(said(e)),
            };
            self.ledger
                .db
                .execute("UPDATE mirrored SET edited_unix_ms = ?2 WHERE haul = ?1", params![local, edited])?;
            if !taken {
                not_taken += 1;
                let sql = format!("SELECT {COLUMNS} FROM hollow_mile.haul WHERE bench = $1 AND haul = $2");
                let row = client.query_opt(&sql, &[&bench, &remote]).map_err(said)?;
                let tx = self.ledger.db.unchecked_transaction()?;
                row.map_or(Ok(()), |row| put(&tx, &row, names))?;
                tx.commit()?;
            }
        }
        Ok(not_taken)
    }

    /// Health readings of hauls that are over and have none here.
    fn vitals(&self, client: &mut postgres::Client) -> Result<(), FleetError> {
        let lacking: Vec<(String, i32, String)> = self
            .ledger
            .db
            .prepare_cached(
                "SELECT m.haul, m.bench, m.remote FROM mirrored m JOIN hauls h ON h.haul = m.haul
                 WHERE m.bytes = 0 AND h.state <> 'running' AND NOT EXISTS (SELECT 1 FROM vitals v WHERE v.haul = m.haul)
                 LIMIT 100000",
            )?
            .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))?
            .collect::<Result<_, _>>()?;
        for some in lacking.chunks(500) {
            let benches: Vec<i32> = some.iter().map(|l| l.1).collect();
            let hauls: Vec<&str> = some.iter().map(|l| l.2.as_str()).collect();
            let rows = client
                .query(
                    "SELECT v.bench, v.haul, v.newest, v.vitals FROM hollow_mile.vitals v
                     JOIN unnest($1::INTEGER[], $2::TEXT[]) AS w (bench, haul) ON v.bench = w.bench AND v.haul = w.haul",
                    &[&benches, &hauls],
                )
                .map_err(|e| FleetError::of(&e, &self.address))?;
            let tx = self.ledger.db.unchecked_transaction()?;
            for r in &rows {
                let (bench, remote): (i32, String) = (r.get(0), r.get(1));
                tx.prepare_cached(
                    "INSERT OR REPLACE INTO vitals (haul, newest, vitals) VALUES (?1, ?2, ?3)",
                )?
                .execute(params![
                    local_name(bench, &remote),
                    r.get::<_, bool>(2),
                    r.get::<_, String>(3)
                ])?;
            }
            tx.commit()?;
        }
        Ok(())
    }

    /// The ledger of the whole fleet. Records come from the server when they are read.
    #[must_use]
    pub fn into_ledger(self) -> Ledger {
        self.ledger
    }
}

/// How a haul of a bench is called here: its own name with the bench's number behind it, since two benches may have drawn the same.
fn local_name(bench: i32, haul: &str) -> String {
    format!("{haul}{bench:04x}")
}

/// Writes a haul of the server into the mirror.
fn put(tx: &rusqlite::Transaction<'_>, r: &Row, names: &[(i32, String)]) -> Result<(), FleetError> {
    let text = |i: usize| r.get::<_, Option<String>>(i);
    let number = |i: usize| r.get::<_, Option<i64>>(i);
    let (bench, remote): (i32, String) = (r.get(0), r.get(1));
    // The bench is a tag like others: what is grouped, filtered and compared by tags is by benches, too.
    let mut tags: Vec<(String, String)> =
        text(22).and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default();
    tags.retain(|t| t.0 != "bench");
    tags.push(("bench".into(), bench_name(bench, names)));
    let tags = serde_json::to_string(&tags).unwrap_or_default();
    let local = local_name(bench, &remote);
    tx.prepare_cached(
        "INSERT INTO hauls (haul, drive, model, serial, route, state, reason, started_unix_ms, elapsed_ns, written_bytes,
                            read_bytes, samples, head, summary, findings, conditions, digest, limits, kept_samples, label, tags, note,
                            deleted_unix_ms, edited_unix_ms)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20, ?21, ?22, ?23, ?24)
         ON CONFLICT (haul) DO UPDATE SET state = ?6, reason = ?7, elapsed_ns = ?9, written_bytes = ?10, read_bytes = ?11,
            samples = ?12, summary = ?14, findings = ?15, digest = ?17, limits = ?18, kept_samples = ?19, label = ?20, tags = ?21,
            note = ?22, deleted_unix_ms = ?23, edited_unix_ms = ?24",
    )?
    .execute(params![
        local, text(3), text(4), text(5), text(6), text(7), text(8), number(9), number(10), number(11), number(12),
        number(13), text(14), text(15), text(16), text(17), text(18), text(19), number(20), text(21), tags, text(23),
        number(24), number(25)
    ])?;
    tx.prepare_cached(
        "INSERT INTO mirrored (haul, bench, remote, edited_unix_ms) VALUES (?1, ?2, ?3, ?4)
         ON CONFLICT (haul) DO UPDATE SET edited_unix_ms = ?4",
    )?
    .execute(params![local, bench, remote, number(25).unwrap_or(0)])?;
    Ok(())
}

/// The fleet keeps no records any more of the month in which a haul began.
fn has_gone(client: &mut postgres::Client, started_unix_ms: i64) -> Result<bool, postgres::Error> {
    let sql = "SELECT COALESCE(to_timestamp($1::FLOAT8 / 1000) AT TIME ZONE 'UTC' < let_go_before, FALSE) FROM hollow_mile.fleet";
    Ok(client.query_one(sql, &[&(started_unix_ms as f64)])?.get(0))
}

impl Ledger {
    /// It is the mirror of a fleet: nothing is hauled into it.
    #[must_use]
    pub const fn is_mirror(&self) -> bool {
        self.remote.is_some()
    }

    /// What is kept for good is kept in a bench's own ledger.
    ///
    /// # Errors
    /// When this is the mirror of a fleet.
    pub(crate) fn is_own(&self) -> Result<(), LedgerError> {
        if self.is_mirror() {
            let why =
                "this is a copy of the fleet's hauls, and nothing is kept in it for good: leave out --fleet";
            return Err(LedgerError::Fleet(why.into()));
        }
        Ok(())
    }

    /// Fetches the overview of a haul that has one on the server and none here: enough for a first picture of a long one.
    pub(crate) fn fetch_overview(&self, haul: &str) -> Option<()> {
        let remote = self.remote.as_ref()?;
        let (bench, name): (i32, String) = self
            .db
            .query_row(
                "SELECT m.bench, m.remote FROM mirrored m JOIN hauls h ON h.haul = m.haul
                 WHERE m.haul = ?1 AND h.state <> 'running' AND (h.samples >= ?2 OR h.kept_samples IS NOT NULL)
                   AND NOT EXISTS (SELECT 1 FROM overviews o WHERE o.haul = m.haul)",
                params![haul, crate::overview::LEAST_SAMPLES as i64],
                |r| Ok((r.get(0)?, r.get(1)?)),
            )
            .optional()
            .ok()??;
        let mut client = connected(&remote.address).ok()?;
        let sql =
            "SELECT bytes, conclusions, program FROM hollow_mile.overview WHERE bench = $1 AND haul = $2";
        let row = client.query_opt(sql, &[&bench, &name]).ok()??;
        let (bytes, conclusions, program): (&[u8], &str, Option<&str>) = (row.get(0), row.get(1), row.get(2));
        crate::overview::keep(&self.db, haul, bytes, conclusions, program).ok()
    }

    /// Fetches what the server has of a haul's record and this mirror does not.
    pub(crate) fn fetch(&self, haul: &str) -> Result<(), LedgerError> {
        let Some(remote) = &self.remote else { return Ok(()) };
        self.fetch_from(&remote.address, haul).map_err(|e| match e {
            FleetError::Ledger(e) => e,
            e => LedgerError::Fleet(e.to_string()),
        })
    }

    fn fetch_from(&self, address: &Address, haul: &str) -> Result<(), FleetError> {
        let about: Option<(i32, String, i64, i64)> = self
            .db
            .query_row(
                "SELECT m.bench, m.remote, h.started_unix_ms,
                        COALESCE((SELECT MAX(seq) + 1 FROM batches b WHERE b.haul = m.haul), 0)
                 FROM mirrored m JOIN hauls h ON h.haul = m.haul WHERE m.haul = ?1",
                [haul],
                |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)),
            )
            .optional()?;
        let Some((bench, remote, started, mut next)) = about else { return Ok(()) };
        let said = |e: postgres::Error| FleetError::of(&e, address);
        let mut client = match connected(address) {
            Ok(client) => client,
            // What is here is shown while the server is away.
            Err(_) if next > 0 => return Ok(()),
            Err(e) => return Err(e),
        };
        loop {
            let rows = client
                .query(
                    "SELECT seq, bytes FROM hollow_mile.batch
                     WHERE month = date_trunc('month', to_timestamp($1::FLOAT8 / 1000) AT TIME ZONE 'UTC')::DATE
                       AND bench = $2 AND haul = $3 AND seq >= $4 ORDER BY seq LIMIT 500",
                    &[&(started as f64), &bench, &remote, &next],
                )
                .map_err(said)?;
            let tx = self.db.unchecked_transaction()?;
            for r in &rows {
                let (seq, bytes): (i64, &[u8]) = (r.get(0), r.get(1));
                tx.prepare_cached("INSERT OR IGNORE INTO batches (haul, seq, bytes) VALUES (?1, ?2, ?3)")?
                    .execute(params![haul, seq, bytes])?;
                next = seq + 1;
            }
            tx.commit()?;
            if rows.len() < 500 {
                break;
            }
        }
        if next == 0 && has_gone(&mut client, started).map_err(said)? {
            return Err(LedgerError::Fleet(format!(
                "the fleet keeps no records of the month in which haul {haul} began any more: its figures and findings are there, its samples are on its bench"
            ))
            .into());
        }
        self.db.execute(
            "UPDATE mirrored SET opened_unix_ms = unixepoch() * 1000,
                    bytes = (SELECT COALESCE(SUM(LENGTH(bytes)), 0) FROM batches b WHERE b.haul = ?1) WHERE haul = ?1",
            [haul],
        )?;
        self.forget_oldest(haul)
    }

    /// Records that were opened longest ago go where all of them take too much.
    fn forget_oldest(&self, but: &str) -> Result<(), FleetError> {
        loop {
            let all: i64 =
                self.db.query_row("SELECT COALESCE(SUM(bytes), 0) FROM mirrored", [], |r| r.get(0))?;
            if all <= MOST_BYTES {
                return Ok(());
            }
            let oldest: Option<String> = self
                .db
                .query_row(
                    "SELECT haul FROM mirrored WHERE bytes > 0 AND haul <> ?1 ORDER BY opened_unix_ms LIMIT 1",
                    [but],
                    |r| r.get(0),
                )
                .optional()?;
            let Some(oldest) = oldest else { return Ok(()) };
            let tx = self.db.unchecked_transaction()?;
            tx.execute("DELETE FROM batches WHERE haul = ?1", [&oldest])?;
            tx.execute("UPDATE mirrored SET bytes = 0 WHERE haul = ?1", [&oldest])?;
            tx.commit()?;
        }
    }
}
