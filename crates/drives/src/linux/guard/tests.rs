//! Consent and its lack, on made-up machines and on files.

use hollow_mile_core::drive::erasure::Erasure;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::drive::protocol::signature::Signature;
use hollow_mile_core::quantity::units::Bytes;

use super::made_up::Machine;
use super::*;

fn examination() -> Examination {
    Examination {
        device: "/dev/nvme0n1".into(),
        word_to_type: "KW 0417".into(),
        obstacles: Vec::new(),
        signatures: vec![
            Signature { name: "gpt".into(), detail: "1 partition: 2 GB".into() },
            Signature { name: "ext4".into(), detail: "label \"old\"".into() },
        ],
        losses: vec!["gpt 1 partition: 2 GB".into()],
        unseen: Vec::new(),
    }
}

fn consent(erase: Option<&str>, give_up: &[&str]) -> Consent {
    Consent {
        erase: erase.map(Into::into),
        give_up: give_up.iter().map(|s| (*s).into()).collect(),
        protect: Vec::new(),
        erasures: Vec::new(),
    }
}

#[test]
fn what_nothing_stops_is_agreed_to_by_its_word() {
    let e = examination();
    let asks = |give_up: &[&str]| {
        let erasures = vec![Erasure::Format, Erasure::SanitizeCrypto];
        e.verdict(&Consent { erasures, ..consent(Some("KW 0417"), give_up) })
    };
    assert!(asks(&["gpt", "ext4", "format", "sanitize-crypto"]).is_ok());
    let refusal = asks(&["gpt", "ext4", "format"]).unwrap_err().to_string();
    assert!(refusal.contains("to agree, add --give-up sanitize-crypto"), "{refusal}");
    assert!(asks(&["format", "sanitize-crypto"]).is_err(), "what it holds is to be given up as well");
}

#[test]
fn a_right_to_write_is_none_to_erase_the_whole() {
    let dir = tempfile::tempdir().unwrap();
    let (file, _) = Writable::create_file(&dir.path().join("f"), &to_nobody).unwrap();
    let refused = file.erase_whole(Erasure::Format, &EraseCommand::Nvme((0x80, 1, 0, 0)), 1).unwrap_err();
    assert_eq!(refused.kind(), std::io::ErrorKind::PermissionDenied);
}

#[test]
fn consent_must_be_whole() {
    let e = examination();
    assert!(e.verdict(&consent(Some("KW 0417"), &["gpt", "ext4"])).is_ok());
    for (c, words) in [
        (consent(None, &["gpt", "ext4"]), "consent is missing"),
        (consent(Some("KW-0417"), &["gpt", "ext4"]), "was typed"),
        (consent(Some("kw 0417"), &["gpt", "ext4"]), "was typed"),
        (consent(Some(""), &["gpt", "ext4"]), "was typed"),
        (consent(Some("KW 0417"), &["gpt"]), "it holds ext4"),
        (consent(Some("KW 0417"), &[]), "it holds gpt and ext4"),
    ] {
        let refusal = e.verdict(&c).unwrap_err().to_string();
        assert!(
            refusal.starts_with("/dev/nvme0n1 will not be written") && refusal.contains(words),
            "{refusal}"
        );
    }
    assert!(
        e.verdict(&consent(None, &[])).unwrap_err().to_string().contains("It would cost: gpt 1 partition")
    );
}

#[test]
fn no_consent_lifts_an_obstacle() {
    let mut e = examination();
    e.obstacles.push(Obstacle::Used(Use::Mounted { source: "/dev/nvme0n1p1".into(), point: "/mnt".into() }));
    let refusal = e.verdict(&consent(Some("KW 0417"), &["gpt", "ext4"])).unwrap_err();
    assert!(refusal.to_string().contains("mounted on /mnt"));
    assert!(!e.is_free() && e.words().starts_with("not to be written"));
}

#[test]
fn a_file_that_exists_is_never_opened() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("thesis");
    std::fs::write(&path, "precious").unwrap();
    assert_eq!(Writable::create_file(&path, &to_nobody).err(), Some(Errno::EXIST.into()));
    let link = dir.path().join("link");
    std::os::unix::fs::symlink(dir.path().join("new"), &link).unwrap();
    assert_eq!(Writable::create_file(&link, &to_nobody).err(), Some(Errno::EXIST.into()));
    // What is told comes before what is made, and what cannot be told is not made.
    let new = dir.path().join("new");
    let unheard = |at: &Path, mark: &str| {
        assert!(at == new && !at.exists() && mark.len() == 32);
        Err("the ledger is full".to_owned())
    };
    assert_eq!(Writable::create_file(&new, &unheard).err().unwrap().to_string(), "the ledger is full");
    assert!(!new.exists());
}

const MIB: u64 = 1 << 20;

/// A drive with two partitions; files on it; loop devices over files, parts and other loop devices; volumes and an array.
fn machine() -> Machine {
    let m = Machine::new();
    m.disk("sda", (8, 0), 64 * MIB);
    m.part("sda", "sda1", (8, 1), MIB, 31 * MIB);
    m.part("sda", "sda2", (8, 2), 32 * MIB, 31 * MIB);
    for (name, number) in [("sdb", (8, 16)), ("sdc", (8, 32)), ("sdd", (8, 48)), ("sde", (8, 64))] {
        m.disk(name, number, 64 * MIB);
    }
    for file in ["image", "other"] {
        std::fs::File::create(m.path(file)).unwrap().set_len(64 * MIB).unwrap();
    }
    m.loop_over("loop0", (7, 0), &m.path("image"), 0, 64 * MIB);
    m.loop_over("loop1", (7, 1), Path::new("/dev/loop0"), 8 * MIB, 56 * MIB);
    m.loop_over("loop2", (7, 2), &m.path("other"), 0, 64 * MIB);
    m.loop_over("loop3", (7, 3), Path::new("/dev/sdb"), 0, 64 * MIB);
    m.build("dm-0", (253, 0), 64 * MIB, &["sdc"]);
    m.build("md0", (9, 0), 128 * MIB, &["sdd", "sde"]);
    m.build("dm-1", (253, 1), 128 * MIB, &["md0"]);
    m
}

/// What the use of one thing means for a target: refused, or nobody's business.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Means {
    No,
    Yes,
}

/// Target, what is used, and whether that stands against writing to the target.
const TIES: [(&str, &str, Means); 30] = [
    ("sda", "sda", Means::No),
    ("sda", "sda1", Means::No),
    ("sda", "sda2", Means::No),
    ("sda", "sdb", Means::Yes),
    ("sda1", "sda1", Means::No),
    ("sda1", "sda", Means::No),
    ("sda1", "sda2", Means::Yes),
    ("loop2", "loop2", Means::No),
    ("loop2", "loop0", Means::Yes),
    ("loop2", "sda1", Means::Yes),
    ("loop3", "loop3", Means::No),
    ("loop3", "sdb", Means::No),
    ("loop3", "sdc", Means::Yes),
    ("loop1", "loop1", Means::No),
    ("loop1", "loop0", Means::No),
    ("loop1", "loop2", Means::Yes),
    ("dm-0", "dm-0", Means::No),
    ("dm-0", "sdc", Means::No),
    ("dm-0", "sdd", Means::Yes),
    ("dm-1", "dm-1", Means::No),
    ("dm-1", "md0", Means::No),
    ("dm-1", "sdd", Means::No),
    ("dm-1", "sde", Means::No),
    ("dm-1", "sdc", Means::Yes),
    // What something is built on cannot be written, used or not: the second column then says nothing.
    ("sdb", "sdb", Means::No),
    ("sdc", "sdc", Means::No),
    ("sdd", "sda", Means::No),
    ("md0", "sda", Means::No),
    ("loop0", "sda", Means::No),
    ("sde", "sda", Means::No),
];

/// In which way it is used.
#[derive(Debug, Clone, Copy, PartialEq)]
enum How {
    Mounted,
    Swap,
    Written,
    Exported,
}

impl How {
    const ALL: [Self; 4] = [Self::Mounted, Self::Swap, Self::Written, Self::Exported];

    fn befalls(self, m: &mut Machine, name: &str) {
        let node = format!("/dev/{name}");
        match self {
            Self::Mounted => m.mount(name, "/mnt/bay"),
            Self::Swap => m.swap(&node),
            // The made-up nodes are files: of them, as of devices, it is known who has them open.
            Self::Written => {
                let device = m.device(name);
                let number = rustix::fs::makedev(device.number.0, device.number.1);
                let open = m.path(&format!("open-{name}"));
                let kind = rustix::fs::FileType::BlockDevice;
                rustix::fs::mknodat(rustix::fs::CWD, &open, kind, Mode::RUSR, number).unwrap();
                m.process(4711, "keeper", &open, true);
            }
            Self::Exported => m.export(&node),
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Holds {
    Nothing,
    Ours,
    Ext4,
    Data,
}

#[test]
fn every_use_of_what_shares_its_bytes_stands_against_a_device_and_no_other_does() {
    let may_make_nodes = rustix::process::getuid().is_root();
    let (mut cases, mut refused) = (0, 0);
    for (target, used, means) in TIES {
        for how in How::ALL.into_iter().filter(|h| *h != How::Written || may_make_nodes) {
            for holds in [Holds::Nothing, Holds::Ours, Holds::Ext4, Holds::Data] {
                let mut m = machine();
                how.befalls(&mut m, used);
                match holds {
                    Holds::Nothing => {}
                    Holds::Ours => m.write(target, 8 * MIB, b"HMload1\0and more"),
                    Holds::Ext4 => m.write(target, 1024 + 56, &[0x53, 0xef]),
                    Holds::Data => m.write(target, 0, b"a table of figures"),
                }
                let e = m.examine(target, &[]);
                let case = format!("{target}, {used} {how:?}, holds {holds:?}: {:?}", e.obstacles);
                assert_eq!(e.is_free(), means == Means::Yes, "{case}");
                // Parts of a drive that the kernel knows are asked for, beside what the drive itself holds.
                let known = |name: &str| e.signatures.iter().any(|s| s.name == name);
                assert_eq!(known("ext2"), holds == Holds::Ext4, "{case}");
                assert_eq!(known("data"), holds == Holds::Data, "{case}");
                assert_eq!(known("partitions"), target == "sda", "{case}");
                let serial = Some(e.word_to_type.clone());
                let bare = Consent { erase: serial.clone(), ..Consent::default() };
                let all = e.signatures.iter().map(|s| s.name.clone()).collect();
                let whole = Consent { erase: serial, give_up: all, ..Consent::default() };
                let plain = means == Means::Yes && e.signatures.is_empty();
                assert_eq!(e.verdict(&bare).is_ok(), plain, "{case}");
                assert_eq!(e.verdict(&whole).is_ok(), means == Means::Yes, "{case}");
                cases += 1;
                refused += usize::from(means == Means::No);
            }
        }
    }
    let line = format!("guard, on made-up machines: {cases} cases, {refused} refused, 0 wrong");
    println!("{line}");
    // The test command prints it at its end.
    if let Ok(path) = std::env::var("HOLLOW_MILE_SUMMARY") {
        use std::io::Write;
        let file = std::fs::OpenOptions::new().create(true).append(true).open(path);
        let _ = file.and_then(|mut f| writeln!(f, "{line}"));
    }
    assert!(cases >= if may_make_nodes { 480 } else { 360 });
}

#[test]
fn what_stands_against_a_device_is_named() {
    type Make = fn(&mut Machine) -> Vec<PathBuf>;
    let cases: [(&str, Make, &str); 14] = [
        (
            "loop1",
            |m| {
                m.mount("loop0", "/mnt/a");
                vec![]
            },
            "/dev/loop0 is mounted on /mnt/a",
        ),
        (
            "sda",
            |m| {
                m.swap("/dev/sda2");
                vec![]
            },
            "/dev/sda2 is swap in use",
        ),
        (
            "loop2",
            |m| {
                let f = m.path("other");
                m.swap(&f.display().to_string());
                vec![]
            },
            "other is swap in use",
        ),
        (
            "loop2",
            |m| {
                m.loop_over("loop9", (7, 9), &m.path("other"), MIB, MIB);
                vec![]
            },
            "loop9 lies over the same bytes",
        ),
        ("sdb", |_| vec![], "loop3 lies over the same bytes"),
        ("sdc", |_| vec![], "dm-0 is built on it"),
        (
            "sda",
            |m| {
                m.set("sda1", "ro", "1\n");
                m.set("sda", "ro", "1\n");
                vec![]
            },
            "it is read-only",
        ),
        (
            "loop2",
            |m| {
                m.process(77, "emulator", &m.path("other"), true);
                vec![]
            },
            "process 77 (emulator) has it open for writing",
        ),
        ("loop2", |m| vec![m.path("other")], "the ledger or this program"),
        (
            "loop2",
            |m| {
                std::fs::create_dir(m.path("home")).unwrap();
                std::fs::hard_link(m.path("other"), m.path("home/ledger.sqlite")).unwrap();
                vec![m.path("home")]
            },
            "home/ledger.sqlite) lies on it",
        ),
        (
            "loop2",
            |m| {
                std::fs::remove_file(m.path("other")).unwrap();
                vec![]
            },
            "what lies under loop2 cannot be seen",
        ),
        (
            "sda1",
            |m| {
                m.export("/dev/sda1");
                vec![]
            },
            "the kernel exports it",
        ),
        (
            "dm-1",
            |m| {
                m.mount("sde", "/mnt");
                vec![]
            },
            "/dev/sde is mounted on /mnt",
        ),
        (
            "loop2",
            |m| {
                std::fs::remove_file(m.path("dev/loop2")).unwrap();
                vec![]
            },
            "its content cannot be examined",
        ),
    ];
    for (target, make, words) in cases {
        let mut m = machine();
        let protect = make(&mut m);
        let e = m.examine(target, &protect);
        let told: Vec<String> = e.obstacles.iter().map(ToString::to_string).collect();
        assert!(told.iter().any(|t| t.contains(words)), "{target}: no \"{words}\" in {told:?}");
        assert!(e.words().starts_with("not to be written: "));
    }
}

#[test]
fn a_drive_that_carries_the_ledger_or_the_root_is_never_free() {
    let m = machine();
    // The folder of this test lies on a device of the real machine, whose number is given to a made-up one.
    let dev = std::fs::metadata(m.dir.path()).unwrap().dev();
    m.disk("vdz", (rustix::fs::major(dev), rustix::fs::minor(dev)), MIB);
    let e = m.examine("vdz", &[m.dir.path().to_owned()]);
    assert!(
        e.obstacles
            .iter()
            .any(|o| matches!(o, Obstacle::Protected { what: "the ledger or this program", .. }))
    );
    let root = std::fs::metadata("/").unwrap().dev();
    if root == dev {
        assert!(
            e.obstacles.iter().any(|o| matches!(o, Obstacle::Protected { what: "the system's root", .. }))
        );
    }
}

#[test]
fn loops_over_other_bytes_of_one_file_do_not_touch_each_other() {
    let m = machine();
    m.loop_over("loop8", (7, 8), &m.path("shared"), 0, 8 * MIB);
    m.loop_over("loop9", (7, 9), &m.path("shared"), 8 * MIB, 8 * MIB);
    std::fs::File::create(m.path("shared")).unwrap().set_len(16 * MIB).unwrap();
    assert!(m.examine("loop8", &[]).is_free() && m.examine("loop9", &[]).is_free());
    m.loop_over("loop10", (7, 10), &m.path("shared"), 8 * MIB - 512, 512);
    assert!(!m.examine("loop8", &[]).is_free() && m.examine("loop9", &[]).is_free());
}

#[test]
fn a_part_of_a_file_system_that_looks_empty_is_not_free() {
    let m = machine();
    m.write("loop0", 1024 + 56, &[0x53, 0xef]);
    // loop1 begins 8 MiB behind the start of loop0, where its blocks are empty.
    let e = m.examine("loop1", &[]);
    assert_eq!(e.signatures[0].name, "ext2");
    assert!(e.signatures[0].detail.ends_with("of which this is a part"), "{:?}", e.signatures);
    // A table at the start of a file says nothing of a part behind it.
    m.loop_over("loop8", (7, 8), &m.path("shared"), 8 * MIB, 8 * MIB);
    let mut image = vec![0u8; 16 * MIB as usize];
    image[512..520].copy_from_slice(b"EFI PART");
    std::fs::write(m.path("shared"), image).unwrap();
    assert_eq!(m.examine("loop8", &[]).signatures, []);
}

#[test]
fn a_reader_is_asked_about_by_name_and_what_the_kernel_knows_of_parts_too() {
    let m = machine();
    m.process(812, "copier", &m.path("other"), false);
    let e = m.examine("loop2", &[]);
    assert!(e.is_free() && e.is_only_opened());
    let refusal = e.verdict(&consent(Some("KW-loop2"), &[])).unwrap_err().to_string();
    assert!(refusal.contains("--give-up readers") && refusal.contains("812 (copier)"), "{refusal}");
    assert!(e.verdict(&consent(Some("KW-loop2"), &["readers"])).is_ok());
    // A table that is gone, and a file system in a part that is known still.
    m.write("sda2", 1024 + 56, &[0x53, 0xef]);
    let e = m.examine("sda", &[]);
    let names: Vec<&str> = e.signatures.iter().map(|s| s.name.as_str()).collect();
    assert_eq!(names, ["ext2", "partitions"]);
    assert!(e.signatures[0].detail.ends_with("in sda2") && e.losses.len() == 2, "{:?}", e.losses);
    assert!(e.verdict(&consent(Some("KW-sda"), &["partitions"])).is_err());
    assert!(e.verdict(&consent(Some("KW-sda"), &["partitions", "ext2"])).is_ok());
}

#[test]
fn data_without_a_mark_is_told_and_what_this_program_wrote_is_not() {
    use super::super::buffers::Buffers;
    let m = Machine::new();
    m.disk("sda", (8, 0), 64 * MIB);
    let b = Buffers::new(1, 4 * MIB as usize, 3).unwrap();
    for i in 0..16 {
        // SAFETY: nothing is in flight in this test.
        let ours = unsafe {
            b.stamp(0, 4 * MIB as usize, i * 4 * MIB, i);
            b.slice(0).to_vec()
        };
        m.write("sda", i * 4 * MIB, &ours);
    }
    assert!(m.examine("sda", &[]).signatures.is_empty(), "a drive full of loads of ours is empty");
    m.write("sda", 60 * MIB, &vec![0xa7; 2 * MIB as usize]);
    assert!(m.examine("sda", &[]).signatures.is_empty(), "so is one of the same byte over and over");
    m.write("sda", 63 * MIB, b"soundings of the second line");
    let e = m.examine("sda", &[]);
    assert_eq!(e.signatures[0].name, "data");
    assert!(e.words().contains("data without a known mark"), "{}", e.words());
}

#[test]
fn the_systems_library_and_ours_agree_on_real_file_systems() {
    let m = Machine::new();
    for (i, (tool, args, name)) in [
        ("mke2fs", &["-q", "-t", "ext4"][..], "ext4"),
        ("mke2fs", &["-q", "-t", "ext2"][..], "ext2"),
        ("mkswap", &[][..], "swap"),
        ("mkfs.xfs", &["-q"][..], "xfs"),
        ("mkfs.btrfs", &["-q"][..], "btrfs"),
        ("mkfs.vfat", &[][..], "fat"),
    ]
    .into_iter()
    .enumerate()
    {
        let disk = format!("sd{i}");
        m.disk(&disk, (8, 16 * i as u32), 320 * MIB);
        let made = std::process::Command::new(tool).args(args).arg(m.path(&format!("dev/{disk}"))).output();
        if !made.is_ok_and(|o| o.status.success()) {
            continue;
        }
        let node = m.path(&format!("dev/{disk}"));
        let content = content::Content::of(&node, Bytes::new(320 * MIB)).unwrap();
        let names: Vec<&str> = content.signatures.iter().map(|s| s.name.as_str()).collect();
        assert_eq!(names, [name]);
        let theirs = second_opinion::of(&std::fs::File::open(&node).unwrap());
        assert!(theirs.iter().all(|s: &Signature| s.name == name), "{name}: {theirs:?}");
        // The first 8 KiB are lost; ext4 and xfs are known by their copies.
        m.write(&disk, 0, &[0; 8192]);
        let left = content::Content::of(&node, Bytes::new(320 * MIB)).unwrap().signatures;
        if ["ext4", "xfs", "btrfs"].contains(&name) {
            assert_eq!(left[0].name, name);
        }
    }
}

#[test]
fn an_array_that_is_not_whole_is_asked_about() {
    let m = machine();
    m.disk("sdx", (9, 40), MIB);
    m.disk("sdy", (9, 41), MIB);
    m.build("md7", (9, 42), MIB, &["sdx", "sdy"]);
    let md = m.path("sys/devices/virtual/block/md7/md");
    std::fs::create_dir_all(&md).unwrap();
    let put = |name: &str, value: &str| std::fs::write(md.join(name), value).unwrap();
    for (name, value) in [("level", "raid1"), ("raid_disks", "2"), ("degraded", "0"), ("sync_action", "idle")]
    {
        put(name, value);
    }
    assert!(m.examine("md7", &[]).verdict(&consent(Some("KW-md7"), &[])).is_ok());
    put("degraded", "1");
    let e = m.examine("md7", &[]);
    let refusal = e.verdict(&consent(Some("KW-md7"), &[])).unwrap_err().to_string();
    assert!(
        refusal.contains("an array that is not whole: to lose that, add --give-up degraded"),
        "{refusal}"
    );
    assert!(refusal.contains("short of 1 of its 2 members"), "{refusal}");
    assert!(e.verdict(&consent(Some("KW-md7"), &["degraded"])).is_ok());
}
