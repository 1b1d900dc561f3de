//! Standing limits: in `limits/` beside the ledger, a TOML file for a model.

use std::path::{Path, PathBuf};

use hollow_mile_core::archive::standing::Standing;
use hollow_mile_core::drive::DriveIdentity;
use hollow_mile_core::route::{Limit, Route};

use crate::error::AppError;

/// Where they are.
#[must_use]
pub fn folder(home: &Path) -> PathBuf {
    home.join("limits")
}

/// A file and what it holds.
pub type Kept = (PathBuf, Result<Standing, AppError>);

/// Reads one file.
///
/// # Errors
/// When it cannot be read, or holds no standing limits: which, where in it, and why.
pub fn read(path: &Path) -> Result<Standing, AppError> {
    let text = std::fs::read_to_string(path).map_err(|e| AppError::file(path, "read", &e))?;
    Standing::parse(&text).map_err(|e| AppError::usage(format!("{}: {e}", path.display())))
}

/// Every file with what it holds, by name.
///
/// # Errors
/// When the folder is there and cannot be read.
pub fn all(home: &Path) -> Result<Vec<Kept>, AppError> {
    let folder = folder(home);
    let entries = match std::fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(e) => return Err(AppError::file(&folder, "read", &e)),
    };
    let is_ours = |p: &PathBuf| p.extension().is_some_and(|e| e == "toml");
    let mut files: Vec<PathBuf> = entries.flatten().map(|e| e.path()).filter(is_ours).collect();
    files.sort();
    Ok(files.into_iter().map(|f| (f.clone(), read(&f))).collect())
}

/// The standing limits of a haul: of its model, firmware and route.
///
/// # Errors
/// When a file cannot be read: it may hold what this haul would have to meet.
pub fn of_haul(home: &Path, drive: &DriveIdentity, route: &Route) -> Result<Vec<Limit>, AppError> {
    let mut limits: Vec<Limit> = Vec::new();
    for (_, standing) in all(home)? {
        for limit in standing?.of_haul(drive, route) {
            if !limits.contains(&limit) {
                limits.push(limit);
            }
        }
    }
    Ok(limits)
}
