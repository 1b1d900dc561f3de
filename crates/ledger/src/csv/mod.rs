//! Telemetry as CSV.
//!
//! It is read with patience: logs from elsewhere have gaps, counters that start anew, clocks that step. What a line
//! cannot give is left out; a line that makes no sense is refused with its number and why, and the others are used.
//!
//! A log may be larger than memory, so it is read twice and never held: once for what must be known beforehand (its legs, how
//! far its addresses go, whether its sensor measures), and once row by row.

mod before;
mod column;
mod lines;
mod rows;
mod tell;
mod write;

use std::io::{Read, Seek, SeekFrom};

use hollow_mile_core::record::Event;

use before::Before;
use column::{Column, PerColumn};
use rows::Rows;
pub use write::export;

/// Why a CSV file was not taken.
#[derive(Debug, thiserror::Error)]
pub enum CsvError {
    /// Not readable as CSV text at all.
    #[error("{0}")]
    Unreadable(String),
    /// A line without an end: no table of telemetry.
    #[error("line {line} is longer than {most} B: this is no CSV of telemetry, which has a row an interval")]
    Endless {
        /// Which.
        line: u64,
        /// Bytes that a line may have.
        most: usize,
    },
    /// There is no column that says when.
    #[error("line {line}: the header has no column \"elapsed_s\"; it has: {found}")]
    NoClock {
        /// Line of the header.
        line: u64,
        /// Its columns.
        found: String,
    },
    /// Not one row could be used.
    #[error("no row could be used{}", first.as_ref().map(|f| format!("; {f}")).unwrap_or_default())]
    Empty {
        /// The first refusal.
        first: Option<String>,
    },
}

/// A CSV file as events, and what was strange about it.
#[derive(Debug)]
pub struct Imported {
    /// In order, from `HaulStarted` to `HaulEnded`.
    pub events: Vec<Event>,
    /// In sentences, with line numbers.
    pub warnings: Vec<String>,
}

/// Reads a CSV file and hands its events to `take`, in order, from `HaulStarted` to `HaulEnded`. `name` is what it is called in the
/// record. What was strange about it comes back in sentences, with line numbers.
///
/// # Errors
/// When there is no header, no `elapsed_s`, no usable row, or a line has no end. Nothing was handed over then.
pub fn stream(
    name: &str,
    mut input: impl Read + Seek + Send,
    take: &mut dyn FnMut(Event),
) -> Result<Vec<String>, CsvError> {
    let unreadable = |e: std::io::Error| CsvError::Unreadable(e.to_string());
    let start = input.stream_position().map_err(unreadable)?;
    let before = Before::of(&mut input)?;
    input.seek(SeekFrom::Start(start)).map_err(unreadable)?;
    let mut rows = Rows::new(input, PerColumn::of(|_| true))?;
    let mut warnings = Vec::new();
    if !rows.unknown.is_empty() {
        warnings.push(format!("columns not known and not used: {}", rows.unknown.join(", ")));
    }
    let counters = tell::tell(name, &before, &mut rows, take)?;
    warnings.append(&mut rows.set_back);
    warnings.extend(rows.refused.words());
    if before.stuck {
        warnings.push("temperature_c never changes from a value that no drive has: not used".into());
    }
    if !before.has[Column::Written] && !before.has[Column::Read] {
        warnings.push("there is neither written_bytes nor read_bytes: no rate can be seen".into());
    }
    for (counter, column) in counters.iter().zip(Column::COUNTERS) {
        if let Some(first) = counter.first_reset {
            let n = counter.resets;
            warnings.push(format!(
                "line {first}: {} fell and is taken to begin anew ({n} times in all)",
                column.name()
            ));
        }
    }
    Ok(warnings)
}

/// Reads a CSV file that is small enough to be held.
///
/// # Errors
/// As for [`stream`].
pub fn import(name: &str, input: impl Read + Seek + Send) -> Result<Imported, CsvError> {
    let mut events = Vec::new();
    let warnings = stream(name, input, &mut |e| events.push(e))?;
    Ok(Imported { events, warnings })
}
