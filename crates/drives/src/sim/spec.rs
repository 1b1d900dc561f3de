//! Simulated drives as files: what a drive is made of, and the truth that follows from it.

use std::time::Duration;

use hollow_mile_core::drive::zones::{ZoneCondition, ZoneFacts, ZoneModel};
use hollow_mile_core::drive::{DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::plain;
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate};
use hollow_mile_core::route::line_and_column;
use serde::{Deserialize, Serialize};

/// A part of a flash drive's write path: so many bytes at this rate. The last level has no size.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FlashLevel {
    /// Write rate while this level absorbs.
    #[serde(with = "plain")]
    pub rate: Rate,
    /// Bytes that it absorbs on an empty drive; missing on the last level.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub size: Option<Bytes>,
    /// The size shrinks in proportion as the drive fills.
    #[serde(default)]
    pub shrinks: bool,
}

/// Flash: levels of write cache, and how they come back.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Flash {
    /// From the first to fill to the one that never does.
    pub level: Vec<FlashLevel>,
    /// Read rate.
    #[serde(with = "plain")]
    pub read: Rate,
    /// Cache freed per second of rest.
    #[serde(with = "plain")]
    pub recover: Rate,
    /// Stretches that read and write slower than the rest.
    #[serde(default)]
    pub zone: Vec<WeakZone>,
}

/// A stretch of the drive that is slower than it should be.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct WeakZone {
    /// First byte.
    #[serde(with = "plain")]
    pub from: Bytes,
    /// One past the last byte.
    #[serde(with = "plain")]
    pub to: Bytes,
    /// What is left of the rate, 0 to 1.
    pub factor: f64,
}

/// Platters: fast outer tracks, slow inner ones.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Platters {
    /// Rate at the first address.
    #[serde(with = "plain")]
    pub outer: Rate,
    /// Rate at the last address.
    #[serde(with = "plain")]
    pub inner: Rate,
    /// Turns a minute.
    #[serde(default = "usual_turns")]
    pub turns_per_minute: f64,
    /// Time of a seek to the next track.
    #[serde(default = "usual_step", with = "plain")]
    pub seek_step: Duration,
    /// Time of a seek over the whole stroke.
    #[serde(default = "usual_stroke", with = "plain")]
    pub seek_stroke: Duration,
    /// Weak stretches.
    #[serde(default)]
    pub zone: Vec<WeakZone>,
}

const fn usual_turns() -> f64 {
    7200.0
}

const fn usual_step() -> Duration {
    Duration::from_micros(800)
}

const fn usual_stroke() -> Duration {
    Duration::from_millis(17)
}

/// Addresses that cannot be read until they are written again.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BadStretch {
    /// First byte.
    #[serde(with = "plain")]
    pub from: Bytes,
    /// One past the last.
    #[serde(with = "plain")]
    pub to: Bytes,
}

/// Zones that take writes in sequence.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Zones {
    /// Who minds the order of writes.
    pub model: ZoneModel,
    /// Bytes of each.
    #[serde(with = "plain")]
    pub size: Bytes,
    /// Zones that may be open at once.
    #[serde(default)]
    pub most_open: u32,
    /// So many at the start take any write.
    #[serde(default)]
    pub conventional: u32,
}

impl Zones {
    /// As the drive tells of them, with so many bytes written from its start on.
    fn facts(&self, capacity: Bytes, written: Bytes) -> ZoneFacts {
        let size = self.size.get().max(1);
        let count = capacity.get() / size;
        let first = u64::from(self.conventional).min(count);
        let behind = written.get().saturating_sub(first * size);
        let full = (behind / size).min(count - first);
        let open = u64::from(full < count - first && !behind.is_multiple_of(size));
        let runs = [
            (first, ZoneCondition::Conventional),
            (full, ZoneCondition::Full),
            (open, ZoneCondition::Closed),
            (count - first - full - open, ZoneCondition::Empty),
        ];
        let few = |n: u64| u32::try_from(n).unwrap_or(u32::MAX);
        ZoneFacts {
            model: self.model,
            size: self.size,
            capacity: self.size,
            count: few(count),
            most_open: self.most_open,
            most_active: 0,
            map: runs.into_iter().filter(|r| r.0 > 0).map(|(n, c)| (few(n), c)).collect(),
            written: Some(Bytes::new(behind.min((count - first) * size))),
        }
    }
}

/// What is wrong with the drive.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Faults {
    /// It holds no more than this, whatever it says: addresses wrap round.
    #[serde(with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub holds: Option<Bytes>,
    /// It acknowledges one write of 1 MiB in so many and forgets it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loses_one_in: Option<u64>,
    /// It damages one write of 1 MiB in so many.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub corrupts_one_in: Option<u64>,
    /// It is gone after so long under power.
    #[serde(with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub vanishes_after: Option<Duration>,
    /// Pending sectors.
    pub bad: Vec<BadStretch>,
}

impl Faults {
    /// In words; `None` of a sound drive.
    #[must_use]
    pub fn words(&self) -> Option<String> {
        let mut all = Vec::new();
        all.extend(self.holds.map(|h| format!("holds {h} only")));
        all.extend(self.loses_one_in.map(|n| format!("forgets one write in {n}")));
        all.extend(self.corrupts_one_in.map(|n| format!("damages one write in {n}")));
        all.extend(self.vanishes_after.map(|d| format!("vanishes after {}", plain::Plain::plain(&d))));
        if !self.bad.is_empty() {
            all.push(format!("cannot read {} stretches", self.bad.len()));
        }
        (!all.is_empty()).then(|| all.join(", "))
    }
}

/// Random unevenness.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Noise {
    /// Standard deviation of the logarithm of the rate from one interval to another.
    pub sigma: f64,
    /// The same in the last level of a flash drive.
    pub sigma_slow: f64,
    /// Share of an interval's deviation that the next one inherits, 0 to 1.
    pub correlation: f64,
    /// Mean time between stalls; missing for none.
    #[serde(with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub stall_every: Option<Duration>,
    /// Length of a stall.
    #[serde(with = "plain")]
    pub stall: Duration,
}

impl Default for Noise {
    fn default() -> Self {
        Self {
            sigma: 0.01,
            sigma_slow: 0.03,
            correlation: 0.2,
            stall_every: None,
            stall: Duration::from_millis(400),
        }
    }
}

/// One way to cool the drive.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Cooling {
    /// As given with `--cooling`.
    pub name: String,
    /// Kelvin above ambient per watt.
    pub resistance: f64,
    /// Time constant.
    #[serde(with = "plain")]
    pub tau: Duration,
}

/// First-order heat: dT/dt = (ambient + R·P − T)/τ with P = idle + k·rate.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Heat {
    /// Watts at rest.
    pub idle_watts: f64,
    /// Watts more per GB/s.
    pub watts_per_gb_s: f64,
    /// Air around the drive when the haul does not state it.
    #[serde(default = "room", with = "plain")]
    pub ambient: Celsius,
    /// Above this the drive slows; missing for one that never does.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub throttle: Option<Celsius>,
    /// Below this it is fast again.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub resume: Option<Celsius>,
    /// What is left of the rate while throttled, 0 to 1.
    #[serde(default = "half")]
    pub factor: f64,
    /// A meter stands beside it and tells what it draws.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub metered: bool,
    /// Ways to cool it; the first is how it comes.
    pub cooling: Vec<Cooling>,
}

fn room() -> Celsius {
    Celsius::new(24.0)
}

const fn half() -> f64 {
    0.5
}

/// What the drive went through before.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Wear {
    /// Bytes written by the host over its life.
    #[serde(with = "plain")]
    pub host_written: Bytes,
    /// Hours under power.
    pub power_on_hours: u64,
    /// It counts what it writes to its media: what hosts write, and what it moves out of its cache at rest.
    pub counts_media: bool,
    /// Share of addresses that hold data, 0 to 100.
    pub fill_percent: f64,
}

/// A simulated drive.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SimSpec {
    /// Short name: `sim:NAME`.
    pub name: String,
    /// What it is for.
    #[serde(default)]
    pub about: String,
    /// Model, as a drive would say it.
    pub model: String,
    /// Serial number.
    pub serial: String,
    /// Firmware revision.
    #[serde(default)]
    pub firmware: String,
    /// Addressable bytes.
    #[serde(with = "plain")]
    pub capacity: Bytes,
    /// Logical block.
    #[serde(default = "default_block", with = "plain")]
    pub block: Bytes,
    /// All its randomness comes from this.
    pub seed: u64,
    /// Rated endurance.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub rated_writes: Option<Bytes>,
    /// Connection.
    #[serde(default)]
    pub link: Option<Link>,
    /// Flash, or else platters.
    #[serde(default)]
    pub flash: Option<Flash>,
    /// Platters, or else flash.
    #[serde(default)]
    pub platters: Option<Platters>,
    /// Zones, where it has such.
    #[serde(default)]
    pub zones: Option<Zones>,
    /// Unevenness.
    #[serde(default)]
    pub noise: Noise,
    /// Heat.
    pub heat: Heat,
    /// What is wrong with it.
    #[serde(default)]
    pub fault: Faults,
    /// History.
    #[serde(default)]
    pub wear: Wear,
    /// The machine and the file system for files on it.
    #[serde(default)]
    pub host: super::Host,
}

const fn default_block() -> Bytes {
    Bytes::new(512)
}

/// A stretch that is slow in truth.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct TruthZone {
    /// First byte.
    pub position_bytes: u64,
    /// One past the last byte.
    pub position_end_bytes: u64,
}

impl TruthZone {
    const fn of(from: Bytes, to: Bytes) -> Self {
        Self { position_bytes: from.get(), position_end_bytes: to.get() }
    }
}

/// What an analysis should find on the drive when it is fresh.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Truth {
    /// Bytes written since rest at which each level but the last is used up.
    pub cache_end_bytes: Vec<u64>,
    /// Write rate of each level, MB/s.
    pub level_mb_s: Vec<f64>,
    /// Above this it slows, °C.
    pub throttle_c: Option<f64>,
    /// Slow stretches.
    pub zones: Vec<TruthZone>,
    /// What it holds in truth, when that is less than it says.
    pub holds_bytes: Option<u64>,
    /// Addresses that cannot be read.
    pub bad: Vec<TruthZone>,
}

impl SimSpec {
    /// Reads a simulated drive from the text of its file and checks it.
    ///
    /// # Errors
    /// The first fault in a sentence, with line and column where it has one.
    pub fn from_toml(text: &str) -> Result<Self, String> {
        let spec: Self = toml::from_str(text).map_err(|e| {
            let (line, column) = line_and_column(text, e.span().map_or(0, |s| s.start));
            format!("line {line}, column {column}: {}", e.message().replace('\n', " "))
        })?;
        spec.check()?;
        Ok(spec)
    }

    fn check(&self) -> Result<(), String> {
        let unit = |v: f64, what: &str| {
            if (0.0..=1.0).contains(&v) {
                Ok(())
            } else {
                Err(format!("{what} must lie between 0 and 1, not at {v}"))
            }
        };
        let positive = |v: f64, what: &str| {
            if v > 0.0 && v.is_finite() { Ok(()) } else { Err(format!("{what} must be above zero, not {v}")) }
        };
        if self.name.is_empty() || !self.name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-') {
            return Err("name may hold letters, digits and '-' only".into());
        }
        let block = self.block.get();
        if !(512..=1 << 20).contains(&block) || !block.is_power_of_two() {
            return Err("block must be a power of two from 512 B to 1 MiB".into());
        }
        if self.capacity.get() < 1 << 20 || !self.capacity.get().is_multiple_of(block) {
            return Err(format!(
                "capacity must be at least 1 MiB and a multiple of its block, {}",
                self.block.binary()
            ));
        }
        if let Some(z) = &self.zones
            && (z.size.get() == 0 || z.size > self.capacity || !z.size.get().is_multiple_of(block))
        {
            return Err(
                "zones.size must be a multiple of the block, above zero and no more than the capacity".into(),
            );
        }
        match (&self.flash, &self.platters) {
            (Some(flash), None) => {
                let Some((last, before)) = flash.level.split_last() else {
                    return Err("flash needs at least one [[flash.level]]".into());
                };
                if last.size.is_some() || before.iter().any(|l| l.size.is_none()) {
                    return Err(
                        "every [[flash.level]] but the last needs a size, and the last has none".into()
                    );
                }
                for level in &flash.level {
                    positive(level.rate.get(), "flash.level.rate")?;
                }
                positive(flash.read.get(), "flash.read")?;
                self.check_zones(&flash.zone, "flash.zone")?;
            }
            (None, Some(p)) => {
                positive(p.outer.get(), "platters.outer")?;
                positive(p.inner.get(), "platters.inner")?;
                positive(p.turns_per_minute, "platters.turns_per_minute")?;
                self.check_zones(&p.zone, "platters.zone")?;
            }
            _ => return Err("a drive has either [flash] or [platters]".into()),
        }
        let fault = &self.fault;
        if fault.bad.iter().any(|b| b.from >= b.to || b.to > self.capacity) {
            return Err("a fault.bad must begin before it ends and lie on the drive".into());
        }
        if fault.holds.is_some_and(|h| h.get() < 1 << 20 || h > self.capacity) {
            return Err("fault.holds must lie between 1 MiB and the capacity".into());
        }
        if fault.loses_one_in == Some(0) || fault.corrupts_one_in == Some(0) {
            return Err("fault.loses_one_in and fault.corrupts_one_in must be at least 1".into());
        }
        unit(self.noise.correlation, "noise.correlation")?;
        unit(self.noise.sigma, "noise.sigma")?;
        unit(self.noise.sigma_slow, "noise.sigma_slow")?;
        positive(self.heat.factor, "heat.factor")?;
        unit(self.heat.factor, "heat.factor")?;
        positive(self.host.copy.get(), "host.copy")?;
        unit(self.host.sigma, "host.sigma")?;
        if self.host.memory.get() < 1 << 20 {
            return Err("host.memory must be at least 1 MiB".into());
        }
        if self.heat.cooling.is_empty() {
            return Err("heat needs at least one [[heat.cooling]]".into());
        }
        for c in &self.heat.cooling {
            positive(c.resistance, "heat.cooling.resistance")?;
            positive(c.tau.as_secs_f64(), "heat.cooling.tau")?;
        }
        if self.heat.resume.zip(self.heat.throttle).is_some_and(|(r, t)| r >= t) {
            return Err("heat.resume must lie below heat.throttle".into());
        }
        unit(self.wear.fill_percent / 100.0, "wear.fill_percent / 100")
    }

    fn check_zones(&self, zones: &[WeakZone], what: &str) -> Result<(), String> {
        for zone in zones {
            if zone.factor.is_nan() || zone.factor <= 0.0 || zone.factor > 1.0 {
                return Err(format!(
                    "{what}.factor must lie above 0 and at most at 1, not at {}",
                    zone.factor
                ));
            }
            if zone.from >= zone.to || zone.to > self.capacity {
                return Err(format!("a {what} must begin before it ends and lie on the drive"));
            }
        }
        Ok(())
    }

    /// Stretches that are slower than the rest.
    #[must_use]
    pub fn zones(&self) -> &[WeakZone] {
        match (&self.flash, &self.platters) {
            (Some(flash), _) => &flash.zone,
            (None, Some(platters)) => &platters.zone,
            (None, None) => &[],
        }
    }

    /// What it is made of decides what should be found.
    #[must_use]
    pub fn truth(&self) -> Truth {
        let levels = self.flash.as_ref().map_or(&[][..], |f| &f.level);
        let fill = self.wear.fill_percent / 100.0;
        let mut sum = 0;
        let cache_end_bytes = levels
            .iter()
            .filter_map(|l| l.size.map(|s| if l.shrinks { s.share(1.0 - fill) } else { s }))
            .map(|s| {
                sum += s.get();
                sum
            })
            .collect();
        Truth {
            cache_end_bytes,
            level_mb_s: levels.iter().map(|l| l.rate.mb_s()).collect(),
            throttle_c: self.heat.throttle.map(Celsius::degrees),
            zones: self.zones().iter().map(|z| TruthZone::of(z.from, z.to)).collect(),
            holds_bytes: self.fault.holds.map(Bytes::get),
            bad: self.fault.bad.iter().map(|b| TruthZone::of(b.from, b.to)).collect(),
        }
    }

    /// Who the drive says it is.
    #[must_use]
    pub fn identity(&self, target: &str) -> DriveIdentity {
        DriveIdentity {
            target: target.to_owned(),
            kind: DriveKind::Simulated,
            model: self.model.clone(),
            serial: self.serial.clone(),
            firmware: self.firmware.clone(),
            capacity: self.capacity,
            block: self.block,
            rotational: self.platters.is_some(),
            link: self.link.clone(),
            throttle_limit: self.heat.throttle,
            rated_writes: self.rated_writes,
            fill_percent: Some(self.wear.fill_percent),
            device: None,
            zones: self.zones.as_ref().map(|z| z.facts(self.capacity, self.written())),
            members: Vec::new(),
        }
    }

    fn written(&self) -> Bytes {
        self.capacity.share(self.wear.fill_percent / 100.0)
    }
}

/// The simulated drives that ship with the program, by name.
pub const SHIPPED: [(&str, &str); 11] = [
    ("corrie-2t", include_str!("../../sims/corrie-2t.toml")),
    ("ptarmigan-4t", include_str!("../../sims/ptarmigan-4t.toml")),
    ("moraine-1t", include_str!("../../sims/moraine-1t.toml")),
    ("skerry-8t", include_str!("../../sims/skerry-8t.toml")),
    ("gannet-256", include_str!("../../sims/gannet-256.toml")),
    ("corrie-1t", include_str!("../../sims/corrie-1t.toml")),
    ("skerry-4t", include_str!("../../sims/skerry-4t.toml")),
    ("moraine-2t", include_str!("../../sims/moraine-2t.toml")),
    ("ptarmigan-1t", include_str!("../../sims/ptarmigan-1t.toml")),
    ("gannet-64", include_str!("../../sims/gannet-64.toml")),
    ("strath-4t", include_str!("../../sims/strath-4t.toml")),
];

/// A shipped simulated drive by its name.
#[must_use]
pub fn shipped(name: &str) -> Option<SimSpec> {
    SHIPPED.iter().find(|(n, _)| *n == name).and_then(|(_, text)| SimSpec::from_toml(text).ok())
}
