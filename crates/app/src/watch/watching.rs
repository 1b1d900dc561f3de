//! The other end of the socket: follows a haul that another process keeps.

use std::io::{IsTerminal, Read, Write};
use std::net::Shutdown;
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crossbeam_channel::{Receiver, Sender, TryRecvError, bounded};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_ledger::Ledger;

use super::frame::{Desk, Frames, Hello, Message, Said, VERSION};
use crate::command::Command;
use crate::error::AppError;
use crate::session::Over;

/// Batches that may wait for the one who looks; with more the haul lets us go, and we come again.
const BACKLOG: usize = 64;
/// Events that are handed over at once while the ledger is read.
const BATCH: usize = 4096;
/// Between two tries to reach a haul that is under way and does not answer.
const AGAIN: Duration = Duration::from_millis(500);

#[derive(Debug, Default)]
struct Shared {
    desk: Option<Desk>,
    refused: Option<String>,
    /// Where to speak to; none while nobody is there.
    to: Option<UnixStream>,
}

/// A haul that another process keeps, as it happens.
pub struct Watching {
    /// Its identifier.
    pub haul: String,
    /// Its drive computes its own time.
    pub simulated: bool,
    /// It ends when the terminal that started it goes.
    pub ends_with_starter: bool,
    events: Receiver<Vec<Event>>,
    shared: Arc<Mutex<Shared>>,
    gone: Arc<AtomicBool>,
}

fn lock(shared: &Mutex<Shared>) -> MutexGuard<'_, Shared> {
    shared.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Who we are, as others at the controls are told: the terminal's name.
fn who() -> String {
    let input = std::io::stdin();
    let name = if input.is_terminal() { rustix::termios::ttyname(&input, Vec::new()).ok() } else { None };
    let name = name.and_then(|n| n.into_string().ok());
    name.map_or_else(|| "a program".into(), |n| n.trim_start_matches("/dev/").to_owned())
}

/// A stream to the haul, and the first thing that it said.
fn connect(home: &Path, haul: &str) -> Result<(UnixStream, Hello, Frames), AppError> {
    let wrong = |why: String| AppError::usage(format!("haul {haul} cannot be watched: {why}"));
    let (folder, path) = super::socket(home, haul).map_err(|e| wrong(e.to_string()))?;
    let mut stream = UnixStream::connect(path).map_err(|e| wrong(e.to_string()))?;
    drop(folder);
    stream.set_read_timeout(Some(Duration::from_secs(10))).map_err(|e| wrong(e.to_string()))?;
    let mut frames = Frames::default();
    say(&stream, &Said::Who(who()));
    let mut part = [0; 65536];
    loop {
        if let Some(message) = frames.next().map_err(wrong)? {
            let Message::Said(Said::Hello(hello)) = message else {
                return Err(wrong("it did not greet".into()));
            };
            if hello.version != VERSION {
                return Err(wrong(format!(
                    "it is kept by another version of the program (process {}): watch it with that one",
                    hello.process
                )));
            }
            stream.set_read_timeout(None).map_err(|e| wrong(e.to_string()))?;
            return Ok((stream, *hello, frames));
        }
        match stream.read(&mut part) {
            Ok(0) => return Err(wrong("it has just ended, or has no place for one more watcher".into())),
            Ok(n) => frames.take(&part[..n]),
            Err(e) => return Err(wrong(e.to_string())),
        }
    }
}

fn say(mut to: &UnixStream, said: &Said) {
    if let Ok(bytes) = Message::Said(said.clone()).to_bytes() {
        let _ = to.write_all(&bytes);
    }
}

/// Says one thing to a haul under way, and hears whether it is done: the controls as they are then.
///
/// # Errors
/// When it is not under way, or somebody else holds the controls.
pub fn tell(home: &Path, haul: &str, command: Command, over: bool) -> Result<Desk, AppError> {
    let (mut stream, hello, mut frames) = connect(home, haul)?;
    if over {
        say(&stream, &Said::Take { over });
    }
    say(&stream, &Said::Do(command));
    let _ = stream.set_read_timeout(Some(Duration::from_secs(10)));
    let mut part = [0; 4096];
    let mut desk = hello.desk;
    let mut taken = !over;
    loop {
        while let Some(message) = frames.next().map_err(AppError::usage)? {
            match message {
                Message::Said(Said::Refused(why)) => {
                    return Err(AppError::usage(format!("haul {haul} did not do it: {why}")));
                }
                // The controls are told once for the taking, and once for the doing.
                Message::Said(Said::Desk(now)) if now.yours && !taken => taken = true,
                Message::Said(Said::Desk(now)) if now.yours => return Ok(now),
                Message::Said(Said::Desk(now)) => desk = now,
                _ => {}
            }
        }
        match stream.read(&mut part) {
            // It was told to end, and did.
            Ok(0) => return Ok(desk),
            Ok(n) => frames.take(&part[..n]),
            Err(e) => return Err(AppError::usage(format!("haul {haul} does not answer: {e}"))),
        }
    }
}

/// What a haul under way says of itself.
///
/// # Errors
/// When it is not under way, or does not answer.
pub fn greet(home: &Path, haul: &str) -> Result<Hello, AppError> {
    connect(home, haul).map(|(_, hello, _)| hello)
}

impl Watching {
    /// Begins to watch a haul under way.
    ///
    /// # Errors
    /// When it is not under way, or does not answer.
    pub fn attach(home: &Path, haul: &str) -> Result<Self, AppError> {
        let (stream, hello, frames) = connect(home, haul)?;
        let (give, events) = bounded(BACKLOG);
        let shared = Arc::new(Mutex::new(Shared { desk: Some(hello.desk.clone()), ..Shared::default() }));
        let gone = Arc::new(AtomicBool::new(false));
        let mut follower = Follower {
            home: home.to_owned(),
            haul: haul.to_owned(),
            give,
            shared: shared.clone(),
            gone: gone.clone(),
            seen: 0,
            ended: false,
        };
        let (simulated, ends_with_starter) = (hello.simulated, hello.ends_with_starter);
        std::thread::Builder::new()
            .name("watch".into())
            .spawn(move || follower.run(stream, &hello, frames))
            .map_err(|e| AppError::machine(format!("no thread to watch with: {e}")))?;
        Ok(Self { haul: haul.to_owned(), simulated, ends_with_starter, events, shared, gone })
    }

    fn say(&self, said: &Said) {
        if let Some(to) = &lock(&self.shared).to {
            say(to, said);
        }
    }

    /// Asks for something; who has the controls decides.
    pub fn ask(&self, command: Command) {
        self.say(&Said::Do(command));
    }

    /// Takes the controls, from another too, or gives them up.
    pub fn hold(&self, take: bool) {
        self.say(&if take { Said::Take { over: true } } else { Said::Release });
    }

    /// The controls as they were told last.
    #[must_use]
    pub fn desk(&self) -> Option<Desk> {
        lock(&self.shared).desk.clone()
    }

    /// Why the last thing asked was not done; told once.
    #[must_use]
    pub fn refused(&self) -> Option<String> {
        lock(&self.shared).refused.take()
    }

    /// The next events if there are any now; an error when the haul is over and all were taken.
    ///
    /// # Errors
    /// When there will be no more.
    pub fn try_events(&self) -> Result<Option<Vec<Event>>, Over> {
        match self.events.try_recv() {
            Ok(events) => Ok(Some(events)),
            Err(TryRecvError::Empty) => Ok(None),
            Err(TryRecvError::Disconnected) => Err(Over),
        }
    }
}

impl Drop for Watching {
    fn drop(&mut self) {
        self.gone.store(true, Ordering::Relaxed);
        if let Some(to) = &lock(&self.shared).to {
            let _ = to.shutdown(Shutdown::Both);
        }
    }
}

/// The thread of a watcher.
struct Follower {
    home: PathBuf,
    haul: String,
    give: Sender<Vec<Event>>,
    shared: Arc<Mutex<Shared>>,
    gone: Arc<AtomicBool>,
    /// Events that were handed over.
    seen: u64,
    ended: bool,
}

impl Follower {
    fn run(&mut self, stream: UnixStream, hello: &Hello, frames: Frames) {
        self.listen(stream, hello, frames);
        while !self.ended && !self.gone.load(Ordering::Relaxed) {
            // Let go because we were slow, or the haul's process is no more: the ledger knows.
            match connect(&self.home, &self.haul) {
                Ok((stream, hello, frames)) => self.listen(stream, &hello, frames),
                Err(_) => {
                    let state = Ledger::open(&self.home).and_then(|l| Ok(l.haul(&self.haul)?.state));
                    if matches!(state, Ok(HaulState::Running)) {
                        std::thread::sleep(AGAIN);
                        continue;
                    }
                    self.catch_up(u64::MAX);
                    return;
                }
            }
        }
    }

    fn hand_over(&mut self, events: Vec<Event>) -> bool {
        self.seen += events.len() as u64;
        self.ended |= events.iter().any(|e| matches!(e, Event::HaulEnded { .. }));
        events.is_empty() || self.give.send(events).is_ok()
    }

    /// Hands over what the ledger has and we have not, up to `events` from the beginning. False when nobody looks.
    fn catch_up(&mut self, events: u64) -> bool {
        if self.seen >= events {
            return true;
        }
        let Ok(ledger) = Ledger::open(&self.home) else { return true };
        let (mut at, from, mut batch) = (0, self.seen, Vec::with_capacity(BATCH));
        let mut looks = true;
        let haul = self.haul.clone();
        let _ = ledger.replay(&haul, |e| {
            if at >= from && at < events && looks {
                batch.push(e.clone());
                if batch.len() >= BATCH {
                    looks = self.hand_over(std::mem::replace(&mut batch, Vec::with_capacity(BATCH)));
                }
            }
            at += 1;
        });
        looks && self.hand_over(batch)
    }

    fn listen(&mut self, mut stream: UnixStream, hello: &Hello, mut frames: Frames) {
        let mut shared = lock(&self.shared);
        shared.desk = Some(hello.desk.clone());
        shared.to = stream.try_clone().ok();
        drop(shared);
        if self.catch_up(hello.events) {
            let mut part = vec![0; 65536];
            'stream: loop {
                loop {
                    match frames.next() {
                        Ok(Some(Message::Events(events))) => {
                            if !self.hand_over(events) {
                                break 'stream;
                            }
                        }
                        Ok(Some(Message::Said(Said::Desk(desk)))) => lock(&self.shared).desk = Some(desk),
                        Ok(Some(Message::Said(Said::Refused(why)))) => lock(&self.shared).refused = Some(why),
                        Ok(Some(_)) => {}
                        Ok(None) => break,
                        Err(_) => break 'stream,
                    }
                }
                match stream.read(&mut part) {
                    Ok(n @ 1..) => frames.take(&part[..n]),
                    _ => break,
                }
            }
        }
        let _ = stream.shutdown(Shutdown::Both);
        lock(&self.shared).to = None;
    }
}
