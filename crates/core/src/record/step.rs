//! Steps: what a leg that goes through several loads does one after the other. Part of the record, so that a review sees
//! the same passes, spans and rungs.

use serde::{Deserialize, Serialize};

use crate::drive::{LoadKind, Pattern};
use crate::quantity::units::{Bytes, Rate};

/// What a step is for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(tag = "task", rename_all = "kebab-case")]
pub enum Task {
    /// A pass of a scan over its region.
    Pass {
        /// From 0.
        pass: u16,
        /// Parts of the drive that are told apart.
        bins: u32,
    },
    /// A scan visits a slow stretch again, together with what lies beside it.
    Again {
        /// First byte of the stretch, as the passes saw it.
        from: Bytes,
        /// One past its last.
        to: Bytes,
    },
    /// Random single reads over a part of the drive.
    Span {
        /// Which of the leg's spans, from 0.
        span: u16,
        /// Which repeat, from 0.
        round: u16,
    },
    /// The load of the step that follows, not yet measured.
    Settle,
    /// One measurement of a ladder.
    Rung {
        /// From 0.
        rung: u16,
    },
    /// A stream at one rate.
    Stream {
        /// Which try, from 0.
        trial: u16,
        /// What the recorder can hold.
        buffer: Bytes,
    },
    /// Stamped blocks are read back.
    Check {
        /// Bytes that were written and should be there.
        written: Bytes,
    },
}

/// A load within a leg.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Step {
    /// What it is for.
    #[serde(flatten)]
    pub task: Task,
    /// Which way the bytes go.
    pub load: LoadKind,
    /// First byte of the region.
    pub start: Bytes,
    /// One past the last.
    pub end: Bytes,
    /// Size of one operation.
    pub block: Bytes,
    /// Operations in flight.
    pub depth: u32,
    /// Threads that issue them.
    pub workers: u32,
    /// In which order addresses come.
    pub pattern: Pattern,
    /// No faster than this.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
}
