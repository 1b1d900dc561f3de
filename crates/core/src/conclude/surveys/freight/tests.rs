use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

use super::*;
use crate::drive::freight::Spent;
use crate::drive::{DriveIdentity, DriveKind};
use crate::record::{Event, HaulHead, Sample};
use crate::route::Route;

/// A leg of so many seconds; what is done in each is told by its number.
fn readings(leg: &str, seconds: u64, done: impl Fn(u64) -> (u64, Freighted)) -> Readings {
    let route = format!(
        "name = 'x'\n[[leg]]\nkind = 'freight'\ncarry = 'write'\nfiles = [{{ size = '1 MB' }}]\ncount = 1000\n{leg}"
    );
    let route = Route::from_toml(&route).unwrap();
    let drive = DriveIdentity::plain("folder:/x", DriveKind::Folder, Bytes::from_gb(100));
    let mut r = Readings::new();
    r.push(&Event::HaulStarted(Box::new(HaulHead::plain("h", drive, route))));
    r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for second in 0..seconds {
        let (end, span) = (Duration::from_secs(second + 1), Duration::from_secs(1));
        let (written, done) = done(second);
        r.push(&Event::Sample(Sample { end, span, written: Bytes::new(written), ..Sample::default() }));
        r.push(&Event::Freight(Box::new(FreightSecond { end, span, leg: 0, done })));
    }
    r
}

const fn ms(n: u64) -> Duration {
    Duration::from_millis(n)
}

/// Files of 1 kB, 100 kB and 10 MB by two threads: 2 ms each, and 10 ns a byte (100 MB/s a thread), but for a few percent that differ
/// from one to the next.
fn costly(second: u64) -> (u64, Freighted) {
    let mut done = Freighted { threads: 2, folders: 4, folder_time: ms(8), ..Freighted::default() };
    let mut bytes = 0;
    for i in 0..60u64 {
        let size = [1_000, 100_000, 10_000_000][(i % 3) as usize];
        let swing = 1.0 + 0.05 * (((i * 7 + second * 13) % 11) as f64 / 5.0 - 1.0);
        let took = Duration::from_secs_f64((0.002 + size as f64 * 10e-9) * swing);
        done.file(size, took, ms(2).mul_f64(swing), Duration::ZERO);
        bytes += size;
    }
    done.spent = Spent { data: ms(1800), metadata: ms(120), machine: ms(80), ..Spent::default() };
    (bytes, done)
}

#[test]
fn what_a_file_and_a_byte_cost_is_found_and_lies_in_its_interval() {
    let r = readings("", 30, costly);
    let legs = survey(&r).unwrap().legs;
    let costs = legs[0].costs.as_ref().unwrap();
    // Two threads: half of what one file takes of its thread's time.
    let (a, b) = (costs.per_file.unwrap(), costs.per_byte.unwrap());
    assert!((a.value / 0.001 - 1.0).abs() < 0.02 && a.low <= 0.001 && a.high >= 0.001, "{a:?}");
    assert!((b.value / 5e-9 - 1.0).abs() < 0.02 && b.low <= 5e-9 && b.high >= 5e-9, "{b:?}");
    assert!((costs.per_folder.unwrap() - 0.002).abs() < 1e-9);
    let even = costs.even.unwrap();
    assert!((even.value / 200_000.0 - 1.0).abs() < 0.03, "2 ms are 200 kB at 100 MB/s: {even:?}");
    let words = costs.sentence().unwrap();
    assert!(words.starts_with("Each file costs 1.00"), "{words}");
    assert!(words.contains("bytes go at 200 MB/s, each folder costs 2 ms; a file below 200."), "{words}");
}

/// Files of 1 kB to 10 MB whose times are log-normal: 1 ms and 2 ns a byte in the middle, as skewed as they are on real drives.
fn skewed(rng: &mut Xoshiro256PlusPlus) -> (u64, Freighted) {
    let mut done = Freighted { threads: 1, ..Freighted::default() };
    let mut bytes = 0;
    for _ in 0..150 {
        let size = 10f64.powf(rng.random_range(3.0..7.0));
        let mut slower = |sigma: f64| {
            let (u, v): (f64, f64) = (rng.random_range(1e-12..1.0), rng.random());
            (sigma * (-2.0 * u.ln()).sqrt() * (v * std::f64::consts::TAU).cos()).exp()
        };
        let took = 0.001 * slower(0.4) + size * 2e-9 * slower(0.7);
        done.file(size as u64, Duration::from_secs_f64(took), ms(1), Duration::ZERO);
        bytes += size as u64;
    }
    (bytes, done)
}

#[test]
fn costs_of_skewed_times_are_as_often_too_high_as_too_low_and_their_intervals_hold_as_they_say() {
    // The mean of what is log-normal lies above its middle.
    let truths = [0.001 * (0.4f64.powi(2) / 2.0).exp(), 2e-9 * (0.7f64.powi(2) / 2.0).exp()];
    for seconds in [4, 16] {
        let (mut off, mut half, mut held) = ([0.0; 2], [0.0; 2], [0; 2]);
        let legs = 2000;
        for seed in 0..legs {
            let rng = std::cell::RefCell::new(Xoshiro256PlusPlus::seed_from_u64(seed));
            let r = readings("", seconds, |_| skewed(&mut rng.borrow_mut()));
            let costs = survey(&r).unwrap().legs[0].costs.clone().unwrap();
            for (i, cost) in [costs.per_file.unwrap(), costs.per_byte.unwrap()].into_iter().enumerate() {
                off[i] += cost.value - truths[i];
                half[i] += cost.half();
                held[i] += u32::from(cost.low <= truths[i] && truths[i] <= cost.high);
            }
        }
        let bias = [off[0] / half[0], off[1] / half[1]];
        assert!(bias.iter().all(|b| b.abs() < 0.06), "{bias:?} of half an interval, {seconds} s");
        assert!(held.iter().all(|h| (1860..=1940).contains(h)), "{held:?} of {legs}, {seconds} s");
    }
}

#[test]
fn the_interval_of_a_share_holds_it_and_says_nothing_of_what_takes_no_time() {
    for percent in 0..=100 {
        let share = f64::from(percent) / 100.0;
        let (low, high) = waiting::bounds(share);
        assert!(0.0 <= low && low <= share && share <= high && high <= 1.0, "{low} {share} {high}");
    }
    assert_eq!(waiting::bounds(0.0), (0.0, 0.06));
    let (low, high) = waiting::bounds(0.5);
    assert!((low - 0.16).abs() < 1e-9 && (high - 0.615).abs() < 1e-9, "between two lines: {low} {high}");
}

#[test]
fn of_files_all_alike_the_costs_cannot_be_told_apart() {
    let r = readings("", 10, |_| {
        let mut done = Freighted { threads: 1, ..Freighted::default() };
        (0..100).for_each(|_| done.file(1_000_000, ms(10), ms(1), Duration::ZERO));
        done.spent = Spent { data: ms(900), metadata: ms(100), ..Spent::default() };
        (100_000_000, done)
    });
    let s = survey(&r).unwrap();
    assert_eq!(s.legs[0].costs, None);
    assert_eq!(s.legs[0].bottleneck.unwrap().on, WaitedFor::Target);
    assert_eq!(s.legs[0].sentences()[0], "1 000 files, 1 GB written in 10 s, 100 MB/s.");
    assert_eq!(s.legs[0].sentences()[1], "The drive held it up: without that it would take 90 % less time.");
}

#[test]
fn each_kind_of_waiting_is_told_as_what_it_is() {
    let second = Duration::from_secs(1);
    let part = |share: f64| second.mul_f64(share);
    let cases = [
        (Spent { data: part(0.8), machine: part(0.2), ..Spent::default() }, WaitedFor::Target),
        (Spent { metadata: part(0.7), data: part(0.3), ..Spent::default() }, WaitedFor::SmallFiles),
        (
            Spent { metadata: part(0.7), stalled: part(0.6), data: part(0.3), ..Spent::default() },
            WaitedFor::FileSystem,
        ),
        (Spent { machine: part(0.9), data: part(0.1), ..Spent::default() }, WaitedFor::Machine),
        (
            Spent {
                starved: part(0.8),
                data: part(0.2),
                source_data: part(0.9),
                source_metadata: part(0.1),
                ..Spent::default()
            },
            WaitedFor::Source,
        ),
        (
            Spent {
                starved: part(0.8),
                data: part(0.2),
                source_data: part(0.1),
                source_metadata: part(0.9),
                ..Spent::default()
            },
            WaitedFor::SmallFiles,
        ),
        // Each file durable for itself, all small: it is not their bytes that take so long.
        (Spent { durable: part(0.9), data: part(0.1), ..Spent::default() }, WaitedFor::FileSystem),
    ];
    for (spent, on) in cases {
        let r = readings("", 20, |_| {
            let mut done = Freighted { threads: 1, spent, ..Freighted::default() };
            (0..100).for_each(|_| done.file(10_000, ms(10), ms(5), spent.durable / 100));
            (1_000_000, done)
        });
        let found = r.conclude().findings;
        assert_eq!(found.len(), 1, "{spent:?}");
        assert_eq!((found[0].kind, found[0].waits_for.unwrap().on), (FindingKind::Bottleneck, on));
    }
    // Nothing stands out.
    let spent = Spent { data: part(0.35), metadata: part(0.35), machine: part(0.3), ..Spent::default() };
    let r = readings("", 20, |_| {
        let mut done = Freighted { threads: 1, spent, ..Freighted::default() };
        (0..100).for_each(|_| done.file(10_000, ms(10), ms(5), Duration::ZERO));
        (1_000_000, done)
    });
    let s = survey(&r).unwrap();
    assert_eq!((r.conclude().findings.len(), s.legs[0].bottleneck), (0, None));
    assert!(
        s.legs[0].sentences()[1].starts_with("No one thing held it up: without"),
        "{:?}",
        s.legs[0].sentences()
    );
}

#[test]
fn a_drive_is_at_work_for_a_share_of_the_time_and_not_of_the_threads_that_still_have_files() {
    // One of four threads has a last large file: this machine makes its data, and the drive rests for most of the time.
    let spent = Spent { machine: ms(600), data: ms(400), idle: ms(3000), ..Spent::default() };
    let mut done = Freighted { threads: 4, spent, device_busy: Some(ms(300)), ..Freighted::default() };
    done.file(1 << 30, ms(1000), Duration::ZERO, Duration::ZERO);
    let (on, share) = held_up(&done, Carry::Write).unwrap();
    assert_eq!(on, WaitedFor::Machine);
    assert!((share - 0.6).abs() < 1e-9, "{share}");
}

#[test]
fn a_full_memory_is_told_and_is_no_cache_end() {
    // 2 GB/s into memory for 4 s while the device writes 500 MB/s, then as fast as the device takes it.
    let r = readings("", 24, |second| {
        let mut done =
            Freighted { threads: 1, device_written: Some(Bytes::new(500_000_000)), ..Freighted::default() };
        done.spent = Spent { data: ms(700), machine: ms(300), ..Spent::default() };
        let written = if second < 4 { 2_000_000_000 } else { 500_000_000 };
        done.file(written, ms(1000), ms(1), Duration::ZERO);
        (written, done)
    });
    let c = r.conclude();
    let kinds: Vec<FindingKind> = c.findings.iter().map(|f| f.kind).collect();
    assert_eq!(kinds, [FindingKind::Bottleneck, FindingKind::WriteBack]);
    let full = &c.findings[1];
    assert_eq!((full.elapsed, full.written), (Duration::from_secs(4), Bytes::from_gb(8)));
    let whole = c.surveys.freight.unwrap().legs.remove(0).write_back.unwrap();
    assert_eq!(
        (whole.held, whole.after, whole.device),
        (Bytes::from_gb(6), Rate::from_mb_s(500.0), Rate::from_mb_s(500.0))
    );
}

#[test]
fn a_fall_at_small_files_is_no_finding_of_the_drive() {
    let r = readings("", 60, |second| {
        let mut done = Freighted { threads: 1, ..Freighted::default() };
        let small = second >= 30;
        let (size, n) = if small { (4_000, 1000) } else { (10_000_000, 50) };
        (0..n).for_each(|_| done.file(size, Duration::from_secs(1) / n as u32, ms(1), Duration::ZERO));
        let metadata = if small { ms(950) } else { ms(50) };
        done.spent = Spent { metadata, data: Duration::from_secs(1) - metadata, ..Spent::default() };
        (size * n, done)
    });
    let kinds: Vec<FindingKind> = r.conclude().findings.iter().map(|f| f.kind).collect();
    assert!(kinds.iter().all(|k| *k == FindingKind::Bottleneck), "{kinds:?}");
}

#[test]
fn a_record_keeps_every_second_to_the_digit() {
    let second = FreightSecond {
        end: Duration::from_nanos(1_234_567_891),
        span: Duration::from_nanos(999_999_999),
        leg: 3,
        done: costly(5).1,
    };
    let events = vec![Event::Freight(Box::new(second))];
    let bytes = crate::record::bytes::encode(&events, serde_json::to_vec).unwrap();
    let back = crate::record::bytes::decode(&bytes, |b| serde_json::from_slice(b).map_err(|e| e.to_string()))
        .unwrap();
    assert_eq!(back, events);
}
