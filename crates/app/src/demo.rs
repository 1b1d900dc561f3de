//! The demo: the survey ship *Kittiwake* picks drives for her sonar recorder bay. Makers, models, serials and hauls are
//! invented; the hauls are really run, on the simulated drives that ship, and are the same on every machine.

use std::io::Write;
use std::path::Path;
use std::time::Duration;

use hollow_mile_core::drive::Drive;
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Conditions, Event, HaulState};
use hollow_mile_core::route;
use hollow_mile_drives::sim::{self, SimDrive};
use hollow_mile_ledger::Ledger;

use crate::error::AppError;
use crate::told::estimate::forecast_of;
use crate::told::held_to::held_to;

/// Changes whenever the demo's hauls do: an older demo is built anew.
const STAMP: &str = "hollow-mile demo 13\n";
/// 2026-09-14 06:00 UTC: the week before the survey.
const FIRST_DAY_MS: i64 = 1_789_365_600_000;

struct DemoHaul {
    haul: &'static str,
    drive: &'static str,
    route: &'static str,
    hours_later: i64,
    ambient: f64,
    cooling: &'static str,
    label: &'static str,
    /// Longer samples for a record of half a day.
    interval_ms: u64,
    repeat: u64,
    notes: &'static [(u64, &'static str)],
    ends: Ends,
}

enum Ends {
    ByItself,
    StoppedAfter(u64),
    /// As after a loss of power: nothing closes the record.
    CutShortAfter(u64),
}

const fn plain(haul: &'static str, drive: &'static str, route: &'static str, hours_later: i64) -> DemoHaul {
    DemoHaul {
        haul,
        drive,
        route,
        hours_later,
        ambient: 24.0,
        cooling: "",
        label: "",
        interval_ms: 100,
        repeat: 0,
        notes: &[],
        ends: Ends::ByItself,
    }
}

const HAULS: &[DemoHaul] = &[
    DemoHaul { label: "as delivered", ..plain("a3f1907c", "moraine-1t", "long-haul", 0) },
    DemoHaul {
        cooling: "fan",
        label: "with the bay's fan",
        notes: &[(20, "fan at 1 200 rpm"), (200, "fan up to 1 800 rpm")],
        ..plain("5b20d4e8", "moraine-1t", "long-haul", 1)
    },
    DemoHaul {
        ambient: 38.0,
        cooling: "heatsink",
        label: "heatsink, bay at 38 °C",
        ..plain("c81e66f2", "moraine-1t", "long-haul", 2)
    },
    DemoHaul { repeat: 1, label: "bare, again", ..plain("61c0f7a8", "moraine-1t", "long-haul", 29) },
    DemoHaul { repeat: 2, label: "bare, third", ..plain("9e4417d2", "moraine-1t", "long-haul", 53) },
    DemoHaul {
        repeat: 3,
        cooling: "fan",
        label: "fan, again",
        ..plain("0fd2b96c", "moraine-1t", "long-haul", 77)
    },
    DemoHaul {
        repeat: 4,
        cooling: "fan",
        label: "fan, third",
        ..plain("d7a835e1", "moraine-1t", "long-haul", 99)
    },
    DemoHaul {
        ambient: 38.0,
        cooling: "heatsink",
        notes: &[(600, "line 14 simulated, bay door shut")],
        ..plain("7f3a915d", "corrie-2t", "long-haul", 26)
    },
    DemoHaul {
        repeat: 1,
        label: "second of three",
        ends: Ends::StoppedAfter(420),
        ..plain("e90b7a41", "corrie-2t", "long-haul", 28)
    },
    DemoHaul {
        cooling: "heatsink",
        label: "nine-hour line",
        notes: &[(2460, "fan on"), (9000, "deck washed down, bay damp")],
        ..plain("2d64c0b9", "ptarmigan-4t", "long-haul", 48)
    },
    plain("94ae12f7", "ptarmigan-4t", "breather", 58),
    DemoHaul { repeat: 1, ..plain("b7752c06", "ptarmigan-4t", "cache-edge", 60) },
    DemoHaul {
        interval_ms: 1000,
        label: "archive, first pass",
        notes: &[(13_900, "knocking noise from the shelf")],
        ..plain("18d9e35a", "skerry-8t", "long-haul", 72)
    },
    DemoHaul {
        repeat: 2,
        label: "bench lost power",
        ends: Ends::CutShortAfter(95),
        ..plain("d05c8b3e", "corrie-2t", "long-haul", 96)
    },
    plain("6c02be91", "skerry-8t", "ground", 100),
    plain("f4417a0d", "skerry-8t", "spans", 126),
    plain("0be5d3c8", "corrie-2t", "high-water", 128),
    plain("a77c1e52", "corrie-2t", "ladder", 132),
    DemoHaul { label: "found in a drawer", ..plain("3391f06b", "gannet-256", "proof", 134) },
    DemoHaul {
        ambient: 38.0,
        label: "the sonar's stream",
        ..plain("58ad20c4", "ptarmigan-4t", "stream", 138)
    },
];

/// Builds the demo's ledger in its own folder, if it is not there.
///
/// # Errors
/// When the folder cannot be written.
pub fn prepare(home: &Path) -> Result<(), AppError> {
    let stamp = home.join("demo.stamp");
    if std::fs::read_to_string(&stamp).is_ok_and(|s| s == STAMP) {
        return Ok(());
    }
    // Only what the demo itself makes is taken away.
    for name in ["ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm"] {
        let path = home.join(name);
        match std::fs::remove_file(&path) {
            Err(e) if e.kind() != std::io::ErrorKind::NotFound => {
                return Err(AppError::file(&path, "replaced", &e));
            }
            _ => {}
        }
    }
    let mut err = std::io::stderr();
    let mut ledger = Ledger::open(home)?;
    for (i, demo) in HAULS.iter().enumerate() {
        let _ = write!(err, "\rbuilding the demo ledger: haul {} of {}", i + 1, HAULS.len());
        let _ = err.flush();
        ledger = build(ledger, demo, home)?;
    }
    let _ = writeln!(err, "\r{:60}\r", "");
    // Opening marks the haul that was cut short.
    drop(ledger);
    Ledger::open(home)?;
    std::fs::write(&stamp, STAMP).map_err(|e| AppError::file(&stamp, "written", &e))
}

fn build(ledger: Ledger, demo: &DemoHaul, home: &Path) -> Result<Ledger, AppError> {
    let missing = || AppError::usage(format!("the demo's {} or {} does not ship", demo.drive, demo.route));
    let mut spec = sim::shipped(demo.drive).ok_or_else(missing)?;
    if let Some(worn) = ledger.wear(&spec.serial)?.first().and_then(|w| w.after.host_bytes_written) {
        spec.wear.host_written = spec.wear.host_written.max(worn);
    }
    let mut route = route::shipped(demo.route).ok_or_else(missing)?;
    route.interval = Duration::from_millis(demo.interval_ms);
    let some = |t: &str| (!t.is_empty()).then(|| t.to_owned());
    let conditions = Conditions {
        ambient: Some(Celsius::new(demo.ambient)),
        cooling: some(demo.cooling),
        label: some(demo.label),
        slot: Some("bay 2".into()),
        ..Conditions::default()
    };
    let drive = SimDrive::new(spec, &format!("sim:{}", demo.drive), &conditions, demo.repeat);
    let forecast = forecast_of(&ledger, &ledger.hauls()?, drive.identity(), &route, &conditions);
    let held_to = held_to(&ledger, drive.identity(), &route, &conditions)?;
    let setup = Setup {
        conditions,
        started_unix_ms: FIRST_DAY_MS + demo.hours_later * 3_600_000,
        program: env!("CARGO_PKG_VERSION").into(),
        forecast,
        held_to,
        ..Setup::plain(demo.haul, route)
    };
    let mut haul = Haul::new(drive, setup);
    let mut events = Vec::new();
    haul.step(&mut events);
    let Some(Event::HaulStarted(head)) = events.first() else {
        return Err(AppError::usage("a demo haul did not begin"));
    };
    let mut writer = ledger.begin(head)?;
    let mut readings = Readings::new();
    let mut notes = demo.notes.iter().peekable();
    loop {
        for event in events.drain(..) {
            readings.push(&event);
            writer.push(event)?;
        }
        let seconds = haul.elapsed().as_secs();
        while let Some((_, words)) = notes.next_if(|(at, _)| seconds >= *at) {
            haul.note(words, &mut events);
        }
        match demo.ends {
            Ends::StoppedAfter(s) if seconds >= s => haul.stop(),
            Ends::CutShortAfter(s) if seconds >= s => {
                writer.commit()?;
                drop(writer);
                return Ok(Ledger::open(home)?);
            }
            _ => {}
        }
        if let Progress::Ended(state) = haul.step(&mut events) {
            for event in events.drain(..) {
                readings.push(&event);
                writer.push(event)?;
            }
            debug_assert!(matches!(state, HaulState::Done | HaulState::Stopped));
            return Ok(writer.finish(state, None, &readings, &readings.conclude())?);
        }
    }
}
