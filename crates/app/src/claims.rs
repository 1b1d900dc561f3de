//! Where claims are: those that ship, for the demo's drives, and the user's own in `claims/` beside the ledger.

use std::path::{Path, PathBuf};

use hollow_mile_core::archive::claims::Claims;

use crate::error::AppError;

const SHIPPED: [&str; 8] = [
    include_str!("../claims/corrie-c1.toml"),
    include_str!("../claims/corrie-c2.toml"),
    include_str!("../claims/gannet-g2.toml"),
    include_str!("../claims/moraine-m1.toml"),
    include_str!("../claims/moraine-m2.toml"),
    include_str!("../claims/ptarmigan-p1.toml"),
    include_str!("../claims/ptarmigan-p4.toml"),
    include_str!("../claims/skerry-s8.toml"),
];

/// The user's own claims.
#[must_use]
pub fn folder(home: &Path) -> PathBuf {
    home.join("claims")
}

/// Reads one file.
///
/// # Errors
/// When it cannot be read, or is no claims file: which, where in it, and why.
pub fn read(path: &Path) -> Result<Claims, AppError> {
    let text = std::fs::read_to_string(path).map_err(|e| AppError::file(path, "read", &e))?;
    Claims::parse(&text).map_err(|e| AppError::usage(format!("{}: {e}", path.display())))
}

/// All claims, the user's before those that ship, and what is wrong with files that were left out.
#[must_use]
pub fn all(home: &Path) -> (Vec<Claims>, Vec<String>) {
    let (mut claims, mut broken) = (Vec::new(), Vec::new());
    let mut files: Vec<PathBuf> = std::fs::read_dir(folder(home))
        .map(|d| {
            d.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "toml")).collect()
        })
        .unwrap_or_default();
    files.sort();
    for path in files {
        match read(&path) {
            Ok(c) => claims.push(c),
            Err(e) => broken.push(e.message),
        }
    }
    claims.extend(SHIPPED.iter().filter_map(|t| Claims::parse(t).ok()));
    (claims, broken)
}

/// The claims of a model.
#[must_use]
pub fn of_model(home: &Path, model: &str) -> Option<Claims> {
    all(home).0.into_iter().find(|c| c.is_of(model))
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_drives::sim;

    #[test]
    fn every_claim_that_ships_reads_and_is_of_a_drive_that_ships() {
        let models: Vec<String> =
            sim::SHIPPED.iter().filter_map(|n| sim::shipped(n.0)).map(|s| s.model).collect();
        for text in SHIPPED {
            let claims = Claims::parse(text).unwrap();
            assert!(models.iter().any(|m| claims.is_of(m)), "{} is no drive of {models:?}", claims.model);
        }
    }
}
