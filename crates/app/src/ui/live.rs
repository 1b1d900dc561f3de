//! Hauls under way, as the interface follows them.

use std::time::{Duration, Instant};

use hollow_mile_core::finding::Conclusions;
use hollow_mile_core::readings::Readings;

use crate::error::AppError;
use crate::session::{Command, Over, Session, Speed};

/// What a sample may cost in conclusions.
const SAMPLE_COST: Duration = Duration::from_micros(15);
/// Conclusions are made after this time, whatever they cost.
const PATIENCE: Duration = Duration::from_secs(10);

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
    session: Option<Session>,
    concluded: Instant,
    /// Samples that the conclusions were made from.
    concluded_at: usize,
    cost: Duration,
    stale: bool,
}

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
            session: Some(session),
            concluded: Instant::now(),
            concluded_at: 0,
            cost: Duration::ZERO,
            stale: false,
        }
    }

    /// Still under way.
    #[must_use]
    pub const fn runs(&self) -> bool {
        self.session.is_some()
    }

    /// Asks for something; keeps in mind what was asked.
    pub fn ask(&mut self, command: Command) {
        match command {
            Command::Speed(speed) => self.speed = speed,
            Command::Pause(paused) => self.paused = paused,
            _ => {}
        }
        if let Some(session) = &self.session {
            session.ask(command);
        }
    }

    /// Takes events for as long as `budget` allows. True when something changed; the error is that of the record.
    ///
    /// # Errors
    /// When the ledger could not be written.
    pub fn follow(&mut self, budget: Duration) -> Result<bool, AppError> {
        let began = Instant::now();
        let mut changed = false;
        let mut over = false;
        while let Some(session) = &self.session {
            match session.try_events() {
                Ok(Some(events)) => {
                    events.iter().for_each(|e| self.readings.push(e));
                    changed = true;
                }
                Ok(None) => break,
                Err(Over) => {
                    over = true;
                    break;
                }
            }
            if began.elapsed() >= budget {
                break;
            }
        }
        self.stale |= changed;
        // Conclusions cost more than samples: they wait until enough of these have come, but for no more than ten seconds, and take
        // a twentieth of the time at most.
        let since = self.concluded.elapsed();
        let worth =
            SAMPLE_COST * u32::try_from(self.readings.series().len() - self.concluded_at).unwrap_or(u32::MAX);
        let due = since >= Duration::from_millis(200).max(self.cost * 20)
            && (worth >= self.cost || since >= PATIENCE);
        if self.stale && (over || due) {
            let began = Instant::now();
            self.conclusions = self.readings.conclude();
            self.cost = began.elapsed();
            self.concluded = Instant::now();
            self.concluded_at = self.readings.series().len();
            self.stale = false;
        }
        if over {
            if self.stale || self.conclusions.findings.is_empty() {
                self.conclusions = self.readings.conclude();
            }
            self.paused = false;
            if let Some(session) = self.session.take() {
                session.finish()?;
            }
            return Ok(true);
        }
        Ok(changed)
    }

    /// Stops the haul and waits for its record to be complete.
    ///
    /// # Errors
    /// When the ledger could not be written.
    pub fn end(&mut self) -> Result<(), AppError> {
        if let Some(session) = self.session.take() {
            session.ask(Command::Stop);
            session.finish()?;
        }
        Ok(())
    }
}
