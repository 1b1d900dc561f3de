//! A full health reading of a drive, and what changed between two.
//!
//! The decoders of [`crate::drive::protocol`] give pages in the words of their standard; here they become one [`Health`],
//! whatever the drive speaks. What could not be read stands in it in words, so that a gap never looks like a zero.

use super::Link;
use serde::{Deserialize, Serialize};

use crate::drive::Vitals;
use crate::drive::protocol::ata::{Attribute, DeviceStatistics, SctStatus, SmartData};
use crate::drive::protocol::nvme::{SelfTestLog, SmartLog, critical_warning_words};
use crate::drive::protocol::nvme_power::PowerState;
use crate::quantity::units::{Bytes, Celsius};

/// All that a drive tells of its health.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Health {
    /// How it was asked: `NVMe`, `ATA`, `hwmon`; empty when there was no way.
    pub protocol: String,
    /// The figures.
    pub vitals: Vitals,
    /// What the drive itself warns of, in words.
    pub warnings: Vec<String>,
    /// Every temperature, by name.
    pub temperatures: Vec<(String, Celsius)>,
    /// Warning temperature, as the drive states it.
    pub warning_temperature: Option<Celsius>,
    /// Critical temperature, as the drive states it.
    pub critical_temperature: Option<Celsius>,
    /// Temperatures at which the host told the drive to slow down (TMT1, TMT2).
    pub thermal_management: (Option<Celsius>, Option<Celsius>),
    /// Power states of an NVMe drive.
    #[serde(default)]
    pub power_states: Vec<PowerState>,
    /// Attributes of an ATA drive, raw.
    pub attributes: Vec<Attribute>,
    /// Newest errors of the drive's own log, in words.
    pub errors: Vec<String>,
    /// The drive can test itself.
    pub self_test_supported: bool,
    /// Self-tests: the one that runs and those that ended.
    pub self_tests: SelfTestLog,
    /// How long an extended self-test takes, minutes.
    pub extended_self_test_minutes: Option<u16>,
    /// What could not be read, and why.
    pub gaps: Vec<String>,
    /// Of what is built of others: what lies below it, each after what is built on it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub members: Vec<Member>,
}

/// A device below an array, a volume or an encrypted device.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Member {
    /// Layers between it and the top, itself counted.
    pub depth: u8,
    /// The kernel's name.
    pub name: String,
    /// What it is: `drive`, `partition`, `raid1 array of 2`.
    pub what: String,
    /// Serial; empty where it has none.
    pub serial: String,
    /// Its size.
    pub capacity: Bytes,
    /// Its connection.
    pub link: Option<Link>,
    /// Its temperature.
    pub temperature: Option<Celsius>,
    /// Of its rated life.
    pub percentage_used: Option<f64>,
    /// What it warns of.
    pub warnings: Vec<String>,
}

impl Health {
    /// Takes up the members of what this is the health of: what they warn of, it warns of.
    #[must_use]
    pub fn with_members(mut self, members: Vec<Member>) -> Self {
        for m in &members {
            self.warnings.extend(m.warnings.iter().map(|w| format!("{}: {w}", m.name)));
        }
        self.members = members;
        self
    }
}

impl Vitals {
    /// From the NVMe SMART / Health Information log.
    #[must_use]
    pub fn of_nvme(log: &SmartLog) -> Self {
        let sum = |pair: [u32; 2]| Some(u64::from(pair[0]) + u64::from(pair[1]));
        Self {
            composite_temperature: log.composite_temperature,
            percentage_used: Some(f64::from(log.percentage_used)),
            available_spare: Some(log.available_spare),
            available_spare_threshold: Some(log.available_spare_threshold),
            host_bytes_written: Some(log.data_written),
            host_bytes_read: Some(log.data_read),
            power_on_hours: Some(log.power_on_hours),
            power_cycles: Some(log.power_cycles),
            unsafe_shutdowns: Some(log.unsafe_shutdowns),
            media_errors: Some(log.media_errors),
            error_log_entries: Some(log.error_log_entries),
            warning_minutes: Some(log.warning_temperature_minutes.into()),
            critical_minutes: Some(log.critical_temperature_minutes.into()),
            thermal_transitions: sum(log.thermal_transitions),
            thermal_seconds: sum(log.thermal_seconds),
            critical_warning: Some(log.critical_warning),
            self_test_percent: None,
            media_written: None,
            power_state: None,
        }
    }

    /// From what an ATA drive offers; sectors in the statistics are logical ones of this size.
    #[must_use]
    pub fn of_ata(
        smart: Option<&SmartData>,
        statistics: &DeviceStatistics,
        sct: Option<&SctStatus>,
        sector: Bytes,
    ) -> Self {
        let bytes = |n: Option<u64>| n.map(|n| Bytes::new(n.saturating_mul(sector.get())));
        let failed = smart.is_some_and(|s| s.attributes.iter().any(Attribute::failed));
        Self {
            composite_temperature: sct
                .and_then(|s| s.temperature)
                .or(statistics.temperature)
                .or_else(|| smart.and_then(SmartData::customary_temperature)),
            percentage_used: statistics.percentage_used.map(|p| p as f64),
            host_bytes_written: bytes(statistics.sectors_written),
            host_bytes_read: bytes(statistics.sectors_read),
            power_on_hours: statistics.power_on_hours,
            power_cycles: statistics.power_cycles,
            media_errors: statistics.uncorrectable_errors,
            warning_minutes: statistics.over_temperature_minutes,
            // Bit 2 of the NVMe field says the same: reliability is degraded.
            critical_warning: smart.map(|_| u8::from(failed) << 2),
            self_test_percent: smart.and_then(SmartData::self_test_running),
            ..Self::default()
        }
    }

    /// What the drive warns of, in words.
    #[must_use]
    pub fn warnings(&self) -> Vec<&'static str> {
        critical_warning_words(self.critical_warning.unwrap_or(0))
    }
}

/// What a figure counts in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unit {
    /// A plain count.
    Count,
    /// Bytes.
    Bytes,
    /// Percent.
    Percent,
    /// °C.
    Celsius,
    /// Hours.
    Hours,
    /// Minutes.
    Minutes,
    /// Seconds.
    Seconds,
}

impl Unit {
    /// A value with its unit.
    #[must_use]
    pub fn words(self, value: f64) -> String {
        let count = |v: f64| crate::quantity::units::grouped(v.abs() as u64);
        match self {
            Self::Count => count(value),
            Self::Bytes => Bytes::new(value.abs() as u64).to_string(),
            Self::Percent => format!("{:.0} %", value.abs()),
            Self::Celsius => format!("{:.0} °C", value),
            Self::Hours => format!("{} h", count(value)),
            Self::Minutes => format!("{} min", count(value)),
            Self::Seconds => format!("{} s", count(value)),
        }
    }

    /// A difference with its sign and unit; `no change` for none.
    #[must_use]
    pub fn difference(self, by: f64) -> String {
        if by == 0.0 {
            return "no change".into();
        }
        let sign = if by > 0.0 { "+" } else { "−" };
        match self {
            Self::Celsius => format!("{sign}{:.0} K", by.abs()),
            unit => format!("{sign}{}", unit.words(by.abs())),
        }
    }
}

/// One figure of the vitals.
pub struct Figure {
    /// Its name.
    pub name: &'static str,
    /// What it counts in.
    pub unit: Unit,
    /// Its value.
    pub of: fn(&Vitals) -> Option<f64>,
    /// Any growth of it is bad news.
    pub alarming: bool,
}

fn big(v: Option<u64>) -> Option<f64> {
    v.map(|v| v as f64)
}

/// Every figure of the vitals, in the order in which they are shown.
pub const FIGURES: [Figure; 15] = [
    Figure {
        name: "temperature",
        unit: Unit::Celsius,
        of: |v| v.composite_temperature.map(Celsius::degrees),
        alarming: false,
    },
    Figure { name: "percentage used", unit: Unit::Percent, of: |v| v.percentage_used, alarming: false },
    Figure {
        name: "available spare",
        unit: Unit::Percent,
        of: |v| v.available_spare.map(f64::from),
        alarming: false,
    },
    Figure {
        name: "written by hosts",
        unit: Unit::Bytes,
        of: |v| v.host_bytes_written.map(Bytes::as_f64),
        alarming: false,
    },
    Figure {
        name: "read by hosts",
        unit: Unit::Bytes,
        of: |v| v.host_bytes_read.map(Bytes::as_f64),
        alarming: false,
    },
    Figure {
        name: "written to the media",
        unit: Unit::Bytes,
        of: |v| v.media_written.map(|m| m.bytes.as_f64()),
        alarming: false,
    },
    Figure { name: "power on", unit: Unit::Hours, of: |v| big(v.power_on_hours), alarming: false },
    Figure { name: "power cycles", unit: Unit::Count, of: |v| big(v.power_cycles), alarming: false },
    Figure { name: "unsafe shutdowns", unit: Unit::Count, of: |v| big(v.unsafe_shutdowns), alarming: true },
    Figure { name: "media errors", unit: Unit::Count, of: |v| big(v.media_errors), alarming: true },
    Figure { name: "error log entries", unit: Unit::Count, of: |v| big(v.error_log_entries), alarming: true },
    Figure { name: "at warning heat", unit: Unit::Minutes, of: |v| big(v.warning_minutes), alarming: true },
    Figure { name: "at critical heat", unit: Unit::Minutes, of: |v| big(v.critical_minutes), alarming: true },
    Figure {
        name: "throttled for heat",
        unit: Unit::Count,
        of: |v| big(v.thermal_transitions),
        alarming: true,
    },
    Figure { name: "time throttled", unit: Unit::Seconds, of: |v| big(v.thermal_seconds), alarming: true },
];

/// One figure in two readings.
#[derive(Debug, Clone, PartialEq)]
pub struct Change {
    /// Its name.
    pub name: &'static str,
    /// In the first reading.
    pub before: Option<String>,
    /// In the second.
    pub after: Option<String>,
    /// From one to the other, where both have it.
    pub difference: Option<String>,
    /// It grew, and that is bad news.
    pub alarming: bool,
}

/// Compares two readings; figures that neither has are left out.
#[must_use]
pub fn changes(before: &Vitals, after: &Vitals) -> Vec<Change> {
    FIGURES
        .iter()
        .filter_map(|f| {
            let (a, b) = ((f.of)(before), (f.of)(after));
            (a.is_some() || b.is_some()).then(|| {
                let by = a.zip(b).map(|(a, b)| b - a);
                Change {
                    name: f.name,
                    before: a.map(|v| f.unit.words(v)),
                    after: b.map(|v| f.unit.words(v)),
                    difference: by.map(|d| f.unit.difference(d)),
                    alarming: f.alarming && by.is_some_and(|d| d > 0.0),
                }
            })
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changed_is_told_with_units_and_alarms() {
        let before = Vitals {
            composite_temperature: Some(Celsius::new(40.0)),
            host_bytes_written: Some(Bytes::from_gb(100)),
            media_errors: Some(0),
            ..Vitals::default()
        };
        let after = Vitals {
            composite_temperature: Some(Celsius::new(61.0)),
            host_bytes_written: Some(Bytes::from_gb(412)),
            media_errors: Some(2),
            power_on_hours: Some(1200),
            ..before.clone()
        };
        let all = changes(&before, &after);
        let of = |name: &str| all.iter().find(|c| c.name == name).unwrap();
        assert_eq!(of("temperature").difference.as_deref(), Some("+21 K"));
        assert_eq!(of("written by hosts").difference.as_deref(), Some("+312 GB"));
        assert!(of("media errors").alarming && !of("temperature").alarming);
        assert_eq!(
            (of("power on").difference.as_deref(), of("power on").after.as_deref()),
            (None, Some("1 200 h"))
        );
        assert!(!all.iter().any(|c| c.name == "power cycles"), "what neither has is left out");
        assert!(changes(&after, &after).iter().all(|c| c.difference.as_deref() == Some("no change")));
    }

    #[test]
    fn an_ata_drive_fills_what_its_pages_say() {
        let statistics = DeviceStatistics {
            sectors_written: Some(1000),
            temperature: Some(Celsius::new(33.0)),
            ..DeviceStatistics::default()
        };
        let sct = SctStatus {
            temperature: Some(Celsius::new(35.0)),
            highest: None,
            highest_ever: None,
            over_limit_count: 0,
        };
        let v = Vitals::of_ata(None, &statistics, Some(&sct), Bytes::new(4096));
        assert_eq!(v.host_bytes_written, Some(Bytes::new(4_096_000)));
        assert_eq!(v.composite_temperature, Some(Celsius::new(35.0)), "SCT is the drive's own sensor");
        assert_eq!(v.critical_warning, None);
    }
}
