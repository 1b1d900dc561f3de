//! Values that were measured with an interval, in JSON and in words.

use hollow_mile_core::quantity::{Interval, Quantity};
use serde::Serialize;

/// A value, with the bounds of its 95 % interval where there is one.
#[derive(Debug, Serialize)]
pub struct Bounded {
    /// Best estimate.
    value: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    low: Option<f64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    high: Option<f64>,
}

/// In another unit: as many as `scale` to one.
#[must_use]
pub fn bounded(i: Option<Interval>, scale: f64) -> Option<Bounded> {
    let bound = |v: f64| v.is_finite().then_some(v * scale);
    i.map(|i| Bounded { value: i.value * scale, low: bound(i.low), high: bound(i.high) })
}

/// A value as far as its interval allows: `4.35 ± 0.12 W`.
#[must_use]
pub fn measured_words(quantity: Quantity, i: Interval) -> String {
    let half = (i.high - i.low) / 2.0;
    if half.is_finite() && half > 0.0 { quantity.plus_minus(i.value, half) } else { quantity.words(i.value) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_has_no_more_digits_than_its_interval_allows() {
        let of = |value, low, high| measured_words(Quantity::Watts, Interval { value, low, high });
        assert_eq!(of(4.3512, 4.32, 4.38), "4.351 ± 0.030 W");
        assert_eq!(of(4.3512, f64::NEG_INFINITY, f64::INFINITY), "4.35 W");
        assert_eq!(of(2.0, 2.0, 2.0), "2.00 W");
    }
}
