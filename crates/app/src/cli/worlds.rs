//! The second proving ground of `hollow-mile prove`, family by family.

use hollow_mile_core::readings::Readings;
use hollow_mile_drives::proving::{Family, Score, judge, make_world};
use serde::Serialize;

use super::table;

/// How the analysis did on the worlds of one family, or of all.
#[derive(Serialize)]
pub(super) struct FamilyProof {
    family: &'static str,
    hauls: usize,
    cache_ends: Counted,
    throttles: Counted,
    flat_hauls: usize,
    /// Flat hauls with a finding.
    false_on_flat: usize,
    /// Findings of any kind that are stated (with a confidence of a half or more) and not right.
    wrong: usize,
    /// Findings that are stated.
    findings: usize,
    /// Share of matched cache ends whose 95 % interval holds the truth.
    inside_interval: f64,
    /// |found - true| / true of matched cache ends, median.
    place_error_median: Option<f64>,
}

#[derive(Serialize)]
struct Counted {
    truths: usize,
    found: usize,
    matched: usize,
    recall: f64,
    precision: f64,
}

/// A part of a whole; all of nothing.
pub(super) fn share(part: usize, whole: usize) -> f64 {
    if whole == 0 { 1.0 } else { part as f64 / whole as f64 }
}

/// What the worlds say.
pub(super) struct Worlds {
    pub families: Vec<FamilyProof>,
    /// Over all of them.
    pub all: Score,
}

fn counted(score: &Score, kind: &str) -> Counted {
    let (truths, found, matched) = score.kinds.get(kind).copied().unwrap_or_default();
    Counted { truths, found, matched, recall: share(matched, truths), precision: share(matched, found) }
}

fn proof(family: &'static str, s: &Score) -> FamilyProof {
    let mut errors = s.place_errors.clone();
    errors.sort_by(f64::total_cmp);
    let stated = || s.by_confidence.iter().filter(|((_, hundredths), _)| *hundredths >= 50);
    let findings = stated().map(|(_, (n, _))| n).sum();
    FamilyProof {
        family,
        hauls: s.hauls,
        cache_ends: counted(s, "cache-end"),
        throttles: counted(s, "throttle"),
        flat_hauls: s.flat,
        false_on_flat: s.flat_false_hauls,
        wrong: findings - stated().map(|(_, (_, r))| r).sum::<usize>(),
        findings,
        inside_interval: share(s.inside, s.place_errors.len()),
        place_error_median: errors.get(errors.len() / 2).copied(),
    }
}

/// So many hauls, spread over the families.
pub(super) fn prove(hauls: u64, seed: u64) -> Worlds {
    let mut all = Score::default();
    let mut families = Vec::new();
    let each = hauls.div_ceil(Family::ALL.len() as u64);
    for family in Family::ALL {
        let mut score = Score::default();
        for i in 0..each {
            let case = make_world(family, seed.wrapping_mul(1_000_003).wrapping_add(i));
            let mut readings = Readings::new();
            case.events.iter().for_each(|e| readings.push(e));
            judge(&case, &readings.conclude(), &mut score);
        }
        families.push(proof(family.word(), &score));
        all.join(score);
    }
    families.push(proof("all", &all));
    Worlds { families, all }
}

/// The table of families.
pub(super) fn lines(families: &[FamilyProof]) -> String {
    let head = [
        "FAMILY",
        "HAULS",
        "ENDS",
        "RECALL",
        "PRECISION",
        "IN INTERVAL",
        "HEAT",
        "RECALL",
        "PRECISION",
        "FLAT",
        "FALSE",
        "WRONG",
    ];
    let mut rows = vec![head.map(String::from).to_vec()];
    let percent = |v: f64, of: usize| if of == 0 { "none".into() } else { format!("{:.1} %", v * 100.0) };
    rows.extend(families.iter().map(|f| {
        let (c, t) = (&f.cache_ends, &f.throttles);
        vec![
            f.family.to_owned(),
            f.hauls.to_string(),
            c.truths.to_string(),
            percent(c.recall, c.truths),
            percent(c.precision, c.found),
            percent(f.inside_interval, c.matched),
            t.truths.to_string(),
            percent(t.recall, t.truths),
            percent(t.precision, t.found),
            f.flat_hauls.to_string(),
            f.false_on_flat.to_string(),
            format!("{} of {}", f.wrong, f.findings),
        ]
    }));
    table(&rows)
}
