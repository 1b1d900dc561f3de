//! What a lookout saw: how long another user of the drive waits while it works, against how long at rest.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::conclude::{Finding, verdict};
use crate::drive::lookout_block;
use crate::quantity::FindingKind;
use crate::quantity::histogram::{Histogram, as_known};
use crate::quantity::units::{Bytes, latency, span_words};
use crate::readings::{During, Readings, Ruler};

/// Reads that wait this many times what they wait at rest are kept waiting.
const BEYOND: f64 = 10.0;
/// At rest so many reads are needed for a median that tells.
const LEAST_AT_REST: u64 = 20;
/// And so many in a second: the median of fewer is chance.
const LEAST_IN_A_SECOND: u64 = 5;

/// How long reads waited, µs; what so few reads cannot tell is missing.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Waits {
    /// Reads that were due.
    pub reads: u64,
    /// Half of them waited no longer.
    pub p50_us: f64,
    /// 99 of 100.
    pub p99_us: Option<f64>,
    /// 999 of 1,000.
    pub p999_us: Option<f64>,
    /// The longest time without an answer.
    pub longest_us: f64,
}

impl Waits {
    fn of(h: &Histogram) -> Option<Self> {
        let known = |ns: f64| as_known(ns).as_nanos() as f64 / 1e3;
        let us = |q: f64| h.told_bin(q).map(|b| known(b.middle_ns()));
        Some(Self {
            reads: h.total(),
            p50_us: us(0.5)?,
            p99_us: us(0.99),
            p999_us: us(0.999),
            longest_us: known(h.longest_ns()?),
        })
    }

    fn words(&self) -> String {
        let p99 = self.p99_us.map(|us| format!(", p99 {}", time(us))).unwrap_or_default();
        format!("p50 {}{p99}, {} at most", time(self.p50_us), time(self.longest_us))
    }
}

/// A stretch in which reads were kept waiting.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct KeptWaiting {
    /// Since the haul began, s.
    pub from_s: f64,
    /// Since the haul began, s.
    pub to_s: f64,
    /// What the drive was asked for beside them.
    pub during: During,
    /// What they waited.
    pub waits: Waits,
    /// What was found meanwhile, and what they waited then.
    pub meanwhile: Vec<Meanwhile>,
}

/// What reads waited while something was so.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Meanwhile {
    /// What was found of that time; nothing where the drive did as before.
    pub cause: Option<FindingKind>,
    /// What they waited.
    pub waits: Waits,
}

/// What a lookout saw.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LookoutSurvey {
    /// While the drive rested; `None` where it did not look out then.
    pub at_rest: Option<Waits>,
    /// While it read or wrote.
    pub under_load: Option<Waits>,
    /// Bytes that the lookout read, as a share of what the load moved meanwhile.
    pub share_of_load: Option<f64>,
    /// Stretches of more than a second in which half of the reads waited more than ten times the median at rest.
    pub kept_waiting: Vec<KeptWaiting>,
}

/// Of a record; `None` where nobody looked out.
#[must_use]
pub fn survey(readings: &Readings, findings: &[Finding]) -> Option<LookoutSurvey> {
    let field = readings.lookout();
    if field.is_empty() {
        return None;
    }
    let (at_rest, under_load) = (field.during(During::Rest), field.during(During::Load));
    let usual = at_rest.quantile_ns(0.5).filter(|_| at_rest.total() >= LEAST_AT_REST);
    let block = lookout_block(readings.head().map_or(Bytes::ZERO, |h| h.drive.block));
    let looked = under_load.total() as f64 * block.as_f64();
    let moved = field.moved(During::Load).as_f64();
    Some(LookoutSurvey {
        kept_waiting: usual.map(|usual| kept_waiting(readings, findings, usual)).unwrap_or_default(),
        at_rest: Waits::of(&at_rest),
        under_load: Waits::of(&under_load),
        share_of_load: (moved > 0.0).then_some(looked / moved),
    })
}

fn kept_waiting(readings: &Readings, findings: &[Finding], usual_ns: f64) -> Vec<KeptWaiting> {
    let mut all: Vec<(f64, f64, During, Histogram)> = Vec::new();
    for (end, span, during, counts) in readings.lookout().stretches() {
        let waits = counts.total() >= LEAST_IN_A_SECOND
            && counts.quantile_ns(0.5).is_some_and(|ns| ns > BEYOND * usual_ns);
        if !waits {
            continue;
        }
        let (end, from) = (end.as_secs_f64(), end.saturating_sub(span).as_secs_f64());
        match all.last_mut() {
            // A clock rounds, and a flush at the end of a leg takes a moment.
            Some((_, to, same, before)) if from - *to < 0.5 && *same == during => {
                *to = end;
                before.add(&counts);
            }
            _ => all.push((from, end, during, counts)),
        }
    }
    all.retain(|(from, to, ..)| to - from > 1.0);
    all.into_iter()
        .filter_map(|(from_s, to_s, during, h)| {
            let meanwhile = meanwhile(readings, findings, from_s, to_s);
            Some(KeptWaiting { from_s, to_s, during, waits: Waits::of(&h)?, meanwhile })
        })
        .collect()
}

/// What was found between two times, and what reads waited in each of it: a change lasts to its end, or until the next.
fn meanwhile(readings: &Readings, findings: &[Finding], from_s: f64, to_s: f64) -> Vec<Meanwhile> {
    let changes = findings.iter().filter(|f| verdict::changes_the_rate(f.kind));
    let changes: Vec<(f64, f64, FindingKind)> = changes
        .map(|f| {
            let end = f.end_elapsed.map_or(f64::INFINITY, |e| e.as_secs_f64());
            (f.elapsed.as_secs_f64(), end, f.kind)
        })
        .collect();
    let mut edges: Vec<f64> =
        changes.iter().flat_map(|c| [c.0, c.1]).filter(|e| *e > from_s && *e < to_s).collect();
    edges.extend([from_s, to_s]);
    edges.sort_by(f64::total_cmp);
    let mut all: Vec<(Option<FindingKind>, Histogram)> = Vec::new();
    for part in edges.windows(2) {
        let middle = f64::midpoint(part[0], part[1]);
        let cause = changes.iter().rev().find(|c| (c.0..c.1).contains(&middle)).map(|c| c.2);
        let counts = readings.lookout().between(Ruler::Elapsed, part[0], part[1]);
        match all.iter_mut().find(|a| a.0 == cause) {
            Some(same) => same.1.add(&counts),
            None => all.push((cause, counts)),
        }
    }
    all.iter().filter_map(|(cause, h)| Some(Meanwhile { cause: *cause, waits: Waits::of(h)? })).collect()
}

impl LookoutSurvey {
    /// The answer in a sentence.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let load = self.under_load.as_ref()?;
        let p99 = load.p99_us.map(|us| format!(" (p99 {})", time(us))).unwrap_or_default();
        let rest = self.at_rest.as_ref().map(|r| format!(", {} at rest", time(r.p50_us)));
        let rest = rest.unwrap_or_else(|| "; at rest nobody looked".into());
        Some(format!("Others' reads wait {}{p99} under load{rest}.", time(load.p50_us)))
    }

    /// All that it says.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let longest = self.under_load.as_ref().map(|w| {
            let share = self.share_of_load.map(|s| {
                let percent = (s * 1e4).ceil() / 100.0;
                format!("; the lookout itself moved {percent} % at most of what the load moved")
            });
            format!(
                "The longest time without an answer was {}{}.",
                time(w.longest_us),
                share.unwrap_or_default()
            )
        });
        self.sentence().into_iter().chain(longest).collect()
    }
}

impl KeptWaiting {
    /// As evidence: how long, and longest because of what.
    #[must_use]
    pub fn evidence(&self, at_rest: &Waits) -> Vec<String> {
        let most = self.cause().map(|c| format!(", most {}", self.while_words(Some(c)))).unwrap_or_default();
        let first = format!(
            "For {} reads of the lookout waited {} in the median, {:.0} times as long as at rest ({}){most}.",
            span_words(self.to_s - self.from_s),
            time(self.waits.p50_us),
            self.waits.p50_us / at_rest.p50_us.max(1e-3),
            time(at_rest.p50_us)
        );
        let parts = self.meanwhile.iter().map(|m| {
            let words = self.while_words(m.cause);
            let (head, tail) = words.split_at(1);
            format!("{}{tail}: {}.", head.to_uppercase(), m.waits.words())
        });
        std::iter::once(first).chain(parts).collect()
    }

    const fn while_words(&self, cause: Option<FindingKind>) -> &'static str {
        match (cause, self.during) {
            (None, During::Load) => "under the load alone",
            (None, During::Rest) => "while it rested",
            (None, During::Other) => "while it was busy with itself",
            (Some(FindingKind::CacheEnd), _) => "past the end of the cache",
            (Some(FindingKind::Throttle), _) => "while heat throttled it",
            (Some(FindingKind::OtherTraffic), _) => "while others used it",
            (Some(FindingKind::FillSlowdown), _) => "when it was fuller",
            (Some(FindingKind::SlowZone), _) => "where it is slow",
            (Some(FindingKind::MediaError), _) => "while operations failed",
            (Some(FindingKind::Unexplained), _) => "after a change that nothing explains",
            (Some(_), _) => "while it was busy with itself",
        }
    }

    /// Because of what they waited longest: of the load itself, or of what changed in it to twice as long at least.
    #[must_use]
    pub fn cause(&self) -> Option<FindingKind> {
        let alone = self.meanwhile.iter().find(|m| m.cause.is_none()).map_or(0.0, |m| m.waits.p50_us);
        let longest = self.meanwhile.iter().max_by(|a, b| a.waits.p50_us.total_cmp(&b.waits.p50_us))?;
        longest.cause.filter(|_| longest.waits.p50_us >= 2.0 * alone)
    }
}

fn time(us: f64) -> String {
    latency(Duration::from_secs_f64(us.max(0.0) / 1e6))
}

/// What was found, told as findings of their own.
#[must_use]
pub fn findings(readings: &Readings, survey: &LookoutSurvey) -> Vec<Finding> {
    let Some(at_rest) = &survey.at_rest else { return Vec::new() };
    let one = |kept: &KeptWaiting| {
        let at = |s: f64| Duration::from_secs_f64(s.max(0.0));
        let series = readings.series();
        let written = Bytes::new(series.written_at(at(kept.from_s)));
        Finding {
            elapsed: at(kept.from_s),
            end_elapsed: Some(at(kept.to_s)),
            written,
            written_low: written,
            written_high: written,
            // It was measured; what chance could do to a median of a hundred reads is far less than tenfold.
            confidence: 0.99,
            evidence: kept.evidence(at_rest),
            ..Finding::new(FindingKind::KeptWaiting)
        }
    };
    survey.kept_waiting.iter().map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::{DriveIdentity, DriveKind};
    use crate::record::{Event, HaulHead, Latencies, Sample, Whose};
    use crate::route::Route;

    /// Ten seconds of rest and then of writing, and what the lookout waited in each second, µs.
    fn readings(waits: impl Fn(u64) -> u64) -> Readings {
        let route = "name = 'x'\n[[leg]]\nkind = 'rest'\nlookout = '10 ms'\nuntil = { duration = '10 s' }\n\
                     [[leg]]\nkind = 'write'\nlookout = '10 ms'\nuntil = { duration = '60 s' }\n";
        let drive = DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(100));
        let mut r = Readings::new();
        r.push(&Event::HaulStarted(Box::new(HaulHead::plain("h", drive, Route::from_toml(route).unwrap()))));
        for second in 0..40u64 {
            let leg = u16::from(second >= 10);
            if second == 0 || second == 10 {
                r.push(&Event::LegStarted { at: Duration::from_secs(second), leg });
            }
            let (end, span) = (Duration::from_secs(second + 1), Duration::from_secs(1));
            let written = Bytes::new(if leg == 0 { 0 } else { 400_000_000 });
            r.push(&Event::Sample(Sample { end, span, leg, written, ..Sample::default() }));
            let counts = Histogram::of([(waits(second) * 1000, 99), (20_000_000, 1)]);
            r.push(&Event::Latencies(Box::new(Latencies { end, span, leg, whose: Whose::Lookout, counts })));
        }
        r
    }

    #[test]
    fn what_others_wait_under_load_is_told_beside_what_they_wait_at_rest() {
        let r = readings(|s| if s < 10 { 80 } else { 400 });
        let s = survey(&r, &[]).unwrap();
        assert_eq!((s.at_rest.as_ref().unwrap().reads, s.under_load.as_ref().unwrap().reads), (1000, 3000));
        assert_eq!(
            s.sentence().unwrap(),
            "Others' reads wait 395 µs (p99 395 µs) under load, 81 µs at rest."
        );
        assert_eq!(s.kept_waiting, [], "five times as long is not ten times");
        // 3,000 reads of 4 KiB beside 12 GB.
        assert!((s.share_of_load.unwrap() - 3000.0 * 4096.0 / 12e9).abs() < 1e-9);
    }

    #[test]
    fn a_median_of_a_few_reads_is_not_told() {
        let r = readings(|s| if s < 10 { 80 } else { 8_000 });
        assert_eq!(survey(&r, &[]).unwrap().kept_waiting.len(), 1);
        let mut few = Readings::new();
        few.push(&Event::HaulStarted(Box::new(r.head().unwrap().clone())));
        for (second, us) in (0..60u64).map(|s| (s, if s < 30 { 80 } else { 8_000 })) {
            let (end, span) = (Duration::from_secs(second + 1), Duration::from_secs(1));
            let counts = Histogram::of([(us * 1000, LEAST_IN_A_SECOND - 1)]);
            let leg = u16::from(second >= 30);
            few.push(&Event::Latencies(Box::new(Latencies {
                end,
                span,
                leg,
                whose: Whose::Lookout,
                counts,
            })));
        }
        assert_eq!(survey(&few, &[]).unwrap().kept_waiting, []);
    }

    #[test]
    fn seconds_of_tenfold_waits_are_found_with_what_happened_meanwhile() {
        let r = readings(|s| match s {
            0..10 => 80,
            10..20 => 200,
            20..30 => 1_000,
            30..=34 => 8_000,
            36 => 9_000,
            _ => 200,
        });
        let end = Finding { elapsed: Duration::from_secs(30), ..Finding::new(FindingKind::CacheEnd) };
        let s = survey(&r, std::slice::from_ref(&end)).unwrap();
        let [kept] = s.kept_waiting.as_slice() else { panic!("{:?}", s.kept_waiting) };
        assert_eq!((kept.from_s, kept.to_s), (20.0, 35.0), "one second is not longer than a second");
        assert_eq!(kept.cause(), Some(FindingKind::CacheEnd));
        let found = findings(&r, &s);
        assert_eq!(
            (found[0].elapsed, found[0].end_elapsed),
            (Duration::from_secs(20), Some(Duration::from_secs(35)))
        );
        assert_eq!(found[0].written, Bytes::new(10 * 400_000_000));
        assert_eq!(
            found[0].evidence,
            [
                "For 15 s reads of the lookout waited 1 ms in the median, 12 times as long as at rest (81 µs), most past the end of the cache.",
                "Under the load alone: p50 1 ms, p99 1 ms, 20 ms at most.",
                "Past the end of the cache: p50 8.1 ms, p99 8.1 ms, 20 ms at most."
            ]
        );
    }
}
