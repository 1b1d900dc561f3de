//! What a device holds: known marks, and data that carries none.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use hollow_mile_core::drive::permutation::Permutation;
use hollow_mile_core::drive::protocol::signature;
use hollow_mile_core::drive::protocol::signature::{Looked, Signature};
use hollow_mile_core::drive::stamp::is_ours;
use hollow_mile_core::quantity::units::Bytes;
use rustix::fs::{Advice, fadvise};

use super::second_opinion;

/// Blocks of this size are looked at between head and tail.
const BLOCK: u64 = 4096;
/// So many of them, spread evenly and within each part at random: on platters about a second.
const PLACES: u64 = 96;

/// What was found on a device.
#[derive(Debug, Default)]
pub(super) struct Content {
    /// Known marks.
    pub signatures: Vec<Signature>,
    /// Places that hold data which is neither one byte over and over nor written by this program.
    pub foreign: u64,
    /// Places that were looked at.
    pub looked: u64,
}

/// Data that somebody may miss: not one byte over and over, and without a mark of ours.
fn is_foreign(block: &[u8]) -> bool {
    block.iter().any(|b| *b != block[0]) && !block.chunks(512).any(is_ours)
}

impl Content {
    /// Reads marks, and looks for data without any. Nothing is written; it is read through the page cache, since a look
    /// need not be aligned.
    ///
    /// # Errors
    /// When it cannot be opened or its first bytes cannot be read.
    pub fn of(node: &Path, size: Bytes) -> std::io::Result<Self> {
        let file = File::open(node)?;
        // What lies behind a place is not wanted.
        let _ = fadvise(&file, 0, None, Advice::Random);
        let mut content = Self::default();
        let mut looked = Looked::new(size);
        for range in signature::places(size) {
            let mut bytes = vec![0u8; (range.end - range.start) as usize];
            match file.read_exact_at(&mut bytes, range.start) {
                Ok(()) => {}
                // A bad block in the middle hides one mark; one at the start hides them all.
                Err(e) if range.start == 0 => return Err(e),
                Err(_) => continue,
            }
            for block in bytes.chunks(BLOCK as usize) {
                content.looked += 1;
                content.foreign += u64::from(is_foreign(block));
            }
            looked.add(range.start, bytes);
        }
        content.signatures = signature::detect(&looked);
        for theirs in second_opinion::of(&file) {
            if !content.signatures.iter().any(|ours| ours.name == theirs.name) {
                content.signatures.push(theirs);
            }
        }
        let blocks = size.get() / BLOCK;
        let (places, stride) = (blocks.min(PLACES), blocks / blocks.clamp(1, PLACES));
        let mut order = Permutation::new(stride.max(1), 0x10_0c);
        let mut block = [0u8; BLOCK as usize];
        for i in 0..places {
            let at = (i * stride + order.next()) * BLOCK;
            if file.read_exact_at(&mut block, at).is_ok() {
                content.looked += 1;
                content.foreign += u64::from(is_foreign(&block));
            }
        }
        Ok(content)
    }
}
