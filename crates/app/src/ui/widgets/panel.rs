//! Words in an area: wrapped lines, one under the other, with a style each.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::words::cells;
pub use crate::told::words::fit;
pub use crate::told::wrap::wrap;
use crate::ui::theme::Theme;

/// What is typed into a line, with a mark where the cursor is; of a long one the part around the cursor.
#[must_use]
pub fn with_cursor(input: &tui_input::Input, width: usize) -> String {
    let mut shown: String = input.value().chars().take(input.cursor()).collect();
    let after: String = input.value().chars().skip(input.cursor()).collect();
    while cells(&shown) + 1 > width && !shown.is_empty() {
        shown.remove(0);
    }
    format!("{shown}▏{after}")
}

/// Writes downwards, line by line, and stops at the bottom.
pub struct Writer<'a> {
    area: Rect,
    buf: &'a mut Buffer,
    row: u16,
}

impl<'a> Writer<'a> {
    /// At the top of an area.
    pub const fn new(area: Rect, buf: &'a mut Buffer) -> Self {
        Self { area, buf, row: 0 }
    }

    /// Rows that are left.
    #[must_use]
    pub const fn left(&self) -> u16 {
        self.area.height.saturating_sub(self.row)
    }

    /// Some of what was written had no room.
    #[must_use]
    pub const fn has_cut(&self) -> bool {
        self.row > self.area.height
    }

    /// A line, cut at the edge.
    pub fn line(&mut self, text: &str, style: Style) {
        if self.left() > 0 {
            let width = usize::from(self.area.width);
            self.buf.set_stringn(self.area.x, self.area.y + self.row, fit(text, width), width, style);
        }
        self.row += 1;
    }

    /// Two parts on one line, the second at column `at`.
    pub fn pair(&mut self, name: &str, value: &str, at: u16, name_style: Style, style: Style) {
        if self.left() > 0 {
            let (x, y) = (self.area.x, self.area.y + self.row);
            self.buf.set_stringn(x, y, name, usize::from(at.min(self.area.width)), name_style);
            let room = usize::from(self.area.width.saturating_sub(at));
            self.buf.set_stringn(x + at.min(self.area.width), y, fit(value, room), room, style);
        }
        self.row += 1;
    }

    /// A name, what is drawn, and a figure, the last two at their columns.
    pub fn three(
        &mut self,
        name: &str,
        (at, drawn, style): (u16, &str, Style),
        (end, figure): (u16, &str),
        theme: &Theme,
    ) {
        if self.left() > 0 {
            let (x, y, width) = (self.area.x, self.area.y + self.row, self.area.width);
            let room = |from: u16| usize::from(width.saturating_sub(from));
            self.buf.set_stringn(x, y, fit(name, usize::from(at.min(width))), room(0), theme.faint());
            self.buf.set_stringn(x + at.min(width), y, drawn, room(at), style);
            self.buf.set_stringn(x + end.min(width), y, fit(figure, room(end)), room(end), theme.strong());
        }
        self.row += 1;
    }

    /// Wrapped text, every line but the first indented; where the rows end before the text, the last says so.
    pub fn text(&mut self, text: &str, indent: usize, style: Style) {
        let width = usize::from(self.area.width);
        let lines = wrap(text, width.saturating_sub(indent));
        for (i, line) in lines.iter().enumerate() {
            let lead = " ".repeat(if i == 0 { 0 } else { indent });
            match lines.get(i + 1).filter(|_| self.left() == 1) {
                // Too long for the row by its next line, so that it is cut with its mark.
                Some(next) => self.line(&format!("{lead}{line} {next}{}", " ".repeat(width)), style),
                None => self.line(&format!("{lead}{line}"), style),
            }
        }
    }

    /// An empty line.
    pub const fn gap(&mut self) {
        self.row += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_that_has_no_room_is_seen_to_be_cut() {
        let drawn = |height| {
            let area = Rect::new(0, 0, 9, height);
            let mut buf = Buffer::empty(area);
            Writer::new(area, &mut buf).text("one two three four", 2, Style::new());
            (0..height).map(|y| (0..9).map(|x| buf[(x, y)].symbol()).collect()).collect::<Vec<String>>()
        };
        assert_eq!(drawn(3), ["one two  ", "  three  ", "  four   "]);
        assert_eq!(drawn(2), ["one two  ", "  three …"]);
    }

    #[test]
    fn text_breaks_at_spaces_and_never_exceeds_the_width() {
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
        assert_eq!(wrap("unbreakable", 4), ["unbr", "eaka", "ble"]);
        assert_eq!(wrap("a", 0), Vec::<String>::new());
        assert_eq!(wrap("from 4 706 MB/s", 8), ["from", "4 706", "MB/s"]);
        assert_eq!(fit("abcdef", 4), "abc…");
    }
}
