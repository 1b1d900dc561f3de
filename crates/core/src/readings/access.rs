//! What the fold has, to be read.

use std::time::Duration;

use super::{
    FaultReading, FreightLog, Ground, InquiryReading, LatencyField, LegReading, Meters, Readings, Scans,
    Series, StepReading, TemperatureLane,
};
use crate::drive::Vitals;
use crate::drive::stamp::Mismatch;
use crate::quantity::units::{Bytes, Celsius};
use crate::record::{HaulHead, HaulState, Sample};

impl Readings {
    /// The head of the record.
    #[must_use]
    pub fn head(&self) -> Option<&HaulHead> {
        self.head.as_deref()
    }
    /// Which engine moved the bytes: as the last leg that moved any said, or else as expected at the start.
    #[must_use]
    pub fn engine(&self) -> &str {
        let ran = self.legs.iter().rev().find_map(|l| l.ended.as_ref().and_then(|e| e.2.engine.as_deref()));
        ran.or(self.head.as_ref().map(|h| h.engine.as_str())).unwrap_or("")
    }
    /// All samples.
    #[must_use]
    pub const fn series(&self) -> &Series {
        &self.series
    }
    /// How many levels of the rate are proposed for the newest load: another number says that something may have happened, and what it was is
    /// for [`Readings::conclude`] to say.
    #[must_use]
    pub fn proposed_levels(&self) -> usize {
        self.runs.last().map_or(0, |r| r.starts().len())
    }
    /// Rate and latency by position.
    #[must_use]
    pub const fn ground(&self) -> &Ground {
        &self.ground
    }
    /// Bytes that a leg has moved itself, by its place among those begun; what experiments moved in it is beside them.
    #[must_use]
    pub fn moved_in(&self, place: usize) -> Bytes {
        let Some(leg) = self.legs.get(place) else { return Bytes::ZERO };
        let after = self.legs.get(place + 1).map_or(self.written + self.read, |next| next.moved_before);
        after.saturating_sub(leg.moved_before).saturating_sub(leg.tried)
    }
    /// Legs begun so far.
    #[must_use]
    pub fn legs(&self) -> &[LegReading] {
        &self.legs
    }
    /// What the user said, and when.
    #[must_use]
    pub fn notes(&self) -> &[(Duration, String)] {
        &self.notes
    }
    /// What went wrong.
    #[must_use]
    pub fn faults(&self) -> &[FaultReading] {
        &self.faults
    }
    /// Health readings, in order.
    #[must_use]
    pub fn vitals(&self) -> &[(Duration, Vitals)] {
        &self.vitals
    }
    /// Temperatures beside the drive's own, a lane each.
    #[must_use]
    pub fn temperatures(&self) -> &[TemperatureLane] {
        &self.temperatures
    }
    /// Meters beside the drive, and what they say of its power.
    #[must_use]
    pub const fn meters(&self) -> &Meters {
        &self.meters
    }
    /// How long operations took, second by second; empty in records of before version 3.
    #[must_use]
    pub const fn latencies(&self) -> &LatencyField {
        &self.latencies
    }
    /// What happened to files.
    #[must_use]
    pub const fn freight(&self) -> &FreightLog {
        &self.freight
    }
    /// How long the lookout waited for its reads.
    #[must_use]
    pub const fn lookout(&self) -> &LatencyField {
        &self.lookout
    }
    /// Bytes written so far.
    #[must_use]
    pub const fn written(&self) -> Bytes {
        self.written
    }
    /// Bytes read so far.
    #[must_use]
    pub const fn read(&self) -> Bytes {
        self.read
    }
    /// Longest time that an operation took under load; `None` where no latency is in the record.
    #[must_use]
    pub fn longest_operation(&self) -> Option<Duration> {
        (self.longest_us > 0).then(|| Duration::from_micros(self.longest_us.into()))
    }
    /// Failed operations so far.
    #[must_use]
    pub const fn errors(&self) -> u64 {
        self.errors
    }
    /// Steps of legs that go through several loads, in order.
    #[must_use]
    pub fn steps(&self) -> &[StepReading] {
        &self.steps
    }
    /// The passes of the newest scan; `None` before the first.
    #[must_use]
    pub fn scan(&self) -> Option<&Scans> {
        (!self.scans.passes().is_empty()).then_some(&self.scans)
    }
    /// Stretches that did not read back as written, and when that was seen.
    #[must_use]
    pub fn mismatches(&self) -> &[(Duration, Mismatch)] {
        &self.mismatches
    }
    /// What was tried in the middle of a load, in order.
    #[must_use]
    pub fn inquiries(&self) -> &[InquiryReading] {
        &self.inquiries
    }
    /// The newest sample.
    #[must_use]
    pub const fn last(&self) -> Option<&Sample> {
        self.last.as_ref()
    }
    /// The load is off at the user's word.
    #[must_use]
    pub const fn is_paused(&self) -> bool {
        self.paused
    }
    /// Time since the haul began.
    #[must_use]
    pub fn elapsed(&self) -> Duration {
        self.ended.as_ref().map_or_else(|| self.last.as_ref().map_or(Duration::ZERO, |s| s.end), |e| e.0)
    }
    /// How it ended, and why.
    #[must_use]
    pub const fn ended(&self) -> Option<&(Duration, HaulState, Option<String>)> {
        self.ended.as_ref()
    }
    /// The temperature limit that the drive or its maker states.
    #[must_use]
    pub fn throttle_limit(&self) -> Option<Celsius> {
        self.head.as_ref().and_then(|h| h.drive.throttle_limit)
    }

    /// How fast the temperature changes now, K per minute, over the last minute; `None` without two readings in it.
    #[must_use]
    pub fn warming(&self) -> Option<f64> {
        let last = self.series.len().checked_sub(1)?;
        let from = self.series.index_at(self.series.end(last).saturating_sub(Duration::from_secs(60)));
        let minutes = (self.series.end_s(last) - self.series.end_s(from)) / 60.0;
        (minutes > 0.05).then_some(())?;
        Some((self.series.degrees(last)? - self.series.degrees(from)?) / minutes)
    }
}
