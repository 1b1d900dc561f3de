//! What the runner asks of a drive, and what a drive says of itself.
//!
//! A drive is its own clock: [`Drive::work`] returns the time that has passed since the last call, so a real drive
//! measures and a simulated one computes, and the runner needs no clock.

pub mod health;
mod latency;
pub mod permutation;
pub mod protocol;
pub mod stamp;
mod vitals;

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::stamp::{Expected, Mismatch, Origin};
use crate::quantity::units::{Bytes, Celsius, Rate};

pub use latency::LatencySummary;
pub use vitals::Vitals;

/// What kind of trouble a fault was.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FaultKind {
    /// An operation failed, and its second try too.
    #[default]
    Failed,
    /// An operation failed, and a second try alone succeeded.
    Recovered,
    /// The drive began to warn of something.
    Warning,
    /// The drive could not go on.
    Drive,
}

/// Of which sort a drive is; decides what consent a write needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriveKind {
    /// A stand-in that ships with the program or was written by the user; nothing real is touched.
    Simulated,
    /// A file of our own on a mounted file system.
    File,
    /// A whole block device.
    Block,
    /// A record that came from elsewhere as CSV.
    Imported,
}

/// Line rate of a Serial ATA generation (Serial ATA 3.5, table 1).
const fn sata_gb_s(generation: u8) -> &'static str {
    match generation {
        1 => "1.5",
        2 => "3",
        _ => "6",
    }
}

/// What the kernel and the drive say of a block device, as it was when the haul began.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct DeviceFacts {
    /// `nvme`, `ata`, `usb`, `scsi`, `virtio`, `loop`.
    pub transport: String,
    /// Physical block: what the drive really writes at least.
    pub physical_block: Bytes,
    /// I/O scheduler in use.
    pub scheduler: String,
    /// `write back` or `write through`, as the kernel treats it.
    pub write_cache: String,
    /// Discards are passed on to the drive.
    pub discard: bool,
    /// Metadata bytes that travel with each block; a drive formatted to 520 bytes has 8.
    pub metadata: u16,
    /// NVMe Namespace Utilization: what the drive says is allocated.
    pub utilization: Option<Bytes>,
    /// Kernel release.
    pub kernel: String,
}

/// The connection of a drive, as it is now and at best.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// `PCIe`, `SATA`, `USB`.
    pub bus: String,
    /// Generation of PCIe (4 for 16 GT/s) or SATA (3 for 6 Gb/s), or 0 where it does not apply.
    #[serde(default)]
    pub generation: u8,
    /// PCIe lanes in use, or 0 where it does not apply.
    #[serde(default)]
    pub width: u8,
    /// PCIe lanes that the drive could use.
    #[serde(default)]
    pub best_width: u8,
    /// Generation that the drive could use; 0 where it is not known.
    #[serde(default)]
    pub best_generation: u8,
}

impl Link {
    /// `PCIe 4.0 x4 of x4`, `PCIe 3.0 of 4.0 x4 of x4`, `SATA 6 Gb/s`, `USB`.
    #[must_use]
    pub fn words(&self) -> String {
        let best = self.best_generation.max(self.generation);
        match (self.bus.as_str(), self.generation) {
            (bus, 0) => bus.to_owned(),
            ("SATA", now) if best > now => {
                format!("SATA {} of {} Gb/s", sata_gb_s(now), sata_gb_s(best))
            }
            ("SATA", now) => format!("SATA {} Gb/s", sata_gb_s(now)),
            (bus, now) => {
                let of = if best > now { format!(" of {best}.0") } else { String::new() };
                format!("{bus} {now}.0{of} x{} of x{}", self.width, self.best_width)
            }
        }
    }

    /// Payload ceiling: lane rate × encoding × width × 0.9 (PCI Express Base 6.0, table 1-1); SATA 6 Gb/s about
    /// 560 MB/s. `None` where the bus is not known.
    #[must_use]
    pub fn payload_ceiling(&self) -> Option<Rate> {
        Self::ceiling(&self.bus, self.generation, self.width)
    }

    fn ceiling(bus: &str, generation: u8, width: u8) -> Option<Rate> {
        let lane_mb_s = match (bus, generation) {
            ("SATA", 1) => return Some(Rate::from_mb_s(140.0)),
            ("SATA", 2) => return Some(Rate::from_mb_s(280.0)),
            ("SATA", _) => return Some(Rate::from_mb_s(560.0)),
            ("PCIe", 1) => 250.0,
            ("PCIe", 2) => 500.0,
            ("PCIe", g @ 3..=6) => 984.6 * f64::from(1u32 << (g - 3)),
            _ => return None,
        };
        Some(Rate::from_mb_s(lane_mb_s * f64::from(width) * 0.9))
    }

    /// What is lost when the drive has less than it could have, in words: `x2 of x4: half the bus`. `None` when it has
    /// all, or that is not known.
    #[must_use]
    pub fn shortfall(&self) -> Option<String> {
        let best_generation = self.best_generation.max(self.generation);
        let best_width = self.best_width.max(self.width);
        let now = self.payload_ceiling()?.get();
        let best = Self::ceiling(&self.bus, best_generation, best_width)?.get();
        let share = now / best;
        if share > 0.99 {
            return None;
        }
        let part = match share {
            s if (s - 0.5).abs() < 0.02 => "half the bus".to_owned(),
            s if (s - 0.25).abs() < 0.01 => "a quarter of the bus".to_owned(),
            s => format!("{:.0} % of the bus", s * 100.0),
        };
        let mut what = Vec::new();
        if self.bus == "SATA" {
            what.push(format!("{} of {} Gb/s", sata_gb_s(self.generation), sata_gb_s(best_generation)));
        } else {
            if best_generation > self.generation {
                what.push(format!("generation {} of {best_generation}", self.generation));
            }
            if best_width > self.width {
                what.push(format!("x{} of x{best_width}", self.width));
            }
        }
        Some(format!("{}: {part}", what.join(", ")))
    }
}

/// Who a drive is. Written whole into every record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DriveIdentity {
    /// How the user names it: `sim:corrie-2t`, `file:/mnt/bay/try.hm`.
    pub target: String,
    /// Of which sort.
    pub kind: DriveKind,
    /// Model, as the drive says it.
    pub model: String,
    /// Serial number, as the drive says it; for a file, that of its file system's device or its path.
    pub serial: String,
    /// Firmware revision; empty where there is none.
    #[serde(default)]
    pub firmware: String,
    /// Addressable bytes.
    pub capacity: Bytes,
    /// Logical block: the smallest unit that can be addressed.
    pub block: Bytes,
    /// True for platters.
    #[serde(default)]
    pub rotational: bool,
    /// Connection, where known.
    #[serde(default)]
    pub link: Option<Link>,
    /// Temperature above which the drive lowers its speed, as it or its maker says.
    #[serde(default)]
    pub throttle_limit: Option<Celsius>,
    /// Rated endurance: bytes written over its life, as the maker claims.
    #[serde(default)]
    pub rated_writes: Option<Bytes>,
    /// Share of addresses written when the haul began, 0 to 100; `None` where it cannot be known.
    #[serde(default)]
    pub fill_percent: Option<f64>,
    /// More of a block device.
    #[serde(default)]
    pub device: Option<DeviceFacts>,
}

impl DriveIdentity {
    /// A drive of which no more is known than its name, sort and size; blocks of 512 B.
    #[must_use]
    pub fn plain(target: &str, kind: DriveKind, capacity: Bytes) -> Self {
        Self {
            target: target.to_owned(),
            kind,
            model: String::new(),
            serial: String::new(),
            firmware: String::new(),
            capacity,
            block: Bytes::new(512),
            rotational: false,
            link: None,
            throttle_limit: None,
            rated_writes: None,
            fill_percent: None,
            device: None,
        }
    }
}

/// Which way the bytes go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LoadKind {
    /// Nothing is asked of the drive; temperature and health are still read.
    Rest,
    /// Writes over the region, again from its start when the end is reached.
    Write,
    /// Reads over the region, again from its start when the end is reached.
    Read,
    /// Reads and writes, in the share that [`Load::read_percent`] says.
    Mixed,
    /// Reads, and judges the stamp of every block against [`Load::check`].
    Verify,
    /// Writes the region, once; a file brings its file system to this level instead, with a file beside it.
    Fill {
        /// Share that shall hold data, in parts per million.
        to_ppm: u32,
    },
    /// Discards the region, once, and reads back whether it is gone.
    Wipe,
    /// The drive tests itself; nothing else is asked of it.
    SelfTest {
        /// The extended test, or else the short one.
        extended: bool,
    },
}

impl LoadKind {
    /// In a word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Rest => "rest",
            Self::Write => "write",
            Self::Read => "read",
            Self::Mixed => "mixed",
            Self::Verify => "verify",
            Self::Fill { .. } => "fill",
            Self::Wipe => "wipe",
            Self::SelfTest { .. } => "selftest",
        }
    }
}

impl LoadKind {
    /// It changes what is on the drive.
    #[must_use]
    pub const fn destroys(self) -> bool {
        matches!(self, Self::Write | Self::Mixed | Self::Wipe | Self::Fill { .. })
    }

    /// It brings the drive or its file system to a level of fill.
    #[must_use]
    pub const fn is_fill(self) -> bool {
        matches!(self, Self::Fill { .. })
    }

    /// It moves bytes between host and drive.
    #[must_use]
    pub const fn moves(self) -> bool {
        !matches!(self, Self::Rest | Self::Wipe | Self::SelfTest { .. })
    }
}

/// In which order addresses come.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Pattern {
    /// One after the other.
    #[default]
    Sequential,
    /// Every block of the region once, in a random order, then again in the same.
    Random,
    /// One before the other, from the end of the region.
    Backward,
}

/// What a drive is told to do until told otherwise.
#[derive(Debug, Clone, PartialEq)]
pub struct Load {
    /// Which way.
    pub kind: LoadKind,
    /// First byte of the region.
    pub start: Bytes,
    /// One past the last byte of the region.
    pub end: Bytes,
    /// Size of one operation.
    pub block: Bytes,
    /// Operations kept in flight, by all workers together.
    pub depth: u32,
    /// Threads that issue them, each on its own part of the region.
    pub workers: u32,
    /// In which order addresses come.
    pub pattern: Pattern,
    /// Share of operations that read, for [`LoadKind::Mixed`].
    pub read_percent: u8,
    /// No faster than this.
    pub rate: Option<Rate>,
    /// A stream: latency counts from when an operation was due, and so much of what a stall held up is made up for.
    pub catch_up: Option<Duration>,
    /// What should come back, for [`LoadKind::Verify`].
    pub check: Option<Expected>,
    /// Share of each written 4 KiB that a drive which compresses could squeeze to nothing.
    pub compressible_percent: u8,
    /// Every written 4 KiB says who wrote it and where (see [`crate::drive::stamp`]).
    pub stamp: Option<Origin>,
    /// Stop issuing after this many bytes, exactly.
    pub limit: Option<Bytes>,
    /// An interval ends early when so much was moved in it, so that places are told apart.
    pub sample: Option<Bytes>,
    /// Where a sequential load begins, when that is not where the one before it ended.
    pub from: Option<Bytes>,
    /// Bytes that were moved under this load before, from the start of its region on: stamps go on in that lap.
    pub done: Bytes,
}

impl Load {
    /// One worker, one address after the other, as fast as it goes, until told otherwise.
    #[must_use]
    pub const fn sequential(kind: LoadKind, start: Bytes, end: Bytes, block: Bytes, depth: u32) -> Self {
        Self {
            kind,
            start,
            end,
            block,
            depth,
            workers: 1,
            pattern: Pattern::Sequential,
            read_percent: 0,
            rate: None,
            catch_up: None,
            check: None,
            compressible_percent: 0,
            stamp: None,
            limit: None,
            sample: None,
            from: None,
            done: Bytes::ZERO,
        }
    }

    /// Nothing is asked.
    #[must_use]
    pub const fn rest() -> Self {
        Self::sequential(LoadKind::Rest, Bytes::ZERO, Bytes::ZERO, Bytes::from_mib(1), 1)
    }
}

/// What happened in one interval of work.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Tally {
    /// Time since the last tally, or since the load began.
    pub took: Duration,
    /// Bytes written and acknowledged.
    pub written: Bytes,
    /// Bytes read.
    pub read: Bytes,
    /// Address just past the last operation that completed.
    pub position: Option<Bytes>,
    /// Latest temperature of the drive.
    pub temperature: Option<Celsius>,
    /// Latency of the operations of this interval.
    pub latency: Option<LatencySummary>,
    /// Bytes that the device moved for others.
    pub other: Option<Bytes>,
    /// Operations that failed.
    pub errors: u32,
    /// Operations that failed: the first few of the interval.
    pub faults: Vec<Fault>,
    /// Blocks that did not read back as written, neighbours in one.
    pub mismatches: Vec<Mismatch>,
    /// Share of addresses that hold data, in parts per million.
    pub fill_ppm: Option<u32>,
    /// Share of the interval that the threads which drive the load were busy, in parts per million.
    pub host_busy_ppm: Option<u32>,
    /// The limit of the load is reached and nothing is in flight.
    pub finished: bool,
}

/// An operation that failed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Its address.
    pub position: Bytes,
    /// Whether a second try succeeded.
    pub kind: FaultKind,
    /// In a sentence.
    pub message: String,
}

/// What was seen while a queue drained, behind the last tally.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Late {
    /// Operations that failed.
    pub errors: u32,
    /// The first few of them.
    pub faults: Vec<Fault>,
    /// Blocks that did not read back as written.
    pub mismatches: Vec<Mismatch>,
}

impl Late {
    /// There is something to tell.
    #[must_use]
    pub fn is_news(&self) -> bool {
        self.errors > 0 || !self.faults.is_empty() || !self.mismatches.is_empty()
    }
}

/// How a load ended.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct LoadSummary {
    /// Time that making the written data durable took (flush), where it was a write.
    pub flush: Option<Duration>,
    /// Bytes that were still in flight at the last tally and completed while draining.
    pub drained: Bytes,
    /// How many of them were read; the others were written. Counts in mixed loads only.
    #[serde(default)]
    pub drained_read: Bytes,
    /// What is to be said of the load: how a wipe was confirmed, how a self-test ended.
    #[serde(default)]
    pub remark: Option<String>,
    /// Time that draining took.
    pub drain: Duration,
    /// Latency histogram of the whole load: (value in ns, count), ascending.
    pub histogram: Vec<(u64, u64)>,
    /// Which engine moved the bytes, as it turned out; the head of the record has what was expected.
    #[serde(default)]
    pub engine: Option<String>,
    /// What failed in the drain; the runner tells it as events of their own.
    #[serde(skip)]
    pub late: Late,
}

/// Why a drive could not go on.
#[derive(Debug, Clone, PartialEq, thiserror::Error)]
pub enum DriveError {
    /// The device or file is no longer there.
    #[error("{target} is gone: {why}")]
    Gone {
        /// As the user names it.
        target: String,
        /// The kernel's words.
        why: String,
    },
    /// The file system has no room left.
    #[error("no space left for {target} after {at}: free some space or give a smaller --size")]
    NoSpace {
        /// As the user names it.
        target: String,
        /// Address at which it ran out.
        at: Bytes,
    },
    /// Anything else that the drive refused.
    #[error("{target}: {doing} failed: {why}")]
    Refused {
        /// As the user names it.
        target: String,
        /// What was being done.
        doing: &'static str,
        /// The kernel's words.
        why: String,
    },
}

/// A drive under load. One interval is asked for at a time; a real drive keeps its queue full from one call to the next.
pub trait Drive: Send {
    /// Who it is.
    fn identity(&self) -> &DriveIdentity;

    /// Which engine moves the bytes, and with what: `io_uring, direct I/O, registered buffers`.
    fn engine(&self) -> String;

    /// Takes up a load; the one before must have been finished.
    ///
    /// # Errors
    /// When the drive cannot be opened or prepared for it.
    fn begin(&mut self, load: &Load) -> Result<(), DriveError>;

    /// Works for one interval and says what happened in it.
    ///
    /// # Errors
    /// When the drive cannot go on. Failed operations are no such error: they are counted in the tally.
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError>;

    /// Lets what is in flight complete, and makes written data durable when `flush` is set.
    ///
    /// # Errors
    /// When draining or flushing fails.
    fn finish(&mut self, flush: bool) -> Result<LoadSummary, DriveError>;

    /// Lets what is in flight complete and makes what was written durable; the load goes on with the next interval.
    ///
    /// # Errors
    /// When draining or flushing fails.
    fn flush(&mut self) -> Result<LoadSummary, DriveError>;

    /// One health reading; `None` where the drive has none to give.
    fn vitals(&mut self) -> Option<Vitals>;

    /// Temperatures beside the one in the samples, by name. Asked once a second; must not make the load wait.
    fn temperatures(&mut self) -> Vec<(String, Celsius)> {
        Vec::new()
    }

    /// True when the drive computes its own time, so that it may be run faster than real time.
    fn is_simulated(&self) -> bool {
        false
    }

    /// Gives back what the haul took: files are removed, queues closed. Called once at the end of a haul.
    ///
    /// # Errors
    /// When something could not be removed; the words say what is left behind.
    fn release(&mut self) -> Result<(), DriveError> {
        Ok(())
    }
}

impl<D: Drive + ?Sized> Drive for Box<D> {
    fn identity(&self) -> &DriveIdentity {
        (**self).identity()
    }
    fn engine(&self) -> String {
        (**self).engine()
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        (**self).begin(load)
    }
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        (**self).work(interval)
    }
    fn finish(&mut self, flush: bool) -> Result<LoadSummary, DriveError> {
        (**self).finish(flush)
    }
    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        (**self).flush()
    }
    fn vitals(&mut self) -> Option<Vitals> {
        (**self).vitals()
    }
    fn temperatures(&mut self) -> Vec<(String, Celsius)> {
        (**self).temperatures()
    }
    fn is_simulated(&self) -> bool {
        (**self).is_simulated()
    }
    fn release(&mut self) -> Result<(), DriveError> {
        (**self).release()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pcie(generation: u8, best_generation: u8, width: u8, best_width: u8) -> Link {
        Link { bus: "PCIe".into(), generation, width, best_width, best_generation }
    }

    #[test]
    fn a_link_that_has_less_than_it_could_says_so() {
        assert_eq!(pcie(4, 4, 4, 4).shortfall(), None);
        assert_eq!(pcie(4, 0, 4, 4).shortfall(), None, "the best is not known");
        assert_eq!(pcie(4, 4, 2, 4).shortfall().unwrap(), "x2 of x4: half the bus");
        assert_eq!(
            pcie(3, 4, 2, 4).shortfall().unwrap(),
            "generation 3 of 4, x2 of x4: a quarter of the bus"
        );
        assert_eq!(pcie(1, 3, 4, 4).shortfall().unwrap(), "generation 1 of 3: a quarter of the bus");
        let sata = Link { bus: "SATA".into(), generation: 2, width: 0, best_width: 0, best_generation: 3 };
        assert_eq!(sata.shortfall().unwrap(), "3 of 6 Gb/s: half the bus");
        assert_eq!(
            (sata.words().as_str(), pcie(3, 4, 4, 4).words().as_str()),
            ("SATA 3 of 6 Gb/s", "PCIe 3.0 of 4.0 x4 of x4")
        );
    }
}
