//! Makes a random haul with its truth.

use std::time::Duration;

use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Event, Sample};
use hollow_mile_core::route::LegKind;
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// Where a level of the cache was used up.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrueEnd {
    /// Bytes written.
    pub written: f64,
    /// Seconds.
    pub elapsed: f64,
    /// It gave way over so many seconds, half of them before this.
    pub ramp_s: f64,
}

/// When heat slowed the drive.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TrueThrottle {
    /// First, seconds.
    pub from: f64,
    /// Last, seconds.
    pub to: f64,
}

/// A haul with its truth.
#[derive(Debug, Clone)]
pub struct Case {
    /// What it was made of, in a line.
    pub words: String,
    /// The record.
    pub events: Vec<Event>,
    /// Cache ends with enough of a record after them to be seen.
    pub ends: Vec<TrueEnd>,
    /// Cache ends that nobody can be asked for: near others, in heat, at the end of the record. To tell one is no mistake.
    pub perhaps: Vec<TrueEnd>,
    /// Those of them that only a thermometer would tell from heat.
    pub blind_ends: Vec<TrueEnd>,
    /// Throttling, if there was any to speak of.
    pub throttle: Option<TrueThrottle>,
    /// It throttled, and the record cannot tell: one fall that stayed, no limit stated, no count of the drive. The end of a cache makes the
    /// very same record.
    pub lone_heat: bool,
    /// It throttled, but too little or too late for that.
    pub throttled_briefly: bool,
    /// Strangers' traffic, slow stretches: from and to in seconds, and whether the record can tell.
    pub others: Vec<(f64, f64)>,
    /// It stalls at regular times: `Some(true)` when that is plain to see, `Some(false)` when it may be.
    pub beats: Option<bool>,
    /// Nothing happens on it but noise.
    pub flat: bool,
}

pub(crate) struct Dice(pub(crate) Xoshiro256PlusPlus);

impl Dice {
    pub(crate) fn within(&mut self, low: f64, high: f64) -> f64 {
        low + (high - low) * self.0.random::<f64>()
    }
    pub(crate) fn log_within(&mut self, low: f64, high: f64) -> f64 {
        self.within(low.ln(), high.ln()).exp()
    }
    pub(crate) fn chance(&mut self, p: f64) -> bool {
        self.0.random::<f64>() < p
    }
    /// Heavier tails than a normal deviate, the same variance.
    pub(crate) fn laplace(&mut self) -> f64 {
        let u = self.within(-0.5, 0.5);
        -u.signum() * (1.0 - 2.0 * u.abs()).max(1e-300).ln() / std::f64::consts::SQRT_2
    }
    pub(crate) fn normal(&mut self) -> f64 {
        let u: f64 = self.0.random::<f64>().max(1e-300);
        (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * self.0.random::<f64>()).cos()
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Control {
    Never,
    Hysteresis,
    Holding,
}

impl Control {
    /// What the drive does about its temperature.
    fn follow(self, p: &Plan, degrees: f64, throttled: &mut bool, held: &mut f64) {
        match self {
            Self::Never => {}
            Self::Hysteresis => {
                *throttled = if *throttled { degrees >= p.resume } else { degrees >= p.limit };
            }
            Self::Holding => {
                // A controller with a proportional part on the temperature: slower the more it is above the limit.
                let wanted = (1.0 - (degrees - p.limit + 0.8) * 0.45).clamp(0.15, 1.0);
                *held += (wanted - *held) * (p.dt / 4.0).min(1.0);
            }
        }
    }
}

struct Plan {
    dt: f64,
    /// Rate in bytes/s and size in bytes.
    levels: Vec<(f64, f64)>,
    sigma: Vec<f64>,
    rho: f64,
    outliers: f64,
    stall_every: f64,
    stall_periodic: bool,
    stall_s: f64,
    control: Control,
    tau: f64,
    limit: f64,
    resume: f64,
    factor: f64,
    /// Degrees of the steady state at the first level's rate, and at rest.
    hot: f64,
    idle: f64,
    resolution: f64,
    knows_limit: bool,
    has_temperature: bool,
    /// From, to in seconds, share of the rate left.
    stranger: Option<(f64, f64, f64)>,
    zone: Option<(f64, f64, f64)>,
    length_s: f64,
}

fn plan(d: &mut Dice) -> Plan {
    let dt = [0.1, 0.1, 0.2, 0.5, 1.0][(d.within(0.0, 4.999)) as usize];
    let flat = d.chance(0.2);
    let count = if flat { 1 } else { [1, 2, 2, 2, 3, 3][d.within(0.0, 5.999) as usize] };
    let mut rate = d.log_within(600e6, 7000e6);
    let mut levels = Vec::new();
    let (mut length_s, mut tail) = (0.0, 0.0);
    for i in 0..count {
        // A level lasts at least some samples, or nobody could see it.
        let size = d.log_within(1e9, 500e9).max(rate * dt * 6.0).min(rate * 900.0);
        levels.push((rate, if i + 1 == count { f64::INFINITY } else { size }));
        tail = if i + 1 == count { d.log_within(40.0, 1500.0) } else { size / rate };
        length_s += tail;
        rate *= if i + 2 == count { d.log_within(0.05, 0.75) } else { d.within(0.35, 0.8) };
    }
    let base = d.log_within(0.003, 0.08);
    let sigma =
        (0..count).map(|i| if i > 0 && i + 1 == count { base * d.within(1.0, 2.5) } else { base }).collect();
    let control = match d.within(0.0, 1.0) {
        v if v < 0.55 || flat => Control::Never,
        v if v < 0.85 => Control::Hysteresis,
        _ => Control::Holding,
    };
    let limit = d.within(68.0, 90.0).round();
    let idle = d.within(28.0, 45.0);
    let tau = d.within(35.0, 160.0);
    let hot = if control == Control::Never {
        d.within(idle + 4.0, limit - 5.0)
    } else {
        limit + d.within(6.0, 30.0)
    };
    // Nothing in the record tells a slow stretch from a cache end that comes while it lasts: it lies in the last level.
    let last_from = length_s - tail;
    let calm = !flat && control == Control::Never && tail > 60.0;
    let stranger = (calm && d.chance(0.2)).then(|| {
        let from = last_from + d.within(0.15, 0.4) * tail;
        (from, from + d.within(0.15, 0.35) * tail, d.within(0.3, 0.75))
    });
    let zone = (calm && stranger.is_none() && d.chance(0.2)).then(|| {
        let from = last_from + d.within(0.15, 0.4) * tail;
        (from, from + d.within(0.15, 0.35) * tail, d.within(0.3, 0.75))
    });
    Plan {
        dt,
        levels,
        sigma,
        rho: if d.chance(0.5) { 0.0 } else { d.within(0.1, 0.85) },
        outliers: if d.chance(0.3) { d.within(0.001, 0.02) } else { 0.0 },
        stall_every: if d.chance(0.5) { d.log_within(8.0, 200.0) } else { f64::INFINITY },
        stall_periodic: d.chance(0.5),
        stall_s: d.log_within(0.1, 1.8),
        control,
        tau,
        limit,
        resume: limit - d.within(3.0, 8.0),
        factor: d.within(0.3, 0.7),
        hot,
        idle,
        resolution: if d.chance(0.6) { 1.0 } else { 0.1 },
        // A single drop at an unknown limit is the same curve as a cache end: nobody could tell.
        knows_limit: control == Control::Holding
            || d.chance(if control == Control::Never { 0.8 } else { 0.95 }),
        has_temperature: control != Control::Never || d.chance(0.85),
        stranger,
        zone,
        length_s,
    }
}

fn words(seed: u64, p: &Plan, hot_s: f64, hot_from: Option<f64>) -> String {
    let control = match p.control {
        Control::Never => "cool",
        Control::Hysteresis => "sawtooth",
        Control::Holding => "plateau",
    };
    let levels: Vec<String> = p
        .levels
        .iter()
        .map(|(r, s)| {
            format!(
                "{:.0} MB/s{}",
                r / 1e6,
                if s.is_finite() { format!(" for {:.2} GB", s / 1e9) } else { String::new() }
            )
        })
        .collect();
    format!(
        "seed {seed}: {} ; dt {} s, {:.0} s, sigma {:.3} rho {:.2} outliers {:.3} stalls {:.0}/{:.1} s, {control} limit {} known {} temp {}, stranger {:?} zone {:?}, throttled {hot_s:.0} s from {hot_from:?}",
        levels.join(", "),
        p.dt,
        p.length_s,
        p.sigma[0],
        p.rho,
        p.outliers,
        p.stall_every,
        p.stall_s,
        p.limit,
        p.knows_limit,
        p.has_temperature,
        p.stranger,
        p.zone
    )
}

/// Makes the haul of a seed.
#[must_use]
pub fn make(seed: u64) -> Case {
    let mut d =
        Dice(Xoshiro256PlusPlus::seed_from_u64(seed.wrapping_mul(0xD134_2543_DE82_EF95) ^ 0x0AF2_51AF));
    let p = plan(&mut d);
    let mut events = vec![
        super::head("proving", 8000, p.knows_limit.then_some(p.limit), p.dt, &[LegKind::Write]),
        Event::LegStarted { at: Duration::ZERO, leg: 0 },
    ];
    let (mut t, mut written, mut in_level, mut level) = (0.0f64, 0.0f64, 0.0f64, 0usize);
    let (mut degrees, mut throttled, mut held) = (p.idle + d.within(0.0, 6.0), false, 1.0f64);
    let (mut deviation, mut next_stall, mut stall_left) = (0.0f64, p.stall_every, 0.0f64);
    let (mut ends, mut hot_from, mut hot_to, mut hot_s) = (Vec::new(), None, 0.0f64, 0.0f64);
    let mut others = Vec::new();
    let mut reading = degrees;
    let mut reading_at = -1.0f64;
    let n = (p.length_s / p.dt).ceil() as u64;
    for i in 1..=n {
        let end = i as f64 * p.dt;
        deviation = p.rho * deviation + (1.0 - p.rho * p.rho).sqrt() * d.normal();
        let mut noise = (deviation * p.sigma[level]).exp();
        if d.chance(p.outliers) {
            noise *= d.within(0.2, 1.6);
        }
        next_stall -= p.dt;
        if next_stall <= 0.0 {
            stall_left = p.stall_s;
            next_stall += if p.stall_periodic { p.stall_every } else { d.within(0.3, 1.7) * p.stall_every };
        }
        let lost = stall_left.min(p.dt);
        stall_left -= lost;
        let mut factor = noise * if throttled { p.factor } else { held };
        let mut other = 0.0;
        for (window, counted) in [(p.stranger, true), (p.zone, false)] {
            if let Some((from, to, share)) = window.filter(|w| (w.0..w.1).contains(&t)) {
                if counted {
                    other += p.levels[level].0 * (1.0 - share) * p.dt;
                }
                factor *= share;
                if others.is_empty() {
                    others.push((from, to.min(p.length_s)));
                }
            }
        }
        let (mut left, mut bytes) = (p.dt - lost, 0.0);
        while left > 1e-9 {
            let rate = p.levels[level].0 * factor;
            let step = (rate * left).min(p.levels[level].1 - in_level);
            left -= step / rate;
            bytes += step;
            in_level += step;
            if in_level >= p.levels[level].1 {
                ends.push(TrueEnd { written: written + bytes, elapsed: end - left, ramp_s: 0.0 });
                level += 1;
                in_level = 0.0;
            }
        }
        written += bytes;
        // Heat follows the rate, between the idle state and that of the first level's full rate.
        let goal = p.idle + (p.hot - p.idle) * (bytes / p.dt / p.levels[0].0);
        degrees = goal + (degrees - goal) * (-p.dt / p.tau).exp();
        p.control.follow(&p, degrees, &mut throttled, &mut held);
        if throttled || held < 0.9 {
            hot_from.get_or_insert(end);
            hot_to = end;
            hot_s += p.dt;
        }
        if end - reading_at >= 0.999 {
            reading_at = end;
            reading = (degrees / p.resolution).round() * p.resolution;
        }
        events.push(Event::Sample(Sample {
            end: Duration::from_nanos((end * 1e9).round() as u64),
            span: Duration::from_nanos((end * 1e9).round() as u64 - (t * 1e9).round() as u64),
            written: Bytes::new(bytes as u64),
            position: Some(Bytes::new(written as u64)),
            temperature: p.has_temperature.then(|| Celsius::new(reading)),
            other: p.stranger.map(|_| Bytes::new(other as u64)),
            ..Sample::default()
        }));
        t = end;
    }
    let seen = |e: &TrueEnd| e.elapsed + (12.0 * p.dt).max(6.0) < t;
    ends.retain(seen);
    let words = words(seed, &p, hot_s, hot_from);
    // What lasts no longer than a few samples, or begins as the record ends, nobody can see.
    let throttle = hot_from
        .filter(|from| hot_s >= 10.0 && t - from > 12.0)
        .map(|from| TrueThrottle { from, to: hot_to });
    let flat = ends.is_empty() && hot_from.is_none() && others.is_empty() && level == 0;
    let throttled_briefly = hot_from.is_some() && throttle.is_none();
    let beats = (p.stall_periodic && p.stall_every.is_finite())
        .then(|| t / p.stall_every > 12.0 && p.stall_every > 10.0 * p.dt && p.stall_s > 0.9 * p.dt);
    Case {
        words,
        events,
        ends,
        perhaps: Vec::new(),
        blind_ends: Vec::new(),
        throttle,
        lone_heat: false,
        throttled_briefly,
        others,
        beats,
        flat,
    }
}
