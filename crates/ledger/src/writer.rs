//! Writes one haul into the ledger, event by event.

use std::fs::File;
use std::os::unix::fs::DirBuilderExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::drive::Vitals;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::bytes;
use hollow_mile_core::record::{Event, HaulHead, HaulState};
use rusqlite::params;

use crate::{Ledger, LedgerError, record_error, wear};

/// Half of the promised second, so that a slow commit still keeps the promise.
const COMMIT_EVERY: Duration = Duration::from_millis(500);
/// Commits go to the page cache, which takes them also when the disk below is gone: so often they are forced to the medium.
const FORCE_EVERY: Duration = Duration::from_secs(5);
/// A simulated haul brings more events a second than a batch should hold.
const MOST_EVENTS: usize = 16_384;

/// Writes one haul. What was pushed is committed at least once a second, for as long as something is pushed.
pub struct HaulWriter {
    ledger: Ledger,
    haul: String,
    /// Held while the haul runs; freed by the kernel when the program dies.
    _lock: File,
    pending: Vec<Event>,
    next_batch: i64,
    committed_at: Instant,
    elapsed_ns: u64,
    written: u64,
    read: u64,
    samples: u64,
    /// The first and the newest health reading, as far as they are not kept yet.
    first_vitals: Option<Box<Vitals>>,
    newest_vitals: Option<Box<Vitals>>,
    has_vitals: bool,
    /// The write-ahead log, where forcing it does not make the drive under test flush.
    log: Option<File>,
    /// None when it is to be forced now.
    forced_at: Option<Instant>,
    is_simulated: bool,
    /// Device and inode of the ledger's file, which may be removed by somebody meanwhile.
    file: (u64, u64),
    moved_to: Option<PathBuf>,
}

fn identity(home: &Path) -> Option<(u64, u64)> {
    std::fs::metadata(home.join("ledger.sqlite")).ok().map(|m| (m.dev(), m.ino()))
}

/// The ledger's log, unless the haul's file lies on the same file system. (The guard keeps a device under test from holding it.)
fn log_beside(ledger: &Ledger, head: &HaulHead) -> Option<File> {
    let device = |path: &Path| std::fs::metadata(path).map(|m| m.dev()).ok();
    let target = &head.drive.target;
    let folder = match head.drive.kind {
        DriveKind::File => target.strip_prefix("file:").and_then(|f| Path::new(f).parent()),
        DriveKind::Folder => target.strip_prefix("folder:").map(Path::new),
        _ => None,
    };
    if folder.is_some_and(|f| device(f) == device(ledger.home())) {
        return None;
    }
    // Opened now: a later fault of the disk is then told to this handle.
    File::open(ledger.home().join("ledger.sqlite-wal")).ok()
}

impl HaulWriter {
    pub(crate) fn begin(ledger: Ledger, head: &HaulHead) -> Result<Self, LedgerError> {
        ledger.is_own()?;
        let not_writable =
            |why: String| LedgerError::NotWritable { home: ledger.home().display().to_string(), why };
        let lock = ledger
            .try_lock(&head.haul)
            .map_err(|e| not_writable(e.to_string()))?
            .ok_or_else(|| not_writable(format!("haul {} is being written already", head.haul)))?;
        ledger.insert(head)?;
        Ok(Self {
            haul: head.haul.clone(),
            _lock: lock,
            pending: Vec::new(),
            next_batch: 0,
            committed_at: Instant::now(),
            elapsed_ns: 0,
            written: 0,
            read: 0,
            samples: 0,
            first_vitals: None,
            newest_vitals: None,
            has_vitals: false,
            log: log_beside(&ledger, head),
            forced_at: Some(Instant::now()),
            is_simulated: head.drive.kind == DriveKind::Simulated,
            file: identity(ledger.home()).unwrap_or_default(),
            moved_to: None,
            ledger,
        })
    }

    /// Takes an event; commits when it is time.
    ///
    /// # Errors
    /// When the ledger cannot be written; what was pending stays pending.
    pub fn push(&mut self, event: Event) -> Result<(), LedgerError> {
        self.elapsed_ns = event.at().as_nanos() as u64;
        if let Event::Sample(s) = &event {
            self.written += s.written.get();
            self.read += s.read.get();
            self.samples += 1;
        }
        if let Event::Vitals { vitals, .. } = &event {
            if !self.has_vitals {
                self.has_vitals = true;
                self.first_vitals = Some(vitals.clone());
            }
            self.newest_vitals = Some(vitals.clone());
        }
        let first = matches!(event, Event::HaulStarted(_));
        let flushed = match &event {
            Event::Flushed { .. } => true,
            Event::LegEnded { summary, .. } => summary.flush.is_some(),
            _ => false,
        };
        self.pending.push(event);
        if flushed && !self.is_simulated {
            // What the drive was told to keep through a loss of power, the ledger keeps too.
            self.forced_at = None;
            return self.commit();
        }
        if first || self.pending.len() >= MOST_EVENTS || self.committed_at.elapsed() >= COMMIT_EVERY {
            self.commit()?;
        }
        Ok(())
    }

    /// Commits what is pending.
    ///
    /// # Errors
    /// When the ledger cannot be written; what was pending stays pending.
    pub fn commit(&mut self) -> Result<(), LedgerError> {
        self.committed_at = Instant::now();
        if self.pending.is_empty() {
            return Ok(());
        }
        if identity(self.ledger.home()) != Some(self.file) {
            self.move_away()?;
        }
        let bytes = bytes::encode(&self.pending, serde_json::to_vec)
            .map_err(|e| record_error(&self.haul, self.next_batch, &e))?;
        let tx = self.ledger.db.unchecked_transaction()?;
        tx.prepare_cached("INSERT INTO batches (haul, seq, bytes) VALUES (?1, ?2, ?3)")?.execute(params![
            self.haul,
            self.next_batch,
            bytes
        ])?;
        tx.prepare_cached(
            "UPDATE hauls SET elapsed_ns = ?2, written_bytes = ?3, read_bytes = ?4, samples = ?5 WHERE haul = ?1",
        )?
        .execute(params![
            self.haul,
            self.elapsed_ns as i64,
            self.written as i64,
            self.read as i64,
            self.samples as i64
        ])?;
        for (newest, vitals) in [(false, &self.first_vitals), (true, &self.newest_vitals)] {
            if let Some(vitals) = vitals {
                wear::keep(&tx, &self.haul, newest, vitals)?;
            }
        }
        tx.commit()?;
        self.next_batch += 1;
        self.pending.clear();
        (self.first_vitals, self.newest_vitals) = (None, None);
        self.force()
    }

    /// The ledger's folder or file was removed: the open file still takes what is written, and is gone with this program. All of
    /// it is copied to another place, and the record goes on there.
    fn move_away(&mut self) -> Result<(), LedgerError> {
        let folders = [PathBuf::from("/var/tmp"), std::env::temp_dir(), PathBuf::from("/dev/shm")];
        let mut why = String::new();
        for folder in folders {
            match self.move_to(&folder.join(format!("hollow-mile-{}", self.haul))) {
                Ok(()) => return Ok(()),
                Err(e) => why = e.to_string(),
            }
        }
        Err(LedgerError::NotWritable {
            home: self.ledger.home().display().to_string(),
            why: format!(
                "it was removed while the haul was under way, and could not be kept elsewhere: {why}"
            ),
        })
    }

    fn move_to(&mut self, home: &Path) -> Result<(), LedgerError> {
        let wrong = |e: std::io::Error| LedgerError::NotWritable {
            home: home.display().to_string(),
            why: e.to_string(),
        };
        // New and ours alone: what is there already may be anybody's.
        std::fs::DirBuilder::new().mode(0o700).create(home).map_err(wrong)?;
        std::fs::DirBuilder::new().mode(0o700).create(home.join("locks")).map_err(wrong)?;
        self.ledger.db.execute("VACUUM INTO ?1", [home.join("ledger.sqlite").to_string_lossy()])?;
        // Held before it is opened, or the haul would be taken for one that was cut short.
        let lock = Ledger::lock_in(home, &self.haul).map_err(wrong)?;
        self._lock = lock.ok_or_else(|| wrong(std::io::ErrorKind::ResourceBusy.into()))?;
        self.ledger = Ledger::open(home)?;
        self.file = identity(home).unwrap_or_default();
        self.log = self.log.take().and_then(|_| File::open(home.join("ledger.sqlite-wal")).ok());
        self.moved_to = Some(home.to_owned());
        Ok(())
    }

    /// Writes a remark of our own into the record, at the newest moment.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn note(&mut self, text: &str) -> Result<(), LedgerError> {
        self.push(Event::Note { at: Duration::from_nanos(self.elapsed_ns), text: text.to_owned() })
    }

    /// Where the record is kept now, once, when the ledger was removed from where it lay.
    pub fn moved_to(&mut self) -> Option<PathBuf> {
        self.moved_to.take()
    }

    /// Forces what was committed to the medium, when it is time.
    fn force(&mut self) -> Result<(), LedgerError> {
        let due = self.forced_at.is_none_or(|at| at.elapsed() >= FORCE_EVERY);
        let Some(log) = self.log.as_ref().filter(|_| due) else { return Ok(()) };
        self.forced_at = Some(Instant::now());
        log.sync_data().map_err(|e| LedgerError::NotWritable {
            home: self.ledger.home().display().to_string(),
            why: format!("its disk does not take what was committed: {e}"),
        })
    }

    /// The fold over all that was pushed, read back from the ledger.
    ///
    /// # Errors
    /// When what is pending cannot be committed, or the record cannot be read.
    pub fn readings(&mut self) -> Result<Readings, LedgerError> {
        self.commit()?;
        self.ledger.readings(&self.haul)
    }

    /// Commits what is left and writes down how the haul ended and what was found.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn finish(
        mut self,
        state: HaulState,
        reason: Option<&str>,
        readings: &Readings,
        conclusions: &Conclusions,
    ) -> Result<Ledger, LedgerError> {
        self.commit()?;
        self.ledger.conclude(&self.haul, state, reason, readings, conclusions)?;
        // Now nothing is measured any more: the whole haul goes to the medium.
        let _ = self.ledger.db.query_row("PRAGMA wal_checkpoint(PASSIVE)", [], |_| Ok(()));
        let _ = std::fs::remove_file(self.ledger.lock_path(&self.haul));
        Ok(self.ledger)
    }
}
