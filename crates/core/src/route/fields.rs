//! The fields of a leg: one table that says of each its key in a route file, the legs in which it does something, and what it means.
//! The checks of a route, the Route view and the table in `docs/routes.md` are made of it.

use crate::quantity::text::named;
use std::time::Duration;

use super::amount::{Amount, Region};
use super::leg::{Leg, LegKind, Operation, SelfTestLength};
use super::rounds::{Followed, Steady};
use crate::drive::Pattern;
use crate::drive::erasure::Erasure;
use crate::drive::freight::{Carry, Durable, FileOrder, Side, Through};
use crate::quantity::plain::Plain;
use crate::quantity::units::{Bytes, Celsius, Rate};

/// What the table says of a field.
#[derive(Debug, Clone, Copy)]
struct Row {
    field: Field,
    key: &'static str,
    name: &'static str,
    kinds: &'static [LegKind],
    usual: &'static str,
    example: &'static str,
    help: &'static str,
}

/// Makes the fields and their table from one list: key, name, legs in which it does something, what it is without being given, an
/// example, and what it means.
macro_rules! fields {
    ($($field:ident, $key:literal, $name:literal, [$($kind:ident),*], $usual:literal, $example:literal, $help:literal;)*) => {
        /// A field of a leg.
        #[derive(Debug, Clone, Copy, PartialEq, Eq)]
        pub enum Field {
            $(#[doc = $help] $field,)*
        }

        const TABLE: &[Row] = &[$(Row {
            field: Field::$field,
            key: $key,
            name: $name,
            kinds: &[$(LegKind::$kind),*],
            usual: $usual,
            example: $example,
            help: $help,
        },)*];
    };
}

fields! {
    OverFill, "over.fill", "levels of fill", [Group], "", "10 %, 50 %",
        "Levels of fill, rising: 10 %, 50 %, 90 %. The drive is brought to each.";
    OverRegion, "over.region", "over regions", [Group], "", "start to 10 %, 90 % to end",
        "The legs are repeated in each of these regions: start to 10 %, 90 % to end.";
    OverBlock, "over.block", "over blocks", [Group], "", "4 KiB, 1 MiB",
        "The legs are repeated with each of these block sizes.";
    OverDepth, "over.depth", "over depths", [Group], "", "1, 8",
        "The legs are repeated with each of these depths.";
    Level, "level", "level", [Fill], "", "50 %",
        "Share of the drive, or of the file system, that shall hold data: 50 %.";
    Operation, "operation", "operation", [Scan, Ladder, Pace], "read", "write",
        "read, or write, which destroys what is there.";
    Passes, "passes", "passes", [Scan], "2", "4",
        "How often the region is passed, in turn forwards and backwards: 1 to 16.";
    Bins, "bins", "bins", [Scan], "4096", "64",
        "Parts of the drive that are told apart: 16 to 65,536.";
    Shares, "shares", "shares", [Spans], "100 %, 50 %, 25 %, 12.5 %, 6.25 %, 3.125 %", "100 %, 10 %",
        "Shares of the drive from its start: 100 %, 50 %, 25 %. One at the end comes of itself.";
    Blocks, "blocks", "blocks", [Ladder], "", "4 KiB, 1 MiB",
        "Sizes of an operation, each is measured: 4 KiB, 64 KiB, 1 MiB.";
    Depths, "depths", "depths", [Ladder], "", "1, 4",
        "Operations in flight, each is measured: 1, 4, 16, 64.";
    Crews, "crews", "workers", [Ladder], "", "1, 2",
        "Numbers of workers, each is measured: 1, 4.";
    Orders, "patterns", "orders", [Ladder], "", "sequential, random",
        "sequential, random, or both.";
    Rests, "rests", "rests", [Breather], "", "1 min, 4 min",
        "How long to rest before each write: 1 min, 4 min, 30 min.";
    Of, "of", "of haul", [Verify], "", "last",
        "The haul whose stamped blocks are read back; empty for this haul's own.";
    Sample, "sample", "sample", [Verify], "", "5 %",
        "So much of what was written, evenly spread; empty for all of it.";
    Carry, "carry", "does", [Freight], "read", "write",
        "write, read, copy (from the drive of --from), or delete.";
    At, "at", "at", [Freight], "target", "source",
        "target: the drive of --on. source: the one of --from.";
    Files, "files", "files", [Freight], "", "60 % 4 KiB to 64 KiB, 40 % 1 MiB",
        "Sizes and their shares of all files: 60 % 4 KiB to 64 KiB, 40 % 1 MiB. Empty for the tree of the leg before.";
    Like, "like", "like", [Freight], "", "/home/me/photos",
        "A folder, or a file of `hollow-mile shape`, whose sizes and layout the tree takes. No name and no content is read.";
    Total, "total", "in all", [Freight], "", "20 GB",
        "Bytes in all files; the last file goes beyond.";
    Count, "count", "number", [Freight], "", "10000",
        "Number of files, up to 10,000,000.";
    FolderDepth, "folder_depth", "folders deep", [Freight], "0", "2",
        "Folders that lie in each other, 0 to 16.";
    FolderWidth, "folder_width", "folders wide", [Freight], "8", "4",
        "Folders beside each other, in each: 1 to 10,000.";
    FileOrder, "order", "file order", [Freight], "folder", "shuffled",
        "folder by folder, by size (the smallest first), or shuffled.";
    Through, "through", "through", [Freight], "cache", "direct",
        "cache: as an application does. direct: past the page cache.";
    Sync, "sync", "durable", [Freight], "end", "each",
        "When data is made durable: each file, all at the end, or never.";
    Duplicates, "duplicates_percent", "duplicates", [Freight], "0 %", "20 %",
        "Share of the written 4 KiB that are like some before, 0 to 100.";
    Seed, "seed", "seed", [Freight], "0", "7",
        "Draws sizes and order: another seed, another tree.";
    By, "by", "erase by", [Wipe], "discard", "sanitize-crypto",
        "discard, write-zeroes or reset-zones, of a region; of a whole drive format, format-crypto (NVMe), sanitize-block, sanitize-crypto, sanitize-overwrite (NVMe, ATA), security-erase, security-erase-enhanced (ATA).";
    Test, "test", "test", [Selftest], "short", "extended",
        "short: minutes at most. extended: hours at most.";
    Stream, "stream", "stream", [Pace], "", "16 channels x 24 bit x 96 kHz",
        "The stream as geometry: 16 channels x 24 bit x 96 kHz. Or give its rate.";
    Buffer, "buffer", "buffer", [Pace], "256 MiB", "1 GiB",
        "What the recorder can hold while the drive is late: 64 KiB or more.";
    Search, "search", "search", [Pace], "", "yes",
        "yes: find the highest rate that holds, beginning at the one given.";
    Settle, "settle", "settle", [Ladder, Group], "1 s (group: none)", "3 s",
        "Of a ladder: time under the load before each measurement. Of a group: rest after each fill.";
    Step, "step", "time of each", [Spans, Ladder, Pace], "5 s (pace: 30 s)", "2 s",
        "Time of one measurement.";
    UntilBytes, "until.bytes", "until bytes", [Write, Read, Mixed, Breather, Pace], "", "1 GB",
        "The leg ends after so many bytes, or such a share of its region: 200 GB, 80 %.";
    UntilTime, "until.duration", "until time", [Rest, Write, Read, Mixed, Breather, Scan, Spans, Ladder, Pace, Verify, Freight], "", "10 s",
        "The leg ends after so long: 90 s, 10 min, 2 h.";
    UntilHeat, "until.temperature", "until heat", [Rest, Write, Read, Mixed, Breather, Pace], "", "60 °C",
        "A load ends when the drive is this warm, a rest when it has cooled to it.";
    PastCacheEnd, "until.past_cache_end", "past cache end", [Write, Mixed, Breather, Pace], "", "1 GB",
        "The leg ends when so much was written past the last cache end that was found, or past a fall that was looked into (find out why).";
    Steady, "until.steady", "until steady", [Rest, Write, Read, Mixed, Breather, Pace], "", "yes",
        "yes: a load ends when five rounds of a minute are steady, a rest when the temperature is.";
    Block, "block", "block", [Write, Read, Mixed, Fill, Scan, Spans, Ladder, Pace, Breather, Verify, Freight], "1 MiB (spans: 4 KiB)", "8 KiB",
        "Size of one operation: a multiple of 512 B, up to 64 MiB.";
    Depth, "depth", "depth", [Write, Read, Mixed, Fill, Scan, Ladder, Pace, Breather, Verify, Freight], "32", "4",
        "Operations kept in flight, 1 to 1,024, by all workers together. Of a copy: blocks in its queue.";
    Workers, "workers", "workers", [Write, Read, Mixed, Fill, Scan, Ladder, Pace, Breather, Verify, Freight], "1", "2",
        "Threads that issue operations, 1 to 64, each on its own part of the region. Of freight: files at once.";
    Order, "pattern", "order", [Write, Read, Mixed, Fill, Ladder, Pace, Breather], "sequential", "random",
        "sequential, random (every block once, then again), or backward.";
    From, "region.from", "region from", [Write, Read, Mixed, Scan, Ladder, Pace, Breather, Wipe], "", "10 %",
        "First byte of the region, or the share of the drive before it: 10 %, 400 GB.";
    To, "region.to", "region to", [Write, Read, Mixed, Scan, Ladder, Pace, Breather, Wipe], "", "90 %",
        "Where the region ends: 90 %, 1 TB. Without it, at the end of the drive.";
    Mix, "mix", "sizes", [Write, Read, Mixed], "", "67 % 4 KiB, 33 % 64 KiB",
        "Sizes of operations by share, in place of one block: 67 % 4 KiB, 33 % 64 KiB. Goes with pattern = \"random\".";
    Spread, "spread", "spread", [Write, Read, Mixed], "", "50 % in 5 %, 50 % in 95 %",
        "Parts of the region, from its start on, by share of the operations: 50 % in 5 %, 50 % in 95 %. Goes with pattern = \"random\".";
    ReadPercent, "read_percent", "reads", [Mixed], "50 %", "30 %",
        "Share of operations that read, 1 to 99.";
    Rate, "rate", "rate", [Write, Read, Mixed, Fill, Scan, Ladder, Pace, Breather, Verify], "", "620 MB/s",
        "No faster than this: 620 MB/s. Of a stream: its rate.";
    Compressible, "compressible_percent", "compressible", [Write, Mixed, Fill, Scan, Ladder, Pace, Breather, Freight], "0 %", "50 %",
        "Share of the written data that a compressing drive could squeeze away, 0 to 100.";
    Stamped, "stamped", "stamped", [Write], "", "yes",
        "yes: every 4 KiB says which drive, haul, pass and address it belongs to.";
    FlushEvery, "flush_every", "flush every", [Write], "", "1 GiB",
        "Made durable each time that so much was written: what loss of power may not take.";
    Lookout, "lookout", "lookout every", [Rest, Write, Read, Mixed, Fill, Pace, Breather, Freight, Selftest], "", "10 ms",
        "Beside it a single random read of 4 KiB so often: what another user of the drive waits. 1 ms to 10 s.";
    Decide, "decide", "find out why", [Write], "", "yes",
        "yes: when the rate falls and the record alone does not say why, experiments in the middle of the leg find out.";
    DecideTime, "decide_time", "for at most", [Write], "5 % of the leg, 10 min", "3 min",
        "Time that such experiments may take, 1 s to 1 day.";
    DecideBytes, "decide_bytes", "and at most", [Write], "5 % of the leg", "20 GB",
        "Bytes that such experiments may read and write.";
    DecideWear, "decide_wear", "wear at most", [Write], "", "0.01 %",
        "Of all that the drive is rated to take, what such experiments may write: 0.01 %, 2 GB.";
    StopAfterErrors, "stop_after_errors", "errors allowed", [Write, Read, Mixed, Fill, Scan, Spans, Ladder, Pace, Breather, Verify, Freight], "", "5",
        "The haul ends as failed when so many operations of the leg have failed.";
    SteadyLegs, "steady.legs", "steady legs", [Group], "", "2",
        "The rounds of the group go on until a figure of each of these legs is steady, `repeat` times at most; legs of a round count from 1, as they are run.";
    SteadyFigure, "steady.figure", "steady figure", [Group], "rate", "mean-latency",
        "Which figure of those legs: rate, mean-latency or p99-latency.";
    Repeat, "repeat", "repeat", [Rest, Write, Read, Mixed, Fill, Scan, Spans, Ladder, Pace, Breather, Verify, Freight, Wipe, Selftest, Group], "1 (spans: 5)", "2",
        "So many times, one after the other.";
}

fn list<T>(values: &[T], word: impl Fn(&T) -> String) -> String {
    values.iter().map(word).collect::<Vec<_>>().join(", ")
}

fn parts(text: &str) -> impl Iterator<Item = &str> {
    text.split(',').map(str::trim).filter(|p| !p.is_empty())
}

fn read_list<T>(text: &str, read: impl Fn(&str) -> Result<T, String>) -> Result<Vec<T>, String> {
    parts(text).map(read).collect()
}

fn plain<T: Plain>(text: &str) -> Result<T, String> {
    T::read(text).map_err(|e| e.to_string())
}

fn optional<T>(text: &str, read: impl Fn(&str) -> Result<T, String>) -> Result<Option<T>, String> {
    if text.trim().is_empty() { Ok(None) } else { read(text.trim()).map(Some) }
}

fn number<T: std::str::FromStr>(text: &str) -> Result<T, String> {
    let clean = text.trim();
    clean.parse().map_err(|_| format!("\"{}\" is no whole number that fits here", named(clean)))
}

fn one_of<T: Copy>(text: &str, choices: &[(&str, T)]) -> Result<T, String> {
    let wanted = text.trim().to_lowercase();
    let words: Vec<&str> = choices.iter().map(|c| c.0).collect();
    if let Some(exact) = choices.iter().find(|c| c.0 == wanted) {
        return Ok(exact.1);
    }
    let found = choices.iter().filter(|c| !wanted.is_empty() && c.0.starts_with(&wanted)).collect::<Vec<_>>();
    match found.as_slice() {
        [one] => Ok(one.1),
        _ => Err(format!("give {}", words.join(" or "))),
    }
}

/// `start to 10 %`, `400 GB to end`.
fn region_words(r: &Region) -> String {
    let or = |a: Option<Amount>, word: &str| a.map_or_else(|| word.to_owned(), |a| a.plain());
    format!("{} to {}", or(r.from, "start"), or(r.to, "end"))
}

fn region(text: &str) -> Result<Region, String> {
    let (from, to) = text.split_once(" to ").ok_or_else(|| {
        format!("\"{}\" is no region: give start to 10 %, 20 % to 400 GB, or 90 % to end", named(text))
    })?;
    let or =
        |t: &str, word: &str| if t.trim() == word { Ok(None) } else { plain::<Amount>(t.trim()).map(Some) };
    Ok(Region { from: or(from, "start")?, to: or(to, "end")? })
}

const ORDERS: [(&str, Pattern); 3] =
    [("sequential", Pattern::Sequential), ("random", Pattern::Random), ("backward", Pattern::Backward)];
const YES_NO: [(&str, bool); 2] = [("yes", true), ("no", false)];
const DOES: [(&str, Operation); 2] = [("read", Operation::Read), ("write", Operation::Write)];
const CARRIES: [(&str, Carry); 4] =
    [("write", Carry::Write), ("read", Carry::Read), ("copy", Carry::Copy), ("delete", Carry::Delete)];
const SIDES: [(&str, Side); 2] = [("target", Side::Target), ("source", Side::Source)];
const FILE_ORDERS: [(&str, FileOrder); 3] =
    [("folder", FileOrder::Folder), ("size", FileOrder::Size), ("shuffled", FileOrder::Shuffled)];
const THROUGHS: [(&str, Through); 2] = [("cache", Through::Cache), ("direct", Through::Direct)];
const SYNCS: [(&str, Durable); 3] =
    [("each", Durable::Each), ("end", Durable::End), ("never", Durable::Never)];
const FOLLOWED: [(&str, Followed); 3] = [
    (Followed::Rate.word(), Followed::Rate),
    (Followed::MeanLatency.word(), Followed::MeanLatency),
    (Followed::P99Latency.word(), Followed::P99Latency),
];
const TESTS: [(&str, SelfTestLength); 2] =
    [("short", SelfTestLength::Short), ("extended", SelfTestLength::Extended)];

fn word_of<T: PartialEq + Copy>(value: T, choices: &[(&str, T)]) -> String {
    choices.iter().find(|c| c.1 == value).map_or_else(String::new, |c| c.0.to_owned())
}

impl Field {
    /// Each, in the order in which they are asked.
    pub fn all() -> impl Iterator<Item = Self> {
        TABLE.iter().map(|r| r.field)
    }

    /// Those that do something in a leg of this kind.
    pub fn of(kind: LegKind) -> impl Iterator<Item = Self> {
        TABLE.iter().filter(move |r| r.kinds.contains(&kind)).map(|r| r.field)
    }

    fn row(self) -> &'static Row {
        // The table is made from the same list as the fields, in their order.
        &TABLE[self as usize]
    }

    /// Its key in a route file; a dot leads into a table: `until.bytes`.
    #[must_use]
    pub fn key(self) -> &'static str {
        self.row().key
    }

    /// Its name on screen.
    #[must_use]
    pub fn name(self) -> &'static str {
        self.row().name
    }

    /// The kinds of leg in which it does something.
    #[must_use]
    pub fn kinds(self) -> &'static [LegKind] {
        self.row().kinds
    }

    /// What it is when it is not given; empty where it is nothing then.
    #[must_use]
    pub fn usual(self) -> &'static str {
        self.row().usual
    }

    /// An example, as it is typed.
    #[must_use]
    pub fn example(self) -> &'static str {
        self.row().example
    }

    /// What it means, in a sentence.
    #[must_use]
    pub fn help(self) -> &'static str {
        self.row().help
    }

    /// It is given: it differs from what a leg of the kind has by itself.
    #[must_use]
    pub fn is_given(self, leg: &Leg) -> bool {
        match self {
            // What they are by themselves can be given too.
            Self::ReadPercent => leg.read_percent.is_some(),
            Self::Passes => leg.passes.is_some(),
            Self::Bins => leg.bins.is_some(),
            Self::Shares => !leg.shares.is_empty(),
            _ => self.value(leg) != self.value(&Leg::new(leg.kind)),
        }
    }

    /// As it stands now; empty when it is not set.
    #[must_use]
    pub fn value(self, leg: &Leg) -> String {
        fn or_empty<T: Plain>(v: Option<T>) -> String {
            v.map(|v| v.plain()).unwrap_or_default()
        }
        let number = |n: Option<u64>| n.map(|n| n.to_string()).unwrap_or_default();
        let yes = |on: bool| if on { "yes".to_owned() } else { String::new() };
        match self {
            Self::UntilBytes => or_empty(leg.until.bytes),
            Self::UntilTime => or_empty(leg.until.duration),
            Self::UntilHeat => or_empty(leg.until.temperature),
            Self::PastCacheEnd => or_empty(leg.until.past_cache_end),
            Self::Steady => yes(leg.until.steady),
            Self::Block => leg.block.binary(),
            Self::Depth => leg.depth.to_string(),
            Self::Workers => leg.workers.to_string(),
            Self::Order => word_of(leg.pattern, &ORDERS),
            Self::From => or_empty(leg.region.from),
            Self::To => or_empty(leg.region.to),
            Self::Mix => list(&leg.mix, Plain::plain),
            Self::Spread => list(&leg.spread, Plain::plain),
            Self::ReadPercent => format!("{} %", leg.read_percent.unwrap_or(50)),
            Self::Rate => or_empty(leg.rate),
            Self::Compressible => format!("{} %", leg.compressible_percent),
            Self::Stamped => yes(leg.stamped),
            Self::FlushEvery => leg.flush_every.map(Bytes::binary).unwrap_or_default(),
            Self::Lookout => or_empty(leg.lookout),
            Self::Decide => yes(leg.decide),
            Self::DecideTime => or_empty(leg.decide_time),
            Self::DecideBytes => or_empty(leg.decide_bytes),
            Self::DecideWear => or_empty(leg.decide_wear),
            Self::StopAfterErrors => number(leg.stop_after_errors),
            Self::Test => word_of(leg.test, &TESTS),
            Self::By => leg.by.word().to_owned(),
            Self::Carry => word_of(leg.carry, &CARRIES),
            Self::At => word_of(leg.at, &SIDES),
            Self::Files => list(&leg.files, Plain::plain),
            Self::Like => leg.like.clone().unwrap_or_default(),
            Self::Total => or_empty(leg.total),
            Self::Count => number(leg.count),
            Self::FolderDepth => leg.folder_depth.to_string(),
            Self::FolderWidth => number(leg.folder_width.map(u64::from)),
            Self::FileOrder => word_of(leg.order, &FILE_ORDERS),
            Self::Through => word_of(leg.through, &THROUGHS),
            Self::Sync => word_of(leg.sync, &SYNCS),
            Self::Duplicates => format!("{} %", leg.duplicates_percent),
            Self::Seed => leg.seed.to_string(),
            Self::Operation => word_of(leg.operation, &DOES),
            Self::Passes => leg.passes().to_string(),
            Self::Bins => leg.bins().to_string(),
            Self::Shares => list(&leg.spans(), Plain::plain),
            Self::Blocks => list(&leg.blocks, |b| b.binary()),
            Self::Depths => list(&leg.depths, u32::to_string),
            Self::Crews => list(&leg.crews, u32::to_string),
            Self::Orders => list(&leg.patterns, |p| word_of(*p, &ORDERS)),
            Self::Step => or_empty(leg.step),
            Self::Settle => or_empty(leg.settle),
            Self::Level => or_empty(leg.level),
            Self::Stream => leg.stream.clone().unwrap_or_default(),
            Self::Buffer => or_empty(leg.buffer),
            Self::Search => yes(leg.search),
            Self::Of => leg.of.clone().unwrap_or_default(),
            Self::Sample => or_empty(leg.sample),
            Self::Rests => list(&leg.rests, Plain::plain),
            Self::SteadyLegs => {
                leg.steady.as_ref().map(|s| list(&s.legs, u16::to_string)).unwrap_or_default()
            }
            Self::SteadyFigure => {
                leg.steady.as_ref().map(|s| word_of(s.figure, &FOLLOWED)).unwrap_or_default()
            }
            Self::Repeat => number(leg.repeat.map(u64::from)),
            Self::OverFill => list(&leg.over.fill, Plain::plain),
            Self::OverRegion => list(&leg.over.region, region_words),
            Self::OverBlock => list(&leg.over.block, |b| b.binary()),
            Self::OverDepth => list(&leg.over.depth, u32::to_string),
        }
    }

    /// Changes it. Empty takes away what can be missing.
    ///
    /// # Errors
    /// When the text is no such figure.
    pub fn set(self, leg: &mut Leg, text: &str) -> Result<(), String> {
        let percent = |t: &str| number::<u8>(t.trim().trim_end_matches('%'));
        let yes = |t: &str| if t.trim().is_empty() { Ok(false) } else { one_of(t, &YES_NO) };
        let words = |t: &str| {
            let clean: String = t.trim().chars().filter(|c| !c.is_control()).collect();
            (!clean.is_empty()).then_some(clean)
        };
        match self {
            Self::UntilBytes => leg.until.bytes = optional(text, plain::<Amount>)?,
            Self::UntilTime => leg.until.duration = optional(text, plain::<Duration>)?,
            Self::UntilHeat => leg.until.temperature = optional(text, plain::<Celsius>)?,
            Self::PastCacheEnd => leg.until.past_cache_end = optional(text, plain::<Bytes>)?,
            Self::Steady => leg.until.steady = yes(text)?,
            Self::Block => leg.block = plain(text)?,
            Self::Depth => leg.depth = number(text)?,
            Self::Workers => leg.workers = number(text)?,
            Self::Order => leg.pattern = one_of(text, &ORDERS)?,
            Self::From => leg.region.from = optional(text, plain::<Amount>)?,
            Self::To => leg.region.to = optional(text, plain::<Amount>)?,
            Self::Mix => leg.mix = read_list(text, plain)?,
            Self::Spread => leg.spread = read_list(text, plain)?,
            Self::ReadPercent => leg.read_percent = Some(percent(text)?),
            Self::Rate => leg.rate = optional(text, plain::<Rate>)?,
            Self::Compressible => leg.compressible_percent = percent(text)?,
            Self::Stamped => leg.stamped = yes(text)?,
            Self::FlushEvery => leg.flush_every = optional(text, plain::<Bytes>)?,
            Self::Lookout => leg.lookout = optional(text, plain::<Duration>)?,
            Self::Decide => leg.decide = yes(text)?,
            Self::DecideTime => leg.decide_time = optional(text, plain::<Duration>)?,
            Self::DecideBytes => leg.decide_bytes = optional(text, plain::<Bytes>)?,
            Self::DecideWear => leg.decide_wear = optional(text, plain::<Amount>)?,
            Self::StopAfterErrors => leg.stop_after_errors = optional(text, number)?,
            Self::Test => leg.test = one_of(text, &TESTS)?,
            Self::By => leg.by = one_of(text, &Erasure::ALL.map(|e| (e.word(), e)))?,
            Self::Carry => leg.carry = one_of(text, &CARRIES)?,
            Self::At => leg.at = one_of(text, &SIDES)?,
            Self::Files => leg.files = read_list(text, plain)?,
            Self::Like => leg.like = words(text),
            Self::Total => leg.total = optional(text, plain::<Bytes>)?,
            Self::Count => leg.count = optional(text, number)?,
            Self::FolderDepth => leg.folder_depth = number(text)?,
            Self::FolderWidth => leg.folder_width = optional(text, number)?,
            Self::FileOrder => leg.order = one_of(text, &FILE_ORDERS)?,
            Self::Through => leg.through = one_of(text, &THROUGHS)?,
            Self::Sync => leg.sync = one_of(text, &SYNCS)?,
            Self::Duplicates => leg.duplicates_percent = percent(text)?,
            Self::Seed => leg.seed = number(text)?,
            Self::Operation => leg.operation = one_of(text, &DOES)?,
            Self::Passes => leg.passes = optional(text, number)?,
            Self::Bins => leg.bins = optional(text, number)?,
            Self::Shares => leg.shares = read_list(text, plain)?,
            Self::Blocks => leg.blocks = read_list(text, plain)?,
            Self::Depths => leg.depths = read_list(text, number)?,
            Self::Crews => leg.crews = read_list(text, number)?,
            Self::Orders => leg.patterns = read_list(text, |t| one_of(t, &ORDERS))?,
            Self::Step => leg.step = optional(text, plain::<Duration>)?,
            Self::Settle => leg.settle = optional(text, plain::<Duration>)?,
            Self::Level => leg.level = optional(text, plain::<Amount>)?,
            Self::Stream => leg.stream = words(text),
            Self::Buffer => leg.buffer = optional(text, plain::<Bytes>)?,
            Self::Search => leg.search = yes(text)?,
            Self::Of => leg.of = words(text),
            Self::Sample => leg.sample = optional(text, plain::<Amount>)?,
            Self::Rests => leg.rests = read_list(text, plain)?,
            Self::SteadyLegs => {
                let figure = leg.steady.as_ref().map(|s| s.figure).unwrap_or_default();
                let legs: Vec<u16> = read_list(text, number)?;
                leg.steady = (!legs.is_empty()).then_some(Steady { legs, figure });
            }
            Self::SteadyFigure => {
                if let Some(figure) = optional(text, |t| one_of(t, &FOLLOWED))? {
                    let legs = leg.steady.take().map_or_else(|| vec![1], |s| s.legs);
                    leg.steady = Some(Steady { legs, figure });
                }
            }
            Self::Repeat => leg.repeat = optional(text, number)?,
            Self::OverFill => leg.over.fill = read_list(text, plain)?,
            Self::OverRegion => leg.over.region = read_list(text, region)?,
            Self::OverBlock => leg.over.block = read_list(text, plain)?,
            Self::OverDepth => leg.over.depth = read_list(text, number)?,
        }
        // Geometry or a rate, the one given last.
        if leg.kind == LegKind::Pace {
            match self {
                Self::Stream if leg.stream.is_some() => leg.rate = None,
                Self::Rate if leg.rate.is_some() => leg.stream = None,
                _ => {}
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::walk::{all_legs, leg_mut};
    use super::*;
    use crate::route;

    #[test]
    fn every_field_of_every_shipped_route_reads_back_to_itself() {
        let mut fields = 0;
        for (name, _) in route::SHIPPED {
            let route = route::shipped(name).unwrap();
            for (place, (leg, _)) in all_legs(&route).into_iter().enumerate() {
                for field in Field::of(leg.kind) {
                    let mut again = route.clone();
                    let value = field.value(leg);
                    let changed = leg_mut(&mut again.legs, place).unwrap();
                    field.set(changed, &value).unwrap_or_else(|e| panic!("{name} {}: {e}", field.name()));
                    assert_eq!(field.value(changed), value, "{name} {}", field.name());
                    assert!(again.check().is_ok(), "{name} {}: {:?}", field.name(), again.check());
                    fields += 1;
                }
            }
        }
        assert!(fields > 200, "{fields}");
    }

    #[test]
    fn what_is_no_such_field_is_refused_and_changes_nothing() {
        for (field, text) in [
            (Field::Block, "large"),
            (Field::Depth, "-1"),
            (Field::Order, "sideways"),
            (Field::Depths, "1, two"),
            (Field::Stamped, "maybe"),
            (Field::FlushEvery, "often"),
            (Field::ReadPercent, "300 %"),
        ] {
            let mut leg = Leg::new(LegKind::Ladder);
            assert!(field.set(&mut leg, text).is_err(), "{}", field.name());
            assert_eq!(leg, Leg::new(LegKind::Ladder));
        }
    }

    #[test]
    fn a_field_is_refused_in_every_leg_in_which_it_does_nothing() {
        for field in Field::all() {
            assert_eq!(field.row().field, field);
            for kind in LegKind::ALL {
                let mut leg = Leg::new(kind);
                field.set(&mut leg, field.example()).unwrap_or_else(|e| panic!("{field:?}: {e}"));
                assert!(field.is_given(&leg), "{field:?} {kind:?}: {} is what it is anyway", field.example());
                let route = route::Route { legs: vec![leg], ..route::shipped("long-haul").unwrap() };
                let words = format!("{} ", field.key());
                let told: Vec<String> = route.faults().into_iter().map(|f| f.message).collect();
                let refused = told.iter().any(|m| m.starts_with(&words) && m.contains("kind = "));
                assert_eq!(refused, !field.kinds().contains(&kind), "{field:?} in {kind:?}: {told:?}");
            }
        }
    }

    /// The table of `docs/routes.md`.
    fn table() -> String {
        let mut out = String::from("| field | legs | without it | meaning |\n|---|---|---|---|\n");
        for r in TABLE {
            let legs: Vec<String> = if r.kinds.len() == LegKind::ALL.len() {
                vec!["all".into()]
            } else {
                r.kinds.iter().map(|k| format!("`{}`", k.word())).collect()
            };
            out.push_str(&format!("| `{}` | {} | {} | {} |\n", r.key, legs.join(", "), r.usual, r.help));
        }
        out
    }

    #[test]
    fn the_table_in_the_docs_is_this_one() {
        let docs = include_str!("../../../../docs/routes.md");
        assert!(docs.contains(&table()), "put this into docs/routes.md:\n{}", table());
    }
}
