//! A lane: one quantity along the ruler. Rate as an area with its extremes, latency and temperature as lines.

use crate::told::words::cells;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::scale::{Axis, Tick};
use hollow_mile_core::readings::Column;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::canvas::{Canvas, row_of};
use super::surface;
use crate::ui::theme::Theme;

/// Room for the labels of the upright axes.
pub const LABELS: u16 = 8;

/// Splits a lane into its title row and its plot, with room for labels at its left.
#[derive(Debug, Clone, Copy)]
pub struct LaneLayout {
    /// One row for the words.
    pub title: Rect,
    /// Dots.
    pub plot: Rect,
}

impl LaneLayout {
    /// Of an area.
    #[must_use]
    pub fn of(area: Rect) -> Self {
        let title = Rect { height: area.height.min(1), ..area };
        let body = Rect { y: area.y + title.height, height: area.height.saturating_sub(1), ..area };
        let left = LABELS.min(body.width);
        let plot = Rect { x: body.x + left, width: body.width - left, ..body };
        Self { title, plot }
    }
}

/// The figures of an upright axis, in the [`LABELS`] columns at the left of a plot; `share` is 0 at its bottom and 1 at its top.
pub fn upright(plot: Rect, axis: &Axis, share: impl Fn(f64) -> f64, buf: &mut Buffer, theme: &Theme) {
    let room = LABELS.min(plot.x);
    let width = usize::from(room.saturating_sub(1));
    for tick in &axis.ticks {
        let share = share(tick.value);
        if plot.height == 0 || !(-0.001..=1.001).contains(&share) {
            continue;
        }
        let row = ((1.0 - share) * f64::from(plot.height - 1)).round() as u16;
        let text = format!("{:>width$}", tick.words);
        buf.set_stringn(plot.x - room, plot.y + row, text, width, theme.faint());
    }
}

pub(super) fn title(buf: &mut Buffer, layout: &LaneLayout, words: &str, theme: &Theme) {
    let at = layout.title;
    if at.height > 0 {
        let x = at.x + LABELS.min(at.width);
        buf.set_stringn(x, at.y, words, usize::from(at.width.saturating_sub(LABELS)), theme.faint());
    }
}

/// A label for every two rows or so.
fn most_ticks(layout: &LaneLayout) -> usize {
    usize::from(layout.plot.height / 2 + 1).clamp(2, 8)
}

fn ups(canvas: &Canvas, share: f64) -> usize {
    (share.clamp(0.0, 1.0) * canvas.rows().saturating_sub(1) as f64).round() as usize
}

/// What was expected in each column, from the lowest to the highest; none where nothing was.
pub type Expected = [Option<(f64, f64)>];

/// The band of what was expected, behind what was measured.
fn band(plot: Rect, buf: &mut Buffer, expected: &Expected, share: impl Fn(f64) -> f64, theme: &Theme) {
    let spans: Vec<Option<(f64, f64)>> =
        expected.iter().map(|e| e.map(|(low, high)| (share(low), share(high)))).collect();
    surface::band(plot, buf, &spans, theme);
}

/// Rate: a surface up to the mean, with what was slower and faster in paler tones.
pub fn rate(area: Rect, buf: &mut Buffer, columns: &[Column], expected: &Expected, theme: &Theme) {
    rates(area, buf, columns, expected, "rate, MB/s", theme);
}

/// The same of one side, by its name.
pub fn rate_named(area: Rect, buf: &mut Buffer, columns: &[Column], what: &str, theme: &Theme) {
    rates(area, buf, columns, &[], what, theme);
}

/// A share of something, 0 to 100 %, as a line.
pub fn percent(area: Rect, buf: &mut Buffer, values: &[Option<f64>], what: &str, theme: &Theme) {
    let layout = LaneLayout::of(area);
    title(buf, &layout, what, theme);
    let ticks = [0.0, 50.0, 100.0].map(|value| Tick { value, words: format!("{value:.0}") }).to_vec();
    let axis = Axis { ticks, unit: "%" };
    upright(layout.plot, &axis, |v| v / 100.0, buf, theme);
    line(&layout, buf, values, |v| v / 100.0, |_| theme.latency());
}

fn rates(area: Rect, buf: &mut Buffer, columns: &[Column], expected: &Expected, what: &str, theme: &Theme) {
    let layout = LaneLayout::of(area);
    let fastest = surface::fastest(columns);
    // What was expected may lie over what was measured, within reason.
    let hoped = expected.iter().flatten().map(|e| e.1).fold(0.0, f64::max).min(fastest * 2.0);
    let rows = usize::from(layout.plot.height);
    let (axis, top) = scale::rates_on_rows(fastest.max(hoped), rows, most_ticks(&layout));
    let words = if expected.iter().any(Option::is_some) {
        format!("{what}; {}: expected", theme.band_word())
    } else {
        what.to_owned()
    };
    title(buf, &layout, &words, theme);
    upright(layout.plot, &axis, |v| v / top, buf, theme);
    band(layout.plot, buf, expected, |v| v / top, theme);
    surface::render(layout.plot, buf, columns, top, theme);
    surface::edge(layout.plot, buf, expected, |v| v / top, theme);
}

/// Latency on a logarithmic axis.
pub fn latency(area: Rect, buf: &mut Buffer, columns: &[Column], what: &str, theme: &Theme) {
    let layout = LaneLayout::of(area);
    let us: Vec<Option<f64>> = columns.iter().map(|c| c.p99.map(|d| d.as_secs_f64() * 1e6)).collect();
    let low = us.iter().flatten().copied().fold(f64::INFINITY, f64::min);
    let high = us.iter().flatten().copied().fold(0.0, f64::max);
    if high <= 0.0 {
        return title(buf, &layout, &format!("{what}: none in the record"), theme);
    }
    let (axis, low, high) = scale::latencies_on_rows(low, high, usize::from(layout.plot.height));
    let share = |us: f64| (us.max(1.0).log10() - low) / (high - low);
    title(buf, &layout, &format!("{what}, {}", axis.unit), theme);
    upright(layout.plot, &axis, share, buf, theme);
    line(&layout, buf, &us, share, |_| theme.latency());
}

/// Anything from zero up, as a line.
pub fn plain(area: Rect, buf: &mut Buffer, values: &[Option<f64>], what: &str, theme: &Theme) {
    let layout = LaneLayout::of(area);
    let most = values.iter().flatten().copied().fold(0.0, f64::max);
    let rows = usize::from(layout.plot.height);
    let (axis, top) = scale::plain_on_rows(most, rows, most_ticks(&layout));
    title(buf, &layout, what, theme);
    upright(layout.plot, &axis, |v| v / top, buf, theme);
    line(&layout, buf, values, |v| v / top, |_| theme.latency());
}

/// Temperature, with the limit as a broken line, and further sensors and thermometers as lines with their names.
pub fn temperature(
    area: Rect,
    buf: &mut Buffer,
    columns: &[Column],
    limit: Option<f64>,
    others: &[(&str, Vec<Option<f64>>)],
    expected: &Expected,
    theme: &Theme,
) {
    let layout = LaneLayout::of(area);
    let hottest: Vec<Option<f64>> = columns.iter().map(|c| c.hottest.map(|t| t.degrees())).collect();
    let coldest = columns.iter().filter_map(|c| c.coldest).map(|t| t.degrees()).fold(f64::INFINITY, f64::min);
    let all = || others.iter().flat_map(|o| o.1.iter().flatten().copied());
    let coldest = all().fold(coldest, f64::min);
    let top = hottest.iter().flatten().copied().chain(all()).fold(f64::NEG_INFINITY, f64::max);
    if !top.is_finite() {
        return title(buf, &layout, "temperature: none in the record", theme);
    }
    // The limit belongs on the picture even when it is far away: that it is far is the message.
    let highest = top.max(limit.unwrap_or(top)) + 2.0;
    let rows = usize::from(layout.plot.height);
    let (axis, low, high) = scale::degrees_on_rows(coldest, highest, rows, most_ticks(&layout));
    let share = |t: f64| (t - low) / (high - low).max(1.0);
    title(buf, &layout, "temperature, °C", theme);
    upright(layout.plot, &axis, share, buf, theme);
    if let Some(limit) = limit.filter(|_| layout.plot.height > 0) {
        let row = ((1.0 - share(limit)) * f64::from(layout.plot.height - 1)).round() as u16;
        let words = format!(" limit {limit} ");
        let width = usize::from(layout.plot.width);
        let dashes = "┄".repeat(width.saturating_sub(cells(&words) + 2));
        buf.set_stringn(
            layout.plot.x,
            layout.plot.y + row,
            format!("{dashes}{words}┄┄"),
            width,
            theme.heat(1.0),
        );
    }
    band(layout.plot, buf, expected, share, theme);
    for (_, values) in others {
        line(&layout, buf, values, share, |_| theme.faint());
    }
    line(&layout, buf, &hottest, share, |t| theme.heat((t - 30.0) / 55.0));
    for (name, values) in others {
        // Its name stands on its line, at the left end, where the drive itself was coolest.
        let Some(first) = values.iter().flatten().next().filter(|_| layout.plot.height > 0) else { continue };
        let y = layout.plot.y + row_of(share(*first), layout.plot.height);
        buf.set_stringn(
            layout.plot.x + 1,
            y,
            format!(" {name} "),
            usize::from(layout.plot.width),
            theme.faint(),
        );
    }
}

/// A line through the values, joined from column to column.
fn line(
    layout: &LaneLayout,
    buf: &mut Buffer,
    values: &[Option<f64>],
    share: impl Fn(f64) -> f64,
    style: impl Fn(f64) -> ratatui::style::Style,
) {
    let mut canvas = Canvas::new(layout.plot);
    let mut last: Option<usize> = None;
    for (x, value) in values.iter().enumerate() {
        let Some(v) = value else {
            last = None;
            continue;
        };
        let up = ups(&canvas, share(*v));
        let from = last.map_or(up, |l| {
            if l < up {
                l + 1
            } else if l > up {
                l - 1
            } else {
                up
            }
        });
        for u in from.min(up)..=from.max(up) {
            canvas.dot(x, u, style(*v));
        }
        last = Some(up);
    }
    canvas.paint(layout.plot, buf);
}
