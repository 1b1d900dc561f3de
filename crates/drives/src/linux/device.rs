//! A block device as a drive: opened read-only, or for writing through the guard.

use hollow_mile_core::drive::{Asking, Ending};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::protocol::nvme::SelfTestLog;
use hollow_mile_core::drive::{Drive, DriveError, DriveIdentity, Load, LoadKind, LoadSummary, Tally};
use hollow_mile_core::drive::{Fault, FaultKind, MeterReading, Vitals};
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::array::ArrayState;
use super::crew::EngineChoice;
use super::erase::WholeErase;
use super::guard::{self, Access, Consent, Refusal, Writable};
use super::health::Prober;
use super::members::Members;
use super::mover::Mover;
use super::sysfs::{BlockDevice, Sysfs};
use super::traffic::{Counters, Others};
use super::watch::Watch;
use super::wipe::Wipe;
use super::zones;

/// Why a device cannot be hauled on.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DeviceError {
    /// There is no such device, or it cannot be used as it is.
    #[error("{0}")]
    Unusable(String),
    /// The guard says no.
    #[error(transparent)]
    Refused(#[from] Refusal),
}

/// How often it is looked at whether the device is still there, and how a self-test goes.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// A block device.
pub struct BlockDrive {
    identity: DriveIdentity,
    device: BlockDevice,
    node: PathBuf,
    mover: Mover,
    watch: Watch,
    members: Members,
    wipe: Option<Erasing>,
    self_test: Option<SelfTest>,
    loaded: bool,
    looked: Instant,
    capacity: Bytes,
    /// How many members an array is short of, and what it does of itself, when it was looked at last.
    array: ArrayState,
    /// What is to be told with the next interval.
    warned: Vec<String>,
}

/// What a wipe leg is at.
enum Erasing {
    Stretches(Wipe),
    Whole(Box<WholeErase>),
}

struct SelfTest {
    /// Results that were there before it began.
    before: usize,
    ended: bool,
}

/// Who a device is, as far as it may be asked.
#[must_use]
pub fn identify(device: &BlockDevice, prober: &Prober) -> DriveIdentity {
    let mut identity = device.identity();
    prober.complete(&mut identity);
    if let Some(zones) = &mut identity.zones
        && let Ok(all) = std::fs::File::open(device.node()).and_then(|f| zones::report(&f))
    {
        zones.take(&all);
        identity.fill_percent = zones.fill().map(|f| f * 100.0);
    }
    identity.members = serials_below(device);
    if identity.serial.is_empty() {
        // Something must name it in the ledger; what is typed for consent is the same.
        identity.serial = device.word_to_type();
    }
    identity
}

/// Serials of the drives that a device is built of, as their own hauls have them; none below a drive itself.
fn serials_below(device: &BlockDevice) -> Vec<String> {
    let below = Sysfs::default().drives_below(device);
    let others = below.iter().filter(|d| d.name != device.disk().name);
    others.map(|d| identify(d, &Prober::of(d)).serial).collect()
}

impl BlockDrive {
    /// Opens a device, for reading only or, with the consent for it, for writing too.
    ///
    /// # Errors
    /// When there is no such device, it cannot be used, or the guard refuses.
    pub fn open(
        path: &Path,
        consent: Option<&Consent>,
        choice: EngineChoice,
        seed: u64,
    ) -> Result<Self, DeviceError> {
        let sysfs = Sysfs::default();
        let device = sysfs.by_path(path).map_err(DeviceError::Unusable)?;
        let node = device.node();
        if device.size() == Bytes::ZERO {
            return Err(DeviceError::Unusable(format!(
                "{} has no blocks that the kernel can address: it holds no medium, or is formatted to blocks of 520 or 528 bytes and must be formatted to 512 or 4,096 first",
                node.display()
            )));
        }
        let access = match consent {
            None => guard::open_for_reading(&device).map_err(DeviceError::Unusable)?,
            Some(consent) => Access::Write(Arc::new(Writable::open_device(&sysfs, &device, consent)?.0)),
        };
        let prober = Prober::of(&device);
        let identity = identify(&device, &prober);
        let others = Counters::of(&device.disk().folder).map(Others::new);
        let members = Members::of(&sysfs, &device);
        let target = identity.target.clone();
        Ok(Self {
            mover: Mover::new(
                &target,
                access,
                "direct I/O",
                identity.write_block().get(),
                choice,
                others,
                seed,
            )
            .holding(identity.capacity)
            .zoned(identity.zones.clone()),
            capacity: identity.capacity,
            array: device.array_state(),
            warned: Vec::new(),
            identity,
            node,
            device,
            watch: Watch::new(prober),
            members,
            wipe: None,
            self_test: None,
            loaded: false,
            looked: Instant::now(),
        })
    }

    /// Once a second: is it still there, is it still as large, how goes its self-test?
    fn look(&mut self) {
        if self.looked.elapsed() < LOOK_EVERY {
            return;
        }
        self.looked = Instant::now();
        if !self.device.exists() {
            return self.mover.is_gone("the kernel no longer shows it");
        }
        let size = self.device.size();
        if size != self.capacity {
            return self.mover.is_gone(&format!("its capacity changed from {} to {size}", self.capacity));
        }
        let state = self.device.array_state();
        if state != self.array {
            // Only what is worse than it was is news; progress of a rebuild is none.
            if state.is_worse_than(&self.array) {
                self.warned.extend(self.device.array_doubts());
            }
            self.array = state;
        }
        if let Some(test) = self.self_test.as_mut().filter(|t| !t.ended) {
            match self.watch.ask(Prober::self_tests) {
                Ok(log) => {
                    self.watch.note_self_test(log.running.map(|r| r.1));
                    test.ended = log.running.is_none();
                }
                // A drive that no longer answers will not answer later either.
                Err(_) => test.ended = true,
            }
        }
    }

    fn erase_whole(&self, by: Erasure) -> Result<Erasing, DriveError> {
        let refused = |why: String| DriveError::Refused {
            target: self.identity.target.clone(),
            doing: "erasing the drive",
            why,
        };
        let Access::Write(writable) = self.mover.access() else {
            return Err(refused("it was opened for reading only".into()));
        };
        let begun = WholeErase::begin(&self.device, writable, by, self.capacity);
        begun.map(|e| Erasing::Whole(Box::new(e))).map_err(refused)
    }

    fn self_test_remark(&self, test: &SelfTest) -> String {
        if !test.ended {
            return match self.watch.ask(|p| p.self_test(None)) {
                Ok(()) => "the self-test was ended before it was complete".into(),
                Err(e) => format!("the self-test could not be ended: {e}"),
            };
        }
        match self.watch.ask(Prober::self_tests) {
            Ok(SelfTestLog { results, .. }) if results.len() > test.before || !results.is_empty() => {
                let r = &results[0];
                let place = r.failing_lba.map(|b| format!(" at block {b}")).unwrap_or_default();
                format!("{} self-test {}{place}", r.kind.words(), r.words)
            }
            Ok(_) => "the self-test ended and left no result in the drive's log".into(),
            Err(e) => format!("the self-test ended; its result cannot be read: {e}"),
        }
    }
}

impl Drive for BlockDrive {
    fn identity(&self) -> &DriveIdentity {
        &self.identity
    }

    fn engine(&self) -> String {
        self.mover.engine()
    }

    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.loaded = load.kind.moves();
        self.watch.under_load(self.loaded);
        self.wipe = match load.kind {
            LoadKind::Wipe if load.erasure.is_whole() => Some(self.erase_whole(load.erasure)?),
            LoadKind::Wipe => {
                let all = match self.identity.zones {
                    Some(_) => zones::report(self.mover.access().descriptor())
                        .map_err(|e| self.mover.refused("asking for the state of its zones", &e))?,
                    None => Vec::new(),
                };
                Some(Erasing::Stretches(Wipe::new(load, &all)))
            }
            _ => None,
        };
        self.self_test = None;
        if let LoadKind::SelfTest { extended } = load.kind {
            let before = self.watch.ask(Prober::self_tests).map_or(0, |l| l.results.len());
            self.watch.ask(|p| p.self_test(Some(extended))).map_err(|why| DriveError::Refused {
                target: self.identity.target.clone(),
                doing: "starting a self-test",
                why,
            })?;
            self.self_test = Some(SelfTest { before, ended: false });
        }
        self.mover.begin(load)
    }

    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        let temperature = self.watch.temperature();
        let mut tally = match &mut self.wipe {
            Some(Erasing::Stretches(wipe)) => wipe.work(&mut self.mover, interval, temperature)?,
            Some(Erasing::Whole(erase)) => erase.work(&mut self.mover, interval, temperature)?,
            None => self.mover.work(interval, temperature)?,
        };
        if tally.errors > 0 && !self.device.exists() {
            self.mover.is_gone("the kernel no longer shows it");
        }
        self.look();
        tally.faults.extend(self.warned.drain(..).map(|message| Fault {
            position: tally.position.unwrap_or_default(),
            kind: FaultKind::Warning,
            message,
        }));
        tally.finished |= self.self_test.as_ref().is_some_and(|t| t.ended);
        Ok(tally)
    }

    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        let wiped = self.wipe.take().map(|w| match w {
            Erasing::Stretches(wipe) => wipe.confirm(&self.node),
            Erasing::Whole(erase) => erase.confirm(&self.node),
        });
        let tested = self.self_test.take().map(|t| self.self_test_remark(&t));
        self.watch.note_self_test(None);
        let summary = self.mover.finish(ending)?;
        self.loaded = false;
        self.watch.under_load(false);
        Ok(LoadSummary { remark: wiped.or(tested), ..summary })
    }

    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        self.mover.flush()
    }

    fn vitals(&mut self) -> Option<Vitals> {
        if !self.loaded {
            self.watch.refresh();
        }
        Some(self.watch.vitals())
    }

    fn ask_health(&mut self, how: Asking) -> bool {
        self.watch.ask_health(how);
        self.members.ask_health(how);
        true
    }

    fn temperatures(&mut self) -> Vec<(String, Celsius)> {
        let mut all = self.watch.temperatures();
        all.extend(self.members.temperatures());
        all
    }

    fn meters(&mut self) -> Vec<MeterReading> {
        self.members.readings()
    }

    fn release(&mut self) -> Result<(), DriveError> {
        self.mover.stop();
        Ok(())
    }
}
