//! Zones of a real drive: what they are at, and the order in which a write goes over them.
//!
//! One write is in flight in each zone, since a host-managed drive fails what does not come in sequence and nothing below keeps the order
//! of two that are in flight at once. So a load with so many operations in flight writes so many zones at once, each from its start.
//! Structures and numbers after include/uapi/linux/blkzoned.h of the kernel.

use std::os::fd::AsRawFd;
use std::sync::Arc;

use hollow_mile_core::drive::zones::{REPORT_HEAD, REPORT_ZONE, Zone, ZoneCondition, decode_report};
use hollow_mile_core::quantity::units::Bytes;

use super::guard::Writable;

/// `_IOWR(0x12, 130, struct blk_zone_report)`.
const BLKREPORTZONE: libc::c_ulong = 0xc010_1282;
/// Zones that are asked for at once.
const AT_ONCE: usize = 4096;

/// Every zone of a device.
///
/// # Errors
/// What the kernel says, or that its answer makes no sense.
pub(super) fn report(file: &impl AsRawFd) -> std::io::Result<Vec<Zone>> {
    let mut all: Vec<Zone> = Vec::new();
    loop {
        let from = all.last().map_or(0, |z| z.start + z.length);
        let mut answer = vec![0u8; REPORT_HEAD + AT_ONCE * REPORT_ZONE];
        answer[..8].copy_from_slice(&(from / 512).to_ne_bytes());
        answer[8..12].copy_from_slice(&(AT_ONCE as u32).to_ne_bytes());
        // SAFETY: the kernel writes the head and as many zones as the head asks for, and the buffer holds that.
        if unsafe { libc::ioctl(file.as_raw_fd(), BLKREPORTZONE, answer.as_mut_ptr()) } < 0 {
            return Err(std::io::Error::last_os_error());
        }
        let more = decode_report(&answer).map_err(std::io::Error::other)?;
        // A report that does not go on from where it was asked for would never end.
        if more.first().is_some_and(|z| z.start != from) {
            return Err(std::io::Error::other("the report of zones does not begin where it was asked to"));
        }
        if more.is_empty() {
            return Ok(all);
        }
        all.extend(more);
    }
}

/// How a stretch may be written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Rewrite {
    /// A zone of this length from its start on, reset before it is written again.
    Reset(u64),
    /// As often as one likes: it has no write pointer.
    Over,
    /// Once, from its write pointer on: a reset would reach beyond the region.
    Once,
}

/// A zone, or the part of one, that a load may write.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Part {
    /// Where its writes begin.
    from: u64,
    /// One past the last byte.
    to: u64,
    rewrite: Rewrite,
    /// It holds something that a reset must take away first; or, where it may be written once, it was.
    used: bool,
}

impl Part {
    const fn is_spent(&self) -> bool {
        self.used && matches!(self.rewrite, Rewrite::Once)
    }
}

/// Where a load may write, zone by zone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZonePlan {
    parts: Vec<Part>,
    /// The part that comes first, and where in it.
    first: (usize, u64),
    /// Zones at once.
    lanes: u32,
}

impl ZonePlan {
    /// Of a region from `start` to `end`, that is written from `from` on.
    ///
    /// # Errors
    /// When no zone of the region can be written.
    pub(super) fn of(
        zones: &[Zone],
        (start, end): (u64, u64),
        from: u64,
        lanes: u32,
        most_active: u32,
    ) -> Result<Self, String> {
        let part = |z: &Zone| part(z, start, end);
        let parts: Vec<Part> = zones.iter().filter(|z| z.may_write()).filter_map(part).collect();
        if parts.is_empty() {
            let size = Bytes::new(zones.first().map_or(0, |z| z.length)).binary();
            return Err(format!(
                "its region holds no zone that can be written: a zone is {size}, and is written whole or from its write pointer on"
            ));
        }
        // It goes on where the write before it ended, if that is where the zone goes on.
        let at = parts.iter().position(|p| (p.from..p.to).contains(&from)).unwrap_or(0);
        let goes_on =
            parts[at].from < from && zones.iter().any(|z| z.start < from && z.pointer == Some(from));
        let first = (at, if goes_on { from } else { parts[at].from });
        let lanes = lanes.clamp(1, u32::try_from(parts.len()).unwrap_or(u32::MAX));
        let mut plan = Self { parts, first, lanes };
        plan.make_room(zones, most_active)?;
        Ok(plan)
    }

    /// Takes no more zones at once than the drive has room for beside those that are written in part already.
    fn make_room(&mut self, zones: &[Zone], most_active: u32) -> Result<(), String> {
        let is_active = |z: &&Zone| matches!(z.condition, ZoneCondition::Open | ZoneCondition::Closed);
        let beside = |lanes: u32| {
            let ours = |z: &Zone| {
                let index = self.parts.iter().position(|p| (z.start..z.start + z.length).contains(&p.from));
                let turn = |i: usize| (i + self.parts.len() - self.first.0) % self.parts.len();
                index.is_some_and(|i| turn(i) < lanes as usize)
            };
            zones.iter().filter(is_active).filter(|z| !ours(z)).count() as u64
        };
        let fits =
            |lanes: &u32| most_active == 0 || beside(*lanes) + u64::from(*lanes) <= u64::from(most_active);
        self.lanes = (1..=self.lanes).rev().find(fits).ok_or_else(|| {
            format!(
                "{} zones beside those of its region are written in part, and the drive lets no more be ({most_active}): empty them first, by a wipe leg with by = \"reset-zones\"",
                beside(1)
            )
        })?;
        Ok(())
    }

    /// Zones at once.
    pub(super) const fn lanes(&self) -> u32 {
        self.lanes
    }

    /// So many bytes over a region of this length, where its zones hold less than it is long.
    pub(super) fn limit(&self, limit: u64, region: u64) -> u64 {
        let holds: u64 = self.parts.iter().map(|p| p.to - p.from).sum();
        let (whole, rest) = (limit / region.max(1), limit % region.max(1));
        whole.saturating_mul(holds).saturating_add(rest.min(holds))
    }
}

fn part(zone: &Zone, start: u64, end: u64) -> Option<Part> {
    if zone.start >= start && zone.start + zone.length <= end && zone.condition != ZoneCondition::Conventional
    {
        let used = zone.condition != ZoneCondition::Empty;
        return Some(Part { from: zone.start, to: zone.end(), rewrite: Rewrite::Reset(zone.length), used });
    }
    let (from, to) = (zone.start.max(start), zone.end().min(end));
    let rewrite = match zone.condition {
        ZoneCondition::Conventional => Rewrite::Over,
        _ if zone.pointer == Some(from) => Rewrite::Once,
        _ => return None,
    };
    (from < to).then_some(Part { from, to, rewrite, used: false })
}

/// A zone that is being written.
#[derive(Debug, Clone, Copy)]
struct Lane {
    part: usize,
    next: u64,
    to: u64,
    busy: bool,
    /// The pass that it belongs to.
    lap: u32,
}

impl Lane {
    const fn is_over(&self) -> bool {
        !self.busy && self.next >= self.to
    }
}

/// What the order asks of a drive.
pub(super) trait Resets: Send {
    /// Empties one zone: its first byte and length.
    ///
    /// # Errors
    /// What the kernel says.
    fn reset(&self, start: u64, length: u64) -> std::io::Result<()>;
}

impl Resets for Arc<Writable> {
    fn reset(&self, start: u64, length: u64) -> std::io::Result<()> {
        self.reset_zones(start, length)
    }
}

/// The next write of a load over zones.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ZoneWrite {
    /// First byte.
    pub address: u64,
    /// Bytes.
    pub length: u64,
    /// The pass that it belongs to.
    pub lap: u32,
}

/// Which address of which zone comes next.
pub(super) struct ZoneOrder {
    drive: Box<dyn Resets>,
    parts: Vec<Part>,
    /// The part that is taken up next, and where in it.
    next: (usize, u64),
    lanes: Vec<Option<Lane>>,
    /// The lane that each slot of the pump writes.
    slots: Vec<Option<usize>>,
    /// Where the last write was completed.
    at: u64,
    /// Passes over the region that are behind.
    lap: u32,
}

impl ZoneOrder {
    /// As planned, for so many slots of the pump.
    pub fn new(drive: Box<dyn Resets>, plan: &ZonePlan, slots: usize) -> Self {
        Self {
            drive,
            parts: plan.parts.clone(),
            next: plan.first,
            lanes: vec![None; plan.lanes as usize],
            slots: vec![None; slots],
            at: plan.first.1,
            lap: 0,
        }
    }

    /// Address behind the last write, where one zone is written at a time.
    pub fn position(&self) -> Option<u64> {
        (self.lanes.len() == 1).then_some(self.at)
    }

    /// Where a load that follows goes on: in the first zone that is not written to its end.
    pub fn goes_on_at(&self) -> u64 {
        let begun = self.lanes.iter().flatten().filter(|l| l.next < l.to && l.next > self.parts[l.part].from);
        begun.map(|l| l.next).min().unwrap_or(self.next.1)
    }

    /// The next write for a slot; `None` while every zone has one in flight, or when nothing is left that may be written.
    ///
    /// # Errors
    /// When a zone cannot be reset.
    pub fn next(&mut self, slot: u32, block: u64, left: u64) -> std::io::Result<Option<ZoneWrite>> {
        for i in 0..self.lanes.len() {
            if self.lanes[i].is_some_and(|l| l.busy) {
                continue;
            }
            if self.lanes[i].is_none_or(|l| l.next >= l.to) {
                self.lanes[i] = None;
                if !self.take_up(i)? {
                    continue;
                }
            }
            if let Some(lane) = &mut self.lanes[i] {
                let length = block.min(lane.to - lane.next).min(left);
                let write = ZoneWrite { address: lane.next, length, lap: lane.lap };
                lane.next += write.length;
                lane.busy = true;
                self.slots[slot as usize] = Some(i);
                return Ok(Some(write));
            }
        }
        Ok(None)
    }

    /// Takes up the next zone in a lane; `false` when another lane is at it, or none may be written again.
    fn take_up(&mut self, lane: usize) -> std::io::Result<bool> {
        for _ in 0..=self.parts.len() {
            let (index, from) = self.next;
            // No zone is written anew before the pass is over: it would take the bytes that belong to zones still under way.
            let under_way = |l: &Lane| l.part == index || l.lap < self.lap;
            if self.lanes.iter().flatten().any(|l| !l.is_over() && under_way(l)) {
                return Ok(false);
            }
            let part = self.parts[index];
            if !part.is_spent() {
                if let (Rewrite::Reset(length), true) = (part.rewrite, part.used && from == part.from) {
                    self.drive.reset(part.from, length).map_err(|e| {
                        let at = Bytes::new(part.from);
                        std::io::Error::new(e.kind(), format!("the zone at {at} cannot be reset: {e}"))
                    })?;
                }
                self.parts[index].used = true;
                self.lanes[lane] =
                    Some(Lane { part: index, next: from, to: part.to, busy: false, lap: self.lap });
                self.go_on();
                return Ok(true);
            }
            self.go_on();
        }
        Ok(false)
    }

    fn go_on(&mut self) {
        let mut next = self.next.0 + 1;
        if next == self.parts.len() {
            (next, self.lap) = (0, self.lap + 1);
        }
        self.next = (next, self.parts[next].from);
    }

    /// The write of a slot is over. A zone in which one failed is left as it is: where its write pointer stands is not known. Gives the
    /// bytes of it that are not written then.
    pub fn done(&mut self, slot: u32, end: u64, failed: bool) -> u64 {
        let Some(i) = self.slots.get_mut(slot as usize).and_then(Option::take) else { return 0 };
        let Some(lane) = self.lanes.get_mut(i).and_then(Option::as_mut) else { return 0 };
        lane.busy = false;
        self.at = end;
        let skipped = if failed { lane.to - lane.next } else { 0 };
        lane.next += skipped;
        skipped
    }
}

/// A stretch in which addresses hold something.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Held {
    /// Where it begins when only what holds something is counted.
    counted: u64,
    /// Where it begins on the drive.
    at: u64,
    length: u64,
}

/// Where a drive holds something whose zones hold less than they are long, or are offline in part: what is read between counts for nothing, and
/// would make a drive look faster than it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ZoneMap(Vec<Held>);

impl ZoneMap {
    /// Of all zones; `None` where every address holds something.
    pub(super) fn of(zones: &[Zone]) -> Option<Self> {
        let mut counted = 0;
        let mut all = Vec::with_capacity(zones.len());
        for zone in zones.iter().filter(|z| z.condition != ZoneCondition::Offline && z.capacity > 0) {
            all.push(Held { counted, at: zone.start, length: zone.capacity });
            counted += zone.capacity;
        }
        (counted > 0 && counted < zones.iter().map(|z| z.length).sum()).then_some(Self(all))
    }

    fn last(&self, is_before: impl Fn(&Held) -> bool) -> Option<&Held> {
        self.0[..self.0.partition_point(is_before)].last()
    }

    /// Bytes before an address of the drive that hold something.
    pub(super) fn counted(&self, address: u64) -> u64 {
        self.last(|h| h.at <= address).map_or(0, |h| h.counted + (address - h.at).min(h.length))
    }

    /// The address of a byte that was counted so, and how many bytes follow it without a gap.
    pub(super) fn place(&self, counted: u64) -> (u64, u64) {
        let held = self.last(|h| h.counted <= counted).copied().unwrap_or(self.0[0]);
        let off = counted - held.counted;
        (held.at + off, held.length.saturating_sub(off))
    }

    /// Bytes before a counted byte back to the gap before it.
    pub(super) fn behind(&self, counted: u64) -> u64 {
        self.last(|h| h.counted < counted).map_or(counted, |h| counted - h.counted)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use hollow_mile_core::drive::zones::ZoneCondition::{
        Closed, Conventional, Empty, Full, Offline, ReadOnly,
    };
    use std::sync::Mutex;

    const ZONE: u64 = 100;

    fn zones(all: &[(ZoneCondition, u64)]) -> Vec<Zone> {
        let zone = |(i, (condition, written)): (usize, &(ZoneCondition, u64))| {
            let start = i as u64 * ZONE;
            let has_pointer = matches!(condition, Empty | Closed | ZoneCondition::Open);
            Zone {
                start,
                length: ZONE,
                capacity: 80,
                condition: *condition,
                in_sequence_only: *condition != Conventional,
                pointer: has_pointer.then_some(start + written),
            }
        };
        all.iter().enumerate().map(zone).collect()
    }

    #[derive(Clone, Default)]
    struct Drive(Arc<Mutex<Vec<u64>>>);

    impl Resets for Drive {
        fn reset(&self, start: u64, length: u64) -> std::io::Result<()> {
            assert_eq!(length, ZONE);
            self.0.lock().unwrap().push(start);
            Ok(())
        }
    }

    /// Writes until nothing is left, each completed before the next; where each began.
    fn written(plan: &ZonePlan, block: u64, mut left: u64) -> (Vec<(u64, u64)>, Vec<u64>) {
        let drive = Drive::default();
        let mut order = ZoneOrder::new(Box::new(drive.clone()), plan, 1);
        let mut all = Vec::new();
        while left > 0 {
            let Some(w) = order.next(0, block, left).unwrap() else { break };
            left -= w.length;
            order.done(0, w.address + w.length, false);
            all.push((w.address, w.length));
        }
        let resets = drive.0.lock().unwrap().clone();
        (all, resets)
    }

    #[test]
    fn zones_are_written_to_what_they_hold_and_reset_only_where_they_hold_something() {
        let all = zones(&[(Empty, 0), (Full, 80), (Offline, 0), (Closed, 30)]);
        let plan = ZonePlan::of(&all, (0, 400), 0, 1, 0).unwrap();
        assert_eq!(plan.limit(400, 400), 240, "a pass is what the zones hold");
        let (writes, resets) = written(&plan, 50, 240 + 80);
        let expected = [(0, 50), (50, 30), (100, 50), (150, 30), (300, 50), (350, 30), (0, 50), (50, 30)];
        assert_eq!(writes, expected);
        assert_eq!(resets, [100, 300, 0], "the first was empty in the first pass");
    }

    #[test]
    fn a_zone_that_lies_partly_outside_is_never_reset() {
        let all = zones(&[(Closed, 40), (Empty, 0), (Full, 80)]);
        // The first is cut where its pointer stands, the last is full.
        let plan = ZonePlan::of(&all, (40, 250), 40, 1, 0).unwrap();
        let (writes, resets) = written(&plan, 80, 1000);
        assert_eq!(writes[..2], [(40, 40), (100, 80)]);
        assert!(writes[2..].iter().all(|w| *w == (100, 80)), "what may be written once was: {writes:?}");
        assert!(resets.iter().all(|r| *r == 100) && !resets.is_empty());
        assert_eq!(
            ZonePlan::of(&all, (50, 100), 50, 1, 0).unwrap_err().split(':').next().unwrap(),
            "its region holds no zone that can be written"
        );
        assert!(ZonePlan::of(&zones(&[(ReadOnly, 0)]), (0, 100), 0, 1, 0).is_err());
        // Nothing that may be written again: the load ends by itself.
        let once = ZonePlan::of(&all, (40, 100), 40, 1, 0).unwrap();
        assert_eq!(written(&once, 80, 1000).0, [(40, 40)]);
    }

    #[test]
    fn a_write_goes_on_where_the_one_before_ended() {
        let all = zones(&[(Full, 80), (Closed, 30), (Empty, 0)]);
        let plan = ZonePlan::of(&all, (0, 300), 130, 1, 0).unwrap();
        let (writes, resets) = written(&plan, 80, 130 + 80);
        assert_eq!(writes, [(130, 50), (200, 80), (0, 80)]);
        assert_eq!(resets, [0]);
        // Elsewhere in the zone it begins it anew.
        let plan = ZonePlan::of(&all, (0, 300), 140, 1, 0).unwrap();
        assert_eq!(written(&plan, 80, 80), (vec![(100, 80)], vec![100]));
    }

    #[test]
    fn no_zone_is_written_anew_before_the_pass_is_over() {
        let all = zones(&[(Empty, 0), (Empty, 0), (Empty, 0)]);
        let plan = ZonePlan::of(&all, (0, 300), 0, 2, 0).unwrap();
        let mut order = ZoneOrder::new(Box::new(Drive::default()), &plan, 2);
        let next = |order: &mut ZoneOrder, slot| order.next(slot, 80, 1000).unwrap().map(|w| w.address);
        assert_eq!((next(&mut order, 0), next(&mut order, 1)), (Some(0), Some(100)));
        // The second is quick: it does the third zone as well, and waits for the first then.
        order.done(1, 180, false);
        assert_eq!(next(&mut order, 1), Some(200));
        order.done(1, 280, false);
        assert_eq!(next(&mut order, 1), None);
        order.done(0, 80, false);
        assert_eq!((next(&mut order, 0), next(&mut order, 1)), (Some(0), Some(100)));
    }

    #[test]
    fn a_pass_has_its_number_to_its_last_byte_and_a_load_goes_on_in_the_first_zone_that_is_not_full() {
        let all = zones(&[(Empty, 0), (Empty, 0)]);
        let plan = ZonePlan::of(&all, (0, 200), 0, 1, 0).unwrap();
        let mut order = ZoneOrder::new(Box::new(Drive::default()), &plan, 1);
        let laps: Vec<u32> = (0..5)
            .map(|_| {
                let w = order.next(0, 40, 1000).unwrap().unwrap();
                order.done(0, w.address + w.length, false);
                w.lap
            })
            .collect();
        assert_eq!(laps, [0, 0, 0, 0, 1], "also in the last zone");
        assert_eq!(order.goes_on_at(), 40);
        let plan = ZonePlan::of(&all, (0, 200), 0, 2, 0).unwrap();
        let mut order = ZoneOrder::new(Box::new(Drive::default()), &plan, 2);
        let ends: Vec<u64> =
            (0..2).map(|s| order.next(s, 40, 1000).unwrap().unwrap()).map(|w| w.address + w.length).collect();
        order.done(0, ends[0], false);
        order.done(1, ends[1], false);
        assert_eq!((order.position(), order.goes_on_at()), (None, 40));
    }

    #[test]
    fn zones_that_are_written_in_part_elsewhere_leave_fewer_at_once() {
        let all = zones(&[(Closed, 40), (Empty, 0), (Closed, 10), (Closed, 10), (Empty, 0)]);
        // Two of the four that may be active lie outside of the region; the first lies in it, and is its own.
        let lanes = |most| ZonePlan::of(&all, (0, 200), 0, 2, most).map(|p| p.lanes());
        assert_eq!((lanes(0), lanes(4), lanes(3)), (Ok(2), Ok(2), Ok(1)));
        let full = lanes(2).unwrap_err();
        assert!(full.starts_with("2 zones beside") && full.contains("reset-zones"), "{full}");
    }

    #[test]
    fn only_what_zones_hold_is_counted() {
        let all = zones(&[(Full, 80), (Offline, 0), (Empty, 0), (Conventional, 0)]);
        let map = ZoneMap::of(&all).unwrap();
        assert_eq!(
            [0, 79, 80, 99, 150, 200, 279, 400].map(|a| map.counted(a)),
            [0, 79, 80, 80, 80, 80, 159, 240]
        );
        assert_eq!(
            [0, 79, 80, 159, 160].map(|c| map.place(c)),
            [(0, 80), (79, 1), (200, 80), (279, 1), (300, 80)]
        );
        assert_eq!([1, 80, 81, 160].map(|c| map.behind(c)), [1, 80, 1, 80]);
        for counted in 0..240 {
            assert_eq!(map.counted(map.place(counted).0), counted);
        }
        let whole: Vec<Zone> = all.iter().map(|z| Zone { capacity: ZONE, condition: Full, ..*z }).collect();
        assert_eq!(ZoneMap::of(&whole), None, "nothing to leave out");
    }

    #[test]
    fn one_write_is_in_flight_in_each_zone_and_a_failed_one_ends_its_zone() {
        let all = zones(&[(Empty, 0), (Empty, 0), (Conventional, 0)]);
        let plan = ZonePlan::of(&all, (0, 300), 0, 32, 0).unwrap();
        assert_eq!(plan.lanes(), 3);
        let mut order = ZoneOrder::new(Box::new(Drive::default()), &plan, 4);
        let next = |order: &mut ZoneOrder, slot| order.next(slot, 20, 1000).unwrap().map(|w| w.address);
        assert_eq!([0, 1, 2, 3].map(|s| next(&mut order, s)), [Some(0), Some(100), Some(200), None]);
        assert_eq!(order.position(), None);
        assert_eq!(order.done(1, 120, false), 0);
        assert_eq!((next(&mut order, 3), next(&mut order, 1)), (Some(120), None));
        assert_eq!(order.done(0, 20, true), 60, "the rest of its zone");
        assert_eq!(next(&mut order, 0), None, "the others are not over");
    }
}
