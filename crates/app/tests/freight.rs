//! Files on real file systems: what is made goes again, what holds them up is told, and what cannot be done is said.
#![allow(clippy::unwrap_used, clippy::panic)]

mod common;

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use common::{Bench, Loop, Terminal, wait_until};
use serde_json::Value;

fn route(bench: &Bench, name: &str, legs: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    std::fs::write(&path, format!("name = \"{name}\"\n{legs}")).unwrap();
    path
}

fn leg(fields: &str) -> String {
    format!("[[leg]]\nkind = \"freight\"\n{fields}\n")
}

fn folder(bench: &Bench, name: &str) -> (String, PathBuf) {
    let path = bench.dir.path().join(name);
    std::fs::create_dir_all(&path).unwrap();
    (format!("folder:{}", path.display()), path)
}

fn is_empty(path: &Path) -> bool {
    std::fs::read_dir(path).unwrap().all(|e| e.unwrap().file_name() == "lost+found")
}

/// Every file below a folder that does not belong to the program's own mark.
fn count(path: &Path) -> usize {
    let (mut n, mut open) = (0, vec![path.to_owned()]);
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
            match entry.file_type() {
                Ok(t) if t.is_dir() => open.push(entry.path()),
                _ => n += 1,
            }
        }
    }
    n
}

/// A file system on a loop device.
struct Mounted {
    point: PathBuf,
    device: Loop,
}

impl Mounted {
    /// `None` where this machine has no loop devices, or does not know the file system.
    fn new(bench: &Bench, name: &str, bytes: u64, make: &[&str]) -> Option<Self> {
        let device = Loop::new(bench, bytes)?;
        let done = |c: &mut Command| {
            c.stdout(Stdio::null()).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
        };
        let point = bench.dir.path().join(name);
        std::fs::create_dir_all(&point).unwrap();
        let made = done(Command::new(make[0]).args(&make[1..]).arg(&device.node))
            && done(Command::new("mount").arg(&device.node).arg(&point));
        if !made {
            println!("{make:?} does not go here");
        }
        made.then_some(Self { point, device })
    }

    fn unmount(&self) {
        // What has just let go of it may be held by the kernel for a moment still.
        let gone = |_| {
            Command::new("umount").arg(&self.point).stderr(Stdio::null()).status().is_ok_and(|s| s.success())
        };
        let tried = (0..50).find(|n| {
            let done = gone(*n);
            if !done {
                std::thread::sleep(Duration::from_millis(100));
            }
            done
        });
        assert!(tried.is_some() || std::thread::panicking(), "{} stays mounted", self.point.display());
    }

    fn mount_again(&self) {
        self.unmount();
        let _ = Command::new("e2fsck")
            .args(["-fy", &self.device.node])
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .status();
        assert!(Command::new("mount").arg(&self.device.node).arg(&self.point).status().unwrap().success());
    }

    /// `8:16`
    fn number(&self) -> String {
        let name = self.device.node.trim_start_matches("/dev/");
        std::fs::read_to_string(format!("/sys/block/{name}/dev")).unwrap().trim().to_owned()
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        self.unmount();
    }
}

const SMALL: &str = "files = [{ size = \"1 KiB to 16 KiB\", share = \"80 %\" }, { size = \"1 MiB\", share = \"20 %\" }]\ncount = 300\nfolder_depth = 2\nfolder_width = 3\n";

#[test]
fn a_tree_goes_in_back_and_away_and_is_told_in_every_way() {
    let bench = Bench::new();
    let (target, path) = folder(&bench, "there");
    let legs = leg(&format!("carry = \"write\"\nworkers = 2\n{SMALL}"))
        + &leg("carry = \"read\"")
        + &leg("carry = \"delete\"");
    let r = route(&bench, "small", &legs);
    let haul = bench.json(&["haul", &r, "--on", &target, "--json"]);
    assert_eq!(haul["state"], "done");
    let freight = haul["surveys"]["freight"]["legs"].as_array().unwrap();
    let told: Vec<(&str, u64)> =
        freight.iter().map(|l| (l["carry"].as_str().unwrap(), l["files"].as_u64().unwrap())).collect();
    assert_eq!(told, [("write", 300), ("read", 300), ("delete", 300)]);
    assert!(freight[0]["durable_s"].as_f64().unwrap() >= freight[0]["returned_s"].as_f64().unwrap());
    assert_eq!(freight[0]["folders"], 12);
    assert!(is_empty(&path), "all that was made is gone");
    assert!(bench.json(&["leftovers", "--json"]).as_array().unwrap().is_empty());

    let rows = String::from_utf8(bench.run(&["export", "last", "--of", "freight"]).stdout).unwrap();
    let mut lines = rows.lines();
    assert!(lines.next().unwrap().starts_with("elapsed_s,span_s,leg,files,folders,threads,data_s"));
    let files: u64 = lines.map(|l| l.split(',').nth(3).unwrap().parse::<u64>().unwrap()).sum();
    assert_eq!(files, 900);
    let csv = bench.path("x.csv");
    assert!(bench.run(&["export", "last", "-o", &csv]).status.success());
    assert!(bench.run(&["import", &csv]).status.success());
    let again = bench.json(&["findings", "last", "--json"]);
    let whole = &again["surveys"]["freight"]["legs"][0]["files"];
    assert_eq!(whole, &Value::from(300), "a record that went through CSV tells the same");
    for kind in ["svg", "pdf"] {
        let out = bench.path(&format!("chart.{kind}"));
        assert!(
            bench
                .run(&["chart", haul["haul"].as_str().unwrap(), "--kind", "freight", "-o", &out])
                .status
                .success()
        );
        assert!(std::fs::metadata(out).unwrap().len() > 2000);
    }
}

#[test]
fn a_copy_is_whole_and_a_tree_like_a_folder_has_its_sizes_and_none_of_its_names() {
    let bench = Bench::new();
    let ((target, to), (_, from)) = (folder(&bench, "to"), folder(&bench, "from"));
    let (_, mine) = folder(&bench, "mine");
    std::fs::create_dir(mine.join("secret-plans")).unwrap();
    for (i, name) in ["a.txt", "secret-plans/b.txt", "secret-plans/c.txt"].iter().enumerate() {
        std::fs::write(mine.join(name), vec![0; 5000 * (i + 1)]).unwrap();
    }
    let shape = bench.path("shape.toml");
    assert!(bench.run(&["shape", &mine.display().to_string(), "-o", &shape]).status.success());
    let text = std::fs::read_to_string(&shape).unwrap();
    assert!(text.contains("5000") && !text.contains("secret"), "{text}");
    assert!(bench.refusal(&["shape", &mine.display().to_string(), "-o", &shape], 2).contains("exists"));
    let legs = leg(&format!("carry = \"write\"\nat = \"source\"\nlike = \"{shape}\""))
        + &leg("carry = \"copy\"")
        + &leg("carry = \"read\"");
    let r = route(&bench, "copy", &legs);
    let source = from.display().to_string();
    let haul = bench.json(&["haul", &r, "--on", &target, "--from", &source, "--json"]);
    let legs = haul["surveys"]["freight"]["legs"].as_array().unwrap();
    assert!(legs.iter().all(|l| l["files"] == 3 && l["bytes"] == 30_000), "{legs:#?}");
    assert!(is_empty(&to) && is_empty(&from));
    let again = bench.run(&["again", haul["haul"].as_str().unwrap()]);
    assert!(again.status.success(), "the source is part of the record");
    wait_until("the repeat", || {
        bench.json(&["ledger", "--json"]).as_array().unwrap().iter().filter(|h| h["state"] == "done").count()
            == 2
    });
}

#[test]
fn what_does_not_fit_is_said_before_a_byte_is_written() {
    let bench = Bench::new();
    let (target, path) = folder(&bench, "there");
    let write = |fields: &str| leg(&format!("carry = \"write\"\n{fields}"));
    let one = "files = [{ size = \"1 MiB\" }]\ncount = 1\n";
    let refuse = |legs: &str, more: &[&str]| {
        let r = route(&bench, "r", legs);
        let args = [&["haul", &r, "--on", &target], more].concat();
        let said = bench.refusal(&args, 2);
        assert!(is_empty(&path), "{said}");
        said
    };
    let huge = "files = [{ size = \"100 GB\" }]\ntotal = \"90 TB\"";
    assert!(refuse(&write(huge), &[]).contains("no space for the tree"));
    assert!(
        refuse("[[leg]]\nkind = \"write\"\nuntil = { bytes = \"1 GB\" }\n", &[])
            .contains("takes freight legs and rests")
    );
    assert!(refuse(&(write(one) + &leg("carry = \"copy\"")), &[]).contains("--from"));
    assert!(refuse(&write(one), &["--from", "/tmp"]).contains("goes with routes that copy"));
    let copies = write(one) + &leg("carry = \"copy\"");
    assert!(refuse(&copies, &["--from", "sim:corrie-2t"]).contains("gives no bytes to a real folder"));
    assert!(refuse(&copies, &["--from", "/nowhere"]).contains("is no folder"));
    assert!(refuse(&write("like = \"/nowhere\"\n"), &[]).contains("/nowhere"));
    let missing = format!("folder:{}", bench.path("none"));
    let r = route(&bench, "r", &write(one));
    assert!(bench.refusal(&["haul", &r, "--on", &missing], 2).contains("is no folder"));
    let file = format!("file:{}", bench.path("f"));
    assert!(bench.refusal(&["haul", &r, "--on", &file, "--size", "10MB"], 2).contains("folder:PATH"));
    let Some(few) = Mounted::new(&bench, "few", 256 << 20, &["mke2fs", "-q", "-t", "ext4", "-N", "200"])
    else {
        return;
    };
    let many = route(&bench, "many", &write("files = [{ size = \"1 B\" }]\ncount = 1000\n"));
    let on = format!("folder:{}", few.point.display());
    assert!(bench.refusal(&["haul", &many, "--on", &on], 2).contains("room for"), "more files than inodes");
    assert!(is_empty(&few.point));
    // One inode is left: our folder takes it, and has no room for its mark.
    let made =
        (0..10_000).take_while(|n| std::fs::write(few.point.join(format!("u{n}")), "").is_ok()).count();
    std::fs::remove_file(few.point.join("u0")).unwrap();
    let said = bench.refusal(&["haul", &many, "--on", &on], 2);
    assert!(said.contains("no folder can be made"), "{said}");
    assert_eq!(count(&few.point), made - 1);
    let ours = |e: std::io::Result<std::fs::DirEntry>| {
        e.unwrap().file_name().to_string_lossy().starts_with("hollow-mile")
    };
    assert!(!std::fs::read_dir(&few.point).unwrap().any(ours), "a folder without a mark would stay for ever");
}

#[test]
fn what_a_killed_haul_left_is_known_and_removed_and_nothing_else() {
    let bench = Bench::new();
    let (target, path) = folder(&bench, "there");
    let r = route(
        &bench,
        "long",
        &leg(
            "carry = \"write\"\nfiles = [{ size = \"1 KiB\" }]\ncount = 400000\nfolder_depth = 1\nfolder_width = 100\n",
        ),
    );
    let mut haul = bench.command(&["haul", &r, "--on", &target]).stderr(Stdio::null()).spawn().unwrap();
    wait_until("files", || count(&path) > 300);
    haul.kill().unwrap();
    haul.wait().unwrap();
    let own = std::fs::read_dir(&path).unwrap().next().unwrap().unwrap().path();
    std::fs::write(own.join("t1/notes.txt"), "precious").unwrap();
    let left = bench.json(&["leftovers", "--json"]);
    assert_eq!((left.as_array().unwrap().len(), &left[0]["certain"]), (1, &Value::from(true)));
    // A file of the user's in it: everything of ours goes, and it stays.
    let said = bench.run(&["leftovers", "--remove"]);
    assert!(!said.status.success());
    assert_eq!(
        (count(&own), std::fs::read_to_string(own.join("t1/notes.txt")).unwrap().as_str()),
        (2, "precious"),
        "the mark and the note"
    );
    std::fs::remove_file(own.join("t1/notes.txt")).unwrap();
    assert!(bench.run(&["leftovers", "--remove"]).status.success());
    assert!(is_empty(&path));
}

#[test]
fn a_file_system_that_turns_read_only_and_a_source_that_vanishes_end_the_haul_with_its_record() {
    let bench = Bench::new();
    let Some(fs) = Mounted::new(
        &bench,
        "ext4",
        256 << 20,
        &["mke2fs", "-q", "-t", "ext4", "-N", "60000", "-e", "remount-ro"],
    ) else {
        return;
    };
    let target = format!("folder:{}", fs.point.display());
    let tree = "files = [{ size = \"1 KiB\" }]\ncount = 40000\nfolder_depth = 1\nfolder_width = 50\nsync = \"each\"\n";
    let r = route(&bench, "long", &leg(&format!("carry = \"write\"\n{tree}")));
    let haul = bench
        .command(&["haul", &r, "--on", &target, "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    wait_until("files", || count(&fs.point) > 200);
    std::thread::sleep(Duration::from_millis(500));
    // The kernel itself, as after an error of the drive.
    let name = fs.device.node.trim_start_matches("/dev/").to_owned();
    let shut = std::fs::write(format!("/sys/fs/ext4/{name}/trigger_fs_error"), "1").is_ok();
    let out = haul.wait_with_output().unwrap();
    if shut {
        assert_eq!(out.status.code(), Some(4), "{}", String::from_utf8_lossy(&out.stdout));
        let told: Value = serde_json::from_slice(&out.stdout).unwrap();
        assert_eq!(told["state"], "failed");
        assert!(told["reason"].as_str().unwrap().contains("Read-only file system"), "{}", told["reason"]);
        assert!(told["surveys"]["freight"]["legs"][0]["files"].as_u64().unwrap() > 100);
        // It cannot remove anything there; what is left is known, and goes when that can be.
        fs.mount_again();
        assert!(bench.run(&["leftovers", "--remove"]).status.success());
        assert!(is_empty(&fs.point));
    }
    // The source goes in the middle of a copy.
    let (_, from) = folder(&bench, "from");
    let legs = leg("carry = \"write\"\nat = \"source\"\nfiles = [{ size = \"4 KiB\" }]\ncount = 30000\n")
        + &leg("carry = \"copy\"\nsync = \"each\"");
    let r = route(&bench, "copy", &legs);
    let (_, to) = folder(&bench, "to");
    let on = format!("folder:{}", to.display());
    let source = from.display().to_string();
    let haul = bench
        .command(&["haul", &r, "--on", &on, "--from", &source, "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    wait_until("copied files", || count(&to) > 50);
    let own = std::fs::read_dir(&from).unwrap().next().unwrap().unwrap().path();
    std::fs::remove_dir_all(own).unwrap();
    let out = haul.wait_with_output().unwrap();
    assert_eq!(out.status.code(), Some(4));
    let told: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert!(told["reason"].as_str().unwrap().contains("the source is gone"), "{}", told["reason"]);
    assert!(is_empty(&to) && is_empty(&from));
}

/// Puts a limit on a device for a haul by the block layer's throttle (cgroup v1 `blkio`), where this kernel has it.
struct Throttle(PathBuf);

impl Throttle {
    fn new(device: &str, what: &str, bytes_a_second: u64) -> Option<Self> {
        let group = Path::new("/sys/fs/cgroup/blkio").join(format!("hollow-mile-{}", std::process::id()));
        let _ = std::fs::remove_dir(&group);
        std::fs::create_dir(&group).ok()?;
        let made = Self(group);
        std::fs::write(
            made.0.join(format!("blkio.throttle.{what}_bps_device")),
            format!("{device} {bytes_a_second}"),
        )
        .ok()?;
        Some(made)
    }
}

impl Drop for Throttle {
    fn drop(&mut self) {
        let _ = std::fs::remove_dir(&self.0);
    }
}

#[test]
fn the_slower_side_of_a_copy_between_two_real_file_systems_is_named() {
    let bench = Bench::new();
    let ext4 = ["mke2fs", "-q", "-t", "ext4"];
    let (Some(a), Some(b)) =
        (Mounted::new(&bench, "a", 128 << 20, &ext4), Mounted::new(&bench, "b", 128 << 20, &ext4))
    else {
        return;
    };
    let legs = leg(
        "carry = \"write\"\nat = \"source\"\nfiles = [{ size = \"1 MiB to 4 MiB\" }]\ntotal = \"40 MB\"\nthrough = \"direct\"\nblock = \"256 KiB\"\n",
    ) + &leg("carry = \"copy\"\nthrough = \"direct\"\nblock = \"256 KiB\"\nworkers = 2\n");
    let r = route(&bench, "copy", &legs);
    let on = format!("folder:{}", b.point.display());
    let source = a.point.display().to_string();
    // More by hand: FREIGHT_ROUNDS=10 makes it twenty.
    let rounds: usize = std::env::var("FREIGHT_ROUNDS").ok().and_then(|n| n.parse().ok()).unwrap_or(1);
    let sides = [("source", a.number(), "read"), ("target", b.number(), "write")];
    for (limited, device, what) in sides.iter().cycle().take(2 * rounds) {
        let Some(throttle) = Throttle::new(device, what, 25_000_000) else {
            println!("the block layer's throttle is not here");
            return;
        };
        let procs = throttle.0.join("cgroup.procs").display().to_string();
        let mut command = Command::new("sh");
        command.args(["-c", "echo $$ > \"$0\" && exec \"$@\"", &procs, common::PROGRAM]);
        command
            .args(["haul", &r, "--on", &on, "--from", &source, "--json"])
            .env("HOLLOW_MILE_HOME", bench.path("home"));
        let out = command.output().unwrap();
        let told: Value = serde_json::from_slice(&out.stdout)
            .unwrap_or_else(|e| panic!("{e}: {}", String::from_utf8_lossy(&out.stderr)));
        let copy = &told["surveys"]["freight"]["legs"][1];
        assert_eq!(copy["bottleneck"]["on"], *limited, "{copy:#}");
        assert_eq!(count(&a.point) + count(&b.point), 0);
    }
}

#[test]
fn a_haul_of_files_is_planned_and_followed_in_the_interface() {
    let bench = Bench::new();
    let (_, path) = folder(&bench, "there");
    let home = bench.dir.path().join("home/routes");
    std::fs::create_dir_all(&home).unwrap();
    let text = format!(
        "name = \"mine\"\nabout = \"A tree of mine.\"\n{}",
        leg(&format!("carry = \"write\"\nworkers = 2\n{SMALL}")) + &leg("carry = \"delete\"")
    );
    std::fs::write(home.join("mine.toml"), text).unwrap();
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("Yard");
    t.keys(&["G", "Enter"]);
    t.sees("a new file");
    t.keys(&["G"]);
    let screen = t.sees("the tree: 300 files, in 12 folders");
    assert!(screen.contains("size of a file"), "{screen}");
    t.keys(&["Tab"]);
    t.sees("one of our own is made");
    t.keys(&["Enter", "C-u"]);
    t.text(&path.display().to_string());
    t.keys(&["Enter"]);
    t.keys(&["s"]);
    t.sees("in a new folder in");
    t.keys(&["y"]);
    let screen = t.sees("held by");
    assert!(screen.contains("MB/s"), "{screen}");
    t.sees("300 files");
    wait_until("all is gone", || is_empty(&path));
}
