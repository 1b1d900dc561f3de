//! Files of our own that a killed program could not remove.
//!
//! A file target is written down here before its first byte is written and struck off when it is removed. What is
//! still here and belongs to no running haul was left behind. It is removed only if it is the same file still: same
//! device, same inode.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::units::Bytes;
use rusqlite::params;

use crate::{Ledger, LedgerError};

/// A file that a haul left behind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// Where.
    pub path: PathBuf,
    /// Room that it takes on its file system.
    pub size: Bytes,
    /// By which haul.
    pub haul: String,
}

impl Ledger {
    /// Writes down that `haul` made this file.
    ///
    /// # Errors
    /// When the file is not there or the ledger cannot be written.
    pub fn note_file(&self, path: &Path, haul: &str) -> Result<(), LedgerError> {
        let meta = std::fs::metadata(path)
            .map_err(|e| LedgerError::NotWritable { home: path.display().to_string(), why: e.to_string() })?;
        self.db.execute(
            "INSERT OR REPLACE INTO leftovers (path, device, inode, haul) VALUES (?1, ?2, ?3, ?4)",
            params![path.to_string_lossy(), meta.dev() as i64, meta.ino() as i64, haul],
        )?;
        Ok(())
    }

    /// Strikes a file off, after it was removed.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn strike_file(&self, path: &Path) -> Result<(), LedgerError> {
        self.db.execute("DELETE FROM leftovers WHERE path = ?1", [path.to_string_lossy()])?;
        Ok(())
    }

    /// Files that were left behind by hauls that no longer run. Entries whose file is gone are struck off.
    ///
    /// # Errors
    /// When the ledger cannot be read.
    pub fn leftovers(&self) -> Result<Vec<Leftover>, LedgerError> {
        let mut statement = self.db.prepare(
            "SELECT l.path, l.device, l.inode, l.haul FROM leftovers l
             LEFT JOIN hauls h ON h.haul = l.haul WHERE h.state IS NULL OR h.state <> 'running'",
        )?;
        let rows: Vec<(String, i64, i64, String)> = statement
            .query_map([], |r| Ok((r.get(0)?, r.get(1)?, r.get(2)?, r.get(3)?)))?
            .collect::<Result<_, _>>()?;
        let mut found = Vec::new();
        for (path, device, inode, haul) in rows {
            let path = PathBuf::from(path);
            match std::fs::symlink_metadata(&path) {
                Ok(m) if m.is_file() && m.dev() as i64 == device && m.ino() as i64 == inode => {
                    found.push(Leftover { path, size: Bytes::new(m.blocks() * 512), haul });
                }
                // Gone, or another file by now: not ours to touch.
                Ok(_) => self.strike_file(&path)?,
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => self.strike_file(&path)?,
                Err(_) => {}
            }
        }
        Ok(found)
    }

    /// Removes a file that was left behind, if it is still the same.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn remove_leftover(&self, leftover: &Leftover) -> Result<(), LedgerError> {
        if self.leftovers()?.contains(leftover) {
            std::fs::remove_file(&leftover.path).map_err(|e| LedgerError::NotWritable {
                home: leftover.path.display().to_string(),
                why: e.to_string(),
            })?;
            self.strike_file(&leftover.path)?;
        }
        Ok(())
    }
}
