//! Falls that come and go alike, told as one: nobody reads a hundred flags that say the same.

use std::time::Duration;

use super::Finding;
use crate::quantity::FindingKind;
use crate::quantity::stats;
use crate::quantity::units::{Bytes, Celsius, clock, span_words};

/// So many falls alike are one finding. Chosen: fewer may be so many slow places, each of which wants a look.
const MANY: usize = 4;
/// Rates whose logarithms differ by less are the same. Chosen.
const SAME_RATE: f64 = 0.15;
/// Four in five last between their median divided by this and times this. Chosen.
const SAME_LENGTH: f64 = 3.0;

/// It fell, nobody knows why, and it came back or the record ends.
fn is_lone(f: &Finding) -> bool {
    let falls = f.before.zip(f.after).is_some_and(|(b, a)| b > a);
    f.kind == FindingKind::Unexplained && falls && f.may_be.is_empty() && f.decided.is_none()
}

fn alike(a: &Finding, b: &Finding) -> bool {
    let near = |a: Option<crate::quantity::units::Rate>, b: Option<crate::quantity::units::Rate>| {
        a.zip(b).is_some_and(|(a, b)| (a.get().max(1.0) / b.get().max(1.0)).ln().abs() < SAME_RATE)
    };
    near(a.before, b.before) && near(a.after, b.after)
}

/// Makes one finding of each group of unexplained falls that are alike; findings are in order of time before and after.
pub fn together(findings: &mut Vec<Finding>) {
    let mut taken = vec![false; findings.len()];
    let mut made: Vec<(usize, Finding)> = Vec::new();
    for first in 0..findings.len() {
        if taken[first] || !is_lone(&findings[first]) {
            continue;
        }
        let same = |i: &usize| !taken[*i] && is_lone(&findings[*i]) && alike(&findings[first], &findings[*i]);
        let group: Vec<usize> = (first..findings.len()).filter(same).collect();
        let of: Vec<&Finding> = group.iter().map(|i| &findings[*i]).collect();
        if let Some(one) = one_of(&of) {
            group.iter().for_each(|i| taken[*i] = true);
            made.push((first, one));
        }
    }
    for (first, one) in made {
        findings[first] = one;
        taken[first] = false;
    }
    let mut keep = taken.into_iter().map(|t| !t);
    findings.retain(|_| keep.next().unwrap_or(true));
}

fn one_of(group: &[&Finding]) -> Option<Finding> {
    let (first, last) = (*group.first()?, *group.last()?);
    let lasted = |f: &&&Finding| f.end_elapsed.map(|e| e.saturating_sub(f.elapsed).as_secs_f64());
    let mut spells: Vec<f64> = group.iter().filter_map(|f| lasted(&f)).collect();
    if group.len() < MANY || spells.len() + 1 < group.len() {
        return None;
    }
    let middle = stats::median(&mut spells)?;
    let near = spells.iter().filter(|s| **s < SAME_LENGTH * middle && **s * SAME_LENGTH > middle).count();
    if 5 * near < 4 * spells.len() {
        return None;
    }
    let mut gaps: Vec<f64> = group.windows(2).map(|w| (w[1].elapsed - w[0].elapsed).as_secs_f64()).collect();
    let gap = stats::median(&mut gaps)?;
    let shortest = gaps.iter().copied().fold(f64::INFINITY, f64::min);
    let longest = gaps.iter().copied().fold(0.0, f64::max);
    let temperatures = || group.iter().filter_map(|f| f.temperature);
    let coolest = temperatures().min_by(|a, b| a.degrees().total_cmp(&b.degrees()));
    let warmest = temperatures().max_by(|a, b| a.degrees().total_cmp(&b.degrees()));
    let end = group.iter().map(|f| f.end_elapsed.unwrap_or(f.elapsed)).max().unwrap_or(last.elapsed);
    let mut one = Finding {
        end_elapsed: last.end_elapsed.and(Some(end)),
        times: u32::try_from(group.len()).ok(),
        // Not of one place.
        position: None,
        position_end: None,
        written_low: group.iter().map(|f| f.written_low).min().unwrap_or(Bytes::ZERO),
        temperature: warmest.or(first.temperature),
        evidence: Vec::new(),
        ..first.clone()
    };
    let (before, after) = one.before.zip(one.after)?;
    one.evidence.push(format!(
        "Fell {} times from about {before} to {after} between {} and {}, for {} each, and came back{}.",
        group.len(),
        clock(first.elapsed),
        clock(last.elapsed.max(Duration::ZERO)),
        span_words(middle),
        if last.end_elapsed.is_some() { "" } else { " but for the last time" }
    ));
    let (gap, shortest, longest) = (span_words(gap), span_words(shortest), span_words(longest));
    one.evidence.push(if shortest == longest {
        format!("One every {gap}.")
    } else {
        format!("One every {gap}, {shortest} to {longest} apart.")
    });
    if let Some((a, b)) = coolest.zip(warmest) {
        one.evidence.push(format!(
            "At {} to {} when it fell: heat falls at one temperature, what goes by the clock or by bytes at any.",
            Celsius::new(a.degrees().round()),
            Celsius::new(b.degrees().round())
        ));
    }
    one.evidence.push(
        "The drive's own housekeeping does this, and so does a timer on this machine; a rest before the haul tells which: housekeeping has less to do after it.".into(),
    );
    Some(one)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Rate;

    fn fall(at: u64, from: f64, to: f64, lasts: Option<u64>) -> Finding {
        Finding {
            elapsed: Duration::from_secs(at),
            end_elapsed: lasts.map(|l| Duration::from_secs(at + l)),
            before: Some(Rate::new(from * 1e6)),
            after: Some(Rate::new(to * 1e6)),
            position: Some(Bytes::from_gb(at)),
            temperature: Some(Celsius::new(40.0 + at as f64 / 10.0)),
            evidence: vec!["Fell.".into()],
            ..Finding::new(FindingKind::Unexplained)
        }
    }

    #[test]
    fn falls_that_are_alike_are_one_from_the_first_to_the_last() {
        let other = fall(27, 900.0, 100.0, Some(3));
        let mut all: Vec<Finding> =
            (0..6).map(|i| fall(10 + 10 * i, 1000.0 + i as f64, 500.0, Some(4))).collect();
        all.insert(2, other.clone());
        together(&mut all);
        assert_eq!(all.len(), 2);
        assert_eq!((all[0].times, all[0].elapsed.as_secs()), (Some(6), 10));
        assert_eq!(all[0].end_elapsed, Some(Duration::from_secs(64)));
        assert_eq!((all[0].position, &all[1]), (None, &other));
        assert!(all[0].evidence[0].contains("6 times"), "{:?}", all[0].evidence);
        assert!(all[0].evidence[1].starts_with("One every 10"), "{:?}", all[0].evidence);
        assert!(all[0].evidence[2].starts_with("At 41 °C to 46 °C when it fell"), "{:?}", all[0].evidence);
    }

    #[test]
    fn few_falls_and_falls_that_differ_stay_apart() {
        for mut all in [
            (0..3).map(|i| fall(10 * i, 1000.0, 500.0, Some(4))).collect::<Vec<_>>(),
            (0..6).map(|i| fall(10 * i, 1000.0, 500.0 / (1 + i) as f64, Some(4))).collect(),
            (0..6).map(|i| fall(100 * i, 1000.0, 500.0, Some(1 << i))).collect(),
            (0..6).map(|i| fall(10 * i, 1000.0, 500.0, None)).collect(),
        ] {
            let before = all.clone();
            together(&mut all);
            assert_eq!(all, before);
        }
        // What has candidates, or was asked the drive, is a finding of its own.
        let mut all: Vec<Finding> = (0..6).map(|i| fall(10 * i, 1000.0, 500.0, Some(4))).collect();
        all[1].kind = FindingKind::CacheEnd;
        all[2].decided = Some(Box::default());
        all[3].may_be.push(crate::conclude::Candidate { kind: FindingKind::Throttle, share: 0.5 });
        let before = all.clone();
        together(&mut all);
        assert_eq!(all, before, "three are left");
    }
}
