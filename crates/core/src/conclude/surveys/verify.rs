//! Blocks read back: how many came back right, and what the wrong ones have in common.

use serde::{Deserialize, Serialize};

use super::proof::{GRAVEST_FIRST, Seen};
use crate::drive::stamp::{Mismatch, Wrong};
use crate::quantity::units::Bytes;
use crate::readings::Readings;
use crate::record::Task;

/// Stretches that are listed one by one.
const LISTED: usize = 1000;

/// What a verify leg says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct VerifySurvey {
    /// Bytes that were written and should be there.
    pub written_bytes: u64,
    /// Bytes read back.
    pub checked_bytes: u64,
    /// Bytes that did not read back as written.
    pub wrong_bytes: u64,
    /// Bytes of blocks without a stamp.
    pub unstamped_bytes: u64,
    /// Bytes of blocks from another address.
    pub misplaced_bytes: u64,
    /// Bytes of blocks from an older write.
    pub stale_bytes: u64,
    /// Bytes of blocks whose data is corrupt.
    pub corrupt_bytes: u64,
    /// Bytes that are not there and had not been made durable when the write was cut short: no fault, and not wrong.
    #[serde(default)]
    pub unflushed_bytes: u64,
    /// What the drive seems to hold, when its addresses wrap round.
    pub holds_bytes: Option<u64>,
    /// Stretches, the first thousand.
    pub mismatches: Vec<Mismatch>,
}

fn divisor(a: u128, b: u128) -> u128 {
    if b == 0 { a } else { divisor(b, a % b) }
}

/// Blocks that all come from a multiple of the same distance further on: later writes went over earlier ones.
fn wraps_after(all: &[Mismatch]) -> Option<u64> {
    let shifts: Vec<i128> = all.iter().filter_map(Mismatch::shift).collect();
    if shifts.is_empty() || shifts.iter().any(|s| *s <= 0) {
        return None;
    }
    let step = shifts.iter().map(|s| s.unsigned_abs()).fold(0, divisor);
    // Blocks that went astray have no distance in common but that of their size.
    (step >= 1 << 20).then(|| u64::try_from(step).ok()).flatten()
}

/// What the newest verify leg says so far.
#[must_use]
pub fn survey(readings: &Readings) -> Option<VerifySurvey> {
    let step = readings.steps().iter().rfind(|s| matches!(s.step.task, Task::Check { .. }))?;
    let Task::Check { written } = step.step.task else { return None };
    let series = readings.series();
    let samples = step.samples(series.len());
    let checked: u64 = samples.map(|i| series.moved(i) - series.moved_before(i)).sum();
    let all: Vec<Mismatch> =
        readings.mismatches().iter().filter(|(at, _)| *at >= step.from).map(|(_, m)| *m).collect();
    let of = |wrong: Wrong| all.iter().filter(|m| m.wrong == wrong).map(|m| m.length.get()).sum::<u64>();
    Some(VerifySurvey {
        written_bytes: written.get(),
        checked_bytes: checked,
        wrong_bytes: all.iter().map(|m| m.length.get()).sum::<u64>() - of(Wrong::Unflushed),
        unstamped_bytes: of(Wrong::Unstamped),
        misplaced_bytes: of(Wrong::Misplaced),
        stale_bytes: of(Wrong::Stale),
        corrupt_bytes: of(Wrong::Corrupt),
        unflushed_bytes: of(Wrong::Unflushed),
        holds_bytes: wraps_after(&all),
        mismatches: all.into_iter().take(LISTED).collect(),
    })
}

impl VerifySurvey {
    /// Bytes by what was seen of them: the right ones, the wrong ones with the gravest first, those that were not read.
    #[must_use]
    pub fn by_what_was_seen(&self) -> Vec<(Seen, u64)> {
        let of = |wrong: Wrong| match wrong {
            Wrong::Corrupt => self.corrupt_bytes,
            Wrong::Misplaced => self.misplaced_bytes,
            Wrong::Unstamped => self.unstamped_bytes,
            Wrong::Stale => self.stale_bytes,
            Wrong::Unflushed => self.unflushed_bytes,
        };
        let right = self.checked_bytes.saturating_sub(self.wrong_bytes + self.unflushed_bytes);
        let mut all = vec![(Seen::Right, right)];
        all.extend(GRAVEST_FIRST.map(|w| (Seen::Wrong(w), of(w))));
        all.push((Seen::Nothing, self.written_bytes.saturating_sub(self.checked_bytes)));
        all
    }

    /// In a sentence or two.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let checked = Bytes::new(self.checked_bytes);
        let lost = (self.unflushed_bytes > 0).then(|| {
            format!(
                "{} had not been flushed when the write was cut short, and are not there: no fault of the drive.",
                Bytes::new(self.unflushed_bytes)
            )
        });
        if self.wrong_bytes == 0 {
            let all = match &lost {
                Some(_) => format!("{checked} read back, every block that was flushed is there and right."),
                None => format!("{checked} read back, every block the one that was written."),
            };
            return std::iter::once(all).chain(lost).collect();
        }
        let mut all =
            vec![format!("{} of {checked} did not read back as written.", Bytes::new(self.wrong_bytes))];
        if let Some(holds) = self.holds_bytes {
            all.push(format!(
                "Addresses wrap round after {}: the drive holds that much, whatever it says.",
                Bytes::new(holds)
            ));
        }
        for (bytes, wrong) in [
            (self.misplaced_bytes, Wrong::Misplaced),
            (self.unstamped_bytes, Wrong::Unstamped),
            (self.stale_bytes, Wrong::Stale),
            (self.corrupt_bytes, Wrong::Corrupt),
        ] {
            if bytes > 0 {
                all.push(format!("{} are {}.", Bytes::new(bytes), wrong.words()));
            }
        }
        all.extend(lost);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::stamp::Verdict;

    fn misplaced(position: u64, belongs: u64) -> Mismatch {
        Mismatch::of(Verdict::Misplaced { address: belongs }, position, 4096).unwrap()
    }

    #[test]
    fn a_wrap_is_told_from_blocks_gone_astray() {
        let holds = 32 << 30;
        let wrapped = [misplaced(0, holds), misplaced(4096, 4096 + 7 * holds)];
        assert_eq!(wraps_after(&wrapped), Some(holds));
        assert_eq!(wraps_after(&[misplaced(0, 8192), misplaced(4096, 4096 * 8)]), None);
        assert_eq!(wraps_after(&[misplaced(holds, 0)]), None, "an older block did not go over a newer one");
        assert_eq!(wraps_after(&[]), None);
    }
}
