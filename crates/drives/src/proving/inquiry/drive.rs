//! Drives whose record alone does not tell why they fall: in continuous time, with physics of their own that share no line with the
//! simulated drives or the analysis. Two bodies of heat, caches that drain when left alone, folding that slows reads for a while, limits of
//! the machine by bytes or by operations.

use std::time::Duration;

use hollow_mile_core::drive::{
    Asking, Drive, DriveError, DriveIdentity, DriveKind, Ending, Load, LoadKind, LoadSummary, Pattern, Tally,
    Vitals,
};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::quantity::units::{Bytes, Celsius};
use rand::SeedableRng;
use rand_xoshiro::Xoshiro256PlusPlus;

use super::super::Dice;

/// A step of the physics, s.
const DT: f64 = 0.02;

/// What a drive does about its heat.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Control {
    Never,
    /// Down to a share at the limit, up again so much below it.
    Steps(f64, f64),
    /// As slow as it must be to stay at the limit, no slower than a share.
    Holds(f64),
}

/// What limits the machine.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Host {
    Free,
    /// From a moment on no more than so many bytes a second, both ways.
    Bytes(f64, f64),
    /// From a moment on no more than so many operations a second.
    Operations(f64, f64),
    /// From a moment on no more than so many bytes a second by each worker: what one processor copies. Where it has only what is written to
    /// look through, reads are as fast as ever.
    Worker(f64, f64, Ways),
    /// From a moment on each look at its health costs so much of the time.
    Asked(f64, f64),
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Ways {
    Both,
    Writes,
}

/// What a drive is made of.
#[derive(Debug, Clone)]
struct Plan {
    capacity: f64,
    fast: f64,
    slow: f64,
    read: f64,
    cache: f64,
    /// Bytes a second that leave the cache when the drive is left alone.
    drain: f64,
    /// Left alone for so long, it begins to.
    drains_after: f64,
    /// While it folds, reads are slower by this.
    folding: f64,
    zone: Option<(f64, f64, f64)>,
    /// After so many bytes it is busy with itself for so many seconds, with what it leaves of the rate.
    tidies: Option<(f64, f64, f64)>,
    host: Host,
    control: Control,
    limit: f64,
    air: f64,
    /// Kelvin of the chip over the case and of the case over the air, at full rate.
    rise: (f64, f64),
    tau: (f64, f64),
    /// Heat slows reads by another share than writes.
    reads_differ: f64,
    sigma: f64,
    tied: f64,
    /// Amplitude and period of what swings once the cache is full.
    swing: (f64, f64),
    sensor: Option<f64>,
    stated: bool,
    /// It writes what compresses in less of its flash.
    compresses: bool,
}

/// A drive with a known truth.
pub struct Stand {
    plan: Plan,
    dice: Dice,
    identity: DriveIdentity,
    load: Load,
    asking: Asking,
    moved: f64,
    position: f64,
    cached: f64,
    idle: f64,
    age: f64,
    chip: f64,
    case: f64,
    hot: bool,
    held: f64,
    /// Bytes written since it last tidied up, and until when it does.
    untidy: f64,
    tidies_until: f64,
    noise: f64,
    reading: f64,
    read_at: f64,
    /// Causes of the first fall that lasts, with what each takes, as logarithms, and when.
    pub truth: Option<(f64, Vec<(FindingKind, f64)>)>,
    /// While it writes, four times a second: when, and what each cause leaves of the rate.
    history: Vec<(f64, [(FindingKind, f64); 5])>,
    began_low: Option<f64>,
}

/// What is the matter with a drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Riddle {
    /// A cache ends while the drive is at a temperature that others throttle at.
    CacheAtTheLimit,
    /// Heat, with no limit stated.
    Heat,
    /// Heat, with no thermometer.
    HeatUnseen,
    /// A slow stretch.
    Place,
    /// The machine's limit, from a moment on.
    Host,
    /// It stands still while it is asked for its health, from a moment on.
    Ours,
    /// A cache ends where a slow stretch begins.
    CacheAndPlace,
    /// A cache ends as the drive gets too hot.
    CacheAndHeat,
    /// It tidies up now and then.
    Passing,
    /// Nothing.
    Nothing,
}

impl Riddle {
    /// Each of them.
    pub const ALL: [Self; 10] = [
        Self::CacheAtTheLimit,
        Self::Heat,
        Self::HeatUnseen,
        Self::Place,
        Self::Host,
        Self::Ours,
        Self::CacheAndPlace,
        Self::CacheAndHeat,
        Self::Passing,
        Self::Nothing,
    ];

    /// As printed.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::CacheAtTheLimit => "cache at the limit",
            Self::Heat => "heat, no limit stated",
            Self::HeatUnseen => "heat, no thermometer",
            Self::Place => "slow stretch",
            Self::Host => "host",
            Self::Ours => "asked too often",
            Self::CacheAndPlace => "cache and stretch",
            Self::CacheAndHeat => "cache and heat",
            Self::Passing => "comes and goes",
            Self::Nothing => "nothing",
        }
    }
}

fn plan(riddle: Riddle, d: &mut Dice) -> Plan {
    let fast = d.log_within(500e6, 7000e6);
    let capacity = fast * d.within(2400.0, 4200.0);
    // When it falls, in seconds of full rate.
    let falls = d.within(150.0, 900.0);
    let has_cache = matches!(riddle, Riddle::CacheAtTheLimit | Riddle::CacheAndPlace | Riddle::CacheAndHeat);
    let is_hot = matches!(riddle, Riddle::Heat | Riddle::HeatUnseen | Riddle::CacheAndHeat);
    let has_zone = matches!(riddle, Riddle::Place | Riddle::CacheAndPlace);
    let limit = d.within(65.0, 88.0);
    let tau = (d.within(4.0, 15.0), d.within(50.0, 220.0));
    let air = d.within(20.0, 38.0);
    // The chip is warmer than the case by a part of the rise. At the fall it reaches the limit, where it shall.
    let warm = 1.0 - (-falls / tau.1).exp();
    let wanted = if is_hot { limit - air } else { d.within(0.5, 0.97) * (limit - air) };
    let chip_share = d.within(0.15, 0.35);
    let whole = wanted / (chip_share + (1.0 - chip_share) * warm);
    let control = match (is_hot, d.chance(0.6)) {
        (false, _) => Control::Never,
        (true, true) => Control::Steps(d.within(0.25, 0.65), d.within(3.0, 9.0)),
        (true, false) => Control::Holds(d.within(0.15, 0.5)),
    };
    let sensor = match riddle {
        Riddle::HeatUnseen => None,
        _ if d.chance(0.3) => None,
        _ if d.chance(0.15) => Some(5.0),
        _ => Some(1.0),
    };
    let zone_from =
        fast * (falls + if riddle == Riddle::CacheAndPlace { 0.0 } else { d.within(-10.0, 10.0) });
    let is_host = matches!(riddle, Riddle::Host | Riddle::Ours);
    let host_at = if is_host { falls } else { f64::INFINITY };
    let host_share = d.within(0.3, 0.75);
    Plan {
        capacity,
        fast,
        slow: fast * d.log_within(0.15, 0.7),
        read: fast * d.within(1.0, 1.6),
        cache: if has_cache { fast * falls } else { f64::INFINITY },
        drain: fast * d.log_within(0.02, 0.5),
        drains_after: d.within(0.3, 20.0),
        folding: if d.chance(0.3) { d.within(0.8, 0.97) } else { 1.0 },
        zone: has_zone.then(|| (zone_from, zone_from + capacity * d.within(0.04, 0.15), d.within(0.3, 0.75))),
        tidies: (riddle == Riddle::Passing)
            .then(|| (fast * d.within(8.0, 60.0), d.within(6.0, 25.0), d.within(0.2, 0.65))),
        host: match (riddle, d.chance(0.5)) {
            // Drawn from what is drawn already: the other drives stay as they were.
            (Riddle::Host, true) if ((host_share * 1e6) as u64).is_multiple_of(2) => {
                let writes = ((host_share * 1e7) as u64).is_multiple_of(2);
                Host::Worker(host_at, fast * host_share, if writes { Ways::Writes } else { Ways::Both })
            }
            (Riddle::Host, true) => Host::Bytes(host_at, fast * host_share),
            (Riddle::Host, false) => Host::Operations(host_at, fast * host_share / 1_048_576.0),
            (Riddle::Ours, _) => Host::Asked(host_at, 0.15 + 0.4 * (host_share - 0.3)),
            _ => Host::Free,
        },
        control,
        limit,
        air,
        rise: (chip_share * whole, (1.0 - chip_share) * whole),
        tau,
        reads_differ: if d.chance(0.15) { d.within(0.7, 1.3) } else { 1.0 },
        sigma: d.log_within(0.004, 0.06),
        tied: d.within(0.0, 0.9),
        swing: if d.chance(0.3) { (d.within(0.02, 0.12), d.within(1.0, 12.0)) } else { (0.0, 1.0) },
        sensor,
        stated: riddle == Riddle::CacheAtTheLimit && d.chance(0.5),
        compresses: ((host_share * 1e8) as u64).is_multiple_of(10),
    }
}

impl Stand {
    /// A drive with this to find out.
    #[must_use]
    pub fn new(riddle: Riddle, seed: u64) -> Self {
        let mut dice = Dice(Xoshiro256PlusPlus::seed_from_u64(seed));
        let plan = plan(riddle, &mut dice);
        let mut identity = DriveIdentity::plain(
            "stand",
            DriveKind::Simulated,
            Bytes::new((plan.capacity / 1e6) as u64 * 1_000_000),
        );
        identity.block = Bytes::new(512);
        identity.throttle_limit = plan.stated.then(|| Celsius::new(plan.limit.round()));
        let air = plan.air + 4.0;
        Self {
            identity,
            dice,
            load: Load::rest(),
            asking: Asking::Usual,
            moved: 0.0,
            position: 0.0,
            cached: 0.0,
            idle: 0.0,
            age: 0.0,
            chip: air,
            case: air,
            hot: false,
            held: 1.0,
            untidy: 0.0,
            tidies_until: 0.0,
            noise: 0.0,
            reading: air,
            read_at: -9.0,
            truth: None,
            history: Vec::new(),
            began_low: None,
            plan,
        }
    }

    /// What heat leaves of the rate.
    fn left_by_heat(&self) -> f64 {
        match self.plan.control {
            Control::Never => 1.0,
            Control::Steps(share, _) => {
                if self.hot {
                    share
                } else {
                    1.0
                }
            }
            Control::Holds(_) => self.held,
        }
    }

    /// What each cause took of the full rate in three seconds from a moment on, as logarithms; those that took something.
    #[must_use]
    pub fn took(&self, from: f64) -> Vec<(FindingKind, f64)> {
        let near = |t: f64| self.history.partition_point(|h| h.0 < t).min(self.history.len().max(1) - 1);
        if self.history.is_empty() {
            return Vec::new();
        }
        let part = &self.history[near(from)..=near(from + 3.0)];
        let n = part.len() as f64;
        let mut sums = part[0].1.map(|f| (f.0, 0.0));
        part.iter().for_each(|h| sums.iter_mut().zip(h.1).for_each(|(s, f)| s.1 -= f.1.ln() / n));
        sums.into_iter().filter(|f| f.1 > 0.05).collect()
    }

    fn reads(&self) -> bool {
        self.load.kind == LoadKind::Read
    }

    /// What of the bytes of the load comes to the flash.
    fn kept(&self) -> f64 {
        let squeezed = f64::from(self.load.compressible_percent) / 100.0;
        if self.plan.compresses && !self.reads() { 1.0 - squeezed } else { 1.0 }
    }

    /// Factors of the rate by cause, now and here.
    fn factors(&self) -> [(FindingKind, f64); 5] {
        let p = &self.plan;
        let full = self.cached >= p.cache;
        let cache = if full && !self.reads() { p.slow / p.fast } else { 1.0 };
        let inside = p.zone.filter(|z| (z.0..z.1).contains(&self.position));
        let heat = self.left_by_heat();
        let heat = if self.reads() && heat < 1.0 { heat.powf(p.reads_differ) } else { heat };
        let bare = if self.reads() { p.read } else { p.fast } * cache * heat * inside.map_or(1.0, |z| z.2);
        let bare = bare / self.kept();
        let tidying = p.tidies.filter(|_| self.age < self.tidies_until).map_or(1.0, |t| t.2);
        let most = match p.host {
            Host::Bytes(from, rate) if self.age >= from => rate,
            Host::Operations(from, rate) if self.age >= from => rate * self.load.block.as_f64(),
            Host::Worker(from, rate, ways) if self.age >= from && (ways == Ways::Both || !self.reads()) => {
                rate * f64::from(self.load.workers)
            }
            Host::Asked(from, share) if self.age >= from => match self.asking {
                Asking::HeldOff => f64::INFINITY,
                Asking::Usual => bare * (1.0 - share),
                Asking::Twice => bare * (1.0 - 2.0 * share),
            },
            _ => f64::INFINITY,
        };
        [
            (FindingKind::CacheEnd, cache),
            (FindingKind::Throttle, heat),
            (FindingKind::SlowZone, inside.map_or(1.0, |z| z.2)),
            (FindingKind::HostLimit, (most / bare).min(1.0)),
            (FindingKind::Background, tidying),
        ]
    }

    /// Lets a moment pass; gives the bytes moved.
    fn pass(&mut self, dt: f64) -> f64 {
        let moves = matches!(self.load.kind, LoadKind::Write | LoadKind::Read);
        let p = self.plan.clone();
        self.noise = p.tied * self.noise + (1.0 - p.tied * p.tied).sqrt() * self.dice.normal();
        let mut bytes = 0.0;
        if moves {
            let factors = self.factors();
            let share: f64 = factors.iter().map(|f| f.1).product();
            let mut rate = if self.reads() { p.read } else { p.fast } / self.kept() * share;
            let full = self.cached >= p.cache;
            if self.reads() && full && self.cached > 0.0 {
                rate *= p.folding;
            }
            if !self.reads() && full {
                rate *= 1.0 + p.swing.0 * (std::f64::consts::TAU * self.age / p.swing.1).sin();
            }
            bytes = rate * (self.noise * p.sigma).exp() * dt;
            bytes = self.load.rate.map_or(bytes, |r| bytes.min(r.get() * dt));
            if !self.reads() && self.history.last().is_none_or(|h| self.age - h.0 >= 0.25) {
                self.history.push((self.age, factors));
            }
            if !self.reads() && share < 0.85 {
                let since = *self.began_low.get_or_insert(self.age);
                if self.truth.is_none() && self.age - since > 3.0 {
                    let took = |f: &(FindingKind, f64)| (f.0, -f.1.ln());
                    let all: Vec<(FindingKind, f64)> =
                        self.factors().iter().map(took).filter(|f| f.1 > 0.05).collect();
                    self.truth = Some((since, all));
                }
            } else if !self.reads() {
                self.began_low = None;
            }
            if self.load.kind == LoadKind::Write {
                self.cached = (self.cached + bytes * self.kept()).min(p.cache.min(1e18));
                // The first time comes late, and then each after as many bytes.
                self.untidy += bytes;
                if let Some((every, lasts, _)) = p.tidies
                    && self.age > 120.0
                    && self.age > self.tidies_until
                    && self.untidy > every
                {
                    self.untidy = 0.0;
                    self.tidies_until = self.age + lasts * self.dice.within(0.8, 1.2);
                }
            }
            self.idle = 0.0;
            let (start, end) = (self.load.start.as_f64(), self.load.end.as_f64());
            if self.load.pattern == Pattern::Backward {
                self.position -= bytes;
                if self.position <= start {
                    self.position = end;
                }
            } else {
                self.position += bytes;
                if self.position >= end {
                    self.position = start;
                }
            }
        } else {
            self.idle += dt;
            if self.idle > p.drains_after {
                self.cached = (self.cached - p.drain * dt).max(0.0);
            }
        }
        // Reads warm a drive a little less than writes of the same rate.
        let work = bytes * self.kept() / dt / p.fast * if self.reads() { 0.8 } else { 1.0 };
        let case = p.air + 4.0 + p.rise.1 * work;
        self.case += (case - self.case) * dt / p.tau.1;
        let chip = self.case + p.rise.0 * work;
        self.chip += (chip - self.chip) * dt / p.tau.0;
        match p.control {
            Control::Never => {}
            Control::Steps(_, below) => {
                self.hot = if self.hot { self.chip > p.limit - below } else { self.chip >= p.limit };
            }
            Control::Holds(least) => {
                let wanted = (1.0 - 0.4 * (self.chip - p.limit + 1.0)).clamp(least, 1.0);
                self.held += (wanted - self.held) * (dt / 3.0);
            }
        }
        self.age += dt;
        bytes
    }
}

impl Drive for Stand {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }
    fn engine(&self) -> String {
        "made".into()
    }
    fn ask_health(&mut self, how: Asking) -> bool {
        self.asking = how;
        true
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        let (start, end) = (load.start.as_f64(), load.end.as_f64());
        if let Some(from) = load.from {
            self.position = from.as_f64();
        } else if load.kind.moves() && !(start..end).contains(&self.position) {
            self.position = start;
        }
        self.load = load.clone();
        self.moved = 0.0;
        Ok(())
    }
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        let steps = (interval.as_secs_f64() / DT).round().max(1.0);
        let dt = interval.as_secs_f64() / steps;
        let bytes: f64 = (0..steps as u32).map(|_| self.pass(dt)).sum();
        let before = self.moved.round();
        self.moved += bytes;
        let bytes = Bytes::new((self.moved.round() - before) as u64);
        if self.age - self.read_at >= 0.999 {
            self.read_at = self.age;
            let step = self.plan.sensor.unwrap_or(1.0);
            self.reading = (self.chip / step).round() * step;
        }
        let reads = self.reads();
        let moves = self.load.kind.moves();
        Ok(Tally {
            took: interval,
            written: if reads { Bytes::ZERO } else { bytes },
            read: if reads { bytes } else { Bytes::ZERO },
            position: (moves && self.load.pattern != Pattern::Random)
                .then(|| Bytes::new(self.position as u64)),
            temperature: self.plan.sensor.map(|_| Celsius::new(self.reading)),
            finished: self.load.limit.is_some_and(|l| self.moved >= l.as_f64()),
            ..Tally::default()
        })
    }
    fn finish(&mut self, _: Ending) -> Result<LoadSummary, DriveError> {
        Ok(LoadSummary::default())
    }
    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        Ok(LoadSummary::default())
    }
    fn vitals(&mut self) -> Option<Vitals> {
        None
    }
    fn is_simulated(&self) -> bool {
        true
    }
}
