//! Benches: who is in the fleet, what hauls there and how far it is, what is wrong, what is not sent.

use std::collections::HashMap;
use std::time::Duration;

use hollow_mile_core::quantity::units::{Bytes, Rate, clock, span_words};
use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::HaulRow;
use hollow_mile_ledger::fleet::Bench;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::Style;

use crate::told::benches::{answer, clock_words, wrong};
use crate::told::words::about;
use crate::ui::actions::Action;
use crate::ui::frame::{Frame, SpotOf};
use crate::ui::widgets::panel::{Writer, fit};
use crate::ui::widgets::scroll::{more, moved};
use crate::ui::widgets::strip;

/// Cells of the way of a haul under way, and of what lies between two.
const WAY: u16 = 9;
const GAP: u16 = 1;
/// Hauls that are told one by one of the bench under the cursor.
const TOLD: usize = 8;

/// A haul under way on a bench.
#[derive(Debug)]
struct Running {
    bench: String,
    row: HaulRow,
    /// How long it should take, where that is known.
    whole: Option<Duration>,
    /// How fast it is since it was looked at last.
    rate: Option<Rate>,
}

impl Running {
    /// How far it is, 0 to 1.
    fn done(&self) -> Option<f64> {
        let whole = self.whole.filter(|w| !w.is_zero())?;
        Some((self.row.elapsed.as_secs_f64() / whole.as_secs_f64()).min(1.0))
    }

    fn left(&self) -> Option<Duration> {
        self.whole.and_then(|w| w.checked_sub(self.row.elapsed))
    }
}

fn moved_by(row: &HaulRow) -> Bytes {
    Bytes::new(row.written.get() + row.read.get())
}

/// The fleet's benches on screen.
#[derive(Debug, Default)]
pub struct BenchesView {
    /// As the server has them, what needs somebody first.
    benches: Vec<Bench>,
    running: Vec<Running>,
    /// What each haul had moved after how long, when it was looked at last.
    before: HashMap<String, (Duration, Bytes, Option<Rate>)>,
    /// Why they could not be asked for.
    trouble: Option<String>,
    chosen: usize,
}

fn bench_of(row: &HaulRow) -> Option<&str> {
    row.conditions.tags.iter().find(|t| t.0 == "bench").map(|t| t.1.as_str())
}

impl BenchesView {
    /// Takes what the server says; `whole` tells how long a haul should take.
    pub fn are(
        &mut self,
        told: Result<Vec<Bench>, String>,
        rows: &[HaulRow],
        whole: impl Fn(&str) -> Option<Duration>,
    ) {
        let chosen = self.benches.get(self.chosen).map(|b| b.number);
        match told {
            Err(why) => self.trouble = Some(why),
            Ok(mut benches) => {
                benches.sort_by_key(|b| (wrong(b).is_empty(), b.running == 0, b.name.clone()));
                (self.benches, self.trouble) = (benches, None);
            }
        }
        let before = std::mem::take(&mut self.before);
        self.running.clear();
        for row in rows.iter().filter(|r| r.state == HaulState::Running) {
            let Some(bench) = bench_of(row) else { continue };
            let all = moved_by(row);
            let rate = match before.get(&row.haul) {
                Some((elapsed, moved, _)) if row.elapsed > *elapsed => {
                    Some(all.saturating_sub(*moved).over(row.elapsed - *elapsed))
                }
                Some((_, _, rate)) => *rate,
                None => None,
            };
            self.before.insert(row.haul.clone(), (row.elapsed, all, rate));
            let rate = rate.or_else(|| (!row.elapsed.is_zero()).then(|| all.over(row.elapsed)));
            self.running.push(Running {
                bench: bench.to_owned(),
                whole: whole(&row.haul),
                row: row.clone(),
                rate,
            });
        }
        // A drive keeps its place.
        self.running.sort_by(|a, b| (&a.row.serial, &a.row.haul).cmp(&(&b.row.serial, &b.row.haul)));
        // The cursor stays with its bench.
        self.chosen = chosen.and_then(|n| self.benches.iter().position(|b| b.number == n)).unwrap_or(0);
    }

    fn on(&self, bench: &Bench) -> Vec<&Running> {
        self.running.iter().filter(|r| r.bench == bench.name).collect()
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

/// Where the columns begin.
struct Columns {
    name: u16,
    /// Ways of hauls that have room.
    ways: u16,
    rate: u16,
    hauls: u16,
    written: u16,
    wrong: u16,
}

impl Columns {
    /// As wide as the most hauls of a bench need, where there is room.
    fn of(view: &BenchesView, width: u16) -> Self {
        let longest =
            view.benches.iter().map(|b| b.name.chars().count()).max().unwrap_or(5).clamp(5, 24) as u16;
        let most = view.benches.iter().map(|b| view.on(b).len()).max().unwrap_or(0).clamp(1, 16) as u16;
        let name = 2;
        let from = name + longest + 2;
        // Rate, hauls, written and some words of what is wrong stand behind.
        let room = width.saturating_sub(from + 12 + 8 + 10 + 20) / (WAY + GAP);
        let ways = most.min(room).max(1);
        let rate = from + (ways * (WAY + GAP)).max(10) + 1;
        Self { name, ways, rate, hauls: rate + 12, written: rate + 20, wrong: rate + 31 }
    }

    /// Where the ways begin.
    fn way(&self) -> u16 {
        self.rate - 1 - u16::max(self.ways * (WAY + GAP), 10)
    }
}

/// A line of one bench.
fn line(
    view: &BenchesView,
    bench: &Bench,
    c: &Columns,
    at: Rect,
    frame: &Frame<'_>,
    buf: &mut Buffer,
    chosen: bool,
) {
    let theme = frame.theme;
    let wrong = wrong(bench);
    let style = match (chosen, wrong.is_empty()) {
        (true, _) => theme.accent(),
        (false, false) => theme.strong(),
        (false, true) => Style::new(),
    };
    buf.set_string(at.x, at.y, if chosen { "▸" } else { " " }, theme.accent());
    let mut put = |x: u16, width: u16, words: &str, style: Style| {
        if x < at.width {
            let width = usize::from(width.min(at.width - x));
            buf.set_stringn(at.x + x, at.y, fit(words, width), width, style);
        }
    };
    let ways = c.way();
    put(c.name, ways - c.name - 1, &bench.name, style);
    let running = view.on(bench);
    let all: Rate = Rate::new(running.iter().filter_map(|r| r.rate).map(Rate::get).sum());
    if running.is_empty() {
        put(ways, 10, if bench.left { "left" } else { "at rest" }, theme.faint());
    } else {
        put(c.rate, 11, &all.to_string(), style);
    }
    put(c.hauls, 7, &format!("{:>6}", bench.hauls), theme.faint());
    put(
        c.written,
        10,
        &format!("{:>9}", Bytes::new(bench.written_bytes.unsigned_abs()).to_string()),
        theme.faint(),
    );
    let mut said: Vec<String> = Vec::new();
    if !wrong.is_empty() {
        said.push(format!("! {wrong}"));
    }
    if bench.unsent_hauls > 0 {
        said.push(format!("{} unsent", bench.unsent_hauls));
    }
    put(c.wrong, at.width.saturating_sub(c.wrong), &said.join(", "), style);
    for (i, r) in running.iter().enumerate() {
        let x = ways + i as u16 * (WAY + GAP);
        let last = i as u16 + 1 == c.ways;
        if last && running.len() > i + 1 {
            let words = format!("+{} more", running.len() - i);
            buf.set_stringn(at.x + x, at.y, words, usize::from(WAY), theme.faint());
            break;
        }
        let way = Rect { x: at.x + x, y: at.y, width: WAY.min(at.width.saturating_sub(x)), height: 1 };
        match r.done() {
            Some(done) => strip::progress(Some(done), way, buf, theme),
            // How long it takes is not known: that it goes is.
            None => drop(buf.set_stringn(
                way.x,
                way.y,
                fit(&clock(r.row.elapsed), usize::from(WAY)),
                usize::from(way.width),
                style,
            )),
        }
    }
}

/// The bench under the cursor: when it was heard of, its clock, and its hauls one by one.
fn detail(view: &BenchesView, frame: &Frame<'_>, area: Rect, buf: &mut Buffer) {
    let Some(bench) = view.benches.get(view.chosen) else { return };
    let theme = frame.theme;
    let mut out = Writer::new(area, buf);
    let unsent = match bench.unsent_hauls {
        0 => "all is sent".to_owned(),
        1 => "1 haul has something unsent".into(),
        n => format!("{n} hauls have something unsent"),
    };
    out.line(
        &format!(
            "{}: heard of {} ago, {}, {unsent}{}",
            bench.name,
            span_words(bench.seen_s.max(0.0).round()),
            clock_words(bench),
            if bench.program.is_empty() { String::new() } else { format!(", version {}", bench.program) }
        ),
        theme.strong(),
    );
    let running = view.on(bench);
    if running.is_empty() {
        out.line("Nothing hauls on it.", theme.faint());
    }
    for r in running.iter().take(TOLD) {
        let done = r.done().map_or_else(|| "   ".into(), |d| format!("{:>3.0} %", d * 100.0));
        let left = r.left().map_or_else(|| "time left not known".into(), |l| format!("{} left", about(l)));
        let rate = r.rate.map(|r| r.to_string()).unwrap_or_default();
        out.line(
            &format!(
                "{:<14} {:<16} {done}  {:<20} {:<12} {:<10} {}",
                fit(&r.row.serial, 14),
                fit(&r.row.route, 16),
                left,
                rate,
                moved_by(&r.row).to_string(),
                r.row.model
            ),
            Style::new(),
        );
    }
    if running.len() > TOLD {
        out.line(&format!("and {} more", running.len() - TOLD), theme.faint());
    }
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
    let told = view.benches.get(view.chosen).map_or(0, |b| view.on(b).len().clamp(1, TOLD + 1) as u16 + 1);
    let below = if area.height > 20 { told + 1 } else { 0 };
    let body = Rect { y: area.y + 5, height: area.height.saturating_sub(5 + below + 1), ..area };
    if body.height < 2 || body.width < 40 {
        return;
    }
    let c = Columns::of(view, body.width);
    let ways = c.way();
    for (x, words) in [
        (c.name, "bench"),
        (ways, "under way"),
        (c.rate, "in all"),
        (c.hauls, " hauls"),
        (c.written, "  written"),
        (c.wrong, "wrong, or unsent"),
    ] {
        if x < body.width {
            buf.set_stringn(body.x + x, body.y, words, usize::from(body.width - x), theme.faint());
        }
    }
    let fits = usize::from(body.height.saturating_sub(1));
    let from = view.chosen.saturating_sub(fits.saturating_sub(1));
    for (i, bench) in view.benches.iter().enumerate().skip(from).take(fits) {
        let at = Rect { y: body.y + 1 + (i - from) as u16, height: 1, ..body };
        frame.spot(at, SpotOf::Row(i));
        line(view, bench, &c, at, frame, buf, i == view.chosen);
    }
    more(from, view.benches.len().saturating_sub(from + fits), Rect { height: 1, ..body }, buf, theme);
    if below > 0 {
        let at = Rect {
            x: area.x + 2,
            y: body.y + body.height + 1,
            width: area.width.saturating_sub(2),
            height: below,
        };
        detail(view, frame, at, buf);
    }
}
