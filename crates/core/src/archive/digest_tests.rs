use crate::quantity::units::Celsius;
use std::time::Duration;

use super::*;
use crate::record::{Event, Sample};

/// 60 s at 1 GB/s that swings by 1 %, then 120 s at 250 MB/s.
fn two_levels() -> Readings {
    let mut r = Readings::new();
    r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for i in 1..=1800u64 {
        let bytes =
            if i <= 600 { 100_000_000 + i * 7919 % 1_000_000 } else { 25_000_000 + i * 7919 % 250_000 };
        r.push(&Event::Sample(Sample {
            end: Duration::from_millis(i * 100),
            span: Duration::from_millis(100),
            written: Bytes::new(bytes),
            temperature: Some(Celsius::new(45.0 - (i / 100 % 2) as f64)),
            fill_ppm: Some((i * 500) as u32),
            errors: u32::from(i == 900),
            ..Sample::default()
        }));
    }
    r
}

fn digest() -> Digest {
    let r = two_levels();
    Digest::of(&r, &r.conclude())
}

#[test]
fn figures_lie_within_their_intervals() {
    let d = digest();
    for (name, about) in
        [(FigureId::Burst, 1.005e9), (FigureId::Sustained, 251.25e6), (FigureId::Cache, 60.3e9)]
    {
        let f = d.figure(name).unwrap();
        let (low, high) = f.interval.unwrap();
        assert!((f.value / about - 1.0).abs() < 0.01, "{f:?}");
        assert!(low <= f.value && f.value <= high && high - low < 0.05 * f.value, "{f:?}");
    }
    assert_eq!(d.figure(FigureId::Hottest).map(|f| f.value), Some(45.0));
    // The air around it was not stated: there is no rise.
    assert!(d.figure(FigureId::RiseAboveAmbient).is_none());
}

#[test]
fn treatment_is_counted() {
    let t = digest().treatment;
    assert_eq!(
        t.written_bytes,
        (1..=1800u64)
            .map(|i| if i <= 600 {
                100_000_000 + i * 7919 % 1_000_000
            } else {
                25_000_000 + i * 7919 % 250_000
            })
            .sum::<u64>()
    );
    assert_eq!((t.read_bytes, t.errors, t.wiped), (0, 1, false));
    assert!((t.filled.unwrap() - 0.9).abs() < 1e-6 && t.rested_s < 0.2, "{t:?}");
}

#[test]
fn a_digest_comes_back_from_json_the_same() {
    let kept = digest();
    let back: Digest = serde_json::from_str(&serde_json::to_string(&kept).unwrap()).unwrap();
    assert_eq!((&back.treatment, back.findings.len()), (&kept.treatment, 1));
    // Models come back so that they say the same.
    assert!(
        back.cache_model.known().is_some() && back.heat_model.known().is_some()
            || back.heat_words().len() == 1
    );
    assert_eq!((back.cache_words(), back.heat_words()), (kept.cache_words(), kept.heat_words()));
    assert_eq!(back.figures.len(), kept.figures.len());
    for (b, k) in back.figures.iter().zip(&kept.figures) {
        assert_eq!((&b.name, b.quantity, b.better), (&k.name, k.quantity, k.better));
        // Reading a number back may cost its last bit.
        assert!((b.value - k.value).abs() <= 1e-14 * k.value.abs(), "{b:?} {k:?}");
    }
    // Evidence stays with the record.
    assert!(back.findings.iter().all(|f| f.evidence.is_empty()));
}

#[test]
fn quantities_are_told_with_their_units() {
    let told = [
        (Quantity::Rate, 3.18e9, "3 180 MB/s"),
        (Quantity::PerSecond, 912_345.4, "912 345 IOPS"),
        (Quantity::Bytes, 312.4e9, "312.4 GB"),
        (Quantity::Seconds, 0.0004, "400 µs"),
        (Quantity::Seconds, 45.0, "45 s"),
        (Quantity::Celsius, 61.0, "61 °C"),
        (Quantity::Kelvin, 12.34, "12.3 K"),
        (Quantity::Share, 0.714, "71.4 %"),
    ];
    for (q, v, words) in told {
        assert_eq!(q.words(v), words);
    }
    assert_eq!(Quantity::Celsius.signed(-32.0), "−32 K");
    assert_eq!(Quantity::Rate.signed(4e6), "+4 MB/s");
    assert_eq!(
        (Quantity::Seconds.signed(1e-12), Quantity::Share.signed(0.0001)),
        ("none".into(), "none".into())
    );
}

#[test]
fn nothing_recorded_has_no_figures_and_no_harm() {
    let d = Digest::of(&Readings::new(), &Conclusions::default());
    assert!(d.figures.iter().all(|f| f.value.is_finite()) && d.loads.is_empty(), "{:?}", d.figures);
    assert_eq!(d.treatment.written_bytes, 0);
}

/// A minute at 3 GB/s, then half a minute each at 1 and at 3 GB/s; `hot` says how warm it was.
fn comes_and_goes(hot: impl Fn(bool, u64) -> f64) -> Readings {
    let mut r = Readings::new();
    r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for i in 1..=4800u64 {
        let low = i > 600 && (i / 200) % 2 == 1;
        let rate = if low { 100_000_000 } else { 300_000_000 };
        r.push(&Event::Sample(Sample {
            end: Duration::from_millis(i * 100),
            span: Duration::from_millis(100),
            written: Bytes::new(rate + i * 7919 % 3_000_000),
            temperature: Some(Celsius::new(hot(low, i))),
            ..Sample::default()
        }));
    }
    r
}

/// It had the median of both rates for its burst, and the interval of their mean.
#[test]
fn a_rate_that_comes_and_goes_has_figures_within_their_intervals() {
    let warm = |low: bool, i: u64| {
        let into = (i % 200) as f64 / 200.0;
        match i {
            ..=600 => (40.0 + 40.0 * i as f64 / 600.0).round(),
            _ if low => (80.0 - 10.0 * into).round(),
            _ => (70.0 + 10.0 * into).round(),
        }
    };
    for (readings, throttles) in
        [(comes_and_goes(warm), true), (comes_and_goes(|_, i| 40.0 + (i / 1000 % 2) as f64), false)]
    {
        let conclusions = readings.conclude();
        let found = conclusions.findings.iter().any(|f| f.kind == FindingKind::Throttle);
        assert_eq!(found, throttles, "{:#?}", conclusions.findings);
        let d = Digest::of(&readings, &conclusions);
        for id in [FigureId::Burst, FigureId::Sustained] {
            let f = d.figure(id).unwrap();
            let (low, high) = f.interval.unwrap();
            assert!(low <= f.value && f.value <= high, "{f:?}");
        }
        if throttles {
            let value = |id| d.figure(id).unwrap().value;
            assert!((value(FigureId::Burst) / 3.015e9 - 1.0).abs() < 0.02, "{}", value(FigureId::Burst));
            assert!(
                (value(FigureId::Sustained) / 2.0e9 - 1.0).abs() < 0.05,
                "{}",
                value(FigureId::Sustained)
            );
        }
    }
}
