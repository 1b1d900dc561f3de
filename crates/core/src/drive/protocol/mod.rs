//! Device protocols as pure functions over bytes: what a drive answers, decoded with the standard's own field names.
//!
//! Nothing here asks a drive for anything. A decoder takes what came back, says what it is, or says in a sentence why
//! it cannot be that; bytes that no standard defines are shown raw and never guessed.

pub mod ata;
pub mod ata_erase;
pub mod mmc;
pub mod nvme;
pub mod nvme_erase;
pub mod nvme_media;
pub mod nvme_power;
pub mod sat;
pub mod signature;
pub mod usb;

/// Why the bytes of a page are not what was asked for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PageError {
    /// Fewer bytes than the page has.
    #[error("{page} is {got} bytes long, and should be {want}: the drive or a bridge before it cut it short")]
    Short {
        /// The standard's name of the page.
        page: &'static str,
        /// Bytes that came.
        got: usize,
        /// Bytes that the standard says.
        want: usize,
    },
    /// Every byte the same: nothing was really read.
    #[error("{page} is filled with {byte:#04x}: the drive or a bridge before it does not really answer")]
    Blank {
        /// The standard's name of the page.
        page: &'static str,
        /// The byte.
        byte: u8,
    },
    /// The page's own checksum does not fit.
    #[error("{page} has a wrong checksum: it is not shown, since it cannot be trusted")]
    Checksum {
        /// The standard's name of the page.
        page: &'static str,
    },
    /// A value that cannot be.
    #[error("{page} makes no sense: {why}")]
    Nonsense {
        /// The standard's name of the page.
        page: &'static str,
        /// In words.
        why: String,
    },
}

/// A page of at least this length that is not one byte over and over.
fn page<'a>(name: &'static str, bytes: &'a [u8], want: usize) -> Result<&'a [u8], PageError> {
    let cut = bytes.get(..want).ok_or(PageError::Short { page: name, got: bytes.len(), want })?;
    Ok(cut)
}

/// As [`page()`], for pages that always hold something.
fn filled<'a>(name: &'static str, bytes: &'a [u8], want: usize) -> Result<&'a [u8], PageError> {
    let cut = page(name, bytes, want)?;
    match cut.first() {
        Some(&byte) if cut.iter().all(|b| *b == byte) => Err(PageError::Blank { page: name, byte }),
        _ => Ok(cut),
    }
}

fn u16_at(bytes: &[u8], at: usize) -> u16 {
    bytes.get(at..at + 2).and_then(|b| b.try_into().ok()).map_or(0, u16::from_le_bytes)
}

pub(super) fn u32_at(bytes: &[u8], at: usize) -> u32 {
    bytes.get(at..at + 4).and_then(|b| b.try_into().ok()).map_or(0, u32::from_le_bytes)
}

pub(super) fn u64_at(bytes: &[u8], at: usize) -> u64 {
    bytes.get(at..at + 8).and_then(|b| b.try_into().ok()).map_or(0, u64::from_le_bytes)
}

/// A 128-bit counter; none that occurs exceeds 64 bits, so it is cut there.
fn u128_at(bytes: &[u8], at: usize) -> u64 {
    bytes
        .get(at..at + 16)
        .and_then(|b| b.try_into().ok())
        .map_or(0, |b| u64::try_from(u128::from_le_bytes(b)).unwrap_or(u64::MAX))
}

/// Text that a drive gives: printable ASCII only, inner spaces kept, ends trimmed. What else there is becomes `?`, so
/// that nothing a drive says can steer a terminal.
#[must_use]
pub fn text(bytes: &[u8]) -> String {
    let text: String = bytes
        .iter()
        .map(|b| {
            if (0x20..0x7f).contains(b) {
                char::from(*b)
            } else if *b == 0 {
                ' '
            } else {
                '?'
            }
        })
        .collect();
    text.trim().to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_printable_and_trimmed() {
        assert_eq!(text(b"  KW 0417  \0\0"), "KW 0417");
        assert_eq!(text(b"\x1b[2Jx\xff"), "?[2Jx?");
    }
}
