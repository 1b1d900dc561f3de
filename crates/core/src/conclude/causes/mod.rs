//! Why the rate changed: each boundary between levels is attributed, with evidence, or called unexplained.
//!
//! The order of the questions: was it heat (temperature at the limit, thermal counters, speed back as it cools)? Does
//! it stay down without a rest (then, in writes, the cache ended)? Did others use the drive while it lasted? Else the
//! record does not say.

use numbers::{
    AT_LIMIT, BEFORE_IT_SHOWS, BY_CHANCE, COOLED, HOT, HOTTEST_ELSEWHERE, MODEST, MOMENT, ONE_FALL, PEAK_S,
    READ_WITHIN, SAME_EPISODE, STAGES_APART, STILL_WARMS, WELL_BELOW,
};
use std::ops::Range;
use std::time::Duration;

use crate::conclude::Finding;
use crate::drive::Vitals;
use crate::drive::{Link, LoadKind};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::Earlier;

mod confidence;
mod cycles;
mod earlier;
mod hidden;
#[cfg(test)]
mod near_tests;
mod numbers;
mod passing;
mod place_again;
mod standing;
mod words;

use super::levels::Level;
use super::place::{Place, locate};
use crate::readings::Series;
use crate::readings::run::Run;

/// What is known beside the series.
pub struct Context<'a> {
    /// All samples.
    pub series: &'a Series,
    /// The limit that the drive or its maker states.
    pub limit: Option<Celsius>,
    /// The temperatures are those of a sensor that measures nothing.
    pub dead_sensor: bool,
    /// Health readings, in order of time.
    pub vitals: &'a [(Duration, Vitals)],
    /// What earlier hauls of the drive found.
    pub earlier: &'a [Earlier],
    /// How the drive is connected.
    pub link: Option<&'a Link>,
    /// The temperature is read in steps of so many K.
    pub resolution: f64,
    /// Samples before which we ourselves let the queue run empty, in order.
    pub flushes: &'a [usize],
}

impl Context<'_> {
    /// Temperature in a sample, from a sensor that measures.
    fn degrees(&self, sample: usize) -> Option<f64> {
        self.series.degrees(sample).filter(|_| !self.dead_sensor)
    }

    /// Temperatures in these samples, as far as there are so many: a place that is reckoned may lie behind the last.
    fn read_in(&self, samples: Range<usize>) -> impl Iterator<Item = f64> + '_ {
        (samples.start..samples.end.min(self.series.len())).filter_map(|i| self.degrees(i))
    }

    fn hottest(&self, samples: Range<usize>) -> Option<f64> {
        self.read_in(samples).fold(None, |m: Option<f64>, t| Some(m.map_or(t, |m| m.max(t))))
    }

    fn coldest(&self, samples: Range<usize>) -> Option<f64> {
        self.read_in(samples).fold(None, |m: Option<f64>, t| Some(m.map_or(t, |m| m.min(t))))
    }

    /// Samples within so many seconds before and after a place.
    fn around(&self, at: Duration, before_s: u64, after_s: u64) -> Range<usize> {
        let from = self.series.index_at(at.saturating_sub(Duration::from_secs(before_s)));
        let to = self.series.index_at(at + Duration::from_secs(after_s)).max(from + 1);
        from.min(self.series.len())..to.min(self.series.len())
    }

    /// By how much the drive may have been nearer to its limit than its newest reading says, K: half a step of the sensor, or of
    /// the limit, which is stated in whole kelvin; and what it gained since, at the pace of the last ten seconds.
    fn unread(&self, at: Duration) -> f64 {
        let range = self.around(at, 10, 0);
        let seconds = self.series.loaded_s(range.clone()).max(1.0);
        let mut read = range.filter_map(|i| self.degrees(i));
        let first = read.next();
        let gained = first.zip(read.next_back()).map_or(0.0, |(a, b)| (b - a).max(0.0));
        let most = AT_LIMIT.max(0.5 * self.resolution + 0.7);
        (0.5 * self.resolution.max(1.0) + 1.2 * gained / seconds + 0.1).min(most)
    }

    /// The count of thermal transitions as the newest reading of this moment had it.
    fn counted_at(&self, at: Duration) -> Option<u64> {
        let newest = self.vitals.partition_point(|(t, _)| *t <= at).checked_sub(1)?;
        self.vitals[newest].1.thermal_transitions
    }

    /// Did they move while a rate gave way, or around a moment?
    fn counters_moved_in(&self, place: &Place) -> Option<bool> {
        if place.begins == place.elapsed {
            return self.counters_moved(place.elapsed);
        }
        self.counted_between(place.begins.saturating_sub(BEFORE_IT_SHOWS), place.elapsed)
    }

    /// The count after a moment: what was read soon after it, or else the next reading, however late.
    fn counted_after(&self, at: Duration) -> Option<u64> {
        // A reading taken in the same moment may stand on either side of it.
        let next = self.vitals.get(self.vitals.partition_point(|(t, _)| *t < at + MOMENT))?;
        if next.0 <= at + READ_WITHIN {
            self.counted_at(at + READ_WITHIN)
        } else {
            next.1.thermal_transitions
        }
    }

    /// Did they move from one moment to another?
    fn counted_between(&self, from: Duration, to: Duration) -> Option<bool> {
        Some(self.counted_after(to).or(self.counted_at(to))? > self.counted_at(from)?)
    }

    /// Did the drive's own thermal counters move around this time? `None` when it has none.
    fn counters_moved(&self, at: Duration) -> Option<bool> {
        Some(self.counted_after(at)? > self.counted_at(at.checked_sub(MOMENT)?)?)
    }
}

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
            let temperature = peak.map(|p| most.map_or(p, |m| p.min(m)));
            Step { place, left: &w[0], right: &w[1], index: i + 1, temperature, at_once }
        })
        .collect();
    // Where it fell each time, when that is below what is stated: another sensor than the one that is told is the hottest, or the one
    // that is told follows late.
    let learned = limit_from_cycles(&steps, cx);
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
    let judge = Judge { run, levels, cx, limit, lets_go };
    judge.findings(&steps)
}

/// With no limit stated: three drops at the same temperature with the speed back below it tell one; two do, when
/// they take the same share from the same rate and the speed was back cooler in between.
fn limit_from_cycles(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    limit_from_many(steps, cx).or_else(|| limit_from_twins(steps, cx))
}

fn limit_from_twins(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    if !falls_while_warming(steps, cx) {
        return None;
    }
    let drops: Vec<usize> = (0..steps.len()).filter(|i| steps[*i].is_drop()).collect();
    drops.windows(2).find_map(|pair| {
        let (a, b) = (&steps[pair[0]], &steps[pair[1]]);
        let (ta, tb) = (a.temperature?, b.temperature?);
        let back = &steps[pair[1].checked_sub(1).filter(|i| *i > pair[0])?];
        let same_rate = (b.before().get() / a.before().get().max(1.0)).ln().abs() < 0.08;
        let same_cut = (cut(a) - cut(b)).abs() < 0.1 && cut(a) < -0.2;
        let cooler = back.temperature.is_some_and(|t| t < ta.min(tb) - 1.5);
        (same_rate && same_cut && cooler && (ta - tb).abs() <= 1.2 && ta.min(tb) >= HOT).then_some(ta.max(tb))
    })
}

fn limit_from_many(steps: &[Step<'_>], cx: &Context<'_>) -> Option<f64> {
    let mut drops: Vec<f64> = steps.iter().filter(|s| s.is_drop()).filter_map(|s| s.temperature).collect();
    let coolest = |s: &Step<'_>| cx.coldest(cx.around(s.place.elapsed, 4, PEAK_S));
    let rises: Vec<f64> = steps.iter().filter(|s| !s.is_drop()).filter_map(coolest).collect();
    drops.sort_by(f64::total_cmp);
    let middle = *drops.get(drops.len() / 2)?;
    let close = 1.1 + 0.5 * cx.resolution.max(1.0);
    let alike = drops.iter().filter(|t| (*t - middle).abs() <= close).count();
    let lower = rises.iter().filter(|t| **t < middle - 1.0).count();
    // What falls by the clock falls while the drive still warms up, too, and goes on at full speed when it is warmer.
    let first = steps.iter().filter(|s| s.is_drop()).find_map(|s| s.temperature);
    let at_once = first.is_some_and(|t| (t - middle).abs() <= close + 1.0);
    if !falls_while_warming(steps, cx) {
        return None;
    }
    // A limit is where it falls, not now and then: nearly all of the falls are there, and no drive throttles when it is cool.
    (alike >= 3 && at_once && 5 * alike >= 4 * drops.len() && lower >= 2 && middle >= HOT).then_some(middle)
}

/// Heat takes speed away as the drive comes to its limit, still warming; what falls by the clock has long been as warm as it gets, as a
/// rule. Of the phases at full speed, the second half warms by a good part of the whole.
fn falls_while_warming(steps: &[Step<'_>], cx: &Context<'_>) -> bool {
    let mut shares: Vec<f64> = steps
        .windows(2)
        .filter(|w| !w[0].is_drop() && w[1].is_drop())
        .filter_map(|w| {
            let (from, to) = (w[0].place.elapsed, w[1].place.begins);
            let low = cx.coldest(cx.around(from, 4, PEAK_S))?;
            let top = w[1].temperature?;
            let middle = cx.hottest(cx.around(from + (to.saturating_sub(from)) / 2, 1, 1))?;
            (top - low > 0.9).then(|| (top - middle) / (top - low))
        })
        .collect();
    crate::quantity::stats::median(&mut shares).is_none_or(|m| m >= STILL_WARMS)
}

fn cut(step: &Step<'_>) -> f64 {
    (step.after().get().max(1.0) / step.before().get().max(1.0)).ln()
}

/// The same fall from the same rate.
fn alike(a: &Step<'_>, b: &Step<'_>) -> bool {
    let same_rate = (b.before().get() / a.before().get().max(1.0)).ln().abs() < 0.1;
    same_rate && (cut(a) - cut(b)).abs() < 0.12
}

/// A controller takes about the same share each time: a drop of another size, once the usual one is known, is not its.
fn fits_cut(step: &Step<'_>, usual: Option<f64>) -> bool {
    usual.is_none_or(|u| (cut(step) - u).abs() < 0.35)
}

struct Judge<'a> {
    run: &'a Run,
    levels: &'a [Level],
    cx: &'a Context<'a>,
    limit: Option<f64>,
    /// The lowest temperature at which the speed came back as it cooled.
    lets_go: Option<f64>,
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
                    None if self.begins_slow(steps, i) => found.push(self.rise(step)),
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
            let one_of_many = self.is_one_of_many(steps, i);
            if self.stays_down(step, base) && write && !self.is_traffic(step) && !one_of_many {
                found.push(match self.may_be_heat(step) {
                    Some(doubt) => self.undecided(step, doubt),
                    None => self.cache_end(step),
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
                    && back.is_some_and(|b| self.is_chance(step, &steps[b]));
                found.extend((!chance).then_some(other));
            }
        }
        if let Some(e) = episode {
            found.push(self.throttle(steps, &e));
        }
        self.beside_the_falls(steps, found, &pinned, usual)
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
                f.kind == FindingKind::Throttle
                    && f.elapsed <= p.to
                    && f.end_elapsed.is_none_or(|e| e >= p.from)
            });
            if !told && self.cx.counted_between(p.from.saturating_sub(BEFORE_IT_SHOWS), p.to) != Some(false) {
                found.push(self.held_finding(p));
            }
        }
        found.extend(self.quick_sawtooth(&found));
        found.extend(self.cycles_in_long_samples(&found));
        let hidden = self.hidden_ends(steps, &found, pinned, usual);
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

    /// With no limit stated: it fell when the drive was hotter than ever in this run and still warming, nobody else used
    /// it, and all of the speed was back once it had cooled; and later it was not as hot again at full speed.
    fn is_heat_once(&self, steps: &[Step<'_>], drop: usize, back: usize) -> bool {
        let (step, back) = (&steps[drop], &steps[back]);
        let series = self.cx.series;
        let (Some(t), None) = (step.temperature, self.limit) else { return false };
        if self.traffic(step.index).is_some_and(|(ours, others)| others > 0.05 * ours) || t < HOT {
            return false;
        }
        let at = series.index_at(step.place.elapsed);
        let over = series.index_at(back.place.elapsed);
        let earlier = self.cx.hottest(self.run.first..at);
        let warming = self.cx.coldest(self.cx.around(step.place.elapsed, 25, 0)).is_some_and(|c| c < t - 0.9);
        // Not as good as warm for long, and then slower for another reason.
        let middle = self.run.first + (at - self.run.first) / 2;
        let (start, half) = (self.cx.degrees(self.run.first), self.cx.degrees(middle));
        let warming =
            warming && start.zip(half).is_some_and(|(s, h)| t - s > 0.9 && (t - h) / (t - s) >= STILL_WARMS);
        let cooled = self.cx.coldest(at..over + 1).is_some_and(|c| c < t - 2.9);
        let whole = (back.after().get() / step.before().get().max(1.0)).ln().abs() < 0.1;
        let next = steps[drop + 1..].iter().filter(|s| s.index > back.index).find(|s| s.is_drop());
        let until = next.map_or(self.run.past(), |s| series.index_at(s.place.elapsed));
        let later = self.cx.hottest(over..until.max(over));
        earlier.is_none_or(|e| e <= t + 0.1)
            && warming
            && cooled
            && whole
            && later.is_none_or(|l| l <= t + 1.1)
    }

    /// What heat takes each time, as ln(rate after / rate before): the median of the drops at the limit after which the
    /// speed came back. `None` when there were fewer than two.
    fn usual_cut(&self, steps: &[Step<'_>]) -> Option<f64> {
        let mut cuts: Vec<f64> = steps
            .windows(2)
            .filter(|w| w[0].is_drop() && !w[1].is_drop() && self.is_heat(&w[0], false))
            .map(|w| cut(&w[0]))
            .collect();
        let usual = crate::quantity::stats::median(&mut cuts)?;
        // Two that differ do not tell which of them is the usual one.
        let alike = cuts.iter().filter(|c| (*c - usual).abs() < 0.35).count();
        (alike >= 2 && alike * 2 > cuts.len()).then_some(usual)
    }

    /// Held down for a while already; a fall from the free rate, which begins that, is not meant.
    fn is_pinned(&self, pinned: &[Pinned], step: &Step<'_>) -> bool {
        let at = step.place.elapsed;
        pinned.iter().any(|p| {
            p.from + Duration::from_secs(4) < at
                && at <= p.to + Duration::from_secs(8)
                && step.before().get() < 0.92 * p.free.get()
        })
    }

    /// The temperature stands at the limit before and after: the rate is what heat lets through. If a cache ended there, the
    /// drive would take less power and cool.
    fn is_controlled(&self, step: &Step<'_>) -> bool {
        let Some(limit) = self.limit else { return false };
        // Cooling takes its time: a large step that stays is not a controller's.
        let small = step.after().get() > 0.8 * step.before().get();
        if !small && self.stays_down(step, step.before()) {
            return self.stands_at_limit(step, limit);
        }
        // A controller takes speed away in small steps; the cache ends of a drive that happens to be at its limit are large.
        if small && step.temperature.is_some_and(|t| t >= limit - AT_LIMIT) {
            return true;
        }
        let samples = self.samples_of(step.right);
        let until = self.cx.series.index_at(step.place.elapsed + Duration::from_secs(40)).min(samples.end);
        let after = samples.start..until.max(samples.start + 1);
        let before = self.cx.around(step.place.elapsed, 1, 0);
        let stands = |range| self.cx.coldest(range).is_some_and(|t| t >= limit - AT_LIMIT - 0.5);
        stands(before) && stands(after.clone()) && self.cx.series.loaded_s(after) > 3.0
    }

    /// Nothing was lost before this rise that could come back, and it was slow for long enough to be told from a start.
    fn begins_slow(&self, steps: &[Step<'_>], rise: usize) -> bool {
        let so_far = steps[rise].left.points.end;
        !steps[..rise].iter().any(Step::is_drop) && self.run.seconds(self.cx.series, &(0..so_far)) > 8.0
    }

    /// Warmer now than when heat last took speed away (or else than ten seconds ago), and at the limit.
    fn gets_hotter(&self, step: &Step<'_>, last: Option<&Step<'_>>) -> bool {
        let at = step.place.elapsed;
        let ago = || self.cx.hottest(self.cx.around(at.saturating_sub(Duration::from_secs(12)), 4, 0));
        let before = last.and_then(|s| s.at_once).or_else(ago);
        let now = self.cx.hottest(self.cx.around(at, 1, 1));
        before.zip(now).is_some_and(|(b, n)| n > b + 0.4)
            && step.temperature.zip(self.limit).is_some_and(|(t, l)| t >= l - 0.6)
    }

    /// Stretches in which a controller holds the temperature at the limit by taking speed away little by little: no step
    /// is there to be found, but the temperature stands at the limit and the rate below what it was before.
    fn pinned(&self) -> Vec<Pinned> {
        let (Some(limit), series) = (self.limit, self.cx.series) else { return Vec::new() };
        let all = self.run.samples(&(0..self.run.len()));
        let mut found = Vec::new();
        let mut i = all.start;
        while i < all.end {
            if self.cx.degrees(i).is_none_or(|t| t < limit - AT_LIMIT) {
                i += 1;
                continue;
            }
            let start = i;
            let mut last = i;
            while i < all.end && series.end_s(i) - series.end_s(last) < 5.0 {
                if self.cx.degrees(i).is_some_and(|t| t >= limit - AT_LIMIT) {
                    last = i;
                }
                i += 1;
            }
            found.extend(self.held_between(all.start, start, last + 1));
        }
        found
    }

    fn held_between(&self, first: usize, start: usize, end: usize) -> Option<Pinned> {
        let series = self.cx.series;
        let seconds = series.loaded_s(start..end);
        if seconds < 12.0 {
            return None;
        }
        let rate = |from: usize, to: usize| {
            let step = ((to - from) / 400).max(1);
            crate::quantity::stats::median(
                &mut (from..to).step_by(step).map(|i| series.rate(i)).collect::<Vec<_>>(),
            )
        };
        let at = series.end(start);
        let free_from = series.index_at(at.saturating_sub(Duration::from_secs(25))).max(first);
        let free_to = series.index_at(at.saturating_sub(Duration::from_secs(4))).clamp(free_from, start);
        let (free, held) = (rate(free_from, free_to)?, rate(start + (end - start) / 3, end)?);
        // A level that ended on the way is another story, and has a step of its own.
        let settled = start + (end - start) / 3;
        let stepped =
            self.levels.iter().skip(1).any(|l| (free_from..settled).contains(&self.samples_of(l).start));
        if held > 0.92 * free || stepped && seconds < 30.0 {
            return None;
        }
        let window = ((1.0 / (series.loaded_s(start..end) / (end - start) as f64)).ceil() as usize).max(3);
        let onset = (free_to..end.saturating_sub(window))
            .find(|i| rate(*i, i + window).is_some_and(|r| r < 0.92 * free))?;
        Some(Pinned {
            from: series.end(onset),
            to: series.end(end - 1),
            first: onset,
            last: end - 1,
            free: Rate::new(free),
            held: Rate::new(held),
        })
    }

    fn samples_of(&self, level: &Level) -> Range<usize> {
        self.run.samples(&level.points)
    }

    /// At the limit when it dropped, and not slow long after it had cooled. One that is like an earlier one may end with the
    /// record before it has cooled.
    fn is_heat(&self, step: &Step<'_>, again: bool) -> bool {
        let counters = self.cx.counters_moved_in(&step.place);
        if counters == Some(false) {
            // The drive counts when it throttles, and it did not: whatever the temperature, this was something else.
            return false;
        }
        let Some((limit, t)) = self.limit.zip(step.temperature) else {
            return counters == Some(true);
        };
        // Another sensor than the one that is told may be at its limit: the drive knows.
        if counters == Some(true) && t >= HOT {
            return true;
        }
        if t + self.cx.unread(step.place.elapsed) < limit {
            return false;
        }
        !self.slow_though_cool(step, limit, again)
    }

    /// The first of two stages of throttling: it fell while it was hotter than ever and warming, a little below where it falls again
    /// and again, and the level that it fell to is the one from which it does.
    fn is_stage(&self, steps: &[Step<'_>], drop: usize) -> bool {
        let step = &steps[drop];
        if !self.may_be_stage(step) {
            return false;
        }
        let later = steps[drop + 1..].iter().filter(|s| s.is_drop() && self.is_heat(s, true));
        let from_here = later.filter(|s| (s.before().get() / step.after().get().max(1.0)).ln().abs() < 0.1);
        from_here.take(2).count() == 2
    }

    /// Near enough to where heat takes speed away for a first stage of it.
    fn may_be_stage(&self, step: &Step<'_>) -> bool {
        let near = self.limit.zip(step.at_once).is_some_and(|(l, t)| t >= HOT && t >= l - STAGES_APART);
        near && self.reaches_the_limit(step)
    }

    /// It was hotter at this fall than ever before in the run, and warming.
    fn reaches_the_limit(&self, step: &Step<'_>) -> bool {
        step.at_once.is_some_and(|t| self.cx.at_its_hottest(self.run.first, step.place.begins, t))
    }

    /// Slow for longer than it takes to notice, though it had cooled to where heat lets go: below the temperature at
    /// which the speed came back elsewhere in the run, or well below the limit; or so much slower and cooling on its
    /// own that no controller holds it.
    fn slow_though_cool(&self, step: &Step<'_>, limit: f64, again: bool) -> bool {
        let low = self.samples_of(step.right);
        // Where it fell as it came to its limit for the first time, chance is small, and some let go late.
        let wide = if self.reaches_the_limit(step) { COOLED } else { WELL_BELOW };
        let lets_go = self.lets_go.map_or(limit - wide, |t| t - 1.0 - 0.5 * self.cx.resolution);
        let cooled = low.clone().find(|i| self.cx.degrees(*i).is_some_and(|t| t < lets_go));
        if cooled.is_some_and(|c| self.cx.series.loaded_s(c..low.end) > 8.0) {
            return true;
        }
        // The record ends, or the next step comes, before it has cooled so far: heat would hold it near the limit.
        let last = self.cx.coldest(low.end.saturating_sub(20).max(low.start)..low.end);
        let cooling = last.is_some_and(|t| t < limit - 3.0);
        !again
            && cooling
            && step.index + 1 == self.levels.len()
            && step.after().get() < 0.15 * step.before().get()
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
    }

    /// Stretches as long as this one are as slow now and then in this run: noise that remembers for seconds makes them.
    fn is_chance(&self, step: &Step<'_>, back: &Step<'_>) -> bool {
        let series = self.cx.series;
        let low = step.place.sample..back.place.sample.max(step.place.sample + 1);
        let all = self.run.samples(&(0..self.run.len()));
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
        let back = |i: usize| self.comes_back(steps, i).map(|b| lasts(i, steps[b].place.elapsed));
        let before: Vec<Option<Duration>> = (0..drop).filter(like).map(back).collect();
        let longest = before.iter().flatten().max().copied().unwrap_or_default();
        let came_back = before.iter().flatten().count();
        let end = self.cx.series.end(self.run.past().max(1) - 1);
        came_back >= 1 && 2 * came_back >= before.len() && lasts(drop, end) < 4 * longest
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
