//! The process that runs a drive's queue, one haul after the other, until it is empty. It has no terminal, and ends with none.

use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command as Process, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::Ledger;

use super::{Between, Entry, Queue, change, is_run, runs};
use crate::command::Command;
use crate::error::{AppError, Exit};
use crate::machine;
use crate::targets::Target;

/// The verb with which the program starts itself.
pub const VERB: &str = "keep-queue";
/// How often a paused queue, or one that waits for a drive to cool, looks again.
const LOOK: Duration = Duration::from_millis(250);
/// A drive that is not cool after this will not be.
const COOLING: Duration = Duration::from_secs(2 * 3600);

/// Sees that a process runs this queue.
///
/// # Errors
/// When none can be started.
pub fn start(home: &Path, drive: &str) -> Result<(), AppError> {
    if is_run(home, drive) {
        return Ok(());
    }
    let wrong = |e: std::io::Error| AppError::usage(format!("no process can be started for the queue: {e}"));
    let log = crate::watch::keeper::log(home).map_err(wrong)?;
    let mut child = Process::new("/proc/self/exe")
        .arg0("hollow-mile")
        .args([VERB, drive])
        .env("HOLLOW_MILE_HOME", home)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(log)
        .process_group(0)
        .spawn()
        .map_err(wrong)?;
    // Whoever started it has no part in its end, and leaves nothing of it behind.
    let _ = std::thread::Builder::new().name("queue".into()).spawn(move || child.wait());
    Ok(())
}

/// Runs the queue of a drive until nothing is left in it.
///
/// # Errors
/// When its file cannot be used.
pub fn run(home: &Path, drive: &str) -> Result<Exit, AppError> {
    let _ = rustix::process::setsid();
    let stop = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGTERM, signal_hook::consts::SIGINT] {
        signal_hook::flag::register(signal, stop.clone())
            .map_err(|e| AppError::machine(format!("signals cannot be heard: {e}")))?;
    }
    let mut held = runs(home, drive).ok().flatten();
    if held.is_none() {
        return Ok(Exit::Done);
    }
    // What the process before was at is not under way any more.
    change(home, drive, |q| {
        q.now = None;
        if let Some(entry) = q.taken.take() {
            q.entries.insert(0, *entry);
        }
    })?;
    while !stop.load(Ordering::Relaxed) {
        let next = change(home, drive, |q: &mut Queue| {
            if q.entries.is_empty() {
                return Next::Nothing;
            }
            if q.paused {
                return Next::Paused;
            }
            let entry = q.entries.remove(0);
            q.now = Some(entry.words());
            q.taken = Some(Box::new(entry.clone()));
            q.trouble = None;
            Next::Haul(Box::new(entry))
        })?;
        match next {
            Next::Nothing => {
                // Whoever adds a haul from here on finds nobody who runs it, or is found by this look.
                drop(held.take());
                if change(home, drive, |q| q.entries.is_empty())? {
                    break;
                }
                held = runs(home, drive).ok().flatten();
                if held.is_none() {
                    break;
                }
            }
            Next::Paused => std::thread::sleep(LOOK),
            Next::Haul(entry) => {
                let trouble = match haul(home, drive, &entry, &stop) {
                    Ok(trouble) => trouble,
                    Err(e) => Some((e.message, true)),
                };
                change(home, drive, |q| {
                    (q.now, q.taken) = (None, None);
                    if let Some((why, anew)) = trouble {
                        q.paused = true;
                        q.trouble = Some(why);
                        if anew {
                            q.entries.insert(0, *entry);
                        }
                    }
                })?;
            }
        }
    }
    Ok(Exit::Done)
}

enum Next {
    Nothing,
    Paused,
    Haul(Box<Entry>),
}

/// Runs one haul. Why the queue must not go on, and whether the haul has yet to be made.
fn haul(
    home: &Path,
    drive: &str,
    entry: &Entry,
    stop: &AtomicBool,
) -> Result<Option<(String, bool)>, AppError> {
    if let Some(why) = wait(home, drive, entry.between, stop)? {
        return Ok(Some((why, true)));
    }
    // Paused while it waited: nothing begins.
    while change(home, drive, |q| q.paused)? {
        if stop.load(Ordering::Relaxed) {
            return Ok(Some(("it was stopped while it waited".into(), true)));
        }
        std::thread::sleep(LOOK);
    }
    let sessions = entry.orders.begin(entry.orders.open(0)?, None)?;
    let mut trouble = None;
    let mut asked = false;
    for (_, mut session) in sessions {
        session.look_away();
        let name = session.haul.clone();
        change(home, drive, |q| {
            q.now = Some(format!("haul {name}, {}", entry.words()));
            q.taken = None;
        })?;
        while !session.is_over() {
            if stop.load(Ordering::Relaxed) && !asked {
                asked = true;
                session.ask(Command::Stop);
            }
            std::thread::sleep(LOOK);
        }
        trouble = match session.finish()?.state {
            HaulState::Failed => {
                Some((format!("haul {name} failed: see what it says before you go on"), false))
            }
            HaulState::Stopped => Some((format!("haul {name} was stopped by hand"), false)),
            HaulState::Running | HaulState::Done | HaulState::CutShort => trouble,
        };
    }
    Ok(trouble)
}

/// Waits until a haul may begin. Why it may not, when it never will.
fn wait(home: &Path, drive: &str, between: Between, stop: &AtomicBool) -> Result<Option<String>, AppError> {
    let target = Target::parse(drive)?;
    if !wait_for_drive(home, drive, stop)? {
        return Ok(Some("it was stopped while it waited".into()));
    }
    // A simulated drive begins as it was delivered, in the air that the haul states.
    if matches!(target, Target::Sim(_)) {
        return Ok(None);
    }
    let began = Instant::now();
    let stopped = || stop.load(Ordering::Relaxed);
    while between.rest.is_some_and(|rest| began.elapsed() < rest) {
        if stopped() {
            return Ok(Some("it was stopped while it waited".into()));
        }
        std::thread::sleep(LOOK);
    }
    let Some(goal) = between.cool_to else { return Ok(None) };
    let mut asked: Option<Instant> = None;
    loop {
        if stopped() {
            return Ok(Some("it was stopped while it waited".into()));
        }
        if asked.is_none_or(|a| a.elapsed() >= Duration::from_secs(5)) {
            asked = Some(Instant::now());
            let (_, health) = machine::health(&target, home)?;
            match health.vitals.composite_temperature {
                None => {
                    return Ok(Some(format!(
                        "{drive} tells no temperature, so it cannot be waited for {goal}"
                    )));
                }
                Some(now) if now <= goal => return Ok(None),
                Some(now) if began.elapsed() > COOLING => {
                    return Ok(Some(format!(
                        "{drive} is at {now} after two hours and does not come down to {goal}"
                    )));
                }
                Some(now) => change(home, drive, |q| q.now = Some(format!("cooling to {goal}, {now} now")))?,
            }
        }
        std::thread::sleep(LOOK);
    }
}

/// Waits while a haul that is none of the queue's is under way on the drive. False when it was stopped meanwhile.
fn wait_for_drive(home: &Path, drive: &str, stop: &AtomicBool) -> Result<bool, AppError> {
    let ledger = Ledger::open(home)?;
    let mut told: Option<String> = None;
    while let Some(row) = ledger.under_way()?.into_iter().find(|r| r.drive == drive) {
        if stop.load(Ordering::Relaxed) {
            return Ok(false);
        }
        if told.as_ref() != Some(&row.haul) {
            change(home, drive, |q| q.now = Some(format!("waits for haul {}, {}", row.haul, row.route)))?;
            told = Some(row.haul);
        }
        std::thread::sleep(LOOK);
    }
    Ok(true)
}
