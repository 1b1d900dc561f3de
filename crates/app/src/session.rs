//! A haul under way: one thread drives, one writes the ledger, anybody may watch.
//!
//! The driving thread never waits for the screen or for the disk of the ledger: on a real drive it hands events over
//! an unbounded channel. A simulated drive has no time to lose, so there the channel is bounded and memory stays flat.

use crate::command::{Command, Speed};
use std::io::Write;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, TryRecvError, bounded, select, unbounded};
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::Drive;
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_ledger::{HaulWriter, Ledger};

use crate::clocks::{Clocks, Pulse};
use crate::error::AppError;
use crate::metrics::Metrics;
use crate::targets::Opened;
use crate::told::words::printable;
use crate::watch::post::{About, Post};

/// How a haul came out.
pub struct Outcome {
    /// How it ended.
    pub state: HaulState,
    /// Why, where there is something to say.
    pub reason: Option<String>,
    /// The whole fold.
    pub readings: Readings,
    /// What was concluded.
    pub conclusions: Conclusions,
}

/// A haul under way.
pub struct Session {
    /// Its identifier.
    pub haul: String,
    /// Its drive computes its own time.
    pub simulated: bool,
    commands: Sender<Command>,
    /// Nobody watches in this process when there is none.
    events: Option<Receiver<Vec<Event>>>,
    scribe: Option<JoinHandle<Result<Outcome, AppError>>>,
    driver: Option<JoinHandle<()>>,
}

/// Sent at once when there are so many, else after [`HAND_OVER`].
const BATCH: usize = 512;
const HAND_OVER: Duration = Duration::from_millis(40);

impl Session {
    /// Starts a haul. Its head is in the ledger when this returns.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn start(opened: Opened, setup: Setup, ledger: Ledger, speed: Speed) -> Result<Self, AppError> {
        Self::start_told(opened, setup, ledger, speed, false, None)
    }

    /// Starts a haul whose figures others follow, and which may end when the terminal that started it goes.
    ///
    /// # Errors
    /// When the ledger cannot be written.
    pub fn start_told(
        opened: Opened,
        setup: Setup,
        ledger: Ledger,
        speed: Speed,
        ends_with_starter: bool,
        metrics: Option<Metrics>,
    ) -> Result<Self, AppError> {
        let Opened { drive, files, .. } = opened;
        let simulated = drive.is_simulated();
        let haul_id = setup.haul.clone();
        for path in &files {
            ledger.note_file(path, &haul_id)?;
        }
        let (give, take) = if simulated { bounded(32) } else { unbounded() };
        let (show, watch) = if simulated { bounded(32) } else { unbounded() };
        let (commands, obey) = unbounded();
        let trouble = Arc::new(AtomicBool::new(false));

        let mut setup = setup;
        setup.conditions.earlier = ledger.earlier(&drive.identity().serial)?;
        setup.conditions.recovers = ledger.recovers(&drive.identity().serial)?;
        let mut haul = Haul::new(drive, setup);
        // The first step only writes the head and the first health reading.
        let mut first = Vec::new();
        haul.step(&mut first);
        let Some(Event::HaulStarted(head)) = first.first() else {
            return Err(AppError::usage("the haul did not begin"));
        };
        let about = About {
            haul: haul_id.clone(),
            drive: head.drive.target.clone(),
            route: head.route.name.clone(),
            simulated,
            ends_with_starter,
            speed,
        };
        let home = ledger.home().to_owned();
        let writer = ledger.begin(head)?;
        crate::fleet::start(&home);
        // A haul that nobody else can watch is a haul all the same.
        let post = Post::open(&home, about, commands.clone()).ok();
        let _ = give.send(first);

        let stop = trouble.clone();
        let driver = spawn("haul", move || drive_on(haul, simulated, speed, &obey, &give, &stop))?;
        let told_as = haul_id.clone();
        let scribe = spawn("scribe", move || {
            let tell = metrics.as_ref().map(|m| (m, told_as.as_str()));
            let outcome = write_down(writer, &take, &show, &trouble, tell, post);
            if let Ok((_, ledger)) = &outcome {
                for path in files.iter().filter(|p| !p.exists()) {
                    let _ = ledger.strike_file(path);
                }
            }
            outcome.map(|(outcome, _)| outcome)
        })?;
        Ok(Self {
            haul: haul_id,
            simulated,
            commands,
            events: Some(watch),
            scribe: Some(scribe),
            driver: Some(driver),
        })
    }

    /// Asks for something. A haul that has ended does not mind.
    pub fn ask(&self, command: Command) {
        let _ = self.commands.send(command);
    }

    /// The next events; `None` when none came in time, or ever will.
    #[must_use]
    pub fn next_events(&self, at_most: Duration) -> Option<Vec<Event>> {
        self.events.as_ref()?.recv_timeout(at_most).ok()
    }

    /// Nobody looks here: what happens goes to the record, and to those who watch from elsewhere.
    pub fn look_away(&mut self) {
        self.events = None;
    }

    /// Its record is complete, or cannot be.
    #[must_use]
    pub fn is_over(&self) -> bool {
        self.scribe.as_ref().is_none_or(JoinHandle::is_finished)
    }

    /// The next events if there are any now; an error when the haul is over and all were taken.
    ///
    /// # Errors
    /// When there will be no more.
    pub fn try_events(&self) -> Result<Option<Vec<Event>>, Over> {
        let Some(events) = &self.events else { return Err(Over) };
        match events.try_recv() {
            Ok(events) => Ok(Some(events)),
            Err(TryRecvError::Empty) => Ok(None),
            Err(TryRecvError::Disconnected) => Err(Over),
        }
    }

    /// Waits for the end.
    ///
    /// # Errors
    /// When the ledger could not be written.
    pub fn finish(mut self) -> Result<Outcome, AppError> {
        // Nobody watches from here on; the scribe goes on without.
        while self.next_events(Duration::from_secs(3600)).is_some() {}
        let ended = self.scribe.take().map(JoinHandle::join);
        // The drive is let go of when its thread ends: whoever comes next may open it.
        let _ = self.driver.take().map(JoinHandle::join);
        match ended {
            Some(Ok(outcome)) => outcome,
            _ => Err(AppError::machine(
                "the haul's thread ended in a fault; what was committed is in the ledger",
            )),
        }
    }
}

/// There are no more events.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Over;

fn spawn<T: Send + 'static>(
    name: &str,
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<JoinHandle<T>, AppError> {
    std::thread::Builder::new()
        .name(name.into())
        .spawn(work)
        .map_err(|e| AppError::machine(format!("no thread for the haul: {e}")))
}

/// Keeps a simulated clock in step with the real one.
struct Pacer {
    speed: Speed,
    began: Instant,
    from: Duration,
}

impl Pacer {
    /// How long to wait until the simulated clock may pass `elapsed`.
    fn ahead(&self, elapsed: Duration) -> Duration {
        match self.speed {
            Speed::Most => Duration::ZERO,
            Speed::Times(t) => {
                elapsed.saturating_sub(self.from).div_f64(t).saturating_sub(self.began.elapsed())
            }
        }
    }
    fn restart(&mut self, elapsed: Duration) {
        self.began = Instant::now();
        self.from = elapsed;
    }
}

fn drive_on(
    mut haul: Haul<Box<dyn Drive>>,
    simulated: bool,
    speed: Speed,
    obey: &Receiver<Command>,
    give: &Sender<Vec<Event>>,
    trouble: &AtomicBool,
) {
    let mut pacer = Pacer { speed, began: Instant::now(), from: haul.elapsed() };
    let mut batch: Vec<Event> = Vec::with_capacity(BATCH);
    let mut handed_over = Instant::now();
    let mut clock_stands = false;
    let mut listening = true;
    let mut clocks = (!simulated).then(Clocks::now);
    let pulse = (!simulated).then(Pulse::begin);
    loop {
        let wait = if simulated { pacer.ahead(haul.elapsed()) } else { Duration::ZERO };
        let wait =
            if clock_stands { Duration::from_millis(200) } else { wait.min(Duration::from_millis(200)) };
        let heard = if wait.is_zero() || !listening {
            std::thread::sleep(if listening { Duration::ZERO } else { wait });
            obey.try_recv().map_err(|e| e == TryRecvError::Disconnected)
        } else {
            obey.recv_timeout(wait).map_err(|e| e == RecvTimeoutError::Disconnected)
        };
        match heard {
            Ok(Command::Pause(pause)) if simulated => {
                clock_stands = pause;
                pacer.restart(haul.elapsed());
            }
            Ok(Command::Pause(pause)) => haul.pause(pause),
            Ok(Command::SkipLeg) => haul.skip_leg(),
            Ok(Command::Stop) => {
                clock_stands = false;
                haul.stop();
            }
            Ok(Command::Note(text)) => haul.note(&text, &mut batch),
            Ok(Command::FindOut(fall)) => haul.inquire(*fall),
            Ok(Command::Speed(speed)) => {
                pacer.speed = speed;
                pacer.restart(haul.elapsed());
            }
            Err(disconnected) => listening &= !disconnected,
        }
        if let Some(words) = clocks.as_mut().and_then(Clocks::look) {
            haul.note(&words, &mut batch);
        }
        if let Some(words) = pulse.as_ref().and_then(Pulse::look) {
            haul.note(&words, &mut batch);
        }
        if trouble.load(Ordering::Relaxed) {
            haul.stop();
        }
        let may_step = !clock_stands && (!simulated || pacer.ahead(haul.elapsed()).is_zero());
        let ended = may_step && matches!(haul.step(&mut batch), Progress::Ended(_));
        // While this program asks nothing of the drive, its ledger does not either: what comes is handed over after it.
        let held = haul.is_quiet() && !ended;
        let full = batch.len() >= BATCH || (!batch.is_empty() && handed_over.elapsed() >= HAND_OVER);
        if ended || full && !held {
            handed_over = Instant::now();
            if give.send(std::mem::replace(&mut batch, Vec::with_capacity(BATCH))).is_err() {
                // Nobody takes the record: the load must not go on unrecorded.
                haul.stop();
            }
        }
        if ended {
            return;
        }
    }
}

fn write_down(
    mut writer: HaulWriter,
    take: &Receiver<Vec<Event>>,
    show: &Sender<Vec<Event>>,
    trouble: &AtomicBool,
    tell: Option<(&Metrics, &str)>,
    post: Option<Post>,
) -> Result<(Outcome, Ledger), AppError> {
    let mut failed: Option<AppError> = None;
    let mut watched = true;
    let mut pushed = 0;
    let nobody = crossbeam_channel::never();
    loop {
        let joins = post.as_ref().map_or(&nobody, |p| &p.joins);
        let mut join = None;
        let events = select! {
            recv(take) -> events => match events {
                Ok(events) => events,
                Err(_) => break,
            },
            recv(joins) -> asked => { join = asked.ok(); Vec::new() }
            default(Duration::from_millis(250)) => Vec::new(),
        };
        if let Some((metrics, haul)) = tell.filter(|_| !events.is_empty()) {
            metrics.take(haul, &events);
        }
        if failed.is_none() {
            let written = if events.is_empty() {
                writer.commit()
            } else {
                pushed += events.len() as u64;
                events.iter().try_for_each(|e| writer.push(e.clone()))
            };
            if let Some(home) = writer.moved_to() {
                let words = format!(
                    "the ledger was removed while the haul was under way: its record goes on in {}",
                    home.display()
                );
                let _ = writeln!(std::io::stderr(), "{}", printable(&words));
                let _ = writer.note(&words);
            }
            if let Err(e) = written {
                trouble.store(true, Ordering::Relaxed);
                failed = Some(AppError::machine(format!("the haul was stopped because {e}")));
            }
        }
        if let Some(post) = &post {
            // What came before is committed by now: the watcher reads that, and hears the rest.
            match join {
                Some(join) => post.admit(join, pushed),
                None => post.tell(&events),
            }
        }
        if watched && !events.is_empty() {
            watched = show.send(events).is_ok();
        }
    }
    if let Some(error) = failed {
        return Err(error);
    }
    // Made from the ledger at the end: a haul of days must not grow in memory while nobody looks at it.
    let readings = writer.readings()?;
    let (state, reason) =
        readings.ended().map_or((HaulState::CutShort, None), |(_, state, reason)| (*state, reason.clone()));
    let conclusions = readings.conclude();
    let ledger = writer.finish(state, reason.as_deref(), &readings, &conclusions)?;
    Ok((Outcome { state, reason, readings, conclusions }, ledger))
}
