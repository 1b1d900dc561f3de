//! Hauls that outlive their terminal: who watches sees what the record has, and one at a time holds the controls.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::time::{Duration, Instant};

use common::{Bench, Terminal, exists, wait_until};
use hollow_mile::command::{Command, Speed};
use hollow_mile::orders::{Orders, Seat};
use hollow_mile::session::Session;
use hollow_mile::watch::watching::{self, Watching};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::{Conditions, Event};
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

/// A route that goes on for ten minutes, at a pace that leaves the machine to others.
fn quiet_route(bench: &Bench) -> String {
    let route = bench.path("quiet.toml");
    let legs = "[[leg]]\nkind = \"write\"\nrate = \"4 MB/s\"\nblock = \"256 KiB\"\nuntil = { duration = \"10 min\" }\n";
    std::fs::write(&route, format!("name = \"quiet\"\n{legs}")).unwrap();
    route
}

fn detached(bench: &Bench, target: &str) -> String {
    let begun = bench.json(&[
        "haul",
        &quiet_route(bench),
        "--on",
        &format!("file:{target}"),
        "--size",
        "64MiB",
        "--detach",
        "--json",
    ]);
    assert_eq!(begun["state"], "running");
    begun["haul"].as_str().unwrap().to_owned()
}

fn state_of(bench: &Bench) -> String {
    bench.json(&["ledger", "--json"])[0]["state"].as_str().unwrap().to_owned()
}

#[test]
fn two_terminals_watch_one_haul_and_one_of_them_has_the_controls() {
    let bench = Bench::new();
    let target = bench.path("quiet.hm");
    let haul = detached(&bench, &target);
    // Nobody else may speak to it.
    let live = bench.dir.path().join("home/live");
    let mode = |p: &Path| std::fs::metadata(p).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&live), mode(&live.join(format!("{haul}.socket")))), (0o700, 0o600));

    let one = Terminal::start(&bench, "watch", 140, 40);
    one.sees("leg 1 of 1, write");
    let two = Terminal::start(&bench, &format!("watch {}", &haul[..4]), 140, 40);
    two.sees("on 2 terminals");
    one.keys(&["Space"]);
    one.sees("paused");
    let seen = two.sees("paused");
    assert!(seen.contains("has them"), "{seen}");
    // The other is refused until it takes them.
    two.keys(&["Space"]);
    two.sees("holds the controls of this haul. C takes them over.");
    // And told so before it types, not after.
    two.keys(&["n"]);
    std::thread::sleep(Duration::from_millis(300));
    assert!(!two.screen().contains("note for the record"), "{}", two.screen());
    let refused = bench.refusal(&["tell", "last", "note", "lid open"], 2);
    assert!(refused.contains("holds the controls"), "{refused}");
    two.keys(&["C"]);
    one.sees("has them");
    two.keys(&["Space"]);
    one.sees("leg 1 of 1, write");
    bench.json(&["tell", "last", "note", "lid open", "--take-over", "--json"]);
    one.sees("lid open");
    two.sees("lid open");

    // Leaving is no end.
    one.keys(&["q"]);
    one.sees("goes on");
    one.sees("left with 0");
    drop(two);
    wait_until("both to be gone", || bench.json(&["live", "--json"])[0]["watchers"] == 0);
    let row = &bench.json(&["live", "--json"])[0];
    assert!(row["controls"].is_null() && row["process"].as_u64().unwrap() > 1, "{row}");
    assert_eq!(row["haul"], haul.as_str());
    bench.json(&["tell", &haul, "stop", "--json"]);
    wait_until("the record to be closed", || state_of(&bench) == "stopped");
    wait_until("the file to be removed", || !exists(&target));
    wait_until("the socket to go", || std::fs::read_dir(&live).unwrap().next().is_none());
    let over = bench.refusal(&["tell", &haul, "pause"], 2);
    assert!(over.contains("is over"), "{over}");
}

#[test]
fn a_haul_started_to_go_on_survives_its_closed_terminal_and_is_shown_live_again() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "", 140, 40);
    t.chooses_a_file();
    t.keys(&["j", "j", "j", "j", "j"]);
    t.sees("▸ when left");
    t.keys(&["Enter"]);
    t.sees("goes on");
    t.keys(&["Tab", "j", "j"]);
    t.starts();
    t.sees("leg 1 of 3, rest");
    t.keys(&["e"]);
    t.sees("End this leg now?");
    t.keys(&["y"]);
    t.sees("leg 2 of 3, write");
    drop(t);
    let t = Terminal::start(&bench, "", 140, 40);
    t.sees("is kept by another program");
    t.keys(&["g", "w"]);
    t.sees("leg 2 of 3, write");
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("stopped");
    wait_until("the record to be closed", || state_of(&bench) == "stopped");
    t.keys(&["q"]);
    t.sees("left with 0");
}

#[test]
fn a_closed_terminal_stops_a_haul_or_does_not_as_it_was_told() {
    for (hang_up, state) in [("stop", "stopped"), ("go-on", "running")] {
        let bench = Bench::new();
        let target = bench.path("quiet.hm");
        let args =
            format!("haul {} --on file:{target} --size 64MiB --hang-up {hang_up}", quiet_route(&bench));
        let t = Terminal::start(&bench, &args, 100, 30);
        wait_until("the haul to begin", || exists(&target));
        drop(t);
        std::thread::sleep(Duration::from_secs(2));
        assert_eq!(state_of(&bench), state);
        assert_eq!(exists(&target), state == "running");
        if state == "running" {
            bench.json(&["tell", "last", "stop", "--json"]);
            wait_until("the record to be closed", || state_of(&bench) == "stopped");
        }
    }
}

#[test]
fn a_killed_keeper_leaves_a_true_state_and_a_known_file() {
    let bench = Bench::new();
    let target = bench.path("quiet.hm");
    let haul = detached(&bench, &target);
    std::thread::sleep(Duration::from_millis(1500));
    let process = bench.json(&["live", "--json"])[0]["process"].as_u64().unwrap().to_string();
    let t = Terminal::start(&bench, "watch", 120, 36);
    t.sees("leg 1 of 1, write");
    std::process::Command::new("kill").args(["-KILL", &process]).status().unwrap();
    t.sees("cut-short");
    assert_eq!(state_of(&bench), "cut-short");
    assert_eq!(bench.json(&["live", "--json"]).as_array().unwrap().len(), 0);
    let left = bench.json(&["leftovers", "--remove", "--json"]);
    assert_eq!((left[0]["haul"].as_str(), exists(&target)), (Some(haul.as_str()), false));
}

fn orders(home: &Path, drive: &str, size: Option<Bytes>, legs: &str, speed: Speed) -> Orders {
    let seat = Seat {
        drive: drive.into(),
        size,
        conditions: Conditions::default(),
        erase: None,
        give_up: Vec::new(),
        thermometers: Vec::new(),
        meters: Vec::new(),
        number: 0,
    };
    Orders {
        home: home.to_owned(),
        route: Route::from_toml(&format!("name='x'\n{legs}")).unwrap(),
        seats: vec![seat],
        continues: None,
        repeat: 1,
        speed,
        metrics: None,
        ends_with_starter: false,
    }
}

/// A simulated haul in this process, which others can watch.
fn simulated(home: &Path, legs: &str, speed: Speed) -> Session {
    let orders = orders(home, "sim:corrie-2t", None, legs, speed);
    let ready = orders.open(0).unwrap();
    let mut session = orders.begin(ready, None).unwrap().remove(0).1;
    session.look_away();
    session
}

#[test]
fn what_is_made_for_a_haul_is_known_before_the_haul_begins() {
    let dir = tempfile::tempdir().unwrap();
    let (home, place) = (dir.path().join("home"), dir.path().join("place"));
    std::fs::create_dir(&place).unwrap();
    let ledger = Ledger::open(&home).unwrap();
    let write = "[[leg]]\nkind='write'\nuntil={duration='1 s'}";
    let fill = format!("{write}\n[[leg]]\nkind='fill'\nlevel='1 %'\n");
    let tree = "[[leg]]\nkind='freight'\ncarry='write'\ncount=3\nfiles=[{size='4 KiB',share='100 %'}]\n";
    let file = format!("file:{}", place.join("a.hm").display());
    let folder = format!("folder:{}", place.display());
    let size = Some(Bytes::new(1 << 20));
    for (drive, size, legs, made) in
        [(&file, size, write, 1), (&file, size, &*fill, 2), (&folder, None, tree, 1)]
    {
        // Killed between here and its beginning, it would leave these.
        let ready = orders(&home, drive, size, legs, Speed::Most).open(0).unwrap();
        let left = ledger.leftovers().unwrap();
        assert!(left.len() == made && left.iter().all(|l| l.certain && l.path.exists()), "{drive}: {left:?}");
        drop(ready);
        assert!(ledger.leftovers().unwrap().is_empty() && std::fs::read_dir(&place).unwrap().count() == 0);
    }
}

fn all_of(watching: &Watching, pause: Duration) -> Vec<Event> {
    let (began, mut seen) = (Instant::now(), Vec::new());
    while let Ok(more) = watching.try_events() {
        match more {
            Some(more) => seen.extend(more),
            None => std::thread::sleep(Duration::from_millis(1)),
        }
        std::thread::sleep(pause);
        assert!(began.elapsed() < Duration::from_secs(60), "the haul does not end");
    }
    seen
}

#[test]
fn whoever_watches_early_late_or_slowly_sees_what_the_record_has() {
    let dir = tempfile::tempdir().unwrap();
    let session =
        simulated(dir.path(), "[[leg]]\nkind='write'\nuntil={duration='60 min'}", Speed::Times(600.0));
    let haul = session.haul.clone();
    let watchers: Vec<_> = [(0, 0), (700, 0), (900, 60)]
        .into_iter()
        .map(|(late_ms, slow_ms)| {
            let (home, haul) = (dir.path().to_owned(), haul.clone());
            std::thread::spawn(move || {
                std::thread::sleep(Duration::from_millis(late_ms));
                let watching = Watching::attach(&home, &haul).unwrap();
                all_of(&watching, Duration::from_millis(slow_ms))
            })
        })
        .collect();
    std::thread::sleep(Duration::from_millis(1200));
    let desk = watching::tell(dir.path(), &haul, Command::Note("fan on".into()), false).unwrap();
    assert!(desk.yours && desk.watchers >= 2, "{desk:?}");
    watching::tell(dir.path(), &haul, Command::Speed(Speed::Most), false).unwrap();
    session.finish().unwrap();
    let mut kept = Vec::new();
    Ledger::open(dir.path()).unwrap().replay(&haul, |e| kept.push(e.clone())).unwrap();
    assert!(
        kept.len() > 36_000 && kept.iter().any(|e| matches!(e, Event::Note { text, .. } if text == "fan on"))
    );
    for watcher in watchers {
        let seen = watcher.join().unwrap();
        assert_eq!(seen.len(), kept.len());
        assert!(seen == kept, "what was seen is not what was kept");
    }
}
