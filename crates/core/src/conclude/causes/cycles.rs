//! Cycles of heat that are quicker than levels can be told: a few samples a tooth, or several teeth a sample.

use std::ops::Range;

use super::Judge;
use super::numbers::{
    AT_LIMIT, COOLED, EVEN, HOT, IN_LONG_SAMPLES, LATE_PERIODS, LEAST_COOLING_K, LEAST_DIPS, LEAST_FALLS,
    LEAST_LONG, LONG_SAMPLE_S, MOST_LOOKED_AT, MOVES_ON_K, MOVES_ON_S, NOW_AND_THEN, PLAIN_COOLING_K, QUICK,
    RARELY, SLOW_SHARE, STALL,
};
use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::stats;
use crate::quantity::units::{Bytes, Celsius, Rate, clock, span_words};
use crate::readings::Series;

impl Judge<'_> {
    /// A sawtooth so quick that its teeth are too short for levels: the rate changes between two values, falls at the limit and
    /// comes back cooler, again and again.
    pub(super) fn quick_sawtooth(&self, found: &[Finding]) -> Option<Finding> {
        if self.by_the_clock {
            return None;
        }
        let all = self.run.samples(&(0..self.run.len()));
        // The end of a cache is another story: what was before it is looked at alone first.
        let ended = found.iter().find(|f| f.kind == FindingKind::CacheEnd);
        let until = ended.map(|f| self.cx.series.index_at(f.elapsed)).filter(|i| all.contains(i));
        let by_shares = |some: Range<usize>| {
            let rates = self.two_rates(&some)?;
            self.sawtooth_in(some, rates, found)
        };
        until.and_then(|i| by_shares(all.start..i)).or_else(|| by_shares(all.clone())).or_else(|| {
            let (some, rates) = self.where_it_falls(&all)?;
            self.sawtooth_in(some, rates, found)
        })
    }

    /// The low and the high of two rates between which it changes all the time, bytes a second.
    fn two_rates(&self, all: &Range<usize>) -> Option<(f64, f64)> {
        let mut some = self.some_rates(all);
        some.sort_by(f64::total_cmp);
        let share = |p: usize| some.get(some.len() * p / 100).copied();
        share(15).zip(share(85))
    }

    fn some_rates(&self, all: &Range<usize>) -> Vec<f64> {
        let step = (all.len() / MOST_LOOKED_AT).max(1);
        all.clone().step_by(step).map(|i| self.cx.series.rate(i)).collect()
    }

    /// The part of these samples in which it falls at its stated limit, with the rate that it falls to and the usual one: of a long
    /// record that may be a moment, which no share of all samples shows.
    fn where_it_falls(&self, all: &Range<usize>) -> Option<(Range<usize>, (f64, f64))> {
        let series = self.cx.series;
        let usual = stats::median(&mut self.some_rates(all))?;
        let from = self.cx.limit?.degrees() - self.below_limit();
        let slow = |i: usize| series.rate(i) < SLOW_SHARE * usual;
        let falls = |i: &usize| {
            let peak = || self.cx.hottest(i.saturating_sub(2)..i + 1);
            !slow(i - 1) && slow(*i) && slow(i + 1) && peak().is_some_and(|t| t >= from)
        };
        let mut inner = all.start + 1..all.end.saturating_sub(1);
        let first = inner.find(falls)?;
        let last = inner.rev().find(falls)?;
        let beside = (last - first) / 2;
        let some = first.saturating_sub(beside).max(all.start)..(last + beside).min(all.end);
        let mut low: Vec<f64> = some.clone().filter(|i| slow(*i)).map(|i| series.rate(i)).collect();
        Some((some, (stats::median(&mut low)?, usual)))
    }

    /// How far below its limit a temperature is still at it, K.
    fn below_limit(&self) -> f64 {
        AT_LIMIT.max(0.5 * self.cx.resolution) + 0.6
    }

    fn sawtooth_in(&self, all: Range<usize>, (low, high): (f64, f64), found: &[Finding]) -> Option<Finding> {
        let series = self.cx.series;
        let top = self.cx.hottest(all.clone()).filter(|t| *t >= HOT)?;
        let limit = self.limit.unwrap_or(top);
        let at_limit = |t: f64| t >= limit - self.below_limit();
        // The sample in which it fell holds some of its cooling.
        let peak = |i: usize| self.cx.hottest(i.saturating_sub(2)..i + 1);
        if found.iter().any(|f| f.kind == FindingKind::Throttle)
            || !self.cx.hottest(all.clone()).is_some_and(at_limit)
            || low > SLOW_SHARE * high
        {
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
        let last = rises.last().copied();
        let falls = without_stalls(series, falls, &rises);
        let most = |hits: usize, of: usize| hits * 5 >= of * 4;
        let hot = falls.iter().filter(|i| peak(**i).is_some_and(at_limit)).count();
        // Each is cooler before the next than when it fell, by a step of its sensor: a late one is hottest after the fall, and coldest after
        // the speed is back.
        let least_k = |k: f64| (0.6 * self.cx.resolution).max(k);
        let cools = |w: &[usize], by: f64| {
            let back = rises[rises.partition_point(|r| *r <= w[0]).min(rises.len() - 1)].clamp(w[0], w[1]);
            let middle = w[0].midpoint(back) + 1;
            let hot = self.cx.hottest(w[0].saturating_sub(2)..middle);
            hot.zip(self.cx.coldest(middle..w[1])).is_some_and(|(a, b)| b < a - by)
        };
        let cooler = if rises.is_empty() {
            0
        } else {
            falls.windows(2).filter(|w| cools(w, least_k(LEAST_COOLING_K))).count()
        };
        let counts = |i: &&usize| self.cx.counters_moved(series.end(**i)) == Some(true);
        let counted = most(falls.iter().filter(counts).count(), falls.len());
        // At a stated limit to which it had just come, the second says that the first was no stall.
        let plain = self.cx.limit.is_some()
            && falls.len() >= 2
            && !rises.is_empty()
            && falls.windows(2).all(|w| cools(w, least_k(PLAIN_COOLING_K)))
            && self.fell_as_it_came_to(falls[0], top);
        if falls.len() < LEAST_FALLS && !plain
            || !most(hot, falls.len())
            || !counted && !most(cooler, falls.len() - 1) && !self.stands_at_top(&falls, top)
            || self.limit.is_none() && !self.fell_as_it_came_to(falls[0], top)
        {
            return None;
        }
        let (first, last) = (falls[0], last.unwrap_or(falls[0]));
        let place = Bytes::new(series.written_before(first));
        let here = Bytes::new(series.written(first) - series.written_before(first));
        let t = peak(first).map(Celsius::new);
        Some(Finding {
            kind: FindingKind::Throttle,
            elapsed: series.end(first.saturating_sub(1)),
            end_elapsed: Some(series.end(last)),
            transition: None,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
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
            confidence: QUICK,
            evidence: vec![
                format!(
                    "Fell {} times between {} and {}, from about {} to {}, at {} with a limit of {}{}.",
                    falls.len(),
                    clock(series.end(first)),
                    clock(series.end(last)),
                    Rate::new(high),
                    Rate::new(low),
                    t.unwrap_or_default(),
                    Celsius::new(limit),
                    if self.limit.is_none() { ", judging by where it fell each time" } else { "" }
                ),
                if counted {
                    "The drive's own count of thermal transitions advanced with it.".into()
                } else {
                    "The speed came back each time it had cooled, without rest.".into()
                },
            ],
        })
    }

    /// It took long to the first fall, and from there on the temperature stood while the rate went up and down: what a late sensor in whole
    /// degrees shows of narrow cycles.
    fn stands_at_top(&self, falls: &[usize], top: f64) -> bool {
        let series = self.cx.series;
        let (first, last) = (falls[0], falls[falls.len() - 1]);
        let mut gaps: Vec<f64> = falls.windows(2).map(|w| series.end_s(w[1]) - series.end_s(w[0])).collect();
        let usual = stats::median(&mut gaps).unwrap_or(f64::INFINITY);
        let first_s = series.end_s(first) - series.end_s(self.run.first);
        let stood =
            self.cx.coldest(first..last).is_some_and(|t| t > top - AT_LIMIT - 0.5 * self.cx.resolution);
        falls.len() >= LEAST_DIPS && first_s > LATE_PERIODS * usual && stood
    }

    /// With no limit stated: the first time it fell it had just come to where it falls each time. What falls by the clock does so while the
    /// drive still warms up, or long after.
    fn fell_as_it_came_to(&self, first: usize, top: f64) -> bool {
        let close = 1.1 + 0.5 * self.cx.resolution.max(1.0);
        let at = self.cx.series.end(first);
        self.cx
            .hottest(first.saturating_sub(2)..first + 1)
            .is_some_and(|t| t >= top - close && self.cx.at_its_hottest(self.run.first, at, t))
    }

    /// Samples so long that a cycle of heat fits into one or two: the speed was even while the drive warmed up, and since it came to
    /// its limit, or to a temperature that it never exceeds, it goes up and down below that.
    pub(super) fn cycles_in_long_samples(&self, found: &[Finding]) -> Option<Finding> {
        let series = self.cx.series;
        let all = self.run.samples(&(0..self.run.len()));
        let mean_s = self.cx.sample_s(all.clone());
        if mean_s < LONG_SAMPLE_S || found.iter().any(|f| f.kind == FindingKind::Throttle) {
            return None;
        }
        let top = self.cx.hottest(all.clone())?;
        let stated = self.cx.limit.is_some();
        let cap = match self.cx.limit.map(Celsius::degrees) {
            Some(limit) if top < limit - AT_LIMIT - self.cx.resolution || top > limit + AT_LIMIT + COOLED => {
                return None;
            }
            Some(limit) => limit.min(top),
            None if top >= HOT => top,
            None => return None,
        };
        // As warm as that, as far as so long a sample tells.
        let slack = if mean_s > MOVES_ON_S { MOVES_ON_K } else { AT_LIMIT };
        let from = cap - slack - 0.5 * self.cx.resolution;
        let near = |i: usize| self.cx.degrees(i).is_some_and(|t| t >= from);
        let least = if stated { 1 } else { 2 };
        // The first that is slower, at the limit.
        let start = (all.start + least..all.end).find(|i| {
            let slower =
                stats::median(&mut self.rates(all.start..*i)).is_some_and(|r| series.rate(*i) < 0.92 * r);
            slower && (near(*i) || near(i - 1))
        })?;
        // The end of a cache is another story: what was before it is looked at alone first.
        let ended = found.iter().filter(|f| f.kind == FindingKind::CacheEnd);
        let ended =
            ended.map(|f| series.index_at(f.elapsed)).find(|i| *i > start + LEAST_LONG && *i < all.end);
        let around = |end: usize| self.long_cycles(all.start, start, end, cap, &near);
        // It is none where the rate is as high as before it now and then.
        let free = stats::median(&mut self.rates(all.start..start))?;
        let ended = ended.filter(|i| self.fast_share(i + 1..all.end, 0.92 * free) < NOW_AND_THEN);
        ended.and_then(around).or_else(|| around(all.end))
    }

    /// Cycles from one sample to another, of which none is told by itself; `cap` is the temperature below which they go up and down.
    fn long_cycles(
        &self,
        first: usize,
        start: usize,
        end: usize,
        cap: f64,
        near: &dyn Fn(usize) -> bool,
    ) -> Option<Finding> {
        let series = self.cx.series;
        let stated = self.cx.limit.is_some();
        let all = first..end;
        let mean_s = self.cx.sample_s(all.clone());
        let (before, after) = (self.rates(all.start..start), self.rates(start + 1..end));
        if after.len() < LEAST_LONG {
            return None;
        }
        let ups = self.swings(start..end);
        let (free, spread) = stats::median_and_spread(&mut before.clone())?;
        let (_, swing) = stats::median_and_spread(&mut after.clone())?;
        let held = series.mean_rate(start + 1..end);
        // A short turn at full speed among many at the lower one moves no median.
        let even_before = before.iter().all(|r| (r / free).ln().abs() < EVEN);
        let in_turns = even_before && RARELY * ups >= after.len();
        let uneven = swing > 3.0 * spread.max(0.01 * free) || in_turns;
        let stays_warm = self.cx.coldest(start..end).is_some_and(|t| t > cap - COOLED - 3.0);
        let stays_near = (start..end).filter(|i| near(*i)).count() >= 3;
        if held > 0.92 * free
            || !uneven
            || !stays_warm
            || !stays_near
            || ups + usize::from(stated) < LEAST_FALLS
        {
            return None;
        }
        let place = Bytes::new(series.written_before(start));
        // Where in the sample, by what it lost of the difference to the slowest.
        let slowest = after.iter().copied().fold(f64::INFINITY, f64::min);
        let lost = ((free - series.rate(start)) / (free - slowest).max(1.0)).clamp(0.0, 1.0);
        let slow_s = lost * (series.end_s(start) - series.end_s(start - 1));
        let onset = series.end(start).saturating_sub(std::time::Duration::from_secs_f64(slow_s));
        let last = end - 1;
        let t = Celsius::new(cap.round());
        let limit = match self.cx.limit {
            Some(limit) => format!("with a limit of {limit}"),
            None => "and was never hotter".into(),
        };
        Some(Finding {
            elapsed: onset,
            end_elapsed: Some(series.end(last)),
            written: place,
            written_low: Bytes::new(series.written_before(start.saturating_sub(1))),
            written_high: Bytes::new(series.written(start)),
            position: series.position(start),
            position_end: series.position(last),
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

/// Falls that last: one from which the speed is back in a quarter of the usual time is a stall, no tooth.
fn without_stalls(series: &Series, falls: Vec<usize>, rises: &[usize]) -> Vec<usize> {
    let back = |fall: usize| rises.get(rises.partition_point(|r| *r <= fall));
    let lasts = |fall: usize| back(fall).map(|r| series.end_s(*r) - series.end_s(fall));
    let usual = stats::median(&mut falls.iter().filter_map(|f| lasts(*f)).collect::<Vec<f64>>());
    let stall = usual.map_or(0.0, |u| STALL * u);
    falls.into_iter().filter(|f| lasts(*f).is_none_or(|s| s >= stall)).collect()
}
