//! Cycles of heat that are quicker than levels can be told: a few samples a tooth, or several teeth a sample.

use std::ops::Range;

use super::Judge;
use super::numbers::{AT_LIMIT, COOLED, HOT, IN_LONG_SAMPLES, LEAST_FALLS, LONG_SAMPLE_S};
use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::stats;
use crate::quantity::units::{Bytes, Celsius, Rate, clock, span_words};

impl Judge<'_> {
    /// A sawtooth so quick that its teeth are too short for levels: the rate changes between two values, falls at the limit and
    /// comes back cooler, again and again.
    pub(super) fn quick_sawtooth(&self, found: &[Finding]) -> Option<Finding> {
        let (limit, series) = (self.limit?, self.cx.series);
        let all = self.run.samples(&(0..self.run.len()));
        let at_limit = |t: f64| t >= limit - AT_LIMIT - 0.6;
        if found.iter().any(|f| f.kind == FindingKind::Throttle)
            || !self.cx.hottest(all.clone()).is_some_and(at_limit)
        {
            return None;
        }
        let mut some: Vec<f64> =
            all.clone().step_by((all.len() / 4000).max(1)).map(|i| series.rate(i)).collect();
        some.sort_by(f64::total_cmp);
        let share = |p: usize| some.get(some.len() * p / 100).copied().unwrap_or_default();
        let (low, high) = (share(15), share(85));
        if low > 0.8 * high {
            return None;
        }
        let middle = (low * high).sqrt();
        let (mut falls, mut rises): (Vec<usize>, Vec<usize>) = (Vec::new(), Vec::new());
        let mut fast = None;
        for i in all {
            let rate = series.rate(i);
            match fast {
                Some(true) if rate < middle / 1.08 => {
                    falls.push(i);
                    fast = Some(false);
                }
                Some(false) if rate > middle * 1.08 => {
                    rises.push(i);
                    fast = Some(true);
                }
                None => fast = Some(rate > middle),
                _ => {}
            }
        }
        let most = |hits: usize, of: usize| hits * 5 >= of * 4;
        let hot = falls
            .iter()
            .filter(|i| self.cx.hottest(i.saturating_sub(2)..**i + 1).is_some_and(at_limit))
            .count();
        // Each comes back cooler than it fell.
        let cooler = falls.iter().zip(rises.iter().skip_while(|r| **r < falls[0]));
        let cooler = cooler
            .filter(|(f, r)| self.cx.degrees(**f).zip(self.cx.degrees(**r)).is_some_and(|(a, b)| b < a - 1.4))
            .count();
        if falls.len() < LEAST_FALLS || !most(hot, falls.len()) || !most(cooler, falls.len() - 1) {
            return None;
        }
        let (first, last) = (falls[0], rises.last().copied().unwrap_or(falls[0]));
        let place = Bytes::new(series.written_before(first));
        let here = Bytes::new(series.written(first) - series.written_before(first));
        let t = self.cx.hottest(first.saturating_sub(2)..first + 1).map(Celsius::new);
        Some(Finding {
            kind: FindingKind::Throttle,
            elapsed: series.end(first.saturating_sub(1)),
            end_elapsed: Some(series.end(last)),
            transition: None,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            unlike: Vec::new(),
            decided: None,
            written: place,
            written_low: place.saturating_sub(here),
            written_high: place + here,
            position: series.position(first),
            position_end: series.position(last),
            before: Some(Rate::new(high)),
            after: Some(Rate::new(low)),
            temperature: t,
            confidence: 0.93,
            evidence: vec![
                format!(
                    "Fell {} times between {} and {}, from about {} to {}, at {} with a limit of {}.",
                    falls.len(),
                    clock(series.end(first)),
                    clock(series.end(last)),
                    Rate::new(high),
                    Rate::new(low),
                    t.unwrap_or_default(),
                    Celsius::new(limit)
                ),
                "The speed came back each time it had cooled, without rest.".into(),
            ],
        })
    }

    /// Samples so long that a cycle of heat fits into one or two: the speed was even while the drive warmed up, and since it came to
    /// its limit, or to a temperature that it never exceeds, it goes up and down below that.
    pub(super) fn cycles_in_long_samples(&self, found: &[Finding]) -> Option<Finding> {
        let series = self.cx.series;
        let all = self.run.samples(&(0..self.run.len()));
        let mean_s = series.loaded_s(all.clone()) / all.len().max(1) as f64;
        if mean_s < LONG_SAMPLE_S || found.iter().any(|f| f.kind == FindingKind::Throttle) {
            return None;
        }
        let top = self.cx.hottest(all.clone())?;
        let cap = match self.cx.limit.map(Celsius::degrees) {
            Some(limit) if top < limit - AT_LIMIT - self.cx.resolution || top > limit + AT_LIMIT + COOLED => {
                return None;
            }
            Some(limit) => limit.min(top),
            None if top >= HOT => top,
            None => return None,
        };
        let near =
            |i: usize| self.cx.degrees(i).is_some_and(|t| t >= cap - AT_LIMIT - 0.5 * self.cx.resolution);
        let start = all.clone().find(|i| near(*i))?;
        let (mut before, mut after): (Vec<f64>, Vec<f64>) =
            (self.rates(all.start..start), self.rates(start + 1..all.end));
        if before.len() < 2 || after.len() < 8 {
            return None;
        }
        let ups = self.swings(start..all.end);
        let (free, spread) = stats::median_and_spread(&mut before)?;
        let (held, swing) = stats::median_and_spread(&mut after)?;
        let stays_warm = self.cx.coldest(start..all.end).is_some_and(|t| t > cap - COOLED - 3.0);
        let uneven = swing > 3.0 * spread.max(0.01 * free);
        let stays_near = (start..all.end).filter(|i| near(*i)).count() >= 3;
        if held > 0.92 * free || !uneven || !stays_warm || !stays_near || ups < LEAST_FALLS {
            return None;
        }
        let place = Bytes::new(series.written_before(start));
        let end = all.end - 1;
        let t = Celsius::new(cap.round());
        let limit = match self.cx.limit {
            Some(limit) => format!("with a limit of {limit}"),
            None => "and was never hotter".into(),
        };
        Some(Finding {
            elapsed: series.end(start.max(1) - 1),
            end_elapsed: Some(series.end(end)),
            written: place,
            written_low: Bytes::new(series.written_before(start.saturating_sub(1))),
            written_high: Bytes::new(series.written(start)),
            position: series.position(start),
            position_end: series.position(end),
            before: Some(Rate::new(free)),
            after: Some(Rate::new(held)),
            temperature: Some(t),
            confidence: IN_LONG_SAMPLES,
            evidence: vec![
                format!(
                    "Even at {} while it warmed up; from {} on, at {t} {limit}, it went up and down around {}.",
                    Rate::new(free),
                    clock(series.end(start)),
                    Rate::new(held)
                ),
                format!(
                    "A sample is {} long: single falls cannot be told in it; shorter samples would show them.",
                    span_words(mean_s)
                ),
            ],
            ..Finding::new(FindingKind::Throttle)
        })
    }

    fn rates(&self, samples: Range<usize>) -> Vec<f64> {
        samples.map(|i| self.cx.series.rate(i)).collect()
    }

    /// How often the rate goes up by a tenth from one sample to the next.
    fn swings(&self, samples: Range<usize>) -> usize {
        let rates = self.rates(samples);
        rates.windows(2).filter(|w| w[1] > 1.1 * w[0]).count()
    }
}
