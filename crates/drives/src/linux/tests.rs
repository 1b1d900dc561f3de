use hollow_mile_core::drive::Ending;
use std::path::Path;
use std::time::Duration;

use hollow_mile_core::drive::stamp;
use hollow_mile_core::drive::stamp::{Expected, Mismatch, Origin, Wrong};
use hollow_mile_core::drive::{Drive, Load, LoadKind, Pattern};
use hollow_mile_core::quantity::histogram::Histogram;
use hollow_mile_core::quantity::units::{Bytes, Rate};

use super::{EngineChoice, FileDrive, FileError};

const MIB: u64 = 1 << 20;

fn load(kind: LoadKind, size: u64, block: u64, depth: u32, limit: Option<u64>) -> Load {
    Load {
        limit: limit.map(Bytes::new),
        ..Load::sequential(kind, Bytes::ZERO, Bytes::new(size), Bytes::new(block), depth)
    }
}

/// Runs a load to its end and says how much was moved and in how many intervals.
fn run(drive: &mut FileDrive, load: &Load) -> (u64, usize, u64) {
    drive.begin(load).unwrap();
    let (mut bytes, mut intervals) = (0, 0);
    loop {
        let tally = drive.work(Duration::from_millis(20)).unwrap();
        assert_eq!(tally.errors, 0);
        bytes += (tally.written + tally.read).get();
        intervals += 1;
        if tally.finished {
            break;
        }
    }
    let summary = drive.finish(Ending::durable_if(load.kind == LoadKind::Write)).unwrap();
    assert_eq!(summary.drained, Bytes::ZERO, "nothing is in flight when a load says it is finished");
    assert_eq!(summary.flush.is_some(), load.kind == LoadKind::Write);
    let operations = summary.histogram.iter().map(|(_, n)| n).sum();
    (bytes, intervals, operations)
}

/// Every case on both engines: they share one pump, and give the same transcript.
fn on_both_engines(case: impl Fn(EngineChoice, &Path)) {
    for engine in [EngineChoice::Best, EngineChoice::Threads] {
        let dir = tempfile::tempdir().unwrap();
        case(engine, dir.path());
    }
}

#[test]
fn exactly_the_bytes_asked_for_are_written_and_nothing_is_left() {
    on_both_engines(|engine, dir| {
        let path = dir.join("try.hm");
        let size = 40 * MIB + 4096;
        let mut drive = FileDrive::create(&path, Bytes::new(size), engine, 1).unwrap();
        let (bytes, _, operations) = run(&mut drive, &load(LoadKind::Write, size, MIB, 8, Some(size)));
        assert_eq!(bytes, size);
        assert_eq!(operations, 41, "forty whole blocks and a short one");
        let data = std::fs::read(&path).unwrap();
        assert_eq!(data.len() as u64, size);
        let mut seen = std::collections::HashSet::new();
        assert!(data.chunks(4096).all(|b| seen.insert(b)), "a 4 KiB block was written twice");
        let (bytes, ..) = run(&mut drive, &load(LoadKind::Read, size, 64 << 10, 4, Some(size)));
        assert_eq!(bytes, size);
        drive.release().unwrap();
        assert!(!path.exists());
    });
}

#[test]
fn a_load_longer_than_the_file_goes_round() {
    on_both_engines(|engine, dir| {
        let mut drive = FileDrive::create(&dir.join("r"), Bytes::new(8 * MIB), engine, 1).unwrap();
        let (bytes, ..) = run(&mut drive, &load(LoadKind::Write, 8 * MIB, MIB, 3, Some(29 * MIB)));
        assert_eq!(bytes, 29 * MIB);
        assert_eq!(std::fs::metadata(drive.path()).unwrap().len(), 8 * MIB);
    });
}

#[test]
fn what_is_in_flight_at_a_stop_is_counted() {
    on_both_engines(|engine, dir| {
        let size = 64 * MIB;
        let mut drive = FileDrive::create(&dir.join("s"), Bytes::new(size), engine, 1).unwrap();
        drive.begin(&load(LoadKind::Write, size, MIB, 16, None)).unwrap();
        let tally = drive.work(Duration::from_millis(5)).unwrap();
        let position = tally.position.unwrap();
        let summary = drive.finish(Ending::AsItIs).unwrap();
        let total = (tally.written + summary.drained).get();
        assert_eq!(total % MIB, 0);
        let operations: u64 = summary.histogram.iter().map(|(_, n)| n).sum();
        assert_eq!(operations, total / MIB, "every operation that moved bytes is in the histogram");
        let counted = tally.latencies.total() + summary.late.latencies.total();
        assert_eq!(counted, operations, "and in the bins of the interval and of the drain");
        assert!(position.get() <= size);
    });
}

/// tmpfs has no `RWF_NOWAIT`: a queue of one is not sent through a ring there, a deeper one is.
#[test]
fn a_queue_of_one_is_called_directly_where_a_ring_would_only_add_to_it() {
    let Ok(dir) = tempfile::tempdir_in("/dev/shm") else { return };
    let mut drive = FileDrive::create(&dir.path().join("q"), Bytes::new(MIB), EngineChoice::Best, 1).unwrap();
    let one = load(LoadKind::Write, MIB, 4096, 1, Some(2 * MIB));
    let (bytes, _, operations) = run(&mut drive, &one);
    assert_eq!((bytes, operations), (2 * MIB, 512));
    drive.begin(&Load { pattern: Pattern::Random, ..one.clone() }).unwrap();
    drive.work(Duration::from_millis(5)).unwrap();
    let engine = drive.finish(Ending::AsItIs).unwrap().engine.unwrap();
    assert!(engine.starts_with("pread and pwrite, one at a time"), "{engine}");
    drive.begin(&Load { depth: 2, ..one }).unwrap();
    drive.work(Duration::from_millis(5)).unwrap();
    let engine = drive.finish(Ending::AsItIs).unwrap().engine.unwrap();
    assert!(engine.starts_with("io_uring"), "{engine}");
}

#[test]
fn the_file_goes_when_the_drive_is_dropped_but_a_stranger_in_its_place_stays() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("d");
    drop(FileDrive::create(&path, Bytes::new(MIB), EngineChoice::Best, 1).unwrap());
    assert!(!path.exists());
    let drive = FileDrive::create(&path, Bytes::new(MIB), EngineChoice::Best, 1).unwrap();
    std::fs::remove_file(&path).unwrap();
    std::fs::write(&path, "somebody's thesis").unwrap();
    drop(drive);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "somebody's thesis");
}

#[test]
fn bad_targets_are_refused_before_a_byte_is_written() {
    let dir = tempfile::tempdir().unwrap();
    let make = |path: &Path, size: u64| {
        FileDrive::create(path, Bytes::new(size), EngineChoice::Best, 1).err().unwrap()
    };
    assert!(matches!(make(dir.path(), MIB), FileError::Folder(_)));
    let taken = dir.path().join("taken");
    std::fs::write(&taken, "precious").unwrap();
    assert!(matches!(make(&taken, MIB), FileError::Exists(_)));
    assert_eq!(std::fs::read_to_string(&taken).unwrap(), "precious");
    std::os::unix::fs::symlink("/nowhere", dir.path().join("link")).unwrap();
    assert!(matches!(make(&dir.path().join("link"), MIB), FileError::Exists(_)));
    assert!(matches!(make(&dir.path().join("no/such"), MIB), FileError::NoFolder(_)));
    assert!(matches!(make(&dir.path().join("big"), 1 << 60), FileError::NoSpace { .. }));
    assert!(matches!(make(&dir.path().join("odd"), MIB + 1), FileError::Uneven { .. }));
    assert!(matches!(make(&dir.path().join("tiny"), 0), FileError::Uneven { .. }));
    assert_eq!(std::fs::read_dir(dir.path()).unwrap().count(), 2, "nothing was left behind");
}

/// Runs a load to its end; gives bytes written and read.
fn moved(drive: &mut FileDrive, load: &Load) -> (u64, u64) {
    drive.begin(load).unwrap();
    let (mut written, mut read) = (0, 0);
    loop {
        let tally = drive.work(Duration::from_millis(20)).unwrap();
        assert_eq!(tally.errors, 0, "{:?}", tally.faults);
        assert!(tally.host_busy_ppm.is_some_and(|b| b <= 1_000_000));
        written += tally.written.get();
        read += tally.read.get();
        if tally.finished {
            break;
        }
    }
    let summary = drive.finish(Ending::AsItIs).unwrap();
    assert_eq!(summary.drained, Bytes::ZERO);
    (written, read)
}

#[test]
fn a_random_pass_writes_every_block_of_its_region_once_and_nothing_beside() {
    on_both_engines(|engine, dir| {
        let size = 16 * MIB;
        for workers in [1, 3] {
            let path = dir.join(format!("random-{workers}"));
            let mut drive = FileDrive::create(&path, Bytes::new(size), engine, 1).unwrap();
            let origin = Origin { drive: 1, haul: 2, pass: 0 };
            let load = Load {
                start: Bytes::new(4 * MIB),
                end: Bytes::new(12 * MIB),
                limit: Some(Bytes::new(8 * MIB)),
                pattern: Pattern::Random,
                workers,
                stamp: Some(origin),
                ..load(LoadKind::Write, size, 4096, 12, None)
            };
            assert_eq!(moved(&mut drive, &load), (8 * MIB, 0));
            let data = std::fs::read(&path).unwrap();
            for (i, block) in data.chunks(4096).enumerate() {
                let at = i as u64 * 4096;
                let inside = (4 * MIB..12 * MIB).contains(&at);
                let right = stamp::judge(block, origin, at) == stamp::Verdict::Right;
                assert_eq!(right, inside, "block {i} with {workers} workers");
            }
        }
    });
}

#[test]
fn a_mixed_load_keeps_its_share_and_several_workers_their_limit() {
    on_both_engines(|engine, dir| {
        let size = 32 * MIB;
        let mut drive = FileDrive::create(&dir.join("mixed"), Bytes::new(size), engine, 1).unwrap();
        moved(&mut drive, &load(LoadKind::Write, size, MIB, 4, Some(size)));
        for workers in [1, 4] {
            let load = Load {
                read_percent: 70,
                workers,
                pattern: Pattern::Random,
                ..load(LoadKind::Mixed, size, 4096, 8, Some(size))
            };
            let (written, read) = moved(&mut drive, &load);
            assert_eq!(written + read, size);
            let share = read as f64 / size as f64;
            assert!((share - 0.7).abs() < 0.001, "{share}");
        }
    });
}

#[test]
fn a_rate_limit_is_kept() {
    on_both_engines(|engine, dir| {
        let size = 8 * MIB;
        let mut drive = FileDrive::create(&dir.join("rate"), Bytes::new(size), engine, 1).unwrap();
        let load = Load {
            rate: Some(Rate::from_mb_s(20.0)),
            ..load(LoadKind::Write, size, 16 << 10, 4, Some(size))
        };
        let began = std::time::Instant::now();
        assert_eq!(moved(&mut drive, &load), (size, 0));
        // A machine that is busy with other things makes it slower, never faster.
        let rate = size as f64 / began.elapsed().as_secs_f64() / 1e6;
        assert!(rate < 20.5, "{rate} MB/s");
    });
}

#[test]
fn the_smallest_and_the_largest_operations_work_and_too_much_memory_is_refused() {
    on_both_engines(|engine, dir| {
        let size = 128 * MIB;
        let mut drive = FileDrive::create(&dir.join("block"), Bytes::new(size), engine, 1).unwrap();
        let block = drive.identity().block.get();
        assert_eq!(moved(&mut drive, &load(LoadKind::Write, size, block, 1024, Some(MIB))), (MIB, 0));
        assert_eq!(moved(&mut drive, &load(LoadKind::Write, size, 64 * MIB, 2, Some(size))), (size, 0));
        let error = drive.begin(&load(LoadKind::Write, size, 64 * MIB, 1_000_000, Some(size))).unwrap_err();
        assert!(error.to_string().contains("of memory"), "{error}");
    });
}

#[test]
fn backwards_every_block_is_read_once_from_the_end() {
    on_both_engines(|engine, dir| {
        let size = 24 * MIB + 12_288;
        let mut drive = FileDrive::create(&dir.join("b"), Bytes::new(size), engine, 1).unwrap();
        run(&mut drive, &load(LoadKind::Write, size, MIB, 4, Some(size)));
        let back = Load {
            pattern: Pattern::Backward,
            from: Some(Bytes::new(size)),
            sample: Some(Bytes::new(2 * MIB)),
            ..load(LoadKind::Read, size, MIB, 3, Some(size))
        };
        drive.begin(&back).unwrap();
        let (mut bytes, mut places) = (0, Vec::new());
        loop {
            let tally = drive.work(Duration::from_secs(5)).unwrap();
            bytes += tally.read.get();
            places.push(tally.position.unwrap().get());
            if tally.finished {
                break;
            }
        }
        let summary = drive.finish(Ending::AsItIs).unwrap();
        assert_eq!(bytes, size);
        assert_eq!(
            summary.histogram.iter().map(|(_, n)| n).sum::<u64>(),
            25,
            "a short block and 24 whole ones"
        );
        assert!(places.windows(2).all(|w| w[1] < w[0]) && places.last() == Some(&0), "{places:?}");
    });
}

/// Reads a whole file back against what should be there.
fn verify(drive: &mut FileDrive, size: u64, check: Expected, workers: u32) -> Vec<Mismatch> {
    let load = Load { check: Some(check), workers, ..load(LoadKind::Verify, size, 64 << 10, 8, Some(size)) };
    drive.begin(&load).unwrap();
    let (mut found, mut read) = (Vec::new(), 0);
    loop {
        let tally = drive.work(Duration::from_millis(50)).unwrap();
        found.extend(tally.mismatches);
        read += tally.read.get();
        if tally.finished {
            break;
        }
    }
    drive.finish(Ending::AsItIs).unwrap();
    assert_eq!(read, size, "all of it was read");
    found
}

#[test]
fn what_comes_back_is_judged_block_by_block() {
    use std::os::unix::fs::FileExt;
    on_both_engines(|engine, dir| {
        let size = 16 * MIB;
        let mut drive = FileDrive::create(&dir.join("v"), Bytes::new(size), engine, 1).unwrap();
        let origin = Origin { drive: 1, haul: 2, pass: 3 };
        let write = Load { stamp: Some(origin), ..load(LoadKind::Write, size, MIB, 4, Some(size + 4 * MIB)) };
        run(&mut drive, &write);
        let written = size + 4 * MIB;
        let check = Expected { origin, start: 0, end: size, written, flushed: written, workers: 1 };
        for workers in [1, 3] {
            assert_eq!(
                verify(&mut drive, size, check, workers),
                [],
                "both laps are known, {workers} workers"
            );
        }
        let short = Expected { written: size, flushed: size, ..check };
        let stale: u64 = verify(&mut drive, size, short, 1).iter().map(|m| m.length.get()).sum();
        assert_eq!(stale, 4 * MIB, "a block of another lap than expected is stale");
        let file = std::fs::File::options().read(true).write(true).open(drive.path()).unwrap();
        let mut block = vec![0u8; 4096];
        file.read_exact_at(&mut block, 9 * MIB).unwrap();
        file.write_all_at(&block, 5 * MIB).unwrap();
        file.write_all_at(&[0u8; 8192], 11 * MIB).unwrap();
        file.sync_all().unwrap();
        let mut found = verify(&mut drive, size, check, 1);
        found.sort_by_key(|m| m.position);
        let seen: Vec<(u64, u64, Wrong)> =
            found.iter().map(|m| (m.position.get(), m.length.get(), m.wrong)).collect();
        assert_eq!(seen, [(5 * MIB, 4096, Wrong::Misplaced), (11 * MIB, 8192, Wrong::Unstamped)]);
        assert_eq!(found[0].belongs, Some(Bytes::new(9 * MIB)));
    });
}

#[test]
fn a_stamped_write_that_is_flushed_or_paused_goes_on_in_its_lap() {
    on_both_engines(|engine, dir| {
        let size = 16 * MIB;
        let mut drive = FileDrive::create(&dir.join("v"), Bytes::new(size), engine, 1).unwrap();
        let origin = Origin { drive: 1, haul: 2, pass: 3 };
        let all = size + 7 * MIB;
        let mut write = Load {
            stamp: Some(origin),
            rate: Some(Rate::from_mb_s(200.0)),
            ..load(LoadKind::Write, size, MIB, 4, Some(all))
        };
        let (mut written, mut pauses) = (0, 0);
        drive.begin(&write).unwrap();
        loop {
            let tally = drive.work(Duration::from_millis(10)).unwrap();
            written += tally.written.get();
            if tally.finished {
                break;
            }
            let flushed = drive.flush().unwrap();
            assert!(flushed.flush.is_some());
            written += flushed.drained.get();
            // Twice it is taken off, once of these in the second lap.
            if written > [4 * MIB, size + 2 * MIB, u64::MAX][pauses] {
                pauses += 1;
                written += drive.finish(Ending::AsItIs).unwrap().drained.get();
                write.done = Bytes::new(written);
                write.limit = Some(Bytes::new(all - written));
                drive.begin(&write).unwrap();
            }
        }
        drive.finish(Ending::Durable).unwrap();
        assert_eq!((written, pauses), (all, 2));
        let check = Expected { origin, start: 0, end: size, written, flushed: written, workers: 1 };
        assert_eq!(verify(&mut drive, size, check, 1), []);
    });
}

#[test]
fn a_stream_is_given_at_its_rate_and_makes_up_for_what_it_lost() {
    let dir = tempfile::tempdir().unwrap();
    let mut drive =
        FileDrive::create(&dir.path().join("s"), Bytes::new(8 * MIB), EngineChoice::Best, 1).unwrap();
    let stream = Load {
        rate: Some(Rate::from_mb_s(20.0)),
        catch_up: Some(Duration::from_secs(2)),
        ..load(LoadKind::Write, 8 * MIB, 64 << 10, 4, None)
    };
    drive.begin(&stream).unwrap();
    let mut moved = drive.work(Duration::from_millis(300)).unwrap().written.get();
    // Nobody works for a while, as in a stall: all of it is made up for, and counts as late.
    std::thread::sleep(Duration::from_millis(400));
    // An interval begins where the one before ended.
    let tally = drive.work(Duration::from_millis(700)).unwrap();
    moved += tally.written.get();
    assert!(moved as f64 > 20e6 * 0.9 && (moved as f64) < 20e6 * 1.2, "a second of 20 MB/s: {moved}");
    assert!(tally.latency.unwrap().max_us > 300_000, "from when it was due: {:?}", tally.latency);
    drive.finish(Ending::Durable).unwrap();
}

#[test]
fn a_lookout_reads_beside_the_load_what_was_written_and_no_blank_place() {
    on_both_engines(|engine, dir| {
        let size = 64 * MIB;
        let mut drive = FileDrive::create(&dir.join("l"), Bytes::new(size), engine, 1).unwrap();
        let every = Duration::from_millis(2);
        let looking = |load: Load| Load { lookout: Some(every), ..load };
        // Nothing was written: a read would be answered by the file system and not by the drive.
        drive.begin(&looking(Load::rest())).unwrap();
        let tally = drive.work(Duration::from_millis(100)).unwrap();
        assert!(tally.lookout.is_empty(), "{:?}", tally.lookout);
        drive.finish(Ending::AsItIs).unwrap();
        let paced =
            Load { rate: Some(Rate::from_mb_s(40.0)), ..load(LoadKind::Write, size, 64 << 10, 4, None) };
        drive.begin(&looking(paced)).unwrap();
        let (mut seen, mut written, mut took) = (Histogram::default(), 0, Duration::ZERO);
        for _ in 0..5 {
            let tally = drive.work(Duration::from_millis(100)).unwrap();
            assert_eq!(tally.read, Bytes::ZERO, "the lookout's bytes are not the load's");
            seen.add(&tally.lookout);
            written += tally.written.get();
            took += tally.took;
        }
        seen.add(&drive.finish(Ending::AsItIs).unwrap().late.lookout);
        assert!(written > 0);
        // One for each time that was due, but for the first interval, at whose end it is known that something was written.
        let due = took.as_secs_f64() / every.as_secs_f64();
        assert!((due * 0.7..=due + 3.0).contains(&(seen.total() as f64)), "{} of {due}", seen.total());
        drive.begin(&looking(Load::rest())).unwrap();
        // A machine that is busy with something else may hold the reads of a moment up.
        let reads =
            |drive: &mut FileDrive| !drive.work(Duration::from_millis(100)).unwrap().lookout.is_empty();
        assert!((0..20).any(|_| reads(&mut drive)));
        drive.release().unwrap();
    });
}

#[test]
fn a_read_of_the_lookout_that_fails_is_an_error_with_its_place_and_the_last() {
    on_both_engines(|engine, dir| {
        let (path, size) = (dir.join("cut"), 8 * MIB);
        let mut drive = FileDrive::create(&path, Bytes::new(size), engine, 1).unwrap();
        let (bytes, ..) = run(&mut drive, &load(LoadKind::Write, size, MIB, 2, Some(size)));
        assert_eq!(bytes, size);
        // Somebody cuts the file off: there is nothing to be read where there was.
        std::fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(0).unwrap();
        drive.begin(&Load { lookout: Some(Duration::from_millis(1)), ..Load::rest() }).unwrap();
        let mut faults = Vec::new();
        for _ in 0..4 {
            let tally = drive.work(Duration::from_millis(50)).unwrap();
            assert!(tally.lookout.is_empty(), "what failed did not wait");
            assert_eq!(tally.errors as usize, tally.faults.len());
            faults.extend(tally.faults);
        }
        let [fault] = faults.as_slice() else { panic!("{faults:?}") };
        assert!(fault.position.get() < size && fault.position.get() % 4096 == 0, "{fault:?}");
        assert!(fault.message.starts_with("a read of the lookout failed"), "{}", fault.message);
        drive.release().unwrap();
    });
}

#[test]
fn a_composite_load_moves_its_sizes_to_their_parts() {
    use hollow_mile_core::drive::mixture::{Mixture, PartShare, SizeShare};
    on_both_engines(|engine, dir| {
        let path = dir.join("mixed.hm");
        let size = 64 * MIB;
        let mut drive = FileDrive::create(&path, Bytes::new(size), engine, 1).unwrap();
        let share = |percent, block| SizeShare { block: Bytes::new(block), percent };
        let mixture = Mixture {
            sizes: vec![share(75.0, 4096), share(25.0, 65_536)],
            parts: vec![PartShare { percent: 100.0, of_region: 25.0 }],
        };
        let limit = 32 * MIB;
        let whole = load(LoadKind::Write, size, 65_536, 8, Some(limit));
        let mixed = Load { pattern: Pattern::Random, workers: 2, mixture: Some(mixture.into()), ..whole };
        let (bytes, _, operations) = run(&mut drive, &mixed);
        assert_eq!(bytes, limit);
        // 4 KiB three times of four and 64 KiB once: 19 KiB in the mean.
        let mean = bytes as f64 / operations as f64;
        assert!((17_500.0..21_500.0).contains(&mean), "{mean} B an operation");
        let data = std::fs::read(&path).unwrap();
        assert!(data[..size as usize / 4].chunks(4096).any(stamp::is_ours), "something lies in its part");
        assert!(data[size as usize / 4..].iter().all(|b| *b == 0), "and nothing beyond it");
        let reads = Load { kind: LoadKind::Read, ..mixed };
        assert_eq!(run(&mut drive, &reads).0, limit);
        drive.release().unwrap();
    });
}
