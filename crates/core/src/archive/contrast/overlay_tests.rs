use super::*;
use crate::drive::{DriveIdentity, DriveKind};
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::{Event, HaulHead, HaulState, Sample};
use crate::route::{Leg, LegKind, Route};

/// A haul of three legs: write for so long at this rate, rest, write again.
fn haul(first_s: u64, mb_s: u64, rest_s: u64) -> Readings {
    let mut r = Readings::new();
    r.push(&Event::HaulStarted(Box::new(HaulHead::plain(
        "h",
        DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(100)),
        Route {
            name: "three".into(),
            about: String::new(),
            interval: Duration::from_secs(1),
            limits: Vec::new(),
            legs: vec![Leg::new(LegKind::Write), Leg::new(LegKind::Rest), Leg::new(LegKind::Write)],
        },
    ))));
    let (mut second, mut written) = (0, 0);
    for (leg, seconds, rate) in [(0u16, first_s, mb_s), (1, rest_s, 0), (2, 20, 50)] {
        r.push(&Event::LegStarted { at: Duration::from_secs(second), leg });
        for _ in 0..seconds {
            second += 1;
            written += rate * 1_000_000;
            r.push(&Event::Sample(Sample {
                end: Duration::from_secs(second),
                span: Duration::from_secs(1),
                leg,
                written: Bytes::new(rate * 1_000_000),
                position: Some(Bytes::new(written % 100_000_000_000)),
                temperature: Some(Celsius::new(40.0)),
                ..Sample::default()
            }));
        }
    }
    r.push(&Event::HaulEnded { at: Duration::from_secs(second), state: HaulState::Done, reason: None });
    r
}

/// The columns at which a curve begins again after a rest.
fn starts(curve: &[Column]) -> Vec<usize> {
    let loaded = |c: &Column| c.rate.is_some_and(|r| r.get() > 0.0);
    (0..curve.len()).filter(|i| loaded(&curve[*i]) && (*i == 0 || !loaded(&curve[*i - 1]))).collect()
}

#[test]
fn each_leg_begins_at_one_place_for_all_hauls() {
    // The first leg takes 60 s in one and 30 s in the other, the rest 20 s and 40 s.
    let (a, b) = (haul(60, 100, 20), haul(30, 200, 40));
    let o = Overlay::of(&[&a, &b], Ruler::Elapsed, 120);
    assert_eq!(
        o.sections.iter().map(|s| (s.leg, s.word, s.from, s.length)).collect::<Vec<_>>(),
        [(0, "write", 0.0, 60.0), (1, "rest", 60.0, 40.0), (2, "write", 100.0, 20.0)]
    );
    assert_eq!(o.extent, 120.0);
    for curve in &o.curves {
        let at = starts(curve);
        assert_eq!(at.len(), 2, "{at:?}");
        assert!(at[0] == 0 && at[1].abs_diff(100) <= 1, "{at:?}");
    }
    // By bytes the rest takes no room: the second write begins where the longer first one ends.
    let o = Overlay::of(&[&a, &b], Ruler::Moved, 70);
    assert_eq!(o.extent, 6e9 + 1e9);
    assert_eq!(o.sections.last().map(|s| s.from), Some(6e9));
}

#[test]
fn a_haul_that_lacks_a_leg_leaves_its_place_empty() {
    let whole = haul(60, 100, 20);
    let mut short = Readings::new();
    short.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for s in 1..=10u64 {
        short.push(&Event::Sample(Sample {
            end: Duration::from_secs(s),
            span: Duration::from_secs(1),
            written: Bytes::new(100_000_000),
            ..Sample::default()
        }));
    }
    let o = Overlay::of(&[&whole, &short], Ruler::Elapsed, 100);
    let seen = o.curves[1].iter().filter(|c| c.rate.is_some()).count();
    assert!((9..=11).contains(&seen), "{seen} columns of ten seconds in a hundred");
    assert!(o.curves[1][11..].iter().all(|c| c.rate.is_none()));
    let nothing = Overlay::of(&[&Readings::new(), &short], Ruler::Moved, 50);
    assert!(nothing.curves[0].iter().all(|c| c.rate.is_none()));
}

#[test]
fn along_position_curves_lie_as_they_are() {
    let (a, b) = (haul(60, 100, 20), haul(30, 200, 40));
    let o = Overlay::of(&[&a, &b], Ruler::Position, 100);
    assert_eq!((o.extent, o.sections.len()), (100e9, 0));
    for (curve, rate) in o.curves.iter().zip([100.0, 200.0]) {
        let first = curve[1].rate.map(Rate::mb_s).unwrap();
        assert!((first - rate).abs() < 1.0, "{first}");
    }
}
