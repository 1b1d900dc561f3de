//! ATA commands that erase, what a drive offers of them, and how far a sanitize is.
//!
//! SANITIZE DEVICE (ACS-4, 7.36 to 7.41; feature set in 4.17), SECURITY SET PASSWORD, ERASE PREPARE and ERASE UNIT (7.44 to 7.48; feature set
//! in 4.18), IDENTIFY DEVICE words 59, 89, 90 and 128 (7.13.6).

use std::time::Duration;

use super::nvme_erase::Stands;
use super::sat::{Extended, Registers};
use super::{PageError, filled, u16_at};
use crate::drive::erasure::Erasure;

/// Command code of SANITIZE DEVICE.
const SANITIZE_DEVICE: u8 = 0xb4;
/// SECURITY SET PASSWORD.
pub const SET_PASSWORD: u8 = 0xf1;
/// SECURITY ERASE PREPARE, which must come right before the erase.
pub const ERASE_PREPARE: u8 = 0xf3;
/// SECURITY ERASE UNIT.
pub const ERASE_UNIT: u8 = 0xf4;
/// SECURITY DISABLE PASSWORD.
pub const DISABLE_PASSWORD: u8 = 0xf6;
/// The failure of a sanitize may be left without another sanitize.
const FAILURE_MODE: u16 = 1 << 4;

/// What a drive offers that erases, and how its security stands.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct AtaOffers {
    /// CRYPTO SCRAMBLE EXT (word 59 bit 13).
    pub sanitize_crypto: bool,
    /// BLOCK ERASE EXT (bit 15).
    pub sanitize_block: bool,
    /// OVERWRITE EXT (bit 14).
    pub sanitize_overwrite: bool,
    /// The Security feature set (word 128 bit 0).
    pub security: bool,
    /// Enhanced erase (bit 5).
    pub enhanced: bool,
    /// A password is set (bit 1).
    pub has_password: bool,
    /// It answers no reads or writes until the password is given (bit 2).
    pub locked: bool,
    /// Nothing of its security can be changed until it loses power (bit 3).
    pub frozen: bool,
    /// What an erase takes, as the drive says (word 89); `None` where it does not.
    pub erase_takes: Option<Duration>,
    /// The same of an enhanced one (word 90).
    pub enhanced_takes: Option<Duration>,
}

/// Words 89 and 90: in steps of two minutes; of the longest value it is only known that it is longer.
fn takes(word: u16) -> Option<Duration> {
    let (steps, most) = if word & 1 << 15 == 0 { (word & 0xff, 0xff) } else { (word & 0x7fff, 0x7fff) };
    (steps > 0 && steps < most).then(|| Duration::from_secs(u64::from(steps) * 120))
}

impl AtaOffers {
    /// From IDENTIFY DEVICE.
    ///
    /// # Errors
    /// When it is short, or blank.
    pub fn decode(identify: &[u8]) -> Result<Self, PageError> {
        let b = filled("IDENTIFY DEVICE", identify, 512)?;
        let word = |n: usize| u16_at(b, 2 * n);
        let sanitize = |bit: u16| word(59) & 1 << 12 != 0 && word(59) & 1 << bit != 0;
        let security = |bit: u16| word(128) & 1 != 0 && word(128) & 1 << bit != 0;
        Ok(Self {
            sanitize_crypto: sanitize(13),
            sanitize_overwrite: sanitize(14),
            sanitize_block: sanitize(15),
            security: security(0),
            has_password: security(1),
            locked: security(2),
            frozen: security(3),
            enhanced: security(5),
            erase_takes: takes(word(89)),
            enhanced_takes: takes(word(90)),
        })
    }

    /// Whether it does this.
    #[must_use]
    pub const fn has(&self, by: Erasure) -> bool {
        match by {
            Erasure::Discard | Erasure::WriteZeroes => true,
            Erasure::ResetZones | Erasure::Format | Erasure::FormatCrypto => false,
            Erasure::SanitizeBlock => self.sanitize_block,
            Erasure::SanitizeCrypto => self.sanitize_crypto,
            Erasure::SanitizeOverwrite => self.sanitize_overwrite,
            Erasure::SecurityErase => self.security,
            Erasure::SecurityEraseEnhanced => self.security && self.enhanced,
        }
    }
}

/// The SANITIZE DEVICE that begins one; `None` of what is no sanitize. The keys in the addresses are those of the standard, so that no
/// stray command erases a drive.
#[must_use]
pub const fn sanitize(by: Erasure) -> Option<Extended> {
    let (feature, lba, count) = match by {
        // "Cryp"
        Erasure::SanitizeCrypto => (0x0011, 0x4372_7970, FAILURE_MODE),
        // "BkEr"
        Erasure::SanitizeBlock => (0x0012, 0x426b_4572, FAILURE_MODE),
        // "OW" over a pattern of zeroes, once.
        Erasure::SanitizeOverwrite => (0x0014, 0x4f57 << 32, FAILURE_MODE | 1),
        _ => return None,
    };
    Some(Extended { command: SANITIZE_DEVICE, feature, count, lba })
}

/// SANITIZE STATUS EXT; with `leave_failure` a failed one is left as well.
#[must_use]
pub const fn status(leave_failure: bool) -> Extended {
    Extended { command: SANITIZE_DEVICE, feature: 0, count: leave_failure as u16, lba: 0 }
}

/// What SANITIZE STATUS EXT answered (ACS-4, 7.41.3 and 7.41.4).
#[must_use]
pub const fn sanitize_stands(answer: &Registers) -> Stands {
    // An aborted status tells in LBA 7:0 why: 0 says nothing, 1 that the last sanitize failed, the others why no status can be had.
    if answer.status & 1 != 0 {
        return if answer.lba & 0xff <= 1 { Stands::Failed } else { Stands::Never };
    }
    if answer.count & 1 << 14 != 0 {
        return Stands::Under(Some(answer.lba as u16));
    }
    if answer.count & 1 << 15 != 0 { Stands::Completed } else { Stands::Never }
}

/// The password that stands while a security erase runs. The erase takes it away; where power is lost in the middle it is what the drive can
/// be erased, or unlocked, by.
pub const PASSWORD: &[u8] = b"hollow mile";

/// The 512 bytes that SECURITY SET PASSWORD, ERASE UNIT and DISABLE PASSWORD bring along: the user's password, and of an erase its mode.
#[must_use]
pub fn password_page(enhanced: bool) -> [u8; 512] {
    let mut page = [0u8; 512];
    page[0] = u8::from(enhanced) << 1;
    page[2..2 + PASSWORD.len()].copy_from_slice(PASSWORD);
    page
}

#[cfg(test)]
mod tests {
    use super::super::sat::Transfer;
    use super::super::sat::pass_through_extended;
    use super::*;
    use proptest::prelude::*;

    fn identify(words: &[(usize, u16)]) -> Vec<u8> {
        let mut b = vec![0u8; 512];
        b[0] = 0x40;
        for (n, value) in words {
            b[2 * n..2 * n + 2].copy_from_slice(&value.to_le_bytes());
        }
        b
    }

    #[test]
    fn what_a_drive_offers_is_read_from_it() {
        let none = AtaOffers::decode(&identify(&[(59, 0xe000), (128, 0xffff - 1)])).unwrap();
        let whole = || Erasure::ALL.into_iter().filter(|e| e.is_whole());
        assert!(whole().all(|e| !none.has(e)), "bits without their feature set mean nothing: {none:?}");
        let all = identify(&[(59, 0xf000), (128, 0x0021), (89, 30), (90, 1 << 15 | 400)]);
        let offers = AtaOffers::decode(&all).unwrap();
        assert!(whole().all(|e| offers.has(e) != matches!(e, Erasure::Format | Erasure::FormatCrypto)));
        assert_eq!(
            (offers.erase_takes, offers.enhanced_takes),
            (Some(Duration::from_secs(3600)), Some(Duration::from_secs(48_000)))
        );
        assert!(!offers.frozen && !offers.locked && !offers.has_password);
        let frozen = AtaOffers::decode(&identify(&[(128, 0x000f), (89, 255)])).unwrap();
        assert!(frozen.frozen && frozen.locked && frozen.has_password && frozen.erase_takes.is_none());
        assert!(AtaOffers::decode(&all[..100]).is_err() && AtaOffers::decode(&[0; 512]).is_err());
    }

    #[test]
    fn commands_lie_in_the_bytes_that_the_standards_say() {
        let cdb = pass_through_extended(sanitize(Erasure::SanitizeBlock).unwrap(), Transfer::None);
        // Non-data, EXTEND; CK_COND; feature 0012h; count 10h; LBA 426B4572h in its odd order.
        assert_eq!(cdb, [0x85, 0x07, 0x20, 0, 0x12, 0, 0x10, 0x42, 0x72, 0, 0x45, 0, 0x6b, 0, 0xb4, 0]);
        let cdb = pass_through_extended(sanitize(Erasure::SanitizeOverwrite).unwrap(), Transfer::None);
        assert_eq!((cdb[6], cdb[9], cdb[11]), (0x11, 0x57, 0x4f));
        assert_eq!(sanitize(Erasure::SanitizeCrypto).unwrap().lba, u64::from(u32::from_be_bytes(*b"Cryp")));
        assert_eq!(sanitize(Erasure::SecurityErase), None);
        let page = password_page(true);
        assert_eq!((page[0], &page[2..13], page[13]), (2, PASSWORD, 0));
        assert_eq!(password_page(false)[0], 0);
    }

    #[test]
    fn how_a_sanitize_stands() {
        let said = |status, count, lba| sanitize_stands(&Registers { error: 0, status, count, lba });
        assert_eq!(said(0x50, 0, 0xffff), Stands::Never);
        assert_eq!(said(0x50, 1 << 15, 0xffff), Stands::Completed);
        assert_eq!(said(0x50, 1 << 14, 0x8000), Stands::Under(Some(0x8000)));
        assert_eq!(said(0x51, 0, 1), Stands::Failed);
        assert_eq!(said(0x51, 0, 3), Stands::Never, "it is frozen");
    }

    proptest! {
        #[test]
        fn whatever_comes_is_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            let _ = AtaOffers::decode(&bytes);
        }
    }
}
