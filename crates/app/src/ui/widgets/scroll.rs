//! What has more rows than room: where it begins, no further than its last row, and a word on what is out of sight.

use std::cell::Cell;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::actions::Action;
use crate::ui::theme::Theme;

/// The first row that is shown.
#[derive(Debug, Clone, Default)]
pub struct Scroll {
    from: Cell<usize>,
}

/// Rows of a large step.
pub const LEAP: usize = 10;

/// Moves a place in a list of which `last` is the last. `None` for what is no move.
#[must_use]
pub fn moved(at: usize, last: usize, action: Action) -> Option<usize> {
    Some(match action {
        Action::Up => at.saturating_sub(1),
        Action::Down => (at + 1).min(last),
        Action::PageUp => at.saturating_sub(LEAP),
        Action::PageDown => (at + LEAP).min(last),
        Action::First => 0,
        Action::Last => last,
        _ => return None,
    })
}

impl Scroll {
    /// Moves it; how far it can go is known when it is drawn.
    pub fn act(&self, action: Action) {
        if let Some(to) = moved(self.from.get(), usize::MAX / 2, action) {
            self.from.set(to);
        }
    }

    /// The first of `rows` to show where `room` fit.
    #[must_use]
    pub fn first_of(&self, rows: usize, room: usize) -> usize {
        let from = self.from.get().min(rows.saturating_sub(room));
        self.from.set(from);
        from
    }
}

/// Says what is out of sight above and below, at the right of a row.
pub fn more(above: usize, below: usize, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let words = match (above, below) {
        (0, 0) => return,
        (0, b) => format!("{b} more, j"),
        (a, 0) => format!("{a} above, k"),
        (a, b) => format!("{a} above, k; {b} more, j"),
    };
    let x = area.x + area.width.saturating_sub(words.len() as u16);
    buf.set_stringn(x, area.y, words, usize::from(area.width), theme.faint());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_goes_no_further_than_its_last_row() {
        let s = Scroll::default();
        (0..50).for_each(|_| s.act(Action::Down));
        assert_eq!(s.first_of(12, 5), 7);
        s.act(Action::Up);
        assert_eq!(s.first_of(12, 5), 6, "and comes back at the first key");
        s.act(Action::Last);
        assert_eq!(s.first_of(12, 5), 7);
        assert_eq!(s.first_of(3, 5), 0, "another list is shown from its beginning");
    }
}
