//! What each cause predicts for each experiment.
//!
//! A hypothesis is a cause, or two at once. What is seen is sorted into none, part and all of what was lost, and each hypothesis says how likely
//! each of the three is. `hollow-mile prove --decide` shows how often the outcome is right.

use crate::quantity::FindingKind;

/// One explanation of a fall.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Hypothesis {
    /// The fast part of the write cache is used up.
    Cache,
    /// The drive is hot.
    Heat,
    /// It is slow at these addresses.
    Place,
    /// This machine or the link holds it back, both ways.
    Host,
    /// This machine holds back what is written: it copies, checks or encrypts it, as a rule no faster than one processor can.
    HostWrites,
    /// The cache is used up, and these addresses are slow.
    CacheAndPlace,
    /// The cache is used up, and the drive is hot.
    CacheAndHeat,
    /// The drive is hot, and these addresses are slow.
    HeatAndPlace,
    /// Something that comes and goes by itself: the drive is busy with itself, or with others.
    Passing,
    /// This program asks so much of the drive beside the load that it is held back.
    Ours,
}

use Hypothesis::{
    Cache, CacheAndHeat, CacheAndPlace, Heat, HeatAndPlace, Host, HostWrites, Ours, Passing, Place,
};

/// The causes that experiments tell apart.
pub(super) const CAUSES: [FindingKind; 5] = [
    FindingKind::CacheEnd,
    FindingKind::Throttle,
    FindingKind::SlowZone,
    FindingKind::HostLimit,
    FindingKind::Background,
];

/// How many explanations there are.
pub(super) const N: usize = 10;

/// Whether none, part or all of what was lost comes back, or by how much something is faster: how likely each is.
pub(super) type Odds = [f64; 3];
/// The same of reads, of which a little may come back for another reason: none, a little, part, all.
pub(super) type ReadOdds = [f64; 4];

impl Hypothesis {
    /// Each of them.
    pub const ALL: [Self; N] =
        [Cache, Heat, Place, Host, HostWrites, CacheAndPlace, CacheAndHeat, HeatAndPlace, Passing, Ours];

    /// The causes in it.
    #[must_use]
    pub const fn causes(self) -> &'static [FindingKind] {
        match self {
            Cache => &[FindingKind::CacheEnd],
            Heat => &[FindingKind::Throttle],
            Place => &[FindingKind::SlowZone],
            Host | HostWrites | Ours => &[FindingKind::HostLimit],
            CacheAndPlace => &[FindingKind::CacheEnd, FindingKind::SlowZone],
            CacheAndHeat => &[FindingKind::CacheEnd, FindingKind::Throttle],
            HeatAndPlace => &[FindingKind::Throttle, FindingKind::SlowZone],
            Passing => &[FindingKind::Background],
        }
    }

    /// The load elsewhere: none, part, all of what was lost is there.
    pub(super) const fn elsewhere(self) -> Odds {
        match self {
            Cache | Heat | Host | HostWrites | CacheAndHeat | Ours => [0.997, 0.002, 0.001],
            Place => [0.001, 0.009, 0.99],
            CacheAndPlace | HeatAndPlace => [0.02, 0.97, 0.01],
            // In turn here and there, it would have to come and go with the arms.
            Passing => [0.985, 0.01, 0.005],
        }
    }

    /// Reads after a rest against reads before it.
    pub(super) const fn reads_cool(self) -> ReadOdds {
        match self {
            // Folding slows reads a little, until a rest.
            Cache | CacheAndPlace => [0.80, 0.19, 0.009, 0.001],
            Place | Host | HostWrites | Ours => [0.985, 0.01, 0.004, 0.001],
            Heat => [0.006, 0.03, 0.15, 0.814],
            CacheAndHeat | HeatAndPlace => [0.006, 0.20, 0.734, 0.06],
            Passing => [0.45, 0.03, 0.07, 0.45],
        }
    }

    /// The load right after the rest: a cache may have come back in part, or not yet.
    pub(super) const fn again(self) -> Odds {
        match self {
            Cache => [0.45, 0.20, 0.35],
            Heat => [0.04, 0.10, 0.86],
            Place | Host | HostWrites | Ours => [0.97, 0.025, 0.005],
            CacheAndPlace => [0.40, 0.55, 0.05],
            CacheAndHeat => [0.05, 0.55, 0.40],
            HeatAndPlace => [0.08, 0.82, 0.10],
            Passing => [0.4, 0.1, 0.5],
        }
    }

    /// The same where a model of the cache says that much of it is back by then.
    pub(super) const fn again_by_model(self) -> Odds {
        match self {
            Cache => [0.08, 0.12, 0.80],
            CacheAndPlace => [0.10, 0.85, 0.05],
            _ => self.again(),
        }
    }

    /// As many bytes were fast after the rest as a model of the cache has, or not.
    pub(super) const fn as_modelled(self) -> [f64; 2] {
        match self {
            Cache | CacheAndPlace => [0.90, 0.10],
            // Heat may end it sooner.
            CacheAndHeat => [0.60, 0.40],
            // Within so many times by chance, out of a few doublings.
            _ => [0.30, 0.70],
        }
    }

    /// Where the load fell once more after the rest: cooler than before, or as hot.
    pub(super) const fn lost_again(self) -> [f64; 2] {
        match self {
            Cache | CacheAndPlace => [0.85, 0.15],
            Heat | HeatAndPlace => [0.08, 0.92],
            Place | Host | HostWrites | CacheAndHeat | Passing | Ours => [0.5, 0.5],
        }
    }

    /// Reads against the load: just as fast, or not. What holds back both ways alike is as slow for both, to the digit.
    pub(super) const fn reads(self) -> [f64; 2] {
        match self {
            Cache | CacheAndPlace => [0.003, 0.997],
            Host => [0.997, 0.003],
            HostWrites => [0.01, 0.99],
            Heat | Place | HeatAndPlace | Passing => [0.07, 0.93],
            CacheAndHeat => [0.02, 0.98],
            // As often as it is asked, both ways stand still.
            Ours => [0.2, 0.8],
        }
    }

    /// It comes back with nothing done, or it does not while it is looked into.
    pub(super) const fn comes_back(self) -> [f64; 2] {
        match self {
            Cache | CacheAndPlace => [0.001, 0.999],
            Host | HostWrites | Place | Ours => [0.002, 0.998],
            Heat => [0.35, 0.65],
            CacheAndHeat | HeatAndPlace => [0.1, 0.9],
            Passing => [0.97, 0.03],
        }
    }

    /// A lighter load falls after just as many bytes, or seconds, as the full one did; within about as many; or not. What comes by bytes or by
    /// the clock does, heat does not.
    pub(super) const fn falls_when_lighter(self) -> Odds {
        match self {
            Heat | HeatAndPlace | CacheAndHeat => [0.0015, 0.0045, 0.994],
            Passing => [0.85, 0.14, 0.01],
            Cache | CacheAndPlace | Place | Host | HostWrites | Ours => [0.25, 0.25, 0.5],
        }
    }

    /// The load before the address of the fall against behind it: none, part, all of what was lost is there.
    pub(super) const fn stretch(self) -> Odds {
        match self {
            Place => [0.003, 0.017, 0.98],
            CacheAndPlace | HeatAndPlace => [0.02, 0.96, 0.02],
            _ => [0.994, 0.004, 0.002],
        }
    }

    /// The load with nothing asked of the drive beside it, against twice as much: none, part, all of what was lost.
    pub(super) const fn quiet(self) -> Odds {
        match self {
            Ours => [0.01, 0.09, 0.90],
            _ => [0.997, 0.002, 0.001],
        }
    }

    /// A fast stretch with a rest in it, and one with reads in it: as long as usual in bytes written, longer, shorter. Heat goes in a rest and
    /// comes with reads. What comes by bytes asks for neither; what is done when the drive is left alone is done sooner in a rest; what comes
    /// by the clock comes in either.
    pub(super) fn in_turn(self, rested: Option<usize>, read: Option<usize>) -> f64 {
        let of = |rest: Odds, reads: Odds| rested.map_or(1.0, |o| rest[o]) * read.map_or(1.0, |o| reads[o]);
        match self {
            Heat | HeatAndPlace | CacheAndHeat => of([0.02, 0.97, 0.01], [0.15, 0.10, 0.75]),
            _ => {
                let by_bytes = of([0.97, 0.02, 0.01], [0.97, 0.02, 0.01]);
                let left_alone = of([0.05, 0.93, 0.02], [0.33, 0.65, 0.02]);
                let by_the_clock = of([0.05, 0.01, 0.94], [0.05, 0.01, 0.94]);
                0.66 * by_bytes + 0.28 * left_alone + 0.06 * by_the_clock
            }
        }
    }

    /// After a second rest as long as the first a light load, and then the full one: as many bytes as after the first until it falls, more, or
    /// fewer. What comes by bytes does not ask how fast they were; a light load warms a drive little.
    pub(super) const fn light_first(self) -> Odds {
        match self {
            Cache | CacheAndPlace => [0.85, 0.12, 0.03],
            Heat | HeatAndPlace => [0.03, 0.95, 0.02],
            // The cache falls after as many, but it may not be what falls first.
            CacheAndHeat => [0.55, 0.40, 0.05],
            // The first rest began anywhere in its round, and the second at a fall; it may be tidied up beside a light load.
            Passing => [0.5, 0.4, 0.1],
            Place | Host | HostWrites | Ours => [0.34, 0.33, 0.33],
        }
    }

    /// It came and went so often before: what stays where it is does not.
    pub(super) const fn recurs(self, times: u32) -> f64 {
        match (self, times) {
            (Heat | HeatAndPlace | CacheAndHeat | Passing, _) => 1.0,
            (_, 0..=2) => 0.1,
            _ => 0.02,
        }
    }

    /// Reads while the load is low against reads when it is back: as fast, or slower. Heat slows both.
    pub(super) const fn reads_low(self) -> [f64; 2] {
        match self {
            Heat | HeatAndPlace | CacheAndHeat => [0.03, 0.97],
            _ => [0.5, 0.5],
        }
    }

    /// The load by two workers: none, part, all of what was lost, or much faster. What a heavier load does not move may move with these; a drive
    /// does not get faster by who asks.
    pub(super) const fn workers(self) -> Odds {
        match self {
            Host => [0.70, 0.15, 0.15],
            HostWrites => [0.25, 0.10, 0.65],
            _ => [0.99, 0.009, 0.001],
        }
    }

    /// Data that compress: as fast, or faster. Few drives write less of such data; on those whatever the drive does goes with it. What limits
    /// the way there carries as many bytes of them.
    pub(super) const fn compressible(self) -> [f64; 2] {
        match self {
            Host | HostWrites | Ours => [0.99, 0.01],
            _ => [0.92, 0.08],
        }
    }

    /// A heavier load: as fast, or faster.
    pub(super) const fn heavier(self) -> [f64; 2] {
        match self {
            Host => [0.5, 0.5],
            HostWrites => [0.65, 0.35],
            _ => [0.96, 0.04],
        }
    }
}

impl Hypothesis {
    /// How likely each outcome of a rest is: reads, the load, and where it is lost once more.
    pub(super) fn cooled(self, has_thermometer: bool, modelled: bool) -> Vec<f64> {
        let lost = if has_thermometer { self.lost_again().to_vec() } else { vec![1.0] };
        let again = if modelled { self.again_by_model() } else { self.again() };
        let bytes = if modelled { self.as_modelled().to_vec() } else { vec![1.0] };
        let mut all = Vec::new();
        for r in self.reads_cool() {
            for a in again {
                for b in &bytes {
                    all.extend(lost.iter().map(|l| r * a * b * l));
                }
            }
        }
        all
    }
}

pub(super) fn dot<const N: usize>(a: [f64; N], b: [f64; N]) -> f64 {
    a.iter().zip(b).map(|(a, b)| a * b).sum()
}

/// What no cause predicts is as unlikely by each: it tells nothing.
const UNFORESEEN: f64 = 0.003;

/// What was seen, sorted: how likely it is each of the outcomes that causes predict, and that it is less than before, which none does.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Sorted<const N: usize> {
    pub outcomes: [f64; N],
    pub less: f64,
}

impl<const N: usize> Sorted<N> {
    /// How likely that is by what a cause predicts.
    pub fn by(self, odds: [f64; N]) -> f64 {
        dot(self.outcomes, odds) + UNFORESEEN * self.less
    }
}

impl Hypothesis {
    /// What is left of it when the rest was too short for its heat.
    const fn uncooled(self) -> Option<Odds> {
        match self {
            Heat => Some([0.98, 0.015, 0.005]),
            CacheAndHeat => Some(Cache.again()),
            HeatAndPlace => Some(Place.again()),
            _ => None,
        }
    }

    /// How likely it is that reads and the load were so after the rest, of which so much is trusted to have cooled the drive.
    pub(super) fn after_rest(
        self,
        reads: Option<Sorted<4>>,
        again: Option<Sorted<3>>,
        trust: f64,
        modelled: bool,
    ) -> f64 {
        let load = |odds: Odds| again.map_or(1.0, |s| s.by(odds));
        let read = |odds: ReadOdds| reads.map_or(1.0, |s| s.by(odds));
        let comes = if modelled { self.again_by_model() } else { self.again() };
        let cooled = read(self.reads_cool()) * load(comes);
        match self.uncooled() {
            Some(left) => trust * cooled + (1.0 - trust) * read([0.98, 0.01, 0.005, 0.005]) * load(left),
            None => cooled,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn odds_of_every_prediction_add_up() {
        for h in Hypothesis::ALL {
            assert!((h.reads_cool().iter().sum::<f64>() - 1.0).abs() < 1e-9, "{h:?}");
            let in_turn = |f: fn(usize) -> (Option<usize>, Option<usize>)| {
                (0..3).map(|o| h.in_turn(f(o).0, f(o).1)).sum::<f64>()
            };
            assert!(
                (in_turn(|o| (Some(o), None)) - 1.0).abs() < 1e-9
                    && (in_turn(|o| (None, Some(o))) - 1.0).abs() < 1e-9,
                "{h:?}"
            );
            for odds in [
                h.elsewhere(),
                h.again(),
                h.again_by_model(),
                h.stretch(),
                h.quiet(),
                h.falls_when_lighter(),
                h.workers(),
                h.light_first(),
            ] {
                assert!((odds.iter().sum::<f64>() - 1.0).abs() < 1e-9, "{h:?}: {odds:?}");
            }
            let moved = [h.heavier(), h.compressible()];
            for odds in [h.lost_again(), h.as_modelled(), h.reads(), h.comes_back(), h.reads_low()]
                .into_iter()
                .chain(moved)
            {
                assert!((odds.iter().sum::<f64>() - 1.0).abs() < 1e-9, "{h:?}: {odds:?}");
            }
        }
    }
}
