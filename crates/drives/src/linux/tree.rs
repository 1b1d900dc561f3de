//! What a device is built of: volumes, arrays and encryption, down to drives.

use super::sysfs::{BlockDevice, Sysfs, entries, line, name_of};

/// Layers that are followed at most: a chain that goes round would have no end.
const DEEPEST: usize = 16;

/// A device in the tree below another.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Branch {
    /// It.
    pub device: BlockDevice,
    /// How many layers below the top it lies.
    pub depth: usize,
    /// What it is: `raid1 array of 2`, `encrypted volume`, `partition`, `drive`.
    pub what: String,
}

impl Sysfs {
    /// A device and all that lies below it, each after what is built on it.
    #[must_use]
    pub fn tree(&self, device: &BlockDevice) -> Vec<Branch> {
        let mut all = Vec::new();
        self.grow(device, 0, &mut all);
        all
    }

    fn grow(&self, device: &BlockDevice, depth: usize, all: &mut Vec<Branch>) {
        if depth > DEEPEST {
            return;
        }
        all.push(Branch { device: device.clone(), depth, what: device.what() });
        if let Some(whole) = &device.whole {
            return self.grow(whole, depth + 1, all);
        }
        for below in device.slaves().iter().filter_map(|s| self.device(s)) {
            self.grow(&below, depth + 1, all);
        }
    }

    /// The devices that the file system on this one is spread over: those of btrfs, which name each other; itself alone of any other.
    #[must_use]
    pub fn spread_over(&self, device: &BlockDevice) -> Vec<BlockDevice> {
        for file_system in entries(&self.folder("fs/btrfs")) {
            let all: Vec<BlockDevice> =
                entries(&file_system.join("devices")).iter().filter_map(|d| self.device(d)).collect();
            if all.iter().any(|d| d.number == device.number) {
                return all;
            }
        }
        vec![device.clone()]
    }
}

impl BlockDevice {
    /// What it is, in a few words.
    #[must_use]
    pub fn what(&self) -> String {
        if self.whole.is_some() {
            return "partition".into();
        }
        self.built().unwrap_or_else(|| {
            if self.name.starts_with("loop") { "loop device".into() } else { "drive".into() }
        })
    }

    /// What is built of others: `raid1 array of 2`, `encrypted volume secret`; `None` of what is not.
    #[must_use]
    pub fn built(&self) -> Option<String> {
        let md = self.folder.join("md");
        if let Some(level) = line(&md.join("level")) {
            let of = line(&md.join("raid_disks")).map(|n| format!(" of {n}")).unwrap_or_default();
            return Some(format!("{level} array{of}"));
        }
        let name = line(&self.folder.join("dm/name"))?;
        let uuid = line(&self.folder.join("dm/uuid")).unwrap_or_default();
        // Each owner begins its identifiers with its own name (Documentation/admin-guide/device-mapper of the kernel).
        let kind = match uuid.split('-').next().unwrap_or_default() {
            "LVM" => "LVM volume",
            "CRYPT" => "encrypted volume",
            "mpath" => "multipath device",
            _ => "mapped device",
        };
        Some(format!("{kind} {name}"))
    }

    /// How many devices it is built of.
    #[must_use]
    pub fn members(&self) -> usize {
        self.slaves().len()
    }
}

/// Names of the drives at the ends of a tree, in its order.
#[must_use]
pub fn leaves(tree: &[Branch]) -> Vec<String> {
    let is_leaf = |i: usize| tree.get(i + 1).is_none_or(|next| next.depth <= tree[i].depth);
    let mut all = Vec::new();
    for (i, branch) in tree.iter().enumerate().filter(|(i, _)| is_leaf(*i)) {
        let name = name_of(&tree[i].device.folder);
        if !all.contains(&name) && branch.depth > 0 {
            all.push(name);
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::path::Path;

    fn disk(root: &Path, name: &str, minor: u32, files: &[(&str, &str)], slaves: &[&str]) {
        let folder = root.join("sys/devices").join(name);
        std::fs::create_dir_all(folder.join("slaves")).unwrap();
        std::fs::write(folder.join("dev"), format!("9:{minor}\n")).unwrap();
        for (file, text) in files {
            let at = folder.join(file);
            std::fs::create_dir_all(at.parent().unwrap()).unwrap();
            std::fs::write(at, text).unwrap();
        }
        for slave in slaves {
            let short = slave.rsplit('/').next().unwrap();
            std::os::unix::fs::symlink(
                root.join("sys/devices").join(slave),
                folder.join("slaves").join(short),
            )
            .unwrap();
        }
        let numbers = root.join("sys/dev/block");
        std::fs::create_dir_all(&numbers).unwrap();
        std::os::unix::fs::symlink(&folder, numbers.join(format!("9:{minor}"))).unwrap();
    }

    #[test]
    fn every_layer_is_named_with_what_it_is_and_how_deep_it_lies() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        disk(root, "sda", 1, &[("sda1/partition", "1"), ("sda1/dev", "9:2\n")], &[]);
        disk(root, "nvme0n1", 3, &[], &[]);
        disk(root, "md0", 4, &[("md/level", "raid1\n"), ("md/raid_disks", "2\n")], &["sda/sda1", "nvme0n1"]);
        let crypt = [("dm/name", "vault\n"), ("dm/uuid", "CRYPT-LUKS2-0a-vault\n")];
        disk(root, "dm-0", 5, &crypt, &["md0"]);
        let sysfs = Sysfs::at(root);
        let tree = sysfs.tree(&sysfs.by_number((9, 5)).unwrap());
        let said: Vec<String> =
            tree.iter().map(|b| format!("{} {} {}", b.depth, b.device.name, b.what)).collect();
        assert_eq!(
            said,
            [
                "0 dm-0 encrypted volume vault",
                "1 md0 raid1 array of 2",
                "2 nvme0n1 drive",
                "2 sda1 partition",
                "3 sda drive"
            ]
        );
        assert_eq!(leaves(&tree), ["nvme0n1", "sda"]);
        let alone = sysfs.tree(&sysfs.by_number((9, 3)).unwrap());
        assert_eq!((alone.len(), leaves(&alone).len()), (1, 0), "a drive has no members");
    }

    #[test]
    fn a_file_system_of_several_devices_names_them_all() {
        let dir = tempfile::tempdir().unwrap();
        let root = dir.path();
        for (i, name) in ["sda", "sdb", "sdc"].into_iter().enumerate() {
            disk(root, name, i as u32, &[], &[]);
        }
        let devices = root.join("sys/fs/btrfs/0a1b/devices");
        std::fs::create_dir_all(&devices).unwrap();
        for name in ["sda", "sdc"] {
            std::os::unix::fs::symlink(root.join("sys/devices").join(name), devices.join(name)).unwrap();
        }
        let sysfs = Sysfs::at(root);
        let of = |minor| sysfs.spread_over(&sysfs.by_number((9, minor)).unwrap());
        let names = |all: Vec<BlockDevice>| all.into_iter().map(|d| d.name).collect::<Vec<_>>();
        assert_eq!(names(of(2)), ["sda", "sdc"]);
        assert_eq!(names(of(1)), ["sdb"]);
    }
}
