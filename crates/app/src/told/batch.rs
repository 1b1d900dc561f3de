//! The drives of a batch: gathered from the ledger, and what they say in words and in the rows of a table.

use hollow_mile_charts::batch as chart;
use hollow_mile_charts::scene::Scene;
use hollow_mile_core::archive::batch::{
    Batch, BatchRow, Drift, Effect, Method, NoPromise, Odd, Promise, Question, Shape, Verdict, Wanted,
};
use hollow_mile_core::archive::contrast::{PRIMARY, Subject};
use hollow_mile_core::archive::digest::Digest;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::quantity::units::significant;
use hollow_mile_core::quantity::{Better, FigureKey};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::HaulState;
use hollow_mile_core::route::Limit;
use hollow_mile_ledger::{HaulRow, Ledger};
use serde::Serialize;

use super::words;
use crate::error::AppError;

/// Odd drives, effects and figures of an odd drive told in the answer at most.
const TOLD: usize = 3;

/// A batch with its words.
#[derive(Debug, Clone, Serialize)]
pub struct Batched {
    /// What it says.
    #[serde(flatten)]
    pub batch: Batch,
    /// In sentences, the answer first.
    pub answer: Vec<String>,
    /// What one should know beside it.
    pub notes: Vec<String>,
}

/// The hauls that have all of these words, as `ledger` finds them.
///
/// # Errors
/// When the ledger cannot be read.
pub fn hauls_with(ledger: &Ledger, filter: &[String]) -> Result<Vec<HaulRow>, AppError> {
    let mut rows = ledger.hauls()?;
    words::keep_with(&mut rows, filter);
    Ok(rows)
}

/// A promise as it is written: `sustained >= 1000 MB/s`.
///
/// # Errors
/// When it is none, or asks for the wrong way.
pub fn wanted(text: &str) -> Result<Wanted, AppError> {
    let limit = text.parse::<Limit>().map_err(AppError::usage)?;
    let Limit::Figure { of, at_least, bound, .. } = limit else {
        return Err(AppError::usage(format!("\"{text}\" is no promise such as \"sustained >= 1000 MB/s\"")));
    };
    if at_least != (of.better() == Better::Higher) {
        let way = if at_least { "<=" } else { ">=" };
        return Err(AppError::usage(format!(
            "{} is promised the other way: write {way}, as {} of it is worse",
            of.name(),
            if at_least { "more" } else { "less" }
        )));
    }
    Ok(Wanted { figure: FigureKey::Of(of), value: bound })
}

/// A haul as a batch takes it. Of one that is not over no record is read: it does not count.
fn subject(ledger: &Ledger, row: &HaulRow) -> Result<Subject, AppError> {
    if row.state == HaulState::Done {
        return Ok(ledger.subject(&row.haul)?);
    }
    Ok(Subject {
        head: ledger.head(&row.haul)?,
        state: row.state,
        tags: row.conditions.tags.clone(),
        label: row.label.clone(),
        digest: Digest::of(&Readings::new(), &Conclusions::default()),
    })
}

impl Batched {
    /// Takes these hauls together.
    ///
    /// # Errors
    /// When a record cannot be read, or the hauls make no batch.
    pub fn of(ledger: &Ledger, rows: &[HaulRow], question: &Question) -> Result<Self, AppError> {
        Self::of_firmware(ledger, rows, None, question)
    }

    /// Takes those of these hauls together whose drives have this firmware.
    ///
    /// # Errors
    /// When a record cannot be read, or the hauls make no batch.
    pub fn of_firmware(
        ledger: &Ledger,
        rows: &[HaulRow],
        firmware: Option<&str>,
        question: &Question,
    ) -> Result<Self, AppError> {
        let mut subjects: Vec<Subject> = rows.iter().map(|r| subject(ledger, r)).collect::<Result<_, _>>()?;
        subjects.retain(|s| firmware.is_none_or(|f| s.head.drive.firmware == f));
        let batch = Batch::of(&subjects, question).map_err(|e| AppError::usage(e.to_string()))?;
        Ok(Self { answer: answer(&batch), notes: notes(&batch), batch })
    }

    /// The chart.
    #[must_use]
    pub fn chart(&self) -> Scene {
        let b = &self.batch;
        let promises = b.rows.iter().map(|row| {
            let sign = if row.better == Better::Higher { "≥" } else { "≤" };
            let (bound, by) = promise_words(row);
            let words = |v| format!("{} {sign} {v}", percent(b.level.content));
            (bound.map_or_else(|| "nothing promised".into(), words), by)
        });
        let words = chart::Words {
            title: format!("{}: {} drives by {}", b.model, b.drives.len(), b.route),
            answer: self.answer.first().cloned().unwrap_or_default(),
            odd: b.odd.iter().map(|o| odd_words(b, o)).collect(),
            promises: promises.collect(),
        };
        chart::batch(b, &words)
    }

    /// The row that is told first.
    #[must_use]
    pub fn first(&self) -> usize {
        first(&self.batch)
    }
}

fn first(batch: &Batch) -> usize {
    let asked = batch.wanted.iter().map(|w| w.0.figure.clone());
    asked
        .chain(PRIMARY.map(FigureKey::Of))
        .find_map(|key| batch.rows.iter().position(|r| r.name == key))
        .unwrap_or(0)
}

/// `99 %`, `99.9 %`.
#[must_use]
pub fn percent(share: f64) -> String {
    format!("{} %", significant(share * 100.0))
}

const fn or_beyond(better: Better) -> &'static str {
    match better {
        Better::Higher => "or more",
        Better::Lower => "or less",
    }
}

/// How a bound is known, in words.
#[must_use]
pub fn method(promise: &Promise, drives: usize) -> String {
    match promise.method {
        Method::Normal { factor } => format!("normal, k = {}", significant(factor)),
        Method::NormalRepeats => "normal, repeats' scatter taken off".into(),
        Method::Levels => "the worst level, each normal".into(),
        Method::Order { rank: 1 } => format!("the worst of {drives}, no shape assumed"),
        Method::Order { rank } => format!("the worst but {} of {drives}, no shape assumed", rank - 1),
    }
}

/// The bound of a figure, where there is one, and how it is known or why it is not.
#[must_use]
pub fn promise_words(row: &BatchRow) -> (Option<String>, String) {
    match row.promise {
        Ok(p) => (Some(row.unit.words(p.bound)), method(&p, row.points.len())),
        Err(NoPromise::OneDrive) => (None, "one drive".into()),
        Err(NoPromise::TooFewWithoutShape { needed, .. }) if row.shape == Shape::Same => {
            (None, format!("all the same: {needed} drives needed"))
        }
        Err(NoPromise::TooFewWithoutShape { needed, .. }) => {
            let sign = if row.better == Better::Higher { "≥" } else { "≤" };
            // What is known stands first: a narrow window cuts the rest.
            let words = better_without_odd(row).map_or_else(
                || format!("not normal: {needed} drives needed"),
                |v| format!("{sign} {} without the odd ones, else {needed} drives", row.unit.words(v)),
            );
            (None, words)
        }
    }
}

fn promised(row: &BatchRow, promise: Result<Promise, NoPromise>, batch: &Batch) -> String {
    let (name, content) = (capitalised(row.name.name()), percent(batch.level.content));
    match promise {
        Ok(p) => format!(
            "{name}: {} {} in {content} of such drives, with {} confidence",
            row.unit.words(p.bound),
            or_beyond(row.better),
            percent(batch.level.confidence),
        ),
        Err(NoPromise::OneDrive) => format!("{name}: one drive promises nothing of others"),
        Err(NoPromise::TooFewWithoutShape { needed, content: shown, worst, drives }) => format!(
            "{name}: {} {drives} drives, and {needed} are needed for {content}. These show {} {} in {} of such drives",
            if row.shape == Shape::Same { "the same in all" } else { "not spread normally over the" },
            row.unit.words(worst),
            or_beyond(row.better),
            percent((shown * 1000.0).floor() / 1000.0),
        ),
    }
}

fn verdict(batch: &Batch, wanted: &Wanted, verdict: Verdict) -> String {
    let Some(row) = batch.rows.iter().find(|r| r.name == wanted.figure) else {
        return format!("{} is not measured by these hauls.", capitalised(wanted.figure.name()));
    };
    let sign = if row.better == Better::Higher { "≥" } else { "≤" };
    let asked = format!("{} {sign} {}", capitalised(row.name.name()), row.unit.words(wanted.value));
    let (content, confidence) = (percent(batch.level.content), percent(batch.level.confidence));
    let level = format!("{content} of such drives, with {confidence} confidence");
    let drives = row.points.len();
    match verdict {
        Verdict::Kept => format!("{asked} can be promised for {level}."),
        Verdict::More { drives: needed } => format!(
            "{asked} cannot be promised for {level}, from {drives} drives: {} more would do, were they like these.",
            needed.saturating_sub(drives)
        ),
        Verdict::Never => {
            format!(
                "{asked} cannot be promised for {level}, however many are measured: too many are beyond it."
            )
        }
        Verdict::NotMeasured => format!("{asked} cannot be promised from {drives} drive."),
    }
}

/// A drive that is odd, and in what: `A KW-0300: cache 350 GB, 8.2 deviations below the others`.
#[must_use]
pub fn odd_words(batch: &Batch, odd: &Odd) -> String {
    let figures: Vec<String> = odd
        .figures
        .iter()
        .take(TOLD)
        .map(|f| {
            let row = &batch.rows[f.row];
            format!(
                "{} {}, {} deviations {}",
                row.name,
                row.unit.words(f.value),
                significant((f.deviations.abs() * 10.0).round() / 10.0),
                if f.deviations < 0.0 { "below" } else { "above" }
            )
        })
        .collect();
    let more = match odd.figures.len().saturating_sub(TOLD) {
        0 => String::new(),
        n => format!(" and {n} more"),
    };
    let unlike: Vec<String> =
        odd.unlike.iter().map(|(thing, own, most)| format!("{thing} {own} where most have {most}")).collect();
    let unlike = if unlike.is_empty() { String::new() } else { format!("; {}", unlike.join(", ")) };
    format!("{} {}: {}{more}{unlike}", odd.letter, batch.drives[odd.drive].serial, figures.join("; "))
}

fn capitalised(words: &str) -> String {
    let mut chars = words.chars();
    chars.next().map(|c| c.to_uppercase().chain(chars).collect()).unwrap_or_default()
}

/// What a level of something does to a figure.
#[must_use]
pub fn effect_words(batch: &Batch, e: &Effect) -> String {
    let row = &batch.rows[e.row];
    let who = if e.paired {
        "the same drives at both".to_owned()
    } else {
        format!("{} against {} drives", e.drives.0, e.drives.1)
    };
    let thing = capitalised(&e.thing);
    format!(
        "{} {} against {}: {} {} ({} to {}), {who}.",
        thing,
        e.level,
        e.against,
        row.name,
        row.unit.signed(e.value),
        row.unit.signed(e.low),
        row.unit.signed(e.high)
    )
}

/// How a figure moves with time.
#[must_use]
pub fn drift_words(batch: &Batch, d: &Drift) -> String {
    let row = &batch.rows[d.row];
    format!(
        "{} drifts by {} in 30 days ({} to {}), over the drives in the order in which they were first measured.",
        row.name,
        row.unit.signed(d.a_month),
        row.unit.signed(d.low),
        row.unit.signed(d.high)
    )
}

/// What could be promised without the odd drives, where that is more.
fn better_without_odd(row: &BatchRow) -> Option<f64> {
    let without = row.without_odd?.ok()?.bound;
    let sign = if row.better == Better::Higher { 1.0 } else { -1.0 };
    let is_more = |with: f64| sign * (without - with) > 0.005 * with.abs();
    row.promise.map_or(true, |p| is_more(p.bound)).then_some(without)
}

/// What each level of something keeps, where that makes a difference: `By firmware: 1.3.9 682 MB/s, 1.4.0 640 MB/s.`
fn split_words(row: &BatchRow) -> Option<String> {
    let split = row.split.as_ref()?;
    let each: Vec<String> = split
        .levels
        .iter()
        .map(|l| {
            let bound = l.promise.map_or_else(|_| "nothing".into(), |p| row.unit.words(p.bound));
            format!("{} {bound} ({} drives)", l.level, l.drives)
        })
        .collect();
    Some(format!("By {}: {}.", split.thing, each.join(", ")))
}

fn answer(batch: &Batch) -> Vec<String> {
    let mut out = Vec::new();
    let row = &batch.rows[first(batch)];
    if let Some((wanted, stands)) = &batch.wanted {
        out.push(verdict(batch, wanted, *stands));
    }
    let mut promise = promised(row, row.promise, batch);
    if let Some(bound) = better_without_odd(row) {
        promise += &format!("; without the odd ones {}", row.unit.words(bound));
    }
    out.push(format!("{promise}."));
    out.extend(split_words(row));
    if batch.drives.len() >= 8 {
        out.push(match batch.odd.len() {
            0 => "No drive stands apart from the others.".into(),
            n => {
                let told: Vec<String> = batch.odd.iter().take(TOLD).map(|o| odd_words(batch, o)).collect();
                let more = if n > TOLD { format!("; and {} more", n - TOLD) } else { String::new() };
                let head = if n == 1 { "1 drive is".to_owned() } else { format!("{n} drives are") };
                format!("{head} not like the others: {}{more}.", told.join(". "))
            }
        });
    }
    out.extend(batch.effects.iter().take(TOLD).map(|e| effect_words(batch, e)));
    out.extend(batch.drifts.iter().take(TOLD).map(|d| drift_words(batch, d)));
    out
}

fn notes(batch: &Batch) -> Vec<String> {
    let left = batch.left_out;
    let parts: Vec<String> = [
        (left.unfinished, "did not come to their end"),
        (left.other_model, "are of other models"),
        (left.other_route, "went by other routes"),
        (left.copies, "are copies of another"),
    ]
    .into_iter()
    .filter(|(n, _)| *n > 0)
    .map(|(n, why)| format!("{n} {why}"))
    .collect();
    let mut out = Vec::new();
    if !parts.is_empty() {
        out.push(format!("Hauls left out: {}.", parts.join(", ")));
    }
    if batch.drives.len() < 8 {
        out.push("Fewer than 8 drives: a normal spread is assumed, and no drive is called odd.".into());
    }
    if let (Some(plan), Some((wanted, _))) = (batch.plan, &batch.wanted)
        && let Some(row) = batch.rows.iter().find(|r| r.name == wanted.figure)
    {
        let side = if row.better == Better::Higher { "above" } else { "below" };
        out.push(format!(
            "For a delivery: measure {} drives drawn at random, and accept when their mean is {} deviations or more {side} {}. That \
             refuses {} of deliveries with {} of drives beyond it, and accepts {} of those with {}.",
            plan.drives,
            significant((plan.factor * 1000.0).round() / 1000.0),
            row.unit.words(wanted.value),
            percent(plan.aim.refused),
            percent(plan.aim.good),
            percent(plan.aim.accepted),
            percent(plan.aim.bad)
        ));
    }
    out
}

/// The rows of the table, with their head.
#[must_use]
pub fn table_of_figures(batch: &Batch) -> Vec<Vec<String>> {
    let keep = format!("{} OF DRIVES KEEP", percent(batch.level.content));
    let head =
        ["FIGURE", "DRIVES", "MEAN OF DRIVES", "BETWEEN DRIVES", "REPEATS OF ONE", keep.as_str(), "BY"];
    let mut lines = vec![head.map(String::from).to_vec()];
    lines.extend(batch.rows.iter().map(|row| {
        let scatter = |v: f64| row.unit.plus_minus(row.centre.value, v);
        let only = |words: String| words.split(" ± ").nth(1).unwrap_or_default().to_owned();
        let (bound, by) = promise_words(row);
        let bound = bound.unwrap_or_else(|| "nothing".into());
        let name = row.name.to_string();
        vec![
            name,
            row.points.len().to_string(),
            scatter(row.centre.half()),
            row.between.map_or_else(|| "–".into(), |b| format!("± {}", only(scatter(b.value)))),
            row.within.map_or_else(|| "–".into(), |w| format!("± {}", only(scatter(w)))),
            bound,
            by,
        ]
    }));
    lines
}
