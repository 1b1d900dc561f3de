//! What the runner asks of a drive, and what a drive says of itself.
//!
//! A drive is its own clock: [`Drive::work`] returns the time that has passed since the last call, so a real drive
//! measures and a simulated one computes, and the runner needs no clock.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::event::{LatencySummary, Vitals};
use crate::units::{Bytes, Celsius, Rate};

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

/// The connection of a drive, as it is now and at best.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// `PCIe`, `SATA`, `USB`.
    pub bus: String,
    /// PCIe generation, or 0 where it does not apply.
    #[serde(default)]
    pub generation: u8,
    /// PCIe lanes in use, or 0 where it does not apply.
    #[serde(default)]
    pub width: u8,
    /// PCIe lanes that the drive could use.
    #[serde(default)]
    pub best_width: u8,
}

impl Link {
    /// `PCIe 4.0 x4 of x4`, `SATA`.
    #[must_use]
    pub fn words(&self) -> String {
        if self.generation == 0 {
            return self.bus.clone();
        }
        format!("{} {}.0 x{} of x{}", self.bus, self.generation, self.width, self.best_width)
    }

    /// Payload ceiling: lane rate × encoding × width × 0.9 (PCI Express Base 6.0, table 1-1); SATA 6 Gb/s about
    /// 560 MB/s. `None` where the bus is not known.
    #[must_use]
    pub fn payload_ceiling(&self) -> Option<Rate> {
        let lane_mb_s = match (self.bus.as_str(), self.generation) {
            ("SATA", _) => return Some(Rate::from_mb_s(560.0)),
            ("PCIe", 1) => 250.0,
            ("PCIe", 2) => 500.0,
            ("PCIe", g @ 3..=6) => 984.6 * f64::from(1u32 << (g - 3)),
            _ => return None,
        };
        Some(Rate::from_mb_s(lane_mb_s * f64::from(self.width) * 0.9))
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
        }
    }
}

/// Which way the bytes go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LoadKind {
    /// Nothing is asked of the drive; temperature and health are still read.
    Rest,
    /// Sequential writes over the region, again from its start when the end is reached.
    Write,
    /// Sequential reads over the region, again from its start when the end is reached.
    Read,
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
    /// Operations kept in flight.
    pub depth: u32,
    /// Stop issuing after this many bytes, exactly.
    pub limit: Option<Bytes>,
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
    /// Address and message of the first operation that failed.
    pub first_error: Option<(Bytes, String)>,
    /// Share of addresses that hold data, in parts per million.
    pub fill_ppm: Option<u32>,
    /// The limit of the load is reached and nothing is in flight.
    pub finished: bool,
}

/// How a load ended.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct LoadSummary {
    /// Time that making the written data durable took (flush), where it was a write.
    pub flush: Option<Duration>,
    /// Bytes that were still in flight at the last tally and completed while draining.
    pub drained: Bytes,
    /// Time that draining took.
    pub drain: Duration,
    /// Latency histogram of the whole load: (value in ns, count), ascending.
    pub histogram: Vec<(u64, u64)>,
    /// Which engine moved the bytes, as it turned out; the head of the record has what was expected.
    #[serde(default)]
    pub engine: Option<String>,
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

    /// One health reading; `None` where the drive has none to give.
    fn vitals(&mut self) -> Option<Vitals>;

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
