//! Every view as text, from the demo's data, and at every size without a fault.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::time::Duration;

use hollow_mile::ui::actions::{Action, Screen};
use hollow_mile::ui::app::{App, Overlay};
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event, KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

fn demo_app(dir: &std::path::Path) -> App {
    common::put_demo(dir);
    App::new(dir.to_owned(), true, Theme::new(Depth::Mono)).unwrap()
}

fn draw(app: &App, width: u16, height: u16) -> Buffer {
    let area = Rect::new(0, 0, width, height);
    let mut buf = Buffer::empty(area);
    views::render(app, area, &mut buf);
    buf
}

/// Where a date such as 2026-09-14 begins.
fn day_in(line: &str) -> Option<usize> {
    let is = |w: &[u8]| {
        w.iter().enumerate().all(|(i, c)| if i == 4 || i == 7 { *c == b'-' } else { c.is_ascii_digit() })
    };
    line.as_bytes().windows(10).position(is)
}

/// The screen as lines; moments are shown in the zone of the machine, so their figures are masked.
fn text(app: &App, width: u16, height: u16) -> String {
    let buf = draw(app, width, height);
    let mut out = String::new();
    for y in 0..height {
        let line: String = (0..width).map(|x| buf[(x, y)].symbol()).collect();
        let mut line = line.trim_end().to_owned();
        while let Some(at) = day_in(&line) {
            let with_time = line.get(at + 13..at + 14) == Some(":");
            let mask = if with_time { "DATE-AND-TIME..." } else { "DATE......" };
            line.replace_range(at..(at + mask.len()).min(line.len()), mask);
        }
        out.push_str(&line);
        out.push('\n');
    }
    out
}

fn press(app: &mut App, code: KeyCode) {
    app.on_event(&Event::Key(KeyEvent::new(code, KeyModifiers::NONE)));
}

/// Sees the question and says yes.
fn yes(app: &mut App) {
    assert!(matches!(app.overlay, Some(Overlay::Ask(_))), "{:?}", app.message());
    draw(app, 120, 40);
    press(app, KeyCode::Char('y'));
}

/// Opens what is under the cursor, and waits until its record is read.
fn opens(app: &mut App) {
    app.act(Action::Open);
    app.finish_loading();
}

/// Goes to a drive of the yard, wherever it stands: this machine's own drives come when they are found.
fn on_drive(app: &mut App, target: &str) {
    app.act(Action::GoYard);
    while app.yard.chosen_row().unwrap().identity.target != target {
        app.act(Action::Down);
    }
}

fn starts(app: &mut App) {
    app.act(Action::Start);
    yes(app);
}

#[test]
fn pictures_of_the_views() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::Down);
    assert!(app.take_glance());
    insta::assert_snapshot!("yard", text(&app, 160, 47));
    insta::assert_snapshot!("yard_small", text(&app, 100, 30));
    insta::assert_snapshot!("yard_least", text(&app, 80, 24));
    opens(&mut app);
    insta::assert_snapshot!("route", text(&app, 120, 36));
    app.act(Action::Vitals);
    insta::assert_snapshot!("vitals", text(&app, 160, 47));
    insta::assert_snapshot!("vitals_small", text(&app, 100, 30));
    app.act(Action::GoLedger);
    insta::assert_snapshot!("ledger_small", text(&app, 100, 30));
    // The fan test on the hot drive, by time and by bytes.
    app.act(Action::Last);
    opens(&mut app);
    insta::assert_snapshot!("haul", text(&app, 160, 47));
    app.act(Action::NextFlag);
    opens(&mut app);
    insta::assert_snapshot!("haul_evidence", text(&app, 160, 47));
    app.overlay = None;
    app.act(Action::Mark);
    for _ in 0..10 {
        app.act(Action::CursorRight);
    }
    app.act(Action::Mark);
    app.act(Action::OtherPane);
    insta::assert_snapshot!("haul_between_marks", text(&app, 160, 47));
    app.act(Action::OtherPane);
    app.follow(Duration::ZERO);
    insta::assert_snapshot!("haul_cache_and_heat", text(&app, 160, 47));
    app.act(Action::Back);
    app.act(Action::Back);
    app.act(Action::OtherPane);
    app.act(Action::TurnRuler);
    app.act(Action::CursorRight);
    app.act(Action::ZoomIn);
    insta::assert_snapshot!("haul_small_by_bytes_zoomed", text(&app, 100, 30));
    app.act(Action::Help);
    insta::assert_snapshot!("help", text(&app, 100, 36));
}

/// Draws at many sizes: what has no room gives way.
fn every_size(app: &App) {
    for (w, h) in [(20, 6), (40, 12), (60, 17), (79, 20), (80, 24), (84, 21), (93, 18), (100, 30), (240, 70)]
    {
        draw(app, w, h);
    }
}

#[test]
fn pictures_of_a_drive_before_and_while_it_is_hauled_again() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    // The drive that throttles, of which three hauls without a fan tell.
    (0..2).for_each(|_| app.act(Action::Down));
    every_size(&app);
    opens(&mut app);
    insta::assert_snapshot!("route_forecast", text(&app, 160, 47));
    every_size(&app);
    app.act(Action::OtherPane);
    every_size(&app);
    app.act(Action::Vitals);
    every_size(&app);
    app.act(Action::OtherPane);
    insta::assert_snapshot!("vitals_hauls", text(&app, 160, 47));
    every_size(&app);
    app.act(Action::GoLedger);
    app.act(Action::Last);
    app.act(Action::DriveFile);
    every_size(&app);
    app.act(Action::GoLedger);
    app.act(Action::Last);
    (0..5).for_each(|_| app.act(Action::Up));
    opens(&mut app);
    // Its second haul without a fan: dotted behind it stands what the first showed.
    insta::assert_snapshot!("haul_forecast", text(&app, 160, 47));
    every_size(&app);
}

#[test]
fn pictures_of_the_surveys() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    for (row, name) in
        [(0, "streams"), (1, "verify"), (2, "ladder"), (3, "fill"), (4, "spans"), (5, "ground")]
    {
        app.act(Action::GoLedger);
        app.act(Action::First);
        (0..row).for_each(|_| app.act(Action::Down));
        opens(&mut app);
        app.act(Action::Surveys);
        // A long record is read beside; its surveys are there at once, its passes a moment later.
        let began = std::time::Instant::now();
        while app.haul.loading.is_some() && began.elapsed() < Duration::from_secs(30) {
            app.follow(Duration::from_millis(20));
        }
        app.act(Action::CursorRight);
        insta::assert_snapshot!(format!("surveys_{name}"), text(&app, 160, 47));
        every_size(&app);
    }
    insta::assert_snapshot!("surveys_ground_small", text(&app, 100, 30));
    for action in [Action::ZoomIn, Action::PanLeft, Action::ZoomOut, Action::OtherPane, Action::Whole] {
        app.act(action);
        draw(&app, 120, 40);
    }
}

#[test]
fn pictures_of_the_archive() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::GoLedger);
    app.act(Action::Group);
    insta::assert_snapshot!("ledger_by_drive", text(&app, 160, 47));
    app.act(Action::Group);
    app.act(Action::Group);
    for (w, h) in [(80, 24), (240, 70)] {
        draw(&app, w, h);
    }
    // Three hauls bare and three with a fan: the hot drive's group is the last.
    while app.archive.chosen_row().is_some_and(|r| r.serial != "KW-0118") {
        app.act(Action::Down);
    }
    while app.archive.marked_rows().len() < 6 {
        let fits = |r: &hollow_mile_ledger::HaulRow| {
            r.serial == "KW-0118" && r.conditions.cooling.as_deref() != Some("heatsink")
        };
        app.act(if app.archive.chosen_row().is_some_and(fits) { Action::Mark } else { Action::Down });
    }
    app.act(Action::SideBySide);
    app.finish_making();
    insta::assert_snapshot!("contrast", text(&app, 160, 47));
    insta::assert_snapshot!("contrast_small", text(&app, 100, 30));
    for action in [
        Action::OtherPane,
        Action::TurnRuler,
        Action::OtherPane,
        Action::TurnRuler,
        Action::OtherPane,
        Action::Last,
    ] {
        if action == Action::Last {
            insta::assert_snapshot!("contrast_conditions", text(&app, 160, 47));
        }
        app.act(action);
        for (w, h) in [(80, 24), (120, 40), (240, 70)] {
            draw(&app, w, h);
        }
    }
    for _ in 0..3 {
        app.act(Action::OtherPane);
    }
    insta::assert_snapshot!("contrast_latency", text(&app, 160, 47));
    // Side A is that of the haul that was marked first.
    let first = app.archive.marked_rows()[0].haul.clone();
    let sides = |app: &App| app.contrast.compared.as_ref().unwrap().contrast.sides[0].hauls.clone();
    assert!(sides(&app).contains(&first), "{:?}", sides(&app));
    let last = app.archive.marked_rows().last().unwrap().haul.clone();
    app.act(Action::GoLedger);
    app.act(Action::ClearMarks);
    for haul in [&last, &first] {
        app.act(Action::First);
        while app.archive.chosen_row().is_some_and(|r| r.haul != *haul) {
            app.act(Action::Down);
        }
        app.act(Action::Mark);
    }
    app.act(Action::SideBySide);
    app.finish_making();
    assert!(sides(&app).contains(&last), "{:?}", sides(&app));
    app.act(Action::GoLedger);
    app.act(Action::DriveFile);
    app.finish_making();
    insta::assert_snapshot!("drive_file", text(&app, 160, 47));
    insta::assert_snapshot!("drive_file_small", text(&app, 100, 30));
    app.act(Action::OtherPane);
    for (w, h) in [(80, 24), (240, 70)] {
        draw(&app, w, h);
    }
}

#[test]
fn a_route_is_started_on_every_marked_drive_at_once() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::Mark);
    app.act(Action::Down);
    app.act(Action::Down);
    app.act(Action::Mark);
    // The cursor is on a third, which has no part in it.
    app.act(Action::Last);
    opens(&mut app);
    let planned = text(&app, 160, 47);
    assert!(planned.lines().next().unwrap().contains("KW-0203 Corrie C2 2 TB, and on KW-0118"), "{planned}");
    for cost in ["at most on 2 drives together", "KW-0203   ", "KW-0118   "] {
        assert!(planned.contains(cost), "{cost}: {planned}");
    }
    app.act(Action::Start);
    let asked = text(&app, 160, 47);
    assert!(
        asked.contains("on KW-0203, which is simulated") && asked.contains("on KW-0118, which"),
        "{asked}"
    );
    press(&mut app, KeyCode::Esc);
    assert_eq!(app.running(), 0, "no answer, no haul");
    starts(&mut app);
    let began = std::time::Instant::now();
    while app.live.iter().any(|l| l.readings.series().len() < 10) && began.elapsed() < Duration::from_secs(30)
    {
        app.follow(Duration::from_millis(20));
    }
    let mut on: Vec<String> =
        app.live.iter().filter_map(|l| l.readings.head().map(|h| h.drive.serial.clone())).collect();
    on.sort();
    assert_eq!(on, ["KW-0118", "KW-0203"]);
    assert_eq!(app.running(), 2);
    for live in &mut app.live {
        let _ = live.end();
    }
    assert_eq!(app.running(), 0);
}

#[test]
fn no_view_minds_any_size() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    let steps = [
        Action::Down,
        Action::Vitals,
        Action::Down,
        Action::Back,
        Action::Open,
        Action::OtherPane,
        Action::Open,
        Action::GoLedger,
        Action::Open,
        Action::TurnRuler,
        Action::CursorLeft,
        Action::ZoomIn,
        Action::PanRight,
        Action::TurnRuler,
        Action::Whole,
        Action::ZoomOut,
        Action::Find,
    ];
    for step in steps {
        app.act(step);
        let _ = app.take_glance();
        for (w, h) in [
            (0, 0),
            (1, 1),
            (79, 24),
            (80, 24),
            (81, 25),
            (100, 30),
            (160, 47),
            (240, 70),
            (400, 24),
            (80, 200),
        ] {
            draw(&app, w, h);
        }
    }
}

#[test]
fn a_haul_shown_live_is_shown_the_same_from_the_ledger() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::Last);
    app.act(Action::First);
    opens(&mut app);
    starts(&mut app);
    for _ in 0..20 {
        app.act(Action::Faster);
    }
    let began = std::time::Instant::now();
    while app.running() > 0 {
        app.follow(Duration::from_millis(50));
        std::thread::sleep(Duration::from_millis(5));
        assert!(began.elapsed() < Duration::from_secs(60), "the haul does not end");
    }
    let live: Vec<String> = text(&app, 160, 47).lines().map(String::from).collect();
    app.act(Action::GoLedger);
    let haul = app.live[0].haul.clone();
    app.live.clear();
    app.act(Action::First);
    opens(&mut app);
    assert_eq!(app.haul.kept.as_ref().map(|k| k.row.haul.clone()), Some(haul));
    let kept: Vec<String> = text(&app, 160, 47).lines().map(String::from).collect();
    // Only the panel differs: the ledger adds when it began.
    let lanes = |lines: &[String]| -> Vec<String> {
        lines.iter().map(|l| l.chars().take(110).collect::<String>().trim_end().to_owned()).collect()
    };
    assert_eq!(lanes(&live), lanes(&kept));
}

#[test]
fn a_time_lapse_ends_where_the_record_ends() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::GoLedger);
    app.act(Action::Last);
    opens(&mut app);
    let whole = app.shown().map(|(r, c)| (r.series().len(), c.clone())).unwrap();
    app.act(Action::Lapse);
    assert_eq!(app.shown().map(|(r, _)| r.series().len()), Some(0), "it begins at the beginning");
    for _ in 0..20 {
        app.act(Action::Faster);
    }
    let began = std::time::Instant::now();
    let mut seen = vec![0];
    while app.is_moving() && began.elapsed() < Duration::from_secs(30) {
        app.follow(Duration::from_millis(20));
        seen.extend(app.shown().map(|(r, _)| r.series().len()));
        std::thread::sleep(Duration::from_millis(2));
    }
    assert!(seen.windows(2).all(|w| w[0] <= w[1]) && seen.len() > 2, "it only grows: {seen:?}");
    let shown = app.shown().map(|(r, c)| (r.series().len(), c.clone())).unwrap();
    assert_eq!(shown, whole, "what is seen in a time-lapse is what the record says");
    app.act(Action::Back);
    assert_eq!(app.shown().map(|(r, _)| r.series().len()), Some(whole.0));
}

#[test]
fn a_click_on_a_flag_opens_its_evidence_and_one_in_the_lanes_reads_them() {
    use ratatui::crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::GoLedger);
    app.act(Action::Last);
    opens(&mut app);
    let drawn = draw(&app, 160, 47);
    let click = |app: &mut App, column: u16, row: u16| {
        let kind = MouseEventKind::Down(MouseButton::Left);
        app.on_event(&Event::Mouse(MouseEvent { kind, column, row, modifiers: KeyModifiers::NONE }));
    };
    let flag = (15..110).find(|x| drawn[(*x, 4)].symbol() == "B").unwrap();
    click(&mut app, flag, 4);
    assert!(matches!(app.overlay, Some(Overlay::Evidence(1))));
    app.overlay = None;
    click(&mut app, 60, 20);
    assert!(app.overlay.is_none() && (0.3..0.7).contains(&app.haul.window.cursor.unwrap()));
    click(&mut app, 2, 20);
    assert!((0.3..0.7).contains(&app.haul.window.cursor.unwrap()), "the spine is not the lanes");
}

#[test]
fn a_stream_can_be_asked_about() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::GoLedger);
    app.act(Action::Last);
    opens(&mut app);
    app.act(Action::Hold);
    press(&mut app, KeyCode::Enter);
    let drawn = text(&app, 160, 47);
    assert!(drawn.contains("620 MB/s with a buffer of 8.59 GB is held"), "{drawn}");
    "xx".chars().for_each(|c| press(&mut app, KeyCode::Char(c)));
    press(&mut app, KeyCode::Enter);
    assert!(text(&app, 160, 47).contains("the buffer:"));
    press(&mut app, KeyCode::Esc);
    assert!(app.overlay.is_none());
}

#[test]
fn what_takes_long_is_made_beside_the_keys_and_the_newer_request_counts() {
    let dir = tempfile::tempdir().unwrap();
    let mut app = demo_app(dir.path());
    app.act(Action::GoLedger);
    app.act(Action::First);
    app.act(Action::DriveFile);
    assert_eq!(app.screen, Screen::Ledger, "keys wait for nothing");
    assert!(app.is_moving() && app.message().is_some_and(|m| m.starts_with("Making the drive file: ")));
    let second = (0..).find_map(|_| {
        app.act(Action::Down);
        app.archive.chosen_row().filter(|r| r.serial == "KW-0911").map(|r| r.serial.clone())
    });
    app.act(Action::DriveFile);
    app.finish_making();
    assert_eq!(app.screen, Screen::DriveFile);
    let shown = app.drive_file.file.as_ref().map(|f| f.identity.serial.clone());
    assert_eq!(shown, second, "the newer request counts");
    // Whoever went on meanwhile is told, and not called back.
    app.act(Action::GoLedger);
    app.act(Action::DriveFile);
    app.act(Action::GoYard);
    app.finish_making();
    assert_eq!(app.screen, Screen::Yard);
    assert!(app.message().is_some_and(|m| m.contains("Esc shows it")), "{:?}", app.message());
    app.act(Action::Back);
    assert_eq!(app.screen, Screen::DriveFile);
    // A report becomes a file of its own beside the ledger or here.
    app.act(Action::GoLedger);
    app.act(Action::Report);
    app.finish_making();
    let told = app.message().map(|m| m.into_owned()).unwrap_or_default();
    let file = told.strip_prefix("Report written: ").unwrap_or_else(|| panic!("{told}"));
    assert!(std::fs::read(file).unwrap().starts_with(b"%PDF-"));
    std::fs::remove_file(file).unwrap();
}

/// A haul in a ledger of its own, shown: the bench, the interface, the haul's document, and screens without its name.
fn shown(args: &[&str]) -> (common::Bench, App, serde_json::Value, impl Fn(&App, u16, u16) -> String) {
    let bench = common::Bench::new();
    let done = bench.json(args);
    let mut app = App::new(bench.dir.path().join("home"), false, Theme::new(Depth::Mono)).unwrap();
    app.act(Action::GoLedger);
    opens(&mut app);
    let id = done["haul"].as_str().unwrap().to_owned();
    let home = bench.dir.path().display().to_string();
    let screen = move |app: &App, width, height| {
        text(app, width, height).replace(&id, "IDENTITY").replace(&home, &"H".repeat(home.len()))
    };
    (bench, app, done, screen)
}

#[test]
fn pictures_of_a_lookout() {
    let (_bench, mut app, _, text) = shown(&["haul", "busy", "--on", "sim:moraine-1t", "--json"]);
    insta::assert_snapshot!("haul_lookout", text(&app, 160, 47));
    insta::assert_snapshot!("haul_lookout_small", text(&app, 100, 30));
    every_size(&app);
    app.act(Action::Surveys);
    insta::assert_snapshot!("surveys_lookout", text(&app, 160, 47));
    every_size(&app);
}

#[test]
fn pictures_of_rounds() {
    let (_bench, mut app, done, text) = shown(&["haul", "pts-iops", "--on", "sim:moraine-1t", "--json"]);
    let group = &done["surveys"]["rounds"]["groups"][0];
    assert_eq!(group["legs"].as_array().unwrap().len(), 56, "{group}");
    assert!(group["window_from"].is_u64(), "{group}");
    app.act(Action::Surveys);
    insta::assert_snapshot!("surveys_rounds", text(&app, 160, 47));
    insta::assert_snapshot!("surveys_rounds_small", text(&app, 100, 30));
    every_size(&app);
}

#[test]
fn pictures_of_files() {
    let args = ["haul", "hand-over", "--on", "sim:skerry-8t", "--from", "sim:corrie-2t", "--json"];
    let (_bench, mut app, _, text) = shown(&args);
    insta::assert_snapshot!("haul_files", text(&app, 160, 47));
    insta::assert_snapshot!("haul_files_small", text(&app, 100, 30));
    every_size(&app);
    app.act(Action::Surveys);
    app.act(Action::Down);
    insta::assert_snapshot!("surveys_files", text(&app, 160, 47));
    every_size(&app);
    // The tree before it is made, on a drive of the yard.
    on_drive(&mut app, "sim:skerry-8t");
    opens(&mut app);
    for _ in 0..12 {
        app.act(Action::Down);
    }
    insta::assert_snapshot!("route_files", text(&app, 160, 47));
    every_size(&app);
}

#[test]
fn pictures_of_a_zoned_drive() {
    let (_bench, mut app, _, text) = shown(&["haul", "cache-edge", "--on", "sim:strath-4t", "--json"]);
    insta::assert_snapshot!("haul_zoned", text(&app, 160, 47));
    on_drive(&mut app, "sim:strath-4t");
    app.act(Action::Vitals);
    insta::assert_snapshot!("vitals_zoned", text(&app, 160, 47));
    every_size(&app);
}
