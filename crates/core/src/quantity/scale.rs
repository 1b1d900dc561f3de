//! Axes: where ticks stand and what they say. One unit for all of an axis, chosen from its largest value.

use std::time::Duration;

use crate::quantity::units::{clock, grouped, mb_s_figure, significant};

/// A tick: its value in the axis's own unit (seconds, bytes, B/s, µs, °C) and its words.
#[derive(Debug, Clone, PartialEq)]
pub struct Tick {
    /// Where.
    pub value: f64,
    /// What it says, without the unit.
    pub words: String,
}

/// An axis with its unit.
#[derive(Debug, Clone, PartialEq)]
pub struct Axis {
    /// Unit of the words: `GB`, `MB/s`, `h:mm:ss`.
    pub unit: &'static str,
    /// Ascending.
    pub ticks: Vec<Tick>,
}

/// The smallest of 1, 2, 5 × 10ⁿ that is at least `least`.
fn round_step(least: f64) -> f64 {
    if !(least.is_finite() && least > 0.0) {
        return 1.0;
    }
    let decade = 10f64.powf(least.log10().floor());
    [1.0, 2.0, 5.0, 10.0]
        .into_iter()
        .map(|m| m * decade)
        .find(|s| *s >= least * 0.999_999)
        .unwrap_or(decade * 10.0)
}

fn linear(from: f64, to: f64, most: usize, scale: f64, words: impl Fn(f64) -> String) -> Vec<Tick> {
    let step = round_step((to - from) / scale / most.max(1) as f64);
    let first = (from / scale / step - 1e-9).ceil() as i64;
    let last = (to / scale / step + 1e-9).floor() as i64;
    (first..=last).map(|k| k as f64 * step).map(|v| Tick { value: v * scale, words: words(v) }).collect()
}

/// Bytes, decimal.
#[must_use]
pub fn bytes(from: f64, to: f64, most: usize) -> Axis {
    let (scale, unit) = match to {
        t if t >= 2e12 => (1e12, "TB"),
        t if t >= 2e9 => (1e9, "GB"),
        t if t >= 2e6 => (1e6, "MB"),
        _ => (1e3, "kB"),
    };
    Axis { unit, ticks: linear(from, to, most, scale, significant) }
}

/// Seconds since the start, as h:mm:ss (or h:mm on a long axis).
#[must_use]
pub fn elapsed(from: f64, to: f64, most: usize) -> Axis {
    const STEPS: [f64; 18] = [
        0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 30.0, 60.0, 120.0, 300.0, 600.0, 1200.0, 1800.0, 3600.0,
        7200.0, 10_800.0,
    ];
    let least = (to - from).max(1e-3) / most.max(1) as f64;
    let step =
        STEPS.into_iter().find(|s| *s >= least).unwrap_or_else(|| 21_600.0 * (least / 21_600.0).ceil());
    let (first, last) = ((from / step - 1e-9).ceil() as i64, (to / step + 1e-9).floor() as i64);
    let words = |v: f64| {
        if step < 1.0 {
            return format!("{v:.1}");
        }
        let c = clock(Duration::from_secs_f64(v.max(0.0)));
        if step >= 60.0 { c[..c.len() - 3].to_owned() } else { c }
    };
    let unit = if step < 1.0 {
        "s"
    } else if step >= 60.0 {
        "h:mm"
    } else {
        "h:mm:ss"
    };
    Axis {
        unit,
        ticks: (first..=last).map(|k| k as f64 * step).map(|v| Tick { value: v, words: words(v) }).collect(),
    }
}

/// Rates from zero up, MB/s.
#[must_use]
pub fn rates(to: f64, most: usize) -> Axis {
    Axis { unit: "MB/s", ticks: linear(0.0, to, most, 1e6, mb_s_figure) }
}

/// Temperatures, °C.
#[must_use]
pub fn degrees(from: f64, to: f64, most: usize) -> Axis {
    Axis { unit: "°C", ticks: linear(from, to, most, 1.0, significant) }
}

/// Latencies in µs on a logarithmic axis: a tick a decade.
#[must_use]
pub fn latencies(from_us: f64, to_us: f64) -> Axis {
    let (first, last) = (from_us.max(1.0).log10().ceil() as i32, to_us.max(1.0).log10().floor() as i32);
    let in_ms = to_us >= 1000.0;
    let words = |us: f64| latency_figure(if in_ms { us / 1000.0 } else { us });
    Axis {
        unit: if in_ms { "ms" } else { "µs" },
        ticks: (first..=last).map(|d| 10f64.powi(d)).map(|v| Tick { value: v, words: words(v) }).collect(),
    }
}

fn latency_figure(v: f64) -> String {
    if v < 1000.0 { significant(v) } else { grouped(v.round() as u64) }
}

/// The top of a rate axis: a little above the largest value, at a round figure.
#[must_use]
pub fn rate_top(largest: f64) -> f64 {
    if largest <= 0.0 {
        return 1e6;
    }
    let step = round_step(largest / 8.0);
    (largest * 1.02 / step).ceil() * step
}

/// A span whose ticks stand on whole rows of a screen, `step` apart from `low` on.
struct OnRows {
    low: f64,
    high: f64,
    step: f64,
    ticks: usize,
}

/// Steps of an axis that counts in tens.
const ROUND: [f64; 4] = [1.0, 2.0, 2.5, 5.0];

/// The narrowest such span from `low` (or the round figure below it) to `high` at least, among steps from `steps`;
/// `between` is how many rows lie between its ends, `most` how many ticks there may be.
fn on_rows(low: f64, high: f64, between: usize, most: usize, steps: &[f64], whole: f64) -> OnRows {
    let between = between.max(1);
    let mut best: Option<(f64, OnRows)> = None;
    for step in steps {
        let foot = if low == 0.0 { 0.0 } else { (low / step.min(whole)).floor() * step.min(whole) };
        for rows in 1..=between {
            let ticks = between / rows + 1;
            let top = foot + step * between as f64 / rows as f64;
            let crowded = rows == 1 && between > 2;
            if ticks > most.max(2) || top < high * 0.999_999 || crowded {
                continue;
            }
            // Three ticks at least where there is room, and for one more a little air.
            let bare = if ticks < 3 && between >= 5 { 1.0 } else { 0.0 };
            let cost =
                (top - foot) / (high - foot).max(f64::MIN_POSITIVE) - 0.07 * ticks.min(5) as f64 + bare;
            if best.as_ref().is_none_or(|(least, _)| cost < *least) {
                best = Some((cost, OnRows { low: foot, high: top, step: *step, ticks }));
            }
        }
    }
    best.map_or(OnRows { low, high: high.max(low + 1.0), step: 1.0, ticks: 1 }, |b| b.1)
}

/// Rates from zero up on a plot of `rows` rows, with at most `most` ticks, each on a row: the axis and its top in B/s.
#[must_use]
pub fn rates_on_rows(largest: f64, rows: usize, most: usize) -> (Axis, f64) {
    let largest = if largest > 0.0 { largest } else { 1e6 };
    from_zero_on_rows(largest, rows, most, "MB/s", |v| mb_s_figure(v / 1e6))
}

/// Anything from zero up on a plot of `rows` rows, each tick on a row: the axis, whose unit its title says, and its top.
#[must_use]
pub fn plain_on_rows(largest: f64, rows: usize, most: usize) -> (Axis, f64) {
    from_zero_on_rows(if largest > 0.0 { largest } else { 1.0 }, rows, most, "", significant)
}

fn from_zero_on_rows(
    largest: f64,
    rows: usize,
    most: usize,
    unit: &'static str,
    words: impl Fn(f64) -> String,
) -> (Axis, f64) {
    let largest = largest * 1.02;
    let decade = largest.log10().floor();
    let steps: Vec<f64> =
        (-2..=1).flat_map(|d| ROUND.map(|m| m * 10f64.powf(decade + f64::from(d)))).collect();
    let at = on_rows(0.0, largest, rows.saturating_sub(1), most, &steps, f64::INFINITY);
    let tick = |i: usize| i as f64 * at.step;
    let ticks = (0..at.ticks).map(tick).map(|value| Tick { value, words: words(value) }).collect();
    (Axis { unit, ticks }, at.high)
}

/// Anything from zero up.
#[must_use]
pub fn plain(to: f64, most: usize, unit: &'static str) -> Axis {
    Axis { unit, ticks: linear(0.0, to, most, 1.0, significant) }
}

/// Temperatures on a plot of `rows` rows, each tick on a row: the axis, and its ends in °C.
#[must_use]
pub fn degrees_on_rows(low: f64, high: f64, rows: usize, most: usize) -> (Axis, f64, f64) {
    const STEPS: [f64; 8] = [1.0, 2.0, 5.0, 10.0, 20.0, 30.0, 40.0, 50.0];
    let at = on_rows(low, high, rows.saturating_sub(1), most, &STEPS, 10.0);
    let ticks = (0..at.ticks)
        .map(|i| at.low + i as f64 * at.step)
        .map(|v| Tick { value: v, words: significant(v) })
        .collect();
    (Axis { unit: "°C", ticks }, at.low, at.high)
}

/// Latencies in µs on a logarithmic axis on a plot of `rows` rows, decades on rows: the axis, and its ends as powers of ten.
/// Where decades do not fit so, its ends alone are named.
#[must_use]
pub fn latencies_on_rows(from_us: f64, to_us: f64, rows: usize) -> (Axis, f64, f64) {
    let low = from_us.max(1.0).log10().floor();
    let decades = (to_us.max(1.0).log10().ceil() - low).max(1.0);
    let between = rows.saturating_sub(1).max(1) as f64;
    // Ticks so many decades and so many rows apart, of which the fewest decades that leave little room at the top.
    let even = (1..=decades as usize).find_map(|each| {
        let each = each as f64;
        let apart = (each * between / decades).floor();
        let span = each * between / apart;
        (apart >= 1.0 && span <= decades * 1.35).then_some((span, (between / apart).floor(), each))
    });
    let (span, count, each) = even.unwrap_or((decades, 1.0, decades));
    let all = latencies(10f64.powf(low), 10f64.powf(low + decades));
    let in_ms = all.unit == "ms";
    let tick = |i: usize| {
        let us = 10f64.powf(low + i as f64 * each);
        Tick { value: us, words: latency_figure(if in_ms { us / 1000.0 } else { us }) }
    };
    (Axis { unit: all.unit, ticks: (0..=count as usize).map(tick).collect() }, low, low + span)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(axis: &Axis) -> Vec<&str> {
        axis.ticks.iter().map(|t| t.words.as_str()).collect()
    }

    #[test]
    fn ticks_are_round_and_say_their_unit() {
        let a = bytes(0.0, 4e12, 5);
        assert_eq!((a.unit, words(&a)), ("TB", vec!["0", "1", "2", "3", "4"]));
        let a = bytes(0.0, 450e9, 5);
        assert_eq!((a.unit, words(&a)), ("GB", vec!["0", "100", "200", "300", "400"]));
        let a = elapsed(0.0, 5400.0, 6);
        assert_eq!((a.unit, words(&a)), ("h:mm", vec!["0:00", "0:20", "0:40", "1:00", "1:20"]));
        let a = elapsed(10.0, 41.0, 4);
        assert_eq!((a.unit, words(&a)), ("h:mm:ss", vec!["0:00:10", "0:00:20", "0:00:30", "0:00:40"]));
        assert_eq!(words(&rates(3.3e9, 4)), ["0", "1 000", "2 000", "3 000"]);
        assert_eq!(words(&latencies(300.0, 40_000.0)), ["1", "10"]);
        assert_eq!(rate_top(3180e6), 3500e6);
    }

    /// Each tick lies on a row of its own, as far from the next as that from the one after.
    fn even(values: &[f64], share: impl Fn(f64) -> f64, rows: usize) -> bool {
        let row: Vec<f64> = values.iter().map(|v| share(*v) * (rows - 1) as f64).collect();
        let apart = row.windows(2).map(|w| w[1] - w[0]).collect::<Vec<f64>>();
        row.iter().all(|r| (r - r.round()).abs() < 1e-6)
            && apart.iter().all(|a| (a - apart[0]).abs() < 1e-6)
            && values.len() >= 2
    }

    #[test]
    fn ticks_stand_on_rows() {
        for rows in 2..40 {
            for largest in [3.1e3, 3e6, 141e6, 620e6, 2.95e9, 3.4e9, 7.03e9, 14.1e9] {
                let (axis, top) = rates_on_rows(largest, rows, 6);
                let values: Vec<f64> = axis.ticks.iter().map(|t| t.value).collect();
                assert!(even(&values, |v| v / top, rows), "{largest} on {rows} rows: {values:?} of {top}");
                assert!(top >= largest && (rows < 8 || top <= largest * 1.6), "{largest}, {rows}: {top}");
                assert!(values.len() <= 6);
            }
            for (from, to) in [(31.0, 62.0), (45.0, 86.0), (20.0, 23.0), (-12.0, 4.0), (33.0, 33.0)] {
                let (axis, low, high) = degrees_on_rows(from, to, rows, 5);
                let values: Vec<f64> = axis.ticks.iter().map(|t| t.value).collect();
                assert!(low <= from && high >= to, "{from} to {to} on {rows}: {low} to {high}");
                assert!(
                    even(&values, |v| (v - low) / (high - low), rows),
                    "{from} to {to} on {rows}: {values:?}"
                );
            }
            for (from, to) in [(80.0, 90.0), (80.0, 4e4), (1.0, 5e6), (1600.0, 5e6)] {
                let (axis, low, high) = latencies_on_rows(from, to, rows);
                let share = |v: f64| (v.log10() - low) / (high - low);
                let values: Vec<f64> = axis.ticks.iter().map(|t| t.value).collect();
                assert!(even(&values, share, rows), "{from} to {to} on {rows}: {values:?}, {low} to {high}");
                assert!(share(from) >= 0.0 && share(to) <= 1.0);
            }
        }
        assert_eq!(words(&rates_on_rows(3.18e9, 11, 6).0), ["0", "1 000", "2 000", "3 000"]);
        assert_eq!(words(&plain_on_rows(5.8, 7, 6).0), ["0", "2", "4", "6"]);
    }

    #[test]
    fn empty_and_odd_spans_do_no_harm() {
        for (from, to) in [(0.0, 0.0), (5.0, 5.0), (0.0, f64::MIN_POSITIVE), (10.0, 1.0)] {
            let _ = (bytes(from, to, 5), elapsed(from, to, 5), degrees(from, to, 5), latencies(from, to));
        }
        assert_eq!(rate_top(0.0), 1e6);
    }
}
