//! Surveys: what the legs that go through several loads say, each read off the record.

pub mod fill;
pub mod ground;
pub mod ladder;
pub mod spans;
pub mod stream;
pub mod verify;

use serde::{Deserialize, Serialize};

use crate::finding::{Conclusions, Finding};
use crate::readings::Readings;
use crate::route::{Judged, Measured};

/// All surveys of a record; each is `None` when no such leg has run.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Surveys {
    /// Rate by position, and slow stretches.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ground: Option<ground::GroundSurvey>,
    /// Access time over nested shares.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spans: Option<spans::SpansSurvey>,
    /// Block sizes, depths, workers, patterns.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ladder: Option<ladder::LadderSurvey>,
    /// Streams that were offered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub streams: Option<stream::StreamSurvey>,
    /// Figures against fill.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fill: Option<fill::FillSurvey>,
    /// Blocks read back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verify: Option<verify::VerifySurvey>,
}

impl Surveys {
    /// Of a record and what was concluded from it.
    #[must_use]
    pub(crate) fn of(
        readings: &Readings,
        ground: Option<ground::GroundSurvey>,
        verify: Option<verify::VerifySurvey>,
        findings: &[Finding],
    ) -> Self {
        Self {
            ground,
            spans: spans::survey(readings),
            ladder: ladder::survey(readings),
            streams: stream::survey(readings, findings),
            fill: fill::survey(readings, findings),
            verify,
        }
    }

    /// A figure that a limit stands on: rates in bytes per second, times in seconds.
    #[must_use]
    pub fn figure(&self, of: Measured, readings: &Readings, conclusions: &Conclusions) -> Option<f64> {
        let f = &conclusions.figures;
        let rate = |mb_s: Option<f64>| mb_s.map(|v| v * 1e6);
        match of {
            Measured::Sustained => rate(f.sustained_mb_s),
            Measured::Burst => rate(f.burst_mb_s),
            Measured::Mean => rate(f.mean_mb_s),
            Measured::WorstSecond => rate(f.worst_second_mb_s),
            Measured::P1 => rate(f.p1_mb_s),
            Measured::Cache => f.cache_bytes.map(|b| b as f64),
            Measured::LongestStall => f.longest_stall_s,
            Measured::Hottest => f.hottest_c,
            Measured::Errors => (!readings.series().is_empty()).then_some(readings.errors() as f64),
            Measured::HighestStream => rate(self.streams.as_ref()?.highest_mb_s),
            Measured::Misses => {
                Some(self.streams.as_ref()?.trials.iter().map(|t| t.misses).sum::<u64>() as f64)
            }
            Measured::Access => Some(self.spans.as_ref()?.spans.first()?.access_us.mean / 1e6),
            Measured::SlowStretches => {
                Some(self.ground.as_ref()?.stretches.iter().filter(|s| s.stands()).count() as f64)
            }
            Measured::Mismatches => {
                let v = self.verify.as_ref()?;
                Some(v.mismatches.len() as f64)
            }
        }
    }

    /// How the limits of the route stand.
    #[must_use]
    pub fn judge(&self, readings: &Readings, conclusions: &Conclusions) -> Vec<Judged> {
        let Some(head) = readings.head() else { return Vec::new() };
        let figure = |of: Measured| self.figure(of, readings, conclusions);
        let ambient = head.conditions.ambient;
        head.route.limits.iter().map(|l| l.judge(figure, &conclusions.findings, ambient)).collect()
    }

    /// The answers in sentences, most telling first.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let mut all = Vec::new();
        if let Some(v) = &self.verify {
            all.extend(v.sentences());
        }
        all.extend(self.ground.as_ref().map(ground::GroundSurvey::sentence));
        if let Some(f) = &self.fill {
            all.extend(f.measures.iter().filter_map(fill::AgainstFill::sentence));
            all.extend(f.measures.iter().filter_map(fill::AgainstFill::only_cache));
        }
        all.extend(self.spans.as_ref().and_then(spans::SpansSurvey::sentence));
        all.extend(self.ladder.as_ref().and_then(ladder::LadderSurvey::sentence));
        all.extend(self.streams.as_ref().map(stream::StreamSurvey::sentence));
        all
    }
}

#[cfg(test)]
mod tests;
