//! A report on a batch: what may be promised of its drives, which are not like the others, what makes a difference, and how that is known.

use hollow_mile_charts::report::{Block, Report};
use hollow_mile_core::archive::batch::Method;
use hollow_mile_core::quantity::FigureKey;

use super::batch::{Batched, drift_words, effect_words, odd_words, percent, table_of_figures};
use super::report::{heading, strings};
use super::words;

/// Odd drives, and drives at all, in tables.
const MOST: usize = 40;

/// Its pages.
#[must_use]
pub fn of_batch(batched: &Batched, question: Option<&str>) -> Report {
    let b = &batched.batch;
    let drives = b.drives.len();
    let content = percent(b.level.content);
    let asked = question.map_or_else(
        || format!("What do {drives} drives {} by {} promise of all such drives?", b.model, b.route),
        str::to_owned,
    );
    let mut blocks = vec![heading("Question"), Block::Text(asked), heading("Verdict")];
    blocks.extend(batched.answer.iter().take(3).cloned().map(Block::Verdict));
    if !batched.notes.is_empty() {
        blocks.push(Block::List(batched.notes.clone()));
    }
    let caption = format!("A point a drive; the line is what {content} of such drives keep.");
    blocks.push(Block::Picture(batched.chart(), caption));
    let mut lines = table_of_figures(b).into_iter();
    let head = lines.next().unwrap_or_default().iter().map(|h| h.to_lowercase()).collect();
    blocks.extend([heading("Figures"), Block::Table { head, rows: lines.collect() }]);
    if !b.odd.is_empty() {
        let odd = b.odd.iter().take(MOST).map(|o| odd_words(b, o) + ".").collect();
        blocks.extend([heading("Not like the others"), Block::List(odd)]);
    }
    let effects = b.effects.iter().map(|e| effect_words(b, e));
    let differences: Vec<String> = effects.chain(b.drifts.iter().map(|d| drift_words(b, d))).collect();
    if !differences.is_empty() {
        blocks.extend([heading("What makes a difference"), Block::List(differences)]);
    }
    let odd = |i: usize| b.odd.iter().find(|o| o.drive == i).map(|o| o.letter.clone()).unwrap_or_default();
    // Odd ones first, when not all fit.
    let mut order: Vec<usize> = (0..drives).collect();
    order.sort_by_key(|i| (odd(*i).is_empty(), *i));
    let facts = |i: usize| {
        let all: Vec<String> = b.drives[i].facts.iter().map(|(k, v)| format!("{k} {v}")).collect();
        all.join(", ")
    };
    let rows = order.iter().take(MOST).map(|i| {
        let d = &b.drives[*i];
        vec![d.serial.clone(), odd(*i), d.hauls.join(", "), facts(*i)]
    });
    let rows: Vec<Vec<String>> = rows.collect();
    blocks.extend([
        heading("Drives"),
        Block::Table { head: strings(&["serial", "odd", "hauls", "stated"]), rows },
    ]);
    if drives > MOST {
        blocks.push(Block::Text(format!("And {} more.", drives - MOST)));
    }
    blocks.extend([heading("Method"), Block::List(method(batched))]);
    Report {
        title: format!("Batch: {} by {}", b.model, b.route),
        below: format!(
            "{drives} drives, {} hauls · Hollow Mile {} · made {}",
            b.hauls,
            env!("CARGO_PKG_VERSION"),
            words::local_time(jiff::Timestamp::now().as_millisecond())
        ),
        blocks,
    }
}

fn method(batched: &Batched) -> Vec<String> {
    let b = &batched.batch;
    let uses = |of: fn(&Method) -> bool| b.rows.iter().any(|r| r.promise.is_ok_and(|p| of(&p.method)));
    let ways = [
        (
            uses(|m| matches!(m, Method::Normal { .. })),
            "Normal: mean less k deviations, k from the noncentral t (ISO 16269-6).",
        ),
        (
            uses(|m| matches!(m, Method::NormalRepeats)),
            "Normal, repeats' scatter taken off: generalised pivotal quantities (Krishnamoorthy and Mathew 2004).",
        ),
        (
            uses(|m| matches!(m, Method::Levels)),
            "The worst level: the levels of what makes the largest difference, each with so much more confidence that all hold together.",
        ),
        (
            uses(|m| matches!(m, Method::Order { .. })),
            "Without a distribution: order statistics (ISO 16269-6).",
        ),
    ];
    let mut all = vec![format!(
        "Hauls within drives within the batch: ten hauls of one drive are one drive. Tolerance limits hold {} of such drives with {} \
             confidence.",
        percent(b.level.content),
        percent(b.level.confidence)
    )];
    all.extend(ways.into_iter().filter(|w| w.0).map(|w| w.1.to_owned()));
    all.push(
        "Not like the others: generalised extreme Studentized deviate (Rosner 1983) over all figures together at 5 %, after what firmware and \
         the like make is taken off."
            .into(),
    );
    all.push(
        "Differences and drifts are corrected after Holm, all together at 5 %. MB/s is 10^6 bytes a second."
            .into(),
    );
    let own = b.rows.iter().any(|r| matches!(r.name, FigureKey::Own(_)));
    if own {
        all.push("Figures of single loads are named by what the load does.".into());
    }
    all
}
