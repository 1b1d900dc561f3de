//! What the drive wrote to its media for what hosts wrote, by its own counts.

use std::time::Duration;

use super::{LegReading, Readings};
use crate::drive::protocol::nvme_media::MediaWritten;
use crate::quantity::Interval;
use crate::quantity::units::Bytes;
use crate::route::LegKind;

/// NVMe counts what hosts wrote in units of 1,000 × 512 B (Base 2.0, 5.16.1.3).
const HOST_STEP: f64 = 512_000.0;
/// Less than so many steps of either count tell nothing.
const FEWEST_STEPS: f64 = 20.0;

/// Counts of hosts and media at a moment.
#[derive(Debug, Clone, Copy)]
struct Counts {
    at: Duration,
    host: Bytes,
    media: MediaWritten,
}

/// From one reading of both counts to another; `None` where a count went back, or where too little was written for their steps.
fn grown(first: Counts, last: Counts) -> Option<Interval> {
    let grown = |from: Bytes, to: Bytes| (to >= from).then(|| to.as_f64() - from.as_f64());
    let (host, media) = (grown(first.host, last.host)?, grown(first.media.bytes, last.media.bytes)?);
    let step = last.media.step.as_f64();
    if host < FEWEST_STEPS * HOST_STEP || media < FEWEST_STEPS * step {
        return None;
    }
    let low = (media - step).max(0.0) / (host + HOST_STEP);
    Some(Interval { value: media / host, low, high: (media + step) / (host - HOST_STEP) })
}

impl Readings {
    /// The health readings that have both counts, from one moment to another.
    fn counts(&self, from: Duration, to: Duration) -> impl DoubleEndedIterator<Item = Counts> {
        let all = self.vitals();
        let first = all.partition_point(|(at, _)| *at < from);
        let past = all.partition_point(|(at, _)| *at <= to).max(first);
        all[first..past].iter().filter_map(|(at, v)| {
            Some(Counts { at: *at, host: v.host_bytes_written?, media: v.media_written? })
        })
    }

    /// Bytes written to the media over bytes written by hosts, from the first health reading of the haul that has both to the last; its
    /// bounds are what the steps of both counts leave open. `None` where the drive does not count both, where a count went back, or where
    /// too little was written for their steps.
    #[must_use]
    pub fn write_amplification(&self) -> Option<Interval> {
        self.write_amplification_between(Duration::ZERO, Duration::MAX)
    }

    /// The same from one moment to another.
    #[must_use]
    pub fn write_amplification_between(&self, from: Duration, to: Duration) -> Option<Interval> {
        let mut all = self.counts(from, to);
        grown(all.next()?, all.next_back()?)
    }

    /// The same of each leg in which enough was written: its index, and the interval. Health is read when a leg begins and when it ends.
    #[must_use]
    pub fn write_amplification_of_legs(&self) -> Vec<(u16, Interval)> {
        let of = |l: &LegReading| {
            let to = l.ended.as_ref().map_or(Duration::MAX, |e| e.0);
            Some((l.leg, self.write_amplification_between(l.from, to)?))
        };
        self.legs.iter().filter_map(of).collect()
    }

    /// Write amplification over time: from each reading to the first after it that is far enough from it to tell something.
    #[must_use]
    pub fn write_amplification_over_time(&self) -> Vec<(Duration, f64)> {
        let mut out = Vec::new();
        // What the drive does at rest belongs to no load: each leg begins anew.
        for leg in &self.legs {
            let mut before: Option<Counts> = None;
            for now in self.counts(leg.from, leg.ended.as_ref().map_or(Duration::MAX, |e| e.0)) {
                let Some(first) = before else {
                    before = Some(now);
                    continue;
                };
                // Where hosts write nothing there is no ratio, and the next begins after it.
                let rests = now.host.saturating_sub(first.host).as_f64() < FEWEST_STEPS * HOST_STEP;
                let back = now.host < first.host || now.media.bytes < first.media.bytes;
                let told = grown(first, now);
                out.extend(told.map(|i| (now.at, i.value)));
                if back || rests || told.is_some() {
                    before = Some(now);
                }
            }
        }
        out
    }

    /// Bytes that the drive wrote to its media in rest legs, moving what it had; `None` where it does not count them.
    #[must_use]
    pub fn media_written_at_rest(&self) -> Option<Bytes> {
        let rests = self.legs.iter().filter(|l| self.leg_kind(l.leg) == LegKind::Rest);
        let of = |l: &LegReading| {
            let mut all = self.counts(l.from, l.ended.as_ref().map_or(Duration::MAX, |e| e.0));
            let (first, last) = (all.next()?, all.next_back()?);
            Some(last.media.bytes.saturating_sub(first.media.bytes))
        };
        rests.filter_map(of).reduce(|a, b| a + b)
    }

    /// Share of the rated life that a terabyte from hosts took, with what the steps of a hundredth leave open; `None` where the drive
    /// does not tell both, or where nothing was taken that can be seen.
    #[must_use]
    pub fn wear_per_byte(&self) -> Option<Interval> {
        let mut all =
            self.vitals().iter().filter_map(|(_, v)| Some((v.percentage_used?, v.host_bytes_written?)));
        let (first, last) = (all.next()?, all.next_back()?);
        let host = last.1.as_f64() - first.1.as_f64();
        let used = (last.0 - first.0) / 100.0;
        // A count in whole hundredths that has moved once may stand for anything from nothing to two.
        (host > 0.0 && used >= 0.02).then(|| Interval {
            value: used / host,
            low: (used - 0.01) / host,
            high: (used + 0.01) / host,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::drive::Vitals;
    use crate::record::Event;

    fn of(readings: &[(u64, Option<u64>)]) -> Option<Interval> {
        read(readings).write_amplification()
    }

    fn read(readings: &[(u64, Option<u64>)]) -> Readings {
        let mut r = Readings::new();
        tell(&mut r, readings);
        r
    }

    fn tell(r: &mut Readings, readings: &[(u64, Option<u64>)]) {
        for (i, (host, media)) in readings.iter().enumerate() {
            let media_written =
                media.map(|gb| MediaWritten { bytes: Bytes::from_gb(gb), step: Bytes::from_gb(1) });
            let host_bytes_written = Some(Bytes::from_gb(*host));
            let vitals = Box::new(Vitals { media_written, host_bytes_written, ..Vitals::default() });
            r.push(&Event::Vitals { at: Duration::from_secs(i as u64), vitals });
        }
    }

    #[test]
    fn over_time_each_stretch_has_its_own_and_a_rest_has_none() {
        // 100 GB at 1.0, then 50 GB at 3.0 in two readings of which the first is too close, a rest in which 40 GB are moved, 100 GB at 1.0.
        let mut r = Readings::new();
        r.push(&Event::LegStarted { at: Duration::ZERO, leg: 0 });
        let counts = [
            (1000, Some(2000)),
            (1100, Some(2100)),
            (1105, Some(2115)),
            (1150, Some(2250)),
            (1150, Some(2290)),
            (1250, Some(2390)),
        ];
        tell(&mut r, &counts);
        let told: Vec<(u64, f64)> =
            r.write_amplification_over_time().iter().map(|(at, v)| (at.as_secs(), *v)).collect();
        assert_eq!(told, [(1, 1.0), (3, 3.0), (5, 1.0)]);
        let second = Duration::from_secs;
        let late = r.write_amplification_between(second(1), second(3)).unwrap();
        assert_eq!(late.value, 3.0);
        assert!(r.write_amplification_between(second(2), second(2)).is_none());
    }

    #[test]
    fn wear_per_terabyte_needs_two_steps() {
        let of = |used: [f64; 2]| {
            let mut r = Readings::new();
            for (i, used) in used.into_iter().enumerate() {
                let vitals = Vitals {
                    percentage_used: Some(used),
                    host_bytes_written: Some(Bytes::from_gb(10_000 * i as u64)),
                    ..Vitals::default()
                };
                r.push(&Event::Vitals { at: Duration::from_secs(i as u64), vitals: Box::new(vitals) });
            }
            r.wear_per_byte()
        };
        // 4 % for 10 TB: 0.4 % a terabyte, 0.3 to 0.5.
        let wear = of([7.0, 11.0]).unwrap();
        let close = |a: f64, b: f64| (a * 1e12 - b).abs() < 1e-12;
        assert!(close(wear.value, 0.004) && close(wear.low, 0.003) && close(wear.high, 0.005), "{wear:?}");
        assert_eq!(of([7.0, 8.0]), None);
        assert_eq!(of([8.0, 7.0]), None);
    }

    #[test]
    fn media_over_host_with_what_the_steps_leave_open() {
        // 180 GB for 100 GB; a step of 1 GB either way. Readings under load, without the media's count, are passed over.
        let wa = of(&[(1000, Some(1500)), (1050, None), (1100, Some(1680))]).unwrap();
        assert!((wa.value - 1.8).abs() < 1e-9);
        assert!((wa.low - 1.79).abs() < 1e-4 && (wa.high - 1.81).abs() < 1e-4, "{wa:?}");
    }

    #[test]
    fn counts_that_cannot_tell_tell_nothing() {
        assert_eq!(of(&[(1000, Some(1500))]), None, "one reading");
        assert_eq!(of(&[(1000, None), (1100, None)]), None, "no count");
        assert_eq!(of(&[(1000, Some(1500)), (1100, Some(1400))]), None, "it went back");
        assert_eq!(of(&[(1000, Some(1500)), (1010, Some(1515))]), None, "too few steps");
        assert_eq!(of(&[(1000, Some(1500)), (1000, Some(1540))]), None, "nothing from hosts");
    }
}
