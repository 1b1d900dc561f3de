//! `report`: a few pages on a haul or a contrast, as PDF, HTML or Markdown.

use crate::told::report;
use std::io::Write;
use std::path::{Path, PathBuf};

use hollow_mile_charts::pdf;
use hollow_mile_charts::report::Report;
use hollow_mile_core::quantity::units::Celsius;

use super::archive::{Existing, create};
use super::{open_ledger, say, say_json};
use crate::error::{AppError, Exit};
use crate::home;
use crate::told::{Compared, Told};

/// What is reported, and where to.
#[derive(Debug, clap::Args)]
pub struct ReportArgs {
    /// One haul, or several side by side: id, unique beginning of one, or `last`
    #[arg(required = true, value_name = "HAUL")]
    hauls: Vec<String>,
    /// File to write: .pdf, .html with its pictures in it, or .md with its pictures beside it
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// The question that it answers, in your words
    #[arg(long, value_name = "TEXT")]
    question: Option<String>,
    /// What sets sides apart: see `contrast --help`
    #[arg(long, value_name = "WHAT")]
    by: Option<String>,
    /// Air temperature to which heat is brought, °C
    #[arg(long, value_name = "CELSIUS", allow_hyphen_values = true)]
    ambient: Option<Celsius>,
    /// Write over files that exist
    #[arg(long)]
    force: bool,
    /// As JSON: the files, and the number of pages
    #[arg(long)]
    json: bool,
}

fn write(path: &Path, bytes: &[u8], existing: Existing) -> Result<(), AppError> {
    let mut file = create(path, existing)?;
    file.write_all(bytes).map_err(|e| AppError::file(path, "written", &e))
}

/// The file's ending, where a report can have it.
pub fn ending(output: &Path) -> Result<&str, AppError> {
    let ending = output.extension().and_then(|e| e.to_str());
    ending.filter(|e| matches!(*e, "pdf" | "html" | "md")).ok_or_else(|| {
        AppError::usage(format!(
            "{} has no ending that a report can have: end it in .pdf, .html or .md",
            output.display()
        ))
    })
}

/// Writes a report: the files, and how many pages where it has pages.
pub fn write_all(
    made: &Report,
    output: &Path,
    force: bool,
) -> Result<(Vec<PathBuf>, Option<usize>), AppError> {
    let ending = ending(output)?;
    let mut files = vec![output.to_owned()];
    let mut pages = None;
    if ending == "pdf" {
        let scenes = made.pages();
        pages = Some(scenes.len());
        let bytes = pdf::pages(&scenes).map_err(|e| AppError::usage(e.to_string()))?;
        write(output, &bytes, Existing::replace_if(force))?;
    } else if ending == "html" {
        write(output, made.html().as_bytes(), Existing::replace_if(force))?;
    } else {
        let stem = output.file_stem().map_or_else(|| "report".into(), |s| s.to_string_lossy().into_owned());
        let (text, pictures) = made.markdown(|i| format!("{stem}-{}.svg", i + 1));
        write(output, text.as_bytes(), Existing::replace_if(force))?;
        for (i, scene) in pictures.into_iter().enumerate() {
            let path = output.with_file_name(format!("{stem}-{}.svg", i + 1));
            write(&path, scene.to_svg().as_bytes(), Existing::replace_if(force))?;
            files.push(path);
        }
    }
    Ok((files, pages))
}

pub fn run(args: &ReportArgs) -> Result<Exit, AppError> {
    ending(&args.output)?;
    let ledger = open_ledger()?;
    let made = match args.hauls.as_slice() {
        [one] => {
            let told = Told::of_haul(&ledger, &home::home()?, one)?;
            report::of_haul(&told, args.question.as_deref(), args.ambient)?
        }
        many => {
            let compared = Compared::of(&ledger, many, args.by.as_deref(), args.ambient)?;
            report::of_contrast(&compared, args.question.as_deref())
        }
    };
    let (files, pages) = write_all(&made, &args.output, args.force)?;
    if args.json {
        say_json(&serde_json::json!({ "files": files, "pages": pages }))?;
    } else {
        let count = pages.map(|n| format!(", {n} pages")).unwrap_or_default();
        let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
        say(&format!("{} written{count}", names.join(", ")))?;
    }
    Ok(Exit::Done)
}
