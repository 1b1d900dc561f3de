//! A drive over its life: how much of it is used and where that goes, and what its hauls found, one after the other.

use hollow_mile_core::archive::life::{Projection, WearPoint};
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::units::{Bytes, significant};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Modifier, Style};

use crate::told::words::{cells, date};
use crate::ui::theme::Theme;
use crate::ui::widgets::canvas::{Canvas, row_of};
use crate::ui::widgets::lane::LABELS;
use crate::ui::widgets::panel::fit;
use crate::ui::widgets::surface;

const DAY_MS: f64 = 86_400_000.0;
/// Of an end that lies further off the picture shows the way there, not the end.
const HORIZON_DAYS: f64 = 20.0 * 365.25;
/// Signs of the conditions under which a haul was made.
pub const SIGNS: [&str; 5] = ["●", "○", "◆", "□", "▲"];

/// Used share of a drive's rated life over time, with the projection as a fan.
pub fn life(
    wear: &[WearPoint],
    endurance: Option<Bytes>,
    projection: Option<&Projection>,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let share = |p: &WearPoint| {
        let by_bytes = p.host_written.zip(endurance).map(|(w, e)| w.as_f64() / e.as_f64().max(1.0));
        by_bytes.or(p.percentage_used.map(|u| u / 100.0))
    };
    let points: Vec<(f64, f64)> =
        wear.iter().filter_map(|p| Some((p.unix_ms as f64 / DAY_MS, share(p)?))).collect();
    let width = usize::from(area.width);
    let (Some(first), Some(last)) = (points.first().copied(), points.last().copied()) else {
        let words = "No health reading says how much of its life is used.";
        buf.set_stringn(area.x, area.y, fit(words, width), width, theme.faint());
        return;
    };
    if area.height < 6 || area.width < LABELS + 24 {
        return;
    }
    // As far as it may take, where that is in sight; else twice as long as it was watched.
    let ends = projection.map(|p| (p.days_left.0, p.days_left.1, p.days_left.2.unwrap_or(f64::INFINITY)));
    let ahead = ends.map_or(0.0, |(_, middle, late)| {
        if late.min(HORIZON_DAYS) < middle * 2.5 {
            late.min(HORIZON_DAYS)
        } else {
            (middle * 1.6).min(HORIZON_DAYS)
        }
    });
    let span = (first.0, (last.0 + ahead * 1.05).max(first.0 + 1.0));
    let most = points.iter().map(|p| p.1).fold(0.0, f64::max);
    let top = if ends.is_some_and(|e| e.1 <= ahead * 1.01) {
        most.max(1.0) * 1.04
    } else {
        (most * 2.0).clamp(0.01, 1.04)
    };
    let plot =
        Rect { x: area.x + LABELS, y: area.y + 1, width: area.width - LABELS, height: area.height - 3 };
    let row = |share: f64| plot.y + row_of(share / top, plot.height);
    let along = |day: f64| ((day - span.0) / (span.1 - span.0)).clamp(0.0, 1.0);
    let column = |day: f64| plot.x + (along(day) * f64::from(plot.width - 1)).round() as u16;
    buf.set_stringn(area.x, area.y, fit("share of its rated life that is used", width), width, theme.faint());
    let mut taken: Option<u16> = None;
    for v in [1.0, 0.75, 0.5, 0.25, 0.0] {
        let y = row(v);
        if v <= top && taken.is_none_or(|t| y > t + 1) {
            buf.set_stringn(area.x, y, format!("{:>5} %", significant(v * 100.0)), 7, theme.faint());
            taken = Some(y);
        }
    }
    let mut canvas = Canvas::new(plot);
    let (w, h) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |(day, share): (f64, f64)| (along(day) * w, (share / top).clamp(0.0, 1.0) * h);
    if let Some((early, middle, late)) = ends {
        // A day from now it is somewhere between the quickest and the slowest way to the end.
        let at = |day: f64, end: f64| (last.1 + (1.0 - last.1) * (day - last.0) / end.max(1e-9)).min(1.0);
        let fan = (0..canvas.columns()).map(|x| {
            let day = span.0 + x as f64 / w * (span.1 - span.0);
            (day > last.0).then(|| (at(day, late) / top, at(day, early) / top))
        });
        surface::band(plot, buf, &fan.collect::<Vec<_>>(), theme);
        let end = (last.0 + middle, 1.0);
        let shown = if end.0 > span.1 { (span.1, at(span.1, middle)) } else { end };
        canvas.line(place(last), place(shown), |_| theme.latency());
    }
    for pair in points.windows(2) {
        canvas.line(place(pair[0]), place(pair[1]), |_| theme.speed(0.5));
    }
    // All of its life: upon the fan, under the lines, and also where nothing tells when that is.
    if top >= 1.0 {
        (plot.x..plot.x + plot.width).for_each(|x| surface::over(buf, (x, row(1.0)), "┄", theme.faint()));
    }
    canvas.paint(plot, buf);
    buf.set_string(column(last.0), row(last.1), "●", theme.strong());
    if let Some((_, middle, _)) = ends.filter(|e| last.0 + e.1 <= span.1) {
        buf.set_string(column(last.0 + middle), row(1.0), "◆", theme.accent());
    }
    let y = plot.y + plot.height;
    (plot.x..plot.x + plot.width).for_each(|x| {
        buf.set_string(x, y, "─", theme.faint());
    });
    let moment = |day: f64| date((day * DAY_MS) as i64);
    let mut free = plot.x;
    let mut marks = vec![(first.0, moment(first.0), theme.faint())];
    if let Some((_, middle, _)) = ends.filter(|e| last.0 + e.1 <= span.1) {
        marks.push((last.0 + middle, format!("{} ◆", moment(last.0 + middle)), theme.accent()));
    }
    marks.push((span.1, moment(span.1), theme.faint()));
    for (day, words, style) in marks {
        let length = cells(&words) as u16;
        let from = (column(day).saturating_sub(length / 2))
            .clamp(plot.x, (plot.x + plot.width).saturating_sub(length));
        if from >= free {
            buf.set_stringn(from, y + 1, &words, width, style);
            free = from + length + 2;
        }
    }
}

/// A figure over a drive's hauls.
pub struct Followed {
    /// Its name.
    pub name: String,
    /// What it is a number of.
    pub quantity: Quantity,
    /// How it changed is told: its values can be set beside each other.
    pub compares: bool,
    /// Of each haul, oldest first: its place among all, the value, half of its interval, and which sign its conditions have.
    pub values: Vec<(usize, f64, Option<f64>, usize)>,
}

/// Figures over hauls, one strip each on a shared ruler of hauls; gives how many had no room.
pub fn strips(
    all: &[Followed],
    hauls: usize,
    chosen: Option<usize>,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) -> usize {
    const EACH: u16 = 5;
    let fits = usize::from(area.height / EACH).min(all.len());
    if fits == 0 || area.width < LABELS + 30 {
        return all.len();
    }
    let each = (area.height / fits as u16).min(7);
    for (i, one) in all.iter().take(fits).enumerate() {
        let at = Rect { y: area.y + i as u16 * each, height: each - 1, ..area };
        strip(one, hauls, chosen, at, buf, theme);
    }
    all.len() - fits
}

fn strip(f: &Followed, hauls: usize, chosen: Option<usize>, area: Rect, buf: &mut Buffer, theme: &Theme) {
    let Some(last) = f.values.last() else { return };
    let half = |v: &(usize, f64, Option<f64>, usize)| v.2.unwrap_or(0.0);
    let (low, high) =
        f.values.iter().fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v.1 - half(v)), h.max(v.1 + half(v))));
    // A hundredth of the value is the least that is worth a picture.
    let least = high.abs().max(low.abs()) * 0.02;
    let (low, high) = if high - low < least {
        (f64::midpoint(low, high) - least / 2.0, f64::midpoint(low, high) + least / 2.0)
    } else {
        (low, high)
    };
    let mut words = format!("{}  {}", f.name, f.quantity.words(last.1));
    // Since the first that was made as the last was: a fan is no change of the drive.
    let alike: Vec<_> = f.values.iter().filter(|v| v.3 == last.3).collect();
    if let Some(first) = alike.first().filter(|first| f.compares && alike.len() > 1 && first.1.abs() > 0.0) {
        let sign = |v: f64| if v < 0.0 { "−" } else { "+" };
        let of = match f.quantity {
            Quantity::Celsius => {
                let k = (last.1 - first.1).round();
                format!("{}{} K", sign(k), significant(k.abs()))
            }
            _ => {
                let percent = ((last.1 / first.1 - 1.0) * 1e3).round() / 10.0;
                format!("{}{:.1} %", sign(percent), percent.abs())
            }
        };
        words.push_str(&format!("   {of} since the first of {} alike", alike.len()));
    }
    let width = usize::from(area.width);
    buf.set_stringn(area.x, area.y, fit(&words, width), width, theme.strong());
    let plot = Rect {
        x: area.x + LABELS + 4,
        y: area.y + 1,
        width: area.width - LABELS - 5,
        height: area.height - 1,
    };
    let row = |v: f64| plot.y + row_of((v - low) / (high - low), plot.height);
    let column = |i: usize| {
        plot.x + ((i as f64 + 0.5) / hauls.max(1) as f64 * f64::from(plot.width - 1)).round() as u16
    };
    let room = usize::from(LABELS + 3);
    for v in [high, low] {
        buf.set_stringn(area.x, row(v), format!("{:>room$}", f.quantity.words(v)), room, theme.faint());
    }
    let mut canvas = Canvas::new(plot);
    let (w, h) = ((canvas.columns() - 1) as f64, (canvas.rows() - 1) as f64);
    let place = |v: &(usize, f64, Option<f64>, usize)| {
        ((v.0 as f64 + 0.5) / hauls.max(1) as f64 * w, ((v.1 - low) / (high - low)).clamp(0.0, 1.0) * h)
    };
    // What was measured under like conditions is joined.
    for sign in 0..SIGNS.len() {
        let own: Vec<&(usize, f64, Option<f64>, usize)> = f.values.iter().filter(|v| v.3 == sign).collect();
        for pair in own.windows(2) {
            canvas.line(place(pair[0]), place(pair[1]), |_| theme.speed(0.5));
        }
    }
    canvas.paint(plot, buf);
    for v in &f.values {
        let style =
            if chosen == Some(v.0) { theme.accent() } else { Style::reset().add_modifier(Modifier::BOLD) };
        buf.set_string(column(v.0), row(v.1), SIGNS[v.3 % SIGNS.len()], style);
    }
}
