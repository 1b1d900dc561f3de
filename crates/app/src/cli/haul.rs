//! `hollow-mile haul`: runs a route without the interface, with a progress line, and says what was found.

use std::io::{IsTerminal, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::event::{Conditions, Event, HaulState};
use hollow_mile_core::finding::{Figures, Finding};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::route::Route;
use hollow_mile_core::units::{Bytes, clock};
use hollow_mile_drives::linux::guard::Consent;
use hollow_mile_ledger::Ledger;
use serde::Serialize;

use super::{HaulArgs, say, say_json};
use crate::error::{AppError, Exit};
use crate::session::{Command, Outcome, Session, Speed};
use crate::targets::{self, Target, Wish};
use crate::{home, machine, text, ui};

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
    findings: &'a [Finding],
    figures: &'a Figures,
}

#[derive(Serialize)]
struct FaultRow<'a> {
    elapsed_s: f64,
    position_bytes: u64,
    message: &'a str,
}

pub fn run(args: HaulArgs) -> Result<Exit, AppError> {
    let home = home::home()?;
    let target = Target::parse(&args.on)?;
    let route = targets::find_route(&args.route, &home)?;
    let device = matches!(target, Target::Device(_));
    if !device && (args.erase.is_some() || !args.give_up.is_empty()) {
        eprintln!("--erase and --give-up are for devices; {} needs no such consent", args.on);
    }
    let mut wish = Wish {
        size: args.size,
        destroys: route.destroys(),
        consent: Consent {
            erase: args.erase.clone(),
            give_up: args.give_up.clone(),
            protect: machine::protected(&home),
        },
        thermometers: args.thermometers.clone(),
        ..Wish::default()
    };
    let conditions = Conditions {
        ambient: args.ambient,
        cooling: args.cooling.clone(),
        slot: args.slot.clone(),
        label: args.label.clone(),
        rested_for: None,
        tags: args.tags.clone(),
        earlier: Vec::new(),
    };
    wish.conditions = conditions.clone();
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        signal_hook::flag::register(signal, stop.clone())
            .map_err(|e| AppError::usage(format!("signals cannot be heard: {e}")))?;
    }
    let mut exit = Exit::Done;
    for repeat in 0..u64::from(args.repeat) {
        let ledger = Ledger::open(&home)?;
        for left in ledger.leftovers()? {
            eprintln!(
                "{} ({}) was left behind by haul {}: `hollow-mile leftovers --remove` removes it",
                left.path.display(),
                left.size,
                left.haul
            );
        }
        if let Target::Device(path) = &target {
            warn_of_traffic(path, &home)?;
        }
        wish.repeat = repeat;
        let opened = targets::open(&target, &wish)?;
        targets::fits(&route, opened.drive.identity().capacity, opened.drive.identity().block)?;
        let setup = Setup {
            haul: ledger.new_haul_id()?,
            route: route.clone(),
            conditions: conditions.clone(),
            started_unix_ms: jiff::Timestamp::now().as_millisecond(),
            program: env!("CARGO_PKG_VERSION").into(),
        };
        let session = Session::start(opened, setup, ledger, Speed::Most)?;
        if args.watch {
            return ui::run(ui::Start::Watch { home, session });
        }
        let haul = session.haul.clone();
        let outcome = follow(session, &route, &stop)?;
        report(&args, &haul, &route, &outcome)?;
        exit = match outcome.state {
            HaulState::Failed => Exit::DriveFailed,
            HaulState::Stopped => Exit::Stopped,
            _ => exit,
        };
        if let (HaulState::Failed, Some(reason)) = (outcome.state, &outcome.reason) {
            eprintln!("hollow-mile: {reason}");
        }
        if exit != Exit::Done {
            break;
        }
    }
    Ok(exit)
}

/// Says when others use the drive before the haul begins: its figures would tell of them too.
fn warn_of_traffic(path: &std::path::Path, home: &std::path::Path) -> Result<(), AppError> {
    let device = machine::device(path, home)?;
    if let Some(rate) =
        machine::traffic_now(&device.block, Duration::from_millis(500)).filter(|r| machine::is_busy(*r))
    {
        eprintln!("{} is busy before the haul begins: others move {rate} on it", path.display());
    }
    if let Some(less) = device.identity.link.as_ref().and_then(hollow_mile_core::drive::Link::shortfall) {
        eprintln!("{} has less of a link than it could: {less}", path.display());
    }
    Ok(())
}

/// Shows progress on standard error until the haul is over.
fn follow(session: Session, route: &Route, stop: &AtomicBool) -> Result<Outcome, AppError> {
    let on_terminal = std::io::stderr().is_terminal();
    let every = if on_terminal { Duration::from_millis(200) } else { Duration::from_secs(5) };
    let mut shown = Instant::now();
    let (mut written, mut read, mut leg, mut asked) = (Bytes::ZERO, Bytes::ZERO, 0u16, false);
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
                Event::Sample(s) => {
                    written += s.written;
                    read += s.read;
                    line = Some(format!(
                        "{}  leg {} of {}  {}  {} written{}",
                        clock(s.end),
                        leg + 1,
                        route.legs.len(),
                        s.rate(),
                        written,
                        s.temperature.map(|t| format!("  {t}")).unwrap_or_default()
                    ));
                }
                Event::LegStarted { leg: l, .. } => leg = *l,
                _ => {}
            }
        }
        if let Some(line) = line.filter(|_| shown.elapsed() >= every) {
            shown = Instant::now();
            let end = if on_terminal { "\r" } else { "\n" };
            let _ = write!(std::io::stderr(), "{line:<78}{end}");
        }
    }
    if on_terminal {
        let _ = write!(std::io::stderr(), "{:78}\r", "");
    }
    session.finish()
}

fn report(args: &HaulArgs, haul: &str, route: &Route, outcome: &Outcome) -> Result<(), AppError> {
    let r = &outcome.readings;
    if args.json {
        return say_json(&HaulDocument {
            haul,
            state: outcome.state.word(),
            reason: outcome.reason.as_deref(),
            drive: &args.on,
            route: &route.name,
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
            findings: &outcome.conclusions.findings,
            figures: &outcome.conclusions.figures,
        });
    }
    say(&format!(
        "haul {haul}  {}  {} on {}  {}  {} written  {}",
        outcome.state.word(),
        route.name,
        args.on,
        clock(r.elapsed()),
        r.written(),
        r.engine()
    ))?;
    for remark in r.legs().iter().filter_map(|l| l.ended.as_ref()?.2.remark.as_ref()) {
        say(&format!("{remark}."))?;
    }
    if r.errors() > 0 {
        say(&text::faults(r))?;
    }
    say(&text::answer(r, &outcome.conclusions))?;
    say(&text::findings(&outcome.conclusions))
}
