//! Inquiries while a haul runs: the leg's load is taken off, the arms of experiments are put on in its place, one after the other, and the
//! leg goes on where it stood. What to try is said by [`crate::conclude::inquiry`]; here it is done.

use std::collections::VecDeque;
use std::time::Duration;

use super::Haul;
use crate::conclude::inquiry::{ARM_S, COOLS_K, Inquiry, KEEPS, Possible, RESTS_S, STANDS, Trial};
use crate::drive::permutation::spread;
use crate::drive::{Drive, DriveError, Ending, Load, LoadKind, Pattern};
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::readings::Readings;
use crate::record::{Arm, ArmKind, Event, Experiment, Fall, HaulHead, InquiryEnd};
use crate::route::Leg;

/// Share of the leg's time and bytes that an inquiry may take when nothing else is stated.
const SHARE: f64 = 0.05;
/// And no longer than this without being asked.
const MOST_S: f64 = 600.0;
/// A rest is over when the drive has cooled by so much more than what tells something, K, and lasts at least so long, s.
const COOL_ENOUGH: f64 = COOLS_K + 5.0;
const LEAST_REST_S: f64 = 10.0;
/// The load after a rest goes on so long at most, s.
const AGAIN_S: f64 = 10.0;
/// An arm that waits for the rate to change lasts so long at least, s.
const SEEN_S: f64 = 1.5;
/// From one fall to the next and from a fall until it is back, s at most.
const CYCLE_S: f64 = 60.0;
/// Samples within an arm are no longer than this.
const INTERVAL: Duration = Duration::from_millis(100);
/// Less than this cannot be read long enough to tell a rate.
const LEAST_READ: Bytes = Bytes::from_mib(64);

/// An arm about to be put on.
#[derive(Debug, Clone)]
struct Planned {
    experiment: Experiment,
    kind: ArmKind,
    load: Load,
    most: Duration,
}

/// An inquiry under way.
#[derive(Debug)]
pub(super) struct Inquiring {
    began: Duration,
    moved: Bytes,
    most_s: f64,
    most_bytes: Bytes,
    /// Where the leg's own load goes on.
    here: Bytes,
    fall: Fall,
    next: VecDeque<Planned>,
    arm: Option<(Planned, Duration)>,
    /// Bytes of the arm under way.
    arm_moved: Bytes,
    /// Bytes and seconds of the arms of this experiment that are over.
    went: Vec<(f64, f64)>,
    /// Temperature when the arm began.
    began_at: Option<Celsius>,
    /// Bytes and time of the arm's last second, newest last.
    recent: VecDeque<(f64, f64)>,
    seed: u64,
    /// Numbers drawn from it.
    drawn: u64,
}

impl Inquiring {
    /// What is drawn next.
    const fn draw(&mut self) -> u64 {
        self.drawn += 1;
        spread(self.seed, self.drawn)
    }

    /// The load under way reads.
    pub fn reads(&self) -> bool {
        self.arm.as_ref().is_some_and(|(a, _)| a.load.kind == LoadKind::Read)
    }

    /// Takes what moved in an interval.
    pub fn take(&mut self, bytes: Bytes, took: Duration) {
        self.moved += bytes;
        self.arm_moved += bytes;
        self.recent.push_back((bytes.as_f64(), took.as_secs_f64()));
        while self.recent.iter().skip(1).map(|r| r.1).sum::<f64>() >= 1.0 {
            self.recent.pop_front();
        }
    }

    /// Bytes a second over the arm's last second.
    fn recent_rate(&self) -> f64 {
        let (bytes, seconds) = self.recent.iter().fold((0.0, 0.0), |a, r| (a.0 + r.0, a.1 + r.1));
        bytes / seconds.max(1e-9)
    }

    /// The rate of a lighter load, and how many bytes of it: less than the drive keeps in the mean of a fast and a slow stretch, and more than
    /// the slow one has, so that a fall is seen.
    fn lighter(&self) -> Option<(Rate, Bytes)> {
        let [.., slow, fast, _] = self.went.as_slice() else { return None };
        let (all, seconds) = (slow.0 + fast.0, slow.1 + fast.1);
        let (mean, low) = (all / seconds.max(1e-9), self.fall.after.get());
        let rate = (low + 0.7 * (mean - low)).max(1.25 * low);
        (rate < 0.95 * mean).then(|| (Rate::new(rate), Bytes::new((1.5 * fast.0) as u64)))
    }

    /// The load is nearer to what it was after the fall than to what it was before.
    fn is_slow(&self) -> bool {
        self.recent_rate() < (self.fall.before.get() * self.fall.after.get()).sqrt()
    }

    fn arm_is_over(&self, now: Duration, temperature: Option<Celsius>) -> bool {
        let Some((arm, began)) = &self.arm else { return true };
        let lasted = (now - *began).as_secs_f64();
        let seen = lasted >= SEEN_S;
        match arm.kind {
            _ if now - *began >= arm.most => true,
            ArmKind::Rest => {
                let by = self.began_at.zip(temperature).map(|(then, now)| then.degrees() - now.degrees());
                lasted >= LEAST_REST_S && by.is_some_and(|k| k >= COOL_ENOUGH)
            }
            ArmKind::Again | ArmKind::ToFall => seen && self.is_slow(),
            ArmKind::ToBack => seen && !self.is_slow(),
            ArmKind::Lighter => {
                let all = arm.load.limit.is_some_and(|l| self.arm_moved >= l);
                all || seen && arm.load.rate.is_some_and(|r| self.recent_rate() < KEEPS * r.get())
            }
            _ => false,
        }
    }
}

/// Whole blocks of a region, and an address in it on a block.
fn in_blocks(load: &mut Load, at: Bytes) {
    let block = load.block.get();
    let whole = load.end.saturating_sub(load.start).get() / block * block;
    load.end = load.start + Bytes::new(whole);
    let off = at.saturating_sub(load.start).get() / block * block;
    load.from = (load.pattern != Pattern::Random)
        .then(|| load.start + Bytes::new(if off >= whole { 0 } else { off }));
}

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
        if !leg.may_decide() || self.running.load_finished {
            return Ok(false);
        }
        let fall = match asked {
            Some(fall) => *fall,
            None if leg.decide && due => {
                let found = self.readings.as_ref().and_then(|r| r.standing_fall(index as u16, STANDS));
                let Some(fall) = found else { return Ok(false) };
                fall
            }
            None => return Ok(false),
        };
        self.begin_inquiry(out, index, leg, fall)?;
        Ok(true)
    }

    fn begin_inquiry(
        &mut self,
        out: &mut Vec<Event>,
        index: usize,
        leg: &Leg,
        fall: Fall,
    ) -> Result<(), DriveError> {
        self.take_off(out, index)?;
        let load = self.load(index, leg);
        let here = self.running.position.unwrap_or(load.start);
        let region = load.end.saturating_sub(load.start);
        let left = load.limit.map(|l| l.saturating_sub(self.running.moved));
        let left = left.unwrap_or_else(|| load.end.saturating_sub(here)).as_f64();
        let in_leg = (self.elapsed - self.running.began).as_secs_f64();
        let to_come = left / fall.after.get().max(1.0);
        let whole = leg.until.duration.map_or(in_leg + to_come, |d| d.as_secs_f64().min(in_leg + to_come));
        let bytes = load.limit.unwrap_or(region).as_f64();
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
            most_s: leg.decide_time.map_or((SHARE * whole).min(MOST_S), |d| d.as_secs_f64()),
            most_bytes: leg.decide_bytes.unwrap_or(Bytes::new((SHARE * bytes) as u64)),
            here,
            fall: fall.clone(),
            next: VecDeque::new(),
            arm: None,
            arm_moved: Bytes::ZERO,
            went: Vec::new(),
            began_at: None,
            recent: VecDeque::new(),
            seed: self.elapsed.as_nanos() as u64 ^ (index as u64) << 48,
            drawn: 0,
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
            let over = inquiring.moved > inquiring.most_bytes;
            let left_s = if over { 0.0 } else { inquiring.most_s - spent };
            let possible = self.possible(index, leg, &inquiring);
            let readings = self.readings.as_ref();
            let trial =
                readings.and_then(|r| Some(Inquiry::of(r.inquiries().last()?, r).next(possible, left_s)));
            match trial.unwrap_or(Err(InquiryEnd::NothingLeft)) {
                Ok(trial) => {
                    let load = self.load(index, leg);
                    inquiring.went.clear();
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
        if arm.kind == ArmKind::Lighter {
            let Some((rate, bytes)) = inquiring.lighter() else {
                self.running.inquiry = Some(inquiring);
                return self.end_inquiry(out, index, leg, InquiryEnd::NothingLeft);
            };
            (arm.load.rate, arm.load.limit) = (Some(rate), Some(bytes));
        }
        let Load { kind: load, start, end, block, depth, rate, .. } = arm.load;
        let told = Arm { experiment: arm.experiment, kind: arm.kind, load, start, end, block, depth, rate };
        let begun = self.drive.begin(&arm.load);
        inquiring.arm = Some((arm, self.elapsed));
        inquiring.began_at = None;
        inquiring.arm_moved = Bytes::ZERO;
        inquiring.recent.clear();
        self.running.inquiry = Some(inquiring);
        let (at, leg) = (self.elapsed, index as u16);
        self.emit(out, Event::ArmStarted { at, leg, arm: told });
        begun
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
            heavier: fits(&heavier(&load)),
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
        let spent = (now - inquiring.began).as_secs_f64() >= inquiring.most_s;
        if spent || inquiring.moved > inquiring.most_bytes {
            self.end_arm(out, index)?;
            return self.end_inquiry(out, index, leg, InquiryEnd::Budget);
        }
        if !inquiring.arm_is_over(now, temperature) {
            return Ok(());
        }
        // What was waited for did not come: the arms that build on it tell nothing.
        let missed = match &inquiring.arm {
            Some((arm, _)) if arm.kind == ArmKind::ToFall => !inquiring.is_slow(),
            Some((arm, _)) if arm.kind == ArmKind::ToBack => inquiring.is_slow(),
            _ => false,
        };
        if missed {
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
        let (now, position) = (self.elapsed, self.running.position);
        if let Some(inquiring) = &mut self.running.inquiry
            && let Some((arm, began)) = inquiring.arm.take()
        {
            // The leg goes on from where its own bytes came to, also when the arm was cut.
            if goes_on(arm.kind) {
                inquiring.here = position.unwrap_or(inquiring.here);
            }
            inquiring.went.push((inquiring.arm_moved.as_f64(), (now - began).as_secs_f64()));
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

/// The load with larger blocks, and more in flight.
fn heavier(load: &Load) -> Load {
    let block = load.block.get();
    let larger = if block < 1 << 20 { 4 * block } else { 2 * block };
    Load { block: Bytes::new(larger), depth: 2 * load.depth, ..load.clone() }
}

/// What the engine allows in a route, what a machine has memory for, and a region that holds it many times.
fn fits(load: &Load) -> bool {
    let (block, region) = (load.block.get(), load.end.saturating_sub(load.start).get());
    let in_flight = block.saturating_mul(load.depth.into());
    block <= 64 << 20 && load.depth <= 1024 && in_flight <= 1 << 30 && region >= in_flight.max(16 * block)
}

/// The arms of an experiment, in order. `moved` is what the leg has written so far.
fn arms(
    inquiring: &mut Inquiring,
    trial: Trial,
    possible: Possible,
    load: &Load,
    moved: Bytes,
) -> VecDeque<Planned> {
    let seconds = Duration::from_secs_f64;
    let bare = Load { limit: None, lookout: None, ..load.clone() };
    let planned = |kind: ArmKind, load: Load, most: f64| Planned {
        experiment: trial.experiment,
        kind,
        load,
        most: seconds(most),
    };
    let here = || planned(ArmKind::Here, bare.clone(), ARM_S);
    let arm_bytes = Bytes::new((inquiring.fall.before.get() * ARM_S) as u64);
    let read = |inquiring: &Inquiring| {
        let behind = inquiring.here.saturating_sub(bare.start).min(moved).min(arm_bytes + arm_bytes);
        let block = bare.block.get();
        let length = Bytes::new((behind.get() / block).max(1) * block);
        let start = inquiring.here.saturating_sub(length).max(bare.start);
        let end = start + length;
        Load { kind: LoadKind::Read, start, end, from: Some(start), compressible_percent: 0, ..bare.clone() }
    };
    if trial.experiment == Experiment::Cool {
        let read = |kind: ArmKind| possible.reads.then(|| planned(kind, read(inquiring), ARM_S));
        let rest = RESTS_S[(trial.round as usize).min(1)];
        // A second, longer rest begins where the load has fallen again.
        let first = if trial.round > 0 { planned(ArmKind::ToFall, bare.clone(), CYCLE_S) } else { here() };
        return [
            Some(first),
            read(ArmKind::ReadHot),
            Some(planned(ArmKind::Rest, Load::rest(), rest)),
            read(ArmKind::ReadCool),
            Some(planned(ArmKind::Again, bare.clone(), AGAIN_S)),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    if trial.experiment == Experiment::Cycle {
        let to = |kind: ArmKind, most: f64| planned(kind, bare.clone(), most);
        return VecDeque::from([
            to(ArmKind::ToFall, CYCLE_S),
            to(ArmKind::ToBack, CYCLE_S),
            to(ArmKind::ToFall, CYCLE_S),
            to(ArmKind::ToBack, CYCLE_S),
            // Its rate and length are known once those before it are over.
            to(ArmKind::Lighter, 3.0 * CYCLE_S),
        ]);
    }
    let mut all = VecDeque::new();
    for pair in 0..2 {
        let other = match trial.experiment {
            Experiment::Elsewhere => {
                let mut there = bare.clone();
                let region = bare.end.saturating_sub(bare.start).get();
                let off = inquiring.here.saturating_sub(bare.start).get();
                // A third to two thirds of the region further on, another place each time.
                let far = region / 3 + inquiring.draw() % (region / 3).max(1);
                let room = region.saturating_sub(2 * arm_bytes.get()).max(1);
                let at = bare.start + Bytes::new(((off + far) % region).min(room));
                in_blocks(&mut there, at);
                planned(ArmKind::Elsewhere, there, ARM_S)
            }
            Experiment::Heavier => planned(ArmKind::Heavier, heavier(&bare), ARM_S),
            Experiment::OtherWay | Experiment::Cool | Experiment::Cycle => {
                planned(ArmKind::Read, read(inquiring), ARM_S)
            }
        };
        let mut two = [here(), other];
        // The first pair begins with either, and the second the other way round: what drifts evenly is in both.
        if pair == 0 && inquiring.draw() & 1 == 1 || pair == 1 && all.front().is_some_and(is_here) {
            two.reverse();
        }
        all.extend(two);
    }
    all
}

/// The leg's own bytes go on in it, from where it stands.
const fn goes_on(kind: ArmKind) -> bool {
    matches!(
        kind,
        ArmKind::Here
            | ArmKind::Again
            | ArmKind::Heavier
            | ArmKind::ToFall
            | ArmKind::ToBack
            | ArmKind::Lighter
    )
}

fn is_here(arm: &Planned) -> bool {
    arm.kind == ArmKind::Here
}

#[cfg(test)]
#[path = "inquiry_tests.rs"]
mod tests;
