//! The runner: steps a route against a drive, one interval at a time, and says what happened as events.
//!
//! It has no clock and does no I/O of its own. The drive tells how much time has passed; whoever calls
//! [`Haul::step`] decides how fast, so the same code runs a real drive, and a simulated one in a second.

pub mod course;
mod steps;

use std::collections::BTreeMap;
use std::time::Duration;

use crate::drive::protocol::nvme::critical_warning_words;
use crate::drive::stamp;
use crate::drive::stamp::{Expected, Origin};
use crate::drive::{Drive, DriveError, DriveKind, Fault, Load, LoadKind};
use crate::drive::{FaultKind, Vitals};
use crate::quantity::FindingKind;
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::{Conditions, Event, HaulHead, HaulState, LegEnd, Sample};
use crate::route::{Leg, LegKind, Route};
use course::{Course, Planned};

/// Health is read this often while a leg runs, and at once when a leg begins or ends.
const VITALS_EVERY: Duration = Duration::from_secs(10);

/// So often it is looked whether something in it is news.
const VITALS_LOOK_EVERY: Duration = Duration::from_secs(1);

/// What of a health reading is told at once when it changes: warning bits, errors, turns of thermal management.
fn alarms(v: &Vitals) -> (u8, u64, u64) {
    let (errors, turns) = (v.media_errors.unwrap_or(0), v.thermal_transitions.unwrap_or(0));
    (v.critical_warning.unwrap_or(0), errors, turns)
}

/// Other temperatures are read this often.
const TEMPERATURES_EVERY: Duration = Duration::from_secs(1);

/// Failed operations that are told one by one; after these, one a second.
const FAULTS_TOLD: u64 = 2000;

/// What is set before a haul.
#[derive(Debug, Clone)]
pub struct Setup {
    /// Identifier, unique in the ledger.
    pub haul: String,
    /// What to do.
    pub route: Route,
    /// Under which conditions.
    pub conditions: Conditions,
    /// Wall-clock start, milliseconds since 1970-01-01 UTC.
    pub started_unix_ms: i64,
    /// Version of the program, for the record.
    pub program: String,
    /// What an earlier haul left on the drive, for a verify leg that reads it back.
    pub stamped: Option<Expected>,
    /// Where to go on, when this haul continues another.
    pub resume: Option<Resume>,
}

/// Where a haul that was stopped goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Resume {
    /// Index of the leg in the route as it is laid out.
    pub leg: usize,
    /// Bytes that were moved in it.
    pub moved: Bytes,
    /// Share of the drive that fill legs had brought it to.
    pub filled: Bytes,
}

/// Whether there is more to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Progress {
    /// Call [`Haul::step`] again.
    Going,
    /// The haul has ended in this state; further steps do nothing.
    Ended(HaulState),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Stage {
    Fresh,
    /// Between legs; the next is this one.
    Next(usize),
    InLeg(usize),
    Ended(HaulState),
}

/// A haul under way.
pub struct Haul<D: Drive> {
    drive: D,
    setup: Setup,
    stage: Stage,
    elapsed: Duration,
    leg_began: Duration,
    leg_moved: Bytes,
    /// Of these, what a flush in the leg has made durable.
    leg_flushed: Bytes,
    leg_errors: u64,
    /// Latency of the leg, or of the step under way, up to its last pause: operations by value in ns.
    leg_latency: BTreeMap<u64, u64>,
    /// Of a leg that goes through several loads.
    course: Option<Course>,
    planned: Option<Planned>,
    step_began: Duration,
    /// The drive holds data up to here, as far as fill legs know.
    filled: Bytes,
    /// What the stamped writes should have left.
    stamped: Vec<Expected>,
    faults_told: u64,
    fault_at: Duration,
    vitals_at: Duration,
    vitals_looked_at: Duration,
    /// Of the newest reading: what a change of is told at once.
    alarms: Option<(u8, u64, u64)>,
    temperatures_at: Option<Duration>,
    /// Set once the drive has ended the load by itself (its limit was reached).
    load_finished: bool,
    paused: bool,
    wants: Wants,
    /// Kept only when the route has a stop condition that depends on findings.
    readings: Option<Readings>,
    /// When the findings are looked at next.
    look_at: Duration,
}

#[derive(Debug, Clone, Copy, Default)]
struct Wants {
    skip: bool,
    stop: bool,
    paused: bool,
}

impl<D: Drive> Haul<D> {
    /// Makes a haul ready; nothing is asked of the drive before the first step.
    #[must_use]
    pub fn new(drive: D, setup: Setup) -> Self {
        let mut setup = setup;
        let identity = drive.identity();
        setup.route = setup.route.laid_out(identity.kind == DriveKind::File);
        let follows = |l: &Leg| l.until.past_cache_end.is_some() || l.until.steady || l.kind.has_steps();
        let follows_findings = setup.route.legs.iter().any(follows);
        let held = identity.capacity.share(identity.fill_percent.unwrap_or(0.0) / 100.0);
        let filled = setup.resume.map_or(held, |r| r.filled);
        let stamped = setup.stamped.into_iter().collect();
        Self {
            drive,
            setup,
            stage: Stage::Fresh,
            elapsed: Duration::ZERO,
            leg_began: Duration::ZERO,
            leg_moved: Bytes::ZERO,
            leg_flushed: Bytes::ZERO,
            leg_errors: 0,
            leg_latency: BTreeMap::new(),
            course: None,
            planned: None,
            step_began: Duration::ZERO,
            filled,
            stamped,
            faults_told: 0,
            fault_at: Duration::ZERO,
            vitals_at: Duration::ZERO,
            vitals_looked_at: Duration::ZERO,
            alarms: None,
            temperatures_at: None,
            load_finished: false,
            paused: false,
            wants: Wants::default(),
            readings: follows_findings.then(Readings::new),
            look_at: Duration::ZERO,
        }
    }

    /// Time since the haul began.
    #[must_use]
    pub const fn elapsed(&self) -> Duration {
        self.elapsed
    }

    /// True while the load is off at the user's word.
    #[must_use]
    pub const fn is_paused(&self) -> bool {
        self.paused
    }

    /// The drive.
    pub const fn drive(&self) -> &D {
        &self.drive
    }

    /// Takes the load off, or puts it on again, at the next step.
    pub const fn pause(&mut self, paused: bool) {
        self.wants.paused = paused;
    }

    /// Goes on to the next leg at the next step.
    pub const fn skip_leg(&mut self) {
        self.wants.skip = true;
    }

    /// Ends the haul at the next step; everything recorded stays.
    pub const fn stop(&mut self) {
        self.wants.stop = true;
    }

    /// Writes the user's words into the record, at this moment.
    pub fn note(&mut self, text: &str, out: &mut Vec<Event>) {
        self.emit(out, Event::Note { at: self.elapsed, text: text.to_owned() });
    }

    fn emit(&mut self, out: &mut Vec<Event>, event: Event) {
        if let Some(readings) = &mut self.readings {
            readings.push(&event);
        }
        out.push(event);
    }

    fn emit_vitals(&mut self, out: &mut Vec<Event>) {
        if let Some(vitals) = self.drive.vitals() {
            self.tell_vitals(out, vitals);
        }
    }

    /// While a leg runs: every ten seconds, and within a second when the drive begins to warn or counts a new error or
    /// a new turn of its thermal management.
    fn follow_vitals(&mut self, out: &mut Vec<Event>) {
        if self.elapsed < self.vitals_looked_at + VITALS_LOOK_EVERY {
            return;
        }
        self.vitals_looked_at = self.elapsed;
        let Some(vitals) = self.drive.vitals() else { return };
        let due = self.elapsed >= self.vitals_at + VITALS_EVERY;
        if due || self.alarms.is_some_and(|before| before != alarms(&vitals)) {
            self.tell_vitals(out, vitals);
        }
    }

    fn tell_vitals(&mut self, out: &mut Vec<Event>, vitals: Vitals) {
        let at = self.elapsed;
        (self.vitals_at, self.vitals_looked_at) = (at, at);
        let now = alarms(&vitals);
        // What it warned of before the haul is no news.
        let new = self.alarms.map_or(0, |before| now.0 & !before.0);
        for warning in critical_warning_words(new) {
            self.emit(
                out,
                Event::Fault {
                    at,
                    position: None,
                    kind: FaultKind::Warning,
                    message: format!("the drive warns: {warning}"),
                },
            );
        }
        self.alarms = Some(now);
        self.emit(out, Event::Vitals { at, vitals: Box::new(vitals) });
    }

    fn emit_temperatures(&mut self, out: &mut Vec<Event>) {
        if self.temperatures_at.is_some_and(|at| self.elapsed < at + TEMPERATURES_EVERY) {
            return;
        }
        self.temperatures_at = Some(self.elapsed);
        let readings = self.drive.temperatures();
        if !readings.is_empty() {
            self.emit(out, Event::Temperatures { at: self.elapsed, readings });
        }
    }

    /// Each failed operation by its address, as long as there are not too many of them.
    fn emit_faults(&mut self, out: &mut Vec<Event>, faults: &[Fault]) {
        for Fault { position, kind, message } in faults {
            let many = self.faults_told >= FAULTS_TOLD;
            if many && self.elapsed < self.fault_at + Duration::from_secs(1) {
                continue;
            }
            self.faults_told += 1;
            self.fault_at = self.elapsed;
            let (position, kind, message) = (Some(*position), *kind, message.clone());
            self.emit(out, Event::Fault { at: self.elapsed, position, kind, message });
        }
    }

    /// The load of a leg; stamps tell of this drive, this haul, this leg.
    fn load(&self, index: usize, leg: &Leg) -> Load {
        let identity = self.drive.identity();
        let mut load = leg.load(identity.capacity);
        if leg.stamped {
            // What a verify expects lies from the start of the region on.
            load.from = Some(load.start);
        }
        if let (LegKind::Fill, Some(level)) = (leg.kind, leg.level) {
            let to = level.of(identity.capacity).min(identity.capacity);
            let whole = |b: Bytes| Bytes::new(b.get() / leg.block.get() * leg.block.get());
            let to_ppm = (to.as_f64() / identity.capacity.as_f64().max(1.0) * 1e6).round() as u32;
            load.kind = LoadKind::Fill { to_ppm };
            (load.start, load.end) = (whole(self.filled), whole(to));
            load.limit = Some(load.end.saturating_sub(load.start));
            load.from = Some(load.start);
        }
        load.stamp = load.stamp.map(|_| Origin {
            drive: stamp::name(&identity.serial),
            haul: stamp::name(&self.setup.haul),
            pass: index as u32,
        });
        load
    }

    /// Does one interval of work and appends what happened to `out`.
    pub fn step(&mut self, out: &mut Vec<Event>) -> Progress {
        match self.stage {
            Stage::Ended(state) => return Progress::Ended(state),
            Stage::Fresh => {
                let head = HaulHead {
                    haul: self.setup.haul.clone(),
                    drive: self.drive.identity().clone(),
                    route: self.setup.route.clone(),
                    conditions: self.setup.conditions.clone(),
                    started_unix_ms: self.setup.started_unix_ms,
                    engine: self.drive.engine(),
                    program: self.setup.program.clone(),
                };
                self.emit(out, Event::HaulStarted(Box::new(head)));
                self.emit_vitals(out);
                self.stage = Stage::Next(self.setup.resume.map_or(0, |r| r.leg));
            }
            Stage::Next(_) if self.wants.stop => self.end(out, HaulState::Stopped, None),
            Stage::Next(index) => match self.setup.route.legs.get(index).cloned() {
                None => self.end(out, HaulState::Done, None),
                Some(leg) => self.begin_leg(out, index, &leg),
            },
            Stage::InLeg(index) => {
                if let Some(leg) = self.setup.route.legs.get(index).cloned() {
                    self.work(out, index, &leg);
                }
            }
        }
        match self.stage {
            Stage::Ended(state) => Progress::Ended(state),
            _ => Progress::Going,
        }
    }

    fn begin_leg(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) {
        self.leg_began = self.elapsed;
        self.leg_moved = Bytes::ZERO;
        self.leg_flushed = Bytes::ZERO;
        self.leg_latency.clear();
        self.leg_errors = 0;
        self.load_finished = false;
        self.emit(out, Event::LegStarted { at: self.elapsed, leg: index as u16 });
        self.planned = None;
        let course = Course::of(leg, self.drive.identity(), &self.stamped);
        self.course = match course {
            Ok(course) => course,
            Err(why) => {
                let target = self.drive.identity().target.clone();
                return self.fail(out, index, &DriveError::Refused { target, doing: leg.kind.word(), why });
            }
        };
        if let Some(course) = &mut self.course {
            let resume = self.setup.resume.take().filter(|r| r.leg == index);
            if let (Course::Verify(verify), Some(resume)) = (course, resume) {
                verify.skip(resume.moved);
            }
            self.stage = Stage::InLeg(index);
            return self.next_step(out, index);
        }
        let mut load = self.load(index, leg);
        if let Some(resume) = self.setup.resume.take().filter(|r| r.leg == index) {
            load = steps::resumed(load, resume.moved);
            self.leg_moved = resume.moved;
        }
        let on_file = self.drive.identity().kind == DriveKind::File;
        if leg.kind == LegKind::Fill && load.start >= load.end && !on_file {
            // The level is reached already.
            self.stage = Stage::InLeg(index);
            return self.end_leg(out, index, LegEnd::Complete);
        }
        match self.drive.begin(&load) {
            Ok(()) => self.stage = Stage::InLeg(index),
            Err(error) => self.fail(out, index, &error),
        }
    }

    fn work(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) {
        if self.wants.stop {
            return self.end_leg(out, index, LegEnd::Stopped);
        }
        if self.wants.skip {
            self.wants.skip = false;
            return self.end_leg(out, index, LegEnd::Skipped);
        }
        if self.wants.paused != self.paused
            && let Err(error) = self.turn_load(out, index, leg)
        {
            return self.fail(out, index, &error);
        }
        let tally = match self.drive.work(self.interval(leg)) {
            Ok(tally) => tally,
            Err(error) => return self.fail(out, index, &error),
        };
        self.elapsed += tally.took;
        self.leg_moved += tally.written + tally.read;
        self.load_finished |= tally.finished;
        self.leg_errors += u64::from(tally.errors);
        self.emit_faults(out, &tally.faults);
        for found in &tally.mismatches {
            self.emit(out, Event::Mismatch { at: self.elapsed, found: *found });
        }
        let temperature = tally.temperature;
        self.emit(
            out,
            Event::Sample(Sample {
                end: self.elapsed,
                span: tally.took,
                leg: index as u16,
                written: tally.written,
                read: tally.read,
                position: tally.position,
                temperature,
                latency: tally.latency,
                other: tally.other,
                errors: tally.errors,
                fill_ppm: tally.fill_ppm,
                host_busy_ppm: tally.host_busy_ppm,
            }),
        );
        self.follow_vitals(out);
        self.emit_temperatures(out);
        if self.paused {
            return;
        }
        if let Err(error) = self.flush_in_leg(out, index, leg) {
            return self.fail(out, index, &error);
        }
        if let Some(planned) = &self.planned {
            let in_step = self.elapsed - self.step_began;
            let over = self.load_finished || planned.duration.is_some_and(|d| in_step >= d);
            let out_of_time = leg.until.duration.is_some_and(|d| self.elapsed - self.leg_began >= d);
            let errors = leg.stop_after_errors.is_some_and(|most| self.leg_errors >= most);
            if over && !out_of_time && !errors {
                return match self.end_step(out, index) {
                    Ok(()) => self.next_step(out, index),
                    Err(error) => self.fail(out, index, &error),
                };
            }
            // The step's load ends with the step, not the leg.
            self.load_finished = false;
        }
        let until = &leg.until;
        let in_leg = self.elapsed - self.leg_began;
        let reached = temperature
            .zip(until.temperature)
            .is_some_and(|(now, goal)| if leg.kind == LegKind::Rest { now <= goal } else { now >= goal });
        if leg.stop_after_errors.is_some_and(|most| self.leg_errors >= most) {
            self.end_leg(out, index, LegEnd::Errors);
        } else if self.load_finished {
            self.end_leg(out, index, if leg.kind.moves() { LegEnd::Bytes } else { LegEnd::Complete });
        } else if until.duration.is_some_and(|d| in_leg >= d) {
            self.end_leg(out, index, LegEnd::Duration);
        } else if reached {
            self.end_leg(out, index, LegEnd::Temperature);
        } else if (until.past_cache_end.is_some() || until.steady) && self.is_time_to_look() {
            if until.past_cache_end.is_some_and(|past| self.is_past_cache_end(past)) {
                self.end_leg(out, index, LegEnd::PastCacheEnd);
            } else if until.steady && self.is_steady(leg.kind) {
                self.end_leg(out, index, LegEnd::Steady);
            }
        }
    }

    /// Once a second of the drive's time, and less often as the leg grows long.
    fn is_time_to_look(&mut self) -> bool {
        let due = self.elapsed >= self.look_at;
        if due {
            self.look_at = self.elapsed + Duration::from_secs(1).max((self.elapsed - self.leg_began) / 200);
        }
        due
    }

    /// Under load: the last five minutes lie in this leg, and their rounds are steady. At rest: the temperature moves by
    /// less than 0.1 K a minute.
    fn is_steady(&self, kind: LegKind) -> bool {
        if kind == LegKind::Rest {
            let warming = self.readings.as_ref().and_then(Readings::warming);
            return self.elapsed - self.leg_began >= Duration::from_secs(120)
                && warming.is_some_and(|w| w.abs() < 0.1);
        }
        let rounds = self.readings.as_ref().and_then(Readings::steady_rounds);
        self.elapsed - self.leg_began >= Duration::from_secs(300) && rounds == Some(5)
    }

    fn is_past_cache_end(&self, past: Bytes) -> bool {
        let Some(readings) = &self.readings else { return false };
        let before_leg = readings.written().saturating_sub(self.leg_moved);
        readings
            .conclude()
            .findings
            .iter()
            .rev()
            .find(|f| f.kind == FindingKind::CacheEnd && f.written >= before_leg)
            .is_some_and(|f| readings.written().saturating_sub(f.written) >= past)
    }

    /// Pauses or resumes: the load is drained and taken off, or put on again for what is left of it.
    fn turn_load(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) -> Result<(), DriveError> {
        self.paused = self.wants.paused;
        let summary = self.drive.finish(false)?;
        self.account_for_drain(out, index, &summary);
        for (value, count) in summary.histogram {
            *self.leg_latency.entry(value).or_default() += count;
        }
        let at = self.elapsed;
        if self.paused {
            self.emit(out, Event::Paused { at });
            self.drive.begin(&Load::rest())
        } else {
            self.emit(out, Event::Resumed { at });
            let load = match &self.planned {
                Some(planned) => steps::resumed(planned.load.clone(), self.step_moved()),
                None => {
                    let load = self.load(index, leg);
                    if load.kind.is_fill() || leg.stamped {
                        steps::resumed(load, self.leg_moved)
                    } else {
                        // It goes on where the drive stands.
                        let limit = load.limit.map(|limit| limit.saturating_sub(self.leg_moved));
                        Load { limit, ..load }
                    }
                }
            };
            self.drive.begin(&load)
        }
    }

    /// What completed while draining belongs to the record like everything else.
    fn account_for_drain(&mut self, out: &mut Vec<Event>, index: usize, summary: &crate::drive::LoadSummary) {
        if summary.drained == Bytes::ZERO && summary.drain.is_zero() && !summary.late.is_news() {
            return;
        }
        self.elapsed += summary.drain;
        self.leg_errors += u64::from(summary.late.errors);
        self.emit_faults(out, &summary.late.faults);
        for found in &summary.late.mismatches {
            self.emit(out, Event::Mismatch { at: self.elapsed, found: *found });
        }
        self.leg_moved += summary.drained;
        let read = match self.setup.route.legs.get(index) {
            Some(l) if l.kind == LegKind::Mixed => summary.drained_read,
            Some(l) if l.destroys() => Bytes::ZERO,
            _ => summary.drained,
        };
        let written = summary.drained.saturating_sub(read);
        let sample = Sample {
            end: self.elapsed,
            span: summary.drain,
            leg: index as u16,
            written,
            read,
            errors: summary.late.errors,
            ..Sample::default()
        };
        self.emit(out, Event::Sample(sample));
    }

    fn end_leg(&mut self, out: &mut Vec<Event>, index: usize, why: LegEnd) {
        if let Err(error) = self.end_step(out, index) {
            return self.fail(out, index, &error);
        }
        let leg = self.setup.route.legs.get(index).cloned();
        // A leg with steps has flushed at the end of each.
        let writes = self.course.is_none() && leg.as_ref().is_some_and(|l| l.kind.moves() && l.destroys());
        match self.drive.finish(writes) {
            Ok(mut summary) => {
                self.account_for_drain(out, index, &summary);
                summary.histogram = self.with_earlier(summary.histogram);
                self.elapsed += summary.flush.unwrap_or_default();
                if let Some(leg) = &leg {
                    self.remember(index, leg);
                }
                self.course = None;
                self.emit(out, Event::LegEnded { at: self.elapsed, leg: index as u16, why, summary });
                self.paused = false;
                self.wants.paused = false;
                self.emit_vitals(out);
                self.stage = Stage::Next(index + 1);
                match why {
                    LegEnd::Stopped => self.end(out, HaulState::Stopped, None),
                    LegEnd::Errors => {
                        let n = self.leg_errors;
                        let word = if n == 1 { "operation" } else { "operations" };
                        let reason =
                            format!("{n} {word} failed in leg {}, as many as its route allows", index + 1);
                        self.end(out, HaulState::Failed, Some(reason));
                    }
                    _ => {}
                }
            }
            Err(error) => self.fail(out, index, &error),
        }
    }

    /// The latency histogram of a leg or step, of which this is what came since the last pause.
    fn with_earlier(&mut self, newest: Vec<(u64, u64)>) -> Vec<(u64, u64)> {
        if self.leg_latency.is_empty() {
            return newest;
        }
        for (value, count) in newest {
            *self.leg_latency.entry(value).or_default() += count;
        }
        std::mem::take(&mut self.leg_latency).into_iter().collect()
    }

    fn fail(&mut self, out: &mut Vec<Event>, index: usize, error: &DriveError) {
        let message = error.to_string();
        let (at, kind) = (self.elapsed, FaultKind::Drive);
        self.emit(out, Event::Fault { at, position: None, kind, message: message.clone() });
        let (at, leg, summary) = (self.elapsed, index as u16, crate::drive::LoadSummary::default());
        self.emit(out, Event::LegEnded { at, leg, why: LegEnd::Failed, summary });
        self.end(out, HaulState::Failed, Some(message));
    }

    fn end(&mut self, out: &mut Vec<Event>, state: HaulState, reason: Option<String>) {
        let reason = match (self.drive.release(), reason) {
            (Ok(()), reason) => reason,
            (Err(left), None) => Some(left.to_string()),
            (Err(left), Some(reason)) => Some(format!("{reason}; {left}")),
        };
        self.emit(out, Event::HaulEnded { at: self.elapsed, state, reason });
        self.stage = Stage::Ended(state);
    }
}

impl<D: Drive + ?Sized> Drive for Box<D> {
    fn identity(&self) -> &crate::drive::DriveIdentity {
        (**self).identity()
    }
    fn engine(&self) -> String {
        (**self).engine()
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        (**self).begin(load)
    }
    fn work(&mut self, interval: Duration) -> Result<crate::drive::Tally, DriveError> {
        (**self).work(interval)
    }
    fn finish(&mut self, flush: bool) -> Result<crate::drive::LoadSummary, DriveError> {
        (**self).finish(flush)
    }
    fn flush(&mut self) -> Result<crate::drive::LoadSummary, DriveError> {
        (**self).flush()
    }
    fn vitals(&mut self) -> Option<Vitals> {
        (**self).vitals()
    }
    fn temperatures(&mut self) -> Vec<(String, crate::quantity::units::Celsius)> {
        (**self).temperatures()
    }
    fn is_simulated(&self) -> bool {
        (**self).is_simulated()
    }
    fn release(&mut self) -> Result<(), DriveError> {
        (**self).release()
    }
}

#[cfg(test)]
mod tests;
