//! How long a route will take on a drive, from what is known of it: earlier hauls of the route, levels, loads and heat that its
//! hauls showed, surveys, what its maker claims, what its link carries.

use std::time::Duration;

use crate::archive::claims::Claims;
use crate::archive::digest::{Digest, HeatDigest, LoadFigure};
use crate::archive::forecast::{self, Air, Shown};
use crate::archive::warmth::{Wait, Warmth};
use crate::conclude::models::Told;
use crate::drive::{LoadKind, Pattern};
use crate::quantity::FigureId;
use crate::quantity::steady::WINDOW;
use crate::quantity::units::{Bytes, Rate};
use crate::record::forecast::Forecast;
use crate::route::{Leg, LegKind, Route};

/// A time that is expected, and between what it will lie.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Span {
    /// At least.
    pub low: Duration,
    /// Most likely.
    pub likely: Duration,
    /// At most; `None` where nothing tells.
    pub high: Option<Duration>,
    /// What tells it.
    pub basis: Basis,
}

/// What a time is estimated from, the best first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Basis {
    /// The legs say so themselves.
    Legs,
    /// So many whole hauls of this route on this drive.
    SameRoute(usize),
    /// What so many hauls of this drive showed.
    Hauls(usize),
    /// What the maker claims.
    Claims,
    /// What the link carries.
    Link,
}

/// How fast the drive was found to write from first to last.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Levels {
    burst: Rate,
    cache: Bytes,
    sustained: Rate,
}

impl Levels {
    /// Seconds that a write of so many bytes takes when so many were written since the last rest.
    fn seconds(&self, before: Bytes, bytes: Bytes) -> f64 {
        let quick = bytes.min(self.cache.saturating_sub(before));
        quick.as_f64() / self.burst.get() + bytes.saturating_sub(quick).as_f64() / self.sustained.get()
    }
}

/// What is known of a drive.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// Whole hauls: the route, the size of the drive or file, and how long it took.
    whole: Vec<(Route, Bytes, Duration)>,
    levels: Vec<Levels>,
    loads: Vec<LoadFigure>,
    over_the_ground: Vec<Rate>,
    heats: Vec<HeatDigest>,
    shown: Vec<Shown>,
    /// Of other drives of the model.
    sisters: Vec<Shown>,
    claims: Option<Claims>,
    link: Option<Rate>,
}

/// Of one source, this much either way; of several, from the least to the most and a little more.
const ALONE: f64 = 0.15;
const AMONG: f64 = 0.05;

impl Known {
    /// Of a drive of which there is no haul: what its maker claims, what its link carries.
    #[must_use]
    pub fn of_paper(claims: Option<Claims>, link: Option<Rate>) -> Self {
        Self { claims, link, ..Self::default() }
    }

    /// Bytes that the maker says it can be written with.
    #[must_use]
    pub fn endurance(&self) -> Option<Bytes> {
        self.claims.as_ref()?.endurance
    }

    /// Takes in a haul that came to its end: its route as it was laid out, the size of the drive or file, what it was made in, how long
    /// it took, and its digest. The newest comes first.
    pub fn learn(&mut self, route: &Route, capacity: Bytes, air: Air, took: Duration, digest: &Digest) {
        self.shown.push(Shown { air, capacity, route: route.clone(), legs: digest.legs.clone() });
        if digest.treatment.cut_legs.is_empty() {
            self.whole.push((route.clone(), capacity, took));
        }
        let figure = |id| digest.figure(id).map(|f| f.value).filter(|v| *v > 0.0);
        let writes = route.legs.iter().find(|l| l.kind.moves());
        let plain = writes.is_some_and(|l| l.kind == LegKind::Write && l.pattern == Pattern::Sequential);
        if let (true, false, Some(sustained)) = (plain, digest.paced, figure(FigureId::Sustained)) {
            let cache = figure(FigureId::Cache);
            // Without a cache end the mean tells the time: what slopes sustains less at its end than on its way.
            let lasting =
                if cache.is_some() { sustained } else { figure(FigureId::Mean).unwrap_or(sustained) };
            self.levels.push(Levels {
                burst: Rate::new(figure(FigureId::Burst).unwrap_or(sustained)),
                cache: Bytes::new(cache.unwrap_or(0.0) as u64),
                sustained: Rate::new(lasting),
            });
        }
        self.loads.extend(digest.loads.iter().cloned());
        self.over_the_ground.extend(figure(FigureId::MeanOverTheGround).map(Rate::new));
        if let Told::Known(heat) = &digest.heat_model {
            self.heats.push(heat.clone());
        }
    }

    /// Takes in a haul of another drive of the same model, as [`Self::learn`] does; it tells where the drive's own hauls do not.
    pub fn learn_of_sister(&mut self, route: &Route, capacity: Bytes, air: Air, digest: &Digest) {
        self.sisters.push(Shown { air, capacity, route: route.clone(), legs: digest.legs.clone() });
    }

    /// Seconds, by each source that knows the load of a leg.
    fn seconds(&self, leg: &Leg, since_rest: Bytes, bytes: Bytes) -> Vec<f64> {
        let at =
            |rates: Vec<f64>| rates.into_iter().filter(|r| *r > 0.0).map(|r| bytes.as_f64() / r).collect();
        let (kind, depth) = (load_kind(leg), leg.depth * leg.workers.max(1));
        let same = |l: &&LoadFigure| (l.kind, l.pattern) == (kind, leg.pattern);
        let exact = |l: &&LoadFigure| same(l) && (l.block_bytes, l.depth) == (leg.block.get(), depth);
        let rates = |f: &dyn Fn(&&LoadFigure) -> bool| -> Vec<f64> {
            self.loads.iter().filter(f).map(|l| l.rate).collect()
        };
        if kind == LoadKind::Write && leg.pattern == Pattern::Sequential && !self.levels.is_empty() {
            return self.levels.iter().map(|l| l.seconds(since_rest, bytes)).collect();
        }
        if leg.kind == LegKind::Scan && !self.over_the_ground.is_empty() {
            return at(self.over_the_ground.iter().map(|r| r.get()).collect());
        }
        let known = rates(&exact);
        if !known.is_empty() || leg.pattern == Pattern::Random {
            return at(known);
        }
        // One after the other, block and depth matter less than which way the bytes go.
        let mut known = rates(&same);
        if kind == LoadKind::Read {
            known.extend(self.over_the_ground.iter().map(|r| r.get()));
        }
        at(known)
    }

    /// Seconds at the least, by what is on paper.
    fn on_paper(&self, leg: &Leg, since_rest: Bytes, bytes: Bytes) -> Option<(f64, Basis)> {
        let claims = self.claims.as_ref();
        let kind = load_kind(leg);
        if let (LoadKind::Write, Pattern::Sequential, Some(c)) = (kind, leg.pattern, claims) {
            let parts = c.sequential_write(since_rest, bytes);
            if !parts.is_empty() {
                let took = parts.iter().map(|(bytes, rate)| bytes.as_f64() / rate.get()).sum();
                return Some((took, Basis::Claims));
            }
        }
        let claimed = claims.and_then(|c| match (kind, leg.pattern) {
            (LoadKind::Read, Pattern::Random) => {
                c.random_read.map(|p| Rate::new(p.get() * leg.block.as_f64()))
            }
            (_, Pattern::Random) => c.random_write.map(|p| Rate::new(p.get() * leg.block.as_f64())),
            (LoadKind::Read, _) => c.read,
            _ => c.write,
        });
        let paper = claimed.map(|r| (r, Basis::Claims)).or(self.link.map(|r| (r, Basis::Link)));
        paper.filter(|(r, _)| r.get() > 0.0).map(|(r, basis)| (bytes.as_f64() / r.get(), basis))
    }

    /// What a route will be like that is laid out, in this air: each leg by the drive's own hauls, else by those of other drives of its
    /// model, else by what its maker claims.
    #[must_use]
    pub fn forecast(&self, route: &Route, capacity: Bytes, air: &Air) -> Forecast {
        let mut forecast = forecast::of(route, capacity, air, &self.shown);
        let mut add = |other: Forecast| {
            let new = other.legs.into_iter().filter(|l| forecast.leg(l.leg).is_none()).collect::<Vec<_>>();
            forecast.legs.extend(new);
        };
        if !self.sisters.is_empty() {
            add(forecast::of_sisters(route, capacity, air, &self.sisters));
        }
        if let Some(claims) = &self.claims {
            add(forecast::of_claims(route, capacity, claims));
        }
        forecast.legs.sort_by_key(|l| l.leg);
        forecast
    }

    /// How long each leg of a route takes that is laid out, in order; `None` for one that nothing tells of.
    #[must_use]
    pub fn legs(&self, route: &Route, capacity: Bytes) -> Vec<Option<Span>> {
        let (mut filled, mut since_rest) = (Bytes::ZERO, Bytes::ZERO);
        let mut drives: Vec<Warmth<'_>> = self.heats.iter().map(Warmth::at_rest).collect();
        let one = |leg: &Leg| {
            let bytes = match leg.kind {
                LegKind::Fill => leg.bytes_on(capacity).map(|to| {
                    let more = to.saturating_sub(filled);
                    filled = filled.max(to);
                    more
                }),
                _ => leg.bytes_on(capacity),
            };
            match leg.kind {
                LegKind::Wipe => (filled, since_rest) = (Bytes::ZERO, Bytes::ZERO),
                LegKind::Rest => since_rest = Bytes::ZERO,
                _ => {}
            }
            let rate = self.rate(leg, since_rest, bytes);
            let span = self.leg(leg, since_rest, bytes, rate.map(|rate| waits(&drives, leg, rate)));
            let took = span.map_or(0.0, |s| s.likely.as_secs_f64());
            drives.iter_mut().for_each(|d| d.pass(rate.unwrap_or(Rate::ZERO), took));
            if load_kind(leg) != LoadKind::Read && leg.kind.moves() {
                since_rest += bytes.unwrap_or_default();
            }
            span
        };
        route.legs.iter().map(one).collect()
    }

    /// The rate that a leg will have on the whole; `None` where nothing tells.
    fn rate(&self, leg: &Leg, since_rest: Bytes, bytes: Option<Bytes>) -> Option<Rate> {
        if !leg.kind.moves() {
            return Some(Rate::ZERO);
        }
        if leg.rate.is_some() {
            return leg.rate;
        }
        // One that only time or heat ends is long: what it does after its first gigabytes tells more.
        let bytes = bytes.unwrap_or(Bytes::from_gb(100));
        let (_, seconds, _) = spread(self.seconds(leg, since_rest, bytes))?;
        (seconds > 0.0).then(|| Rate::new(bytes.as_f64() / seconds))
    }

    /// `warmth`: when it will be as warm or cool as the leg wants it, one of each model that tells; `None` where its rate is not
    /// known.
    fn leg(
        &self,
        leg: &Leg,
        since_rest: Bytes,
        bytes: Option<Bytes>,
        warmth: Option<Vec<Wait>>,
    ) -> Option<Span> {
        let exact = |d: Duration| Span { low: d, likely: d, high: Some(d), basis: Basis::Legs };
        let by_bytes = bytes.and_then(|bytes| self.for_bytes(leg, since_rest, bytes));
        let by_cache = leg.until.past_cache_end.and_then(|past| self.past_the_cache(leg, since_rest, past));
        let by_heat = leg.until.temperature.and(warmth).and_then(of_waits);
        // Whichever comes first ends it; what nothing tells of may end it sooner.
        let round = leg.turn.as_ref().and_then(|t| t.rounds.as_ref());
        // Rounds beyond the first five may not be needed.
        let sooner = leg.until.steady
            || round.is_some_and(|r| usize::from(r.number) >= WINDOW)
            || (leg.until.past_cache_end.is_some() && by_cache.is_none())
            || (leg.until.temperature.is_some() && by_heat.is_none());
        let ends = [leg.takes().map(exact), by_bytes, by_cache, by_heat];
        let first = ends.into_iter().flatten().reduce(|a, b| Span {
            low: a.low.min(b.low),
            likely: a.likely.min(b.likely),
            high: a.high.into_iter().chain(b.high).min(),
            basis: match (a.high, b.high) {
                (Some(high), _) if high <= b.low => a.basis,
                (_, Some(high)) if high <= a.low => b.basis,
                _ => a.basis.max(b.basis),
            },
        })?;
        Some(if sooner { Span { low: Duration::ZERO, ..first } } else { first })
    }

    /// How long a leg takes for so many bytes.
    fn for_bytes(&self, leg: &Leg, since_rest: Bytes, bytes: Bytes) -> Option<Span> {
        if let Some(rate) = leg.rate {
            let d = rate.time_for(bytes)?;
            return Some(Span { low: d, likely: d, high: Some(d), basis: Basis::Legs });
        }
        let all = self.seconds(leg, since_rest, bytes);
        of_hauls(all).or_else(|| {
            let (least, basis) = self.on_paper(leg, since_rest, bytes)?;
            Some(Span { low: seconds(least), likely: seconds(least), high: None, basis })
        })
    }

    /// How long a write takes to so many bytes past the end of the cache; `None` where no haul found one.
    fn past_the_cache(&self, leg: &Leg, since_rest: Bytes, past: Bytes) -> Option<Span> {
        let plain = leg.kind == LegKind::Write && leg.pattern == Pattern::Sequential && leg.rate.is_none();
        let ended = self.levels.iter().filter(|l| plain && l.cache > Bytes::ZERO);
        let one = |l: &Levels| l.seconds(since_rest, l.cache.saturating_sub(since_rest) + past);
        of_hauls(ended.map(one).collect())
    }

    /// How long a route takes that is laid out.
    ///
    /// # Errors
    /// The first leg that nothing tells of, counted from 0.
    pub fn route(&self, route: &Route, capacity: Bytes) -> Result<Span, usize> {
        // A share of a smaller file is less to write.
        let same_load = |w: &&(Route, Bytes, Duration)| w.0.legs == route.legs && w.1 == capacity;
        let same: Vec<f64> = self.whole.iter().filter(same_load).map(|w| w.2.as_secs_f64()).collect();
        if let Some((low, middle, high)) = spread(same.clone()) {
            let of = Duration::from_secs_f64;
            return Ok(Span {
                low: of(low),
                likely: of(middle),
                high: Some(of(high)),
                basis: Basis::SameRoute(same.len()),
            });
        }
        let legs = self.legs(route, capacity);
        if let Some(unknown) = legs.iter().position(Option::is_none) {
            return Err(unknown);
        }
        let none = Span {
            low: Duration::ZERO,
            likely: Duration::ZERO,
            high: Some(Duration::ZERO),
            basis: Basis::Legs,
        };
        Ok(legs.into_iter().flatten().fold(none, |sum, leg| Span {
            low: sum.low.saturating_add(leg.low),
            likely: sum.likely.saturating_add(leg.likely),
            high: sum.high.zip(leg.high).map(|(a, b)| a.saturating_add(b)),
            // It is no better than the weakest of them.
            basis: sum.basis.max(leg.basis),
        }))
    }
}

/// The least, the median and the most, with room for what was not seen; `None` of nothing.
fn spread(mut all: Vec<f64>) -> Option<(f64, f64, f64)> {
    all.sort_unstable_by(f64::total_cmp);
    let (least, most) = (*all.first()?, *all.last()?);
    let room = if all.len() == 1 { ALONE } else { AMONG };
    Some((least * (1.0 - room), all[all.len() / 2], most * (1.0 + room)))
}

fn seconds(s: f64) -> Duration {
    Duration::try_from_secs_f64(s.max(0.0)).unwrap_or(Duration::MAX)
}

/// The span of what so many sources say, in s.
fn of_hauls(all: Vec<f64>) -> Option<Span> {
    let basis = Basis::Hauls(all.len());
    let (low, middle, high) = spread(all)?;
    Some(Span { low: seconds(low), likely: seconds(middle), high: Some(seconds(high)), basis })
}

/// When the temperature ends a leg of this rate, by each model that says it does.
fn waits(drives: &[Warmth<'_>], leg: &Leg, rate: Rate) -> Vec<Wait> {
    let Some(goal) = leg.until.temperature else { return Vec::new() };
    let rests = leg.kind == LegKind::Rest;
    drives.iter().filter_map(|d| if rests { d.until_cool(goal) } else { d.until_warm(goal, rate) }).collect()
}

/// The span of the times that several models tell.
fn of_waits(waits: Vec<Wait>) -> Option<Span> {
    let (_, likely, _) = spread(waits.iter().map(|w| w.1).collect())?;
    let (low, ..) = spread(waits.iter().map(|w| w.0).collect())?;
    let high: Option<Vec<f64>> = waits.iter().map(|w| w.2).collect();
    let high = high.and_then(spread).map(|(.., high)| seconds(high));
    Some(Span { low: seconds(low), likely: seconds(likely), high, basis: Basis::Hauls(waits.len()) })
}

fn load_kind(leg: &Leg) -> LoadKind {
    match leg.kind {
        LegKind::Read | LegKind::Verify | LegKind::Spans => LoadKind::Read,
        LegKind::Mixed => LoadKind::Mixed,
        LegKind::Scan | LegKind::Ladder | LegKind::Pace if leg.written_share() <= 0.0 => LoadKind::Read,
        _ => LoadKind::Write,
    }
}

#[cfg(test)]
#[path = "estimate_tests.rs"]
mod tests;
