//! The months of a fleet's records: an older fleet brought up to date, records let go by a rule, and spread over three servers.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

#[path = "server/benches.rs"]
mod benches;
mod server;

use std::time::Duration;

use benches::{Bench, both, fleet_on, note};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulState, Sample};
use hollow_mile_ledger::fleet::{self, Address, FleetError, Made, Mirror, Rule, Rules};
use server::Server;

/// 2026-11-20, and days before it.
const NOW_MS: i64 = 1_795_132_800_000;
const DAY_MS: i64 = 86_400_000;

fn keep(days: u32) -> Rules {
    Rules { records: Some(Rule::Days(days)), ..Rules::default() }
}

fn count(server: &Server, sql: &str) -> i64 {
    server.client().query_one(sql, &[]).unwrap().get(0)
}

const ALL: &str = "SELECT COUNT(*) FROM hollow_mile.batch";

/// Takes what version 2 brought away again.
const VERSION_1: &str = "
DO $$ DECLARE part TEXT; BEGIN
    FOR part IN SELECT inhrelid::REGCLASS::TEXT FROM pg_inherits WHERE inhparent = 'hollow_mile.batch'::REGCLASS LOOP
        EXECUTE 'DROP INDEX ' || part || '_once';
    END LOOP;
END $$;
ALTER TABLE hollow_mile.batch ADD PRIMARY KEY (month, bench, haul, seq);
DROP TABLE hollow_mile.spread;
ALTER TABLE hollow_mile.fleet DROP COLUMN records_days, DROP COLUMN thin_days, DROP COLUMN let_go_before;
UPDATE hollow_mile.fleet SET version = 1;";

#[test]
fn an_older_fleet_is_brought_up_to_date_with_a_copy() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 3);
    north.send_all();
    server.client().batch_execute(VERSION_1).unwrap();
    north.haul("aaaa0002", 3);
    north.sender = fleet::Sender::new(fleet::Membership::read(north.home()).unwrap().unwrap()).unwrap();
    assert!(matches!(north.sender.step(&north.ledger()), Err(FleetError::Older { found: 1, known: 2 })));
    assert_eq!(fleet::init(&mut address.connect().unwrap(), &address).unwrap(), Made::UpToDate);
    assert_eq!(fleet::init(&mut address.connect().unwrap(), &address).unwrap(), Made::Nothing);
    assert_eq!(count(&server, "SELECT COUNT(*) FROM hollow_mile_version_1.haul"), 1);
    north.ledger().send_all_anew().unwrap();
    north.send_all();
    for haul in ["aaaa0001", "aaaa0002"] {
        let (there, here) = both(&server, &north, haul);
        assert!(here.len() >= 3 && there == here, "{haul}");
    }
    server.client().batch_execute("UPDATE hollow_mile.fleet SET version = 3").unwrap();
    assert!(matches!(fleet::benches(&address), Err(FleetError::Newer { found: 3, known: 2 })));
}

#[test]
fn records_go_by_the_rule_and_figures_stay() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    for (i, days) in [300, 290, 100, 0].into_iter().enumerate() {
        north.haul_at(&format!("aaaa000{i}"), 3, NOW_MS - days * DAY_MS);
    }
    north.send_all();
    let all = count(&server, ALL);
    let kept = fleet::tidy(&address, Rules::default()).unwrap();
    assert_eq!(
        (kept.records_days, kept.let_go, count(&server, ALL)),
        (None, vec![], all),
        "without a rule all stays"
    );
    let tidied = fleet::tidy(&address, keep(200)).unwrap();
    assert!(!tidied.let_go.is_empty() && tidied.records_days == Some(200), "{tidied:?}");
    let left =
        both(&server, &north, "aaaa0003").0.len() as i64 + both(&server, &north, "aaaa0002").0.len() as i64;
    assert_eq!(count(&server, ALL), left);
    assert_eq!(count(&server, "SELECT COUNT(*) FROM hollow_mile.haul"), 4);
    assert_eq!(fleet::tidy(&address, Rules::default()).unwrap().let_go, Vec::<String>::new(), "once");
    // The bench goes on, and does not send what was let go; a reader is told.
    north.ledger().rename("aaaa0000", Some("old")).unwrap();
    north.haul_at("aaaa0004", 3, NOW_MS);
    north.send_all();
    assert!(both(&server, &north, "aaaa0000").0.is_empty());
    let mut mirror = Mirror::open(north.home()).unwrap();
    assert_eq!(mirror.pull().unwrap().hauls, 5);
    let mirror = mirror.into_ledger();
    let refused = mirror.readings("aaaa00000001").unwrap_err().to_string();
    assert!(refused.contains("keeps no records of the month"), "{refused}");
    assert!(mirror.readings("aaaa00040001").is_ok());
    assert_eq!(mirror.haul("aaaa00000001").unwrap().label.as_deref(), Some("old"));
    // One who is no keeper may not.
    server.client().batch_execute("CREATE ROLE guest LOGIN IN ROLE hollow_mile_bench").unwrap();
    let guest: Address = format!("{}&options=-c%20role=guest", server.url("keeper")).parse().unwrap();
    assert!(matches!(fleet::tidy(&guest, keep(1)), Err(FleetError::NotOwner { .. })));
}

#[test]
fn what_came_before_its_month_was_made_moves_into_it() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    server.client().batch_execute("DO $$ DECLARE part TEXT; BEGIN
        FOR part IN SELECT inhrelid::REGCLASS::TEXT FROM pg_inherits
            WHERE inhparent = 'hollow_mile.batch'::REGCLASS AND inhrelid::REGCLASS::TEXT NOT LIKE '%other' LOOP
            EXECUTE 'DROP TABLE ' || part;
        END LOOP;
    END $$;").unwrap();
    let now: i64 = count(&server, "SELECT (EXTRACT(EPOCH FROM CURRENT_TIMESTAMP) * 1000)::BIGINT");
    north.haul_at("aaaa0001", 5, now);
    north.send_all();
    let other = "SELECT COUNT(*) FROM hollow_mile.batch_other";
    let all = count(&server, other);
    assert!(all >= 5);
    assert_eq!(fleet::tidy(&address, Rules::default()).unwrap().made, 16);
    assert_eq!((count(&server, other), count(&server, ALL)), (0, all));
    let (there, here) = both(&server, &north, "aaaa0001");
    assert_eq!(there, here);
}

#[test]
fn records_spread_over_three_servers_and_one_that_is_away_holds_up_only_its_own() {
    let server = Server::start();
    let address = fleet_on(&server);
    let there: Vec<Server> = (0..3).map(|_| Server::start()).collect();
    let urls: Vec<Address> = there.iter().map(|s| s.url("keeper").parse().unwrap()).collect();
    let spread = fleet::spread(&address, &urls).unwrap();
    assert_eq!((spread.servers, spread.months, spread.stay.len()), (3, 16, 0));
    assert!(matches!(fleet::spread(&address, &urls), Err(FleetError::Spread)));
    let now: i64 = count(&server, "SELECT (EXTRACT(EPOCH FROM CURRENT_TIMESTAMP) * 1000)::BIGINT");
    let mut all: Vec<Bench> = (0..8).map(|i| Bench::join(&address, &format!("bench-{i}"))).collect();
    let mut live: Vec<_> = (0..8).map(|i| all[i].begin_at(&format!("bbbb000{i}"), now)).collect();
    for (i, bench) in all.iter_mut().enumerate() {
        note(&mut live[i], 0);
        bench.haul_at(&format!("aaaa000{i}"), 4, now);
        bench.send_all();
    }
    let on = |s: &Server| -> i64 {
        let parts = s
            .client()
            .query("SELECT relname FROM pg_class WHERE relkind = 'r' AND relname LIKE 'batch_2%'", &[])
            .unwrap();
        parts
            .iter()
            .map(|r| count(s, &format!("SELECT COUNT(*) FROM hollow_mile.{}", r.get::<_, String>(0))))
            .sum()
    };
    let each: Vec<i64> = there.iter().map(on).collect();
    assert_eq!(each.iter().sum::<i64>(), count(&server, ALL), "{each:?}");
    assert!(each.iter().filter(|n| **n > 0).count() >= 2, "they are spread: {each:?}");
    // One server crashes: the benches whose records lie on others go on.
    there[0].down("immediate");
    let mut held_up = 0;
    for (i, bench) in all.iter_mut().enumerate() {
        note(&mut live[i], 1);
        bench.ledger().rename(&format!("aaaa000{i}"), Some("while one was away")).unwrap();
        let ledger = bench.ledger();
        let before = ledger.unsent().unwrap();
        assert_eq!(before, 2);
        let stepped = bench.sender.step(&ledger);
        assert!(stepped.is_ok() || stepped.unwrap_err().may_pass());
        held_up += usize::from(ledger.unsent().unwrap() > 0);
    }
    assert!(held_up > 0 && held_up < 8, "{held_up} of 8 wait");
    there[0].up();
    for (i, bench) in all.iter_mut().enumerate() {
        bench.send_all();
        for haul in [format!("aaaa000{i}"), format!("bbbb000{i}")] {
            let (there, here) = both(&server, bench, &haul);
            assert!(here.len() >= 2 && there == here, "{haul}");
        }
    }
    // A bench that is no superuser, on any of them.
    server.client().batch_execute("CREATE ROLE guest LOGIN IN ROLE hollow_mile_bench").unwrap();
    let guest: Address = format!("{}&options=-c%20role=guest", server.url("keeper")).parse().unwrap();
    for i in 0..4 {
        let mut bench = Bench::join(&guest, &format!("guest-{i}"));
        let haul = format!("cccc000{i}");
        bench.haul_at(&haul, 4, now);
        bench.send_all();
        let (there, here) = both(&server, &bench, &haul);
        assert!(here.len() >= 4 && there == here, "{haul}");
    }
    // It reads as if it were one.
    let mut mirror = Mirror::open(all[3].home()).unwrap();
    mirror.pull().unwrap();
    assert!(mirror.into_ledger().readings("aaaa00050006").unwrap().notes().len() == 4);
    // And lets go there, too.
    let in_two_months: i64 = 70 * DAY_MS;
    server
        .client()
        .batch_execute(&format!(
            "UPDATE hollow_mile.haul SET started_unix_ms = started_unix_ms - {in_two_months}, state = 'done'"
        ))
        .unwrap();
    fleet::tidy(&address, keep(1)).unwrap();
    let parts = |s: &Server| {
        count(s, "SELECT COUNT(*) FROM pg_class WHERE relkind = 'r' AND relname LIKE 'batch_2%'")
    };
    assert!(there.iter().all(|s| parts(s) < 16), "old parts are gone");
}

#[test]
fn benches_whose_clocks_are_years_off_do_not_have_the_last_word() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 1);
    // Said by a clock that is a year ahead.
    north.ledger().rename("aaaa0001", Some("from the future")).unwrap();
    let year = 365 * DAY_MS;
    let db = rusqlite::Connection::open(north.home().join("ledger.sqlite")).unwrap();
    db.execute("UPDATE hauls SET edited_unix_ms = edited_unix_ms + ?1", [year]).unwrap();
    north.send_all();
    let desk = Bench::join(&address, "desk");
    let mut mirror = Mirror::open(desk.home()).unwrap();
    mirror.pull().unwrap();
    let ledger = mirror.into_ledger();
    assert_eq!(ledger.haul("aaaa00010001").unwrap().label.as_deref(), Some("from the future"));
    ledger.rename("aaaa00010001", Some("said after it")).unwrap();
    let mut mirror = Mirror::open(desk.home()).unwrap();
    assert_eq!(mirror.pull().unwrap().not_taken, 0);
    north.haul("aaaa0002", 1);
    north.send_all();
    let label = |l: &hollow_mile_ledger::Ledger, haul: &str| l.haul(haul).unwrap().label;
    assert_eq!(label(&north.ledger(), "aaaa0001").as_deref(), Some("said after it"));
    // And by one that is years behind: what it says after that stands as well.
    north.ledger().rename("aaaa0001", Some("the last word")).unwrap();
    north.send_all();
    let mut mirror = Mirror::open(desk.home()).unwrap();
    mirror.pull().unwrap();
    assert_eq!(label(&mirror.into_ledger(), "aaaa00010001").as_deref(), Some("the last word"));
}

#[test]
fn a_backup_comes_back_and_what_was_sent_since_comes_after_it() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 5);
    north.send_all();
    let dump = server.folder().join("dump.sql");
    std::fs::write(&dump, server.tool("pg_dump", &["-n", "hollow_mile", "postgres"])).unwrap();
    server.owned(&dump);
    north.haul("aaaa0002", 5);
    north.send_all();
    // The disk is lost, and the backup put back.
    server.client().batch_execute("DROP SCHEMA hollow_mile CASCADE").unwrap();
    let file = dump.display().to_string();
    server.tool("psql", &["-q", "-v", "ON_ERROR_STOP=1", "-f", &file, "postgres"]);
    assert_eq!(count(&server, "SELECT COUNT(*) FROM hollow_mile.haul"), 1);
    north.ledger().send_all_anew().unwrap();
    north.sender = fleet::Sender::new(fleet::Membership::read(north.home()).unwrap().unwrap()).unwrap();
    north.send_all();
    for haul in ["aaaa0001", "aaaa0002"] {
        let (there, here) = both(&server, &north, haul);
        assert!(here.len() >= 5 && there == here, "{haul}");
    }
}

#[test]
fn old_records_are_made_smaller_by_the_rule_and_say_the_same() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    for (haul, days) in [("aaaa0001", 100), ("aaaa0002", 0)] {
        let mut writer = north.begin_at(haul, NOW_MS - days * DAY_MS);
        let mut readings = Readings::new();
        let mut push = |event: Event| {
            readings.push(&event);
            writer.push(event).unwrap();
        };
        push(Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for i in 1..=6000u32 {
            let written = Bytes::new(
                if i < 3000 { 300_000_000 } else { 60_000_000 } + u64::from(i * 7919 % 1000) * 1000,
            );
            let (end, span) = (Duration::from_millis(100) * i, Duration::from_millis(100));
            push(Event::Sample(Sample { end, span, written, ..Sample::default() }));
        }
        push(Event::HaulEnded { at: Duration::from_secs(600), state: HaulState::Done, reason: None });
        let conclusions = readings.conclude();
        writer.finish(HaulState::Done, None, &readings, &conclusions).unwrap();
    }
    north.send_all();
    let home = north.home().to_owned();
    let read = || {
        let mut mirror = Mirror::open(&home).unwrap();
        mirror.pull().unwrap();
        let mirror = mirror.into_ledger();
        let (readings, conclusions) = mirror.concluded("aaaa00010001").unwrap();
        (readings.series().len(), serde_json::to_string(&conclusions.findings).unwrap())
    };
    let folder = home.join("fleet");
    let (all, found) = read();
    assert_eq!(all, 6000);
    assert!(found.contains("cache-end"));
    std::fs::remove_dir_all(&folder).unwrap();
    let rules = Rules { samples: Some(Rule::Days(30)), ..Rules::default() };
    let tidied = fleet::tidy(&address, rules).unwrap();
    assert_eq!((tidied.thin_days, tidied.thinned.hauls), (Some(30), 1), "the other one is not old");
    assert!(tidied.thinned.bytes_after * 3 < tidied.thinned.bytes_before, "{tidied:?}");
    assert_eq!(fleet::tidy(&address, Rules::default()).unwrap().thinned.hauls, 0, "once");
    let (left, still) = read();
    assert!(left < 1200, "{left} samples are left");
    assert_eq!(still, found, "what was concluded from all of them stands");
    // The bench's own is whole, and what is said of it later does not bring the samples back.
    assert_eq!(north.ledger().readings("aaaa0001").unwrap().series().len(), 6000);
    north.ledger().rename("aaaa0001", Some("old")).unwrap();
    north.send_all();
    std::fs::remove_dir_all(&folder).unwrap();
    assert_eq!(read().0, left);
    // Not even when the bench sends all it has once more.
    north.ledger().send_all_anew().unwrap();
    north.send_all();
    std::fs::remove_dir_all(&folder).unwrap();
    assert_eq!(read(), (left, found));
}
