//! What freight legs say: what a file, a byte and a folder cost, what was waited for, and where the machine's memory was full.

mod costs;
mod waiting;
mod write_back;

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::conclude::Finding;
use crate::drive::freight::{Carry, Freighted, Side, class_sizes};
use crate::quantity::units::{Bytes, Rate, grouped, latency, span_words};
use crate::quantity::waited_for::{WaitedFor, Waiting};
use crate::quantity::{FindingKind, mb_s};
use crate::readings::{LegReading, Readings};
use crate::record::FreightSecond;

pub use costs::Costs;
pub use waiting::held_up;
pub use write_back::WriteBack;

/// How long files of about one size took.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SizeClass {
    /// Smallest size of the class, bytes.
    pub from: u64,
    /// First size past it.
    pub to: u64,
    /// How many files.
    pub files: u64,
    /// Their mean size, bytes.
    pub mean_bytes: f64,
    /// What one took of its thread's time, s.
    pub each_s: f64,
    /// Of that, what it took to make, open, close or remove it, s.
    pub metadata_s: f64,
}

/// What a freight leg says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FreightLeg {
    /// Index in the route.
    pub leg: u16,
    /// What was done.
    pub carry: Carry,
    /// Where.
    pub side: Side,
    /// Files that were done with.
    pub files: u64,
    /// Folders that were made or removed.
    pub folders: u64,
    /// Bytes in these files.
    pub bytes: Bytes,
    /// Files at once.
    pub threads: u32,
    /// Time until the last file was done with, s.
    pub returned_s: f64,
    /// Time until all was durable, s; `None` where that was not asked for.
    pub durable_s: Option<f64>,
    /// Bytes over the time to durable, or to the last file where that was not asked for.
    #[serde(rename = "rate_mb_s", with = "mb_s::maybe")]
    pub rate: Option<Rate>,
    /// What a file, a byte and a folder cost.
    pub costs: Option<Costs>,
    /// What was waited for, most first.
    pub waits: Vec<Waiting>,
    /// What held it up, where one thing did.
    pub bottleneck: Option<Waiting>,
    /// Bytes that the block layer wrote over those in the files.
    pub amplification: Option<f64>,
    /// Where the machine's memory was full of data that was still to be written.
    pub write_back: Option<WriteBack>,
    /// Files by size, the smallest first.
    pub sizes: Vec<SizeClass>,
}

/// What all freight legs say.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct FreightSurvey {
    /// Leg by leg.
    pub legs: Vec<FreightLeg>,
}

/// Of a record; `None` where no files were moved.
#[must_use]
pub fn survey(readings: &Readings) -> Option<FreightSurvey> {
    if readings.freight().is_empty() {
        return None;
    }
    let legs = readings.legs().iter().filter_map(|leg| of_leg(readings, leg)).collect();
    Some(FreightSurvey { legs })
}

fn of_leg(readings: &Readings, reading: &LegReading) -> Option<FreightLeg> {
    let leg = readings.leg(reading.leg)?;
    let seconds = readings.freight().of_leg(reading.leg);
    let all = sum(seconds)?;
    let bytes: Bytes = all.classes.values().fold(Bytes::ZERO, |sum, c| sum + c.bytes);
    let flush = reading.ended.as_ref().and_then(|e| e.2.flush);
    let returned_s: f64 = seconds.iter().map(|s| s.span.as_secs_f64()).sum();
    let durable_s = flush.map(|f| returned_s + f.as_secs_f64());
    let moves = leg.carry != Carry::Delete && bytes > Bytes::ZERO;
    let rate = moves.then(|| Rate::new(bytes.as_f64() / durable_s.unwrap_or(returned_s).max(1e-9)));
    let waits = waiting::of(seconds, leg.carry, flush);
    // What is still in memory when the leg ends is written after it: nothing can be said of what the block layer wrote.
    let settled = leg.carry.makes() && durable_s.is_some() && leg.until.duration.is_none();
    let amplification = all.device_written.filter(|w| settled && *w > Bytes::ZERO && bytes > Bytes::ZERO);
    let sizes = all.classes.iter().filter(|(_, c)| c.files > 0).map(|(class, c)| {
        let (from, to) = class_sizes(*class);
        let n = c.files as f64;
        let (each_s, metadata_s) = (c.took.as_secs_f64() / n, c.metadata.as_secs_f64() / n);
        SizeClass { from, to, files: c.files, mean_bytes: c.bytes.as_f64() / n, each_s, metadata_s }
    });
    Some(FreightLeg {
        leg: reading.leg,
        carry: leg.carry,
        side: leg.at,
        files: all.files,
        folders: all.folders,
        bytes,
        threads: all.threads,
        returned_s,
        durable_s,
        rate,
        costs: costs::of(seconds),
        bottleneck: waiting::bottleneck(&waits),
        waits,
        amplification: amplification.map(|w| w.as_f64() / bytes.as_f64()),
        write_back: leg.carry.makes().then(|| write_back::of(readings, seconds)).flatten(),
        sizes: sizes.collect(),
    })
}

/// All that was done in some seconds; `None` of none.
fn sum(seconds: &[FreightSecond]) -> Option<Freighted> {
    let (first, rest) = seconds.split_first()?;
    let mut all = first.done.clone();
    rest.iter().for_each(|s| all.add(&s.done));
    Some(all)
}

impl WaitedFor {
    /// As a thing that holds files up, on a haul with one drive or with two.
    #[must_use]
    pub const fn words(self, carry: Carry, side: Side) -> &'static str {
        match (self, carry, side) {
            (Self::Source, ..) | (Self::Target, _, Side::Source) => "the source",
            (Self::Target, Carry::Copy, _) => "the target",
            (Self::Target, ..) => "the drive",
            (Self::FileSystem, ..) => "the file system's own work",
            (Self::Machine, ..) => "this machine",
            (Self::SmallFiles, ..) => "the fixed cost of each file",
        }
    }
}

impl FreightLeg {
    /// What holds this leg up, in words.
    #[must_use]
    pub const fn words(&self, on: WaitedFor) -> &'static str {
        on.words(self.carry, self.side)
    }

    /// The answer in sentences, the most telling first.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let done = match self.carry {
            Carry::Write => "written",
            Carry::Read => "read",
            Carry::Copy => "copied",
            Carry::Delete => "deleted",
        };
        let rate = self.rate.map(|r| format!(", {r}")).unwrap_or_default();
        let time = match self.durable_s {
            Some(durable) if durable - self.returned_s > 0.01 * durable => {
                format!("{} to return, {} to durable", span_words(self.returned_s), span_words(durable))
            }
            _ => span_words(self.durable_s.unwrap_or(self.returned_s)),
        };
        let files = if self.files == 1 { "file" } else { "files" };
        let mut all =
            vec![format!("{} {files}, {} {done} in {time}{rate}.", grouped(self.files), self.bytes)];
        all.extend(self.bottleneck.map(|b| {
            let what = self.words(b.on);
            let (head, tail) = what.split_at(1);
            let less = b.share * 100.0;
            format!(
                "{}{tail} held it up: without that it would take {less:.0} % less time.",
                head.to_uppercase()
            )
        }));
        if let ([first, next, ..], None) = (&self.waits[..], self.bottleneck) {
            let words = |w: &Waiting| {
                format!("without {} it would take {:.0} % less time", self.words(w.on), w.share * 100.0)
            };
            all.push(format!("No one thing held it up: {}, {}.", words(first), words(next)));
        }
        all.extend(self.costs.as_ref().and_then(|c| c.sentence()));
        all.extend(self.write_back.as_ref().map(WriteBack::sentence));
        all.extend(self.amplification.map(|a| {
            format!(
                "The block layer wrote {a:.2} times the bytes in the files: journal, folders, attributes."
            )
        }));
        all
    }
}

/// What was found, told as findings of their own.
#[must_use]
pub fn findings(readings: &Readings, survey: &FreightSurvey) -> Vec<Finding> {
    let mut all = Vec::new();
    for leg in &survey.legs {
        let Some(reading) = readings.legs().iter().find(|l| l.leg == leg.leg) else { continue };
        let end = reading.ended.as_ref().map(|e| e.0);
        let place = |kind, at: Duration| {
            let written = Bytes::new(readings.series().written_at(at));
            Finding {
                elapsed: at,
                written,
                written_low: written,
                written_high: written,
                ..Finding::new(kind)
            }
        };
        if let Some(waits) = leg.bottleneck {
            all.push(Finding {
                end_elapsed: end,
                waits_for: Some(waits),
                confidence: waiting::confidence(&waits),
                evidence: evidence(leg),
                ..place(FindingKind::Bottleneck, reading.from)
            });
        }
        if let Some(full) = &leg.write_back {
            all.push(Finding {
                before: Some(full.before),
                after: Some(full.after),
                confidence: 0.95,
                evidence: full.evidence(),
                ..place(FindingKind::WriteBack, Duration::from_secs_f64(full.at_s))
            });
        }
    }
    all
}

fn evidence(leg: &FreightLeg) -> Vec<String> {
    let shares: Vec<String> = leg
        .waits
        .iter()
        .filter(|w| w.share >= 0.005)
        .map(|w| {
            let percent = |v: f64| (v * 100.0).round();
            let known = if w.high - w.low < 1.0 {
                format!(" ({:.0} to {:.0})", percent(w.low), percent(w.high))
            } else {
                String::new()
            };
            format!("without {}: {:.0} %{known}", leg.words(w.on), w.share * 100.0)
        })
        .collect();
    let mut all = vec![format!("Time saved {}.", shares.join("; "))];
    all.extend(leg.costs.as_ref().and_then(|c| c.sentence()));
    let mean = leg.bytes.as_f64() / leg.files.max(1) as f64;
    if let Some((small, large)) = leg.sizes.first().zip(leg.sizes.last()).filter(|(a, b)| a.from != b.from) {
        let each = |s: &SizeClass| latency(Duration::from_secs_f64(s.each_s));
        let size = |s: &SizeClass| Bytes::new(s.mean_bytes as u64);
        all.push(format!(
            "A file of {} took {}, one of {} took {}.",
            size(small),
            each(small),
            size(large),
            each(large)
        ));
    } else if mean > 0.0 {
        all.push(format!("The files have {} in the mean.", Bytes::new(mean as u64)));
    }
    all
}

impl FreightSurvey {
    /// The leg that tells most: a copy, or else the first that writes.
    fn first(&self) -> Option<&FreightLeg> {
        let copy = self.legs.iter().find(|l| l.carry == Carry::Copy);
        copy.or_else(|| self.legs.iter().find(|l| l.carry.makes())).or_else(|| self.legs.first())
    }

    /// What is said first: how fast the first tree went, what held it up, what files cost.
    #[must_use]
    pub fn headline(&self) -> Vec<String> {
        self.first().map(|l| l.sentences().into_iter().take(3).collect()).unwrap_or_default()
    }

    /// The answers in sentences, the leg that tells most first.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let first = self.first();
        let others = self.legs.iter().filter(|l| Some(l.leg) != first.map(|f| f.leg));
        first.into_iter().chain(others).flat_map(FreightLeg::sentences).collect()
    }
}

#[cfg(test)]
mod tests;
