//! Charts of a contrast: curves of all hauls on one ruler, and figures as bars with their intervals.

use hollow_mile_core::archive::contrast::overlay::{Overlay, Section};
use hollow_mile_core::archive::contrast::{Contrast, Standing, letter};
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::readings::{Column, Ruler};

use crate::lanes::{LEFT, RIGHT, WIDTH, ruler_axis, stretches};
use crate::measure::{Face, fitting};
use crate::plot::{FAINT, GRID, Plot, Range, TEXT, headed, line_of, mark};
use crate::scene::{Anchor, Scene};

const TOP: f64 = 96.0;
/// Figures with bars at most.
const MOST: usize = 12;

/// What a ruler is called when several hauls lie on it.
#[must_use]
pub const fn ruler_name(ruler: Ruler) -> &'static str {
    match ruler {
        Ruler::Elapsed => "elapsed, each leg from its start",
        Ruler::Moved => "written and read, each leg from its start",
        Ruler::Position => "position on the drive",
    }
}

/// Draws the curves of `overlay` (side of each haul in `sides`) over the figures of the contrast.
#[must_use]
pub fn contrast(contrast: &Contrast, overlay: &Overlay, sides: &[usize]) -> Scene {
    let names: Vec<String> = contrast
        .sides
        .iter()
        .map(|s| {
            let n = s.hauls.len();
            let hauls = if n == 1 { format!("haul {}", s.hauls[0]) } else { format!("{n} hauls") };
            format!("{}  {} ({hauls})", s.letter, s.name)
        })
        .collect();
    let rows = bars_of(contrast);
    let legend_at = TOP;
    let curves_at = legend_at + names.len() as f64 * 16.0 + 16.0;
    let bars_at = curves_at + 395.0;
    let height = bars_at + rows.len() as f64 * (14.0 * contrast.sides.len() as f64 + 16.0) + 60.0;
    let all: Vec<&str> = contrast.sides.iter().map(|s| s.name.as_str()).collect();
    let title = fitting(&all.join(" against "), 19.0, Face::Bold, RIGHT - LEFT);
    let mut scene = Scene::new(WIDTH, height, title.clone());
    let first = contrast.answer.first().cloned().unwrap_or_default();
    let first = fitting(&first, 11.5, Face::Regular, RIGHT - LEFT);
    let source = format!("Hollow Mile · hauls {}", all_hauls(contrast));
    headed(&mut scene, &title, &first, &source);
    crate::plot::legend(&mut scene, (LEFT, legend_at), &names, false);
    curves(&mut scene, overlay, sides, curves_at);
    bars(&mut scene, contrast, &rows, bars_at);
    scene
}

fn all_hauls(contrast: &Contrast) -> String {
    let all: Vec<&str> = contrast.sides.iter().flat_map(|s| &s.hauls).map(String::as_str).collect();
    match all.len() {
        0..=6 => all.join(", "),
        n => format!("{}, … ({n})", all[..6].join(", ")),
    }
}

fn curves(scene: &mut Scene, overlay: &Overlay, sides: &[usize], top: f64) {
    let x = Range::even(0.0, overlay.extent.max(f64::MIN_POSITIVE));
    let all = || overlay.curves.iter().flatten();
    let fastest = all().filter_map(|c| c.rate).map(Rate::get).fold(0.0, f64::max);
    let plot = |a: f64, b: f64, y| Plot { left: LEFT, right: RIGHT, top: top + a, bottom: top + b, x, y };
    let rate = plot(10.0, 200.0, Range::even(0.0, scale::rate_top(fastest)));
    let heat = || all().filter_map(|c| c.hottest).map(|t| t.degrees());
    let (coldest, hottest) = heat().fold((f64::MAX, f64::MIN), |(l, h), t| (l.min(t), h.max(t)));
    let warm = coldest <= hottest;
    let (low, high) = ((coldest / 10.0).floor() * 10.0, ((hottest + 1.0) / 10.0).ceil() * 10.0);
    let heat = plot(235.0, 320.0, if warm { Range::even(low, high) } else { Range::even(0.0, 1.0) });
    let both = Plot { bottom: heat.bottom, ..rate };
    both.axis_x(scene, &ruler_axis(overlay.ruler, 0.0, overlay.extent, 8), ruler_name(overlay.ruler));
    rate.axis_y(scene, &scale::rates(rate.y.high, 4), "rate");
    // A leg that takes next to nothing of the ruler has no room for its name.
    let named = |s: &&Section| s.from > 0.0 && s.length > 0.06 * overlay.extent;
    for section in overlay.sections.iter().filter(named) {
        let at = rate.x(section.from);
        scene.dashes(vec![(at, rate.top - 4.0), (at, heat.bottom)], FAINT, 0.7);
        let words = format!("leg {} {}", section.leg + 1, section.word);
        scene.words((at + 3.0, rate.top + 8.0), words, 9.0, FAINT, Anchor::Start);
    }
    if warm {
        heat.axis_y(scene, &scale::degrees(low, high, 3), "temperature");
    } else {
        scene.heavy((LEFT, heat.top), "temperature: not in these records", 11.5, TEXT, Anchor::Start);
    }
    for (columns, side) in overlay.curves.iter().zip(sides) {
        let (ink, dash) = line_of(*side);
        let place = |i: usize| LEFT + (i as f64 + 0.5) / columns.len() as f64 * (RIGHT - LEFT);
        let mut draw = |plot: &Plot, width: f64, of: &dyn Fn(&Column) -> Option<f64>| {
            for stretch in stretches(columns, of) {
                scene.stroke(
                    stretch.iter().map(|(i, v)| (place(*i), plot.y(*v))).collect(),
                    ink,
                    width,
                    dash,
                );
            }
        };
        draw(&rate, 1.5, &|c| c.rate.map(Rate::get));
        draw(&heat, 1.2, &|c| c.hottest.map(|t| t.degrees()));
    }
}

/// Figures that are worth a bar: those that differ first, then the others, without what is nothing on all sides.
fn bars_of(contrast: &Contrast) -> Vec<usize> {
    let telling = |i: &usize| {
        contrast.figures[*i].sides.iter().flatten().any(|s| s.mean != 0.0)
            && contrast.figures[*i].sides.iter().flatten().count() > 1
    };
    let mut all: Vec<usize> = (0..contrast.figures.len()).filter(telling).collect();
    let differs = |i: &usize| contrast.figures[*i].against.iter().any(|a| a.standing == Standing::Differs);
    all.sort_by_key(|i| !differs(i));
    all.truncate(MOST);
    all.sort_unstable();
    all
}

fn bars(scene: &mut Scene, contrast: &Contrast, rows: &[usize], top: f64) {
    let (from, to) = (LEFT + 210.0, RIGHT - 470.0);
    scene.heavy((LEFT, top - 4.0), "figures: mean and 95 % interval", 11.5, TEXT, Anchor::Start);
    scene.words((RIGHT, top - 4.0), "against A", 10.0, FAINT, Anchor::End);
    let mut y = top + 16.0;
    for i in rows {
        let row = &contrast.figures[*i];
        let ends = |s: &usize| {
            let r = row.sides[*s]?;
            let half = r.interval.unwrap_or(0.0);
            let (low, high) = row.within[*s].unwrap_or((r.mean - half, r.mean + half));
            Some((r.mean, low, high))
        };
        let sides: Vec<usize> = (0..contrast.sides.len()).collect();
        let most = sides.iter().filter_map(ends).map(|e| e.2.max(e.0)).fold(0.0, f64::max);
        let range = Range::even(0.0, most.max(f64::MIN_POSITIVE));
        let place = |v: f64| from + range.share(v.max(0.0)) * (to - from);
        let name = fitting(row.name.name(), 11.5, Face::Regular, 200.0);
        scene.words((LEFT, y + 4.0), name, 11.5, TEXT, Anchor::Start);
        for s in sides {
            let (ink, _) = line_of(s);
            scene.words((from - 8.0, y + 4.0), letter(s), 10.0, FAINT, Anchor::End);
            if let Some((mean, low, high)) = ends(&s) {
                scene.line(vec![(from, y), (place(mean), y)], ink, 5.0);
                scene.line(vec![(place(low), y), (place(high), y)], TEXT, 1.2);
                for v in [low, high] {
                    scene.line(vec![(place(v), y - 4.0), (place(v), y + 4.0)], TEXT, 1.2);
                }
                mark(scene, (place(mean), y), s);
                scene.words((to + 10.0, y + 4.0), row.unit.words(mean), 10.5, TEXT, Anchor::Start);
            } else {
                scene.words((from + 2.0, y + 4.0), "none", 10.0, FAINT, Anchor::Start);
            }
            if let Some(a) = s.checked_sub(1).and_then(|s| row.against.get(s)) {
                let words = match (a.difference, a.test) {
                    (Some(_), Some(t)) => format!(
                        "{} ({} to {}), {}",
                        row.unit.signed(t.value),
                        row.unit.signed(t.low),
                        row.unit.signed(t.high),
                        a.standing.words()
                    ),
                    (Some(d), None) => format!("{}, {}", row.unit.signed(d), a.standing.words()),
                    _ => a.standing.words().to_owned(),
                };
                let words = fitting(&words, 10.0, Face::Regular, 380.0);
                scene.words((RIGHT, y + 4.0), words, 10.0, TEXT, Anchor::End);
            }
            y += 14.0;
        }
        scene.line(vec![(LEFT, y), (RIGHT, y)], GRID, 0.6);
        y += 16.0;
    }
}
