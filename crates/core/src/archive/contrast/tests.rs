use super::*;
use crate::archive::digest::{Treatment, VERSION};
use crate::conclude::Finding;
use crate::conclude::models::{Refusal, Told};
use crate::drive::{DriveIdentity, DriveKind};
use crate::quantity::FindingKind;
use crate::quantity::units::Bytes;
use crate::record::Conditions;
use crate::route;
use std::time::Duration;

fn cache_end(gb: f64) -> Finding {
    let at = Bytes::new((gb * 1e9) as u64);
    Finding { written: at, elapsed: Duration::from_secs_f64(gb), ..Finding::new(FindingKind::CacheEnd) }
}

fn slow(from_gb: u64, to_gb: u64) -> Finding {
    Finding {
        position: Some(Bytes::from_gb(from_gb)),
        position_end: Some(Bytes::from_gb(to_gb)),
        ..Finding::new(FindingKind::SlowZone)
    }
}

fn subject(haul: &str, cooling: &str, ambient: f64, sustained: f64, hottest: f64) -> Subject {
    let mut drive = DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(1000));
    drive.serial = "KW-0118".into();
    drive.model = "Moraine 1 TB".into();
    Subject {
        head: HaulHead {
            haul: haul.into(),
            drive,
            route: route::shipped("long-haul").unwrap(),
            conditions: Conditions {
                ambient: Some(Celsius::new(ambient)),
                cooling: Some(cooling.into()),
                ..Conditions::default()
            },
            started_unix_ms: 0,
            engine: "simulated".into(),
            program: "0.1.0".into(),
            forecast: None,
            held_to: Default::default(),
        },
        state: HaulState::Done,
        tags: Vec::new(),
        label: None,
        digest: Digest {
            version: VERSION,
            figures: vec![
                Figure::of(FigureId::Sustained, sustained * 1e6, None),
                Figure::of(FigureId::Hottest, hottest, None),
                Figure::of(FigureId::RiseAboveAmbient, hottest - ambient, None),
            ],
            loads: Vec::new(),
            findings: vec![cache_end(100.0)],
            cache_model: Told::CannotTell(Refusal::default()),
            heat_model: Told::CannotTell(Refusal::default()),
            slow: Vec::new(),
            treatment: Treatment { written_bytes: 500_000_000_000, ..Treatment::default() },
            paced: false,
            legs: Vec::new(),
        },
    }
}

fn repeats(cooling: &str, ambient: f64, rates: [f64; 3], hottest: f64) -> Vec<Subject> {
    let one = |(i, r): (usize, f64)| subject(&format!("{cooling}{i}"), cooling, ambient, r, hottest);
    rates.into_iter().enumerate().map(one).collect()
}

fn row<'a>(c: &'a Contrast, name: &str) -> &'a Row {
    c.figures.iter().find(|r| r.name.name() == name).unwrap()
}

#[test]
fn repeats_show_what_is_beyond_the_noise() {
    let mut all = repeats("bare", 24.0, [500.0, 505.0, 495.0], 84.0);
    all.extend(repeats("heatsink", 24.0, [900.0, 904.0, 898.0], 70.0));
    let c = Contrast::of(&all, &Group::Alike, None).unwrap();
    assert_eq!((c.sides.len(), c.repeats(0), c.repeats(1)), (2, 3, 3));
    assert_eq!(c.sides[1].name, "cooling heatsink");
    let sustained = row(&c, "sustained");
    assert_eq!(sustained.against[0].standing, Standing::Differs);
    assert!((sustained.against[0].difference.unwrap() - 400.666_667e6).abs() < 1.0);
    let test = sustained.against[0].test.unwrap();
    assert!(test.low > 390e6 && test.high < 412e6, "{test:?}");
    assert!(
        c.answer[0].contains("beyond the noise of 3 and 3 repeats")
            && c.answer[0].contains("sustained +400.7 MB/s"),
        "{:?}",
        c.answer
    );
    assert!(c.warnings.is_empty(), "{:?}", c.warnings);
    // One thing changed.
    assert_eq!(c.differs.iter().map(|d| d.name.as_str()).collect::<Vec<_>>(), ["cooling"]);
}

#[test]
fn noise_is_no_difference_and_one_haul_tells_no_noise() {
    let mut all = repeats("bare", 24.0, [500.0, 560.0, 440.0], 84.0);
    all.extend(repeats("fan", 24.0, [520.0, 470.0, 550.0], 84.0));
    let c = Contrast::of(&all, &Group::Alike, None).unwrap();
    // What whole degrees show to be the same is no noise.
    let quiet = |s: Standing| matches!(s, Standing::WithinNoise | Standing::Same);
    assert!(c.figures.iter().all(|r| quiet(r.against[0].standing)), "{:?}", c.figures);
    // (2.78 + 0.94) · √(60² + 40.4²)/√3 = 155 MB/s of 500, and more for unequal spreads.
    assert!(
        c.answer.iter().any(|a| a.contains("can show a difference of 32.6 % or more in sustained")),
        "{:?}",
        c.answer
    );
    assert!(c.answer[0].contains("do not differ by more than the noise"), "{:?}", c.answer);
    let two = [all[0].clone(), all[3].clone()];
    let c = Contrast::of(&two, &Group::Alike, None).unwrap();
    assert!(c.figures.iter().all(|r| r.against[0].standing == Standing::NoRepeats));
    assert!(c.answer[0].contains("nobody can tell this from noise"), "{:?}", c.answer);
}

#[test]
fn copies_of_one_record_are_no_repeats() {
    let five = |cooling: &str, rate: f64| {
        (0..5).map(|i| subject(&format!("{cooling}{i}"), cooling, 24.0, rate, 70.0)).collect::<Vec<_>>()
    };
    let mut all = five("bare", 500.0);
    all.extend(five("fan", 500.5));
    let c = Contrast::of(&all, &Group::Alike, None).unwrap();
    assert!(c.figures.iter().all(|r| r.against[0].standing == Standing::NoRepeats), "{:?}", c.figures);
    assert_eq!(
        c.warnings.iter().filter(|w| w.contains("the same to the last digit")).count(),
        2,
        "{:?}",
        c.warnings
    );
}

#[test]
fn the_same_is_said_with_its_margin_and_what_repeats_can_show() {
    let mut all = repeats("bare", 24.0, [500.0, 501.0, 499.0], 70.0);
    all.extend(repeats("fan", 24.0, [500.5, 501.5, 499.5], 70.0));
    let c = Contrast::of(&all, &Group::Alike, None).unwrap();
    let sustained = row(&c, "sustained");
    assert!(sustained.primary && sustained.against[0].standing == Standing::Same, "{sustained:?}");
    assert_eq!(sustained.against[0].p_holm, Some(sustained.against[0].test.unwrap().p));
    assert!(c.answer.iter().any(|a| a.starts_with("The same: sustained within 2 %")), "{:?}", c.answer);
    // (2.776 + 0.941) · 1 MB/s · √(2/3) = 3.04 MB/s.
    assert!((sustained.against[0].can_show.unwrap() - 3.035e6).abs() < 2e4, "{sustained:?}");
}

#[test]
fn sides_that_ran_one_after_the_other_are_warned_of() {
    let mut all = repeats("bare", 24.0, [500.0, 501.0, 499.0], 70.0);
    all.extend(repeats("fan", 24.0, [600.0, 601.0, 599.0], 70.0));
    let warned = |all: &[Subject]| {
        let c = Contrast::of(all, &Group::Alike, None).unwrap();
        c.warnings.iter().any(|w| w.starts_with("All hauls of A ran before those of B"))
    };
    assert!(!warned(&all), "no times, no word");
    for (i, s) in all.iter_mut().enumerate() {
        s.head.started_unix_ms = 1000 + i as i64;
    }
    assert!(warned(&all));
    all[0].head.started_unix_ms = 2000;
    assert!(!warned(&all));
}

#[test]
fn heat_is_brought_to_another_room() {
    let two = [subject("a", "bare", 24.0, 500.0, 74.0), subject("b", "bare", 38.0, 500.0, 82.0)];
    let c = Contrast::of(&two, &Group::Haul, Some(Celsius::new(30.0))).unwrap();
    let means = |name: &str| row(&c, name).sides.iter().map(|s| s.unwrap().mean).collect::<Vec<_>>();
    assert_eq!(means("rise above ambient"), [50.0, 44.0]);
    assert_eq!(means("hottest, in air of 30 °C"), [80.0, 74.0]);
}

#[test]
fn two_things_changed_at_once_are_warned_of() {
    let mut b = subject("b", "fan", 38.0, 500.0, 74.0);
    b.state = HaulState::CutShort;
    b.digest.treatment.written_bytes = 90_000_000_000;
    b.head.route.interval = Duration::from_secs(1);
    let c = Contrast::of(&[subject("a", "bare", 24.0, 500.0, 74.0), b], &Group::Alike, None).unwrap();
    let all = c.warnings.join("\n");
    assert!(all.contains("Two things changed at once: cooling and ambient"), "{all}");
    for part in ["cut short after 90 GB", "between 90 GB and 500 GB", "100 ms to 1 s long"] {
        assert!(all.contains(part), "{part} not in {all}");
    }
}

#[test]
fn a_tag_that_was_taken_away_sets_nothing_apart() {
    let mut b = subject("b", "bare", 24.0, 500.0, 74.0);
    b.head.conditions.tags = vec![("bay".into(), "2".into())];
    let both = [subject("a", "bare", 24.0, 500.0, 74.0), b];
    assert!(Contrast::of(&both, &Group::Alike, None).is_err());
    let [a, mut b] = both;
    b.tags = b.head.conditions.tags.clone();
    let c = Contrast::of(&[a, b], &Group::Alike, None).unwrap();
    assert_eq!(c.differs.iter().map(|d| d.name.as_str()).collect::<Vec<_>>(), ["bay"]);
}

#[test]
fn what_one_side_does_not_state_is_no_change() {
    let mut b = subject("b", "bare", 24.0, 500.0, 74.0);
    b.head.conditions.slot = Some("bay 2".into());
    b.head.drive.firmware = "2.0".into();
    let c = Contrast::of(&[subject("a", "bare", 24.0, 500.0, 74.0), b], &Group::Alike, None).unwrap();
    assert_eq!(c.differs.iter().map(|d| d.name.as_str()).collect::<Vec<_>>(), ["firmware", "slot"]);
    assert!(c.warnings.is_empty(), "{:?}", c.warnings);
}

#[test]
fn findings_are_matched_by_order_and_by_place() {
    let mut a = subject("a", "bare", 24.0, 500.0, 74.0);
    let mut b = subject("b", "fan", 24.0, 500.0, 74.0);
    a.digest.findings = vec![cache_end(312.4), slow(100, 120), slow(300, 310)];
    b.digest.findings = vec![cache_end(353.4), slow(110, 125), slow(700, 710)];
    let c = Contrast::of(&[a, b], &Group::Haul, None).unwrap();
    let said: Vec<&String> = c.findings.iter().flat_map(|m| &m.sentences).collect();
    assert_eq!(
        said,
        [
            "In B the cache ended 41 GB later: at 353.4 GB, not 312.4 GB.",
            "B has the same slow-zone as A from 100 GB to 120 GB.",
            "B does not have the slow-zone of A from 300 GB to 310 GB.",
            "Only B has a slow-zone from 700 GB to 710 GB."
        ]
    );
}

#[test]
fn one_side_is_refused_with_why() {
    let two = [subject("a", "bare", 24.0, 500.0, 74.0), subject("b", "bare", 24.0, 501.0, 74.0)];
    let e = Contrast::of(&two, &Group::Alike, None).unwrap_err().to_string();
    assert!(e.contains("nothing that is stated sets them apart"), "{e}");
    assert!(Contrast::of(&two, &Group::By("cooling".into()), None).is_err());
    let e = Contrast::of(&two, &Group::By("colour".into()), None).unwrap_err().to_string();
    assert!(e.contains("\"colour\" is no tag") && e.contains("cooling"), "{e}");
    assert!(Contrast::of(&two[..1], &Group::Haul, None).is_err());
    assert_eq!(Contrast::of(&two, &Group::Haul, None).unwrap().sides.len(), 2);
}

#[test]
fn a_figure_that_one_side_lacks_is_missing_and_no_zero() {
    let mut b = subject("b", "fan", 24.0, 500.0, 74.0);
    b.digest.figures.remove(0);
    let c = Contrast::of(&[subject("a", "bare", 24.0, 500.0, 74.0), b], &Group::Haul, None).unwrap();
    let r = row(&c, "sustained");
    assert_eq!((r.sides[1], r.against[0].standing), (None, Standing::Missing));
    assert_eq!(r.against[0].difference, None);
}

#[test]
fn legs_are_compared_as_what_they_are_and_not_by_their_words() {
    use crate::drive::Pattern;
    let with = |haul: &str, change: fn(&mut route::Leg)| {
        let mut s = subject(haul, "bare", 24.0, 300.0, 70.0);
        change(&mut s.head.route.legs[0]);
        s
    };
    let plain = with("a", |_| {});
    for (name, other) in [
        ("compressible", with("b", |l| l.compressible_percent = 90)),
        ("pattern", with("b", |l| l.pattern = Pattern::Backward)),
        ("depth", with("b", |l| l.depth = 3)),
        ("blocks", with("b", |l| l.blocks = vec![Bytes::new(4096), Bytes::new(8192)])),
    ] {
        assert_ne!(Group::Alike.key(&plain), Group::Alike.key(&other), "{name}");
        let all = conditions::differs(&[vec![&plain], vec![&other]]);
        let legs = all.iter().find(|d| d.name == "legs").unwrap_or_else(|| panic!("{name}: {all:?}"));
        assert_ne!(legs.values[0], legs.values[1], "{name}");
        assert!(legs.values[1].contains(name) || name == "depth", "{name}: {legs:?}");
    }
    let again = with("c", |_| {});
    assert_eq!(Group::Alike.key(&plain), Group::Alike.key(&again));
    assert_eq!(conditions::differs(&[vec![&plain], vec![&again]]), []);
}

#[test]
fn what_is_read_in_steps_is_known_to_half_a_step_and_not_better() {
    let latency = |all: Vec<Subject>, ms: f64| -> Vec<Subject> {
        let bin = (ms * 0.985e-3, ms * 1.015e-3);
        let with = |mut s: Subject| {
            s.digest.figures.push(Figure::of(FigureId::LatencyP99, ms / 1e3, Some(bin)));
            s
        };
        all.into_iter().map(with).collect()
    };
    let of = |a: f64, b: f64| {
        let mut all = latency(repeats("bare", 24.0, [1000.0, 1001.0, 1002.0], 82.0), a);
        all.extend(latency(repeats("fan", 24.0, [1000.0, 1001.0, 1002.0], 82.0), b));
        Contrast::of(&all, &Group::Alike, None).unwrap()
    };
    // Every repeat in the same bin of 3 %: not known to be the same within 2 %.
    let c = of(20.0, 20.0);
    let p99 = row(&c, "latency p99");
    assert_eq!(p99.against[0].standing, Standing::WithinNoise);
    let half = p99.sides[0].unwrap().interval.unwrap();
    assert!((half - 0.02 / 64.0).abs() < 1e-9, "{half}");
    assert_eq!(row(&c, "hottest").sides[0].unwrap().interval, Some(0.5), "whole degrees");
    // The next bin is no difference, one beyond all doubt is.
    assert_eq!(row(&of(20.0, 20.6), "latency p99").against[0].standing, Standing::WithinNoise);
    assert_eq!(row(&of(20.0, 25.0), "latency p99").against[0].standing, Standing::Differs);
}
