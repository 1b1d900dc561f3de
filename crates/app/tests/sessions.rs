//! Hauls under way, without the interface: the controls, the clock of a simulated drive, what is kept.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::Path;
use std::time::{Duration, Instant};

use hollow_mile::command::{Command, Speed};
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target, Wish};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::record::{Conditions, Event, HaulState};
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

fn start(home: &Path, legs: &str, speed: Speed) -> Session {
    let ledger = Ledger::open(home).unwrap();
    let conditions = Conditions::default();
    let opened = targets::open(
        &Target::Sim("corrie-2t".into()),
        &Wish { conditions: conditions.clone(), ..Wish::default() },
    )
    .unwrap();
    let setup = Setup {
        conditions,
        program: "test".into(),
        ..Setup::plain(
            &ledger.new_haul_id().unwrap(),
            Route::from_toml(&format!("name='x'\n{legs}")).unwrap(),
        )
    };
    Session::start(opened, setup, ledger, speed).unwrap()
}

const LONG: &str = "[[leg]]\nkind='write'\nuntil={duration='10 h'}";

/// Takes events until the drive's clock has passed `elapsed`, and gives them.
fn until(session: &Session, elapsed: Duration) -> Vec<Event> {
    let began = Instant::now();
    let mut all = Vec::new();
    while all.last().is_none_or(|e: &Event| e.at() < elapsed) {
        all.extend(session.next_events(Duration::from_millis(100)).unwrap_or_default());
        assert!(began.elapsed() < Duration::from_secs(30), "the drive's clock does not get to {elapsed:?}");
    }
    all
}

#[test]
fn a_simulated_clock_keeps_its_pace_stands_and_goes_on() {
    let dir = tempfile::tempdir().unwrap();
    let session = start(dir.path(), LONG, Speed::Times(60.0));
    let began = Instant::now();
    let seen = until(&session, Duration::from_secs(60));
    let ahead = seen.last().unwrap().at().as_secs_f64() / began.elapsed().as_secs_f64();
    assert!(ahead < 75.0, "{ahead} times real time at a speed of 60");
    session.ask(Command::Pause(true));
    // What was on its way when the clock was stopped still arrives.
    while session.next_events(Duration::from_millis(400)).is_some() {}
    assert!(session.next_events(Duration::from_millis(500)).is_none(), "the clock stands");
    session.ask(Command::Note("still here".into()));
    session.ask(Command::Pause(false));
    session.ask(Command::Speed(Speed::Most));
    until(&session, Duration::from_secs(600));
    session.ask(Command::Stop);
    let outcome = session.finish().unwrap();
    assert_eq!(outcome.state, HaulState::Stopped);
    assert_eq!(outcome.readings.notes()[0].1, "still here");
    // No sample is missing for the time that the clock stood: it did not run.
    let s = outcome.readings.series();
    assert!((1..s.len()).all(|i| s.end(i) - s.end(i - 1) <= Duration::from_millis(101)));
}

#[test]
fn what_is_shown_what_is_returned_and_what_is_kept_are_the_same() {
    let dir = tempfile::tempdir().unwrap();
    let legs = "[[leg]]\nkind='write'\nuntil={bytes='300 GB'}\n[[leg]]\nkind='rest'\nuntil={duration='20 s'}";
    let session = start(dir.path(), legs, Speed::Most);
    let haul = session.haul.clone();
    let mut shown = Vec::new();
    while let Ok(more) = session.try_events() {
        shown.extend(more.unwrap_or_default());
    }
    let outcome = session.finish().unwrap();
    let ledger = Ledger::open(dir.path()).unwrap();
    let mut kept = Vec::new();
    ledger.replay(&haul, |e| kept.push(e.clone())).unwrap();
    assert_eq!(shown, kept);
    assert_eq!(ledger.readings(&haul).unwrap().conclude(), outcome.conclusions);
    assert_eq!(outcome.conclusions.findings.len(), 2, "both levels of the cache end within 300 GB");
    let row = ledger.haul(&haul).unwrap();
    assert_eq!((row.state, row.written), (HaulState::Done, outcome.readings.written()));
}

#[test]
fn a_ledger_that_can_no_longer_be_written_stops_the_haul_and_says_so() {
    let dir = tempfile::tempdir().unwrap();
    let session = start(dir.path(), LONG, Speed::Times(240.0));
    until(&session, Duration::from_secs(10));
    // The tables go while the haul runs, as when somebody else's program writes over the file.
    let done = meddle(dir.path(), "DROP TABLE batches");
    assert!(done);
    let error = session.finish().err().map(|e| e.message).unwrap_or_default();
    assert!(error.contains("the haul was stopped because"), "{error}");
}

fn meddle(home: &Path, sql: &str) -> bool {
    let db = rusqlite::Connection::open(home.join("ledger.sqlite")).unwrap();
    db.busy_timeout(Duration::from_secs(5)).unwrap();
    db.execute_batch(sql).is_ok()
}

#[test]
fn speeds_step_up_to_as_fast_as_possible_and_down_to_real_time() {
    let mut speed = Speed::Times(1.0);
    for _ in 0..20 {
        speed = speed.faster();
    }
    assert_eq!(speed, Speed::Most);
    for _ in 0..20 {
        speed = speed.slower();
    }
    assert_eq!((speed, speed.words().as_str()), (Speed::Times(1.0), "real time"));
}
