//! Random drives with slow stretches, scanned by a real route: a drive of its own, not [`crate::sim`], with densities in
//! steps, noise of other shapes, stalls, strangers and slow swings of the rate.

use hollow_mile_core::drive::Ending;
use std::time::Duration;

use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, DriveKind, Load, LoadSummary, Pattern, Tally,
};
use hollow_mile_core::drive::{LatencySummary, Vitals};
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::route::{Leg, LegKind, Route};
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::make::Dice;

/// A slow stretch.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Slow {
    from: f64,
    to: f64,
    factor: f64,
}

/// A drive with a truth, and the route that scans it.
struct Ground {
    identity: DriveIdentity,
    dice: Dice,
    /// Rate of each density, from the first address on, bytes a second.
    steps: Vec<f64>,
    slow: Vec<Slow>,
    sigma: f64,
    rho: f64,
    heavy: bool,
    stall_every: f64,
    stall: f64,
    /// Strangers: from, to, share that is left, by time.
    strangers: Vec<(f64, f64, f64)>,
    swing: f64,
    deviation: f64,
    clock: f64,
    stall_left: f64,
    next_stall: f64,
    load: Load,
    at: f64,
    moved: f64,
}

impl Ground {
    fn make(seed: u64) -> (Self, Route, String) {
        let mut dice = Dice(Xoshiro256PlusPlus::seed_from_u64(seed ^ 0x6d0c_57e4));
        let platters = dice.chance(0.55);
        let capacity = (dice.log_within(60e9, 16e12) / 1e6).round() * 1e6;
        let outer = if platters { dice.within(90e6, 290e6) } else { dice.log_within(120e6, 7e9) };
        let inner = if platters { outer * dice.within(0.42, 0.6) } else { outer };
        let densities = if platters { dice.within(12.0, 40.0) as usize } else { 1 };
        let steps =
            (0..densities).map(|i| outer + (inner - outer) * (i as f64 + 0.5) / densities as f64).collect();
        let bins = [512u32, 1024, 2048, 4096, 8192, 16384][dice.within(0.0, 5.999) as usize];
        let passes = if dice.chance(0.15) {
            1
        } else if dice.chance(0.7) {
            2
        } else {
            3
        };
        let width = capacity / f64::from(bins);
        let mut slow: Vec<Slow> = Vec::new();
        for _ in 0..if dice.chance(0.4) { 0 } else { dice.within(1.0, 4.0) as usize } {
            // From three bins to a twentieth of the drive.
            let length = dice.log_within(3.0 * width, capacity / 20.0);
            let from = dice.within(0.0, capacity - length);
            let z = Slow { from, to: from + length, factor: dice.within(0.2, 0.72) };
            let beside = 12.0 * width;
            if slow.iter().all(|o| z.from > o.to + beside || z.to + beside < o.from) {
                slow.push(z);
            }
        }
        slow.sort_by(|a, b| a.from.total_cmp(&b.from));
        let whole = capacity / outer;
        let strangers = (0..if dice.chance(0.3) { 2 } else { 0 })
            .map(|_| {
                let from = dice.within(0.0, whole * 2.0);
                (from, from + whole * dice.within(0.002, 0.06), dice.within(0.3, 0.8))
            })
            .collect();
        let sigma = dice.log_within(0.004, 0.09);
        let stalls = dice.chance(0.5);
        let identity = DriveIdentity {
            serial: format!("PG-{seed}"),
            rotational: platters,
            ..DriveIdentity::plain("proving", DriveKind::Simulated, Bytes::new(capacity as u64))
        };
        let ground = Self {
            identity,
            steps,
            sigma,
            rho: dice.within(0.0, 0.6),
            heavy: dice.chance(0.4),
            stall_every: if stalls { dice.log_within(5.0, 900.0) } else { f64::INFINITY },
            stall: dice.within(0.1, 2.0),
            strangers,
            swing: if dice.chance(0.4) { dice.within(0.0, 0.08) } else { 0.0 },
            deviation: 0.0,
            clock: 0.0,
            stall_left: 0.0,
            next_stall: 0.0,
            load: Load::rest(),
            at: 0.0,
            moved: 0.0,
            slow,
            dice,
        };
        let leg = Leg { bins: Some(bins), passes: Some(passes), depth: 8, ..Leg::new(LegKind::Scan) };
        let route = Route {
            name: "proving".into(),
            about: String::new(),
            interval: Duration::from_millis(100),
            limits: Vec::new(),
            legs: vec![leg],
        };
        let words = format!(
            "seed {seed}: {} of {}, {bins} bins, {passes} passes, sigma {sigma:.3}, stalls every {:.0} s, {} strangers, stretches {}",
            if platters { "platters" } else { "flash" },
            Bytes::new(capacity as u64),
            ground.stall_every,
            ground.strangers.len(),
            ground
                .slow
                .iter()
                .map(|s| format!("{:.2} to {:.2} GB at {:.0} %", s.from / 1e9, s.to / 1e9, s.factor * 100.0))
                .collect::<Vec<_>>()
                .join(", ")
        );
        (ground, route, words)
    }

    fn is_backward(&self) -> bool {
        self.load.pattern == Pattern::Backward
    }

    /// Rate here, and bytes to where it changes.
    fn here(&self) -> (f64, f64) {
        let capacity = self.identity.capacity.as_f64();
        let backward = self.is_backward();
        let inside = if backward { self.at - 0.5 } else { self.at + 0.5 };
        let step = ((inside / capacity * self.steps.len() as f64) as usize).min(self.steps.len() - 1);
        let width = capacity / self.steps.len() as f64;
        let slow = self.slow.iter().find(|s| (s.from..s.to).contains(&inside));
        let edges = self.slow.iter().flat_map(|s| [s.from, s.to]).chain([
            width * step as f64,
            width * (step + 1) as f64,
            self.load.start.as_f64(),
            self.load.end.as_f64(),
        ]);
        let to_edge = edges
            .map(|e| if backward { self.at - e } else { e - self.at })
            .filter(|d| *d > 0.5)
            .fold(f64::INFINITY, f64::min);
        (self.steps[step] * slow.map_or(1.0, |s| s.factor), to_edge.max(1.0))
    }

    fn factor(&mut self) -> f64 {
        let fresh = if self.heavy { self.dice.laplace() } else { self.dice.normal() };
        self.deviation = self.rho * self.deviation + fresh * (1.0 - self.rho * self.rho).sqrt();
        let swing = 1.0 + self.swing * (self.clock / 1700.0 * std::f64::consts::TAU).sin();
        let left = self.strangers.iter().find(|s| (s.0..s.1).contains(&self.clock)).map_or(1.0, |s| s.2);
        (self.deviation * self.sigma).exp() * swing * left
    }
}

impl Drive for Ground {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }
    fn engine(&self) -> String {
        "proving".into()
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.load = load.clone();
        self.at = load.from.unwrap_or(load.start).as_f64();
        self.moved = 0.0;
        Ok(())
    }
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        // An interval that ends by bytes is as long as they take: stalls come by time, not by sample.
        let usual = self.load.sample.map_or(f64::INFINITY, |b| b.as_f64() / self.here().0 * 1.5 + 1e-5);
        let seconds = interval.as_secs_f64().min(usual);
        self.next_stall -= seconds;
        if self.next_stall < 0.0 {
            self.stall_left += if self.next_stall < -seconds { 0.0 } else { self.stall };
            self.next_stall = self.stall_every * self.dice.within(0.3, 1.7);
        }
        let lost = self.stall_left.min(seconds);
        self.stall_left -= lost;
        let factor = self.factor();
        let limit = self.load.limit.map_or(f64::INFINITY, Bytes::as_f64);
        let (mut left, mut bytes) = (seconds - lost, 0.0);
        let sample = self.load.sample.map_or(f64::INFINITY, Bytes::as_f64);
        while left > 1e-9 && self.moved < limit && bytes < sample {
            let (rate, to_edge) = self.here();
            let most = to_edge.min(limit - self.moved).min(sample - bytes);
            let step = (rate * factor * left).min(most).max(1.0);
            left -= step / (rate * factor);
            bytes += step;
            self.moved += step;
            self.at += if self.is_backward() { -step } else { step };
        }
        let finished = self.moved >= limit;
        let took = if finished || bytes >= sample { (seconds - left).max(1e-6) } else { seconds };
        self.clock += took;
        let us = ((lost + 0.004) * 1e6) as u32;
        Ok(Tally {
            took: Duration::from_secs_f64(took),
            read: Bytes::new(bytes.round() as u64),
            position: Some(Bytes::new(self.at.max(0.0).round() as u64)),
            latency: Some(LatencySummary { operations: 10, p50_us: 4000, p99_us: us, max_us: us }),
            finished,
            ..Tally::default()
        })
    }
    fn finish(&mut self, _ending: Ending) -> Result<LoadSummary, DriveError> {
        Ok(LoadSummary::default())
    }
    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        Ok(LoadSummary::default())
    }

    fn vitals(&mut self) -> Option<Vitals> {
        None
    }
    fn is_simulated(&self) -> bool {
        true
    }
}

/// What is counted over many scans.
#[derive(Debug, Clone, Default)]
pub struct GroundScore {
    /// Drives scanned.
    pub drives: usize,
    /// Drives without a slow stretch, and findings on them.
    pub clean: usize,
    /// Slow stretches told on clean drives.
    pub false_on_clean: usize,
    /// True stretches.
    pub truths: usize,
    /// Stretches told.
    pub found: usize,
    /// True ones that were told.
    pub matched: usize,
    /// Overlap of each matched one with the truth: common bytes over those of either.
    pub overlaps: Vec<f64>,
    /// Distance of each edge of a matched one from the truth, in bins.
    pub edges: Vec<f64>,
    /// A line for each drive with a mistake.
    pub mistakes: Vec<String>,
}

/// Scans one random drive and judges what was told.
pub fn prove_ground(seed: u64, score: &mut GroundScore) {
    let (drive, route, words) = Ground::make(seed);
    let (slow, bins) = (drive.slow.clone(), route.legs[0].bins());
    let width = drive.identity.capacity.as_f64() / f64::from(bins);
    let setup = Setup::plain(&format!("ground-{seed}"), route);
    let mut haul = Haul::new(drive, setup);
    let (mut readings, mut events) = (Readings::new(), Vec::new());
    loop {
        let progress = haul.step(&mut events);
        events.drain(..).for_each(|e| readings.push(&e));
        if matches!(progress, Progress::Ended(_)) {
            break;
        }
    }
    let told: Vec<(f64, f64)> = readings
        .conclude()
        .findings
        .iter()
        .filter(|f| f.kind == FindingKind::SlowZone)
        .filter_map(|f| Some((f.position?.as_f64(), f.position_end?.as_f64())))
        .collect();
    score.drives += 1;
    score.truths += slow.len();
    score.found += told.len();
    if slow.is_empty() {
        score.clean += 1;
        score.false_on_clean += told.len();
    }
    let mut wrong = Vec::new();
    let common = |s: &Slow, t: &(f64, f64)| (s.to.min(t.1) - s.from.max(t.0)).max(0.0);
    for s in &slow {
        let best = told.iter().max_by(|a, b| common(s, a).total_cmp(&common(s, b)));
        match best.filter(|t| common(s, t) > 0.5 * (s.to - s.from)) {
            Some(t) => {
                score.matched += 1;
                score.overlaps.push(common(s, t) / (s.to.max(t.1) - s.from.min(t.0)));
                let off = [(t.0 - s.from).abs() / width, (t.1 - s.to).abs() / width];
                if off.iter().any(|o| *o > 1.0) {
                    wrong.push(format!(
                        "edges off by {:.2} and {:.2} bins at {:.2} GB",
                        off[0],
                        off[1],
                        s.from / 1e9
                    ));
                }
                score.edges.extend(off);
            }
            None => wrong.push(format!("{:.2} to {:.2} GB was not told", s.from / 1e9, s.to / 1e9)),
        }
    }
    for t in told.iter().filter(|t| slow.iter().all(|s| common(s, t) <= 0.0)) {
        wrong.push(format!("false {:.2} to {:.2} GB", t.0 / 1e9, t.1 / 1e9));
    }
    if !wrong.is_empty() {
        score.mistakes.push(format!("{words}\n      {}", wrong.join("\n      ")));
    }
}
