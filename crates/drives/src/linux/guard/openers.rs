//! Which processes have block devices and files open, by /proc: the kernel has no list of who opened a device.

use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use rustix::fs::{major, minor};

use super::super::sysfs::{Sysfs, entries, line, name_of};
use super::reach::Carrier;

/// A process that has something open.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Opener {
    /// Its number.
    pub process: u32,
    /// Its name.
    pub name: String,
    /// It may write, or else it only reads.
    pub writes: bool,
}

/// All that is open, at one moment.
#[derive(Debug, Default)]
pub(super) struct Openers {
    open: Vec<(Carrier, Opener)>,
    /// Processes that this user may not look into.
    pub unreadable: usize,
    /// This is a container: processes outside are not seen at all.
    pub contained: bool,
}

/// Inode of the first process namespace (PROC_PID_INIT_INO of linux/proc_ns.h).
const FIRST_NAMESPACE: &str = "pid:[4026531836]";
/// O_ACCMODE and O_PATH as /proc/PID/fdinfo gives them, in octal.
const ACCESS: u32 = 0o3;
const ONLY_A_PATH: u32 = 0o10_000_000;

fn carrier(path: &Path) -> Option<Carrier> {
    let meta = std::fs::metadata(path).ok()?;
    let kind = meta.file_type();
    if kind.is_block_device() {
        Some(Carrier::Disk((major(meta.rdev()), minor(meta.rdev()))))
    } else {
        kind.is_file().then(|| Carrier::File(meta.dev(), meta.ino()))
    }
}

fn flags(process: &Path, descriptor: &str) -> Option<u32> {
    let info = std::fs::read_to_string(process.join("fdinfo").join(descriptor)).ok()?;
    let flags = info.lines().find_map(|l| l.strip_prefix("flags:"))?;
    u32::from_str_radix(flags.trim(), 8).ok()
}

/// What a process has mapped and may since have closed: the paths of /proc/PID/maps that carry bytes.
fn mapped(process: &Path) -> Vec<(PathBuf, bool)> {
    let maps = std::fs::read(process.join("maps")).unwrap_or_default();
    let maps = String::from_utf8_lossy(&maps);
    let mut all: Vec<(PathBuf, bool)> = Vec::new();
    for row in maps.lines() {
        let mut fields = row.split_ascii_whitespace();
        let (Some(_), Some(rights), Some(path)) = (fields.next(), fields.next(), row.find('/')) else {
            continue;
        };
        // Code and libraries are mapped by everybody; only shared mappings reach the file.
        let shared = rights.ends_with('s');
        let entry = (PathBuf::from(&row[path..]), shared && rights.contains('w'));
        if (shared || row[path..].starts_with("/dev/")) && !all.contains(&entry) {
            all.push(entry);
        }
    }
    all
}

impl Openers {
    /// Looks into every process.
    pub fn now(sysfs: &Sysfs) -> Self {
        let proc = &sysfs.proc;
        let mut all = Self::default();
        let namespace = std::fs::read_link(proc.join("self/ns/pid"));
        all.contained = namespace.is_ok_and(|n| n.as_os_str() != FIRST_NAMESPACE);
        let program = std::fs::metadata(proc.join("self/exe")).map(|m| (m.dev(), m.ino())).ok();
        for process in entries(proc) {
            let Ok(number) = name_of(&process).parse::<u32>() else { continue };
            if number == std::process::id() {
                continue;
            }
            let Ok(descriptors) = std::fs::read_dir(process.join("fd")) else {
                // Gone meanwhile, or not ours to see.
                all.unreadable += usize::from(process.join("stat").exists());
                continue;
            };
            // Another of this program reads a drive's health; one that hauls on it holds a lock besides.
            let ours = std::fs::metadata(process.join("exe")).map(|m| (m.dev(), m.ino())).ok() == program
                && program.is_some();
            let mut found: Vec<(Carrier, bool)> = Vec::new();
            for descriptor in descriptors.flatten() {
                let Some(carrier) = carrier(&descriptor.path()) else { continue };
                let Some(flags) = flags(&process, &descriptor.file_name().to_string_lossy()) else {
                    continue;
                };
                if flags & ONLY_A_PATH == 0 {
                    found.push((carrier, flags & ACCESS != 0));
                }
            }
            found.extend(mapped(&process).into_iter().filter_map(|(p, w)| Some((carrier(&p)?, w))));
            let name = line(&process.join("comm")).unwrap_or_default();
            for (carrier, writes) in found {
                if writes || !ours {
                    let opener = Opener { process: number, name: name.clone(), writes };
                    all.open.push((carrier, opener));
                }
            }
        }
        all
    }

    /// Who has one of these open; of a process that has it open twice, how it may do most.
    pub fn of(&self, carriers: &[Carrier]) -> Vec<Opener> {
        let mut found: Vec<Opener> = Vec::new();
        for (_, opener) in self.open.iter().filter(|(c, _)| carriers.contains(c)) {
            match found.iter_mut().find(|o| o.process == opener.process) {
                Some(same) => same.writes |= opener.writes,
                None => found.push(opener.clone()),
            }
        }
        found
    }
}
