//! What the cells wrote for what hosts wrote, as a haul tells it.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::quantity::{FindingKind, Interval};
use hollow_mile_core::readings::Readings;
use serde::Serialize;

use super::measured::{Bounded, bounded};

/// Write amplification of one leg.
#[derive(Debug, Serialize)]
pub struct LegWear {
    leg: u16,
    #[serde(flatten)]
    amplification: Option<Bounded>,
}

/// Write amplification of a haul on a drive that counts what it writes to its media.
#[derive(Debug, Serialize)]
pub struct WearRow {
    whole: Option<Bounded>,
    before_cache_end: Option<Bounded>,
    after_cache_end: Option<Bounded>,
    /// Of each level of the write cache in the leg of its first end: from one end to the next.
    levels: Vec<Option<Bounded>>,
    /// What it wrote to its media in rest legs.
    at_rest_bytes: Option<u64>,
    legs: Vec<LegWear>,
}

/// Up to the first cache end in the leg that it is in, and from it to the end of that leg.
fn around_cache_end(r: &Readings, c: &Conclusions) -> [Option<Interval>; 2] {
    let Some(end) = c.findings.iter().find(|f| f.kind == FindingKind::CacheEnd).map(|f| f.elapsed) else {
        return [None; 2];
    };
    let Some(leg) = r.legs().iter().rfind(|l| l.from <= end) else { return [None; 2] };
    let over = leg.ended.as_ref().map_or(r.elapsed(), |e| e.0);
    [r.write_amplification_between(leg.from, end), r.write_amplification_between(end, over)]
}

/// From one cache end to the next, in the leg that the first is in; nothing where there is none.
fn of_levels(r: &Readings, c: &Conclusions) -> Vec<Option<Interval>> {
    let ends = || c.findings.iter().filter(|f| f.kind == FindingKind::CacheEnd).map(|f| f.elapsed);
    let Some(leg) = ends().next().and_then(|e| r.legs().iter().rfind(|l| l.from <= e)) else {
        return Vec::new();
    };
    let over = leg.ended.as_ref().map_or(r.elapsed(), |e| e.0);
    let mut at = vec![leg.from];
    at.extend(ends().filter(|e| (leg.from..over).contains(e)));
    at.push(over);
    at.windows(2).map(|w| r.write_amplification_between(w[0], w[1])).collect()
}

impl WearRow {
    /// Of a haul; `None` where the drive tells nothing of it.
    #[must_use]
    pub fn of(r: &Readings, c: &Conclusions) -> Option<Self> {
        let whole = r.write_amplification()?;
        let [before, after] = around_cache_end(r, c).map(|i| bounded(i, 1.0));
        let legs = r.write_amplification_of_legs();
        let legs = legs.into_iter().map(|(leg, i)| LegWear { leg, amplification: bounded(Some(i), 1.0) });
        Some(Self {
            whole: bounded(Some(whole), 1.0),
            before_cache_end: before,
            after_cache_end: after,
            levels: of_levels(r, c).into_iter().map(|i| bounded(i, 1.0)).collect(),
            at_rest_bytes: r.media_written_at_rest().map(Bytes::get),
            legs: legs.collect(),
        })
    }
}

/// A ratio as far as its bounds allow: `1.80 ± 0.02`.
fn times(i: Interval) -> String {
    let half = (i.high - i.low) / 2.0;
    let digits = if half > 0.0 { (1.0 - half.log10().floor()).clamp(0.0, 3.0) as usize } else { 2 };
    format!("{:.digits$} ± {half:.digits$}", i.value)
}

/// What the panel says: the whole, on both sides of the cache end, and leg by leg where there are several.
#[must_use]
pub fn wear_lines(r: &Readings, c: &Conclusions) -> Vec<String> {
    let Some(whole) = r.write_amplification() else { return Vec::new() };
    let mut out = vec![format!("{} times what hosts wrote", times(whole))];
    let [before, after] = around_cache_end(r, c);
    out.extend(before.map(|i| format!("{} up to the cache end", times(i))));
    out.extend(after.map(|i| format!("{} after it", times(i))));
    let levels = of_levels(r, c);
    if levels.len() > 2 {
        let told = levels.into_iter().enumerate().filter_map(|(n, i)| Some((n + 1, i?)));
        out.extend(told.map(|(n, i)| format!("{} in level {n}", times(i))));
    }
    let at_rest = r.media_written_at_rest().filter(|b| *b > Bytes::ZERO);
    out.extend(at_rest.map(|b| format!("{b} of it while it rested")));
    let legs = r.write_amplification_of_legs();
    if legs.len() > 1 {
        out.extend(legs.into_iter().map(|(leg, i)| format!("{} in leg {}", times(i), leg + 1)));
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_ratio_has_no_more_digits_than_its_bounds_allow() {
        let of = |value, low, high| times(Interval { value, low, high });
        assert_eq!(of(1.8, 1.79, 1.81), "1.800 ± 0.010");
        assert_eq!(of(1.83333, 1.7, 1.96), "1.83 ± 0.13");
        assert_eq!(of(2.0, 2.0, 2.0), "2.00 ± 0.00");
    }
}
