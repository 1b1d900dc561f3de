//! Simulated drives: flash with a cache of one to three levels, or platters, with heat, noise and wear.
//!
//! A simulated drive computes its own time, so a ten-hour haul takes about a second. Everything random comes from the
//! seed in its file and the repeat number: the same haul gives the same record, byte for byte.

mod content;
mod freight;
mod heat;
mod lookout;
mod motion;
mod spec;

use hollow_mile_core::drive::Ending;
use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::protocol::nvme_media::MediaWritten;
use std::time::Duration;

use hdrhistogram::Histogram;
use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, Load, LoadKind, LoadSummary, Pattern, Tally,
};
use hollow_mile_core::drive::{LatencySummary, MeterReading, MeterUnit, Vitals};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::Conditions;
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

pub use freight::Host;
pub use spec::{
    BadStretch, Cooling, Faults, Flash, FlashLevel, Heat, Noise, Platters, SHIPPED, SimSpec, Truth,
    TruthZone, WeakZone, Wear, Zones, shipped,
};

use crate::latency::{Bins, histogram, points};
use content::Content;
use freight::Files;
use heat::HeatModel;
use hollow_mile_core::quantity::stats::histogram_quantile;
use lookout::Lookout;
use motion::Trouble;

/// How operations of a kind differ: off the middle, and how many sixteenths of them; the others lie in the middle.
const SPREAD: [(f64, u32); 4] = [(-0.10, 1), (-0.05, 4), (0.05, 4), (0.10, 1)];

/// A simulated wipe and simulated self-tests take so many seconds.
const WIPE_S: f64 = 2.0;
/// What erasing every cell takes.
const BLOCK_ERASE_S: f64 = 30.0;
/// How fast a drive writes itself over.
const OVERWRITE_B_S: f64 = 2e9;

const fn self_test_s(extended: bool) -> f64 {
    if extended { 1800.0 } else { 110.0 }
}

/// A simulated drive under load.
pub struct SimDrive {
    spec: SimSpec,
    identity: DriveIdentity,
    heat: HeatModel,
    rng: Xoshiro256PlusPlus,
    load: Load,
    /// Bytes moved under this load.
    moved: u64,
    position: u64,
    /// Bytes in each level of the cache.
    cached: Vec<u64>,
    /// What each level holds in this burst.
    room: Vec<u64>,
    high_water: u64,
    deviation: f64,
    next_stall: f64,
    stall_left: f64,
    age: f64,
    written: u64,
    read: u64,
    /// Bytes that left the cache for the rest of the flash.
    moved_on: u64,
    /// Who wrote what.
    content: Content,
    /// Bad stretches that were written again since.
    healed: Vec<bool>,
    errors: u64,
    /// What this interval has to tell.
    trouble: Trouble,
    /// Bytes of a stream that were due under this load and not made up for.
    behind: f64,
    /// Seconds spent on a wipe or a self-test under this load.
    chore: f64,
    histogram: Histogram<u64>,
    /// Of this interval.
    counted: Bins,
    lookout: Option<Lookout>,
    /// Seconds that the medium was at work since time last passed, where files are moved.
    busy_s: f64,
    files: Files,
    /// The load under way moves files.
    at_files: bool,
}

impl SimDrive {
    /// A fresh drive, as its file says, in these conditions. `repeat` varies the noise from one haul to another.
    #[must_use]
    pub fn new(spec: SimSpec, target: &str, conditions: &Conditions, repeat: u64) -> Self {
        let identity = spec.identity(target);
        let heat = HeatModel::new(&spec.heat, conditions.ambient, conditions.cooling.as_deref());
        let healed = vec![false; spec.fault.bad.len()];
        let levels = spec.flash.as_ref().map_or(0, |f| f.level.len() - 1);
        let mut rng =
            Xoshiro256PlusPlus::seed_from_u64(spec.seed ^ repeat.wrapping_mul(0x9E37_79B9_7F4A_7C15));
        let next_stall =
            spec.noise.stall_every.map_or(f64::INFINITY, |e| exponential(&mut rng, e.as_secs_f64()));
        Self {
            high_water: spec.capacity.share(spec.wear.fill_percent / 100.0).get(),
            load: Load { end: spec.capacity, ..Load::rest() },
            spec,
            identity,
            heat,
            rng,
            moved: 0,
            position: 0,
            cached: vec![0; levels],
            room: vec![0; levels],
            deviation: 0.0,
            next_stall,
            stall_left: 0.0,
            age: 0.0,
            written: 0,
            moved_on: 0,
            read: 0,
            content: Content::default(),
            healed,
            errors: 0,
            trouble: Trouble::default(),
            behind: 0.0,
            chore: 0.0,
            histogram: histogram(),
            counted: Bins::default(),
            lookout: None,
            busy_s: 0.0,
            files: Files::default(),
            at_files: false,
        }
    }

    fn fill(&self) -> f64 {
        self.high_water as f64 / self.spec.capacity.as_f64()
    }

    /// How much each level can hold, given how full the drive is when a burst begins.
    fn measure_room(&mut self) {
        let free = 1.0 - self.fill();
        if let Some(flash) = &self.spec.flash {
            for (room, level) in self.room.iter_mut().zip(&flash.level) {
                let size = level.size.unwrap_or_default();
                *room = if level.shrinks { size.share(free).get() } else { size.get() };
            }
        }
    }

    /// How long it takes to forget.
    fn wipe_s(&self) -> f64 {
        match self.load.erasure {
            Erasure::SanitizeBlock => BLOCK_ERASE_S,
            Erasure::SanitizeOverwrite => self.spec.capacity.as_f64() / OVERWRITE_B_S,
            _ => WIPE_S,
        }
    }

    /// Share of the moved bytes that are read.
    fn read_share(&self) -> f64 {
        match self.load.kind {
            LoadKind::Read | LoadKind::Verify => 1.0,
            LoadKind::Mixed => f64::from(self.load.read_percent) / 100.0,
            _ => 0.0,
        }
    }

    fn in_last_level(&self) -> bool {
        (0..self.room.len()).all(|i| self.cached[i] >= self.room[i])
    }

    /// Time lost to stalls within the next `seconds`.
    fn stalled(&mut self, seconds: f64) -> f64 {
        let Some(every) = self.spec.noise.stall_every else { return 0.0 };
        self.next_stall -= seconds;
        if self.next_stall <= 0.0 {
            self.stall_left += self.spec.noise.stall.as_secs_f64();
            self.next_stall = exponential(&mut self.rng, every.as_secs_f64());
        }
        let lost = self.stall_left.min(seconds);
        self.stall_left -= lost;
        lost
    }

    /// A queue of depth d over blocks of b at rate r keeps an operation waiting d·b/r (Little's law); the tail grows
    /// with noise and with a stall.
    fn latency(&mut self, bytes: u64, seconds: f64, lost: f64) -> Option<LatencySummary> {
        let operations = bytes.div_ceil(self.load.mean_block().get());
        if operations == 0 || seconds <= 0.0 {
            return None;
        }
        let mean_ns = seconds * 1e9 * f64::from(self.load.depth) / operations as f64;
        // A stream counts from when each operation was due, and waits for what is due before it.
        let late =
            self.load.rate.filter(|_| self.load.catch_up.is_some()).map_or(0.0, |r| self.behind / r.get());
        let mean_ns = match self.load.catch_up {
            Some(_) => 0.1 * mean_ns + late * 1e9,
            None => mean_ns,
        };
        let tail = (1.35 + 0.5 * self.rng.random::<f64>()) * 1.3;
        let count = |share: f64| (operations as f64 * share) as u32;
        let operations = u32::try_from(operations).unwrap_or(u32::MAX);
        let few = count(0.015).max(1).min(operations);
        let upper = count(0.4).min(operations - few);
        let usual = operations - few - upper;
        // All operations together wait as long as the queue was full: a stall is part of that, for the few that meet it.
        let parts = f64::from(usual) * 0.93 + f64::from(upper) * 1.12 + f64::from(few) * tail;
        let met = f64::from(few) * lost * 1e9;
        let unit = ((mean_ns * f64::from(operations) - met) / parts).max(0.02 * mean_ns);
        let slowest = unit * tail + lost * 1e9;
        let us = |ns: f64| (ns / 1000.0).ceil().min(f64::from(u32::MAX)) as u32;
        let mut points = Vec::with_capacity(2 * SPREAD.len() + 1);
        for (middle, n) in [(unit * 0.93, usual), (unit * 1.12, upper)] {
            // Evenly about its middle, so that the mean stays; what does not divide lies in the middle.
            let mut left = n;
            for (off, share) in SPREAD {
                let n = n * share / 16;
                left -= n;
                points.push(((middle * (1.0 + off)) as u64, u64::from(n)));
            }
            points.push((middle as u64, u64::from(left)));
        }
        points.push((slowest as u64, u64::from(few)));
        points.retain(|p| p.1 > 0);
        points.sort_unstable();
        for (ns, n) in &points {
            self.histogram.saturating_record_n(*ns, *n);
        }
        let quantile = |q| histogram_quantile(&points, q).unwrap_or(slowest);
        let (p50, p99) = (quantile(0.5), quantile(0.99));
        self.counted = Bins::of(points);
        Some(LatencySummary { operations, p50_us: us(p50), p99_us: us(p99.max(p50)), max_us: us(slowest) })
    }

    fn rest(&mut self, seconds: f64) {
        let recover = self.spec.flash.as_ref().map_or(0.0, |f| f.recover.get());
        let mut freed = (recover * seconds) as u64;
        for cached in &mut self.cached {
            let part = freed.min(*cached);
            *cached -= part;
            freed -= part;
            // What leaves the cache is written once more.
            self.moved_on += part;
        }
    }

    fn flush_time(&self) -> Duration {
        Duration::from_millis(3 + u64::from(self.load.depth) / 8)
    }
}

impl Drive for SimDrive {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }

    fn engine(&self) -> String {
        "simulated".into()
    }

    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.is_there()?;
        if load.kind == LoadKind::Freight {
            return self.begin_files(load);
        }
        if load.kind != LoadKind::Rest {
            self.files.forget();
        }
        self.load = load.clone();
        self.at_files = false;
        self.moved = 0;
        self.behind = 0.0;
        self.lookout = Lookout::of(load, self.age, self.spec.seed);
        self.histogram.clear();
        let (start, end) = (load.start.get(), load.end.get());
        if load.kind.moves() && end.saturating_sub(start) < load.block.get() {
            return Err(DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "preparing the load",
                why: "its region is smaller than one block".into(),
            });
        }
        let in_sequence = load.pattern == Pattern::Sequential && load.kind != LoadKind::Mixed;
        if load.kind.destroys()
            && load.kind.moves()
            && !in_sequence
            && self.identity.writes_in_sequence_only()
        {
            return Err(DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "preparing the load",
                why: "its zones take writes in sequence only".into(),
            });
        }
        let inside = match load.pattern {
            Pattern::Backward => start < self.position && self.position <= end,
            _ => (start..end).contains(&self.position),
        };
        if let Some(from) = load.from {
            self.position = from.get();
        } else if !inside || load.kind == LoadKind::Verify {
            self.position = if load.pattern == Pattern::Backward { end } else { start };
        }
        self.chore = 0.0;
        if load.kind.destroys() && load.kind.moves() {
            self.measure_room();
            self.content.begin(load.stamp, start, end, load.done.get());
        }
        Ok(())
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        if self.at_files {
            return self.work_files(interval);
        }
        let seconds = interval.as_secs_f64();
        let (bytes, took) = match self.load.kind {
            LoadKind::Rest | LoadKind::Wipe | LoadKind::SelfTest { .. } => {
                self.rest(seconds);
                self.chore += seconds;
                (0, seconds)
            }
            _ => self.run_load(seconds),
        };
        self.is_there()?;
        let trouble = std::mem::take(&mut self.trouble);
        self.errors += u64::from(trouble.errors);
        self.age += took;
        self.heat.pass(took, bytes as f64 / took);
        let lost = if bytes == 0 { took } else { 0.0 };
        let moves = self.load.kind.moves();
        let latency = if moves { self.latency(bytes, took, lost) } else { None };
        let read = (bytes as f64 * self.read_share()).round() as u64;
        let cached = !self.load.kind.destroys() || !self.in_last_level();
        let each_s =
            took * f64::from(self.load.depth) / bytes.div_ceil(self.load.mean_block().get()).max(1) as f64;
        let mean_s = if moves { each_s } else { 0.0 };
        let (age, spec, stands) = (self.age, &self.spec, moves && bytes == 0);
        let seen = self.lookout.as_mut().map(|l| l.pass(spec, age, mean_s, cached, stands));
        let finished = match self.load.kind {
            LoadKind::Wipe => self.chore >= self.wipe_s(),
            LoadKind::SelfTest { extended } => self.chore >= self_test_s(extended),
            _ => self.load.limit.is_some_and(|l| self.moved >= l.get()),
        };
        Ok(Tally {
            took: if took < seconds { Duration::from_secs_f64(took) } else { interval },
            written: Bytes::new(bytes - read),
            read: Bytes::new(read),
            // The end of the region is not its start, though the next byte goes there.
            position: (moves && self.load.pattern != Pattern::Random).then(|| {
                let (start, end) = (self.load.start, self.load.end);
                match (self.load.pattern, Bytes::new(self.position)) {
                    (Pattern::Backward, at) if at == end && self.moved > 0 => start,
                    (Pattern::Sequential, at) if at == start && self.moved > 0 => end,
                    (_, at) => at,
                }
            }),
            temperature: Some(self.heat.reading()),
            latency,
            latencies: std::mem::take(&mut self.counted),
            lookout: seen.unwrap_or_default(),
            freight: None,
            other: Some(Bytes::ZERO),
            errors: trouble.errors,
            faults: trouble.faults,
            mismatches: trouble.mismatches,
            fill_ppm: Some((self.fill() * 1e6).round() as u32),
            host_busy_ppm: None,
            finished,
        })
    }

    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        if self.at_files {
            return Ok(self.finish_files(ending));
        }
        let flush = (ending == Ending::Durable).then(|| self.flush_time());
        let remark = match self.load.kind {
            LoadKind::Wipe if self.chore >= self.wipe_s() => {
                self.high_water = 0;
                self.cached.fill(0);
                self.content.wipe();
                self.healed.fill(true);
                Some(format!(
                    "{} {}; simulated, so nothing was read back",
                    self.load.end.saturating_sub(self.load.start),
                    self.load.erasure.done()
                ))
            }
            LoadKind::Wipe => Some("the wipe was ended before it was complete".into()),
            LoadKind::SelfTest { extended } if self.chore >= self_test_s(extended) => {
                let kind = if extended { "extended" } else { "short" };
                Some(format!("{kind} self-test completed without error"))
            }
            LoadKind::SelfTest { .. } => Some("the self-test was ended before it was complete".into()),
            _ => None,
        };
        let histogram = points(&self.histogram);
        self.histogram.clear();
        Ok(LoadSummary { flush, histogram, remark, ..LoadSummary::default() })
    }

    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        Ok(LoadSummary { flush: Some(self.flush_time()), ..LoadSummary::default() })
    }

    fn meters(&mut self) -> Vec<MeterReading> {
        if !self.spec.heat.metered {
            return Vec::new();
        }
        let value = MeterUnit::Watt.value(self.heat.watts());
        value.map(|value| MeterReading { name: "supply".into(), value }).into_iter().collect()
    }

    fn vitals(&mut self) -> Option<Vitals> {
        let wear = &self.spec.wear;
        let host = wear.host_written + Bytes::new(self.written);
        let (transitions, seconds) = self.heat.throttling();
        Some(Vitals {
            composite_temperature: Some(self.heat.reading()),
            percentage_used: self.spec.rated_writes.map(|r| (host.as_f64() / r.as_f64() * 100.0).floor()),
            available_spare: (!self.identity.rotational).then_some(100),
            host_bytes_written: Some(host),
            media_written: wear
                .counts_media
                .then(|| MediaWritten { bytes: host + Bytes::new(self.moved_on), step: Bytes::from_gb(1) }),
            power_on_hours: Some(wear.power_on_hours + (self.age / 3600.0) as u64),
            media_errors: Some(self.errors),
            thermal_transitions: self.spec.heat.throttle.map(|_| transitions),
            thermal_seconds: self.spec.heat.throttle.map(|_| seconds),
            critical_warning: Some(0),
            available_spare_threshold: (!self.identity.rotational).then_some(10),
            host_bytes_read: Some(Bytes::new(self.read)),
            unsafe_shutdowns: Some(0),
            error_log_entries: Some(0),
            self_test_percent: match self.load.kind {
                LoadKind::SelfTest { extended } => {
                    Some((self.chore / self_test_s(extended) * 100.0).min(100.0) as u8)
                }
                _ => None,
            },
            ..Vitals::default()
        })
    }

    fn is_simulated(&self) -> bool {
        true
    }
}

/// A standard normal deviate (Box and Muller 1958; the second of the pair is not used).
fn normal(rng: &mut Xoshiro256PlusPlus) -> f64 {
    let u: f64 = rng.random::<f64>().max(1e-300);
    let v: f64 = rng.random();
    (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos()
}

fn exponential(rng: &mut Xoshiro256PlusPlus, mean: f64) -> f64 {
    -mean * rng.random::<f64>().max(1e-300).ln()
}

#[cfg(test)]
mod tests;
