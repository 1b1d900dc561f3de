//! Who uses which bytes of this machine: file systems, swap, volumes, loop devices, what the kernel exports, and processes.

use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::super::file_system::{mounts, unescape};
use super::super::sysfs::{BlockDevice, Sysfs, entries, line, name_of};
use super::openers::{Opener, Openers};
use super::reach::{Carrier, Extent, Reach};

/// How something is used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Use {
    /// A file system on it is mounted.
    Mounted {
        /// What.
        source: String,
        /// Where.
        point: String,
    },
    /// A mounted file system of several drives has it as a member.
    Member {
        /// Which file system.
        of: String,
        /// The member.
        device: String,
    },
    /// Swap lies on it.
    Swap(String),
    /// A volume, an array or encryption is built on it.
    BuiltOn(String),
    /// Another device covers the same bytes.
    Covered {
        /// The other.
        by: String,
        /// What it lies over.
        over: String,
    },
    /// The kernel gives it to other machines.
    Exported(String),
}

/// All users of block devices and of the files below them, at one moment.
pub struct Users {
    all: Vec<(Use, Reach)>,
    /// Devices that are built of others, each with what it reaches.
    stacked: Vec<(BlockDevice, Reach)>,
    openers: Openers,
}

impl Users {
    /// Looks round.
    #[must_use]
    pub fn now(sysfs: &Sysfs) -> Self {
        let mut users = Self { all: Vec::new(), stacked: Vec::new(), openers: Openers::now(sysfs) };
        users.add_mounts(sysfs);
        users.add_swap(sysfs);
        users.add_exports(sysfs);
        for device in sysfs.all() {
            let built = device.whole.is_none()
                && (device.loop_value("backing_file").is_some() || !device.slaves().is_empty());
            if built {
                let reach = Reach::of(sysfs, &device);
                users.stacked.push((device, reach));
            }
        }
        users
    }

    fn add(&mut self, sysfs: &Sysfs, how: Use, device: Option<BlockDevice>) {
        if let Some(device) = device {
            self.all.push((how, Reach::of(sysfs, &device)));
        }
    }

    fn add_mounts(&mut self, sysfs: &Sysfs) {
        for mount in mounts(&sysfs.proc) {
            let how = Use::Mounted { source: mount.source.clone(), point: mount.point.clone() };
            let device = sysfs.by_number(mount.number).or_else(|| sysfs.named(Path::new(&mount.source)));
            self.add(sysfs, how.clone(), device);
            for beside in &mount.beside {
                self.add(sysfs, how.clone(), sysfs.named(Path::new(beside)));
            }
        }
        // File systems of several drives, which a mount names only one of.
        for (folder, inside) in [("fs/btrfs", "devices"), ("fs/bcachefs", "")] {
            for file_system in entries(&sysfs.folder(folder)) {
                for member in entries(&file_system.join(inside)) {
                    let member = if inside.is_empty() { member.join("block") } else { member };
                    let of = format!("{} {}", folder.trim_start_matches("fs/"), name_of(&file_system));
                    if let Some(device) = sysfs.device(&member) {
                        let how = Use::Member { of, device: device.name.clone() };
                        self.add(sysfs, how, Some(device));
                    }
                }
            }
        }
    }

    fn add_swap(&mut self, sysfs: &Sysfs) {
        for line in std::fs::read_to_string(sysfs.proc.join("swaps")).unwrap_or_default().lines().skip(1) {
            let path = unescape(line.split_whitespace().next().unwrap_or(""));
            let how = Use::Swap(path.clone());
            match (sysfs.named(Path::new(&path)), std::fs::metadata(&path)) {
                (Some(device), _) => self.add(sysfs, how, Some(device)),
                (None, Ok(meta)) => {
                    let reach =
                        Reach { extents: vec![Extent::file(meta.dev(), meta.ino())], ..Reach::default() };
                    self.all.push((how, reach));
                }
                (None, Err(_)) => {}
            }
        }
    }

    /// What configfs knows: NVMe over fabrics, iSCSI and the like, USB gadgets.
    fn add_exports(&mut self, sysfs: &Sysfs) {
        let config = sysfs.folder("kernel/config");
        let below = |folder: PathBuf, names: &[&str]| -> Vec<PathBuf> {
            names.iter().fold(vec![folder], |all, part| {
                let deeper = all.iter().flat_map(|f| entries(f)).filter(|p| p.is_dir());
                match *part {
                    "*" => deeper.collect(),
                    name => deeper.filter(|p| name_of(p).starts_with(name)).collect(),
                }
            })
        };
        let places = [
            ("nvmet/subsystems", &["*", "namespaces", "*"][..], "device_path"),
            ("target/core", &["*", "*"][..], "udev_path"),
            ("usb_gadget", &["*", "functions", "mass_storage", "lun"][..], "file"),
        ];
        for (root, names, file) in places {
            for folder in below(config.join(root), names) {
                let Some(path) = line(&folder.join(file)) else { continue };
                let how = Use::Exported(format!("{root} as {path}"));
                self.add(sysfs, how, sysfs.named(Path::new(&path)));
            }
        }
    }

    /// Who uses bytes of this target, other than the target itself.
    pub(super) fn of(&self, target: &BlockDevice, reach: &Reach) -> Vec<Use> {
        let mut found: Vec<Use> =
            self.all.iter().filter(|(_, used)| used.meets(reach)).map(|(how, _)| how.clone()).collect();
        // What the target is built of is held by what it is built with: they are its own.
        let own = |name: &str| reach.through.iter().any(|d| d.name == name);
        let overlapping = reach.through.iter().chain(std::iter::once(target));
        let mut holders: Vec<String> = overlapping.flat_map(BlockDevice::holders).collect();
        for part in target.partitions() {
            holders
                .extend(entries(&target.folder.join(&part.name).join("holders")).iter().map(|p| name_of(p)));
        }
        for (device, used) in &self.stacked {
            if own(&device.name) || !used.meets(reach) {
                continue;
            }
            if device.loop_value("backing_file").is_some() {
                let over = device.loop_value("backing_file").unwrap_or_default();
                found.push(Use::Covered { by: device.name.clone(), over });
            } else {
                found.push(Use::BuiltOn(device.name.clone()));
            }
        }
        // A holder of other bytes of the same drive (a volume beside this one) is nobody's business here.
        let known = |name: &String| self.stacked.iter().any(|(d, _)| &d.name == name);
        found.extend(holders.into_iter().filter(|h| !own(h) && !known(h)).map(Use::BuiltOn));
        let mut once: Vec<Use> = Vec::new();
        for how in found {
            if !once.contains(&how) {
                once.push(how);
            }
        }
        once
    }

    /// Processes that have the target, a part of it, or what lies below it open.
    pub(super) fn openers(&self, target: &BlockDevice, reach: &Reach) -> Vec<Opener> {
        let parts = target.partitions();
        let disks = reach.through.iter().map(|d| d.number).chain(parts.iter().map(|p| p.number));
        let files = reach.extents.iter().map(|e| e.on).filter(|c| matches!(c, Carrier::File(..)));
        self.openers.of(&disks.map(Carrier::Disk).chain(files).collect::<Vec<_>>())
    }

    /// Processes that could not be looked into, and whether others are hidden altogether.
    pub(super) const fn hidden(&self) -> (usize, bool) {
        (self.openers.unreadable, self.openers.contained)
    }
}
