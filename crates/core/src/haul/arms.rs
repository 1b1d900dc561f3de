//! The arms of experiments: which loads, in which order and for how long.

use std::collections::VecDeque;
use std::time::Duration;

use super::inquiring::Inquiring;
use crate::conclude::inquiry::{ARM_S, CycleForm, Possible, Trial};
use crate::drive::{Load, LoadKind, Pattern};
use crate::quantity::units::Bytes;
use crate::record::{ArmKind, Experiment};

/// A light load after a rest goes on so long, where nothing is known of it, s.
const LIGHT_S: f64 = 10.0;
/// From one fall to the next and from a fall until it is back, s at most, where nothing is known of it.
const CYCLE_S: f64 = 60.0;
/// From so many operations in flight on it is not the drive's answer that a load waits for, as a rule.
const DEEP: u32 = 8;
/// Of data that compress so much can be squeezed away.
const SQUEEZED_PERCENT: u8 = 75;
/// Where a fall began is known to what moves in this time, s.
const UNSURE_S: f64 = 1.0;

/// An arm about to be put on.
#[derive(Debug, Clone)]
pub(super) struct Planned {
    pub experiment: Experiment,
    pub kind: ArmKind,
    pub load: Load,
    pub most: Duration,
    /// A rest is over when the drive is cool enough, and lasts so long at least, s; `None`: it is to show what time alone brings back.
    pub ends_cool: Option<f64>,
}

/// Whole blocks of a region, and an address in it on a block.
pub(super) fn in_blocks(load: &mut Load, at: Bytes) {
    let block = load.block.get();
    let whole = load.end.saturating_sub(load.start).get() / block * block;
    load.end = load.start + Bytes::new(whole);
    let off = at.saturating_sub(load.start).get() / block * block;
    load.from = (load.pattern != Pattern::Random)
        .then(|| load.start + Bytes::new(if off >= whole { 0 } else { off }));
}

/// The load with larger blocks, and more in flight. `None` where that does not fit, or where the load is so shallow that a drive which answers late
/// is faster by it: that would tell nothing of the machine.
pub(super) fn heavier(load: &Load) -> Option<Load> {
    let block = load.block.get();
    let larger = if block < 1 << 20 { 4 * block } else { 2 * block };
    let heavier = Load { block: Bytes::new(larger), depth: 2 * load.depth, ..load.clone() };
    (load.depth >= DEEP && fits(&heavier)).then_some(heavier)
}

/// The load by two workers, together as deep as the one (a drive that answers late is faster by depth alone), side by side right ahead of it: so
/// many bytes are what an arm takes at most. `None` where there is no room or no depth to share, or where it is by more than one already.
pub(super) fn two_workers(load: &Load, here: Bytes, arm_bytes: Bytes) -> Option<Load> {
    let block = load.block.get();
    // Each has twice what an arm takes: neither begins anew within it.
    let length = (4 * arm_bytes.get()).div_ceil(2 * block) * 2 * block;
    let last = load.end.get().checked_sub(length).filter(|l| *l >= load.start.get())?;
    let at = here.get().clamp(load.start.get(), last);
    let start = load.start + Bytes::new((at - load.start.get()) / block * block);
    let two = Load { workers: 2, start, end: start + Bytes::new(length), from: None, ..load.clone() };
    let shared = load.workers == 1 && load.depth >= 2;
    (shared && load.pattern == Pattern::Sequential && fits(&two)).then_some(two)
}

/// The load with data that compress: a quarter of them is left. `None` where they do so already.
pub(super) fn compressible(load: &Load) -> Option<Load> {
    (load.compressible_percent < 50).then(|| Load { compressible_percent: SQUEEZED_PERCENT, ..load.clone() })
}

/// What the engine allows in a route, what a machine has memory for, and a region that holds it many times.
pub(super) fn fits(load: &Load) -> bool {
    let (block, region) = (load.block.get(), load.end.saturating_sub(load.start).get());
    let in_flight = block.saturating_mul(load.depth.into());
    block <= 64 << 20 && load.depth <= 1024 && in_flight <= 1 << 30 && region >= in_flight.max(16 * block)
}

/// The arms of an experiment, in order. `moved` is what the leg has written so far.
pub(super) fn arms(
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
        ends_cool: (trial.round == 0 || trial.experiment != Experiment::Cool).then_some(trial.least_rest_s),
    };
    let here = || planned(ArmKind::Here, bare.clone(), ARM_S);
    let arm_bytes = Bytes::new((inquiring.fall.before.get() * ARM_S) as u64);
    let read = |inquiring: &Inquiring| read_back(inquiring, &bare, moved, arm_bytes + arm_bytes);
    if trial.experiment == Experiment::Cool {
        let read = |kind: ArmKind| possible.reads.then(|| planned(kind, read(inquiring), ARM_S));
        // A second, longer rest begins where the load has fallen again.
        let first = if trial.round > 0 { planned(ArmKind::ToFall, bare.clone(), CYCLE_S) } else { here() };
        return [
            Some(first),
            read(ArmKind::ReadHot),
            Some(planned(ArmKind::Rest, Load::rest(), trial.rest_s())),
            read(ArmKind::ReadCool),
            // Its rate and length are known once it is put on.
            trial.light_first.then(|| planned(ArmKind::Lighter, bare.clone(), LIGHT_S)),
            Some(planned(ArmKind::Again, bare.clone(), trial.again_s)),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    if trial.experiment == Experiment::Cycle {
        let to = |kind: ArmKind, most: f64| planned(kind, bare.clone(), most);
        let Some(turns) = inquiring.fall.turns else { return VecDeque::new() };
        if trial.form != CycleForm::Lighter {
            let put_in = match trial.form {
                CycleForm::Read => {
                    // As much as is written in so long; where less was written, over and over.
                    let wanted = Bytes::new((inquiring.fall.before.get() * turns.put_in_s()) as u64);
                    planned(ArmKind::Read, read_back(inquiring, &bare, moved, wanted), turns.put_in_s())
                }
                _ => planned(ArmKind::Rest, Load::rest(), turns.put_in_s()),
            };
            let still = inquiring.fall.still_fast_s(trial.form);
            return VecDeque::from([put_in, to(ArmKind::ToFall, still)]);
        }
        let most = |usual: f64| (2.5 * usual).clamp(ARM_S, CYCLE_S);
        // It begins where the rate has just come back. Its rate and length are known once it is put on.
        let back = to(ArmKind::ToBack, most(turns.slow_s));
        let lasts = inquiring.fall.lighter_s().unwrap_or(turns.fast_s);
        let lighter = to(ArmKind::Lighter, 1.5 * lasts.max(ARM_S));
        // Reads while it is low and when it is back tell the first time whether they are slowed too.
        let read = |kind: ArmKind| {
            (possible.reads && trial.round == 0).then(|| planned(kind, read(inquiring), ARM_S))
        };
        return [
            read(ArmKind::ReadHot),
            Some(back.clone()),
            read(ArmKind::ReadCool),
            Some(lighter),
            Some(back),
        ]
        .into_iter()
        .flatten()
        .collect();
    }
    if trial.experiment == Experiment::SameStretch {
        let Some((before, behind, length)) = stretch(load, inquiring) else { return VecDeque::new() };
        // Each from its own beginning, and then each from its own end.
        let arm = |kind: ArmKind, start: Bytes, pattern: Pattern| {
            let end = start + length;
            let from = Some(if pattern == Pattern::Backward { end } else { start });
            planned(kind, Load { start, end, from, pattern, ..bare.clone() }, ARM_S)
        };
        let (to, back) = (Pattern::Sequential, Pattern::Backward);
        return VecDeque::from([
            arm(ArmKind::Before, before, to),
            arm(ArmKind::Behind, behind, to),
            arm(ArmKind::Behind, behind, back),
            arm(ArmKind::Before, before, back),
        ]);
    }
    if trial.experiment == Experiment::Quiet {
        let of = |kind: ArmKind| planned(kind, bare.clone(), ARM_S);
        let (quiet, asked) = (of(ArmKind::Quiet), of(ArmKind::Asked));
        return VecDeque::from(if inquiring.draw() & 1 == 1 {
            [quiet.clone(), asked.clone(), asked, quiet]
        } else {
            [asked.clone(), quiet.clone(), quiet, asked]
        });
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
            Experiment::Heavier => {
                let Some(heavier) = heavier(&bare) else { return VecDeque::new() };
                planned(ArmKind::Heavier, heavier, ARM_S)
            }
            Experiment::Workers => {
                let Some(two) = two_workers(&bare, inquiring.here, arm_bytes) else { return VecDeque::new() };
                planned(ArmKind::Workers, two, ARM_S)
            }
            Experiment::Compressible => {
                let Some(squeezed) = compressible(&bare) else { return VecDeque::new() };
                planned(ArmKind::Compressible, squeezed, ARM_S)
            }
            _ => planned(ArmKind::Read, read(inquiring), ARM_S),
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

/// Reads of what was written last, so much of it at most.
fn read_back(inquiring: &Inquiring, load: &Load, moved: Bytes, wanted: Bytes) -> Load {
    let behind = inquiring.here.saturating_sub(load.start).min(moved).min(wanted);
    let block = load.block.get();
    let length = Bytes::new((behind.get() / block).max(1) * block);
    let start = inquiring.here.saturating_sub(length).max(load.start);
    let end = start + length;
    Load { kind: LoadKind::Read, start, end, from: Some(start), compressible_percent: 0, ..load.clone() }
}

/// The leg's own bytes go on in it, from where it stands.
pub(super) const fn goes_on(kind: ArmKind) -> bool {
    matches!(
        kind,
        ArmKind::Here
            | ArmKind::Again
            | ArmKind::Heavier
            | ArmKind::Compressible
            | ArmKind::ToFall
            | ArmKind::ToBack
            | ArmKind::Lighter
            | ArmKind::Quiet
            | ArmKind::Asked
    )
}

fn is_here(arm: &Planned) -> bool {
    arm.kind == ArmKind::Here
}

/// Where the stretches before and behind the fall begin, and how long each is; `None` where they are not known, or were not written.
pub(super) fn stretch(load: &Load, inquiring: &Inquiring) -> Option<(Bytes, Bytes, Bytes)> {
    let block = load.block.get();
    let (at, before) = (inquiring.fall.position?, inquiring.fall.before.get());
    let blocks = |seconds: f64| Bytes::new((before * seconds) as u64 / block * block);
    let (length, gap) = (blocks(1.25 * ARM_S), blocks(UNSURE_S));
    let first = at.get().checked_sub((gap + length).get()).map(Bytes::new).filter(|f| *f >= load.start)?;
    let second = at + gap;
    let whole = length.get() >= block && second + length <= inquiring.here;
    let on_block = |b: Bytes| load.start + Bytes::new((b - load.start).get() / block * block);
    whole.then(|| (on_block(first), on_block(second), length))
}
