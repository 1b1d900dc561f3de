//! The figures of a leg that can be changed in place: name, what it means, how it is read and written.

use std::time::Duration;

use hollow_mile_core::drive::Pattern;
use hollow_mile_core::quantity::plain::Plain;
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate};
use hollow_mile_core::route::{Amount, Leg, LegKind, Operation, Route, SelfTestLength};

/// One figure of a leg.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LegField {
    UntilBytes,
    UntilTime,
    UntilHeat,
    PastCacheEnd,
    Steady,
    Block,
    Depth,
    Workers,
    Order,
    From,
    To,
    ReadPercent,
    Rate,
    Compressible,
    Stamped,
    FlushEvery,
    StopAfterErrors,
    Test,
    Does,
    Passes,
    Bins,
    Shares,
    Blocks,
    Depths,
    Crews,
    Orders,
    Step,
    Settle,
    Level,
    Stream,
    Buffer,
    Search,
    Of,
    Sample,
    Rests,
    Repeat,
    OverFill,
    OverBlock,
    OverDepth,
}

/// Every leg of a route, those of groups after them, with how deep each lies.
pub fn all_legs(route: &Route) -> Vec<(&Leg, usize)> {
    fn walk<'a>(legs: &'a [Leg], deep: usize, out: &mut Vec<(&'a Leg, usize)>) {
        for leg in legs {
            out.push((leg, deep));
            walk(&leg.legs, deep + 1, out);
        }
    }
    let mut out = Vec::new();
    walk(&route.legs, 0, &mut out);
    out
}

/// The leg at a place of [`all_legs`].
pub fn leg_mut(legs: &mut [Leg], place: usize) -> Option<&mut Leg> {
    fn count(leg: &Leg) -> usize {
        1 + leg.legs.iter().map(count).sum::<usize>()
    }
    let mut at = place;
    for leg in legs {
        if at == 0 {
            return Some(leg);
        }
        let size = count(leg);
        if at < size {
            return leg_mut(&mut leg.legs, at - 1);
        }
        at -= size;
    }
    None
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
    clean.parse().map_err(|_| format!("\"{}\" is no whole number that fits here", clean.escape_default()))
}

fn one_of<T: Copy>(text: &str, choices: &[(&str, T)]) -> Result<T, String> {
    let wanted = text.trim().to_lowercase();
    let words: Vec<&str> = choices.iter().map(|c| c.0).collect();
    let found = choices.iter().filter(|c| !wanted.is_empty() && c.0.starts_with(&wanted)).collect::<Vec<_>>();
    match found.as_slice() {
        [one] => Ok(one.1),
        _ => Err(format!("give {}", words.join(" or "))),
    }
}

const ORDERS: [(&str, Pattern); 3] =
    [("sequential", Pattern::Sequential), ("random", Pattern::Random), ("backward", Pattern::Backward)];
const YES_NO: [(&str, bool); 2] = [("yes", true), ("no", false)];
const DOES: [(&str, Operation); 2] = [("read", Operation::Read), ("write", Operation::Write)];
const TESTS: [(&str, SelfTestLength); 2] =
    [("short", SelfTestLength::Short), ("extended", SelfTestLength::Extended)];

fn word_of<T: PartialEq + Copy>(value: T, choices: &[(&str, T)]) -> String {
    choices.iter().find(|c| c.1 == value).map_or_else(String::new, |c| c.0.to_owned())
}

impl LegField {
    /// Those that mean something for a leg, in the order in which they are asked.
    pub fn of(leg: &Leg) -> Vec<Self> {
        use LegField::{
            Bins, Block, Blocks, Buffer, Compressible, Crews, Depth, Depths, Does, FlushEvery, From, Level,
            Of, Order, Orders, OverBlock, OverDepth, OverFill, Passes, PastCacheEnd, Rate, ReadPercent,
            Repeat, Rests, Sample, Search, Settle, Shares, Stamped, Steady, Step, StopAfterErrors, Stream,
            Test, To, UntilBytes, UntilHeat, UntilTime, Workers,
        };
        let load = [Block, Depth, Workers, Order, From, To];
        match leg.kind {
            LegKind::Rest => vec![UntilTime, UntilHeat, Steady],
            LegKind::Write | LegKind::Read | LegKind::Mixed => {
                let mut all = vec![UntilBytes, UntilTime, UntilHeat, Steady];
                if leg.kind != LegKind::Read {
                    all.push(PastCacheEnd);
                }
                all.extend(load);
                all.push(Rate);
                match leg.kind {
                    LegKind::Mixed => all.push(ReadPercent),
                    LegKind::Write => all.extend([Compressible, Stamped, FlushEvery]),
                    _ => {}
                }
                all.extend([StopAfterErrors, Repeat]);
                all
            }
            LegKind::Fill => vec![Level, Block, Depth],
            LegKind::Scan => vec![Does, Passes, Bins, Block, Depth, From, To, UntilTime],
            LegKind::Spans => vec![Shares, Repeat, Step, Block],
            LegKind::Ladder => vec![Does, Blocks, Depths, Crews, Orders, Settle, Step, From, To],
            LegKind::Pace => {
                vec![Does, Rate, Stream, Buffer, Search, Step, UntilTime, UntilBytes, Block, Depth, From, To]
            }
            LegKind::Breather => vec![Rests, PastCacheEnd, UntilBytes, UntilTime, Block, Depth, From, To],
            LegKind::Verify => vec![Of, Sample, Block, Depth, Workers],
            LegKind::Wipe => vec![From, To],
            LegKind::Selftest => vec![Test],
            LegKind::Group => vec![OverFill, OverBlock, OverDepth, Settle, Repeat],
        }
    }

    /// Its name.
    pub const fn name(self) -> &'static str {
        match self {
            Self::UntilBytes => "until bytes",
            Self::UntilTime => "until time",
            Self::UntilHeat => "until heat",
            Self::PastCacheEnd => "past cache end",
            Self::Steady => "until steady",
            Self::Block => "block",
            Self::Depth => "depth",
            Self::Workers => "workers",
            Self::Order => "order",
            Self::From => "region from",
            Self::To => "region to",
            Self::ReadPercent => "reads",
            Self::Rate => "rate",
            Self::Compressible => "compressible",
            Self::Stamped => "stamped",
            Self::FlushEvery => "flush every",
            Self::StopAfterErrors => "errors allowed",
            Self::Test => "test",
            Self::Does => "operation",
            Self::Passes => "passes",
            Self::Bins => "bins",
            Self::Shares => "shares",
            Self::Blocks => "blocks",
            Self::Depths => "depths",
            Self::Crews => "workers",
            Self::Orders => "orders",
            Self::Step => "time of each",
            Self::Settle => "settle",
            Self::Level => "level",
            Self::Stream => "stream",
            Self::Buffer => "buffer",
            Self::Search => "search",
            Self::Of => "of haul",
            Self::Sample => "sample",
            Self::Rests => "rests",
            Self::Repeat => "repeat",
            Self::OverFill => "levels of fill",
            Self::OverBlock => "over blocks",
            Self::OverDepth => "over depths",
        }
    }

    /// What it means, in a sentence.
    pub const fn help(self) -> &'static str {
        match self {
            Self::UntilBytes => {
                "The leg ends after so many bytes, or such a share of its region: 200 GB, 80 %."
            }
            Self::UntilTime => "The leg ends after so long: 90 s, 10 min, 2 h.",
            Self::UntilHeat => "A load ends when the drive is this warm, a rest when it has cooled to it.",
            Self::PastCacheEnd => {
                "The leg ends when so much was written past the last cache end that was found."
            }
            Self::Steady => {
                "yes: a load ends when five rounds of a minute are steady, a rest when the temperature is."
            }
            Self::Block => "Size of one operation: a multiple of 512 B, up to 64 MiB.",
            Self::Depth => "Operations kept in flight, 1 to 1,024, by all workers together.",
            Self::Workers => "Threads that issue operations, 1 to 64, each on its own part of the region.",
            Self::Order => "sequential, random (every block once, then again), or backward.",
            Self::From => "First byte of the region, or the share of the drive before it: 10 %, 400 GB.",
            Self::To => "Where the region ends: 90 %, 1 TB. Without it, at the end of the drive.",
            Self::ReadPercent => "Share of operations that read, 1 to 99.",
            Self::Rate => "No faster than this: 620 MB/s. Of a stream: its rate.",
            Self::Compressible => "Share of the data that a compressing drive could squeeze away, 0 to 100.",
            Self::Stamped => "yes: every 4 KiB says which drive, haul, pass and address it belongs to.",
            Self::FlushEvery => {
                "Made durable each time that so much was written: what loss of power may not take."
            }
            Self::StopAfterErrors => {
                "The haul ends as failed when so many operations of the leg have failed."
            }
            Self::Test => "short: minutes at most. extended: hours at most.",
            Self::Does => "read, or write, which destroys what is there.",
            Self::Passes => "How often the region is passed, in turn forwards and backwards: 1 to 16.",
            Self::Bins => "Parts of the drive that are told apart: 16 to 65,536.",
            Self::Shares => {
                "Shares of the drive from its start: 100 %, 50 %, 25 %. One at the end comes of itself."
            }
            Self::Blocks => "Sizes of an operation, each is measured: 4 KiB, 64 KiB, 1 MiB.",
            Self::Depths => "Operations in flight, each is measured: 1, 4, 16, 64.",
            Self::Crews => "Numbers of workers, each is measured: 1, 4.",
            Self::Orders => "sequential, random, or both.",
            Self::Step => "Time of one measurement.",
            Self::Settle => {
                "Of a ladder: time under the load before each measurement. Of a group: rest after each fill."
            }
            Self::Level => "Share of the drive, or of the file system, that shall hold data: 50 %.",
            Self::Stream => "The stream as geometry: 16 channels x 24 bit x 96 kHz. Or give its rate.",
            Self::Buffer => "What the recorder can hold while the drive is late.",
            Self::Search => "yes: find the highest rate that holds, beginning at the one given.",
            Self::Of => "The haul whose stamped blocks are read back; empty for this haul's own.",
            Self::Sample => "So much of what was written, evenly spread; empty for all of it.",
            Self::Rests => "How long to rest before each write: 1 min, 4 min, 30 min.",
            Self::Repeat => "So many times, one after the other.",
            Self::OverFill => "Levels of fill, rising: 10 %, 50 %, 90 %. The drive is brought to each.",
            Self::OverBlock => "The legs are repeated with each of these block sizes.",
            Self::OverDepth => "The legs are repeated with each of these depths.",
        }
    }

    /// As it stands now; empty when it is not set.
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
            Self::ReadPercent => format!("{} %", leg.read_percent.unwrap_or(50)),
            Self::Rate => or_empty(leg.rate),
            Self::Compressible => format!("{} %", leg.compressible_percent),
            Self::Stamped => yes(leg.stamped),
            Self::FlushEvery => leg.flush_every.map(Bytes::binary).unwrap_or_default(),
            Self::StopAfterErrors => number(leg.stop_after_errors),
            Self::Test => word_of(leg.test, &TESTS),
            Self::Does => word_of(leg.operation, &DOES),
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
            Self::Repeat => number(leg.repeat.map(u64::from)),
            Self::OverFill => list(&leg.over.fill, Plain::plain),
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
            Self::ReadPercent => leg.read_percent = Some(percent(text)?),
            Self::Rate => leg.rate = optional(text, plain::<Rate>)?,
            Self::Compressible => leg.compressible_percent = percent(text)?,
            Self::Stamped => leg.stamped = yes(text)?,
            Self::FlushEvery => leg.flush_every = optional(text, plain::<Bytes>)?,
            Self::StopAfterErrors => leg.stop_after_errors = optional(text, number)?,
            Self::Test => leg.test = one_of(text, &TESTS)?,
            Self::Does => leg.operation = one_of(text, &DOES)?,
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
            Self::Repeat => leg.repeat = optional(text, number)?,
            Self::OverFill => leg.over.fill = read_list(text, plain)?,
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
    use super::*;
    use hollow_mile_core::route;

    #[test]
    fn every_figure_of_every_shipped_route_reads_back_to_itself() {
        let mut figures = 0;
        for (name, _) in route::SHIPPED {
            let route = route::shipped(name).unwrap();
            for (place, (leg, _)) in all_legs(&route).into_iter().enumerate() {
                for field in LegField::of(leg) {
                    let mut again = route.clone();
                    let value = field.value(leg);
                    let changed = leg_mut(&mut again.legs, place).unwrap();
                    field.set(changed, &value).unwrap_or_else(|e| panic!("{name} {}: {e}", field.name()));
                    assert_eq!(field.value(changed), value, "{name} {}", field.name());
                    assert!(again.check().is_ok(), "{name} {}", field.name());
                    figures += 1;
                }
            }
        }
        assert!(figures > 200, "{figures}");
    }

    #[test]
    fn what_is_no_such_figure_is_refused_and_changes_nothing() {
        for (field, text) in [
            (LegField::Block, "large"),
            (LegField::Depth, "-1"),
            (LegField::Order, "sideways"),
            (LegField::Depths, "1, two"),
            (LegField::Stamped, "maybe"),
            (LegField::FlushEvery, "often"),
            (LegField::ReadPercent, "300 %"),
        ] {
            let mut leg = Leg::new(LegKind::Ladder);
            assert!(field.set(&mut leg, text).is_err(), "{}", field.name());
            assert_eq!(leg, Leg::new(LegKind::Ladder));
        }
    }
}
