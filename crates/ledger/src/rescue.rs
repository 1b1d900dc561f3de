//! A damaged ledger: what can be read of it goes into a new one, and what was lost is said.
//!
//! A damaged page makes a walk over a table end; so each table is walked from both ends, and each haul's batches besides
//! one by one. The damaged file is put aside, never removed.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use hollow_mile_core::drive::Vitals;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::bytes;
use hollow_mile_core::record::{Event, HaulHead, HaulState};
use rusqlite::types::Value;
use rusqlite::{Connection, OpenFlags, params};

use crate::{Ledger, LedgerError, overview, wear};

/// What was saved of a damaged ledger.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Rescued {
    /// Hauls that are in the new ledger.
    pub hauls: usize,
    /// Hauls of which a part of the record is missing, and how many batches.
    pub torn: Vec<(String, usize)>,
    /// Hauls of which nothing says what they were.
    pub lost: Vec<String>,
    /// Batches that were found and cannot be read.
    pub unreadable: usize,
    /// Where the damaged file is now.
    pub aside: PathBuf,
}

/// Rows of a query until it ends or fails.
fn walk<T>(
    db: &Connection,
    sql: &str,
    mut take: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
) -> Vec<T> {
    let mut out = Vec::new();
    let Ok(mut statement) = db.prepare(sql) else { return out };
    let Ok(mut rows) = statement.query([]) else { return out };
    while let Ok(Some(row)) = rows.next() {
        if let Ok(v) = take(row) {
            out.push(v);
        }
    }
    out
}

/// Columns of a haul that its record does not give back: those of version 4 after those that every version has.
const OWN: [&str; 7] = ["state", "reason", "label", "tags", "note", "deleted_unix_ms", "kept_samples"];
/// Columns that follow from the record, and are kept as they were when the record is torn.
const CONCLUDED: [&str; 8] =
    ["elapsed_ns", "written_bytes", "read_bytes", "samples", "summary", "findings", "digest", "limits"];

/// What the list said of a haul.
#[derive(Debug, Clone)]
struct Known {
    haul: String,
    head: String,
    own: Vec<Value>,
    concluded: Vec<Value>,
}

impl Known {
    fn state(&self) -> Option<HaulState> {
        match self.own.first() {
            Some(Value::Text(word)) => HaulState::from_word(word).filter(|s| *s != HaulState::Running),
            _ => None,
        }
    }
    fn reason(&self) -> Option<String> {
        match self.own.get(1) {
            Some(Value::Text(words)) => Some(words.clone()),
            _ => None,
        }
    }
}

fn known(db: &Connection) -> BTreeMap<String, Known> {
    let has = |column: &str| db.prepare(&format!("SELECT {column} FROM hauls LIMIT 0")).is_ok();
    let list = |names: &[&str]| -> String {
        let all: Vec<&str> = names.iter().map(|n| if has(n) { *n } else { "NULL" }).collect();
        all.join(", ")
    };
    let (own, concluded) = (list(&OWN), list(&CONCLUDED));
    let mut all = BTreeMap::new();
    for order in ["ASC", "DESC"] {
        let sql =
            format!("SELECT haul, head, {own}, {concluded} FROM hauls NOT INDEXED ORDER BY rowid {order}");
        let rows = walk(db, &sql, |r| {
            let values = |from: usize, n: usize| (from..from + n).map(|i| r.get(i)).collect();
            let values: rusqlite::Result<Vec<Value>> = values(2, OWN.len() + CONCLUDED.len());
            let mut own = values?;
            let concluded = own.split_off(OWN.len());
            Ok(Known { haul: r.get(0)?, head: r.get(1)?, own, concluded })
        });
        for row in rows {
            all.entry(row.haul.clone()).or_insert(row);
        }
    }
    all
}

/// Puts columns of the damaged ledger into the new one.
fn put_back(db: &Connection, haul: &str, names: &[&str], values: &[Value]) -> Result<(), LedgerError> {
    for (name, value) in names.iter().zip(values).filter(|(_, v)| **v != Value::Null) {
        db.execute(&format!("UPDATE hauls SET {name} = ?2 WHERE haul = ?1"), params![haul, value])?;
    }
    Ok(())
}

/// What was concluded from a record before it was compacted, when it can still be read.
fn keep_conclusions(old: &Connection, new: &Ledger, haul: &str) -> Result<(), LedgerError> {
    let sql = "SELECT bytes, conclusions FROM overviews WHERE haul = ?1";
    let row = old.query_row(sql, [haul], |r| Ok((r.get(0)?, r.get(1)?)));
    if let Ok((bytes, conclusions)) = row {
        let (bytes, conclusions): (Vec<u8>, String) = (bytes, conclusions);
        overview::keep(&new.db, haul, &bytes, &conclusions, None)?;
    }
    Ok(())
}

/// All batches that can be had, by haul and number; `None` for one that is known to have been there.
type Batches = BTreeMap<String, BTreeMap<i64, Option<Vec<u8>>>>;

fn batches(db: &Connection) -> Batches {
    let mut all = Batches::new();
    let mut ids: BTreeSet<i64> = BTreeSet::new();
    for order in ["ASC", "DESC"] {
        // The index knows which there were, also where the table itself cannot be walked.
        let sql = format!("SELECT haul, seq, id FROM batches ORDER BY haul {order}, seq {order}");
        for (haul, seq, id) in walk(db, &sql, |r| Ok((r.get::<_, String>(0)?, r.get(1)?, r.get(2)?))) {
            ids.insert(id);
            all.entry(haul).or_default().entry(seq).or_insert(None);
        }
        let sql = format!("SELECT id FROM batches NOT INDEXED ORDER BY id {order}");
        ids.extend(walk(db, &sql, |r| r.get::<_, i64>(0)));
    }
    let between = ids.first().copied().zip(ids.last().copied());
    let all_ids = between.into_iter().flat_map(|(a, b)| a..=b);
    for id in all_ids {
        let row = db.query_row("SELECT haul, seq, bytes FROM batches NOT INDEXED WHERE id = ?1", [id], |r| {
            Ok((r.get::<_, String>(0)?, r.get(1)?, r.get(2)?))
        });
        if let Ok((haul, seq, bytes)) = row {
            all.entry(haul).or_default().insert(seq, Some(bytes));
        }
    }
    if all.is_empty() {
        // Of a ledger before version 4.
        for order in ["ASC", "DESC"] {
            let sql = format!("SELECT haul, seq, bytes FROM batches ORDER BY haul {order}, seq {order}");
            for (haul, seq, bytes) in walk(db, &sql, |r| Ok((r.get::<_, String>(0)?, r.get(1)?, r.get(2)?))) {
                all.entry(haul).or_default().insert(seq, Some(bytes));
            }
        }
    }
    all
}

fn free_name(home: &Path) -> PathBuf {
    (1u32..)
        .map(|n| home.join(format!("ledger-damaged-{n}.sqlite")))
        .find(|p| !p.exists())
        .unwrap_or_else(|| home.join("ledger-damaged.sqlite"))
}

/// What could be read of one haul.
#[derive(Default)]
struct Record {
    /// Batches by number.
    batches: Vec<(i64, Vec<u8>)>,
    readings: Readings,
    head: Option<HaulHead>,
    /// The first and the newest reading of health.
    vitals: Vec<Vitals>,
    /// One past the last batch that there was.
    past: i64,
    /// Batches that were there and could not be read.
    unreadable: usize,
}

impl Record {
    fn read(numbers: BTreeMap<i64, Option<Vec<u8>>>) -> Self {
        let past = numbers.last_key_value().map_or(0, |(seq, _)| *seq + 1);
        let mut record = Self { past, ..Self::default() };
        for (seq, bytes) in numbers {
            let head = |json: &[u8]| serde_json::from_slice(json).map_err(|e| e.to_string());
            let decoded = bytes.and_then(|bytes| Some((bytes::decode(&bytes, head).ok()?, bytes)));
            let Some((events, bytes)) = decoded else {
                record.unreadable += 1;
                continue;
            };
            events.iter().for_each(|e| record.push(e));
            record.batches.push((seq, bytes));
        }
        record
    }

    fn push(&mut self, event: &Event) {
        match event {
            Event::HaulStarted(h) => self.head = Some((**h).clone()),
            Event::Vitals { vitals, .. } => {
                self.vitals.truncate(1);
                self.vitals.push((**vitals).clone());
            }
            _ => {}
        }
        self.readings.push(event);
    }

    fn missing(&self) -> usize {
        usize::try_from(self.past).unwrap_or(0).saturating_sub(self.batches.len())
    }

    fn is_torn(&self) -> bool {
        self.missing() > 0 || self.batches.is_empty()
    }

    /// Puts it into the new ledger, with what the damaged one knew of it beside.
    fn keep(
        &self,
        haul: &str,
        row: Option<&Known>,
        old: &Connection,
        ledger: &Ledger,
    ) -> Result<(), LedgerError> {
        for (seq, bytes) in &self.batches {
            ledger.db.execute(
                "INSERT INTO batches (haul, seq, bytes) VALUES (?1, ?2, ?3)",
                params![haul, seq, bytes],
            )?;
        }
        for (newest, v) in [(false, self.vitals.first()), (true, self.vitals.last())] {
            if let Some(v) = v {
                wear::keep(&ledger.db, haul, newest, v)?;
            }
        }
        let readings = &self.readings;
        let state = row.and_then(Known::state).or_else(|| readings.ended().map(|e| e.1));
        let reason = match self.missing() {
            0 => row.and_then(Known::reason),
            n => Some(format!("{n} parts of its record were lost with a damaged ledger")),
        };
        ledger.db.execute(
            "UPDATE hauls SET elapsed_ns = ?2, written_bytes = ?3, read_bytes = ?4, samples = ?5 WHERE haul = ?1",
            params![
                haul,
                readings.elapsed().as_nanos() as i64,
                readings.written().get() as i64,
                readings.read().get() as i64,
                readings.series().len() as i64
            ],
        )?;
        let state = state.unwrap_or(HaulState::CutShort);
        ledger.conclude(haul, state, reason.as_deref(), readings, &readings.conclude())?;
        let Some(row) = row else { return Ok(()) };
        put_back(&ledger.db, haul, &OWN[2..], &row.own[2..])?;
        // What was concluded from the whole record says more than what is left of it.
        let compacted = row.own.last().is_some_and(|kept| *kept != Value::Null);
        if self.is_torn() || compacted {
            put_back(&ledger.db, haul, &CONCLUDED, &row.concluded)?;
        }
        if compacted {
            keep_conclusions(old, ledger, haul)?;
        }
        Ok(())
    }
}

/// Moves the damaged file, and what SQLite has beside it, out of the way.
fn set_aside(home: &Path) -> Result<PathBuf, LedgerError> {
    let (path, aside) = (home.join("ledger.sqlite"), free_name(home));
    for suffix in ["", "-wal", "-shm"] {
        let from = PathBuf::from(format!("{}{suffix}", path.display()));
        let to = PathBuf::from(format!("{}{suffix}", aside.display()));
        match std::fs::rename(&from, &to) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                let (home, why) = (home.display().to_string(), e.to_string());
                return Err(LedgerError::NotWritable { home, why });
            }
            _ => {}
        }
    }
    Ok(aside)
}

/// Files that a killed haul left behind are still there, whatever became of the ledger.
fn keep_leftovers(old: &Connection, ledger: &Ledger) -> Result<(), LedgerError> {
    let sql = "SELECT count(*) FROM pragma_table_info('leftovers') WHERE name = 'mark'";
    let columns: i64 = old.query_row(sql, [], |r| r.get(0)).unwrap_or(0);
    let known = if columns == 1 { "mark, born_ns" } else { "NULL, NULL" };
    let leftovers = walk(old, &format!("SELECT path, device, inode, haul, {known} FROM leftovers"), |r| {
        Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?, r.get(4)?, r.get(5)?))
    });
    for row in leftovers {
        let (path, device, inode, haul, mark, born): (String, i64, i64, String, Option<String>, Option<i64>) =
            row;
        ledger.db.execute(
            "INSERT OR IGNORE INTO leftovers (path, device, inode, haul, mark, born_ns)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![path, device, inode, haul, mark, born],
        )?;
    }
    Ok(())
}

/// Makes a new ledger of what can be read of the one in this folder.
///
/// # Errors
/// When the folder cannot be written; the damaged file is where it was then.
pub fn rescue(home: &Path) -> Result<(Ledger, Rescued), LedgerError> {
    let aside = set_aside(home)?;
    let mut rescued = Rescued { aside: aside.clone(), ..Rescued::default() };
    let old = Connection::open_with_flags(&aside, OpenFlags::SQLITE_OPEN_READ_WRITE)?;
    let ledger = Ledger::open(home)?;
    let known = known(&old);
    let mut batches = batches(&old);
    let hauls: BTreeSet<String> = known.keys().chain(batches.keys()).cloned().collect();
    for haul in hauls {
        let record = Record::read(batches.remove(&haul).unwrap_or_default());
        rescued.unreadable += record.unreadable;
        let row = known.get(&haul);
        let head = record.head.clone().or_else(|| serde_json::from_str(&row?.head).ok());
        // Without a head nobody knows what the samples are of.
        let Some(head) = head else {
            rescued.lost.push(haul);
            continue;
        };
        ledger.insert(&head)?;
        record.keep(&haul, row, &old, &ledger)?;
        if record.is_torn() {
            rescued.torn.push((haul.clone(), record.missing()));
        }
        rescued.hauls += 1;
    }
    keep_leftovers(&old, &ledger)?;
    Ok((ledger, rescued))
}
