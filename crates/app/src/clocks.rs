//! What the machine's clocks do while a haul runs. A haul is timed by the monotonic clock, which nobody sets and which
//! stands while the machine sleeps; when the others step against it, that belongs into the record.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use rustix::time::{ClockId, clock_gettime};

/// Drift is slewed into a clock at no more than half a millisecond a second; this is a step.
const STEP_S: f64 = 2.0;
const EVERY: Duration = Duration::from_secs(1);

fn seconds(id: ClockId) -> f64 {
    let t = clock_gettime(id);
    t.tv_sec as f64 + t.tv_nsec as f64 / 1e9
}

/// The clocks against the monotonic one, as they were seen last.
#[derive(Debug, Clone, Copy)]
pub struct Clocks {
    slept_s: f64,
    wall_s: f64,
    looked: Instant,
}

impl Clocks {
    /// As they stand.
    #[must_use]
    pub fn now() -> Self {
        let monotonic = seconds(ClockId::Monotonic);
        Self {
            slept_s: seconds(ClockId::Boottime) - monotonic,
            wall_s: seconds(ClockId::Realtime) - monotonic,
            looked: Instant::now(),
        }
    }

    /// Looks again, once a second at most: what stepped since, in words.
    pub fn look(&mut self) -> Option<String> {
        if self.looked.elapsed() < EVERY {
            return None;
        }
        let before = std::mem::replace(self, Self::now());
        stepped(self.slept_s - before.slept_s, self.wall_s - before.wall_s)
    }
}

/// Between two beats, and how much later than that one may come before it is told.
const BEAT: Duration = Duration::from_millis(200);
const STOOD_STILL: Duration = Duration::from_secs(1);

/// A thread that does nothing but look at the time: when it is late by a second, this whole process stood still, stopped by
/// a signal or a debugger, or without a processor. What the drive seems to have done then it did not do.
pub struct Pulse {
    still_ms: Arc<AtomicU64>,
    over: Arc<AtomicBool>,
}

impl Pulse {
    /// Begins to beat; without a thread it never tells.
    #[must_use]
    pub fn begin() -> Self {
        let pulse = Self { still_ms: Arc::default(), over: Arc::default() };
        let (still, over) = (pulse.still_ms.clone(), pulse.over.clone());
        let beats = move || {
            let mut last = Instant::now();
            while !over.load(Ordering::Relaxed) {
                std::thread::sleep(BEAT);
                let now = Instant::now();
                let late = now.duration_since(last).saturating_sub(BEAT);
                if late > STOOD_STILL {
                    still.fetch_add(late.as_millis() as u64, Ordering::Relaxed);
                }
                last = now;
            }
        };
        let _ = std::thread::Builder::new().name("pulse".into()).spawn(beats);
        pulse
    }

    /// For how long it stood still since the last look, in words.
    pub fn look(&self) -> Option<String> {
        let still = Duration::from_millis(self.still_ms.swap(0, Ordering::Relaxed));
        (!still.is_zero()).then(|| {
            format!(
                "this program stood still for {:.1} s (stopped, or without a processor): that time tells nothing of the drive",
                still.as_secs_f64()
            )
        })
    }
}

impl Drop for Pulse {
    fn drop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
    }
}

/// The words for so many seconds of sleep, and so many by which the wall clock went ahead of the monotonic one.
fn stepped(slept_s: f64, wall_s: f64) -> Option<String> {
    // After a sleep the wall clock is ahead by as much: that is no setting.
    let set_s = wall_s - slept_s.max(0.0);
    let mut words = Vec::new();
    if slept_s >= STEP_S {
        words.push(format!("the machine slept for {slept_s:.0} s"));
    }
    if set_s.abs() >= STEP_S {
        let way = if set_s > 0.0 { "ahead" } else { "back" };
        words.push(format!(
            "the machine's clock was set {way} by {:.0} s; the haul's own goes on",
            set_s.abs()
        ));
    }
    (!words.is_empty()).then(|| words.join("; "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sleep_is_no_setting_and_a_setting_no_sleep() {
        assert_eq!(stepped(0.0, 0.3), None);
        assert_eq!(stepped(35.0, 35.1).as_deref(), Some("the machine slept for 35 s"));
        let set = stepped(0.0, -3600.0).unwrap_or_default();
        assert!(set.contains("set back by 3600 s"), "{set}");
        let both = stepped(60.0, 3660.0).unwrap_or_default();
        assert!(both.contains("slept for 60 s") && both.contains("ahead by 3600 s"), "{both}");
        let mut clocks = Clocks::now();
        assert_eq!(clocks.look(), None);
    }
}
