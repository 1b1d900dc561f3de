//! What the passes of a scan saw, bin by bin.

use crate::drive::Pattern;
use crate::quantity::units::Bytes;
use crate::record::Sample;
use crate::record::{Step, Task};

/// What was seen of one bin in one pass.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Bin {
    /// Bytes moved in it.
    pub bytes: f32,
    /// Time that took, s.
    pub seconds: f32,
    /// Longest operation, µs.
    pub worst_us: u32,
    /// Failed operations.
    pub errors: u32,
}

impl Bin {
    /// Mean rate, bytes per second; `None` where nothing was moved.
    #[must_use]
    pub fn rate(&self) -> Option<f64> {
        (self.seconds > 0.0 && self.bytes > 0.0).then(|| f64::from(self.bytes) / f64::from(self.seconds))
    }
}

/// One sweep over a stretch of the drive, cut into equal bins.
#[derive(Debug, Clone, PartialEq)]
pub struct Grid {
    /// The leg it belongs to.
    pub leg: u16,
    /// Which pass; or of which stretch, first and last byte, when it is a visit again.
    pub task: Task,
    /// From the end to the start.
    pub backward: bool,
    /// First byte.
    pub start: u64,
    /// One past the last.
    pub end: u64,
    /// In the order of the addresses.
    pub bins: Vec<Bin>,
    /// Where the newest sample ended.
    at: u64,
}

/// Bins of a visit again, which may be finer than samples can tell.
const AGAIN_BINS: u64 = 8;
const MOST_BINS: u64 = 1 << 17;

impl Grid {
    fn new(leg: u16, step: &Step, bins: u64) -> Self {
        let backward = step.pattern == Pattern::Backward;
        let (start, end) = (step.start.get(), step.end.get());
        let bins = vec![Bin::default(); bins.clamp(1, MOST_BINS.min((end - start).max(1))) as usize];
        Self { leg, task: step.task, backward, start, end, bins, at: if backward { end } else { start } }
    }

    /// Bytes of a bin.
    #[must_use]
    pub fn width(&self) -> f64 {
        (self.end - self.start) as f64 / self.bins.len() as f64
    }

    /// First byte of a bin.
    #[must_use]
    pub fn address(&self, bin: usize) -> u64 {
        self.start + (self.width() * bin as f64).round() as u64
    }

    /// The bin of an address.
    #[must_use]
    pub fn bin_of(&self, address: u64) -> usize {
        ((address.saturating_sub(self.start) as f64 / self.width()) as usize).min(self.bins.len() - 1)
    }

    /// Share of it that was passed, 0 to 1.
    #[must_use]
    pub fn progress(&self) -> f64 {
        let done = if self.backward { self.end - self.at } else { self.at - self.start };
        done as f64 / (self.end - self.start).max(1) as f64
    }

    fn push(&mut self, sample: &Sample) {
        let moved = (sample.written + sample.read).get();
        // A sample without a place goes on from where the one before ended.
        let (low, high) = if self.backward {
            let low = sample.position.map_or_else(|| self.at.saturating_sub(moved), Bytes::get);
            (low, self.at.max(low))
        } else {
            let high = sample.position.map_or(self.at + moved, Bytes::get);
            (self.at.min(high), high)
        };
        let (low, high) = (low.clamp(self.start, self.end), high.clamp(self.start, self.end));
        self.at = if self.backward { low } else { high };
        let worst_us = sample.latency.map_or(0, |l| l.max_us);
        // A byte may lie across the edge of two bins.
        let past = ((high - self.start) as f64 / self.width()).ceil() as usize;
        let (first, last) = (self.bin_of(low), past.clamp(1, self.bins.len()) - 1);
        let last = last.max(first);
        if high <= low {
            // A stall: the time belongs to where the pass stands.
            let here = &mut self.bins[if self.backward { last } else { first }];
            here.seconds += sample.span.as_secs_f32();
            here.errors += sample.errors;
            here.worst_us = here.worst_us.max(worst_us);
            return;
        }
        let (seconds, width) = (sample.span.as_secs_f64(), self.width());
        for i in first..=last {
            let from = self.start as f64 + width * i as f64;
            let overlap = (from + width).min(high as f64) - from.max(low as f64);
            let share = (overlap / (high - low) as f64).clamp(0.0, 1.0);
            let bin = &mut self.bins[i];
            bin.bytes += ((high - low) as f64 * share) as f32;
            bin.seconds += (seconds * share) as f32;
            bin.worst_us = bin.worst_us.max(worst_us);
        }
        self.bins[first].errors += sample.errors;
    }
}

/// All passes of the newest scan, and its visits again.
#[derive(Debug, Clone, Default)]
pub struct Scans {
    passes: Vec<Grid>,
    again: Vec<Grid>,
    open: bool,
}

impl Scans {
    /// A step began.
    pub fn begin(&mut self, leg: u16, step: &Step) {
        self.open = step.start < step.end;
        match step.task {
            _ if !self.open => {}
            Task::Pass { pass, bins } => {
                if pass == 0 {
                    *self = Self { open: true, ..Self::default() };
                }
                self.passes.push(Grid::new(leg, step, bins.into()));
            }
            Task::Again { .. } => {
                let pass = self.passes.last().map_or(1.0, Grid::width).max(1.0);
                let bins = (step.end.get() - step.start.get()) as f64 / pass * AGAIN_BINS as f64;
                self.again.push(Grid::new(leg, step, bins.round() as u64));
            }
            _ => self.open = false,
        }
    }

    /// The step is over.
    pub const fn end(&mut self) {
        self.open = false;
    }

    /// Takes a sample of the open step.
    pub fn push(&mut self, sample: &Sample) {
        if !self.open {
            return;
        }
        let newest = match (self.again.last_mut(), self.passes.last_mut()) {
            (Some(grid), _) | (None, Some(grid)) => grid,
            (None, None) => return,
        };
        newest.push(sample);
    }

    /// The passes so far.
    #[must_use]
    pub fn passes(&self) -> &[Grid] {
        &self.passes
    }

    /// The visits again so far.
    #[must_use]
    pub fn again(&self) -> &[Grid] {
        &self.again
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::LoadKind;
    use proptest::prelude::*;
    use std::time::Duration;

    fn step(task: Task, pattern: Pattern, bytes: u64) -> Step {
        Step {
            task,
            load: LoadKind::Read,
            start: Bytes::ZERO,
            end: Bytes::new(bytes),
            block: Bytes::new(512),
            depth: 1,
            workers: 1,
            pattern,
            rate: None,
        }
    }

    proptest! {
        #[test]
        fn a_pass_either_way_accounts_for_every_byte(
            cuts in proptest::collection::vec(1u64..5000, 1..60), bins in 1u32..300, backward: bool
        ) {
            let total: u64 = cuts.iter().sum();
            let pattern = if backward { Pattern::Backward } else { Pattern::Sequential };
            let mut scans = Scans::default();
            scans.begin(0, &step(Task::Pass { pass: 0, bins }, pattern, total));
            let mut at = if backward { total } else { 0 };
            for cut in &cuts {
                at = if backward { at - cut } else { at + cut };
                scans.push(&Sample {
                    position: Some(Bytes::new(at)),
                    read: Bytes::new(*cut),
                    span: Duration::from_millis(100),
                    ..Sample::default()
                });
            }
            let grid = &scans.passes()[0];
            let bytes: f64 = grid.bins.iter().map(|b| f64::from(b.bytes)).sum();
            let seconds: f64 = grid.bins.iter().map(|b| f64::from(b.seconds)).sum();
            prop_assert!((bytes - total as f64).abs() < 1.0 + total as f64 * 1e-4, "{bytes} of {total}");
            prop_assert!((seconds - cuts.len() as f64 * 0.1).abs() < 1e-3 * cuts.len() as f64);
            prop_assert!((grid.progress() - 1.0).abs() < 1e-9);
        }
    }
}
