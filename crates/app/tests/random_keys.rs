//! Whatever is pressed, pasted and clicked: nothing falls over, and nothing starts, ends or goes without its question answered.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::collections::BTreeSet;
use std::time::Duration;

use hollow_mile::ui::actions::{Action, Screen};
use hollow_mile::ui::app::{App, Overlay};
use hollow_mile::ui::bindings::BINDINGS;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{
    Event, KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind,
};
use ratatui::layout::Rect;

const SEEDS: u64 = 50;
const PRESSES: u32 = 1_000;
/// Most of them small: what a frame does not show, its state has all the same.
const SIZES: [(u16, u16); 6] = [(80, 24), (80, 24), (80, 24), (100, 30), (160, 47), (30, 8)];

/// A sequence of numbers that is the same at every run (xorshift64*, Vigna 2016).
struct Random(u64);

impl Random {
    fn below(&mut self, n: u64) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) % n
    }

    fn of<T: Clone>(&mut self, all: &[T]) -> T {
        all[self.below(all.len() as u64) as usize].clone()
    }
}

fn keys() -> Vec<KeyCode> {
    let named = |word: &str| match word {
        "Enter" => Some(KeyCode::Enter),
        "Tab" => Some(KeyCode::Tab),
        "Space" => Some(KeyCode::Char(' ')),
        "Esc" => Some(KeyCode::Esc),
        "Home" => Some(KeyCode::Home),
        "End" => Some(KeyCode::End),
        "PgUp" => Some(KeyCode::PageUp),
        "PgDn" => Some(KeyCode::PageDown),
        // Leaving ends the test, and files that are written are not what it is about.
        "q" | "x" | "p" => None,
        w => w.chars().next().filter(char::is_ascii).map(KeyCode::Char),
    };
    let mut all: Vec<KeyCode> = BINDINGS.iter().flat_map(|b| b.all_keys()).filter_map(named).collect();
    all.extend("yn259 abc,=;".chars().map(KeyCode::Char));
    all.extend([KeyCode::Left, KeyCode::Right, KeyCode::Backspace, KeyCode::Delete, KeyCode::BackTab]);
    all
}

/// What must not change by itself.
#[derive(Debug, Clone, PartialEq)]
struct State {
    hauls: BTreeSet<String>,
    live: usize,
    waiting: Vec<usize>,
}

fn state(app: &App) -> State {
    State {
        hauls: app.archive.all().iter().map(|r| r.haul.clone()).collect(),
        live: app.live.len(),
        // A queue in which nothing waits may come and go: it is paused before there is anything in it.
        waiting: hollow_mile::queue::all(&app.home)
            .iter()
            .map(|q| q.entries.len())
            .filter(|n| *n > 0)
            .collect(),
    }
}

fn draw(app: &App, (w, h): (u16, u16)) {
    let area = Rect::new(0, 0, w, h);
    let mut buf = Buffer::empty(area);
    views::render(app, area, &mut buf);
    // Two letters in one cell push what stands behind them aside, and stay there when the view is left.
    for cell in &buf.content {
        let letters = cell.symbol().chars().filter(|c| c.is_alphanumeric()).count();
        assert!(letters <= 1, "{:?} in one cell of {}", cell.symbol(), app.screen.name());
    }
}

#[test]
fn a_thousand_presses_and_pastes_from_each_odd_seed_do_nothing_unasked() {
    press_at_random((1..=SEEDS).step_by(2));
}

#[test]
fn a_thousand_presses_and_pastes_from_each_even_seed_do_nothing_unasked() {
    press_at_random((2..=SEEDS).step_by(2));
}

fn press_at_random(seeds: impl Iterator<Item = u64>) {
    let keys = keys();
    let pastes = ["y\n", "D\ny\nq\n", "s\ny", "fan on", "\u{1b}[2J\n\n", "KW-0417, 38 °C; 温度", "", "5"];
    let (mut started, mut deleted, mut seen) = (0, 0, BTreeSet::new());
    for seed in seeds {
        let dir = tempfile::tempdir().unwrap();
        common::put_demo(dir.path());
        let mut app = App::new(dir.path().to_owned(), true, Theme::new(Depth::Mono)).unwrap();
        let mut random = Random(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        // Side by side by itself is rare.
        if seed % 10 < 2 {
            [Action::GoLedger, Action::Mark, Action::Mark, Action::SideBySide]
                .into_iter()
                .for_each(|a| app.act(a));
            app.finish_making();
            seen.insert(app.screen.name());
        }
        // In no fleet nobody comes to its benches.
        if seed % 10 == 3 || seed % 10 == 4 {
            app.screen = Screen::Benches;
            seen.insert(app.screen.name());
        }
        for press in 0..PRESSES {
            let size = random.of(&SIZES);
            if random.below(3) == 0 {
                draw(&app, size);
            }
            let event = match random.below(20) {
                0 => Event::Paste(random.of(&pastes).to_owned()),
                1 => {
                    let kind = random.of(&[
                        MouseEventKind::Down(MouseButton::Left),
                        MouseEventKind::Up(MouseButton::Left),
                        MouseEventKind::Drag(MouseButton::Left),
                        MouseEventKind::ScrollDown,
                    ]);
                    let (column, row) = (random.below(240) as u16, random.below(70) as u16);
                    Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE })
                }
                _ => Event::Key(KeyEvent::new(random.of(&keys), KeyModifiers::NONE)),
            };
            let before = state(&app);
            let asked = matches!(app.overlay, Some(Overlay::Ask(_)));
            let undo = app.screen == Screen::Ledger && app.overlay.is_none();
            app.on_event(&event);
            let after = state(&app);
            seen.insert(app.screen.name());
            let answered = asked
                && matches!(event, Event::Key(k) if matches!(k.code, KeyCode::Char(c) if "yYwW".contains(c) || c.is_ascii_digit()));
            let what = format!("seed {seed}, press {press}: {event:?} on {}", app.screen.name());
            assert!(after.live == before.live || answered, "{what}: a haul began unasked");
            assert!(after.waiting == before.waiting || answered, "{what}: {:?} wait", after.waiting);
            let gone: Vec<&String> = before.hauls.difference(&after.hauls).collect();
            assert!(gone.is_empty() || answered, "{what}: {gone:?} went unasked");
            let back = after.hauls.difference(&before.hauls).count();
            assert!(
                back == 0 || undo || after.live > before.live || !matches!(event, Event::Paste(_)),
                "{what}"
            );
            started += after.live - before.live;
            deleted += gone.len();
            // By its name in the list of actions it may be asked to leave.
            app.quit = false;
            if press % 20 == 0 {
                app.follow(Duration::from_millis(1));
                let _ = app.take_glance();
            }
            // A few under way at once are enough.
            if app.running() > 3 {
                app.live.iter_mut().for_each(|l| l.end().unwrap());
            }
        }
        app.live.iter_mut().for_each(|l| l.end().unwrap());
    }
    // It went everywhere, and questions were answered with yes too.
    assert!(started > 0 && deleted > 0, "{started} started, {deleted} deleted");
    assert!(seen.len() == Screen::ALL.len(), "{seen:?}");
    eprintln!("{started} hauls started and {deleted} deleted, each after its question");
}
