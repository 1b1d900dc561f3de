//! Spans as a picture: access time against the share of the drive, with its interval; the spans as nested brackets over the drive,
//! and a flag where the gain stops paying.

use std::time::Duration;

use hollow_mile_core::conclude::surveys::spans::{Span, SpansSurvey};
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Bytes, latency, significant};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::{Canvas, row_of};
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::log_axis::{share, under};
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::{Scroll, more};

fn length(s: &Span) -> f64 {
    (s.end_bytes - s.start_bytes) as f64
}

fn time(us: f64) -> String {
    latency(Duration::from_secs_f64((us / 1e6).max(0.0)))
}

/// Draws them; `capacity` is that of the drive, bytes.
pub fn render(
    survey: &SpansSurvey,
    capacity: f64,
    scroll: &Scroll,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    if survey.spans.is_empty() || area.height < 12 || area.width < LABELS + 40 {
        return;
    }
    let below = (survey.spans.len() as u16 + 3).min(area.height / 2);
    let upper = Rect { height: area.height - below, ..area };
    curve(survey, upper, buf, theme);
    let lower = Rect { y: area.y + upper.height, height: below, ..area };
    brackets(survey, capacity, scroll, lower, buf, theme);
}

fn curve(survey: &SpansSurvey, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let from_start: Vec<&Span> = survey.spans.iter().filter(|s| s.start_bytes == 0).collect();
    let half = |s: &Span| s.access_us.interval.unwrap_or(0.0);
    let top =
        survey.spans.iter().map(|s| s.p99_us.max(s.access_us.mean + half(s))).fold(1.0, f64::max) * 1.05;
    let (short, long) =
        survey.spans.iter().map(length).fold((f64::MAX, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    let span = (short / 1.3, long * 1.3);
    buf.set_stringn(
        area.x + LABELS,
        area.y,
        "random read: ● mean with its 95 % interval, ○ p99",
        usize::from(area.width - LABELS),
        theme.faint(),
    );
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 2, width: area.width - LABELS - 2, height: area.height - 5 };
    let in_ms = top >= 1000.0;
    let unit = if in_ms { 1e3 } else { 1.0 };
    let row = |us: f64| plot.y + row_of(us / top, plot.height);
    let column = |bytes: f64| plot.x + (share(bytes, span) * f64::from(plot.width - 1)).round() as u16;
    let axis = scale::degrees(0.0, top / unit, usize::from(plot.height / 3).clamp(2, 6));
    for t in &axis.ticks {
        buf.set_stringn(area.x, row(t.value * unit), format!("{:>7}", t.words), 7, theme.faint());
    }
    buf.set_stringn(area.x, area.y, format!("{:>7}", if in_ms { "ms" } else { "µs" }), 7, theme.faint());
    let mut canvas = Canvas::new(plot);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |bytes: f64, us: f64| (share(bytes, span) * width, (us / top).clamp(0.0, 1.0) * height);
    for (of, style) in [
        ((|s: &Span| s.access_us.mean) as fn(&Span) -> f64, theme.speed(0.5)),
        (|s: &Span| s.p99_us, theme.latency()),
    ] {
        for pair in from_start.windows(2) {
            let (a, b) = (place(length(pair[0]), of(pair[0])), place(length(pair[1]), of(pair[1])));
            canvas.line(a, b, |_| style);
        }
    }
    for s in &from_start {
        let (x, low) = place(length(s), s.access_us.mean - half(s));
        let (_, high) = place(length(s), s.access_us.mean + half(s));
        (low.round() as usize..=high.round() as usize)
            .for_each(|up| canvas.dot(x.round() as usize, up, theme.accent()));
    }
    canvas.paint(plot, buf);
    for s in &from_start {
        buf.set_string(column(length(s)), row(s.p99_us), "○", theme.latency());
        buf.set_string(column(length(s)), row(s.access_us.mean), "●", theme.strong());
    }
    if let Some(bytes) = survey.pays_to_bytes {
        let x = column(bytes as f64);
        for y in plot.y..plot.y + plot.height {
            if buf.cell((x, y)).is_some_and(|c| c.symbol() == " ") {
                buf.set_string(x, y, "┊", theme.accent());
            }
        }
        let words = format!("▾ pays to {}", Bytes::new(bytes));
        let room = usize::from((plot.x + plot.width).saturating_sub(x));
        buf.set_stringn(x, plot.y - 1, fit(&words, room), room, theme.accent());
    }
    let mut marks: Vec<(u16, String)> =
        from_start.iter().map(|s| (column(length(s)), Bytes::new(s.end_bytes).to_string())).collect();
    marks.sort();
    under(plot, &marks, "first so much of the drive", buf, theme);
}

/// Each span as a bracket over the drive, with what it takes.
fn brackets(
    survey: &SpansSurvey,
    capacity: f64,
    scroll: &Scroll,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    const WORDS: u16 = 44;
    let bar = Rect { x: area.x + 16, width: area.width.saturating_sub(16 + WORDS), ..area };
    let head = format!(
        "{:<14}  {:<w$}  {:>9}  {:>9}  {:>9}  {:>7}",
        "span",
        "over the drive, first to last address",
        "mean",
        "± 95 %",
        "IOPS",
        "gain",
        w = usize::from(bar.width)
    );
    buf.set_stringn(area.x, area.y, head, usize::from(area.width), theme.faint());
    let fits = usize::from(area.height.saturating_sub(2));
    let first = scroll.first_of(survey.spans.len(), fits);
    let slowest = survey.spans.iter().map(|s| s.access_us.mean).fold(1e-9, f64::max);
    for (i, s) in survey.spans.iter().skip(first).take(fits).enumerate() {
        let y = area.y + 1 + i as u16;
        let name = if s.start_bytes == 0 {
            format!("first {}", Bytes::new(s.end_bytes))
        } else {
            format!("last {}", Bytes::new(s.end_bytes - s.start_bytes))
        };
        let pays = survey.pays_to_bytes == Some(s.end_bytes) && s.start_bytes == 0;
        buf.set_stringn(area.x, y, fit(&name, 15), 15, if pays { theme.accent() } else { theme.strong() });
        let at =
            |bytes: u64| (bytes as f64 / capacity.max(1.0) * f64::from(bar.width.max(1) - 1)).round() as u16;
        let (from, to) = (at(s.start_bytes), at(s.end_bytes).min(bar.width.max(1) - 1));
        let style = theme.speed(1.0 - s.access_us.mean / slowest);
        for x in from..=to {
            let symbol = match x {
                x if x == from && x == to => "┃",
                x if x == from => "┣",
                x if x == to => "┫",
                _ => "━",
            };
            buf.set_string(bar.x + x, y, symbol, style);
        }
        let interval = s.access_us.interval.map_or_else(|| "one run".into(), time);
        let words = format!(
            "{:>9}  {interval:>9}  {:>9}  {:>7.2}",
            time(s.access_us.mean),
            significant(s.operations_per_s),
            s.gain
        );
        buf.set_stringn(bar.x + bar.width + 2, y, words, usize::from(WORDS), theme.strong());
    }
    let last = Rect { y: area.y + area.height - 1, height: 1, ..area };
    more(first, survey.spans.len().saturating_sub(first + fits), last, buf, theme);
}
