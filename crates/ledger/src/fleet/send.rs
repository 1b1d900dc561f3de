//! Takes what the outbox holds to the server.

use std::collections::BTreeMap;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use postgres::{Client, Transaction};
use rusqlite::{OptionalExtension, params};

use super::outbox::{Batch, Waiting};
use super::{Address, FleetError, Membership, connected};
use crate::Ledger;

/// Hauls of one transaction.
const HAULS: usize = 64;
/// Bytes of batches of one transaction.
const BYTES: usize = 4 << 20;
/// What it refused is tried again after this.
const TRIED_AGAIN: Duration = Duration::from_secs(60);
/// The server hears of a bench that has nothing to send so often.
const HEARD: Duration = Duration::from_secs(10);

/// What was sent in a step.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Sent {
    /// Hauls.
    pub hauls: usize,
    /// Batches.
    pub batches: usize,
    /// Bytes of batches.
    pub bytes: usize,
    /// Names, tags, notes and deletions that came back.
    pub edits: usize,
    /// There is more to send.
    pub more: bool,
    /// A haul that the server does not take, and why. The others go on.
    pub refused: Option<String>,
}

/// What the server did not take of a haul.
struct Refused {
    turn: i64,
    at: Instant,
    why: String,
}

/// Sends what a bench commits.
pub struct Sender {
    membership: Membership,
    address: Address,
    client: Option<Client>,
    heard: Option<Instant>,
    /// Hauls that the server did not take, and why: tried again when they change, or after a while.
    refused: BTreeMap<String, Refused>,
    /// Edits of others are known up to this moment of the server, µs since 1970.
    edits_to: i64,
}

fn now_ms() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_millis() as i64)
}

/// The month of a haul's start, for the part of the table that it lies in.
const MONTH: &str = "date_trunc('month', to_timestamp($1::FLOAT8 / 1000) AT TIME ZONE 'UTC')::DATE";

impl Sender {
    /// For a bench that has joined.
    ///
    /// # Errors
    /// When its address is none, or it only reads.
    pub fn new(membership: Membership) -> Result<Self, FleetError> {
        if membership.only_reads {
            return Err(FleetError::OnlyReads);
        }
        let address = membership.address()?;
        Ok(Self { membership, address, client: None, heard: None, refused: BTreeMap::new(), edits_to: 0 })
    }

    /// As which bench.
    #[must_use]
    pub const fn membership(&self) -> &Membership {
        &self.membership
    }

    /// Sends once: at most so much as one transaction should hold. Waits for the server, and is meant for a thread of its own.
    ///
    /// # Errors
    /// When the server does not take it: it is all still in the outbox then, and the next step connects anew.
    pub fn step(&mut self, ledger: &Ledger) -> Result<Sent, FleetError> {
        let told = self.try_step(ledger);
        if told.is_err() {
            self.client = None;
        }
        told
    }

    fn try_step(&mut self, ledger: &Ledger) -> Result<Sent, FleetError> {
        // What is refused takes no place from the others.
        let mut waiting = ledger.waiting(HAULS + self.refused.len())?;
        waiting.retain(|w| {
            self.refused.get(&w.haul).is_none_or(|r| r.turn != w.turn || r.at.elapsed() > TRIED_AGAIN)
        });
        waiting.truncate(HAULS);
        if waiting.is_empty() && self.heard.is_some_and(|h| h.elapsed() < HEARD) {
            return Ok(Sent::default());
        }
        let address = self.address.clone();
        let said = |e: postgres::Error| FleetError::of(&e, &address);
        let client = match &mut self.client {
            Some(client) => client,
            none => none.insert(connected(&self.address)?),
        };
        let mut tx = client.transaction().map_err(said)?;
        let (mut sent, mut room, mut done) = (Sent::default(), BYTES, Vec::new());
        for haul in waiting {
            if room == 0 {
                sent.more = true;
                break;
            }
            let (mut from, mut anew) = (haul.sent, false);
            if haul.compacted_since && !haul.whole && haul.sent > 0 {
                // It was made smaller before the server had all of it: what it has does not fit to what is left.
                (from, anew) = (0, true);
            }
            // A record that the server has whole stays as it is there, whatever becomes of it here.
            let (batches, all) =
                if haul.whole { (Vec::new(), true) } else { ledger.batches_from(&haul.haul, from, room)? };
            let bytes: usize = batches.iter().map(|b| b.bytes.len()).sum();
            room = room.saturating_sub(bytes.max(1024));
            let next = batches.last().map_or(from, |b| b.seq + 1);
            // What the server does not take of one haul holds up no other.
            let mut part = tx.transaction().map_err(said)?;
            match put(&mut part, ledger, self.membership.number, &haul, &batches, anew) {
                Ok(()) => {
                    part.commit().map_err(said)?;
                    self.refused.remove(&haul.haul);
                }
                Err(PutError::Lost) => {
                    part.rollback().map_err(said)?;
                    ledger.send_anew(&haul.haul)?;
                    sent.more = true;
                    continue;
                }
                Err(e) if e.is_of_the_haul() => {
                    part.rollback().map_err(said)?;
                    let why = format!("haul {} is not taken: {}", haul.haul, e.said(&address));
                    self.refused.insert(haul.haul, Refused { turn: haul.turn, at: Instant::now(), why });
                    continue;
                }
                Err(e) => return Err(e.said(&address)),
            }
            sent.hauls += 1;
            sent.batches += batches.len();
            sent.bytes += bytes;
            sent.more |= !all;
            done.push((haul, next, all));
        }
        sent.refused = self.refused.values().next().map(|r| r.why.clone());
        let unsent = ledger.unsent()? as i64 - done.iter().filter(|d| d.2).count() as i64;
        let known = tx
            .execute(
                "UPDATE hollow_mile.bench SET seen_at = CLOCK_TIMESTAMP(), unsent_hauls = $2, program = $3, trouble = $5,
                        left_at = NULL, clock_off_ms = $4 - (EXTRACT(EPOCH FROM CLOCK_TIMESTAMP()) * 1000)::BIGINT
                 WHERE id = $1",
                &[
                    &self.membership.id,
                    &unsent.max(0),
                    &env!("CARGO_PKG_VERSION"),
                    &now_ms(),
                    &sent.refused,
                ],
            )
            .map_err(said)?;
        if known == 0 {
            return Err(FleetError::Forgotten(address.server()));
        }
        let edits = edits(&mut tx, self.membership.number, self.edits_to).map_err(said)?;
        tx.commit().map_err(said)?;
        self.heard = Some(Instant::now());
        for (haul, next, all) in &done {
            ledger.was_sent(haul, *next, *all)?;
        }
        for edit in edits {
            self.edits_to = self.edits_to.max(edit.changed_us);
            sent.edits += usize::from(edit.apply(ledger)?);
        }
        Ok(sent)
    }
}

/// What can go wrong between two stores.
enum PutError {
    /// The server had it, and has it no more: it was put back to an earlier state.
    Lost,
    Server(postgres::Error),
    Ledger(rusqlite::Error),
}

impl PutError {
    /// The server lives, and does not take what it was given.
    fn is_of_the_haul(&self) -> bool {
        /// Data exception, integrity violation, insufficient privilege by a policy, program limit (SQLSTATE classes).
        const CLASSES: [&str; 4] = ["22", "23", "42501", "54"];
        let Self::Server(e) = self else { return false };
        e.as_db_error().is_some_and(|d| CLASSES.iter().any(|c| d.code().code().starts_with(c)))
    }

    fn said(self, address: &Address) -> FleetError {
        match self {
            Self::Lost => FleetError::Forgotten(address.server()),
            Self::Server(e) => FleetError::of(&e, address),
            Self::Ledger(e) => e.into(),
        }
    }
}

impl From<postgres::Error> for PutError {
    fn from(e: postgres::Error) -> Self {
        Self::Server(e)
    }
}

impl From<rusqlite::Error> for PutError {
    fn from(e: rusqlite::Error) -> Self {
        Self::Ledger(e)
    }
}

/// Columns that go over as they are: texts, then numbers.
const TEXTS: [&str; 14] = [
    "haul",
    "drive",
    "model",
    "serial",
    "route",
    "state",
    "reason",
    "head",
    "summary",
    "findings",
    "conditions",
    "digest",
    "limits",
    "label",
];
const MORE_TEXTS: [&str; 2] = ["tags", "note"];
const NUMBERS: [&str; 7] = [
    "started_unix_ms",
    "elapsed_ns",
    "written_bytes",
    "read_bytes",
    "samples",
    "deleted_unix_ms",
    "edited_unix_ms",
];

/// How far a haul under way has come: its head is on the server already.
fn put_progress(
    tx: &mut Transaction<'_>,
    ledger: &Ledger,
    bench: i32,
    haul: &str,
    batches: i64,
) -> Result<i64, PutError> {
    let (started, label, tags, note, numbers): (
        i64,
        Option<String>,
        Option<String>,
        Option<String>,
        [i64; 5],
    ) = ledger
        .db
        .prepare_cached(
            "SELECT started_unix_ms, label, tags, note, elapsed_ns, written_bytes, read_bytes, samples,
                    COALESCE(edited_unix_ms, 0) FROM hauls WHERE haul = ?1",
        )?
        .query_row([haul], |r| {
            Ok((
                r.get(0)?,
                r.get(1)?,
                r.get(2)?,
                r.get(3)?,
                [r.get(4)?, r.get(5)?, r.get(6)?, r.get(7)?, r.get(8)?],
            ))
        })?;
    let [elapsed, written, read, samples, edited] = numbers;
    tx.execute(
        "UPDATE hollow_mile.haul SET elapsed_ns = $3, written_bytes = $4, read_bytes = $5, samples = $6,
                batches = GREATEST(batches, $7),
                label = CASE WHEN $8 >= edited_unix_ms THEN $9 ELSE label END,
                tags = CASE WHEN $8 >= edited_unix_ms THEN $10 ELSE tags END,
                note = CASE WHEN $8 >= edited_unix_ms THEN $11 ELSE note END,
                edited_unix_ms = GREATEST(edited_unix_ms, $8), changed_at = CLOCK_TIMESTAMP()
         WHERE bench = $1 AND haul = $2",
        &[&bench, &haul, &elapsed, &written, &read, &samples, &batches, &edited, &label, &tags, &note],
    )?;
    Ok(started)
}

/// All that a list shows of a haul, with its head and digest.
fn put_row(
    tx: &mut Transaction<'_>,
    ledger: &Ledger,
    bench: i32,
    haul: &Waiting,
    count: i64,
) -> Result<i64, PutError> {
    let texts: Vec<&str> = TEXTS.iter().chain(&MORE_TEXTS).copied().collect();
    let columns = texts.iter().chain(&NUMBERS).copied().collect::<Vec<_>>().join(", ");
    let (words, mut numbers): (Vec<Option<String>>, Vec<Option<i64>>) = ledger
        .db
        .prepare_cached(&format!("SELECT {columns}, kept_samples FROM hauls WHERE haul = ?1"))?
        .query_row([&haul.haul], |r| {
            let words = (0..texts.len()).map(|i| r.get(i)).collect::<Result<_, _>>()?;
            let numbers = (0..=NUMBERS.len()).map(|i| r.get(texts.len() + i)).collect::<Result<_, _>>()?;
            Ok((words, numbers))
        })?;
    // PostgreSQL's texts hold no zero character.
    let words: Vec<Option<String>> =
        words.into_iter().map(|w| w.map(|w| w.replace('\0', "\u{fffd}"))).collect();
    let kept = numbers.pop().flatten().filter(|_| !haul.whole);
    let edited = numbers.pop().flatten().unwrap_or(0);
    numbers.push(Some(edited));
    // Later edits stand, wherever they were made; of equal ones the bench's own.
    let later = "excluded.edited_unix_ms >= h.edited_unix_ms";
    let set: Vec<String> = texts[1..]
        .iter()
        .chain(&NUMBERS[..])
        .map(|c| match *c {
            "label" | "tags" | "note" | "deleted_unix_ms" => {
                format!("{c} = CASE WHEN {later} THEN excluded.{c} ELSE h.{c} END")
            }
            "edited_unix_ms" => format!("{c} = GREATEST(excluded.{c}, h.{c})"),
            c => format!("{c} = excluded.{c}"),
        })
        .collect();
    let n = texts.len() + NUMBERS.len();
    let marks: Vec<String> = (0..n).map(|i| format!("${}", i + 4)).collect();
    let sql = format!(
        "INSERT INTO hollow_mile.haul AS h (bench, kept_samples, batches, {columns}) VALUES ($1, $2, $3, {})
         ON CONFLICT (bench, haul) DO UPDATE SET {}, kept_samples = COALESCE(excluded.kept_samples, h.kept_samples),
             batches = GREATEST(excluded.batches, h.batches), changed_at = CLOCK_TIMESTAMP()",
        marks.join(", "),
        set.join(", ")
    );
    let mut args: Vec<&(dyn postgres::types::ToSql + Sync)> = vec![&bench, &kept, &count];
    args.extend(words.iter().map(|w| w as &(dyn postgres::types::ToSql + Sync)));
    args.extend(numbers.iter().map(|w| w as &(dyn postgres::types::ToSql + Sync)));
    tx.execute(&sql, &args)?;
    Ok(numbers[0].unwrap_or(0))
}

/// The bench itself made a record smaller.
fn is_compacted(ledger: &Ledger, haul: &str) -> rusqlite::Result<bool> {
    ledger
        .db
        .prepare_cached("SELECT kept_samples IS NOT NULL FROM hauls WHERE haul = ?1")?
        .query_row([haul], |r| r.get(0))
}

/// Puts a haul and some of its batches on the server.
fn put(
    tx: &mut Transaction<'_>,
    ledger: &Ledger,
    bench: i32,
    haul: &Waiting,
    batches: &[Batch],
    anew: bool,
) -> Result<(), PutError> {
    let sql = "SELECT batches, kept_samples IS NOT NULL FROM hollow_mile.haul WHERE bench = $1 AND haul = $2";
    let (has, made_smaller): (i64, bool) =
        tx.query_opt(sql, &[&bench, &haul.haul])?.map_or((0, false), |r| (r.get(0), r.get(1)));
    if has < haul.sent {
        return Err(PutError::Lost);
    }
    // What the server made smaller by its rule is not filled up again from the whole record.
    let batches = if made_smaller && !anew && !is_compacted(ledger, &haul.haul)? { &[] } else { batches };
    let count = haul.sent.max(has).max(batches.last().map_or(0, |b| b.seq + 1));
    let started = if haul.running && haul.sent > 0 {
        put_progress(tx, ledger, bench, &haul.haul, count)?
    } else {
        put_row(tx, ledger, bench, haul, count)?
    } as f64;
    if anew {
        let sql = format!("DELETE FROM hollow_mile.batch WHERE month = {MONTH} AND bench = $2 AND haul = $3");
        tx.execute(&sql, &[&started, &bench, &haul.haul])?;
    }
    if !batches.is_empty() {
        let seqs: Vec<i64> = batches.iter().map(|b| b.seq).collect();
        let bytes: Vec<&[u8]> = batches.iter().map(|b| b.bytes.as_slice()).collect();
        let sql = format!(
            "INSERT INTO hollow_mile.batch (month, bench, haul, seq, bytes)
             SELECT {MONTH}, $2, $3, seq, bytes FROM unnest($4::BIGINT[], $5::BYTEA[]) AS b (seq, bytes)
             ON CONFLICT DO NOTHING"
        );
        tx.execute(&sql, &[&started, &bench, &haul.haul, &seqs, &bytes])?;
    }
    for (newest, json) in vitals(ledger, &haul.haul)? {
        tx.execute(
            "INSERT INTO hollow_mile.vitals (bench, haul, newest, vitals) VALUES ($1, $2, $3, $4)
             ON CONFLICT (bench, haul, newest) DO UPDATE SET vitals = excluded.vitals",
            &[&bench, &haul.haul, &newest, &json],
        )?;
    }
    if haul.running {
        return Ok(());
    }
    let overview: Option<(Vec<u8>, String, Option<String>)> = ledger
        .db
        .prepare_cached("SELECT bytes, conclusions, program FROM overviews WHERE haul = ?1")?
        .query_row(params![haul.haul], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?)))
        .optional()?;
    if let Some((bytes, conclusions, program)) = overview {
        tx.execute(
            "INSERT INTO hollow_mile.overview (bench, haul, bytes, conclusions, program) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT (bench, haul) DO UPDATE SET bytes = excluded.bytes, conclusions = excluded.conclusions,
                 program = excluded.program",
            &[&bench, &haul.haul, &bytes, &conclusions, &program],
        )?;
    }
    Ok(())
}

fn vitals(ledger: &Ledger, haul: &str) -> rusqlite::Result<Vec<(bool, String)>> {
    let mut statement = ledger.db.prepare_cached("SELECT newest, vitals FROM vitals WHERE haul = ?1")?;
    statement.query_map([haul], |r| Ok((r.get(0)?, r.get(1)?)))?.collect()
}

/// What somebody else said of a haul of this bench.
struct Edit {
    haul: String,
    label: Option<String>,
    tags: Option<String>,
    note: Option<String>,
    deleted_unix_ms: Option<i64>,
    edited_unix_ms: i64,
    changed_us: i64,
}

/// Edits of hauls of a bench since a moment of the server. Transactions that ended late are asked for again.
fn edits(tx: &mut Transaction<'_>, bench: i32, since_us: i64) -> Result<Vec<Edit>, postgres::Error> {
    const LATE_US: i64 = 30_000_000;
    let rows = tx.query(
        "SELECT haul, label, tags, note, deleted_unix_ms, edited_unix_ms, (EXTRACT(EPOCH FROM changed_at) * 1000000)::BIGINT
         FROM hollow_mile.haul
         WHERE bench = $1 AND edited_unix_ms > 0 AND changed_at > to_timestamp($2::FLOAT8 / 1000000)",
        &[&bench, &((since_us - LATE_US).max(0) as f64)],
    )?;
    let edit = |r: &postgres::Row| Edit {
        haul: r.get(0),
        label: r.get(1),
        tags: r.get(2),
        note: r.get(3),
        deleted_unix_ms: r.get(4),
        edited_unix_ms: r.get(5),
        changed_us: r.get(6),
    };
    Ok(rows.iter().map(edit).collect())
}

impl Edit {
    /// Takes it over where it is later than what the bench has. True where it was.
    fn apply(&self, ledger: &Ledger) -> Result<bool, FleetError> {
        let changed = ledger.db.execute(
            "UPDATE hauls SET label = ?2, tags = ?3, note = ?4, deleted_unix_ms = ?5, edited_unix_ms = ?6
             WHERE haul = ?1 AND COALESCE(edited_unix_ms, 0) < ?6 AND state <> 'running'",
            params![self.haul, self.label, self.tags, self.note, self.deleted_unix_ms, self.edited_unix_ms],
        )?;
        Ok(changed > 0)
    }
}
