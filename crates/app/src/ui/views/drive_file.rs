//! The drive file: all that is known of one drive over its hauls. How long will it last, how was it treated, what is it like?

use crate::told::drive;
use crate::told::words;
use crate::told::words::cells;
use hollow_mile_core::quantity::units::clock;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::told::DriveFile;

use crate::ui::actions::Action;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::canvas::Canvas;
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

/// Bytes written over its life, a dot a reading.
fn wear(file: &DriveFile, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) {
    let theme = frame.theme;
    let points: Vec<(f64, f64)> =
        file.wear.iter().filter_map(|p| Some((p.unix_ms as f64, p.host_written?.as_f64()))).collect();
    let (Some(first), Some(last)) = (points.first(), points.last()) else {
        buf.set_stringn(
            area.x,
            area.y,
            "No haul has left a health reading.",
            usize::from(area.width),
            theme.faint(),
        );
        return;
    };
    let (low, high) = points.iter().fold((f64::MAX, f64::MIN), |(l, h), p| (l.min(p.1), h.max(p.1)));
    let title = format!(
        "written by hosts, {} to {}",
        hollow_mile_core::quantity::units::Bytes::new(low as u64),
        hollow_mile_core::quantity::units::Bytes::new(high as u64)
    );
    buf.set_stringn(area.x, area.y, title, usize::from(area.width), theme.faint());
    let plot = Rect { y: area.y + 1, height: area.height.saturating_sub(2), ..area };
    if plot.height == 0 || plot.width < 4 {
        return;
    }
    let mut canvas = Canvas::new(plot);
    let (w, h) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |p: &(f64, f64)| {
        let x = (p.0 - first.0) / (last.0 - first.0).max(1.0) * w;
        (x, (p.1 - low) / (high - low).max(1.0) * h)
    };
    for pair in points.windows(2) {
        let (a, b) = (place(&pair[0]), place(&pair[1]));
        canvas.line(a, b, |_| theme.speed(0.5));
    }
    canvas.paint(plot, buf);
    let y = area.y + area.height - 1;
    buf.set_stringn(area.x, y, words::date(first.0 as i64), usize::from(area.width), theme.faint());
    let end = words::date(last.0 as i64);
    let at = area.width.saturating_sub(cells(&end) as u16);
    buf.set_stringn(area.x + at, y, end, usize::from(area.width), theme.faint());
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
    let below = if body.height >= 26 { 11 } else { 0 };
    let list = Rect { height: left.height - below, ..left };
    buf.set_stringn(list.x + 2, list.y, "hauls, newest first", usize::from(list.width), theme.faint());
    let fits = usize::from(list.height.saturating_sub(1));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    for (i, past) in file.hauls.iter().enumerate().skip(from).take(fits) {
        let y = list.y + 1 + (i - from) as u16;
        frame.spot(Rect { y, height: 1, ..list }, SpotOf::Row(i));
        let style = if i == view.chosen { theme.accent() } else { ratatui::style::Style::new() };
        buf.set_string(list.x, y, if i == view.chosen { "▸" } else { " " }, theme.accent());
        let r = &past.row;
        let line = format!(
            "{}  {:<11}  {:>8}  {:>9}  {}",
            words::date(r.started_unix_ms),
            r.route,
            clock(r.elapsed),
            r.written.to_string(),
            r.summary
        );
        let room = usize::from(list.width.saturating_sub(3));
        buf.set_stringn(list.x + 2, y, fit(&line, room), room, style);
    }
    let out_of_sight = Rect { y: list.y, height: 1, ..list };
    more(from, file.hauls.len().saturating_sub(from + fits), out_of_sight, buf, theme);
    if below > 0 {
        let at = Rect {
            x: left.x + 2,
            y: left.y + left.height - below + 1,
            width: left.width - 2,
            height: below - 1,
        };
        wear(file, at, buf, frame);
    }
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
