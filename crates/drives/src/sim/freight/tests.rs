use std::sync::Arc;

use hollow_mile_core::drive::freight::{FileClass, FileOrder, Freight, Freighted, Through, TreeSpec};
use hollow_mile_core::drive::{Drive, Ending};
use hollow_mile_core::quantity::units::Rate;
use hollow_mile_core::record::Conditions;

use super::*;
use crate::sim::{Flash, FlashLevel, SimSpec, shipped};

/// A drive of one speed, without noise, and a machine of plain costs.
fn spec(write_mb_s: f64, read_mb_s: f64) -> SimSpec {
    let mut spec = shipped("corrie-2t").unwrap();
    let level = FlashLevel { rate: Rate::from_mb_s(write_mb_s), size: None, shrinks: false };
    let (read, recover) = (Rate::from_mb_s(read_mb_s), Rate::from_mb_s(1.0));
    spec.flash = Some(Flash { level: vec![level], read, recover, zone: Vec::new() });
    (spec.noise.sigma, spec.noise.sigma_slow, spec.noise.stall_every) = (0.0, 0.0, None);
    spec.heat.throttle = None;
    let us = Duration::from_micros;
    spec.host = Host {
        create: us(1000),
        open: us(500),
        remove: us(200),
        folder: us(3000),
        sigma: 0.0,
        copy: Rate::from_mb_s(1000.0),
        copy_sigma: 0.0,
        memory: Bytes::from_gb(1),
        commit_every: None,
        commit: Duration::ZERO,
        flush: us(5000),
        access: us(100),
    };
    spec
}

fn freight(carry: Carry, size: u64, count: u64, through: Through) -> Freight {
    let class = FileClass { from: Bytes::new(size), to: Bytes::new(size), percent: 100.0 };
    let spec = TreeSpec {
        classes: vec![class],
        total: None,
        count: Some(count),
        folder_depth: 1,
        folder_width: 4,
        seed: 0,
    };
    Freight {
        carry,
        side: Side::Target,
        tree: Arc::new(spec.make().unwrap()),
        through,
        durable: Durable::End,
        order: FileOrder::Folder,
        duplicates_percent: 0,
        resumed: false,
    }
}

/// Runs a load to its end: seconds to return, to durable, and all that was done.
fn run(drive: &mut SimDrive, freight: Freight) -> (f64, f64, Tally, Freighted) {
    let ending = if freight.carry.makes() { Ending::Durable } else { Ending::AsItIs };
    let load = Load {
        freight: Some(freight),
        ..Load::sequential(LoadKind::Freight, Bytes::ZERO, Bytes::ZERO, Bytes::from_mib(1), 8)
    };
    drive.begin(&load).unwrap();
    let (mut seconds, mut all, mut done) = (0.0, Tally::default(), Freighted::default());
    loop {
        let tally = drive.work(Duration::from_millis(100)).unwrap();
        seconds += tally.took.as_secs_f64();
        (all.written, all.read) = (all.written + tally.written, all.read + tally.read);
        done.add(tally.freight.as_deref().unwrap());
        if tally.finished {
            break;
        }
    }
    let flush = drive.finish(ending).unwrap().flush.map_or(0.0, |f| f.as_secs_f64());
    (seconds, seconds + flush, all, done)
}

#[test]
fn small_files_cost_what_each_costs_and_memory_takes_their_bytes() {
    let mut drive = SimDrive::new(spec(500.0, 500.0), "sim:x", &Conditions::default(), 0);
    let (returned, durable, all, done) = run(&mut drive, freight(Carry::Write, 10_000, 1000, Through::Cache));
    // 4 folders × 3 ms + 1,000 × (1 ms + 10 µs in memory); the drive wrote meanwhile, and a flush of 5 ms ends it.
    assert!((returned - 1.022).abs() < 0.002, "{returned}");
    assert!((durable - returned - 0.005).abs() < 0.002, "{durable}");
    assert_eq!((done.files, done.folders, all.written), (1000, 4, Bytes::new(10_000_000)));
    let (deleted, _, _, done) = run(&mut drive, freight(Carry::Delete, 10_000, 1000, Through::Cache));
    assert!((deleted - 0.212).abs() < 0.002, "{deleted}");
    assert_eq!((done.files, done.folders), (1000, 4));
}

#[test]
fn memory_takes_a_gigabyte_and_then_the_drive_sets_the_rate() {
    let mut drive = SimDrive::new(spec(250.0, 500.0), "sim:x", &Conditions::default(), 0);
    let (returned, durable, ..) = run(&mut drive, freight(Carry::Write, 1_000_000_000, 3, Through::Cache));
    // At 1 GB/s in and 250 MB/s out memory is full after 1.33 s and 1.33 GB; the other 1.67 GB go at 250 MB/s.
    assert!((returned - 8.0).abs() < 0.1, "{returned}");
    assert!((durable - 12.0).abs() < 0.1, "3 GB at 250 MB/s: {durable}");
}

#[test]
fn a_copy_goes_as_fast_as_its_slower_side() {
    for (source, target, seconds) in [(200.0, 900.0, 5.0), (900.0, 200.0, 5.0)] {
        let (to, from) = (spec(target, 5000.0), spec(5000.0, source));
        let from = SimDrive::new(from, "sim:from", &Conditions::default(), 0);
        let mut drive = SimDrive::new(to, "sim:to", &Conditions::default(), 0).with_source(from);
        let (_, durable, all, done) = run(&mut drive, freight(Carry::Copy, 100_000_000, 10, Through::Direct));
        assert!((durable / seconds - 1.0).abs() < 0.25, "{source} to {target}: {durable}");
        assert_eq!((all.written, all.read), (Bytes::from_gb(1), Bytes::from_gb(1)));
        let (starved, held) = (done.spent.starved.as_secs_f64(), done.spent.held.as_secs_f64());
        assert_eq!(source < target, starved > 2.0, "{starved}");
        assert_eq!(source > target, held > 2.0, "{held}");
    }
}

#[test]
fn the_same_load_gives_the_same_seconds_and_what_cannot_be_is_refused() {
    let once = || {
        let mut drive = SimDrive::new(shipped("corrie-2t").unwrap(), "sim:x", &Conditions::default(), 0);
        run(&mut drive, freight(Carry::Write, 50_000, 2000, Through::Cache)).3
    };
    assert_eq!(once(), once());
    let mut drive = SimDrive::new(spec(500.0, 500.0), "sim:x", &Conditions::default(), 0);
    let mut begin = |f: Freight| {
        let load = Load {
            freight: Some(f),
            ..Load::sequential(LoadKind::Freight, Bytes::ZERO, Bytes::ZERO, Bytes::from_mib(1), 8)
        };
        drive.begin(&load).unwrap_err().to_string()
    };
    assert!(begin(freight(Carry::Copy, 1, 1, Through::Cache)).contains("--from sim:NAME"));
    assert!(begin(freight(Carry::Read, 1, 1, Through::Cache)).contains("no tree lies there"));
    assert!(begin(freight(Carry::Write, 1_000_000_000_000, 3, Through::Cache)).contains("do not fit"));
}
