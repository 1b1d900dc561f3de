//! Files on simulated drives of which it is known what holds them up: the truth is what saves most time when it is taken away.

use std::time::Duration;

use hollow_mile_core::drive::freight::{Carry, Durable, FileClass, FileOrder, Through};
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::{Bytes, Rate};
use hollow_mile_core::quantity::waited_for::WaitedFor;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Conditions, Event};
use hollow_mile_core::route::{Leg, LegKind, Route};
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::Dice;
use crate::sim::{Flash, FlashLevel, Host, SimDrive, SimSpec, shipped};

/// What is named counts as right when taking it away saves so much of what the best would save.
const AS_GOOD: f64 = 0.85;

/// What takes so much of the time shall be named, and what takes less than this much more may be left out.
const LEAST: f64 = 0.4;
const UNSURE: f64 = 0.5;

/// Intervals of smaller shares are not counted: nearly all of these are of things that take no time at all.
const TOLD_SHARE: f64 = 0.05;

/// How often what held files up was named.
#[derive(Debug, Clone, Default)]
pub struct FreightScore {
    /// Hauls made.
    pub hauls: usize,
    /// Those of which one thing was named.
    pub named: usize,
    /// And rightly.
    pub right: usize,
    /// Those that one thing held up for two fifths of the time or more, and those of them of which it was named.
    pub held_up: (usize, usize),
    /// Those of which what was said is right: the thing named, or nothing where nothing takes as much.
    pub right_or_none: usize,
    /// Named at 0.95 or more, and how many of these rightly.
    pub sure: (usize, usize),
    /// Findings of anything else but a full memory: none is true.
    pub false_findings: usize,
    /// Intervals of what a file costs, and those that hold the truth.
    pub costs: (usize, usize),
    /// The same of what a byte costs.
    pub bytes: (usize, usize),
    /// The same of the size of a file that costs as much for itself as for its bytes.
    pub evens: (usize, usize),
    /// The same of the shares of the time that would go without a thing, where these are [`TOLD_SHARE`] or more.
    pub shares: (usize, usize),
    /// What was named, what would have been right, how often.
    pub confusion: Vec<(WaitedFor, WaitedFor, usize)>,
    /// Mistakes in words.
    pub mistakes: Vec<String>,
    /// What was not named, in words.
    pub missed: Vec<String>,
}

/// One random haul.
struct Setting {
    target: SimSpec,
    source: SimSpec,
    leg: Leg,
}

fn drive(d: &mut Dice, seed: u64) -> Option<SimSpec> {
    let mut spec = shipped("corrie-2t")?;
    spec.seed = seed;
    let fast = d.log_within(80.0, 6000.0);
    let level =
        |rate: f64, size: Option<Bytes>| FlashLevel { rate: Rate::from_mb_s(rate), size, shrinks: false };
    let level = if d.chance(0.25) {
        // A cache that ends in the middle of it.
        let size = Bytes::new((d.within(0.2, 2.0) * 1e9) as u64);
        vec![level(fast, Some(size)), level(fast * d.within(0.2, 0.8), None)]
    } else {
        vec![level(fast, None)]
    };
    let read = Rate::from_mb_s(d.log_within(80.0, 6000.0));
    spec.flash = Some(Flash { level, read, recover: Rate::from_mb_s(500.0), zone: Vec::new() });
    spec.platters = None;
    spec.heat.throttle = None;
    spec.noise.sigma = d.within(0.005, 0.08);
    spec.noise.stall_every = None;
    Some(spec)
}

fn host(d: &mut Dice) -> Host {
    let us = |v: f64| Duration::from_nanos((v * 1e3) as u64);
    let create = d.log_within(20.0, 1200.0);
    Host {
        create: us(create),
        open: us(d.log_within(10.0, 600.0)),
        remove: us(d.log_within(10.0, 300.0)),
        folder: us(create * 1.2),
        sigma: d.within(0.05, 0.5),
        copy: Rate::from_mb_s(d.log_within(600.0, 8000.0)),
        copy_sigma: 0.0,
        memory: Bytes::new((d.log_within(0.05, 8.0) * 1e9) as u64),
        commit_every: d.chance(0.5).then(|| d.log_within(300.0, 20_000.0) as u64),
        commit: Duration::from_secs_f64(d.log_within(0.02, 0.8)),
        flush: Duration::from_secs_f64(d.log_within(0.0002, 0.01)),
        access: us(d.log_within(20.0, 200.0)),
    }
}

fn setting(seed: u64) -> Option<Setting> {
    let mut d = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0x9E6D_62D0_6F6A_9A9B) ^ 0xF4E1));
    let (mut target, source) = (drive(&mut d, seed)?, drive(&mut d, seed ^ 77)?);
    target.host = host(&mut d);
    let small =
        FileClass { from: Bytes::new(1000), to: Bytes::new(d.log_within(4e3, 2e5) as u64), percent: 0.0 };
    let large =
        FileClass { from: Bytes::new(1 << 20), to: Bytes::new(d.log_within(2e6, 6e7) as u64), percent: 0.0 };
    let share = [0.0, 20.0, 60.0, 90.0, 99.0, 100.0][d.within(0.0, 5.999) as usize];
    let files = [(small, share), (large, 100.0 - share)];
    let files =
        files.into_iter().filter(|f| f.1 > 0.0).map(|(c, percent)| FileClass { percent, ..c }).collect();
    let pick = |d: &mut Dice, n: f64| d.within(0.0, n - 0.001) as usize;
    let leg = Leg {
        carry: if d.chance(0.7) { Carry::Copy } else { Carry::Write },
        files,
        count: Some(d.log_within(1500.0, 25_000.0) as u64),
        total: Some(Bytes::new((d.log_within(0.8, 5.0) * 1e9) as u64)),
        folder_depth: 1,
        folder_width: Some(pick(&mut d, 40.0) as u32 + 1),
        seed,
        through: if d.chance(0.75) { Through::Cache } else { Through::Direct },
        sync: [Durable::End, Durable::End, Durable::Never, Durable::Each][pick(&mut d, 4.0)],
        order: [FileOrder::Folder, FileOrder::Shuffled, FileOrder::Shuffled, FileOrder::Size]
            [pick(&mut d, 4.0)],
        workers: [1, 1, 2, 4, 8][pick(&mut d, 5.0)],
        depth: 32,
        ..Leg::new(LegKind::Freight)
    };
    Some(Setting { target, source, leg })
}

impl Setting {
    /// Runs it; the readings, and the time to the end.
    fn run(&self) -> (Readings, f64) {
        let conditions = Conditions::default();
        let source = SimDrive::new(self.source.clone(), "sim:source", &conditions, 1);
        let drive = SimDrive::new(self.target.clone(), "sim:target", &conditions, 0).with_source(source);
        let route = Route {
            name: "proving".into(),
            about: String::new(),
            interval: Duration::from_millis(100),
            limits: Vec::new(),
            legs: vec![self.leg.clone()],
        };
        let setup = Setup { conditions, ..Setup::plain("proving", route) };
        let mut haul = Haul::new(drive, setup);
        let (mut readings, mut events) = (Readings::new(), Vec::new());
        let mut end = 0.0;
        loop {
            let progress = haul.step(&mut events);
            for event in events.drain(..) {
                if let Event::LegEnded { at, .. } = event {
                    end = at.as_secs_f64();
                }
                readings.push(&event);
            }
            if progress != Progress::Going {
                return (readings, end);
            }
        }
    }

    /// The same without what may hold it up.
    fn without(&self, on: WaitedFor) -> Self {
        let (mut target, mut source) = (self.target.clone(), self.source.clone());
        let endless = Rate::from_mb_s(1e9);
        let free = |spec: &mut SimSpec| {
            if let Some(flash) = &mut spec.flash {
                flash.read = endless;
                flash.level.iter_mut().for_each(|l| l.rate = endless);
            }
        };
        let host = &mut target.host;
        match on {
            WaitedFor::Target => {
                free(&mut target);
                target.host.access = Duration::ZERO;
            }
            WaitedFor::Source => {
                free(&mut source);
            }
            WaitedFor::FileSystem => {
                host.commit_every = None;
                host.flush = Duration::ZERO;
            }
            WaitedFor::Machine => host.copy = endless,
            WaitedFor::SmallFiles => {
                for cost in [&mut host.create, &mut host.open, &mut host.folder] {
                    *cost = Duration::ZERO;
                }
            }
        }
        Self { target, source, leg: self.leg.clone() }
    }

    /// The same where it is plain what a file and a byte cost, and both: memory takes all data, files are of many sizes.
    fn plain(mut self, seed: u64) -> (Self, f64, f64) {
        let mut d = Dice(Xoshiro256PlusPlus::seed_from_u64(seed ^ 0xC057));
        let host = &mut self.target.host;
        (host.memory, host.commit_every) = (Bytes::from_gb(1000), None);
        host.copy_sigma = d.within(0.05, 0.8);
        let to = Bytes::new(d.log_within(1e6, 3e7) as u64);
        self.leg = Leg {
            carry: Carry::Write,
            through: Through::Cache,
            sync: Durable::End,
            files: vec![FileClass { from: Bytes::new(d.log_within(500.0, 1e4) as u64), to, percent: 100.0 }],
            ..self.leg
        };
        let threads = f64::from(self.leg.workers);
        let mean = |sigma: f64| (sigma * sigma / 2.0).exp();
        let file = host.create.as_secs_f64() * mean(host.sigma) / threads;
        let byte = mean(host.copy_sigma) / host.copy.get() / threads;
        (self, file, byte)
    }
}

/// Whether the intervals of what a file and a byte cost hold what they do.
fn prove_costs(seed: u64, setting: Setting, score: &mut FreightScore) {
    let (setting, file, byte) = setting.plain(seed);
    let legs = setting.run().0.conclude().surveys.freight.map(|f| f.legs).unwrap_or_default();
    let Some(costs) = legs.first().and_then(|l| l.costs.as_ref()) else { return };
    for (interval, truth, counts) in [
        (costs.per_file, file, &mut score.costs),
        (costs.per_byte, byte, &mut score.bytes),
        (costs.even, file / byte, &mut score.evens),
    ] {
        if let Some(i) = interval {
            counts.0 += 1;
            counts.1 += usize::from(i.low <= truth && truth <= i.high);
        }
    }
}

/// A random haul of files, and whether what held it up was named.
pub fn prove_freight(seed: u64, score: &mut FreightScore) {
    let Some(setting) = setting(seed) else { return };
    let (readings, whole) = setting.run();
    let saves: Vec<(WaitedFor, f64)> =
        WaitedFor::ALL.into_iter().map(|on| (on, whole - setting.without(on).run().1)).collect();
    let best = saves.iter().copied().fold(saves[0], |a, b| if b.1 > a.1 { b } else { a });
    let conclusions = readings.conclude();
    score.hauls += 1;
    let beside = |k: FindingKind| !matches!(k, FindingKind::Bottleneck | FindingKind::WriteBack);
    let held_up = best.1 >= LEAST * whole;
    let named_right = conclusions
        .findings
        .iter()
        .find_map(|f| f.waits_for)
        .map(|w| saves.iter().any(|s| s.0 == w.on && s.1 >= AS_GOOD * best.1));
    score.held_up.0 += usize::from(held_up);
    score.held_up.1 += usize::from(held_up && named_right == Some(true));
    score.right_or_none += usize::from(named_right.unwrap_or(best.1 < UNSURE * whole));
    if held_up && named_right.is_none() {
        let legs = conclusions.surveys.freight.iter().flat_map(|f| &f.legs);
        let told: Vec<String> = legs
            .flat_map(|l| &l.waits)
            .map(|w| format!("{} {:.0} %", w.on.word(), w.share * 100.0))
            .collect();
        score.missed.push(format!(
            "seed {seed}: {} would save {:.0} %, {whole:.1} s; told: {}",
            best.0.word(),
            best.1 / whole * 100.0,
            told.join(", ")
        ));
    }
    for waits in conclusions.surveys.freight.iter().flat_map(|f| &f.legs).flat_map(|l| &l.waits) {
        let saved = saves.iter().find(|s| s.0 == waits.on).map_or(0.0, |s| (s.1 / whole).clamp(0.0, 1.0));
        if waits.share >= TOLD_SHARE {
            score.shares.0 += 1;
            score.shares.1 += usize::from(waits.low <= saved && saved <= waits.high);
        }
    }
    score.false_findings += conclusions.findings.iter().filter(|f| beside(f.kind)).count();
    if let Some((finding, waits)) = conclusions.findings.iter().find_map(|f| f.waits_for.map(|w| (f, w))) {
        let saved = saves.iter().find(|s| s.0 == waits.on).map_or(0.0, |s| s.1);
        let right = saved >= AS_GOOD * best.1;
        score.named += 1;
        score.right += usize::from(right);
        if finding.confidence >= 0.95 {
            score.sure.0 += 1;
            score.sure.1 += usize::from(right);
        }
        if !right {
            let told: Vec<String> =
                saves.iter().map(|(on, s)| format!("{} {:.0} %", on.word(), s / whole * 100.0)).collect();
            score.mistakes.push(format!(
                "seed {seed}: {} at {:.0} % of the time, by {} files at once, {:?} {:?} {:?}; without: {}",
                waits.on.word(),
                waits.share * 100.0,
                setting.leg.workers,
                setting.leg.carry,
                setting.leg.through,
                setting.leg.sync,
                told.join(", ")
            ));
            match score.confusion.iter_mut().find(|c| (c.0, c.1) == (waits.on, best.0)) {
                Some(known) => known.2 += 1,
                None => score.confusion.push((waits.on, best.0, 1)),
            }
        }
    }
    prove_costs(seed, setting, score);
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `hollow-mile prove` prints a large run.
    #[test]
    fn what_holds_files_up_is_named_rightly() {
        let mut score = FreightScore::default();
        (0..50).for_each(|seed| prove_freight(6_000_000 + seed, &mut score));
        assert!(score.named >= 38, "{score:#?}");
        assert!(score.right as f64 >= 0.93 * score.named as f64, "{:#?}", score.mistakes);
        assert_eq!(score.false_findings, 0);
    }
}
