//! Telemetry as CSV: `# key=value` lines, a header, a row an interval. Written so that reading it back ([`crate::csv_in`]) gives
//! the same events.

use std::io::Write;

use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::Event;
use hollow_mile_core::route::LegKind;

/// The columns of the design, in their order, and two of our own, for the drive's thermal counter and this machine's load.
pub(crate) const COLUMNS: [&str; 14] = [
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

/// Findings of earlier hauls that a file may hold.
pub(crate) const EARLIER: usize = 100;

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

pub(crate) fn one_line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}
