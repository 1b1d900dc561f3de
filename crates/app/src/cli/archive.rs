//! Commands on the ledger: list, findings, chart, import, export, leftovers.

use std::fs::{File, OpenOptions};
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use hollow_mile_core::event::{Event, HaulState};
use hollow_mile_core::finding::{Conclusions, FindingsDocument};
use hollow_mile_core::models::Models;
use hollow_mile_core::models::stream::{self, Stream};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::units::{Bytes, Celsius};
use hollow_mile_ledger::{HaulRow, csv_file};
use serde::Serialize;

use super::{Along, ChartKind, ExportKind, open_ledger, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::text;

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
}

fn document(r: HaulRow) -> LedgerRow {
    LedgerRow {
        started: text::timestamp(r.started_unix_ms),
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
    }
}

pub fn list(drive: Option<&str>, json: bool) -> Result<Exit, AppError> {
    let mut rows = open_ledger()?.hauls()?;
    if let Some(drive) = drive {
        let wanted = drive.to_lowercase();
        rows.retain(|r| [&r.drive, &r.model, &r.serial].iter().any(|t| t.to_lowercase().contains(&wanted)));
    }
    if json {
        say_json(&rows.into_iter().map(document).collect::<Vec<_>>())?;
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
            text::local_time(r.started_unix_ms),
            r.drive,
            r.route,
            r.state.word().to_owned(),
            hollow_mile_core::units::clock(r.elapsed),
            r.written.to_string(),
            r.summary,
        ]
    }));
    say(&table(&lines))?;
    Ok(Exit::Done)
}

fn read_csv(path: &Path) -> Result<Vec<Event>, AppError> {
    let file = File::open(path).map_err(|e| AppError::file(path, "read", &e))?;
    let name = path.file_name().map_or_else(|| "file".into(), |n| n.to_string_lossy().into_owned());
    let got =
        csv_file::import(&name, file).map_err(|e| AppError::usage(format!("{}: {e}", path.display())))?;
    got.warnings.iter().for_each(|w| eprintln!("{}: {w}", path.display()));
    Ok(got.events)
}

fn fold(events: &[Event]) -> (Readings, Conclusions) {
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let conclusions = readings.conclude();
    (readings, conclusions)
}

pub fn findings(
    source: &str,
    hold: Option<(Stream, Bytes)>,
    ambient: Option<Celsius>,
    json: bool,
) -> Result<Exit, AppError> {
    let (haul, readings, conclusions) = if source.ends_with(".csv") {
        let (readings, conclusions) = fold(&read_csv(Path::new(source))?);
        (readings.head().map_or_else(|| source.to_owned(), |h| h.haul.clone()), readings, conclusions)
    } else {
        let ledger = open_ledger()?;
        let row = ledger.haul(source)?;
        let readings = ledger.readings(&row.haul)?;
        let conclusions = readings.conclude();
        (row.haul, readings, conclusions)
    };
    let models = Models::of(&readings, &conclusions);
    let stream = hold.map(|(s, buffer)| stream::hold(&readings, &conclusions, s, buffer));
    if json {
        let drive = readings.head().map_or("unknown", |h| h.drive.target.as_str());
        say_json(&FindingsDocument {
            haul: &haul,
            drive,
            findings: &conclusions.findings,
            figures: &conclusions.figures,
            doubts: readings.doubts(),
            models: Some(models),
            stream: stream.map(Into::into),
        })?;
        return Ok(Exit::Done);
    }
    say(&text::answer(&readings, &conclusions))?;
    say(&text::findings(&conclusions))?;
    let rate = text::asked_rate(&conclusions);
    let mut parts = vec![
        ("figures", text::figures(&conclusions.figures)),
        ("cache", models.cache_words()),
        ("heat", models.heat_words(rate, ambient)),
    ];
    parts.extend(stream.map(|s| ("stream", s.map_or_else(|r| vec![r.words()], |h| h.sentences()))));
    parts.push(("doubts", readings.doubts()));
    for (name, lines) in parts.iter().filter(|p| !p.1.is_empty()) {
        say(&format!(
            "\n{name}\n{}",
            lines.iter().map(|l| format!("   {l}")).collect::<Vec<_>>().join("\n")
        ))?;
    }
    Ok(Exit::Done)
}

/// Makes a file for writing; one that exists is written over only when told to.
fn create(path: &Path, force: bool) -> Result<File, AppError> {
    let mut options = OpenOptions::new();
    options.write(true).mode(0o644);
    if force {
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

pub fn chart(
    hauls: &[String],
    kind: ChartKind,
    along: Along,
    output: &Path,
    force: bool,
) -> Result<Exit, AppError> {
    match output.extension().and_then(|e| e.to_str()) {
        Some("svg") => {}
        _ => {
            return Err(AppError::usage(format!(
                "{} has no ending that can be drawn: end it in .svg",
                output.display()
            )));
        }
    }
    let [haul] = hauls else {
        return Err(AppError::usage("lanes show one haul: give one"));
    };
    let ChartKind::Lanes = kind;
    let ledger = open_ledger()?;
    let row = ledger.haul(haul)?;
    let readings = ledger.readings(&row.haul)?;
    let ruler = match along {
        Along::Elapsed => Ruler::Elapsed,
        Along::Written => Ruler::Moved,
        Along::Position => Ruler::Position,
    };
    let svg = hollow_mile_charts::lanes::lanes(&readings, &readings.conclude(), ruler).to_svg();
    let mut file = create(output, force)?;
    file.write_all(svg.as_bytes()).map_err(|e| AppError::file(output, "written", &e))?;
    say(&format!("{} written", output.display()))?;
    Ok(Exit::Done)
}

pub fn import(path: &Path, json: bool) -> Result<Exit, AppError> {
    let mut events = read_csv(path)?;
    let ledger = open_ledger()?;
    let id = ledger.new_haul_id()?;
    let (readings, conclusions) = {
        if let Some(Event::HaulStarted(head)) = events.first_mut() {
            head.haul.clone_from(&id);
            head.started_unix_ms = jiff::Timestamp::now().as_millisecond();
            head.conditions.label = path.file_name().map(|n| n.to_string_lossy().into_owned());
        }
        fold(&events)
    };
    let head = readings.head().ok_or_else(|| AppError::usage("the file has no rows"))?;
    let mut writer = ledger.begin(head)?;
    for event in events {
        writer.push(event)?;
    }
    writer.finish(HaulState::Done, None, &conclusions)?;
    if json {
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
            text::answer(&readings, &conclusions)
        ))?;
    }
    Ok(Exit::Done)
}

pub fn export(haul: &str, kind: ExportKind, output: Option<&Path>) -> Result<Exit, AppError> {
    let ExportKind::Csv = kind;
    let ledger = open_ledger()?;
    let row = ledger.haul(haul)?;
    let mut events = Vec::new();
    ledger.replay(&row.haul, |e| events.push(e.clone()))?;
    match output {
        Some(path) => {
            let file = create(path, false)?;
            csv_file::export(&events, file).map_err(|e| AppError::file(path, "written", &e))?;
        }
        None => match csv_file::export(&events, std::io::stdout().lock()) {
            Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
                return Err(AppError::usage(format!("standard output cannot be written: {e}")));
            }
            _ => {}
        },
    }
    Ok(Exit::Done)
}

pub fn leftovers(remove: bool, json: bool) -> Result<Exit, AppError> {
    #[derive(Serialize)]
    struct Row {
        path: String,
        size_bytes: u64,
        haul: String,
        removed: bool,
    }
    let ledger = open_ledger()?;
    let mut rows = Vec::new();
    for left in ledger.leftovers()? {
        if remove {
            ledger.remove_leftover(&left)?;
        }
        rows.push(Row {
            path: left.path.display().to_string(),
            size_bytes: left.size.get(),
            haul: left.haul,
            removed: remove,
        });
    }
    if json {
        say_json(&rows)?;
    } else if rows.is_empty() {
        say("nothing was left behind")?;
    } else {
        for r in rows {
            let verb = if r.removed { "removed" } else { "left behind by" };
            let size = hollow_mile_core::units::Bytes::new(r.size_bytes);
            say(&format!("{}  {size}  {verb} haul {}", r.path, r.haul)
                .replace("removed haul", "removed, of haul"))?;
        }
    }
    Ok(Exit::Done)
}
