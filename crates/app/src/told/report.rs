//! What a report says, of one haul or of a contrast: question, verdict, conditions, figures, pictures, findings, limits, method,
//! versions. Its pages are laid out in the charts crate.

use super::Told;
use super::contrast::{Detail, table_of_figures};
use crate::told::headline;
use crate::told::words;
use hollow_mile_core::archive::claims::Stands;
use hollow_mile_core::archive::digest::Digest;

use hollow_mile_charts::report::{Block, Report};
use hollow_mile_charts::{experiments, freight, knee, lanes, models, proof, rounds, streams, surveys};
use hollow_mile_core::archive::claims::three;
use hollow_mile_core::archive::contrast::{Row, Standing};
use hollow_mile_core::archive::digest::Figure;
use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::units::{Celsius, clock};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::HaulHead;
use hollow_mile_ledger::HaulRow;

use crate::error::AppError;
use crate::told::Compared;

/// Findings told with their evidence at most: a sawtooth has hundreds, and they are in the record.
const MOST_FINDINGS: usize = 8;
/// Sentences of evidence for each.
const MOST_EVIDENCE: usize = 3;
/// Figures of a contrast at most.
const MOST_FIGURES: usize = 24;

pub(super) fn heading(words: &str) -> Block {
    Block::Heading(words.into())
}

pub(super) fn strings(all: &[&str]) -> Vec<String> {
    all.iter().map(|t| (*t).to_owned()).collect()
}

fn interval(f: &Figure) -> String {
    f.interval.map_or_else(
        || "not known".into(),
        |(l, h)| match [l, h].map(|bound| f.quantity.words(bound)) {
            // Digits that both have tell nothing apart.
            [low, high] if low == high => f.quantity.plus_minus(0.5 * (l + h), 0.5 * (h - l)),
            [low, high] => format!("{low} to {high}"),
        },
    )
}

fn conditions(head: &HaulHead, row: &HaulRow) -> Vec<Vec<String>> {
    let d = &head.drive;
    let c = &row.conditions;
    let mut rows: Vec<(&str, String)> = vec![
        ("drive", format!("{} {}, {}", d.serial, d.model, d.capacity)),
        ("firmware", d.firmware.clone()),
        ("link", d.link.as_ref().map(|l| l.words()).unwrap_or_default()),
        ("route", format!("{}: {}", head.route.name, head.route.about)),
        ("started", words::local_time(row.started_unix_ms)),
        ("elapsed", format!("{} h:mm:ss, {}", clock(row.elapsed), row.state.word())),
        ("moved", format!("{} written, {} read", row.written, row.read)),
        ("ambient", c.ambient.map(|a| a.to_string()).unwrap_or_default()),
        ("cooling", c.cooling.clone().unwrap_or_default()),
        ("slot", c.slot.clone().unwrap_or_default()),
        ("full at the start", d.fill_percent.map(|f| format!("{f:.0} %")).unwrap_or_default()),
    ];
    rows.extend(c.source.clone().map(|s| ("copied from", s)));
    if !c.tags.is_empty() {
        let tags: Vec<String> = c.tags.iter().map(|(k, v)| format!("{k}={v}")).collect();
        rows.push(("tags", tags.join(", ")));
    }
    rows.extend(row.note.clone().map(|n| ("note", n)));
    rows.into_iter()
        .map(|(k, v)| vec![k.to_owned(), if v.is_empty() { "not stated".into() } else { v }])
        .collect()
}

fn one_finding(i: usize, f: &Finding) -> Vec<Block> {
    let evidence = f.evidence.iter().take(MOST_EVIDENCE).cloned().collect();
    vec![Block::Text(format!("{}  {}", lanes::letter(i), lanes::finding_line(f))), Block::List(evidence)]
}

/// More than these make a report that nobody reads.
const MOST_PICTURES: usize = 4;

/// The pictures that a haul has something for, with their captions.
fn pictures(readings: &Readings, c: &Conclusions, ambient: Option<Celsius>) -> Vec<Block> {
    let mut out = Vec::new();
    let survey = vec![
        (surveys::ground(readings, c), "Rate by position, pass over pass; slow stretches are shaded."),
        (surveys::fill(readings, c), "Each figure against the level of fill, with its 95 % interval."),
        (surveys::spans(readings, c), "Access time against the length of the span."),
        (
            streams::streams(readings, c),
            "What was offered and taken, the buffer, and what each rate would need.",
        ),
        (
            freight::freight(readings, c),
            "What a file takes against its size, the line that its costs make, and what holds each leg up.",
        ),
        (proof::proof(readings, c), "The drive from its first address on, row by row: what was read back."),
    ];
    // One page for each order and crew of a ladder.
    let knees = knee::knees(readings, c).unwrap_or_default().into_iter();
    let caption = "What more depth buys in rate, and what it costs in latency.";
    let ladder = knees.map(|scene| (Ok(scene), caption));
    let ladder = ladder.chain([(surveys::ladder(readings, c), "Rate and latency against depth.")]);
    let settled = rounds::pages(readings, c).unwrap_or_default().into_iter();
    let caption = "How each figure settled over the rounds, what every leg of a round gave in the measurement window, and response times.";
    let settled = settled.map(|scene| (Ok(scene), caption));
    let tried = experiments::pages(readings, c).unwrap_or_default().into_iter();
    let caption = "What was tried to find out why the rate fell, and how likely each cause is by it.";
    let tried: Vec<Block> = tried.map(|scene| Block::Picture(scene, caption.to_owned())).collect();
    let surveyed: Vec<Block> = settled
        .chain(survey)
        .chain(ladder)
        .filter_map(|(scene, caption)| Some(Block::Picture(scene.ok()?, caption.to_owned())))
        .collect();
    let ruler =
        if surveyed.is_empty() && readings.written().get() > 0 { Ruler::Moved } else { Ruler::Elapsed };
    if surveyed.len() < 2 {
        let caption = "Rate, latency and temperature; letters are the findings below.".to_owned();
        out.push(Block::Picture(lanes::lanes(readings, c, ruler), caption));
    }
    out.extend(surveyed);
    out.extend(tried);
    if let Ok(scene) = models::heat(readings, c.figures.hottest_rate(), ambient).as_ref() {
        let caption = "Temperature and the first-order model fitted to it.".to_owned();
        out.push(Block::Picture(scene.clone(), caption));
    }
    out.truncate(MOST_PICTURES);
    out
}

fn method(readings: &Readings) -> Vec<String> {
    let interval = readings.head().map(|h| h.route.interval).unwrap_or_default();
    let mut all = vec![
        format!(
            "Moved by {}. A sample every {} ms; nothing was averaged before it was written down.",
            readings.engine(),
            interval.as_millis()
        ),
        "MB/s is 10^6 bytes a second. Intervals of rates are 95 % by the means of ten parts of the stretch (Student t); \
         those of places follow from the change of level itself."
            .to_owned(),
        "Changes of level are found exactly (optimal partitioning with pruning and a bounded cost); a cause is stated only \
         with evidence for it and against the others, else the change is called unexplained."
            .to_owned(),
    ];
    all.extend(readings.doubts());
    all
}

fn below(heads: &[&HaulHead]) -> String {
    let versions: Vec<String> = {
        let mut v: Vec<String> = heads.iter().map(|h| h.program.clone()).collect();
        v.sort();
        v.dedup();
        v
    };
    format!(
        "Hollow Mile {} · recorded by {} · made {}",
        env!("CARGO_PKG_VERSION"),
        versions.join(", "),
        words::local_time(jiff::Timestamp::now().as_millisecond())
    )
}

/// A report on one haul of a ledger.
///
/// # Errors
/// When its record has no head.
pub fn of_haul(told: &Told, question: Option<&str>, ambient: Option<Celsius>) -> Result<Report, AppError> {
    let missing = || AppError::usage(format!("haul {}: its record has no head", told.haul));
    let (head, row) = told.readings.head().zip(told.row.as_ref()).ok_or_else(missing)?;
    let (readings, c) = (&told.readings, &told.conclusions);
    let drive = format!("{} {}", head.drive.serial, head.drive.model);
    let asked = question.map_or_else(
        || {
            let about = head.route.about.trim_end_matches('.');
            format!("What does {drive} do under the route {}: {about}?", head.route.name)
        },
        str::to_owned,
    );
    let mut blocks = vec![heading("Question"), Block::Text(asked), heading("Verdict")];
    blocks.push(Block::Verdict(headline::answer(readings, c)));
    if !told.limits.is_empty() {
        let n = told.limits.len();
        blocks.push(Block::Verdict(match told.missed() {
            0 => format!("No limit of {n} was missed."),
            m => format!("{m} of {n} limits missed."),
        }));
    }
    blocks.extend([
        heading("Conditions"),
        Block::Table { head: strings(&["condition", "value"]), rows: conditions(head, row) },
        heading("Figures"),
        figures(&told.digest),
    ]);
    blocks.extend(pictures(readings, c, ambient));
    blocks.extend(against_claims(told));
    blocks.extend(findings(told));
    let mut models = told.models.cache_words();
    models.extend(told.models.heat_words(c.figures.hottest_rate(), ambient));
    blocks.extend([heading("Cache and heat"), Block::List(models)]);
    if !told.limits.is_empty() {
        let rows = told.limits.iter().map(|l| {
            let of = if l.standing { "model" } else { "route" };
            vec![l.limit.clone(), of.to_owned(), l.verdict.word().to_owned(), l.because.clone()]
        });
        blocks.push(heading("Limits"));
        blocks.push(Block::Table {
            head: strings(&["limit", "of", "verdict", "because"]),
            rows: rows.collect(),
        });
    }
    blocks.extend([heading("Method"), Block::List(method(readings))]);
    let title = format!("{drive}: {}", head.route.name);
    Ok(Report { title, below: format!("haul {} · {}", told.haul, below(&[head])), blocks })
}

fn figures(digest: &Digest) -> Block {
    Block::Table {
        head: strings(&["figure", "value", "95 % interval within the haul"]),
        rows: digest
            .figures
            .iter()
            .map(|f| vec![f.name.to_string(), f.quantity.words(f.value), interval(f)])
            .collect(),
    }
}

fn against_claims(told: &Told) -> Vec<Block> {
    let Some(claims) = &told.claims else { return Vec::new() };
    let row = |s: &Stands| {
        let range = s.interval.map(|(l, h)| format!("{} to {}", three(l), three(h)));
        vec![
            s.name.clone(),
            s.unit.words(s.claimed),
            s.unit.words(s.measured),
            three(s.ratio),
            range.unwrap_or_else(|| "not known".into()),
        ]
    };
    let mut words = vec![format!("Source: {}.", claims.source)];
    words.extend(told.claimed_heat().into_iter().map(|w| format!("{w}.")));
    words.extend(told.cost().map(|c| format!("This haul {}.", c.words())));
    let mut blocks = vec![heading("Against the maker's claims")];
    let rows: Vec<Vec<String>> = told.stands().iter().map(row).collect();
    if !rows.is_empty() {
        let head = strings(&["claim", "claimed", "measured", "ratio", "95 % interval"]);
        blocks.push(Block::Table { head, rows });
    }
    blocks.push(Block::List(words));
    blocks
}

fn findings(told: &Told) -> Vec<Block> {
    let all = &told.conclusions.findings;
    let mut blocks = vec![heading("Findings")];
    if all.is_empty() {
        blocks.push(Block::Text("None.".into()));
    }
    blocks.extend(all.iter().take(MOST_FINDINGS).enumerate().flat_map(|(i, f)| one_finding(i, f)));
    if all.len() > MOST_FINDINGS {
        let more = all.len() - MOST_FINDINGS;
        blocks
            .push(Block::Text(format!("{more} more are in the record: hollow-mile findings {}.", told.haul)));
    }
    blocks
}

/// A report on hauls side by side.
///
/// # Errors
/// When they cannot be compared.
pub fn of_contrast(compared: &Compared, question: Option<&str>) -> Report {
    let c = &compared.contrast;
    let sides: Vec<String> = c.sides.iter().map(|s| s.name.clone()).collect();
    let asked = question.map_or_else(|| format!("What sets apart: {}?", sides.join(" — ")), str::to_owned);
    let mut blocks = vec![heading("Question"), Block::Text(asked), heading("Verdict")];
    blocks.extend(c.answer.iter().take(4).cloned().map(Block::Verdict));
    if !c.warnings.is_empty() {
        blocks.push(Block::List(c.warnings.clone()));
    }
    blocks.push(heading("Sides"));
    blocks.push(Block::Table {
        head: strings(&["side", "what it is", "hauls"]),
        rows: c.sides.iter().map(|s| vec![s.letter.clone(), s.name.clone(), s.hauls.join(", ")]).collect(),
    });
    if !c.differs.is_empty() {
        let mut head = vec!["condition".to_owned()];
        head.extend(c.sides.iter().map(|s| s.letter.clone()));
        let rows =
            c.differs.iter().map(|d| std::iter::once(d.name.clone()).chain(d.values.clone()).collect());
        blocks.push(Block::Table { head, rows: rows.collect() });
    }
    let moved = compared.subjects.iter().any(|s| s.digest.treatment.written_bytes > 0);
    let ruler = if moved { Ruler::Moved } else { Ruler::Elapsed };
    let caption = "Each haul on the ruler, each leg from its start; figures with 95 % intervals.".to_owned();
    blocks.push(Block::Picture(compared.chart(ruler), caption));
    blocks.push(heading("Figures"));
    let (head, mut rows) = table_of_figures(c, Detail::Full);
    // Those that differ first, when not all fit.
    if rows.len() > MOST_FIGURES {
        let differs = |r: &Row| r.against.iter().any(|a| a.standing == Standing::Differs);
        let mut both: Vec<(&Row, Vec<String>)> = c.figures.iter().zip(rows).collect();
        both.sort_by_key(|(figure, _)| !differs(figure));
        rows = both.into_iter().take(MOST_FIGURES).map(|(_, words)| words).collect();
    }
    blocks.push(Block::Table { head, rows });
    let matched: Vec<String> = c.findings.iter().flat_map(|m| m.sentences.clone()).take(16).collect();
    if !matched.is_empty() {
        blocks.extend([heading("Findings, matched"), Block::List(matched)]);
    }
    let heat: Vec<String> = compared
        .subjects
        .iter()
        .zip(&compared.side_of)
        .filter_map(|(s, side)| {
            let h = s.digest.heat_model.known()?;
            Some(format!(
                "{} (haul {}): {:.1} K for each GB/s ({:.1} to {:.1}), time constant {:.0} s; {:.1} K left over.",
                c.sides[*side].letter,
                s.head.haul,
                h.rise_k_per_gb_s.value,
                h.rise_k_per_gb_s.low,
                h.rise_k_per_gb_s.high,
                h.tau_s.value,
                h.residual_k
            ))
        })
        .collect();
    if !heat.is_empty() {
        blocks.extend([heading("Heat"), Block::List(heat)]);
    }
    let mut how = vec![
        "Means and 95 % intervals over repeats (Student t); differences by Welch's test, corrected after Holm for all \
         figures together: called one below p 0.05. With one haul a side the noise is not known, and nothing is called a difference."
            .to_owned(),
        "MB/s is 10^6 bytes a second. Heat is compared as the rise above the air around the drive.".to_owned(),
    ];
    if let Some(a) = c.ambient_c {
        how.push(format!("Highest temperatures were brought to air of {a} °C, one to one."));
    }
    blocks.extend([heading("Method"), Block::List(how)]);
    let heads: Vec<&HaulHead> = compared.subjects.iter().map(|s| &s.head).collect();
    let title = format!("Contrast: {}", sides.join(" — "));
    Report { title, below: format!("{} hauls · {}", heads.len(), below(&heads)), blocks }
}
