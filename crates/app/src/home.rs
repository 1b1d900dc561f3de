//! Where the ledger and the user's files live.

use std::path::{Path, PathBuf};

use crate::error::AppError;

/// The folder of the ledger: `HOLLOW_MILE_HOME`, or `hollow-mile` in the XDG data folder.
///
/// # Errors
/// When neither it nor a home folder is known.
pub fn home() -> Result<PathBuf, AppError> {
    let from = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    if let Some(home) = from("HOLLOW_MILE_HOME") {
        return std::path::absolute(&home).map_err(|e| AppError::file(&home, "used as HOLLOW_MILE_HOME", &e));
    }
    // The XDG base directory specification ignores relative paths.
    from("XDG_DATA_HOME")
        .filter(|p| p.is_absolute())
        .or_else(|| from("HOME").map(|h| h.join(".local/share")))
        .map(|data| data.join("hollow-mile"))
        .ok_or_else(|| AppError::usage("no home folder is known: set HOLLOW_MILE_HOME"))
}

/// A command as it is to be typed for the ledger in this folder: with the folder before it where it is not the usual one.
#[must_use]
pub fn command_for(folder: &Path, words: &str) -> String {
    if home().is_ok_and(|usual| usual == folder) {
        return format!("`hollow-mile {words}`");
    }
    let shown = folder.display().to_string();
    let plain = shown.chars().all(|c| c.is_ascii_alphanumeric() || "/._-+:@%,".contains(c));
    let quoted = if plain { shown } else { format!("'{}'", shown.replace('\'', "'\\''")) };
    format!("`HOLLOW_MILE_HOME={quoted} hollow-mile {words}`")
}

/// The demo's own folder within it, so that it never touches the user's ledger.
#[must_use]
pub fn demo_home(home: &Path) -> PathBuf {
    home.join("demo")
}

/// The user's own routes.
#[must_use]
pub fn routes(home: &Path) -> PathBuf {
    home.join("routes")
}
