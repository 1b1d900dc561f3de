//! The route: what shall be done on a drive, with every figure open to change and the cost kept current.

mod ahead;
mod cost;
mod draw;

use std::cell::RefCell;
use std::path::PathBuf;
use std::rc::Rc;
use std::time::Duration;

use hollow_mile_core::archive::estimate::Known;
use hollow_mile_core::drive::freight::{Carry, Side};
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::plain::Plain;
use hollow_mile_core::quantity::units::{Bytes, Celsius, ParseUnitError, Rate};
use hollow_mile_core::record::Conditions;
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_drives::linux::guard::{Consent, Examination};
use hollow_mile_ledger::{HaulRow, Ledger};
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use super::yard::YardRow;
use crate::again::{AGAIN, Again};
use crate::drafts::Drafts;
use crate::error::{AppError, Exit};
use crate::machine;
use crate::queue::Between;
use crate::targets::{Target, file_size, fits};
use crate::told::estimate::known_of;
use hollow_mile_core::route::{Edit, Field as LegField, all_legs, edit_legs, leg_mut};

use crate::ui::actions::Action;
use crate::ui::widgets::scroll::moved;

pub use draw::render;

/// A figure that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Field {
    Path,
    Size,
    Folder,
    CopyFrom,
    Erase,
    GiveUp,
    Ambient,
    Cooling,
    Slot,
    Label,
    WhenLeft,
    RestBefore,
    CoolTo,
    Interval,
    Limits,
    /// A figure of the leg at this place of the route.
    Of(usize, LegField),
}

impl Field {
    fn name(self) -> &'static str {
        match self {
            Self::Path => "path",
            Self::Size => "size",
            Self::Folder => "folder",
            Self::CopyFrom => "copy from",
            Self::Erase => "erase serial",
            Self::GiveUp => "give up",
            Self::Ambient => "ambient",
            Self::Cooling => "cooling",
            Self::Slot => "slot",
            Self::Label => "label",
            Self::WhenLeft => "when left",
            Self::RestBefore => "rest before",
            Self::CoolTo => "cool to",
            Self::Interval => "interval",
            Self::Limits => "limits",
            Self::Of(_, field) => field.name(),
        }
    }

    fn help(self) -> &'static str {
        match self {
            Self::Path => "Where the new file goes. It must not exist; it is removed at the end of the haul.",
            Self::Size => {
                "How large the file is, such as 20 GB. A share of the file system stays free for others."
            }
            Self::Folder => {
                "In this folder one of our own is made for the files, and removed at the end of the haul."
            }
            Self::CopyFrom => {
                "Where files are copied from: a folder, or a drive (/dev/…), which is only read. Simulated drives: sim:NAME."
            }
            Self::Erase => {
                "Consent to lose what is on this drive: type its serial. Of several, each, with commas between."
            }
            Self::GiveUp => {
                "What on the drive may be lost, by the names under \"destroys\": gpt, ext4. Each must be named."
            }
            Self::Ambient => {
                "Temperature of the air around the drive, °C. A simulated drive is placed in it."
            }
            Self::Cooling => {
                "How the drive is cooled, in your words. A simulated drive knows bare, heatsink, fan."
            }
            Self::Slot => "Slot or port, in your words, to tell hauls apart later.",
            Self::Label => "A name for this haul.",
            Self::WhenLeft => {
                "What becomes of it when this terminal is left or closed: it ends, or goes on by itself. Enter changes it."
            }
            Self::RestBefore => {
                "In the queue, or when it is repeated: so long nothing is done before it, such as 10 min."
            }
            Self::CoolTo => {
                "In the queue, or when it is repeated: it begins once the drive has cooled to this."
            }
            Self::Interval => {
                "Length of one sample, 10 ms to 60 s. 100 ms shows caches of a fraction of a second."
            }
            Self::Limits => {
                "What must hold, one after the other with ; between: sustained >= 620 MB/s; no throttle below 38 °C ambient."
            }
            Self::Of(_, field) => field.help(),
        }
    }
}

/// A drive that a route is planned for, and what is known of it.
pub struct OnDrive {
    identity: DriveIdentity,
    /// What stands against writing to a device.
    examination: Option<Examination>,
    /// What others move on it.
    busy: Option<Rate>,
    known: Known,
}

impl OnDrive {
    /// The drive, as a user names it.
    #[must_use]
    pub fn target(&self) -> &str {
        &self.identity.target
    }

    /// Of a drive of the yard, with what its hauls told; `rows` are all hauls, newest first.
    #[must_use]
    pub fn of(row: &YardRow, ledger: &Ledger, rows: &[HaulRow]) -> Self {
        Self {
            identity: row.identity.clone(),
            examination: row.examination.clone(),
            busy: row.now.as_ref().and_then(|n| n.moving).filter(|r| machine::is_busy(*r)),
            known: known_of(ledger, rows, &row.identity),
        }
    }
}

/// What shall be done on one drive, or on several at once.
#[derive(Default)]
pub struct RouteView {
    /// The drives that it is started on; the first is the one that its figures are checked against.
    drives: Vec<OnDrive>,
    routes: Vec<Route>,
    chosen: usize,
    draft: Option<Route>,
    field: usize,
    in_figures: bool,
    path: String,
    /// Of a file, as it was typed.
    size: String,
    /// In which a folder for files is made.
    folder: String,
    conditions: Conditions,
    consent: Consent,
    /// The figure being typed.
    pub editing: Option<Input>,
    fault: Option<String>,
    /// The haul goes on when the terminal that started it goes.
    pub goes_on: bool,
    /// What comes before it in a queue.
    pub between: Between,
    /// The haul that is continued.
    pub continues: Option<String>,
    /// It repeats or continues a haul: what is entered for that is none of the drive's drafts.
    of_haul: bool,
    /// What was entered for this drive before.
    drafts: Drafts,
    /// The route before each change, to be taken back.
    before: Vec<Route>,
    /// What is expected of the route, made anew when the route, the size or the air is another.
    ahead: RefCell<Option<(ahead::Asked, Rc<ahead::Outlook>)>>,
}

/// Everything that a haul needs, checked.
pub struct Plan {
    /// The drives, as a user names them, with their serials.
    pub drives: Vec<(String, String)>,
    /// Of a file.
    pub size: Option<Bytes>,
    /// What to do.
    pub route: Route,
    /// Under which conditions.
    pub conditions: Conditions,
    /// What may be lost.
    pub consent: Consent,
}

fn words(text: &str) -> Option<String> {
    let clean: String = text.trim().chars().filter(|c| !c.is_control()).collect();
    (!clean.is_empty()).then_some(clean)
}

/// It has to do with files.
fn moves_files(route: &Route) -> bool {
    all_legs(route).iter().any(|(l, _)| l.kind == LegKind::Freight)
}

/// It has to do with files of two drives.
fn copies(route: &Route) -> bool {
    let two = |l: &Leg| l.kind == LegKind::Freight && (l.carry == Carry::Copy || l.at == Side::Source);
    all_legs(route).iter().any(|(l, _)| two(l))
}

/// Reads an optional figure: empty takes it away.
fn optional<T: Plain>(text: &str) -> Result<Option<T>, ParseUnitError> {
    if text.trim().is_empty() { Ok(None) } else { T::read(text).map(Some) }
}

impl RouteView {
    /// For drives of the yard.
    #[must_use]
    pub fn plan(drives: Vec<OnDrive>, routes: Vec<Route>, drafts: Drafts) -> Self {
        let is_file = drives.iter().any(|d| d.identity.kind == DriveKind::File);
        let here = std::env::current_dir().unwrap_or_else(|_| PathBuf::from("/tmp"));
        let path = || here.join("hollow-mile.haul").display().to_string();
        let size = || Bytes::from_mib(8192).plain();
        let chosen = routes.iter().position(|r| Some(&r.name) == drafts.last.as_ref()).unwrap_or(0);
        Self {
            draft: routes.get(chosen).map(|r| drafts.of(r)),
            chosen,
            routes,
            drives,
            path: if is_file { drafts.path.clone().unwrap_or_else(path) } else { String::new() },
            size: if is_file { drafts.size.clone().unwrap_or_else(size) } else { String::new() },
            folder: here.display().to_string(),
            conditions: drafts.conditions.clone(),
            goes_on: drafts.goes_on,
            drafts,
            ..Self::default()
        }
    }

    /// What is entered now, with the drive that it is for; `None` where that is what it was.
    pub fn entered(&mut self) -> Option<(String, Drafts)> {
        let drive = self.drive().filter(|_| !self.of_haul)?.target.clone();
        let before = self.drafts.clone();
        self.remember();
        (self.drafts != before).then(|| (drive, self.drafts.clone()))
    }

    fn remember(&mut self) {
        if let Some(draft) = &self.draft {
            self.drafts.take(draft, self.routes.get(self.chosen));
            self.drafts.last = Some(draft.name.clone());
        }
        self.drafts.conditions = self.conditions.clone();
        self.drafts.goes_on = self.goes_on;
        if self.is_file() {
            self.drafts.path = Some(self.path.clone());
            self.drafts.size = Some(self.size.clone());
        }
    }

    /// It goes on where a haul was stopped, and is no repeat of it.
    pub fn continue_from(&mut self, haul: String) {
        self.conditions.tags.retain(|(k, _)| k != AGAIN);
        self.continues = Some(haul);
    }

    /// The route that is chosen was changed since it was read.
    #[must_use]
    pub fn is_changed(&self) -> bool {
        self.draft.as_ref() != self.routes.get(self.chosen)
    }

    /// Adds a route to the list, and chooses it; the one that was changed for it is as it was again.
    pub fn add(&mut self, route: Route) {
        let was = self.routes.get(self.chosen).cloned();
        if let Some(was) = was {
            self.drafts.routes.retain(|r| r.name != was.name);
            self.draft = Some(was);
        }
        self.routes.push(route);
        self.choose(self.routes.len() - 1);
    }

    /// The route as it is drafted.
    #[must_use]
    pub const fn drafted(&self) -> Option<&Route> {
        self.draft.as_ref()
    }

    /// The leg that the cursor is on; the last where it is on none.
    fn leg_at(&self) -> usize {
        match self.fields().get(self.field).filter(|_| self.in_figures) {
            Some(Field::Of(place, _)) => *place,
            _ => self.draft.as_ref().map_or(0, |r| all_legs(r).len().saturating_sub(1)),
        }
    }

    /// Changes the legs at the cursor.
    ///
    /// # Errors
    /// When the route would make no sense.
    pub fn edit(&mut self, edit: &Edit) -> Result<(), AppError> {
        let at = self.leg_at();
        let Some(before) = self.draft.clone() else { return Ok(()) };
        let mut route = before.clone();
        let Some(place) = edit_legs(&mut route.legs, at, edit) else {
            return Err(AppError::usage("The leg can go no further."));
        };
        route.check()?;
        self.before.push(before);
        self.draft = Some(route);
        self.in_figures = true;
        let on = |f: &Field| matches!(f, Field::Of(p, _) if *p == place);
        self.field = self.fields().iter().position(on).unwrap_or(0);
        Ok(())
    }

    /// Takes the last change of the route back; when there is none, all of them that earlier sessions left. False when it is as it was.
    pub fn undo(&mut self) -> bool {
        let was =
            self.before.pop().or_else(|| self.routes.get(self.chosen).filter(|_| self.is_changed()).cloned());
        let Some(was) = was else { return false };
        self.draft = Some(was);
        self.field = self.field.min(self.fields().len().saturating_sub(1));
        true
    }

    /// For a haul once more, with all that it was made with.
    #[must_use]
    pub fn again(drive: OnDrive, again: Again) -> Self {
        let path = again.drive.strip_prefix("file:").unwrap_or_default().to_owned();
        let mut view = Self::plan(vec![drive], vec![again.route], Drafts::default());
        view.path = path;
        view.size = again.size.map(|s| s.plain()).unwrap_or_default();
        view.conditions = again.conditions;
        view.of_haul = true;
        view.in_figures = true;
        view.field = view.fields().iter().position(|f| *f == Field::Erase).unwrap_or(0);
        view
    }

    /// Whether the guard, as far as the yard knows, would let it write to every drive.
    ///
    /// # Errors
    /// What stands against it.
    pub fn consented(&self) -> Result<(), AppError> {
        let destroys = self.draft.as_ref().is_some_and(Route::destroys);
        for on in self.drives.iter().filter(|_| destroys) {
            let erase = self.serial_typed_for(&on.identity);
            let erasures = self.draft.as_ref().map(Route::whole_erasures).unwrap_or_default();
            let consent = Consent { erase, erasures, ..self.consent.clone() };
            if let Some(Err(refusal)) = on.examination.as_ref().map(|e| e.verdict(&consent)) {
                return Err(AppError { message: refusal.to_string(), exit: Exit::Refused });
            }
        }
        Ok(())
    }

    fn drive(&self) -> Option<&DriveIdentity> {
        self.drives.first().map(|d| &d.identity)
    }

    fn is_file(&self) -> bool {
        self.drive().is_some_and(|d| d.kind == DriveKind::File)
    }

    fn is_device(&self) -> bool {
        self.drives.iter().any(|d| d.identity.kind == DriveKind::Block)
    }

    fn file_size(&self) -> Option<Bytes> {
        file_size(&self.size).ok().filter(|_| self.is_file())
    }

    fn capacity_of(&self, drive: &DriveIdentity) -> Bytes {
        self.file_size().unwrap_or(drive.capacity)
    }

    /// What stands between lines that were pasted into the field.
    #[must_use]
    pub fn between_pasted_lines(&self) -> &'static str {
        match self.fields().get(self.field) {
            Some(Field::Limits) => "; ",
            Some(Field::Erase | Field::GiveUp) => ", ",
            _ => " ",
        }
    }

    /// Puts the cursor on a route, or on a figure: those come after the routes. True when it stood there.
    pub fn press(&mut self, row: usize) -> bool {
        let figures = self.fields().len();
        match row.checked_sub(self.routes.len()) {
            None => {
                let there = !self.in_figures && self.chosen == row;
                self.in_figures = false;
                self.choose(row);
                there
            }
            Some(field) => {
                let there = self.in_figures && self.field == field;
                self.in_figures = true;
                self.field = field.min(figures.saturating_sub(1));
                there
            }
        }
    }

    fn choose(&mut self, route: usize) {
        if self.chosen != route {
            // What was changed of the other one stays.
            self.remember();
            self.chosen = route;
            self.draft = self.routes.get(route).map(|r| self.drafts.of(r));
            self.before.clear();
            self.field = 0;
            self.fault = None;
        }
    }

    fn fields(&self) -> Vec<Field> {
        let mut all = match (self.is_file(), self.draft.as_ref().is_some_and(moves_files)) {
            (true, true) => vec![Field::Folder],
            (true, false) => vec![Field::Path, Field::Size],
            _ => Vec::new(),
        };
        if self.draft.as_ref().is_some_and(copies) {
            all.push(Field::CopyFrom);
        }
        if self.is_device() && self.draft.as_ref().is_some_and(Route::destroys) {
            all.extend([Field::Erase, Field::GiveUp]);
        }
        all.extend([
            Field::Ambient,
            Field::Cooling,
            Field::Slot,
            Field::Label,
            Field::WhenLeft,
            Field::RestBefore,
            Field::CoolTo,
            Field::Interval,
            Field::Limits,
        ]);
        for (place, (leg, _)) in self.draft.iter().flat_map(|r| all_legs(r).into_iter().enumerate()) {
            all.extend(LegField::of(leg.kind).map(|f| Field::Of(place, f)));
        }
        all
    }

    fn value(&self, field: Field) -> String {
        let Some(route) = &self.draft else { return String::new() };
        fn plain<T: Plain>(v: Option<T>) -> String {
            v.map(|v| v.plain()).unwrap_or_default()
        }
        match field {
            Field::Path => self.path.clone(),
            Field::Size => self.size.clone(),
            Field::Folder => self.folder.clone(),
            Field::CopyFrom => self.conditions.source.clone().unwrap_or_default(),
            Field::Erase => self.consent.erase.clone().unwrap_or_default(),
            Field::GiveUp => self.consent.give_up.join(", "),
            Field::Ambient => plain(self.conditions.ambient),
            Field::Cooling => self.conditions.cooling.clone().unwrap_or_default(),
            Field::Slot => self.conditions.slot.clone().unwrap_or_default(),
            Field::Label => self.conditions.label.clone().unwrap_or_default(),
            Field::WhenLeft => if self.goes_on { "goes on" } else { "ends" }.into(),
            Field::RestBefore => plain(self.between.rest),
            Field::CoolTo => plain(self.between.cool_to),
            Field::Interval => route.interval.plain(),
            Field::Limits => {
                let all: Vec<&str> = route.limits.iter().map(hollow_mile_core::route::Limit::text).collect();
                all.join("; ")
            }
            Field::Of(place, field) => {
                all_legs(route).get(place).map(|(leg, _)| field.value(leg)).unwrap_or_default()
            }
        }
    }

    /// Changes a figure; nothing changes when it does not make sense.
    fn set(&mut self, field: Field, given: &str) -> Result<(), String> {
        let unit = |e: ParseUnitError| e.to_string();
        match field {
            Field::Path => self.path = given.trim().to_owned(),
            Field::Size => {
                file_size(given).map_err(unit)?;
                self.size = given.trim().to_owned();
            }
            Field::Folder => self.folder = given.trim().to_owned(),
            Field::CopyFrom => self.conditions.source = words(given),
            Field::Erase => self.consent.erase = words(given),
            Field::GiveUp => {
                self.consent.give_up = given
                    .split([',', ' '])
                    .map(str::trim)
                    .filter(|n| !n.is_empty())
                    .map(Into::into)
                    .collect();
            }
            Field::Ambient => self.conditions.ambient = optional::<Celsius>(given).map_err(unit)?,
            Field::Cooling => self.conditions.cooling = words(given),
            Field::Slot => self.conditions.slot = words(given),
            Field::Label => self.conditions.label = words(given),
            Field::RestBefore => self.between.rest = optional::<Duration>(given).map_err(unit)?,
            Field::CoolTo => self.between.cool_to = optional::<Celsius>(given).map_err(unit)?,
            // A choice of two, changed without typing.
            Field::WhenLeft => {}
            _ => {
                let Some(mut route) = self.draft.clone() else { return Ok(()) };
                match field {
                    Field::Interval => route.interval = Duration::read(given).map_err(unit)?,
                    Field::Limits => {
                        let each = given.split(';').map(str::trim).filter(|l| !l.is_empty());
                        route.limits = each.map(str::parse).collect::<Result<_, String>>()?;
                    }
                    Field::Of(place, field) => {
                        if let Some(leg) = leg_mut(&mut route.legs, place) {
                            field.set(leg, given)?;
                        }
                    }
                    _ => {}
                }
                route.check().map_err(|e| e.to_string())?;
                if Some(&route) != self.draft.as_ref() {
                    self.before.extend(self.draft.take());
                }
                self.draft = Some(route);
            }
        }
        Ok(())
    }

    /// A key while a figure is typed.
    pub fn on_text_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match key.code {
            KeyCode::Esc => {
                self.editing = None;
                self.fault = None;
            }
            KeyCode::Enter => {
                let given = self.editing.as_ref().map(|i| i.value().to_owned()).unwrap_or_default();
                let Some(field) = self.fields().get(self.field).copied() else { return };
                match self.set(field, &given) {
                    Ok(()) => {
                        self.editing = None;
                        self.fault = None;
                    }
                    // What was typed stays, to be mended.
                    Err(e) => self.fault = Some(e),
                }
            }
            _ => {
                if let Some(input) = &mut self.editing {
                    input.handle_event(event);
                }
            }
        }
    }

    /// Moves the cursor, changes panes, begins to type.
    pub fn act(&mut self, action: Action) {
        let last = if self.in_figures { self.fields().len() } else { self.routes.len() }.saturating_sub(1);
        let at = if self.in_figures { self.field } else { self.chosen };
        match action {
            Action::OtherPane => self.in_figures = !self.in_figures,
            Action::Open if !self.in_figures => self.in_figures = true,
            Action::Open if self.fields().get(self.field) == Some(&Field::WhenLeft) => {
                self.goes_on = !self.goes_on
            }
            Action::Open => {
                if let Some(field) = self.fields().get(self.field).copied() {
                    self.fault = None;
                    self.editing = Some(Input::new(self.value(field)));
                }
            }
            _ => match moved(at, last, action) {
                Some(to) if self.in_figures => self.field = to,
                Some(to) => self.choose(to),
                None => {}
            },
        }
    }

    /// The plan, when everything fits together.
    ///
    /// # Errors
    /// What does not fit, in a sentence.
    pub fn checked(&self) -> Result<Plan, AppError> {
        let (Some(drive), Some(route)) = (self.drive(), &self.draft) else {
            return Err(AppError::usage("There is no route to start: choose one in the list."));
        };
        route.check()?;
        let files = moves_files(route);
        let source = self.conditions.source.as_deref().filter(|_| copies(route));
        let target = |d: &DriveIdentity| match d.kind {
            DriveKind::File if files => format!("folder:{}", self.folder),
            DriveKind::File => format!("file:{}", self.path),
            _ => d.target.clone(),
        };
        for d in &self.drives {
            Target::parse(&target(&d.identity))?;
            if d.identity.kind != DriveKind::File {
                fits(route, &d.identity, source)?;
            }
        }
        Ok(Plan {
            drives: self.drives.iter().map(|d| (target(&d.identity), d.identity.serial.clone())).collect(),
            size: (self.is_file() && !files).then(|| self.capacity_of(drive)),
            route: route.clone(),
            conditions: Conditions { source: source.map(str::to_owned), ..self.conditions.clone() },
            consent: self.consent.clone(),
        })
    }
}
