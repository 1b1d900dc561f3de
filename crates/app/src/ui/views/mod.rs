//! The views: each draws from state, and answers one question.

pub mod batch;
pub mod benches;
pub mod contrast;
pub mod drive_file;
pub mod haul;
mod haul_freight;
mod haul_panel;
pub mod ledger;
pub mod overlay;
pub mod route;
pub mod surveys;
pub mod vitals;
pub mod yard;

use crate::told::words::cells;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::actions::{Screen, available};
use super::app::App;
use super::theme::Letters;
use super::widgets::canvas::on_a_console;
use super::widgets::panel::wrap;

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
    app.spots.borrow_mut().clear();
    let body = Rect { x: area.x + 1, y: area.y, width: area.width - 2, height: area.height - 2 };
    let frame = app.frame();
    match app.screen {
        Screen::Yard => yard::render(&app.yard, &frame, body, buf),
        Screen::Route => route::render(&app.route, &frame, body, buf),
        Screen::Haul => haul::render(&app.haul, &frame, body, buf),
        Screen::Surveys => surveys::render(&app.surveys, &frame, body, buf),
        Screen::Vitals => vitals::render(&app.vitals, &frame, body, buf),
        Screen::Ledger => ledger::render(&app.archive, &frame, body, buf),
        Screen::Contrast => contrast::render(&app.contrast, &frame, body, buf),
        Screen::Batch => batch::render(&app.batch, &frame, body, buf),
        Screen::Benches => benches::render(&app.benches, &frame, body, buf),
        Screen::DriveFile => drive_file::render(&app.drive_file, &frame, body, buf),
    }
    bottom(app, Rect { y: area.y + area.height - 1, height: 1, ..body }, buf);
    overlay::render(app.overlay.as_ref(), &frame, area, buf);
    crate::ui::widgets::surface::close_gaps(buf);
    // Whatever a drive or a file calls itself, wherever it was drawn.
    for cell in &mut buf.content {
        if cell.symbol().chars().any(crate::told::words::is_unsafe) {
            cell.set_symbol("\u{fffd}");
        }
        if app.theme.letters() == Letters::Console
            && let Some(c) = cell.symbol().chars().next()
            && on_a_console(c) != c
        {
            cell.set_char(on_a_console(c));
        }
    }
}

/// The keys of a line that is typed.
const TYPING: [(&str, &str); 7] = [
    ("Enter", "take it"),
    ("Esc", "leave it as it was"),
    ("← →", "move"),
    ("Home End", "to the ends"),
    ("Ctrl-W", "a word back"),
    ("Ctrl-U", "clear"),
    ("paste", "as one line"),
];

/// The last row: a message, or the keys of this view.
fn bottom(app: &App, area: Rect, buf: &mut Buffer) {
    if let Some(message) = app.message() {
        buf.set_stringn(area.x, area.y, message, usize::from(area.width), app.theme.accent());
        return;
    }
    let hints: Vec<(&str, &str)> = if app.is_typing() {
        TYPING.to_vec()
    } else {
        available(app.screen)
            .filter_map(|b| Some((b.all_keys().next().unwrap_or_default(), b.hint?)))
            .collect()
    };
    let width = |(key, hint): &(&str, &str)| (cells(key) + cells(hint) + 3) as u16;
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
