//! Files of our own that a killed program could not remove.
//!
//! A file target is announced here with its mark before it is made, written down with all that it is known by before its
//! first byte, and struck off when it is removed. What is still here and belongs to no running haul was left behind. Device
//! and inode do not tell a file: file systems hand the number of a removed file to the next one. It is removed only when it
//! also carries the random mark that it was made with or, where the file system keeps no attributes, has the same time of
//! birth and begins with data of ours or none. All else is left alone, and said.

use std::io::Read;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::drive::stamp::{FILE_MARK, FOLDER_MARK, FOLDER_NAME, is_ours};
use hollow_mile_core::quantity::units::Bytes;
use rusqlite::params;
use rustix::fs::lgetxattr;

use crate::{Ledger, LedgerError};

/// A file, or a folder of files, that a haul left behind.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Leftover {
    /// Where.
    pub path: PathBuf,
    /// Room that it takes on its file system.
    pub size: Bytes,
    /// By which haul.
    pub haul: String,
    /// It is that haul's file beyond doubt; what is not is never removed.
    pub certain: bool,
}

/// What a file is known again by.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Known {
    device: i64,
    inode: i64,
    mark: Option<String>,
    born_ns: Option<i64>,
}

impl Known {
    fn of(path: &Path) -> std::io::Result<(Self, std::fs::Metadata)> {
        let meta = std::fs::symlink_metadata(path)?;
        let mark = if meta.is_dir() { folder_mark(path) } else { file_mark(path) };
        let born = meta.created().ok().and_then(|t| t.duration_since(std::time::UNIX_EPOCH).ok());
        let born_ns = born.and_then(|t| i64::try_from(t.as_nanos()).ok()).filter(|t| *t > 0);
        Ok((Self { device: meta.dev() as i64, inode: meta.ino() as i64, mark, born_ns }, meta))
    }

    /// Announced, and not yet made or not yet seen.
    const fn announced(mark: String) -> Self {
        Self { device: 0, inode: 0, mark: Some(mark), born_ns: None }
    }

    /// It may be the file that was written down. Of one that was only announced, the mark alone tells; of a folder of ours
    /// also its random name and that nothing is in it.
    fn is_maybe(&self, noted: &Self, path: &Path) -> bool {
        if (noted.device, noted.inode) == (0, 0) {
            return self.mark == noted.mark || is_own_empty_folder(path);
        }
        (self.device, self.inode) == (noted.device, noted.inode)
    }

    /// It is the file that was written down, beyond doubt.
    fn is_surely(&self, noted: &Self, path: &Path) -> bool {
        match &noted.mark {
            // Killed before its mark lay in it, or after that was removed as the last.
            _ if is_own_empty_folder(path) => true,
            Some(mark) => self.mark.as_ref() == Some(mark),
            None => noted.born_ns.is_some() && self.born_ns == noted.born_ns && begins_like_ours(path),
        }
    }
}

/// The mark of a file: an attribute.
fn file_mark(path: &Path) -> Option<String> {
    let mut value = [0u8; 64];
    let n = lgetxattr(path, FILE_MARK, &mut value).ok()?;
    String::from_utf8(value.get(..n)?.to_vec()).ok()
}

/// The mark of a folder: a file in it, which is no link.
fn folder_mark(path: &Path) -> Option<String> {
    let file = path.join(FOLDER_MARK);
    std::fs::symlink_metadata(&file).ok().filter(std::fs::Metadata::is_file)?;
    let mut text = String::new();
    std::fs::File::open(&file).ok()?.take(64).read_to_string(&mut text).ok()?;
    Some(text.trim().to_owned()).filter(|t| t.len() == 32)
}

/// What lies in a folder, in all folders of it.
fn size_below(folder: &Path) -> u64 {
    let (mut sum, mut open) = (0, vec![folder.to_owned()]);
    while let Some(next) = open.pop() {
        for entry in std::fs::read_dir(next).into_iter().flatten().flatten() {
            match entry.metadata() {
                Ok(meta) if meta.is_dir() => open.push(entry.path()),
                Ok(meta) => sum += meta.blocks() * 512,
                Err(_) => {}
            }
        }
    }
    sum
}

/// A folder, and no link to one, with a random name as we give it and nothing in it. A user's own folder may lie where a file
/// was announced.
fn is_own_empty_folder(path: &Path) -> bool {
    let name = path.file_name().and_then(|n| n.to_str()).and_then(|n| n.strip_prefix(FOLDER_NAME));
    name.is_some_and(|n| n.len() == 16 && n.bytes().all(|b| b.is_ascii_hexdigit()))
        && std::fs::symlink_metadata(path).is_ok_and(|m| m.is_dir())
        && std::fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none())
}

/// Its first 4 KiB are of ours, or were never written.
fn begins_like_ours(path: &Path) -> bool {
    let mut head = Vec::new();
    let read = std::fs::File::open(path).and_then(|f| f.take(4096).read_to_end(&mut head));
    read.is_ok() && (head.iter().all(|b| *b == 0) || is_ours(&head))
}

impl Ledger {
    /// Writes down that `haul` made this file.
    ///
    /// # Errors
    /// When the file is not there or the ledger cannot be written.
    pub fn note_file(&self, path: &Path, haul: &str) -> Result<(), LedgerError> {
        let (known, _) = Known::of(path)
            .map_err(|e| LedgerError::NotWritable { home: path.display().to_string(), why: e.to_string() })?;
        self.keep(path, haul, &known)
    }

    /// Writes down that `haul` is about to make this file or folder, with this mark: whenever the program is killed from
    /// here on, the file is known. [`Self::note_file`] follows when it is there.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn announce_file(&self, path: &Path, haul: &str, mark: &str) -> Result<(), LedgerError> {
        self.keep(path, haul, &Known::announced(mark.to_owned()))
    }

    fn keep(&self, path: &Path, haul: &str, known: &Known) -> Result<(), LedgerError> {
        self.db.execute(
            "INSERT OR REPLACE INTO leftovers (path, device, inode, haul, mark, born_ns)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![path.to_string_lossy(), known.device, known.inode, haul, known.mark, known.born_ns],
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
            "SELECT l.path, l.haul, l.device, l.inode, l.mark, l.born_ns FROM leftovers l
             LEFT JOIN hauls h ON h.haul = l.haul WHERE h.state IS NULL OR h.state <> 'running'",
        )?;
        let rows: Vec<(String, String, Known)> = statement
            .query_map([], |r| {
                let known =
                    Known { device: r.get(2)?, inode: r.get(3)?, mark: r.get(4)?, born_ns: r.get(5)? };
                Ok((r.get(0)?, r.get(1)?, known))
            })?
            .collect::<Result<_, _>>()?;
        let mut found = Vec::new();
        for (path, haul, noted) in rows {
            let path = PathBuf::from(path);
            match Known::of(&path) {
                Ok((now, meta)) if (meta.is_file() || meta.is_dir()) && now.is_maybe(&noted, &path) => {
                    let certain = now.is_surely(&noted, &path);
                    let size = if meta.is_dir() { size_below(&path) } else { meta.blocks() * 512 };
                    found.push(Leftover { path, size: Bytes::new(size), haul, certain });
                }
                // Gone, or another file by now: not ours to touch.
                Ok(_) => self.strike_file(&path)?,
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => self.strike_file(&path)?,
                Err(_) => {}
            }
        }
        Ok(found)
    }

    /// Removes a file that was left behind, if it is still the same beyond doubt; else it is left alone and no longer
    /// listed. Tells whether it was removed. A folder of files is removed by `clear`, which knows what of it is ours.
    ///
    /// # Errors
    /// When it cannot be removed.
    pub fn remove_leftover(
        &self,
        leftover: &Leftover,
        clear: impl FnOnce(&Path) -> Result<(), String>,
    ) -> Result<bool, LedgerError> {
        let Some(now) = self.leftovers()?.into_iter().find(|l| l.path == leftover.path) else {
            return Ok(false);
        };
        if now.certain {
            let removed = if leftover.path.is_dir() {
                // Where anything is in it, this does nothing.
                std::fs::remove_dir(&leftover.path).or_else(|_| clear(&leftover.path))
            } else {
                std::fs::remove_file(&leftover.path).map_err(|e| e.to_string())
            };
            let home = leftover.path.display().to_string();
            removed.map_err(|why| LedgerError::NotWritable { home, why })?;
        }
        self.strike_file(&leftover.path)?;
        Ok(now.certain)
    }
}
