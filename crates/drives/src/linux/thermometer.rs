//! Temperatures that the kernel's hwmon shows of a drive, followed on a thread of its own: asking takes time that the load must not
//! wait for.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::Asking;
use hollow_mile_core::quantity::units::Celsius;

use super::pace::Pace;

const UNKNOWN: i32 = i32::MIN;
const EVERY: Duration = Duration::from_secs(1);
/// It is looked so often whether the next look is due.
const LOOK: Duration = Duration::from_millis(100);

/// Follows one sensor for as long as it lives.
pub struct Thermometer {
    millis: Arc<AtomicI32>,
    stop: Arc<AtomicBool>,
    pace: Pace,
}

/// The temperature sensors of a block device, by name: `hwmon*/temp*_input` in sysfs, of the device or of the one that
/// it is a part of.
pub(super) fn sensors(device: &Path) -> Vec<(String, PathBuf)> {
    let hwmon = device.ancestors().take(4).find_map(|dir| {
        [dir.to_owned(), dir.join("device")].iter().find_map(|d| {
            let found = std::fs::read_dir(d.join("hwmon")).or_else(|_| std::fs::read_dir(d)).ok()?;
            found
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().starts_with("hwmon"))
                .map(|e| e.path())
                .find(|p| p.join("temp1_input").exists())
        })
    });
    let Some(hwmon) = hwmon else { return Vec::new() };
    (1..=9)
        .map(|i| (i, hwmon.join(format!("temp{i}_input"))))
        .filter(|(_, input)| input.exists())
        .map(|(i, input)| {
            let label = std::fs::read_to_string(hwmon.join(format!("temp{i}_label"))).unwrap_or_default();
            let label = hollow_mile_core::drive::protocol::text(label.trim().as_bytes());
            (if label.is_empty() { format!("sensor {i}") } else { label }, input)
        })
        .collect()
}

fn plausible(millis: i32) -> Option<Celsius> {
    (-60_000..200_000).contains(&millis).then(|| Celsius::from_millis(millis))
}

/// What a sensor says now.
pub(super) fn read(sensor: &Path) -> Option<Celsius> {
    plausible(std::fs::read_to_string(sensor).ok()?.trim().parse().ok()?)
}

impl Thermometer {
    /// Of the drive with this folder in sysfs; `None` when it has no sensor.
    pub fn of(device: &Path) -> Option<Self> {
        let (_, sensor) = sensors(device).into_iter().next()?;
        let look = move || read(&sensor).map_or(UNKNOWN, Celsius::millis);
        let millis = Arc::new(AtomicI32::new(look()));
        let stop = Arc::new(AtomicBool::new(false));
        let pace = Pace::default();
        let (to, until, kept) = (millis.clone(), stop.clone(), pace.clone());
        std::thread::Builder::new()
            .name("thermometer".into())
            .spawn(move || {
                let mut looked = Instant::now();
                while !until.load(Ordering::Relaxed) {
                    std::thread::sleep(LOOK);
                    if kept.every(EVERY).is_some_and(|e| looked.elapsed() >= e) {
                        looked = Instant::now();
                        to.store(look(), Ordering::Relaxed);
                    }
                }
            })
            .ok()?;
        Some(Self { millis, stop, pace })
    }

    /// Says how often the sensor is read.
    pub fn ask_health(&self, how: Asking) {
        self.pace.set(how);
    }

    /// The latest reading.
    pub fn reading(&self) -> Option<Celsius> {
        Some(self.millis.load(Ordering::Relaxed)).filter(|m| *m != UNKNOWN).map(Celsius::from_millis)
    }
}

impl Drop for Thermometer {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sensor_is_found_on_the_device_or_above_it_and_nonsense_is_none() {
        let dir = tempfile::tempdir().unwrap();
        let disk = dir.path().join("nvme0/nvme0n1/nvme0n1p2");
        std::fs::create_dir_all(&disk).unwrap();
        assert!(Thermometer::of(&disk).is_none());
        let hwmon = dir.path().join("nvme0/hwmon3");
        std::fs::create_dir_all(&hwmon).unwrap();
        std::fs::write(hwmon.join("temp1_input"), "43850\n").unwrap();
        std::fs::write(hwmon.join("temp2_input"), "50000\n").unwrap();
        std::fs::write(hwmon.join("temp2_label"), "Sensor 1\n").unwrap();
        assert_eq!(Thermometer::of(&disk).unwrap().reading(), Some(Celsius::new(43.85)));
        assert_eq!(sensors(&disk)[1].0, "Sensor 1");
        std::fs::write(hwmon.join("temp1_input"), "999999999\n").unwrap();
        assert_eq!(Thermometer::of(&disk).unwrap().reading(), None);
    }

    #[test]
    fn a_sensor_that_is_left_alone_says_what_it_said_last() {
        let dir = tempfile::tempdir().unwrap();
        let sensor = dir.path().join("hwmon0");
        std::fs::create_dir_all(&sensor).unwrap();
        std::fs::write(sensor.join("temp1_input"), "40000\n").unwrap();
        let thermometer = Thermometer::of(dir.path()).unwrap();
        thermometer.ask_health(Asking::HeldOff);
        // One look may be under way.
        std::thread::sleep(2 * LOOK);
        std::fs::write(sensor.join("temp1_input"), "50000\n").unwrap();
        std::thread::sleep(EVERY + 3 * LOOK);
        assert_eq!(thermometer.reading(), Some(Celsius::new(40.0)));
        thermometer.ask_health(Asking::Usual);
        let began = Instant::now();
        while thermometer.reading() != Some(Celsius::new(50.0)) {
            assert!(began.elapsed() < Duration::from_secs(30), "it is looked at again");
            std::thread::sleep(LOOK);
        }
    }
}
