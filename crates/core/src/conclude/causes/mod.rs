//! Why the rate changed: each boundary between levels is attributed, with evidence, or called unexplained.
//!
//! The order of the questions: was it heat (temperature at the limit, thermal counters, speed back as it cools)? Does
//! it stay down without a rest (then, in writes, the cache ended)? Did others use the drive while it lasted? Else the
//! record does not say.

use numbers::{
    ALIKE, AT_LIMIT, BEFORE_IT_SHOWS, BY_CHANCE, EVEN, FREE_BEFORE, HOTTEST_ELSEWHERE, LEAST_FALL,
    LEAST_LIKE, MODEST, MOMENT_UP_S, MOST_LOOKED_AT, ONE_FALL, PEAK_S, SAME_EPISODE, SMALL, STAYS,
    WELL_BELOW,
};
use std::ops::Range;
use std::time::Duration;

use crate::conclude::Finding;
use crate::drive::LoadKind;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};

mod confidence;
mod context;
mod cycles;
#[cfg(test)]
mod doubt_tests;
mod earlier;
#[cfg(test)]
mod eye_tests;
#[cfg(test)]
mod hard_tests;
mod heat;
mod hidden;
mod late;
mod learned;
#[cfg(test)]
mod near_tests;
mod numbers;
mod passing;
mod place_again;
mod standing;
mod words;

pub use context::Context;
pub use late::Late;
use learned::{alike, cut, fall_by_the_clock, fits_cut, limit_from_cycles};

use super::levels::Level;
use super::place::{Place, locate};
use crate::readings::run::Run;

/// A boundary between two levels, placed.
struct Step<'a> {
    place: Place,
    left: &'a Level,
    right: &'a Level,
    /// Index of `right`.
    index: usize,
    /// The highest at the fall, or soon after it: a sensor may follow late.
    temperature: Option<f64>,
    /// The highest at the fall itself.
    at_once: Option<f64>,
    /// The highest from where it begins to its middle, of what gives way slowly: it goes on warming.
    on_its_way: Option<f64>,
}

impl Step<'_> {
    fn is_drop(&self) -> bool {
        self.right.entry < self.left.exit
    }

    fn before(&self) -> Rate {
        self.left.exit_rate()
    }

    fn after(&self) -> Rate {
        self.right.entry_rate()
    }

    /// The rate at which half of what was lost is back.
    fn half_back(&self) -> f64 {
        self.after().get() + 0.5 * (self.before().get() - self.after().get())
    }
}

/// All findings of one run.
pub fn attribute(run: &Run, levels: &[Level], cx: &Context<'_>) -> Vec<Finding> {
    let steps: Vec<Step<'_>> = levels
        .windows(2)
        .enumerate()
        .map(|(i, w)| {
            let place = locate(run, cx.series, &w[0], &w[1]);
            let onset = cx.around(place.begins, 6, 2);
            // A sensor that follows late has its peak after the fall.
            let settled = cx.around(place.elapsed, 6, if w[1].entry < w[0].exit { PEAK_S } else { 2 });
            let at_once = cx.hottest(onset.clone());
            let peak = cx.hottest(onset.start..settled.end.max(onset.end));
            // A late sensor goes on by as much as it rose in such a time before, and no further.
            let before = cx.coldest(cx.around(place.begins, PEAK_S, 0));
            let most = at_once.zip(before).map(|(now, was)| now + (now - was).max(0.0));
            // One that is known to be late is taken as it would be.
            let peak = if cx.late.is_some() { at_once } else { peak };
            let temperature = peak.map(|p| most.map_or(p, |m| p.min(m)));
            let slowly = place.elapsed.saturating_sub(place.begins).as_secs() > PEAK_S;
            let on_its_way = slowly
                .then(|| cx.hottest(cx.series.index_at(place.begins)..cx.series.index_at(place.elapsed) + 1))
                .flatten();
            Step { place, left: &w[0], right: &w[1], index: i + 1, temperature, at_once, on_its_way }
        })
        .collect();
    let began = cx.series.end(run.first);
    let by_the_clock = fall_by_the_clock(&steps, cx, began);
    // Where it fell each time, when that is below what is stated: another sensor than the one that is told is the hottest, or the one
    // that is told follows late.
    let learned = if by_the_clock { None } else { limit_from_cycles(&steps, cx, began) };
    let stated = cx.limit.map(Celsius::degrees);
    let below = learned.filter(|l| stated.is_some_and(|s| (s - HOTTEST_ELSEWHERE..s).contains(l)));
    let limit = below.or(stated).or(learned).or_else(|| standing::limit_from_plateau(run, levels, cx));
    let near = |t: &f64| limit.is_some_and(|l| *t > l - WELL_BELOW - 5.0 && *t <= l + AT_LIMIT);
    let rise_at = |s: &Step<'_>| cx.coldest(cx.around(s.place.elapsed, 3, 1)).filter(|_| !s.is_drop());
    let lets_go = steps.iter().filter_map(rise_at).filter(near).reduce(f64::min);
    // What follows a fall at the limit again and again at one temperature is its end, however far below.
    let mut after_limit: Vec<f64> = steps
        .windows(2)
        .filter(|w| w[0].is_drop() && w[0].temperature.zip(limit).is_some_and(|(t, l)| t >= l - AT_LIMIT))
        .filter_map(|w| rise_at(&w[1]))
        .collect();
    after_limit.sort_by(f64::total_cmp);
    let wide =
        after_limit.first().zip(after_limit.last()).filter(|(a, b)| after_limit.len() >= 2 && *b - *a < 3.0);
    let lets_go = wide.map(|(a, _)| *a).filter(|a| limit.is_some_and(|l| *a > l - 20.0)).or(lets_go);
    let counted = steps.iter().any(|s| cx.counters_moved_in(&s.place) == Some(true));
    let by_the_clock = by_the_clock && !counted;
    let judge = Judge { run, levels, cx, limit, lets_go, by_the_clock };
    judge.findings(&steps)
}

struct Judge<'a> {
    run: &'a Run,
    levels: &'a [Level],
    cx: &'a Context<'a>,
    limit: Option<f64>,
    /// The lowest temperature at which the speed came back as it cooled.
    lets_go: Option<f64>,
    /// Its falls come by the clock, and no limit makes them.
    by_the_clock: bool,
}

/// A stretch in which the temperature is held at the limit.
struct Pinned {
    from: Duration,
    to: Duration,
    first: usize,
    last: usize,
    free: Rate,
    held: Rate,
}

impl Pinned {
    /// All of what is missing here was lost at one fall.
    fn is_taken_by(&self, fall: &Finding) -> bool {
        let alike = |a: Option<Rate>, b: Rate| a.is_some_and(|a| (a.get() / b.get()).ln().abs() < EVEN);
        alike(fall.before, self.free) && alike(fall.after, self.held)
    }
}

/// Throttling, from its first drop on.
struct Episode {
    first: usize,
    /// Its newest drop.
    last: usize,
    drops: usize,
    rises: usize,
    end: Option<Duration>,
    counters: bool,
}

impl Judge<'_> {
    fn findings(&self, steps: &[Step<'_>]) -> Vec<Finding> {
        let mut found = Vec::new();
        let pinned = self.pinned();
        let usual = self.usual_cut(steps);
        let mut episode: Option<Episode> = None;
        let mut explained_until = 0;
        for (i, step) in steps.iter().enumerate() {
            if !step.is_drop() {
                match &mut episode {
                    Some(e) => {
                        e.rises += 1;
                        e.end = Some(step.place.elapsed);
                    }
                    // Nothing was lost before that could come back.
                    None if self.begins_slow(steps, i)
                        && !self.undoes_a_rise(steps, i + 1)
                        && self.moves_more(step) =>
                    {
                        found.push(self.rise(step));
                    }
                    None => {}
                }
                continue;
            }
            if let Some(failing) = self.is_failing(step) {
                found.push(self.failing(step, failing));
                continue;
            }
            // Held down by heat already, it falls further for heat only if it is still getting hotter.
            let held = episode.as_ref().is_some_and(|e| e.end.is_none()) || self.is_pinned(&pinned, step);
            let hotter = || self.gets_hotter(step, episode.as_ref().map(|e| &steps[e.last]));
            let controlled = self.is_controlled(step);
            // What heat did before in this run, with the speed back in between, it does again.
            let again = episode.as_ref().is_some_and(|e| e.rises > 0 && alike(&steps[e.last], step));
            // At the limit for the first time, and still warming: whatever the share.
            let reached = || self.reaches_the_limit(step);
            if controlled
                || self.is_stage(steps, i)
                || self.is_heat(step, again)
                    && (again || !held || hotter())
                    && (fits_cut(step, usual) || reached())
            {
                let again = episode.as_ref().is_some_and(|e| {
                    e.end.is_none_or(|end| step.place.elapsed.saturating_sub(end) < SAME_EPISODE)
                });
                if !again && let Some(e) = episode.take() {
                    found.push(self.throttle(steps, &e));
                }
                let counters = self.cx.counters_moved_in(&step.place) == Some(true);
                let e = episode.get_or_insert(Episode {
                    first: i,
                    last: i,
                    drops: 0,
                    rises: 0,
                    end: None,
                    counters: false,
                });
                e.drops += 1;
                e.last = i;
                e.end = None;
                e.counters |= counters;
                continue;
            }
            // Noise cuts one fall in two.
            let same_fall = |e: &Episode| {
                e.end.is_none() && step.place.elapsed.saturating_sub(steps[e.last].place.elapsed) < ONE_FALL
            };
            if i < explained_until || episode.as_ref().is_some_and(same_fall) {
                continue;
            }
            let base = self.unthrottled(steps, i, episode.as_ref());
            let write = self.run.kind == LoadKind::Write;
            // Where the rate swings a boundary may lie beside its fall.
            if self.undoes_a_rise(steps, i) || cut(step) > -LEAST_FALL {
                continue;
            }
            let one_of_many = self.is_one_of_many(steps, i);
            if self.stays_down(step, base) && write && !self.is_traffic(step) && !one_of_many {
                if cut(step) > -SMALL && self.is_chance(step, None) || self.is_chance_before(step) {
                    continue;
                }
                let doubt = self.may_be_heat(step);
                let back = doubt.and_then(|_| self.gives_back(steps, i));
                found.push(match (doubt, back) {
                    (Some(_), Some(back)) => self.heat_given_back(step, &steps[back]),
                    (Some(doubt), None) if self.is_held_there(step, doubt) => self.heat_that_holds(step),
                    (Some(doubt), None) if !self.cooled_later(steps, i, doubt) => self.undecided(step, doubt),
                    _ => self.cache_end(step),
                });
                if let Some(e) = &mut episode {
                    e.end.get_or_insert(step.place.elapsed);
                }
            } else {
                let back = self.comes_back(steps, i);
                explained_until = back.map_or(i + 1, |b| b + 1);
                let once = back.filter(|b| self.is_heat_once(steps, i, *b));
                let other = match once {
                    Some(b) => self.heat_once(step, &steps[b]),
                    None => self.other(step, back.map(|b| &steps[b])),
                };
                let chance = other.kind == FindingKind::Unexplained
                    && back.is_some_and(|b| self.is_chance(step, Some(&steps[b])));
                found.extend((!chance).then_some(other));
            }
        }
        if let Some(e) = episode {
            found.push(self.throttle(steps, &e));
        }
        let mut found = self.beside_the_falls(steps, found, &pinned, usual);
        if let Some(late) = &self.cx.late {
            let reckoned = |f: &&mut Finding| f.temperature.is_some() && f.before.is_some();
            for f in found.iter_mut().filter(reckoned) {
                f.evidence.push(format!(
                    "The sensor follows about {:.0} s late; temperatures here are reckoned ahead of it.",
                    late.lag_s
                ));
            }
        }
        found
    }

    /// What the falls themselves do not say: speed held down, quick sawtooths, ends within heat, beats, limits of link and machine.
    fn beside_the_falls(
        &self,
        steps: &[Step<'_>],
        mut found: Vec<Finding>,
        pinned: &[Pinned],
        usual: Option<f64>,
    ) -> Vec<Finding> {
        for p in pinned {
            let told = found.iter().any(|f: &Finding| {
                (f.kind == FindingKind::Throttle || f.may_be.iter().any(|c| c.kind == FindingKind::Throttle))
                    && f.elapsed <= p.to
                    && f.end_elapsed.is_none_or(|e| e >= p.from)
            });
            // What one fall took at once nothing took little by little.
            let fell =
                |f: &Finding| f.elapsed + FREE_BEFORE >= p.from && f.elapsed <= p.to && p.is_taken_by(f);
            if self.cx.counted_between(p.from.saturating_sub(BEFORE_IT_SHOWS), p.to) == Some(false) {
                continue;
            }
            if !told && !found.iter().any(fell) {
                found.push(self.held_finding(p));
            }
        }
        if let Some(cycles) = self.quick_sawtooth(&found) {
            // What fell and came back among them is one of them.
            found.retain(|f| {
                f.kind != FindingKind::Unexplained
                    || f.elapsed < cycles.elapsed
                    || cycles.end_elapsed.is_some_and(|end| f.elapsed > end)
            });
            found.push(cycles);
        }
        let in_long_samples = self.cycles_in_long_samples(&found);
        // Levels of samples that hold whole cycles say nothing of what heat hides.
        let told_apart = in_long_samples.is_none();
        if let Some(cycles) = in_long_samples {
            // The first of them is no fall of its own, nor is one in their midst.
            let last = self.cx.series.index_at(cycles.elapsed) + 2;
            let first_over = self.cx.series.end(last.min(self.cx.series.len() - 1));
            found.retain(|f| {
                !matches!(f.kind, FindingKind::CacheEnd | FindingKind::Unexplained)
                    || f.elapsed > first_over && cycles.end_elapsed.is_some_and(|end| f.elapsed >= end)
            });
            found.push(cycles);
        }
        let hidden = if told_apart { self.hidden_ends(steps, &found, pinned, usual) } else { Vec::new() };
        // What was without an explanation has one.
        let explains =
            |f: &Finding| f.kind == FindingKind::Unexplained && hidden.iter().any(|h| h.elapsed == f.elapsed);
        found.retain(|f| !explains(f));
        found.extend(hidden);
        found.extend(self.background(&found));
        found.extend(self.link_limit(self.cx.link));
        found.extend(self.busy_host());
        found
    }

    /// Nothing was lost before this rise that could come back, and it was slow for long enough to be told from a start.
    fn begins_slow(&self, steps: &[Step<'_>], rise: usize) -> bool {
        let so_far = steps[rise].left.points.end;
        !steps[..rise].iter().any(Step::is_drop) && self.run.seconds(self.cx.series, &(0..so_far)) > 8.0
    }

    fn samples_of(&self, level: &Level) -> Range<usize> {
        self.run.samples(&level.points)
    }

    /// The rate from which a drop is to be judged: while heat holds the drive down, the one before heat did.
    fn unthrottled(&self, steps: &[Step<'_>], drop: usize, episode: Option<&Episode>) -> Rate {
        let before = steps[drop].before();
        let Some(e) = episode.filter(|e| e.end.is_none()) else { return before };
        let last_heat = (e.first..drop).rev().find(|i| steps[*i].is_drop());
        last_heat.map_or(before, |i| steps[i].before())
    }

    /// Nothing later in the run comes back to more than half of what was lost. Levels that lasted less than two
    /// seconds do not count.
    fn stays_down(&self, step: &Step<'_>, base: Rate) -> bool {
        let half = step.half_back().max(step.after().get() + 0.5 * (base.get() - step.after().get()));
        self.levels[step.index..]
            .iter()
            .filter(|l| self.run.seconds(self.cx.series, &l.points) >= 2.0)
            .all(|l| l.rate().get().max(l.entry_rate().get()) <= half)
            && self.fast_share(step.place.sample + 1..self.run.past(), half) < STAYS
    }

    /// The share of the time in these samples in which the rate is above this one. Swings that are too quick for levels are no level.
    pub(super) fn fast_share(&self, samples: Range<usize>, rate: f64) -> f64 {
        let series = self.cx.series;
        let stride = (samples.len() / MOST_LOOKED_AT).max(1);
        let some: Vec<usize> = samples.clone().step_by(stride).collect();
        let fast = some.iter().filter(|i| series.rate(**i) > rate).count();
        fast as f64 / some.len().max(1) as f64
    }

    /// What was before a fall was short, and no faster than stretches of its length are now and then in this run.
    fn is_chance_before(&self, step: &Step<'_>) -> bool {
        let series = self.cx.series;
        let high = self.samples_of(step.left);
        let after = step.place.sample + 1..self.samples_of(step.right).end;
        if cut(step) < -MODEST || high.start > self.run.first || high.len() * 10 > after.len() {
            return false;
        }
        let log_mean = |r: Range<usize>| series.mean_rate(r).max(1.0).ln();
        let starts = (after.start..after.end - high.len()).step_by(high.len());
        let mut means: Vec<f64> = starts.map(|a| log_mean(a..a + high.len())).collect();
        let spread = crate::quantity::stats::median_and_spread(&mut means);
        spread.is_some_and(|(middle, spread)| log_mean(high.clone()) - middle < BY_CHANCE * spread)
    }

    /// Stretches as long as this one are as slow now and then in this run: noise that remembers for seconds makes them.
    fn is_chance(&self, step: &Step<'_>, back: Option<&Step<'_>>) -> bool {
        let series = self.cx.series;
        let all = self.run.samples(&(0..self.run.len()));
        let until = back.map_or(all.end, |b| b.place.sample);
        let low = step.place.sample..until.max(step.place.sample + 1);
        let log_mean = |r: Range<usize>| series.mean_rate(r).max(1.0).ln();
        let here = log_mean(low.clone());
        if step.before().get().ln() - here > MODEST {
            return false;
        }
        let starts = (all.start..all.end.saturating_sub(low.len())).step_by(low.len());
        let apart = starts.map(|a| a..a + low.len()).filter(|r| r.end <= low.start || r.start >= low.end);
        let near = |m: &f64| (m - step.before().get().ln()).abs() < MODEST;
        let mut means: Vec<f64> = apart.map(log_mean).filter(near).collect();
        means.len() >= 10
            && crate::quantity::stats::median_and_spread(&mut means)
                .is_some_and(|(middle, spread)| middle - here < BY_CHANCE * spread)
    }

    /// The same fall came back before in this run, as often as not, and this one has not lasted much longer than those did: that it
    /// stays down says no more than that the record ends.
    fn is_one_of_many(&self, steps: &[Step<'_>], drop: usize) -> bool {
        let step = &steps[drop];
        let lasts = |i: usize, until: Duration| until.saturating_sub(steps[i].place.elapsed);
        let like = |i: &usize| steps[*i].is_drop() && alike(&steps[*i], step);
        // What falls from the same rate once more has come back in between, however shortly.
        let apart = |i: &usize| self.comes_back(steps, drop.min(*i)).is_some_and(|b| b < drop.max(*i));
        let others = (0..steps.len()).filter(|i| *i != drop && like(i) && apart(i)).count();
        if others >= LEAST_LIKE && self.comes_back(steps, drop).is_some() {
            return true;
        }
        let back = |i: usize| self.comes_back(steps, i).map(|b| lasts(i, steps[b].place.elapsed));
        let before: Vec<Option<Duration>> = (0..drop).filter(like).map(back).collect();
        let longest = before.iter().flatten().max().copied().unwrap_or_default();
        let came_back = before.iter().flatten().count();
        let end = self.cx.series.end(self.run.past().max(1) - 1);
        came_back >= 1 && 2 * came_back >= before.len() && lasts(drop, end) < 4 * longest
    }

    /// It had come up from just this rate a moment before, without a rest: that goes down again, and is no end of a cache, which only a rest
    /// fills.
    fn undoes_a_rise(&self, steps: &[Step<'_>], drop: usize) -> bool {
        let rise = drop.checked_sub(1).map(|i| &steps[i]).filter(|s| !s.is_drop());
        let Some(rise) = rise.filter(|_| steps.get(drop).is_some_and(Step::is_drop)) else { return false };
        let short = self.run.seconds(self.cx.series, &steps[drop].left.points) < MOMENT_UP_S;
        short && (cut(rise) + cut(&steps[drop])).abs() < ALIKE && self.run.kind == LoadKind::Write
    }

    /// The first later step after which more than half of what was lost is back.
    fn comes_back(&self, steps: &[Step<'_>], drop: usize) -> Option<usize> {
        let half = steps[drop].half_back();
        (drop + 1..steps.len()).find(|i| steps[*i].right.entry_rate().get() > half)
    }

    fn since_rest(&self, place: &Place) -> Bytes {
        self.since_rest_at(place.written)
    }

    fn since_rest_at(&self, written: Bytes) -> Bytes {
        let start = self.cx.series.written_before(self.run.first);
        Bytes::new(written.get().saturating_sub(start) + self.run.written_since_rest)
    }

    /// Our bytes and those of others during a level; `None` when nobody counted.
    fn traffic(&self, level: usize) -> Option<(f64, f64)> {
        let samples = self.samples_of(self.levels.get(level)?);
        let others =
            self.cx.series.other_before(samples.end)? - self.cx.series.other_before(samples.start)?;
        let ours = self.cx.series.moved_before(samples.end) - self.cx.series.moved_before(samples.start);
        Some((ours as f64, others as f64))
    }

    /// Others moved enough in the level after this drop to explain it.
    fn is_traffic(&self, step: &Step<'_>) -> bool {
        self.traffic(step.index).is_some_and(|(ours, others)| {
            let lost = (step.before().get() / step.after().get().max(1.0) - 1.0) * ours;
            others > 0.4 * lost
        })
    }
}

#[cfg(test)]
mod tests;
