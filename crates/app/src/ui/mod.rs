//! The interface: full-screen, in any terminal, by keys.
//!
//! State in [`app`], drawn by [`views`] through `&self`; every key is in [`actions`]. The loop below waits for keys and
//! for what happens on hauls, draws when something changed, and gives the terminal back whatever happens.

pub mod actions;
pub mod alarm;
pub mod app;
pub mod asking;
pub mod bindings;
pub mod cadence;
mod follow_yard;
pub mod frame;
mod haul_actions;
mod input;
pub mod keys;
mod ledger_actions;
mod listing;
pub mod live;
mod making;
mod queue_actions;
pub mod review;
mod route_actions;
pub mod theme;
pub mod views;
pub mod widgets;
mod yard_actions;

use std::io::{IsTerminal, Write, stdout};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use ratatui::Terminal;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{
    self, DisableBracketedPaste, DisableMouseCapture, EnableBracketedPaste, EnableMouseCapture,
};
use ratatui::crossterm::execute;
use ratatui::crossterm::terminal::{
    EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode, enable_raw_mode,
};

use crate::error::{AppError, Exit};
use crate::home;
use crate::watch::keeper::Kept;
use alarm::Ways;
use app::App;
use keys::{Keys, Waited};
use theme::{Depth, Letters, Theme};

/// Where the interface begins.
pub enum Start {
    /// At the yard.
    Yard {
        /// Folder of the ledger.
        home: PathBuf,
        /// On the demo's data.
        demo: bool,
        /// On the hauls of the whole fleet.
        fleet: bool,
    },
    /// At a batch of the fleet's demo.
    Batch {
        /// Folder of the ledger of a bench.
        home: PathBuf,
        /// Words that its hauls have.
        filter: String,
    },
    /// At hauls under way, each kept by a process of its own.
    Watch {
        /// Folder of the ledger.
        home: PathBuf,
        /// The hauls; the last is shown first.
        hauls: Vec<String>,
        /// The process that was just started for them.
        kept: Option<Kept>,
    },
}

/// Ten frames a second while something moves.
const FRAME: Duration = Duration::from_millis(100);
/// How long the cursor rests on a haul before its record is read.
const GLANCE: Duration = Duration::from_millis(60);
/// How much of a frame may go into taking events of hauls.
const FOLD: Duration = Duration::from_millis(40);

/// The terminal in raw mode on its other screen; given back when dropped, also by a panic.
struct Screen;

fn give_back() {
    let _ = execute!(
        stdout(),
        DisableBracketedPaste,
        DisableMouseCapture,
        LeaveAlternateScreen,
        ratatui::crossterm::cursor::Show
    );
    let _ = disable_raw_mode();
}

impl Screen {
    fn take() -> std::io::Result<Self> {
        let before = std::panic::take_hook();
        let here = std::thread::current().id();
        std::panic::set_hook(Box::new(move |info| {
            // First the terminal, so that the words of the fault can be read. A fault of another thread is told by the
            // haul that it belongs to, and the interface goes on.
            if std::thread::current().id() == here {
                give_back();
                before(info);
            }
        }));
        enable_raw_mode()?;
        execute!(stdout(), EnterAlternateScreen, EnableMouseCapture, EnableBracketedPaste)?;
        Ok(Self)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        give_back();
    }
}

/// Runs the interface until the user leaves.
///
/// # Errors
/// When there is no terminal, or the ledger cannot be opened.
pub fn run(start: Start) -> Result<Exit, AppError> {
    if !stdout().is_terminal() {
        return Err(AppError::usage(
            "the interface needs a terminal; `hollow-mile --help` lists the commands that do not",
        ));
    }
    let var = |name: &str| std::env::var(name).unwrap_or_default();
    let light = theme::light_ground(&var("HOLLOW_MILE_GROUND"), &var("COLORFGBG"));
    let theme = Theme::new(Depth::of_terminal()).with(Letters::of_terminal()).on(light);
    let mut app = match start {
        Start::Yard { home, demo, fleet } => {
            let mut app = App::new(home, demo, theme)?;
            if fleet {
                app.show_fleet(true)?;
                app.act(actions::Action::GoLedger);
            }
            app
        }
        Start::Batch { home, filter } => {
            crate::fleet::ledger_of_all(&home, |_| ())?;
            let mut app = App::new(home, true, theme)?;
            app.show_fleet(true)?;
            app.show_batch(&filter);
            app
        }
        Start::Watch { home, hauls, kept } => {
            let mut app = App::new(home, false, theme)?;
            for haul in hauls {
                app.attach(&haul)?;
            }
            app.kept.extend(kept);
            app
        }
    };
    app.apart = true;
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGHUP, signal_hook::consts::SIGINT] {
        signal_hook::flag::register(signal, stop.clone())
            .map_err(|e| AppError::machine(format!("signals cannot be heard: {e}")))?;
    }
    let left = leave_in_any_case()?;
    let trouble = |e: std::io::Error| AppError::usage(format!("the terminal does not answer: {e}"));
    let ways = Ways::of_environment();
    let screen = Screen::take().map_err(trouble)?;
    ways.keep_title(&mut stdout()).map_err(trouble)?;
    let mut terminal = Terminal::new(CrosstermBackend::new(stdout())).map_err(trouble)?;
    let ran = turn(&mut app, &mut terminal, &stop, ways);
    left.store(true, Ordering::Relaxed);
    let _ = ways.give_title_back(&mut stdout());
    for live in &mut app.live {
        if let Err(e) = live.end() {
            app.quit = true;
            drop(screen);
            return Err(e);
        }
    }
    let stay = app.live.iter().filter(|l| l.runs() && !app.ends_with_us(l)).map(|l| l.haul.clone());
    let stay: Vec<String> = stay.collect();
    app.live.clear();
    app.kept.drain(..).for_each(Kept::let_go);
    drop(screen);
    for haul in stay {
        let watch = home::command_for(&app.home, &format!("watch {haul}"));
        let stop = home::command_for(&app.home, &format!("tell {haul} stop"));
        let words = format!("haul {haul} goes on: {watch} shows it, {stop} ends it");
        let _ = writeln!(stdout(), "{words}");
    }
    ran.map_err(trouble)?;
    Ok(Exit::Done)
}

/// How long whoever reads keys may take to notice that the terminal is gone.
const NOTICES: Duration = Duration::from_secs(3);

/// Ends the process when the terminal hangs up and nobody leaves: a hang-up in the middle of a key keeps the terminal library in a loop, in
/// which it reads nothing over and over and no flag reaches it. Hauls are kept by processes of their own, and the ledger is whole at any
/// moment. Whoever has left says so in what this gives.
fn leave_in_any_case() -> Result<Arc<AtomicBool>, AppError> {
    let left = Arc::new(AtomicBool::new(false));
    let told = left.clone();
    let unheard = |e: std::io::Error| AppError::machine(format!("signals cannot be heard: {e}"));
    let mut hang_ups = signal_hook::iterator::Signals::new([signal_hook::consts::SIGHUP]).map_err(unheard)?;
    let watch = move || {
        if hang_ups.forever().next().is_some() {
            std::thread::sleep(NOTICES);
            if !told.load(Ordering::Relaxed) {
                std::process::exit(1);
            }
        }
    };
    std::thread::Builder::new().name("hang-up".into()).spawn(watch).map_err(unheard)?;
    Ok(left)
}

type Term = Terminal<CrosstermBackend<std::io::Stdout>>;

/// A fault at will, for the test that the terminal is given back: in debug builds, when the environment asks for it.
fn fault_at_will(event: &event::Event) {
    #[allow(clippy::panic, reason = "that is what it is for")]
    if cfg!(debug_assertions)
        && std::env::var_os("HOLLOW_MILE_TEST_FAULT").is_some()
        && matches!(event, event::Event::Key(k) if k.code == event::KeyCode::F(12))
    {
        panic!("a fault at will");
    }
}

fn turn(app: &mut App, terminal: &mut Term, stop: &AtomicBool, ways: Ways) -> std::io::Result<()> {
    let mut title = String::new();
    let keys = Keys::new();
    let mut stale = true;
    let mut had_message = false;
    let mut followed = Instant::now();
    while !app.quit && !stop.load(Ordering::Relaxed) {
        let began = Instant::now();
        if std::mem::take(&mut app.redraw) {
            terminal.clear()?;
            stale = true;
        }
        if stale || had_message != app.message().is_some() {
            had_message = app.message().is_some();
            terminal.draw(|frame| views::render(app, frame.area(), frame.buffer_mut()))?;
            stale = false;
        }
        // Reading a record takes longer than a key may wait: only when no key came for a moment.
        let glance = app.wants_glance().is_some();
        // Keys are answered at once; what happens on hauls, ten times a second. Idle, a look twice a second is enough
        // for signals and for a message that fades.
        let frame = if app.is_moving() { FRAME } else { Duration::from_millis(500) };
        let wait = if glance { GLANCE } else { frame.saturating_sub(began.elapsed()) };
        match keys.wait(wait)? {
            Waited::Gone => return Ok(()),
            Waited::Nothing if glance => stale |= app.take_glance(),
            Waited::Nothing => {}
            Waited::Event => {
                let first = event::read()?;
                fault_at_will(&first);
                app.on_event(&first);
                stale = true;
                // Keys that came together are drawn together.
                while !app.quit && keys.wait(Duration::ZERO)? == Waited::Event {
                    app.on_event(&event::read()?);
                }
                // What a key did is seen at once. A key that is held down does not keep hauls from being followed.
                if followed.elapsed() < 2 * FRAME {
                    continue;
                }
            }
        }
        stale |= app.follow_until(FOLD, &|| matches!(keys.wait(Duration::ZERO), Ok(Waited::Event)));
        followed = Instant::now();
        for words in app.take_alarms() {
            ways.tell(&words, &mut stdout())?;
        }
        if app.title() != title {
            title = app.title();
            ways.title(&title, &mut stdout())?;
        }
    }
    Ok(())
}
