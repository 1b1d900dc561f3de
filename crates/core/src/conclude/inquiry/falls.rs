//! Which fall of a record is worth looking into, and what is known of it.

use std::ops::Range;
use std::time::Duration;

use super::RECURS_S;
use super::apply::SAME_FALL;
use super::effects::MOST_JUST;
use crate::conclude::Finding;
use crate::conclude::verdict::changes_the_rate;
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::readings::Readings;
use crate::record::{Fall, InquiryEnd, Turns};

/// What lasts shorter than this may have passed by itself, s; to wait for it costs nothing, since the leg goes on.
const KNOWN_S: f64 = 40.0;
/// A rate is taken over so long, s, to tell whether it is low now.
const NOW_S: f64 = 3.0;
/// A fall is worth looking into from this much on.
pub(super) const FALLS_BY: f64 = 1.17;
/// One that was looked into is not looked into again, unless the rate fell to less than this of it.
const LOWER: f64 = 0.7;
/// Rates are told apart in stretches of this length, s; what changes for less than two of them does not count.
const PART_S: f64 = 0.5;
/// Rates of a stretch and of a level whose logarithms differ by less are the same.
const ALIKE: f64 = 0.35;
/// Stretches that differ by more, as a share of their median, do not come and go by a rule.
const MOST_UNEVEN: f64 = 0.75;
/// What is put into a fast stretch begins when so much of its bytes is written, as a share of the usual.
const WELL_INTO: Range<f64> = 0.65..0.85;
/// Stretches that differ by more do not show what was put into one: nothing is tried that could not tell.
const EVEN: f64 = 0.5 * MOST_JUST;
/// So many of the newest fast stretches tell how a rate comes and goes.
const NEWEST: usize = 7;

impl Finding {
    /// The fall that it tells of, as an inquiry asks about it; `None` where it is of something else.
    fn as_fall(&self, sensor_step_k: f64, turns: Option<Turns>, fast_so_far: Option<Bytes>) -> Option<Fall> {
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
            fast_so_far,
            recovers: None,
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
    /// the rate is low or well into a fast stretch. Of one that the record is as sure of as `sure` nothing is asked.
    #[must_use]
    pub fn standing_fall(&self, leg: u16, sure: f64) -> Option<Fall> {
        let from = self.legs().iter().rev().find(|l| l.leg == leg)?.from;
        let series = self.series();
        let newest = self.run_samples()?;
        let findings = self.conclude_apart().findings;
        let begun = from.max(series.end(newest.start));
        let here = |f: &&Finding| f.can_be_asked() && f.elapsed >= begun;
        let stands = |f: &&Finding| here(f) && (f.end_elapsed.is_none() || f.came_and_went());
        let mut standing = findings.iter().rev().filter(stands).peekable();
        if standing.peek().is_none() {
            return self.fell_within_inquiry(leg);
        }
        for fall in standing {
            let (before, after) = fall.before.zip(fall.after)?;
            let turns = self.turns(before, after);
            let swings = turns.is_some();
            if let Some(due) = self.is_due(fall, turns, leg, sure, &newest) {
                return Some(due);
            }
            // A step at the bottom of a fall is another fall.
            if !swings {
                return None;
            }
        }
        // What swings there is newer than that, and says nothing of it.
        let was_asked =
            |f: &Finding| self.inquiries().iter().any(|i| i.fall.elapsed.abs_diff(f.elapsed) < SAME_FALL);
        let before_those = |f: &&Finding| {
            let stands = f.can_be_asked() && f.end_elapsed.is_none();
            stands && (from..begun).contains(&f.elapsed) && !was_asked(f)
        };
        let fall = findings.iter().rev().find(before_those)?;
        self.is_due(fall, None, leg, sure, &newest)
    }

    /// A fall that stands, or comes and goes, if now is the time to look into it. `newest` are the samples of the run under way.
    fn is_due(
        &self,
        fall: &Finding,
        turns: Option<(Turns, Option<Bytes>)>,
        leg: u16,
        sure: f64,
        newest: &Range<usize>,
    ) -> Option<Fall> {
        let series = self.series();
        let now = newest.end.checked_sub(1)?;
        let seconds = |at: Duration| series.end_s(now) - at.as_secs_f64();
        let (before, after) = fall.before.zip(fall.after)?;
        let (turns, fast_so_far) = turns.unzip();
        let fast_so_far = fast_so_far.flatten();
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
        // In the middle of a fast stretch there is one thing to try in each of two.
        let well_into = turns.zip(fast_so_far).is_some_and(|(t, so_far)| {
            t.uneven < EVEN && WELL_INTO.contains(&(so_far.as_f64() / t.fast_bytes.as_f64().max(1.0)))
        });
        let turned = || asked().filter(|i| i.fall.turns.is_some());
        let in_fast = turned().all(|i| i.fall.fast_so_far.is_some()) && turned().count() < 2;
        let now_is_the_time = if is_low { new } else { well_into && in_fast };
        (now_is_the_time && known && fall.confidence < sure).then_some(())?;
        fall.as_fall(series.temperature_step(), turns, fast_so_far.filter(|_| !is_low))
    }

    /// What fell in the middle of an inquiry into a fall before it, and has stayed down since: findings are made of the load as it is, and no
    /// such load has seen it fall.
    fn fell_within_inquiry(&self, leg: u16) -> Option<Fall> {
        let inquiry = self.inquiries().last().filter(|i| i.leg == leg)?;
        let before = match inquiry.ended?.1 {
            InquiryEnd::Stays => inquiry.fall.before,
            InquiryEnd::FellFurther => inquiry.fall.after,
            _ => return None,
        };
        let (series, run) = (self.series(), self.run_samples()?);
        let rate = |from: f64| {
            let from = series.index_at(Duration::from_secs_f64(from.max(0.0))).max(run.start);
            (from < run.end).then(|| series.mean_rate(from..run.end))
        };
        let (now, ended) = (series.end_s(run.end.checked_sub(1)?), inquiry.ended?.0.as_secs_f64());
        let (after, newest) = (rate(ended)?, rate(now - NOW_S)?);
        let is_low = before.get() > FALLS_BY * after && newest < (before.get() * after).sqrt();
        (is_low && now - ended >= KNOWN_S).then_some(())?;
        // It fell before the load as it is was seen low, for the last time or twice in a row.
        let waits = inquiry.ended?.1 == InquiryEnd::Stays;
        let mut as_it_is = inquiry.arms.iter().rev().filter(|a| a.arm.kind.goes_on_as_it_is());
        let low = as_it_is.nth(usize::from(!waits))?;
        let at = low.samples(series.len()).start.min(run.start);
        let degrees = (0..=at).rev().take(20).find_map(|i| series.degrees(i));
        Some(Fall {
            elapsed: low.from,
            written: Bytes::new(series.written_before(at)),
            position: series.position(at),
            before,
            after: Rate::new(after),
            temperature: degrees.map(Celsius::new),
            sensor_step_k: series.temperature_step(),
            recurs: false,
            turns: None,
            fast_so_far: None,
            recovers: None,
            may_be: Vec::new(),
        })
    }

    /// The fall that a finding of this record tells of, for whoever wants to have it looked into; `None` where it is of something else.
    #[must_use]
    pub fn fall_of(&self, finding: &Finding) -> Option<Fall> {
        let turns = finding.before.zip(finding.after).and_then(|(before, after)| self.turns(before, after));
        finding.as_fall(self.series().temperature_step(), turns.map(|t| t.0), None)
    }

    /// Samples of the run under way.
    fn run_samples(&self) -> Option<Range<usize>> {
        let run = self.runs.last().filter(|r| r.len() > 0)?;
        Some(run.samples(&(0..run.len())))
    }

    /// How the rate of the run under way comes and goes between two rates; `None` where it did not do so twice, or no longer does. With it the
    /// bytes so far of the fast stretch under way, if it is in one.
    fn turns(&self, before: Rate, after: Rate) -> Option<(Turns, Option<Bytes>)> {
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
        let so_far = all.last()?.0.then(|| Bytes::new(now.0 + other.0 + part.0));
        let turns = Turns {
            count,
            fast_bytes: Bytes::new(fast as u64),
            fast_s: median(of(true).map(|s| s.1).collect())?,
            slow_s,
            uneven,
        };
        Some((turns, so_far))
    }
}
