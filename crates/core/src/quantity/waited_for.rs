//! What a transfer of files waits for.

use serde::{Deserialize, Serialize};

/// What may hold up a transfer of files.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum WaitedFor {
    /// The drive from which files come gives their bytes.
    Source,
    /// The drive to which they go, or the only one, takes or gives their bytes.
    Target,
    /// The file system does work of its own: its journal, allocation, making data durable.
    FileSystem,
    /// This machine makes and copies data in memory.
    Machine,
    /// Files and folders are made, opened, closed or removed: it costs the same for a small file as for a large one.
    SmallFiles,
}

impl WaitedFor {
    /// Each of them.
    pub const ALL: [Self; 5] =
        [Self::Source, Self::Target, Self::FileSystem, Self::Machine, Self::SmallFiles];

    /// As in JSON.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Source => "source",
            Self::Target => "target",
            Self::FileSystem => "file-system",
            Self::Machine => "machine",
            Self::SmallFiles => "small-files",
        }
    }
}

/// How much less time a transfer would take without what holds it up, with its 95 % interval.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Waiting {
    /// What holds it up.
    pub on: WaitedFor,
    /// Share of the time that would go, 0 to 1.
    pub share: f64,
    /// Bounds of its interval.
    pub low: f64,
    /// Bounds of its interval.
    pub high: f64,
}
