//! What every view gets of the interface around it.

use crate::queue::Queue;
use crate::told::words::cells;
use std::cell::RefCell;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};

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
    /// The question that it answers.
    pub question: &'static str,
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
    /// What waits for drives.
    pub queues: &'a [Queue],
    /// What of it the mouse can press.
    pub spots: &'a RefCell<Vec<(Rect, SpotOf)>>,
}

/// What lies under a part of the screen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SpotOf {
    /// A row of the list that this view has in this pane, by its place.
    Row(usize),
    /// A name in a row of pages, so many pages on from the one that is shown.
    Tab(usize),
    /// A flag, by its number.
    Flag(usize),
    /// Columns of a picture.
    Plot,
}

/// What the mouse meets.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Spot {
    /// A row, by its place.
    Row(usize),
    /// A page, so many on.
    Tab(usize),
    /// A flag, by its number.
    Flag(usize),
    /// A column, as a share of the picture's width.
    Plot(f64),
}

/// The topmost thing at a place of the screen: what was drawn last lies over what was before.
#[must_use]
pub fn spot_at(spots: &[(Rect, SpotOf)], x: u16, y: u16) -> Option<Spot> {
    let (area, of) = spots.iter().rev().find(|(a, _)| a.contains(Position { x, y }))?;
    Some(match of {
        SpotOf::Row(i) => Spot::Row(*i),
        SpotOf::Tab(n) => Spot::Tab(*n),
        SpotOf::Flag(i) => Spot::Flag(*i),
        SpotOf::Plot => Spot::Plot(f64::from(x - area.x) / f64::from(area.width.max(2) - 1)),
    })
}

impl Frame<'_> {
    /// Something that the mouse can press is drawn there.
    pub fn spot(&self, area: Rect, of: SpotOf) {
        self.spots.borrow_mut().push((area, of));
    }

    /// Names of pages in a row, the one that is shown marked; the mouse turns to each.
    pub fn tabs(&self, names: &[&str], shown: usize, area: Rect, buf: &mut Buffer) {
        let mut x = area.x;
        for (i, name) in names.iter().enumerate() {
            let room = usize::from((area.x + area.width).saturating_sub(x));
            let mark = if i == shown { "▸" } else { " " };
            let (end, _) = buf.set_stringn(x, area.y, format!("{mark}{name} "), room, self.theme.faint());
            let on = (i + names.len() - shown) % names.len();
            self.spot(Rect { x, y: area.y, width: end - x, height: 1 }, SpotOf::Tab(on));
            x = end;
        }
    }

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
