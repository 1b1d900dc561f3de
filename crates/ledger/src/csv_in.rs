//! Telemetry from CSV, read with patience: logs from elsewhere have gaps, counters that start anew, clocks that step. What a line
//! cannot give is left out; a line that makes no sense is refused with its number and why, and the others are used.
//!
//! A log may be larger than memory, so it is read twice and never held: once for what must be known beforehand (its legs, how
//! far its addresses go, whether its sensor measures), and once row by row.

use std::collections::BTreeMap;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::time::Duration;

use csv::ByteRecord;
use hollow_mile_core::drive::{DriveIdentity, DriveKind, LoadSummary};
use hollow_mile_core::drive::{LatencySummary, Vitals};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Conditions, Event, HaulHead, HaulState, LegEnd, Sample};
use hollow_mile_core::route::{Leg, LegKind, Route};

use crate::csv_file::{COLUMNS, EARLIER, one_line};
use crate::csv_lines::{Endless, Keys, Lines};

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

/// Follows a counter since the start: what it gained since the line before. A counter that fell began anew.
#[derive(Default)]
struct Counter {
    last: Option<f64>,
    first_reset: Option<u64>,
    resets: u64,
}

impl Counter {
    fn gained(&mut self, value: Option<f64>, line: u64, from_zero: bool) -> u64 {
        let Some(value) = value.filter(|v| *v >= 0.0) else { return 0 };
        let before = self.last.replace(value);
        let gained = match before {
            Some(before) if value >= before => value - before,
            Some(_) => {
                self.first_reset.get_or_insert(line);
                self.resets += 1;
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

/// The rows of a file that can be used, in order; what cannot is noted.
struct Rows<R> {
    reader: csv::Reader<Lines<R>>,
    index: [Option<usize>; 14],
    /// Columns whose numbers are wanted.
    wanted: [bool; 14],
    keys: Keys,
    endless: Endless,
    record: ByteRecord,
    unknown: Vec<String>,
    refused: Refused,
    set_back: Vec<String>,
    shift: f64,
    /// Of the row before, and of the one before that.
    last: Option<f64>,
    before: Option<f64>,
}

impl<R: Read> Rows<BufReader<R>> {
    fn new(input: R, wanted: [bool; 14]) -> Result<Self, CsvError> {
        let (keys, endless) = (Keys::default(), Endless::default());
        let lines = Lines::new(input, &keys, &endless);
        let mut reader = csv::ReaderBuilder::new()
            .comment(Some(b'#'))
            .flexible(true)
            .buffer_capacity(1 << 16)
            .from_reader(lines);
        let header = match reader.byte_headers() {
            Ok(header) => header.clone(),
            Err(e) => return Err(endless.take().unwrap_or_else(|| CsvError::Unreadable(e.to_string()))),
        };
        let line = header.position().map_or(1, csv::Position::line);
        let names: Vec<String> =
            header.iter().map(|h| String::from_utf8_lossy(h.trim_ascii()).into_owned()).collect();
        let index = COLUMNS.map(|c| names.iter().position(|h| h.eq_ignore_ascii_case(c)));
        if index[0].is_none() {
            return Err(CsvError::NoClock { line, found: names.join(", ").chars().take(200).collect() });
        }
        let is_known = |h: &&String| h.is_empty() || COLUMNS.iter().any(|c| h.eq_ignore_ascii_case(c));
        let unknown = names.iter().filter(|h| !is_known(h)).map(|h| one_line(h)).collect();
        Ok(Self {
            reader,
            index,
            wanted,
            keys,
            endless,
            record: ByteRecord::new(),
            unknown,
            refused: Refused::default(),
            set_back: Vec::new(),
            shift: 0.0,
            last: None,
            before: None,
        })
    }

    fn cell(&self, column: usize) -> Option<&str> {
        let cell = self.record.get(self.index[column]?)?.trim_ascii();
        std::str::from_utf8(cell).ok()
    }

    fn number(&self, column: usize) -> Option<f64> {
        self.cell(column)?.parse::<f64>().ok().filter(|v| v.is_finite())
    }

    /// The next row that can be used.
    fn next(&mut self) -> Result<Option<Raw>, CsvError> {
        loop {
            let mut record = std::mem::take(&mut self.record);
            let read = self.reader.read_byte_record(&mut record);
            self.record = record;
            match read {
                Ok(false) => return Ok(None),
                Ok(true) => {}
                Err(e) if e.is_io_error() => {
                    return Err(self.endless.take().unwrap_or_else(|| CsvError::Unreadable(e.to_string())));
                }
                Err(e) => {
                    self.refused.add(e.position().map_or(0, csv::Position::line), &e.to_string());
                    continue;
                }
            }
            let line = self.record.position().map_or(0, csv::Position::line);
            if let Some(elapsed) = self.clock(line) {
                let number = |i: usize| if self.wanted[i] { self.number(i) } else { None };
                let (fields, kind) = (std::array::from_fn(number), self.cell(10).and_then(kind_of));
                return Ok(Some(Raw { line, elapsed, fields, kind }));
            }
        }
    }

    /// When the row was, on a clock that goes forwards; `None` refuses the row.
    fn clock(&mut self, line: u64) -> Option<f64> {
        let Some(elapsed) = self.number(0) else {
            let cell = self.index[0].and_then(|i| self.record.get(i)).unwrap_or_default();
            let given: String = String::from_utf8_lossy(cell.trim_ascii()).chars().take(40).collect();
            self.refused.add(line, &format!("elapsed_s is \"{}\", not a number", given.escape_default()));
            return None;
        };
        if !(0.0..=3.2e9).contains(&elapsed) {
            self.refused.add(line, &format!("elapsed_s is {elapsed}, which no haul can be"));
            return None;
        }
        let mut shifted = elapsed + self.shift;
        if let Some(last) = self.last {
            if shifted == last {
                self.refused.add(line, "elapsed_s is the same as in the line before");
                return None;
            }
            if shifted < last {
                // The clock was set back: time goes on from where it was, by the interval before.
                let usual = self.before.map_or(1.0, |before| last - before);
                if self.set_back.len() < 100 {
                    self.set_back.push(format!(
                        "line {line}: the clock went back by {:.3} s; taken as one interval of {usual:.3} s",
                        last - shifted
                    ));
                }
                self.shift = last + usual - elapsed;
                shifted = elapsed + self.shift;
            }
        }
        self.before = self.last.replace(shifted);
        Some(shifted)
    }
}

fn kind_of(word: &str) -> Option<LegKind> {
    match word {
        "rest" => Some(LegKind::Rest),
        "write" | "fill" | "pace" => Some(LegKind::Write),
        "mixed" => Some(LegKind::Mixed),
        "wipe" => Some(LegKind::Wipe),
        "selftest" => Some(LegKind::Selftest),
        "read" | "scan" | "spans" | "verify" => Some(LegKind::Read),
        _ => None,
    }
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

/// What must be known of a file before its first row can be told.
#[derive(Default)]
struct Before {
    keys: BTreeMap<String, String>,
    has: [bool; 14],
    rows: u64,
    highest_leg: u16,
    highest_position: f64,
    /// Rows of each leg that rest, write, and read.
    votes: BTreeMap<u16, [usize; 3]>,
    /// A sensor that says the same 0 or 255 all the time says nothing.
    stuck: bool,
}

impl Before {
    fn of(input: impl Read) -> Result<Self, CsvError> {
        let mut wanted = [false; 14];
        for column in [3, 4, 9] {
            wanted[column] = true;
        }
        let mut rows = Rows::new(input, wanted)?;
        let mut before = Self { has: rows.index.map(|i| i.is_some()), ..Self::default() };
        let default_kind = before.default_kind();
        let mut sensor: Option<(f64, bool)> = None;
        while let Some(row) = rows.next()? {
            before.rows += 1;
            let leg = leg_of(&row, usize::MAX);
            before.highest_leg = before.highest_leg.max(leg);
            before.highest_position = before.highest_position.max(row.fields[3].unwrap_or(0.0));
            if let Some(t) = row.fields[4] {
                let (first, same) = sensor.unwrap_or((t, true));
                sensor = Some((first, same && t == first));
            }
            let vote = before.votes.entry(leg.min(999)).or_default();
            match row.kind.unwrap_or(default_kind) {
                LegKind::Write | LegKind::Mixed => vote[1] += 1,
                LegKind::Read => vote[2] += 1,
                _ => vote[0] += 1,
            }
        }
        if before.rows == 0 {
            return Err(CsvError::Empty { first: rows.refused.first });
        }
        before.stuck = sensor.is_some_and(|(first, same)| same && (first == 0.0 || first >= 200.0));
        before.keys = rows.keys.take();
        Ok(before)
    }

    const fn default_kind(&self) -> LegKind {
        if self.has[1] { LegKind::Write } else { LegKind::Read }
    }

    /// The legs that the rows tell of. A leg is what most of its rows say; without a word it writes, or reads when only
    /// reads were counted.
    fn legs(&self) -> Vec<Leg> {
        let last = self.votes.keys().next_back().copied().unwrap_or(0);
        let leg = |i: u16| {
            let [rest, write, read] = self.votes.get(&i).copied().unwrap_or_default();
            // A pause within a leg counts as rest, so any work at all decides.
            let kind = match (rest, write, read) {
                (_, w, r) if w >= r && w > 0 => LegKind::Write,
                (_, _, r) if r > 0 => LegKind::Read,
                (r, ..) if r > 0 => LegKind::Rest,
                _ => self.default_kind(),
            };
            Leg { depth: 1, ..Leg::new(kind) }
        };
        (0..=last).map(leg).collect()
    }

    fn number(&self, key: &str) -> Option<f64> {
        self.keys.get(key).and_then(|v| v.parse::<f64>().ok()).filter(|v| v.is_finite())
    }
}

/// Reads a CSV file and hands its events to `take`, in order, from `HaulStarted` to `HaulEnded`. `name` is what it is called in the
/// record. What was strange about it comes back in sentences, with line numbers.
///
/// # Errors
/// When there is no header, no `elapsed_s`, no usable row, or a line has no end. Nothing was handed over then.
pub fn stream(
    name: &str,
    mut input: impl Read + Seek,
    take: &mut dyn FnMut(Event),
) -> Result<Vec<String>, CsvError> {
    let unreadable = |e: std::io::Error| CsvError::Unreadable(e.to_string());
    let start = input.stream_position().map_err(unreadable)?;
    let before = Before::of(&mut input)?;
    input.seek(SeekFrom::Start(start)).map_err(unreadable)?;
    let mut rows = Rows::new(input, [true; 14])?;
    let mut warnings = Vec::new();
    if !rows.unknown.is_empty() {
        warnings.push(format!("columns not known and not used: {}", rows.unknown.join(", ")));
    }
    let counters = tell(name, &before, &mut rows, take)?;
    warnings.append(&mut rows.set_back);
    warnings.extend(rows.refused.words());
    if before.stuck {
        warnings.push("temperature_c never changes from a value that no drive has: not used".into());
    }
    if !before.has[1] && !before.has[2] {
        warnings.push("there is neither written_bytes nor read_bytes: no rate can be seen".into());
    }
    for (counter, column) in counters.iter().zip([COLUMNS[1], COLUMNS[2], COLUMNS[6], COLUMNS[7]]) {
        if let Some(first) = counter.first_reset {
            let n = counter.resets;
            warnings
                .push(format!("line {first}: {column} fell and is taken to begin anew ({n} times in all)"));
        }
    }
    Ok(warnings)
}

/// Reads a CSV file that is small enough to be held.
///
/// # Errors
/// As for [`stream`].
pub fn import(name: &str, input: impl Read + Seek) -> Result<Imported, CsvError> {
    let mut events = Vec::new();
    let warnings = stream(name, input, &mut |e| events.push(e))?;
    Ok(Imported { events, warnings })
}

/// The events that a file of our own holds beside its rows, and how its legs ended.
fn beside(before: &Before) -> (Vec<Event>, BTreeMap<u16, (LegEnd, LoadSummary)>) {
    let mut ends = BTreeMap::new();
    let mut events = Vec::new();
    for i in 0.. {
        let Some(event) = before.keys.get(&format!("event.{i}")).and_then(|j| serde_json::from_str(j).ok())
        else {
            break;
        };
        match event {
            Event::LegEnded { leg, why, summary, .. } => drop(ends.insert(leg, (why, summary))),
            event => events.push(event),
        }
    }
    (events, ends)
}

fn head_of(name: &str, before: &Before) -> HaulHead {
    let Before { keys, .. } = before;
    let number = |key: &str| before.number(key);
    let route: Option<Route> = keys.get("route").and_then(|json| serde_json::from_str(json).ok());
    let route = route.filter(|r| r.legs.len() > usize::from(before.highest_leg) && r.fits_together());
    let highest = before.highest_position;
    let capacity = number("capacity_bytes").unwrap_or(highest).max(0.0) as u64;
    HaulHead {
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
            legs: before.legs(),
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
    }
}

/// Tells the rows as events.
fn tell<R: Read>(
    name: &str,
    before: &Before,
    rows: &mut Rows<BufReader<R>>,
    take: &mut dyn FnMut(Event),
) -> Result<[Counter; 4], CsvError> {
    let head = head_of(name, before);
    let legs = head.route.legs.clone();
    take(Event::HaulStarted(Box::new(head)));
    let mut counters: [Counter; 4] = std::array::from_fn(|_| Counter::default());
    let mut leg: Option<u16> = None;
    let mut paused = false;
    let mut transitions = None;
    let mut vitals_at = Duration::ZERO;
    let mut last_end = Duration::ZERO;
    let (beside, mut leg_ends) = beside(before);
    let mut beside = beside.into_iter().peekable();
    let mut ended = |at: Duration, leg: u16| {
        let (why, summary) = leg_ends.remove(&leg).unwrap_or((LegEnd::Bytes, LoadSummary::default()));
        Event::LegEnded { at, leg, why, summary }
    };
    let mut i = 0;
    let mut next = rows.next()?;
    while let Some(row) = next.take() {
        next = rows.next()?;
        let end = Duration::from_secs_f64(row.elapsed);
        let this_leg = leg_of(&row, legs.len());
        if leg != Some(this_leg) {
            if let Some(before) = leg {
                take(ended(last_end, before));
            }
            leg = Some(this_leg);
            paused = false;
            let begin = before
                .number(&format!("leg_start_s.{this_leg}"))
                .map(|s| Duration::from_secs_f64(s.max(0.0)));
            last_end = begin.filter(|b| *b >= last_end && *b < end).unwrap_or(last_end);
            take(Event::LegStarted { at: last_end, leg: this_leg });
        }
        let rests = row.kind == Some(LegKind::Rest)
            && legs.get(usize::from(this_leg)).is_some_and(|l| l.kind != LegKind::Rest);
        if rests != paused {
            paused = rests;
            take(if rests { Event::Paused { at: last_end } } else { Event::Resumed { at: last_end } });
        }
        let mut span = end.saturating_sub(last_end);
        if i == 0
            && let Some(next) = &next
        {
            // A log that begins late did not begin at zero: its first row is as long as its second.
            let usual = next.elapsed - row.elapsed;
            if span.as_secs_f64() > 3.0 * usual {
                span = Duration::from_secs_f64(usual);
            }
        }
        let starts_at_zero = i > 0 || span == end;
        i += 1;
        let from_zero = starts_at_zero || row.fields[1].unwrap_or(0.0) == 0.0;
        let mut gained = |c: usize, field: usize| counters[c].gained(row.fields[field], row.line, from_zero);
        let (written, read, other, errors) = (gained(0, 1), gained(1, 2), gained(2, 6), gained(3, 7));
        last_end = end;
        if span.is_zero() {
            continue;
        }
        while let Some(event) = beside.next_if(|e| e.at() < end) {
            // A flush took time before this row's interval began.
            if let Event::Flushed { at, .. } | Event::StepStarted { at, .. } = &event {
                span = span.min(end - *at);
            }
            take(event);
        }
        take(Event::Sample(Sample {
            end,
            span,
            leg: this_leg,
            written: Bytes::new(written),
            read: Bytes::new(read),
            position: row.fields[3].filter(|p| *p >= 0.0).map(|p| Bytes::new(p as u64)),
            temperature: row.fields[4]
                .filter(|t| !before.stuck && (-60.0..200.0).contains(t))
                .map(Celsius::new),
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
            take(Event::Vitals { at: end, vitals: Box::new(vitals) });
        }
    }
    beside.for_each(&mut *take);
    if let Some(leg) = leg {
        take(ended(last_end, leg));
    }
    if transitions.is_some() {
        let vitals = Vitals { thermal_transitions: transitions, ..Vitals::default() };
        take(Event::Vitals { at: last_end, vitals: Box::new(vitals) });
    }
    take(Event::HaulEnded { at: last_end, state: HaulState::Done, reason: None });
    Ok(counters)
}

fn parts_per_million(percent: Option<f64>) -> Option<u32> {
    percent.filter(|p| (0.0..=100.0).contains(p)).map(|p| (p * 1e4).round() as u32)
}

fn leg_of(row: &Raw, legs: usize) -> u16 {
    let leg = row.fields[9].unwrap_or(0.0).clamp(0.0, 65_535.0) as u16;
    leg.min((legs.max(1) - 1) as u16)
}
