//! Inquiries: what experiments in the middle of a load say of the cause of a fall.
//!
//! | experiment | cache | heat | place | host or link |
//! |---|---|---|---|---|
//! | elsewhere | as slow | as slow | fast | as slow |
//! | the other way | reads are fast | | | reads are as slow |
//! | cool: reads after the rest | as before it | faster | as before it | as before it |
//! | cool: the load again | fast for what came back | fast, lost at the same temperature | slow at once | slow at once |
//! | cool, once more with a light load first | as many bytes until it falls | more bytes | | |
//! | heavier | as slow | as slow | as slow | faster, as a rule |
//! | two workers | as slow | as slow | as slow | faster, where one of them is all that a processor can do, as of writes alone |
//! | data that compress | as slow, or faster | as slow, or faster | as slow, or faster | as slow |
//! | the same stretch, towards the fall and away from it | as slow | as slow | fast before it, slow behind it | as slow |
//! | quiet: nothing else is asked of the drive, or twice as much | as slow | as slow | as slow | faster, where it was this program |
//!
//! What comes and goes by itself is told from heat by a load that is a little lighter than the drive keeps in the mean: heat does not return.
//!
//! [`Inquiry::of`] depends on the record alone, so live and replay agree; the runner asks [`Inquiry::next`] what to try.

mod apply;
mod choice;
mod cycles;
mod effects;
mod falls;
mod hypotheses;
mod predictions;
mod rates;
mod rests;
mod shares;
mod words;

use crate::readings::{InquiryReading, Readings};

pub use apply::{Decision, Seen, ToldArm, apply, carry_over};
pub use choice::{Possible, Trial};
pub use cycles::CycleForm;
pub use effects::{Effects, Stretched};
pub use hypotheses::Hypothesis;
pub use predictions::{Observed, Prediction};
pub use rates::{Arm, LogRate, paced_has_fallen_below};
pub use rests::{AgainstModel, Cooled, LEAST_REST_AGAIN, LightFirst};
pub use shares::{COOLS_K, Shares};
pub use words::cause_words;

/// One answer stands with this share.
pub const STANDS: f64 = 0.99;
/// A pair of arms, one of each, takes so long; an experiment begins with two pairs, and may take two more.
pub const ARM_S: f64 = 2.0;
/// What comes back sooner is no fall, s.
const RECURS_S: f64 = 3.0;
/// An inquiry as far as it has come, with what it says.
#[derive(Debug, Clone, PartialEq)]
pub struct Inquiry<'a> {
    /// As it went.
    pub reading: &'a InquiryReading,
    /// What was measured.
    pub effects: Effects,
    /// What remains of each explanation.
    pub shares: Shares,
}

impl<'a> Inquiry<'a> {
    /// Of an inquiry in a record.
    #[must_use]
    pub fn of(reading: &'a InquiryReading, readings: &Readings) -> Self {
        let mut effects = Effects::of(reading, readings.series());
        // A fast stretch holds one thing at a time: what was put into the one before is part of the same question.
        let fall = &reading.fall;
        let before = readings.inquiries().iter().filter(|i| i.from < reading.from && i.leg == reading.leg);
        for other in before.filter(|i| fall.fast_so_far.and(i.fall.fast_so_far).is_some()) {
            let Effects { rested, read_between, .. } = Effects::of(other, readings.series());
            effects.rested = effects.rested.or(rested);
            effects.read_between = effects.read_between.or(read_between);
        }
        let shares = Shares::after(&reading.fall, &effects);
        Self { reading, effects, shares }
    }
}

#[cfg(test)]
mod model_tests;
#[cfg(test)]
mod tests;
