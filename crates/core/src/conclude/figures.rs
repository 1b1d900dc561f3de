//! The figures of a haul.

use serde::{Deserialize, Serialize};

use crate::quantity::units::{Celsius, Rate};
use crate::quantity::{FigureId, FindingKind};
use crate::readings::{Consistency, Readings, Steadiness};

use super::{Conclusions, Finding};

/// The figures of a haul. A figure that the record cannot give is `None`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Figures {
    /// Median rate up to the first cache end, or over the whole when there is none, MB/s.
    pub burst_mb_s: Option<f64>,
    /// Median rate after the last cache end, MB/s; the same as the burst when there is none.
    pub sustained_mb_s: Option<f64>,
    /// Bytes absorbed at full speed: up to the first cache end.
    pub cache_bytes: Option<u64>,
    /// Mean rate of the slowest whole second under load, MB/s.
    pub worst_second_mb_s: Option<f64>,
    /// Rate that 99 % of the seconds under load exceed, MB/s.
    pub p1_mb_s: Option<f64>,
    /// Rate that 1 % of the seconds under load exceed, MB/s.
    pub p99_mb_s: Option<f64>,
    /// Mean rate under load, MB/s.
    pub mean_mb_s: Option<f64>,
    /// Standard deviation of the rate of the seconds over their mean.
    pub variation: Option<f64>,
    /// Longest time without a byte under load, s.
    pub longest_stall_s: Option<f64>,
    /// Highest temperature, °C.
    pub hottest_c: Option<f64>,
    /// Steadiness at the end of the longest stretch of load.
    pub steady: Option<Steadiness>,
    /// How many rounds up to the end of it lie inside: 5 is steady.
    pub steady_rounds: Option<u8>,
    /// From the last cache end on, to the end of the write it is in.
    pub after_cache: Option<Consistency>,
}

impl Figures {
    /// Given what was found and the mean rate of the load with the most time.
    pub(super) fn of(readings: &Readings, findings: &[Finding], longest: Option<Rate>) -> Self {
        let seconds = &readings.seconds;
        let cache: Vec<&Finding> = findings.iter().filter(|f| f.kind == FindingKind::CacheEnd).collect();
        let mb_s = |r: Option<Rate>| r.map(Rate::mb_s);
        // Without a cache end the whole of the longest load is before and after it; of less than a second there is only the mean.
        let over_all = longest.map(|mean| seconds.median_of_longest().map_or(mean, Rate::new));
        let whole = seconds.whole();
        Self {
            burst_mb_s: mb_s(cache.first().map_or(over_all, |f| f.before)),
            sustained_mb_s: mb_s(cache.last().map_or(over_all, |f| f.after)),
            cache_bytes: cache.first().map(|f| f.written.get()),
            worst_second_mb_s: whole.map(|c| c.worst_second_mb_s),
            p1_mb_s: whole.map(|c| c.p1_mb_s),
            p99_mb_s: whole.map(|c| c.p99_mb_s),
            mean_mb_s: seconds.mean_mb_s(),
            variation: whole.filter(|c| seconds.count() > 1 && c.mean_mb_s > 0.0).map(|c| c.variation),
            longest_stall_s: (!readings.series().is_empty()).then_some(seconds.longest_stall_s()),
            hottest_c: seconds.hottest(),
            steady: seconds.steady(),
            steady_rounds: seconds.steady_rounds(seconds.longest()),
            after_cache: cache.last().and_then(|f| seconds.after(readings.series(), f.elapsed.as_secs_f64())),
        }
    }

    /// The rate at which heat is asked about: the burst, at which a drive gets warmest, or else what it sustains.
    #[must_use]
    pub fn hottest_rate(&self) -> Rate {
        Rate::from_mb_s(self.burst_mb_s.or(self.sustained_mb_s).unwrap_or(0.0))
    }

    /// How even the whole was.
    #[must_use]
    pub fn whole(&self) -> Option<Consistency> {
        Some(Consistency {
            worst_second_mb_s: self.worst_second_mb_s?,
            p1_mb_s: self.p1_mb_s?,
            p99_mb_s: self.p99_mb_s?,
            mean_mb_s: self.mean_mb_s?,
            variation: self.variation.unwrap_or(0.0),
            longest_stall_s: self.longest_stall_s.unwrap_or(0.0),
        })
    }
}

/// One figure, in the unit of its quantity; `None` where the record cannot give it.
#[must_use]
pub fn figure(id: FigureId, readings: &Readings, conclusions: &Conclusions) -> Option<f64> {
    let (f, s) = (&conclusions.figures, &conclusions.surveys);
    let rate = |mb_s: Option<f64>| mb_s.map(|v| v * 1e6);
    let throttles = || conclusions.findings.iter().filter(|f| f.kind == FindingKind::Throttle);
    match id {
        FigureId::Burst => rate(f.burst_mb_s),
        FigureId::Sustained => rate(f.sustained_mb_s),
        FigureId::Cache => f.cache_bytes.map(|b| b as f64),
        FigureId::Mean => rate(f.mean_mb_s),
        FigureId::WorstSecond => rate(f.worst_second_mb_s),
        FigureId::P1 => rate(f.p1_mb_s),
        FigureId::Variation => f.variation,
        FigureId::LongestStall => f.longest_stall_s,
        FigureId::LongestOperation => readings.longest_operation().map(|d| d.as_secs_f64()),
        FigureId::Hottest => f.hottest_c,
        FigureId::RiseAboveAmbient => {
            let ambient = readings.head()?.conditions.ambient.map(Celsius::degrees);
            f.hottest_c.zip(ambient).map(|(h, a)| h - a)
        }
        // Without a thermometer heat is told from nothing.
        FigureId::Throttlings => f.hottest_c.map(|_| throttles().count() as f64),
        FigureId::UntilItThrottles => throttles().next().map(|t| t.elapsed.as_secs_f64()),
        FigureId::Access => Some(s.spans.as_ref()?.spans.first()?.access_us.mean / 1e6),
        FigureId::HighestStream => rate(s.streams.as_ref()?.highest_mb_s),
        FigureId::Misses => Some(s.streams.as_ref()?.trials.iter().map(|t| t.misses).sum::<u64>() as f64),
        FigureId::MeanOverTheGround => Some(s.ground.as_ref()?.mean_mb_s * 1e6),
        FigureId::SlowStretches => Some(s.ground.as_ref()?.slow().count() as f64),
        FigureId::StartOverEnd => s.ground.as_ref()?.first_over_last,
        FigureId::WrongBytes => Some(s.verify.as_ref()?.wrong_bytes as f64),
        FigureId::Mismatches => Some(s.verify.as_ref()?.mismatches.len() as f64),
        FigureId::Errors => (!readings.series().is_empty()).then_some(readings.errors() as f64),
    }
    .filter(|v| v.is_finite())
}
