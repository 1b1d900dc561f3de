//! Cache ends that heat hides: the cache may run out while the drive is held down anyway. What gives it away is that the
//! speed never comes back to what it was once heat lets go.

use super::numbers::{
    ALIKE, AT_LIMIT, BACK, HIDDEN_BY_HEAT, LET_GO, LONG_SAMPLE_S, PURE_SAMPLES, WELL_BELOW,
};
use crate::conclude::Finding;
use crate::drive::LoadKind;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};

use super::{Judge, Level, Pinned, Step, cut};

impl Judge<'_> {
    /// Cache ends between two levels at which heat did not hold the drive, where none was found yet.
    pub(super) fn hidden_ends(
        &self,
        steps: &[Step<'_>],
        found: &[Finding],
        pinned: &[Pinned],
        usual: Option<f64>,
    ) -> Vec<Finding> {
        if self.run.kind != LoadKind::Write || self.limit.is_none() {
            return Vec::new();
        }
        let free: Vec<usize> = (0..self.levels.len()).filter(|i| self.is_free(*i, steps, pinned)).collect();
        let mut ends = Vec::new();
        for pair in free.windows(2) {
            let (a, b) = (pair[0], pair[1]);
            let (before, after) = (self.levels[a].exit_rate().get(), self.levels[b].entry_rate().get());
            // `steps[i]` lies between levels i and i + 1.
            let between = &steps[a..b];
            // One fall alone hides nothing: it was heat, or it was none.
            if between.len() < 2 || !self.is_pure(b) {
                continue;
            }
            let (Some(first), Some(last)) = (between.first(), between.last()) else { continue };
            // What swings is fast again later, at an end of a level.
            let fastest = |l: &Level| l.rate().get().max(l.entry_rate().get()).max(l.exit_rate().get());
            let stays = |i: &usize| {
                let level = &self.levels[*i];
                let most = if *i == b { level.rate().get() } else { fastest(level) };
                most <= 0.5 * (before + after)
            };
            // What was as slow before the heat swings, too: a cache only ends.
            let slowest = |l: &Level| l.rate().get().min(l.entry_rate().get()).min(l.exit_rate().get());
            let was_faster = |i: &usize| {
                let level = &self.levels[*i];
                let least = if *i == a { level.rate().get() } else { slowest(level) };
                least > 0.5 * (before + after)
            };
            let inside = |f: &&Finding| f.elapsed >= first.place.elapsed && f.elapsed <= last.place.elapsed;
            let heat = found.iter().any(|f| {
                f.kind == FindingKind::Throttle
                    && f.elapsed <= last.place.elapsed
                    && f.end_elapsed.is_none_or(|e| e >= first.place.elapsed)
            });
            let told = found.iter().filter(inside).any(|f| f.kind == FindingKind::CacheEnd);
            // A level to which heat itself took it down before, at the limit, is a stage of throttling.
            let stage = |s: &Step<'_>| {
                s.is_drop()
                    && (self.is_heat(s, false) || self.may_be_stage(s))
                    && (s.after().get() / after.max(1.0)).ln().abs() < 0.1
                    && (s.before().get() / before.max(1.0)).ln().abs() < 0.1
            };
            let staged = steps[..b].iter().any(stage);
            if after < BACK * before
                && heat
                && !staged
                && !told
                && free.iter().filter(|i| **i >= b).all(stays)
                && free.iter().filter(|i| **i <= a).all(was_faster)
            {
                ends.push(self.hidden_end(between, usual, Rate::new(before), Rate::new(after)));
            }
        }
        ends
    }

    /// Samples as long as cycles of heat mix what is free and what is held: few of them are no level.
    fn is_pure(&self, level: usize) -> bool {
        let samples = self.samples_of(&self.levels[level]);
        self.cx.sample_s(samples.clone()) < LONG_SAMPLE_S || samples.len() >= PURE_SAMPLES
    }

    /// Heat does not hold the drive: it never has, or it let go, or it is well below the limit and stays so.
    fn is_free(&self, level: usize, steps: &[Step<'_>], pinned: &[Pinned]) -> bool {
        let Some(limit) = self.limit else { return true };
        let samples = self.samples_of(&self.levels[level]);
        let seconds = self.cx.series.loaded_s(samples.clone());
        let Some(begin) = level.checked_sub(1).map(|i| &steps[i]) else { return true };
        if !begin.is_drop() {
            // A controller lets the temperature swing by a kelvin or two around its limit: that is not letting go.
            let cooled = self.cx.coldest(samples);
            return seconds > 3.0 && cooled.is_some_and(|t| t < limit - LET_GO);
        }
        // By the drive's own count it is heat, of a sensor that is not told: as long as it is as warm as then, that goes on.
        let counted = self.cx.counters_moved(begin.place.elapsed) == Some(true);
        let then = begin.temperature.filter(|t| counted && *t < limit - AT_LIMIT);
        if then.is_some_and(|t| self.cx.coldest(samples.clone()).is_some_and(|c| c > t - WELL_BELOW)) {
            return false;
        }
        // A controller that held the temperature at the limit would give speed back as soon as it leaves it.
        let enough = if self.is_pinned(pinned, begin) {
            limit - 2.5
        } else {
            self.lets_go.map_or(limit - WELL_BELOW - 2.0, |t| t - 1.5)
        };
        let low_phase = steps.get(level).is_some_and(|s| !s.is_drop());
        let cooled = samples.clone().find(|i| self.cx.degrees(*i).is_some_and(|t| t < enough));
        !low_phase && cooled.is_some_and(|c| self.cx.series.loaded_s(c..samples.end) > 8.0)
    }

    /// The step at which it most likely was: one that heat does not make, or makes smaller.
    fn hidden_end(&self, between: &[Step<'_>], usual: Option<f64>, before: Rate, after: Rate) -> Finding {
        let lost = (after.get() / before.get()).ln();
        let release = between.last().filter(|s| !s.is_drop());
        let held = usual.or_else(|| release.map(|s| -cut(s))).unwrap_or(0.0);
        // Alone, or together with heat's own cut.
        let off = |s: &Step<'_>| (cut(s) - lost).abs().min((cut(s) - lost - held).abs());
        let drops = between.iter().filter(|s| s.is_drop());
        let likeliest = drops.min_by(|a, b| off(a).total_cmp(&off(b)));
        // The release itself, when every drop was as large as heat's usually is.
        let ordinary =
            |s: &&Step<'_>| usual.is_some_and(|u| (cut(s) - u).abs() < ALIKE.min(0.5 * lost.abs()));
        let step = likeliest.filter(|s| !ordinary(s)).or(between.last()).unwrap_or(&between[0]);
        let mut f = self.finding(FindingKind::CacheEnd, step);
        (f.before, f.after) = (Some(before), Some(after));
        let last = between.last().map_or(step, |s| s);
        // It was somewhere from where heat began to where it let go: stages of heat are as large as the end of a cache.
        f.written_low = f.written_low.min(between.first().map_or(step, |s| s).place.low);
        f.written_high = f.written_high.max(last.place.high);
        f.evidence.push(format!(
            "While heat held the drive down the cache ended too: {} before it was hot, {after} once heat let go, after {} (± {}) written since the last rest.",
            before,
            self.since_rest(&step.place),
            crate::quantity::width::half(f.written_low, f.written_high),
        ));
        let low = self.cx.coldest(self.cx.around(last.place.elapsed, 2, 30));
        if let Some((t, limit)) = low.zip(self.limit) {
            f.evidence.push(format!(
                "The speed did not come back at {}, with a limit of {}; only rest brings a cache back.",
                Celsius::new(t.round()),
                Celsius::new(limit)
            ));
        }
        f.confidence = HIDDEN_BY_HEAT;
        f.written_high = f.written_high.max(f.written + Bytes::new(1));
        f
    }
}
