//! `limits`: what every haul of a model has to meet.

use std::path::{Path, PathBuf};

use hollow_mile_core::archive::standing::Standing;
use hollow_mile_core::route::Limit;
use serde::Serialize;

use super::claims::say_checked;
use super::{Answer, say, say_json, table};
use crate::error::{AppError, Exit};
use crate::{home, limits};

/// What is done with standing limits.
#[derive(Debug, clap::Subcommand)]
pub enum LimitsVerb {
    /// All: each file, whose drives it is for, and its limits
    List {
        /// As JSON
        #[arg(long)]
        json: bool,
    },
    /// Check a file of standing limits
    Check {
        /// File
        file: PathBuf,
        /// As JSON
        #[arg(long)]
        json: bool,
    },
}

#[derive(Serialize)]
struct Document<'a> {
    file: &'a Path,
    #[serde(flatten)]
    standing: Option<&'a Standing>,
    fault: Option<&'a str>,
}

/// Runs it.
///
/// # Errors
/// When the folder cannot be read, or a file that is checked holds no standing limits.
pub fn run(verb: &LimitsVerb) -> Result<Exit, AppError> {
    match verb {
        LimitsVerb::List { json } => list(Answer::json_if(*json)),
        LimitsVerb::Check { file, json } => check(file, Answer::json_if(*json)),
    }
}

fn list(answer: Answer) -> Result<Exit, AppError> {
    let home = home::home()?;
    let all = limits::all(&home)?;
    let broken = all.iter().any(|(_, s)| s.is_err());
    if answer == Answer::Json {
        let document = |(file, standing): &limits::Kept| {
            serde_json::to_value(Document {
                file,
                standing: standing.as_ref().ok(),
                fault: standing.as_ref().err().map(|e| e.message.as_str()),
            })
        };
        let documents: Result<Vec<_>, _> = all.iter().map(document).collect();
        say_json(&documents.map_err(|e| AppError::machine(format!("no JSON: {e}")))?)?;
        return Ok(if broken { Exit::Usage } else { Exit::Done });
    }
    if all.is_empty() {
        say(&format!(
            "no standing limits: a file for each model goes into {}",
            limits::folder(&home).display()
        ))?;
        return Ok(Exit::Done);
    }
    let mut rows = vec![["MODEL", "FIRMWARE", "ROUTE", "LIMIT", "SOURCE"].map(String::from).to_vec()];
    for (_, standing) in &all {
        match standing {
            Ok(s) => rows.extend(s.limits.iter().map(|l| row(s, l))),
            Err(e) => eprintln!("{}", e.message),
        }
    }
    say(&table(&rows))?;
    Ok(if broken { Exit::Usage } else { Exit::Done })
}

fn row(standing: &Standing, limit: &Limit) -> Vec<String> {
    let or_any = |t: &Option<String>| t.clone().unwrap_or_else(|| "any".into());
    vec![
        standing.model.clone(),
        or_any(&standing.firmware),
        or_any(&standing.route),
        limit.text().to_owned(),
        standing.source.clone(),
    ]
}

fn check(file: &Path, answer: Answer) -> Result<Exit, AppError> {
    let words = |s: Standing| {
        let count =
            if s.limits.len() == 1 { "1 limit".to_owned() } else { format!("{} limits", s.limits.len()) };
        format!("{count} of {}", s.model)
    };
    say_checked(file, limits::read(file).map(words), answer)
}
