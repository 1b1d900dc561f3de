//! `batch`: the drives of one model, firmware, lot or purchase taken together.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use hollow_mile_core::archive::batch::{Aim, Batch, Level, Question};
use hollow_mile_core::archive::standing::Standing;

use super::archive::{Existing, create};
use super::{chart, open_ledger, report, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::told::batch::{Batched, hauls_with, odd_words, percent, table_of_figures, wanted};
use crate::told::report_batch::of_batch;
use crate::{home, limits};

/// A share in percent, between these bounds.
fn share(text: &str) -> Result<f64, String> {
    let number = text.trim().trim_end_matches('%').trim().parse::<f64>().ok();
    number
        .filter(|n| *n > 0.0 && *n < 100.0)
        .map(|n| n / 100.0)
        .ok_or_else(|| format!("\"{text}\" is no share between 0 and 100 %"))
}

/// Who is taken together, and what is asked.
#[derive(Debug, clap::Args)]
pub struct BatchArgs {
    /// Words that a haul must have, as for `ledger`: model, firmware, route, `lot=p7`; without any, all hauls
    #[arg(value_name = "WORD")]
    filter: Vec<String>,
    /// Only hauls of drives with this firmware
    #[arg(long, value_name = "FIRMWARE")]
    firmware: Option<String>,
    /// A promise that shall be kept: "sustained >= 1000 MB/s"
    #[arg(long, value_name = "PROMISE")]
    promise: Option<String>,
    /// Share of all such drives that shall keep it, %
    #[arg(long, value_name = "PERCENT", default_value = "99", value_parser = share)]
    content: f64,
    /// How sure that shall be, %
    #[arg(long, value_name = "PERCENT", default_value = "95", value_parser = share)]
    confidence: f64,
    /// Share of drives beyond the promise in a delivery that is still good, %
    #[arg(long, value_name = "PERCENT", default_value = "0.5", value_parser = share)]
    good: f64,
    /// Share of drives beyond the promise in a delivery that is bad, %
    #[arg(long, value_name = "PERCENT", default_value = "5", value_parser = share)]
    bad: f64,
    /// Draw the chart to a file: .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
    /// Write a report: .pdf, .html or .md
    #[arg(long, value_name = "FILE")]
    report: Option<PathBuf>,
    /// Write what the batch promises to a file of standing limits: every new haul of the model is held to them
    #[arg(long, value_name = "FILE")]
    limits: Option<PathBuf>,
    /// Write over a file that exists
    #[arg(long)]
    force: bool,
    /// As JSON
    #[arg(long)]
    json: bool,
}

impl BatchArgs {
    fn question(&self) -> Result<Question, AppError> {
        if self.good >= self.bad {
            return Err(AppError::usage(
                "--good must be less than --bad: no plan tells them apart otherwise",
            ));
        }
        Ok(Question {
            level: Level { content: self.content, confidence: self.confidence },
            wanted: self.promise.as_deref().map(wanted).transpose()?,
            aim: Aim { good: self.good, bad: self.bad, ..Aim::default() },
        })
    }
}

/// Runs it.
///
/// # Errors
/// When no haul has these words, or they make no batch.
pub fn run(args: &BatchArgs) -> Result<Exit, AppError> {
    let question = args.question()?;
    args.output.as_deref().map_or(Ok(()), chart::has_ending)?;
    args.report.as_deref().map(report::ending).transpose()?;
    let ledger = open_ledger()?;
    let rows = hauls_with(&ledger, &args.filter)?;
    if rows.is_empty() && !args.filter.is_empty() {
        return Err(AppError::usage("no haul has all of these words: `hollow-mile ledger` lists the hauls"));
    }
    let batched = Batched::of_firmware(&ledger, &rows, args.firmware.as_deref(), &question)?;
    if let Some(file) = &args.output {
        chart::write(&batched.chart(), file, args.force)?;
    }
    let mut written: Vec<PathBuf> = args.output.iter().chain(&args.limits).cloned().collect();
    if let Some(file) = &args.report {
        written.extend(report::write_all(&of_batch(&batched, None), file, args.force)?.0);
    }
    if let Some(file) = &args.limits {
        write_limits(&batched.batch, file, args.force)?;
    }
    if args.json {
        say_json(&batched)?;
        return Ok(Exit::Done);
    }
    let b = &batched.batch;
    let count = |n: usize, what: &str| if n == 1 { format!("1 {what}") } else { format!("{n} {what}s") };
    say(&format!(
        "{}  {}, {} by {}",
        b.model,
        count(b.drives.len(), "drive"),
        count(b.hauls, "haul"),
        b.route
    ))?;
    say("")?;
    batched.answer.iter().try_for_each(|s| say(s))?;
    batched.notes.iter().try_for_each(|s| say(&format!("note: {s}")))?;
    say("")?;
    say(&table(&table_of_figures(b)))?;
    if b.odd.len() > 3 {
        say("")?;
        b.odd.iter().try_for_each(|o| say(&odd_words(b, o)))?;
    }
    for file in &written {
        say(&format!("{} written", file.display()))?;
    }
    if let Some(file) = args.limits.as_ref().and_then(|f| f.parent()) {
        let place = limits::folder(&home::home()?);
        if file.canonicalize().ok() != place.canonicalize().ok() || !place.is_dir() {
            say(&format!("It holds for new hauls once it lies in {}.", place.display()))?;
        }
    }
    Ok(Exit::Done)
}

/// What the batch promises, as standing limits of its model.
fn write_limits(batch: &Batch, file: &Path, force: bool) -> Result<(), AppError> {
    if file.extension().is_none_or(|e| e != "toml") {
        return Err(AppError::usage(format!(
            "{}: standing limits are kept in a file that ends in .toml",
            file.display()
        )));
    }
    let Level { content, confidence } = batch.level;
    let source = format!(
        "{} drives: what {} of such drives keep, {} sure",
        batch.drives.len(),
        percent(content),
        percent(confidence)
    );
    let standing = Standing::of_batch(batch, source).ok_or_else(|| {
        AppError::usage("this batch promises nothing yet: a standing limit needs a figure with a bound")
    })?;
    let text = toml::to_string(&standing)
        .map_err(|e| AppError::machine(format!("the limits cannot be written: {e}")))?;
    create(file, Existing::replace_if(force))?
        .write_all(text.as_bytes())
        .map_err(|e| AppError::file(file, "written", &e))
}
