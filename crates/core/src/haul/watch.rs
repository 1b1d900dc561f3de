//! What is told of a drive beside its samples: health, temperatures, failed operations. None of it more often than it says something.

use std::time::Duration;

use crate::drive::protocol::nvme::critical_warning_words;
use crate::drive::{Drive, Fault, FaultKind, Vitals};
use crate::record::Event;

/// Health is told this often while a leg runs, and at once when a leg begins or ends.
const VITALS_EVERY: Duration = Duration::from_secs(10);
/// So often it is looked whether something in it is news.
const VITALS_LOOK_EVERY: Duration = Duration::from_secs(1);
/// Other temperatures, and meters, are read this often.
const TEMPERATURES_EVERY: Duration = Duration::from_secs(1);
/// Failed operations that are told one by one; after these, one a second.
const FAULTS_TOLD: u64 = 2000;

/// What of a health reading is told at once when it changes: warning bits, errors, turns of thermal management, the power state.
type Alarms = (u8, u64, u64, Option<u8>);

fn alarms(v: &Vitals) -> Alarms {
    let (errors, turns) = (v.media_errors.unwrap_or(0), v.thermal_transitions.unwrap_or(0));
    (v.critical_warning.unwrap_or(0), errors, turns, v.power_state)
}

/// Follows the health of a drive.
#[derive(Debug, Default)]
pub(super) struct HealthWatch {
    told_at: Duration,
    looked_at: Duration,
    /// Of the newest reading.
    alarms: Option<Alarms>,
    temperatures_at: Option<Duration>,
}

impl HealthWatch {
    /// Reads the drive's health and tells it, as when a leg begins or ends.
    pub fn read(&mut self, drive: &mut impl Drive, at: Duration) -> Vec<Event> {
        drive.vitals().map_or_else(Vec::new, |vitals| self.tell(vitals, at))
    }

    /// While a leg runs: every ten seconds, and within a second when the drive begins to warn or counts a new error or
    /// a new turn of its thermal management. Further temperatures once a second.
    pub fn follow(&mut self, drive: &mut impl Drive, at: Duration) -> Vec<Event> {
        let mut events = Vec::new();
        if at >= self.looked_at + VITALS_LOOK_EVERY {
            self.looked_at = at;
            let due = at >= self.told_at + VITALS_EVERY;
            let news = |v: &Vitals| self.alarms.is_some_and(|before| before != alarms(v));
            if let Some(vitals) = drive.vitals().filter(|v| due || news(v)) {
                events = self.tell(vitals, at);
            }
        }
        if self.temperatures_at.is_none_or(|last| at >= last + TEMPERATURES_EVERY) {
            self.temperatures_at = Some(at);
            let readings = drive.temperatures();
            if !readings.is_empty() {
                events.push(Event::Temperatures { at, readings });
            }
            let readings = drive.meters();
            if !readings.is_empty() {
                events.push(Event::Meters { at, readings });
            }
        }
        events
    }

    fn tell(&mut self, vitals: Vitals, at: Duration) -> Vec<Event> {
        (self.told_at, self.looked_at) = (at, at);
        let now = alarms(&vitals);
        // What it warned of before the haul is no news.
        let new = self.alarms.map_or(0, |before| now.0 & !before.0);
        self.alarms = Some(now);
        let warning = |words: &str| Event::Fault {
            at,
            position: None,
            kind: FaultKind::Warning,
            message: format!("the drive warns: {words}"),
        };
        let mut events: Vec<Event> = critical_warning_words(new).into_iter().map(warning).collect();
        events.push(Event::Vitals { at, vitals: Box::new(vitals) });
        events
    }
}

/// Tells each failed operation by its address, as long as there are not too many of them.
#[derive(Debug, Default)]
pub(super) struct FaultLog {
    told: u64,
    told_at: Duration,
}

impl FaultLog {
    /// Those of an interval that are told.
    pub fn take(&mut self, faults: &[Fault], at: Duration) -> Vec<Event> {
        let mut events = Vec::new();
        for Fault { position, kind, message } in faults {
            let many = self.told >= FAULTS_TOLD;
            if many && at < self.told_at + Duration::from_secs(1) {
                continue;
            }
            self.told += 1;
            self.told_at = at;
            events.push(Event::Fault {
                at,
                position: Some(*position),
                kind: *kind,
                message: message.clone(),
            });
        }
        events
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantity::units::Bytes;

    #[test]
    fn failed_operations_are_told_one_by_one_and_then_one_a_second() {
        let fault =
            |i: u64| Fault { position: Bytes::new(i), kind: FaultKind::Failed, message: String::new() };
        let mut log = FaultLog::default();
        let many: Vec<Fault> = (0..FAULTS_TOLD + 500).map(fault).collect();
        assert_eq!(log.take(&many, Duration::from_secs(1)).len() as u64, FAULTS_TOLD);
        assert!(log.take(&many[..3], Duration::from_millis(1_900)).is_empty(), "within the second");
        let next = log.take(&many[..3], Duration::from_secs(2));
        assert!(matches!(next.as_slice(), [Event::Fault { position: Some(Bytes::ZERO), .. }]), "{next:?}");
    }
}
