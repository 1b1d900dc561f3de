//! The road before it is driven: expected rate and temperature over the expected time, each with its band, and the legs below.

use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Rate, mb_s_figure};
use hollow_mile_core::readings::Ruler;
use hollow_mile_core::record::forecast::{Band, Forecast, Part, Source};
use hollow_mile_core::route::Route;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use super::canvas::Canvas;
use super::lane::{LABELS, upright};
use super::panel::fit;
use super::ruler;
use super::surface;
use crate::told::words::{about, cells};
use crate::ui::theme::Theme;

/// A stretch of the road: its leg, how long it takes, and what is expected of it.
struct Stretch {
    leg: usize,
    seconds: f64,
    part: Option<Part>,
    /// Nothing tells how long it takes.
    endless: bool,
}

/// `spans`: the time of each leg that nothing but an estimate tells, s.
fn road(route: &Route, forecast: &Forecast, spans: &[Option<f64>]) -> Vec<Stretch> {
    let mut all = Vec::new();
    for leg in 0..route.legs.len() {
        match forecast.leg(leg as u16) {
            Some(f) => {
                let parts = f.parts.iter().map(|p| Stretch {
                    leg,
                    seconds: p.seconds,
                    part: Some(*p),
                    endless: false,
                });
                all.extend(parts);
            }
            None => {
                let seconds = spans.get(leg).copied().flatten();
                let endless = seconds.is_none();
                all.push(Stretch { leg, seconds: seconds.unwrap_or(0.0), part: None, endless });
            }
        }
    }
    all
}

/// What is expected, in a line: `expected: 4 700 → 1 080 MB/s, about 82 °C at most, 11 min, from 3 hauls of this drive`.
fn words(all: &[Stretch], forecast: &Forecast) -> String {
    let parts = || all.iter().filter_map(|s| s.part);
    let rates: Vec<f64> = parts().filter_map(|p| p.rate).map(|b| b.likely).collect();
    let mut said = Vec::new();
    if let (Some(first), Some(last)) = (rates.first(), rates.last()) {
        let (first, last) = (Rate::new(*first), Rate::new(*last));
        said.push(if (first.get() / last.get().max(1.0) - 1.0).abs() < 0.03 {
            first.to_string()
        } else {
            format!("{} → {last}", mb_s_figure(first.mb_s()))
        });
    }
    let hottest = parts().filter_map(|p| p.degrees).map(|b| b.likely).fold(f64::MIN, f64::max);
    if hottest > f64::MIN {
        said.push(format!("about {hottest:.0} °C at most"));
    }
    let seconds: f64 = all.iter().map(|s| s.seconds).sum();
    let time = about(std::time::Duration::from_secs_f64(seconds.max(0.0)));
    said.push(match all.iter().find(|s| s.endless) {
        Some(s) => format!("{time} without leg {}, of which nothing tells", s.leg + 1),
        None => time,
    });
    let hauls = match forecast.hauls() {
        1 => "1 haul".to_owned(),
        n => format!("{n} hauls"),
    };
    let from = match forecast.source() {
        Source::Drive => format!("from {hauls} of this drive"),
        Source::Model => format!("from {hauls} of drives of its model"),
        Source::Claims if forecast.is_claimed() => "by what its maker claims".to_owned(),
        Source::Claims => "in part by what its maker claims".to_owned(),
    };
    format!("expected: {}, {from}", said.join(", "))
}

/// What is expected, in a line.
#[must_use]
pub fn said(route: &Route, forecast: &Forecast, spans: &[Option<f64>]) -> String {
    words(&road(route, forecast, spans), forecast)
}

/// Draws the road; `here` is the leg under the cursor. False where there is no room, or nothing is expected.
pub fn render(
    route: &Route,
    forecast: &Forecast,
    spans: &[Option<f64>],
    here: Option<usize>,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) -> bool {
    let all = road(route, forecast, spans);
    let total: f64 = all.iter().map(|s| s.seconds).sum();
    if area.height < 9 || area.width < LABELS + 30 || forecast.legs.is_empty() || total <= 0.0 {
        return false;
    }
    let width = usize::from(area.width);
    buf.set_stringn(area.x, area.y, fit(&words(&all, forecast), width), width, theme.strong());
    let heats = all.iter().any(|s| s.part.is_some_and(|p| p.degrees.is_some()));
    let rows = area.height - 5;
    let warm = if heats && rows >= 7 { (rows / 3).max(3) } else { 0 };
    let plot = |y: u16, height: u16| Rect { x: area.x + LABELS, y, width: area.width - LABELS, height };
    let rate = plot(area.y + 2, rows - warm - u16::from(warm > 0));
    let top = all.iter().filter_map(|s| s.part?.rate).map(|b| b.high).fold(1.0, f64::max);
    let most = |h: u16| usize::from(h / 2 + 1).clamp(2, 6);
    let (axis, top) = scale::rates_on_rows(top, usize::from(rate.height), most(rate.height));
    buf.set_stringn(
        rate.x,
        rate.y - 1,
        if forecast.is_claimed() {
            "rate, MB/s, as claimed".to_owned()
        } else {
            format!("rate, MB/s; {}: nine samples in ten", theme.band_word())
        },
        width,
        theme.faint(),
    );
    upright(rate, &axis, |v| v / top, buf, theme);
    draw(&all, total, rate, buf, theme, |p| p.rate, |v| v / top, |v| theme.speed(v / top));
    if warm > 0 {
        let heat = plot(rate.y + rate.height + 1, warm);
        let degrees = || all.iter().filter_map(|s| s.part?.degrees);
        let low = degrees().map(|b| b.low).fold(f64::MAX, f64::min);
        let high = degrees().map(|b| b.high).fold(f64::MIN, f64::max);
        let (axis, low, high) =
            scale::degrees_on_rows(low, high, usize::from(heat.height), most(heat.height));
        let share = |v: f64| (v - low) / (high - low).max(1.0);
        buf.set_stringn(heat.x, heat.y - 1, "temperature, °C", width, theme.faint());
        upright(heat, &axis, share, buf, theme);
        draw(&all, total, heat, buf, theme, |p| p.degrees, share, |v| theme.heat((v - 30.0) / 55.0));
    }
    let y = area.y + area.height - 3;
    legs(
        route,
        &all,
        total,
        here,
        Rect { x: area.x + LABELS, y, width: area.width - LABELS, height: 1 },
        buf,
        theme,
    );
    let at = Rect { y: y + 1, height: 2, ..area };
    ruler::named(at, buf, Ruler::Elapsed, (0.0, total), "expected time", theme);
    true
}

/// The band, and what is likely as a line over it.
#[allow(clippy::too_many_arguments)]
fn draw(
    all: &[Stretch],
    total: f64,
    plot: Rect,
    buf: &mut Buffer,
    theme: &Theme,
    of: impl Fn(&Part) -> Option<Band>,
    share: impl Fn(f64) -> f64,
    style: impl Fn(f64) -> Style,
) {
    let mut line = Canvas::new(plot);
    let (columns, rows) = (line.columns(), (line.rows() - 1) as f64);
    let mut band = vec![None; columns];
    let ups = |v: f64| (share(v).clamp(0.0, 1.0) * rows).round();
    let (mut i, mut until) = (0, all.first().map_or(0.0, |s| s.seconds));
    let mut last: Option<(f64, f64)> = None;
    for (x, span) in band.iter_mut().enumerate() {
        let at = total * (x as f64 + 0.5) / columns as f64;
        while at > until && i + 1 < all.len() {
            i += 1;
            until += all[i].seconds;
        }
        let Some(b) = all[i].part.as_ref().and_then(&of) else {
            last = None;
            continue;
        };
        *span = Some((share(b.low), share(b.high)));
        let here = (x as f64, ups(b.likely));
        line.line(last.unwrap_or(here), here, |_| style(b.likely));
        last = Some(here);
    }
    surface::band(plot, buf, &band, theme);
    line.paint(plot, buf);
}

/// The legs as segments with their names; the one under the cursor stands out.
fn legs(
    route: &Route,
    all: &[Stretch],
    total: f64,
    here: Option<usize>,
    area: Rect,
    buf: &mut Buffer,
    theme: &Theme,
) {
    let mut at = 0.0;
    for (i, leg) in route.legs.iter().enumerate() {
        let seconds: f64 = all.iter().filter(|s| s.leg == i).map(|s| s.seconds).sum();
        let column = |s: f64| area.x + (s / total * f64::from(area.width)).round() as u16;
        let (from, to) = (column(at), column(at + seconds).min(area.x + area.width));
        at += seconds;
        if to <= from {
            continue;
        }
        let style = if here == Some(i) { theme.accent() } else { theme.faint() };
        for x in from..to {
            let end = x + 1 == to;
            buf.set_string(
                x,
                area.y,
                if end {
                    "┤"
                } else if x == from {
                    "├"
                } else {
                    "─"
                },
                style,
            );
        }
        let name = format!(" {} {} ", i + 1, leg.kind.word());
        if cells(&name) + 3 <= usize::from(to - from) {
            buf.set_string(from + 2, area.y, name, style);
        }
    }
}

#[cfg(test)]
mod tests {
    use hollow_mile_core::record::forecast::LegForecast;

    use super::*;

    #[test]
    fn a_leg_of_which_nothing_tells_is_no_part_of_the_time_and_is_named() {
        let text = "name='x'\n[[leg]]\nkind='write'\nuntil={bytes='1 GB'}\n[[leg]]\nkind='rest'\nuntil={steady=true}\n";
        let route = Route::from_toml(text).unwrap();
        let rate = Some(Band { low: 0.9e9, likely: 1e9, high: 1.1e9 });
        let part = Part { to: 1e9, seconds: 40.0, rate, apart: 0.1, degrees: None };
        let leg =
            LegForecast { leg: 0, hauls: 3, same_route: true, source: Source::Drive, parts: vec![part] };
        let forecast = Forecast { legs: vec![leg] };
        let said = |second| words(&road(&route, &forecast, &[None, second]), &forecast);
        assert_eq!(
            said(None),
            "expected: 1 000 MB/s, 40 s without leg 2, of which nothing tells, from 3 hauls of this drive"
        );
        assert_eq!(said(Some(20.0)), "expected: 1 000 MB/s, 60 s, from 3 hauls of this drive");
    }
}
