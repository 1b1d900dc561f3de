//! A ladder as a picture: what more depth buys, and what it costs. Rate against p99 latency, both logarithmic, a curve a block size
//! with the depth of each point as a letter, the knee marked; beside it every block and depth as a shaded cell with its figure.

use hollow_mile_core::conclude::surveys::ladder::{LadderSurvey, Rung};
use hollow_mile_core::drive::Pattern;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Bytes, Rate, mb_s_figure, significant};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::ui::theme::{Layer, Theme};
use crate::ui::widgets::canvas::Canvas;
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::log_axis::{beside, share, ticks, under};
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::Scroll;

/// Rungs of one order and one crew.
struct Page<'a> {
    pattern: Pattern,
    workers: u32,
    rungs: Vec<&'a Rung>,
    blocks: Vec<u64>,
    depths: Vec<u32>,
}

fn pages(survey: &LadderSurvey) -> Vec<Page<'_>> {
    let mut keys: Vec<(Pattern, u32)> = Vec::new();
    for r in &survey.rungs {
        if !keys.contains(&(r.pattern, r.workers)) {
            keys.push((r.pattern, r.workers));
        }
    }
    let page = |(pattern, workers): (Pattern, u32)| {
        let rungs: Vec<&Rung> =
            survey.rungs.iter().filter(|r| (r.pattern, r.workers) == (pattern, workers)).collect();
        let mut blocks: Vec<u64> = rungs.iter().map(|r| r.block_bytes).collect();
        let mut depths: Vec<u32> = rungs.iter().map(|r| r.depth).collect();
        blocks.sort_unstable();
        blocks.dedup();
        depths.sort_unstable();
        depths.dedup();
        Page { pattern, workers, rungs, blocks, depths }
    };
    keys.into_iter().map(page).collect()
}

impl Page<'_> {
    fn at(&self, block: u64, depth: u32) -> Option<&Rung> {
        self.rungs.iter().find(|r| (r.block_bytes, r.depth) == (block, depth)).copied()
    }

    fn name(&self) -> String {
        let order = self.pattern.words();
        let crew =
            if self.workers == 1 { "one worker".to_owned() } else { format!("{} workers", self.workers) };
        format!("{order}, {crew}")
    }
}

/// The depth of a point as a letter, the smallest first.
fn letter(place: usize) -> char {
    char::from(b'a' + place.min(25) as u8)
}

/// The smallest depth that is enough for a block.
fn knee(survey: &LadderSurvey, page: &Page<'_>, block: u64) -> Option<u32> {
    let same = |s: &&hollow_mile_core::conclude::surveys::ladder::Saturation| {
        (s.block_bytes, s.workers, s.pattern) == (block, page.workers, page.pattern)
    };
    survey.saturation.iter().find(same).map(|s| s.depth)
}

/// Draws the ladder; `link` is what it can carry.
pub fn render(
    survey: &LadderSurvey,
    link: Option<Rate>,
    scroll: &Scroll,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let pages = pages(survey);
    let chosen = scroll.first_of(pages.len(), 1);
    let Some(page) = pages.get(chosen) else { return };
    let more =
        if pages.len() > 1 { format!("  ({} of {}, j k)", chosen + 1, pages.len()) } else { String::new() };
    let title = format!("{}{more}", page.name());
    buf.set_stringn(area.x, area.y, title, usize::from(area.width), theme.accent());
    let cell = 8u16;
    let matrix_width = (page.depths.len() as u16 * cell + 10).min(area.width / 2);
    let body = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let plot = Rect { width: body.width.saturating_sub(matrix_width + 3), ..body };
    curves(survey, page, link, plot, buf, theme);
    let matrix_at = Rect { x: body.x + plot.width + 3, width: matrix_width, ..body };
    matrix(survey, page, cell, matrix_at, buf, theme);
}

fn curves(
    survey: &LadderSurvey,
    page: &Page<'_>,
    link: Option<Rate>,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    if area.width < LABELS + 16 || area.height < 8 {
        return;
    }
    let extremes = |of: &dyn Fn(&Rung) -> f64| {
        let all = page.rungs.iter().map(|r| of(r)).filter(|v| *v > 0.0);
        all.fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)))
    };
    let (slow, fast) = extremes(&|r| r.mb_s);
    let (short, long) = extremes(&|r| r.p99_us);
    if slow > fast || short > long {
        buf.set_stringn(area.x, area.y, "No rung is measured yet.", usize::from(area.width), theme.faint());
        return;
    }
    let ceiling = link.map(Rate::mb_s).filter(|l| *l > 0.0);
    // The ceiling belongs into the picture when the fastest comes near it.
    let top = ceiling.filter(|c| *c < fast * 4.0).map_or(fast, |c| c.max(fast));
    let (y_span, x_span) = ((slow / 1.25, top * 1.25), (short / 1.3, long * 1.3));
    buf.set_stringn(area.x + LABELS, area.y, "rate, MB/s", usize::from(area.width - LABELS), theme.faint());
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 1, width: area.width - LABELS - 9, height: area.height - 5 };
    let row = |v: f64| plot.y + ((1.0 - share(v, y_span)) * f64::from(plot.height - 1)).round() as u16;
    let column = |v: f64| plot.x + (share(v, x_span) * f64::from(plot.width - 1)).round() as u16;
    beside(area.x, y_span, row, mb_s_figure, buf, theme);
    if let Some(c) = ceiling.filter(|c| *c <= y_span.1) {
        for x in plot.x..plot.x + plot.width {
            buf.set_string(x, row(c), "┄", theme.heat(1.0));
        }
        // Beside the name of the axis: on the line curves would run through it.
        let words = format!("┄ the link carries {}", Rate::from_mb_s(c));
        let room = usize::from(area.width - LABELS).saturating_sub(14);
        buf.set_stringn(area.x + LABELS + 13, area.y, fit(&words, room), room, theme.heat(1.0));
    }
    let unit = scale::latencies(x_span.0, x_span.1).unit;
    let words = |v: f64| significant(if unit == "ms" { v / 1e3 } else { v });
    let marks: Vec<(u16, String)> = ticks(x_span).into_iter().map(|v| (column(v), words(v))).collect();
    under(plot, &marks, &format!("latency p99, {unit}"), buf, theme);
    let mut ends: Vec<u16> = Vec::new();
    let mut knees: Vec<((u16, u16), char)> = Vec::new();
    for (i, block) in page.blocks.iter().enumerate().rev() {
        let style = theme.speed(i as f64 / (page.blocks.len().max(2) - 1) as f64);
        let points: Vec<(usize, &Rung)> = page
            .depths
            .iter()
            .enumerate()
            .filter_map(|(d, depth)| {
                Some((d, page.at(*block, *depth).filter(|r| r.mb_s > 0.0 && r.p99_us > 0.0)?))
            })
            .collect();
        let mut canvas = Canvas::new(plot);
        let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
        let dot = |r: &Rung| (share(r.p99_us, x_span) * width, share(r.mb_s, y_span) * height);
        for pair in points.windows(2) {
            let (a, b) = (dot(pair[0].1), dot(pair[1].1));
            canvas.line(a, b, |_| style);
        }
        canvas.paint(plot, buf);
        let knee = knee(survey, page, *block);
        for (d, r) in &points {
            let at = (column(r.p99_us), row(r.mb_s));
            if knee == Some(r.depth) {
                knees.push((at, letter(*d).to_ascii_uppercase()));
            } else {
                buf.set_string(at.0, at.1, letter(*d).to_string(), style.add_modifier(Modifier::BOLD));
            }
        }
        // Its block at its end, each in a row of its own.
        if let Some((_, r)) = points.last() {
            let mut y = row(r.mb_s);
            while ends.contains(&y) && y + 1 < plot.y + plot.height {
                y += 1;
            }
            ends.push(y);
            buf.set_stringn(plot.x + plot.width + 1, y, Bytes::new(*block).binary(), 8, style);
        }
    }
    // Over everything else: they are what the picture is for.
    for ((x, y), name) in knees {
        buf.set_string(x, y, name.to_string(), theme.accent());
    }
    let depths: Vec<String> =
        page.depths.iter().enumerate().map(|(i, d)| format!("{} {d}", letter(i))).collect();
    let words = format!("depth  {}    capital: the knee", depths.join("  "));
    buf.set_stringn(
        area.x,
        area.y + area.height - 1,
        fit(&words, usize::from(area.width)),
        usize::from(area.width),
        theme.faint(),
    );
}

/// How full a cell is, without colour.
const SHADES: [&str; 4] = ["░", "▒", "▓", "█"];

fn matrix(survey: &LadderSurvey, page: &Page<'_>, cell: u16, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let best = page.rungs.iter().map(|r| r.mb_s).fold(0.0, f64::max).max(1e-9);
    let width = usize::from(area.width);
    buf.set_stringn(area.x, area.y, "MB/s by block and depth", width, theme.faint());
    let fits = usize::from(area.width.saturating_sub(9) / cell).min(page.depths.len());
    for (i, depth) in page.depths.iter().take(fits).enumerate() {
        let words = format!("{:>7}", format!("{} {depth}", letter(i)));
        buf.set_string(area.x + 9 + i as u16 * cell, area.y + 1, words, theme.faint());
    }
    // As high as there is room: cells are areas, not lines.
    let each = (area.height.saturating_sub(5) / page.blocks.len().max(1) as u16).clamp(1, 4);
    let rows = usize::from(area.height.saturating_sub(5) / each);
    for (i, block) in page.blocks.iter().take(rows).enumerate() {
        let y = area.y + 2 + i as u16 * each;
        buf.set_string(area.x, y, format!("{:>8}", Bytes::new(*block).binary()), Style::new());
        let knee = knee(survey, page, *block);
        for (d, depth) in page.depths.iter().take(fits).enumerate() {
            let Some(r) = page.at(*block, *depth) else { continue };
            let x = area.x + 9 + d as u16 * cell;
            let full = r.mb_s / best;
            let (shade, tone) = if theme.has_tones() {
                ("█", theme.filled(full, Layer::Full))
            } else {
                (SHADES[((full * 4.0) as usize).min(3)], theme.speed(full))
            };
            let style = if knee == Some(*depth) { theme.accent() } else { Style::new() };
            buf.set_string(x, y, shade, tone);
            let mark = if r.steady { "" } else { "~" };
            let words = format!("{:>6}", format!("{mark}{}", mb_s_figure(r.mb_s)));
            buf.set_stringn(x + 1, y, words, usize::from(cell - 1), style);
            for under in 1..each {
                buf.set_string(x, y + under, shade.repeat(usize::from(cell - 1)), tone);
            }
        }
    }
    let hidden = page.depths.len() - fits;
    let hidden = if hidden > 0 { format!("; {hidden} more depths when wider") } else { String::new() };
    let unsteady = if page.rungs.iter().all(|r| r.steady) { "" } else { "; ~ not steady" };
    let words = format!("accent: the knee, 95 % of the best{unsteady}{hidden}");
    buf.set_stringn(area.x, area.y + area.height - 1, fit(&words, width), width, theme.faint());
}
