//! What the cells wrote: NVMe Endurance Group Information, and the health log of the Open Compute Project.
//!
//! Offsets after the NVM Express Base Specification 2.0 (Endurance Group Information, 5.16.1.10; Supported Log Pages, 5.16.1.1) and the
//! OCP Datacenter NVMe SSD Specification 2.0 (SMART / Health Information Extended, C0h).

use serde::{Deserialize, Serialize};

use super::{PageError, filled, page, u16_at, u32_at, u64_at, u128_at};
use crate::quantity::units::Bytes;

/// A count of the media, with the step in which it moves.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct MediaWritten {
    /// Bytes written to the media over the life of the drive, for hosts and for the drive's own housekeeping.
    pub bytes: Bytes,
    /// It moves in steps of so much.
    pub step: Bytes,
}

/// Endurance Group Information (Log Identifier 09h).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct EnduranceGroup {
    /// Critical Warning bits of the group.
    pub critical_warning: u8,
    /// Available Spare, percent.
    pub available_spare: u8,
    /// Percentage Used.
    pub percentage_used: u8,
    /// Endurance Estimate: bytes that may be written in all; `None` where it is not reported.
    pub endurance_estimate: Option<Bytes>,
    /// Data Units Written by hosts, bytes; a unit is 10^9 bytes, rounded up.
    pub host_written: Bytes,
    /// Media Units Written; `None` where the group does not count them.
    pub media_written: Option<MediaWritten>,
    /// Media and Data Integrity Errors.
    pub media_errors: u64,
}

impl EnduranceGroup {
    /// Bytes of the log page.
    pub const LENGTH: usize = 512;

    /// Decodes the log page.
    ///
    /// # Errors
    /// When it is short, blank, or holds a spare of more than 100 %.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "Endurance Group Information";
        const UNIT: u64 = 1_000_000_000;
        let b = filled(NAME, bytes, Self::LENGTH)?;
        if b[3] > 100 {
            return Err(PageError::Nonsense { page: NAME, why: format!("an available spare of {} %", b[3]) });
        }
        let units = |at: usize| Bytes::new(u128_at(b, at).saturating_mul(UNIT));
        let some = |bytes: Bytes| (bytes > Bytes::ZERO).then_some(bytes);
        Ok(Self {
            critical_warning: b[0],
            available_spare: b[3],
            percentage_used: b[5],
            endurance_estimate: some(units(32)),
            host_written: units(64),
            media_written: some(units(80)).map(|bytes| MediaWritten { bytes, step: Bytes::new(UNIT) }),
            media_errors: u128_at(b, 128),
        })
    }
}

/// SMART / Health Information Extended of the Open Compute Project (Log Identifier C0h, a number that vendors may use otherwise).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OcpHealth {
    /// Physical Media Units Written, bytes.
    pub media_written: MediaWritten,
    /// Physical Media Units Read, bytes.
    pub media_read: Bytes,
    /// Blocks of the user's part that are out of use, raw count.
    pub retired: u64,
    /// Soft ECC Error Count: reads that the drive corrected.
    pub soft_corrections: u64,
    /// PCIe Correctable Error Count.
    pub pcie_corrections: u64,
    /// Incomplete Shutdowns.
    pub incomplete_shutdowns: u32,
    /// Free blocks, percent.
    pub free_blocks: u8,
}

impl OcpHealth {
    /// Bytes of the log page.
    pub const LENGTH: usize = 512;
    /// Log Page GUID, AFD514C9-7C6F-4F9C-A4F2-BFEA2810AFC5, as the page stores it: its last byte first.
    const GUID: u128 = 0xAFD5_14C9_7C6F_4F9C_A4F2_BFEA_2810_AFC5;

    /// Decodes the log page.
    ///
    /// # Errors
    /// When it is short or blank, or its GUID is another: then the page is something else of its vendor, and nothing of it is told.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "SMART / Health Information Extended (C0h)";
        let b = filled(NAME, bytes, Self::LENGTH)?;
        let guid = b[496..512].iter().rev().fold(0u128, |all, byte| all << 8 | u128::from(*byte));
        if guid != Self::GUID {
            return Err(PageError::Nonsense { page: NAME, why: format!("its GUID is {guid:032X}") });
        }
        // Six bytes of a raw count, two of a normalised one.
        let raw = |at: usize| u64_at(b, at) & 0xffff_ffff_ffff;
        Ok(Self {
            media_written: MediaWritten { bytes: Bytes::new(u128_at(b, 0)), step: Bytes::new(1) },
            media_read: Bytes::new(u128_at(b, 16)),
            retired: raw(32),
            soft_corrections: u64_at(b, 64),
            pcie_corrections: u64_at(b, 104),
            incomplete_shutdowns: u32_at(b, 112),
            free_blocks: b[120],
        })
    }
}

/// Bytes of Supported Log Pages (Log Identifier 00h).
pub const SUPPORTED_LOG_PAGES_LENGTH: usize = 1024;

/// Whether a log page is there, by Supported Log Pages.
///
/// # Errors
/// When the page is short.
pub fn has_log_page(bytes: &[u8], log: u8) -> Result<bool, PageError> {
    let b = page("Supported Log Pages", bytes, SUPPORTED_LOG_PAGES_LENGTH)?;
    Ok(u32_at(b, usize::from(log) * 4) & 1 != 0)
}

/// Endurance groups are there (Identify Controller, CTRATT bit 4).
///
/// # Errors
/// When the structure is short.
pub fn has_endurance_groups(controller: &[u8]) -> Result<bool, PageError> {
    Ok(u32_at(page("Identify Controller", controller, 4096)?, 96) & 1 << 4 != 0)
}

/// The endurance group of a namespace (Identify Namespace, ENDGID); `None` where it has none.
///
/// # Errors
/// When the structure is short.
pub fn endurance_group_of(namespace: &[u8]) -> Result<Option<u16>, PageError> {
    let group = u16_at(page("Identify Namespace", namespace, 4096)?, 102);
    Ok((group > 0).then_some(group))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_endurance_group_is_read_field_by_field() {
        let mut b = vec![0u8; 512];
        (b[0], b[3], b[4], b[5]) = (1, 98, 10, 7);
        b[32..34].copy_from_slice(&600u16.to_le_bytes());
        b[64..68].copy_from_slice(&40_000u32.to_le_bytes());
        b[80..84].copy_from_slice(&72_000u32.to_le_bytes());
        b[128] = 3;
        let group = EnduranceGroup::decode(&b).unwrap();
        assert_eq!(group.endurance_estimate, Some(Bytes::from_gb(600)));
        assert_eq!(group.host_written, Bytes::from_gb(40_000));
        let media = MediaWritten { bytes: Bytes::from_gb(72_000), step: Bytes::from_gb(1) };
        assert_eq!((group.media_written, group.media_errors, group.percentage_used), (Some(media), 3, 7));
        b[80..96].fill(0);
        assert_eq!(EnduranceGroup::decode(&b).unwrap().media_written, None, "units of nought are none");
        b[3] = 101;
        assert!(EnduranceGroup::decode(&b).unwrap_err().to_string().contains("spare of 101 %"));
        assert!(EnduranceGroup::decode(&[0; 512]).is_err() && EnduranceGroup::decode(&b[..100]).is_err());
    }

    fn ocp() -> Vec<u8> {
        let mut b = vec![0u8; 512];
        b[0..8].copy_from_slice(&1_234_567_890_123u64.to_le_bytes());
        b[16..24].copy_from_slice(&77u64.to_le_bytes());
        // A raw count of five, beside a normalised one of 99.
        b[32..40].copy_from_slice(&(99u64 << 48 | 5).to_le_bytes());
        b[64] = 9;
        b[104] = 4;
        b[112] = 2;
        b[120] = 88;
        // Written out by hand from the end of the GUID to its beginning.
        b[496..512].copy_from_slice(&[
            0xc5, 0xaf, 0x10, 0x28, 0xea, 0xbf, 0xf2, 0xa4, 0x9c, 0x4f, 0x6f, 0x7c, 0xc9, 0x14, 0xd5, 0xaf,
        ]);
        b
    }

    #[test]
    fn the_open_health_log_is_known_by_its_guid_alone() {
        let log = OcpHealth::decode(&ocp()).unwrap();
        assert_eq!(log.media_written.bytes, Bytes::new(1_234_567_890_123));
        assert_eq!((log.media_read.get(), log.retired, log.soft_corrections), (77, 5, 9));
        assert_eq!((log.pcie_corrections, log.incomplete_shutdowns, log.free_blocks), (4, 2, 88));
        let mut other = ocp();
        other[500] ^= 1;
        assert!(OcpHealth::decode(&other).unwrap_err().to_string().contains("GUID"));
    }

    #[test]
    fn which_pages_and_groups_there_are() {
        let mut pages = vec![0u8; 1024];
        pages[0xc0 * 4] = 1;
        assert!(has_log_page(&pages, 0xc0).unwrap() && !has_log_page(&pages, 9).unwrap());
        assert!(has_log_page(&pages[..512], 9).is_err());
        let mut identify = vec![0u8; 4096];
        assert!(!has_endurance_groups(&identify).unwrap());
        assert_eq!(endurance_group_of(&identify).unwrap(), None);
        identify[96] = 1 << 4;
        identify[102] = 2;
        assert!(has_endurance_groups(&identify).unwrap());
        assert_eq!(endurance_group_of(&identify).unwrap(), Some(2));
    }

    proptest! {
        #[test]
        fn garbage_is_an_error_or_a_page_and_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..1100)) {
            let _ = EnduranceGroup::decode(&bytes);
            let _ = OcpHealth::decode(&bytes);
            let _ = has_log_page(&bytes, 0xff);
        }
    }
}
