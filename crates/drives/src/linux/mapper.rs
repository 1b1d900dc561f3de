//! Tables of device-mapper volumes: which bytes of which device a volume really is. Asked by the kernel's own interface
//! (linux/dm-ioctl.h), since sysfs names the devices and not the places.

use std::fs::OpenOptions;
use std::os::fd::AsRawFd;
use std::path::Path;

use super::sysfs::Number;

/// One target of a table; addresses in bytes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Target {
    start: u64,
    length: u64,
    kind: String,
    words: Vec<String>,
}

/// Bytes of a lower device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Piece {
    pub device: Number,
    pub start: u64,
    pub end: u64,
}

const SECTOR: u64 = 512;
/// `_IOWR(0xfd, 12, struct dm_ioctl)`: DM_TABLE_STATUS.
const DM_TABLE_STATUS: libc::c_ulong = 0xc138_fd0c;
/// DM_STATUS_TABLE_FLAG: the table and not the state.
const STATUS_TABLE: u32 = 1 << 4;
/// DM_BUFFER_FULL_FLAG: the table is longer than the memory that was given.
const BUFFER_FULL: u32 = 1 << 8;
/// struct dm_ioctl, and struct dm_target_spec.
const HEAD: usize = 312;
const SPEC: usize = 40;
/// Longer tables are not read: the volume then counts as all of what it is built of.
const ROOM: usize = 1 << 20;

/// The table of a volume, by the control node of the device mapper; `None` when it is none, or may not be asked.
pub(super) fn table(control: &Path, volume: Number) -> Option<Vec<Target>> {
    let control = OpenOptions::new().read(true).write(true).open(control).ok()?;
    let mut bytes = vec![0u8; ROOM];
    let mut put = |at: usize, value: &[u8]| bytes[at..at + value.len()].copy_from_slice(value);
    put(0, &4u32.to_ne_bytes());
    put(12, &(ROOM as u32).to_ne_bytes());
    put(16, &(HEAD as u32).to_ne_bytes());
    put(28, &STATUS_TABLE.to_ne_bytes());
    put(40, &rustix::fs::makedev(volume.0, volume.1).to_ne_bytes());
    // SAFETY: the kernel reads and writes at most data_size bytes, which is the length of this memory; it lives through the call.
    let result = unsafe { libc::ioctl(control.as_raw_fd(), DM_TABLE_STATUS, bytes.as_mut_ptr()) };
    (result == 0).then(|| decode(&bytes)).flatten()
}

fn word(b: &[u8], at: usize) -> Option<u32> {
    Some(u32::from_ne_bytes(b.get(at..at + 4)?.try_into().ok()?))
}

fn long(b: &[u8], at: usize) -> Option<u64> {
    Some(u64::from_ne_bytes(b.get(at..at + 8)?.try_into().ok()?))
}

fn text(b: &[u8]) -> String {
    let end = b.iter().position(|c| *c == 0).unwrap_or(b.len());
    String::from_utf8_lossy(&b[..end]).into_owned()
}

/// The kernel's answer: `target_count` specs from `data_start` on, each followed by its parameters; `next` counts from there.
fn decode(answer: &[u8]) -> Option<Vec<Target>> {
    if word(answer, 28)? & BUFFER_FULL != 0 {
        return None;
    }
    let data = answer.get(word(answer, 16)? as usize..)?;
    let mut all = Vec::new();
    let mut at = 0usize;
    for _ in 0..word(answer, 20)? {
        let spec = data.get(at..)?;
        all.push(Target {
            start: long(spec, 0)?.saturating_mul(SECTOR),
            length: long(spec, 8)?.saturating_mul(SECTOR),
            kind: text(spec.get(24..SPEC)?),
            words: text(spec.get(SPEC..)?).split_whitespace().map(str::to_owned).collect(),
        });
        at = word(spec, 20)? as usize;
    }
    Some(all)
}

impl Target {
    /// Devices and offsets among its parameters, and over how many of them its bytes are spread evenly;
    /// `None` for kinds that are laid out in other ways.
    fn devices(&self) -> Option<(Vec<(Number, u64)>, u64)> {
        let at = |i: usize| -> Option<(Number, u64)> {
            let (major, minor) = self.words.get(i)?.split_once(':')?;
            let sectors: u64 = self.words.get(i + 1)?.parse().ok()?;
            Some(((major.parse().ok()?, minor.parse().ok()?), sectors.saturating_mul(SECTOR)))
        };
        match self.kind.as_str() {
            "linear" | "flakey" | "dust" => Some((vec![at(0)?], 1)),
            "crypt" => Some((vec![at(3)?], 1)),
            // Reads, writes and flushes may each have a device of their own.
            "delay" => Some(((0..self.words.len()).step_by(3).filter_map(at).collect(), 1)),
            "striped" => {
                let stripes: u64 = self.words.first()?.parse().ok()?;
                let all: Vec<_> = (0..stripes as usize).map_while(|i| at(2 + 2 * i)).collect();
                (all.len() as u64 == stripes).then_some((all, stripes.max(1)))
            }
            "zero" | "error" => Some((Vec::new(), 1)),
            _ => None,
        }
    }

    pub(super) fn is_understood(&self) -> bool {
        self.devices().is_some()
    }

    /// The bytes below `start..end` of the volume, as far as this target carries them.
    pub(super) fn pieces(&self, start: u64, end: u64) -> Vec<Piece> {
        let (from, to) = (start.max(self.start), end.min(self.start.saturating_add(self.length)));
        let Some((devices, spread)) = self.devices().filter(|_| from < to) else { return Vec::new() };
        let (from, to) = (from - self.start, to - self.start);
        let piece = |(device, offset): (Number, u64)| {
            // Of stripes, all of each: which of them a byte lies on is the chunk's matter.
            let (from, to) = if spread == 1 { (from, to) } else { (0, self.length.div_ceil(spread)) };
            Piece { device, start: offset.saturating_add(from), end: offset.saturating_add(to) }
        };
        devices.into_iter().map(piece).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(targets: &[(u64, u64, &str, &str)]) -> Vec<u8> {
        let mut b = vec![0u8; HEAD];
        b[16..20].copy_from_slice(&(HEAD as u32).to_ne_bytes());
        b[20..24].copy_from_slice(&(targets.len() as u32).to_ne_bytes());
        for (start, length, kind, words) in targets {
            let at = b.len();
            b.resize(at + SPEC, 0);
            b[at..at + 8].copy_from_slice(&start.to_ne_bytes());
            b[at + 8..at + 16].copy_from_slice(&length.to_ne_bytes());
            b[at + 24..at + 24 + kind.len()].copy_from_slice(kind.as_bytes());
            b.extend(words.as_bytes());
            b.push(0);
            b.resize(b.len().next_multiple_of(8), 0);
            let next = (b.len() - HEAD) as u32;
            b[at + 20..at + 24].copy_from_slice(&next.to_ne_bytes());
        }
        b
    }

    #[test]
    fn tables_are_read_as_the_kernel_writes_them() {
        let all = decode(&answer(&[
            (0, 100, "linear", "8:16 2048"),
            (100, 50, "crypt", "aes-xts-plain64 00 0 8:32 4096"),
            (150, 100, "striped", "2 128 8:48 0 8:64 1000"),
            (250, 10, "thin", "253:1 7"),
        ]))
        .unwrap();
        assert_eq!(all.len(), 4);
        // Sectors 10 to 120 of the volume: 10 to 100 lie on 8:16 behind 2,048; 0 to 20 of the second behind 4,096.
        let pieces: Vec<Piece> = all.iter().flat_map(|t| t.pieces(10 * 512, 120 * 512)).collect();
        let piece = |device, start: u64, end: u64| Piece { device, start: start * 512, end: end * 512 };
        assert_eq!(pieces, [piece((8, 16), 2058, 2148), piece((8, 32), 4096, 4116)]);
        // Stripes: half of 100 sectors on each.
        let pieces = all[2].pieces(150 * 512, 160 * 512);
        assert_eq!(pieces, [piece((8, 48), 0, 50), piece((8, 64), 1000, 1050)]);
        assert!(!all[3].is_understood() && all[3].pieces(0, u64::MAX).is_empty());
    }

    #[test]
    fn a_short_or_strange_answer_is_no_table() {
        let whole = answer(&[(0, 100, "linear", "8:16 2048"), (100, 5, "linear", "8:16 9")]);
        for length in 0..whole.len() - 16 {
            let _ = decode(&whole[..length]);
        }
        assert!(decode(&whole[..HEAD + 20]).is_none());
        let odd = decode(&answer(&[(0, 9, "linear", "8-16 x"), (9, 9, "striped", "900 1 8:1 0")])).unwrap();
        assert!(odd.iter().all(|t| !t.is_understood()));
    }
}
