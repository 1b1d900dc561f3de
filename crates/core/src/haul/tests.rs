use crate::drive::Ending;
use std::collections::VecDeque;

use super::*;
use crate::drive::Vitals;
use crate::drive::{Asking, DriveIdentity, DriveKind, Fault, LoadSummary, Tally};
use crate::quantity::units::Celsius;
use crate::route::Route;

/// A drive that does as it is told: a tally a call, and a note of every call.
#[derive(Default)]
pub(super) struct Puppet {
    identity: Option<DriveIdentity>,
    tallies: VecDeque<Result<Tally, DriveError>>,
    pub(super) calls: Vec<String>,
    limit: Option<u64>,
    moved: u64,
    /// It takes whole blocks alone, as devices do.
    pub(super) whole_blocks: bool,
    pub(super) from: Option<Bytes>,
    /// Completes while a flush waits for it.
    in_flight: u64,
    /// How it was said to be asked for its health, where it is asked at all.
    pub(super) asked: Option<Vec<Asking>>,
}

impl Puppet {
    pub(super) fn new() -> Self {
        let identity = DriveIdentity::plain("sim:puppet", DriveKind::Simulated, Bytes::from_gb(1));
        Self { identity: Some(identity), ..Self::default() }
    }

    pub(super) fn rate_writes(&mut self, rated: Option<Bytes>) {
        self.identity.iter_mut().for_each(|i| i.rated_writes = rated);
    }

    pub(super) fn will(mut self, tally: Result<Tally, DriveError>) -> Self {
        self.tallies.push_back(tally);
        self
    }
}

impl Drive for Puppet {
    fn identity(&self) -> &DriveIdentity {
        self.identity.as_ref().unwrap()
    }
    fn engine(&self) -> String {
        "puppet".into()
    }
    fn ask_health(&mut self, how: Asking) -> bool {
        self.asked.iter_mut().for_each(|a| a.push(how));
        self.asked.is_some()
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        let block = if self.whole_blocks { load.block.get() } else { 1 };
        self.limit = load.limit.map(|l| l.get() / block * block);
        self.moved = 0;
        self.from = load.from;
        self.calls.push(format!("begin {:?} {:?}", load.kind, load.limit.map(Bytes::get)));
        Ok(())
    }
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        if let Some(next) = self.tallies.pop_front() {
            return next;
        }
        // A hundred megabytes an interval until the limit.
        let bytes = 100_000_000.min(self.limit.unwrap_or(u64::MAX) - self.moved);
        self.moved += bytes;
        let finished = self.limit == Some(self.moved);
        Ok(Tally { took: interval, written: Bytes::new(bytes), finished, ..Tally::default() })
    }
    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        self.calls.push(format!("finish {}", ending == Ending::Durable));
        let flush = (ending == Ending::Durable).then_some(Duration::from_millis(7));
        let histogram = if self.moved > 0 { vec![(1_000, 2), (self.moved, 1)] } else { Vec::new() };
        Ok(LoadSummary { flush, histogram, ..LoadSummary::default() })
    }
    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        self.calls.push("flush".into());
        let drained = self.in_flight.min(self.limit.unwrap_or(u64::MAX) - self.moved);
        self.moved += drained;
        let flush = Some(Duration::from_millis(7));
        Ok(LoadSummary { flush, drained: Bytes::new(drained), ..LoadSummary::default() })
    }

    fn vitals(&mut self) -> Option<Vitals> {
        Some(Vitals::default())
    }
    fn release(&mut self) -> Result<(), DriveError> {
        self.calls.push("release".into());
        Ok(())
    }
}

pub(super) fn haul(drive: Puppet, legs: &str) -> Haul<Puppet> {
    let route = Route::from_toml(&format!("name = 'x'\n{legs}")).unwrap();
    let setup = Setup::plain("test", route);
    Haul::new(drive, setup)
}

/// What happened, in a word each.
pub(super) fn words(events: &[Event]) -> Vec<String> {
    events
        .iter()
        .filter_map(|e| match e {
            Event::HaulStarted(_) => Some("haul".into()),
            Event::LegStarted { leg, .. } => Some(format!("leg {leg}")),
            Event::Sample(s) => Some(format!("{}", s.written)),
            Event::Vitals { .. }
            | Event::Temperatures { .. }
            | Event::Meters { .. }
            | Event::Latencies(_)
            | Event::Freight(_) => None,
            Event::Fault { .. } => Some("fault".into()),
            Event::StepStarted { .. } => Some("step".into()),
            Event::StepEnded { .. } => Some("step over".into()),
            Event::Flushed { took, .. } => Some(format!("flushed in {} ms", took.as_millis())),
            Event::Mismatch { found, .. } => Some(format!("{:?}", found.wrong)),
            Event::Note { text, .. } => Some(format!("note {text}")),
            Event::InquiryStarted { .. } => Some("inquiry".into()),
            Event::ArmStarted { arm, .. } => Some(arm.kind.word().into()),
            Event::ArmEnded { .. } => Some("arm over".into()),
            Event::InquiryEnded { why, .. } => Some(format!("inquiry over {why:?}")),
            Event::Paused { .. } => Some("paused".into()),
            Event::Resumed { .. } => Some("resumed".into()),
            Event::LegEnded { why, .. } => Some(format!("ended {why:?}")),
            Event::HaulEnded { state, .. } => Some(state.word().into()),
        })
        .collect()
}

fn run(haul: &mut Haul<Puppet>) -> Vec<Event> {
    let mut events = Vec::new();
    while haul.step(&mut events) == Progress::Going {}
    events
}

const WRITE: &str = "[[leg]]\nkind='write'\nuntil={bytes='250 MB'}\n";

#[test]
fn a_route_is_stepped_leg_by_leg_and_every_byte_is_told() {
    let mut h = haul(Puppet::new(), &format!("{WRITE}[[leg]]\nkind='rest'\nuntil={{duration='200 ms'}}"));
    let events = run(&mut h);
    assert_eq!(
        words(&events)[..8],
        ["haul", "leg 0", "100 MB", "100 MB", "50 MB", "ended Bytes", "leg 1", "100 MB"]
    );
    assert_eq!(words(&events).last().unwrap(), "done");
    assert_eq!(
        h.drive().calls,
        ["begin Write Some(250000000)", "finish true", "begin Rest None", "finish false", "release"]
    );
    // The flush is part of the time.
    assert_eq!(events.last().unwrap().at(), Duration::from_millis(300 + 7 + 200));
    assert_eq!(h.step(&mut Vec::new()), Progress::Ended(HaulState::Done), "further steps do nothing");
}

#[test]
fn a_leg_ends_at_the_first_condition_that_comes_true() {
    let warm = |t: f64| {
        Ok(Tally { took: Duration::from_millis(100), temperature: Some(Celsius::new(t)), ..Tally::default() })
    };
    for (until, drive, expected) in [
        ("{duration='250 ms', bytes='9 GB'}", Puppet::new(), "ended Duration"),
        (
            "{temperature='60 °C', bytes='9 GB'}",
            Puppet::new().will(warm(59.0)).will(warm(60.0)),
            "ended Temperature",
        ),
        ("{bytes='100 MB', duration='9 s'}", Puppet::new(), "ended Bytes"),
    ] {
        let mut h = haul(drive, &format!("[[leg]]\nkind='write'\nuntil={until}"));
        let told = words(&run(&mut h));
        assert!(told.contains(&expected.to_owned()), "{until}: {told:?}");
    }
    let mut h = haul(
        Puppet::new().will(warm(50.0)).will(warm(41.0)).will(warm(40.0)),
        "[[leg]]\nkind='rest'\nuntil={temperature='40 °C', duration='1 h'}",
    );
    assert!(words(&run(&mut h)).contains(&"ended Temperature".to_owned()), "a rest ends when it has cooled");
    assert_eq!(h.elapsed(), Duration::from_millis(300));
}

#[test]
fn a_duration_is_kept_to_the_interval_it_ends_in() {
    let mut h = haul(Puppet::new(), "[[leg]]\nkind='write'\nuntil={duration='250 ms'}");
    run(&mut h);
    assert_eq!(h.elapsed(), Duration::from_millis(257), "two whole intervals, a half one, and the flush");
}

#[test]
fn a_pause_takes_the_load_off_and_resuming_asks_for_what_is_left() {
    let mut h = haul(Puppet::new(), WRITE);
    let mut events = Vec::new();
    for _ in 0..4 {
        h.step(&mut events);
    }
    h.pause(true);
    h.step(&mut events);
    assert!(h.is_paused());
    h.note("looking at it", &mut events);
    h.pause(false);
    events.extend(run(&mut h));
    let told = words(&events);
    assert!(told.windows(3).any(|w| w[0] == "paused" && w[2] == "note looking at it"), "{told:?}");
    assert!(told.contains(&"resumed".to_owned()) && told.last().unwrap() == "done");
    assert!(h.drive().calls.contains(&"begin Rest None".to_owned()));
    // 100 MB and 100 MB were written before the pause; the puppet's rest adds 100 MB of its own to the count.
    assert!(
        h.drive()
            .calls
            .iter()
            .any(|c| c.starts_with("begin Write Some(") && c != "begin Write Some(250000000)")
    );
    // Latency of the leg is that of all its operations, also of those before the pause.
    let operations: Vec<u64> = events
        .iter()
        .filter_map(|e| match e {
            Event::LegEnded { summary, .. } => Some(summary.histogram.iter().map(|(_, n)| n).sum()),
            _ => None,
        })
        .collect();
    assert!(operations.len() == 1 && operations[0] >= 6, "{operations:?}");
}

#[test]
fn a_stamped_write_begins_at_the_start_of_its_region_wherever_the_leg_before_ended() {
    let stamped = "[[leg]]\nkind='write'\nstamped=true\nregion={from='40 MB'}\nuntil={bytes='100 MB'}\n";
    let mut h = haul(Puppet::new(), &format!("{WRITE}{stamped}"));
    run(&mut h);
    // The region begins at a whole block.
    let from = h.drive().from.unwrap().get();
    assert!((39_000_000..=41_000_000).contains(&from), "{from}");
}

#[test]
fn skipping_goes_on_and_stopping_ends_with_everything_closed() {
    let mut h = haul(Puppet::new(), &format!("{WRITE}{WRITE}"));
    let mut events = Vec::new();
    for _ in 0..4 {
        h.step(&mut events);
    }
    h.skip_leg();
    h.step(&mut events);
    assert_eq!(words(&events).last().unwrap(), "ended Skipped");
    for _ in 0..3 {
        h.step(&mut events);
    }
    h.stop();
    assert_eq!(h.step(&mut events), Progress::Ended(HaulState::Stopped));
    assert_eq!(words(&events)[words(&events).len() - 2..], ["ended Stopped", "stopped"]);
    assert_eq!(h.drive().calls.last().unwrap(), "release");
}

#[test]
fn a_drive_that_goes_away_ends_the_haul_with_its_words() {
    let gone = DriveError::Gone { target: "sim:puppet".into(), why: "No such device".into() };
    let mut h = haul(Puppet::new().will(Ok(Tally::default())).will(Err(gone)), WRITE);
    let events = run(&mut h);
    let Some(Event::HaulEnded { state, reason, .. }) = events.last() else { panic!("no end") };
    assert_eq!(*state, HaulState::Failed);
    assert_eq!(reason.as_deref(), Some("sim:puppet is gone: No such device"));
    assert_eq!(words(&events)[words(&events).len() - 3..], ["fault", "ended Failed", "failed"]);
    assert_eq!(h.drive().calls.last().unwrap(), "release", "what was taken is given back all the same");
}

#[test]
fn failed_operations_are_told_with_their_address_and_do_not_end_the_haul() {
    let tally = Tally {
        took: Duration::from_millis(100),
        errors: 2,
        faults: vec![Fault {
            position: Bytes::new(4096),
            kind: FaultKind::Failed,
            message: "write failed: Input/output error".into(),
        }],
        ..Tally::default()
    };
    let mut h = haul(Puppet::new().will(Ok(tally)), WRITE);
    let events = run(&mut h);
    let fault =
        events.iter().find_map(|e| if let Event::Fault { position, .. } = e { *position } else { None });
    assert_eq!(fault, Some(Bytes::new(4096)));
    let errors: u32 =
        events.iter().filter_map(|e| if let Event::Sample(s) = e { Some(s.errors) } else { None }).sum();
    assert_eq!((errors, words(&events).last().unwrap().as_str()), (2, "done"));
}

const SCAN: &str = "[[leg]]\nkind='scan'\npasses=2\nbins=16\n";

#[test]
fn a_leg_with_steps_tells_each_and_moves_every_byte() {
    let mut h = haul(Puppet::new(), SCAN);
    let events = run(&mut h);
    let all = words(&events);
    let count = |word: &str| all.iter().filter(|w| *w == word).count();
    assert_eq!((count("step"), count("step over"), count("ended Complete")), (2, 2, 1), "{all:?}");
    let total: u64 = events
        .iter()
        .filter_map(|e| if let Event::Sample(s) = e { Some((s.written + s.read).get()) } else { None })
        .sum();
    assert_eq!(total, 2_000_000_000, "two passes over a gigabyte");
    assert_eq!(all.last().map(String::as_str), Some("done"));
}

#[test]
fn a_skipped_or_stopped_step_is_closed_before_its_leg() {
    for stop in [false, true] {
        let mut h = haul(Puppet::new(), &format!("{SCAN}[[leg]]\nkind='rest'\nuntil={{duration='200 ms'}}"));
        let mut events = Vec::new();
        for _ in 0..4 {
            h.step(&mut events);
        }
        if stop {
            h.stop()
        } else {
            h.skip_leg()
        }
        while h.step(&mut events) == Progress::Going {}
        let all = words(&events);
        let at = |word: &str| all.iter().position(|w| w == word).unwrap();
        let ended = if stop { "ended Stopped" } else { "ended Skipped" };
        assert!(at("step") < at("step over") && at("step over") < at(ended), "{all:?}");
        assert_eq!(all.contains(&"leg 1".to_owned()), !stop, "{all:?}");
    }
}

#[test]
fn a_pause_within_a_step_leaves_what_is_left_of_it() {
    let mut h = haul(Puppet::new(), SCAN);
    let mut events = Vec::new();
    for _ in 0..5 {
        h.step(&mut events);
    }
    h.pause(true);
    h.step(&mut events);
    h.pause(false);
    h.step(&mut events);
    assert_eq!(
        h.drive().from,
        Some(Bytes::new(400_000_000 / (1 << 20) * (1 << 20))),
        "not from the start again"
    );
    while h.step(&mut events) == Progress::Going {}
    // The puppet moves bytes at rest too, and they count: what is asked for after the pause is what is left.
    let sum: u64 = events
        .iter()
        .filter_map(|e| if let Event::Sample(s) = e { Some(s.written.get()) } else { None })
        .sum();
    assert_eq!(sum, 2_000_000_000, "{:?}", words(&events));
    let begun: Vec<&String> = h.drive().calls.iter().filter(|c| c.starts_with("begin Read")).collect();
    assert_eq!(begun[1], "begin Read Some(600000000)", "{begun:?}");
}

#[test]
fn fills_rise_from_level_to_level_and_leave_out_what_is_reached() {
    let levels = "[[leg]]\nkind='fill'\nlevel='30 %'\n[[leg]]\nkind='fill'\nlevel='20 %'\n[[leg]]\nkind='fill'\nlevel='50 %'\n";
    let mut h = haul(Puppet::new(), levels);
    let events = run(&mut h);
    let written: u64 = events
        .iter()
        .filter_map(|e| if let Event::Sample(s) = e { Some(s.written.get()) } else { None })
        .sum();
    assert!(written.abs_diff(500_000_000) < 2 << 20, "half of the drive, once: {written}");
    let begun = h.drive().calls.iter().filter(|c| c.starts_with("begin Fill")).count();
    assert_eq!(begun, 2, "{:?}", h.drive().calls);
}

#[test]
fn a_haul_that_goes_on_moves_what_is_left() {
    let mut h = haul(Puppet::new(), &format!("{WRITE}{WRITE}"));
    h.setup.resume =
        Some(Resume { leg: 1, moved: Bytes::from_gb(0) + Bytes::new(150_000_000), filled: Bytes::ZERO });
    let events = run(&mut h);
    assert_eq!(h.drive().calls[0], "begin Write Some(100000000)");
    assert!(words(&events).contains(&"leg 1".to_owned()) && !words(&events).contains(&"leg 0".to_owned()));
}

#[test]
fn a_write_is_made_durable_each_time_that_so_much_has_come() {
    let mut h = haul(
        Puppet::new(),
        "[[leg]]\nkind='write'\nstamped=true\nflush_every='150 MB'\nuntil={bytes='500 MB'}\n",
    );
    let events = run(&mut h);
    let wanted = [
        "haul",
        "leg 0",
        "100 MB",
        "100 MB",
        "flushed in 7 ms",
        "100 MB",
        "100 MB",
        "flushed in 7 ms",
        "100 MB",
        "ended Bytes",
        "done",
    ];
    assert_eq!(words(&events), wanted);
    // As if power had gone before the end: what the last flush took in is certain.
    let mut readings = Readings::new();
    events[..events.len() - 3].iter().for_each(|e| readings.push(e));
    assert_eq!(readings.legs()[0].flushed, Bytes::new(400_000_000));
    events[events.len() - 3..].iter().for_each(|e| readings.push(e));
    assert_eq!(readings.legs()[0].flushed, Bytes::new(500_000_000));
}

#[test]
fn a_write_whose_last_bytes_came_while_a_flush_waited_is_over() {
    let puppet = Puppet { in_flight: 50_000_000, ..Puppet::new() };
    let mut h = haul(puppet, "[[leg]]\nkind='write'\nflush_every='150 MB'\nuntil={bytes='500 MB'}\n");
    let wanted = [
        "haul",
        "leg 0",
        "100 MB",
        "100 MB",
        "50 MB",
        "flushed in 7 ms",
        "100 MB",
        "100 MB",
        "50 MB",
        "flushed in 7 ms",
        "ended Bytes",
        "done",
    ];
    assert_eq!(words(&run(&mut h)), wanted);
}

#[test]
fn latency_from_before_a_pause_belongs_to_the_step_it_came_in() {
    let ladder = "[[leg]]\nkind='ladder'\nblocks=['4 KiB']\ndepths=[1]\nstep='1 s'\nsettle='0 s'\n";
    let mut h = haul(Puppet::new(), ladder);
    let mut events = Vec::new();
    for _ in 0..5 {
        h.step(&mut events);
    }
    h.pause(true);
    h.step(&mut events);
    h.pause(false);
    events.extend(run(&mut h));
    let operations = |s: &LoadSummary| s.histogram.iter().map(|(_, n)| n).sum::<u64>();
    let steps: Vec<u64> = events
        .iter()
        .filter_map(|e| match e {
            Event::StepEnded { summary, .. } => Some(operations(summary)),
            _ => None,
        })
        .collect();
    // Three operations each time that the load was taken off.
    assert!(steps.len() == 1 && steps[0] >= 6, "{steps:?}");
}

/// Twelve rounds at most of a write and a read of a second each; the writes give these rates, MB/s.
fn rounds(writes: &[u64]) -> Haul<Puppet> {
    let second = |mb: u64, reads: bool| {
        let bytes = Bytes::new(mb * 1_000_000);
        let (written, read) = if reads { (Bytes::ZERO, bytes) } else { (bytes, Bytes::ZERO) };
        Ok(Tally { took: Duration::from_secs(1), written, read, ..Tally::default() })
    };
    let puppet =
        writes.iter().fold(Puppet::new(), |p, mb| p.will(second(*mb, false)).will(second(900, true)));
    haul(
        puppet,
        "interval = '1 s'\n[[leg]]\nkind='group'\nrepeat=12\nsteady={legs=[1, 2]}\n[[leg.leg]]\nkind='write'\nuntil={duration='1 s'}\n\
         [[leg.leg]]\nkind='read'\nuntil={duration='1 s'}\n[[leg]]\nkind='rest'\nuntil={duration='1 s'}\n",
    )
}

#[test]
fn rounds_end_once_five_are_steady_and_the_window_is_told() {
    let mut haul = rounds(&[900, 500, 300, 210, 204, 202, 201, 200, 200, 200, 200, 200]);
    let mut events = Vec::new();
    while haul.step(&mut events) == Progress::Going {}
    let legs: Vec<u16> = events
        .iter()
        .filter_map(|e| if let Event::LegStarted { leg, .. } = e { Some(*leg) } else { None })
        .collect();
    // Rounds 4 to 8 are steady: the sixteen legs of eight rounds, and the rest after them.
    assert_eq!(legs, (0..16).chain([24]).collect::<Vec<_>>());
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let survey = readings.conclude().surveys.rounds.unwrap();
    let group = &survey.groups[0];
    assert_eq!((group.rounds, group.window_from, group.most), (8, Some(3), 12));
    // By hand: (210 + 204 + 202 + 201 + 200) / 5; reads are 900 in each.
    assert!((group.followed[0].mean.unwrap() - 203.4).abs() < 0.01, "{group:?}");
    assert!((group.followed[1].mean.unwrap() - 900.0).abs() < 0.01, "{group:?}");
    let read = &group.legs[1];
    assert_eq!((read.kind, read.read_percent, read.mb_s.repeats), (LegKind::Read, 100, 5));
    assert!((read.mb_s.mean - 900.0).abs() < 0.01 && (read.operations_per_s - 858.3).abs() < 0.1, "{read:?}");
    let words = survey.sentences();
    assert!(
        words[0].starts_with(
            "Steady in rounds 4 to 8: mean rate 203.4 MB/s (write, 1 MiB × 32); excursion 4.9 %, slope 4.5 % at most in 2 legs"
        ),
        "{words:?}"
    );
}

#[test]
fn rounds_that_never_settle_all_run_and_are_told_so() {
    let mut haul = rounds(&[900, 700, 500, 400, 300, 200, 150, 100, 80, 60, 40, 20]);
    let mut events = Vec::new();
    while haul.step(&mut events) == Progress::Going {}
    let legs = events.iter().filter(|e| matches!(e, Event::LegStarted { .. })).count();
    assert_eq!(legs, 25);
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let words = readings.conclude().surveys.rounds.unwrap().sentences();
    assert!(
        words[0].starts_with(
            "Not steady after 12 rounds: mean rate 60 MB/s (write, 1 MiB × 32) over the last five"
        ),
        "{words:?}"
    );
}

#[test]
fn a_round_that_was_ended_by_hand_counts_for_nothing() {
    let mut haul = rounds(&[200; 12]);
    let mut events = Vec::new();
    let mut skipped = false;
    while haul.step(&mut events) == Progress::Going {
        // The write of the third round.
        if !skipped && matches!(events.last(), Some(Event::LegStarted { leg: 4, .. })) {
            haul.skip_leg();
            skipped = true;
        }
    }
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let group = &readings.conclude().surveys.rounds.unwrap().groups[0];
    assert_eq!((group.followed[0].values[2], group.window_from, group.rounds), (None, Some(3), 8));
}

#[test]
fn rounds_of_a_haul_that_goes_on_have_their_own_numbers() {
    let mut haul = rounds(&[200; 10]);
    // At the write of the third round.
    haul.setup.resume = Some(Resume { leg: 4, moved: Bytes::ZERO, filled: Bytes::ZERO });
    let mut events = Vec::new();
    while haul.step(&mut events) == Progress::Going {}
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let group = &readings.conclude().surveys.rounds.unwrap().groups[0];
    assert_eq!((&group.followed[0].values[..2], group.window_from), (&[None, None][..], Some(2)));
    let told: Vec<(u16, usize)> = group.legs.iter().map(|l| (l.leg, l.mb_s.repeats)).collect();
    assert_eq!(told, [(1, 5), (2, 5)], "each leg over the five rounds of the window");
    assert!(group.legs.iter().all(|l| group.follows(l)));
}
