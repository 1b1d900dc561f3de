//! The guard on real devices: loop devices over files and over each other, partitions made by hand, zram. What is refused is
//! compared byte by byte before and after; of random plans every byte on every device is.
#![allow(clippy::unwrap_used, clippy::panic)]

#[path = "guard/bay.rs"]
mod bay;
mod common;
#[path = "guard/random.rs"]
mod random;

use bay::{Bay, MIB, Outcome, summary};
use common::Bench;

/// What is done to a device or to what shares its bytes, before it is to be written.
type Use = (&'static str, fn(&mut Bay));

/// None of these may be written, whatever is given up.
const IN_USE: [Use; 14] = [
    ("mounted", |b| b.mount("a")),
    ("swap", |b| b.swap("a")),
    ("a second loop over its file", |b| assert!(b.second("a", "twin", 0))),
    ("a second loop over its file, mounted", |b| {
        assert!(b.second("a", "twin", 0));
        b.mount("twin");
    }),
    ("a loop over its end, with an offset", |b| assert!(b.second("a", "end", 8 * MIB))),
    ("a loop over it", |b| assert!(b.over("a", "upper", 0))),
    ("a loop over a loop over it, mounted", |b| {
        assert!(b.over("a", "upper", 0));
        assert!(b.over("upper", "top", 0));
        b.mount("top");
    }),
    ("a loop over it with an offset", |b| assert!(b.over("a", "upper", 4 * MIB))),
    ("a process has it open to write", |b| b.opened("a", true)),
    ("a process has its file open to write", |b| b.file_opened("a")),
    ("a part that the kernel knows is mounted", |b| {
        b.part("a", 1, MIB, 12 * MIB);
        b.mount("a-1");
    }),
    ("a part that the kernel knows is swap", |b| {
        b.part("a", 1, MIB, 12 * MIB);
        b.swap("a-1");
    }),
    ("its file is swap by another loop", |b| {
        assert!(b.second("a", "twin", 0));
        b.swap("twin");
    }),
    ("it is read-only", |b| b.read_only("a")),
];

/// What is there, by which names it is given up, and how it comes there.
type Held = (&'static str, &'static [&'static str], fn(&mut Bay));

/// These may be written once this was given up, and not before.
const HELD: [Held; 9] = [
    ("nothing", &[], |_| {}),
    ("ext4", &["ext4"], |b| b.make("a", &["mke2fs", "-q", "-t", "ext4"])),
    ("ext4 without its first superblock", &["ext4"], |b| {
        b.make("a", &["mke2fs", "-q", "-t", "ext4", "-b", "1024", "-O", "sparse_super"]);
        b.write("a", 0, &[0; 4096]);
    }),
    ("swap", &["swap"], |b| b.make("a", &["mkswap"])),
    ("a machine that sleeps", &["hibernation"], |b| {
        b.make("a", &["mkswap"]);
        b.write("a", 4086, b"S1SUSPEND\0");
    }),
    ("data without a mark", &["data"], |b| b.fill("a", 0x51)),
    ("loads of an earlier haul", &[], |b| assert_eq!(b.haul("a", &[]), Outcome::Written)),
    ("a part that the kernel knows, its table gone", &["partitions"], |b| b.part("a", 1, MIB, 12 * MIB)),
    ("a part with a file system, its table gone", &["partitions", "ext4"], |b| {
        b.part("a", 1, MIB, 12 * MIB);
        b.make("a-1", &["mke2fs", "-q", "-t", "ext4"]);
    }),
];

/// A kind of target, and a device "a" of it.
type Kind = (&'static str, fn(&Bench) -> Option<Bay>);

/// All of them have one device, which is tried.
const KINDS: [Kind; 5] = [
    ("loop over a file on disk", |b| Bay::new(b, "")),
    ("loop over a file in memory", |b| Bay::new(b, "/dev/shm")),
    ("loop over a loop", |b| Bay::stacked(b, 0)),
    ("loop over a loop with an offset", |b| Bay::stacked(b, 2 * MIB)),
    ("partition", Bay::partition),
];

#[test]
fn what_is_used_is_refused_and_what_is_held_must_be_given_up() {
    let (mut cases, mut refused, mut wrong) = (0, 0, 0u32);
    for (kind, make) in KINDS {
        for (what, befall) in IN_USE {
            let bench = Bench::new();
            let Some(mut bay) = make(&bench) else { continue };
            if kind == "partition" && what.starts_with("a part") {
                continue;
            }
            befall(&mut bay);
            let all = ["ext4", "ext2", "swap", "data", "partitions", "readers", "gpt", "mbr"];
            let before = bay.bytes();
            let outcome = bay.haul("a", &all);
            cases += 1;
            refused += 1;
            // What is mounted or swap the kernel itself writes to.
            let by_kernel = what.contains("mounted") || what.contains("swap");
            let harmed = bay::harmed(&before, &bay.bytes(), by_kernel);
            wrong += u32::from(harmed);
            assert!(matches!(outcome, Outcome::Refused(_)) && !harmed, "{kind}, {what}: {outcome:?}");
        }
        for (what, names, befall) in HELD {
            let bench = Bench::new();
            let Some(mut bay) = make(&bench) else { continue };
            if kind == "partition" && what.starts_with("a part") {
                continue;
            }
            befall(&mut bay);
            let before = bay.bytes();
            for less in 0..names.len() {
                let mut some = names.to_vec();
                let left_out = some.remove(less);
                let outcome = bay.haul("a", &some);
                let Outcome::Refused(why) = &outcome else {
                    panic!("{kind}, {what} without {left_out}: {outcome:?}")
                };
                assert!(why.contains(left_out), "{kind}, {what}: {why}");
                assert!(bay.bytes() == before, "{kind}, {what} without {left_out}");
                (cases, refused) = (cases + 1, refused + 1);
            }
            assert_eq!(bay.haul("a", names), Outcome::Written, "{kind}, {what}");
            cases += 1;
        }
    }
    if cases == 0 {
        return eprintln!("left out: no loop device to be had here");
    }
    summary(&format!("guard, on real devices: {cases} cases, {refused} refused, {wrong} wrong writes"));
    assert!(cases >= 110, "{cases}");
}

#[test]
fn a_reader_must_be_given_up_by_name() {
    let bench = Bench::new();
    let Some(mut bay) = Bay::new(&bench, "") else { return };
    bay.opened("a", false);
    let Outcome::Refused(why) = bay.haul("a", &[]) else { panic!() };
    assert!(why.contains("--give-up readers") && why.contains("(sleep)"), "{why}");
    assert_eq!(bay.haul("a", &["readers"]), Outcome::Written);
}

#[test]
fn the_file_under_the_ledger_is_never_written_by_another_way() {
    let bench = Bench::new();
    let Some(mut bay) = Bay::new(&bench, "") else { return };
    bay.mount("a");
    let home = bay.mounted("a").join("home");
    std::fs::create_dir(&home).unwrap();
    bay.home = home.clone();
    std::fs::write(home.join("ledger.sqlite"), vec![b'l'; MIB as usize]).unwrap();
    assert!(bay.second("a", "twin", 0));
    let Outcome::Refused(why) = bay.haul("twin", &["ext4", "data"]) else { panic!() };
    assert!(why.contains("is mounted on"), "{why}");
    // A loop over the ledger's own file.
    let own = bay.attach(&home.join("ledger.sqlite"), "own", 0);
    assert!(own);
    let Outcome::Refused(why) = bay.haul("own", &["data"]) else { panic!() };
    assert!(why.contains("the ledger or this program"), "{why}");
}

#[test]
fn random_plans_harm_nothing_that_was_not_given_up() {
    let plans = std::env::var("HOLLOW_MILE_PLANS").ok().and_then(|n| n.parse().ok()).unwrap_or(80);
    let bench = Bench::new();
    let Some(told) = random::campaign(&bench, plans, 0x0b_5e55) else {
        return eprintln!("left out: no loop device to be had here");
    };
    summary(&format!("guard, random plans: {told}"));
}
