//! Hauls under way, as the interface follows them.

use std::cell::RefCell;
use std::time::{Duration, Instant};

use hollow_mile_core::archive::estimate::Span;
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;

use super::alarm::ToldOf;
use super::cadence::Cadence;
use crate::command::{Command, Speed};
use crate::error::AppError;
use crate::session::{Over, Session};
use crate::told::headline;
use crate::told::road::Road;
use crate::watch::frame::Desk;
use crate::watch::watching::Watching;

/// Who runs it.
enum Source {
    /// This process.
    Here(Session),
    /// Another, which goes on when this one ends.
    There(Watching),
}

impl Source {
    fn try_events(&self) -> Result<Option<Vec<hollow_mile_core::record::Event>>, Over> {
        match self {
            Self::Here(session) => session.try_events(),
            Self::There(watching) => watching.try_events(),
        }
    }
}

/// A haul under way, or one that ended while the interface was open.
pub struct Live {
    /// Identifier.
    pub haul: String,
    /// The fold so far.
    pub readings: Readings,
    /// What is concluded so far.
    pub conclusions: Conclusions,
    /// How fast a simulated clock runs.
    pub speed: Speed,
    /// The load is off, or the simulated clock stands.
    pub paused: bool,
    /// The drive computes its own time.
    pub simulated: bool,
    /// How long each leg of its route was expected to take, once that was asked.
    pub expected: Option<Vec<Option<Span>>>,
    /// What was told of it to whoever looks elsewhere.
    told: ToldOf,
    looked_at: (usize, bool),
    source: Option<Source>,
    began: Instant,
    cadence: Cadence,
    stale: bool,
    /// The answer in words, and what it was made of.
    answered: RefCell<(AnswerOf, String)>,
}

/// What the answer of a haul under way depends on: when it was concluded from, legs begun, operations failed, whether it has ended.
type AnswerOf = Option<(Instant, usize, u64, bool)>;

impl Live {
    /// Follows a session.
    #[must_use]
    pub fn new(session: Session, speed: Speed) -> Self {
        Self {
            haul: session.haul.clone(),
            readings: Readings::new(),
            conclusions: Conclusions::default(),
            speed,
            paused: false,
            simulated: session.simulated,
            expected: None,
            told: ToldOf::default(),
            looked_at: (0, false),
            source: Some(Source::Here(session)),
            began: Instant::now(),
            cadence: Cadence::default(),
            stale: false,
            answered: RefCell::default(),
        }
    }

    /// Follows a haul that another process keeps.
    #[must_use]
    pub fn watching(watching: Watching) -> Self {
        Self {
            haul: watching.haul.clone(),
            readings: Readings::new(),
            conclusions: Conclusions::default(),
            speed: Speed::Most,
            paused: false,
            simulated: watching.simulated,
            expected: None,
            told: ToldOf::default(),
            looked_at: (0, false),
            source: Some(Source::There(watching)),
            began: Instant::now(),
            cadence: Cadence::default(),
            stale: false,
            answered: RefCell::default(),
        }
    }

    /// What is new on it since this was last asked, in words.
    pub fn news(&mut self) -> Option<String> {
        // What is concluded is told as soon as it is; the rest needs no look at every frame.
        if self.looked_at == (self.cadence.samples(), self.readings.ended().is_some()) {
            return None;
        }
        self.looked_at = (self.cadence.samples(), self.readings.ended().is_some());
        let mut told = std::mem::take(&mut self.told);
        let news = told.news(self);
        self.told = told;
        news
    }

    /// It is time to conclude anew.
    #[must_use]
    pub fn is_due(&self) -> bool {
        self.runs() && self.stale && self.cadence.is_due(self.began.elapsed(), &self.readings)
    }

    /// What is to be said of it first. Made anew when something was concluded, not at every frame.
    #[must_use]
    pub fn answer(&self) -> String {
        let r = &self.readings;
        let of = Some((self.concluded_when(), r.legs().len(), r.errors(), r.ended().is_some()));
        let mut answered = self.answered.borrow_mut();
        if answered.0 != of {
            *answered = (of, headline::answer(r, &self.conclusions));
        }
        answered.1.clone()
    }

    /// When it was concluded from last.
    #[must_use]
    pub fn concluded_when(&self) -> Instant {
        self.began + self.cadence.when()
    }

    /// Its legs, behind and ahead.
    #[must_use]
    pub fn road(&self) -> Option<Road> {
        Road::of(&self.readings, self.expected.as_deref().unwrap_or_default())
    }

    /// Still under way.
    #[must_use]
    pub const fn runs(&self) -> bool {
        self.source.is_some()
    }

    /// The haul that another process keeps.
    #[must_use]
    pub const fn watched(&self) -> Option<&Watching> {
        match &self.source {
            Some(Source::There(watching)) => Some(watching),
            _ => None,
        }
    }

    /// This process runs it.
    #[must_use]
    pub const fn is_here(&self) -> bool {
        matches!(self.source, Some(Source::Here(_)))
    }

    /// The controls of a haul that another process keeps.
    #[must_use]
    pub fn desk(&self) -> Option<Desk> {
        self.watched()?.desk()
    }

    /// Asks for something; keeps in mind what was asked.
    pub fn ask(&mut self, command: Command) {
        match &self.source {
            Some(Source::Here(session)) => {
                match command {
                    Command::Speed(speed) => self.speed = speed,
                    Command::Pause(paused) => self.paused = paused,
                    _ => {}
                }
                session.ask(command);
            }
            // What comes of it is told, to all who watch.
            Some(Source::There(watching)) => watching.ask(command),
            None => {}
        }
    }

    /// Takes events for as long as `budget` allows and nobody `waits`, and concludes from them where that is its turn. True when
    /// something changed; the error is that of the record.
    ///
    /// # Errors
    /// When the ledger could not be written.
    pub fn follow(
        &mut self,
        budget: Duration,
        concludes: bool,
        waits: &dyn Fn() -> bool,
    ) -> Result<bool, AppError> {
        let began = Instant::now();
        let (mut changed, mut stirs, mut over) = (false, false, false);
        if let Some(desk) = self.desk() {
            changed |= self.paused != desk.paused || self.speed != desk.speed;
            (self.paused, self.speed) = (desk.paused, desk.speed);
        }
        while let Some(source) = &self.source {
            match source.try_events() {
                Ok(Some(events)) => {
                    events.iter().for_each(|e| self.readings.push(e));
                    stirs |= events.iter().any(Cadence::stirs);
                    changed = true;
                }
                Ok(None) => break,
                Err(Over) => {
                    over = true;
                    break;
                }
            }
            if began.elapsed() >= budget || waits() {
                break;
            }
        }
        self.stale |= changed;
        if changed {
            self.cadence.saw(self.began.elapsed(), &self.readings, stirs);
        }
        if self.stale && (over || concludes && self.is_due()) {
            let began = Instant::now();
            self.conclusions = self.readings.conclude();
            self.cadence.concluded(self.began.elapsed(), began.elapsed(), &self.readings);
            self.stale = false;
        }
        if over {
            if self.stale || self.conclusions.findings.is_empty() {
                self.conclusions = self.readings.conclude();
            }
            self.paused = false;
            if let Some(Source::Here(session)) = self.source.take() {
                session.finish()?;
            }
            return Ok(true);
        }
        Ok(changed)
    }

    /// Stops the haul and waits for its record to be complete; one that another process keeps is left to it.
    ///
    /// # Errors
    /// When the ledger could not be written.
    pub fn end(&mut self) -> Result<(), AppError> {
        if self.is_here()
            && let Some(Source::Here(session)) = self.source.take()
        {
            session.ask(Command::Stop);
            session.finish()?;
        }
        Ok(())
    }
}
