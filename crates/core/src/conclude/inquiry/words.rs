//! What an inquiry says, in sentences.

use super::apply::{Decision, Seen, rates};
use super::{Hypothesis, Inquiry};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, span_words};
use crate::record::InquiryEnd;

/// Beyond this, from one bound to the other, an effect is not told by its figure.
const UNEVEN: f64 = 4.0;

fn times(seen: Seen) -> String {
    if seen.high > UNEVEN * seen.low {
        return "too uneven to tell".into();
    }
    format!("{:.2} times as fast ({:.2} to {:.2})", seen.times, seen.low, seen.high)
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
        let what = rates(fall.before, fall.after);
        all.push(match (causes.as_slice(), decision.ended) {
            ([], Some(InquiryEnd::CameBack)) => {
                format!("Tried out: the fall from {what} was gone when it was looked into; it came back by itself.")
            }
            ([], Some(why)) => format!("Tried out, and not decided: {}.", why.words()),
            ([], None) => "Being tried out.".to_owned(),
            (causes, _) => format!("Tried out: the fall from {what} is {}.", causes.join(", and ")),
        });
        if let Some(seen) = decision.elsewhere {
            all.push(format!("The same load in other places was {}.", times(seen)));
        }
        if let Some(seen) = decision.reads {
            all.push(format!("Reads, against the load between them, were {}.", times(seen)));
        }
        if let Some(seen) = decision.heavier {
            all.push(format!("With larger blocks and more in flight it was {}.", times(seen)));
        }
        if let Some(c) = self.effects.cooled {
            let by = c.by.map_or_else(String::new, |k| format!(", {k:.0} K cooler"));
            let rest = format!("After a rest of {}{by}", span_words(c.rest_s));
            if let Some(seen) = decision.reads_cool {
                all.push(format!("{rest}, reads were {}, against those before it.", times(seen)));
            }
            if let Some(seen) = decision.again {
                let lasted = match (c.lasted_s, c.lost_at) {
                    (Some(s), Some(t)) => format!("; that lasted {}, to {t}", span_words(s)),
                    (Some(s), None) => format!("; that lasted {}", span_words(s)),
                    (None, _) => String::new(),
                };
                all.push(format!("{rest}, the load was {}, against before it{lasted}.", times(seen)));
            }
        }
        all.extend(self.effects.falls_when_lighter.map(|falls| {
            let not = if falls { "too" } else { "not" };
            format!("A load a little lighter than it keeps in the mean fell {not} within as many bytes as the full one.")
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

impl Hypothesis {
    /// As said of a fall.
    #[must_use]
    pub fn words(self) -> String {
        self.causes().iter().map(|k| cause(*k)).collect::<Vec<_>>().join(", and ")
    }
}
