//! Telemetry as CSV: `# key=value` lines, a header, a row an interval.
//!
//! Written so that reading it back gives the same events, and read with patience: logs from elsewhere have gaps,
//! counters that start anew, clocks that step. What a line cannot give is left out; a line that makes no sense is
//! refused with its number and why, and the others are used.

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::time::Duration;

use hollow_mile_core::drive::{DriveIdentity, DriveKind, LoadSummary};
use hollow_mile_core::event::{
    Conditions, Event, HaulHead, HaulState, LatencySummary, LegEnd, Sample, Vitals,
};
use hollow_mile_core::route::{Leg, LegKind, Route};
use hollow_mile_core::units::{Bytes, Celsius};

/// The columns of the design, in their order, and two of our own, for the drive's thermal counter and this machine's load.
const COLUMNS: [&str; 14] = [
    "elapsed_s",
    "written_bytes",
    "read_bytes",
    "position_bytes",
    "temperature_c",
    "latency_p99_us",
    "other_bytes",
    "errors",
    "fill_percent",
    "leg",
    "leg_kind",
    "thermal_transitions",
    "host_busy_percent",
    "latency_max_us",
];

/// Why a CSV file was not taken.
#[derive(Debug, thiserror::Error)]
pub enum CsvError {
    /// Not readable as CSV text at all.
    #[error("{0}")]
    Unreadable(String),
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

/// Findings of earlier hauls that a file may hold.
const EARLIER: usize = 100;

/// Writes a haul's samples.
///
/// # Errors
/// When `out` cannot be written.
pub fn export(events: &[Event], out: impl Write) -> Result<(), std::io::Error> {
    let mut out = std::io::BufWriter::new(out);
    let head = events.iter().find_map(|e| if let Event::HaulStarted(h) = e { Some(h) } else { None });
    if let Some(head) = head {
        let mut keys = vec![
            ("capacity_bytes", head.drive.capacity.get().to_string()),
            ("block_bytes", head.drive.block.get().to_string()),
            ("model", one_line(&head.drive.model)),
            ("serial", one_line(&head.drive.serial)),
            ("haul", head.haul.clone()),
            ("drive", one_line(&head.drive.target)),
        ];
        keys.extend(head.drive.throttle_limit.map(|t| ("throttle_c", t.degrees().to_string())));
        keys.extend(head.conditions.ambient.map(|t| ("ambient_c", t.degrees().to_string())));
        keys.extend(head.drive.link.as_ref().and_then(|l| Some(("link", serde_json::to_string(l).ok()?))));
        for (key, value) in keys {
            writeln!(out, "# {key}={value}")?;
        }
        if let Ok(json) = serde_json::to_string(&head.route) {
            writeln!(out, "# route={json}")?;
        }
        for (i, earlier) in head.conditions.earlier.iter().enumerate() {
            if let Ok(json) = serde_json::to_string(earlier) {
                writeln!(out, "# earlier.{i}={json}")?;
            }
        }
    }
    // A leg begins a little after the one before ended (a flush lies between): its first row alone does not tell.
    for event in events {
        if let Event::LegStarted { at, leg } = event {
            writeln!(out, "# leg_start_s.{leg}={:.9}", at.as_secs_f64())?;
        }
    }
    // What no row can hold: the steps of surveys, blocks that came back wrong, operations that failed, latency of legs.
    let beside = |e: &&Event| {
        matches!(
            e,
            Event::StepStarted { .. }
                | Event::StepEnded { .. }
                | Event::Mismatch { .. }
                | Event::Flushed { .. }
                | Event::Fault { .. }
                | Event::LegEnded { .. }
        )
    };
    for (i, event) in events.iter().filter(beside).enumerate() {
        if let Ok(json) = serde_json::to_string(event) {
            writeln!(out, "# event.{i}={json}")?;
        }
    }
    writeln!(out, "{}", COLUMNS.join(","))?;
    let (mut written, mut read, mut other, mut errors) = (0u64, 0u64, 0u64, 0u64);
    let mut paused = false;
    let mut transitions: Option<u64> = None;
    let field = |v: Option<String>| v.unwrap_or_default();
    for (i, event) in events.iter().enumerate() {
        match event {
            Event::Paused { .. } => paused = true,
            Event::Resumed { .. } | Event::LegStarted { .. } => paused = false,
            Event::Vitals { vitals, .. } => transitions = vitals.thermal_transitions,
            Event::Sample(s) => {
                written += s.written.get();
                read += s.read.get();
                other += s.other.map_or(0, Bytes::get);
                errors += u64::from(s.errors);
                // A reading of the same moment comes after the sample, and belongs into its row.
                let with_it = events[i + 1..].iter().take_while(|e| e.at() == s.end);
                if let Some(Event::Vitals { vitals, .. }) = with_it
                    .take_while(|e| !matches!(e, Event::Sample(_)))
                    .find(|e| matches!(e, Event::Vitals { .. }))
                {
                    transitions = vitals.thermal_transitions;
                }
                let kind = head
                    .and_then(|h| h.route.legs.get(usize::from(s.leg)))
                    .map_or(LegKind::Write, |l| l.kind);
                let kind = if paused { LegKind::Rest } else { kind };
                writeln!(
                    out,
                    "{:.9},{written},{read},{},{},{},{},{errors},{},{},{},{},{},{}",
                    s.end.as_secs_f64(),
                    field(s.position.map(|p| p.get().to_string())),
                    field(s.temperature.map(|t| t.degrees().to_string())),
                    field(s.latency.map(|l| l.p99_us.to_string())),
                    field(s.other.map(|_| other.to_string())),
                    field(s.fill_ppm.map(|f| (f64::from(f) / 1e4).to_string())),
                    s.leg,
                    kind.word(),
                    field(transitions.map(|t| t.to_string())),
                    field(s.host_busy_ppm.map(|b| (f64::from(b) / 1e4).to_string())),
                    field(s.latency.map(|l| l.max_us.to_string())),
                )?;
            }
            _ => {}
        }
    }
    out.flush()
}

fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// Follows a counter since the start: what it gained since the line before. A counter that fell began anew.
#[derive(Default)]
struct Counter {
    last: Option<f64>,
    resets: Vec<u64>,
}

impl Counter {
    fn gained(&mut self, value: Option<f64>, line: u64, from_zero: bool) -> u64 {
        let Some(value) = value.filter(|v| *v >= 0.0) else { return 0 };
        let before = self.last.replace(value);
        let gained = match before {
            Some(before) if value >= before => value - before,
            Some(_) => {
                self.resets.push(line);
                value
            }
            None if from_zero => value,
            None => 0.0,
        };
        gained.min(9e18) as u64
    }
}

struct Raw {
    line: u64,
    elapsed: f64,
    fields: [Option<f64>; 14],
    kind: Option<LegKind>,
}

struct Table {
    keys: BTreeMap<String, String>,
    rows: Vec<Raw>,
    warnings: Vec<String>,
    has: [bool; 14],
}

/// Reads a CSV file. `name` is what it is called in the record.
///
/// # Errors
/// When there is no header, no `elapsed_s`, or no usable row.
pub fn import(name: &str, mut input: impl Read) -> Result<Imported, CsvError> {
    let mut bytes = Vec::new();
    input.read_to_end(&mut bytes).map_err(|e| CsvError::Unreadable(e.to_string()))?;
    // With CRLF the reader counts a line only after its successor has begun; with LF its numbers are right.
    let text = String::from_utf8_lossy(&bytes).replace("\r\n", "\n");
    let table = read_table(text.trim_start_matches('\u{feff}'))?;
    Ok(to_events(name, table))
}

fn read_table(text: &str) -> Result<Table, CsvError> {
    let mut keys = BTreeMap::new();
    for line in text.lines() {
        if let Some(rest) = line.strip_prefix('#')
            && let Some((key, value)) = rest.split_once('=')
        {
            keys.insert(key.trim().to_owned(), one_line(value.trim()));
        }
    }
    let mut reader = csv::ReaderBuilder::new()
        .comment(Some(b'#'))
        .flexible(true)
        .trim(csv::Trim::All)
        .from_reader(text.as_bytes());
    let header = reader.headers().map_err(|e| CsvError::Unreadable(e.to_string()))?.clone();
    let line = header.position().map_or(1, csv::Position::line);
    let index = COLUMNS.map(|c| header.iter().position(|h| h.eq_ignore_ascii_case(c)));
    let Some(clock) = index[0] else {
        let found: String = header.iter().collect::<Vec<_>>().join(", ").chars().take(200).collect();
        return Err(CsvError::NoClock { line, found });
    };
    let unknown: Vec<String> = header
        .iter()
        .filter(|h| !h.is_empty() && !COLUMNS.iter().any(|c| h.eq_ignore_ascii_case(c)))
        .map(one_line)
        .collect();
    let mut warnings = Vec::new();
    if !unknown.is_empty() {
        warnings.push(format!("columns not known and not used: {}", unknown.join(", ")));
    }
    let mut rows: Vec<Raw> = Vec::new();
    let mut refused = Refused::default();
    let mut shift = 0.0;
    let mut record = csv::StringRecord::new();
    loop {
        match reader.read_record(&mut record) {
            Ok(false) => break,
            Ok(true) => {}
            Err(e) => {
                refused.add(e.position().map_or(0, csv::Position::line), &e.to_string());
                continue;
            }
        }
        let line = record.position().map_or(0, csv::Position::line);
        let Some(elapsed) = record.get(clock).and_then(|t| t.parse::<f64>().ok()).filter(|v| v.is_finite())
        else {
            let given: String = record.get(clock).unwrap_or("").chars().take(40).collect();
            refused.add(line, &format!("elapsed_s is \"{}\", not a number", given.escape_default()));
            continue;
        };
        if !(0.0..=3.2e9).contains(&elapsed) {
            refused.add(line, &format!("elapsed_s is {elapsed}, which no haul can be"));
            continue;
        }
        let mut shifted = elapsed + shift;
        if let Some(last) = rows.last() {
            if shifted == last.elapsed {
                refused.add(line, "elapsed_s is the same as in the line before");
                continue;
            }
            if shifted < last.elapsed {
                // The clock was set back: time goes on from where it was, by the interval before.
                let usual = rows.len().checked_sub(2).map_or(1.0, |i| last.elapsed - rows[i].elapsed);
                warnings.push(format!(
                    "line {line}: the clock went back by {:.3} s; taken as one interval of {usual:.3} s",
                    last.elapsed - shifted
                ));
                shift = last.elapsed + usual - elapsed;
                shifted = elapsed + shift;
            }
        }
        let number = |i: usize| -> Option<f64> {
            index[i].and_then(|c| record.get(c)).and_then(|t| t.parse::<f64>().ok()).filter(|v| v.is_finite())
        };
        let kind = index[10].and_then(|c| record.get(c)).and_then(|k| match k {
            "rest" => Some(LegKind::Rest),
            "write" | "fill" | "pace" => Some(LegKind::Write),
            "mixed" => Some(LegKind::Mixed),
            "wipe" => Some(LegKind::Wipe),
            "selftest" => Some(LegKind::Selftest),
            "read" | "scan" | "spans" | "verify" => Some(LegKind::Read),
            _ => None,
        });
        rows.push(Raw { line, elapsed: shifted, fields: std::array::from_fn(number), kind });
    }
    if rows.is_empty() {
        return Err(CsvError::Empty { first: refused.first });
    }
    warnings.extend(refused.words());
    Ok(Table { keys, rows, warnings, has: index.map(|i| i.is_some()) })
}

#[derive(Default)]
struct Refused {
    first: Option<String>,
    shown: Vec<String>,
    count: usize,
}

impl Refused {
    fn add(&mut self, line: u64, why: &str) {
        self.count += 1;
        let words = format!("line {line} refused: {why}");
        self.first.get_or_insert_with(|| words.clone());
        if self.shown.len() < 10 {
            self.shown.push(words);
        }
    }
    fn words(self) -> Vec<String> {
        let more = self.count - self.shown.len();
        let mut words = self.shown;
        if more > 0 {
            words.push(format!("{more} more lines refused"));
        }
        words
    }
}

/// A sensor that says the same 0 or 255 all the time says nothing.
fn sensor_is_stuck(rows: &[Raw]) -> bool {
    let mut values = rows.iter().filter_map(|r| r.fields[4]);
    values.next().is_some_and(|first| (first == 0.0 || first >= 200.0) && values.all(|v| v == first))
}

fn to_events(name: &str, table: Table) -> Imported {
    let Table { keys, rows, mut warnings, has } = table;
    let number = |key: &str| keys.get(key).and_then(|v| v.parse::<f64>().ok()).filter(|v| v.is_finite());
    let stuck = sensor_is_stuck(&rows);
    if stuck {
        warnings.push("temperature_c never changes from a value that no drive has: not used".into());
    }
    if !has[1] && !has[2] {
        warnings.push("there is neither written_bytes nor read_bytes: no rate can be seen".into());
    }
    let route: Option<Route> = keys.get("route").and_then(|json| serde_json::from_str(json).ok());
    let highest_leg = rows.iter().map(|r| leg_of(r, usize::MAX)).max().unwrap_or(0);
    let route = route.filter(|r| r.legs.len() > usize::from(highest_leg) && r.check().is_ok());
    let legs = route.as_ref().map_or_else(|| legs_of(&rows, has[1]), |r| r.legs.clone());
    let mut beside =
        (0..).map_while(|i| serde_json::from_str::<Event>(keys.get(&format!("event.{i}"))?).ok()).peekable();
    let mut leg_ends: BTreeMap<u16, (LegEnd, LoadSummary)> = BTreeMap::new();
    let highest = rows.iter().filter_map(|r| r.fields[3]).fold(0.0, f64::max);
    let capacity = number("capacity_bytes").unwrap_or(highest).max(0.0) as u64;
    let head = HaulHead {
        haul: keys.get("haul").cloned().unwrap_or_else(|| name.to_owned()),
        drive: DriveIdentity {
            target: keys.get("drive").cloned().unwrap_or_else(|| name.to_owned()),
            kind: DriveKind::Imported,
            model: keys.get("model").cloned().unwrap_or_else(|| "unknown".into()),
            serial: keys.get("serial").cloned().unwrap_or_else(|| "unknown".into()),
            firmware: String::new(),
            capacity: Bytes::new(capacity),
            block: Bytes::new(number("block_bytes").unwrap_or(512.0).max(1.0) as u64),
            rotational: false,
            link: keys.get("link").and_then(|l| serde_json::from_str(l).ok()),
            throttle_limit: number("throttle_c").map(Celsius::new),
            rated_writes: None,
            fill_percent: None,
            device: None,
        },
        route: route.unwrap_or_else(|| Route {
            name: "imported".into(),
            about: String::new(),
            interval: Duration::from_millis(100),
            limits: Vec::new(),
            legs: legs.clone(),
        }),
        conditions: Conditions {
            ambient: number("ambient_c").map(Celsius::new),
            earlier: (0..EARLIER)
                .map_while(|i| serde_json::from_str(keys.get(&format!("earlier.{i}"))?).ok())
                .collect(),
            ..Conditions::default()
        },
        started_unix_ms: 0,
        engine: "imported from CSV".into(),
        program: String::new(),
    };
    let mut events = vec![Event::HaulStarted(Box::new(head))];
    let mut counters: [Counter; 4] = std::array::from_fn(|_| Counter::default());
    let mut leg: Option<u16> = None;
    let mut paused = false;
    let mut transitions = None;
    let mut vitals_at = Duration::ZERO;
    let mut last_end = Duration::ZERO;
    for (i, row) in rows.iter().enumerate() {
        let end = Duration::from_secs_f64(row.elapsed);
        let this_leg = leg_of(row, legs.len());
        if leg != Some(this_leg) {
            if let Some(before) = leg {
                let ended = LoadSummary::default();
                events.push(Event::LegEnded {
                    at: last_end,
                    leg: before,
                    why: LegEnd::Bytes,
                    summary: ended,
                });
            }
            leg = Some(this_leg);
            paused = false;
            let begin =
                number(&format!("leg_start_s.{this_leg}")).map(|s| Duration::from_secs_f64(s.max(0.0)));
            last_end = begin.filter(|b| *b >= last_end && *b < end).unwrap_or(last_end);
            events.push(Event::LegStarted { at: last_end, leg: this_leg });
        }
        let rests = row.kind == Some(LegKind::Rest)
            && legs.get(usize::from(this_leg)).is_some_and(|l| l.kind != LegKind::Rest);
        if rests != paused {
            paused = rests;
            events.push(if rests { Event::Paused { at: last_end } } else { Event::Resumed { at: last_end } });
        }
        let mut span = end.saturating_sub(last_end);
        if i == 0
            && let Some(next) = rows.get(1)
        {
            // A log that begins late did not begin at zero: its first row is as long as its second.
            let usual = next.elapsed - row.elapsed;
            if span.as_secs_f64() > 3.0 * usual {
                span = Duration::from_secs_f64(usual);
            }
        }
        let starts_at_zero = i > 0 || span == end;
        let from_zero = starts_at_zero || row.fields[1].unwrap_or(0.0) == 0.0;
        let mut gained = |c: usize, field: usize| counters[c].gained(row.fields[field], row.line, from_zero);
        let (written, read, other, errors) = (gained(0, 1), gained(1, 2), gained(2, 6), gained(3, 7));
        last_end = end;
        if span.is_zero() {
            continue;
        }
        while let Some(event) = beside.next_if(|e| e.at() < end) {
            match event {
                Event::LegEnded { leg, why, summary, .. } => {
                    leg_ends.insert(leg, (why, summary));
                }
                event => {
                    // A flush took time before this row's interval began.
                    if let Event::Flushed { at, .. } | Event::StepStarted { at, .. } = &event {
                        span = span.min(end - *at);
                    }
                    events.push(event);
                }
            }
        }
        events.push(Event::Sample(Sample {
            end,
            span,
            leg: this_leg,
            written: Bytes::new(written),
            read: Bytes::new(read),
            position: row.fields[3].filter(|p| *p >= 0.0).map(|p| Bytes::new(p as u64)),
            temperature: row.fields[4].filter(|t| !stuck && (-60.0..200.0).contains(t)).map(Celsius::new),
            latency: row.fields[5].filter(|p| *p >= 0.0).map(|p| {
                let us = p.min(f64::from(u32::MAX)) as u32;
                let most = row.fields[13].map_or(us, |m| m.max(p).min(f64::from(u32::MAX)) as u32);
                LatencySummary { operations: 1, p50_us: us, p99_us: us, max_us: most }
            }),
            other: row.fields[6].map(|_| Bytes::new(other)),
            errors: u32::try_from(errors).unwrap_or(u32::MAX),
            fill_ppm: parts_per_million(row.fields[8]),
            host_busy_ppm: parts_per_million(row.fields[12]),
        }));
        // As a haul of our own reads it: at each change, and every ten seconds.
        let due = |t: u64| Some(t) != transitions || end >= vitals_at + Duration::from_secs(10);
        if let Some(t) = row.fields[11].map(|t| t as u64).filter(|t| due(*t)) {
            transitions = Some(t);
            vitals_at = end;
            let vitals = Vitals { thermal_transitions: transitions, ..Vitals::default() };
            events.push(Event::Vitals { at: end, vitals: Box::new(vitals) });
        }
    }
    for (counter, column) in counters.iter().zip([COLUMNS[1], COLUMNS[2], COLUMNS[6], COLUMNS[7]]) {
        if let Some(first) = counter.resets.first() {
            let n = counter.resets.len();
            warnings
                .push(format!("line {first}: {column} fell and is taken to begin anew ({n} times in all)"));
        }
    }
    for event in beside {
        match event {
            Event::LegEnded { leg, why, summary, .. } => {
                leg_ends.insert(leg, (why, summary));
            }
            event => events.push(event),
        }
    }
    if let Some(leg) = leg {
        let summary = LoadSummary::default();
        events.push(Event::LegEnded { at: last_end, leg, why: LegEnd::Bytes, summary });
    }
    if transitions.is_some() {
        let vitals = Vitals { thermal_transitions: transitions, ..Vitals::default() };
        events.push(Event::Vitals { at: last_end, vitals: Box::new(vitals) });
    }
    for event in &mut events {
        if let Event::LegEnded { leg, why, summary, .. } = event
            && let Some(said) = leg_ends.remove(leg)
        {
            (*why, *summary) = said;
        }
    }
    events.push(Event::HaulEnded { at: last_end, state: HaulState::Done, reason: None });
    Imported { events, warnings }
}

fn parts_per_million(percent: Option<f64>) -> Option<u32> {
    percent.filter(|p| (0.0..=100.0).contains(p)).map(|p| (p * 1e4).round() as u32)
}

fn leg_of(row: &Raw, legs: usize) -> u16 {
    let leg = row.fields[9].unwrap_or(0.0).clamp(0.0, 65_535.0) as u16;
    leg.min((legs.max(1) - 1) as u16)
}

/// The legs that the rows tell of. A leg is what most of its rows say; without a word it writes, or reads when only
/// reads were counted.
fn legs_of(rows: &[Raw], has_written: bool) -> Vec<Leg> {
    let default_kind = if has_written { LegKind::Write } else { LegKind::Read };
    let mut votes: BTreeMap<u16, [usize; 3]> = BTreeMap::new();
    for row in rows {
        let leg = row.fields[9].unwrap_or(0.0).clamp(0.0, 999.0) as u16;
        let vote = votes.entry(leg).or_default();
        match row.kind.unwrap_or(default_kind) {
            LegKind::Write | LegKind::Mixed => vote[1] += 1,
            LegKind::Read => vote[2] += 1,
            _ => vote[0] += 1,
        }
    }
    let last = votes.keys().next_back().copied().unwrap_or(0);
    (0..=last)
        .map(|i| {
            let [rest, write, read] = votes.get(&i).copied().unwrap_or_default();
            // A pause within a leg counts as rest, so any work at all decides.
            let kind = match (rest, write, read) {
                (_, w, r) if w >= r && w > 0 => LegKind::Write,
                (_, _, r) if r > 0 => LegKind::Read,
                (r, ..) if r > 0 => LegKind::Rest,
                _ => default_kind,
            };
            Leg { depth: 1, ..Leg::new(kind) }
        })
        .collect()
}
