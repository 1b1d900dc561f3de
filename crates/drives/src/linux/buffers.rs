//! Memory for direct I/O: one mapping, cut into slots of one block each, filled with incompressible data.

use std::ptr::NonNull;

use hollow_mile_core::drive::stamp;
use hollow_mile_core::drive::stamp::{Expected, Mismatch, Origin};

use rand::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use rustix::mm::{Advice, MapFlags, ProtFlags, madvise, mmap_anonymous, munmap};

/// Drives compress and match in blocks of this size at least; every one that is written differs from every other.
const STAMP_EVERY: usize = 4096;

/// Slots of page-aligned memory. A slot belongs to one operation from when it is issued until it completes; whoever
/// issues operations keeps that rule (see [`super::pump::Pump`], the only user).
pub struct Buffers {
    base: NonNull<u8>,
    slot: usize,
    slots: usize,
    /// Checksum of what follows the stamp in each stamped unit of each slot.
    sums: Vec<u32>,
}

// SAFETY: the mapping is plain memory that outlives every reference to it; which thread touches which slot is decided
// by the pump, which hands a slot to one operation at a time.
unsafe impl Send for Buffers {}
// SAFETY: as above; shared access never overlaps within a slot.
unsafe impl Sync for Buffers {}

impl Buffers {
    /// Maps `slots` of `slot` bytes, filled with random data from `seed`.
    ///
    /// # Errors
    /// When the system has not so much memory to give.
    pub fn new(slots: usize, slot: usize, seed: u64) -> std::io::Result<Self> {
        let length = slots.checked_mul(slot).ok_or(std::io::ErrorKind::OutOfMemory)?;
        // SAFETY: an anonymous mapping at an address of the kernel's choice aliases nothing.
        let base = unsafe {
            mmap_anonymous(
                std::ptr::null_mut(),
                length,
                ProtFlags::READ | ProtFlags::WRITE,
                MapFlags::PRIVATE,
            )
        }?;
        // Large pages where there are some: fewer look-ups for whoever copies or maps these buffers.
        // SAFETY: advice on the mapping just made; it changes no content.
        let _ = unsafe { madvise(base, length, Advice::LinuxHugepage) };
        let base = NonNull::new(base.cast::<u8>()).ok_or(std::io::ErrorKind::OutOfMemory)?;
        // SAFETY: the mapping is `length` bytes long, writable, and nobody else knows of it yet.
        let all = unsafe { std::slice::from_raw_parts_mut(base.as_ptr(), length) };
        Xoshiro256PlusPlus::seed_from_u64(seed).fill_bytes(all);
        Ok(Self { base, slot, slots, sums: Vec::new() })
    }

    /// Bytes of a unit that has a stamp of its own.
    const fn unit(&self) -> usize {
        if self.slot < STAMP_EVERY { self.slot } else { STAMP_EVERY }
    }

    /// Makes the data ready for writing: the last `compressible_percent` of each unit become zeroes, and for stamped
    /// data the checksums are made, once for all writes.
    pub fn prepare(&mut self, compressible_percent: u8, stamped: bool) {
        let unit = self.unit();
        let zeroes = unit * usize::from(compressible_percent.min(100)) / 100;
        // SAFETY: no operation is in flight yet, and `&mut self` excludes every other reference.
        let all = unsafe { std::slice::from_raw_parts_mut(self.base.as_ptr(), self.slot * self.slots) };
        for block in all.chunks_mut(self.slot).flat_map(|slot| slot.chunks_mut(unit)) {
            let from = block.len().saturating_sub(zeroes);
            block[from..].fill(0);
        }
        if stamped {
            self.sums =
                all.chunks(self.slot).flat_map(|slot| slot.chunks(unit)).map(stamp::body_sum).collect();
        }
    }

    /// Puts a stamp at the head of each unit of the first `length` bytes of a slot; [`Buffers::prepare`] was told.
    ///
    /// # Safety
    /// As for [`Buffers::slice`].
    pub unsafe fn sign(&self, slot: usize, length: usize, address: u64, origin: Origin) {
        let unit = self.unit();
        let first = slot * self.slot.div_ceil(unit);
        // SAFETY: by the caller's promise.
        let data = unsafe { self.slice(slot) };
        for (i, block) in data[..length].chunks_mut(unit).enumerate() {
            // A transfer that ends within a unit has a shorter one than was summed.
            let whole = block.len() == unit.min(self.slot - i * unit);
            let sum = if whole { self.sums[first + i] } else { stamp::body_sum(block) };
            if let Some(head) = block.first_chunk_mut::<{ stamp::LENGTH }>() {
                *head = stamp::encode(origin, address + (i * unit) as u64, sum);
            }
        }
    }

    /// Judges the stamps in the first `length` bytes of a slot, which were read from this address.
    ///
    /// # Safety
    /// As for [`Buffers::slice`].
    pub unsafe fn judge(
        &self,
        slot: usize,
        length: usize,
        address: u64,
        expected: &Expected,
        out: &mut Vec<Mismatch>,
    ) {
        // SAFETY: by the caller's promise.
        let data = unsafe { self.slice(slot) };
        for (i, block) in data[..length].chunks(stamp::EVERY).enumerate() {
            let at = address + (i * stamp::EVERY) as u64;
            if let Some(found) = Mismatch::of(expected.judge(block, at), at, block.len() as u64) {
                Mismatch::join(out, found);
            }
        }
    }

    /// Number of slots.
    pub const fn slots(&self) -> usize {
        self.slots
    }

    /// Bytes in a slot.
    pub const fn slot_size(&self) -> usize {
        self.slot
    }

    /// Where a slot begins.
    pub fn pointer(&self, slot: usize) -> *mut u8 {
        assert!(slot < self.slots, "slot {slot} of {}", self.slots);
        // SAFETY: the slot lies within the mapping.
        unsafe { self.base.as_ptr().add(slot * self.slot) }
    }

    /// All of a slot.
    ///
    /// # Safety
    /// No operation in flight and no other reference may use this slot.
    #[allow(clippy::mut_from_ref)]
    pub unsafe fn slice(&self, slot: usize) -> &mut [u8] {
        // SAFETY: within the mapping; exclusive by the caller's promise.
        unsafe { std::slice::from_raw_parts_mut(self.pointer(slot), self.slot) }
    }

    /// Makes the first `length` bytes of a slot different from everything written before: our mark, address and a running
    /// number at the head of each 4 KiB.
    ///
    /// # Safety
    /// As for [`Buffers::slice`].
    pub unsafe fn stamp(&self, slot: usize, length: usize, address: u64, number: u64) {
        // SAFETY: by the caller's promise.
        let data = unsafe { self.slice(slot) };
        for (i, block) in data[..length].chunks_mut(STAMP_EVERY).enumerate() {
            if let Some(head) = block.first_chunk_mut::<24>() {
                head[..8].copy_from_slice(&stamp::PLAIN);
                head[8..16].copy_from_slice(&(address + (i * STAMP_EVERY) as u64).to_le_bytes());
                head[16..].copy_from_slice(&number.wrapping_mul(0x9E37_79B9_7F4A_7C15).to_le_bytes());
            }
        }
    }
}

impl Drop for Buffers {
    fn drop(&mut self) {
        // SAFETY: unmaps what `new` mapped, once; the pump drains all operations before it lets go of its buffers.
        let _ = unsafe { munmap(self.base.as_ptr().cast(), self.slot * self.slots) };
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stamps_prove_what_was_written_and_where() {
        for slot_size in [512usize, 4096, 6 * 1024, 12 * 1024] {
            let mut b = Buffers::new(3, slot_size, 7).unwrap();
            b.prepare(0, true);
            let origin = Origin { drive: 1, haul: 2, pass: 3 };
            // SAFETY: nothing is in flight in this test.
            unsafe {
                b.sign(2, slot_size, 8192, origin);
                for (i, block) in b.slice(2).chunks(slot_size.min(4096)).enumerate() {
                    let at = 8192 + (i * 4096) as u64;
                    assert_eq!(stamp::judge(block, origin, at), stamp::Verdict::Right);
                }
            }
        }
    }

    #[test]
    fn compressible_data_has_its_share_of_zeroes() {
        let mut b = Buffers::new(2, 8192, 7).unwrap();
        b.prepare(50, false);
        // SAFETY: nothing is in flight in this test.
        let zeroes = unsafe { b.slice(1).iter().filter(|x| **x == 0).count() };
        assert!((4096..4096 + 60).contains(&zeroes), "{zeroes} of 8,192");
    }

    #[test]
    fn no_two_blocks_are_alike_and_memory_is_aligned() {
        let b = Buffers::new(4, 16 * 1024, 7).unwrap();
        let mut seen = std::collections::HashSet::new();
        for number in 0..100u64 {
            let slot = (number % 4) as usize;
            assert_eq!(b.pointer(slot) as usize % 4096, 0);
            // SAFETY: nothing is in flight in this test.
            unsafe {
                b.stamp(slot, 16 * 1024, 0, number);
                for block in b.slice(slot).chunks(4096) {
                    assert!(stamp::is_ours(block) && !stamp::is_ours(&block[1..]));
                    assert!(seen.insert(block.to_vec()), "a block was written twice");
                }
            }
        }
    }
}
