//! Figures of a haul: rates by the second under load, the longest stall, steadiness.

use crate::drive::LoadKind;
use crate::finding::{Figures, Finding, FindingKind, Steadiness};
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
    open_bytes: f64,
    open_s: f64,
    stall_s: f64,
    longest_stall_s: f64,
    hottest: Option<f64>,
}

impl Seconds {
    /// Takes a sample under load.
    pub fn push(&mut self, bytes: f64, seconds: f64) {
        self.open_bytes += bytes;
        self.open_s += seconds;
        // Intervals of 100 ms add up to a second only to within rounding.
        if self.open_s >= 0.999_999 {
            self.rates.push((self.open_bytes / self.open_s) as f32);
            self.open_bytes = 0.0;
            self.open_s = 0.0;
        }
        self.stall_s = if bytes > 0.0 { 0.0 } else { self.stall_s + seconds };
        self.longest_stall_s = self.longest_stall_s.max(self.stall_s);
    }

    /// A load began: what was open belongs to the one before.
    pub const fn restart(&mut self) {
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
        let over_all = longest.map(|(_, rate)| rate);
        let mut rates: Vec<f64> = self.rates.iter().map(|r| f64::from(*r) / 1e6).collect();
        let mean = (!rates.is_empty()).then(|| rates.iter().sum::<f64>() / rates.len() as f64);
        let variation = mean.filter(|m| *m > 0.0 && rates.len() > 1).map(|m| {
            let n = rates.len() as f64;
            (rates.iter().map(|r| (r - m).powi(2)).sum::<f64>() / (n - 1.0)).sqrt() / m
        });
        let steady = self.steadiness();
        Figures {
            burst_mb_s: mb_s(cache.first().map_or(over_all, |f| f.before)),
            sustained_mb_s: mb_s(cache.last().map_or(over_all, |f| f.after)),
            cache_bytes: cache.first().map(|f| f.written.get()),
            worst_second_mb_s: rates.iter().copied().reduce(f64::min),
            p1_mb_s: stats::quantile(&mut rates, 0.01),
            mean_mb_s: mean,
            variation,
            longest_stall_s: (!series.is_empty()).then_some(self.longest_stall_s),
            hottest_c: self.hottest,
            steady,
        }
    }

    /// Over the last five whole minutes under load; `None` when there were fewer.
    fn steadiness(&self) -> Option<Steadiness> {
        let from = self.rates.len().checked_sub(ROUND_S * WINDOW)?;
        let rounds: Vec<f64> = self.rates[from..]
            .chunks(ROUND_S)
            .map(|c| c.iter().map(|r| f64::from(*r)).sum::<f64>() / c.len() as f64)
            .collect();
        steadiness(&rounds, ROUND_S as f64)
    }
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
            s.push(if (10..25).contains(&i) { 0.0 } else { 1e6 }, 0.1);
        }
        assert_eq!(s.rates.len(), 4);
        assert!((s.longest_stall_s - 1.5).abs() < 1e-9);
        let f = s.figures(&Series::default(), &[], None);
        assert!(f.worst_second_mb_s.unwrap().abs() < 1e-9);
        assert_eq!(f.steady, None, "four seconds cannot be steady");
    }
}
