//! One leg of a route: what it does, with what load, and when it ends.

use std::sync::Arc;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::amount::{Amount, Region};
use super::group::{Over, Turn};
use super::rounds::Steady;
use crate::drive::erasure::Erasure;
use crate::drive::freight::{Carry, Durable, FileClass, FileOrder, Side, Through, TreeSpec};
use crate::drive::mixture::{Mixture, PartShare, SizeShare};
use crate::drive::stamp::Origin;
use crate::drive::{DriveIdentity, Load, LoadKind, Pattern};
use crate::quantity::plain;
use crate::quantity::units::{Bytes, Celsius, Rate};

/// What a leg does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LegKind {
    /// Nothing; the drive is watched while it cools and tidies up.
    Rest,
    /// Writes.
    Write,
    /// Reads.
    Read,
    /// Reads and writes at once.
    Mixed,
    /// Brings the drive, or the file system, to a level of fill.
    Fill,
    /// Passes over the region, forwards and backwards, and again over what was slow: rate by position.
    Scan,
    /// Random single reads over nested shares of the drive: access time.
    Spans,
    /// One short measurement for each block size, depth, number of workers and pattern.
    Ladder,
    /// A stream at a given rate with a given buffer.
    Pace,
    /// Rest and write until it slows, for growing rests: how the cache comes back.
    Breather,
    /// Reads stamped blocks back and tells whether each is the right one.
    Verify,
    /// Moves files: writes a tree of them, reads it back, copies it from another drive, or deletes it.
    Freight,
    /// Discards everything, and reads back whether it is gone.
    Wipe,
    /// The drive tests itself.
    Selftest,
    /// Legs that are repeated.
    Group,
}

/// What the operations of a scan, a ladder or a stream do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Operation {
    /// Read.
    #[default]
    Read,
    /// Write, which destroys what is there.
    Write,
}

impl Operation {
    /// As in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Read => "read",
            Self::Write => "write",
        }
    }
}

impl LegKind {
    /// Each of them.
    pub const ALL: [Self; 15] = [
        Self::Rest,
        Self::Write,
        Self::Read,
        Self::Mixed,
        Self::Fill,
        Self::Scan,
        Self::Spans,
        Self::Ladder,
        Self::Pace,
        Self::Breather,
        Self::Verify,
        Self::Freight,
        Self::Wipe,
        Self::Selftest,
        Self::Group,
    ];

    /// As in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Rest => "rest",
            Self::Write => "write",
            Self::Read => "read",
            Self::Mixed => "mixed",
            Self::Fill => "fill",
            Self::Scan => "scan",
            Self::Spans => "spans",
            Self::Ladder => "ladder",
            Self::Pace => "pace",
            Self::Breather => "breather",
            Self::Verify => "verify",
            Self::Freight => "freight",
            Self::Wipe => "wipe",
            Self::Selftest => "selftest",
            Self::Group => "group",
        }
    }

    /// It moves bytes between host and drive.
    #[must_use]
    pub const fn moves(self) -> bool {
        !matches!(self, Self::Rest | Self::Wipe | Self::Selftest | Self::Group)
    }

    /// It puts one load on the drive until a condition of its own comes true.
    #[must_use]
    pub const fn is_plain_load(self) -> bool {
        matches!(self, Self::Write | Self::Read | Self::Mixed)
    }

    /// It goes through steps of its own, one load after the other.
    #[must_use]
    pub const fn has_steps(self) -> bool {
        matches!(self, Self::Scan | Self::Spans | Self::Ladder | Self::Pace | Self::Verify)
    }
}

/// Which self-test.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SelfTestLength {
    /// Minutes at most.
    #[default]
    Short,
    /// Hours at most; may read the whole media.
    Extended,
}

/// When a leg ends: at the first of these that comes true.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Until {
    /// So much has been moved.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub bytes: Option<Amount>,
    /// So much time has passed in the leg.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// The drive is this warm (while working) or has cooled to this (while resting).
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub temperature: Option<Celsius>,
    /// So much has been written past the last cache end that was found.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub past_cache_end: Option<Bytes>,
    /// The rate is steady: five rounds of a minute after SNIA PTS; of a rest: the temperature is.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub steady: bool,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_discard(by: &Erasure) -> bool {
    *by == Erasure::Discard
}

fn default_block() -> Bytes {
    Bytes::from_mib(1)
}

const fn default_depth() -> u32 {
    32
}

/// One part of a route.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Leg {
    /// What it does.
    pub kind: LegKind,
    /// Size of one operation.
    #[serde(default = "default_block", with = "plain")]
    pub block: Bytes,
    /// Operations kept in flight.
    #[serde(default = "default_depth")]
    pub depth: u32,
    /// Threads that issue them, each on its own part of the region.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub workers: u32,
    /// In which order addresses come.
    #[serde(default, skip_serializing_if = "is_default")]
    pub pattern: Pattern,
    /// Sizes of operations by share, in place of one block.
    #[serde(default, with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub mix: Vec<SizeShare>,
    /// Parts of the region, from its start, by share of the operations.
    #[serde(default, with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub spread: Vec<PartShare>,
    /// Share of operations that read, 1 to 99; goes with a mixed leg.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_percent: Option<u8>,
    /// No faster than this.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
    /// Share of the written data that a drive which compresses could squeeze to nothing, 0 to 100.
    #[serde(default, skip_serializing_if = "is_default")]
    pub compressible_percent: u8,
    /// Every written 4 KiB carries a stamp that tells who wrote it and where.
    #[serde(default, skip_serializing_if = "is_default")]
    pub stamped: bool,
    /// Writes: what was written is made durable each time that so much has come.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub flush_every: Option<Bytes>,
    /// Beside it, a single read of 4 KiB so often: what another user of the drive waits.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub lookout: Option<Duration>,
    /// Writes: when the rate falls and the record does not say why, experiments find out.
    #[serde(default, skip_serializing_if = "is_default")]
    pub decide: bool,
    /// Time that they may take; a twentieth of the leg's without it, and ten minutes at most.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub decide_time: Option<Duration>,
    /// Bytes that they may read and write; a twentieth of the leg's without it.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub decide_bytes: Option<Bytes>,
    /// What they may write of all that the drive is rated to take: a share of that, or bytes; no bound of its own without it.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub decide_wear: Option<Amount>,
    /// Which part of the drive.
    #[serde(default, skip_serializing_if = "is_default")]
    pub region: Region,
    /// Which self-test.
    #[serde(default, skip_serializing_if = "is_default")]
    pub test: SelfTestLength,
    /// How a wipe erases.
    #[serde(default, skip_serializing_if = "is_discard")]
    pub by: Erasure,
    /// What a scan, a ladder or a stream does: read without it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub operation: Operation,
    /// Scans: passes over the region, in turn forwards and backwards.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub passes: Option<u16>,
    /// Scans: parts of the drive that are told apart.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bins: Option<u32>,
    /// Spans: shares of the drive from its start, in order.
    #[serde(default, with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub shares: Vec<Amount>,
    /// Ladders: sizes of an operation.
    #[serde(default, with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub blocks: Vec<Bytes>,
    /// Ladders: operations in flight.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub depths: Vec<u32>,
    /// Ladders: threads that issue them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub crews: Vec<u32>,
    /// Ladders: in which order addresses come.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub patterns: Vec<Pattern>,
    /// Spans, ladders, streams that are searched for: time of one measurement.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub step: Option<Duration>,
    /// Ladders: time under the same load before each measurement; groups: rest after each fill.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub settle: Option<Duration>,
    /// Fills: share of the drive, or of the file system, that shall hold data.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub level: Option<Amount>,
    /// Streams: as a rate or as geometry (`16 channels x 24 bit x 96 kHz`).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stream: Option<String>,
    /// Streams: what the recorder can hold while the drive is late.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub buffer: Option<Bytes>,
    /// Streams: find the highest rate that holds, by halving.
    #[serde(default, skip_serializing_if = "is_default")]
    pub search: bool,
    /// Verifies: the haul whose stamped blocks are read back; this one without it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of: Option<String>,
    /// Verifies: so much of it, evenly spread, and not all.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub sample: Option<Amount>,
    /// Breathers: how long to rest before each write.
    #[serde(default, with = "plain::list", skip_serializing_if = "Vec::is_empty")]
    pub rests: Vec<Duration>,
    /// Freight: what is done with the tree.
    #[serde(default, skip_serializing_if = "is_default")]
    pub carry: Carry,
    /// Freight: on which drive, where there are two.
    #[serde(default, skip_serializing_if = "is_default")]
    pub at: Side,
    /// Freight: sizes of the files of the tree, and their shares.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<FileClass>,
    /// Freight: bytes in all files.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub total: Option<Bytes>,
    /// Freight: number of files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<u64>,
    /// Freight: folders that lie in each other.
    #[serde(default, skip_serializing_if = "is_default")]
    pub folder_depth: u32,
    /// Freight: folders beside each other, in each.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub folder_width: Option<u32>,
    /// Freight: a folder, or the file of a shape, whose sizes and layout the tree takes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub like: Option<String>,
    /// Freight: draws sizes and order.
    #[serde(default, skip_serializing_if = "is_default")]
    pub seed: u64,
    /// Freight: through the page cache or past it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub through: Through,
    /// Freight: when files are made durable.
    #[serde(default, skip_serializing_if = "is_default")]
    pub sync: Durable,
    /// Freight: in which order files come.
    #[serde(default, skip_serializing_if = "is_default")]
    pub order: FileOrder,
    /// Freight: share of the written data that is like some before it, 0 to 100.
    #[serde(default, skip_serializing_if = "is_default")]
    pub duplicates_percent: u8,
    /// So many times, one after the other.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub repeat: Option<u32>,
    /// Groups: they are repeated until this is steady, `repeat` times at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub steady: Option<Steady>,
    /// Groups: over what the legs are repeated.
    #[serde(default, skip_serializing_if = "is_default")]
    pub over: Over,
    /// Groups: the legs.
    #[serde(default, rename = "leg", skip_serializing_if = "Vec::is_empty")]
    pub legs: Vec<Leg>,
    /// Which turn of a group this is; the program's own, when it lays a route out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub turn: Option<Turn>,
    /// The haul ends as failed when so many operations of this leg have failed; without it, none end it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_after_errors: Option<u64>,
    /// When it ends.
    #[serde(default)]
    pub until: Until,
}

const fn one() -> u32 {
    1
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
const fn is_one(n: &u32) -> bool {
    *n == 1
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Leg {
    /// The same load, wherever it lies, however long it goes on, whichever turn of a group it is, and whether or not its falls are looked into.
    #[must_use]
    pub fn same_load(&self, other: &Self) -> bool {
        let bare = |l: &Self| Self {
            until: Until::default(),
            region: Region::default(),
            turn: None,
            decide: false,
            decide_time: None,
            decide_bytes: None,
            decide_wear: None,
            ..l.clone()
        };
        bare(self) == bare(other)
    }

    /// A leg of this kind with the usual load, that never ends by itself.
    #[must_use]
    pub fn new(kind: LegKind) -> Self {
        Self {
            kind,
            block: default_block(),
            depth: default_depth(),
            workers: 1,
            pattern: Pattern::Sequential,
            mix: Vec::new(),
            spread: Vec::new(),
            read_percent: None,
            rate: None,
            compressible_percent: 0,
            stamped: false,
            flush_every: None,
            lookout: None,
            decide: false,
            decide_time: None,
            decide_bytes: None,
            decide_wear: None,
            region: Region::default(),
            test: SelfTestLength::Short,
            by: Erasure::Discard,
            operation: Operation::Read,
            passes: None,
            bins: None,
            shares: Vec::new(),
            blocks: Vec::new(),
            depths: Vec::new(),
            crews: Vec::new(),
            patterns: Vec::new(),
            step: None,
            settle: None,
            level: None,
            stream: None,
            buffer: None,
            search: false,
            of: None,
            sample: None,
            rests: Vec::new(),
            carry: Carry::default(),
            at: Side::default(),
            files: Vec::new(),
            total: None,
            count: None,
            folder_depth: 0,
            folder_width: None,
            like: None,
            seed: 0,
            through: Through::default(),
            sync: Durable::default(),
            order: FileOrder::default(),
            duplicates_percent: 0,
            repeat: None,
            steady: None,
            over: Over::default(),
            legs: Vec::new(),
            turn: None,
            stop_after_errors: None,
            until: Until::default(),
        }
    }

    /// It changes what is on the drive.
    #[must_use]
    pub fn destroys(&self) -> bool {
        match self.kind {
            LegKind::Write | LegKind::Mixed | LegKind::Wipe | LegKind::Fill | LegKind::Breather => true,
            LegKind::Scan | LegKind::Ladder | LegKind::Pace => self.operation == Operation::Write,
            LegKind::Freight => self.carry != Carry::Read,
            LegKind::Group => !self.over.fill.is_empty() || self.legs.iter().any(Self::destroys),
            LegKind::Rest | LegKind::Read | LegKind::Spans | LegKind::Verify | LegKind::Selftest => false,
        }
    }

    /// The bytes this leg moves at most on a drive of this capacity; `None` when only time, heat or a finding ends it.
    #[must_use]
    pub fn bytes_on(&self, capacity: Bytes) -> Option<Bytes> {
        let (start, end) = self.region.on(capacity, self.block);
        let region = end.saturating_sub(start);
        match self.kind {
            LegKind::Fill => Some(self.level?.of(capacity)),
            LegKind::Freight => match self.carry {
                Carry::Delete => Some(Bytes::ZERO),
                _ => self.total,
            },
            LegKind::Scan => Some(Bytes::new(region.get().saturating_mul(self.passes().into()))),
            _ if self.kind.moves() => self.until.bytes.map(|a| a.of(region)),
            _ => None,
        }
    }

    /// How long it takes at most, where that does not depend on the drive.
    #[must_use]
    pub fn takes(&self) -> Option<Duration> {
        let each = |n: usize, usual: u64| self.step.unwrap_or(Duration::from_secs(usual)) * n as u32;
        let by_itself = match self.kind {
            LegKind::Spans => Some(each((self.spans().len() + 1) * self.rounds() as usize, 5)),
            LegKind::Ladder => {
                let settle = self.settle.unwrap_or(Duration::from_secs(1));
                Some(each(self.rungs(), 5) + settle * self.rungs() as u32)
            }
            _ => None,
        };
        match (by_itself, self.until.duration) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        }
    }

    /// Experiments can be made in it: a plain write by one worker whose bytes nobody reads back, as fast as it goes, onwards or at random.
    #[must_use]
    pub fn may_decide(&self) -> bool {
        let plain = self.mix.is_empty() && self.spread.is_empty() && self.rate.is_none();
        let onwards = self.workers == 1 && self.pattern != Pattern::Backward;
        self.kind == LegKind::Write && !self.stamped && plain && onwards
    }

    /// And on this drive: one whose zones take writes in sequence only would begin zones anew for them.
    #[must_use]
    pub fn may_decide_on(&self, drive: &DriveIdentity) -> bool {
        self.may_decide() && !drive.writes_in_sequence_only()
    }

    /// Passes of a scan.
    #[must_use]
    pub fn passes(&self) -> u16 {
        self.passes.unwrap_or(2)
    }

    /// Share of the moved bytes that are written, 0 to 1.
    #[must_use]
    pub fn written_share(&self) -> f64 {
        match self.kind {
            LegKind::Freight if self.carry.makes() => 1.0,
            LegKind::Freight => 0.0,
            LegKind::Mixed => 1.0 - f64::from(self.read_percent.unwrap_or(50)) / 100.0,
            _ if self.destroys() && self.kind.moves() => 1.0,
            _ => 0.0,
        }
    }

    /// The load that this leg puts on a drive of this capacity.
    #[must_use]
    pub fn load(&self, capacity: Bytes) -> Load {
        let kind = match self.kind {
            LegKind::Rest | LegKind::Group => LoadKind::Rest,
            LegKind::Write | LegKind::Fill | LegKind::Breather => LoadKind::Write,
            LegKind::Mixed => LoadKind::Mixed,
            LegKind::Verify => LoadKind::Verify,
            LegKind::Freight => LoadKind::Freight,
            LegKind::Read | LegKind::Scan | LegKind::Spans | LegKind::Ladder | LegKind::Pace => {
                if self.destroys() { LoadKind::Write } else { LoadKind::Read }
            }
            LegKind::Wipe => LoadKind::Wipe,
            LegKind::Selftest => LoadKind::SelfTest { extended: self.test == SelfTestLength::Extended },
        };
        let mixture = self.mixture().map(Arc::new);
        let block = mixture.as_ref().map_or(self.block, |m| m.largest());
        let (start, end) = self.region.on(capacity, block);
        Load {
            mixture,
            workers: self.workers,
            pattern: self.pattern,
            read_percent: if self.kind == LegKind::Mixed { self.read_percent.unwrap_or(50) } else { 0 },
            rate: self.rate,
            lookout: self.lookout,
            erasure: self.by,
            compressible_percent: self.compressible_percent,
            // Who writes is known when the haul begins.
            stamp: self.stamped.then(Origin::default),
            limit: if self.kind.is_plain_load() || self.kind == LegKind::Pace {
                self.bytes_on(capacity)
            } else {
                None
            },
            ..Load::sequential(kind, start, end, block, self.depth)
        }
    }

    /// Sizes and places that its operations are drawn from; `None` where all are alike.
    #[must_use]
    pub fn mixture(&self) -> Option<Mixture> {
        if self.mix.is_empty() && self.spread.is_empty() {
            return None;
        }
        let alike = || vec![SizeShare { block: self.block, percent: 100.0 }];
        let sizes = if self.mix.is_empty() { alike() } else { self.mix.clone() };
        Some(Mixture { sizes, parts: self.spread.clone() })
    }

    /// Mean size of an operation.
    #[must_use]
    pub fn mean_block(&self) -> Bytes {
        self.mixture().map_or(self.block, |m| m.mean())
    }

    /// It says of what tree it is.
    #[must_use]
    pub fn has_tree(&self) -> bool {
        !self.files.is_empty() || self.like.is_some()
    }

    /// The tree that it states in numbers; not one that is like a folder.
    #[must_use]
    pub fn tree_spec(&self) -> TreeSpec {
        TreeSpec {
            classes: self.files.clone(),
            total: self.total,
            count: self.count,
            folder_depth: self.folder_depth,
            folder_width: self.folder_width.unwrap_or(8),
            seed: self.seed,
        }
    }

    /// Parts of the drive that a scan tells apart.
    #[must_use]
    pub fn bins(&self) -> u32 {
        self.bins.unwrap_or(4096)
    }

    /// Shares of a spans leg, from the start; the one at the end of the drive comes of itself.
    #[must_use]
    pub fn spans(&self) -> Vec<Amount> {
        if self.shares.is_empty() {
            [100.0, 50.0, 25.0, 12.5, 6.25, 3.125].map(Amount::Percent).to_vec()
        } else {
            self.shares.clone()
        }
    }

    /// How often each span is measured.
    #[must_use]
    pub fn rounds(&self) -> u32 {
        self.repeat.unwrap_or(5)
    }

    /// Measurements of a ladder.
    #[must_use]
    pub fn rungs(&self) -> usize {
        let [blocks, depths, crews, patterns] =
            [self.blocks.len(), self.depths.len(), self.crews.len(), self.patterns.len()].map(|n| n.max(1));
        blocks * depths * crews * patterns
    }
}

#[cfg(test)]
#[path = "leg_tests.rs"]
mod tests;
