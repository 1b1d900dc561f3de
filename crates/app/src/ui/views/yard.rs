//! The yard: which drives are here, what each is, and what is known of it.

use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::event::HaulState;
use hollow_mile_core::units::{Bytes, clock};
use hollow_mile_drives::linux::guard::Examination;
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::top;
use crate::targets;
use crate::text;
use crate::ui::actions::Action;
use crate::ui::app::App;
use crate::ui::live::Live;
use crate::ui::widgets::panel::{Writer, fit};

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
    /// Of a device: what stands against writing to it.
    pub examination: Option<Examination>,
}

/// All drives.
#[derive(Debug, Clone, Default)]
pub struct YardView {
    rows: Vec<YardRow>,
    chosen: usize,
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
        examination: None,
    }
}

impl YardView {
    /// Puts together the drives of this machine and what the ledger knows of them.
    pub fn know(&mut self, hauls: &[HaulRow]) {
        let sims = targets::yard().into_iter().map(|(identity, spec)| {
            let own: Vec<&HaulRow> = hauls.iter().filter(|h| h.serial == identity.serial).collect();
            let last = own.iter().find(|h| matches!(h.state, HaulState::Done | HaulState::Stopped));
            YardRow {
                about: spec.about,
                last_haul: last.map(|h| h.haul.clone()),
                known: last.map(|h| h.summary.clone()).unwrap_or_default(),
                hauls: own.len() as u64,
                examination: None,
                identity,
            }
        });
        self.rows = sims.chain([file_row()]).collect();
        self.chosen = self.chosen.min(self.rows.len().saturating_sub(1));
    }

    /// The drive under the cursor.
    #[must_use]
    pub fn chosen_row(&self) -> Option<&YardRow> {
        self.rows.get(self.chosen)
    }

    /// How many hauls there were on the drive with this serial: the next one is its next repeat.
    #[must_use]
    pub fn count_hauls(&self, serial: &str) -> u64 {
        self.rows.iter().find(|r| r.identity.serial == serial).map_or(0, |r| r.hauls)
    }

    /// Moves the cursor.
    pub fn act(&mut self, action: Action) {
        let last = self.rows.len().saturating_sub(1);
        self.chosen = match action {
            Action::Up => self.chosen.saturating_sub(1),
            Action::Down => (self.chosen + 1).min(last),
            Action::First => 0,
            Action::Last => last,
            _ => self.chosen,
        };
    }
}

fn live_on<'a>(app: &'a App, row: &YardRow) -> Option<&'a Live> {
    let on = |l: &&Live| l.runs() && l.readings.head().is_some_and(|h| h.drive.target == row.identity.target);
    let file = |l: &&Live| l.runs() && l.readings.head().is_some_and(|h| h.drive.kind == DriveKind::File);
    let found = app.live.iter().rev().find(on);
    if row.identity.kind == DriveKind::File { app.live.iter().rev().find(file) } else { found }
}

/// Draws the yard: two lines a drive, who it is above, what is known below.
pub fn render(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = &app.theme;
    let rows = &app.yard.rows;
    let running = app.running();
    let sims = rows.iter().filter(|r| r.identity.kind == DriveKind::Simulated).count();
    let words = match running {
        0 => format!("{sims} simulated drives and a place for a file; nothing is hauling"),
        n => format!("{sims} simulated drives and a place for a file; {n} hauling now"),
    };
    top(app, area, buf, &words);
    let width = usize::from(area.width);
    let known_at = if area.width >= 120 { 62u16 } else { 55 };
    let head_y = area.y + 2;
    let cells = columns(known_at);
    for (name, at) in
        [("serial", 2), ("model", cells.model), ("capacity", cells.capacity), ("connection", cells.link)]
    {
        buf.set_stringn(area.x + at, head_y, name, width, theme.faint());
    }
    buf.set_stringn(
        area.x + known_at + 2,
        head_y,
        "now, and what is known",
        width - usize::from(known_at),
        theme.faint(),
    );
    let each = 3u16;
    // What is known of the drive under the cursor takes the lower part, where there is room for both.
    let list = rows.len() as u16 * each + 4;
    let below = area.height.saturating_sub(list);
    let fits = usize::from(area.height.saturating_sub(4) / each).max(1);
    if below >= 9 {
        detail(app, Rect { y: area.y + list, height: below, ..area }, buf);
    }
    let from = app.yard.chosen.saturating_sub(fits - 1);
    for (i, row) in rows.iter().enumerate().skip(from).take(fits) {
        let y = area.y + 3 + (i - from) as u16 * each;
        let chosen = i == app.yard.chosen;
        draw_row(app, row, chosen, known_at, Rect { y, height: 2, ..area }, buf);
    }
}

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

fn draw_row(app: &App, row: &YardRow, chosen: bool, known_at: u16, area: Rect, buf: &mut Buffer) {
    let theme = &app.theme;
    let d = &row.identity;
    let at = columns(known_at);
    let plain = if chosen { theme.accent() } else { theme.strong() };
    buf.set_string(area.x, area.y, if chosen { "▸" } else { " " }, theme.accent());
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
    put(at.link, 0, &d.link.as_ref().map(Link::words).unwrap_or_default(), known_at, plain);
    let right = known_at + 2;
    let safety = match d.kind {
        DriveKind::Simulated => "simulated: nothing real is written",
        DriveKind::File => "makes one new file, removes it",
        DriveKind::Block | DriveKind::Imported => "",
    };
    put(at.model, 1, safety, known_at, theme.faint());
    match live_on(app, row) {
        Some(live) => {
            let r = &live.readings;
            let now = text::rate_now(r).map(|r| r.to_string()).unwrap_or_default();
            let heat = r.last().and_then(|s| s.temperature).map(|t| format!("  {t}")).unwrap_or_default();
            let line = format!("hauling  {now}{heat}  {} written  {}", r.written(), clock(r.elapsed()));
            put(right, 0, &line, area.width, theme.accent());
            put(right, 1, &text::answer(r, &live.conclusions), area.width, theme.strong());
        }
        None if row.hauls > 0 => {
            let hauls = if row.hauls == 1 { "1 haul".to_owned() } else { format!("{} hauls", row.hauls) };
            let known = if row.known.is_empty() { "none of them ended" } else { &row.known };
            put(right, 0, &format!("at rest  ·  {hauls}: {known}"), area.width, theme.strong());
            put(right, 1, &row.about, area.width, theme.faint());
        }
        None => {
            let first = if d.kind == DriveKind::File { "ready" } else { "at rest  ·  no haul yet" };
            put(right, 0, first, area.width, theme.strong());
            put(right, 1, &row.about, area.width, theme.faint());
        }
    }
}

/// Who the drive under the cursor is in full, and the picture of its newest haul.
fn detail(app: &App, area: Rect, buf: &mut Buffer) {
    let theme = &app.theme;
    let Some(row) = app.yard.chosen_row() else { return };
    let d = &row.identity;
    let left = Rect { width: 44.min(area.width / 2), ..area };
    let mut out = Writer::new(left, buf);
    let mut put = |name: &str, value: String| out.pair(name, &value, 14, theme.faint(), theme.strong());
    if d.kind != DriveKind::File {
        put("named", d.target.clone());
        put("firmware", d.firmware.clone());
        put("block", d.block.binary());
        put("kind", if d.rotational { "platters".into() } else { "flash".into() });
        put("heat limit", d.throttle_limit.map_or_else(|| "none stated".into(), |t| t.to_string()));
        put("rated writes", d.rated_writes.map_or_else(|| "none stated".into(), |b| b.to_string()));
        let ceiling = d.link.as_ref().and_then(Link::payload_ceiling);
        put("link carries", ceiling.map_or_else(|| "not known".into(), |r| format!("{r} at most")));
    }
    let right = Rect { x: area.x + left.width + 2, width: area.width.saturating_sub(left.width + 2), ..area };
    if let Some(glance) = app.glance.as_ref().filter(|g| Some(&g.haul) == row.last_haul.as_ref()) {
        glance.render(right, buf, theme);
    }
}
