//! A table of words: columns as wide as they need to be, cut on the right, with a word on what is out of sight.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::panel::fit;
use super::scroll::more;
use crate::told::words::cells;
use crate::ui::theme::Theme;

/// How wide each column needs to be.
#[must_use]
pub fn widths(head: &[String], rows: &[Vec<String>]) -> Vec<u16> {
    let width = |c: usize| {
        let all = rows.iter().filter_map(|r| r.get(c)).map(|t| cells(t));
        all.chain([cells(&head[c])]).max().unwrap_or(0) as u16 + 2
    };
    (0..head.len()).map(width).collect()
}

/// Draws the rows from the `from`-th on; those that are `strong` stand out.
pub fn table(
    head: &[String],
    rows: &[Vec<String>],
    from: usize,
    strong: impl Fn(&[String]) -> bool,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    if area.height == 0 {
        return;
    }
    let widths = widths(head, rows);
    let mut line = |y: u16, cells: &[String], style: Style| {
        let mut x = area.x;
        for (cell, w) in cells.iter().zip(&widths) {
            let room = usize::from((area.x + area.width).saturating_sub(x).min(*w));
            buf.set_stringn(x, y, fit(cell, room), room, style);
            x += w;
        }
    };
    line(area.y, head, theme.faint());
    let room = usize::from(area.height - 1);
    for (i, row) in rows.iter().skip(from).take(room).enumerate() {
        line(area.y + 1 + i as u16, row, if strong(row) { theme.strong() } else { Style::new() });
    }
    more(from, rows.len().saturating_sub(from + room), Rect { height: 1, ..area }, buf, theme);
}
