//! The ledger: the archive of drives, hauls and findings, in one SQLite file.
//!
//! A haul is written through a [`HaulWriter`], which commits what it was given at least once a second, so that a
//! program killed at any moment loses at most the last second. While a writer lives it holds a lock on a file of its
//! own; a haul that is `running` in the file and whose lock is free was cut short, and is marked so at next opening.

#![forbid(unsafe_code)]

mod annotate;
mod compact;
pub mod csv;
mod digests;
pub mod fleet;
mod leftovers;
mod overview;
pub mod rescue;
mod rows;
mod schema;
mod wear;
mod writer;

use std::fs::{File, OpenOptions};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::mpsc::sync_channel;
use std::time::{Duration, Instant};

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::verdict;
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::{Bytes, Rate, latency};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::bytes;
use hollow_mile_core::record::{Conditions, Event, HaulHead, HaulState};
use rusqlite::{Connection, OpenFlags, OptionalExtension, params};
use rustix::fs::{FlockOperation, flock};

pub use annotate::Purge;
pub use compact::Compacted;
pub use digests::limits_words;
pub use leftovers::Leftover;
pub use rows::HaulRow;
pub use wear::Wear;
pub use writer::HaulWriter;

/// What went wrong with the ledger, and what to do.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// The folder or the file cannot be made or written.
    #[error(
        "the ledger in {home} cannot be written ({why}): set HOLLOW_MILE_HOME to a folder that you may write to"
    )]
    NotWritable {
        /// The folder.
        home: String,
        /// The system's words.
        why: String,
    },
    /// Written by a newer program.
    #[error("the ledger has version {found}, this program knows {known}: use the newer program")]
    Newer {
        /// In the file.
        found: i32,
        /// In the program.
        known: i32,
    },
    /// No haul of this name.
    #[error("no haul \"{0}\" in the ledger: `hollow-mile ledger` lists them")]
    NoSuchHaul(String),
    /// More than one haul begins so.
    #[error("\"{given}\" stands for {count} hauls: give more of its letters")]
    Ambiguous {
        /// As given.
        given: String,
        /// How many.
        count: usize,
    },
    /// A haul that runs cannot be taken out.
    #[error("haul {0} is under way, or not in the ledger: stop it before you delete it")]
    UnderWay(String),
    /// The file is rewritten only while nobody needs it.
    #[error("haul {0} is under way: the ledger is compacted when no haul is")]
    InUse(String),
    /// Pages of the file are not what they should be.
    #[error(
        "the ledger is damaged ({0}): `hollow-mile ledger --rescue` puts it aside and saves what can be read into a new one"
    )]
    Damaged(String),
    /// It lies on a medium that cannot be written.
    #[error(
        "the ledger can be read and not written: it lies on a read-only file system, or belongs to another user"
    )]
    ReadOnly,
    /// Another program holds the file for too long.
    #[error("the ledger is held by another program: try again in a moment")]
    Busy,
    /// A record cannot be read.
    #[error("haul {haul}, batch {batch}: {why}")]
    Record {
        /// Which haul.
        haul: String,
        /// Which of its batches.
        batch: i64,
        /// What is wrong with it.
        why: String,
    },
    /// What is not here could not be had from the fleet.
    #[error("{0}")]
    Fleet(String),
    /// Anything else that the store says.
    #[error("the ledger answered: {0}")]
    Store(rusqlite::Error),
}

impl From<rusqlite::Error> for LedgerError {
    fn from(e: rusqlite::Error) -> Self {
        match e.sqlite_error_code() {
            Some(rusqlite::ErrorCode::DatabaseBusy | rusqlite::ErrorCode::DatabaseLocked) => Self::Busy,
            Some(rusqlite::ErrorCode::ReadOnly) => Self::ReadOnly,
            Some(rusqlite::ErrorCode::DatabaseCorrupt | rusqlite::ErrorCode::NotADatabase) => {
                Self::Damaged(e.to_string())
            }
            _ => Self::Store(e),
        }
    }
}

/// Batches of a record that are decoded ahead of whoever takes its events.
const AHEAD: usize = 4;

fn record_error(haul: &str, batch: i64, why: &dyn std::fmt::Display) -> LedgerError {
    LedgerError::Record { haul: haul.to_owned(), batch, why: why.to_string() }
}

/// The archive.
pub struct Ledger {
    db: Connection,
    home: PathBuf,
    /// It lies where nothing can be written: what is made anew while reading is not kept.
    read_only: bool,
    /// Where records come from that are not here, in the mirror of a fleet.
    remote: Option<std::sync::Arc<fleet::mirror::Remote>>,
}

impl Ledger {
    /// Opens the ledger in this folder, making both when they are not there, and marks hauls that were cut short.
    ///
    /// # Errors
    /// When the folder cannot be written or the file is from a newer program.
    pub fn open(home: &Path) -> Result<Self, LedgerError> {
        let not_writable = |e: &dyn std::fmt::Display| LedgerError::NotWritable {
            home: home.display().to_string(),
            why: e.to_string(),
        };
        let path = home.join("ledger.sqlite");
        let made = std::fs::DirBuilder::new().recursive(true).mode(0o700).create(home.join("locks"));
        let file = made
            .and_then(|()| OpenOptions::new().create(true).read(true).append(true).mode(0o600).open(&path));
        if let Err(e) = file {
            // A ledger on a medium that cannot be written can be read all the same.
            return if File::open(&path).is_ok() { Self::open_to_read(home) } else { Err(not_writable(&e)) };
        }
        let alone = Self::alone(home).map_err(|e| not_writable(&e))?;
        let db = Self::connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE).map_err(|e| match e {
            LedgerError::Store(e) => not_writable(&e),
            other => other,
        })?;
        let mut ledger = Self { db, home: home.to_owned(), read_only: false, remote: None };
        schema::prepare(&mut ledger.db, home)?;
        drop(alone);
        ledger.mark_cut_short()?;
        ledger.purge(Purge::Old)?;
        Ok(ledger)
    }

    /// Opens a ledger that lies where nothing can be written.
    fn open_to_read(home: &Path) -> Result<Self, LedgerError> {
        let db = Self::connect_to_read(&home.join("ledger.sqlite"))?;
        let version: i32 = db.pragma_query_value(None, "user_version", |r| r.get(0))?;
        match version {
            schema::VERSION => Ok(Self { db, home: home.to_owned(), read_only: true, remote: None }),
            found if found > schema::VERSION => Err(LedgerError::Newer { found, known: schema::VERSION }),
            _ => Err(LedgerError::NotWritable {
                home: home.display().to_string(),
                why: "it is of an earlier version, which must be brought up to date first: copy the folder to where it can be written".into(),
            }),
        }
    }

    fn connect_to_read(path: &Path) -> Result<Connection, LedgerError> {
        let log = path.with_file_name("ledger.sqlite-wal");
        // Without a log that still waits, nobody changes the file; with one, its index is kept in memory.
        let waits = std::fs::metadata(log).is_ok_and(|m| m.len() > 0);
        let escaped: String = path
            .to_string_lossy()
            .chars()
            .map(|c| match c {
                '%' => "%25".to_owned(),
                '?' => "%3f".to_owned(),
                '#' => "%23".to_owned(),
                c => c.to_string(),
            })
            .collect();
        let how = if waits { "mode=ro" } else { "immutable=1" };
        let flags =
            OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_URI | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(format!("file:{escaped}?{how}"), flags)?;
        if waits {
            db.pragma_update(None, "locking_mode", "EXCLUSIVE")?;
        }
        Ok(db)
    }

    /// Held while a ledger is opened: the store does not wait when two programs make the same file at once, it refuses one.
    /// A program that was frozen while it held this keeps others out for ten seconds, not for ever.
    fn alone(home: &Path) -> std::io::Result<File> {
        let path = home.join("locks/.opening");
        let file = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(path)?;
        let until = Instant::now() + Duration::from_secs(10);
        loop {
            match flock(&file, FlockOperation::NonBlockingLockExclusive) {
                Err(rustix::io::Errno::WOULDBLOCK) if Instant::now() < until => {
                    std::thread::sleep(Duration::from_millis(2));
                }
                Ok(()) | Err(rustix::io::Errno::WOULDBLOCK) => return Ok(file),
                Err(e) => return Err(e.into()),
            }
        }
    }

    fn connect(path: &Path, flags: OpenFlags) -> Result<Connection, LedgerError> {
        let db = Connection::open_with_flags(path, flags | OpenFlags::SQLITE_OPEN_NO_MUTEX)?;
        // A checkpoint to a slow disk holds others up for seconds.
        db.busy_timeout(Duration::from_secs(20))?;
        db.pragma_update(None, "journal_mode", "WAL")?;
        // A commit survives a killed program at once, and the loss of power from the next checkpoint on. Forcing each
        // one to the medium would make the drive under test flush twice a second when the ledger lies on it.
        db.pragma_update(None, "synchronous", "NORMAL")?;
        db.pragma_update(None, "foreign_keys", true)?;
        Ok(db)
    }

    /// A second connection to the same file, for another thread.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn another(&self) -> Result<Self, LedgerError> {
        let path = self.home.join("ledger.sqlite");
        let db = if self.read_only {
            Self::connect_to_read(&path)?
        } else {
            Self::connect(&path, OpenFlags::SQLITE_OPEN_READ_WRITE)?
        };
        Ok(Self { db, home: self.home.clone(), read_only: self.read_only, remote: self.remote.clone() })
    }

    /// The folder it lies in.
    #[must_use]
    pub fn home(&self) -> &Path {
        &self.home
    }

    fn lock_path(&self, haul: &str) -> PathBuf {
        self.home.join("locks").join(format!("{haul}.lock"))
    }

    /// The lock of a haul, when nobody holds it.
    fn try_lock(&self, haul: &str) -> std::io::Result<Option<File>> {
        Self::lock_in(&self.home, haul)
    }

    fn lock_in(home: &Path, haul: &str) -> std::io::Result<Option<File>> {
        // A ledger of somebody else's making must not name other files.
        if haul.is_empty() || !haul.chars().all(|c| c.is_ascii_alphanumeric()) {
            return Err(std::io::ErrorKind::InvalidFilename.into());
        }
        let file = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .mode(0o600)
            .open(home.join("locks").join(format!("{haul}.lock")))?;
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => Ok(Some(file)),
            Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }

    pub(crate) fn mark_cut_short(&self) -> Result<(), LedgerError> {
        // Of hauls of other benches nothing is known here but what they say.
        if self.is_mirror() || self.home.join("fleet-server").exists() {
            return Ok(());
        }
        let mut running = self.db.prepare("SELECT haul FROM hauls WHERE state = 'running'")?;
        let hauls: Vec<String> = running.query_map([], |r| r.get(0))?.collect::<Result<_, _>>()?;
        for haul in hauls {
            // Whoever runs it holds its lock; a lock that can be had belongs to nobody, unless the haul ended a moment ago.
            if let Ok(Some(_held)) = self.try_lock(&haul) {
                let still = "SELECT 1 FROM hauls WHERE haul = ?1 AND state = 'running'";
                if self.db.prepare_cached(still)?.exists([&haul])? {
                    let readings = self.readings(&haul).unwrap_or_default();
                    self.conclude(&haul, HaulState::CutShort, None, &readings, &readings.conclude())?;
                }
                let _ = std::fs::remove_file(self.lock_path(&haul));
            }
        }
        Ok(())
    }

    /// An identifier that no haul has: eight hexadecimal digits.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn new_haul_id(&self) -> Result<String, LedgerError> {
        loop {
            let id = format!("{:08x}", rand::random::<u32>());
            let mut taken = self.db.prepare_cached("SELECT 1 FROM hauls WHERE haul = ?1")?;
            if !taken.exists([&id])? {
                return Ok(id);
            }
        }
    }

    /// The events of a haul from this batch on, and the number of the batch that comes next: a record that still grows is followed so.
    ///
    /// # Errors
    /// When a batch cannot be read.
    pub fn events_from(&self, haul: &str, batch: i64) -> Result<(Vec<Event>, i64), LedgerError> {
        self.fetch(haul)?;
        let (mut events, mut next) = (Vec::new(), batch);
        let mut statement = self
            .db
            .prepare_cached("SELECT seq, bytes FROM batches WHERE haul = ?1 AND seq >= ?2 ORDER BY seq")?;
        let mut rows = statement.query(params![haul, batch])?;
        while let Some(r) = rows.next()? {
            let seq: i64 = r.get(0)?;
            let bytes = r.get_ref(1)?.as_blob().map_err(|e| record_error(haul, seq, &e))?;
            let decoded =
                bytes::decode(bytes, |json| serde_json::from_slice(json).map_err(|e| e.to_string()));
            events.extend(decoded.map_err(|e| record_error(haul, seq, &e))?);
            next = seq + 1;
        }
        Ok((events, next))
    }

    /// Hands the events of a haul to `take`, in order. A long record is decoded on a thread of its own, ahead of `take`.
    ///
    /// # Errors
    /// When a batch cannot be read; what came before it has been handed over.
    pub fn replay(&self, haul: &str, mut take: impl FnMut(&Event)) -> Result<(), LedgerError> {
        self.fetch(haul)?;
        let mut statement =
            self.db.prepare_cached("SELECT seq, bytes FROM batches WHERE haul = ?1 ORDER BY seq")?;
        let mut rows = statement.query([haul])?;
        let mut next = || -> Result<Option<(i64, Vec<u8>)>, LedgerError> {
            let Some(r) = rows.next()? else { return Ok(None) };
            let batch: i64 = r.get(0)?;
            let bytes = r.get_ref(1)?.as_blob().map_err(|e| record_error(haul, batch, &e))?;
            Ok(Some((batch, bytes.to_owned())))
        };
        let decoded = |(batch, bytes): (i64, Vec<u8>)| {
            bytes::decode(&bytes, |json| serde_json::from_slice(json).map_err(|e| e.to_string()))
                .map_err(|e| record_error(haul, batch, &e))
        };
        for _ in 0..AHEAD {
            let Some(batch) = next()? else { return Ok(()) };
            decoded(batch)?.iter().for_each(&mut take);
        }
        std::thread::scope(|scope| {
            let (send, batches) = sync_channel(AHEAD);
            let (done, events) = sync_channel(AHEAD);
            scope.spawn(move || {
                for batch in batches {
                    if done.send(decoded(batch)).is_err() {
                        return;
                    }
                }
            });
            let (mut under_way, mut read) = (0, Ok(()));
            loop {
                while under_way < AHEAD && read.is_ok() {
                    match next() {
                        Ok(Some(batch)) => under_way += usize::from(send.send(batch).is_ok()),
                        Ok(None) => break,
                        // What was read before it is handed over first.
                        Err(e) => read = Err(e),
                    }
                }
                if under_way == 0 {
                    return read;
                }
                under_way -= 1;
                let Ok(events) = events.recv() else { return read };
                events?.iter().for_each(&mut take);
            }
        })
    }

    /// The fold over a haul's events.
    ///
    /// # Errors
    /// When a batch cannot be read.
    pub fn readings(&self, haul: &str) -> Result<Readings, LedgerError> {
        let mut readings = Readings::new();
        self.replay(haul, |e| readings.push(e))?;
        Ok(readings)
    }

    /// The fold over a haul's events, and what is concluded from it: of a compacted one, what was concluded before that.
    ///
    /// # Errors
    /// When there is no such haul, or its record cannot be read.
    pub fn concluded(&self, haul: &str) -> Result<(Readings, Conclusions), LedgerError> {
        let readings = self.readings(haul)?;
        let conclusions = self.kept_conclusions(haul)?.unwrap_or_else(|| readings.conclude());
        Ok((readings, conclusions))
    }

    /// Begins a haul: its head is committed before this returns.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn begin(self, head: &HaulHead) -> Result<HaulWriter, LedgerError> {
        HaulWriter::begin(self, head)
    }

    pub(crate) fn insert(&self, head: &HaulHead) -> Result<(), LedgerError> {
        let json = serde_json::to_string(head).unwrap_or_default();
        let listed = Conditions { earlier: Vec::new(), recovers: None, ..head.conditions.clone() };
        let conditions = serde_json::to_string(&listed).unwrap_or_default();
        let tags = serde_json::to_string(&head.conditions.tags).unwrap_or_default();
        self.db.execute(
            "INSERT INTO hauls (haul, drive, model, serial, route, state, started_unix_ms, label, head, conditions, tags)
             VALUES (?1, ?2, ?3, ?4, ?5, 'running', ?6, ?7, ?8, ?9, ?10)",
            params![
                head.haul,
                head.drive.target,
                head.drive.model,
                head.drive.serial,
                head.route.name,
                head.started_unix_ms,
                head.conditions.label,
                json,
                conditions,
                tags
            ],
        )?;
        Ok(())
    }

    pub(crate) fn conclude(
        &self,
        haul: &str,
        state: HaulState,
        reason: Option<&str>,
        readings: &Readings,
        conclusions: &Conclusions,
    ) -> Result<(), LedgerError> {
        let findings =
            serde_json::to_string(&(&conclusions.findings, &conclusions.figures)).unwrap_or_default();
        self.db.execute(
            "UPDATE hauls SET state = ?2, reason = ?3, summary = ?4, findings = ?5 WHERE haul = ?1",
            params![haul, state.word(), reason, summary(conclusions), findings],
        )?;
        self.keep_digest(haul, readings, conclusions)?;
        // Without an overview the whole record is read: slower, and no less true.
        let _ = self.keep_overview(haul, conclusions);
        Ok(())
    }

    /// Why a haul ended as it did, where there is something to say.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn reason(&self, haul: &str) -> Result<Option<String>, LedgerError> {
        let mut statement = self.db.prepare_cached("SELECT reason FROM hauls WHERE haul = ?1")?;
        Ok(statement.query_row([haul], |r| r.get(0)).optional()?.flatten())
    }
}

/// What was found, in a few words.
#[must_use]
pub fn summary(conclusions: &Conclusions) -> String {
    let mut words: Vec<String> = Vec::new();
    let s = &conclusions.surveys;
    if let Some(v) = s.verify.as_ref().filter(|v| v.wrong_bytes > 0) {
        words.push(match v.holds_bytes {
            Some(holds) => format!("data-mismatch, holds {} only", Bytes::new(holds)),
            None => format!("data-mismatch {}", Bytes::new(v.wrong_bytes)),
        });
    }
    for likes in verdict::likes(&conclusions.findings) {
        let (kind, n) = (likes.kind, likes.all.len());
        let more = if n > 1 { format!(" and {} more", n - 1) } else { String::new() };
        let place = likes.all.first().map(|f| verdict::place_words(f)).unwrap_or_default();
        words.push(match kind {
            // The verify above told it.
            FindingKind::DataMismatch if !words.is_empty() => continue,
            FindingKind::DataMismatch
            | FindingKind::MediaError
            | FindingKind::CacheEnd
            | FindingKind::Throttle
            | FindingKind::SlowZone
            | FindingKind::OtherTraffic
            | FindingKind::FillSlowdown
            | FindingKind::OffForecast
            | FindingKind::WriteBack
            | FindingKind::Background => format!("{} {place}{more}", kind.word()),
            FindingKind::KeptWaiting => {
                let longest = s.lookout.iter().flat_map(|l| &l.kept_waiting).map(|k| k.waits.p50_us);
                let p50 = longest.fold(0.0, f64::max);
                format!("{} {}", kind.word(), latency(Duration::from_secs_f64(p50 / 1e6)))
            }
            FindingKind::Bottleneck => {
                let on = likes.all.first().and_then(|f| f.waits_for).map(|w| w.on.word());
                format!("{} {}{more}", kind.word(), on.unwrap_or_default()).trim_end().into()
            }
            // It holds of the whole.
            FindingKind::HostLimit => kind.word().into(),
            FindingKind::Outlier => {
                let figure = likes.all.first().and_then(|f| f.unlike.first());
                let figure = figure.map(|u| u.expected.figure.name().to_owned());
                format!("{} {}", kind.word(), figure.unwrap_or_default()).trim_end().into()
            }
            FindingKind::Unexplained => format!("{n} unexplained"),
        });
    }
    words.extend(s.streams.as_ref().and_then(|t| {
        let rate = t.highest_mb_s.map(|r| format!("{} held", Rate::from_mb_s(r)));
        rate.or(t.lowest_missed_mb_s.map(|r| format!("{} missed", Rate::from_mb_s(r))))
    }));
    if words.is_empty() {
        let access = s.spans.as_ref().and_then(|p| p.spans.first());
        let micros = |us: f64| latency(Duration::from_secs_f64(us / 1e6));
        words.extend(access.map(|a| format!("access {}", micros(a.access_us.mean))));
        let best = s.ladder.iter().flat_map(|l| &l.rungs).map(|r| r.mb_s).reduce(f64::max);
        words.extend(best.map(|r| format!("{} at most", Rate::from_mb_s(r))));
    }
    if words.is_empty() {
        words.push("nothing found".into());
    }
    // It is not what the route would have been, whatever was found.
    if let [first, more @ ..] = conclusions.cut_legs.as_slice() {
        let others = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
        words.insert(0, format!("leg {} ended by hand{others}", first.leg + 1));
    }
    words.join(", ")
}

#[cfg(test)]
mod archive_tests;
#[cfg(test)]
mod tests;
