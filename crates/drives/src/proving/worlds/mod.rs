//! A second proving ground: drives in continuous time, of many families, written apart from the first.
//!
//! Each family is a world in which something is harder than usual: ends that take minutes, sensors in steps of 5 K, rates that swing
//! second by second, records without a thermometer. Nothing here is shared with the analysis, with [`crate::sim`], or with the
//! generator in [`super::make`] but the dice and the form of the truth.

mod drive;
mod families;
mod watcher;

pub use families::Family;

use super::Dice;
use super::make::Case;
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

/// Makes the haul of a seed in a world of this family.
#[must_use]
pub fn make_world(family: Family, seed: u64) -> Case {
    let salt = 0x9E37_79B9_7F4A_7C15u64.wrapping_mul(family as u64 + 1);
    let mut dice = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0x2545_F491_4F6C_DD1D) ^ salt));
    let world = families::plan(family, &mut dice);
    watcher::record(family, seed, &world, &mut dice)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_seed_makes_the_same_haul_and_its_truth_lies_in_it() {
        for family in Family::ALL {
            for seed in 0..8 {
                let (a, b) = (make_world(family, seed), make_world(family, seed));
                assert_eq!(a.events, b.events, "{family:?} {seed}");
                let last = a.events.last().unwrap().at().as_secs_f64();
                assert!(a.ends.iter().all(|e| e.elapsed < last), "{family:?} {seed}: {:?}", a.ends);
                assert!(a.ends.windows(2).all(|w| w[0].written < w[1].written), "{family:?} {seed}");
                assert!(!a.flat || (a.ends.is_empty() && a.throttle.is_none()), "{family:?} {seed}");
                assert!(a.events.len() > 20, "{family:?} {seed}: {}", a.events.len());
            }
        }
    }

    /// A smaller run with seeds of its own; `hollow-mile prove` prints a large one. The bounds are what was reached, less a margin.
    #[test]
    fn a_small_run_of_every_family_holds_its_level() {
        use crate::proving::{Score, judge};
        use hollow_mile_core::readings::Readings;
        let mut all = Score::default();
        for family in Family::ALL {
            for seed in 0..24 {
                let case = make_world(family, 5_000_000 + seed);
                let mut readings = Readings::new();
                case.events.iter().for_each(|e| readings.push(e));
                judge(&case, &readings.conclude(), &mut all);
            }
        }
        let share = |kind: &str| {
            let (truths, found, matched) = all.kinds[kind];
            (matched as f64 / truths as f64, matched as f64 / found as f64)
        };
        let ((ends, right_ends), (heat, right_heat)) = (share("cache-end"), share("throttle"));
        assert!(ends > 0.95 && right_ends > 0.96, "cache ends: recall {ends:.3}, precision {right_ends:.3}");
        assert!(heat > 0.94 && right_heat > 0.96, "heat: recall {heat:.3}, precision {right_heat:.3}");
        assert!(all.flat_false_hauls * 30 <= all.flat, "{} of {} flat hauls", all.flat_false_hauls, all.flat);
        let inside = all.inside as f64 / all.place_errors.len() as f64;
        assert!(inside > 0.93, "the 95 % interval of a cache end holds the truth in {inside:.3}");
        // What is stated as sure is right; what is left open is one of the causes that it names.
        let (sure, right) = all.calibration[9];
        assert!(right as f64 / sure as f64 > 0.9, "{right} of {sure}");
        let (open, neither) = all.calibration[0];
        assert!(open > 10 && (neither as f64) < 0.2 * open as f64, "{neither} of {open}");
    }

    /// Heat behind a late sensor, behind one that is not the hottest, in steps of 5 K, in samples longer than its cycles: each was the end
    /// of a cache, or nothing.
    #[test]
    fn heat_that_is_hard_to_see_is_no_end_of_a_cache() {
        use hollow_mile_core::quantity::FindingKind;
        use hollow_mile_core::readings::Readings;
        for (family, seed) in [
            (Family::Hidden, 21_000_066),
            (Family::Hidden, 21_000_073),
            (Family::Hidden, 21_000_089),
            (Family::Coarse, 21_000_115),
            (Family::Coarse, 21_000_120),
            (Family::Long, 21_000_069),
            (Family::Long, 21_000_102),
            (Family::Long, 21_000_118),
        ] {
            let case = make_world(family, seed);
            let mut readings = Readings::new();
            case.events.iter().for_each(|e| readings.push(e));
            let found = readings.conclude().findings;
            let of = |kind: FindingKind| found.iter().filter(|f| f.kind == kind).count();
            assert_eq!(
                (of(FindingKind::Throttle), of(FindingKind::CacheEnd)),
                (1, 0),
                "{}: {found:#?}",
                case.words
            );
        }
    }

    /// A rate that swings every five seconds: each fall of it was the end of a cache, a hundred and forty of them.
    #[test]
    fn what_swings_is_not_a_hundred_ends() {
        use hollow_mile_core::quantity::FindingKind;
        use hollow_mile_core::readings::Readings;
        let mut readings = Readings::new();
        make_world(Family::Swings, 21_000_063).events.iter().for_each(|e| readings.push(e));
        let found = readings.conclude().findings;
        let ends = found.iter().filter(|f| f.kind == FindingKind::CacheEnd).count();
        assert!(ends <= 1, "{ends} ends");
    }

    /// What a family is named for is in its hauls.
    #[test]
    fn the_families_hold_what_they_are_named_for() {
        let all = |family| (0..40).map(move |seed| make_world(family, seed));
        assert!(all(Family::Flat).all(|c| c.flat));
        assert!(all(Family::Ramps).filter(|c| c.ends.iter().any(|e| e.ramp_s > 5.0)).count() > 10);
        assert!(all(Family::Hysteresis).filter(|c| c.throttle.is_some()).count() > 20);
        assert!(
            all(Family::Blind).all(|c| c.throttle.is_none()),
            "nobody can be asked for heat without a thermometer"
        );
        assert!(all(Family::Housekeeping).all(|c| c.throttle.is_none() && !c.throttled_briefly));
        assert!(all(Family::Pauses).filter(|c| c.ends.len() > 1).count() > 10);
    }
}
