//! What lies on a device: partition tables, file systems, RAID, LVM and encryption, told by the marks that their on-disk
//! formats define. Asked before anything is overwritten, so it rather names one too many than one too few.

use serde::{Deserialize, Serialize};

use super::{text, u16_at, u32_at, u64_at};
use crate::units::Bytes;

/// Bytes of the head of a device that are looked at: the marks that lie deepest are those of ZFS, in its first label.
pub const HEAD: usize = 256 * 1024;
/// Bytes of the tail: RAID marks and the second partition table.
pub const TAIL: usize = 192 * 1024;

/// One thing that was found.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Signature {
    /// Its short name, by which it is given up: `gpt`, `ext4`, `lvm2`.
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

fn ext(head: &[u8]) -> Option<Signature> {
    const SUPER: usize = 1024;
    if u16_at(head, SUPER + 56) != 0xef53 {
        return None;
    }
    // Journal in the compatible features; extents or 64 bit in the incompatible ones make it ext4.
    let (compatible, incompatible) = (u32_at(head, SUPER + 92), u32_at(head, SUPER + 96));
    let name = match (incompatible & 0x2c0 != 0, compatible & 4 != 0) {
        (true, _) => "ext4",
        (false, true) => "ext3",
        (false, false) => "ext2",
    };
    Some(found(name, label(head, SUPER + 120, 16)))
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

/// RAID of mainboards and controllers: at the very end, in the last or last but one sector.
fn firmware_raid(tail: &[u8]) -> Option<Signature> {
    let n = tail.len();
    if n >= 1024 && has(tail, n - 1024, b"Intel Raid ISM Cfg Sig.") {
        return Some(found("imsm-raid", String::new()));
    }
    (n >= 512 && has(tail, n - 512, &[0xde, 0x11, 0xde, 0x11])).then(|| found("ddf-raid", String::new()))
}

/// ZFS: uberblocks from 128 KiB on in the first label, one each KiB at least.
fn zfs(head: &[u8]) -> Option<Signature> {
    const MAGIC: u64 = 0x00ba_b10c;
    (128 * 1024..HEAD.min(head.len()))
        .step_by(1024)
        .any(|at| u64_at(head, at) == MAGIC || u64_at(head, at).swap_bytes() == MAGIC)
        .then(|| found("zfs", "member of a pool".into()))
}

/// Marks that need no more than a look at one place.
const PLAIN: [(&str, usize, &[u8]); 14] = [
    ("luks", 0, b"LUKS\xba\xbe"),
    ("bluestore", 0, b"bluestore block device"),
    ("squashfs", 0, b"hsqs"),
    ("integrity", 0, b"integrt\0"),
    ("vdo", 0, b"dmvdo001"),
    ("apfs", 32, b"NXSB"),
    ("hfs", 1024, b"H+"),
    ("hfs", 1024, b"HX"),
    ("f2fs", 1024, &0xf2f5_2010_u32.to_le_bytes()),
    ("erofs", 1024, &0xe0f5_e1e2_u32.to_le_bytes()),
    ("bcache", 4096 + 24, &[0xc6, 0x85, 0x73, 0xf6, 0x4e, 0x1a, 0x45, 0xca]),
    ("iso9660", 32769, b"CD001"),
    ("jfs", 32768, b"JFS1"),
    ("reiserfs", 65536 + 52, b"ReIsEr"),
];

/// Names all that is found, from the first [`HEAD`] and the last [`TAIL`] bytes of a device of this capacity (fewer, on
/// a small one).
#[must_use]
pub fn detect(head: &[u8], tail: &[u8], capacity: Bytes) -> Vec<Signature> {
    let mut all = Vec::new();
    all.extend(gpt(head, tail));
    all.extend(mbr(head));
    all.extend(ext(head));
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
    all.extend(firmware_raid(tail));
    all.extend(zfs(head));
    for (name, at, mark) in PLAIN {
        if has(head, at, mark) {
            all.push(found(name, String::new()));
        }
    }
    all.dedup_by(|a, b| a.name == b.name);
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn put(b: &mut [u8], at: usize, bytes: &[u8]) {
        b[at..at + bytes.len()].copy_from_slice(bytes);
    }

    fn names(head: &[u8], tail: &[u8]) -> Vec<String> {
        detect(head, tail, Bytes::from_gb(1)).into_iter().map(|s| s.name).collect()
    }

    #[test]
    fn a_partition_table_is_told_with_its_partitions() {
        for block in [512usize, 4096] {
            let mut head = vec![0u8; HEAD];
            put(&mut head, 510, &[0x55, 0xaa]);
            head[446 + 4] = 0xee;
            head[446 + 12] = 1;
            put(&mut head, block, b"EFI PART");
            put(&mut head, block + 72, &2u64.to_le_bytes());
            put(&mut head, block + 80, &128u32.to_le_bytes());
            put(&mut head, block + 84, &128u32.to_le_bytes());
            let entry = block * 2;
            head[entry] = 7;
            put(&mut head, entry + 32, &2048u64.to_le_bytes());
            put(&mut head, entry + 40, &(2048u64 + 999_999).to_le_bytes());
            let name: Vec<u8> = "sonar\u{1b}".encode_utf16().flat_map(u16::to_le_bytes).collect();
            put(&mut head, entry + 56, &name);
            let all = detect(&head, &[0; TAIL], Bytes::from_gb(1));
            let size = Bytes::new(1_000_000 * block as u64);
            assert_eq!(all, vec![found("gpt", format!("1 partition: \"sonar\" {size}"))]);
        }
        let mut tail = vec![0u8; TAIL];
        put(&mut tail, TAIL - 512, b"EFI PART");
        assert_eq!(names(&[0; HEAD], &tail), ["gpt"]);
    }

    #[test]
    fn file_systems_and_members_are_told() {
        type Mark = (usize, &'static [u8]);
        let cases: [(&str, &[Mark]); 12] = [
            ("ext4", &[(1024 + 56, &[0x53, 0xef]), (1024 + 96, &[0x40])]),
            ("ext2", &[(1024 + 56, &[0x53, 0xef])]),
            ("xfs", &[(0, b"XFSB")]),
            ("btrfs", &[(65536 + 64, b"_BHRfS_M")]),
            ("ntfs", &[(3, b"NTFS    ")]),
            ("fat", &[(510, &[0x55, 0xaa]), (82, b"FAT32")]),
            ("swap", &[(4086, b"SWAPSPACE2")]),
            ("lvm2", &[(512, b"LABELONE"), (536, b"LVM2 001")]),
            ("md-raid", &[(4096, &MD), (4100, &[1])]),
            ("zfs", &[(128 * 1024 + 4096, &[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0])]),
            ("luks", &[(0, b"LUKS\xba\xbe")]),
            ("mbr", &[(510, &[0x55, 0xaa]), (446 + 4, &[0x83]), (446 + 12, &[9])]),
        ];
        for (name, marks) in cases {
            let mut head = vec![0u8; HEAD];
            for (at, mark) in marks {
                put(&mut head, *at, mark);
            }
            assert_eq!(names(&head, &[0; TAIL]), [name]);
        }
        let mut tail = vec![0u8; TAIL];
        put(&mut tail, TAIL - 8192, &MD);
        let capacity = Bytes::new(1 << 30);
        assert_eq!(detect(&[0; HEAD], &tail, capacity)[0].name, "md-raid");
    }

    #[test]
    fn labels_are_shown_and_an_empty_drive_has_nothing() {
        let mut head = vec![0u8; HEAD];
        put(&mut head, 1024 + 56, &[0x53, 0xef]);
        put(&mut head, 1024 + 120, b"soundings\0old");
        assert_eq!(detect(&head, &[], Bytes::from_gb(1))[0].detail, "label \"soundings\"");
        assert!(names(&[0; HEAD], &[0; TAIL]).is_empty());
        assert!(names(&[0xff; HEAD], &[0xff; TAIL]).is_empty());
    }

    proptest! {
        #[test]
        fn no_bytes_make_it_panic(
            seed in proptest::collection::vec(any::<u8>(), 0..300),
            at in 0usize..5000,
            length in 0usize..9000,
            capacity in any::<u64>(),
        ) {
            let mut head = vec![0u8; length];
            for (i, b) in seed.iter().enumerate() {
                if let Some(x) = head.get_mut(at + i) {
                    *x = *b;
                }
            }
            if head.len() > 520 {
                put(&mut head, 512, b"EFI PART");
            }
            let _ = detect(&head, &head, Bytes::new(capacity));
        }
    }
}
