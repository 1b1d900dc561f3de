//! Whether a fall is heat: at the limit, not slow long after it had cooled, or held by a controller.

use std::time::Duration;

use crate::quantity::units::{Bytes, Rate};

use super::learned::{alike, cut};
use super::numbers::*;
use super::{Judge, Pinned, Step};

impl Judge<'_> {
    /// With no limit stated: it fell when the drive was hotter than ever in this run and still warming, nobody else used
    /// it, and all of the speed was back once it had cooled; and later it was not as hot again at full speed.
    pub(super) fn is_heat_once(&self, steps: &[Step<'_>], drop: usize, back: usize) -> bool {
        let (step, back) = (&steps[drop], &steps[back]);
        let series = self.cx.series;
        let (Some(t), None) = (step.temperature, self.limit) else { return false };
        let traffic = self.traffic(step.index).is_some_and(|(ours, others)| others > 0.05 * ours);
        if self.by_the_clock || traffic || t < HOT {
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
        let until = next.map_or(self.run.past(), |s| series.index_at(s.place.begins));
        // As warm again at full speed, heat would take it away again.
        let later = self.cx.hottest(over..until.saturating_sub(2).max(over));
        let again =
            next.and_then(|s| s.temperature).is_some_and(|n| (n - t).abs() < 1.1 + self.cx.resolution);
        let most = if again { t + 1.1 } else { t - 0.9 * self.cx.resolution.max(1.0) };
        // From cold it takes longer to get there than from where heat lets go.
        let first_s = (step.place.begins.as_secs_f64()) - self.cx.series.end_s(self.run.first);
        let sooner = |s: &Step<'_>| {
            first_s > FROM_COLD * s.place.begins.saturating_sub(back.place.elapsed).as_secs_f64()
        };
        // Heat takes it at one temperature; the same fall at others goes by something else.
        let elsewhere = |s: &Step<'_>| {
            let lower = CLEARLY_LOWER_STEPS * self.cx.resolution.max(1.0);
            let off = s.temperature.is_some_and(|n| n - t > 1.6 + self.cx.resolution || t - n > lower);
            off && s.is_drop() && s.index != step.index && alike(s, step)
        };
        earlier.is_none_or(|e| e <= t + 0.1)
            && warming
            && cooled
            && whole
            && later.is_none_or(|l| l <= most)
            && next.is_none_or(sooner)
            && !steps.iter().any(elsewhere)
    }

    /// What heat takes each time, as ln(rate after / rate before): the median of the drops at the limit after which the
    /// speed came back. `None` when there were fewer than two.
    pub(super) fn usual_cut(&self, steps: &[Step<'_>]) -> Option<f64> {
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
    pub(super) fn is_pinned(&self, pinned: &[Pinned], step: &Step<'_>) -> bool {
        let at = step.place.elapsed;
        pinned.iter().any(|p| {
            p.from + Duration::from_secs(4) < at
                && at <= p.to + Duration::from_secs(8)
                && step.before().get() < 0.92 * p.free.get()
        })
    }

    /// The temperature stands at the limit before and after: the rate is what heat lets through. If a cache ended there, the
    /// drive would take less power and cool.
    pub(super) fn is_controlled(&self, step: &Step<'_>) -> bool {
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

    /// Warmer now than when heat last took speed away (or else than ten seconds ago), and at the limit.
    pub(super) fn gets_hotter(&self, step: &Step<'_>, last: Option<&Step<'_>>) -> bool {
        let at = step.place.elapsed;
        let ago = || self.cx.hottest(self.cx.around(at.saturating_sub(Duration::from_secs(12)), 4, 0));
        let before = last.and_then(|s| s.at_once).or_else(ago);
        let now = self.cx.hottest(self.cx.around(at, 1, 1));
        before.zip(now).is_some_and(|(b, n)| n > b + 0.4)
            && step.temperature.zip(self.limit).is_some_and(|(t, l)| t >= l - 0.6)
    }

    /// Stretches in which a controller holds the temperature at the limit by taking speed away little by little: no step
    /// is there to be found, but the temperature stands at the limit and the rate below what it was before.
    pub(super) fn pinned(&self) -> Vec<Pinned> {
        let (Some(limit), series) = (self.limit, self.cx.series) else { return Vec::new() };
        let all = self.run.samples(&(0..self.run.len()));
        let mut found = Vec::new();
        if self.cx.hottest(all.clone()).is_none_or(|t| t < limit - AT_LIMIT) {
            return found;
        }
        // One sample that says less is no end of it, however long.
        let gap_s = PINNED_GAP_S.max(1.5 * self.cx.sample_s(all.clone()));
        let mut i = all.start;
        while i < all.end {
            if self.cx.degrees(i).is_none_or(|t| t < limit - AT_LIMIT) {
                i += 1;
                continue;
            }
            let start = i;
            let mut last = i;
            while i < all.end && series.end_s(i) - series.end_s(last) < gap_s {
                if self.cx.degrees(i).is_some_and(|t| t >= limit - AT_LIMIT) {
                    last = i;
                }
                i += 1;
            }
            found.extend(self.held_between(all.start, start, last + 1));
        }
        found
    }

    pub(super) fn held_between(&self, first: usize, start: usize, end: usize) -> Option<Pinned> {
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
        let free_from = series.index_at(at.saturating_sub(FREE_BEFORE)).max(first);
        let free_to = series.index_at(at.saturating_sub(Duration::from_secs(4))).clamp(free_from, start);
        let (free, held) = (rate(free_from, free_to)?, rate(start + (end - start) / 3, end)?);
        // A level that ended on the way is another story, and has a step of its own.
        let settled = start + (end - start) / 3;
        let stepped =
            self.levels.iter().skip(1).any(|l| (free_from..settled).contains(&self.samples_of(l).start));
        if held > 0.92 * free || stepped && seconds < 30.0 {
            return None;
        }
        let window = ((1.0 / self.cx.sample_s(start..end)).ceil() as usize).max(3);
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

    /// When, on a slope, the rate is first lower than before by more than noise, and how much was written by then: a slope is placed by its
    /// middle and its length, and its foot is less certain than that.
    pub(super) fn gives_way(&self, step: &Step<'_>) -> (Duration, Bytes) {
        let series = self.cx.series;
        let from = series.index_at(step.place.begins);
        let middle = series.index_at(step.place.elapsed);
        let loaded = self.cx.sample_s(from..middle.max(from + 1));
        let window = ((FOOT_S / loaded.max(1e-6)).ceil() as usize).clamp(1, 200);
        // Of a mean over the window, with noise that remembers for some samples.
        let noise = step.left.sigma * (4.0 / window as f64).sqrt().min(1.0);
        let low = step.before().get() * (1.0 - (3.0 * noise).clamp(0.02, 0.1));
        let onset = (from..middle).find(|i| series.mean_rate(*i..(i + window).min(series.len())) < low);
        match onset.filter(|i| *i > from) {
            Some(i) => (series.end(i - 1), Bytes::new(series.written_before(i))),
            None => (step.place.begins, step.place.starts()),
        }
    }

    /// At the limit when it dropped, and not slow long after it had cooled. One that is like an earlier one may end with the
    /// record before it has cooled.
    pub(super) fn is_heat(&self, step: &Step<'_>, again: bool) -> bool {
        let counters = self.cx.counters_moved_in(&step.place);
        if counters == Some(false) {
            // The drive counts when it throttles, and it did not: whatever the temperature, this was something else.
            return false;
        }
        let Some((limit, t)) = self.limit.zip(step.temperature) else {
            return counters == Some(true);
        };
        // Another sensor than the one that is told may be at its limit: the drive knows.
        if counters == Some(true) && t >= COUNTED_FROM {
            return true;
        }
        if self.by_the_clock {
            return false;
        }
        // Where it fell before it falls again, within a step of the sensor.
        let step_of_sensor = if again { self.cx.resolution } else { 0.0 };
        if t + self.cx.unread(step.place.elapsed) + step_of_sensor < limit {
            return false;
        }
        !self.slow_though_cool(step, limit, again)
    }

    /// The first of two stages of throttling: it fell while it was hotter than ever and warming, a little below where it falls again
    /// and again, and the level that it fell to is the one from which it does.
    pub(super) fn is_stage(&self, steps: &[Step<'_>], drop: usize) -> bool {
        let step = &steps[drop];
        if !self.may_be_stage(step) {
            return false;
        }
        let later = steps[drop + 1..].iter().filter(|s| s.is_drop() && self.is_heat(s, true));
        let from_here = later.filter(|s| (s.before().get() / step.after().get().max(1.0)).ln().abs() < 0.1);
        from_here.take(2).count() == 2
    }

    /// Near enough to where heat takes speed away for a first stage of it.
    pub(super) fn may_be_stage(&self, step: &Step<'_>) -> bool {
        let near = self.limit.zip(step.at_once).is_some_and(|(l, t)| t >= HOT && t >= l - STAGES_APART);
        near && self.reaches_the_limit(step)
    }

    /// It was hotter at this fall than ever before in the run, and warming.
    pub(super) fn reaches_the_limit(&self, step: &Step<'_>) -> bool {
        step.at_once.is_some_and(|t| self.cx.at_its_hottest(self.run.first, step.place.begins, t))
    }

    /// Slow for longer than it takes to notice, though it had cooled to where heat lets go: below the temperature at
    /// which the speed came back elsewhere in the run, or well below the limit; or so much slower and cooling on its
    /// own that no controller holds it.
    pub(super) fn slow_though_cool(&self, step: &Step<'_>, limit: f64, again: bool) -> bool {
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
}
