//! Inquiries on a drive that does as it is told: what is asked of it, and what is left when one is interrupted.

use std::time::Duration;

use super::super::tests::{Puppet, haul, words};
use super::*;
use crate::conclude::inquiry::{CycleForm, Trial};
use crate::drive::{LoadKind, Tally};
use crate::haul::Progress;
use crate::haul::Setup;
use crate::quantity::FindingKind;
use crate::quantity::units::Rate;
use crate::record::{HaulState, Turns};
use crate::route::Route;

const WRITE: &str = "[[leg]]\nkind = 'write'\ndecide = true\ndecide_time = '10 min'\ndecide_bytes = '1 GB'\nuntil = { bytes = '900 MB' }\n";

fn fall() -> Fall {
    Fall {
        elapsed: Duration::from_millis(100),
        written: Bytes::ZERO,
        position: None,
        before: Rate::from_mb_s(2000.0),
        after: Rate::from_mb_s(1000.0),
        temperature: None,
        sensor_step_k: 1.0,
        recurs: false,
        turns: None,
        fast_so_far: None,
        recovers: None,
        may_be: vec![(FindingKind::CacheEnd, 0.5)],
    }
}

/// Steps until so many samples are there.
fn steps(haul: &mut crate::haul::Haul<Puppet>, samples: usize, events: &mut Vec<Event>) -> Progress {
    let count = |events: &[Event]| events.iter().filter(|e| matches!(e, Event::Sample(_))).count();
    let mut progress = Progress::Going;
    while progress == Progress::Going && count(events) < samples {
        progress = haul.step(events);
    }
    progress
}

/// A haul in the middle of its first arm.
fn in_the_middle(drive: Puppet) -> (crate::haul::Haul<Puppet>, Vec<Event>) {
    in_the_middle_of(drive, fall())
}

fn in_the_middle_of(drive: Puppet, fall: Fall) -> (crate::haul::Haul<Puppet>, Vec<Event>) {
    let mut h = haul(drive, WRITE);
    let mut events = Vec::new();
    steps(&mut h, 1, &mut events);
    h.inquire(fall);
    steps(&mut h, 4, &mut events);
    (h, events)
}

/// Without what comes each tenth of a second.
fn told(events: &[Event]) -> Vec<String> {
    words(events).into_iter().filter(|w| !w.contains("MB")).collect()
}

#[test]
fn the_leg_writes_all_its_bytes_beside_what_was_tried() {
    let (mut h, mut events) = in_the_middle(Puppet::new());
    assert_eq!(told(&events), ["haul", "leg 0", "inquiry", "here"]);
    while h.step(&mut events) == Progress::Going {}
    let last = told(&events);
    assert_eq!(last[last.len() - 2..], ["ended Bytes", "done"]);
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let [inquiry] = readings.inquiries() else { panic!("one inquiry") };
    assert!(inquiry.ended.is_some());
    let moved: u64 = inquiry
        .arms
        .iter()
        .flat_map(|a| a.samples(readings.series().len()))
        .map(|i| readings.series().written(i) - readings.series().written_before(i))
        .sum();
    assert_eq!(readings.written().get(), 900_000_000 + moved, "the leg's own bytes are whole");
}

#[test]
fn wear_is_a_budget_of_its_own_and_who_asks_again_gets_no_more_of_it() {
    let ask = |wear: &str, endurance: Option<Bytes>, rated: Option<Bytes>| {
        let route = Route::from_toml(&format!(
            "name = 'x'\n{}",
            WRITE
                .replace("decide_bytes = '1 GB'", &format!("decide_bytes = '10 GB'\ndecide_wear = '{wear}'"))
        ));
        let mut drive = Puppet::new();
        drive.rate_writes(rated);
        let setup = Setup { endurance, ..Setup::plain("test", route.unwrap()) };
        let (mut h, mut events) = (crate::haul::Haul::new(drive, setup), Vec::new());
        steps(&mut h, 1, &mut events);
        let mut readings = Readings::new();
        for _ in 0..3 {
            h.inquire(fall());
            let over = |e: &Event| matches!(e, Event::InquiryEnded { .. });
            while !events.iter().any(over) && h.step(&mut events) == Progress::Going {}
            events.drain(..).for_each(|e| readings.push(&e));
        }
        while h.step(&mut events) == Progress::Going {}
        events.drain(..).for_each(|e| readings.push(&e));
        let ended = readings.inquiries().iter().map(|i| i.ended.unwrap().1).collect::<Vec<_>>();
        (ended, readings.tried_since(Duration::ZERO).get() / 100_000_000)
    };
    let tb = |n: u64| Some(Bytes::new(n * 1_000_000_000_000));
    // A hundred megabytes each tenth of a second: it ends with the first that is too much.
    let spent = (vec![InquiryEnd::Budget], 4);
    assert_eq!(ask("300 MB", None, None), spent);
    assert_eq!(ask("0.001 %", None, tb(31)), spent, "of what the drive states");
    assert_eq!(ask("0.001 %", tb(31), tb(90)), spent, "of what its user has");
    assert_eq!(ask("0.001 %", None, None), (vec![], 0), "of what nobody states is none");
    let (ended, tenths) = ask("100 GB", None, None);
    assert!(ended.len() > 1 && tenths > 5, "{ended:?} {tenths}");
}

#[test]
fn a_pause_in_the_middle_ends_it_and_the_leg_goes_on_from_there() {
    let (mut h, mut events) = in_the_middle(Puppet::new());
    h.pause(true);
    steps(&mut h, 6, &mut events);
    let so_far = told(&events);
    assert_eq!(so_far[2..], ["inquiry", "here", "arm over", "inquiry over Interrupted", "paused"]);
    h.pause(false);
    while h.step(&mut events) == Progress::Going {}
    assert_eq!(told(&events).last().map(String::as_str), Some("done"));
}

#[test]
fn a_stop_in_the_middle_leaves_a_true_record() {
    let (mut h, mut events) = in_the_middle(Puppet::new());
    h.stop();
    while h.step(&mut events) == Progress::Going {}
    let all = told(&events);
    assert_eq!(
        all[2..],
        ["inquiry", "here", "arm over", "inquiry over Interrupted", "ended Stopped", "stopped"]
    );
    // What was under way is finished before the leg's load is put on again, and that before the leg ends.
    let calls = h.drive().calls.join(", ");
    assert!(calls.ends_with("finish false, begin Write Some(700000000), finish true, release"), "{calls}");
}

#[test]
fn a_drive_that_vanishes_while_it_is_tried_fails_and_the_record_says_so() {
    let gone = || DriveError::Gone { target: "sim:puppet".into(), why: "it no longer answers".into() };
    let tally =
        || Ok(Tally { took: Duration::from_millis(100), written: Bytes::from_mib(1), ..Tally::default() });
    let drive = Puppet::new().will(tally()).will(tally()).will(tally()).will(tally()).will(Err(gone()));
    let (mut h, mut events) = in_the_middle(drive);
    let mut progress = Progress::Going;
    while progress == Progress::Going {
        progress = h.step(&mut events);
    }
    assert_eq!(progress, Progress::Ended(HaulState::Failed));
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    assert_eq!(readings.inquiries()[0].ended.map(|e| e.1), Some(InquiryEnd::Interrupted));
    assert!(readings.conclude().findings.iter().all(|f| f.decided.is_none()));
}

#[test]
fn nothing_is_tried_on_a_leg_that_is_read_back_or_paced() {
    for leg in
        ["stamped = true", "rate = '50 MB/s'", "pattern = 'random'\nmix = ['50 % 4 KiB', '50 % 8 KiB']"]
    {
        let text = format!("[[leg]]\nkind = 'write'\n{leg}\nuntil = {{ bytes = '900 MB' }}\n");
        let mut h = haul(Puppet::new(), &text);
        let mut events = Vec::new();
        steps(&mut h, 1, &mut events);
        h.inquire(fall());
        while h.step(&mut events) == Progress::Going {}
        assert!(!told(&events).contains(&"inquiry".to_owned()), "{leg}");
    }
}

#[test]
fn what_is_no_fall_of_this_leg_is_not_looked_into() {
    let rising = Fall { before: Rate::from_mb_s(100.0), after: Rate::from_mb_s(200.0), ..fall() };
    let two = format!("[[leg]]\nkind = 'write'\nuntil = {{ bytes = '200 MB' }}\n{WRITE}");
    // The second leg begins after the fall.
    for (legs, samples, asked) in [(WRITE, 1, rising), (two.as_str(), 4, fall())] {
        let mut h = haul(Puppet::new(), legs);
        let mut events = Vec::new();
        steps(&mut h, samples, &mut events);
        h.inquire(asked);
        while h.step(&mut events) == Progress::Going {}
        assert!(!told(&events).contains(&"inquiry".to_owned()), "{legs}");
    }
}

#[test]
fn an_arm_that_is_cut_is_gone_on_from_where_it_came_to() {
    let at = |mb: u64| Tally {
        took: Duration::from_millis(100),
        written: Bytes::from_mib(1),
        position: Some(Bytes::from_mib(mb)),
        ..Tally::default()
    };
    let drive = (1..6).fold(Puppet::new(), |d, mb| d.will(Ok(at(100 * mb))));
    let (mut h, mut events) = in_the_middle(drive);
    h.stop();
    while h.step(&mut events) == Progress::Going {}
    assert_eq!(h.drive().from, Some(Bytes::from_mib(400)), "two samples of the leg, two of the arm");
}

fn inquiring(fall: Fall) -> Inquiring {
    let gb = Bytes::from_gb;
    Inquiring {
        began: Duration::ZERO,
        moved: Bytes::ZERO,
        wrote: Bytes::ZERO,
        most: Budget { seconds: 100.0, bytes: gb(10), written: None },
        here: gb(20),
        fall,
        next: VecDeque::new(),
        arm: None,
        quiet: false,
        began_at: None,
        recent: VecDeque::new(),
        seed: 1,
        drawn: 0,
        finished: false,
        low_s: 0.0,
        low_arms: 0,
    }
}

#[test]
fn nothing_is_read_where_nothing_can_be_and_nothing_grows_beyond_its_region() {
    let gb = Bytes::from_gb;
    let load = Load::sequential(LoadKind::Write, Bytes::ZERO, gb(100), Bytes::from_mib(1), 32);
    let kinds = |reads: bool| -> Vec<ArmKind> {
        let mut inquiring = inquiring(fall());
        let trial = Trial {
            experiment: Experiment::Cool,
            round: 0,
            form: CycleForm::Lighter,
            light_first: false,
            around_s: 14.0,
            least_rest_s: 10.0,
            again_s: 10.0,
            seconds: 60.0,
        };
        let possible = Possible {
            elsewhere: false,
            reads,
            heavier: false,
            workers: false,
            compressible: false,
            stretch: false,
            quiet: false,
            thermometer: false,
        };
        arms(&mut inquiring, trial, possible, &load, gb(20)).iter().map(|a| a.kind).collect()
    };
    use ArmKind::{Again, Here, ReadCool, ReadHot, Rest};
    assert_eq!(kinds(false), [Here, Rest, Again]);
    assert_eq!(kinds(true), [Here, ReadHot, Rest, ReadCool, Again]);
    assert!(heavier(&load).is_some());
    let small = Load { end: Bytes::from_mib(16), ..load.clone() };
    assert!(heavier(&small).is_none(), "a region of sixteen blocks");
    let large = Load { block: Bytes::from_mib(64), ..load.clone() };
    assert!(heavier(&large).is_none(), "128 MiB is no block");
    let deep = Load { block: Bytes::from_mib(16), depth: 64, ..load.clone() };
    assert!(heavier(&deep).is_none(), "4 GiB in flight");
    let shallow = Load { depth: 1, ..load };
    assert!(heavier(&shallow).is_none(), "a drive that answers late is faster by depth alone");
}

#[test]
fn two_workers_have_room_side_by_side_ahead_of_the_load_and_within_its_region() {
    let gb = Bytes::from_gb;
    let load = Load::sequential(LoadKind::Write, gb(10), gb(110), Bytes::from_mib(1), 8);
    let arm = gb(2);
    let two = two_workers(&load, gb(40), arm).unwrap();
    assert_eq!((two.workers, two.depth, two.block), (2, 8, load.block), "no deeper than the one");
    assert!(two.start <= gb(40) && gb(40) - two.start < load.block, "from where it stands");
    let length = two.end - two.start;
    assert!(length >= gb(8) && length.get().is_multiple_of(2 * load.block.get()), "{length}");
    // At the end of the region it is behind it, and never beyond.
    let last = two_workers(&load, gb(110), arm).unwrap();
    assert!(last.end <= load.end && last.start >= load.start && last.end - last.start == length);
    let small = Load { end: gb(17), ..load.clone() };
    assert!(two_workers(&small, gb(10), arm).is_none(), "no room for two");
    for other in [
        Load { workers: 2, ..load.clone() },
        Load { pattern: Pattern::Random, ..load.clone() },
        Load { depth: 2000, ..load.clone() },
        Load { depth: 1, ..load },
    ] {
        assert!(two_workers(&other, gb(40), arm).is_none(), "{other:?}");
    }
}

#[test]
fn a_moment_in_which_the_machine_stands_still_is_no_fall_of_a_paced_load() {
    let tenth = Duration::from_millis(100);
    let mut inquiring = inquiring(Fall { after: Rate::from_mb_s(100.0), ..fall() });
    let all = Bytes::from_gb(100);
    let load = Load::sequential(LoadKind::Write, Bytes::ZERO, all, Bytes::from_mib(1), 32);
    let paced = Planned {
        experiment: Experiment::Cycle,
        kind: ArmKind::Lighter,
        load: Load { rate: Some(Rate::from_mb_s(500.0)), ..load },
        most: Duration::from_secs(60),
        ends_cool: None,
    };
    inquiring.arm = Some((paced, Duration::ZERO));
    let mut now = Duration::ZERO;
    let mut write = |inquiring: &mut Inquiring, mb_s: u64, samples: u32| -> bool {
        (0..samples).any(|_| {
            now += tenth;
            inquiring.take(Bytes::new(mb_s * 100_000), tenth, false);
            inquiring.arm_is_over(now, None)
        })
    };
    // It begins late, keeps its pace, and stands still for a third of a second.
    assert!(!write(&mut inquiring, 300, 16) && !write(&mut inquiring, 500, 10));
    assert!(!write(&mut inquiring, 0, 3) && !write(&mut inquiring, 500, 20));
    assert!(write(&mut inquiring, 100, 15), "as low as it fell to before, and for longer than that");
    assert!(inquiring.lighter_fell());
}

/// Found on a device of a kernel: what was asked for was no multiple of a block, and the arm went on with nothing to do until that was a fall.
#[test]
fn a_paced_load_is_over_with_the_last_whole_block_of_its_limit() {
    let turns =
        Turns { count: 3, fast_bytes: Bytes::new(1_000_000_001), fast_s: 1.0, slow_s: 1.0, uneven: 0.0 };
    let (before, after) = (Rate::from_mb_s(1000.0), Rate::from_mb_s(300.0));
    let fall = Fall { before, after, recurs: true, turns: Some(turns), ..fall() };
    let mut drive = Puppet::new();
    drive.whole_blocks = true;
    let mut h = haul(drive, &WRITE.replace("1 GB", "100 GB"));
    let mut events = Vec::new();
    while events.iter().filter(|e| matches!(e, Event::Sample(_))).count() < 2 {
        h.step(&mut events);
    }
    h.inquire(fall);
    let lighter = |e: &Event| matches!(e, Event::ArmStarted { arm, .. } if arm.kind == ArmKind::Lighter);
    while !events.iter().any(lighter) && h.step(&mut events) == Progress::Going {}
    let at = events.iter().position(lighter).expect("a lighter load was put on");
    while !events[at..].iter().any(|e| matches!(e, Event::ArmEnded { .. })) {
        assert_eq!(h.step(&mut events), Progress::Going);
    }
    let moved: Vec<u64> = events[at..]
        .iter()
        .filter_map(|e| if let Event::Sample(s) = e { Some(s.written.get()) } else { None })
        .collect();
    assert!(moved.iter().sum::<u64>() > 1_100_000_000, "{moved:?}");
    assert!(
        moved.iter().all(|m| *m > 0),
        "it ends with its last block, and does not wait for more: {moved:?}"
    );
}

#[test]
fn blocks_of_an_arm_lie_on_blocks() {
    let mut load =
        Load::sequential(LoadKind::Write, Bytes::new(1000), Bytes::new(11_500), Bytes::new(1000), 1);
    in_blocks(&mut load, Bytes::new(4700));
    assert_eq!((load.end, load.from), (Bytes::new(11_000), Some(Bytes::new(4000))));
    in_blocks(&mut load, Bytes::new(99_000));
    assert_eq!(load.from, Some(Bytes::new(1000)), "beyond the end it begins anew");
}

fn trial(experiment: Experiment, fall: Fall) -> Vec<Planned> {
    let load = Load::sequential(LoadKind::Write, Bytes::ZERO, Bytes::from_gb(100), Bytes::from_mib(1), 32);
    let mut inquiring = inquiring(fall);
    let possible = Possible::ALL;
    let trial = Trial {
        experiment,
        round: 0,
        form: CycleForm::Lighter,
        light_first: false,
        around_s: 14.0,
        least_rest_s: 10.0,
        again_s: 10.0,
        seconds: 60.0,
    };
    arms(&mut inquiring, trial, possible, &load, Bytes::from_gb(20)).into()
}

#[test]
fn the_stretch_on_both_sides_of_the_fall_is_written_from_both_ends() {
    let gb = Bytes::from_gb;
    let all = trial(Experiment::SameStretch, Fall { position: Some(gb(11)), ..fall() });
    let kinds: Vec<ArmKind> = all.iter().map(|a| a.kind).collect();
    use ArmKind::{Before, Behind};
    assert_eq!(kinds, [Before, Behind, Behind, Before]);
    assert!(
        all[..2].iter().all(|a| a.load.pattern == Pattern::Sequential && a.load.from == Some(a.load.start))
    );
    assert!(all[2..].iter().all(|a| a.load.pattern == Pattern::Backward && a.load.from == Some(a.load.end)));
    assert!(all[0].load.end < gb(11) && all[1].load.start > gb(11) && all[1].load.end <= gb(20));
    assert_eq!((all[0].load.start, all[1].load.end), (all[3].load.start, all[2].load.end));
    // A fall at the very beginning has nothing before it, and one just now nothing behind it.
    for at in [gb(1), gb(19)] {
        assert!(trial(Experiment::SameStretch, Fall { position: Some(at), ..fall() }).is_empty(), "{at}");
    }
    assert!(trial(Experiment::SameStretch, fall()).is_empty(), "nobody knows where");
}

#[test]
fn a_drive_is_asked_as_usual_again_once_it_was_left_in_peace() {
    let mut drive = Puppet::new();
    drive.asked = Some(Vec::new());
    let (mut h, mut events) = in_the_middle(drive);
    while h.step(&mut events) == Progress::Going {}
    let asked = h.drive().asked.clone().unwrap();
    let unusual = |a: &Asking| *a != Asking::Usual;
    assert!(asked.iter().any(unusual), "{asked:?}");
    assert!(asked.windows(2).all(|w| !(unusual(&w[0]) && unusual(&w[1]))), "{asked:?}");
    assert_eq!(asked.last(), Some(&Asking::Usual));
}

#[test]
fn a_load_that_falls_much_further_is_another_fall() {
    let ends_of = |slow_for: usize, mib: u64, (from, to): (f64, f64)| -> Vec<InquiryEnd> {
        let slow = || {
            Ok(Tally { took: Duration::from_millis(100), written: Bytes::from_mib(mib), ..Tally::default() })
        };
        let drive = (0..slow_for).fold(Puppet::new(), |d, _| d.will(slow()));
        let fall = Fall { before: Rate::from_mb_s(from), after: Rate::from_mb_s(to), ..fall() };
        let (mut h, mut events) = in_the_middle_of(drive, fall);
        while h.step(&mut events) == Progress::Going {}
        let end = |e: &Event| if let Event::InquiryEnded { why, .. } = e { Some(*why) } else { None };
        events.iter().filter_map(end).collect()
    };
    let ends = |slow_for: usize| ends_of(slow_for, 1, (2000.0, 1000.0));
    assert_eq!(ends(200), [InquiryEnd::FellFurther], "10 MB/s is no 1,000");
    // 73 MB/s is more than what it lost once more, of 20, and less, of 100.
    assert_eq!(ends_of(200, 7, (120.0, 100.0)), [InquiryEnd::FellFurther]);
    assert!(!ends_of(200, 7, (200.0, 100.0)).contains(&InquiryEnd::FellFurther));
    let moment = ends(25);
    assert!(!moment.contains(&InquiryEnd::FellFurther), "one arm that stood still is no fall: {moment:?}");
}
