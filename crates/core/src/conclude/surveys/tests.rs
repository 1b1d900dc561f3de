//! Surveys on hand-made records whose answer is known.

use crate::route::LaidOn;
use std::time::Duration;

use crate::conclude::limits;
use crate::conclude::limits::Verdict;
use crate::conclude::surveys::{buffer, proof};
use crate::drive::stamp::{Mismatch, Verdict as Judged};
use crate::drive::{DriveIdentity, DriveKind, Link, LoadKind, LoadSummary, Pattern};
use crate::quantity::units::{Bytes, Rate};
use crate::readings::Readings;
use crate::record::{Event, HaulHead, LegEnd, Sample};
use crate::record::{Step, Task};
use crate::route::Route;

/// A record told event by event; each sample is a second long.
struct Record {
    readings: Readings,
    at: u64,
}

impl Record {
    fn of(route: &str) -> Self {
        let mut drive = DriveIdentity::plain("sim:survey", DriveKind::Simulated, Bytes::from_gb(1000));
        let link = Link { bus: "SATA".into(), generation: 3, best_generation: 3, ..Link::default() };
        drive.link = Some(link);
        let mut readings = Readings::new();
        readings.push(&Event::HaulStarted(Box::new(HaulHead::plain(
            "survey",
            drive,
            Route::from_toml(&format!("name='x'\n{route}")).unwrap().laid_out(LaidOn::Drive),
        ))));
        Self { readings, at: 0 }
    }

    fn now(&self) -> Duration {
        Duration::from_secs(self.at)
    }

    fn leg(&mut self, leg: u16) -> &mut Self {
        self.readings.push(&Event::LegStarted { at: self.now(), leg });
        self
    }

    fn end_leg(&mut self, leg: u16) -> &mut Self {
        let (at, why, summary) = (self.now(), LegEnd::Bytes, summary(100));
        self.readings.push(&Event::LegEnded { at, leg, why, summary });
        self
    }

    fn step(&mut self, step: Step) -> &mut Self {
        self.readings.push(&Event::StepStarted { at: self.now(), leg: 0, step: Box::new(step) });
        self
    }

    fn end_step(&mut self, us: u64) -> &mut Self {
        self.readings.push(&Event::StepEnded { at: self.now(), leg: 0, summary: summary(us) });
        self
    }

    fn seconds(&mut self, leg: u16, n: u64, read_mb_s: f64, write_mb_s: f64) -> &mut Self {
        for _ in 0..n {
            self.at += 1;
            self.readings.push(&Event::Sample(Sample {
                end: self.now(),
                span: Duration::from_secs(1),
                leg,
                read: Bytes::new((read_mb_s * 1e6) as u64),
                written: Bytes::new((write_mb_s * 1e6) as u64),
                ..Sample::default()
            }));
        }
        self
    }
}

/// Nine in ten operations take so long, one in ten twice as long.
fn summary(us: u64) -> LoadSummary {
    LoadSummary { histogram: vec![(us * 1000, 90), (us * 2000, 10)], ..LoadSummary::default() }
}

fn step(task: Task, load: LoadKind, block: u64, depth: u32) -> Step {
    Step {
        task,
        load,
        start: Bytes::ZERO,
        end: Bytes::from_gb(1000),
        block: Bytes::new(block),
        depth,
        workers: 1,
        pattern: Pattern::Random,
        rate: None,
    }
}

const LADDER: &str = "[[leg]]\nkind='ladder'\ndepths=[1,4,16]\n";

#[test]
fn a_ladder_tells_where_more_depth_stops_helping_and_where_the_link_limits() {
    let mut r = Record::of(LADDER);
    r.leg(0);
    for (rung, (depth, mb_s)) in [(1, 100.0), (4, 500.0), (16, 512.0)].into_iter().enumerate() {
        r.step(step(Task::Settle, LoadKind::Read, 65_536, depth)).seconds(0, 1, mb_s / 3.0, 0.0).end_step(1);
        let task = Task::Rung { rung: rung as u16 };
        r.step(step(task, LoadKind::Read, 65_536, depth)).seconds(0, 4, mb_s, 0.0).end_step(80);
    }
    let c = r.readings.conclude();
    let ladder = c.surveys.ladder.as_ref().unwrap();
    let rates: Vec<f64> = ladder.rungs.iter().map(|r| r.mb_s.round()).collect();
    assert_eq!(rates, [100.0, 500.0, 512.0], "the settling is no part of a rung");
    assert_eq!(ladder.saturation[0].depth, 4, "4 gives 95 % of the best");
    // SATA at 6 Gb/s carries 560 MB/s.
    assert_eq!(ladder.rungs.iter().map(|r| r.at_link).collect::<Vec<_>>(), [false, false, true]);
    assert_eq!((ladder.rungs[0].median_us, ladder.rungs[0].p99_us), (80.0, 160.0));
    assert!(ladder.rungs.iter().all(|r| r.steady));
    assert!(ladder.sentence().unwrap().contains("depth of 4 is enough"));
}

#[test]
fn a_rung_whose_halves_differ_is_not_steady() {
    let mut r = Record::of(LADDER);
    r.leg(0).step(step(Task::Rung { rung: 0 }, LoadKind::Read, 4096, 1));
    r.seconds(0, 3, 300.0, 0.0).seconds(0, 3, 100.0, 0.0).end_step(80);
    assert!(!r.readings.conclude().surveys.ladder.unwrap().rungs[0].steady);
}

#[test]
fn spans_have_their_interval_over_rounds_and_tell_what_pays() {
    let mut r = Record::of("[[leg]]\nkind='spans'\nshares=['100 %','50 %','25 %']\n");
    r.leg(0);
    for round in 0..3u16 {
        for (span, us) in [(0u16, 10_000u64), (1, 8_000), (2, 7_950), (3, 8_100)] {
            let mut s = step(Task::Span { span, round }, LoadKind::Read, 4096, 1);
            s.end = Bytes::from_gb([1000, 500, 250, 1000][usize::from(span)]);
            s.start = Bytes::from_gb(if span == 3 { 750 } else { 0 });
            r.step(s).seconds(0, 2, 0.4, 0.0).end_step(us + u64::from(round));
        }
    }
    let spans = r.readings.conclude().surveys.spans.unwrap();
    assert_eq!(spans.spans.len(), 4);
    // A tenth of the operations take twice as long.
    assert!((spans.spans[0].access_us.mean - 11_001.1).abs() < 0.01, "{:?}", spans.spans[0].access_us);
    assert_eq!((spans.spans[0].access_us.repeats, spans.spans[0].median_us), (3, 10_001.0));
    assert!((spans.spans[1].gain - 1.25).abs() < 0.01);
    assert_eq!(spans.pays_to_bytes, Some(500_000_000_000), "a quarter gains less than three in a hundred");
    assert!(spans.sentence().unwrap().contains("a shorter span gains no more"));
}

#[test]
fn a_stream_that_is_late_misses_once_and_loses_what_did_not_fit() {
    let mut r = Record::of(
        "limits=['misses <= 0']\n[[leg]]\nkind='pace'\nrate='100 MB/s'\nuntil={duration='1 min'}\n",
    );
    let task = Task::Stream { trial: 0, buffer: Bytes::new(250_000_000) };
    r.leg(0).step(Step { rate: Some(Rate::from_mb_s(100.0)), ..step(task, LoadKind::Write, 4096, 1) });
    // Four seconds without a byte make 400 MB of backlog in a buffer of 250; then it is made up for.
    r.seconds(0, 5, 0.0, 100.0).seconds(0, 4, 0.0, 0.0).seconds(0, 10, 0.0, 125.0).end_step(50);
    let c = r.readings.conclude();
    let s = c.surveys.streams.as_ref().unwrap();
    let t = &s.trials[0];
    assert_eq!((t.held, t.misses, t.lost_bytes), (false, 1, 150_000_000), "{t:?}");
    assert_eq!(t.first_miss_s, Some(8.0));
    // In two of the four seconds something was lost; a buffer of 400 MB would have done, and half of it for half the rate.
    assert_eq!((t.lost_s, t.needed_bytes(), t.backlog_bytes), (2.0, 400_000_000, 350_000_000));
    let half = t.hold[t.hold.len() / 2 - 1];
    assert_eq!((half.mb_s, half.bytes), (50.0, 200_000_000));
    assert_eq!(s.sentence(), "100 MB/s was missed: 150 MB lost in 2 of 19 s, from 0:00:08 on (unexplained).");
    // Four seconds of 62.5 MB/s fill it.
    assert!((t.buffer_holds_mb_s.unwrap() - 62.5).abs() < 1e-6, "{t:?}");
    let samples = r.readings.steps()[t.step].samples(r.readings.series().len());
    let rate = Rate::from_mb_s(t.mb_s);
    let buffer = Bytes::new(t.buffer_bytes);
    for most in [19, 7, 3, 1000] {
        let all = buffer::stretches(r.readings.series(), samples.clone(), rate, buffer, most);
        assert!(all.len() <= most, "{most}");
        // Nothing is averaged away, however wide they are.
        let sum = |of: fn(&buffer::Stretch) -> f64| all.iter().map(of).sum::<f64>();
        assert!((sum(|s| s.lost) - 150e6).abs() < 1.0 && (sum(|s| s.loaded_s) - 19.0).abs() < 1e-6, "{most}");
        assert!((all.iter().map(|s| s.backlog).fold(0.0, f64::max) - 250e6).abs() < 1.0, "{most}");
    }
    let judged = limits::judge(&r.readings, &c);
    assert_eq!((judged[0].verdict, judged[0].because.as_str()), (Verdict::Missed, "1"));
}

#[test]
fn a_stream_that_held_needed_its_longest_backlog_to_the_byte_however_long_it_was() {
    let mut r = Record::of("[[leg]]\nkind='pace'\nrate='100 MB/s'\nuntil={duration='1 min'}\n");
    let task = Task::Stream { trial: 0, buffer: Bytes::from_gb(4) };
    r.leg(0).step(Step { rate: Some(Rate::from_mb_s(100.0)), ..step(task, LoadKind::Write, 4096, 1) });
    // More samples than are looked at one by one: a second that took nothing, and then more than was offered.
    r.seconds(0, 60_000, 0.0, 100.0).seconds(0, 1, 0.0, 0.0).seconds(0, 9, 0.0, 110.0).end_step(50);
    let c = r.readings.conclude();
    let t = &c.surveys.streams.as_ref().unwrap().trials[0];
    assert!(t.held);
    assert_eq!((t.needed_bytes(), t.backlog_bytes), (100_000_000, 100_000_000));
    assert_eq!(t.buffer_holds_mb_s, Some(100.0));
}

#[test]
fn figures_against_fill_say_what_holds_and_what_was_only_cache() {
    let mut r = Record::of(
        "[[leg]]\nkind='group'\nover={fill=['10 %','60 %']}\n[[leg.leg]]\nkind='write'\nuntil={bytes='40 GB'}\n\
         [[leg.leg]]\nkind='read'\nrepeat=2\nuntil={bytes='4 GB'}\n",
    );
    // Legs: fill, write, read, read; and again.
    for (first, slow) in [(0u16, 20), (4, 100)] {
        r.leg(first).seconds(first, 5, 0.0, 1000.0).end_leg(first);
        // Twenty gigabytes at full speed, the rest slower the fuller it is.
        r.leg(first + 1)
            .seconds(first + 1, 20, 0.0, 1000.0)
            .seconds(first + 1, slow, 0.0, 200.0)
            .end_leg(first + 1);
        for read in [first + 2, first + 3] {
            r.leg(read).seconds(read, 8, 500.0 + f64::from(read), 0.0).end_leg(read);
        }
        r.at += 60;
    }
    let fill = r.readings.conclude().surveys.fill.unwrap();
    assert_eq!(fill.measures.len(), 2);
    let (write, read) = (&fill.measures[0], &fill.measures[1]);
    assert_eq!((write.holds, read.holds), (false, true), "{fill:#?}");
    assert_eq!(read.levels.iter().map(|l| l.mb_s.repeats).collect::<Vec<_>>(), [2, 2]);
    assert!(read.levels.iter().all(|l| l.mb_s.interval.is_some() && l.cached.is_none()));
    assert!(write.sentence().unwrap().contains("does not hold"));
    assert_eq!(write.levels[0].fill_percent, 10.0);
}

#[test]
fn blocks_that_come_back_wrong_are_counted_by_their_way_and_told_as_one_finding() {
    let mut r = Record::of("limits=['mismatches <= 0']\n[[leg]]\nkind='verify'\nof='a'\n");
    let mut check = step(Task::Check { written: Bytes::from_gb(1) }, LoadKind::Verify, 4096, 8);
    check.pattern = Pattern::Sequential;
    r.leg(0).step(check).seconds(0, 2, 100.0, 0.0);
    for (verdict, address) in [
        (Judged::Corrupt, 0),
        (Judged::Corrupt, 4096),
        (Judged::Stale, 8192),
        (Judged::Misplaced { address: 1 << 30 }, 1 << 20),
    ] {
        let found = Mismatch::of(verdict, address, 4096).unwrap();
        r.readings.push(&Event::Mismatch { at: r.now(), found });
    }
    r.seconds(0, 1, 100.0, 0.0).end_step(60);
    let c = r.readings.conclude();
    let v = c.surveys.verify.as_ref().unwrap();
    assert_eq!(
        (v.corrupt_bytes, v.stale_bytes, v.misplaced_bytes, v.checked_bytes),
        (8192, 4096, 4096, 300_000_000)
    );
    assert_eq!(v.mismatches.len(), 3, "neighbours that are wrong alike are one");
    let parts = proof::parts(&r.readings, 4);
    let read: f64 = parts.iter().map(|p| p.read).sum();
    assert!((read - 300_000_000.0).abs() < 1.0, "{parts:?}");
    assert_eq!(parts[0].wrong, [8192.0, 4096.0, 0.0, 4096.0, 0.0]);
    assert_eq!(parts[0].seen(), proof::Seen::Wrong(crate::drive::stamp::Wrong::Corrupt));
    let told: Vec<&crate::conclude::Finding> =
        c.findings.iter().filter(|f| f.kind == crate::quantity::FindingKind::DataMismatch).collect();
    assert_eq!(told.len(), 1);
    assert_eq!(told[0].position, Some(Bytes::ZERO));
    assert_eq!(limits::judge(&r.readings, &c)[0].because, "3");
}
