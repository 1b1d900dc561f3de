//! How long operations take, as a picture: the share of them that takes longer than so long, a curve each. One that lies further
//! to the right waits longer, and where it ends is its longest; under it their quantiles.

use std::time::Duration;

use hollow_mile_core::quantity::histogram::{Histogram, TOLD, extent};
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
    let plot = draw(&curves, named, plot, buf, theme);
    let y = plot.y + plot.height + 3;
    let below = Rect { y, height: (area.y + area.height).saturating_sub(y), ..area };
    quantiles(&curves, named, below, buf, theme);
}

/// How many tenths of tenths are shown, from everything down: as rare as the curves can tell of, and no more than leaves two rows
/// to each.
fn decades(curves: &[&Curve], rows: u16) -> u16 {
    let most = curves.iter().map(|c| c.counts.total()).max().unwrap_or(1).max(10);
    ((most as f64).log10().ceil() as u16).min(rows.saturating_sub(1) / 2).max(1)
}

/// One in ten to the power of this, in words.
fn share_words(power: u16) -> String {
    match power {
        0 => "all".into(),
        1..=4 => format!("{} %", significant(100.0 / 10f64.powi(power.into()))),
        _ => format!("{} ppm", significant(1e6 / 10f64.powi(power.into()))),
    }
}

/// Gives what it took of the plot.
fn draw(curves: &[&Curve], named: &Named, plot: Rect, buf: &mut Buffer, theme: &Theme) -> Rect {
    let Some((low, high)) = extent(curves.iter().map(|c| &c.counts)) else { return plot };
    // µs, with a little air.
    let span = (low as f64 / 1.3e3, high as f64 * 1.3 / 1e3);
    let decades = decades(curves, plot.height);
    let apart = ((plot.height - 1) / decades).max(1);
    // Each tenth stands on a row; what does not divide is left at the bottom.
    let plot = Rect { height: apart * decades + 1, ..plot };
    let rarest = 10f64.powi(-i32::from(decades));
    let up = |part: f64| share(part.max(rarest), (rarest, 1.0));
    for power in 0..=decades {
        let y = plot.y + power * apart;
        buf.set_stringn(plot.x - LABELS, y, format!("{:>7}", share_words(power)), 7, theme.faint());
        for x in plot.x..plot.x + plot.width {
            buf.set_string(x, y, "┈", theme.faint());
        }
    }
    let mut canvas = Canvas::new(plot);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let mut letters = Vec::new();
    for (nth, c) in curves.iter().enumerate() {
        let total = c.counts.total() as f64;
        let (mut left, mut last) = (total, None);
        for bin in c.counts.bins() {
            let x = share(bin.middle_ns() / 1e3, span) * width;
            let here = (x, up(left / total) * height);
            if let Some(last) = last {
                canvas.line(last, here, |_| c.style);
            }
            left -= bin.count as f64;
            let after = (x, up(left / total) * height);
            canvas.line(here, after, |_| c.style);
            last = Some(after);
        }
        // Its letter stands where half are over, the next one's lower: curves may lie upon each other.
        let part = [0.5, 0.1, 0.03, 0.01][nth % 4];
        if let Some(ns) = c.counts.quantile_ns(1.0 - part) {
            let x = plot.x + (share(ns / 1e3, span) * f64::from(plot.width - 1)).round() as u16;
            let y = plot.y + ((1.0 - up(part)) * f64::from(plot.height - 1)).round() as u16;
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
    plot
}

fn quantiles(curves: &[&Curve], named: &Named, area: Rect, buf: &mut Buffer, theme: &Theme) {
    const COLUMN: usize = 11;
    const LAST: usize = 14;
    /// Room for a name at most.
    const NAME: usize = 26;
    let name = curves.iter().map(|c| cells(&c.name)).max().unwrap_or(0).min(NAME);
    let left = area.x + name as u16 + 3;
    let width = usize::from((area.x + area.width).saturating_sub(left));
    // Where not all fit, the rarest are left out.
    let fits = (width.saturating_sub(COLUMN + LAST) / COLUMN).min(TOLD.len());
    let names = TOLD[..fits].iter().map(|t| t.0).chain(["longest"]);
    let head: String = names.clone().map(|n| format!("{n:>COLUMN$}")).collect();
    let head = format!("{head}{:>LAST$}", named.counted);
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
        let row: String = names.clone().map(of).collect();
        buf.set_string(area.x, y, &c.letter, c.style);
        buf.set_string(area.x + 2, y, fit(&c.name, name), theme.strong());
        let row = format!("{row}{reads:>LAST$}");
        buf.set_stringn(left, y, row, width, Style::new());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ui::theme::Depth;

    #[test]
    fn a_curve_passes_its_quantiles_where_the_axes_say() {
        let area = Rect::new(0, 0, 100, 24);
        let mut buf = Buffer::empty(area);
        let curve = |letter: &str, ns| Curve {
            letter: letter.into(),
            name: format!("side {letter}"),
            // One in a hundred takes ten times as long.
            counts: Histogram::of([(ns, 990), (ns * 10, 10)]),
            style: Style::new(),
        };
        let named = Named { title: "longer than", axis: "latency", counted: "operations" };
        let theme = Theme::new(Depth::Mono);
        render(&[curve("A", 1_000_000), curve("B", 2_000_000)], &named, area, &mut buf, &theme);
        let rows: Vec<String> =
            (0..24).map(|y| (0..100).map(|x| buf[(x, y)].symbol()).collect::<String>()).collect();
        let at = |words: &str| rows.iter().position(|r| r.trim_start().starts_with(words)).unwrap();
        let (all, tenth, hundredth) = (at("all"), at("10 %"), at("1 %"));
        assert_eq!(tenth - all, hundredth - tenth, "tenths stand evenly: {rows:#?}");
        // Between one in ten and one in a hundred nothing happens: the line stands upright at 1 ms, over its tick.
        let ticks = rows.iter().find(|r| r.contains("1 ms")).unwrap();
        let x = ticks.chars().take_while(|c| *c != '1').count() + 1;
        let dots = |y: usize, x: usize| {
            rows[y].chars().skip(x.saturating_sub(2)).take(5).any(|c| ('\u{2801}'..='\u{28ff}').contains(&c))
        };
        assert!(dots(tenth + 1, x), "{rows:#?}");
        let table = rows.iter().find(|r| r.starts_with("B side B")).unwrap();
        let figures: Vec<&str> = table.split("  ").map(str::trim).filter(|w| !w.is_empty()).collect();
        assert_eq!(figures, ["B side B", "2 ms", "2 ms", "20 ms", "too few", "too few", "20 ms", "1 000"]);
    }
}
