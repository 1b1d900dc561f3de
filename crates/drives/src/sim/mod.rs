//! Simulated drives: flash with a cache of one to three levels, or platters, with heat, noise and wear.
//!
//! A simulated drive computes its own time, so a ten-hour haul takes about a second. Everything random comes from the
//! seed in its file and the repeat number: the same haul gives the same record, byte for byte.

mod heat;
mod spec;

use std::time::Duration;

use hdrhistogram::Histogram;
use hollow_mile_core::drive::{
    Drive, DriveError, DriveIdentity, Load, LoadKind, LoadSummary, Pattern, Tally,
};
use hollow_mile_core::event::{Conditions, LatencySummary, Vitals};
use hollow_mile_core::units::Bytes;
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

pub use spec::{
    Cooling, Flash, FlashLevel, Heat, Noise, Platters, SHIPPED, SimSpec, Truth, TruthZone, WeakZone, Wear,
    shipped,
};

use crate::latency::{histogram, points};
use heat::HeatModel;

/// A simulated wipe and simulated self-tests take so many seconds.
const WIPE_S: f64 = 2.0;

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
    /// Seconds spent on a wipe or a self-test under this load.
    chore: f64,
    histogram: Histogram<u64>,
}

impl SimDrive {
    /// A fresh drive, as its file says, in these conditions. `repeat` varies the noise from one haul to another.
    #[must_use]
    pub fn new(spec: SimSpec, target: &str, conditions: &Conditions, repeat: u64) -> Self {
        let identity = spec.identity(target);
        let heat = HeatModel::new(&spec.heat, conditions.ambient, conditions.cooling.as_deref());
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
            read: 0,
            chore: 0.0,
            histogram: histogram(),
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

    /// Share of the moved bytes that are read.
    fn read_share(&self) -> f64 {
        match self.load.kind {
            LoadKind::Read => 1.0,
            LoadKind::Mixed => f64::from(self.load.read_percent) / 100.0,
            _ => 0.0,
        }
    }

    /// The rate without noise and heat, and for how many bytes it holds: of reads and writes as they are mixed, at the
    /// block and depth of the load where addresses are random.
    fn pace(&self) -> (f64, u64) {
        let (rate, holds_for) = self.sequential_pace();
        let mut rate = rate;
        let reads = self.read_share();
        if let (true, Some(flash)) = (reads > 0.0 && reads < 1.0, &self.spec.flash) {
            rate = 1.0 / (reads / flash.read.get() + (1.0 - reads) / rate);
        }
        if self.load.pattern == Pattern::Random {
            // An operation at random costs a latency of its own; a deep queue hides most of it on flash, and lets
            // platters choose a shorter way.
            let depth = f64::from(self.load.depth);
            let (latency, at_once) =
                if self.spec.platters.is_some() { (8.5e-3, 1.0 + depth.ln()) } else { (70e-6, depth) };
            rate = rate.min(self.load.block.as_f64() * at_once / latency);
        }
        let rate = self.load.rate.map_or(rate, |most| rate.min(most.get()));
        (rate, holds_for)
    }

    fn sequential_pace(&self) -> (f64, u64) {
        let to_edge = self.load.end.get().saturating_sub(self.position).max(1);
        match (&self.spec.flash, &self.spec.platters) {
            (Some(flash), _) if self.load.kind == LoadKind::Read => (flash.read.get(), to_edge),
            (Some(flash), _) => {
                let open = (0..self.room.len()).find(|i| self.cached[*i] < self.room[*i]);
                let rate = flash.level[open.unwrap_or(flash.level.len() - 1)].rate.get();
                (rate, open.map_or(to_edge, |i| (self.room[i] - self.cached[i]).min(to_edge)))
            }
            (None, Some(platters)) => {
                let share = self.position as f64 / self.spec.capacity.as_f64();
                let smooth = platters.outer.get() + (platters.inner.get() - platters.outer.get()) * share;
                let here = platters.zone.iter().find(|z| (z.from.get()..z.to.get()).contains(&self.position));
                let next = platters.zone.iter().map(|z| z.from.get()).filter(|f| *f > self.position).min();
                match here {
                    Some(zone) => (smooth * zone.factor, (zone.to.get() - self.position).min(to_edge)),
                    None => (smooth, next.map_or(to_edge, |n| (n - self.position).min(to_edge))),
                }
            }
            // `SimSpec::check` lets no other drive through.
            (None, None) => (1e6, to_edge),
        }
    }

    fn in_last_level(&self) -> bool {
        (0..self.room.len()).all(|i| self.cached[i] >= self.room[i])
    }

    fn advance(&mut self, bytes: u64) {
        self.moved += bytes;
        self.position += bytes;
        let written = bytes - (bytes as f64 * self.read_share()).round() as u64;
        self.read += bytes - written;
        if written > 0 {
            self.written += written;
            self.high_water = self.high_water.max(self.position);
            if let Some(i) = (0..self.room.len()).find(|i| self.cached[*i] < self.room[*i]) {
                self.cached[i] += written;
            }
        }
        if self.position >= self.load.end.get() {
            self.position = self.load.start.get();
        }
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

    fn noise(&mut self) -> f64 {
        let sigma = if self.in_last_level() && !self.room.is_empty() {
            self.spec.noise.sigma_slow
        } else {
            self.spec.noise.sigma
        };
        let rho = self.spec.noise.correlation;
        let fresh = normal(&mut self.rng) * (1.0 - rho * rho).sqrt();
        self.deviation = rho * self.deviation + fresh;
        (self.deviation * sigma).exp()
    }

    /// Moves bytes for `seconds`; gives the bytes and the seconds that it took (less when the limit was reached).
    fn run_load(&mut self, seconds: f64) -> (u64, f64) {
        let lost = self.stalled(seconds);
        let factor = self.noise() * self.heat.factor();
        let mut left = seconds - lost;
        let mut bytes = 0u64;
        let limit = self.load.limit.map_or(u64::MAX, Bytes::get);
        while left > 1e-9 && self.moved < limit {
            let (rate, holds_for) = self.pace();
            let rate = rate * factor;
            let most = holds_for.min(limit - self.moved);
            let step = ((rate * left).round() as u64).clamp(1, most);
            left -= step as f64 / rate;
            bytes += step;
            self.advance(step);
        }
        (bytes, if self.moved >= limit { (seconds - left.max(0.0)).max(1e-6) } else { seconds })
    }

    /// A queue of depth d over blocks of b at rate r keeps an operation waiting d·b/r (Little's law); the tail grows
    /// with noise and with a stall.
    fn latency(&mut self, bytes: u64, seconds: f64, lost: f64) -> Option<LatencySummary> {
        let operations = bytes.div_ceil(self.load.block.get());
        if operations == 0 || seconds <= 0.0 {
            return None;
        }
        let mean_ns = seconds * 1e9 * f64::from(self.load.depth) / operations as f64;
        let tail = 1.35 + 0.5 * self.rng.random::<f64>();
        let slowest = mean_ns * tail * 1.3 + lost * 1e9;
        let count = |share: f64| (operations as f64 * share) as u32;
        let operations = u32::try_from(operations).unwrap_or(u32::MAX);
        let few = count(0.015).max(1).min(operations);
        let upper = count(0.4).min(operations - few);
        let us = |ns: f64| (ns / 1000.0).ceil().min(f64::from(u32::MAX)) as u32;
        for (ns, n) in [(mean_ns * 0.93, operations - few - upper), (mean_ns * 1.12, upper), (slowest, few)] {
            if n > 0 {
                self.histogram.saturating_record_n(ns as u64, n.into());
            }
        }
        let p99 = if operations >= 100 || lost > 0.0 { slowest } else { mean_ns * 1.12 };
        Some(LatencySummary { operations, p50_us: us(mean_ns * 0.93), p99_us: us(p99), max_us: us(slowest) })
    }

    fn rest(&mut self, seconds: f64) {
        let recover = self.spec.flash.as_ref().map_or(0.0, |f| f.recover.get());
        let mut freed = (recover * seconds) as u64;
        for cached in &mut self.cached {
            let part = freed.min(*cached);
            *cached -= part;
            freed -= part;
        }
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
        self.load = load.clone();
        self.moved = 0;
        self.histogram.clear();
        if !(load.start.get()..load.end.get()).contains(&self.position) {
            self.position = load.start.get();
        }
        self.chore = 0.0;
        if matches!(load.kind, LoadKind::Write | LoadKind::Mixed) {
            self.measure_room();
        }
        Ok(())
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        let seconds = interval.as_secs_f64();
        let (bytes, took) = match self.load.kind {
            LoadKind::Rest | LoadKind::Wipe | LoadKind::SelfTest { .. } => {
                self.rest(seconds);
                self.chore += seconds;
                (0, seconds)
            }
            LoadKind::Write | LoadKind::Read | LoadKind::Mixed => self.run_load(seconds),
        };
        self.age += took;
        self.heat.pass(took, bytes as f64 / took);
        let lost = if bytes == 0 { took } else { 0.0 };
        let moves = self.load.kind.moves();
        let latency = if moves { self.latency(bytes, took, lost) } else { None };
        let read = (bytes as f64 * self.read_share()).round() as u64;
        let finished = match self.load.kind {
            LoadKind::Wipe => self.chore >= WIPE_S,
            LoadKind::SelfTest { extended } => self.chore >= self_test_s(extended),
            _ => self.load.limit.is_some_and(|l| self.moved >= l.get()),
        };
        Ok(Tally {
            took: if took < seconds { Duration::from_secs_f64(took) } else { interval },
            written: Bytes::new(bytes - read),
            read: Bytes::new(read),
            // The end of the region is not its start, though the next byte goes there.
            position: (moves && self.load.pattern == Pattern::Sequential).then(|| {
                let at_end = self.position == self.load.start.get() && self.moved > 0;
                if at_end { self.load.end } else { Bytes::new(self.position) }
            }),
            temperature: Some(self.heat.reading()),
            latency,
            other: Some(Bytes::ZERO),
            errors: 0,
            faults: Vec::new(),
            fill_ppm: Some((self.fill() * 1e6).round() as u32),
            host_busy_ppm: None,
            finished,
        })
    }

    fn finish(&mut self, flush: bool) -> Result<LoadSummary, DriveError> {
        let flush = flush.then(|| Duration::from_millis(3 + u64::from(self.load.depth) / 8));
        let remark = match self.load.kind {
            LoadKind::Wipe if self.chore >= WIPE_S => {
                self.high_water = 0;
                self.cached.fill(0);
                Some(format!(
                    "{} discarded; simulated, so nothing was read back",
                    self.load.end.saturating_sub(self.load.start)
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
        Ok(LoadSummary { flush, histogram: points(&self.histogram), remark, ..LoadSummary::default() })
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
            power_on_hours: Some(wear.power_on_hours + (self.age / 3600.0) as u64),
            media_errors: Some(0),
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
