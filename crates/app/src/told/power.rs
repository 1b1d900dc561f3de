//! What the drive draws, as a haul tells it.

use hollow_mile_core::quantity::{Interval, Quantity};
use hollow_mile_core::readings::{Energy, Meters, Readings};
use serde::Serialize;

/// A value, with the bounds of its 95 % interval where there is one.
#[derive(Debug, Serialize)]
pub struct Bounded {
    value: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    low: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    high: Option<f64>,
}

/// Power under load of one leg.
#[derive(Debug, Serialize)]
pub struct LegPower {
    leg: u16,
    seconds: f64,
    joules: f64,
    power_w: Option<Bounded>,
    joules_per_gb: Option<Bounded>,
}

/// Power of a haul in which it was measured.
#[derive(Debug, Serialize)]
pub struct PowerRow {
    rest_w: Option<Bounded>,
    load_w: Option<Bounded>,
    highest_w: Option<f64>,
    joules_per_gb: Option<Bounded>,
    mb_s_per_w: Option<Bounded>,
    legs: Vec<LegPower>,
}

fn bounded(i: Option<Interval>, scale: f64) -> Option<Bounded> {
    let bound = |v: f64| v.is_finite().then_some(v * scale);
    i.map(|i| Bounded { value: i.value * scale, low: bound(i.low), high: bound(i.high) })
}

impl PowerRow {
    /// Of these meters; `None` where none of them tells power.
    #[must_use]
    pub fn of(meters: &Meters) -> Option<Self> {
        let leg = |(leg, e): &(u16, Energy)| LegPower {
            leg: *leg,
            seconds: e.seconds(),
            joules: e.joules(),
            power_w: bounded(e.watts(), 1.0),
            joules_per_gb: bounded(e.joules_per_byte(), 1e9),
        };
        (!meters.power().is_empty()).then(|| Self {
            rest_w: bounded(meters.rest().watts(), 1.0),
            load_w: bounded(meters.load().watts(), 1.0),
            highest_w: meters.highest(),
            joules_per_gb: bounded(meters.load().joules_per_byte(), 1e9),
            mb_s_per_w: bounded(meters.load().bytes_per_joule(), 1e-6),
            legs: meters.legs().iter().map(leg).collect(),
        })
    }
}

/// A value as far as its interval allows: `4.35 ± 0.12 W`.
#[must_use]
pub fn measured_words(quantity: Quantity, i: Interval) -> String {
    let half = (i.high - i.low) / 2.0;
    if half.is_finite() && half > 0.0 { quantity.plus_minus(i.value, half) } else { quantity.words(i.value) }
}

/// What the panel and the report say of power: name and words, nothing where no meter tells it.
#[must_use]
pub fn power_lines(readings: &Readings) -> Vec<(&'static str, String)> {
    let meters = readings.meters();
    let words = |q: Quantity, i: Option<Interval>| i.map(|i| measured_words(q, i));
    [
        ("now", meters.power().last().map(|p| Quantity::Watts.words(p.1))),
        ("at rest", words(Quantity::Watts, meters.rest().watts())),
        ("under load", words(Quantity::Watts, meters.load().watts())),
        ("highest", meters.highest().map(|w| Quantity::Watts.words(w))),
        ("energy", words(Quantity::JoulesPerByte, meters.load().joules_per_byte())),
        ("for a watt", words(Quantity::BytesPerJoule, meters.load().bytes_per_joule())),
    ]
    .into_iter()
    .filter_map(|(name, words)| Some((name, words?)))
    .collect()
}
