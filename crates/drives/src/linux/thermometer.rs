//! The temperature of the drive under a file, from the kernel's hwmon, once a second, on a thread of its own: asking a
//! drive for its temperature takes time that the load must not wait for.

use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::time::Duration;

use hollow_mile_core::units::Celsius;

const UNKNOWN: i32 = i32::MIN;

/// Follows one sensor for as long as it lives.
pub struct Thermometer {
    millis: Arc<AtomicI32>,
    stop: Arc<AtomicBool>,
}

/// The first temperature sensor of a block device: `device/hwmon*/temp1_input` in sysfs, of the device or of the one
/// that it is a part of.
fn sensor(device: &Path) -> Option<PathBuf> {
    device.ancestors().take(4).find_map(|dir| {
        [dir.to_owned(), dir.join("device")].iter().find_map(|d| {
            let found = std::fs::read_dir(d.join("hwmon")).or_else(|_| std::fs::read_dir(d)).ok()?;
            found
                .flatten()
                .filter(|e| e.file_name().to_string_lossy().starts_with("hwmon"))
                .map(|e| e.path().join("temp1_input"))
                .find(|p| p.exists())
        })
    })
}

fn read(sensor: &Path) -> Option<i32> {
    std::fs::read_to_string(sensor).ok()?.trim().parse().ok().filter(|m| (-60_000..200_000).contains(m))
}

impl Thermometer {
    /// Of the drive with this folder in sysfs; `None` when it has no sensor.
    pub fn of(device: &Path) -> Option<Self> {
        let sensor = sensor(device)?;
        let millis = Arc::new(AtomicI32::new(read(&sensor).unwrap_or(UNKNOWN)));
        let stop = Arc::new(AtomicBool::new(false));
        let (to, until) = (millis.clone(), stop.clone());
        std::thread::Builder::new()
            .name("thermometer".into())
            .spawn(move || {
                while !until.load(Ordering::Relaxed) {
                    std::thread::sleep(Duration::from_secs(1));
                    to.store(read(&sensor).unwrap_or(UNKNOWN), Ordering::Relaxed);
                }
            })
            .ok()?;
        Some(Self { millis, stop })
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
        assert_eq!(Thermometer::of(&disk).unwrap().reading(), Some(Celsius::new(43.85)));
        std::fs::write(hwmon.join("temp1_input"), "999999999\n").unwrap();
        assert_eq!(Thermometer::of(&disk).unwrap().reading(), None);
    }
}
