//! What the file system under a path is, and how much room it has.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::quantity::units::Bytes;
use rustix::fs::{major, minor, statvfs};

use super::sysfs::entries;

/// Least and most that is left free for others.
const LEAST_RESERVE: u64 = 64_000_000;
const MOST_RESERVE: u64 = 10_000_000_000;

/// Room on a file system.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// Free for us now.
    pub free: Bytes,
    /// Never touched: a twentieth of the whole, between 64 MB and 10 GB.
    pub reserve: Bytes,
}

impl Room {
    /// Of the file system that holds this path.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn of(path: &Path) -> std::io::Result<Self> {
        let v = statvfs(path)?;
        let whole = v.f_blocks.saturating_mul(v.f_frsize);
        Ok(Self {
            free: Bytes::new(v.f_bavail.saturating_mul(v.f_frsize)),
            reserve: Bytes::new((whole / 20).clamp(LEAST_RESERVE, MOST_RESERVE)),
        })
    }

    /// What a file may take.
    #[must_use]
    pub fn usable(&self) -> Bytes {
        self.free.saturating_sub(self.reserve)
    }
}

/// A path as it can be shown, whatever its name is made of.
pub(super) fn shown(path: &Path) -> String {
    path.to_string_lossy().chars().filter(|c| !c.is_control()).collect()
}

/// Folder in sysfs of the whole drive, given that of it or of a partition.
pub(super) fn whole_drive(device: &Path) -> &Path {
    match device.parent() {
        Some(parent) if device.join("partition").exists() => parent,
        _ => device,
    }
}

/// A mounted file system.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileSystem {
    /// Its type: `ext4`.
    pub kind: String,
    /// What it is mounted from: `/dev/nvme0n1p2`.
    pub source: String,
    /// Folder of its block device in sysfs, where it has one.
    pub device: Option<PathBuf>,
}

/// One line of the mount table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Mount {
    /// Device number.
    pub number: (u32, u32),
    /// Where.
    pub point: String,
    /// What.
    pub source: String,
    /// Further devices that its options name: logs and journals.
    pub beside: Vec<String>,
}

/// All that is mounted, in every mount namespace of which a process can be asked.
pub(super) fn mounts(proc: &Path) -> Vec<Mount> {
    let mut all: Vec<Mount> = Vec::new();
    let mut namespaces = Vec::new();
    let mut read = |process: &Path| {
        for line in std::fs::read_to_string(process.join("mountinfo")).unwrap_or_default().lines() {
            if let Some(mount) = mount_of(line).filter(|m| !all.contains(m)) {
                all.push(mount);
            }
        }
    };
    for process in ["self", "1"] {
        read(&proc.join(process));
        namespaces.extend(std::fs::read_link(proc.join(process).join("ns/mnt")));
    }
    for process in entries(proc) {
        let Ok(namespace) = std::fs::read_link(process.join("ns/mnt")) else { continue };
        if !namespaces.contains(&namespace) {
            namespaces.push(namespace);
            read(&process);
        }
    }
    all
}

fn mount_of(line: &str) -> Option<Mount> {
    let mut fields = line.split(' ');
    let (major, minor) = fields.nth(2)?.split_once(':')?;
    let point = unescape(fields.nth(1)?);
    let mut after = line.split(" - ").nth(1)?.split(' ');
    let source = unescape(after.nth(1)?);
    let beside = after.next().unwrap_or_default().split(',').filter_map(|option| {
        let (key, value) = option.split_once('=')?;
        matches!(key, "logdev" | "rtdev" | "journal_path").then(|| unescape(value))
    });
    let number = (major.parse().ok()?, minor.parse().ok()?);
    Some(Mount { number, point, source, beside: beside.collect() })
}

/// Undoes the octal escapes of /proc/self/mountinfo and /proc/swaps (proc_pid_mountinfo(5)) and drops control characters.
pub(super) fn unescape(field: &str) -> String {
    let mut bytes = Vec::with_capacity(field.len());
    let mut rest = field.as_bytes();
    while let [first, tail @ ..] = rest {
        let digit = |b: u8| (b'0'..=b'7').contains(&b).then(|| b - b'0');
        let escaped = match rest {
            [b'\\', a, b, c, ..] => digit(*a).zip(digit(*b)).zip(digit(*c)),
            _ => None,
        };
        match escaped {
            Some(((a, b), c)) if a < 4 => {
                bytes.push(a << 6 | b << 3 | c);
                rest = &rest[4..];
            }
            _ => {
                bytes.push(*first);
                rest = tail;
            }
        }
    }
    String::from_utf8_lossy(&bytes).chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

impl FileSystem {
    /// Of the file system that holds this path.
    #[must_use]
    pub fn of(path: &Path) -> Option<Self> {
        let dev = std::fs::metadata(path).ok()?.dev();
        let number = format!("{}:{}", major(dev), minor(dev));
        let table = std::fs::read_to_string("/proc/self/mountinfo").ok()?;
        Self::find(&table, &number).or_else(|| {
            // Some file systems give files another device number than their mount: go by the longest mount point.
            let path = path.canonicalize().ok()?;
            let mut best: Option<(usize, Self)> = None;
            for line in table.lines() {
                let point = unescape(line.split(' ').nth(4)?);
                if path.starts_with(&point) && best.as_ref().is_none_or(|b| b.0 <= point.len()) {
                    best = Self::parse(line).map(|f| (point.len(), f)).or(best);
                }
            }
            best.map(|b| b.1)
        })
    }

    fn find(table: &str, number: &str) -> Option<Self> {
        table.lines().find(|l| l.split(' ').nth(2) == Some(number)).and_then(Self::parse)
    }

    fn parse(line: &str) -> Option<Self> {
        let number = line.split(' ').nth(2)?;
        let mut after = line.split(" - ").nth(1)?.split(' ');
        let (kind, source) = (after.next()?, after.next()?);
        let device = Path::new("/sys/dev/block").join(number).canonicalize().ok();
        Some(Self { kind: unescape(kind), source: unescape(source), device })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mount_lines_are_read_as_the_manual_says() {
        let table = "36 35 98:0 /mnt1 /mnt2 rw,noatime master:1 - ext3 /dev/root rw,errors=continue\n\
                     40 35 0:44 / /bench\\040two rw shared:3 - tmpfs my\\040bay rw\n";
        let fs = FileSystem::find(table, "98:0").unwrap();
        assert_eq!((fs.kind.as_str(), fs.source.as_str()), ("ext3", "/dev/root"));
        assert_eq!(FileSystem::find(table, "0:44").unwrap().source, "my bay");
        assert_eq!(FileSystem::find(table, "1:1"), None);
        let mount = table.lines().nth(1).and_then(mount_of).unwrap();
        assert_eq!(
            (mount.number, mount.point.as_str(), mount.source.as_str()),
            ((0, 44), "/bench two", "my bay")
        );
        let line = "9 1 8:1 / /a\\011b\\134c rw - xfs /dev/sda1 rw,logdev=/dev/sdb1,attr2";
        let mount = mount_of(line).unwrap();
        assert_eq!((mount.point.as_str(), &mount.beside[..]), ("/a b\\c", &["/dev/sdb1".to_owned()][..]));
        assert_eq!(unescape("a\\08b\\"), "a\\08b\\", "what is no escape stays");
    }

    #[test]
    fn a_reserve_is_left_on_every_file_system() {
        let room = Room::of(Path::new("/")).unwrap();
        assert!(room.reserve.get() >= LEAST_RESERVE && room.usable() <= room.free);
        assert!(FileSystem::of(Path::new("/proc/self")).is_some_and(|f| f.kind == "proc"));
    }
}
