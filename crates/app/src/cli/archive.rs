//! Commands on the ledger: list, findings, chart, import, export, leftovers.

use crate::told::Told;
use crate::told::findings;
use crate::told::headline;
use crate::told::words;
use std::fs::{File, OpenOptions};
use std::io::{Cursor, Read, Seek};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use hollow_mile_core::archive::document::{FindingsDocument, Noted};
use hollow_mile_core::conclude::models::stream;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_core::route::Stream;
use hollow_mile_ledger::{HaulRow, csv};
use serde::Serialize;

use super::{Answer, open_ledger, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::home;

#[derive(Serialize)]
struct LedgerRow {
    haul: String,
    drive: String,
    route: String,
    state: &'static str,
    started: String,
    elapsed_s: f64,
    written_bytes: u64,
    read_bytes: u64,
    samples: u64,
    model: String,
    serial: String,
    label: Option<String>,
    found: String,
    limits: String,
    ambient_c: Option<f64>,
    cooling: Option<String>,
    slot: Option<String>,
    tags: std::collections::BTreeMap<String, String>,
    note: Option<String>,
    /// Samples that are left since it was compacted.
    kept_samples: Option<u64>,
}

fn document(r: HaulRow) -> LedgerRow {
    LedgerRow {
        started: words::timestamp(r.started_unix_ms),
        haul: r.haul,
        drive: r.drive,
        route: r.route,
        state: r.state.word(),
        elapsed_s: r.elapsed.as_secs_f64(),
        written_bytes: r.written.get(),
        read_bytes: r.read.get(),
        samples: r.samples,
        model: r.model,
        serial: r.serial,
        label: r.label,
        found: r.summary,
        limits: r.limits,
        ambient_c: r.conditions.ambient.map(Celsius::degrees),
        cooling: r.conditions.cooling,
        slot: r.conditions.slot,
        tags: r.conditions.tags.into_iter().collect(),
        note: r.note,
        kept_samples: r.kept_samples,
    }
}

pub fn list(drive: Option<&str>, filter: &[String], deleted: bool, answer: Answer) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let mut rows = if deleted { ledger.deleted()? } else { ledger.hauls()? };
    words::keep_with(&mut rows, filter);
    if let Some(drive) = drive {
        let wanted = drive.to_lowercase();
        rows.retain(|r| [&r.drive, &r.model, &r.serial].iter().any(|t| t.to_lowercase().contains(&wanted)));
    }
    if answer == Answer::Json {
        say_json(&rows.into_iter().map(document).collect::<Vec<_>>())?;
        return Ok(Exit::Done);
    }
    if rows.is_empty() && (drive.is_some() || !filter.is_empty() || deleted) {
        say(if deleted { "no haul is deleted" } else { "no haul has all of these" })?;
        return Ok(Exit::Done);
    }
    if rows.is_empty() {
        say("no hauls yet: `hollow-mile haul long-haul --on sim:ptarmigan-4t` makes one")?;
        return Ok(Exit::Done);
    }
    let head = ["HAUL", "STARTED", "DRIVE", "ROUTE", "STATE", "ELAPSED", "WRITTEN", "FOUND"];
    let mut lines = vec![head.map(String::from).to_vec()];
    lines.extend(rows.into_iter().map(|r| {
        vec![
            r.haul,
            words::local_time(r.started_unix_ms),
            r.drive,
            r.route,
            r.state.word().to_owned(),
            hollow_mile_core::quantity::units::clock(r.elapsed),
            r.written.to_string(),
            r.summary,
        ]
    }));
    say(&table(&lines))?;
    Ok(Exit::Done)
}

/// Hands over the events of a CSV file as they are read; one that cannot be read twice (a pipe) is held.
fn read_csv(path: &Path, take: &mut dyn FnMut(Event)) -> Result<(), AppError> {
    let mut file = File::open(path).map_err(|e| AppError::file(path, "read", &e))?;
    let name = path.file_name().map_or_else(|| "file".into(), |n| n.to_string_lossy().into_owned());
    let warnings = if file.stream_position().is_ok() {
        csv::stream(&name, file, take)
    } else {
        let mut held = Vec::new();
        file.read_to_end(&mut held).map_err(|e| AppError::file(path, "read", &e))?;
        csv::stream(&name, Cursor::new(held), take)
    };
    let warnings = warnings.map_err(|e| AppError::usage(format!("{}: {e}", path.display())))?;
    warnings.iter().for_each(|w| eprintln!("{}", words::printable(&format!("{}: {w}", path.display()))));
    Ok(())
}

pub fn findings(
    source: &str,
    hold: Option<(Stream, Bytes)>,
    ambient: Option<Celsius>,
    answer: Answer,
) -> Result<Exit, AppError> {
    let home = home::home()?;
    let told = if source.ends_with(".csv") {
        let mut readings = Readings::new();
        read_csv(Path::new(source), &mut |e| readings.push(&e))?;
        Told::of_record(source, readings, &home)
    } else {
        Told::of_haul(&open_ledger()?, &home, source)?
    };
    let (readings, conclusions) = (&told.readings, &told.conclusions);
    let stands = told.stands();
    let stream = hold.map(|(s, buffer)| stream::hold(readings, conclusions, s, buffer));
    if answer == Answer::Json {
        let drive = readings.head().map_or("unknown", |h| h.drive.target.as_str());
        say_json(&FindingsDocument {
            haul: &told.haul,
            drive,
            findings: &conclusions.findings,
            figures: &conclusions.figures,
            doubts: readings.doubts(),
            notes: readings
                .notes()
                .iter()
                .map(|(at, text)| Noted { elapsed_s: at.as_secs_f64(), text })
                .collect(),
            cost: told.cost(),
            surveys: &conclusions.surveys,
            cut_legs: &conclusions.cut_legs,
            limits: &told.limits,
            claims: &stands,
            stream: stream.map(Into::into),
            models: &told.models,
        })?;
        return Ok(Exit::Done);
    }
    say(&headline::answer(readings, conclusions))?;
    for l in &told.limits {
        say(&words::limit(l))?;
    }
    say(&findings::findings(conclusions))?;
    let rate = conclusions.figures.hottest_rate();
    let mut parts = vec![
        ("figures", findings::figures(&conclusions.figures)),
        ("cache", told.models.cache_words()),
        ("heat", told.models.heat_words(rate, ambient)),
    ];
    parts.extend(stream.map(|s| ("stream", s.map_or_else(|r| vec![r.words()], |h| h.sentences()))));
    let mut claimed: Vec<String> = stands.iter().map(|s| format!("{}.", s.words())).collect();
    claimed.extend(told.claimed_heat().iter().map(|w| format!("{w}.")));
    claimed.extend(told.cost().filter(|c| c.written_bytes > 0).map(|c| format!("this haul {}.", c.words())));
    parts.push(("claims", claimed));
    let noted = readings
        .notes()
        .iter()
        .map(|(at, text)| format!("{}  {text}", hollow_mile_core::quantity::units::clock(*at)));
    parts.push(("notes", noted.collect()));
    parts.push(("doubts", readings.doubts()));
    for (name, lines) in parts.iter().filter(|p| !p.1.is_empty()) {
        say(&format!(
            "\n{name}\n{}",
            lines.iter().map(|l| format!("   {l}")).collect::<Vec<_>>().join("\n")
        ))?;
    }
    Ok(Exit::Done)
}

/// What becomes of a file that is there already.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Existing {
    Keep,
    Replace,
}

impl Existing {
    pub(super) const fn replace_if(forced: bool) -> Self {
        if forced { Self::Replace } else { Self::Keep }
    }
}

/// Makes a file for writing; one that exists is written over only when told to.
pub(super) fn create(path: &Path, existing: Existing) -> Result<File, AppError> {
    let mut options = OpenOptions::new();
    options.write(true).mode(0o600);
    if existing == Existing::Replace {
        options.create(true).truncate(true)
    } else {
        options.create_new(true)
    };
    options.open(path).map_err(|e| match e.kind() {
        std::io::ErrorKind::AlreadyExists => AppError::usage(format!(
            "{} exists: give another name, or --force to write over it",
            path.display()
        )),
        _ => AppError::file(path, "written", &e),
    })
}

pub fn import(path: &Path, answer: Answer) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let id = ledger.new_haul_id()?;
    let mut writer = None;
    let mut waiting = Some(ledger);
    let mut failed = None;
    let mut readings = Readings::new();
    let mut take = |mut event: Event| -> Result<(), AppError> {
        if let Event::HaulStarted(head) = &mut event {
            head.haul.clone_from(&id);
            head.started_unix_ms = jiff::Timestamp::now().as_millisecond();
            head.conditions.label = path.file_name().map(|n| n.to_string_lossy().into_owned());
            writer = waiting.take().map(|l| l.begin(head)).transpose()?;
        }
        readings.push(&event);
        if let Some(writer) = &mut writer {
            writer.push(event)?;
        }
        Ok(())
    };
    read_csv(path, &mut |event| {
        if failed.is_none() {
            failed = take(event).err();
        }
    })?;
    if let Some(error) = failed {
        return Err(error);
    }
    let conclusions = readings.conclude();
    let writer = writer.ok_or_else(|| AppError::usage("the file has no rows"))?;
    writer.finish(HaulState::Done, None, &readings, &conclusions)?;
    if answer == Answer::Json {
        #[derive(Serialize)]
        struct Done<'a> {
            haul: &'a str,
            samples: usize,
        }
        say_json(&Done { haul: &id, samples: readings.series().len() })?;
    } else {
        say(&format!(
            "haul {id}: {} samples\n{}",
            readings.series().len(),
            headline::answer(&readings, &conclusions)
        ))?;
    }
    Ok(Exit::Done)
}

pub fn leftovers(remove: bool, answer: Answer) -> Result<Exit, AppError> {
    #[derive(Serialize)]
    struct Row {
        path: String,
        size_bytes: u64,
        haul: String,
        removed: bool,
        /// It is that haul's file beyond doubt.
        certain: bool,
    }
    let ledger = open_ledger()?;
    let mut rows = Vec::new();
    for left in ledger.leftovers()? {
        let removed = remove && crate::targets::remove_leftover(&ledger, &left)?;
        rows.push(Row {
            path: left.path.display().to_string(),
            size_bytes: left.size.get(),
            haul: left.haul,
            removed,
            certain: left.certain,
        });
    }
    if answer == Answer::Json {
        say_json(&rows)?;
    } else if rows.is_empty() {
        say("nothing was left behind")?;
    } else {
        for r in rows {
            let size = hollow_mile_core::quantity::units::Bytes::new(r.size_bytes);
            let fate = match (r.removed, r.certain) {
                (true, _) => format!("removed; haul {} had left it", r.haul),
                (false, true) => format!("left behind by haul {}", r.haul),
                (false, false) => format!(
                    "left alone: it lies where haul {} had a file, and may be another by now; remove it yourself if it is not yours",
                    r.haul
                ),
            };
            say(&format!("{}  {size}  {fate}", r.path))?;
        }
    }
    Ok(Exit::Done)
}
