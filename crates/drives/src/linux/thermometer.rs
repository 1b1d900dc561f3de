//! Temperatures that the kernel's hwmon shows, and thermometers that the user names: files, FIFOs and serial lines that
//! give one number a line. Each is followed on a thread of its own: asking takes time that the load must not wait for.

use hollow_mile_core::drive::Ending;
use std::io::{BufRead, BufReader};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicI32, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::Vitals;
use hollow_mile_core::drive::{Drive, DriveError, DriveIdentity, Load, LoadSummary, Tally};
use hollow_mile_core::quantity::units::Celsius;

const UNKNOWN: i32 = i32::MIN;
const EVERY: Duration = Duration::from_secs(1);
/// A thermometer that has said nothing for so long is silent, and its last word is no reading.
const STALE: Duration = Duration::from_secs(30);

/// Follows one sensor for as long as it lives.
pub struct Thermometer {
    millis: Arc<AtomicI32>,
    stop: Arc<AtomicBool>,
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
        let (to, until) = (millis.clone(), stop.clone());
        std::thread::Builder::new()
            .name("thermometer".into())
            .spawn(move || {
                while !until.load(Ordering::Relaxed) {
                    std::thread::sleep(EVERY);
                    to.store(look(), Ordering::Relaxed);
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

/// A thermometer of the user's.
pub struct Outside {
    name: String,
    latest: Arc<(AtomicI32, std::sync::Mutex<Option<Instant>>)>,
    stop: Arc<AtomicBool>,
}

/// A line of a thermometer: a number in °C, perhaps with its unit behind it.
fn number(line: &str) -> Option<Celsius> {
    let text = line.trim();
    let end =
        text.find(|c: char| !(c.is_ascii_digit() || matches!(c, '.' | '-' | '+'))).unwrap_or(text.len());
    let value: f64 = text[..end].parse().ok()?;
    (-60.0..200.0).contains(&value).then(|| Celsius::new(value))
}

impl Outside {
    /// Follows a file (its last line is read again every second), or a FIFO or serial line (every line counts as it
    /// comes).
    ///
    /// # Errors
    /// In a sentence, when the path cannot be opened.
    pub fn open(name: &str, path: &Path) -> Result<Self, String> {
        let shown = path.display();
        let meta = std::fs::metadata(path).map_err(|e| format!("thermometer {name}: {shown}: {e}"))?;
        if meta.is_dir() {
            return Err(format!(
                "thermometer {name}: {shown} is a folder: give a file that holds one number a line"
            ));
        }
        let streams = meta.file_type().is_fifo() || meta.file_type().is_char_device();
        // Without a writer, opening a FIFO would wait; a serial line must not become our terminal.
        let flags = libc::O_NONBLOCK | libc::O_NOCTTY | libc::O_CLOEXEC;
        let file = std::fs::OpenOptions::new()
            .read(true)
            .custom_flags(flags)
            .open(path)
            .map_err(|e| format!("thermometer {name}: {shown}: {e}"))?;
        let latest = Arc::new((AtomicI32::new(UNKNOWN), std::sync::Mutex::new(None)));
        let stop = Arc::new(AtomicBool::new(false));
        let (to, until, path) = (latest.clone(), stop.clone(), path.to_owned());
        let tell = move |value: Option<Celsius>| {
            if let Some(t) = value {
                to.0.store(t.millis(), Ordering::Relaxed);
                *to.1.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(Instant::now());
            }
        };
        let last_line = move || {
            let text = std::fs::read_to_string(&path).ok()?;
            text.lines().rev().find(|l| !l.trim().is_empty()).and_then(number)
        };
        if !streams {
            tell(last_line());
        }
        std::thread::Builder::new()
            .name("thermometer".into())
            .spawn(move || {
                let mut reader = BufReader::new(file);
                let mut line = Vec::new();
                while !until.load(Ordering::Relaxed) {
                    if !streams {
                        std::thread::sleep(EVERY);
                        tell(last_line());
                        continue;
                    }
                    // What there is of a line so far stays until the rest has come; endless lines are cut.
                    match reader.read_until(b'\n', &mut line) {
                        Ok(n) if n > 0 && line.ends_with(b"\n") => {
                            tell(std::str::from_utf8(&line).ok().and_then(number));
                            line.clear();
                        }
                        _ => {
                            if line.len() > 4096 {
                                line.clear();
                            }
                            std::thread::sleep(Duration::from_millis(100));
                        }
                    }
                }
            })
            .map_err(|e| format!("thermometer {name}: no thread: {e}"))?;
        Ok(Self { name: name.to_owned(), latest, stop })
    }

    /// The latest reading, unless the thermometer has fallen silent.
    #[must_use]
    pub fn reading(&self) -> Option<Celsius> {
        let at = *self.latest.1.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        at.filter(|a| a.elapsed() < STALE)?;
        Some(self.latest.0.load(Ordering::Relaxed)).filter(|m| *m != UNKNOWN).map(Celsius::from_millis)
    }
}

impl Drop for Outside {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

/// A drive with thermometers of the user's beside it.
pub struct WithThermometers {
    drive: Box<dyn Drive>,
    outside: Vec<Outside>,
}

impl WithThermometers {
    /// Adds them to a drive.
    #[must_use]
    pub fn new(drive: Box<dyn Drive>, outside: Vec<Outside>) -> Self {
        Self { drive, outside }
    }
}

impl Drive for WithThermometers {
    fn identity(&self) -> &DriveIdentity {
        self.drive.identity()
    }
    fn engine(&self) -> String {
        self.drive.engine()
    }
    fn begin(&mut self, load: &Load) -> Result<(), DriveError> {
        self.drive.begin(load)
    }
    fn work(&mut self, interval: Duration) -> Result<Tally, DriveError> {
        self.drive.work(interval)
    }
    fn finish(&mut self, ending: Ending) -> Result<LoadSummary, DriveError> {
        self.drive.finish(ending)
    }
    fn flush(&mut self) -> Result<LoadSummary, DriveError> {
        self.drive.flush()
    }

    fn vitals(&mut self) -> Option<Vitals> {
        self.drive.vitals()
    }
    fn temperatures(&mut self) -> Vec<(String, Celsius)> {
        let mut all = self.drive.temperatures();
        all.extend(self.outside.iter().filter_map(|o| Some((o.name.clone(), o.reading()?))));
        all
    }
    fn is_simulated(&self) -> bool {
        self.drive.is_simulated()
    }
    fn release(&mut self) -> Result<(), DriveError> {
        self.drive.release()
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
    fn a_line_is_a_number_with_or_without_a_unit() {
        assert_eq!(number(" 23.5 °C\r"), Some(Celsius::new(23.5)));
        assert_eq!(number("-4"), Some(Celsius::new(-4.0)));
        assert_eq!(number("warm"), None);
        assert_eq!(number("900"), None);
        assert_eq!(number(""), None);
    }

    fn soon(what: impl Fn() -> bool) -> bool {
        (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            what()
        })
    }

    #[test]
    fn files_and_pipes_are_read_as_they_grow() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("air");
        std::fs::write(&file, "21.0\n22.5\n\n").unwrap();
        let air = Outside::open("air", &file).unwrap();
        assert_eq!(air.reading(), Some(Celsius::new(22.5)));
        std::fs::write(&file, "nonsense\n").unwrap();
        assert!(soon(|| air.reading() == Some(Celsius::new(22.5))), "nonsense changes nothing");
        std::fs::write(&file, "23\n").unwrap();
        assert!(soon(|| air.reading() == Some(Celsius::new(23.0))));

        let pipe = dir.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        let probe = Outside::open("probe", &pipe).unwrap();
        assert_eq!(probe.reading(), None, "nobody has written yet");
        std::fs::write(&pipe, "40.5\n41").unwrap();
        assert!(soon(|| probe.reading() == Some(Celsius::new(40.5))), "half a line does not count");
        assert!(Outside::open("x", &dir.path().join("none")).err().unwrap().contains("thermometer x"));
        assert!(Outside::open("x", dir.path()).err().unwrap().contains("folder"));
    }
}
