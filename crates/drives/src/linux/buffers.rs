//! Memory for direct I/O: one mapping, cut into slots of one block each, filled with incompressible data.

use std::ptr::NonNull;

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
        Ok(Self { base, slot, slots })
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

    /// Makes the first `length` bytes of a slot different from everything written before: address and a running
    /// number at the head of each 4 KiB.
    ///
    /// # Safety
    /// As for [`Buffers::slice`].
    pub unsafe fn stamp(&self, slot: usize, length: usize, address: u64, number: u64) {
        // SAFETY: by the caller's promise.
        let data = unsafe { self.slice(slot) };
        for (i, block) in data[..length].chunks_mut(STAMP_EVERY).enumerate() {
            if let Some(head) = block.first_chunk_mut::<16>() {
                head[..8].copy_from_slice(&(address + (i * STAMP_EVERY) as u64).to_le_bytes());
                head[8..].copy_from_slice(&number.wrapping_mul(0x9E37_79B9_7F4A_7C15).to_le_bytes());
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
                    assert!(seen.insert(block.to_vec()), "a block was written twice");
                }
            }
        }
    }
}
