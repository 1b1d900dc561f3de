//! A place met again: a slow stretch is slow on every pass, a passing cause is not.

use super::numbers::LEAST_VISIT_S;
use std::ops::Range;

use crate::quantity::units::Bytes;

use crate::readings::Series;

/// What other passes over a stretch of addresses showed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Passes {
    /// Slow there as well.
    pub slow: usize,
    /// Not slow there.
    pub well: usize,
}

/// Looks for other visits to `from..to` than that of the samples `met`. A visit is slow when its rate lost, against what came
/// right before and after it, at least half of the share that was lost at first (`left` is what was left of the rate).
pub fn visit_again(series: &Series, from: Bytes, to: Bytes, met: &Range<usize>, left: f64) -> Passes {
    let (from, to) = (from.min(to).get(), from.max(to).get());
    let inside = |i: usize| {
        let end = series.position(i).map(Bytes::get);
        let moved = series.moved(i) - series.moved_before(i);
        // The whole of the sample lies in the stretch, wherever the pass runs.
        end.is_some_and(|e| moved > 0 && e > from && e <= to && e.saturating_sub(moved) >= from)
    };
    let mut passes = Passes { slow: 0, well: 0 };
    let mut i = 0;
    while i < series.len() {
        if met.contains(&i) {
            i = met.end;
            continue;
        }
        if !inside(i) {
            i += 1;
            continue;
        }
        let start = i;
        while i < series.len() && !met.contains(&i) && inside(i) {
            i += 1;
        }
        let visit = start..i;
        let length = visit.len();
        let around = [
            start.saturating_sub(length.max(5) + 1)..start.saturating_sub(1),
            i + 1..(i + 1 + length.max(5)).min(series.len()),
        ];
        // A load that began or ended beside it gives no neighbour on that side.
        let rates: Vec<f64> = around
            .into_iter()
            .filter(|r| r.end > r.start && series.loaded_s(r.clone()) > LEAST_VISIT_S)
            .map(|r| series.mean_rate(r))
            .collect();
        if rates.is_empty() || series.loaded_s(visit.clone()) < LEAST_VISIT_S {
            continue;
        }
        let beside = rates.iter().sum::<f64>() / rates.len() as f64;
        if series.mean_rate(visit) < beside * (1.0 - 0.5 * (1.0 - left)) {
            passes.slow += 1;
        } else {
            passes.well += 1;
        }
    }
    passes
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::Sample;
    use std::time::Duration;

    /// Passes over a drive of a hundred stretches, forwards, with a rate for each stretch.
    fn passes(of: &[&dyn Fn(u64) -> u64]) -> Series {
        let mut s = Series::default();
        let mut at = 0;
        for rate in of {
            for stretch in 0..100u64 {
                at += 1_000_000 / rate(stretch);
                s.push(
                    &Sample {
                        end: Duration::from_micros(at),
                        span: Duration::from_micros(1_000_000 / rate(stretch)),
                        written: Bytes::new(1000),
                        position: Some(Bytes::new((stretch + 1) * 1000)),
                        ..Sample::default()
                    },
                    true,
                );
            }
        }
        s
    }

    #[test]
    fn a_slow_stretch_is_slow_again_and_a_passing_cause_is_not() {
        let slow = |s: u64| if (40..60).contains(&s) { 4 } else { 10 };
        let even = |_: u64| 10;
        let look = |s: &Series| visit_again(s, Bytes::new(40_000), Bytes::new(60_000), &(40..60), 0.4);
        assert_eq!(look(&passes(&[&slow, &slow, &slow])), Passes { slow: 2, well: 0 });
        assert_eq!(look(&passes(&[&slow, &even])), Passes { slow: 0, well: 1 });
        assert_eq!(look(&passes(&[&slow])), Passes { slow: 0, well: 0 });
    }
}
