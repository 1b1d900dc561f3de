//! What can be known to be wrong with a route before a drive is asked: every fault, each with its place in the file.

use std::time::Duration;

use serde::Deserialize;
use toml::de::{DeTable, DeValue, ValueDeserializer};

use super::amount::{Amount, Region};
use super::group::{LaidOn, MOST_LEGS, legs_when_laid_out};
use super::leg::{Leg, LegKind, Until};
use super::{Field, Route, RouteError, line_and_column};
use crate::drive::Pattern;
use crate::drive::freight::{Carry, Side, Through};
use crate::quantity::steady::WINDOW;
use crate::quantity::units::Bytes;
use crate::route::Stream;

/// Something that does not fit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Fault {
    /// Index of the leg, and of the leg in it; empty for the route itself.
    pub legs: Vec<usize>,
    /// The field that is at fault; empty for the leg as a whole.
    pub field: &'static str,
    /// It does nothing, and harms nothing.
    pub idle: bool,
    /// `leg 2 (write)`.
    pub place: String,
    /// In a sentence.
    pub message: String,
}

struct Faults {
    all: Vec<Fault>,
    legs: Vec<usize>,
    place: String,
}

impl Faults {
    fn add(&mut self, field: &'static str, message: impl Into<String>) {
        let (legs, place) = (self.legs.clone(), self.place.clone());
        self.all.push(Fault { legs, field, place, idle: false, message: message.into() });
    }

    fn unless(&mut self, fine: bool, field: &'static str, message: &str) {
        if !fine {
            self.add(field, message);
        }
    }
}

fn all_within<T: PartialOrd + Copy>(values: &[T], low: T, high: T) -> bool {
    values.iter().all(|v| (low..=high).contains(v))
}

fn is_block(block: Bytes) -> bool {
    (512..=64 << 20).contains(&block.get()) && block.get().is_multiple_of(512)
}

fn rises(levels: &[Amount]) -> bool {
    levels.windows(2).all(|w| match (w[0], w[1]) {
        (Amount::Bytes(a), Amount::Bytes(b)) => a < b,
        (Amount::Percent(a), Amount::Percent(b)) => a < b,
        _ => true,
    })
}

fn is_share(a: &Amount) -> bool {
    !matches!(a, Amount::Percent(p) if *p > 100.0)
}

impl Route {
    /// Everything that does not fit and can be known without a drive.
    pub(super) fn faults(&self) -> Vec<Fault> {
        let mut faults = Faults { all: Vec::new(), legs: Vec::new(), place: "route".into() };
        faults.unless(!self.legs.is_empty(), "", "has no legs: add at least one [[leg]]");
        let interval = Duration::from_millis(10)..=Duration::from_secs(60);
        faults.unless(
            interval.contains(&self.interval),
            "interval",
            "interval must lie between 10 ms and 60 s",
        );
        // A name stands in lines of output and of files: it must not make lines of its own.
        let in_one_line = |text: &str| !text.chars().any(char::is_control);
        faults.unless(
            in_one_line(&self.name),
            "name",
            "name has a line end or another control character in it",
        );
        for limit in &self.limits {
            if let Err(needs) = limit.is_measured_by(self) {
                let text = limit.text();
                faults.add("limits", format!("the limit \"{text}\" is never measured: it needs {needs}"));
            }
        }
        check_legs(&self.legs, &mut faults);
        if faults.all.is_empty() && legs_when_laid_out(&self.legs) > MOST_LEGS as u64 {
            faults.add("", "has more than 20,000 legs when its repeats are laid out");
        }
        faults.all
    }

    /// Checks what can be known without a drive.
    ///
    /// # Errors
    /// The first thing that does not fit.
    pub fn check(&self) -> Result<(), RouteError> {
        self.faults()
            .into_iter()
            .next()
            .map_or(Ok(()), |f| Err(RouteError::Sense { place: f.place, message: f.message }))
    }

    /// Its fields fit together. Fields that do nothing where they stand are let through: routes in records of earlier versions have them.
    #[must_use]
    pub fn fits_together(&self) -> bool {
        self.faults().iter().all(|f| f.idle)
    }

    /// Reads a route and names everything that is wrong with it, each with line and column.
    ///
    /// # Errors
    /// All faults, in the order of the file; at least one.
    pub fn read_all_faults(text: &str) -> Result<Self, Vec<RouteError>> {
        let route: Self = toml::from_str(text).map_err(|e| unreadable(text, &e))?;
        let table = DeTable::parse(text).ok();
        let mut faults: Vec<RouteError> = route
            .faults()
            .into_iter()
            .map(|f| {
                let at = table.as_ref().map_or(0, |t| offset(t.get_ref(), &f.legs, f.field));
                let (line, column) = line_and_column(text, at);
                RouteError::File { line, column, message: format!("{}: {}", f.place, f.message) }
            })
            .collect();
        faults.sort_by_key(|f| match f {
            RouteError::File { line, column, .. } => (*line, *column),
            RouteError::Sense { .. } => (0, 0),
        });
        if faults.is_empty() { Ok(route) } else { Err(faults) }
    }
}

/// Why the text is no route: the first fault of the file, and the first of each leg that cannot be read.
fn unreadable(text: &str, first: &toml::de::Error) -> Vec<RouteError> {
    let fault = |e: &toml::de::Error| {
        let (line, column) = line_and_column(text, e.span().map_or(0, |s| s.start));
        RouteError::File { line, column, message: e.message().replace('\n', " ") }
    };
    let mut all = vec![fault(first)];
    if let Ok(table) = DeTable::parse(text)
        && let Some(DeValue::Array(legs)) = table.get_ref().get("leg").map(|v| v.get_ref())
    {
        for leg in legs.iter() {
            if let Err(e) = Leg::deserialize(ValueDeserializer::from(leg.clone())) {
                let found = fault(&e);
                if !all.contains(&found) {
                    all.push(found);
                }
            }
        }
    }
    all
}

/// Where in the text a field of a leg stands; the leg's kind when it is not written.
fn offset(table: &DeTable<'_>, legs: &[usize], field: &str) -> usize {
    if let Some((first, rest)) = legs.split_first() {
        let leg = match table.get("leg").map(|v| v.get_ref()) {
            Some(DeValue::Array(all)) => all.get(*first),
            _ => None,
        };
        return match leg.map(|l| (l.get_ref(), l.span().start)) {
            Some((DeValue::Table(inner), at)) => match offset(inner, rest, field) {
                0 => at,
                found => found,
            },
            _ => 0,
        };
    }
    let by_key = |name: &str| table.iter().find(|(k, _)| k.get_ref() == name).map(|(k, _)| k.span().start);
    by_key(field).or_else(|| by_key("kind")).unwrap_or(0)
}

fn check_legs(legs: &[Leg], faults: &mut Faults) {
    let outer = faults.place.clone();
    for (i, leg) in legs.iter().enumerate() {
        faults.legs.push(i);
        let name = format!("leg {} ({})", i + 1, leg.kind.word());
        faults.place = if faults.legs.len() > 1 { format!("{outer}, {name}") } else { name };
        check_leg(leg, &legs[..i], faults);
        faults.legs.pop();
    }
    faults.place = outer;
}

fn check_leg(leg: &Leg, before: &[Leg], f: &mut Faults) {
    check_idle_fields(leg, f);
    let region_ends = leg.region.from.zip(leg.region.to).is_some_and(|(a, b)| match (a, b) {
        (Amount::Bytes(a), Amount::Bytes(b)) => a >= b,
        (Amount::Percent(a), Amount::Percent(b)) => a >= b,
        _ => false,
    });
    f.unless(!region_ends, "region", "its region ends before it begins");
    let past_end = leg.region.from.iter().chain(&leg.region.to).all(is_share);
    f.unless(past_end, "region", "its region goes past the end of the drive: at most 100 %");
    f.unless(leg.repeat != Some(0), "repeat", "repeat must be at least 1");
    f.unless(leg.repeat.is_none_or(|n| n <= 1000), "repeat", "repeat must be at most 1,000");
    if leg.kind == LegKind::Group {
        f.unless(!leg.legs.is_empty(), "", "repeats nothing: add at least one [[leg.leg]]");
        f.unless(
            leg.over.lists() <= 1,
            "over",
            "over takes one of fill, region, block and depth; put a group into a group for two",
        );
        let repeats = leg.over.lists() == 1 || leg.repeat.is_some();
        f.unless(repeats, "", "never repeats: give over, or repeat");
        f.unless(rises(&leg.over.fill), "over", "its levels of fill must rise");
        f.unless(leg.over.fill.iter().all(is_share), "over", "a level of fill is at most 100 %");
        f.unless(
            leg.over.block.iter().all(|b| is_block(*b)),
            "over",
            "blocks are multiples of 512 B up to 64 MiB",
        );
        f.unless(all_within(&leg.over.depth, 1, 1024), "over", "depths lie between 1 and 1,024");
        check_rounds(leg, f);
        check_legs(&leg.legs, f);
        return;
    }
    f.unless(leg.legs.is_empty(), "leg", "legs of legs go with kind = \"group\"");
    check_ends(leg, f);
    if leg.kind.moves() {
        check_load(leg, f);
    }
    check_own_fields(leg, before, f);
}

/// A group whose rounds go on until something is steady.
fn check_rounds(group: &Leg, f: &mut Faults) {
    let Some(steady) = &group.steady else { return };
    let enough = group.repeat.is_some_and(|n| n as usize >= WINDOW);
    f.unless(enough, "repeat", "rounds until steady need repeat = 5 or more: so many rounds are looked at");
    f.unless(
        group.over.lists() == 0,
        "over",
        "rounds until steady go over nothing: put a group with over into it",
    );
    let nested = group.legs.iter().any(|l| l.kind == LegKind::Group && has_steady(l));
    f.unless(!nested, "steady", "a group of rounds cannot lie in another");
    // What is wrong with the legs themselves is told of them.
    if group.legs.is_empty() || legs_when_laid_out(&group.legs) > MOST_LEGS as u64 {
        return;
    }
    let round = Route {
        name: String::new(),
        about: String::new(),
        interval: Duration::ZERO,
        limits: Vec::new(),
        legs: group.legs.clone(),
    };
    let round = round.laid_out(LaidOn::Drive).legs;
    f.unless(!steady.legs.is_empty(), "steady", "steady.legs names no leg of a round");
    for leg in &steady.legs {
        match usize::from(*leg).checked_sub(1).and_then(|i| round.get(i)) {
            None => {
                f.add("steady", format!("steady.legs has {leg}, and a round ends at leg {}", round.len()))
            }
            Some(l) if !l.kind.is_plain_load() => {
                let kind = l.kind.word();
                f.add(
                    "steady",
                    format!(
                        "leg {leg} of a round is a {kind}: only a write, read or mixed leg can be followed"
                    ),
                );
            }
            Some(_) => {}
        }
    }
}

fn has_steady(leg: &Leg) -> bool {
    leg.steady.is_some() || leg.legs.iter().any(has_steady)
}

/// How a leg ends.
fn check_ends(leg: &Leg, f: &mut Faults) {
    let until = &leg.until;
    match leg.kind {
        LegKind::Rest => {
            let ends = until.duration.is_some() || until.temperature.is_some() || until.steady;
            f.unless(ends, "until", "never ends: give until.duration, until.temperature or until.steady");
        }
        LegKind::Write | LegKind::Read | LegKind::Mixed | LegKind::Breather => {
            let ends = *until != Until::default();
            f.unless(
                ends,
                "until",
                "never ends: give until.bytes, duration, temperature, past_cache_end or steady",
            );
        }
        LegKind::Pace => {
            let ends = leg.search || *until != Until::default();
            f.unless(ends, "until", "never ends: give until.bytes or duration");
        }
        // These end by themselves.
        LegKind::Fill
        | LegKind::Scan
        | LegKind::Spans
        | LegKind::Ladder
        | LegKind::Verify
        | LegKind::Freight
        | LegKind::Wipe
        | LegKind::Selftest
        | LegKind::Group => {}
    }
    if !leg.written_share().is_normal() {
        let reads = leg.kind == LegKind::Pace && until.past_cache_end.is_some();
        f.unless(!reads, "until", "past_cache_end goes with a write");
    }
    let nothing = until.duration.is_some_and(|d| d.is_zero())
        || until.bytes.is_some_and(|a| a == Amount::Bytes(Bytes::ZERO));
    f.unless(!nothing, "until", "ends before it begins: give more than zero");
}

/// What it puts on the drive.
fn check_load(leg: &Leg, f: &mut Faults) {
    f.unless(is_block(leg.block), "block", "block must be a multiple of 512 B between 512 B and 64 MiB");
    f.unless((1..=1024).contains(&leg.depth), "depth", "depth must lie between 1 and 1,024");
    let workers = (1..=64).contains(&leg.workers) && leg.workers <= leg.depth.max(1);
    f.unless(workers, "workers", "workers must lie between 1 and 64, and be no more than the depth");
    let share = leg.read_percent.is_none_or(|p| (1..=99).contains(&p));
    f.unless(share, "read_percent", "read_percent must lie between 1 and 99: use a read or a write leg else");
    let squeezed = leg.compressible_percent;
    f.unless(squeezed <= 100, "compressible_percent", "compressible_percent must lie between 0 and 100");
    f.unless(
        !leg.stamped || squeezed == 0,
        "stamped",
        "stamped data is incompressible: leave out compressible_percent",
    );
    f.unless(
        leg.flush_every.is_none_or(|every| every >= leg.block),
        "flush_every",
        "flush_every must be at least one block",
    );
    f.unless(
        leg.flush_every.is_none() || leg.workers == 1,
        "flush_every",
        "flush_every goes with one worker: of several, nobody knows whose part was flushed",
    );
    check_mixture(leg, f);
    let often = Duration::from_millis(1)..=Duration::from_secs(10);
    f.unless(
        leg.lookout.is_none_or(|e| often.contains(&e)),
        "lookout",
        "lookout must lie between 1 ms and 10 s",
    );
    check_decide(leg, f);
    let in_order = leg.pattern == Pattern::Sequential;
    f.unless(!leg.stamped || in_order, "pattern", "a stamped write goes through its region in order");
    f.unless(leg.rate.is_none_or(|r| r.get() >= 1.0), "rate", "rate must be at least 1 B/s");
    f.unless(leg.stop_after_errors != Some(0), "stop_after_errors", "stop_after_errors must be at least 1");
}

/// Experiments in the middle of a leg.
fn check_decide(leg: &Leg, f: &mut Faults) {
    f.unless(
        !leg.decide || leg.may_decide(),
        "decide",
        "decide goes with a plain write by one worker: not with stamps, drawn sizes or places, a rate, or backwards",
    );
    f.unless(
        leg.decide || (leg.decide_time.is_none() && leg.decide_bytes.is_none() && leg.decide_wear.is_none()),
        "decide_time",
        "decide_time, decide_bytes and decide_wear go with decide",
    );
    let time = Duration::from_secs(1)..=Duration::from_secs(86_400);
    f.unless(
        leg.decide_time.is_none_or(|t| time.contains(&t)),
        "decide_time",
        "decide_time must lie between 1 s and 1 day: with none, leave decide out",
    );
    f.unless(
        leg.decide_bytes.is_none_or(|b| b.get() > 0),
        "decide_bytes",
        "decide_bytes must be more than nothing: with none, leave decide out",
    );
    let some = |a: Amount| {
        matches!(a, Amount::Bytes(b) if b.get() > 0)
            || matches!(a, Amount::Percent(p) if p > 0.0 && p <= 100.0)
    };
    f.unless(
        leg.decide_wear.is_none_or(some),
        "decide_wear",
        "decide_wear is a share of what the drive is rated to take, up to 100 %, or bytes: with none, leave decide out",
    );
}

/// Sizes and places that are drawn.
fn check_mixture(leg: &Leg, f: &mut Faults) {
    let drawn = !leg.mix.is_empty() || !leg.spread.is_empty();
    let random = leg.pattern == Pattern::Random;
    f.unless(!drawn || random, "pattern", "sizes and places that are drawn need pattern = \"random\"");
    let blocks = leg.mix.iter().all(|s| is_block(s.block));
    f.unless(blocks, "mix", "sizes of operations are multiples of 512 B up to 64 MiB");
    let adds_up = |all: f64, none: bool| none || (98.0..=102.0).contains(&all);
    let sizes = adds_up(leg.mix.iter().map(|s| s.percent).sum(), leg.mix.is_empty());
    f.unless(sizes, "mix", "the shares of its sizes do not add up to 100 %");
    let shares = adds_up(leg.spread.iter().map(|p| p.percent).sum(), leg.spread.is_empty());
    f.unless(shares, "spread", "the shares of its operations do not add up to 100 %");
    let region = leg.spread.iter().map(|p| p.of_region).sum::<f64>() <= 100.1;
    f.unless(region, "spread", "its parts are more than the region");
    let many = leg.mix.len() * leg.spread.len().max(1) <= 1000;
    f.unless(many, "mix", "there may be 1,000 sizes and parts in all");
}

/// Fields that do nothing in a leg of this kind.
fn check_idle_fields(leg: &Leg, f: &mut Faults) {
    for field in Field::all().filter(|d| !d.kinds().contains(&leg.kind) && d.is_given(leg)) {
        let words: Vec<String> = field.kinds().iter().map(|k| format!("\"{}\"", k.word())).collect();
        let kinds = match words.as_slice() {
            [few @ .., last] if !few.is_empty() => format!("{} or {last}", few.join(", ")),
            all => all.concat(),
        };
        // The key of the table that it lies in is what has a place in the file.
        let key = field.key().split('.').next().unwrap_or_default();
        let message = format!("{} does nothing here: it goes with kind = {kinds}", field.key());
        f.all.push(Fault { legs: f.legs.clone(), field: key, place: f.place.clone(), idle: true, message });
    }
}

/// The fields that belong to one kind of leg.
fn check_own_fields(leg: &Leg, before: &[Leg], f: &mut Faults) {
    f.unless(
        !leg.by.is_whole() || leg.region == Region::default(),
        "region",
        &format!("a {} erases the whole drive: leave the region out, or wipe by discard", leg.by),
    );
    use LegKind::{Breather, Fill, Freight, Ladder, Pace, Scan, Spans, Verify};
    match leg.kind {
        Fill => {
            f.unless(leg.level.is_some(), "level", "fills to no level: give level = \"50 %\"");
            f.unless(leg.level.as_ref().is_none_or(is_share), "level", "a level of fill is at most 100 %");
        }
        Scan => {
            f.unless((1..=16).contains(&leg.passes()), "passes", "passes must lie between 1 and 16");
            f.unless((16..=65_536).contains(&leg.bins()), "bins", "bins must lie between 16 and 65,536");
        }
        Spans => {
            f.unless(leg.shares.iter().all(is_share), "shares", "a share of the drive is at most 100 %");
            f.unless(leg.shares.len() <= 32, "shares", "there may be 32 shares at most");
            f.unless(leg.rounds() <= 50, "repeat", "each span is measured 50 times at most");
        }
        Ladder => {
            f.unless(
                leg.blocks.iter().all(|b| is_block(*b)),
                "blocks",
                "blocks are multiples of 512 B up to 64 MiB",
            );
            f.unless(all_within(&leg.depths, 1, 1024), "depths", "depths lie between 1 and 1,024");
            f.unless(all_within(&leg.crews, 1, 64), "crews", "crews lie between 1 and 64 workers");
            f.unless(leg.rungs() <= 2000, "", "has more than 2,000 rungs");
            let backward = leg.patterns.contains(&Pattern::Backward);
            f.unless(!backward, "patterns", "a ladder goes sequential or random");
        }
        Pace => {
            let stream = leg.stream.as_deref().map(str::parse::<Stream>);
            f.unless(
                leg.rate.is_some() != stream.is_some(),
                "rate",
                "a stream needs its rate, or its geometry as stream, and not both",
            );
            if let Some(Err(e)) = stream {
                f.add("stream", e);
            }
            f.unless(
                leg.buffer.is_none_or(|b| b.get() >= 1 << 16),
                "buffer",
                "buffer must be at least 64 KiB",
            );
        }
        Breather => {
            f.unless(!leg.rests.is_empty(), "rests", "never rests: give rests = [\"1 min\", \"4 min\"]")
        }
        Verify => {
            let here = before.iter().any(|l| l.stamped);
            f.unless(
                here || leg.of.is_some(),
                "",
                "has nothing to read back: put a write with stamped = true before it, or name a haul with of",
            );
        }
        Freight => check_freight(leg, before, f),
        _ => {}
    }
}

/// What it does with which tree.
fn check_freight(leg: &Leg, before: &[Leg], f: &mut Faults) {
    let writes = leg.carry == Carry::Write;
    if leg.has_tree() {
        f.unless(
            writes || leg.carry == Carry::Copy,
            "files",
            "a tree is stated where it is written or copied: leave out files and like",
        );
        f.unless(leg.files.is_empty() || leg.like.is_none(), "like", "give files or like, not both");
        let sized = leg.like.is_some() || leg.total.is_some() || leg.count.is_some();
        f.unless(sized, "files", "never ends: give total or count with files");
        let whole: f64 = leg.files.iter().map(|c| c.percent).sum();
        let adds_up = leg.files.is_empty() || (99.0..=101.0).contains(&whole);
        f.unless(adds_up, "files", "the shares of its files do not add up to 100 %");
        let rises = leg.files.iter().all(|c| c.from <= c.to && c.to <= Bytes::from_gb(100_000));
        f.unless(rises, "files", "sizes of files go from the smaller to the larger, up to 100 TB");
        if leg.like.is_none()
            && sized
            && adds_up
            && rises
            && let Err(why) = leg.tree_spec().limits()
        {
            f.add("files", why);
        }
    } else {
        let numbers = leg.total.is_some() || leg.count.is_some();
        f.unless(!numbers, "files", "total and count go with files");
        let there = before.iter().any(Leg::has_tree);
        f.unless(there, "files", "has no tree: give files or like, or put a leg with a tree before it");
    }
    let alone = leg.carry != Carry::Copy || leg.at == Side::Target;
    f.unless(alone, "at", "a copy goes from the source to the target: leave out at");
    f.unless(leg.folder_depth <= 16, "folder_depth", "folder_depth must lie between 0 and 16");
    let width = leg.folder_width.is_none_or(|w| (1..=10_000).contains(&w));
    f.unless(width, "folder_width", "folder_width must lie between 1 and 10,000");
    f.unless(
        leg.duplicates_percent <= 100,
        "duplicates_percent",
        "duplicates_percent must lie between 0 and 100",
    );
    let aligned = leg.through == Through::Cache || leg.block.get().is_multiple_of(4096);
    f.unless(aligned, "block", "a block that goes past the page cache is a multiple of 4 KiB");
}

#[cfg(test)]
#[path = "check_tests.rs"]
mod tests;
