//! How the write cache is built, and how it comes back: levels with their sizes and speeds, what rest restores, what
//! shrinks as the drive fills.

use serde::{Deserialize, Serialize};

use crate::conclude::Conclusions;
use crate::conclude::Stint;
use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Rate, span_words};
use crate::readings::Readings;

use super::recovery::{
    FAMILIES_COVER, LIKE_FILL, NONE_OF_THEM, Recovery, Scatter, assumed_variance, recovery, until_end,
};
use super::{Refusal, Told};
use crate::quantity::{Interval, width};

/// One level of the cache.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CacheLevel {
    /// Bytes that it takes up, with 95 % interval.
    pub bytes: Interval,
    /// Rate while it does, MB/s.
    pub mb_s: f64,
}

/// How size depends on fill.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Shrinking {
    /// Bytes on an empty drive.
    pub empty_bytes: Interval,
    /// Bytes that are left on a full drive: the static part.
    pub static_bytes: Interval,
}

/// The cache as a record shows it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CacheModel {
    /// First level first.
    pub levels: Vec<CacheLevel>,
    /// Rate when all levels are used up, MB/s.
    pub after_mb_s: f64,
    /// The last level is that of a drive that writes everything again while it makes room: less than half of the one before,
    /// after at least one level between.
    pub folds: bool,
    /// How it comes back, when rests of different length were tried.
    pub recovery: Told<Recovery>,
    /// What shrinks with fill, when it was written at different levels of it.
    pub shrinking: Told<Shrinking>,
}

impl CacheModel {
    /// Of a record and what was concluded from it.
    ///
    /// # Errors
    /// When no cache end was found, with why that says little or much.
    pub fn of(readings: &Readings, conclusions: &Conclusions) -> Result<Self, Refusal> {
        let all = readings.stints(conclusions);
        // A drive may tidy up while it is read: such a time is no rest, and none can tell what it was worth.
        // And a load of another size or order is slower or faster for that.
        let leg = |i: usize| readings.leg_at(readings.series().end(all[i].samples.start));
        // What comes after an inquiry neither followed a rest nor went on as before.
        let written = |i: &usize| all[*i].kind == LoadKind::Write && !all[*i].after_inquiry;
        let ended = (0..all.len()).filter(written).find(|i| !all[*i].ends.is_empty()).and_then(leg);
        let alike = |i: &usize| written(i) && ended.is_none_or(|e| leg(*i).is_none_or(|l| l.same_load(e)));
        let only_rested = |i: usize| i > 0 && alike(&(i - 1));
        let writes = || (0..all.len()).filter(alike);
        let only_rested: Vec<bool> = writes().map(only_rested).collect();
        let stints: Vec<Stint> = writes().map(|i| all[i].clone()).collect();
        let Some(first) = stints.iter().find(|s| !s.ends.is_empty()) else {
            let written = stints.iter().map(|s| s.written).max().unwrap_or_default();
            let why = if written == Bytes::ZERO {
                "Cannot tell how the cache is built, because the record has no writes.".to_owned()
            } else {
                format!(
                    "Cannot tell how the cache is built, because it did not end within {written} written at a stretch."
                )
            };
            return Err(Refusal::new(why, "haul long-haul: it writes until the rate is steady"));
        };
        let mut levels = Vec::new();
        let mut before = first.written_before.as_f64();
        for end in &first.ends {
            let at = |b: Bytes| (b.as_f64() - before).max(0.0);
            levels.push(CacheLevel {
                bytes: Interval {
                    value: at(end.written),
                    low: at(end.written_low),
                    high: at(end.written_high),
                },
                mb_s: end.before.map_or(0.0, Rate::mb_s),
            });
            before = end.written.as_f64();
        }
        let after_mb_s = first.ends.last().and_then(|e| e.after).map_or(0.0, Rate::mb_s);
        let folds = levels.len() >= 2 && after_mb_s < 0.5 * levels.last().map_or(0.0, |l| l.mb_s);
        let whole = levels.first().map_or(Interval::around(0.0, 0.0), |l| l.bytes);
        let capacity = readings.head().map_or(0.0, |h| h.drive.capacity.as_f64());
        let recovery = recovery(&stints, &only_rested, whole, capacity);
        // A cache that was not given time to come back is small for that alone.
        let all_s = recovery.as_ref().map_or(3600.0, |r| r.all_s.high);
        let rested: Vec<Stint> =
            stints.iter().filter(|s| s.rested_s.is_none_or(|r| r >= all_s)).cloned().collect();
        let scatter = recovery.as_ref().ok().map(|r| r.scatter);
        Ok(Self {
            recovery: recovery.into(),
            shrinking: shrinking(&rested, scatter).into(),
            levels,
            after_mb_s,
            folds,
        })
    }

    /// The model in sentences, and what of it cannot be told.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        self.parts().into_iter().map(|p| p.unwrap_or_else(|e| e)).collect()
    }

    /// What is known of it, in sentences.
    #[must_use]
    pub fn known(&self) -> Vec<String> {
        self.parts().into_iter().flatten().collect()
    }

    /// Sentence by sentence; an error is what cannot be told.
    fn parts(&self) -> Vec<Result<String, String>> {
        let bytes = |b: f64| Bytes::new(b.max(0.0) as u64);
        let mut out: Vec<Result<String, String>> = self
            .levels
            .iter()
            .enumerate()
            .map(|(i, l)| {
                let name = if i == 0 { "Fast level" } else { "Next level" };
                Ok(format!(
                    "{name}: {} ({}) at {}.",
                    bytes(l.bytes.value),
                    width::bounds(bytes(l.bytes.low), bytes(l.bytes.high)),
                    Rate::from_mb_s(l.mb_s)
                ))
            })
            .collect();
        let how = match (self.levels.len(), self.folds) {
            (_, true) => ": it folds, writing everything again while it makes room",
            (1, _) => "; whether that is direct or folding, one record cannot tell",
            _ => "",
        };
        out.push(Ok(format!("After it {}{how}.", Rate::from_mb_s(self.after_mb_s))));
        out.push(match &self.recovery {
            Told::Known(r) if r.all_s.low == 0.0 => Ok(format!(
                "All of it comes back in {} of rest or less, by {} rests.",
                span_words(r.all_s.high),
                r.measured.len()
            )),
            Told::Known(r) => Ok(format!(
                "Half of it comes back in {} of rest ({} to {}), all in {} ({} to {}), by {} rests.",
                span_words(r.half_s.value),
                span_words(r.half_s.low),
                span_words(r.half_s.high),
                span_words(r.all_s.value),
                span_words(r.all_s.low),
                span_words(r.all_s.high),
                r.measured.len()
            )),
            Told::CannotTell(r) => Err(r.words()),
        });
        out.push(match &self.shrinking {
            Told::Known(s) => Ok(format!(
                "{} on an empty drive; {} (± {}) of it stay on a full one, the rest shrinks with fill.",
                bytes(s.empty_bytes.value),
                bytes(s.static_bytes.value),
                bytes(s.static_bytes.half())
            )),
            Told::CannotTell(r) => Err(r.words()),
        });
        out
    }
}

fn shrinking(stints: &[Stint], scatter: Option<Scatter>) -> Result<Shrinking, Refusal> {
    let refuse = |why: &str| {
        Err(Refusal::new(
            format!("Cannot tell what of it shrinks with fill, because {why}."),
            "write to the cache end at three levels of fill, after rests that bring the cache back",
        ))
    };
    // Fill, bytes, and their standard error.
    let seen: Vec<(f64, f64, f64)> = stints
        .iter()
        .filter_map(|s| s.fill.zip(until_end(s)))
        .map(|(fill, (bytes, error))| (fill, bytes, error))
        .collect();
    // Writes at nearly one level are repeats of it, and no levels of their own.
    let mut levels: Vec<f64> = seen.iter().map(|s| s.0).collect();
    levels.sort_by(f64::total_cmp);
    let (low, high) = (levels.first().copied().unwrap_or(0.0), levels.last().copied().unwrap_or(0.0));
    let apart = levels.windows(2).filter(|w| w[1] - w[0] > LIKE_FILL).count();
    if apart < 2 || high - low < 0.2 {
        return refuse("it did not end at three levels of fill that lie apart");
    }
    let largest = seen.iter().map(|s| s.1).fold(0.0, f64::max);
    if largest <= 0.0 {
        return refuse("it ended each time before anything was written");
    }
    let sum = |of: &dyn Fn(f64, f64) -> f64| {
        let weighed = |(x, y, error): &(f64, f64, f64)| of(*x, *y) / assumed_variance(*y, *error, largest);
        seen.iter().map(weighed).sum::<f64>()
    };
    let all = sum(&|_, _| 1.0);
    let (x, y) = (sum(&|x, _| x) / all, sum(&|_, y| y) / all);
    let square = sum(&|fill, _| (fill - x).powi(2));
    let slope = sum(&|fill, bytes| (fill - x) * (bytes - y)) / square;
    let line = |fill: f64| y + slope * (fill - x);
    let (free, left_over) = (seen.len() as f64 - 2.0, sum(&|x, y| (y - line(x)).powi(2)));
    if left_over > NONE_OF_THEM * free {
        return refuse("what it ended at does not go down evenly with fill");
    }
    // Three amounts may lie on a line by chance: all rests tell more of how much the drive scatters, unless it does more here.
    let scatter = scatter.filter(|s| left_over <= s.reach() * free);
    let scatter = scatter.unwrap_or_else(|| Scatter::of(left_over, free));
    let reach = FAMILIES_COVER * scatter.reach();
    let at = |fill: f64| {
        let half = (reach * (1.0 / all + (fill - x).powi(2) / square)).sqrt();
        Interval::around(line(fill), half).map(|b| b.max(0.0))
    };
    Ok(Shrinking { empty_bytes: at(0.0), static_bytes: at(1.0) })
}
