//! The figures of a haul.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::quantity::histogram::Bin;
use crate::quantity::steady::Steadiness;
use crate::quantity::units::{Celsius, Rate};
use crate::quantity::{FigureId, FindingKind, Interval, mb_s};
use crate::readings::{Consistency, During, Readings};

use super::surveys::freight::Costs;
use super::{Conclusions, Finding, Slope};

/// The figures of a haul. A figure that the record cannot give is `None`.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Figures {
    /// Median rate up to the first cache end, or else up to where heat first slowed it, or else over the whole; of a load that slopes the
    /// rate at its start.
    #[serde(rename = "burst_mb_s", with = "mb_s::maybe")]
    pub burst: Option<Rate>,
    /// Median rate after the last cache end, or else the mean from where heat first slowed it, or else the same as the burst; of a load that
    /// slopes the rate at its end.
    #[serde(rename = "sustained_mb_s", with = "mb_s::maybe")]
    pub sustained: Option<Rate>,
    /// The longest load slopes from one rate to another, without a cache end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub slope: Option<Slope>,
    /// Bytes absorbed at full speed: up to the first cache end.
    pub cache_bytes: Option<u64>,
    /// Mean rate of the slowest whole second under load.
    #[serde(rename = "worst_second_mb_s", with = "mb_s::maybe")]
    pub worst_second: Option<Rate>,
    /// Rate that 99 % of the seconds under load exceed.
    #[serde(rename = "p1_mb_s", with = "mb_s::maybe")]
    pub p1: Option<Rate>,
    /// Rate that 1 % of the seconds under load exceed.
    #[serde(rename = "p99_mb_s", with = "mb_s::maybe")]
    pub p99: Option<Rate>,
    /// Mean rate under load.
    #[serde(rename = "mean_mb_s", with = "mb_s::maybe")]
    pub mean: Option<Rate>,
    /// Standard deviation of the rate of the seconds over their mean.
    pub variation: Option<f64>,
    /// Longest time without a byte under load, s.
    pub longest_stall_s: Option<f64>,
    /// What it may have been, s, where samples are so long that a second in them is not seen.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub longest_stall_at_most_s: Option<f64>,
    /// Length of the samples, s, where it is that long: the worst second is then no more than said, and may be less.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub grain_s: Option<f64>,
    /// Highest temperature, °C.
    pub hottest_c: Option<f64>,
    /// Steadiness at the end of the longest stretch of load.
    pub steady: Option<Steadiness>,
    /// How many rounds up to the end of it lie inside: 5 is steady.
    pub steady_rounds: Option<u8>,
    /// From the last cache end on, to the end of the write it is in.
    pub after_cache: Option<Consistency>,
}

/// The load with the most time.
pub(super) struct Longest {
    /// Its time.
    pub seconds: f64,
    /// Its mean rate.
    pub mean: Rate,
    /// The rates between which it slopes.
    pub slope: Option<Slope>,
    /// Its samples.
    pub samples: Range<usize>,
}

/// The first throttling of the longest load, and the samples of that load from then on.
fn first_heat<'a>(
    readings: &Readings,
    findings: &'a [Finding],
    longest: Option<&Longest>,
) -> Option<(&'a Finding, Range<usize>)> {
    let samples = &longest?.samples;
    let series = readings.series();
    findings.iter().filter(|f| f.kind == FindingKind::Throttle && f.before.is_some()).find_map(|f| {
        let from = series.index_at(f.elapsed);
        (samples.contains(&from) && from > samples.start).then_some((f, from..samples.end))
    })
}

impl Figures {
    /// Given what was found and the load with the most time.
    pub(super) fn of(readings: &Readings, findings: &[Finding], longest: Option<&Longest>) -> Self {
        let seconds = &readings.seconds;
        let cache: Vec<&Finding> = findings.iter().filter(|f| f.may_be_cache_end()).collect();
        let sure = findings.iter().find(|f| f.kind == FindingKind::CacheEnd);
        // Without a cache end the whole of the longest load is before and after it; of less than a second there is only the mean.
        let over_all = longest.map(|l| seconds.median_of_longest().map_or(l.mean, Rate::new));
        // A rate that heat takes and gives back has two values, and no median worth the name.
        let heat = first_heat(readings, findings, longest).filter(|_| cache.is_empty());
        let slope = longest.and_then(|l| l.slope).filter(|_| cache.is_empty() && heat.is_none());
        let whole = seconds.whole();
        Self {
            burst: match (cache.first(), &heat) {
                (Some(f), _) => f.before,
                (None, Some((f, _))) => f.before,
                (None, None) => slope.map(|s| s.start).or(over_all),
            },
            sustained: match (cache.last(), heat) {
                (Some(f), _) => f.after,
                (None, Some((_, from_then))) => Some(Rate::new(readings.series().mean_rate(from_then))),
                (None, None) => slope.map(|s| s.end).or(over_all),
            },
            slope,
            cache_bytes: sure.map(|f| f.written.get()),
            worst_second: whole.map(|c| c.worst_second),
            p1: whole.map(|c| c.p1),
            p99: whole.map(|c| c.p99),
            mean: seconds.mean(),
            variation: whole.filter(|c| seconds.count() > 1 && c.mean > Rate::ZERO).map(|c| c.variation),
            longest_stall_s: (!readings.series().is_empty()).then_some(seconds.longest_stall_s()),
            longest_stall_at_most_s: seconds.longest_stall_at_most_s(),
            grain_s: seconds.grain_s(),
            hottest_c: seconds.hottest(),
            steady: seconds.steady(),
            steady_rounds: seconds.steady_rounds(seconds.longest()),
            after_cache: cache.last().and_then(|f| seconds.after(readings.series(), f.elapsed.as_secs_f64())),
        }
    }

    /// The rate at which heat is asked about: the burst, at which a drive gets warmest, or else what it sustains.
    #[must_use]
    pub fn hottest_rate(&self) -> Rate {
        self.burst.or(self.sustained).unwrap_or_default()
    }

    /// How even the whole was.
    #[must_use]
    pub fn whole(&self) -> Option<Consistency> {
        Some(Consistency {
            worst_second: self.worst_second?,
            p1: self.p1?,
            p99: self.p99?,
            mean: self.mean?,
            variation: self.variation.unwrap_or(0.0),
            longest_stall_s: self.longest_stall_s.unwrap_or(0.0),
        })
    }
}

/// The bin in which a figure lies that is a quantile of latencies: its value is the middle, and within the bin it is not known.
/// `None` of other figures, and where there are too few operations.
#[must_use]
pub fn quantile(id: FigureId, readings: &Readings) -> Option<Bin> {
    let load = || readings.latencies().during(During::Load);
    let others = |during| readings.lookout().during(during);
    match id {
        FigureId::LatencyP50 => load().told_bin(0.5),
        FigureId::LatencyP99 => load().told_bin(0.99),
        FigureId::LatencyP999 => load().told_bin(0.999),
        FigureId::LookoutP50 => others(During::Load).told_bin(0.5),
        FigureId::LookoutP99 => others(During::Load).told_bin(0.99),
        FigureId::LookoutP999 => others(During::Load).told_bin(0.999),
        FigureId::LookoutLongest => others(During::Load).quantile_bin(1.0),
        FigureId::LookoutAtRest => others(During::Rest).told_bin(0.99),
        _ => None,
    }
}

/// A figure that the readings give together with its interval; without bounds where nothing tells them. `None` of other figures.
#[must_use]
pub fn measured(id: FigureId, readings: &Readings) -> Option<Interval> {
    let meters = readings.meters();
    match id {
        FigureId::WriteAmplification => readings.write_amplification(),
        FigureId::WearPerByte => readings.wear_per_byte(),
        FigureId::PowerAtRest => meters.rest().watts(),
        FigureId::PowerUnderLoad => meters.load().watts(),
        FigureId::EnergyPerByte => meters.load().joules_per_byte(),
        FigureId::RatePerWatt => meters.load().bytes_per_joule(),
        _ => None,
    }
}

/// One figure, in the unit of its quantity; `None` where the record cannot give it.
#[must_use]
pub fn figure(id: FigureId, readings: &Readings, conclusions: &Conclusions) -> Option<f64> {
    let (f, s) = (&conclusions.figures, &conclusions.surveys);
    let rate = |r: Option<Rate>| r.map(Rate::get);
    if let Some(bin) = quantile(id, readings) {
        return Some(bin.middle_ns() / 1e9);
    }
    let freight = || s.freight.as_ref()?.legs.iter().find(|l| l.carry.makes());
    let cost = |of: fn(&Costs) -> Option<f64>| of(freight()?.costs.as_ref()?);
    let throttles = || conclusions.findings.iter().filter(|f| f.kind == FindingKind::Throttle);
    match id {
        FigureId::Burst => rate(f.burst),
        FigureId::Sustained => rate(f.sustained),
        FigureId::Cache => f.cache_bytes.map(|b| b as f64),
        FigureId::Mean => rate(f.mean),
        FigureId::WorstSecond => rate(f.worst_second),
        FigureId::P1 => rate(f.p1),
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
        FigureId::HighestStream => s.streams.as_ref()?.highest_mb_s.map(|v| v * 1e6),
        FigureId::Misses => Some(s.streams.as_ref()?.trials.iter().map(|t| t.misses).sum::<u64>() as f64),
        FigureId::MeanOverTheGround => Some(s.ground.as_ref()?.mean_mb_s * 1e6),
        FigureId::SlowStretches => Some(s.ground.as_ref()?.slow().count() as f64),
        FigureId::StartOverEnd => s.ground.as_ref()?.first_over_last,
        FigureId::FreightRate => rate(freight()?.rate),
        FigureId::FileCost => cost(|c| c.per_file.map(|i| i.value)),
        FigureId::FolderCost => cost(|c| c.per_folder),
        FigureId::TimeToReturn => Some(freight()?.returned_s),
        FigureId::TimeToDurable => freight()?.durable_s,
        FigureId::Amplification => freight()?.amplification,
        FigureId::WriteAmplification
        | FigureId::WearPerByte
        | FigureId::PowerAtRest
        | FigureId::PowerUnderLoad
        | FigureId::EnergyPerByte
        | FigureId::RatePerWatt => measured(id, readings).map(|i| i.value),
        FigureId::HighestPower => readings.meters().highest(),
        // Those that `quantile` could not tell.
        FigureId::LatencyP50
        | FigureId::LatencyP99
        | FigureId::LatencyP999
        | FigureId::LookoutP50
        | FigureId::LookoutP99
        | FigureId::LookoutP999
        | FigureId::LookoutLongest
        | FigureId::LookoutAtRest => None,
        FigureId::WrongBytes => Some(s.verify.as_ref()?.wrong_bytes as f64),
        FigureId::Mismatches => Some(s.verify.as_ref()?.mismatches.len() as f64),
        FigureId::Errors => (!readings.series().is_empty()).then_some(readings.errors() as f64),
    }
    .filter(|v| v.is_finite())
}
