//! `chart`: one of the pictures, as SVG or PDF.

use std::io::Write;
use std::path::{Path, PathBuf};

use clap::ValueEnum;
use hollow_mile_charts::scene::Scene;
use hollow_mile_charts::{experiments, freight, knee, lanes, models, pdf, proof, rounds, streams, surveys};
use hollow_mile_core::archive::batch::Question;
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::readings::Ruler;
use hollow_mile_ledger::Ledger;

use super::archive::{Existing, create};
use super::{open_ledger, say, say_json};
use crate::error::{AppError, Exit};
use crate::home;
use crate::told::batch::Batched;
use crate::told::{Compared, DriveFile};

/// Along what a chart is drawn.
#[derive(Debug, Clone, Copy, ValueEnum)]
pub enum Along {
    /// Elapsed time
    Elapsed,
    /// Bytes written and read
    Written,
    /// Position on the drive
    Position,
}

impl Along {
    /// The ruler of the record.
    #[must_use]
    pub const fn ruler(self) -> Ruler {
        match self {
            Self::Elapsed => Ruler::Elapsed,
            Self::Written => Ruler::Moved,
            Self::Position => Ruler::Position,
        }
    }
}

/// What a chart shows.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum ChartKind {
    /// Rate, latency and temperature with the findings as flags
    Lanes,
    /// Rate by position with slow stretches
    Ground,
    /// Figures against the level of fill
    Fill,
    /// Access time against the length of the span
    Spans,
    /// Rate and latency against depth and block size
    Ladder,
    /// What more depth buys in rate and costs in latency
    Knee,
    /// How figures settled over rounds, and every leg of a round in the measurement window
    Rounds,
    /// What a stream offered and the drive took, the buffer, and what each rate would need
    Streams,
    /// What was tried to find out why a rate fell, and how likely each cause is
    Experiments,
    /// The map of what was read back
    Proof,
    /// What each file costs, and what holds files up
    Freight,
    /// Temperature with the fitted model
    Heat,
    /// Several hauls on one ruler, and their figures with intervals
    Contrast,
    /// Figures of many drives of one kind, and what may be promised of all of them
    Batch,
    /// Wear of the drive over all its hauls
    Wear,
}

/// What is drawn, and where to.
#[derive(Debug, clap::Args)]
pub struct ChartArgs {
    /// Hauls: id, unique beginning of one, or `last`; several for `contrast` and `batch` alone
    #[arg(required = true, value_name = "HAUL")]
    hauls: Vec<String>,
    /// What it shows
    #[arg(long, value_enum, default_value = "lanes")]
    kind: ChartKind,
    /// Along what, for lanes and contrast
    #[arg(long, value_enum, default_value = "elapsed")]
    along: Along,
    /// What makes hauls repeats of each other, for contrast: see `contrast --help`
    #[arg(long, value_name = "WHAT")]
    by: Option<String>,
    /// Air temperature to which heat is brought, for heat and contrast
    #[arg(long, value_name = "CELSIUS", allow_hyphen_values = true)]
    ambient: Option<Celsius>,
    /// File to write: .svg or .pdf
    #[arg(short, long, value_name = "FILE")]
    output: PathBuf,
    /// Write over a file that exists
    #[arg(long)]
    force: bool,
    /// As JSON: the file, and its size in bytes
    #[arg(long)]
    json: bool,
}

/// A page as a file of this ending.
///
/// # Errors
/// When the ending is neither, or the page cannot be made.
pub fn encode(scene: &Scene, path: &Path) -> Result<Vec<u8>, AppError> {
    match path.extension().and_then(|e| e.to_str()) {
        Some("svg") => Ok(scene.to_svg().into_bytes()),
        Some("pdf") => pdf::pages(std::slice::from_ref(scene)).map_err(|e| AppError::usage(e.to_string())),
        _ => Err(AppError::usage(format!(
            "{} has no ending that can be drawn: end it in .svg or .pdf",
            path.display()
        ))),
    }
}

/// Draws one kind of chart.
///
/// # Errors
/// When the haul has nothing of this kind, with what haul would have it.
pub fn draw(
    ledger: &Ledger,
    home: &Path,
    hauls: &[String],
    kind: ChartKind,
    ruler: Ruler,
    by: Option<&str>,
    ambient: Option<Celsius>,
) -> Result<Scene, AppError> {
    if kind == ChartKind::Contrast {
        return Ok(Compared::of(ledger, hauls, by, ambient)?.chart(ruler));
    }
    if kind == ChartKind::Batch {
        let rows = hauls.iter().map(|h| ledger.haul(h)).collect::<Result<Vec<_>, _>>()?;
        return Ok(Batched::of(ledger, &rows, &Question::default())?.chart());
    }
    let [haul] = hauls else {
        return Err(AppError::usage(
            "this kind shows one haul: give one, or --kind contrast or batch for several",
        ));
    };
    let row = ledger.haul(haul)?;
    if kind == ChartKind::Wear {
        return Ok(DriveFile::of(ledger, home, &row.serial)?.wear_chart());
    }
    // By position passes lie over each other: only the whole record tells them apart.
    let whole = kind != ChartKind::Lanes || ruler == Ruler::Position;
    let (readings, conclusions) =
        if whole { ledger.concluded(&row.haul)? } else { ledger.pictured(&row.haul)? };
    let missing = |why: String| AppError::usage(format!("haul {}: {why}", row.haul));
    match kind {
        ChartKind::Ground => surveys::ground(&readings, &conclusions).map_err(missing),
        ChartKind::Fill => surveys::fill(&readings, &conclusions).map_err(missing),
        ChartKind::Spans => surveys::spans(&readings, &conclusions).map_err(missing),
        ChartKind::Ladder => surveys::ladder(&readings, &conclusions).map_err(missing),
        ChartKind::Knee => knee::knee(&readings, &conclusions).map_err(missing),
        ChartKind::Rounds => rounds::rounds(&readings, &conclusions).map_err(missing),
        ChartKind::Streams => streams::streams(&readings, &conclusions).map_err(missing),
        ChartKind::Experiments => experiments::experiments(&readings, &conclusions).map_err(missing),
        ChartKind::Proof => proof::proof(&readings, &conclusions).map_err(missing),
        ChartKind::Freight => freight::freight(&readings, &conclusions).map_err(missing),
        ChartKind::Heat => models::heat(&readings, conclusions.figures.hottest_rate(), ambient)
            .map_err(|r| missing(r.words())),
        ChartKind::Lanes | ChartKind::Contrast | ChartKind::Batch | ChartKind::Wear => {
            Ok(lanes::lanes(&readings, &conclusions, ruler))
        }
    }
}

/// A file that cannot be drawn is known before the ledger is asked.
///
/// # Errors
/// When its ending is none of a chart's.
pub fn has_ending(output: &Path) -> Result<(), AppError> {
    let ending = output.extension().and_then(|e| e.to_str());
    if !matches!(ending, Some("svg" | "pdf")) {
        encode(&Scene::new(1.0, 1.0, String::new()), output)?;
    }
    Ok(())
}

/// Writes a chart to a file.
///
/// # Errors
/// When it cannot be drawn or written, or is there already and `force` does not say that it may be replaced.
pub fn write(scene: &Scene, output: &Path, force: bool) -> Result<usize, AppError> {
    let bytes = encode(scene, output)?;
    let mut file = create(output, Existing::replace_if(force))?;
    file.write_all(&bytes).map_err(|e| AppError::file(output, "written", &e))?;
    Ok(bytes.len())
}

pub fn run(args: &ChartArgs) -> Result<Exit, AppError> {
    has_ending(&args.output)?;
    let ledger = open_ledger()?;
    let home = home::home()?;
    let (kind, ruler) = (args.kind, args.along.ruler());
    let scene = draw(&ledger, &home, &args.hauls, kind, ruler, args.by.as_deref(), args.ambient)?;
    let bytes = write(&scene, &args.output, args.force)?;
    if args.json {
        say_json(&serde_json::json!({ "file": args.output, "bytes": bytes }))?;
    } else {
        say(&format!("{} written", args.output.display()))?;
    }
    Ok(Exit::Done)
}
