//! The samples of a haul, column by column, and what a view needs of them at any width.
//!
//! A pyramid with factor 16 keeps extremes, so that a view over millions of samples costs a few hundred look-ups and
//! loses no stall and no peak.

use std::ops::Range;
use std::time::Duration;

use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::Sample;

use super::sixteens::{FACTOR, largest_node};

const NO_POSITION: u64 = u64::MAX;
const NO_TEMPERATURE: i32 = i32::MIN;
const NO_LATENCY: u32 = u32::MAX;
const NO_BUSY: u8 = u8::MAX;

/// A sample that takes so little of the time of the one before it has no rate of its own.
const SCRAP: u64 = 10;

/// What the samples of a haul lie along.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ruler {
    /// Time since the haul began.
    Elapsed,
    /// Bytes written and read since the haul began.
    Moved,
    /// Address on the drive.
    Position,
}

impl Ruler {
    /// The next one round.
    #[must_use]
    pub const fn turned(self) -> Self {
        match self {
            Self::Elapsed => Self::Moved,
            Self::Moved => Self::Position,
            Self::Position => Self::Elapsed,
        }
    }
}

/// Extremes over a stretch of samples.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Extremes {
    slowest: f32,
    fastest: f32,
    p99_us: u32,
    coldest: i32,
    hottest: i32,
}

impl Extremes {
    const NONE: Self = Self {
        slowest: f32::INFINITY,
        fastest: f32::NEG_INFINITY,
        p99_us: 0,
        coldest: i32::MAX,
        hottest: NO_TEMPERATURE,
    };
    fn with(self, o: Self) -> Self {
        Self {
            slowest: self.slowest.min(o.slowest),
            fastest: self.fastest.max(o.fastest),
            p99_us: self.p99_us.max(o.p99_us),
            coldest: self.coldest.min(o.coldest),
            hottest: self.hottest.max(o.hottest),
        }
    }
}

/// What one column of a view shows. `None` where there is nothing there.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Column {
    /// Mean rate under load.
    pub rate: Option<Rate>,
    /// Slowest interval under load.
    pub slowest: Option<Rate>,
    /// Fastest interval under load.
    pub fastest: Option<Rate>,
    /// Highest p99 latency.
    pub p99: Option<Duration>,
    /// Lowest temperature.
    pub coldest: Option<Celsius>,
    /// Highest temperature.
    pub hottest: Option<Celsius>,
}

/// The samples of a haul.
#[derive(Debug, Clone, Default)]
pub struct Series {
    end_ns: Vec<u64>,
    /// Time under load up to the end of each sample.
    loaded_ns: Vec<u64>,
    written: Vec<u64>,
    moved: Vec<u64>,
    position: Vec<u64>,
    temperature: Vec<i32>,
    p99_us: Vec<u32>,
    /// Share of the time that the submitting threads were busy, in 1/200.
    host_busy: Vec<u8>,
    other: Vec<u64>,
    /// Samples in which operations failed, with how many in all up to and with each; few, as a rule.
    errors: Vec<(usize, u64)>,
    any_other: bool,
    /// Leg and time under load of the last sample that is no scrap, with its index.
    whole: Option<(u16, u64, usize)>,
    /// What came in after a load was taken off, in a tenth of the time of the sample before it or less, each with the first of those that its rate is taken over; few, as a rule.
    scraps: Vec<(usize, usize)>,
    /// Lowest and highest temperature.
    temperatures: Option<(i32, i32)>,
    pyramid: Vec<Vec<Extremes>>,
}

impl Series {
    /// Adds a sample. `loaded` says that a load was on, so that a stall counts and a rest does not.
    pub fn push(&mut self, sample: &Sample, loaded: bool) {
        let last = self.end_ns.len().checked_sub(1);
        let before = |column: &[u64]| last.map_or(0, |i| column[i]);
        let span = sample.span.as_nanos() as u64;
        let moved = (sample.written + sample.read).get();
        self.note_scrap(sample, if loaded { span } else { 0 });
        self.loaded_ns.push(before(&self.loaded_ns).saturating_add(if loaded { span } else { 0 }));
        self.written.push(before(&self.written).saturating_add(sample.written.get()));
        self.moved.push(before(&self.moved).saturating_add(moved));
        self.other.push(before(&self.other).saturating_add(sample.other.map_or(0, Bytes::get)));
        self.any_other |= sample.other.is_some();
        if sample.errors > 0 {
            let before = self.errors.last().map_or(0, |(_, n)| *n);
            self.errors.push((self.end_ns.len(), before + u64::from(sample.errors)));
        }
        if let Some(t) = sample.temperature.map(Celsius::millis) {
            self.temperatures = Some(self.temperatures.map_or((t, t), |(l, h)| (l.min(t), h.max(t))));
        }
        self.end_ns.push(sample.end.as_nanos() as u64);
        self.position.push(sample.position.map_or(NO_POSITION, Bytes::get));
        self.temperature.push(sample.temperature.map_or(NO_TEMPERATURE, Celsius::millis));
        self.p99_us.push(sample.latency.map_or(NO_LATENCY, |l| l.p99_us));
        self.host_busy.push(sample.host_busy_ppm.map_or(NO_BUSY, |p| (p / 5_000).min(200) as u8));
        self.grow_pyramid();
    }

    /// What was in flight at the end of a leg completes in no time, and began before: bytes over that time are no rate. (Nothing else is read
    /// there; a sample of a compacted record, short among long ones, is one that was measured.)
    fn note_scrap(&mut self, sample: &Sample, loaded: u64) {
        let (i, leg) = (self.end_ns.len(), sample.leg);
        let bare = sample.position.is_none() && sample.latency.is_none() && sample.temperature.is_none();
        match self.whole {
            Some((of, whole, first)) if bare && of == leg && loaded > 0 && loaded <= whole / SCRAP => {
                self.scraps.push((i, first));
            }
            _ => self.whole = Some((leg, loaded, i)),
        }
    }

    /// Operations that failed in these samples.
    #[must_use]
    pub fn errors_in(&self, samples: Range<usize>) -> u64 {
        let before = |sample: usize| {
            let n = self.errors.partition_point(|(i, _)| *i < sample);
            n.checked_sub(1).map_or(0, |n| self.errors[n].1)
        };
        before(samples.end.max(samples.start)) - before(samples.start)
    }

    /// Of these samples, those in which operations failed.
    #[must_use]
    pub fn samples_with_errors(&self, samples: Range<usize>) -> usize {
        let index = |sample: usize| self.errors.partition_point(|(i, _)| *i < sample);
        index(samples.end.max(samples.start)) - index(samples.start)
    }

    fn leaf(&self, i: usize) -> Extremes {
        let t = self.temperature[i];
        let p99_us = if self.p99_us[i] == NO_LATENCY { 0 } else { self.p99_us[i] };
        let mut e = Extremes { p99_us, ..Extremes::NONE };
        if t != NO_TEMPERATURE {
            e.coldest = t;
            e.hottest = t;
        }
        if self.loaded_in(i..i + 1) > 0 {
            let rate = self.rate(i) as f32;
            e.slowest = rate;
            e.fastest = rate;
        }
        e
    }

    fn grow_pyramid(&mut self) {
        let mut filled = self.end_ns.len();
        let mut level = 0;
        while filled.is_multiple_of(FACTOR) {
            let from = filled - FACTOR;
            let node = (from..filled).fold(Extremes::NONE, |e, i| {
                e.with(if level == 0 { self.leaf(i) } else { self.pyramid[level - 1][i] })
            });
            if self.pyramid.len() == level {
                self.pyramid.push(Vec::new());
            }
            self.pyramid[level].push(node);
            filled /= FACTOR;
            level += 1;
        }
    }

    fn extremes(&self, range: Range<usize>) -> Extremes {
        let mut total = Extremes::NONE;
        let mut i = range.start;
        while i < range.end {
            let (level, step) = largest_node(&(i..range.end), |l| self.pyramid.get(l).map_or(0, Vec::len));
            total = total.with(if level == 0 { self.leaf(i) } else { self.pyramid[level - 1][i / step] });
            i += step;
        }
        total
    }

    /// Number of samples.
    #[must_use]
    pub fn len(&self) -> usize {
        self.end_ns.len()
    }

    /// True before the first sample.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.end_ns.is_empty()
    }

    /// Bytes written up to the end of sample `i`.
    #[must_use]
    pub fn written(&self, i: usize) -> u64 {
        self.written[i]
    }

    /// Bytes written up to a moment, by the samples that had ended then.
    #[must_use]
    pub fn written_at(&self, at: Duration) -> u64 {
        let past = self.between(Ruler::Elapsed, 0.0, at.as_secs_f64()).end;
        past.checked_sub(1).map_or(0, |last| self.written(last))
    }

    /// Bytes written before sample `i`.
    #[must_use]
    pub fn written_before(&self, i: usize) -> u64 {
        if i == 0 { 0 } else { self.written[i - 1] }
    }

    /// Bytes moved up to the end of sample `i`.
    #[must_use]
    pub fn moved(&self, i: usize) -> u64 {
        self.moved[i]
    }

    /// Bytes moved before sample `i`.
    #[must_use]
    pub fn moved_before(&self, i: usize) -> u64 {
        if i == 0 { 0 } else { self.moved[i - 1] }
    }

    /// Bytes that others moved before sample `i`; `None` when nobody counted.
    #[must_use]
    pub fn other_before(&self, i: usize) -> Option<u64> {
        self.any_other.then(|| if i == 0 { 0 } else { self.other[i - 1] })
    }

    /// End of sample `i`, in seconds since the haul began.
    #[must_use]
    pub fn end_s(&self, i: usize) -> f64 {
        self.end_ns[i] as f64 / 1e9
    }

    /// End of sample `i`.
    #[must_use]
    pub fn end(&self, i: usize) -> Duration {
        Duration::from_nanos(self.end_ns[i])
    }

    /// Address at the end of sample `i`.
    #[must_use]
    pub fn position(&self, i: usize) -> Option<Bytes> {
        Some(self.position[i]).filter(|p| *p != NO_POSITION).map(Bytes::new)
    }

    /// Temperature in sample `i`, degrees.
    #[must_use]
    pub fn degrees(&self, i: usize) -> Option<f64> {
        Some(self.temperature[i]).filter(|t| *t != NO_TEMPERATURE).map(|t| f64::from(t) / 1000.0)
    }

    /// Lowest and highest temperature; `None` when there is none.
    #[must_use]
    pub fn temperature_range(&self) -> Option<(Celsius, Celsius)> {
        self.temperatures.map(|(l, h)| (Celsius::from_millis(l), Celsius::from_millis(h)))
    }

    /// Loaded samples of a range that are slower than a rate, in bytes per second. Looks only where the pyramid has such: a few
    /// look-ups for a record in which there are none.
    #[must_use]
    pub fn slower(&self, range: Range<usize>, rate: f64) -> Vec<usize> {
        let mut found = Vec::new();
        let mut i = range.start;
        while i < range.end {
            let (mut level, mut step) =
                largest_node(&(i..range.end), |l| self.pyramid.get(l).map_or(0, Vec::len));
            // Down again to where nothing slow is left out.
            while level > 0 && f64::from(self.pyramid[level - 1][i / step].slowest) < rate {
                step /= FACTOR;
                level -= 1;
            }
            if level == 0 && self.loaded_in(i..i + 1) > 0 && self.rate(i) < rate {
                found.push(i);
            }
            i += step;
        }
        found
    }

    /// The steps in which temperatures were read, K: what all readings of a few thousand differ by, or a multiple of it; 0.1 at least, and
    /// of fewer than three different readings no more than 1.
    #[must_use]
    pub fn temperature_step(&self) -> f64 {
        let every = (self.temperature.len() / 4096).max(1);
        let read: Vec<i64> = self
            .temperature
            .iter()
            .step_by(every)
            .filter(|t| **t != NO_TEMPERATURE)
            .map(|t| i64::from(*t))
            .collect();
        let Some(first) = read.first() else { return 1.0 };
        let step = read.iter().fold(0, |step, t| greatest_common_divisor(step, (t - first).abs()));
        let different: std::collections::BTreeSet<i64> = read.iter().copied().take(4096).collect();
        let most = if different.len() < 3 { 1000 } else { 10_000 };
        if step == 0 { 1.0 } else { (step.min(most) as f64 / 1000.0).max(0.1) }
    }

    /// p99 of the latency in sample `i`, µs.
    #[must_use]
    pub fn p99_us(&self, i: usize) -> Option<f64> {
        Some(self.p99_us[i]).filter(|l| *l != NO_LATENCY).map(f64::from)
    }

    /// Share of the time that the submitting threads were busy in sample `i`, 0 to 1, to 0.5 %.
    #[must_use]
    pub fn host_busy(&self, i: usize) -> Option<f64> {
        Some(self.host_busy[i]).filter(|b| *b != NO_BUSY).map(|b| f64::from(b) / 200.0)
    }

    fn loaded_in(&self, range: Range<usize>) -> u64 {
        if range.is_empty() {
            return 0;
        }
        self.loaded_ns[range.end - 1] - if range.start == 0 { 0 } else { self.loaded_ns[range.start - 1] }
    }

    /// Time under load within a range of samples, seconds.
    #[must_use]
    pub fn loaded_s(&self, range: Range<usize>) -> f64 {
        self.loaded_in(range) as f64 / 1e9
    }

    /// Rate of sample `i` under load, bytes per second; 0 at rest. What came in within a moment after the load was taken off
    /// has the rate of both together.
    #[must_use]
    pub fn rate(&self, i: usize) -> f64 {
        let scrap = self.scraps.binary_search_by_key(&i, |(i, _)| *i);
        self.mean_rate(scrap.map_or(i, |s| self.scraps[s].1)..i + 1)
    }

    /// Mean rate under load over a range of samples, bytes per second.
    #[must_use]
    pub fn mean_rate(&self, range: Range<usize>) -> f64 {
        let loaded = self.loaded_in(range.clone());
        if loaded == 0 {
            return 0.0;
        }
        (self.moved[range.end - 1] - self.moved_before(range.start)) as f64 * 1e9 / loaded as f64
    }

    /// First sample that ends at or after this time.
    #[must_use]
    pub fn index_at(&self, elapsed: Duration) -> usize {
        let ns = elapsed.as_nanos() as u64;
        self.end_ns.partition_point(|e| *e < ns)
    }

    /// The length of a ruler so far: seconds, or bytes. The position ruler has the drive's capacity instead.
    #[must_use]
    pub fn extent(&self, ruler: Ruler) -> f64 {
        match (ruler, self.len().checked_sub(1)) {
            (_, None) | (Ruler::Position, _) => 0.0,
            (Ruler::Elapsed, Some(last)) => self.end_s(last),
            (Ruler::Moved, Some(last)) => self.moved[last] as f64,
        }
    }

    /// How many samples end at or before a place on a ruler that grows with the record.
    fn ended_by(&self, ruler: Ruler, x: f64) -> usize {
        match ruler {
            Ruler::Elapsed => self.end_ns.partition_point(|e| *e as f64 / 1e9 <= x),
            Ruler::Moved | Ruler::Position => self.moved.partition_point(|m| *m as f64 <= x),
        }
    }

    /// Samples that end after one place and not after the other, on the elapsed or the moved ruler.
    #[must_use]
    pub fn between(&self, ruler: Ruler, from: f64, to: f64) -> Range<usize> {
        let start = self.ended_by(ruler, from);
        start..self.ended_by(ruler, to).max(start)
    }

    /// What lies between `from` and `to` on the elapsed or the moved ruler, in `columns` equal parts. A sample belongs
    /// to the column that it ends in.
    #[must_use]
    pub fn columns(&self, ruler: Ruler, from: f64, to: f64, columns: usize) -> Vec<Column> {
        if self.is_empty() || columns == 0 || to <= from {
            return vec![Column::default(); columns];
        }
        let width = (to - from) / columns as f64;
        let end = self.extent(ruler);
        // Each edge is computed once, so that no sample falls between two columns.
        let edge = |c: usize| if c == columns { to } else { from + width * c as f64 };
        let edges: Vec<usize> = (0..=columns).map(|c| self.ended_by(ruler, edge(c))).collect();
        (0..columns)
            .map(|c| {
                if edge(c) >= end || edge(c + 1) <= 0.0 {
                    return Column::default();
                }
                // A column narrower than a sample shows the sample that it lies in.
                let past = edges[c + 1].max((edges[c] + 1).min(self.len()));
                self.column(edges[c]..past)
            })
            .collect()
    }

    /// What a range of samples shows.
    #[must_use]
    pub fn column(&self, range: Range<usize>) -> Column {
        if range.is_empty() {
            return Column::default();
        }
        let e = self.extremes(range.clone());
        let loaded = self.loaded_in(range.clone()) > 0;
        Column {
            rate: loaded.then(|| {
                Rate::new(if range.len() == 1 { self.rate(range.start) } else { self.mean_rate(range) })
            }),
            slowest: loaded.then(|| Rate::new(f64::from(e.slowest))),
            fastest: loaded.then(|| Rate::new(f64::from(e.fastest))),
            p99: (e.p99_us > 0).then(|| Duration::from_micros(e.p99_us.into())),
            coldest: (e.coldest != i32::MAX).then(|| Celsius::from_millis(e.coldest)),
            hottest: (e.hottest != NO_TEMPERATURE).then(|| Celsius::from_millis(e.hottest)),
        }
    }
}

fn greatest_common_divisor(mut a: i64, mut b: i64) -> i64 {
    while b != 0 {
        (a, b) = (b, a % b);
    }
    a
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn series(rates: &[u32]) -> Series {
        let mut s = Series::default();
        for (i, r) in rates.iter().enumerate() {
            s.push(
                &Sample {
                    end: Duration::from_millis(100 * (i as u64 + 1)),
                    span: Duration::from_millis(100),
                    written: Bytes::new(u64::from(*r)),
                    temperature: Some(Celsius::from_millis(*r as i32)),
                    ..Sample::default()
                },
                true,
            );
        }
        s
    }

    proptest! {
        #[test]
        fn no_extreme_and_no_byte_is_lost_at_any_width(
            rates in proptest::collection::vec(0u32..1_000_000, 1..2000), columns in 1usize..200
        ) {
            let s = series(&rates);
            let end = s.extent(Ruler::Elapsed);
            let shown = s.columns(Ruler::Elapsed, 0.0, end, columns);
            let hottest = shown.iter().filter_map(|c| c.hottest).max().unwrap();
            prop_assert_eq!(hottest.millis() as u32, *rates.iter().max().unwrap());
            let slowest = shown.iter().filter_map(|c| c.slowest).map(Rate::get).fold(f64::INFINITY, f64::min);
            let truth = f64::from(*rates.iter().min().unwrap()) * 10.0;
            prop_assert!((slowest - truth).abs() <= truth * 1e-6);
        }
    }

    #[test]
    fn what_completes_in_no_time_at_the_end_of_a_leg_is_no_rate() {
        let mut s = series(&[100; 10]);
        let mut end = Duration::from_secs(1);
        let mut push = |s: &mut Series, leg, ms, bytes| {
            end += Duration::from_millis(ms);
            let span = Duration::from_millis(ms);
            let written = Bytes::new(bytes);
            s.push(&Sample { end, span, leg, written, ..Sample::default() }, true);
        };
        // What was in flight comes after the last interval, and in two parts where several workers end.
        push(&mut s, 0, 1, 5);
        push(&mut s, 0, 1, 16);
        assert_eq!([s.rate(9), s.rate(10), s.rate(11)], [1000.0, 105.0 / 0.101, 121.0 / 0.102]);
        let end = s.extent(Ruler::Elapsed);
        let last = s.columns(Ruler::Elapsed, end - 0.0005, end, 1);
        assert_eq!(last[0].rate.map(Rate::get), Some(s.rate(11)), "drawn alone");
        let all = s.columns(Ruler::Elapsed, 0.0, end, 1);
        assert_eq!(all[0].fastest.map(|r| r.get() as u32), Some(s.rate(11) as u32));
        assert_eq!(all[0].rate, Some(Rate::new(1021.0 / 1.002)), "no byte is lost");
        // One that was measured is a rate, however short; and another leg begins as it begins.
        let mut measured = series(&[100; 10]);
        let (end, span) = (Duration::from_millis(1001), Duration::from_millis(1));
        let temperature = Some(Celsius::new(40.0));
        let written = Bytes::new(5);
        measured.push(&Sample { end, span, written, temperature, ..Sample::default() }, true);
        assert_eq!(measured.rate(10), 5000.0);
        push(&mut s, 1, 5, 1000);
        assert_eq!(s.rate(12), 200_000.0);
    }

    #[test]
    fn slow_samples_are_found_where_they_are() {
        let rates: Vec<u32> = (0..5000).map(|i| if i % 777 == 5 || i == 4999 { 7 } else { 100 }).collect();
        let truth: Vec<usize> = (0..5000).filter(|i| i % 777 == 5 || *i == 4999).collect();
        let s = series(&rates);
        assert_eq!(s.slower(0..5000, 500.0), truth);
        assert_eq!(s.slower(6..4999, 500.0), truth[1..truth.len() - 1]);
        assert_eq!(s.slower(0..5000, 10.0), [] as [usize; 0]);
    }

    #[test]
    fn rest_takes_no_room_on_the_moved_ruler() {
        let mut s = series(&[100; 10]);
        let rest =
            Sample { end: Duration::from_secs(60), span: Duration::from_secs(59), ..Sample::default() };
        s.push(&rest, false);
        assert_eq!(s.extent(Ruler::Moved), 1000.0);
        let columns = s.columns(Ruler::Moved, 0.0, 1000.0, 10);
        assert!(columns.iter().all(|c| c.rate == Some(Rate::new(1000.0))), "{columns:?}");
        let columns = s.columns(Ruler::Elapsed, 0.0, 60.0, 6);
        assert_eq!(columns[3].rate, None, "a rest has no rate");
    }
}
