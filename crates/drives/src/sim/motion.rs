//! How a simulated drive moves through a load: how fast it is where it stands, and what befalls it on the way.

use hollow_mile_core::drive::FaultKind;
use hollow_mile_core::drive::stamp::Mismatch;
use hollow_mile_core::drive::{DriveError, Fault, LoadKind, Pattern};
use hollow_mile_core::quantity::units::Bytes;
use rand::RngExt;

use super::{SimDrive, normal};

/// A read of a bad address is tried for so long before it fails.
const RETRIES_S: f64 = 0.4;
/// An access of flash at depth 1.
pub(super) const FLASH_ACCESS_S: f64 = 70e-6;
/// Failed operations that are told one by one in an interval.
const TOLD: usize = 32;

/// What an interval has to tell beside its bytes.
#[derive(Debug, Default)]
pub struct Trouble {
    pub errors: u32,
    pub faults: Vec<Fault>,
    pub mismatches: Vec<Mismatch>,
}

impl SimDrive {
    /// An error once it has vanished.
    pub(super) fn is_there(&self) -> Result<(), DriveError> {
        match self.spec.fault.vanishes_after {
            Some(after) if self.age >= after.as_secs_f64() => Err(DriveError::Gone {
                target: self.identity.target.clone(),
                why: "it no longer answers".into(),
            }),
            _ => Ok(()),
        }
    }

    fn is_backward(&self) -> bool {
        self.load.pattern == Pattern::Backward
    }

    /// Bytes to the next edge of any of these stretches, or of the region, the way the load goes.
    fn to_edge(&self, edges: impl Iterator<Item = u64>) -> u64 {
        let here = self.position;
        if self.is_backward() {
            let below = edges.filter(|e| *e < here).max().unwrap_or(0);
            here - below.max(self.load.start.get()).min(here)
        } else {
            let above = edges.filter(|e| *e > here).min().unwrap_or(u64::MAX);
            above.min(self.load.end.get()).saturating_sub(here)
        }
        .max(1)
    }

    /// The byte that moves next.
    fn next_byte(&self) -> u64 {
        if self.is_backward() { self.position.saturating_sub(1) } else { self.position }
    }

    /// The rate without noise and heat, and for how many bytes it holds: of reads and writes as they are mixed, at the
    /// block and depth of the load where addresses are random.
    pub(super) fn pace(&self) -> (f64, u64) {
        if self.load.pattern == Pattern::Random {
            return self.random_pace();
        }
        let (rate, holds_for) = self.medium();
        let next = self.next_byte();
        let zones = self.spec.zones();
        let slow = zones.iter().find(|z| (z.from.get()..z.to.get()).contains(&next));
        let edges = zones.iter().flat_map(|z| [z.from.get(), z.to.get()]);
        let bad = self.spec.fault.bad.iter().flat_map(|b| [b.from.get(), b.to.get()]);
        (rate * slow.map_or(1.0, |z| z.factor), holds_for.min(self.to_edge(edges.chain(bad))))
    }

    /// Rate of the medium at this place, and for how many bytes the cache takes part as it does now.
    fn medium(&self) -> (f64, u64) {
        match (&self.spec.flash, &self.spec.platters) {
            (Some(flash), _) => {
                let open = (0..self.room.len()).find(|i| self.cached[*i] < self.room[*i]);
                let writes = flash.level[open.unwrap_or(flash.level.len() - 1)].rate.get();
                let room = open.map_or(u64::MAX, |i| self.room[i] - self.cached[i]);
                let reads = self.read_share();
                let rate = 1.0 / (reads / flash.read.get() + (1.0 - reads) / writes);
                (rate, if reads >= 1.0 { u64::MAX } else { room })
            }
            (None, Some(platters)) => {
                let share = self.position as f64 / self.spec.capacity.as_f64();
                let rate = platters.outer.get() + (platters.inner.get() - platters.outer.get()) * share;
                (rate, u64::MAX)
            }
            // `SimSpec::check` lets no other drive through.
            (None, None) => (1e6, u64::MAX),
        }
    }

    /// An operation at random costs an access of its own; a deep queue hides most of it on flash, and lets platters
    /// choose a shorter way.
    fn random_pace(&self) -> (f64, u64) {
        let (medium, holds_for) = self.medium();
        let (depth, block) = (f64::from(self.load.depth), self.load.mean_block().as_f64());
        let region = self.load.end.saturating_sub(self.load.start).as_f64();
        let rate = match &self.spec.platters {
            Some(p) => {
                // Two random places lie a third of the span apart in the mean; a seek takes as the root of its way.
                let way = region / 3.0 / self.spec.capacity.as_f64();
                let (step, stroke) = (p.seek_step.as_secs_f64(), p.seek_stroke.as_secs_f64());
                let seek = step + (stroke - step) * way.sqrt();
                let turn = 60.0 / p.turns_per_minute;
                let access = (seek + turn / 2.0) / (1.0 + depth.ln());
                block / (access + block / medium)
            }
            None => (block * depth / (FLASH_ACCESS_S + block / medium)).min(medium),
        };
        (rate, holds_for)
    }

    pub(super) fn advance(&mut self, bytes: u64) {
        self.moved += bytes;
        let from = self.position;
        if self.is_backward() {
            self.position -= bytes.min(self.position);
        } else {
            self.position += bytes;
        }
        let (low, high) = (from.min(self.position), from.max(self.position));
        let written = bytes - (bytes as f64 * self.read_share()).round() as u64;
        self.read += bytes - written;
        if written > 0 {
            self.written += written;
            self.high_water = self.high_water.max(high);
            self.content.write(written);
            for (healed, bad) in self.healed.iter_mut().zip(&self.spec.fault.bad) {
                *healed |= low <= bad.from.get() && bad.to.get() <= high;
            }
            if let Some(i) = (0..self.room.len()).find(|i| self.cached[*i] < self.room[*i]) {
                self.cached[i] += written;
            }
        }
        if let (LoadKind::Verify, Some(expected)) = (self.load.kind, self.load.check) {
            let capacity = self.spec.capacity.get();
            let (content, faults, seed) = (&self.content, &self.spec.fault, self.spec.seed);
            let out = &mut self.trouble.mismatches;
            if self.load.pattern == Pattern::Random {
                let block = self.load.block.get();
                let blocks = (self.load.end.saturating_sub(self.load.start).get() / block).max(1);
                for _ in 0..bytes.div_ceil(block) {
                    let at = self.load.start.get() + self.rng.random_range(0..blocks) * block;
                    content.check(&expected, faults, seed, capacity, at..at + block, out);
                }
            } else {
                content.check(&expected, faults, seed, capacity, low..high, out);
            }
        }
        let (start, end) = (self.load.start.get(), self.load.end.get());
        if self.is_backward() && self.position <= start {
            self.position = end;
        } else if !self.is_backward() && self.position >= end {
            self.position = start;
        }
    }

    /// An operation at an address that cannot be read: it fails after its retries.
    fn fails_here(&mut self) -> bool {
        let next = self.next_byte();
        let reads = self.read_share() >= 1.0 && self.load.pattern != Pattern::Random;
        let is_bad = |(bad, healed): (&super::BadStretch, &bool)| {
            !healed && (bad.from.get()..bad.to.get()).contains(&next)
        };
        if !reads || !self.spec.fault.bad.iter().zip(&self.healed).any(is_bad) {
            return false;
        }
        self.trouble.errors += 1;
        if self.trouble.faults.len() < TOLD {
            let block = self.load.block.get();
            let at = next / block * block;
            let message = format!("read of {} failed: medium error", self.load.block.binary());
            let (position, kind) = (Bytes::new(at), FaultKind::Failed);
            self.trouble.faults.push(Fault { position, kind, message });
        }
        true
    }

    /// Passes over the operation that failed: it counts towards the load's limit, and moves no bytes.
    fn pass_over(&mut self) -> u64 {
        let block = self.load.block.get();
        let left = self.load.limit.map_or(u64::MAX, |l| l.get().saturating_sub(self.moved));
        let (start, end) = (self.load.start.get(), self.load.end.get());
        let next = self.next_byte();
        let over = if self.is_backward() {
            let to = (next / block * block).max(start);
            let over = self.position - to;
            self.position = if to <= start { end } else { to };
            over
        } else {
            let to = ((next / block + 1) * block).min(end);
            let over = to - self.position;
            self.position = if to >= end { start } else { to };
            over
        };
        self.moved += over.min(left);
        over.min(left)
    }

    /// Moves bytes for `seconds`; gives the bytes and the seconds that it took (less when the limit was reached).
    pub(super) fn run_load(&mut self, seconds: f64) -> (u64, f64) {
        // An interval that ends by bytes is as long as they take: stalls come by time, not by sample.
        let seconds = match self.load.sample {
            Some(bytes) => seconds.min(bytes.as_f64() / self.pace().0 * 1.5 + 1e-5),
            None => seconds,
        };
        let lost = self.stalled(seconds);
        let factor = self.noise() * self.heat.factor();
        let mut left = seconds - lost;
        let mut bytes = 0u64;
        let limit = self.load.limit.map_or(u64::MAX, Bytes::get);
        // What a rate lets through in this interval: a stream makes up for what it is behind.
        let mut due = f64::INFINITY;
        if let Some(rate) = self.load.rate {
            let most = self.load.catch_up.map_or(0.1, |d| d.as_secs_f64()) * rate.get();
            self.behind = self.behind.min(most) + rate.get() * seconds;
            due = self.behind;
        }
        let mut ended = false;
        let sample = self.load.sample.map_or(u64::MAX, Bytes::get);
        while left > 1e-9 && !ended && bytes < sample && (bytes as f64) < due {
            if self.fails_here() {
                left -= RETRIES_S;
                self.pass_over();
            } else {
                let (rate, holds_for) = self.pace();
                let rate = rate * factor;
                let most = holds_for.min(limit - self.moved);
                let most = most.min((due - bytes as f64).ceil().min(9e18) as u64).min(sample - bytes).max(1);
                let step = ((rate * left).round() as u64).clamp(1, most);
                left -= step as f64 / rate;
                bytes += step;
                self.advance(step);
            }
            ended = self.moved >= limit;
        }
        if self.load.rate.is_some() {
            self.behind = (self.behind - bytes as f64).max(0.0);
        }
        if ended || bytes >= sample {
            (bytes, (seconds - left).max(1e-6))
        } else {
            // Retries may take longer than the interval.
            (bytes, seconds.max(seconds - left))
        }
    }

    /// A factor of the rate for this interval.
    pub(super) fn noise(&mut self) -> f64 {
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
}
