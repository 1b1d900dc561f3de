//! A kept haul on screen: read in the background when it is long, or happening again in a time-lapse.

use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, TryRecvError, bounded};
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Event;
use hollow_mile_ledger::Ledger;

use crate::error::AppError;

/// The whole of a time-lapse takes so long at first.
const WHOLE: f64 = 40.0;
/// Events of a batch on their way to a time-lapse.
const BATCH: usize = 2_000;

type Whole = (Readings, Conclusions);

/// The whole record of a haul, on its way.
pub struct Loading(Receiver<Result<Box<Whole>, String>>);

impl Loading {
    /// Begins to read.
    ///
    /// # Errors
    /// When the ledger cannot be opened again, or there is no thread.
    pub fn begin(ledger: &Ledger, haul: &str) -> Result<Self, AppError> {
        let (ledger, haul) = (ledger.another()?, haul.to_owned());
        let (give, take) = bounded(1);
        spawn("review", move || {
            let read = ledger.concluded(&haul).map(Box::new).map_err(|e| e.to_string());
            let _ = give.send(read);
        })?;
        Ok(Self(take))
    }

    /// The record when it is there, or why it cannot be; `None` while it is read.
    #[must_use]
    pub fn done(&self) -> Option<Result<Box<Whole>, String>> {
        self.done_within(Duration::ZERO)
    }

    /// As [`Self::done`], waiting so long at most.
    #[must_use]
    pub fn done_within(&self, at_most: Duration) -> Option<Result<Box<Whole>, String>> {
        match self.0.recv_timeout(at_most) {
            Ok(r) => Some(r),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => {
                Some(Err("the thread that read the record ended in a fault".into()))
            }
        }
    }
}

/// A thread of its own for what takes longer than a key may wait.
///
/// # Errors
/// When there is none.
pub(super) fn spawn(name: &str, work: impl FnOnce() + Send + 'static) -> Result<(), AppError> {
    std::thread::Builder::new()
        .name(name.into())
        .spawn(work)
        .map(|_| ())
        .map_err(|e| AppError::machine(format!("no thread to read the record: {e}")))
}

/// A haul that happens again, faster.
pub struct Lapse {
    /// The fold so far.
    pub readings: Readings,
    /// What is concluded so far.
    pub conclusions: Conclusions,
    /// Its clock stands.
    pub paused: bool,
    events: Receiver<Vec<Event>>,
    waiting: std::collections::VecDeque<Event>,
    clock: Duration,
    length: Duration,
    per_second: f64,
    looked: Instant,
    concluded: Instant,
    over: bool,
}

impl Lapse {
    /// From the beginning of a haul of this length.
    ///
    /// # Errors
    /// When the ledger cannot be opened again, or there is no thread.
    pub fn begin(ledger: &Ledger, haul: &str, length: Duration) -> Result<Self, AppError> {
        let (ledger, haul) = (ledger.another()?, haul.to_owned());
        let (give, events) = bounded::<Vec<Event>>(4);
        spawn("time-lapse", move || {
            let mut batch = Vec::with_capacity(BATCH);
            let mut gone = false;
            // A record that is torn ends where it is torn: the whole of it was shown before.
            let _ = ledger.replay(&haul, |e| {
                batch.push(e.clone());
                if batch.len() >= BATCH && !gone {
                    gone = give.send(std::mem::replace(&mut batch, Vec::with_capacity(BATCH))).is_err();
                }
                if gone {
                    batch.clear();
                }
            });
            let _ = give.send(batch);
        })?;
        let now = Instant::now();
        Ok(Self {
            readings: Readings::new(),
            conclusions: Conclusions::default(),
            paused: false,
            events,
            waiting: std::collections::VecDeque::new(),
            clock: Duration::ZERO,
            length,
            per_second: (length.as_secs_f64() / WHOLE).max(1.0),
            looked: now,
            concluded: now,
            over: false,
        })
    }

    /// It is still happening.
    #[must_use]
    pub const fn runs(&self) -> bool {
        !self.over
    }

    /// How far it is and how fast, in words.
    #[must_use]
    pub fn words(&self) -> String {
        let at = hollow_mile_core::quantity::units::clock(self.clock.min(self.length));
        let of = hollow_mile_core::quantity::units::clock(self.length);
        match (self.over, self.paused) {
            (true, _) => format!("{at}, over"),
            (_, true) => format!("{at} of {of}, stands"),
            _ => format!("{at} of {of}, {:.0} times as fast", self.per_second),
        }
    }

    /// Doubles its pace, or halves it.
    pub fn pace(&mut self, factor: f64) {
        self.per_second = (self.per_second * factor).clamp(1.0, 1e6);
    }

    /// Lets its clock run on, and takes what happened. True when there is something new to draw.
    pub fn follow(&mut self, budget: Duration) -> bool {
        let began = Instant::now();
        let passed = began - self.looked;
        self.looked = began;
        if self.over || self.paused {
            return false;
        }
        let goal = self.clock + passed.mul_f64(self.per_second);
        loop {
            if self.waiting.is_empty() {
                match self.events.try_recv() {
                    Ok(events) => self.waiting.extend(events),
                    // What is not read yet holds the clock, so that nothing is passed over.
                    Err(TryRecvError::Empty) => break,
                    Err(TryRecvError::Disconnected) => {
                        self.over = true;
                        break;
                    }
                }
            }
            if self.waiting.front().is_some_and(|e| e.at() > goal) {
                self.clock = goal;
                break;
            }
            if let Some(event) = self.waiting.pop_front() {
                self.clock = self.clock.max(event.at());
                self.readings.push(&event);
            }
            if began.elapsed() >= budget {
                break;
            }
        }
        if self.over || self.concluded.elapsed() >= Duration::from_millis(250) {
            self.conclusions = self.readings.conclude();
            self.concluded = Instant::now();
        }
        true
    }
}
