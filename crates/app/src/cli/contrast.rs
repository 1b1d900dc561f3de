//! `contrast`: hauls side by side.

use hollow_mile_core::archive::contrast::{Contrast, Row};
use hollow_mile_core::quantity::units::Celsius;

use super::{open_ledger, say, say_json, table};
use crate::compare::Compared;
use crate::error::{AppError, Exit};

/// Who is compared, and how.
#[derive(Debug, clap::Args)]
pub struct ContrastArgs {
    /// Hauls: id, unique beginning of one, or `last`; the first one's side is what the others are compared with
    #[arg(required = true, num_args = 2.., value_name = "HAUL")]
    hauls: Vec<String>,
    /// What sets sides apart: `haul` for each by itself, a condition (model, drive, firmware, cooling, ambient, slot, route),
    /// or a tag; without it, hauls of which everything stated is the same are repeats
    #[arg(long, value_name = "WHAT")]
    by: Option<String>,
    /// Air temperature to which heat is brought, °C
    #[arg(long, value_name = "CELSIUS", allow_hyphen_values = true)]
    ambient: Option<Celsius>,
    /// As JSON
    #[arg(long)]
    json: bool,
}

/// A figure of one side: `3 180 ± 12 MB/s (3)`; in full with its standard deviation: `3 180 ± 12 MB/s (3; s 4.8 MB/s)`.
#[must_use]
pub fn cell(row: &Row, side: usize, full: bool) -> String {
    let Some(r) = row.sides[side] else { return "·".into() };
    let unit = row.unit;
    // One unit for both numbers, where it is the same.
    let with = |half: f64| {
        let (mean, half) = (unit.words(r.mean), unit.words(half));
        match (mean.rsplit_once(' '), half.rsplit_once(' ')) {
            (Some((number, a)), Some((_, b))) if a == b => format!("{number} ± {half}"),
            _ => format!("{mean} ± {half}"),
        }
    };
    match (r.interval, row.within[side]) {
        (Some(h), _) if full => format!("{} ({}; s {})", with(h), r.repeats, unit.words(r.deviation)),
        (Some(h), _) => format!("{} ({})", with(h), r.repeats),
        (None, Some((low, high))) => with(((high - low) / 2.0).max(0.0)),
        (None, None) => unit.words(r.mean),
    }
}

/// A side's difference from the first: `differs: +412 MB/s, p 0.003`.
#[must_use]
pub fn difference(row: &Row, side: usize) -> String {
    let Some(a) = side.checked_sub(1).and_then(|s| row.against.get(s)) else { return String::new() };
    let Some(d) = a.difference else { return a.standing.words().into() };
    let p = match a.p_holm {
        Some(p) if p < 0.001 => ", p < 0.001".to_owned(),
        Some(p) => format!(", p {p:.3}"),
        None => String::new(),
    };
    format!("{}: {}{p}", a.standing.words(), row.unit.signed(d))
}

/// The figures as rows of a table, with the names of its columns; in full with standard deviations.
#[must_use]
pub fn figures(c: &Contrast, full: bool) -> (Vec<String>, Vec<Vec<String>>) {
    let mut head = vec!["figure".to_owned()];
    head.extend(c.sides.iter().map(|s| s.letter.clone()));
    head.extend(c.sides.iter().skip(1).map(|s| format!("{} against A", s.letter)));
    let rows = c.figures.iter().map(|r| {
        let mut cells = vec![r.name.to_string()];
        cells.extend((0..c.sides.len()).map(|s| cell(r, s, full)));
        cells.extend((1..c.sides.len()).map(|s| difference(r, s)));
        cells
    });
    (head, rows.collect())
}

pub fn run(args: &ContrastArgs) -> Result<Exit, AppError> {
    let ledger = open_ledger()?;
    let compared = Compared::of(&ledger, &args.hauls, args.by.as_deref(), args.ambient)?;
    let c = &compared.contrast;
    if args.json {
        say_json(c)?;
        return Ok(Exit::Done);
    }
    for side in &c.sides {
        say(&format!("{}  {}  ({})", side.letter, side.name, side.hauls.join(", ")))?;
    }
    say("")?;
    for line in &c.answer {
        say(line)?;
    }
    for warning in &c.warnings {
        say(&format!("note: {warning}"))?;
    }
    say("")?;
    let (head, rows) = figures(c, true);
    let mut lines = vec![head];
    lines.extend(rows);
    say(&table(&lines))?;
    let rest: Vec<&String> =
        c.findings.iter().flat_map(|m| &m.sentences).filter(|s| !c.answer.contains(s)).collect();
    if !rest.is_empty() {
        say("")?;
        rest.iter().try_for_each(|s| say(s))?;
    }
    if !c.differs.is_empty() {
        say("\nwhat was different")?;
        let lines: Vec<Vec<String>> = c
            .differs
            .iter()
            .map(|d| [&format!("   {}", d.name)].into_iter().chain(&d.values).cloned().collect())
            .collect();
        say(&table(&lines))?;
    }
    Ok(Exit::Done)
}
