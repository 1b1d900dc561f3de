//! The socket of a haul under way: lets watchers in, tells them what happens, and heeds the one at the controls.

use std::io::{Read, Write};
use std::net::Shutdown;
use std::os::fd::AsFd;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use crossbeam_channel::{Receiver, Sender, bounded, unbounded};
use hollow_mile_core::record::Event;
use rustix::event::{PollFd, PollFlags, Timespec, poll};

use super::frame::{Desk, Frames, Hello, Message, Said, VERSION};
use crate::command::{Command, Speed};
use crate::error::AppError;
use crate::told::words::printable;

/// As many as anybody has terminals.
const MOST_WATCHERS: usize = 64;
/// Messages that wait for a watcher who is slow; with one more it is let go, and comes again.
const BACKLOG: usize = 256;
/// How long a simulated haul, which has no time to lose, waits for a watcher.
const COURTESY: Duration = Duration::from_millis(500);
/// A watcher says who it is at once; one that does not is let go after this.
const SILENCE: Duration = Duration::from_secs(5);
/// How long the kernel may take a message from us.
const PATIENCE: Duration = Duration::from_secs(5);

/// A frame, made once for all.
type Frame = Arc<Vec<u8>>;

struct Watcher {
    id: u64,
    give: Sender<Frame>,
}

#[derive(Default)]
struct Seats {
    /// Those that were let in at the door, whether they watch already or not, in the order in which they came; what ends
    /// a connection.
    connected: Vec<(u64, UnixStream)>,
    watchers: Vec<Watcher>,
    holder: Option<(u64, String)>,
    paused: bool,
    speed: Option<Speed>,
}

struct Shared {
    seats: Mutex<Seats>,
    commands: Sender<Command>,
    closed: AtomicBool,
    next: AtomicU64,
    simulated: bool,
}

/// Somebody who asks to watch; the scribe lets them in between two events.
pub struct Join {
    id: u64,
    give: Sender<Frame>,
}

/// What a post says of its haul.
pub struct About {
    /// Which haul.
    pub haul: String,
    /// Its drive, as the user named it.
    pub drive: String,
    /// Its route.
    pub route: String,
    /// The drive computes its own time.
    pub simulated: bool,
    /// It ends when the terminal that started it goes.
    pub ends_with_starter: bool,
    /// How fast a simulated clock runs at first.
    pub speed: Speed,
}

/// The socket, open until this is dropped.
pub struct Post {
    shared: Arc<Shared>,
    about: About,
    /// Who asks to watch.
    pub joins: Receiver<Join>,
    path: PathBuf,
}

fn seats(shared: &Shared) -> MutexGuard<'_, Seats> {
    shared.seats.lock().unwrap_or_else(PoisonError::into_inner)
}

fn frame(message: &Message) -> Option<Frame> {
    message.to_bytes().ok().map(Arc::new)
}

impl Seats {
    fn desk(&self, id: u64) -> Desk {
        Desk {
            paused: self.paused,
            speed: self.speed.unwrap_or(Speed::Most),
            holder: self.holder.as_ref().map(|(_, who)| who.clone()),
            yours: self.holder.as_ref().is_some_and(|(h, _)| *h == id),
            watchers: u32::try_from(self.watchers.len()).unwrap_or(u32::MAX),
        }
    }

    fn answer(&self, id: u64, message: &Message) {
        let watcher = self.watchers.iter().find(|w| w.id == id);
        if let Some((watcher, frame)) = watcher.zip(frame(message)) {
            let _ = watcher.give.try_send(frame);
        }
    }

    fn tell_desk(&self) {
        for w in &self.watchers {
            self.answer(w.id, &Message::Said(Said::Desk(self.desk(w.id))));
        }
    }

    /// Makes room for one more. The one at the controls stays; of the others, who came first goes, and may come again.
    fn make_room(&mut self) {
        while self.connected.len() >= MOST_WATCHERS {
            let holder = self.holder.as_ref().map(|(h, _)| *h);
            let Some(first) = self.connected.iter().map(|(id, _)| *id).find(|id| Some(*id) != holder) else {
                return;
            };
            self.leave(first);
        }
    }

    fn leave(&mut self, id: u64) {
        if let Some(at) = self.connected.iter().position(|(c, _)| *c == id) {
            // Both of its threads end by this.
            let _ = self.connected.remove(at).1.shutdown(Shutdown::Both);
        }
        self.watchers.retain(|w| w.id != id);
        if self.holder.as_ref().is_some_and(|(h, _)| *h == id) {
            self.holder = None;
        }
        self.tell_desk();
    }
}

impl Post {
    /// Opens the socket of a haul.
    ///
    /// # Errors
    /// When the folder cannot be made or the socket not be bound.
    pub fn open(home: &Path, about: About, commands: Sender<Command>) -> Result<Self, AppError> {
        let path = super::folder(home).join(format!("{}.socket", about.haul));
        let wrong = |e: &std::io::Error| AppError::file(&path, "made", e);
        let (folder, short) = super::socket(home, &about.haul).map_err(|e| wrong(&e))?;
        // The number of a haul is new: a file of this name belongs to nobody.
        let _ = std::fs::remove_file(&path);
        let listener = UnixListener::bind(&short).map_err(|e| wrong(&e))?;
        std::fs::set_permissions(&short, std::fs::Permissions::from_mode(0o600)).map_err(|e| wrong(&e))?;
        listener.set_nonblocking(true).map_err(|e| wrong(&e))?;
        drop(folder);
        let shared = Arc::new(Shared {
            seats: Mutex::new(Seats { speed: Some(about.speed), ..Seats::default() }),
            commands,
            closed: AtomicBool::new(false),
            next: AtomicU64::new(1),
            simulated: about.simulated,
        });
        let (knock, joins) = unbounded();
        let door = shared.clone();
        std::thread::Builder::new()
            .name("post".into())
            .spawn(move || let_in(&listener, &door, &knock))
            .map_err(|e| wrong(&e))?;
        Ok(Self { shared, about, joins, path })
    }

    /// Lets a watcher in: what came before, `events` of them, is in the ledger; the rest is told.
    pub fn admit(&self, join: Join, events: u64) {
        let mut seats = seats(&self.shared);
        let hello = Hello {
            version: VERSION,
            haul: self.about.haul.clone(),
            drive: self.about.drive.clone(),
            route: self.about.route.clone(),
            process: std::process::id(),
            events,
            simulated: self.about.simulated,
            ends_with_starter: self.about.ends_with_starter,
            desk: seats.desk(join.id),
        };
        // It may have gone meanwhile.
        if let Some(hello) = frame(&Message::Said(Said::Hello(Box::new(hello))))
            && seats.connected.iter().any(|(id, _)| *id == join.id)
            && join.give.try_send(hello).is_ok()
        {
            seats.watchers.push(Watcher { id: join.id, give: join.give });
        }
        seats.tell_desk();
    }

    /// Tells what happened. Whoever cannot keep up is let go.
    pub fn tell(&self, events: &[Event]) {
        // Not held while a message waits for somebody slow: the controls must answer.
        let givers: Vec<(u64, Sender<Frame>)> =
            seats(&self.shared).watchers.iter().map(|w| (w.id, w.give.clone())).collect();
        if givers.is_empty() || events.is_empty() {
            return;
        }
        let Some(frame) = frame(&Message::Events(events.to_vec())) else { return };
        for (id, give) in givers {
            let told = if self.shared.simulated {
                give.send_timeout(frame.clone(), COURTESY).is_ok()
            } else {
                give.try_send(frame.clone()).is_ok()
            };
            if !told {
                seats(&self.shared).leave(id);
            }
        }
    }

    /// Somebody watches, or asks to.
    #[must_use]
    pub fn watched(&self) -> bool {
        !seats(&self.shared).watchers.is_empty()
    }
}

impl Drop for Post {
    fn drop(&mut self) {
        self.shared.closed.store(true, Ordering::Relaxed);
        // Their threads send what waits, and end.
        let mut seats = seats(&self.shared);
        seats.watchers.clear();
        seats.connected.clear();
        drop(seats);
        let _ = std::fs::remove_file(&self.path);
    }
}

fn let_in(listener: &UnixListener, shared: &Arc<Shared>, knock: &Sender<Join>) {
    let a_moment = Timespec { tv_sec: 0, tv_nsec: 250_000_000 };
    while !shared.closed.load(Ordering::Relaxed) {
        let mut fds = [PollFd::from_borrowed_fd(listener.as_fd(), PollFlags::IN)];
        let _ = poll(&mut fds, Some(&a_moment));
        let Ok((stream, _)) = listener.accept() else { continue };
        let Some(process) = ours(&stream) else { continue };
        let _ = serve(stream, process, shared, knock);
    }
}

/// The process at the other end, when it belongs to the same user or to root.
fn ours(stream: &UnixStream) -> Option<i32> {
    let peer = rustix::net::sockopt::socket_peercred(stream).ok()?;
    let me = rustix::process::geteuid();
    (peer.uid == me || peer.uid.is_root()).then(|| peer.pid.as_raw_nonzero().get())
}

fn serve(
    stream: UnixStream,
    process: i32,
    shared: &Arc<Shared>,
    knock: &Sender<Join>,
) -> std::io::Result<()> {
    stream.set_nonblocking(false)?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let id = shared.next.fetch_add(1, Ordering::Relaxed);
    {
        let mut seats = seats(shared);
        seats.make_room();
        seats.connected.push((id, stream.try_clone()?));
    }
    let (give, take) = bounded::<Frame>(BACKLOG);
    let mut to = stream.try_clone()?;
    std::thread::Builder::new().name("teller".into()).spawn(move || {
        while let Ok(frame) = take.recv() {
            if to.write_all(&frame).is_err() {
                break;
            }
        }
        // Also ends the thread that listens to it.
        let _ = to.shutdown(Shutdown::Both);
    })?;
    // It holds no sender: when the watcher's seat is taken away, the teller above ends.
    let (shared, mut from) = (Arc::downgrade(shared), stream);
    std::thread::Builder::new().name("listener".into()).spawn(move || {
        let mut frames = Frames::of_commands();
        let mut part = [0; 4096];
        let mut who = format!("process {process}");
        let _ = from.set_read_timeout(Some(SILENCE));
        // What is no message ends the connection: nothing after it can be understood.
        'heard: while let Ok(n @ 1..) = from.read(&mut part) {
            frames.take(&part[..n]);
            loop {
                let said = match frames.next() {
                    Ok(Some(Message::Said(said))) => said,
                    Ok(None) => break,
                    Ok(Some(Message::Events(_))) | Err(_) => break 'heard,
                };
                let Some(shared) = shared.upgrade() else { return };
                let _ = from.set_read_timeout(None);
                if let Said::Who(words) = &said {
                    let words: String = printable(words).chars().take(60).collect();
                    who = format!("{words} (process {process})");
                }
                if let Some(why) = heed(&shared, id, &who, said) {
                    seats(&shared).answer(id, &Message::Said(Said::Refused(why)));
                }
            }
        }
        if let Some(shared) = shared.upgrade() {
            seats(&shared).leave(id);
        }
    })?;
    let _ = knock.send(Join { id, give });
    Ok(())
}

/// Does what a watcher asks, or says why not.
fn heed(shared: &Shared, id: u64, who: &str, said: Said) -> Option<String> {
    let mut seats = seats(shared);
    let other = seats.holder.as_ref().filter(|(h, _)| *h != id).map(|(_, who)| who.clone());
    match said {
        Said::Take { over } => {
            if let Some(other) = other.filter(|_| !over) {
                return Some(format!("{other} holds the controls"));
            }
            seats.holder = Some((id, who.to_owned()));
        }
        Said::Release if other.is_none() => seats.holder = None,
        Said::Do(command) => {
            if let Some(other) = other {
                return Some(format!("{other} holds the controls"));
            }
            match &command {
                Command::Speed(Speed::Times(t)) if !(t.is_finite() && *t > 0.0) => {
                    return Some(format!("a clock cannot run {t} times as fast"));
                }
                Command::FindOut(fall) if !fall.makes_sense() => {
                    return Some("that is no fall of the rate".to_owned());
                }
                Command::Speed(speed) => seats.speed = Some(*speed),
                Command::Pause(paused) => seats.paused = *paused,
                _ => {}
            }
            seats.holder = Some((id, who.to_owned()));
            let _ = shared.commands.send(command);
        }
        _ => return None,
    }
    seats.tell_desk();
    None
}
