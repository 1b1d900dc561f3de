//! How often a drive is asked for its health by the threads that follow it: as usual, not at all, or twice as often. An experiment tells so
//! whether it is this program that holds a drive back.

use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::Duration;

use hollow_mile_core::drive::Asking;

const USUAL: u8 = 0;
const HELD_OFF: u8 = 1;
const TWICE: u8 = 2;

/// Shared by who asks and who says how often.
#[derive(Debug, Clone, Default)]
pub(super) struct Pace(Arc<AtomicU8>);

impl Pace {
    /// Says how often.
    pub fn set(&self, how: Asking) {
        let byte = match how {
            Asking::Usual => USUAL,
            Asking::HeldOff => HELD_OFF,
            Asking::Twice => TWICE,
        };
        self.0.store(byte, Ordering::Relaxed);
    }

    /// How long to wait from one question to the next, of those that come so often as a rule; `None` while nothing is asked.
    pub fn every(&self, usual: Duration) -> Option<Duration> {
        match self.0.load(Ordering::Relaxed) {
            HELD_OFF => None,
            TWICE => Some(usual / 2),
            _ => Some(usual),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_is_asked_as_often_as_it_was_said_last() {
        let pace = Pace::default();
        let kept = pace.clone();
        let second = Duration::from_secs(1);
        assert_eq!(kept.every(second), Some(second));
        for (how, every) in
            [(Asking::HeldOff, None), (Asking::Twice, Some(second / 2)), (Asking::Usual, Some(second))]
        {
            pace.set(how);
            assert_eq!(kept.every(second), every, "{how:?}");
        }
    }
}
