//! A haul: what happens on the drive, where, and why. The answer in words first, the lanes on one ruler under it.

use std::time::Duration;

use hollow_mile_charts::lanes::letter;
use hollow_mile_core::event::HaulState;
use hollow_mile_core::finding::{Conclusions, Finding};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::units::{Bytes, Rate, clock, latency, mb_s_figure};
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::text;
use crate::ui::actions::Action;
use crate::ui::app::App;
use crate::ui::live::Live;
use crate::ui::theme::Theme;
use crate::ui::widgets::panel::{Writer, wrap};
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
    cursor: Option<f64>,
    /// First finding in the panel.
    scroll: usize,
}

impl Default for HaulView {
    fn default() -> Self {
        Self { live: None, kept: None, ruler: Ruler::Elapsed, window: None, cursor: None, scroll: 0 }
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
    pub fn kept(row: HaulRow, readings: Readings) -> Self {
        let conclusions = readings.conclude();
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
        self.cursor.take().is_some() || self.window.take().is_some()
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
pub fn render(app: &App, area: Rect, buf: &mut Buffer) {
    let Some((readings, conclusions)) = app.shown() else {
        super::top(app, area, buf, "no haul is open: the yard starts one, the ledger has those that were");
        return;
    };
    let view = &app.haul;
    let theme = &app.theme;
    let at = Layout::of(area);
    head(app, readings, at.head, buf);
    answer(readings, conclusions, at.answer, buf, theme);
    spine::render(at.spine, buf, readings, theme);

    let (from, to) = view.span(readings.extent(view.ruler));
    let plot_width = at.rate.width.saturating_sub(lane::LABELS);
    let columns = readings.columns(view.ruler, from, to, usize::from(plot_width) * 2);
    lane::rate(at.rate, buf, &columns, theme);
    lane::latency(at.latency, buf, &columns, theme);
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
    if let Some(cursor) = view.cursor {
        let x = lanes.x + (cursor * f64::from(lanes.width.saturating_sub(1))).round() as u16;
        for y in lanes.y + 1..lanes.y + lanes.height {
            put_if_blank(buf, x, y, "│", theme.accent());
        }
    }
    panel(app, readings, conclusions, (from, to), at.panel, buf);
}

fn put_if_blank(buf: &mut Buffer, x: u16, y: u16, symbol: &str, style: ratatui::style::Style) {
    if let Some(cell) = buf.cell_mut((x, y))
        && cell.symbol() == " "
    {
        cell.set_symbol(symbol).set_style(style);
    }
}

fn head(app: &App, r: &Readings, area: Rect, buf: &mut Buffer) {
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
    let state = match r.ended() {
        Some((_, state, _)) => state.word().to_owned(),
        None if app.haul.kept.is_some() => HaulState::CutShort.word().to_owned(),
        None => {
            let kind = head.route.legs.get(leg).map_or("", |l| l.kind.word());
            let paused = app.shown_live().is_some_and(|l| l.paused);
            format!("leg {} of {legs}, {}", leg + 1, if paused { "paused" } else { kind })
        }
    };
    let right = format!("{}  {state}  {}", head.route.name, clock(r.elapsed()));
    let width = usize::from(area.width);
    let right_length = right.chars().count().min(width);
    let room = width.saturating_sub(right_length + 2);
    buf.set_stringn(area.x, area.y, left.join("   "), room, app.theme.faint());
    buf.set_stringn(area.x, area.y, &d.serial, room, app.theme.accent());
    buf.set_string(area.x + (width - right_length) as u16, area.y, right, app.theme.faint());
}

fn answer(r: &Readings, c: &Conclusions, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let mut out = Writer::new(area, buf);
    out.text(&text::answer(r, c), 0, theme.strong());
}

fn flags(
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

fn panel(app: &App, r: &Readings, c: &Conclusions, (from, to): (f64, f64), area: Rect, buf: &mut Buffer) {
    let theme = &app.theme;
    let now = now_lines(app, r);
    let cursor = cursor_lines(&app.haul, r, (from, to));
    let below = (now.len() + cursor.len() + usize::from(!cursor.is_empty()) + 1) as u16;
    let upper = Rect { height: area.height.saturating_sub(below), ..area };
    let mut out = Writer::new(upper, buf);
    let mut entries: Vec<(String, String, Vec<String>)> = c
        .findings
        .iter()
        .enumerate()
        .map(|(i, f)| (letter(i), finding_head(f), f.evidence.clone()))
        .collect();
    let count = entries.len();
    for (i, (at, words)) in r.notes().iter().enumerate() {
        entries.push((letter(count + i), format!("\"{words}\"  {}", clock(*at)), Vec::new()));
    }
    if entries.is_empty() {
        out.text("No findings so far.", 0, theme.faint());
    }
    for (name, line, evidence) in entries.iter().skip(app.haul.scroll.min(entries.len().saturating_sub(1))) {
        if out.left() < 2 {
            break;
        }
        let width = usize::from(area.width).saturating_sub(4);
        for (i, part) in wrap(line, width).iter().enumerate() {
            out.pair(if i == 0 { name } else { "" }, part, 3, theme.accent(), theme.strong());
        }
        for (i, sentence) in evidence.iter().enumerate() {
            // Evidence is read sentence by sentence: each begins with a mark.
            for (j, part) in wrap(sentence, width.saturating_sub(2)).iter().enumerate() {
                let mark = if j == 0 { "·" } else { " " };
                let style = if i == 0 { ratatui::style::Style::new() } else { theme.faint() };
                out.pair("", &format!("{mark} {part}"), 3, theme.faint(), style);
            }
        }
        out.gap();
    }
    for fault in r.faults().iter().rev().take(2) {
        out.text(&format!("fault {}: {}", clock(fault.at), fault.message), 3, theme.strong());
    }
    let lower = Rect { y: area.y + upper.height, height: area.height - upper.height, ..area };
    let mut out = Writer::new(lower, buf);
    for (name, value) in &cursor {
        out.pair(name, value, 9, theme.accent(), theme.strong());
    }
    if !cursor.is_empty() {
        out.gap();
    }
    for (name, value) in &now {
        out.pair(name, value, 9, theme.faint(), theme.strong());
    }
}

fn finding_head(f: &Finding) -> String {
    format!("{}  {}  {:.2}", f.kind.word(), f.written, f.confidence)
}

fn now_lines(app: &App, r: &Readings) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    let kept = app.haul.kept.as_ref();
    let live = app.shown_live().filter(|l| l.runs());
    if live.is_some() {
        let p99 = r.last().and_then(|s| s.latency).map(|l| Duration::from_micros(l.p99_us.into()));
        let rate = text::rate_now(r).map_or_else(|| "at rest".into(), |r| r.to_string());
        lines.push(("now", rate));
        lines.push(("p99", p99.map_or_else(|| "none".into(), latency)));
    }
    let mut moved = format!("{} written", r.written());
    if r.read() > Bytes::ZERO {
        moved.push_str(&format!(", {} read", r.read()));
    }
    lines.push(("so far", moved));
    if let Some((time, bytes)) = live.and_then(|_| text::left(r)) {
        let time = time.map(|t| format!("about {}", text::about(t)));
        let bytes = bytes.map(|b| b.to_string());
        lines.push(("left", [time, bytes].into_iter().flatten().collect::<Vec<_>>().join(", ")));
    }
    if let Some(live) = live.filter(|l| l.simulated) {
        lines.push(("clock", if live.paused { "stands".into() } else { live.speed.words() }));
    }
    if r.errors() > 0 {
        lines.push(("errors", r.errors().to_string()));
    }
    if let Some(head) = r.head() {
        let mut conditions: Vec<String> = Vec::new();
        conditions.extend(head.conditions.ambient.map(|t| format!("ambient {t}")));
        conditions.extend(head.conditions.cooling.clone());
        conditions.extend(head.conditions.slot.clone());
        conditions.extend(head.conditions.label.clone());
        if !conditions.is_empty() {
            lines.push(("with", conditions.join(", ")));
        }
        if kept.is_some() {
            lines.push(("started", text::local_time(head.started_unix_ms)));
        }
        lines.push(("engine", r.engine().to_owned()));
        lines.push(("haul", head.haul.clone()));
    }
    lines
}

fn cursor_lines(view: &HaulView, r: &Readings, (from, to): (f64, f64)) -> Vec<(&'static str, String)> {
    let Some(cursor) = view.cursor else { return Vec::new() };
    let place = from + cursor * (to - from);
    let width = (to - from) / 100.0;
    let column = r.columns(view.ruler, (place - width / 2.0).max(0.0), place + width / 2.0, 1);
    let Some(column) = column.first() else { return Vec::new() };
    let words = match view.ruler {
        Ruler::Elapsed => clock(Duration::from_secs_f64(place.max(0.0))),
        _ => Bytes::new(place.max(0.0) as u64).to_string(),
    };
    let figure = |r: Option<Rate>| r.map_or_else(|| "none".into(), |r| mb_s_figure(r.mb_s()));
    vec![
        ("cursor", words),
        (
            "rate",
            format!("{} MB/s, {} to {}", figure(column.rate), figure(column.slowest), figure(column.fastest)),
        ),
        ("p99", column.p99.map_or_else(|| "none".into(), latency)),
        ("heat", column.hottest.map_or_else(|| "none".into(), |t| t.to_string())),
    ]
}
