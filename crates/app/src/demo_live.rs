//! Hauls under way in the demo's fleet. They are made up like the others, go on while the demo runs, and are taken out of the ledgers when
//! it begins again.

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Conditions, Event, HaulState};
use hollow_mile_core::route;
use hollow_mile_drives::sim::SimDrive;
use hollow_mile_ledger::fleet::{Membership, Sender};
use hollow_mile_ledger::{HaulWriter, Ledger, Purge};

use crate::demo_fleet;
use crate::error::AppError;

/// Benches that haul, by their numbers, and the drives on each.
const LIVE: [(usize, &[usize]); 6] = [
    (3, &[43, 83, 123, 163]),
    (8, &[48, 88]),
    (14, &[54, 94, 134, 174, 214, 254]),
    (15, &[55]),
    (27, &[67, 107, 147]),
    (33, &[73, 113]),
];
/// By this route, so that they stay out of the batches of the others.
const ROUTE: &str = "long-haul";
/// Seconds of a drive in one that passes.
const FASTER: f64 = 4.0;
/// As often as a real haul commits.
const EVERY: Duration = Duration::from_millis(500);

/// Hauls that go on until this is let go.
pub struct Live {
    stop: Arc<AtomicBool>,
    benches: Vec<JoinHandle<()>>,
}

impl Live {
    /// Begins them in the ledgers below this folder. What the last time left is taken out.
    ///
    /// # Errors
    /// When a ledger cannot be written.
    pub fn begin(fleet: &Path) -> Result<Self, AppError> {
        let stop = Arc::new(AtomicBool::new(false));
        let mut benches = Vec::new();
        for (bench, drives) in LIVE {
            let home = demo_fleet::bench(fleet, bench);
            let ledger = Ledger::open(&home)?;
            // What was taken out then has been sent since.
            ledger.purge(Purge::All)?;
            ledger.under_way()?;
            let left = ledger.hauls()?.into_iter().filter(|r| r.route == ROUTE).map(|r| r.haul);
            ledger.delete(&left.collect::<Vec<String>>())?;
            let membership =
                Membership::read(&home)?.ok_or(hollow_mile_ledger::fleet::FleetError::NotJoined)?;
            let sender = Sender::new(membership)?;
            let (asked, fleet) = (stop.clone(), fleet.to_owned());
            let work = move || {
                // A demo that cannot go on by itself shows what it has.
                let _ = keep(&fleet, bench, drives, sender, &asked);
            };
            let thread = std::thread::Builder::new().name(format!("bench-{bench}")).spawn(work);
            benches.extend(thread.ok());
        }
        Ok(Self { stop, benches })
    }
}

impl Drop for Live {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.benches.drain(..).for_each(|b| drop(b.join()));
    }
}

struct Hauling {
    number: usize,
    /// When it began, since the demo did.
    began: Duration,
    haul: Haul<SimDrive>,
    writer: HaulWriter,
    events: Vec<Event>,
    readings: Readings,
    /// How far it was when the demo began.
    ahead: Duration,
}

impl Hauling {
    fn begin(ledger: Ledger, number: usize, began: Duration) -> Result<Self, AppError> {
        let spec = demo_fleet::drive(number)?;
        let missing = || AppError::usage(format!("the route {ROUTE} does not ship"));
        let mut route = route::shipped(ROUTE).ok_or_else(missing)?;
        route.interval = Duration::from_secs(1);
        let conditions = Conditions {
            ambient: Some(Celsius::new(24.0)),
            cooling: spec.heat.cooling.first().map(|c| c.name.clone()),
            ..Conditions::default()
        };
        let drive = SimDrive::new(spec, &format!("sim:drive-{number}"), &conditions, 2);
        let setup = Setup {
            started_unix_ms: jiff::Timestamp::now().as_millisecond(),
            program: env!("CARGO_PKG_VERSION").into(),
            conditions,
            ..Setup::plain(&ledger.new_haul_id()?, route)
        };
        let mut haul = Haul::new(drive, setup);
        let mut events = Vec::new();
        haul.step(&mut events);
        let Some(Event::HaulStarted(head)) = events.first() else {
            return Err(AppError::usage("a haul of the demo's fleet did not begin"));
        };
        let writer = ledger.begin(head)?;
        // Those that the demo begins with are in the middle of it.
        let in_it = Duration::from_secs(120 + number as u64 * 37 % 900);
        let ahead = if began.is_zero() { in_it } else { Duration::ZERO };
        Ok(Self { number, began, haul, writer, events, readings: Readings::new(), ahead })
    }

    /// Goes on until so much has passed on the drive; true when it is over.
    fn until(&mut self, passed: Duration) -> Result<bool, AppError> {
        let mut over = false;
        let until = passed.saturating_sub(self.began.mul_f64(FASTER)) + self.ahead;
        while !over && self.haul.elapsed() < until {
            over = matches!(self.haul.step(&mut self.events), Progress::Ended(_));
        }
        for event in self.events.drain(..) {
            self.readings.push(&event);
            self.writer.push(event)?;
        }
        self.writer.commit()?;
        Ok(over)
    }

    fn finish(self, state: HaulState) -> Result<Ledger, AppError> {
        let conclusions = self.readings.conclude();
        Ok(self.writer.finish(state, None, &self.readings, &conclusions)?)
    }
}

/// Keeps the hauls of a bench until it is asked to stop.
fn keep(
    fleet: &Path,
    bench: usize,
    drives: &[usize],
    mut sender: Sender,
    asked: &AtomicBool,
) -> Result<(), AppError> {
    let home = demo_fleet::bench(fleet, bench);
    let mut hauls = Vec::new();
    for number in drives {
        hauls.push(Hauling::begin(Ledger::open(&home)?, *number, Duration::ZERO)?);
    }
    let ledger = Ledger::open(&home)?;
    let began = Instant::now();
    while !asked.load(Ordering::Relaxed) {
        let passed = began.elapsed().mul_f64(FASTER);
        let mut still = Vec::new();
        for mut hauling in hauls {
            if hauling.until(passed)? {
                // The next one on the same drive.
                let number = hauling.number;
                still.push(Hauling::begin(hauling.finish(HaulState::Done)?, number, began.elapsed())?);
            } else {
                still.push(hauling);
            }
        }
        hauls = still;
        let _ = sender.step(&ledger);
        std::thread::sleep(EVERY);
    }
    for hauling in hauls {
        hauling.finish(HaulState::Stopped)?;
    }
    Ok(())
}
