//! Drives below an array, a volume or an encrypted device, followed beside it: what each moved, how busy it was, how warm it is.

use std::path::Path;
use std::time::Instant;

use hollow_mile_core::drive::{Asking, MeterReading, MeterUnit};
use hollow_mile_core::quantity::units::Celsius;

use super::sysfs::{BlockDevice, Sysfs};
use super::thermometer::Thermometer;
use super::traffic::{Counters, Moved};

struct Member {
    name: String,
    counters: Counters,
    last: Moved,
    thermometer: Option<Thermometer>,
}

/// The drives that a device is built of; none of what is a drive itself.
pub(super) struct Members {
    all: Vec<Member>,
    asked: Instant,
}

impl Members {
    /// Of a device.
    pub fn of(sysfs: &Sysfs, device: &BlockDevice) -> Self {
        let leaves = sysfs.drives_below(device);
        let alone = leaves.iter().all(|d| d.name == device.disk().name);
        Self::follow(if alone { Vec::new() } else { leaves })
    }

    /// Of the file system that a path lies on, where it is spread over several drives or lies on what is built of them.
    pub fn under(sysfs: &Sysfs, path: &Path) -> Self {
        let drives = sysfs.ends_under(path);
        Self::follow(if drives.len() > 1 { drives } else { Vec::new() })
    }

    fn follow(leaves: Vec<BlockDevice>) -> Self {
        let follow = |d: BlockDevice| {
            let counters = Counters::of(&d.folder)?;
            let last = counters.read()?;
            Some(Member { thermometer: Thermometer::of(&d.folder), name: d.name, counters, last })
        };
        Self { all: leaves.into_iter().filter_map(follow).collect(), asked: Instant::now() }
    }

    /// Rate, and share of the time in which it had something to do, of each since it was last asked. A member that is gone says nothing.
    pub fn readings(&mut self) -> Vec<MeterReading> {
        let seconds = self.asked.elapsed().as_secs_f64();
        self.asked = Instant::now();
        self.all.iter_mut().flat_map(|m| m.since(seconds)).collect()
    }

    /// Says how often their sensors are read; true where one has such.
    pub fn ask_health(&self, how: Asking) -> bool {
        let sensors = self.all.iter().filter_map(|m| m.thermometer.as_ref());
        sensors.map(|t| t.ask_health(how)).count() > 0
    }

    /// The temperature of each that tells one.
    pub fn temperatures(&self) -> Vec<(String, Celsius)> {
        let of = |m: &Member| Some((m.name.clone(), m.thermometer.as_ref()?.reading()?));
        self.all.iter().filter_map(of).collect()
    }
}

impl Member {
    fn since(&mut self, seconds: f64) -> Vec<MeterReading> {
        let Some(now) = self.counters.read().filter(|_| seconds > 0.0) else { return Vec::new() };
        let moved = now.sum().saturating_sub(self.last.sum()) as f64 / 1e6 / seconds;
        let busy = now.busy_ms.saturating_sub(self.last.busy_ms) as f64 / 10.0 / seconds;
        self.last = now;
        let reading = |value: f64, unit: MeterUnit| {
            Some(MeterReading { name: self.name.clone(), value: unit.value(value)? })
        };
        [
            reading(moved, MeterUnit::MegabytesPerSecond),
            // The kernel counts in milliseconds, and its clock is not ours.
            reading(busy.min(100.0), MeterUnit::Busy),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    fn disk(root: &Path, name: &str, minor: u32, slaves: &[&str]) {
        let folder = root.join("sys/devices/block").join(name);
        std::fs::create_dir_all(folder.join("slaves")).unwrap();
        std::fs::write(folder.join("dev"), format!("9:{minor}\n")).unwrap();
        std::fs::write(folder.join("size"), "2048\n").unwrap();
        stat(root, name, 0, 0);
        for slave in slaves {
            let to = root.join("sys/devices/block").join(slave);
            std::os::unix::fs::symlink(to, folder.join("slaves").join(slave)).unwrap();
        }
        let numbers = root.join("sys/dev/block");
        std::fs::create_dir_all(&numbers).unwrap();
        std::os::unix::fs::symlink(&folder, numbers.join(format!("9:{minor}"))).unwrap();
    }

    fn stat(root: &Path, name: &str, sectors: u64, busy_ms: u64) {
        let text = format!("0 0 0 0 0 0 {sectors} 0 0 {busy_ms} 0\n");
        std::fs::write(root.join("sys/devices/block").join(name).join("stat"), text).unwrap();
    }

    #[test]
    fn members_are_followed_through_what_lies_between_and_a_drive_has_none() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        disk(root, "nvme0n1", 1, &[]);
        disk(root, "nvme1n1", 2, &[]);
        disk(root, "md0", 3, &["nvme0n1", "nvme1n1"]);
        disk(root, "dm-0", 4, &["md0"]);
        let sysfs = Sysfs::at(root);
        let device = |minor| sysfs.by_number((9, minor)).unwrap();
        assert!(Members::of(&sysfs, &device(1)).all.is_empty());
        let mut members = Members::of(&sysfs, &device(4));
        let names: Vec<&str> = members.all.iter().map(|m| m.name.as_str()).collect();
        assert_eq!(names, ["nvme0n1", "nvme1n1"]);
        stat(root, "nvme0n1", 200_000, 900);
        stat(root, "nvme1n1", 100_000, 300);
        let said: Vec<String> = members
            .all
            .iter_mut()
            .flat_map(|m| m.since(1.0))
            .map(|r| format!("{} {}", r.name, r.value))
            .collect();
        assert_eq!(
            said,
            ["nvme0n1 102.4 MB/s", "nvme0n1 90 % busy", "nvme1n1 51.2 MB/s", "nvme1n1 30 % busy"]
        );
        std::fs::remove_file(root.join("sys/devices/block/nvme1n1/stat")).unwrap();
        assert!(members.temperatures().is_empty());
    }

    #[test]
    fn an_array_that_is_not_whole_says_so() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        disk(root, "md0", 3, &[]);
        let md = root.join("sys/devices/block/md0/md");
        std::fs::create_dir_all(&md).unwrap();
        let sysfs = Sysfs::at(root);
        let words = || sysfs.by_number((9, 3)).unwrap().array_doubts();
        for (file, text) in
            [("level", "raid5"), ("raid_disks", "4"), ("degraded", "0"), ("sync_action", "idle")]
        {
            std::fs::write(md.join(file), text).unwrap();
        }
        assert!(words().is_empty());
        let state = || sysfs.by_number((9, 3)).unwrap().array_state();
        let whole = state();
        std::fs::write(md.join("degraded"), "1").unwrap();
        assert!(state().is_worse_than(&whole) && !whole.is_worse_than(&state()));
        std::fs::write(md.join("sync_action"), "recover").unwrap();
        std::fs::write(md.join("sync_completed"), "250 / 1000").unwrap();
        let all = words();
        assert_eq!(
            all[0],
            "the raid5 array is short of 1 of its 4 members: what is measured is not what it does when whole"
        );
        assert_eq!(
            all[1],
            "the array is busy with itself (recover, 25 % done): that takes part of every member's time"
        );
    }
}
