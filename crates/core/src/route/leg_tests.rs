//! Legs: what each kind is, in bytes, in time, as a load, and in words.

use std::time::Duration;

use super::*;

#[test]
fn a_leg_that_is_looked_into_has_the_load_of_one_that_is_not() {
    let plain = Leg::new(LegKind::Write);
    let looked = Leg { decide: true, decide_time: Some(Duration::from_secs(60)), ..plain.clone() };
    assert!(plain.same_load(&looked) && looked.may_decide());
    let many = Leg { workers: 4, ..looked.clone() };
    let back = Leg { pattern: Pattern::Backward, ..looked };
    assert!(!many.may_decide() && !back.may_decide() && !plain.same_load(&many));
}
use crate::drive::Pattern;
use crate::route::Route;

fn leg(text: &str) -> Leg {
    let route = Route::from_toml(&format!(
        "name = \"x\"\n[[leg]]\nkind = \"write\"\nstamped = true\nuntil = {{ bytes = \"1 GB\" }}\n[[leg]]\n{text}"
    ));
    route.unwrap_or_else(|e| panic!("{text}: {e}")).legs.remove(1)
}

const TB: Bytes = Bytes::from_gb(1000);

/// A leg in a file, what it is called, bytes that it moves on 1 TB, seconds that it takes, and the share that it writes.
type Case = (&'static str, &'static str, Option<u64>, Option<u64>, f64);

const CASES: [Case; 24] = [
    ("kind = 'rest'\nuntil = { duration = '2 min' }", "rest 2 min", None, Some(120), 0.0),
    ("kind = 'rest'\nuntil = { temperature = '40 °C' }", "rest cooled to 40 °C", None, None, 0.0),
    ("kind = 'rest'\nuntil = { steady = true }", "rest steady", None, None, 0.0),
    (
        "kind = 'write'\nuntil = { bytes = '80 %' }",
        "write 80 %, 1 MiB × 32",
        Some(800_000_000_000),
        None,
        1.0,
    ),
    (
        "kind = 'write'\nblock = '64 KiB'\ndepth = 8\nworkers = 2\nuntil = { bytes = '5 GB', temperature = '70 °C' }",
        "write 5 GB or at 70 °C, 64 KiB × 8 by 2 workers",
        Some(5_000_000_000),
        None,
        1.0,
    ),
    (
        "kind = 'write'\nuntil = { past_cache_end = '100 GB' }",
        "write 100 GB past the cache end, 1 MiB × 32",
        None,
        None,
        1.0,
    ),
    (
        "kind = 'write'\nrate = '620 MB/s'\nuntil = { duration = '1 h' }",
        "write 1 h, 1 MiB × 32, at most 620 MB/s",
        None,
        Some(3600),
        1.0,
    ),
    (
        "kind = 'write'\nstamped = true\nflush_every = '1 GiB'\nuntil = { bytes = '100 %' }",
        "write 100 %, 1 MiB × 32, stamped, flushed every 1 GiB",
        Some(1_000_000_000_000),
        None,
        1.0,
    ),
    (
        "kind = 'read'\npattern = 'random'\nregion = { from = '10 %', to = '20 %' }\nuntil = { bytes = '50 %' }",
        "read 50 %, 1 MiB × 32, random, from 10 %, up to 20 %",
        Some(49_999_773_696),
        None,
        0.0,
    ),
    (
        "kind = 'mixed'\nread_percent = 70\nuntil = { bytes = '10 GB' }",
        "mixed 10 GB, 70 % reads, 1 MiB × 32",
        Some(10_000_000_000),
        None,
        0.3,
    ),
    ("kind = 'mixed'\nuntil = { steady = true }", "mixed steady, 50 % reads, 1 MiB × 32", None, None, 0.5),
    ("kind = 'fill'\nlevel = '50 %'", "fill to 50 %", Some(500_000_000_000), None, 1.0),
    ("kind = 'scan'", "scan, read 2 passes, 4096 bins", Some(2_000_000_000_000), None, 0.0),
    (
        "kind = 'scan'\npasses = 1\nbins = 64\noperation = 'write'",
        "scan, write 1 pass, 64 bins",
        Some(1_000_000_000_000),
        None,
        1.0,
    ),
    ("kind = 'spans'", "spans, 6 × 5", None, Some(175), 0.0),
    (
        "kind = 'spans'\nshares = ['100 %', '1 %']\nrepeat = 3\nstep = '2 s'",
        "spans, 2 × 3",
        None,
        Some(18),
        0.0,
    ),
    (
        "kind = 'ladder'\nblocks = ['4 KiB', '1 MiB']\ndepths = [1, 4, 16]",
        "ladder, 6 rungs, read",
        None,
        Some(36),
        0.0,
    ),
    (
        "kind = 'ladder'\noperation = 'write'\nsettle = '2 s'\nstep = '8 s'",
        "ladder, 1 rung, write",
        None,
        Some(10),
        1.0,
    ),
    (
        "kind = 'pace'\nrate = '620 MB/s'\noperation = 'write'\nuntil = { duration = '30 min' }",
        "pace 30 min, write 620 MB/s",
        None,
        Some(1800),
        1.0,
    ),
    (
        "kind = 'pace'\nstream = '16 channels x 24 bit x 96 kHz'\nsearch = true",
        "pace, read highest rate that holds, from 16 channels x 24 bit x 96 kHz",
        None,
        None,
        0.0,
    ),
    (
        "kind = 'breather'\nrests = ['1 min', '4 min']\nuntil = { past_cache_end = '5 GB' }",
        "breather, 2 rests",
        None,
        None,
        1.0,
    ),
    ("kind = 'verify'\nsample = '5 %'", "verify 5 % of it", None, None, 0.0),
    ("kind = 'wipe'", "wipe", None, None, 0.0),
    ("kind = 'selftest'\ntest = 'extended'", "selftest, extended", None, None, 0.0),
];

#[test]
fn every_kind_is_told_and_counted() {
    for (text, words, bytes, seconds, share) in CASES {
        let leg = leg(text);
        assert_eq!(leg.words(), words, "{text}");
        assert_eq!(leg.bytes_on(TB).map(Bytes::get), bytes, "{text}");
        assert_eq!(leg.takes().map(|d| d.as_secs()), seconds, "{text}");
        assert!((leg.written_share() - share).abs() < 1e-9, "{text}: {}", leg.written_share());
        // What moves written bytes destroys, and a wipe does without.
        assert_eq!(leg.destroys(), share > 0.0 || leg.kind == LegKind::Wipe, "{text}");
    }
}

#[test]
fn a_load_is_what_the_leg_says() {
    let write = leg(
        "kind = 'write'\nblock = '64 KiB'\ndepth = 8\nworkers = 2\npattern = 'backward'\nrate = '100 MB/s'\n\
         compressible_percent = 30\nregion = { from = '10 %', to = '90 %' }\nuntil = { bytes = '50 %' }",
    )
    .load(TB);
    assert_eq!(
        (write.kind, write.pattern, write.workers, write.depth),
        (LoadKind::Write, Pattern::Backward, 2, 8)
    );
    // The region in whole blocks of 64 KiB, and half of it.
    assert_eq!((write.start.get() % 65_536, write.end.get() % 65_536), (0, 0));
    assert!((write.start.gb() - 100.0).abs() < 0.001 && (write.end.gb() - 900.0).abs() < 0.001);
    assert!((write.limit.unwrap().gb() - 400.0).abs() < 0.001, "{:?}", write.limit);
    assert_eq!((write.rate.map(|r| r.mb_s()), write.compressible_percent), (Some(100.0), 30));
    for (text, kind) in [
        ("kind = 'rest'\nuntil = { duration = '1 s' }", LoadKind::Rest),
        ("kind = 'fill'\nlevel = '1 %'", LoadKind::Write),
        ("kind = 'scan'", LoadKind::Read),
        ("kind = 'scan'\noperation = 'write'", LoadKind::Write),
        ("kind = 'spans'", LoadKind::Read),
        ("kind = 'verify'", LoadKind::Verify),
        ("kind = 'wipe'", LoadKind::Wipe),
        ("kind = 'selftest'", LoadKind::SelfTest { extended: false }),
    ] {
        assert_eq!(leg(text).load(TB).kind, kind, "{text}");
    }
}

#[test]
fn the_same_load_may_lie_elsewhere_and_last_longer() {
    let base = leg("kind = 'read'\nuntil = { bytes = '1 GB' }");
    let same = |text: &str| base.same_load(&leg(text));
    assert!(same("kind = 'read'\nuntil = { duration = '10 s' }"));
    assert!(same("kind = 'read'\nregion = { to = '50 %' }\nuntil = { bytes = '1 GB' }"));
    for other in [
        "kind = 'write'\nuntil = { bytes = '1 GB' }",
        "kind = 'read'\npattern = 'backward'\nuntil = { bytes = '1 GB' }",
        "kind = 'read'\nblock = '4 KiB'\nuntil = { bytes = '1 GB' }",
        "kind = 'read'\ndepth = 1\nuntil = { bytes = '1 GB' }",
        "kind = 'read'\nworkers = 2\nuntil = { bytes = '1 GB' }",
        "kind = 'read'\nrate = '1 MB/s'\nuntil = { bytes = '1 GB' }",
    ] {
        assert!(!same(other), "{other}");
    }
    let squeezed = leg("kind = 'write'\ncompressible_percent = 90\nuntil = { bytes = '1 GB' }");
    assert!(!squeezed.same_load(&leg("kind = 'write'\nuntil = { bytes = '1 GB' }")));
}

#[test]
fn regions_are_cut_to_whole_blocks_and_the_end_of_the_drive_is_kept() {
    let odd = Bytes::new(1_000_000_512);
    let block = Bytes::from_mib(1);
    assert_eq!(Region::default().on(odd, block), (Bytes::ZERO, odd));
    let region = |from, to| Region { from: Some(Amount::Percent(from)), to: Some(Amount::Percent(to)) };
    let (start, end) = region(33.0, 66.0).on(odd, block);
    assert!(start.get().is_multiple_of(1 << 20) && end.get().is_multiple_of(1 << 20) && start < end);
    assert_eq!(region(50.0, 100.0).on(odd, block).1, odd, "all of it means to the last byte");
    let bytes = Region { from: Some(Amount::Bytes(Bytes::from_gb(1))), to: None };
    assert_eq!(bytes.on(odd, Bytes::new(512)).0, Bytes::from_gb(1));
}

#[test]
fn what_a_leg_is_without_being_told() {
    let scan = Leg::new(LegKind::Scan);
    assert_eq!((scan.passes(), scan.bins()), (2, 4096));
    let spans = Leg::new(LegKind::Spans);
    assert_eq!((spans.spans().len(), spans.rounds()), (6, 5));
    assert_eq!(Leg::new(LegKind::Ladder).rungs(), 1);
    for kind in LegKind::ALL {
        let leg = Leg::new(kind);
        assert_eq!((leg.block, leg.depth, leg.workers), (Bytes::from_mib(1), 32, 1), "{kind:?}");
        // Nothing ends by itself at once.
        assert!(leg.until == Until::default() && leg.takes().is_none_or(|d| d > Duration::ZERO), "{kind:?}");
        assert!(!kind.word().is_empty() && kind.has_steps() <= kind.moves(), "{kind:?}");
    }
}
