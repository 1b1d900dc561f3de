//! Steady state after SNIA PTS.

use serde::{Deserialize, Serialize};

/// Rounds in a measurement window (SNIA PTS-E 2.0, 2.1.24).
pub const WINDOW: usize = 5;

/// How steady rounds are, after SNIA PTS-E 2.0: over a window of five the excursion is at most
/// 20 % of the mean and the rise of the least-squares line at most 10 % of it.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Steadiness {
    /// Both criteria hold.
    pub reached: bool,
    /// (max − min) / mean over the window.
    pub excursion: f64,
    /// |rise of the line over the window| / mean.
    pub slope: f64,
    /// Length of one round, seconds.
    pub round_s: f64,
}

/// Judges a window of rounds after SNIA PTS-E 2.0, section 2.1.24 (steady state); `None` when their mean is zero.
pub fn steadiness(rounds: &[f64], round_s: f64) -> Option<Steadiness> {
    let n = rounds.len() as f64;
    let mean = rounds.iter().sum::<f64>() / n;
    if rounds.len() < 2 || mean <= 0.0 {
        return None;
    }
    let middle = (n - 1.0) / 2.0;
    let (mut sxy, mut sxx) = (0.0, 0.0);
    for (i, r) in rounds.iter().enumerate() {
        let x = i as f64 - middle;
        sxy += x * (r - mean);
        sxx += x * x;
    }
    let range = rounds.iter().copied().fold(f64::NEG_INFINITY, f64::max)
        - rounds.iter().copied().fold(f64::INFINITY, f64::min);
    let excursion = range / mean;
    let slope = (sxy / sxx * (n - 1.0)).abs() / mean;
    Some(Steadiness { reached: excursion <= 0.2 && slope <= 0.1, excursion, slope, round_s })
}

/// How steady each figure is over five rounds from this one on; `None` where one of them has no figure, or is not there.
#[must_use]
pub fn window_of_all(figures: &[Vec<Option<f64>>], from: usize) -> Option<Vec<Steadiness>> {
    let of = |rounds: &Vec<Option<f64>>| {
        let window: Vec<f64> = rounds.get(from..from + WINDOW)?.iter().copied().collect::<Option<_>>()?;
        steadiness(&window, 0.0)
    };
    figures.iter().map(of).collect()
}

/// The first five rounds over which every figure is steady, as the index of the first of them.
#[must_use]
pub fn first_steady_of_all(figures: &[Vec<Option<f64>>]) -> Option<usize> {
    let rounds = figures.iter().map(Vec::len).min()?;
    (0..(rounds + 1).saturating_sub(WINDOW))
        .find(|from| window_of_all(figures, *from).is_some_and(|all| all.iter().all(|s| s.reached)))
}

/// How many of the newest rounds, five at most, are steady together in every figure: how far the measurement window is.
#[must_use]
pub fn newest_inside(figures: &[Vec<Option<f64>>]) -> usize {
    let Some(rounds) = figures.iter().map(Vec::len).min() else { return 0 };
    let inside = |n: usize| {
        figures.iter().all(|of| {
            let newest: Option<Vec<f64>> = of[rounds - n..rounds].iter().copied().collect();
            newest.is_some_and(|v| v.len() == 1 || steadiness(&v, 0.0).is_some_and(|s| s.reached))
        })
    };
    (1..=WINDOW.min(rounds)).take_while(|n| inside(*n)).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn how_far_the_window_is() {
        let of = |values: &[f64]| vec![values.iter().map(|v| Some(*v)).collect::<Vec<_>>()];
        assert_eq!(newest_inside(&of(&[])), 0);
        assert_eq!(newest_inside(&of(&[50.0])), 1);
        // From 104 back: 100 and 104 rise by 4 %, 60 before them does not belong.
        assert_eq!(newest_inside(&of(&[90.0, 60.0, 100.0, 104.0])), 2);
        assert_eq!(newest_inside(&of(&[100.0; 9])), 5);
        assert_eq!(newest_inside(&[vec![Some(1.0), None]]), 0, "a round that was ended by hand");
    }

    #[test]
    fn steady_state_by_hand() {
        // Mean 100, range 10, slope 2 a round: rise 8 over the window.
        let s = steadiness(&[96.0, 98.0, 100.0, 102.0, 104.0], 60.0).unwrap();
        assert!(s.reached && (s.excursion - 0.08).abs() < 1e-12 && (s.slope - 0.08).abs() < 1e-12, "{s:?}");
        let s = steadiness(&[90.0, 95.0, 100.0, 105.0, 110.0], 60.0).unwrap();
        assert!(!s.reached && (s.slope - 0.2).abs() < 1e-12, "a rise of a fifth is not steady: {s:?}");
        let s = steadiness(&[100.0, 130.0, 100.0, 100.0, 100.0], 60.0).unwrap();
        assert!(!s.reached && s.excursion > 0.2, "{s:?}");
        assert_eq!(steadiness(&[0.0; 5], 60.0), None);
    }

    #[test]
    fn the_first_window_that_is_steady_is_found_and_a_gap_breaks_it() {
        let falls = [900.0, 500.0, 300.0, 210.0, 204.0, 202.0, 201.0, 200.0, 200.0].map(Some);
        assert_eq!(first_steady_of_all(&[falls.to_vec()]), Some(3));
        assert_eq!(first_steady_of_all(&[falls[..7].to_vec()]), None);
        let mut broken = falls;
        broken[5] = None;
        assert_eq!(first_steady_of_all(&[broken.to_vec()]), None);
        // Another figure that settles later holds the window up.
        let later = [9.0, 8.0, 7.0, 6.0, 5.0, 5.0, 5.0, 5.0, 5.0].map(Some);
        assert_eq!(first_steady_of_all(&[falls.to_vec(), later.to_vec()]), Some(4));
    }

    /// The decisions of `testdata/steady_tables.py`, which shares no line with this.
    #[test]
    fn two_hundred_tables_are_judged_as_by_another_program() {
        let mut steady = 0;
        for (n, line) in include_str!("testdata/steady_tables.txt").lines().enumerate() {
            let mut words = line.split(' ').map(|w| w.parse::<f64>().ok());
            let expected = words.next().flatten().map(|i| i as usize);
            let rounds: Vec<Option<f64>> = words.collect();
            assert_eq!(first_steady_of_all(&[rounds]), expected, "table {}: {line}", n + 1);
            steady += usize::from(expected.is_some());
        }
        assert!((50..180).contains(&steady), "{steady}");
    }
}
