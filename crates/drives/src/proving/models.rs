//! Hauls of which the heat is known to the last constant: does the model of heat say what is true, and as surely as it says?

use std::time::Duration;

use hollow_mile_core::conclude::models::heat::HeatModel;
use hollow_mile_core::quantity::Interval;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, Sample};
use hollow_mile_core::route::LegKind;
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::{Dice, head};

/// How often the 95 % intervals of the heat model hold the truth.
#[derive(Debug, Clone, Default)]
pub struct HeatScore {
    /// Hauls made.
    pub hauls: usize,
    /// Hauls of which a model was made.
    pub fitted: usize,
    /// Intervals of the time constant, of the temperature at rest, of the rise for each GB/s that hold the truth.
    pub inside: [usize; 3],
    /// |found − true| / true of the time constant and of the rise; |found − true| of the temperature at rest, K.
    pub off: [Vec<f64>; 3],
}

/// A rest, a write that may end its cache, a rest; the drive warms by the first-order model.
pub fn prove_heat(seed: u64, score: &mut HeatScore) {
    let mut d = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0x9E6D_62D0_6F6A_9A9B) ^ 0x51ED));
    let (tau, idle) = (d.log_within(15.0, 240.0), d.within(24.0, 46.0));
    let rate = d.log_within(0.4, 7.0);
    let rise = d.within(12.0, 42.0) / rate;
    let every = [0.5, 1.0, 1.0, 2.0, 5.0, 10.0][d.within(0.0, 5.999) as usize];
    let step = [1.0, 1.0, 1.0, 0.1, 0.5, 2.0][d.within(0.0, 5.999) as usize];
    let (first, write, last) =
        (d.within(30.0, 120.0), d.within(2.0, 8.0) * tau + 60.0, d.within(1.5, 6.0) * tau + 60.0);
    let ends_at = d.chance(0.5).then(|| first + d.within(0.3, 0.8) * write);
    let after = d.within(0.25, 0.7);
    let mut readings = Readings::new();
    readings.push(&head("heat", 30_000, None, every, &[LegKind::Rest, LegKind::Write, LegKind::Rest]));
    let mut degrees = idle + d.within(0.0, 8.0);
    let (mut t, mut leg, mut reading, mut read_at) = (0.0, u16::MAX, degrees, -9.0);
    while t < first + write + last {
        let now = if t < first {
            0
        } else if t < first + write {
            1
        } else {
            2
        };
        if now != leg {
            leg = now;
            readings.push(&Event::LegStarted { at: Duration::from_secs_f64(t), leg });
        }
        let level =
            if leg == 1 { if ends_at.is_some_and(|e| t >= e) { rate * after } else { rate } } else { 0.0 };
        let gb_s = level * (0.03 * d.normal()).exp();
        let goal = idle + rise * gb_s;
        degrees = goal + (degrees - goal) * f64::exp(-every / tau);
        t += every;
        if t - read_at >= 1.0 {
            (reading, read_at) = ((degrees / step).round() * step, t);
        }
        readings.push(&Event::Sample(Sample {
            end: Duration::from_secs_f64(t),
            span: Duration::from_secs_f64(every),
            leg,
            written: Bytes::new((gb_s * every * 1e9) as u64),
            temperature: Some(Celsius::new(reading)),
            ..Sample::default()
        }));
    }
    score.hauls += 1;
    let Ok(model) = HeatModel::of(&readings) else { return };
    score.fitted += 1;
    let holds = |i: &Interval, truth: f64| i.low <= truth && truth <= i.high;
    let all = [(&model.tau_s, tau), (&model.idle_c, idle), (&model.rise_k_per_gb_s, rise)];
    for (k, (interval, truth)) in all.into_iter().enumerate() {
        score.inside[k] += usize::from(holds(interval, truth));
        let off = (interval.value - truth).abs();
        score.off[k].push(if k == 1 { off } else { off / truth });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `hollow-mile prove` prints a large run: 92 to 98 % of each.
    #[test]
    fn intervals_of_the_heat_model_hold_the_truth() {
        let mut score = HeatScore::default();
        (0..150).for_each(|seed| prove_heat(7_000_000 + seed, &mut score));
        assert!(score.fitted > 140, "{score:?}");
        for (inside, what) in score.inside.iter().zip(["time constant", "at rest", "rise"]) {
            let share = *inside as f64 / score.fitted as f64;
            assert!((0.88..=1.0).contains(&share), "{what}: {share}");
        }
    }
}
