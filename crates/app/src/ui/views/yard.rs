//! The yard: which drives are here, what each is, and what is known of it.

use std::collections::HashMap;
use std::time::Duration;

use crate::queue::Queue;
use crate::told::headline;
use crate::told::road::Road;
use crate::told::words::{about, cells};
use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::units::{Bytes, clock};
use hollow_mile_core::record::HaulState;
use hollow_mile_drives::linux::guard::Examination;
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::machine;
use crate::targets;

use crate::ui::actions::Action;
use crate::ui::follow_yard::DeviceNow;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::live::Live;
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{more, moved};

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
}

/// All drives.
#[derive(Debug, Clone, Default)]
pub struct YardView {
    rows: Vec<YardRow>,
    chosen: usize,
    hauls: Vec<HaulRow>,
    devices: Vec<DeviceNow>,
    /// The cursor was moved: until then it stands on the first row.
    moved: bool,
    /// Drives that a route is started on together with the chosen one.
    marked: Vec<String>,
    /// Hauls under way, also those that other programs keep.
    under_way: Vec<HaulRow>,
    /// How long hauls under way should take; `None` where nothing tells.
    expected: HashMap<String, Option<Duration>>,
    /// What waits for drives.
    queues: Vec<Queue>,
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
    }
}

impl YardView {
    /// Puts together the drives of this machine and what the ledger knows of them.
    pub fn know(&mut self, hauls: &[HaulRow]) {
        self.hauls = hauls.to_vec();
        self.assemble();
    }

    /// Takes the hauls under way as the ledger has them now. True when others run than before: the list is to be read anew.
    pub fn under_way_are(&mut self, hauls: Vec<HaulRow>) -> bool {
        let same = hauls.len() == self.under_way.len()
            && hauls.iter().zip(&self.under_way).all(|(a, b)| a.haul == b.haul);
        self.under_way = hauls;
        !same
    }

    /// It was asked how long this haul should take.
    #[must_use]
    pub fn expects(&self, haul: &str) -> bool {
        self.expected.contains_key(haul)
    }

    /// How long a haul under way should take.
    pub fn expect(&mut self, haul: &str, whole: Option<Duration>) {
        self.expected.insert(haul.to_owned(), whole);
    }

    /// Takes what waits for drives now. True when that changed.
    pub fn queues_are(&mut self, queues: Vec<Queue>) -> bool {
        let same = queues == self.queues;
        self.queues = queues;
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
        self.under_way.iter().find(|h| match drive.kind {
            DriveKind::File => h.drive.starts_with("file:"),
            _ => h.drive == drive.target,
        })
    }

    /// Takes the devices of this machine as they are now.
    pub fn devices_are(&mut self, devices: Vec<DeviceNow>) {
        self.devices = devices;
        self.assemble();
    }

    fn row(&self, identity: DriveIdentity, about: String, now: Option<DeviceNow>) -> YardRow {
        let own: Vec<&HaulRow> = self.hauls.iter().filter(|h| h.serial == identity.serial).collect();
        let last = own.iter().find(|h| matches!(h.state, HaulState::Done | HaulState::Stopped));
        YardRow {
            about,
            last_haul: last.map(|h| h.haul.clone()),
            known: last.map(|h| h.summary.clone()).unwrap_or_default(),
            hauls: own.len() as u64,
            failed: own.first().is_some_and(|h| h.state == HaulState::Failed),
            examination: now.as_ref().map(|n| n.examination.clone()),
            now,
            identity,
        }
    }

    /// Real drives first, then the simulated ones, then a place for a file. The cursor stays on its drive.
    fn assemble(&mut self) {
        let chosen = self.chosen_row().map(|r| r.identity.target.clone());
        let devices =
            self.devices.iter().map(|n| self.row(n.identity.clone(), String::new(), Some(n.clone())));
        let sims = targets::yard().into_iter().map(|(identity, spec)| self.row(identity, spec.about, None));
        let rows: Vec<YardRow> = devices.chain(sims).chain([file_row()]).collect();
        let kept = rows.iter().position(|r| Some(&r.identity.target) == chosen.as_ref());
        self.chosen = kept.filter(|_| self.moved).unwrap_or(0);
        self.rows = rows;
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

    /// Moves the cursor, marks.
    pub fn act(&mut self, action: Action) {
        self.moved = true;
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

fn live_on<'a>(frame: &'a Frame<'_>, row: &YardRow) -> Option<&'a Live> {
    let on = |l: &&Live| l.runs() && l.readings.head().is_some_and(|h| h.drive.target == row.identity.target);
    let file = |l: &&Live| l.runs() && l.readings.head().is_some_and(|h| h.drive.kind == DriveKind::File);
    let found = frame.live.iter().rev().find(on);
    if row.identity.kind == DriveKind::File { frame.live.iter().rev().find(file) } else { found }
}

/// Draws the yard: two lines a drive, who it is above, what is known below.
pub fn render(view: &YardView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let rows = &view.rows;
    let running = frame.running.max(view.under_way.len());
    let count = |kind| rows.iter().filter(|r| r.identity.kind == kind).count();
    let (real, sims) = (count(DriveKind::Block), count(DriveKind::Simulated));
    let hauling =
        if running == 0 { "nothing is hauling".to_owned() } else { format!("{running} hauling now") };
    let real = match (frame.demo, real) {
        (true, _) => String::new(),
        (false, 1) => "1 drive of this machine, ".into(),
        (false, n) => format!("{n} drives of this machine, "),
    };
    let marked = match view.marked.len() {
        0 => String::new(),
        n => format!("; {n} marked: Enter plans for {}", if n == 1 { "it" } else { "them" }),
    };
    let words = format!("{real}{sims} simulated drives and a place for a file; {hauling}{marked}");
    frame.top(area, buf, &words);
    let width = usize::from(area.width);
    let narrow = area.width < NARROW;
    let known_at = if area.width >= 120 { 62u16 } else { 55 };
    let head_y = area.y + 2;
    let at = columns(known_at);
    let (link, known) =
        if narrow { ("now; below, what is known", "") } else { ("connection", "now, and what is known") };
    for (name, at) in [
        ("serial", 2),
        ("model", at.model),
        ("capacity", at.capacity),
        (link, at.link),
        (known, known_at + 2),
    ] {
        let room = width.saturating_sub(usize::from(at));
        buf.set_stringn(area.x + at, head_y, name, room, theme.faint());
    }
    // With room between the drives where the lower part has room too.
    let roomy = rows.len() as u16 * 3 + 4 + 9 <= area.height;
    let each = if roomy { 3u16 } else { 2 };
    // What is known of the drive under the cursor takes the lower part, where there is room for both.
    let list = rows.len() as u16 * each + 4;
    let below = area.height.saturating_sub(list);
    let fits = usize::from(area.height.saturating_sub(4) / each).max(1);
    if below >= 9 {
        detail(view, frame, Rect { y: area.y + list, height: below, ..area }, buf);
    }
    let from = view.chosen.saturating_sub(fits - 1);
    for (i, row) in rows.iter().enumerate().skip(from).take(fits) {
        let y = area.y + 3 + (i - from) as u16 * each;
        let chosen = i == view.chosen;
        let at = Rect { y, height: 2, ..area };
        frame.spot(at, SpotOf::Row(i));
        draw_row(view, frame, row, chosen, known_at, at, buf);
    }
    let below = Rect { y: area.y + area.height.saturating_sub(1), height: 1, ..area };
    more(from, rows.len().saturating_sub(from + fits), below, buf, theme);
}

/// Below this width there is no room beside a drive for what is known of it.
const NARROW: u16 = 98;

struct Columns {
    model: u16,
    capacity: u16,
    link: u16,
}

const fn columns(known_at: u16) -> Columns {
    if known_at > 60 {
        Columns { model: 12, capacity: 34, link: 44 }
    } else {
        Columns { model: 11, capacity: 28, link: 37 }
    }
}

fn draw_row(
    view: &YardView,
    frame: &Frame<'_>,
    row: &YardRow,
    chosen: bool,
    known_at: u16,
    area: Rect,
    buf: &mut Buffer,
) {
    let theme = frame.theme;
    let d = &row.identity;
    let at = columns(known_at);
    let plain = if chosen { theme.accent() } else { theme.strong() };
    buf.set_string(area.x, area.y, if chosen { "▸" } else { " " }, theme.accent());
    if view.marked.contains(&d.target) {
        buf.set_string(area.x + 1, area.y, "+", theme.accent());
    }
    // What waits stands at the right edge, over whatever else there is to say.
    let queue = view.queue_of(&d.target).map(queue_words).unwrap_or_default();
    let whole = area;
    let area = Rect { width: area.width.saturating_sub(cells_of_words(&queue)), ..area };
    if !queue.is_empty() {
        buf.set_string(area.x + area.width + 1, whole.y, &queue, theme.accent());
    }
    let mut put = |x: u16, y: u16, text: &str, to: u16, style| {
        let room = usize::from(to.saturating_sub(x));
        buf.set_stringn(area.x + x, area.y + y, fit(text, room), room, style);
    };
    let serial = if d.serial.is_empty() { "file:" } else { &d.serial };
    put(2, 0, serial, at.model - 1, plain);
    let model_to = if d.capacity > Bytes::ZERO { at.capacity - 1 } else { known_at };
    put(at.model, 0, &d.model, model_to, plain);
    if d.capacity > Bytes::ZERO {
        put(at.capacity, 0, &d.capacity.to_string(), at.link - 1, plain);
    }
    // Where there is no room beside, what is known stands below, in the place of what is always the same.
    let narrow = area.width < NARROW;
    if !narrow {
        put(at.link, 0, &d.link.as_ref().map(Link::words).unwrap_or_default(), known_at, plain);
    }
    let (right, below) = if narrow { (at.link, at.model) } else { (known_at + 2, known_at + 2) };
    let safety = match d.kind {
        DriveKind::Simulated => "simulated: nothing real is written",
        DriveKind::File => "makes one new file, removes it",
        DriveKind::Block | DriveKind::Imported => "",
    };
    if d.kind == DriveKind::Block {
        put(2, 1, d.target.trim_start_matches("/dev/"), at.model - 1, theme.faint());
    }
    let guard = row.examination.as_ref().map(Examination::words);
    if !narrow {
        put(at.model, 1, guard.as_deref().unwrap_or(safety), known_at, theme.faint());
    }
    match live_on(frame, row) {
        Some(live) => {
            let r = &live.readings;
            let now = match headline::rate_now(r) {
                _ if live.paused => "paused".to_owned(),
                rate => rate.map(|r| r.to_string()).unwrap_or_default(),
            };
            let heat = r.last().and_then(|s| s.temperature).map(|t| format!("  {t}")).unwrap_or_default();
            let road = live.road();
            let done = road.as_ref().and_then(Road::done).map(|d| format!("  {:.0} %", (d * 100.0).floor()));
            let left = road.and_then(|r| r.left_words()).map(|l| format!(", {l} left"));
            let how_far = format!("{}{}", done.unwrap_or_default(), left.unwrap_or_default());
            let line =
                format!("hauling{how_far}  {now}{heat}  {} written  {}", r.written(), clock(r.elapsed()));
            put(right, 0, &line, area.width, theme.accent());
            put(below, 1, &live.answer(), area.width, theme.strong());
        }
        None if view.under_way_on(d).is_some() => {
            if let Some(h) = view.under_way_on(d) {
                let whole = view.expected.get(&h.haul).copied().flatten().filter(|w| *w > h.elapsed);
                let how_far = whole.map(|whole| {
                    let done = h.elapsed.as_secs_f64() / whole.as_secs_f64() * 100.0;
                    format!("  {:.0} %, {} left", done.floor(), about(whole - h.elapsed))
                });
                let how_far = how_far.unwrap_or_default();
                let line = format!("hauling{how_far}  {} written  {}", h.written, clock(h.elapsed));
                put(right, 0, &line, area.width, theme.accent());
                let words = format!("haul {}, {}, is kept by another program: w watches it", h.haul, h.route);
                put(below, 1, &words, area.width, theme.strong());
            }
        }
        None if row.now.is_some() => {
            if let Some(now) = &row.now {
                put(right, 0, &state_of(now), area.width, theme.strong());
                let (words, loud) = second_line(row, now);
                put(below, 1, &words, area.width, if loud { theme.accent() } else { theme.faint() });
            }
        }
        None if row.hauls > 0 => {
            if row.failed {
                put(1, 1, "!", at.model, theme.accent());
            }
            let hauls = if row.hauls == 1 { "1 haul".to_owned() } else { format!("{} hauls", row.hauls) };
            let known = if row.known.is_empty() { "none of them ended" } else { &row.known };
            if narrow {
                put(right, 0, &format!("at rest  ·  {hauls}"), area.width, theme.strong());
                put(below, 1, known, area.width, theme.strong());
            } else {
                put(right, 0, &format!("at rest  ·  {hauls}: {known}"), area.width, theme.strong());
                put(below, 1, &row.about, area.width, theme.faint());
            }
        }
        None => {
            let first = if d.kind == DriveKind::File { "ready" } else { "at rest  ·  no haul yet" };
            put(right, 0, first, area.width, theme.strong());
            put(below, 1, &row.about, area.width, theme.faint());
        }
    }
}

fn cells_of_words(words: &str) -> u16 {
    if words.is_empty() { 0 } else { cells(words) as u16 + 1 }
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

/// A device in a few words: at rest or busy, how warm, how worn.
fn state_of(now: &DeviceNow) -> String {
    let mut parts = vec![match now.moving.filter(|r| machine::is_busy(*r)) {
        Some(rate) => format!("busy: others move {rate}"),
        None => "at rest".to_owned(),
    }];
    let v = &now.health.vitals;
    parts.extend(v.composite_temperature.map(|t| t.to_string()));
    parts.extend(v.percentage_used.map(|p| format!("{p:.0} % used")));
    parts.extend(v.self_test_percent.map(|p| format!("self-test {p} % done")));
    if now.health.protocol.is_empty() {
        parts.push("health not known".into());
    }
    parts.join("  ·  ")
}

/// What matters most beyond that: what it warns of, what its link lacks, what earlier hauls found.
fn second_line(row: &YardRow, now: &DeviceNow) -> (String, bool) {
    if !now.health.warnings.is_empty() {
        return (format!("It warns: {}", now.health.warnings.join("; ")), true);
    }
    if let Some(less) = now.identity.link.as_ref().and_then(Link::shortfall) {
        return (format!("Its link has less than it could: {less}"), true);
    }
    match row.hauls {
        0 => ("no haul yet".into(), false),
        1 => (format!("1 haul: {}", row.known), false),
        n => (format!("{n} hauls: {}", row.known), false),
    }
}

/// Who the drive under the cursor is in full, and the picture of its newest haul.
fn detail(view: &YardView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(row) = view.chosen_row() else { return };
    let d = &row.identity;
    let left = Rect { width: 44.min(area.width / 2), ..area };
    let mut out = Writer::new(left, buf);
    let mut put = |name: &str, value: String| {
        out.pair(name, if value.is_empty() { "not known" } else { &value }, 16, theme.faint(), theme.strong())
    };
    if d.kind != DriveKind::File {
        put("named", d.target.clone());
        put("firmware", d.firmware.clone());
        put("block", d.block.binary());
        put("kind", if d.rotational { "platters".into() } else { "flash".into() });
        put("heat limit", d.throttle_limit.map_or_else(|| "none stated".into(), |t| t.to_string()));
        put("rated writes", d.rated_writes.map_or_else(|| "none stated".into(), |b| b.to_string()));
        let ceiling = d.link.as_ref().and_then(Link::payload_ceiling);
        if let Some(facts) = &d.device {
            put("attached by", facts.transport.clone());
            put("physical block", facts.physical_block.binary());
            put("scheduler", facts.scheduler.clone());
            put("write cache", facts.write_cache.clone());
            put(
                "discard",
                if facts.discard { "passed on to the drive".into() } else { "not known to it".into() },
            );
            if let Some(used) = facts.utilization {
                put("allocated", format!("{used}, as the drive says"));
            }
        }
        put("link carries", ceiling.map_or_else(|| "not known".into(), |r| format!("{r} at most")));
    }
    let right = Rect { x: area.x + left.width + 2, width: area.width.saturating_sub(left.width + 2), ..area };
    if let Some(e) = row.examination.as_ref().filter(|_| row.last_haul.is_none()) {
        let mut out = Writer::new(right, buf);
        out.text(&e.words(), 0, theme.strong());
        for line in e.obstacles.iter().skip(1) {
            out.text(&line.to_string(), 2, theme.strong());
        }
        if !e.losses.is_empty() {
            out.gap();
            out.line("a write would cost", theme.faint());
            for line in &e.losses {
                out.text(line, 2, theme.strong());
            }
        }
    }
    if let Some(glance) = frame.glance.as_ref().filter(|g| Some(&g.haul) == row.last_haul.as_ref()) {
        glance.render(right, buf, theme);
    }
}
