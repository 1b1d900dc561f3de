//! Random plans against devices with canaries: whatever is asked for, no byte changes but those of a device that nobody uses,
//! whose serial was typed and all of whose content was given up by name.

use rand::rngs::StdRng;
use rand::{RngExt, SeedableRng};

use crate::bay::{Bay, MIB, Outcome};
use crate::common::Bench;

const ROUTES: [(&str, bool); 6] = [
    ("name='w'\n[[leg]]\nkind='write'\nblock='64 KiB'\ndepth=4\nuntil={bytes='2 MiB'}\n", true),
    (
        "name='s'\n[[leg]]\nkind='write'\nstamped=true\nblock='256 KiB'\ndepth=2\nuntil={bytes='100 %'}\n",
        true,
    ),
    ("name='x'\n[[leg]]\nkind='wipe'\nregion={from='0 B',to='4 MiB'}\n", true),
    (
        "name='m'\n[[leg]]\nkind='mixed'\nread_percent=50\nblock='16 KiB'\ndepth=8\npattern='random'\nuntil={bytes='1 MiB'}\n",
        true,
    ),
    ("name='r'\n[[leg]]\nkind='read'\nblock='64 KiB'\ndepth=4\nuntil={bytes='2 MiB'}\n", false),
    (
        "name='b'\n[[leg]]\nkind='write'\npattern='backward'\nblock='128 KiB'\ndepth=4\nuntil={bytes='2 MiB'}\n",
        true,
    ),
];

/// What the test itself knows of a file, beside the program's own opinion.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Holds {
    /// Zeroes, or loads of the program's.
    Nothing,
    Canary,
    Ext4,
    Swap,
}

const NAMES: [&str; 7] = ["ext4", "swap", "data", "partitions", "readers", "gpt", "mbr"];
/// Small, since every byte of every file is looked at before and after each plan.
const SIZE: u64 = 6 * MIB;
const FILES: [&str; 4] = ["a", "b", "c", "d"];

/// How a plan's machine stands: who uses which file.
#[derive(Debug, Default)]
struct Uses {
    /// File, and how it is used.
    all: Vec<(usize, &'static str)>,
    readers: Vec<usize>,
    parts: Vec<usize>,
    /// Second devices: name, file.
    twins: Vec<(String, usize)>,
}

/// Runs so many plans; what came of them in a line, or `None` where there are no loop devices.
pub fn campaign(bench: &Bench, plans: u32, seed: u64) -> Option<String> {
    let mut rng = StdRng::seed_from_u64(seed);
    let (mut written, mut refused, mut read) = (0, 0, 0);
    let mut plan = 0;
    while plan < plans {
        let mut bay = Bay::empty(bench);
        for name in FILES {
            let folder = if rng.random_bool(0.5) { "" } else { "/dev/shm" };
            bay.file_of(name, folder, SIZE).then_some(())?;
        }
        let mut holds = [Holds::Nothing; FILES.len()];
        // A few plans on each set of devices: what an earlier one left is part of the next.
        for _ in 0..10.min(plans - plan) {
            plan += 1;
            for (i, name) in FILES.iter().enumerate() {
                if rng.random_bool(0.4) {
                    holds[i] = match rng.random_range(0..3) {
                        0 => {
                            bay.fill(name, plan as u8);
                            Holds::Canary
                        }
                        1 => {
                            bay.fill(name, plan as u8);
                            bay.make(name, &["mke2fs", "-q", "-F", "-t", "ext4"]);
                            Holds::Ext4
                        }
                        _ => {
                            bay.fill(name, plan as u8);
                            bay.make(name, &["mkswap"]);
                            Holds::Swap
                        }
                    };
                }
            }
            let uses = befall(&mut bay, &mut rng, &holds);
            let target = rng.random_range(0..FILES.len());
            let twin = uses.twins.iter().find(|(_, f)| *f == target && rng.random_bool(0.5));
            let name = twin.map_or(FILES[target].to_owned(), |(n, _)| n.clone());
            let serial = bay.node(&name).trim_start_matches("/dev/").to_owned();
            let typed = match rng.random_range(0..10) {
                0 => None,
                1 => Some("KW-0417".to_owned()),
                2 => Some(format!("{serial}0")),
                _ => Some(serial.clone()),
            };
            let most = rng.random_bool(0.6);
            let give_up: Vec<&str> =
                NAMES.into_iter().filter(|_| rng.random_bool(if most { 0.9 } else { 0.3 })).collect();
            let (route, writes) = ROUTES[rng.random_range(0..ROUTES.len())];
            let before = bay.bytes();
            let outcome = bay.run(&name, route, typed.clone(), &give_up);
            let after = bay.bytes();
            let case = format!(
                "plan {plan}: {name} ({:?}), {uses:?}, typed {typed:?} for {serial}, given up {give_up:?}, {route:?}: {outcome:?}",
                holds[target]
            );
            // What is mounted or swap the kernel itself writes to; of that, nothing may come from the program.
            let by_kernel = |path: &std::path::PathBuf| {
                let used = |how: &str| how.contains("mounted") || how == "swap";
                uses.all.iter().any(|(f, how)| used(how) && bay.files[FILES[*f]] == *path)
            };
            let harmed = |(path, bytes): &(&std::path::PathBuf, &Vec<u8>)| {
                let now = &after[*path];
                let differs = now.chunks(512).zip(bytes.chunks(512)).filter(|(a, b)| a != b);
                if by_kernel(path) {
                    differs.into_iter().any(|(a, _)| hollow_mile_core::drive::stamp::is_ours(a))
                } else {
                    differs.into_iter().next().is_some()
                }
            };
            let changed: Vec<_> = before.iter().filter(harmed).map(|(p, _)| p).collect();
            match outcome {
                Outcome::Refused(_) => {
                    refused += 1;
                    assert!(changed.is_empty(), "{case}: {changed:?} changed");
                }
                Outcome::Written if !writes => {
                    read += 1;
                    assert!(changed.is_empty(), "{case}: {changed:?} changed");
                }
                Outcome::Written => {
                    written += 1;
                    assert!(
                        changed.iter().all(|p| **p == bay.files[FILES[target]]),
                        "{case}: {changed:?} changed"
                    );
                    assert_eq!(typed, Some(serial), "{case}");
                    let used = uses.all.iter().find(|(f, _)| *f == target);
                    assert_eq!(used, None, "{case}");
                    // A loop over it that is itself the target is no other's.
                    let others =
                        |(n, f): &(String, usize)| *f == target && (*n != name || n.starts_with("twin"));
                    assert!(!uses.twins.iter().any(others), "{case}");
                    let needs = match holds[target] {
                        Holds::Nothing => None,
                        Holds::Canary => Some("data"),
                        Holds::Ext4 => Some("ext4"),
                        Holds::Swap => Some("swap"),
                    };
                    // Also behind an offset: what lies under the target is known by its start.
                    assert!(needs.is_none_or(|n| give_up.contains(&n)), "{case}");
                    assert!(!uses.parts.contains(&target) || give_up.contains(&"partitions"), "{case}");
                    assert!(!uses.readers.contains(&target) || give_up.contains(&"readers"), "{case}");
                    // What it left is of no worth to anybody; what lies behind its region may be.
                    holds[target] = left(&after[&bay.files[FILES[target]]], holds[target]);
                }
            }
            bay.close_all();
            bay.unmount_all();
            for file in &uses.parts {
                bay.forget_part(FILES[*file]);
            }
            for (name, _) in &uses.twins {
                bay.detach(name);
            }
        }
    }
    Some(format!(
        "{plans} plans, {written} written, {read} read, {refused} refused, 0 canaries harmed without their name given"
    ))
}

/// After a write: canaries and copies of superblocks may be left behind its end.
fn left(bytes: &[u8], before: Holds) -> Holds {
    let ours =
        |block: &[u8]| hollow_mile_core::drive::stamp::is_ours(block) || block.iter().all(|b| *b == block[0]);
    match before {
        Holds::Nothing => Holds::Nothing,
        _ if bytes.chunks(4096).all(ours) => Holds::Nothing,
        // Its marks lay at the start, which a write of another region leaves: the next plan tells by its own means.
        Holds::Ext4 if bytes[1024 + 56..][..2] == [0x53, 0xef] => Holds::Ext4,
        Holds::Swap if bytes[4086..].starts_with(b"SWAPSPACE2") => Holds::Swap,
        _ => Holds::Canary,
    }
}

fn befall(bay: &mut Bay, rng: &mut StdRng, holds: &[Holds; FILES.len()]) -> Uses {
    let mut uses = Uses::default();
    for (i, name) in FILES.iter().enumerate() {
        match rng.random_range(0..14) {
            0 if holds[i] == Holds::Ext4 && bay.mount_as_is(name) => uses.all.push((i, "mounted")),
            1 if holds[i] == Holds::Ext4 => {
                let twin = format!("twin-{name}");
                if bay.second(name, &twin, 0) {
                    if bay.mount_as_is(&twin) {
                        uses.all.push((i, "mounted by its twin"));
                    }
                    uses.twins.push((twin, i));
                }
            }
            2 if holds[i] == Holds::Swap => {
                bay.swap(name);
                uses.all.push((i, "swap"));
            }
            3 => {
                bay.opened(name, true);
                uses.all.push((i, "open to write"));
            }
            4 => {
                bay.opened(name, false);
                uses.readers.push(i);
            }
            5 => {
                bay.file_opened(name);
                uses.all.push((i, "its file open to write"));
            }
            6 => {
                let twin = format!("twin-{name}");
                if bay.second(name, &twin, if rng.random_bool(0.5) { 0 } else { 4 * MIB }) {
                    uses.twins.push((twin, i));
                }
            }
            7 => {
                let upper = format!("upper-{name}");
                if bay.over(name, &upper, if rng.random_bool(0.5) { 0 } else { MIB }) {
                    uses.twins.push((upper, i));
                }
            }
            8 if holds[i] == Holds::Nothing => {
                bay.part(name, 1, MIB, SIZE - 2 * MIB);
                uses.parts.push(i);
            }
            _ => {}
        }
    }
    uses
}
