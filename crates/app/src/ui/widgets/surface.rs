//! A filled area that reads as one surface: blocks in eighths of a row, in a tone that stands back. Under the slowest
//! interval of a column it is full, between the slowest and the mean it is paler, up to the fastest paler still.

use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::readings::Column;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Color;

use super::canvas::Canvas;
use super::lane::Expected;
use crate::ui::theme::{Layer, Theme};

/// Blocks from the bottom of a cell, in eighths of it.
pub const EIGHTHS: [&str; 9] = [" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"];

/// What a column of cells shows: slowest, mean and fastest.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Heights {
    slowest: f64,
    mean: f64,
    fastest: f64,
}

/// Both halves of a cell as one.
fn together(halves: &[Column]) -> Option<Heights> {
    let of = |c: &Column| {
        let (mean, slowest, fastest) = (c.rate?, c.slowest?, c.fastest?);
        Some(Heights { slowest: slowest.get().min(mean.get()), mean: mean.get(), fastest: fastest.get() })
    };
    let known: Vec<Heights> = halves.iter().filter_map(of).collect();
    let mean = known.iter().map(|h| h.mean).sum::<f64>() / known.len() as f64;
    let (first, rest) = known.split_first()?;
    Some(rest.iter().fold(Heights { mean, ..*first }, |a, b| Heights {
        slowest: a.slowest.min(b.slowest),
        fastest: a.fastest.max(b.fastest),
        ..a
    }))
}

/// One cell: how many of its eighths, from below, belong to each layer.
fn cell(eighths: [u16; 3], theme: &Theme) -> Option<(&'static str, Layer, Option<Layer>)> {
    let [full, mean, top] = eighths;
    let parts = [(full, Layer::Full), (mean - full, Layer::Shaken), (top - mean, Layer::Over)];
    let most = |parts: &[(u16, Layer)]| parts.iter().rev().max_by_key(|p| p.0).map(|p| p.1);
    match (top, mean, full) {
        (0, ..) => None,
        (1..=7, ..) => Some((EIGHTHS[usize::from(top)], most(&parts)?, None)),
        (_, 1..=7, _) if theme.has_tones() => {
            Some((EIGHTHS[usize::from(mean)], most(&parts[..2])?, Some(Layer::Over)))
        }
        (_, 8, 1..=7) if theme.has_tones() => {
            Some((EIGHTHS[usize::from(full)], Layer::Full, Some(Layer::Shaken)))
        }
        _ => Some(("█", most(&parts)?, None)),
    }
}

/// Draws the rates of columns, two a cell, with zero at the bottom of the plot and `top` (B/s) at its top.
pub fn render(plot: Rect, buf: &mut Buffer, columns: &[Column], top: f64, theme: &Theme) {
    let eighths = |v: f64| {
        let up = v / top * f64::from(plot.height) * 8.0;
        (up.round().max(1.0) as u16).min(plot.height * 8)
    };
    for (x, halves) in columns.chunks(2).enumerate().take(usize::from(plot.width)) {
        let Some(h) = together(halves) else { continue };
        let share = h.mean / top;
        let all = [h.slowest, h.mean, h.fastest.max(h.mean)].map(eighths);
        for row in 0..plot.height {
            let below = row * 8;
            let here = all.map(|e| e.saturating_sub(below).min(8));
            let Some((symbol, layer, behind)) = cell(here, theme) else { break };
            let at = (plot.x + x as u16, plot.y + plot.height - 1 - row);
            let Some(cell) = buf.cell_mut(at) else { continue };
            let mut style = theme.filled(share, layer);
            if let Some(tone) = behind.and_then(|b| theme.filled(share, b).fg) {
                style = style.bg(tone);
            }
            let symbol = if symbol == "█" { theme.shade(layer) } else { symbol };
            cell.set_symbol(symbol).set_style(style);
        }
    }
}

/// Whole cells get their ground in the same colour: in many fonts blocks leave a gap between rows, and an area is no stack of bars.
pub fn close_gaps(buf: &mut Buffer) {
    // A band behind them is a ground too, and would show in the gaps.
    for cell in buf.content.iter_mut().filter(|c| c.symbol() == "█") {
        cell.bg = cell.fg;
    }
}

/// Puts something thin upon whatever stands in a cell: on a surface it keeps the ground.
pub fn over(buf: &mut Buffer, at: (u16, u16), symbol: &str, style: ratatui::style::Style) {
    let Some(cell) = buf.cell_mut(at) else { return };
    if cell.symbol() == "█" && cell.bg == Color::Reset {
        cell.bg = cell.fg;
    }
    cell.set_symbol(symbol).set_style(style);
}

/// A band between two heights, two columns a cell; shares of the plot from its bottom up. A tone that stands far back where there are
/// tones, every other dot elsewhere.
pub fn band(plot: Rect, buf: &mut Buffer, spans: &[Option<(f64, f64)>], theme: &Theme) {
    let Some(tone) = theme.band() else {
        let mut canvas = Canvas::new(plot);
        let rows = canvas.rows().saturating_sub(1) as f64;
        let up = |share: f64| (share.clamp(0.0, 1.0) * rows).round() as usize;
        for (x, (low, high)) in spans.iter().enumerate().filter_map(|(x, s)| Some((x, (*s)?))) {
            let dots = (up(low)..=up(high)).filter(|up| (x + up) % 2 == 0);
            dots.for_each(|up| canvas.dot(x, up, theme.faint()));
        }
        return canvas.paint(plot, buf);
    };
    if plot.height == 0 {
        return;
    }
    for (x, pair) in spans.chunks(2).enumerate().take(usize::from(plot.width)) {
        let all = pair.iter().flatten();
        let Some((low, high)) = all.copied().reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))) else { continue };
        let eighths = f64::from(plot.height) * 8.0;
        let low = ((low.clamp(0.0, 1.0) * eighths).round() as u16).min(plot.height * 8 - 1);
        // A band has a height, however narrow it is.
        let high = ((high.clamp(0.0, 1.0) * eighths).round() as u16).max(low + 1);
        for row in low / 8..=(high - 1) / 8 {
            let (from, to) = (low.saturating_sub(row * 8).min(8), (high - row * 8).min(8));
            let at = (plot.x + x as u16, plot.y + plot.height.saturating_sub(1 + row));
            let Some(cell) = buf.cell_mut(at).filter(|c| c.symbol() == " ") else { continue };
            match (from, to) {
                (0..=2, 7..) => cell.set_bg(tone),
                (0..=2, _) => cell.set_symbol(EIGHTHS[usize::from(to)]).set_fg(tone),
                _ => cell.set_symbol("▀").set_fg(tone),
            };
        }
    }
}

/// The lower edge of what was expected, where the surface hides the band.
pub fn edge(plot: Rect, buf: &mut Buffer, expected: &Expected, share: impl Fn(f64) -> f64, theme: &Theme) {
    for (x, pair) in expected.chunks(2).enumerate().take(usize::from(plot.width)) {
        let Some(low) = pair.iter().flatten().map(|e| e.0).reduce(f64::min) else { continue };
        let up = share(low).clamp(0.0, 1.0) * f64::from(plot.height);
        let (row, part) = ((up.floor() as u16).min(plot.height.saturating_sub(1)), up.fract());
        let at = (plot.x + x as u16, plot.y + plot.height - 1 - row);
        // Without colour a dot would take the whole cell out of the surface.
        if buf.cell(at).is_some_and(|c| c.symbol() == "█" && c.fg != Color::Reset) {
            // One dot at its height.
            let dot = ["⡀", "⠄", "⠂", "⠁"][((part * 4.0) as usize).min(3)];
            over(buf, at, dot, theme.strong());
        }
    }
}

/// The fastest rate of all, B/s.
#[must_use]
pub fn fastest(columns: &[Column]) -> f64 {
    columns.iter().filter_map(|c| c.fastest).map(Rate::get).fold(0.0, f64::max)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::theme::Depth;

    fn column(slowest: f64, mean: f64, fastest: f64) -> Column {
        let of = |v: f64| Some(Rate::new(v));
        Column { rate: of(mean), slowest: of(slowest), fastest: of(fastest), ..Column::default() }
    }

    fn drawn(columns: &[Column], depth: Depth) -> Buffer {
        let plot = Rect::new(0, 0, columns.len().div_ceil(2) as u16, 4);
        let mut buf = Buffer::empty(plot);
        render(plot, &mut buf, columns, 4.0, &Theme::new(depth));
        buf
    }

    fn symbols(buf: &Buffer, x: u16) -> String {
        (0..4).rev().map(|y| buf[(x, y)].symbol()).collect()
    }

    #[test]
    fn a_surface_reaches_its_mean_and_shades_tell_what_was_slower_and_faster() {
        // Two halves a cell: the slower of them and the faster are kept, of the means the mean.
        let buf = drawn(&[column(2.5, 2.5, 2.5), column(2.5, 2.5, 2.5)], Depth::Mono);
        assert_eq!(symbols(&buf, 0), "██▄ ");
        let buf = drawn(&[column(1.0, 2.0, 3.0), column(1.0, 2.0, 4.0)], Depth::Mono);
        assert_eq!(symbols(&buf, 0), "█▒░░");
        // A stall is no gap: what moved nothing stands on the ground.
        assert_eq!(symbols(&drawn(&[column(0.0, 0.0, 0.0)], Depth::Mono), 0), "▁   ");
        assert_eq!(symbols(&drawn(&[Column::default(); 2], Depth::Mono), 0), "    ");
        // With tones both parts of a cell are drawn, and no block leaves a gap to the next row.
        let mut buf = drawn(&[column(0.5, 4.0, 4.0)], Depth::True);
        assert_eq!(symbols(&buf, 0), "▄███");
        assert!(buf[(0, 3)].bg != Color::Reset && buf[(0, 3)].bg != buf[(0, 3)].fg);
        close_gaps(&mut buf);
        assert!((0..3).all(|y| buf[(0, y)].bg == buf[(0, y)].fg));
    }

    #[test]
    fn a_band_stays_inside_its_plot() {
        for (low, high) in [(0.0, 0.0), (1.0, 1.0), (-1.0, 2.0), (0.49, 0.5), (f64::NAN, 0.5)] {
            for height in 0..4 {
                let plot = Rect::new(0, 1, 1, height);
                let mut buf = Buffer::empty(Rect::new(0, 0, 1, 5));
                band(plot, &mut buf, &[Some((low, high)); 2], &Theme::new(Depth::True));
                let touched = |y: u16| buf[(0, y)].symbol() != " " || buf[(0, y)].bg != Color::Reset;
                let outside = (0..5).filter(|y| !(1..1 + height).contains(y)).any(touched);
                assert!(!outside, "{low} to {high} on {height} rows");
            }
        }
    }
}
