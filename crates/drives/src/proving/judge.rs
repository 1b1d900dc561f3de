//! Compares findings with the truth.

use std::collections::BTreeMap;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::quantity::FindingKind;

use super::make::Case;

/// What is counted over many hauls.
#[derive(Debug, Clone, Default)]
pub struct Score {
    /// Hauls judged.
    pub hauls: usize,
    /// Hauls on which nothing happens but noise, and findings on them.
    pub flat: usize,
    /// Findings on flat hauls.
    pub flat_false: usize,
    /// By kind (`cache-end`, `throttle`): (true ones, found ones, matched).
    pub kinds: BTreeMap<&'static str, (usize, usize, usize)>,
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

/// Judges the conclusions of one haul.
pub fn judge(case: &Case, c: &Conclusions, score: &mut Score) {
    score.hauls += 1;
    let mut wrong: Vec<String> = Vec::new();
    if case.flat {
        score.flat += 1;
        let beat = |k: FindingKind| k == FindingKind::Background && case.beats.is_some();
        score.flat_false += c.findings.iter().filter(|f| !beat(f.kind)).count();
    }
    let mut right = vec![false; c.findings.len()];
    let mut said = vec![false; c.findings.len()];
    for end in &case.ends {
        let near = |w: f64, s: f64| (w / end.written - 1.0).abs() < 0.05 || (s - end.elapsed).abs() < 2.0;
        let at = |f: &hollow_mile_core::conclude::Finding| near(f.written.as_f64(), f.elapsed.as_secs_f64());
        // The nearest that is not taken: two levels may end close together.
        let off = |f: &hollow_mile_core::conclude::Finding| (f.written.as_f64() - end.written).abs();
        let hit = (0..c.findings.len())
            .filter(|i| !right[*i] && c.findings[*i].kind == FindingKind::CacheEnd && at(&c.findings[*i]))
            .min_by(|a, b| off(&c.findings[*a]).total_cmp(&off(&c.findings[*b])));
        let entry = score.kinds.entry("cache-end").or_default();
        entry.0 += 1;
        match hit {
            Some(i) => {
                entry.2 += 1;
                right[i] = true;
                said[i] = true;
                let f = &c.findings[i];
                score.place_errors.push((f.written.as_f64() / end.written - 1.0).abs());
                score.inside +=
                    usize::from((f.written_low.as_f64()..=f.written_high.as_f64()).contains(&end.written));
                *score.confusion.entry(("cache-end", "cache-end")).or_default() += 1;
            }
            None => {
                let other = c.findings.iter().position(at);
                let word = other.map_or("nothing", |i| {
                    said[i] = true;
                    c.findings[i].kind.word()
                });
                *score.confusion.entry(("cache-end", word)).or_default() += 1;
                wrong.push(format!(
                    "cache end at {:.2} GB ({:.1} s): {word}",
                    end.written / 1e9,
                    end.elapsed
                ));
            }
        }
    }
    if case.throttle.is_none() && case.throttled_briefly {
        // Too little to be asked for, but true.
        c.findings
            .iter()
            .zip(&mut right)
            .filter(|(f, _)| f.kind == FindingKind::Throttle)
            .for_each(|(_, r)| *r = true);
    }
    if let Some(t) = case.throttle {
        let entry = score.kinds.entry("throttle").or_default();
        entry.0 += 1;
        let mut first = true;
        for (i, f) in c.findings.iter().enumerate().filter(|(_, f)| f.kind == FindingKind::Throttle) {
            let (from, to) = (f.elapsed.as_secs_f64(), f.end_elapsed.map_or(f64::MAX, |e| e.as_secs_f64()));
            // One truth may be told in parts; each part must lie in it.
            if from > t.from - 15.0 && from < t.to + 5.0 && to > t.from {
                right[i] = true;
                said[i] = true;
                if first {
                    entry.2 += 1;
                    score.onset_errors.push((from - t.from).abs());
                }
                first = false;
            }
        }
        let word = if first { "nothing" } else { "throttle" };
        *score.confusion.entry(("throttle", word)).or_default() += 1;
        if first {
            wrong.push(format!("throttle from {:.0} to {:.0} s: not found", t.from, t.to));
        }
    }
    let beat = c.findings.iter().position(|f| f.kind == FindingKind::Background);
    if case.beats == Some(true) {
        score.kinds.entry("background").or_default().0 += 1;
        score.kinds.entry("background").or_default().2 += usize::from(beat.is_some());
        let word = if beat.is_some() { "background" } else { "nothing" };
        *score.confusion.entry(("background", word)).or_default() += 1;
    }
    if let Some(i) = beat.filter(|_| case.beats.is_some()) {
        right[i] = true;
        said[i] = true;
    }
    for (from, to) in &case.others {
        for (i, f) in c.findings.iter().enumerate() {
            let at = f.elapsed.as_secs_f64();
            let close = (at - from).abs() < 5.0 || (at - to).abs() < 5.0 || (*from..*to).contains(&at);
            if close
                && matches!(
                    f.kind,
                    FindingKind::Unexplained | FindingKind::OtherTraffic | FindingKind::SlowZone
                )
            {
                right[i] = true;
                said[i] = true;
                *score.confusion.entry(("other", f.kind.word())).or_default() += 1;
            } else if close && !right[i] {
                *score.confusion.entry(("other", f.kind.word())).or_default() += 1;
            }
        }
    }
    for (i, f) in c.findings.iter().enumerate() {
        let tenth = ((f.confidence * 10.0) as usize).min(9);
        score.calibration[tenth].0 += 1;
        score.calibration[tenth].1 += usize::from(right[i]);
        let fine =
            score.by_confidence.entry((f.kind.word(), (f.confidence * 100.0).round() as u32)).or_default();
        fine.0 += 1;
        fine.1 += usize::from(right[i]);
        // Parts of one throttling count once.
        let again = f.kind == FindingKind::Throttle
            && c.findings[..i].iter().zip(&right).any(|(g, r)| g.kind == FindingKind::Throttle && *r);
        let brief = f.kind == FindingKind::Throttle && case.throttle.is_none() && right[i];
        if matches!(f.kind, FindingKind::CacheEnd | FindingKind::Throttle) && !(again && right[i]) && !brief {
            score.kinds.entry(f.kind.word()).or_default().1 += 1;
        }
        if f.kind == FindingKind::Background && case.beats != Some(false) {
            score.kinds.entry("background").or_default().1 += 1;
        }
        if !right[i] {
            let (b, a) = (f.before.unwrap_or_default().mb_s(), f.after.unwrap_or_default().mb_s());
            wrong.push(format!(
                "false {} at {:.2} GB ({:.1} s) {b:.0}→{a:.0}",
                f.kind.word(),
                f.written.gb(),
                f.elapsed.as_secs_f64()
            ));
        }
    }
    if !wrong.is_empty() {
        score.mistakes.push(format!("{}\n      {}", case.words, wrong.join("\n      ")));
    }
}
