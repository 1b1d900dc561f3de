//! Chart of a ladder as its knee: what more depth buys in rate, and what it costs in waiting.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::ladder::{LadderSurvey, Rung};
use hollow_mile_core::drive::{Link, Pattern};
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Bytes, Rate, mb_s_figure};
use hollow_mile_core::readings::Readings;

use crate::lanes::LEFT;
use crate::plot::{FAINT, Range, Style, TEXT, legend_in, mark_in};
use crate::scene::{Anchor, Scene};
use crate::surveys::{Missing, TOP, begin, missing, plot, rung_words, ticks};

/// One, two and five of each decade.
fn steps(low: f64, high: f64) -> impl Iterator<Item = f64> {
    let decades = low.log10().floor() as i32..=high.log10().ceil() as i32;
    let all = decades.flat_map(|d| [1.0, 2.0, 5.0].map(|s| s * 10f64.powi(d)));
    all.filter(move |v| (low..=high).contains(v))
}

/// The rungs of one order and one crew, as the views page them.
struct Page<'a> {
    rungs: Vec<&'a Rung>,
    blocks: Vec<u64>,
}

impl Page<'_> {
    fn words(&self) -> String {
        let workers = self.rungs[0].workers;
        let crew = if workers == 1 { "one worker".to_owned() } else { format!("{workers} workers") };
        format!("{}, {crew}", self.rungs[0].pattern.words())
    }

    /// From its title to its last name.
    fn height(&self) -> f64 {
        500.0 + self.blocks.len() as f64 * 16.0
    }
}

/// At random first, then one after the other; the smaller crew first.
fn pages_of(survey: &LadderSurvey) -> Vec<Page<'_>> {
    let key = |r: &Rung| (r.pattern != Pattern::Random, r.pattern.words(), r.workers);
    let mut keys: Vec<_> = survey.rungs.iter().filter(|r| r.mb_s > 0.0).map(key).collect();
    keys.sort_unstable();
    keys.dedup();
    let page = |k| {
        let rungs: Vec<&Rung> = survey.rungs.iter().filter(|r| key(r) == k && r.mb_s > 0.0).collect();
        let mut blocks: Vec<u64> = rungs.iter().map(|r| r.block_bytes).collect();
        blocks.sort_unstable();
        blocks.dedup();
        Page { rungs, blocks }
    };
    keys.into_iter().map(page).collect()
}

fn survey_of(conclusions: &Conclusions) -> Result<(&LadderSurvey, Vec<Page<'_>>), Missing> {
    let Some(survey) = &conclusions.surveys.ladder else {
        return Err(missing("ladder", "`hollow-mile haul ladder` climbs one"));
    };
    let pages = pages_of(survey);
    if pages.is_empty() {
        return Err(missing("rung that was measured", "`hollow-mile haul ladder` climbs them"));
    }
    Ok((survey, pages))
}

/// Rate against p99 latency, a line a block size with its depths; one panel for each order and crew, under each other.
///
/// # Errors
/// When the haul climbed no ladder.
pub fn knee(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let (survey, pages) = survey_of(conclusions)?;
    let several = pages.len() > 1;
    let what = match pages.as_slice() {
        [one] => format!("what depth buys and costs, {}", one.words()),
        _ => "what depth buys and costs".to_owned(),
    };
    let head = if several { 22.0 } else { 0.0 };
    let height = pages.iter().map(|p| p.height() + head).sum::<f64>();
    let mut scene = begin(readings, &what, TOP + height + 40.0);
    let mut top = TOP;
    for page in &pages {
        if several {
            scene.words((LEFT, top + 8.0), page.words(), 12.0, TEXT, Anchor::Start);
        }
        panel(&mut scene, readings, survey, page, top + head);
        top += page.height() + head;
    }
    Ok(scene)
}

/// As [`knee`], a chart for each order and crew: a page each.
///
/// # Errors
/// When the haul climbed no ladder.
pub fn knees(readings: &Readings, conclusions: &Conclusions) -> Result<Vec<Scene>, Missing> {
    let (survey, pages) = survey_of(conclusions)?;
    let one = |page: &Page<'_>| {
        let what = format!("what depth buys and costs, {}", page.words());
        let mut scene = begin(readings, &what, TOP + page.height() + 40.0);
        panel(&mut scene, readings, survey, page, TOP);
        scene
    };
    Ok(pages.iter().map(one).collect())
}

/// The curves of one page from `top` down.
fn panel(scene: &mut Scene, readings: &Readings, survey: &LadderSurvey, page: &Page<'_>, top: f64) {
    let (rungs, blocks) = (&page.rungs, &page.blocks);
    let extremes = |of: &dyn Fn(&Rung) -> f64| {
        rungs.iter().map(|r| of(r)).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)))
    };
    let (slow, fast) = extremes(&|r| r.mb_s);
    let (short, long) = extremes(&|r| r.p99_us.max(1.0));
    let link = readings.head().and_then(|h| h.drive.link.as_ref().and_then(Link::payload_ceiling));
    let ceiling = link.map(Rate::mb_s).filter(|l| *l < fast * 4.0);
    let (x, y) = (
        Range::log(short / 1.4, (long * 1.4).max(short * 4.0)),
        Range::log(slow / 1.4, ceiling.map_or(fast, |c| c.max(fast)) * 1.5),
    );
    let p = plot(top + 10.0, top + 400.0, x, y);
    let latencies = scale::latencies(x.low, x.high);
    p.axis_x(scene, &latencies, "latency p99");
    p.axis_y(scene, &ticks("MB/s", steps(y.low, y.high).map(|v| (v, mb_s_figure(v)))), "rate");
    if let (Some(c), Some(link)) = (ceiling, link) {
        scene.dashes(vec![(p.left, p.y(c)), (p.right, p.y(c))], FAINT, 1.0);
        scene.words(
            (p.left + 6.0, p.y(c) - 5.0),
            format!("the link carries {link}"),
            10.5,
            FAINT,
            Anchor::Start,
        );
    }
    let mut names = Vec::new();
    for (i, block) in blocks.iter().enumerate() {
        let style = Style::of(i);
        let mut own: Vec<&&Rung> = rungs.iter().filter(|r| r.block_bytes == *block).collect();
        own.sort_by_key(|r| r.depth);
        scene.stroke(
            own.iter().map(|r| p.at(r.p99_us.max(1.0), r.mb_s)).collect(),
            style.ink,
            1.4,
            style.dash,
        );
        for r in &own {
            let at = p.at(r.p99_us.max(1.0), r.mb_s);
            mark_in(scene, at, style);
            scene.spot_at(at, rung_words(r));
            scene.words((at.0 + 6.0, at.1 - 4.0), r.depth.to_string(), 9.5, TEXT, Anchor::Start);
        }
        let enough = survey
            .saturation
            .iter()
            .find(|s| (s.block_bytes, s.workers, s.pattern) == (*block, rungs[0].workers, rungs[0].pattern));
        let enough = enough.map_or_else(String::new, |s| format!(": depth {} is enough", s.depth));
        names.push((style, format!("{}{enough}", Bytes::new(*block).binary())));
    }
    scene.words((LEFT, top + 460.0), "Figures at the points are depths.", 10.5, FAINT, Anchor::Start);
    legend_in(scene, (LEFT, top + 482.0), &names, true);
}
