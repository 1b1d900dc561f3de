//! The drives of this machine: who they are, whether they may be written, how they are.

use hollow_mile_core::drive::health::{Health, Member};
use hollow_mile_core::drive::protocol::nvme_power::PowerState;
use hollow_mile_core::drive::zones::{ZoneCondition, ZoneFacts, ZoneModel};
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate};
use hollow_mile_core::record::Conditions;
use hollow_mile_drives::linux::guard::{Examination, Users};
use hollow_mile_drives::linux::health::Prober;
use hollow_mile_drives::linux::identify;
use hollow_mile_drives::linux::sysfs::{BlockDevice, Sysfs};
use hollow_mile_drives::linux::traffic::Counters;
use hollow_mile_drives::sim::SimDrive;
use hollow_mile_ledger::Ledger;
use serde::Serialize;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use crate::error::AppError;
use crate::targets::{self, Target, sim_spec};

/// Paths whose drives are never written: the ledger's folder and this program.
#[must_use]
pub fn protected(home: &Path) -> Vec<PathBuf> {
    let nearest = home.ancestors().find(|p| p.exists()).map(Path::to_owned);
    nearest.into_iter().chain(std::env::current_exe()).collect()
}

/// A device of this machine with all that can be known of it without disturbing it.
pub struct Device {
    /// As sysfs has it.
    pub block: BlockDevice,
    /// Who it is.
    pub identity: DriveIdentity,
    /// What stands against writing to it.
    pub examination: Examination,
    /// To ask it again.
    pub prober: Prober,
}

impl Device {
    fn of(sysfs: &Sysfs, users: &Users, block: BlockDevice, home: &Path) -> Self {
        let prober = Prober::of(&block);
        let identity = identify(&block, &prober);
        let examination = Examination::of(sysfs, users, &block, &protected(home));
        Self { block, identity, examination, prober }
    }
}

/// All devices of this machine.
#[must_use]
pub fn devices(home: &Path) -> Vec<Device> {
    let sysfs = Sysfs::default();
    let users = Users::now(&sysfs);
    sysfs.drives().into_iter().map(|b| Device::of(&sysfs, &users, b, home)).collect()
}

/// One device, by its path.
///
/// # Errors
/// When it does not exist or is no block device.
pub fn device(path: &Path, home: &Path) -> Result<Device, AppError> {
    let sysfs = Sysfs::default();
    let block = sysfs.by_path(path).map_err(AppError::usage)?;
    Ok(Device::of(&sysfs, &Users::now(&sysfs), block, home))
}

/// What lies below a device, as far as `health` knows how each drive is; nothing below a drive itself.
#[must_use]
pub fn members(block: &BlockDevice, health: &dyn Fn(&BlockDevice) -> Option<Health>) -> Vec<Member> {
    let below = Sysfs::default().tree(block).into_iter().skip(1);
    below
        .map(|branch| {
            let identity = branch.device.identity();
            let is_drive = branch.device.whole.is_none() && branch.device.members() == 0;
            let told = is_drive.then(|| health(&branch.device)).flatten().unwrap_or_default();
            Member {
                depth: u8::try_from(branch.depth).unwrap_or(u8::MAX),
                name: branch.device.name.clone(),
                what: branch.what,
                serial: identity.serial,
                capacity: identity.capacity,
                link: identity.link.filter(|_| is_drive),
                temperature: told.vitals.composite_temperature,
                percentage_used: told.vitals.percentage_used,
                warnings: told.warnings,
            }
        })
        .collect()
}

/// As [`members`], each drive asked now.
#[must_use]
pub fn members_asked(block: &BlockDevice) -> Vec<Member> {
    members(block, &|drive| Some(Prober::of(drive).health()))
}

/// What others move on a device just now, watched for so long; `None` where the kernel does not count.
#[must_use]
pub fn traffic_now(block: &BlockDevice, watch: Duration) -> Option<Rate> {
    let counters = Counters::of(&block.disk().folder)?;
    let (before, began) = (counters.read()?, Instant::now());
    std::thread::sleep(watch);
    let after = counters.read()?;
    Some(Bytes::new(after.sum().saturating_sub(before.sum())).over(began.elapsed()))
}

/// Traffic above this is worth a warning before a haul.
#[must_use]
pub fn is_busy(rate: Rate) -> bool {
    rate.mb_s() >= 1.0
}

/// Who a drive is and how it is, whatever it is.
///
/// # Errors
/// When there is no such drive.
pub fn health(target: &Target, home: &Path) -> Result<(DriveIdentity, Health), AppError> {
    match target {
        Target::Device(path) => {
            let device = device(path, home)?;
            let health = device.prober.health().with_members(members_asked(&device.block));
            Ok((device.identity, health))
        }
        Target::Sim(name) => {
            let mut spec = sim_spec(name)?;
            // Its wear goes on from haul to haul; a ledger that is not there is not made for that.
            let ledger = home.join("ledger.sqlite").exists().then(|| Ledger::open(home)).and_then(Result::ok);
            if let Some(lived) = ledger.and_then(|l| targets::lived(&l, target)) {
                spec.wear.host_written = spec.wear.host_written.max(lived);
            }
            let identity = spec.identity(&format!("sim:{name}"));
            let health = sim_health(&identity, SimDrive::new(spec, "", &Conditions::default(), 0));
            Ok((identity, health))
        }
        Target::File(path) | Target::Folder(path) => {
            let above = path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."));
            let folder = if matches!(target, Target::Folder(_)) { path } else { above };
            let under = Sysfs::default().under(folder);
            let drive = under.last().map_or_else(
                || "no drive that this system shows".to_owned(),
                |d| format!("/dev/{d}: ask for its vitals"),
            );
            Err(AppError::usage(format!("a file has no vitals of its own; it lies on {drive}")))
        }
    }
}

fn sim_health(identity: &DriveIdentity, mut drive: SimDrive) -> Health {
    use hollow_mile_core::drive::Drive;
    let vitals = drive.vitals().unwrap_or_default();
    Health {
        protocol: "simulated".into(),
        warnings: vitals.warnings().into_iter().map(Into::into).collect(),
        vitals,
        warning_temperature: identity.throttle_limit,
        self_test_supported: true,
        ..Health::default()
    }
}

/// A drive and its health as JSON.
#[derive(Serialize)]
pub struct HealthDocument {
    drive: String,
    model: String,
    serial: String,
    firmware: String,
    protocol: String,
    link: Option<String>,
    link_shortfall: Option<String>,
    temperature_c: Option<f64>,
    warning_temperature_c: Option<f64>,
    critical_temperature_c: Option<f64>,
    temperatures: Vec<NamedTemperature>,
    percentage_used: Option<f64>,
    available_spare_percent: Option<u8>,
    host_written_bytes: Option<u64>,
    host_read_bytes: Option<u64>,
    power_on_hours: Option<u64>,
    power_cycles: Option<u64>,
    unsafe_shutdowns: Option<u64>,
    media_errors: Option<u64>,
    error_log_entries: Option<u64>,
    warning_temperature_minutes: Option<u64>,
    critical_temperature_minutes: Option<u64>,
    thermal_transitions: Option<u64>,
    thermal_seconds: Option<u64>,
    critical_warning: Option<u8>,
    /// NVMe power states, and which is set.
    power_states: Vec<PowerState>,
    power_state: Option<u8>,
    warnings: Vec<String>,
    attributes: Vec<hollow_mile_core::drive::protocol::ata::Attribute>,
    errors: Vec<String>,
    self_test_supported: bool,
    self_tests: hollow_mile_core::drive::protocol::nvme::SelfTestLog,
    gaps: Vec<String>,
    /// Zones, where it has such.
    zones: Option<ZonesDocument>,
    /// What it is built of, each after what is built on it.
    members: Vec<MemberDocument>,
}

/// Zones of a drive, in JSON.
#[derive(Serialize)]
pub struct ZonesDocument {
    model: ZoneModel,
    size_bytes: u64,
    capacity_bytes: u64,
    count: u32,
    /// 0: no limit.
    most_open: u32,
    /// 0: no limit.
    most_active: u32,
    /// Number and condition, in the order of addresses.
    map: Vec<(u32, ZoneCondition)>,
    written_bytes: Option<u64>,
}

impl ZonesDocument {
    /// Of what the drive says.
    #[must_use]
    pub fn of(z: &ZoneFacts) -> Self {
        Self {
            model: z.model,
            size_bytes: z.size.get(),
            capacity_bytes: z.capacity.get(),
            count: z.count,
            most_open: z.most_open,
            most_active: z.most_active,
            map: z.map.clone(),
            written_bytes: z.written.map(Bytes::get),
        }
    }
}

/// A device below another, in JSON.
#[derive(Serialize)]
pub struct MemberDocument {
    depth: u8,
    name: String,
    what: String,
    serial: String,
    capacity_bytes: u64,
    link: Option<String>,
    link_shortfall: Option<String>,
    temperature_c: Option<f64>,
    percentage_used: Option<f64>,
    warnings: Vec<String>,
}

impl MemberDocument {
    /// Of what is known of it.
    #[must_use]
    pub fn of(m: &Member) -> Self {
        Self {
            depth: m.depth,
            name: m.name.clone(),
            what: m.what.clone(),
            serial: m.serial.clone(),
            capacity_bytes: m.capacity.get(),
            link: m.link.as_ref().map(hollow_mile_core::drive::Link::words),
            link_shortfall: m.link.as_ref().and_then(hollow_mile_core::drive::Link::shortfall),
            temperature_c: m.temperature.map(Celsius::degrees),
            percentage_used: m.percentage_used,
            warnings: m.warnings.clone(),
        }
    }
}

#[derive(Serialize)]
struct NamedTemperature {
    name: String,
    c: f64,
}

impl HealthDocument {
    /// Puts the two together.
    #[must_use]
    pub fn new(identity: &DriveIdentity, health: &Health) -> Self {
        let v = health.vitals.clone();
        let degrees = |t: Option<Celsius>| t.map(Celsius::degrees);
        Self {
            drive: identity.target.clone(),
            model: identity.model.clone(),
            serial: identity.serial.clone(),
            firmware: identity.firmware.clone(),
            protocol: health.protocol.clone(),
            link: identity.link.as_ref().map(hollow_mile_core::drive::Link::words),
            link_shortfall: identity.link.as_ref().and_then(hollow_mile_core::drive::Link::shortfall),
            temperature_c: degrees(v.composite_temperature),
            warning_temperature_c: degrees(health.warning_temperature),
            critical_temperature_c: degrees(health.critical_temperature),
            temperatures: health
                .temperatures
                .iter()
                .map(|(name, t)| NamedTemperature { name: name.clone(), c: t.degrees() })
                .collect(),
            percentage_used: v.percentage_used,
            available_spare_percent: v.available_spare,
            host_written_bytes: v.host_bytes_written.map(Bytes::get),
            host_read_bytes: v.host_bytes_read.map(Bytes::get),
            power_on_hours: v.power_on_hours,
            power_cycles: v.power_cycles,
            unsafe_shutdowns: v.unsafe_shutdowns,
            media_errors: v.media_errors,
            error_log_entries: v.error_log_entries,
            warning_temperature_minutes: v.warning_minutes,
            critical_temperature_minutes: v.critical_minutes,
            thermal_transitions: v.thermal_transitions,
            thermal_seconds: v.thermal_seconds,
            critical_warning: v.critical_warning,
            power_states: health.power_states.clone(),
            power_state: v.power_state,
            warnings: health.warnings.clone(),
            attributes: health.attributes.clone(),
            errors: health.errors.clone(),
            self_test_supported: health.self_test_supported,
            self_tests: health.self_tests.clone(),
            gaps: health.gaps.clone(),
            zones: identity.zones.as_ref().map(ZonesDocument::of),
            members: health.members.iter().map(MemberDocument::of).collect(),
        }
    }
}

/// The sort of a drive in a word.
#[must_use]
pub const fn kind_word(kind: DriveKind) -> &'static str {
    match kind {
        DriveKind::Simulated => "simulated",
        DriveKind::File => "file",
        DriveKind::Folder => "folder",
        DriveKind::Block => "device",
        DriveKind::Imported => "imported",
    }
}
