//! The vitals: is the drive well, what did the last haul do to it, and how did it come here?

use crate::told::drive;
use crate::told::words;
use hollow_mile_core::drive::Vitals;
use hollow_mile_core::drive::health::{FIGURES, Health, Unit, changes};
use hollow_mile_core::drive::{DriveIdentity, Link};
use hollow_mile_core::quantity::units::grouped;
use hollow_mile_ledger::{Ledger, Wear};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::moved;

/// The health of one drive.
#[derive(Default)]
pub struct VitalsView {
    /// Who it is.
    pub identity: Option<DriveIdentity>,
    /// The newest reading.
    pub health: Health,
    wear: Vec<Wear>,
    from: usize,
}

impl VitalsView {
    /// Of a drive, with its history from the ledger.
    #[must_use]
    pub fn of(identity: DriveIdentity, health: Health, ledger: &Ledger) -> Self {
        let wear = ledger.wear(&identity.serial).unwrap_or_default();
        Self { identity: Some(identity), health, wear, from: 0 }
    }

    /// Moves through the history.
    pub fn act(&mut self, action: Action) {
        let last = self.wear.len().saturating_sub(1);
        self.from = moved(self.from, last, action).unwrap_or(self.from);
    }
}

fn cell(value: Option<&String>) -> &str {
    value.map_or("not told", String::as_str)
}

/// Draws the vitals: the answer, then figures with what the last haul changed, then the drive's own words, then history.
pub fn render(view: &VitalsView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(identity) = &view.identity else {
        return frame.top(area, buf, "choose a drive in the yard first");
    };
    frame.top(area, buf, &format!("{}  {}  {}", identity.serial, identity.model, identity.capacity));
    let answer = Rect { y: area.y + 2, height: 3, ..area };
    let mut out = Writer::new(answer, buf);
    let link = identity.link.as_ref().and_then(Link::shortfall);
    let link = link.map(|l| format!(" Its link has less than it could: {l}.")).unwrap_or_default();
    let heat = if view.health.warnings.is_empty() { theme.strong() } else { theme.accent() };
    out.text(&format!("{}{link}", drive::wellness(&view.health)), 0, heat);
    let body = Rect { y: area.y + 4, height: area.height.saturating_sub(4), ..area };
    let left = Rect { width: (body.width * 3 / 5).min(94), ..body };
    let right = Rect { x: left.x + left.width + 2, width: body.width.saturating_sub(left.width + 2), ..body };
    // The history keeps a few rows, however long the figures are.
    let history = (view.wear.len() as u16 + 1).clamp(1, 6);
    let upper = Rect { height: left.height.saturating_sub(history + 1), ..left };
    let used = figures(view, upper, buf, frame).min(upper.height);
    words(view, right, buf, frame);
    past(view, Rect { y: left.y + used + 1, height: left.height - used - 1, ..left }, buf, frame);
}

/// Figures now, and what the last haul did to them; gives the rows that it took.
fn figures(view: &VitalsView, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) -> u16 {
    let theme = frame.theme;
    let width = area.width;
    let rest = width.saturating_sub(20);
    let at = [0, 20, 20 + rest / 4, 20 + rest * 3 / 4];
    let last = view.wear.first();
    let date = last.map(|w| format!("in {}, the last haul", w.route)).unwrap_or_default();
    let mut line = |y: u16, cells: [&str; 4], style: [ratatui::style::Style; 4]| {
        if y >= area.height {
            return;
        }
        for i in 0..4 {
            let end = at.get(i + 1).copied().unwrap_or(width);
            let room = usize::from(end.saturating_sub(at[i] + 1));
            buf.set_stringn(area.x + at[i], area.y + y, fit(cells[i], room), room, style[i]);
        }
    };
    let (faint, strong) = (theme.faint(), theme.strong());
    line(0, ["figure", "now", &date, "change"], [faint; 4]);
    let empty = Vitals::default();
    let (before, after) = last.map_or((&empty, &empty), |w| (&w.before, &w.after));
    let by_haul = changes(before, after);
    let mut y = 1;
    for f in &FIGURES {
        let now = (f.of)(&view.health.vitals).map(|v| f.unit.words(v));
        let change = by_haul.iter().find(|c| c.name == f.name);
        if now.is_none() && change.is_none() {
            continue;
        }
        let spans = change.map(|c| format!("{} → {}", cell(c.before.as_ref()), cell(c.after.as_ref())));
        let alarm = change.is_some_and(|c| c.alarming);
        let by = change.and_then(|c| c.difference.clone()).unwrap_or_default();
        let by = if alarm { format!("! {by}") } else { by };
        let style = if alarm { theme.accent() } else { strong };
        line(y, [f.name, cell(now.as_ref()), &spans.unwrap_or_default(), &by], [faint, strong, faint, style]);
        y += 1;
    }
    if y == 1 {
        line(y, ["none", "", "", ""], [faint; 4]);
        y += 1;
    }
    y += 1;
    if !view.health.attributes.is_empty() {
        line(y, ["attribute, raw", "value and worst", "threshold", "raw bytes"], [faint; 4]);
        for a in &view.health.attributes {
            y += 1;
            let threshold = a.threshold.map_or_else(|| "none".to_owned(), |t| t.to_string());
            let failed = if a.failed() { format!("{threshold} failed") } else { threshold };
            let style = if a.failed() { theme.accent() } else { strong };
            let (id, value) = (a.id.to_string(), format!("{} and {}", a.value, a.worst));
            line(y, [&id, &value, &failed, &format!("{:012X}h", a.raw)], [strong, strong, style, strong]);
        }
        y += 1;
    }
    y
}

/// Temperatures, limits, self-tests, errors, and what could not be read.
fn words(view: &VitalsView, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) {
    let theme = frame.theme;
    let h = &view.health;
    let Some(identity) = &view.identity else { return };
    let mut out = Writer::new(area, buf);
    let pair = |out: &mut Writer<'_>, name: &str, value: &str| {
        out.pair(name, value, 16, theme.faint(), theme.strong());
    };
    pair(
        &mut out,
        "asked by",
        if h.protocol.is_empty() { "nothing: it cannot be asked" } else { &h.protocol },
    );
    pair(&mut out, "firmware", if identity.firmware.is_empty() { "not told" } else { &identity.firmware });
    if let Some(link) = &identity.link {
        pair(&mut out, "link", &link.words());
    }
    for (name, limit) in [
        ("warns at", h.warning_temperature),
        ("critical at", h.critical_temperature),
        ("slows at (TMT1)", h.thermal_management.0),
        ("slows at (TMT2)", h.thermal_management.1),
    ] {
        if let Some(t) = limit {
            pair(&mut out, name, &t.to_string());
        }
    }
    for (name, t) in &h.temperatures {
        pair(&mut out, name, &t.to_string());
    }
    out.gap();
    out.line("self-tests", theme.faint());
    for line in drive::self_tests(h).iter().take(6) {
        out.text(line.trim_start_matches("self-test: "), 2, theme.strong());
    }
    if let Some(minutes) = h.extended_self_test_minutes {
        out.line(&format!("an extended one takes about {} min", grouped(minutes.into())), theme.faint());
    }
    if !h.errors.is_empty() {
        out.gap();
        out.line("errors in the drive's own log, newest first", theme.faint());
        for e in h.errors.iter().take(8) {
            out.text(e, 2, theme.strong());
        }
    }
    if !h.gaps.is_empty() {
        out.gap();
        out.line("not known", theme.faint());
        for gap in &h.gaps {
            out.text(gap, 2, theme.strong());
        }
    }
}

/// The drive's figures after each of its hauls, newest first.
fn past(view: &VitalsView, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) {
    let theme = frame.theme;
    let columns: [(u16, &str); 7] = [
        (0, "after the haul of"),
        (18, "route"),
        (30, "written by hosts"),
        (48, "used"),
        (55, "spare"),
        (62, "media errors"),
        (76, "throttled in it"),
    ];
    let width = area.width;
    let mut put = |x: u16, y: u16, to: u16, text: &str, style| {
        let room = usize::from(to.min(width).saturating_sub(x + 1));
        if room > 0 && y < area.height {
            buf.set_stringn(area.x + x, area.y + y, fit(text, room), room, style);
        }
    };
    if view.wear.is_empty() {
        return put(0, 0, width, "No haul on this drive has left a health reading yet.", theme.faint());
    }
    let ends: Vec<u16> = columns.iter().skip(1).map(|c| c.0).chain([width]).collect();
    for ((x, name), end) in columns.iter().zip(&ends) {
        put(*x, 0, *end, name, theme.faint());
    }
    for (i, w) in
        view.wear.iter().skip(view.from).take(usize::from(area.height.saturating_sub(1))).enumerate()
    {
        let v = &w.after;
        let or_none = |v: Option<String>| v.unwrap_or_else(|| "not told".into());
        let turns = v.thermal_transitions.zip(w.before.thermal_transitions).map(|(a, b)| a.saturating_sub(b));
        let seconds = v.thermal_seconds.zip(w.before.thermal_seconds).map(|(a, b)| a.saturating_sub(b));
        let throttled = match (turns, seconds) {
            (Some(0), _) => Some("no".to_owned()),
            (Some(n), Some(s)) => Some(format!("{} times, {} s", grouped(n), grouped(s))),
            (Some(n), None) => Some(format!("{} times", grouped(n))),
            _ => None,
        };
        let cells = [
            words::local_time(w.started_unix_ms),
            w.route.clone(),
            or_none(v.host_bytes_written.map(|b| b.to_string())),
            or_none(v.percentage_used.map(|p| Unit::Percent.words(p))),
            or_none(v.available_spare.map(|s| format!("{s} %"))),
            or_none(v.media_errors.map(grouped)),
            or_none(throttled),
        ];
        for (((x, _), end), cell) in columns.iter().zip(&ends).zip(&cells) {
            put(*x, 1 + i as u16, *end, cell, theme.strong());
        }
    }
}
