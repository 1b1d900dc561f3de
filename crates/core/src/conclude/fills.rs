//! The drive is slower because it is fuller: the same load after the same rest, at another level of fill.

use crate::conclude::Finding;
use crate::drive::LoadKind;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Rate, span_words};
use crate::route::Leg;

use super::levels::Level;
use crate::readings::Series;

/// What is compared of a load.
pub struct Load<'a> {
    /// Which way the bytes go.
    pub kind: LoadKind,
    /// Its leg: only like loads are compared.
    pub leg: Option<&'a Leg>,
    /// Samples of the series.
    pub samples: std::ops::Range<usize>,
    /// How long there was no load before, seconds.
    pub rested_s: Option<f64>,
    /// How full the drive was at its beginning, 0 to 1.
    pub fill: Option<f64>,
    /// Its levels.
    pub levels: &'a [Level],
    /// Bytes to its first cache end.
    pub cache: Option<Bytes>,
}

/// Levels of fill that are nearer than this are one.
const APART: f64 = 0.05;
/// Rests may differ by so much, as a share.
const SAME_REST: f64 = 0.1;
/// Shorter rests leave the drive as the load before made it, seconds.
const LEAST_REST: f64 = 60.0;
/// What is lost must be more than this: rates vary less from time to time than caches do.
const LOST_RATE: f64 = 0.08;
const LOST_CACHE: f64 = 0.15;

/// Compares each load with the first like it at a lower level of fill; at most one finding a load.
pub fn slowdowns(series: &Series, loads: &[Load<'_>]) -> Vec<Finding> {
    let mut found = Vec::new();
    for (i, load) in loads.iter().enumerate() {
        let like = |other: &&Load<'_>| {
            let rests = load.rested_s.zip(other.rested_s);
            other.kind == load.kind
                && load.leg.zip(other.leg).is_some_and(|(a, b)| a.same_load(b))
                && rests.is_some_and(|(a, b)| b >= LEAST_REST && (a / b - 1.0).abs() < SAME_REST)
                && load.fill.zip(other.fill).is_some_and(|(a, b)| a > b + APART)
        };
        if let Some(first) = loads[..i].iter().find(like) {
            found.extend(compare(series, first, load));
        }
    }
    found
}

fn compare(series: &Series, first: &Load<'_>, load: &Load<'_>) -> Option<Finding> {
    let rate = |l: &Load<'_>| l.levels.first().map(Level::rate);
    let after = |l: &Load<'_>| l.levels.last().filter(|_| l.cache.is_some()).map(Level::rate);
    let slower =
        |a: Option<Rate>, b: Option<Rate>| a.zip(b).filter(|(a, b)| b.get() < (1.0 - LOST_RATE) * a.get());
    let percent = |l: &Load<'_>| format!("{:.0} % full", l.fill.unwrap_or(0.0) * 100.0);
    let (then, now) = (percent(first), percent(load));
    let mut evidence = Vec::new();
    let mut rates = None;
    if let Some((a, b)) =
        first.cache.zip(load.cache).filter(|(a, b)| b.as_f64() < (1.0 - LOST_CACHE) * a.as_f64())
    {
        evidence.push(format!("The cache ended after {b} at {now}, after {a} at {then}."));
    }
    if let Some((a, b)) = slower(rate(first), rate(load)) {
        evidence.push(format!("{b} at {now}, {a} at {then}."));
        rates = Some((a, b));
    }
    if let Some((a, b)) = slower(after(first), after(load)) {
        evidence.push(format!("After the cache {b} at {now}, {a} at {then}."));
        rates = rates.or(Some((a, b)));
    }
    if evidence.is_empty() {
        return None;
    }
    evidence.push(format!(
        "The same load both times, after {} of rest.",
        span_words(load.rested_s.unwrap_or(0.0))
    ));
    let written = Bytes::new(series.written_before(load.samples.start));
    let begin = load.samples.start.checked_sub(1).map_or_else(Default::default, |i| series.end(i));
    Some(Finding {
        kind: FindingKind::FillSlowdown,
        elapsed: begin,
        end_elapsed: Some(series.end(load.samples.end - 1)),
        written,
        written_low: written,
        written_high: written,
        position: None,
        position_end: None,
        before: rates.map(|r| r.0),
        after: rates.map(|r| r.1),
        temperature: None,
        transition: None,
        may_be: Vec::new(),
        failed: None,
        waits_for: None,
        times: None,
        unlike: Vec::new(),
        decided: None,
        confidence: 0.85,
        evidence,
    })
}
