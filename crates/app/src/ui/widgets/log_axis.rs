//! Logarithmic axes of a picture.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Modifier;

use crate::told::words::cells;
use crate::ui::theme::Theme;

/// Where a value lies between the ends of a logarithmic axis, 0 to 1.
#[must_use]
pub fn share(v: f64, (low, high): (f64, f64)) -> f64 {
    let (v, low, high) = (v.max(1e-9).ln(), low.max(1e-9).ln(), high.max(1e-9).ln());
    ((v - low) / (high - low).max(1e-9)).clamp(0.0, 1.0)
}

/// The decades, and what lies between them where there are few, from `low` to `high`.
#[must_use]
pub fn ticks((low, high): (f64, f64)) -> Vec<f64> {
    let decades = low.max(1e-9).log10().floor() as i32..=high.max(1e-9).log10().ceil() as i32;
    let fine = high / low < 1000.0;
    let steps: &[f64] = if fine { &[1.0, 2.0, 5.0] } else { &[1.0] };
    let all = decades.flat_map(|d| steps.iter().map(move |s| s * 10f64.powi(d)));
    all.filter(|v| (low..=high).contains(v)).collect()
}

/// Figures of an upright axis in the seven columns from `x` on; `row` is where a value stands. Two in one row, or one under the other, say
/// less than one.
pub fn beside(
    x: u16,
    span: (f64, f64),
    row: impl Fn(f64) -> u16,
    words: impl Fn(f64) -> String,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let mut last: Option<u16> = None;
    for v in ticks(span).into_iter().rev() {
        let y = row(v);
        if last.is_none_or(|l| y > l + 1) {
            buf.set_stringn(x, y, format!("{:>7}", words(v)), 7, theme.faint());
            last = Some(y);
        }
    }
}

/// Places on an axis with their words, under a plot, and its name over the line; words that would touch are left out.
pub fn under(plot: Rect, marks: &[(u16, String)], name: &str, buf: &mut Buffer, theme: &Theme) {
    let y = plot.y + plot.height;
    for x in plot.x..plot.x + plot.width {
        buf.set_string(x, y, "─", theme.faint());
    }
    let mut free = plot.x;
    for (at, words) in marks {
        let from = at.saturating_sub(cells(words) as u16 / 2).max(plot.x);
        buf.set_string(*at, y, "┬", theme.faint());
        if from >= free {
            buf.set_stringn(
                from,
                y + 1,
                words,
                usize::from((plot.x + plot.width + 4).saturating_sub(from)),
                theme.faint(),
            );
            free = from + cells(words) as u16 + 1;
        }
    }
    let name = format!(" {name} ");
    let at = plot.x + (plot.width.saturating_sub(cells(&name) as u16)) / 2;
    buf.set_stringn(at, y, &name, usize::from(plot.width), theme.faint().add_modifier(Modifier::BOLD));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_logarithmic_axis_has_its_decades_and_more_where_they_are_few() {
        assert_eq!(ticks((8.0, 20_000.0)), [10.0, 100.0, 1000.0, 10_000.0]);
        assert_eq!(ticks((80.0, 600.0)), [100.0, 200.0, 500.0]);
        assert!((share(10.0, (1.0, 100.0)) - 0.5).abs() < 1e-9);
        assert_eq!((share(0.0, (1.0, 100.0)), share(1e9, (1.0, 100.0))), (0.0, 1.0));
    }
}
