//! How long single reads wait on a simulated drive, beside its load.

use hollow_mile_core::drive::Load;
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

use super::motion::FLASH_ACCESS_S;
use super::spec::SimSpec;
use crate::latency::Bins;

/// A read goes before most of what is queued while a cache takes the writes, and waits its turn behind it when that is full.
const BEHIND_CACHE: f64 = 0.3;
const BEHIND_CELLS: f64 = 1.0;

/// Reads at their times.
#[derive(Debug)]
pub struct Lookout {
    every_s: f64,
    began_s: f64,
    /// The end of the last interval.
    passed_s: f64,
    /// Reads that were due so far.
    reads: u64,
    /// Due, and not answered yet, because the drive stands still.
    waiting: Vec<f64>,
    rng: Xoshiro256PlusPlus,
}

impl Lookout {
    /// Of a load that begins at this time of the drive; none where it asks for none.
    pub fn of(load: &Load, now_s: f64, seed: u64) -> Option<Self> {
        let every_s = load.lookout?.as_secs_f64();
        let rng = Xoshiro256PlusPlus::seed_from_u64(seed ^ now_s.to_bits());
        Some(Self { every_s, began_s: now_s, passed_s: now_s, reads: 0, waiting: Vec::new(), rng })
    }

    fn due_s(&self) -> f64 {
        self.began_s + (self.reads + 1) as f64 * self.every_s
    }

    /// Those of an interval: it ends now, and in it an operation of the load took so long in the mean, s (0 at rest). A drive that
    /// `stands` answers nobody.
    pub fn pass(&mut self, spec: &SimSpec, now_s: f64, mean_s: f64, cached: bool, stands: bool) -> Bins {
        let mut waits = Bins::default();
        if !stands {
            for due in std::mem::take(&mut self.waiting) {
                waits.record(ns(self.passed_s - due + self.access(spec)), 1);
            }
        }
        // What the sum of many intervals rounds away makes no read late.
        while self.due_s() <= now_s + 1e-6 {
            if stands {
                self.waiting.push(self.due_s());
            } else {
                let behind = if cached { BEHIND_CACHE } else { BEHIND_CELLS };
                let queued = mean_s * behind * self.rng.random::<f64>();
                waits.record(ns(queued + self.access(spec)), 1);
            }
            self.reads += 1;
        }
        self.passed_s = now_s;
        waits
    }

    fn access(&mut self, spec: &SimSpec) -> f64 {
        let (a, b) = (self.rng.random::<f64>(), self.rng.random::<f64>());
        match &spec.platters {
            Some(p) => {
                let (step, stroke) = (p.seek_step.as_secs_f64(), p.seek_stroke.as_secs_f64());
                step + (stroke - step) * (a / 1.5).sqrt() + 60.0 / p.turns_per_minute * b
            }
            // One in many meets a cell that is read twice.
            None => FLASH_ACCESS_S * (0.9 + 0.3 * a + if b > 0.995 { 2.0 } else { 0.0 }),
        }
    }
}

fn ns(seconds: f64) -> u64 {
    (seconds.max(1e-9) * 1e9) as u64
}
