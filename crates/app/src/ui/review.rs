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

/// What came of a haul that another bench drives.
pub enum Came {
    /// All so far.
    Whole(Box<Whole>),
    /// What it committed since.
    More(Vec<Event>),
}

/// The record of a haul that another bench drives, as it comes.
pub struct Tail(Receiver<Result<Came, String>>);

impl Tail {
    /// What the other bench commits is seen within two seconds: half of one to send it, and this.
    const EVERY: Duration = Duration::from_secs(1);

    /// Begins to follow it.
    ///
    /// # Errors
    /// When the ledger cannot be opened again, or there is no thread.
    pub fn begin(ledger: &Ledger, haul: &str) -> Result<Self, AppError> {
        let (ledger, haul) = (ledger.another()?, haul.to_owned());
        let (give, take) = bounded(4);
        spawn("tail", move || {
            let is_end = |e: &Event| matches!(e, Event::HaulEnded { .. });
            let mut next = None;
            loop {
                let came = ledger.events_from(&haul, next.unwrap_or(0)).map_err(|e| e.to_string());
                let over = came.as_ref().map_or(true, |(events, _)| events.iter().any(is_end));
                let told = came.map(|(events, then)| match next.replace(then) {
                    Some(_) => Came::More(events),
                    None => {
                        let mut readings = Readings::new();
                        events.iter().for_each(|e| readings.push(e));
                        let conclusions = readings.conclude();
                        Came::Whole(Box::new((readings, conclusions)))
                    }
                });
                // Nobody looks any more.
                if give.send(told).is_err() || over {
                    return;
                }
                std::thread::sleep(Self::EVERY);
            }
        })?;
        Ok(Self(take))
    }

    /// What came since it was asked last, waiting so long at most; `None` where nothing did. True where nothing more will.
    #[must_use]
    pub fn came_within(&self, at_most: Duration) -> (Option<Result<Came, String>>, bool) {
        match self.0.recv_timeout(at_most) {
            Ok(came) => (Some(came), false),
            Err(RecvTimeoutError::Timeout) => (None, false),
            Err(RecvTimeoutError::Disconnected) => (None, true),
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
