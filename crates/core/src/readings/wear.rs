//! What the drive wrote to its media for what hosts wrote, by its own counts.

use super::Readings;
use crate::quantity::Interval;
use crate::quantity::units::Bytes;

/// NVMe counts what hosts wrote in units of 1,000 × 512 B (Base 2.0, 5.16.1.3).
const HOST_STEP: f64 = 512_000.0;
/// Less than so many steps of either count tell nothing.
const FEWEST_STEPS: f64 = 20.0;

impl Readings {
    /// Bytes written to the media over bytes written by hosts, from the first health reading of the haul that has both to the last; its
    /// bounds are what the steps of both counts leave open. `None` where the drive does not count both, where a count went back, or where
    /// too little was written for their steps.
    #[must_use]
    pub fn write_amplification(&self) -> Option<Interval> {
        let both = |v: &crate::drive::Vitals| Some((v.host_bytes_written?, v.media_written?));
        let mut all = self.vitals().iter().filter_map(|(_, v)| both(v));
        let first = all.next()?;
        let last = all.next_back()?;
        let grown = |from: Bytes, to: Bytes| (to >= from).then(|| to.as_f64() - from.as_f64());
        let (host, media) = (grown(first.0, last.0)?, grown(first.1.bytes, last.1.bytes)?);
        let step = last.1.step.as_f64();
        if host < FEWEST_STEPS * HOST_STEP || media < FEWEST_STEPS * step {
            return None;
        }
        let low = (media - step).max(0.0) / (host + HOST_STEP);
        Some(Interval { value: media / host, low, high: (media + step) / (host - HOST_STEP) })
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;
    use crate::drive::Vitals;
    use crate::drive::protocol::nvme_media::MediaWritten;
    use crate::record::Event;

    fn of(readings: &[(u64, Option<u64>)]) -> Option<Interval> {
        let mut r = Readings::new();
        for (i, (host, media)) in readings.iter().enumerate() {
            let media_written =
                media.map(|gb| MediaWritten { bytes: Bytes::from_gb(gb), step: Bytes::from_gb(1) });
            let host_bytes_written = Some(Bytes::from_gb(*host));
            let vitals = Box::new(Vitals { media_written, host_bytes_written, ..Vitals::default() });
            r.push(&Event::Vitals { at: Duration::from_secs(i as u64), vitals });
        }
        r.write_amplification()
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
