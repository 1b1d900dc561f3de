//! Rounds until steady as a picture: each figure that is followed over the rounds, as a share of its mean in the measurement window,
//! with the band in which it is steady; and every leg of a round as a shaded cell.

use hollow_mile_core::conclude::surveys::rounds::{RoundGrid, Rounds, RoundsSurvey};
use hollow_mile_core::route::Followed;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::ui::theme::{Layer, Theme};
use crate::ui::widgets::canvas::{Canvas, row_of};
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::Scroll;

/// Width of a cell of the grid.
const CELL: u16 = 9;
/// Half of the excursion that a steady window may have.
const BAND: f64 = 0.1;
/// What marks the points of the figures, in their order.
const MARKS: [&str; 4] = ["●", "○", "◆", "◇"];

/// Draws one group of rounds.
pub fn render(survey: &RoundsSurvey, scroll: &Scroll, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let chosen = scroll.first_of(survey.groups.len(), 1);
    let Some(group) = survey.groups.get(chosen) else { return };
    if area.height < 14 || area.width < LABELS + 30 {
        return;
    }
    let many = survey.groups.len();
    let which = if many > 1 { format!("  (group {} of {many}, j k)", chosen + 1) } else { String::new() };
    let title = format!("{} of each round, {} at most{which}", group.figure.words(), group.most);
    buf.set_stringn(area.x, area.y, title, usize::from(area.width), theme.accent());
    let body = Rect { y: area.y + 1, height: area.height - 1, ..area };
    let grid = group.grid();
    let columns = grid.as_ref().map_or(0, |g| g.columns.1.len() as u16);
    let side = (columns * CELL + 12).min(area.width * 3 / 5);
    let left = Rect { width: body.width.saturating_sub(side + 3), ..body };
    settling(group, left, buf, theme);
    if let Some(grid) = grid {
        let right = Rect { x: body.x + left.width + 3, width: side, ..body };
        cells(group, &grid, right, buf, theme);
    }
}

/// The figures over the rounds.
fn settling(group: &Rounds, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let names = group.followed.len().min(MARKS.len()) as u16;
    if area.height < names + 8 || area.width < LABELS + 16 {
        return;
    }
    let words = match (group.window_from, area.width > LABELS + 44) {
        (Some(_), true) => "share of its mean in the measurement window",
        (None, true) => "share of its mean over the last five rounds",
        (_, false) => "share of its mean",
    };
    buf.set_stringn(area.x + LABELS, area.y, words, usize::from(area.width - LABELS), theme.faint());
    let plot = Rect {
        x: area.x + LABELS,
        y: area.y + 1,
        width: area.width - LABELS - 1,
        height: area.height - names - 5,
    };
    let shares: Vec<Vec<Option<f64>>> = group
        .followed
        .iter()
        .map(|f| f.values.iter().map(|v| Some((*v)? / f.mean.filter(|m| *m > 0.0)?)).collect())
        .collect();
    let highest = shares.iter().flatten().flatten().copied().fold(1.0 + 2.0 * BAND, f64::max);
    let least = shares.iter().flatten().flatten().copied().fold(1.0 - 2.0 * BAND, f64::min);
    let top = (highest * 10.0).ceil() / 10.0;
    // As near as nothing lies below: the band is what is looked at.
    let low = ((least - 0.1) * 10.0).floor().max(0.0) / 10.0;
    let up_to = |v: f64| ((v - low) / (top - low)).clamp(0.0, 1.0);
    let row = |v: f64| plot.y + row_of(up_to(v), plot.height);
    let rounds = usize::from(group.most).min((group.rounds + 2).max(10));
    let x_of = |round: usize| (round as f64 + 0.5) / rounds as f64;
    let column = |round: usize| plot.x + (x_of(round) * f64::from(plot.width - 1)).round() as u16;
    // The band in which a window may move, where the window is.
    let window = group.window();
    let measured = group.window_from.is_some() && !window.is_empty();
    for x in plot.x..plot.x + plot.width {
        let inside = measured && (column(window.start)..=column(window.end - 1)).contains(&x);
        if let (true, Some(ground)) = (inside, theme.band()) {
            for y in row(1.0 + BAND)..=row(1.0 - BAND) {
                buf.set_string(x, y, " ", Style::new().bg(ground));
            }
        }
        for edge in [1.0 + BAND, 1.0 - BAND] {
            buf.set_string(x, row(edge), "┄", if inside { theme.accent() } else { theme.faint() });
        }
    }
    let mut told: Vec<u16> = Vec::new();
    for percent in [100, 90, 110, 0, 50, 80, 120, 150, 200, 300, 500] {
        let (v, y) = (f64::from(percent) / 100.0, row(f64::from(percent) / 100.0));
        if v <= top && v >= low && !told.contains(&y) {
            told.push(y);
            buf.set_stringn(area.x, y, format!("{:>7}", format!("{percent} %")), 7, theme.faint());
        }
    }
    // The first of them on top.
    for (i, values) in shares.iter().enumerate().take(MARKS.len()).rev() {
        let style = theme.speed(i as f64 / (MARKS.len() - 1) as f64);
        let mut canvas = Canvas::new(plot);
        let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
        let at = |n: usize, v: f64| (x_of(n) * width, up_to(v) * height);
        for (n, pair) in values.windows(2).enumerate() {
            if let [Some(a), Some(b)] = pair {
                canvas.line(at(n, *a), at(n + 1, *b), |_| style);
            }
        }
        canvas.paint(plot, buf);
        for (n, v) in values.iter().enumerate().filter_map(|(n, v)| Some((n, (*v)?))) {
            buf.set_string(column(n), row(v), MARKS[i], style);
        }
    }
    let below = plot.y + plot.height;
    let every = rounds.div_ceil(usize::from(plot.width / 5).max(1));
    for n in (0..rounds).step_by(every) {
        buf.set_string(column(n), below, (n + 1).to_string(), theme.faint());
    }
    buf.set_stringn(area.x, below, "  round", 7, theme.faint());
    if let Some(from) = group.window_from {
        let (a, b) = (column(from), column(window.end - 1));
        for x in a..=b {
            buf.set_string(
                x,
                below + 1,
                if x == a {
                    "┗"
                } else if x == b {
                    "┛"
                } else {
                    "━"
                },
                theme.accent(),
            );
        }
        let long = format!("measured in rounds {} to {}", from + 1, window.end);
        let words = if long.len() > usize::from(plot.width) { "measured".to_owned() } else { long };
        let width = words.chars().count() as u16;
        let x = a.min((plot.x + plot.width).saturating_sub(width)).max(plot.x);
        buf.set_stringn(x, below + 2, words, usize::from(plot.x + plot.width - x), theme.accent());
    }
    for (i, f) in group.followed.iter().enumerate().take(MARKS.len()) {
        let y = below + 3 + i as u16;
        let mean = f.mean.map(|m| group.value_words(m)).unwrap_or_default();
        let moves = f.steadiness.map_or_else(String::new, |s| {
            format!("  excursion {:.1} %, slope {:.1} %", s.excursion * 100.0, s.slope * 100.0)
        });
        let style = theme.speed(i as f64 / (MARKS.len() - 1) as f64);
        buf.set_string(area.x, y, MARKS[i], style);
        let words = format!("{mean:>10}{moves}  {}", f.of);
        let room = usize::from(area.width - 2);
        buf.set_stringn(area.x + 2, y, fit(&words, room), room, Style::new());
    }
}

/// How full a cell is, without colour.
const SHADES: [&str; 4] = ["░", "▒", "▓", "█"];

fn cells(group: &Rounds, grid: &RoundGrid<'_>, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let what = match group.figure {
        Followed::Rate => "operations a second",
        other => other.words(),
    };
    let width = usize::from(area.width);
    let (down, across) = (grid.rows.0, grid.columns.0);
    let head = format!("{what} by {down} and {across}");
    buf.set_stringn(area.x, area.y, fit(&head, width), width, theme.faint());
    let fits = usize::from(area.width.saturating_sub(10) / CELL).min(grid.columns.1.len());
    for (i, name) in grid.columns.1.iter().take(fits).enumerate() {
        let words = format!("{name:>w$}", w = usize::from(CELL - 1));
        buf.set_string(area.x + 10 + i as u16 * CELL, area.y + 1, words, theme.faint());
    }
    let all = || grid.cells.iter().flatten().flatten().map(|l| group.told(l).0).filter(|v| *v > 0.0);
    let (least, most) = all().fold((f64::MAX, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    // Blocks and depths span decades: shades go by the logarithm.
    let share = |v: f64| ((v / least).ln() / (most / least).ln().max(1e-9)).clamp(0.0, 1.0);
    let each = (area.height.saturating_sub(4) / grid.rows.1.len().max(1) as u16).clamp(1, 4);
    let rows = usize::from(area.height.saturating_sub(3) / each);
    for (i, name) in grid.rows.1.iter().take(rows).enumerate() {
        let y = area.y + 2 + i as u16 * each;
        buf.set_string(area.x, y, format!("{name:>9}"), Style::new());
        for (n, leg) in grid.cells[i].iter().take(fits).enumerate() {
            let Some(leg) = leg else { continue };
            let x = area.x + 10 + n as u16 * CELL;
            let (value, words) = group.told(leg);
            let full = if value > 0.0 { share(value) } else { 0.0 };
            let (shade, tone) = if theme.has_tones() {
                ("█", theme.filled(full, Layer::Full))
            } else {
                (SHADES[((full * 4.0) as usize).min(3)], theme.speed(full))
            };
            buf.set_string(x, y, shade, tone);
            let followed = group.follows(leg);
            let style = if followed { theme.accent() } else { Style::new() };
            buf.set_stringn(x + 1, y, format!("{words:>7}"), 7, style);
            for under in 1..each {
                buf.set_string(x, y + under, shade.repeat(usize::from(CELL - 1)), tone);
            }
        }
    }
    let hidden = grid.columns.1.len() - fits + (grid.rows.1.len() - grid.rows.1.len().min(rows));
    let hidden = if hidden > 0 { format!("{hidden} more when larger; ") } else { String::new() };
    let over =
        if group.window_from.is_some() { "over the measurement window" } else { "over the last five rounds" };
    let words = format!("{hidden}{over}; accent: what is followed");
    buf.set_stringn(area.x, area.y + area.height - 1, fit(&words, width), width, theme.faint());
}
