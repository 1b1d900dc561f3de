//! The demo's fleet: forty benches and four hundred drives of three models and two firmwares, two of them odd, on a PostgreSQL that the
//! program starts itself in a folder of its own. Makers, models, serials and hauls are invented; the hauls are really run, on simulated
//! drives, and go to the server by the same way as any bench's.

use std::fs::File;
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::Drive as _;
use hollow_mile_core::drive::permutation::spread;
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Conditions, Event};
use hollow_mile_core::route::Route;
use hollow_mile_drives::sim::{self, SimDrive, SimSpec};
use hollow_mile_ledger::Ledger;
use hollow_mile_ledger::fleet::{self, Address, Membership, Sender};
use rustix::fs::{FlockOperation, flock};

use crate::error::AppError;
use crate::told::held_to::held_to;

/// Changes whenever the fleet's hauls do: an older one is built anew.
const STAMP: &str = "hollow-mile demo fleet 4\n";
/// 2026-07-20 06:00 UTC.
const FIRST_DAY_MS: i64 = 1_784_527_200_000;
const BENCHES: usize = 40;
const DRIVES: usize = 400;
/// Drives that are hauled twice, one in so many.
const TWICE: usize = 8;
/// The two odd ones, by their numbers: a cache that is too small, and a drive that is badly cooled.
const SMALL_CACHE: usize = 123;
const HOT: usize = 301;

/// Every drive that comes in goes this way.
const ROUTE: &str = r#"
name = "incoming"
about = "Every drive that comes in: six minutes of writing, then rest."
interval = "1 s"

[[leg]]
kind = "write"
until = { duration = "6 min" }

[[leg]]
kind = "rest"
until = { duration = "1 min" }
"#;

/// A model of the fleet: the simulated drive that it is made from, its two firmwares, and what the second keeps of the last level's rate.
struct Model {
    sim: &'static str,
    serials: &'static str,
    firmware: [&'static str; 2],
    second_keeps: f64,
}

const MODELS: [Model; 3] = [
    Model { sim: "corrie-1t", serials: "KW-1", firmware: ["1.3.9", "1.4.0"], second_keeps: 0.93 },
    Model { sim: "moraine-1t", serials: "KW-2", firmware: ["C0.9", "C1.1"], second_keeps: 1.0 },
    Model { sim: "ptarmigan-4t", serials: "KW-4", firmware: ["2.0.1", "2.0.3"], second_keeps: 1.0 },
];

/// Numbers from a seed; a normal one as the sum of twelve even ones less six.
struct Draw {
    seed: u64,
    drawn: u64,
}

impl Draw {
    fn even(&mut self) -> f64 {
        self.drawn += 1;
        spread(self.seed, self.drawn) as f64 / u64::MAX as f64
    }

    fn around(&mut self, share: f64) -> f64 {
        1.0 + share * ((0..12).map(|_| self.even()).sum::<f64>() - 6.0)
    }
}

/// A drive of the fleet, and the firmware that it has.
pub(crate) fn drive(number: usize) -> Result<SimSpec, AppError> {
    let model = &MODELS[number % MODELS.len()];
    let missing = || AppError::usage(format!("the simulated drive {} does not ship", model.sim));
    let mut spec = sim::shipped(model.sim).ok_or_else(missing)?;
    let mut draw = Draw { seed: number as u64 * 7919 + 11, drawn: 0 };
    let second = draw.even() < 0.35;
    spec.firmware = model.firmware[usize::from(second)].into();
    spec.serial = format!("{}{number:03}", model.serials);
    spec.seed = 5000 + number as u64;
    spec.wear = sim::Wear::default();
    spec.fault = sim::Faults::default();
    if let Some(flash) = &mut spec.flash {
        flash.zone.clear();
        let last = flash.level.len().saturating_sub(1);
        for (i, level) in flash.level.iter_mut().enumerate() {
            let kept = if second && i == last { model.second_keeps } else { 1.0 };
            level.rate = Rate::new(level.rate.get() * draw.around(0.015) * kept);
            let smaller = if number == SMALL_CACHE { 0.7 } else { 1.0 };
            level.size = level.size.map(|s| Bytes::new((s.as_f64() * draw.around(0.02) * smaller) as u64));
        }
    }
    for cooling in &mut spec.heat.cooling {
        cooling.resistance *= draw.around(0.04) * if number == HOT { 1.6 } else { 1.0 };
    }
    Ok(spec)
}

/// Hauls a drive of the demo's fleet into the ledger of a bench.
///
/// # Errors
/// When the ledger cannot be written.
pub fn haul(ledger: Ledger, bench: usize, number: usize, repeat: u64) -> Result<Ledger, AppError> {
    let spec = drive(number)?;
    let route: Route =
        toml::from_str(ROUTE).map_err(|e| AppError::usage(format!("the demo's route is wrong: {e}")))?;
    let cooling = spec.heat.cooling.iter().find(|c| c.name == "heatsink").or(spec.heat.cooling.first());
    let conditions = Conditions {
        ambient: Some(Celsius::new(24.0)),
        cooling: cooling.map(|c| c.name.clone()),
        slot: Some(format!("bay {}", number % 10 + 1)),
        tags: vec![("lot".into(), format!("p{}", number * 4 / DRIVES + 1))],
        ..Conditions::default()
    };
    let target = format!("sim:{}", spec.name);
    // Forty benches at once: a day's deliveries go over all of them.
    let hours = number as i64 * 3 + repeat as i64 * 400 + bench as i64 % 3;
    let setup = Setup {
        started_unix_ms: FIRST_DAY_MS + hours * 3_600_000,
        program: env!("CARGO_PKG_VERSION").into(),
        conditions: conditions.clone(),
        ..Setup::plain(&format!("{:08x}", 0x3000_0000 + number * 16 + repeat as usize), route)
    };
    let drive = SimDrive::new(spec, &target, &conditions, repeat);
    let held_to = held_to(&ledger, drive.identity(), &setup.route, &conditions)?;
    let mut haul = Haul::new(drive, Setup { held_to, ..setup });
    let mut events = Vec::new();
    haul.step(&mut events);
    let Some(Event::HaulStarted(head)) = events.first() else {
        return Err(AppError::usage("a haul of the demo's fleet did not begin"));
    };
    let mut writer = ledger.begin(head)?;
    let mut readings = Readings::new();
    loop {
        for event in events.drain(..) {
            readings.push(&event);
            writer.push(event)?;
        }
        if let Progress::Ended(state) = haul.step(&mut events) {
            for event in events.drain(..) {
                readings.push(&event);
                writer.push(event)?;
            }
            return Ok(writer.finish(state, None, &readings, &readings.conclude())?);
        }
    }
}

/// A demo that was just left stops its hauls and its server within so long.
const ENDS_WITHIN: Duration = Duration::from_secs(15);

/// A PostgreSQL server in a folder of its own. It is stopped when this is let go, and only then is the fleet free for another program.
pub struct Server {
    data: PathBuf,
    run: PathBuf,
    _alone: File,
}

/// The fleet for this program alone: two of them would stop each other's server.
fn alone(home: &Path, wait: Duration) -> Result<File, AppError> {
    let wrong = |e: std::io::Error| AppError::file(home, "used for the demo's fleet", &e);
    std::fs::create_dir_all(home).map_err(wrong)?;
    let file = File::create(home.join("in-use")).map_err(wrong)?;
    let until = Instant::now() + wait;
    loop {
        match flock(&file, FlockOperation::NonBlockingLockExclusive) {
            Ok(()) => return Ok(file),
            Err(e) if e != rustix::io::Errno::WOULDBLOCK => return Err(wrong(e.into())),
            Err(_) if Instant::now() < until => std::thread::sleep(Duration::from_millis(100)),
            Err(_) => {
                return Err(AppError::usage(format!(
                    "the demo's fleet in {} is shown by another program: leave that one first",
                    home.display()
                )));
            }
        }
    }
}

/// A program of the server: from Debian's folders, or from the path.
fn program(name: &str) -> PathBuf {
    let versions = std::fs::read_dir("/usr/lib/postgresql").into_iter().flatten().flatten();
    let mut found: Vec<PathBuf> =
        versions.map(|v| v.path().join("bin").join(name)).filter(|p| p.exists()).collect();
    found.sort();
    found.pop().unwrap_or_else(|| name.into())
}

fn unprivileged() -> Option<(u32, u32)> {
    rustix::process::geteuid().is_root().then_some(())?;
    let user = uzers::get_user_by_name("postgres").or_else(|| uzers::get_user_by_name("nobody"))?;
    Some((user.uid(), user.primary_group_id()))
}

impl Server {
    fn call(name: &str, args: &[&str]) -> Result<(), AppError> {
        let mut command = Command::new(program(name));
        command.args(args).current_dir("/").stdin(Stdio::null());
        // It refuses to be run by root.
        if let Some((uid, gid)) = unprivileged() {
            command.uid(uid).gid(gid);
        }
        let out = command.output().map_err(|e| {
            AppError::usage(format!("{name} cannot be run ({e}): the demo's fleet needs PostgreSQL, on Debian `apt install postgresql`"))
        })?;
        if out.status.success() {
            return Ok(());
        }
        let words = String::from_utf8_lossy(&out.stderr);
        Err(AppError::machine(format!("{name} failed: {}", words.lines().last().unwrap_or("no word why"))))
    }

    /// Starts the server of this folder, making it where it is not there.
    fn start(folder: &Path) -> Result<Self, AppError> {
        let alone = alone(folder, ENDS_WITHIN)?;
        let wrong = |e: std::io::Error| AppError::file(folder, "used for a PostgreSQL server", &e);
        // A socket's path has to be short, and a server that is not root's cannot enter root's folders.
        let name = format!("hollow-mile-{:08x}", crc(&folder.display().to_string()));
        let place = std::env::temp_dir().join(name);
        std::fs::create_dir_all(&place).map_err(wrong)?;
        std::fs::set_permissions(&place, PermissionsExt::from_mode(0o700)).map_err(wrong)?;
        if let Some((uid, gid)) = unprivileged() {
            std::os::unix::fs::chown(&place, Some(uid), Some(gid)).map_err(wrong)?;
        }
        let server = Self { data: place.join("data"), run: place, _alone: alone };
        let data = server.data.display().to_string();
        if !server.data.join("PG_VERSION").exists() {
            let _ = std::fs::remove_dir_all(&server.data);
            Self::call(
                "initdb",
                &["-D", &data, "-U", "keeper", "-A", "trust", "--no-sync", "-E", "UTF8", "--locale", "C"],
            )?;
        }
        let log = server.run.join("log").display().to_string();
        // Nobody reaches it but by a socket in a folder that is ours alone.
        let options =
            format!("-c listen_addresses= -k {} -c fsync=off -c max_connections=60", server.run.display());
        if Self::call("pg_ctl", &["-D", &data, "status"]).is_err() {
            Self::call("pg_ctl", &["-D", &data, "-w", "-t", "60", "-l", &log, "-o", &options, "start"])?;
        }
        Ok(server)
    }

    fn address(&self) -> Result<Address, AppError> {
        let host = self.run.display().to_string().replace('/', "%2F");
        Ok(format!("postgres://keeper@{host}/postgres?sslmode=disable").parse::<Address>()?)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = Self::call("pg_ctl", &["-D", &self.data.display().to_string(), "-m", "fast", "stop"]);
    }
}

fn crc(text: &str) -> u32 {
    text.bytes().fold(0x811c_9dc5, |h, b| (h ^ u32::from(b)).wrapping_mul(0x0100_0193))
}

/// The home of a bench, by its number from 1.
#[must_use]
pub fn bench(fleet: &Path, number: usize) -> PathBuf {
    fleet.join(format!("bench-{number:02}"))
}

/// The home of the bench whose fleet is shown, and the server that runs meanwhile.
///
/// # Errors
/// When there is no PostgreSQL on this machine, or a folder cannot be written.
pub fn prepare(home: &Path) -> Result<(PathBuf, Server), AppError> {
    let stamp = home.join("fleet.stamp");
    let first = bench(home, 1);
    let is_made = std::fs::read_to_string(&stamp).is_ok_and(|s| s == STAMP);
    let server = Server::start(home)?;
    let address = server.address()?;
    let mut client = address.connect()?;
    let fresh = !matches!(fleet::init(&mut client, &address)?, fleet::Made::Nothing | fleet::Made::UpToDate);
    if is_made && !fresh {
        return Ok((first, server));
    }
    if !fresh {
        client
            .batch_execute("DROP SCHEMA hollow_mile CASCADE")
            .map_err(|e| AppError::machine(format!("the demo's fleet cannot be made anew: {e}")))?;
        fleet::init(&mut client, &address)?;
    }
    drop(client);
    for number in 1..=BENCHES {
        let folder = bench(home, number);
        if folder.exists() {
            std::fs::remove_dir_all(&folder).map_err(|e| AppError::file(&folder, "replaced", &e))?;
        }
    }
    let (next, done) = (AtomicUsize::new(0), AtomicUsize::new(0));
    let threads = std::thread::available_parallelism().map_or(2, usize::from).clamp(1, 8);
    let made: Vec<Result<(), AppError>> = std::thread::scope(|scope| {
        let work = || {
            loop {
                let bench = next.fetch_add(1, Ordering::Relaxed);
                if bench >= BENCHES {
                    return Ok(());
                }
                build(home, bench, &address)?;
                let n = done.fetch_add(1, Ordering::Relaxed) + 1;
                let _ = write!(std::io::stderr(), "\rbuilding the demo's fleet: bench {n} of {BENCHES}");
                let _ = std::io::stderr().flush();
            }
        };
        let hands: Vec<_> = (0..threads).map(|_| scope.spawn(work)).collect();
        let lost = || Err(AppError::machine("a thread of the demo's fleet ended"));
        hands.into_iter().map(|h| h.join().unwrap_or_else(|_| lost())).collect()
    });
    let _ = writeln!(std::io::stderr(), "\r{:60}\r", "");
    made.into_iter().collect::<Result<(), _>>()?;
    std::fs::write(&stamp, STAMP).map_err(|e| AppError::file(&stamp, "written", &e))?;
    Ok((first, server))
}

/// A bench: its ledger with its hauls, sent to the server.
fn build(home: &Path, bench: usize, address: &Address) -> Result<(), AppError> {
    let folder = self::bench(home, bench + 1);
    let mut ledger = Ledger::open(&folder)?;
    for number in (bench..DRIVES).step_by(BENCHES) {
        ledger = haul(ledger, bench, number, 0)?;
    }
    // Some of the neighbour's drives once more: drives and benches are told apart by that.
    for number in ((bench + 1) % BENCHES..DRIVES).step_by(BENCHES).filter(|n| n % TWICE == 0) {
        ledger = haul(ledger, bench, number, 1)?;
    }
    let mut sender = Sender::new(Membership::join(&folder, address, &format!("bench-{:02}", bench + 1))?)?;
    while sender.step(&ledger)?.more || ledger.unsent()? > 0 {
        std::thread::sleep(Duration::from_millis(1));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_demo_waits_until_the_first_has_gone_and_says_when_it_does_not() {
        let home = tempfile::tempdir().unwrap();
        let first = alone(home.path(), Duration::ZERO).unwrap();
        let said = alone(home.path(), Duration::ZERO).unwrap_err().to_string();
        assert!(said.contains("shown by another program"), "{said}");
        std::thread::scope(|scope| {
            let second = scope.spawn(|| alone(home.path(), Duration::from_secs(60)));
            drop(first);
            assert!(second.join().unwrap().is_ok());
        });
    }
}
