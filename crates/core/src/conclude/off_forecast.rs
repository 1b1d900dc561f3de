//! Where a haul leaves its forecast: for how long, by how much, and what of it did not hold.
//!
//! Compared is the mean rate of each part of a leg with what earlier hauls took for it. What is off by more than chance
//! ([`Part::apart`]) in three parts one after the other is told once, from the first of them on.

use crate::conclude::Finding;
use crate::conclude::finding::Assumption;
use crate::drive::Link;
use crate::quantity::FindingKind;
use crate::quantity::stats::median;
use crate::quantity::units::{Bytes, Celsius, Rate, clock};
use crate::readings::{LegReading, Readings, Ruler};
use crate::record::forecast::{LegForecast, Part};
use crate::route::LegKind;

/// So many parts in a row are no chance.
const ROW: usize = 3;
/// Less than this is not worth telling, as a share.
const LEAST: f64 = 0.05;
/// Two rates are alike within this share.
const ALIKE: f64 = 0.08;
/// Parts in which a level may change.
const NEAR: usize = 3;
/// Warmer than the band by so much is warmer, K.
const WARMER_K: f64 = 2.0;

/// The end of a level moves by so much from haul to haul, as a share.
const USUAL_SHIFT: f64 = 0.12;

/// A part of a leg that was passed.
struct Passed {
    samples: std::ops::Range<usize>,
    /// Bytes of the leg at its beginning and end.
    from: f64,
    to: f64,
    expected: f64,
    measured: f64,
    apart: f64,
}

impl Passed {
    /// +1 where it is faster than chance allows, −1 where it is slower, 0 else.
    fn off(&self) -> i8 {
        let by = (self.measured / self.expected).ln();
        if by.abs() <= self.apart.max(LEAST) { 0 } else { by.signum() as i8 }
    }
}

fn passed(readings: &Readings, reading: &LegReading, forecast: &LegForecast) -> Vec<Passed> {
    let series = readings.series();
    let base = reading.moved_before.as_f64();
    // What legs after this one moved is none of its own: it may have been cut short.
    let next = readings.legs().iter().find(|l| l.from > reading.from).map(|l| l.moved_before.as_f64());
    let moved = next.unwrap_or_else(|| series.extent(Ruler::Moved)) - base;
    let mut from = 0.0;
    let one = |p: &Part| {
        let begin = std::mem::replace(&mut from, p.to);
        let samples = series.between(Ruler::Moved, base + begin, base + p.to);
        // One that is not yet passed says nothing.
        let whole = p.to <= moved * (1.0 + 1e-9) && !samples.is_empty() && p.seconds > 0.0;
        whole.then(|| Passed {
            expected: (p.to - begin) / p.seconds,
            measured: series.mean_rate(samples.clone()),
            from: begin,
            to: p.to,
            apart: p.apart,
            samples,
        })
    };
    let all = forecast.parts.iter().map_while(one);
    all.filter(|p| p.expected > 0.0 && p.measured > 0.0).collect()
}

/// What of the forecast did not hold in these parts of a leg.
fn failed(
    readings: &Readings,
    forecast: &LegForecast,
    all: &[Passed],
    off: &std::ops::Range<usize>,
) -> Assumption {
    let run = &all[off.clone()];
    // The part in which the level changed is a mixture: the middle one of all is none.
    let mut rates: Vec<f64> = run.iter().map(|p| p.measured).collect();
    let measured = median(&mut rates).unwrap_or_default();
    let alike = |a: f64, b: f64| (a / b).ln().abs() < ALIKE;
    let (first, last) = (&run[0], &run[run.len() - 1]);
    // The next level came sooner than it should have, or the one before it went on.
    // The part in which it changed before lies between both.
    let near = |parts: &[Passed]| {
        parts.iter().any(|p| alike(measured, p.expected) && !alike(first.expected, p.expected))
    };
    let next = &all[off.end..(off.end + NEAR).min(all.len())];
    let before = &all[off.start.saturating_sub(NEAR)..off.start];
    // Of a leg that was off from its beginning on no level ended sooner: it was another.
    let began_well = off.start >= 2;
    if began_well && near(next) {
        return Assumption::Change { expected_bytes: last.to as u64, found_bytes: first.from as u64 };
    }
    if began_well && near(before) {
        return Assumption::Change { expected_bytes: first.from as u64, found_bytes: last.to as u64 };
    }
    let series = readings.series();
    let hottest =
        run.iter().flat_map(|p| p.samples.clone()).filter_map(|i| series.degrees(i)).reduce(f64::max);
    let within = |p: &&Part| p.to > first.from && p.to <= last.to;
    let allowed = forecast.parts.iter().filter(within).filter_map(|p| Some(p.degrees?.high)).reduce(f64::max);
    // Heat slows a drive. One that got faster is hotter for that.
    let slower = first.off() < 0;
    let too_hot = hottest.zip(allowed).filter(|(t, most)| slower && *t > most + WARMER_K);
    if let Some((found_c, expected_c)) = too_hot {
        return Assumption::Heat { expected_c, found_c };
    }
    let link = readings.head().and_then(|h| h.drive.link.as_ref().and_then(Link::payload_ceiling));
    match link {
        Some(c) if c.get() < 0.97 * first.expected && measured > 0.8 * c.get() => {
            Assumption::Link { carries_mb_s: c.mb_s() }
        }
        _ => Assumption::Level,
    }
}

/// Levels change a little sooner or later in each haul: that is no news.
fn is_usual(failed: &Assumption) -> bool {
    match failed {
        Assumption::Change { expected_bytes, found_bytes } => {
            found_bytes.abs_diff(*expected_bytes) as f64 <= USUAL_SHIFT * *expected_bytes as f64
        }
        Assumption::Level | Assumption::Heat { .. } | Assumption::Link { .. } => false,
    }
}

fn words(failed: &Assumption) -> String {
    match failed {
        Assumption::Level => {
            "The rate itself is another; no change of level, heat or link of the record explains it.".into()
        }
        Assumption::Change { expected_bytes, found_bytes } => format!(
            "The level changed after {} of the leg; in the hauls before it did after {}.",
            Bytes::new(*found_bytes),
            Bytes::new(*expected_bytes)
        ),
        Assumption::Heat { expected_c, found_c } => format!(
            "It was {} there; in the hauls before it was {} at most.",
            Celsius::new(*found_c),
            Celsius::new(*expected_c)
        ),
        Assumption::Link { carries_mb_s } => {
            format!("Its link carries {} now, less than was expected.", Rate::from_mb_s(*carries_mb_s))
        }
    }
}

fn tell(
    readings: &Readings,
    forecast: &LegForecast,
    all: &[Passed],
    off: std::ops::Range<usize>,
    failed: Assumption,
) -> Finding {
    let run = &all[off.clone()];
    let (first, last) = (&run[0], &run[run.len() - 1]);
    let series = readings.series();
    let bytes = last.to - first.from;
    let rate = |of: fn(&Passed) -> f64| {
        Rate::new(bytes / run.iter().map(|p| (p.to - p.from) / of(p)).sum::<f64>().max(1e-9))
    };
    let (expected, measured) = (rate(|p| p.expected), rate(|p| p.measured));
    let sample = first.samples.start;
    let end = series.end(last.samples.end - 1);
    let goes_on = off.end == all.len();
    let percent = (measured.get() / expected.get() - 1.0) * 100.0;
    let hauls = if forecast.hauls == 1 { "1 haul".to_owned() } else { format!("{} hauls", forecast.hauls) };
    let evidence = vec![
        format!(
            "{measured} from {} to {}, where {hauls} before showed {expected}: {}{:.0} %.",
            clock(series.end(sample)),
            clock(end),
            if percent < 0.0 { "\u{2212}" } else { "+" },
            percent.abs()
        ),
        words(&failed),
    ];
    let written = Bytes::new(series.written_before(sample));
    Finding {
        elapsed: series.end(sample),
        end_elapsed: (!goes_on).then_some(end),
        written,
        written_low: written,
        written_high: written,
        before: Some(expected),
        after: Some(measured),
        temperature: series.degrees(sample).map(Celsius::new),
        confidence: CONFIDENCE,
        failed: Some(failed),
        evidence,
        ..Finding::new(FindingKind::OffForecast)
    }
}

/// As `prove` found it where as many drives changed as did not: of what is told so much is so, for the reason that is named.
const CONFIDENCE: f64 = 0.95;

/// Where the legs of a haul left what was expected of them.
#[must_use]
pub fn findings(readings: &Readings) -> Vec<Finding> {
    let Some(head) = readings.head() else { return Vec::new() };
    let Some(forecast) = &head.forecast else { return Vec::new() };
    let mut found = Vec::new();
    for reading in readings.legs() {
        let rests = head.route.legs.get(usize::from(reading.leg)).is_none_or(|l| l.kind == LegKind::Rest);
        // What a like load did elsewhere is an expectation, and no measure of this one.
        let Some(expected) = forecast.leg(reading.leg).filter(|l| l.same_route && !rests) else { continue };
        let all = passed(readings, reading, expected);
        let mut i = 0;
        while i < all.len() {
            let way = all[i].off();
            let run = all[i..].iter().take_while(|p| p.off() == way).count();
            if way != 0 && run >= ROW {
                let failed = failed(readings, expected, &all, &(i..i + run));
                if !is_usual(&failed) {
                    found.push(tell(readings, expected, &all, i..i + run, failed));
                }
            }
            i += run.max(1);
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::drive::{DriveIdentity, DriveKind};
    use crate::record::forecast::Forecast;
    use crate::record::{Event, HaulHead, Sample};
    use crate::route::Route;

    /// 64 parts of 1 GB each: 32 at 1 GB/s and 32 at a quarter of it, ± 10 %, 50 °C at most.
    fn forecast() -> Forecast {
        let part = |i: u32| Part {
            to: f64::from(i) * 1e9,
            seconds: if i <= 32 { 1.0 } else { 4.0 },
            rate: None,
            apart: 0.1,
            degrees: Some(crate::record::forecast::Band { low: 40.0, likely: 45.0, high: 50.0 }),
        };
        Forecast {
            legs: vec![LegForecast {
                leg: 0,
                hauls: 3,
                same_route: true,
                source: crate::record::forecast::Source::Drive,
                parts: (1..=64).map(part).collect(),
            }],
        }
    }

    /// A haul whose first level ends after so many gigabytes, with levels of these rates in GB/s.
    fn haul(end: f64, rates: (f64, f64), degrees: f64) -> Readings {
        let mut r = Readings::new();
        let route = "name='x'\n[[leg]]\nkind='write'\nuntil={bytes='64 GB'}\n";
        r.push(&Event::HaulStarted(Box::new(HaulHead {
            forecast: Some(forecast()),
            ..HaulHead::plain(
                "made",
                DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000)),
                Route::from_toml(route).unwrap(),
            )
        })));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        let (mut at, mut moved) = (0u64, 0.0);
        while moved < 64.0 {
            let rate = if moved < end { rates.0 } else { rates.1 };
            let bytes = (rate * 0.1f64).min(64.0 - moved);
            moved += bytes;
            at += 100;
            r.push(&Event::Sample(Sample {
                end: Duration::from_millis(at),
                span: Duration::from_millis(100),
                written: Bytes::new((bytes * 1e9).round() as u64),
                temperature: Some(Celsius::new(degrees)),
                ..Sample::default()
            }));
        }
        r
    }

    #[test]
    fn what_goes_as_expected_is_not_told() {
        assert_eq!(findings(&haul(32.0, (1.0, 0.25), 50.0)), []);
        assert_eq!(findings(&haul(32.0, (1.08, 0.24), 50.0)), []);
        // A little sooner is no news.
        assert_eq!(findings(&haul(29.0, (1.0, 0.25), 50.0)), []);
        assert_eq!(findings(&Readings::new()), []);
    }

    #[test]
    fn what_other_legs_moved_is_none_of_a_leg_that_was_cut_short() {
        let mut r = haul(32.0, (1.0, 0.25), 50.0);
        let whole = r.elapsed();
        r.push(&Event::LegStarted { at: whole, leg: 1 });
        assert_eq!(findings(&r), []);
        let mut cut = Readings::new();
        let events = |r: &Readings| r.head().cloned();
        cut.push(&Event::HaulStarted(Box::new(events(&r).unwrap())));
        cut.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        for i in 1..=400u64 {
            // Cut after 10 GB; the next leg moves at another rate.
            if i == 101 {
                cut.push(&Event::LegStarted { at: Duration::from_millis(10_000), leg: 1 });
            }
            let leg = u16::from(i > 100);
            cut.push(&Event::Sample(Sample {
                end: Duration::from_millis(i * 100),
                span: Duration::from_millis(100),
                leg,
                written: Bytes::from_mib(if leg == 0 { 95 } else { 900 }),
                ..Sample::default()
            }));
        }
        assert_eq!(findings(&cut), []);
    }

    #[test]
    fn what_left_its_forecast_is_told_once_with_what_did_not_hold() {
        let sooner = findings(&haul(16.0, (1.0, 0.25), 50.0));
        assert_eq!(sooner.len(), 1);
        let Some(Assumption::Change { expected_bytes, found_bytes }) = sooner[0].failed else {
            panic!("{:?}", sooner[0].failed);
        };
        let near = |a: u64, gb: f64| (a as f64 / 1e9 - gb).abs() < 1.5;
        assert!(near(expected_bytes, 32.0) && near(found_bytes, 16.0), "{sooner:?}");
        assert!(sooner[0].end_elapsed.is_some() && sooner[0].before.unwrap() > sooner[0].after.unwrap());
        let later = findings(&haul(48.0, (1.0, 0.25), 50.0));
        assert!(
            matches!(later[0].failed, Some(Assumption::Change { found_bytes, .. }) if near(found_bytes, 48.0)),
            "{later:?}"
        );
        let slower = findings(&haul(32.0, (0.7, 0.175), 50.0));
        assert_eq!((slower.len(), slower[0].failed), (1, Some(Assumption::Level)));
        assert!((slower[0].after.unwrap().get() / slower[0].before.unwrap().get() - 0.7).abs() < 0.02);
        assert!(slower[0].end_elapsed.is_none(), "it goes on to the end");
        let hotter = findings(&haul(32.0, (0.7, 0.175), 61.0));
        assert_eq!(hotter[0].failed, Some(Assumption::Heat { expected_c: 50.0, found_c: 61.0 }));
        // Work heats: a drive that got faster is hotter for that, and not faster for the heat.
        let faster = findings(&haul(32.0, (1.5, 0.375), 61.0));
        assert_eq!(faster[0].failed, Some(Assumption::Level), "{faster:?}");
        assert!(hotter[0].evidence[0].contains("where 3 hauls before showed"), "{hotter:?}");
    }
}
