//! The road of a haul: its legs, what is behind, and how long what lies ahead will take.

use std::time::Duration;

use hollow_mile_core::archive::estimate::Span;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::LegEnd;

use super::headline;
use super::words;

/// How a leg stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stands {
    /// Over.
    Done,
    /// Ended by hand, or not to its end.
    Cut,
    /// It failed.
    Failed,
    /// Under way.
    Now,
    /// To come.
    Ahead,
}

/// A leg on the road.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretch {
    /// What it does.
    pub word: &'static str,
    /// How it stands.
    pub stands: Stands,
    /// How long it took so far.
    pub took: Duration,
    /// How long it takes in all; `None` where nothing tells.
    pub whole: Option<Duration>,
}

/// All legs, and what is left.
#[derive(Debug, Clone, PartialEq)]
pub struct Road {
    /// In their order.
    pub legs: Vec<Stretch>,
    /// What is left of the leg under way.
    pub left_of_leg: Option<Duration>,
    /// What is left of the whole, as far as it is known.
    pub left: Duration,
    /// Legs to come of which nothing tells how long they take.
    pub unknown: usize,
    /// It is over.
    pub over: bool,
}

impl Road {
    /// Of a record so far, and of what was expected of each leg of its route as it was laid out.
    #[must_use]
    pub fn of(r: &Readings, expected: &[Option<Span>]) -> Option<Self> {
        let route = &r.head()?.route;
        let over = r.ended().is_some();
        let mut road = Self { legs: Vec::new(), left_of_leg: None, left: Duration::ZERO, unknown: 0, over };
        for (i, leg) in route.legs.iter().enumerate() {
            let reading = r.legs().iter().rfind(|l| usize::from(l.leg) == i);
            let hoped = expected.get(i).copied().flatten().map(|s| s.likely);
            let stretch = match reading.map(|l| (l.from, l.ended.as_ref().map(|e| (e.0, e.1)))) {
                None => Stretch {
                    word: leg.kind.word(),
                    stands: Stands::Ahead,
                    took: Duration::ZERO,
                    whole: hoped,
                },
                Some((from, Some((at, why)))) => {
                    let took = at.saturating_sub(from);
                    let stands = match why {
                        LegEnd::Skipped | LegEnd::Stopped => Stands::Cut,
                        LegEnd::Failed | LegEnd::Errors => Stands::Failed,
                        _ => Stands::Done,
                    };
                    Stretch { word: leg.kind.word(), stands, took, whole: Some(took) }
                }
                Some((from, None)) => {
                    let took = r.elapsed().saturating_sub(from);
                    let left = headline::left(r).and_then(|l| l.0).or(hoped.map(|h| h.saturating_sub(took)));
                    road.left_of_leg = left.filter(|_| !over);
                    let stands = if over { Stands::Cut } else { Stands::Now };
                    Stretch { word: leg.kind.word(), stands, took, whole: left.map(|l| took + l) }
                }
            };
            if !over && matches!(stretch.stands, Stands::Now | Stands::Ahead) {
                match stretch.whole {
                    Some(whole) => road.left = road.left.saturating_add(whole.saturating_sub(stretch.took)),
                    None => road.unknown += 1,
                }
            }
            road.legs.push(stretch);
        }
        (!road.legs.is_empty()).then_some(road)
    }

    /// Share of the time that is behind, 0 to 1; `None` while a leg has no known length.
    #[must_use]
    pub fn done(&self) -> Option<f64> {
        let took: f64 = self.legs.iter().map(|l| l.took.as_secs_f64()).sum();
        let all = took + self.left.as_secs_f64();
        (self.unknown == 0 && all > 0.0).then(|| (took / all).clamp(0.0, 1.0))
    }

    /// What is left of the whole: `1 h 3 min`, `12 min or more`.
    #[must_use]
    pub fn left_words(&self) -> Option<String> {
        if self.over {
            return None;
        }
        match (self.unknown, self.left.is_zero()) {
            (0, _) => Some(words::about(self.left)),
            (_, true) => None,
            (_, false) => Some(format!("{} or more", words::about(self.left))),
        }
    }

    /// The length that each leg has on the ribbon, as shares of it: by their time, and of an unknown one as much as of a middle one.
    #[must_use]
    pub fn shares(&self) -> Vec<f64> {
        let known: Vec<f64> = self.legs.iter().filter_map(|l| l.whole).map(|d| d.as_secs_f64()).collect();
        let usual = if known.is_empty() { 1.0 } else { known.iter().sum::<f64>() / known.len() as f64 };
        let length = |l: &Stretch| l.whole.map_or(usual.max(l.took.as_secs_f64()), |d| d.as_secs_f64());
        let all: f64 = self.legs.iter().map(length).sum();
        self.legs.iter().map(|l| length(l) / all.max(f64::MIN_POSITIVE)).collect()
    }
}
