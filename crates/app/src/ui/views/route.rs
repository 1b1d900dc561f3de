//! The route: what shall be done on a drive, with every figure open to change and the cost kept current.

use crate::told::words;
use hollow_mile_core::route::LaidOn;
use std::path::PathBuf;
use std::time::Duration;

use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::plain::Plain;
use hollow_mile_core::quantity::units::{Bytes, Celsius, ParseUnitError, Rate, significant};
use hollow_mile_core::record::Conditions;
use hollow_mile_core::route::Route;
use hollow_mile_drives::linux::Room;
use hollow_mile_drives::linux::guard::{self, Consent, Examination, Reason};
use hollow_mile_ledger::Ledger;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use ratatui::layout::Rect;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use super::yard::YardRow;
use crate::error::AppError;
use crate::machine;
use crate::targets::{Target, file_size, fits};
use hollow_mile_core::route::{Field as LegField, all_legs, leg_mut};

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::widgets::panel::{Writer, wrap};

/// A stretch of an earlier haul: up to so many bytes, at this rate.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct KnownLevel {
    up_to: Option<Bytes>,
    rate: Rate,
}

/// The levels that an earlier haul showed, from its conclusions.
#[must_use]
pub fn known_levels(ledger: &Ledger, haul: &str) -> Vec<KnownLevel> {
    let Ok((_, c)) = ledger.concluded(haul) else { return Vec::new() };
    let ends: Vec<_> = c.findings.iter().filter(|f| f.may_be_cache_end()).collect();
    let mut levels: Vec<KnownLevel> = ends
        .iter()
        .filter_map(|f| f.before.map(|rate| KnownLevel { up_to: Some(f.written), rate }))
        .collect();
    let last = ends.last().map_or_else(|| c.figures.mean, |f| f.after);
    levels.extend(last.map(|rate| KnownLevel { up_to: None, rate }));
    levels
}

fn expected_write(levels: &[KnownLevel], bytes: Bytes) -> Option<Duration> {
    let (mut done, mut time) = (Bytes::ZERO, Duration::ZERO);
    for level in levels {
        let end = level.up_to.map_or(bytes, |u| u.min(bytes));
        time += level.rate.time_for(end.saturating_sub(done))?;
        done = end.max(done);
    }
    (done >= bytes).then_some(time)
}

/// A figure that can be changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Field {
    Path,
    Size,
    Erase,
    GiveUp,
    Ambient,
    Cooling,
    Slot,
    Label,
    WhenLeft,
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
            Self::Erase => "erase serial",
            Self::GiveUp => "give up",
            Self::Ambient => "ambient",
            Self::Cooling => "cooling",
            Self::Slot => "slot",
            Self::Label => "label",
            Self::WhenLeft => "when left",
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

/// What shall be done on one drive.
#[derive(Default)]
pub struct RouteView {
    drive: Option<DriveIdentity>,
    routes: Vec<Route>,
    chosen: usize,
    draft: Option<Route>,
    field: usize,
    in_figures: bool,
    path: String,
    size: Option<Bytes>,
    conditions: Conditions,
    consent: Consent,
    /// What stands against writing to a device.
    examination: Option<Examination>,
    /// What others move on it.
    busy: Option<Rate>,
    known: Vec<KnownLevel>,
    /// The figure being typed.
    pub editing: Option<Input>,
    fault: Option<String>,
    /// Further drives that it is started on: target and serial.
    pub also: Vec<(String, String)>,
    /// The haul goes on when the terminal that started it goes.
    pub goes_on: bool,
}

/// Everything that a haul needs, checked.
pub struct Plan {
    /// The drive, as a user names it.
    pub drive: String,
    /// Of a file.
    pub size: Option<Bytes>,
    /// What to do.
    pub route: Route,
    /// Under which conditions.
    pub conditions: Conditions,
    /// What may be lost.
    pub consent: Consent,
    /// Of the drive.
    pub serial: String,
}

fn words(text: &str) -> Option<String> {
    let clean: String = text.trim().chars().filter(|c| !c.is_control()).collect();
    (!clean.is_empty()).then_some(clean)
}

/// Reads an optional figure: empty takes it away.
fn optional<T: Plain>(text: &str) -> Result<Option<T>, ParseUnitError> {
    if text.trim().is_empty() { Ok(None) } else { T::read(text).map(Some) }
}

impl RouteView {
    /// For a drive of the yard.
    #[must_use]
    pub fn plan(row: &YardRow, routes: Vec<Route>, known: Vec<KnownLevel>) -> Self {
        let is_file = row.identity.kind == DriveKind::File;
        let here = std::env::current_dir().unwrap_or_else(|_| PathBuf::from("/tmp"));
        Self {
            draft: routes.first().cloned(),
            routes,
            drive: Some(row.identity.clone()),
            examination: row.examination.clone(),
            busy: row.now.as_ref().and_then(|n| n.moving).filter(|r| machine::is_busy(*r)),
            path: if is_file { here.join("hollow-mile.haul").display().to_string() } else { String::new() },
            size: is_file.then_some(Bytes::from_mib(8192)),
            known,
            ..Self::default()
        }
    }

    fn is_file(&self) -> bool {
        self.drive.as_ref().is_some_and(|d| d.kind == DriveKind::File)
    }

    fn is_device(&self) -> bool {
        self.drive.as_ref().is_some_and(|d| d.kind == DriveKind::Block)
    }

    fn capacity(&self) -> Bytes {
        self.size.or(self.drive.as_ref().map(|d| d.capacity)).unwrap_or_default()
    }

    fn fields(&self) -> Vec<Field> {
        let mut all = if self.is_file() { vec![Field::Path, Field::Size] } else { Vec::new() };
        if self.is_device() && self.draft.as_ref().is_some_and(Route::destroys) {
            all.extend([Field::Erase, Field::GiveUp]);
        }
        all.extend([
            Field::Ambient,
            Field::Cooling,
            Field::Slot,
            Field::Label,
            Field::WhenLeft,
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
            Field::Size => plain(self.size),
            Field::Erase => self.consent.erase.clone().unwrap_or_default(),
            Field::GiveUp => self.consent.give_up.join(", "),
            Field::Ambient => plain(self.conditions.ambient),
            Field::Cooling => self.conditions.cooling.clone().unwrap_or_default(),
            Field::Slot => self.conditions.slot.clone().unwrap_or_default(),
            Field::Label => self.conditions.label.clone().unwrap_or_default(),
            Field::WhenLeft => if self.goes_on { "goes on" } else { "ends" }.into(),
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
            Field::Size => self.size = Some(file_size(given).map_err(unit)?),
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
        let at = if self.in_figures { &mut self.field } else { &mut self.chosen };
        let before = *at;
        match action {
            Action::Up => *at = at.saturating_sub(1),
            Action::Down => *at = (*at + 1).min(last),
            Action::First => *at = 0,
            Action::Last => *at = last,
            Action::OtherPane => self.in_figures = !self.in_figures,
            Action::Open if !self.in_figures => self.in_figures = true,
            Action::Open if self.fields().get(self.field) == Some(&Field::WhenLeft) => {
                self.goes_on = !self.goes_on
            }
            Action::Open => {
                if let Some(field) = self.fields().get(self.field).copied() {
                    self.editing = Some(Input::new(self.value(field)));
                }
            }
            _ => {}
        }
        if !self.in_figures && self.chosen != before {
            self.draft = self.routes.get(self.chosen).cloned();
            self.field = 0;
        }
    }

    /// The plan, when everything fits together.
    ///
    /// # Errors
    /// What does not fit, in a sentence.
    pub fn checked(&self) -> Result<Plan, AppError> {
        let (Some(drive), Some(route)) = (&self.drive, &self.draft) else {
            return Err(AppError::usage("There is no route to start: choose one in the list."));
        };
        route.check()?;
        let target = if self.is_file() { format!("file:{}", self.path) } else { drive.target.clone() };
        Target::parse(&target)?;
        if !self.is_file() {
            fits(route, drive)?;
        }
        Ok(Plan {
            drive: target,
            size: self.is_file().then(|| self.capacity()),
            route: route.clone(),
            conditions: self.conditions.clone(),
            consent: self.consent.clone(),
            serial: drive.serial.clone(),
        })
    }

    /// What it will cost: name and words.
    fn cost(&self) -> Vec<(&'static str, String)> {
        let (Some(drive), Some(route)) = (&self.drive, &self.draft) else { return Vec::new() };
        let capacity = self.capacity();
        let written = route.bytes_written_on(capacity);
        let mut lines = vec![(
            "writes",
            written.map_or_else(
                || "as long as it takes: a leg has no bound in bytes".into(),
                |b| format!("{b} at most"),
            ),
        )];
        if let Some((share, rated)) =
            written.zip(drive.rated_writes).map(|(b, r)| (b.as_f64() / r.as_f64(), r))
        {
            lines.push(("wear", format!("{} % of the rated {rated}", significant(share * 100.0))));
        }
        lines.push(("takes", self.expected(route, capacity)));
        lines.push((
            "destroys",
            match drive.kind {
                DriveKind::Simulated => "nothing: the drive is simulated".into(),
                DriveKind::File => format!("nothing: a new file, {}, removed at the end", self.room()),
                DriveKind::Block if !route.destroys() => "nothing: the drive is only read".into(),
                DriveKind::Block | DriveKind::Imported => match &self.examination {
                    Some(e) if !e.losses.is_empty() => e.losses.join("; "),
                    _ => "whatever is on the drive; nothing known was found there".into(),
                },
            },
        ));
        if let Some(rate) = self.busy {
            lines.push(("busy", format!("others move {rate} on it now: the figures would tell of them too")));
        }
        if let (true, Some(e)) = (self.is_device() && route.destroys(), &self.examination) {
            lines.push((
                "guard",
                match e.verdict(&self.consent) {
                    Ok(()) => "consent is whole: s starts and writes".into(),
                    Err(refusal) => refusal.reasons.iter().map(reason_here).collect::<Vec<_>>().join("; "),
                },
            ));
        }
        if let (true, Some(e)) = (self.is_device() && route.destroys(), &self.examination) {
            lines.extend(e.unseen.iter().map(|u| ("not seen", u.to_string())));
        }
        lines
    }

    fn room(&self) -> String {
        let path = PathBuf::from(&self.path);
        let folder = path.parent().filter(|p| !p.as_os_str().is_empty());
        match folder.map(Room::of) {
            Some(Ok(room)) if self.capacity() > room.usable() => {
                format!("too large: {} could be used there", room.usable())
            }
            Some(Ok(room)) => format!("{} could be used there", room.usable()),
            _ => "in a folder that is not there".into(),
        }
    }

    fn expected(&self, route: &Route, capacity: Bytes) -> String {
        let mut total = Duration::ZERO;
        for (place, leg) in route.laid_out(LaidOn::file_system_if(self.is_file())).legs.iter().enumerate() {
            let by_time = leg.takes();
            let by_bytes = leg.bytes_on(capacity).and_then(|b| expected_write(&self.known, b));
            match (by_time, by_bytes) {
                (Some(a), Some(b)) => total += a.min(b),
                (Some(a), None) => total += a,
                (None, Some(b)) => total += b,
                (None, None) if self.known.is_empty() => {
                    return "not known: no earlier haul on this drive tells its rates".into();
                }
                (None, None) => {
                    let (n, kind) = (place + 1, leg.kind.word());
                    return format!("not known: nothing tells beforehand how long leg {n}, {kind}, takes");
                }
            }
        }
        let basis = if self.known.is_empty() { "by its legs" } else { "by the last haul on this drive" };
        format!("about {}, {basis}", words::about(total))
    }
}

/// Draws the route: routes on the left, figures on the right, the cost below.
pub fn render(view: &RouteView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(drive) = &view.drive else {
        frame.top(area, buf, "choose a drive in the yard first");
        return;
    };
    let route = view.draft.as_ref();
    let name = route.map_or("none", |r| r.name.as_str());
    let on =
        if view.is_file() { "a new file".to_owned() } else { format!("{} {}", drive.serial, drive.model) };
    let also: Vec<&str> = view.also.iter().map(|(_, serial)| serial.as_str()).collect();
    let also = if also.is_empty() { String::new() } else { format!(", and on {}", also.join(", ")) };
    frame.top(area, buf, &format!("{name} on {on}{also}"));
    let left = Rect {
        y: area.y + 2,
        width: (area.width / 5).clamp(16, 26),
        height: area.height.saturating_sub(2),
        ..area
    };
    let right = Rect {
        x: left.x + left.width + 2,
        y: left.y,
        width: area.width.saturating_sub(left.width + 2),
        height: left.height,
    };
    let mut out = Writer::new(left, buf);
    out.line("routes", theme.faint());
    for (i, r) in view.routes.iter().enumerate() {
        let chosen = i == view.chosen;
        let style = if chosen && !view.in_figures { theme.accent() } else { theme.strong() };
        out.line(&format!("{} {}", if chosen { "▸" } else { " " }, r.name), style);
    }
    let cost = view.cost();
    let below = cost.len() as u16 + 4;
    let upper = Rect { height: right.height.saturating_sub(below), ..right };
    figures(view, frame, upper, buf);
    let lower = Rect { y: right.y + upper.height, height: right.height - upper.height, ..right };
    let mut out = Writer::new(lower, buf);
    let field = view.fields().get(view.field).copied();
    match (&view.fault, field.filter(|_| view.in_figures)) {
        (Some(fault), _) => out.text(fault, 0, theme.accent()),
        (None, Some(field)) => out.text(field.help(), 0, theme.faint()),
        (None, None) => out.text("Enter goes to the figures of this route; s starts it.", 0, theme.faint()),
    }
    out.gap();
    for (name, value) in &cost {
        out.pair(name, value, 10, theme.faint(), theme.strong());
    }
}

fn figures(view: &RouteView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(route) = &view.draft else { return };
    let fields = view.fields();
    // Lines with their field, so that the one under the cursor can be kept in sight.
    let mut lines: Vec<(String, Option<usize>)> =
        wrap(&route.about, usize::from(area.width)).into_iter().map(|l| (l, None)).collect();
    lines.push((String::new(), None));
    let mut leg_before = None;
    for (i, field) in fields.iter().enumerate() {
        let leg = if let Field::Of(place, _) = field { Some(*place) } else { None };
        if leg != leg_before
            && let Some((l, deep)) = leg.and_then(|p| all_legs(route).get(p).copied())
        {
            lines.push((String::new(), None));
            let place = leg.unwrap_or(0) + 1;
            lines.push((format!("{}leg {place}, {}", "  ".repeat(deep), l.words()), None));
        }
        leg_before = leg;
        lines.push((String::new(), Some(i)));
    }
    let at = lines.iter().position(|l| l.1 == Some(view.field)).unwrap_or(0);
    let fits = usize::from(area.height.saturating_sub(1));
    let from = if view.in_figures { at.saturating_sub(fits.saturating_sub(1)) } else { 0 };
    let mut out = Writer::new(area, buf);
    for (line, field) in lines.iter().skip(from).take(fits) {
        let Some(i) = field else {
            out.line(line, theme.faint());
            continue;
        };
        let here = view.in_figures && *i == view.field;
        let value = match &view.editing {
            Some(input) if here => format!("{}▏", input.value()),
            _ => view.value(fields[*i]),
        };
        // The eye looks for what is set.
        let plain = if value.is_empty() { theme.faint() } else { theme.strong() };
        let value = if value.is_empty() { "not set".to_owned() } else { value };
        let name = format!("{} {}", if here { "▸" } else { " " }, fields[*i].name());
        out.pair(
            &name,
            &value,
            18,
            if here { theme.accent() } else { theme.faint() },
            if here { theme.accent() } else { plain },
        );
    }
}

/// Why a device is not written yet, in the words of this view: what is asked for is asked for in its fields.
fn reason_here(reason: &Reason) -> String {
    match reason {
        Reason::Holds(names) => {
            let (held, names) = (guard::held(names), names.join(", "));
            format!("it holds {held}: to lose that, name it in the field give up: {names}")
        }
        Reason::NoConsent { serial } => format!("type its serial in the field erase serial: \"{serial}\""),
        other => other.to_string(),
    }
}
