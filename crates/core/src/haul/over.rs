//! When a leg is over.

use std::time::Duration;

use super::Haul;
use crate::conclude::Finding;
use crate::drive::Drive;
use crate::quantity::units::{Bytes, Celsius};
use crate::readings::Readings;
use crate::record::LegEnd;
use crate::route::{Leg, LegKind};

impl<D: Drive> Haul<D> {
    /// Why the leg ends here; `None` when it goes on. What takes long to know is asked when `due` says so.
    pub(super) fn is_over(&mut self, leg: &Leg, temperature: Option<Celsius>, due: bool) -> Option<LegEnd> {
        let until = &leg.until;
        let in_leg = self.elapsed - self.running.began;
        let reached = temperature
            .zip(until.temperature)
            .is_some_and(|(now, goal)| if leg.kind == LegKind::Rest { now <= goal } else { now >= goal });
        if leg.stop_after_errors.is_some_and(|most| self.running.errors >= most) {
            return Some(LegEnd::Errors);
        }
        if self.running.load_finished {
            let by_bytes = leg.kind.moves() && leg.kind != LegKind::Freight;
            return Some(if by_bytes { LegEnd::Bytes } else { LegEnd::Complete });
        }
        if until.duration.is_some_and(|d| in_leg >= d) {
            return Some(LegEnd::Duration);
        }
        if reached {
            return Some(LegEnd::Temperature);
        }
        if !due {
            return None;
        }
        if until.past_cache_end.is_some_and(|past| self.is_past_cache_end(past)) {
            return Some(LegEnd::PastCacheEnd);
        }
        (until.steady && self.is_steady(leg.kind)).then_some(LegEnd::Steady)
    }

    /// Once a second of the drive's time, and less often as the leg grows long.
    pub(super) fn is_time_to_look(&mut self) -> bool {
        let due = self.elapsed >= self.look_at;
        if due {
            self.look_at =
                self.elapsed + Duration::from_secs(1).max((self.elapsed - self.running.began) / 200);
        }
        due
    }

    /// Under load: the last five minutes lie in this leg, and their rounds are steady. At rest: the temperature moves by
    /// less than 0.1 K a minute.
    fn is_steady(&self, kind: LegKind) -> bool {
        if kind == LegKind::Rest {
            let warming = self.readings.as_ref().and_then(Readings::warming);
            return self.elapsed - self.running.began >= Duration::from_secs(120)
                && warming.is_some_and(|w| w.abs() < 0.1);
        }
        let rounds = self.readings.as_ref().and_then(Readings::steady_rounds);
        self.elapsed - self.running.began >= Duration::from_secs(300) && rounds == Some(5)
    }

    fn is_past_cache_end(&self, past: Bytes) -> bool {
        let Some(readings) = &self.readings else { return false };
        // What was looked into counts as well, whatever came out: who asks for the cause of a fall is not kept waiting for another.
        let looked_into = |f: &Finding| f.decided.as_ref().is_some_and(|d| d.ended.is_some());
        let findings = readings.conclude().findings;
        let last = findings
            .iter()
            .rev()
            .find(|f| f.elapsed >= self.running.began && (f.may_be_cache_end() || looked_into(f)));
        last.is_some_and(|f| {
            let since = readings.written().saturating_sub(f.written);
            since.saturating_sub(readings.tried_since(f.elapsed)) >= past
        })
    }
}
