//! Routes: what to do on a drive, as an ordered list of legs, in a TOML file.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::drive::{Load, LoadKind, Pattern};
use crate::plain::{self, Plain};
use crate::stamp::Origin;
use crate::units::{Bytes, Celsius, ParseUnitError, Rate};

/// Bytes as such, or as a share of the region: `"200 GB"`, `"80 %"`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Amount {
    /// So many bytes.
    Bytes(Bytes),
    /// So many percent of the region, in 0..=10,000 (more than 100 goes round again).
    Percent(f64),
}

impl Amount {
    /// In bytes, for a region of this size, rounded down to whole blocks of 512 B.
    #[must_use]
    pub fn of(self, region: Bytes) -> Bytes {
        match self {
            Self::Bytes(b) => b,
            Self::Percent(100.0) => region,
            Self::Percent(p) => Bytes::new((region.as_f64() * p / 100.0) as u64 / 512 * 512),
        }
    }
}

impl Plain for Amount {
    fn plain(&self) -> String {
        match self {
            Self::Bytes(b) => b.plain(),
            Self::Percent(p) => format!("{p} %"),
        }
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        if let Some(number) = text.trim().strip_suffix('%')
            && let Ok(p) = number.trim().parse::<f64>()
            && p > 0.0
            && p <= 10_000.0
        {
            return Ok(Self::Percent(p));
        }
        text.parse().map(Self::Bytes)
    }
}

/// What a leg does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LegKind {
    /// Nothing; the drive is watched while it cools and tidies up.
    Rest,
    /// Writes.
    Write,
    /// Reads.
    Read,
    /// Reads and writes at once.
    Mixed,
    /// Discards everything, and reads back whether it is gone.
    Wipe,
    /// The drive tests itself.
    Selftest,
}

impl LegKind {
    /// As in files and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Rest => "rest",
            Self::Write => "write",
            Self::Read => "read",
            Self::Mixed => "mixed",
            Self::Wipe => "wipe",
            Self::Selftest => "selftest",
        }
    }

    /// It moves bytes between host and drive.
    #[must_use]
    pub const fn moves(self) -> bool {
        matches!(self, Self::Write | Self::Read | Self::Mixed)
    }

    /// It changes what is on the drive.
    #[must_use]
    pub const fn destroys(self) -> bool {
        matches!(self, Self::Write | Self::Mixed | Self::Wipe)
    }
}

/// Which self-test.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SelfTestLength {
    /// Minutes at most.
    #[default]
    Short,
    /// Hours at most; may read the whole media.
    Extended,
}

/// A part of the drive; without it a leg has the whole.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Region {
    /// First byte, or share of the drive before it.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub from: Option<Amount>,
    /// One past the last byte.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub to: Option<Amount>,
}

impl Region {
    /// First byte and one past the last on a drive of this capacity, cut to whole blocks.
    #[must_use]
    pub fn on(&self, capacity: Bytes, block: Bytes) -> (Bytes, Bytes) {
        let whole = |b: Bytes| Bytes::new(b.get() / block.get().max(1) * block.get().max(1));
        let start = self.from.map_or(Bytes::ZERO, |a| whole(a.of(capacity)));
        let end = self.to.map_or(capacity, |a| match a.of(capacity) {
            end if end == capacity => capacity,
            end => whole(end),
        });
        (start, end)
    }
}

/// When a leg ends: at the first of these that comes true.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Until {
    /// So much has been moved.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub bytes: Option<Amount>,
    /// So much time has passed in the leg.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub duration: Option<Duration>,
    /// The drive is this warm (while working) or has cooled to this (while resting).
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub temperature: Option<Celsius>,
    /// So much has been written past the last cache end that was found.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub past_cache_end: Option<Bytes>,
    /// The rate is steady: five rounds of a minute after SNIA PTS.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub steady: bool,
}

fn default_block() -> Bytes {
    Bytes::from_mib(1)
}

const fn default_depth() -> u32 {
    32
}

const fn default_interval() -> Duration {
    Duration::from_millis(100)
}

/// One part of a route.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Leg {
    /// What it does.
    pub kind: LegKind,
    /// Size of one operation.
    #[serde(default = "default_block", with = "plain")]
    pub block: Bytes,
    /// Operations kept in flight.
    #[serde(default = "default_depth")]
    pub depth: u32,
    /// Threads that issue them, each on its own part of the region.
    #[serde(default = "one", skip_serializing_if = "is_one")]
    pub workers: u32,
    /// In which order addresses come.
    #[serde(default, skip_serializing_if = "is_default")]
    pub pattern: Pattern,
    /// Share of operations that read, 1 to 99; goes with a mixed leg.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_percent: Option<u8>,
    /// No faster than this.
    #[serde(default, with = "plain::option", skip_serializing_if = "Option::is_none")]
    pub rate: Option<Rate>,
    /// Share of the written data that a drive which compresses could squeeze to nothing, 0 to 100.
    #[serde(default, skip_serializing_if = "is_default")]
    pub compressible_percent: u8,
    /// Every written 4 KiB carries a stamp that tells who wrote it and where.
    #[serde(default, skip_serializing_if = "is_default")]
    pub stamped: bool,
    /// Which part of the drive.
    #[serde(default, skip_serializing_if = "is_default")]
    pub region: Region,
    /// Which self-test.
    #[serde(default, skip_serializing_if = "is_default")]
    pub test: SelfTestLength,
    /// The haul ends as failed when so many operations of this leg have failed; without it, none end it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub stop_after_errors: Option<u64>,
    /// When it ends.
    #[serde(default)]
    pub until: Until,
}

const fn one() -> u32 {
    1
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde gives a reference")]
const fn is_one(n: &u32) -> bool {
    *n == 1
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Leg {
    /// A leg of this kind with the usual load, that never ends by itself.
    #[must_use]
    pub fn new(kind: LegKind) -> Self {
        Self {
            kind,
            block: default_block(),
            depth: default_depth(),
            workers: 1,
            pattern: Pattern::Sequential,
            read_percent: None,
            rate: None,
            compressible_percent: 0,
            stamped: false,
            region: Region::default(),
            test: SelfTestLength::Short,
            stop_after_errors: None,
            until: Until::default(),
        }
    }

    /// The bytes this leg moves at most on a drive of this capacity; `None` when only time or heat ends it.
    #[must_use]
    pub fn bytes_on(&self, capacity: Bytes) -> Option<Bytes> {
        let (start, end) = self.region.on(capacity, self.block);
        self.kind.moves().then(|| self.until.bytes.map(|a| a.of(end.saturating_sub(start)))).flatten()
    }

    /// Share of the moved bytes that are written, 0 to 1.
    #[must_use]
    pub fn written_share(&self) -> f64 {
        match self.kind {
            LegKind::Write => 1.0,
            LegKind::Mixed => 1.0 - f64::from(self.read_percent.unwrap_or(50)) / 100.0,
            LegKind::Rest | LegKind::Read | LegKind::Wipe | LegKind::Selftest => 0.0,
        }
    }

    /// The load that this leg puts on a drive of this capacity.
    #[must_use]
    pub fn load(&self, capacity: Bytes) -> Load {
        let kind = match self.kind {
            LegKind::Rest => LoadKind::Rest,
            LegKind::Write => LoadKind::Write,
            LegKind::Read => LoadKind::Read,
            LegKind::Mixed => LoadKind::Mixed,
            LegKind::Wipe => LoadKind::Wipe,
            LegKind::Selftest => LoadKind::SelfTest { extended: self.test == SelfTestLength::Extended },
        };
        let (start, end) = self.region.on(capacity, self.block);
        Load {
            workers: self.workers,
            pattern: self.pattern,
            read_percent: if self.kind == LegKind::Mixed { self.read_percent.unwrap_or(50) } else { 0 },
            rate: self.rate,
            compressible_percent: self.compressible_percent,
            // Who writes is known when the haul begins.
            stamp: self.stamped.then(Origin::default),
            limit: self.bytes_on(capacity),
            ..Load::sequential(kind, start, end, self.block, self.depth)
        }
    }

    /// One line for people: `write 100 %, 1 MiB × 32`.
    #[must_use]
    pub fn words(&self) -> String {
        let mut ends: Vec<String> = Vec::new();
        if let Some(a) = self.until.bytes {
            ends.push(a.plain());
        }
        if let Some(d) = self.until.duration {
            ends.push(d.plain());
        }
        if let Some(t) = self.until.temperature {
            ends.push(format!("{} {t}", if self.kind == LegKind::Rest { "cooled to" } else { "at" }));
        }
        if let Some(b) = self.until.past_cache_end {
            ends.push(format!("{} past the cache end", b.plain()));
        }
        if self.until.steady {
            ends.push("steady".into());
        }
        let ends = ends.join(" or ");
        let word = self.kind.word();
        let mut words = match self.kind {
            LegKind::Rest => return format!("rest {ends}"),
            LegKind::Selftest => {
                return format!(
                    "selftest, {}",
                    if self.test == SelfTestLength::Short { "short" } else { "extended" }
                );
            }
            LegKind::Wipe => word.to_owned(),
            LegKind::Mixed => {
                let reads = self.read_percent.unwrap_or(50);
                format!("{word} {ends}, {reads} % reads, {} × {}", self.block.binary(), self.depth)
            }
            LegKind::Write | LegKind::Read => {
                format!("{word} {ends}, {} × {}", self.block.binary(), self.depth)
            }
        };
        if self.workers > 1 {
            words += &format!(" by {} workers", self.workers);
        }
        if self.pattern == Pattern::Random {
            words += ", random";
        }
        if let Some(from) = self.region.from {
            words += &format!(", from {}", from.plain());
        }
        if let Some(to) = self.region.to {
            words += &format!(", up to {}", to.plain());
        }
        if let Some(rate) = self.rate {
            words += &format!(", at most {rate}");
        }
        if self.stamped {
            words += ", stamped";
        }
        words
    }
}

/// What to do on a drive.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Route {
    /// Short name, as given on the command line.
    pub name: String,
    /// What it finds out, in one sentence.
    #[serde(default)]
    pub about: String,
    /// Length of one sample.
    #[serde(default = "default_interval", with = "plain")]
    pub interval: Duration,
    /// The parts, in order.
    #[serde(rename = "leg", default)]
    pub legs: Vec<Leg>,
}

/// What is wrong with a route file, and where.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum RouteError {
    /// Not TOML, an unknown field, or a value out of place.
    #[error("line {line}, column {column}: {message}")]
    File {
        /// From 1.
        line: usize,
        /// From 1, in characters.
        column: usize,
        /// In a sentence.
        message: String,
    },
    /// Each value reads, but they do not fit together.
    #[error("{place}: {message}")]
    Sense {
        /// `leg 2`, `interval`.
        place: String,
        /// In a sentence.
        message: String,
    },
}

/// Turns a byte offset in `text` into a line and a column, both from 1, the column in characters.
#[must_use]
pub fn line_and_column(text: &str, offset: usize) -> (usize, usize) {
    let mut offset = offset.min(text.len());
    while !text.is_char_boundary(offset) {
        offset -= 1;
    }
    let before = &text[..offset];
    let start = before.rfind('\n').map_or(0, |i| i + 1);
    (before.matches('\n').count() + 1, before[start..].chars().count() + 1)
}

impl Route {
    /// Reads a route from the text of its file, and checks that it makes sense.
    ///
    /// # Errors
    /// The first fault, with line and column where it has one.
    pub fn from_toml(text: &str) -> Result<Self, RouteError> {
        let route: Self = toml::from_str(text).map_err(|e| {
            let (line, column) = line_and_column(text, e.span().map_or(0, |s| s.start));
            RouteError::File { line, column, message: e.message().replace('\n', " ") }
        })?;
        route.check()?;
        Ok(route)
    }

    /// Checks what can be known without a drive.
    ///
    /// # Errors
    /// The first thing that does not fit.
    pub fn check(&self) -> Result<(), RouteError> {
        let fault =
            |place: String, message: &str| Err(RouteError::Sense { place, message: message.to_owned() });
        if self.legs.is_empty() {
            return fault("route".into(), "has no legs: add at least one [[leg]]");
        }
        if self.legs.len() > 1000 {
            return fault("route".into(), "has more than 1,000 legs");
        }
        if !(Duration::from_millis(10)..=Duration::from_secs(60)).contains(&self.interval) {
            return fault("interval".into(), "must lie between 10 ms and 60 s");
        }
        for (i, leg) in self.legs.iter().enumerate() {
            let place = format!("leg {} ({})", i + 1, leg.kind.word());
            let until = &leg.until;
            if leg.region.from.zip(leg.region.to).is_some_and(|(f, t)| match (f, t) {
                (Amount::Bytes(f), Amount::Bytes(t)) => f >= t,
                (Amount::Percent(f), Amount::Percent(t)) => f >= t,
                _ => false,
            }) {
                return fault(place, "its region ends before it begins");
            }
            if leg.kind == LegKind::Rest {
                if until.bytes.is_some() || until.past_cache_end.is_some() || until.steady {
                    return fault(place, "a rest moves no bytes: give until.duration or until.temperature");
                }
                if until.duration.is_none() && until.temperature.is_none() {
                    return fault(place, "never ends: give until.duration or until.temperature");
                }
            } else if leg.kind.moves() {
                let block = leg.block.get();
                if !(512..=64 << 20).contains(&block) || !block.is_multiple_of(512) {
                    return fault(place, "block must be a multiple of 512 B between 512 B and 64 MiB");
                }
                if !(1..=1024).contains(&leg.depth) {
                    return fault(place, "depth must lie between 1 and 1,024");
                }
                if *until == Until::default() {
                    return fault(
                        place,
                        "never ends: give until.bytes, duration, temperature, past_cache_end or steady",
                    );
                }
                if leg.kind == LegKind::Read && until.past_cache_end.is_some() {
                    return fault(place, "past_cache_end goes with a write");
                }
                if !(1..=64).contains(&leg.workers) || leg.workers > leg.depth {
                    return fault(place, "workers must lie between 1 and 64, and be no more than the depth");
                }
                if leg.read_percent.is_some() && leg.kind != LegKind::Mixed {
                    return fault(place, "read_percent goes with kind = \"mixed\"");
                }
                if leg.read_percent.is_some_and(|p| !(1..=99).contains(&p)) {
                    return fault(
                        place,
                        "read_percent must lie between 1 and 99: use a read or a write leg else",
                    );
                }
                if leg.compressible_percent > 100 {
                    return fault(place, "compressible_percent must lie between 0 and 100");
                }
                if leg.stamped && leg.kind != LegKind::Write {
                    return fault(place, "stamped goes with kind = \"write\"");
                }
                if leg.stamped && leg.compressible_percent > 0 {
                    return fault(place, "stamped data is incompressible: leave out compressible_percent");
                }
                if leg.rate.is_some_and(|r| r.get() < 1.0) {
                    return fault(place, "rate must be at least 1 B/s");
                }
                if leg.stop_after_errors == Some(0) {
                    return fault(place, "stop_after_errors must be at least 1");
                }
            } else if *until != Until::default() {
                return fault(place, "ends by itself: leave out until");
            }
            if until.duration.is_some_and(|d| d.is_zero())
                || until.bytes.is_some_and(|a| a == Amount::Bytes(Bytes::ZERO))
            {
                return fault(place, "ends before it begins: give more than zero");
            }
        }
        Ok(())
    }

    /// The route as the text of a file; [`Route::from_toml`] reads it back.
    ///
    /// # Errors
    /// Never for a route that passed [`Route::check`].
    pub fn to_toml(&self) -> Result<String, toml::ser::Error> {
        toml::to_string(self)
    }

    /// Bytes that will be written at most on a drive of this capacity; `None` when a write leg has no such bound.
    #[must_use]
    pub fn bytes_written_on(&self, capacity: Bytes) -> Option<Bytes> {
        self.legs
            .iter()
            .filter(|l| l.written_share() > 0.0)
            .try_fold(Bytes::ZERO, |sum, leg| Some(sum + leg.bytes_on(capacity)?.share(leg.written_share())))
    }

    /// True when any leg writes or discards.
    #[must_use]
    pub fn destroys(&self) -> bool {
        self.legs.iter().any(|l| l.kind.destroys())
    }
}

/// The routes that ship with the program, by name.
pub const SHIPPED: [(&str, &str); 4] = [
    ("long-haul", include_str!("../routes/long-haul.toml")),
    ("cache-edge", include_str!("../routes/cache-edge.toml")),
    ("hot-walk", include_str!("../routes/hot-walk.toml")),
    ("breather", include_str!("../routes/breather.toml")),
];

/// A shipped route by its name.
#[must_use]
pub fn shipped(name: &str) -> Option<Route> {
    SHIPPED.iter().find(|(n, _)| *n == name).and_then(|(_, text)| Route::from_toml(text).ok())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_shipped_route_reads_and_survives_a_round_trip() {
        for (name, text) in SHIPPED {
            let route = Route::from_toml(text).unwrap_or_else(|e| panic!("{name}: {e}"));
            assert_eq!(route.name, name);
            assert!(!route.about.is_empty(), "{name} says nothing about itself");
            assert_eq!(Route::from_toml(&route.to_toml().unwrap()).unwrap(), route);
        }
    }

    #[test]
    fn faults_name_their_line_and_column() {
        let text = "name = \"x\"\n[[leg]]\nkind = \"write\"\nblock = \"1 mib\"\n";
        let error = Route::from_toml(text).unwrap_err().to_string();
        assert!(error.starts_with("line 4, column 9: \"1 mib\" is not a size"), "{error}");
        let error = Route::from_toml("name = \"x\"\n[[leg]]\nkind = \"rites\"\n").unwrap_err().to_string();
        assert!(error.starts_with("line 3, column 8: unknown variant `rites`"), "{error}");
        let error = Route::from_toml("name = \"x\"\ndepht = 3\n").unwrap_err().to_string();
        assert!(error.starts_with("line 2, column 1: unknown field `depht`"), "{error}");
    }

    #[test]
    fn what_cannot_end_or_cannot_be_done_is_refused() {
        for (body, words) in [
            ("kind = \"rest\"", "never ends"),
            ("kind = \"rest\"\nuntil = { bytes = \"1 GB\" }", "moves no bytes"),
            ("kind = \"write\"", "never ends"),
            ("kind = \"write\"\nblock = 1000\nuntil = { bytes = \"1 GB\" }", "multiple of 512 B"),
            ("kind = \"write\"\ndepth = 0\nuntil = { bytes = \"1 GB\" }", "depth"),
            ("kind = \"write\"\nuntil = { bytes = \"0 GB\" }", "before it begins"),
            ("kind = \"read\"\nuntil = { past_cache_end = \"1 GB\" }", "goes with a write"),
            ("kind = \"mixed\"\nread_percent = 100\nuntil = { bytes = \"1 GB\" }", "read_percent"),
            ("kind = \"read\"\nread_percent = 50\nuntil = { bytes = \"1 GB\" }", "goes with kind"),
            ("kind = \"read\"\nworkers = 4\ndepth = 2\nuntil = { bytes = \"1 GB\" }", "workers"),
            ("kind = \"read\"\nstamped = true\nuntil = { bytes = \"1 GB\" }", "stamped"),
            ("kind = \"wipe\"\nuntil = { bytes = \"1 GB\" }", "ends by itself"),
            (
                "kind = \"read\"\nregion = { from = \"9 GB\", to = \"1 GB\" }\nuntil = { bytes = \"1 GB\" }",
                "region",
            ),
        ] {
            let error =
                Route::from_toml(&format!("name = \"x\"\n[[leg]]\n{body}\n")).unwrap_err().to_string();
            assert!(error.starts_with("leg 1") && error.contains(words), "{body}: {error}");
        }
        assert!(Route::from_toml("name = \"x\"\n").unwrap_err().to_string().contains("no legs"));
    }

    #[test]
    fn amounts_are_bytes_or_shares() {
        assert_eq!(Amount::read("50 %").unwrap().of(Bytes::from_gb(4)), Bytes::from_gb(2));
        assert_eq!(Amount::read("1 GB").unwrap().of(Bytes::from_gb(4)), Bytes::from_gb(1));
        assert!(Amount::read("-1 %").is_err());
        assert_eq!(Amount::read("100%").unwrap().of(Bytes::new(1_000_001)), Bytes::new(1_000_001));
    }

    #[test]
    fn the_cost_is_known_beforehand() {
        let route = shipped("long-haul").unwrap();
        assert_eq!(route.bytes_written_on(Bytes::from_gb(10)), Some(Bytes::from_gb(10)));
        assert!(route.destroys());
        assert_eq!(shipped("breather").unwrap().bytes_written_on(Bytes::from_gb(1000)), None);
    }
}
