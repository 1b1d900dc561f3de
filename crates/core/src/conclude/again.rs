//! A fall that one write of a record leaves open, judged beside another write in which the cache ended from the same rate to the same rate.
//!
//! A drive has one rate in its cache and one past it. Heat takes a share that has nothing to do with either: that it leaves just the rate past the
//! cache is chance.

use super::Finding;
use crate::quantity::FindingKind;
use crate::quantity::units::{Celsius, Rate};

/// Rates whose logarithms differ by less are the same. Chosen: levels of one drive lie within a hundredth or two, shares of heat anywhere.
const SAME_RATE: f64 = 0.04;
/// An end that is surer than this says what another fall is, and the fall is no surer than this.
const SURE: f64 = 0.95;

fn same(a: Option<Rate>, b: Option<Rate>) -> bool {
    a.zip(b).is_some_and(|(a, b)| (a.get().max(1.0) / b.get().max(1.0)).ln().abs() < SAME_RATE)
}

/// Heat or the cache: the run of its own does not say which.
fn is_open(f: &Finding) -> bool {
    let may_be = |kind: FindingKind| f.may_be.iter().any(|c| c.kind == kind);
    f.kind == FindingKind::Unexplained
        && f.decided.is_none()
        && may_be(FindingKind::CacheEnd)
        && may_be(FindingKind::Throttle)
}

/// Makes the end of a cache of each open fall that goes between the rates of a sure one in another run; `found` holds the findings of each run.
pub fn alike(found: &mut [Vec<Finding>]) {
    let ends: Vec<(usize, Finding)> = found
        .iter()
        .enumerate()
        .flat_map(|(run, of)| of.iter().map(move |f| (run, f)))
        .filter(|(_, f)| f.kind == FindingKind::CacheEnd && f.confidence >= SURE)
        .map(|(run, f)| (run, f.clone()))
        .collect();
    for (run, of) in found.iter_mut().enumerate() {
        for f in of.iter_mut().filter(|f| is_open(f)) {
            let like = |(other, end): &&(usize, Finding)| {
                *other != run && same(end.before, f.before) && same(end.after, f.after)
            };
            let Some((_, end)) = ends.iter().find(like) else { continue };
            f.kind = FindingKind::CacheEnd;
            f.confidence = end.confidence.min(SURE);
            f.may_be.clear();
            f.evidence.truncate(1);
            let at = end
                .temperature
                .map_or_else(String::new, |t| format!(" at {}", Celsius::new(t.degrees().round())));
            f.evidence.push(format!(
                "In another write of this record the cache ended after {} written{at}, from the same rate to the same rate.",
                end.written
            ));
            f.evidence.push(
                "Heat takes a share of the speed, and would leave just this rate only by chance.".into(),
            );
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::conclude::Candidate;

    fn fall(kind: FindingKind, confidence: f64, from: f64, to: f64) -> Finding {
        let mut f = Finding {
            before: Some(Rate::from_mb_s(from)),
            after: Some(Rate::from_mb_s(to)),
            confidence,
            evidence: vec!["Fell.".into(), "Why.".into()],
            ..Finding::new(kind)
        };
        if kind == FindingKind::Unexplained {
            let of = |kind| Candidate { kind, share: 0.5 };
            f.may_be = vec![of(FindingKind::Throttle), of(FindingKind::CacheEnd)];
        }
        f
    }

    #[test]
    fn an_open_fall_is_the_end_of_the_cache_that_another_write_found_between_the_same_rates() {
        let open = fall(FindingKind::Unexplained, 0.03, 4000.0, 1500.0);
        let kinds = |end: Finding, same_run: bool| {
            let mut found =
                if same_run { vec![vec![open.clone(), end]] } else { vec![vec![open.clone()], vec![end]] };
            alike(&mut found);
            (found[0][0].kind, found[0][0].confidence, found[0][0].may_be.len())
        };
        let end = |confidence, from, to| fall(FindingKind::CacheEnd, confidence, from, to);
        assert_eq!(kinds(end(0.98, 4050.0, 1480.0), false), (FindingKind::CacheEnd, 0.95, 0));
        let stays = (FindingKind::Unexplained, 0.03, 2);
        // Within one run a cache ends once; another rate is another level; what is not sure says nothing of others.
        assert_eq!(kinds(end(0.98, 4050.0, 1480.0), true), stays);
        assert_eq!(kinds(end(0.98, 4000.0, 1700.0), false), stays);
        assert_eq!(kinds(end(0.85, 4000.0, 1500.0), false), stays);
        assert_eq!(kinds(fall(FindingKind::Throttle, 0.99, 4000.0, 1500.0), false), stays);
    }
}
