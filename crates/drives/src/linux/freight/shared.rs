//! What threads of a freight leg share: values behind locks that no panic poisons, and the gate at which they are stopped.

use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

/// A value that one at a time may use.
#[derive(Debug, Default)]
pub struct Shared<T>(Mutex<T>);

impl<T> Shared<T> {
    /// Of this value.
    pub const fn new(value: T) -> Self {
        Self(Mutex::new(value))
    }

    /// The value, for as long as it is held.
    pub fn lock(&self) -> MutexGuard<'_, T> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// What the threads shall do.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
enum Asked {
    #[default]
    Go,
    Pause,
    Stop,
}

#[derive(Debug, Default)]
struct State {
    asked: Asked,
    /// Threads that are not over.
    alive: usize,
    /// Threads that are between two operations, and wait.
    parked: usize,
    /// Threads that have come to where all meet.
    met: usize,
}

/// The gate at which threads wait while the load is paused, and at which they learn that it is over.
#[derive(Debug, Default)]
pub struct Gate {
    /// Zero: go. Looked at before every operation.
    shut: AtomicUsize,
    state: Shared<State>,
    changed: Condvar,
}

impl Gate {
    /// For so many threads.
    pub fn new(threads: usize) -> Self {
        let state = State { alive: threads, ..State::default() };
        Self { state: Shared::new(state), ..Self::default() }
    }

    fn wait<'a>(&self, state: MutexGuard<'a, State>, most: Duration) -> MutexGuard<'a, State> {
        self.changed.wait_timeout(state, most).map_or_else(|e| e.into_inner().0, |(s, _)| s)
    }

    fn ask(&self, asked: Asked) {
        let mut state = self.state.lock();
        if state.asked != Asked::Stop {
            state.asked = asked;
        }
        self.shut.store(usize::from(state.asked != Asked::Go), Ordering::Release);
        drop(state);
        self.changed.notify_all();
    }

    /// Threads stop before their next operation, for good.
    pub fn stop(&self) {
        self.ask(Asked::Stop);
    }

    /// They go on.
    pub fn go(&self) {
        self.ask(Asked::Go);
    }

    /// They stop before their next operation until told to go on; returns once all have, or after so long.
    pub fn pause(&self, most: Duration) {
        self.ask(Asked::Pause);
        let until = Instant::now() + most;
        let mut state = self.state.lock();
        while state.parked < state.alive && Instant::now() < until {
            state = self.wait(state, Duration::from_millis(20));
        }
    }

    /// Asked by a thread before every operation: waits while the load is paused. False when it is over.
    pub fn may_go_on(&self) -> bool {
        self.is_open() || self.wait_until_open()
    }

    /// Nobody asked for a pause or the end.
    #[inline]
    pub fn is_open(&self) -> bool {
        self.shut.load(Ordering::Acquire) == 0
    }

    /// As [`Self::may_go_on`], of a gate that was seen shut.
    pub fn wait_until_open(&self) -> bool {
        let mut state = self.state.lock();
        state.parked += 1;
        self.changed.notify_all();
        while state.asked == Asked::Pause {
            state = self.wait(state, Duration::from_millis(100));
        }
        state.parked -= 1;
        state.asked != Asked::Stop
    }

    /// A thread waits for another: it counts as parked meanwhile.
    pub fn while_waiting<T>(&self, wait: impl FnOnce() -> T) -> T {
        self.state.lock().parked += 1;
        let value = wait();
        self.state.lock().parked -= 1;
        value
    }

    /// Waits until so many threads have come here, or it is over. What it waits while the load is on is told as it waits.
    pub fn meet(&self, many: usize, mut told: impl FnMut(Duration)) {
        let mut state = self.state.lock();
        state.met += 1;
        state.parked += 1;
        self.changed.notify_all();
        while state.met < many && state.asked != Asked::Stop {
            let (began, goes) = (Instant::now(), state.asked == Asked::Go);
            state = self.wait(state, Duration::from_millis(100));
            if goes {
                told(began.elapsed());
            }
        }
        state.parked -= 1;
    }

    /// A thread is over.
    pub fn leave(&self) {
        self.state.lock().alive -= 1;
        self.changed.notify_all();
    }

    /// Waits for so long, or until all threads are over; tells whether they are.
    pub fn all_over(&self, within: Duration) -> bool {
        let until = Instant::now() + within;
        let mut state = self.state.lock();
        while state.alive > 0 {
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return false;
            }
            state = self.wait(state, left);
        }
        true
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::AtomicU64;

    #[test]
    fn a_paused_thread_does_nothing_until_it_may_and_nothing_after_the_stop() {
        let (gate, count) = (Arc::new(Gate::new(2)), Arc::new(AtomicU64::new(0)));
        let threads: Vec<_> = (0..2)
            .map(|_| {
                let (gate, count) = (gate.clone(), count.clone());
                std::thread::spawn(move || {
                    while gate.may_go_on() {
                        count.fetch_add(1, Ordering::Relaxed);
                        std::thread::yield_now();
                    }
                    gate.leave();
                })
            })
            .collect();
        while count.load(Ordering::Relaxed) < 100 {
            std::thread::yield_now();
        }
        gate.pause(Duration::from_secs(60));
        let then = count.load(Ordering::Relaxed);
        assert!(!gate.all_over(Duration::from_millis(30)));
        assert_eq!(count.load(Ordering::Relaxed), then);
        gate.go();
        while count.load(Ordering::Relaxed) == then {
            std::thread::yield_now();
        }
        gate.stop();
        assert!(gate.all_over(Duration::from_secs(60)));
        gate.go();
        threads.into_iter().for_each(|t| t.join().unwrap());
        assert!(!gate.may_go_on(), "what is over does not begin again");
    }
}
