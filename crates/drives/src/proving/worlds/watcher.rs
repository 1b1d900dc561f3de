//! How a world is watched: noise, clock, sensor, and the record with its truth.

use std::time::Duration;

use hollow_mile_core::drive::Vitals;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::record::{Event, Pauses, Sample};
use hollow_mile_core::route::LegKind;

use super::super::make::{Case, TrueEnd, TrueThrottle};
use super::super::{Dice, head};
use super::Family;
use super::drive::{Answer, Drive, State};

#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Shape {
    Normal,
    /// Student's t of three degrees of freedom.
    Heavy,
    /// Mostly at the top, now and then far below.
    Skewed,
}

#[derive(Debug, Clone, Copy)]
pub struct Noise {
    /// Deviation of ln(rate) of a tenth of a second.
    pub sigma: f64,
    pub shape: Shape,
    /// Its correlation falls to 1/e in so many seconds.
    pub memory_s: f64,
    /// So many times as large at the end as in the beginning.
    pub growth: f64,
    pub stall_every_s: f64,
    pub stall_s: f64,
}

#[derive(Debug, Clone, Copy)]
pub struct Clock {
    pub every_s: f64,
    /// Deviation of an interval, as a share.
    pub jitter: f64,
    /// Share of samples that are not in the record; the next one covers them.
    pub missing: f64,
}

#[derive(Debug, Clone, Copy)]
pub struct Sensor {
    pub step: f64,
    pub every_s: f64,
    pub lag_s: f64,
    pub stuck: Option<f64>,
    pub told: bool,
}

#[derive(Debug, Clone)]
pub struct World {
    pub drive: Drive,
    pub noise: Noise,
    pub clock: Clock,
    pub sensor: Sensor,
    pub limit: Option<f64>,
    /// The drive counts its thermal transitions.
    pub counts: bool,
    /// Nothing is asked from one second to another.
    pub pauses: Vec<(f64, f64)>,
    /// Length of the last level.
    pub tail_s: f64,
    /// Heat can be known from this record.
    pub heat_counts: bool,
}

impl Noise {
    fn draw(&self, dice: &mut Dice) -> f64 {
        match self.shape {
            Shape::Normal => dice.normal(),
            Shape::Heavy => {
                let chi = (0..3).map(|_| dice.normal().powi(2)).sum::<f64>();
                (dice.normal() / (chi / 3.0).sqrt() / 3f64.sqrt()).clamp(-12.0, 6.0)
            }
            Shape::Skewed => 0.6 + 1.1 * dice.within(1e-12, 1.0).ln().max(-6.0) * 0.8,
        }
    }
}

/// What truly happened, as it is noted on the way.
#[derive(Default)]
struct Diary {
    ends: Vec<(TrueEnd, bool)>,
    /// Moments at which a load begins or an end was over.
    edges: Vec<f64>,
    hot: Vec<(f64, f64)>,
    chores: Vec<(f64, f64)>,
}

fn note(spans: &mut Vec<(f64, f64)>, from: f64, to: f64) {
    match spans.last_mut() {
        Some(s) if from - s.1 < 0.3 => s.1 = to,
        _ => spans.push((from, to)),
    }
}

/// The record of a world, with its truth.
pub fn record(family: Family, seed: u64, w: &World, dice: &mut Dice) -> Case {
    let levels_s: f64 =
        w.drive.stages.iter().filter(|s| s.size.is_finite()).map(|s| s.size / s.rate + s.ramp_s).sum();
    let long = if w.pauses.is_empty() { levels_s + w.tail_s } else { w.tail_s };
    let length = long.min(w.clock.every_s * 40_000.0);
    let mut state = State::new(&w.drive, dice);
    let mut events = vec![
        head(family.word(), 30_000, w.limit, w.clock.every_s, &[LegKind::Write]),
        Event::LegStarted { at: Duration::ZERO, leg: 0 },
    ];
    let mut diary = Diary { edges: vec![0.0], ..Diary::default() };
    let (mut t, mut written, mut kept) = (0.0f64, 0.0f64, 0.0f64);
    let (mut deviation, mut stall_next, mut stall_left) = (0.0, first(w.noise.stall_every_s, dice), 0.0);
    let (mut felt, mut reading, mut read_at) = (state.degrees, state.degrees, -9.0f64);
    let (mut from, mut counted, mut health_at) = (0.0f64, u64::MAX, -99.0f64);
    while t < length {
        let span = w.clock.every_s * (1.0 + w.clock.jitter * dice.normal()).clamp(0.2, 3.0);
        let keep = if w.noise.memory_s > 0.0 { (-span / w.noise.memory_s).exp() } else { 0.0 };
        deviation = keep * deviation + (1.0 - keep * keep).sqrt() * w.noise.draw(dice);
        // Longer intervals are calmer, though not by as much as if nothing were correlated.
        let sigma = w.noise.sigma * (0.1 / w.clock.every_s).powf(0.3).min(1.5);
        let noise = (deviation * sigma * (1.0 + (w.noise.growth - 1.0) * t / length)).exp();
        let steps = (span / 0.05).ceil().clamp(2.0, 400.0);
        let h = span / steps;
        let mut bytes = 0.0;
        for i in 0..steps as usize {
            let now = t + i as f64 * h;
            if w.pauses.iter().any(|p| (p.0..p.1).contains(&now)) {
                state.rest(&w.drive, h);
                if diary.edges.last().is_some_and(|e| *e < now) {
                    diary.edges.push(now);
                }
                continue;
            }
            stall_next -= h;
            if stall_next <= 0.0 {
                stall_left = w.noise.stall_s;
                stall_next = w.noise.stall_every_s * dice.within(0.2, 1.8);
            }
            if stall_left > 0.0 {
                stall_left -= h;
                state.stand_still(&w.drive, h);
                continue;
            }
            let level = state.level;
            let m = state.work(&w.drive, h, noise, now / length, dice);
            if let Some((after, so_far)) = m.ended {
                let end = TrueEnd {
                    written: written + bytes + so_far,
                    elapsed: now + after,
                    ramp_s: w.drive.stages[level].ramp_s,
                };
                diary.ends.push((end, m.throttled));
            }
            if m.throttled {
                note(&mut diary.hot, now, now + h);
            }
            if m.chore {
                note(&mut diary.chores, now, now + h);
            }
            bytes += m.bytes;
        }
        t += span;
        written += bytes;
        let bytes = bytes.round().max(0.0);
        felt = if w.sensor.lag_s > 0.0 {
            state.degrees + (felt - state.degrees) * (-span / w.sensor.lag_s).exp()
        } else {
            state.degrees
        };
        if t - read_at >= w.sensor.every_s {
            read_at = t;
            reading = w.sensor.stuck.unwrap_or_else(|| (felt / w.sensor.step).round() * w.sensor.step);
        }
        if w.counts && (t - health_at >= 10.0 || counted != state.transitions) {
            (health_at, counted) = (t, state.transitions);
            let vitals = Vitals { thermal_transitions: Some(counted), ..Vitals::default() };
            events.push(Event::Vitals { at: at(t), vitals: Box::new(vitals) });
        }
        kept += bytes;
        if dice.chance(w.clock.missing) && t < length {
            continue;
        }
        events.push(Event::Sample(Sample {
            end: at(t),
            span: at(t) - at(from),
            written: Bytes::new(kept as u64),
            position: Some(Bytes::new(written as u64)),
            temperature: w.sensor.told.then(|| Celsius::new(reading)),
            ..Sample::default()
        }));
        (from, kept) = (t, 0.0);
    }
    // As whoever reads such a log does.
    let (mut pauses, mut marked) = (Pauses::default(), Vec::with_capacity(events.len()));
    events.into_iter().for_each(|e| pauses.pass(e, &mut |e| marked.push(e)));
    truth(family, seed, w, &diary, t, marked)
}

fn first(every: f64, dice: &mut Dice) -> f64 {
    if every.is_finite() { every * dice.within(0.2, 1.5) } else { f64::INFINITY }
}

fn at(seconds: f64) -> Duration {
    Duration::from_micros((seconds * 1e6).round() as u64)
}

/// What could be asked of whoever sees the record.
fn truth(family: Family, seed: u64, w: &World, diary: &Diary, length: f64, events: Vec<Event>) -> Case {
    let dt = w.clock.every_s;
    let mut ends = Vec::new();
    let (mut perhaps, mut blind_ends) = (Vec::new(), Vec::new());
    let mut begun = 0.0f64;
    for (i, (end, throttled)) in diary.ends.iter().enumerate() {
        let half = end.ramp_s / 2.0;
        let edge = diary.edges.iter().copied().filter(|e| *e < end.elapsed).fold(0.0, f64::max);
        let before = end.elapsed - half - edge.max(begun);
        let next_edge = diary.edges.iter().copied().find(|e| *e > end.elapsed).unwrap_or(length);
        let next_end = diary.ends.get(i + 1).map_or(f64::INFINITY, |(e, _)| e.elapsed - e.ramp_s / 2.0);
        let after = next_edge.min(next_end).min(length) - end.elapsed - half;
        begun = end.elapsed + half;
        let hot_near =
            diary.hot.iter().any(|(a, b)| *a < end.elapsed + half + 10.0 && *b > end.elapsed - half - 10.0);
        let plain = before > (10.0 * dt).max(2.0).max(0.15 * end.ramp_s)
            && after > (12.0 * dt).max(8.0).max(0.15 * end.ramp_s);
        // Without a thermometer a fall of a size that heat makes, in a drive that has had time to warm up, may be either.
        let stages = &w.drive.stages[i.min(w.drive.stages.len() - 2)..];
        let left = stages[1].rate / stages[0].rate;
        let blind = !w.sensor.told || w.sensor.stuck.is_some();
        if plain && !throttled && !hot_near {
            if blind && (0.25..0.8).contains(&left) && end.elapsed > 12.0 {
                blind_ends.push(*end);
                perhaps.push(*end);
            } else {
                ends.push(*end);
            }
        } else {
            perhaps.push(*end);
        }
    }
    let hot_s: f64 = diary.hot.iter().map(|(a, b)| b - a).sum();
    let (hot_from, hot_to) = (diary.hot.first().map(|h| h.0), diary.hot.last().map_or(0.0, |h| h.1));
    let sees = w.sensor.told && w.sensor.stuck.is_none() && w.heat_counts;
    let enough = hot_s >= (4.0 * dt).max(10.0) && hot_from.is_some_and(|f| length - f > (8.0 * dt).max(15.0));
    // Nothing was seen of the free rate.
    let enough = enough && hot_from.is_some_and(|f| f > 2.0 * dt);
    // Longer than a stall.
    let long = (2.0 * dt).max(w.noise.stall_s + 2.0);
    let came_back = diary.hot.windows(2).any(|h| h[1].0 - h[0].1 > long) || hot_to < length - 2.0 * long;
    let in_steps = !matches!(w.drive.heat.answer, Answer::Held { .. });
    let lone_heat = in_steps && w.limit.is_none() && !w.counts && !came_back;
    let throttle =
        hot_from.filter(|_| sees && enough && !lone_heat).map(|from| TrueThrottle { from, to: hot_to });
    let mut others = diary.chores.clone();
    if let Some(s) = w.drive.swing {
        let began =
            |level: usize| level.checked_sub(1).map_or(Some(0.0), |i| diary.ends.get(i).map(|e| e.0.elapsed));
        others.extend(began(s.from_level).map(|from| (from, length)));
    }
    if throttle.is_none() {
        others.extend(&diary.hot);
        others.extend(hot_from.map(|f| (f, hot_to)));
    }
    let chores = w.drive.chores.is_some() || w.drive.swing.is_some() || w.noise.stall_every_s.is_finite();
    let flat =
        diary.ends.is_empty() && diary.hot.is_empty() && diary.chores.is_empty() && w.drive.slope == 0.0;
    Case {
        words: format!(
            "{} seed {seed}: {} every {dt:.2} s, {length:.0} s; noise {:.3} {:?} memory {:.1} s growth {:.1}; stalls every {:.0} s of {:.2}; limit {:?}; {:?}; tau {:.0}; sensor {:?}; swing {:?}; chores {:?}; hot {:?} ({hot_s:.0} s); counts {}",
            family.word(),
            w.drive
                .stages
                .iter()
                .map(|s| format!("{:.0} MB/s×{:.0} GB (ramp {:.0} s)", s.rate / 1e6, s.size / 1e9, s.ramp_s))
                .collect::<Vec<_>>()
                .join(", "),
            w.noise.sigma,
            w.noise.shape,
            w.noise.memory_s,
            w.noise.growth,
            w.noise.stall_every_s,
            w.noise.stall_s,
            w.limit,
            w.drive.heat.answer,
            w.drive.heat.tau_s,
            w.sensor,
            w.drive.swing,
            w.drive.chores.map(|c| (c.every_s, c.lasts_s, c.share)),
            hot_from,
            w.counts,
        ),
        events,
        ends,
        perhaps,
        blind_ends,
        throttled_briefly: !diary.hot.is_empty() && throttle.is_none(),
        throttle,
        lone_heat: lone_heat && sees && enough,
        others,
        beats: chores.then_some(false),
        flat,
    }
}
