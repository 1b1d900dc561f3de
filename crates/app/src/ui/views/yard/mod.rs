//! The yard: what hauls, how far it is and how warm, what is wrong; then all drives that are here.

mod detail;
mod draw;

use std::collections::HashMap;
use std::rc::Rc;
use std::time::Duration;

use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::HaulState;
use hollow_mile_drives::linux::guard::Examination;
use hollow_mile_ledger::HaulRow;

pub use self::draw::render;
use crate::queue::Queue;
use crate::targets;
use crate::ui::actions::Action;
use crate::ui::follow_yard::DeviceNow;
use crate::ui::widgets::scroll::moved;

/// A drive of the yard.
#[derive(Debug, Clone)]
pub struct YardRow {
    /// Who it is.
    pub identity: DriveIdentity,
    /// What it is for, in a sentence.
    pub about: String,
    /// The newest haul on it that found something or ended.
    pub last_haul: Option<String>,
    /// What that haul found.
    pub known: String,
    /// How many hauls there were on it.
    pub hauls: u64,
    /// The newest of them failed.
    pub failed: bool,
    /// Of a device: what stands against writing to it.
    pub examination: Option<Examination>,
    /// Of a device: how it is now.
    pub now: Option<DeviceNow>,
    /// A haul runs on it.
    pub hauling: bool,
    /// What its newest haul found that no drive should have.
    pub grave: Option<FindingKind>,
}

impl YardRow {
    /// What is wrong with it, first of all; `None` when nothing is known to be.
    #[must_use]
    pub fn trouble(&self) -> Option<String> {
        let warnings = self.now.as_ref().map(|n| n.health.warnings.join("; ")).filter(|w| !w.is_empty());
        let lacks = || self.identity.link.as_ref().and_then(Link::shortfall);
        warnings
            .map(|w| format!("it warns: {w}"))
            .or_else(|| lacks().map(|l| format!("its link has less than it could: {l}")))
            .or_else(|| Some(format!("its last haul found {}", self.grave?.word())))
            .or_else(|| self.failed.then(|| "its last haul failed".to_owned()))
    }
}

/// All drives.
#[derive(Debug, Clone, Default)]
pub struct YardView {
    rows: Vec<YardRow>,
    chosen: usize,
    hauls: Rc<Vec<HaulRow>>,
    devices: Vec<DeviceNow>,
    /// Something was done here: until then the cursor stands on the first row.
    moved: bool,
    /// Drives that a route is started on together with the chosen one.
    marked: Vec<String>,
    /// Hauls under way, also those that other programs keep.
    under_way: Vec<HaulRow>,
    /// How long hauls under way should take; `None` where nothing tells.
    expected: HashMap<String, Option<Duration>>,
    /// What waits for drives.
    queues: Vec<Queue>,
    /// Drives on which hauls run that this program keeps.
    kept_here: Vec<String>,
    /// All simulated drives that ship are shown, not only those that were used.
    all_simulated: bool,
    /// Simulated drives that are not shown.
    hidden: usize,
    /// Of each newest haul what it found that is grave; asked once.
    graves: HashMap<String, Option<FindingKind>>,
}

fn file_row() -> YardRow {
    YardRow {
        identity: DriveIdentity {
            model: "a file on this machine".into(),
            ..DriveIdentity::plain("file:", DriveKind::File, Bytes::ZERO)
        },
        about: "A new file of a size that you choose, on any file system; removed at the end.".into(),
        last_haul: None,
        known: String::new(),
        hauls: 0,
        failed: false,
        examination: None,
        now: None,
        hauling: false,
        grave: None,
    }
}

/// Of these, what the drive itself should never have.
#[must_use]
pub fn grave(findings: impl IntoIterator<Item = FindingKind>) -> Option<FindingKind> {
    findings.into_iter().find(|k| {
        matches!(
            k,
            FindingKind::DataMismatch
                | FindingKind::MediaError
                | FindingKind::OffForecast
                | FindingKind::Outlier
        )
    })
}

/// A drive that was opened is this one; a file is where files are made.
fn is(drive: &DriveIdentity, target: &str) -> bool {
    if drive.kind == DriveKind::File { target.starts_with("file:") } else { drive.target == target }
}

impl YardView {
    /// Puts together the drives of this machine and what the ledger knows of them.
    /// `found` is asked once of each drive's newest haul what it found that is grave.
    pub fn know(&mut self, hauls: Rc<Vec<HaulRow>>, found: &dyn Fn(&str) -> Option<FindingKind>) {
        self.hauls = hauls;
        self.assemble();
        for haul in self.rows.iter().filter_map(|r| r.last_haul.clone()) {
            self.graves.entry(haul).or_insert_with_key(|haul| found(haul));
        }
        self.assemble();
    }

    /// Lets go of the list of hauls: another is about to come.
    pub fn forget_hauls(&mut self) {
        self.hauls = Rc::default();
    }

    /// Takes the hauls under way as the ledger has them now. True when others run than before: the list is to be read anew.
    pub fn under_way_are(&mut self, hauls: Vec<HaulRow>) -> bool {
        let same = hauls.len() == self.under_way.len()
            && hauls.iter().zip(&self.under_way).all(|(a, b)| a.haul == b.haul);
        self.under_way = hauls;
        if !same {
            self.assemble();
        }
        !same
    }

    /// Takes the drives on which this program keeps hauls now.
    pub fn kept_here_are(&mut self, targets: Vec<String>) {
        if targets != self.kept_here {
            self.kept_here = targets;
            self.assemble();
        }
    }

    /// Shows all simulated drives that ship, or only those that were used.
    pub fn show_simulated(&mut self, all: bool) {
        self.all_simulated = all;
        self.assemble();
    }

    /// All simulated drives are shown.
    #[must_use]
    pub const fn shows_simulated(&self) -> bool {
        self.all_simulated
    }

    /// Simulated drives that are not shown.
    #[must_use]
    pub const fn hidden(&self) -> usize {
        self.hidden
    }

    /// It was asked how long this haul should take.
    #[must_use]
    pub fn expects(&self, haul: &str) -> bool {
        self.expected.contains_key(haul)
    }

    /// How long a haul under way should take, where that is known.
    #[must_use]
    pub fn expected_of(&self, haul: &str) -> Option<Duration> {
        self.expected.get(haul).copied().flatten()
    }

    /// How long a haul under way should take.
    pub fn expect(&mut self, haul: &str, whole: Option<Duration>) {
        self.expected.insert(haul.to_owned(), whole);
    }

    /// Takes what waits for drives now. True when that changed.
    pub fn queues_are(&mut self, queues: Vec<Queue>) -> bool {
        let same = queues == self.queues;
        self.queues = queues;
        if !same {
            self.assemble();
        }
        !same
    }

    /// What waits for drives.
    #[must_use]
    pub fn queues(&self) -> &[Queue] {
        &self.queues
    }

    /// What waits for a drive, by the name that a user gives it.
    #[must_use]
    pub fn queue_of(&self, drive: &str) -> Option<&Queue> {
        let file = drive == "file:";
        self.queues.iter().find(|q| q.drive == drive || (file && q.drive.starts_with("file:")))
    }

    /// The haul under way on this drive.
    #[must_use]
    pub fn under_way_on(&self, drive: &DriveIdentity) -> Option<&HaulRow> {
        self.under_way.iter().find(|h| is(drive, &h.drive))
    }

    fn hauls_on(&self, drive: &DriveIdentity) -> bool {
        self.kept_here.iter().any(|t| is(drive, t)) || self.under_way_on(drive).is_some()
    }

    /// Takes the devices of this machine as they are now.
    pub fn devices_are(&mut self, devices: Vec<DeviceNow>) {
        self.devices = devices;
        self.assemble();
    }

    fn row(&self, identity: DriveIdentity, about: String, now: Option<DeviceNow>) -> YardRow {
        // Who tells no serial has nothing in common with others that tell none.
        let is_own = |h: &&HaulRow| {
            h.serial == identity.serial && (!h.serial.is_empty() || h.drive == identity.target)
        };
        let own: Vec<&HaulRow> = self.hauls.iter().filter(is_own).collect();
        let last = own.iter().find(|h| matches!(h.state, HaulState::Done | HaulState::Stopped));
        YardRow {
            about,
            grave: last.and_then(|h| self.graves.get(&h.haul).copied().flatten()),
            last_haul: last.map(|h| h.haul.clone()),
            known: last.map(|h| h.summary.clone()).unwrap_or_default(),
            hauls: own.len() as u64,
            failed: own.first().is_some_and(|h| h.state == HaulState::Failed),
            examination: now.as_ref().map(|n| n.examination.clone()),
            now,
            hauling: self.kept_here.iter().any(|t| is(&identity, t))
                || self.under_way_on(&identity).is_some(),
            identity,
        }
    }

    /// What hauls first, then the rest; in each real drives, then the simulated ones, then a place for a file. What is wrong has a
    /// sign and is named in the answer, and keeps its place. The cursor stays on its drive.
    fn assemble(&mut self) {
        let chosen = self.chosen_row().map(|r| r.identity.target.clone());
        let devices =
            self.devices.iter().map(|n| self.row(n.identity.clone(), String::new(), Some(n.clone())));
        let shipped = targets::yard();
        let count = shipped.len();
        let sims: Vec<YardRow> = shipped
            .into_iter()
            .map(|(identity, spec)| self.row(identity, spec.about, None))
            .filter(|row| self.all_simulated || self.was_used(row))
            .collect();
        let hidden = count - sims.len();
        let mut file = file_row();
        file.hauling = self.hauls_on(&file.identity);
        let mut rows: Vec<YardRow> = devices.chain(sims).chain([file]).collect();
        rows.sort_by_key(|r| !r.hauling);
        let kept = rows.iter().position(|r| Some(&r.identity.target) == chosen.as_ref());
        self.chosen = kept.filter(|_| self.moved).unwrap_or(0);
        self.rows = rows;
        self.hidden = hidden;
    }

    /// The ledger or a queue has something on it.
    fn was_used(&self, row: &YardRow) -> bool {
        row.hauls > 0 || row.hauling || self.queue_of(&row.identity.target).is_some()
    }

    /// The drive under the cursor.
    #[must_use]
    pub fn chosen_row(&self) -> Option<&YardRow> {
        self.rows.get(self.chosen)
    }

    /// The drive that a haul was made on: the same place and serial, or any place for a file.
    #[must_use]
    pub fn row_of(&self, target: &str, serial: &str) -> Option<&YardRow> {
        let file = target.starts_with("file:");
        self.rows.iter().find(|r| match r.identity.kind {
            DriveKind::File => file,
            _ => r.identity.target == target && r.identity.serial == serial,
        })
    }

    /// How many hauls there were on the drive with this serial: the next one is its next repeat.
    #[must_use]
    pub fn count_hauls(&self, serial: &str) -> u64 {
        self.rows.iter().find(|r| r.identity.serial == serial).map_or(0, |r| r.hauls)
    }

    /// The user did something here: from now on the cursor stays on its drive.
    pub const fn touch(&mut self) {
        self.moved = true;
    }

    /// Moves the cursor, marks.
    pub fn act(&mut self, action: Action) {
        match action {
            Action::Mark => self.mark(),
            Action::ClearMarks => self.marked.clear(),
            _ => {
                let last = self.rows.len().saturating_sub(1);
                self.chosen = moved(self.chosen, last, action).unwrap_or(self.chosen);
            }
        }
    }

    /// Puts the cursor on a drive. True when it stood there.
    pub fn press(&mut self, row: usize) -> bool {
        self.moved = true;
        let there = self.chosen == row;
        self.chosen = row.min(self.rows.len().saturating_sub(1));
        there
    }

    /// Marks the chosen drive, or takes its mark away. A file is made for one haul alone.
    fn mark(&mut self) {
        let Some(row) = self.chosen_row().filter(|r| r.identity.kind != DriveKind::File) else { return };
        let target = row.identity.target.clone();
        match self.marked.iter().position(|m| *m == target) {
            Some(i) => drop(self.marked.remove(i)),
            None => self.marked.push(target),
        }
    }

    /// The drives that a route is planned for: the marked ones in the order of marking, or else the one under the cursor.
    #[must_use]
    pub fn meant(&self) -> Vec<&YardRow> {
        let row = |target: &String| self.rows.iter().find(|r| r.identity.target == *target);
        let marked: Vec<&YardRow> = self.marked.iter().filter_map(row).collect();
        if marked.is_empty() { self.chosen_row().into_iter().collect() } else { marked }
    }
}
