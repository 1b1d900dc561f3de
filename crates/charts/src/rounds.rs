//! Chart of rounds until steady: how each followed figure settled with the measurement window, every leg of a round as a shaded cell,
//! and the response times of the followed legs.

use std::time::Duration;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::rounds::{LegOfRound, RoundGrid, Rounds};
use hollow_mile_core::quantity::units::{counted, latency, mb_s_figure, significant};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::route::Followed;

use crate::lanes::{LEFT, RIGHT};
use crate::plot::{FAINT, Range, SHADE, Style, TEXT, legend_in};
use crate::scene::{Anchor, Ink, Scene};
use crate::surveys::{Missing, TOP, begin, decades, missing, plot, ticks};

/// Half of the excursion that a steady window may have.
const BAND: f64 = 0.1;
const ROW: f64 = 26.0;

/// All groups of rounds of a haul, under each other.
///
/// # Errors
/// When the haul has none.
pub fn rounds(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let groups = groups(conclusions)?;
    let height: f64 = groups.iter().map(height).sum();
    let mut scene = begin(readings, "rounds until steady", TOP + height + 30.0);
    let mut top = TOP;
    for group in groups {
        panel(&mut scene, group, top);
        top += self::height(group);
    }
    Ok(scene)
}

/// As [`rounds`], a chart for each group: a page each.
///
/// # Errors
/// When the haul has none.
pub fn pages(readings: &Readings, conclusions: &Conclusions) -> Result<Vec<Scene>, Missing> {
    let page = |group: &Rounds| {
        let mut scene = begin(readings, "rounds until steady", TOP + height(group) + 30.0);
        panel(&mut scene, group, TOP);
        scene
    };
    Ok(groups(conclusions)?.iter().map(page).collect())
}

fn groups(conclusions: &Conclusions) -> Result<&[Rounds], Missing> {
    let survey = conclusions.surveys.rounds.as_ref();
    survey
        .map(|s| s.groups.as_slice())
        .ok_or_else(|| missing("rounds", "`hollow-mile haul pts-iops` goes in rounds until steady"))
}

fn height(group: &Rounds) -> f64 {
    let rows = group.grid().map_or(0, |g| g.rows.1.len());
    let followed = group.followed.len() as f64;
    let tails = if group.legs.iter().any(|l| l.slower.len() > 1) { TAILS + followed * 16.0 } else { 0.0 };
    380.0 + followed * 16.0 + 70.0 + rows as f64 * ROW + 60.0 + followed * 15.0 + 30.0 + tails
}

fn time(us: f64) -> String {
    latency(Duration::from_secs_f64((us / 1e6).max(0.0)))
}

fn panel(scene: &mut Scene, group: &Rounds, top: f64) {
    let below = settling(scene, group, top);
    let below = match group.grid() {
        Some(grid) => cells(scene, group, &grid, below + 34.0),
        None => below,
    };
    times(scene, group, below + 26.0);
    tails(scene, group, below + 26.0 + group.followed.len() as f64 * 15.0 + 40.0);
}

/// Height of the picture of response times, with what stands around it.
const TAILS: f64 = 270.0;

/// The share of operations that takes longer than so long, a curve for each followed leg: to one in 100,000.
fn tails(scene: &mut Scene, group: &Rounds, top: f64) {
    let followed = |l: &&LegOfRound| group.follows(l) && l.slower.len() > 1;
    let legs: Vec<&LegOfRound> = group.legs.iter().filter(followed).collect();
    let us = || legs.iter().flat_map(|l| &l.slower).map(|s| s.0).filter(|us| *us > 0.0);
    let (Some(low), Some(high)) = (us().reduce(f64::min), us().reduce(f64::max)) else { return };
    let rarest = legs.iter().flat_map(|l| &l.slower).map(|s| s.1).fold(1.0, f64::min);
    let rarest = 10f64.powf(rarest.log10().floor());
    let x = Range::log(low / 1.3, (high * 1.3).max(low * 3.0));
    let p = plot(top, top + 210.0, x, Range::log(rarest, 1.0));
    p.axis_x(scene, &ticks("", decades(x.low, x.high).map(|v| (v, time(v)))), "response time");
    let shares = (0..=(-rarest.log10()).round() as i32).map(|n| 10f64.powi(-n));
    p.axis_y(scene, &ticks("%", shares.map(|s| (s, significant(s * 100.0)))), "operations that take longer");
    let mut styled = Vec::new();
    for (i, leg) in legs.iter().enumerate() {
        let style = Style::of(i);
        let points = leg.slower.iter().map(|(us, share)| p.at(*us, *share)).collect();
        scene.stroke(points, style.ink, 1.5, style.dash);
        for (us, share) in &leg.slower {
            let words =
                format!("{} % take longer than {}, {}", significant(share * 100.0), time(*us), leg.measure);
            scene.spot_at(p.at(*us, *share), words);
        }
        styled.push((style, leg.measure.clone()));
    }
    legend_in(scene, (LEFT, p.bottom + 54.0), &styled, false);
}

/// The figures over the rounds; gives where it ends.
fn settling(scene: &mut Scene, group: &Rounds, top: f64) -> f64 {
    let mut top = top;
    if let Some(words) = group.sentence() {
        top = scene.paragraph((LEFT, top + 4.0), &words, 11.5, TEXT, RIGHT - LEFT);
    }
    let mean = |i: usize| group.followed[i].mean.filter(|m| *m > 0.0);
    let shares: Vec<Vec<Option<f64>>> = (0..group.followed.len())
        .map(|i| group.followed[i].values.iter().map(|v| Some((*v)? / mean(i)?)).collect())
        .collect();
    let most = shares.iter().flatten().flatten().copied().fold(1.3, f64::max);
    let high = (most * 4.0).ceil() / 4.0;
    let rounds = group.rounds.max(5) as f64;
    let p = plot(top + 22.0, top + 270.0, Range::even(0.5, rounds + 0.5), Range::even(0.0, high));
    let window = group.window();
    if group.window_from.is_some() {
        let (a, b) = (p.x(window.start as f64 + 0.5), p.x(window.end as f64 + 0.5));
        scene.area(vec![(a, p.top), (b, p.top), (b, p.bottom), (a, p.bottom)], SHADE);
        let words = format!("measured in rounds {} to {}", window.start + 1, window.end);
        scene.words((f64::midpoint(a, b), p.top - 5.0), words, 10.5, TEXT, Anchor::Middle);
    }
    let every = (group.rounds / 13 + 1) as u32;
    let numbers = (1..=group.rounds.max(5) as u32).filter(|n| (n - 1).is_multiple_of(every));
    p.axis_x(scene, &ticks("", numbers.map(|n| (f64::from(n), n.to_string()))), "round");
    let step = if high > 3.0 { 1.0 } else { 0.5 };
    let marks = (0..=(high / step) as u32).map(|i| f64::from(i) * step);
    p.axis_y(
        scene,
        &ticks("%", marks.map(|v| (v, format!("{:.0}", v * 100.0)))),
        "of its mean in the window",
    );
    for edge in [1.0 - BAND, 1.0 + BAND] {
        scene.dashes(vec![(p.left, p.y(edge)), (p.right, p.y(edge))], FAINT, 0.8);
    }
    let mut styled = Vec::new();
    for (i, values) in shares.iter().enumerate() {
        let (style, leg) = (Style::of(i), &group.followed[i]);
        let points = || values.iter().enumerate().filter_map(|(n, v)| Some((n as f64 + 1.0, (*v)?)));
        scene.stroke(points().map(|(n, v)| p.at(n, v)).collect(), style.ink, 1.5, style.dash);
        for (n, v) in points() {
            p.whisker_in(scene, n, v, None, style);
            let value = leg.mean.map(|m| group.value_words(m * v)).unwrap_or_default();
            scene.spot_at(p.at(n, v), format!("round {n:.0}: {value}, {}", leg.of));
        }
        let mean = leg.mean.map(|m| group.value_words(m)).unwrap_or_default();
        let moves = leg.steadiness.map_or_else(String::new, |s| {
            format!(", excursion {:.1} %, slope {:.1} %", s.excursion * 100.0, s.slope * 100.0)
        });
        styled.push((style, format!("{}: {mean}{moves}", leg.of)));
    }
    p.bottom + 56.0 + legend_in(scene, (LEFT, p.bottom + 56.0), &styled, true)
}

/// From white to a mid blue-green, on which black is read.
fn tone(share: f64) -> Ink {
    let mix = |from: f64, to: f64| (from + (to - from) * share.clamp(0.0, 1.0)).round() as u8;
    Ink(mix(246.0, 118.0), mix(248.0, 184.0), mix(248.0, 186.0))
}

fn cells(scene: &mut Scene, group: &Rounds, grid: &RoundGrid<'_>, top: f64) -> f64 {
    let what = match group.figure {
        Followed::Rate => "Operations a second",
        Followed::MeanLatency => "Mean latency",
        Followed::P99Latency => "p99 latency",
    };
    let heading =
        format!("{what} by {} and {}, means over the measurement window", grid.rows.0, grid.columns.0);
    scene.heavy((LEFT, top), heading, 11.5, TEXT, Anchor::Start);
    let all = || grid.cells.iter().flatten().flatten().map(|l| group.told(l).0).filter(|v| *v > 0.0);
    let (least, most) = all().fold((f64::MAX, 0.0f64), |(l, h), v| (l.min(v), h.max(v)));
    let share = |v: f64| (v / least).ln() / (most / least).ln().max(1e-9);
    let left = LEFT + 70.0;
    let width = ((RIGHT - left) / grid.columns.1.len().max(1) as f64).min(110.0);
    for (n, name) in grid.columns.1.iter().enumerate() {
        let x = left + (n as f64 + 0.5) * width;
        scene.words((x, top + 20.0), name.clone(), 10.5, FAINT, Anchor::Middle);
    }
    for (i, name) in grid.rows.1.iter().enumerate() {
        let y = top + 28.0 + i as f64 * ROW;
        scene.words((left - 8.0, y + 17.0), name.clone(), 10.5, FAINT, Anchor::End);
        for (n, leg) in grid.cells[i].iter().enumerate() {
            let Some(leg) = leg else { continue };
            let (value, words) = group.told(leg);
            let (a, b) = (left + n as f64 * width + 1.0, left + (n as f64 + 1.0) * width - 1.0);
            let ink = tone(if value > 0.0 { share(value) } else { 0.0 });
            scene.area(vec![(a, y), (b, y), (b, y + ROW - 2.0), (a, y + ROW - 2.0)], ink);
            scene.words((f64::midpoint(a, b), y + 16.0), words, 10.5, TEXT, Anchor::Middle);
            let spot = format!(
                "{}: {} MB/s, {} operations a second, mean {}, p99 {}",
                leg.measure,
                mb_s_figure(leg.mb_s.mean),
                counted(leg.operations_per_s),
                time(leg.mean_us),
                time(leg.p99_us)
            );
            scene.spot((a, y), (b, y + ROW - 2.0), spot);
        }
    }
    top + 28.0 + grid.rows.1.len() as f64 * ROW
}

/// Response times of the followed legs, to five nines.
fn times(scene: &mut Scene, group: &Rounds, top: f64) {
    const COLUMNS: [(&str, f64); 6] = [
        ("mean", 420.0),
        ("p99", 500.0),
        ("p99.9", 580.0),
        ("p99.999", 660.0),
        ("longest", 740.0),
        ("", 0.0),
    ];
    scene.heavy((LEFT, top), "Response time in the window", 11.5, TEXT, Anchor::Start);
    for (name, x) in COLUMNS.iter().filter(|c| c.1 > 0.0) {
        scene.words((LEFT + x, top), *name, 10.5, FAINT, Anchor::End);
    }
    for (i, followed) in group.followed.iter().enumerate() {
        let y = top + 16.0 + i as f64 * 15.0;
        let Some(leg) = group.legs.iter().find(|l| l.leg == followed.leg) else { continue };
        scene.words((LEFT, y), leg.measure.clone(), 10.5, TEXT, Anchor::Start);
        let few = "too few".to_owned();
        let values = [
            time(leg.mean_us),
            time(leg.p99_us),
            time(leg.p999_us),
            leg.p99999_us.map_or(few, time),
            time(leg.longest_us),
        ];
        for ((_, x), words) in COLUMNS.iter().zip(values) {
            scene.words((LEFT + x, y), words, 10.5, TEXT, Anchor::End);
        }
    }
}
