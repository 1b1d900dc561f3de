//! What the archive costs: a ledger of 10,000 hauls listed and filtered, ten three-day hauls set side by side, the chart of one.
//!
//! `cargo bench -p hollow-mile --bench archive`; `-- long` for the last two alone, `-- many` for a ledger of 100,000 hauls, `-- fleet` for one of
//! three days from another bench. Prints times and sizes; nothing here is a test.
#![allow(clippy::unwrap_used, missing_docs)]

#[path = "../../ledger/tests/server/mod.rs"]
mod server;

use std::time::{Duration, Instant};

use hollow_mile::told::Compared;
use hollow_mile::told::batch::{Batched, hauls_with};
use hollow_mile::ui::actions::Action;
use hollow_mile::ui::app::App;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use hollow_mile_core::archive::batch::Question;
use hollow_mile_core::drive::LatencySummary;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::{Conditions, Event, HaulHead, HaulState, Sample};
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_ledger::Ledger;
use hollow_mile_ledger::fleet::{self, Address, Membership, Sender};
use ratatui::buffer::Buffer;
use ratatui::crossterm::event::{Event as TermEvent, KeyCode, KeyEvent, KeyModifiers};
use ratatui::layout::Rect;

const STEP: Duration = Duration::from_millis(100);
const THREE_DAYS: u64 = 2_592_000;

fn head(haul: &str, drive: u64, cooling: &str) -> HaulHead {
    let mut identity = DriveIdentity::plain("bench", DriveKind::Imported, Bytes::from_gb(2_000_000));
    identity.serial = format!("KW-{drive:04}");
    identity.model = format!("Bench B{} 2 TB", drive % 12);
    identity.throttle_limit = Some(Celsius::new(84.0));
    HaulHead {
        haul: haul.into(),
        drive: identity,
        route: Route {
            name: ["long-haul", "ground", "spans", "first-look"][drive as usize % 4].into(),
            about: String::new(),
            interval: STEP,
            limits: Vec::new(),
            legs: vec![Leg::new(LegKind::Write)],
        },
        conditions: Conditions {
            ambient: Some(Celsius::new(24.0)),
            cooling: Some(cooling.into()),
            tags: vec![("bay".into(), (drive % 8).to_string())],
            ..Conditions::default()
        },
        started_unix_ms: 1_700_000_000_000 + drive as i64 * 60_000,
        engine: String::new(),
        program: "bench".into(),
        forecast: None,
        held_to: Default::default(),
    }
}

fn haul(ledger: Ledger, head: HaulHead, samples: u64, cache: f64) -> Ledger {
    let mut readings = Readings::new();
    let mut writer = ledger.begin(&head).unwrap();
    let mut push = |e: Event| {
        readings.push(&e);
        writer.push(e).unwrap();
    };
    let mut seed = 0x9e37_79b9_7f4a_7c15u64 ^ head.started_unix_ms as u64;
    push(Event::HaulStarted(Box::new(head)));
    push(Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for i in 1..=samples {
        seed ^= seed << 13;
        seed ^= seed >> 7;
        seed ^= seed << 17;
        let noise = 1.0 + 0.08 * ((seed >> 11) as f64 / (1u64 << 53) as f64 - 0.5);
        let rate = if (i as f64) < cache * samples as f64 { 3200e6 } else { 420e6 };
        // One interval stands still, and one is twice as fast: the chart must show both.
        let once = if i == samples / 3 {
            0.0
        } else if i == samples / 7 {
            2.0
        } else {
            1.0
        };
        push(Event::Sample(Sample {
            end: STEP * i as u32,
            span: STEP,
            written: Bytes::new((rate * noise * once * 0.1) as u64),
            temperature: Some(Celsius::new((70.0 - 30.0 * (-(i as f64) / 3000.0).exp()).round())),
            latency: Some(LatencySummary { operations: 300, p50_us: 9_000, p99_us: 12_000, max_us: 15_000 }),
            ..Sample::default()
        }));
    }
    push(Event::HaulEnded { at: STEP * samples as u32, state: HaulState::Done, reason: None });
    let conclusions = readings.conclude();
    writer.finish(HaulState::Done, None, &readings, &conclusions).unwrap()
}

fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

fn ten_thousand() {
    let dir = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(dir.path()).unwrap();
    for i in 0..10_000u64 {
        ledger = haul(ledger, head(&format!("{i:08x}"), i % 400, ["bare", "fan"][i as usize % 2]), 40, 0.5);
    }
    let listed = median(
        (0..9)
            .map(|_| {
                let began = Instant::now();
                assert_eq!(ledger.hauls().unwrap().len(), 10_000);
                began.elapsed()
            })
            .collect(),
    );
    drop(ledger);
    let mut app = App::new(dir.path().to_owned(), true, Theme::new(Depth::True)).unwrap();
    let area = Rect::new(0, 0, 160, 47);
    let began = Instant::now();
    app.act(Action::GoLedger);
    let mut buf = Buffer::empty(area);
    views::render(&app, area, &mut buf);
    println!("ledger of 10,000 hauls: list {listed:.1?} (median of 9), on screen {:.1?}", began.elapsed());
    let began = Instant::now();
    app.act(Action::Group);
    views::render(&app, area, &mut buf);
    println!("  grouped by drive: {:.1?}", began.elapsed());
    app.act(Action::Filter);
    let mut keys = Vec::new();
    for c in "fan kw-01 bay=3 long".chars() {
        let key = KeyEvent::new(KeyCode::Char(c), KeyModifiers::NONE);
        let began = Instant::now();
        app.on_event(&TermEvent::Key(key));
        views::render(&app, area, &mut buf);
        keys.push(began.elapsed());
    }
    let worst = keys.iter().max().copied().unwrap_or_default();
    println!("  filter: {:.1?} a key median, {worst:.1?} worst of {}", median(keys.clone()), keys.len());
}

/// 400 drives whose hauls have digests, and so many copies of them that there are 100,000.
fn hundred_thousand() {
    let dir = tempfile::tempdir_in("/dev/shm").unwrap();
    let mut ledger = Ledger::open(dir.path()).unwrap();
    for i in 0..400u64 {
        let mut head = head(&format!("{i:08x}"), i, "fan");
        (head.drive.model, head.route.name) = ("Bench B0 2 TB".into(), "incoming".into());
        head.conditions.tags.push(("lot".into(), "p1".into()));
        ledger = haul(ledger, head, 1200, 0.4 + 0.0001 * ((i * 37) % 101) as f64);
    }
    drop(ledger);
    let db = rusqlite::Connection::open(dir.path().join("ledger.sqlite")).unwrap();
    let mut statement = db.prepare("SELECT name FROM pragma_table_info('hauls')").unwrap();
    let names: Vec<String> = statement.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect();
    let other = |name: &str| match name {
        "haul" => "printf('%08x', ?1 * 1000 + rowid)".to_owned(),
        "started_unix_ms" => "started_unix_ms + ?1 * 3600000".into(),
        "model" => "'Bench B' || (?1 % 12) || ' 2 TB'".into(),
        "route" => "CASE ?1 % 3 WHEN 0 THEN 'long-haul' WHEN 1 THEN 'ground' ELSE 'spans' END".into(),
        "conditions" => "replace(conditions, 'p1', 'p' || (?1 + 1))".into(),
        name => name.to_owned(),
    };
    let values: Vec<String> = names.iter().map(|n| other(n)).collect();
    let sql = format!(
        "INSERT INTO hauls ({}) SELECT {} FROM hauls WHERE rowid <= 400",
        names.join(", "),
        values.join(", ")
    );
    db.execute_batch("BEGIN").unwrap();
    for copy in 1..250i64 {
        db.execute(&sql, [copy]).unwrap();
    }
    db.execute_batch("COMMIT").unwrap();
    drop(statement);
    drop(db);
    let area = Rect::new(0, 0, 160, 47);
    let mut buf = Buffer::empty(area);
    let began = Instant::now();
    let mut app = App::new(dir.path().to_owned(), true, Theme::new(Depth::True)).unwrap();
    let opened = began.elapsed();
    app.act(Action::GoLedger);
    views::render(&app, area, &mut buf);
    let first = began.elapsed();
    app.finish_listing();
    println!(
        "ledger of 100,000 hauls: open {opened:.1?}, first page {first:.1?} (asked 150 ms), all of them {:.1?}",
        began.elapsed()
    );
    app.act(Action::Filter);
    let mut keys = Vec::new();
    for c in "fan kw-01 bay=3 long".chars() {
        let began = Instant::now();
        app.on_event(&TermEvent::Key(KeyEvent::new(KeyCode::Char(c), KeyModifiers::NONE)));
        views::render(&app, area, &mut buf);
        keys.push(began.elapsed());
    }
    let worst = keys.iter().max().copied().unwrap_or_default();
    println!(
        "  filter: {:.1?} a key median, {worst:.1?} worst of {} (asked 100 ms)",
        median(keys.clone()),
        keys.len()
    );
    let ledger = Ledger::open(dir.path()).unwrap();
    let began = Instant::now();
    let rows = hauls_with(&ledger, &["lot=p1".into(), "incoming".into()]).unwrap();
    let found = began.elapsed();
    let batched = Batched::of(&ledger, &rows, &Question::default()).unwrap();
    println!(
        "  batch of {} drives with {} figures: {:.1?} to find, {:.1?} in all (asked 1 s)",
        batched.batch.drives.len(),
        batched.batch.rows.len(),
        found,
        began.elapsed()
    );
}

/// A haul of 72 hours on another bench, opened from the fleet.
fn from_the_fleet() {
    let server = server::Server::start();
    let address: Address = server.url("keeper").parse().unwrap();
    fleet::init(&mut address.connect().unwrap(), &address).unwrap();
    let dir = tempfile::tempdir_in("/dev/shm").unwrap();
    let (there, desk) = (dir.path().join("there"), dir.path().join("desk"));
    let ledger = haul(Ledger::open(&there).unwrap(), head("c0000001", 4, "fan"), THREE_DAYS, 0.2);
    let mut sender = Sender::new(Membership::join(&there, &address, "north").unwrap()).unwrap();
    let began = Instant::now();
    while sender.step(&ledger).unwrap().more || ledger.unsent().unwrap() > 0 {}
    println!("72 hours of {THREE_DAYS} samples sent in {:.1?}", began.elapsed());
    drop(Ledger::open(&desk).unwrap());
    Membership::join_to_read(&desk, &address).unwrap();
    fleet::Mirror::open(&desk).unwrap().pull().unwrap();
    let mut app = App::new(desk, false, Theme::new(Depth::True)).unwrap();
    app.show_fleet(true).unwrap();
    app.act(Action::GoLedger);
    let area = Rect::new(0, 0, 160, 47);
    let mut buf = Buffer::empty(area);
    let began = Instant::now();
    app.act(Action::Open);
    views::render(&app, area, &mut buf);
    let first = began.elapsed();
    let from = if app.haul.loading.is_some() { "its overview" } else { "the whole" };
    assert!(app.haul.kept.as_ref().is_some_and(|k| k.readings.series().len() > 1000), "there is a picture");
    app.finish_loading();
    views::render(&app, area, &mut buf);
    println!(
        "  opened from the fleet: first frame from {from} in {first:.1?} (asked 500 ms), the whole in {:.1?}",
        began.elapsed()
    );
}

fn three_days() {
    let dir = tempfile::tempdir().unwrap();
    let mut ledger = Ledger::open(dir.path()).unwrap();
    let hauls: Vec<String> = (0..10).map(|i| format!("c{i:07}")).collect();
    for (i, name) in hauls.iter().enumerate() {
        let cooling = if i % 2 == 0 { "bare" } else { "fan" };
        let mut head = head(name, 4, cooling);
        head.started_unix_ms += i as i64 * 300_000_000;
        ledger = haul(ledger, head, THREE_DAYS, 0.2 + 0.01 * (i % 2) as f64);
    }
    let times = (0..5)
        .map(|_| {
            let began = Instant::now();
            let compared = Compared::of(&ledger, &hauls, None, None).unwrap();
            assert_eq!(compared.contrast.sides.len(), 2);
            std::hint::black_box(compared.overlay(Ruler::Moved, 320));
            began.elapsed()
        })
        .collect();
    println!("contrast of ten hauls of {THREE_DAYS} samples: {:.1?} (median of 5)", median(times));
    let began = Instant::now();
    let mut events = 0usize;
    ledger.replay(&hauls[0], |_| events += 1).unwrap();
    let decoded = began.elapsed();
    let began = Instant::now();
    let readings = ledger.readings(&hauls[0]).unwrap();
    let folded = began.elapsed();
    let conclusions = readings.conclude();
    let read = began.elapsed();
    println!(
        "record of 72 hours: {events} events decoded in {decoded:.1?}, folded in {folded:.1?}, concluded {:.1?} later",
        read - folded
    );
    let began = Instant::now();
    let scene = hollow_mile_charts::lanes::lanes(&readings, &conclusions, Ruler::Elapsed);
    let svg = scene.to_svg();
    let drawn = began.elapsed();
    let pdf = hollow_mile_charts::pdf::pages(std::slice::from_ref(&scene)).unwrap();
    println!(
        "chart of 72 hours: {drawn:.1?} to draw as SVG ({} kB), {:.1?} more as PDF ({} kB), after {read:.1?} to read the record",
        svg.len() / 1000,
        began.elapsed() - drawn,
        pdf.len() / 1000
    );
}

fn main() {
    let asked = |word: &str| std::env::args().any(|a| a == word);
    if asked("many") {
        return hundred_thousand();
    }
    if asked("fleet") {
        return from_the_fleet();
    }
    if !asked("long") {
        ten_thousand();
    }
    three_days();
}
