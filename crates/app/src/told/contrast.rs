//! Hauls side by side: gathered from the ledger, and their figures in the rows of a table.

use hollow_mile_charts::contrast as chart;
use hollow_mile_charts::scene::Scene;
use hollow_mile_core::archive::contrast::overlay::Overlay;
use hollow_mile_core::archive::contrast::{Contrast, Group, Row, Subject};
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::histogram::Histogram;
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::readings::{During, Readings, Ruler};
use hollow_mile_ledger::Ledger;

use crate::error::AppError;

/// Columns of a curve in a chart.
const COLUMNS: usize = 660;

/// A contrast with the curves of its hauls.
pub struct Compared {
    /// What it says.
    pub contrast: Contrast,
    /// Who is compared, in the order given.
    pub subjects: Vec<Subject>,
    /// The record of each, thinned where it is long.
    pub curves: Vec<Readings>,
    /// Index of the side of each haul.
    pub side_of: Vec<usize>,
    /// How they were grouped.
    pub by: Group,
}

impl Compared {
    /// Compares these hauls.
    ///
    /// # Errors
    /// When one is not there, or they are one side only.
    pub fn of(
        ledger: &Ledger,
        hauls: &[String],
        by: Option<&str>,
        ambient: Option<Celsius>,
    ) -> Result<Self, AppError> {
        let mut subjects: Vec<Subject> = Vec::new();
        for haul in hauls {
            let subject = ledger.subject(haul)?;
            if subjects.iter().any(|s| s.head.haul == subject.head.haul) {
                return Err(AppError::usage(format!("haul {} is named twice", subject.head.haul)));
            }
            subjects.push(subject);
        }
        let group = by.map_or(Group::Alike, Group::of);
        let alone = |e: hollow_mile_core::archive::contrast::ContrastError| AppError::usage(e.to_string());
        let contrast = match (Contrast::of(&subjects, &group, ambient), by) {
            // Hauls that nothing sets apart are still several.
            (Err(_), None) if subjects.len() >= 2 => {
                return Self::with(ledger, subjects, Group::Haul, ambient);
            }
            (made, _) => made.map_err(alone)?,
        };
        Self::complete(ledger, subjects, group, contrast)
    }

    /// The same hauls, compared anew.
    ///
    /// # Errors
    /// When they are one side only, or a record cannot be read.
    pub fn with(
        ledger: &Ledger,
        subjects: Vec<Subject>,
        by: Group,
        ambient: Option<Celsius>,
    ) -> Result<Self, AppError> {
        let contrast = Contrast::of(&subjects, &by, ambient).map_err(|e| AppError::usage(e.to_string()))?;
        Self::complete(ledger, subjects, by, contrast)
    }

    fn complete(
        ledger: &Ledger,
        subjects: Vec<Subject>,
        by: Group,
        contrast: Contrast,
    ) -> Result<Self, AppError> {
        let curves = subjects.iter().map(|s| ledger.curves(&s.head.haul)).collect::<Result<Vec<_>, _>>()?;
        let side = |s: &Subject| contrast.sides.iter().position(|g| g.hauls.contains(&s.head.haul));
        let side_of = subjects.iter().map(|s| side(s).unwrap_or(0)).collect();
        Ok(Self { contrast, subjects, curves, side_of, by })
    }

    /// The same hauls with heat brought to another air temperature.
    ///
    /// # Errors
    /// When they are one side only, which they were not before.
    pub fn in_air_of(&mut self, ambient: Option<Celsius>) -> Result<(), AppError> {
        self.contrast =
            Contrast::of(&self.subjects, &self.by, ambient).map_err(|e| AppError::usage(e.to_string()))?;
        Ok(())
    }

    /// Their curves on a ruler.
    #[must_use]
    pub fn overlay(&self, ruler: Ruler, columns: usize) -> Overlay {
        Overlay::of(&self.curves.iter().collect::<Vec<_>>(), ruler, columns)
    }

    /// Whether any of them tells how long its operations took.
    #[must_use]
    pub fn has_latencies(&self) -> bool {
        self.curves.iter().any(|c| !c.latencies().is_empty())
    }

    /// How long operations took under load, of each side all its hauls together.
    #[must_use]
    pub fn latencies(&self) -> Vec<Histogram> {
        let mut sides = vec![Histogram::default(); self.contrast.sides.len()];
        for (side, readings) in self.side_of.iter().zip(&self.curves) {
            if let Some(sum) = sides.get_mut(*side) {
                sum.add(&readings.latencies().during(During::Load));
            }
        }
        sides
    }

    /// As a page.
    #[must_use]
    pub fn chart(&self, ruler: Ruler) -> Scene {
        chart::contrast(&self.contrast, &self.overlay(ruler, COLUMNS), &self.side_of)
    }
}

/// How much a cell says.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Detail {
    /// Mean, interval, repeats.
    Short,
    /// The standard deviation too.
    Full,
}

/// A deviation in two digits: of so few repeats it is not known better.
fn two_digits(unit: Quantity, v: f64) -> String {
    let step = if v > 0.0 { 10f64.powf(v.log10().floor() - 1.0) } else { 1.0 };
    unit.words((v / step).round() * step)
}

/// A figure of one side: `3 180 ± 12 MB/s (3)`; in full with its standard deviation: `3 180 ± 12 MB/s (3; s 4.8 MB/s)`.
fn cell(row: &Row, side: usize, detail: Detail) -> String {
    let Some(r) = row.sides[side] else { return "none".into() };
    let unit = row.unit;
    let with = |half: f64| unit.plus_minus(r.mean, half);
    match (r.interval, row.within[side]) {
        (Some(h), _) if detail == Detail::Full => {
            format!("{} ({}; s {})", with(h), r.repeats, two_digits(unit, r.deviation))
        }
        (Some(h), _) => format!("{} ({})", with(h), r.repeats),
        (None, Some((low, high))) => with(((high - low) / 2.0).max(0.0)),
        (None, None) => unit.words(r.mean),
    }
}

/// `4 699 ± 10.45 MB/s (3)` as `4 699 MB/s (3)`, and `420 GB ± 5.516 MB (3)` as `420 GB (3)`.
#[must_use]
pub fn without_interval(cell: &str) -> String {
    let Some((value, rest)) = cell.split_once(" ± ") else { return cell.to_owned() };
    let mut words: Vec<&str> = rest.split(' ').skip(1).collect();
    if value.ends_with(|c: char| !c.is_ascii_digit()) && !words.is_empty() {
        words.remove(0);
    }
    std::iter::once(value).chain(words).collect::<Vec<_>>().join(" ")
}

/// A side's difference from the first: `differs: +412 MB/s, p 0.003`.
fn difference(row: &Row, side: usize) -> String {
    let Some(a) = side.checked_sub(1).and_then(|s| row.against.get(s)) else { return String::new() };
    let Some(d) = a.difference else { return a.standing.words().into() };
    let p = match a.p_holm {
        Some(p) if p < 0.001 => ", p < 0.001".to_owned(),
        Some(p) => format!(", p {p:.3}"),
        None => String::new(),
    };
    // No more digits than the intervals of both sides allow.
    let half = |s: usize| row.sides[s].and_then(|r| r.interval);
    let words = match half(0).zip(half(side)).map(|(a, b)| a.hypot(b)).filter(|h| *h > 0.0) {
        Some(h) if d != 0.0 => {
            let unit = if row.unit == Quantity::Celsius { Quantity::Kelvin } else { row.unit };
            let sign = if d < 0.0 { "−" } else { "+" };
            let words = without_interval(&unit.plus_minus(d.abs(), h));
            let nothing = words.split(' ').next().is_some_and(|n| n.parse() == Ok(0.0));
            if nothing { "none".into() } else { format!("{sign}{words}") }
        }
        _ => row.unit.signed(d),
    };
    format!("{}: {words}{p}", a.standing.words())
}

/// The figures as rows of a table, with the names of its columns; in full with standard deviations.
#[must_use]
pub fn table_of_figures(c: &Contrast, detail: Detail) -> (Vec<String>, Vec<Vec<String>>) {
    let mut head = vec!["figure".to_owned()];
    head.extend(c.sides.iter().map(|s| s.letter.clone()));
    head.extend(c.sides.iter().skip(1).map(|s| format!("{} against A", s.letter)));
    let rows = c.figures.iter().map(|r| {
        let mut cells = vec![r.name.to_string()];
        cells.extend((0..c.sides.len()).map(|s| cell(r, s, detail)));
        cells.extend((1..c.sides.len()).map(|s| difference(r, s)));
        cells
    });
    (head, rows.collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cell_loses_its_interval_and_keeps_its_unit() {
        for (cell, short) in [
            ("4 699 ± 10.45 MB/s (3)", "4 699 MB/s (3)"),
            ("420 GB ± 5.516 MB (3)", "420 GB (3)"),
            ("79.3 ± 0.1 % (3)", "79.3 % (3)"),
            ("663 MB/s", "663 MB/s"),
        ] {
            assert_eq!(without_interval(cell), short);
        }
    }
}
