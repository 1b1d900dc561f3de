//! Heat by what the temperature does after a drop: a controller holds it where it was; a drive whose cache ended takes less
//! power and cools.

use super::numbers::{
    AT_LIMIT, BALANCED_K, BALANCED_S, COOLED, COOLS_K, GIVEN_BACK, HEAT_BLIND, HEAT_ELSEWHERE, HEAT_HOT,
    HEAT_STANDS, HOT, HOTTEST_ELSEWHERE, JUST_BEFORE_S, LIMITS_FROM, LONG_SAMPLE_S, LOOK_S, OWED_K,
    PAST_PEAK_K, PLATEAU_S, RECKONED_K, SINKS_K, STAGES_APART, STANDS_AT_LIMIT_S, STANDS_S, STAYS_WARM,
    STOOD_K, STOPPED_K, STUCK_S, UNDECIDED, WARM, WARMED_K, WARMS_UP_S, WELL_BELOW, WORKS_HARD_MB_S,
};
use std::ops::Range;
use std::time::Duration;

use crate::conclude::{Candidate, Finding};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius};

use super::{Context, Judge, Level, Run, Step, cut};
use crate::quantity::stats;

/// Why the end of a cache cannot be told from heat.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Doubt {
    NoThermometer,
    NoLimit,
    /// No limit is known, but the temperature stands where it was.
    Stands,
    /// Below the limit that is stated, but near enough for a sensor that is not the hottest.
    Elsewhere,
}

impl Doubt {
    /// How often it is heat in such records.
    const fn share_of_heat(self) -> f64 {
        match self {
            Self::NoThermometer => HEAT_BLIND,
            Self::NoLimit => HEAT_HOT,
            Self::Stands => HEAT_STANDS,
            Self::Elsewhere => HEAT_ELSEWHERE,
        }
    }
}

impl Context<'_> {
    /// Was it warming before a moment, hotter then than ever before since `first`?
    pub(super) fn at_its_hottest(&self, first: usize, at: Duration, t: f64) -> bool {
        let before = self.series.index_at(at);
        let earlier = self.hottest(first..before.max(first));
        // A sensor in steps of 5 K shows as quick a warming five times as late.
        let ago = (60.0 * self.resolution.max(1.0)) as u64;
        let warming = self.coldest(self.around(at, ago, 0)).is_some_and(|c| c < t - 0.9);
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
        let at = step.temperature.into_iter().chain(step.on_its_way).any(|t| t >= limit - AT_LIMIT);
        at && self.cx.counters_moved_in(&step.place) != Some(false)
            && self.cx.stands(self.looked_at(step), limit, STANDS_AT_LIMIT_S)
    }

    /// Where the end of a cache and heat look the same, and why.
    pub(super) fn may_be_heat(&self, step: &Step<'_>) -> Option<Doubt> {
        let left = step.after().get() / step.before().get().max(1.0);
        if self.cx.counters_moved_in(&step.place) == Some(false) || self.ended_there_before(step) {
            return None;
        }
        if self.is_blind(step) {
            // A drive needs a while to get hot, and heat leaves a good part of the speed.
            let at = step.place.begins.as_secs_f64() - self.cx.series.end_s(self.run.first);
            return (at > WARMS_UP_S && (0.25..0.85).contains(&left)).then_some(Doubt::NoThermometer);
        }
        // Where the sensor goes on warming, what it read at the fall is what it was.
        let read = [step.temperature, step.at_once];
        read.into_iter().flatten().find_map(|t| self.may_be_heat_at(step, t, left))
    }

    /// The same, of a fall at this temperature that left such a share of the speed.
    fn may_be_heat_at(&self, step: &Step<'_>, t: f64, left: f64) -> Option<Doubt> {
        let stated = self.cx.limit.map(Celsius::degrees);
        let from = stated.map_or(LIMITS_FROM, |l| (l - HOTTEST_ELSEWHERE).max(WARM));
        // What is read and what is stated may both be off by half a kelvin.
        let rounded = |t: f64, l: f64| {
            let reach = t + self.cx.unread(step.place.elapsed);
            reach < l && reach + 0.5 >= l
        };
        let near = stated.is_none_or(|l| t < l - AT_LIMIT || rounded(t, l));
        if t < from
            || !near
            || stated.is_none() && self.limit.is_some_and(|l| t < l - STAGES_APART)
            || !(0.2..0.92).contains(&left)
        {
            return None;
        }
        let low = self.samples_of(step.right);
        // A fall that is placed a little late is past the peak.
        let hottest = self.cx.at_its_hottest(self.run.first, step.place.begins, t + PAST_PEAK_K);
        let hot = self.cx.coldest(low.clone()).is_some_and(|c| c > t - COOLED);
        if !hottest || !hot {
            return None;
        }
        let until = self.looked_at(step).end;
        if stated.is_some() {
            // What lets go at a few kelvin less than where it fell stays as warm; a drive that only does less cools.
            let stays = self.cx.coldest(low.clone()).is_some_and(|c| c > t - STAYS_WARM);
            // How likely heat is to meet its limit in a second goes with how quickly it warms.
            let balanced =
                self.hardly_warmed(step, t) && self.cx.coldest(low).is_some_and(|c| c < t - COOLS_K);
            return (stays && !balanced).then_some(Doubt::Elsewhere);
        }
        Some(if self.cx.stands(low.start..until, t, STANDS_S) { Doubt::Stands } else { Doubt::NoLimit })
    }

    /// The first later rise that gives back just what this fall took, once the drive was cooler: a cache may have ended in between.
    pub(super) fn gives_back(&self, steps: &[Step<'_>], drop: usize) -> Option<usize> {
        let step = &steps[drop];
        let then = step.at_once?;
        let cooler = |s: &Step<'_>| {
            let now = self.cx.coldest(self.cx.around(s.place.elapsed, 4, 1));
            now.is_some_and(|t| t < then - 0.5 - self.cx.resolution)
        };
        let rise = (drop + 1..steps.len()).find(|i| !steps[*i].is_drop())?;
        // Two stages of heat let go one after the other, or at once.
        let rises = steps[rise..].iter().take_while(|s| !s.is_drop());
        let mut back = 0.0;
        let given: Vec<f64> = rises
            .map(|s| {
                back += cut(s);
                back
            })
            .collect();
        let first = (0..=drop).rev().take_while(|i| steps[*i].is_drop()).last().unwrap_or(drop);
        let took = |from: usize, to: usize| steps[from..=to].iter().map(cut).sum::<f64>();
        let same = (first..=drop)
            .any(|a| (drop..rise).any(|b| given.iter().any(|g| (took(a, b) + g).abs() < GIVEN_BACK)));
        // What a later fall took, as of others' traffic or on a slow stretch, is that fall's to give back.
        let least = |gaps: &mut dyn Iterator<Item = f64>| gaps.fold(f64::INFINITY, f64::min);
        let off = |a: usize, b: usize| least(&mut given.iter().map(|g| (took(a, b) + g).abs()));
        let from = |a: usize| least(&mut (a.max(drop)..rise).map(|b| off(a, b)));
        let own = least(&mut (first..=drop).map(from));
        let later = least(&mut (drop + 1..rise).map(from));
        let same = same && own < later;
        (same && cut(step) < -GIVEN_BACK && back > 2.0 * GIVEN_BACK && cooler(&steps[rise])).then_some(rise)
    }

    /// Long after it had cooled the speed was not back, though the level to which it fell had ended by then: no heat that a rise would show.
    pub(super) fn cooled_later(&self, steps: &[Step<'_>], drop: usize, doubt: Doubt) -> bool {
        let step = &steps[drop];
        let width = if doubt == Doubt::Elsewhere { WELL_BELOW } else { COOLED };
        let width = width + if self.cx.late.is_some() { RECKONED_K } else { 0.0 };
        let series = self.cx.series;
        let after = self.samples_of(step.right).start..self.run.past();
        let cool =
            |i: &usize| self.cx.degrees(*i).zip(step.at_once).is_some_and(|(now, then)| now < then - width);
        let Some(cooled) = after.clone().find(cool) else { return false };
        // Once it fell further it cools for that, whatever held it before: where it stopped warming all at once, heat may have.
        let further = steps.get(drop + 1).filter(|s| s.is_drop() && s.place.sample <= cooled);
        if doubt == Doubt::NoLimit && further.is_some_and(|s| self.stopped_warming(step, s)) {
            return false;
        }
        // Rises on the way are heat's, or hide what it gives back.
        let rose = steps[drop..].iter().any(|s| !s.is_drop() && s.place.sample <= cooled);
        let tells = self.cx.sample_s(after.clone()) < LONG_SAMPLE_S && !rose && !self.is_blind(step);
        tells && series.loaded_s(cooled..after.end) > 8.0
    }

    /// It was near its balance when it fell.
    fn hardly_warmed(&self, step: &Step<'_>, t: f64) -> bool {
        let long =
            step.place.begins.as_secs_f64() - self.cx.series.end_s(self.run.first) >= BALANCED_S as f64;
        let ago = self.cx.coldest(self.cx.around(step.place.begins, BALANCED_S, 0));
        long && ago.is_some_and(|a| t - a <= BALANCED_K)
    }

    /// It warmed quickly until this fall, and cooled by next to nothing from there to the next.
    fn stopped_warming(&self, step: &Step<'_>, next: &Step<'_>) -> bool {
        let Some(then) = step.at_once else { return false };
        let between = self.samples_of(step.right).start..next.place.sample;
        let warmed = self.cx.coldest(self.cx.around(step.place.begins, JUST_BEFORE_S, 0));
        let stood = self.cx.coldest(between).is_some_and(|c| c > then - STOOD_K - self.cx.resolution);
        stood && warmed.is_some_and(|c| then - c > WARMED_K + self.cx.resolution)
    }

    /// It warmed quickly, and has stood since it fell: what slows a drive without holding it lets it cool, or warm on.
    pub(super) fn is_held_there(&self, step: &Step<'_>, doubt: Doubt) -> bool {
        let ago = self.cx.coldest(self.cx.around(step.place.begins, 30, 0));
        let stopped = |t: f64| ago.is_some_and(|a| t - a > STOPPED_K + self.cx.resolution);
        doubt == Doubt::Stands && step.at_once.is_some_and(stopped)
    }

    /// The record has no temperature that means anything: none, or one that does not move while the drive works hard and slows down.
    pub(super) fn is_blind(&self, step: &Step<'_>) -> bool {
        let all = self.run.samples(&(0..self.run.len()));
        let (Some(low), Some(high)) = (self.cx.coldest(all.clone()), self.cx.hottest(all.clone())) else {
            return true;
        };
        low >= high && self.cx.series.loaded_s(all) > STUCK_S && step.before().mb_s() > WORKS_HARD_MB_S
    }

    fn ended_there_before(&self, step: &Step<'_>) -> bool {
        let bytes = self.since_rest(&step.place).as_f64();
        let near = |b: Bytes| (b.as_f64() / bytes.max(1.0) - 1.0).abs() < 0.03;
        self.cx.earlier.iter().any(|e| e.kind == FindingKind::CacheEnd && near(e.bytes))
    }

    /// Heat or the cache: the record does not say which.
    pub(super) fn undecided(&self, step: &Step<'_>, doubt: Doubt) -> Finding {
        let mut f = self.finding(FindingKind::Unexplained, step);
        let t = Celsius::new(step.temperature.unwrap_or_default().round());
        f.evidence.push(format!("Fell from {} to {} and stayed down.", step.before(), step.after()));
        f.evidence.push(match doubt {
            Doubt::NoThermometer => {
                "The record has no temperature: the end of a cache and heat that stays look the same.".into()
            }
            Doubt::NoLimit => format!(
                "It was at {t} then, hotter than ever before in this run and still warming, and had not cooled by {COOLED:.0} K when that ended: heat and the end of a cache look the same."
            ),
            Doubt::Elsewhere => format!(
                "It was at {t} then, below its limit of {}, but hotter than ever before in this run and still warming, and has cooled by less than {STAYS_WARM:.0} K since: where the sensor that is told is not the hottest, heat and the end of a cache look the same.",
                self.cx.limit.unwrap_or_default()
            ),
            Doubt::Stands => format!(
                "It was at {t} then, hotter than ever before in this run and still warming, and has stood there since: as if something held it there, or by chance."
            ),
        });
        f.evidence.push(match doubt {
            Doubt::NoThermometer => "A thermometer would decide (--thermometer, temperature_c in a CSV file); so would the same write with a fan: a cache ends at the same bytes.".into(),
            Doubt::Elsewhere => "The drive's count of thermal transitions would decide, which this record lacks; so would the same write with a fan: a cache ends at the same bytes.".into(),
            _ => "The drive's limit would decide (throttle_c in a CSV file); so would ten more minutes, or the same write with a fan.".into(),
        });
        let heat = doubt.share_of_heat();
        f.may_be = vec![
            Candidate { kind: FindingKind::Throttle, share: heat },
            Candidate { kind: FindingKind::CacheEnd, share: 1.0 - heat },
        ];
        f.may_be.sort_by(|a, b| b.share.total_cmp(&a.share));
        f.confidence = UNDECIDED;
        f
    }
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
    // It stands while the rate is down, and not only before.
    let window = ((5.0 / (series.loaded_s(start..end) / (end - start) as f64)).ceil() as usize).max(3);
    let onset = (start..end.saturating_sub(window))
        .step_by(window.div_ceil(3))
        .find(|i| rate(*i, i + window).is_some_and(|r| r < 0.9 * free))?;
    if series.loaded_s(onset..end) < PLATEAU_S {
        return None;
    }
    // Through the whole of it, and not only until a heavy drive had begun to cool.
    let third = (end - onset) / 3;
    let mean = |part: Range<usize>| {
        let (n, sum) = cx.read_in(part).fold((0u32, 0.0), |a, t| (a.0 + 1, a.1 + t));
        (n > 0).then(|| sum / f64::from(n))
    };
    let sinks = mean(onset..onset + third)
        .zip(mean(end - third..end))
        .is_some_and(|(a, b)| a - b > SINKS_K + 0.5 * cx.resolution);
    if sinks {
        return None;
    }
    // What the drive would have cooled by, had nothing held it.
    let cold = cx.coldest(all.start..start.max(all.start + 1))?;
    let owed = (1.0 - held / free.max(1.0)) * (top - cold);
    (held < 0.88 * free && !stepped && owed > OWED_K + cx.resolution).then_some(top)
}
