//! A scan: rate and longest operation by position, a strip for each pass, and the table of slow stretches.

use std::time::Duration;

use hollow_mile_charts::lanes::letter;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::{Bytes, Rate, latency};
use hollow_mile_core::readings::{Bin, Column, Grid, Readings, Ruler};
use hollow_mile_core::record::Task;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::SurveysView;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::theme::Theme;
use crate::ui::views::haul;
use crate::ui::widgets::lane;
use crate::ui::widgets::panel::Writer;
use crate::ui::widgets::ruler;
use crate::ui::widgets::scroll::Scroll;
use crate::ui::widgets::surface::EIGHTHS;

const PANEL: u16 = 44;

/// The bins of a grid between two addresses.
fn bins_between(grid: &Grid, from: f64, to: f64) -> &[Bin] {
    if to <= grid.start as f64 || from >= grid.end as f64 {
        return &[];
    }
    let first = grid.bin_of(from.max(0.0) as u64);
    let last = grid.bin_of((to - 1.0).max(from) as u64);
    &grid.bins[first..=last.max(first)]
}

/// What the passes together show in each of so many columns.
fn columns(grids: &[Grid], (from, to): (f64, f64), n: usize) -> Vec<Column> {
    let width = (to - from) / n.max(1) as f64;
    (0..n)
        .map(|i| {
            let left = from + width * i as f64;
            let bins: Vec<&Bin> = grids
                .iter()
                .flat_map(|g| bins_between(g, left, left + width))
                .filter(|b| b.seconds > 0.0)
                .collect();
            let rates: Vec<f64> = bins.iter().filter_map(|b| b.rate()).collect();
            let (bytes, seconds) =
                bins.iter().fold((0.0, 0.0), |(b, s), x| (b + f64::from(x.bytes), s + f64::from(x.seconds)));
            if bytes <= 0.0 {
                return Column::default();
            }
            let worst = bins.iter().map(|b| b.worst_us).max().filter(|w| *w > 0);
            Column {
                rate: Some(Rate::new(bytes / seconds)),
                slowest: rates.iter().copied().reduce(f64::min).map(Rate::new),
                fastest: rates.iter().copied().reduce(f64::max).map(Rate::new),
                p99: worst.map(|us| Duration::from_micros(us.into())),
                ..Column::default()
            }
        })
        .collect()
}

fn name(grid: &Grid) -> String {
    let way = if grid.backward { "←" } else { "→" };
    match grid.task {
        Task::Pass { pass, .. } => format!("pass {}{way}", pass + 1),
        _ => format!("again {way}"),
    }
}

/// One row: how fast each column was in this sweep, by height and colour.
fn strip(grids: &[&Grid], (from, to): (f64, f64), top: f64, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let width = (to - from) / f64::from(area.width.max(1));
    for x in 0..area.width {
        let left = from + width * f64::from(x);
        let slowest = grids
            .iter()
            .flat_map(|g| bins_between(g, left, left + width))
            .filter_map(Bin::rate)
            .reduce(f64::min);
        let errors = grids.iter().flat_map(|g| bins_between(g, left, left + width)).any(|b| b.errors > 0);
        let (symbol, style) = match slowest {
            _ if errors => ("!", theme.accent()),
            Some(rate) => (EIGHTHS[((rate / top * 8.0) as usize).min(7) + 1], theme.speed(rate / top)),
            None => ("·", theme.faint()),
        };
        buf.set_string(area.x + x, area.y, symbol, style);
    }
}

/// Draws it.
pub fn render(
    view: &SurveysView,
    frame: &Frame<'_>,
    r: &Readings,
    c: &Conclusions,
    area: Rect,
    buf: &mut Buffer,
) {
    let theme = frame.theme;
    let (Some(scans), Some(survey)) = (r.scan(), &c.surveys.ground) else {
        Writer::new(area, buf).text("The record is still being read.", 0, theme.faint());
        return;
    };
    let grids = scans.passes();
    let (from, to) = super::window(view, r);
    let panel_width = PANEL.min(area.width * 2 / 5);
    let main = Rect { width: area.width.saturating_sub(panel_width + 2), ..area };
    let strips = (grids.len() as u16 + u16::from(!scans.again().is_empty())).min(main.height / 3);
    let left = main.height.saturating_sub(strips + 1 + 1 + 2);
    let rate_rows = left * 6 / 10;
    let flags_row = Rect { height: 1, ..main };
    let rate = Rect { y: main.y + 1, height: rate_rows, ..main };
    let worst = Rect { y: rate.y + rate_rows, height: left - rate_rows, ..main };
    let at_strips = Rect { y: worst.y + worst.height + 1, height: strips, ..main };
    let at_ruler = Rect { y: at_strips.y + strips, height: 2, ..main };
    let plot_width = main.width.saturating_sub(lane::LABELS);
    let all = columns(grids, (from, to), usize::from(plot_width) * 2);
    let lanes = Rect {
        x: main.x + lane::LABELS,
        width: plot_width,
        height: at_ruler.y.saturating_sub(flags_row.y),
        ..flags_row
    };
    haul::flags(frame, r, c, Ruler::Position, (from, to), lanes, buf);
    lane::rate(rate, buf, &all, &[], theme);
    lane::latency(worst, buf, &all, "longest operation", theme);
    let fastest = grids.iter().flat_map(|g| &g.bins).filter_map(Bin::rate).fold(1.0, f64::max);
    let again: Vec<&Grid> = scans.again().iter().collect();
    let mut rows: Vec<(String, Vec<&Grid>)> = grids.iter().map(|g| (name(g), vec![g])).collect();
    if !again.is_empty() {
        rows.push(("again".into(), again));
    }
    for (i, (name, grids)) in rows.iter().enumerate().take(usize::from(strips)) {
        let y = at_strips.y + i as u16;
        let width = usize::from(lane::LABELS - 1);
        buf.set_stringn(main.x, y, format!("{name:>width$}"), width, theme.faint());
        let at = Rect { x: main.x + lane::LABELS, y, width: plot_width, height: 1 };
        strip(grids, (from, to), fastest, at, buf, theme);
    }
    ruler::render(at_ruler, buf, r, Ruler::Position, (from, to), theme);
    frame.spot(Rect { y: lanes.y + 1, height: lanes.height.saturating_sub(1), ..lanes }, SpotOf::Plot);
    if let Some(cursor) = view.window.cursor {
        haul::upright(lanes, cursor, buf, theme);
    }
    let panel = Rect { x: main.x + main.width + 2, width: panel_width, ..area };
    let under = under_cursor(view, grids, (from, to), plot_width);
    let below = under.len() as u16;
    let mut out = Writer::new(Rect { height: panel.height.saturating_sub(below + 1), ..panel }, buf);
    table(c, survey, &view.scroll, &mut out, theme);
    let low = Rect { y: panel.y + panel.height.saturating_sub(below), height: below, ..panel };
    let mut out = Writer::new(low, buf);
    for (name, value) in &under {
        out.pair(name, value, 9, theme.faint(), theme.strong());
    }
}

fn table(
    c: &Conclusions,
    survey: &hollow_mile_core::conclude::surveys::ground::GroundSurvey,
    scroll: &Scroll,
    out: &mut Writer<'_>,
    theme: &Theme,
) {
    out.line("slow stretches", theme.accent());
    for s in survey.pending() {
        let (from, to) = (Bytes::new(s.position_bytes), Bytes::new(s.position_end_bytes));
        out.line(&format!("?  {from} to {to}"), theme.strong());
        let passes = if s.seen == 1 { "pass" } else { "passes" };
        out.text(&format!("   looks slow in {} {passes}; to be visited again", s.seen), 3, theme.faint());
    }
    if survey.slow().chain(survey.pending()).next().is_none() {
        out.text("None: no stretch is below 80 % of what lies around it, pass after pass.", 0, theme.faint());
    }
    let lettered = c.findings.iter().enumerate().filter(|(_, f)| f.kind == FindingKind::SlowZone);
    let lettered: Vec<_> = lettered.collect();
    for (i, f) in &lettered[scroll.first_of(lettered.len(), 1)..] {
        let i = *i;
        let (Some(from), Some(to)) = (f.position, f.position_end) else { continue };
        let (inside, beside) = (f.after.unwrap_or_default(), f.before.unwrap_or_default());
        out.line(&format!("{}  {from} to {to}", letter(i)), theme.strong());
        let share = inside.get() / beside.get().max(1.0) * 100.0;
        out.text(&format!("   {inside}, {share:.0} % of the {beside} beside it"), 3, theme.faint());
        let of = survey.slow().find(|s| s.position_bytes == from.get());
        if let Some(s) = of {
            let worst = latency(Duration::from_micros(s.worst_us.into()));
            out.text(
                &format!("   {} of {} passes and again; longest operation {worst}", s.seen, s.passes),
                3,
                theme.faint(),
            );
        }
    }
    let fallen = survey.stretches.iter().filter(|s| s.again == Some(false)).count();
    if fallen > 0 {
        out.gap();
        out.text(
            &format!("{fallen} more were slow in the passes and well when visited again."),
            0,
            theme.faint(),
        );
    }
    let errors: Vec<_> =
        c.findings.iter().enumerate().filter(|(_, f)| f.kind == FindingKind::MediaError).collect();
    if !errors.is_empty() {
        out.gap();
        out.line("addresses that failed", theme.accent());
    }
    for (i, f) in errors {
        let at = f.position.map(|p| p.to_string()).unwrap_or_default();
        let first = f.evidence.first().cloned().unwrap_or_default();
        out.text(&format!("{}  {at}: {first}", letter(i)), 3, theme.faint());
    }
    out.gap();
    out.line("the whole", theme.accent());
    let bin = Bytes::new(survey.bin_bytes);
    out.text(
        &format!("bins of {bin}; a bin varies by {:.1} % around the trend", survey.noise * 100.0),
        0,
        theme.faint(),
    );
}

/// Address and each pass's values at the cursor.
fn under_cursor(
    view: &SurveysView,
    grids: &[Grid],
    (from, to): (f64, f64),
    width: u16,
) -> Vec<(String, String)> {
    let Some(cursor) = view.window.cursor else { return Vec::new() };
    let step = (to - from) / f64::from(width.max(1));
    let left = from + (to - from - step) * cursor;
    let mut lines = vec![(
        "at".to_owned(),
        format!("{} to {}", Bytes::new(left as u64), Bytes::new((left + step) as u64)),
    )];
    for g in grids {
        let bins = bins_between(g, left, left + step);
        let (bytes, seconds) =
            bins.iter().fold((0.0, 0.0), |(b, s), x| (b + f64::from(x.bytes), s + f64::from(x.seconds)));
        let worst = bins.iter().map(|b| b.worst_us).max().unwrap_or(0);
        let value = if bytes > 0.0 {
            format!(
                "{}, longest {}",
                Rate::new(bytes / seconds),
                latency(Duration::from_micros(worst.into()))
            )
        } else {
            "not visited".into()
        };
        lines.push((name(g), value));
    }
    lines
}
