//! Findings that surveys make: slow stretches of a scan, blocks that came back wrong, addresses that cannot be read.

use std::time::Duration;

use crate::conclude::Finding;
use crate::conclude::surveys::ground::GroundSurvey;
use crate::conclude::surveys::verify::VerifySurvey;
use crate::drive::FaultKind;
use crate::drive::stamp::Mismatch;
use crate::drive::stamp::Wrong;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Rate};
use crate::record::Task;

use crate::readings::{FaultReading, Readings, StepReading};

/// Failed addresses closer together than this are one stretch.
const TOGETHER: u64 = 64 << 20;
/// Stretches told one by one.
const TOLD: usize = 200;

/// Whether a change of rate within a step may be told as this. A scan has its own way of finding slow stretches; in short
/// steps of ever other loads a level means little.
pub fn says(step: Option<Task>, kind: FindingKind) -> bool {
    use FindingKind::{Background, CacheEnd, HostLimit, OtherTraffic, Throttle};
    match step {
        None | Some(Task::Stream { .. }) => true,
        Some(Task::Pass { .. } | Task::Check { .. }) => {
            matches!(kind, Throttle | OtherTraffic | HostLimit | Background | CacheEnd)
        }
        Some(Task::Again { .. } | Task::Span { .. } | Task::Settle | Task::Rung { .. }) => {
            matches!(kind, Throttle | OtherTraffic)
        }
    }
}

/// What the surveys of a record found.
pub fn of_surveys(
    readings: &Readings,
    ground: Option<&GroundSurvey>,
    verify: Option<&VerifySurvey>,
) -> Vec<Finding> {
    let mut all = ground.map(|g| slow_stretches(readings, g)).unwrap_or_default();
    all.extend(media_errors(readings));
    all.extend(verify.and_then(|v| mismatches(readings, v)));
    all
}

/// A finding at the time of a sample.
fn at_sample(readings: &Readings, sample: usize, kind: FindingKind) -> Finding {
    let series = readings.series();
    let sample = sample.min(series.len().saturating_sub(1));
    if series.is_empty() {
        return Finding::new(kind);
    }
    let written = Bytes::new(series.written_before(sample));
    Finding {
        elapsed: series.end(sample),
        written,
        written_low: written,
        written_high: written,
        temperature: series.degrees(sample).map(crate::quantity::units::Celsius::new),
        ..Finding::new(kind)
    }
}

fn slow_stretches(readings: &Readings, survey: &GroundSurvey) -> Vec<Finding> {
    let first_pass = readings.steps().iter().rfind(|s| matches!(s.step.task, Task::Pass { pass: 0, .. }));
    let Some(pass) = first_pass else { return Vec::new() };
    let series = readings.series();
    survey
        .slow()
        .map(|s| {
            let samples = pass.samples(series.len());
            let at = |address: u64| {
                let reached = |i: &usize| series.position(*i).is_some_and(|p| p.get() > address);
                samples.clone().find(reached).unwrap_or(samples.start)
            };
            let mut f = at_sample(readings, at(s.position_bytes), FindingKind::SlowZone);
            f.end_elapsed = Some(series.end(at(s.position_end_bytes)));
            f.position = Some(Bytes::new(s.position_bytes));
            f.position_end = Some(Bytes::new(s.position_end_bytes));
            f.before = Some(Rate::from_mb_s(s.beside_mb_s));
            f.after = Some(Rate::from_mb_s(s.inside_mb_s));
            f.confidence = 0.98;
            f.evidence.push(s.words() + ".");
            let passes = if s.passes == 1 {
                "the one pass".into()
            } else {
                format!("{} of {} passes, forwards and backwards", s.seen, s.passes)
            };
            f.evidence.push(format!("Seen by {passes}."));
            let again =
                "Read again together with as much on each side of it: slow again, and the sides are not.";
            f.evidence.push(again.into());
            if s.errors > 0 {
                f.evidence.push(format!("{} operations failed in it.", s.errors));
            }
            let worst = std::time::Duration::from_micros(s.worst_us.into());
            f.evidence
                .push(format!("Its longest operation took {}.", crate::quantity::units::latency(worst)));
            f
        })
        .collect()
}

fn media_errors(readings: &Readings) -> Vec<Finding> {
    let mut faults: Vec<(&FaultReading, u64)> =
        readings.faults().iter().filter_map(|f| Some((f, f.position?.get()))).collect();
    faults.retain(|(f, _)| f.kind == FaultKind::Failed);
    faults.sort_by_key(|(_, p)| *p);
    let mut stretches: Vec<Vec<(&FaultReading, u64)>> = Vec::new();
    for fault in faults {
        match stretches.last_mut() {
            Some(s) if s.last().is_some_and(|l| fault.1 - l.1 <= TOGETHER) => s.push(fault),
            _ => stretches.push(vec![fault]),
        }
    }
    let spans: Vec<(Duration, Duration)> = stretches
        .iter()
        .filter_map(|s| Some((s.iter().map(|(f, _)| f.at).min()?, s.iter().map(|(f, _)| f.at).max()?)))
        .collect();
    let tell = |(i, s): (usize, Vec<(&FaultReading, u64)>)| {
        let (first, last) = (s.first()?, s.last()?);
        let (earliest, latest) = *spans.get(i)?;
        // Not each failure is told one by one; the samples count all. Of stretches that were met together nobody knows
        // which had how many.
        let apart = spans.iter().enumerate().all(|(j, o)| j == i || o.1 < earliest || o.0 > latest);
        let series = readings.series();
        // A fault is told just before the sample of its interval.
        let counted = series.errors_in(series.index_at(earliest)..series.index_at(latest) + 1);
        let n = if apart { counted.max(s.len() as u64) } else { s.len() as u64 };
        let at_least = if apart || counted == s.len() as u64 { "" } else { "At least " };
        let sample = readings.series().index_at(earliest);
        let mut f = at_sample(readings, sample, FindingKind::MediaError);
        f.elapsed = earliest;
        f.position = Some(Bytes::new(first.1));
        f.position_end = Some(Bytes::new(last.1 + 512));
        f.confidence = 0.99;
        let mut addresses: Vec<u64> = s.iter().map(|(_, p)| *p).collect();
        addresses.dedup();
        f.evidence.push(format!(
            "{at_least}{n} operation{} failed{}, at {} address{} from {} on.",
            if n == 1 { "" } else { "s" },
            if n > s.len() as u64 { format!(", {} of them told one by one", s.len()) } else { String::new() },
            addresses.len(),
            if addresses.len() == 1 { "" } else { "es" },
            crate::quantity::units::grouped(first.1)
        ));
        f.evidence.push(format!("The first: {}.", first.0.message));
        Some(f)
    };
    stretches.into_iter().enumerate().take(TOLD).filter_map(tell).collect()
}

fn mismatches(readings: &Readings, survey: &VerifySurvey) -> Option<Finding> {
    (survey.wrong_bytes > 0).then_some(())?;
    let is_check = |s: &&StepReading| matches!(s.step.task, Task::Check { .. });
    let from = readings.steps().iter().rfind(is_check)?.from;
    let all: Vec<&(std::time::Duration, Mismatch)> =
        readings.mismatches().iter().filter(|(at, m)| *at >= from && m.wrong != Wrong::Unflushed).collect();
    let ((at, first), (_, last)) = (all.first()?, all.last()?);
    let mut f = at_sample(readings, readings.series().index_at(*at), FindingKind::DataMismatch);
    f.elapsed = *at;
    f.position = Some(first.position);
    f.position_end = Some(last.position + last.length);
    f.confidence = 0.99;
    f.evidence = survey.sentences();
    f.evidence.push(format!(
        "{} stretch{}, the first at {} ({}).",
        all.len(),
        if all.len() == 1 { "" } else { "es" },
        first.position,
        first.wrong.words()
    ));
    Some(f)
}
