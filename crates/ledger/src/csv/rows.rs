//! The rows of a CSV file that can be used, one by one.

use hollow_mile_core::quantity::text::named;
use std::io::{BufReader, Read};

use csv::ByteRecord;
use hollow_mile_core::route::LegKind;

use super::CsvError;
use super::column::{Column, PerColumn};
use super::lines::{Endless, Keys, Lines};
use super::write::one_line;

/// A row that can be used.
pub(super) struct Raw {
    pub line: u64,
    /// On a clock that goes forwards, s.
    pub elapsed: f64,
    pub fields: PerColumn<Option<f64>>,
    pub kind: Option<LegKind>,
}

/// The rows of a file that can be used, in order; what cannot is noted.
pub(super) struct Rows<R> {
    reader: csv::Reader<Lines<R>>,
    pub index: PerColumn<Option<usize>>,
    /// Columns whose numbers are wanted.
    pub wanted: PerColumn<bool>,
    /// Rows are taken whatever their clock says: for who only counts them.
    pub untimed: bool,
    pub keys: Keys,
    endless: Endless,
    record: ByteRecord,
    pub unknown: Vec<String>,
    pub refused: Refused,
    pub set_back: Vec<String>,
    shift: f64,
    /// Of the row before, and of the one before that.
    last: Option<f64>,
    before: Option<f64>,
}

impl<R: Read> Rows<BufReader<R>> {
    pub fn new(input: R, wanted: PerColumn<bool>) -> Result<Self, CsvError> {
        let (keys, endless) = (Keys::default(), Endless::default());
        let lines = Lines::new(input, &keys, &endless);
        let mut reader = csv::ReaderBuilder::new()
            .comment(Some(b'#'))
            .flexible(true)
            .buffer_capacity(1 << 16)
            .from_reader(lines);
        let header = match reader.byte_headers() {
            Ok(header) => header.clone(),
            Err(e) => return Err(taken(&endless).unwrap_or_else(|| CsvError::Unreadable(e.to_string()))),
        };
        let line = header.position().map_or(1, csv::Position::line);
        let names: Vec<String> =
            header.iter().map(|h| String::from_utf8_lossy(h.trim_ascii()).into_owned()).collect();
        let index = PerColumn::of(|c| names.iter().position(|h| h.eq_ignore_ascii_case(c.name())));
        if index[Column::Elapsed].is_none() {
            return Err(CsvError::NoClock { line, found: names.join(", ").chars().take(200).collect() });
        }
        let is_known =
            |h: &&String| h.is_empty() || Column::ALL.iter().any(|c| h.eq_ignore_ascii_case(c.name()));
        let unknown = names.iter().filter(|h| !is_known(h)).map(|h| one_line(h)).collect();
        Ok(Self {
            reader,
            index,
            wanted,
            untimed: false,
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

    fn cell(&self, column: Column) -> Option<&str> {
        let cell = self.record.get(self.index[column]?)?.trim_ascii();
        std::str::from_utf8(cell).ok()
    }

    fn number(&self, column: Column) -> Option<f64> {
        self.cell(column)?.parse::<f64>().ok().filter(|v| v.is_finite())
    }

    /// The next row that can be used.
    pub fn next(&mut self) -> Result<Option<Raw>, CsvError> {
        loop {
            match self.reader.read_byte_record(&mut self.record) {
                Ok(false) => return Ok(None),
                Ok(true) => {}
                Err(e) if e.is_io_error() => {
                    return Err(taken(&self.endless).unwrap_or_else(|| CsvError::Unreadable(e.to_string())));
                }
                Err(e) => {
                    self.refused.add(e.position().map_or(0, csv::Position::line), &e.to_string());
                    continue;
                }
            }
            let line = self.record.position().map_or(0, csv::Position::line);
            let elapsed = if self.untimed { Some(0.0) } else { self.clock(line) };
            if let Some(elapsed) = elapsed {
                let number = |c: Column| if self.wanted[c] { self.number(c) } else { None };
                let (fields, kind) = (PerColumn::of(number), self.cell(Column::LegKind).and_then(kind_of));
                return Ok(Some(Raw { line, elapsed, fields, kind }));
            }
        }
    }

    /// Reads on to the end for what `#` lines say, and leaves the rows.
    pub fn read_notes(&mut self) -> Result<(), CsvError> {
        match std::io::copy(self.reader.get_mut(), &mut std::io::sink()) {
            Ok(_) => Ok(()),
            Err(e) => Err(taken(&self.endless).unwrap_or_else(|| CsvError::Unreadable(e.to_string()))),
        }
    }

    /// When the row was, on a clock that goes forwards; `None` refuses the row.
    fn clock(&mut self, line: u64) -> Option<f64> {
        let Some(elapsed) = self.number(Column::Elapsed) else {
            let cell = self.index[Column::Elapsed].and_then(|i| self.record.get(i)).unwrap_or_default();
            let given: String = String::from_utf8_lossy(cell.trim_ascii()).chars().take(40).collect();
            self.refused.add(line, &format!("elapsed_s is \"{}\", not a number", named(&given)));
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

fn taken(endless: &Endless) -> Option<CsvError> {
    endless.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take()
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

/// Lines that were refused, and why.
#[derive(Default)]
pub(super) struct Refused {
    pub first: Option<String>,
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
    pub fn words(self) -> Vec<String> {
        let more = self.count - self.shown.len();
        let mut words = self.shown;
        if more > 0 {
            words.push(format!("{more} more lines refused"));
        }
        words
    }
}
