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
            out.push(format!(
                "Cannot tell where a level ends, because the record has {loaded} samples under load ({}).",
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
        if self.series.other_before(0).is_none() {
            out.push("Nobody counted what others did on the drive: their traffic cannot be told from the drive's own doing.".into());
        }
        out
    }
}
