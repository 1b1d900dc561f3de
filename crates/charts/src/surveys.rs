//! Charts of the surveys: rate by position, figures against fill, access time against span, the ladder.

use std::time::Duration;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::Pattern;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::scale::{Axis, Tick};
use hollow_mile_core::quantity::units::{Bytes, Rate, latency, significant};
use hollow_mile_core::readings::{Bin, Readings};

use crate::lanes::{LEFT, RIGHT, TOLD, WIDTH, conditions_line, letter, source};
use crate::plot::{FAINT, Plot, Range, SHADE, Style, TEXT, headed, legend, legend_in, line_of};
use crate::scene::{Anchor, Dash, Scene};

/// Why there is nothing to draw.
pub type Missing = String;

/// Columns of a chart by position.
const COLUMNS: usize = 660;
pub(crate) const TOP: f64 = 96.0;

pub(crate) fn begin(readings: &Readings, what: &str, height: f64) -> Scene {
    let name = readings
        .head()
        .map_or_else(|| what.to_owned(), |h| format!("{} {}: {what}", h.drive.serial, h.drive.model));
    let mut scene = Scene::new(WIDTH, height, name.clone());
    headed(&mut scene, &name, &conditions_line(readings), &source(readings));
    scene
}

pub(crate) fn missing(what: &str, remedy: &str) -> Missing {
    format!("this haul has no {what}: {remedy}")
}

pub(crate) fn plot(top: f64, bottom: f64, x: Range, y: Range) -> Plot {
    Plot { left: LEFT, right: RIGHT, top, bottom, x, y }
}

/// Slowest, mean and fastest bin, and the longest operation, of each column; extremes are kept.
fn thinned(bins: &[Bin], columns: usize) -> Vec<Option<(f64, f64, f64, u32)>> {
    let at = |i: usize| i * bins.len() / columns;
    (0..columns)
        .map(|i| {
            let part = &bins[at(i)..at(i + 1).max(at(i) + 1).min(bins.len())];
            let rates = || part.iter().filter_map(Bin::rate);
            let slowest = rates().reduce(f64::min)?;
            let (bytes, seconds) =
                part.iter().fold((0.0, 0.0), |(b, s), x| (b + f64::from(x.bytes), s + f64::from(x.seconds)));
            let worst = part.iter().map(|b| b.worst_us).max().unwrap_or(0);
            Some((slowest, bytes / f64::max(seconds, 1e-9), rates().reduce(f64::max)?, worst))
        })
        .collect()
}

/// Rate and longest operation by position, pass over pass, with slow stretches.
///
/// # Errors
/// When the haul has no scan.
pub fn ground(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let (Some(scan), Some(survey)) = (readings.scan(), &conclusions.surveys.ground) else {
        return Err(missing("scan", "`hollow-mile haul ground` makes one"));
    };
    let slow: Vec<_> = survey.slow().collect();
    let rows = slow.len().min(20);
    let height = TOP + 470.0 + rows as f64 * 17.0 + 40.0;
    let mut scene = begin(readings, "rate by position", height);
    let x = Range::even(survey.start_bytes as f64, survey.end_bytes as f64);
    let columns: Vec<_> = scan.passes().iter().map(|g| thinned(&g.bins, COLUMNS.min(g.bins.len()))).collect();
    let fastest = columns.iter().flatten().flatten().map(|c| c.2).fold(0.0, f64::max);
    let rate = plot(TOP + 20.0, TOP + 290.0, x, Range::even(0.0, scale::rate_top(fastest)));
    let worst = columns.iter().flatten().flatten().map(|c| f64::from(c.3)).fold(1.0, f64::max);
    let least = columns.iter().flatten().flatten().map(|c| f64::from(c.3)).fold(worst, f64::min);
    let decade = |v: f64, up: bool| 10f64.powf(if up { v.log10().ceil() } else { v.log10().floor() });
    let (low, high) = (decade(least.max(1.0), false), decade(worst.max(10.0), true));
    let late = plot(TOP + 325.0, TOP + 400.0, x, Range::log(low, high.max(low * 10.0)));
    for (i, s) in slow.iter().enumerate() {
        let (a, b) =
            (rate.x(s.position_bytes as f64), rate.x(s.position_end_bytes as f64).max(rate.left + 1.0));
        scene.area(
            vec![(a, rate.top), (b.max(a + 1.0), rate.top), (b.max(a + 1.0), late.bottom), (a, late.bottom)],
            SHADE,
        );
        scene.heavy((f64::midpoint(a, b), rate.top - 4.0), letter(i), 12.0, TEXT, Anchor::Middle);
    }
    let both = Plot { bottom: late.bottom, ..rate };
    both.axis_x(&mut scene, &scale::bytes(x.low, x.high, 8), "position on the drive");
    let title = Plot { top: rate.top - 10.0, ..rate };
    title.axis_y(&mut scene, &scale::rates(rate.y.high, 5), "rate");
    late.axis_y(&mut scene, &scale::latencies(late.y.low, late.y.high), "longest operation");
    for (pass, columns) in columns.iter().enumerate() {
        let (ink, dash) = line_of(pass);
        let n = columns.len() as f64;
        let place = |i: usize| rate.left + (i as f64 + 0.5) / n * (rate.right - rate.left);
        let seen = || columns.iter().enumerate().filter_map(|(i, c)| Some((place(i), (*c)?)));
        // Slowest and fastest bin of a column as a thin upright line: nothing is lost in thinning.
        for (x, c) in seen().filter(|(_, c)| c.2 - c.0 > 0.005 * rate.y.high) {
            scene.line(vec![(x, rate.y(c.0)), (x, rate.y(c.2))], ink, 0.5);
        }
        scene.stroke(seen().map(|(x, c)| (x, rate.y(c.1))).collect(), ink, 1.3, dash);
        scene.stroke(seen().map(|(x, c)| (x, late.y(f64::from(c.3.max(1))))).collect(), ink, 1.0, dash);
    }
    let told = scan.passes().first().map(|g| thinned(&g.bins, TOLD.min(g.bins.len()))).unwrap_or_default();
    for (i, c) in told.iter().enumerate() {
        let Some((slowest, mean, _, worst)) = c else { continue };
        let width = (RIGHT - LEFT) / told.len() as f64;
        let place = Bytes::new((x.low + (x.high - x.low) * (i as f64 + 0.5) / told.len() as f64) as u64);
        let words = format!(
            "{place}: {}, slowest {}, longest operation {}",
            Rate::new(*mean),
            Rate::new(*slowest),
            latency(Duration::from_micros((*worst).into()))
        );
        let left = LEFT + width * i as f64;
        scene.spot((left, rate.top), (left + width, late.bottom), words);
    }
    let names: Vec<String> = scan
        .passes()
        .iter()
        .enumerate()
        .map(|(i, g)| format!("pass {}{}", i + 1, if g.backward { ", backwards" } else { "" }))
        .collect();
    legend(&mut scene, (RIGHT - 190.0, 34.0), &names[..names.len().min(3)], false);
    let mut y = TOP + 462.0;
    if slow.is_empty() {
        scene.words((LEFT, y), "No slow stretch stood when it was visited again.", 11.5, TEXT, Anchor::Start);
    }
    for (i, s) in slow.iter().enumerate().take(rows) {
        scene.heavy((LEFT, y), letter(i), 11.5, TEXT, Anchor::Start);
        let words = format!(
            "slow {}, {} and not {}; seen by {} of {} passes, longest operation {}, {} errors",
            s.words(),
            Rate::from_mb_s(s.inside_mb_s),
            Rate::from_mb_s(s.beside_mb_s),
            s.seen,
            s.passes,
            latency(Duration::from_micros(s.worst_us.into())),
            s.errors
        );
        scene.words((LEFT + 24.0, y), words, 11.5, TEXT, Anchor::Start);
        y += 17.0;
    }
    if slow.len() > rows {
        let more = format!("and {} more", slow.len() - rows);
        scene.words((LEFT + 24.0, y), more, 11.5, FAINT, Anchor::Start);
    }
    Ok(scene)
}

pub(crate) fn ticks(unit: &'static str, values: impl Iterator<Item = (f64, String)>) -> Axis {
    Axis { unit, ticks: values.map(|(value, words)| Tick { value, words }).collect() }
}

/// Marks of a logarithmic axis: of few decades one, two and five of each, of many each second.
pub(crate) fn decades(low: f64, high: f64) -> impl Iterator<Item = f64> {
    let many = (high / low).log10();
    let steps: &[f64] = if many < 3.0 { &[1.0, 2.0, 5.0] } else { &[1.0] };
    let all = (low.log10().floor() as i32..=high.log10().ceil() as i32)
        .flat_map(move |d| steps.iter().map(move |s| s * 10f64.powi(d)));
    all.filter(move |v| (low..=high).contains(v))
}

/// Each measure of a fill sweep against the level of fill, with its interval.
///
/// # Errors
/// When the haul is no fill sweep.
pub fn fill(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let Some(survey) = &conclusions.surveys.fill else {
        return Err(missing(
            "levels of fill",
            "`hollow-mile haul high-water` fills the drive and measures on the way",
        ));
    };
    let names: Vec<String> = survey
        .measures
        .iter()
        .map(|m| format!("{}: {}", m.measure, if m.holds { "holds within 5 %" } else { "does not hold" }))
        .collect();
    let mut scene = begin(readings, "figures against fill", TOP + 400.0 + names.len() as f64 * 16.0 + 70.0);
    let levels = || survey.measures.iter().flat_map(|m| &m.levels);
    // Rates of megabytes and of gigabytes on one picture: as shares of the first level all can be read.
    let upper = |l: &hollow_mile_core::conclude::surveys::fill::AtLevel| {
        l.of_first * (1.0 + l.mb_s.interval.unwrap_or(0.0) / l.mb_s.mean.max(1e-9)).min(2.0)
    };
    let top = levels().map(upper).fold(1.0, f64::max) * 1.05;
    let p = plot(TOP + 10.0, TOP + 380.0, Range::even(0.0, 100.0), Range::even(0.0, top));
    let fills = (0..=10).map(|i| (f64::from(i) * 10.0, format!("{}", i * 10)));
    p.axis_x(&mut scene, &ticks("%", fills), "share of the drive that holds data");
    let shares = (0..=(top * 5.0) as u32).map(|i| (f64::from(i) / 5.0, format!("{}", i * 20)));
    p.axis_y(&mut scene, &ticks("% of the first level", shares), "rate");
    // What counts as holding.
    for share in [0.95, 1.05] {
        scene.dashes(vec![(p.left, p.y(share)), (p.right, p.y(share))], FAINT, 0.7);
    }
    for (i, m) in survey.measures.iter().enumerate() {
        let (ink, dash) = line_of(i);
        scene.stroke(m.levels.iter().map(|l| p.at(l.fill_percent, l.of_first)).collect(), ink, 1.6, dash);
        for l in &m.levels {
            let first = l.mb_s.mean / l.of_first.max(1e-9);
            let interval = l.mb_s.interval.map(|h| ((l.mb_s.mean - h) / first, (l.mb_s.mean + h) / first));
            p.whisker(&mut scene, l.fill_percent, l.of_first, interval, i);
            let words = format!(
                "{}: {} at {} % full",
                m.measure,
                Rate::from_mb_s(l.mb_s.mean),
                significant(l.fill_percent)
            );
            scene.spot_at(p.at(l.fill_percent, l.of_first), words);
            if l.cached.is_some_and(|c| c >= 0.99) {
                let at = p.at(l.fill_percent, l.of_first);
                scene.words((at.0 + 6.0, at.1 - 6.0), "cache only", 9.0, FAINT, Anchor::Start);
            }
        }
    }
    for (i, m) in survey.measures.iter().enumerate() {
        let Some(first) = m.levels.first() else { continue };
        let words = format!(
            "100 % is {} at {} % full",
            Rate::from_mb_s(first.mb_s.mean),
            significant(first.fill_percent)
        );
        scene.words((RIGHT, TOP + 445.0 + i as f64 * 16.0), words, 10.0, FAINT, Anchor::End);
    }
    legend(&mut scene, (LEFT, TOP + 445.0), &names, true);
    Ok(scene)
}

/// A time of a span, µs.
type OfSpan = fn(&hollow_mile_core::conclude::surveys::spans::Span) -> f64;

/// Mean access time against the length of the span, with its interval.
///
/// # Errors
/// When the haul measured no spans.
pub fn spans(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let Some(survey) = &conclusions.surveys.spans else {
        return Err(missing("spans", "`hollow-mile haul spans` measures them"));
    };
    let mut scene = begin(readings, "access time against span", TOP + 480.0);
    let length = |s: &hollow_mile_core::conclude::surveys::spans::Span| (s.end_bytes - s.start_bytes) as f64;
    let (low, high) =
        survey.spans.iter().map(length).fold((f64::MAX, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    let top = survey.spans.iter().map(|s| s.p99_us.max(s.access_us.mean)).fold(1.0, f64::max);
    // From zero: half the time must look like half.
    let in_ms = top >= 1000.0;
    let scaled = scale::degrees(0.0, top / if in_ms { 1e3 } else { 1.0 } * 1.05, 6);
    let axis = ticks(
        if in_ms { "ms" } else { "µs" },
        scaled.ticks.into_iter().map(|t| (t.value * if in_ms { 1e3 } else { 1.0 }, t.words)),
    );
    let p = plot(TOP + 10.0, TOP + 380.0, Range::log(low / 1.3, high * 1.3), Range::even(0.0, top * 1.05));
    let lengths = survey
        .spans
        .iter()
        .filter(|s| s.start_bytes == 0)
        .map(|s| (length(s), Bytes::new(s.end_bytes - s.start_bytes).to_string()));
    p.axis_x(
        &mut scene,
        &ticks("", lengths),
        "length of the span, from the first address (by its logarithm)",
    );
    p.axis_y(&mut scene, &axis, "random read");
    let from_start: Vec<_> = survey.spans.iter().filter(|s| s.start_bytes == 0).collect();
    let curves: [(&str, OfSpan); 3] = [
        ("mean, with 95 % interval", |s| s.access_us.mean),
        ("median", |s| s.median_us),
        ("p99", |s| s.p99_us),
    ];
    for (i, (_, of)) in curves.iter().enumerate() {
        let (ink, dash) = line_of(i);
        scene.stroke(from_start.iter().map(|s| p.at(length(s), of(s))).collect(), ink, 1.6, dash);
        for s in &survey.spans {
            let a = &s.access_us;
            let interval = a.interval.filter(|_| i == 0).map(|h| (a.mean - h, a.mean + h));
            p.whisker(&mut scene, length(s), of(s), interval, i);
            let time = latency(Duration::from_secs_f64((of(s) / 1e6).max(0.0)));
            let words = format!("{} over {}: {time}", curves[i].0, Bytes::new(s.end_bytes - s.start_bytes));
            scene.spot_at(p.at(length(s), of(s)), words);
            if s.start_bytes > 0 && i == 0 {
                let at = p.at(length(s), of(s));
                scene.words((at.0 + 8.0, at.1 + 4.0), "at the end", 9.5, FAINT, Anchor::Start);
            }
        }
    }
    let names: Vec<String> = curves.iter().map(|c| c.0.to_owned()).collect();
    legend(&mut scene, (LEFT + 20.0, TOP + 30.0), &names, true);
    if let Some(words) = survey.sentence() {
        scene.paragraph((LEFT, TOP + 440.0), &words, 11.5, TEXT, RIGHT - LEFT);
    }
    Ok(scene)
}

/// What a rung says to a pointer.
pub(crate) fn rung_words(r: &hollow_mile_core::conclude::surveys::ladder::Rung) -> String {
    let p99 = latency(Duration::from_secs_f64((r.p99_us / 1e6).max(0.0)));
    format!(
        "{}, depth {}: {}, p99 {p99}",
        Bytes::new(r.block_bytes).binary(),
        r.depth,
        Rate::from_mb_s(r.mb_s)
    )
}

/// Rate and p99 latency against depth, a line for each block size and order.
///
/// # Errors
/// When the haul climbed no ladder.
pub fn ladder(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let Some(survey) = &conclusions.surveys.ladder else {
        return Err(missing("ladder", "`hollow-mile haul ladder` climbs one"));
    };
    type Key = (u64, bool, u32);
    let key = |r: &hollow_mile_core::conclude::surveys::ladder::Rung| -> Key {
        (r.block_bytes, r.pattern == Pattern::Random, r.workers)
    };
    let mut series: Vec<Key> = survey.rungs.iter().map(key).collect();
    series.sort_unstable();
    series.dedup();
    let names: Vec<String> = series
        .iter()
        .map(|(block, random, workers)| {
            let order = if *random { "at random" } else { "in sequence" };
            let threads = if *workers > 1 { format!(", {workers} workers") } else { String::new() };
            format!("{} {order}{threads}", Bytes::new(*block).binary())
        })
        .collect();
    let mut scene = begin(readings, "the ladder", TOP + 470.0 + names.len() as f64 * 16.0 + 40.0);
    let depths = || survey.rungs.iter().map(|r| f64::from(r.depth));
    let (low, high) = depths().fold((f64::MAX, 0.0f64), |(l, h), d| (l.min(d), h.max(d)));
    let x = Range::log(low / 1.2, (high * 1.2).max(low * 1.5));
    let fastest = survey.rungs.iter().map(|r| r.mb_s * 1e6).fold(0.0, f64::max);
    let rate = plot(TOP + 10.0, TOP + 250.0, x, Range::even(0.0, scale::rate_top(fastest)));
    let late = || survey.rungs.iter().map(|r| r.p99_us.max(1.0));
    let (least, most) = late().fold((f64::MAX, 1.0f64), |(l, h), v| (l.min(v), h.max(v)));
    let (least, most) = (10f64.powf(least.log10().floor()), 10f64.powf(most.log10().ceil()));
    let late_plot = plot(TOP + 285.0, TOP + 400.0, x, Range::log(least, most.max(least * 10.0)));
    let mut steps: Vec<u32> = survey.rungs.iter().map(|r| r.depth).collect();
    steps.sort_unstable();
    steps.dedup();
    let both = Plot { bottom: late_plot.bottom, ..rate };
    both.axis_x(
        &mut scene,
        &ticks("", steps.iter().map(|d| (f64::from(*d), d.to_string()))),
        "depth: operations in flight",
    );
    rate.axis_y(&mut scene, &scale::rates(rate.y.high, 5), "rate");
    late_plot.axis_y(&mut scene, &scale::latencies(late_plot.y.low, late_plot.y.high), "latency p99");
    // A block size has its ink, an order its dashes and its sign.
    let mut blocks: Vec<u64> = series.iter().map(|k| k.0).collect();
    blocks.dedup();
    let style = |k: &Key| {
        let ink = line_of(blocks.iter().position(|b| *b == k.0).unwrap_or(0)).0;
        let dash = if k.1 { Dash::Dashed } else { Dash::Solid };
        Style { ink, dash, shape: usize::from(k.1) + 2 * usize::from(k.2 > 1) }
    };
    for k in &series {
        let rungs: Vec<_> = survey.rungs.iter().filter(|r| key(r) == *k).collect();
        let s = style(k);
        scene.stroke(
            rungs.iter().map(|r| rate.at(f64::from(r.depth), r.mb_s * 1e6)).collect(),
            s.ink,
            1.6,
            s.dash,
        );
        scene.stroke(
            rungs.iter().map(|r| late_plot.at(f64::from(r.depth), r.p99_us)).collect(),
            s.ink,
            1.4,
            s.dash,
        );
        for r in rungs {
            rate.whisker_in(&mut scene, f64::from(r.depth), r.mb_s * 1e6, None, s);
            scene.spot_at(rate.at(f64::from(r.depth), r.mb_s * 1e6), rung_words(r));
            late_plot.whisker_in(&mut scene, f64::from(r.depth), r.p99_us, None, s);
        }
    }
    let styled: Vec<(Style, String)> = series.iter().map(style).zip(names).collect();
    legend_in(&mut scene, (LEFT, TOP + 465.0), &styled, true);
    Ok(scene)
}
