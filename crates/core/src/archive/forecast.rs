//! What a route will be like on a drive before it is driven: rate, temperature and time of every leg, each with a band, from what
//! earlier hauls of the drive showed on the same way.
//!
//! Nothing is fitted: what a haul showed at a place of a leg is what the next is expected to show there. The band of a rate holds nine
//! samples in ten: the 5 % and 95 % quantiles of the samples of the earlier hauls, wider by how far those hauls lie from each other
//! (a prediction interval: Student's t with n − 1 degrees of freedom and a factor √(1 + 1/n)).

use statrs::distribution::{ContinuousCDF, StudentsT};

use crate::archive::claims::Claims;
use crate::archive::profile::{Bin, Doing, LegProfile};
use crate::drive::Pattern;
use crate::quantity::units::{Bytes, Celsius};
use crate::record::Conditions;
use crate::record::forecast::{Band, Forecast, LegForecast, Part, Source};
use crate::route::{Leg, LegKind, Route};

/// Parts of a leg at most and at least, and of all legs together as a rule: a haul's head is read often.
const PARTS: usize = 64;
const FEWEST: usize = 8;
const TOGETHER: usize = 256;
/// Legs that are forecast.
const LEGS: usize = 48;
/// Hauls that are asked, the newest first.
const HAULS: usize = 8;
/// Of one haul alone it is not known how far two lie apart: so much, as a share of the rate.
const ALONE: f64 = 0.02;
/// By how much two hauls of one drive differ as a rule, as a share, and how many hauls that is worth.
const USUAL: f64 = 0.04;
const USUAL_HAULS: f64 = 4.0;
/// A band goes no further beyond what was seen than this share.
const BEYOND: f64 = 0.15;
/// Temperatures beyond those that were seen, K.
const MARGIN_K: f64 = 1.0;

/// By how much drives of one model differ beyond what hauls of one do, as a share. Assumed, not measured: nothing is concluded from it.
const SISTERS: f64 = 0.1;

/// Air that is warmer or cooler by more is another, K.
const SAME_AIR_K: f64 = 5.0;

/// In what a haul is made, as far as it is stated.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Air {
    /// How the drive is cooled.
    pub cooling: Option<String>,
    /// Temperature of the air.
    pub ambient: Option<Celsius>,
}

impl Air {
    /// As the conditions of a haul state it.
    #[must_use]
    pub fn of(conditions: &Conditions) -> Self {
        Self { cooling: conditions.cooling.clone(), ambient: conditions.ambient }
    }

    /// Cooled in the same words, in air of the same temperature where both are stated.
    pub(super) fn is_like(&self, other: &Self) -> bool {
        let far = |(a, b): (Celsius, Celsius)| (a.degrees() - b.degrees()).abs() > SAME_AIR_K;
        self.cooling == other.cooling && !self.ambient.zip(other.ambient).is_some_and(far)
    }
}

/// What the legs of an earlier haul showed, and under which conditions.
#[derive(Debug, Clone)]
pub struct Shown {
    /// What it was made in.
    pub air: Air,
    /// Size of the drive or file.
    pub capacity: Bytes,
    /// Its route as it was laid out.
    pub route: Route,
    /// Its legs.
    pub legs: Vec<LegProfile>,
}

/// What a profile shows between two places of a leg; beyond its end what it showed last.
fn between(bins: &[Bin], from: f64, to: f64) -> Option<Bin> {
    let last = bins.last()?;
    let mut begin = 0.0f64;
    let (mut seconds, mut rate, mut degrees): (f64, Option<[f64; 3]>, Option<[f64; 2]>) = (0.0, None, None);
    let mut weight = 0.0;
    let widest = |a: [f64; 2], b: [f64; 2]| [a[0].min(b[0]), a[1].max(b[1])];
    for b in bins {
        let (a, z) = (begin.max(from), b.to.min(to));
        let length = b.to - begin;
        begin = b.to;
        if z <= a || length <= 0.0 {
            continue;
        }
        let share = (z - a) / length;
        seconds += b.seconds * share;
        degrees = match (degrees, b.degrees) {
            (Some(d), Some(e)) => Some(widest(d, e)),
            (d, e) => d.or(e),
        };
        let own = b.seconds * share;
        rate = match (rate, b.rate) {
            // Where the rate changes its level both may be met.
            (Some(r), Some(s)) if (r[1] / s[1].max(1.0)).ln().abs() > 0.1 => {
                Some([r[0].min(s[0]), if own > weight { s[1] } else { r[1] }, r[2].max(s[2])])
            }
            (Some(r), Some(s)) => {
                let mix = |i: usize| (r[i] * weight + s[i] * own) / (weight + own).max(1e-12);
                Some([mix(0), mix(1), mix(2)])
            }
            (r, s) => r.or(s),
        };
        weight += own;
    }
    if to > last.to {
        let beyond = to - last.to.max(from);
        // A leg that rests is measured in seconds, and one that moves goes on as it did when it last moved.
        let rated = bins.iter().rev().find_map(|b| b.rate);
        seconds += beyond * rated.map_or(1.0, |r| 1.0 / r[1].max(1.0));
        rate = rate.or(rated);
        degrees = degrees.or(last.degrees);
    }
    Some(Bin { to, seconds, rate, degrees })
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len().max(1) as f64
}

/// The band of the rates that several hauls showed at one place.
fn band_of(rates: &[[f64; 3]]) -> Option<Band> {
    let n = rates.len();
    let of = |i: usize| rates.iter().map(|r| r[i]).collect::<Vec<f64>>();
    let likely = (n > 0).then(|| mean(&of(1)))?;
    let apart = if n == 1 {
        ALONE * likely
    } else {
        let variance = of(1).iter().map(|v| (v - likely).powi(2)).sum::<f64>() / (n - 1) as f64;
        variance.sqrt()
    };
    // What a sample is off and what a haul is off come together as squares.
    let t = if n == 1 {
        2.0
    } else {
        StudentsT::new(0.0, 1.0, (n - 1) as f64).map_or(6.3, |t| t.inverse_cdf(0.95)).min(3.0)
    };
    let between = t * apart * (1.0 + 1.0 / n as f64).sqrt();
    let (down, up) = (likely - mean(&of(0)), mean(&of(2)) - likely);
    let wide = |own: f64| own.max(0.0).hypot(between);
    // Hauls that differ much (one throttled, one did not) say little of what lies beyond both of them.
    let lowest = of(0).into_iter().fold(f64::MAX, f64::min) * (1.0 - BEYOND);
    let highest = of(2).into_iter().fold(0.0, f64::max) * (1.0 + BEYOND);
    let (low, high) = ((likely - wide(down)).max(lowest), (likely + wide(up)).min(highest));
    Some(Band { low: low.max(0.0), likely, high })
}

/// By how much the mean rate of a part may be off in the next haul, as a share: a prediction interval of 99 % from the times that
/// earlier hauls took, their spread drawn towards [`USUAL`] as if that had been seen in so many hauls more.
fn apart(seconds: &[f64]) -> f64 {
    let n = seconds.len();
    let logs: Vec<f64> = seconds.iter().filter(|s| **s > 0.0).map(|s| s.ln()).collect();
    if logs.is_empty() {
        return f64::INFINITY;
    }
    let middle = mean(&logs);
    let squares: f64 = logs.iter().map(|v| (v - middle).powi(2)).sum();
    let freedom = (n - 1) as f64 + USUAL_HAULS;
    let spread = ((squares + USUAL_HAULS * USUAL * USUAL) / freedom).sqrt();
    let t = StudentsT::new(0.0, 1.0, freedom).map_or(4.6, |t| t.inverse_cdf(0.995));
    t * spread * (1.0 + 1.0 / n as f64).sqrt()
}

fn leg_of(
    leg: &Leg,
    index: usize,
    capacity: Bytes,
    shown: &[(&LegProfile, bool)],
    count: usize,
) -> Option<LegForecast> {
    if shown.is_empty() {
        return None;
    }
    let longest = |p: &LegProfile| p.bins.last().map_or(0.0, |b| b.to);
    // Where it ends: by its bytes or its time, else where the earlier ones ended by themselves.
    let usual = mean(&shown.iter().map(|(p, _)| longest(p)).collect::<Vec<f64>>());
    let end = match leg.kind {
        LegKind::Rest => leg.takes().map_or(usual, |d| d.as_secs_f64()),
        _ => leg.bytes_on(capacity).map_or(usual, Bytes::as_f64),
    };
    if end <= 0.0 {
        return None;
    }
    let mut parts = Vec::with_capacity(count);
    for i in 0..count {
        let (from, to) = (end * i as f64 / count as f64, end * (i + 1) as f64 / count as f64);
        let all: Vec<Bin> = shown.iter().filter_map(|(p, _)| between(&p.bins, from, to)).collect();
        let rates: Vec<[f64; 3]> = all.iter().filter_map(|b| b.rate).collect();
        // As warm as the same leg of the same route made it; another leg began at another temperature.
        let own = shown.iter().zip(&all).filter(|((_, same), _)| *same).filter_map(|(_, b)| b.degrees);
        let heat: Vec<[f64; 2]> = own.collect();
        let degrees = (!heat.is_empty()).then(|| Band {
            low: heat.iter().map(|d| d[0]).fold(f64::MAX, f64::min) - MARGIN_K,
            likely: mean(&heat.iter().map(|d| f64::midpoint(d[0], d[1])).collect::<Vec<f64>>()),
            high: heat.iter().map(|d| d[1]).fold(f64::MIN, f64::max) + MARGIN_K,
        });
        let took: Vec<f64> = all.iter().map(|b| b.seconds).collect();
        let seconds = if leg.kind == LegKind::Rest { to - from } else { mean(&took) };
        parts.push(Part { to, seconds, rate: band_of(&rates), apart: apart(&took), degrees });
    }
    // Time may end it sooner.
    if let Some(most) = leg.takes().map(|d| d.as_secs_f64()).filter(|_| leg.kind != LegKind::Rest) {
        let mut sum = 0.0;
        let within = parts.iter().take_while(|p| {
            sum += p.seconds;
            sum <= most * 1.02
        });
        let keep = within.count().max(1);
        parts.truncate(keep);
    }
    let same_route = shown.iter().all(|(_, same)| *same);
    Some(LegForecast { leg: index as u16, hauls: shown.len(), same_route, source: Source::Drive, parts })
}

/// What a route will be like that is laid out, from what the legs of earlier hauls showed, the newest first. Hauls that were cooled as
/// this one will be come before others, and the same leg of the same route before the same load elsewhere.
#[must_use]
pub fn of(route: &Route, capacity: Bytes, air: &Air, earlier: &[Shown]) -> Forecast {
    let alike: Vec<&Shown> = earlier.iter().filter(|s| s.air.is_like(air)).collect();
    // What was cooled otherwise, or in other air, tells of loads, and not how warm it gets.
    let cooled_alike = !alike.is_empty();
    let asked: Vec<&Shown> = if cooled_alike { alike } else { earlier.iter().collect() };
    let mut since_rest = Bytes::ZERO;
    let mut legs = Vec::new();
    let count = (TOGETHER / route.legs.len().max(1)).clamp(FEWEST, PARTS);
    for (i, leg) in route.legs.iter().enumerate().take(LEGS) {
        if matches!(leg.kind, LegKind::Rest | LegKind::Wipe) {
            since_rest = Bytes::ZERO;
        }
        let doing = Doing::of(leg);
        let near = |p: &LegProfile| {
            let scale = capacity.as_f64().max(1.0) * 0.01;
            (p.since_rest_bytes as f64 - since_rest.as_f64()).abs() <= scale
        };
        // A leg that was cut by hand tells as far as it went; past that it says nothing.
        let same_route = |s: &&&Shown| s.route.legs == route.legs && s.capacity == capacity;
        let mut shown: Vec<(&LegProfile, bool)> = asked
            .iter()
            .filter(same_route)
            .filter_map(|s| s.legs.iter().find(|p| usize::from(p.leg) == i && p.whole && !p.bins.is_empty()))
            .map(|p| (p, cooled_alike))
            .take(HAULS)
            .collect();
        if shown.is_empty() {
            let loads = asked.iter().flat_map(|s| &s.legs);
            let alike = loads.filter(|p| {
                p.doing == doing && !p.bins.is_empty() && (doing.kind != LegKind::Write || near(p))
            });
            shown = alike.map(|p| (p, false)).take(HAULS).collect();
        }
        legs.extend(leg_of(leg, i, capacity, &shown, count));
        if leg.destroys() {
            since_rest += leg.bytes_on(capacity).unwrap_or_default();
        }
    }
    Forecast { legs }
}

/// As [`of`], from hauls of other drives of the same model: rates in wider bands, and no temperature, since another drive sits elsewhere.
#[must_use]
pub fn of_sisters(route: &Route, capacity: Bytes, air: &Air, earlier: &[Shown]) -> Forecast {
    let mut forecast = of(route, capacity, air, earlier);
    for leg in &mut forecast.legs {
        (leg.same_route, leg.source) = (false, Source::Model);
        for part in &mut leg.parts {
            part.degrees = None;
            part.rate = part.rate.map(|b| {
                let wider = |own: f64| own.max(0.0).hypot(SISTERS * b.likely);
                Band {
                    low: (b.likely - wider(b.likely - b.low)).max(0.0),
                    high: b.likely + wider(b.high - b.likely),
                    ..b
                }
            });
        }
    }
    forecast
}

/// As [`of`], from what the maker claims of sequential writes and reads: a line without a band, since a claim has none. Legs that are
/// paced or not sequential have no claim that tells.
#[must_use]
pub fn of_claims(route: &Route, capacity: Bytes, claims: &Claims) -> Forecast {
    let mut since_rest = Bytes::ZERO;
    let mut legs = Vec::new();
    for (i, leg) in route.legs.iter().enumerate().take(LEGS) {
        if matches!(leg.kind, LegKind::Rest | LegKind::Wipe) {
            since_rest = Bytes::ZERO;
        }
        let plain = leg.pattern == Pattern::Sequential && leg.rate.is_none();
        let told = match (leg.kind, leg.bytes_on(capacity).filter(|b| *b > Bytes::ZERO && plain)) {
            (LegKind::Write, Some(all)) => claims.sequential_write(since_rest, all),
            (LegKind::Read, Some(all)) => {
                claims.read.filter(|r| r.get() > 0.0).map(|r| (all, r)).into_iter().collect()
            }
            _ => Vec::new(),
        };
        if leg.destroys() {
            since_rest += leg.bytes_on(capacity).unwrap_or_default();
        }
        let mut to = 0.0;
        let parts: Vec<Part> = told
            .into_iter()
            .map(|(bytes, rate)| {
                to += bytes.as_f64();
                let v = rate.get();
                Part {
                    to,
                    seconds: bytes.as_f64() / v,
                    rate: Some(Band { low: v, likely: v, high: v }),
                    apart: f64::INFINITY,
                    degrees: None,
                }
            })
            .collect();
        if !parts.is_empty() {
            legs.push(LegForecast {
                leg: i as u16,
                hauls: 0,
                same_route: false,
                source: Source::Claims,
                parts,
            });
        }
    }
    Forecast { legs }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Rate;

    fn bin(to: f64, seconds: f64, rate: f64) -> Bin {
        Bin { to, seconds, rate: Some([rate * 0.95, rate, rate * 1.05]), degrees: Some([40.0, 50.0]) }
    }

    fn route(bytes: &str) -> Route {
        let text = format!("name = \"x\"\n[[leg]]\nkind = \"write\"\nuntil = {{ bytes = \"{bytes}\" }}\n");
        Route::from_toml(&text).unwrap()
    }

    fn shown(route: &Route, rate: f64) -> Shown {
        // 100 GB at a rate, then 100 GB at a quarter of it.
        let mut bins: Vec<Bin> = (1..=10).map(|i| bin(f64::from(i) * 1e10, 1e10 / rate, rate)).collect();
        bins.extend((11..=20).map(|i| bin(f64::from(i) * 1e10, 4e10 / rate, rate / 4.0)));
        let doing = Doing::of(&route.legs[0]);
        Shown {
            air: Air::default(),
            capacity: Bytes::from_gb(1000),
            route: route.clone(),
            legs: vec![LegProfile { leg: 0, doing, since_rest_bytes: 0, whole: true, bins }],
        }
    }

    #[test]
    fn what_was_shown_at_a_place_is_expected_there() {
        let r = route("200 GB");
        let earlier = [shown(&r, 2e9), shown(&r, 2.02e9), shown(&r, 1.98e9)];
        let f = of(&r, Bytes::from_gb(1000), &Air::default(), &earlier);
        let leg = f.leg(0).unwrap();
        assert_eq!((leg.hauls, leg.parts.len()), (3, PARTS));
        // 50 s and 200 s.
        assert!((leg.seconds() - 250.0).abs() < 1.0, "{}", leg.seconds());
        let fast = leg.at(50e9).unwrap().rate.unwrap();
        assert!(
            (fast.likely / 2e9 - 1.0).abs() < 1e-3 && fast.holds(1.91e9) && !fast.holds(1.8e9),
            "{fast:?}"
        );
        let slow = leg.at(150e9).unwrap().rate.unwrap();
        assert!((slow.likely / 0.5e9 - 1.0).abs() < 1e-3 && !slow.holds(0.6e9), "{slow:?}");
        // Where the level changes both may be met.
        let edge = leg.at(100.5e9).unwrap().rate.unwrap();
        assert!(edge.holds(0.5e9), "{edge:?}");
        assert_eq!(leg.at(50e9).unwrap().degrees.unwrap().high, 51.0);
        assert!(leg.at(300e9).is_none());
    }

    #[test]
    fn sisters_tell_in_wider_bands_and_claims_without_one() {
        let r = route("200 GB");
        let earlier = [shown(&r, 2e9), shown(&r, 2.02e9), shown(&r, 1.98e9)];
        let (own, sisters) = (
            of(&r, Bytes::from_gb(1000), &Air::default(), &earlier),
            of_sisters(&r, Bytes::from_gb(1000), &Air::default(), &earlier),
        );
        let at = |f: &Forecast| f.leg(0).unwrap().at(50e9).unwrap().rate.unwrap();
        assert!(at(&sisters).holds(1.81e9) && !at(&own).holds(1.81e9), "{:?}", at(&sisters));
        let leg = sisters.leg(0).unwrap();
        assert!(!leg.same_route && leg.parts.iter().all(|p| p.degrees.is_none()));
        assert_eq!(sisters.source(), Source::Model);
        let claims = Claims {
            write: Some(Rate::from_mb_s(5000.0)),
            sustained_write: Some(Rate::from_mb_s(1000.0)),
            cache: Some(Bytes::from_gb(50)),
            ..Claims::default()
        };
        // 10 s from the cache, then 150 s.
        let paper = of_claims(&r, Bytes::from_gb(1000), &claims);
        assert!((paper.leg(0).unwrap().seconds() - 160.0).abs() < 1e-6, "{paper:?}");
        assert_eq!((paper.source(), paper.hauls()), (Source::Claims, 0));
        // Nothing is claimed of what lasts: a part of the time is no time of the leg.
        let brief = Claims { sustained_write: None, ..claims.clone() };
        assert_eq!(of_claims(&r, Bytes::from_gb(1000), &brief).legs, []);
        // "Up to" for who knows how many bytes: what lasts is expected of all of them.
        let vague = Claims { cache: None, ..claims };
        assert!((of_claims(&r, Bytes::from_gb(1000), &vague).leg(0).unwrap().seconds() - 200.0).abs() < 1e-6);
    }

    fn f_same(route: &Route, earlier: &[Shown]) -> bool {
        of(route, Bytes::from_gb(1000), &Air::default(), earlier).leg(0).is_some_and(|l| l.same_route)
    }

    #[test]
    fn a_longer_leg_goes_on_as_it_went_and_a_shorter_one_ends_sooner() {
        let known = route("200 GB");
        let earlier = [shown(&known, 2e9)];
        let long = of(&route("400 GB"), Bytes::from_gb(1000), &Air::default(), &earlier);
        // 200 GB more at 0.5 GB/s.
        assert!((long.leg(0).unwrap().seconds() - 650.0).abs() < 5.0);
        // Another route: how warm it is there is not known.
        assert!(!long.leg(0).unwrap().same_route && f_same(&known, &earlier));
        assert!(long.leg(0).unwrap().parts.iter().all(|p| p.degrees.is_none()));
        // That nothing moved in its last bin is no rate of nought.
        let mut stalled = shown(&known, 2e9);
        stalled.legs[0].bins.push(Bin { to: 2e11 + 1.0, seconds: 3.0, rate: None, degrees: None });
        let long = of(&route("400 GB"), Bytes::from_gb(1000), &Air::default(), &[stalled]);
        assert!((long.leg(0).unwrap().seconds() - 653.0).abs() < 5.0, "{}", long.leg(0).unwrap().seconds());
        let short = of(&route("50 GB"), Bytes::from_gb(1000), &Air::default(), &earlier);
        assert!((short.leg(0).unwrap().seconds() - 25.0).abs() < 0.5);
        assert_eq!(of(&route("50 GB"), Bytes::from_gb(1000), &Air::default(), &[]), Forecast::default());
    }

    #[test]
    fn hauls_cooled_alike_come_first_and_other_loads_say_nothing() {
        let r = route("200 GB");
        let with = |cooling: Option<&str>, ambient: Option<f64>| Air {
            cooling: cooling.map(str::to_owned),
            ambient: ambient.map(Celsius::new),
        };
        let fan = Shown { air: with(Some("fan"), None), ..shown(&r, 3e9) };
        let f = of(&r, Bytes::from_gb(1000), &with(Some("fan"), None), &[shown(&r, 2e9), fan]);
        // Warm air is no repeat of cool air: its rates are expected, and nothing is judged by them.
        let cool = Shown { air: with(None, Some(24.0)), ..shown(&r, 2e9) };
        let same = |ambient| {
            of(&r, Bytes::from_gb(1000), &with(None, ambient), std::slice::from_ref(&cool)).legs[0].same_route
        };
        assert_eq!([Some(27.0), None, Some(38.0)].map(same), [true, true, false]);
        assert!((f.leg(0).unwrap().at(1e9).unwrap().rate.unwrap().likely / 3e9 - 1.0).abs() < 1e-6);
        let read = Route::from_toml("name='r'\n[[leg]]\nkind='read'\nuntil={bytes='1 GB'}\n").unwrap();
        assert!(of(&read, Bytes::from_gb(1000), &Air::default(), &[shown(&r, 2e9)]).legs.is_empty());
    }
}
