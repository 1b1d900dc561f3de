//! Stamped blocks are read back, all of them or some evenly spread, and each is judged.

use crate::drive::stamp::{EVERY, Expected};
use crate::drive::{DriveIdentity, Load, LoadKind, Pattern};
use crate::quantity::units::Bytes;
use crate::record::Task;
use crate::route::Leg;

use super::Planned;

/// Where it stands.
#[derive(Debug, Clone)]
pub struct Verify {
    load: Option<Load>,
    written: Bytes,
}

impl Verify {
    pub(super) fn new(leg: &Leg, drive: &DriveIdentity, stamped: &[Expected]) -> Result<Self, String> {
        let expected =
            stamped.last().copied().ok_or("nothing stamped was written that could be read back")?;
        // Stamps stand every 4 KiB of what was written.
        let whole = |n: u64| n / EVERY as u64 * EVERY as u64;
        let end = whole(expected.written_end().min(drive.capacity.get()));
        let written = end.saturating_sub(expected.start);
        if written == 0 {
            return Err("nothing stamped was written that could be read back".into());
        }
        let block = Bytes::new(leg.block.get().max(EVERY as u64).min(written));
        let load = Load {
            check: Some(expected),
            pattern: if leg.sample.is_some() { Pattern::Random } else { Pattern::Sequential },
            limit: Some(leg.sample.map_or(Bytes::new(written), |s| s.of(Bytes::new(written)).max(block))),
            workers: leg.workers,
            rate: leg.rate,
            ..Load::sequential(
                LoadKind::Verify,
                Bytes::new(expected.start),
                Bytes::new(end),
                block,
                leg.depth,
            )
        };
        Ok(Self { load: Some(load), written: Bytes::new(written) })
    }

    /// Goes on where a haul before was stopped, after so many bytes.
    pub(crate) fn skip(&mut self, done: Bytes) {
        if let Some(load) = self.load.as_mut().filter(|l| l.pattern == Pattern::Sequential) {
            let done = Bytes::new(done.get() / load.block.get() * load.block.get());
            load.start = (load.start + done).min(load.end);
            load.limit = load.limit.map(|l| l.saturating_sub(done));
        }
    }

    pub(super) fn next(&mut self) -> Option<Planned> {
        let load = self.load.take()?;
        Some(Planned { task: Task::Check { written: self.written }, load, duration: None })
    }
}
