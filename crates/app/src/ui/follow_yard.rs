//! Follows the drives of this machine on a thread of its own: who is there, how warm, what others move on it.
//!
//! A drive that works is not asked for more than disturbs nothing: counters of the block layer always, an NVMe drive its
//! health log, any other only what the kernel's hwmon knows.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, Sender, unbounded};
use hollow_mile_core::drive::DriveIdentity;
use hollow_mile_core::drive::health::Health;
use hollow_mile_core::quantity::units::{Bytes, Rate};
use hollow_mile_drives::linux::guard::Examination;
use hollow_mile_drives::linux::sysfs::{BlockDevice, Sysfs};
use hollow_mile_drives::linux::traffic::{Counters, Moved};

use crate::machine::{self, Device};

const EVERY: Duration = Duration::from_secs(1);
const HEALTH_EVERY: Duration = Duration::from_secs(5);

/// A device as it is now.
#[derive(Debug, Clone)]
pub struct DeviceNow {
    /// Who it is.
    pub identity: DriveIdentity,
    /// What stands against writing to it.
    pub examination: Examination,
    /// Its newest health reading.
    pub health: Health,
    /// What moves on it, by the block layer's counters.
    pub moving: Option<Rate>,
}

/// Follows for as long as it lives.
pub struct FollowYard {
    news: Receiver<Vec<DeviceNow>>,
    anew: Sender<()>,
    stop: Arc<AtomicBool>,
}

struct Followed {
    device: Device,
    counters: Option<Counters>,
    before: Option<(Moved, Instant)>,
    moving: Option<Rate>,
    health: Health,
    asked: Instant,
}

impl Followed {
    fn new(device: Device) -> Self {
        Self {
            counters: Counters::of(&device.block.disk().folder),
            before: None,
            moving: None,
            health: device.prober.health(),
            asked: Instant::now(),
            device,
        }
    }

    fn look(&mut self) {
        let now = self.counters.as_ref().and_then(Counters::read).map(|m| (m, Instant::now()));
        if let (Some((before, then)), Some((after, at))) = (self.before, now) {
            let moved = Bytes::new(after.sum().saturating_sub(before.sum()));
            self.moving = Some(moved.over(at.duration_since(then)));
        }
        self.before = now;
        let busy = self.moving.is_some_and(machine::is_busy);
        let may_ask = !busy || self.device.block.transport() == "nvme";
        if may_ask && self.asked.elapsed() >= HEALTH_EVERY {
            self.asked = Instant::now();
            self.health = self.device.prober.health();
        }
    }

    fn now(&self) -> DeviceNow {
        DeviceNow {
            identity: self.device.identity.clone(),
            examination: self.device.examination.clone(),
            health: self.health.clone(),
            moving: self.moving,
        }
    }
}

fn follow(home: &std::path::Path, news: &Sender<Vec<DeviceNow>>, anew: &Receiver<()>, stop: &AtomicBool) {
    let sysfs = Sysfs::default();
    let mut all: Vec<Followed> = Vec::new();
    while !stop.load(Ordering::Relaxed) {
        let here = sysfs.drives();
        let same = here.len() == all.len()
            && here
                .iter()
                .zip(&all)
                .all(|(a, b)| (&a.name, a.size()) == (&b.device.block.name, b.device.identity.capacity));
        if !same {
            all = machine::devices(home).into_iter().map(Followed::new).collect();
        }
        all.iter_mut().for_each(Followed::look);
        let known = |block: &BlockDevice| {
            all.iter().find(|f| f.device.block.number == block.number).map(|f| f.health.clone())
        };
        let now = |f: &Followed| {
            let members = machine::members(&f.device.block, &known);
            let mut now = f.now();
            now.health = now.health.with_members(members);
            now
        };
        if news.send(all.iter().map(now).collect()).is_err() {
            return;
        }
        // Asked to, everything is looked at again: what is on a drive, and who holds it.
        if anew.recv_timeout(EVERY).is_ok() {
            all.clear();
        }
    }
}

impl FollowYard {
    /// Begins to follow; `None` when no thread can be had.
    #[must_use]
    pub fn new(home: PathBuf) -> Option<Self> {
        let (give, news) = unbounded();
        let (anew, asked) = unbounded();
        let stop = Arc::new(AtomicBool::new(false));
        let until = stop.clone();
        std::thread::Builder::new()
            .name("yard".into())
            .spawn(move || follow(&home, &give, &asked, &until))
            .ok()?;
        Some(Self { news, anew, stop })
    }

    /// The newest state, when there is a newer one.
    #[must_use]
    pub fn news(&self) -> Option<Vec<DeviceNow>> {
        self.news.try_iter().last()
    }

    /// Looks at everything again.
    pub fn look_again(&self) {
        let _ = self.anew.send(());
    }
}

impl Drop for FollowYard {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}
