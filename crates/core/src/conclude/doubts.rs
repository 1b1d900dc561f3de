//! What a record cannot tell, and why: said instead of a guess.

use crate::drive::LoadKind;
use crate::quantity::units::{Bytes, Celsius, grouped, span_words};

use super::Readings;

/// Fewer samples under load than this show no change of level.
const FEW_SAMPLES: usize = 12;

impl Readings {
    /// The temperature never moved from a value that sensors give when they measure nothing.
    pub(super) fn sensor_is_dead(&self) -> bool {
        self.series.temperature_range().is_some_and(|(low, high)| low == high && low == Celsius::new(0.0))
    }

    /// Samples of a second or more that moved more than the link carries, and what that is.
    fn beyond_the_link(&self) -> Option<(u64, crate::quantity::units::Rate)> {
        let ceiling = self.head()?.drive.link.as_ref()?.payload_ceiling()?;
        // What lay ready in a drive's or a system's cache may come out of a short sample faster.
        let long = |i: &usize| self.series.loaded_s(*i..i + 1) >= 0.9;
        let n = (0..self.series.len())
            .filter(long)
            .filter(|i| self.series.rate(*i) > 1.15 * ceiling.get())
            .count();
        (n > 0).then_some((n as u64, ceiling))
    }

    /// What the record cannot tell, sentence by sentence.
    #[must_use]
    pub fn doubts(&self) -> Vec<String> {
        let mut out = Vec::new();
        let loaded: usize = self.runs.iter().map(|r| r.samples(&(0..r.len())).len()).sum();
        if self.series.is_empty() {
            return vec!["Cannot tell anything, because the record has no samples.".into()];
        }
        if self.written() + self.read() == Bytes::ZERO {
            out.push(match self.errors() {
                0 => "Cannot tell how fast the drive is, because nothing was written or read.".into(),
                n => format!(
                    "Cannot tell how fast the drive is, because every operation failed: {} errors.",
                    grouped(n)
                ),
            });
            return out;
        }
        if loaded < FEW_SAMPLES {
            let seconds = self.series.loaded_s(0..self.series.len());
            let samples = if loaded == 1 { "1 sample".to_owned() } else { format!("{loaded} samples") };
            out.push(format!(
                "Cannot tell where a level ends, because the record has {samples} under load ({}).",
                span_words(seconds)
            ));
        }
        let writes = self.runs.iter().any(|r| r.kind == LoadKind::Write && r.len() > 0);
        match self.series.temperature_range() {
            None if self.nonsense > 0 => out.push(format!(
                "Cannot tell heat from other causes, because all {} temperature readings were impossible.",
                grouped(self.nonsense)
            )),
            None => out.push("Cannot tell heat from other causes, because the record has no temperature.".into()),
            Some(_) if self.sensor_is_dead() => out.push(
                "Cannot tell heat from other causes, because the temperature stood at 0 °C throughout: the sensor measures nothing.".into(),
            ),
            Some(_) if self.throttle_limit().is_none() && writes => {
                out.push("No temperature limit is stated for this drive: a single fall from heat looks like a cache end.".into());
            }
            Some(_) => {}
        }
        if self.nonsense > 0 && self.series.temperature_range().is_some() {
            out.push(format!(
                "{} temperature readings were impossible (beyond what drives have, or a jump of tens of kelvin at once) and are left out.",
                grouped(self.nonsense)
            ));
        }
        if let Some((n, ceiling)) = self.beyond_the_link() {
            out.push(format!(
                "The record contradicts itself: {} samples moved more than the link carries, {ceiling}. Its counters or its clock are wrong there.",
                grouped(n)
            ));
        }
        if self.series.other_before(0).is_none() {
            out.push("Nobody counted what others did on the drive: their traffic cannot be told from the drive's own doing.".into());
        }
        out
    }
}
