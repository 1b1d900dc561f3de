//! Rows told as events.

use std::collections::BTreeMap;
use std::io::{BufReader, Read};
use std::iter::Peekable;
use std::time::Duration;

use hollow_mile_core::drive::{LatencySummary, LoadSummary, Vitals};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Event, HaulState, LegEnd, Pauses, Sample};
use hollow_mile_core::route::{Leg, LegKind};

use super::CsvError;
use super::before::{Before, head_of, leg_of};
use super::column::Column;
use super::rows::{Raw, Rows};

/// Follows a counter since the start: what it gained since the line before. A counter that fell began anew.
#[derive(Default)]
pub(super) struct Counter {
    last: Option<f64>,
    pub first_reset: Option<u64>,
    pub resets: u64,
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

/// What is under way while rows are told.
struct Teller<'a> {
    before: &'a Before,
    legs: Vec<Leg>,
    /// In the order of [`Column::COUNTERS`].
    counters: [Counter; 4],
    leg: Option<u16>,
    paused: bool,
    first: bool,
    /// The thermal counter as it was told last, and when.
    transitions: Option<u64>,
    vitals_at: Duration,
    last_end: Duration,
    beside: Peekable<std::vec::IntoIter<Event>>,
    leg_ends: BTreeMap<u16, (LegEnd, LoadSummary)>,
    take: &'a mut dyn FnMut(Event),
}

impl Teller<'_> {
    fn end_leg(&mut self) {
        if let Some(leg) = self.leg {
            let (why, summary) =
                self.leg_ends.remove(&leg).unwrap_or((LegEnd::Bytes, LoadSummary::default()));
            (self.take)(Event::LegEnded { at: self.last_end, leg, why, summary });
        }
    }

    /// The leg of the row, and a pause in it.
    fn follow_leg(&mut self, row: &Raw, end: Duration) {
        let leg = leg_of(row, self.legs.len());
        if self.leg != Some(leg) {
            self.end_leg();
            self.leg = Some(leg);
            self.paused = false;
            let begin = self
                .before
                .number(&format!("leg_start_s.{leg}"))
                .map(|s| Duration::from_secs_f64(s.max(0.0)));
            self.last_end = begin.filter(|b| *b >= self.last_end && *b < end).unwrap_or(self.last_end);
            (self.take)(Event::LegStarted { at: self.last_end, leg });
        }
        let rests = row.kind == Some(LegKind::Rest)
            && self.legs.get(usize::from(leg)).is_some_and(|l| l.kind != LegKind::Rest);
        if rests != self.paused {
            self.paused = rests;
            let at = self.last_end;
            (self.take)(if rests { Event::Paused { at } } else { Event::Resumed { at } });
        }
    }

    /// How long the row's interval was. A log that begins late did not begin at zero: its first row is as long as its second.
    fn span(&self, row: &Raw, end: Duration, next: Option<&Raw>) -> Duration {
        let span = end.saturating_sub(self.last_end);
        match next.map(|n| n.elapsed - row.elapsed).filter(|_| self.first) {
            Some(usual) if span.as_secs_f64() > 3.0 * usual => Duration::from_secs_f64(usual),
            _ => span,
        }
    }

    fn row(&mut self, row: &Raw, next: Option<&Raw>) {
        let end = Duration::from_secs_f64(row.elapsed);
        self.follow_leg(row, end);
        let mut span = self.span(row, end, next);
        let from_zero = !self.first || span == end || row.fields[Column::Written].unwrap_or(0.0) == 0.0;
        self.first = false;
        let mut gained = [0; 4];
        for ((counter, column), gained) in self.counters.iter_mut().zip(Column::COUNTERS).zip(&mut gained) {
            *gained = counter.gained(row.fields[column], row.line, from_zero);
        }
        self.last_end = end;
        if span.is_zero() {
            return;
        }
        while let Some(event) = self.beside.next_if(|e| e.at() < end) {
            // A flush took time before this row's interval began.
            if let Event::Flushed { at, .. } | Event::StepStarted { at, .. } = &event {
                span = span.min(end - *at);
            }
            (self.take)(event);
        }
        let sample = Sample { end, span, leg: self.leg.unwrap_or(0), ..self.sample(row, gained) };
        (self.take)(Event::Sample(sample));
        // As a haul of our own reads it: at each change, and every ten seconds.
        let due = |t: u64| Some(t) != self.transitions || end >= self.vitals_at + Duration::from_secs(10);
        if let Some(t) = row.fields[Column::ThermalTransitions].map(|t| t as u64).filter(|t| due(*t)) {
            self.transitions = Some(t);
            self.vitals_at = end;
            self.tell_transitions(end);
        }
    }

    /// What the row says beside when it was.
    fn sample(&self, row: &Raw, [written, read, other, errors]: [u64; 4]) -> Sample {
        let f = &row.fields;
        let temperature = f[Column::Temperature].filter(|t| !self.before.stuck && (-60.0..200.0).contains(t));
        let latency = f[Column::LatencyP99].filter(|p| *p >= 0.0).map(|p| {
            let us = p.min(f64::from(u32::MAX)) as u32;
            let most = f[Column::LatencyMax].map_or(us, |m| m.max(p).min(f64::from(u32::MAX)) as u32);
            LatencySummary { operations: 1, p50_us: us, p99_us: us, max_us: most }
        });
        Sample {
            written: Bytes::new(written),
            read: Bytes::new(read),
            position: f[Column::Position].filter(|p| *p >= 0.0).map(|p| Bytes::new(p as u64)),
            temperature: temperature.map(Celsius::new),
            latency,
            other: f[Column::Other].map(|_| Bytes::new(other)),
            errors: u32::try_from(errors).unwrap_or(u32::MAX),
            fill_ppm: parts_per_million(f[Column::Fill]),
            host_busy_ppm: parts_per_million(f[Column::HostBusy]),
            ..Sample::default()
        }
    }

    fn tell_transitions(&mut self, at: Duration) {
        let vitals = Vitals { thermal_transitions: self.transitions, ..Vitals::default() };
        (self.take)(Event::Vitals { at, vitals: Box::new(vitals) });
    }

    fn finish(mut self) -> [Counter; 4] {
        for event in self.beside.by_ref() {
            (self.take)(event);
        }
        self.end_leg();
        if self.transitions.is_some() {
            self.tell_transitions(self.last_end);
        }
        (self.take)(Event::HaulEnded { at: self.last_end, state: HaulState::Done, reason: None });
        self.counters
    }
}

/// Tells the rows as events; gives back how the counters went.
pub(super) fn tell<R: Read + Send>(
    name: &str,
    before: &Before,
    rows: &mut Rows<BufReader<R>>,
    take: &mut dyn FnMut(Event),
) -> Result<[Counter; 4], CsvError> {
    let mut pauses = before.marks_no_pauses().then(Pauses::default);
    let take = &mut |event: Event| match &mut pauses {
        Some(pauses) => pauses.pass(event, take),
        None => take(event),
    };
    let head = head_of(name, before);
    let legs = head.route.legs.clone();
    take(Event::HaulStarted(Box::new(head)));
    let (beside, leg_ends) = beside(before);
    let mut teller = Teller {
        before,
        legs,
        counters: std::array::from_fn(|_| Counter::default()),
        leg: None,
        paused: false,
        first: true,
        transitions: None,
        vitals_at: Duration::ZERO,
        last_end: Duration::ZERO,
        beside: beside.into_iter().peekable(),
        leg_ends,
        take,
    };
    // Rows are read on a thread of their own, so that reading and what is made of the rows go on side by side.
    let (sender, receiver) = std::sync::mpsc::sync_channel::<Result<Vec<Raw>, CsvError>>(BATCHES_AHEAD);
    std::thread::scope(|scope| {
        std::thread::Builder::new()
            .name("csv".into())
            .spawn_scoped(scope, move || {
                loop {
                    let batch = batch_of(rows);
                    let last = batch.as_ref().map_or(true, |b| b.len() < BATCH);
                    if sender.send(batch).is_err() || last {
                        return;
                    }
                }
            })
            .map_err(|e| CsvError::Unreadable(format!("no thread can be had to read it: {e}")))?;
        let mut held: Option<Raw> = None;
        for batch in receiver {
            for row in batch? {
                if let Some(before) = held.replace(row) {
                    teller.row(&before, held.as_ref());
                }
            }
        }
        if let Some(last) = held {
            teller.row(&last, None);
        }
        Ok(teller.finish())
    })
}

/// Rows that are read together, and how many such batches may lie ready.
const BATCH: usize = 4096;
const BATCHES_AHEAD: usize = 4;

fn batch_of<R: Read>(rows: &mut Rows<BufReader<R>>) -> Result<Vec<Raw>, CsvError> {
    let mut batch = Vec::with_capacity(BATCH);
    while batch.len() < BATCH {
        match rows.next()? {
            Some(row) => batch.push(row),
            None => break,
        }
    }
    Ok(batch)
}

fn parts_per_million(percent: Option<f64>) -> Option<u32> {
    percent.filter(|p| (0.0..=100.0).contains(p)).map(|p| (p * 1e4).round() as u32)
}
