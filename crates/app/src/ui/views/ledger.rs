//! The ledger: all hauls, newest first, filtered by typing, grouped, several marked.

use crate::told::words;
use std::collections::BTreeSet;

use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use ratatui::layout::Rect;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::widgets::panel::fit;

/// What hauls stand together by.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum GroupedBy {
    /// Nothing: by their time.
    #[default]
    Nothing,
    /// The drive.
    Drive,
    /// Its model.
    Model,
    /// The route.
    Route,
    /// How it was cooled.
    Cooling,
    /// The air around it.
    Ambient,
    /// Slot or port.
    Slot,
    /// The value of a tag.
    Tag(String),
}

impl GroupedBy {
    fn word(&self) -> String {
        match self {
            Self::Nothing => "time".into(),
            Self::Drive => "drive".into(),
            Self::Model => "model".into(),
            Self::Route => "route".into(),
            Self::Cooling => "cooling".into(),
            Self::Ambient => "ambient".into(),
            Self::Slot => "slot".into(),
            Self::Tag(name) => format!("tag {name}"),
        }
    }

    fn of(&self, row: &HaulRow) -> String {
        let c = &row.conditions;
        let stated = |t: Option<String>| t.unwrap_or_else(|| "not stated".into());
        match self {
            Self::Nothing => String::new(),
            Self::Drive => format!("{}  {}", row.serial, row.model),
            Self::Model => row.model.clone(),
            Self::Route => row.route.clone(),
            Self::Cooling => stated(c.cooling.clone()),
            Self::Ambient => stated(c.ambient.map(|a| a.to_string())),
            Self::Slot => stated(c.slot.clone()),
            Self::Tag(name) => stated(c.tags.iter().find(|t| t.0 == *name).map(|t| t.1.clone())),
        }
    }
}

/// A line of the list.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Line {
    /// The name of a group and how many hauls are in it.
    Group(String, usize),
    /// A haul, by its place among all rows.
    Haul(usize),
}

/// All hauls.
#[derive(Debug, Default)]
pub struct LedgerView {
    rows: Vec<HaulRow>,
    /// What each row can be found by, in small letters: made once, searched at every key.
    hay: Vec<String>,
    lines: Vec<Line>,
    chosen: usize,
    filter: Input,
    grouped: GroupedBy,
    /// Hauls that are marked for contrast, in the order of marking.
    pub marked: Vec<String>,
    /// Keys go to the filter.
    pub filtering: bool,
}

impl LedgerView {
    /// Takes the list anew.
    pub fn show(&mut self, rows: Vec<HaulRow>) {
        let at = self.chosen_row().map(|r| r.haul.clone());
        self.hay = rows.iter().map(words::haystack).collect();
        self.rows = rows;
        self.marked.retain(|m| self.rows.iter().any(|r| r.haul == *m));
        self.arrange();
        // The cursor stays on its haul.
        if let Some(haul) = at {
            self.choose(&haul);
        }
    }

    fn choose(&mut self, haul: &str) {
        let is = |l: &Line| matches!(l, Line::Haul(i) if self.rows[*i].haul == haul);
        if let Some(at) = self.lines.iter().position(is) {
            self.chosen = at;
        }
    }

    fn arrange(&mut self) {
        let words: Vec<String> =
            self.filter.value().to_lowercase().split_whitespace().map(String::from).collect();
        let fits = |i: &usize| words.iter().all(|w| self.hay[*i].contains(w.as_str()));
        let shown: Vec<usize> = (0..self.rows.len()).filter(fits).collect();
        self.lines.clear();
        if self.grouped == GroupedBy::Nothing {
            self.lines.extend(shown.into_iter().map(Line::Haul));
        } else {
            // Groups in the order of their newest haul.
            let mut groups: Vec<(String, Vec<usize>)> = Vec::new();
            let mut places: std::collections::HashMap<String, usize> = std::collections::HashMap::new();
            for i in shown {
                let name = self.grouped.of(&self.rows[i]);
                let at = *places.entry(name.clone()).or_insert_with(|| {
                    groups.push((name, Vec::new()));
                    groups.len() - 1
                });
                groups[at].1.push(i);
            }
            for (name, hauls) in groups {
                self.lines.push(Line::Group(name, hauls.len()));
                self.lines.extend(hauls.into_iter().map(Line::Haul));
            }
        }
        self.chosen = self.chosen.min(self.lines.len().saturating_sub(1));
        self.off_the_group(true);
    }

    /// The cursor does not stand on the name of a group.
    fn off_the_group(&mut self, down: bool) {
        if !matches!(self.lines.get(self.chosen), Some(Line::Group(..))) {
            return;
        }
        if !down && self.chosen > 0 {
            self.chosen -= 1;
        } else if self.chosen + 1 < self.lines.len() {
            self.chosen += 1;
        }
    }

    /// The haul under the cursor.
    #[must_use]
    pub fn chosen_row(&self) -> Option<&HaulRow> {
        match self.lines.get(self.chosen)? {
            Line::Haul(i) => self.rows.get(*i),
            Line::Group(..) => None,
        }
    }

    /// Marked hauls, or else the one under the cursor.
    #[must_use]
    pub fn meant(&self) -> Vec<String> {
        if self.marked.is_empty() {
            return self.chosen_row().map(|r| r.haul.clone()).into_iter().collect();
        }
        self.marked.clone()
    }

    /// Takes the filter away; false when there was none.
    pub fn clear_filter(&mut self) -> bool {
        let had = !self.filter.value().is_empty();
        self.filter.reset();
        self.filtering = false;
        let at = self.chosen_row().map(|r| r.haul.clone());
        self.arrange();
        if let Some(haul) = at {
            self.choose(&haul);
        }
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
                self.arrange();
            }
        }
    }

    fn next_grouping(&mut self) {
        use GroupedBy::{Ambient, Cooling, Drive, Model, Nothing, Route, Slot, Tag};
        let tags: BTreeSet<&String> =
            self.rows.iter().flat_map(|r| r.conditions.tags.iter().map(|t| &t.0)).collect();
        let mut all = vec![Nothing, Drive, Model, Route, Cooling, Ambient, Slot];
        all.extend(tags.into_iter().cloned().map(Tag));
        let at = all.iter().position(|g| *g == self.grouped).unwrap_or(0);
        let haul = self.chosen_row().map(|r| r.haul.clone());
        self.grouped = all[(at + 1) % all.len()].clone();
        self.arrange();
        if let Some(haul) = haul {
            self.choose(&haul);
        }
    }

    /// Moves the cursor, marks, groups, or begins to filter.
    pub fn act(&mut self, action: Action) {
        let last = self.lines.len().saturating_sub(1);
        match action {
            Action::Up => {
                self.chosen = self.chosen.saturating_sub(1);
                self.off_the_group(false);
                self.off_the_group(true);
            }
            Action::Down => {
                self.chosen = (self.chosen + 1).min(last);
                self.off_the_group(true);
            }
            Action::First => {
                self.chosen = 0;
                self.off_the_group(true);
            }
            Action::Last => self.chosen = last,
            Action::Filter => self.filtering = true,
            Action::Group => self.next_grouping(),
            Action::Mark => {
                let Some(haul) = self.chosen_row().map(|r| r.haul.clone()) else { return };
                match self.marked.iter().position(|m| *m == haul) {
                    Some(i) => {
                        self.marked.remove(i);
                    }
                    None => self.marked.push(haul),
                }
                self.act(Action::Down);
            }
            _ => {}
        }
    }
}

/// Left edge and name of each column.
fn columns(width: u16) -> Vec<(u16, &'static str)> {
    if width >= 150 {
        vec![
            (2, "started"),
            (20, "serial"),
            (29, "model"),
            (48, "route"),
            (60, "conditions"),
            (82, "state"),
            (92, "written"),
            (102, "found"),
            (width - 16, "limits"),
        ]
    } else if width >= 120 {
        vec![(2, "started"), (20, "serial"), (29, "route"), (41, "conditions"), (63, "state"), (73, "found")]
    } else {
        vec![(2, "started"), (20, "serial"), (29, "route"), (40, "state"), (50, "found")]
    }
}

fn cell(row: &HaulRow, name: &str) -> String {
    match name {
        "started" => words::local_time(row.started_unix_ms),
        "serial" => row.serial.clone(),
        "model" => row.model.clone(),
        "route" => row.route.clone(),
        "state" => row.state.word().to_owned(),
        "written" => row.written.to_string(),
        "limits" => row.limits.clone(),
        "conditions" => {
            let c = &row.conditions;
            let mut parts: Vec<String> = c.ambient.map(|a| a.to_string()).into_iter().collect();
            parts.extend(c.cooling.clone());
            parts.extend(c.tags.iter().map(|(k, v)| format!("{k}={v}")));
            parts.join(", ")
        }
        _ => {
            let label = row.label.as_ref().map(|l| format!("{l}: ")).unwrap_or_default();
            let note = row.note.as_ref().map(|n| format!("  “{n}”")).unwrap_or_default();
            format!("{label}{}{note}", row.summary)
        }
    }
}

fn answer(view: &LedgerView) -> String {
    let all = view.rows.len();
    let shown = view.lines.iter().filter(|l| matches!(l, Line::Haul(_))).count();
    let groups = view.lines.len() - shown;
    let mut words = match (all, view.filter.value()) {
        (0, _) => "no hauls yet: the yard plans one".to_owned(),
        (1, "") => "1 haul".to_owned(),
        (_, "") => format!("{all} hauls"),
        (_, filter) => format!("{shown} of {all} hauls have \"{filter}\""),
    };
    if all > 0 {
        words += &match view.grouped {
            GroupedBy::Nothing => ", newest first".to_owned(),
            _ => format!(", by {} in {groups} groups", view.grouped.word()),
        };
    }
    match view.marked.len() {
        0 => {}
        1 => words.push_str(", 1 marked: mark another, then c sets them side by side"),
        n => words += &format!(", {n} marked: c sets them side by side"),
    }
    words
}

/// Draws the ledger.
pub fn render(view: &LedgerView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    frame.top(area, buf, &answer(view));
    let width = usize::from(area.width);
    if view.filtering {
        let (x, _) = buf.set_stringn(area.x, area.y + 1, "filter: ", width, theme.faint());
        let (x, _) = buf.set_stringn(x, area.y + 1, view.filter.value(), width, theme.accent());
        buf.set_string(x, area.y + 1, "▏", theme.accent());
    }
    let mut columns = columns(area.width);
    // Limits take room only where there are any.
    if view.rows.iter().all(|r| r.limits.is_empty()) {
        columns.retain(|c| c.1 != "limits");
    }
    let ends: Vec<u16> = columns.iter().skip(1).map(|c| c.0 - 1).chain([area.width]).collect();
    for ((at, name), end) in columns.iter().zip(&ends) {
        buf.set_stringn(area.x + at, area.y + 2, name, usize::from(end - at), theme.faint());
    }
    // A glance at the haul under the cursor takes the lower part, where there is room for both.
    let below = if area.height >= 34 { 15 } else { 0 };
    if let Some(glance) =
        frame.glance.as_ref().filter(|g| below > 0 && view.chosen_row().is_some_and(|r| r.haul == g.haul))
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
    // The name of the first group stays in sight with its first haul.
    let from = if from == 1 { 0 } else { from };
    for (i, line) in view.lines.iter().enumerate().skip(from).take(fits) {
        let y = area.y + 3 + (i - from) as u16;
        let row = match line {
            Line::Group(name, hauls) => {
                let words = format!("{name}  ({hauls})");
                buf.set_stringn(area.x, y, words, width, theme.strong());
                continue;
            }
            Line::Haul(index) => &view.rows[*index],
        };
        let chosen = i == view.chosen;
        let style = if chosen { theme.accent() } else { ratatui::style::Style::new() };
        let marked = view.marked.iter().position(|m| *m == row.haul);
        let sign = match (chosen, marked) {
            (true, None) => "▸ ".to_owned(),
            (true, Some(_)) => "▸•".to_owned(),
            (false, Some(_)) => " •".to_owned(),
            (false, None) => "  ".to_owned(),
        };
        buf.set_stringn(area.x, y, sign, 2, theme.accent());
        for ((at, name), end) in columns.iter().zip(&ends) {
            let room = usize::from(end - at).saturating_sub(usize::from(*end != area.width));
            buf.set_stringn(area.x + at, y, fit(&cell(row, name), room), room, style);
        }
    }
    if view.lines.is_empty() && !view.rows.is_empty() {
        buf.set_stringn(
            area.x + 2,
            area.y + 4,
            "No haul has all these words. Esc shows all again.",
            width,
            theme.strong(),
        );
    }
}
