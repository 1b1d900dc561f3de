//! The chart of a batch: a row a figure, a dot a drive with its interval, the promise as a line through the row, odd drives by letter.

use hollow_mile_core::archive::batch::{Batch, BatchRow};
use hollow_mile_core::quantity::Better;

use crate::lanes::{LEFT, RIGHT, WIDTH};
use crate::measure::{Face, fitting};
use crate::plot::{FAINT, GRID, Range, SHADE, TEXT, headed, line_of};
use crate::scene::{Anchor, Scene, beyond_one_line};

const TOP: f64 = 108.0;
/// From row to row.
const ROW: f64 = 58.0;
/// Height of a heap of dots.
const HEAP: f64 = 30.0;
/// Radius of a dot.
const DOT: f64 = 2.0;
/// Figures drawn at most.
const MOST: usize = 16;
/// Drives with intervals drawn at most: of more they hide each other.
const INTERVALS: usize = 30;

/// What a chart of a batch says in words.
#[derive(Debug, Clone, Default)]
pub struct Words {
    /// Who it is.
    pub title: String,
    /// The answer.
    pub answer: String,
    /// A line each odd drive.
    pub odd: Vec<String>,
    /// For each figure: what is promised, and by what it is known.
    pub promises: Vec<(String, String)>,
}

/// Where values lie: (least, most) of all that is drawn of a row.
#[must_use]
pub fn extent(row: &BatchRow, wanted: Option<f64>) -> (f64, f64) {
    let ends = |p: &hollow_mile_core::archive::batch::Point| {
        let (low, high) = p.interval.filter(|_| row.points.len() <= INTERVALS).unwrap_or((p.value, p.value));
        [low, high, p.value]
    };
    let bound = row.promise.ok().map(|p| p.bound);
    let all = row.points.iter().flat_map(ends).chain(bound).chain(wanted).filter(|v| v.is_finite());
    let (low, high) = all.fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(v), h.max(v)));
    // All the same: a little to both sides, so that there is a scale.
    let room = if high > low { (high - low) * 0.03 } else { high.abs() * 0.01 + f64::MIN_POSITIVE };
    (low - room, high + room)
}

/// Draws it.
#[must_use]
pub fn batch(batch: &Batch, words: &Words) -> Scene {
    // What is the same in all drives is no picture.
    let varies = |r: &BatchRow| r.points.iter().any(|p| p.value != r.points[0].value);
    let shown: Vec<usize> = (0..batch.rows.len()).filter(|i| varies(&batch.rows[*i])).take(MOST).collect();
    let rows = shown.len();
    let odd: f64 = words.odd.iter().map(|o| 15.0 + beyond_one_line(o, 11.0, RIGHT - LEFT)).sum();
    let height = TOP + rows as f64 * ROW + if words.odd.is_empty() { 0.0 } else { odd + 34.0 } + 34.0;
    let mut scene = Scene::new(WIDTH, height, words.title.clone());
    let source = format!("Hollow Mile · {} drives, {} hauls", batch.drives.len(), batch.hauls);
    headed(&mut scene, &words.title, &words.answer, &source);
    for (i, of) in shown.into_iter().enumerate() {
        one_row(&mut scene, batch, &batch.rows[of], i, words.promises.get(of));
    }
    if !words.odd.is_empty() {
        let mut y = TOP + rows as f64 * ROW + 14.0;
        scene.heavy((LEFT, y), "not like the others", 11.5, TEXT, Anchor::Start);
        y += 17.0;
        for line in &words.odd {
            y = scene.paragraph((LEFT, y), line, 11.0, TEXT, RIGHT - LEFT) + 1.0;
        }
    }
    scene
}

/// How high each dot lies in its heap, 0 at the foot, so that dots of one place stand on each other.
#[must_use]
pub fn heaps(columns: &[usize], most: usize) -> Vec<usize> {
    let mut filled = vec![0; most + 1];
    columns
        .iter()
        .map(|c| {
            let at = &mut filled[(*c).min(most)];
            *at += 1;
            *at - 1
        })
        .collect()
}

fn one_row(scene: &mut Scene, batch: &Batch, row: &BatchRow, i: usize, promise: Option<&(String, String)>) {
    let (from, to) = (LEFT + 170.0, RIGHT - 300.0);
    let top = TOP + i as f64 * ROW;
    let foot = top + HEAP + 6.0;
    let wanted = batch.wanted.as_ref().filter(|w| w.0.figure == row.name).map(|w| w.0.value);
    let (low, high) = extent(row, wanted);
    let range = Range::even(low, high);
    let place = |v: f64| from + range.share(v) * (to - from);
    let name = fitting(row.name.name(), 11.5, Face::Bold, 150.0);
    scene.heavy((LEFT, foot - 8.0), name, 11.5, TEXT, Anchor::Start);
    // What is promised lies shaded: most of all such drives are there.
    if let Ok(p) = row.promise {
        let x = place(p.bound);
        let (a, b) = if row.better == Better::Higher { (x, to) } else { (from, x) };
        scene.area(vec![(a, top), (b, top), (b, foot), (a, foot)], SHADE);
    }
    scene.line(vec![(from, foot), (to, foot)], GRID, 1.0);
    let (ink, _) = line_of(0);
    let bins = ((to - from) / (2.2 * DOT)) as usize;
    let columns: Vec<usize> =
        row.points.iter().map(|p| (range.share(p.value) * bins as f64) as usize).collect();
    let levels = heaps(&columns, bins);
    let highest = levels.iter().max().copied().unwrap_or(0).max(1) as f64;
    let step = (2.2 * DOT).min((HEAP - 2.0 * DOT) / highest);
    for (p, level) in row.points.iter().zip(&levels) {
        let at = (place(p.value), foot - DOT - 1.0 - *level as f64 * step);
        if let Some((low, high)) = p.interval.filter(|_| row.points.len() <= INTERVALS) {
            scene.line(vec![(place(low), at.1), (place(high), at.1)], FAINT, 0.8);
        }
        let dot = (0..10)
            .map(|k| {
                let a = std::f64::consts::TAU * f64::from(k) / 10.0;
                (at.0 + DOT * a.sin(), at.1 - DOT * a.cos())
            })
            .collect();
        scene.area(dot, ink);
        scene.spot_at(at, format!("{}: {}", batch.drives[p.drive].serial, row.unit.words(p.value)));
        let odd = batch
            .odd
            .iter()
            .find(|o| o.drive == p.drive && o.figures.iter().any(|f| batch.rows[f.row].name == row.name));
        if let Some(odd) = odd {
            scene.heavy((at.0, at.1 - 6.0), odd.letter.clone(), 10.5, TEXT, Anchor::Middle);
        }
    }
    let centre = place(row.centre.value);
    scene.line(vec![(centre, foot), (centre, foot + 5.0)], TEXT, 1.6);
    scene.words((centre, foot + 15.0), row.unit.words(row.centre.value), 9.5, TEXT, Anchor::Middle);
    if let Ok(p) = row.promise {
        let x = place(p.bound);
        scene.line(vec![(x, top - 2.0), (x, foot + 5.0)], TEXT, 1.4);
        // Beside the mean there is room for its number only where it stands apart.
        if (x - centre).abs() > 76.0 {
            scene.words((x, foot + 15.0), row.unit.words(p.bound), 9.5, TEXT, Anchor::Middle);
        }
    }
    if let Some(v) = wanted {
        scene.dashes(vec![(place(v), top - 6.0), (place(v), foot + 5.0)], TEXT, 1.2);
    }
    if let Some((promise, by)) = promise {
        let fit = |t: &str, size| fitting(t, size, Face::Regular, RIGHT - to - 16.0);
        scene.words((to + 14.0, foot - 16.0), fit(promise, 11.0), 11.0, TEXT, Anchor::Start);
        scene.words((to + 14.0, foot - 2.0), fit(by, 9.5), 9.5, FAINT, Anchor::Start);
    }
}
