//! What takes longer than a key may wait: reports, contrasts and drive files are made by a thread of their own.

use std::time::Instant;

use crossbeam_channel::{Receiver, TryRecvError, bounded};
use hollow_mile_charts::pdf;
use hollow_mile_charts::report::Report;
use hollow_mile_ledger::Ledger;

use super::actions::Screen;
use super::app::App;
use super::ledger_actions::write_beside;
use super::review::spawn;
use super::views::batch::BatchView;
use super::views::contrast::ContrastView;
use super::views::drive_file::DriveFileView;
use crate::error::AppError;
use crate::told::batch::Batched;
use crate::told::{Compared, DriveFile};

/// What was made.
pub enum Made {
    /// Pages of a PDF, and the beginning of their file's name.
    Pages(String, Vec<u8>),
    /// Hauls side by side.
    Contrast(Box<Compared>),
    /// Drives taken together.
    Batch(Box<Batched>),
    /// All that is known of a drive.
    DriveFile(Box<DriveFile>),
}

impl Made {
    /// A report, laid out.
    ///
    /// # Errors
    /// When a page cannot be written as PDF.
    pub fn report(report: &Report, stem: &str) -> Result<Self, AppError> {
        let bytes = pdf::pages(&report.pages()).map_err(|e| AppError::usage(e.to_string()))?;
        Ok(Self::Pages(format!("{stem}-report"), bytes))
    }
}

/// Something that is being made.
pub struct Making {
    what: &'static str,
    asked_on: Screen,
    since: Instant,
    done: Receiver<Result<Made, AppError>>,
}

impl Making {
    /// `Making the report: 3 s.`
    #[must_use]
    pub fn words(&self) -> String {
        format!("Making {}: {} s.", self.what, self.since.elapsed().as_secs())
    }

    /// What it came to; `None` while it is made.
    fn done(&self) -> Option<Result<Made, AppError>> {
        match self.done.try_recv() {
            Ok(made) => Some(made),
            Err(TryRecvError::Empty) => None,
            Err(TryRecvError::Disconnected) => {
                let words = format!("{} was not made: its thread ended in a fault", self.what);
                Some(Err(AppError::machine(words)))
            }
        }
    }
}

impl App {
    /// Begins to make something. What was being made and is not done is given up: the newer request counts.
    pub(super) fn make(
        &mut self,
        what: &'static str,
        make: impl FnOnce(&Ledger) -> Result<Made, AppError> + Send + 'static,
    ) {
        let (give, done) = bounded(1);
        let begun = self.ledger.another().map_err(AppError::from).and_then(|ledger| {
            spawn("making", move || {
                // Nobody takes it when a newer request has come.
                let _ = give.send(make(&ledger));
            })
        });
        match begun {
            Ok(()) => self.making = Some(Making { what, asked_on: self.screen, since: Instant::now(), done }),
            Err(e) => self.say(e.message),
        }
    }

    /// Takes what was made. True when something was.
    pub(super) fn take_made(&mut self) -> bool {
        let Some(made) = self.making.as_ref().and_then(Making::done) else { return false };
        let asked_on = self.making.take().map(|m| m.asked_on);
        let (screen, what) = match made {
            Err(e) => {
                self.say(e.message);
                return true;
            }
            Ok(Made::Pages(stem, bytes)) => {
                let written = write_beside(self, &stem, "pdf", &bytes);
                self.told_written("Report", written);
                return true;
            }
            Ok(Made::Contrast(compared)) => {
                self.contrast = ContrastView::of(*compared);
                (Screen::Contrast, "contrast")
            }
            Ok(Made::Batch(batched)) => {
                self.batch = BatchView::of(*batched);
                (Screen::Batch, "batch")
            }
            Ok(Made::DriveFile(file)) => {
                self.drive_file = DriveFileView::of(*file);
                (Screen::DriveFile, "drive file")
            }
        };
        // Whoever went on meanwhile is not called back.
        if asked_on == Some(self.screen) {
            self.go(screen);
        } else {
            self.comes_before(screen);
            self.say(format!("The {what} is there: Esc shows it."));
        }
        true
    }

    /// Waits for what is being made, as tests do.
    pub fn finish_making(&mut self) {
        while self.making.is_some() && !self.take_made() {
            std::thread::sleep(std::time::Duration::from_millis(2));
        }
    }
}
