use std::time::Duration;

use hollow_mile_core::quantity::units::{Bytes, Celsius};
use hollow_mile_core::readings::{Readings, Ruler};
use hollow_mile_core::record::{Event, Sample};

use crate::lanes::{lanes, lanes_between, letter};
use crate::measure::{self, Face};
use crate::pdf;
use crate::plot::TEXT;
use crate::scene::{Anchor, Scene, Shape};

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

#[test]
fn a_part_of_a_haul_is_drawn_with_its_own_flags_and_their_letters_of_the_whole() {
    let r = two_levels();
    let c = r.conclude();
    let part = lanes_between(&r, &c, Ruler::Elapsed, Some((90.0, 110.0))).to_svg();
    assert!(part.contains("note &quot;fan &lt;on&gt;&quot;, 0:01:40") || part.contains("0:01:40"), "{part}");
    let other = lanes_between(&r, &c, Ruler::Elapsed, Some((150.0, 160.0))).to_svg();
    assert!(!other.contains("fan &lt;on&gt;"), "a note outside is not told");
}

#[test]
fn no_words_run_out_of_the_page_however_long_they_are() {
    let mut r = two_levels();
    let long = "the fan of the upper bay was taken out and put back with another cable ".repeat(12);
    r.push(&Event::Note { at: Duration::from_secs(120), text: long });
    let scene = lanes(&r, &r.conclude(), Ruler::Elapsed);
    let mut lowest = 0.0f64;
    for shape in &scene.shapes {
        let Shape::Words { at, text, size, anchor, bold, .. } = shape else { continue };
        let width = measure::width(text, *size, if *bold { Face::Bold } else { Face::Regular });
        let left = match anchor {
            Anchor::Start => at.0,
            Anchor::Middle => at.0 - width / 2.0,
            Anchor::End => at.0 - width,
        };
        assert!(left >= 0.0 && left + width <= scene.width, "{text}: {left} and {width} of {}", scene.width);
        lowest = lowest.max(at.1);
    }
    assert!(lowest <= scene.height, "{lowest} of {}", scene.height);
    let told: Vec<&str> = scene
        .shapes
        .iter()
        .filter_map(|s| match s {
            Shape::Words { text, .. } => Some(text.as_str()),
            _ => None,
        })
        .collect();
    assert_eq!(told.join(" ").matches("another cable").count(), 12, "no word is lost");
}

#[test]
fn letters_that_the_fonts_lack_are_said_in_a_pdf() {
    let mut scene = Scene::new(400.0, 200.0, "x".into());
    scene.words((10.0, 50.0), "机箱 fan", 11.0, TEXT, Anchor::Start);
    let said = |scene: &Scene| pdf::missing_letters(scene);
    assert_eq!(
        said(&scene).unwrap(),
        "Shown as \u{fffd}, which these fonts lack: U+673A, U+7BB1. SVG, Markdown and JSON have them."
    );
    assert!(pdf::pages(&[scene]).unwrap().starts_with(b"%PDF-"));
    let mut plain = Scene::new(400.0, 200.0, "x".into());
    plain.words((10.0, 50.0), "Größe 温".trim_end_matches('温'), 11.0, TEXT, Anchor::Start);
    assert_eq!(said(&plain), None);
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
