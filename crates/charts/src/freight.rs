//! Chart of files: what one takes against its size, with the line that its costs make, and what holds each leg up.

use std::time::Duration;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::conclude::surveys::freight::FreightLeg;
use hollow_mile_core::quantity::Quantity;
use hollow_mile_core::quantity::units::{Bytes, grouped, latency};
use hollow_mile_core::readings::Readings;

use crate::lanes::LEFT;
use crate::plot::{FAINT, Range, SHADE, Style, TEXT, mark_in};
use crate::scene::{Anchor, Scene};
use crate::surveys::{Missing, TOP, begin, decades, missing, plot, ticks};

/// Height of the plot of a leg, and of a bar with its words.
const PLOT: f64 = 300.0;
const BAR: f64 = 26.0;

fn time(seconds: f64) -> String {
    latency(Duration::from_secs_f64(seconds.max(0.0)))
}

fn size(bytes: f64) -> String {
    Bytes::new(bytes.round() as u64).to_string()
}

fn bars(leg: &FreightLeg) -> usize {
    leg.waits.iter().filter(|w| w.share >= 0.005).count()
}

fn height(leg: &FreightLeg) -> f64 {
    PLOT + 150.0 + bars(leg) as f64 * BAR
}

/// Every leg that wrote, read or copied files, under each other.
///
/// # Errors
/// When the haul moved no files.
pub fn freight(readings: &Readings, conclusions: &Conclusions) -> Result<Scene, Missing> {
    let legs = conclusions.surveys.freight.iter().flat_map(|f| &f.legs);
    let legs: Vec<&FreightLeg> =
        legs.filter(|l| l.sizes.iter().any(|s| s.mean_bytes >= 1.0 && s.each_s > 0.0)).collect();
    if legs.is_empty() {
        return Err(missing("freight leg with files", "`hollow-mile haul folder --on folder:PATH` has some"));
    }
    let whole: f64 = legs.iter().map(|l| height(l)).sum();
    let mut scene = begin(readings, "what each file costs, and what holds the files up", TOP + whole + 20.0);
    let mut top = TOP;
    for leg in legs {
        panel(&mut scene, leg, top);
        top += height(leg);
    }
    Ok(scene)
}

fn panel(scene: &mut Scene, leg: &FreightLeg, top: f64) {
    let rate = leg.rate.map(|r| format!(", {r}")).unwrap_or_default();
    let title = format!(
        "leg {}, {}: {} files, {}{rate}, {} at once",
        leg.leg + 1,
        leg.carry.word(),
        grouped(leg.files),
        leg.bytes,
        leg.threads
    );
    scene.words((LEFT, top + 4.0), title, 12.0, TEXT, Anchor::Start);
    let points: Vec<_> = leg.sizes.iter().filter(|s| s.mean_bytes >= 1.0 && s.each_s > 0.0).collect();
    let extremes = |of: &dyn Fn(&&&hollow_mile_core::conclude::surveys::freight::SizeClass) -> f64| {
        points.iter().map(|p| of(&p)).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)))
    };
    let ((x0, x1), (y0, y1)) = (extremes(&|s| s.mean_bytes), extremes(&|s| s.each_s));
    let x = Range::log(x0 / 1.6, (x1 * 1.6).max(x0 * 10.0));
    let y = Range::log(y0 / 1.6, (y1 * 1.6).max(y0 * 10.0));
    let p = plot(top + 38.0, top + 38.0 + PLOT, x, y);
    p.axis_x(scene, &ticks("", decades(x.low, x.high).map(|v| (v, size(v)))), "size of the file");
    p.axis_y(scene, &ticks("", decades(y.low, y.high).map(|v| (v, time(v)))), "time of its thread");
    let costs = leg.costs.as_ref();
    let threads = f64::from(leg.threads.max(1));
    if let Some(even) = costs.and_then(|c| c.even).filter(|e| (x.low..x.high).contains(&e.value)) {
        let (low, high) = (even.low.clamp(x.low, x.high), even.high.clamp(x.low, x.high));
        let (top_y, bottom) = (p.y(y.high), p.y(y.low));
        scene.area(
            vec![(p.x(low), top_y), (p.x(high), top_y), (p.x(high), bottom), (p.x(low), bottom)],
            SHADE,
        );
        scene.dashes(vec![(p.x(even.value), top_y), (p.x(even.value), bottom)], FAINT, 1.0);
        let words = format!("as much as its bytes: {}", Quantity::Bytes.plus_minus(even.value, even.half()));
        scene.words((p.x(even.value) + 6.0, top_y + 12.0), words, 10.5, FAINT, Anchor::Start);
    }
    if let Some((a, b)) = costs.and_then(|c| Some((c.per_file?.value * threads, c.per_byte?.value * threads)))
    {
        let at = |i: usize| {
            let bytes = (x.low.ln() + (x.high / x.low).ln() * i as f64 / 80.0).exp();
            let took = a + b * bytes;
            (y.low..=y.high).contains(&took).then(|| p.at(bytes, took))
        };
        scene.line((0..=80).filter_map(at).collect(), Style::of(0).ink, 1.4);
    }
    for s in points {
        let at = p.at(s.mean_bytes, s.each_s);
        mark_in(scene, at, Style::of(1));
        let words = format!("{} files of {}: {} each", grouped(s.files), size(s.mean_bytes), time(s.each_s));
        scene.spot_at(at, words);
    }
    let mut below = top + PLOT + 104.0;
    scene.words((LEFT, below - 12.0), "Less time without", 10.5, FAINT, Anchor::Start);
    for wait in leg.waits.iter().filter(|w| w.share >= 0.005) {
        let width = wait.share * 420.0;
        let (from, to) = (LEFT + 230.0, LEFT + 230.0 + width.max(1.0));
        scene.area(
            vec![(from, below), (to, below), (to, below + 14.0), (from, below + 14.0)],
            Style::of(0).ink,
        );
        let words = leg.words(wait.on);
        scene.words((LEFT, below + 11.0), words, 10.5, TEXT, Anchor::Start);
        scene.words(
            (to + 6.0, below + 11.0),
            format!("{:.0} %", wait.share * 100.0),
            10.5,
            TEXT,
            Anchor::Start,
        );
        below += BAR;
    }
}
