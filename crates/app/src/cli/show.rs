//! Commands that show what there is: yard, routes, simulated drives.

use std::path::Path;

use hollow_mile_core::drive::{DriveIdentity, Link};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::route::{Route, RouteError};
use hollow_mile_drives::sim::Truth;
use serde::Serialize;

use super::{Answer, say, say_as_it_is, say_json, table};
use crate::error::{AppError, Exit};
use crate::{home, machine, targets};

#[derive(Serialize)]
struct YardRow {
    drive: String,
    kind: &'static str,
    model: String,
    serial: String,
    firmware: String,
    capacity_bytes: u64,
    block_bytes: u64,
    rotational: bool,
    link: Option<String>,
    throttle_c: Option<f64>,
    fill_percent: Option<f64>,
    safe_to_write: bool,
    /// What stands against writing, or what must be given up and typed first.
    safety: String,
    transport: Option<String>,
    physical_block_bytes: Option<u64>,
    scheduler: Option<String>,
    write_cache: Option<String>,
    discard: Option<bool>,
    utilization_bytes: Option<u64>,
    link_shortfall: Option<String>,
    temperature_c: Option<f64>,
    percentage_used: Option<f64>,
    partitions: Vec<PartitionRow>,
    holders: Vec<String>,
    /// What would be lost, a line each.
    losses: Vec<String>,
    gaps: Vec<String>,
    /// Zones, where it has such.
    zones: Option<machine::ZonesDocument>,
    /// What stands between it and its USB port.
    bridge: Option<String>,
    /// What it is built of, each after what is built on it.
    members: Vec<machine::MemberDocument>,
}

#[derive(Serialize)]
struct PartitionRow {
    name: String,
    size_bytes: u64,
}

fn row(d: DriveIdentity) -> YardRow {
    let facts = d.device.clone();
    YardRow {
        kind: machine::kind_word(d.kind),
        link: d.link.as_ref().map(Link::words),
        link_shortfall: d.link.as_ref().and_then(Link::shortfall),
        throttle_c: d.throttle_limit.map(Celsius::degrees),
        drive: d.target,
        model: d.model,
        serial: d.serial,
        firmware: d.firmware,
        capacity_bytes: d.capacity.get(),
        block_bytes: d.block.get(),
        rotational: d.rotational,
        fill_percent: d.fill_percent,
        safe_to_write: true,
        safety: "simulated: nothing real is written".into(),
        transport: facts.as_ref().map(|f| f.transport.clone()),
        physical_block_bytes: facts.as_ref().map(|f| f.physical_block.get()),
        scheduler: facts.as_ref().map(|f| f.scheduler.clone()),
        write_cache: facts.as_ref().map(|f| f.write_cache.clone()),
        discard: facts.as_ref().map(|f| f.discard),
        utilization_bytes: facts.as_ref().and_then(|f| f.utilization.map(Bytes::get)),
        temperature_c: None,
        percentage_used: None,
        partitions: Vec::new(),
        holders: Vec::new(),
        losses: Vec::new(),
        gaps: Vec::new(),
        zones: d.zones.as_ref().map(machine::ZonesDocument::of),
        bridge: facts.map(|f| f.bridge).filter(|b| !b.is_empty()),
        members: Vec::new(),
    }
}

fn device_row(device: machine::Device) -> YardRow {
    let health = device.prober.health();
    let partitions = device.block.partitions();
    YardRow {
        // Free of obstacles and of anything known: what is left to do is to type its serial.
        safe_to_write: device.examination.is_free() && device.examination.signatures.is_empty(),
        safety: device.examination.words(),
        temperature_c: health.vitals.composite_temperature.map(Celsius::degrees),
        percentage_used: health.vitals.percentage_used,
        partitions: partitions
            .into_iter()
            .map(|p| PartitionRow { name: p.name, size_bytes: p.size.get() })
            .collect(),
        holders: device.block.holders(),
        losses: device.examination.losses.clone(),
        gaps: health.gaps,
        members: machine::members_asked(&device.block).iter().map(machine::MemberDocument::of).collect(),
        ..row(device.identity)
    }
}

pub fn yard(answer: Answer) -> Result<Exit, AppError> {
    let real = machine::devices(&home::home()?).into_iter().map(device_row);
    let rows: Vec<YardRow> = real.chain(targets::yard().into_iter().map(|(d, _)| row(d))).collect();
    if answer == Answer::Json {
        say_json(&rows)?;
        return Ok(Exit::Done);
    }
    let mut lines =
        vec![["DRIVE", "MODEL", "SERIAL", "CAPACITY", "LINK", "WRITING"].map(String::from).to_vec()];
    for r in rows {
        let capacity = Bytes::new(r.capacity_bytes).to_string();
        let link = match (r.link, r.link_shortfall) {
            (Some(link), Some(less)) => format!("{link} ({less})"),
            (link, _) => link.unwrap_or_default(),
        };
        lines.push(vec![r.drive, r.model, r.serial, capacity, link, r.safety]);
    }
    lines.push(vec!["file:PATH".into(), "a new file on this machine, with --size".into()]);
    say(&table(&lines))?;
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct RouteDocument<'a> {
    #[serde(flatten)]
    route: &'a Route,
    words: Vec<String>,
    writes: bool,
}

fn document(route: &Route) -> RouteDocument<'_> {
    RouteDocument {
        route,
        words: route.legs.iter().map(hollow_mile_core::route::Leg::words).collect(),
        writes: route.destroys(),
    }
}

pub fn routes(answer: Answer) -> Result<Exit, AppError> {
    let (routes, broken) = targets::all_routes(&home::home()?);
    broken.iter().for_each(|b| eprintln!("left out: {b}"));
    if answer == Answer::Json {
        say_json(&routes.iter().map(document).collect::<Vec<_>>())?;
    } else {
        let mut lines = vec![vec!["ROUTE".to_owned(), "FINDS OUT".to_owned()]];
        lines.extend(routes.iter().map(|r| vec![r.name.clone(), r.about.clone()]));
        say(&table(&lines))?;
    }
    Ok(Exit::Done)
}

pub fn route(name: &str, answer: Answer) -> Result<Exit, AppError> {
    let route = targets::find_route(name, &home::home()?)?;
    if answer == Answer::Json {
        say_json(&document(&route))?;
    } else {
        let text = route.to_toml().map_err(|e| AppError::usage(e.to_string()))?;
        say_as_it_is(text.trim_end())?;
    }
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct FaultDocument {
    line: Option<usize>,
    column: Option<usize>,
    message: String,
}

pub fn check_route(file: &Path, answer: Answer) -> Result<Exit, AppError> {
    let text = std::fs::read_to_string(file).map_err(|e| AppError::file(file, "read", &e))?;
    let checked = Route::read_all_faults(&text);
    if answer == Answer::Json {
        let faults: Vec<FaultDocument> = checked
            .as_ref()
            .err()
            .into_iter()
            .flatten()
            .map(|e| match e {
                RouteError::File { line, column, message } => {
                    FaultDocument { line: Some(*line), column: Some(*column), message: message.clone() }
                }
                RouteError::Sense { .. } => {
                    FaultDocument { line: None, column: None, message: e.to_string() }
                }
            })
            .collect();
        say_json(&serde_json::json!({ "file": file, "good": faults.is_empty(), "faults": faults }))?;
        return Ok(if checked.is_ok() { Exit::Done } else { Exit::Usage });
    }
    let route = checked.map_err(|all| {
        let lines: Vec<String> = all.iter().map(|e| format!("{}: {e}", file.display())).collect();
        AppError::usage(lines.join("\n"))
    })?;
    let legs: Vec<String> =
        route.legs.iter().enumerate().map(|(i, l)| format!("  {}. {}", i + 1, l.words())).collect();
    let count = if legs.len() == 1 { "1 leg".to_owned() } else { format!("{} legs", legs.len()) };
    say(&format!("{}: good, {count}\n{}", file.display(), legs.join("\n")))?;
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct SimDocument {
    name: String,
    about: String,
    model: String,
    serial: String,
    capacity_bytes: u64,
    /// What is wrong with it, in words.
    fault: Option<String>,
    truth: Truth,
}

fn sim_document(spec: &hollow_mile_drives::sim::SimSpec) -> SimDocument {
    SimDocument {
        name: spec.name.clone(),
        about: spec.about.clone(),
        model: spec.model.clone(),
        serial: spec.serial.clone(),
        capacity_bytes: spec.capacity.get(),
        fault: spec.fault.words(),
        truth: spec.truth(),
    }
}

pub fn sims(answer: Answer) -> Result<Exit, AppError> {
    let specs: Vec<_> = targets::yard().into_iter().map(|(_, s)| s).collect();
    if answer == Answer::Json {
        say_json(&specs.iter().map(sim_document).collect::<Vec<_>>())?;
    } else {
        let mut lines = vec![["NAME", "CAPACITY", "WHAT IT IS"].map(String::from).to_vec()];
        lines.extend(specs.iter().map(|s| vec![s.name.clone(), s.capacity.to_string(), s.about.clone()]));
        say(&table(&lines))?;
    }
    Ok(Exit::Done)
}

pub fn sim(name: &str, answer: Answer) -> Result<Exit, AppError> {
    let name = name.strip_prefix("sim:").unwrap_or(name);
    let spec = targets::sim_spec(name)?;
    if answer == Answer::Json {
        say_json(&sim_document(&spec))?;
    } else {
        let text =
            hollow_mile_drives::sim::SHIPPED.iter().find(|(n, _)| *n == name).map(|(_, t)| (*t).to_owned());
        let text = match text {
            Some(text) => text,
            None => std::fs::read_to_string(name).map_err(|e| AppError::file(Path::new(name), "read", &e))?,
        };
        say_as_it_is(text.trim_end())?;
    }
    Ok(Exit::Done)
}
