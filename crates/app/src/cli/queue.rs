//! `hollow-mile again` and `queue`: hauls once more, and what waits for each drive.

use std::path::Path;
use std::time::Duration;

use clap::Subcommand;
use hollow_mile_core::quantity::plain::Plain;
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_ledger::Ledger;
use serde::Serialize;

use super::{Answer, celsius, say, say_json, table};
use crate::again::{Again, again as of_haul, deciding};
use crate::error::{AppError, Exit};
use crate::home;
use crate::orders::Orders;
use crate::queue::{self, Between, Entry, Queue};
use crate::targets::Target;

/// Which hauls, how often, and what comes between.
#[derive(Debug, clap::Args)]
pub struct AgainArgs {
    /// Hauls to repeat: ids, unique beginnings of them, or `last`
    #[arg(required = true, value_name = "HAUL")]
    hauls: Vec<String>,
    /// How often each
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=1_000))]
    repeat: u32,
    /// Several hauls in turns, A B A B; without it all of one come before the next, A A B B
    #[arg(long)]
    in_turns: bool,
    /// Rest so long before each
    #[arg(long, value_name = "TIME", value_parser = duration)]
    rest: Option<Duration>,
    /// Wait until the drive has cooled to this before each
    #[arg(long, value_name = "CELSIUS", value_parser = celsius)]
    cool_to: Option<Celsius>,
    /// Serial of the device whose data may be destroyed; once for each of several. It is asked for anew each time
    #[arg(long, value_name = "SERIAL")]
    erase: Vec<String>,
    /// What on the device may be lost, by the names that the refusal gives: gpt,ext4
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    give_up: Vec<String>,
    /// As JSON
    #[arg(long)]
    json: bool,
}

/// Which finding of which haul.
#[derive(Debug, clap::Args)]
pub struct DecideArgs {
    /// The haul: its id, a unique beginning of it, or `last`
    #[arg(value_name = "HAUL")]
    haul: String,
    /// The finding, by its letter
    #[arg(value_name = "FINDING")]
    finding: String,
    /// Serial of the device whose data may be destroyed
    #[arg(long, value_name = "SERIAL")]
    erase: Option<String>,
    /// What on the device may be lost, by the names that the refusal gives: gpt,ext4
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    give_up: Vec<String>,
    /// As JSON
    #[arg(long)]
    json: bool,
}

fn duration(text: &str) -> Result<Duration, String> {
    Duration::read(text).map_err(|e| e.to_string())
}

/// What is done with a queue.
#[derive(Debug, Subcommand)]
pub enum What {
    /// Begin no further haul on this drive; the one under way goes on
    Pause {
        /// The drive
        drive: String,
    },
    /// Go on
    GoOn {
        /// The drive
        drive: String,
    },
    /// Take a haul out that waits
    Remove {
        /// The drive
        drive: String,
        /// Its place, from 1
        place: usize,
    },
    /// Move a haul that waits
    Move {
        /// The drive
        drive: String,
        /// Its place, from 1
        from: usize,
        /// Its new place
        to: usize,
    },
}

/// A queue in JSON.
#[derive(Serialize)]
struct Row<'a> {
    drive: &'a str,
    paused: bool,
    /// A process runs it.
    is_run: bool,
    trouble: Option<&'a str>,
    now: Option<&'a str>,
    waiting: Vec<Waiting<'a>>,
}

#[derive(Serialize)]
struct Waiting<'a> {
    route: &'a str,
    label: Option<&'a str>,
    rest_s: Option<f64>,
    cool_to_c: Option<f64>,
}

/// Opens each drive and checks its route against it, and lets go of it again: what would be refused is refused now.
fn rehearse(orders: &Orders) -> Result<(), AppError> {
    let seat = &orders.seats[0];
    match Target::parse(&seat.drive)? {
        // To open a file would make it.
        Target::File(_) | Target::Folder(_) => Ok(()),
        Target::Device(_) | Target::Sim(_) => orders.open(0).map(drop),
    }
}

/// Orders for a haul like an earlier one, with what is refused refused now; `number` is how many hauls its drive had.
fn ordered(
    again: &Again,
    home: &Path,
    ledger: &Ledger,
    (erase, give_up): (Option<String>, &[String]),
) -> Result<Orders, AppError> {
    let number = ledger.hauls()?.iter().filter(|r| r.serial == again.serial).count() as u64;
    let orders = again.orders(home, erase, give_up.to_vec(), number);
    // A drive that is at work cannot be opened; it is checked when its turn comes.
    if !ledger.under_way()?.iter().any(|r| r.drive == again.drive) {
        rehearse(&orders)?;
    }
    Ok(orders)
}

/// Puts hauls into the queues of their drives, and lets these go on; gives the drives.
fn queued(home: &Path, mut entries: Vec<Entry>) -> Result<Vec<String>, AppError> {
    queue::number(&mut entries);
    let drives = queue::push(home, entries)?;
    drives.iter().try_for_each(|d| queue::runner::start(home, d))?;
    Ok(drives)
}

/// What was queued, in a sentence.
fn said(count: usize, drives: &[String]) -> String {
    let hauls = if count == 1 { "1 haul waits".to_owned() } else { format!("{count} hauls wait") };
    format!("{hauls} for {}: `hollow-mile queue` shows what does", drives.join(", "))
}

/// `again HAUL …`.
pub fn again(args: &AgainArgs) -> Result<Exit, AppError> {
    let home = home::home()?;
    let ledger = Ledger::open(&home)?;
    let mut each = Vec::new();
    for haul in &args.hauls {
        let again = of_haul(&ledger, haul)?;
        let own = args.erase.iter().find(|s| **s == again.serial).or(args.erase.first());
        each.push(ordered(&again, &home, &ledger, (own.cloned(), &args.give_up))?);
    }
    let between = Between { rest: args.rest, cool_to: args.cool_to };
    let entries: Vec<Entry> = queue::repeated(&each, args.repeat, args.in_turns)
        .into_iter()
        .map(|orders| Entry { orders, between })
        .collect();
    let count = entries.len();
    let drives = queued(&home, entries)?;
    if args.json {
        return list(Answer::Json);
    }
    say(&said(count, &drives))?;
    Ok(Exit::Done)
}

/// `decide HAUL FINDING`.
pub fn decide(args: &DecideArgs) -> Result<Exit, AppError> {
    let home = home::home()?;
    let ledger = Ledger::open(&home)?;
    let again = deciding(&ledger, &args.haul, &args.finding)?;
    let orders = ordered(&again, &home, &ledger, (args.erase.clone(), &args.give_up))?;
    let between = Between { rest: None, cool_to: None };
    let drives = queued(&home, vec![Entry { orders, between }])?;
    if args.json {
        return list(Answer::Json);
    }
    say(&said(1, &drives))?;
    Ok(Exit::Done)
}

/// `queue`, `queue pause DRIVE` and others.
pub fn run(what: Option<&What>, answer: Answer) -> Result<Exit, AppError> {
    let home = home::home()?;
    let none = |drive: &str, place: usize| {
        AppError::usage(format!(
            "nothing waits at place {place} for {drive}: `hollow-mile queue` lists what does"
        ))
    };
    match what {
        None => return list(answer),
        Some(What::Pause { drive }) => queue::change(&home, drive, |q| q.paused = true)?,
        Some(What::GoOn { drive }) => {
            queue::change(&home, drive, |q| (q.paused, q.trouble) = (false, None))?;
            queue::runner::start(&home, drive)?;
        }
        Some(What::Remove { drive, place }) => {
            let at = place.wrapping_sub(1);
            let removed = queue::change(&home, drive, |q| {
                (at < q.entries.len()).then(|| q.entries.remove(at)).map(|e| e.words())
            })?;
            removed.ok_or_else(|| none(drive, *place))?;
        }
        Some(What::Move { drive, from, to }) => {
            let at = from.wrapping_sub(1);
            let there = queue::change(&home, drive, |q| {
                let there = at < q.entries.len();
                q.shift(at, *to as isize - *from as isize);
                there
            })?;
            if !there {
                return Err(none(drive, *from));
            }
        }
    }
    list(answer)
}

fn list(answer: Answer) -> Result<Exit, AppError> {
    let home = home::home()?;
    let queues = queue::all(&home);
    if answer == Answer::Json {
        let rows: Vec<Row<'_>> = queues.iter().map(|q| row(&home, q)).collect();
        say_json(&rows)?;
        return Ok(Exit::Done);
    }
    if queues.is_empty() {
        say("no haul waits: `hollow-mile again HAUL --repeat 3` queues three")?;
        return Ok(Exit::Done);
    }
    for q in &queues {
        let state = match (q.paused, queue::is_run(&home, &q.drive)) {
            (true, _) => "  paused",
            (false, true) => "",
            (false, false) => "  nobody runs it: `hollow-mile queue go-on DRIVE` does",
        };
        say(&format!("{}{state}", q.drive))?;
        if let Some(why) = &q.trouble {
            say(&format!("  waits because {why}"))?;
        }
        if let Some(now) = &q.now {
            say(&format!("  now  {now}"))?;
        }
        let rows: Vec<Vec<String>> =
            q.entries.iter().enumerate().map(|(i, e)| vec![format!("  {:>3}", i + 1), e.words()]).collect();
        if !rows.is_empty() {
            say(&table(&rows))?;
        }
    }
    Ok(Exit::Done)
}

fn row<'a>(home: &std::path::Path, q: &'a Queue) -> Row<'a> {
    Row {
        drive: &q.drive,
        paused: q.paused,
        is_run: queue::is_run(home, &q.drive),
        trouble: q.trouble.as_deref(),
        now: q.now.as_deref(),
        waiting: q
            .entries
            .iter()
            .map(|e| Waiting {
                route: &e.orders.route.name,
                label: e.orders.seats.first().and_then(|s| s.conditions.label.as_deref()),
                rest_s: e.between.rest.map(|r| r.as_secs_f64()),
                cool_to_c: e.between.cool_to.map(|t| t.degrees()),
            })
            .collect(),
    }
}
