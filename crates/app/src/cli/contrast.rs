//! `contrast`: hauls side by side.

use crate::told::contrast::{Detail, table_of_figures};
use hollow_mile_core::quantity::units::Celsius;

use super::{open_ledger, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::told::Compared;

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
    let (head, rows) = table_of_figures(c, Detail::Full);
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
