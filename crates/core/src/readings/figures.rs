//! Figures of a haul: rates by the second under load, the longest stall, steadiness.

use std::ops::Range;
use std::time::Duration;

use crate::drive::LoadKind;
use crate::finding::{Consistency, Figures, Finding, FindingKind, Steadiness};
use crate::units::Rate;

use super::series::Series;
use super::stats;

/// Rounds of SNIA PTS-E 2.0 are a minute long; the window has five.
const ROUND_S: usize = 60;
const WINDOW: usize = 5;

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
            self.rates.push((self.open_bytes / self.open_s) as f32);
            self.ends.push((end_s * 10.0).round() as u32);
            self.open_bytes = 0.0;
            self.open_s = 0.0;
        }
        self.stall_s = if bytes > 0.0 { 0.0 } else { self.stall_s + seconds };
        self.longest_stall_s = self.longest_stall_s.max(self.stall_s);
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

    /// The figures, given what was found and the load with the most time.
    pub fn figures(
        &self,
        series: &Series,
        findings: &[Finding],
        longest: Option<(LoadKind, Rate)>,
    ) -> Figures {
        let cache: Vec<&Finding> = findings.iter().filter(|f| f.kind == FindingKind::CacheEnd).collect();
        let mb_s = |r: Option<Rate>| r.map(Rate::mb_s);
        // Without a cache end the whole of the longest load is before and after it; of less than a second there is only the mean.
        let mut seconds: Vec<f64> = self.rates[self.longest()].iter().map(|r| f64::from(*r)).collect();
        let over_all = longest.map(|(_, mean)| stats::median(&mut seconds).map_or(mean, Rate::new));
        let whole = consistency(&self.rates, self.longest_stall_s);
        let longest_load = self.longest();
        let steady = longest_load.len().checked_sub(ROUND_S * WINDOW).and_then(|from| {
            steadiness(&self.rounds(longest_load.start + from..longest_load.end), ROUND_S as f64)
        });
        Figures {
            burst_mb_s: mb_s(cache.first().map_or(over_all, |f| f.before)),
            sustained_mb_s: mb_s(cache.last().map_or(over_all, |f| f.after)),
            cache_bytes: cache.first().map(|f| f.written.get()),
            worst_second_mb_s: whole.map(|c| c.worst_second_mb_s),
            p1_mb_s: whole.map(|c| c.p1_mb_s),
            p99_mb_s: whole.map(|c| c.p99_mb_s),
            mean_mb_s: self.mean_mb_s(),
            variation: whole.filter(|c| self.rates.len() > 1 && c.mean_mb_s > 0.0).map(|c| c.variation),
            longest_stall_s: (!series.is_empty()).then_some(self.longest_stall_s),
            hottest_c: self.hottest,
            steady,
            steady_rounds: self.steady_rounds(longest_load),
            after_cache: cache.last().and_then(|f| self.after(series, f.elapsed.as_secs_f64())),
        }
    }

    /// Bytes over time under load, whatever the seconds' edges are.
    fn mean_mb_s(&self) -> Option<f64> {
        (self.loaded_s > 0.0).then(|| self.moved / self.loaded_s / 1e6)
    }

    /// The seconds of the load with the most of them.
    fn longest(&self) -> Range<usize> {
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
    fn after(&self, series: &Series, moment_s: f64) -> Option<Consistency> {
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
        let mean = series.mean_rate(begin..past) / 1e6;
        consistency(rates, longest)
            .map(|c| Consistency { mean_mb_s: if loaded_s > 0.0 { mean } else { c.mean_mb_s }, ..c })
    }
}

/// How even the rates of some seconds are; `None` of none.
fn consistency(rates: &[f32], longest_stall_s: f64) -> Option<Consistency> {
    let mut rates: Vec<f64> = rates.iter().map(|r| f64::from(*r) / 1e6).collect();
    let n = rates.len() as f64;
    let mean = rates.iter().sum::<f64>() / n;
    let squares: f64 = rates.iter().map(|r| (r - mean).powi(2)).sum();
    let variation = if mean > 0.0 && n > 1.0 { (squares / (n - 1.0)).sqrt() / mean } else { 0.0 };
    Some(Consistency {
        worst_second_mb_s: rates.iter().copied().reduce(f64::min)?,
        p1_mb_s: stats::quantile(&mut rates, 0.01)?,
        p99_mb_s: stats::quantile(&mut rates, 0.99)?,
        mean_mb_s: mean,
        variation,
        longest_stall_s,
    })
}

/// Judges a window of rounds after SNIA PTS-E 2.0, section 2.1.24 (steady state); `None` when their mean is zero.
pub fn steadiness(rounds: &[f64], round_s: f64) -> Option<Steadiness> {
    let n = rounds.len() as f64;
    let mean = rounds.iter().sum::<f64>() / n;
    if rounds.len() < 2 || mean <= 0.0 {
        return None;
    }
    let middle = (n - 1.0) / 2.0;
    let (mut sxy, mut sxx) = (0.0, 0.0);
    for (i, r) in rounds.iter().enumerate() {
        let x = i as f64 - middle;
        sxy += x * (r - mean);
        sxx += x * x;
    }
    let range = rounds.iter().copied().fold(f64::NEG_INFINITY, f64::max)
        - rounds.iter().copied().fold(f64::INFINITY, f64::min);
    let excursion = range / mean;
    let slope = (sxy / sxx * (n - 1.0)).abs() / mean;
    Some(Steadiness { reached: excursion <= 0.2 && slope <= 0.1, excursion, slope, round_s })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steady_state_by_hand() {
        // Mean 100, range 10, slope 2 a round: rise 8 over the window.
        let s = steadiness(&[96.0, 98.0, 100.0, 102.0, 104.0], 60.0).unwrap();
        assert!(s.reached && (s.excursion - 0.08).abs() < 1e-12 && (s.slope - 0.08).abs() < 1e-12, "{s:?}");
        let s = steadiness(&[90.0, 95.0, 100.0, 105.0, 110.0], 60.0).unwrap();
        assert!(!s.reached && (s.slope - 0.2).abs() < 1e-12, "a rise of a fifth is not steady: {s:?}");
        let s = steadiness(&[100.0, 130.0, 100.0, 100.0, 100.0], 60.0).unwrap();
        assert!(!s.reached && s.excursion > 0.2, "{s:?}");
        assert_eq!(steadiness(&[0.0; 5], 60.0), None);
    }

    #[test]
    fn seconds_and_stalls_are_counted() {
        let mut s = Seconds::default();
        for i in 0..40 {
            s.push(if (10..25).contains(&i) { 0.0 } else { 1e6 }, 0.1, f64::from(i + 1) / 10.0);
        }
        assert_eq!(s.rates.len(), 4);
        assert!((s.longest_stall_s - 1.5).abs() < 1e-9);
        let f = s.figures(&Series::default(), &[], None);
        assert!(f.worst_second_mb_s.unwrap().abs() < 1e-9);
        assert_eq!((f.steady, f.steady_rounds), (None, None), "four seconds cannot be steady");
        assert!((f.p99_mb_s.unwrap() - 10.0).abs() < 1e-6, "{f:?}");
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
