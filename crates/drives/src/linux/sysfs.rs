//! Block devices as the kernel shows them in sysfs: who they are, how they are connected, what holds them.
//!
//! Nothing here opens a device. Paths after Documentation/ABI/stable/sysfs-block and sysfs-bus-pci of the kernel.

use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::{Path, PathBuf};

use hollow_mile_core::drive::protocol::{mmc, text, usb};
use hollow_mile_core::drive::zones::{ZoneFacts, ZoneModel};
use hollow_mile_core::drive::{DeviceFacts, DriveIdentity, DriveKind, Link};
use hollow_mile_core::quantity::units::{Bytes, Rate};
use rustix::fs::{major, minor};

/// Where the kernel tells of its devices: `/sys`, `/proc` and `/dev`, or made-up ones in a test.
#[derive(Debug, Clone)]
pub struct Sysfs {
    root: PathBuf,
    /// Processes, mounts and swap.
    pub(super) proc: PathBuf,
    dev: PathBuf,
}

impl Default for Sysfs {
    fn default() -> Self {
        Self { root: "/sys".into(), proc: "/proc".into(), dev: "/dev".into() }
    }
}

/// Major and minor number.
pub type Number = (u32, u32);

/// One block device: a whole drive, or a partition of one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockDevice {
    /// The kernel's name: `nvme0n1`, `sda`, `sda1`.
    pub name: String,
    /// Its folder in sysfs, without links.
    pub folder: PathBuf,
    /// Its number.
    pub number: Number,
    /// The whole drive that it is a part of.
    pub whole: Option<Box<BlockDevice>>,
    /// The folder of device nodes.
    dev: PathBuf,
}

/// One part of a drive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// The kernel's name.
    pub name: String,
    /// Its number.
    pub number: Number,
    /// Its size.
    pub size: Bytes,
}

/// The first line of a small file, printable and trimmed; `None` when there is none or it is empty.
pub(super) fn line(path: &Path) -> Option<String> {
    let bytes = std::fs::read(path).ok()?;
    let first = bytes.split(|b| *b == b'\n').next()?;
    Some(text(first)).filter(|t| !t.is_empty())
}

pub(super) fn number(path: &Path) -> Option<u64> {
    line(path)?.parse().ok()
}

fn device_number(folder: &Path) -> Option<Number> {
    let dev = line(&folder.join("dev"))?;
    let (major, minor) = dev.split_once(':')?;
    Some((major.parse().ok()?, minor.parse().ok()?))
}

pub(super) fn entries(folder: &Path) -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> =
        std::fs::read_dir(folder).map(|d| d.flatten().map(|e| e.path()).collect()).unwrap_or_default();
    all.sort();
    all
}

pub(super) fn name_of(folder: &Path) -> String {
    text(folder.file_name().unwrap_or_default().as_encoded_bytes())
}

impl Sysfs {
    /// A made-up machine, for tests: a folder with `sys`, `proc` and `dev` in it.
    #[must_use]
    pub fn at(machine: &Path) -> Self {
        Self { root: machine.join("sys"), proc: machine.join("proc"), dev: machine.join("dev") }
    }

    /// A folder below the root of sysfs.
    pub(super) fn folder(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    /// The node by which the device mapper is asked.
    pub(super) fn mapper(&self) -> PathBuf {
        self.dev.join("mapper/control")
    }

    /// Every block device there is, partitions too.
    #[must_use]
    pub fn all(&self) -> Vec<BlockDevice> {
        entries(&self.root.join("dev/block")).iter().filter_map(|p| self.device(p)).collect()
    }

    /// The device that a path names: by its node, or, where that cannot be asked (in another mount namespace, in a test),
    /// by the kernel's name.
    #[must_use]
    pub(super) fn named(&self, path: &Path) -> Option<BlockDevice> {
        if let Ok(device) = self.by_path(path) {
            return Some(device);
        }
        let name = path.strip_prefix("/dev/").or_else(|_| path.strip_prefix(&self.dev)).ok()?;
        let name = name.to_string_lossy().replace('/', "!");
        self.all().into_iter().find(|d| name_of(&d.folder) == name)
    }

    pub(super) fn device(&self, folder: &Path) -> Option<BlockDevice> {
        let folder = folder.canonicalize().ok()?;
        let number = device_number(&folder)?;
        let whole =
            folder.join("partition").exists().then(|| self.device(folder.parent()?).map(Box::new)).flatten();
        // The kernel writes a slash in a name as an exclamation mark (cciss!c0d0).
        let name = name_of(&folder).replace('!', "/");
        Some(BlockDevice { name, folder, number, whole, dev: self.dev.clone() })
    }

    /// Every drive that could be hauled on: no empty slots, no optical drives, no memory disks without content.
    #[must_use]
    pub fn drives(&self) -> Vec<BlockDevice> {
        let left_out =
            |name: &str| ["ram", "sr", "fd", "zram", "mtdblock", "nbd"].iter().any(|p| name.starts_with(p));
        let is_built = |name: &str| name.starts_with("md") || name.starts_with("dm-");
        entries(&self.root.join("block"))
            .iter()
            .filter(|p| !left_out(&name_of(p)))
            // A drive without a size may hold blocks that the kernel cannot address; a slot without a card is no drive.
            .filter(|p| {
                // Of what is built of others, what is on top: the rest stands below it.
                if is_built(&name_of(p)) && !entries(&p.join("holders")).is_empty() {
                    return false;
                }
                let fixed = p.join("device").exists() && number(&p.join("removable")).unwrap_or(0) == 0;
                number(&p.join("size")).is_some_and(|s| s > 0 || fixed)
            })
            // Paths of a multipath NVMe namespace are hidden behind the namespace itself.
            .filter(|p| number(&p.join("hidden")).unwrap_or(0) == 0)
            .filter_map(|p| self.device(p))
            .collect()
    }

    /// The device with this number.
    #[must_use]
    pub fn by_number(&self, n: Number) -> Option<BlockDevice> {
        self.device(&self.root.join(format!("dev/block/{}:{}", n.0, n.1)))
    }

    /// The device behind a path such as `/dev/nvme0n1`.
    ///
    /// # Errors
    /// When the path does not exist or is no block device, in a sentence.
    pub fn by_path(&self, path: &Path) -> Result<BlockDevice, String> {
        let shown = path.display();
        let meta = std::fs::metadata(path).map_err(|e| match e.kind() {
            std::io::ErrorKind::NotFound => {
                format!("{shown} does not exist: `hollow-mile yard` lists the drives")
            }
            _ => format!("{shown} cannot be examined: {e}"),
        })?;
        if !meta.file_type().is_block_device() {
            return Err(format!("{shown} is no block device: `hollow-mile yard` lists the drives"));
        }
        let n = (major(meta.rdev()), minor(meta.rdev()));
        self.by_number(n)
            .ok_or_else(|| format!("{shown} ({}:{}) is not in {}", n.0, n.1, self.root.display()))
    }

    /// The drives on which a file or folder finally lies, through partitions, volumes, arrays and loop devices.
    #[must_use]
    pub fn under(&self, path: &Path) -> Vec<String> {
        let mut all = Vec::new();
        self.collect_under(path, &mut all, 0);
        all
    }

    /// Of the devices that a path lies on those that lie on no other that is seen.
    #[must_use]
    pub fn ends_under(&self, path: &Path) -> Vec<BlockDevice> {
        let names = self.under(path);
        let mut all: Vec<BlockDevice> = self.all().into_iter().filter(|d| names.contains(&d.name)).collect();
        let file = |d: &BlockDevice| line(&d.folder.join("loop/backing_file"));
        all.retain(|d| d.members() == 0 && file(d).is_none_or(|f| self.under(Path::new(&f)).is_empty()));
        all
    }

    fn collect_under(&self, path: &Path, all: &mut Vec<String>, depth: usize) {
        let Ok(meta) = std::fs::metadata(path) else { return };
        let direct = self.by_number((major(meta.dev()), minor(meta.dev())));
        let device = direct.or_else(|| {
            // Some file systems (btrfs) have no device number of their own: by what is mounted there.
            let source = super::file_system::FileSystem::of(path)?.source;
            self.by_path(Path::new(&source)).ok()
        });
        for device in device.iter().flat_map(|d| self.spread_over(d)) {
            self.collect_below(&device, all, depth);
        }
    }

    fn collect_below(&self, device: &BlockDevice, all: &mut Vec<String>, depth: usize) {
        let disk = device.disk();
        if depth > 16 || all.contains(&disk.name) {
            return;
        }
        all.push(disk.name.clone());
        for slave in entries(&disk.folder.join("slaves")) {
            if let Some(lower) = self.device(&slave) {
                self.collect_below(&lower, all, depth + 1);
            }
        }
        if let Some(file) = line(&disk.folder.join("loop/backing_file")) {
            self.collect_under(Path::new(&file), all, depth + 1);
        }
    }
}

impl Sysfs {
    /// The drives that a device is finally built of, through volumes, arrays and encryption; itself where it is built of none.
    #[must_use]
    pub fn drives_below(&self, device: &BlockDevice) -> Vec<BlockDevice> {
        let mut all = Vec::new();
        self.collect_drives(device, &mut all, 0);
        all
    }

    fn collect_drives(&self, device: &BlockDevice, all: &mut Vec<BlockDevice>, depth: usize) {
        let disk = device.disk();
        let slaves: Vec<BlockDevice> = disk.slaves().iter().filter_map(|s| self.device(s)).collect();
        if slaves.is_empty() && !all.iter().any(|d| d.name == disk.name) {
            all.push(disk.clone());
        }
        if depth <= 16 {
            slaves.iter().for_each(|s| self.collect_drives(s, all, depth + 1));
        }
    }
}

impl BlockDevice {
    /// The whole drive: itself, unless it is a partition.
    #[must_use]
    pub fn disk(&self) -> &Self {
        self.whole.as_deref().unwrap_or(self)
    }

    /// `/dev/nvme0n1`.
    #[must_use]
    pub fn node(&self) -> PathBuf {
        self.dev.join(&self.name)
    }

    /// Where it begins on its drive.
    #[must_use]
    pub fn start(&self) -> Bytes {
        Bytes::new(number(&self.folder.join("start")).unwrap_or(0).saturating_mul(512))
    }

    /// Devices that it is built of: volumes, arrays and encryption name them.
    #[must_use]
    pub(super) fn slaves(&self) -> Vec<PathBuf> {
        entries(&self.folder.join("slaves"))
    }

    /// A value that the driver of loop devices gives.
    pub(super) fn loop_value(&self, name: &str) -> Option<String> {
        let raw = std::fs::read_to_string(self.folder.join("loop").join(name)).ok()?;
        Some(raw.trim_end_matches('\n').to_owned())
    }

    /// A value of its queue, which partitions share with their drive.
    fn queue(&self, name: &str) -> Option<String> {
        line(&self.disk().folder.join("queue").join(name))
    }

    fn queue_number(&self, name: &str) -> u64 {
        self.queue(name).and_then(|v| v.parse().ok()).unwrap_or(0)
    }

    /// Its size; the kernel counts in units of 512 B whatever its blocks are.
    #[must_use]
    pub fn size(&self) -> Bytes {
        Bytes::new(number(&self.folder.join("size")).unwrap_or(0).saturating_mul(512))
    }

    /// Still there: a drive that was pulled out loses its folder.
    #[must_use]
    pub fn exists(&self) -> bool {
        self.folder.join("dev").exists()
            && line(&self.disk().folder.join("device/state")).is_none_or(|s| s != "offline" && s != "dead")
    }

    /// The kernel or the drive itself forbids writes.
    #[must_use]
    pub fn is_read_only(&self) -> bool {
        number(&self.folder.join("ro")) == Some(1) || number(&self.disk().folder.join("ro")) == Some(1)
    }

    /// Its partitions, in order.
    #[must_use]
    pub fn partitions(&self) -> Vec<Partition> {
        entries(&self.folder)
            .into_iter()
            .filter(|p| p.join("partition").exists())
            .filter_map(|p| {
                let size = Bytes::new(number(&p.join("size"))?.saturating_mul(512));
                Some(Partition { name: name_of(&p), number: device_number(&p)?, size })
            })
            .collect()
    }

    /// Devices that are built on it: volumes, arrays, encryption.
    #[must_use]
    pub fn holders(&self) -> Vec<String> {
        entries(&self.folder.join("holders")).iter().map(|p| name_of(p)).collect()
    }

    /// How it is attached: `nvme`, `ata`, `usb`, `scsi`, `virtio`, or what the kernel calls a drive without a bus.
    #[must_use]
    pub fn transport(&self) -> String {
        let disk = self.disk();
        let path = disk.folder.to_string_lossy();
        let has = |part: &str| path.split('/').any(|p| p.starts_with(part));
        if disk.name.starts_with("nvme") {
            "nvme".into()
        } else if has("usb") {
            "usb".into()
        } else if has("ata") {
            "ata".into()
        } else if has("virtio") {
            "virtio".into()
        } else if disk.name.starts_with("mmcblk") {
            "mmc".into()
        } else if has("target") || has("host") {
            "scsi".into()
        } else {
            disk.name.trim_end_matches(|c: char| c.is_ascii_digit()).to_owned()
        }
    }

    /// The folders in which the link of the drive may be told, nearest first.
    fn ancestry(&self) -> Vec<PathBuf> {
        let disk = self.disk();
        let mut starts = vec![disk.folder.clone()];
        // A multipath namespace lies under its subsystem; its controllers are linked there.
        if let Some(subsystem) = disk.folder.parent() {
            starts.extend(
                entries(subsystem)
                    .into_iter()
                    .filter(|p| name_of(p).starts_with("nvme") && p.join("transport").exists())
                    .filter_map(|p| p.canonicalize().ok()),
            );
        }
        starts.iter().flat_map(|s| s.ancestors().skip(1).map(Path::to_owned).collect::<Vec<_>>()).collect()
    }

    /// What stands between a drive and its USB port: its maker and product, and the kernel's driver for it.
    fn bridge(&self) -> String {
        let ancestry = self.ancestry();
        let Some(port) = ancestry.iter().find(|p| p.join("idVendor").exists()) else { return String::new() };
        let said = |name: &str| line(&port.join(name)).unwrap_or_default();
        let names = [said("manufacturer"), said("product")].join(" ");
        let names = if names.trim().is_empty() {
            format!("{}:{}", said("idVendor"), said("idProduct"))
        } else {
            names.trim().to_owned()
        };
        let driver = ancestry.iter().take_while(|p| *p != port).find_map(|p| {
            let to = std::fs::read_link(p.join("driver")).ok()?;
            Some(name_of(&to)).filter(|d| d == "uas" || d == "usb-storage")
        });
        driver.map_or_else(|| names.clone(), |d| format!("{names} ({d})"))
    }

    /// Wear of an eMMC part, as its extended CSD says: percent of its life, and a warning.
    pub(super) fn card_wear(&self) -> (Option<f64>, Option<&'static str>) {
        (
            mmc::life_used(&self.said(&["device/life_time"])),
            mmc::reserve_warning(&self.said(&["device/pre_eol_info"])),
        )
    }

    /// Its zones, as far as sysfs tells of them; `None` of a drive without.
    fn zones(&self) -> Option<ZoneFacts> {
        let model = ZoneModel::parse(&self.queue("zoned")?)?;
        let size = Bytes::new(self.queue_number("chunk_sectors").saturating_mul(512));
        let count = self.size().get().div_ceil(size.get().max(1));
        let few = |name: &str| u32::try_from(self.queue_number(name)).unwrap_or(0);
        (size > Bytes::ZERO).then(|| ZoneFacts {
            model,
            size,
            capacity: size,
            count: u32::try_from(count).unwrap_or(u32::MAX),
            most_open: few("max_open_zones"),
            most_active: few("max_active_zones"),
            map: Vec::new(),
            written: None,
        })
    }

    /// The connection, now and at best, where sysfs tells.
    #[must_use]
    pub fn link(&self) -> Option<Link> {
        let ancestry = self.ancestry();
        match self.transport().as_str() {
            "nvme" => {
                let port = ancestry.iter().find(|p| p.join("current_link_width").exists())?;
                let read = |n: &str| line(&port.join(n));
                let width =
                    |n: &str| read(n).and_then(|w| w.parse::<u8>().ok()).filter(|w| *w <= 32).unwrap_or(0);
                let generation = |n: &str| read(n).map_or(0, |s| pcie_generation(&s));
                // A port without a real link (an emulated one) reports zero.
                Some(Link {
                    bus: "PCIe".into(),
                    mbit_s: 0,
                    best_mbit_s: 0,
                    generation: generation("current_link_speed"),
                    width: width("current_link_width"),
                    best_width: width("max_link_width"),
                    best_generation: generation("max_link_speed"),
                })
                .filter(|l| l.width > 0 && l.generation > 0)
            }
            "ata" => {
                let port = ancestry.iter().find(|p| name_of(p).starts_with("ata"))?;
                let links = entries(port).into_iter().filter(|p| name_of(p).starts_with("link"));
                let spd = links
                    .flat_map(|l| entries(&l.join("ata_link")))
                    .find_map(|l| line(&l.join("sata_spd")))
                    .unwrap_or_default();
                Some(Link { bus: "SATA".into(), generation: sata_generation(&spd), ..Link::default() })
            }
            "usb" => {
                let port = ancestry.iter().find(|p| p.join("speed").exists());
                let number = |n: &str| port.and_then(|p| line(&p.join(n))?.parse::<u32>().ok()).unwrap_or(0);
                let bos =
                    port.and_then(|p| std::fs::read(p.join("bos_descriptors")).ok()).unwrap_or_default();
                let lane = usb::fastest_lane(&bos).unwrap_or_else(|| {
                    // Kernels before 6.9 show no capabilities; the version of the device's own descriptor tells the least.
                    let version = port.and_then(|p| line(&p.join("version"))).unwrap_or_default();
                    if version.trim().starts_with('3') { 5_000 } else { 480 }
                });
                let now = number("speed");
                let best = lane.max(now);
                Some(Link { bus: "USB".into(), mbit_s: now, best_mbit_s: best, ..Link::default() })
            }
            _ => None,
        }
    }

    fn said(&self, names: &[&str]) -> String {
        names.iter().find_map(|n| line(&self.disk().folder.join(n))).unwrap_or_default()
    }

    /// Serial number as sysfs has it: NVMe and virtio say it, SCSI and ATA in VPD page 80h (SPC-5, 7.7.10).
    fn serial(&self) -> String {
        let said = self.said(&["device/serial", "serial"]);
        if !said.is_empty() {
            return said;
        }
        let page = std::fs::read(self.disk().folder.join("device/vpd_pg80")).unwrap_or_default();
        let length = page.get(2..4).map_or(0, |l| usize::from(l[0]) << 8 | usize::from(l[1]));
        page.get(4..4 + length).map(text).unwrap_or_default()
    }

    /// What must be typed before it is erased: its serial, or the kernel's name where it has none.
    #[must_use]
    pub fn word_to_type(&self) -> String {
        let serial = self.serial();
        if serial.is_empty() { self.disk().name.clone() } else { serial }
    }

    /// Who it is, by sysfs alone; the drive's own words are added by those who may ask it.
    #[must_use]
    pub fn identity(&self) -> DriveIdentity {
        let transport = self.transport();
        let mut identity =
            DriveIdentity::plain(&self.node().to_string_lossy(), DriveKind::Block, self.size());
        identity.serial = self.serial();
        identity.model =
            match (self.said(&["device/model", "device/name"]), self.said(&["loop/backing_file"])) {
                _ if let Some(built) = self.disk().built() => built,
                (model, _) if !model.is_empty() => model,
                (_, file) if !file.is_empty() => format!("loop over {file}"),
                _ => format!("{transport} device"),
            };
        identity.firmware = self.said(&["device/firmware_rev", "device/rev", "device/fwrev"]);
        identity.block = Bytes::new(self.queue_number("logical_block_size").clamp(512, 1 << 20));
        identity.rotational = self.queue_number("rotational") == 1 && transport != "loop";
        identity.link = self.link();
        identity.zones = self.zones();
        let scheduler = self.queue("scheduler").unwrap_or_default();
        let chosen = scheduler.split(' ').find_map(|s| s.strip_prefix('[')?.strip_suffix(']'));
        identity.device = Some(DeviceFacts {
            transport,
            physical_block: Bytes::new(self.queue_number("physical_block_size")),
            scheduler: chosen.map_or(scheduler.clone(), str::to_owned),
            write_cache: self.queue("write_cache").unwrap_or_default(),
            discard: self.queue_number("discard_max_bytes") > 0,
            metadata: 0,
            utilization: None,
            kernel: rustix::system::uname().release().to_string_lossy().into_owned(),
            bridge: self.bridge(),
            promised: mmc::promised_mb_s(&self.said(&["device/ssr"])).map(|p| Rate::from_mb_s(f64::from(p))),
        });
        identity
    }
}

/// `8.0 GT/s PCIe` and the like, as generation (PCI Express Base 6.0, table 1-1).
fn pcie_generation(speed: &str) -> u8 {
    match speed.split_whitespace().next().unwrap_or("") {
        "2.5" => 1,
        "5" | "5.0" => 2,
        "8" | "8.0" => 3,
        "16" | "16.0" => 4,
        "32" | "32.0" => 5,
        "64" | "64.0" => 6,
        _ => 0,
    }
}

fn sata_generation(speed: &str) -> u8 {
    match speed.split_whitespace().next().unwrap_or("") {
        "1.5" => 1,
        "3.0" => 2,
        "6.0" => 3,
        _ => 0,
    }
}

#[cfg(test)]
#[path = "sysfs_tests.rs"]
mod tests;
