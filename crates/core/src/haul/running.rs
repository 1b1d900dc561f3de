//! The leg that runs.

use std::collections::BTreeMap;
use std::time::Duration;

use super::course::{Course, Planned};
use super::inquiring::Inquiring;
use super::latencies::Second;
use crate::quantity::units::Bytes;

/// How far the leg under way is, since it began.
#[derive(Debug, Default)]
pub(super) struct Running {
    /// When it began, since the haul began.
    pub began: Duration,
    /// Bytes moved in it.
    pub moved: Bytes,
    /// Of these, what a flush in the leg has made durable.
    pub flushed: Bytes,
    /// Operations that failed in it.
    pub errors: u64,
    /// Latency of it, or of the step under way, up to its last pause: operations by value in ns.
    pub latency: BTreeMap<u64, u64>,
    /// Latencies of the second under way.
    pub second: Second,
    /// Of a leg that goes through several loads.
    pub course: Option<Course>,
    /// The step under way.
    pub planned: Option<Planned>,
    /// When that began.
    pub step_began: Duration,
    /// Experiments under way in place of the leg's load.
    pub inquiry: Option<Inquiring>,
    /// Address just past the last operation, where addresses have an order.
    pub position: Option<Bytes>,
    /// Set once the drive has ended the load by itself (its limit was reached).
    pub load_finished: bool,
}
