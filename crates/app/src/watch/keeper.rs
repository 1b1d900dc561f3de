//! The process that keeps a haul when its terminal goes: a child of its own session, without a terminal.
//!
//! The one who orders speaks to it over its standard input and output, a line of JSON each: orders; ready, or why not;
//! "go"; the hauls. When the hauls shall end with their starter, the end of its standard input is what tells.

use std::fs::OpenOptions;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, ChildStdin, Command as Process, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::command::Command;
use crate::error::{AppError, Exit};
use crate::metrics::{self, Metrics};
use crate::orders::Orders;
use crate::session::Session;

/// The verb with which the program starts itself.
pub const VERB: &str = "keep-hauls";

/// What is said to a keeper whose hauls shall go on without their starter after all.
const STAY: &str = "stay";

/// What a keeper answers.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Answer {
    /// Every drive is open.
    Ready(Vec<String>),
    /// The hauls have begun.
    Hauls(Vec<String>),
    /// It cannot be, and the exit code of that.
    Not(String, u8),
}

/// Hauls that a process of their own keeps.
pub struct Kept {
    /// Their identifiers, in the order of the drives.
    pub hauls: Vec<String>,
    /// What will not go as it seems to be meant.
    pub doubts: Vec<String>,
    /// They end when this is let go.
    pub ends: bool,
    /// Others come after them, one after the other.
    pub repeats: bool,
    /// Where its standard input is held open: dropped, the hauls end if they were ordered so.
    hold: Option<ChildStdin>,
    process: Child,
}

impl Kept {
    /// Waits for the process when its hauls are over, so that nothing is left of it.
    pub fn reap(&mut self) -> bool {
        matches!(self.process.try_wait(), Ok(Some(_)))
    }

    /// Its hauls go on when this is let go.
    ///
    /// # Errors
    /// When the process does not hear.
    pub fn leave_running(&mut self) -> Result<(), AppError> {
        if let Some(to) = self.hold.as_mut().filter(|_| self.ends) {
            let told = writeln!(to, "{STAY}").and_then(|()| to.flush());
            told.map_err(|e| {
                AppError::machine(format!(
                    "the process that keeps {} does not hear: {e}",
                    self.hauls.join(", ")
                ))
            })?;
        }
        self.ends = false;
        Ok(())
    }

    /// Lets go of it: hauls that end with their starter end now, and this waits for their records.
    pub fn let_go(mut self) {
        drop(self.hold.take());
        if self.ends {
            let _ = self.process.wait();
        }
    }
}

fn read(from: &mut impl BufRead) -> Result<Answer, AppError> {
    let mut line = String::new();
    let gone = |why: String| AppError::usage(format!("the process that should keep the haul is gone: {why}"));
    from.read_line(&mut line).map_err(|e| gone(e.to_string()))?;
    if line.is_empty() {
        return Err(gone("`keeper.log` in the folder of the ledger may say why".into()));
    }
    match serde_json::from_str(&line).map_err(|e| gone(e.to_string()))? {
        Answer::Not(message, code) => {
            let exits = Exit::ALL;
            let exit = exits.into_iter().find(|e| *e as u8 == code).unwrap_or(Exit::Usage);
            Err(AppError { message, exit })
        }
        answer => Ok(answer),
    }
}

/// Starts a process that runs these orders, and waits until its hauls have begun.
///
/// # Errors
/// When a drive cannot be opened, is refused, or the process cannot be had.
pub fn start(orders: &Orders) -> Result<Kept, AppError> {
    let wrong =
        |e: std::io::Error| AppError::usage(format!("no process can be started to keep the haul: {e}"));
    // Its own file, also when a newer one has taken its place.
    let mut process = Process::new("/proc/self/exe")
        .arg0("hollow-mile")
        .arg(VERB)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(log(&orders.home).map_err(wrong)?)
        .spawn()
        .map_err(wrong)?;
    let none = || AppError::usage("the process that should keep the haul has no pipes");
    let mut to = process.stdin.take().ok_or_else(none)?;
    let mut from = BufReader::new(process.stdout.take().ok_or_else(none)?);
    let line = serde_json::to_string(orders).map_err(|e| AppError::machine(format!("no JSON: {e}")))?;
    let begin =
        |to: &mut ChildStdin, from: &mut BufReader<_>| -> Result<(Vec<String>, Vec<String>), AppError> {
            writeln!(to, "{line}").map_err(wrong)?;
            let Answer::Ready(doubts) = read(from)? else { return Err(none()) };
            writeln!(to, "go").map_err(wrong)?;
            let Answer::Hauls(hauls) = read(from)? else { return Err(none()) };
            Ok((doubts, hauls))
        };
    match begin(&mut to, &mut from) {
        Ok((doubts, hauls)) => {
            let (ends, repeats) = (orders.ends_with_starter, orders.repeat > 1);
            Ok(Kept { hauls, doubts, ends, repeats, hold: Some(to), process })
        }
        Err(e) => {
            drop(to);
            let _ = process.wait();
            Err(e)
        }
    }
}

/// Where a keeper's last words go.
pub(crate) fn log(home: &Path) -> std::io::Result<std::fs::File> {
    std::fs::create_dir_all(home)?;
    OpenOptions::new().create(true).append(true).mode(0o600).open(home.join("keeper.log"))
}

fn answer(answer: &Answer) {
    let mut out = std::io::stdout().lock();
    let _ =
        serde_json::to_writer(&mut out, answer).map_err(std::io::Error::from).and_then(|()| writeln!(out));
    let _ = out.flush();
}

/// Keeps hauls, as the process that was started for it.
///
/// # Errors
/// Told to the one who orders, and given here.
pub fn run() -> Result<Exit, AppError> {
    // A session of its own: what is sent to the terminal's processes is not for us.
    let _ = rustix::process::setsid();
    let kept = keep();
    if let Err(e) = &kept {
        answer(&Answer::Not(e.message.clone(), e.exit as u8));
    }
    kept
}

fn keep() -> Result<Exit, AppError> {
    let stop = Arc::new(AtomicBool::new(false));
    let ignored = Arc::new(AtomicBool::new(false));
    for (signal, flag) in [
        (signal_hook::consts::SIGTERM, &stop),
        (signal_hook::consts::SIGINT, &stop),
        (signal_hook::consts::SIGHUP, &ignored),
    ] {
        signal_hook::flag::register(signal, flag.clone())
            .map_err(|e| AppError::machine(format!("signals cannot be heard: {e}")))?;
    }
    let mut from = BufReader::new(std::io::stdin());
    let mut line = String::new();
    let _ = from.read_line(&mut line);
    let orders: Orders = serde_json::from_str(&line)
        .map_err(|e| AppError::usage(format!("`{VERB}` is what the program calls itself with: {e}")))?;
    let mut ready = Some(orders.open(0)?);
    answer(&Answer::Ready(ready.as_ref().map(|r| r.doubts.clone()).unwrap_or_default()));
    line.clear();
    let _ = from.read_line(&mut line);
    if line.trim() != "go" {
        return Ok(Exit::Stopped);
    }
    let metrics = orders.metrics.map(|_| Metrics::default());
    if let Some((at, metrics)) = orders.metrics.zip(metrics.clone()) {
        metrics::serve(at, metrics)?;
    }
    if orders.ends_with_starter {
        let stop = stop.clone();
        let _ = std::thread::Builder::new().name("starter".into()).spawn(move || {
            let mut line = String::new();
            while from.read_line(&mut line).is_ok_and(|n| n > 0) {
                if line.trim() == STAY {
                    return;
                }
                line.clear();
            }
            stop.store(true, Ordering::Relaxed);
        });
    }
    for repeat in 0..orders.repeat.max(1) {
        let opened = match ready.take() {
            Some(ready) => ready,
            None => orders.open(repeat)?,
        };
        let mut sessions = orders.begin(opened, metrics.as_ref())?;
        sessions.iter_mut().for_each(|(_, s)| s.look_away());
        if repeat == 0 {
            answer(&Answer::Hauls(sessions.iter().map(|(_, s)| s.haul.clone()).collect()));
        }
        if !follow(sessions, &stop)? || stop.load(Ordering::Relaxed) {
            break;
        }
    }
    Ok(Exit::Done)
}

/// Waits for every haul. True when all came to their end.
fn follow(sessions: Vec<(String, Session)>, stop: &AtomicBool) -> Result<bool, AppError> {
    let mut asked = false;
    while sessions.iter().any(|(_, s)| !s.is_over()) {
        if stop.load(Ordering::Relaxed) && !asked {
            asked = true;
            sessions.iter().for_each(|(_, s)| s.ask(Command::Stop));
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    let mut whole = true;
    for (_, session) in sessions {
        let outcome = session.finish()?;
        whole &= outcome.state == hollow_mile_core::record::HaulState::Done;
    }
    Ok(whole)
}
