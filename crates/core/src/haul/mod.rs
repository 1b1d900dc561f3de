//! The runner: steps a route against a drive, one interval at a time, and says what happened as events.
//!
//! It has no clock and does no I/O of its own. The drive tells how much time has passed; whoever calls
//! [`Haul::step`] decides how fast, so the same code runs a real drive, and a simulated one in a second.

mod arms;
mod budget;
pub mod course;
mod freight;
mod inquiring;
mod inquiry;
mod latencies;
mod over;
mod running;
mod setup;
mod steps;
mod watch;

use crate::drive::Ending;
use crate::route::LaidOn;
use std::time::Duration;

use crate::drive::stamp;
use crate::drive::stamp::{Expected, Origin};
use crate::drive::{Drive, DriveError, DriveKind, FaultKind, Load, LoadKind};
use crate::quantity::steady::first_steady_of_all;
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::{Event, Fall, HaulHead, HaulState, LegEnd, Sample};
use crate::route::{Leg, LegKind};
use course::Course;
use latencies::Second;
use running::Running;
pub use setup::{Resume, Setup};
use watch::{FaultLog, HealthWatch};

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
    running: Running,
    /// The drive holds data up to here, as far as fill legs know.
    filled: Bytes,
    /// What the stamped writes should have left.
    stamped: Vec<Expected>,
    faults: FaultLog,
    health: HealthWatch,
    paused: bool,
    wants: Wants,
    /// A fall that the user wants to know the cause of.
    inquire: Option<Box<Fall>>,
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
        setup.route = setup.route.laid_out(LaidOn::file_system_if(identity.kind == DriveKind::File));
        let follows = |l: &Leg| {
            let rounds = l.turn.as_ref().is_some_and(|t| t.rounds.is_some());
            l.until.past_cache_end.is_some() || l.until.steady || l.decide || l.kind.has_steps() || rounds
        };
        let follows_findings = setup.route.legs.iter().any(follows);
        let held = identity.capacity.share(identity.fill_percent.unwrap_or(0.0) / 100.0);
        let filled = setup.resume.map_or(held, |r| r.filled);
        let stamped = setup.stamped.into_iter().collect();
        Self {
            drive,
            setup,
            stage: Stage::Fresh,
            elapsed: Duration::ZERO,
            running: Running::default(),
            filled,
            stamped,
            faults: FaultLog::default(),
            health: HealthWatch::default(),
            paused: false,
            wants: Wants::default(),
            inquire: None,
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

    /// Gives the drive back.
    pub fn into_drive(self) -> D {
        self.drive
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

    fn emit_all(&mut self, out: &mut Vec<Event>, events: Vec<Event>) {
        events.into_iter().for_each(|e| self.emit(out, e));
    }

    fn emit_vitals(&mut self, out: &mut Vec<Event>) {
        let events = self.health.read(&mut self.drive, self.elapsed);
        self.emit_all(out, events);
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
                    forecast: self.setup.forecast.clone(),
                    held_to: self.setup.held_to.clone(),
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
        let second = Second::begin(self.elapsed);
        self.running = Running { began: self.elapsed, second, ..Running::default() };
        self.emit(out, Event::LegStarted { at: self.elapsed, leg: index as u16 });
        let course = Course::of(leg, self.drive.identity(), &self.stamped);
        self.running.course = match course {
            Ok(course) => course,
            Err(why) => {
                let target = self.drive.identity().target.clone();
                return self.fail(out, index, &DriveError::Refused { target, doing: leg.kind.word(), why });
            }
        };
        if let Some(course) = &mut self.running.course {
            let resume = self.setup.resume.take().filter(|r| r.leg == index);
            if let (Course::Verify(verify), Some(resume)) = (course, resume) {
                verify.skip(resume.moved);
            }
            self.stage = Stage::InLeg(index);
            return self.next_step(out, index);
        }
        let mut load = match self.load_with_freight(index, leg) {
            Ok(load) => load,
            Err(error) => return self.fail(out, index, &error),
        };
        if let Some(resume) = self.setup.resume.take().filter(|r| r.leg == index) {
            load = steps::resumed(load, resume.moved);
            self.running.moved = resume.moved;
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
        if (self.wants.stop || self.wants.skip || self.wants.paused != self.paused)
            && let Err(error) = self.interrupt_inquiry(out, index, leg)
        {
            return self.fail(out, index, &error);
        }
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
        let tally = match self.drive.work(self.arm_interval(self.interval(leg))) {
            Ok(tally) => tally,
            Err(error) => return self.fail(out, index, &error),
        };
        self.elapsed += tally.took;
        self.running.position = tally.position.or(self.running.position);
        match &mut self.running.inquiry {
            Some(inquiry) => inquiry.take(tally.written + tally.read, tally.took, tally.finished),
            None => {
                self.running.moved += tally.written + tally.read;
                self.running.load_finished |= tally.finished;
            }
        }
        self.running.errors += u64::from(tally.errors);
        let events = self.faults.take(&tally.faults, self.elapsed);
        self.emit_all(out, events);
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
        self.running.second.add(&tally.latencies, &tally.lookout);
        self.running.second.add_freight(tally.freight);
        if self.running.second.is_over(self.elapsed) {
            self.close_second(out, index);
        }
        let events = self.health.follow(&mut self.drive, self.elapsed);
        self.emit_all(out, events);
        if self.paused {
            return;
        }
        if self.running.inquiry.is_some() {
            if let Err(error) = self.follow_inquiry(out, index, leg, tally.temperature) {
                self.fail(out, index, &error);
            }
            return;
        }
        // Asked once a sample, for all who look at the findings.
        let due = self.is_time_to_look();
        match self.inquire_if_due(out, index, leg, due) {
            Ok(false) => {}
            Ok(true) => return,
            Err(error) => return self.fail(out, index, &error),
        }
        if let Err(error) = self.flush_in_leg(out, index, leg) {
            return self.fail(out, index, &error);
        }
        if self.running.planned.is_some() && self.follow_step(out, index, leg) {
            return;
        }
        if let Some(why) = self.is_over(leg, tally.temperature, due) {
            self.end_leg(out, index, why);
        }
    }

    /// Drains the leg's load and takes it off; what it was so far stays with the leg.
    fn take_off(&mut self, out: &mut Vec<Event>, index: usize) -> Result<(), DriveError> {
        let summary = self.drive.finish(Ending::AsItIs)?;
        self.account_for_drain(out, index, &summary);
        self.close_second(out, index);
        for (value, count) in summary.histogram {
            *self.running.latency.entry(value).or_default() += count;
        }
        Ok(())
    }

    /// Pauses or resumes: the load is drained and taken off, or put on again for what is left of it.
    fn turn_load(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) -> Result<(), DriveError> {
        self.paused = self.wants.paused;
        self.take_off(out, index)?;
        let at = self.elapsed;
        if self.paused {
            self.emit(out, Event::Paused { at });
            self.drive.begin(&Load { lookout: leg.lookout, ..Load::rest() })
        } else {
            self.emit(out, Event::Resumed { at });
            let load = match &self.running.planned {
                Some(planned) => steps::resumed(planned.load.clone(), self.step_moved()),
                None => {
                    let mut load = self.load_with_freight(index, leg)?;
                    if let Some(freight) = &mut load.freight {
                        freight.resumed = true;
                    }
                    if load.kind.is_fill() || leg.stamped {
                        steps::resumed(load, self.running.moved)
                    } else {
                        // It goes on where the drive stands.
                        let limit = load.limit.map(|limit| limit.saturating_sub(self.running.moved));
                        Load { limit, ..load }
                    }
                }
            };
            self.drive.begin(&load)
        }
    }

    /// What completed while draining belongs to the record like everything else.
    fn account_for_drain(&mut self, out: &mut Vec<Event>, index: usize, summary: &crate::drive::LoadSummary) {
        self.running.second.add(&summary.late.latencies, &summary.late.lookout);
        self.running.second.add_freight(summary.late.freight.clone());
        if summary.drained == Bytes::ZERO && summary.drain.is_zero() && !summary.late.is_news() {
            return;
        }
        self.elapsed += summary.drain;
        self.running.errors += u64::from(summary.late.errors);
        let events = self.faults.take(&summary.late.faults, self.elapsed);
        self.emit_all(out, events);
        for found in &summary.late.mismatches {
            self.emit(out, Event::Mismatch { at: self.elapsed, found: *found });
        }
        let arm_reads = match &mut self.running.inquiry {
            Some(inquiry) => {
                inquiry.take(summary.drained, summary.drain, false);
                inquiry.reads()
            }
            None => {
                self.running.moved += summary.drained;
                false
            }
        };
        let read = match self.setup.route.legs.get(index) {
            _ if arm_reads => summary.drained,
            Some(l) if matches!(l.kind, LegKind::Mixed | LegKind::Freight) => summary.drained_read,
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
        let writes =
            self.running.course.is_none() && leg.as_ref().is_some_and(|l| l.kind.moves() && l.destroys());
        match self.drive.finish(Ending::durable_if(writes)) {
            Ok(mut summary) => {
                self.account_for_drain(out, index, &summary);
                self.close_second(out, index);
                summary.histogram = self.with_earlier(summary.histogram);
                self.elapsed += summary.flush.unwrap_or_default();
                if let Some(leg) = &leg {
                    self.remember(index, leg);
                }
                self.running.course = None;
                self.emit(out, Event::LegEnded { at: self.elapsed, leg: index as u16, why, summary });
                self.paused = false;
                self.wants.paused = false;
                self.emit_vitals(out);
                self.stage = Stage::Next(self.after(index));
                match why {
                    LegEnd::Stopped => self.end(out, HaulState::Stopped, None),
                    LegEnd::Errors => {
                        let n = self.running.errors;
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

    /// The leg that comes next: where a group of rounds is steady at the end of one, the first beyond it.
    fn after(&self, index: usize) -> usize {
        let round = |i: usize| self.setup.route.legs.get(i)?.turn.as_ref()?.rounds.as_ref();
        let next = index + 1;
        let Some(this) = round(index) else { return next };
        if round(next).is_some_and(|n| n.is_with(this)) {
            return next;
        }
        let values = self.readings.as_ref().map(|r| r.rounds(this)).unwrap_or_default();
        if first_steady_of_all(&values).is_none() {
            return next;
        }
        (next..).find(|i| round(*i).is_none_or(|r| r.group != this.group)).unwrap_or(next)
    }

    fn close_second(&mut self, out: &mut Vec<Event>, index: usize) {
        let events = self.running.second.close(self.elapsed, index as u16);
        self.emit_all(out, events);
    }

    /// The latency histogram of a leg or step, of which this is what came since the last pause.
    fn with_earlier(&mut self, newest: Vec<(u64, u64)>) -> Vec<(u64, u64)> {
        if self.running.latency.is_empty() {
            return newest;
        }
        for (value, count) in newest {
            *self.running.latency.entry(value).or_default() += count;
        }
        std::mem::take(&mut self.running.latency).into_iter().collect()
    }

    fn fail(&mut self, out: &mut Vec<Event>, index: usize, error: &DriveError) {
        self.close_second(out, index);
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

#[cfg(test)]
mod tests;
