//! From what the user names to a drive: `/dev/…`, `sim:NAME`, `sim:FILE.toml`, `file:PATH`, `folder:PATH`.

use hollow_mile_core::quantity::text::named;
use hollow_mile_core::route::LaidOn;
use std::path::{Path, PathBuf};

use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::freight::Cargo;
use hollow_mile_core::drive::zones::ZoneCondition;
use hollow_mile_core::drive::{Drive, DriveIdentity, DriveKind, MeterUnit, Pattern};
use hollow_mile_core::quantity::units::{Bytes, ParseUnitError};
use hollow_mile_core::record::Conditions;
use hollow_mile_core::route;
use hollow_mile_core::route::{Amount, Leg, LegKind, Route};
use hollow_mile_drives::linux::guard::{Announce, Consent, remove_own_folder, to_nobody};
use hollow_mile_drives::linux::{
    BlockDrive, EngineChoice, FileDrive, FolderDrive, FolderError, Meter, WithMeters, filler_path,
    room_for_level,
};
use hollow_mile_drives::sim::{self, SimDrive, SimSpec};

use hollow_mile_ledger::{Ledger, Leftover};

use serde::{Deserialize, Serialize};

use crate::error::AppError;
use crate::freight;

/// A drive as the user names it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Target {
    /// A simulated drive, by name or file.
    Sim(String),
    /// A file to be made.
    File(PathBuf),
    /// A folder in which one of our own is made.
    Folder(PathBuf),
    /// A block device of this machine.
    Device(PathBuf),
}

impl Target {
    /// Reads a target as given on the command line.
    ///
    /// # Errors
    /// When it is none, with what would be.
    pub fn parse(text: &str) -> Result<Self, AppError> {
        let shown = named(text);
        if let Some(name) = text.strip_prefix("sim:").filter(|n| !n.is_empty()) {
            return Ok(Self::Sim(name.to_owned()));
        }
        if let Some(path) = text.strip_prefix("file:").filter(|p| !p.is_empty()) {
            return Ok(Self::File(PathBuf::from(path)));
        }
        if let Some(path) = text.strip_prefix("folder:").filter(|p| !p.is_empty()) {
            return Ok(Self::Folder(PathBuf::from(path)));
        }
        if text.starts_with("/dev/") {
            return Ok(Self::Device(PathBuf::from(text)));
        }
        Err(AppError::usage(format!(
            "\"{shown}\" is no drive: give /dev/… (`hollow-mile yard`), sim:NAME (`hollow-mile sim list`), sim:FILE.toml, file:PATH with --size, or folder:PATH for files"
        )))
    }
}

/// A simulated drive by its name, or from its file.
///
/// # Errors
/// When there is none of this name, or the file is broken (with line and column).
pub fn sim_spec(name: &str) -> Result<SimSpec, AppError> {
    if let Some(spec) = sim::shipped(name) {
        return Ok(spec);
    }
    let path = Path::new(name);
    if path.extension().is_some_and(|e| e == "toml") {
        let text = std::fs::read_to_string(path).map_err(|e| AppError::file(path, "read", &e))?;
        return SimSpec::from_toml(&text).map_err(|e| AppError::usage(format!("{}: {e}", path.display())));
    }
    let names: Vec<&str> = sim::SHIPPED.iter().map(|(n, _)| *n).collect();
    Err(AppError::usage(format!(
        "no simulated drive \"{}\": there are {}, or a file of your own that ends in .toml",
        named(name),
        names.join(", ")
    )))
}

/// What is asked of a drive before it is opened.
#[derive(Debug, Clone, Default)]
pub struct Wish {
    /// Of a file: how large.
    pub size: Option<Bytes>,
    /// Under which conditions.
    pub conditions: Conditions,
    /// Which repeat on this drive; varies the noise of a simulated one.
    pub repeat: u64,
    /// The route writes, or wipes.
    pub destroys: bool,
    /// The most that trees of files take at one time, on the target and on the source.
    pub cargo: (Cargo, Cargo),
    /// The highest level of fill that the route brings the drive to, percent.
    pub fills: Option<f64>,
    /// What the user agreed to lose.
    pub consent: Consent,
    /// What earlier hauls have written to a simulated drive over its life: its wear goes on, its data does not.
    pub lived: Option<Bytes>,
    /// The user's meters.
    pub meters: Vec<MeterWish>,
}

/// A meter of the user's beside a drive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MeterWish {
    /// Its name.
    pub name: String,
    /// A file, FIFO, serial line, or `hwmon:CHIP/INPUT`.
    pub path: String,
    /// What it measures; a sensor of the kernel's says that itself.
    pub unit: Option<MeterUnit>,
}

/// What the ledger knows to have been written to a simulated drive.
#[must_use]
pub fn lived(ledger: &Ledger, target: &Target) -> Option<Bytes> {
    let Target::Sim(name) = target else { return None };
    let wear = ledger.wear(&sim_spec(name).ok()?.serial).ok()?;
    wear.first()?.after.host_bytes_written
}

/// Opens a drive for a haul. A file is made here, and nothing is written yet; a device is opened read-only unless the
/// route writes, and then the guard decides.
///
/// # Errors
/// When there is no such drive, the file cannot be made, or the guard refuses.
pub fn open(target: &Target, wish: &Wish) -> Result<Opened, AppError> {
    open_announced(target, wish, &to_nobody)
}

/// Opens a drive as [`open`] does; each file and folder is announced before it is made.
///
/// # Errors
/// As [`open`], and when it cannot be announced.
pub fn open_announced(target: &Target, wish: &Wish, announce: Announce) -> Result<Opened, AppError> {
    let opened = open_drive(target, wish, announce)?;
    if wish.meters.is_empty() {
        return Ok(opened);
    }
    let meters = wish
        .meters
        .iter()
        .map(|m| Meter::open(&m.name, &m.path, m.unit))
        .collect::<Result<Vec<_>, _>>()
        .map_err(AppError::usage)?;
    let Opened { drive, files, said } = opened;
    Ok(Opened { drive: Box::new(WithMeters::new(drive, meters)), files, said })
}

fn engine_choice() -> EngineChoice {
    match std::env::var("HOLLOW_MILE_ENGINE").as_deref() {
        Ok("threads") => EngineChoice::Threads,
        _ => EngineChoice::Best,
    }
}

fn open_drive(target: &Target, wish: &Wish, announce: Announce) -> Result<Opened, AppError> {
    let Wish { size, conditions, repeat, .. } = wish;
    if size.is_some() && !matches!(target, Target::File(_)) {
        return Err(AppError::usage("--size goes with file:PATH; every other drive has its own capacity"));
    }
    match target {
        Target::Device(path) => {
            let consent = wish.destroys.then_some(&wish.consent);
            let drive = BlockDrive::open(path, consent, engine_choice(), rand_seed(*repeat))?;
            Ok(Opened { drive: Box::new(drive), files: Vec::new(), said: Vec::new() })
        }
        Target::Sim(name) => {
            let mut spec = sim_spec(name)?;
            if let Some(lived) = wish.lived {
                spec.wear.host_written = spec.wear.host_written.max(lived);
            }
            let mut drive = SimDrive::new(spec, &format!("sim:{name}"), conditions, *repeat);
            if let Some(source) = conditions.source.as_deref() {
                let Some(from) = source.strip_prefix("sim:") else {
                    return Err(AppError::usage(
                        "files on a simulated drive come from a simulated drive: give --from sim:NAME",
                    ));
                };
                let other = SimDrive::new(sim_spec(from)?, source, conditions, repeat.wrapping_add(1));
                drive = drive.with_source(other);
            }
            Ok(Opened { drive: Box::new(drive), files: Vec::new(), said: Vec::new() })
        }
        Target::Folder(path) => {
            let usage = |e: FolderError| AppError::usage(e.to_string());
            let mut drive =
                FolderDrive::create_announced(path, rand_seed(*repeat), announce).map_err(usage)?;
            match conditions.source.as_deref() {
                Some(sim) if sim.starts_with("sim:") => {
                    return Err(AppError::usage(
                        "a simulated drive gives no bytes to a real folder: give --from PATH or --from /dev/…",
                    ));
                }
                Some(source) => {
                    let source = source.strip_prefix("folder:").unwrap_or(source);
                    drive.set_source(Path::new(source), announce).map_err(usage)?;
                }
                None => {}
            }
            drive.fits(wish.cargo.0, wish.cargo.1).map_err(usage)?;
            let said = drive.shares_a_drive().then(|| {
                "source and target lie on one drive: what is read there slows what is written".to_owned()
            });
            let files = drive.folders();
            Ok(Opened { drive: Box::new(drive), files, said: said.into_iter().collect() })
        }
        Target::File(path) => {
            let size = size
                .ok_or_else(|| AppError::usage("file:PATH needs a size: add --size, such as --size 20GB"))?;
            let mut drive =
                FileDrive::create_announced(path, size, engine_choice(), rand_seed(*repeat), announce)?;
            let mut files = vec![drive.path().to_owned()];
            if let Some(level) = wish.fills {
                // The file of the haul takes its own part of the level, or goes beyond it.
                let folder = drive.path().parent().unwrap_or(Path::new("/"));
                let ppm = (level * 1e4).round() as u32;
                room_for_level(folder, ppm).map_err(|why| {
                    AppError::usage(format!("the file system cannot be brought so far: {why}"))
                })?;
                drive.make_filler(announce).map_err(|e| AppError::usage(e.to_string()))?;
                files.push(filler_path(drive.path()));
            }
            Ok(Opened { drive: Box::new(drive), files, said: Vec::new() })
        }
    }
}

/// Data must not repeat from one haul to the next: the clock and the process make a seed.
fn rand_seed(repeat: u64) -> u64 {
    let now = jiff::Timestamp::now().as_nanosecond() as u64;
    now ^ (u64::from(std::process::id()) << 32) ^ repeat
}

/// The size of a file target as a person gives it. A count of bytes and binary units are meant to the byte; `500 MB` is
/// meant roughly, and is rounded down to whole 4 KiB, which every file system can address.
///
/// # Errors
/// When it is no size.
pub fn file_size(text: &str) -> Result<Bytes, ParseUnitError> {
    let size: Bytes = text.parse()?;
    let roughly = text.trim().trim_end_matches('B').ends_with(['k', 'K', 'M', 'G', 'T', 'P']);
    Ok(if roughly { Bytes::new(size.get() / 4096 * 4096) } else { size })
}

/// A drive ready for a haul.
pub struct Opened {
    /// The drive.
    pub drive: Box<dyn Drive>,
    /// The files and folders that were made for it, or may be.
    pub files: Vec<PathBuf>,
    /// What is to be said of it before it begins, in sentences.
    pub said: Vec<String>,
}

/// Removes what a haul left behind, if it is still the same beyond doubt. Tells whether it was removed.
///
/// # Errors
/// When it cannot be removed.
pub fn remove_leftover(ledger: &Ledger, left: &Leftover) -> Result<bool, AppError> {
    Ok(ledger.remove_leftover(left, |folder| remove_own_folder(folder, None))?)
}

/// The simulated drives that ship, as the yard shows them.
#[must_use]
pub fn yard() -> Vec<(DriveIdentity, SimSpec)> {
    sim::SHIPPED
        .iter()
        .filter_map(|(name, _)| sim::shipped(name))
        .map(|spec| (spec.identity(&format!("sim:{}", spec.name)), spec))
        .collect()
}

/// A route by name or file: shipped ones, the user's own in the home folder, or a path that ends in `.toml`.
///
/// # Errors
/// When there is none, or the file is broken (with line and column).
pub fn find_route(name: &str, home: &Path) -> Result<Route, AppError> {
    let read = |path: &Path| -> Result<Route, AppError> {
        let text = std::fs::read_to_string(path).map_err(|e| AppError::file(path, "read", &e))?;
        Route::from_toml(&text).map_err(|e| AppError::usage(format!("{}: {e}", path.display())))
    };
    if name.ends_with(".toml") {
        return read(Path::new(name));
    }
    if let Some(route) = route::shipped(name) {
        return Ok(route);
    }
    // A name is a name and no way out of the folder.
    if !name.is_empty() && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_')) {
        let own = crate::home::routes(home).join(format!("{name}.toml"));
        if own.exists() {
            return read(&own);
        }
    }
    let names: Vec<&str> = route::SHIPPED.iter().map(|(n, _)| *n).collect();
    Err(AppError::usage(format!(
        "no route \"{}\": there are {}, your own in {}, or a file that ends in .toml",
        named(name),
        names.join(", "),
        crate::home::routes(home).display()
    )))
}

/// All routes that can be chosen: shipped ones, then the user's own. Broken files are left out and named.
#[must_use]
pub fn all_routes(home: &Path) -> (Vec<Route>, Vec<String>) {
    let mut routes: Vec<Route> = route::SHIPPED.iter().filter_map(|(n, _)| route::shipped(n)).collect();
    let mut broken = Vec::new();
    let mut files: Vec<PathBuf> = std::fs::read_dir(crate::home::routes(home))
        .map(|d| {
            d.flatten().map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "toml")).collect()
        })
        .unwrap_or_default();
    files.sort();
    for path in files {
        match find_route(&path.to_string_lossy(), home) {
            Ok(route) => routes.push(route),
            Err(e) => broken.push(e.message),
        }
    }
    (routes, broken)
}

/// Experiments that may take a share of what the drive is rated to take need to know what that is.
///
/// # Errors
/// When neither the drive nor its user states it.
pub fn wear_is_known(route: &Route, kind: DriveKind, endurance: Option<Bytes>) -> Result<(), AppError> {
    let by_share = |l: &&Leg| matches!(l.decide_wear, Some(Amount::Percent(_)));
    // Those of groups too.
    let flat = route.laid_out(LaidOn::file_system_if(kind == DriveKind::File));
    match flat.legs.iter().find(by_share).filter(|_| endurance.is_none()) {
        Some(leg) => Err(AppError::usage(format!(
            "{}, {}: decide_wear is a share of what the drive is rated to take, and nobody states that: state it as the endurance of its model (hollow-mile claims list), or say decide_wear in bytes",
            route.name,
            leg.words()
        ))),
        None => Ok(()),
    }
}

/// Checks a route against a drive before anything is asked of it.
///
/// # Errors
/// When a block or a region does not fit the drive.
pub fn fits(route: &Route, drive: &DriveIdentity, source: Option<&str>) -> Result<(), AppError> {
    freight::fits(route, drive.kind == DriveKind::Folder, drive.kind == DriveKind::Simulated, source)?;
    let (capacity, block) = (drive.capacity, drive.block);
    let flat = route.laid_out(LaidOn::file_system_if(drive.kind == DriveKind::File));
    for leg in flat.legs.iter().filter(|l| l.kind != LegKind::Freight) {
        let refuse = |why: String| Err(AppError::usage(format!("{}, {}: {why}", route.name, leg.words())));
        let blocks = match (leg.blocks.is_empty(), leg.mix.is_empty()) {
            (false, _) => leg.blocks.clone(),
            (true, false) => leg.mix.iter().map(|s| s.block).collect(),
            (true, true) => vec![leg.block],
        };
        if let Some(odd) = blocks.iter().find(|b| leg.kind.moves() && !b.get().is_multiple_of(block.get())) {
            let (odd, block) = (odd.binary(), block.binary());
            return refuse(format!("its block of {odd} is not a multiple of the drive's {block}"));
        }
        if let Some(why) = against_zones(leg, drive) {
            return refuse(why);
        }
        if leg.by == Erasure::ResetZones && leg.kind == LegKind::Wipe && drive.zones.is_none() {
            return refuse("the drive has no zones that could be reset: wipe by discard".into());
        }
        if leg.by.is_whole() && !matches!(drive.kind, DriveKind::Block | DriveKind::Simulated) {
            return refuse(format!(
                "{} erases whole NVMe and ATA drives, and this is none: wipe by discard",
                leg.by
            ));
        }
        let (start, end) = leg.region.on(capacity, leg.block);
        if (leg.kind.moves() || leg.kind == LegKind::Wipe) && (start >= end || end > capacity) {
            return refuse(format!(
                "its region goes from {start} to {end}, and the drive ends at {capacity}"
            ));
        }
        if let Some(large) = blocks.iter().find(|b| leg.kind.moves() && **b > end.saturating_sub(start)) {
            return refuse(format!("its block of {} is larger than its region", large.binary()));
        }
        if let Some(Amount::Bytes(level)) = leg.level.filter(|_| drive.kind != DriveKind::File)
            && level > capacity
        {
            return refuse(format!("its level of {level} is more than the {capacity} of the drive"));
        }
    }
    Ok(())
}

/// Why a leg cannot be done on a drive with zones, and what can be done instead; `None` when it can.
fn against_zones(leg: &Leg, drive: &DriveIdentity) -> Option<String> {
    let zones = drive.zones.as_ref().filter(|_| drive.writes_in_sequence_only())?;
    if leg.kind == LegKind::Verify || leg.stamped {
        let broken =
            [ZoneCondition::ReadOnly, ZoneCondition::Offline].into_iter().any(|c| zones.in_condition(c) > 0);
        if zones.capacity < zones.size || broken {
            return Some(
                "what is written to this drive's zones does not lie in one piece, and cannot be read back as stamped: some of its addresses hold nothing"
                    .into(),
            );
        }
        let (start, end) = leg.region.on(drive.capacity, leg.block);
        if leg.stamped && !start.get().is_multiple_of(zones.size.get().max(1)) {
            let size = zones.size.binary();
            return Some(format!(
                "a stamped write begins with a zone, each of {size}, and its region begins at {start}"
            ));
        }
        // A second pass resets a zone whole, and with it what the first wrote behind the place at which it ends.
        let once = leg.until.bytes.is_some_and(|b| b.of(drive.capacity) <= end.saturating_sub(start));
        if leg.stamped && !once {
            return Some(
                "a stamped write to zones is one pass over its region at most: give until.bytes, no more than that".into(),
            );
        }
    }
    if !leg.destroys() {
        return None;
    }
    if leg.decide {
        return Some("experiments would begin the drive's zones anew: decide = false".into());
    }
    if leg.kind == LegKind::Wipe {
        let stays = matches!(leg.by, Erasure::Discard | Erasure::WriteZeroes);
        return stays.then(|| {
            format!(
                "the drive's zones are host-managed and are emptied by a reset: by = \"{}\"",
                Erasure::ResetZones
            )
        });
    }
    let only = "the drive's zones are host-managed and take writes in sequence only";
    match leg.kind {
        LegKind::Write | LegKind::Fill if leg.pattern != Pattern::Sequential => {
            Some(format!("{only}: pattern = \"sequential\""))
        }
        LegKind::Write | LegKind::Fill | LegKind::Pace | LegKind::Breather
            if leg.mix.is_empty() && leg.spread.is_empty() =>
        {
            let least = drive.write_block();
            (!leg.block.get().is_multiple_of(least.get())).then(|| {
                format!(
                    "its block of {} is not a multiple of the {} that a write to a zone must have",
                    leg.block.binary(),
                    least.binary()
                )
            })
        }
        LegKind::Scan => Some(format!("{only}, and a scan goes back and forth: scan it by reading")),
        _ => Some(format!("{only}: this leg writes elsewhere too, so let it read, or take a write leg")),
    }
}

/// What will not go as the route seems to mean it on this drive, in sentences.
#[must_use]
pub fn doubts(route: &Route, drive: &DriveIdentity) -> Vec<String> {
    let on_file = drive.kind == DriveKind::File;
    let flat = route.laid_out(LaidOn::file_system_if(on_file));
    let mut all = Vec::new();
    let mut filled = if on_file { None } else { drive.fill_percent };
    if drive.writes_in_sequence_only()
        && flat.legs.iter().any(|l| l.workers > 1 && l.destroys() && l.kind.moves())
    {
        all.push("its zones are written by one thread, as many of them at once as the leg has operations in flight: workers is left out".into());
    }
    for leg in &flat.legs {
        match leg.kind {
            LegKind::Wipe if !on_file => filled = Some(0.0),
            LegKind::Fill => {
                let level =
                    leg.level.map(|l| l.of(drive.capacity).as_f64() / drive.capacity.as_f64() * 100.0);
                if let Some((level, now)) = level.zip(filled).filter(|(level, now)| *level + 1e-9 < *now) {
                    all.push(format!(
                        "the level of {level:.0} % lies below the {now:.0} % that it holds already, and is left out: put a wipe leg first"
                    ));
                }
                filled = filled.zip(level).map(|(a, b)| a.max(b)).or(level.filter(|_| !on_file));
            }
            _ => {}
        }
    }
    all.dedup();
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::error::Exit;

    #[test]
    fn a_size_in_decimal_units_is_meant_roughly_and_all_others_to_the_byte() {
        for (text, bytes) in [
            ("500MB", 499_998_720),
            ("500 M", 499_998_720),
            ("1 GB", 999_997_440),
            ("64 MiB", 64 << 20),
            ("1000001", 1_000_001),
            ("1000001 B", 1_000_001),
        ] {
            assert_eq!(file_size(text).unwrap().get(), bytes, "{text}");
        }
        assert!(file_size("much").is_err());
    }

    #[test]
    fn what_is_no_drive_is_refused_with_the_right_code() {
        assert_eq!(Target::parse("sim:x").unwrap(), Target::Sim("x".into()));
        assert_eq!(Target::parse("/dev/nvme0n1").unwrap(), Target::Device("/dev/nvme0n1".into()));
        for bad in ["", "sim:", "file:", "corrie", "\u{1b}[2J"] {
            let error = Target::parse(bad).unwrap_err();
            assert_eq!(error.exit, Exit::Usage);
            assert!(!error.message.contains('\u{1b}'), "control characters are not passed on");
        }
    }

    #[test]
    fn a_route_name_is_no_way_out_of_the_folder() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("routes")).unwrap();
        std::fs::write(dir.path().join("secret.toml"), "name = \"s\"").unwrap();
        assert!(find_route("../secret", dir.path()).unwrap_err().message.contains("no route"));
        let mine = "name = \"mine\"\n[[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }\n";
        std::fs::write(dir.path().join("routes/mine.toml"), mine).unwrap();
        std::fs::write(dir.path().join("routes/broken.toml"), "name = 3").unwrap();
        assert_eq!(find_route("mine", dir.path()).unwrap().name, "mine");
        let (routes, broken) = all_routes(dir.path());
        assert!(routes.iter().any(|r| r.name == "mine"));
        assert!(broken.len() == 1 && broken[0].contains("line 1, column 8"), "{broken:?}");
    }
}
