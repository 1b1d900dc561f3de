//! The ledger: all hauls, newest first, filtered by typing.

use hollow_mile_core::units::clock;
use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use ratatui::layout::Rect;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use super::top;
use crate::text;
use crate::ui::actions::Action;
use crate::ui::app::App;

/// All hauls.
#[derive(Debug, Default)]
pub struct LedgerView {
    rows: Vec<HaulRow>,
    shown: Vec<usize>,
    chosen: usize,
    filter: Input,
    /// Keys go to the filter.
    pub filtering: bool,
}

fn haystack(row: &HaulRow) -> String {
    let label = row.label.as_deref().unwrap_or_default();
    format!(
        "{} {} {} {} {} {} {} {label}",
        row.haul,
        row.drive,
        row.model,
        row.serial,
        row.route,
        row.state.word(),
        row.summary
    )
    .to_lowercase()
}

impl LedgerView {
    /// Takes the list anew.
    pub fn show(&mut self, rows: Vec<HaulRow>) {
        self.rows = rows;
        self.refilter();
    }

    fn refilter(&mut self) {
        let words: Vec<String> =
            self.filter.value().to_lowercase().split_whitespace().map(String::from).collect();
        let fits = |r: &HaulRow| {
            let hay = haystack(r);
            words.iter().all(|w| hay.contains(w.as_str()))
        };
        self.shown = self.rows.iter().enumerate().filter(|(_, r)| fits(r)).map(|(i, _)| i).collect();
        self.chosen = self.chosen.min(self.shown.len().saturating_sub(1));
    }

    /// The haul under the cursor.
    #[must_use]
    pub fn chosen_row(&self) -> Option<&HaulRow> {
        self.shown.get(self.chosen).and_then(|i| self.rows.get(*i))
    }

    /// Takes the filter away; false when there was none.
    pub fn clear_filter(&mut self) -> bool {
        let had = !self.filter.value().is_empty();
        self.filter.reset();
        self.filtering = false;
        self.refilter();
        had
    }

    /// A key while the filter is typed.
    pub fn on_text_key(&mut self, event: &TermEvent, key: &KeyEvent) {
        match key.code {
            KeyCode::Enter => self.filtering = false,
            KeyCode::Esc => {
                self.clear_filter();
            }
            _ => {
                self.filter.handle_event(event);
                self.refilter();
            }
        }
    }

    /// Moves the cursor, or begins to filter.
    pub fn act(&mut self, action: Action) {
        let last = self.shown.len().saturating_sub(1);
        match action {
            Action::Up => self.chosen = self.chosen.saturating_sub(1),
            Action::Down => self.chosen = (self.chosen + 1).min(last),
            Action::First => self.chosen = 0,
            Action::Last => self.chosen = last,
            Action::Filter => self.filtering = true,
            _ => {}
        }
    }
}

/// Left edge and name of each column.
fn columns(width: u16) -> Vec<(u16, &'static str)> {
    if width >= 120 {
        vec![
            (2, "started"),
            (20, "serial"),
            (29, "model"),
            (48, "route"),
            (60, "state"),
            (70, "elapsed"),
            (80, "written"),
            (91, "found"),
        ]
    } else {
        vec![(2, "started"), (20, "serial"), (29, "route"), (40, "state"), (50, "elapsed"), (60, "found")]
    }
}

fn cell(row: &HaulRow, name: &str) -> String {
    match name {
        "started" => text::local_time(row.started_unix_ms),
        "serial" => row.serial.clone(),
        "model" => row.model.clone(),
        "route" => row.route.clone(),
        "state" => row.state.word().to_owned(),
        "elapsed" => clock(row.elapsed),
        "written" => row.written.to_string(),
        _ => {
            let label = row.label.as_ref().map(|l| format!("{l}: ")).unwrap_or_default();
            format!("{label}{}", row.summary)
        }
    }
}

/// Draws the ledger.
pub fn render(app: &App, area: Rect, buf: &mut Buffer) {
    let view = &app.archive;
    let theme = &app.theme;
    let (all, shown) = (view.rows.len(), view.shown.len());
    let words = match (all, view.filter.value()) {
        (0, _) => "no hauls yet: the yard plans one".to_owned(),
        (_, "") => format!("{all} hauls, newest first"),
        (_, filter) => format!("{shown} of {all} hauls have \"{filter}\""),
    };
    top(app, area, buf, &words);
    let width = usize::from(area.width);
    if view.filtering {
        let (x, _) = buf.set_stringn(area.x, area.y + 1, "filter: ", width, theme.faint());
        let (x, _) = buf.set_stringn(x, area.y + 1, view.filter.value(), width, theme.accent());
        buf.set_string(x, area.y + 1, "▏", theme.accent());
    }
    let columns = columns(area.width);
    let ends: Vec<u16> = columns.iter().skip(1).map(|c| c.0 - 1).chain([area.width]).collect();
    for ((at, name), end) in columns.iter().zip(&ends) {
        buf.set_stringn(area.x + at, area.y + 2, name, usize::from(end - at), theme.faint());
    }
    // A glance at the haul under the cursor takes the lower part, where there is room for both.
    let below = if area.height >= 34 { 15 } else { 0 };
    if let Some(glance) =
        app.glance.as_ref().filter(|g| below > 0 && view.chosen_row().is_some_and(|r| r.haul == g.haul))
    {
        let at = Rect {
            x: area.x + 2,
            y: area.y + area.height - below + 1,
            width: area.width - 2,
            height: below - 1,
        };
        glance.render(at, buf, theme);
    }
    let fits = usize::from(area.height.saturating_sub(3 + below));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    for (i, index) in view.shown.iter().enumerate().skip(from).take(fits) {
        let row = &view.rows[*index];
        let y = area.y + 3 + (i - from) as u16;
        let chosen = i == view.chosen;
        let style = if chosen { theme.accent() } else { ratatui::style::Style::new() };
        buf.set_string(area.x, y, if chosen { "▸" } else { " " }, theme.accent());
        for ((at, name), end) in columns.iter().zip(&ends) {
            buf.set_stringn(area.x + at, y, cell(row, name), usize::from(end - at), style);
        }
    }
    if shown == 0 && all > 0 {
        buf.set_stringn(
            area.x + 2,
            area.y + 4,
            "No haul has all these words. Esc shows all again.",
            width,
            theme.strong(),
        );
    }
}
