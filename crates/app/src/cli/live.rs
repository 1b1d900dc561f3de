//! `hollow-mile live`, `watch` and `tell`: hauls under way, from any terminal of the same user.

use std::path::Path;

use clap::Subcommand;
use hollow_mile_core::quantity::units::{Bytes, clock};
use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::{HaulRow, Ledger};
use serde::Serialize;

use super::{Answer, say, say_json, table};
use crate::again::fall_in;
use crate::command::{Command, Speed};
use crate::error::{AppError, Exit};
use crate::watch::frame::Hello;
use crate::watch::watching;
use crate::{home, ui};

/// What is said, to which haul.
#[derive(Debug, clap::Args)]
pub struct TellArgs {
    /// Haul under way: id, unique beginning of one, or `last`
    haul: String,
    /// What
    #[command(subcommand)]
    what: What,
    /// Take the controls from whoever holds them
    #[arg(long, global = true)]
    take_over: bool,
    /// As JSON
    #[arg(long, global = true)]
    json: bool,
}

#[derive(Debug, Subcommand)]
enum What {
    /// Take the load off; a simulated drive's clock stands
    Pause,
    /// Put the load on again
    GoOn,
    /// Go on to the next leg
    SkipLeg,
    /// End the haul; what was recorded stays
    Stop,
    /// Write words into the record at this moment
    Note {
        /// The words
        text: String,
    },
    /// Find out by experiments why the rate fell, in the write that is under way
    FindOut {
        /// The finding, by its letter; without it the newest fall
        finding: Option<String>,
    },
    /// Let the clock of a simulated drive run so many times as fast as real time
    Speed {
        /// Times, such as 60; 0 for as fast as possible
        times: f64,
    },
}

/// A row of `live --json`.
#[derive(Serialize)]
struct Row<'a> {
    haul: &'a str,
    drive: &'a str,
    route: &'a str,
    elapsed_s: f64,
    written_bytes: u64,
    read_bytes: u64,
    /// The process that keeps it; null when it does not answer.
    process: Option<u32>,
    paused: Option<bool>,
    /// Who holds the controls.
    controls: Option<String>,
    watchers: Option<u32>,
    ends_with_its_terminal: Option<bool>,
}

/// Hauls under way, each with what it says of itself.
fn under_way(home: &Path) -> Result<Vec<(HaulRow, Option<Hello>)>, AppError> {
    crate::watch::tidy(home);
    let running = Ledger::open(home)?.under_way()?.into_iter();
    Ok(running
        .map(|r| {
            let hello = watching::greet(home, &r.haul).ok();
            (r, hello)
        })
        .collect())
}

pub fn list(answer: Answer) -> Result<Exit, AppError> {
    let hauls = under_way(&home::home()?)?;
    if answer == Answer::Json {
        let rows: Vec<_> = hauls
            .iter()
            .map(|(r, hello)| Row {
                haul: &r.haul,
                drive: &r.drive,
                route: &r.route,
                elapsed_s: r.elapsed.as_secs_f64(),
                written_bytes: r.written.get(),
                read_bytes: r.read.get(),
                process: hello.as_ref().map(|h| h.process),
                paused: hello.as_ref().map(|h| h.desk.paused),
                controls: hello.as_ref().and_then(|h| h.desk.holder.clone()),
                watchers: hello.as_ref().map(|h| h.desk.watchers),
                ends_with_its_terminal: hello.as_ref().map(|h| h.ends_with_starter),
            })
            .collect();
        say_json(&rows)?;
        return Ok(Exit::Done);
    }
    if hauls.is_empty() {
        say("no haul is under way")?;
        return Ok(Exit::Done);
    }
    let mut rows = vec![
        ["HAUL", "DRIVE", "ROUTE", "ELAPSED", "WRITTEN", "READ", "PROCESS", "CONTROLS", "WATCHERS"]
            .map(String::from)
            .to_vec(),
    ];
    for (r, hello) in &hauls {
        let said = |f: &dyn Fn(&Hello) -> String| hello.as_ref().map_or_else(|| "does not answer".into(), f);
        rows.push(vec![
            r.haul.clone(),
            r.drive.clone(),
            r.route.clone(),
            clock(r.elapsed),
            Bytes::to_string(&r.written),
            Bytes::to_string(&r.read),
            said(&|h| h.process.to_string()),
            said(&|h| h.desk.holder.clone().unwrap_or_else(|| "nobody".into())),
            said(&|h| h.desk.watchers.to_string()),
        ]);
    }
    say(&table(&rows))?;
    Ok(Exit::Done)
}

/// Which haul is meant: `last` is the one that began last of those under way.
fn meant(home: &Path, given: &str) -> Result<HaulRow, AppError> {
    let ledger = Ledger::open(home)?;
    let row = if given == "last" {
        ledger.under_way()?.into_iter().next().ok_or_else(|| AppError::usage("no haul is under way"))?
    } else {
        ledger.haul(given)?
    };
    if row.state != HaulState::Running {
        return Err(AppError::usage(format!(
            "haul {} is over ({}): `hollow-mile findings {}` says what was found",
            row.haul,
            row.state.word(),
            row.haul
        )));
    }
    Ok(row)
}

pub fn watch(given: &[String]) -> Result<Exit, AppError> {
    let home = home::home()?;
    let hauls = if given.is_empty() {
        let all: Vec<String> =
            under_way(&home)?.into_iter().filter(|(_, h)| h.is_some()).map(|(r, _)| r.haul).collect();
        if all.is_empty() {
            return Err(AppError::usage(
                "no haul is under way: `hollow-mile haul` begins one, `hollow-mile ledger` lists those that are over",
            ));
        }
        all
    } else {
        given.iter().map(|g| Ok(meant(&home, g)?.haul)).collect::<Result<Vec<_>, AppError>>()?
    };
    ui::run(ui::Start::Watch { home, hauls, kept: None })
}

pub fn tell(args: TellArgs) -> Result<Exit, AppError> {
    let home = home::home()?;
    let haul = meant(&home, &args.haul)?.haul;
    let command = match args.what {
        What::Pause => Command::Pause(true),
        What::GoOn => Command::Pause(false),
        What::SkipLeg => Command::SkipLeg,
        What::Stop => Command::Stop,
        What::Note { text } => Command::Note(text.trim().to_owned()),
        What::FindOut { finding } => {
            let ledger = Ledger::open(&home)?;
            Command::FindOut(Box::new(fall_in(&ledger, &haul, finding.as_deref())?))
        }
        What::Speed { times: 0.0 } => Command::Speed(Speed::Most),
        What::Speed { times } if times.is_finite() && (0.01..=1e6).contains(&times) => {
            Command::Speed(Speed::Times(times))
        }
        What::Speed { times } => {
            return Err(AppError::usage(format!(
                "a clock cannot run {times} times as fast: 0.01 to 1000000, or 0 for as fast as possible"
            )));
        }
    };
    if matches!(&command, Command::Note(text) if text.is_empty()) {
        return Err(AppError::usage("a note needs words"));
    }
    let desk = watching::tell(&home, &haul, command, args.take_over)?;
    if args.json {
        say_json(&serde_json::json!({ "haul": haul, "paused": desk.paused, "watchers": desk.watchers }))?;
    } else {
        say(&format!("haul {haul}: done"))?;
    }
    Ok(Exit::Done)
}
