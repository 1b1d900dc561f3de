//! Marks that need no more than a look at one place each. Sources: the on-disk formats as their projects and the Linux
//! kernel document them (fs/*/, drivers/md/), and for partition labels the headers of the systems that define them.

use super::Place::{self, Back, BackFrom, Start};

/// One mark: whose it is, where it lies, which bytes.
pub(super) struct Row {
    /// The short name, by which it is given up.
    pub name: &'static str,
    /// Where it lies.
    pub place: Place,
    /// The bytes.
    pub mark: &'static [u8],
    /// What is to be said when it was found there and nowhere else.
    pub detail: &'static str,
}

const fn row(name: &'static str, place: Place, mark: &'static [u8]) -> Row {
    Row { name, place, mark, detail: "" }
}

const fn second(name: &'static str, place: Place, mark: &'static [u8], detail: &'static str) -> Row {
    Row { name, place, mark, detail }
}

const LUKS: &[u8] = b"LUKS\xba\xbe";
/// The second header of LUKS2 has its mark turned round (LUKS2 On-Disk Format, 2.1), at a distance that is the size of
/// the first.
const LUKS_SECOND: &[u8] = b"SKUL\xba\xbe";
const LUKS_WORDS: &str = "by its second header";
const BTRFS: &[u8] = b"_BHRfS_M";
const HIBERNATION: &str = "a machine sleeps on it";
const STRATIS: &[u8] = b"!Stra0tis\x86\xff\x02^\x41rh";
const BACKUP: &str = "by its backup";
const UFS2: &[u8] = &[0x19, 0x01, 0x54, 0x19];
const PROMISE: &[u8] = b"Promise Technology, Inc.";

/// All of them.
pub(super) const ROWS: &[Row] = &[
    // Encryption and layers.
    row("luks", Start(0), LUKS),
    second("luks", Start(0x4000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x8000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x1_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x2_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x4_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x8_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x10_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x20_0000), LUKS_SECOND, LUKS_WORDS),
    second("luks", Start(0x40_0000), LUKS_SECOND, LUKS_WORDS),
    row("bitlocker", Start(3), b"-FVE-FS-"),
    row("bluestore", Start(0), b"bluestore block device"),
    row("integrity", Start(0), b"integrt\0"),
    row("verity", Start(0), b"verity\0\0"),
    row("vdo", Start(0), b"dmvdo001"),
    row("snapshot-cow", Start(0), b"SnAp"),
    row("bcache", Start(4096 + 24), &[0xc6, 0x85, 0x73, 0xf6, 0x4e, 0x1a, 0x45, 0xca]),
    row("bcachefs", Start(4096 + 24), &[0xc6, 0x85, 0x73, 0xf6, 0x66, 0xce, 0x90, 0xa9]),
    row("stratis", Start(512 + 4), STRATIS),
    second("stratis", Start(9 * 512 + 4), STRATIS, BACKUP),
    row("lvm1", Start(0), b"HM\x01\0"),
    row("lvm1", Start(0), b"HM\x02\0"),
    row("asm", Start(32), b"ORCLDISK"),
    row("drbd", BackFrom(4096, 4096 - 60), &[0x83, 0x74, 0x02, 0x6b]),
    row("drbd", BackFrom(4096, 4096 - 60), &[0x83, 0x74, 0x02, 0x6c]),
    row("drbd", BackFrom(4096, 4096 - 60), &[0x83, 0x74, 0x02, 0x6d]),
    // Sleep.
    second("hibernation", Start(4096 - 10), b"S1SUSPEND", HIBERNATION),
    second("hibernation", Start(4096 - 10), b"S2SUSPEND", HIBERNATION),
    second("hibernation", Start(4096 - 10), b"ULSUSPEND", HIBERNATION),
    second("hibernation", Start(4096 - 10), b"LINHIB0001", HIBERNATION),
    second("hibernation", Start(65536 - 10), b"S1SUSPEND", HIBERNATION),
    second("hibernation", Start(65536 - 10), b"LINHIB0001", HIBERNATION),
    // File systems.
    row("squashfs", Start(0), b"hsqs"),
    row("cramfs", Start(0), &[0x45, 0x3d, 0xcd, 0x28]),
    row("romfs", Start(0), b"-rom1fs-"),
    row("zonefs", Start(0), b"SFOZ"),
    row("apfs", Start(32), b"NXSB"),
    row("hfs", Start(1024), b"H+\0\x04"),
    row("hfs", Start(1024), b"HX\0\x05"),
    row("hfs", Start(1024), b"BD"),
    second("hfs", Back(1024), b"H+\0\x04", BACKUP),
    second("hfs", Back(1024), b"HX\0\x05", BACKUP),
    row("f2fs", Start(1024), &0xf2f5_2010_u32.to_le_bytes()),
    second("f2fs", Start(4096 + 1024), &0xf2f5_2010_u32.to_le_bytes(), BACKUP),
    row("erofs", Start(1024), &0xe0f5_e1e2_u32.to_le_bytes()),
    row("nilfs2", Start(1024), &[2, 0, 0, 0, 0, 0, 0x34, 0x34]),
    second("nilfs2", BackFrom(4096, 4096), &[2, 0, 0, 0, 0, 0, 0x34, 0x34], BACKUP),
    row("iso9660", Start(32769), b"CD001"),
    row("udf", Start(32769), b"BEA01"),
    row("udf", Start(32769 + 2048), b"BEA01"),
    row("udf", Start(32769 + 2048), b"NSR02"),
    row("udf", Start(32769 + 2048), b"NSR03"),
    row("jfs", Start(32768), b"JFS1"),
    row("reiserfs", Start(65536 + 52), b"ReIsEr"),
    row("reiserfs", Start(8192 + 52), b"ReIsEr"),
    row("reiser4", Start(65536), b"ReIsEr4"),
    second("btrfs", Start((64 << 20) + 64), BTRFS, "by its mirror at 64 MiB"),
    second("btrfs", Start((256 << 30) + 64), BTRFS, "by its mirror at 256 GiB"),
    row("gfs2", Start(65536), &[0x01, 0x16, 0x19, 0x70]),
    row("ocfs2", Start(2 * 512), b"OCFSV2"),
    row("ocfs2", Start(2 * 1024), b"OCFSV2"),
    row("ocfs2", Start(2 * 2048), b"OCFSV2"),
    row("ocfs2", Start(2 * 4096), b"OCFSV2"),
    row("refs", Start(0), b"\0\0\0ReFS\0"),
    row("ufs", Start(8192 + 0x55c), UFS2),
    row("ufs", Start(65536 + 0x55c), UFS2),
    row("ufs", Start(262_144 + 0x55c), UFS2),
    row("ufs", Start(8192 + 0x55c), &[0x54, 0x19, 0x01, 0]),
    row("vmfs", Start(1 << 20), &[0x0d, 0xd0, 0x01, 0xc0]),
    row("vmfs", Start(2 << 20), &[0x5e, 0xf1, 0xab, 0x2f]),
    second("exfat", Start(12 * 512 + 3), b"EXFAT   ", BACKUP),
    second("exfat", Start(12 * 1024 + 3), b"EXFAT   ", BACKUP),
    second("exfat", Start(12 * 2048 + 3), b"EXFAT   ", BACKUP),
    second("exfat", Start(12 * 4096 + 3), b"EXFAT   ", BACKUP),
    second("ntfs", Back(512 - 3), b"NTFS    ", "by the copy of its boot sector at the end"),
    second("ntfs", Back(4096 - 3), b"NTFS    ", "by the copy of its boot sector at the end"),
    second("fat", Start(6 * 512 + 82), b"FAT32   ", BACKUP),
    second("fat", Start(6 * 4096 + 82), b"FAT32   ", BACKUP),
    // Partition labels of other systems.
    row("bsd", Start(512), &0x8256_4557_u32.to_le_bytes()),
    row("bsd", Start(64), &0x8256_4557_u32.to_le_bytes()),
    row("sgi", Start(0), &0x0be5_a941_u32.to_be_bytes()),
    row("apple", Start(512), b"PM\0\0"),
    row("apple", Start(2048), b"PM\0\0"),
    // RAID of mainboards and controllers.
    row("imsm-raid", Back(1024), b"Intel Raid ISM Cfg Sig."),
    row("imsm-raid", Back(8192), b"Intel Raid ISM Cfg Sig."),
    row("ddf-raid", Back(512), &[0xde, 0x11, 0xde, 0x11]),
    row("ddf-raid", Back(257 * 512), &[0xde, 0x11, 0xde, 0x11]),
    row("adaptec-raid", Back(512), &[0x37, 0xfc, 0x4d, 0x1e]),
    row("highpoint-raid", Start(9 * 512 + 32), &0x5a78_16f0_u32.to_le_bytes()),
    row("highpoint-raid", Start(9 * 512 + 32), &0x5a78_16f3_u32.to_le_bytes()),
    row("highpoint-raid", Back(11 * 512), &0x5a78_16f3_u32.to_le_bytes()),
    row("highpoint-raid", Back(11 * 512), &0x5a78_16fd_u32.to_le_bytes()),
    row("jmicron-raid", Back(512), b"JM\0"),
    row("lsi-raid", Back(512), b"$XIDE$"),
    row("nvidia-raid", Back(1024), b"NVIDIA  "),
    row("silicon-raid", Back(512 - 0x60), &[0, 0, 0, 0x2f]),
    row("promise-raid", Back(63 * 512), PROMISE),
    row("promise-raid", Back(16 * 512), PROMISE),
    row("promise-raid", Back(255 * 512), PROMISE),
    row("promise-raid", Back(256 * 512), PROMISE),
    row("promise-raid", Back(399 * 512), PROMISE),
    row("promise-raid", Back(591 * 512), PROMISE),
    row("promise-raid", Back(675 * 512), PROMISE),
    row("promise-raid", Back(735 * 512), PROMISE),
    row("promise-raid", Back(911 * 512), PROMISE),
    row("promise-raid", Back(951 * 512), PROMISE),
    row("promise-raid", Back(974 * 512), PROMISE),
    row("promise-raid", Back(991 * 512), PROMISE),
    row("promise-raid", Back(3087 * 512), PROMISE),
];
