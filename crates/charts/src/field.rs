//! The latency field on a page: shades for the share of operations that took so long, in them p50, p99 and p99.9.

use hollow_mile_core::quantity::histogram::{DRAWN, Histogram, extent, shade};
use hollow_mile_core::quantity::scale;

use crate::plot::{FAINT, Plot, Range, TEXT};
use crate::scene::{Anchor, Dash, Ink, Scene};

/// How p50, p99 and p99.9 are drawn.
const LINES: [(Dash, f64); 3] = [(Dash::Solid, 1.6), (Dash::Long, 1.2), (Dash::Dotted, 1.2)];

/// The tone of each shade.
const TONES: [Ink; 4] = [Ink(234, 235, 245), Ink(210, 212, 234), Ink(176, 179, 218), Ink(138, 143, 198)];

/// Rows of the picture, each as high as another.
const ROWS: usize = 48;

/// Draws the columns, which share the width of the plot evenly. `what` is timed.
pub fn draw(scene: &mut Scene, mut plot: Plot, columns: &[Histogram], what: &str) {
    let Some((low, high)) = extent(columns) else {
        return scene.heavy(
            (plot.left, plot.top - 7.0),
            format!("{what}: none here"),
            11.5,
            TEXT,
            Anchor::Start,
        );
    };
    let decade = |ns: u64, up: bool| {
        let power = (ns as f64 / 1e3).max(0.1).log10();
        10f64.powf(if up { power.ceil() } else { power.floor() })
    };
    let low = decade(low, false);
    plot.y = Range::log(low, decade(high, true).max(low * 10.0));
    plot.axis_y(scene, &scale::latencies(plot.y.low, plot.y.high), what);
    let width = (plot.right - plot.left) / columns.len().max(1) as f64;
    let left = |i: usize| plot.left + width * i as f64;
    for (i, column) in columns.iter().enumerate() {
        let shades = shades(column, |us| plot.y.share(us));
        let mut row = 0;
        while row < ROWS {
            let same = shades[row..].iter().take_while(|s| **s == shades[row]).count();
            if let Some(ink) = shades[row].checked_sub(1).map(|s| TONES[s]) {
                let y = |row: usize| plot.bottom - (plot.bottom - plot.top) * row as f64 / ROWS as f64;
                let (x, to) = (left(i), left(i + 1));
                let corners = [(x, y(row)), (to, y(row)), (to, y(row + same)), (x, y(row + same))];
                scene.area(corners.to_vec(), ink);
            }
            row += same;
        }
    }
    for ((_, q), (dash, weight)) in DRAWN.iter().zip(LINES) {
        let mut line = Vec::new();
        for (i, c) in columns.iter().enumerate() {
            match c.told_bin(*q) {
                Some(b) => line.extend([left(i), left(i + 1)].map(|x| (x, plot.y(b.middle_ns() / 1e3)))),
                None if !line.is_empty() => scene.stroke(std::mem::take(&mut line), TEXT, weight, dash),
                None => {}
            }
        }
        if !line.is_empty() {
            scene.stroke(line, TEXT, weight, dash);
        }
    }
    key(scene, &plot);
}

/// How dark each row is.
fn shades(column: &Histogram, share: impl Fn(f64) -> f64) -> Vec<usize> {
    let mut shares = vec![0.0; ROWS];
    let total = column.total() as f64;
    for bin in column.bins() {
        let row = (share(bin.middle_ns() / 1e3) * ROWS as f64).clamp(0.0, ROWS as f64 - 1.0);
        shares[row as usize] += bin.count as f64 / total;
    }
    shares.into_iter().map(shade).collect()
}

fn key(scene: &mut Scene, plot: &Plot) {
    let y = plot.top - 7.0;
    let words = "darker: more of the operations took so long, tenfold from shade to shade";
    scene.words((plot.right, y), words, 10.0, FAINT, Anchor::End);
    let mut x = plot.left + 122.0;
    for ((name, _), (dash, weight)) in DRAWN.iter().zip(LINES) {
        scene.stroke(vec![(x, y - 3.5), (x + 22.0, y - 3.5)], TEXT, weight, dash);
        scene.words((x + 26.0, y), *name, 10.0, FAINT, Anchor::Start);
        x += 66.0;
    }
}
