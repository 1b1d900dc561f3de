//! Readings: everything that is seen of a haul, folded from its events one by one.
//!
//! The live view, a later review, a chart and the command line all use this one fold, so what was seen live is what
//! the record says. [`Readings::conclude`] depends on nothing but the events pushed so far.

mod access;
mod columns;
mod cut;
mod expected;
mod field;
mod freight;
mod ground;
mod inquiries;
mod power;
pub mod rounds;
pub(crate) mod run;
mod scan;
mod seconds;
mod segment;
mod series;
mod sixteens;
mod thin;
mod wear;

use std::time::Duration;

use crate::drive::stamp::Mismatch;
use crate::drive::{FaultKind, Vitals};
use crate::drive::{LoadKind, LoadSummary, Pattern};
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{Event, HaulHead, HaulState, InquiryEnd, LegEnd, Sample};
use crate::record::{Step, Whose};
use crate::route::{Leg, LegKind};

pub use cut::CutLeg;
pub use field::{During, LatencyField};
pub use freight::FreightLog;
pub use ground::Ground;
pub use inquiries::{ArmReading, InquiryReading};
pub use power::{Does, Energy, MemberLoad, Meters};
pub use scan::{Bin, Grid, Scans};
pub use segment::Segmenter;
pub use series::{Column, Ruler, Series};
pub use thin::Thin;

use run::Run;
pub use seconds::Consistency;
use seconds::Seconds;

/// A leg as it went.
#[derive(Debug, Clone, PartialEq)]
pub struct LegReading {
    /// Index in the route.
    pub leg: u16,
    /// When it began.
    pub from: Duration,
    /// Bytes moved in the haul when it began.
    pub moved_before: Bytes,
    /// Bytes that experiments moved in it, beside its own.
    pub tried: Bytes,
    /// So many of its own bytes are known to have been made durable.
    pub flushed: Bytes,
    /// When and why it ended, with flush time and latency histogram.
    pub ended: Option<(Duration, LegEnd, LoadSummary)>,
}

/// A step of a leg as it went.
#[derive(Debug, Clone, PartialEq)]
pub struct StepReading {
    /// The leg it belongs to.
    pub leg: u16,
    /// What was done.
    pub step: Step,
    /// When it began.
    pub from: Duration,
    first: usize,
    past: Option<usize>,
    /// When it ended, with its latency histogram.
    pub ended: Option<(Duration, LoadSummary)>,
}

impl StepReading {
    /// Its samples, of a series that has so many.
    #[must_use]
    pub fn samples(&self, len: usize) -> std::ops::Range<usize> {
        self.first..self.past.unwrap_or(len)
    }

    /// Latency of all its operations, (ns, count), once it is over.
    #[must_use]
    pub fn histogram(&self) -> Option<&[(u64, u64)]> {
        self.ended.as_ref().map(|(_, s)| s.histogram.as_slice())
    }
}

/// A fault as it was reported.
#[derive(Debug, Clone, PartialEq)]
pub struct FaultReading {
    /// Since the haul began.
    pub at: Duration,
    /// Where on the drive.
    pub position: Option<Bytes>,
    /// Of what kind.
    pub kind: FaultKind,
    /// In a sentence.
    pub message: String,
}

/// The readings of one sensor or thermometer beside the drive's own temperature.
#[derive(Debug, Clone)]
pub struct TemperatureLane {
    /// Its name.
    pub name: String,
    /// When, and what it said.
    pub readings: Vec<(Duration, Celsius)>,
}

/// From one reading to the next a drive's temperature changes by no more than this, K, and so much for each second between them.
const JUMP_K: f64 = 35.0;
const JUMP_K_PER_S: f64 = 2.0;

/// Readings that no drive has: what broken sensors, and bridges that answer nonsense, say.
#[must_use]
fn is_nonsense(t: Celsius) -> bool {
    !(-55.0..=150.0).contains(&t.degrees())
}

/// The fold over a haul's events.
#[derive(Debug, Clone, Default)]
pub struct Readings {
    head: Option<Box<HaulHead>>,
    pub(crate) series: Series,
    ground: Ground,
    pub(crate) runs: Vec<Run>,
    run_open: bool,
    /// Samples before which the leg flushed: the queue ran empty for it.
    pub(crate) flushes: Vec<usize>,
    pub(crate) seconds: Seconds,
    legs: Vec<LegReading>,
    steps: Vec<StepReading>,
    scans: Scans,
    mismatches: Vec<(Duration, Mismatch)>,
    notes: Vec<(Duration, String)>,
    faults: Vec<FaultReading>,
    vitals: Vec<(Duration, Vitals)>,
    temperatures: Vec<TemperatureLane>,
    meters: Meters,
    latencies: LatencyField,
    lookout: LatencyField,
    freight: FreightLog,
    inquiries: Vec<InquiryReading>,
    /// The next run begins where an inquiry ended.
    after_inquiry: bool,
    paused: bool,
    written_since_rest: u64,
    written: Bytes,
    read: Bytes,
    errors: u64,
    /// Longest time of an operation under load, µs.
    longest_us: u32,
    /// Temperatures that no drive has, left out.
    pub(crate) nonsense: u64,
    last: Option<Sample>,
    /// The newest temperature that was believed, and when it was read.
    felt: Option<(Duration, f64)>,
    ended: Option<(Duration, HaulState, Option<String>)>,
}

impl Readings {
    /// Of nothing yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes the next event.
    pub fn push(&mut self, event: &Event) {
        match event {
            Event::HaulStarted(head) => {
                self.ground = Ground::new(head.drive.capacity);
                self.head = Some(head.clone());
            }
            Event::LegStarted { at, leg } => {
                self.paused = false;
                self.meters.turn();
                self.legs.push(LegReading {
                    leg: *leg,
                    from: *at,
                    moved_before: self.written + self.read,
                    tried: Bytes::ZERO,
                    flushed: Bytes::ZERO,
                    ended: None,
                });
                self.begin_leg(*leg);
            }
            Event::Sample(sample) => self.push_sample(sample),
            Event::Latencies(latencies) => {
                let begin = latencies.end.saturating_sub(latencies.span).as_secs_f64();
                let before = self.series.between(Ruler::Elapsed, 0.0, begin).end;
                let before = before.checked_sub(1).map_or(0, |last| self.series.moved(last));
                let moved = [Bytes::new(before), self.written + self.read];
                let during = match self.leg_kind(latencies.leg) {
                    _ if self.paused => During::Rest,
                    _ if self.in_inquiry() => During::Other,
                    LegKind::Rest => During::Rest,
                    kind if kind.moves() => During::Load,
                    _ => During::Other,
                };
                let field = match latencies.whose {
                    Whose::Load => &mut self.latencies,
                    Whose::Lookout => &mut self.lookout,
                };
                field.push(latencies, moved, during);
            }
            Event::Freight(second) => self.freight.push(second),
            Event::Vitals { at, vitals } => self.vitals.push((*at, (**vitals).clone())),
            Event::Temperatures { at, readings } => {
                for (name, value) in readings {
                    match self.temperatures.iter_mut().find(|l| l.name == *name) {
                        Some(lane) => lane.readings.push((*at, *value)),
                        None => {
                            let readings = vec![(*at, *value)];
                            self.temperatures.push(TemperatureLane { name: name.clone(), readings });
                        }
                    }
                }
            }
            Event::Meters { at, readings } => {
                let leg = self.legs.last().map_or(0, |l| l.leg);
                let does = match self.leg_kind(leg) {
                    _ if self.paused => Does::Rest,
                    _ if self.in_inquiry() => Does::Other,
                    LegKind::Rest => Does::Rest,
                    kind if kind.moves() => Does::Load,
                    _ => Does::Other,
                };
                self.meters.push(*at, readings, does, leg, (self.written + self.read).get());
            }
            Event::Fault { at, position, kind, message } => {
                // Records of before the kind was stated have it in the message alone.
                let kind = match *kind {
                    FaultKind::Failed if message.contains("second try alone succeeded") => {
                        FaultKind::Recovered
                    }
                    FaultKind::Failed if message.starts_with("the drive warns: ") => FaultKind::Warning,
                    FaultKind::Failed if position.is_none() => FaultKind::Drive,
                    stated => stated,
                };
                let (position, message) = (*position, message.clone());
                self.faults.push(FaultReading { at: *at, position, kind, message });
            }
            Event::StepStarted { at, leg, step } => {
                self.run_open = false;
                self.scans.begin(*leg, step);
                self.steps.push(StepReading {
                    leg: *leg,
                    step: (**step).clone(),
                    from: *at,
                    first: self.series.len(),
                    past: None,
                    ended: None,
                });
            }
            Event::StepEnded { at, summary, .. } => {
                self.scans.end();
                if let Some(open) = self.steps.last_mut().filter(|s| s.ended.is_none()) {
                    open.past = Some(self.series.len());
                    open.ended = Some((*at, summary.clone()));
                }
            }
            Event::Flushed { leg, .. } => {
                self.flushes.push(self.series.len());
                self.flushed(*leg);
            }
            Event::Mismatch { at, found } => self.push_mismatch(*at, *found),
            Event::Note { at, text } => self.notes.push((*at, text.clone())),
            Event::Paused { .. } => {
                self.paused = true;
                self.meters.turn();
                self.run_open = false;
            }
            Event::Resumed { .. } => {
                self.paused = false;
                self.meters.turn();
            }
            Event::InquiryStarted { at, leg, fall } => {
                self.run_open = false;
                self.meters.turn();
                self.inquiries.push(InquiryReading::new(*leg, (**fall).clone(), *at));
            }
            Event::ArmStarted { at, arm, .. } => {
                let sample = self.series.len();
                if let Some(open) = self.inquiries.last_mut().filter(|i| i.ended.is_none()) {
                    open.begin(*arm, *at, sample);
                }
            }
            Event::ArmEnded { at, .. } => {
                let sample = self.series.len();
                if let Some(open) = self.inquiries.last_mut().filter(|i| i.ended.is_none()) {
                    open.end_arm(*at, sample);
                }
            }
            Event::InquiryEnded { at, why, .. } => self.end_inquiry(*at, *why),
            Event::LegEnded { at, leg, why, summary } => {
                self.end_inquiry(*at, InquiryEnd::Interrupted);
                if summary.flush.is_some() {
                    self.flushed(*leg);
                }
                if let Some(open) = self.legs.iter_mut().rev().find(|l| l.leg == *leg && l.ended.is_none()) {
                    open.ended = Some((*at, *why, summary.clone()));
                }
            }
            Event::HaulEnded { at, state, reason } => self.ended = Some((*at, *state, reason.clone())),
        }
    }

    /// What is moved now belongs to an experiment, and to no figure of the load.
    fn in_inquiry(&self) -> bool {
        self.inquiries.last().is_some_and(|i| i.ended.is_none())
    }

    fn end_inquiry(&mut self, at: Duration, why: InquiryEnd) {
        let sample = self.series.len();
        if let Some(open) = self.inquiries.last_mut().filter(|i| i.ended.is_none()) {
            open.end_arm(at, sample);
            open.ended = Some((at, why));
            self.after_inquiry = true;
            self.meters.turn();
        }
    }

    fn flushed(&mut self, leg: u16) {
        let Some(place) = self.legs.iter().rposition(|l| l.leg == leg && l.ended.is_none()) else { return };
        self.legs[place].flushed = self.moved_in(place);
    }

    /// A stretch that goes on where the last one ended belongs to it.
    fn push_mismatch(&mut self, at: Duration, found: Mismatch) {
        let mut all: Vec<Mismatch> = self.mismatches.last().map(|(_, m)| *m).into_iter().collect();
        let before = all.len();
        Mismatch::join(&mut all, found);
        match (self.mismatches.last_mut(), all.len() == before) {
            (Some(last), true) => last.1 = all[0],
            _ => self.mismatches.push((at, found)),
        }
    }

    pub(crate) fn leg(&self, leg: u16) -> Option<&Leg> {
        self.head.as_ref()?.route.legs.get(usize::from(leg))
    }

    fn leg_kind(&self, leg: u16) -> LegKind {
        self.leg(leg).map_or(LegKind::Write, |l| l.kind)
    }

    /// The step that was under way at a sample.
    pub(crate) fn step_at(&self, sample: usize) -> Option<&StepReading> {
        let after = self.steps.partition_point(|s| s.first <= sample);
        self.steps.get(after.checked_sub(1)?).filter(|s| s.samples(usize::MAX).contains(&sample))
    }

    /// A leg that goes on as the one before did belongs to the same run.
    fn begin_leg(&mut self, leg: u16) {
        let legs = self.head.as_ref().map(|h| h.route.legs.as_slice()).unwrap_or_default();
        let i = usize::from(leg);
        let same = i > 0
            && legs.get(i - 1).zip(legs.get(i)).is_some_and(|(a, b)| {
                let until = b.until;
                b.kind.is_plain_load() && Leg { until, ..a.clone() } == *b
            });
        self.run_open &= same;
    }

    fn push_sample(&mut self, sample: &Sample) {
        let kind = self.leg_kind(sample.leg);
        let loaded = kind.moves() && !self.paused && !self.in_inquiry();
        let moved = (sample.written + sample.read).as_f64();
        let mut kept = sample.clone();
        if let Some(t) = kept.temperature {
            // No drive warms or cools so fast: a reading that contradicts the ones before says nothing.
            let jumps = self.felt.is_some_and(|(at, before)| {
                let seconds = kept.end.saturating_sub(at).as_secs_f64();
                (t.degrees() - before).abs() > JUMP_K + JUMP_K_PER_S * seconds
            });
            if is_nonsense(t) || jumps {
                kept.temperature = None;
                self.nonsense += 1;
            } else {
                self.felt = Some((kept.end, t.degrees()));
            }
        }
        let sample = &kept;
        self.series.push(sample, loaded);
        let open = self.steps.last().filter(|s| s.ended.is_none());
        let backward = open.is_some_and(|s| s.step.pattern == Pattern::Backward)
            || self.leg(sample.leg).is_some_and(|l| l.pattern == Pattern::Backward);
        if !self.in_inquiry() {
            self.ground.push(sample, backward);
        }
        if loaded {
            self.scans.push(sample);
        }
        if let Some(latency) = sample.latency.filter(|_| loaded) {
            self.longest_us = self.longest_us.max(latency.max_us);
        }
        if let Some(t) = sample.temperature {
            self.seconds.feel(t.degrees());
        }
        if kind == LegKind::Freight {
            // Its rate changes with the files that come: what it says of the drive is told by its own survey.
            self.run_open = false;
        } else if loaded {
            if !self.run_open {
                let load = match (self.steps.last().filter(|s| s.ended.is_none()), kind) {
                    (Some(s), _) if s.step.load == LoadKind::Write => LoadKind::Write,
                    (Some(_), _) | (None, LegKind::Read) => LoadKind::Read,
                    (None, LegKind::Mixed) => LoadKind::Mixed,
                    (None, _) => LoadKind::Write,
                };
                let mut run = Run::new(load, self.series.len() - 1, self.written_since_rest);
                let begin = sample.end.saturating_sub(sample.span).as_secs_f64();
                run.rested_s =
                    self.runs.last().map(|r| (begin - self.series.end_s(r.past().max(1) - 1)).max(0.0));
                run.after_inquiry = std::mem::take(&mut self.after_inquiry);
                // What a sample tells is how it stood at its end; the write began with what was before.
                run.fill_ppm = self.last.as_ref().and_then(|s| s.fill_ppm).or(sample.fill_ppm);
                run.pace = self.pace(sample.leg);
                self.runs.push(run);
                self.run_open = true;
                self.seconds.restart();
            }
            self.seconds.push(moved, sample.span.as_secs_f64(), sample.end.as_secs_f64());
            let before_first = self.fill_before_first(sample);
            if let Some(run) = self.runs.last_mut() {
                run.fill_ppm = before_first.or(run.fill_ppm);
                run.extend(&self.series);
            }
            self.written_since_rest = self.written_since_rest.saturating_add(sample.written.get());
        } else {
            self.run_open = false;
            self.written_since_rest = 0;
        }
        self.written += sample.written;
        self.read += sample.read;
        if self.in_inquiry()
            && let Some(open) = self.legs.last_mut()
        {
            open.tried += sample.written + sample.read;
        }
        self.errors += u64::from(sample.errors);
        self.last = Some(kept);
    }

    /// How full the drive was before the first sample of the record, once the second is here: it rose by as much for each byte.
    fn fill_before_first(&self, second: &Sample) -> Option<u32> {
        let first = self.last.as_ref().filter(|_| self.series.len() == 2 && self.runs.len() == 1)?;
        let (one, two) = (f64::from(first.fill_ppm?), f64::from(second.fill_ppm?));
        let share = first.written.as_f64() / second.written.as_f64();
        share.is_finite().then(|| (one - (two - one) * share).clamp(0.0, one) as u32)
    }

    /// The rate that the load under way may not exceed, bytes per second, and the bytes of one operation.
    fn pace(&self, leg: u16) -> Option<(f64, f64)> {
        if let Some(step) = self.steps.last().filter(|s| s.ended.is_none()) {
            return step.step.rate.map(|r| (r.get(), step.step.block.as_f64()));
        }
        let leg = self.leg(leg)?;
        Some((leg.rate?.get(), leg.block.as_f64()))
    }

    /// How many rounds of a minute up to now lie inside the bounds of a steady state after SNIA PTS, five at most; `None` before
    /// the first round of the newest load is over.
    #[must_use]
    pub fn steady_rounds(&self) -> Option<u8> {
        self.seconds.steady_rounds(self.seconds.newest())
    }

    /// The length of a ruler: seconds so far, bytes moved so far, or the capacity of the drive.
    #[must_use]
    pub fn extent(&self, ruler: Ruler) -> f64 {
        match ruler {
            Ruler::Position => self.head.as_ref().map_or(0.0, |h| h.drive.capacity.as_f64()),
            _ => self.series.extent(ruler),
        }
    }

    /// What lies between two places on a ruler, in `columns` equal parts.
    #[must_use]
    pub fn columns(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Column> {
        match ruler {
            Ruler::Position => self.ground.columns(from, to, columns),
            _ => self.series.columns(ruler, from, to, columns),
        }
    }

    /// The place of a moment on a ruler; `None` where it has none (a rest has no address).
    #[must_use]
    pub fn place_of(&self, ruler: Ruler, at: Duration) -> Option<f64> {
        if ruler == Ruler::Elapsed {
            return Some(at.as_secs_f64());
        }
        let i = self.series.index_at(at).min(self.series.len().checked_sub(1)?);
        match ruler {
            Ruler::Position => self.series.position(i).map(Bytes::as_f64),
            _ => Some(self.series.moved(i) as f64),
        }
    }
}
