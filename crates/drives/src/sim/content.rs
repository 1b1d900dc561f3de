//! What a simulated drive holds: not the bytes, but who wrote which address last, and what went wrong on the way.

use hollow_mile_core::drive::stamp::{Expected, Mismatch, Origin, Verdict};

use super::spec::Faults;

/// Faults befall stretches of this size as a whole.
const GRAIN: u64 = 1 << 20;

#[derive(Debug, Clone)]
struct Written {
    origin: Option<Origin>,
    start: u64,
    end: u64,
    bytes: u64,
}

/// Writes in the order they came.
#[derive(Debug, Clone, Default)]
pub struct Content {
    all: Vec<Written>,
}

/// A well-mixed number (SplitMix64 by Steele, Lea and Flood 2014).
const fn mixed(n: u64) -> u64 {
    let n = n.wrapping_add(0x9E37_79B9_7F4A_7C15);
    let n = (n ^ (n >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    let n = (n ^ (n >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    n ^ (n >> 31)
}

fn befalls(one_in: Option<u64>, salt: u64, write: usize, address: u64) -> bool {
    one_in.is_some_and(|n| mixed((address / GRAIN) ^ mixed(salt ^ write as u64)).is_multiple_of(n))
}

impl Written {
    /// The newest address of this write that lies at the same place of the medium, and its lap.
    fn newest_at(&self, address: u64, holds: u64) -> Option<(u64, u32)> {
        let region = self.end - self.start;
        let (laps, part) = (self.bytes / region, self.bytes % region);
        // The highest address below `end` that wraps to the same place and lies in the region.
        let highest = |end: u64| {
            let place = address % holds;
            let below = end.checked_sub(place + 1)? / holds * holds + place;
            (below >= self.start).then_some(below)
        };
        highest(self.start + part)
            .filter(|_| part > 0)
            .map(|a| (a, laps as u32))
            .or_else(|| highest(self.end).filter(|_| laps > 0).map(|a| (a, laps as u32 - 1)))
    }
}

impl Content {
    /// A sequential write of a region begins, or goes on after so many bytes.
    pub fn begin(&mut self, origin: Option<Origin>, start: u64, end: u64, done: u64) {
        let goes_on = |w: &Written| {
            done > 0 && origin.is_some() && (w.origin, w.start, w.end, w.bytes) == (origin, start, end, done)
        };
        if !self.all.last().is_some_and(goes_on) {
            self.all.push(Written { origin, start, end, bytes: 0 });
        }
    }

    /// It goes on by so many bytes.
    pub fn write(&mut self, bytes: u64) {
        if let Some(w) = self.all.last_mut() {
            w.bytes += bytes;
        }
    }

    /// Nothing is held any more.
    pub fn wipe(&mut self) {
        self.all.clear();
    }

    fn judge(&self, expected: &Expected, faults: &Faults, seed: u64, capacity: u64, address: u64) -> Verdict {
        let holds = faults.holds.map_or(capacity, |h| h.get());
        for (i, write) in self.all.iter().enumerate().rev() {
            let Some((at, lap)) = write.newest_at(address, holds) else { continue };
            if befalls(faults.loses_one_in, seed, i, at) {
                continue;
            }
            let Some(origin) = write.origin else { return Verdict::Unstamped };
            if befalls(faults.corrupts_one_in, !seed, i, at) {
                return Verdict::Corrupt;
            }
            let found = Origin { pass: origin.pass << 16 | lap, ..origin };
            let wanted = expected.at(address);
            let verdict = if found.drive != wanted.drive || found.haul != wanted.haul {
                Verdict::Stale
            } else if at != address {
                Verdict::Misplaced { address: at }
            } else if found != wanted {
                Verdict::Stale
            } else {
                Verdict::Right
            };
            return expected.cut_short(verdict, Some(found).filter(|_| at == address), address);
        }
        Verdict::Unstamped
    }

    /// What comes back wrong of a stretch.
    pub fn check(
        &self,
        expected: &Expected,
        faults: &Faults,
        seed: u64,
        capacity: u64,
        stretch: std::ops::Range<u64>,
        out: &mut Vec<Mismatch>,
    ) {
        let mut at = stretch.start;
        while at < stretch.end {
            let next = ((at / GRAIN + 1) * GRAIN).min(stretch.end);
            let verdict = self.judge(expected, faults, seed, capacity, at);
            if let Some(found) = Mismatch::of(verdict, at, next - at) {
                Mismatch::join(out, found);
            }
            at = next;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::quantity::units::Bytes;

    const MIB: u64 = 1 << 20;

    fn checked(faults: &Faults, written: u64) -> Vec<Mismatch> {
        let origin = Origin { drive: 1, haul: 2, pass: 3 };
        let mut content = Content::default();
        content.begin(Some(origin), 0, 100 * MIB, 0);
        content.write(written * MIB);
        let expected = Expected {
            origin,
            start: 0,
            end: 100 * MIB,
            written: written * MIB,
            flushed: written * MIB,
            workers: 1,
        };
        let mut out = Vec::new();
        content.check(&expected, faults, 7, 100 * MIB, 0..expected.written_end(), &mut out);
        out
    }

    #[test]
    fn a_drive_that_wraps_is_told_also_when_its_write_was_cut_short() {
        let origin = Origin { drive: 1, haul: 2, pass: 3 };
        let faults = Faults { holds: Some(Bytes::new(32 * MIB)), ..Faults::default() };
        let mut content = Content::default();
        content.begin(Some(origin), 0, 100 * MIB, 0);
        content.write(60 * MIB);
        for flushed in [0, 40 * MIB] {
            let expected =
                Expected { origin, start: 0, end: 100 * MIB, written: 60 * MIB, flushed, workers: 1 };
            let mut out = Vec::new();
            content.check(&expected, &faults, 7, 100 * MIB, 0..expected.written_end(), &mut out);
            let moved: u64 = out.iter().filter(|m| m.belongs.is_some()).map(|m| m.length.get()).sum();
            assert_eq!((out.len(), moved), (1, 28 * MIB), "{flushed}: {out:?}");
        }
    }

    #[test]
    fn a_sound_drive_gives_back_what_was_written_on_every_lap() {
        for written in [10, 100, 130, 250] {
            assert_eq!(checked(&Faults::default(), written), [], "{written} MiB");
        }
    }

    #[test]
    fn a_drive_that_holds_less_gives_back_what_was_written_later() {
        let small = Faults { holds: Some(Bytes::from_mib(30)), ..Faults::default() };
        assert_eq!(checked(&small, 30), [], "up to there nothing is lost");
        let found = checked(&small, 100);
        assert_eq!(found.iter().map(|m| m.length.get()).sum::<u64>(), 70 * MIB, "{found:?}");
        assert!(found.iter().all(|m| m.shift().unwrap() % (30 * i128::from(MIB)) == 0));
    }

    #[test]
    fn lost_and_damaged_writes_are_told_apart() {
        let loses = checked(&Faults { loses_one_in: Some(10), ..Faults::default() }, 100);
        assert!(
            !loses.is_empty()
                && loses.iter().all(|m| m.wrong == hollow_mile_core::drive::stamp::Wrong::Unstamped)
        );
        let stale = checked(&Faults { loses_one_in: Some(10), ..Faults::default() }, 200);
        assert!(
            stale.iter().any(|m| m.wrong == hollow_mile_core::drive::stamp::Wrong::Unstamped)
                || !stale.is_empty()
        );
        let corrupt = checked(&Faults { corrupts_one_in: Some(10), ..Faults::default() }, 100);
        assert!(
            !corrupt.is_empty()
                && corrupt.iter().all(|m| m.wrong == hollow_mile_core::drive::stamp::Wrong::Corrupt)
        );
    }
}
