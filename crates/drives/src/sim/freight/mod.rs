//! Files on simulated drives: threads, a queue between two drives, memory that holds data back, and a file system that costs time, each
//! operation after the other in simulated time.

mod host;
mod transport;

use std::sync::Arc;
use std::time::Duration;

use hollow_mile_core::drive::freight::{Carry, Durable, Side, Tree};
use hollow_mile_core::drive::{DriveError, Ending, Late, Load, LoadKind, LoadSummary, Tally};
use hollow_mile_core::quantity::units::Bytes;

use super::SimDrive;
use super::lookout::Lookout;
pub use host::Host;
use transport::Transport;

/// Trees that lie on the drives, and the load under way.
#[derive(Default)]
pub(super) struct Files {
    /// From which drive copies come.
    source: Option<Box<SimDrive>>,
    /// Trees at the target and at the source.
    laid: [Vec<Arc<Tree>>; 2],
    running: Option<Transport>,
}

impl SimDrive {
    /// Names the drive that files are copied from.
    #[must_use]
    pub fn with_source(mut self, source: Self) -> Self {
        self.files.source = Some(Box::new(source));
        self
    }

    fn files_refused(&self, doing: &'static str, why: &str) -> DriveError {
        DriveError::Refused { target: self.identity.target.clone(), doing, why: why.into() }
    }

    pub(super) fn begin_files(&mut self, load: &Load) -> Result<(), DriveError> {
        let Some(freight) = &load.freight else {
            return Err(self.files_refused("moving files", "the load does not say which"));
        };
        self.at_files = true;
        if freight.resumed && self.files.running.is_some() {
            return Ok(());
        }
        let side = usize::from(freight.side == Side::Source);
        let two = freight.carry == Carry::Copy || side == 1;
        if two && self.files.source.is_none() {
            return Err(
                self.files_refused("moving files", "there is no source: give one with --from sim:NAME")
            );
        }
        let tree = match freight.carry {
            Carry::Write => freight.tree.clone(),
            Carry::Copy => self.files.laid[1].last().unwrap_or(&freight.tree).clone(),
            Carry::Read | Carry::Delete => match self.files.laid[side].last() {
                Some(tree) => tree.clone(),
                None => {
                    return Err(self.files_refused(
                        "moving files",
                        "no tree lies there: put a leg before it that writes one",
                    ));
                }
            },
        };
        if freight.carry.makes() && tree.cargo().bytes > self.spec.capacity.share(0.95) {
            return Err(self.files_refused("making room for the files", "they do not fit on the drive"));
        }
        self.lookout = Lookout::of(load, self.age, self.spec.seed);
        self.files.running = Some(Transport::new(&self.spec.host, load, freight, tree, self.spec.seed));
        self.take_up(freight.carry != Carry::Read && freight.carry != Carry::Delete);
        if let Some(source) = &mut self.files.source {
            source.take_up(side == 1 && freight.carry.makes());
        }
        Ok(())
    }

    /// The whole drive in sequence, as files come to lie on it.
    fn take_up(&mut self, writes: bool) {
        let kind = if writes { LoadKind::Write } else { LoadKind::Read };
        let position = self.position;
        self.load =
            Load { kind, ..Load::sequential(kind, Bytes::ZERO, self.spec.capacity, Bytes::from_mib(1), 8) };
        self.position = position.min(self.spec.capacity.get() - 1);
        if writes {
            self.measure_room();
        }
    }

    /// Moves so many bytes; gives the seconds that the medium is at it.
    pub(super) fn serve(&mut self, bytes: u64, writes: bool) -> f64 {
        self.load.kind = if writes { LoadKind::Write } else { LoadKind::Read };
        let factor = self.noise() * self.heat.factor();
        let (mut left, mut seconds) = (bytes, 0.0);
        while left > 0 {
            let (rate, holds_for) = self.pace();
            let step = left.min(holds_for).max(1);
            seconds += step as f64 / (rate * factor);
            self.advance(step);
            left -= step;
        }
        let lost = self.stalled(seconds);
        let took = seconds + lost;
        self.busy_s += took;
        took
    }

    /// So much time went by, in which so many bytes moved.
    pub(super) fn let_pass(&mut self, seconds: f64, bytes: u64) {
        if seconds > 0.0 {
            self.age += seconds;
            self.heat.pass(seconds, bytes as f64 / seconds);
            // A cache tidies up while nothing is asked.
            let idle = (seconds - std::mem::take(&mut self.busy_s)).max(0.0);
            if idle > 0.5 * seconds {
                self.rest(idle);
            }
        }
    }

    pub(super) fn work_files(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        self.is_there()?;
        let Some(mut running) = self.files.running.take() else {
            return Ok(Tally { took: Duration::from_millis(1), finished: true, ..Tally::default() });
        };
        let mut source = self.files.source.take();
        let (mut tally, moved) = running.run(interval.as_secs_f64(), self, source.as_deref_mut());
        let seconds = tally.took.as_secs_f64();
        let at_source = running.side() == Side::Source;
        match &mut source {
            Some(source) => {
                source.let_pass(seconds, if at_source { moved.target } else { moved.source });
                self.let_pass(seconds, if at_source { 0 } else { moved.target });
                if let Some(freight) = &mut tally.freight {
                    freight.source_temperature = Some(source.heat.reading());
                }
            }
            None => self.let_pass(seconds, moved.target + moved.source),
        }
        self.files.source = source;
        self.files.running = Some(running);
        // A read waits behind what the medium is at: a queue of eight blocks for as much of the time as it is at work.
        let done = tally.freight.as_deref();
        let busy = done.and_then(|d| d.device_busy).unwrap_or_default().as_secs_f64();
        let blocks = (moved.target as f64 / (1 << 20) as f64).max(1.0);
        let mean_s = if at_source { 0.0 } else { 8.0 * busy / blocks * (busy / seconds.max(1e-9)).min(1.0) };
        let (age, cached) = (self.age, !self.in_last_level());
        let spec = &self.spec;
        tally.lookout =
            self.lookout.as_mut().map(|l| l.pass(spec, age, mean_s, cached, false)).unwrap_or_default();
        tally.temperature = Some(self.heat.reading());
        tally.fill_ppm = Some((self.fill() * 1e6).round() as u32);
        Ok(tally)
    }

    pub(super) fn finish_files(&mut self, ending: Ending) -> LoadSummary {
        let Some(mut running) = self.files.running.take() else { return LoadSummary::default() };
        // One that was ended early leaves its tree as if it were whole.
        if !running.is_over() && ending == Ending::AsItIs {
            // Paused; a new load makes its own.
            let histogram = running.take_histogram();
            self.files.running = Some(running);
            return LoadSummary { histogram, ..LoadSummary::default() };
        }
        let (carry, durable) = (running.carry(), running.durable());
        let side = usize::from(running.side() == Side::Source);
        let mut flush = None;
        let mut source = self.files.source.take();
        if carry.makes() {
            self.files.laid[side].push(running.tree());
            if durable != Durable::Never {
                let drive = if side == 1 { source.as_deref_mut().unwrap_or(self) } else { &mut *self };
                let seconds = if durable == Durable::End { running.settle(drive) } else { 0.0 };
                flush = Some(Duration::from_secs_f64(seconds));
            }
        } else if carry == Carry::Delete {
            self.files.laid[side].pop();
        }
        self.files.source = source;
        let late = Late { freight: running.last_words(), ..Late::default() };
        LoadSummary { flush, histogram: running.take_histogram(), late, ..LoadSummary::default() }
    }
}

impl Files {
    /// A paused load will not go on.
    pub(super) fn forget(&mut self) {
        self.running = None;
    }
}

/// How a load of files is told.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Moved {
    pub target: u64,
    pub source: u64,
}

#[cfg(test)]
mod tests;
