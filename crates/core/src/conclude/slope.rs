//! A load that slopes from its beginning to its end, as platters do from the first address to the last: no step parts a fast stretch
//! from a slow one, and one rate for both is the rate of neither.

use std::ops::Range;

use serde::{Deserialize, Serialize};

use crate::quantity::mb_s;
use crate::quantity::units::Rate;
use crate::readings::Series;
use crate::readings::run::Run;

use super::levels::Level;

/// A slope that one figure may stand for, in ln: 10 %.
const LEAST: f64 = 0.1;
/// So much of the way from the first rate to the last lies within levels, not between them.
const WITHIN: f64 = 0.7;
/// The beginning and the end: a minute, or less of a short load.
const WINDOW_S: f64 = 60.0;
const WINDOW: f64 = 0.05;
/// Fewer samples are no mean.
const FEWEST: usize = 5;

/// The rates between which a load slopes.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Slope {
    /// Mean over its first minute, or its first twentieth where that is shorter.
    #[serde(rename = "start_mb_s", with = "mb_s")]
    pub start: Rate,
    /// Mean over its last.
    #[serde(rename = "end_mb_s", with = "mb_s")]
    pub end: Rate,
}

/// Samples of the beginning and of the end of a stretch of load; `None` where they would be too few.
#[must_use]
pub fn slope_ends(series: &Series, samples: &Range<usize>) -> Option<[Range<usize>; 2]> {
    let window = (series.loaded_s(samples.clone()) * WINDOW).min(WINDOW_S);
    let (mut head, mut tail) = (samples.start, samples.end);
    while head < samples.end && series.loaded_s(samples.start..head) < window {
        head += 1;
    }
    while tail > samples.start && series.loaded_s(tail..samples.end) < window {
        tail -= 1;
    }
    let both = [samples.start..head, tail..samples.end];
    both.iter().all(|r| r.len() >= FEWEST).then_some(both)
}

/// The slope of a load, where it has one.
#[must_use]
pub fn slope(run: &Run, levels: &[Level], series: &Series) -> Option<Slope> {
    let (first, last) = (levels.first()?, levels.last()?);
    let whole = first.entry - last.exit;
    let within: f64 = levels.iter().map(|l| l.entry - l.exit).sum();
    if whole.abs() < LEAST || within / whole < WITHIN {
        return None;
    }
    let [head, tail] = slope_ends(series, &run.samples(&(0..run.len())))?;
    let (start, end) = (Rate::new(series.mean_rate(head)), Rate::new(series.mean_rate(tail)));
    // The ends say the same as the levels.
    let measured = (start.get().max(1.0) / end.get().max(1.0)).ln();
    (measured.signum() == whole.signum() && measured.abs() >= LEAST).then_some(Slope { start, end })
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use crate::archive::digest::Digest;
    use crate::drive::{DriveIdentity, DriveKind};
    use crate::quantity::FigureId;
    use crate::quantity::units::Bytes;
    use crate::readings::Readings;
    use crate::record::{Event, HaulHead, Sample};
    use crate::route::Route;

    /// Two hours of writing, a sample a second, at a rate in MB/s that depends on the share of the time.
    fn written(rate: impl Fn(f64) -> f64) -> Readings {
        let mut r = Readings::new();
        let route = "name='x'\n[[leg]]\nkind='write'\nuntil={duration='2 h'}\n";
        r.push(&Event::HaulStarted(Box::new(HaulHead::plain(
            "made",
            DriveIdentity::plain("sim:made", DriveKind::Simulated, Bytes::from_gb(4000)),
            Route::from_toml(route).unwrap(),
        ))));
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        let mut seed = 1u64;
        for i in 1..=7200u64 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let noise = 1.0 + 0.02 * ((seed >> 40) as f64 / f64::from(1 << 24) - 0.5);
            let mb = rate(i as f64 / 7200.0) * noise;
            r.push(&Event::Sample(Sample {
                end: Duration::from_secs(i),
                span: Duration::from_secs(1),
                written: Bytes::new((mb * 1e6) as u64),
                ..Sample::default()
            }));
        }
        r
    }

    #[test]
    fn platters_burst_with_the_rate_of_their_first_minute() {
        let r = written(|t| 267.0 - 127.0 * t);
        let c = r.conclude();
        let slope = c.figures.slope.unwrap();
        assert!(
            (slope.start.mb_s() - 266.5).abs() < 0.5 && (slope.end.mb_s() - 140.5).abs() < 0.5,
            "{slope:?}"
        );
        assert_eq!((c.figures.burst, c.figures.sustained), (Some(slope.start), Some(slope.end)));
        // The interval is that of a minute, not of the way from the first address to the last.
        let digest = Digest::of(&r, &c);
        for (id, truth) in [(FigureId::Burst, 266.5e6), (FigureId::Sustained, 140.5e6)] {
            let f = digest.figure(id).unwrap();
            let (low, high) = f.interval.unwrap();
            assert!(low < truth && truth < high && high - low < 0.02 * truth, "{id:?}: {f:?}");
        }
    }

    #[test]
    fn what_has_levels_or_none_does_not_slope() {
        for (name, rate) in [
            ("even", (|_| 200.0) as fn(f64) -> f64),
            ("a step", |t| if t < 0.3 { 400.0 } else { 150.0 }),
            ("a dip", |t| if (0.4..0.5).contains(&t) { 80.0 } else { 200.0 }),
            ("a little", |t| 200.0 - 12.0 * t),
        ] {
            let figures = written(rate).conclude().figures;
            assert_eq!(figures.slope, None, "{name}");
        }
        // Faster at the end is a slope too.
        assert!(written(|t| 140.0 + 127.0 * t).conclude().figures.slope.is_some());
    }
}
