//! Batch: the drives of one kind taken together. A row a figure, a dot a drive; what may be promised of all such drives; which of them
//! are not like the others.

use hollow_mile_charts::batch::{extent, heaps};
use hollow_mile_core::archive::batch::{Batch, BatchRow};
use hollow_mile_core::quantity::Better;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::told::batch::{
    Batched, drift_words, effect_words, odd_words, percent, promise_words, table_of_figures,
};
use crate::told::words::cells;
use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::Canvas;
use crate::ui::widgets::panel::{Writer, fit, wrap};
use crate::ui::widgets::scroll::{Scroll, more};
use crate::ui::widgets::table::table;

/// Columns of the figures' names.
const NAMES: u16 = 18;
/// Columns of what is promised.
const PROMISES: u16 = 40;
/// Rows of a figure: its dots, its axis, a gap.
const ROWS: u16 = 4;
/// Rows of dots.
const DOTS: u16 = 2;

/// What is shown under the answer.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Page {
    /// A dot a drive.
    #[default]
    Dots,
    /// Numbers.
    Table,
    /// Odd drives, what firmware, slot, lot and time do.
    Reasons,
}

/// A batch on screen.
#[derive(Debug, Default)]
pub struct BatchView {
    /// What is taken together; `None` before hauls were marked.
    pub batched: Option<Batched>,
    page: Page,
    from: Scroll,
    /// Drive under the cursor: its place in the order of the figure that is told first.
    at: Option<usize>,
}

impl BatchView {
    /// Of hauls that were taken together.
    #[must_use]
    pub fn of(batched: Batched) -> Self {
        Self { batched: Some(batched), ..Self::default() }
    }

    /// Drives from the least value of the first figure to the largest.
    fn in_order(&self) -> Vec<usize> {
        let Some(b) = &self.batched else { return Vec::new() };
        let mut points: Vec<(f64, usize)> =
            b.batch.rows[b.first()].points.iter().map(|p| (p.value, p.drive)).collect();
        points.sort_by(|a, b| a.0.total_cmp(&b.0));
        points.into_iter().map(|p| p.1).collect()
    }

    /// The drive under the cursor.
    fn chosen(&self) -> Option<usize> {
        self.in_order().get(self.at?).copied()
    }

    /// Serial of the drive under the cursor, or of the oddest.
    #[must_use]
    pub fn chosen_serial(&self) -> Option<String> {
        let b = &self.batched.as_ref()?.batch;
        let drive = self.chosen().or_else(|| b.odd.first().map(|o| o.drive))?;
        b.drives.get(drive).map(|d| d.serial.clone())
    }

    /// Turns the page, moves the cursor, scrolls.
    pub fn act(&mut self, action: Action) {
        let last = self.in_order().len().saturating_sub(1);
        match action {
            Action::OtherPane => {
                self.page = match self.page {
                    Page::Dots => Page::Table,
                    Page::Table => Page::Reasons,
                    Page::Reasons => Page::Dots,
                };
                self.from = Scroll::default();
            }
            Action::CursorLeft => self.at = Some(self.at.map_or(0, |a| a.saturating_sub(1))),
            Action::CursorRight => self.at = Some(self.at.map_or(last, |a| (a + 1).min(last))),
            _ => self.from.act(action),
        }
    }
}

/// Draws the batch.
pub fn render(view: &BatchView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(batched) = &view.batched else {
        return frame.top(area, buf, "mark hauls in the ledger, or group them there with o, then press P");
    };
    let b = &batched.batch;
    frame.top(
        area,
        buf,
        &format!("{}   {} drives, {} hauls by {}", b.model, b.drives.len(), b.hauls, b.route),
    );
    let width = usize::from(area.width);
    let answers: Vec<String> = batched.answer.iter().flat_map(|a| wrap(a, width)).take(5).collect();
    let mut out =
        Writer::new(Rect { y: area.y + 2, height: 7.min(area.height.saturating_sub(2)), ..area }, buf);
    answers.iter().for_each(|l| out.line(l, theme.strong()));
    let notes: Vec<String> = batched.notes.iter().flat_map(|n| wrap(n, width)).take(2).collect();
    notes.iter().for_each(|n| out.line(n, theme.faint()));
    let used = 3 + (answers.len() + notes.len()) as u16;
    let body = Rect { y: area.y + used, height: area.height.saturating_sub(used), ..area };
    match view.page {
        Page::Dots => dots(view, b, body, buf, theme),
        Page::Table => {
            let mut lines = table_of_figures(b).into_iter();
            let (head, rows): (Vec<String>, Vec<_>) = (lines.next().unwrap_or_default(), lines.collect());
            let room = usize::from(body.height.saturating_sub(1));
            table(&head, &rows, view.from.first_of(rows.len(), room), |_| false, body, buf, theme);
        }
        Page::Reasons => reasons(view, b, body, buf, theme),
    }
}

fn reasons(view: &BatchView, b: &Batch, body: Rect, buf: &mut Buffer, theme: &Theme) {
    let mut lines: Vec<(String, bool)> = Vec::new();
    let mut part = |title: &str, none: &str, all: Vec<String>| {
        lines.push((title.to_owned(), true));
        if all.is_empty() {
            lines.push((format!("  {none}"), false));
        }
        let width = usize::from(body.width).saturating_sub(2);
        lines.extend(all.iter().flat_map(|l| wrap(l, width)).map(|l| (format!("  {l}"), false)));
        lines.push((String::new(), false));
    };
    part("not like the others", "none", b.odd.iter().map(|o| odd_words(b, o)).collect());
    part(
        "what is stated of them, beyond the noise",
        "nothing makes a difference",
        b.effects.iter().map(|e| effect_words(b, e)).collect(),
    );
    part("over time", "nothing drifts", b.drifts.iter().map(|d| drift_words(b, d)).collect());
    let room = usize::from(body.height);
    let from = view.from.first_of(lines.len(), room);
    for (i, (line, title)) in lines.iter().skip(from).take(room).enumerate() {
        let style = if *title { theme.faint() } else { Style::new() };
        buf.set_stringn(body.x, body.y + i as u16, line, usize::from(body.width), style);
    }
}

fn dots(view: &BatchView, b: &Batch, body: Rect, buf: &mut Buffer, theme: &Theme) {
    let chosen = view.chosen();
    if let Some(drive) = chosen {
        let d = &b.drives[drive];
        let facts: Vec<String> = d.facts.iter().map(|(k, v)| format!("{k} {v}")).collect();
        let words = format!("◆ {}   {}", d.serial, facts.join("   "));
        buf.set_stringn(
            body.x,
            body.y,
            fit(&words, usize::from(body.width)),
            usize::from(body.width),
            theme.accent(),
        );
    } else {
        let words = "a dot a drive; ▲ mean of the drives, │ what is promised; h l: a drive";
        buf.set_stringn(body.x, body.y, words, usize::from(body.width), theme.faint());
    }
    let body = Rect { y: body.y + 1, height: body.height.saturating_sub(1), ..body };
    let room = usize::from(body.height / ROWS).max(1);
    // What is told first stands first; what is the same in all drives is no picture.
    let first = view.batched.as_ref().map_or(0, Batched::first);
    let mut rows: Vec<&BatchRow> = vec![&b.rows[first]];
    let varies = |r: &BatchRow| r.points.iter().any(|p| p.value != r.points[0].value);
    rows.extend(b.rows.iter().enumerate().filter(|(i, r)| *i != first && varies(r)).map(|r| r.1));
    let from = view.from.first_of(rows.len(), room);
    for (i, row) in rows.iter().skip(from).take(room).enumerate() {
        let at = Rect { y: body.y + i as u16 * ROWS, height: ROWS.min(body.height), ..body };
        figure(b, row, chosen, at, buf, theme);
    }
    let last = Rect { y: body.y + body.height.saturating_sub(1), height: 1, ..body };
    more(from, rows.len().saturating_sub(from + room), last, buf, theme);
}

fn figure(b: &Batch, row: &BatchRow, chosen: Option<usize>, area: Rect, buf: &mut Buffer, theme: &Theme) {
    if area.height <= DOTS {
        return;
    }
    let promises = if area.width >= 100 { PROMISES } else { 24 };
    let plot = Rect {
        x: area.x + NAMES,
        width: area.width.saturating_sub(NAMES + promises + 2),
        height: DOTS,
        ..area
    };
    if plot.width < 10 {
        return;
    }
    let wanted = b.wanted.as_ref().filter(|w| w.0.figure == row.name).map(|w| w.0.value);
    let (low, high) = extent(row, wanted);
    let share = |v: f64| ((v - low) / (high - low).max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
    let axis_y = plot.y + DOTS;
    let column = |v: f64| plot.x + (share(v) * f64::from(plot.width - 1)).round() as u16;
    let name = fit(row.name.name(), usize::from(NAMES - 1));
    buf.set_stringn(area.x, plot.y + DOTS - 1, name, usize::from(NAMES - 1), theme.strong());
    // The axis, with its ends in numbers under it.
    for x in plot.x..plot.x + plot.width {
        buf.set_string(x, axis_y, "─", theme.faint());
    }
    if area.height > DOTS + 1 {
        let half = usize::from(plot.width / 2).saturating_sub(1);
        buf.set_stringn(plot.x, axis_y + 1, fit(&row.unit.words(low), half), half, theme.faint());
        let right = row.unit.words(high);
        let taken = cells(&right).min(half) as u16;
        buf.set_stringn(plot.x + plot.width - taken, axis_y + 1, fit(&right, half), half, theme.faint());
    }
    // What is promised stands under the dots.
    for (value, sign, style) in
        [(row.promise.ok().map(|p| p.bound), "│", theme.accent()), (wanted, "┊", Style::new())]
    {
        if let Some(v) = value {
            (plot.y..=axis_y).for_each(|y| {
                buf.set_string(column(v), y, sign, style);
            });
        }
    }
    // Drives of one cell fill it from its foot, two beside each other.
    let mut canvas = Canvas::new(plot);
    let last = usize::from(plot.width - 1);
    let columns: Vec<usize> =
        row.points.iter().map(|p| (share(p.value) * last as f64).round() as usize).collect();
    let levels = heaps(&columns, last);
    // A heap higher than there is room for is pressed together.
    let top = canvas.rows() - 1;
    let highest = (levels.iter().max().copied().unwrap_or(0) / 2).max(top);
    for (x, level) in columns.iter().zip(&levels) {
        canvas.dot(2 * x + level % 2, level / 2 * top / highest, theme.speed(0.45));
    }
    canvas.paint(plot, buf);
    for p in &row.points {
        let odd = b
            .odd
            .iter()
            .find(|o| o.drive == p.drive && o.figures.iter().any(|f| b.rows[f.row].name == row.name));
        if let Some(odd) = odd {
            let style = Style::new().add_modifier(Modifier::BOLD);
            buf.set_string(column(p.value), plot.y + DOTS - 1, &odd.letter, style);
        }
    }
    buf.set_string(column(row.centre.value), axis_y, "▲", theme.strong());
    if let Some(p) = chosen.and_then(|c| row.points.iter().find(|p| p.drive == c)) {
        buf.set_string(column(p.value), axis_y, "◆", theme.accent());
    }
    let at = plot.x + plot.width + 2;
    let room = usize::from(promises);
    let (promise, by) = promise_words(row);
    let sign = if row.better == Better::Higher { "≥" } else { "≤" };
    let first = match chosen.and_then(|c| row.points.iter().find(|p| p.drive == c)) {
        Some(p) => format!("◆ {}", row.unit.words(p.value)),
        None => format!("mean {}", row.unit.plus_minus(row.centre.value, row.centre.half())),
    };
    buf.set_stringn(
        at,
        plot.y,
        fit(&first, room),
        room,
        if chosen.is_some() { theme.accent() } else { Style::new() },
    );
    let promise = promise
        .map_or_else(|| "nothing promised".into(), |v| format!("{} {sign} {v}", percent(b.level.content)));
    buf.set_stringn(at, plot.y + 1, fit(&promise, room), room, theme.strong());
    buf.set_stringn(at, plot.y + 2, fit(&by, room), room, theme.faint());
}
