//! The yard as rows: a drive that hauls has its figures and its way so far, one at rest a single line.

use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::units::{Bytes, Celsius, clock, significant};
use hollow_mile_core::readings::Ruler;
use hollow_mile_drives::linux::guard::Examination;
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::{YardRow, YardView, detail, is};
use crate::machine;
use crate::queue::Queue;
use crate::told::headline;
use crate::told::road::Road;
use crate::told::words::{about, cells};
use crate::ui::follow_yard::DeviceNow;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::live::Live;
use crate::ui::theme::Theme;
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::more;
use crate::ui::widgets::strip;

/// Below this width a drive at rest has no room for its link.
const NARROW: u16 = 98;
/// Rows that the picture of the drive under the cursor takes at least.
const DETAIL: u16 = 9;

/// A haul under way on a drive of the yard.
pub(super) enum OnIt<'a> {
    Here(&'a Live),
    Elsewhere(&'a HaulRow),
}

pub(super) fn on_it<'a>(view: &'a YardView, frame: &'a Frame<'_>, row: &YardRow) -> Option<OnIt<'a>> {
    let runs = |l: &&Live| l.runs() && l.readings.head().is_some_and(|h| is(&row.identity, &h.drive.target));
    let here = frame.live.iter().rev().find(runs).map(OnIt::Here);
    here.or_else(|| view.under_way_on(&row.identity).map(OnIt::Elsewhere))
}

/// What a row of the list is.
enum Line {
    Gap,
    Heads { hauling: bool },
    Drive(usize),
    Hidden,
}

fn lines(view: &YardView) -> Vec<Line> {
    let mut out = Vec::new();
    let mut before = None;
    for (i, row) in view.rows.iter().enumerate() {
        if before != Some(row.hauling) {
            out.extend(before.map(|_| Line::Gap));
            out.push(Line::Heads { hauling: row.hauling });
            before = Some(row.hauling);
        }
        out.push(Line::Drive(i));
    }
    if view.hidden > 0 {
        out.push(Line::Hidden);
    }
    out
}

fn height(view: &YardView, line: &Line) -> u16 {
    match line {
        Line::Drive(i) if view.rows[*i].hauling => 2,
        _ => 1,
    }
}

/// What the yard answers: what hauls and until when, what is wrong, and else that all is at rest.
fn answer(view: &YardView, frame: &Frame<'_>) -> String {
    let hauling: Vec<&YardRow> = view.rows.iter().filter(|r| r.hauling).collect();
    let left: Vec<Option<std::time::Duration>> = hauling
        .iter()
        .map(|row| match on_it(view, frame, row)? {
            OnIt::Here(live) => live.road().filter(|r| r.unknown == 0).map(|r| r.left),
            OnIt::Elsewhere(h) => Some(view.expected.get(&h.haul).copied()??.saturating_sub(h.elapsed)),
        })
        .collect();
    let until = left.iter().copied().collect::<Option<Vec<_>>>().and_then(|l| l.into_iter().max());
    let until = until.map(|u| format!(", done in {}", about(u))).unwrap_or_default();
    let mut said = vec![match hauling.as_slice() {
        [] => "Nothing is hauling".to_owned(),
        [one] => format!("{} hauls{until}", name(&one.identity)),
        more => format!("{} drives haul{until}", more.len()),
    }];
    let wrong: Vec<&str> =
        view.rows.iter().filter(|r| r.trouble().is_some()).map(|r| name(&r.identity)).collect();
    said.extend(match wrong.as_slice() {
        [] => None,
        [one] => Some(format!("{one} wants a look")),
        [one, other] => Some(format!("{one} and {other} want a look")),
        [one, more @ ..] => Some(format!("{one} and {} more want a look", more.len())),
    });
    let at_rest = |r: &&YardRow| !r.hauling && r.trouble().is_none() && r.identity.kind != DriveKind::File;
    said.extend(match view.rows.iter().filter(at_rest).count() {
        0 if !frame.demo && view.devices.is_empty() => Some("no drive of this machine was found".into()),
        0 => None,
        1 => Some("1 drive at rest".into()),
        n => Some(format!("{n} drives at rest")),
    });
    match view.marked.len() {
        0 => {}
        1 => said.push("1 marked: Enter plans for it".into()),
        n => said.push(format!("{n} marked: Enter plans for them")),
    }
    said.join("; ")
}

fn name(d: &DriveIdentity) -> &str {
    match d.kind {
        DriveKind::File => "a file",
        _ if d.serial.is_empty() => d.target.trim_start_matches("/dev/"),
        _ => &d.serial,
    }
}

/// Draws the yard.
pub fn render(view: &YardView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    frame.top(area, buf, &answer(view, frame));
    let body = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let lines = lines(view);
    let total: u16 = lines.iter().map(|l| height(view, l)).sum();
    // What is known of the drive under the cursor takes the lower part, where there is room for both.
    let room = if body.height > total + DETAIL {
        let y = body.y + total + 1;
        detail::render(view, frame, Rect { y, height: body.y + body.height - y, ..area }, buf);
        total
    } else {
        body.height.saturating_sub(1)
    };
    let from = first_shown(view, &lines, room);
    let mut y = body.y;
    let mut shown = 0;
    for line in &lines[from..] {
        let high = height(view, line);
        if y + high > body.y + room {
            break;
        }
        shown += 1;
        let at = Rect { y, height: high, ..area };
        match line {
            Line::Gap => {}
            Line::Heads { hauling } => heads(*hauling, at, buf, theme),
            Line::Hidden => {
                let words = format!("{} simulated drives ship with it: i shows them", view.hidden);
                buf.set_stringn(at.x + 2, at.y, words, usize::from(at.width), theme.faint());
            }
            Line::Drive(i) => {
                frame.spot(at, SpotOf::Row(*i));
                drive(view, frame, *i, at, buf);
            }
        }
        y += high;
    }
    let drives = |l: &[Line]| l.iter().filter(|l| matches!(l, Line::Drive(_))).count();
    let below = Rect { y: body.y + body.height.saturating_sub(1), height: 1, ..area };
    more(drives(&lines[..from]), drives(&lines[from + shown..]), below, buf, theme);
}

/// The line that the list begins with, so that the drive under the cursor is on screen.
fn first_shown(view: &YardView, lines: &[Line], room: u16) -> usize {
    let chosen = lines.iter().position(|l| matches!(l, Line::Drive(i) if *i == view.chosen)).unwrap_or(0);
    let mut from = 0;
    let high = |from: usize| lines[from..=chosen].iter().map(|l| height(view, l)).sum::<u16>();
    while from < chosen && high(from) > room {
        from += 1;
    }
    from
}

/// Columns of a drive that hauls.
struct Hauling {
    model: Option<u16>,
    done: u16,
    left: u16,
    rate: u16,
    heat: u16,
    written: u16,
    leg: u16,
}

const fn hauling_columns(width: u16) -> Hauling {
    if width >= 130 {
        Hauling { model: Some(12), done: 34, left: 41, rate: 56, heat: 70, written: 88, leg: 102 }
    } else {
        Hauling { model: None, done: 12, left: 18, rate: 32, heat: 45, written: 62, leg: 74 }
    }
}

/// Columns of a drive at rest.
struct Resting {
    model: u16,
    capacity: u16,
    link: u16,
    known: u16,
}

const fn resting_columns(width: u16) -> Resting {
    match width {
        130.. => Resting { model: 12, capacity: 34, link: 44, known: 64 },
        NARROW.. => Resting { model: 11, capacity: 30, link: 39, known: 58 },
        _ => Resting { model: 11, capacity: 30, link: 39, known: 39 },
    }
}

fn heads(hauling: bool, at: Rect, buf: &mut Buffer, theme: &Theme) {
    let mut put = |x: u16, words: &str| {
        let room = usize::from(at.width.saturating_sub(x));
        buf.set_stringn(at.x + x, at.y, words, room, theme.faint());
    };
    if hauling {
        let c = hauling_columns(at.width);
        put(2, "hauling");
        for (x, words) in [
            (c.done, "done"),
            (c.left, "left"),
            (c.rate, "now"),
            (c.heat, "temperature"),
            (c.written, "written"),
            (c.leg, "leg"),
        ] {
            put(x, words);
        }
    } else {
        let c = resting_columns(at.width);
        put(2, "at rest");
        put(c.model, "model");
        put(c.capacity, "capacity");
        if c.link < c.known {
            put(c.link, "connection");
        }
        put(c.known, "what is known");
    }
}

fn drive(view: &YardView, frame: &Frame<'_>, i: usize, at: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let row = &view.rows[i];
    let chosen = i == view.chosen;
    let plain = if chosen { theme.accent() } else { theme.strong() };
    buf.set_string(at.x, at.y, if chosen { "▸" } else { " " }, theme.accent());
    let trouble = row.trouble();
    let sign = if view.marked.contains(&row.identity.target) {
        "+"
    } else if trouble.is_some() {
        "!"
    } else {
        " "
    };
    buf.set_string(at.x + 1, at.y, sign, theme.accent());
    // What waits stands at the right edge, over whatever else there is to say.
    let queue = view.queue_of(&row.identity.target).map(queue_words).unwrap_or_default();
    let taken = if queue.is_empty() { 0 } else { cells(&queue) as u16 + 1 };
    buf.set_string(at.x + at.width.saturating_sub(taken) + 1, at.y, &queue, theme.accent());
    let first = Rect { width: at.width.saturating_sub(taken), height: 1, ..at };
    let serial = if row.identity.serial.is_empty() { name(&row.identity) } else { &row.identity.serial };
    let serial = if row.identity.kind == DriveKind::File { "file:" } else { serial };
    let mut line = Columns { at: first, buf };
    match on_it(view, frame, row) {
        Some(on) => {
            let c = hauling_columns(at.width);
            line.put(2, serial, c.model.unwrap_or(c.done) - 1, plain);
            if let Some(model) = c.model {
                line.put(model, &row.identity.model, c.done - 1, plain);
            }
            hauling(view, frame, row, &on, at, &mut line);
        }
        None => {
            let c = resting_columns(at.width);
            line.put(2, serial, c.model - 1, plain);
            let model_to = if row.identity.capacity > Bytes::ZERO { c.capacity - 1 } else { c.known - 1 };
            line.put(c.model, &row.identity.model, model_to, plain);
            if row.identity.capacity > Bytes::ZERO {
                line.put(c.capacity, &row.identity.capacity.to_string(), c.link - 1, plain);
            }
            if c.link < c.known {
                let link = row.identity.link.as_ref().map(Link::words).unwrap_or_default();
                line.put(c.link, &link, c.known - 1, plain);
            }
            let style = if trouble.is_some() { theme.accent() } else { theme.faint() };
            line.put(c.known, &resting(row, trouble), at.width, style);
        }
    }
}

/// A row with columns.
struct Columns<'a> {
    at: Rect,
    buf: &'a mut Buffer,
}

impl Columns<'_> {
    fn put(&mut self, from: u16, text: &str, to: u16, style: Style) {
        let room = usize::from(to.min(self.at.width).saturating_sub(from));
        self.buf.set_stringn(self.at.x + from, self.at.y, fit(text, room), room, style);
    }
}

/// `61 °C of 82`: how warm, and where it throttles.
fn heat(now: Celsius, limit: Option<Celsius>) -> String {
    limit.map_or_else(|| now.to_string(), |l| format!("{now} of {}", significant(l.degrees())))
}

/// How far, how fast and how warm; under it the way so far on the way as a whole, and what is said of it.
fn hauling(
    view: &YardView,
    frame: &Frame<'_>,
    row: &YardRow,
    on: &OnIt<'_>,
    at: Rect,
    line: &mut Columns<'_>,
) {
    let theme = frame.theme;
    let c = hauling_columns(at.width);
    let percent = |done: f64| format!("{:>3.0} %", (done * 100.0).floor());
    let below = Rect { x: at.x + 12, y: at.y + 1, width: at.width.saturating_sub(12), height: 1 };
    let picture = Rect { width: (below.width * 2 / 5).min(60), ..below };
    let words = Rect { x: picture.x + picture.width + 2, ..below };
    let words = Rect { width: (at.x + at.width).saturating_sub(words.x), ..words };
    let say = |text: &str, buf: &mut Buffer| {
        let room = usize::from(words.width);
        buf.set_stringn(words.x, words.y, fit(text, room), room, theme.strong());
    };
    let strong = theme.strong();
    match on {
        OnIt::Here(live) => {
            let r = &live.readings;
            let road = live.road();
            let done = road.as_ref().and_then(Road::done);
            line.put(c.done, &done.map(percent).unwrap_or_default(), c.left - 1, strong);
            let left = road.as_ref().and_then(Road::left_words);
            line.put(c.left, left.as_deref().unwrap_or("not known"), c.rate - 1, strong);
            let now = match headline::rate_now(r) {
                _ if live.paused => "paused".to_owned(),
                rate => rate.map(|r| r.to_string()).unwrap_or_default(),
            };
            line.put(c.rate, &now, c.heat - 1, theme.accent());
            if let Some(t) = r.last().and_then(|s| s.temperature) {
                let limit = r.throttle_limit();
                let near = limit.is_some_and(|l| t.degrees() > l.degrees() - 5.0);
                line.put(c.heat, &heat(t, limit), c.written - 1, if near { theme.accent() } else { strong });
            }
            line.put(c.written, &r.written().to_string(), c.leg - 1, strong);
            let legs = r.head().map_or(0, |h| h.route.legs.len());
            let leg = r.legs().last().map_or(0, |l| usize::from(l.leg));
            let kind = r.head().and_then(|h| h.route.legs.get(leg)).map_or("", |l| l.kind.word());
            let route = r.head().map_or("", |h| h.route.name.as_str());
            line.put(
                c.leg,
                &format!("{} of {legs}, {kind}  ·  {route}", leg + 1),
                line.at.width,
                theme.faint(),
            );
            let so_far = r.elapsed().as_secs_f64();
            let whole = done.filter(|d| *d > 0.0).map_or(so_far, |d| so_far / d);
            let columns = r.columns(Ruler::Elapsed, 0.0, whole, usize::from(picture.width));
            strip::rates(&columns, so_far / whole.max(f64::MIN_POSITIVE), picture, line.buf, theme);
            say(&live.answer(), line.buf);
        }
        OnIt::Elsewhere(h) => {
            let whole = view.expected.get(&h.haul).copied().flatten().filter(|w| *w > h.elapsed);
            let done = whole.map(|w| h.elapsed.as_secs_f64() / w.as_secs_f64());
            line.put(c.done, &done.map(percent).unwrap_or_default(), c.left - 1, strong);
            let left = whole.map(|w| about(w - h.elapsed));
            line.put(c.left, left.as_deref().unwrap_or("not known"), c.rate - 1, strong);
            // Its samples are with the other program; what the kernel tells of a device is at hand.
            if let Some(now) = &row.now {
                line.put(
                    c.rate,
                    &now.moving.map(|r| r.to_string()).unwrap_or_default(),
                    c.heat - 1,
                    theme.accent(),
                );
                let heat =
                    now.health.vitals.composite_temperature.map(|t| heat(t, row.identity.throttle_limit));
                line.put(c.heat, &heat.unwrap_or_default(), c.written - 1, strong);
            }
            line.put(c.written, &h.written.to_string(), c.leg - 1, strong);
            let so_far = format!("{}  ·  {}", clock(h.elapsed), h.route);
            line.put(c.leg, &so_far, line.at.width, theme.faint());
            strip::progress(done, picture, line.buf, theme);
            say(&format!("haul {} is kept by another program: w watches it", h.haul), line.buf);
        }
    }
}

/// A drive at rest in one line: what is wrong first, how it is, whether it may be written, what its hauls found.
fn resting(row: &YardRow, trouble: Option<String>) -> String {
    // What a haul found is in the words on it.
    let mut said: Vec<String> =
        trouble.filter(|_| row.grave.is_none() || row.known.is_empty()).into_iter().collect();
    if row.identity.kind == DriveKind::Block {
        let mut now = vec![row.identity.target.trim_start_matches("/dev/").to_owned()];
        now.extend(row.now.iter().flat_map(state));
        said.push(now.join("  "));
        said.extend(row.examination.as_ref().map(|e| short(e).to_owned()));
    }
    said.push(match row.hauls {
        0 if row.identity.kind == DriveKind::File => "one new file, removed at the end".into(),
        0 => "no haul yet".into(),
        n => {
            let hauls = if n == 1 { "1 haul".to_owned() } else { format!("{n} hauls") };
            let known = if row.known.is_empty() { "none of them ended" } else { &row.known };
            format!("{hauls}: {known}")
        }
    });
    said.join("  ·  ")
}

/// Whether it may be written, in two words; in full it stands below.
fn short(e: &Examination) -> &'static str {
    match (e.obstacles.is_empty(), e.signatures.is_empty()) {
        (false, _) => "not to be written",
        (_, false) => "holds data",
        _ => "empty",
    }
}

/// How a device is: busy, how warm, how worn.
fn state(now: &DeviceNow) -> Vec<String> {
    let mut parts = Vec::new();
    parts.extend(now.moving.filter(|r| machine::is_busy(*r)).map(|r| format!("busy: others move {r}")));
    let v = &now.health.vitals;
    parts.extend(v.composite_temperature.map(|t| t.to_string()));
    parts.extend(v.percentage_used.map(|p| format!("{p:.0} % used")));
    parts.extend(v.self_test_percent.map(|p| format!("self-test {p} % done")));
    if now.health.protocol.is_empty() {
        parts.push("health not known".into());
    }
    parts
}

/// `2 wait (Q)`.
fn queue_words(q: &Queue) -> String {
    match (q.entries.len(), q.trouble.is_some(), q.paused) {
        (_, true, _) => "! queue waits (Q)".into(),
        (0, ..) => String::new(),
        (n, _, true) => format!("{n} wait, paused (Q)"),
        (n, ..) => format!("{n} wait (Q)"),
    }
}
