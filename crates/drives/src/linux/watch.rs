//! Follows a drive's health once a second on a thread of its own: asking takes time that the load must not wait for.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::{Asking, Vitals};
use hollow_mile_core::quantity::units::Celsius;

use super::health::Prober;
use super::pace::Pace;

/// Asking may take this share of the time at most: one part in so many.
const SHARE: u32 = 100;
const EVERY: Duration = Duration::from_secs(1);
/// It is looked so often whether the next question is due.
const LOOK: Duration = Duration::from_millis(100);

#[derive(Default)]
struct Latest {
    vitals: Vitals,
    temperatures: Vec<(String, Celsius)>,
}

struct Shared {
    prober: Mutex<Prober>,
    latest: Mutex<Latest>,
    stop: AtomicBool,
    under_load: AtomicBool,
    pace: Pace,
}

/// A drive that is followed for as long as this lives.
pub struct Watch {
    shared: Arc<Shared>,
}

fn lock<T>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Shared {
    fn take(&self, prober: &Prober) {
        let under_load = self.under_load.load(Ordering::Relaxed);
        let (vitals, temperatures) = prober.glance(under_load);
        let mut latest = lock(&self.latest);
        if under_load && vitals.critical_warning.is_none() {
            // Only the temperature was asked: the counters stand as they were.
            latest.vitals.composite_temperature = vitals.composite_temperature;
        } else {
            latest.vitals = vitals;
        }
        latest.temperatures = temperatures;
    }
}

impl Watch {
    /// Begins with a reading.
    pub fn new(prober: Prober) -> Self {
        let shared = Arc::new(Shared {
            prober: Mutex::new(prober),
            latest: Mutex::default(),
            stop: AtomicBool::new(false),
            under_load: AtomicBool::new(false),
            pace: Pace::default(),
        });
        shared.take(&lock(&shared.prober));
        let follows = shared.clone();
        // Without a thread there are readings between the loads still.
        let _ = std::thread::Builder::new().name("vitals".into()).spawn(move || {
            let (mut asked, mut took) = (Instant::now(), Duration::ZERO);
            while !follows.stop.load(Ordering::Relaxed) {
                std::thread::sleep(LOOK);
                let due = follows.pace.every(EVERY.max(took * SHARE)).is_some_and(|e| asked.elapsed() >= e);
                if due && !follows.stop.load(Ordering::Relaxed) {
                    asked = Instant::now();
                    follows.take(&lock(&follows.prober));
                    took = asked.elapsed();
                }
            }
        });
        Self { shared }
    }

    /// Tells whether the drive works: a drive whose queue is emptied by questions is asked for less.
    pub fn under_load(&self, loaded: bool) {
        self.shared.under_load.store(loaded, Ordering::Relaxed);
    }

    /// Says how often the drive is asked.
    pub fn ask_health(&self, how: Asking) {
        self.shared.pace.set(how);
    }

    /// Asks anew, unless the drive is being asked just now.
    pub fn refresh(&self) {
        if let Ok(prober) = self.shared.prober.try_lock() {
            self.shared.take(&prober);
        }
    }

    /// The newest figures.
    pub fn vitals(&self) -> Vitals {
        lock(&self.shared.latest).vitals.clone()
    }

    /// The newest temperature of the drive.
    pub fn temperature(&self) -> Option<Celsius> {
        lock(&self.shared.latest).vitals.composite_temperature
    }

    /// The newest temperatures of its sensors.
    pub fn temperatures(&self) -> Vec<(String, Celsius)> {
        lock(&self.shared.latest).temperatures.clone()
    }

    /// Notes how far a self-test is.
    pub fn note_self_test(&self, percent: Option<u8>) {
        lock(&self.shared.latest).vitals.self_test_percent = percent;
    }

    /// Asks the drive something else.
    pub fn ask<T>(&self, question: impl FnOnce(&Prober) -> T) -> T {
        question(&lock(&self.shared.prober))
    }
}

impl Drop for Watch {
    fn drop(&mut self) {
        self.shared.stop.store(true, Ordering::Relaxed);
    }
}
