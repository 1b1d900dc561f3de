//! What an inquiry says, in sentences.

use super::apply::{Decision, Seen};
use super::hypotheses::CAUSES;
use super::predictions::{Observed, Prediction};
use super::{AgainstModel, Inquiry, LightFirst, Stretched};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, grouped, span_words};
use crate::record::InquiryEnd;

/// Beyond this, from one bound to the other, an effect is not told by its figure.
const UNEVEN: f64 = 4.0;

/// Ratios of likelihoods are told up to here: the tables behind them carry no further.
const MOST_TOLD: f64 = 10_000.0;
/// What makes less of a difference is not told as one.
const NOTICED: f64 = 0.05;

/// Rounded to two digits.
fn two_digits(value: f64) -> f64 {
    let unit = 10f64.powf(value.max(1.0).log10().floor() - 1.0);
    (value / unit).round() * unit
}

/// Several, as in a sentence.
fn listed(kinds: &[FindingKind]) -> String {
    kinds.iter().map(|k| cause_words(*k)).collect::<Vec<_>>().join(" and ")
}

impl Prediction {
    /// What it says of the causes, as a sentence after what was seen; nothing where it parts them in the middle.
    pub(super) fn words(&self) -> Option<String> {
        let alone: Vec<FindingKind> =
            self.likely_by.iter().filter(|c| c.len() == 1).flatten().copied().collect();
        let not: Vec<FindingKind> = CAUSES.into_iter().filter(|k| !alone.contains(k)).collect();
        let verb = |kinds: &[FindingKind]| match kinds {
            [FindingKind::SlowZone] | [_, _, ..] => "predict",
            _ => "predicts",
        };
        match (alone.len(), not.len()) {
            (0, _) if self.likely_by.is_empty() => Some(" No cause predicts that.".to_owned()),
            (0, _) => Some(match CAUSES.iter().find(|k| self.likely_by.iter().all(|c| c.contains(k))) {
                Some(kind) => format!(" Only {} beside another cause would do that.", cause_words(*kind)),
                None => " Only two causes at once would do that.".to_owned(),
            }),
            (1..=2, _) => Some(format!(" Only {} {} that.", listed(&alone), verb(&alone))),
            (_, 1..=2) => Some(format!(" That speaks against {}.", listed(&not))),
            _ => None,
        }
    }
}

/// That something was so many times as fast as something else, and what that says.
fn compared(what: &str, seen: Seen, than: &str, by: &str) -> String {
    if seen.high > UNEVEN * seen.low {
        return format!("{what} too uneven to tell.");
    }
    format!("{what} {:.2} times as fast{than} ({:.2} to {:.2}).{by}", seen.times, seen.low, seen.high)
}

/// A cause, after "it comes from".
#[must_use]
pub const fn cause_words(kind: FindingKind) -> &'static str {
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
        let causes: Vec<&str> = decision.causes.iter().map(|k| cause_words(*k)).collect();
        let what = format!("{} to {}", fall.before, fall.after);
        all.push(match (causes.as_slice(), decision.ended) {
            ([], Some(InquiryEnd::CameBack)) => {
                format!("Tried out: the fall from {what} was gone when it was looked into; it came back by itself.")
            }
            ([], Some(why)) => format!("Tried out, and not decided: {}.", why.words()),
            ([], None) => "Being tried out.".to_owned(),
            (causes, _) => format!("Tried out: the fall from {what} comes from {}.", causes.join(" and ")),
        });
        // Said of what was seen, behind it.
        let by = |seen: Observed| {
            let told = decision.predicted.iter().find(|p| p.seen == seen);
            told.and_then(Prediction::words).unwrap_or_default()
        };
        let told = [
            (decision.elsewhere, Observed::Elsewhere, "The same load in other places was", " as here"),
            (decision.reads, Observed::Reads, "Reads were", " as the load between them"),
            (decision.heavier, Observed::Heavier, "With larger blocks and more in flight it was", ""),
            (decision.workers, Observed::Workers, "By two workers it was", ""),
            (decision.compressible, Observed::Compressible, "With data that compress it was", ""),
            (
                decision.stretch,
                Observed::Stretch,
                "The stretch before the fall, written again from both ends, was",
                " as the one behind it",
            ),
            (
                decision.quiet,
                Observed::Quiet,
                "With nothing else asked of the drive the load was",
                " as with twice as much asked of it",
            ),
        ];
        let told = told.into_iter();
        all.extend(told.filter_map(|(seen, of, what, than)| Some(compared(what, seen?, than, &by(of)))));
        if let Some(c) = self.effects.cooled {
            let cooler = c.by.map_or_else(String::new, |k| format!(", {k:.0} K cooler"));
            let rest = format!("After a rest of {}{cooler},", span_words(c.rest_s));
            let told = [
                (decision.reads_cool, Observed::ReadsCool, "reads were"),
                (decision.again, Observed::Again, "the load was"),
            ];
            all.extend(told.into_iter().filter_map(|(seen, of, what)| {
                Some(compared(&format!("{rest} {what}"), seen?, " as before it", &by(of)))
            }));
            all.extend(c.lasted_s.map(|s| {
                let to = c.lost_at.map_or_else(String::new, |t| format!(", to {t}"));
                format!("That lasted {}{to}.", span_words(s))
            }));
        }
        all.extend(decision.reads_back.map(|seen| {
            compared("With the rate back, reads were", seen, " as while it was low", &by(Observed::ReadsBack))
        }));
        let how = |fell: bool| if fell { ("took", "") } else { ("had taken", ", and was still fast") };
        all.extend(self.effects.light_first.map(|LightFirst { share, fell, .. }| {
            let (held, still) = how(fell);
            format!(
                "After a second rest, with a light load first, the load {held} {share:.2} times the bytes of the first time until it fell{still}.{}",
                by(Observed::WithLight)
            )
        }));
        all.extend(self.effects.against_model.map(|AgainstModel { predicted, fast, fell }| {
            let (held, still) = how(fell);
            let [low, high] = [predicted.low, predicted.high].map(|b| Bytes::new(b as u64));
            format!(
                "The model of its cache has {low} to {high} back after the first rest; the load {held} {fast} until it fell{still}.{}",
                by(Observed::AgainstModel)
            )
        }));
        let put_in = [
            (self.effects.rested, Observed::WithRest, "a rest"),
            (self.effects.read_between, Observed::WithReads, "reads"),
        ];
        all.extend(put_in.into_iter().filter_map(|(seen, of, what)| {
            let Stretched { share, fell, .. } = seen?;
            let (held, still) = how(fell);
            Some(format!(
                "A fast stretch with {what} in it {held} {share:.2} times the bytes of one without{still}.{}",
                by(of)
            ))
        }));
        if self.effects.lighter != [0; 3] {
            let [just, about, kept] = self.effects.lighter;
            let fell = just + about;
            let times = |n: u32| if n == 1 { "once".to_owned() } else { format!("{n} times") };
            let how = match (fell, kept) {
                (n, 0) => format!("fell too, {},", times(n)),
                (0, n) => format!("did not fall, {},", times(n)),
                (f, k) => format!("fell {} and did not {}", times(f), times(k)),
            };
            all.push(format!("A load a little lighter than it keeps in the mean {how} within as many bytes as the full one.{}", by(Observed::Lighter)));
        }
        if decision.quiet.is_some_and(|q| q.low > 1.0 + NOTICED)
            && decision.causes == [FindingKind::HostLimit]
        {
            all.push("This program holds the drive back: it asks it for its health too often.".to_owned());
        }
        if causes.is_empty() {
            let left: Vec<String> = decision
                .shares
                .iter()
                .filter(|c| c.share >= 0.02)
                .map(|c| format!("{} ({:.0} %)", cause_words(c.kind), 100.0 * c.share))
                .collect();
            all.push(format!("What remains: {}.", left.join(", ")));
        }
        all.extend(decision.ratio.map(|r| {
            let times = if r > MOST_TOLD {
                format!("more than {}", grouped(MOST_TOLD as u64))
            } else {
                grouped(two_digits(r) as u64)
            };
            format!("What was seen is {times} times likelier from this cause than from any other.")
        }));
        all.push(format!(
            "It took {} and {} of reads and writes, which count in no figure.",
            span_words(decision.seconds),
            Bytes::new(decision.bytes)
        ));
        all
    }
}
