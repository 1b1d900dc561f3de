//! Benches: who is in the fleet, what hauls there, how far it is, what is wrong, what is not sent.

use hollow_mile_core::quantity::units::{Bytes, Rate, clock, span_words};
use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::HaulRow;
use hollow_mile_ledger::fleet::Bench;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::benches::{answer, wrong};
use crate::ui::actions::Action;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{more, moved};

/// The fleet's benches on screen.
#[derive(Debug, Default)]
pub struct BenchesView {
    /// As the server has them, what needs somebody first.
    benches: Vec<Bench>,
    /// Hauls under way, and the bench of each.
    running: Vec<(String, HaulRow)>,
    /// Why they could not be asked for.
    trouble: Option<String>,
    chosen: usize,
}

fn bench_of(row: &HaulRow) -> Option<&str> {
    row.conditions.tags.iter().find(|t| t.0 == "bench").map(|t| t.1.as_str())
}

impl BenchesView {
    /// Takes what the server says.
    pub fn are(&mut self, told: Result<Vec<Bench>, String>, rows: &[HaulRow]) {
        let chosen = self.benches.get(self.chosen).map(|b| b.number);
        match told {
            Err(why) => self.trouble = Some(why),
            Ok(mut benches) => {
                benches.sort_by_key(|b| (wrong(b).is_empty(), b.running == 0, b.name.clone()));
                (self.benches, self.trouble) = (benches, None);
            }
        }
        self.running = rows
            .iter()
            .filter(|r| r.state == HaulState::Running)
            .filter_map(|r| Some((bench_of(r)?.to_owned(), r.clone())))
            .collect();
        // The cursor stays with its bench.
        self.chosen = chosen.and_then(|n| self.benches.iter().position(|b| b.number == n)).unwrap_or(0);
    }

    /// The bench under the cursor.
    #[must_use]
    pub fn chosen_name(&self) -> Option<String> {
        self.benches.get(self.chosen).map(|b| b.name.clone())
    }

    /// Moves the cursor.
    pub fn act(&mut self, action: Action) {
        let last = self.benches.len().saturating_sub(1);
        self.chosen = moved(self.chosen, last, action).unwrap_or(self.chosen);
    }

    /// A click on a row. True when it was the chosen one.
    pub fn press(&mut self, row: usize) -> bool {
        let again = self.chosen == row;
        self.chosen = row.min(self.benches.len().saturating_sub(1));
        again
    }
}

/// What hauls on a bench, in words.
fn hauls(all: &[&HaulRow]) -> String {
    let one = |r: &&HaulRow| {
        let moved = r.written.get().max(r.read.get());
        let rate = Bytes::new(moved).over(r.elapsed);
        let rate = if rate > Rate::ZERO { format!(", {rate}") } else { String::new() };
        format!("{} {} {}{rate}", r.serial, r.route, clock(r.elapsed))
    };
    let told: Vec<String> = all.iter().take(3).map(one).collect();
    let more = if all.len() > 3 { format!(" and {} more", all.len() - 3) } else { String::new() };
    format!("{}{more}", told.join("; "))
}

/// Draws the benches.
pub fn render(view: &BenchesView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let theme = frame.theme;
    frame.top(area, buf, "");
    let mut out = Writer::new(Rect { y: area.y + 2, height: 2, ..area }, buf);
    out.line(&answer(&view.benches), theme.strong());
    if let Some(trouble) = &view.trouble {
        out.line(trouble, theme.accent());
    }
    let body = Rect { y: area.y + 5, height: area.height.saturating_sub(5), ..area };
    let longest = view.benches.iter().map(|b| b.name.chars().count()).max().unwrap_or(5).clamp(5, 24);
    let line = |name: &str, hauls: &str, written: &str, unsent: &str, heard: &str, clock: &str, now: &str| {
        format!("{name:<longest$}  {hauls:>6}  {written:>9}  {unsent:>6}  {heard:>10}  {clock:>8}  {now}")
    };
    let width = usize::from(body.width.saturating_sub(2));
    let head = line("bench", "hauls", "written", "unsent", "heard of", "clock", "under way, or wrong");
    buf.set_stringn(body.x + 2, body.y, head, width, theme.faint());
    let fits = usize::from(body.height.saturating_sub(1));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    for (i, b) in view.benches.iter().enumerate().skip(from).take(fits) {
        let y = body.y + 1 + (i - from) as u16;
        frame.spot(Rect { y, height: 1, ..body }, SpotOf::Row(i));
        let running: Vec<&HaulRow> = view.running.iter().filter(|r| r.0 == b.name).map(|r| &r.1).collect();
        let wrong = wrong(b);
        let now = match (wrong.is_empty(), running.is_empty()) {
            (false, true) => format!("! {wrong}"),
            (false, false) => format!("! {wrong}; {}", hauls(&running)),
            (true, false) => hauls(&running),
            (true, true) => String::new(),
        };
        let off = b.clock_off_ms as f64 / 1e3;
        let clock =
            if off.abs() < 1.0 { "right".to_owned() } else { format!("{off:+.0} s").replace('-', "−") };
        let words = line(
            &fit(&b.name, longest),
            &b.hauls.to_string(),
            &Bytes::new(b.written_bytes.unsigned_abs()).to_string(),
            &b.unsent_hauls.to_string(),
            &format!("{} ago", span_words(b.seen_s.max(0.0).round())),
            &clock,
            &now,
        );
        let style = match (i == view.chosen, wrong.is_empty()) {
            (true, _) => theme.accent(),
            (false, false) => theme.strong(),
            (false, true) => Style::new(),
        };
        buf.set_string(body.x, y, if i == view.chosen { "▸" } else { " " }, theme.accent());
        buf.set_stringn(body.x + 2, y, fit(&words, width), width, style);
    }
    more(from, view.benches.len().saturating_sub(from + fits), Rect { height: 1, ..body }, buf, theme);
}
