//! How long the things take that people wait for. `cargo bench -p hollow-mile`.
//!
//! Prints times and memory; nothing here is a test. What the engine reaches beside a bare loop is in `engine.rs`, memory over
//! time in `memory.rs`.
#![allow(clippy::unwrap_used, missing_docs)]

use std::time::{Duration, Instant};

use hollow_mile::command::Speed;
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target};
use hollow_mile::ui::actions::Action;
use hollow_mile::ui::app::App;
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
    let setup = Setup {
        haul,
        route,
        conditions,
        started_unix_ms: 0,
        program: String::new(),
        stamped: None,
        resume: None,
    };
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
    for _ in 0..4 {
        app.act(Action::Down);
    }
    let began = Instant::now();
    app.act(Action::Open);
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

fn main() {
    let dir = tempfile::tempdir().unwrap();
    simulated(dir.path());
    frames(dir.path());
}
