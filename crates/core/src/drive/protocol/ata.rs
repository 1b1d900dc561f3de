//! ATA: IDENTIFY DEVICE, SMART data, thresholds and logs, SCT status, device statistics.
//!
//! Field names and offsets after ATA/ATAPI Command Set - 4 (ACS-4): IDENTIFY DEVICE in 7.13, SMART in 7.48, log pages in
//! clause 9, SCT in clause 8. What an attribute means is not in the standard: attributes stay raw.

use serde::{Deserialize, Serialize};

use super::nvme::{SelfTestKind, SelfTestLog, SelfTestResult};
use super::{PageError, filled, page, text, u16_at, u32_at, u64_at};
use crate::quantity::units::{Bytes, Celsius};

/// Bytes of every page here.
pub const PAGE: usize = 512;

/// All bytes of a page add up to zero where it carries a checksum (ACS-4, 7.13.7.83 and 9.*).
fn adds_up(b: &[u8]) -> bool {
    b.iter().fold(0u8, |sum, byte| sum.wrapping_add(*byte)) == 0
}

/// Strings hold two characters in each word, the first in the high byte (ACS-4, 3.4.9).
fn swapped(b: &[u8]) -> String {
    let bytes: Vec<u8> = b.chunks_exact(2).flat_map(|w| [w[1], w[0]]).collect();
    text(&bytes)
}

/// IDENTIFY DEVICE data, the fields that matter here.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct IdentifyDevice {
    /// Serial number (words 10 to 19).
    pub serial_number: String,
    /// Firmware revision (words 23 to 26).
    pub firmware_revision: String,
    /// Model number (words 27 to 46).
    pub model_number: String,
    /// User addressable logical sectors (words 60 and 61, or 100 to 103), in bytes.
    pub capacity: Bytes,
    /// Logical sector size.
    pub logical_sector: Bytes,
    /// Physical sector size (word 106).
    pub physical_sector: Bytes,
    /// Nominal media rotation rate (word 217): `Some(0)` does not rotate, `None` not reported.
    pub rotation_rpm: Option<u16>,
    /// SMART feature set supported and enabled (words 82 and 85).
    pub smart: bool,
    /// SMART self-test supported (word 84 bit 1).
    pub self_test: bool,
    /// General Purpose Logging supported (word 84 bit 5); device statistics need it.
    pub general_purpose_logging: bool,
    /// Volatile write cache enabled (word 85 bit 5).
    pub write_cache: bool,
    /// TRIM supported (word 169 bit 0).
    pub trim: bool,
    /// SCT Command Transport supported (word 206 bit 0).
    pub sct: bool,
    /// Highest Serial ATA generation supported (word 76 bits 3:1); 0 not reported.
    pub sata_best: u8,
    /// Serial ATA generation negotiated (word 77 bits 3:1); 0 not reported.
    pub sata_now: u8,
}

impl IdentifyDevice {
    /// Decodes the page.
    ///
    /// # Errors
    /// When it is short, blank, has a wrong checksum, or says that no ATA device answers.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "IDENTIFY DEVICE";
        let b = filled(NAME, bytes, PAGE)?;
        let w = |n: usize| u16_at(b, n * 2);
        let nonsense = |why: String| PageError::Nonsense { page: NAME, why };
        if b[510] == 0xa5 && !adds_up(b) {
            return Err(PageError::Checksum { page: NAME });
        }
        if w(0) & 1 << 15 != 0 {
            return Err(nonsense("it says that this is no ATA device".into()));
        }
        let words_valid = |word: u16| word & 0xc000 == 0x4000;
        let (mut logical, mut physical) = (512u64, 512u64);
        if words_valid(w(106)) {
            if w(106) & 1 << 12 != 0 {
                logical = u64::from(u32_at(b, 117 * 2)) * 2;
            }
            physical = logical << if w(106) & 1 << 13 != 0 { w(106) & 0x0f } else { 0 };
        }
        if !(512..=1 << 16).contains(&logical) || physical > 1 << 24 {
            return Err(nonsense(format!("a sector of {logical} B")));
        }
        let lba48 = w(83) & 1 << 10 != 0 && words_valid(w(83));
        let sectors = if lba48 { u64_at(b, 200) } else { u64::from(u32_at(b, 120)) };
        let capacity = sectors
            .checked_mul(logical)
            .ok_or_else(|| nonsense(format!("{sectors} sectors of {logical} B")))?;
        let known = |word: u16| word != 0 && word != 0xffff;
        Ok(Self {
            serial_number: swapped(&b[20..40]),
            firmware_revision: swapped(&b[46..54]),
            model_number: swapped(&b[54..94]),
            capacity: Bytes::new(capacity),
            logical_sector: Bytes::new(logical),
            physical_sector: Bytes::new(physical),
            rotation_rpm: match w(217) {
                1 => Some(0),
                rpm @ 0x0401..=0xfffe => Some(rpm),
                _ => None,
            },
            smart: w(82) & w(85) & 1 != 0,
            self_test: words_valid(w(84)) && w(84) & 1 << 1 != 0,
            general_purpose_logging: words_valid(w(84)) && w(84) & 1 << 5 != 0,
            write_cache: w(85) & 1 << 5 != 0,
            trim: w(169) & 1 != 0,
            sct: w(206) & 1 != 0,
            sata_best: if known(w(76)) {
                (16 - (w(76) & 0x0e).leading_zeros()).saturating_sub(1) as u8
            } else {
                0
            },
            sata_now: if known(w(76)) { (w(77) >> 1 & 7) as u8 } else { 0 },
        })
    }
}

/// One SMART attribute. The standard leaves its meaning to the maker, so it is shown as it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attribute {
    /// Attribute ID number.
    pub id: u8,
    /// Status flags; bit 0: a value at its threshold means imminent failure.
    pub flags: u16,
    /// Normalised value, higher is better.
    pub value: u8,
    /// Lowest value ever.
    pub worst: u8,
    /// At or below this the attribute has failed; 0 always passes.
    pub threshold: Option<u8>,
    /// Six bytes of the maker's own.
    pub raw: u64,
}

impl Attribute {
    /// It is at or below its threshold now.
    #[must_use]
    pub fn failed(&self) -> bool {
        self.threshold.is_some_and(|t| t != 0 && self.value <= t)
    }
}

/// SMART READ DATA.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct SmartData {
    /// Attributes in use, in the drive's order.
    pub attributes: Vec<Attribute>,
    /// Self-test execution status: high nibble status (0Fh in progress), low nibble tenths remaining.
    pub self_test_status: u8,
    /// Off-line data collection capability (byte 367) bit 4: short and extended self-tests are implemented.
    pub self_test: bool,
    /// Recommended polling time for the short self-test, minutes.
    pub short_self_test_minutes: u16,
    /// Recommended polling time for the extended self-test, minutes.
    pub extended_self_test_minutes: u16,
}

fn attribute_slots(b: &[u8]) -> impl Iterator<Item = &[u8]> {
    b[2..362].chunks_exact(12).filter(|a| a[0] != 0)
}

impl SmartData {
    /// Decodes the page.
    ///
    /// # Errors
    /// When it is short, blank, or its checksum does not fit.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "SMART READ DATA";
        let b = filled(NAME, bytes, PAGE)?;
        if !adds_up(b) {
            return Err(PageError::Checksum { page: NAME });
        }
        Ok(Self {
            attributes: attribute_slots(b)
                .map(|a| Attribute {
                    id: a[0],
                    flags: u16_at(a, 1),
                    value: a[3],
                    worst: a[4],
                    threshold: None,
                    raw: u64_at(&[a[5], a[6], a[7], a[8], a[9], a[10], 0, 0], 0),
                })
                .collect(),
            self_test_status: b[363],
            self_test: b[367] & 1 << 4 != 0,
            short_self_test_minutes: u16::from(b[372]),
            extended_self_test_minutes: if b[373] == 0xff { u16_at(b, 375) } else { u16::from(b[373]) },
        })
    }

    /// Adds what SMART READ THRESHOLDS says.
    ///
    /// # Errors
    /// When that page is short, blank, or its checksum does not fit; the attributes stay as they are.
    pub fn add_thresholds(&mut self, bytes: &[u8]) -> Result<(), PageError> {
        const NAME: &str = "SMART READ THRESHOLDS";
        let b = filled(NAME, bytes, PAGE)?;
        if !adds_up(b) {
            return Err(PageError::Checksum { page: NAME });
        }
        for slot in attribute_slots(b) {
            for a in self.attributes.iter_mut().filter(|a| a.id == slot[0]) {
                a.threshold = Some(slot[1]);
            }
        }
        Ok(())
    }

    /// Temperature by the usual habit of makers: attribute 194, or else 190, lowest raw byte in °C. Not in the standard,
    /// so only for drives that offer neither SCT status nor device statistics, and only where it is plausible.
    #[must_use]
    pub fn customary_temperature(&self) -> Option<Celsius> {
        [194, 190].iter().find_map(|id| {
            let raw = self.attributes.iter().find(|a| a.id == *id)?.raw as u8;
            (1..=120).contains(&raw).then(|| Celsius::from_millis(i32::from(raw) * 1000))
        })
    }

    /// The self-test that runs now, with its percentage done; the kind is not told.
    #[must_use]
    pub const fn self_test_running(&self) -> Option<u8> {
        if self.self_test_status >> 4 != 0x0f {
            return None;
        }
        Some(100u8.saturating_sub((self.self_test_status & 0x0f) * 10))
    }
}

/// Self-test execution status values (ACS-4, table 137).
const fn status_words(code: u8) -> &'static str {
    match code {
        0x0 => "completed without error",
        0x1 => "aborted by the host",
        0x2 => "interrupted by a reset",
        0x3 => "ended by a fatal or unknown error",
        0x4 => "completed: an unknown element failed",
        0x5 => "completed: the electrical element failed",
        0x6 => "completed: the servo or seek element failed",
        0x7 => "completed: the read element failed",
        0x8 => "completed: the drive may have handling damage",
        0xf => "in progress",
        _ => "a result that the standard does not define",
    }
}

/// Decodes the SMART self-test log (log address 06h), newest first.
///
/// # Errors
/// When it is short, blank but for zeroes, or its checksum does not fit.
pub fn decode_self_test_log(bytes: &[u8]) -> Result<SelfTestLog, PageError> {
    const NAME: &str = "SMART self-test log";
    let b = page(NAME, bytes, PAGE)?;
    if b.iter().all(|x| *x == 0) {
        return Ok(SelfTestLog::default());
    }
    if !adds_up(b) {
        return Err(PageError::Checksum { page: NAME });
    }
    // Index of the newest descriptor, 1 to 21; 0 when there is none.
    let newest = usize::from(b[508]);
    if newest == 0 || newest > 21 {
        return Ok(SelfTestLog::default());
    }
    let results = (0..21)
        .map(|back| (newest - 1 + 21 - back) % 21)
        .map(|slot| &b[2 + slot * 24..26 + slot * 24])
        .filter(|d| d.iter().any(|x| *x != 0))
        .map(|d| {
            let status = d[1] >> 4;
            SelfTestResult {
                kind: match d[0] {
                    1 | 0x81 => SelfTestKind::Short,
                    2 | 0x82 => SelfTestKind::Extended,
                    other => SelfTestKind::Other(other),
                },
                passed: status == 0,
                words: status_words(status).into(),
                power_on_hours: u64::from(u16_at(d, 2)),
                failing_lba: (4..=8)
                    .contains(&status)
                    .then(|| u64::from(u32_at(d, 5)))
                    .filter(|lba| *lba != u64::from(u32::MAX)),
            }
        })
        .collect();
    Ok(SelfTestLog { running: None, results })
}

/// One error of the summary SMART error log (log address 01h).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErrorEntry {
    /// ERROR field of the command that failed.
    pub error: u8,
    /// STATUS field.
    pub status: u8,
    /// LBA field, 28 bits.
    pub lba: u32,
    /// Command that failed: the last of the five kept before the error.
    pub command: u8,
    /// Life timestamp, power-on hours.
    pub power_on_hours: u16,
}

/// Decodes the summary SMART error log: errors over the life of the drive, and up to five of them, newest first.
///
/// # Errors
/// When it is short or its checksum does not fit.
pub fn decode_error_log(bytes: &[u8]) -> Result<(u16, Vec<ErrorEntry>), PageError> {
    const NAME: &str = "Summary SMART error log";
    let b = page(NAME, bytes, PAGE)?;
    if b.iter().all(|x| *x == 0) {
        return Ok((0, Vec::new()));
    }
    if !adds_up(b) {
        return Err(PageError::Checksum { page: NAME });
    }
    let (newest, count) = (usize::from(b[1]), u16_at(b, 452));
    if newest == 0 || newest > 5 {
        return Ok((count, Vec::new()));
    }
    let entries = (0..5usize.min(usize::from(count)))
        .map(|back| (newest - 1 + 5 - back) % 5)
        .map(|slot| &b[2 + slot * 90..92 + slot * 90])
        .filter(|e| e.iter().any(|x| *x != 0))
        .map(|e| {
            let d = &e[60..];
            ErrorEntry {
                error: d[1],
                status: d[7],
                lba: u32::from(d[3])
                    | u32::from(d[4]) << 8
                    | u32::from(d[5]) << 16
                    | u32::from(d[6] & 0x0f) << 24,
                command: e[48 + 7],
                power_on_hours: u16_at(d, 28),
            }
        })
        .collect();
    Ok((count, entries))
}

/// Temperatures of the SCT Status log (log address E0h).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SctStatus {
    /// Temperature of the drive now.
    pub temperature: Option<Celsius>,
    /// Highest since power on.
    pub highest: Option<Celsius>,
    /// Highest in the drive's life.
    pub highest_ever: Option<Celsius>,
    /// Recording intervals above the recommended maximum.
    pub over_limit_count: u32,
}

impl SctStatus {
    /// Decodes the page.
    ///
    /// # Errors
    /// When it is short or blank, or of a format version that is not 2 or 3.
    pub fn decode(bytes: &[u8]) -> Result<Self, PageError> {
        const NAME: &str = "SCT Status";
        let b = filled(NAME, bytes, PAGE)?;
        if !(2..=3).contains(&u16_at(b, 0)) {
            return Err(PageError::Nonsense { page: NAME, why: format!("format version {}", u16_at(b, 0)) });
        }
        let degrees = |at: usize| {
            let value = b[at] as i8;
            (value != i8::MIN).then(|| Celsius::from_millis(i32::from(value) * 1000))
        };
        Ok(Self {
            temperature: degrees(200),
            highest: degrees(202),
            highest_ever: degrees(204),
            over_limit_count: u32_at(b, 206),
        })
    }
}

/// Device Statistics (log address 04h; ACS-4, 9.5): the standard's own health figures, from pages 01h, 05h and 07h.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct DeviceStatistics {
    /// Lifetime Power-On Resets.
    pub power_cycles: Option<u64>,
    /// Power-on Hours.
    pub power_on_hours: Option<u64>,
    /// Logical Sectors Written.
    pub sectors_written: Option<u64>,
    /// Logical Sectors Read.
    pub sectors_read: Option<u64>,
    /// Number of Reported Uncorrectable Errors.
    pub uncorrectable_errors: Option<u64>,
    /// Current Temperature.
    pub temperature: Option<Celsius>,
    /// Specified Maximum Operating Temperature.
    pub maximum_temperature: Option<Celsius>,
    /// Time in Over-Temperature, minutes.
    pub over_temperature_minutes: Option<u64>,
    /// Percentage Used Endurance Indicator.
    pub percentage_used: Option<u64>,
}

impl DeviceStatistics {
    /// Adds one page of the log. A statistic counts only when it is supported and valid (bits 63 and 62); a page of
    /// another number is left alone.
    ///
    /// # Errors
    /// When it is short.
    pub fn add_page(&mut self, bytes: &[u8]) -> Result<(), PageError> {
        let b = page("Device Statistics", bytes, PAGE)?;
        let value = |at: usize, bits: u32| {
            let q = u64_at(b, at);
            (q >> 62 == 3).then_some(q & ((1 << bits) - 1))
        };
        let degrees = |at: usize| value(at, 8).map(|v| Celsius::from_millis(i32::from(v as u8 as i8) * 1000));
        match b[2] {
            1 => {
                self.power_cycles = value(8, 32);
                self.power_on_hours = value(16, 32);
                self.sectors_written = value(24, 48);
                self.sectors_read = value(40, 48);
            }
            4 => self.uncorrectable_errors = value(8, 32),
            5 => {
                self.temperature = degrees(8);
                self.maximum_temperature = degrees(88);
                self.over_temperature_minutes = value(80, 32);
            }
            7 => self.percentage_used = value(8, 8),
            _ => {}
        }
        Ok(())
    }
}

#[cfg(test)]
#[path = "ata_tests.rs"]
mod tests;
