//! What the surveys of a haul say: rate by position pass over pass with its slow stretches; nested spans; ladders;
//! streams; figures against fill; blocks read back.

mod fill;
mod freight;
mod knee;
mod pages;
mod proof;
mod rounds;
mod spans;
mod streams;
mod strips;
mod waits;

use crate::told::headline;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::Surveys;
use hollow_mile_core::readings::{Readings, Ruler};
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::haul;
use pages::{Page, sentences, there};

use crate::ui::actions::Action;
use crate::ui::frame::Frame;
use crate::ui::widgets::panel::Writer;
use crate::ui::widgets::scroll::Scroll;
use crate::ui::widgets::spine;
use crate::ui::widgets::window::Window;

/// How the surveys of the haul on screen are looked at.
#[derive(Debug, Clone, Default)]
pub struct SurveysView {
    page: Page,
    /// Part of the drive that is shown, as shares of it, and the cursor.
    pub window: Window,
    scroll: Scroll,
}

impl SurveysView {
    /// The page that is shown: the chosen one, or else the first there is.
    fn shown(&self, s: &Surveys) -> Option<Page> {
        let all = there(s);
        all.iter().find(|p| **p == self.page).or(all.first()).copied()
    }

    /// The question that the survey on screen answers; none where there is none.
    #[must_use]
    pub fn question(&self, s: &Surveys) -> Option<&'static str> {
        self.shown(s).map(Page::question)
    }

    /// Moves, zooms, turns the page.
    pub fn act(&mut self, action: Action, surveys: &Surveys) {
        match action {
            Action::OtherPane => {
                let all = there(surveys);
                let at = all.iter().position(|p| Some(*p) == self.shown(surveys)).unwrap_or(0);
                if let Some(next) = all.get((at + 1) % all.len().max(1)) {
                    *self = Self { page: *next, ..Self::default() };
                }
            }
            Action::Up | Action::Down => self.scroll.act(action),
            action => {
                if matches!(action, Action::First | Action::Last) {
                    self.scroll.act(action);
                }
                self.window.act(action, 1.0);
            }
        }
    }
}

/// Draws the survey that is chosen.
pub fn render(view: &SurveysView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let Some((r, c)) = frame.shown else {
        frame.top(area, buf, "no haul is open: the ledger has those that were");
        return;
    };
    let theme = frame.theme;
    haul::head(frame, r, Rect { height: 1, ..area }, buf);
    let Some(page) = view.shown(&c.surveys) else {
        let words = "This haul has no survey: routes with a scan, spans, ladder, rounds, pace, verify, fill or a lookout make one. Esc goes back.";
        Writer::new(Rect { y: area.y + 1, ..area }, buf).text(words, 0, theme.strong());
        return;
    };
    let answer = Rect { y: area.y + 1, height: 2, ..area };
    let mut out = Writer::new(answer, buf);
    // What failed comes first; what has no room is counted.
    let mut all: Vec<String> = (r.errors() > 0).then(|| headline::faults(r)).into_iter().collect();
    all.extend(sentences(page, &c.surveys));
    let more = all.len().saturating_sub(2);
    for (i, sentence) in all.iter().take(2).enumerate() {
        let rest = if i == 1 && more > 0 {
            format!("  ({more} more: Esc, the haul's answer)")
        } else {
            String::new()
        };
        out.text(&format!("{sentence}{rest}"), 0, theme.strong());
    }
    let pages = there(&c.surveys);
    let names: Vec<&str> = pages.iter().map(|p| p.name()).collect();
    let shown = pages.iter().position(|p| *p == page).unwrap_or(0);
    frame.tabs(&names, shown, Rect { y: area.y + 3, height: 1, ..area }, buf);
    let body = Rect { y: area.y + 5, height: area.height.saturating_sub(5), ..area };
    spine::render(Rect { width: spine::WIDTH, ..body }, buf, r, theme);
    let right = Rect { x: body.x + spine::WIDTH, width: body.width.saturating_sub(spine::WIDTH), ..body };
    let link = r.head().and_then(|h| h.drive.link.as_ref()?.payload_ceiling());
    if page == Page::Ground {
        strips::render(view, frame, r, c, right, buf);
    } else if let (Page::Ladder, Some(ladder)) = (page, &c.surveys.ladder) {
        knee::render(ladder, link, &view.scroll, right, buf, theme);
    } else if let (Page::Rounds, Some(measured)) = (page, &c.surveys.rounds) {
        rounds::render(measured, &view.scroll, right, buf, theme);
    } else if let (Page::Spans, Some(measured)) = (page, &c.surveys.spans) {
        let capacity = r.extent(Ruler::Position);
        spans::render(measured, capacity, &view.scroll, right, buf, theme);
    } else if let (Page::Fill, Some(sweep)) = (page, &c.surveys.fill) {
        fill::render(sweep, &view.scroll, right, buf, theme);
    } else if let (Page::Streams, Some(offered)) = (page, &c.surveys.streams) {
        streams::render(offered, r, &view.scroll, right, buf, theme);
    } else if let (Page::Freight, Some(moved)) = (page, &c.surveys.freight) {
        freight::render(moved, &view.scroll, right, buf, theme);
    } else if page == Page::Lookout {
        waits::render(r, right, buf, theme);
    } else if let (Page::Verify, Some(checked)) = (page, &c.surveys.verify) {
        proof::render(checked, r, view.window.cursor, &view.scroll, right, buf, theme);
    }
}

/// The part of the drive that is shown, in bytes.
fn window(view: &SurveysView, r: &Readings) -> (f64, f64) {
    let extent = r.extent(Ruler::Position);
    let (from, to) = view.window.span(1.0);
    (from * extent, to * extent)
}

/// Whether the haul on screen has any survey.
#[must_use]
pub fn has_any(c: &Conclusions) -> bool {
    !there(&c.surveys).is_empty()
}
