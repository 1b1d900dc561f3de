//! Marks on made-up devices: every row of the list at its own place, copies without their first mark, near misses.

use super::*;
use proptest::prelude::*;

/// A device with these bytes on it, and zeroes elsewhere.
fn device(capacity: u64, marks: &[(u64, &[u8])]) -> Looked {
    let mut looked = Looked::new(Bytes::new(capacity));
    for range in places(Bytes::new(capacity)) {
        let mut bytes = vec![0u8; (range.end - range.start) as usize];
        for (at, mark) in marks {
            for (i, b) in mark.iter().enumerate().filter(|(i, _)| range.contains(&(at + *i as u64))) {
                bytes[(at - range.start) as usize + i] = *b;
            }
        }
        looked.add(range.start, bytes);
    }
    looked
}

fn names(capacity: u64, marks: &[(u64, &[u8])]) -> Vec<String> {
    detect(&device(capacity, marks)).into_iter().map(|s| s.name).collect()
}

const GB: u64 = 1_000_000_000;

#[test]
fn a_partition_table_is_told_with_its_partitions() {
    for block in [512u64, 4096] {
        let name: Vec<u8> = "sonar\u{1b}".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let marks: [(u64, &[u8]); 11] = [
            (510, &[0x55, 0xaa]),
            (446 + 4, &[0xee]),
            (446 + 12, &[1]),
            (block, b"EFI PART"),
            (block + 72, &2u64.to_le_bytes()),
            (block + 80, &128u32.to_le_bytes()),
            (block + 84, &128u32.to_le_bytes()),
            (block * 2, &[7]),
            (block * 2 + 32, &2048u64.to_le_bytes()),
            (block * 2 + 40, &(2048u64 + 999_999).to_le_bytes()),
            (block * 2 + 56, &name),
        ];
        let size = Bytes::new(1_000_000 * block);
        let told = detect(&device(GB, &marks));
        assert_eq!(told, vec![found("gpt", format!("1 partition: \"sonar\" {size}"))]);
    }
    assert_eq!(names(GB, &[(GB - 512, b"EFI PART")]), ["gpt"]);
}

#[test]
fn file_systems_and_members_are_told() {
    const UBERBLOCK: &[u8] = &[0x0c, 0xb1, 0xba, 0, 0, 0, 0, 0];
    let zfs_end = GB / (256 << 10) * (256 << 10);
    let md_90 = (GB & !0xffff) - 0x1_0000;
    type Mark = (u64, &'static [u8]);
    let cases: [(&str, &[Mark]); 19] = [
        ("ext4", &[(1024 + 56, &[0x53, 0xef]), (1024 + 96, &[0x40])]),
        ("ext3", &[(1024 + 56, &[0x53, 0xef]), (1024 + 92, &[4])]),
        ("ext2", &[(1024 + 56, &[0x53, 0xef])]),
        ("journal", &[(1024 + 56, &[0x53, 0xef]), (1024 + 96, &[8])]),
        ("xfs", &[(0, b"XFSB")]),
        ("btrfs", &[(65536 + 64, b"_BHRfS_M")]),
        ("ntfs", &[(3, b"NTFS    ")]),
        ("exfat", &[(3, b"EXFAT   ")]),
        ("fat", &[(510, &[0x55, 0xaa]), (82, b"FAT32")]),
        ("swap", &[(4086, b"SWAPSPACE2")]),
        ("lvm2", &[(512, b"LABELONE"), (536, b"LVM2 001")]),
        ("md-raid", &[(4096, &MD), (4100, &[1])]),
        ("md-raid", &[(md_90, &MD)]),
        ("zfs", &[(128 * 1024 + 4096, UBERBLOCK)]),
        ("zfs", &[(384 * 1024 + 2048, UBERBLOCK)]),
        ("zfs", &[(zfs_end - 384 * 1024, UBERBLOCK)]),
        ("zfs", &[(zfs_end - 128 * 1024 + 1024, UBERBLOCK)]),
        ("mbr", &[(510, &[0x55, 0xaa]), (446 + 4, &[0x83]), (446 + 12, &[9])]),
        ("sun", &[(508, &[0xda, 0xbe, 0xda, 0xbe])]),
    ];
    for (name, marks) in cases {
        assert_eq!(names(GB, marks), [name], "{marks:?}");
    }
}

#[test]
fn every_row_of_the_list_is_found_at_its_place_on_small_and_large_devices() {
    let mut found = 0;
    for row in list::ROWS {
        for capacity in [5_000_000u64, GB, 600 * GB, 8_000 * GB] {
            let Some(at) = row.place.on(capacity).filter(|at| at + 4096 <= capacity || at + 64 <= capacity)
            else {
                continue;
            };
            let all = names(capacity, &[(at, row.mark)]);
            assert_eq!(all, [row.name], "{} at {:?} of {capacity}", row.name, row.place);
            let mut broken = row.mark.to_vec();
            broken[row.mark.len() / 2] ^= 0x40;
            assert!(!names(capacity, &[(at, &broken)]).contains(&row.name.to_owned()), "{} broken", row.name);
            found += 1;
        }
    }
    assert!(found > 300, "{found}");
}

#[test]
fn what_lost_its_first_mark_is_told_by_its_copies() {
    // ext4 of 4 KiB blocks: its first copy lies in group 1, at 128 MiB.
    let backup: u64 = 32768 * 4096;
    let marks: [(u64, &[u8]); 4] = [
        (backup + 24, &2u32.to_le_bytes()),
        (backup + 56, &[0x53, 0xef]),
        (backup + 90, &1u16.to_le_bytes()),
        (backup + 96, &[0x40]),
    ];
    let all = detect(&device(GB, &marks));
    assert_eq!(all, vec![found("ext4", "no label, by its backup at 128 MiB".into())]);
    // A copy that says another group is no copy of this place.
    assert_eq!(names(GB, &[marks[0], marks[1], (backup + 90, &[2])]), Vec::<String>::new());
    // XFS of four groups on 1,000,001,536 B: a group is a quarter of its 4 KiB blocks, rounded up.
    let capacity: u64 = 1_000_001_536;
    let group = (capacity / 4096).div_ceil(4) * 4096;
    assert_eq!(names(capacity, &[(group, b"XFSB")]), ["xfs"]);
}

#[test]
fn labels_are_shown_and_an_empty_drive_has_nothing() {
    let all = detect(&device(GB, &[(1024 + 56, &[0x53, 0xef]), (1024 + 120, b"soundings\0old")]));
    assert_eq!(all[0].detail, "label \"soundings\"");
    for capacity in [0, 1, 512, 4096, 3_000_000, GB] {
        assert!(names(capacity, &[]).is_empty());
        let mut full = Looked::new(Bytes::new(capacity));
        for range in places(Bytes::new(capacity)) {
            full.add(range.start, vec![0xff; (range.end - range.start) as usize]);
        }
        assert!(detect(&full).is_empty());
    }
}

proptest! {
    #[test]
    fn no_bytes_make_it_panic(
        seed in proptest::collection::vec(any::<u8>(), 0..300),
        at in 0u64..5000,
        length in 0usize..9000,
        capacity in any::<u64>(),
        gpt in any::<bool>(),
    ) {
        let mut looked = Looked::new(Bytes::new(capacity));
        let mut head = vec![0u8; length];
        for (i, b) in seed.iter().enumerate() {
            if let Some(x) = head.get_mut(at as usize + i) {
                *x = *b;
            }
        }
        if gpt && head.len() > 520 {
            head[512..520].copy_from_slice(b"EFI PART");
        }
        looked.add(0, head.clone());
        looked.add(at, head);
        let _ = detect(&looked);
    }

    #[test]
    fn what_is_read_lies_on_the_device_and_stays_small(capacity in 1u64..1 << 50) {
        let all = places(Bytes::new(capacity));
        prop_assert!(all.iter().all(|r| r.start < r.end && r.end <= capacity));
        prop_assert!(all.windows(2).all(|w| w[0].end <= w[1].start));
        prop_assert!(all.iter().map(|r| r.end - r.start).sum::<u64>() <= 4 << 20);
    }
}
