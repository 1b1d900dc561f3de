//! Charts of models: how warm a drive gets, and how it wears.

use hollow_mile_core::archive::life::{Projection, WearPoint};
use hollow_mile_core::conclude::models::Refusal;
use hollow_mile_core::conclude::models::heat::HeatModel;
use hollow_mile_core::quantity::scale;
use hollow_mile_core::quantity::scale::{Axis, Tick};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate, significant, span_words};
use hollow_mile_core::readings::Readings;

use crate::lanes::{HEAT, LEFT, RATE, RIGHT, WIDTH, conditions_line, source};
use crate::plot::{FAINT, Plot, Range, SHADE, TEXT, headed, legend, line_of, mark};
use crate::scene::{Anchor, Dash, Scene, beyond_one_line};

const TOP: f64 = 96.0;

/// Measured temperature, the fitted curve, and what is left over.
///
/// # Errors
/// When the model refuses the record: why, and what haul would make it good.
pub fn heat(readings: &Readings, rate: Rate, ambient: Option<Celsius>) -> Result<Scene, Refusal> {
    let model = HeatModel::of(readings)?;
    let curve = model.curve(readings);
    let words = model.sentences(rate, ambient.map(Celsius::degrees));
    let name = readings.head().map_or_else(
        || "heat".to_owned(),
        |h| format!("{} {}: how warm it gets", h.drive.serial, h.drive.model),
    );
    let mut scene = Scene::new(WIDTH, TOP + 480.0 + words.len() as f64 * 17.0 + 40.0, name.clone());
    headed(&mut scene, &name, &conditions_line(readings), &source(readings));
    let end = curve.last().map_or(1.0, |c| c.0);
    let all = || curve.iter().flat_map(|c| [c.1, c.2]);
    let low = all().fold(f64::MAX, f64::min).min(model.ambient_c.unwrap_or(f64::MAX));
    let high = all().fold(f64::MIN, f64::max).max(model.limit_c.unwrap_or(f64::MIN));
    let (low, high) = ((low / 10.0).floor() * 10.0, ((high + 1.0) / 10.0).ceil() * 10.0);
    let x = Range::even(0.0, end);
    let plot = |top, bottom, y| Plot { left: LEFT, right: RIGHT, top, bottom, x, y };
    let p = plot(TOP + 10.0, TOP + 290.0, Range::even(low, high));
    let most = curve.iter().map(|c| (c.1 - c.2).abs()).fold(0.5, f64::max).ceil();
    let left = plot(TOP + 330.0, TOP + 400.0, Range::even(-most, most));
    let both = Plot { bottom: left.bottom, ..p };
    both.axis_x(&mut scene, &scale::elapsed(0.0, end, 8), "elapsed");
    p.axis_y(&mut scene, &scale::degrees(low, high, 6), "temperature");
    let kelvin = [-most, 0.0, most].map(|v| Tick { value: v, words: significant(v).replace('-', "−") });
    left.axis_y(&mut scene, &Axis { unit: "K", ticks: kelvin.to_vec() }, "measured less fitted");
    for (value, words, ink) in [(model.limit_c, "limit", HEAT), (model.ambient_c, "ambient", FAINT)] {
        if let Some(v) = value {
            let y = p.y(v);
            scene.dashes(vec![(p.left, y), (p.right, y)], ink, 1.0);
            scene.words((p.right - 4.0, y - 4.0), format!("{words} {v} °C"), 10.0, ink, Anchor::End);
        }
    }
    let (measured, fitted) = (line_of(0), line_of(1));
    scene.stroke(curve.iter().map(|c| p.at(c.0, c.1)).collect(), measured.0, 1.2, Dash::Solid);
    scene.stroke(curve.iter().map(|c| p.at(c.0, c.2)).collect(), fitted.0, 2.0, fitted.1);
    scene.stroke(curve.iter().map(|c| left.at(c.0, c.1 - c.2)).collect(), RATE, 1.0, Dash::Solid);
    let names = ["measured".to_owned(), format!("fitted: time constant {}", span_words(model.tau_s.value))];
    legend(&mut scene, (RIGHT - 230.0, 34.0), &names, false);
    for (i, line) in words.iter().enumerate() {
        scene.words((LEFT, TOP + 465.0 + i as f64 * 17.0), line.clone(), 11.5, TEXT, Anchor::Start);
    }
    Ok(scene)
}

/// The wear of a drive over time, and where it goes.
#[must_use]
pub fn wear(
    drive: &str,
    points: &[WearPoint],
    endurance: Option<Bytes>,
    projection: &Result<Projection, Refusal>,
    date: &dyn Fn(i64) -> String,
    moment: &dyn Fn(i64) -> String,
) -> Scene {
    let name = format!("{drive}: wear over time");
    let sentence = match projection {
        Ok(p) => p.sentence(date),
        Err(r) => r.words(),
    };
    let more = beyond_one_line(&sentence, 11.5, RIGHT - LEFT);
    let fan = projection.is_ok();
    let mut scene = Scene::new(WIDTH, TOP + if fan { 770.0 } else { 470.0 } + more, name.clone());
    let below = endurance.map_or_else(
        || "endurance not known".to_owned(),
        |e| format!("endurance {}", hollow_mile_core::archive::claims::terabytes(e.get())),
    );
    headed(&mut scene, &name, &below, "Hollow Mile · health readings before and after each haul");
    let by_bytes: Vec<(f64, f64)> =
        points.iter().filter_map(|p| Some((p.unix_ms as f64, p.host_written?.as_f64()))).collect();
    let by_percent: Vec<(f64, f64)> =
        points.iter().filter_map(|p| Some((p.unix_ms as f64, p.percentage_used?))).collect();
    let bytes = !by_bytes.is_empty();
    let line = if bytes { by_bytes } else { by_percent };
    let (from, to) = line.iter().fold((f64::MAX, f64::MIN), |(l, h), p| (l.min(p.0), h.max(p.0)));
    if line.is_empty() {
        scene.words(
            (LEFT, TOP + 40.0),
            "No haul of this drive has a health reading.",
            12.0,
            TEXT,
            Anchor::Start,
        );
        return scene;
    }
    // A day at least, so that one haul is a point and not a wall.
    let margin = ((to - from) * 0.03).max(43_200_000.0);
    let (low, high) = line.iter().fold((f64::MAX, f64::MIN), |(l, h), p| (l.min(p.1), h.max(p.1)));
    let pad = ((high - low) * 0.1).max(high.abs() * 0.01).max(1e-9);
    let p = Plot {
        left: LEFT,
        right: RIGHT,
        top: TOP + 10.0,
        bottom: TOP + 370.0,
        x: Range::even(from - margin, to + margin),
        y: Range::even((low - pad).max(0.0), high + pad),
    };
    // Within a few days dates alone would repeat.
    let fine = to - from < 3.0 * 86_400_000.0;
    let ticks = (0..=6).map(|i| {
        let at = from - margin + (to - from + 2.0 * margin) * f64::from(i) / 6.0;
        Tick { value: at, words: if fine { moment(at as i64) } else { date(at as i64) } }
    });
    p.axis_x(&mut scene, &Axis { unit: "", ticks: ticks.collect() }, "date");
    let axis = if bytes {
        scale::bytes(p.y.low, p.y.high, 6)
    } else {
        Axis { unit: "%", ..scale::degrees(p.y.low, p.y.high, 6) }
    };
    p.axis_y(&mut scene, &axis, if bytes { "written by hosts over its life" } else { "percentage used" });
    scene.stroke(line.iter().map(|v| p.at(v.0, v.1)).collect(), RATE, 1.2, Dash::Solid);
    line.iter().for_each(|v| mark(&mut scene, p.at(v.0, v.1), 0));
    if let (Ok(fit), Some(whole)) = (projection, endurance.filter(|_| bytes)) {
        let day = fit.per_day.value * whole.as_f64() / 86_400_000.0;
        let (mx, my) = (
            line.iter().map(|v| v.0).sum::<f64>() / line.len() as f64,
            line.iter().map(|v| v.1).sum::<f64>() / line.len() as f64,
        );
        let at = |x: f64| p.at(x, my + day * (x - mx));
        let (ink, dash) = line_of(1);
        scene.stroke(vec![at(from - margin), at(to + margin)], ink, 1.4, dash);
    }
    let mut foot = TOP + 435.0;
    if let Ok(p) = projection {
        draw_fan(&mut scene, p, TOP + 440.0, date);
        foot += 300.0;
    }
    scene.paragraph((LEFT, foot), &sentence, 11.5, TEXT, RIGHT - LEFT);
    scene
}

/// Where the wear goes from the newest reading on: at its pace, and between what ends.
fn draw_fan(scene: &mut Scene, projection: &Projection, top: f64, date: &dyn Fn(i64) -> String) {
    const DAY_MS: f64 = 86_400_000.0;
    let (early, middle, late) = projection.days_left;
    // The latest end where it is in sight, else well past the one that is likely.
    let ahead = late.filter(|l| *l < middle * 2.5).unwrap_or(middle * 1.6).max(1e-3) * 1.02;
    let p = Plot {
        left: LEFT,
        right: RIGHT,
        top,
        bottom: top + 210.0,
        x: Range::even(-projection.over_days, ahead),
        y: Range::even(0.0, 110.0),
    };
    let moment = |days: f64| date(projection.from_unix_ms + (days * DAY_MS) as i64);
    let ticks = (0..=6).map(|i| {
        let day = p.x.low + (p.x.high - p.x.low) * f64::from(i) / 6.0;
        Tick { value: day, words: moment(day) }
    });
    p.axis_x(scene, &Axis { unit: "", ticks: ticks.collect() }, "date");
    p.axis_y(scene, &Axis { unit: "%", ..scale::degrees(0.0, 100.0, 5) }, "used of its rated life");
    let used = projection.used * 100.0;
    // The share that is used after so many days, when it ends after this many.
    let at = |day: f64, end: f64| (used + (100.0 - used) * day / end.max(1e-9)).min(100.0);
    let steps = 60;
    let days: Vec<f64> = (0..=steps).map(|i| ahead * f64::from(i) / f64::from(steps)).collect();
    let upper = days.iter().map(|d| p.at(*d, at(*d, early)));
    let lower = days.iter().rev().map(|d| p.at(*d, at(*d, late.unwrap_or(f64::INFINITY))));
    scene.area(upper.chain(lower).collect(), SHADE);
    let pace = projection.per_day.value * 100.0;
    let before = p.at(-projection.over_days, (used - pace * projection.over_days).max(0.0));
    scene.stroke(vec![before, p.at(0.0, used)], RATE, 1.6, Dash::Solid);
    let (ink, dash) = line_of(1);
    let end = middle.min(ahead);
    scene.stroke(vec![p.at(0.0, used), p.at(end, at(end, middle))], ink, 1.4, dash);
    mark(scene, p.at(0.0, used), 0);
    mark(scene, p.at(end, at(end, middle)), 1);
    let y = p.y(100.0);
    scene.dashes(vec![(p.left, y), (p.right, y)], FAINT, 1.0);
    scene.words((p.left + 6.0, y - 5.0), "rated life; shaded: 95 % between", 10.5, FAINT, Anchor::Start);
}
