//! What was tried in the middle of a load: inquiries with their arms, as they stand in the record.

use std::time::Duration;

use super::{Readings, Ruler};
use crate::quantity::units::Bytes;
use crate::record::{Arm, Fall, InquiryEnd};

/// An arm as it went.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ArmReading {
    /// What was done.
    pub arm: Arm,
    /// When it began.
    pub from: Duration,
    first: usize,
    past: Option<usize>,
    /// When it ended.
    pub ended: Option<Duration>,
}

impl ArmReading {
    /// Its samples, of a series that has so many.
    #[must_use]
    pub fn samples(&self, len: usize) -> std::ops::Range<usize> {
        let past = self.past.unwrap_or(len);
        self.first.min(past)..past
    }
}

/// An inquiry as it went.
#[derive(Debug, Clone, PartialEq)]
pub struct InquiryReading {
    /// Index of the leg in the route.
    pub leg: u16,
    /// Which fall it asks about.
    pub fall: Fall,
    /// When it began.
    pub from: Duration,
    /// In order.
    pub arms: Vec<ArmReading>,
    /// When and why it ended; `None` while it goes on, and where the record ends in it.
    pub ended: Option<(Duration, InquiryEnd)>,
}

impl InquiryReading {
    /// Of nothing yet.
    #[must_use]
    pub const fn new(leg: u16, fall: Fall, from: Duration) -> Self {
        Self { leg, fall, from, arms: Vec::new(), ended: None }
    }

    /// The next arm begins before this sample.
    pub(super) fn begin(&mut self, arm: Arm, at: Duration, sample: usize) {
        self.end_arm(at, sample);
        self.arms.push(ArmReading { arm, from: at, first: sample, past: None, ended: None });
    }

    /// The arm under way, if one is, is over.
    pub(super) fn end_arm(&mut self, at: Duration, sample: usize) {
        if let Some(open) = self.arms.last_mut().filter(|a| a.ended.is_none()) {
            open.past = Some(sample);
            open.ended = Some(at);
        }
    }

    /// Until when it lasts, as far as it is known.
    #[must_use]
    pub fn until(&self, now: Duration) -> Duration {
        self.ended.map_or(now, |e| e.0)
    }
}

impl Readings {
    /// Seconds and bytes that inquiries have taken since a moment.
    #[must_use]
    pub fn spent_on_inquiries(&self, since: Duration) -> (f64, Bytes) {
        let series = self.series();
        let all = || self.inquiries().iter().filter(|i| i.from >= since);
        let seconds = all().map(|i| i.until(self.elapsed()).saturating_sub(i.from).as_secs_f64()).sum();
        let moved = |i: usize| series.moved(i) - series.moved_before(i);
        let samples = all().flat_map(|i| &i.arms).flat_map(|a| a.samples(series.len()));
        (seconds, Bytes::new(samples.map(moved).sum()))
    }

    /// Bytes that experiments have written since a moment.
    #[must_use]
    pub fn tried_since(&self, at: Duration) -> Bytes {
        let series = self.series();
        let arms = self.inquiries().iter().flat_map(|i| &i.arms).filter(|a| a.from >= at);
        let written = |i: usize| series.written(i) - series.written_before(i);
        Bytes::new(arms.flat_map(|a| a.samples(series.len())).map(written).sum())
    }

    /// Inquiries that lie, in part at least, between two places of a ruler, each with where it begins and ends there; none by address.
    pub fn inquiries_between(
        &self,
        ruler: Ruler,
        (from, to): (f64, f64),
    ) -> impl Iterator<Item = (&InquiryReading, f64, f64)> {
        let by_address = ruler == Ruler::Position;
        self.inquiries().iter().filter(move |_| !by_address).filter_map(move |i| {
            let (begin, end) =
                (self.place_of(ruler, i.from)?, self.place_of(ruler, i.until(self.elapsed()))?);
            (begin <= to && end >= from).then_some((i, begin, end))
        })
    }
}
