//! How long a route will take on a drive, from what is known of it: earlier hauls of the route, levels and loads that its hauls
//! showed, surveys, what its maker claims, what its link carries.

use std::time::Duration;

use crate::archive::claims::Claims;
use crate::archive::digest::{Digest, LoadFigure};
use crate::drive::{LoadKind, Pattern};
use crate::quantity::FigureId;
use crate::quantity::units::{Bytes, Rate};
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

    /// Takes in a haul that came to its end: its route as it was laid out, the size of the drive or file, how long it took, and its
    /// digest.
    pub fn learn(&mut self, route: &Route, capacity: Bytes, took: Duration, digest: &Digest) {
        if digest.treatment.cut_legs.is_empty() {
            self.whole.push((route.clone(), capacity, took));
        }
        let figure = |id| digest.figure(id).map(|f| f.value).filter(|v| *v > 0.0);
        let writes = route.legs.iter().find(|l| l.kind.moves());
        let plain = writes.is_some_and(|l| l.kind == LegKind::Write && l.pattern == Pattern::Sequential);
        if let (true, false, Some(sustained)) = (plain, digest.paced, figure(FigureId::Sustained)) {
            self.levels.push(Levels {
                burst: Rate::new(figure(FigureId::Burst).unwrap_or(sustained)),
                cache: Bytes::new(figure(FigureId::Cache).unwrap_or(0.0) as u64),
                sustained: Rate::new(sustained),
            });
        }
        self.loads.extend(digest.loads.iter().cloned());
        self.over_the_ground.extend(figure(FigureId::MeanOverTheGround).map(Rate::new));
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
    fn on_paper(&self, leg: &Leg, bytes: Bytes) -> Option<(f64, Basis)> {
        let claims = self.claims.as_ref();
        let kind = load_kind(leg);
        let claimed = claims.and_then(|c| match (kind, leg.pattern) {
            (LoadKind::Read, Pattern::Random) => {
                c.random_read.map(|p| Rate::new(p.get() * leg.block.as_f64()))
            }
            (_, Pattern::Random) => c.random_write.map(|p| Rate::new(p.get() * leg.block.as_f64())),
            (LoadKind::Read, _) => c.read,
            _ => c.sustained_write.or(c.write),
        });
        let paper = claimed.map(|r| (r, Basis::Claims)).or(self.link.map(|r| (r, Basis::Link)));
        paper.filter(|(r, _)| r.get() > 0.0).map(|(r, basis)| (bytes.as_f64() / r.get(), basis))
    }

    /// How long each leg of a route takes that is laid out, in order; `None` for one that nothing tells of.
    #[must_use]
    pub fn legs(&self, route: &Route, capacity: Bytes) -> Vec<Option<Span>> {
        let (mut filled, mut since_rest) = (Bytes::ZERO, Bytes::ZERO);
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
            let span = self.leg(leg, since_rest, bytes);
            if load_kind(leg) != LoadKind::Read && leg.kind.moves() {
                since_rest += bytes.unwrap_or_default();
            }
            span
        };
        route.legs.iter().map(one).collect()
    }

    fn leg(&self, leg: &Leg, since_rest: Bytes, bytes: Option<Bytes>) -> Option<Span> {
        let exact = |d: Duration| Span { low: d, likely: d, high: Some(d), basis: Basis::Legs };
        let seconds = |s: f64| Duration::try_from_secs_f64(s.max(0.0)).unwrap_or(Duration::MAX);
        let by_time = leg.takes();
        let by_bytes = bytes.and_then(|bytes| {
            if let Some(rate) = leg.rate {
                return rate.time_for(bytes).map(exact);
            }
            let all = self.seconds(leg, since_rest, bytes);
            if let Some((low, middle, high)) = spread(all.clone()) {
                let basis = Basis::Hauls(all.len());
                return Some(Span {
                    low: seconds(low),
                    likely: seconds(middle),
                    high: Some(seconds(high)),
                    basis,
                });
            }
            let (least, basis) = self.on_paper(leg, bytes)?;
            Some(Span { low: seconds(least), likely: seconds(least), high: None, basis })
        });
        match (by_time, by_bytes) {
            // Whichever comes first ends it.
            (Some(t), Some(b)) => {
                let high = Some(b.high.map_or(t, |h| h.min(t)));
                let basis = if b.low >= t { Basis::Legs } else { b.basis };
                Some(Span { low: b.low.min(t), likely: b.likely.min(t), high, basis })
            }
            // A goal of temperature or steadiness may end it sooner.
            (Some(t), None) => {
                let sooner =
                    leg.until.temperature.is_some() || leg.until.steady || leg.until.past_cache_end.is_some();
                Some(if sooner { Span { low: Duration::ZERO, ..exact(t) } } else { exact(t) })
            }
            (None, b) => b,
        }
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

fn load_kind(leg: &Leg) -> LoadKind {
    match leg.kind {
        LegKind::Read | LegKind::Verify | LegKind::Spans => LoadKind::Read,
        LegKind::Mixed => LoadKind::Mixed,
        LegKind::Scan | LegKind::Ladder | LegKind::Pace if leg.written_share() <= 0.0 => LoadKind::Read,
        _ => LoadKind::Write,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn route(legs: &str) -> Route {
        Route::from_toml(&format!("name = \"x\"\n{legs}")).unwrap()
    }

    fn one(kind: &str, more: &str) -> Route {
        route(&format!("[[leg]]\nkind = \"{kind}\"\n{more}\n"))
    }

    fn s(seconds: u64) -> Duration {
        Duration::from_secs(seconds)
    }

    fn known() -> Known {
        let mut known = Known::default();
        // 100 GB at 2,000 MB/s, then 500 MB/s.
        known.levels.push(Levels {
            burst: Rate::from_mb_s(2000.0),
            cache: Bytes::from_gb(100),
            sustained: Rate::from_mb_s(500.0),
        });
        known
    }

    const TERA: Bytes = Bytes::new(1_000_000_000_000);

    #[test]
    fn a_write_takes_what_its_levels_say_and_a_rest_gives_the_cache_back() {
        let k = known();
        let write = one("write", "until = { bytes = \"300 GB\" }");
        // 50 s for the cache and 400 s for the rest of it, from one haul: 15 % either way.
        let span = k.route(&write, TERA).unwrap();
        assert_eq!((span.likely, span.basis), (s(450), Basis::Hauls(1)));
        assert_eq!((span.low.as_secs(), span.high.unwrap().as_secs()), (382, 517));
        let write = "[[leg]]\nkind = \"write\"\nuntil = { bytes = \"100 GB\" }\n";
        let rest = "[[leg]]\nkind = \"rest\"\nuntil = { duration = \"10 s\" }\n";
        assert_eq!(k.route(&route(&format!("{write}{write}")), TERA).unwrap().likely, s(50 + 200));
        assert_eq!(k.route(&route(&format!("{write}{rest}{write}")), TERA).unwrap().likely, s(50 + 10 + 50));
    }

    #[test]
    fn a_stream_takes_its_rate_and_reads_count() {
        let k = known();
        let paced = one("write", "rate = \"100 MB/s\"\nuntil = { bytes = \"360 GB\" }");
        let span = k.route(&paced, TERA).unwrap();
        assert_eq!((span.low, span.high, span.basis), (s(3600), Some(s(3600)), Basis::Legs));
        // Of reads nothing is known: the link tells the least, and nothing the most.
        let read = one("read", "until = { bytes = \"100 %\" }");
        assert_eq!(k.route(&read, TERA), Err(0));
        let link = Known { link: Some(Rate::from_mb_s(500.0)), ..known() };
        let span = link.route(&read, TERA).unwrap();
        assert_eq!((span.low, span.high, span.basis), (s(2000), None, Basis::Link));
        let mut read_before = known();
        read_before.over_the_ground = vec![Rate::from_mb_s(200.0), Rate::from_mb_s(250.0)];
        let span = read_before.route(&one("scan", "passes = 2"), TERA).unwrap();
        assert_eq!((span.low.as_secs(), span.high.unwrap().as_secs()), (7600, 10500));
        assert_eq!(span.basis, Basis::Hauls(2));
    }

    #[test]
    fn time_and_bytes_end_a_leg_whichever_comes_first() {
        let k = known();
        let both = one("write", "until = { bytes = \"300 GB\", duration = \"60 s\" }");
        let span = k.route(&both, TERA).unwrap();
        assert_eq!((span.likely, span.high, span.basis), (s(60), Some(s(60)), Basis::Legs));
        let rest = one("rest", "until = { temperature = \"40 °C\", duration = \"10 min\" }");
        let span = k.route(&rest, TERA).unwrap();
        assert_eq!((span.low, span.high), (s(0), Some(s(600))));
        assert_eq!(k.route(&one("rest", "until = { temperature = \"40 °C\" }"), TERA), Err(0));
    }

    #[test]
    fn the_same_route_tells_more_than_anything_else() {
        let mut k = known();
        let write = one("write", "until = { bytes = \"300 GB\" }");
        k.whole = vec![
            (write.clone(), TERA, s(500)),
            (write.clone(), TERA, s(520)),
            (write.clone(), Bytes::from_gb(1), s(3)),
            (one("read", "until = { bytes = \"1 %\" }"), TERA, s(9)),
        ];
        let span = k.route(&write, TERA).unwrap();
        assert_eq!(span.basis, Basis::SameRoute(2));
        assert_eq!((span.low, span.high), (s(475), Some(s(546))));
    }

    #[test]
    fn a_fill_adds_to_the_one_before() {
        let fill = |level: &str| format!("[[leg]]\nkind = \"fill\"\nlevel = \"{level}\"\n");
        let both = route(&format!("{}{}", fill("20 %"), fill("50 %")));
        let legs = known().legs(&both, TERA);
        // 200 GB: 50 s and 200 s; then 300 GB more at 500 MB/s.
        assert_eq!(legs.iter().map(|l| l.unwrap().likely).collect::<Vec<_>>(), [s(250), s(600)]);
    }
}
