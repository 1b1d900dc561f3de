//! The ruler under the lanes: a line with ticks, what it measures, and its figures.

use crate::told::words::cells;
use hollow_mile_charts::lanes::{ruler_axis, ruler_words};
use hollow_mile_core::readings::{Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::lane::LABELS;
use crate::ui::theme::Theme;

/// Draws the part of a ruler from `from` to `to` in two rows.
pub fn render(area: Rect, buf: &mut Buffer, r: &Readings, ruler: Ruler, window: (f64, f64), theme: &Theme) {
    named(area, buf, ruler, window, ruler_words(ruler, r), theme);
}

/// Where experiments were made: a bracket in the line of the ruler, with a name where it fits.
pub fn brackets(
    area: Rect,
    buf: &mut Buffer,
    r: &Readings,
    ruler: Ruler,
    (from, to): (f64, f64),
    theme: &Theme,
) {
    let plot = Rect { x: area.x + LABELS, width: area.width.saturating_sub(LABELS), ..area };
    if plot.width < 8 {
        return;
    }
    for (inquiry, begin, end) in r.inquiries_between(ruler, (from, to)) {
        let x = |place: f64| {
            let share = ((place - from) / (to - from).max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
            (share * f64::from(plot.width - 1)).round() as u16
        };
        let (left, right) = (x(begin), x(end));
        let width = usize::from(right - left) + 1;
        let line = match width {
            1 => "╪".to_owned(),
            _ => format!("╞{}╡", "═".repeat(width - 2)),
        };
        buf.set_string(plot.x + left, plot.y, line, theme.accent());
        let name = inquiry.arms.last().filter(|_| inquiry.ended.is_none()).map(|a| a.arm.experiment.word());
        let name = format!(" {} ", name.unwrap_or("tried out"));
        let length = cells(&name) as u16;
        if usize::from(length) + 2 <= width {
            let at = plot.x + left + (right - left + 1 - length) / 2;
            buf.set_string(at, plot.y, name, theme.accent());
        }
    }
}

/// Draws a part of a ruler that measures what `name` says.
pub fn named(area: Rect, buf: &mut Buffer, ruler: Ruler, (from, to): (f64, f64), name: &str, theme: &Theme) {
    let plot = Rect { x: area.x + LABELS, width: area.width.saturating_sub(LABELS), ..area };
    if plot.width < 8 || area.height < 2 {
        return;
    }
    let axis = ruler_axis(ruler, from, to, usize::from(plot.width / 12).clamp(2, 10));
    buf.set_string(plot.x, plot.y, "─".repeat(usize::from(plot.width)), theme.faint());
    let mut free_from = plot.x;
    for tick in &axis.ticks {
        let share = (tick.value - from) / (to - from).max(f64::MIN_POSITIVE);
        // Of a window without width even its own tick may lie beside it.
        if !(0.0..=1.0 + 1e-6).contains(&share) {
            continue;
        }
        let x = plot.x + (share * f64::from(plot.width - 1)).round() as u16;
        buf.set_string(x, plot.y, "┬", theme.faint());
        let length = cells(&tick.words) as u16;
        let start =
            x.saturating_sub(length / 2).max(plot.x).min((plot.x + plot.width).saturating_sub(length));
        if start >= free_from {
            buf.set_string(start, plot.y + 1, &tick.words, theme.faint());
            free_from = start + length + 1;
        }
    }
    // The name stands in the line itself, in the middle between two ticks, so that no figure has to give way.
    let name = format!(" {name}, {} ", axis.unit);
    let length = (cells(&name) as u16).min(plot.width);
    let step = axis.ticks.windows(2).next().map_or(0.0, |w| w[1].value - w[0].value);
    let middle = axis
        .ticks
        .get(axis.ticks.len() / 2)
        .map_or(0.5, |t| (t.value - step / 2.0 - from) / (to - from).max(f64::MIN_POSITIVE));
    let middle = plot.x + (middle.clamp(0.0, 1.0) * f64::from(plot.width)) as u16;
    let start = middle.saturating_sub(length / 2).max(plot.x).min(plot.x + plot.width - length);
    buf.set_stringn(start, plot.y, &name, usize::from(length), theme.strong());
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::theme::Depth;

    #[test]
    fn what_lies_beside_the_window_is_not_drawn() {
        let area = Rect::new(3, 2, 80, 2);
        let theme = Theme::new(Depth::Mono);
        for window in
            [(4.999_999_999_99, 4.999_999_999_99), (5.0, 5.0), (0.0, 0.0), (7.0, 3.0), (0.0, f64::NAN)]
        {
            for ruler in [Ruler::Elapsed, Ruler::Moved, Ruler::Position] {
                let mut buf = Buffer::empty(Rect::new(0, 0, 90, 6));
                named(area, &mut buf, ruler, window, "elapsed", &theme);
                let beyond = buf.content.iter().enumerate().filter(|(i, _)| {
                    let (x, y) = buf.pos_of(*i);
                    !area.contains((x, y).into())
                });
                assert!(beyond.clone().all(|(_, c)| c.symbol() == " "), "{window:?}");
            }
        }
    }
}
