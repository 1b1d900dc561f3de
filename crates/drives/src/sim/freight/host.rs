//! The machine and the file system between files and simulated drives: what a file costs, how fast data is made and copied in memory,
//! and how much of it memory holds.

use std::time::Duration;

use hollow_mile_core::quantity::plain;
use hollow_mile_core::quantity::units::{Bytes, Rate};
use serde::{Deserialize, Serialize};

/// Costs are those of one thread; each file differs from the next as [`Host::sigma`] says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Host {
    /// To make and close a file.
    #[serde(with = "plain")]
    pub create: Duration,
    /// To open and close one.
    #[serde(with = "plain")]
    pub open: Duration,
    /// To remove one.
    #[serde(with = "plain")]
    pub remove: Duration,
    /// To make or remove a folder.
    #[serde(with = "plain")]
    pub folder: Duration,
    /// Standard deviation of the logarithm of these.
    pub sigma: f64,
    /// Data is made and copied in memory as fast as this, by one thread.
    #[serde(with = "plain")]
    pub copy: Rate,
    /// Standard deviation of the logarithm of what a block takes to be copied: other programs use the memory too.
    pub copy_sigma: f64,
    /// So much data waits in memory to be written, at most.
    #[serde(with = "plain")]
    pub memory: Bytes,
    /// The journal is committed after so many files were made or removed; never without it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub commit_every: Option<u64>,
    /// All who make or remove files wait so long for it.
    #[serde(with = "plain")]
    pub commit: Duration,
    /// What it takes to make a file durable, beside its data.
    #[serde(with = "plain")]
    pub flush: Duration,
    /// An access past the page cache, beside the data.
    #[serde(with = "plain")]
    pub access: Duration,
}

impl Default for Host {
    fn default() -> Self {
        Self {
            create: Duration::from_micros(90),
            open: Duration::from_micros(35),
            remove: Duration::from_micros(55),
            folder: Duration::from_micros(120),
            sigma: 0.25,
            copy: Rate::from_mb_s(3500.0),
            copy_sigma: 0.0,
            memory: Bytes::from_gb(4),
            commit_every: Some(20_000),
            commit: Duration::from_millis(30),
            flush: Duration::from_millis(2),
            access: Duration::from_micros(80),
        }
    }
}
