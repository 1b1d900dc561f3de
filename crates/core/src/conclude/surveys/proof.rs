//! What was read back, as a map of the drive: what lies in each part of it, and which parts hold what belongs elsewhere.

use crate::drive::Pattern;
use crate::drive::stamp::{Mismatch, Wrong};
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::Task;

/// The ways in which blocks are wrong, the gravest first.
pub const GRAVEST_FIRST: [Wrong; 5] =
    [Wrong::Corrupt, Wrong::Misplaced, Wrong::Unstamped, Wrong::Stale, Wrong::Unflushed];

/// What was seen in a part of the drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Seen {
    /// Nothing: it was not read.
    Nothing,
    /// What was written.
    Right,
    /// Something else: the gravest that there is in it.
    Wrong(Wrong),
}

impl Seen {
    /// In a few words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Nothing => "not read",
            Self::Right => "right",
            Self::Wrong(Wrong::Corrupt) => "corrupt",
            Self::Wrong(Wrong::Misplaced) => "from another address",
            Self::Wrong(Wrong::Unstamped) => "without stamp",
            Self::Wrong(Wrong::Stale) => "from an older write",
            Self::Wrong(Wrong::Unflushed) => "lost before a flush",
        }
    }
}

/// A part of the drive.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Part {
    /// Bytes of it that were read back.
    pub read: f64,
    /// Bytes of it that are wrong, in the order of [`GRAVEST_FIRST`].
    pub wrong: [f64; 5],
}

impl Part {
    /// The gravest that was seen in it.
    #[must_use]
    pub fn seen(&self) -> Seen {
        let gravest = GRAVEST_FIRST.into_iter().zip(self.wrong).find(|(_, bytes)| *bytes > 0.0);
        match gravest {
            Some((wrong, _)) => Seen::Wrong(wrong),
            None if self.read > 0.0 => Seen::Right,
            None => Seen::Nothing,
        }
    }
}

/// Adds the bytes between two addresses to the parts in which they lie, each of so many bytes.
fn spread(from: f64, to: f64, width: f64, parts: &mut [Part], add: impl Fn(&mut Part, f64)) {
    let last = parts.len().saturating_sub(1);
    let part_of = |at: f64| ((at / width).max(0.0) as usize).min(last);
    for (i, part) in parts.iter_mut().enumerate().take(part_of(to) + 1).skip(part_of(from)) {
        let (begin, end) = (width * i as f64, width * (i + 1) as f64);
        let bytes = to.min(end) - from.max(begin);
        if bytes > 0.0 {
            add(part, bytes);
        }
    }
}

/// The newest verify leg as so many parts of equal length over the whole drive; empty when there is none.
#[must_use]
pub fn parts(readings: &Readings, count: usize) -> Vec<Part> {
    let step = readings.steps().iter().rfind(|s| matches!(s.step.task, Task::Check { .. }));
    let (Some(step), Some(head)) = (step, readings.head()) else { return Vec::new() };
    let mut parts = vec![Part::default(); count.max(1)];
    let width = head.drive.capacity.as_f64().max(1.0) / parts.len() as f64;
    let series = readings.series();
    let checked: u64 = step.samples(series.len()).map(|i| series.moved(i) - series.moved_before(i)).sum();
    let (start, end) = (step.step.start.as_f64(), step.step.end.as_f64());
    if step.step.pattern == Pattern::Sequential && step.step.workers <= 1 {
        let to = (start + checked as f64).min(end);
        spread(start, to, width, &mut parts, |p, bytes| p.read += bytes);
    } else {
        // Read here and there, or by several at once: evenly, as far as is known.
        let share = (checked as f64 / (end - start).max(1.0)).min(1.0);
        spread(start, end, width, &mut parts, |p, bytes| p.read += bytes * share);
    }
    for (_, m) in readings.mismatches().iter().filter(|(at, _)| *at >= step.from) {
        let way = GRAVEST_FIRST.iter().position(|w| *w == m.wrong).unwrap_or(0);
        let from = m.position.as_f64();
        spread(from, from + m.length.as_f64(), width, &mut parts, |p, bytes| p.wrong[way] += bytes);
    }
    parts
}

/// Blocks that stand elsewhere than they belong, in one piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moved {
    /// Where they stand.
    pub stands: Bytes,
    /// Where they belong.
    pub belongs: Bytes,
    /// How many bytes.
    pub length: Bytes,
}

/// Stretches of the newest verify leg that stand elsewhere than they belong, the longest first; neighbours that were moved alike are
/// one.
#[must_use]
pub fn moved(mismatches: &[Mismatch]) -> Vec<Moved> {
    let mut misplaced: Vec<&Mismatch> = mismatches.iter().filter(|m| m.belongs.is_some()).collect();
    misplaced.sort_by_key(|m| m.position);
    let mut all: Vec<Moved> = Vec::new();
    for m in misplaced {
        let Some(belongs) = m.belongs else { continue };
        match all.last_mut() {
            Some(l) if l.stands + l.length == m.position && l.belongs + l.length == belongs => {
                l.length += m.length;
            }
            _ => all.push(Moved { stands: m.position, belongs, length: m.length }),
        }
    }
    all.sort_by_key(|m| (std::cmp::Reverse(m.length), m.stands));
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::stamp::Verdict;

    #[test]
    fn bytes_fall_into_the_parts_they_lie_in() {
        let mut parts = [Part::default(); 4];
        spread(5.0, 25.0, 10.0, &mut parts, |p, bytes| p.read += bytes);
        spread(39.0, 40.0, 10.0, &mut parts, |p, bytes| p.wrong[1] += bytes);
        assert_eq!(parts.map(|p| p.read), [5.0, 10.0, 5.0, 0.0]);
        assert_eq!(parts.map(|p| p.wrong[1]), [0.0, 0.0, 0.0, 1.0]);
        let seen = parts.map(|p| p.seen());
        assert_eq!(seen, [Seen::Right, Seen::Right, Seen::Right, Seen::Wrong(Wrong::Misplaced)]);
        assert_eq!(Part::default().seen(), Seen::Nothing);
    }

    #[test]
    fn what_was_moved_alike_is_one_piece_and_the_longest_comes_first() {
        let one = |position, belongs| {
            Mismatch::of(Verdict::Misplaced { address: belongs }, position, 4096).unwrap()
        };
        let all = [one(0, 1 << 20), one(8192, 1 << 20), one(4096, (1 << 20) + 4096)];
        let pieces = moved(&all);
        assert_eq!(
            pieces,
            [
                Moved { stands: Bytes::ZERO, belongs: Bytes::new(1 << 20), length: Bytes::new(8192) },
                Moved { stands: Bytes::new(8192), belongs: Bytes::new(1 << 20), length: Bytes::new(4096) },
            ]
        );
    }
}
