//! A haul: what happens on the drive, where, and why. The answer in words first, the lanes on one ruler under it.

use crate::told::headline;
use crate::told::words::cells;
use hollow_mile_charts::lanes::letter;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::models::Models;
use hollow_mile_core::quantity::units::clock;
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::live::Live;
use crate::ui::review::{Lapse, Loading};
use crate::ui::theme::Theme;
use crate::ui::widgets::panel::Writer;
use crate::ui::widgets::{lane, ruler, spine};

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
    /// The part of the ruler that is shown; all when `None`.
    window: Option<(f64, f64)>,
    /// Where the cursor is, as a share of what is shown.
    pub cursor: Option<f64>,
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
    /// The haul happens again.
    pub lapse: Option<Box<Lapse>>,
}

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
            window: None,
            cursor: None,
            scroll: 0,
            page: Page::Findings,
            marks: Vec::new(),
            models: None,
            loading: None,
            lapse: None,
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

    /// Takes back the cursor, or else the window; false when there was neither.
    pub fn put_down(&mut self) -> bool {
        self.lapse.take().is_some()
            || !std::mem::take(&mut self.marks).is_empty()
            || self.cursor.take().is_some()
            || self.window.take().is_some()
    }

    fn span(&self, extent: f64) -> (f64, f64) {
        self.window.unwrap_or((0.0, extent.max(f64::MIN_POSITIVE)))
    }

    /// Moves ruler, cursor and window. `extent` is the length of the ruler.
    pub fn act(&mut self, action: Action, extent: f64) {
        let (from, to) = self.span(extent);
        let width = to - from;
        let hold = |from: f64, width: f64| {
            let width = width.min(extent);
            let from = from.clamp(0.0, (extent - width).max(0.0));
            (width < extent * 0.999).then_some((from, from + width))
        };
        match action {
            Action::TurnRuler => {
                self.ruler = self.ruler.turned();
                self.window = None;
                // A place on one ruler is another on the next.
                self.marks.clear();
            }
            Action::OtherPane => {
                let i = Page::ALL.iter().position(|p| *p == self.page).unwrap_or(0);
                self.page = Page::ALL[(i + 1) % Page::ALL.len()];
                self.scroll = 0;
            }
            Action::Mark => {
                let place = from + self.cursor.unwrap_or(0.5) * width;
                self.cursor.get_or_insert(0.5);
                if self.marks.len() == 2 {
                    self.marks.clear();
                }
                self.marks.push(place);
            }
            Action::CursorLeft => self.cursor = Some((self.cursor.unwrap_or(0.5) - 0.01).max(0.0)),
            Action::CursorRight => self.cursor = Some((self.cursor.unwrap_or(0.5) + 0.01).min(1.0)),
            Action::ZoomIn if width > extent / 4096.0 => {
                let about = from + self.cursor.unwrap_or(0.5) * width;
                self.window = hold(about - width / 4.0, width / 2.0);
                self.cursor = self.cursor.map(|_| 0.5);
            }
            Action::ZoomOut => {
                let about = from + self.cursor.unwrap_or(0.5) * width;
                self.window = hold(about - width, width * 2.0);
            }
            Action::PanLeft => self.window = hold(from - width / 4.0, width),
            Action::PanRight => self.window = hold(from + width / 4.0, width),
            Action::Whole => self.window = None,
            Action::Up => self.scroll = self.scroll.saturating_sub(1),
            Action::Down => self.scroll += 1,
            Action::First => self.scroll = 0,
            _ => {}
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
        let here = if self.cursor.is_none() && step > 0 { -1 } else { self.scroll as isize };
        let chosen = (here + step).rem_euclid(count) as usize;
        self.page = Page::Findings;
        self.scroll = chosen;
        let (from, to) = self.span(extent);
        if let Some(place) = places[chosen] {
            let width = to - from;
            if !(from..=to).contains(&place) {
                let from = (place - width / 2.0).clamp(0.0, (extent - width).max(0.0));
                self.window = Some((from, from + width));
            }
            let (from, to) = self.span(extent);
            self.cursor = Some(((place - from) / (to - from)).clamp(0.0, 1.0));
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

    /// What stands at a place of the screen, in a view that was drawn in `area`.
    #[must_use]
    pub fn at(&self, area: Rect, x: u16, y: u16, r: &Readings, c: &Conclusions) -> Option<Hit> {
        let at = Layout::of(area);
        let left = at.rate.x + lane::LABELS;
        let width = at.rate.width.saturating_sub(lane::LABELS);
        if !(left..left + width).contains(&x) || !(at.flags.y..at.ruler.y).contains(&y) {
            return None;
        }
        let share = f64::from(x - left) / f64::from(width.max(2) - 1);
        if y > at.flags.y {
            return Some(Hit::Lanes(share));
        }
        let (from, to) = self.span(r.extent(self.ruler));
        let place = from + share * (to - from);
        let findings = c.findings.iter().map(|f| r.place_of_finding(self.ruler, f));
        let off = |p: Option<f64>| p.map_or(f64::INFINITY, |p| (p - place).abs());
        let places: Vec<f64> =
            findings.chain(r.notes().iter().map(|(at, _)| r.place_of(self.ruler, *at))).map(off).collect();
        let nearest = (0..places.len()).min_by(|a, b| places[*a].total_cmp(&places[*b]))?;
        // Within a column and a half.
        (places[nearest] <= 1.5 * (to - from) / f64::from(width.max(1))).then_some(Hit::Flag(nearest))
    }

    /// Puts the whole record in the place of its overview.
    pub fn complete(&mut self, readings: Readings, conclusions: Conclusions) {
        if let Some(kept) = &mut self.kept {
            kept.readings = readings;
            kept.conclusions = conclusions;
        }
        self.loading = None;
        self.models = None;
    }
}

/// What a click meets.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Hit {
    /// A flag, by its number.
    Flag(usize),
    /// A column of the lanes, as a share of their width.
    Lanes(f64),
}

/// Where everything stands.
struct Layout {
    head: Rect,
    answer: Rect,
    spine: Rect,
    flags: Rect,
    rate: Rect,
    latency: Rect,
    temperature: Rect,
    ruler: Rect,
    panel: Rect,
}

impl Layout {
    fn of(area: Rect) -> Self {
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
        let flags = Rect { height: 1, ..lanes };
        let ruler = Rect { y: lanes.y + lanes.height.saturating_sub(2), height: 2, ..lanes };
        let rows = lanes.height.saturating_sub(3);
        // Half for the rate, the rest in two; never so low that a lane has no picture.
        let low = (rows * 26 / 100).max(3);
        let high = rows.saturating_sub(2 * low);
        let rate = Rect { y: lanes.y + 1, height: high, ..lanes };
        let latency = Rect { y: rate.y + high, height: low, ..lanes };
        let temperature = Rect { y: latency.y + low, height: low, ..lanes };
        Self { head, answer, spine, flags, rate, latency, temperature, ruler, panel }
    }
}

/// Draws the haul.
pub fn render(view: &HaulView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    frame.area.set(area);
    let Some((readings, conclusions)) = frame.shown else {
        frame.top(area, buf, "no haul is open: the yard starts one, the ledger has those that were");
        return;
    };
    let theme = frame.theme;
    let at = Layout::of(area);
    head(frame, readings, at.head, buf);
    answer(readings, conclusions, at.answer, buf, theme);
    spine::render(at.spine, buf, readings, theme);

    let (from, to) = view.span(readings.extent(view.ruler));
    let plot_width = at.rate.width.saturating_sub(lane::LABELS);
    let columns = readings.columns(view.ruler, from, to, usize::from(plot_width) * 2);
    lane::rate(at.rate, buf, &columns, theme);
    lane::latency(at.latency, buf, &columns, "latency p99", theme);
    let others = readings.temperature_columns(view.ruler, from, to, columns.len());
    let limit = readings.throttle_limit().map(|l| l.degrees());
    lane::temperature(at.temperature, buf, &columns, limit, &others, theme);
    ruler::render(at.ruler, buf, readings, view.ruler, (from, to), theme);
    let lanes = Rect {
        x: at.rate.x + lane::LABELS,
        y: at.flags.y,
        width: plot_width,
        height: at.ruler.y.saturating_sub(at.flags.y),
    };
    flags(readings, conclusions, view.ruler, (from, to), lanes, buf, theme);
    for mark in &view.marks {
        let share = (mark - from) / (to - from).max(f64::MIN_POSITIVE);
        if !(0.0..=1.0).contains(&share) {
            continue;
        }
        let x = lanes.x + (share * f64::from(lanes.width.saturating_sub(1))).round() as u16;
        for y in lanes.y + 1..lanes.y + lanes.height {
            put_if_blank(buf, x, y, "╎", theme.accent());
        }
        // A flag's letter may stand there.
        put_if_blank(buf, x, lanes.y, "▾", theme.accent());
    }
    if let Some(cursor) = view.cursor {
        upright(lanes, cursor, buf, theme);
    }
    super::haul_panel::render(frame, readings, conclusions, (from, to), at.panel, buf);
}

/// The cursor, under the row of the flags.
pub(super) fn upright(lanes: Rect, cursor: f64, buf: &mut Buffer, theme: &Theme) {
    let x = lanes.x + (cursor * f64::from(lanes.width.saturating_sub(1))).round() as u16;
    for y in lanes.y + 1..lanes.y + lanes.height {
        put_if_blank(buf, x, y, "│", theme.accent());
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
        None if frame.haul.kept.is_some() || frame.shown_live.is_some_and(|l| !l.runs()) => {
            HaulState::CutShort.word().to_owned()
        }
        None => {
            let kind = head.route.legs.get(leg).map_or("", |l| l.kind.word());
            let paused = frame.shown_live.is_some_and(|l| l.paused);
            format!("leg {} of {legs}, {}", leg + 1, if paused { "paused" } else { kind })
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

fn answer(r: &Readings, c: &Conclusions, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let mut out = Writer::new(area, buf);
    out.text(&headline::answer(r, c), 0, theme.strong());
}

/// Letters where something was found or noted.
pub(super) fn flags(
    r: &Readings,
    c: &Conclusions,
    ruler: Ruler,
    (from, to): (f64, f64),
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let findings = c.findings.iter().map(|f| r.place_of_finding(ruler, f));
    let notes = r.notes().iter().map(|(at, _)| r.place_of(ruler, *at));
    for (i, place) in findings.chain(notes).enumerate() {
        let Some(place) = place.filter(|p| (from..=to).contains(p)) else { continue };
        let share = (place - from) / (to - from).max(f64::MIN_POSITIVE);
        let x = area.x + (share * f64::from(area.width.saturating_sub(1))).round() as u16;
        for y in area.y + 1..area.y + area.height {
            put_if_blank(buf, x, y, "┊", theme.faint());
        }
        put_if_blank(buf, x, area.y, &letter(i), theme.accent());
    }
}
