//! How long operations take, as a picture: the share of them that takes longer than so long, a curve each. One that lies further
//! to the right waits longer, and where it ends is its longest; under it their quantiles.

use std::time::Duration;

use hollow_mile_core::quantity::histogram::{Histogram, TOLD};
use hollow_mile_core::quantity::units::{grouped, latency, significant};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use super::canvas::Canvas;
use super::lane::LABELS;
use super::log_axis::{share, ticks, under};
use super::panel::fit;
use crate::told::words::cells;
use crate::ui::theme::Theme;

/// A curve: its letter, its name, its operations, its style.
pub struct Curve {
    /// Stands on it.
    pub letter: String,
    /// In the table.
    pub name: String,
    /// How many took how long.
    pub counts: Histogram,
    /// Of the line and the letter.
    pub style: Style,
}

/// What is drawn, in words.
pub struct Named {
    /// Over the picture.
    pub title: &'static str,
    /// Of the axis.
    pub axis: &'static str,
    /// What is counted.
    pub counted: &'static str,
}

/// Rows under which there is no picture.
pub const LEAST_ROWS: u16 = 12;

/// Draws those that have anything, with a table of their quantiles under them.
pub fn render(curves: &[Curve], named: &Named, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let curves: Vec<&Curve> = curves.iter().filter(|c| !c.counts.is_empty()).collect();
    if curves.is_empty() || area.height < LEAST_ROWS || area.width < LABELS + 40 {
        return;
    }
    let table = curves.len() as u16 + 2;
    let plot = Rect {
        x: area.x + LABELS,
        y: area.y + 1,
        width: area.width - LABELS - 4,
        height: area.height.saturating_sub(table + 4).max(3),
    };
    let room = usize::from(area.width - LABELS);
    buf.set_stringn(area.x + LABELS, area.y, named.title, room, theme.faint());
    draw(&curves, named, plot, buf, theme);
    let y = plot.y + plot.height + 3;
    let below = Rect { y, height: (area.y + area.height).saturating_sub(y), ..area };
    quantiles(&curves, named, below, buf, theme);
}

/// From everything to one in so many: the fewest that one of the curves can tell of.
fn rarest(curves: &[&Curve]) -> f64 {
    let most = curves.iter().map(|c| c.counts.total()).max().unwrap_or(1).max(10);
    10f64.powf(-(most as f64).log10().ceil())
}

fn draw(curves: &[&Curve], named: &Named, plot: Rect, buf: &mut Buffer, theme: &Theme) {
    let ends = curves.iter().flat_map(|c| c.counts.bins().map(|b| (b.from_ns, b.to_ns)));
    let (low, high) = ends.fold((u64::MAX, 1), |a, b| (a.0.min(b.0), a.1.max(b.1)));
    // µs, with a little air.
    let span = (low as f64 / 1.3e3, high as f64 * 1.3 / 1e3);
    let rarest = rarest(curves);
    let up = |part: f64| share(part, (rarest, 1.0));
    for part in ticks((rarest, 1.0)).into_iter().filter(|p| (p.log10().round() - p.log10()).abs() < 1e-9) {
        let y = plot.y + ((1.0 - up(part)) * f64::from(plot.height - 1)).round() as u16;
        let words = match part {
            p if p >= 0.999 => "all".to_owned(),
            p => format!("{} %", significant(p * 100.0)),
        };
        buf.set_stringn(plot.x - LABELS, y, format!("{words:>7}"), 7, theme.faint());
        for x in plot.x..plot.x + plot.width {
            buf.set_string(x, y, "┈", theme.faint());
        }
    }
    let mut canvas = Canvas::new(plot);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let mut letters = Vec::new();
    for c in curves {
        let total = c.counts.total() as f64;
        let (mut left, mut last) = (total, None);
        for bin in c.counts.bins() {
            let x = share(bin.middle_ns() / 1e3, span) * width;
            let here = (x, up(left / total) * height);
            if let Some(last) = last {
                canvas.line(last, here, |_| c.style);
            }
            left -= bin.count as f64;
            let after = (x, up((left / total).max(rarest)) * height);
            canvas.line(here, after, |_| c.style);
            last = Some(after);
        }
        // Its letter stands where half of its reads have been answered.
        if let Some(ns) = c.counts.quantile_ns(0.5) {
            let x = plot.x + (share(ns / 1e3, span) * f64::from(plot.width - 1)).round() as u16;
            let y = plot.y + ((1.0 - up(0.5)) * f64::from(plot.height - 1)).round() as u16;
            letters.push((x + 1, y, c));
        }
    }
    canvas.paint(plot, buf);
    for (x, y, c) in letters {
        buf.set_string(x, y, &c.letter, c.style.add_modifier(Modifier::BOLD));
    }
    let marks: Vec<(u16, String)> = ticks(span)
        .into_iter()
        .map(|us| {
            let x = plot.x + (share(us, span) * f64::from(plot.width - 1)).round() as u16;
            (x, latency(Duration::from_secs_f64(us / 1e6)))
        })
        .collect();
    under(plot, &marks, named.axis, buf, theme);
}

fn quantiles(curves: &[&Curve], named: &Named, area: Rect, buf: &mut Buffer, theme: &Theme) {
    const COLUMN: usize = 11;
    /// Room for a name.
    const NAME: usize = 26;
    let left = area.x + NAME as u16 + 3;
    let width = usize::from((area.x + area.width).saturating_sub(left));
    let names = TOLD.map(|t| t.0);
    let head: String =
        names.iter().chain(&["longest", named.counted]).map(|n| format!("{n:>COLUMN$}")).collect();
    buf.set_stringn(left, area.y, head, width, theme.faint());
    for (i, c) in curves.iter().enumerate().take(usize::from(area.height.saturating_sub(1))) {
        let y = area.y + 1 + i as u16;
        let told = c.counts.told();
        let of = |name: &str| {
            let took = told.iter().find(|t| t.0 == name).map(|t| latency(t.1));
            let words = took.unwrap_or_else(|| "too few".into());
            format!("{}{words}", " ".repeat(COLUMN.saturating_sub(cells(&words))))
        };
        let reads = grouped(c.counts.total());
        let row: String = names.iter().chain(&["longest"]).map(|n| of(n)).collect();
        buf.set_string(area.x, y, &c.letter, c.style);
        buf.set_string(area.x + 2, y, fit(&c.name, NAME), theme.strong());
        let row = format!("{row}{reads:>COLUMN$}");
        buf.set_stringn(left, y, row, width, Style::new());
    }
}
