//! Asks a drive who it is and how it is, in whichever protocol it speaks, and starts its self-tests.
//!
//! What cannot be asked is said in words and left out; nothing is guessed. Without the right to ask the drive itself,
//! the kernel's hwmon still gives its temperature.

use std::fs::File;
use std::io::ErrorKind;
use std::path::PathBuf;

use hollow_mile_core::drive::DriveIdentity;
use hollow_mile_core::drive::Vitals;
use hollow_mile_core::drive::health::Health;
use hollow_mile_core::drive::protocol::ata;
use hollow_mile_core::drive::protocol::ata::{DeviceStatistics, IdentifyDevice, SctStatus, SmartData};
use hollow_mile_core::drive::protocol::nvme;
use hollow_mile_core::drive::protocol::nvme::{
    ERROR_ENTRY_LENGTH, IdentifyController, IdentifyNamespace, SelfTestLog, SmartLog,
};
use hollow_mile_core::drive::protocol::nvme_media::MediaWritten;
use hollow_mile_core::drive::protocol::nvme_power::{PowerState, power_state};
use hollow_mile_core::drive::protocol::sat;
use hollow_mile_core::drive::protocol::sat::Transfer;
use hollow_mile_core::quantity::units::{Bytes, Celsius};

use super::media_log::MediaLog;
use super::pass_through::{ALL_NAMESPACES, ata as send, nvme_admin, nvme_namespace};
use super::sysfs::BlockDevice;
use super::thermometer;

/// Opcodes of the admin command set (NVM Express Base 2.0, figure 138).
mod opcode {
    pub const GET_LOG_PAGE: u8 = 0x02;
    pub const IDENTIFY: u8 = 0x06;
    pub const GET_FEATURES: u8 = 0x0a;
    pub const DEVICE_SELF_TEST: u8 = 0x14;
}

/// Subcommands of SMART (ACS-4, 7.48).
mod smart {
    pub const READ_DATA: u8 = 0xd0;
    pub const READ_THRESHOLDS: u8 = 0xd1;
    pub const EXECUTE_OFF_LINE: u8 = 0xd4;
    pub const READ_LOG: u8 = 0xd5;
    pub const RETURN_STATUS: u8 = 0xda;
}

enum Speech {
    Nvme {
        namespace: u32,
        controller: Box<IdentifyController>,
        media: MediaLog,
        power: Vec<PowerState>,
    },
    Ata {
        identify: Box<IdentifyDevice>,
    },
    /// A card: what sysfs has of its wear, read when it was found.
    Card {
        used: Option<f64>,
        warning: Option<&'static str>,
    },
    Nothing,
}

/// One drive that can be asked.
pub struct Prober {
    file: Option<File>,
    speech: Speech,
    sensors: Vec<(String, PathBuf)>,
    /// What could not be asked at all, and why.
    gaps: Vec<String>,
}

fn why(e: &std::io::Error) -> String {
    match e.kind() {
        ErrorKind::PermissionDenied => {
            "no permission: run as root, or with CAP_SYS_ADMIN for NVMe and CAP_SYS_RAWIO for ATA; identity, link and hwmon temperature work without"
                .into()
        }
        _ => match e.raw_os_error() {
            Some(libc::ENOTTY | libc::EINVAL | libc::ENOSYS) => "the kernel passes no such commands to this device".into(),
            _ => e.to_string(),
        },
    }
}

pub(super) fn nvme_log(file: &File, page: u8, namespace: u32, length: usize) -> std::io::Result<Vec<u8>> {
    nvme_log_of(file, page, 0, namespace, length)
}

/// As [`nvme_log`], of what the Log Specific Identifier names.
pub(super) fn nvme_log_of(
    file: &File,
    page: u8,
    of: u16,
    namespace: u32,
    length: usize,
) -> std::io::Result<Vec<u8>> {
    let mut data = vec![0u8; length];
    let dwords = (length / 4 - 1) as u32;
    // Retain Asynchronous Event (bit 15): reading must not swallow what the kernel waits for.
    let cdw10 = u32::from(page) | 1 << 15 | (dwords & 0xffff) << 16;
    let cdw11 = dwords >> 16 | u32::from(of) << 16;
    nvme_admin(file, opcode::GET_LOG_PAGE, namespace, cdw10, cdw11, &mut data)?;
    Ok(data)
}

pub(super) fn nvme_identify(file: &File, namespace: u32, cns: u32) -> std::io::Result<Vec<u8>> {
    let mut data = vec![0u8; 4096];
    nvme_admin(file, opcode::IDENTIFY, namespace, cns, 0, &mut data)?;
    Ok(data)
}

fn smart_read(file: &File, subcommand: u8, address: u8) -> std::io::Result<[u8; ata::PAGE]> {
    let mut data = [0u8; ata::PAGE];
    send(file, sat::smart(subcommand, address), Transfer::In(1), false, &mut data)?;
    Ok(data)
}

/// A drive of the ATA family, or behind a bridge that may translate.
fn speaks_ata(device: &BlockDevice) -> bool {
    matches!(device.transport().as_str(), "ata" | "usb" | "scsi")
}

impl Prober {
    /// Finds out how this drive can be asked.
    #[must_use]
    pub fn of(device: &BlockDevice) -> Self {
        let sensors = thermometer::sensors(&device.disk().folder);
        let mut prober = Self { file: None, speech: Speech::Nothing, sensors, gaps: Vec::new() };
        let is_nvme = device.transport() == "nvme";
        if device.transport() == "mmc" {
            let (used, warning) = device.card_wear();
            if used.is_none() {
                prober.gaps.push("this card tells nothing of its wear".into());
            }
            prober.speech = Speech::Card { used, warning };
            return prober;
        }
        if !is_nvme && !speaks_ata(device) {
            let transport = device.transport();
            prober.gaps.push(format!("a {transport} device has no health of its own to tell"));
            return prober;
        }
        let file = match File::open(device.disk().node()) {
            Ok(file) => file,
            Err(e) => {
                prober.gaps.push(format!("health: {}", why(&e)));
                return prober;
            }
        };
        let speech = if is_nvme { Self::find_nvme(&file) } else { Self::find_ata(&file) };
        match speech {
            Ok(speech) => prober.speech = speech,
            Err(gap) => prober.gaps.push(gap),
        }
        prober.file = Some(file);
        prober
    }

    fn find_nvme(file: &File) -> Result<Speech, String> {
        let ask = |e: std::io::Error| format!("Identify Controller: {}", why(&e));
        let namespace = nvme_namespace(file).map_err(ask)?;
        let page = nvme_identify(file, 0, 1).map_err(ask)?;
        let controller = IdentifyController::decode(&page).map_err(|e| e.to_string())?;
        let media = MediaLog::of(file, namespace, &page, controller.version);
        let power = PowerState::decode_all(&page).unwrap_or_default();
        Ok(Speech::Nvme { namespace, controller: Box::new(controller), media, power })
    }

    fn find_ata(file: &File) -> Result<Speech, String> {
        let mut page = [0u8; ata::PAGE];
        send(file, sat::IDENTIFY, Transfer::In(1), false, &mut page)
            .map_err(|e| format!("IDENTIFY DEVICE: {}", why(&e)))?;
        let mut identify = IdentifyDevice::decode(&page).map_err(|e| e.to_string())?;
        if identify.smart && !identify.self_test {
            // Some drives tell it in their SMART data alone.
            let data = smart_read(file, smart::READ_DATA, 0).ok();
            identify.self_test = data.and_then(|d| SmartData::decode(&d).ok()).is_some_and(|d| d.self_test);
        }
        Ok(Speech::Ata { identify: Box::new(identify) })
    }

    /// Adds what the drive says of itself to what sysfs said.
    pub fn complete(&self, identity: &mut DriveIdentity) {
        let facts = identity.device.get_or_insert_default();
        match (&self.speech, &self.file) {
            (Speech::Nvme { namespace, controller, .. }, Some(file)) => {
                identity.model.clone_from(&controller.model_number);
                identity.serial.clone_from(&controller.serial_number);
                identity.firmware.clone_from(&controller.firmware_revision);
                let managed = self.thermal_management().0;
                identity.throttle_limit = match (managed, controller.warning_temperature) {
                    (Some(a), Some(b)) => Some(if a <= b { a } else { b }),
                    (a, b) => a.or(b),
                };
                let space =
                    nvme_identify(file, *namespace, 0).ok().and_then(|p| IdentifyNamespace::decode(&p).ok());
                if let Some(space) = space {
                    facts.metadata = space.metadata;
                    facts.utilization = Some(space.utilization);
                    // Only a thin namespace counts what is really allocated.
                    let whole = space.size > Bytes::ZERO && space.thin;
                    identity.fill_percent =
                        whole.then(|| space.utilization.as_f64() / space.size.as_f64() * 100.0);
                }
            }
            (Speech::Ata { identify }, _) => {
                if !identify.model_number.is_empty() {
                    identity.model.clone_from(&identify.model_number);
                }
                if !identify.serial_number.is_empty() {
                    identity.serial.clone_from(&identify.serial_number);
                }
                if !identify.firmware_revision.is_empty() {
                    identity.firmware.clone_from(&identify.firmware_revision);
                }
                if let Some(link) = identity.link.as_mut().filter(|l| l.bus == "SATA") {
                    link.best_generation = identify.sata_best;
                    if link.generation == 0 {
                        link.generation = identify.sata_now;
                    }
                }
                if let Some(rpm) = identify.rotation_rpm {
                    identity.rotational = rpm > 0;
                }
            }
            _ => {}
        }
    }

    fn thermal_management(&self) -> (Option<Celsius>, Option<Celsius>) {
        match (&self.speech, &self.file) {
            (Speech::Nvme { controller, .. }, Some(file)) if controller.host_thermal_management => {
                nvme_admin(file, opcode::GET_FEATURES, 0, 0x10, 0, &mut [])
                    .map_or((None, None), nvme::thermal_management)
            }
            _ => (None, None),
        }
    }

    fn by_sensor(&self) -> Vec<(String, Celsius)> {
        self.sensors
            .iter()
            .filter_map(|(name, path)| Some((name.clone(), thermometer::read(path)?)))
            .collect()
    }

    /// A quick reading, as taken once a second under load: the figures, and every temperature by name.
    ///
    /// On an ATA drive any command of this kind makes the drive empty its queue, so under load only its temperature is
    /// asked, and the caller watches how long that takes.
    pub fn glance(&self, under_load: bool) -> (Vitals, Vec<(String, Celsius)>) {
        let by_sensor = || {
            let all = self.by_sensor();
            let composite_temperature = all.first().map(|(_, t)| *t);
            (Vitals { composite_temperature, ..Vitals::default() }, all)
        };
        match (&self.speech, &self.file) {
            (Speech::Nvme { media, .. }, Some(file)) => {
                let log = nvme_log(file, 2, ALL_NAMESPACES, SmartLog::LENGTH)
                    .ok()
                    .and_then(|page| SmartLog::decode(&page).ok());
                log.map_or_else(by_sensor, |log| {
                    let sensors = log.sensors.iter().map(|(n, t)| (format!("sensor {n}"), *t)).collect();
                    let media_written = media.read(file);
                    let power_state = self.power_state();
                    (Vitals { media_written, power_state, ..Vitals::of_nvme(&log) }, sensors)
                })
            }
            (Speech::Ata { identify }, Some(file)) => {
                let sct = self.sct(file, identify);
                if under_load && let Some(temperature) = sct.as_ref().and_then(|s| s.temperature) {
                    let vitals = Vitals { composite_temperature: Some(temperature), ..Vitals::default() };
                    return (vitals, Vec::new());
                }
                let data = self.smart_data(file, identify, &mut Vec::new());
                let statistics =
                    if under_load { DeviceStatistics::default() } else { statistics(file, identify) };
                (
                    Vitals::of_ata(data.as_ref(), &statistics, sct.as_ref(), identify.logical_sector),
                    Vec::new(),
                )
            }
            _ => by_sensor(),
        }
    }

    #[allow(clippy::unused_self, reason = "reads better beside its siblings")]
    fn sct(&self, file: &File, identify: &IdentifyDevice) -> Option<SctStatus> {
        let page = identify.sct.then(|| smart_read(file, smart::READ_LOG, 0xe0).ok()).flatten()?;
        SctStatus::decode(&page).ok()
    }

    #[allow(clippy::unused_self, reason = "reads better beside its siblings")]
    fn smart_data(
        &self,
        file: &File,
        identify: &IdentifyDevice,
        gaps: &mut Vec<String>,
    ) -> Option<SmartData> {
        if !identify.smart {
            gaps.push("SMART: the drive does not offer it, or it is switched off".into());
            return None;
        }
        let page = smart_read(file, smart::READ_DATA, 0);
        let page = page.map_err(|e| gaps.push(format!("SMART READ DATA: {}", why(&e)))).ok()?;
        SmartData::decode(&page).map_err(|e| gaps.push(e.to_string())).ok()
    }

    /// Everything that the drive tells of its health.
    #[must_use]
    pub fn health(&self) -> Health {
        let mut health = match (&self.speech, &self.file) {
            (Speech::Nvme { controller, .. }, Some(file)) => self.nvme_health(file, controller),
            (Speech::Ata { identify }, Some(file)) => self.ata_health(file, identify),
            (Speech::Card { used, warning }, _) => Health {
                protocol: if used.is_some() { "extended CSD, by the kernel".into() } else { String::new() },
                vitals: Vitals { percentage_used: *used, ..Vitals::default() },
                warnings: warning.iter().map(|w| (*w).to_owned()).collect(),
                ..Health::default()
            },
            _ => {
                let (vitals, temperatures) = self.glance(false);
                let protocol = if temperatures.is_empty() { "" } else { "hwmon" };
                Health { protocol: protocol.into(), vitals, temperatures, ..Health::default() }
            }
        };
        health.gaps.splice(0..0, self.gaps.iter().cloned());
        health
    }

    /// The power state that is set; a controller with one alone is not asked.
    fn power_state(&self) -> Option<u8> {
        match (&self.speech, &self.file) {
            (Speech::Nvme { power, .. }, Some(file)) if power.len() > 1 => {
                nvme_admin(file, opcode::GET_FEATURES, 0, 0x02, 0, &mut []).ok().map(power_state)
            }
            _ => None,
        }
    }

    fn power_states(&self) -> Vec<PowerState> {
        match &self.speech {
            Speech::Nvme { power, .. } => power.clone(),
            _ => Vec::new(),
        }
    }

    fn media_written(&self) -> Option<MediaWritten> {
        match (&self.speech, &self.file) {
            (Speech::Nvme { media, .. }, Some(file)) => media.read(file),
            _ => None,
        }
    }

    fn nvme_health(&self, file: &File, controller: &IdentifyController) -> Health {
        let mut h = Health {
            protocol: "NVMe".into(),
            warning_temperature: controller.warning_temperature,
            critical_temperature: controller.critical_temperature,
            thermal_management: self.thermal_management(),
            power_states: self.power_states(),
            self_test_supported: controller.self_test,
            extended_self_test_minutes: Some(controller.extended_self_test_minutes).filter(|m| *m > 0),
            ..Health::default()
        };
        let page = nvme_log(file, 2, ALL_NAMESPACES, SmartLog::LENGTH).map_err(|e| why(&e));
        match page.and_then(|p| SmartLog::decode(&p).map_err(|e| e.to_string())) {
            Ok(log) => {
                let (media_written, power_state) = (self.media_written(), self.power_state());
                h.vitals = Vitals { media_written, power_state, ..Vitals::of_nvme(&log) };
                h.warnings = h.vitals.warnings().into_iter().map(Into::into).collect();
                h.temperatures = log.sensors.iter().map(|(n, t)| (format!("sensor {n}"), *t)).collect();
            }
            Err(e) => h.gaps.push(format!("SMART / Health Information: {e}")),
        }
        let entries = usize::from(controller.error_log_entries).min(64);
        match nvme_log(file, 1, ALL_NAMESPACES, entries * ERROR_ENTRY_LENGTH) {
            Ok(page) => {
                h.errors = nvme::decode_error_log(&page)
                    .iter()
                    .map(|e| {
                        format!(
                            "no. {}: status {:X}h/{:02X}h, block {}, namespace {}, queue {}",
                            e.error_count, e.status_code_type, e.status_code, e.lba, e.namespace, e.queue
                        )
                    })
                    .collect();
            }
            Err(e) => h.gaps.push(format!("Error Information: {}", why(&e))),
        }
        if controller.self_test {
            match self.self_tests() {
                Ok(log) => {
                    h.vitals.self_test_percent = log.running.map(|r| r.1);
                    h.self_tests = log;
                }
                Err(e) => h.gaps.push(e),
            }
        }
        h
    }

    fn ata_health(&self, file: &File, identify: &IdentifyDevice) -> Health {
        let mut h =
            Health { protocol: "ATA".into(), self_test_supported: identify.self_test, ..Health::default() };
        let sct = self.sct(file, identify);
        let statistics = statistics(file, identify);
        let mut data = self.smart_data(file, identify, &mut h.gaps);
        if let Some(data) = &mut data {
            match smart_read(file, smart::READ_THRESHOLDS, 0) {
                Ok(page) => h.gaps.extend(data.add_thresholds(&page).err().map(|e| e.to_string())),
                Err(e) => h.gaps.push(format!("SMART READ THRESHOLDS: {}", why(&e))),
            }
            h.extended_self_test_minutes = Some(data.extended_self_test_minutes).filter(|m| *m > 0);
            h.attributes.clone_from(&data.attributes);
            h.warnings.extend(
                data.attributes
                    .iter()
                    .filter(|a| a.failed())
                    .map(|a| format!("attribute {} is {}, at or below its threshold", a.id, a.value)),
            );
            // Cylinder registers F42Ch: a threshold is exceeded (ACS-4, 7.48.10).
            let status = send(file, sat::smart(smart::RETURN_STATUS, 0), Transfer::None, true, &mut []);
            if matches!(status, Ok(Some(r)) if r.lba >> 8 == 0x2cf4) {
                h.warnings.push("SMART status: the drive expects to fail".into());
            }
        }
        h.vitals = Vitals::of_ata(data.as_ref(), &statistics, sct.as_ref(), identify.logical_sector);
        h.warning_temperature = statistics.maximum_temperature;
        if identify.smart {
            match smart_read(file, smart::READ_LOG, 1).map_err(|e| why(&e)) {
                Ok(page) => match ata::decode_error_log(&page) {
                    Ok((count, entries)) => {
                        h.vitals.error_log_entries = Some(count.into());
                        h.errors = entries
                            .iter()
                            .map(|e| {
                                format!(
                                    "command {:02X}h: error {:02X}h, status {:02X}h, block {}, after {} h",
                                    e.command, e.error, e.status, e.lba, e.power_on_hours
                                )
                            })
                            .collect();
                    }
                    Err(e) => h.gaps.push(e.to_string()),
                },
                Err(e) => h.gaps.push(format!("Summary SMART error log: {e}")),
            }
        }
        if identify.self_test {
            match self.self_tests() {
                Ok(log) => h.self_tests = log,
                Err(e) => h.gaps.push(e),
            }
        }
        h
    }

    /// The drive can test itself.
    #[must_use]
    pub fn has_self_test(&self) -> bool {
        match &self.speech {
            Speech::Nvme { controller, .. } => controller.self_test,
            Speech::Ata { identify } => identify.self_test,
            Speech::Card { .. } | Speech::Nothing => false,
        }
    }

    /// The self-test that runs, and those that ended.
    ///
    /// # Errors
    /// In a sentence.
    pub fn self_tests(&self) -> Result<SelfTestLog, String> {
        match (&self.speech, &self.file) {
            (Speech::Nvme { .. }, Some(file)) => {
                let page = nvme_log(file, 6, ALL_NAMESPACES, SelfTestLog::LENGTH)
                    .map_err(|e| format!("Device Self-test log: {}", why(&e)))?;
                SelfTestLog::decode(&page).map_err(|e| e.to_string())
            }
            (Speech::Ata { identify }, Some(file)) => {
                let page = smart_read(file, smart::READ_LOG, 6)
                    .map_err(|e| format!("SMART self-test log: {}", why(&e)))?;
                let mut log = ata::decode_self_test_log(&page).map_err(|e| e.to_string())?;
                let data = self.smart_data(file, identify, &mut Vec::new());
                log.running =
                    data.and_then(|d| d.self_test_running()).map(|p| (nvme::SelfTestKind::Other(0), p));
                Ok(log)
            }
            _ => Err("this drive cannot be asked for its self-tests".into()),
        }
    }

    /// Starts a self-test, or ends the one that runs when `extended` is `None`.
    ///
    /// # Errors
    /// In a sentence.
    pub fn self_test(&self, extended: Option<bool>) -> Result<(), String> {
        let words = |e: std::io::Error| format!("self-test: {}", why(&e));
        if !self.has_self_test() {
            let gap = self.gaps.first().map(|g| format!(" ({g})")).unwrap_or_default();
            return Err(format!("this drive offers no self-test{gap}"));
        }
        match (&self.speech, &self.file) {
            (Speech::Nvme { .. }, Some(file)) => {
                // Self-test Code (Base 2.0, figure 166): 1h short, 2h extended, Fh abort.
                let code = extended.map_or(0xf, |e| if e { 2 } else { 1 });
                nvme_admin(file, opcode::DEVICE_SELF_TEST, ALL_NAMESPACES, code, 0, &mut [])
                    .map_err(words)?;
            }
            (Speech::Ata { .. }, Some(file)) => {
                // Off-line mode (ACS-4, 7.48.5): 01h short, 02h extended, 7Fh abort.
                let code = extended.map_or(0x7f, |e| if e { 2 } else { 1 });
                send(file, sat::smart(smart::EXECUTE_OFF_LINE, code), Transfer::None, false, &mut [])
                    .map_err(words)?;
            }
            _ => {}
        }
        Ok(())
    }
}

/// The standard's own health figures of an ATA drive, where it keeps them.
fn statistics(file: &File, identify: &IdentifyDevice) -> DeviceStatistics {
    let mut all = DeviceStatistics::default();
    // A command that is aborted makes the kernel reset the port, and everybody on it waits: not asked in vain.
    if !identify.general_purpose_logging {
        return all;
    }
    let mut pages = [0u8; ata::PAGE * 8];
    // The whole log at once: its pages have no address of their own in SMART READ LOG.
    if send(file, sat::smart(smart::READ_LOG, 4), Transfer::In(8), false, &mut pages).is_ok() {
        for page in pages.chunks_exact(ata::PAGE) {
            // A short page cannot be here, and one of another number is passed over.
            let _ = all.add_page(page);
        }
    }
    all
}
