use std::time::Duration;

use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::{Event, Sample};

use crate::lanes::{lanes, letter};

/// What is drawn, without the letters that come with it.
fn drawn(svg: &str) -> &str {
    svg.split_once("</style>").map_or("", |s| s.1)
}

fn two_levels() -> Readings {
    let mut r = Readings::new();
    r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for i in 1..=2000u64 {
        let rate = if i <= 800 { 200_000_000 } else { 30_000_000 };
        let stall = i == 1234;
        r.push(&Event::Sample(Sample {
            end: Duration::from_millis(i * 100),
            span: Duration::from_millis(100),
            written: Bytes::new(if stall { 0 } else { rate + i % 13 * 100_000 }),
            temperature: Some(Celsius::new(40.0 + (i / 100) as f64)),
            ..Sample::default()
        }));
    }
    r.push(&Event::Note { at: Duration::from_secs(100), text: "fan <on>".into() });
    r
}

#[test]
fn a_page_has_lanes_axes_flags_and_the_words_of_each_finding() {
    let r = two_levels();
    let svg = lanes(&r, &r.conclude(), Ruler::Moved).to_svg();
    for words in [
        "rate, MB/s",
        "temperature, °C",
        "latency p99: not in the record",
        "written, GB",
        "cache-end at 16",
        "fan &lt;on&gt;",
    ] {
        assert!(svg.contains(words), "{words} is missing");
    }
    assert_eq!(svg.matches(">A</text>").count(), 2, "a flag and its line below");
    let by_time = lanes(&r, &r.conclude(), Ruler::Elapsed).to_svg();
    assert!(by_time.contains("elapsed, h:mm:ss"));
}

#[test]
fn no_extreme_is_lost_in_thinning_and_the_file_stays_small() {
    let r = two_levels();
    let svg = lanes(&r, &r.conclude(), Ruler::Elapsed).to_svg();
    // The stall of one interval in 2,000 reaches the base of the rate lane, at 96 + 210 points.
    assert!(svg.lines().any(|l| l.starts_with("<polygon") && l.contains(",306 ")), "the stall is not drawn");
    assert!(svg.len() < 200_000, "{} bytes", svg.len());
}

#[test]
fn nothing_recorded_is_still_a_page() {
    let r = Readings::new();
    let svg = lanes(&r, &r.conclude(), Ruler::Position).to_svg();
    let svg = drawn(&svg);
    assert!(svg.contains("</svg>") && !svg.contains("NaN") && !svg.contains("inf"));
}

#[test]
fn letters_go_on_after_z() {
    assert_eq!([0, 25, 26, 27, 52].map(letter), ["A", "Z", "AA", "AB", "BA"]);
}

/// The words of the page with their places, and the ends of its lines: what a reader would miss first.
#[test]
fn the_page_as_it_was() {
    let r = two_levels();
    let svg = lanes(&r, &r.conclude(), Ruler::Elapsed).to_svg();
    let words: Vec<&str> = svg.lines().filter(|l| l.starts_with("<text")).collect();
    let ends: Vec<String> = svg
        .lines()
        .filter(|l| l.starts_with("<poly"))
        .filter_map(|l| {
            let points = l.split('"').nth(1)?;
            Some(format!("{} … {}", points.split(' ').next()?, points.split(' ').next_back()?))
        })
        .collect();
    insta::assert_snapshot!(format!("{}\n\n{}", words.join("\n"), ends.join("\n")));
}

mod extremes {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(24))]
        /// Whatever the place of the slowest and the fastest interval of a record, both are on the chart.
        #[test]
        fn the_slowest_and_the_fastest_interval_are_drawn(
            samples in 700u64..60_000, slow in 0.0f64..1.0, fast in 0.0f64..1.0
        ) {
            let (slow, fast) = ((slow * samples as f64) as u64, (fast * samples as f64) as u64);
            prop_assume!(slow != fast);
            let mut r = Readings::new();
            r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
            for i in 0..samples {
                let bytes = if i == slow { 10_000_000 } else if i == fast { 95_000_000 } else { 50_000_000 };
                r.push(&Event::Sample(Sample {
                    end: Duration::from_millis((i + 1) * 100),
                    span: Duration::from_millis(100),
                    written: Bytes::new(bytes),
                    ..Sample::default()
                }));
            }
            let scene = lanes(&r, &r.conclude(), Ruler::Elapsed);
            // The band of the rate lane: 96 to 306 points, up to 1 000 MB/s.
            let band: Vec<f64> = scene
                .shapes
                .iter()
                .filter_map(|s| match s {
                    crate::scene::Shape::Area { points, .. } => Some(points.iter().map(|p| p.1)),
                    _ => None,
                })
                .flatten()
                .collect();
            let lowest = band.iter().copied().fold(f64::MIN, f64::max);
            let highest = band.iter().copied().fold(f64::MAX, f64::min);
            prop_assert!((lowest - (306.0 - 0.1 * 210.0)).abs() < 0.01, "{lowest}");
            prop_assert!((highest - (306.0 - 0.95 * 210.0)).abs() < 0.01, "{highest}");
            prop_assert!(scene.to_svg().len() < 500_000);
        }
    }
}
