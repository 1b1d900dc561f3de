//! What the file system under a path is, and how much room it has.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::units::Bytes;
use rustix::fs::{major, minor, statvfs};

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
}

/// All that is mounted, as this process and, where it may be asked, the first process see it.
pub(super) fn mounts() -> Vec<Mount> {
    let mut all: Vec<Mount> = Vec::new();
    for table in ["/proc/self/mountinfo", "/proc/1/mountinfo"] {
        for line in std::fs::read_to_string(table).unwrap_or_default().lines() {
            if let Some(mount) = mount_of(line).filter(|m| !all.contains(m)) {
                all.push(mount);
            }
        }
    }
    all
}

fn mount_of(line: &str) -> Option<Mount> {
    let mut fields = line.split(' ');
    let (major, minor) = fields.nth(2)?.split_once(':')?;
    let point = unescape(fields.nth(1)?);
    let source = unescape(line.split(" - ").nth(1)?.split(' ').nth(1)?);
    Some(Mount { number: (major.parse().ok()?, minor.parse().ok()?), point, source })
}

/// Undoes the octal escapes of /proc/self/mountinfo (proc_pid_mountinfo(5)) and drops control characters.
fn unescape(field: &str) -> String {
    field.replace("\\040", " ").replace("\\011", " ").chars().filter(|c| !c.is_control()).collect()
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
    }

    #[test]
    fn a_reserve_is_left_on_every_file_system() {
        let room = Room::of(Path::new("/")).unwrap();
        assert!(room.reserve.get() >= LEAST_RESERVE && room.usable() <= room.free);
        assert!(FileSystem::of(Path::new("/proc/self")).is_some_and(|f| f.kind == "proc"));
    }
}
