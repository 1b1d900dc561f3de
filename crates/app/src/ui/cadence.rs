//! When a haul under way is concluded from anew.
//!
//! Conclusions cost more than samples, and the more the longer the record is. They are made at once often while something happens, since a flag is
//! wanted as soon as it can be told, and while nothing does as seldom as they are worth.

use std::time::Duration;

use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Event;

/// What a sample may cost in conclusions.
const SAMPLE_COST: Duration = Duration::from_micros(10);
/// Conclusions take a share of the time at most: one in so many, and no more often than this.
const SHARE: u32 = 20;
const NEVER_SOONER: Duration = Duration::from_millis(200);
/// While something happens, and for a while after it, they wait no longer than this; else no longer than that.
const STIRRED: Duration = Duration::from_secs(10);
const CALM: Duration = Duration::from_secs(300);
/// So long after something happened more is known of it at each look; they grow rarer meanwhile.
const TELLS_FOR: Duration = Duration::from_secs(120);

/// When a haul was concluded from, and when something happened in it. Moments are durations since any one moment.
#[derive(Debug, Clone, Copy, Default)]
pub struct Cadence {
    /// When, what it cost, and from how many samples.
    concluded: Duration,
    cost: Duration,
    samples: usize,
    /// When something happened, and the levels that were proposed by then.
    stirred: Duration,
    levels: usize,
}

impl Cadence {
    /// Something that is no plain going on: it wants to be looked at.
    #[must_use]
    pub const fn stirs(event: &Event) -> bool {
        matches!(
            event,
            Event::LegStarted { .. }
                | Event::LegEnded { .. }
                | Event::StepEnded { .. }
                | Event::Fault { .. }
                | Event::Mismatch { .. }
                | Event::Paused { .. }
                | Event::Resumed { .. }
                | Event::InquiryStarted { .. }
                | Event::ArmEnded { .. }
                | Event::InquiryEnded { .. }
        )
    }

    /// Takes notice of what was pushed into the readings; `stirs` when any of it does.
    pub fn saw(&mut self, now: Duration, readings: &Readings, stirs: bool) {
        let levels = readings.proposed_levels();
        if stirs || levels != self.levels {
            (self.stirred, self.levels) = (now, levels);
        }
    }

    /// It is time to conclude.
    #[must_use]
    pub fn is_due(&self, now: Duration, readings: &Readings) -> bool {
        let since = now.saturating_sub(self.concluded);
        let new = readings.series().len().saturating_sub(self.samples);
        let worth = SAMPLE_COST * u32::try_from(new).unwrap_or(u32::MAX);
        // What is known of it grows with the time since, and by no more from one look to the next.
        let ago = now.saturating_sub(self.stirred);
        let patience = if ago < TELLS_FOR { STIRRED.max(ago / 2) } else { CALM };
        since >= NEVER_SOONER.max(self.cost * SHARE) && (worth >= self.cost || since >= patience)
    }

    /// It was concluded from.
    pub fn concluded(&mut self, now: Duration, cost: Duration, readings: &Readings) {
        (self.concluded, self.cost, self.samples) = (now, cost, readings.series().len());
    }

    /// When it was concluded from last.
    #[must_use]
    pub const fn when(&self) -> Duration {
        self.concluded
    }

    /// Samples that the conclusions were made from.
    #[must_use]
    pub const fn samples(&self) -> usize {
        self.samples
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::quantity::units::Bytes;
    use hollow_mile_core::record::Sample;

    const S: Duration = Duration::from_secs(1);

    /// So many samples of a second more, at this rate.
    fn grow(readings: &mut Readings, rate: u64, seconds: u32) {
        for _ in 0..seconds {
            let end = S * (readings.series().len() as u32 + 1);
            readings.push(&Event::Sample(Sample {
                end,
                span: S,
                written: Bytes::new(rate),
                ..Sample::default()
            }));
        }
    }

    #[test]
    fn what_costs_much_waits_while_nothing_happens_and_comes_soon_when_the_rate_falls() {
        let mut readings = Readings::new();
        grow(&mut readings, 3_000_000_000, 600);
        let mut cadence = Cadence::default();
        cadence.saw(S, &readings, false);
        let cost = Duration::from_millis(30);
        cadence.concluded(200 * S, cost, &readings);
        // 30 ms are worth 3,000 samples: long after anything happened they wait for five minutes.
        grow(&mut readings, 3_000_000_000, 299);
        cadence.saw(499 * S, &readings, false);
        assert!(!cadence.is_due(499 * S, &readings));
        assert!(cadence.is_due(500 * S, &readings));
        cadence.concluded(500 * S, cost, &readings);
        // The rate falls: ten seconds after the last time.
        grow(&mut readings, 1_000_000_000, 60);
        cadence.saw(505 * S, &readings, false);
        assert!(!cadence.is_due(509 * S, &readings));
        assert!(cadence.is_due(510 * S, &readings));
        // And so for two minutes.
        cadence.concluded(510 * S, cost, &readings);
        assert!(cadence.is_due(520 * S, &readings));
        assert!(!cadence.is_due(630 * S, &readings));
        cadence.saw(630 * S, &readings, true);
        assert!(cadence.is_due(630 * S, &readings));
    }

    #[test]
    fn what_costs_little_is_made_as_often_as_its_samples_are_worth_it_and_takes_a_twentieth_of_the_time() {
        let mut readings = Readings::new();
        let mut cadence = Cadence::default();
        cadence.concluded(S, Duration::from_micros(30), &readings);
        grow(&mut readings, 3_000_000_000, 3);
        assert!(!cadence.is_due(S + Duration::from_millis(199), &readings));
        assert!(cadence.is_due(S + Duration::from_millis(200), &readings));
        cadence.concluded(2 * S, 2 * S, &readings);
        cadence.saw(3 * S, &readings, true);
        assert!(!cadence.is_due(41 * S, &readings));
        assert!(cadence.is_due(42 * S, &readings));
    }
}
