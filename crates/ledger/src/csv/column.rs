//! The columns of telemetry as CSV.

use std::ops::{Index, IndexMut};

/// A column: those of the design, in their order, and four of our own, for the drive's thermal counter, this machine's load and the
/// longest latency.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Column {
    Elapsed,
    Written,
    Read,
    Position,
    Temperature,
    LatencyP99,
    Other,
    Errors,
    Fill,
    Leg,
    LegKind,
    ThermalTransitions,
    HostBusy,
    LatencyMax,
}

impl Column {
    /// Each, in the order in which they are written.
    pub const ALL: [Self; 14] = [
        Self::Elapsed,
        Self::Written,
        Self::Read,
        Self::Position,
        Self::Temperature,
        Self::LatencyP99,
        Self::Other,
        Self::Errors,
        Self::Fill,
        Self::Leg,
        Self::LegKind,
        Self::ThermalTransitions,
        Self::HostBusy,
        Self::LatencyMax,
    ];

    /// Those that count from the start.
    pub const COUNTERS: [Self; 4] = [Self::Written, Self::Read, Self::Other, Self::Errors];

    /// As in the header.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Elapsed => "elapsed_s",
            Self::Written => "written_bytes",
            Self::Read => "read_bytes",
            Self::Position => "position_bytes",
            Self::Temperature => "temperature_c",
            Self::LatencyP99 => "latency_p99_us",
            Self::Other => "other_bytes",
            Self::Errors => "errors",
            Self::Fill => "fill_percent",
            Self::Leg => "leg",
            Self::LegKind => "leg_kind",
            Self::ThermalTransitions => "thermal_transitions",
            Self::HostBusy => "host_busy_percent",
            Self::LatencyMax => "latency_max_us",
        }
    }
}

/// Something for each column.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub(crate) struct PerColumn<T>([T; Column::ALL.len()]);

impl<T> PerColumn<T> {
    /// Made column by column.
    pub fn of(f: impl FnMut(Column) -> T) -> Self {
        Self(Column::ALL.map(f))
    }
}

impl<T> Index<Column> for PerColumn<T> {
    type Output = T;
    fn index(&self, column: Column) -> &T {
        &self.0[column as usize]
    }
}

impl<T> IndexMut<Column> for PerColumn<T> {
    fn index_mut(&mut self, column: Column) -> &mut T {
        &mut self.0[column as usize]
    }
}
