//! The stamp at the head of each written 4 KiB: who wrote it, when and where, so that a later read proves that the right
//! block came back.
//!
//! 40 bytes, little-endian: mark, pass, drive, haul, address, checksum of the rest of the block, checksum of the 36
//! bytes before. The rest of the block can thus be summed once and written many times.

/// Bytes of a stamp.
pub const LENGTH: usize = 40;
/// One stamp in so many bytes, or in each block where blocks are smaller.
pub const EVERY: usize = 4096;

const MARK: u32 = u32::from_le_bytes(*b"HMs1");

/// What the stamps of one leg have in common.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Origin {
    /// Of the drive: [`name`] of its serial.
    pub drive: u64,
    /// Of the haul: [`name`] of its identifier.
    pub haul: u64,
    /// Pass over the region, from 0.
    pub pass: u32,
}

/// A name as a number (FNV-1a, 64 bits).
#[must_use]
pub fn name(text: &str) -> u64 {
    text.bytes().fold(0xcbf2_9ce4_8422_2325, |h, b| (h ^ u64::from(b)).wrapping_mul(0x0100_0000_01b3))
}

/// Checksum of what follows the stamp in its block (CRC-32, ISO-HDLC).
#[must_use]
pub fn body_sum(block: &[u8]) -> u32 {
    crc32fast::hash(block.get(LENGTH..).unwrap_or_default())
}

/// The bytes of a stamp.
#[must_use]
pub fn encode(origin: Origin, address: u64, body_sum: u32) -> [u8; LENGTH] {
    let mut b = [0u8; LENGTH];
    b[0..4].copy_from_slice(&MARK.to_le_bytes());
    b[4..8].copy_from_slice(&origin.pass.to_le_bytes());
    b[8..16].copy_from_slice(&origin.drive.to_le_bytes());
    b[16..24].copy_from_slice(&origin.haul.to_le_bytes());
    b[24..32].copy_from_slice(&address.to_le_bytes());
    b[32..36].copy_from_slice(&body_sum.to_le_bytes());
    let head = crc32fast::hash(&b[..36]);
    b[36..].copy_from_slice(&head.to_le_bytes());
    b
}

/// What came back for a stamped block.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// What was written.
    Right,
    /// No stamp: never written, wiped, or overwritten by another.
    Unstamped,
    /// A sound block that belongs at another address of this drive: misdirected, or the drive is smaller than it says.
    Misplaced {
        /// Where it belongs.
        address: u64,
    },
    /// A sound block of another haul, pass or drive: an older write that was not replaced.
    Stale,
    /// The stamp is sound and the data under it is not.
    Corrupt,
}

/// Judges a block that was read from this address.
#[must_use]
pub fn judge(block: &[u8], origin: Origin, address: u64) -> Verdict {
    let Some(b) = block.first_chunk::<LENGTH>() else { return Verdict::Unstamped };
    let four = |at: usize| u32::from_le_bytes([b[at], b[at + 1], b[at + 2], b[at + 3]]);
    let eight = |at: usize| u64::from(four(at)) | u64::from(four(at + 4)) << 32;
    if four(0) != MARK {
        return Verdict::Unstamped;
    }
    if four(36) != crc32fast::hash(&b[..36]) || four(32) != body_sum(block) {
        return Verdict::Corrupt;
    }
    let found = Origin { drive: eight(8), haul: eight(16), pass: four(4) };
    match (found == origin, eight(24) == address) {
        (true, true) => Verdict::Right,
        (true, false) => Verdict::Misplaced { address: eight(24) },
        (false, _) => Verdict::Stale,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ORIGIN: Origin = Origin { drive: 1, haul: 2, pass: 3 };

    fn block(address: u64) -> Vec<u8> {
        let mut b: Vec<u8> = (0..EVERY).map(|i| (i * 31) as u8).collect();
        let stamp = encode(ORIGIN, address, body_sum(&b));
        b[..LENGTH].copy_from_slice(&stamp);
        b
    }

    #[test]
    fn each_way_to_be_wrong_is_told_apart() {
        let b = block(8192);
        assert_eq!(judge(&b, ORIGIN, 8192), Verdict::Right);
        assert_eq!(judge(&b, ORIGIN, 4096), Verdict::Misplaced { address: 8192 });
        assert_eq!(judge(&b, Origin { pass: 4, ..ORIGIN }, 8192), Verdict::Stale);
        assert_eq!(judge(&[0; EVERY], ORIGIN, 8192), Verdict::Unstamped);
        assert_eq!(judge(&b[..20], ORIGIN, 8192), Verdict::Unstamped);
        assert_ne!(name("KW-0417"), name("KW-0471"));
    }

    proptest! {
        #[test]
        fn no_flipped_bit_goes_unseen(bit in 0usize..EVERY * 8) {
            let mut b = block(0);
            b[bit / 8] ^= 1 << (bit % 8);
            prop_assert_ne!(judge(&b, ORIGIN, 0), Verdict::Right);
        }
    }
}
