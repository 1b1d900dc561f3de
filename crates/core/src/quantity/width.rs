//! How wide an interval of bytes is, in words.

use super::units::{Bytes, significant};

/// Half of what lies between two bounds, in two digits and the unit that they ask for: `0.6 GB`, `76 MB`. An interval of an interval is nobody's.
#[must_use]
pub fn half(low: Bytes, high: Bytes) -> String {
    let half = high.saturating_sub(low).get() / 2;
    let (scale, unit) = if half >= 100_000_000 { (1e9, "GB") } else { (1e6, "MB") };
    let half = half as f64 / scale;
    let step = if half > 0.0 { 10f64.powf(half.log10().floor() - 1.0) } else { 1.0 };
    format!("{} {unit}", significant((half / step).round() * step))
}

/// Two bounds: `47.96 GB to 48.06 GB`; or, where both read alike, how far they lie from the middle: `± 0.9 MB`.
#[must_use]
pub fn bounds(low: Bytes, high: Bytes) -> String {
    let [from, to] = [low, high].map(|b| b.to_string());
    if from == to { format!("± {}", half(low, high)) } else { format!("{from} to {to}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn half_a_width_has_no_more_digits_than_it_needs() {
        let width = |low: u64, high: u64| half(Bytes::new(low), Bytes::new(high));
        assert_eq!(width(100_000_000_000, 101_200_000_000), "0.6 GB");
        assert_eq!(width(100_000_000_000, 100_012_000_000), "6 MB");
        assert_eq!(width(100_000_000_000, 100_151_640_000), "76 MB");
        assert_eq!(width(100_000_000_000, 100_002_468_000), "1.2 MB");
        assert_eq!(width(0, 0), "0 MB");
    }

    #[test]
    fn bounds_that_read_alike_are_told_by_their_distance() {
        let told = |low: u64, high: u64| bounds(Bytes::new(low), Bytes::new(high));
        assert_eq!(told(47_960_000_000, 48_060_000_000), "47.96 GB to 48.06 GB");
        assert_eq!(told(312_399_000_000, 312_400_800_000), "± 0.9 MB");
    }
}
