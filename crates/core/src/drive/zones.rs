//! Zoned drives: addresses in zones, of which most take writes in sequence only, each from its write pointer on.
//!
//! NVMe Zoned Namespace Command Set 1.1 (NVM Express) and Zoned Block Commands, ZBC-2 (INCITS T10); the kernel reports both alike
//! (include/uapi/linux/blkzoned.h).

use serde::{Deserialize, Serialize};

use super::protocol::{PageError, u32_at, u64_at};
use crate::quantity::units::Bytes;

/// Who minds the order of writes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ZoneModel {
    /// The host: a write that is not in sequence fails.
    HostManaged,
    /// The drive takes any write, and is quick at those in sequence.
    HostAware,
}

impl ZoneModel {
    /// As in the kernel's sysfs; `None` of a drive without zones.
    #[must_use]
    pub fn parse(word: &str) -> Option<Self> {
        match word {
            "host-managed" => Some(Self::HostManaged),
            "host-aware" => Some(Self::HostAware),
            _ => None,
        }
    }

    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::HostManaged => "host-managed",
            Self::HostAware => "host-aware",
        }
    }
}

/// What a zone is at (ZNS 1.1, 2.1.1.2; ZBC-2, 4.4).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ZoneCondition {
    /// Takes any write: it has no write pointer.
    Conventional,
    /// Nothing was written to it since its last reset.
    Empty,
    /// Being written.
    Open,
    /// Written in part, and set aside.
    Closed,
    /// Written to its end, or finished before.
    Full,
    /// It can be read, and nothing else any more.
    ReadOnly,
    /// It can neither be read nor written any more.
    Offline,
}

impl ZoneCondition {
    /// Each, in the order in which they are told.
    pub const ALL: [Self; 7] = [
        Self::Full,
        Self::Open,
        Self::Closed,
        Self::Empty,
        Self::Conventional,
        Self::ReadOnly,
        Self::Offline,
    ];

    /// In a word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Conventional => "conventional",
            Self::Empty => "empty",
            Self::Open => "open",
            Self::Closed => "closed",
            Self::Full => "full",
            Self::ReadOnly => "read-only",
            Self::Offline => "offline",
        }
    }

    const fn of(code: u8) -> Option<Self> {
        Some(match code {
            0x0 => Self::Conventional,
            0x1 => Self::Empty,
            0x2 | 0x3 => Self::Open,
            0x4 => Self::Closed,
            0xd => Self::ReadOnly,
            0xe => Self::Full,
            0xf => Self::Offline,
            _ => return None,
        })
    }
}

/// One zone.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Zone {
    /// Its first byte.
    pub start: u64,
    /// Bytes to the next zone.
    pub length: u64,
    /// Bytes of these that can be written; the rest holds nothing.
    pub capacity: u64,
    /// What it is at.
    pub condition: ZoneCondition,
    /// It fails writes that are not in sequence.
    pub in_sequence_only: bool,
    /// Address of the next write; `None` where it has no valid one.
    pub pointer: Option<u64>,
}

impl Zone {
    /// It takes writes.
    #[must_use]
    pub const fn may_write(&self) -> bool {
        !matches!(self.condition, ZoneCondition::ReadOnly | ZoneCondition::Offline) && self.capacity > 0
    }

    /// It can be emptied: it has a write pointer to be set back.
    #[must_use]
    pub fn may_reset(&self) -> bool {
        self.may_write() && self.condition != ZoneCondition::Conventional
    }

    /// One past the last byte that can be written.
    #[must_use]
    pub const fn end(&self) -> u64 {
        self.start + self.capacity
    }

    /// Bytes that were written since its last reset; `None` where nobody counts.
    #[must_use]
    pub fn written(&self) -> Option<u64> {
        match self.condition {
            ZoneCondition::Conventional | ZoneCondition::Offline | ZoneCondition::ReadOnly => None,
            ZoneCondition::Full => Some(self.capacity),
            _ => Some(self.pointer?.saturating_sub(self.start).min(self.capacity)),
        }
    }
}

const REPORT: &str = "the report of zones";
/// Length of the head of a report, and of each zone in it (`struct blk_zone_report`, `struct blk_zone`).
pub const REPORT_HEAD: usize = 16;
/// Length of a zone in a report.
pub const REPORT_ZONE: usize = 64;
/// BLK_ZONE_REP_CAPACITY: zones in the report tell their capacity.
const TELLS_CAPACITY: u32 = 1;
/// The kernel counts in these, whatever the drive's blocks are.
const SECTOR: u64 = 512;

/// Zones of the kernel's answer to BLKREPORTZONE.
///
/// # Errors
/// When the answer is cut short, or a zone contradicts itself.
pub fn decode_report(answer: &[u8]) -> Result<Vec<Zone>, PageError> {
    let wrong = |why: String| PageError::Nonsense { page: REPORT, why };
    if answer.len() < REPORT_HEAD {
        return Err(wrong("it is cut short".into()));
    }
    let (count, flags) = (u32_at(answer, 8) as usize, u32_at(answer, 12));
    let all: Vec<&[u8]> = answer[REPORT_HEAD..].chunks_exact(REPORT_ZONE).take(count).collect();
    if all.len() < count {
        return Err(wrong(format!("it names {count} zones and holds {}", all.len())));
    }
    let bytes = |zone: &[u8], at: usize| u64_at(zone, at).checked_mul(SECTOR);
    all.into_iter()
        .map(|zone| {
            let start = bytes(zone, 0).ok_or_else(|| wrong("a zone begins beyond any drive".into()))?;
            let bad = |what: &str| wrong(format!("the zone at {} {what}", Bytes::new(start)));
            let length = bytes(zone, 8).filter(|l| *l > 0 && start.checked_add(*l).is_some());
            let length = length.ok_or_else(|| bad("has no length"))?;
            let capacity = if flags & TELLS_CAPACITY == 0 { Some(length) } else { bytes(zone, 32) };
            let capacity =
                capacity.filter(|c| *c <= length).ok_or_else(|| bad("holds more than it is long"))?;
            let condition =
                ZoneCondition::of(zone[25]).ok_or_else(|| bad("is in a condition that no standard knows"))?;
            let pointer = match condition {
                ZoneCondition::Empty => Some(start),
                ZoneCondition::Open | ZoneCondition::Closed => {
                    let at = bytes(zone, 16).filter(|p| (start..=start + length).contains(p));
                    Some(at.ok_or_else(|| bad("has its write pointer outside of it"))?)
                }
                _ => None,
            };
            Ok(Zone { start, length, capacity, condition, in_sequence_only: zone[24] == 2, pointer })
        })
        .collect()
}

/// Zones of a drive, as they were when they were asked for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ZoneFacts {
    /// Who minds the order of writes.
    pub model: ZoneModel,
    /// Bytes from one zone to the next.
    pub size: Bytes,
    /// Bytes of a zone that can be written.
    pub capacity: Bytes,
    /// How many there are.
    pub count: u32,
    /// Zones that may be open at once; 0 where there is no limit.
    #[serde(default)]
    pub most_open: u32,
    /// Zones that may be written in part at once; 0 where there is no limit.
    #[serde(default)]
    pub most_active: u32,
    /// Conditions in the order of addresses, neighbours in one: how many, of which condition. Empty where the drive could not be asked.
    #[serde(default)]
    pub map: Vec<(u32, ZoneCondition)>,
    /// Bytes that lie before the write pointers; `None` where the drive could not be asked.
    #[serde(default)]
    pub written: Option<Bytes>,
}

impl ZoneFacts {
    /// Takes up what a report says.
    pub fn take(&mut self, zones: &[Zone]) {
        self.map.clear();
        for zone in zones {
            match self.map.last_mut() {
                Some((n, condition)) if *condition == zone.condition => *n += 1,
                _ => self.map.push((1, zone.condition)),
            }
        }
        self.written = Some(Bytes::new(zones.iter().filter_map(Zone::written).sum()));
        // The last zone may be a runt; the middle one tells what a zone holds.
        if let Some(zone) = zones.get(zones.len() / 2) {
            self.capacity = Bytes::new(zone.capacity);
        }
    }

    /// How many zones are in a condition.
    #[must_use]
    pub fn in_condition(&self, condition: ZoneCondition) -> u32 {
        self.map.iter().filter(|m| m.1 == condition).map(|m| m.0).sum()
    }

    /// Share of what its zones in sequence hold that is written; `None` where the drive could not be asked or has none.
    #[must_use]
    pub fn fill(&self) -> Option<f64> {
        let counted: u32 = self
            .map
            .iter()
            .filter(|m| {
                !matches!(m.1, ZoneCondition::Conventional | ZoneCondition::Offline | ZoneCondition::ReadOnly)
            })
            .map(|m| m.0)
            .sum();
        let holds = self.capacity.as_f64() * f64::from(counted);
        (holds > 0.0).then(|| Some((self.written?.as_f64() / holds).min(1.0)))?
    }

    /// The condition of each of so many equal stretches of the drive: what is out of order in it, or else what most of it is. Empty where
    /// the drive could not be asked.
    #[must_use]
    pub fn stretches(&self, rows: usize) -> Vec<ZoneCondition> {
        let total: u64 = self.map.iter().map(|m| u64::from(m.0)).sum();
        if total == 0 || rows == 0 {
            return Vec::new();
        }
        let mut begins = Vec::with_capacity(self.map.len());
        let mut at = 0u64;
        for (n, condition) in &self.map {
            begins.push((at, at + u64::from(*n), *condition));
            at += u64::from(*n);
        }
        let rows = rows as u64;
        (0..rows)
            .map(|row| {
                // At least one zone, where there are fewer zones than rows.
                let from = row * total / rows;
                let to = ((row + 1) * total / rows).max(from + 1);
                let within = begins.iter().filter(|b| b.0 < to && b.1 > from);
                let weight = |(b, e, c): &(u64, u64, ZoneCondition)| {
                    let broken = matches!(c, ZoneCondition::ReadOnly | ZoneCondition::Offline);
                    (broken, (*e).min(to) - (*b).max(from))
                };
                within.max_by_key(|b| weight(b)).map_or(ZoneCondition::Empty, |b| b.2)
            })
            .collect()
    }

    /// Zones that a write with so many operations in flight goes to at once: one write is in flight in each, since they must come in
    /// sequence.
    #[must_use]
    pub fn at_once(&self, depth: u32) -> u32 {
        [self.most_open, self.most_active].into_iter().filter(|m| *m > 0).fold(depth.max(1), u32::min)
    }

    /// `1,024 zones of 256 MiB, host-managed, 14 open at most`.
    #[must_use]
    pub fn words(&self) -> String {
        let holds = if self.capacity == self.size {
            String::new()
        } else {
            format!(" that hold {}", self.capacity.binary())
        };
        let open = match self.at_once(u32::MAX) {
            u32::MAX => String::new(),
            n => format!(", {n} open at most"),
        };
        let count = crate::quantity::units::grouped(u64::from(self.count));
        format!("{count} zones of {}{holds}, {}{open}", self.size.binary(), self.model.words())
    }

    /// `12 full, 3 open, 1,009 empty`; `None` where the drive could not be asked.
    #[must_use]
    pub fn conditions(&self) -> Option<String> {
        let said: Vec<String> = ZoneCondition::ALL
            .into_iter()
            .filter_map(|c| Some((c, self.in_condition(c))).filter(|c| c.1 > 0))
            .map(|(c, n)| format!("{} {}", crate::quantity::units::grouped(u64::from(n)), c.word()))
            .collect();
        (!said.is_empty()).then(|| said.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A zone of the report, in sectors: start, length, pointer, type, condition, capacity.
    pub(crate) fn zone(start: u64, length: u64, pointer: u64, codes: (u8, u8), capacity: u64) -> Vec<u8> {
        let mut bytes = Vec::new();
        [start, length, pointer].iter().for_each(|v| bytes.extend(v.to_ne_bytes()));
        bytes.extend([codes.0, codes.1, 0, 0, 0, 0, 0, 0]);
        bytes.extend(capacity.to_ne_bytes());
        bytes.resize(REPORT_ZONE, 0);
        bytes
    }

    fn report(flags: u32, zones: &[Vec<u8>]) -> Vec<u8> {
        let mut bytes = vec![0; 8];
        bytes.extend((zones.len() as u32).to_ne_bytes());
        bytes.extend(flags.to_ne_bytes());
        zones.iter().for_each(|z| bytes.extend(z));
        bytes
    }

    #[test]
    fn a_report_is_read_as_the_kernel_lays_it_out() {
        let all = report(
            1,
            &[
                zone(0, 4096, 0, (1, 0), 4096),
                zone(4096, 4096, 4096, (2, 1), 3072),
                zone(8192, 4096, 8200, (2, 2), 3072),
                zone(12_288, 4096, 13_000, (2, 4), 3072),
                zone(16_384, 4096, 20_480, (2, 0xe), 3072),
                zone(20_480, 4096, 0, (2, 0xd), 3072),
                zone(24_576, 4096, 0, (2, 0xf), 3072),
            ],
        );
        let zones = decode_report(&all).unwrap();
        assert_eq!((zones[1].start, zones[1].end()), (4096 * 512, (4096 + 3072) * 512));
        assert_eq!(zones[2].written(), Some(8 * 512));
        assert_eq!((zones[3].written(), zones[4].written()), (Some(712 * 512), Some(3072 * 512)));
        assert_eq!((zones[0].written(), zones[0].in_sequence_only), (None, false));
        assert!(zones[4].may_write() && !zones[5].may_write() && !zones[6].may_write());
        let mut facts = ZoneFacts {
            model: ZoneModel::HostManaged,
            size: Bytes::new(4096 * 512),
            capacity: Bytes::ZERO,
            count: 7,
            most_open: 14,
            most_active: 12,
            map: Vec::new(),
            written: None,
        };
        facts.take(&zones);
        assert_eq!(
            facts.conditions().unwrap(),
            "1 full, 1 open, 1 closed, 1 empty, 1 conventional, 1 read-only, 1 offline"
        );
        assert_eq!(facts.words(), "7 zones of 2 MiB that hold 1536 KiB, host-managed, 12 open at most");
        // (8 + 712 + 3,072) of 4 × 3,072 sectors.
        assert!((facts.fill().unwrap() - 3792.0 / 12_288.0).abs() < 1e-12);
        assert_eq!(facts.stretches(7), zones.iter().map(|z| z.condition).collect::<Vec<_>>());
        assert_eq!(facts.stretches(14).len(), 14);
        // Of two to a row the broken one is seen, whatever else is there.
        assert_eq!(facts.stretches(3)[2], ZoneCondition::ReadOnly.max(ZoneCondition::Offline));
        assert_eq!((facts.at_once(32), facts.at_once(4), facts.at_once(0)), (12, 4, 1));
    }

    #[test]
    fn without_the_flag_a_zone_holds_what_it_is_long() {
        let all = report(0, &[zone(0, 4096, 0, (2, 1), 0)]);
        assert_eq!(decode_report(&all).unwrap()[0].capacity, 4096 * 512);
    }

    #[test]
    fn what_contradicts_itself_is_an_error_with_its_place() {
        let said = |z: Vec<u8>| decode_report(&report(1, &[z])).unwrap_err().to_string();
        assert!(said(zone(8, 0, 8, (2, 1), 0)).contains("has no length"));
        assert!(said(zone(8, 16, 8, (2, 1), 17)).contains("holds more than it is long"));
        assert!(said(zone(8, 16, 80, (2, 2), 16)).contains("write pointer outside"));
        assert!(said(zone(8, 16, 8, (2, 7), 16)).contains("condition that no standard knows"));
        let mut short = report(1, &[zone(0, 8, 0, (2, 1), 8)]);
        short.pop();
        assert!(decode_report(&short).unwrap_err().to_string().contains("names 1 zones and holds 0"));
        assert!(decode_report(&[0; 4]).is_err());
    }

    proptest! {
        #[test]
        fn no_answer_brings_it_down(bytes in proptest::collection::vec(any::<u8>(), 0..400), count in 0u32..8) {
            let mut bytes = bytes;
            if bytes.len() >= 12 {
                bytes[8..12].copy_from_slice(&count.to_ne_bytes());
            }
            if let Ok(zones) = decode_report(&bytes) {
                prop_assert!(zones.iter().all(|z| z.capacity <= z.length && z.written().is_none_or(|w| w <= z.capacity)));
            }
        }
    }
}
