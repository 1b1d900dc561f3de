//! Chart of a ladder as its knee: what more depth buys in rate, and what it costs in waiting.

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::ladder::Rung;
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

/// Rate against p99 latency, a line a block size with its depths, for the order and crew that have the most rungs.
///
/// # Errors
/// When the haul climbed no ladder.
pub fn knee(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let Some(survey) = &conclusions.surveys.ladder else {
        return Err(missing("ladder", "`hollow-mile haul ladder` climbs one"));
    };
    let key = |r: &Rung| (r.pattern, r.workers);
    let count = |k: (Pattern, u32)| survey.rungs.iter().filter(|r| key(r) == k).count();
    let most = survey.rungs.iter().map(key).max_by_key(|k| (count(*k), k.0 == Pattern::Random));
    let rungs: Vec<&Rung> = survey.rungs.iter().filter(|r| Some(key(r)) == most && r.mb_s > 0.0).collect();
    if rungs.is_empty() {
        return Err(missing("rung that was measured", "`hollow-mile haul ladder` climbs them"));
    }
    let mut blocks: Vec<u64> = rungs.iter().map(|r| r.block_bytes).collect();
    blocks.sort_unstable();
    blocks.dedup();
    let what = format!("what depth buys and costs, {}", rungs[0].pattern.words());
    let mut scene = begin(readings, &what, TOP + 500.0 + blocks.len() as f64 * 16.0 + 40.0);
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
    let p = plot(TOP + 10.0, TOP + 400.0, x, y);
    let latencies = scale::latencies(x.low, x.high);
    p.axis_x(&mut scene, &latencies, "latency p99");
    p.axis_y(&mut scene, &ticks("MB/s", steps(y.low, y.high).map(|v| (v, mb_s_figure(v)))), "rate");
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
            mark_in(&mut scene, at, style);
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
    scene.words((LEFT, TOP + 460.0), "Figures at the points are depths.", 10.5, FAINT, Anchor::Start);
    legend_in(&mut scene, (LEFT, TOP + 482.0), &names, true);
    Ok(scene)
}
