//! `fleet export`: hauls as Parquet files in folders by model and month, which general engines read as one table each.

use std::path::{Path, PathBuf};

use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_ledger::{HaulRow, Ledger};
use serde::Serialize;

use super::export::{self, Cells, Table};
use super::{open_ledger, say, say_json};
use crate::error::{AppError, Exit};
use crate::told::words;

/// What is written of each haul, a folder each.
const TABLES: [&str; 4] = ["samples", "findings", "figures", "health"];

/// What an export did.
#[derive(Debug, Default, Serialize)]
struct Done {
    /// Hauls that were written.
    written: usize,
    /// Hauls that were there already.
    there: usize,
    /// Hauls that are under way, and come when they are over.
    running: usize,
}

/// A word for a folder: letters and digits, the rest as underscores.
fn plain(text: &str) -> String {
    let word: String =
        text.chars().map(|c| if c.is_ascii_alphanumeric() || c == '-' { c } else { '_' }).collect();
    if word.is_empty() { "unknown".into() } else { word }
}

fn month(unix_ms: i64) -> String {
    let at = jiff::Timestamp::from_millisecond(unix_ms).unwrap_or(jiff::Timestamp::UNIX_EPOCH);
    at.to_zoned(jiff::tz::TimeZone::UTC).strftime("%Y-%m").to_string()
}

/// The first and the newest health reading of a haul.
fn health(events: &[Event]) -> Table {
    let readings: Vec<_> = events
        .iter()
        .filter_map(|e| match e {
            Event::Vitals { at, vitals } => Some((at.as_secs_f64(), vitals)),
            _ => None,
        })
        .collect();
    let all: Vec<_> = match readings.as_slice() {
        [] => Vec::new(),
        [one] => vec![one],
        [first, .., last] => vec![first, last],
    };
    let count = |v: Option<u64>| v.map(export::count);
    let bytes = |of: &dyn Fn(&hollow_mile_core::drive::Vitals) -> Option<u64>| {
        Cells::Count(all.iter().map(|(_, v)| count(of(v))).collect())
    };
    Table {
        columns: vec![
            ("elapsed_s", Cells::Number(all.iter().map(|(at, _)| Some(*at)).collect())),
            (
                "temperature_c",
                Cells::Number(
                    all.iter().map(|(_, v)| v.composite_temperature.map(|t| t.degrees())).collect(),
                ),
            ),
            ("host_written_bytes", bytes(&|v| v.host_bytes_written.map(|b| b.get()))),
            ("media_written_bytes", bytes(&|v| v.media_written.map(|m| m.bytes.get()))),
            ("percentage_used", Cells::Number(all.iter().map(|(_, v)| v.percentage_used).collect())),
            ("power_on_hours", bytes(&|v| v.power_on_hours)),
            ("media_errors", bytes(&|v| v.media_errors)),
            ("thermal_transitions", bytes(&|v| v.thermal_transitions)),
        ],
    }
}

/// Beside the columns of a table: whose it is, the same in every row.
fn with_identity(mut table: Table, row: &HaulRow, firmware: &str) -> Table {
    let rows = table.columns.first().map_or(0, |c| c.1.len());
    let bench = row.conditions.tags.iter().find(|t| t.0 == "bench").map(|t| t.1.clone());
    let same = |text: Option<String>| Cells::Text(vec![text; rows]);
    let identity = [
        ("haul", same(Some(row.haul.clone()))),
        ("bench", same(bench)),
        ("serial", same(Some(row.serial.clone()))),
        ("firmware", same(Some(firmware.to_owned()).filter(|f| !f.is_empty()))),
        ("route", same(Some(row.route.clone()))),
        ("started_unix_ms", Cells::Count(vec![Some(row.started_unix_ms); rows])),
    ];
    table.columns.splice(0..0, identity);
    table
}

/// Writes a file as a whole or not at all.
fn write(path: &Path, bytes: &[u8]) -> Result<(), AppError> {
    let folder = path.parent().unwrap_or(path);
    std::fs::create_dir_all(folder).map_err(|e| AppError::file(folder, "made", &e))?;
    let name = path.file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    // Engines pass over names with a dot before them.
    let part = folder.join(format!(".{name}.part"));
    let written = std::fs::write(&part, bytes).and_then(|()| std::fs::rename(&part, path));
    written.map_err(|e| AppError::file(path, "written", &e))
}

fn export_haul(ledger: &Ledger, row: &HaulRow, path_of: &dyn Fn(&str) -> PathBuf) -> Result<(), AppError> {
    let mut events = Vec::new();
    ledger.replay(&row.haul, |e| events.push(e.clone()))?;
    let (readings, conclusions) = ledger.concluded(&row.haul)?;
    let head = ledger.head(&row.haul)?;
    for table in TABLES {
        let made = match table {
            "samples" => export::samples(&events),
            "findings" => export::findings(&conclusions),
            "figures" => export::figures(&readings, &conclusions),
            _ => health(&events),
        };
        let bytes = with_identity(made, row, &head.drive.firmware)
            .parquet(export::about(&head))
            .map_err(|e| AppError::usage(format!("haul {} cannot be written as Parquet: {e}", row.haul)))?;
        write(&path_of(table), &bytes)?;
    }
    Ok(())
}

/// Writes hauls that have these words into a folder; what is there already stays.
///
/// # Errors
/// When a record cannot be read, or a file cannot be written.
pub fn run(folder: &Path, filter: &[String], json: bool) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let mut rows = ledger.hauls()?;
    words::keep_with(&mut rows, filter);
    let mut done = Done::default();
    for row in rows.into_iter().rev() {
        if row.state == HaulState::Running {
            done.running += 1;
            continue;
        }
        let path_of = |table: &str| {
            folder
                .join(table)
                .join(format!("model={}", plain(&row.model)))
                .join(format!("month={}", month(row.started_unix_ms)))
                .join(format!("{}.parquet", plain(&row.haul)))
        };
        // The last table that is written says that all are.
        if path_of(TABLES[TABLES.len() - 1]).exists() {
            done.there += 1;
            continue;
        }
        export_haul(&ledger, &row, &path_of)?;
        done.written += 1;
    }
    if json {
        say_json(&done)?;
        return Ok(Exit::Done);
    }
    let running =
        if done.running > 0 { format!(", {} under way were left out", done.running) } else { String::new() };
    say(&format!(
        "{}: {} hauls written, {} were there{running}",
        folder.display(),
        done.written,
        done.there
    ))?;
    Ok(Exit::Done)
}
