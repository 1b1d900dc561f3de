//! Surveys: what the legs that go through several loads say, each read off the record.

pub mod buffer;
pub mod fill;
pub mod freight;
pub mod ground;
pub mod ladder;
pub mod lookout;
pub mod members;
pub mod proof;
pub mod rounds;
pub mod spans;
pub mod stream;
pub mod verify;

use serde::{Deserialize, Serialize};

use crate::conclude::Finding;
use crate::readings::Readings;

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
    /// Rounds until steady.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rounds: Option<rounds::RoundsSurvey>,
    /// Streams that were offered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub streams: Option<stream::StreamSurvey>,
    /// Figures against fill.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fill: Option<fill::FillSurvey>,
    /// What others waited.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub lookout: Option<lookout::LookoutSurvey>,
    /// Trees of files.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub freight: Option<freight::FreightSurvey>,
    /// Members of an array.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub members: Option<members::MembersSurvey>,
    /// Blocks read back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub verify: Option<verify::VerifySurvey>,
}

impl Surveys {
    /// Of a record and what was concluded from it; those that make findings are made before.
    #[must_use]
    pub(crate) fn of(
        readings: &Readings,
        ground: Option<ground::GroundSurvey>,
        verify: Option<verify::VerifySurvey>,
        lookout: Option<lookout::LookoutSurvey>,
        freight: Option<freight::FreightSurvey>,
        findings: &[Finding],
    ) -> Self {
        Self {
            ground,
            spans: spans::survey(readings),
            ladder: ladder::survey(readings),
            rounds: rounds::survey(readings),
            streams: stream::survey(readings, findings),
            fill: fill::survey(readings, findings),
            lookout,
            freight,
            members: members::survey(readings),
            verify,
        }
    }

    /// The answers in sentences, most telling first; a lookout, and members, are beside a load, and have their own.
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
        all.extend(self.rounds.iter().flat_map(rounds::RoundsSurvey::sentences));
        all.extend(self.streams.as_ref().map(stream::StreamSurvey::sentence));
        all.extend(self.freight.iter().flat_map(freight::FreightSurvey::headline));
        all
    }
}

#[cfg(test)]
mod tests;
