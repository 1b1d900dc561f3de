//! The families of worlds, and what is random in each.

use super::super::Dice;
use super::drive::{Answer, Chores, Drive, Heat, Stage, Swing};
use super::watcher::{Clock, Noise, Sensor, Shape, World};

/// In what a world is harder than usual.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Family {
    /// One level, and noise of any kind.
    Flat,
    /// One to four levels that end at once.
    Steps,
    /// Levels that give way over 1 to 300 s.
    Ramps,
    /// Noise with heavy tails, skewed, correlated, or larger as time goes on.
    Noisy,
    /// The rate swings second by second.
    Swings,
    /// Heat with a temperature at which it lets go.
    Hysteresis,
    /// A controller that holds the temperature.
    Controller,
    /// Throttled once, and so to the end of the record.
    StaysHot,
    /// Two stages of throttling.
    Stages,
    /// The sensor has steps of 2 to 5 K.
    Coarse,
    /// The sensor follows late, or is not the hottest of the drive.
    Hidden,
    /// No thermometer, or one that measures nothing.
    Blind,
    /// Pauses that nothing marks, in which the cache empties.
    Pauses,
    /// Samples of 2 to 30 s.
    Long,
    /// Samples of uneven length, some missing.
    Uneven,
    /// Falls that come back again and again, and are not heat.
    Housekeeping,
    /// Rates that slope, as on platters.
    Slopes,
}

impl Family {
    /// All of them.
    pub const ALL: [Self; 17] = [
        Self::Flat,
        Self::Steps,
        Self::Ramps,
        Self::Noisy,
        Self::Swings,
        Self::Hysteresis,
        Self::Controller,
        Self::StaysHot,
        Self::Stages,
        Self::Coarse,
        Self::Hidden,
        Self::Blind,
        Self::Pauses,
        Self::Long,
        Self::Uneven,
        Self::Housekeeping,
        Self::Slopes,
    ];

    /// In tables.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Flat => "flat",
            Self::Steps => "steps",
            Self::Ramps => "ramps",
            Self::Noisy => "noisy",
            Self::Swings => "swings",
            Self::Hysteresis => "hysteresis",
            Self::Controller => "controller",
            Self::StaysHot => "stays-hot",
            Self::Stages => "two-stages",
            Self::Coarse => "coarse-sensor",
            Self::Hidden => "hidden-sensor",
            Self::Blind => "no-thermometer",
            Self::Pauses => "unmarked-pauses",
            Self::Long => "long-samples",
            Self::Uneven => "uneven-clock",
            Self::Housekeeping => "housekeeping",
            Self::Slopes => "slopes",
        }
    }
}

fn stages(d: &mut Dice, count: usize) -> Vec<Stage> {
    let mut rate = d.log_within(350e6, 9000e6);
    let mut out = Vec::new();
    for i in 0..count {
        let size = rate * d.log_within(4.0, 500.0);
        out.push(Stage { rate, size, ramp_s: 0.0 });
        rate *= if i + 2 == count { d.log_within(0.06, 0.8) } else { d.within(0.3, 0.8) };
    }
    if let Some(last) = out.last_mut() {
        last.size = f64::INFINITY;
    }
    out
}

fn cool(d: &mut Dice) -> Heat {
    Heat {
        air: d.within(18.0, 38.0),
        idle_k: d.within(4.0, 16.0),
        full_k: d.within(4.0, 28.0),
        tau_s: d.log_within(12.0, 260.0),
        answer: Answer::None,
        hidden_k: 0.0,
    }
}

/// Hot enough at full speed to come to a limit, which is returned.
fn hot(d: &mut Dice) -> (Heat, f64) {
    let mut heat = cool(d);
    let limit = d.within(66.0, 92.0).round();
    heat.full_k = limit + d.within(5.0, 32.0) - heat.air - heat.idle_k;
    (heat, limit)
}

fn hysteresis(d: &mut Dice, limit: f64) -> Answer {
    Answer::Hysteresis { on: limit, off: limit - d.within(2.5, 11.0), share: d.within(0.25, 0.75) }
}

fn noise(d: &mut Dice) -> Noise {
    Noise {
        sigma: d.log_within(0.003, 0.05),
        shape: if d.chance(0.6) { Shape::Normal } else { Shape::Heavy },
        memory_s: if d.chance(0.6) { 0.0 } else { d.log_within(0.1, 3.0) },
        growth: 1.0,
        stall_every_s: if d.chance(0.35) { d.log_within(15.0, 300.0) } else { f64::INFINITY },
        stall_s: d.log_within(0.05, 1.2),
    }
}

fn clock(d: &mut Dice) -> Clock {
    let every_s = [0.05, 0.1, 0.1, 0.2, 0.25, 0.5, 1.0, 1.0][d.within(0.0, 7.999) as usize];
    Clock { every_s, jitter: if d.chance(0.3) { d.within(0.0, 0.03) } else { 0.0 }, missing: 0.0 }
}

fn sensor(d: &mut Dice) -> Sensor {
    let step = [1.0, 1.0, 1.0, 0.5, 0.1][d.within(0.0, 4.999) as usize];
    Sensor { step, every_s: d.within(0.5, 1.5), lag_s: 0.0, stuck: None, told: true }
}

/// A calm world: nothing in it but these levels.
fn calm(d: &mut Dice, count: usize) -> World {
    let stages = stages(d, count);
    let heat = cool(d);
    let limit = (heat.air + heat.idle_k + heat.full_k + d.within(6.0, 30.0)).round().clamp(66.0, 95.0);
    World {
        drive: Drive { stages, refill: 0.0, slope: 0.0, heat, swing: None, chores: None },
        noise: noise(d),
        clock: clock(d),
        sensor: sensor(d),
        limit: d.chance(0.75).then_some(limit),
        counts: d.chance(0.2),
        pauses: Vec::new(),
        tail_s: d.log_within(25.0, 900.0),
        heat_counts: true,
    }
}

/// A world of heat: one level as a rule, long enough to warm up in.
fn heated(d: &mut Dice) -> World {
    let count = if d.chance(0.7) { 1 } else { 2 };
    let mut w = calm(d, count);
    let (heat, limit) = hot(d);
    w.drive.heat = heat;
    w.drive.heat.answer = hysteresis(d, limit);
    w.limit = d.chance(0.8).then_some(limit);
    let warm_up = w.drive.heat.tau_s * d.within(2.0, 7.0);
    w.tail_s = (warm_up + d.within(60.0, 500.0)).min(2500.0);
    w
}

/// A random world of a family.
pub fn plan(family: Family, d: &mut Dice) -> World {
    match family {
        Family::Flat => {
            let mut w = calm(d, 1);
            w.tail_s = d.log_within(20.0, 2000.0);
            w
        }
        Family::Steps => {
            let count = 1 + d.within(1.0, 3.999) as usize;
            calm(d, count)
        }
        Family::Ramps => {
            let count = if d.chance(0.8) { 2 } else { 3 };
            let mut w = calm(d, count);
            w.noise.sigma = w.noise.sigma.min(0.03);
            let mut longest: f64 = 0.0;
            for i in 0..count - 1 {
                let ramp = d.log_within(1.0, 300.0);
                w.drive.stages[i].ramp_s = ramp;
                w.drive.stages[i].size =
                    w.drive.stages[i].size.max(w.drive.stages[i].rate * ramp * d.within(0.4, 1.5));
                w.drive.stages[i + 1].rate = w.drive.stages[i + 1].rate.min(0.75 * w.drive.stages[i].rate);
                longest = longest.max(ramp);
            }
            w.tail_s = w.tail_s.max(longest * d.within(0.4, 1.5)).max(25.0);
            w
        }
        Family::Noisy => noisy(d),
        Family::Swings => {
            let count = if d.chance(0.5) { 1 } else { 2 };
            let mut w = calm(d, count);
            let from_level = if count == 2 && d.chance(0.6) { 1 } else { 0 };
            w.drive.swing = Some(Swing {
                depth: d.within(0.06, 0.42),
                high_s: d.log_within(0.25, 4.0),
                low_s: d.log_within(0.25, 4.0),
                jitter: d.within(0.0, 0.35),
                from_level,
            });
            if count == 2 {
                w.drive.stages[1].rate = w.drive.stages[1].rate.min(0.6 * w.drive.stages[0].rate);
                w.drive.stages[0].size = w.drive.stages[0].size.max(w.drive.stages[0].rate * 25.0);
            }
            w.tail_s = w.tail_s.max(60.0);
            w
        }
        Family::Hysteresis => heated(d),
        Family::Controller => {
            let mut w = heated(d);
            let at = w.limit.unwrap_or_else(|| d.within(66.0, 92.0).round());
            w.limit = d.chance(0.55).then_some(at);
            w.drive.heat.full_k = at + d.within(6.0, 25.0) - w.drive.heat.air - w.drive.heat.idle_k;
            let (gain, settles_s) = (d.log_within(0.05, 0.4), d.log_within(8.0, 80.0));
            w.drive.heat.answer = Answer::Held { at: at - d.within(0.0, 0.5), gain, settles_s };
            w
        }
        Family::StaysHot => {
            let mut w = heated(d);
            // The lower speed keeps it above where heat lets go.
            let h = &mut w.drive.heat;
            if let Answer::Hysteresis { on, share, .. } = h.answer {
                // So warm a place, or so small a heatsink, that it settles a few kelvin below its limit.
                let settles = on - d.within(0.0, 8.0);
                h.full_k = (on + 4.0 - settles) / (1.0 - share);
                h.air = settles - h.idle_k - h.full_k * share;
                h.answer = Answer::Hysteresis { on, off: settles - d.within(0.5, 5.0), share };
            }
            w
        }
        Family::Stages => {
            let mut w = heated(d);
            if let Answer::Hysteresis { on, off, share } = w.drive.heat.answer {
                let heavy = on + d.within(2.0, 6.0);
                w.drive.heat.answer = Answer::Stages {
                    light: (on, off, d.within(0.65, 0.88)),
                    heavy: (heavy, on - d.within(0.0, 2.0), share.min(0.5)),
                };
                w.drive.heat.full_k += 8.0;
            }
            w
        }
        Family::Coarse => {
            let mut w = if d.chance(0.6) { heated(d) } else { calm(d, 2) };
            w.sensor.step = [2.0, 3.0, 5.0, 5.0][d.within(0.0, 3.999) as usize];
            w
        }
        Family::Hidden => {
            let mut w = heated(d);
            if d.chance(0.5) {
                w.sensor.lag_s = d.within(2.0, 12.0);
            } else {
                w.drive.heat.hidden_k = d.within(2.0, 14.0);
                w.drive.heat.full_k += 14.0;
                w.heat_counts = d.chance(0.5);
                w.counts = w.heat_counts;
            }
            w
        }
        Family::Blind => {
            let mut w = match d.within(0.0, 1.0) {
                v if v < 0.3 => heated(d),
                v if v < 0.45 => plan(Family::Controller, d),
                v if v < 0.6 => plan(Family::StaysHot, d),
                _ => {
                    let count = 1 + d.within(0.0, 2.999) as usize;
                    calm(d, count)
                }
            };
            if d.chance(0.7) {
                w.sensor.told = false;
            } else {
                w.sensor.stuck = Some(if d.chance(0.5) { 0.0 } else { d.within(20.0, 45.0).round() });
            }
            w.counts = false;
            w.heat_counts = false;
            w
        }
        Family::Pauses => {
            let mut w = calm(d, 2);
            let (first, second) = (w.drive.stages[0], &mut w.drive.stages[1]);
            second.rate = second.rate.min(0.65 * first.rate);
            w.drive.stages[0].size = first.rate * d.log_within(5.0, 60.0);
            w.drive.refill = first.rate * d.log_within(0.1, 2.0);
            let mut at = first.size.min(first.rate * 60.0) / first.rate + d.within(10.0, 60.0);
            for _ in 0..d.within(1.0, 5.0) as usize {
                let rest = d.log_within(6.0, 90.0);
                w.pauses.push((at, at + rest));
                at += rest + d.within(40.0, 160.0);
            }
            w.tail_s = at;
            w
        }
        Family::Long => {
            let mut w = if d.chance(0.5) { calm(d, 2) } else { heated(d) };
            w.clock.every_s = d.log_within(2.0, 30.0);
            w.tail_s = w.tail_s.max(w.clock.every_s * 40.0);
            if w.drive.stages.len() == 2 {
                let rate = w.drive.stages[0].rate;
                w.drive.stages[0].size = w.drive.stages[0].size.max(rate * w.clock.every_s * 12.0);
            }
            w
        }
        Family::Uneven => {
            let mut w = if d.chance(0.7) { calm(d, 2) } else { heated(d) };
            w.clock.jitter = d.within(0.1, 0.6);
            w.clock.missing = d.within(0.0, 0.1);
            w
        }
        Family::Housekeeping => {
            let mut w = calm(d, 1);
            let lasts_s = d.log_within(3.0, 60.0);
            let every_s = lasts_s * d.log_within(2.0, 8.0);
            w.drive.chores = Some(Chores {
                every_s,
                lasts_s,
                share: d.within(0.25, 0.8),
                jitter: if d.chance(0.5) { 0.02 } else { d.within(0.05, 0.3) },
                first_s: d.within(0.5, 1.5) * every_s,
            });
            w.tail_s = every_s * d.within(1.3, 12.0);
            if d.chance(0.4) {
                w.limit = None;
            }
            w
        }
        Family::Slopes => {
            let mut w = calm(d, 1);
            w.drive.stages[0].rate = d.within(90e6, 300e6);
            w.drive.slope = d.within(0.2, 0.6);
            w.noise.sigma = w.noise.sigma.min(0.03);
            w.tail_s = d.log_within(200.0, 3000.0);
            w.drive.heat.full_k = d.within(2.0, 12.0);
            w
        }
    }
}

fn noisy(d: &mut Dice) -> World {
    let count = [1, 2, 2, 3][d.within(0.0, 3.999) as usize];
    let mut w = calm(d, count);
    w.noise.sigma = d.log_within(0.02, 0.13);
    w.noise.shape = [Shape::Heavy, Shape::Skewed, Shape::Normal][d.within(0.0, 2.999) as usize];
    w.noise.memory_s = if d.chance(0.5) { 0.0 } else { d.log_within(0.2, 6.0) };
    w.noise.growth = if d.chance(0.3) { d.within(1.5, 4.0) } else { 1.0 };
    // A step that noise does not bury.
    for i in 1..count {
        let before = w.drive.stages[i - 1];
        w.drive.stages[i].rate =
            w.drive.stages[i].rate.min(before.rate * (1.0 - 4.0 * w.noise.sigma).clamp(0.4, 0.8));
        w.drive.stages[i - 1].size = before.size.max(before.rate * (12.0 + 8.0 * w.noise.memory_s));
    }
    w.tail_s = w.tail_s.max(40.0 + 20.0 * w.noise.memory_s);
    w
}
