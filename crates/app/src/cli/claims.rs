//! `claims`: what makers state. `drive`: all that is known of one drive.

use crate::told::drive;
use crate::told::words;
use hollow_mile_core::quantity::text::named;
use std::path::Path;

use hollow_mile_core::archive::claims::{Claims, terabytes};
use hollow_mile_core::quantity::units::{Bytes, clock};
use serde::Serialize;

use super::{Answer, open_ledger, say, say_as_it_is, say_json, table};
use crate::error::{AppError, Exit};
use crate::told::DriveFile;
use crate::{claims, home};

pub fn list(answer: Answer) -> Result<Exit, AppError> {
    let (all, broken) = claims::all(&home::home()?);
    broken.iter().for_each(|b| eprintln!("left out: {b}"));
    if answer == Answer::Json {
        say_json(&all)?;
        return Ok(Exit::Done);
    }
    let or_none = |t: Option<String>| t.unwrap_or_else(|| "not stated".into());
    let mut rows =
        vec![["MODEL", "WRITE", "SUSTAINED", "READ", "ENDURANCE", "SOURCE"].map(String::from).to_vec()];
    rows.extend(all.into_iter().map(|c| {
        vec![
            c.model,
            or_none(c.write.map(|r| r.to_string())),
            or_none(c.sustained_write.map(|r| r.to_string())),
            or_none(c.read.map(|r| r.to_string())),
            or_none(c.endurance.map(|e| terabytes(e.get()))),
            c.source,
        ]
    }));
    say(&table(&rows))?;
    Ok(Exit::Done)
}

pub fn show(model: &str, answer: Answer) -> Result<Exit, AppError> {
    let claims = claims::of_model(&home::home()?, model).ok_or_else(|| {
        AppError::usage(format!(
            "no claims of a model \"{}\": `hollow-mile claims list` names them; your own go into {}",
            named(model),
            home::home().map_or_else(|_| "claims/".into(), |h| claims::folder(&h).display().to_string())
        ))
    })?;
    if answer == Answer::Json {
        say_json(&claims)?;
    } else {
        let text = toml_text(&claims)?;
        say_as_it_is(text.trim_end())?;
    }
    Ok(Exit::Done)
}

fn toml_text(claims: &Claims) -> Result<String, AppError> {
    toml::to_string(claims).map_err(|e| AppError::usage(format!("the claims cannot be written: {e}")))
}

pub fn check(file: &Path, answer: Answer) -> Result<Exit, AppError> {
    say_checked(file, claims::read(file).map(|c| format!("claims of {}", c.model)), answer)
}

/// What a file holds, or what is wrong with it.
pub fn say_checked(file: &Path, read: Result<String, AppError>, answer: Answer) -> Result<Exit, AppError> {
    if answer == Answer::Json {
        let fault = read.as_ref().err().map(|e| e.message.clone());
        say_json(&serde_json::json!({ "file": file, "fault": fault }))?;
        return Ok(if fault.is_some() { Exit::Usage } else { Exit::Done });
    }
    say(&format!("{}: {}", file.display(), read?))?;
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct DriveDocument<'a> {
    serial: &'a str,
    model: &'a str,
    firmware: &'a str,
    capacity_bytes: u64,
    endurance_bytes: Option<u64>,
    drive_writes_per_day: Option<f64>,
    projection: Option<&'a hollow_mile_core::archive::life::Projection>,
    media_projection: Option<&'a hollow_mile_core::archive::life::Projection>,
    cannot_project: Option<String>,
    treated: &'a hollow_mile_core::archive::digest::Treatment,
    slow: Vec<SlowDocument>,
    claims: Option<&'a Claims>,
    hauls: Vec<HaulDocument<'a>>,
    wear: Vec<WearDocument>,
}

#[derive(Serialize)]
struct SlowDocument {
    position_bytes: u64,
    position_end_bytes: u64,
    share: Option<f64>,
    hauls: usize,
}

#[derive(Serialize)]
struct HaulDocument<'a> {
    haul: &'a str,
    route: &'a str,
    started: String,
    found: &'a str,
    figures: &'a [hollow_mile_core::archive::digest::Figure],
    cache: Vec<String>,
    heat: Vec<String>,
    treatment: &'a hollow_mile_core::archive::digest::Treatment,
}

#[derive(Serialize)]
struct WearDocument {
    at: String,
    host_written_bytes: Option<u64>,
    percentage_used: Option<f64>,
}

/// The drive's file, in words or as JSON.
pub fn drive(wanted: &str, answer: Answer) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let file = DriveFile::of(&ledger, &home::home()?, wanted)?;
    let id = &file.identity;
    let per_day = Claims { endurance: file.endurance, ..file.claims.clone().unwrap_or_default() };
    let per_day = per_day.drive_writes_per_day(id.capacity);
    if answer == Answer::Json {
        say_json(&DriveDocument {
            serial: &id.serial,
            model: &id.model,
            firmware: &id.firmware,
            capacity_bytes: id.capacity.get(),
            endurance_bytes: file.endurance.map(Bytes::get),
            drive_writes_per_day: per_day,
            projection: file.projection.as_ref().ok(),
            media_projection: file.media_projection.as_ref(),
            cannot_project: file.projection.as_ref().err().map(|r| r.words()),
            treated: &file.treated,
            slow: file
                .slow
                .iter()
                .map(|(s, hauls)| SlowDocument {
                    position_bytes: s.position_bytes,
                    position_end_bytes: s.position_end_bytes,
                    share: s.share,
                    hauls: *hauls,
                })
                .collect(),
            claims: file.claims.as_ref(),
            hauls: file
                .hauls
                .iter()
                .map(|p| HaulDocument {
                    haul: &p.row.haul,
                    route: &p.row.route,
                    started: words::timestamp(p.row.started_unix_ms),
                    found: &p.row.summary,
                    figures: &p.digest.figures,
                    cache: p.digest.cache_words(),
                    heat: p.digest.heat_words(),
                    treatment: &p.digest.treatment,
                })
                .collect(),
            wear: file
                .wear
                .iter()
                .map(|w| WearDocument {
                    at: words::timestamp(w.unix_ms),
                    host_written_bytes: w.host_written.map(Bytes::get),
                    percentage_used: w.percentage_used,
                })
                .collect(),
        })?;
        return Ok(Exit::Done);
    }
    say(&format!("{}  {}  {}", id.serial, id.model, id.capacity))?;
    for line in drive::drive_file(&file) {
        say(&line)?;
    }
    say("")?;
    let mut rows =
        vec![["HAUL", "STARTED", "ROUTE", "ELAPSED", "WRITTEN", "FOUND"].map(String::from).to_vec()];
    rows.extend(file.hauls.iter().map(|p| {
        vec![
            p.row.haul.clone(),
            words::local_time(p.row.started_unix_ms),
            p.row.route.clone(),
            clock(p.row.elapsed),
            p.row.written.to_string(),
            p.row.summary.clone(),
        ]
    }));
    say(&table(&rows))?;
    Ok(Exit::Done)
}
