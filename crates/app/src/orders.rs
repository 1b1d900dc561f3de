//! What is to be hauled, by whomever it was ordered: the command line, the interface, or the one who keeps a haul that
//! shall outlive its terminal. Every drive is opened before any haul begins: not one of them goes when not all can.

use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use hollow_mile_core::drive::freight::{Cargo, Trees};
use hollow_mile_core::drive::{DriveIdentity, MeterUnit};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::record::Conditions;
use hollow_mile_core::record::held_to::HeldTo;
use hollow_mile_core::route::Route;
use hollow_mile_drives::linux::guard::Consent;
use hollow_mile_ledger::Ledger;
use serde::{Deserialize, Serialize};

use crate::again::DECIDES;
use crate::command::Speed;
use crate::error::AppError;
use crate::metrics::Metrics;
use crate::session::Session;
use crate::targets::{self, MeterWish, Opened, Target, Wish};
use crate::told::drive::endurance_of;
use crate::told::estimate::forecast_of;
use crate::told::held_to::held_to;
use crate::{claims, freight, going_on, machine};

/// One drive of those that a route is run on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Seat {
    /// The drive, as the user named it.
    pub drive: String,
    /// Of a file: how large.
    pub size: Option<Bytes>,
    /// Under which conditions.
    pub conditions: Conditions,
    /// The serial that was typed.
    pub erase: Option<String>,
    /// What on the device may be lost.
    pub give_up: Vec<String>,
    /// The user's thermometers, as orders of before there were other meters have them: name and path.
    #[serde(default)]
    pub thermometers: Vec<(String, String)>,
    /// The user's meters.
    #[serde(default)]
    pub meters: Vec<MeterWish>,
    /// Which haul on this drive it is; varies the noise of a simulated one.
    pub number: u64,
}

/// What is to be hauled.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Orders {
    /// Folder of the ledger.
    pub home: PathBuf,
    /// What to do.
    pub route: Route,
    /// On which drives, all at once.
    pub seats: Vec<Seat>,
    /// The haul that is continued.
    pub continues: Option<String>,
    /// How often, one after another.
    pub repeat: u32,
    /// How fast a simulated clock runs.
    pub speed: Speed,
    /// Where live figures are served.
    pub metrics: Option<SocketAddr>,
    /// Ends when the terminal that started it goes.
    pub ends_with_starter: bool,
}

/// Drives that are open, each with what its haul needs to begin.
pub struct Ready {
    seats: Vec<(String, Opened, Setup)>,
    /// What will not go as it seems to be meant, in sentences.
    pub doubts: Vec<String>,
}

fn thermometer((name, path): &(String, String)) -> MeterWish {
    MeterWish { name: name.clone(), path: path.clone(), unit: Some(MeterUnit::Celsius) }
}

impl Seat {
    fn wish(&self, route: &Route, ledger: &Ledger, target: &Target, cargo: (Cargo, Cargo)) -> Wish {
        Wish {
            cargo,
            size: self.size,
            conditions: self.conditions.clone(),
            repeat: self.number,
            destroys: route.destroys(),
            fills: route.fills(),
            consent: Consent {
                erase: self.erase.clone(),
                give_up: self.give_up.clone(),
                protect: machine::protected(ledger.home()),
                erasures: route.whole_erasures(),
            },
            lived: targets::lived(ledger, target),
            meters: self.meters.iter().cloned().chain(self.thermometers.iter().map(thermometer)).collect(),
        }
    }
}

impl Orders {
    /// Opens every drive and checks the route against it. Nothing is written yet.
    ///
    /// # Errors
    /// When one of them cannot be opened, is refused by the guard, or the route does not fit it.
    pub fn open(&self, repeat: u32) -> Result<Ready, AppError> {
        let ledger = Ledger::open(&self.home)?;
        crate::watch::tidy(&self.home);
        let (trees, unread) = freight::trees(&self.route)?;
        let cargo = freight::most_at_once(&self.route, &trees)?;
        let mut ready = Ready { seats: Vec::new(), doubts: unread };
        for seat in &self.seats {
            let target = Target::parse(&seat.drive)?;
            if let Target::Device(path) = &target {
                ready.doubts.extend(said_of_device(path, &self.home, self.route.destroys())?);
            }
            // Two simulated drives of one kind are two drives.
            let number = seat.number + u64::from(repeat) * self.seats.len() as u64;
            let seat = Seat { number, ..seat.clone() };
            let haul = ledger.new_haul_id()?;
            let announce =
                |path: &Path, mark: &str| ledger.announce_file(path, &haul, mark).map_err(|e| e.to_string());
            let wish = seat.wish(&self.route, &ledger, &target, cargo);
            let opened = targets::open_announced(&target, &wish, &announce)?;
            let identity = opened.drive.identity();
            targets::fits(&self.route, identity, seat.conditions.source.as_deref())?;
            ready.doubts.extend(opened.said.iter().map(|s| format!("{}: {s}", seat.drive)));
            let doubts = targets::doubts(&self.route, identity);
            ready.doubts.extend(doubts.into_iter().map(|d| format!("{}: {d}", seat.drive)));
            let setup = self.setup(haul, &seat, &ledger, identity, trees.clone())?;
            ready.seats.push((seat.drive.clone(), opened, setup));
        }
        Ok(ready)
    }

    fn setup(
        &self,
        haul: String,
        seat: &Seat,
        ledger: &Ledger,
        identity: &DriveIdentity,
        trees: Trees,
    ) -> Result<Setup, AppError> {
        let stamped = going_on::stamped(&self.route, self.continues.as_deref(), ledger, &identity.serial)?;
        let mut conditions = seat.conditions.clone();
        let (route, resume) = match &self.continues {
            Some(haul) => {
                conditions.tags.push((going_on::CONTINUES.into(), ledger.haul(haul)?.haul));
                let (route, resume) = going_on::resume(haul, &self.route, ledger)?;
                (route, Some(resume))
            }
            None => (self.route.clone(), None),
        };
        // One that goes on in the middle of a leg goes another way than whole ones did.
        let forecast = match resume {
            Some(_) => None,
            None => forecast_of(ledger, &ledger.hauls()?, identity, &route, &conditions),
        };
        // What finds out why another haul slowed down is held to nothing.
        let held = match conditions.tags.iter().any(|(k, _)| k == DECIDES) {
            true => HeldTo::default(),
            false => held_to(ledger, identity, &route, &conditions)?,
        };
        let claims = claims::of_model(&self.home, &identity.model);
        let endurance = endurance_of(claims.as_ref(), identity);
        targets::wear_is_known(&route, identity.kind, endurance)?;
        Ok(Setup {
            haul,
            route,
            conditions,
            started_unix_ms: jiff::Timestamp::now().as_millisecond(),
            program: env!("CARGO_PKG_VERSION").into(),
            stamped,
            resume,
            forecast,
            held_to: held,
            endurance,
            trees,
        })
    }

    /// Begins every haul that is ready: drive, as the user named it, and session.
    ///
    /// # Errors
    /// When the ledger cannot be written; those that had begun are stopped.
    pub fn begin(&self, ready: Ready, metrics: Option<&Metrics>) -> Result<Vec<(String, Session)>, AppError> {
        let mut begun: Vec<(String, Session)> = Vec::new();
        for (drive, opened, setup) in ready.seats {
            let ledger = Ledger::open(&self.home)?;
            match Session::start_told(
                opened,
                setup,
                ledger,
                self.speed,
                self.ends_with_starter,
                metrics.cloned(),
            ) {
                Ok(session) => begun.push((drive, session)),
                Err(error) => {
                    for (_, session) in begun {
                        session.ask(crate::command::Command::Stop);
                        let _ = session.finish();
                    }
                    return Err(error);
                }
            }
        }
        Ok(begun)
    }
}

/// What others do on a device before the haul begins, since its figures would tell of them too; a link that has less
/// than it could; and, before it is written, what of its users could not be seen.
fn said_of_device(path: &Path, home: &Path, written: bool) -> Result<Vec<String>, AppError> {
    let device = machine::device(path, home)?;
    let mut said = Vec::new();
    if let Some(rate) =
        machine::traffic_now(&device.block, Duration::from_millis(500)).filter(|r| machine::is_busy(*r))
    {
        said.push(format!("{} is busy before the haul begins: others move {rate} on it", path.display()));
    }
    if let Some(less) = device.identity.link.as_ref().and_then(hollow_mile_core::drive::Link::shortfall) {
        said.push(format!("{} has less of a link than it could: {less}", path.display()));
    }
    said.extend(device.block.array_doubts().iter().map(|d| format!("{}: {d}", path.display())));
    if written {
        said.extend(device.examination.unseen.iter().map(|u| format!("{}: {u}", path.display())));
    }
    Ok(said)
}
