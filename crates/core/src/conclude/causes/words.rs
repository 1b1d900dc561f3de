//! Findings in words: what is said of each cause, and how sure it is.

use super::confidence::{self, Footing};
use super::numbers::{
    AT_LIMIT, HEAT_GIVEN_BACK, HEAT_HOLDS, HEAT_ONCE, HELD_AT_LIMIT, NEITHER, SHORT_TAIL, SHORT_TAIL_S,
    SMALL, SMALL_STEP, UNDECIDED,
};
use crate::conclude::Finding;
use crate::quantity::units::{Bytes, Celsius, clock, span_words};
use crate::quantity::{FindingKind, width};

use super::{Episode, Judge, Pinned, Step, cut};

impl Judge<'_> {
    pub(super) fn held_finding(&self, p: &Pinned) -> Finding {
        let series = self.cx.series;
        let written = Bytes::new(series.written_before(p.first));
        let t = self.cx.hottest(p.first..p.last + 1).map(|t| Celsius::new(t.round()));
        let limit = self.limit.map(Celsius::new);
        let mut evidence = vec![format!("The rate fell gradually from {} to {}.", p.free, p.held)];
        if let Some((t, limit)) = t.zip(limit) {
            evidence.push(format!(
                "The temperature stood at {t} with a limit of {limit} for {}: the drive holds it there.",
                span_words((p.to - p.from).as_secs_f64())
            ));
        }
        let half = Bytes::new((series.written(p.first) - series.written_before(p.first)) * 4);
        Finding {
            kind: FindingKind::Throttle,
            elapsed: p.from,
            end_elapsed: Some(p.to),
            written,
            written_low: written.saturating_sub(half),
            written_high: Bytes::new(series.written(p.last)).min(written + half),
            position: series.position(p.first),
            position_end: series.position(p.last),
            before: Some(p.free),
            after: Some(p.held),
            temperature: t,
            transition: None,
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
            unlike: Vec::new(),
            decided: None,
            confidence: HELD_AT_LIMIT,
            evidence,
        }
    }

    pub(super) fn finding(&self, kind: FindingKind, step: &Step<'_>) -> Finding {
        Finding {
            kind,
            elapsed: step.place.elapsed,
            end_elapsed: None,
            written: step.place.written,
            written_low: step.place.low,
            written_high: step.place.high,
            position: step.place.position,
            position_end: None,
            transition: step.place.took(),
            may_be: Vec::new(),
            failed: None,
            waits_for: None,
            times: None,
            unlike: Vec::new(),
            decided: None,
            before: Some(step.before()),
            after: Some(step.after()),
            temperature: step.at_once.map(Celsius::new),
            confidence: 0.5,
            evidence: Vec::new(),
        }
    }

    pub(super) fn cache_end(&self, step: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::CacheEnd, step);
        let series = self.cx.series;
        let low_points = step.right.points.start..self.run.len();
        let low_s = self.run.seconds(series, &low_points);
        f.evidence.push(match step.place.took() {
            None => format!(
                "Fell from {} to {} after {} (± {}) written since the last rest.",
                step.before(),
                step.after(),
                self.since_rest(&step.place),
                width::half(step.place.low, step.place.high),
            ),
            Some(took) => format!(
                "Gave way from {} to {} over {}, between {} and {} written since the last rest.",
                step.before(),
                step.after(),
                span_words(took.as_secs_f64()),
                self.since_rest_at(step.place.low),
                self.since_rest_at(step.place.high),
            ),
        });
        f.evidence.push(format!(
            "Stayed down for the {} of writing that followed; only rest brings a cache back.",
            span_words(low_s)
        ));
        let footing = self.footing(step);
        let mut doubt = 1.0 - footing.right();
        match (self.limit, step.at_once.or(step.temperature)) {
            (Some(limit), Some(t)) if t < limit - AT_LIMIT => f.evidence.push(match footing {
                Footing::Warm => format!(
                    "Heat is unlikely: {} at that moment, limit {}; a sensor beside the hottest part may lag behind it.",
                    Celsius::new(t.round()),
                    Celsius::new(limit)
                ),
                _ => format!(
                    "Heat is not the cause: {} at that moment, limit {}.",
                    Celsius::new(t.round()),
                    Celsius::new(limit)
                ),
            }),
            (Some(limit), Some(t)) => {
                let low = self.cx.coldest(self.run.samples(&low_points)).unwrap_or(t);
                f.evidence.push(format!(
                    "It was at {} (limit {}) but stayed slow down to {}: heat alone would have let go.",
                    Celsius::new(t.round()),
                    Celsius::new(limit),
                    Celsius::new(low.round())
                ));
            }
            (None, Some(t)) => {
                f.evidence.push(format!(
                    "{} at that moment; no limit is known for this drive, but it did not recover in cooling.",
                    Celsius::new(t.round())
                ));
            }
            (_, None) => {
                f.evidence.push("The record has no temperature: heat is ruled out only by the shape.".into());
            }
        }
        if let Some((ours, others)) = self.traffic(step.index) {
            if others > 0.1 * ours {
                doubt += 0.2;
                f.evidence
                    .push(format!("Others moved {} on the drive meanwhile.", Bytes::new(others as u64)));
            } else {
                f.evidence.push("Nobody else used the drive.".into());
            }
        }
        // Of levels that slope, what is lost at the fall itself.
        let step_size = (step.left.log_rate - step.right.log_rate).min(-cut(step));
        if step_size < SMALL {
            doubt += SMALL_STEP;
        }
        if low_s < SHORT_TAIL_S {
            doubt += SHORT_TAIL;
        }
        let bytes = self.since_rest(&step.place);
        if self.cx.capacity > Bytes::ZERO && bytes > self.cx.capacity {
            f.kind = FindingKind::Unexplained;
            f.confidence = UNDECIDED;
            f.evidence.push(format!(
                "It is no cache: {bytes} without a rest is more than the drive holds, {}.",
                self.cx.capacity
            ));
            return f;
        }
        doubt *= self.recall_cache_end(&mut f, step);
        f.confidence = 1.0 - doubt;
        if f.confidence < 0.5 {
            // A wrong cause is worse than none.
            f.kind = FindingKind::Unexplained;
            f.confidence = UNDECIDED;
            f.evidence.push(match step_size < SMALL {
                true => "So small a fall is the end of a cache in one of three: a second haul would tell, by the same bytes.".into(),
                false => format!("The record ends {} after it: a longer one would tell.", span_words(low_s)),
            });
        }
        f
    }

    pub(super) fn throttle(&self, steps: &[Step<'_>], episode: &Episode) -> Finding {
        let step = &steps[episode.first];
        let mut f = self.finding(FindingKind::Throttle, step);
        // Heat is there from where the rate begins to give way.
        let onset = self.gives_way(step);
        (f.elapsed, f.written) = onset;
        f.written_low = f.written_low.min(f.written);
        let run_end = self.cx.series.end(self.run.past().max(1) - 1);
        let end = episode.end.unwrap_or(run_end);
        f.end_elapsed = Some(end);
        f.position_end = self.cx.series.position(self.cx.series.index_at(end).min(self.cx.series.len() - 1));
        let t = step.at_once.map(|t| Celsius::new(t.round()));
        match (t, self.limit) {
            (Some(t), Some(limit)) => f.evidence.push(format!(
                "Fell from {} to {} at {t}; the limit is {}{}.",
                step.before(),
                step.after(),
                Celsius::new(limit),
                if self.cx.limit.is_none() { ", judging by where it fell each time" } else { "" }
            )),
            _ => f.evidence.push(format!("Fell from {} to {}.", step.before(), step.after())),
        }
        if episode.rises > 0 {
            f.evidence.push(format!(
                "The speed came back {} as the drive cooled, without rest.",
                if episode.rises == 1 { "once".to_owned() } else { format!("{} times", episode.rises) }
            ));
        }
        if episode.counters {
            f.evidence.push("The drive's own count of thermal transitions advanced.".into());
        }
        let stated = self.cx.limit.is_some();
        f.evidence.push(format!(
            "It fell {} between {} and {}.",
            if episode.drops == 1 { "once".to_owned() } else { format!("{} times", episode.drops) },
            clock(f.elapsed),
            clock(end)
        ));
        f.confidence = confidence::of_throttling(episode.counters, stated, episode.rises > 0);
        f
    }

    /// Heat, once, by a limit that nobody states.
    pub(super) fn heat_once(&self, step: &Step<'_>, back: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::Throttle, step);
        f.end_elapsed = Some(back.place.elapsed);
        f.position_end = back.place.position;
        let t = Celsius::new(step.at_once.unwrap_or_default().round());
        f.evidence.push(format!(
            "Fell from {} to {} at {t}, hotter than ever before in this run and still warming.",
            step.before(),
            step.after()
        ));
        let spell = back.place.elapsed.saturating_sub(step.place.elapsed).as_secs_f64();
        f.evidence
            .push(format!("All of the speed was back after {}, when it had cooled.", span_words(spell)));
        f.evidence.push(match self.traffic(step.index) {
            Some(_) => "Nobody else used the drive in that time.".into(),
            None => "Whether others used the drive is not in the record.".into(),
        });
        f.evidence
            .push("No limit is stated for it: a second fall at the same temperature would settle it.".into());
        f.confidence = HEAT_ONCE;
        f
    }

    /// Heat whose share of the speed came back as it cooled, while the rest had gone for another reason.
    pub(super) fn heat_given_back(&self, step: &Step<'_>, back: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::Throttle, step);
        f.end_elapsed = Some(back.place.elapsed);
        f.position_end = back.place.position;
        let then = Celsius::new(step.at_once.unwrap_or_default().round());
        let now = self.cx.coldest(self.cx.around(back.place.elapsed, 4, 1)).unwrap_or_default();
        f.evidence.push(format!(
            "Fell from {} to {} at {then}, hotter than ever before in this run and still warming.",
            step.before(),
            step.after()
        ));
        f.evidence.push(format!(
            "Just that share came back, {} to {}, once it had cooled to {}: what heat took, heat gave back.",
            back.before(),
            back.after(),
            Celsius::new(now.round())
        ));
        f.confidence = HEAT_GIVEN_BACK;
        f
    }

    /// Heat that stays: the temperature stands from the fall on.
    pub(super) fn heat_that_holds(&self, step: &Step<'_>) -> Finding {
        let mut f = self.finding(FindingKind::Throttle, step);
        (f.elapsed, f.written) = self.gives_way(step);
        f.end_elapsed = Some(self.cx.series.end(self.run.past().max(1) - 1));
        let t = Celsius::new(step.at_once.unwrap_or_default().round());
        f.evidence.push(format!(
            "Fell from {} to {} at {t}, hotter than ever before in this run and still warming.",
            step.before(),
            step.after()
        ));
        f.evidence.push(format!(
            "From then on it stood at {t}: a drive that only does less would cool, or warm on. No limit is stated for it."
        ));
        f.confidence = HEAT_HOLDS;
        f
    }

    /// A drop with no cause in heat or cache, and where it was over.
    pub(super) fn other(&self, step: &Step<'_>, back: Option<&Step<'_>>) -> Finding {
        let mut f = self.finding(FindingKind::Unexplained, step);
        f.end_elapsed = back.map(|b| b.place.elapsed);
        f.position_end = back.and_then(|b| b.place.position);
        f.evidence.push(match back {
            Some(b) => format!(
                "Fell from {} to {} and came back after {}.",
                step.before(),
                step.after(),
                span_words((b.place.elapsed.saturating_sub(step.place.elapsed)).as_secs_f64())
            ),
            None => format!("Fell from {} to {}.", step.before(), step.after()),
        });
        if let (Some(t), Some(limit)) = (step.at_once, self.limit) {
            f.evidence.push(format!(
                "Not heat: {} with a limit of {}.",
                Celsius::new(t.round()),
                Celsius::new(limit)
            ));
        }
        if let Some((ours, others)) = self.traffic(step.index) {
            if self.is_traffic(step) {
                f.kind = FindingKind::OtherTraffic;
                f.confidence = 0.95;
                f.evidence.push(format!(
                    "Others moved {} on the drive in that time, ours was {}.",
                    Bytes::new(others as u64),
                    Bytes::new(ours as u64)
                ));
                return f;
            }
            f.evidence.push("Nobody else used the drive in that time.".into());
        }
        if let Some((before, after)) = self.is_host(step) {
            f.kind = FindingKind::HostLimit;
            f.confidence = 0.9;
            f.evidence.push(format!(
                "The threads that submit I/O were busy for {:.0} % of the time, and {:.0} % before: this machine could not keep up.",
                after * 100.0,
                before * 100.0
            ));
            return f;
        }
        if let (Some(from), Some(to)) = (f.position, f.position_end) {
            f.evidence.push(format!(
                "To tell a slow stretch from a passing cause, visit {from} to {to} again: if it is slow there again, it is the place."
            ));
        } else {
            f.evidence.push("A second haul would tell: the same bytes speak for the drive, another time for its surroundings.".into());
        }
        f.confidence = NEITHER;
        if let Some(back) = back {
            self.weigh_place(&mut f, step, back);
            self.recall_place(&mut f);
        }
        f
    }
}
