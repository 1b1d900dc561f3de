//! Dots in braille cells, two by four a cell, with a style a cell.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

/// Bits of a braille cell by column and row (Unicode 15.0, block 2800).
const BITS: [[u8; 4]; 2] = [[0x01, 0x02, 0x04, 0x40], [0x08, 0x10, 0x20, 0x80]];

/// A field of dots.
pub struct Canvas {
    cells: Vec<(u8, Style)>,
    width: usize,
    height: usize,
}

impl Canvas {
    /// As large as an area, empty.
    #[must_use]
    pub fn new(area: Rect) -> Self {
        let (width, height) = (usize::from(area.width), usize::from(area.height));
        Self { cells: vec![(0, Style::new()); width * height], width, height }
    }

    /// Dots from left to right.
    #[must_use]
    pub const fn columns(&self) -> usize {
        self.width * 2
    }

    /// Dots from top to bottom.
    #[must_use]
    pub const fn rows(&self) -> usize {
        self.height * 4
    }

    /// Sets a dot; `up` counts from the bottom. Outside is ignored.
    pub fn dot(&mut self, x: usize, up: usize, style: Style) {
        if x >= self.columns() || up >= self.rows() {
            return;
        }
        let y = self.rows() - 1 - up;
        let cell = &mut self.cells[y / 4 * self.width + x / 2];
        cell.0 |= BITS[x % 2][y % 4];
        cell.1 = style;
    }

    /// Sets the dots of a straight line; `style` is asked for each by its share of the way.
    pub fn line(&mut self, a: (f64, f64), b: (f64, f64), style: impl Fn(f64) -> Style) {
        let steps = (b.0 - a.0).abs().max((b.1 - a.1).abs()).ceil().max(1.0);
        for i in 0..=steps as usize {
            let t = i as f64 / steps;
            let (x, up) = (a.0 + (b.0 - a.0) * t, a.1 + (b.1 - a.1) * t);
            self.dot(x.round() as usize, up.round() as usize, style(t));
        }
    }

    /// Writes the dots into a buffer; cells without dots are left as they are.
    pub fn paint(&self, area: Rect, buf: &mut Buffer) {
        for (i, (bits, style)) in self.cells.iter().enumerate().filter(|(_, c)| c.0 != 0) {
            let (x, y) = ((i % self.width) as u16, (i / self.width) as u16);
            if let Some(cell) = buf.cell_mut((area.x + x, area.y + y)) {
                let symbol = char::from_u32(0x2800 + u32::from(*bits)).unwrap_or(' ');
                cell.set_char(symbol).set_style(*style);
            }
        }
    }
}

/// The row, from the top, of a plot so many rows high in which a canvas has its dot for this share of its height.
#[must_use]
pub fn row_of(share: f64, height: u16) -> u16 {
    let dots = f64::from(height) * 4.0 - 1.0;
    let up = (share.clamp(0.0, 1.0) * dots).round() as u16;
    height.saturating_sub(1 + up / 4)
}

/// What a console's own font has in place of a character that it lacks: blocks for dots and for eighths, plain lines and arrows.
#[must_use]
pub fn on_a_console(c: char) -> char {
    match c {
        '\u{2800}'..='\u{28ff}' => {
            // Rows 1 and 2 above, 3 and 4 below.
            let dots = (u32::from(c) - 0x2800) as u8;
            match (dots & 0b0001_1011 != 0, dots & 0b1110_0100 != 0) {
                (true, true) => '█',
                (true, false) => '▀',
                (false, true) => '▄',
                (false, false) => ' ',
            }
        }
        '▁' | '▂' | '▃' => '▄',
        '▅' | '▆' | '▇' => '█',
        '▏' | '▎' | '▍' | '▋' => '▌',
        '▊' | '▉' => '█',
        '┊' | '╎' | '┆' => '│',
        '┄' | '╌' | '┈' => '─',
        '┃' => '║',
        '━' => '═',
        '┣' => '╠',
        '┫' => '╣',
        '╭' => '┌',
        '╮' => '┐',
        '╰' => '└',
        '╯' => '┘',
        '▸' | '⇧' => '>',
        '▾' => 'v',
        '▴' => '^',
        '•' | '●' => '*',
        '◉' => 'O',
        '○' | '□' => 'o',
        '◆' => '+',
        '╱' => '/',
        '╳' => 'x',
        '▤' => '=',
        '−' | '–' => '-',
        '…' => '.',
        '“' | '”' => '"',
        '’' | '‘' => '\'',
        c => c,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_stands_in_the_row_of_its_dot() {
        let area = Rect::new(0, 0, 1, 7);
        for i in 0..=100 {
            let share = f64::from(i) / 100.0;
            let mut canvas = Canvas::new(area);
            canvas.dot(0, (share * (canvas.rows() - 1) as f64).round() as usize, Style::new());
            let mut buf = Buffer::empty(area);
            canvas.paint(area, &mut buf);
            let row = (0..7).find(|y| buf[(0, *y)].symbol() != " ");
            assert_eq!(row, Some(row_of(share, 7)), "{share}");
        }
    }

    #[test]
    fn dots_become_halves_on_a_console() {
        for (dots, block) in [('⠉', '▀'), ('⣀', '▄'), ('⣿', '█'), ('⠀', ' '), ('⠤', '▄'), ('⠒', '▀')]
        {
            assert_eq!(on_a_console(dots), block, "{dots}");
        }
        assert_eq!(on_a_console('A'), 'A');
    }
}
