//! Latency of one interval.

use serde::{Deserialize, Serialize};

/// Latency of the operations of one interval, from an HDR histogram with two significant digits.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct LatencySummary {
    /// Operations that completed.
    pub operations: u32,
    /// Median, in µs.
    pub p50_us: u32,
    /// 99th percentile, in µs.
    pub p99_us: u32,
    /// Longest, in µs.
    pub max_us: u32,
}

impl LatencySummary {
    /// Reads a summary off a histogram of nanoseconds; `None` when it is empty.
    #[must_use]
    pub fn of(histogram: &hdrhistogram::Histogram<u64>) -> Option<Self> {
        if histogram.is_empty() {
            return None;
        }
        let us = |ns: u64| u32::try_from(ns.div_ceil(1000)).unwrap_or(u32::MAX);
        Some(Self {
            operations: u32::try_from(histogram.len()).unwrap_or(u32::MAX),
            p50_us: us(histogram.value_at_quantile(0.5)),
            p99_us: us(histogram.value_at_quantile(0.99)),
            max_us: us(histogram.max()),
        })
    }
}
