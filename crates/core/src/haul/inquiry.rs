//! Inquiries while a haul runs: the leg's load is taken off, the arms of experiments are put on in its place, one after the other, and the
//! leg goes on where it stood. What to try is said by [`crate::conclude::inquiry`]; here it is done.

use std::collections::VecDeque;
use std::time::Duration;

use super::Haul;
use super::arms::{Planned, arms, compressible, goes_on, heavier, in_blocks, stretch, two_workers};
use super::budget::Budget;
use super::inquiring::{Inquiring, SEEN_S};
use crate::conclude::inquiry::{ARM_S, Inquiry, LEAST_REST_AGAIN, Possible, STANDS};
use crate::drive::{Asking, Drive, DriveError, Ending, Load, Pattern};
use crate::quantity::units::{Bytes, Celsius};
use crate::readings::{InquiryReading, Readings};
use crate::record::{Arm, ArmKind, Event, Experiment, Fall, HaulHead, InquiryEnd};
use crate::route::Leg;

/// Share of the leg's time and bytes that an inquiry may take when nothing else is stated.
const SHARE: f64 = 0.05;
/// And no longer than this without being asked.
const MOST_S: f64 = 600.0;
/// Reads and the load behind a rest take so long at least, s.
const AFTER_REST_S: f64 = 6.0;
/// Samples within an arm are no longer than this.
const INTERVAL: Duration = Duration::from_millis(100);
/// Less than this cannot be read long enough to tell a rate.
const LEAST_READ: Bytes = Bytes::from_mib(64);

impl<D: Drive> Haul<D> {
    /// Finds out why the rate fell, at the next step; `fall` is what is known of it.
    pub fn inquire(&mut self, fall: Fall) {
        self.inquire = Some(Box::new(fall));
    }

    /// Begins an inquiry where one is due. True when it did.
    pub(super) fn inquire_if_due(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
        due: bool,
    ) -> Result<bool, DriveError> {
        // What is asked about lies in this leg: it may have ended since.
        let asked = self.inquire.take().filter(|f| f.makes_sense() && f.elapsed >= self.running.began);
        if !leg.may_decide_on(self.drive.identity()) || self.running.load_finished {
            return Ok(false);
        }
        let by_itself = asked.is_none();
        let fall = match asked {
            Some(fall) => *fall,
            None if leg.decide && due => {
                let found = self.readings.as_ref().and_then(|r| r.standing_fall(index as u16, STANDS));
                let Some(fall) = found else { return Ok(false) };
                fall
            }
            None => return Ok(false),
        };
        let fall = Fall { recovers: self.setup.conditions.recovers.clone(), ..fall };
        let most = self.budget(index, leg, &fall);
        // What was spent in this leg before is spent, but for whoever asks. Wear is, whoever asks.
        let (began, readings) = (self.running.began, self.readings.as_ref());
        let (spent_s, spent) =
            readings.filter(|_| by_itself).map_or((0.0, Bytes::ZERO), |r| r.spent_on_inquiries(began));
        let wrote = readings.map_or(Bytes::ZERO, |r| r.tried_since(began));
        let left = most.less(spent_s, spent, wrote);
        if left.is_spent() || spent_s > 0.0 && left.seconds < 4.0 * ARM_S {
            return Ok(false);
        }
        if by_itself && !self.is_worth_asking(index as u16, &fall, left.seconds) {
            return Ok(false);
        }
        self.begin_inquiry(out, index, leg, fall, left)?;
        Ok(true)
    }

    /// There is time for something that tells. What is put into a fast stretch tells less than a lighter load, and takes less time.
    fn is_worth_asking(&self, leg: u16, fall: &Fall, left_s: f64) -> bool {
        let Some(readings) = &self.readings else { return true };
        let fits = |fall: Fall| {
            let thermometer = fall.temperature.is_some();
            let reading = InquiryReading::new(leg, fall, self.elapsed);
            Inquiry::of(&reading, readings).next(Possible::everything(thermometer), left_s).is_ok()
        };
        fits(fall.clone())
            && (fall.fast_so_far.is_none() || !fits(Fall { fast_so_far: None, ..fall.clone() }))
    }

    /// What all inquiries of a leg may take together.
    fn budget(&self, index: usize, leg: &Leg, fall: &Fall) -> Budget {
        let load = self.load(index, leg);
        let left = match load.limit {
            Some(limit) => limit.saturating_sub(self.running.moved),
            None => load.end.saturating_sub(self.running.position.unwrap_or(load.start)),
        };
        let in_leg = (self.elapsed - self.running.began).as_secs_f64();
        let to_come = left.as_f64() / fall.after.get().max(1.0);
        let whole = leg.until.duration.map_or(in_leg + to_come, |d| d.as_secs_f64().min(in_leg + to_come));
        let bytes = load.limit.unwrap_or_else(|| load.end.saturating_sub(load.start)).as_f64();
        let rated = self.setup.endurance.or(self.drive.identity().rated_writes);
        Budget {
            seconds: leg.decide_time.map_or((SHARE * whole).min(MOST_S), |d| d.as_secs_f64()),
            bytes: leg.decide_bytes.unwrap_or(Bytes::new((SHARE * bytes) as u64)),
            // A share of what nobody states is none.
            written: leg.decide_wear.map(|wear| wear.of(rated.unwrap_or(Bytes::ZERO))),
        }
    }

    fn begin_inquiry(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
        fall: Fall,
        most: Budget,
    ) -> Result<(), DriveError> {
        self.take_off(out, index)?;
        let load = self.load(index, leg);
        let here = self.running.position.unwrap_or(load.start);
        if self.readings.is_none() {
            // Nobody asked for findings so far: what the arms show is all that is needed.
            let mut readings = Readings::new();
            let head =
                HaulHead::plain(&self.setup.haul, self.drive.identity().clone(), self.setup.route.clone());
            readings.push(&Event::HaulStarted(Box::new(head)));
            readings.push(&Event::LegStarted { at: self.running.began, leg: index as u16 });
            self.readings = Some(readings);
        }
        self.running.inquiry = Some(Inquiring {
            began: self.elapsed,
            moved: Bytes::ZERO,
            wrote: Bytes::ZERO,
            most,
            quiet: self.drive.ask_health(Asking::Usual),
            here,
            fall: fall.clone(),
            next: VecDeque::new(),
            arm: None,
            began_at: None,
            recent: VecDeque::new(),
            seed: self.elapsed.as_nanos() as u64 ^ (index as u64) << 48,
            drawn: 0,
            finished: false,
            low_s: 0.0,
            low_arms: 0,
        });
        let (at, leg_index) = (self.elapsed, index as u16);
        self.emit(out, Event::InquiryStarted { at, leg: leg_index, fall: Box::new(fall) });
        self.next_arm(out, index, leg)
    }

    /// Puts the next arm on, or ends the inquiry.
    fn next_arm(&mut self, out: &mut Vec<Event>, index: usize, leg: &Leg) -> Result<(), DriveError> {
        let Some(mut inquiring) = self.running.inquiry.take() else { return Ok(()) };
        // Arms beside each other tell nothing of what comes and goes while they last.
        let cycles = |a: &Planned| a.experiment == Experiment::Cycle;
        if inquiring.next.front().is_some_and(|a| !cycles(a)) && self.came_back() {
            inquiring.next.clear();
        }
        if inquiring.next.is_empty() {
            let spent = (self.elapsed - inquiring.began).as_secs_f64();
            let over = inquiring.most.is_exceeded_by(inquiring.moved, inquiring.wrote);
            let left_s = if over { 0.0 } else { inquiring.most.seconds - spent };
            let possible = self.possible(index, leg, &inquiring);
            let readings = self.readings.as_ref();
            let trial =
                readings.and_then(|r| Some(Inquiry::of(r.inquiries().last()?, r).next(possible, left_s)));
            match trial.unwrap_or(Err(InquiryEnd::NothingLeft)) {
                Ok(trial) => {
                    let load = self.load(index, leg);
                    inquiring.next = arms(&mut inquiring, trial, possible, &load, self.running.moved);
                }
                Err(why) => {
                    self.running.inquiry = Some(inquiring);
                    return self.end_inquiry(out, index, leg, why);
                }
            }
        }
        let Some(mut arm) = inquiring.next.pop_front() else {
            self.running.inquiry = Some(inquiring);
            return self.end_inquiry(out, index, leg, InquiryEnd::NothingLeft);
        };
        if goes_on(arm.kind) {
            in_blocks(&mut arm.load, inquiring.here);
        }
        if arm.experiment == Experiment::Cool && !self.prepare_rest(&mut inquiring, &mut arm) {
            // Nothing could be set beside it.
            inquiring.next.clear();
            self.running.inquiry = Some(inquiring);
            return self.next_arm(out, index, leg);
        }
        if arm.experiment == Experiment::Cycle && arm.kind == ArmKind::Lighter {
            let Some((rate, bytes)) = inquiring.fall.lighter() else {
                self.running.inquiry = Some(inquiring);
                return self.end_inquiry(out, index, leg, InquiryEnd::NothingLeft);
            };
            (arm.load.rate, arm.load.limit) = (Some(rate), Some(bytes));
        }
        match arm.kind {
            ArmKind::Quiet => self.drive.ask_health(Asking::HeldOff),
            ArmKind::Asked => self.drive.ask_health(Asking::Twice),
            _ => false,
        };
        let Load { kind: load, start, end, block, depth, rate, .. } = arm.load;
        let told = Arm { experiment: arm.experiment, kind: arm.kind, load, start, end, block, depth, rate };
        let begun = self.drive.begin(&arm.load);
        inquiring.arm = Some((arm, self.elapsed));
        inquiring.began_at = None;
        inquiring.recent.clear();
        inquiring.low_s = 0.0;
        inquiring.finished = false;
        self.running.inquiry = Some(inquiring);
        let (at, leg) = (self.elapsed, index as u16);
        self.emit(out, Event::ArmStarted { at, leg, arm: told });
        begun
    }

    /// Gives a rest what is left of the time, and the light load after a second one its rate and length, and the full one behind it its time. Where
    /// the load was fast for too long or too short a time to be asked so, or too little time is left, a second rest is made without, for the reads
    /// on both sides of it. False where it need not be begun.
    fn prepare_rest(&self, inquiring: &mut Inquiring, arm: &mut Planned) -> bool {
        let comes = |kind: ArmKind| inquiring.next.iter().any(|a| a.kind == kind);
        let (then_light, then_reads) = (comes(ArmKind::Lighter), comes(ArmKind::ReadCool));
        if !matches!(arm.kind, ArmKind::Rest | ArmKind::Lighter) {
            return true;
        }
        let readings = self.readings.as_ref();
        let light = readings.and_then(|r| Inquiry::of(r.inquiries().last()?, r).light_load());
        if arm.kind == ArmKind::Lighter {
            let Some((rate, bytes, then_s)) = light else { return false };
            (arm.load.rate, arm.load.limit) = (Some(rate), Some(bytes));
            arm.most = Duration::from_secs_f64(1.5 * bytes.as_f64() / rate.get().max(1.0) + SEEN_S);
            let then = Duration::from_secs_f64(then_s);
            let again = inquiring.next.iter_mut().filter(|a| a.kind == ArmKind::Again);
            again.for_each(|a| a.most = a.most.max(then));
            return true;
        }
        // The load may have taken long to fall: what is left is for the rest and what shows it.
        let spent_s = self.elapsed.saturating_sub(inquiring.began).as_secs_f64();
        let left_s = inquiring.most.seconds - spent_s - AFTER_REST_S;
        let (wanted_s, least_s) = (arm.most.as_secs_f64(), LEAST_REST_AGAIN * arm.most.as_secs_f64());
        let takes_s = light
            .filter(|_| then_light)
            .map(|(rate, bytes, then_s)| bytes.as_f64() / rate.get().max(1.0) + then_s);
        let light_s = takes_s.filter(|s| left_s - s >= least_s);
        if then_light && light_s.is_none() {
            inquiring.next.retain(|a| a.kind != ArmKind::Lighter);
        }
        let rest_s = wanted_s.min(left_s - light_s.unwrap_or(0.0));
        arm.most = Duration::from_secs_f64(rest_s.max(0.0));
        rest_s >= least_s && (!then_light || light_s.is_some() || then_reads)
    }

    fn came_back(&self) -> bool {
        let readings = self.readings.as_ref();
        readings.and_then(|r| Some(Inquiry::of(r.inquiries().last()?, r).effects.came_back)).unwrap_or(false)
    }

    fn possible(&self, index: usize, leg: &Leg, inquiring: &Inquiring) -> Possible {
        let load = self.load(index, leg);
        let in_order = load.pattern == Pattern::Sequential;
        let region = load.end.saturating_sub(load.start).as_f64();
        let arm = inquiring.fall.before.get() * ARM_S;
        let behind = inquiring.here.saturating_sub(load.start).min(self.running.moved);
        Possible {
            elsewhere: in_order && region > 12.0 * arm,
            reads: in_order && behind >= LEAST_READ,
            heavier: heavier(&load).is_some(),
            // Heads that go to and fro between two places tell nothing of the machine.
            workers: !self.drive.identity().rotational
                && two_workers(&load, inquiring.here, Bytes::new(arm as u64)).is_some(),
            compressible: compressible(&load).is_some(),
            stretch: in_order && stretch(&load, inquiring).is_some(),
            quiet: inquiring.quiet,
            thermometer: inquiring.fall.temperature.is_some(),
        }
    }

    /// Follows the arm under way, after a sample of it.
    pub(super) fn follow_inquiry(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
        temperature: Option<Celsius>,
    ) -> Result<(), DriveError> {
        let now = self.elapsed;
        let in_leg = now - self.running.began;
        let Some(inquiring) = &mut self.running.inquiry else { return Ok(()) };
        inquiring.began_at = inquiring.began_at.or(temperature);
        let failing = leg.stop_after_errors.is_some_and(|most| self.running.errors >= most);
        if failing || leg.until.duration.is_some_and(|d| in_leg >= d) {
            return self.interrupt_inquiry(out, index, leg);
        }
        let spent = (now - inquiring.began).as_secs_f64() >= inquiring.most.seconds;
        if spent || inquiring.most.is_exceeded_by(inquiring.moved, inquiring.wrote) {
            self.end_arm(out, index)?;
            return self.end_inquiry(out, index, leg, InquiryEnd::Budget);
        }
        if !inquiring.arm_is_over(now, temperature) {
            return Ok(());
        }
        if inquiring.fell_further() {
            self.end_arm(out, index)?;
            return self.end_inquiry(out, index, leg, InquiryEnd::FellFurther);
        }
        if inquiring.cuts_the_rest() {
            inquiring.next.clear();
        }
        self.end_arm(out, index)?;
        self.next_arm(out, index, leg)
    }

    fn end_arm(&mut self, out: &mut Vec<Event>, index: usize) -> Result<(), DriveError> {
        let summary = self.drive.finish(Ending::AsItIs)?;
        self.account_for_drain(out, index, &summary);
        self.close_second(out, index);
        let (at, leg) = (self.elapsed, index as u16);
        self.emit(out, Event::ArmEnded { at, leg });
        let position = self.running.position;
        if let Some(inquiring) = &mut self.running.inquiry
            && let Some((arm, _)) = inquiring.arm.take()
        {
            if matches!(arm.kind, ArmKind::Quiet | ArmKind::Asked) {
                self.drive.ask_health(Asking::Usual);
            }
            // The leg goes on from where its own bytes came to, also when the arm was cut.
            if goes_on(arm.kind) {
                inquiring.here = position.unwrap_or(inquiring.here);
            }
        }
        Ok(())
    }

    /// Ends the inquiry under way, if there is one, in the middle; the leg's load goes on.
    pub(super) fn interrupt_inquiry(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
    ) -> Result<(), DriveError> {
        if self.running.inquiry.is_none() {
            return Ok(());
        }
        self.end_arm(out, index)?;
        self.end_inquiry(out, index, leg, InquiryEnd::Interrupted)
    }

    fn end_inquiry(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
        why: InquiryEnd,
    ) -> Result<(), DriveError> {
        let Some(inquiring) = self.running.inquiry.take() else { return Ok(()) };
        let (at, leg_index) = (self.elapsed, index as u16);
        self.emit(out, Event::InquiryEnded { at, leg: leg_index, why });
        self.running.position = Some(inquiring.here);
        let mut load = self.load(index, leg);
        load.limit = load.limit.map(|limit| limit.saturating_sub(self.running.moved));
        if load.pattern != Pattern::Random {
            load.from = Some(inquiring.here).filter(|h| *h < load.end).or(Some(load.start));
        }
        self.drive.begin(&load)
    }

    /// Nothing is asked of the drive beside the load just now, nor should whoever writes the record down do so.
    #[must_use]
    pub fn is_quiet(&self) -> bool {
        let arm = self.running.inquiry.as_ref().and_then(|i| i.arm.as_ref());
        arm.is_some_and(|(a, _)| a.kind == ArmKind::Quiet)
    }

    /// How long an interval may be while an inquiry is under way.
    pub(super) fn arm_interval(&self, usual: Duration) -> Duration {
        match &self.running.inquiry {
            Some(inquiring) => {
                let left = inquiring
                    .arm
                    .as_ref()
                    .map_or(INTERVAL, |(arm, began)| (*began + arm.most).saturating_sub(self.elapsed));
                usual.min(INTERVAL).min(left).max(Duration::from_millis(1))
            }
            None => usual,
        }
    }
}

#[cfg(test)]
#[path = "inquiry_tests.rs"]
mod tests;
