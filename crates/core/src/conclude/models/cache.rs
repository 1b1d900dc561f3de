//! How the write cache is built, and how it comes back: levels with their sizes and speeds, what rest restores, what
//! shrinks as the drive fills.

use serde::{Deserialize, Serialize};

use crate::conclude::Conclusions;
use crate::conclude::Stint;
use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Rate, span_words};
use crate::readings::Readings;

use super::fit::{least_between, least_squares};
use super::{Refusal, Told};
use crate::quantity::Interval;

/// One level of the cache.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct CacheLevel {
    /// Bytes that it takes up, with 95 % interval.
    pub bytes: Interval,
    /// Rate while it does, MB/s.
    pub mb_s: f64,
}

/// What one write after a rest got from the cache.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Restored {
    /// Length of the rest, seconds.
    pub rest_s: f64,
    /// Bytes at the first level's speed after it.
    pub bytes: f64,
    /// It was not used up: there may have been more.
    pub at_least: bool,
}

/// How the cache comes back with rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Recovery {
    /// What was measured, shortest rest first.
    pub measured: Vec<Restored>,
    /// Bytes in the long run.
    pub whole_bytes: Interval,
    /// Share of the cache that rest restores in a second at first.
    pub bytes_per_s: f64,
    /// It comes back at an even pace until it is whole; otherwise ever slower, with this time constant in seconds.
    pub tau_s: Option<f64>,
    /// Rest for half, seconds.
    pub half_s: Interval,
    /// Rest for all (95 %, when it slows down), seconds.
    pub all_s: Interval,
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
        let stints: Vec<Stint> =
            readings.stints(conclusions).into_iter().filter(|s| s.kind == LoadKind::Write).collect();
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
        let whole = levels.first().map_or(0.0, |l| l.bytes.value);
        let recovery = recovery(&stints, whole);
        // A cache that was not given time to come back is small for that alone.
        let all_s = recovery.as_ref().map_or(3600.0, |r| r.all_s.high);
        let rested: Vec<Stint> =
            stints.iter().filter(|s| s.rested_s.is_none_or(|r| r >= all_s)).cloned().collect();
        Ok(Self {
            recovery: recovery.into(),
            shrinking: shrinking(&rested).into(),
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
        let gb = |b: f64| Bytes::new(b.max(0.0) as u64).to_string();
        let mut out: Vec<Result<String, String>> = self
            .levels
            .iter()
            .enumerate()
            .map(|(i, l)| {
                let name = if i == 0 { "Fast level" } else { "Next level" };
                Ok(format!(
                    "{name}: {} ({} to {}) at {}.",
                    gb(l.bytes.value),
                    gb(l.bytes.low),
                    gb(l.bytes.high),
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
                gb(s.empty_bytes.value),
                gb(s.static_bytes.value),
                gb(s.static_bytes.half())
            )),
            Told::CannotTell(r) => Err(r.words()),
        });
        out
    }
}

fn recovery(stints: &[Stint], whole: f64) -> Result<Recovery, Refusal> {
    let remedy = "haul breather: it writes past the cache end after ever longer rests";
    let refuse = |why: &str| {
        Err(Refusal::new(format!("Cannot tell how the cache comes back, because {why}."), remedy))
    };
    // Only what follows a cache that was used up tells what a rest gave back.
    let mut measured: Vec<Restored> = stints
        .windows(2)
        .filter(|w| !w[0].ends.is_empty() || w[0].fastest.get() < 0.7 * stints[0].fastest.get())
        .filter_map(|w| {
            let rest_s = w[1].rested_s?;
            // A write that is as slow as the cache-less drive from its start found nothing to use.
            let nothing = w[1].ends.is_empty() && w[1].fastest.get() < 0.6 * stints[0].fastest.get();
            let bytes = match w[1].ends.first() {
                Some(end) => end.written.saturating_sub(w[1].written_before).as_f64(),
                None if nothing => 0.0,
                None => w[1].written.as_f64(),
            };
            Some(Restored { rest_s, bytes, at_least: w[1].ends.is_empty() && !nothing })
        })
        .collect();
    measured.sort_by(|a, b| a.rest_s.total_cmp(&b.rest_s));
    let complete: Vec<&Restored> = measured.iter().filter(|m| !m.at_least).collect();
    if complete.len() < 2 {
        return refuse("fewer than two rests were followed by a write to the cache end");
    }
    let (shortest, longest) = (complete[0].rest_s, complete[complete.len() - 1].rest_s);
    if longest < 1.5 * shortest.max(1.0) {
        return refuse("the rests are of about one length");
    }
    // Two long rests after which the same comes back say that there is no more: the drive is fuller than it was at first.
    let whole = match complete.as_slice() {
        [.., a, b] if b.rest_s > 1.5 * a.rest_s && (a.bytes / b.bytes - 1.0).abs() < 0.1 => {
            a.bytes.max(b.bytes).min(whole)
        }
        _ => whole,
    };
    if complete.iter().all(|m| m.bytes >= 0.93 * whole) {
        // Even the shortest rest was enough: only a bound is known.
        let at_most = |share: f64| Interval { value: shortest * share, low: 0.0, high: shortest * share };
        return Ok(Recovery {
            whole_bytes: Interval::around(whole, 0.07 * whole),
            bytes_per_s: whole / shortest.max(1.0),
            tau_s: None,
            half_s: at_most(1.0),
            all_s: at_most(1.0),
            measured,
        });
    }
    if complete.iter().all(|m| m.bytes < 0.05 * whole) {
        return refuse(&format!("nothing came back within {}", span_words(longest)));
    }
    // What was there before the first write is the whole: a rest of any length brings back no more.
    let mut t: Vec<f64> = complete.iter().map(|m| m.rest_s).collect();
    let mut y: Vec<f64> = complete.iter().map(|m| m.bytes.min(whole)).collect();
    // The whole cache after a very long rest counts as a measurement: the one before the haul.
    let far = 50.0 * longest;
    t.push(far);
    y.push(whole);
    let bent = |tau: f64| -> f64 {
        t.iter().zip(&y).map(|(t, y)| (whole * (1.0 - (-t / tau).exp()) - y).powi(2)).sum()
    };
    let even =
        |full: f64| -> f64 { t.iter().zip(&y).map(|(t, y)| (whole * (t / full).min(1.0) - y).powi(2)).sum() };
    let bounds = ((shortest / 20.0).max(0.1).ln(), (longest * 20.0).ln());
    let tau = least_between(bounds.0, bounds.1, |l| bent(l.exp())).exp();
    let full = least_between(bounds.0, bounds.1, |l| even(l.exp())).exp();
    let is_even = even(full) < bent(tau);
    let (best, cost): (f64, &dyn Fn(f64) -> f64) = if is_even { (full, &even) } else { (tau, &bent) };
    // The time may be off by as much as raises the misfit to what one measurement is uncertain by.
    let known = (0.03 * whole).powi(2).max(cost(best) / (t.len() as f64 - 1.0));
    let reach = |factor: f64| {
        let mut at = best;
        while cost(at) < cost(best) + 4.0 * known && (at / best).ln().abs() < 3.0 {
            at *= factor;
        }
        at
    };
    let (low, high) = (reach(1.0 / 1.01), reach(1.01));
    if (high / low).ln() > 3.0 {
        return refuse("what came back after the rests does not follow one curve");
    }
    let time = |share: f64| {
        let of = |p: f64| if is_even { p * share } else { -p * (1.0 - share).ln() };
        Interval { value: of(best), low: of(low), high: of(high) }
    };
    Ok(Recovery {
        measured,
        whole_bytes: Interval::around(whole, known.sqrt()),
        bytes_per_s: whole / best,
        tau_s: (!is_even).then_some(best),
        half_s: time(0.5),
        all_s: time(if is_even { 1.0 } else { 0.95 }),
    })
}

fn shrinking(stints: &[Stint]) -> Result<Shrinking, Refusal> {
    let refuse = |why: &str| {
        Err(Refusal::new(
            format!("Cannot tell what of it shrinks with fill, because {why}."),
            "write to the cache end at three levels of fill, after rests that bring the cache back",
        ))
    };
    let seen: Vec<(f64, f64)> = stints
        .iter()
        .filter_map(|s| Some((s.fill?, s.ends.first()?.written.saturating_sub(s.written_before).as_f64())))
        .collect();
    let (low, high) = seen.iter().fold((1.0f64, 0.0f64), |(l, h), (f, _)| (l.min(*f), h.max(*f)));
    if seen.len() < 3 || high - low < 0.2 {
        return refuse("it did not end at three levels of fill that lie apart");
    }
    let fill: Vec<f64> = seen.iter().map(|s| s.0).collect();
    let bytes: Vec<f64> = seen.iter().map(|s| s.1).collect();
    let Some(fit) = least_squares(&[vec![1.0; fill.len()], fill], &bytes) else {
        return refuse("the levels of fill are alike");
    };
    let at = |weights: [f64; 2]| {
        let value = fit.values[0] * weights[0] + fit.values[1] * weights[1];
        Interval::around(value.max(0.0), fit.t95() * fit.variance(&weights).sqrt())
    };
    Ok(Shrinking { empty_bytes: at([1.0, 0.0]), static_bytes: at([1.0, 1.0]) })
}
