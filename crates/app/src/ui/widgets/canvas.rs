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
