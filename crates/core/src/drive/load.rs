//! A load: what a drive shall do, where, how much of it, and in which order.

use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::erasure::Erasure;
use super::freight::Freight;
use super::mixture::Mixture;
use super::stamp::{Expected, Origin};
use crate::quantity::units::{Bytes, Rate};

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
    /// Moves files, as [`Load::freight`] says.
    Freight,
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
            Self::Freight => "freight",
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

impl Pattern {
    /// As it is said after a block size.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Sequential => "in sequence",
            Self::Random => "at random",
            Self::Backward => "backwards",
        }
    }
}

/// What a lookout reads at once on a drive with blocks of this size.
#[must_use]
pub fn lookout_block(block: Bytes) -> Bytes {
    Bytes::new(4096).max(block)
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
    /// Beside it, a single read of 4 KiB so often: what another user of the drive waits.
    pub lookout: Option<Duration>,
    /// Sizes and places of operations, where they are drawn; `block` is the largest then.
    pub mixture: Option<Arc<Mixture>>,
    /// How it erases, for [`LoadKind::Wipe`].
    pub erasure: Erasure,
    /// What is done with files, for [`LoadKind::Freight`].
    pub freight: Option<Freight>,
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
            lookout: None,
            mixture: None,
            erasure: Erasure::Discard,
            freight: None,
            done: Bytes::ZERO,
        }
    }

    /// Mean size of an operation.
    #[must_use]
    pub fn mean_block(&self) -> Bytes {
        self.mixture.as_ref().map_or(self.block, |m| m.mean())
    }

    /// Nothing is asked.
    #[must_use]
    pub const fn rest() -> Self {
        Self::sequential(LoadKind::Rest, Bytes::ZERO, Bytes::ZERO, Bytes::from_mib(1), 1)
    }
}
