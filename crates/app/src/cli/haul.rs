//! `hollow-mile haul`: runs a route without the interface, with a progress line, and says what was found.

use crate::told::findings;
use crate::told::headline;
use crate::told::power::PowerRow;
use crate::told::wear::WearRow;
use crate::told::words;
use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::conclude::limits;
use hollow_mile_core::conclude::limits::{Judged, Verdict};
use hollow_mile_core::conclude::surveys::Surveys;
use hollow_mile_core::conclude::{Figures, Finding};
use hollow_mile_core::drive::MeterReading;
use hollow_mile_core::drive::stamp::Wrong;
use hollow_mile_core::quantity::units::{Bytes, clock};
use hollow_mile_core::readings::CutLeg;
use hollow_mile_core::record::{Conditions, Event, HaulState};
use hollow_mile_core::route::Limit;
use hollow_mile_ledger::Ledger;
use serde::Serialize;

use super::{HangUp, HaulArgs, say, say_json};
use crate::command::{Command, Speed};
use crate::error::{AppError, Exit};
use crate::metrics::Metrics;
use crate::orders::{Orders, Seat};
use crate::session::{Outcome, Session};
use crate::targets::{self, MeterWish, Target};
use crate::watch::keeper;
use crate::{home, machine, metrics, ui};

/// The object at the end of `haul --json`.
#[derive(Serialize)]
struct HaulDocument<'a> {
    haul: &'a str,
    state: &'a str,
    reason: Option<&'a str>,
    drive: &'a str,
    route: &'a str,
    engine: &'a str,
    elapsed_s: f64,
    written_bytes: u64,
    read_bytes: u64,
    samples: usize,
    errors: u64,
    /// Failed operations by address, the first thousand.
    faults: Vec<FaultRow<'a>>,
    /// What the drive itself began to warn of, and what else went wrong without an address.
    warnings: Vec<&'a str>,
    /// What is to be said of legs: how a wipe was confirmed, how a self-test ended.
    remarks: Vec<&'a str>,
    /// Thermometers and further sensors: the newest reading of each.
    temperatures: Vec<(&'a str, f64)>,
    /// What meters beside it said last.
    #[serde(skip_serializing_if = "<[_]>::is_empty")]
    meters: &'a [MeterReading],
    /// Power, where meters tell it.
    #[serde(skip_serializing_if = "Option::is_none")]
    power: Option<PowerRow>,
    /// What it wrote to its media for what hosts wrote, where it counts that.
    #[serde(skip_serializing_if = "Option::is_none")]
    write_amplification: Option<WearRow>,
    /// How the limits of the route stand.
    limits: &'a [Judged],
    /// What scans, spans, ladders, streams, fill sweeps and verifies say.
    surveys: &'a Surveys,
    /// Legs that were ended by hand.
    cut_legs: &'a [CutLeg],
    findings: &'a [Finding],
    figures: &'a Figures,
}

#[derive(Serialize)]
struct FaultRow<'a> {
    elapsed_s: f64,
    position_bytes: u64,
    message: &'a str,
}

/// What is said of each drive: once for all of them, or once for each in their order.
fn said_of(all: &[String], of: usize, drives: usize, option: &str) -> Result<Option<String>, AppError> {
    match all.len() {
        0 => Ok(None),
        1 => Ok(all.first().cloned()),
        n if n == drives => Ok(all.get(of).cloned()),
        n => Err(AppError::usage(format!(
            "--{option} is given {n} times for {drives} drives: once for all, or once for each in the order of --on"
        ))),
    }
}

/// The meters, each with its unit: one for all, or one for each that is no sensor of the kernel's, in their order.
fn meters(args: &HaulArgs) -> Result<Vec<MeterWish>, AppError> {
    let kernels = |path: &str| path.starts_with("hwmon:");
    let need = args.meters.iter().filter(|(_, path)| !kernels(path)).count();
    if !matches!(args.units.len(), 0 | 1) && args.units.len() != need {
        return Err(AppError::usage(format!(
            "--unit is given {} times for {need} meters: once for all, or once for each that is no hwmon: sensor, in their order",
            args.units.len()
        )));
    }
    if need == 0 && !args.units.is_empty() {
        return Err(AppError::usage(
            "--unit goes with --meter NAME=PATH; sensors of hwmon: say their unit themselves",
        ));
    }
    let mut units = args.units.iter().copied();
    let one = |(name, path): &(String, String)| {
        let unit = match args.units.as_slice() {
            _ if kernels(path) => None,
            [one] => Some(*one),
            _ => units.next(),
        };
        MeterWish { name: name.clone(), path: path.clone(), unit }
    };
    Ok(args.meters.iter().map(one).collect())
}

fn seats(args: &HaulArgs, home: &Path) -> Result<Vec<Seat>, AppError> {
    let mut all = Vec::new();
    let meters = meters(args)?;
    for (i, name) in args.on.iter().enumerate() {
        let said = |all: &[String], option| said_of(all, i, args.on.len(), option);
        let conditions = Conditions {
            ambient: args.ambient,
            cooling: said(&args.cooling, "cooling")?,
            slot: said(&args.slot, "slot")?,
            label: said(&args.label, "label")?,
            source: said(&args.from, "from")?,
            rested_for: None,
            tags: args.tags.clone(),
            earlier: Vec::new(),
            recovers: None,
        };
        let target = Target::parse(name)?;
        if args.on.iter().filter(|o| *o == name).count() > 1 && !matches!(target, Target::Sim(_)) {
            return Err(AppError::usage(format!("{name} is named twice: each drive has one haul at a time")));
        }
        let erase = match &target {
            Target::Device(path) if args.erase.len() > 1 => {
                let serial = machine::device(path, home)?.identity.serial;
                args.erase.iter().find(|e| **e == serial).cloned()
            }
            _ => args.erase.first().cloned(),
        };
        let device = matches!(target, Target::Device(_));
        if !device && args.on.len() == 1 && (!args.erase.is_empty() || !args.give_up.is_empty()) {
            eprintln!("--erase and --give-up are for devices; {name} needs no such consent");
        }
        all.push(Seat {
            drive: name.clone(),
            size: args.size.filter(|_| matches!(target, Target::File(_)) || args.on.len() == 1),
            conditions,
            erase,
            give_up: args.give_up.clone(),
            thermometers: args.thermometers.clone(),
            meters: meters.clone(),
            number: i as u64,
        });
    }
    Ok(all)
}

/// Lets a process of its own keep the hauls, and says which they are, or shows them.
fn detached(args: &HaulArgs, orders: &Orders) -> Result<Exit, AppError> {
    let kept = keeper::start(orders)?;
    for doubt in &kept.doubts {
        eprintln!("{}", words::printable(doubt));
    }
    if args.watch {
        return ui::run(ui::Start::Watch {
            home: orders.home.clone(),
            hauls: kept.hauls.clone(),
            kept: Some(kept),
        });
    }
    if args.json {
        let hauls: Vec<_> = kept
            .hauls
            .iter()
            .zip(&orders.seats)
            .map(|(h, s)| Begun { haul: h, state: "running", drive: &s.drive })
            .collect();
        match hauls.as_slice() {
            [one] => say_json(one)?,
            all => say_json(&serde_json::json!({ "hauls": all }))?,
        }
    } else {
        for (haul, seat) in kept.hauls.iter().zip(&orders.seats) {
            say(&format!(
                "haul {haul} has begun on {} and goes on by itself: `hollow-mile watch {haul}` shows it, `hollow-mile tell {haul} stop` ends it",
                seat.drive
            ))?;
        }
    }
    kept.let_go();
    Ok(Exit::Done)
}

/// What `haul --detach --json` says of each.
#[derive(Serialize)]
struct Begun<'a> {
    haul: &'a str,
    state: &'a str,
    drive: &'a str,
}

pub fn run(args: &HaulArgs) -> Result<Exit, AppError> {
    let home = home::home()?;
    let route = targets::find_route(&args.route, &home)?;
    if args.on.is_empty() {
        return Err(AppError::usage("no drive: say which with --on, such as --on sim:corrie-2t"));
    }
    let orders = Orders {
        seats: seats(args, &home)?,
        home: home.clone(),
        route,
        continues: args.continues.clone(),
        repeat: args.repeat,
        speed: Speed::Most,
        metrics: args.metrics,
        ends_with_starter: args.watch && !args.detach,
    };
    if args.detach || args.watch {
        return detached(args, &orders);
    }
    let stop = Arc::new(AtomicBool::new(false));
    let hung_up = Arc::new(AtomicBool::new(false));
    for (signal, flag) in [
        (signal_hook::consts::SIGINT, &stop),
        (signal_hook::consts::SIGTERM, &stop),
        (signal_hook::consts::SIGHUP, if args.hang_up == HangUp::GoOn { &hung_up } else { &stop }),
    ] {
        signal_hook::flag::register(signal, flag.clone())
            .map_err(|e| AppError::machine(format!("signals cannot be heard: {e}")))?;
    }
    let metrics = args.metrics.map(|_| Metrics::default());
    if let Some((at, metrics)) = args.metrics.zip(metrics.clone()) {
        let bound = metrics::serve(at, metrics)?;
        eprintln!("live figures at http://{bound}/metrics");
    }
    let mut exit = Exit::Done;
    for repeat in 0..args.repeat {
        for left in Ledger::open(&home)?.leftovers()?.into_iter().filter(|l| l.certain) {
            tell(&format!(
                "{} ({}) was left behind by haul {}: `hollow-mile leftovers --remove` removes it",
                left.path.display(),
                left.size,
                left.haul
            ));
        }
        let ready = orders.open(repeat)?;
        ready.doubts.iter().for_each(|d| tell(d));
        let sessions = orders.begin(ready, metrics.as_ref())?;
        let done = follow_all(sessions, &stop)?;
        let mut documents = Vec::new();
        for (name, haul, outcome) in &done {
            let limits = limits::judge(&outcome.readings, &outcome.conclusions);
            let missed = limits.iter().any(|l| l.verdict == Verdict::Missed);
            let report = Report { name, haul, outcome, limits };
            if args.json {
                documents.push(
                    serde_json::to_value(report.document())
                        .map_err(|e| AppError::machine(format!("no JSON: {e}")))?,
                );
            } else {
                report.print()?;
            }
            let its = match outcome.state {
                HaulState::Failed => Exit::DriveFailed,
                HaulState::Stopped => Exit::Stopped,
                _ if missed => Exit::LimitMissed,
                _ if failed_or_lied(outcome) => Exit::DriveFailed,
                _ => Exit::Done,
            };
            exit = if its as u8 > exit as u8 { its } else { exit };
            if let (HaulState::Failed, Some(reason)) = (outcome.state, &outcome.reason) {
                tell(&format!("hollow-mile: {reason}"));
            }
        }
        match documents.as_slice() {
            [] => {}
            [one] => say_json(one)?,
            all => say_json(&serde_json::json!({ "hauls": all }))?,
        }
        if matches!(exit, Exit::DriveFailed | Exit::Stopped) {
            break;
        }
    }
    Ok(exit)
}

/// Operations failed or blocks came back wrong, and the route says nothing of how many may.
fn failed_or_lied(outcome: &Outcome) -> bool {
    let r = &outcome.readings;
    let spoken_of = r.head().is_some_and(|h| h.route.limits.iter().any(Limit::speaks_of_errors));
    let wrong = r.mismatches().iter().any(|(_, m)| m.wrong != Wrong::Unflushed);
    !spoken_of && (r.errors() > 0 || wrong)
}

/// Writes a line to standard error, which may be a terminal that was closed meanwhile.
fn tell(line: &str) {
    let _ = writeln!(std::io::stderr(), "{}", words::printable(line));
}

/// Shows progress on standard error until every haul is over.
fn follow_all(
    sessions: Vec<(String, Session)>,
    stop: &AtomicBool,
) -> Result<Vec<(String, String, Outcome)>, AppError> {
    let many = sessions.len() > 1;
    std::thread::scope(|scope| {
        let threads: Vec<_> = sessions
            .into_iter()
            .map(|(name, session)| {
                scope.spawn(move || {
                    let haul = session.haul.clone();
                    let outcome = follow(session, many.then_some(name.as_str()), stop)?;
                    Ok((name, haul, outcome))
                })
            })
            .collect();
        let fault =
            || AppError::machine("a haul's thread ended in a fault; what was committed is in the ledger");
        threads.into_iter().map(|t| t.join().unwrap_or_else(|_| Err(fault()))).collect()
    })
}

/// Follows one haul to its end; its line begins with `name` when there are several.
fn follow(session: Session, name: Option<&str>, stop: &AtomicBool) -> Result<Outcome, AppError> {
    let on_terminal = std::io::stderr().is_terminal();
    let in_place = on_terminal && name.is_none();
    let every = if in_place { Duration::from_millis(200) } else { Duration::from_secs(5) };
    let mut shown = Instant::now();
    let (mut written, mut read, mut leg, mut legs) = (Bytes::ZERO, Bytes::ZERO, 0u16, 0);
    let mut asked = false;
    loop {
        if stop.load(Ordering::Relaxed) && !asked {
            session.ask(Command::Stop);
            asked = true;
        }
        let events = match session.next_events(Duration::from_millis(100)) {
            Some(events) => events,
            None => match session.try_events() {
                Ok(Some(events)) => events,
                Ok(None) => continue,
                Err(_) => break,
            },
        };
        let mut line = None;
        for event in &events {
            match event {
                Event::HaulStarted(head) => legs = head.route.legs.len(),
                Event::Sample(s) => {
                    written += s.written;
                    read += s.read;
                    line = Some(format!(
                        "{}{}  leg {} of {legs}  {}  {} written, {} read{}",
                        name.map(|n| format!("{n}  ")).unwrap_or_default(),
                        clock(s.end),
                        leg + 1,
                        s.rate(),
                        written,
                        read,
                        s.temperature.map(|t| format!("  {t}")).unwrap_or_default()
                    ));
                }
                Event::LegStarted { leg: l, .. } => leg = *l,
                _ => {}
            }
        }
        if let Some(line) = line.filter(|_| shown.elapsed() >= every) {
            shown = Instant::now();
            let end = if in_place { "\r" } else { "\n" };
            let _ = write!(std::io::stderr(), "{line:<90}{end}");
        }
    }
    if in_place {
        let _ = write!(std::io::stderr(), "{:90}\r", "");
    }
    session.finish()
}

/// A haul that is over, to be told.
struct Report<'a> {
    name: &'a str,
    haul: &'a str,
    outcome: &'a Outcome,
    limits: Vec<Judged>,
}

impl Report<'_> {
    fn route(&self) -> &str {
        self.outcome.readings.head().map_or("", |h| h.route.name.as_str())
    }

    fn document(&self) -> HaulDocument<'_> {
        let r = &self.outcome.readings;
        HaulDocument {
            haul: self.haul,
            state: self.outcome.state.word(),
            reason: self.outcome.reason.as_deref(),
            drive: self.name,
            route: self.route(),
            engine: r.engine(),
            elapsed_s: r.elapsed().as_secs_f64(),
            written_bytes: r.written().get(),
            read_bytes: r.read().get(),
            samples: r.series().len(),
            errors: r.errors(),
            faults: r
                .faults()
                .iter()
                .filter_map(|f| {
                    let position_bytes = f.position?.get();
                    Some(FaultRow { elapsed_s: f.at.as_secs_f64(), position_bytes, message: &f.message })
                })
                .take(1000)
                .collect(),
            warnings: r
                .faults()
                .iter()
                .filter(|f| f.position.is_none())
                .map(|f| f.message.as_str())
                .take(100)
                .collect(),
            remarks: r.legs().iter().filter_map(|l| l.ended.as_ref()?.2.remark.as_deref()).collect(),
            temperatures: r
                .temperatures()
                .iter()
                .filter_map(|l| Some((l.name.as_str(), l.readings.last()?.1.degrees())))
                .collect(),
            meters: r.meters().newest(),
            power: PowerRow::of(r.meters()),
            write_amplification: WearRow::of(r, &self.outcome.conclusions),
            limits: &self.limits,
            surveys: &self.outcome.conclusions.surveys,
            cut_legs: &self.outcome.conclusions.cut_legs,
            findings: &self.outcome.conclusions.findings,
            figures: &self.outcome.conclusions.figures,
        }
    }

    fn print(&self) -> Result<(), AppError> {
        let r = &self.outcome.readings;
        say(&format!(
            "haul {}  {}  {} on {}  {}  {} written, {} read  {}",
            self.haul,
            self.outcome.state.word(),
            self.route(),
            self.name,
            clock(r.elapsed()),
            r.written(),
            r.read(),
            r.engine()
        ))?;
        for remark in r.legs().iter().filter_map(|l| l.ended.as_ref()?.2.remark.as_ref()) {
            say(&format!("{remark}."))?;
        }
        say(&headline::answer(r, &self.outcome.conclusions))?;
        for l in &self.limits {
            say(&words::limit(l))?;
        }
        say(&findings::findings(&self.outcome.conclusions))
    }
}
