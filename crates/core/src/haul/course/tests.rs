//! Each course on its own: which steps it takes, in which order, and when it is done.

use std::time::Duration;

use super::*;
use crate::drive::stamp::Origin;
use crate::drive::{DriveKind, LoadKind, LoadSummary, Pattern};
use crate::quantity::plain::Plain;
use crate::quantity::units::{Bytes, Rate};
use crate::record::{Event, Sample};
use crate::route::{Amount, Operation, Route};

fn drive() -> DriveIdentity {
    DriveIdentity::plain("sim:course", DriveKind::Simulated, Bytes::from_gb(1000))
}

fn leg(text: &str) -> Leg {
    Route::from_toml(&format!("name='x'\n[[leg]]\n{text}\n")).unwrap().legs.remove(0)
}

/// All steps of a course that does not look at what was seen.
fn steps(leg: &Leg) -> Vec<Planned> {
    let mut course = Course::of(leg, &drive(), &[]).unwrap().unwrap();
    let readings = Readings::new();
    std::iter::from_fn(|| course.next(&readings)).collect()
}

#[test]
fn a_scan_goes_forwards_and_backwards_over_all_of_its_region() {
    let all = steps(&leg("kind='scan'\npasses=3\nbins=1000\nregion={from='10 %'}"));
    let ways: Vec<Pattern> = all.iter().map(|p| p.load.pattern).collect();
    assert_eq!(ways, [Pattern::Sequential, Pattern::Backward, Pattern::Sequential]);
    for p in &all {
        let region = p.load.end.saturating_sub(p.load.start);
        assert_eq!(p.load.limit, Some(region), "each pass goes round once");
        assert!(p.load.start >= Bytes::from_gb(99) && p.load.kind == LoadKind::Read);
        assert_eq!(p.load.sample.unwrap().get(), region.get() / 1000, "a sample a bin");
    }
    assert_eq!(all[1].load.from, Some(all[1].load.end), "backwards from the end");
}

#[test]
fn a_zoned_drive_is_scanned_zone_by_zone() {
    use crate::drive::zones::{ZoneFacts, ZoneModel};
    let mut zoned = DriveIdentity::plain("sim:zoned", DriveKind::Simulated, Bytes::from_mib(256 * 300));
    let size = Bytes::from_mib(256);
    let (model, map) = (ZoneModel::HostManaged, Vec::new());
    zoned.zones = Some(ZoneFacts {
        model,
        size,
        capacity: size,
        count: 300,
        most_open: 0,
        most_active: 0,
        map,
        written: None,
    });
    let bins = |text: &str| {
        let mut course = Course::of(&leg(text), &zoned, &[]).unwrap().unwrap();
        match course.next(&Readings::new()).unwrap().task {
            Task::Pass { bins, .. } => bins,
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(bins("kind='scan'"), 300);
    assert_eq!(bins("kind='scan'\nbins=100"), 100, "as it was asked for");
    assert_eq!(bins("kind='scan'\nregion={from='256 MiB', to='1 GiB'}"), 3);
    assert_eq!(bins("kind='scan'\nregion={from='1 MiB'}"), 4096, "not by whole zones");
}

#[test]
fn no_bin_of_a_small_drive_is_smaller_than_a_block() {
    let small = DriveIdentity::plain("sim:small", DriveKind::Simulated, Bytes::from_mib(64));
    let mut course = Course::of(&leg("kind='scan'\nbins=65536"), &small, &[]).unwrap().unwrap();
    let first = course.next(&Readings::new()).unwrap();
    assert!(matches!(first.task, Task::Pass { bins: 64, .. }), "{:?}", first.task);
}

#[test]
fn spans_are_measured_round_by_round_with_one_at_the_end() {
    let all = steps(&leg("kind='spans'\nshares=['100 %', '25 %']\nrepeat=2\nstep='3 s'"));
    let places: Vec<(u64, u64)> =
        all.iter().map(|p| (p.load.start.get() / 1_000_000_000, p.load.end.get() / 1_000_000_000)).collect();
    // The last quarter begins a block or two before three quarters.
    let round = [(0, 999), (0, 249), (749, 999)];
    assert_eq!(places.len(), 6);
    for (i, (a, b)) in places.iter().enumerate() {
        assert!(a.abs_diff(round[i % 3].0) <= 1 && b.abs_diff(round[i % 3].1) <= 1, "{places:?}");
    }
    assert!(all.iter().all(|p| p.load.depth == 1 && p.load.block == Bytes::new(4096)));
    assert!(
        all.iter().all(|p| p.load.pattern == Pattern::Random && p.duration == Some(Duration::from_secs(3)))
    );
}

#[test]
fn a_ladder_settles_before_every_rung_and_climbs_them_all() {
    let all = steps(&leg(
        "kind='ladder'\nblocks=['4 KiB','1 MiB']\ndepths=[1,8]\ncrews=[1,4]\npatterns=['random','sequential']\nsettle='1 s'\nstep='2 s'",
    ));
    assert_eq!(all.len(), 2 * 16, "two blocks, depths, crews and orders, and a settling for each");
    for pair in all.chunks(2) {
        assert_eq!((pair[0].task, pair[0].duration), (Task::Settle, Some(Duration::from_secs(1))));
        assert!(matches!(pair[1].task, Task::Rung { .. }));
        assert_eq!(pair[0].load, pair[1].load, "it settles under the load that is measured");
        assert!(pair[1].load.depth >= pair[1].load.workers, "each worker has something to do");
    }
    let unsettled = steps(&leg("kind='ladder'\ndepths=[1,2,4]\nsettle='0 s'"));
    assert_eq!(unsettled.len(), 3);
}

/// A stream that the drive takes up to this rate, as a record of one-second samples.
fn offer(readings: &mut Readings, planned: &Planned, most_mb_s: f64, at: &mut u64) {
    let time = |s: u64| Duration::from_secs(s);
    let step = Box::new(planned.step());
    readings.push(&Event::StepStarted { at: time(*at), leg: 0, step });
    let rate = planned.load.rate.unwrap().mb_s().min(most_mb_s);
    for _ in 0..planned.duration.map_or(10, |d| d.as_secs()) {
        *at += 1;
        let written = Bytes::new((rate * 1e6) as u64);
        readings.push(&Event::Sample(Sample { end: time(*at), span: time(1), written, ..Sample::default() }));
    }
    readings.push(&Event::StepEnded { at: time(*at), leg: 0, summary: LoadSummary::default() });
}

#[test]
fn a_search_closes_in_on_the_highest_stream_that_holds() {
    for (begin, truth) in [(100.0, 731.0), (5000.0, 88.0), (620.0, 620.5)] {
        let leg = Leg {
            rate: Some(Rate::from_mb_s(begin)),
            buffer: Some(Bytes::from_mib(64)),
            search: true,
            step: Some(Duration::from_secs(60)),
            operation: Operation::Write,
            ..Leg::new(LegKind::Pace)
        };
        let mut course = Course::of(&leg, &drive(), &[]).unwrap().unwrap();
        let (mut readings, mut at, mut trials) = (Readings::new(), 0, 0);
        while let Some(planned) = course.next(&readings) {
            assert!(planned.load.catch_up.is_some(), "a stream makes up for a stall from its buffer");
            offer(&mut readings, &planned, truth, &mut at);
            trials += 1;
        }
        let survey = crate::conclude::surveys::stream::survey(&readings, &[]).unwrap();
        let (held, missed) = (survey.highest_mb_s.unwrap(), survey.lowest_missed_mb_s.unwrap());
        // A minute of backlog in 64 MiB lets a little more than the drive's rate through.
        assert!(
            held < missed && missed / held < 1.021 && (held / truth - 1.0).abs() < 0.04,
            "{held} {missed} {truth}"
        );
        assert!(trials <= 20, "{trials} trials from {begin} to {truth}");
    }
}

#[test]
fn a_plain_stream_is_offered_once() {
    let leg = leg("kind='pace'\nstream='16 channels x 24 bit x 96 kHz'\nuntil={duration='10 s'}");
    let mut course = Course::of(&leg, &drive(), &[]).unwrap().unwrap();
    let mut readings = Readings::new();
    let planned = course.next(&readings).unwrap();
    assert!((planned.load.rate.unwrap().get() - 16.0 * 3.0 * 96_000.0).abs() < 1e-6);
    let mut at = 0;
    offer(&mut readings, &planned, 1e9, &mut at);
    assert!(course.next(&readings).is_none());
}

#[test]
fn a_verify_reads_what_was_written_and_no_more() {
    let origin = Origin { drive: 1, haul: 2, pass: 0 };
    let written = Expected {
        origin,
        start: 4096 * 10,
        end: 1 << 30,
        written: 100 << 20,
        flushed: 100 << 20,
        workers: 1,
    };
    let plan = |text: &str, stamped: &[Expected]| {
        Course::of(&leg(text), &drive(), stamped).map(|c| c.unwrap().next(&Readings::new()).unwrap())
    };
    let all = plan("kind='verify'\nof='a'", &[written]).unwrap();
    assert_eq!((all.load.start.get(), all.load.end.get()), (40_960, 40_960 + (100 << 20)));
    assert_eq!(all.load.limit, Some(Bytes::from_mib(100)));
    let some = plan("kind='verify'\nof='a'\nsample='10 %'", &[written]).unwrap();
    assert_eq!(
        (some.load.pattern, some.load.limit),
        (Pattern::Random, Some(Amount::read("10 %").unwrap().of(Bytes::from_mib(100))))
    );
    assert!(plan("kind='verify'\nof='a'", &[]).unwrap_err().contains("nothing stamped"));
    let Some(Course::Verify(mut rest)) =
        Course::of(&leg("kind='verify'\nof='a'"), &drive(), &[written]).unwrap()
    else {
        panic!("a verify leg has a verify course");
    };
    rest.skip(Bytes::new((30 << 20) + 17));
    let rest = Course::Verify(rest).next(&Readings::new()).unwrap();
    assert_eq!((rest.load.start.get(), rest.load.limit), (40_960 + (30 << 20), Some(Bytes::from_mib(70))));
}
