//! Inquiries written by hand: what the arms show is known to the digit.

use std::time::Duration;

use super::*;
use crate::drive::{DriveIdentity, DriveKind, LoadKind};
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::bytes::{decode, encode};
use crate::record::{Arm as Told, Event, Fall, HaulHead, Sample};
use crate::route::{Leg, LegKind, Route};

/// A record in the making: a write at so many MB/s, as long as it is told.
struct Bench {
    events: Vec<Event>,
    at: f64,
    degrees: f64,
}

const TENTH: f64 = 0.1;

impl Bench {
    fn new() -> Self {
        let leg = Leg { decide: true, ..Leg::new(LegKind::Write) };
        let route = Route {
            name: "why".into(),
            about: String::new(),
            interval: Duration::from_millis(100),
            limits: Vec::new(),
            legs: vec![leg],
        };
        let drive = DriveIdentity::plain("made", DriveKind::Simulated, Bytes::from_gb(2000));
        let events = vec![
            Event::HaulStarted(Box::new(HaulHead::plain("made", drive, route))),
            Event::LegStarted { at: Duration::ZERO, leg: 0 },
        ];
        Self { events, at: 0.0, degrees: 60.0 }
    }

    fn now(&self) -> Duration {
        Duration::from_millis((self.at * 1000.0).round() as u64)
    }

    fn run(mut self, seconds: f64, mb_s: f64, load: LoadKind) -> Self {
        for i in 0..(seconds / TENTH).round() as u32 {
            self.at += TENTH;
            // Half a per cent up and down: no record is quite even.
            let even = 1.0 + 0.005 * f64::from(i % 2) - 0.0025;
            let bytes = Bytes::new((mb_s * 1e6 * TENTH * even) as u64);
            let (written, read) =
                if load == LoadKind::Read { (Bytes::ZERO, bytes) } else { (bytes, Bytes::ZERO) };
            self.events.push(Event::Sample(Sample {
                end: self.now(),
                span: Duration::from_millis(100),
                written,
                read,
                temperature: Some(Celsius::new(self.degrees)),
                ..Sample::default()
            }));
        }
        self
    }

    fn write(self, seconds: f64, mb_s: f64) -> Self {
        self.run(seconds, mb_s, LoadKind::Write)
    }

    /// Asks about a fall from 1000 to 400 MB/s at a minute.
    fn ask(mut self) -> Self {
        let fall = Fall {
            elapsed: Duration::from_secs(60),
            written: Bytes::from_gb(60),
            position: None,
            before: Rate::from_mb_s(1000.0),
            after: Rate::from_mb_s(400.0),
            temperature: Some(Celsius::new(60.0)),
            sensor_step_k: 1.0,
            recurs: false,
            may_be: vec![(FindingKind::CacheEnd, 0.7)],
        };
        self.events.push(Event::InquiryStarted { at: self.now(), leg: 0, fall: Box::new(fall) });
        self
    }

    fn arm(mut self, experiment: Experiment, kind: ArmKind, seconds: f64, mb_s: f64) -> Self {
        let load = match kind {
            ArmKind::Read | ArmKind::ReadHot | ArmKind::ReadCool => LoadKind::Read,
            ArmKind::Rest => LoadKind::Rest,
            _ => LoadKind::Write,
        };
        let (start, end, block) = (Bytes::ZERO, Bytes::from_gb(100), Bytes::from_mib(1));
        let arm = Told { experiment, kind, load, start, end, block, depth: 32, rate: None };
        self.events.push(Event::ArmStarted { at: self.now(), leg: 0, arm });
        let mut all = self.run(seconds, mb_s, load);
        all.events.push(Event::ArmEnded { at: all.now(), leg: 0 });
        all
    }

    fn end(mut self, why: InquiryEnd) -> Self {
        self.events.push(Event::InquiryEnded { at: self.now(), leg: 0, why });
        self
    }

    fn readings(&self) -> Readings {
        let mut readings = Readings::new();
        self.events.iter().for_each(|e| readings.push(e));
        readings
    }
}

fn fallen() -> Bench {
    Bench::new().write(60.0, 1000.0).write(20.0, 400.0)
}

fn elsewhere(bench: Bench, mb_s: f64) -> Bench {
    let of = |bench: Bench, kind, rate| bench.arm(Experiment::Elsewhere, kind, 2.0, rate);
    let bench = of(bench.ask(), ArmKind::Here, 400.0);
    let bench = of(of(bench, ArmKind::Elsewhere, mb_s), ArmKind::Elsewhere, mb_s);
    of(bench, ArmKind::Here, 400.0)
}

#[test]
fn what_the_arms_show_is_told_to_the_digit() {
    let readings = elsewhere(fallen(), 1000.0).end(InquiryEnd::Decided).readings();
    let effects = Effects::of(&readings.inquiries()[0], readings.series());
    let seen = effects.elsewhere.unwrap();
    assert!((seen.value - 2.5f64.ln()).abs() < 0.002, "1000 over 400 is 2.5 times: {seen:?}");
    assert!((effects.lost - 2.5f64.ln()).abs() < 0.002);
    assert!(!effects.came_back && effects.comes_back().is_none(), "two arms are too few to say so");
    assert_eq!(effects.arms.len(), 4);
    assert!(effects.arms.iter().all(|a| (a.seconds - 2.0).abs() < 1e-6));
}

#[test]
fn a_place_that_is_fast_elsewhere_outranks_what_the_record_said() {
    let alone = fallen().write(30.0, 400.0).readings().conclude();
    assert_eq!(alone.findings.len(), 1);
    assert_ne!(alone.findings[0].kind, FindingKind::SlowZone, "the record alone cannot tell");
    let readings = elsewhere(fallen(), 1000.0).end(InquiryEnd::Decided).write(30.0, 400.0).readings();
    let told = readings.conclude();
    let f = told.findings.iter().find(|f| f.decided.is_some()).unwrap();
    assert_eq!(f.kind, FindingKind::SlowZone);
    assert!(f.confidence >= STANDS);
    assert!(f.evidence[0].contains("slow addresses"), "{:?}", f.evidence);
    let decision = f.decided.as_ref().unwrap();
    assert_eq!(decision.causes, [FindingKind::SlowZone]);
    assert_eq!((decision.seconds, decision.arms.len()), (8.0, 4));
    assert_eq!(decision.bytes, readings.series().moved(879) - readings.series().moved_before(800));
}

#[test]
fn a_part_that_is_back_elsewhere_is_a_second_cause() {
    // 400 to 630: half of what was lost, by its logarithm.
    let readings = elsewhere(fallen(), 632.0).end(InquiryEnd::NothingLeft).readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    let (first, _) = inquiry.shares.first();
    assert_eq!(first, Hypothesis::CacheAndPlace);
}

#[test]
fn samples_of_experiments_enter_no_figure() {
    let plain = fallen().write(60.0, 400.0).readings().conclude().figures;
    let of = |b: Bench, kind, rate| b.arm(Experiment::OtherWay, kind, 2.0, rate);
    let tried = of(of(fallen().ask(), ArmKind::Here, 400.0), ArmKind::Read, 5000.0);
    let tried = of(of(tried, ArmKind::Read, 5000.0), ArmKind::Here, 400.0);
    let tried = tried.end(InquiryEnd::NothingLeft).write(60.0, 400.0).readings();
    let figures = tried.conclude().figures;
    for (a, b) in [(plain.burst, figures.burst), (plain.sustained, figures.sustained)] {
        let (a, b) = (a.unwrap().get(), b.unwrap().get());
        assert!((a / b - 1.0).abs() < 0.005, "{a} and {b}");
    }
    let whole = figures.whole().unwrap();
    assert!(whole.p99.mb_s() < 1100.0, "5,000 MB/s of an arm is in no quantile: {}", whole.p99);
}

#[test]
fn bytes_of_experiments_are_none_of_the_leg() {
    let readings = elsewhere(fallen(), 1000.0).end(InquiryEnd::Decided).write(10.0, 400.0).readings();
    // A minute at 1,000 MB/s, then half a minute at 400: 72 GB; and eight seconds beside it.
    let off = |bytes: Bytes, gb: f64| (bytes.as_f64() / 1e9 / gb - 1.0).abs();
    assert!(off(readings.moved_in(0), 72.0) < 0.001, "{}", readings.moved_in(0));
    assert!(off(readings.tried_since(Duration::from_secs(60)), 5.6) < 0.001);
    assert_eq!(readings.tried_since(Duration::from_secs(300)), Bytes::ZERO);
}

#[test]
fn an_inquiry_that_ends_before_it_begins_is_no_panic() {
    let mut bench = elsewhere(fallen(), 1000.0);
    bench.events.push(Event::InquiryEnded { at: Duration::from_secs(1), leg: 0, why: InquiryEnd::Decided });
    let readings = bench.write(10.0, 400.0).readings();
    let told = readings.conclude();
    let decided = told.findings.iter().find_map(|f| f.decided.as_ref()).unwrap();
    assert_eq!(decided.seconds, 0.0);
}

#[test]
fn heat_is_told_by_reads_that_are_faster_once_it_is_cool() {
    let cool = |reads_cool: f64, again: f64| {
        let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cool, kind, s, rate);
        let mut b = elsewhere(fallen(), 400.0);
        b = of(of(b, ArmKind::Here, 2.0, 400.0), ArmKind::ReadHot, 2.0, 700.0);
        b.degrees = 50.0;
        b = of(of(b, ArmKind::Rest, 20.0, 0.0), ArmKind::ReadCool, 2.0, reads_cool);
        let readings = of(b, ArmKind::Again, 3.0, again).end(InquiryEnd::Decided).readings();
        Inquiry::of(&readings.inquiries()[0], &readings).answer()
    };
    let (heat, share) = cool(1750.0, 1000.0);
    assert_eq!(heat, Hypothesis::Heat, "{share}");
    assert!(share > 0.98);
    let (cache, share) = cool(700.0, 990.0);
    assert_eq!(cache, Hypothesis::Cache, "{share}");
}

#[test]
fn what_came_back_by_itself_is_not_decided_by_arms_beside_each_other() {
    let of = |b: Bench, kind, rate| b.arm(Experiment::Elsewhere, kind, 2.0, rate);
    let b = of(of(fallen().ask(), ArmKind::Here, 400.0), ArmKind::Elsewhere, 1000.0);
    let readings = of(of(b, ArmKind::Elsewhere, 1000.0), ArmKind::Here, 1000.0).readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    assert!(inquiry.effects.came_back);
    assert!(inquiry.answer().1 < STANDS);
    let possible = Possible { elsewhere: true, reads: true, heavier: true, thermometer: true };
    assert_eq!(inquiry.next(possible, 600.0).unwrap().experiment, Experiment::Cycle);
    assert_eq!(inquiry.next(possible, 5.0), Err(InquiryEnd::Budget));
}

#[test]
fn a_fall_that_was_not_decided_leaves_what_the_record_said_with_what_remains() {
    let readings = fallen().ask().end(InquiryEnd::Budget).write(20.0, 400.0).readings();
    let alone = fallen().write(20.0, 400.0).readings().conclude();
    let told = readings.conclude();
    assert_eq!(told.findings[0].kind, alone.findings[0].kind, "nothing was tried, nothing is said");
    let decision = told.findings[0].decided.as_ref().unwrap();
    assert_eq!(decision.ended, Some(InquiryEnd::Budget));
    assert!(decision.causes.is_empty());
}

#[test]
fn a_record_that_ends_in_an_arm_concludes_nothing_from_it() {
    let mut bench = fallen().ask().arm(Experiment::Elsewhere, ArmKind::Here, 1.0, 400.0);
    bench.events.pop();
    let readings = bench.readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    assert!(inquiry.effects.arms.is_empty());
    assert_eq!(inquiry.reading.ended, None);
    assert!(
        readings.conclude().findings.iter().all(|f| f.decided.as_ref().is_none_or(|d| d.causes.is_empty()))
    );
}

#[test]
fn an_inquiry_is_the_same_from_its_bytes() {
    let bench = elsewhere(fallen(), 1000.0).end(InquiryEnd::Decided).write(30.0, 400.0);
    let bytes = encode(&bench.events, |e| serde_json::to_vec(e).map_err(|e| e.to_string())).unwrap();
    let events = decode(&bytes, |b| serde_json::from_slice(b).map_err(|e| e.to_string())).unwrap();
    assert_eq!(events, bench.events);
}
