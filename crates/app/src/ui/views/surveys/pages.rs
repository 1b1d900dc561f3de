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
    /// Streams that were offered.
    Streams,
    /// Blocks read back.
    Verify,
}

impl Page {
    pub const ALL: [Self; 6] =
        [Self::Ground, Self::Spans, Self::Fill, Self::Ladder, Self::Streams, Self::Verify];

    pub const fn name(self) -> &'static str {
        match self {
            Self::Ground => "ground",
            Self::Spans => "spans",
            Self::Fill => "fill",
            Self::Ladder => "ladder",
            Self::Streams => "streams",
            Self::Verify => "verify",
        }
    }

    const fn is_in(self, s: &Surveys) -> bool {
        match self {
            Self::Ground => s.ground.is_some(),
            Self::Spans => s.spans.is_some(),
            Self::Fill => s.fill.is_some(),
            Self::Ladder => s.ladder.is_some(),
            Self::Streams => s.streams.is_some(),
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
    let only = |page: Page| Surveys {
        ground: s.ground.clone().filter(|_| page == Page::Ground),
        spans: s.spans.clone().filter(|_| page == Page::Spans),
        ladder: s.ladder.clone().filter(|_| page == Page::Ladder),
        streams: s.streams.clone().filter(|_| page == Page::Streams),
        fill: s.fill.clone().filter(|_| page == Page::Fill),
        verify: s.verify.clone().filter(|_| page == Page::Verify),
    };
    only(page).sentences()
}
