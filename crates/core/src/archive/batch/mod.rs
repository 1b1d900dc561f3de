//! A batch: the drives of one model, firmware, lot or purchase taken together. Each figure over drives, hauls within a drive told apart
//! from drives within the batch; what may be promised of all such drives; which of them are not like the others; what firmware, slot,
//! lot and time do.
//!
//! Only hauls by the same route with the same legs are laid together: a figure of another load is another figure.

mod effects;
mod figures;
mod hauls;
mod layers;
pub mod plan;
mod shape;
pub mod sisters;
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
use figures::{Gathered, Levels, gather, odd_drives};
use hauls::{commonest, counted, facts, serial};

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
    /// Not normal, or all the same, and too few without a distribution.
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

/// Values whose larger ones are the better ones, and back: what is better low is turned over.
const fn turn(better: Better) -> f64 {
    match better {
        Better::Higher => 1.0,
        Better::Lower => -1.0,
    }
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
        if !row.shape.is_taken_as_normal() {
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
