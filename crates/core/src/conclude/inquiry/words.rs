//! What an inquiry says, in sentences.

use super::Inquiry;
use super::apply::{Decision, Seen};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, span_words};
use crate::record::InquiryEnd;

/// Beyond this, from one bound to the other, an effect is not told by its figure.
const UNEVEN: f64 = 4.0;

/// That something was so many times as fast as something else.
fn compared(what: &str, seen: Seen, than: &str) -> String {
    if seen.high > UNEVEN * seen.low {
        return format!("{what} too uneven to tell.");
    }
    format!("{what} {:.2} times as fast{than} ({:.2} to {:.2}).", seen.times, seen.low, seen.high)
}

const fn cause(kind: FindingKind) -> &'static str {
    match kind {
        FindingKind::CacheEnd => "the end of the cache",
        FindingKind::Throttle => "heat",
        FindingKind::SlowZone => "slow addresses",
        FindingKind::HostLimit => "this machine or the link",
        FindingKind::Background => "something that comes and goes by itself",
        _ => "something else",
    }
}

impl Inquiry<'_> {
    /// What was tried and what came of it; the verdict first.
    #[must_use]
    pub fn sentences(&self, decision: &Decision) -> Vec<String> {
        let fall = &self.reading.fall;
        let mut all = Vec::new();
        if self.effects.arms.is_empty() {
            return all;
        }
        let causes: Vec<&str> = decision.causes.iter().map(|k| cause(*k)).collect();
        let what = format!("{} to {}", fall.before, fall.after);
        all.push(match (causes.as_slice(), decision.ended) {
            ([], Some(InquiryEnd::CameBack)) => {
                format!("Tried out: the fall from {what} was gone when it was looked into; it came back by itself.")
            }
            ([], Some(why)) => format!("Tried out, and not decided: {}.", why.words()),
            ([], None) => "Being tried out.".to_owned(),
            (causes, _) => format!("Tried out: the fall from {what} comes from {}.", causes.join(" and ")),
        });
        let told = [
            (decision.elsewhere, "The same load in other places was", " as here"),
            (decision.reads, "Reads were", " as the load between them"),
            (decision.heavier, "With larger blocks and more in flight it was", ""),
        ];
        all.extend(told.into_iter().filter_map(|(seen, what, than)| Some(compared(what, seen?, than))));
        if let Some(c) = self.effects.cooled {
            let by = c.by.map_or_else(String::new, |k| format!(", {k:.0} K cooler"));
            let rest = format!("After a rest of {}{by},", span_words(c.rest_s));
            let told = [(decision.reads_cool, "reads were"), (decision.again, "the load was")];
            all.extend(told.into_iter().filter_map(|(seen, what)| {
                Some(compared(&format!("{rest} {what}"), seen?, " as before it"))
            }));
            all.extend(c.lasted_s.map(|s| {
                let to = c.lost_at.map_or_else(String::new, |t| format!(", to {t}"));
                format!("That lasted {}{to}.", span_words(s))
            }));
        }
        all.extend(self.effects.falls_when_lighter.map(|falls| {
            let fell = if falls { "fell too," } else { "did not fall" };
            format!("A load a little lighter than it keeps in the mean {fell} within as many bytes as the full one.")
        }));
        if causes.is_empty() {
            let left: Vec<String> = decision
                .shares
                .iter()
                .filter(|c| c.share >= 0.02)
                .map(|c| format!("{} ({:.0} %)", cause(c.kind), 100.0 * c.share))
                .collect();
            all.push(format!("What remains: {}.", left.join(", ")));
        }
        all.push(format!(
            "It took {} and {} of reads and writes, which count in no figure.",
            span_words(decision.seconds),
            Bytes::new(decision.bytes)
        ));
        all
    }
}
