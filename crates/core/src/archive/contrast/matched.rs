//! Findings of different hauls that belong together: the first cache end of one with the first of another, slow stretches
//! that lie over each other.

use serde::Serialize;

use super::{Subject, letter};
use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::Quantity;
use crate::quantity::units::{Bytes, clock, significant};

/// Where a side has a finding.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Place {
    /// Hauls of the side that have it.
    pub hauls: usize,
    /// Of so many.
    pub of: usize,
    /// Mean of the bytes written there.
    pub written_bytes: f64,
    /// Mean of the time, s.
    pub elapsed_s: f64,
    /// Mean temperature there, °C.
    pub temperature_c: Option<f64>,
    /// Addresses, for what is bound to them.
    pub position_bytes: Option<(f64, f64)>,
    /// Mean rate before and after, MB/s.
    pub mb_s: Option<(f64, f64)>,
}

/// Findings that belong together.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Matched {
    /// Of this kind.
    pub kind: FindingKind,
    /// Which of them, from 1.
    pub which: usize,
    /// On each side; `None` where there is none.
    pub sides: Vec<Option<Place>>,
    /// What that means, a sentence for each further side.
    pub sentences: Vec<String>,
}

/// Kinds that are matched by their order; the others by their place.
const BY_ORDER: [FindingKind; 5] = [
    FindingKind::CacheEnd,
    FindingKind::Throttle,
    FindingKind::FillSlowdown,
    FindingKind::Background,
    FindingKind::HostLimit,
];
/// Of a kind that repeats (a sawtooth has hundreds) only the first ones are told.
const MOST: usize = 4;

fn mean(values: impl Iterator<Item = f64>) -> Option<f64> {
    let all: Vec<f64> = values.collect();
    (!all.is_empty()).then(|| all.iter().sum::<f64>() / all.len() as f64)
}

fn place(found: &[&Finding], of: usize) -> Option<Place> {
    Some(Place {
        hauls: found.len(),
        of,
        written_bytes: mean(found.iter().map(|f| f.written.as_f64()))?,
        elapsed_s: mean(found.iter().map(|f| f.elapsed.as_secs_f64()))?,
        temperature_c: mean(found.iter().filter_map(|f| f.temperature).map(|t| t.degrees())),
        position_bytes: mean(found.iter().filter_map(|f| f.position).map(Bytes::as_f64))
            .zip(mean(found.iter().filter_map(|f| f.position_end).map(Bytes::as_f64))),
        mb_s: mean(found.iter().filter_map(|f| f.before).map(|r| r.mb_s()))
            .zip(mean(found.iter().filter_map(|f| f.after).map(|r| r.mb_s()))),
    })
}

/// The n-th finding of a kind of each haul that has so many.
fn nth<'a>(group: &[&'a Subject], kind: FindingKind, n: usize) -> Vec<&'a Finding> {
    group.iter().filter_map(|s| s.digest.findings.iter().filter(|f| f.kind == kind).nth(n)).collect()
}

/// All that match, in the order of the first side.
pub(super) fn matched(groups: &[Vec<&Subject>]) -> Vec<Matched> {
    let mut all = Vec::new();
    for kind in BY_ORDER {
        for which in 0..MOST {
            let sides: Vec<Option<Place>> =
                groups.iter().map(|g| place(&nth(g, kind, which), g.len())).collect();
            if sides.iter().all(Option::is_none) {
                break;
            }
            all.push(of(kind, which + 1, sides));
        }
    }
    for kind in [FindingKind::SlowZone, FindingKind::MediaError] {
        all.extend(by_position(groups, kind));
    }
    all
}

/// Groups findings whose addresses overlap.
fn by_position(groups: &[Vec<&Subject>], kind: FindingKind) -> Vec<Matched> {
    let range = |f: &Finding| {
        let from = f.position?.get();
        Some((from, f.position_end.map_or(from + 1, Bytes::get).max(from + 1)))
    };
    let mut ranges: Vec<(u64, u64)> = groups
        .iter()
        .flatten()
        .flat_map(|s| s.digest.findings.iter().filter(|f| f.kind == kind).filter_map(range))
        .collect();
    ranges.sort_unstable();
    let mut joined: Vec<(u64, u64)> = Vec::new();
    for r in ranges {
        match joined.last_mut() {
            Some(last) if r.0 < last.1 => last.1 = last.1.max(r.1),
            _ => joined.push(r),
        }
    }
    let inside =
        |f: &&Finding, j: &(u64, u64)| f.kind == kind && range(f).is_some_and(|r| r.0 < j.1 && r.1 > j.0);
    let one = |(i, j): (usize, &(u64, u64))| {
        let sides = groups.iter().map(|g| {
            let found: Vec<&Finding> =
                g.iter().filter_map(|s| s.digest.findings.iter().find(|f| inside(f, j))).collect();
            place(&found, g.len())
        });
        of(kind, i + 1, sides.collect())
    };
    joined.iter().enumerate().take(64).map(one).collect()
}

fn ordinal(which: usize) -> &'static str {
    ["first", "second", "third", "fourth"].get(which - 1).copied().unwrap_or("next")
}

fn of(kind: FindingKind, which: usize, sides: Vec<Option<Place>>) -> Matched {
    let sentences = (1..sides.len()).filter_map(|i| sentence(kind, which, &sides[0], &sides[i], i)).collect();
    Matched { kind, which, sides, sentences }
}

/// `In B the cache ended 41 GB later: 353.4 GB, not 312.4.`
fn sentence(
    kind: FindingKind,
    which: usize,
    a: &Option<Place>,
    b: &Option<Place>,
    side: usize,
) -> Option<String> {
    let name = letter(side);
    let what = match kind {
        FindingKind::CacheEnd => "the cache ended".to_owned(),
        FindingKind::Throttle => "heat throttled".to_owned(),
        _ => format!("{} was seen", kind.word()),
    };
    let not = match kind {
        FindingKind::CacheEnd => "the cache did not end".to_owned(),
        FindingKind::Throttle => "heat did not throttle".to_owned(),
        _ => format!("{} was not seen", kind.word()),
    };
    let nth = if which > 1 { format!(", the {} time", ordinal(which)) } else { String::new() };
    let stretch = |p: &Place| {
        p.position_bytes.map(|(f, t)| format!(" from {} to {}", Bytes::new(f as u64), Bytes::new(t as u64)))
    };
    let by_place = matches!(kind, FindingKind::SlowZone | FindingKind::MediaError);
    Some(match (a, b) {
        (None, None) => return None,
        (Some(a), None) if by_place => {
            format!("{name} does not have the {} of A{}.", kind.word(), stretch(a).unwrap_or_default())
        }
        (None, Some(b)) if by_place => {
            format!("Only {name} has a {}{}.", kind.word(), stretch(b).unwrap_or_default())
        }
        (Some(a), Some(_)) if by_place => {
            format!("{name} has the same {} as A{}.", kind.word(), stretch(a).unwrap_or_default())
        }
        (Some(a), None) => {
            format!("In {name} {not}{nth}; in A {what} at {}.", Bytes::new(a.written_bytes as u64))
        }
        (None, Some(b)) => {
            format!("In {name} {what}{nth} at {}; in A {not}.", Bytes::new(b.written_bytes as u64))
        }
        // Heat goes by time, the cache by bytes.
        (Some(a), Some(b)) if kind == FindingKind::Throttle => {
            let by = b.elapsed_s - a.elapsed_s;
            if by.abs() < 0.005 * a.elapsed_s.max(1.0) {
                let at = clock(std::time::Duration::from_secs_f64(b.elapsed_s.max(0.0)));
                return Some(format!("In {name} {what}{nth} at the same time, after {at}."));
            }
            let when = |s: f64| clock(std::time::Duration::from_secs_f64(s.max(0.0)));
            let heat = a.temperature_c.zip(b.temperature_c).map(|(x, y)| {
                format!(", at {} °C and not {}", significant(y.round()), significant(x.round()))
            });
            let heat = heat.filter(|_| a.temperature_c.map(f64::round) != b.temperature_c.map(f64::round));
            let much = Quantity::Seconds.words(by.abs());
            let how = if by < 0.0 { "earlier" } else { "later" };
            format!(
                "In {name} {what}{nth} {much} {how}: after {}, not {}{}.",
                when(b.elapsed_s),
                when(a.elapsed_s),
                heat.unwrap_or_default()
            )
        }
        (Some(a), Some(b)) => {
            let by = b.written_bytes - a.written_bytes;
            if by.abs() < 0.005 * a.written_bytes.max(1.0) {
                return Some(format!(
                    "In {name} {what}{nth} at the same place, {}.",
                    Bytes::new(b.written_bytes as u64)
                ));
            }
            let how = if by < 0.0 { "earlier" } else { "later" };
            format!(
                "In {name} {what}{nth} {} {how}: at {}, not {}.",
                Bytes::new(by.abs() as u64),
                Bytes::new(b.written_bytes as u64),
                Bytes::new(a.written_bytes as u64)
            )
        }
    })
}
