//! The answer of a contrast, in sentences.

use super::{Contrast, Row, Standing};
use crate::conclude::verdict::answers_a_contrast;
use crate::quantity::{FigureId, FigureKey, Quantity};

/// Figures told in the answer at most, for each side.
const TOLD: usize = 3;
/// Figures that say the same as others more roughly; they stand in the table.
const LESSER: [FigureId; 5] =
    [FigureId::P1, FigureId::WorstSecond, FigureId::Variation, FigureId::Mean, FigureId::Throttlings];

fn change(row: &Row, side: usize) -> Option<String> {
    let a = row.against.get(side - 1)?;
    let difference = a.difference?;
    let of = row.sides[side]?;
    let share = a.share.filter(|s| s.abs() >= 0.005).map(|s| format!(" ({:+.0} %)", s * 100.0));
    let share = share.map(|s| s.replace('-', "−")).unwrap_or_default();
    Some(format!("{} {}{share}, to {}", row.name, row.unit.signed(difference), row.unit.words(of.mean)))
}

/// What is worth telling of a figure: how large it is beside the first side.
fn weight(row: &Row, side: usize) -> f64 {
    let a = &row.against[side - 1];
    let scale = a.share.or_else(|| a.difference.map(|d| d / 20.0)).unwrap_or(0.0);
    let rough = match &row.name {
        FigureKey::Of(id) => LESSER.contains(id) || *id == FigureId::Hottest,
        FigureKey::Own(_) => row.unit == Quantity::Celsius,
    };
    let lesser = if rough { 0.2 } else { 1.0 };
    scale.abs().min(5.0) * lesser
}

/// Which figures are the same, and to within what.
fn same(c: &Contrast, side: usize) -> Option<String> {
    let all: Vec<&Row> =
        c.figures.iter().filter(|r| r.against[side - 1].standing == Standing::Same).collect();
    let shares: Vec<String> = all
        .iter()
        .filter(|r| r.unit != Quantity::Celsius && r.unit != Quantity::Kelvin)
        .map(|r| r.name.to_string())
        .collect();
    let heat: Vec<String> = all
        .iter()
        .filter(|r| matches!(r.unit, Quantity::Celsius | Quantity::Kelvin))
        .map(|r| r.name.to_string())
        .collect();
    let parts: Vec<String> = [(shares, "2 %"), (heat, "2 K")]
        .into_iter()
        .filter(|(names, _)| !names.is_empty())
        .map(|(names, margin)| format!("{} within {margin}", names.join(", ")))
        .collect();
    (!parts.is_empty()).then(|| format!("The same: {}.", parts.join("; ")))
}

/// What so many repeats could have shown of the figure that is asked for first, where they show nothing.
fn power(c: &Contrast, side: usize) -> Option<String> {
    let row = c.figures.iter().find(|r| r.primary)?;
    let a = &row.against[side - 1];
    let can = a.can_show.filter(|_| a.standing == Standing::WithinNoise)?;
    let base = row.sides[0].map(|s| s.mean).filter(|m| *m != 0.0 && row.unit.margin(*m).is_some());
    let what = match (row.unit, base) {
        (Quantity::Celsius | Quantity::Kelvin, _) | (_, None) => row.unit.words(can),
        (_, Some(mean)) => {
            format!("{} %", crate::quantity::units::significant((can / mean.abs() * 1000.0).ceil() / 10.0))
        }
    };
    Some(format!("These repeats can show a difference of {what} or more in {}.", row.name))
}

/// The sentences.
pub(super) fn answer(c: &Contrast) -> Vec<String> {
    let mut out = Vec::new();
    for side in 1..c.sides.len() {
        let name = format!("{} ({})", c.sides[side].letter, c.sides[side].name);
        let first = format!("{} ({})", c.sides[0].letter, c.sides[0].name);
        let mut real: Vec<&Row> =
            c.figures.iter().filter(|r| r.against[side - 1].standing == Standing::Differs).collect();
        real.sort_by(|a, b| weight(b, side).total_cmp(&weight(a, side)));
        let tested = c.figures.iter().filter(|r| r.against[side - 1].test.is_some()).count();
        if tested > 0 {
            let repeats = format!("{} and {} repeats", c.repeats(0), c.repeats(side));
            if real.is_empty() {
                out.push(format!(
                    "{name} and {first} do not differ by more than the noise, in any of {tested} figures by {repeats}."
                ));
            } else {
                let told: Vec<String> = real.iter().take(TOLD).filter_map(|r| change(r, side)).collect();
                let more = real.len().saturating_sub(TOLD);
                let more = match more {
                    0 => String::new(),
                    1 => "; 1 more figure differs".into(),
                    n => format!("; {n} more figures differ"),
                };
                out.push(format!(
                    "{name} against {first}, beyond the noise of {repeats}: {}{more}.",
                    told.join("; ")
                ));
            }
        } else {
            let mut rows: Vec<&Row> = c
                .figures
                .iter()
                .filter(|r| r.against[side - 1].difference.is_some_and(|d| d != 0.0))
                .collect();
            rows.sort_by(|a, b| weight(b, side).total_cmp(&weight(a, side)));
            let told: Vec<String> = rows.iter().take(TOLD).filter_map(|r| change(r, side)).collect();
            if told.is_empty() {
                out.push(format!("{name} and {first} have no figure that differs."));
            } else {
                out.push(format!(
                    "{name} against {first}: {}. With one haul a side nobody can tell this from noise.",
                    told.join("; ")
                ));
            }
        }
    }
    let found = c.findings.iter().filter(|m| answers_a_contrast(m.kind) && m.which == 1);
    out.extend(found.flat_map(|m| m.sentences.iter().cloned()));
    for side in 1..c.sides.len() {
        out.extend(same(c, side));
        out.extend(power(c, side));
    }
    out
}
