//! What every view gets of the interface around it.

use crate::told::words::cells;
use std::cell::Cell;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::actions::Screen;
use super::live::Live;
use super::theme::Theme;
use super::views::haul::HaulView;
use super::widgets::glance::Glance;
use super::widgets::panel::fit;

/// What lies around a view.
pub struct Frame<'a> {
    /// Colours.
    pub theme: &'a Theme,
    /// The view on screen.
    pub screen: Screen,
    /// On the demo's data.
    pub demo: bool,
    /// Whose data it is, for the right of the first row.
    pub whose: String,
    /// Hauls under way.
    pub running: usize,
    /// Hauls under way, and those that ended meanwhile.
    pub live: &'a [Live],
    /// The haul on screen, how it is looked at.
    pub haul: &'a HaulView,
    /// Its readings, and what is concluded from them.
    pub shown: Option<(&'a Readings, &'a Conclusions)>,
    /// It, where it is live.
    pub shown_live: Option<&'a Live>,
    /// The haul that a list shows below itself.
    pub glance: Option<&'a Glance>,
    /// Where the view was drawn last, for the mouse.
    pub area: &'a Cell<Rect>,
}

impl Frame<'_> {
    /// The first row: where one is, and on the right whose data it is.
    pub fn top(&self, area: Rect, buf: &mut Buffer, words: &str) {
        let width = usize::from(area.width);
        let (x, _) = buf.set_stringn(area.x, area.y, self.screen.name(), width, self.theme.accent());
        let room = width.saturating_sub(usize::from(x - area.x) + 2);
        buf.set_stringn(x + 2, area.y, fit(words, room), room, self.theme.strong());
        let mut right = self.whose.clone();
        if self.running > 0 {
            right = format!("{} hauling  ·  {right}", self.running);
        }
        let length = cells(&right);
        let used = usize::from(x + 2 - area.x) + cells(words);
        if used + length + 2 <= width {
            buf.set_string(area.x + (width - length) as u16, area.y, right, self.theme.faint());
        }
    }
}
