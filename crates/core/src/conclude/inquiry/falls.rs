//! Which fall of a record is worth looking into, and what is known of it.

use std::time::Duration;

use super::RECURS_S;
use crate::conclude::Finding;
use crate::conclude::verdict::changes_the_rate;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Rate};
use crate::readings::Readings;
use crate::record::{Fall, Turns};

/// What lasts shorter than this may have passed by itself, s; to wait for it costs nothing, since the leg goes on.
const KNOWN_S: f64 = 40.0;
/// A rate is taken over so long, s, to tell whether it is low now.
const NOW_S: f64 = 3.0;
/// A fall is worth looking into from this much on.
const FALLS_BY: f64 = 1.12;
/// One that was looked into is not looked into again, unless the rate fell to less than this of it.
const LOWER: f64 = 0.7;
/// Rates are told apart in stretches of this length, s; what changes for less than two of them does not count.
const PART_S: f64 = 0.5;
/// Rates of a stretch and of a level whose logarithms differ by less are the same.
const ALIKE: f64 = 0.35;
/// Stretches that differ by more, as a share of their median, do not come and go by a rule.
const MOST_UNEVEN: f64 = 0.75;
/// So many of the newest fast stretches tell how a rate comes and goes.
const NEWEST: usize = 7;

impl Finding {
    /// The fall that it tells of, as an inquiry asks about it; `None` where it is of something else.
    fn as_fall(&self, sensor_step_k: f64, turns: Option<Turns>) -> Option<Fall> {
        let (before, after) = self.before.zip(self.after)?;
        (changes_the_rate(self.kind) && before > after).then_some(())?;
        let may_be = if self.may_be.is_empty() {
            vec![(self.kind, self.confidence)]
        } else {
            self.may_be.iter().map(|c| (c.kind, c.share)).collect()
        };
        Some(Fall {
            elapsed: self.elapsed,
            written: self.written,
            position: self.position,
            before,
            after,
            temperature: self.temperature,
            sensor_step_k,
            recurs: turns.is_some(),
            turns,
            may_be,
        })
    }

    /// A fall whose cause experiments can tell.
    fn can_be_asked(&self) -> bool {
        let asks = matches!(
            self.kind,
            FindingKind::CacheEnd
                | FindingKind::Throttle
                | FindingKind::SlowZone
                | FindingKind::HostLimit
                | FindingKind::Background
                | FindingKind::Unexplained
        );
        asks && self.before.zip(self.after).is_some_and(|(b, a)| b.get() > FALLS_BY * a.get())
    }

    /// It came back by itself, and had lasted.
    fn came_and_went(&self) -> bool {
        self.end_elapsed.is_some_and(|e| e.saturating_sub(self.elapsed).as_secs_f64() >= RECURS_S)
    }
}

impl Readings {
    /// The fall in a leg whose cause is worth asking for: the newest that the rate has not come back from, or one that comes and goes, while
    /// the rate is low. Of one that the record is as sure of as `sure` nothing is asked.
    #[must_use]
    pub fn standing_fall(&self, leg: u16, sure: f64) -> Option<Fall> {
        let from = self.legs().iter().rev().find(|l| l.leg == leg)?.from;
        let series = self.series();
        let now = series.len().checked_sub(1)?;
        let newest = self.run_samples()?;
        let seconds = |at: Duration| series.end_s(now) - at.as_secs_f64();
        let findings = self.conclude_apart().findings;
        let here = |f: &&Finding| f.can_be_asked() && f.elapsed >= from.max(series.end(newest.start));
        let fall =
            findings.iter().rev().find(|f| here(f) && (f.end_elapsed.is_none() || f.came_and_went()))?;
        let (before, after) = fall.before.zip(fall.after)?;
        let turns = self.turns(before, after);
        if turns.is_none() && fall.end_elapsed.is_some() {
            return None;
        }
        let known = turns.is_some() || seconds(fall.elapsed) >= KNOWN_S;
        let window = turns.map_or(NOW_S, |t| (0.5 * t.slow_s).clamp(2.0 * PART_S, NOW_S));
        let recent = series.index_at(series.end(now).saturating_sub(Duration::from_secs_f64(window)));
        let rate = series.mean_rate(recent.max(newest.start)..now + 1);
        let is_low = rate < (before.get() * after.get()).sqrt();
        let asked = || self.inquiries().iter().filter(|i| i.leg == leg);
        let lowest = asked().map(|i| i.fall.after.get()).fold(f64::INFINITY, f64::min);
        // It was looked into as one that stays, and comes and goes, or the reverse.
        let known_now = asked().all(|i| i.fall.turns.is_some() != turns.is_some());
        let new = after.get() < LOWER * lowest || known_now;
        (is_low && known && new && fall.confidence < sure).then_some(())?;
        fall.as_fall(series.temperature_step(), turns)
    }

    /// The fall that a finding of this record tells of, for whoever wants to have it looked into; `None` where it is of something else.
    #[must_use]
    pub fn fall_of(&self, finding: &Finding) -> Option<Fall> {
        let turns = finding.before.zip(finding.after).and_then(|(before, after)| self.turns(before, after));
        finding.as_fall(self.series().temperature_step(), turns)
    }

    /// Samples of the run under way.
    fn run_samples(&self) -> Option<std::ops::Range<usize>> {
        let run = self.runs.last().filter(|r| r.len() > 0)?;
        Some(run.samples(&(0..run.len())))
    }

    /// How the rate of the run under way comes and goes between two rates; `None` where it did not do so twice, or no longer does.
    fn turns(&self, before: Rate, after: Rate) -> Option<Turns> {
        let half = (before.get() * after.get()).sqrt();
        let series = self.series();
        let sum = |a: (u64, f64), b: (u64, f64)| (a.0 + b.0, a.1 + b.1);
        let none = (0u64, 0.0f64);
        // Each fast or slow, with its bytes and seconds.
        let mut all: Vec<(bool, (u64, f64))> = Vec::new();
        let (mut part, mut other) = (none, none);
        for i in self.run_samples()? {
            let begin = i.checked_sub(1).map_or(0.0, |i| series.end_s(i));
            part = sum(part, (series.moved(i) - series.moved_before(i), series.end_s(i) - begin));
            if part.1 < PART_S {
                continue;
            }
            let fast = part.0 as f64 / part.1 > half;
            match all.last_mut() {
                Some(last) if last.0 == fast => {
                    last.1 = sum(last.1, sum(other, part));
                    other = none;
                }
                Some(_) if other.1 + part.1 < 2.0 * PART_S => other = sum(other, part),
                _ => {
                    all.push((fast, sum(other, part)));
                    other = none;
                }
            }
            part = none;
        }
        // The first has no beginning, and the last no end.
        let whole = all.get(1..all.len().checked_sub(1)?)?;
        // A machine that stood still for a moment is no slow stretch: each is as fast as before the fall, or as slow as after it.
        let alike = |s: &(bool, (u64, f64))| {
            let level = if s.0 { before } else { after };
            (s.1.0 as f64 / s.1.1.max(1e-9) / level.get().max(1.0)).ln().abs() < ALIKE
        };
        whole.iter().rev().take(2 * NEWEST).all(alike).then_some(())?;
        let of = |fast: bool| whole.iter().rev().filter(move |s| s.0 == fast).take(NEWEST).map(|s| s.1);
        let (_, now) = *all.last()?;
        let median = |mut values: Vec<f64>| {
            values.sort_by(f64::total_cmp);
            values.get(values.len() / 2).copied()
        };
        let bytes: Vec<f64> = of(true).map(|s| s.0 as f64).collect();
        let count = bytes.len() as u32;
        (count >= 2).then_some(())?;
        let fast = median(bytes.clone())?;
        let slow_s = median(of(false).map(|s| s.1).collect())?;
        // What lasts much longer than those before it is of its own.
        (all.last()?.0 || now.1 < 2.0 * slow_s + RECURS_S).then_some(())?;
        let uneven = bytes.iter().map(|b| (b / fast - 1.0).abs()).fold(0.0, f64::max);
        (uneven < MOST_UNEVEN).then_some(())?;
        Some(Turns {
            count,
            fast_bytes: Bytes::new(fast as u64),
            fast_s: median(of(true).map(|s| s.1).collect())?,
            slow_s,
            uneven,
        })
    }
}
