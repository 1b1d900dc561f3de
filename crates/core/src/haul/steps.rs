//! Legs that go through several loads, and what a leg leaves for those after it.

use crate::drive::Ending;
use std::time::Duration;

use super::Haul;
use crate::drive::stamp::Expected;
use crate::drive::{Drive, DriveError, Load, Pattern};
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::{Event, LegEnd};
use crate::route::{Leg, LegKind};

/// What is left of a load that began at the edge of its region, after so much of it was done.
pub(super) fn resumed(mut load: Load, moved: Bytes) -> Load {
    load.limit = load.limit.map(|limit| limit.saturating_sub(moved));
    load.done = moved;
    let region = load.end.saturating_sub(load.start).get().max(1);
    let done = Bytes::new(moved.get() % region / load.block.get() * load.block.get());
    match load.pattern {
        Pattern::Sequential => load.from = Some(load.start + done),
        Pattern::Backward => load.from = Some(load.end.saturating_sub(done)),
        Pattern::Random => {}
    }
    load
}

impl<D: Drive> Haul<D> {
    /// Takes the next step of a leg that has several, or ends it.
    pub(super) fn next_step(&mut self, out: &mut Vec<Event>, index: usize) {
        let readings = self.readings.get_or_insert_with(Readings::new);
        let Some(planned) = self.running.course.as_mut().and_then(|c| c.next(readings)) else {
            return self.end_leg(out, index, LegEnd::Complete);
        };
        self.running.step_began = self.elapsed;
        self.running.load_finished = false;
        let (at, leg, step) = (self.elapsed, index as u16, Box::new(planned.step()));
        self.emit(out, Event::StepStarted { at, leg, step });
        let begun = self.drive.begin(&planned.load);
        self.running.planned = Some(planned);
        if let Err(error) = begun {
            self.fail(out, index, &error);
        }
    }

    /// Goes on to the next step when this one is over. True when the leg has nothing more to ask in this interval.
    pub(super) fn follow_step(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) -> bool {
        let Some(planned) = &self.running.planned else { return false };
        let in_step = self.elapsed - self.running.step_began;
        let over = self.running.load_finished || planned.duration.is_some_and(|d| in_step >= d);
        let out_of_time = leg.until.duration.is_some_and(|d| self.elapsed - self.running.began >= d);
        let errors = leg.stop_after_errors.is_some_and(|most| self.running.errors >= most);
        if over && !out_of_time && !errors {
            match self.end_step(out, index) {
                Ok(()) => self.next_step(out, index),
                Err(error) => self.fail(out, index, &error),
            }
            return true;
        }
        // The step's load ends with the step, not the leg.
        self.running.load_finished = false;
        false
    }

    /// Ends the step under way, without the next.
    pub(super) fn end_step(&mut self, out: &mut Vec<Event>, index: usize) -> Result<(), DriveError> {
        let Some(planned) = self.running.planned.take() else { return Ok(()) };
        let mut summary = self.drive.finish(Ending::durable_if(planned.load.kind.destroys()))?;
        self.account_for_drain(out, index, &summary);
        summary.histogram = self.with_earlier(summary.histogram);
        self.elapsed += summary.flush.unwrap_or_default();
        let (at, leg) = (self.elapsed, index as u16);
        self.emit(out, Event::StepEnded { at, leg, summary });
        Ok(())
    }

    /// Makes what a plain write has written durable, when it is time.
    pub(super) fn flush_in_leg(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
    ) -> Result<(), DriveError> {
        let due = leg.flush_every.is_some_and(|every| self.running.moved >= self.running.flushed + every);
        if !due || self.running.load_finished {
            return Ok(());
        }
        let summary = self.drive.flush()?;
        self.account_for_drain(out, index, &summary);
        let took = summary.flush.unwrap_or_default();
        self.elapsed += took;
        self.running.flushed = self.running.moved;
        // The last of it may have come while draining: nothing is left for another interval.
        self.running.load_finished =
            self.load(index, leg).limit.is_some_and(|limit| self.running.moved >= limit);
        self.emit(out, Event::Flushed { at: self.elapsed, leg: index as u16, took });
        Ok(())
    }

    /// How long the next interval is. A scan's end when a bin is passed, and after a second at the latest.
    pub(super) fn interval(&self, leg: &Leg) -> Duration {
        let by_bytes = self.running.planned.as_ref().is_some_and(|p| p.load.sample.is_some());
        let interval = if by_bytes { Duration::from_secs(1) } else { self.setup.route.interval };
        let left = [
            leg.until.duration.map(|d| d.saturating_sub(self.elapsed - self.running.began)),
            self.running
                .planned
                .as_ref()
                .and_then(|p| Some(p.duration?.saturating_sub(self.elapsed - self.running.step_began))),
        ];
        left.into_iter().flatten().fold(interval, Duration::min).max(Duration::from_millis(1))
    }

    /// Bytes moved in the step under way.
    pub(super) fn step_moved(&self) -> Bytes {
        let Some((readings, step)) = self.readings.as_ref().and_then(|r| Some((r, r.steps().last()?))) else {
            return Bytes::ZERO;
        };
        let series = readings.series();
        let samples = step.samples(series.len());
        let moved = samples.map(|i| series.moved(i) - series.moved_before(i)).sum();
        Bytes::new(moved)
    }

    /// What the leg left on the drive, for the legs after it.
    pub(super) fn remember(&mut self, index: usize, leg: &Leg) {
        let load = self.load(index, leg);
        match leg.kind {
            LegKind::Wipe => self.filled = Bytes::ZERO,
            LegKind::Fill => {
                self.filled =
                    self.filled.max(load.start + self.running.moved.min(load.end.saturating_sub(load.start)));
            }
            LegKind::Write => {
                self.stamped.extend(load.stamp.filter(|_| self.running.moved > Bytes::ZERO).map(|origin| {
                    Expected {
                        origin,
                        start: load.start.get(),
                        end: load.end.get(),
                        written: self.running.moved.get(),
                        // The leg has ended with a flush.
                        flushed: self.running.moved.get(),
                        workers: load.workers,
                    }
                }))
            }
            _ => {}
        }
    }
}
