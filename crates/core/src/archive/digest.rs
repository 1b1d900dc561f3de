//! What is kept of a haul beside its record: its figures with their intervals, so that many hauls can be compared and a
//! drive be told over the years without reading millions of samples again.

use serde::{Deserialize, Serialize};

use crate::archive::profile::{self, LegProfile};
use crate::conclude::models::cache::CacheModel;
use crate::conclude::models::heat::HeatModel;
use crate::conclude::models::{Models, Refusal, Told};
use crate::conclude::{Conclusions, Finding, slope_ends};
use crate::conclude::{figure, measured, quantile};
use crate::drive::{LoadKind, Pattern};
use crate::quantity::stats::Repeated;
use crate::quantity::units::significant;
use crate::quantity::units::{Bytes, Rate};
use crate::quantity::{Better, FigureId, FigureKey, FindingKind, Interval, Quantity};
use crate::readings::{CutLeg, Readings, Ruler};
use crate::route::LegKind;

/// Counts up whenever a digest would come out otherwise: an older one is made anew from the record.
pub const VERSION: u32 = 13;
/// Parts that a stretch of load is cut into for the interval of its mean (batch means: neighbours are alike, parts are not).
const BATCHES: usize = 10;

/// A figure of a haul.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Figure {
    /// Which: `sustained`, `cache`, `rise above ambient`.
    pub name: FigureKey,
    /// Of what.
    pub quantity: Quantity,
    /// In the quantity's unit.
    pub value: f64,
    /// Its 95 % interval within the haul, low and high, where it has one.
    pub interval: Option<(f64, f64)>,
    /// Which way is well.
    pub better: Better,
}

impl Figure {
    /// A figure of the table.
    #[must_use]
    pub fn of(id: FigureId, value: f64, interval: Option<(f64, f64)>) -> Self {
        Self { name: FigureKey::Of(id), quantity: id.quantity(), value, interval, better: id.better() }
    }

    /// A rate that the haul's own loads make.
    #[must_use]
    pub const fn own_rate(name: String, value: f64, interval: Option<(f64, f64)>) -> Self {
        Self { name: FigureKey::Own(name), quantity: Quantity::Rate, value, interval, better: Better::Higher }
    }
}

/// A plain load that was measured: a leg, or a rung of a ladder.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LoadFigure {
    /// Which way the bytes went.
    pub kind: LoadKind,
    /// In which order.
    pub pattern: Pattern,
    /// Bytes of an operation.
    pub block_bytes: u64,
    /// Operations in flight, of all threads together.
    pub depth: u32,
    /// Mean rate, bytes per second.
    pub rate: f64,
    /// 95 % interval of the rate by batch means.
    pub interval: Option<(f64, f64)>,
}

/// How warm it gets, as fitted: a [`HeatModel`] with what it needs to be asked again.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HeatDigest {
    /// Time constant, s.
    pub tau_s: Interval,
    /// Rise in the long run for each GB/s, K.
    pub rise_k_per_gb_s: Interval,
    /// Temperature at rest in the long run, °C.
    pub idle_c: Interval,
    /// Root mean square of what is not explained, K.
    pub residual_k: f64,
    /// Air temperature stated for the haul, °C.
    pub ambient_c: Option<f64>,
    /// Limit of the drive, °C.
    pub limit_c: Option<f64>,
    /// Highest mean rate of a minute that the record has, MB/s.
    pub seen_mb_s: f64,
    /// Covariance of temperature at rest and rise.
    pub covariance: [[f64; 2]; 2],
    /// The factor that makes a 95 % interval of a standard error.
    pub t95: f64,
    /// The rate at which heat is told, MB/s.
    pub at_mb_s: f64,
}

impl HeatDigest {
    fn of(m: &HeatModel, at: Rate) -> Self {
        Self {
            tau_s: m.tau_s,
            rise_k_per_gb_s: m.rise_k_per_gb_s,
            idle_c: m.idle_c,
            residual_k: m.residual_k,
            ambient_c: m.ambient_c,
            limit_c: m.limit_c,
            seen_mb_s: m.seen_mb_s,
            covariance: m.covariance,
            t95: m.t95,
            at_mb_s: at.mb_s(),
        }
    }

    /// The model again.
    #[must_use]
    pub const fn model(&self) -> HeatModel {
        HeatModel {
            tau_s: self.tau_s,
            idle_c: self.idle_c,
            rise_k_per_gb_s: self.rise_k_per_gb_s,
            residual_k: self.residual_k,
            ambient_c: self.ambient_c,
            limit_c: self.limit_c,
            seen_mb_s: self.seen_mb_s,
            covariance: self.covariance,
            t95: self.t95,
        }
    }
}

/// What a haul did to the drive.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Treatment {
    /// Bytes written.
    pub written_bytes: u64,
    /// Bytes read.
    pub read_bytes: u64,
    /// Time without load, s.
    pub rested_s: f64,
    /// The highest fill it reached, 0 to 1.
    pub filled: Option<f64>,
    /// It was wiped.
    pub wiped: bool,
    /// Operations that failed.
    pub errors: u64,
    /// Legs that were ended by hand.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cut_legs: Vec<CutLeg>,
}

/// A slow stretch that stood.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct SlowStretch {
    /// First byte.
    pub position_bytes: u64,
    /// One past the last.
    pub position_end_bytes: u64,
    /// What is left of the rate in it, 0 to 1; `None` where that is not known.
    pub share: Option<f64>,
}

/// All that is kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Digest {
    /// [`VERSION`] when it was made.
    pub version: u32,
    /// In the order in which they are told.
    pub figures: Vec<Figure>,
    /// Each plain load.
    pub loads: Vec<LoadFigure>,
    /// Findings, without their evidence.
    pub findings: Vec<Finding>,
    /// How the cache is built and comes back, or why that cannot be told.
    #[serde(default = "not_kept")]
    pub cache_model: Told<CacheModel>,
    /// How warm it gets, or why that cannot be told.
    #[serde(default = "not_kept")]
    pub heat_model: Told<HeatDigest>,
    /// Slow stretches.
    pub slow: Vec<SlowStretch>,
    /// What was done to it.
    pub treatment: Treatment,
    /// A load was held to a rate: how fast the drive could be is not in the record.
    #[serde(default)]
    pub paced: bool,
    /// How each leg went on its way, for forecasts.
    #[serde(default)]
    pub legs: Vec<LegProfile>,
}

/// Of a digest of an earlier version.
fn not_kept<T>() -> Told<T> {
    Told::CannotTell(Refusal::default())
}

/// Mean rate over samples and its 95 % interval by batch means; no interval of fewer than two samples a batch.
fn batch_means(readings: &Readings, samples: std::ops::Range<usize>) -> (f64, Option<(f64, f64)>) {
    let series = readings.series();
    let mean = series.mean_rate(samples.clone());
    if samples.len() < 2 * BATCHES {
        return (mean, None);
    }
    let at = |i: usize| samples.start + samples.len() * i / BATCHES;
    let batches: Vec<f64> = (0..BATCHES).map(|i| series.mean_rate(at(i)..at(i + 1))).collect();
    let half = Repeated::of(&batches).and_then(|r| r.interval);
    (mean, half.map(|h| ((mean - h).max(0.0), mean + h)))
}

fn loads(readings: &Readings) -> Vec<LoadFigure> {
    let series = readings.series();
    let mut all = Vec::new();
    let route = readings.head().map(|h| h.route.legs.as_slice()).unwrap_or_default();
    for reading in readings.legs() {
        let Some(leg) = route.get(usize::from(reading.leg)).filter(|l| l.kind.is_plain_load()) else {
            continue;
        };
        // A leg that a fill sweep repeats is told against fill, and one at a given rate tells that rate.
        if leg.turn.is_some() || leg.rate.is_some() {
            continue;
        }
        let end = reading.ended.as_ref().map_or(readings.elapsed(), |e| e.0);
        let samples = series.between(Ruler::Elapsed, reading.from.as_secs_f64() + 1e-6, end.as_secs_f64());
        if samples.is_empty() || series.loaded_s(samples.clone()) <= 0.0 {
            continue;
        }
        let (rate, interval) = batch_means(readings, samples);
        let kind = match leg.kind {
            LegKind::Read => LoadKind::Read,
            LegKind::Mixed => LoadKind::Mixed,
            _ => LoadKind::Write,
        };
        all.push(LoadFigure {
            kind,
            pattern: leg.pattern,
            block_bytes: leg.mean_block().get(),
            depth: leg.depth,
            rate,
            interval,
        });
    }
    for step in readings.steps().iter().filter(|s| matches!(s.step.task, crate::record::Task::Rung { .. })) {
        let samples = step.samples(series.len());
        if step.ended.is_none() || series.loaded_s(samples.clone()) <= 0.0 {
            continue;
        }
        let (rate, interval) = batch_means(readings, samples);
        let s = &step.step;
        let (block_bytes, depth) = (s.block.get(), s.depth);
        all.push(LoadFigure { kind: s.load, pattern: s.pattern, block_bytes, depth, rate, interval });
    }
    all
}

/// Half the 95 % interval of the median rate of a level, by the medians of its parts.
fn half_of_median(readings: &Readings, samples: std::ops::Range<usize>) -> Option<f64> {
    if samples.len() < 2 * BATCHES {
        return None;
    }
    let series = readings.series();
    let at = |i: usize| samples.start + samples.len() * i / BATCHES;
    let median = |i: usize| {
        let mut rates: Vec<f64> = (at(i)..at(i + 1)).map(|s| series.rate(s)).collect();
        rates.sort_unstable_by(f64::total_cmp);
        rates[rates.len() / 2]
    };
    Repeated::of(&(0..BATCHES).map(median).collect::<Vec<_>>()).and_then(|r| r.interval)
}

/// Intervals of the burst and of what is sustained, around these figures.
fn rate_intervals(readings: &Readings, conclusions: &Conclusions) -> [Option<(f64, f64)>; 2] {
    let series = readings.series();
    let figures = &conclusions.figures;
    let ends: Vec<&Finding> = conclusions.findings.iter().filter(|f| f.may_be_cache_end()).collect();
    let Some((first, last)) = ends.first().zip(ends.last()) else {
        // Without a cache end both are of the longest stretch of load.
        let stints = readings.stints(conclusions);
        let longest = stints.iter().max_by(|a, b| a.seconds.total_cmp(&b.seconds));
        // What slopes is no noise: each end has its own.
        if figures.slope.is_some()
            && let Some([head, tail]) = longest.and_then(|s| slope_ends(series, &s.samples))
        {
            return [head, tail].map(|part| batch_means(readings, part).1);
        }
        let around = |value: Option<Rate>, half: Option<f64>| {
            let (value, half) = value.map(Rate::get).zip(half)?;
            Some(((value - half).max(0.0), value + half))
        };
        let samples = longest.map_or(0..0, |s| s.samples.clone());
        let heat = conclusions.findings.iter().find(|f| f.kind == FindingKind::Throttle);
        let heat =
            heat.map(|f| series.index_at(f.elapsed)).filter(|i| samples.contains(i) && *i > samples.start);
        let Some(heat) = heat else {
            let half = half_of_median(readings, samples);
            return [around(figures.burst, half), around(figures.sustained, half)];
        };
        // Of a rate that comes and goes the mean.
        let (_, mean) = batch_means(readings, heat..samples.end);
        let half = mean.map(|(low, high)| 0.5 * (high - low));
        return [
            around(figures.burst, half_of_median(readings, samples.start..heat)),
            around(figures.sustained, half),
        ];
    };
    let levels = readings.levels();
    let before = levels.iter().rfind(|l| l.from < first.elapsed && l.to <= first.elapsed);
    let after = levels.iter().find(|l| l.from > last.elapsed);
    let around = |level: Option<&crate::conclude::LevelReading>, value: Option<Rate>| {
        let (level, value) = level.zip(value.map(Rate::get))?;
        let half = half_of_median(readings, series.index_at(level.from)..series.index_at(level.to) + 1)?;
        Some(((value - half).max(0.0), value + half))
    };
    [around(before, figures.burst), around(after, figures.sustained)]
}

/// Whether a haul that goes through several loads has this figure too: over all of them together it would mean nothing.
const fn of_one_load(id: FigureId) -> bool {
    match id {
        FigureId::Burst
        | FigureId::Sustained
        | FigureId::Cache
        | FigureId::Mean
        | FigureId::WorstSecond
        | FigureId::P1
        | FigureId::Variation
        | FigureId::LongestStall
        | FigureId::LongestOperation
        | FigureId::LatencyP50
        | FigureId::LatencyP99
        | FigureId::LatencyP999
        | FigureId::PowerUnderLoad
        | FigureId::HighestPower
        | FigureId::EnergyPerByte
        | FigureId::RatePerWatt => true,
        FigureId::PowerAtRest
        | FigureId::Hottest
        | FigureId::RiseAboveAmbient
        | FigureId::Throttlings
        | FigureId::UntilItThrottles
        | FigureId::Access
        | FigureId::HighestStream
        | FigureId::Misses
        | FigureId::MeanOverTheGround
        | FigureId::SlowStretches
        | FigureId::StartOverEnd
        | FigureId::FreightRate
        | FigureId::FileCost
        | FigureId::FolderCost
        | FigureId::TimeToReturn
        | FigureId::TimeToDurable
        | FigureId::Amplification
        | FigureId::WriteAmplification
        | FigureId::WearPerByte
        | FigureId::LookoutP50
        | FigureId::LookoutP99
        | FigureId::LookoutP999
        | FigureId::LookoutLongest
        | FigureId::LookoutAtRest
        | FigureId::WrongBytes
        | FigureId::Mismatches
        | FigureId::Errors => false,
    }
}

fn figures(readings: &Readings, conclusions: &Conclusions, loads: &[LoadFigure]) -> Vec<Figure> {
    let s = &conclusions.surveys;
    let surveyed = s.ground.is_some() || s.spans.is_some() || s.ladder.is_some() || s.streams.is_some();
    let swept = s.fill.is_some() || s.verify.is_some();
    let one_load = !surveyed && !swept;
    let around = |r: &Repeated, k: f64| r.interval.map(|h| ((r.mean - h) * k, (r.mean + h) * k));
    let [burst, sustained] = if one_load { rate_intervals(readings, conclusions) } else { [None; 2] };
    let interval = |id: FigureId| match id {
        FigureId::Burst => burst,
        FigureId::Sustained => sustained,
        FigureId::Cache => {
            let end = conclusions.findings.iter().find(|f| f.kind == FindingKind::CacheEnd);
            end.map(|c| (c.written_low.as_f64(), c.written_high.as_f64()))
        }
        FigureId::Access => around(&s.spans.as_ref()?.spans.first()?.access_us, 1e-6),
        id => quantile(id, readings)
            .map(|b| (b.from_ns as f64 / 1e9, b.to_ns as f64 / 1e9))
            .or_else(|| measured(id, readings).map(|i| (i.low, i.high)).filter(|i| i.1.is_finite())),
    };
    let of = |id: FigureId| {
        if of_one_load(id) && !one_load {
            return None;
        }
        // Of a haul without samples too: no operation failed.
        let value = match id {
            FigureId::Errors => Some(readings.errors() as f64),
            _ => figure(id, readings, conclusions),
        };
        Some(Figure::of(id, value?, interval(id)))
    };
    let mut all: Vec<Figure> = Vec::new();
    for id in FigureId::all() {
        match id {
            // Levels of fill are told before what was read back, loads before errors.
            FigureId::WrongBytes => {
                for m in s.fill.iter().flat_map(|f| &f.measures) {
                    all.extend(m.levels.iter().map(|l| {
                        let name = format!("{} at {} % full", m.measure, significant(l.fill_percent));
                        Figure::own_rate(name, l.mb_s.mean * 1e6, around(&l.mb_s, 1e6))
                    }));
                }
            }
            FigureId::Errors if surveyed || !swept && loads.len() > 1 => {
                all.extend(loads.iter().map(|l| Figure::own_rate(l.words(), l.rate, l.interval)));
            }
            _ => {}
        }
        all.extend(of(id).filter(|f| f.value.is_finite()));
    }
    merged(all)
}

/// Loads of the same words are repeats within one haul: their mean is the figure, with the interval over them.
fn merged(all: Vec<Figure>) -> Vec<Figure> {
    let mut out: Vec<(Figure, Vec<f64>)> = Vec::new();
    for figure in all {
        match out.iter_mut().find(|(m, _)| m.name == figure.name) {
            None => out.push((figure.clone(), vec![figure.value])),
            Some((_, values)) => values.push(figure.value),
        }
    }
    let join = |(mut figure, values): (Figure, Vec<f64>)| {
        if let Some(r) = Repeated::of(&values).filter(|r| r.repeats > 1) {
            figure.value = r.mean;
            figure.interval = r.interval.map(|h| (r.mean - h, r.mean + h));
        }
        figure
    };
    out.into_iter().map(join).collect()
}

impl LoadFigure {
    /// Operations per second.
    #[must_use]
    pub fn operations_per_s(&self) -> f64 {
        self.rate / (self.block_bytes.max(1)) as f64
    }

    /// `random read 4 KiB × 32`.
    #[must_use]
    pub fn words(&self) -> String {
        let order = match self.pattern {
            Pattern::Sequential => "",
            Pattern::Random => "random ",
            Pattern::Backward => "backward ",
        };
        format!("{order}{} {} × {}", self.kind.word(), Bytes::new(self.block_bytes).binary(), self.depth)
    }
}

impl Digest {
    /// Of a record and what was concluded from it.
    #[must_use]
    pub fn of(readings: &Readings, conclusions: &Conclusions) -> Self {
        let models = Models::of(readings, conclusions);
        let rate = conclusions.figures.hottest_rate();
        let series = readings.series();
        let loads = loads(readings);
        let loaded = series.loaded_s(0..series.len());
        let filled = readings.stints(conclusions).iter().filter_map(|s| s.fill).reduce(f64::max);
        let levels = conclusions.surveys.fill.iter().flat_map(|f| &f.measures).flat_map(|m| &m.levels);
        let last = readings.last().and_then(|s| s.fill_ppm).map(|f| f64::from(f) / 1e6);
        let filled = levels.map(|l| l.fill_percent / 100.0).chain(filled).chain(last).reduce(f64::max);
        let route = readings.head().map(|h| h.route.legs.as_slice()).unwrap_or_default();
        let wiped = readings.legs().iter().any(|r| {
            let leg = route.get(usize::from(r.leg));
            leg.is_some_and(|l| l.kind == LegKind::Wipe) && r.ended.is_some()
        });
        let slow = conclusions.findings.iter().filter(|f| f.kind == FindingKind::SlowZone).filter_map(|f| {
            Some(SlowStretch {
                position_bytes: f.position?.get(),
                position_end_bytes: f.position_end?.get(),
                share: f.after.zip(f.before).map(|(a, b)| a.get() / b.get()),
            })
        });
        Self {
            version: VERSION,
            figures: figures(readings, conclusions, &loads),
            paced: route.iter().any(|l| l.rate.is_some() || l.kind == LegKind::Pace),
            findings: conclusions
                .findings
                .iter()
                .map(|f| Finding { evidence: Vec::new(), ..f.clone() })
                .collect(),
            cache_model: models.cache,
            heat_model: match &models.heat {
                Told::Known(m) => Told::Known(HeatDigest::of(m, rate)),
                Told::CannotTell(r) => Told::CannotTell(r.clone()),
            },
            slow: slow.collect(),
            treatment: Treatment {
                written_bytes: readings.written().get(),
                read_bytes: readings.read().get(),
                rested_s: (readings.elapsed().as_secs_f64() - loaded).max(0.0),
                filled,
                wiped,
                errors: readings.errors(),
                cut_legs: conclusions.cut_legs.clone(),
            },
            loads,
            legs: profile::legs(readings),
        }
    }

    /// How the cache is built and comes back, in sentences.
    #[must_use]
    pub fn cache_words(&self) -> Vec<String> {
        match &self.cache_model {
            Told::Known(m) => m.sentences(),
            Told::CannotTell(r) => vec![r.words()],
        }
    }

    /// How warm it gets at the haul's highest rate, in sentences.
    #[must_use]
    pub fn heat_words(&self) -> Vec<String> {
        match &self.heat_model {
            Told::Known(h) => h.model().sentences(Rate::from_mb_s(h.at_mb_s), None),
            Told::CannotTell(r) => vec![r.words()],
        }
    }

    /// What an earlier version of the program kept of a record of which less is left now, with the rest made from what is left.
    #[must_use]
    pub fn completing(self, earlier: Self) -> Self {
        let (cache_model, heat_model) = (self.cache_model, self.heat_model);
        let treatment = Treatment { cut_legs: self.treatment.cut_legs, ..earlier.treatment.clone() };
        Self { version: self.version, cache_model, heat_model, treatment, ..earlier }
    }

    /// A figure of the table.
    #[must_use]
    pub fn figure(&self, id: FigureId) -> Option<&Figure> {
        self.figures.iter().find(|f| f.name == FigureKey::Of(id))
    }
}

#[cfg(test)]
#[path = "digest_tests.rs"]
mod tests;
