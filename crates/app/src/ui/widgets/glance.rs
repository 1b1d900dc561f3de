//! A glance at a haul below a list: its answer in words, and its rate by bytes.

use crate::told::headline;
use crate::told::words;
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_ledger::Ledger;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

use super::panel::Writer;
use super::{lane, ruler};

use crate::ui::theme::Theme;

/// The haul that is glanced at.
pub struct Glance {
    /// Its identifier.
    pub haul: String,
    readings: Readings,
    /// What it answers; made once, since that goes through the whole record.
    answer: String,
}

impl Glance {
    /// Reads a haul; `None` when its record cannot be read.
    #[must_use]
    pub fn read(ledger: &Ledger, haul: &str) -> Option<Self> {
        // Of a long record its overview is enough.
        let (readings, conclusions) = match ledger.overview(haul) {
            Some(both) => both,
            None => ledger.concluded(haul).ok()?,
        };
        let answer = headline::answer(&readings, &conclusions);
        Some(Self { haul: haul.to_owned(), readings, answer })
    }

    /// Draws it.
    pub fn render(&self, area: Rect, buf: &mut Buffer, theme: &Theme) {
        let r = &self.readings;
        let mut out = Writer::new(area, buf);
        out.text(&self.answer, 0, theme.strong());
        if let Some(h) = r.head() {
            let line =
                format!("{} on {}, {}", h.route.name, h.drive.serial, words::local_time(h.started_unix_ms));
            out.line(&line, theme.faint());
        }
        let used = area.height - out.left();
        let body = Rect { y: area.y + used, height: area.height.saturating_sub(used), ..area };
        if body.height < 6 {
            return;
        }
        let plot = Rect { height: body.height - 2, ..body };
        let columns = usize::from(plot.width.saturating_sub(lane::LABELS)) * 2;
        let extent = r.extent(Ruler::Moved);
        lane::rate(plot, buf, &r.columns(Ruler::Moved, 0.0, extent, columns), &[], theme);
        let below = Rect { y: body.y + plot.height, height: 2, ..body };
        ruler::render(below, buf, r, Ruler::Moved, (0.0, extent), theme);
    }
}
