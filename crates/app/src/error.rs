//! One face for everything that can go wrong: a sentence, and an exit code.

use hollow_mile_core::route::RouteError;
use hollow_mile_drives::linux::{DeviceError, FileError};
use hollow_mile_ledger::LedgerError;

/// How the program ends. Stable: scripts rely on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Exit {
    /// Done.
    Done = 0,
    /// Done, and a limit was missed.
    LimitMissed = 1,
    /// Usage, or a bad file.
    Usage = 2,
    /// Refused for safety.
    Refused = 3,
    /// The drive failed.
    DriveFailed = 4,
    /// Stopped by the user.
    Stopped = 5,
    /// The ledger, a file system or this machine did not do what it should.
    Machine = 6,
}

impl Exit {
    /// Each of them.
    pub const ALL: [Self; 7] = [
        Self::Done,
        Self::LimitMissed,
        Self::Usage,
        Self::Refused,
        Self::DriveFailed,
        Self::Stopped,
        Self::Machine,
    ];
}

/// Something that the user has to know, in one sentence.
#[derive(Debug, thiserror::Error)]
#[error("{message}")]
pub struct AppError {
    /// What was wrong, where, and what to do.
    pub message: String,
    /// How the program ends for it.
    pub exit: Exit,
}

impl AppError {
    /// A mistake in what was asked, or in a file.
    #[must_use]
    pub fn usage(message: impl Into<String>) -> Self {
        Self { message: message.into(), exit: Exit::Usage }
    }

    /// This machine does not give what it should: threads, signals, room, its ledger.
    #[must_use]
    pub fn machine(message: impl Into<String>) -> Self {
        Self { message: message.into(), exit: Exit::Machine }
    }

    /// A failure at a path: a name that leads nowhere is a mistake of whoever gave it, all else the system's.
    #[must_use]
    pub fn file(path: &std::path::Path, doing: &str, e: &std::io::Error) -> Self {
        use std::io::ErrorKind::{AlreadyExists, InvalidFilename, IsADirectory, NotADirectory, NotFound};
        let message = format!("{} cannot be {doing}: {e}", path.display());
        let mistaken =
            matches!(e.kind(), NotFound | AlreadyExists | IsADirectory | NotADirectory | InvalidFilename);
        if mistaken { Self::usage(message) } else { Self::machine(message) }
    }
}

impl From<LedgerError> for AppError {
    fn from(e: LedgerError) -> Self {
        let message = e.to_string();
        match e {
            LedgerError::NoSuchHaul(_)
            | LedgerError::Ambiguous { .. }
            | LedgerError::UnderWay(_)
            | LedgerError::InUse(_) => Self::usage(message),
            LedgerError::NotWritable { .. }
            | LedgerError::Newer { .. }
            | LedgerError::Damaged(_)
            | LedgerError::Busy
            | LedgerError::ReadOnly
            | LedgerError::Record { .. }
            | LedgerError::Fleet(_)
            | LedgerError::Store(_) => Self::machine(message),
        }
    }
}

impl From<FileError> for AppError {
    fn from(e: FileError) -> Self {
        // A file that is not ours is left alone for safety; most else is a matter of asking differently.
        let exit = match e {
            FileError::Exists(_) => Exit::Refused,
            FileError::System { .. } => Exit::Machine,
            _ => Exit::Usage,
        };
        Self { message: e.to_string(), exit }
    }
}

impl From<DeviceError> for AppError {
    fn from(e: DeviceError) -> Self {
        let exit = if matches!(e, DeviceError::Refused(_)) { Exit::Refused } else { Exit::Usage };
        Self { message: e.to_string(), exit }
    }
}

impl From<RouteError> for AppError {
    fn from(e: RouteError) -> Self {
        Self::usage(e.to_string())
    }
}
