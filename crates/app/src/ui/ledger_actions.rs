//! What can be done to hauls in the ledger, with the file of a drive, and with a contrast.

use crate::told::tags::{retagged, tags_of};
use std::io::Write;
use std::path::PathBuf;

use hollow_mile_charts::scene::Scene;
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::record::HaulState;
use tui_input::Input;

use super::actions::{Action, Screen};
use super::app::{App, Overlay, Words};
use super::making::Made;
use super::review::Loading;
use super::views::haul::HaulView;
use crate::error::AppError;
use crate::told::report;
use crate::told::{Compared, DriveFile, Told};

/// Writes a file of this name into the present folder, or into the ledger's when that cannot be written; one that exists is
/// left alone.
///
/// # Errors
/// When neither folder can be written.
pub(super) fn write_beside(app: &App, stem: &str, ending: &str, bytes: &[u8]) -> Result<PathBuf, AppError> {
    let folders = [std::env::current_dir().unwrap_or_default(), app.home.clone()];
    let mut last = AppError::usage("No folder can be written.");
    for folder in folders {
        for n in 0..100 {
            let more = if n == 0 { String::new() } else { format!("-{n}") };
            let path = folder.join(format!("{stem}{more}.{ending}"));
            let made = std::fs::OpenOptions::new().write(true).create_new(true).open(&path);
            match made.and_then(|mut f| f.write_all(bytes)) {
                Ok(()) => return Ok(path),
                Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {}
                Err(e) => {
                    last = AppError::file(&path, "written", &e);
                    break;
                }
            }
        }
    }
    Err(last)
}

impl App {
    pub(super) fn act_in_ledger(&mut self, action: Action) {
        let chosen = self.archive.chosen_row().cloned();
        match action {
            Action::Open => {
                if let Some(row) = chosen {
                    self.open_haul(&row.haul);
                }
            }
            Action::SideBySide => self.set_side_by_side(),
            Action::DriveFile => {
                if let Some(row) = chosen {
                    self.open_drive_file(&row.serial);
                }
            }
            Action::Rename | Action::Tags | Action::Note => {
                let Some(row) = chosen else { return };
                let (words, value) = match action {
                    Action::Rename => (Words::Label, row.label.unwrap_or_default()),
                    Action::Note => (Words::Note, row.note.unwrap_or_default()),
                    _ => {
                        let tags: Vec<String> =
                            row.conditions.tags.iter().map(|(k, v)| format!("{k}={v}")).collect();
                        (Words::Tags, tags.join(", "))
                    }
                };
                self.overlay = Some(Overlay::Words(words, Input::new(value)));
            }
            Action::Delete => self.delete_hauls(),
            Action::Undo => self.undo_delete(),
            Action::Report => {
                let hauls = self.archive.meant();
                self.write_report(&hauls);
            }
            _ => self.archive.act(action),
        }
    }

    /// Opens a haul as it was live.
    pub(super) fn open_haul(&mut self, haul: &str) {
        if self.live.iter().any(|l| l.haul == haul) {
            self.haul = HaulView::live(haul);
            return self.go(Screen::Haul);
        }
        let row = match self.ledger.haul(haul) {
            Ok(row) => row,
            Err(e) => return self.say(e.to_string()),
        };
        if row.state == HaulState::Running {
            // Another program keeps it; when that does not answer, the record so far is shown.
            match self.attach(&row.haul) {
                Ok(()) => return,
                Err(e) => self.say(e.message),
            }
        }
        // A long record is read meanwhile.
        if let Some((readings, conclusions)) = self.ledger.overview(&row.haul)
            && let Ok(loading) = Loading::begin(&self.ledger, &row.haul)
        {
            self.haul = HaulView::kept(row, readings, conclusions);
            self.haul.loading = Some(loading);
            return self.go(Screen::Haul);
        }
        match self.ledger.concluded(&row.haul) {
            Ok((readings, conclusions)) => {
                self.haul = HaulView::kept(row, readings, conclusions);
                self.go(Screen::Haul);
            }
            Err(e) => self.say(e.to_string()),
        }
    }

    fn set_side_by_side(&mut self) {
        let hauls = self.archive.marked.clone();
        if hauls.len() < 2 {
            return self.say("Mark two hauls or more with m first.");
        }
        self.make("the contrast", move |ledger| {
            Ok(Made::Contrast(Box::new(Compared::of(ledger, &hauls, None, None)?)))
        });
    }

    /// Opens all that is known of a drive.
    pub(super) fn open_drive_file(&mut self, serial: &str) {
        let (home, serial) = (self.home.clone(), serial.to_owned());
        self.make("the drive file", move |ledger| {
            Ok(Made::DriveFile(Box::new(DriveFile::of(ledger, &home, &serial)?)))
        });
    }

    fn delete_hauls(&mut self) {
        let hauls = self.archive.meant();
        if hauls.is_empty() {
            return;
        }
        match self.ledger.delete(&hauls) {
            Ok(()) => {
                let n = hauls.len();
                self.say(format!(
                    "{n} haul{} deleted: u puts {} back.",
                    if n == 1 { "" } else { "s" },
                    if n == 1 { "it" } else { "them" }
                ));
                self.deleted.push(hauls);
                self.archive.marked.clear();
                let result = self.reload();
                self.heed(result);
            }
            Err(e) => self.say(e.to_string()),
        }
    }

    fn undo_delete(&mut self) {
        let Some(hauls) = self.deleted.pop() else {
            return self.say(
                "Nothing was deleted since the program began; `hollow-mile restore` knows what was before.",
            );
        };
        let result = self.ledger.restore(&hauls).map_err(AppError::from).and_then(|()| self.reload());
        match result {
            Ok(()) => self.say(format!("{} put back.", hauls.join(", "))),
            Err(e) => self.say(e.message),
        }
    }

    /// Takes what was typed about a haul, or about a contrast.
    pub(super) fn take_words(&mut self, words: Words, text: &str) {
        let text = text.trim();
        let some = (!text.is_empty()).then_some(text);
        if words == Words::Ambient {
            let ambient = match some.map(str::parse::<Celsius>).transpose() {
                Ok(ambient) => ambient,
                Err(e) => return self.say(e.to_string()),
            };
            let changed = self.contrast.compared.as_mut().map_or(Ok(()), |c| c.in_air_of(ambient));
            return self.heed(changed);
        }
        let Some(row) = self.archive.chosen_row().cloned() else { return };
        let done = match words {
            Words::Label => self.ledger.rename(&row.haul, some).map_err(AppError::from),
            Words::Note => self.ledger.note(&row.haul, some).map_err(AppError::from),
            _ => tags_of(text).and_then(|tags| {
                // A tag given twice counts as it was given last.
                let tags = tags.iter().fold(Vec::new(), |all, t| retagged(all, std::slice::from_ref(t), &[]));
                Ok(self.ledger.tag(&row.haul, &tags)?)
            }),
        };
        let result = done.and_then(|()| self.reload());
        self.heed(result);
    }

    pub(super) fn act_in_contrast(&mut self, action: Action) {
        match action {
            Action::Export => {
                let Some(compared) = &self.contrast.compared else { return };
                let scene = compared.chart(self.contrast.ruler);
                self.write_scene(&scene, "contrast");
            }
            Action::Report => {
                let Some(compared) = &self.contrast.compared else { return };
                let (subjects, by) = (compared.subjects.clone(), compared.by.clone());
                let ambient = self.contrast.ambient();
                self.make("the report", move |ledger| {
                    let compared = Compared::with(ledger, subjects, by, ambient)?;
                    Made::report(&report::of_contrast(&compared, None), "contrast")
                });
            }
            Action::Ambient => {
                let now = self.contrast.ambient().map(|a| a.to_string()).unwrap_or_default();
                self.overlay = Some(Overlay::Words(Words::Ambient, Input::new(now)));
            }
            _ => self.contrast.act(action),
        }
    }

    pub(super) fn act_in_drive_file(&mut self, action: Action) {
        match action {
            Action::Open => {
                if let Some(haul) = self.drive_file.chosen_haul() {
                    self.open_haul(&haul);
                }
            }
            Action::Export => {
                let Some(file) = &self.drive_file.file else { return };
                let stem = format!("{}-wear", plain_name(&file.identity.serial));
                let scene = file.wear_chart();
                self.write_scene(&scene, &stem);
            }
            _ => self.drive_file.act(action),
        }
    }

    fn write_scene(&mut self, scene: &Scene, stem: &str) {
        let written = write_beside(self, stem, "svg", scene.to_svg().as_bytes());
        self.told_written("Chart", written);
    }

    /// Writes a report on one haul, or on several side by side.
    pub(super) fn write_report(&mut self, hauls: &[String]) {
        let (home, hauls) = (self.home.clone(), hauls.to_vec());
        match hauls.len() {
            0 => {}
            1 => self.make("the report", move |ledger| {
                let told = Told::of_haul(ledger, &home, &hauls[0])?;
                Made::report(&report::of_haul(&told, None, None)?, &hauls[0])
            }),
            _ => self.make("the report", move |ledger| {
                let compared = Compared::of(ledger, &hauls, None, None)?;
                Made::report(&report::of_contrast(&compared, None), "contrast")
            }),
        }
    }

    pub(super) fn told_written(&mut self, what: &str, written: Result<PathBuf, AppError>) {
        match written {
            Ok(path) => self.say(format!("{what} written: {}", path.display())),
            Err(e) => self.say(e.message),
        }
    }
}

/// A name for a file, of letters and digits alone: serials come from drives.
fn plain_name(text: &str) -> String {
    let name: String =
        text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '-' }).collect();
    if name.is_empty() { "drive".into() } else { name }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_of_files_are_plain() {
        assert_eq!(plain_name("../KW 0417\u{1b}"), "---KW-0417-");
    }
}
