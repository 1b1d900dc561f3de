//! This bench in its fleet: a process of its own takes what the ledger's outbox holds to the server, so that measuring never waits for a
//! network, and what is committed is sent whoever committed it and whoever has left since.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command as Process, Stdio};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hollow_mile_ledger::Ledger;
use hollow_mile_ledger::fleet::{Address, Bench, FleetError, Membership, Mirror, Sender, Sent, benches};
use rustix::fs::{FlockOperation, flock};

use crate::error::{AppError, Exit};

/// The verb with which the program starts itself.
pub const VERB: &str = "keep-fleet";

/// What is committed is looked for so often.
const LOOK: Duration = Duration::from_millis(400);
/// With nothing to send and nothing under way for so long, the process ends; the next commit's program starts another.
const IDLE: Duration = Duration::from_secs(60);
/// After an error it waits, twice as long each time, up to this.
const MOST_WAIT: Duration = Duration::from_secs(30);

impl From<FleetError> for AppError {
    fn from(e: FleetError) -> Self {
        match e {
            FleetError::Ledger(e) => e.into(),
            FleetError::NoServer { .. } | FleetError::Server { .. } | FleetError::File { .. } => {
                Self::machine(e.to_string())
            }
            e => Self::usage(e.to_string()),
        }
    }
}

fn trouble_file(home: &Path) -> PathBuf {
    home.join("fleet-trouble")
}

/// Held by the process that sends.
fn hold(home: &Path) -> Option<File> {
    let path = home.join("locks/.fleet");
    let file = OpenOptions::new().create(true).truncate(false).write(true).mode(0o600).open(path).ok()?;
    flock(&file, FlockOperation::NonBlockingLockExclusive).ok().map(|()| file)
}

/// A process sends for this bench.
#[must_use]
pub fn is_sending(home: &Path) -> bool {
    home.join("locks").exists() && hold(home).is_none()
}

/// What stands in the way of sending, in the sender's words.
#[must_use]
pub fn trouble(home: &Path) -> Option<String> {
    std::fs::read_to_string(trouble_file(home)).ok().filter(|t| !t.is_empty())
}

/// Sees to it that a process sends for this bench, where it is in a fleet. Nothing that goes wrong here is the caller's.
pub fn start(home: &Path) {
    // Asked at every command: most benches are in no fleet.
    if !matches!(Membership::read(home), Ok(Some(m)) if !m.only_reads) || is_sending(home) {
        return;
    }
    let Ok(log) = crate::watch::keeper::log(home) else { return };
    let child = Process::new("/proc/self/exe")
        .arg0("hollow-mile")
        .arg(VERB)
        .env("HOLLOW_MILE_HOME", home)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log)
        .process_group(0)
        .spawn();
    if let Ok(mut child) = child {
        let _ = std::thread::Builder::new().name("fleet".into()).spawn(move || child.wait());
    }
}

/// Sends until nothing is left, telling each step.
///
/// # Errors
/// When the bench is in no fleet, or the server does not take it.
pub fn send(home: &Path, mut tell: impl FnMut(&Sent)) -> Result<(), AppError> {
    let membership = Membership::read(home)?.ok_or(FleetError::NotJoined)?;
    let ledger = Ledger::open(home)?;
    let mut sender = Sender::new(membership)?;
    loop {
        let sent = sender.step(&ledger)?;
        tell(&sent);
        if let Some(why) = sent.refused {
            return Err(AppError::machine(why));
        }
        if !sent.more && ledger.unsent()? == 0 {
            return Ok(());
        }
        // What is under way commits twice a second: whoever asks for all does not ask for its end.
        if !sent.more && ledger.under_way()?.len() as u64 >= ledger.unsent()? {
            return Ok(());
        }
    }
}

/// The sending process: until nothing is left and nothing is under way, or for good.
///
/// # Errors
/// When signals cannot be heard, or the ledger cannot be opened.
pub fn run(home: &Path, for_good: bool) -> Result<Exit, AppError> {
    let _ = rustix::process::setsid();
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT] {
        signal_hook::flag::register(signal, stop.clone())
            .map_err(|e| AppError::machine(format!("signals cannot be heard: {e}")))?;
    }
    let ledger = Ledger::open(home)?;
    // Whoever asks whether one sends holds it for a moment.
    let held = (0..20).find_map(|i| {
        std::thread::sleep(Duration::from_millis(if i == 0 { 0 } else { 50 }));
        hold(home)
    });
    let Some(_held) = held else { return Ok(Exit::Done) };
    let (mut wait, mut idle, mut sender): (_, _, Option<Sender>) = (LOOK, Instant::now(), None);
    while !stop.load(Ordering::Relaxed) {
        // It may leave, or join another, at any moment.
        let Some(membership) = Membership::read(home)?.filter(|m| !m.only_reads) else { break };
        let sending = match &mut sender {
            Some(sender) if *sender.membership() == membership => sender,
            other => other.insert(Sender::new(membership)?),
        };
        match sending.step(&ledger) {
            Ok(sent) => {
                let _ = match &sent.refused {
                    Some(why) => std::fs::write(trouble_file(home), why),
                    None => std::fs::remove_file(trouble_file(home)),
                };
                let busy = sent.hauls > 0 || !ledger.under_way()?.is_empty();
                idle = if busy { Instant::now() } else { idle };
                wait = if sent.more { Duration::ZERO } else { LOOK };
            }
            Err(e) => {
                let _ = std::fs::write(trouble_file(home), e.to_string());
                wait = (wait * 2).clamp(LOOK, MOST_WAIT);
            }
        }
        if !for_good && idle.elapsed() > IDLE {
            break;
        }
        std::thread::sleep(wait);
    }
    Ok(Exit::Done)
}

/// The ledger of the whole fleet, as new as the server lets it be; a server that is away is told, and what is here is read.
///
/// # Errors
/// When the bench is in no fleet.
pub fn ledger_of_all(home: &Path, mut tell: impl FnMut(&str)) -> Result<Ledger, AppError> {
    let mut mirror = Mirror::open(home)?;
    match mirror.pull() {
        Ok(pulled) if pulled.not_taken > 0 => tell(&format!(
            "names, tags, notes or deletions of {} hauls are not taken by the server: this user may not, or later ones stand",
            pulled.not_taken
        )),
        Ok(_) => {}
        Err(e) if e.may_pass() => tell(&format!("{e}; what was read before is shown")),
        Err(e) => return Err(e.into()),
    }
    Ok(mirror.into_ledger())
}

/// The ledger of the whole fleet as it was when it was last followed, no server asked; `None` where the bench is in no fleet, or never
/// followed it.
#[must_use]
pub fn ledger_at_hand(home: &Path) -> Option<Ledger> {
    Mirror::is_here(home).then(|| Mirror::open(home).ok()).flatten().map(Mirror::into_ledger)
}

/// Follows the server into the mirror, so that whoever reads it sees what other benches do.
pub struct Following {
    stop: Arc<AtomicBool>,
    told: Arc<Mutex<Option<ToldOfBenches>>>,
}

/// What the server says of the benches, or why it says nothing.
pub type ToldOfBenches = Result<Vec<Bench>, String>;

impl Following {
    /// Begins, on a thread of its own.
    ///
    /// # Errors
    /// When no thread can be had.
    pub fn begin(home: &Path, every: Duration) -> std::io::Result<Self> {
        let (stop, home) = (Arc::new(AtomicBool::new(false)), home.to_owned());
        let (asked, told) = (stop.clone(), Arc::<Mutex<Option<ToldOfBenches>>>::default());
        let tell = told.clone();
        std::thread::Builder::new().name("fleet".into()).spawn(move || {
            while !asked.load(Ordering::Relaxed) {
                if let Ok(mut mirror) = Mirror::open(&home) {
                    let _ = mirror.pull();
                }
                let benches = address(&home).and_then(|a| Ok(benches(&a)?)).map_err(|e| e.message);
                *tell.lock().unwrap_or_else(PoisonError::into_inner) = Some(benches);
                std::thread::sleep(every);
            }
        })?;
        Ok(Self { stop, told })
    }

    /// What is new of the benches since it was asked last.
    #[must_use]
    pub fn benches(&self) -> Option<ToldOfBenches> {
        self.told.lock().unwrap_or_else(PoisonError::into_inner).take()
    }
}

impl Drop for Following {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

/// The fleet's server, as this bench knows it.
///
/// # Errors
/// When the bench is in no fleet.
pub fn address(home: &Path) -> Result<Address, AppError> {
    Ok(Membership::read(home)?.ok_or(FleetError::NotJoined)?.address()?)
}
