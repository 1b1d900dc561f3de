//! How often operations took how long: counts in logarithmic bins, which add up exactly.
//!
//! Below 32 ns a bin is a nanosecond; above, each doubling is cut into 32 equal parts, so a latency is known to within
//! 1.6 % of the middle of its bin. An HDR histogram of two significant digits has bins that are whole parts of these.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// Bins of a doubling.
const PARTS: u64 = 32;
/// Width of a bin over its first value, at most.
pub const WIDEST: f64 = 1.0 / PARTS as f64;
const SHIFT: u32 = PARTS.trailing_zeros();
/// Bins up to 2^42 ns, more than an hour; what takes longer counts as that.
const BINS: u16 = bin_of((1 << 42) - 1) + 1;

const fn bin_of(ns: u64) -> u16 {
    if ns < PARTS {
        return ns as u16;
    }
    let doubling = ns.ilog2() - SHIFT;
    (doubling as u64 * PARTS + (ns >> doubling)) as u16
}

/// First value of a bin, ns.
const fn low_of(bin: u16) -> u64 {
    let (bin, doubling) = (bin as u64, (bin as u64 / PARTS).saturating_sub(1));
    (bin - doubling * PARTS) << doubling
}

/// Counts of latencies.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "Vec<(u16, u64)>", into = "Vec<(u16, u64)>")]
pub struct Histogram {
    /// Bin and count, ascending, none of them zero.
    counts: Vec<(u16, u64)>,
}

impl From<Histogram> for Vec<(u16, u64)> {
    fn from(h: Histogram) -> Self {
        h.counts
    }
}

impl TryFrom<Vec<(u16, u64)>> for Histogram {
    type Error = &'static str;

    fn try_from(counts: Vec<(u16, u64)>) -> Result<Self, Self::Error> {
        let sound = counts.iter().all(|c| c.0 < BINS && c.1 > 0) && counts.is_sorted_by(|a, b| a.0 < b.0);
        if sound { Ok(Self { counts }) } else { Err("bins of latencies that do not ascend, or hold nothing") }
    }
}

/// Shares that are told, with their names.
pub const TOLD: [(&str, f64); 5] =
    [("p50", 0.5), ("p99", 0.99), ("p99.9", 0.999), ("p99.99", 0.9999), ("p99.999", 0.99999)];

/// Quantiles that pictures draw.
pub const DRAWN: [(&str, f64); 3] = [TOLD[0], TOLD[1], TOLD[2]];

/// How dark a place of a picture is, 0 where there is nothing to 4: by the share of operations that took so long, tenfold from one
/// to the next, so that the slowest thousandth is seen beside the rest.
#[must_use]
pub fn shade(share: f64) -> usize {
    match share {
        s if s <= 0.0 => 0,
        s if s < 0.001 => 1,
        s if s < 0.01 => 2,
        s if s < 0.1 => 3,
        _ => 4,
    }
}

/// From the shortest to the longest latency of all of them, ns; `None` where nothing was counted.
#[must_use]
pub fn extent<'a>(all: impl IntoIterator<Item = &'a Histogram>) -> Option<(u64, u64)> {
    let ends = all.into_iter().filter_map(|h| Some((h.counts.first()?.0, h.counts.last()?.0)));
    let (low, high) = ends.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1)))?;
    Some((low_of(low), low_of(high + 1)))
}

/// A latency as a bin knows it: in steps of 1 to 2.5 % of it.
#[must_use]
pub fn as_known(ns: f64) -> Duration {
    if ns < 1.0 {
        return Duration::ZERO;
    }
    let ten = 10f64.powf(ns.log10().floor());
    let step = match ns / ten {
        first if first < 2.0 => ten / 50.0,
        first if first < 5.0 => ten / 20.0,
        _ => ten / 10.0,
    };
    Duration::from_nanos(((ns / step).round() * step).round() as u64)
}

/// A bin with its count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Bin {
    /// Shortest latency in it, ns.
    pub from_ns: u64,
    /// One past the longest, ns.
    pub to_ns: u64,
    /// Operations.
    pub count: u64,
}

impl Bin {
    /// Its middle, ns.
    #[must_use]
    pub fn middle_ns(&self) -> f64 {
        (self.from_ns + self.to_ns - 1) as f64 / 2.0
    }
}

impl Histogram {
    /// Counts `count` operations that took `ns`.
    pub fn record(&mut self, ns: u64, count: u64) {
        if count > 0 {
            self.put(bin_of(ns).min(BINS - 1), count);
        }
    }

    fn put(&mut self, bin: u16, count: u64) {
        match self.counts.binary_search_by_key(&bin, |c| c.0) {
            Ok(i) => self.counts[i].1 = self.counts[i].1.saturating_add(count),
            Err(i) => self.counts.insert(i, (bin, count)),
        }
    }

    /// Of (value in ns, count), in any order.
    #[must_use]
    pub fn of(points: impl IntoIterator<Item = (u64, u64)>) -> Self {
        let mut all = Self::default();
        for (ns, count) in points {
            let bin = bin_of(ns).min(BINS - 1);
            match all.counts.last_mut() {
                // As a rule they ascend.
                Some(last) if last.0 == bin => last.1 = last.1.saturating_add(count),
                Some(last) if last.0 > bin => all.record(ns, count),
                _ if count > 0 => all.counts.push((bin, count)),
                _ => {}
            }
        }
        all
    }

    /// Adds what another counted: the same as if all had been counted in one.
    pub fn add(&mut self, other: &Self) {
        if self.counts.is_empty() {
            self.counts.clone_from(&other.counts);
            return;
        }
        let mine = std::mem::take(&mut self.counts);
        self.counts.reserve(mine.len() + other.counts.len());
        let (mut a, mut b) = (mine.into_iter().peekable(), other.counts.iter().copied().peekable());
        loop {
            let next = match (a.peek(), b.peek()) {
                (Some(x), Some(y)) if x.0 == y.0 => {
                    let sum = (x.0, x.1.saturating_add(y.1));
                    a.next();
                    b.next();
                    sum
                }
                (Some(x), Some(y)) if x.0 > y.0 => {
                    let y = *y;
                    b.next();
                    y
                }
                (Some(x), _) => {
                    let x = *x;
                    a.next();
                    x
                }
                (None, Some(y)) => {
                    let y = *y;
                    b.next();
                    y
                }
                (None, None) => return,
            };
            self.counts.push(next);
        }
    }

    /// Operations in all.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.counts.iter().fold(0, |sum: u64, c| sum.saturating_add(c.1))
    }

    /// Nothing was counted.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.counts.is_empty()
    }

    /// The bins that hold something, shortest first.
    pub fn bins(&self) -> impl Iterator<Item = Bin> + '_ {
        self.counts.iter().map(|(bin, count)| Bin {
            from_ns: low_of(*bin),
            to_ns: low_of(*bin + 1),
            count: *count,
        })
    }

    /// The latency that a share of all operations did not exceed, ns: the middle of the bin in which the ⌈q·n⌉th smallest
    /// lies (Hyndman and Fan 1996, type 1); `None` of nothing.
    #[must_use]
    pub fn quantile_ns(&self, q: f64) -> Option<f64> {
        self.quantile_bin(q).map(|b| b.middle_ns())
    }

    /// The bin in which that one lies: within it the quantile is not known.
    #[must_use]
    pub fn quantile_bin(&self, q: f64) -> Option<Bin> {
        let total = self.total();
        let wanted = ((total as f64 * q.clamp(0.0, 1.0)).ceil() as u64).clamp(1, total.max(1));
        let mut below = 0u64;
        for bin in self.bins() {
            below = below.saturating_add(bin.count);
            if below >= wanted {
                return Some(bin);
            }
        }
        None
    }

    /// The longest, ns, as its bin knows it.
    #[must_use]
    pub fn longest_ns(&self) -> Option<f64> {
        self.quantile_ns(1.0)
    }

    /// The bin of [`Histogram::quantile_ns`] where there are operations enough to tell of the others: of the slowest thousandth
    /// only where there are a thousand.
    #[must_use]
    pub fn told_bin(&self, q: f64) -> Option<Bin> {
        self.quantile_bin(q).filter(|_| self.total() as f64 * (1.0 - q) >= 0.999)
    }

    /// The shares of [`TOLD`] that so many operations can tell of, with what they took. The longest is last.
    #[must_use]
    pub fn told(&self) -> Vec<(&'static str, Duration)> {
        let known =
            TOLD.iter().filter_map(|(name, q)| Some((*name, as_known(self.told_bin(*q)?.middle_ns()))));
        known.chain(self.longest_ns().map(|ns| ("longest", as_known(ns)))).collect()
    }

    /// As few bytes: for each bin its distance from the one before, and its count, seven bits a byte.
    pub fn write(&self, out: &mut Vec<u8>) {
        let mut put = |mut v: u64| {
            while v >= 0x80 {
                out.push((v as u8) | 0x80);
                v >>= 7;
            }
            out.push(v as u8);
        };
        put(self.counts.len() as u64);
        let mut last = 0;
        for (bin, count) in &self.counts {
            // Small counts with small distances, which most are, share a byte.
            let step = u64::from(bin - last);
            if step < 8 && *count < 8 {
                put(step << 4 | count << 1 | 1);
            } else {
                put(step << 1);
                put(*count);
            }
            last = *bin;
        }
    }

    /// Reads [`Histogram::write`] back from the front of `bytes`, which then begin after it; `None` where they are none.
    #[must_use]
    pub fn read(bytes: &mut &[u8]) -> Option<Self> {
        let mut counts = Vec::new();
        each(bytes, |bin, count| counts.push((bin, count)))?;
        Some(Self { counts })
    }
}

/// Reads the bins of [`Histogram::write`] one by one; `None` where they are none.
fn each(bytes: &mut &[u8], mut take: impl FnMut(u16, u64)) -> Option<()> {
    let mut get = || {
        let mut v = 0u64;
        for shift in (0..63).step_by(7) {
            let (first, rest) = bytes.split_first()?;
            *bytes = rest;
            v |= u64::from(first & 0x7f) << shift;
            if first & 0x80 == 0 {
                return Some(v);
            }
        }
        None
    };
    let len = usize::try_from(get()?).ok().filter(|n| *n <= usize::from(BINS))?;
    let mut bin = 0u64;
    for i in 0..len {
        let head = get()?;
        let (step, count) = if head & 1 == 1 { (head >> 4, head >> 1 & 7) } else { (head >> 1, get()?) };
        bin = bin.checked_add(step).filter(|b| *b < u64::from(BINS))?;
        if count == 0 || (i > 0 && step == 0) {
            return None;
        }
        take(bin as u16, count);
    }
    Some(())
}

/// Adds up many histograms: a counter for every bin.
#[derive(Debug, Clone)]
pub struct Sum(Vec<u64>);

impl Default for Sum {
    fn default() -> Self {
        Self(vec![0; usize::from(BINS)])
    }
}

impl Sum {
    /// Adds one.
    pub fn add(&mut self, h: &Histogram) {
        for (bin, count) in &h.counts {
            let sum = &mut self.0[usize::from(*bin)];
            *sum = sum.saturating_add(*count);
        }
    }

    /// Adds one from its bytes, which must be sound.
    pub fn add_written(&mut self, mut bytes: &[u8]) {
        let sums = &mut self.0;
        let _ = each(&mut bytes, |bin, count| {
            let sum = &mut sums[usize::from(bin)];
            *sum = sum.saturating_add(count);
        });
    }

    /// All of them together.
    #[must_use]
    pub fn histogram(&self) -> Histogram {
        let held = self.0.iter().enumerate().filter(|(_, count)| **count > 0);
        Histogram { counts: held.map(|(bin, count)| (bin as u16, *count)).collect() }
    }

    /// All of them together; it begins again from nothing.
    pub fn take(&mut self) -> Histogram {
        let all = self.histogram();
        all.counts.iter().for_each(|(bin, _)| self.0[usize::from(*bin)] = 0);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn bins_lie_without_gaps_and_are_three_in_a_hundred_wide_at_most() {
        for bin in 0..BINS {
            let (low, past) = (low_of(bin), low_of(bin + 1));
            assert_eq!((bin_of(low), bin_of(past - 1)), (bin, bin), "bin {bin}");
            assert!(
                past - low == 1 || (past - low) as f64 <= low as f64 / 31.9,
                "bin {bin}: {low} to {past}"
            );
        }
    }

    #[test]
    fn quantiles_are_those_that_one_counts_by_hand() {
        // 90 take 10 µs, nine take 100 µs, one takes a second.
        let h = Histogram::of([(10_000, 90), (100_000, 9), (1_000_000_000, 1)]);
        let us = |q| (h.quantile_ns(q).unwrap() / 1e3).round();
        assert_eq!((us(0.5), us(0.9), us(0.99)), (10.0, 10.0, 99.0));
        assert!((h.quantile_ns(0.999).unwrap() / 1e9 - 1.0).abs() < 0.016);
        assert_eq!(h.total(), 100);
        assert_eq!(Histogram::default().quantile_ns(0.5), None);
        // A hundred can tell of one in a hundred, and of no rarer ones.
        let told = h.told();
        let names: Vec<&str> = told.iter().map(|t| t.0).collect();
        assert_eq!(names, ["p50", "p99", "longest"]);
        assert_eq!((told[0].1, told[1].1), (Duration::from_nanos(10_200), Duration::from_micros(99)));
        assert_eq!(as_known(123_456.0), Duration::from_micros(124));
        assert_eq!(as_known(987_654.0), Duration::from_micros(990));
    }

    fn any_points() -> impl Strategy<Value = Vec<(u64, u64)>> {
        proptest::collection::vec((0u64..1 << 44, 0u64..1 << 20), 0..60)
    }

    proptest! {
        #[test]
        fn parts_add_up_to_the_whole(a in any_points(), b in any_points()) {
            let mut sum = Histogram::of(a.clone());
            sum.add(&Histogram::of(b.clone()));
            let whole = Histogram::of(a.into_iter().chain(b));
            prop_assert_eq!(&sum, &whole);
            prop_assert!(sum.counts.is_sorted_by(|x, y| x.0 < y.0) && sum.counts.iter().all(|c| c.1 > 0));
        }

        #[test]
        fn bytes_are_read_back(points in any_points()) {
            let h = Histogram::of(points);
            let mut bytes = Vec::new();
            h.write(&mut bytes);
            bytes.push(77);
            let mut rest = &bytes[..];
            prop_assert_eq!(Histogram::read(&mut rest), Some(h));
            prop_assert_eq!(rest, &[77u8][..]);
        }

        #[test]
        fn garbage_is_none_and_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..80)) {
            let _ = Histogram::read(&mut &bytes[..]);
        }
    }
}
