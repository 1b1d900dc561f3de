//! What lies on a device: partition tables, file systems, RAID, LVM and encryption, told by the marks that their on-disk
//! formats define. Asked before anything is overwritten, so it rather names one too many than one too few.

mod list;
#[cfg(test)]
mod tests;

use std::ops::Range;

use serde::{Deserialize, Serialize};

use super::{text, u16_at, u32_at, u64_at};
use crate::quantity::units::Bytes;

/// Bytes of the head of a device that are looked at whole: ZFS has its second label in the second 256 KiB.
pub const HEAD: u64 = 512 * 1024;
/// Bytes of the tail that are looked at whole: RAID marks, the second partition table, the last labels of ZFS.
pub const TAIL: u64 = 2 * 1024 * 1024;

/// Where a mark lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Place {
    /// So many bytes from the start.
    Start(u64),
    /// So many bytes before the end.
    Back(u64),
    /// So many bytes before the end, which is rounded down to whole units first.
    BackFrom(u64, u64),
}

impl Place {
    const fn on(self, capacity: u64) -> Option<u64> {
        match self {
            Self::Start(at) => Some(at),
            Self::Back(back) => capacity.checked_sub(back),
            Self::BackFrom(unit, back) => (capacity / unit * unit).checked_sub(back),
        }
    }
}

/// What was read of a device: the stretches that [`places`] names, or as much of them as it has.
#[derive(Debug, Clone, Default)]
pub struct Looked {
    capacity: u64,
    stretches: Vec<(u64, Vec<u8>)>,
}

impl Looked {
    /// Nothing is read yet of a device of this capacity.
    #[must_use]
    pub const fn new(capacity: Bytes) -> Self {
        Self { capacity: capacity.get(), stretches: Vec::new() }
    }

    /// Adds what was read from this address on.
    pub fn add(&mut self, at: u64, bytes: Vec<u8>) {
        self.stretches.push((at, bytes));
    }

    /// From an address on, as far as it was read.
    fn from(&self, at: u64) -> &[u8] {
        let inside = |(start, bytes): &&(u64, Vec<u8>)| (*start..*start + bytes.len() as u64).contains(&at);
        let (start, bytes) = match self.stretches.iter().find(inside) {
            Some((start, bytes)) => (*start, bytes.as_slice()),
            None => return &[],
        };
        usize::try_from(at - start).ok().and_then(|skip| bytes.get(skip..)).unwrap_or_default()
    }

    fn has(&self, at: u64, mark: &[u8]) -> bool {
        self.from(at).starts_with(mark)
    }
}

/// Which stretches of a device of this capacity are to be read: head and tail whole, and 4 KiB wherever else a mark may lie.
#[must_use]
pub fn places(capacity: Bytes) -> Vec<Range<u64>> {
    let capacity = capacity.get();
    if capacity <= HEAD + TAIL {
        return std::iter::once(0..capacity).collect();
    }
    let (head, tail) = (0..HEAD, capacity - TAIL..capacity);
    let listed = list::ROWS.iter().filter_map(|r| r.place.on(capacity));
    let mut single: Vec<u64> =
        listed.chain(ext_backups().map(|b| b.0)).chain(xfs_backups(capacity)).collect();
    single.retain(|at| *at >= head.end && *at < tail.start);
    single.iter_mut().for_each(|at| *at = *at / 4096 * 4096);
    single.sort_unstable();
    single.dedup();
    let single = single.into_iter().map(|at| at..(at + 4096).min(capacity));
    std::iter::once(head).chain(single).chain(std::iter::once(tail)).collect()
}

/// One thing that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    /// Its short name, by which it is given up: `gpt`, `ext4`, `lvm2`; `data` for what carries no known mark.
    pub name: String,
    /// Label, or partitions with their sizes, where it has them.
    pub detail: String,
}

fn found(name: &str, detail: String) -> Signature {
    Signature { name: name.into(), detail }
}

fn has(b: &[u8], at: usize, mark: &[u8]) -> bool {
    b.get(at..at + mark.len()) == Some(mark)
}

fn label(b: &[u8], at: usize, length: usize) -> String {
    let field = b.get(at..at + length).unwrap_or_default();
    let end = field.iter().position(|c| *c == 0).unwrap_or(length.min(field.len()));
    let label = text(&field[..end]);
    if label.is_empty() { "no label".into() } else { format!("label \"{label}\"") }
}

/// GUID partition table (UEFI 2.10, section 5.3): header in the second block, entries from the block that it names.
fn gpt(head: &[u8], tail: &[u8]) -> Option<Signature> {
    for block in [512usize, 4096] {
        if has(head, block, b"EFI PART") {
            let (first, count, size) =
                (u64_at(head, block + 72), u32_at(head, block + 80), u32_at(head, block + 84) as usize);
            let start = usize::try_from(first).ok().and_then(|f| f.checked_mul(block)).unwrap_or(usize::MAX);
            let mut parts = Vec::new();
            for i in 0..count.min(128) as usize {
                let Some(at) = size.checked_mul(i).and_then(|o| o.checked_add(start)) else { break };
                let Some(entry) = at.checked_add(128).and_then(|end| head.get(at..end)) else { break };
                if entry[..16].iter().all(|x| *x == 0) {
                    continue;
                }
                let blocks = u64_at(entry, 40).saturating_sub(u64_at(entry, 32)).saturating_add(1);
                let name: Vec<u16> =
                    entry[56..128].chunks_exact(2).map(|c| u16_at(c, 0)).take_while(|c| *c != 0).collect();
                let name: String =
                    String::from_utf16_lossy(&name).chars().filter(|c| !c.is_control()).collect();
                let size = Bytes::new(blocks.saturating_mul(block as u64));
                parts.push(if name.is_empty() { size.to_string() } else { format!("\"{name}\" {size}") });
            }
            return Some(found("gpt", partitions(&parts)));
        }
    }
    let second = [512usize, 4096].iter().any(|b| tail.len() >= *b && has(tail, tail.len() - b, b"EFI PART"));
    second.then(|| found("gpt", "only its second copy, at the end".into()))
}

fn partitions(parts: &[String]) -> String {
    match parts.len() {
        0 => "no partitions".into(),
        1 => format!("1 partition: {}", parts[0]),
        n => format!("{n} partitions: {}", parts.join(", ")),
    }
}

/// Master boot record: four entries at 446, 55h AAh at 510.
fn mbr(head: &[u8]) -> Option<Signature> {
    if !has(head, 510, &[0x55, 0xaa]) {
        return None;
    }
    let entries: Vec<&[u8]> = head.get(446..510)?.chunks_exact(16).filter(|e| e[4] != 0).collect();
    let sound = entries.iter().all(|e| matches!(e[0], 0 | 0x80) && u32_at(e, 12) > 0);
    // Type EEh alone only protects a GPT; boot sectors of file systems carry the same mark and no table.
    if entries.is_empty() || !sound || entries.iter().all(|e| e[4] == 0xee) {
        return None;
    }
    let parts: Vec<String> = entries
        .iter()
        .map(|e| format!("type {:02X}h {}", e[4], Bytes::new(u64::from(u32_at(e, 12)) * 512)))
        .collect();
    Some(found("mbr", partitions(&parts)))
}

/// Label of SunOS: mark DABEh at 508, and the words of its sector give zero together.
fn sun(head: &[u8]) -> Option<Signature> {
    let sector = head.get(..512)?;
    let sum = sector.chunks_exact(2).fold(0, |sum, c| sum ^ u16_at(c, 0));
    (has(sector, 508, &[0xda, 0xbe]) && sum == 0).then(|| found("sun", String::new()))
}

fn ext(head: &[u8]) -> Option<Signature> {
    let superblock = head.get(1024..2048)?;
    (u16_at(superblock, 56) == 0xef53).then(|| {
        let (name, label) = ext_names(superblock);
        found(name, label)
    })
}

/// Which of the family, and its label, from a superblock.
fn ext_names(superblock: &[u8]) -> (&'static str, String) {
    // Journal in the compatible features; extents or 64 bit in the incompatible ones make it ext4, a journal device
    // among those a journal of another.
    let (compatible, incompatible) = (u32_at(superblock, 92), u32_at(superblock, 96));
    let name = match (incompatible & 8 != 0, incompatible & 0x2c0 != 0, compatible & 4 != 0) {
        (true, ..) => "journal",
        (_, true, _) => "ext4",
        (_, false, true) => "ext3",
        (_, false, false) => "ext2",
    };
    (name, label(superblock, 120, 16))
}

fn fat(head: &[u8]) -> Option<Signature> {
    if has(head, 3, b"NTFS    ") {
        return Some(found("ntfs", String::new()));
    }
    if has(head, 3, b"EXFAT   ") {
        return Some(found("exfat", String::new()));
    }
    if !has(head, 510, &[0x55, 0xaa]) {
        return None;
    }
    if has(head, 82, b"FAT32") {
        return Some(found("fat", label(head, 71, 11)));
    }
    (has(head, 54, b"FAT12") || has(head, 54, b"FAT16")).then(|| found("fat", label(head, 43, 11)))
}

fn swap(head: &[u8]) -> Option<Signature> {
    [4096usize, 8192, 16384, 65536]
        .into_iter()
        .any(|page| has(head, page - 10, b"SWAPSPACE2") || has(head, page - 10, b"SWAP-SPACE"))
        .then(|| found("swap", label(head, 1024 + 28, 16)))
}

fn lvm(head: &[u8]) -> Option<Signature> {
    (0..4)
        .any(|sector| has(head, sector * 512, b"LABELONE") && has(head, sector * 512 + 24, b"LVM2"))
        .then(|| found("lvm2", "physical volume".into()))
}

const MD: [u8; 4] = 0xa92b_4efc_u32.to_le_bytes();

/// Linux software RAID: version 1.1 at the start, 1.2 at 4 KiB, 1.0 and 0.90 near the end.
fn md(head: &[u8], tail: &[u8], capacity: Bytes) -> Option<Signature> {
    for at in [0usize, 4096] {
        if has(head, at, &MD) && u32_at(head, at + 4) == 1 {
            return Some(found("md-raid", label(head, at + 32, 32)));
        }
    }
    let from_end = |address: u64| {
        let back = usize::try_from(capacity.get().checked_sub(address)?).ok()?;
        tail.len().checked_sub(back)
    };
    let sectors = capacity.get() / 512;
    // 1.0: 8 KiB before the end, on 4 KiB; 0.90: the last whole 64 KiB but one.
    let places =
        [sectors.checked_sub(16).map(|s| (s & !7) * 512), (capacity.get() & !0xffff).checked_sub(0x1_0000)];
    places
        .into_iter()
        .flatten()
        .filter_map(from_end)
        .any(|at| has(tail, at, &MD))
        .then(|| found("md-raid", String::new()))
}

/// ZFS: four labels of 256 KiB, two at each end; uberblocks from 128 KiB on in each, one each KiB at least.
fn zfs(looked: &Looked) -> Option<Signature> {
    const MAGIC: u64 = 0x00ba_b10c;
    const LABEL: u64 = 256 * 1024;
    let end = looked.capacity / LABEL * LABEL;
    let labels = [Some(0), Some(LABEL), end.checked_sub(2 * LABEL), end.checked_sub(LABEL)];
    let there = |label: u64| {
        let blocks = looked.from(label + LABEL / 2);
        blocks[..blocks.len().min(LABEL as usize / 2)]
            .chunks_exact(1024)
            .any(|b| u64_at(b, 0) == MAGIC || u64_at(b, 0).swap_bytes() == MAGIC)
    };
    labels.into_iter().flatten().any(there).then(|| found("zfs", "member of a pool".into()))
}

/// Where ext2 to ext4 keep copies of the superblock with sparse_super: groups 1, 3, 5, 7, 9 of 8 × block size blocks
/// (kernel, Documentation/filesystems/ext4/super.rst). Address, block size in powers of two above 1 KiB, group.
fn ext_backups() -> impl Iterator<Item = (u64, u32, u16)> {
    (0u32..3).flat_map(|log| {
        let block = 1024u64 << log;
        [1u16, 3, 5, 7, 9].map(|group| {
            let first = u64::from(log == 0);
            ((u64::from(group) * 8 * block + first) * block, log, group)
        })
    })
}

fn ext_backup(looked: &Looked) -> Option<Signature> {
    ext_backups()
        .find(|(at, log, group)| {
            let s = looked.from(*at);
            s.len() >= 256 && u16_at(s, 56) == 0xef53 && u32_at(s, 24) == *log && u16_at(s, 90) == *group
        })
        .map(|(at, ..)| {
            let (name, label) = ext_names(looked.from(at));
            found(name, format!("{label}, by its backup at {}", Bytes::new(at).binary()))
        })
}

/// Where XFS keeps the superblock of its second allocation group: groups are the device cut in so many equal parts, or
/// 1 TiB long (mkfs.xfs(8)), in whole blocks.
fn xfs_backups(capacity: u64) -> impl Iterator<Item = u64> {
    let cut = [2u64, 4, 8, 16, 32, 64].into_iter().flat_map(move |parts| {
        [512u64, 1024, 4096].into_iter().flat_map(move |block| {
            let blocks = capacity / block;
            // A partition's last blocks may be left over; the part is rounded up or down.
            [blocks / parts, blocks.div_ceil(parts)].map(|b| b * block)
        })
    });
    cut.chain([1 << 40, (1 << 40) - 4096]).filter(|at| *at > 0)
}

fn xfs_backup(looked: &Looked) -> Option<Signature> {
    let at = xfs_backups(looked.capacity).find(|at| looked.has(*at, b"XFSB"))?;
    Some(found("xfs", format!("{}, by its second superblock", label(looked.from(at), 108, 12))))
}

/// Names all that is found, in the order of how much it tells.
#[must_use]
pub fn detect(looked: &Looked) -> Vec<Signature> {
    let head = looked.from(0);
    let capacity = Bytes::new(looked.capacity);
    let tail = looked.stretches.last().map_or(&[][..], |(_, bytes)| bytes);
    let mut all = Vec::new();
    all.extend(gpt(head, tail));
    all.extend(mbr(head));
    all.extend(ext(head));
    all.extend(sun(head));
    all.extend(fat(head));
    if has(head, 0, b"XFSB") {
        all.push(found("xfs", label(head, 108, 12)));
    }
    if has(head, 65536 + 64, b"_BHRfS_M") {
        all.push(found("btrfs", label(head, 65536 + 299, 256)));
    }
    all.extend(swap(head));
    all.extend(lvm(head));
    all.extend(md(head, tail, capacity));
    all.extend(zfs(looked));
    for row in list::ROWS {
        if row.place.on(looked.capacity).is_some_and(|at| looked.has(at, row.mark)) {
            all.push(found(row.name, row.detail.into()));
        }
    }
    all.extend(ext_backup(looked));
    all.extend(xfs_backup(looked));
    // What was found by its first mark is not told again by its copies.
    let mut seen: Vec<String> = Vec::new();
    all.retain(|s: &Signature| {
        let family = if s.name.starts_with("ext") && s.name.len() == 4 { "ext" } else { s.name.as_str() };
        let new = !seen.iter().any(|n| n == family);
        if new {
            seen.push(family.to_owned());
        }
        new
    });
    all
}
