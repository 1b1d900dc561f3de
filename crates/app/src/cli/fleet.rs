//! `fleet`: the ledgers of many benches in one PostgreSQL.

use std::io::Read;
use std::path::PathBuf;

use clap::Subcommand;
use hollow_mile_core::quantity::text::named;
use hollow_mile_core::quantity::units::{Bytes, span_words};
use hollow_mile_ledger::Ledger;
use hollow_mile_ledger::fleet::{self as store, Address, Bench, Made, Membership, Records, Rule, Rules};
use serde::Serialize;

use super::{say, say_json, table};
use crate::error::{AppError, Exit};
use crate::told::benches::wrong;
use crate::{fleet, home};

#[derive(Debug, Subcommand)]
pub enum FleetVerb {
    /// Make the fleet's tables on a PostgreSQL server
    Init {
        /// postgres://USER@HOST/DATABASE, or - to read it from standard input; the password stands in ~/.pgpass
        url: String,
    },
    /// Let this bench join a fleet: its hauls are sent from now on, and those that it has
    Join {
        /// As for init
        url: String,
        /// Name of this bench; the host's without it
        #[arg(long, value_name = "NAME")]
        bench: Option<String>,
        /// Read what the others haul, and send nothing
        #[arg(long, conflicts_with = "bench")]
        only_read: bool,
    },
    /// This bench, the server, and all benches
    Status {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Send what was not sent yet, now
    Send {
        /// Go on sending until stopped, as a service does
        #[arg(long)]
        follow: bool,
    },
    /// Make the tables of the coming months, and let records go that are older than the fleet's rule says; figures and findings stay
    Tidy {
        /// From now on records are kept for so many days
        #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u32).range(1..=36500))]
        keep: Option<u32>,
        /// From now on records are kept for good
        #[arg(long, conflicts_with = "keep")]
        keep_all: bool,
        /// From now on records that are older are made smaller, as by `ledger --compact`
        #[arg(long, value_name = "DAYS", value_parser = clap::value_parser!(u32).range(1..=36500))]
        compact: Option<u32>,
        /// From now on they keep all of their samples
        #[arg(long, conflicts_with = "compact")]
        compact_none: bool,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Spread records over these PostgreSQL servers from now on, by its own foreign tables
    Spread {
        /// As for init, as the fleet's server reaches them; at least two
        #[arg(value_name = "URL", required = true, num_args = 2..=64)]
        urls: Vec<String>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Leave the fleet: the server keeps what it has, and nothing more is sent
    Leave,
    /// Write hauls as Parquet files by model and month; what is there stays, so a later export adds
    Export {
        /// Folder to write into
        folder: PathBuf,
        /// Words that a haul must have, as for `ledger`
        #[arg(value_name = "WORD")]
        filter: Vec<String>,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Figures of all benches as OpenMetrics text
    Metrics,
}

/// An address from the command line, or from standard input, where nobody else sees it.
fn address(given: &str) -> Result<Address, AppError> {
    let text = if given == "-" {
        let mut text = String::new();
        std::io::stdin()
            .read_to_string(&mut text)
            .map_err(|e| AppError::usage(format!("standard input cannot be read: {e}")))?;
        text
    } else {
        given.to_owned()
    };
    Ok(text.parse::<Address>()?)
}

fn host() -> String {
    let name = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    let name = name.trim();
    if name.is_empty() { "bench".into() } else { name.to_owned() }
}

#[derive(Serialize)]
struct Status {
    bench: Option<String>,
    server: Option<String>,
    joined: bool,
    sending: bool,
    unsent_hauls: u64,
    trouble: Option<String>,
    records: Option<Records>,
    benches: Vec<Bench>,
}

fn status_now() -> Result<Status, AppError> {
    let home = home::home()?;
    let Some(membership) = Membership::read(&home)? else {
        return Ok(Status {
            bench: None,
            server: None,
            joined: false,
            sending: false,
            unsent_hauls: 0,
            trouble: None,
            records: None,
            benches: Vec::new(),
        });
    };
    let address = membership.address()?;
    let told = store::benches(&address);
    let trouble = told.as_ref().err().map(ToString::to_string).or_else(|| fleet::trouble(&home));
    Ok(Status {
        bench: Some(membership.bench).filter(|b| !b.is_empty()),
        server: Some(address.server()),
        joined: true,
        sending: fleet::is_sending(&home),
        unsent_hauls: Ledger::open(&home)?.unsent()?,
        trouble,
        records: told.is_ok().then(|| store::records(&address).ok()).flatten(),
        benches: told.unwrap_or_default(),
    })
}

fn status(json: bool) -> Result<Exit, AppError> {
    let s = status_now()?;
    if json {
        say_json(&s)?;
        return Ok(Exit::Done);
    }
    let Some(server) = &s.server else {
        say("this bench is in no fleet: `hollow-mile fleet join URL` joins one")?;
        return Ok(Exit::Done);
    };
    let unsent = match s.unsent_hauls {
        0 => "all is sent".to_owned(),
        1 => "1 haul has something that is not sent".to_owned(),
        n => format!("{n} hauls have something that is not sent"),
    };
    let sends = if s.sending { ", a process is sending" } else { "" };
    say(&match &s.bench {
        Some(bench) => format!("{bench}, in the fleet at {server}: {unsent}{sends}"),
        None => format!("the fleet at {server} is read from here, and nothing is sent to it"),
    })?;
    if let Some(trouble) = &s.trouble {
        say(&format!("note: {trouble}"))?;
    }
    if let Some(records) = s.records.as_ref().map(records_words).filter(|w| !w.is_empty()) {
        say(&records)?;
    }
    if !s.benches.is_empty() {
        let head = ["BENCH", "HAULS", "RUNNING", "WRITTEN", "UNSENT", "HEARD OF", "WRONG"];
        let mut lines = vec![head.map(String::from).to_vec()];
        lines.extend(s.benches.iter().map(|b| {
            vec![
                b.name.clone(),
                b.hauls.to_string(),
                b.running.to_string(),
                Bytes::new(b.written_bytes.unsigned_abs()).to_string(),
                b.unsent_hauls.to_string(),
                format!("{} ago", span_words(b.seen_s.max(0.0).round())),
                wrong(b),
            ]
        }));
        say("")?;
        say(&table(&lines))?;
    }
    Ok(Exit::Done)
}

fn join(url: &str, bench: Option<&str>) -> Result<Exit, AppError> {
    let name = bench.map_or_else(host, str::to_owned);
    let plain = |c: char| c.is_alphanumeric() || "-_.".contains(c);
    if name.is_empty() || name.chars().count() > 60 || !name.chars().all(plain) {
        return Err(AppError::usage(format!(
            "\"{}\" is no name for a bench: letters, digits, -, _ and . make one, as in north-3",
            named(&name)
        )));
    }
    let home = home::home()?;
    let ledger = Ledger::open(&home)?;
    let joined = Membership::join(&home, &address(url)?, &name)?;
    ledger.send_all_anew()?;
    fleet::start(&home);
    let n = ledger.hauls()?.len();
    let hauls = if n == 1 { "its haul is".into() } else { format!("its {n} hauls are") };
    say(&format!("{} has joined; {hauls} being sent: `hollow-mile fleet status`", joined.bench))?;
    Ok(Exit::Done)
}

/// Where records lie and for how long, where that is not the plain case.
fn records_words(r: &Records) -> String {
    let mut words = Vec::new();
    if !r.servers.is_empty() {
        words.push(format!("records lie on {}", r.servers.join(", ")));
    }
    words.extend(r.days.map(|d| format!("they are kept for {d} days")));
    words.extend(r.from.as_ref().map(|f| format!("none from before {f} are left")));
    let text = words.join("; ");
    // They are named once.
    if r.servers.is_empty() { text.replacen("they are", "records are", 1) } else { text }
}

fn months(n: usize) -> String {
    if n == 1 { "1 month".into() } else { format!("{n} months") }
}

fn tidy(rules: Rules, json: bool) -> Result<Exit, AppError> {
    let done = store::tidy(&fleet::address(&home::home()?)?, rules)?;
    if json {
        say_json(&done)?;
        return Ok(Exit::Done);
    }
    say(&match done.records_days {
        None => "records are kept for good".to_owned(),
        Some(days) => format!("records are kept for {days} days, and to the end of their month"),
    })?;
    say(&match done.let_go.as_slice() {
        [] => "no record is older".to_owned(),
        gone => format!("records of {} are gone: {}", months(gone.len()), gone.join(", ").replace('_', "-")),
    })?;
    if let Some(days) = done.thin_days {
        let t = done.thinned;
        say(&format!(
            "records older than {days} days are made smaller: {} now, {} became {}",
            if t.hauls == 1 { "1 haul".to_owned() } else { format!("{} hauls", t.hauls) },
            Bytes::new(t.bytes_before),
            Bytes::new(t.bytes_after)
        ))?;
    }
    say(&format!("{} of tables made ahead", months(done.made)))?;
    Ok(Exit::Done)
}

fn spread(urls: &[String], json: bool) -> Result<Exit, AppError> {
    let servers: Vec<Address> =
        urls.iter().map(|u| Ok(u.parse::<Address>()?)).collect::<Result<_, AppError>>()?;
    let done = store::spread(&fleet::address(&home::home()?)?, &servers)?;
    if json {
        say_json(&done)?;
        return Ok(Exit::Done);
    }
    say(&format!("records of {} lie on {} servers", months(done.months), done.servers))?;
    if !done.stay.is_empty() {
        say(&format!(
            "those of {} stay where they are: {}",
            months(done.stay.len()),
            done.stay.join(", ").replace('_', "-")
        ))?;
    }
    Ok(Exit::Done)
}

fn metrics() -> Result<Exit, AppError> {
    let benches = store::benches(&fleet::address(&home::home()?)?)?;
    type Family = (&'static str, &'static str, &'static str, fn(&Bench) -> f64);
    const FAMILIES: [Family; 6] = [
        ("hollow_mile_fleet_hauls", "", "Hauls of the bench on the server.", |b| b.hauls as f64),
        ("hollow_mile_fleet_running", "", "Hauls of the bench under way.", |b| b.running as f64),
        ("hollow_mile_fleet_written_bytes", "bytes", "Bytes written by the bench's hauls.", |b| {
            b.written_bytes as f64
        }),
        ("hollow_mile_fleet_unsent_hauls", "", "Hauls that have something that is not sent.", |b| {
            b.unsent_hauls as f64
        }),
        ("hollow_mile_fleet_heard_seconds", "seconds", "Time since the bench was heard of.", |b| b.seen_s),
        ("hollow_mile_fleet_clock_off_seconds", "seconds", "The bench's clock less the server's.", |b| {
            b.clock_off_ms as f64 / 1e3
        }),
    ];
    let mut out = String::new();
    for (name, unit, about, value) in FAMILIES {
        out.push_str(&format!("# TYPE {name} gauge\n"));
        if !unit.is_empty() {
            out.push_str(&format!("# UNIT {name} {unit}\n"));
        }
        out.push_str(&format!("# HELP {name} {about}\n"));
        for b in benches.iter().filter(|b| !b.left) {
            out.push_str(&format!("{name}{{bench=\"{}\"}} {}\n", crate::metrics::escaped(&b.name), value(b)));
        }
    }
    out.push_str("# EOF");
    super::say_as_it_is(&out)?;
    Ok(Exit::Done)
}

/// Runs it.
///
/// # Errors
/// In a sentence.
pub fn run(verb: &FleetVerb) -> Result<Exit, AppError> {
    match verb {
        FleetVerb::Init { url } => {
            let address = address(url)?;
            let mut client = address.connect()?;
            let server = address.server();
            say(&match store::init(&mut client, &address)? {
                Made::WithRoles => format!(
                    "there is a fleet at {server} now; grant its roles to the benches' users: {}",
                    store::ROLES.join(", ")
                ),
                Made::WithoutRoles => format!(
                    "there is a fleet at {server} now; {} may not make roles, so every bench has to be this user",
                    address.user()
                ),
                Made::UpToDate => format!(
                    "the fleet at {server} was of an older program and is up to date now; copies of its small tables are in the schema hollow_mile_version_1"
                ),
                Made::Nothing => format!("there is a fleet at {server} already, and it is up to date"),
            })?;
            Ok(Exit::Done)
        }
        FleetVerb::Join { url, only_read: true, .. } => {
            Membership::join_to_read(&home::home()?, &address(url)?)?;
            say("the fleet is read from here, and nothing is sent to it: `hollow-mile --fleet ledger`")?;
            Ok(Exit::Done)
        }
        FleetVerb::Join { url, bench, .. } => join(url, bench.as_deref()),
        FleetVerb::Status { json } => status(*json),
        FleetVerb::Send { follow: true } => fleet::run(&home::home()?, true),
        FleetVerb::Send { follow: false } => {
            let (mut hauls, mut bytes) = (0, 0);
            fleet::send(&home::home()?, |s| (hauls, bytes) = (hauls + s.hauls, bytes + s.bytes))?;
            say(&format!("sent: {hauls} hauls, {} of records", Bytes::new(bytes as u64)))?;
            Ok(Exit::Done)
        }
        FleetVerb::Tidy { keep, keep_all, compact, compact_none, json } => {
            let rule = |days: &Option<u32>, for_good: bool| {
                if for_good { Some(Rule::ForGood) } else { days.map(Rule::Days) }
            };
            tidy(Rules { records: rule(keep, *keep_all), samples: rule(compact, *compact_none) }, *json)
        }
        FleetVerb::Spread { urls, json } => spread(urls, *json),
        FleetVerb::Leave => {
            let told = Membership::leave(&home::home()?)?;
            say(if told {
                "this bench has left the fleet; the server keeps what it has"
            } else {
                "this bench has left the fleet; the server does not know yet, since it did not answer, and keeps what it has"
            })?;
            Ok(Exit::Done)
        }
        FleetVerb::Export { folder, filter, json } => super::open_data::run(folder, filter, *json),
        FleetVerb::Metrics => metrics(),
    }
}
