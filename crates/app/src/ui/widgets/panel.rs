//! Words in an area: wrapped lines, one under the other, with a style each.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::words::cells;
pub use crate::told::words::fit;
pub use crate::told::wrap::wrap;

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

    /// Wrapped text, every line but the first indented.
    pub fn text(&mut self, text: &str, indent: usize, style: Style) {
        let width = usize::from(self.area.width);
        for (i, line) in wrap(text, width.saturating_sub(indent)).iter().enumerate() {
            let lead = if i == 0 { 0 } else { indent };
            self.line(&format!("{}{line}", " ".repeat(lead)), style);
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
    fn text_breaks_at_spaces_and_never_exceeds_the_width() {
        assert_eq!(wrap("one two three", 7), ["one two", "three"]);
        assert_eq!(wrap("unbreakable", 4), ["unbr", "eaka", "ble"]);
        assert_eq!(wrap("a", 0), Vec::<String>::new());
        assert_eq!(wrap("from 4 706 MB/s", 8), ["from", "4 706", "MB/s"]);
        assert_eq!(fit("abcdef", 4), "abc…");
    }
}
