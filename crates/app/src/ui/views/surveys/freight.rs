//! Freight as a picture: what a file takes against its size, both logarithmic, with the line that its costs make and the size at which
//! its bytes cost as much as itself; beside it what holds it up, as bars.

use std::time::Duration;

use hollow_mile_core::conclude::surveys::freight::{FreightLeg, FreightSurvey};
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::units::{Bytes, grouped, latency, span_words};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::ui::theme::{Layer, Theme};
use crate::ui::widgets::canvas::Canvas;
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::log_axis::{beside, share, ticks, under};
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::scroll::Scroll;

/// Draws one leg; the others by scrolling.
pub fn render(survey: &FreightSurvey, scroll: &Scroll, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let chosen = scroll.first_of(survey.legs.len(), 1);
    let Some(leg) = survey.legs.get(chosen) else { return };
    let more = match survey.legs.len() {
        1 => String::new(),
        n => format!("  ({} of {n}, j k)", chosen + 1),
    };
    let rate = leg.rate.map(|r| format!(", {r}")).unwrap_or_default();
    let at_once = if leg.threads > 1 { format!(", {} at once", leg.threads) } else { String::new() };
    let title = format!(
        "leg {}, {}: {} files, {}{rate}{at_once}{more}",
        leg.leg + 1,
        leg.carry.word(),
        grouped(leg.files),
        leg.bytes
    );
    buf.set_stringn(
        area.x,
        area.y,
        fit(&title, usize::from(area.width)),
        usize::from(area.width),
        theme.accent(),
    );
    let body = Rect { y: area.y + 2, height: area.height.saturating_sub(2), ..area };
    let beside = (area.width * 2 / 5).clamp(34, 56).min(area.width);
    let plot = Rect { width: body.width.saturating_sub(beside + 3), ..body };
    curve(leg, plot, buf, theme);
    bars(leg, Rect { x: body.x + plot.width + 3, width: beside, ..body }, buf, theme);
}

/// Words of a size on an axis: `64 kB`.
fn size(bytes: f64) -> String {
    Bytes::new(bytes.round() as u64).to_string()
}

fn time(seconds: f64) -> String {
    latency(Duration::from_secs_f64(seconds.max(0.0)))
}

fn curve(leg: &FreightLeg, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let points: Vec<(f64, f64, f64)> = leg
        .sizes
        .iter()
        .filter(|s| s.mean_bytes >= 1.0 && s.each_s > 0.0)
        .map(|s| (s.mean_bytes, s.each_s, s.metadata_s))
        .collect();
    if area.width < LABELS + 16 || area.height < 9 {
        return;
    }
    buf.set_stringn(
        area.x + LABELS,
        area.y,
        "what one file takes of its thread's time",
        usize::from(area.width - LABELS),
        theme.faint(),
    );
    if points.is_empty() {
        let words = "No file is done with yet.";
        buf.set_stringn(area.x + LABELS, area.y + 2, words, usize::from(area.width - LABELS), theme.faint());
        return;
    }
    let extremes = |of: fn(&(f64, f64, f64)) -> f64| {
        points.iter().map(of).filter(|v| *v > 0.0).fold((f64::MAX, 0.0f64), |(l, h), v| (l.min(v), h.max(v)))
    };
    let ((x0, x1), (y0, y1), (m0, _)) = (extremes(|p| p.0), extremes(|p| p.1), extremes(|p| p.2));
    let (x_span, y_span) = ((x0 / 1.4, x1 * 1.4), (y0.min(m0) / 1.4, y1 * 1.4));
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 1, width: area.width - LABELS - 1, height: area.height - 6 };
    let row = |v: f64| plot.y + ((1.0 - share(v, y_span)) * f64::from(plot.height - 1)).round() as u16;
    let column = |v: f64| plot.x + (share(v, x_span) * f64::from(plot.width - 1)).round() as u16;
    beside(area.x, y_span, row, time, buf, theme);
    let marks: Vec<(u16, String)> = ticks(x_span).into_iter().map(|v| (column(v), size(v))).collect();
    under(plot, &marks, "size of the file", buf, theme);
    let threads = f64::from(leg.threads.max(1));
    let costs = leg.costs.as_ref();
    let line = costs.and_then(|c| Some((c.per_file?.value * threads, c.per_byte?.value * threads)));
    let mut canvas = Canvas::new(plot);
    let (width, height) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    if let Some((a, b)) = line {
        let at = |x: f64| {
            let bytes = (x_span.0.ln() + (x_span.1 / x_span.0).ln() * x / width).exp();
            share(a + b * bytes, y_span) * height
        };
        let mut x = 0.0;
        while x < width {
            canvas.line((x, at(x)), ((x + 2.0).min(width), at((x + 2.0).min(width))), |_| theme.latency());
            x += 2.0;
        }
    }
    canvas.paint(plot, buf);
    let even = costs.and_then(|c| c.even).filter(|e| (x_span.0..x_span.1).contains(&e.value));
    if let Some((even, half)) = even.map(|e| (e.value, e.half())) {
        for y in plot.y..plot.y + plot.height {
            if buf[(column(even), y)].symbol() == " " {
                buf.set_string(column(even), y, "┊", theme.accent());
            }
        }
        let words = format!("as much as its bytes: {}", Quantity::Bytes.plus_minus(even, half));
        let room = usize::from(plot.x + plot.width - column(even)).saturating_sub(2);
        // Right of its line, or left of it.
        if room >= words.len() {
            buf.set_string(column(even) + 2, plot.y, &words, theme.accent());
        } else if usize::from(column(even) - plot.x) > words.len() + 2 {
            buf.set_string(column(even) - words.len() as u16 - 2, plot.y, &words, theme.accent());
        }
    }
    let most = leg.sizes.iter().map(|s| s.files).max().unwrap_or(1).max(1) as f64;
    for s in &leg.sizes {
        if s.metadata_s > 0.0 && s.mean_bytes >= 1.0 {
            buf.set_string(column(s.mean_bytes), row(s.metadata_s), "·", theme.faint());
        }
    }
    for s in leg.sizes.iter().filter(|s| s.mean_bytes >= 1.0 && s.each_s > 0.0) {
        // Larger where there are more of them.
        let mark = if s.files as f64 > 0.2 * most { "●" } else { "•" };
        buf.set_string(
            column(s.mean_bytes),
            row(s.each_s),
            mark,
            theme.speed(0.9).add_modifier(Modifier::BOLD),
        );
    }
    let key = "● many files  • few  ─ each file + its bytes  · of it: make, open, close";
    let y = area.y + area.height - 1;
    buf.set_stringn(area.x, y, fit(key, usize::from(area.width)), usize::from(area.width), theme.faint());
}

fn bars(leg: &FreightLeg, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let width = usize::from(area.width);
    buf.set_stringn(area.x, area.y, "less time without it", width, theme.faint());
    let mut y = area.y + 2;
    let longest = leg.waits.first().map_or(1.0, |w| w.share).max(0.01);
    for (i, wait) in leg.waits.iter().filter(|w| w.share >= 0.005).enumerate() {
        if y + 2 >= area.y + area.height {
            return;
        }
        let named = i == 0 && leg.bottleneck.is_some();
        let style = if named { theme.accent() } else { Style::new() };
        let words = format!("{:>4} {}", format!("{:.0} %", wait.share * 100.0), leg.words(wait.on));
        buf.set_stringn(area.x, y, fit(&words, width), width, style);
        let bar = ((wait.share / longest) * (width.saturating_sub(1)) as f64).round().max(1.0) as usize;
        let tone =
            if theme.has_tones() { theme.filled(1.0 - wait.share, Layer::Full) } else { theme.strong() };
        buf.set_string(area.x, y + 1, "█".repeat(bar), tone);
        y += 3;
    }
    let mut lines = Vec::new();
    if let Some(durable) = leg.durable_s {
        lines.push(format!("to return {}, to durable {}", span_words(leg.returned_s), span_words(durable)));
    } else {
        lines.push(format!("took {}", span_words(leg.returned_s)));
    }
    if let Some(c) = &leg.costs {
        let of = |i: hollow_mile_core::quantity::Interval| Quantity::Seconds.plus_minus(i.value, i.half());
        lines.extend(c.per_file.map(|i| format!("each file    {}", of(i))));
        let rate = |b: f64| hollow_mile_core::quantity::units::Rate::new(1.0 / b.max(1e-15));
        lines.extend(c.per_byte.map(|i| format!("its bytes    {}", rate(i.value))));
        lines.extend(c.per_folder.map(|f| format!("each folder  {}", time(f))));
    }
    lines.extend(leg.amplification.map(|a| format!("block layer wrote {a:.2} × the bytes")));
    lines.extend(
        leg.write_back
            .as_ref()
            .map(|w| format!("memory full after {}: {} then {}", w.returned, w.before, w.after)),
    );
    for line in lines {
        if y >= area.y + area.height {
            return;
        }
        buf.set_stringn(area.x, y, fit(&line, width), width, Style::new());
        y += 1;
    }
}
