//! What each round of a group gave that goes on until a figure is steady.

use std::ops::Range;

use super::{LegReading, Readings, Ruler};
use crate::quantity::stats::histogram_quantile;
use crate::quantity::units::Rate;
use crate::record::LegEnd;
use crate::route::{Followed, Round};

impl Readings {
    /// The samples of a leg that is over; empty of one that is not.
    #[must_use]
    pub fn samples_of(&self, leg: &LegReading) -> Range<usize> {
        leg.ended.as_ref().map_or(0..0, |(at, ..)| {
            self.series.between(Ruler::Elapsed, leg.from.as_secs_f64() + 1e-6, at.as_secs_f64())
        })
    }

    /// Mean rate of a leg that is over, by the time of its load.
    #[must_use]
    pub fn rate_of(&self, leg: &LegReading) -> Option<Rate> {
        let samples = self.samples_of(leg);
        (self.series.loaded_s(samples.clone()) > 0.0).then(|| Rate::new(self.series.mean_rate(samples)))
    }

    /// Which round of a group of rounds a leg belongs to.
    #[must_use]
    pub fn round_of(&self, leg: &LegReading) -> Option<&Round> {
        self.leg(leg.leg)?.turn.as_ref()?.rounds.as_ref()
    }

    /// Of each leg that is followed in the group of this round: its figure, round by round, as far as they are over; bytes per second, or
    /// nanoseconds. `None` where the leg did not run to its end.
    #[must_use]
    pub fn rounds(&self, of: &Round) -> Vec<Vec<Option<f64>>> {
        let mut all = vec![Vec::new(); of.steady.legs.len()];
        for leg in self.legs.iter().filter(|l| l.ended.is_some()) {
            let Some(round) = self.round_of(leg).filter(|r| r.group == of.group) else { continue };
            if let Some(values) = round.followed().and_then(|i| all.get_mut(i)) {
                // A haul that goes on where another stopped has not the rounds before.
                values.resize(usize::from(round.number), None);
                values.push(self.followed(leg));
            }
        }
        all
    }

    fn followed(&self, leg: &LegReading) -> Option<f64> {
        let (_, why, summary) = leg.ended.as_ref()?;
        if matches!(why, LegEnd::Skipped | LegEnd::Stopped | LegEnd::Failed | LegEnd::Errors) {
            return None;
        }
        match self.round_of(leg)?.steady.figure {
            Followed::Rate => self.rate_of(leg).map(Rate::get),
            Followed::MeanLatency => mean_ns(&summary.histogram),
            Followed::P99Latency => histogram_quantile(&summary.histogram, 0.99),
        }
    }
}

/// Mean of a latency histogram, ns.
#[must_use]
pub fn mean_ns(histogram: &[(u64, u64)]) -> Option<f64> {
    let (sum, count) =
        histogram.iter().fold((0.0, 0u64), |(s, c), (v, n)| (s + *v as f64 * *n as f64, c + n));
    (count > 0).then(|| sum / count as f64)
}
