//! Erases a whole drive by its own commands, which nothing stops once they have begun, and reads back whether what was there is gone.

use std::fs::File;
use std::io::{Error, Result};
use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::protocol::nvme_erase::{
    EXIT_FAILURE_MODE, FORMAT, Offers, SANITIZE, STATUS_LENGTH, STATUS_LOG, Stands, format_dword, namespaces,
    sanitize_dwords, sanitize_status,
};
use hollow_mile_core::drive::{DriveError, Tally};
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::erase_ata;
use super::guard::{EraseCommand, Writable};
use super::health::{nvme_identify, nvme_log};
use super::mover::Mover;
use super::pass_through::{ALL_NAMESPACES, nvme_namespace};
use super::sysfs::BlockDevice;
use super::wipe::Places;

/// So often the drive is asked how far it is.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// A format may take hours; the command comes back when it is over.
const LONGEST_FORMAT_MS: u32 = 12 * 3600 * 1000;
/// A sanitize begins within this, and goes on by itself.
const BEGINS_MS: u32 = 60_000;

/// What there is to erase an NVMe drive by.
struct Controller {
    file: File,
    namespace: u32,
    offers: Offers,
}

impl Controller {
    fn of(device: &BlockDevice) -> std::result::Result<Self, String> {
        let ask = |e: Error| format!("what it offers to erase cannot be asked: {e}");
        let file = File::open(device.node()).map_err(ask)?;
        let namespace = nvme_namespace(&file).map_err(ask)?;
        let page = nvme_identify(&file, 0, 1).map_err(ask)?;
        Ok(Self { file, namespace, offers: Offers::decode(&page).map_err(|e| e.to_string())? })
    }

    /// Every namespace that it shows, also those that are attached to nobody where it can have such.
    fn all_namespaces(&self) -> std::result::Result<Vec<u32>, String> {
        let list = |cns: u32| {
            let page = nvme_identify(&self.file, 0, cns).map_err(|e| e.to_string())?;
            namespaces(&page).map_err(|e| e.to_string())
        };
        let mut all = list(0x02)?;
        if self.offers.manages_namespaces {
            all.extend(list(0x10)?);
        }
        all.sort_unstable();
        all.dedup();
        Ok(all)
    }
}

/// Whether a drive may be erased in these ways: it is a whole drive, offers each of them, and none of them reaches what is not asked
/// for.
///
/// # Errors
/// Why not.
pub(super) fn may_erase(device: &BlockDevice, ways: &[Erasure]) -> std::result::Result<(), String> {
    if device.whole.is_some() {
        return Err(format!("it is a part of {}, and all of that would be erased", device.disk().name));
    }
    match device.transport().as_str() {
        "nvme" => {}
        "ata" => return erase_ata::may_erase(device, ways),
        other => {
            return Err(format!(
                "a {other} device takes none of these commands here: wipe it by discard or write-zeroes, or write it over"
            ));
        }
    }
    let controller = Controller::of(device)?;
    for by in ways {
        if !controller.offers.has(*by) {
            return Err(format!(
                "the drive does not offer {by}; it offers {}",
                offered(|e| controller.offers.has(e))
            ));
        }
    }
    let Some(by) = ways.iter().find(|by| controller.offers.reaches_all(**by)) else { return Ok(()) };
    let all = controller.all_namespaces();
    let all = all.map_err(|e| {
        format!("{by} erases every namespace of the drive, and which there are is not known: {e}")
    })?;
    let others: Vec<String> =
        all.iter().filter(|n| **n != controller.namespace).map(ToString::to_string).collect();
    if !others.is_empty() {
        return Err(format!(
            "{by} would erase its other namespaces too ({}): remove them first, or wipe this one by discard",
            others.join(", ")
        ));
    }
    if controller.offers.has_siblings && !controller.offers.manages_namespaces {
        return Err(format!(
            "{by} would erase what other controllers of the drive show, and this one cannot tell what that is"
        ));
    }
    Ok(())
}

/// What is offered, in the words of a route.
pub(super) fn offered(has: impl Fn(Erasure) -> bool) -> String {
    Erasure::ALL.into_iter().filter(|e| has(*e)).map(Erasure::word).collect::<Vec<_>>().join(", ")
}

/// The commands by which a drive is erased, and asked how far it is.
pub(super) trait Commands: Send {
    /// Begins. Returns at once.
    fn begin(&mut self) -> Result<()>;
    /// How it stands.
    fn stands(&mut self) -> Result<Stands>;
    /// Leaves the state in which a failed one leaves the drive.
    fn give_up(&mut self) {}
}

/// One command that comes back when it is over, on a thread of its own.
#[derive(Default)]
pub(super) struct OnThread(Option<Arc<Mutex<Option<Result<()>>>>>);

impl OnThread {
    /// Begins.
    ///
    /// # Errors
    /// When no thread can be had.
    pub fn begin(&mut self, command: impl FnOnce() -> Result<()> + Send + 'static) -> Result<()> {
        let over = Arc::<Mutex<_>>::default();
        self.0 = Some(over.clone());
        std::thread::Builder::new().name("erase".into()).spawn(move || {
            let result = command();
            *over.lock().unwrap_or_else(PoisonError::into_inner) = Some(result);
        })?;
        Ok(())
    }

    /// How it stands. What it came to is told once.
    ///
    /// # Errors
    /// What the command says.
    pub fn stands(&self) -> Result<Stands> {
        let Some(over) = &self.0 else { return Ok(Stands::Never) };
        match over.lock().unwrap_or_else(PoisonError::into_inner).take() {
            None => Ok(Stands::Under(None)),
            Some(Ok(())) => Ok(Stands::Completed),
            Some(Err(e)) => Err(e),
        }
    }
}

/// Format NVM.
struct Format {
    writable: Arc<Writable>,
    by: Erasure,
    namespace: u32,
    dword: u32,
    command: OnThread,
}

impl Commands for Format {
    fn begin(&mut self) -> Result<()> {
        let (writable, by) = (self.writable.clone(), self.by);
        let command = EraseCommand::Nvme((FORMAT, self.namespace, self.dword, 0));
        self.command.begin(move || writable.erase_whole(by, &command, LONGEST_FORMAT_MS))
    }

    fn stands(&mut self) -> Result<Stands> {
        self.command.stands()
    }
}

/// Sanitize: begun by one command, asked for by its log page, and goes on through resets and losses of power (Base 2.0, 8.21).
struct Sanitize {
    writable: Arc<Writable>,
    by: Erasure,
    dwords: (u32, u32),
    file: File,
}

impl Commands for Sanitize {
    fn begin(&mut self) -> Result<()> {
        let command = EraseCommand::Nvme((SANITIZE, 0, self.dwords.0, self.dwords.1));
        self.writable.erase_whole(self.by, &command, BEGINS_MS)
    }

    fn stands(&mut self) -> Result<Stands> {
        let page = nvme_log(&self.file, STATUS_LOG, ALL_NAMESPACES, STATUS_LENGTH)?;
        sanitize_status(&page).map_err(Error::other)
    }

    fn give_up(&mut self) {
        let command = EraseCommand::Nvme((SANITIZE, 0, EXIT_FAILURE_MODE, 0));
        let _ = self.writable.erase_whole(self.by, &command, BEGINS_MS);
    }
}

/// A drive that is being erased.
pub(super) struct WholeErase {
    by: Erasure,
    commands: Box<dyn Commands>,
    capacity: Bytes,
    /// What lay at places all over the drive before.
    before: Result<Places>,
    /// It was under way when it was looked at first.
    followed: bool,
    looked: Option<Instant>,
    stands: Stands,
}

impl WholeErase {
    /// Begins with it, or follows one that is under way already, as after a loss of power.
    ///
    /// # Errors
    /// What the drive says.
    pub fn begin(
        device: &BlockDevice,
        writable: &Arc<Writable>,
        by: Erasure,
        capacity: Bytes,
    ) -> std::result::Result<Self, String> {
        // Looked at again: what was so when the drive was opened may be so no longer.
        may_erase(device, &[by])?;
        let words = |e: Error| e.to_string();
        if device.transport() == "ata" {
            let commands = erase_ata::commands(device, writable, by)?;
            let before = Places::read(&device.node(), 0, capacity.get());
            return Self::with(commands, by, capacity, before).map_err(words);
        }
        let controller = Controller::of(device)?;
        let commands: Box<dyn Commands> = if let Some(dwords) = sanitize_dwords(by) {
            Box::new(Sanitize { writable: writable.clone(), by, dwords, file: controller.file })
        } else {
            let page = nvme_identify(&controller.file, controller.namespace, 0).map_err(words)?;
            let dword = format_dword(&page, by).map_err(|e| e.to_string())?;
            let dword = dword.ok_or("this is no way to erase a whole drive")?;
            let (writable, namespace) = (writable.clone(), controller.namespace);
            Box::new(Format { writable, by, namespace, dword, command: OnThread::default() })
        };
        let before = Places::read(&device.node(), 0, capacity.get());
        Self::with(commands, by, capacity, before).map_err(words)
    }

    fn with(
        mut commands: Box<dyn Commands>,
        by: Erasure,
        capacity: Bytes,
        before: Result<Places>,
    ) -> Result<Self> {
        let followed = matches!(commands.stands()?, Stands::Under(_));
        if !followed {
            commands.begin()?;
        }
        Ok(Self { by, commands, capacity, before, followed, looked: None, stands: Stands::Under(None) })
    }

    /// Waits for the interval, and tells how far the drive is.
    ///
    /// # Errors
    /// When the drive fails to erase itself.
    pub fn work(
        &mut self,
        mover: &mut Mover,
        interval: Duration,
        temperature: Option<Celsius>,
    ) -> std::result::Result<Tally, DriveError> {
        let deadline = mover.deadline(interval);
        std::thread::sleep(deadline.saturating_duration_since(Instant::now()));
        if self.looked.is_none_or(|l| l.elapsed() >= LOOK_EVERY) {
            self.look().map_err(|e| mover.refused("erasing the drive", &e))?;
        }
        Ok(Tally {
            took: mover.lap(),
            position: self.done().map(|d| self.capacity.share(d)),
            temperature,
            finished: self.stands == Stands::Completed,
            ..Tally::default()
        })
    }

    fn look(&mut self) -> Result<()> {
        self.looked = Some(Instant::now());
        self.stands = self.commands.stands()?;
        match self.stands {
            Stands::Under(_) | Stands::Completed => Ok(()),
            Stands::Failed => {
                self.commands.give_up();
                Err(Error::other(
                    "the drive says that it failed, half way perhaps: nothing is known of what is still there",
                ))
            }
            Stands::Never => Err(Error::other("the drive says that it never began")),
        }
    }

    /// The share that is done, where the drive tells it.
    fn done(&self) -> Option<f64> {
        match self.stands {
            Stands::Under(parts) => parts.map(|p| f64::from(p) / 65_536.0),
            Stands::Completed => Some(1.0),
            Stands::Never | Stands::Failed => None,
        }
    }

    /// Reads back what was looked at before, and says what came of it.
    pub fn confirm(&self, path: &Path) -> String {
        match self.stands {
            Stands::Completed => {}
            Stands::Failed => return format!("{} failed: nothing is known of what is still there", self.by),
            Stands::Never => return format!("{} never began", self.by),
            Stands::Under(_) => {
                let done = self.done().map(|d| format!(", {:.0} % done", d * 100.0)).unwrap_or_default();
                return format!(
                    "{} was under way{done} when the leg ended; nothing stops it, and the drive goes on",
                    self.by
                );
            }
        }
        let after = Places::read(path, 0, self.capacity.get());
        self.told(self.before.as_ref().map_err(ToString::to_string), after)
    }

    fn told(&self, before: std::result::Result<&Places, String>, after: Result<Places>) -> String {
        let followed = if self.followed { ", which was under way already" } else { "" };
        let done = format!("{} {}{followed}", self.capacity, self.by.done());
        match (before, after) {
            (Ok(before), Ok(after)) => {
                let (same, of) = before.same_in(&after);
                match (same, of) {
                    (_, 0) => format!(
                        "{done}; no place that was looked at held data before, so reading back proves nothing"
                    ),
                    (0, of) => format!("{done}; none of {of} places that held data reads back as before"),
                    (same, of) => format!(
                        "{done}, but {same} of {of} places that held data read back as before: the drive did not do what it said"
                    ),
                }
            }
            (Err(e), _) => format!("{done}; what was there before could not be read: {e}"),
            (_, Err(e)) => format!("{done}; reading back failed: {e}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A drive that says these things one after the other.
    struct Says(Vec<Stands>, Arc<Mutex<Vec<&'static str>>>);

    impl Commands for Says {
        fn begin(&mut self) -> Result<()> {
            self.1.lock().unwrap().push("begin");
            Ok(())
        }
        fn stands(&mut self) -> Result<Stands> {
            Ok(if self.0.len() > 1 { self.0.remove(0) } else { self.0[0] })
        }
        fn give_up(&mut self) {
            self.1.lock().unwrap().push("give up");
        }
    }

    fn erase(says: &[Stands]) -> (WholeErase, Arc<Mutex<Vec<&'static str>>>) {
        let told = Arc::<Mutex<Vec<_>>>::default();
        let commands = Box::new(Says(says.to_vec(), told.clone()));
        let by = Erasure::SanitizeCrypto;
        (WholeErase::with(commands, by, Bytes::from_gb(1), Ok(Places::default())).unwrap(), told)
    }

    #[test]
    fn one_that_is_under_way_is_followed_and_not_begun_again() {
        let under = |parts| Stands::Under(Some(parts));
        let (mut erase, told) = erase(&[under(100), under(32_768), Stands::Completed]);
        assert!(erase.confirm(Path::new("/")).contains("was under way when the leg ended"), "not told yet");
        erase.look().unwrap();
        assert_eq!((erase.done(), told.lock().unwrap().len()), (Some(0.5), 0));
        assert!(erase.confirm(Path::new("/")).contains(", 50 % done when the leg ended; nothing stops it"));
        erase.look().unwrap();
        assert_eq!(erase.done(), Some(1.0));
        let place = |value| Places::of(vec![Some(value), None]);
        let said = erase.told(Ok(&place(7)), Ok(place(8)));
        assert_eq!(
            said,
            "1 GB sanitized by crypto erase, which was under way already; none of 1 places that held data reads back as before"
        );
    }

    #[test]
    fn what_fails_is_an_error_and_the_drive_is_led_out_of_it() {
        let (mut failed, told) = erase(&[Stands::Completed, Stands::Under(Some(9)), Stands::Failed]);
        failed.look().unwrap();
        assert!(failed.look().unwrap_err().to_string().contains("half way perhaps"));
        assert!(failed.confirm(Path::new("/")).contains("sanitize-crypto failed"));
        assert_eq!(*told.lock().unwrap(), ["begin", "give up"], "the one before it was another");
        let (mut deaf, _) = erase(&[Stands::Never, Stands::Never]);
        assert!(deaf.look().unwrap_err().to_string().contains("never began"));
    }

    #[test]
    fn data_that_is_still_there_is_said() {
        let (erase, _) = erase(&[Stands::Never, Stands::Completed]);
        let place = |value| Places::of(vec![Some(value), Some(3), None]);
        let said = erase.told(Ok(&place(7)), Ok(place(8)));
        assert!(said.contains("but 1 of 2 places that held data read back as before"), "{said}");
        let blank = Places::of(vec![None, None]);
        assert!(erase.told(Ok(&blank), Ok(blank.clone())).contains("proves nothing"));
        let broken = erase.told(Ok(&place(7)), Err(Error::other("gone")));
        assert!(broken.ends_with("reading back failed: gone"), "{broken}");
    }
}
