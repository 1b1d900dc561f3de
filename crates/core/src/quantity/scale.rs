//! Axes: where ticks stand and what they say. One unit for all of an axis, chosen from its largest value.

use std::time::Duration;

use crate::quantity::units::{clock, mb_s_figure, significant};

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
    let words = |us: f64| significant(if in_ms { us / 1000.0 } else { us });
    Axis {
        unit: if in_ms { "ms" } else { "µs" },
        ticks: (first..=last).map(|d| 10f64.powi(d)).map(|v| Tick { value: v, words: words(v) }).collect(),
    }
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

    #[test]
    fn empty_and_odd_spans_do_no_harm() {
        for (from, to) in [(0.0, 0.0), (5.0, 5.0), (0.0, f64::MIN_POSITIVE), (10.0, 1.0)] {
            let _ = (bytes(from, to, 5), elapsed(from, to, 5), degrees(from, to, 5), latencies(from, to));
        }
        assert_eq!(rate_top(0.0), 1e6);
    }
}
