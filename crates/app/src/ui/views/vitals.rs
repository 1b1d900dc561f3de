//! The vitals: is the drive well, what did the last haul do to it, and how did it come here?

use crate::claims;
use crate::told::drive;
use crate::told::members;
use crate::told::power::power_states;
use crate::told::words;
use hollow_mile_core::archive::life::{Projection, WearPoint, project};
use hollow_mile_core::drive::Vitals;
use hollow_mile_core::drive::health::{FIGURES, Health, Unit, changes};
use hollow_mile_core::drive::{DriveIdentity, Link};
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::units::{Bytes, grouped};
use hollow_mile_ledger::{HaulRow, Ledger, Wear};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::theme::Theme;
use crate::ui::widgets::over_time::{self, Followed};
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{more, moved};
use crate::ui::widgets::zone_map;

/// Self-tests and errors that are shown here; all of them are at the command line.
const TOLD: usize = 8;

fn cell(value: Option<&String>) -> &str {
    value.map_or("not told", String::as_str)
}

/// The health of one drive.
#[derive(Default)]
pub struct VitalsView {
    /// Who it is.
    pub identity: Option<DriveIdentity>,
    /// The newest reading.
    pub health: Health,
    wear: Vec<Wear>,
    points: Vec<WearPoint>,
    endurance: Option<Bytes>,
    projection: Option<Projection>,
    /// Its hauls are shown, and not what it is now.
    hauls: bool,
    from: usize,
}

impl VitalsView {
    /// Of a drive, with its history from the ledger; `rows` are the hauls of the ledger.
    #[must_use]
    pub fn of(identity: DriveIdentity, health: Health, ledger: &Ledger, rows: &[HaulRow]) -> Self {
        let wear = ledger.wear(&identity.serial).unwrap_or_default();
        let rows: Vec<&HaulRow> = rows.iter().filter(|r| r.serial == identity.serial).collect();
        let points = drive::wear_points(&wear, &rows);
        let claims = claims::of_model(ledger.home(), &identity.model);
        let endurance = drive::endurance_of(claims.as_ref(), &identity);
        let projection = project(&points, endurance).ok();
        Self { identity: Some(identity), health, wear, points, endurance, projection, hauls: false, from: 0 }
    }

    /// Turns the page, moves through the history.
    pub fn act(&mut self, action: Action) {
        if action == Action::OtherPane {
            self.hauls = !self.hauls;
            self.from = 0;
            return;
        }
        let rows = if self.hauls { self.wear.len() } else { self.health.attributes.len() };
        let last = rows.saturating_sub(1);
        self.from = moved(self.from, last, action).unwrap_or(self.from);
    }
}

/// Draws the vitals: the answer, what the last haul moved, what it is now, the drive's own words, and its life as a picture.
pub fn render(view: &VitalsView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(identity) = &view.identity else {
        return frame.top(area, buf, "choose a drive in the yard first");
    };
    frame.top(area, buf, &format!("{}  {}  {}", identity.serial, identity.model, identity.capacity));
    let answer = Rect { y: area.y + 2, height: 2, ..area };
    let mut out = Writer::new(answer, buf);
    let link = identity.link.as_ref().and_then(Link::shortfall);
    let link = link.map(|l| format!(" Its link has less than it could: {l}.")).unwrap_or_default();
    let heat = if view.health.warnings.is_empty() { theme.strong() } else { theme.accent() };
    out.text(&format!("{}{link}", drive::wellness(&view.health)), 0, heat);
    frame.tabs(
        &["now", "its hauls"],
        usize::from(view.hauls),
        Rect { y: area.y + 4, height: 1, ..area },
        buf,
    );
    let body = Rect { y: area.y + 6, height: area.height.saturating_sub(6), ..area };
    if view.hauls {
        return past(view, body, buf, frame);
    }
    let left = Rect { width: (body.width * 3 / 5).min(94), ..body };
    let right = Rect { x: left.x + left.width + 2, width: body.width.saturating_sub(left.width + 2), ..body };
    let used = figures(view, left, buf, theme).min(left.height);
    let told = words(view, right, buf, theme);
    // The pictures have what is left below both, over the whole width.
    let mut y = body.y + used.max(told) + 1;
    if let Some(zones) = &identity.zones {
        let high = zone_map::height(zones, body.width).min((body.y + body.height).saturating_sub(y));
        zone_map::render(zones, Rect { y, height: high, ..body }, buf, theme);
        y += high + 1;
    }
    let at = Rect { y, height: (body.y + body.height).saturating_sub(y), ..body };
    if at.height >= 7 {
        let strips = view.wear.len() > 1 && at.width >= 100;
        let fan = Rect {
            width: if strips { at.width * 3 / 5 - 2 } else { at.width },
            height: at.height.min(18),
            ..at
        };
        over_time::life(&view.points, view.endurance, view.projection.as_ref(), fan, buf, theme);
        if strips {
            let x = fan.x + fan.width + 2;
            let at = Rect { x, width: at.width - fan.width - 2, height: fan.height, ..at };
            over_time::strips(&followed(view), view.wear.len(), None, at, buf, theme);
        }
    }
}

/// What its hauls did to it, oldest first.
fn followed(view: &VitalsView) -> Vec<Followed> {
    let oldest_first: Vec<&Wear> = view.wear.iter().rev().collect();
    let over = |name: &str, quantity, of: &dyn Fn(&Wear) -> Option<f64>| Followed {
        name: name.to_owned(),
        quantity,
        compares: false,
        values: oldest_first.iter().enumerate().filter_map(|(i, w)| Some((i, of(w)?, None, 0))).collect(),
    };
    let grew = |of: &dyn Fn(&Vitals) -> Option<u64>, w: &Wear| {
        Some(of(&w.after)?.saturating_sub(of(&w.before)?) as f64)
    };
    let all = vec![
        over("temperature after each haul", Quantity::Celsius, &|w| {
            Some(w.after.composite_temperature?.degrees())
        }),
        over("throttled in each haul", Quantity::Seconds, &|w| grew(&|v| v.thermal_seconds, w)),
        over("media errors in each haul", Quantity::Count, &|w| grew(&|v| v.media_errors, w)),
    ];
    // What never was anything has no picture.
    let tells = |f: &Followed| f.values.len() > 1 && f.values.iter().any(|v| v.1 != 0.0);
    all.into_iter().filter(tells).collect()
}

/// What the last haul moved, then all figures as they are now; gives the rows that it took.
fn figures(view: &VitalsView, area: Rect, buf: &mut Buffer, theme: &Theme) -> u16 {
    let (faint, strong) = (theme.faint(), theme.strong());
    let mut out = Writer::new(area, buf);
    let width = area.width;
    let rows = area.height;
    let empty = Vitals::default();
    let last = view.wear.first();
    let (before, after) = last.map_or((&empty, &empty), |w| (&w.before, &w.after));
    let by_haul = changes(before, after);
    let mut moved_by: Vec<_> = by_haul
        .iter()
        .filter(|c| c.alarming || c.difference.as_deref().is_some_and(|d| d != "no change"))
        .collect();
    // What alarms comes first.
    moved_by.sort_by_key(|c| !c.alarming);
    if let Some(w) = last {
        out.line(
            &format!("moved by {}, the last haul, {}", w.route, words::date(w.started_unix_ms)),
            theme.accent(),
        );
        if moved_by.is_empty() {
            out.line("nothing", faint);
        }
        for c in &moved_by {
            let style = if c.alarming { theme.accent() } else { strong };
            let by = c.difference.clone().unwrap_or_default();
            let by = if c.alarming { format!("! {by}") } else { by };
            let line = format!("{by:<12}{} → {}", cell(c.before.as_ref()), cell(c.after.as_ref()));
            out.pair(c.name, &line, 20, faint, style);
        }
        out.gap();
    }
    out.line("now", theme.accent());
    let now: Vec<(&str, String)> =
        FIGURES.iter().filter_map(|f| Some((f.name, f.unit.words((f.of)(&view.health.vitals)?)))).collect();
    if now.is_empty() {
        out.line("none", faint);
    }
    // Two to a line where there is room.
    let columns = if width >= 56 { 2 } else { 1 };
    let lines = now.len().div_ceil(columns);
    let mut used = rows - out.left();
    for (i, (name, value)) in now.iter().enumerate() {
        let (x, y) = ((i / lines.max(1)) as u16 * (width / columns as u16), used + (i % lines.max(1)) as u16);
        if y < rows {
            let room = usize::from(width / columns as u16);
            buf.set_stringn(area.x + x, area.y + y, name, room.min(19), faint);
            buf.set_stringn(
                area.x + x + 20,
                area.y + y,
                fit(value, room.saturating_sub(21)),
                room.saturating_sub(21),
                strong,
            );
        }
    }
    used += lines as u16;
    let left = usize::from(rows.saturating_sub(used + 2));
    if !view.health.attributes.is_empty() && left > 0 {
        used += 1;
        let head = format!("{:<14}{:<18}{:<16}{}", "attribute", "value and worst", "threshold", "raw bytes");
        let at = Rect { y: area.y + used, height: 1, ..area };
        buf.set_stringn(at.x, at.y, head, usize::from(width), faint);
        // Those that failed first, wherever the drive lists them.
        let mut all: Vec<_> = view.health.attributes.iter().collect();
        all.sort_by_key(|a| !a.failed());
        let first = view.from.min(all.len().saturating_sub(left));
        more(first, all.len().saturating_sub(first + left), at, buf, theme);
        for a in all.into_iter().skip(first).take(left) {
            used += 1;
            let threshold = a.threshold.map_or_else(|| "none".to_owned(), |t| t.to_string());
            let threshold = if a.failed() { format!("{threshold} failed") } else { threshold };
            let style = if a.failed() { theme.accent() } else { strong };
            let values = format!("{} and {}", a.value, a.worst);
            let line = format!("{:<14}{values:<18}{threshold:<16}{:012X}h", a.id, a.raw);
            buf.set_stringn(area.x, area.y + used, line, usize::from(width), style);
        }
        used += 1;
    }
    used
}

/// Temperatures, limits, self-tests, errors, and what could not be read; gives the rows that it took.
fn words(view: &VitalsView, area: Rect, buf: &mut Buffer, theme: &Theme) -> u16 {
    let h = &view.health;
    let Some(identity) = &view.identity else { return 0 };
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
    if !h.members.is_empty() {
        out.gap();
        out.line("built of", theme.faint());
        for m in &h.members {
            let style = if m.warnings.is_empty() { theme.strong() } else { theme.accent() };
            out.line(&members::line(m), style);
        }
    }
    let states = power_states(h);
    if !states.is_empty() {
        out.gap();
        out.line("power states", theme.faint());
        for line in &states {
            out.text(line, 2, theme.strong());
        }
    }
    out.gap();
    out.line("self-tests", theme.faint());
    let tests = drive::self_tests(h);
    for line in tests.iter().take(TOLD) {
        out.text(line.trim_start_matches("self-test: "), 2, theme.strong());
    }
    if let Some(minutes) = h.extended_self_test_minutes {
        out.line(&format!("an extended one takes about {} min", grouped(minutes.into())), theme.faint());
    }
    if !h.errors.is_empty() {
        out.gap();
        out.line("errors in the drive's own log, newest first", theme.faint());
        for e in h.errors.iter().take(TOLD) {
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
    let used = area.height - out.left();
    if tests.len() > TOLD || h.errors.len() > TOLD || out.has_cut() {
        let y = area.y + used.min(area.height.saturating_sub(1));
        let words = format!("more: hollow-mile vitals {}", identity.target);
        let line = format!("{:<w$}", fit(&words, usize::from(area.width)), w = usize::from(area.width));
        buf.set_stringn(area.x, y, line, usize::from(area.width), theme.faint());
    }
    (used + 1).min(area.height)
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
    let fits = usize::from(area.height.saturating_sub(2));
    let first = view.from.min(view.wear.len().saturating_sub(fits));
    for (i, w) in view.wear.iter().skip(first).take(fits).enumerate() {
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
    let last = Rect { y: area.y + area.height.saturating_sub(1), height: 1, ..area };
    more(first, view.wear.len().saturating_sub(first + fits), last, buf, theme);
}

#[cfg(test)]
mod tests {
    use hollow_mile_core::drive::DriveKind;
    use hollow_mile_core::drive::health::Member;
    use hollow_mile_core::drive::protocol::ata::Attribute;
    use hollow_mile_core::quantity::units::{Bytes as Size, Celsius};

    use super::*;
    use crate::ui::theme::Depth;

    type Draws = fn(&VitalsView, Rect, &mut Buffer, &Theme) -> u16;

    fn shown(view: &VitalsView, height: u16) -> String {
        drawn(figures, view, height)
    }

    fn drawn(draws: Draws, view: &VitalsView, height: u16) -> String {
        let area = Rect::new(0, 0, 90, height);
        let mut buf = Buffer::empty(area);
        let theme = Theme::new(Depth::Mono);
        draws(view, area, &mut buf, &theme);
        let rows = (0..height).map(|y| (0..90).map(|x| buf[(x, y)].symbol()).collect::<String>());
        rows.collect::<Vec<_>>().join("\n")
    }

    #[test]
    fn attributes_that_have_no_room_are_counted_and_can_be_reached_and_a_failed_one_is_first() {
        let attribute =
            |id: u8, value: u8| Attribute { id, flags: 0, value, worst: value, threshold: Some(10), raw: 7 };
        let attributes = (1..=30).map(|id| attribute(id, if id == 30 { 5 } else { 100 })).collect();
        let mut view = VitalsView {
            identity: Some(DriveIdentity::plain("KW-1", DriveKind::Simulated, Size::from_gb(1))),
            health: Health { attributes, ..Health::default() },
            ..VitalsView::default()
        };
        let small = shown(&view, 16);
        assert!(small.contains("more, j") && small.contains("10 failed"), "{small}");
        (0..40).for_each(|_| view.act(Action::Down));
        let end = shown(&view, 16);
        assert!(end.contains("above, k") && end.contains("29            100 and 100"), "{end}");
        assert!(!shown(&view, 60).contains("above"), "all of it has room");
    }

    #[test]
    fn an_array_tells_what_it_is_built_of_and_how_that_is() {
        let member = |depth, name: &str, what: &str, celsius: Option<f64>| Member {
            depth,
            name: name.into(),
            what: what.into(),
            temperature: celsius.map(Celsius::new),
            percentage_used: celsius.map(|c| c - 50.0),
            link: celsius.map(|_| Link { bus: "SATA".into(), generation: 3, ..Link::default() }),
            ..Member::default()
        };
        let mut members = vec![
            member(1, "md0", "raid1 array of 2", None),
            member(2, "sda1", "partition", None),
            member(3, "sda", "drive", Some(61.0)),
            member(2, "nvme0n1", "drive", Some(54.0)),
        ];
        let health = Health::default().with_members(members.clone());
        let all = "None of its members warns; the warmest, sda, has 61 °C; the most worn, sda, has used 11 % of its rated life.";
        assert_eq!(drive::wellness(&health), all);
        members[3].warnings = vec!["spare low".into()];
        let health = Health::default().with_members(members);
        assert!(drive::wellness(&health).starts_with("It warns: nvme0n1: spare low; "), "{health:?}");
        let view = VitalsView {
            identity: Some(DriveIdentity::plain("/dev/dm-0", DriveKind::Block, Size::from_gb(1))),
            health,
            ..VitalsView::default()
        };
        let text = drawn(words, &view, 20);
        for line in [
            "  md0  raid1 array of 2",
            "    sda1  partition",
            "      sda  drive  ·  61 °C  ·  11 % used  ·  SATA 6 Gb/s",
            "    nvme0n1  drive  ·  54 °C  ·  4 % used  ·  SATA 6 Gb/s",
        ] {
            assert!(text.lines().any(|l| l.trim_end() == line), "{line}: {text}");
        }
    }

    #[test]
    fn errors_that_have_no_room_are_not_left_out_without_a_word() {
        let mut view = VitalsView {
            identity: Some(DriveIdentity::plain("/dev/sdx", DriveKind::Block, Size::from_gb(1))),
            health: Health { errors: (1..=3).map(|i| format!("error {i}")).collect(), ..Health::default() },
            ..VitalsView::default()
        };
        let whole = drawn(words, &view, 40);
        assert!(whole.contains("error 3") && !whole.contains("more:"), "{whole}");
        assert!(drawn(words, &view, 6).contains("more: hollow-mile vitals /dev/sdx"));
        view.health.errors = (1..=20).map(|i| format!("error {i}")).collect();
        let many = drawn(words, &view, 40);
        assert!(many.contains("error 8") && !many.contains("error 9"), "{many}");
        assert!(many.contains("more: hollow-mile vitals /dev/sdx"), "{many}");
    }
}
