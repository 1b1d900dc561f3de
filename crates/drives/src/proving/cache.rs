//! Caches of which it is known how they come back and what of them goes with fill: does the model of the cache say what is true, and as
//! surely as it says?

use std::time::Duration;

use hollow_mile_core::conclude::models::Told;
use hollow_mile_core::conclude::models::cache::CacheModel;
use hollow_mile_core::quantity::Interval;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, Sample};
use hollow_mile_core::route::LegKind;
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::{Dice, head};

/// How often the 95 % intervals of the cache model hold the truth.
#[derive(Debug, Clone, Default)]
pub struct CacheScore {
    /// Hauls with rests between writes to the end of the cache.
    pub hauls: usize,
    /// Hauls of which it is told how the cache comes back.
    pub recoveries: usize,
    /// Intervals that hold the truth: rest for half, rest for all, the whole.
    pub recovery_inside: [usize; 3],
    /// |found − true| / true of the same.
    pub recovery_off: [Vec<f64>; 3],
    /// Hauls whose writes met at least three levels of fill.
    pub fills: usize,
    /// Of them, those of which it is told what stays on a full drive.
    pub shrinkings: usize,
    /// Intervals that hold the truth: on an empty drive, on a full one.
    pub shrinking_inside: [usize; 2],
    /// Hauls at one or two levels of fill of which it is told all the same.
    pub invented: usize,
    /// Of recoveries, shape by shape: told, rest for half inside, rest for all inside.
    pub shapes: [(usize, usize, usize); SHAPES.len()],
}

/// Ways in which a cache comes back.
pub const SHAPES: [&str; 7] = [
    "even",
    "slowing",
    "even after a while",
    "quick, then slow",
    "slow, then quick",
    "as a power",
    "slow at both ends",
];

/// A way of coming back: the share after a rest.
struct Shape {
    which: usize,
    /// Until all of it, or the time constant.
    scale: f64,
    wait: f64,
    /// Of two paces: how much comes at the first, in which share of the time.
    knee: (f64, f64),
    power: f64,
}

impl Shape {
    fn share(&self, rest: f64) -> f64 {
        let x = ((rest - self.wait) / self.scale).max(0.0);
        match self.which {
            1 => 1.0 - (-x).exp(),
            3 | 4 => {
                let (time, back) = self.knee;
                if x < time {
                    x / time * back
                } else {
                    (back + (x - time) / (1.0 - time) * (1.0 - back)).min(1.0)
                }
            }
            5 => x.min(1.0).powf(self.power),
            6 => {
                let x = x.min(1.0);
                x * x * (3.0 - 2.0 * x)
            }
            _ => x.min(1.0),
        }
    }

    /// Rest for half, and for all but a twentieth, by bisection.
    fn truths(&self) -> (f64, f64) {
        let rest_for = |share: f64| {
            let (mut low, mut high) = (0.0, self.wait + 20.0 * self.scale);
            for _ in 0..100 {
                let middle = 0.5 * (low + high);
                if self.share(middle) < share { low = middle } else { high = middle }
            }
            high
        };
        (rest_for(0.5), rest_for(0.95))
    }
}

/// Writes past the end of a cache with rests between, on a drive that fills up or is written at the same place again.
pub fn prove_cache(seed: u64, score: &mut CacheScore) {
    let mut d = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0xD1B5_4A32_D192_ED03) ^ 0xCAC4));
    let capacity = d.log_within(480.0, 4000.0);
    let fill_0 = d.within(0.0, 0.4);
    // GB on an empty drive, and of them what stays on a full one.
    let empty = capacity * d.within(0.03, 0.12);
    let stays = empty * if d.chance(0.4) { 1.0 } else { d.within(0.0, 0.8) };
    let size = |fill: f64| stays + (empty - stays) * (1.0 - fill);
    let which = d.within(0.0, SHAPES.len() as f64 - 1e-9) as usize;
    let scale = d.log_within(40.0, 1200.0);
    let shape = Shape {
        which,
        scale,
        wait: if which == 2 { scale * d.within(0.05, 0.5) } else { 0.0 },
        knee: if which == 3 {
            (d.within(0.2, 0.45), d.within(0.55, 0.8))
        } else {
            (d.within(0.5, 0.8), d.within(0.2, 0.45))
        },
        power: d.log_within(0.5, 2.0),
    };
    let fast = d.log_within(0.5, 6.0);
    let slow = fast * d.within(0.1, 0.6);
    let (noise, scatter) = (d.log_within(0.005, 0.04), d.within(0.0, 0.03));
    let every = [0.1, 0.5, 1.0, 1.0, 2.0][d.within(0.0, 4.999) as usize];
    let moves_on = d.chance(0.5);
    let tells_fill = d.chance(0.8);
    let rests = d.within(3.0, 7.999) as usize;
    // The last rest brings all back or nearly so, or not.
    let longest = scale * d.log_within(0.7, 6.0);
    let ratio = d.within(1.7, 3.5);
    let mut legs = vec![LegKind::Write];
    (0..rests).for_each(|_| legs.extend([LegKind::Rest, LegKind::Write]));
    let mut readings = Readings::new();
    readings.push(&head("cache", capacity as u64, None, every, &legs));
    let (mut t, mut fill) = (0.0, fill_0);
    let mut fills = Vec::new();
    for write in 0..=rests {
        let leg = 2 * write as u16;
        let restored = if write == 0 {
            1.0
        } else {
            let rest = longest / ratio.powi((rests - write) as i32);
            readings.push(&Event::LegStarted { at: Duration::from_secs_f64(t), leg: leg - 1 });
            let end = t + rest;
            while t < end {
                let span = every.max(1.0).min(end - t).max(0.01);
                t += span;
                push(&mut readings, t, span, leg - 1, 0.0, tells_fill.then_some(fill));
            }
            shape.share(rest)
        };
        readings.push(&Event::LegStarted { at: Duration::from_secs_f64(t), leg });
        let mut cache = size(fill) * restored * (1.0 + scatter * d.normal());
        fills.push(fill);
        let mut left = cache.max(0.0) + size(fill) * d.within(0.25, 0.6);
        while left > 0.0 {
            let wobble = (noise * d.normal()).exp();
            let quick = (cache / (fast * wobble)).clamp(0.0, every);
            let gb = wobble * (quick * fast + (every - quick) * slow);
            cache -= quick * fast * wobble;
            left -= gb;
            t += every;
            if moves_on {
                fill = (fill + gb / capacity).min(1.0);
            }
            push(&mut readings, t, every, leg, gb, tells_fill.then_some(fill));
        }
    }
    score.hauls += 1;
    let apart = distinct(&fills);
    if apart >= 3 && tells_fill {
        score.fills += 1;
    }
    let Ok(model) = CacheModel::of(&readings, &readings.conclude()) else { return };
    let holds = |i: &Interval, truth: f64| i.low <= truth && truth <= i.high;
    if let Told::Known(r) = &model.recovery {
        score.recoveries += 1;
        let (half, all) = shape.truths();
        let found = [(&r.half_s, half), (&r.all_s, all), (&r.whole_bytes, size(fill_0) * 1e9)];
        for (k, (interval, truth)) in found.into_iter().enumerate() {
            score.recovery_inside[k] += usize::from(holds(interval, truth));
            score.recovery_off[k].push((interval.value - truth).abs() / truth);
        }
        let of = &mut score.shapes[which];
        *of =
            (of.0 + 1, of.1 + usize::from(holds(&r.half_s, half)), of.2 + usize::from(holds(&r.all_s, all)));
    }
    if let Told::Known(s) = &model.shrinking {
        if apart < 3 {
            score.invented += 1;
            return;
        }
        score.shrinkings += 1;
        for (k, (interval, truth)) in
            [(&s.empty_bytes, empty), (&s.static_bytes, stays)].into_iter().enumerate()
        {
            score.shrinking_inside[k] += usize::from(holds(interval, truth * 1e9));
        }
    }
}

fn push(readings: &mut Readings, end: f64, span: f64, leg: u16, gb: f64, fill: Option<f64>) {
    readings.push(&Event::Sample(Sample {
        end: Duration::from_secs_f64(end),
        span: Duration::from_secs_f64(span),
        leg,
        written: Bytes::new((gb * 1e9) as u64),
        fill_ppm: fill.map(|f| (f * 1e6) as u32),
        ..Sample::default()
    }));
}

/// How many levels of fill there are, those within three points taken as one.
fn distinct(fills: &[f64]) -> usize {
    let mut sorted = fills.to_vec();
    sorted.sort_by(f64::total_cmp);
    1 + sorted.windows(2).filter(|w| w[1] - w[0] > 0.03).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `hollow-mile prove` prints a large run.
    #[test]
    fn intervals_of_the_cache_model_hold_the_truth() {
        let mut score = CacheScore::default();
        (0..150).for_each(|seed| prove_cache(5_000_000 + seed, &mut score));
        assert!(score.recoveries > 60, "{score:?}");
        for (inside, what) in score.recovery_inside.iter().zip(["half", "all", "whole"]) {
            let share = *inside as f64 / score.recoveries as f64;
            assert!(share >= 0.9, "{what}: {share}");
        }
        assert_eq!(score.invented, 0);
    }
}
