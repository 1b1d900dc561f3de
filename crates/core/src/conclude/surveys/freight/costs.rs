//! time = a · files + b · bytes + c · folders: what each costs, with intervals.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::freight::ClassSums;
use crate::quantity::Quantity;
use crate::quantity::stats::{Interval, student_975};
use crate::quantity::units::{Rate, latency};
use crate::record::FreightSecond;

/// Parts of a leg that are left out in turn, at most: what differs between them tells how well a cost is known.
const PARTS: usize = 12;
/// The largest files must be so much larger than the smallest: of files that are all alike nobody can tell a file's cost from its bytes'.
const LEAST_RANGE: f64 = 4.0;
/// Fewer parts than this say little of how much they differ; then the classes do.
const LEAST_PARTS: usize = 6;
/// Classes lie off their line by a hundredth of what times scatter at least.
const LEAST_OFF: f64 = 1e-4;
/// Fewer files tell nothing.
const LEAST_FILES: u64 = 30;

/// What a file, a byte and a folder cost. Of several threads at once each bears its part, so that the costs of all files, bytes and
/// folders together are the time of the leg.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Costs {
    /// Of each file, however small, s.
    pub per_file: Option<Interval>,
    /// Of each byte, s.
    pub per_byte: Option<Interval>,
    /// Of each folder, s.
    pub per_folder: Option<f64>,
    /// A file of so many bytes costs as much for itself as for its bytes.
    pub even: Option<Interval>,
}

type Classes = BTreeMap<u8, ClassSums>;

/// The line a + b·x through points of (weight, x, y), by least squares; `None` where all lie at one place.
pub(super) fn line(points: impl IntoIterator<Item = (f64, f64, f64)>) -> Option<(f64, f64)> {
    let mut sums = [0.0f64; 5];
    for (w, x, y) in points {
        for (sum, term) in sums.iter_mut().zip([w, w * x, w * x * x, w * y, w * x * y]) {
            *sum += term;
        }
    }
    let [w, x, xx, y, xy] = sums;
    let det = w * xx - x * x;
    (det > 1e-9 * w * xx).then(|| ((xx * y - x * xy) / det, (w * xy - x * y) / det))
}

/// Files of a class: how many, their mean size, B, the mean time that they took, s, and the variance of that, s².
struct Class {
    files: f64,
    size: f64,
    each: f64,
    spread: f64,
}

impl Class {
    fn of(c: &ClassSums) -> Self {
        let files = c.files as f64;
        let each = c.took.as_secs_f64() / files;
        let spread = (c.squares as f64 * 1e-12 / files - each * each).max(0.0);
        Self { files, size: c.bytes.as_f64() / files, each, spread }
    }
}

/// Classes as points of a line: weighted by how well the mean of each is known. How much times vary is smoothed over the classes
/// (v0 + v1·size²), and the mean is that of the line: weighted by its own times, a class that came out quick by chance would count for
/// more (Carroll & Ruppert, Transformation and Weighting in Regression, 1988, chapter 2). `None` of files that are too much alike.
fn points(classes: &Classes) -> Option<Vec<(f64, f64, f64)>> {
    let classes: Vec<Class> = classes.values().filter(|c| c.files > 0).map(Class::of).collect();
    let smallest = classes.iter().map(|c| c.size).fold(f64::INFINITY, f64::min);
    let largest = classes.iter().map(|c| c.size).fold(0.0, f64::max);
    (largest >= LEAST_RANGE * smallest.max(1.0)).then_some(())?;
    let weighted =
        |w: &dyn Fn(&Class) -> f64| classes.iter().map(|c| (w(c), c.size, c.each)).collect::<Vec<_>>();
    let mut points = weighted(&|c| c.files / (c.each * c.each).max(1e-24));
    for _ in 0..2 {
        let (a, b) = line(points.iter().copied())?;
        let mean = |c: &Class| (a + b * c.size).max(0.5 * c.each).max(1e-12);
        let (v0, v1) = line(classes.iter().map(|c| (c.files / mean(c).powi(4), c.size * c.size, c.spread)))?;
        let spread = |c: &Class| (v0.max(0.0) + v1.max(0.0) * c.size * c.size).max((0.05 * mean(c)).powi(2));
        // One class does not decide alone, however many files it has: within it the cost is not quite a line either.
        points = weighted(&|c| 1.0 / (spread(c) / c.files + (0.01 * mean(c)).powi(2)).max(1e-24));
    }
    Some(points)
}

/// Cost of a file and of a byte, thread time in s.
fn fit(classes: &Classes) -> Option<(f64, f64)> {
    line(points(classes)?)
}

/// Intervals of the two, and of the logarithm of their ratio, from how far the classes lie from the line.
fn from_classes(points: &[(f64, f64, f64)], a: f64, b: f64) -> [Option<Interval>; 3] {
    let freedom = points.len() as f64 - 2.0;
    if freedom < 1.0 {
        return [None; 3];
    }
    let sum = |of: &dyn Fn(&(f64, f64, f64)) -> f64| points.iter().map(of).sum::<f64>();
    let (w, x, xx) = (sum(&|p| p.0), sum(&|p| p.0 * p.1), sum(&|p| p.0 * p.1 * p.1));
    // Weights tell how the errors of the classes compare; how large they are is told by how far the classes lie off the line.
    // Nothing is known without an error, though a few classes may lie on it by chance.
    let off = (sum(&|p| p.0 * (p.2 - a - b * p.1).powi(2)) / freedom).max(LEAST_OFF);
    let det = (w * xx - x * x) / off;
    let (of_a, of_b, both) = (xx / det, w / det, -x / det);
    let ratio = (of_a / (a * a) + of_b / (b * b) - 2.0 * both / (a * b)).max(0.0);
    let t = student_975(freedom);
    [
        Some(Interval::around(a, t * of_a.sqrt())),
        Some(Interval::around(b, t * of_b.sqrt())),
        (a > 0.0 && b > 0.0).then(|| Interval::around((a / b).ln(), t * ratio.sqrt())),
    ]
}

/// Files of some parts of a leg by class.
pub(super) fn classes(parts: &[&[FreightSecond]]) -> Classes {
    let mut all = Classes::new();
    for s in parts.iter().copied().flatten() {
        for (class, sums) in &s.done.classes {
            all.entry(*class).or_default().add(sums);
        }
    }
    all
}

/// A value with the interval that leaving out each part in turn gives (the jackknife of Quenouille and Tukey).
fn jackknife(value: f64, without: &[f64]) -> Option<Interval> {
    let n = without.len() as f64;
    (without.len() >= 3).then_some(())?;
    let mean = without.iter().sum::<f64>() / n;
    let error = ((n - 1.0) / n * without.iter().map(|v| (v - mean).powi(2)).sum::<f64>()).sqrt();
    Some(Interval::around(value, student_975(n - 1.0) * error))
}

/// A leg in parts of equal length; fewer where it is short.
fn parts(seconds: &[FreightSecond]) -> Vec<&[FreightSecond]> {
    let many = PARTS.min(seconds.len()).max(1);
    (0..many).map(|i| &seconds[i * seconds.len() / many..(i + 1) * seconds.len() / many]).collect()
}

/// What is told of a leg when each of its parts is left out in turn.
fn leaving_out<T>(parts: &[&[FreightSecond]], told: impl Fn(&[&[FreightSecond]]) -> Option<T>) -> Vec<T> {
    let without = |left_out: usize| {
        let rest: Vec<_> =
            parts.iter().enumerate().filter(|(i, _)| *i != left_out).map(|(_, p)| *p).collect();
        told(&rest)
    };
    (0..parts.len()).filter_map(without).collect()
}

/// Of a leg; `None` of too few files.
pub(super) fn of(seconds: &[FreightSecond]) -> Option<Costs> {
    let parts = parts(seconds);
    let all = classes(&parts);
    let files: u64 = all.values().map(|c| c.files).sum();
    (files >= LEAST_FILES).then_some(())?;
    let threads = f64::from(seconds.iter().map(|s| s.done.threads).max().unwrap_or(1).max(1));
    let folders: u64 = seconds.iter().map(|s| s.done.folders).sum();
    let folder_time: Duration = seconds.iter().map(|s| s.done.folder_time).sum();
    // One thread makes the folders while the others wait for it.
    let per_folder = (folders > 0).then(|| folder_time.as_secs_f64() / folders as f64);
    let whole = fit(&all);
    let without = leaving_out(&parts, |rest| fit(&classes(rest)));
    let interval = |value: f64, of: &dyn Fn(&(f64, f64)) -> f64| {
        jackknife(value, &without.iter().map(of).collect::<Vec<_>>())
    };
    let [file, byte, ratio] = match whole {
        None => [None; 3],
        Some((a, b)) if parts.len() < LEAST_PARTS => from_classes(&points(&all)?, a, b),
        Some((a, b)) => {
            let both = without.iter().all(|w| w.0 > 0.0 && w.1 > 0.0) && a > 0.0 && b > 0.0;
            let ratio = both.then(|| interval((a / b).ln(), &|w| (w.0 / w.1).ln())).flatten();
            [interval(a, &|w| w.0), interval(b, &|w| w.1), ratio]
        }
    };
    let told = |i: Option<Interval>| i.filter(|i| i.low > 0.0).map(|i| i.map(|v| v / threads));
    let (per_file, per_byte) = (told(file), told(byte));
    let even = ratio.filter(|_| per_file.is_some() && per_byte.is_some()).map(|i| i.map(f64::exp));
    (per_file.is_some() || per_byte.is_some() || per_folder.is_some()).then_some(Costs {
        per_file,
        per_byte,
        per_folder,
        even,
    })
}

impl Costs {
    /// In a sentence; `None` where no cost is known.
    #[must_use]
    pub fn sentence(&self) -> Option<String> {
        let time = |s: f64| latency(Duration::from_secs_f64(s.max(0.0)));
        let mut parts = Vec::new();
        parts.extend(
            self.per_file
                .map(|f| format!("each file costs {}", Quantity::Seconds.plus_minus(f.value, f.half()))),
        );
        let rate = |b: f64| Rate::new(1.0 / b.max(1e-15)).to_string();
        parts.extend(self.per_byte.map(|b| format!("bytes go at {}", rate(b.value))));
        parts.extend(self.per_folder.map(|f| format!("each folder costs {}", time(f))));
        let size = |e: Interval| Quantity::Bytes.plus_minus(e.value, e.half());
        let even = self.even.map(|e| format!("; a file below {} costs more than its bytes", size(e)));
        let text = parts.join(", ");
        let (head, tail) = text.split_at_checked(1)?;
        Some(format!("{}{tail}{}.", head.to_uppercase(), even.unwrap_or_default()))
    }
}
