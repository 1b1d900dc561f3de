//! The fleet as people use it: the program, several benches, a real PostgreSQL server.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;
#[path = "../../ledger/tests/server/mod.rs"]
mod server;

use std::io::Write;
use std::process::{Command, Stdio};
use std::time::Duration;

use common::{Bench, wait_until};
use hollow_mile::ui::actions::Action;
use hollow_mile::ui::app::App;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulHead, HaulState, Sample};
use hollow_mile_core::route;
use hollow_mile_ledger::{HaulWriter, Ledger};
use serde_json::Value;
use server::Server;

fn joined(server: &Server, name: &str) -> Bench {
    let bench = Bench::new();
    let out = bench.run(&["fleet", "join", &server.url("keeper"), "--bench", name]);
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    bench
}

fn status(bench: &Bench) -> Value {
    bench.json(&["fleet", "status", "--json"])
}

fn all_sent(bench: &Bench) {
    wait_until("all is sent", || status(bench)["unsent_hauls"] == 0);
}

#[test]
fn what_one_bench_hauls_another_reads_and_takes_together() {
    let server = Server::start();
    let north = Bench::new();
    let early = north.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json"]);
    assert!(north.refusal(&["fleet", "join", &server.url("keeper")], 2).contains("fleet init"));
    assert!(north.run(&["fleet", "init", &server.url("keeper")]).status.success());
    assert!(north.run(&["fleet", "join", &server.url("keeper"), "--bench", "north"]).status.success());
    let south = joined(&server, "south");
    assert!(
        Bench::new()
            .refusal(&["fleet", "join", &server.url("keeper"), "--bench", "south"], 2)
            .contains("named south")
    );
    let later = south.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json", "--tag", "lot=p7"]);
    all_sent(&north);
    all_sent(&south);
    // Nobody asked for it: processes of the benches' own have sent it.
    let benches = status(&north)["benches"].clone();
    let names: Vec<&str> = benches.as_array().unwrap().iter().map(|b| b["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["north", "south"]);
    assert!(benches.as_array().unwrap().iter().all(|b| b["hauls"] == 1));
    let all = north.json(&["--fleet", "ledger", "--json"]);
    assert_eq!(all.as_array().unwrap().len(), 2);
    assert_eq!(north.json(&["ledger", "--json"]).as_array().unwrap().len(), 1, "its own stays its own");
    for (bench, haul) in [("north", &early), ("south", &later)] {
        let id = haul["haul"].as_str().unwrap();
        let row =
            all.as_array().unwrap().iter().find(|r| r["haul"].as_str().unwrap().starts_with(id)).unwrap();
        assert_eq!(row["tags"]["bench"], bench);
        let read = north.json(&["--fleet", "findings", id, "--json"]);
        assert_eq!(read["findings"], haul["findings"], "as if it were here");
    }
    assert_eq!(north.json(&["--fleet", "ledger", "lot=p7", "--json"]).as_array().unwrap().len(), 1);
    // One serial on both benches: one drive with two hauls.
    let batch = north.json(&["--fleet", "batch", "--json"]);
    assert_eq!(
        (batch["drives"].as_array().unwrap().len(), batch["hauls"].as_u64()),
        (1, Some(1)),
        "copies count once"
    );
    // The address stands in no process list and in no record.
    let listed = std::process::Command::new("ps").args(["axww", "-o", "args"]).output().unwrap();
    let listed = String::from_utf8_lossy(&listed.stdout).into_owned();
    assert!(!listed.lines().any(|l| l.contains("keep-fleet") && l.contains("postgres:")), "{listed}");
    // Nothing is kept in the copy of the others' hauls.
    let csv = north.path("out.csv");
    assert!(north.run(&["export", early["haul"].as_str().unwrap(), "-o", &csv]).status.success());
    assert!(north.refusal(&["--fleet", "import", &csv], 6).contains("leave out --fleet"));
    assert!(north.refusal(&["--fleet", "ledger", "--compact", "0"], 6).contains("leave out --fleet"));
    let metrics = north.run(&["fleet", "metrics"]);
    let text = String::from_utf8_lossy(&metrics.stdout).into_owned();
    assert!(
        text.contains("hollow_mile_fleet_hauls{bench=\"south\"} 1") && text.ends_with("# EOF\n"),
        "{text}"
    );
    // As those who scrape it see it.
    let mut checker = Command::new("promtool")
        .args(["check", "metrics"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("promtool; scripts/test installs it");
    checker.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    let checked = checker.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&checked.stdout) + String::from_utf8_lossy(&checked.stderr);
    assert!(checked.status.success() && said.trim().is_empty(), "{said}\n{text}");
    assert!(north.run(&["fleet", "leave"]).status.success());
    assert!(north.refusal(&["fleet", "leave"], 2).contains("in no fleet"));
    assert!(north.refusal(&["--fleet", "ledger"], 2).contains("fleet join"));
}

#[test]
fn a_server_that_is_away_holds_nothing_up_and_gets_all_of_it_later() {
    let server = Server::start();
    let bench = Bench::new();
    assert!(bench.run(&["fleet", "init", &server.url("keeper")]).status.success());
    let bench = joined(&server, "north");
    all_sent(&bench);
    server.down("immediate");
    let haul = bench.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json"]);
    assert_eq!(haul["state"], "done");
    let now = status(&bench);
    assert_eq!(now["unsent_hauls"], 1);
    assert!(now["trouble"].as_str().unwrap().contains("no server answers"), "{now}");
    assert!(bench.refusal(&["fleet", "send"], 6).contains("hauls go on"));
    let read = bench.run(&["--fleet", "ledger", "--json"]);
    assert!(read.status.success() && String::from_utf8_lossy(&read.stderr).contains("what was read before"));
    server.up();
    assert!(bench.run(&["fleet", "send"]).status.success());
    all_sent(&bench);
    let all = bench.json(&["--fleet", "ledger", "--json"]);
    assert_eq!(all.as_array().unwrap().len(), 1);
}

fn seconds(writer: &mut HaulWriter, from: u64, to: u64) {
    for i in from..to {
        let end = Duration::from_secs(i + 1);
        let written = Bytes::from_mib(900);
        writer
            .push(Event::Sample(Sample { end, span: Duration::from_secs(1), written, ..Sample::default() }))
            .unwrap();
    }
    writer.commit().unwrap();
}

#[test]
fn what_another_bench_hauls_now_is_seen_as_it_comes() {
    let server = Server::start();
    let north = Bench::new();
    assert!(north.run(&["fleet", "init", &server.url("keeper")]).status.success());
    let north = joined(&server, "north");
    let drive = DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(1000));
    let mut head = HaulHead::plain("aaaa0001", drive, route::shipped("long-haul").unwrap());
    head.started_unix_ms = jiff::Timestamp::now().as_millisecond();
    let mut writer = Ledger::open(&north.dir.path().join("home")).unwrap().begin(&head).unwrap();
    writer.push(Event::HaulStarted(Box::new(head))).unwrap();
    writer.push(Event::LegStarted { at: Duration::ZERO, leg: 0 }).unwrap();
    seconds(&mut writer, 0, 20);
    all_sent(&north);
    let desk = Bench::new();
    assert!(desk.run(&["fleet", "join", &server.url("keeper"), "--only-read"]).status.success());
    assert!(desk.run(&["--fleet", "ledger"]).status.success());
    let mut app = App::new(desk.dir.path().join("home"), false, Theme::new(Depth::Mono)).unwrap();
    app.show_fleet(true).unwrap();
    app.act(Action::GoLedger);
    app.act(Action::Open);
    let sees = |app: &mut App, elapsed: u64, state: HaulState| {
        wait_until("what the other bench committed is on screen", || {
            app.follow(Duration::from_millis(5));
            let kept = app.haul.kept.as_ref().unwrap();
            kept.readings.elapsed() == Duration::from_secs(elapsed) && kept.row.state == state
        });
    };
    sees(&mut app, 20, HaulState::Running);
    seconds(&mut writer, 20, 45);
    sees(&mut app, 45, HaulState::Running);
    seconds(&mut writer, 45, 50);
    let ended = Event::HaulEnded { at: Duration::from_secs(50), state: HaulState::Done, reason: None };
    writer.push(ended).unwrap();
    writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
    sees(&mut app, 50, HaulState::Done);
    wait_until("nothing more is waited for", || {
        app.follow(Duration::from_millis(5));
        app.haul.tail.is_none()
    });
}

#[test]
fn who_keeps_a_fleet_sets_its_rule_and_spreads_it() {
    let (server, one, two) = (Server::start(), Server::start(), Server::start());
    let keeper = Bench::new();
    assert!(keeper.run(&["fleet", "init", &server.url("keeper")]).status.success());
    assert!(keeper.refusal(&["fleet", "tidy"], 2).contains("fleet join"), "who is in none says of which");
    assert!(keeper.run(&["fleet", "join", &server.url("keeper"), "--only-read"]).status.success());
    let said = |args: &[&str]| {
        let out = keeper.run(args);
        assert!(out.status.success(), "{args:?}: {}", String::from_utf8_lossy(&out.stderr));
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    assert!(said(&["fleet", "tidy"]).contains("kept for good"));
    assert!(said(&["fleet", "tidy", "--keep", "400"]).contains("kept for 400 days"));
    assert_eq!(keeper.json(&["fleet", "tidy", "--json"])["records_days"], 400);
    assert!(said(&["fleet", "tidy", "--keep-all"]).contains("kept for good"));
    assert!(
        said(&["fleet", "tidy", "--compact", "90"]).contains("older than 90 days are made smaller: 0 hauls")
    );
    assert_eq!(keeper.json(&["fleet", "tidy", "--compact-none", "--json"])["thin_days"], Value::Null);
    assert!(keeper.refusal(&["fleet", "tidy", "--keep", "0"], 2).contains("1..=36500"));
    let spread = ["fleet", "spread", &one.url("keeper"), &two.url("keeper")];
    assert!(keeper.refusal(&spread[..3], 2).contains("URL"), "one is no spreading");
    assert!(
        keeper
            .refusal(&["fleet", "spread", &one.url("keeper"), "postgres://x@127.0.0.1:1/y"], 6)
            .contains("no server answers")
    );
    assert!(said(&spread).contains("on 2 servers"), "nothing of what failed before was left");
    assert!(keeper.refusal(&spread, 2).contains("spread over several servers already"));
    let told = status(&keeper)["records"].clone();
    assert_eq!(told["servers"].as_array().unwrap().len(), 2, "{told}");
    assert!(said(&["fleet", "status"]).contains("records lie on 127.0.0.1:"));
    // What a bench sends lies there, and reads as ever.
    let north = joined(&server, "north");
    let haul = north.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json"]);
    all_sent(&north);
    let read = keeper.json(&["--fleet", "findings", haul["haul"].as_str().unwrap(), "--json"]);
    assert_eq!(read["findings"], haul["findings"]);
}
