//! The route on screen: routes on the left, figures on the right, the cost below.

use hollow_mile_core::route::all_legs;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::{Field, RouteView};
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::panel::{Writer, fit, with_cursor, wrap};
use crate::ui::widgets::scroll::more;
use crate::ui::widgets::{outlook, sizes};

/// Width of the names before what it costs.
const NAMES: u16 = 10;

/// Draws the route: routes on the left, figures on the right, the cost below.
pub fn render(view: &RouteView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(drive) = view.drive() else {
        frame.top(area, buf, "choose a drive in the yard first");
        return;
    };
    let route = view.draft.as_ref();
    let name = route.map_or("none", |r| r.name.as_str());
    let on =
        if view.is_file() { "a new file".to_owned() } else { format!("{} {}", drive.serial, drive.model) };
    let also: Vec<&str> = view.drives.iter().skip(1).map(|d| d.identity.serial.as_str()).collect();
    let also = if also.is_empty() { String::new() } else { format!(", and on {}", also.join(", ")) };
    frame.top(area, buf, &format!("{name} on {on}{also}"));
    let left = Rect {
        y: area.y + 2,
        width: (area.width / 5).clamp(16, 26),
        height: area.height.saturating_sub(2),
        ..area
    };
    let right = Rect {
        x: left.x + left.width + 2,
        y: left.y,
        width: area.width.saturating_sub(left.width + 2),
        height: left.height,
    };
    let mut out = Writer::new(left, buf);
    out.line("routes", theme.faint());
    for (i, r) in view.routes.iter().enumerate() {
        let chosen = i == view.chosen;
        let style = if chosen && !view.in_figures { theme.accent() } else { theme.strong() };
        frame.spot(Rect { y: left.y + 1 + i as u16, height: 1, ..left }, SpotOf::Row(i));
        let changed = if chosen && view.is_changed() { " *" } else { "" };
        out.line(&format!("{} {}{changed}", if chosen { "▸" } else { " " }, r.name), style);
    }
    let cost = view.cost();
    let wide = usize::from(right.width.saturating_sub(NAMES));
    let lines: usize = cost.iter().map(|(_, value)| wrap(value, wide).len()).sum();
    let below = (lines as u16 + 4).min(right.height * 2 / 3);
    let upper = Rect { height: right.height.saturating_sub(below), ..right };
    // The road before it is driven, where enough is left for the figures.
    let sky = match upper.height {
        h if h >= 30 => (h / 2).clamp(17, 34),
        h if h >= 20 || (h >= 17 && !view.in_figures) => 10,
        _ => 0,
    };
    let road = Rect { height: sky, width: upper.width.saturating_sub(1), ..upper };
    let drawn = sky > 0 && (outlook(view, road, buf, frame) || tree(view, road, buf, frame));
    let taken = match (drawn, expected(view)) {
        (true, _) => sky + 1,
        // Without room for the picture what it says.
        (false, Some(words)) if upper.height >= 8 => {
            let width = usize::from(upper.width);
            buf.set_stringn(upper.x, upper.y, fit(&words, width), width, theme.strong());
            2
        }
        _ => 0,
    };
    let upper = Rect { y: upper.y + taken, height: upper.height - taken, ..upper };
    figures(view, frame, upper, buf);
    let y = upper.y + upper.height;
    let lower = Rect { y, height: (right.y + right.height).saturating_sub(y), ..right };
    let mut out = Writer::new(lower, buf);
    let field = view.fields().get(view.field).copied();
    match (&view.fault, field.filter(|_| view.in_figures)) {
        (Some(fault), _) => out.text(fault, 0, theme.accent()),
        (None, Some(field)) => out.text(field.help(), 0, theme.faint()),
        (None, None) => {
            let changed = if view.is_changed() {
                " * was changed: u takes it back, W keeps it as a route."
            } else {
                ""
            };
            let words = format!("Enter goes to the figures of this route; s starts it.{changed}");
            out.text(&words, 0, theme.faint());
        }
    }
    out.gap();
    for (name, value) in &cost {
        for (i, part) in wrap(value, wide).iter().enumerate() {
            out.pair(if i == 0 { name } else { "" }, part, NAMES, theme.faint(), theme.strong());
        }
    }
}

/// What is expected, in words; none where nothing is.
fn expected(view: &RouteView) -> Option<String> {
    let ahead = view.outlook().filter(|a| !a.forecast.legs.is_empty())?;
    Some(outlook::said(&ahead.route, &ahead.forecast, &ahead.spans))
}

/// The tree of files of the leg under the cursor, or of the first that has one. False where there is none.
fn tree(view: &RouteView, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) -> bool {
    let Some(route) = &view.draft else { return false };
    let legs = all_legs(route);
    let here = view.leg_under_cursor().and_then(|p| legs.get(p)).filter(|l| !l.0.files.is_empty());
    let leg = here.or_else(|| legs.iter().find(|l| !l.0.files.is_empty()));
    leg.is_some_and(|(l, _)| sizes::render(&l.tree_spec(), area, buf, frame.theme))
}

/// The forecast as a picture. False where nothing is expected.
fn outlook(view: &RouteView, area: Rect, buf: &mut Buffer, frame: &Frame<'_>) -> bool {
    let Some(ahead) = view.outlook() else { return false };
    let (route, forecast, spans) = (&ahead.route, &ahead.forecast, &ahead.spans);
    // The legs of a group are laid out one after the other: which of them the cursor is on is not told.
    let plain = view.draft.as_ref().is_some_and(|r| r.legs.len() == route.legs.len());
    let here = view.leg_under_cursor().filter(|_| plain);
    outlook::render(route, forecast, spans, here, area, buf, frame.theme)
}

fn figures(view: &RouteView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    let Some(route) = &view.draft else { return };
    let fields = view.fields();
    // Lines with their field, so that the one under the cursor can be kept in sight.
    let mut lines: Vec<(String, Option<usize>)> =
        wrap(&route.about, usize::from(area.width)).into_iter().map(|l| (l, None)).collect();
    lines.push((String::new(), None));
    let mut leg_before = None;
    for (i, field) in fields.iter().enumerate() {
        let leg = if let Field::Of(place, _) = field { Some(*place) } else { None };
        if leg != leg_before
            && let Some((l, deep)) = leg.and_then(|p| all_legs(route).get(p).copied())
        {
            lines.push((String::new(), None));
            let place = leg.unwrap_or(0) + 1;
            lines.push((format!("{}leg {place}, {}", "  ".repeat(deep), l.words()), None));
        }
        leg_before = leg;
        // Of the legs only the one under the cursor is open.
        if leg.is_none() || leg == view.leg_under_cursor() {
            lines.push((String::new(), Some(i)));
        }
    }
    let at = lines.iter().position(|l| l.1 == Some(view.field)).unwrap_or(0);
    let fits = usize::from(area.height.saturating_sub(1));
    let from = if view.in_figures { at.saturating_sub(fits.saturating_sub(1)) } else { 0 };
    let shown = from + fits.min(lines.len().saturating_sub(from));
    more(
        from,
        lines.len() - shown,
        Rect { y: area.y + area.height.saturating_sub(1), height: 1, ..area },
        buf,
        theme,
    );
    let mut out = Writer::new(Rect { height: area.height.saturating_sub(1), ..area }, buf);
    for (row, (line, field)) in lines.iter().skip(from).take(fits).enumerate() {
        let Some(i) = field else {
            out.line(line, theme.faint());
            continue;
        };
        let at = Rect { y: area.y + row as u16, height: 1, ..area };
        frame.spot(at, SpotOf::Row(view.routes.len() + *i));
        let here = view.in_figures && *i == view.field;
        let value = match &view.editing {
            Some(input) if here => with_cursor(input, usize::from(area.width).saturating_sub(18)),
            _ => view.value(fields[*i]),
        };
        // The eye looks for what is set.
        let plain = if value.is_empty() { theme.faint() } else { theme.strong() };
        let value = if value.is_empty() { "not set".to_owned() } else { value };
        let name = format!("{} {}", if here { "▸" } else { " " }, fields[*i].name());
        out.pair(
            &name,
            &value,
            18,
            if here { theme.accent() } else { theme.faint() },
            if here { theme.accent() } else { plain },
        );
    }
}
