//! What was entered for a drive and is there next time: a file a drive beside the ledger. Consent to lose data is never kept.

use std::path::{Path, PathBuf};

use hollow_mile_core::record::Conditions;
use hollow_mile_core::route::Route;
use serde::{Deserialize, Serialize};

use crate::error::AppError;
use crate::queue::plain_file_name;

/// What was entered last for a drive.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Drafts {
    /// The route that was looked at last.
    pub last: Option<String>,
    /// Routes that were changed, as they are now.
    pub routes: Vec<Route>,
    /// As they were stated last.
    pub conditions: Conditions,
    /// Of a file.
    pub path: Option<String>,
    /// Of a file, as it was typed.
    pub size: Option<String>,
    /// The haul goes on when its terminal goes.
    pub goes_on: bool,
}

fn file_of(home: &Path, drive: &str) -> PathBuf {
    home.join("drafts").join(format!("{}.json", plain_file_name(drive)))
}

impl Drafts {
    /// Of this drive; nothing where there are none, or none that this version can read.
    #[must_use]
    pub fn read(home: &Path, drive: &str) -> Self {
        let text = std::fs::read_to_string(file_of(home, drive)).unwrap_or_default();
        let mut read: Self = serde_json::from_str(&text).unwrap_or_default();
        read.routes.retain(|r| r.check().is_ok());
        read
    }

    /// Keeps them, whole or not at all.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn write(&self, home: &Path, drive: &str) -> Result<(), AppError> {
        let path = file_of(home, drive);
        let wrong = |e: std::io::Error| AppError::file(&path, "written", &e);
        let text = serde_json::to_string(self).map_err(|e| AppError::machine(format!("no JSON: {e}")))?;
        std::fs::create_dir_all(path.parent().unwrap_or(home)).map_err(wrong)?;
        let new = path.with_extension("new");
        std::fs::write(&new, text).map_err(wrong)?;
        std::fs::rename(&new, &path).map_err(wrong)
    }

    /// The route as it was changed, or as it is.
    #[must_use]
    pub fn of(&self, route: &Route) -> Route {
        self.routes.iter().find(|r| r.name == route.name).unwrap_or(route).clone()
    }

    /// Takes a route as it is now; one that is as it was shipped needs no keeping.
    pub fn take(&mut self, now: &Route, as_it_was: Option<&Route>) {
        self.routes.retain(|r| r.name != now.name);
        if as_it_was != Some(now) {
            self.routes.push(now.clone());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_entered_is_there_again_and_what_was_taken_back_is_not() {
        let dir = tempfile::tempdir().unwrap();
        let route = hollow_mile_core::route::shipped("long-haul").unwrap();
        let mut changed = route.clone();
        changed.interval = std::time::Duration::from_millis(200);
        let mut drafts = Drafts { last: Some("long-haul".into()), goes_on: true, ..Drafts::default() };
        drafts.take(&changed, Some(&route));
        drafts.write(dir.path(), "/dev/sd a").unwrap();
        let read = Drafts::read(dir.path(), "/dev/sd a");
        assert_eq!(read, drafts);
        assert_eq!(read.of(&route), changed);
        assert_eq!(Drafts::read(dir.path(), "/dev/sdb"), Drafts::default());
        drafts.take(&route, Some(&route));
        assert!(drafts.routes.is_empty());
        std::fs::write(file_of(dir.path(), "/dev/sd a"), "[").unwrap();
        assert_eq!(
            Drafts::read(dir.path(), "/dev/sd a"),
            Drafts::default(),
            "torn, and no reason to fall over"
        );
    }
}
