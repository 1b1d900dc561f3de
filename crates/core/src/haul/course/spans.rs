//! Spans: single random reads at depth 1 over nested shares of the drive from its start, and one at its end.

use std::time::Duration;

use crate::drive::{DriveIdentity, Load, LoadKind, Pattern};
use crate::quantity::units::Bytes;
use crate::record::Task;
use crate::route::Leg;

use super::Planned;

/// Where it stands.
#[derive(Debug, Clone)]
pub struct Spans {
    spans: Vec<(Bytes, Bytes)>,
    block: Bytes,
    step: Duration,
    rounds: u32,
    next: u32,
}

impl Spans {
    pub(super) fn new(leg: &Leg, drive: &DriveIdentity) -> Self {
        // A single block, unless the route says another than what legs that stream have by themselves.
        let usual = Leg::new(leg.kind).block;
        let block = if leg.block == usual { Bytes::new(drive.block.get().max(4096)) } else { leg.block };
        let whole = |b: Bytes| Bytes::new((b.get() / block.get() * block.get()).max(block.get() * 2));
        let capacity = drive.capacity;
        let mut spans: Vec<(Bytes, Bytes)> =
            leg.spans().iter().map(|s| (Bytes::ZERO, whole(s.of(capacity)).min(capacity))).collect();
        if let Some(shortest) = spans.iter().map(|s| s.1).min().filter(|s| *s < capacity) {
            spans.push((whole(capacity).saturating_sub(shortest), whole(capacity)));
        }
        let step = leg.step.unwrap_or(Duration::from_secs(5));
        Self { spans, block, step, rounds: leg.rounds(), next: 0 }
    }

    pub(super) fn next(&mut self) -> Option<Planned> {
        let many = self.spans.len() as u32;
        let (round, span) = (self.next / many, self.next % many);
        if round >= self.rounds {
            return None;
        }
        self.next += 1;
        let (start, end) = self.spans[span as usize];
        let load =
            Load { pattern: Pattern::Random, ..Load::sequential(LoadKind::Read, start, end, self.block, 1) };
        Some(Planned {
            task: Task::Span { span: span as u16, round: round as u16 },
            load,
            duration: Some(self.step),
        })
    }
}
