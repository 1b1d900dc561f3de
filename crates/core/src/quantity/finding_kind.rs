//! What can be found in a record.

use serde::{Deserialize, Serialize};

/// What was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FindingKind {
    /// The fast part of the write cache was used up.
    CacheEnd,
    /// The drive lowered its speed because it was hot.
    Throttle,
    /// A stretch of addresses is slow.
    SlowZone,
    /// The drive is slower because it is fuller.
    FillSlowdown,
    /// The drive was busy with itself.
    Background,
    /// Somebody else used the drive.
    OtherTraffic,
    /// This machine could not keep up.
    HostLimit,
    /// Addresses that could not be read or written.
    MediaError,
    /// What came back is not what was written.
    DataMismatch,
    /// One thing held a transfer of files up.
    Bottleneck,
    /// The memory of this machine was full of data still to be written.
    WriteBack,
    /// What others ask of the drive is kept waiting while it works.
    KeptWaiting,
    /// The rate left what earlier hauls of the drive showed on the same way.
    OffForecast,
    /// The drive is not like the others of its model.
    Outlier,
    /// The speed changed and the record does not say why.
    Unexplained,
}

impl FindingKind {
    /// Each of them.
    pub const ALL: [Self; 15] = [
        Self::CacheEnd,
        Self::Throttle,
        Self::SlowZone,
        Self::FillSlowdown,
        Self::Background,
        Self::OtherTraffic,
        Self::HostLimit,
        Self::MediaError,
        Self::DataMismatch,
        Self::Bottleneck,
        Self::WriteBack,
        Self::KeptWaiting,
        Self::OffForecast,
        Self::Outlier,
        Self::Unexplained,
    ];

    /// Reads [`FindingKind::word`] back.
    #[must_use]
    pub fn from_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|k| k.word() == word)
    }

    /// As in JSON and on screen.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::CacheEnd => "cache-end",
            Self::Throttle => "throttle",
            Self::SlowZone => "slow-zone",
            Self::FillSlowdown => "fill-slowdown",
            Self::Background => "background",
            Self::OtherTraffic => "other-traffic",
            Self::HostLimit => "host-limit",
            Self::MediaError => "media-error",
            Self::DataMismatch => "data-mismatch",
            Self::Bottleneck => "bottleneck",
            Self::WriteBack => "write-back",
            Self::KeptWaiting => "kept-waiting",
            Self::OffForecast => "off-forecast",
            Self::Outlier => "outlier",
            Self::Unexplained => "unexplained",
        }
    }
}
