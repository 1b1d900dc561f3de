//! A haul: what happens on the drive, where, and why. The answer in words first, the lanes on one ruler under it.

use crate::told::headline;
use crate::told::road::Road;
use crate::told::words::cells;
use hollow_mile_charts::lanes::letter;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::models::Models;
use hollow_mile_core::quantity::units::clock;
use hollow_mile_core::readings::{LatencyField, Readings, Ruler};
use hollow_mile_core::record::forecast::{Band, Part};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use std::cell::RefCell;
use std::time::Duration;

use crate::ui::actions::Action;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::live::Live;
use crate::ui::review::{Lapse, Loading, Tail};
use crate::ui::theme::Theme;
use crate::ui::widgets::panel::Writer;
use crate::ui::widgets::window::Window;
use crate::ui::widgets::{lane, ribbon, ruler, spine, surface, waits};

use super::haul_freight as freight;

/// What is followed of a haul at first: its newest ten minutes.
const NEWEST: Duration = Duration::from_secs(600);

/// A haul from the ledger.
pub struct Kept {
    /// As the list shows it.
    pub row: HaulRow,
    /// Its fold.
    pub readings: Readings,
    /// What is concluded from it.
    pub conclusions: Conclusions,
}

/// How a haul is looked at.
pub struct HaulView {
    /// Identifier of the live haul, when it is one.
    pub live: Option<String>,
    /// The haul from the ledger, when it is one.
    pub kept: Option<Box<Kept>>,
    /// Along what the record lies.
    pub ruler: Ruler,
    /// The part of the ruler that is shown, and the cursor.
    pub window: Window,
    /// First finding in the panel.
    pub(super) scroll: usize,
    /// What the panel shows.
    pub(super) page: Page,
    /// Places on the ruler between which the panel tells what happened.
    pub(super) marks: Vec<f64>,
    /// What the record tells beyond its findings, and of how many samples.
    pub(super) models: Option<(usize, Models)>,
    /// The whole record, while an overview of it is shown.
    pub loading: Option<Loading>,
    /// Another bench drives it: what it commits, as it comes.
    pub tail: Option<Tail>,
    /// The haul happens again.
    pub lapse: Option<Box<Lapse>>,
    /// What it answers, and of which record.
    answered: RefCell<(AnswerOf, String)>,
}

/// What the answer of a record depends on: the haul, how much of it there is, and what was concluded.
type AnswerOf = Option<(String, usize, usize, usize, bool)>;

/// What the panel at the right shows.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Page {
    /// Findings with their evidence.
    #[default]
    Findings,
    /// How fast and how even, how steady.
    Figures,
    /// Cache and heat.
    Models,
}

impl Page {
    pub(super) const ALL: [Self; 3] = [Self::Findings, Self::Figures, Self::Models];

    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::Findings => "found",
            Self::Figures => "figures",
            Self::Models => "cache, heat",
        }
    }
}

impl Default for HaulView {
    fn default() -> Self {
        Self {
            live: None,
            kept: None,
            ruler: Ruler::Elapsed,
            window: Window::default(),
            scroll: 0,
            page: Page::Findings,
            marks: Vec::new(),
            models: None,
            loading: None,
            tail: None,
            lapse: None,
            answered: RefCell::default(),
        }
    }
}

impl HaulView {
    /// Of a haul under way.
    #[must_use]
    pub fn live(haul: &str) -> Self {
        Self { live: Some(haul.to_owned()), ..Self::default() }
    }

    /// Of a haul from the ledger.
    #[must_use]
    pub fn kept(row: HaulRow, readings: Readings, conclusions: Conclusions) -> Self {
        Self { kept: Some(Box::new(Kept { row, readings, conclusions })), ..Self::default() }
    }

    /// The live haul that it shows, with its conclusions.
    #[must_use]
    pub fn shown_in<'a>(&self, live: &'a [Live]) -> Option<(&'a Readings, &'a Conclusions)> {
        let haul = self.live.as_ref()?;
        live.iter().find(|l| l.haul == *haul).map(|l| (&l.readings, &l.conclusions))
    }

    /// What is to be said of it first; made once of a record, since that goes through all of it.
    fn answer(&self, r: &Readings, c: &Conclusions) -> String {
        let haul = r.head().map(|h| h.haul.clone()).unwrap_or_default();
        let of = Some((haul, r.series().len(), r.legs().len(), c.findings.len(), r.ended().is_some()));
        let mut answered = self.answered.borrow_mut();
        if answered.0 != of {
            *answered = (of, headline::answer(r, c));
        }
        answered.1.clone()
    }

    /// Takes back the cursor, or else the window; false when there was neither.
    pub fn put_down(&mut self) -> bool {
        self.lapse.take().is_some()
            || !std::mem::take(&mut self.marks).is_empty()
            || self.window.cursor.take().is_some()
            || self.window.whole()
    }

    /// From where to where on its ruler.
    #[must_use]
    pub fn span(&self, r: &Readings) -> (f64, f64) {
        self.window.span(r.extent(self.ruler))
    }

    /// Moves ruler, cursor and window. `extent` is the length of the ruler, `entries` how many the panel has.
    pub fn act(&mut self, action: Action, extent: f64, entries: usize) {
        match action {
            Action::TurnRuler => {
                self.ruler = self.ruler.turned();
                self.window = Window::default();
                // A place on one ruler is another on the next.
                self.marks.clear();
            }
            Action::OtherPane => {
                let i = Page::ALL.iter().position(|p| *p == self.page).unwrap_or(0);
                self.page = Page::ALL[(i + 1) % Page::ALL.len()];
                self.scroll = 0;
            }
            Action::Mark => {
                self.window.cursor.get_or_insert(0.5);
                if self.marks.len() == 2 {
                    self.marks.clear();
                }
                self.marks.push(self.window.place(extent));
            }
            Action::Follow if self.window.follows() => {
                self.window.whole();
            }
            Action::Follow => {
                let newest = match self.ruler {
                    Ruler::Elapsed => NEWEST.as_secs_f64(),
                    Ruler::Moved | Ruler::Position => extent / 10.0,
                };
                self.window.follow(newest, extent);
            }
            Action::Up => self.scroll = self.scroll.saturating_sub(1),
            Action::Down => self.scroll = (self.scroll + 1).min(entries.saturating_sub(1)),
            Action::Last if self.window.follows() => {}
            action => {
                if action == Action::First {
                    self.scroll = 0;
                }
                self.window.act(action, extent);
            }
        }
    }
}

impl HaulView {
    /// Goes to the next flag, or the one before: cursor, panel and, when need be, window. Gives its number.
    pub fn to_flag(&mut self, places: &[Option<f64>], step: isize, extent: f64) -> Option<usize> {
        let count = places.len() as isize;
        if count == 0 {
            return None;
        }
        let here = if self.window.cursor.is_none() && step > 0 { -1 } else { self.scroll as isize };
        let chosen = (here + step).rem_euclid(count) as usize;
        self.page = Page::Findings;
        self.scroll = chosen;
        if let Some(place) = places[chosen] {
            self.window.go_to(place, extent);
        }
        Some(chosen)
    }

    /// Which finding the panel begins with.
    #[must_use]
    pub const fn first_shown(&self) -> usize {
        self.scroll
    }

    /// The models are on screen, and the record has grown by a twentieth since they were made.
    #[must_use]
    pub fn models_due(&self, readings: &Readings) -> bool {
        let samples = readings.series().len();
        let fresh = self.models.as_ref().is_some_and(|(n, _)| samples >= *n && samples - n <= n / 20);
        self.page == Page::Models && !fresh
    }

    /// Keeps models that were made.
    pub fn keep_models(&mut self, made: Option<(usize, Models)>) {
        if made.is_some() {
            self.models = made;
        }
    }

    /// Takes what was committed of it since. True where there was anything.
    pub fn goes_on(&mut self, events: &[Event]) -> bool {
        let Some(kept) = self.kept.as_mut().filter(|_| !events.is_empty()) else { return false };
        for event in events {
            kept.readings.push(event);
            if let Event::HaulEnded { state, .. } = event {
                kept.row.state = *state;
            }
        }
        kept.conclusions = kept.readings.conclude();
        self.answered = RefCell::default();
        true
    }

    /// Puts the whole record in the place of its overview.
    pub fn complete(&mut self, readings: Readings, conclusions: Conclusions) {
        if let Some(kept) = &mut self.kept {
            kept.readings = readings;
            kept.conclusions = conclusions;
        }
        self.answered = RefCell::default();
        self.loading = None;
        self.models = None;
    }
}

/// Rows of all lanes from which there are three below the rate, and from which there are four.
const ROWS_FOR_THREE: u16 = 26;
const ROWS_FOR_FOUR: u16 = 34;

/// Where everything stands.
struct Layout {
    head: Rect,
    answer: Rect,
    road: Rect,
    spine: Rect,
    flags: Rect,
    rate: Rect,
    latency: Rect,
    /// None where there was no lookout; in the place of the other latency where there is room for one only.
    lookout: Option<Rect>,
    temperature: Rect,
    /// What few hauls have, as many as there is room for; by position it has no place.
    more: Vec<Rect>,
    /// What holds files up; of no height where there are none.
    held: Rect,
    ruler: Rect,
    panel: Rect,
}

impl Layout {
    fn of(area: Rect, looked_out: bool, files: bool, more: u16) -> Self {
        let head = Rect { height: 1, ..area };
        let answer = Rect { y: area.y + 1, height: 2, ..area };
        let body = Rect { y: area.y + 4, height: area.height.saturating_sub(4), ..area };
        let panel_width = (area.width * 3 / 10).clamp(26, 46);
        let spine = Rect { width: spine::WIDTH, ..body };
        let panel = Rect { x: body.x + body.width - panel_width, width: panel_width, ..body };
        let lanes = Rect {
            x: body.x + spine::WIDTH,
            width: body.width.saturating_sub(spine::WIDTH + panel_width + 2),
            ..body
        };
        let road = Rect {
            x: lanes.x + lane::LABELS,
            y: area.y + 3,
            width: lanes.width.saturating_sub(lane::LABELS),
            height: 1,
        };
        let flags = Rect { height: 1, ..lanes };
        let ruler = Rect { y: lanes.y + lanes.height.saturating_sub(2), height: 2, ..lanes };
        let held = Rect { y: ruler.y.saturating_sub(1), height: u16::from(files), ..lanes };
        let rows = lanes.height.saturating_sub(3 + held.height);
        // Half for the rate, the rest in two, three or four; never so low that a lane has no picture.
        let most = 2 + u16::from(rows >= ROWS_FOR_THREE) + u16::from(rows >= ROWS_FOR_FOUR);
        let three = looked_out && most > 2;
        let more = more.min(most - 2 - u16::from(three));
        let below = 2 + u16::from(three) + more;
        let low = (rows * [26, 21, 17][usize::from(below) - 2] / 100).max(3);
        let high = rows.saturating_sub(low * below);
        let rate = Rect { y: lanes.y + 1, height: high, ..lanes };
        let latency = Rect { y: rate.y + high, height: low, ..lanes };
        let second = Rect { y: latency.y + if three { low } else { 0 }, ..latency };
        let temperature = Rect { y: second.y + low, ..latency };
        let lookout = looked_out.then_some(second);
        let more = (1..=more).map(|i| Rect { y: temperature.y + i * low, ..latency }).collect();
        Self {
            head,
            answer,
            road,
            spine,
            flags,
            rate,
            latency,
            lookout,
            temperature,
            more,
            held,
            ruler,
            panel,
        }
    }
}

/// Draws the haul.
pub fn render(view: &HaulView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let Some((readings, conclusions)) = frame.shown else {
        frame.top(area, buf, "no haul is open: the yard starts one, the ledger has those that were");
        return;
    };
    let theme = frame.theme;
    if readings.head().is_none() && view.loading.is_some() {
        frame.top(area, buf, "the record is being read");
        return;
    }
    let by_place = view.ruler == Ruler::Position;
    let files = !readings.freight().is_empty() && !by_place;
    let copies = files && freight::copies(readings);
    let looked_out = !readings.lookout().is_empty() && !by_place;
    let powered = !by_place && !readings.meters().power().is_empty();
    let amplified = !by_place && !readings.write_amplification_over_time().is_empty();
    let at = Layout::of(area, looked_out || copies, files, u16::from(powered) + u16::from(amplified));
    head(frame, readings, at.head, buf);
    let answer = match frame.shown_live {
        Some(live) => live.answer(),
        None => view.answer(readings, conclusions),
    };
    Writer::new(at.answer, buf).text(&answer, 0, theme.strong());
    spine::render(at.spine, buf, readings, theme);
    let road = match frame.shown_live {
        Some(live) => live.road(),
        None => Road::of(readings, &[]),
    };
    // One leg tells nothing that the head does not.
    if let Some(road) = road.filter(|r| r.legs.len() > 1 || !r.over) {
        ribbon::render(&road, at.road, buf, theme);
    }

    let (from, to) = view.span(readings);
    let plot_width = at.rate.width.saturating_sub(lane::LABELS);
    let columns = readings.columns(view.ruler, from, to, usize::from(plot_width) * 2);
    let expected = readings.expected(view.ruler, from, to, columns.len());
    let band = |of: fn(&Part) -> Option<Band>| -> Vec<Option<(f64, f64)>> {
        expected.iter().map(|p| p.as_ref().and_then(of).map(|b| (b.low, b.high))).collect()
    };
    let lanes = Rect {
        x: at.rate.x + lane::LABELS,
        y: at.flags.y,
        width: plot_width,
        height: at.ruler.y.saturating_sub(at.flags.y),
    };
    // Under everything else, so that no title and no figure is crossed.
    flags(frame, readings, conclusions, view.ruler, (from, to), lanes, buf);
    let done = if files {
        readings.freight_columns(view.ruler, from, to, usize::from(plot_width))
    } else {
        Vec::new()
    };
    if copies {
        freight::rates(
            readings,
            view.ruler,
            (from, to),
            &done,
            &at.rate,
            [at.latency, at.lookout.unwrap_or(at.latency)],
            buf,
            theme,
        );
    } else {
        lane::rate(at.rate, buf, &columns, &band(|p| p.rate), theme);
    }
    freight::held(readings, done.clone(), at.held, buf, theme);
    let field = readings.latencies();
    let waits = |field: &LatencyField| field.columns(view.ruler, from, to, usize::from(plot_width));
    if copies {
        // The other side stands there.
    } else if at.lookout == Some(at.latency) {
        // No room for both: what others wait is not known from anywhere else.
    } else if field.is_empty() || view.ruler == Ruler::Position {
        lane::latency(at.latency, buf, &columns, "latency p99", theme);
    } else {
        waits::render(at.latency, buf, &waits(field), "latency", theme);
    }
    if let Some(area) = at.lookout.filter(|_| !copies) {
        waits::render(area, buf, &waits(readings.lookout()), "others wait", theme);
    }
    let mut others = readings.temperature_columns(view.ruler, from, to, columns.len());
    if copies {
        others.push(("source", freight::warmth(&done)));
    }
    let limit = readings.throttle_limit().map(|l| l.degrees());
    lane::temperature(at.temperature, buf, &columns, limit, &others, &band(|p| p.degrees), theme);
    if let Some(area) = at.more.first().filter(|_| powered) {
        let values = readings.power_columns(view.ruler, from, to, columns.len());
        lane::plain(*area, buf, &values, "power, W", theme);
    }
    if let Some(area) = at.more.get(usize::from(powered)).filter(|_| amplified) {
        let values = readings.write_amplification_columns(view.ruler, from, to, columns.len());
        lane::plain(*area, buf, &values, "write amplification, ×", theme);
    }
    ruler::render(at.ruler, buf, readings, view.ruler, (from, to), theme);
    ruler::brackets(at.ruler, buf, readings, view.ruler, (from, to), theme);
    frame.spot(Rect { y: lanes.y + 1, height: lanes.height.saturating_sub(1), ..lanes }, SpotOf::Plot);
    for mark in &view.marks {
        let share = (mark - from) / (to - from).max(f64::MIN_POSITIVE);
        if !(0.0..=1.0).contains(&share) {
            continue;
        }
        let x = lanes.x + (share * f64::from(lanes.width.saturating_sub(1))).round() as u16;
        down(lanes, x, "╎", buf, theme);
        // A flag's letter may stand there.
        put_if_blank(buf, x, lanes.y, "▾", theme.accent());
    }
    if let Some(cursor) = view.window.cursor {
        upright(lanes, cursor, buf, theme);
    }
    super::haul_panel::render(frame, readings, conclusions, (from, to), at.panel, buf);
}

/// The cursor, under the row of the flags.
pub(super) fn upright(lanes: Rect, cursor: f64, buf: &mut Buffer, theme: &Theme) {
    let x = lanes.x + (cursor * f64::from(lanes.width.saturating_sub(1))).round() as u16;
    down(lanes, x, "│", buf, theme);
}

/// A line through the lanes, on their ground and on their surfaces, under their words and lines.
fn down(lanes: Rect, x: u16, symbol: &str, buf: &mut Buffer, theme: &Theme) {
    for y in lanes.y + 1..lanes.y + lanes.height {
        if buf.cell((x, y)).is_some_and(|c| matches!(c.symbol(), " " | "┊" | "█" | "▒" | "░")) {
            surface::over(buf, (x, y), symbol, theme.accent());
        }
    }
}

fn put_if_blank(buf: &mut Buffer, x: u16, y: u16, symbol: &str, style: ratatui::style::Style) {
    if let Some(cell) = buf.cell_mut((x, y))
        && cell.symbol() == " "
    {
        cell.set_symbol(symbol).set_style(style);
    }
}

/// Who, how it is, and which leg of which route.
pub(super) fn head(frame: &Frame<'_>, r: &Readings, area: Rect, buf: &mut Buffer) {
    let Some(head) = r.head() else { return };
    let d = &head.drive;
    let mut left = vec![d.serial.clone(), d.model.clone()];
    left.extend(d.link.as_ref().map(hollow_mile_core::drive::Link::words));
    if let Some(fill) = r.last().and_then(|s| s.fill_ppm) {
        left.push(format!("{} % full", fill / 10_000));
    }
    if let Some(t) = r.last().and_then(|s| s.temperature) {
        let warming =
            r.warming().filter(|w| w.abs() >= 0.05).map(|w| format!(" {w:+.1} K/min")).unwrap_or_default();
        left.push(format!("{t}{warming}"));
    }
    let legs = head.route.legs.len();
    let leg = r.legs().last().map_or(0, |l| usize::from(l.leg));
    let lapse = frame.haul.lapse.as_ref();
    let state = match r.ended() {
        _ if lapse.is_some() => format!("time-lapse, {}", lapse.map(|l| l.words()).unwrap_or_default()),
        _ if frame.haul.loading.is_some() => "reading the whole record".to_owned(),
        Some((_, state, _)) => state.word().to_owned(),
        None if (frame.haul.kept.is_some() && frame.haul.tail.is_none())
            || frame.shown_live.is_some_and(|l| !l.runs()) =>
        {
            HaulState::CutShort.word().to_owned()
        }
        None => {
            let kind = head.route.legs.get(leg).map_or("", |l| l.kind.word());
            let paused = frame.shown_live.is_some_and(|l| l.paused);
            let tried = r.inquiries().last().filter(|i| i.ended.is_none());
            let tried =
                tried.and_then(|i| Some(format!("trying out: {}", i.arms.last()?.arm.experiment.word())));
            let doing = if paused { "paused".to_owned() } else { tried.unwrap_or_else(|| kind.to_owned()) };
            // Another bench drives it.
            let kept = frame.haul.kept.as_ref().filter(|_| frame.haul.tail.is_some());
            let bench = kept.and_then(|k| k.row.conditions.tags.iter().find(|t| t.0 == "bench"));
            let bench = bench.map(|t| format!(", on {}", t.1)).unwrap_or_default();
            format!("leg {} of {legs}, {doing}{bench}", leg + 1)
        }
    };
    let right = match lapse {
        Some(_) => format!("{}  {state}", head.route.name),
        None => format!("{}  {state}  {}", head.route.name, clock(r.elapsed())),
    };
    let width = usize::from(area.width);
    let right_length = cells(&right).min(width);
    let room = width.saturating_sub(right_length + 2);
    buf.set_stringn(area.x, area.y, left.join("   "), room, frame.theme.faint());
    buf.set_stringn(area.x, area.y, &d.serial, room, frame.theme.accent());
    buf.set_string(area.x + (width - right_length) as u16, area.y, right, frame.theme.faint());
}

/// Letters where something was found or noted.
pub(super) fn flags(
    frame: &Frame<'_>,
    r: &Readings,
    c: &Conclusions,
    ruler: Ruler,
    (from, to): (f64, f64),
    area: Rect,
    buf: &mut Buffer,
) {
    let theme = frame.theme;
    let findings = c.findings.iter().map(|f| r.place_of_finding(ruler, f));
    let notes = r.notes().iter().map(|(at, _)| r.place_of(ruler, *at));
    for (i, place) in findings.chain(notes).enumerate() {
        let Some(place) = place.filter(|p| (from..=to).contains(p)) else { continue };
        let share = (place - from) / (to - from).max(f64::MIN_POSITIVE);
        let x = area.x + (share * f64::from(area.width.saturating_sub(1))).round() as u16;
        for y in area.y + 1..area.y + area.height {
            put_if_blank(buf, x, y, "┊", theme.faint());
        }
        // A letter a cell: two in one would push what lies behind it aside.
        let name = letter(i);
        let fits = x + name.len() as u16 <= area.x + area.width;
        let free = |x: u16| buf.cell((x, area.y)).is_some_and(|c| c.symbol() == " ");
        if fits && (0..name.len() as u16).all(|i| free(x + i)) {
            buf.set_string(x, area.y, &name, theme.accent());
        }
        let left = x.saturating_sub(1).max(area.x);
        frame.spot(Rect { x: left, y: area.y, width: 3, height: 1 }, SpotOf::Flag(i));
    }
}
