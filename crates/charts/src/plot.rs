//! A plot: a rectangle with two axes, into which lines, points and bars with intervals are drawn.

use hollow_mile_core::quantity::scale::Axis;

use crate::measure::{Face, fitting, lines};
use crate::scene::{Anchor, Dash, Ink, Scene};

/// Text.
pub const TEXT: Ink = Ink(34, 38, 46);
/// What stands back.
pub const FAINT: Ink = Ink(104, 110, 120);
/// Lines of the grid.
pub const GRID: Ink = Ink(226, 229, 233);
/// Where something is marked on the ground of a plot.
pub const SHADE: Ink = Ink(240, 232, 218);

/// Lines that are told apart by lightness and by their dashes, in print without colour as well.
pub const LINES: [(Ink, Dash); 6] = [
    (Ink(16, 84, 98), Dash::Solid),
    (Ink(186, 92, 28), Dash::Long),
    (Ink(98, 72, 150), Dash::Dashed),
    (Ink(72, 110, 44), Dash::Mixed),
    (Ink(158, 56, 92), Dash::Dotted),
    (Ink(90, 96, 106), Dash::Solid),
];

/// The line of a series.
#[must_use]
pub const fn line_of(series: usize) -> (Ink, Dash) {
    LINES[series % LINES.len()]
}

/// How values lie along an axis.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Along {
    /// Evenly.
    Even,
    /// By their logarithm.
    Log,
}

/// A range of values on an axis.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Range {
    /// At the beginning.
    pub low: f64,
    /// At the end.
    pub high: f64,
    /// How.
    pub along: Along,
}

impl Range {
    /// Evenly from low to high.
    #[must_use]
    pub const fn even(low: f64, high: f64) -> Self {
        Self { low, high, along: Along::Even }
    }
    /// By the logarithm.
    #[must_use]
    pub const fn log(low: f64, high: f64) -> Self {
        Self { low, high, along: Along::Log }
    }
    /// 0 at the beginning, 1 at the end; what lies outside is put on the edge.
    #[must_use]
    pub fn share(&self, v: f64) -> f64 {
        let f = |v: f64| if self.along == Along::Log { v.max(f64::MIN_POSITIVE).ln() } else { v };
        let (low, high) = (f(self.low), f(self.high));
        let share = (f(v) - low) / (high - low).max(f64::MIN_POSITIVE);
        if share.is_finite() { share.clamp(0.0, 1.0) } else { 0.0 }
    }
}

/// A rectangle of a page with a range on each of its sides.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Plot {
    /// Left edge.
    pub left: f64,
    /// Right edge.
    pub right: f64,
    /// Upper edge.
    pub top: f64,
    /// Lower edge.
    pub bottom: f64,
    /// Along it.
    pub x: Range,
    /// Up it.
    pub y: Range,
}

impl Plot {
    /// Where a value stands along.
    #[must_use]
    pub fn x(&self, v: f64) -> f64 {
        self.left + self.x.share(v) * (self.right - self.left)
    }
    /// Where a value stands up.
    #[must_use]
    pub fn y(&self, v: f64) -> f64 {
        self.bottom - self.y.share(v) * (self.bottom - self.top)
    }
    /// A point.
    #[must_use]
    pub fn at(&self, x: f64, y: f64) -> (f64, f64) {
        (self.x(x), self.y(y))
    }

    /// The axis along, with its words below: `written, GB`.
    pub fn axis_x(&self, scene: &mut Scene, axis: &Axis, name: &str) {
        for tick in &axis.ticks {
            let x = self.x(tick.value);
            scene.line(vec![(x, self.top), (x, self.bottom)], GRID, 1.0);
            scene.words((x, self.bottom + 17.0), tick.words.clone(), 11.0, FAINT, Anchor::Middle);
        }
        let middle = f64::midpoint(self.left, self.right);
        scene.words((middle, self.bottom + 36.0), with_unit(name, axis.unit), 12.0, TEXT, Anchor::Middle);
    }

    /// The axis up, with its words above: `rate, MB/s`.
    pub fn axis_y(&self, scene: &mut Scene, axis: &Axis, name: &str) {
        for tick in &axis.ticks {
            let y = self.y(tick.value);
            scene.line(vec![(self.left, y), (self.right, y)], GRID, 1.0);
            scene.words((self.left - 8.0, y + 4.0), tick.words.clone(), 11.0, FAINT, Anchor::End);
        }
        scene.line(vec![(self.left, self.bottom), (self.right, self.bottom)], FAINT, 1.0);
        let title = with_unit(name, axis.unit);
        scene.heavy((self.left, self.top - 9.0), title, 11.5, TEXT, Anchor::Start);
    }

    /// A point with its interval.
    pub fn whisker(
        &self,
        scene: &mut Scene,
        x: f64,
        value: f64,
        interval: Option<(f64, f64)>,
        series: usize,
    ) {
        self.whisker_in(scene, x, value, interval, Style::of(series));
    }

    /// A point with its interval, in a style of its own.
    pub fn whisker_in(
        &self,
        scene: &mut Scene,
        x: f64,
        value: f64,
        interval: Option<(f64, f64)>,
        style: Style,
    ) {
        let ink = style.ink;
        let (px, py) = self.at(x, value);
        if let Some((low, high)) = interval {
            let (a, b) = (self.y(low), self.y(high));
            scene.line(vec![(px, a), (px, b)], ink, 1.2);
            for y in [a, b] {
                scene.line(vec![(px - 4.0, y), (px + 4.0, y)], ink, 1.2);
            }
        }
        mark_in(scene, (px, py), style);
    }
}

fn with_unit(name: &str, unit: &str) -> String {
    if unit.is_empty() { name.to_owned() } else { format!("{name}, {unit}") }
}

/// How a series is told from others.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Style {
    /// Its ink.
    pub ink: Ink,
    /// How its line is broken.
    pub dash: Dash,
    /// Shape of its points, 0 to 3.
    pub shape: usize,
}

impl Style {
    /// Of the n-th series.
    #[must_use]
    pub const fn of(series: usize) -> Self {
        let (ink, dash) = line_of(series);
        Self { ink, dash, shape: series % 4 }
    }
}

/// A sign for a point of a series: its shape differs as well as its ink.
pub fn mark(scene: &mut Scene, at: (f64, f64), series: usize) {
    mark_in(scene, at, Style::of(series));
}

/// A sign in a style of its own.
pub fn mark_in(scene: &mut Scene, (x, y): (f64, f64), style: Style) {
    let r = 3.6;
    let round = |n: usize| -> Vec<(f64, f64)> {
        (0..n)
            .map(|i| {
                let a = std::f64::consts::TAU * i as f64 / n as f64;
                (x + r * a.sin(), y - r * a.cos())
            })
            .collect()
    };
    let points = match style.shape % 4 {
        0 => round(16),
        1 => vec![(x - r, y - r), (x + r, y - r), (x + r, y + r), (x - r, y + r)],
        2 => round(3),
        _ => round(4),
    };
    scene.area(points, style.ink);
}

/// A legend: a piece of each line with its words, one below the other. The height it took.
pub fn legend(scene: &mut Scene, at: (f64, f64), names: &[String], marks: bool) -> f64 {
    let styled: Vec<(Style, String)> =
        names.iter().cloned().enumerate().map(|(i, n)| (Style::of(i), n)).collect();
    legend_in(scene, at, &styled, marks)
}

/// A legend of series in styles of their own.
pub fn legend_in(scene: &mut Scene, at: (f64, f64), names: &[(Style, String)], marks: bool) -> f64 {
    for (i, (style, name)) in names.iter().enumerate() {
        let y = at.1 + i as f64 * 16.0;
        scene.stroke(vec![(at.0, y - 4.0), (at.0 + 28.0, y - 4.0)], style.ink, 1.8, style.dash);
        if marks {
            mark_in(scene, (at.0 + 14.0, y - 4.0), *style);
        }
        scene.words((at.0 + 36.0, y), name.clone(), 11.0, TEXT, Anchor::Start);
    }
    names.len() as f64 * 16.0
}

/// Title, a line below it, and where the data is from, at the foot.
pub fn headed(scene: &mut Scene, title: &str, below: &str, source: &str) {
    let most = scene.width - 92.0 - 30.0;
    scene.heavy((92.0, 34.0), fitting(title, 19.0, Face::Bold, most), 19.0, TEXT, Anchor::Start);
    // Two lines have room there.
    let mut below = lines(below, 11.5, Face::Regular, most);
    let rest = below.split_off(below.len().min(1)).join(" ");
    for (i, line) in below.into_iter().chain((!rest.is_empty()).then_some(rest)).enumerate() {
        let line = fitting(&line, 11.5, Face::Regular, most);
        scene.words((92.0, 55.0 + 14.0 * i as f64), line, 11.5, FAINT, Anchor::Start);
    }
    let foot = (scene.width - 30.0, scene.height - 10.0);
    scene.words(foot, fitting(source, 9.5, Face::Regular, most), 9.5, FAINT, Anchor::End);
}
