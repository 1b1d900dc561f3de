//! The views: each draws from state, and answers one question.

pub mod contrast;
pub mod drive_file;
pub mod ground;
pub mod haul;
mod haul_panel;
pub mod ledger;
pub mod overlay;
pub mod route;
pub mod vitals;
pub mod yard;

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::actions::{Screen, available};
use super::app::App;
use super::widgets::panel::{fit, wrap};

/// The smallest terminal that a view is drawn in.
pub const LEAST: (u16, u16) = (80, 24);

/// Draws everything.
pub fn render(app: &App, area: Rect, buf: &mut Buffer) {
    if area.width < LEAST.0 || area.height < LEAST.1 {
        let words = format!(
            "Hollow Mile needs {} columns and {} rows; here are {} and {}. Make the window larger, or the letters smaller.",
            LEAST.0, LEAST.1, area.width, area.height
        );
        for (i, line) in
            wrap(&words, usize::from(area.width)).iter().enumerate().take(usize::from(area.height))
        {
            buf.set_stringn(area.x, area.y + i as u16, line, usize::from(area.width), app.theme.strong());
        }
        return;
    }
    let body = Rect { x: area.x + 1, y: area.y, width: area.width - 2, height: area.height - 2 };
    match app.screen {
        Screen::Yard => yard::render(app, body, buf),
        Screen::Route => route::render(app, body, buf),
        Screen::Haul => haul::render(app, body, buf),
        Screen::Ground => ground::render(app, body, buf),
        Screen::Vitals => vitals::render(app, body, buf),
        Screen::Ledger => ledger::render(app, body, buf),
        Screen::Contrast => contrast::render(app, body, buf),
        Screen::DriveFile => drive_file::render(app, body, buf),
    }
    bottom(app, Rect { y: area.y + area.height - 1, height: 1, ..body }, buf);
    overlay::render(app, area, buf);
    // Whatever a drive or a file calls itself, wherever it was drawn.
    for cell in &mut buf.content {
        if cell.symbol().chars().any(crate::told::words::is_unsafe) {
            cell.set_symbol("\u{fffd}");
        }
    }
}

/// The first row: where one is, and on the right whose data it is.
pub fn top(app: &App, area: Rect, buf: &mut Buffer, words: &str) {
    let width = usize::from(area.width);
    let (x, _) = buf.set_stringn(area.x, area.y, app.screen.name(), width, app.theme.accent());
    let room = width.saturating_sub(usize::from(x - area.x) + 2);
    buf.set_stringn(x + 2, area.y, fit(words, room), room, app.theme.strong());
    let running = app.running();
    let mut right = if app.demo { "demo data".to_owned() } else { app.home.display().to_string() };
    if running > 0 {
        right = format!("{running} hauling  ·  {right}");
    }
    let length = right.chars().count();
    let used = usize::from(x + 2 - area.x) + words.chars().count();
    if used + length + 2 <= width {
        buf.set_string(area.x + (width - length) as u16, area.y, right, app.theme.faint());
    }
}

/// The last row: a message, or the keys of this view.
fn bottom(app: &App, area: Rect, buf: &mut Buffer) {
    if let Some(message) = app.message() {
        buf.set_stringn(area.x, area.y, message, usize::from(area.width), app.theme.accent());
        return;
    }
    let hints: Vec<(&str, &str)> = available(app.screen)
        .filter_map(|b| Some((b.keys.split(' ').next().unwrap_or_default(), b.hint?)))
        .collect();
    let width = |(key, hint): &(&str, &str)| (key.chars().count() + hint.chars().count() + 3) as u16;
    // Where not all fit, the way to the others is kept.
    let ways = |h: &&(&str, &str)| matches!(h.0, ":" | "?");
    let kept: u16 = hints.iter().filter(ways).map(width).sum();
    let all: u16 = hints.iter().map(width).sum();
    let mut room = if all <= area.width { area.width } else { area.width.saturating_sub(kept) };
    let mut x = area.x;
    for hint in &hints {
        let way = all > area.width && ways(&hint);
        if !way && width(hint) > room {
            room = 0;
            continue;
        }
        if !way {
            room -= width(hint);
        }
        (x, _) = buf.set_stringn(x, area.y, hint.0, 12, app.theme.strong());
        (x, _) = buf.set_stringn(x + 1, area.y, hint.1, 40, app.theme.faint());
        x += 2;
    }
}
