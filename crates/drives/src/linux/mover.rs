//! Moves a drive's bytes: what files and devices have in common. Loads in, tallies out.

use hollow_mile_core::drive::Ending;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::stamp::Mismatch;
use hollow_mile_core::drive::zones::{ZoneFacts, ZoneModel};
use hollow_mile_core::drive::{DriveError, Fault, Late, Load, LoadKind, LoadSummary, Pattern, Tally};
use hollow_mile_core::drive::{FaultKind, LatencySummary, lookout_block};
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::crew::{Crew, EngineChoice, Report};
use super::guard::Access;
use super::lookout::Lookout;
use super::pump::Failed;
use super::traffic::Others;
use super::zones::{self, ZoneMap, ZonePlan};
use crate::latency::{Bins, bins, points};

/// How a load goes over zones.
enum OverZones {
    /// As over any drive.
    Plain,
    /// A write in sequence.
    Plan(ZonePlan),
    /// A read of what they hold.
    Map(ZoneMap),
}

/// A file or device with its crew.
pub struct Mover {
    target: String,
    access: Access,
    /// How its bytes travel, in words: `direct I/O`.
    io: &'static str,
    block: u64,
    choice: EngineChoice,
    crew: Option<Crew>,
    words: Option<String>,
    others: Option<Others>,
    next: u64,
    mark: Instant,
    seed: u64,
    /// Why no more can be asked; told after the tally in which it happened.
    dead: Option<DriveError>,
    /// What was seen while a flush waited for it: told with the next interval.
    late: Late,
    lookout: Option<Lookout>,
    /// Bytes from the start on that are known to hold data: of a file, what was written of it.
    holds: Arc<AtomicU64>,
    /// The load goes on from there, one address after the other.
    fills: bool,
    /// Bytes that a lookout read and nobody was told of.
    looked: u64,
    /// Writes go over its zones in sequence, so many of them at once at most.
    zones: Option<ZoneFacts>,
}

impl Mover {
    /// Nothing is asked of it yet.
    pub fn new(
        target: &str,
        access: Access,
        io: &'static str,
        block: u64,
        choice: EngineChoice,
        others: Option<Others>,
        seed: u64,
    ) -> Self {
        Self {
            target: target.to_owned(),
            access,
            io,
            block,
            choice,
            crew: None,
            words: None,
            others,
            next: 0,
            mark: Instant::now(),
            seed,
            dead: None,
            late: Late::default(),
            lookout: None,
            holds: Arc::default(),
            fills: false,
            looked: 0,
            zones: None,
        }
    }

    /// Its zones take writes in sequence only, where they do.
    #[must_use]
    pub fn zoned(self, zones: Option<ZoneFacts>) -> Self {
        Self { zones: zones.filter(|z| z.model == ZoneModel::HostManaged), ..self }
    }

    /// Holds something everywhere, as far as anybody knows: a lookout may read all of it.
    #[must_use]
    pub fn holding(self, bytes: Bytes) -> Self {
        self.holds.store(bytes.get(), Ordering::Relaxed);
        self
    }

    /// Begins to look out beside the load, or ends that.
    ///
    /// # Errors
    /// When a thread or memory cannot be had.
    pub fn look_out(&mut self, load: &Load) -> Result<(), DriveError> {
        self.lookout = None;
        if let Some(every) = load.lookout {
            let block = lookout_block(Bytes::new(self.block)).get();
            let lookout = Lookout::begin(&self.access, every, block, self.holds.clone(), self.seed);
            self.lookout = Some(lookout.map_err(|e| self.refused("setting up the lookout", &e))?);
        }
        Ok(())
    }

    /// Ends the lookout; gives what it saw since the last interval.
    pub fn end_lookout(&mut self) -> Bins {
        let seen = self.lookout.take().map(Lookout::end).unwrap_or_default();
        self.looked += seen.bytes;
        seen.waits
    }

    /// What the lookout saw in an interval; gives the bytes that it read.
    pub fn add_lookout(&mut self, tally: &mut Tally) -> u64 {
        // What it read while the load before was ended is told now.
        let before = std::mem::take(&mut self.looked);
        let Some(lookout) = &self.lookout else { return before };
        let seen = lookout.take();
        if let Some((address, code)) = seen.failed {
            let e = std::io::Error::from_raw_os_error(code);
            tally.faults.push(Fault {
                position: Bytes::new(address),
                kind: FaultKind::Failed,
                message: format!("a read of the lookout failed, and it looks no more in this leg: {e}"),
            });
            tally.errors += 1;
        }
        tally.lookout = seen.waits;
        seen.bytes + before
    }

    /// The open file or device.
    pub const fn access(&self) -> &Access {
        &self.access
    }

    /// Which engine moves the bytes. Asked before the first load too: what will be tried is found out by trying.
    pub fn engine(&self) -> String {
        let words = self.words.clone().unwrap_or_else(|| {
            let (end, block) = (Bytes::new(1 << 20), Bytes::new(4096));
            let probe = Load::sequential(LoadKind::Read, Bytes::ZERO, end, block, 2);
            Crew::new(&self.access, &probe, 0, Some(0), 0, self.choice)
                .map_or_else(|_| "no engine".into(), |c| c.words().to_owned())
        });
        format!("{words}, {}", self.io)
    }

    /// An error of the kernel's, in the words of the runner.
    pub fn refused(&self, doing: &'static str, e: &std::io::Error) -> DriveError {
        let target = self.target.clone();
        match e.raw_os_error() {
            // A device that was pulled out has no size any more.
            Some(libc::ENOSPC) if self.target.starts_with("/dev/") => {
                DriveError::Gone { target, why: "it ends before its capacity".into() }
            }
            Some(libc::ENOSPC | libc::EDQUOT) => DriveError::NoSpace { target, at: Bytes::new(self.next) },
            Some(libc::EFBIG) => {
                let most = rustix::process::getrlimit(rustix::process::Resource::Fsize).current;
                let why = most.map_or_else(
                    || "the file system holds no file so large: give a smaller --size".to_owned(),
                    |m| format!("a file may have {} at most here (ulimit -f): raise that, or give a smaller --size", Bytes::new(m)),
                );
                DriveError::Refused { target, doing, why }
            }
            Some(libc::ENODEV | libc::ENXIO | libc::ESTALE) => {
                DriveError::Gone { target, why: e.to_string() }
            }
            _ => DriveError::Refused { target, doing, why: e.to_string() },
        }
    }

    /// Time since the last call.
    pub fn lap(&mut self) -> Duration {
        let now = Instant::now();
        let took = now - self.mark;
        self.mark = now;
        took
    }

    /// When an interval that starts now would end.
    pub fn deadline(&self, interval: Duration) -> Instant {
        self.mark + interval
    }

    /// Takes up a load, or none for a rest.
    ///
    /// # Errors
    /// When its block or region does not fit, or the engine cannot be set up.
    pub fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.crew = None;
        let from = load.from.unwrap_or(load.start).max(load.start);
        self.fills = load.kind == LoadKind::Write
            && load.pattern == Pattern::Sequential
            && from.get() <= self.holds.load(Ordering::Relaxed);
        self.look_out(load)?;
        self.mark = Instant::now();
        if !load.kind.moves() {
            return Ok(());
        }
        let preparing = |why: String| DriveError::Refused {
            target: self.target.clone(),
            doing: "preparing the load",
            why,
        };
        if !load.block.get().is_multiple_of(self.block) {
            let block = Bytes::new(self.block).binary();
            return Err(preparing(format!(
                "its block of {} is not a multiple of {block}",
                load.block.binary()
            )));
        }
        if load.end.saturating_sub(load.start) < load.block {
            return Err(preparing("its region is smaller than one block".into()));
        }
        // The kernel gives out more memory than there is, and ends somebody when it is used.
        let needs = Bytes::new(load.block.get().saturating_mul(load.depth.into()));
        if let Some(free) = free_memory().filter(|free| needs.get() > free.get() / 2) {
            return Err(preparing(format!(
                "{} × {} needs {needs} of memory, and {free} are free: choose a smaller block or depth",
                load.block.binary(),
                load.depth
            )));
        }
        let whole = |n: u64| n / self.block * self.block;
        let load = Load { end: Bytes::new(whole(load.end.get())), ..load.clone() };
        let (start, end) = (load.start.get(), load.end.get());
        let inside = if load.pattern == Pattern::Backward {
            start < self.next && self.next <= end
        } else {
            (start..end).contains(&self.next)
        };
        match load.from {
            Some(from) => self.next = from.get(),
            None if inside => {}
            None => self.next = if load.pattern == Pattern::Backward { end } else { start },
        }
        let limit = load.limit.map(|l| whole(l.get()));
        self.seed = self.seed.wrapping_add(1);
        let crew = match self.over_zones(&load)? {
            OverZones::Plain => Crew::new(&self.access, &load, self.next, limit, self.seed, self.choice),
            OverZones::Plan(plan) => {
                Crew::over_zones(&self.access, &load, plan, limit, self.seed, self.choice)
            }
            OverZones::Map(map) => {
                let counted = |address: Bytes| Bytes::new(map.counted(address.get()));
                let held = Load { start: counted(load.start), end: counted(load.end), ..load.clone() };
                let (region, holds) = (end - start, held.end.saturating_sub(held.start).get());
                if holds < load.block.get() {
                    return Err(preparing("its region holds less than one block".into()));
                }
                // An interval that is to tell places apart is as much shorter as the region holds less.
                let sample = load.sample.map(|s| s.share(holds as f64 / region as f64));
                let held = Load { sample, ..held };
                // Whole passes are passes over what it holds.
                let limit = limit.map(|l| l / region * holds + (l % region).min(holds));
                let from = map.counted(self.next);
                Crew::over_map(&self.access, &held, (from, limit), map, self.seed, self.choice)
            }
        };
        let crew = crew.map_err(|e| self.refused("setting up the queue", &e))?;
        self.words = Some(crew.words().to_owned());
        self.crew = Some(crew);
        self.mark = Instant::now();
        Ok(())
    }

    /// How a load goes over the zones of a drive that takes writes in sequence only.
    fn over_zones(&self, load: &Load) -> Result<OverZones, DriveError> {
        let Some(facts) = &self.zones else { return Ok(OverZones::Plain) };
        let report = || {
            let all = zones::report(self.access.descriptor());
            all.map_err(|e| self.refused("asking for the state of its zones", &e))
        };
        if !load.kind.destroys() {
            return Ok(ZoneMap::of(&report()?).map_or(OverZones::Plain, OverZones::Map));
        }
        let doing = "preparing the load";
        let refused = |why: String| DriveError::Refused { target: self.target.clone(), doing, why };
        if load.pattern != Pattern::Sequential || load.kind == LoadKind::Mixed {
            return Err(refused("its zones take writes in sequence only".into()));
        }
        // What is to be read back as it was written, address by address, is written one zone after the other.
        let lanes = if load.stamp.is_some() { 1 } else { facts.at_once(load.depth) };
        let region = (load.start.get(), load.end.get());
        ZonePlan::of(&report()?, region, self.next, lanes, facts.most_active)
            .map(OverZones::Plan)
            .map_err(refused)
    }

    /// Works for one interval, or waits when there is no load.
    ///
    /// # Errors
    /// When it cannot go on.
    pub fn work(&mut self, interval: Duration, temperature: Option<Celsius>) -> Result<Tally, DriveError> {
        if let Some(dead) = self.dead.take() {
            return Err(dead);
        }
        let deadline = self.deadline(interval);
        let Some(crew) = &mut self.crew else {
            std::thread::sleep(deadline.saturating_duration_since(Instant::now()));
            let mut tally = Tally { took: self.lap(), temperature, ..Tally::default() };
            let looked = self.add_lookout(&mut tally);
            tally.other = self.others.as_mut().and_then(|o| o.since(looked, 0));
            return Ok(tally);
        };
        let workers = crew.workers() as f64;
        let ran = crew.run(deadline, |h| (LatencySummary::of(h), bins(h)));
        let (report, (latency, latencies)) = ran.map_err(|e| self.refused("moving data", &e))?;
        let took = self.lap();
        self.next = report.goes_on_at.map_or(self.next, Bytes::get);
        let pumped = report.pumped;
        let late = std::mem::take(&mut self.late);
        self.dead = self.dead.take().or_else(|| self.fatal(&pumped.faults));
        let busy = report.busy.as_secs_f64() / took.as_secs_f64().max(1e-9) / workers;
        if let Some(at) = report.position.filter(|_| self.fills && pumped.written > 0) {
            self.holds.fetch_max(at.get(), Ordering::Relaxed);
        }
        let ours = pumped.written + pumped.read + pumped.in_vain;
        let mut mismatches = late.mismatches;
        mismatches.extend(pumped.mismatches);
        let mut tally = Tally {
            took,
            written: Bytes::new(pumped.written),
            read: Bytes::new(pumped.read),
            position: report.position,
            temperature,
            latency,
            latencies,
            other: None,
            errors: pumped.errors + late.errors,
            faults: late.faults.into_iter().chain(pumped.faults.iter().map(told)).collect(),
            mismatches: in_order(mismatches),
            fill_ppm: None,
            host_busy_ppm: Some((busy * 1e6).round().clamp(0.0, 1e6) as u32),
            finished: pumped.finished,
            ..Tally::default()
        };
        let looked = self.add_lookout(&mut tally);
        tally.other = self.others.as_mut().and_then(|o| o.since(ours + looked, report.in_flight));
        Ok(tally)
    }

    /// Why operations that failed end the haul, if one of them does.
    fn fatal(&self, failed: &[Failed]) -> Option<DriveError> {
        let ends = |f: &&Failed| {
            !f.recovered
                && matches!(
                    f.code,
                    libc::ENOSPC
                        | libc::EDQUOT
                        | libc::EFBIG
                        | libc::ENODEV
                        | libc::ENXIO
                        | libc::ESTALE
                        | libc::ESHUTDOWN
                )
        };
        let first = failed.iter().find(ends)?;
        Some(self.refused("moving data", &std::io::Error::from_raw_os_error(first.code)))
    }

    /// Says that the drive is no longer there; the next interval ends the haul.
    pub fn is_gone(&mut self, why: &str) {
        let target = self.target.clone();
        self.dead = Some(DriveError::Gone { target, why: why.to_owned() });
    }

    /// Lets what is in flight complete, and ends the load.
    ///
    /// # Errors
    /// When draining or flushing fails.
    pub fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        let mut summary = LoadSummary::default();
        let seen = self.end_lookout();
        if let Some(mut crew) = self.crew.take() {
            let (report, late, whole) = crew.drain().map_err(|e| self.refused("draining the queue", &e))?;
            drop(crew);
            self.next = report.goes_on_at.map_or(self.next, Bytes::get);
            self.account(report, &mut summary);
            summary.late = std::mem::take(&mut self.late);
            summary.late.latencies = late;
            summary.late.mismatches = in_order(summary.late.mismatches);
            summary.histogram = points(&whole);
            summary.engine = Some(self.engine());
        }
        summary.late.lookout = seen;
        if ending == Ending::Durable
            && let Access::Write(writable) = &self.access
        {
            writable.flush().map_err(|e| self.refused("flushing", &e))?;
            summary.flush = Some(self.lap());
        }
        Ok(summary)
    }

    /// Lets what is in flight complete and makes what was written durable; the load goes on.
    ///
    /// # Errors
    /// When draining or flushing fails.
    pub fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        let mut summary = LoadSummary::default();
        if let Some(crew) = &mut self.crew {
            let (report, late, _) = crew.drain().map_err(|e| self.refused("draining the queue", &e))?;
            self.next = report.goes_on_at.map_or(self.next, Bytes::get);
            self.account(report, &mut summary);
            summary.late.latencies = late;
        }
        if let Access::Write(writable) = &self.access {
            writable.flush().map_err(|e| self.refused("flushing", &e))?;
            summary.flush = Some(self.lap());
        }
        Ok(summary)
    }

    /// What was in flight and completed, or failed, while draining.
    fn account(&mut self, report: Report, summary: &mut LoadSummary) {
        let drain = self.lap();
        let bytes = report.pumped.written + report.pumped.read;
        self.dead = self.dead.take().or_else(|| self.fatal(&report.pumped.faults));
        self.late.errors += report.pumped.errors;
        self.late.faults.extend(report.pumped.faults.iter().map(told));
        self.late.mismatches.extend(report.pumped.mismatches);
        // A drain of nothing takes microseconds, which is no part of the record.
        if bytes > 0 || report.pumped.errors > 0 {
            summary.drained = Bytes::new(bytes);
            summary.drained_read = Bytes::new(report.pumped.read);
            summary.drain = drain;
            if let Some(others) = &mut self.others {
                let _ = others.since(bytes + report.pumped.in_vain, 0);
            }
        }
    }

    /// Lets go of the engine.
    pub fn stop(&mut self) {
        self.lookout = None;
        self.crew = None;
    }
}

/// Completions come in any order; stretches are told in that of their addresses, neighbours in one.
fn in_order(mut found: Vec<Mismatch>) -> Vec<Mismatch> {
    found.sort_by_key(|m| m.position);
    let mut joined = Vec::new();
    for m in found {
        Mismatch::join(&mut joined, m);
    }
    joined
}

/// Memory that can be had without swapping, by /proc/meminfo.
fn free_memory() -> Option<Bytes> {
    let info = std::fs::read_to_string("/proc/meminfo").ok()?;
    let line = info.lines().find(|l| l.starts_with("MemAvailable:"))?;
    let kib: u64 = line.split_whitespace().nth(1)?.parse().ok()?;
    Some(Bytes::new(kib.saturating_mul(1024)))
}

/// A failed operation with its address and message.
fn told(f: &Failed) -> Fault {
    let verb = if f.write { "write" } else { "read" };
    let length = Bytes::new(f.length.into()).binary();
    let why = match f.code {
        // What the kernel makes of a medium error that the drive reports.
        libc::ENODATA => "medium error".to_owned(),
        code => std::io::Error::from_raw_os_error(code).to_string(),
    };
    let words = if f.recovered { "failed, and a second try alone succeeded" } else { "failed" };
    let kind = if f.recovered { FaultKind::Recovered } else { FaultKind::Failed };
    Fault { position: Bytes::new(f.address), kind, message: format!("{verb} of {length} {words}: {why}") }
}
