//! How what comes and goes by itself is tried out: with a load that is a little lighter than the drive keeps in the mean, or with a rest or reads
//! in the middle of a fast stretch.

use super::ARM_S;
use crate::quantity::units::{Bytes, Rate};
use crate::record::{Fall, Turns};

/// How what comes and goes is tried out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum CycleForm {
    /// A lighter load, begun when the rate is back, for as many bytes and more.
    Lighter,
    /// A rest in the middle of a fast stretch.
    Rest,
    /// Reads in the middle of a fast stretch.
    Read,
}

/// A rest or reads take this share of a fast stretch in the middle of which they are put, and no less or more than so long, s.
const PUT_IN: f64 = 0.25;
const PUT_IN_S: (f64, f64) = (8.0, 60.0);
/// A fast stretch with a rest in it is waited for until it holds so much more than usual, and one with reads in it so much.
const WAITS: (f64, f64) = (1.25, 1.12);

/// A lighter load that did not fall within so many times the bytes of a full one does not fall; one that fell later than that tells nothing.
/// The more even the full ones are, the sooner that is plain: so many times what they differ by, and no less or more than this.
const UNEVEN_TIMES: f64 = 5.0;
const ENOUGH: (f64, f64) = (0.15, 0.35);
/// Two or three that are alike may be so by chance: it is at least so much then.
const ENOUGH_OF: [f64; 4] = [0.35, 0.35, 0.3, 0.22];
/// It goes on for a little longer.
const AND_MORE: f64 = 0.01;

impl Turns {
    /// From so many times the bytes of a fast stretch on a lighter load has outlasted it.
    #[must_use]
    pub fn enough(&self) -> f64 {
        let least = ENOUGH_OF.get(self.count as usize).copied().unwrap_or(ENOUGH.0);
        1.0 + (UNEVEN_TIMES * self.uneven).clamp(least, ENOUGH.1)
    }

    /// How long a rest or reads are that are put into a fast stretch, s.
    #[must_use]
    pub fn put_in_s(&self) -> f64 {
        (PUT_IN * self.fast_s).clamp(PUT_IN_S.0, PUT_IN_S.1)
    }
}

impl Fall {
    /// The rate of a lighter load, and how many bytes of it: less than the drive keeps in the mean of a fast and a slow stretch, and more than
    /// the slow one has, so that a fall is seen. `None` of what does not come and go, or where there is no room between the two.
    #[must_use]
    pub fn lighter(&self) -> Option<(Rate, Bytes)> {
        let turns = self.turns?;
        let (fast, low) = (turns.fast_bytes.as_f64(), self.after.get());
        let mean = (fast + low * turns.slow_s) / (turns.fast_s + turns.slow_s).max(1e-9);
        let rate = (low + 0.7 * (mean - low)).max(1.2 * low);
        let bytes = (turns.enough() + AND_MORE) * fast;
        (rate < 0.97 * mean).then(|| (Rate::new(rate), Bytes::new(bytes as u64)))
    }

    /// How long a lighter load takes, s.
    #[must_use]
    pub fn lighter_s(&self) -> Option<f64> {
        self.lighter().map(|(rate, bytes)| bytes.as_f64() / rate.get().max(1.0))
    }

    /// How long a fast stretch is waited for at most after something was put into it, s.
    #[must_use]
    pub fn still_fast_s(&self, form: CycleForm) -> f64 {
        let Some((turns, so_far)) = self.turns.zip(self.fast_so_far) else { return 0.0 };
        let whole = if form == CycleForm::Rest { WAITS.0 } else { WAITS.1 };
        let had = so_far.as_f64() / turns.fast_bytes.as_f64().max(1.0);
        (whole - had).max(0.0) * turns.fast_s + ARM_S
    }
}
