//! Drives that are hauled four times: does what three hauls showed say what the fourth is like, and as surely as it says?
//!
//! Each haul is a little different: its levels, where its cache ends, how it throttles; the noise of samples is even, correlated,
//! heavy-tailed or skewed, with stalls and regular dips.

use std::time::Duration;

use hollow_mile_core::archive::digest::Digest;
use hollow_mile_core::archive::forecast::{Air, Shown, of};
use hollow_mile_core::conclude::Assumption;
use hollow_mile_core::drive::LoadSummary;
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::forecast::Forecast;
use hollow_mile_core::record::{Event, LegEnd, Sample};
use hollow_mile_core::route::{Amount, Leg, LegKind, Route, Until};
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::{Dice, head};

/// How forecasts came true.
#[derive(Debug, Clone, Default)]
pub struct ForecastScore {
    /// Drives of which a fourth haul was forecast.
    pub drives: usize,
    /// Of each: the share of its time that the rate was inside the band.
    pub inside: Vec<f64>,
    /// Of each: the share of its time that the temperature was inside its band.
    pub warm_inside: Vec<f64>,
    /// Of each: how far the time to the end was off, as a share of it.
    pub time_off: Vec<f64>,
    /// Of drives that did not change: fourth hauls that were said to be off their forecast.
    pub false_off: usize,
    /// Drives that changed before the fourth haul, those that were said to be off, and those of which the right assumption was named.
    pub changed: usize,
    /// Found among them.
    pub found_off: usize,
    /// With what failed named rightly.
    pub named_off: usize,
}

impl ForecastScore {
    /// Share of the time inside the band, over all drives alike.
    #[must_use]
    pub fn coverage(&self) -> f64 {
        self.inside.iter().sum::<f64>() / self.inside.len().max(1) as f64
    }
}

/// A drive as it is made.
struct Nature {
    /// GB/s of each level, and bytes after which it ends, as a share of what is written.
    levels: Vec<(f64, f64)>,
    /// By how much a haul's levels and ends are off, as shares.
    level_off: f64,
    end_off: f64,
    noise: f64,
    /// Correlation of neighbours.
    tied: f64,
    heavy: bool,
    skewed: bool,
    stalls: f64,
    /// Every so many seconds it dips for some.
    dips: Option<(f64, f64, f64)>,
    every: f64,
    total: f64,
    warmth: Warmth,
}

/// How warm a drive gets: first order, in air that is not quite the same from haul to haul, by a sensor of whole degrees.
struct Warmth {
    /// At rest, °C.
    rest: f64,
    /// K at the rate of its first level, in the long run.
    rise: f64,
    tau_s: f64,
    /// By how much the air differs from haul to haul, K.
    air_off: f64,
}

fn warmth(d: &mut Dice) -> Warmth {
    Warmth {
        rest: d.within(28.0, 42.0),
        rise: d.within(5.0, 38.0),
        tau_s: d.log_within(20.0, 400.0),
        air_off: [0.0, 0.3, 0.8, 1.5][d.within(0.0, 3.999) as usize],
    }
}

fn nature(d: &mut Dice, warmth: Warmth) -> Nature {
    let count = 1 + d.within(0.0, 2.999) as usize;
    let mut rate = d.log_within(0.15, 6.0);
    let mut at = 0.0;
    let mut levels = Vec::new();
    for i in 0..count {
        at = if i + 1 == count { 1.0 } else { at + (1.0 - at) * d.within(0.15, 0.6) };
        levels.push((rate, at));
        rate *= d.within(0.2, 0.8);
    }
    let slowest = levels.iter().map(|l| l.0).fold(f64::MAX, f64::min);
    let every = [0.1, 0.1, 0.5, 1.0, 2.0][d.within(0.0, 4.999) as usize];
    // Some thousand samples.
    let total = slowest * every * d.within(1500.0, 4000.0);
    Nature {
        level_off: [0.0, 0.005, 0.02, 0.05][d.within(0.0, 3.999) as usize],
        end_off: [0.0, 0.01, 0.04][d.within(0.0, 2.999) as usize],
        noise: d.log_within(0.004, 0.12),
        tied: if d.chance(0.4) { d.within(0.3, 0.95) } else { 0.0 },
        heavy: d.chance(0.25),
        skewed: d.chance(0.25),
        stalls: if d.chance(0.3) { d.log_within(0.0005, 0.01) } else { 0.0 },
        dips: d.chance(0.25).then(|| (d.within(15.0, 60.0), d.within(1.0, 6.0), d.within(0.3, 0.8))),
        every,
        total,
        warmth,
        levels,
    }
}

/// What became of a drive before its fourth haul.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Change {
    Nothing,
    /// All its levels are this share of what they were.
    Levels(f64),
    /// Its first level ends at this share of where it did.
    End(f64),
}

fn change(n: &Nature, d: &mut Dice) -> Change {
    if n.levels.len() > 1 && d.chance(0.5) && n.levels[1].0 / n.levels[0].0 < 0.7 {
        return Change::End(d.within(0.3, 0.65));
    }
    Change::Levels(if d.chance(0.8) { d.within(0.5, 0.75) } else { d.within(1.35, 1.8) })
}

fn haul(n: &Nature, change: Change, forecast: Option<Forecast>, air: f64, d: &mut Dice) -> Readings {
    let mut readings = Readings::new();
    let Event::HaulStarted(mut begun) = head("forecast", 100_000, None, n.every, &[LegKind::Write]) else {
        return readings;
    };
    begun.route = route(n);
    begun.forecast = forecast;
    readings.push(&Event::HaulStarted(begun));
    readings.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    let levels: Vec<(f64, f64)> = n
        .levels
        .iter()
        .enumerate()
        .map(|(i, (rate, to))| {
            let to = &match change {
                Change::End(share) if i == 0 => to * share,
                _ => *to,
            };
            let rate = if let Change::Levels(share) = change { rate * share } else { *rate };
            let to = if *to < 1.0 { to * (1.0 + n.end_off * d.normal()) } else { 2.0 };
            (rate * (1.0 + n.level_off * d.normal()), to)
        })
        .collect();
    let (mut t, mut moved, mut noise) = (0.0f64, 0.0f64, 0.0f64);
    let sigma = n.noise;
    let rest = n.warmth.rest + air;
    let mut warm = rest;
    while moved < n.total {
        let level = levels.iter().find(|l| moved / n.total < l.1).or(levels.last()).map_or(1.0, |l| l.0);
        let fresh = match (n.heavy, n.skewed) {
            (true, _) => d.normal() / (d.normal().powi(2) + d.normal().powi(2)).max(0.05).sqrt(),
            (false, true) => 1.0 - d.normal().abs() * 1.3,
            _ => d.normal(),
        };
        noise = n.tied * noise + (1.0 - n.tied * n.tied).sqrt() * fresh.clamp(-8.0, 8.0);
        let mut rate = level * (sigma * noise).exp();
        if d.chance(n.stalls) {
            rate *= d.within(0.0, 0.3);
        }
        if n.dips.is_some_and(|(each, long, _)| t % each < long) {
            rate *= n.dips.map_or(1.0, |d| d.2);
        }
        let bytes = (rate * 1e9 * n.every).min((n.total - moved) * 1e9);
        let aim = rest + n.warmth.rise * rate / n.levels[0].0;
        warm = aim + (warm - aim) * (-n.every / n.warmth.tau_s).exp();
        t += n.every;
        moved += bytes / 1e9;
        readings.push(&Event::Sample(Sample {
            end: Duration::from_secs_f64(t),
            span: Duration::from_secs_f64(n.every),
            leg: 0,
            written: Bytes::new(bytes.ceil() as u64),
            temperature: Some(Celsius::new(warm.round())),
            ..Sample::default()
        }));
    }
    let at = Duration::from_secs_f64(t);
    readings.push(&Event::LegEnded { at, leg: 0, why: LegEnd::Bytes, summary: LoadSummary::default() });
    readings
}

fn route(n: &Nature) -> Route {
    let until = Until { bytes: Some(Amount::Bytes(Bytes::new((n.total * 1e9) as u64))), ..Until::default() };
    Route {
        name: "forecast".into(),
        about: String::new(),
        interval: Duration::from_secs_f64(n.every),
        limits: Vec::new(),
        legs: vec![Leg { until, ..Leg::new(LegKind::Write) }],
    }
}

/// Hauls a random drive four times, and judges what the first three said of the fourth.
pub fn prove_forecast(seed: u64, score: &mut ForecastScore) {
    let mut d = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0xD1B5_4A32_D192_ED03) ^ 0xF0CA));
    // Dice of its own, so that what is judged of rates is the same with it and without.
    let mut air = Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ 0xA1F));
    let warmth = warmth(&mut air);
    let mut another = || air.normal() * warmth.air_off;
    let airs: [f64; 5] = std::array::from_fn(|_| another());
    let n = nature(&mut d, warmth);
    let capacity = Bytes::from_gb(100_000);
    let earlier: Vec<Shown> = (0..3)
        .map(|i: usize| {
            let r = haul(&n, Change::Nothing, None, airs[i], &mut d);
            let legs = Digest::of(&r, &r.conclude()).legs;
            Shown { air: Air::default(), capacity, route: route(&n), legs }
        })
        .collect();
    let forecast = of(&route(&n), capacity, &Air::default(), &earlier);
    let Some(leg) = forecast.leg(0) else { return };
    let fourth = haul(&n, Change::Nothing, Some(forecast.clone()), airs[3], &mut d);
    let off = |r: &Readings| {
        let found = r.conclude().findings.into_iter();
        found.filter(|f| f.kind == FindingKind::OffForecast).map(|f| f.failed).collect::<Vec<_>>()
    };
    score.false_off += usize::from(!off(&fourth).is_empty());
    let became = change(&n, &mut d);
    let told = off(&haul(&n, became, Some(forecast.clone()), airs[4], &mut d));
    score.changed += 1;
    score.found_off += usize::from(!told.is_empty());
    let right = |f: &Option<Assumption>| match became {
        Change::Levels(_) => *f == Some(Assumption::Level),
        Change::End(_) => matches!(f, Some(Assumption::Change { .. })),
        Change::Nothing => false,
    };
    score.named_off += usize::from(told.iter().any(right));
    let series = fourth.series();
    let (mut inside, mut warm, mut all) = (0.0, 0.0, 0.0);
    for i in 0..series.len() {
        let middle = f64::midpoint(series.moved_before(i) as f64, series.moved(i) as f64);
        let seconds = series.loaded_s(i..i + 1);
        let band = leg.at(middle).and_then(|p| p.rate);
        let degrees = leg.at(middle).and_then(|p| p.degrees).zip(series.column(i..i + 1).hottest);
        if degrees.is_some_and(|(b, t)| b.holds(t.degrees())) {
            warm += seconds;
        }
        all += seconds;
        if band.is_some_and(|b| b.holds(series.rate(i))) {
            inside += seconds;
        }
    }
    score.drives += 1;
    score.inside.push(inside / f64::max(all, 1e-9));
    score.warm_inside.push(warm / f64::max(all, 1e-9));
    score.time_off.push((leg.seconds() / fourth.elapsed().as_secs_f64() - 1.0).abs());
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `hollow-mile prove` prints a large run.
    #[test]
    fn what_three_hauls_showed_holds_for_the_fourth() {
        let mut score = ForecastScore::default();
        (0..60).for_each(|seed| prove_forecast(6_000_000 + seed, &mut score));
        assert_eq!(score.drives, 60);
        let coverage = score.coverage();
        assert!((0.86..=0.94).contains(&coverage), "{coverage}");
        assert!(score.false_off <= 3 && score.found_off >= 57 && score.named_off >= 50, "{score:?}");
        score.time_off.sort_by(f64::total_cmp);
        assert!(score.time_off[score.time_off.len() / 2] < 0.05, "{:?}", score.time_off);
    }
}
