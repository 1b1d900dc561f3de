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

    /// A failure of the system under the program, at a path.
    #[must_use]
    pub fn file(path: &std::path::Path, doing: &str, e: &std::io::Error) -> Self {
        Self::usage(format!("{} cannot be {doing}: {e}", path.display()))
    }
}

impl From<LedgerError> for AppError {
    fn from(e: LedgerError) -> Self {
        Self::usage(e.to_string())
    }
}

impl From<FileError> for AppError {
    fn from(e: FileError) -> Self {
        // A file that is not ours is left alone for safety; everything else is a matter of asking differently.
        let exit = if matches!(e, FileError::Exists(_)) { Exit::Refused } else { Exit::Usage };
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
