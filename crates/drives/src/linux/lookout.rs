//! The lookout: a single small read now and then beside the load, as another user of the drive would make it. How long it waits,
//! from when it was due, is what the load costs others.

use std::sync::Arc;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

use super::buffers::Buffers;
use super::calls::perform;
use super::guard::Access;
use super::queue::Operation;
use crate::latency::Bins;

/// A thread that sleeps wakes up so much late at most; the rest is waited for without sleep. At 100 reads a second that is a
/// hundredth of a processor.
const WAKES_LATE: Duration = Duration::from_micros(120);
/// How long a sleep may be while nothing tells it that it is over.
const NAP: Duration = Duration::from_millis(100);

/// A read that has not come back after this is not waited for when the lookout ends.
const LET_GO: Duration = Duration::from_secs(5);

/// What it saw since it was last asked.
#[derive(Debug, Default)]
pub struct Seen {
    /// How long its reads waited.
    pub waits: Bins,
    /// Bytes that it read.
    pub bytes: u64,
    /// Address and error number of a read that failed; it reads no more then.
    pub failed: Option<(u64, i32)>,
}

/// A thread that reads at its times.
pub struct Lookout {
    seen: Arc<Mutex<Seen>>,
    over: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Lookout {
    /// Reads `block` bytes every so often at random addresses below `holds`, which may grow; none while that is less than a block.
    ///
    /// # Errors
    /// When memory or a thread cannot be had.
    pub fn begin(
        access: &Access,
        every: Duration,
        block: u64,
        holds: Arc<AtomicU64>,
        seed: u64,
    ) -> std::io::Result<Self> {
        let buffers = Buffers::new(1, block as usize, seed)?;
        let file = access.descriptor().clone();
        let mut lookout = Self { seen: Arc::default(), over: Arc::default(), thread: None };
        let (seen, over) = (lookout.seen.clone(), lookout.over.clone());
        let mut rng = Xoshiro256PlusPlus::seed_from_u64(seed);
        let watch = move || {
            // Best effort: with the usual slack of 50 µs it is waited for a little more.
            let _ = rustix::thread::set_current_timer_slack(std::num::NonZeroU64::new(1_000));
            let mut due = Instant::now() + every;
            while wait_until(due, &over) {
                let blocks = holds.load(Ordering::Relaxed) / block;
                if blocks == 0 {
                    due = Instant::now() + every;
                    continue;
                }
                let address = rng.random_range(0..blocks) * block;
                let read = Operation { slot: 0, write: false, address, from: 0, length: block as u32 };
                // SAFETY: the buffers are this thread's own, and this is the only operation on their only slot.
                let result = unsafe { perform(&file, &buffers, read) };
                let Ok(mut seen) = seen.lock() else { return };
                if result <= 0 {
                    seen.failed = Some((address, if result == 0 { libc::EIO } else { -result }));
                    return;
                }
                seen.bytes += block;
                due = count(&mut seen.waits, due, Instant::now(), every);
            }
        };
        let thread = std::thread::Builder::new().name("lookout".into()).spawn(watch)?;
        lookout.thread = Some(thread);
        Ok(lookout)
    }

    /// What it saw since the last call.
    pub fn take(&self) -> Seen {
        self.seen.lock().map(|mut seen| std::mem::take(&mut *seen)).unwrap_or_default()
    }
}

impl Lookout {
    /// Ends it; gives what it saw since the last call, with the read that was out.
    pub fn end(mut self) -> Seen {
        self.stop();
        self.take()
    }

    fn stop(&mut self) {
        self.over.store(true, Ordering::Relaxed);
        let Some(thread) = self.thread.take() else { return };
        let since = Instant::now();
        while !thread.is_finished() && since.elapsed() < LET_GO {
            std::thread::sleep(Duration::from_millis(1));
        }
        // A read that does not come back keeps its buffer and its file, and nobody waits for it.
        if thread.is_finished() {
            let _ = thread.join();
        }
    }
}

impl Drop for Lookout {
    fn drop(&mut self) {
        self.stop();
    }
}

/// False when it is over before.
fn wait_until(due: Instant, over: &AtomicBool) -> bool {
    loop {
        if over.load(Ordering::Relaxed) {
            return false;
        }
        let left = due.saturating_duration_since(Instant::now());
        if left.is_zero() {
            return true;
        }
        match left.checked_sub(WAKES_LATE) {
            Some(sleep) if !sleep.is_zero() => std::thread::sleep(sleep.min(NAP)),
            _ => std::hint::spin_loop(),
        }
    }
}

/// Counts a read that was due then and came back now, and those that were due while it was out: they would have come back with
/// it. So nobody's wait is left out because the one before had not ended, and nothing piles up on a drive that is slower than
/// the lookout asks. Gives when the next is due.
fn count(waits: &mut Bins, mut due: Instant, now: Instant, every: Duration) -> Instant {
    while due <= now {
        waits.record((now - due).as_nanos().max(1) as u64, 1);
        due += every;
    }
    due
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reads_that_were_due_while_one_was_out_have_waited_too() {
        let (mut waits, from) = (Bins::default(), Instant::now());
        let ms = Duration::from_millis;
        let due = count(&mut waits, from, from + ms(35), ms(10));
        // Due at 0, 10, 20, 30; back at 35.
        let told: Vec<f64> = waits.bins().map(|b| (b.middle_ns() / 1e6).round()).collect();
        assert_eq!((told, due - from), (vec![5.0, 15.0, 25.0, 35.0], ms(40)));
    }
}
