//! The ledger: all hauls, newest first, filtered by typing, grouped, several marked.

mod columns;

use std::collections::BTreeSet;
use std::rc::Rc;

use crate::again::AGAIN;
use crate::told::words;

use hollow_mile_ledger::HaulRow;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent};
use ratatui::layout::Rect;
use tui_input::Input;
use tui_input::backend::crossterm::EventHandler;

use columns::{Column, Longest, cell, columns};

use crate::ui::actions::Action;
use crate::ui::asking::paste_into;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::panel::{fit, with_cursor};
use crate::ui::widgets::scroll::{more, moved};

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
    rows: Rc<Vec<HaulRow>>,
    /// What each row can be found by, in small letters: made once, searched at every key.
    hay: Vec<String>,
    longest: Longest,
    /// Rows that have the words of a filter, and which filter.
    found: Option<(String, Vec<usize>)>,
    lines: Vec<Line>,
    chosen: usize,
    filter: Input,
    grouped: GroupedBy,
    /// The column that it is sorted by, and the other way round.
    sorted: (Column, bool),
    /// Hauls that are marked, in the order of marking; those that the filter hides among them.
    marked: Vec<String>,
    /// Keys go to the filter.
    pub filtering: bool,
}

impl LedgerView {
    /// Takes the newest hauls anew; older ones stay as they are.
    pub fn show_newest(&mut self, mut rows: Vec<HaulRow>) {
        let key = |r: &HaulRow| (std::cmp::Reverse(r.started_unix_ms), r.haul.clone());
        let mut hay: Vec<String> = rows.iter().map(words::haystack).collect();
        if let Some(last) = rows.last().map(key) {
            let older = self.rows.partition_point(|r| key(r) <= last);
            hay.extend(self.hay.drain(older..));
            match Rc::get_mut(&mut self.rows) {
                Some(all) => rows.extend(all.drain(older..)),
                None => rows.extend_from_slice(&self.rows[older..]),
            }
        }
        self.show(rows, hay);
    }

    /// Takes the list anew: all hauls, newest first, and what each can be found by.
    pub fn show(&mut self, rows: Vec<HaulRow>, hay: Vec<String>) {
        // On the newest it stays on the newest, else on its haul.
        let first = self.lines.iter().position(|l| matches!(l, Line::Haul(_))).unwrap_or(0);
        let at = self.chosen_row().filter(|_| self.chosen > first).map(|r| r.haul.clone());
        self.longest = Longest::of(&rows);
        self.found = None;
        (self.rows, self.hay) = (Rc::new(rows), hay);
        self.marked.retain(|m| self.rows.iter().any(|r| r.haul == *m));
        self.arrange();
        self.chosen = 0;
        self.off_the_group(true);
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
        // Whoever types on looks in what was found so far.
        let found: Vec<usize> = match &self.found {
            Some((filter, found)) if self.filter.value().starts_with(filter.as_str()) => {
                found.iter().copied().filter(fits).collect()
            }
            _ => (0..self.rows.len()).filter(fits).collect(),
        };
        let mut shown = found.clone();
        self.found = Some((self.filter.value().to_owned(), found));
        let (column, turned) = self.sorted;
        // They are kept newest first.
        if column != Column::Started {
            shown.sort_by(|a, b| column.order(&self.rows[*a], &self.rows[*b]));
        }
        if turned {
            shown.reverse();
        }
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

    /// Every haul, newest first.
    #[must_use]
    pub fn all(&self) -> &[HaulRow] {
        &self.rows
    }

    /// The same, to keep.
    #[must_use]
    pub fn all_shared(&self) -> Rc<Vec<HaulRow>> {
        self.rows.clone()
    }

    fn shown_rows(&self) -> impl Iterator<Item = &HaulRow> {
        self.lines.iter().filter_map(|l| match l {
            Line::Haul(i) => self.rows.get(*i),
            Line::Group(..) => None,
        })
    }

    /// Marked hauls that are in the list now, in the order of marking: a mark that the filter hides counts for nothing.
    #[must_use]
    pub fn marked_rows(&self) -> Vec<&HaulRow> {
        let seen = |m: &String| self.shown_rows().find(|r| r.haul == *m);
        self.marked.iter().filter_map(seen).collect()
    }

    /// Marked hauls in the list, or else the one under the cursor.
    #[must_use]
    pub fn meant_rows(&self) -> Vec<&HaulRow> {
        let marked = self.marked_rows();
        if marked.is_empty() { self.chosen_row().into_iter().collect() } else { marked }
    }

    /// As [`Self::meant_rows`], by identifier.
    #[must_use]
    pub fn meant(&self) -> Vec<String> {
        self.meant_rows().iter().map(|r| r.haul.clone()).collect()
    }

    /// What is set side by side: the marked hauls, or else those that belong with the one under the cursor.
    #[must_use]
    pub fn to_contrast(&self) -> Vec<String> {
        let marked = self.marked_rows();
        if marked.len() >= 2 {
            return marked.iter().map(|r| r.haul.clone()).collect();
        }
        // Oldest first, so that side A is what was there first.
        self.belonging().iter().rev().map(|r| r.haul.clone()).collect()
    }

    /// What is taken together: the marked hauls, the group under the cursor, or all that are shown.
    #[must_use]
    pub fn to_batch(&self) -> Vec<HaulRow> {
        let marked = self.marked_rows();
        if marked.len() >= 2 {
            return marked.into_iter().cloned().collect();
        }
        match self.grouped {
            GroupedBy::Nothing => self.shown_rows().cloned().collect(),
            _ => self.belonging().into_iter().cloned().collect(),
        }
    }

    /// The hauls of the list that belong with the one under the cursor: its group, or else the repeats of one haul.
    fn belonging(&self) -> Vec<&HaulRow> {
        let Some(row) = self.chosen_row() else { return Vec::new() };
        let origin = |r: &HaulRow| {
            let tag = r.conditions.tags.iter().find(|(k, _)| k == AGAIN);
            tag.map_or_else(|| r.haul.clone(), |t| t.1.clone())
        };
        let same = |r: &&HaulRow| match &self.grouped {
            GroupedBy::Nothing => origin(r) == origin(row),
            grouped => grouped.of(r) == grouped.of(row),
        };
        self.shown_rows().filter(same).collect()
    }

    /// Takes all marks away.
    pub fn clear_marks(&mut self) {
        self.marked.clear();
    }

    /// Pasted text goes into the filter.
    pub fn paste(&mut self, text: &str) {
        paste_into(&mut self.filter, text, " ");
        self.arrange();
    }

    /// Puts the cursor on a line. True when it stood there.
    pub fn press(&mut self, line: usize) -> bool {
        let there = self.chosen == line;
        if matches!(self.lines.get(line), Some(Line::Haul(_))) {
            self.chosen = line;
        }
        there
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

    /// Shows only hauls with these words.
    pub fn filter_by(&mut self, words: &str) {
        self.filter = Input::new(words.to_owned());
        self.arrange();
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

    fn toggle(&mut self, haul: &str) {
        match self.marked.iter().position(|m| *m == haul) {
            Some(i) => drop(self.marked.remove(i)),
            None => self.marked.push(haul.to_owned()),
        }
    }

    /// Marks all that belong with the one under the cursor; takes the marks away where all were marked.
    fn mark_belonging(&mut self) {
        let all: Vec<String> = self.belonging().iter().rev().map(|r| r.haul.clone()).collect();
        let missing: Vec<String> = all.iter().filter(|h| !self.marked.contains(h)).cloned().collect();
        if missing.is_empty() {
            self.marked.retain(|m| !all.contains(m));
        } else {
            self.marked.extend(missing);
        }
    }

    /// Sorts anew; the cursor stays on its haul.
    fn sort_by(&mut self, sorted: (Column, bool)) {
        let haul = self.chosen_row().map(|r| r.haul.clone());
        self.sorted = sorted;
        self.arrange();
        if let Some(haul) = haul {
            self.choose(&haul);
        }
    }

    /// Moves the cursor, marks, groups, sorts, or begins to filter.
    pub fn act(&mut self, action: Action) {
        let last = self.lines.len().saturating_sub(1);
        match action {
            Action::Filter => self.filtering = true,
            Action::Group => self.next_grouping(),
            Action::Sort => self.sort_by((self.sorted.0.next(), false)),
            Action::Reverse => self.sort_by((self.sorted.0, !self.sorted.1)),
            Action::ClearMarks => self.clear_marks(),
            Action::MarkGroup => self.mark_belonging(),
            Action::Mark => {
                let Some(haul) = self.chosen_row().map(|r| r.haul.clone()) else { return };
                self.toggle(&haul);
                self.act(Action::Down);
            }
            _ => {
                if let Some(to) = moved(self.chosen, last, action) {
                    let down = to >= self.chosen;
                    self.chosen = to;
                    self.off_the_group(down);
                    self.off_the_group(true);
                }
            }
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
            GroupedBy::Nothing => match view.sorted {
                (Column::Started, false) => ", newest first".to_owned(),
                (Column::Started, true) => ", oldest first".to_owned(),
                (column, turned) => {
                    format!(", by {}{}", column.name(), if turned { ", turned round" } else { "" })
                }
            },
            _ => format!(", by {} in {groups} groups", view.grouped.word()),
        };
    }
    let seen = view.marked_rows().len();
    match seen {
        0 => {}
        1 => words.push_str(", 1 marked: mark another, then c sets them side by side"),
        n => words += &format!(", {n} marked, A first: c sets them side by side"),
    }
    match view.marked.len() - seen {
        0 => {}
        n => words += &format!("; {n} marked out of sight, which count for nothing now (M takes them away)"),
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
        let room = usize::from((area.x + area.width).saturating_sub(x));
        buf.set_stringn(x, area.y + 1, with_cursor(&view.filter, room), room, theme.accent());
    }
    let columns = columns(area.width, &view.longest);
    let mut x = area.x + 2;
    let mut places = Vec::new();
    for (column, w) in &columns {
        let room = w.saturating_add(1).min((area.x + area.width).saturating_sub(x));
        let sorted = if view.sorted.0 == *column { if view.sorted.1 { "▴" } else { "▾" } } else { "" };
        let head = format!("{}{sorted}", column.name());
        buf.set_stringn(x, area.y + 2, head, usize::from(room), theme.faint());
        places.push((*column, x, usize::from(room.saturating_sub(u16::from(room > *w)))));
        x += room;
    }
    // A glance at the haul under the cursor takes the lower part, where there is room for both.
    let below = match area.height {
        0..34 => 0,
        h => (h / 3).clamp(15, 26),
    };
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
    // The last row says what is out of sight.
    let fits = usize::from(area.height.saturating_sub(3 + below + 1));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    // The name of the first group stays in sight with its first haul.
    let from = if from == 1 { 0 } else { from };
    let out_of_sight = view.lines.len().saturating_sub(from + fits);
    let last = Rect { y: area.y + 3 + fits as u16, height: 1, ..area };
    more(from, out_of_sight, last, buf, theme);
    for (i, line) in view.lines.iter().enumerate().skip(from).take(fits) {
        let y = area.y + 3 + (i - from) as u16;
        frame.spot(Rect { y, height: 1, ..area }, SpotOf::Row(i));
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
        // The haul that was marked first is side A of a contrast.
        let mark = match marked {
            Some(0) => "A",
            Some(_) => "•",
            None => " ",
        };
        buf.set_stringn(area.x, y, format!("{}{mark}", if chosen { "▸" } else { " " }), 2, theme.accent());
        for (column, x, room) in &places {
            buf.set_stringn(*x, y, fit(&cell(row, *column), *room), *room, style);
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
