//! A ladder: one settled, time-boxed measurement for each block size, depth, number of workers and pattern.

use std::time::Duration;

use crate::drive::{DriveIdentity, Load};
use crate::record::Task;
use crate::route::Leg;

use super::Planned;

/// Where it stands.
#[derive(Debug, Clone)]
pub struct Ladder {
    rungs: Vec<Load>,
    settle: Duration,
    step: Duration,
    next: usize,
    settled: bool,
}

fn or<T: Clone>(list: &[T], one: T) -> Vec<T> {
    if list.is_empty() { vec![one] } else { list.to_vec() }
}

impl Ladder {
    pub(super) fn new(leg: &Leg, drive: &DriveIdentity) -> Self {
        let load = leg.load(drive.capacity);
        let mut rungs = Vec::new();
        for pattern in or(&leg.patterns, leg.pattern) {
            for block in or(&leg.blocks, leg.block) {
                for workers in or(&leg.crews, leg.workers) {
                    for depth in or(&leg.depths, leg.depth) {
                        let (start, end) = leg.region.on(drive.capacity, block);
                        // A worker without an operation in flight would do nothing.
                        let depth = depth.max(workers);
                        rungs.push(Load {
                            pattern,
                            block,
                            workers,
                            depth,
                            start,
                            end,
                            limit: None,
                            ..load.clone()
                        });
                    }
                }
            }
        }
        rungs.dedup();
        let settle = leg.settle.unwrap_or(Duration::from_secs(1));
        Self { rungs, settle, step: leg.step.unwrap_or(Duration::from_secs(5)), next: 0, settled: false }
    }

    pub(super) fn next(&mut self) -> Option<Planned> {
        let load = self.rungs.get(self.next)?.clone();
        if !self.settled && !self.settle.is_zero() {
            self.settled = true;
            return Some(Planned { task: Task::Settle, load, duration: Some(self.settle) });
        }
        let rung = self.next as u16;
        self.settled = false;
        self.next += 1;
        Some(Planned { task: Task::Rung { rung }, load, duration: Some(self.step) })
    }
}
