//! How long the things take that people wait for. `cargo bench -p hollow-mile`.
//!
//! Prints times and memory; nothing here is a test. What the engine reaches beside a bare loop is in `engine.rs`, memory over
//! time in `memory.rs`.
#![allow(clippy::unwrap_used, missing_docs)]

use std::time::{Duration, Instant};

use hollow_mile::command::{Command, Speed};
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target};
use hollow_mile::ui::actions::{Action, Screen};
use hollow_mile::ui::app::App;
use hollow_mile::ui::bindings::BINDINGS;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use hollow_mile_core::haul::Setup;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Conditions;
use hollow_mile_core::route;
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

fn peak_mb() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmHWM")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<f64>().unwrap() * 1024.0 / 1e6
}

fn haul(
    home: &std::path::Path,
    route: Route,
    target: &Target,
    size: Option<Bytes>,
) -> (usize, Duration, Readings) {
    let ledger = Ledger::open(home).unwrap();
    let conditions = Conditions::default();
    let opened = targets::open(target, &targets::Wish { size, ..targets::Wish::default() }).unwrap();
    let haul = ledger.new_haul_id().unwrap();
    let setup = Setup { conditions, ..Setup::plain(&haul, route) };
    let began = Instant::now();
    let outcome = Session::start(opened, setup, ledger, Speed::Most).unwrap().finish().unwrap();
    (outcome.readings.series().len(), began.elapsed(), outcome.readings)
}

fn simulated(home: &std::path::Path) {
    let (samples, took, _) =
        haul(home, route::shipped("long-haul").unwrap(), &Target::Sim("ptarmigan-4t".into()), None);
    println!(
        "simulated 4 TB haul, {samples} samples, ledger on: {:.2} s, {:.0} MB at most resident",
        took.as_secs_f64(),
        peak_mb()
    );
}

fn frames(home: &std::path::Path) {
    let demo = home.join("demo");
    let began = Instant::now();
    hollow_mile::demo::prepare(&demo).unwrap();
    println!("demo ledger built in {:.2} s", began.elapsed().as_secs_f64());
    let began = Instant::now();
    let mut app = App::new(demo, true, Theme::new(Depth::True)).unwrap();
    let area = Rect::new(0, 0, 160, 47);
    let mut buf = Buffer::empty(area);
    views::render(&app, area, &mut buf);
    println!("first frame of the demo after {:.1} ms", began.elapsed().as_secs_f64() * 1e3);
    app.act(Action::GoLedger);
    // A long write that throttled, with a forecast behind it.
    app.act(Action::Last);
    for _ in 0..5 {
        app.act(Action::Up);
    }
    let began = Instant::now();
    app.act(Action::Open);
    app.finish_loading();
    let samples = app.shown().map_or(0, |(r, _)| r.series().len());
    println!("a haul of {samples} samples opened in {:.1} ms", began.elapsed().as_secs_f64() * 1e3);
    let frame = |app: &App| {
        let mut times: Vec<f64> = (0..60)
            .map(|_| {
                let mut buf = Buffer::empty(area);
                let began = Instant::now();
                views::render(app, area, &mut buf);
                began.elapsed().as_secs_f64() * 1e3
            })
            .collect();
        times.sort_by(f64::total_cmp);
        (times[30], times[59])
    };
    let (median, worst) = frame(&app);
    println!("a frame of that haul at 160×47: {median:.2} ms median, {worst:.2} ms worst of 60");
}

/// From a key to the frame that shows what it did, at 240×70, in every view, with eight hauls under way: what the key itself and the
/// frame take, and what a key waits for at most that comes while hauls are followed.
fn keys_beside_eight_hauls(demo: &std::path::Path) {
    let mut app = App::new(demo.to_owned(), true, Theme::new(Depth::True)).unwrap();
    let area = Rect::new(0, 0, 240, 70);
    let draw = |app: &App| {
        let mut buf = Buffer::empty(area);
        views::render(app, area, &mut buf);
    };
    let press = |app: &mut App, code| app.on_event(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)));
    for _ in 0..8 {
        app.act(Action::Mark);
        app.act(Action::Down);
    }
    [Action::Open, Action::Start].into_iter().for_each(|a| app.act(a));
    draw(&app);
    press(&mut app, KeyCode::Char('y'));
    // Fast for a while, so that there is something to draw; then slow, so that all are there to the end.
    app.live.iter_mut().for_each(|l| l.ask(Command::Speed(Speed::Times(240.0))));
    let began = Instant::now();
    while began.elapsed() < Duration::from_millis(1_200) {
        app.follow(Duration::from_millis(40));
    }
    app.live.iter_mut().for_each(|l| l.ask(Command::Speed(Speed::Times(4.0))));
    let samples: usize = app.live.iter().map(|l| l.readings.series().len()).sum();
    // As at the bench: the screen was there before the key.
    draw(&app);
    let (mut keys, mut waits): (Vec<(f64, String)>, Vec<f64>) = (Vec::new(), Vec::new());
    for screen in Screen::ALL {
        for binding in BINDINGS.iter().filter(|b| b.screens.is_empty() || b.screens.contains(&screen)) {
            // Those leave the program, or write files.
            if matches!(binding.action, Action::Quit | Action::Export | Action::Report) {
                continue;
            }
            app.screen = screen;
            app.overlay = None;
            let began = Instant::now();
            app.act(binding.action);
            draw(&app);
            keys.push((
                began.elapsed().as_secs_f64() * 1e3,
                format!("{} in {}", binding.name, screen.name()),
            ));
            app.finish_making();
            // A key that comes meanwhile is heard after one batch and one conclusion.
            let began = Instant::now();
            app.follow_until(Duration::from_millis(40), &|| true);
            waits.push(began.elapsed().as_secs_f64() * 1e3);
        }
    }
    keys.sort_by(|a, b| a.0.total_cmp(&b.0));
    waits.sort_by(f64::total_cmp);
    for (took, which) in keys.iter().rev().take(6) {
        println!("  {took:.2} ms  {which}");
    }
    let (worst, which) = keys.last().unwrap();
    println!(
        "key to frame at 240×70, {} hauls live with {samples} samples: {:.2} ms median, {worst:.2} ms worst of {} ({which}); \
         following keeps a key waiting {:.2} ms median, {:.2} ms at most",
        app.running(),
        keys[keys.len() / 2].0,
        keys.len(),
        waits[waits.len() / 2],
        waits.last().unwrap()
    );
    // A frame by itself, in each view.
    let mut frames: Vec<(f64, f64, &str)> = Vec::new();
    for screen in Screen::ALL {
        app.screen = screen;
        app.overlay = None;
        app.finish_making();
        let mut times: Vec<f64> = (0..60)
            .map(|_| {
                let began = Instant::now();
                draw(&app);
                began.elapsed().as_secs_f64() * 1e3
            })
            .collect();
        times.sort_by(f64::total_cmp);
        frames.push((times[30], times[57], screen.name()));
    }
    frames.sort_by(|a, b| b.0.total_cmp(&a.0));
    let each: Vec<String> = frames.iter().map(|(m, p95, name)| format!("{name} {m:.2} ({p95:.2})")).collect();
    println!("a frame at 240×70 beside them, median (p95) of 60, ms: {}", each.join(", "));
    app.live.iter_mut().for_each(|l| l.end().unwrap());
}

fn main() {
    let dir = tempfile::tempdir().unwrap();
    simulated(dir.path());
    frames(dir.path());
    keys_beside_eight_hauls(&dir.path().join("demo"));
}
