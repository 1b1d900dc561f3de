//! Latency histograms of the drives: HDR with two significant digits, from 1 ns to an hour.

use hdrhistogram::Histogram;
pub use hollow_mile_core::quantity::histogram::Histogram as Bins;

/// Counts of latencies in ns. Two significant digits: a value is kept to within 1 %.
///
/// One histogram takes about 35 × 128 counters of 8 bytes.
#[must_use]
pub fn histogram() -> Histogram<u64> {
    // The bounds are constants that the crate accepts; the plain constructor is its fall-back.
    let mut h = Histogram::new_with_bounds(1, 3_600_000_000_000, 2)
        .or_else(|_| Histogram::new(2))
        .unwrap_or_else(|_| unreachable!("two significant digits are allowed"));
    h.auto(true);
    h
}

/// The counts of a histogram as (value in ns, count), ascending.
#[must_use]
pub fn points(h: &Histogram<u64>) -> Vec<(u64, u64)> {
    h.iter_recorded().map(|v| (v.value_iterated_to(), v.count_since_last_iteration())).collect()
}

/// The same in the bins of a record.
#[must_use]
pub fn bins(h: &Histogram<u64>) -> Bins {
    Bins::of(h.iter_recorded().map(|v| (v.value_iterated_to(), v.count_since_last_iteration())))
}
