//! A stream as a picture: what was offered and what the drive took, the buffer between them and what ran over it; beside it the buffer
//! that each rate would have needed.

use hollow_mile_core::conclude::surveys::buffer::{Needed, Stretch, stretches};
use hollow_mile_core::conclude::surveys::stream::{StreamSurvey, Trial};
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Bytes, Rate, mb_s_figure};
use hollow_mile_core::readings::{Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::words::cells;
use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::Canvas;
use crate::ui::widgets::lane::{LABELS, upright};
use crate::ui::widgets::log_axis::{share, under};
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::ruler;
use crate::ui::widgets::scroll::Scroll;
use crate::ui::widgets::surface::EIGHTHS;

/// The hold curve stands beside the lanes where there is so much room, and below them where not.
const BESIDE: u16 = 84;
/// Rows over the buffer's edge, for what ran over it.
const OVER: u16 = 3;

/// Draws the stream that is chosen.
pub fn render(
    survey: &StreamSurvey,
    r: &Readings,
    scroll: &Scroll,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let chosen = scroll.first_of(survey.trials.len(), 1);
    let Some(trial) = survey.trials.get(chosen) else { return };
    if area.height < 12 || area.width < LABELS + 30 {
        return;
    }
    title(survey, chosen, area, buf, theme);
    let body = Rect { y: area.y + 2, height: area.height - 2, ..area };
    // Where there is room for one of them, it is what the buffer went through.
    let (lanes_at, hold_at) = if area.width < BESIDE && body.height < 20 {
        (body, Rect::default())
    } else if area.width >= BESIDE {
        let width = (area.width / 3).clamp(33, 70);
        let x = body.x + body.width - width;
        (Rect { width: body.width - width - 3, ..body }, Rect { x, width, ..body })
    } else {
        let height = body.height * 2 / 5;
        let y = body.y + body.height - height;
        (Rect { height: body.height - height - 1, ..body }, Rect { y, height, ..body })
    };
    lanes(trial, r, lanes_at, buf, theme);
    hold(trial, hold_at, buf, theme);
}

/// Every stream that was offered, the slowest first, and the one that is shown.
fn title(survey: &StreamSurvey, chosen: usize, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let trial = &survey.trials[chosen];
    let all = survey.trials.len();
    let how = if trial.held {
        format!("held; {} in it at most", Bytes::new(trial.backlog_bytes))
    } else {
        trial.loss()
    };
    let buffer = Bytes::new(trial.buffer_bytes).binary();
    let words = match all {
        // What became of it is said above.
        1 => format!("a buffer of {buffer}"),
        _ => format!(
            "{} into a buffer of {buffer}: {how}  ({} of {all}, j k)",
            Rate::from_mb_s(trial.mb_s),
            chosen + 1
        ),
    };
    let room = usize::from(area.width);
    let style = if trial.held || all == 1 { theme.strong() } else { theme.accent() };
    buf.set_stringn(area.x, area.y, fit(&words, room), room, style);
    if all == 1 {
        return;
    }
    let mut order: Vec<usize> = (0..all).collect();
    order.sort_by(|a, b| survey.trials[*a].mb_s.total_cmp(&survey.trials[*b].mb_s));
    let mut x = buf.set_stringn(area.x, area.y + 1, "MB/s ", usize::from(area.width), theme.faint()).0;
    for i in order {
        let t = &survey.trials[i];
        let mark = if t.held { "held" } else { "missed" };
        let sign = if i == chosen { "▸" } else { " " };
        let words = format!("{sign}{} {mark}  ", mb_s_figure(t.mb_s));
        let style = match (i == chosen, t.held) {
            (true, _) => theme.strong(),
            (false, true) => theme.faint(),
            (false, false) => theme.accent(),
        };
        let room = usize::from((area.x + area.width).saturating_sub(x));
        x = buf.set_stringn(x, area.y + 1, words, room, style).0;
    }
}

/// Offered and taken above, the buffer below, on one ruler of time.
fn lanes(trial: &Trial, r: &Readings, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let series = r.series();
    let samples = r.steps().get(trial.step).map(|s| s.samples(series.len())).unwrap_or_default();
    let plot = Rect { x: area.x + LABELS, width: area.width.saturating_sub(LABELS), ..area };
    let stream = Rate::from_mb_s(trial.mb_s);
    let all = stretches(series, samples, stream, Bytes::new(trial.buffer_bytes), usize::from(plot.width));
    if area.height < 9 {
        return;
    }
    let (Some(first), Some(last)) = (all.first(), all.last()) else {
        buf.set_stringn(area.x, area.y, "Nothing was offered yet.", usize::from(area.width), theme.faint());
        return;
    };
    let span = (first.from_s, last.to_s);
    let rows = area.height.saturating_sub(5);
    let upper = Rect { y: area.y + 1, height: rows / 2, ..plot };
    let lower = Rect { y: upper.y + upper.height + 2, height: rows - rows / 2, ..plot };
    supply(trial, &all, span, upper, buf, theme);
    filling(trial, &all, span, lower, buf, theme);
    let at = Rect { y: lower.y + lower.height, height: 2, x: area.x, width: area.width };
    ruler::render(at, buf, r, Ruler::Elapsed, span, theme);
}

fn column(s: &Stretch, (from, to): (f64, f64), plot: Rect) -> u16 {
    let share = (f64::midpoint(s.from_s, s.to_s) - from) / (to - from).max(f64::MIN_POSITIVE);
    plot.x + ((share * f64::from(plot.width)) as u16).min(plot.width - 1)
}

fn supply(trial: &Trial, all: &[Stretch], span: (f64, f64), plot: Rect, buf: &mut Buffer, theme: &Theme) {
    let fastest = all.iter().filter_map(Stretch::rate).map(Rate::mb_s).fold(trial.mb_s, f64::max);
    // What a drive catches up with may be far quicker than the stream; the picture is of the stream.
    let top = fastest.min(trial.mb_s * 1.6) * 1.08;
    let axis = scale::rates(top * 1e6, usize::from(plot.height / 2).clamp(2, 6));
    let rows = f64::from(plot.height - 1);
    let row = |mb_s: f64| plot.y + ((1.0 - (mb_s / top).clamp(0.0, 1.0)) * rows).round() as u16;
    buf.set_stringn(
        plot.x - LABELS,
        plot.y - 1,
        format!("{:>7} ", "MB/s"),
        usize::from(LABELS),
        theme.faint(),
    );
    upright(plot, &axis, |v| v / 1e6 / top, buf, theme);
    // What was offered and not taken at once.
    for s in all {
        let Some(rate) = s.rate().map(Rate::mb_s).filter(|r| *r < trial.mb_s * 0.98) else { continue };
        let x = column(s, span, plot);
        for y in row(trial.mb_s)..row(rate) {
            let (tone, style) =
                if s.lost > 0.0 { (theme.wash(), theme.accent()) } else { (theme.band(), theme.faint()) };
            match tone {
                Some(tone) => buf.set_string(x, y, "█", Style::new().fg(tone)),
                None => buf.set_string(x, y, "░", style),
            }
        }
    }
    for x in plot.x..plot.x + plot.width {
        buf.set_string(x, row(trial.mb_s), "─", theme.strong());
    }
    let mut canvas = Canvas::new(plot);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |s: &Stretch| {
        let rate = s.rate().map_or(0.0, Rate::mb_s);
        let x = (f64::midpoint(s.from_s, s.to_s) - span.0) / (span.1 - span.0).max(1e-9);
        (x.clamp(0.0, 1.0) * width, (rate / top).clamp(0.0, 1.0) * height)
    };
    let moving: Vec<&Stretch> = all.iter().filter(|s| s.loaded_s > 0.0).collect();
    for pair in moving.windows(2) {
        canvas.line(place(pair[0]), place(pair[1]), |_| theme.speed(0.5));
    }
    canvas.paint(plot, buf);
    let words = format!("offered {} ───   taken by the drive ⠤⠤⠤", mb_s_figure(trial.mb_s));
    buf.set_stringn(plot.x, plot.y - 1, words, usize::from(plot.width), theme.faint());
}

fn filling(trial: &Trial, all: &[Stretch], span: (f64, f64), plot: Rect, buf: &mut Buffer, theme: &Theme) {
    let room = (trial.buffer_bytes as f64).max(1.0);
    let missed = !trial.held;
    let over = if missed { OVER.min(plot.height / 3) } else { 0 };
    let edge = plot.y + over;
    let rows = plot.height.saturating_sub(over);
    let top = shown_of(trial);
    let axis = scale::bytes(0.0, top, usize::from(rows / 3).clamp(2, 5));
    buf.set_stringn(
        plot.x - LABELS,
        plot.y - 1,
        format!("{:>7} ", axis.unit),
        usize::from(LABELS),
        theme.faint(),
    );
    let buffer = Bytes::new(trial.buffer_bytes).binary();
    let name = if top < room {
        format!("in the buffer; it has {buffer}")
    } else if missed {
        format!("in the buffer of {buffer}, and what is lost over it")
    } else {
        format!("in the buffer of {buffer}")
    };
    buf.set_stringn(plot.x, plot.y - 1, name, usize::from(plot.width), theme.faint());
    upright(Rect { y: edge, height: rows, ..plot }, &axis, |v| v / top, buf, theme);
    for s in all {
        let x = column(s, span, plot);
        bar(x, edge, rows, s.backlog / top, theme.faint(), buf);
        if s.lost > 0.0 && over > 0 {
            let offered = (trial.mb_s * 1e6 * s.loaded_s).max(1.0);
            bar(x, plot.y, over, (s.lost / offered).max(0.05), theme.accent(), buf);
        }
    }
    if missed && over > 0 {
        buf.set_stringn(plot.x - LABELS, plot.y, format!("{:>7}", "lost"), 7, theme.accent());
    }
}

/// How much of the buffer the picture shows, bytes: of one that was hardly used what was, of one that was not used the whole.
fn shown_of(trial: &Trial) -> f64 {
    const LEAST: f64 = 1e6;
    let room = (trial.buffer_bytes as f64).max(1.0);
    match trial.backlog_bytes {
        0 => room,
        _ if !trial.held => room,
        used => room.min((used as f64 * 4.0).max(LEAST)),
    }
}

/// A bar in eighths, from the lowest of so many rows up.
fn bar(x: u16, y: u16, rows: u16, share: f64, style: ratatui::style::Style, buf: &mut Buffer) {
    let eighths = (share.clamp(0.0, 1.0) * f64::from(rows) * 8.0).round() as u16;
    for up in 0..rows {
        let part = eighths.saturating_sub(up * 8).min(8);
        if part > 0 {
            buf.set_string(x, y + rows - 1 - up, EIGHTHS[usize::from(part)], style);
        }
    }
}

/// The buffer that each rate would have needed, and what was asked.
fn hold(trial: &Trial, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let plot = Rect {
        x: area.x + LABELS,
        y: area.y + 3,
        width: area.width.saturating_sub(LABELS + 2),
        height: area.height.saturating_sub(5),
    };
    if plot.height < 4 || trial.hold.len() < 2 {
        return;
    }
    let width = usize::from(area.width);
    let needs = Bytes::new(trial.needed_bytes());
    let holds = trial.buffer_holds_mb_s.map(Rate::from_mb_s).unwrap_or_default();
    let stream = Rate::from_mb_s(trial.mb_s);
    let first = match trial.needed_bytes() {
        0 => format!("{stream} needs no buffer"),
        _ => format!("{stream} needs {needs}"),
    };
    buf.set_stringn(area.x, area.y, fit(&first, width), width, theme.strong());
    if !trial.held {
        let second = format!("this buffer holds {holds}");
        buf.set_stringn(area.x, area.y + 1, fit(&second, width), width, theme.strong());
    }
    let needed = || trial.hold.iter().map(|n| n.bytes as f64);
    let most = needed().fold(trial.buffer_bytes as f64, f64::max);
    let least = needed().filter(|b| *b > 0.0).fold(trial.buffer_bytes as f64, f64::min);
    // Two decades at the least, so that the axis has figures.
    let span = ((least / 2.0).max(most / 1e7).min(most / 100.0), most * 2.0);
    let high = f64::from(plot.height - 1);
    let row = |bytes: f64| plot.y + ((1.0 - share(bytes, span)) * high).round() as u16;
    let along = |mb_s: f64| (mb_s / trial.mb_s).clamp(0.0, 1.0);
    let column = |mb_s: f64| plot.x + (along(mb_s) * f64::from(plot.width - 1)).round() as u16;
    buf.set_stringn(area.x, area.y + 2, "buffer needed", width, theme.faint());
    let mut last: Option<u16> = None;
    for decade in (0..16).rev() {
        let bytes = 10f64.powi(decade);
        if (span.0..=span.1).contains(&bytes) && last.is_none_or(|l| row(bytes) > l + 1) {
            let words = Bytes::new(bytes as u64).to_string();
            buf.set_stringn(area.x, row(bytes), format!("{words:>7}"), 7, theme.faint());
            last = Some(row(bytes));
        }
    }
    let has = row(trial.buffer_bytes as f64);
    for x in plot.x..plot.x + plot.width {
        buf.set_string(x, has, "┄", theme.faint());
    }
    let mut canvas = Canvas::new(plot);
    let (w, h) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |n: &Needed| (along(n.mb_s) * w, share(n.bytes as f64, span) * h);
    for pair in trial.hold.windows(2) {
        canvas.line(place(&pair[0]), place(&pair[1]), |_| theme.speed(0.5));
    }
    canvas.paint(plot, buf);
    // The curve crosses its line at the left where it was missed, and not at all where it was held.
    let words = format!(" {} ", Bytes::new(trial.buffer_bytes).binary());
    let at = (plot.x + plot.width).saturating_sub(cells(&words) as u16 + 3);
    buf.set_stringn(at, has, &words, usize::from(plot.width), theme.faint());
    if !trial.held {
        buf.set_string(column(holds.mb_s()), has, "◆", theme.strong());
    }
    if let Some(asked) = trial.hold.last() {
        let style = if trial.held { theme.strong() } else { theme.accent() };
        buf.set_string(column(asked.mb_s), row(asked.bytes as f64), "◉", style);
    }
    let axis = scale::rates(trial.mb_s * 1e6, usize::from(plot.width / 9).clamp(2, 6));
    let marks: Vec<(u16, String)> =
        axis.ticks.iter().map(|t| (column(t.value / 1e6), t.words.clone())).collect();
    under(plot, &marks, "stream, MB/s", buf, theme);
    let key = if trial.held { "◉ asked" } else { "◉ asked  ◆ holds" };
    let at = (area.x + area.width).saturating_sub(cells(key) as u16);
    buf.set_stringn(at.max(area.x + 15), area.y + 2, key, width.saturating_sub(15), theme.faint());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn of_the_buffer_is_shown_what_was_used() {
        let trial = |backlog_bytes: u64, held: bool| Trial {
            mb_s: 100.0,
            buffer_bytes: 2_000_000_000,
            held,
            misses: 0,
            lost_bytes: 0,
            lost_s: 0.0,
            backlog_bytes,
            first_miss_s: None,
            cause: None,
            p99_us: 0.0,
            over_s: 60.0,
            hold: Vec::new(),
            buffer_holds_mb_s: None,
            step: 0,
        };
        let shown = |used, held| shown_of(&trial(used, held));
        assert_eq!(shown(100_000_000, true), 400_000_000.0);
        assert_eq!(shown(1_000_000_000, true), 2_000_000_000.0, "no more than there is");
        assert_eq!(shown(5_000, true), 1_000_000.0, "no axis of a few bytes");
        assert_eq!(shown(0, true), 2_000_000_000.0);
        assert_eq!(shown(2_100_000_000, false), 2_000_000_000.0);
    }
}
