//! A tree of files before it is made: how many files of each size there are, and how many of its bytes lie in them, on one axis.

use hollow_mile_core::drive::freight::TreeSpec;
use hollow_mile_core::quantity::units::{Bytes, grouped};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::lane::LABELS;
use super::log_axis::{ticks, under};
use super::surface::EIGHTHS;
use crate::ui::theme::{Layer, Theme};

/// Shares of the files and of the bytes in each column of an axis from `low` to `high` bytes, by what the tree states.
fn shares(spec: &TreeSpec, (low, high): (f64, f64), columns: usize) -> Vec<(f64, f64)> {
    let step = (high / low).ln() / columns.max(1) as f64;
    let mut out = vec![(0.0, 0.0); columns];
    for class in &spec.classes {
        let (from, to) = (class.from.as_f64().max(1.0), class.to.as_f64().max(1.0));
        let wide = (to / from).ln();
        for (i, cell) in out.iter_mut().enumerate() {
            let (a, b) = (low * (step * i as f64).exp(), low * (step * (i + 1) as f64).exp());
            if wide < 1e-9 {
                if (a..b).contains(&from) {
                    cell.0 += class.percent;
                    cell.1 += class.percent * from;
                }
                continue;
            }
            let (a, b) = (a.max(from), b.min(to));
            if b > a {
                // Evenly over the logarithm: the bytes in a part are its width in bytes.
                cell.0 += class.percent * (b / a).ln() / wide;
                cell.1 += class.percent * (b - a) / wide;
            }
        }
    }
    let sum = out.iter().fold((0.0, 0.0), |s, c| (s.0 + c.0, s.1 + c.1));
    out.iter().map(|c| (c.0 / f64::max(sum.0, 1e-12), c.1 / f64::max(sum.1, 1e-12))).collect()
}

/// Draws it. False where there is no room.
pub fn render(spec: &TreeSpec, area: Rect, buf: &mut Buffer, theme: &Theme) -> bool {
    if area.height < 9 || area.width < LABELS + 24 || spec.classes.is_empty() {
        return false;
    }
    let smallest = spec.classes.iter().map(|c| c.from.as_f64().max(1.0)).fold(f64::MAX, f64::min);
    let largest = spec.classes.iter().map(|c| c.to.as_f64().max(1.0)).fold(1.0, f64::max);
    let span = (smallest / 2.0, largest * 2.0);
    let room = usize::from(area.width);
    let of = match (spec.count, spec.total) {
        (Some(n), Some(t)) => format!("{} files or {t}, what comes first", grouped(n)),
        (Some(n), None) => format!("{} files", grouped(n)),
        (None, Some(t)) => format!("{t} in all"),
        (None, None) => String::new(),
    };
    let folders = match spec.folders() {
        0 => "one folder".to_owned(),
        n => format!("{} folders", grouped(n)),
    };
    buf.set_stringn(area.x, area.y, format!("the tree: {of}, in {folders}"), room, theme.strong());
    let plot_width = area.width - LABELS;
    let all = shares(spec, span, usize::from(plot_width));
    let each = (area.height - 4) / 2;
    for (k, (name, of)) in [("files", 0usize), ("bytes", 1)].into_iter().enumerate() {
        let top = area.y + 1 + k as u16 * each;
        let plot = Rect { x: area.x + LABELS, y: top, width: plot_width, height: each };
        buf.set_stringn(area.x, plot.y + plot.height - 1, format!("{name:>7}"), 7, theme.faint());
        let value = |c: &(f64, f64)| if of == 0 { c.0 } else { c.1 };
        let most = all.iter().map(value).fold(0.0, f64::max).max(1e-12);
        let tall = usize::from(plot.height.saturating_sub(1)) * 8;
        for (x, column) in all.iter().enumerate() {
            let v = value(column);
            let eighths = if v > 0.0 { ((v / most * tall as f64).round() as usize).max(1) } else { 0 };
            let style = theme.filled(if of == 0 { 0.35 } else { 0.8 }, Layer::Full);
            for row in 0..plot.height {
                let here = eighths.saturating_sub(usize::from(row) * 8).min(8);
                if here > 0 {
                    buf.set_string(plot.x + x as u16, plot.y + plot.height - 1 - row, EIGHTHS[here], style);
                }
            }
        }
    }
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 1, width: plot_width.saturating_sub(4), height: 2 * each };
    let place = |v: f64| {
        let share = (v / span.0).ln() / (span.1 / span.0).ln();
        area.x + LABELS + (share * f64::from(plot_width)) as u16
    };
    let words = |v: f64| Bytes::new(v as u64).to_string();
    let marks: Vec<(u16, String)> =
        ticks(span).into_iter().filter(|v| *v >= 1.0).map(|v| (place(v), words(v))).collect();
    under(plot, &marks, "size of a file", buf, theme);
    true
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::drive::freight::FileClass;

    #[test]
    fn most_files_are_small_and_most_bytes_lie_in_the_large_ones() {
        let class = |from, to, percent| FileClass { from: Bytes::new(from), to: Bytes::new(to), percent };
        let classes = vec![class(1000, 10_000, 90.0), class(100_000_000, 100_000_000, 10.0)];
        let spec =
            TreeSpec { classes, total: None, count: Some(10), folder_depth: 0, folder_width: 1, seed: 0 };
        let all = shares(&spec, (500.0, 2e8), 60);
        let sum = |of: fn(&(f64, f64)) -> f64| all.iter().map(of).sum::<f64>();
        assert!((sum(|c| c.0) - 1.0).abs() < 1e-9 && (sum(|c| c.1) - 1.0).abs() < 1e-9);
        // A class of one decade is spread over its columns; the other is a single one.
        let small: f64 = all[..30].iter().map(|c| c.0).sum();
        assert!((small - 0.9).abs() < 1e-9, "{small}");
        assert!(all[30..].iter().any(|c| c.1 > 0.99), "nearly all bytes");
    }
}
