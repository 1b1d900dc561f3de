//! Heat by what the temperature does after a drop: a controller holds it where it was; a drive whose cache ended takes less
//! power and cools.

use super::numbers::{
    AT_LIMIT, COOLED, HOT, LEAST_FALLS, LIMITS_FROM, LOOK_S, PLATEAU_S, STAGES_APART, STANDS_AT_LIMIT_S,
    STANDS_S, UNDECIDED,
};
use std::ops::Range;
use std::time::Duration;

use crate::conclude::Finding;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate, clock};

use super::{Context, Judge, Level, Run, Step};
use crate::quantity::stats;

impl Context<'_> {
    /// Was it warming before a moment, hotter then than ever before since `first`?
    pub(super) fn at_its_hottest(&self, first: usize, at: Duration, t: f64) -> bool {
        let before = self.series.index_at(at);
        let earlier = self.hottest(first..before.max(first));
        let warming = self.coldest(self.around(at, 25, 0)).is_some_and(|c| c < t - 0.9);
        warming && earlier.is_none_or(|e| e <= t + 0.1)
    }

    /// The temperature stands near `t` through these samples, for `least_s`, and no lower in their last third.
    fn stands(&self, samples: Range<usize>, t: f64, least_s: f64) -> bool {
        if self.series.loaded_s(samples.clone()) < least_s {
            return false;
        }
        let last = samples.end - samples.len() / 3..samples.end;
        let high = self.hottest(samples.clone()).is_some_and(|h| h <= t + AT_LIMIT);
        let low = self.coldest(samples).is_some_and(|c| c >= t - AT_LIMIT - 0.5);
        high && low && self.coldest(last).is_some_and(|c| c >= t - AT_LIMIT + 0.3)
    }
}

impl Judge<'_> {
    fn looked_at(&self, step: &Step<'_>) -> Range<usize> {
        let low = self.samples_of(step.right);
        let until = self.cx.series.index_at(step.place.elapsed + Duration::from_secs(LOOK_S));
        low.start..until.clamp(low.start, low.end)
    }

    /// After a large drop that stayed, the temperature stood at the limit: the lower rate is what heat lets through.
    pub(super) fn stands_at_limit(&self, step: &Step<'_>, limit: f64) -> bool {
        let at = step.temperature.is_some_and(|t| t >= limit - AT_LIMIT);
        at && self.cx.counters_moved_in(&step.place) != Some(false)
            && self.cx.stands(self.looked_at(step), limit, STANDS_AT_LIMIT_S)
    }

    /// With no limit known, the cache and heat would look the same: it fell when the drive was hotter than ever and still
    /// warming, and the record ends, or goes on to something else, before it had cooled to where heat lets go.
    pub(super) fn may_be_heat(&self, step: &Step<'_>) -> bool {
        let (None, Some(t)) = (self.cx.limit, step.temperature) else { return false };
        if self.limit.is_some_and(|l| t < l - STAGES_APART) {
            return false;
        }
        let left = step.after().get() / step.before().get().max(1.0);
        t >= LIMITS_FROM
            && (0.2..0.92).contains(&left)
            && self.cx.counters_moved_in(&step.place) != Some(false)
            && self.cx.at_its_hottest(self.run.first, step.place.begins, t)
            && self.cx.coldest(self.samples_of(step.right)).is_some_and(|c| c > t - COOLED)
            && !self.ended_there_before(step)
    }

    fn ended_there_before(&self, step: &Step<'_>) -> bool {
        let bytes = self.since_rest(&step.place).as_f64();
        let near = |b: Bytes| (b.as_f64() / bytes.max(1.0) - 1.0).abs() < 0.03;
        self.cx.earlier.iter().any(|e| e.kind == FindingKind::CacheEnd && near(e.bytes))
    }

    /// Heat or the cache: the record does not say which.
    pub(super) fn undecided(&self, step: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::Unexplained, step);
        let t = Celsius::new(step.temperature.unwrap_or_default().round());
        f.evidence.push(format!("Fell from {} to {} and stayed down.", step.before(), step.after()));
        f.evidence.push(format!(
            "It was at {t} then, hotter than ever before in this run and still warming, and had not cooled by {COOLED:.0} K when that ended: heat and the end of a cache look the same."
        ));
        f.evidence.push(
            "The drive's limit would decide (throttle_c in a CSV file); so would ten more minutes, or the same write with a fan.".into(),
        );
        f.confidence = UNDECIDED;
        f
    }
}

/// With no limit stated: a drop at the hottest moment so far, while it was still warming, after which the temperature stands
/// where it was though the drive does less.
pub(super) fn limit_from_standing(
    steps: &[Step<'_>],
    cx: &Context<'_>,
    first: usize,
    samples: impl Fn(&Step<'_>) -> Range<usize>,
) -> Option<f64> {
    steps.iter().filter(|s| s.is_drop()).find_map(|s| {
        let t = s.temperature.filter(|t| *t >= HOT)?;
        let low = samples(s);
        let until =
            cx.series.index_at(s.place.elapsed + Duration::from_secs(LOOK_S)).clamp(low.start, low.end);
        let large = s.after().get() < 0.85 * s.before().get();
        let counted_none = cx.counters_moved_in(&s.place) == Some(false);
        (large
            && !counted_none
            && cx.at_its_hottest(first, s.place.begins, t)
            && cx.stands(low.start..until, t, STANDS_S))
        .then_some(t)
    })
}

/// With no limit stated: it warmed up, and from then on the temperature stood while the rate went down little by little. Whatever
/// else slows a drive lets it cool.
pub(super) fn limit_from_plateau(run: &Run, levels: &[Level], cx: &Context<'_>) -> Option<f64> {
    let series = cx.series;
    let all = run.samples(&(0..run.len()));
    let step = (all.len() / 2000).max(1);
    let mut read: Vec<f64> = cx.read_in(all.clone()).step_by(step).collect();
    let top = stats::quantile(&mut read, 0.97).filter(|t| *t >= HOT)?;
    let near = top - 0.5 * cx.resolution - 0.8;
    let start = all.clone().find(|i| cx.degrees(*i).is_some_and(|t| t >= near))?;
    let end = (start..all.end).find(|i| cx.degrees(*i).is_some_and(|t| t < near - 1.5)).unwrap_or(all.end);
    let warmed = cx.coldest(cx.around(series.end(start), 60, 0)).is_some_and(|t| t < near - 1.2);
    if !warmed || series.loaded_s(start..end) < PLATEAU_S {
        return None;
    }
    let rate = |from: usize, to: usize| {
        let step = ((to - from) / 400).max(1);
        stats::median(&mut (from..to).step_by(step).map(|i| series.rate(i)).collect::<Vec<_>>())
    };
    let before = cx.around(series.end(start), 30, 0);
    let free =
        rate(before.start.max(all.start), before.end.max(all.start + 1).min(start.max(all.start + 1)))?;
    let held = rate(start + (end - start) / 2, end)?;
    // A step is another story: see `limit_from_standing`.
    let stepped = levels.iter().skip(1).any(|l| {
        l.ramp.is_none() && (before.start..start + (end - start) / 2).contains(&run.samples(&l.points).start)
    });
    (held < 0.88 * free && !stepped).then_some(top)
}

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
}
