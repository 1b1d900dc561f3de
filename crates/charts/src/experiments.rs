//! Chart of experiments: of each fall that was looked into the arms, one under the other in the order in which they were made, and how likely
//! each cause was before them and is after them.

use hollow_mile_core::conclude::inquiry::{Decision, cause_words};
use hollow_mile_core::conclude::{Conclusions, Finding};
use hollow_mile_core::quantity::units::{mb_s_figure, span_words};
use hollow_mile_core::quantity::{FindingKind, scale};
use hollow_mile_core::readings::Readings;

use crate::lanes::{LEFT, RIGHT, letter};
use crate::plot::{FAINT, Plot, Range, SHADE, TEXT};
use crate::scene::{Anchor, Ink, Scene};
use crate::surveys::{Missing, TOP, begin, missing};

const ROW: f64 = 19.0;
/// Where the names of arms end, where the bars of arms end, and where the shares begin and end.
const NAMES: f64 = LEFT + 40.0;
const BARS: f64 = 690.0;
const SHARES: (f64, f64) = (930.0, RIGHT - 44.0);
/// Of an arm of the load as it is, and of one that is set beside it.
const AS_IT_IS: Ink = Ink(170, 178, 188);
const SET_BESIDE: Ink = Ink(86, 148, 152);

/// All falls of a haul that were looked into, under each other.
///
/// # Errors
/// When there was none.
pub fn experiments(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let all = looked_into(conclusions)?;
    let mut scene = begin(readings, "experiments", TOP + all.iter().map(|f| height(f.1)).sum::<f64>());
    let mut top = TOP;
    for (index, decision, finding) in all {
        panel(&mut scene, (index, finding), decision, top);
        top += height(decision);
    }
    Ok(scene)
}

/// As [`experiments`], a chart for each fall: a page each.
///
/// # Errors
/// When there was none.
pub fn pages(readings: &Readings, conclusions: &Conclusions) -> Result<Vec<Scene>, Missing> {
    let page = |(index, decision, finding): (usize, &Decision, &Finding)| {
        let mut scene = begin(readings, "experiments", TOP + height(decision));
        panel(&mut scene, (index, finding), decision, TOP);
        scene
    };
    Ok(looked_into(conclusions)?.into_iter().map(page).collect())
}

/// Findings with what was tried, and their number among all.
fn looked_into(conclusions: &Conclusions) -> Result<Vec<(usize, &Decision, &Finding)>, Missing> {
    let numbered = conclusions.findings.iter().enumerate();
    let tried =
        numbered.filter_map(|(i, f)| Some((i, f.decided.as_deref().filter(|d| !d.arms.is_empty())?, f)));
    let all: Vec<_> = tried.collect();
    if all.is_empty() {
        return Err(missing("experiments", "`hollow-mile haul why` finds out why a rate falls"));
    }
    Ok(all)
}

fn height(decision: &Decision) -> f64 {
    let rows = decision.arms.len().max(2 * causes(decision).len() + 1);
    96.0 + rows as f64 * ROW + 70.0
}

/// Causes that have a share worth a bar, before or after: the likeliest after it first.
fn causes(decision: &Decision) -> Vec<(FindingKind, f64, f64)> {
    let before = |kind| decision.before.iter().filter(|c| c.kind == kind).map(|c| c.share).sum::<f64>();
    let all = decision.shares.iter().map(|c| (c.kind, before(c.kind), c.share));
    all.filter(|c| c.1.max(c.2) >= 0.005).collect()
}

fn bar(scene: &mut Scene, (left, right): (f64, f64), y: f64, height: f64, ink: Ink, words: String) {
    let right = right.max(left + 1.0);
    scene.area(vec![(left, y), (right, y), (right, y + height), (left, y + height)], ink);
    scene.spot((left, y), (right, y + height), words);
}

fn panel(scene: &mut Scene, (index, finding): (usize, &Finding), decision: &Decision, top: f64) {
    let words = finding.evidence.first().cloned().unwrap_or_default();
    scene.heavy((LEFT - 60.0, top + 14.0), letter(index), 12.5, TEXT, Anchor::Start);
    scene.paragraph((LEFT - 36.0, top + 14.0), &words, 12.0, TEXT, RIGHT - LEFT + 30.0);
    arms(scene, finding, decision, top + 62.0);
    shares(scene, decision, top + 62.0);
}

fn arms(scene: &mut Scene, finding: &Finding, decision: &Decision, top: f64) {
    let known = [finding.before, finding.after].into_iter().flatten().map(|r| r.mb_s());
    let most = decision.arms.iter().filter_map(|a| a.mb_s).chain(known).fold(1.0, f64::max);
    let bottom = top + decision.arms.len() as f64 * ROW;
    let x = Range::even(0.0, 1.06 * most);
    let p = Plot { left: NAMES, right: BARS, top, bottom, x, y: Range::even(0.0, 1.0) };
    p.axis_x(
        scene,
        &scale::plain(1.06 * most, 6, "MB/s"),
        "rate of each arm, in the order in which they were made",
    );
    let levels = [("before the fall", finding.before), ("after it", finding.after)];
    for (name, rate) in levels.iter().filter_map(|(name, rate)| Some((*name, (*rate)?.mb_s()))) {
        let x = p.x(rate);
        scene.dashes(vec![(x, top - 4.0), (x, bottom)], TEXT, 0.9);
        let end = if name.starts_with("before") { Anchor::End } else { Anchor::Start };
        let aside = if end == Anchor::End { -3.0 } else { 3.0 };
        scene.words((x + aside, top - 7.0), format!("{name}: {} MB/s", mb_s_figure(rate)), 10.0, FAINT, end);
    }
    for (i, arm) in decision.arms.iter().enumerate() {
        let y = top + i as f64 * ROW + 2.5;
        scene.words((NAMES - 8.0, y + 11.0), arm.kind.word(), 10.5, TEXT, Anchor::End);
        let lasted = span_words(arm.seconds);
        let Some(rate) = arm.mb_s else {
            scene.words(
                (NAMES + 6.0, y + 11.0),
                format!("{lasted} without a load"),
                10.5,
                FAINT,
                Anchor::Start,
            );
            continue;
        };
        let ink = if arm.kind.goes_on_as_it_is() { AS_IT_IS } else { SET_BESIDE };
        let figure = mb_s_figure(rate);
        let spot = format!("{}: {figure} MB/s, {lasted}", arm.kind.word());
        bar(scene, (NAMES, p.x(rate)), y, ROW - 5.0, ink, spot);
        scene.words((BARS + 8.0, y + 11.0), format!("{figure} MB/s, {lasted}"), 10.5, TEXT, Anchor::Start);
    }
}

/// Two bars a cause: what the record alone gave it, and what the experiments left of it.
fn shares(scene: &mut Scene, decision: &Decision, top: f64) {
    let (left, right) = SHARES;
    scene.heavy((RIGHT, top - 20.0), "How likely each cause is", 10.5, TEXT, Anchor::End);
    scene.words((RIGHT, top - 6.0), "light: by the record; dark: by experiment", 9.5, FAINT, Anchor::End);
    for (i, (kind, before, after)) in causes(decision).into_iter().enumerate() {
        let y = top + (2 * i) as f64 * ROW + 4.0;
        scene.words((left - 8.0, y + 14.0), cause_words(kind), 10.0, TEXT, Anchor::End);
        let x = |share: f64| left + share.clamp(0.0, 1.0) * (right - left);
        let told = |share: f64| format!("{}: {:.1} %", kind.word(), 100.0 * share);
        bar(scene, (left, x(before)), y, 7.0, SHADE, format!("{} by the record", told(before)));
        bar(scene, (left, x(after)), y + 9.0, 11.0, SET_BESIDE, format!("{} by experiment", told(after)));
        // No more digits than the tables behind it carry.
        let percent = 100.0 * after;
        let words = match percent {
            p if p >= 99.0 => "over 99 %".to_owned(),
            p if p < 1.0 => "under 1 %".to_owned(),
            p => format!("{p:.0} %"),
        };
        scene.words((x(after) + 5.0, y + 18.5), words, 10.0, TEXT, Anchor::Start);
    }
}
