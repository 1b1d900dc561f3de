//! The spine: the drive as a narrow upright map, first address at the top. How densely a row is filled says how much
//! of it was visited in this haul, its colour how fast; the pointer is where the haul is now.

use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::theme::Theme;
use crate::ui::widgets::zone_map;

/// Columns that a spine takes, with its gap to the right.
pub const WIDTH: u16 = 9;

/// Draws the spine of a haul's drive.
pub fn render(area: Rect, buf: &mut Buffer, readings: &Readings, theme: &Theme) {
    if area.width < 4 || area.height < 3 {
        return;
    }
    let Some(head) = readings.head() else { return };
    let capacity = head.drive.capacity;
    let rows = usize::from(area.height - 2);
    let stretches = readings.ground().stretches(rows);
    let fastest = stretches.iter().filter_map(|s| s.1).map(|r| r.get()).fold(1.0, f64::max);
    let zones = head.drive.zones.as_ref().filter(|z| !z.map.is_empty());
    let zoned = u16::from(zones.is_some());
    if let Some(zones) = zones {
        zone_map::column(zones, area.x, area.y + 1, rows, buf, theme);
    }
    let position = readings.last().and_then(|s| s.position);
    let here = position.map(|p| row_of(p, capacity, rows));
    let head = if zones.is_some() { "■zones" } else { "first" };
    buf.set_stringn(area.x, area.y, head, usize::from(area.width), theme.faint());
    for (i, (share, rate)) in stretches.iter().enumerate() {
        let y = area.y + 1 + i as u16;
        let shade = match share {
            s if *s <= 0.0 => "░",
            s if *s < 0.5 => "▒",
            s if *s < 0.999 => "▓",
            _ => "█",
        };
        let style = rate.map_or_else(|| theme.faint(), |r| theme.speed(r.get() / fastest));
        // Of a zoned drive the first column is what its zones were at when the haul began.
        buf.set_string(area.x + zoned, y, shade.repeat(3 - usize::from(zoned)), style);
        if here == Some(i) {
            let percent = position.map_or(0.0, |p| p.as_f64() / capacity.as_f64().max(1.0) * 100.0);
            buf.set_stringn(area.x + 3, y, format!("◂{percent:.0} %"), 6, theme.accent());
        }
    }
    buf.set_stringn(
        area.x,
        area.y + area.height - 1,
        capacity.to_string(),
        usize::from(area.width),
        theme.faint(),
    );
}

fn row_of(position: Bytes, capacity: Bytes, rows: usize) -> usize {
    let share = position.as_f64() / capacity.as_f64().max(1.0);
    ((share * rows as f64) as usize).min(rows.saturating_sub(1))
}
