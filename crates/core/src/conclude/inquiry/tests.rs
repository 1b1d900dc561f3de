//! Inquiries written by hand: what the arms show is known to the digit.

use std::time::Duration;

use super::*;
use crate::drive::{DriveIdentity, DriveKind, LoadKind};
use crate::quantity::FindingKind;
use crate::quantity::units::{Bytes, Celsius, Rate};
use crate::record::bytes::{decode, encode};
use crate::record::{
    Arm as Told, ArmKind, Event, Experiment, Fall, HaulHead, InquiryEnd, Recovers, Sample, Turns,
};
use crate::route::{Leg, LegKind, Route};

/// A record in the making: a write at so many MB/s, as long as it is told.
pub(super) struct Bench {
    events: Vec<Event>,
    at: f64,
    degrees: f64,
}

const TENTH: f64 = 0.1;
/// What a lighter load is held to.
const LIGHT_MB_S: f64 = 700.0;

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
    pub(super) fn ask(self) -> Self {
        self.ask_of(None)
    }

    fn ask_of(self, turns: Option<Turns>) -> Self {
        self.ask_knowing(turns, None)
    }

    pub(super) fn ask_knowing(mut self, turns: Option<Turns>, recovers: Option<Recovers>) -> Self {
        let fall = Fall {
            elapsed: Duration::from_secs(60),
            written: Bytes::from_gb(60),
            position: None,
            before: Rate::from_mb_s(1000.0),
            after: Rate::from_mb_s(400.0),
            temperature: Some(Celsius::new(60.0)),
            sensor_step_k: 1.0,
            recurs: turns.is_some(),
            turns,
            fast_so_far: None,
            recovers,
            may_be: vec![(FindingKind::CacheEnd, 0.7)],
        };
        self.events.push(Event::InquiryStarted { at: self.now(), leg: 0, fall: Box::new(fall) });
        self
    }

    pub(super) fn arm(mut self, experiment: Experiment, kind: ArmKind, seconds: f64, mb_s: f64) -> Self {
        let load = match kind {
            ArmKind::Read | ArmKind::ReadHot | ArmKind::ReadCool => LoadKind::Read,
            ArmKind::Rest => LoadKind::Rest,
            _ => LoadKind::Write,
        };
        let (start, end, block) = (Bytes::ZERO, Bytes::from_gb(100), Bytes::from_mib(1));
        let rate = (kind == ArmKind::Lighter).then(|| Rate::from_mb_s(LIGHT_MB_S));
        let arm = Told { experiment, kind, load, start, end, block, depth: 32, rate };
        self.events.push(Event::ArmStarted { at: self.now(), leg: 0, arm });
        let mut all = self.run(seconds, mb_s, load);
        all.events.push(Event::ArmEnded { at: all.now(), leg: 0 });
        all
    }

    /// An arm of the full load that ends a little after it fell.
    pub(super) fn arm_that_falls(
        self,
        experiment: Experiment,
        kind: ArmKind,
        seconds: f64,
        mb_s: f64,
    ) -> Self {
        let mut all = self.arm(experiment, kind, seconds, mb_s);
        let over = all.events.pop();
        all = all.write(0.8, 400.0);
        all.events.extend(over.map(|_| Event::ArmEnded { at: all.now(), leg: 0 }));
        all
    }

    pub(super) fn end(mut self, why: InquiryEnd) -> Self {
        self.events.push(Event::InquiryEnded { at: self.now(), leg: 0, why });
        self
    }

    pub(super) fn readings(&self) -> Readings {
        let mut readings = Readings::new();
        self.events.iter().for_each(|e| readings.push(e));
        readings
    }
}

pub(super) fn fallen() -> Bench {
    Bench::new().write(60.0, 1000.0).write(20.0, 400.0)
}

pub(super) fn elsewhere(bench: Bench, mb_s: f64) -> Bench {
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
    let possible = Possible { stretch: false, quiet: false, ..Possible::ALL };
    // How it comes and goes is not known yet: the leg goes on until it is.
    assert_eq!(inquiry.next(possible, 600.0), Err(InquiryEnd::CameBack));
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

/// Fast for 40 s and slow for 20, three times over; then slow for a while.
fn turning(slow_s: f64) -> Bench {
    let all = (0..3).fold(Bench::new().write(60.0, 1000.0), |b, _| b.write(20.0, 400.0).write(40.0, 1000.0));
    all.write(slow_s, 400.0)
}

#[test]
fn how_a_rate_comes_and_goes_is_known_before_it_is_looked_into() {
    let fall = turning(10.0).readings().standing_fall(0, STANDS).unwrap();
    let turns = fall.turns.unwrap();
    assert_eq!(turns.count, 3);
    assert!((turns.fast_s - 40.0).abs() <= 1.0 && (turns.slow_s - 20.0).abs() <= 1.0, "{turns:?}");
    assert!((turns.fast_bytes.as_f64() / 40e9 - 1.0).abs() < 0.03 && turns.uneven < 0.03, "{turns:?}");
    assert!(fall.recurs);
    let back = turning(10.0).write(5.0, 1000.0).readings();
    assert_eq!(back.standing_fall(0, STANDS), None, "it is looked into while it is low");
    let stays = turning(90.0).readings().standing_fall(0, STANDS).unwrap();
    assert_eq!(stays.turns, None, "what lasts four times as long is of its own");
    let once = Bench::new().write(60.0, 1000.0).write(20.0, 400.0).write(40.0, 1000.0).write(10.0, 400.0);
    assert_eq!(once.readings().standing_fall(0, STANDS).and_then(|f| f.turns), None, "once is no turn");
}

/// A lighter load for so long, then so much as it fell to, if it did; then what came after it.
fn lighter(seconds: f64, fell: bool, back: bool, reads: [f64; 2]) -> (Effects, Hypothesis, f64) {
    lighter_low_for(seconds, fell.then_some(8.0), back, reads)
}

/// The same, with how long it was low after the lighter load fell.
fn lighter_low_for(
    seconds: f64,
    fell: Option<f64>,
    back: bool,
    reads: [f64; 2],
) -> (Effects, Hypothesis, f64) {
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven: 0.02 };
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cycle, kind, s, rate);
    let b = of(turning(5.0).ask_of(Some(turns)), ArmKind::ReadHot, 2.0, reads[0]);
    let b = of(b, ArmKind::ToBack, 1.0, 1000.0);
    let b = of(b, ArmKind::ReadCool, 2.0, reads[1]);
    let mut b = of(b, ArmKind::Lighter, seconds, LIGHT_MB_S);
    if let Some(low_s) = fell {
        let and_then = |mut b: Bench, s: f64, rate: f64| {
            let over = b.events.pop();
            b = b.write(s, rate);
            b.events.extend(over.map(|_| Event::ArmEnded { at: b.now(), leg: 0 }));
            b
        };
        b = and_then(b, 0.6, 400.0);
        b = of(b, ArmKind::ToBack, low_s.max(0.2), if low_s > 0.0 { 400.0 } else { 1000.0 });
        b = and_then(b, 1.5, if back { 1000.0 } else { 150.0 });
    }
    let readings = b.end(InquiryEnd::NothingLeft).readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    let (first, share) = inquiry.answer();
    (inquiry.effects, first, share)
}

#[test]
fn what_falls_under_a_lighter_load_after_as_many_bytes_is_not_heat() {
    // A gigabyte was written in the wait, and 39 under the lighter load.
    let (effects, first, share) = lighter(39.0 / 0.7, true, true, [1000.0, 2000.0]);
    assert_eq!((effects.lighter, first), ([1, 0, 0], Hypothesis::Passing));
    assert!(share >= STANDS, "{share}");
    let (effects, ..) = lighter(34.0 / 0.7, true, true, [1000.0, 2000.0]);
    assert_eq!(effects.lighter, [0, 1, 0], "within about as many bytes");
    let (effects, ..) = lighter(12.0 / 0.7, true, true, [1000.0, 2000.0]);
    assert_eq!(effects.lighter, [0; 3], "it was about to fall");
    let (effects, ..) = lighter(39.0 / 0.7, true, false, [1000.0, 2000.0]);
    assert_eq!(effects.lighter, [0; 3], "what does not come back is something else");
    let (effects, ..) = lighter_low_for(39.0 / 0.7, Some(0.0), true, [1000.0, 2000.0]);
    assert_eq!(effects.lighter, [0; 3], "a moment in which the machine stood still is no fall");
}

#[test]
fn heat_does_not_come_back_under_a_lighter_load_and_slows_reads_too() {
    let (effects, first, share) = lighter(56.0 / 0.7, false, true, [1000.0, 2000.0]);
    assert_eq!((effects.lighter, first), ([0, 0, 1], Hypothesis::Heat));
    let (_, _, alike) = lighter(56.0 / 0.7, false, true, [2000.0, 2000.0]);
    assert!(share > alike, "reads that heat does not slow speak against it: {share} and {alike}");
    let (effects, ..) = lighter(44.0 / 0.7, false, true, [1000.0, 2000.0]);
    assert_eq!(effects.lighter, [0; 3], "it was not held long enough");
    // The less even the full ones are, the longer it must be held.
    let turns =
        |uneven: f64| Turns { count: 5, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven };
    let enough = [0.0, 0.05, 0.2].map(|u| turns(u).enough());
    assert_eq!(enough.map(|e| (100.0 * e).round()), [115.0, 125.0, 135.0]);
    let few = [2, 3].map(|count| Turns { count, ..turns(0.0) }.enough());
    assert_eq!(few.map(|e| (100.0 * e).round()), [130.0, 122.0], "two may be alike by chance");
}

/// Two rests of a minute: after the first 5 GB until it falls, after the second 2.5 GB at a light load and so many more.
fn light_after_a_rest(then_gb: f64) -> (Shares, Result<Trial, InquiryEnd>, Effects) {
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cool, kind, s, rate);
    let until_it_falls = |b: Bench, gb: f64| b.arm_that_falls(Experiment::Cool, ArmKind::Again, gb, 1000.0);
    let rest = |b: Bench| {
        let b = of(of(b, ArmKind::ReadHot, 2.0, 900.0), ArmKind::Rest, 60.0, 0.0);
        of(b, ArmKind::ReadCool, 2.0, 1050.0)
    };
    let b = until_it_falls(rest(of(fallen().ask(), ArmKind::Here, 2.0, 400.0)), 5.0);
    let next = {
        let readings = b.readings();
        Inquiry::of(&readings.inquiries()[0], &readings)
            .next(Possible { elsewhere: false, ..Possible::ALL }, 200.0)
    };
    let b = rest(of(b, ArmKind::ToFall, 1.6, 400.0));
    let b = until_it_falls(of(b, ArmKind::Lighter, 10.0, 250.0), then_gb);
    let readings = b.readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    let load = inquiry.light_load().unwrap();
    assert!((load.0.mb_s() - 250.0).abs() < 1.0 && (load.1.as_f64() / 2.5e9 - 1.0).abs() < 0.02, "{load:?}");
    (inquiry.shares, next, inquiry.effects)
}

#[test]
fn a_light_load_after_a_second_rest_tells_heat_from_what_comes_by_bytes() {
    let (by_bytes, next, effects) = light_after_a_rest(2.5);
    let trial = next.unwrap();
    assert!(trial.experiment == Experiment::Cool && trial.light_first, "{trial:?}");
    assert!((trial.rest_s() - 60.0).abs() < 1e-6, "as long as the first: {trial:?}");
    assert!((effects.light_first.unwrap().share - 1.0).abs() < 0.03, "{:?}", effects.light_first);
    let (heat, _, effects) = light_after_a_rest(4.7);
    assert!((effects.light_first.unwrap().share - 7.2 / 5.0).abs() < 0.03, "{:?}", effects.light_first);
    assert!(effects.cooled.unwrap().again.unwrap().value > 0.9, "the first rest tells what came back");
    let of = |s: &Shares, h: Hypothesis| Hypothesis::ALL.iter().zip(s.0).find(|a| *a.0 == h).unwrap().1;
    // What comes and goes by bytes of its own is told less surely: the first rest began anywhere in its round.
    for (other, times) in [(Hypothesis::Cache, 100.0), (Hypothesis::Passing, 30.0)] {
        let odds = |s: &Shares| of(s, Hypothesis::Heat) / of(s, other);
        assert!(odds(&heat) > times * odds(&by_bytes), "{:?} {:?}", heat.causes(), by_bytes.causes());
    }
    let (open, _, effects) = light_after_a_rest(3.3);
    assert_eq!(effects.light_first.and_then(LightFirst::outcome), None, "{:?}", open.causes());
}

#[test]
fn what_swings_at_the_bottom_of_a_fall_is_no_reason_not_to_ask_about_that() {
    let swings = (0..6).fold(Bench::new().write(60.0, 1000.0), |b, _| b.write(7.0, 400.0).write(5.0, 300.0));
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(2), fast_s: 7.0, slow_s: 5.0, uneven: 0.02 };
    let mut b = swings.ask_of(Some(turns));
    if let Some(Event::InquiryStarted { fall, .. }) = b.events.last_mut() {
        fall.elapsed = Duration::from_secs(127);
        (fall.before, fall.after) = (Rate::from_mb_s(400.0), Rate::from_mb_s(300.0));
    }
    let b = b.arm(Experiment::Cycle, ArmKind::ReadHot, 2.0, 900.0).end(InquiryEnd::NothingLeft);
    let b = (0..4).fold(b, |b, _| b.write(7.0, 400.0).write(5.0, 300.0));
    let readings = b.readings();
    let asked = readings.standing_fall(0, 2.0).unwrap();
    assert!(
        (asked.before.mb_s() / 1000.0 - 1.0).abs() < 0.05 && asked.elapsed < Duration::from_secs(62),
        "{asked:?}"
    );
}

fn four(experiment: Experiment, [a, b]: [ArmKind; 2], [fast, slow]: [f64; 2]) -> Readings {
    let of = |bench: Bench, kind, rate| bench.arm(experiment, kind, 2.0, rate);
    let here = fallen().ask().arm(Experiment::Elsewhere, ArmKind::Here, 2.0, 400.0);
    of(of(of(of(here, a, fast), b, slow), b, slow), a, fast)
        .end(InquiryEnd::NothingLeft)
        .write(20.0, 400.0)
        .readings()
}

#[test]
fn a_stretch_written_again_from_both_ends_shows_the_place() {
    let arms = [ArmKind::Before, ArmKind::Behind];
    let slow_behind = four(Experiment::SameStretch, arms, [1000.0, 400.0]);
    let inquiry = Inquiry::of(&slow_behind.inquiries()[0], &slow_behind);
    assert_eq!(inquiry.answer().0, Hypothesis::Place);
    assert!((inquiry.effects.stretch.unwrap().value - 2.5f64.ln()).abs() < 0.002);
    let alike = four(Experiment::SameStretch, arms, [400.0, 400.0]);
    assert!(
        Inquiry::of(&alike.inquiries()[0], &alike)
            .shares
            .causes()
            .iter()
            .all(|c| c.0 != FindingKind::SlowZone || c.1 < 0.05)
    );
}

#[test]
fn a_drive_that_is_held_back_by_questions_is_told_as_such() {
    let readings = four(Experiment::Quiet, [ArmKind::Quiet, ArmKind::Asked], [1000.0, 160.0]);
    let told = readings.conclude();
    let f = told.findings.iter().find(|f| f.decided.is_some()).unwrap();
    let decision = f.decided.as_ref().unwrap();
    let host = decision.shares.iter().find(|c| c.kind == FindingKind::HostLimit).unwrap();
    assert!(host.share > 0.95, "{:?}", decision.shares);
    assert!(
        f.evidence.iter().any(|e| e.contains("With nothing else asked of the drive")),
        "{:?}",
        f.evidence
    );
    assert!(decision.quiet.unwrap().low > 5.0, "{:?}", decision.quiet);
}

#[test]
fn a_fall_that_came_back_by_itself_is_no_cache_end_when_it_comes_again() {
    let of = |b: Bench, rate| b.arm(Experiment::Elsewhere, ArmKind::Here, 2.0, rate);
    let b = of(of(of(fallen().ask(), 400.0), 1000.0), 1000.0).end(InquiryEnd::CameBack);
    let told = b.write(40.0, 1000.0).write(60.0, 400.0).readings().conclude();
    let after = |f: &&crate::conclude::Finding| f.elapsed > Duration::from_secs(86);
    let again: Vec<_> = told.findings.iter().filter(after).collect();
    assert!(!again.is_empty(), "{:?}", told.findings);
    assert!(again.iter().all(|f| f.kind != FindingKind::CacheEnd), "{again:?}");
}

#[test]
fn a_machine_that_stands_still_now_and_then_makes_no_turns() {
    // Three gaps of the machine before the drive falls, and stays down.
    let gaps = (0..3).fold(Bench::new().write(20.0, 1000.0), |b, _| b.write(1.5, 0.001).write(12.0, 1000.0));
    let fall = gaps.write(60.0, 400.0).readings().standing_fall(0, STANDS);
    assert_eq!(fall.and_then(|f| f.turns), None);
    // Nor does what is slow for longer each time.
    let longer = [3.0, 9.0, 27.0]
        .iter()
        .fold(Bench::new().write(60.0, 1000.0), |b, s| b.write(5.0, 400.0).write(*s, 1000.0));
    assert_eq!(longer.write(5.0, 400.0).readings().standing_fall(0, STANDS).and_then(|f| f.turns), None);
}

#[test]
fn what_no_longer_comes_back_leaves_the_shares_of_the_record() {
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven: 0.02 };
    let b = turning(5.0).ask_of(Some(turns)).arm(Experiment::Cycle, ArmKind::ToBack, 40.0, 400.0);
    let readings = b.end(InquiryEnd::Stays).readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    let prior = Shares::prior(&inquiry.reading.fall);
    assert!(inquiry.shares.0.iter().zip(prior.0).all(|(a, b)| (a - b).abs() < 1e-9), "{:?}", inquiry.shares);
    let next = inquiry.next(Possible::ALL, 600.0).unwrap().experiment;
    assert!(next != Experiment::Cycle, "it is looked into as what it is, a fall that stays: {next:?}");
}

#[test]
fn what_fell_to_stay_in_the_middle_of_an_inquiry_is_asked_about_as_a_fall_of_its_own() {
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven: 0.02 };
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cycle, kind, s, rate);
    let b = of(turning(5.0).ask_of(Some(turns)), ArmKind::ReadHot, 2.0, 500.0);
    let b = of(of(b, ArmKind::ToBack, 2.0, 1000.0), ArmKind::ReadCool, 2.0, 1200.0);
    let b = of(of(b, ArmKind::Lighter, 20.0, LIGHT_MB_S), ArmKind::ToBack, 50.0, 150.0);
    let began = b.now().as_secs_f64() - 50.0;
    let readings = b.readings();
    let inquiry = Inquiry::of(&readings.inquiries()[0], &readings);
    assert_eq!(inquiry.next(Possible::ALL, 600.0), Err(InquiryEnd::Stays));
    let causes = inquiry.shares.causes();
    assert!(causes[0].0 == FindingKind::Throttle && causes[0].1 > 0.6, "it came back once: {causes:?}");
    let b = b.end(InquiryEnd::Stays).write(30.0, 150.0);
    assert_eq!(b.readings().standing_fall(0, STANDS), None, "it may still come back");
    let b = b.write(20.0, 150.0);
    let fall = b.readings().standing_fall(0, STANDS).unwrap();
    assert!((fall.elapsed.as_secs_f64() - began).abs() < 1.0 && fall.turns.is_none(), "{fall:?}");
    // The record alone cannot tell it: it is told though nothing was decided, as long as it was seen low.
    let told = |here: f64, events: &[Event]| {
        let mut b = Bench { events: events.to_vec(), at: b.at, degrees: b.degrees };
        b.events.push(Event::InquiryStarted { at: b.now(), leg: 0, fall: Box::new(fall.clone()) });
        let b = b.arm(Experiment::Elsewhere, ArmKind::Here, 2.0, here).end(InquiryEnd::NothingLeft);
        let of = |f: &crate::conclude::Finding| f.elapsed == fall.elapsed && f.before == Some(fall.before);
        b.write(20.0, here).readings().conclude().findings.iter().filter(|f| of(f)).count()
    };
    assert_eq!((told(150.0, &b.events), told(980.0, &b.events)), (1, 0));
    let near = |a: Rate, b: f64| (a.mb_s() / b - 1.0).abs() < 0.03;
    assert!(near(fall.before, 1000.0) && near(fall.after, 150.0), "{fall:?}");
}

/// Into the newest of three fast stretches of 40 s a rest and then, in the next, reads were put; so many bytes of each were written, GB.
fn put_into_turns(with_rest: f64, with_reads: f64) -> (Shares, Result<Trial, InquiryEnd>) {
    put_in_and_fell_to(with_rest, with_reads, 400.0)
}

/// The same, with how low they fell, MB/s.
fn put_in_and_fell_to(with_rest: f64, with_reads: f64, low: f64) -> (Shares, Result<Trial, InquiryEnd>) {
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven: 0.02 };
    let ask = |mut b: Bench| {
        let last = b.ask_of(Some(turns));
        b = last;
        if let Some(Event::InquiryStarted { fall, .. }) = b.events.last_mut() {
            fall.fast_so_far = Some(Bytes::from_gb(28));
            fall.may_be = Vec::new();
        }
        b
    };
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cycle, kind, s, rate);
    let to_fall = |b: Bench, gb: f64| {
        let mut b = of(b, ArmKind::ToFall, gb - 28.0, 1000.0);
        let over = b.events.pop();
        b = b.write(1.0, low);
        b.events.extend(over.map(|_| Event::ArmEnded { at: b.now(), leg: 0 }));
        b
    };
    let b = ask(turning(20.0).write(28.0, 1000.0));
    let b = to_fall(of(b, ArmKind::Rest, 10.0, 0.0), with_rest).end(InquiryEnd::NothingLeft);
    let b = ask(b.write(20.0, 400.0).write(28.0, 1000.0));
    let next = {
        let readings = b.readings();
        Inquiry::of(&readings.inquiries()[1], &readings).next(Possible::ALL, 100.0)
    };
    let b = to_fall(of(b, ArmKind::Read, 10.0, 1100.0), with_reads);
    let readings = b.readings();
    (Inquiry::of(&readings.inquiries()[1], &readings).shares, next)
}

#[test]
fn a_rest_and_reads_in_a_fast_stretch_tell_heat_from_what_comes_by_bytes() {
    let (heat, next) = put_into_turns(49.0, 31.0);
    assert_eq!(next.map(|t| (t.experiment, t.form)), Ok((Experiment::Cycle, CycleForm::Read)));
    assert!(heat.causes()[0].0 == FindingKind::Throttle && heat.causes()[0].1 > 0.98, "{:?}", heat.causes());
    let (by_bytes, _) = put_into_turns(40.0, 40.5);
    assert!(by_bytes.causes()[0].0 == FindingKind::Background && by_bytes.causes()[0].1 > 0.99);
    let (another, _) = put_in_and_fell_to(40.0, 40.5, 150.0);
    assert!(another.causes()[0].1 < 0.6, "another fall ended it: {:?}", another.causes());
    // What is done when the drive is left alone is done in a rest; what comes by the clock comes in either.
    let (alone, _) = put_into_turns(49.0, 40.0);
    let (clock, _) = put_into_turns(31.0, 31.0);
    let likely = |s: &Shares| s.causes().iter().find(|c| c.0 == FindingKind::Background).map_or(0.0, |c| c.1);
    assert!(likely(&alone) > 0.4 && likely(&clock) > 0.7, "{:?} {:?}", alone.causes(), clock.causes());
}

#[test]
fn what_one_inquiry_decides_holds_for_the_falls_between_the_same_rates_that_others_left_open() {
    let turns = Turns { count: 3, fast_bytes: Bytes::from_gb(40), fast_s: 40.0, slow_s: 20.0, uneven: 0.02 };
    let of = |b: Bench, rate| b.arm(Experiment::Elsewhere, ArmKind::Here, 2.0, rate);
    // The first was gone when it was looked into; the second was looked into as what comes and goes.
    let b = of(of(of(fallen().ask(), 400.0), 1000.0), 1000.0).end(InquiryEnd::CameBack);
    let b = [20.0, 20.0].iter().fold(b.write(40.0, 1000.0), |b, s| b.write(*s, 400.0).write(40.0, 1000.0));
    let mut b = b.write(5.0, 400.0);
    let began = b.now();
    b = b.ask_of(Some(turns));
    if let Some(Event::InquiryStarted { fall, .. }) = b.events.last_mut() {
        fall.elapsed = began - Duration::from_secs(5);
    }
    let of = |b: Bench, kind, s, rate| b.arm(Experiment::Cycle, kind, s, rate);
    let b = of(of(b, ArmKind::ReadHot, 2.0, 480.0), ArmKind::ToBack, 1.0, 1000.0);
    let b = of(of(b, ArmKind::ReadCool, 2.0, 1200.0), ArmKind::Lighter, 90.0, LIGHT_MB_S);
    let b = of(b, ArmKind::ToBack, 1.6, 1000.0).end(InquiryEnd::Decided).write(20.0, 1000.0);
    let told = b.readings().conclude();
    let first = told.findings.iter().find(|f| f.elapsed < Duration::from_secs(70)).unwrap();
    let decided = told.findings.iter().find(|f| f.decided.as_ref().is_some_and(|d| !d.causes.is_empty()));
    assert_eq!(decided.map(|f| f.kind), Some(FindingKind::Throttle), "{:#?}", told.findings);
    assert_eq!(first.kind, FindingKind::Throttle, "{first:?}");
    assert!(
        first.confidence <= 0.95 && first.evidence.iter().any(|e| e.contains("comes again")),
        "{first:?}"
    );
}

#[test]
fn a_slow_cycle_is_looked_into_well_into_its_fast_stretch() {
    let fast = |s: f64| turning(20.0).write(s, 1000.0).readings().standing_fall(0, STANDS);
    assert_eq!(fast(10.0), None, "too early");
    let fall = fast(29.0).unwrap();
    assert!((fall.fast_so_far.unwrap().as_f64() / 29e9 - 1.0).abs() < 0.05 && fall.recurs, "{fall:?}");
    assert_eq!(fast(38.0), None, "too late");
}

#[test]
fn reads_that_rise_tell_that_it_came_back_and_one_slow_read_does_not() {
    let seen = |reads: [f64; 3]| {
        let here = fallen().ask().arm(Experiment::OtherWay, ArmKind::Here, 2.0, 400.0);
        let all = reads.iter().fold(here, |b, rate| b.arm(Experiment::OtherWay, ArmKind::Read, 2.0, *rate));
        let readings = all.readings();
        Effects::of(&readings.inquiries()[0], readings.series()).came_back
    };
    assert!(seen([400.0, 400.0, 900.0]), "what slowed them has gone");
    assert!(!seen([400.0, 400.0, 160.0]), "a moment of the machine in the last arm");
    assert!(!seen([400.0, 410.0, 405.0]));
}

#[test]
fn arms_that_agree_say_how_well_their_mean_is_known() {
    let arm = |value: f64| LogRate { value, error: 0.06 };
    let of = |values: &[f64]| LogRate::mean(&values.iter().map(|v| arm(*v)).collect::<Vec<_>>()).unwrap();
    let near = |a: f64, b: f64| assert!((a - b).abs() < 1e-9, "{a} is not {b}");
    // Two agree by chance: the scatter within each counts.
    near(of(&[1.0, 1.0]).error, 0.06 / 2f64.sqrt());
    // Four do not; no better than one part in a hundred of an arm.
    near(of(&[1.0; 4]).error, 0.01 / 2.0);
    // The middle two of 0.97, 0.98, 1.02, 1.03, with one degree of freedom: t is 12.706. The four drawn in scatter by 0.02 each.
    let scattered = of(&[1.02, 0.97, 1.03, 0.98]);
    near(scattered.value, 1.0);
    let drawn_in = (4.0 * 0.02f64.powi(2) / 2.0).sqrt() * 12.706_205 / 1.96;
    assert!((scattered.error - drawn_in.min(0.03)).abs() < 1e-6, "{scattered:?}");
    // One that stood still is no part of it; that two of five did says nothing.
    let stalled = of(&[1.0, 1.0, 0.2, 1.0, 1.0, 1.0]);
    near(stalled.value, 1.0);
    near(stalled.error, 0.01 / 6f64.sqrt());
    assert!(of(&[0.2, 0.2, 1.0, 1.0, 1.0]).error > 0.2);
}
