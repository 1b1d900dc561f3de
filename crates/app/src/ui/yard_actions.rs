//! What can be done with a drive: in the yard, and where its health is shown.

use hollow_mile_core::drive::DriveKind;

use super::actions::{Action, Screen};
use super::app::App;
use super::frame::{Spot, spot_at};
use super::live::Live;
use super::views::route::{OnDrive, RouteView};
use super::views::vitals::VitalsView;
use crate::drafts::Drafts;
use crate::error::AppError;
use crate::machine;
use crate::targets::{self, Target};

impl App {
    /// A row of the list on screen was pressed: the cursor goes there, and from there the row opens.
    pub(super) fn choose(&mut self, row: usize) {
        let there = match self.screen {
            Screen::Yard => self.yard.press(row),
            Screen::Ledger => self.archive.press(row),
            Screen::DriveFile => self.drive_file.press(row),
            Screen::Benches => self.benches.press(row),
            Screen::Route => self.route.press(row),
            Screen::Haul | Screen::Surveys | Screen::Vitals | Screen::Contrast | Screen::Batch => false,
        };
        if there {
            self.act(Action::Open);
        }
    }

    /// What lies under the mouse.
    pub(super) fn spot(&self, x: u16, y: u16) -> Option<Spot> {
        spot_at(&self.spots.borrow(), x, y)
    }

    pub(super) fn act_in_yard(&mut self, action: Action) {
        self.yard.touch();
        match action {
            Action::Open => {
                let (routes, broken) = targets::all_routes(&self.home);
                if let Some(first) = broken.first() {
                    self.say(format!("Left out: {first}"));
                }
                let drives: Vec<OnDrive> = self
                    .yard
                    .meant()
                    .into_iter()
                    .map(|row| OnDrive::of(row, &self.ledger, self.archive.all()))
                    .collect();
                if !drives.is_empty() {
                    let drafts = drives.first().map(|d| Drafts::read(&self.home, d.target()));
                    self.route = RouteView::plan(drives, routes, drafts.unwrap_or_default());
                    self.go(Screen::Route);
                }
            }
            Action::Queue => self.show_queue(),
            Action::Simulated => {
                let all = !self.yard.shows_simulated();
                self.yard.show_simulated(all);
                self.say(if all {
                    "All simulated drives that ship with it are shown; i hides those without a haul."
                } else {
                    "Simulated drives without a haul are hidden; i shows them."
                });
            }
            Action::Vitals => self.show_vitals(),
            Action::DriveFile => {
                if let Some(serial) = self.yard.chosen_row().map(|r| r.identity.serial.clone()) {
                    self.open_drive_file(&serial);
                }
            }
            Action::LookAgain => match &self.follow_yard {
                Some(follow) => {
                    follow.look_again();
                    self.say("Looking at every drive again.");
                }
                None => self.say("The demo has simulated drives alone."),
            },
            Action::Watch => {
                let serial = self.yard.chosen_row().map(|r| r.identity.target.clone());
                let on_drive = |l: &&Live| l.readings.head().map(|h| h.drive.target.clone()) == serial;
                match self.live.iter().rev().find(on_drive).map(|l| l.haul.clone()) {
                    Some(haul) => {
                        self.show_live(&haul);
                        self.go(Screen::Haul);
                    }
                    None => match self.under_way_on_chosen() {
                        Some(haul) => {
                            let result = self.attach(&haul);
                            self.heed(result);
                        }
                        None => self.say("No haul runs on this drive: Enter plans one."),
                    },
                }
            }
            _ => self.yard.act(action),
        }
    }

    /// A haul on the chosen drive that another program keeps.
    fn under_way_on_chosen(&self) -> Option<String> {
        let row = self.yard.chosen_row()?;
        self.yard.under_way_on(&row.identity).map(|h| h.haul.clone())
    }

    /// Shows the health of the drive under the cursor of the yard.
    pub(super) fn show_vitals(&mut self) {
        let Some(row) = self.yard.chosen_row() else { return };
        if row.identity.kind == DriveKind::File {
            return self.say("A file has no vitals of its own: choose the drive that it lies on.");
        }
        let now = row.now.as_ref().map(|n| (n.identity.clone(), n.health.clone()));
        let asked = || Target::parse(&row.identity.target).and_then(|t| machine::health(&t, &self.home));
        match now.map_or_else(asked, Ok) {
            Ok((identity, health)) => {
                self.vitals = VitalsView::of(identity, health, &self.ledger, self.archive.all());
                self.go(Screen::Vitals);
            }
            Err(e) => self.say(e.message),
        }
    }

    pub(super) fn act_in_vitals(&mut self, action: Action) {
        let extended = match action {
            Action::ShortTest => Some(false),
            Action::ExtendedTest => Some(true),
            Action::EndTest => None,
            Action::LookAgain => {
                let target = self.vitals.identity.as_ref().map(|i| i.target.clone()).unwrap_or_default();
                match Target::parse(&target).and_then(|t| machine::health(&t, &self.home)) {
                    Ok((identity, health)) => {
                        self.vitals = VitalsView::of(identity, health, &self.ledger, self.archive.all());
                        self.say("Asked again.");
                    }
                    Err(e) => self.say(e.message),
                }
                return;
            }
            _ => return self.vitals.act(action),
        };
        let target = self.vitals.identity.as_ref().map(|i| i.target.clone()).unwrap_or_default();
        let Ok(Target::Device(path)) = Target::parse(&target) else {
            return self.say("A simulated drive tests itself in a route with a selftest leg.");
        };
        let told = machine::device(&path, &self.home)
            .and_then(|d| d.prober.self_test(extended).map_err(AppError::usage));
        match told {
            Ok(()) if extended.is_none() => self.say("The self-test was told to end."),
            Ok(()) => self.say("The self-test has begun."),
            Err(e) => self.say(e.message),
        }
        if let Some(follow) = &self.follow_yard {
            follow.look_again();
        }
    }
}
