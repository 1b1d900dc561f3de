//! Real devices to try the guard on, with everything undone at the end.

use std::collections::BTreeMap;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};

use hollow_mile::targets::{self, Target, Wish};
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_core::route::Route;
use hollow_mile_drives::linux::guard::Consent;

use crate::common::Bench;
pub use crate::common::summary;

pub const MIB: u64 = 1 << 20;
pub const SIZE: u64 = 16 * MIB;

#[derive(Debug, PartialEq)]
pub enum Outcome {
    Written,
    Refused(String),
}

/// Devices by their names in a test, and what is done with them.
pub struct Bay {
    dir: PathBuf,
    pub home: PathBuf,
    /// Node of each device.
    nodes: BTreeMap<String, String>,
    /// File below those that lie over one.
    pub files: BTreeMap<String, PathBuf>,
    mounted: Vec<(String, PathBuf)>,
    swapped: Vec<String>,
    parts: Vec<(String, u32)>,
    /// Loop devices in the order in which they were made.
    loops: Vec<String>,
    processes: Vec<Child>,
}

fn done(command: &str, args: &[&str]) -> bool {
    let out = Command::new(command).args(args).stdin(Stdio::null()).output();
    out.is_ok_and(|o| o.status.success())
}

/// Bytes have changed; where the kernel may have written, such as the program writes.
pub fn harmed(
    before: &BTreeMap<PathBuf, Vec<u8>>,
    after: &BTreeMap<PathBuf, Vec<u8>>,
    by_kernel: bool,
) -> bool {
    before.iter().any(|(path, bytes)| {
        let mut differs = after[path].chunks(512).zip(bytes.chunks(512)).filter(|(a, b)| a != b);
        differs.any(|(now, _)| !by_kernel || hollow_mile_core::drive::stamp::is_ours(now))
    })
}

impl Bay {
    pub fn empty(bench: &Bench) -> Self {
        let dir = bench.dir.path().to_owned();
        Self {
            home: dir.join("home"),
            dir,
            nodes: BTreeMap::new(),
            files: BTreeMap::new(),
            mounted: Vec::new(),
            swapped: Vec::new(),
            parts: Vec::new(),
            loops: Vec::new(),
            processes: Vec::new(),
        }
    }

    /// A device "a" over a file of its own; `None` where this machine gives no loop devices.
    pub fn new(bench: &Bench, folder: &str) -> Option<Self> {
        let mut bay = Self::empty(bench);
        bay.file_of("a", folder, SIZE).then_some(bay)
    }

    /// "a" is a loop over a loop.
    pub fn stacked(bench: &Bench, offset: u64) -> Option<Self> {
        let mut bay = Self::empty(bench);
        bay.file_of("lowest", "", SIZE + offset).then_some(())?;
        bay.over("lowest", "a", offset).then_some(())?;
        // What happens to its file happens to the file below both.
        bay.files.insert("a".into(), bay.files["lowest"].clone());
        Some(bay)
    }

    /// "a" is a part of a drive that the kernel knows.
    pub fn partition(bench: &Bench) -> Option<Self> {
        let mut bay = Self::empty(bench);
        bay.file_of("drive", "", SIZE + 4 * MIB).then_some(())?;
        bay.part("drive", 1, 2 * MIB, SIZE);
        let node = bay.nodes.get("drive-1")?.clone();
        bay.nodes.insert("a".into(), node);
        bay.files.insert("a".into(), bay.files["drive"].clone());
        Some(bay)
    }

    pub fn file_of(&mut self, name: &str, folder: &str, size: u64) -> bool {
        static MADE: AtomicU32 = AtomicU32::new(0);
        let number = MADE.fetch_add(1, Ordering::Relaxed);
        let path = if folder.is_empty() {
            self.dir.join(format!("file-{name}"))
        } else {
            Path::new(folder).join(format!("hm-guard-{}-{number}", std::process::id()))
        };
        std::fs::File::create(&path).unwrap().set_len(size).unwrap();
        let attached = self.attach(&path, name, 0);
        self.files.insert(name.into(), path);
        attached
    }

    /// Puts a loop device over a file or a device.
    pub fn attach(&mut self, below: &Path, name: &str, offset: u64) -> bool {
        let offset = offset.to_string();
        let out = Command::new("losetup").args(["--find", "--show", "--offset", &offset]).arg(below).output();
        let Some(out) = out.ok().filter(|o| o.status.success()) else { return false };
        let node = String::from_utf8(out.stdout).unwrap().trim().to_owned();
        self.loops.push(node.clone());
        self.nodes.insert(name.into(), node);
        true
    }

    #[must_use]
    pub fn second(&mut self, of: &str, name: &str, offset: u64) -> bool {
        let below = self.files[of].clone();
        self.attach(&below, name, offset)
    }

    #[must_use]
    pub fn over(&mut self, lower: &str, name: &str, offset: u64) -> bool {
        let below = self.nodes[lower].clone();
        self.attach(Path::new(&below), name, offset)
    }

    pub fn node(&self, name: &str) -> &str {
        &self.nodes[name]
    }

    /// Takes a device away again.
    pub fn detach(&mut self, name: &str) {
        if let Some(node) = self.nodes.remove(name) {
            done("losetup", &["--detach", &node]);
            self.loops.retain(|l| *l != node);
        }
    }

    /// Makes a part known to the kernel, with no table.
    pub fn part(&mut self, of: &str, number: u32, start: u64, size: u64) {
        let (node, n) = (self.node(of).to_owned(), number.to_string());
        let (start, size) = ((start / 512).to_string(), (size / 512).to_string());
        // The device is ours and new, but the kernel may remember a part of whoever had its number before and was killed.
        done("delpart", &[&node, &n]);
        assert!(done("addpart", &[&node, &n, &start, &size]), "addpart {node} {n} {start} {size}");
        self.nodes.insert(format!("{of}-{number}"), format!("{node}p{number}"));
        self.parts.push((node, number));
    }

    /// Lets the kernel forget the parts of a device.
    pub fn forget_part(&mut self, of: &str) {
        let node = self.node(of).to_owned();
        for (_, number) in self.parts.iter().filter(|(n, _)| *n == node) {
            done("delpart", &[&node, &number.to_string()]);
        }
        self.parts.retain(|(n, _)| *n != node);
        self.nodes.remove(&format!("{of}-1"));
    }

    pub fn make(&mut self, name: &str, command: &[&str]) {
        let mut args = command[1..].to_vec();
        args.push(self.node(name));
        assert!(done(command[0], &args), "{command:?}");
    }

    pub fn mount(&mut self, name: &str) {
        let whole = "lazy_itable_init=0,lazy_journal_init=0";
        self.make(name, &["mke2fs", "-q", "-F", "-t", "ext4", "-E", whole]);
        assert!(self.mount_as_is(name), "mount {name}");
    }

    /// Mounts what is there; false where that is no longer a whole file system.
    #[must_use]
    pub fn mount_as_is(&mut self, name: &str) -> bool {
        let point = self.dir.join(format!("mnt-{name}"));
        std::fs::create_dir_all(&point).unwrap();
        let mounted = done("mount", &[self.node(name), &point.display().to_string()]);
        if mounted {
            self.mounted.push((name.into(), point));
        }
        mounted
    }

    pub fn mounted(&self, name: &str) -> PathBuf {
        self.mounted.iter().find(|(n, _)| n == name).unwrap().1.clone()
    }

    pub fn unmount_all(&mut self) {
        for (_, point) in self.mounted.drain(..).rev() {
            done("umount", &[&point.display().to_string()]);
        }
        for node in self.swapped.drain(..) {
            done("swapoff", &[&node]);
        }
    }

    pub fn swap(&mut self, name: &str) {
        self.make(name, &["mkswap"]);
        let node = self.node(name).to_owned();
        assert!(done("swapon", &[&node]), "swapon {name}");
        self.swapped.push(node);
    }

    fn holds_open(&mut self, path: &str, redirection: &str) {
        let script = format!("exec 7{redirection}'{path}'; exec sleep 300");
        let child = Command::new("sh").args(["-c", &script]).stdin(Stdio::null()).spawn().unwrap();
        // It has the path open once it has become what sleeps.
        let comm = format!("/proc/{}/comm", child.id());
        crate::common::wait_until("a process to sleep", || {
            std::fs::read_to_string(&comm).is_ok_and(|c| c.trim() == "sleep")
        });
        self.processes.push(child);
    }

    pub fn opened(&mut self, name: &str, to_write: bool) {
        let node = self.node(name).to_owned();
        self.holds_open(&node, if to_write { "<>" } else { "<" });
    }

    pub fn file_opened(&mut self, name: &str) {
        let path = self.files[name].display().to_string();
        self.holds_open(&path, "<>");
    }

    pub fn close_all(&mut self) {
        for mut child in self.processes.drain(..) {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    pub fn read_only(&mut self, name: &str) {
        assert!(done("blockdev", &["--setro", self.node(name)]));
    }

    /// Writes to a device from outside the program.
    pub fn write(&mut self, name: &str, at: u64, bytes: &[u8]) {
        let file = std::fs::File::options().write(true).open(self.node(name)).unwrap();
        file.write_all_at(bytes, at).unwrap();
        file.sync_all().unwrap();
    }

    pub fn fill(&mut self, name: &str, seed: u8) {
        let size = std::fs::metadata(&self.files[name]).unwrap().len().min(SIZE);
        let mut x = u32::from(seed) | 1;
        let mut data = vec![0u8; size as usize];
        for word in data.chunks_exact_mut(4) {
            x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            word.copy_from_slice(&x.to_le_bytes());
        }
        self.write(name, 0, &data);
    }

    /// The bytes of every file, with all that waits in memory written back.
    pub fn bytes(&self) -> BTreeMap<PathBuf, Vec<u8>> {
        rustix::fs::sync();
        self.files.values().map(|path| (path.clone(), std::fs::read(path).unwrap())).collect()
    }

    /// Writes a mebibyte at the start of a device, as a haul does, with its serial typed.
    pub fn haul(&self, name: &str, give_up: &[&str]) -> Outcome {
        let serial = Path::new(self.node(name)).file_name().unwrap().to_string_lossy().into_owned();
        // A part is named by its drive: loop3p1 by loop3.
        let drive = serial.rsplit_once('p').filter(|(drive, _)| drive.len() > "loo".len());
        let serial = drive.map_or(serial.as_str(), |(drive, _)| drive).to_owned();
        self.run(name, WRITE, Some(serial), give_up)
    }

    pub fn run(&self, name: &str, route: &str, erase: Option<String>, give_up: &[&str]) -> Outcome {
        let route = Route::from_toml(route).unwrap();
        let wish = Wish {
            destroys: route.destroys(),
            consent: Consent {
                erase,
                give_up: give_up.iter().map(|s| (*s).to_owned()).collect(),
                protect: hollow_mile::machine::protected(&self.home),
                erasures: route.whole_erasures(),
            },
            ..Wish::default()
        };
        let target = Target::Device(self.node(name).into());
        let opened = match targets::open(&target, &wish) {
            Ok(opened) => opened,
            Err(e) => return Outcome::Refused(e.message),
        };
        let mut haul =
            Haul::new(opened.drive, Setup { program: "test".into(), ..Setup::plain("9a9d0001", route) });
        let mut events = Vec::new();
        loop {
            match haul.step(&mut events) {
                Progress::Going => {}
                Progress::Ended(HaulState::Done) => return Outcome::Written,
                Progress::Ended(state) => {
                    let why = events.iter().find_map(|e| match e {
                        Event::HaulEnded { reason, .. } => reason.clone(),
                        _ => None,
                    });
                    panic!("{name}: {state:?} {why:?}");
                }
            }
        }
    }
}

pub const WRITE: &str =
    "name = \"w\"\n[[leg]]\nkind = \"write\"\nblock = \"64 KiB\"\ndepth = 4\nuntil = { bytes = \"1 MiB\" }\n";

impl Drop for Bay {
    fn drop(&mut self) {
        self.close_all();
        // Those that lie on a mounted file system first; one that is mounted itself goes when it is unmounted.
        for node in self.loops.iter().rev() {
            // A loop device keeps that for whoever gets it next.
            done("blockdev", &["--setrw", node]);
            done("losetup", &["--detach", node]);
        }
        self.unmount_all();
        for (node, number) in self.parts.drain(..).rev() {
            done("delpart", &[&node, &number.to_string()]);
        }
        for path in self.files.values().filter(|p| p.starts_with("/dev/shm")) {
            let _ = std::fs::remove_file(path);
        }
    }
}
