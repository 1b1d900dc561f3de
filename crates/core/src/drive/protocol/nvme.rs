//! NVM Express: Identify Controller and Namespace, SMART / Health Information, Error Information, Device Self-test.
//!
//! Field names and offsets after the NVM Express Base Specification 2.0 (log pages in section 5.16.1, Identify in
//! 5.17.2) and the NVM Command Set Specification 1.0 (Identify Namespace, 4.1.5.1).

use serde::{Deserialize, Serialize};

use super::{PageError, filled, page, text, u16_at, u32_at, u64_at, u128_at};
use crate::quantity::units::{Bytes, Celsius};

/// Kelvin, as NVMe reports them; 0 means "not reported". °C = K − 273 (Base 2.0, 5.16.1.3).
fn kelvin(value: u16) -> Option<Celsius> {
    // Below 200 K and above 500 K no drive answers: garbage.
    (200..500).contains(&value).then(|| Celsius::from_millis((i32::from(value) - 273) * 1000))
}

/// Identify Controller data structure (CNS 01h), the fields that matter here.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct IdentifyController {
    /// PCI Vendor ID (VID).
    pub vendor_id: u16,
    /// Serial Number (SN).
    pub serial_number: String,
    /// Model Number (MN).
    pub model_number: String,
    /// Firmware Revision (FR).
    pub firmware_revision: String,
    /// Maximum Data Transfer Size (MDTS) as a power of two of the minimum page; 0 is no limit.
    pub max_data_transfer: u8,
    /// Version (VER): major, minor, tertiary.
    pub version: (u16, u8, u8),
    /// Device Self-test command supported (OACS bit 4).
    pub self_test: bool,
    /// Error Log Page Entries (ELPE), made one-based.
    pub error_log_entries: u16,
    /// Warning Composite Temperature Threshold (WCTEMP).
    pub warning_temperature: Option<Celsius>,
    /// Critical Composite Temperature Threshold (CCTEMP).
    pub critical_temperature: Option<Celsius>,
    /// Total NVM Capacity (TNVMCAP), 0 where not reported.
    pub total_capacity: Bytes,
    /// Extended Device Self-test Time (EDSTT), minutes.
    pub extended_self_test_minutes: u16,
    /// Host Controlled Thermal Management supported (HCTMA bit 0).
    pub host_thermal_management: bool,
    /// Volatile Write Cache present (VWC bit 0).
    pub volatile_write_cache: bool,
    /// Dataset Management, and with it deallocation, supported (ONCS bit 2).
    pub dataset_management: bool,
}

impl IdentifyController {
    /// Bytes of the structure.
    pub const LENGTH: usize = 4096;

    /// Decodes the structure.
    ///
    /// # Errors
    /// When it is short, or blank.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        let b = filled("Identify Controller", bytes, Self::LENGTH)?;
        let version = u32_at(b, 80);
        Ok(Self {
            vendor_id: u16_at(b, 0),
            serial_number: text(&b[4..24]),
            model_number: text(&b[24..64]),
            firmware_revision: text(&b[64..72]),
            max_data_transfer: b[77],
            version: ((version >> 16) as u16, (version >> 8) as u8, version as u8),
            self_test: u16_at(b, 256) & 1 << 4 != 0,
            error_log_entries: u16::from(b[262]) + 1,
            warning_temperature: kelvin(u16_at(b, 266)),
            critical_temperature: kelvin(u16_at(b, 268)),
            total_capacity: Bytes::new(u128_at(b, 280)),
            extended_self_test_minutes: u16_at(b, 316),
            host_thermal_management: u16_at(b, 322) & 1 != 0,
            volatile_write_cache: b[525] & 1 != 0,
            dataset_management: u16_at(b, 520) & 1 << 2 != 0,
        })
    }
}

/// Identify Namespace data structure (CNS 00h), the fields that matter here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct IdentifyNamespace {
    /// Namespace Size (NSZE).
    pub size: Bytes,
    /// Namespace Capacity (NCAP).
    pub capacity: Bytes,
    /// Namespace Utilization (NUSE): what is allocated now.
    pub utilization: Bytes,
    /// Bytes of a logical block, from the LBA format in use (FLBAS, LBADS).
    pub block: Bytes,
    /// Metadata bytes that travel with every block (MS); 8 makes 512 into 520.
    pub metadata: u16,
    /// Thin provisioning supported (NSFEAT bit 0): only then does the utilization move.
    pub thin: bool,
}

impl IdentifyNamespace {
    /// Bytes of the structure.
    pub const LENGTH: usize = 4096;

    /// Decodes the structure.
    ///
    /// # Errors
    /// When it is short or blank, or its format in use is not one of its formats.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "Identify Namespace";
        let b = filled(NAME, bytes, Self::LENGTH)?;
        let flbas = b[26];
        let format = usize::from(flbas & 0x0f) | usize::from(flbas >> 5 & 3) << 4;
        let lbaf = u32_at(b, 128 + format * 4);
        let data_size = (lbaf >> 16) as u8;
        let nonsense = |why: String| PageError::Nonsense { page: NAME, why };
        if format > usize::from(b[25]) {
            return Err(nonsense(format!(
                "LBA format {format} is in use, and there are {}",
                u16::from(b[25]) + 1
            )));
        }
        if !(9..=16).contains(&data_size) {
            return Err(nonsense(format!("a block of 2^{data_size} bytes")));
        }
        let block = 1u64 << data_size;
        let blocks = |at: usize| {
            u64_at(b, at)
                .checked_mul(block)
                .map(Bytes::new)
                .ok_or_else(|| nonsense(format!("{} blocks of {block} B", u64_at(b, at))))
        };
        Ok(Self {
            size: blocks(0)?,
            capacity: blocks(8)?,
            utilization: blocks(16)?,
            block: Bytes::new(block),
            metadata: lbaf as u16,
            thin: b[24] & 1 != 0,
        })
    }
}

/// Bits of the Critical Warning field (Base 2.0, figure 207), in words.
#[must_use]
pub fn critical_warning_words(bits: u8) -> Vec<&'static str> {
    [
        "available spare is below its threshold",
        "a temperature is beyond its threshold",
        "NVM subsystem reliability is degraded",
        "the media is in read-only mode",
        "the volatile memory backup has failed",
        "the persistent memory region is read-only or unreliable",
    ]
    .into_iter()
    .enumerate()
    .filter(|(bit, _)| bits & 1 << bit != 0)
    .map(|(_, words)| words)
    .collect()
}

/// SMART / Health Information (Log Identifier 02h).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SmartLog {
    /// Critical Warning, bits as in [`critical_warning_words`].
    pub critical_warning: u8,
    /// Composite Temperature.
    pub composite_temperature: Option<Celsius>,
    /// Available Spare, percent.
    pub available_spare: u8,
    /// Available Spare Threshold, percent.
    pub available_spare_threshold: u8,
    /// Percentage Used; 255 means 255 or more.
    pub percentage_used: u8,
    /// Data Units Read, in bytes (a unit is 1,000 × 512 B).
    pub data_read: Bytes,
    /// Data Units Written, in bytes.
    pub data_written: Bytes,
    /// Host Read Commands.
    pub host_read_commands: u64,
    /// Host Write Commands.
    pub host_write_commands: u64,
    /// Controller Busy Time, minutes.
    pub controller_busy_minutes: u64,
    /// Power Cycles.
    pub power_cycles: u64,
    /// Power On Hours.
    pub power_on_hours: u64,
    /// Unsafe Shutdowns.
    pub unsafe_shutdowns: u64,
    /// Media and Data Integrity Errors.
    pub media_errors: u64,
    /// Number of Error Information Log Entries over the life of the controller.
    pub error_log_entries: u64,
    /// Warning Composite Temperature Time, minutes.
    pub warning_temperature_minutes: u32,
    /// Critical Composite Temperature Time, minutes.
    pub critical_temperature_minutes: u32,
    /// Temperature Sensors 1 to 8, those that are there.
    pub sensors: Vec<(u8, Celsius)>,
    /// Thermal Management Temperature 1 and 2 Transition Count.
    pub thermal_transitions: [u32; 2],
    /// Total Time For Thermal Management Temperature 1 and 2, seconds.
    pub thermal_seconds: [u32; 2],
}

impl SmartLog {
    /// Bytes of the log page.
    pub const LENGTH: usize = 512;

    /// Decodes the log page.
    ///
    /// # Errors
    /// When it is short, blank, or holds a spare of more than 100 %.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "SMART / Health Information";
        let b = filled(NAME, bytes, Self::LENGTH)?;
        if b[3] > 100 {
            return Err(PageError::Nonsense { page: NAME, why: format!("an available spare of {} %", b[3]) });
        }
        let units = |at: usize| Bytes::new(u128_at(b, at).saturating_mul(512_000));
        Ok(Self {
            critical_warning: b[0],
            composite_temperature: kelvin(u16_at(b, 1)),
            available_spare: b[3],
            available_spare_threshold: b[4],
            percentage_used: b[5],
            data_read: units(32),
            data_written: units(48),
            host_read_commands: u128_at(b, 64),
            host_write_commands: u128_at(b, 80),
            controller_busy_minutes: u128_at(b, 96),
            power_cycles: u128_at(b, 112),
            power_on_hours: u128_at(b, 128),
            unsafe_shutdowns: u128_at(b, 144),
            media_errors: u128_at(b, 160),
            error_log_entries: u128_at(b, 176),
            warning_temperature_minutes: u32_at(b, 192),
            critical_temperature_minutes: u32_at(b, 196),
            sensors: (0..8u8)
                .filter_map(|i| Some((i + 1, kelvin(u16_at(b, 200 + usize::from(i) * 2))?)))
                .collect(),
            thermal_transitions: [u32_at(b, 216), u32_at(b, 220)],
            thermal_seconds: [u32_at(b, 224), u32_at(b, 228)],
        })
    }
}

/// One entry of Error Information (Log Identifier 01h).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErrorEntry {
    /// Error Count: unique, growing over the life of the controller.
    pub error_count: u64,
    /// Submission Queue ID.
    pub queue: u16,
    /// Command ID.
    pub command: u16,
    /// Status Code Type of the Status Field.
    pub status_code_type: u8,
    /// Status Code of the Status Field.
    pub status_code: u8,
    /// First logical block that had the error.
    pub lba: u64,
    /// Namespace.
    pub namespace: u32,
}

/// Bytes of one entry of Error Information.
pub const ERROR_ENTRY_LENGTH: usize = 64;

/// Decodes Error Information; entries that were never used are left out, as are trailing bytes.
#[must_use]
pub fn decode_error_log(bytes: &[u8]) -> Vec<ErrorEntry> {
    bytes
        .chunks_exact(ERROR_ENTRY_LENGTH)
        .filter(|e| u64_at(e, 0) != 0 && e.iter().any(|b| *b != 0xff))
        .map(|e| {
            // Bit 0 is the phase tag: the status lies in bits 15:1 (Base 2.0, figure 206).
            let status = u16_at(e, 12) >> 1;
            ErrorEntry {
                error_count: u64_at(e, 0),
                queue: u16_at(e, 8),
                command: u16_at(e, 10),
                status_code_type: (status >> 8 & 7) as u8,
                status_code: status as u8,
                lba: u64_at(e, 16),
                namespace: u32_at(e, 24),
            }
        })
        .collect()
}

/// Which self-test, in the words of both standards.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SelfTestKind {
    /// Minutes at most.
    Short,
    /// Up to hours; may read the whole media.
    Extended,
    /// Another, by its code.
    #[serde(untagged)]
    Other(u8),
}

impl SelfTestKind {
    /// In words.
    #[must_use]
    pub fn words(self) -> String {
        match self {
            Self::Short => "short".into(),
            Self::Extended => "extended".into(),
            Self::Other(code) => format!("code {code:02X}h"),
        }
    }
}

/// How a self-test went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SelfTestResult {
    /// Which.
    pub kind: SelfTestKind,
    /// It completed and found nothing.
    pub passed: bool,
    /// In the standard's words.
    pub words: String,
    /// Power On Hours when it ended.
    pub power_on_hours: u64,
    /// First logical block that failed, where there is one.
    pub failing_lba: Option<u64>,
}

/// Device Self-test (Log Identifier 06h), or what an ATA drive tells of the same.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SelfTestLog {
    /// The one that runs now, with its percentage done.
    pub running: Option<(SelfTestKind, u8)>,
    /// Those that ended, newest first.
    pub results: Vec<SelfTestResult>,
}

const fn self_test_kind(code: u8) -> SelfTestKind {
    match code {
        1 => SelfTestKind::Short,
        2 => SelfTestKind::Extended,
        other => SelfTestKind::Other(other),
    }
}

/// Self-test results of the Device Self-test log (Base 2.0, figure 210).
const fn self_test_words(code: u8) -> &'static str {
    match code {
        0x0 => "completed without error",
        0x1 => "aborted by a command",
        0x2 => "aborted by a controller level reset",
        0x3 => "aborted: a namespace was removed",
        0x4 => "aborted by a format",
        0x5 => "ended by a fatal error or an unknown test error",
        0x6 => "completed: a segment failed, which one is not known",
        0x7 => "completed: one or more segments failed",
        0x8 => "aborted for an unknown reason",
        0x9 => "aborted by a sanitize operation",
        _ => "a result that the standard does not define",
    }
}

impl SelfTestLog {
    /// Bytes of the NVMe log page.
    pub const LENGTH: usize = 564;

    /// Decodes the NVMe log page.
    ///
    /// # Errors
    /// When it is short.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        let b = page("Device Self-test log", bytes, Self::LENGTH)?;
        let operation = b[0] & 0x0f;
        let running =
            (operation != 0 && b[0] != 0xff).then(|| (self_test_kind(operation), (b[1] & 0x7f).min(100)));
        let results = b[4..]
            .chunks_exact(28)
            .filter(|e| e[0] & 0x0f != 0x0f && e[0] >> 4 != 0)
            .map(|e| SelfTestResult {
                kind: self_test_kind(e[0] >> 4),
                passed: e[0] & 0x0f == 0,
                words: self_test_words(e[0] & 0x0f).into(),
                power_on_hours: u64_at(e, 4),
                // Valid Diagnostic Information, bit 1: the failing LBA is valid.
                failing_lba: (e[2] & 1 << 1 != 0).then(|| u64_at(e, 16)),
            })
            .collect();
        Ok(Self { running, results })
    }
}

/// Host Controlled Thermal Management (Feature Identifier 10h): TMT1 and TMT2 from dword 0; 0 is off.
#[must_use]
pub fn thermal_management(dword0: u32) -> (Option<Celsius>, Option<Celsius>) {
    (kelvin((dword0 >> 16) as u16), kelvin(dword0 as u16))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn put(page: &mut [u8], at: usize, bytes: &[u8]) {
        page[at..at + bytes.len()].copy_from_slice(bytes);
    }

    #[test]
    fn identify_controller_is_read_field_by_field() {
        let mut b = vec![0u8; 4096];
        put(&mut b, 0, &0x1b36u16.to_le_bytes());
        put(&mut b, 4, b"KW-0417             ");
        put(&mut b, 24, b"Ptarmigan 4 TB                          ");
        put(&mut b, 64, b"PT20\x1b   ");
        put(&mut b, 80, &0x0001_0400u32.to_le_bytes());
        put(&mut b, 256, &(1u16 << 4).to_le_bytes());
        put(&mut b, 266, &357u16.to_le_bytes());
        put(&mut b, 280, &4_000_787_030_016u128.to_le_bytes());
        put(&mut b, 316, &35u16.to_le_bytes());
        put(&mut b, 520, &4u16.to_le_bytes());
        b[262] = 63;
        b[525] = 1;
        let id = IdentifyController::decode(&b).unwrap();
        assert_eq!((id.serial_number.as_str(), id.model_number.as_str()), ("KW-0417", "Ptarmigan 4 TB"));
        assert_eq!(id.firmware_revision, "PT20?");
        assert_eq!(id.version, (1, 4, 0));
        assert!(id.self_test && id.volatile_write_cache && id.dataset_management);
        assert_eq!(id.warning_temperature, Some(Celsius::new(84.0)));
        assert_eq!(id.critical_temperature, None);
        assert_eq!((id.error_log_entries, id.extended_self_test_minutes), (64, 35));
        assert_eq!(id.total_capacity.get(), 4_000_787_030_016);
    }

    #[test]
    fn a_namespace_has_the_block_of_its_format() {
        let mut b = vec![0u8; 4096];
        put(&mut b, 0, &1000u64.to_le_bytes());
        put(&mut b, 16, &250u64.to_le_bytes());
        b[25] = 1;
        b[26] = 1;
        put(&mut b, 128 + 4, &(12u32 << 16 | 8).to_le_bytes());
        let ns = IdentifyNamespace::decode(&b).unwrap();
        assert_eq!((ns.block.get(), ns.metadata), (4096, 8));
        assert_eq!((ns.size.get(), ns.utilization.get()), (4_096_000, 1_024_000));
        b[26] = 7;
        assert!(IdentifyNamespace::decode(&b).unwrap_err().to_string().contains("LBA format 7"));
        b[26] = 1;
        put(&mut b, 128 + 4, &(60u32 << 16).to_le_bytes());
        assert!(IdentifyNamespace::decode(&b).unwrap_err().to_string().contains("2^60"));
    }

    #[test]
    fn health_is_read_field_by_field() {
        let mut b = vec![0u8; 512];
        b[0] = 0b10_0010;
        put(&mut b, 1, &334u16.to_le_bytes());
        (b[3], b[4], b[5]) = (98, 10, 255);
        put(&mut b, 48, &2u128.to_le_bytes());
        put(&mut b, 160, &u128::MAX.to_le_bytes());
        put(&mut b, 192, &7u32.to_le_bytes());
        put(&mut b, 202, &340u16.to_le_bytes());
        put(&mut b, 216, &3u32.to_le_bytes());
        put(&mut b, 228, &90u32.to_le_bytes());
        let log = SmartLog::decode(&b).unwrap();
        assert_eq!(log.composite_temperature, Some(Celsius::new(61.0)));
        assert_eq!((log.available_spare, log.percentage_used), (98, 255));
        assert_eq!(log.data_written.get(), 1_024_000);
        assert_eq!(log.media_errors, u64::MAX, "128 bits are cut, not wrapped");
        assert_eq!(log.sensors, vec![(2, Celsius::new(67.0))]);
        assert_eq!((log.thermal_transitions, log.thermal_seconds), ([3, 0], [0, 90]));
        assert_eq!(critical_warning_words(log.critical_warning).len(), 2);
        b[3] = 101;
        assert!(SmartLog::decode(&b).is_err());
    }

    #[test]
    fn pages_that_are_short_or_blank_are_named() {
        for (bytes, words) in
            [(vec![0; 100], "100 bytes long"), (vec![0; 512], "0x00"), (vec![255; 512], "0xff")]
        {
            assert!(SmartLog::decode(&bytes).unwrap_err().to_string().contains(words));
        }
    }

    #[test]
    fn self_tests_and_errors_are_listed() {
        let mut b = vec![0u8; 564];
        (b[0], b[1]) = (2, 40);
        for slot in 0..20 {
            b[4 + slot * 28] = 0x0f;
        }
        b[4] = 0x17;
        b[6] = 2;
        put(&mut b, 8, &1234u64.to_le_bytes());
        put(&mut b, 20, &99u64.to_le_bytes());
        let log = SelfTestLog::decode(&b).unwrap();
        assert_eq!(log.running, Some((SelfTestKind::Extended, 40)));
        assert_eq!(log.results.len(), 1);
        let first = &log.results[0];
        assert!(!first.passed && first.kind == SelfTestKind::Short);
        assert_eq!((first.power_on_hours, first.failing_lba), (1234, Some(99)));

        let mut e = vec![0u8; 64 * 4];
        put(&mut e, 0, &9u64.to_le_bytes());
        put(&mut e, 12, &(0x0281u16 << 1).to_le_bytes());
        put(&mut e, 16, &4096u64.to_le_bytes());
        let entries = decode_error_log(&e);
        assert_eq!(entries.len(), 1);
        assert_eq!((entries[0].status_code_type, entries[0].status_code, entries[0].lba), (2, 0x81, 4096));
        assert_eq!(thermal_management(0x0157_0161), (Some(Celsius::new(70.0)), Some(Celsius::new(80.0))));
    }

    proptest! {
        #[test]
        fn no_bytes_make_a_decoder_panic(bytes in proptest::collection::vec(any::<u8>(), 0..5000)) {
            let _ = IdentifyController::decode(&bytes);
            let _ = IdentifyNamespace::decode(&bytes);
            let _ = SmartLog::decode(&bytes);
            let _ = SelfTestLog::decode(&bytes);
            let _ = decode_error_log(&bytes);
        }
    }
}
