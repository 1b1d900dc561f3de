//! What the runner asks of a drive, and what a drive says of itself.
//!
//! A drive is its own clock: [`Drive::work`] returns the time that has passed since the last call, so a real drive
//! measures and a simulated one computes, and the runner needs no clock.

pub mod erasure;
pub mod freight;
pub mod health;
mod identity;
mod latency;
mod load;
mod meter;
pub mod mixture;
pub mod permutation;
pub mod protocol;
pub mod stamp;
mod vitals;
pub mod zones;

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::freight::Freighted;
use crate::drive::stamp::Mismatch;
use crate::quantity::histogram::Histogram;
use crate::quantity::units::{Bytes, Celsius};

pub use identity::{DeviceFacts, DriveIdentity, DriveKind, Link};
pub use latency::LatencySummary;
pub use load::{Load, LoadKind, Pattern, lookout_block};
pub use meter::{MeterReading, MeterUnit, MeterValue, power};
pub use vitals::Vitals;

/// How a load is ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// What was written is made durable.
    Durable,
    /// What is in flight completes, and no more.
    AsItIs,
}

impl Ending {
    /// Durable where something was written.
    #[must_use]
    pub const fn durable_if(written: bool) -> Self {
        if written { Self::Durable } else { Self::AsItIs }
    }
}

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
    /// The same, counted in bins.
    pub latencies: Histogram,
    /// What the lookout waited for each of its reads, from when it was due.
    pub lookout: Histogram,
    /// What happened to files.
    pub freight: Option<Box<Freighted>>,
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
    /// Latency of what completed.
    pub latencies: Histogram,
    /// What the lookout saw.
    pub lookout: Histogram,
    /// What happened to files.
    pub freight: Option<Box<Freighted>>,
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

/// How often the health of a drive is asked for beside its load.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Asking {
    /// As it always is.
    #[default]
    Usual,
    /// Not at all.
    HeldOff,
    /// Twice as often.
    Twice,
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

    /// Lets what is in flight complete, and ends the load.
    ///
    /// # Errors
    /// When draining or flushing fails.
    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError>;

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

    /// How often its health is asked for while it is under load; true where that makes a difference, because something is asked by itself.
    fn ask_health(&mut self, _how: Asking) -> bool {
        false
    }

    /// Meters beside it, but for thermometers. Asked once a second; must not make the load wait.
    fn meters(&mut self) -> Vec<MeterReading> {
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
    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        (**self).finish(ending)
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
    fn ask_health(&mut self, how: Asking) -> bool {
        (**self).ask_health(how)
    }
    fn meters(&mut self) -> Vec<MeterReading> {
        (**self).meters()
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
        Link { bus: "PCIe".into(), generation, width, best_width, best_generation, ..Link::default() }
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
        let sata = Link { bus: "SATA".into(), generation: 2, best_generation: 3, ..Link::default() };
        assert_eq!(sata.shortfall().unwrap(), "3 of 6 Gb/s: half the bus");
        assert_eq!(
            (sata.words().as_str(), pcie(3, 4, 4, 4).words().as_str()),
            ("SATA 3 of 6 Gb/s", "PCIe 3.0 of 4.0 x4 of x4")
        );
        let usb = |mbit_s, best_mbit_s| Link { bus: "USB".into(), mbit_s, best_mbit_s, ..Link::default() };
        assert_eq!(usb(480, 10_000).words(), "USB 480 of 10000 Mb/s");
        assert_eq!(usb(480, 10_000).shortfall().unwrap(), "USB 480 of 10000 Mb/s: 5 % of the bus");
        assert_eq!((usb(5_000, 5_000).shortfall(), usb(5_000, 0).shortfall()), (None, None));
        assert_eq!((usb(480, 0).words().as_str(), usb(0, 0).words().as_str()), ("USB 480 Mb/s", "USB"));
        assert_eq!(usb(10_000, 0).payload_ceiling().unwrap().mb_s().round(), 1091.0);
    }
}
