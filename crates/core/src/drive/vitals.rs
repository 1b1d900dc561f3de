//! What a drive says of its health at one moment.

use serde::{Deserialize, Serialize};

use crate::drive::protocol::nvme_media::MediaWritten;
use crate::quantity::units::{Bytes, Celsius};

/// One health reading. Field names after the NVMe SMART / Health Information log (NVM Express Base 2.0, 5.16.1.3).
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Vitals {
    /// Composite temperature.
    pub composite_temperature: Option<Celsius>,
    /// Percentage Used: 100 at rated endurance, may exceed it.
    pub percentage_used: Option<f64>,
    /// Available Spare, percent.
    pub available_spare: Option<u8>,
    /// Available Spare Threshold, percent.
    pub available_spare_threshold: Option<u8>,
    /// Bytes written by the host over the life of the drive (data units × 512,000).
    pub host_bytes_written: Option<Bytes>,
    /// Bytes read by the host over the life of the drive.
    pub host_bytes_read: Option<Bytes>,
    /// Bytes written to the media over the life of the drive, housekeeping included; with the step in which the count moves.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub media_written: Option<MediaWritten>,
    /// NVMe power state that is set.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub power_state: Option<u8>,
    /// Power cycles.
    pub power_cycles: Option<u64>,
    /// Unsafe shutdowns: power lost without warning.
    pub unsafe_shutdowns: Option<u64>,
    /// Entries in the error log over the life of the drive.
    pub error_log_entries: Option<u64>,
    /// Minutes at or above the warning temperature, over the life of the drive.
    pub warning_minutes: Option<u64>,
    /// Minutes at or above the critical temperature.
    pub critical_minutes: Option<u64>,
    /// Percentage done of the self-test that runs now.
    pub self_test_percent: Option<u8>,
    /// Power on hours.
    pub power_on_hours: Option<u64>,
    /// Media and data integrity errors.
    pub media_errors: Option<u64>,
    /// Times the drive went into thermal management (TMT1 and TMT2 transition counts together).
    pub thermal_transitions: Option<u64>,
    /// Seconds spent in thermal management (total time for TMT1 and TMT2 together).
    pub thermal_seconds: Option<u64>,
    /// Critical Warning bits.
    pub critical_warning: Option<u8>,
}
