//! Contrast: two or more hauls, or groups of repeats, side by side. Which figures differ by more than the noise, which
//! findings match, what was different about the conditions, and the curves laid over each other.
//!
//! The first side is the one that the others are compared with. A difference is called one only when repeats show it:
//! Welch's test of the means, with each haul's own interval and the sensors' steps as a floor. One figure is asked for first and is not
//! corrected; the others are, after Holm. With a single haul on a side, or copies of one record, nothing is called a difference, and
//! that is said. What is the same to within a margin is said too (two one-sided tests).

mod conditions;
mod matched;
pub mod overlay;
pub mod stats;
#[cfg(test)]
mod tests;
mod words;

use crate::quantity::text::named;
use serde::Serialize;

use crate::archive::digest::{Digest, Figure};
use crate::quantity::stats::Repeated;
use crate::quantity::units::Celsius;
use crate::quantity::{Better, FigureId, FigureKey, Quantity};
use crate::record::{HaulHead, HaulState};
use stats::{Sample, compare};

pub use conditions::{Differs, Group};
pub use matched::{Matched, Place};
pub use stats::{Difference, holm};

/// Below this a difference counts as one, after Holm's correction.
pub const LEVEL: f64 = 0.05;

/// The figure that is asked for first: the first of these that both sides have with repeats.
pub const PRIMARY: [FigureId; 6] = [
    FigureId::Sustained,
    FigureId::HighestStream,
    FigureId::MeanOverTheGround,
    FigureId::Access,
    FigureId::Mean,
    FigureId::Hottest,
];

/// A haul that is compared.
#[derive(Debug, Clone)]
pub struct Subject {
    /// Its head.
    pub head: HaulHead,
    /// How it ended.
    pub state: HaulState,
    /// Its tags as they are now; the head has them as they were.
    pub tags: Vec<(String, String)>,
    /// The user's name for it now.
    pub label: Option<String>,
    /// What is kept of it.
    pub digest: Digest,
}

/// Repeats that are taken together.
#[derive(Debug, Clone, Serialize)]
pub struct Side {
    /// `A`, `B`, …
    pub letter: String,
    /// What makes it what it is, in words.
    pub name: String,
    /// Identifiers of its hauls.
    pub hauls: Vec<String>,
}

/// How a difference stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// Beyond the noise.
    Differs,
    /// The same to within the margin of its quantity.
    Same,
    /// Within the noise of the repeats.
    WithinNoise,
    /// A side has one haul only: its noise is not known.
    NoRepeats,
    /// A side does not have it.
    Missing,
}

impl Standing {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Differs => "differs",
            Self::Same => "the same",
            Self::WithinNoise => "within the noise",
            Self::NoRepeats => "no repeats",
            Self::Missing => "not in both",
        }
    }
}

/// A side's figure against that of the first.
#[derive(Debug, Clone, Serialize)]
pub struct Against {
    /// Mean less that of the first side; `None` when one of them lacks it.
    pub difference: Option<f64>,
    /// The difference over the first side's mean.
    pub share: Option<f64>,
    /// With repeats on both sides.
    pub test: Option<Difference>,
    /// p after Holm's correction; of the figure that is asked for first, p itself.
    pub p_holm: Option<f64>,
    /// The difference that these repeats would show four times in five; `None` without repeats.
    pub can_show: Option<f64>,
    /// How it stands.
    pub standing: Standing,
}

/// A figure over all sides.
#[derive(Debug, Clone, Serialize)]
pub struct Row {
    /// Its name.
    pub name: FigureKey,
    /// What it is a number of.
    pub unit: Quantity,
    /// Which way is well.
    pub better: Better,
    /// The one figure that is asked for first.
    pub primary: bool,
    /// Mean, deviation and interval of each side.
    pub sides: Vec<Option<Repeated>>,
    /// The interval within the haul, for a side of one haul that has one.
    pub within: Vec<Option<(f64, f64)>>,
    /// Each further side against the first.
    pub against: Vec<Against>,
}

/// The whole comparison.
#[derive(Debug, Clone, Serialize)]
pub struct Contrast {
    /// In the order given.
    pub sides: Vec<Side>,
    /// Figures that at least one side has, in the order in which they are told.
    pub figures: Vec<Row>,
    /// Findings that belong together.
    pub findings: Vec<Matched>,
    /// What was different about the sides.
    pub differs: Vec<Differs>,
    /// What makes the comparison weaker than it looks.
    pub warnings: Vec<String>,
    /// Air temperature to which heat was brought.
    pub ambient_c: Option<f64>,
    /// In sentences.
    pub answer: Vec<String>,
}

/// Why hauls cannot be compared.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ContrastError {
    /// There must be two sides.
    #[error("{0}")]
    OneSide(String),
}

/// The letter of a side: A, B, … Z, AA, AB, …
#[must_use]
pub fn letter(index: usize) -> String {
    let last = char::from(b'A' + (index % 26) as u8);
    if index < 26 { last.to_string() } else { format!("{}{last}", letter(index / 26 - 1)) }
}

/// Puts hauls together that are repeats of each other, in the order of the first of each.
fn grouped<'a>(subjects: &'a [Subject], by: &Group) -> Vec<Vec<&'a Subject>> {
    let mut groups: Vec<(Vec<String>, Vec<&Subject>)> = Vec::new();
    for subject in subjects {
        let key = by.key(subject);
        match groups.iter_mut().find(|(k, _)| *k == key) {
            Some((_, all)) => all.push(subject),
            None => groups.push((key, vec![subject])),
        }
    }
    groups.into_iter().map(|g| g.1).collect()
}

/// The figures of a haul, heat brought to another air temperature when one is asked for.
fn figures_at(subject: &Subject, ambient: Option<Celsius>) -> Vec<Figure> {
    let mut figures = subject.digest.figures.clone();
    let own = subject.head.conditions.ambient;
    if let Some((asked, own)) = ambient.zip(own) {
        let by = asked.degrees() - own.degrees();
        if let Some(i) = figures.iter().position(|f| f.name == FigureKey::Of(FigureId::Hottest)) {
            let name = FigureKey::Own(format!("hottest, in air of {asked}"));
            let moved = Figure { name, value: figures[i].value + by, ..figures[i].clone() };
            figures.insert(i + 1, moved);
        }
    }
    figures
}

impl Contrast {
    /// Compares hauls. `ambient` asks for heat as it would be in air of that temperature.
    ///
    /// # Errors
    /// When fewer than two sides come of them.
    pub fn of(subjects: &[Subject], by: &Group, ambient: Option<Celsius>) -> Result<Self, ContrastError> {
        if let Some(name) = by.unknown(subjects) {
            return Err(ContrastError::OneSide(format!(
                "\"{}\" is no tag of these hauls and no condition: there are {}",
                named(&name),
                Group::names().join(", ")
            )));
        }
        let groups = grouped(subjects, by);
        if groups.len() < 2 {
            return Err(ContrastError::OneSide(match subjects.len() {
                0 | 1 => "a contrast needs two hauls or more".into(),
                n => format!(
                    "these {n} hauls are one side: {}; group them by something that sets them apart, or by haul",
                    by.why_one_side()
                ),
            }));
        }
        let differs = conditions::differs(&groups);
        let sides: Vec<Side> = groups
            .iter()
            .enumerate()
            .map(|(i, g)| Side {
                letter: letter(i),
                name: conditions::name(&groups, i, &differs),
                hauls: g.iter().map(|s| s.head.haul.clone()).collect(),
            })
            .collect();
        let mut tested = groups.clone();
        let copies = without_copies(&mut tested);
        let figures = rows(&tested, ambient);
        let findings = matched::matched(&groups);
        let mut warnings = conditions::warnings(&groups, &sides, &differs);
        for (out, side) in copies.iter().zip(&sides).filter(|(out, _)| !out.is_empty()) {
            let names: Vec<&str> = out.iter().map(|s| s.head.haul.as_str()).collect();
            warnings.push(format!(
                "{} of {} {} the same to the last digit as another: a copy, or a simulation of the same repeat. It counts once.",
                names.join(", "),
                side.letter,
                if names.len() == 1 { "is" } else { "are each" }
            ));
        }
        if ambient.is_some() && subjects.iter().any(|s| s.head.conditions.ambient.is_none()) {
            warnings.push(
                "The air temperature of some hauls is not stated: their heat is not brought to another."
                    .into(),
            );
        }
        let mut contrast = Self {
            sides,
            figures,
            findings,
            differs,
            warnings,
            ambient_c: ambient.map(Celsius::degrees),
            answer: Vec::new(),
        };
        contrast.answer = words::answer(&contrast);
        Ok(contrast)
    }

    /// Number of hauls of a side.
    #[must_use]
    pub fn repeats(&self, side: usize) -> usize {
        self.sides.get(side).map_or(0, |s| s.hauls.len())
    }
}

fn rows(groups: &[Vec<&Subject>], ambient: Option<Celsius>) -> Vec<Row> {
    let all: Vec<Vec<Vec<Figure>>> =
        groups.iter().map(|g| g.iter().map(|s| figures_at(s, ambient)).collect()).collect();
    // In the order of the haul that has the most; what only others have comes after.
    let mut names: Vec<&Figure> = Vec::new();
    let mut lists: Vec<&Vec<Figure>> = all.iter().flatten().collect();
    lists.sort_by_key(|l| std::cmp::Reverse(l.len()));
    for figure in lists.into_iter().flatten() {
        if names.iter().all(|n| n.name != figure.name) {
            names.push(figure);
        }
    }
    let mut rows: Vec<Row> = names.into_iter().map(|f| row(f, &all)).collect();
    // One figure is asked for first; one correction over all other tests that are made.
    if let Some(first) = PRIMARY.iter().find_map(|id| {
        rows.iter().position(|r| r.name == FigureKey::Of(*id) && r.against.iter().any(|a| a.test.is_some()))
    }) {
        rows[first].primary = true;
    }
    let others = rows.iter().filter(|r| !r.primary).flat_map(|r| &r.against);
    let ps: Vec<f64> = others.filter_map(|a| Some(a.test?.p)).collect();
    let mut corrected = holm(&ps).into_iter();
    for row in &mut rows {
        for against in &mut row.against {
            let Some(test) = against.test else { continue };
            against.p_holm = if row.primary { Some(test.p) } else { corrected.next() };
            if against.p_holm.is_some_and(|p| p < LEVEL) {
                against.standing = Standing::Differs;
            }
        }
    }
    rows
}

fn row(figure: &Figure, all: &[Vec<Vec<Figure>>]) -> Row {
    let found: Vec<Vec<&Figure>> = all
        .iter()
        .map(|hauls| hauls.iter().filter_map(|h| h.iter().find(|f| f.name == figure.name)).collect())
        .collect();
    let values: Vec<Vec<f64>> = found.iter().map(|s| s.iter().map(|f| f.value).collect()).collect();
    let means: Vec<Option<Repeated>> = values.iter().map(|v| Repeated::of(v)).collect();
    let largest = means.iter().flatten().map(|r| r.mean.abs()).fold(0.0, f64::max);
    let step = match &figure.name {
        FigureKey::Of(id) => id.step(largest),
        FigureKey::Own(_) => figure.quantity.step(),
    };
    // Readings that are all the same may all be off by half a step.
    let known = |r: Repeated| Repeated { interval: r.interval.map(|half| half.max(step / 2.0)), ..r };
    let sides: Vec<Option<Repeated>> = means.into_iter().map(|r| r.map(known)).collect();
    let within = found
        .iter()
        .map(|s| match s.as_slice() {
            [one] => one.interval,
            _ => None,
        })
        .collect();
    let first = sides[0];
    let against = sides
        .iter()
        .zip(&values)
        .enumerate()
        .skip(1)
        .map(|(i, (side, v))| {
            let difference = first.zip(*side).map(|(a, b)| b.mean - a.mean);
            let sample = |values, i: usize| Sample { values, own_variance: own_variance(&found[i]) };
            let compared = compare(sample(&values[0], 0), sample(v, i), step);
            let margin = first.and_then(|f| figure.quantity.margin(f.mean));
            let same = compared.zip(margin).is_some_and(|(c, m)| c.is_same_within(m));
            let test = compared.and_then(stats::Compared::difference);
            let can_show = compared.and_then(stats::Compared::can_show);
            let standing = match (difference, test) {
                (None, _) => Standing::Missing,
                (Some(_), None) => Standing::NoRepeats,
                (Some(_), Some(_)) if same => Standing::Same,
                (Some(_), Some(_)) => Standing::WithinNoise,
            };
            let base = first.map(|f| f.mean).filter(|m| *m != 0.0);
            // A share of a temperature means nothing, nor one of another share.
            let scaled = !matches!(figure.quantity, Quantity::Celsius | Quantity::Share);
            let share = difference.zip(base.filter(|_| scaled)).map(|(d, b)| d / b);
            Against { difference, share, test, p_holm: None, can_show, standing }
        })
        .collect();
    let (name, unit, better) = (figure.name.clone(), figure.quantity, figure.better);
    Row { name, unit, better, primary: false, sides, within, against }
}

/// What the hauls of a side say themselves of how well they know a figure: the mean variance by their 95 % intervals.
fn own_variance(figures: &[&Figure]) -> f64 {
    let variances: Vec<f64> = figures
        .iter()
        .filter_map(|f| f.interval)
        .map(|(low, high)| ((high - low) / 2.0 / 1.96).powi(2))
        .filter(|v| v.is_finite())
        .collect();
    if variances.is_empty() { 0.0 } else { variances.iter().sum::<f64>() / variances.len() as f64 }
}

/// Records that are the same to the last digit are no repeats: each is left once. Gives the hauls that were left out.
fn without_copies<'a>(groups: &mut [Vec<&'a Subject>]) -> Vec<Vec<&'a Subject>> {
    let same = |a: &Subject, b: &Subject| {
        let values = |s: &Subject| s.digest.figures.iter().map(|f| f.value.to_bits()).collect::<Vec<_>>();
        a.digest.treatment == b.digest.treatment && a.digest.figures.len() > 2 && values(a) == values(b)
    };
    let mut copies = Vec::new();
    for group in groups {
        let (mut kept, mut out): (Vec<&Subject>, Vec<&Subject>) = (Vec::new(), Vec::new());
        for subject in group.drain(..) {
            if kept.iter().any(|k| same(k, subject)) { out.push(subject) } else { kept.push(subject) }
        }
        *group = kept;
        copies.push(out);
    }
    copies
}
