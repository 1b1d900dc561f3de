//! A haul in one row: how fast it was as far as it is, and how much is left.

use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::readings::Column;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::surface;
use crate::ui::theme::Theme;

/// What lies ahead.
const AHEAD: &str = "·";

/// Rates over the whole way, each by height and colour; beyond `done` (0 to 1) lies what is to come.
pub fn rates(columns: &[Column], done: f64, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let top = surface::fastest(columns).max(1.0);
    let here = (done * f64::from(area.width)).ceil() as usize;
    for (x, column) in columns.iter().enumerate().take(usize::from(area.width)) {
        let (symbol, style) = match column.rate.map(Rate::get) {
            Some(rate) => {
                let eighths = ((rate / top * 8.0).round() as usize).clamp(1, 8);
                (surface::EIGHTHS[eighths], theme.speed(rate / top))
            }
            None if x >= here => (AHEAD, theme.faint()),
            // A rest.
            None => (" ", theme.faint()),
        };
        buf.set_string(area.x + x as u16, area.y, symbol, style);
    }
}

/// Of a haul whose samples are not at hand: how far it is, where that is known.
pub fn progress(done: Option<f64>, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let Some(done) = done else { return };
    let here = (done.clamp(0.0, 1.0) * f64::from(area.width)).round() as u16;
    for x in 0..area.width {
        let (symbol, style) = if x < here { ("━", theme.strong()) } else { (AHEAD, theme.faint()) };
        buf.set_string(area.x + x, area.y, symbol, style);
    }
}
