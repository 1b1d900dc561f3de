//! Which bytes a device really is: through partitions, loop devices, volumes and arrays down to the drives and files that
//! carry them. Two devices that share a byte at any level cannot both be used.

use std::os::fd::AsRawFd;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use hollow_mile_core::quantity::units::Bytes;

use super::super::mapper;
use super::super::sysfs::{BlockDevice, Number, Sysfs};

/// Something that carries bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub(in super::super) enum Carrier {
    /// A whole block device, by its number.
    Disk(Number),
    /// A file: device number and inode, as stat(2) gives them.
    File(u64, u64),
}

/// A stretch of bytes of a carrier.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in super::super) struct Extent {
    pub on: Carrier,
    pub start: u64,
    pub end: u64,
}

impl Extent {
    /// All of a file.
    pub const fn file(device: u64, inode: u64) -> Self {
        Self { on: Carrier::File(device, inode), start: 0, end: u64::MAX }
    }

    fn meets(&self, other: &Self) -> bool {
        self.on == other.on && self.start < other.end && other.start < self.end
    }
}

/// All that a device reaches.
#[derive(Debug, Clone, Default)]
pub(in super::super) struct Reach {
    /// At every level, the device's own first.
    pub extents: Vec<Extent>,
    /// The devices on the way: itself, its drive, what it is built of.
    pub through: Vec<BlockDevice>,
    /// What lies under a loop device on the way, device or file: it may hold something of which the target is a part.
    pub hosts: Vec<(PathBuf, Bytes)>,
    /// Devices below which nothing could be seen.
    pub unseen: Vec<String>,
}

/// Deeper stacks than this are not followed, and count as unseen.
const DEEPEST: usize = 16;

impl Reach {
    /// Of a device, whole.
    pub fn of(sysfs: &Sysfs, device: &BlockDevice) -> Self {
        let mut reach = Self::default();
        reach.add(sysfs, device, 0, device.size().get(), 0);
        reach
    }

    /// They share at least a byte.
    pub fn meets(&self, other: &Self) -> bool {
        self.extents.iter().any(|a| other.extents.iter().any(|b| a.meets(b)))
    }

    /// This device lies on the way down.
    pub fn goes_through(&self, number: Number) -> bool {
        self.through.iter().any(|d| d.number == number)
    }

    /// Adds bytes `start..end` of a device and everything below them.
    fn add(&mut self, sysfs: &Sysfs, device: &BlockDevice, start: u64, end: u64, depth: usize) {
        if depth > DEEPEST {
            self.unseen.push(device.name.clone());
            return;
        }
        let from = device.start().get();
        let disk = device.disk().clone();
        let (start, end) = (from.saturating_add(start), from.saturating_add(end));
        self.extents.push(Extent { on: Carrier::Disk(disk.number), start, end });
        for d in [device, &disk] {
            if !self.goes_through(d.number) {
                self.through.push(d.clone());
            }
        }
        if disk.folder.join("loop").exists() {
            self.add_loop(sysfs, &disk, start, end, depth);
            return;
        }
        let slaves: Vec<BlockDevice> = disk.slaves().iter().filter_map(|p| sysfs.device(p)).collect();
        if slaves.is_empty() {
            return;
        }
        match mapper::table(&sysfs.mapper(), disk.number) {
            Some(table) => {
                for piece in table.iter().flat_map(|t| t.pieces(start, end)) {
                    match sysfs.by_number(piece.device) {
                        Some(lower) => self.add(sysfs, &lower, piece.start, piece.end, depth + 1),
                        None => self.unseen.push(disk.name.clone()),
                    }
                }
                // A kind of target whose parameters are not understood may lie anywhere on what it is built of.
                if table.iter().any(|t| !t.is_understood()) {
                    slaves.iter().for_each(|s| self.add(sysfs, s, 0, s.size().get(), depth + 1));
                }
            }
            None => slaves.iter().for_each(|s| self.add(sysfs, s, 0, s.size().get(), depth + 1)),
        }
    }

    fn add_loop(&mut self, sysfs: &Sysfs, disk: &BlockDevice, start: u64, end: u64, depth: usize) {
        match Backing::of(sysfs, disk) {
            Ok(None) => {}
            Ok(Some(Backing { below, offset, path })) => {
                let (start, end) = (offset.saturating_add(start), offset.saturating_add(end));
                match below {
                    Below::File(device, inode) => {
                        let size = path.as_ref().and_then(|p| std::fs::metadata(p).ok()).map(|m| m.len());
                        self.hosts.extend(path.zip(size.map(Bytes::new)));
                        self.extents.push(Extent { on: Carrier::File(device, inode), start, end });
                    }
                    Below::Device(lower) => {
                        self.hosts.push((lower.node(), lower.size()));
                        self.add(sysfs, &lower, start, end, depth + 1);
                    }
                }
            }
            Err(()) => self.unseen.push(disk.name.clone()),
        }
    }
}

enum Below {
    File(u64, u64),
    Device(BlockDevice),
}

/// What a loop device lies over.
struct Backing {
    below: Below,
    offset: u64,
    path: Option<PathBuf>,
}

/// LOOP_GET_STATUS64 of linux/loop.h.
const LOOP_GET_STATUS64: libc::c_ulong = 0x4c05;

/// struct loop_info64 of linux/loop.h.
#[repr(C)]
struct LoopInfo {
    device: u64,
    inode: u64,
    rdevice: u64,
    offset: u64,
    sizelimit: u64,
    rest: [u8; 192],
}

impl Backing {
    /// `None` when it lies over nothing; an error when that cannot be seen.
    fn of(sysfs: &Sysfs, disk: &BlockDevice) -> Result<Option<Self>, ()> {
        let Some(shown) = disk.loop_value("backing_file") else { return Ok(None) };
        let path = Some(PathBuf::from(&shown)).filter(|p| p.exists());
        // The driver itself knows the file, also when it was deleted or lies in another mount namespace.
        if let Some(info) = Self::asked(&disk.node()) {
            let below = if info.rdevice == 0 {
                Below::File(info.device, info.inode)
            } else {
                let n = (rustix::fs::major(info.rdevice), rustix::fs::minor(info.rdevice));
                Below::Device(sysfs.by_number(n).ok_or(())?)
            };
            return Ok(Some(Self { below, offset: info.offset, path }));
        }
        let offset = disk.loop_value("offset").and_then(|o| o.parse().ok()).unwrap_or(0);
        let below = match sysfs.named(Path::new(&shown)) {
            Some(device) => Below::Device(device),
            None => {
                let meta = path.as_ref().and_then(|p| std::fs::metadata(p).ok()).ok_or(())?;
                Below::File(meta.dev(), meta.ino())
            }
        };
        Ok(Some(Self { below, offset, path }))
    }

    fn asked(node: &Path) -> Option<LoopInfo> {
        let file = std::fs::File::open(node).ok()?;
        let mut info = LoopInfo { device: 0, inode: 0, rdevice: 0, offset: 0, sizelimit: 0, rest: [0; 192] };
        // SAFETY: LOOP_GET_STATUS64 fills a loop_info64, which is 232 bytes as this is; it lives through the call.
        let result = unsafe { libc::ioctl(file.as_raw_fd(), LOOP_GET_STATUS64, &raw mut info) };
        (result == 0).then_some(info)
    }
}

const _: () = assert!(size_of::<LoopInfo>() == 232);
