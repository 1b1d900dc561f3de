//! A batch: the drives of one model, firmware, lot or purchase taken together. Each figure over drives, hauls within a drive told apart
//! from drives within the batch; what may be promised of all such drives; which of them are not like the others; what firmware, slot,
//! lot and time do.
//!
//! Only hauls by the same route with the same legs are laid together: a figure of another load is another figure.

mod effects;
mod layers;
pub mod plan;
mod shape;
#[cfg(test)]
mod tests;
pub mod tolerance;

use serde::Serialize;

pub use effects::{Drift, Effect};
pub use layers::Point;
pub use plan::{Aim, Plan};
pub use shape::Shape;
pub use tolerance::Level;

use crate::archive::contrast::{Subject, holm, letter};
use crate::archive::digest::Figure;
use crate::quantity::stats::Interval;
use crate::quantity::{Better, FigureId, FigureKey, Quantity};
use crate::record::HaulState;
use layers::OfDrive;

/// The chance that a drive of a batch without odd ones is called odd, over all its figures; and of any effect where there is none.
pub const LEVEL: f64 = 0.05;
/// Figures that one moment of a haul makes: they tell of that haul, and a drive is not called odd for them.
const OF_A_MOMENT: [FigureId; 5] = [
    FigureId::WorstSecond,
    FigureId::P1,
    FigureId::Variation,
    FigureId::LongestStall,
    FigureId::LongestOperation,
];
/// Odd drives looked for in a batch, at most.
const MOST_ODD: usize = 10;

/// A drive of the batch.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BatchDrive {
    /// Serial number, or what names it where it has none.
    pub serial: String,
    /// Model.
    pub model: String,
    /// Its hauls, the oldest first.
    pub hauls: Vec<String>,
    /// What is stated of it: firmware, slot, tags; of several hauls the latest.
    pub facts: Vec<(String, String)>,
    /// When it was first measured, milliseconds since 1970-01-01 UTC.
    pub first_unix_ms: i64,
}

/// By what a bound is known.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Method {
    /// A normal distribution of what one haul of a drive shows.
    Normal {
        /// The bound is so many deviations from the mean.
        factor: f64,
    },
    /// A normal distribution of what drives truly are: repeats of drives tell their scatter, which is taken away.
    NormalRepeats,
    /// The worst of what each level of something promises that makes a difference, each with so much more confidence that all hold
    /// together.
    Levels,
    /// The so-many-th worst drive, nothing assumed.
    Order {
        /// Counted from the worst, 1.
        rank: usize,
    },
}

/// What may be promised of all such drives.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Promise {
    /// The bound: at least so much where more is better, at most so much where less is.
    pub bound: f64,
    /// How it is known.
    #[serde(flatten)]
    pub method: Method,
    /// The confidence that it truly has.
    pub confidence: f64,
}

/// Why nothing is promised.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[serde(tag = "why", rename_all = "kebab-case")]
pub enum NoPromise {
    /// One drive is no batch.
    OneDrive,
    /// Not normal, and too few without a distribution.
    TooFewWithoutShape {
        /// Drives that there are.
        drives: usize,
        /// Drives that it takes.
        needed: usize,
        /// The share of all drives that the worst of these bounds with the same confidence, 0 to 1.
        content: f64,
        /// The worst.
        worst: f64,
    },
}

/// One of the two stands in the place of the other: a bound, or why there is none.
fn either<S: serde::Serializer>(told: &Result<Promise, NoPromise>, s: S) -> Result<S::Ok, S::Error> {
    match told {
        Ok(promise) => promise.serialize(s),
        Err(why) => why.serialize(s),
    }
}

fn either_or_none<S: serde::Serializer>(
    told: &Option<Result<Promise, NoPromise>>,
    s: S,
) -> Result<S::Ok, S::Error> {
    match told {
        Some(told) => either(told, s),
        None => s.serialize_none(),
    }
}

/// What was asked to be promised.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Wanted {
    /// Of which figure.
    pub figure: FigureKey,
    /// The value to be kept, in the figure's unit.
    pub value: f64,
}

fn wanted_as_one<S: serde::Serializer>(told: &Option<(Wanted, Verdict)>, s: S) -> Result<S::Ok, S::Error> {
    #[derive(Serialize)]
    struct One<'a> {
        #[serde(flatten)]
        wanted: &'a Wanted,
        #[serde(flatten)]
        verdict: &'a Verdict,
    }
    told.as_ref().map(|(wanted, verdict)| One { wanted, verdict }).serialize(s)
}

/// How a wanted promise stands.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[serde(tag = "stands", rename_all = "kebab-case")]
pub enum Verdict {
    /// The bound keeps it.
    Kept,
    /// More drives would be needed.
    More {
        /// In all, were the others like these.
        drives: usize,
    },
    /// No number of drives would do: too many are beyond it.
    Never,
    /// Nothing is known of the figure.
    NotMeasured,
}

/// The drives of one level of something that makes a difference to a figure.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct OfLevel {
    /// The level: `1.4.0`.
    pub level: String,
    /// Drives.
    pub drives: usize,
    /// Mean over them.
    pub centre: f64,
    /// What may be promised of such drives.
    #[serde(serialize_with = "either")]
    pub promise: Result<Promise, NoPromise>,
}

/// A figure's drives told apart by what makes the largest difference to it.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Split {
    /// By what: `firmware`.
    pub thing: String,
    /// Each level, by name.
    pub levels: Vec<OfLevel>,
}

/// A figure over the batch.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct BatchRow {
    /// Which.
    pub name: FigureKey,
    /// What it is a number of.
    pub unit: Quantity,
    /// Which way is well.
    pub better: Better,
    /// A point a drive, in the order of the drives.
    pub points: Vec<Point>,
    /// Mean over drives with its 95 % interval; the interval is the value alone of one drive.
    pub centre: Interval,
    /// Standard deviation between drives, repeats' scatter taken away where drives have repeats.
    pub between: Option<Interval>,
    /// Standard deviation of hauls of one drive; `None` where no drive has repeats.
    pub within: Option<f64>,
    /// Shape of the drives' values.
    pub shape: Shape,
    /// What may be promised of all such drives.
    #[serde(serialize_with = "either")]
    pub promise: Result<Promise, NoPromise>,
    /// The same without the odd ones; `None` where there are none.
    #[serde(serialize_with = "either_or_none")]
    pub without_odd: Option<Result<Promise, NoPromise>>,
    /// Told apart by what makes the largest difference, where anything does.
    pub split: Option<Split>,
}

/// By how much a drive is odd in a figure.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct OddIn {
    /// Index of the figure.
    pub row: usize,
    /// Its value.
    pub value: f64,
    /// Deviations from the centre of the others.
    pub deviations: f64,
}

/// A drive that is not like the others.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Odd {
    /// `A`, `B`, …
    pub letter: String,
    /// Index of the drive.
    pub drive: usize,
    /// Where it is odd, the oddest figure first.
    pub figures: Vec<OddIn>,
    /// What is stated of it and of at most a tenth of the others: (what, its, that of most).
    pub unlike: Vec<(String, String, String)>,
}

/// Hauls that were left out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct LeftOut {
    /// By another route, or with other legs.
    pub other_route: usize,
    /// Not come to their end.
    pub unfinished: usize,
    /// The same to the last digit as another of the same drive.
    pub copies: usize,
    /// Of another model, or another capacity.
    pub other_model: usize,
}

/// What a batch says.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Batch {
    /// Model of its drives.
    pub model: String,
    /// Route of its hauls.
    pub route: String,
    /// Content and confidence of what is promised.
    pub level: Level,
    /// Its drives, by serial.
    pub drives: Vec<BatchDrive>,
    /// Hauls that count.
    pub hauls: usize,
    /// Hauls that do not.
    pub left_out: LeftOut,
    /// A row a figure, in the order in which hauls tell them.
    pub rows: Vec<BatchRow>,
    /// Drives that are not like the others, the oddest first.
    pub odd: Vec<Odd>,
    /// Beyond the noise after Holm's correction, the surest first.
    pub effects: Vec<Effect>,
    /// Likewise.
    pub drifts: Vec<Drift>,
    /// How the promise that was asked for stands.
    #[serde(serialize_with = "wanted_as_one")]
    pub wanted: Option<(Wanted, Verdict)>,
    /// A plan for further deliveries against that promise.
    pub plan: Option<Plan>,
}

/// Why there is no batch.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BatchError {
    /// No haul counts.
    #[error("no haul of these has come to its end: a batch is made of hauls that are done")]
    NoHaul,
    /// Drives without a figure in common.
    #[error(
        "these {0} drives share no figure: a batch needs hauls by one route; `hollow-mile ledger` lists them"
    )]
    NothingShared(usize),
}

/// What is asked of a batch.
#[derive(Debug, Clone, Default)]
pub struct Question {
    /// Content and confidence.
    pub level: Level,
    /// A promise that shall be kept.
    pub wanted: Option<Wanted>,
    /// What a plan for further deliveries shall do.
    pub aim: Aim,
}

/// Firmware, slot, cooling and tags of a haul; what the program ties hauls together with is left out.
fn facts(s: &Subject) -> Vec<(String, String)> {
    let conditions = &s.head.conditions;
    let mut all: Vec<(String, String)> = [
        ("firmware", Some(s.head.drive.firmware.clone())),
        ("slot", conditions.slot.clone()),
        ("cooling", conditions.cooling.clone()),
    ]
    .into_iter()
    .filter_map(|(name, value)| Some((name.to_owned(), value.filter(|v| !v.is_empty())?)))
    .collect();
    all.extend(
        s.tags.iter().filter(|(k, _)| !matches!(k.as_str(), "continues" | "again" | "decides")).cloned(),
    );
    all.sort();
    all
}

fn serial(s: &Subject) -> &str {
    if s.head.drive.serial.is_empty() { &s.head.drive.target } else { &s.head.drive.serial }
}

/// What most of them have; of equals the first.
fn commonest<K: Ord + Clone>(keys: impl Iterator<Item = K>) -> Option<K> {
    let mut counts: std::collections::BTreeMap<K, usize> = std::collections::BTreeMap::new();
    keys.for_each(|k| *counts.entry(k).or_default() += 1);
    let most = counts.values().copied().max()?;
    counts.into_iter().find(|c| c.1 == most).map(|c| c.0)
}

/// Keeps the hauls of the class that most drives are in, of equals that of the oldest haul; gives how many were left out.
fn keep_commonest(hauls: &mut Vec<&Subject>, same: impl Fn(&Subject, &Subject) -> bool) -> usize {
    let mut classes: Vec<(&Subject, std::collections::BTreeSet<&str>)> = Vec::new();
    for s in hauls.iter() {
        match classes.iter_mut().find(|(first, _)| same(first, s)) {
            Some((_, drives)) => _ = drives.insert(serial(s)),
            None => classes.push((s, std::iter::once(serial(s)).collect())),
        }
    }
    let before = hauls.len();
    let most = classes.iter().map(|c| c.1.len()).max();
    if let Some((first, _)) = classes.into_iter().find(|c| Some(c.1.len()) == most) {
        hauls.retain(|s| same(first, s));
    }
    before - hauls.len()
}

/// The hauls that count: done, of the commonest model and size, by the commonest route, no copies.
fn counted(subjects: &[Subject]) -> (Vec<&Subject>, LeftOut) {
    let mut hauls: Vec<&Subject> = subjects.iter().filter(|s| s.state == HaulState::Done).collect();
    let unfinished = subjects.len() - hauls.len();
    // The order in which they are given does not matter.
    hauls.sort_by(|a, b| (a.head.started_unix_ms, &a.head.haul).cmp(&(b.head.started_unix_ms, &b.head.haul)));
    let other_model = keep_commonest(&mut hauls, |a, b| {
        a.head.drive.model == b.head.drive.model && a.head.drive.capacity == b.head.drive.capacity
    });
    let other_route = keep_commonest(&mut hauls, |a, b| {
        a.head.route.name == b.head.route.name && a.head.route.legs == b.head.route.legs
    });
    let before = hauls.len();
    let mut of_drive: std::collections::BTreeMap<&str, Vec<&Subject>> = std::collections::BTreeMap::new();
    hauls.retain(|s| {
        let own = of_drive.entry(serial(s)).or_default();
        let copy = own.iter().any(|o| o.digest.figures == s.digest.figures && !s.digest.figures.is_empty());
        own.push(s);
        !copy
    });
    let copies = before - hauls.len();
    (hauls, LeftOut { other_route, unfinished, copies, other_model })
}

/// Values whose larger ones are the better ones, and back: what is better low is turned over.
const fn turn(better: Better) -> f64 {
    match better {
        Better::Higher => 1.0,
        Better::Lower => -1.0,
    }
}

/// What may be promised by these drives.
fn promise(
    drives: &[OfDrive],
    better: Better,
    shape: Shape,
    step: f64,
    level: Level,
) -> Result<Promise, NoPromise> {
    let Some(layers) = layers::layers(drives) else { return Err(NoPromise::OneDrive) };
    let sign = turn(better);
    let mut turned: Vec<f64> =
        drives.iter().map(|d| sign * d.values.iter().sum::<f64>() / d.values.len() as f64).collect();
    turned.sort_by(f64::total_cmp);
    // What is read in steps may be off by half of one.
    let promise = |bound: f64, method, confidence| Promise {
        bound: sign * bound - sign * step / 2.0,
        method,
        confidence,
    };
    // Values that are all the same have no distribution to go by either.
    if shape == Shape::NotNormal || layers.variance_of_means <= 0.0 {
        return match tolerance::order_statistic(drives.len(), level) {
            Some((rank, confidence)) => Ok(promise(turned[rank - 1], Method::Order { rank }, confidence)),
            None => Err(NoPromise::TooFewWithoutShape {
                drives: drives.len(),
                needed: tolerance::values_without_distribution(level),
                content: tolerance::content_of_worst(drives.len(), level.confidence),
                worst: sign * turned[0],
            }),
        };
    }
    if layers.within_freedom > 0
        && let Some(limits) = tolerance::by_repeats(&layers, level)
    {
        let bound = if sign > 0.0 { limits.low } else { -limits.high };
        return Ok(promise(bound, Method::NormalRepeats, level.confidence));
    }
    let factor = tolerance::one_sided_factor(drives.len(), level);
    let bound = sign * layers.mean - factor * layers.variance_of_means.sqrt();
    Ok(promise(bound, Method::Normal { factor }, level.confidence))
}

/// A figure's hauls, by drive.
struct Gathered<'a> {
    figure: &'a Figure,
    step: f64,
    drives: Vec<OfDrive>,
    hauls: Vec<(usize, f64, usize)>,
}

fn gather<'a>(figure: &'a Figure, hauls: &[&Subject], of: &[usize]) -> Gathered<'a> {
    let mut drives: Vec<OfDrive> = Vec::new();
    let mut all = Vec::new();
    for (i, (s, drive)) in hauls.iter().zip(of).enumerate() {
        let Some(found) = s.digest.figures.iter().find(|f| f.name == figure.name) else { continue };
        if !found.value.is_finite() {
            continue;
        }
        all.push((*drive, found.value, i));
        match drives.iter_mut().find(|d| d.drive == *drive) {
            Some(d) => {
                d.values.push(found.value);
                d.own = None;
            }
            None => drives.push(OfDrive { drive: *drive, values: vec![found.value], own: found.interval }),
        }
    }
    drives.sort_by_key(|d| d.drive);
    let largest = all.iter().map(|h| h.1.abs()).fold(0.0, f64::max);
    let step = match &figure.name {
        FigureKey::Of(id) => id.step(largest),
        FigureKey::Own(_) => figure.quantity.step(),
    };
    Gathered { figure, step, drives, hauls: all }
}

/// Levels of a thing that makes a difference: its name, and for each level its name and the places of its drives in the figure's list.
type Levels = (String, Vec<(String, Vec<usize>)>);

impl Gathered<'_> {
    fn deviations(&self) -> Vec<f64> {
        layers::layers(&self.drives).map_or_else(Vec::new, |l| layers::deviations(&self.drives, &l))
    }

    /// Drives by the levels of what makes the largest difference; `None` where nothing does, or a level has too few.
    fn levels(&self, row: usize, effects: &[Effect], drives: &[BatchDrive]) -> Option<Levels> {
        let own = effects.iter().filter(|e| e.row == row && !e.paired);
        let thing = own.min_by(|a, b| a.p.total_cmp(&b.p)).map(|e| e.thing.clone())?;
        let mut levels: Vec<(String, Vec<usize>)> = Vec::new();
        for (place, d) in self.drives.iter().enumerate() {
            let level = &drives[d.drive].facts.iter().find(|f| f.0 == thing)?.1;
            match levels.iter_mut().find(|l| l.0 == *level) {
                Some((_, places)) => places.push(place),
                None => levels.push((level.clone(), vec![place])),
            }
        }
        levels.sort();
        (levels.len() > 1 && levels.iter().all(|l| l.1.len() >= shape::LEAST)).then_some((thing, levels))
    }

    /// The drives with what the levels make of the difference taken off.
    fn without_levels(&self, levels: Option<&Levels>) -> Vec<OfDrive> {
        let mut drives = self.drives.clone();
        for (_, places) in levels.iter().flat_map(|l| &l.1) {
            let mean_of =
                |p: &usize| self.drives[*p].values.iter().sum::<f64>() / self.drives[*p].values.len() as f64;
            let mean = places.iter().map(mean_of).sum::<f64>() / places.len() as f64;
            places.iter().for_each(|p| drives[*p].values.iter_mut().for_each(|v| *v -= mean));
        }
        drives
    }

    /// What may be promised of all: by one distribution, or else by one for each level.
    fn promised(
        &self,
        drives: &[OfDrive],
        split: Option<&Split>,
        level: Level,
    ) -> Result<Promise, NoPromise> {
        let better = self.figure.better;
        let deviations = layers::layers(drives).map_or_else(Vec::new, |l| layers::deviations(drives, &l));
        let shape = shape::shape(&deviations, self.step_in_deviations());
        let all = promise(drives, better, shape, self.step, level);
        let Some(split) = split.filter(|_| shape == Shape::NotNormal) else { return all };
        let each: Option<Vec<f64>> = split.levels.iter().map(|l| Some(l.promise.ok()?.bound)).collect();
        let worst =
            each.and_then(|e| e.into_iter().min_by(|a, b| (turn(better) * a).total_cmp(&(turn(better) * b))));
        match worst {
            Some(bound) => Ok(Promise { bound, method: Method::Levels, confidence: level.confidence }),
            None => all,
        }
    }

    fn split(&self, levels: &Levels, odd: &[usize], level: Level) -> Split {
        // All of them hold together as surely as one was asked to.
        let confidence = 1.0 - (1.0 - level.confidence) / levels.1.len() as f64;
        let of_level = |(name, places): &(String, Vec<usize>)| {
            let drives: Vec<OfDrive> =
                places.iter().map(|p| self.drives[*p].clone()).filter(|d| !odd.contains(&d.drive)).collect();
            let made = layers::layers(&drives);
            let deviations = made.map_or_else(Vec::new, |l| layers::deviations(&drives, &l));
            let shape = shape::shape(&deviations, self.step_in_deviations());
            OfLevel {
                level: name.clone(),
                drives: places.len(),
                centre: made.map_or(f64::NAN, |l| l.mean),
                promise: promise(
                    &drives,
                    self.figure.better,
                    shape,
                    self.step,
                    Level { confidence, ..level },
                ),
            }
        };
        Split { thing: levels.0.clone(), levels: levels.1.iter().map(of_level).collect() }
    }

    /// The row, the odd drives given.
    fn row(&self, levels: Option<&Levels>, odd: &[usize], level: Level) -> BatchRow {
        let (name, better) = (self.figure.name.clone(), self.figure.better);
        let layers = layers::layers(&self.drives);
        let points = layers::points(&self.drives, layers.as_ref());
        let shape = shape::shape(&self.deviations(), self.step_in_deviations());
        let centre = layers.map_or_else(
            || Interval::around(points.first().map_or(f64::NAN, |p| p.value), 0.0),
            |l| Interval::around(l.mean, l.half_of_mean().max(self.step / 2.0)),
        );
        let between = layers.map(|l| {
            let by = (l.within_freedom > 0).then(|| tolerance::by_repeats(&l, level)).flatten();
            let value = l.between();
            let (low, high) = by.map_or((f64::NAN, f64::NAN), |b| b.between);
            if low.is_finite() { Interval { value, low, high } } else { chi_interval(value, l.drives) }
        });
        let split = |odd: &[usize]| levels.map(|l| self.split(l, odd, level));
        let of_all = split(&[]);
        let others: Vec<OfDrive> = self.drives.iter().filter(|d| !odd.contains(&d.drive)).cloned().collect();
        let without_odd =
            (others.len() < self.drives.len()).then(|| self.promised(&others, split(odd).as_ref(), level));
        BatchRow {
            name,
            unit: self.figure.quantity,
            better,
            points,
            centre,
            between,
            within: layers.filter(|l| l.within_freedom > 0).map(|l| l.within.sqrt()),
            shape,
            promise: self.promised(&self.drives, of_all.as_ref(), level),
            without_odd,
            split: of_all,
        }
    }

    fn step_in_deviations(&self) -> f64 {
        let deviation = layers::layers(&self.drives).map_or(0.0, |l| l.variance_of_means.sqrt());
        if deviation > 0.0 { self.step / deviation } else { f64::INFINITY }
    }
}

/// 95 % interval of a deviation by chi-squared.
fn chi_interval(deviation: f64, n: usize) -> Interval {
    use statrs::distribution::{ChiSquared, ContinuousCDF};
    let freedom = n as f64 - 1.0;
    let Ok(chi) = ChiSquared::new(freedom) else { return Interval::around(deviation, 0.0) };
    let at = |p: f64| deviation * (freedom / chi.inverse_cdf(p)).sqrt();
    Interval { value: deviation, low: at(0.975), high: at(0.025) }
}

/// Odd drives of all figures: (drive, figure, deviations from the others). What firmware and the like make is taken off first.
fn odd_drives(all: &[Gathered<'_>], levels: &[Option<Levels>]) -> Vec<(usize, OddIn)> {
    let of_a_moment = |g: &Gathered<'_>| OF_A_MOMENT.iter().any(|id| g.figure.name == FigureKey::Of(*id));
    let is_tested =
        |g: &Gathered<'_>| g.drives.len() >= shape::LEAST && g.step_in_deviations() < 2.0 && !of_a_moment(g);
    let tested: Vec<bool> = all.iter().map(is_tested).collect();
    let asked = tested.iter().filter(|t| **t).count().max(1);
    let mut found = Vec::new();
    for (row, g) in all.iter().enumerate().filter(|(row, _)| tested[*row]) {
        let drives = g.without_levels(levels[row].as_ref());
        let Some(of_all) = layers::layers(&drives) else { continue };
        let deviations = layers::deviations(&drives, &of_all);
        let most = MOST_ODD.min(drives.len() / 5).max(1);
        let odd = shape::odd_ones(&deviations, most, LEVEL / asked as f64);
        let others: Vec<OfDrive> =
            (0..drives.len()).filter(|i| !odd.contains(i)).map(|i| drives[i].clone()).collect();
        let Some(layers) = layers::layers(&others) else { continue };
        // Tails that are long by nature make many "odd" ones: what the others look like decides whether they may be called so.
        let rest = layers::deviations(&others, &layers);
        let steps = g.step_in_deviations() > 0.5;
        if !steps && shape::normality_p(&rest).is_some_and(|p| p < 0.01) {
            continue;
        }
        let apart = layers::deviations(&odd.iter().map(|i| drives[*i].clone()).collect::<Vec<_>>(), &layers);
        for (i, deviations) in odd.into_iter().zip(apart) {
            let d = &g.drives[i];
            let value = d.values.iter().sum::<f64>() / d.values.len() as f64;
            found.push((d.drive, OddIn { row, value, deviations }));
        }
    }
    found
}

/// What is stated of a drive and of at most a tenth of the others.
fn unlike(drive: usize, drives: &[BatchDrive]) -> Vec<(String, String, String)> {
    let own = &drives[drive];
    let value_of = |d: &BatchDrive, thing: &str| d.facts.iter().find(|f| f.0 == thing).map(|f| f.1.clone());
    own.facts
        .iter()
        .filter_map(|(thing, value)| {
            let others: Vec<String> = drives.iter().filter_map(|d| value_of(d, thing)).collect();
            let alike = others.iter().filter(|v| *v == value).count();
            let most = commonest(others.iter().cloned())?;
            let share = others.iter().filter(|v| **v == most).count();
            (alike * 10 <= others.len() && share * 2 > others.len() && most != *value)
                .then(|| (thing.clone(), value.clone(), most))
        })
        .collect()
}

impl Batch {
    /// Takes hauls together.
    ///
    /// # Errors
    /// When none counts, or their drives share no figure.
    pub fn of(subjects: &[Subject], question: &Question) -> Result<Self, BatchError> {
        let (hauls, left_out) = counted(subjects);
        let first = hauls.first().ok_or(BatchError::NoHaul)?;
        let (model, route) = (first.head.drive.model.clone(), first.head.route.name.clone());
        let mut drives: Vec<BatchDrive> = Vec::new();
        let mut serials: Vec<&str> = hauls.iter().map(|s| serial(s)).collect();
        serials.sort_unstable();
        serials.dedup();
        let of: Vec<usize> = hauls.iter().map(|s| serials.binary_search(&serial(s)).unwrap_or(0)).collect();
        let stated: Vec<Vec<(String, String)>> = hauls.iter().map(|s| facts(s)).collect();
        for (i, name) in serials.iter().enumerate() {
            let own: Vec<usize> = (0..hauls.len()).filter(|h| of[*h] == i).collect();
            drives.push(BatchDrive {
                serial: (*name).to_owned(),
                model: model.clone(),
                hauls: own.iter().map(|h| hauls[*h].head.haul.clone()).collect(),
                facts: own.last().map(|h| stated[*h].clone()).unwrap_or_default(),
                first_unix_ms: own.first().map_or(0, |h| hauls[*h].head.started_unix_ms),
            });
        }
        // Figures in the order of the haul that has most; a figure that one drive alone has is none of the batch.
        let mut names: Vec<&Figure> = Vec::new();
        let mut lists: Vec<&Vec<Figure>> = hauls.iter().map(|s| &s.digest.figures).collect();
        lists.sort_by_key(|l| std::cmp::Reverse(l.len()));
        for figure in lists.into_iter().flatten() {
            if names.iter().all(|n| n.name != figure.name) {
                names.push(figure);
            }
        }
        let all: Vec<Gathered<'_>> = names
            .into_iter()
            .map(|f| gather(f, &hauls, &of))
            .filter(|g| g.drives.len() >= 2.min(drives.len()))
            .collect();
        if all.is_empty() {
            return Err(BatchError::NothingShared(drives.len()));
        }
        let (effects, drifts) = effects_and_drifts(&all, &stated, &drives);
        let levels: Vec<Option<Levels>> =
            all.iter().enumerate().map(|(row, g)| g.levels(row, &effects, &drives)).collect();
        let odd_in = odd_drives(&all, &levels);
        let odd_indices: Vec<usize> = odd_in.iter().map(|o| o.0).collect();
        let rows: Vec<BatchRow> = all
            .iter()
            .zip(&levels)
            .map(|(g, levels)| g.row(levels.as_ref(), &odd_indices, question.level))
            .collect();
        let mut batch = Self {
            odd: odd(&odd_in, &drives),
            model,
            route,
            level: question.level,
            hauls: hauls.len(),
            drives,
            left_out,
            rows,
            effects,
            drifts,
            wanted: None,
            plan: None,
        };
        if let Some(wanted) = &question.wanted {
            let verdict = batch.verdict(wanted, question.level);
            batch.plan = Plan::of(question.aim).filter(|_| verdict != Verdict::NotMeasured);
            batch.wanted = Some((wanted.clone(), verdict));
        }
        Ok(batch)
    }

    fn verdict(&self, wanted: &Wanted, level: Level) -> Verdict {
        let Some(row) = self.rows.iter().find(|r| r.name == wanted.figure) else {
            return Verdict::NotMeasured;
        };
        let sign = turn(row.better);
        if let Ok(promise) = &row.promise
            && sign * promise.bound >= sign * wanted.value
        {
            return Verdict::Kept;
        }
        let values: Vec<f64> = row.points.iter().map(|p| sign * p.value).collect();
        if row.shape == Shape::NotNormal {
            // Nothing assumed: as many drives as it takes until the worst that may be passed over are more than those beyond it.
            let beyond =
                values.iter().filter(|v| **v < sign * wanted.value).count() as f64 / values.len() as f64;
            let mut drives = tolerance::values_without_distribution(level).max(values.len() + 1);
            while drives < tolerance::MOST {
                let keeps = |(rank, _): (usize, f64)| rank as f64 > (beyond * drives as f64).ceil();
                if tolerance::order_statistic(drives, level).is_some_and(keeps) {
                    return Verdict::More { drives };
                }
                drives += drives / 20;
            }
            return Verdict::Never;
        }
        let deviation = row.between.map_or(0.0, |b| b.value);
        if values.len() < 2 || deviation <= 0.0 {
            return if values.len() < 2 { Verdict::NotMeasured } else { Verdict::Never };
        }
        let margin = (sign * row.centre.value - sign * wanted.value) / deviation;
        match tolerance::values_for_factor(margin, level) {
            Some(drives) if drives > values.len() => Verdict::More { drives },
            // The repeats' scatter, or steps of the scale, stand in the way; one more is the least that could help.
            Some(_) => Verdict::More { drives: values.len() + 1 },
            None => Verdict::Never,
        }
    }
}

fn odd(found: &[(usize, OddIn)], drives: &[BatchDrive]) -> Vec<Odd> {
    let mut all: Vec<Odd> = Vec::new();
    for (drive, figure) in found {
        match all.iter_mut().find(|o| o.drive == *drive) {
            Some(o) => o.figures.push(*figure),
            None => all.push(Odd {
                letter: String::new(),
                drive: *drive,
                figures: vec![*figure],
                unlike: unlike(*drive, drives),
            }),
        }
    }
    let worst = |o: &Odd| o.figures.iter().map(|f| f.deviations.abs()).fold(0.0, f64::max);
    for o in &mut all {
        o.figures.sort_by(|a, b| b.deviations.abs().total_cmp(&a.deviations.abs()));
    }
    all.sort_by(|a, b| worst(b).total_cmp(&worst(a)));
    all.iter_mut().enumerate().for_each(|(i, o)| o.letter = letter(i));
    all
}

/// What is beyond the noise after one correction over all that was asked.
fn effects_and_drifts(
    all: &[Gathered<'_>],
    stated: &[Vec<(String, String)>],
    drives: &[BatchDrive],
) -> (Vec<Effect>, Vec<Drift>) {
    let first = drives.iter().map(|d| d.first_unix_ms).min().unwrap_or(0);
    let days: Vec<f64> = drives.iter().map(|d| (d.first_unix_ms - first) as f64 / 86_400_000.0).collect();
    let (mut effects, mut drifts) = (Vec::new(), Vec::new());
    for (row, g) in all.iter().enumerate() {
        let hauls: Vec<effects::Stated<'_>> = g
            .hauls
            .iter()
            .map(|(drive, value, haul)| effects::Stated {
                drive: *drive,
                value: *value,
                facts: &stated[*haul],
            })
            .collect();
        effects.extend(effects::effects(row, &hauls, g.step));
        drifts.extend(effects::drift(row, &g.drives, &days));
    }
    let ps: Vec<f64> = effects.iter().map(|e| e.p).chain(drifts.iter().map(|d| d.p)).collect();
    let corrected = holm(&ps);
    let (of_effects, of_drifts) = corrected.split_at(effects.len());
    effects.iter_mut().zip(of_effects).for_each(|(e, p)| e.p_holm = *p);
    drifts.iter_mut().zip(of_drifts).for_each(|(d, p)| d.p_holm = *p);
    effects.retain(|e| e.p_holm < LEVEL);
    drifts.retain(|d| d.p_holm < LEVEL);
    effects.sort_by(|a, b| a.p.total_cmp(&b.p));
    drifts.sort_by(|a, b| a.p.total_cmp(&b.p));
    (effects, drifts)
}
