//! The pages of a haul's surveys, and what each says in words.

use hollow_mile_core::conclude::surveys::Surveys;

/// One survey.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Page {
    /// Rate by position.
    #[default]
    Ground,
    /// Access time over nested shares.
    Spans,
    /// Figures against fill.
    Fill,
    /// Blocks, depths, workers, patterns.
    Ladder,
    /// Rounds until steady.
    Rounds,
    /// Streams that were offered.
    Streams,
    /// What others waited.
    Lookout,
    /// Trees of files.
    Freight,
    /// Blocks read back.
    Verify,
}

impl Page {
    pub const ALL: [Self; 9] = [
        Self::Ground,
        Self::Spans,
        Self::Fill,
        Self::Ladder,
        Self::Rounds,
        Self::Streams,
        Self::Lookout,
        Self::Freight,
        Self::Verify,
    ];

    pub const fn name(self) -> &'static str {
        match self {
            Self::Ground => "ground",
            Self::Spans => "spans",
            Self::Fill => "fill",
            Self::Ladder => "ladder",
            Self::Rounds => "rounds",
            Self::Streams => "streams",
            Self::Lookout => "lookout",
            Self::Freight => "freight",
            Self::Verify => "verify",
        }
    }

    /// The question that it answers.
    pub const fn question(self) -> &'static str {
        match self {
            Self::Ground => "Which stretches are slow, and are they so in every pass?",
            Self::Spans => "How much faster is an access that stays in a part of the drive?",
            Self::Fill => "What does it lose as it fills?",
            Self::Ladder => "How deep a queue pays, and what does it cost in latency?",
            Self::Rounds => "Is it steady, since which round, and what does it give then?",
            Self::Streams => "Does it hold the stream, and which buffer would?",
            Self::Freight => "What holds the files up, and what does each of them cost?",
            Self::Lookout => "How long does another user of the drive wait while it works?",
            Self::Verify => "Is what was written still there, and where it belongs?",
        }
    }

    const fn is_in(self, s: &Surveys) -> bool {
        match self {
            Self::Ground => s.ground.is_some(),
            Self::Spans => s.spans.is_some(),
            Self::Fill => s.fill.is_some(),
            Self::Ladder => s.ladder.is_some(),
            Self::Rounds => s.rounds.is_some(),
            Self::Streams => s.streams.is_some(),
            Self::Lookout => s.lookout.is_some(),
            Self::Freight => s.freight.is_some(),
            Self::Verify => s.verify.is_some(),
        }
    }
}

/// The surveys that a record has, in their order.
pub fn there(s: &Surveys) -> Vec<Page> {
    Page::ALL.into_iter().filter(|p| p.is_in(s)).collect()
}

/// What a survey says, in words.
pub fn sentences(page: Page, s: &Surveys) -> Vec<String> {
    if page == Page::Lookout {
        return s.lookout.as_ref().map(|l| l.sentences()).unwrap_or_default();
    }
    if page == Page::Freight {
        return s.freight.as_ref().map(|f| f.sentences()).unwrap_or_default();
    }
    let only = |page: Page| Surveys {
        ground: s.ground.clone().filter(|_| page == Page::Ground),
        spans: s.spans.clone().filter(|_| page == Page::Spans),
        ladder: s.ladder.clone().filter(|_| page == Page::Ladder),
        rounds: s.rounds.clone().filter(|_| page == Page::Rounds),
        streams: s.streams.clone().filter(|_| page == Page::Streams),
        fill: s.fill.clone().filter(|_| page == Page::Fill),
        lookout: None,
        freight: None,
        members: None,
        verify: s.verify.clone().filter(|_| page == Page::Verify),
    };
    only(page).sentences()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_survey_has_a_question_that_fits_the_help() {
        for page in Page::ALL {
            let question = page.question();
            assert!(question.ends_with('?') && question.chars().count() <= 72, "{question}");
        }
    }
}
