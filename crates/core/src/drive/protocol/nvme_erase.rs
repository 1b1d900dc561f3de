//! NVM Express commands that erase, what a controller offers of them, and how far a sanitize is.
//!
//! Format NVM (NVM Express Base 2.0, 5.14), Sanitize (5.24), Sanitize Status log page 81h (5.16.1.22), Identify Controller and Namespace.

use super::{PageError, filled, page, u16_at, u32_at};
use crate::drive::erasure::Erasure;

/// Opcode of Format NVM.
pub const FORMAT: u8 = 0x80;
/// Opcode of Sanitize.
pub const SANITIZE: u8 = 0x84;
/// Log Page Identifier of the Sanitize Status.
pub const STATUS_LOG: u8 = 0x81;
/// Bytes of the Sanitize Status log page.
pub const STATUS_LENGTH: usize = 512;

/// What a controller offers that erases.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Offers {
    /// Format NVM (OACS bit 1).
    pub format: bool,
    /// A format goes to all namespaces (FNA bit 0), or one that erases does (FNA bit 1).
    pub formats_all: bool,
    /// Cryptographic erase as a part of Format NVM (FNA bit 2).
    pub format_crypto: bool,
    /// Crypto Erase Sanitize (SANICAP bit 0).
    pub sanitize_crypto: bool,
    /// Block Erase Sanitize (SANICAP bit 1).
    pub sanitize_block: bool,
    /// Overwrite Sanitize (SANICAP bit 2).
    pub sanitize_overwrite: bool,
    /// Namespaces can be made and removed (OACS bit 3): some may be there that are attached to nobody.
    pub manages_namespaces: bool,
    /// Its subsystem may have other controllers (CMIC bit 1), and they namespaces that this one does not show.
    pub has_siblings: bool,
}

impl Offers {
    /// From Identify Controller.
    ///
    /// # Errors
    /// When it is short, or blank.
    pub fn decode(controller: &[u8]) -> Result<Self, PageError> {
        let b = filled("Identify Controller", controller, 4096)?;
        let (oacs, fna, sanicap) = (u16_at(b, 256), b[524], u32_at(b, 328));
        Ok(Self {
            format: oacs & 1 << 1 != 0,
            formats_all: fna & 3 != 0,
            format_crypto: fna & 1 << 2 != 0,
            sanitize_crypto: sanicap & 1 != 0,
            sanitize_block: sanicap & 1 << 1 != 0,
            sanitize_overwrite: sanicap & 1 << 2 != 0,
            manages_namespaces: oacs & 1 << 3 != 0,
            has_siblings: b[76] & 1 << 1 != 0,
        })
    }

    /// Whether this way reaches beyond the namespace that it is asked of.
    #[must_use]
    pub const fn reaches_all(&self, by: Erasure) -> bool {
        match by {
            Erasure::Discard | Erasure::WriteZeroes | Erasure::ResetZones => false,
            Erasure::Format | Erasure::FormatCrypto => self.formats_all,
            _ => true,
        }
    }

    /// Whether it does this.
    #[must_use]
    pub const fn has(&self, by: Erasure) -> bool {
        match by {
            Erasure::Discard | Erasure::WriteZeroes => true,
            Erasure::Format => self.format,
            Erasure::FormatCrypto => self.format && self.format_crypto,
            Erasure::SanitizeBlock => self.sanitize_block,
            Erasure::SanitizeCrypto => self.sanitize_crypto,
            Erasure::SanitizeOverwrite => self.sanitize_overwrite,
            Erasure::ResetZones | Erasure::SecurityErase | Erasure::SecurityEraseEnhanced => false,
        }
    }
}

/// Dword 10 of a Format NVM that keeps the format of a namespace as it is, from its Identify Namespace. `None` of what is no format.
///
/// # Errors
/// When the structure is short, or blank.
pub fn format_dword(namespace: &[u8], by: Erasure) -> Result<Option<u32>, PageError> {
    let b = filled("Identify Namespace", namespace, 4096)?;
    let (flbas, dps) = (u32::from(b[26]), u32::from(b[29]));
    let ses = match by {
        Erasure::Format => 1,
        Erasure::FormatCrypto => 2,
        _ => return Ok(None),
    };
    // LBAF 3:0 and 13:12, MSET bit 4, PI 7:5, PIL bit 8, SES 11:9 (figure 331).
    Ok(Some(
        flbas & 0x0f
            | (flbas >> 5 & 3) << 12
            | (flbas >> 4 & 1) << 4
            | (dps & 7) << 5
            | (dps >> 3 & 1) << 8
            | ses << 9,
    ))
}

/// Dwords 10 and 11 of a Sanitize; `None` of what is none. A failure may be left without another sanitize (AUSE), so that a drive whose
/// sanitize fails can be used, and looked at, again.
#[must_use]
pub const fn sanitize_dwords(by: Erasure) -> Option<(u32, u32)> {
    const UNRESTRICTED: u32 = 1 << 3;
    match by {
        Erasure::SanitizeBlock => Some((2 | UNRESTRICTED, 0)),
        // OWPASS: once; the pattern is zeroes.
        Erasure::SanitizeOverwrite => Some((3 | UNRESTRICTED | 1 << 4, 0)),
        Erasure::SanitizeCrypto => Some((4 | UNRESTRICTED, 0)),
        _ => None,
    }
}

/// Dword 10 of the Sanitize that leaves the failure mode.
pub const EXIT_FAILURE_MODE: u32 = 1;

/// How a sanitize stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// The drive was never sanitized.
    Never,
    /// The last one was completed.
    Completed,
    /// One is under way: so many parts of 65,536 are done, where that is told.
    Under(Option<u16>),
    /// The last one failed.
    Failed,
}

/// The Sanitize Status log page.
///
/// # Errors
/// When it is short, or says what no standard says.
pub fn sanitize_status(bytes: &[u8]) -> Result<Stands, PageError> {
    const NAME: &str = "Sanitize Status";
    let b = page(NAME, bytes, 20)?;
    match u16_at(b, 2) & 7 {
        0 => Ok(Stands::Never),
        // With, and without, what was deallocated after it.
        1 | 4 => Ok(Stands::Completed),
        2 => Ok(Stands::Under(Some(u16_at(b, 0)))),
        3 => Ok(Stands::Failed),
        s => Err(PageError::Nonsense { page: NAME, why: format!("a status of {s}") }),
    }
}

/// A list of namespaces (CNS 02h or 10h), up to the first that is none.
///
/// # Errors
/// When it is short.
pub fn namespaces(bytes: &[u8]) -> Result<Vec<u32>, PageError> {
    let b = page("Namespace List", bytes, 4096)?;
    Ok(b.chunks_exact(4).map(|c| u32_at(c, 0)).take_while(|n| *n != 0).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_a_controller_offers_is_read_from_it() {
        let mut b = vec![0u8; 4096];
        b[0] = 1;
        assert!(Erasure::ALL.iter().filter(|e| e.is_whole()).all(|e| !Offers::decode(&b).unwrap().has(*e)));
        b[256] = 1 << 1 | 1 << 3;
        b[524] = 1 << 2;
        b[328] = 0b011;
        let offers = Offers::decode(&b).unwrap();
        assert!(offers.has(Erasure::Format) && offers.has(Erasure::FormatCrypto) && !offers.formats_all);
        assert!(offers.has(Erasure::SanitizeCrypto) && offers.has(Erasure::SanitizeBlock));
        assert!(!offers.has(Erasure::SanitizeOverwrite) && offers.manages_namespaces);
        assert!(!offers.reaches_all(Erasure::Format) && offers.reaches_all(Erasure::SanitizeBlock));
        b[524] = 1 << 1;
        b[76] = 1 << 1;
        let offers = Offers::decode(&b).unwrap();
        assert!(offers.reaches_all(Erasure::Format) && !offers.has(Erasure::FormatCrypto));
        assert!(offers.has_siblings);
        assert!(Offers::decode(&b[..500]).is_err());
    }

    #[test]
    fn a_format_keeps_the_format_that_is_in_use() {
        let mut b = vec![0u8; 4096];
        // Format 17 (low 1, high 1), metadata at the end of the data, protection type 1 in the first bytes.
        b[26] = 0x01 | 1 << 4 | 1 << 5;
        b[29] = 1 | 1 << 3;
        let dword = format_dword(&b, Erasure::Format).unwrap().unwrap();
        assert_eq!(dword, 1 | 1 << 4 | 1 << 5 | 1 << 8 | 1 << 9 | 1 << 12);
        assert_eq!(format_dword(&b, Erasure::FormatCrypto).unwrap().unwrap() >> 9 & 7, 2);
        assert_eq!(format_dword(&b, Erasure::SanitizeBlock).unwrap(), None);
    }

    #[test]
    fn sanitizes_are_told_as_the_standard_says_and_may_be_left_when_they_fail() {
        assert_eq!(sanitize_dwords(Erasure::SanitizeBlock), Some((0b1010, 0)));
        assert_eq!(sanitize_dwords(Erasure::SanitizeOverwrite), Some((0b1_1011, 0)));
        assert_eq!(sanitize_dwords(Erasure::SanitizeCrypto), Some((0b1100, 0)));
        assert_eq!(sanitize_dwords(Erasure::Format), None);
        let status = |progress: u16, state: u16| {
            let mut b = [0u8; 512];
            b[..2].copy_from_slice(&progress.to_le_bytes());
            b[2..4].copy_from_slice(&state.to_le_bytes());
            sanitize_status(&b)
        };
        assert_eq!(status(0xffff, 0), Ok(Stands::Never));
        assert_eq!(status(0xffff, 1 | 1 << 8), Ok(Stands::Completed), "with Global Data Erased set");
        assert_eq!(status(0xffff, 4), Ok(Stands::Completed));
        assert_eq!(status(16_384, 2), Ok(Stands::Under(Some(16_384))));
        assert_eq!(status(0xffff, 3), Ok(Stands::Failed));
        assert!(status(0, 7).unwrap_err().to_string().contains("status of 7"));
        assert!(sanitize_status(&[0; 8]).is_err());
    }

    #[test]
    fn a_list_of_namespaces_ends_at_the_first_that_is_none() {
        let mut b = vec![0u8; 4096];
        (b[0], b[4], b[12]) = (1, 3, 9);
        assert_eq!(namespaces(&b).unwrap(), [1, 3]);
        assert!(namespaces(&b[..4000]).is_err());
    }

    proptest! {
        #[test]
        fn whatever_comes_is_no_panic(bytes in proptest::collection::vec(any::<u8>(), 0..4200)) {
            let _ = (Offers::decode(&bytes), sanitize_status(&bytes), namespaces(&bytes));
            let _ = format_dword(&bytes, Erasure::Format);
        }
    }
}
