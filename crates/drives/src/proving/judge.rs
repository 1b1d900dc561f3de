//! Compares findings with the truth.

use std::collections::BTreeMap;

use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::FindingKind;

use super::make::{Case, TrueEnd};

/// What is counted over many hauls.
#[derive(Debug, Clone, Default)]
pub struct Score {
    /// Hauls judged.
    pub hauls: usize,
    /// Hauls on which nothing happens but noise, and findings on them.
    pub flat: usize,
    /// Findings on flat hauls.
    pub flat_false: usize,
    /// Flat hauls with such a finding.
    pub flat_false_hauls: usize,
    /// By kind (`cache-end`, `throttle`): (true ones, found ones, matched).
    pub kinds: BTreeMap<&'static str, (usize, usize, usize)>,
    /// True cache ends that were not called so, but whose finding says that it is one more likely than not.
    pub named_first: usize,
    /// Hauls with heat that the record cannot tell from the end of a cache: all, told as heat, left open with heat among the causes, told
    /// as the end of a cache.
    pub lone_heat: (usize, usize, usize, usize),
    /// Ends of a cache that only a thermometer would tell from heat: all, told as such, left open with the cache among the causes.
    pub blind_ends: (usize, usize, usize),
    /// |found − true| / true of matched cache ends, in bytes.
    pub place_errors: Vec<f64>,
    /// |found − true| of matched throttles, seconds.
    pub onset_errors: Vec<f64>,
    /// True ones whose place is within the 95 % interval.
    pub inside: usize,
    /// True cause against given cause, for every true change that something was said about.
    pub confusion: BTreeMap<(&'static str, &'static str), usize>,
    /// By tenth of confidence: (findings, right).
    pub calibration: [(usize, usize); 10],
    /// By kind and confidence in hundredths: (findings, right).
    pub by_confidence: BTreeMap<(&'static str, u32), (usize, usize)>,
    /// A line for each haul with a mistake.
    pub mistakes: Vec<String>,
}

impl Score {
    /// Adds what was counted elsewhere.
    pub fn join(&mut self, other: Self) {
        self.hauls += other.hauls;
        self.flat += other.flat;
        self.flat_false += other.flat_false;
        self.flat_false_hauls += other.flat_false_hauls;
        for (kind, (a, b, c)) in other.kinds {
            let mine = self.kinds.entry(kind).or_default();
            *mine = (mine.0 + a, mine.1 + b, mine.2 + c);
        }
        self.place_errors.extend(other.place_errors);
        self.onset_errors.extend(other.onset_errors);
        self.inside += other.inside;
        self.named_first += other.named_first;
        let ((a, b, c), mine) = (other.blind_ends, self.blind_ends);
        self.blind_ends = (mine.0 + a, mine.1 + b, mine.2 + c);
        let (a, b, c, d) = other.lone_heat;
        let mine = self.lone_heat;
        self.lone_heat = (mine.0 + a, mine.1 + b, mine.2 + c, mine.3 + d);
        for (key, n) in other.confusion {
            *self.confusion.entry(key).or_default() += n;
        }
        for (mine, theirs) in self.calibration.iter_mut().zip(other.calibration) {
            *mine = (mine.0 + theirs.0, mine.1 + theirs.1);
        }
        for (key, (n, r)) in other.by_confidence {
            let mine = self.by_confidence.entry(key).or_default();
            *mine = (mine.0 + n, mine.1 + r);
        }
        self.mistakes.extend(other.mistakes);
    }
}

/// A haul while it is judged.
struct Judging<'a> {
    case: &'a Case,
    findings: &'a [Finding],
    score: &'a mut Score,
    /// Of each finding.
    right: Vec<bool>,
    /// Right, but not asked for.
    perhaps: Vec<bool>,
    /// In lines.
    wrong: Vec<String>,
}

/// Near enough to a true end: within 5 % of its bytes, or two seconds, or half of the time in which it gave way; or it says itself that
/// it lies no nearer than in an interval which holds the truth.
fn is_near(f: &Finding, end: &TrueEnd) -> bool {
    (f.written_low.as_f64()..=f.written_high.as_f64()).contains(&end.written)
        || (f.written.as_f64() / end.written - 1.0).abs() < 0.05
        || (f.elapsed.as_secs_f64() - end.elapsed).abs() < 2.0 + 0.5 * end.ramp_s
}

/// Judges the conclusions of one haul.
pub fn judge(case: &Case, c: &Conclusions, score: &mut Score) {
    score.hauls += 1;
    if case.flat {
        score.flat += 1;
        let beat = |k: FindingKind| k == FindingKind::Background && case.beats.is_some();
        let false_ones = c.findings.iter().filter(|f| !beat(f.kind)).count();
        score.flat_false += false_ones;
        score.flat_false_hauls += usize::from(false_ones > 0);
    }
    let right = vec![false; c.findings.len()];
    let perhaps = right.clone();
    let mut judging = Judging { case, findings: &c.findings, score, right, perhaps, wrong: Vec::new() };
    judging.cache_ends();
    judging.perhaps();
    judging.throttling();
    judging.beats();
    judging.others();
    judging.count();
    if !judging.wrong.is_empty() {
        let words = format!("{}\n      {}", case.words, judging.wrong.join("\n      "));
        score.mistakes.push(words);
    }
}

impl Judging<'_> {
    fn kind(&mut self, word: &'static str) -> &mut (usize, usize, usize) {
        self.score.kinds.entry(word).or_default()
    }

    fn confused(&mut self, truth: &'static str, told: &'static str) {
        *self.score.confusion.entry((truth, told)).or_default() += 1;
    }

    fn cache_ends(&mut self) {
        for end in &self.case.ends {
            let at = |f: &Finding| is_near(f, end);
            // The nearest that is not taken: two levels may end close together.
            let off = |f: &Finding| (f.written.as_f64() - end.written).abs();
            let all = self.findings;
            let hit = (0..all.len())
                .filter(|i| !self.right[*i] && all[*i].kind == FindingKind::CacheEnd && at(&all[*i]))
                .min_by(|a, b| off(&all[*a]).total_cmp(&off(&all[*b])));
            self.kind("cache-end").0 += 1;
            if let Some(i) = hit {
                let f = &all[i];
                self.kind("cache-end").2 += 1;
                self.right[i] = true;
                self.score.place_errors.push((f.written.as_f64() / end.written - 1.0).abs());
                let within = f.written_low.as_f64()..=f.written_high.as_f64();
                self.score.inside += usize::from(within.contains(&end.written));
                self.confused("cache-end", "cache-end");
            } else {
                let told = all.iter().find(|f| at(f));
                let first = told.and_then(|f| f.may_be.first());
                self.score.named_first += usize::from(first.is_some_and(|c| c.kind == FindingKind::CacheEnd));
                let word = told.map_or("nothing", |f| f.kind.word());
                self.confused("cache-end", word);
                let (gb, s) = (end.written / 1e9, end.elapsed);
                self.wrong.push(format!("cache end at {gb:.2} GB ({s:.1} s): {word}"));
            }
        }
    }

    /// Ends that nobody can be asked for may be told all the same, once each.
    fn perhaps(&mut self) {
        for end in &self.case.blind_ends {
            let told = self.findings.iter().filter(|f| is_near(f, end));
            let (mut cache, mut open) = (false, false);
            for f in told {
                cache |= f.kind == FindingKind::CacheEnd;
                open |= f.may_be.iter().any(|c| c.kind == FindingKind::CacheEnd);
            }
            let n = &mut self.score.blind_ends;
            *n = (n.0 + 1, n.1 + usize::from(cache), n.2 + usize::from(!cache && open));
        }
        for end in &self.case.perhaps {
            let hit = (0..self.findings.len()).find(|i| {
                let f = &self.findings[*i];
                // With candidates it says that it is one of those, and not that it is none.
                let kind = f.kind == FindingKind::CacheEnd
                    || f.kind == FindingKind::Unexplained && f.may_be.is_empty();
                !self.right[*i] && kind && is_near(f, end)
            });
            if let Some(i) = hit {
                self.right[i] = true;
                self.perhaps[i] = true;
            }
        }
    }

    fn throttling(&mut self) {
        let is_throttle = |f: &Finding| f.kind == FindingKind::Throttle;
        let Some(t) = self.case.throttle else {
            if self.case.lone_heat {
                self.lone_heat();
            }
            // Too little to be asked for, but true.
            if self.case.throttled_briefly {
                self.findings
                    .iter()
                    .zip(&mut self.right)
                    .filter(|(f, _)| is_throttle(f))
                    .for_each(|(_, r)| *r = true);
            }
            return;
        };
        self.kind("throttle").0 += 1;
        let mut first = true;
        for (i, f) in self.findings.iter().enumerate().filter(|(_, f)| is_throttle(f)) {
            let (from, to) = (f.elapsed.as_secs_f64(), f.end_elapsed.map_or(f64::MAX, |e| e.as_secs_f64()));
            // One truth may be told in parts; each part must lie in it.
            if from > t.from - 15.0 && from < t.to + 5.0 && to > t.from {
                self.right[i] = true;
                if first {
                    self.kind("throttle").2 += 1;
                    self.score.onset_errors.push((from - t.from).abs());
                }
                first = false;
            }
        }
        self.confused("throttle", if first { "nothing" } else { "throttle" });
        if first {
            self.wrong.push(format!("throttle from {:.0} to {:.0} s: not found", t.from, t.to));
        }
    }

    /// Heat that looks like the end of a cache: what is said of its fall.
    fn lone_heat(&mut self) {
        let near = |f: &&Finding| {
            let at = f.elapsed.as_secs_f64();
            self.case.others.iter().any(|(from, _)| (at - from).abs() < 5.0)
        };
        let said: Vec<&Finding> = self.findings.iter().filter(near).collect();
        let is = |kind: FindingKind| said.iter().any(|f| f.kind == kind);
        let open = said.iter().any(|f| f.may_be.iter().any(|c| c.kind == FindingKind::Throttle));
        let (heat, cache) = (is(FindingKind::Throttle), is(FindingKind::CacheEnd));
        let n = &mut self.score.lone_heat;
        *n = (n.0 + 1, n.1 + usize::from(heat), n.2 + usize::from(!heat && open), n.3 + usize::from(cache));
    }

    fn beats(&mut self) {
        let beat = self.findings.iter().position(|f| f.kind == FindingKind::Background);
        if self.case.beats == Some(true) {
            let entry = self.kind("background");
            entry.0 += 1;
            entry.2 += usize::from(beat.is_some());
            self.confused("background", if beat.is_some() { "background" } else { "nothing" });
        }
        if let Some(i) = beat.filter(|_| self.case.beats.is_some()) {
            self.right[i] = true;
        }
    }

    /// Strangers' traffic and slow stretches.
    fn others(&mut self) {
        for (from, to) in &self.case.others {
            for (i, f) in self.findings.iter().enumerate() {
                let at = f.elapsed.as_secs_f64();
                let close = (at - from).abs() < 5.0 || (at - to).abs() < 5.0 || (*from..*to).contains(&at);
                // Unexplained is right where it names no candidates: with them it says that it is one of those.
                let fits = matches!(
                    f.kind,
                    FindingKind::Unexplained | FindingKind::OtherTraffic | FindingKind::SlowZone
                ) && f.may_be.is_empty();
                if close && (fits || !self.right[i]) {
                    self.right[i] |= fits;
                    self.confused("other", f.kind.word());
                }
            }
        }
    }

    /// Every finding by its confidence and its kind.
    fn count(&mut self) {
        for (i, f) in self.findings.iter().enumerate() {
            let right = self.right[i];
            let tenth = &mut self.score.calibration[((f.confidence * 10.0) as usize).min(9)];
            tenth.0 += 1;
            tenth.1 += usize::from(right);
            let hundredths = (f.confidence * 100.0).round() as u32;
            let fine = self.score.by_confidence.entry((f.kind.word(), hundredths)).or_default();
            fine.0 += 1;
            fine.1 += usize::from(right);
            // Parts of one throttling count once.
            let throttle = f.kind == FindingKind::Throttle;
            let before = self.findings[..i].iter().zip(&self.right);
            let again = throttle && before.clone().any(|(g, r)| g.kind == FindingKind::Throttle && *r);
            let brief = throttle && self.case.throttle.is_none() && right;
            let counts = matches!(f.kind, FindingKind::CacheEnd | FindingKind::Throttle);
            let asked = !(brief || self.perhaps[i] || again && right);
            if counts && asked {
                self.kind(f.kind.word()).1 += 1;
            }
            if f.kind == FindingKind::Background && self.case.beats != Some(false) {
                self.kind("background").1 += 1;
            }
            if !right {
                let (b, a) = (f.before.unwrap_or_default().mb_s(), f.after.unwrap_or_default().mb_s());
                let (word, gb, s) = (f.kind.word(), f.written.gb(), f.elapsed.as_secs_f64());
                self.wrong.push(format!("false {word} at {gb:.2} GB ({s:.1} s) {b:.0}→{a:.0}"));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use hollow_mile_core::quantity::units::Bytes;

    use super::super::make::TrueThrottle;
    use super::*;

    /// A haul on which nothing happened, to which a truth is given.
    fn case() -> Case {
        Case {
            words: "made".into(),
            events: Vec::new(),
            ends: Vec::new(),
            perhaps: Vec::new(),
            blind_ends: Vec::new(),
            throttle: None,
            lone_heat: false,
            throttled_briefly: false,
            others: Vec::new(),
            beats: None,
            flat: false,
        }
    }

    fn finding(kind: FindingKind, gb: u64, at_s: u64) -> Finding {
        let (written, elapsed) = (Bytes::from_gb(gb), Duration::from_secs(at_s));
        Finding {
            written,
            written_low: written,
            written_high: written,
            elapsed,
            confidence: 0.95,
            ..Finding::new(kind)
        }
    }

    fn judged(case: &Case, findings: Vec<Finding>) -> Score {
        let mut score = Score::default();
        judge(case, &Conclusions { findings, ..Conclusions::default() }, &mut score);
        score
    }

    const END: TrueEnd = TrueEnd { written: 100e9, elapsed: 50.0, ramp_s: 0.0 };

    #[test]
    fn a_cache_end_is_right_near_its_place_and_only_once() {
        let truth = Case { ends: vec![END], ..case() };
        let end = |gb, s| finding(FindingKind::CacheEnd, gb, s);
        // True, found, matched.
        for (findings, counts, wrong) in [
            (vec![end(100, 50)], (1, 1, 1), false),
            (vec![end(104, 80)], (1, 1, 1), false),
            (vec![end(120, 51)], (1, 1, 1), false),
            (vec![end(120, 90)], (1, 1, 0), true),
            (vec![], (1, 0, 0), true),
            (vec![end(100, 50), end(101, 50)], (1, 2, 1), true),
            (vec![finding(FindingKind::Throttle, 100, 50)], (1, 0, 0), true),
        ] {
            let score = judged(&truth, findings.clone());
            assert_eq!(score.kinds["cache-end"], counts, "{findings:?}");
            assert_eq!(!score.mistakes.is_empty(), wrong, "{findings:?}: {:?}", score.mistakes);
        }
        let score = judged(&truth, vec![end(102, 51)]);
        assert!((score.place_errors[0] - 0.02).abs() < 1e-9 && score.inside == 0, "{score:?}");
        assert_eq!(judged(&truth, vec![end(100, 50)]).inside, 1);
    }

    #[test]
    fn the_nearest_of_two_ends_counts_for_each() {
        let other = TrueEnd { written: 103e9, elapsed: 51.0, ramp_s: 0.0 };
        let truth = Case { ends: vec![END, other], ..case() };
        let found = vec![finding(FindingKind::CacheEnd, 103, 51), finding(FindingKind::CacheEnd, 100, 50)];
        let score = judged(&truth, found);
        assert_eq!(score.kinds["cache-end"], (2, 2, 2));
        assert!(score.place_errors.iter().all(|e| *e < 1e-9), "{:?}", score.place_errors);
    }

    #[test]
    fn throttling_told_in_parts_counts_once_and_outside_of_it_is_false() {
        let truth = Case { throttle: Some(TrueThrottle { from: 100.0, to: 300.0 }), ..case() };
        let at = |s| finding(FindingKind::Throttle, 1, s);
        assert_eq!(judged(&truth, vec![at(101)]).kinds["throttle"], (1, 1, 1));
        assert_eq!(judged(&truth, vec![at(101), at(200)]).kinds["throttle"], (1, 1, 1));
        let late = judged(&truth, vec![at(400)]);
        assert_eq!((late.kinds["throttle"], late.mistakes.len()), ((1, 1, 0), 1));
        assert_eq!(late.confusion[&("throttle", "nothing")], 1);
        let score = judged(&truth, vec![at(103)]);
        assert!((score.onset_errors[0] - 3.0).abs() < 1e-9);
        // What was too short to be asked for is no mistake, and no merit.
        let brief = Case { throttled_briefly: true, ..case() };
        let score = judged(&brief, vec![at(50)]);
        assert!(
            score.mistakes.is_empty() && score.kinds.get("throttle").is_none_or(|k| *k == (0, 0, 0)),
            "{score:?}"
        );
    }

    #[test]
    fn anything_on_a_flat_haul_is_false_but_a_beat_that_is_there() {
        let flat = Case { flat: true, ..case() };
        let score = judged(&flat, vec![finding(FindingKind::Unexplained, 1, 5)]);
        assert_eq!((score.flat, score.flat_false, score.mistakes.len()), (1, 1, 1));
        let beats = Case { flat: true, beats: Some(true), ..case() };
        let beat = vec![finding(FindingKind::Background, 1, 5)];
        let score = judged(&beats, beat.clone());
        assert_eq!((score.flat_false, score.kinds["background"]), (0, (1, 1, 1)));
        assert!(score.mistakes.is_empty(), "{:?}", score.mistakes);
        // One that may or may not be seen counts neither way; one that is not there is false.
        let maybe = Case { flat: true, beats: Some(false), ..case() };
        assert!(judged(&maybe, beat.clone()).kinds.get("background").is_none_or(|k| k.1 == 0));
        assert_eq!(judged(&flat, beat).flat_false, 1);
    }

    #[test]
    fn confidence_is_counted_with_what_was_right() {
        let truth = Case { ends: vec![END], ..case() };
        let sure = finding(FindingKind::CacheEnd, 100, 50);
        let doubtful = Finding { confidence: 0.42, ..finding(FindingKind::Unexplained, 5, 3) };
        let score = judged(&truth, vec![sure, doubtful]);
        assert_eq!((score.calibration[9], score.calibration[4]), ((1, 1), (1, 0)));
        assert_eq!(score.by_confidence[&("cache-end", 95)], (1, 1));
        assert_eq!(score.by_confidence[&("unexplained", 42)], (1, 0));
    }

    #[test]
    fn a_strangers_traffic_may_be_told_as_what_it_looks_like() {
        let truth = Case { others: vec![(100.0, 200.0)], ..case() };
        for kind in [FindingKind::OtherTraffic, FindingKind::Unexplained, FindingKind::SlowZone] {
            let score = judged(&truth, vec![finding(kind, 5, 101)]);
            assert!(score.mistakes.is_empty(), "{kind:?}: {:?}", score.mistakes);
        }
        let score = judged(&truth, vec![finding(FindingKind::CacheEnd, 5, 101)]);
        assert_eq!((score.mistakes.len(), score.confusion[&("other", "cache-end")]), (1, 1));
        assert_eq!(judged(&truth, vec![finding(FindingKind::Unexplained, 5, 300)]).mistakes.len(), 1);
    }
}
