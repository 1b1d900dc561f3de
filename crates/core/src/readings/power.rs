//! What the drive draws: the meters beside it, and their power against what it did meanwhile.

use std::collections::BTreeSet;
use std::time::Duration;

use crate::drive::{MeterReading, MeterUnit, power};
use crate::quantity::Interval;
use crate::quantity::stats::student_975;

/// What of a rest comes right after a load is no rest yet: drives put things in order, and go to sleep, within seconds.
const SETTLES: Duration = Duration::from_secs(5);
/// Longer than this between two readings, nobody knows what was drawn.
const GAP: Duration = Duration::from_secs(5);
/// Parts of a stretch: when there are so many, two and two become one, so that each is long beside what repeats in it.
const PARTS: usize = 64;
/// Fewer tell no interval.
const FEWEST_PARTS: usize = 8;

/// What the drive did while its power was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Does {
    /// It reads or writes.
    Load,
    /// It rests, or the haul is paused.
    Rest,
    /// Anything else: it is wiped, it tests itself.
    Other,
}

/// A part of a stretch.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
struct Part {
    seconds: f64,
    joules: f64,
    bytes: f64,
}

impl Part {
    fn add(&mut self, other: Self) {
        self.seconds += other.seconds;
        self.joules += other.joules;
        self.bytes += other.bytes;
    }
}

/// Energy over a stretch, with what was moved in it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Energy {
    parts: Vec<Part>,
    /// Readings in each part but the last.
    each: usize,
    /// Readings in the last.
    last: usize,
}

impl Energy {
    fn add(&mut self, part: Part) {
        self.each = self.each.max(1);
        match self.parts.last_mut().filter(|_| self.last < self.each) {
            Some(last) => last.add(part),
            None => {
                if self.parts.len() == PARTS {
                    self.parts = self
                        .parts
                        .chunks(2)
                        .map(|two| {
                            let mut sum = two[0];
                            two[1..].iter().for_each(|p| sum.add(*p));
                            sum
                        })
                        .collect();
                    self.each *= 2;
                }
                self.parts.push(part);
                self.last = 0;
            }
        }
        self.last += 1;
    }

    fn whole(&self) -> Part {
        self.parts.iter().fold(Part::default(), |mut sum, p| {
            sum.add(*p);
            sum
        })
    }

    /// Time that was measured, s.
    #[must_use]
    pub fn seconds(&self) -> f64 {
        self.whole().seconds
    }

    /// Joules in it.
    #[must_use]
    pub fn joules(&self) -> f64 {
        self.whole().joules
    }

    /// Mean power, W.
    #[must_use]
    pub fn watts(&self) -> Option<Interval> {
        self.ratio(|p| p.joules, |p| p.seconds)
    }

    /// Energy for what was moved, joules a byte.
    #[must_use]
    pub fn joules_per_byte(&self) -> Option<Interval> {
        self.ratio(|p| p.joules, |p| p.bytes)
    }

    /// Bytes for a joule: a rate for each watt.
    #[must_use]
    pub fn bytes_per_joule(&self) -> Option<Interval> {
        self.ratio(|p| p.bytes, |p| p.joules)
    }

    /// The ratio of two sums with its 95 % interval from how the parts differ (Cochran, Sampling Techniques, 3rd ed., 6.3). Without an
    /// interval, with unknown bounds, where there are too few of them; `None` where the second sum is nought.
    fn ratio(&self, of: fn(&Part) -> f64, to: fn(&Part) -> f64) -> Option<Interval> {
        let whole = self.whole();
        if to(&whole) <= 0.0 {
            return None;
        }
        let value = of(&whole) / to(&whole);
        // The last may be short: it counts in the value, and says nothing of how they differ.
        let parts = &self.parts[..self.parts.len() - usize::from(self.last < self.each)];
        let n = parts.len() as f64;
        if parts.len() < FEWEST_PARTS {
            return Some(Interval { value, low: f64::NEG_INFINITY, high: f64::INFINITY });
        }
        let mean = parts.iter().map(to).sum::<f64>() / n;
        let squares: f64 = parts.iter().map(|p| (of(p) - value * to(p)).powi(2)).sum();
        let half = student_975(n - 1.0) * (squares / (n * (n - 1.0))).sqrt() / mean;
        Some(Interval { value, low: value - half, high: value + half })
    }
}

/// A member of an array under load, second by second added up.
#[derive(Debug, Clone, PartialEq)]
pub struct MemberLoad {
    /// Its name.
    pub name: String,
    /// Moments at which it was looked at.
    pub moments: u64,
    /// What it moved at them, MB/s, added up.
    pub mb_s: f64,
    /// How busy it was, 0 to 1, added up.
    pub busy: f64,
    /// Moments at which it alone was at its end: busy nine tenths of the time or more, and no other more than four fifths of that.
    pub alone: u64,
}

/// Busy for this share a member is at its end.
const AT_ITS_END: f64 = 0.9;
/// Others that are busy for no more than this share of that are not.
const NOT_AS_BUSY: f64 = 0.8;

/// Meters, and what they say of power.
#[derive(Debug, Clone, Default)]
pub struct Meters {
    members: Vec<MemberLoad>,
    /// Something was told since the last turn: what comes next lies on one side of it.
    goes_on: bool,
    newest: Vec<MeterReading>,
    /// Meters that tell power.
    feeds: BTreeSet<(String, MeterUnit)>,
    /// When power was last known, and bytes moved until then; `None` after a turn from one thing to another.
    last: Option<(Duration, u64)>,
    rests_since: Option<Duration>,
    load: Energy,
    rest: Energy,
    legs: Vec<(u16, Energy)>,
    highest: Option<f64>,
    power: Vec<(Duration, f64)>,
}

impl Meters {
    /// The drive does something else from here on: what is measured across it belongs to neither.
    pub(super) fn turn(&mut self) {
        (self.last, self.rests_since, self.goes_on) = (None, None, false);
    }

    /// Takes what all meters said at a moment, with what the drive does, in which leg, and how many bytes it has moved so far.
    pub(super) fn push(&mut self, at: Duration, readings: &[MeterReading], does: Does, leg: u16, moved: u64) {
        for reading in readings {
            let same = |n: &&mut MeterReading| n.name == reading.name && n.value.unit == reading.value.unit;
            match self.newest.iter_mut().find(same) {
                Some(newest) => newest.value = reading.value,
                None => self.newest.push(reading.clone()),
            }
        }
        if std::mem::replace(&mut self.goes_on, true) && does == Does::Load {
            self.add_members(readings);
        }
        let Some(watts) = self.watts(readings) else {
            self.last = None;
            return;
        };
        self.power.push((at, watts));
        if let Some((before, moved_before)) = self.last.replace((at, moved))
            && at > before
            && at - before <= GAP
        {
            let seconds = (at - before).as_secs_f64();
            let bytes = moved.saturating_sub(moved_before) as f64;
            let part = Part { seconds, joules: watts * seconds, bytes };
            match does {
                Does::Load => {
                    self.load.add(part);
                    self.highest = Some(self.highest.map_or(watts, |h| h.max(watts)));
                    match self.legs.last_mut().filter(|(l, _)| *l == leg) {
                        Some((_, energy)) => energy.add(part),
                        None => {
                            let mut energy = Energy::default();
                            energy.add(part);
                            self.legs.push((leg, energy));
                        }
                    }
                }
                Does::Rest => {
                    let since = *self.rests_since.get_or_insert(before);
                    if before >= since + SETTLES {
                        self.rest.add(part);
                    }
                }
                Does::Other => {}
            }
        }
    }

    fn add_members(&mut self, readings: &[MeterReading]) {
        let of = |unit: MeterUnit| readings.iter().filter(move |r| r.value.unit == unit);
        let busiest = |but: &str| {
            let others = of(MeterUnit::Busy).filter(|r| r.name != but);
            others.map(|r| r.value.get() / 100.0).reduce(f64::max)
        };
        for r in of(MeterUnit::Busy) {
            let busy = r.value.get() / 100.0;
            let rate = of(MeterUnit::MegabytesPerSecond).find(|o| o.name == r.name);
            let alone = busy >= AT_ITS_END && busiest(&r.name).is_some_and(|o| o <= NOT_AS_BUSY * busy);
            let known = self.members.iter().position(|m| m.name == r.name).unwrap_or_else(|| {
                let name = r.name.clone();
                self.members.push(MemberLoad { name, moments: 0, mb_s: 0.0, busy: 0.0, alone: 0 });
                self.members.len() - 1
            });
            let member = &mut self.members[known];
            member.moments += 1;
            member.busy += busy;
            member.mb_s += rate.map_or(0.0, |o| o.value.get());
            member.alone += u64::from(alone);
        }
    }

    /// The members of an array, under load.
    #[must_use]
    pub fn members(&self) -> &[MemberLoad] {
        &self.members
    }

    /// What the drive draws, W. Without the word of a meter that told of it before the sum is not known.
    fn watts(&mut self, readings: &[MeterReading]) -> Option<f64> {
        let of = |r: &MeterReading| (r.name.clone(), r.value.unit);
        self.feeds.extend(readings.iter().filter(|r| r.feeds(readings)).map(of));
        let all = self
            .feeds
            .iter()
            .all(|(name, unit)| readings.iter().any(|r| r.name == *name && r.value.unit == *unit));
        power(readings).filter(|_| all)
    }

    /// What each meter, and each member of an array, said last; all that they said is in the record.
    #[must_use]
    pub fn newest(&self) -> &[MeterReading] {
        &self.newest
    }

    /// Power over time, W; empty where no meter tells it.
    #[must_use]
    pub fn power(&self) -> &[(Duration, f64)] {
        &self.power
    }

    /// Under load.
    #[must_use]
    pub const fn load(&self) -> &Energy {
        &self.load
    }

    /// At rest, but for its first five seconds.
    #[must_use]
    pub const fn rest(&self) -> &Energy {
        &self.rest
    }

    /// Each leg that moved bytes, in order.
    #[must_use]
    pub fn legs(&self) -> &[(u16, Energy)] {
        &self.legs
    }

    /// Highest power of a reading under load, W.
    #[must_use]
    pub const fn highest(&self) -> Option<f64> {
        self.highest
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reading(name: &str, unit: MeterUnit, value: f64) -> MeterReading {
        MeterReading { name: name.into(), value: unit.value(value).unwrap() }
    }

    fn second(s: u64) -> Duration {
        Duration::from_secs(s)
    }

    #[test]
    fn watts_at_rest_and_under_load_and_what_a_gigabyte_costs() {
        let mut m = Meters::default();
        let mut moved = 0;
        for s in 0..100 {
            if s == 40 {
                m.turn();
            }
            let (does, watts) = if s < 40 { (Does::Rest, 1.0) } else { (Does::Load, 5.0) };
            if does == Does::Load {
                moved += 2_000_000_000;
            }
            // What it still draws right after a load is no rest.
            let watts = if s < 5 { 4.0 } else { watts };
            m.push(second(s), &[reading("supply", MeterUnit::Watt, watts)], does, u16::from(s >= 40), moved);
        }
        let rest = m.rest().watts().unwrap();
        assert_eq!((rest.value, rest.low, rest.high), (1.0, 1.0, 1.0));
        assert_eq!(m.rest().seconds(), 34.0, "39 seconds between readings, of which five settle");
        assert_eq!(m.load().watts().unwrap().value, 5.0);
        assert_eq!(m.load().seconds(), 59.0, "the second across the turn is neither's");
        // 5 W at 2 GB/s: 2.5 J a gigabyte, 400 MB/s a watt.
        assert!((m.load().joules_per_byte().unwrap().value - 2.5e-9).abs() < 1e-18);
        assert!((m.load().bytes_per_joule().unwrap().value - 4e8).abs() < 1e-3);
        assert_eq!((m.legs().len(), m.legs()[0].0, m.highest()), (1, 1, Some(5.0)));
    }

    #[test]
    fn volts_and_amperes_of_one_name_are_watts_and_lines_add_up() {
        let mut m = Meters::default();
        let all = [
            reading("12 V", MeterUnit::Volt, 12.0),
            reading("12 V", MeterUnit::Ampere, 0.5),
            reading("5 V", MeterUnit::Watt, 2.0),
            reading("hall", MeterUnit::Volt, 3.0),
        ];
        m.push(second(0), &all, Does::Load, 0, 0);
        m.push(second(1), &all, Does::Load, 0, 1);
        // One of them is silent: the sum is not known, nor across it.
        m.push(second(2), &all[1..], Does::Load, 0, 2);
        m.push(second(3), &all, Does::Load, 0, 3);
        m.push(second(4), &all, Does::Load, 0, 4);
        assert_eq!(m.power().iter().map(|p| p.1).collect::<Vec<_>>(), [8.0, 8.0, 8.0, 8.0]);
        assert_eq!((m.load().seconds(), m.load().joules()), (2.0, 16.0));
        m.push(second(60), &all, Does::Load, 0, 5);
        assert_eq!(m.load().seconds(), 2.0, "a minute of which nothing is known");
    }

    #[test]
    fn an_interval_holds_the_truth_where_power_swings_slowly() {
        // A sawtooth of 40 s: single seconds lie about each other, parts of a long stretch do not.
        let mut m = Meters::default();
        for s in 0..7200u64 {
            let watts = 3.0 + (s % 40) as f64 / 20.0 + (s * 7919 % 13) as f64 / 50.0;
            m.push(second(s), &[reading("p", MeterUnit::Watt, watts)], Does::Load, 0, s * 1_000_000);
        }
        let w = m.load().watts().unwrap();
        let truth = 3.0 + 19.5 / 20.0 + 6.0 / 50.0;
        assert!(w.low < truth && truth < w.high && w.high - w.low < 0.1, "{w:?} holds {truth}");
        // Of a few readings there is a value and no interval.
        let mut short = Meters::default();
        (0..5).for_each(|s| {
            short.push(second(s), &[reading("p", MeterUnit::Watt, 2.0)], Does::Load, 0, s);
        });
        assert!(short.load().watts().is_some_and(|w| w.value == 2.0 && w.low.is_infinite()));
        assert!(short.rest().watts().is_none());
    }
}
