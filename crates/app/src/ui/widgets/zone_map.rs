//! The zones of a drive as a picture: a shape for each condition, so that it reads without colours.

use hollow_mile_core::drive::zones::{ZoneCondition, ZoneFacts};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::ui::theme::Theme;

/// The shape of a condition.
#[must_use]
pub const fn shape(condition: ZoneCondition) -> &'static str {
    match condition {
        ZoneCondition::Full => "■",
        ZoneCondition::Open => "◪",
        ZoneCondition::Closed => "◧",
        ZoneCondition::Empty => "□",
        ZoneCondition::Conventional => "≡",
        ZoneCondition::ReadOnly => "r",
        ZoneCondition::Offline => "x",
    }
}

fn style(condition: ZoneCondition, theme: &Theme) -> Style {
    match condition {
        ZoneCondition::Empty | ZoneCondition::Conventional => theme.faint(),
        ZoneCondition::ReadOnly | ZoneCondition::Offline => theme.accent(),
        _ => theme.strong(),
    }
}

/// Rows that a map with its words takes in this width.
#[must_use]
pub fn height(facts: &ZoneFacts, width: u16) -> u16 {
    let cells = (facts.count as usize).min(3 * usize::from(width.max(1)));
    2 + cells.div_ceil(usize::from(width.max(1))) as u16
}

/// Draws what the zones are, how many are in which condition, and the map, first address at the top left: a cell is a zone, or several.
pub fn render(facts: &ZoneFacts, area: Rect, buf: &mut Buffer, theme: &Theme) {
    if area.height < 2 || area.width < 20 {
        return;
    }
    let width = usize::from(area.width);
    buf.set_stringn(area.x, area.y, facts.words(), width, theme.faint());
    let rows = usize::from(height(facts, area.width).min(area.height).saturating_sub(2));
    let cells = (facts.count as usize).min(rows * width);
    let map = facts.stretches(cells);
    if map.is_empty() {
        buf.set_stringn(area.x, area.y + 1, "what they are at could not be asked", width, theme.faint());
        return;
    }
    let mut x = area.x;
    for condition in ZoneCondition::ALL {
        let n = facts.in_condition(condition);
        if n == 0 {
            continue;
        }
        let words = format!(
            "{} {} {}",
            shape(condition),
            hollow_mile_core::quantity::units::grouped(n.into()),
            condition.word()
        );
        let room = usize::from((area.x + area.width).saturating_sub(x));
        buf.set_stringn(x, area.y + 1, &words, room, style(condition, theme));
        x += words.chars().count() as u16 + 3;
    }
    for (i, condition) in map.into_iter().enumerate() {
        let (x, y) = (area.x + (i % width) as u16, area.y + 2 + (i / width) as u16);
        buf.set_string(x, y, shape(condition), style(condition, theme));
    }
}

/// Draws the map as a column, first address at the top: left of what a spine draws.
pub fn column(facts: &ZoneFacts, x: u16, y: u16, rows: usize, buf: &mut Buffer, theme: &Theme) {
    for (i, condition) in facts.stretches(rows).into_iter().enumerate() {
        buf.set_string(x, y + i as u16, shape(condition), style(condition, theme));
    }
}
