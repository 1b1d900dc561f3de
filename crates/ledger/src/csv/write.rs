//! Telemetry as CSV: `# key=value` lines, a header, a row an interval. Written so that reading it back ([`super::stream`]) gives
//! the same events.

use std::io::Write;

use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Event, HaulHead, Sample, Whose};
use hollow_mile_core::route::LegKind;

use super::column::Column;

/// Findings of earlier hauls that a file may hold.
pub(super) const EARLIER: usize = 100;

/// Writes a haul's samples.
///
/// # Errors
/// When `out` cannot be written.
pub fn export(events: &[Event], out: impl Write) -> Result<(), std::io::Error> {
    let mut out = std::io::BufWriter::new(out);
    let head = events.iter().find_map(|e| if let Event::HaulStarted(h) = e { Some(h) } else { None });
    if let Some(head) = head {
        notes_of_head(head, &mut out)?;
    }
    // A leg begins a little after the one before ended (a flush lies between): its first row alone does not tell.
    for event in events {
        if let Event::LegStarted { at, leg } = event {
            writeln!(out, "# leg_start_s.{leg}={:.9}", at.as_secs_f64())?;
        }
    }
    for (i, event) in events.iter().filter(|e| is_beside(e)).enumerate() {
        if let Ok(json) = serde_json::to_string(event) {
            writeln!(out, "# event.{i}={json}")?;
        }
    }
    let mut table = csv::Writer::from_writer(out);
    table.write_record(Column::ALL.map(Column::name))?;
    let mut so_far = SoFar::default();
    for (i, event) in events.iter().enumerate() {
        match event {
            Event::Paused { .. } => so_far.paused = true,
            Event::Resumed { .. } | Event::LegStarted { .. } => so_far.paused = false,
            Event::Vitals { vitals, .. } => so_far.transitions = vitals.thermal_transitions,
            Event::Sample(s) => {
                // A reading of the same moment comes after the sample, and belongs into its row.
                let with_it = events[i + 1..].iter().take_while(|e| e.at() == s.end);
                if let Some(Event::Vitals { vitals, .. }) = with_it
                    .take_while(|e| !matches!(e, Event::Sample(_)))
                    .find(|e| matches!(e, Event::Vitals { .. }))
                {
                    so_far.transitions = vitals.thermal_transitions;
                }
                so_far.count(s);
                let legs = head.map_or(&[][..], |h| h.route.legs.as_slice());
                let kind = legs.get(usize::from(s.leg)).map_or(LegKind::Write, |l| l.kind);
                table.write_record(Column::ALL.map(|c| so_far.cell(c, s, kind)))?;
            }
            _ => {}
        }
    }
    table.flush()
}

/// What no row can hold: the steps of surveys, blocks that came back wrong, operations that failed, latency of legs, and what a
/// lookout saw, on which findings stand. The load's own latencies, second by second, would make more of the file than its rows.
fn is_beside(event: &Event) -> bool {
    if let Event::Latencies(latencies) = event {
        return latencies.whose == Whose::Lookout;
    }
    matches!(
        event,
        Event::StepStarted { .. }
            | Event::StepEnded { .. }
            | Event::Mismatch { .. }
            | Event::Flushed { .. }
            | Event::Fault { .. }
            | Event::Freight(_)
            | Event::InquiryStarted { .. }
            | Event::ArmStarted { .. }
            | Event::ArmEnded { .. }
            | Event::InquiryEnded { .. }
            | Event::LegEnded { .. }
    )
}

fn notes_of_head(head: &HaulHead, out: &mut impl Write) -> Result<(), std::io::Error> {
    let mut keys = vec![
        ("capacity_bytes".to_owned(), head.drive.capacity.get().to_string()),
        ("block_bytes".into(), head.drive.block.get().to_string()),
        ("model".into(), one_line(&head.drive.model)),
        ("serial".into(), one_line(&head.drive.serial)),
        ("haul".into(), head.haul.clone()),
        ("drive".into(), one_line(&head.drive.target)),
    ];
    keys.extend(head.drive.throttle_limit.map(|t| ("throttle_c".into(), t.degrees().to_string())));
    keys.extend(head.conditions.ambient.map(|t| ("ambient_c".into(), t.degrees().to_string())));
    let json = |key: String, json: serde_json::Result<String>| Some((key, json.ok()?));
    keys.extend(head.drive.link.as_ref().and_then(|l| json("link".into(), serde_json::to_string(l))));
    keys.extend(json("route".into(), serde_json::to_string(&head.route)));
    for (i, earlier) in head.conditions.earlier.iter().enumerate() {
        keys.extend(json(format!("earlier.{i}"), serde_json::to_string(earlier)));
    }
    keys.into_iter().try_for_each(|(key, value)| writeln!(out, "# {key}={value}"))
}

/// Counters since the start, and what holds until it changes.
#[derive(Default)]
struct SoFar {
    written: u64,
    read: u64,
    other: u64,
    errors: u64,
    paused: bool,
    transitions: Option<u64>,
}

impl SoFar {
    fn count(&mut self, s: &Sample) {
        self.written += s.written.get();
        self.read += s.read.get();
        self.other += s.other.map_or(0, Bytes::get);
        self.errors += u64::from(s.errors);
    }

    fn cell(&self, column: Column, s: &Sample, kind: LegKind) -> String {
        fn field(v: Option<impl ToString>) -> String {
            v.map(|v| v.to_string()).unwrap_or_default()
        }
        let percent = |ppm: Option<u32>| field(ppm.map(|p| f64::from(p) / 1e4));
        match column {
            Column::Elapsed => format!("{:.9}", s.end.as_secs_f64()),
            Column::Written => self.written.to_string(),
            Column::Read => self.read.to_string(),
            Column::Position => field(s.position.map(Bytes::get)),
            Column::Temperature => field(s.temperature.map(Celsius::degrees)),
            Column::LatencyP99 => field(s.latency.map(|l| l.p99_us)),
            Column::Other => field(s.other.map(|_| self.other)),
            Column::Errors => self.errors.to_string(),
            Column::Fill => percent(s.fill_ppm),
            Column::Leg => s.leg.to_string(),
            Column::LegKind => if self.paused { LegKind::Rest } else { kind }.word().to_owned(),
            Column::ThermalTransitions => field(self.transitions),
            Column::HostBusy => percent(s.host_busy_ppm),
            Column::LatencyMax => field(s.latency.map(|l| l.max_us)),
        }
    }
}

pub(super) fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}
