//! What a device moved in all, by the block layer's counters, and what of it was not ours.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::Path;

use hollow_mile_core::quantity::units::Bytes;

/// Counters of one device: `stat` in its sysfs folder (Documentation/block/stat.rst of the kernel).
pub struct Counters {
    stat: File,
}

/// Bytes that went through a device since it appeared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Moved {
    /// Read.
    pub read: u64,
    /// Written.
    pub written: u64,
    /// Milliseconds in which it had something to do.
    pub busy_ms: u64,
}

impl Moved {
    /// Both ways together.
    #[must_use]
    pub const fn sum(self) -> u64 {
        self.read.saturating_add(self.written)
    }
}

impl Counters {
    /// Of the device with this folder in sysfs.
    #[must_use]
    pub fn of(folder: &Path) -> Option<Self> {
        let counters = Self { stat: File::open(folder.join("stat")).ok()? };
        counters.read().map(|_| counters)
    }

    /// As they stand now; `None` when the device is gone.
    #[must_use]
    pub fn read(&self) -> Option<Moved> {
        let mut buffer = [0u8; 512];
        let n = self.stat.read_at(&mut buffer, 0).ok()?;
        parse(std::str::from_utf8(&buffer[..n]).ok()?)
    }
}

fn parse(stat: &str) -> Option<Moved> {
    // Sectors of 512 B, whatever the device's blocks are.
    let mut fields = stat.split_ascii_whitespace().map(|f| f.parse::<u64>().ok());
    let read = fields.nth(2)??;
    let written = fields.nth(3)??;
    // In flight, and then the time with anything in flight.
    let busy_ms = fields.nth(2).flatten().unwrap_or(0);
    Some(Moved { read: read.saturating_mul(512), written: written.saturating_mul(512), busy_ms })
}

/// Tells others' traffic from ours.
pub struct Others {
    counters: Counters,
    began: u64,
    ours: u64,
    told: u64,
}

impl Others {
    /// From now on.
    #[must_use]
    pub fn new(counters: Counters) -> Self {
        let began = counters.read().map_or(0, Moved::sum);
        Self { counters, began, ours: 0, told: 0 }
    }

    /// Bytes that others moved since the last call, when we moved `ours` more and have so many in flight. What is in
    /// flight may or may not have been counted by the device, so it is given to us; a stranger's bytes are told late by
    /// as much at most, and never invented.
    pub fn since(&mut self, ours: u64, in_flight: u64) -> Option<Bytes> {
        self.ours += ours;
        let moved = self.counters.read()?.sum().saturating_sub(self.began);
        let others = moved.saturating_sub(self.ours + in_flight).max(self.told);
        let new = others - self.told;
        self.told = others;
        Some(Bytes::new(new))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_are_read_as_the_kernel_writes_them() {
        let line = "    1005       10    20000      500     2000       30    40000      900        0      700     1400        5        0   9999\n";
        assert_eq!(parse(line), Some(Moved { read: 20_000 * 512, written: 40_000 * 512, busy_ms: 700 }));
        assert_eq!(parse("1 2"), None);
    }

    #[test]
    fn only_what_is_not_ours_is_told() {
        let dir = tempfile::tempdir().unwrap();
        let set = |sectors: u64| {
            std::fs::write(dir.path().join("stat"), format!("0 0 0 0 0 0 {sectors} 0\n")).unwrap()
        };
        set(100);
        let mut others = Others::new(Counters::of(dir.path()).unwrap());
        set(100 + 10);
        assert_eq!(
            others.since(4096, 1024),
            Some(Bytes::ZERO),
            "in flight, and counted by the device already"
        );
        set(100 + 30);
        assert_eq!(others.since(1024, 0), Some(Bytes::new(20 * 512)));
        assert_eq!(others.since(0, 8192), Some(Bytes::ZERO), "what was told once is not taken back");
        assert!(Counters::of(&dir.path().join("none")).is_none());
    }
}
