//! The stamp at the head of each written 4 KiB: who wrote it, when and where, so that a later read proves that the right
//! block came back.
//!
//! 40 bytes, little-endian: mark, pass, drive, haul, address, checksum of the rest of the block, checksum of the 36
//! bytes before. The rest of the block can thus be summed once and written many times.

use serde::{Deserialize, Serialize};

use crate::quantity::units::Bytes;

/// Bytes of a stamp.
pub const LENGTH: usize = 40;
/// One stamp in so many bytes, or in each block where blocks are smaller.
pub const EVERY: usize = 4096;

const MARK: u32 = u32::from_le_bytes(*b"HMs1");

/// What the stamps of one leg have in common.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
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

/// At the head of each 4 KiB that is written without a stamp, before its address and a running number.
pub const PLAIN: [u8; 8] = *b"HMload1\0";

/// Name of the file that marks a folder of ours, with a random word in it.
pub const FOLDER_MARK: &str = ".hollow-mile";
/// A folder of ours is named so, with sixteen random hexadecimal digits behind it.
pub const FOLDER_NAME: &str = "hollow-mile-";

/// Name of the extended attribute that files of our own carry, with a random mark as its value.
pub const FILE_MARK: &str = "user.hollow-mile";

/// Data that this program wrote: a block that begins with a stamp, of whatever drive and haul, or with [`PLAIN`].
#[must_use]
pub fn is_ours(block: &[u8]) -> bool {
    block.starts_with(&PLAIN) || is_stamped(block)
}

fn is_stamped(block: &[u8]) -> bool {
    block
        .first_chunk::<LENGTH>()
        .is_some_and(|b| b[..4] == MARK.to_le_bytes() && b[36..] == crc32fast::hash(&b[..36]).to_le_bytes())
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
    /// It is not there, and had not been made durable when the write was cut short.
    Unflushed,
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

/// What should stand on a drive after a stamped write.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Expected {
    /// Who wrote; its pass is the index of the leg.
    pub origin: Origin,
    /// First byte of the region that was written.
    pub start: u64,
    /// One past the last.
    pub end: u64,
    /// Bytes written, from the start of the region on and round again.
    pub written: u64,
    /// So many of them are known to have been made durable: the others may be missing.
    pub flushed: u64,
    /// The region was shared by so many workers, whose laps are not known apart.
    pub workers: u32,
}

impl Expected {
    /// One past the last address that was written.
    #[must_use]
    pub const fn written_end(&self) -> u64 {
        let region = self.end.saturating_sub(self.start);
        if self.written >= region || self.workers > 1 { self.end } else { self.start + self.written }
    }

    /// The newest lap of the first so many bytes that went over this address.
    const fn lap_of(&self, bytes: u64, address: u64) -> Option<u64> {
        let region = self.end.saturating_sub(self.start);
        let region = if region == 0 { 1 } else { region };
        let laps = bytes / region;
        if address.saturating_sub(self.start) < bytes % region { Some(laps) } else { laps.checked_sub(1) }
    }

    /// What the block at this address should say.
    #[must_use]
    pub const fn at(&self, address: u64) -> Origin {
        let lap = match self.lap_of(self.written, address) {
            Some(lap) => lap as u32 & 0xffff,
            None => 0,
        };
        Origin { pass: self.origin.pass << 16 | lap, ..self.origin }
    }

    /// What is to be thought of a block when the write was cut short: a newer lap than the record knew of may have come
    /// to the medium, an unflushed one need not have. A block of this write from another address is no such thing: loss of
    /// power moves none. `found` is the origin of a sound block that belongs at this address.
    #[must_use]
    pub fn cut_short(&self, verdict: Verdict, found: Option<Origin>, address: u64) -> Verdict {
        let is_moved = matches!(verdict, Verdict::Misplaced { .. });
        if verdict == Verdict::Right || is_moved || self.flushed >= self.written {
            return verdict;
        }
        // Of several workers nobody knows whose part the flushed bytes lie in.
        let certain = if self.workers > 1 { None } else { self.lap_of(self.flushed, address) };
        let ours = found.filter(|o| {
            (o.drive, o.haul, o.pass >> 16) == (self.origin.drive, self.origin.haul, self.origin.pass)
        });
        match (certain, ours) {
            (None, Some(_)) => Verdict::Right,
            (Some(lap), Some(o)) if u64::from(o.pass & 0xffff) >= lap & 0xffff => Verdict::Right,
            (None, None) => Verdict::Unflushed,
            (Some(_), _) => verdict,
        }
    }

    /// Judges a block that was read from this address.
    #[must_use]
    pub fn judge(&self, block: &[u8], address: u64) -> Verdict {
        let verdict = match judge(block, self.at(address), address) {
            // Each worker goes round its own part.
            Verdict::Stale if self.workers > 1 => match found_origin(block, address) {
                Some(o) if o.pass >> 16 == self.origin.pass => {
                    judge(block, Origin { pass: o.pass, ..self.origin }, address)
                }
                _ => Verdict::Stale,
            },
            verdict => verdict,
        };
        let sound = verdict == Verdict::Stale;
        self.cut_short(verdict, sound.then(|| found_origin(block, address)).flatten(), address)
    }
}

/// Who wrote a sound block that belongs at this address.
fn found_origin(block: &[u8], address: u64) -> Option<Origin> {
    let b = block.first_chunk::<LENGTH>()?;
    let eight = |at: usize| b[at..at + 8].iter().rev().fold(0u64, |n, d| n << 8 | u64::from(*d));
    let pass = b[4..8].iter().rev().fold(0u32, |n, d| n << 8 | u32::from(*d));
    (eight(24) == address).then(|| Origin { drive: eight(8), haul: eight(16), pass })
}

/// In what way a block is not the one that was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Wrong {
    /// No stamp: lost, wiped, or overwritten by another.
    Unstamped,
    /// It belongs at another address.
    Misplaced,
    /// An older write that was not replaced.
    Stale,
    /// Its data is not what was written.
    Corrupt,
    /// It had not been made durable when the write was cut short, and is not there: no fault of the drive.
    Unflushed,
}

impl Wrong {
    /// After "blocks are".
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Unstamped => "without their stamp: lost or overwritten",
            Self::Misplaced => "from another address",
            Self::Stale => "from an older write",
            Self::Corrupt => "corrupt",
            Self::Unflushed => "not there, and had not been flushed",
        }
    }
}

/// A stretch of blocks that did not read back as written, all in the same way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Mismatch {
    /// First byte.
    pub position: Bytes,
    /// Bytes.
    pub length: Bytes,
    /// In what way.
    pub wrong: Wrong,
    /// Where the first block belongs, when it is misplaced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub belongs: Option<Bytes>,
}

impl Mismatch {
    /// Of one block; `None` of a right one.
    #[must_use]
    pub fn of(verdict: Verdict, address: u64, length: u64) -> Option<Self> {
        let (wrong, belongs) = match verdict {
            Verdict::Right => return None,
            Verdict::Unstamped => (Wrong::Unstamped, None),
            Verdict::Misplaced { address } => (Wrong::Misplaced, Some(Bytes::new(address))),
            Verdict::Stale => (Wrong::Stale, None),
            Verdict::Corrupt => (Wrong::Corrupt, None),
            Verdict::Unflushed => (Wrong::Unflushed, None),
        };
        Some(Self { position: Bytes::new(address), length: Bytes::new(length), wrong, belongs })
    }

    /// Bytes between where its blocks stand and where they belong.
    #[must_use]
    pub fn shift(&self) -> Option<i128> {
        self.belongs.map(|b| i128::from(b.get()) - i128::from(self.position.get()))
    }

    /// Adds a stretch to a list; to its last one when it goes on there in the same way.
    pub fn join(all: &mut Vec<Self>, next: Self) {
        if let Some(last) = all.last_mut()
            && last.wrong == next.wrong
            && last.shift() == next.shift()
            && last.position + last.length == next.position
        {
            last.length += next.length;
            return;
        }
        all.push(next);
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

    #[test]
    fn what_should_stand_where_is_known_after_any_number_of_laps() {
        let origin = Origin { drive: 1, haul: 2, pass: 5 };
        let e =
            |written| Expected { origin, start: 4096, end: 4096 * 11, written, flushed: written, workers: 1 };
        let lap = |e: Expected, block: u64| e.at(block * 4096).pass & 0xffff;
        assert_eq!(e(4096 * 3).written_end(), 4096 * 4);
        assert_eq!((lap(e(4096 * 13), 1), lap(e(4096 * 13), 4), lap(e(4096 * 10), 10)), (1, 0, 0));
        assert_eq!(e(4096).at(4096).pass >> 16, 5);
    }

    #[test]
    fn neighbours_that_are_wrong_alike_are_one() {
        let mut all = Vec::new();
        for i in 0..4u64 {
            let verdict =
                if i < 3 { Verdict::Misplaced { address: i * 4096 + 8192 } } else { Verdict::Corrupt };
            Mismatch::join(&mut all, Mismatch::of(verdict, i * 4096, 4096).unwrap());
        }
        assert_eq!(all.len(), 2);
        assert_eq!((all[0].length, all[0].shift()), (Bytes::new(12288), Some(8192)));
        assert_eq!(Mismatch::of(Verdict::Right, 0, 4096), None);
    }

    proptest! {
        /// A medium that lost any of what was not flushed, and got some that the record does not know of.
        #[test]
        fn loss_of_power_may_take_what_was_not_flushed_and_nothing_else(
            region in 1u64..12,
            flushed in 0u64..30,
            more in 1u64..20,
            unknown in 0u64..3,
            keeps: u64,
            victim in 0u64..12,
        ) {
            const B: u64 = EVERY as u64;
            let origin = Origin { pass: 5, ..ORIGIN };
            let written = flushed + more;
            let stamped = |ordinal: u64| {
                let pass = origin.pass << 16 | (ordinal / region) as u32;
                let mut b = vec![9; EVERY];
                let stamp = encode(Origin { pass, ..origin }, ordinal % region * B, body_sum(&b));
                b[..LENGTH].copy_from_slice(&stamp);
                b
            };
            let mut medium = vec![vec![0; EVERY]; region as usize];
            for ordinal in 0..written + unknown {
                if ordinal < flushed || keeps >> (ordinal % 64) & 1 == 1 {
                    medium[(ordinal % region) as usize] = stamped(ordinal);
                }
            }
            let expected = Expected {
                origin,
                start: 0,
                end: region * B,
                written: written * B,
                flushed: flushed * B,
                workers: 1,
            };
            for address in (0..expected.written_end()).step_by(EVERY) {
                let block = &medium[(address / B) as usize];
                let verdict = expected.judge(block, address);
                let lost = address / B >= flushed && block.iter().all(|b| *b == 0);
                prop_assert_eq!(verdict, if lost { Verdict::Unflushed } else { Verdict::Right });
            }
            // Power or not, a block from another address is a fault.
            let other = (victim + 1) % region;
            if other != victim % region && victim % region < written && written <= region {
                let judged = expected.judge(&stamped(other), victim % region * B);
                prop_assert_eq!(judged, Verdict::Misplaced { address: other * B });
            }
            // What was flushed and is not there is a fault.
            let victim = victim % region;
            if victim < flushed {
                let judged = expected.judge(&[0; EVERY], victim * B);
                prop_assert_eq!(judged, Verdict::Unstamped);
            }
            if flushed > region {
                let oldest = (flushed - 1) % region;
                prop_assert_eq!(expected.judge(&stamped(oldest), oldest * B), Verdict::Stale);
            }
        }

        #[test]
        fn no_flipped_bit_goes_unseen(bit in 0usize..EVERY * 8) {
            let mut b = block(0);
            b[bit / 8] ^= 1 << (bit % 8);
            prop_assert_ne!(judge(&b, ORIGIN, 0), Verdict::Right);
        }
    }
}
