//! The drive of a world: cache, heat and habits, integrated in small steps of time.

use super::super::Dice;

/// How heat is answered.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Answer {
    /// Not at all.
    None,
    /// Down to a share at one temperature, back at a lower one.
    Hysteresis { on: f64, off: f64, share: f64 },
    /// Two such in a stack: light and heavy.
    Stages { light: (f64, f64, f64), heavy: (f64, f64, f64) },
    /// A controller that holds the temperature: so much less for each kelvin above it, and the rest by and by, within `settles_s`.
    Held { at: f64, gain: f64, settles_s: f64 },
}

/// How the rate swings though nothing is wrong.
#[derive(Debug, Clone, Copy)]
pub struct Swing {
    /// Half of the way from low to high, as a share of the mean.
    pub depth: f64,
    /// Seconds that it stays high, and low.
    pub high_s: f64,
    pub low_s: f64,
    /// Deviation of each of these, as a share.
    pub jitter: f64,
    /// From which level of the cache on.
    pub from_level: usize,
}

/// The drive looks after itself at times: slower for a while.
#[derive(Debug, Clone, Copy)]
pub struct Chores {
    pub every_s: f64,
    pub lasts_s: f64,
    pub share: f64,
    pub jitter: f64,
    pub first_s: f64,
}

/// One level of the cache.
#[derive(Debug, Clone, Copy)]
pub struct Stage {
    /// Bytes a second.
    pub rate: f64,
    /// Bytes; the last has no end.
    pub size: f64,
    /// Seconds in which it gives way to the next.
    pub ramp_s: f64,
}

#[derive(Debug, Clone)]
pub struct Heat {
    pub air: f64,
    pub idle_k: f64,
    /// Above the idle state at the first level's rate, K.
    pub full_k: f64,
    pub tau_s: f64,
    pub answer: Answer,
    /// What the controller feels is so much hotter than what is told, K.
    pub hidden_k: f64,
}

#[derive(Debug, Clone)]
pub struct Drive {
    pub stages: Vec<Stage>,
    /// Bytes of the first level that a second of rest gives back.
    pub refill: f64,
    /// Share of the rate lost over the whole record, as on platters.
    pub slope: f64,
    pub heat: Heat,
    pub swing: Option<Swing>,
    pub chores: Option<Chores>,
}

/// What happened in a piece of time.
pub struct Moment {
    pub bytes: f64,
    /// A level gave way: half of the fall was over now, after so many bytes of this piece.
    pub ended: Option<(f64, f64)>,
    pub throttled: bool,
    pub chore: bool,
}

/// The drive as it is now.
pub struct State {
    pub level: usize,
    in_level: f64,
    /// Seconds into the ramp to the next level.
    ramp: Option<f64>,
    pub degrees: f64,
    light: bool,
    heavy: bool,
    pub held: f64,
    integral: f64,
    swing_high: bool,
    swing_left: f64,
    chore_next: f64,
    chore_left: f64,
    clock: f64,
    pub transitions: u64,
}

impl State {
    pub fn new(d: &Drive, dice: &mut Dice) -> Self {
        Self {
            level: 0,
            in_level: 0.0,
            ramp: None,
            degrees: d.heat.air + d.heat.idle_k + dice.within(0.0, 3.0),
            light: false,
            heavy: false,
            held: 1.0,
            integral: 0.0,
            swing_high: true,
            swing_left: 0.0,
            chore_next: d.chores.map_or(f64::INFINITY, |c| c.first_s),
            chore_left: 0.0,
            clock: 0.0,
            transitions: 0,
        }
    }

    /// Nothing is asked of the drive for so long.
    pub fn rest(&mut self, d: &Drive, seconds: f64) {
        if d.refill > 0.0 {
            let mut back = d.refill * seconds;
            self.ramp = None;
            while back > 0.0 {
                if self.in_level >= back {
                    self.in_level -= back;
                    break;
                }
                back -= self.in_level;
                self.in_level = 0.0;
                if self.level == 0 {
                    break;
                }
                self.level -= 1;
                self.in_level = d.stages[self.level].size;
            }
        }
        self.warm(d, 0.0, seconds);
        self.clock += seconds;
    }

    /// Nothing gets done for so long, though it is asked for.
    pub fn stand_still(&mut self, d: &Drive, seconds: f64) {
        self.warm(d, 0.0, seconds);
        self.clock += seconds;
    }

    fn warm(&mut self, d: &Drive, load: f64, seconds: f64) {
        let h = &d.heat;
        let goal = h.air + h.idle_k + h.full_k * load;
        self.degrees = goal + (self.degrees - goal) * (-seconds / h.tau_s).exp();
        let felt = self.degrees + h.hidden_k;
        let was = u64::from(self.light) + u64::from(self.heavy) + u64::from(self.held < 0.95);
        match h.answer {
            Answer::None => {}
            Answer::Hysteresis { on, off, .. } => {
                self.light = if self.light { felt > off } else { felt >= on };
            }
            Answer::Stages { light, heavy } => {
                self.light = if self.light { felt > light.1 } else { felt >= light.0 };
                self.heavy = if self.heavy { felt > heavy.1 } else { felt >= heavy.0 };
            }
            Answer::Held { at, gain, settles_s } => {
                let off = felt - at;
                self.integral = (self.integral + gain * off * seconds / settles_s).clamp(0.0, 0.88);
                self.held = (1.0 - self.integral - gain * off).clamp(0.12, 1.0);
            }
        }
        let is = u64::from(self.light) + u64::from(self.heavy) + u64::from(self.held < 0.95);
        self.transitions += u64::from(is > was);
    }

    fn heat_share(&self, d: &Drive) -> f64 {
        match d.heat.answer {
            Answer::None => 1.0,
            Answer::Hysteresis { share, .. } => {
                if self.light {
                    share
                } else {
                    1.0
                }
            }
            Answer::Stages { light, heavy } => {
                if self.heavy {
                    heavy.2
                } else if self.light {
                    light.2
                } else {
                    1.0
                }
            }
            Answer::Held { .. } => self.held,
        }
    }

    fn swung(&mut self, d: &Drive, seconds: f64, dice: &mut Dice) -> f64 {
        let Some(s) = d.swing.filter(|s| self.level >= s.from_level) else { return 1.0 };
        self.swing_left -= seconds;
        if self.swing_left <= 0.0 {
            self.swing_high = !self.swing_high;
            let length = if self.swing_high { s.high_s } else { s.low_s };
            self.swing_left += length * (1.0 + s.jitter * dice.normal()).clamp(0.2, 3.0);
        }
        // The mean over a period is one.
        let whole = s.high_s + s.low_s;
        if self.swing_high {
            1.0 + 2.0 * s.depth * s.low_s / whole
        } else {
            1.0 - 2.0 * s.depth * s.high_s / whole
        }
    }

    fn chores(&mut self, d: &Drive, seconds: f64, dice: &mut Dice) -> f64 {
        let Some(c) = d.chores else { return 1.0 };
        if self.chore_left > 0.0 {
            self.chore_left -= seconds;
            return c.share;
        }
        self.chore_next -= seconds;
        if self.chore_next <= 0.0 {
            self.chore_next = (c.every_s - c.lasts_s) * (1.0 + c.jitter * dice.normal()).clamp(0.3, 2.0);
            self.chore_left = c.lasts_s * (1.0 + c.jitter * dice.normal()).clamp(0.3, 2.0);
        }
        1.0
    }

    /// Writes as fast as it can for so long; noise multiplies the rate.
    pub fn work(&mut self, d: &Drive, seconds: f64, noise: f64, drift: f64, dice: &mut Dice) -> Moment {
        let stage = d.stages[self.level];
        let next = d.stages.get(self.level + 1);
        let mut rate = stage.rate;
        let mut ended = None;
        if let (Some(into), Some(next)) = (self.ramp, next) {
            let share = (into / stage.ramp_s).min(1.0);
            rate += (next.rate - stage.rate) * share;
        }
        let swing = self.swung(d, seconds, dice);
        let chore = self.chores(d, seconds, dice);
        rate *= swing * chore * self.heat_share(d) * noise * (1.0 - d.slope * drift);
        let mut bytes = rate * seconds;
        match self.ramp {
            None => {
                if let Some(next) = next.filter(|_| self.in_level + bytes >= stage.size) {
                    // Within the piece: the rest of it at the next level's rate.
                    let part = ((stage.size - self.in_level) / bytes.max(1.0)).clamp(0.0, 1.0);
                    if stage.ramp_s > 0.0 {
                        self.ramp = Some(0.0);
                        self.in_level = stage.size;
                    } else {
                        let first = bytes * part;
                        bytes = first + bytes * (1.0 - part) * next.rate / stage.rate;
                        ended = Some((part * seconds, first));
                        self.level += 1;
                        self.in_level = bytes - first;
                    }
                } else {
                    self.in_level += bytes;
                }
            }
            Some(into) => {
                let later = into + seconds;
                if into < 0.5 * stage.ramp_s && later >= 0.5 * stage.ramp_s {
                    ended = Some((seconds, bytes));
                }
                self.ramp = Some(later);
                if later >= stage.ramp_s {
                    (self.ramp, self.in_level) = (None, 0.0);
                    self.level += 1;
                }
            }
        }
        let throttled = self.heat_share(d) < 0.97;
        self.warm(d, bytes / seconds / d.stages[0].rate, seconds);
        self.clock += seconds;
        Moment { bytes, ended, throttled, chore: chore < 1.0 }
    }
}
