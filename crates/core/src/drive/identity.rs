//! Who a drive is: model, serial, capacity, how it is connected.

use serde::{Deserialize, Serialize};

use super::zones::{ZoneFacts, ZoneModel};
use crate::quantity::units::{Bytes, Celsius, Rate};

/// Of which sort a drive is; decides what consent a write needs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriveKind {
    /// A stand-in that ships with the program or was written by the user; nothing real is touched.
    Simulated,
    /// A file of our own on a mounted file system.
    File,
    /// A folder of our own on a mounted file system.
    Folder,
    /// A whole block device.
    Block,
    /// A record that came from elsewhere as CSV.
    Imported,
}

/// Line rate of a Serial ATA generation (Serial ATA 3.5, table 1).
const fn sata_gb_s(generation: u8) -> &'static str {
    match generation {
        1 => "1.5",
        2 => "3",
        _ => "6",
    }
}

/// What the kernel and the drive say of a block device, as it was when the haul began.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct DeviceFacts {
    /// `nvme`, `ata`, `usb`, `scsi`, `virtio`, `loop`.
    pub transport: String,
    /// Physical block: what the drive really writes at least.
    pub physical_block: Bytes,
    /// I/O scheduler in use.
    pub scheduler: String,
    /// `write back` or `write through`, as the kernel treats it.
    pub write_cache: String,
    /// Discards are passed on to the drive.
    pub discard: bool,
    /// Metadata bytes that travel with each block; a drive formatted to 520 bytes has 8.
    pub metadata: u16,
    /// NVMe Namespace Utilization: what the drive says is allocated.
    pub utilization: Option<Bytes>,
    /// Kernel release.
    pub kernel: String,
    /// What stands between the drive and a USB port, and the driver that speaks with it; empty where there is no such thing.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub bridge: String,
    /// The least rate in sequence that the drive itself promises, as an SD card does.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub promised: Option<Rate>,
}

/// The connection of a drive, as it is now and at best.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// `PCIe`, `SATA`, `USB`.
    pub bus: String,
    /// Generation of PCIe (4 for 16 GT/s) or SATA (3 for 6 Gb/s), or 0 where it does not apply.
    #[serde(default)]
    pub generation: u8,
    /// PCIe lanes in use, or 0 where it does not apply.
    #[serde(default)]
    pub width: u8,
    /// PCIe lanes that the drive could use.
    #[serde(default)]
    pub best_width: u8,
    /// Generation that the drive could use; 0 where it is not known.
    #[serde(default)]
    pub best_generation: u8,
    /// Signalling rate of USB, Mb/s; 0 where it does not apply.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub mbit_s: u32,
    /// Signalling rate that the drive could use over USB, Mb/s; 0 where it is not known.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub best_mbit_s: u32,
}

#[allow(clippy::trivially_copy_pass_by_ref)]
const fn is_zero(n: &u32) -> bool {
    *n == 0
}

impl Link {
    /// `PCIe 4.0 x4 of x4`, `PCIe 3.0 of 4.0 x4 of x4`, `SATA 6 Gb/s`, `USB`.
    #[must_use]
    pub fn words(&self) -> String {
        let best = self.best_generation.max(self.generation);
        match (self.bus.as_str(), self.generation) {
            (bus, 0) if self.best_mbit_s > self.mbit_s && self.mbit_s > 0 => {
                format!("{bus} {} of {} Mb/s", self.mbit_s, self.best_mbit_s)
            }
            (bus, 0) if self.mbit_s > 0 => format!("{bus} {} Mb/s", self.mbit_s),
            (bus, 0) => bus.to_owned(),
            ("SATA", now) if best > now => {
                format!("SATA {} of {} Gb/s", sata_gb_s(now), sata_gb_s(best))
            }
            ("SATA", now) => format!("SATA {} Gb/s", sata_gb_s(now)),
            (bus, now) => {
                let of = if best > now { format!(" of {best}.0") } else { String::new() };
                format!("{bus} {now}.0{of} x{} of x{}", self.width, self.best_width)
            }
        }
    }

    /// Payload ceiling: lane rate × encoding × width × 0.9 (PCI Express Base 6.0, table 1-1); SATA 6 Gb/s about
    /// 560 MB/s. `None` where the bus is not known.
    #[must_use]
    pub fn payload_ceiling(&self) -> Option<Rate> {
        if self.mbit_s > 0 {
            return usb_ceiling(self.mbit_s);
        }
        Self::ceiling(&self.bus, self.generation, self.width)
    }

    fn ceiling(bus: &str, generation: u8, width: u8) -> Option<Rate> {
        let lane_mb_s = match (bus, generation) {
            ("SATA", 1) => return Some(Rate::from_mb_s(140.0)),
            ("SATA", 2) => return Some(Rate::from_mb_s(280.0)),
            ("SATA", _) => return Some(Rate::from_mb_s(560.0)),
            ("PCIe", 1) => 250.0,
            ("PCIe", 2) => 500.0,
            ("PCIe", g @ 3..=6) => 984.6 * f64::from(1u32 << (g - 3)),
            _ => return None,
        };
        Some(Rate::from_mb_s(lane_mb_s * f64::from(width) * 0.9))
    }

    /// What is lost when the drive has less than it could have, in words: `x2 of x4: half the bus`. `None` when it has
    /// all, or that is not known.
    #[must_use]
    pub fn shortfall(&self) -> Option<String> {
        if self.mbit_s > 0 {
            let (now, best) = (self.mbit_s, self.best_mbit_s);
            let part = f64::from(now) / f64::from(best.max(1)) * 100.0;
            return (best > now).then(|| format!("USB {now} of {best} Mb/s: {part:.0} % of the bus"));
        }
        let best_generation = self.best_generation.max(self.generation);
        let best_width = self.best_width.max(self.width);
        let now = self.payload_ceiling()?.get();
        let best = Self::ceiling(&self.bus, best_generation, best_width)?.get();
        let share = now / best;
        if share > 0.99 {
            return None;
        }
        let part = match share {
            s if (s - 0.5).abs() < 0.02 => "half the bus".to_owned(),
            s if (s - 0.25).abs() < 0.01 => "a quarter of the bus".to_owned(),
            s => format!("{:.0} % of the bus", s * 100.0),
        };
        let mut what = Vec::new();
        if self.bus == "SATA" {
            what.push(format!("{} of {} Gb/s", sata_gb_s(self.generation), sata_gb_s(best_generation)));
        } else {
            if best_generation > self.generation {
                what.push(format!("generation {} of {best_generation}", self.generation));
            }
            if best_width > self.width {
                what.push(format!("x{} of x{best_width}", self.width));
            }
        }
        Some(format!("{}: {part}", what.join(", ")))
    }
}

/// What bulk transfers carry at most: 13 packets of 512 B each 125 µs at 480 Mb/s (USB 2.0, 5.8.4); nine tenths of what the encoding leaves
/// above (USB 3.2, 3.2.1: 8b/10b at 5 Gb/s, 128b/132b faster). `None` of slower ones.
fn usb_ceiling(mbit_s: u32) -> Option<Rate> {
    match mbit_s {
        480 => Some(Rate::from_mb_s(53.0)),
        5_000 => Some(Rate::from_mb_s(450.0)),
        10_000.. => Some(Rate::from_mb_s(f64::from(mbit_s) / 8.0 * 128.0 / 132.0 * 0.9)),
        _ => None,
    }
}

/// Who a drive is. Written whole into every record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DriveIdentity {
    /// How the user names it: `sim:corrie-2t`, `file:/mnt/bay/try.hm`.
    pub target: String,
    /// Of which sort.
    pub kind: DriveKind,
    /// Model, as the drive says it.
    pub model: String,
    /// Serial number, as the drive says it; for a file, that of its file system's device or its path.
    pub serial: String,
    /// Firmware revision; empty where there is none.
    #[serde(default)]
    pub firmware: String,
    /// Addressable bytes.
    pub capacity: Bytes,
    /// Logical block: the smallest unit that can be addressed.
    pub block: Bytes,
    /// True for platters.
    #[serde(default)]
    pub rotational: bool,
    /// Connection, where known.
    #[serde(default)]
    pub link: Option<Link>,
    /// Temperature above which the drive lowers its speed, as it or its maker says.
    #[serde(default)]
    pub throttle_limit: Option<Celsius>,
    /// Rated endurance: bytes written over its life, as the maker claims.
    #[serde(default)]
    pub rated_writes: Option<Bytes>,
    /// Share of addresses written when the haul began, 0 to 100; `None` where it cannot be known.
    #[serde(default)]
    pub fill_percent: Option<f64>,
    /// More of a block device.
    #[serde(default)]
    pub device: Option<DeviceFacts>,
    /// Its zones, where it has such.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zones: Option<ZoneFacts>,
    /// Serials of the drives that it is finally built of; empty of a drive.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<String>,
}

impl DriveIdentity {
    /// The smallest write that it takes: of zones that must be written in sequence, whole physical blocks (ZBC-2, 4.4.3.4).
    #[must_use]
    pub fn write_block(&self) -> Bytes {
        let physical = self.device.as_ref().map_or(self.block, |d| d.physical_block);
        if self.writes_in_sequence_only() { self.block.max(physical) } else { self.block }
    }

    /// It fails writes that are not in sequence within its zones.
    #[must_use]
    pub fn writes_in_sequence_only(&self) -> bool {
        self.zones.as_ref().is_some_and(|z| z.model == ZoneModel::HostManaged)
    }

    /// A drive of which no more is known than its name, sort and size; blocks of 512 B.
    #[must_use]
    pub fn plain(target: &str, kind: DriveKind, capacity: Bytes) -> Self {
        Self {
            target: target.to_owned(),
            kind,
            model: String::new(),
            serial: String::new(),
            firmware: String::new(),
            capacity,
            block: Bytes::new(512),
            rotational: false,
            link: None,
            throttle_limit: None,
            rated_writes: None,
            fill_percent: None,
            device: None,
            zones: None,
            members: Vec::new(),
        }
    }
}
