//! What is no step of the drive's own: regular dips, this machine's limits, and rises.

use super::numbers::{
    AT_CEILING, AT_LIMIT, DIP, GRAIN, HEAT_IN_DIPS, HOT, LATE_GRAIN, LATE_PERIODS, LEAST_DIPS, MOVES_AS_TOLD,
    MOVES_ON_K, REGULAR, REGULAR_DIPS, RISES, RISES_AS_IT_COOLED, SATURATED, UNDECIDED,
};
use std::time::Duration;

use crate::conclude::{Candidate, Finding};
use crate::drive::{Link, LoadKind};
use crate::quantity::FindingKind;
use crate::quantity::units::{Celsius, Rate, latency, span_words};

use super::place_again::visit_again;
use super::{Judge, Step};
use crate::quantity::stats;

/// A dip: samples, and seconds lost.
struct Dip {
    first: usize,
    last: usize,
    lost_s: f64,
}

impl Judge<'_> {
    /// Regular dips: the drive is busy with itself. At most one finding a run.
    pub(super) fn background(&self, found: &[Finding]) -> Option<Finding> {
        let series = self.cx.series;
        let hot = |i: usize| {
            let at = series.end(i);
            found.iter().any(|f| {
                matches!(f.kind, FindingKind::Throttle | FindingKind::OtherTraffic)
                    && f.elapsed <= at
                    && f.end_elapsed.is_none_or(|e| e >= at)
            })
        };
        let mut dips: Vec<Dip> = Vec::new();
        for level in self.levels {
            let rate = level.rate().get();
            for i in series.slower(self.samples_of(level), DIP * rate) {
                if hot(i) || self.is_our_doing(i) {
                    continue;
                }
                let share = series.rate(i) / rate.max(1.0);
                let lost_s = (1.0 - share) * series.loaded_s(i..i + 1);
                match dips.last_mut() {
                    Some(d) if i <= d.last + 2 => {
                        d.last = i;
                        d.lost_s += lost_s;
                    }
                    _ => dips.push(Dip { first: i, last: i, lost_s }),
                }
            }
        }
        dips.retain(|d| !self.keeps_pace(d));
        if dips.len() < LEAST_DIPS {
            return None;
        }
        let gaps: Vec<f64> =
            dips.windows(2).map(|w| series.end_s(w[1].first) - series.end_s(w[0].first)).collect();
        let (period, spread) = stats::median_and_spread(&mut gaps.clone())?;
        let interval = series.loaded_s(self.run.samples(&(0..self.run.len()))) / self.run.len().max(1) as f64;
        let close = REGULAR.max(1.2 * interval / period);
        let regular = gaps.iter().filter(|g| (**g / period - 1.0).abs() < close).count();
        // Dips at every few samples are the grain of the record, if they were there from the beginning.
        let first_s = series.end_s(dips[0].first) - series.end_s(self.run.first);
        let late = first_s > LATE_PERIODS * period;
        let grain = if late { LATE_GRAIN } else { GRAIN };
        if (regular as f64) < 0.8 * gaps.len() as f64 || period < grain * interval {
            return None;
        }
        let mut f = self.dips(&dips, period, spread);
        if late {
            self.weigh_heat(&mut f, &dips, first_s);
        }
        Some(f)
    }

    /// Dips that begin long after the load did: so does heat, and where no thermometer tells, either may be it.
    fn weigh_heat(&self, f: &mut Finding, dips: &[Dip], first_s: f64) {
        let top = self.cx.hottest(self.run.samples(&(0..self.run.len())));
        // A sensor that is read less often than the dips come says of none of them how hot it was.
        let slack = if self.is_rarely_read(dips) { MOVES_ON_K } else { AT_LIMIT } + 0.5 * self.cx.resolution;
        let at_top = |d: &&Dip| {
            let then = self.cx.hottest(d.first.saturating_sub(2)..d.last + 1);
            then.zip(top).is_some_and(|(t, top)| t >= top - slack)
        };
        let hot = top.is_none_or(|t| t >= HOT && (self.limit.is_none() || self.is_at_limit(t)))
            && (top.is_none() || dips.iter().filter(at_top).count() * 5 >= dips.len() * 4);
        let (from, to) = (f.elapsed, f.end_elapsed.unwrap_or(f.elapsed));
        if !hot || self.cx.counted_between(from, to) == Some(false) {
            return;
        }
        f.kind = FindingKind::Unexplained;
        f.evidence.pop();
        f.evidence.push(format!(
            "The first came after {}: heat comes so, once the drive is warm, and the drive's own housekeeping, once something is full.",
            span_words(first_s)
        ));
        f.evidence.push(match top {
            None => "A thermometer would decide (--thermometer, temperature_c in a CSV file); so would the same write with a fan.".into(),
            Some(_) if self.limit.is_some() => "It is at its limit in them. The drive's count of thermal transitions would decide, which this record lacks; so would the same write with a fan.".into(),
            Some(_) => "The drive's limit would decide (throttle_c in a CSV file); so would the same write with a fan.".into(),
        });
        f.may_be = vec![
            Candidate { kind: FindingKind::Throttle, share: HEAT_IN_DIPS },
            Candidate { kind: FindingKind::Background, share: 1.0 - HEAT_IN_DIPS },
        ];
        f.confidence = UNDECIDED;
    }

    /// As hot as the limit that is known, within what a sensor shows.
    fn is_at_limit(&self, t: f64) -> bool {
        self.limit.is_some_and(|l| t >= l - AT_LIMIT - 0.5 * self.cx.resolution)
    }

    /// From the first dip to the last the temperature changes less often than they come.
    fn is_rarely_read(&self, dips: &[Dip]) -> bool {
        let mut read = (dips[0].first..=dips[dips.len() - 1].last).filter_map(|i| self.cx.series.degrees(i));
        let Some(mut newest) = read.next() else { return false };
        let changes = read.filter(|t| std::mem::replace(&mut newest, *t) != *t).count();
        changes < dips.len()
    }

    /// No slower than the pace that was asked for: an interval in which few operations are due has one more or one less.
    fn keeps_pace(&self, dip: &Dip) -> bool {
        let series = self.cx.series;
        self.run.pace.is_some_and(|(rate, block)| {
            let samples = dip.first..dip.last + 1;
            let moved = series.mean_rate(samples.clone()) * series.loaded_s(samples.clone());
            // The operation before and the one behind its edges belong to its neighbours.
            moved > rate * series.loaded_s(samples) - 2.0 * block
        })
    }

    /// Slower because of what we do ourselves: a flush, or operations that failed and were tried again.
    fn is_our_doing(&self, sample: usize) -> bool {
        let series = self.cx.series;
        let near = |all: &[usize]| {
            let next = all.partition_point(|f| *f < sample);
            // The queue runs empty in the sample before a flush, and fills again in the one after it.
            all.get(next).is_some_and(|f| *f <= sample + 1)
                || next.checked_sub(1).is_some_and(|n| all[n] + 1 >= sample)
        };
        near(self.cx.flushes) || series.errors_in(sample..sample + 1) > 0
    }

    /// Operations that failed in the slower level, and none or far fewer before: so many, and in so many of its samples.
    pub(super) fn is_failing(&self, step: &Step<'_>) -> Option<u64> {
        let series = self.cx.series;
        let share = |samples: std::ops::Range<usize>| {
            let with = series.samples_with_errors(samples.clone());
            with as f64 / samples.len().max(1) as f64
        };
        let (before, after) = (self.samples_of(step.left), self.samples_of(step.right));
        let failing = share(after.clone());
        (failing > 0.2 && failing > 2.0 * share(before)).then(|| series.errors_in(after))
    }

    /// The rate that is left while operations fail.
    pub(super) fn failing(&self, step: &Step<'_>, errors: u64) -> Finding {
        let mut f = self.finding(FindingKind::MediaError, step);
        f.evidence.push(format!(
            "Fell from {} to {} while {errors} operations failed: the time goes into them, not into a cache or heat.",
            step.before(),
            step.after()
        ));
        f.confidence = 0.95;
        f
    }

    fn dips(&self, dips: &[Dip], period: f64, spread: f64) -> Finding {
        let series = self.cx.series;
        let (first, last) = (&dips[0], &dips[dips.len() - 1]);
        let begin = series
            .end(first.first)
            .saturating_sub(Duration::from_secs_f64(series.loaded_s(first.first..first.first + 1)));
        let end = series.end(last.last);
        let level =
            self.levels.iter().find(|l| self.samples_of(l).contains(&first.first)).unwrap_or(&self.levels[0]);
        let mut low: Vec<f64> = dips.iter().flat_map(|d| d.first..=d.last).map(|i| series.rate(i)).collect();
        let lost: f64 = dips.iter().map(|d| d.lost_s).sum();
        let share = lost / (end - begin).as_secs_f64().max(1e-9);
        let mut each: Vec<f64> = dips.iter().map(|d| series.loaded_s(d.first..d.last + 1)).collect();
        let mut evidence = vec![format!(
            "{} dips, one every {} (± {}), {} each: {:.1} % of the time is lost in them.",
            dips.len(),
            span_words(period),
            span_words(spread.max(0.1)),
            span_words(stats::median(&mut each).unwrap_or(0.0)),
            share * 100.0
        )];
        let p99 = |mut all: Vec<f64>| stats::median(&mut all).map(|us| Duration::from_micros(us as u64));
        let inside: Vec<f64> =
            dips.iter().flat_map(|d| d.first..=d.last).filter_map(|i| series.p99_us(i)).collect();
        let outside: Vec<f64> =
            dips.windows(2).filter_map(|w| series.p99_us(w[0].last.midpoint(w[1].first))).collect();
        if let Some((i, o)) = p99(inside).zip(p99(outside)).filter(|(i, o)| i > o) {
            evidence.push(format!(
                "The latency grows in them: p99 {} against {} between them.",
                latency(i),
                latency(o)
            ));
        }
        let hottest = self.cx.hottest(first.first..last.last + 1);
        if let Some((t, limit)) = hottest.zip(self.limit).filter(|(t, _)| !self.is_at_limit(*t)) {
            evidence.push(format!(
                "Not heat: {} at most, limit {}.",
                Celsius::new(t.round()),
                Celsius::new(limit)
            ));
        }
        evidence.push("Regular dips come from the drive's own housekeeping or from a timer on this machine; a rest before the haul tells which: housekeeping has less to do after it.".into());
        Finding {
            kind: FindingKind::Background,
            elapsed: begin,
            end_elapsed: Some(end),
            transition: None,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
            unlike: Vec::new(),
            decided: None,
            written: crate::quantity::units::Bytes::new(series.written_before(first.first)),
            written_low: crate::quantity::units::Bytes::new(series.written_before(first.first)),
            written_high: crate::quantity::units::Bytes::new(series.written(first.last)),
            position: series.position(first.first),
            position_end: series.position(last.last),
            before: Some(level.rate()),
            after: stats::median(&mut low).map(Rate::new),
            temperature: hottest.map(Celsius::new),
            confidence: REGULAR_DIPS,
            evidence,
        }
    }

    /// The first level is as fast as the link carries.
    pub(super) fn link_limit(&self, link: Option<&Link>) -> Option<Finding> {
        let level = self.levels.first()?;
        let ceiling = link?.payload_ceiling()?;
        let share = level.rate().get() / ceiling.get();
        if !(AT_CEILING..1.15).contains(&share) || self.run.seconds(self.cx.series, &level.points) < 2.0 {
            return None;
        }
        let mut f = self.whole_run();
        f.evidence.push(format!(
            "{} is {:.0} % of what the link carries ({}, about {ceiling} of payload): the link sets this rate, not the drive.",
            level.rate(),
            share * 100.0,
            link?.words()
        ));
        f.evidence.extend(link?.shortfall().map(|s| format!("{s}: in a better slot it may be faster.")));
        f.confidence = 0.9;
        Some(f)
    }

    /// The threads that submit had no time left from the start.
    pub(super) fn busy_host(&self) -> Option<Finding> {
        let all = self.run.samples(&(0..self.run.len()));
        let busy = self.host_busy(all)?;
        if busy < SATURATED {
            return None;
        }
        let mut f = self.whole_run();
        f.evidence.push(format!(
            "The threads that submit I/O were busy for {:.0} % of the time: this machine sets the rate, not the drive.",
            busy * 100.0
        ));
        f.evidence.push(
            "More workers, a larger block or a faster processor would tell what the drive can do.".into(),
        );
        f.confidence = 0.9;
        Some(f)
    }

    fn whole_run(&self) -> Finding {
        let all = self.run.samples(&(0..self.run.len()));
        let series = self.cx.series;
        let written = crate::quantity::units::Bytes::new(series.written_before(all.start));
        let from = series
            .end(all.start)
            .saturating_sub(Duration::from_secs_f64(series.loaded_s(all.start..all.start + 1)));
        Finding {
            kind: FindingKind::HostLimit,
            elapsed: from,
            end_elapsed: None,
            transition: None,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
            unlike: Vec::new(),
            decided: None,
            written,
            written_low: written,
            written_high: written,
            position: None,
            position_end: None,
            before: None,
            after: self.levels.first().map(super::super::levels::Level::rate),
            temperature: self.cx.hottest(all.start..all.start + 1).map(Celsius::new),
            confidence: 0.9,
            evidence: Vec::new(),
        }
    }

    /// Median share of the time that the submitting threads were busy in these samples, 0 to 1.
    fn host_busy(&self, samples: std::ops::Range<usize>) -> Option<f64> {
        let step = (samples.len() / 500).max(1);
        let mut all: Vec<f64> = samples.step_by(step).filter_map(|i| self.cx.series.host_busy(i)).collect();
        stats::median(&mut all)
    }

    /// Slower because this machine's threads have no time left, which they had before.
    pub(super) fn is_host(&self, step: &Step<'_>) -> Option<(f64, f64)> {
        let before = self.host_busy(self.samples_of(step.left))?;
        let after = self.host_busy(self.samples_of(step.right))?;
        (after >= SATURATED && before < 0.9).then_some((before, after))
    }

    /// Tells a slow stretch of the drive from a passing cause by the other passes over the same addresses.
    pub(super) fn weigh_place(&self, f: &mut Finding, step: &Step<'_>, back: &Step<'_>) {
        let (Some(from), Some(to)) = (f.position, f.position_end) else { return };
        let left = step.after().get() / step.before().get().max(1.0);
        // Well inside, where the edges of the samples do not matter.
        let margin = crate::quantity::units::Bytes::new(to.saturating_sub(from).get() / 20);
        let met = step.place.sample..back.place.sample + 1;
        let passes = visit_again(self.cx.series, from + margin, to.saturating_sub(margin), &met, left);
        let times = |n: usize| if n == 1 { "once".to_owned() } else { format!("{n} times") };
        if passes.slow > passes.well {
            f.kind = FindingKind::SlowZone;
            f.evidence.truncate(1);
            f.evidence.push(format!(
                "{from} to {to} was slow again on {} other {} over it: it is the place.",
                passes.slow,
                if passes.slow == 1 { "pass" } else { "passes" }
            ));
            f.confidence = if passes.well == 0 { 0.95 } else { 0.8 };
        } else if passes.well > 0 {
            f.evidence.pop();
            f.evidence.push(format!(
                "It is not the place: {from} to {to} was read {} more and was as fast as the rest.",
                times(passes.well)
            ));
        }
    }

    /// More bytes a second move after a rise. Of a rate that swings, the middle may be the one end of the swings here and both there.
    pub(super) fn moves_more(&self, step: &Step<'_>) -> bool {
        let mean = |level| self.cx.series.mean_rate(self.samples_of(level)).max(1.0);
        let told = (step.after().get() / step.before().get().max(1.0)).ln();
        (mean(step.right) / mean(step.left)).ln() > MOVES_AS_TOLD * told
    }

    /// A rise that is not the end of something found: the run began slow, and something let go.
    pub(super) fn rise(&self, step: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::Unexplained, step);
        f.evidence.push(format!("Rose from {} to {}.", step.before(), step.after()));
        let limit = self.limit;
        let t = self.cx.hottest(self.samples_of(step.left));
        let traffic = self.traffic(step.index - 1).zip(self.traffic(step.index));
        let gained = (step.after().get() / step.before().get().max(1.0) - 1.0).max(0.0);
        f.confidence = RISES;
        if let (Some(t), Some(limit)) = (t, limit)
            && t >= limit - AT_LIMIT
        {
            f.kind = FindingKind::Throttle;
            f.confidence = RISES_AS_IT_COOLED;
            f.evidence.push(format!(
                "It had been at {} with a limit of {}, and the speed came back as it cooled.",
                Celsius::new(t.round()),
                Celsius::new(limit)
            ));
        } else if let Some(((ours, others), (_, later))) = traffic
            && others > 0.4 * gained * ours
            && later < 0.2 * others.max(1.0)
        {
            f.kind = FindingKind::OtherTraffic;
            f.confidence = 0.9;
            f.evidence.push(format!(
                "Others moved {} on the drive before, and stopped.",
                crate::quantity::units::Bytes::new(others as u64)
            ));
        } else {
            if self.run.kind == LoadKind::Write {
                f.evidence.push("A drive that is still tidying up, or a cache that is not empty yet, starts like this; a haul after a longer rest would tell.".into());
            } else {
                f.evidence.push("A second pass would tell whether it is the place or the time.".into());
            }
        }
        f
    }
}
