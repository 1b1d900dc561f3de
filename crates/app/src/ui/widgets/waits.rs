//! The latency field as a lane: time along the ruler, latency upwards, shades for the share of the operations that took so
//! long; in them p50, p99 and p99.9.

use hollow_mile_core::quantity::histogram::{DRAWN, Histogram, extent, shade};
use hollow_mile_core::quantity::scale;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Style};

use super::lane::{self, LaneLayout};
use crate::ui::theme::Theme;

/// What p50, p99 and p99.9 are drawn as.
const MARKS: [&str; 3] = ["━", "╌", "·"];

/// How many rows from the bottom; ticks stand in the middle of theirs.
fn rows_up(share: f64, rows: u16) -> f64 {
    share.clamp(0.0, 1.0) * f64::from(rows.saturating_sub(1)) + 0.5
}

/// Shares of a column's operations, half a row each, from the bottom up.
fn halves(column: &Histogram, up: impl Fn(f64) -> f64, rows: u16) -> Vec<f64> {
    let count = usize::from(rows) * 2;
    let mut out = vec![0.0; count];
    let total = column.total() as f64;
    for bin in column.bins() {
        let place = rows_up(up(bin.middle_ns() / 1e3), rows) * 2.0;
        out[(place as usize).min(count - 1)] += bin.count as f64 / total;
    }
    out
}

/// Draws the lane; of each column its operations. `what` says whose they are.
pub fn render(area: Rect, buf: &mut Buffer, columns: &[Histogram], what: &str, theme: &Theme) {
    let layout = LaneLayout::of(area);
    let plot = layout.plot;
    if plot.height == 0 || plot.width == 0 {
        return;
    }
    let Some((low, high)) = extent(columns) else {
        return lane::title(buf, &layout, &format!("{what}: none here"), theme);
    };
    let us = |ns: u64| ns as f64 / 1e3;
    let (axis, low, high) = scale::latencies_on_rows(us(low), us(high), usize::from(plot.height));
    let up = |us: f64| (us.max(1e-3).log10() - low) / (high - low);
    let drawn = || DRAWN.iter().zip(MARKS);
    let key: Vec<String> = drawn().map(|((name, _), mark)| format!("{mark} {name}")).collect();
    lane::title(buf, &layout, &format!("{what}, {}; {}", axis.unit, key.join(" ")), theme);
    lane::upright(plot, &axis, up, buf, theme);
    for (x, column) in columns.iter().enumerate().take(usize::from(plot.width)).filter(|(_, c)| !c.is_empty())
    {
        let shares = halves(column, up, plot.height);
        let x = plot.x + x as u16;
        for row in 0..plot.height {
            let [below, above] = [0, 1].map(|h| shade(shares[usize::from(row) * 2 + h]));
            if let Some((symbol, style)) = cell(below, above, theme)
                && let Some(cell) =
                    buf.cell_mut((x, plot.y + plot.height - 1 - row)).filter(|c| c.symbol() == " ")
            {
                cell.set_symbol(symbol).set_style(style);
            }
        }
        for ((_, q), mark) in drawn().rev() {
            let Some(bin) = column.told_bin(*q) else { continue };
            let row = (rows_up(up(bin.middle_ns() / 1e3), plot.height) as u16).min(plot.height - 1);
            let there = (0..2).map(|h| shade(shares[usize::from(row) * 2 + h])).max().unwrap_or(0);
            if let Some(cell) = buf.cell_mut((x, plot.y + plot.height - 1 - row)) {
                cell.set_symbol(mark).set_style(theme.latency_mark());
                cell.set_bg(theme.density(there).unwrap_or(Color::Reset));
            }
        }
    }
}

/// A cell of two halves: tones where there are some, else one shade for both.
fn cell(below: usize, above: usize, theme: &Theme) -> Option<(&'static str, Style)> {
    match (theme.density(below), theme.density(above)) {
        (None, None) => {
            let symbol = *["░", "░", "▒", "▓"].get(below.max(above).checked_sub(1)?)?;
            Some((symbol, theme.faint()))
        }
        (Some(below), None) => Some(("▄", Style::new().fg(below))),
        (None, Some(above)) => Some(("▀", Style::new().fg(above))),
        (Some(below), Some(above)) if below == above => Some((" ", Style::new().bg(below))),
        (Some(below), Some(above)) => Some(("▀", Style::new().fg(above).bg(below))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::theme::{Depth, Theme};

    /// Ten rows from 0.1 ms to 100 ms: 990 operations of 1 ms, nine of 10 ms, one of 90 ms in each column.
    fn drawn(theme: Theme) -> Vec<String> {
        let area = Rect::new(0, 0, lane::LABELS + 3, 11);
        let mut buf = Buffer::empty(area);
        let column = Histogram::of([(1_000_000, 990), (10_000_000, 9), (90_000_000, 1)]);
        render(area, &mut buf, &[column.clone(), Histogram::default(), column], "latency", &theme);
        let line = |y| (0..area.width).map(|x| buf[(x, y)].symbol().to_owned()).collect::<String>();
        (1..area.height).map(line).collect()
    }

    #[test]
    fn quantiles_and_shades_stand_at_the_latency_that_the_axis_says() {
        let rows = drawn(Theme::new(Depth::Mono));
        let at =
            |tick: &str| rows.iter().find(|r| r.trim_start().starts_with(tick)).cloned().unwrap_or_default();
        assert!(at("1 ").ends_with("━ ━"), "{rows:#?}");
        assert!(at("10 ").ends_with("· ·"), "p99.9 is at 10 ms: {rows:#?}");
        assert!(at("100 ").ends_with("░ ░"), "the one in a thousand is seen: {rows:#?}");
        assert!(rows.iter().all(|r| !r.contains('▓') || r.contains('━')), "{rows:#?}");
    }
}
