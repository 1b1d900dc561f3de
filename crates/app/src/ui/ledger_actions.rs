//! What can be done to hauls in the ledger, with the file of a drive, and with a contrast.

use std::io::Write;
use std::path::PathBuf;
use std::time::Duration;

use hollow_mile_charts::scene::Scene;
use hollow_mile_core::archive::batch;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::HaulState;

use super::actions::{Action, Screen};
use super::app::App;
use super::asking::{Question, Words, Yes};
use super::making::Made;
use super::review::{Loading, Tail};
use super::views::haul::HaulView;
use super::views::surveys::SurveysView;
use crate::error::AppError;
use crate::home;
use crate::told::batch::Batched;
use crate::told::report_batch::of_batch;
use crate::told::{Compared, DriveFile, Told};
use crate::told::{report, words};

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

/// What a key may wait for a record.
const OPENS: Duration = Duration::from_millis(6);

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
            Action::Together => self.take_together(),
            Action::GoBenches => self.go_to_benches(),
            Action::Fleet => {
                let told = self.show_fleet(!self.shows_fleet());
                self.heed(told);
            }
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
                self.prompt(words, value);
            }
            Action::Delete => self.ask_to_delete(),
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
            self.show_live(haul);
            return self.go(Screen::Haul);
        }
        let row = match self.ledger.haul(haul) {
            Ok(row) => row,
            Err(e) => return self.say(e.to_string()),
        };
        // Another bench drives it: its record is followed as it comes.
        if row.state == HaulState::Running && self.ledger.is_mirror() {
            match Tail::begin(&self.ledger, &row.haul) {
                Ok(tail) => {
                    self.surveys = SurveysView::default();
                    self.haul = HaulView::kept(row, Readings::new(), Conclusions::default());
                    self.haul.tail = Some(tail);
                    self.follow_tail(OPENS);
                }
                Err(e) => return self.say(e.message),
            }
            return self.go(Screen::Haul);
        }
        if row.state == HaulState::Running {
            // Another program keeps it; when that does not answer, the record so far is shown.
            match self.attach(&row.haul) {
                Ok(()) => return,
                Err(e) => self.say(e.message),
            }
        }
        // A record that takes longer than a key may wait is read meanwhile, and its overview shown where it has one.
        let loading = match Loading::begin(&self.ledger, &row.haul) {
            Ok(loading) => loading,
            Err(e) => return self.say(e.message),
        };
        self.surveys = SurveysView::default();
        match loading.done_within(OPENS) {
            Some(Ok(whole)) => self.haul = HaulView::kept(row, whole.0, whole.1),
            Some(Err(e)) => return self.say(e),
            None => {
                let (readings, conclusions) = self.ledger.overview(&row.haul).unwrap_or_default();
                self.haul = HaulView::kept(row, readings, conclusions);
                self.haul.loading = Some(loading);
            }
        }
        self.go(Screen::Haul);
    }

    /// Waits for a record that is being read, as tests do.
    pub fn finish_loading(&mut self) {
        while self.haul.loading.is_some() {
            self.follow(Duration::from_millis(5));
        }
    }

    fn set_side_by_side(&mut self) {
        let hauls = self.archive.to_contrast();
        if hauls.len() < 2 {
            return self.say("Mark two hauls or more with m first, or group them with o.");
        }
        self.make("the contrast", move |ledger| {
            Ok(Made::Contrast(Box::new(Compared::of(ledger, &hauls, None, None)?)))
        });
    }

    /// Takes the drives of the marked hauls, of the group under the cursor, or of all that are shown, together.
    fn take_together(&mut self) {
        // Of a long list that is still being read none is left out.
        self.finish_listing();
        let rows = self.archive.to_batch();
        if rows.is_empty() {
            return self.say("There are no hauls here to take together.");
        }
        self.make("the batch", move |ledger| {
            Ok(Made::Batch(Box::new(Batched::of(ledger, &rows, &batch::Question::default())?)))
        });
    }

    /// Takes the drives of all hauls that have these words together.
    pub fn show_batch(&mut self, words: &str) {
        self.go(Screen::Ledger);
        self.archive.filter_by(words);
        self.take_together();
    }

    /// Shows who is in the fleet; hauls of all benches are shown from then on.
    fn go_to_benches(&mut self) {
        if !self.shows_fleet()
            && let Err(e) = self.show_fleet(true)
        {
            return self.say(e.message);
        }
        self.go(Screen::Benches);
    }

    pub(super) fn act_in_benches(&mut self, action: Action) {
        match action {
            Action::Open => {
                if let Some(name) = self.benches.chosen_name() {
                    self.go(Screen::Ledger);
                    self.archive.filter_by(&format!("bench={name}"));
                }
            }
            _ => self.benches.act(action),
        }
    }

    pub(super) fn act_in_batch(&mut self, action: Action) {
        match action {
            Action::Export => {
                let Some(batched) = &self.batch.batched else { return };
                let (scene, stem) = (batched.chart(), plain_name(&format!("batch-{}", batched.batch.model)));
                self.write_scene(&scene, &stem);
            }
            Action::Report => {
                let Some(batched) = self.batch.batched.clone() else { return };
                self.make("the report", move |_| Made::report(&of_batch(&batched, None), "batch"));
            }
            Action::GoBenches => self.go_to_benches(),
            Action::Open => {
                if let Some(serial) = self.batch.chosen_serial() {
                    self.open_drive_file(&serial);
                }
            }
            _ => self.batch.act(action),
        }
    }

    /// Opens all that is known of a drive.
    pub(super) fn open_drive_file(&mut self, serial: &str) {
        let (home, serial) = (self.home.clone(), serial.to_owned());
        self.make("the drive file", move |ledger| {
            Ok(Made::DriveFile(Box::new(DriveFile::of(ledger, &home, &serial)?)))
        });
    }

    /// Names what would be deleted, and asks.
    fn ask_to_delete(&mut self) {
        const NAMED: usize = 8;
        let rows = self.archive.meant_rows();
        if let Some(running) = rows.iter().find(|r| r.state == HaulState::Running) {
            return self.say(format!("Haul {} is under way: stop it before you delete it.", running.haul));
        }
        let mut lines = match rows.len() {
            0 => return,
            1 => vec!["Delete this haul? u puts it back.".to_owned()],
            n => vec![format!("Delete these {n} hauls? u puts them back.")],
        };
        let named = rows.iter().take(NAMED).map(|r| {
            let label = r.label.as_ref().map(|l| format!("  {l}")).unwrap_or_default();
            let started = words::local_time(r.started_unix_ms);
            format!("{started}  {}  {}{label}", r.serial, r.route)
        });
        lines.extend(named);
        if rows.len() > NAMED {
            lines.push(format!("and {} more", rows.len() - NAMED));
        }
        let hauls = rows.iter().map(|r| r.haul.clone()).collect();
        self.ask(Question::yes_or_no(lines, Yes::Delete(hauls)));
    }

    pub(super) fn delete_hauls(&mut self, hauls: Vec<String>) {
        match self.ledger.delete(&hauls) {
            Ok(()) => {
                let n = hauls.len();
                self.say(format!(
                    "{n} haul{} deleted: u puts {} back.",
                    if n == 1 { "" } else { "s" },
                    if n == 1 { "it" } else { "them" }
                ));
                self.deleted.push(hauls);
                let result = self.reload();
                self.heed(result);
            }
            Err(e) => self.say(e.to_string()),
        }
    }

    fn undo_delete(&mut self) {
        let Some(hauls) = self.deleted.pop() else {
            let restore = home::command_for(&self.home, "restore");
            return self.say(format!(
                "Nothing was deleted since the program began; {restore} knows what was before."
            ));
        };
        let result = self.ledger.restore(&hauls).map_err(AppError::from).and_then(|()| self.reload());
        match result {
            Ok(()) => self.say(format!("{} put back.", hauls.join(", "))),
            Err(e) => self.say(e.message),
        }
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
                self.prompt(Words::Ambient, now);
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
