//! Findings and figures of a haul in lines.

use hollow_mile_core::conclude::{Conclusions, Figures};
use hollow_mile_core::quantity::units::span_words;
use hollow_mile_core::readings::Consistency;

/// The figures in lines: how fast and how even, in all and after the cache end.
#[must_use]
pub fn figures(f: &Figures) -> Vec<String> {
    let mut out = Vec::new();
    let even = |c: &Consistency| {
        format!(
            "mean {}, worst second {}, p1 {}, p99 {}, varies by {:.1} %, longest stall {}",
            c.mean,
            c.worst_second,
            c.p1,
            c.p99,
            c.variation * 100.0,
            span_words(c.longest_stall_s)
        )
    };
    out.extend(f.whole().map(|c| format!("whole: {}.", even(&c))));
    out.extend(f.after_cache.as_ref().map(|c| format!("after the cache end: {}.", even(c))));
    out.extend(f.grain_s.map(|s| {
        let stall = f
            .longest_stall_at_most_s
            .map_or_else(String::new, |m| format!(", and the longest stall as long as {}", span_words(m)));
        format!("A sample is {} long: the worst second may be slower than that{stall}.", span_words(s))
    }));
    out.extend(steady(f));
    out
}

/// How steady it is, in a sentence; `None` before the first round is over.
#[must_use]
pub fn steady(f: &Figures) -> Option<String> {
    let rounds = f.steady_rounds?;
    Some(match f.steady {
        Some(s) if s.reached => format!(
            "steady: 5 of 5 rounds inside (excursion {:.1} %, slope {:.1} %).",
            s.excursion * 100.0,
            s.slope * 100.0
        ),
        _ => format!("not steady: {rounds} of 5 rounds inside."),
    })
}

/// All findings with their evidence, for the command line.
#[must_use]
pub fn findings(c: &Conclusions) -> String {
    if c.findings.is_empty() {
        return "No findings.".into();
    }
    let mut lines = Vec::new();
    for (i, f) in c.findings.iter().enumerate() {
        lines.push(format!(
            "{}  {}",
            hollow_mile_charts::lanes::letter(i),
            hollow_mile_charts::lanes::finding_line(f)
        ));
        lines.extend(f.evidence.iter().map(|e| format!("   - {e}")));
    }
    lines.join("\n")
}
