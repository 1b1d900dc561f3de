//! Hauls that wait for their drive: a queue for each, in a file beside the ledger, so that it goes on without the interface and is
//! there after a power cut. Whoever changes it holds its lock; one process at a time runs it.

pub mod runner;

use std::fs::{File, OpenOptions};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;

use hollow_mile_core::quantity::units::Celsius;
use rustix::fs::{FlockOperation, flock};
use serde::{Deserialize, Serialize};

use crate::error::AppError;
use crate::orders::Orders;

/// What comes between a haul and the one before it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Between {
    /// So long nothing is done.
    pub rest: Option<Duration>,
    /// The drive has cooled to this.
    pub cool_to: Option<Celsius>,
}

/// A haul that waits.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// Of one drive.
    pub orders: Orders,
    /// Before it begins.
    #[serde(default)]
    pub between: Between,
}

impl Entry {
    /// Route and conditions in a line: `long-haul, fan, 24 °C`.
    #[must_use]
    pub fn words(&self) -> String {
        let mut parts = vec![self.orders.route.name.clone()];
        if let Some(seat) = self.orders.seats.first() {
            parts.extend(seat.conditions.label.clone());
            parts.extend(seat.conditions.cooling.clone());
            parts.extend(seat.conditions.ambient.map(|a| a.to_string()));
        }
        parts.extend(self.between.rest.map(|r| format!("after {} of rest", crate::told::words::about(r))));
        parts.extend(self.between.cool_to.map(|t| format!("once it is at {t}")));
        parts.join(", ")
    }
}

/// What waits for a drive.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Queue {
    /// The drive, as the user names it.
    pub drive: String,
    /// Nothing begins while it is.
    pub paused: bool,
    /// Why it was paused, when that was not the user's wish.
    pub trouble: Option<String>,
    /// Taken out to be begun, and not begun yet: it stands at the front again when the process that took it is gone.
    pub taken: Option<Box<Entry>>,
    /// What is under way: the haul, or what it waits for.
    pub now: Option<String>,
    /// In their order.
    pub entries: Vec<Entry>,
}

impl Queue {
    /// Where this entry stands by now: at the place where it was seen, or elsewhere when others came and went.
    #[must_use]
    pub fn place_of(&self, entry: &Entry, seen_at: usize) -> Option<usize> {
        std::iter::once(seen_at)
            .chain(0..self.entries.len())
            .find(|place| self.entries.get(*place) == Some(entry))
    }

    /// Moves an entry by so many places; the ends are the ends. Gives its new place.
    pub fn shift(&mut self, at: usize, by: isize) -> usize {
        if at >= self.entries.len() {
            return at;
        }
        let to = at.saturating_add_signed(by).min(self.entries.len() - 1);
        let entry = self.entries.remove(at);
        self.entries.insert(to, entry);
        to
    }

    /// Nothing waits in it, and there is nothing to say of it.
    #[must_use]
    pub const fn is_idle(&self) -> bool {
        self.entries.is_empty()
            && self.taken.is_none()
            && self.now.is_none()
            && self.trouble.is_none()
            && !self.paused
    }
}

/// Sets of hauls in turns: A B A B of A, B and two times; A A B B in order.
#[must_use]
pub fn repeated<T: Clone>(each: &[T], times: u32, in_turns: bool) -> Vec<T> {
    let times = times as usize;
    if in_turns {
        (0..times).flat_map(|_| each.iter().cloned()).collect()
    } else {
        each.iter().flat_map(|e| std::iter::repeat_n(e.clone(), times)).collect()
    }
}

/// Each haul on a drive is its next one.
pub fn number(entries: &mut [Entry]) {
    let mut before: Vec<(String, u64)> = Vec::new();
    for seat in entries.iter_mut().flat_map(|e| &mut e.orders.seats) {
        match before.iter_mut().find(|(d, _)| *d == seat.drive) {
            Some((_, n)) => {
                *n += 1;
                seat.number += *n;
            }
            None => before.push((seat.drive.clone(), 0)),
        }
    }
}

/// The folder of the queues of a ledger.
fn folder(home: &Path) -> PathBuf {
    home.join("queues")
}

/// A name for a file of this drive, of plain letters, another for each drive: what drives are called is not ours.
#[must_use]
pub fn plain_file_name(drive: &str) -> String {
    let mut name = String::new();
    for byte in drive.bytes() {
        if byte.is_ascii_alphanumeric() || byte == b'-' {
            name.push(char::from(byte));
        } else {
            name.push_str(&format!("_{byte:02x}"));
        }
    }
    name
}

fn file_of(home: &Path, drive: &str) -> PathBuf {
    folder(home).join(format!("{}.json", plain_file_name(drive)))
}

/// All queues that are not idle.
#[must_use]
pub fn all(home: &Path) -> Vec<Queue> {
    let files = std::fs::read_dir(folder(home)).into_iter().flatten().flatten().map(|f| f.path());
    let read = |p: PathBuf| serde_json::from_str::<Queue>(&std::fs::read_to_string(p).ok()?).ok();
    let ends = |p: &PathBuf| p.extension().is_some_and(|e| e == "json");
    let mut all: Vec<Queue> = files.filter(ends).filter_map(read).filter(|q| !q.is_idle()).collect();
    all.sort_by(|a, b| a.drive.cmp(&b.drive));
    all
}

/// Changes the queue of a drive, alone.
///
/// # Errors
/// When its file cannot be read or written, or is no queue.
pub fn change<T>(home: &Path, drive: &str, how: impl FnOnce(&mut Queue) -> T) -> Result<T, AppError> {
    let path = file_of(home, drive);
    let wrong = |e: std::io::Error| AppError::file(&path, "used as a queue", &e);
    std::fs::create_dir_all(folder(home)).map_err(wrong)?;
    let lock = path.with_extension("lock");
    let lock = OpenOptions::new().write(true).create(true).truncate(false).open(lock).map_err(wrong)?;
    flock(&lock, FlockOperation::LockExclusive).map_err(|e| wrong(e.into()))?;
    let mut queue = match std::fs::read_to_string(&path) {
        Ok(text) => serde_json::from_str(&text)
            .map_err(|e| AppError::usage(format!("{} is no queue: {e}; move it away", path.display())))?,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Queue::default(),
        Err(e) => return Err(wrong(e)),
    };
    drive.clone_into(&mut queue.drive);
    let done = how(&mut queue);
    let text = serde_json::to_string(&queue).map_err(|e| AppError::machine(format!("no JSON: {e}")))?;
    // Whole or not at all, also when the power goes.
    let new = path.with_extension("new");
    let mut file = File::create(&new).map_err(wrong)?;
    file.write_all(text.as_bytes()).and_then(|()| file.sync_data()).map_err(wrong)?;
    std::fs::rename(&new, &path).map_err(wrong)?;
    Ok(done)
}

/// Puts hauls at the end of the queues of their drives. Gives the drives.
///
/// # Errors
/// When a queue cannot be changed.
pub fn push(home: &Path, entries: Vec<Entry>) -> Result<Vec<String>, AppError> {
    let mut drives: Vec<String> = Vec::new();
    for entry in entries {
        let Some(drive) = entry.orders.seats.first().map(|s| s.drive.clone()) else { continue };
        change(home, &drive, |q| q.entries.push(entry))?;
        if !drives.contains(&drive) {
            drives.push(drive);
        }
    }
    Ok(drives)
}

/// Held by the process that runs a queue.
fn runs(home: &Path, drive: &str) -> std::io::Result<Option<File>> {
    let path = file_of(home, drive).with_extension("runs");
    let file = OpenOptions::new().write(true).create(true).truncate(false).open(path)?;
    match flock(&file, FlockOperation::NonBlockingLockExclusive) {
        Ok(()) => Ok(Some(file)),
        Err(rustix::io::Errno::WOULDBLOCK) => Ok(None),
        Err(e) => Err(e.into()),
    }
}

/// Whether a process runs it.
#[must_use]
pub fn is_run(home: &Path, drive: &str) -> bool {
    runs(home, drive).is_ok_and(|held| held.is_none())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn in_turns_is_a_b_a_b_and_in_order_a_a_b_b() {
        assert_eq!(repeated(&['A', 'B'], 2, true), ['A', 'B', 'A', 'B']);
        assert_eq!(repeated(&['A', 'B'], 2, false), ['A', 'A', 'B', 'B']);
        assert!(repeated(&['A'], 0, true).is_empty());
    }

    #[test]
    fn what_drives_are_called_is_no_path() {
        let path = |drive: &str| file_of(Path::new("/h"), drive);
        assert_eq!(path("sim:corrie-2t"), Path::new("/h/queues/sim_3acorrie-2t.json"));
        assert_eq!(path("/dev/../x"), Path::new("/h/queues/_2fdev_2f_2e_2e_2fx.json"));
        assert_ne!(path("a_b"), path("a/b"));
    }

    #[test]
    fn changes_from_many_sides_are_all_kept() {
        let dir = tempfile::tempdir().unwrap();
        std::thread::scope(|scope| {
            for _ in 0..4 {
                scope.spawn(|| {
                    for _ in 0..25 {
                        let add = |q: &mut Queue| {
                            q.trouble = Some(format!("{}x", q.trouble.as_deref().unwrap_or("")))
                        };
                        change(dir.path(), "sim:a", add).unwrap();
                    }
                });
            }
        });
        assert_eq!(all(dir.path())[0].trouble.as_deref().map(str::len), Some(100));
        std::fs::write(file_of(dir.path(), "sim:a"), "{").unwrap();
        let error = change(dir.path(), "sim:a", |_| ()).unwrap_err();
        assert!(error.message.contains("is no queue") && all(dir.path()).is_empty(), "{}", error.message);
    }
}
