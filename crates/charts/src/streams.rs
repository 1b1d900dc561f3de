//! Chart of a stream: what was offered and taken, the buffer between, and the buffer that each rate would have needed.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::buffer::{Stretch, stretches};
use hollow_mile_core::conclude::surveys::stream::Trial;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::units::{Bytes, Rate, clock};
use hollow_mile_core::readings::Readings;

use crate::lanes::{LEFT, RIGHT};
use crate::plot::{FAINT, Plot, Range, SHADE, TEXT, line_of, mark};
use crate::scene::{Anchor, Dash, Ink, Scene};
use crate::surveys::{Missing, TOP, begin, missing, ticks};

/// What was lost.
const LOST: Ink = Ink(198, 106, 42);
/// What stands in the buffer.
const FILLED: Ink = Ink(176, 184, 194);
const COLUMNS: usize = 660;

/// The stream that tells most: the slowest that was missed, or else the fastest that held.
fn telling(trials: &[Trial]) -> Option<&Trial> {
    let missed = trials.iter().filter(|t| !t.held).min_by(|a, b| a.mb_s.total_cmp(&b.mb_s));
    missed.or_else(|| trials.iter().max_by(|a, b| a.mb_s.total_cmp(&b.mb_s)))
}

/// Supply and demand, the buffer, and the hold curve of the stream that tells most.
///
/// # Errors
/// When no stream was offered in the haul.
pub fn streams(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let survey = conclusions.surveys.streams.as_ref();
    let Some((survey, trial)) = survey.and_then(|s| Some((s, telling(&s.trials)?))) else {
        return Err(missing("stream", "`hollow-mile haul stream` offers one"));
    };
    let stream = Rate::from_mb_s(trial.mb_s);
    let buffer = Bytes::new(trial.buffer_bytes);
    let what = format!("a stream of {stream} into a buffer of {}", buffer.binary());
    let mut scene = begin(readings, &what, TOP + 720.0);
    let series = readings.series();
    let samples = readings.steps().get(trial.step).map(|s| s.samples(series.len())).unwrap_or_default();
    let all = stretches(series, samples, stream, buffer, COLUMNS);
    let span = (all.first().map_or(0.0, |s| s.from_s), all.last().map_or(1.0, |s| s.to_s));
    let x = Range::even(span.0, span.1);
    let fastest = all.iter().filter_map(Stretch::rate).map(Rate::get).fold(stream.get(), f64::max);
    let top = scale::rate_top(fastest.min(stream.get() * 1.6));
    let rate =
        Plot { left: LEFT, right: RIGHT, top: TOP + 10.0, bottom: TOP + 190.0, x, y: Range::even(0.0, top) };
    let filled = Plot {
        top: TOP + 235.0,
        bottom: TOP + 365.0,
        y: Range::even(0.0, buffer.as_f64().max(1.0) * 1.35),
        ..rate
    };
    let both = Plot { bottom: filled.bottom, ..rate };
    both.axis_x(&mut scene, &scale::elapsed(span.0, span.1, 8), "elapsed");
    rate.axis_y(&mut scene, &scale::rates(top, 5), "offered and taken");
    filled.axis_y(&mut scene, &scale::bytes(0.0, buffer.as_f64(), 4), "in the buffer");
    supply(&mut scene, &rate, &all, stream);
    filling(&mut scene, &filled, &all, stream, buffer);
    for s in all.chunks(3) {
        let (first, last) = (s[0], s[s.len() - 1]);
        let sum = |of: fn(&Stretch) -> f64| s.iter().map(of).sum::<f64>();
        let taken = Rate::new(sum(|s| s.taken) / sum(|s| s.loaded_s).max(1e-9));
        let backlog = s.iter().map(|s| s.backlog).fold(0.0, f64::max);
        let at = clock(std::time::Duration::from_secs_f64(first.from_s.max(0.0)));
        let words = format!(
            "{at}: {taken} taken, {} in the buffer, {} lost",
            Bytes::new(backlog as u64),
            Bytes::new(sum(|s| s.lost) as u64)
        );
        scene.spot((rate.x(first.from_s), rate.top), (rate.x(last.to_s), filled.bottom), words);
    }
    hold(&mut scene, trial, buffer);
    scene.paragraph((LEFT, TOP + 680.0), &survey.sentence(), 11.5, TEXT, RIGHT - LEFT);
    Ok(scene)
}

/// Fills between two lines over the stretches for which both are told: one piece of ink for each row of neighbours.
fn fill(scene: &mut Scene, p: &Plot, all: &[Stretch], of: impl Fn(&Stretch) -> Option<(f64, f64)>, ink: Ink) {
    for run in all.chunk_by(|a, b| of(a).is_some() == of(b).is_some() && b.from_s - a.to_s < 1e-6) {
        let told = || run.iter().filter_map(|s| Some((s, of(s)?)));
        let edge = |s: &Stretch, v: f64| [(p.x(s.from_s), p.y(v)), (p.x(s.to_s), p.y(v))];
        let mut points: Vec<(f64, f64)> = told().flat_map(|(s, (_, high))| edge(s, high)).collect();
        let mut back: Vec<(f64, f64)> = told().flat_map(|(s, (low, _))| edge(s, low)).collect();
        back.reverse();
        points.extend(back);
        if points.len() > 2 {
            scene.area(points, ink);
        }
    }
}

fn supply(scene: &mut Scene, p: &Plot, all: &[Stretch], stream: Rate) {
    let lost = |s: &Stretch| s.rate().filter(|_| s.lost > 0.0).map(|r| (r.get(), stream.get()));
    fill(scene, p, all, lost, SHADE);
    let taken = all.iter().filter_map(|s| Some(p.at(f64::midpoint(s.from_s, s.to_s), s.rate()?.get())));
    scene.stroke(taken.collect(), line_of(0).0, 1.4, Dash::Solid);
    let y = p.y(stream.get());
    scene.dashes(vec![(p.left, y), (p.right, y)], LOST, 1.4);
    scene.words((p.right - 4.0, y - 5.0), format!("offered {stream}"), 10.5, LOST, Anchor::End);
    scene.words(
        (p.left + 6.0, p.bottom - 6.0),
        "line: taken by the drive; shaded: lost",
        10.5,
        FAINT,
        Anchor::Start,
    );
}

fn filling(scene: &mut Scene, p: &Plot, all: &[Stretch], stream: Rate, buffer: Bytes) {
    let room = buffer.as_f64();
    fill(scene, p, all, |s| (s.backlog > 0.0).then_some((0.0, s.backlog)), FILLED);
    // Over the edge: which share of the stream is being lost.
    let share = |s: &Stretch| (s.lost / (stream.get() * s.loaded_s).max(1.0)).min(1.0);
    let lost = |s: &Stretch| (s.lost > 0.0).then(|| (room, room * (1.0 + 0.3 * share(s))));
    fill(scene, p, all, lost, LOST);
    let y = p.y(room);
    scene.line(vec![(p.left, y), (p.right, y)], TEXT, 1.0);
    let words = format!("full at {}; above it, the share that is lost", buffer.binary());
    scene.words((p.left + 6.0, y - 5.0), words, 10.5, TEXT, Anchor::Start);
}

fn hold(scene: &mut Scene, trial: &Trial, buffer: Bytes) {
    let needed = || trial.hold.iter().map(|n| n.bytes as f64);
    let most = needed().fold(buffer.as_f64(), f64::max);
    let least = needed().filter(|b| *b > 0.0).fold(buffer.as_f64(), f64::min).max(most / 1e7);
    let (low, high) = (10f64.powf(least.log10().floor()), 10f64.powf(most.log10().ceil()));
    let stream = Rate::from_mb_s(trial.mb_s);
    let p = Plot {
        left: LEFT,
        right: RIGHT,
        top: TOP + 440.0,
        bottom: TOP + 610.0,
        x: Range::even(0.0, stream.get() * 1.02),
        y: Range::log(low, high.max(low * 10.0)),
    };
    p.axis_x(scene, &scale::rates(stream.get(), 8), "stream");
    let decades = (0..16).map(|d| 10f64.powi(d)).filter(|v| (low..=high).contains(v));
    p.axis_y(
        scene,
        &ticks("", decades.map(|v| (v, Bytes::new(v as u64).to_string()))),
        "buffer that it needs",
    );
    let curve = trial.hold.iter().filter(|n| n.bytes as f64 >= low);
    scene.stroke(curve.map(|n| p.at(n.mb_s * 1e6, n.bytes as f64)).collect(), line_of(0).0, 1.6, Dash::Solid);
    let y = p.y(buffer.as_f64());
    scene.dashes(vec![(p.left, y), (p.right, y)], FAINT, 1.0);
    scene.words(
        (p.right - 4.0, y - 5.0),
        format!("this buffer, {}", buffer.binary()),
        10.5,
        FAINT,
        Anchor::End,
    );
    if let Some(holds) = trial.buffer_holds_mb_s.filter(|_| !trial.held) {
        let at = p.at(holds * 1e6, buffer.as_f64());
        mark(scene, at, 1);
        let words = format!("holds {}", Rate::from_mb_s(holds));
        scene.words((at.0 + 8.0, at.1 + 14.0), words, 10.5, TEXT, Anchor::Start);
    }
    let at = p.at(stream.get(), trial.needed_bytes() as f64);
    mark(scene, at, 0);
    let words = format!("{stream} needs {}", Bytes::new(trial.needed_bytes()));
    scene.words((at.0 - 8.0, at.1 + 16.0), words, 10.5, TEXT, Anchor::End);
}
