//! A fill sweep: each figure of the battery against the level of fill, with its interval over repeats, whether the drive
//! holds, and how much of what was written was only cache.

use serde::{Deserialize, Serialize};

use crate::conclude::Finding;
use crate::readings::{LegReading, Readings};
use crate::route::LegKind;

use crate::quantity::stats::{Repeated, histogram_quantile};

/// A drive holds a figure that stays within this share of the first level's.
const HOLDS: f64 = 0.05;

/// One leg of the battery at one level.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AtLevel {
    /// The level of fill, percent.
    pub fill_percent: f64,
    /// Mean rate, MB/s.
    pub mb_s: Repeated,
    /// Operations per second.
    pub operations_per_s: f64,
    /// 99th percentile of the latency, µs.
    pub p99_us: f64,
    /// Share of the written bytes that the cache absorbed, 0 to 1; `None` of reads, or when no cache end is known.
    pub cached: Option<f64>,
    /// Rate over that of the first level.
    pub of_first: f64,
}

/// One leg of the battery at every level.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct AgainstFill {
    /// The leg in words, without its turn: `write 4 GB, 1 MiB × 32`.
    pub measure: String,
    /// Which way the bytes go.
    pub kind: LegKind,
    /// In the order of the levels.
    pub levels: Vec<AtLevel>,
    /// It stays within 5 % of the first level.
    pub holds: bool,
}

/// What a fill sweep says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FillSurvey {
    /// In the order of the route.
    pub measures: Vec<AgainstFill>,
}

struct Measured {
    rate: f64,
    operations: f64,
    p99_us: f64,
    written: f64,
    /// Of them, up to the first cache end in the leg; all, when the leg ended before the smallest cache known.
    cached: Option<f64>,
}

fn measure(
    readings: &Readings,
    leg: &LegReading,
    findings: &[Finding],
    cache: Option<f64>,
) -> Option<Measured> {
    let (at, _, summary) = leg.ended.as_ref()?;
    let route = &readings.head()?.route.legs;
    let block = route.get(usize::from(leg.leg))?.mean_block();
    let series = readings.series();
    let rate = readings.rate_of(leg)?.get();
    let samples = readings.samples_of(leg);
    let before = series.written_before(samples.start);
    let written = series.written(samples.end - 1) - before;
    let ended = findings.iter().find(|f| f.may_be_cache_end() && f.elapsed >= leg.from && f.elapsed <= *at);
    let cached = match (ended, cache) {
        (Some(end), _) => Some(end.written.get().saturating_sub(before) as f64),
        (None, Some(_)) => Some(written as f64),
        (None, None) => None,
    };
    Some(Measured {
        rate,
        operations: rate / block.as_f64(),
        p99_us: histogram_quantile(&summary.histogram, 0.99).unwrap_or(0.0) / 1e3,
        written: written as f64,
        cached: cached.filter(|_| written > 0),
    })
}

/// What the fill sweep of a record says so far.
#[must_use]
pub fn survey(readings: &Readings, findings: &[Finding]) -> Option<FillSurvey> {
    let route = &readings.head()?.route.legs;
    let of = |leg: &LegReading| {
        let l = route.get(usize::from(leg.leg))?;
        let turn = l.turn.as_ref()?;
        l.kind.is_plain_load().then_some((turn.part?, turn.fill_percent?))
    };
    let cache = findings.iter().filter(|f| f.may_be_cache_end()).map(|f| f.written.as_f64());
    let cache = cache.reduce(f64::min);
    let mut parts: Vec<u16> = readings.legs().iter().filter_map(|l| Some(of(l)?.0)).collect();
    parts.sort_unstable();
    parts.dedup();
    let mut measures = Vec::new();
    for part in parts {
        let legs: Vec<&LegReading> =
            readings.legs().iter().filter(|l| of(l).is_some_and(|(p, _)| p == part)).collect();
        let mut fills: Vec<f64> = legs.iter().filter_map(|l| Some(of(l)?.1)).collect();
        fills.dedup();
        let mut levels: Vec<AtLevel> = Vec::new();
        for fill_percent in fills {
            let all: Vec<Measured> = legs
                .iter()
                .filter(|l| of(l).is_some_and(|(_, f)| f == fill_percent))
                .filter_map(|l| measure(readings, l, findings, cache))
                .collect();
            let rates: Vec<f64> = all.iter().map(|m| m.rate / 1e6).collect();
            let Some(mb_s) = Repeated::of(&rates) else { continue };
            let n = all.len() as f64;
            let written: f64 = all.iter().map(|m| m.written).sum();
            let cached: Option<f64> = all.iter().map(|m| m.cached).sum();
            levels.push(AtLevel {
                fill_percent,
                operations_per_s: all.iter().map(|m| m.operations).sum::<f64>() / n,
                p99_us: all.iter().map(|m| m.p99_us).sum::<f64>() / n,
                cached: cached.map(|c| (c / written).min(1.0)),
                of_first: levels.first().map_or(1.0, |l| mb_s.mean / l.mb_s.mean),
                mb_s,
            });
        }
        let Some(leg) = legs.first().and_then(|l| route.get(usize::from(l.leg))) else { continue };
        let words = crate::route::Leg { turn: None, region: crate::route::Region::default(), ..leg.clone() };
        let holds = levels.iter().all(|l| (l.of_first - 1.0).abs() <= HOLDS);
        measures.push(AgainstFill { measure: words.words(), kind: leg.kind, levels, holds });
    }
    (!measures.is_empty()).then_some(FillSurvey { measures })
}

impl AgainstFill {
    /// In a sentence: whether it holds, and where it is least.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let first = self.levels.first()?;
        let off = |l: &&AtLevel| (l.of_first - 1.0).abs();
        let most = self.levels.iter().max_by(|a, b| off(a).total_cmp(&off(b)))?;
        let last = self.levels.last()?;
        Some(if self.levels.len() < 2 {
            format!("{}: one level only.", self.measure)
        } else if self.holds {
            format!("{} holds up to {} % full.", self.measure, last.fill_percent)
        } else {
            format!(
                "{} does not hold: {} at {} % full, {} at {} %.",
                self.measure,
                crate::quantity::units::Rate::from_mb_s(first.mb_s.mean),
                first.fill_percent,
                crate::quantity::units::Rate::from_mb_s(most.mb_s.mean),
                most.fill_percent
            )
        })
    }

    /// What is to be said when a level measured the cache only.
    #[must_use]
    pub fn only_cache(&self) -> Option<String> {
        let levels: Vec<String> = self
            .levels
            .iter()
            .filter(|l| l.cached.is_some_and(|c| c >= 0.99))
            .map(|l| format!("{}", l.fill_percent))
            .collect();
        (!levels.is_empty())
            .then(|| format!("{} measured only the cache at {} % full.", self.measure, levels.join(", ")))
    }
}
