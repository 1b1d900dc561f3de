//! The command line: stable words and JSON; see the design's contract in `docs/formats.md`.

mod archive;
mod batch;
mod chart;
mod claims;
mod contrast;
mod export;
mod fleet;
mod haul;
mod keep;
mod limits;
mod live;
mod open_data;
mod prove;
mod queue;
mod report;
mod riddles;
mod shell;
mod show;
mod vitals;
mod worlds;

pub use chart::{ChartKind, draw, encode};

use std::io::{IsTerminal, Write};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};

use clap::{Parser, Subcommand};
use hollow_mile_core::drive::MeterUnit;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::route::Stream;
use hollow_mile_ledger::Ledger;
use serde::Serialize;

use crate::error::{AppError, Exit};
use crate::told::words;
use crate::told::words::printable;
use crate::told::wrap::wrap;
use crate::{demo, demo_fleet, demo_live, home, targets, ui};
use archive::Existing;

/// What the program's own words mean, for whoever meets them first.
const WORDS: &str = "\
Words:
  haul      one run of a route against one drive, and the record of it
  route     what a haul does, as a list of legs: write, read, rest, scan, fill
  yard      the drives at hand, real and simulated
  ledger    the archive of all hauls
  ground    the drive's addresses from first to last, and how fast each stretch is
  breather  a leg that rests and writes again, to see how much of the cache comes back";

/// Long sustained writes on drives: where the cache ends, when heat throttles, what is slow, and why.
#[derive(Debug, Parser)]
#[command(name = "hollow-mile", version, max_term_width = 100, after_help = WORDS)]
pub struct Args {
    #[command(subcommand)]
    command: Option<Verb>,
    /// Read the hauls of all benches of the fleet; of the demo, show one of forty benches
    #[arg(long, global = true)]
    fleet: bool,
}

/// Hauls of the whole fleet are read, and not of this bench alone.
static FLEET: AtomicBool = AtomicBool::new(false);

fn bytes(text: &str) -> Result<Bytes, String> {
    targets::file_size(text).map_err(|e| e.to_string())
}

fn celsius(text: &str) -> Result<Celsius, String> {
    text.parse().map_err(|e: hollow_mile_core::quantity::units::ParseUnitError| e.to_string())
}

fn tag(text: &str) -> Result<(String, String), String> {
    text.split_once('=')
        .filter(|(k, _)| !k.is_empty())
        .map(|(k, v)| (k.to_owned(), v.to_owned()))
        .ok_or_else(|| "a tag is written key=value".into())
}

/// What is done, under which conditions.
#[derive(Debug, clap::Args)]
pub struct HaulArgs {
    /// Route: a name from `route list`, or a file that ends in .toml
    route: String,
    /// Drive: /dev/…, sim:NAME, sim:FILE.toml, file:PATH with --size, or folder:PATH for files; several times for several at once
    #[arg(long, value_name = "DRIVE", required = true)]
    on: Vec<String>,
    /// Where files are copied from: a folder, /dev/… (only read) or sim:NAME; of several drives once for all, or once for each
    #[arg(long, value_name = "PATH")]
    from: Vec<String>,
    /// Size of a file: target: 20GB (rounded down to whole 4 KiB), 16GiB, or a count of bytes
    #[arg(long, value_name = "SIZE", value_parser = bytes)]
    size: Option<Bytes>,
    /// Temperature of the air around the drive, °C
    #[arg(long, value_name = "C", value_parser = celsius, allow_hyphen_values = true)]
    ambient: Option<Celsius>,
    /// How the drive is cooled, in your words; of several drives once for all, or once for each
    #[arg(long, value_name = "TEXT")]
    cooling: Vec<String>,
    /// Slot or port; as --cooling
    #[arg(long, value_name = "TEXT")]
    slot: Vec<String>,
    /// A name for this haul; as --cooling
    #[arg(long, value_name = "TEXT")]
    label: Vec<String>,
    /// Tags for comparing, any number
    #[arg(long = "tag", value_name = "K=V", value_parser = tag)]
    tags: Vec<(String, String)>,
    /// Serial of the device whose data may be destroyed; once for each of several
    #[arg(long, value_name = "SERIAL")]
    erase: Vec<String>,
    /// What on the device may be lost, by the names that the refusal gives: gpt,ext4
    #[arg(long, value_name = "NAMES", value_delimiter = ',')]
    give_up: Vec<String>,
    /// A thermometer of yours, recorded beside the drive: a file, FIFO or serial line that gives one number in °C a
    /// line; any number
    #[arg(long = "thermometer", value_name = "NAME=PATH", value_parser = tag)]
    thermometers: Vec<(String, String)>,
    /// A meter of yours, recorded beside the drive: a file, FIFO or serial line that gives one number a line, or a
    /// sensor of the kernel's as hwmon:CHIP/INPUT; any number. Meters in W, and in V and A of one name, are lines that
    /// feed the drive, and add up to its power
    #[arg(long = "meter", value_name = "NAME=PATH", value_parser = tag)]
    meters: Vec<(String, String)>,
    /// What meters measure, in their order, or one for all: W, V, A, C, %, rpm, m/s
    #[arg(long = "unit", value_name = "UNIT", requires = "meters")]
    units: Vec<MeterUnit>,
    /// Go on where this haul of the same route was stopped
    #[arg(long, value_name = "HAUL", conflicts_with = "repeat")]
    continues: Option<String>,
    /// How often
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    repeat: u32,
    /// One JSON object at the end of each haul
    #[arg(long)]
    json: bool,
    /// Serve live figures as OpenMetrics text at http://ADDR/metrics: a port of the loopback, or an address with its port
    #[arg(long, value_name = "ADDR", value_parser = crate::metrics::address)]
    metrics: Option<std::net::SocketAddr>,
    /// Watch it in the interface; it ends with that, unless --detach is given too
    #[arg(long, conflicts_with = "json")]
    watch: bool,
    /// Let it go on without this terminal: `watch` shows it again, `tell` speaks to it
    #[arg(long)]
    detach: bool,
    /// What becomes of it when this terminal is closed
    #[arg(long, value_enum, value_name = "WHAT", default_value_t = HangUp::Stop, conflicts_with_all = ["watch", "detach"])]
    hang_up: HangUp,
}

/// What becomes of a haul whose terminal is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum HangUp {
    /// It ends, as by `tell HAUL stop`
    Stop,
    /// It goes on to its end
    GoOn,
}

#[derive(Debug, Subcommand)]
enum Verb {
    /// Open the interface on the demo yard and the demo ledger
    Demo,
    /// List drives
    Yard {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// List, show or check routes
    #[command(subcommand)]
    Route(RouteVerb),
    /// Run a route on a drive
    Haul(Box<HaulArgs>),
    /// Watch hauls under way in the interface
    Watch {
        /// Hauls: id, unique beginning of one, or `last`; all that are under way when none is named
        #[arg(value_name = "HAUL")]
        hauls: Vec<String>,
    },
    /// List hauls under way, and who holds their controls
    Live {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Say something to a haul under way
    Tell(live::TellArgs),
    /// Run hauls once more: the same drives, routes and conditions, one after the other in the queues of their drives
    Again(queue::AgainArgs),
    /// Find out why the rate fell at a finding of a haul: the same drive and route up to there once more, with experiments
    Decide(queue::DecideArgs),
    /// Show what waits for each drive, or change it
    Queue {
        #[command(subcommand)]
        what: Option<queue::What>,
        /// As JSON
        #[arg(long, global = true)]
        json: bool,
    },
    /// What the program starts to run a queue
    #[command(name = "keep-queue", hide = true)]
    KeepQueue { drive: String },
    /// What the program starts to keep hauls that go on without their terminal
    #[command(name = "keep-hauls", hide = true)]
    KeepHauls,
    /// List hauls
    Ledger {
        /// Only those of this drive: its target, serial or model, or a part of one
        #[arg(long, value_name = "DRIVE")]
        drive: Option<String>,
        /// Only those that have all these words in drive, route, conditions, tags, note or what was found
        #[arg(value_name = "WORD")]
        filter: Vec<String>,
        /// Those that were deleted and can be had back
        #[arg(long)]
        deleted: bool,
        /// Save what can be read of a damaged ledger into a new one
        #[arg(long, conflicts_with_all = ["deleted", "drive", "filter"])]
        rescue: bool,
        /// Join samples of hauls that began more than so many days ago, and make the file smaller: findings, figures and extremes
        /// stay as they are
        #[arg(long, value_name = "DAYS", conflicts_with_all = ["deleted", "drive", "filter", "rescue"])]
        compact: Option<u32>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// What was found in a haul, or in a CSV file
    Findings {
        /// A haul (id, unique beginning of one, or `last`), or FILE.csv
        #[arg(value_name = "HAUL|FILE.csv")]
        source: String,
        /// A stream that it should hold: a rate (620 MB/s), or `16 channels x 24 bit x 96 kHz`
        #[arg(long, value_name = "STREAM")]
        hold: Option<Stream>,
        /// Buffer of the recorder that gives the stream
        #[arg(long, value_name = "BYTES", default_value = "0 B", requires = "hold")]
        buffer: Bytes,
        /// Air temperature for which heat is told as well
        #[arg(long, value_name = "CELSIUS")]
        ambient: Option<Celsius>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Hauls side by side: what differs by more than the noise
    Contrast(contrast::ContrastArgs),
    /// Drives of one kind taken together: what may be promised of all of them, and which are not like the others
    Batch(batch::BatchArgs),
    /// Draw a chart
    Chart(chart::ChartArgs),
    /// A few pages on a haul or a contrast
    Report(report::ReportArgs),
    /// Many benches, one ledger: on a PostgreSQL server
    #[command(subcommand)]
    Fleet(fleet::FleetVerb),
    /// What the program starts to send what is committed
    #[command(name = "keep-fleet", hide = true)]
    KeepFleet,
    /// What makers claim for their models
    #[command(subcommand)]
    Claims(ClaimsVerb),
    /// What every haul of a model has to meet, whatever its route says
    #[command(subcommand)]
    Limits(limits::LimitsVerb),
    /// All that is known of a drive: hauls, wear, projected life, cache, heat, slow places
    Drive {
        /// Serial, target or model of a drive that was hauled on, or a part of one
        drive: String,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Give a haul a name, tags, a note
    Annotate(keep::AnnotateArgs),
    /// Take hauls out of the ledger; for thirty days they can be had back
    Delete {
        /// Hauls: id, or unique beginning of one
        #[arg(required = true, value_name = "HAUL")]
        hauls: Vec<String>,
        /// Remove all deleted hauls at once, with their records
        #[arg(long)]
        for_good: bool,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Put deleted hauls back
    Restore {
        /// Hauls: id, or unique beginning of one
        #[arg(required = true, value_name = "HAUL")]
        hauls: Vec<String>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Take telemetry from elsewhere into the ledger
    Import {
        /// CSV file
        file: PathBuf,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Write samples, findings or figures of a haul out, to standard output or a file
    Export(export::ExportArgs),
    /// One health reading of a drive; starts and ends its self-tests
    Vitals {
        /// Drive: /dev/… or sim:NAME
        drive: String,
        /// Start a self-test, or end the one that runs
        #[arg(long, value_enum, value_name = "TEST")]
        self_test: Option<vitals::SelfTestVerb>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// List or show simulated drives
    #[command(subcommand)]
    Sim(SimVerb),
    /// Judge the analysis on random hauls with a known truth
    Prove {
        /// How many
        #[arg(long, value_name = "N", default_value_t = 500)]
        drives: u64,
        /// Where the randomness comes from
        #[arg(long, value_name = "S", default_value_t = 1)]
        seed: u64,
        /// Experiments on drives whose record alone does not tell why they fall
        #[arg(long)]
        decide: bool,
        /// Tell of each haul with a mistake, on standard error
        #[arg(long)]
        mistakes: bool,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Completions for your shell, on standard output
    Completions {
        /// Which shell
        #[arg(value_enum)]
        shell: clap_complete::Shell,
    },
    /// The man page, on standard output
    Man {
        /// Write a page for each command into this folder instead
        #[arg(value_name = "FOLDER")]
        folder: Option<PathBuf>,
    },
    /// Write down the shape of a folder: sizes and layout of its files, no name and no content
    Shape {
        /// The folder
        folder: PathBuf,
        /// File to write: .toml; freight legs take it as like = "FILE"
        #[arg(short, long, value_name = "FILE")]
        output: PathBuf,
        /// Write over a file that exists
        #[arg(long)]
        force: bool,
    },
    /// List files that a killed haul left behind, or remove them
    Leftovers {
        /// Remove them
        #[arg(long)]
        remove: bool,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, Subcommand)]
enum ClaimsVerb {
    /// All: your own and those that ship
    List {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Those of one model, as the text of a claims file
    Show {
        /// Model, as the drive says it
        model: String,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Check a claims file
    Check {
        /// File
        file: PathBuf,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, Subcommand)]
enum RouteVerb {
    /// All routes: shipped ones and your own
    List {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// One route as the text of its file
    Show {
        /// Name or file
        name: String,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Check a route file
    Check {
        /// File
        file: PathBuf,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Debug, Subcommand)]
enum SimVerb {
    /// All that ship
    List {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// One, as the text of its file; with --json, its truth
    Show {
        /// Name or file
        name: String,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
}

/// Does what was asked.
///
/// # Errors
/// One sentence and an exit code.
pub fn run(args: Args) -> Result<Exit, AppError> {
    FLEET.store(args.fleet, Ordering::Relaxed);
    match args.command {
        None => ui::run(ui::Start::Yard { home: home::home()?, demo: false, fleet: args.fleet }),
        Some(Verb::Demo) if args.fleet => {
            let fleet = home::demo_home(&home::home()?).join("fleet");
            let (home, _server) = demo_fleet::prepare(&fleet)?;
            let _live = demo_live::Live::begin(&fleet)?;
            ui::run(ui::Start::Batch { home, filter: "Corrie".into() })
        }
        Some(Verb::Demo) => {
            let home = home::demo_home(&home::home()?);
            demo::prepare(&home)?;
            ui::run(ui::Start::Yard { home, demo: true, fleet: false })
        }
        Some(Verb::Yard { json }) => show::yard(Answer::json_if(json)),
        Some(Verb::Route(RouteVerb::List { json })) => show::routes(Answer::json_if(json)),
        Some(Verb::Route(RouteVerb::Show { name, json })) => show::route(&name, Answer::json_if(json)),
        Some(Verb::Route(RouteVerb::Check { file, json })) => show::check_route(&file, Answer::json_if(json)),
        Some(Verb::Sim(SimVerb::List { json })) => show::sims(Answer::json_if(json)),
        Some(Verb::Sim(SimVerb::Show { name, json })) => show::sim(&name, Answer::json_if(json)),
        Some(Verb::Vitals { drive, self_test, json }) => {
            vitals::run(&drive, self_test, Answer::json_if(json))
        }
        Some(Verb::Haul(args)) => haul::run(&args),
        Some(Verb::Watch { hauls }) => live::watch(&hauls),
        Some(Verb::Live { json }) => live::list(Answer::json_if(json)),
        Some(Verb::Tell(args)) => live::tell(args),
        Some(Verb::KeepHauls) => crate::watch::keeper::run(),
        Some(Verb::Again(args)) => queue::again(&args),
        Some(Verb::Decide(args)) => queue::decide(&args),
        Some(Verb::Queue { what, json }) => queue::run(what.as_ref(), Answer::json_if(json)),
        Some(Verb::KeepQueue { drive }) => crate::queue::runner::run(&home::home()?, &drive),
        Some(Verb::Ledger { rescue: true, json, .. }) => keep::save_what_can_be(Answer::json_if(json)),
        Some(Verb::Ledger { compact: Some(days), json, .. }) => keep::compact(days, Answer::json_if(json)),
        Some(Verb::Ledger { drive, filter, deleted, json, .. }) => {
            archive::list(drive.as_deref(), &filter, deleted, Answer::json_if(json))
        }
        Some(Verb::Findings { source, hold, buffer, ambient, json }) => {
            archive::findings(&source, hold.map(|s| (s, buffer)), ambient, Answer::json_if(json))
        }
        Some(Verb::Contrast(args)) => contrast::run(&args),
        Some(Verb::Fleet(verb)) => fleet::run(&verb),
        Some(Verb::KeepFleet) => crate::fleet::run(&home::home()?, false),
        Some(Verb::Batch(args)) => batch::run(&args),
        Some(Verb::Chart(args)) => chart::run(&args),
        Some(Verb::Report(args)) => report::run(&args),
        Some(Verb::Claims(ClaimsVerb::List { json })) => claims::list(Answer::json_if(json)),
        Some(Verb::Claims(ClaimsVerb::Show { model, json })) => claims::show(&model, Answer::json_if(json)),
        Some(Verb::Claims(ClaimsVerb::Check { file, json })) => claims::check(&file, Answer::json_if(json)),
        Some(Verb::Limits(verb)) => limits::run(&verb),
        Some(Verb::Drive { drive, json }) => claims::drive(&drive, Answer::json_if(json)),
        Some(Verb::Annotate(args)) => keep::annotate(&args),
        Some(Verb::Delete { hauls, for_good, json }) => keep::delete(&hauls, for_good, Answer::json_if(json)),
        Some(Verb::Restore { hauls, json }) => keep::restore(&hauls, Answer::json_if(json)),
        Some(Verb::Import { file, json }) => archive::import(&file, Answer::json_if(json)),
        Some(Verb::Export(args)) => export::run(&args),
        Some(Verb::Completions { shell }) => shell::completions(shell),
        Some(Verb::Man { folder }) => shell::man(folder.as_deref()),
        Some(Verb::Prove { drives, seed, decide, mistakes, json }) => {
            let run = if decide { riddles::run } else { prove::run };
            run(drives, seed, mistakes, Answer::json_if(json))
        }
        Some(Verb::Shape { folder, output, force }) => shape(&folder, &output, Existing::replace_if(force)),
        Some(Verb::Leftovers { remove, json }) => archive::leftovers(remove, Answer::json_if(json)),
    }
}

/// Writes down the shape of a folder.
fn shape(folder: &Path, output: &Path, existing: Existing) -> Result<Exit, AppError> {
    let (shape, said) = crate::freight::read_shape(folder)?;
    let mut file = archive::create(output, existing)?;
    file.write_all(shape.to_toml().as_bytes()).map_err(|e| AppError::file(output, "written", &e))?;
    said.iter().for_each(|s| eprintln!("{}", printable(s)));
    say(&format!("{}: {} files in {} folders", output.display(), shape.files(), shape.parents().len() + 1))?;
    Ok(Exit::Done)
}

/// The ledger that is read: this bench's, or that of the fleet.
fn open_ledger() -> Result<Ledger, AppError> {
    let home = home::home()?;
    if FLEET.load(Ordering::Relaxed) {
        return crate::fleet::ledger_of_all(&home, |note| {
            let _ = writeln!(std::io::stderr(), "hollow-mile: {}", words::printable(note));
        });
    }
    let ledger = Ledger::open(&home)?;
    crate::fleet::start(&home);
    Ok(ledger)
}

/// Writes to standard output; a reader that went away (`| head`) is no fault.
fn say(text: &str) -> Result<(), AppError> {
    match terminal_width() {
        Some(width) => say_as_it_is(&within(text, width)),
        None => say_as_it_is(text),
    }
}

/// What others read back: TOML, JSON.
fn say_as_it_is(text: &str) -> Result<(), AppError> {
    match writeln!(std::io::stdout(), "{}", words::printable(text)) {
        Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(AppError::machine(format!("standard output cannot be written: {e}")))
        }
        _ => Ok(()),
    }
}

/// Columns of the terminal that answers are read on; `None` where they go into a file or a pipe, which take them as they are.
fn terminal_width() -> Option<usize> {
    if !std::io::stdout().is_terminal() {
        return None;
    }
    let (width, _) = ratatui::crossterm::terminal::size().ok()?;
    (width >= 20).then_some(width.into())
}

/// Lines longer than this broken at words, what follows as far in as the line began.
fn within(text: &str, width: usize) -> String {
    let line = |line: &str| {
        let inset = line.len() - line.trim_start_matches(' ').len();
        if words::cells(line) <= width || inset + 10 > width {
            return line.to_owned();
        }
        let lead = " ".repeat(inset);
        let parts = wrap(line.trim_start(), width - inset);
        parts.iter().map(|p| format!("{lead}{p}")).collect::<Vec<_>>().join("\n")
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// Columns for the terminal that they are read on, or as wide as they are for a file or a pipe.
fn table(rows: &[Vec<String>]) -> String {
    terminal_width().map_or_else(|| words::table(rows), |width| words::table_within(rows, width))
}

/// How a command answers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Answer {
    Words,
    Json,
}

impl Answer {
    const fn json_if(asked: bool) -> Self {
        if asked { Self::Json } else { Self::Words }
    }
}

fn say_json(value: &impl Serialize) -> Result<(), AppError> {
    let text = serde_json::to_string_pretty(value).map_err(|e| AppError::machine(format!("no JSON: {e}")))?;
    say_as_it_is(&words::escaped_json(&text))
}
