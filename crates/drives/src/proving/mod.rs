//! The proving ground: random hauls with a known truth, and how the analysis does on them.
//!
//! The hauls are made here and not by [`crate::sim`], so that the analysis is not fitted to one simulator: other noise
//! (correlated, with outliers), throttling by hysteresis and by a controller that holds the temperature, strangers'
//! traffic, slow stretches, stalls, sensors of other resolution, intervals from 100 ms to 1 s, columns that are missing.

use std::time::Duration;

use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Event, HaulHead};
use hollow_mile_core::route::{Leg, LegKind, Route};

mod cache;
mod forecast;
mod freight;
mod ground;
mod inquiry;
mod judge;
mod make;
mod models;
mod worlds;

pub use cache::{CacheScore, SHAPES, prove_cache};
pub use forecast::{ForecastScore, prove_forecast};
pub use freight::{FreightScore, prove_freight};
pub use ground::{GroundScore, prove_ground};
pub use inquiry::{InquiryCount, InquiryScore, Riddle, prove_inquiry};
pub use judge::{Score, judge};
pub(crate) use make::Dice;
pub use make::{Case, TrueEnd, TrueThrottle, make};
pub use models::{HeatScore, prove_heat};
pub use worlds::{Family, make_world};

/// The head of a made haul: legs of these kinds on a drive that only a log speaks of.
pub(crate) fn head(
    haul: &str,
    capacity_gb: u64,
    limit: Option<f64>,
    every_s: f64,
    legs: &[LegKind],
) -> Event {
    Event::HaulStarted(Box::new(HaulHead::plain(
        haul,
        DriveIdentity {
            throttle_limit: limit.map(Celsius::new),
            ..DriveIdentity::plain(haul, DriveKind::Imported, Bytes::from_gb(capacity_gb))
        },
        Route {
            name: haul.into(),
            about: String::new(),
            interval: Duration::from_secs_f64(every_s),
            limits: Vec::new(),
            legs: legs.iter().map(|k| Leg::new(*k)).collect(),
        },
    )))
}

#[cfg(test)]
mod tests {
    use hollow_mile_core::readings::Readings;

    use super::*;

    /// A smaller run with a fixed seed; `hollow-mile prove` prints a large one. The bounds are what was reached, less a
    /// margin: a change that costs findings or invents some fails here.
    #[test]
    fn a_small_proving_run_holds_its_level() {
        let mut score = Score::default();
        for seed in 0..400 {
            let case = make(9_000_000 + seed);
            let mut readings = Readings::new();
            case.events.iter().for_each(|e| readings.push(e));
            judge(&case, &readings.conclude(), &mut score);
        }
        assert_eq!(score.flat_false, 0, "findings where there is nothing: {:#?}", score.mistakes);
        for (kind, (truths, found, matched)) in &score.kinds {
            let (recall, precision) = (*matched as f64 / *truths as f64, *matched as f64 / *found as f64);
            // Where a beat is not plain it is not told: better none than a wrong one.
            let least = if *kind == "background" { 0.5 } else { 0.95 };
            assert!(
                recall > least && precision > 0.95,
                "{kind}: recall {recall:.3}, precision {precision:.3}: {:#?}",
                score.mistakes
            );
        }
        let mut errors = score.place_errors.clone();
        errors.sort_by(f64::total_cmp);
        assert!(errors[errors.len() / 2] < 0.005 && errors[errors.len() * 95 / 100] < 0.02);
        let inside = score.inside as f64 / score.place_errors.len() as f64;
        assert!(inside > 0.9, "the 95 % interval holds the truth in {inside:.3}");
    }

    /// As above, for scans: `hollow-mile prove` prints a large run.
    #[test]
    fn a_small_run_of_scans_holds_its_level() {
        let mut score = GroundScore::default();
        for seed in 0..60 {
            prove_ground(8_000_000 + seed, &mut score);
        }
        assert_eq!(score.false_on_clean, 0, "{:#?}", score.mistakes);
        let share = |part: usize, whole: usize| part as f64 / whole as f64;
        assert!(share(score.matched, score.truths) > 0.96, "{:#?}", score.mistakes);
        let close = score.edges.iter().filter(|e| **e <= 1.0).count();
        assert!(share(close, score.edges.len()) > 0.96, "{:#?}", score.mistakes);
        assert!(score.overlaps.iter().all(|o| *o > 0.7), "{:?}", score.overlaps);
    }

    #[test]
    fn a_seed_makes_the_same_haul_and_its_truth_lies_in_it() {
        for seed in 0..50 {
            let (a, b) = (make(seed), make(seed));
            assert_eq!(a.events, b.events);
            let last = a.events.last().unwrap().at().as_secs_f64();
            assert!(
                a.ends.iter().all(|e| e.elapsed < last)
                    && a.ends.windows(2).all(|w| w[0].written < w[1].written)
            );
            assert!(!a.flat || (a.ends.is_empty() && a.throttle.is_none()));
        }
    }
}
