//! The drive file: all that is known of one drive over its hauls. How long will it last, how was it treated, what is it like?

use crate::told::drive;
use crate::told::words;
use hollow_mile_core::quantity::FigureId;
use hollow_mile_core::quantity::units::clock;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::told::DriveFile;
use crate::told::drive::Past;

use crate::ui::actions::Action;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::over_time::{self, Followed, SIGNS};
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{more, moved};

/// One drive's file.
#[derive(Default)]
pub struct DriveFileView {
    /// What is in it.
    pub file: Option<DriveFile>,
    chosen: usize,
    page: u16,
}

impl DriveFileView {
    /// Opens one.
    #[must_use]
    pub const fn of(file: DriveFile) -> Self {
        Self { file: Some(file), chosen: 0, page: 0 }
    }

    /// The haul under the cursor.
    #[must_use]
    pub fn chosen_haul(&self) -> Option<String> {
        Some(self.file.as_ref()?.hauls.get(self.chosen)?.row.haul.clone())
    }

    /// Moves the cursor, or turns to what did not fit.
    pub fn act(&mut self, action: Action) {
        let last = self.file.as_ref().map_or(0, |f| f.hauls.len().saturating_sub(1));
        match action {
            Action::OtherPane => self.page += 1,
            _ => self.chosen = moved(self.chosen, last, action).unwrap_or(self.chosen),
        }
    }

    /// Puts the cursor on a haul. True when it stood there.
    pub const fn press(&mut self, row: usize) -> bool {
        let there = self.chosen == row;
        self.chosen = row;
        there
    }
}

/// The figures in which a change of the drive shows first.
const FOLLOWED: [FigureId; 6] = [
    FigureId::Sustained,
    FigureId::Cache,
    FigureId::Hottest,
    FigureId::Burst,
    FigureId::MeanOverTheGround,
    FigureId::Throttlings,
];

/// How a haul was cooled and where it sat, as its signs are explained.
fn conditions(past: &Past) -> String {
    let c = &past.row.conditions;
    let parts: Vec<String> =
        c.cooling.iter().cloned().chain(c.slot.iter().map(|s| format!("slot {s}"))).collect();
    if parts.is_empty() { "no cooling stated".into() } else { parts.join(", ") }
}

/// What the hauls found, oldest first, and what each sign of a haul means.
fn followed(file: &DriveFile) -> (Vec<Followed>, Vec<String>) {
    let oldest_first: Vec<&Past> = file.hauls.iter().rev().collect();
    let mut signs: Vec<String> = Vec::new();
    let sign_of: Vec<usize> = oldest_first
        .iter()
        .map(|p| {
            let c = conditions(p);
            let place = signs.iter().position(|s| *s == c);
            place.unwrap_or_else(|| {
                signs.push(c);
                signs.len() - 1
            })
        })
        .collect();
    let one = |id: FigureId| {
        let values: Vec<_> = oldest_first
            .iter()
            .enumerate()
            .filter_map(|(i, p)| {
                let f = p.digest.figure(id)?;
                Some((i, f.value, f.interval.map(|(l, h)| (h - l) / 2.0), sign_of[i]))
            })
            .collect();
        Followed { name: id.name().to_owned(), quantity: id.quantity(), compares: true, values }
    };
    (FOLLOWED.into_iter().map(one).filter(|f| f.values.len() > 1).collect(), signs)
}

/// Draws the file.
pub fn render(view: &DriveFileView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(file) = &view.file else {
        return frame.top(area, buf, "choose a haul of the drive in the ledger first");
    };
    let id = &file.identity;
    frame.top(area, buf, &format!("{}  {}  {}", id.serial, id.model, id.capacity));
    let mut sentences = drive::drive_file(file).into_iter();
    let answer = Rect { y: area.y + 2, height: 3, ..area };
    let mut out = Writer::new(answer, buf);
    out.text(&sentences.next().unwrap_or_default(), 0, theme.strong());
    let body = Rect { y: area.y + 5, height: area.height.saturating_sub(5), ..area };
    let half = if body.width >= 120 { body.width * 11 / 20 } else { body.width / 2 };
    let left = Rect { width: half - 2, ..body };
    let right = Rect { x: body.x + half, width: body.width - half, ..body };
    let (figures, signs) = followed(file);
    // The list takes what it needs, and half where that is less; a picture needs seven rows.
    let listed = (file.hauls.len() as u16 + 2).min(left.height / 2);
    let listed = if figures.is_empty() || left.height - listed < 7 { left.height } else { listed };
    let list = Rect { height: listed, ..left };
    buf.set_stringn(list.x + 2, list.y, "hauls, newest first", usize::from(list.width), theme.faint());
    let fits = usize::from(list.height.saturating_sub(1));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    for (i, past) in file.hauls.iter().enumerate().skip(from).take(fits) {
        let y = list.y + 1 + (i - from) as u16;
        frame.spot(Rect { y, height: 1, ..list }, SpotOf::Row(i));
        let style = if i == view.chosen { theme.accent() } else { ratatui::style::Style::new() };
        buf.set_string(list.x, y, if i == view.chosen { "▸" } else { " " }, theme.accent());
        let r = &past.row;
        // What was found is worth more than how long it took.
        let size = if list.width >= 64 {
            format!("{:>8}  {:>9}  ", clock(r.elapsed), r.written.to_string())
        } else {
            String::new()
        };
        let line = format!("{}  {:<11}  {size}{}", words::date(r.started_unix_ms), r.route, r.summary);
        let room = usize::from(list.width.saturating_sub(3));
        buf.set_stringn(list.x + 2, y, fit(&line, room), room, style);
    }
    let out_of_sight = Rect { y: list.y, height: 1, ..list };
    more(from, file.hauls.len().saturating_sub(from + fits), out_of_sight, buf, theme);
    let at = Rect { x: left.x + 2, y: left.y + listed, width: left.width - 2, height: left.height - listed };
    if at.height >= 7 && !figures.is_empty() {
        let chosen = file.hauls.len().checked_sub(view.chosen + 1);
        let strips_at = Rect { height: at.height - 1, ..at };
        let left_out = over_time::strips(&figures, file.hauls.len(), chosen, strips_at, buf, theme);
        let mut words: Vec<String> =
            signs.iter().enumerate().map(|(i, s)| format!("{} {s}", SIGNS[i % SIGNS.len()])).collect();
        if left_out > 0 {
            words.push(format!("({left_out} more figures have no room)"));
        }
        let line = fit(&words.join("   "), usize::from(at.width));
        buf.set_stringn(at.x, at.y + at.height - 1, line, usize::from(at.width), theme.faint());
    }
    let fan = if right.height >= 24 { right.height * 2 / 5 } else { 0 };
    if fan > 0 {
        let at = Rect { height: fan - 1, ..right };
        over_time::life(&file.wear, file.endurance, file.projection.as_ref().ok(), at, buf, theme);
    }
    let right = Rect { y: right.y + fan, height: right.height - fan, ..right };
    let rest: Vec<String> = sentences.collect();
    let mut out = Writer::new(right, buf);
    let skip = usize::from(view.page) % rest.len().max(1);
    for sentence in rest.iter().skip(skip) {
        if out.left() < 2 {
            out.line("Tab turns to what follows.", theme.faint());
            break;
        }
        out.text(sentence, 2, ratatui::style::Style::new());
        out.gap();
    }
}
