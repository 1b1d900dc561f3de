//! The rate second by second under load, the longest stall, and how steady the end is.

use std::ops::Range;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::series::Series;
use crate::quantity::steady::{Steadiness, WINDOW, steadiness};
use crate::quantity::units::Rate;
use crate::quantity::{mb_s, stats};

/// Rounds of a single load are a minute long.
const ROUND_S: usize = 60;
/// Within a sample longer than this a second is not seen, s.
const LONG_S: f64 = 1.5;
/// A single sample counts as no more seconds than this: a gap of days is no measurement of them.
const MOST_SECONDS: usize = 600;

/// How even the rate was.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Consistency {
    /// Mean rate of the slowest whole second.
    #[serde(rename = "worst_second_mb_s", with = "mb_s")]
    pub worst_second: Rate,
    /// Rate that 99 % of the seconds exceed.
    #[serde(rename = "p1_mb_s", with = "mb_s")]
    pub p1: Rate,
    /// Rate that 1 % of the seconds exceed.
    #[serde(rename = "p99_mb_s", with = "mb_s")]
    pub p99: Rate,
    /// Mean rate.
    #[serde(rename = "mean_mb_s", with = "mb_s")]
    pub mean: Rate,
    /// Standard deviation of the rate of the seconds over their mean.
    pub variation: f64,
    /// Longest time without a byte, s.
    pub longest_stall_s: f64,
}

/// Follows the rate second by second under load.
#[derive(Debug, Clone, Default)]
pub struct Seconds {
    /// Mean rate of each whole second, bytes per second.
    rates: Vec<f32>,
    /// When each ended, tenths of a second since the haul began.
    ends: Vec<u32>,
    /// Index of the first second of each load.
    loads: Vec<usize>,
    open_bytes: f64,
    open_s: f64,
    /// All that was moved under load, part seconds too, and the time it took.
    moved: f64,
    loaded_s: f64,
    stall_s: f64,
    longest_stall_s: f64,
    /// Bytes, seconds, and time without a byte up to its end, of samples longer than [`LONG_S`].
    long_samples: Vec<(f32, f32, f32)>,
    hottest: Option<f64>,
}

impl Seconds {
    /// Takes a sample under load.
    pub fn push(&mut self, bytes: f64, seconds: f64, end_s: f64) {
        self.open_bytes += bytes;
        self.open_s += seconds;
        self.moved += bytes;
        self.loaded_s += seconds;
        // Intervals of 100 ms add up to a second only to within rounding.
        if self.open_s >= 0.999_999 {
            // A sample of five seconds is five of them, as far as anybody can say.
            let count = ((self.open_s + 1e-6) as usize).clamp(1, MOST_SECONDS);
            let rate = (self.open_bytes / self.open_s) as f32;
            for i in (0..count).rev() {
                self.rates.push(rate);
                self.ends.push(((end_s - i as f64) * 10.0).round().max(0.0) as u32);
            }
            self.open_bytes = 0.0;
            self.open_s = 0.0;
        }
        self.stall_s = if bytes > 0.0 { 0.0 } else { self.stall_s + seconds };
        self.longest_stall_s = self.longest_stall_s.max(self.stall_s);
        if seconds > LONG_S {
            self.long_samples.push((bytes as f32, seconds as f32, self.stall_s as f32));
        }
    }

    /// A load began: what was open belongs to the one before.
    pub fn restart(&mut self) {
        if self.loads.last() != Some(&self.rates.len()) {
            self.loads.push(self.rates.len());
        }
        self.open_bytes = 0.0;
        self.open_s = 0.0;
        self.stall_s = 0.0;
    }

    /// Takes notice of a temperature, at rest or under load.
    pub fn feel(&mut self, degrees: f64) {
        self.hottest = Some(self.hottest.map_or(degrees, |h| h.max(degrees)));
    }

    /// Median over the seconds of the load with the most of them.
    pub fn median_of_longest(&self) -> Option<f64> {
        let mut seconds: Vec<f64> = self.rates[self.longest()].iter().map(|r| f64::from(*r)).collect();
        stats::median(&mut seconds)
    }

    /// How even all seconds under load are.
    pub fn whole(&self) -> Option<Consistency> {
        consistency(&self.rates, self.longest_stall_s)
    }

    /// Whole seconds under load.
    pub const fn count(&self) -> usize {
        self.rates.len()
    }

    /// Longest time under load without a byte, s.
    pub const fn longest_stall_s(&self) -> f64 {
        self.longest_stall_s
    }

    /// Length of the samples, where it is so long that a second in them is not seen, s: the median of those; `None` where most are not.
    pub fn grain_s(&self) -> Option<f64> {
        let long: f64 = self.long_samples.iter().map(|s| f64::from(s.1)).sum();
        (long > 0.5 * self.loaded_s).then_some(())?;
        stats::median(&mut self.long_samples.iter().map(|s| f64::from(s.1)).collect::<Vec<_>>())
    }

    /// What the longest time without a byte may have been, s: in a long sample all that it lacks against the usual rate may have been
    /// lost in one go, before or after one without a byte. `None` where no sample is that long.
    pub fn longest_stall_at_most_s(&self) -> Option<f64> {
        let mut rates: Vec<f64> = self.rates.iter().map(|r| f64::from(*r)).collect();
        let usual = stats::median(&mut rates).filter(|_| !self.long_samples.is_empty())?;
        let lacks = |s: &(f32, f32, f32)| {
            f64::from(s.1) * (1.0 - f64::from(s.0) / f64::from(s.1) / usual.max(1.0)).clamp(0.0, 1.0)
        };
        let pairs = self.long_samples.windows(2).map(|w| lacks(&w[0]) + lacks(&w[1]));
        let runs = self.long_samples.windows(2).map(|w| f64::from(w[0].2) + lacks(&w[1]));
        let most = self.long_samples.iter().map(lacks).chain(pairs).chain(runs).fold(0.0, f64::max);
        Some(most.max(self.longest_stall_s))
    }

    /// Highest temperature, °C.
    pub const fn hottest(&self) -> Option<f64> {
        self.hottest
    }

    /// How steady the end of the load with the most seconds is; `None` of less than five rounds.
    pub fn steady(&self) -> Option<Steadiness> {
        let longest = self.longest();
        let from = longest.len().checked_sub(ROUND_S * WINDOW)?;
        steadiness(&self.rounds(longest.start + from..longest.end), ROUND_S as f64)
    }

    /// Bytes over time under load, whatever the seconds' edges are.
    pub fn mean(&self) -> Option<Rate> {
        (self.loaded_s > 0.0).then(|| Rate::new(self.moved / self.loaded_s))
    }

    /// The seconds of the load with the most of them.
    pub fn longest(&self) -> Range<usize> {
        let ends = self.loads.iter().skip(1).copied().chain([self.rates.len()]);
        self.loads
            .iter()
            .copied()
            .zip(ends)
            .map(|(a, b)| a..b)
            .max_by_key(Range::len)
            .unwrap_or(0..self.rates.len())
    }

    /// The seconds of the newest load.
    pub fn newest(&self) -> Range<usize> {
        self.loads.last().copied().unwrap_or(0)..self.rates.len()
    }

    /// Means of whole rounds, the last one at the end of the range.
    fn rounds(&self, seconds: Range<usize>) -> Vec<f64> {
        self.rates[seconds]
            .rchunks_exact(ROUND_S)
            .rev()
            .map(|c| c.iter().map(|r| f64::from(*r)).sum::<f64>() / c.len() as f64)
            .collect()
    }

    /// How many rounds before the end of a load lie inside, five at most; `None` before its first is over.
    pub fn steady_rounds(&self, load: Range<usize>) -> Option<u8> {
        let from = load.end.saturating_sub(ROUND_S * WINDOW).max(load.start);
        let rounds = self.rounds(from..load.end);
        let inside = |n: &usize| {
            *n == 1 || steadiness(&rounds[rounds.len() - n..], ROUND_S as f64).is_some_and(|s| s.reached)
        };
        (1..=rounds.len()).rev().find(inside).map(|n| n as u8)
    }

    /// From a moment to the end of the load it lies in.
    pub fn after(&self, series: &Series, moment_s: f64) -> Option<Consistency> {
        let from = self.ends.partition_point(|e| f64::from(*e) / 10.0 < moment_s + 1.0);
        let to = self.loads.iter().copied().find(|l| *l > from).unwrap_or(self.rates.len());
        let rates = self.rates.get(from..to)?;
        let end_s = f64::from(*self.ends.get(to.checked_sub(1)?)?) / 10.0;
        let (mut stall, mut longest, mut last) = (0.0, 0.0f64, None);
        let first = series.index_at(Duration::from_secs_f64(moment_s));
        let past = series.index_at(Duration::from_secs_f64(end_s + 0.05));
        for i in series.slower(first..past, 1.0) {
            stall = if last == i.checked_sub(1) { stall } else { 0.0 } + series.loaded_s(i..i + 1);
            longest = longest.max(stall);
            last = Some(i);
        }
        // From where the seconds begin to the end of the load, the last part of a second with the rest.
        let begin = series.index_at(Duration::from_secs_f64(f64::from(*self.ends.get(from)?) / 10.0 - 1.0));
        let loaded_s = series.loaded_s(begin..past);
        let mean = Rate::new(series.mean_rate(begin..past));
        consistency(rates, longest)
            .map(|c| Consistency { mean: if loaded_s > 0.0 { mean } else { c.mean }, ..c })
    }
}

/// How even the rates of some seconds are; `None` of none.
fn consistency(rates: &[f32], longest_stall_s: f64) -> Option<Consistency> {
    let mut rates: Vec<f64> = rates.iter().map(|r| f64::from(*r)).collect();
    let n = rates.len() as f64;
    let mean = rates.iter().sum::<f64>() / n;
    let squares: f64 = rates.iter().map(|r| (r - mean).powi(2)).sum();
    let variation = if mean > 0.0 && n > 1.0 { (squares / (n - 1.0)).sqrt() / mean } else { 0.0 };
    Some(Consistency {
        worst_second: Rate::new(rates.iter().copied().reduce(f64::min)?),
        p1: Rate::new(stats::quantile(&mut rates, 0.01)?),
        p99: Rate::new(stats::quantile(&mut rates, 0.99)?),
        mean: Rate::new(mean),
        variation,
        longest_stall_s,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_samples_count_by_their_time_and_bound_what_they_hide() {
        let mut s = Seconds::default();
        s.restart();
        // 100 MB/s in samples of 5 s for 10 min; one of them moved a fifth of that.
        for i in 1..=120 {
            let bytes = if i == 60 { 100e6 } else { 500e6 };
            s.push(bytes, 5.0, 5.0 * f64::from(i));
        }
        assert_eq!((s.count(), s.grain_s()), (600, Some(5.0)));
        assert_eq!(s.steady_rounds(s.longest()), Some(5));
        let whole = s.whole().unwrap();
        assert!((whole.worst_second.mb_s() - 20.0).abs() < 1e-6, "{whole:?}");
        // Four seconds may have been without a byte, none is known to have been.
        assert_eq!(s.longest_stall_s(), 0.0);
        assert!((s.longest_stall_at_most_s().unwrap() - 4.0).abs() < 1e-6);
        let mut short = Seconds::default();
        short.restart();
        (1..=100).for_each(|i| short.push(10e6, 0.1, 0.1 * f64::from(i)));
        assert_eq!((short.grain_s(), short.longest_stall_at_most_s()), (None, None));
    }

    #[test]
    fn seconds_and_stalls_are_counted() {
        let mut s = Seconds::default();
        for i in 0..40 {
            s.push(if (10..25).contains(&i) { 0.0 } else { 1e6 }, 0.1, f64::from(i + 1) / 10.0);
        }
        assert_eq!(s.rates.len(), 4);
        assert!((s.longest_stall_s - 1.5).abs() < 1e-9);
        let whole = s.whole().unwrap();
        assert!(whole.worst_second.mb_s() < 1e-9 && (whole.p99.mb_s() - 10.0).abs() < 1e-6, "{whole:?}");
        assert_eq!((s.steady(), s.steady_rounds(s.longest())), (None, None), "four seconds cannot be steady");
    }

    #[test]
    fn rounds_are_counted_as_they_come_inside() {
        let mut s = Seconds::default();
        let mut seen = Vec::new();
        // A fall in the third minute, then even.
        for i in 0..600 {
            s.restart();
            s.loads.truncate(1);
            s.push(if i < 150 { 2e6 } else { 1e6 }, 1.0, f64::from(i + 1));
            if (i + 1) % 60 == 0 {
                seen.push(s.steady_rounds(s.newest()).unwrap());
            }
        }
        assert_eq!(seen, [1, 2, 1, 1, 2, 3, 4, 5, 5, 5]);
    }
}
