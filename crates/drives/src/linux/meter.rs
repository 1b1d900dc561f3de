//! Meters that the user names: files, FIFOs and serial lines that give one number a line, and sensors of the kernel's hwmon. Each is
//! followed on a thread of its own: asking takes time that the load must not wait for.

use std::io::{BufRead, BufReader};
use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hollow_mile_core::drive::{
    Asking, Drive, DriveError, DriveIdentity, Ending, Load, LoadSummary, MeterReading, MeterUnit, MeterValue,
    Tally, Vitals,
};
use hollow_mile_core::quantity::units::Celsius;

const EVERY: Duration = Duration::from_secs(1);
/// A meter that has said nothing for so long is silent, and its last word is no reading.
const STALE: Duration = Duration::from_secs(30);
/// Where the kernel shows its sensors.
const HWMON: &str = "/sys/class/hwmon";

/// A meter of the user's.
pub struct Meter {
    name: String,
    latest: Arc<Mutex<Option<(Instant, MeterValue)>>>,
    stop: Arc<AtomicBool>,
}

/// A sensor of the kernel's: its file, its unit, and how much one of its steps is (hwmon sysfs interface).
#[derive(Debug, PartialEq)]
struct Sensor {
    input: PathBuf,
    unit: MeterUnit,
    step: f64,
}

/// The kinds of inputs that hwmon has, with their units and steps.
const KINDS: [(&str, MeterUnit, f64); 5] = [
    ("power", MeterUnit::Watt, 1e-6),
    ("in", MeterUnit::Volt, 1e-3),
    ("curr", MeterUnit::Ampere, 1e-3),
    ("temp", MeterUnit::Celsius, 1e-3),
    ("fan", MeterUnit::Rpm, 1.0),
];

fn trimmed(path: &Path) -> Option<String> {
    std::fs::read_to_string(path).ok().map(|t| t.trim().to_owned())
}

/// The kind of an input by its name, such as `power1_input` or `power1`.
fn kind_of(input: &str) -> Option<(&str, MeterUnit, f64)> {
    let channel = input.strip_suffix("_input").or_else(|| input.strip_suffix("_average")).unwrap_or(input);
    let kind = channel.trim_end_matches(|c: char| c.is_ascii_digit());
    let (_, unit, step) = KINDS.into_iter().find(|(k, ..)| *k == kind && kind.len() < channel.len())?;
    Some((channel, unit, step))
}

/// The sensor `CHIP/INPUT`: the chip by its name or folder (`hwmon3`), the input by its file, its channel or its label.
fn sensor(class: &Path, named: &str) -> Result<Sensor, String> {
    let (chip, wanted) =
        named.split_once('/').ok_or("name a chip and one of its inputs: hwmon:CHIP/INPUT")?;
    let mut folders: Vec<PathBuf> =
        std::fs::read_dir(class).map(|d| d.flatten().map(|e| e.path()).collect()).unwrap_or_default();
    folders.sort();
    let is_chip = |f: &PathBuf| {
        trimmed(&f.join("name")).is_some_and(|n| n == chip) || f.file_name().is_some_and(|n| n == chip)
    };
    let chips: Vec<PathBuf> = folders.iter().filter(|f| is_chip(f)).cloned().collect();
    if chips.is_empty() {
        let mut names: Vec<String> = folders.iter().filter_map(|f| trimmed(&f.join("name"))).collect();
        names.dedup();
        let there = if names.is_empty() { "the kernel shows none".into() } else { names.join(", ") };
        return Err(format!("there is no sensor chip {chip}: {there}"));
    }
    let mut inputs = Vec::new();
    for folder in &chips {
        let mut files: Vec<String> = std::fs::read_dir(folder)
            .map(|d| d.flatten().map(|e| e.file_name().to_string_lossy().into_owned()).collect())
            .unwrap_or_default();
        files.sort();
        for file in files.iter().filter(|f| f.ends_with("_input") || f.ends_with("_average")) {
            let Some((channel, unit, step)) = kind_of(file) else { continue };
            let label = trimmed(&folder.join(format!("{channel}_label")));
            if file == wanted || channel == wanted || label.as_deref() == Some(wanted) {
                return Ok(Sensor { input: folder.join(file), unit, step });
            }
            inputs.push(label.unwrap_or_else(|| channel.to_owned()));
        }
    }
    inputs.dedup();
    let there = if inputs.is_empty() { "none".into() } else { inputs.join(", ") };
    Err(format!("the chip {chip} has no input {wanted}; it has {there}"))
}

impl Meter {
    /// Follows a file (its last line is read again every second), a FIFO or serial line (every line counts as it comes), or, as
    /// `hwmon:CHIP/INPUT`, a sensor of the kernel's, which brings its unit with it.
    ///
    /// # Errors
    /// In a sentence, when it cannot be opened, or its unit is not known or another than was said.
    pub fn open(name: &str, path: &str, unit: Option<MeterUnit>) -> Result<Self, String> {
        let what = if unit == Some(MeterUnit::Celsius) { "thermometer" } else { "meter" };
        let whose = format!("{what} {name}");
        if let Some(named) = path.strip_prefix("hwmon:") {
            let found = sensor(Path::new(HWMON), named).map_err(|e| format!("{whose}: {e}"))?;
            if let Some(said) = unit.filter(|u| *u != found.unit) {
                return Err(format!(
                    "{whose}: {path} measures {}, and not {said}: leave --unit out",
                    found.unit
                ));
            }
            return Self::follow_sensor(name, found);
        }
        let unit = unit
            .ok_or_else(|| format!("{whose}: say what {path} measures: --unit W, V, A, °C, %, rpm or m/s"))?;
        Self::follow_lines(name, &whose, Path::new(path), unit)
    }

    fn start(
        name: &str,
        latest: Option<MeterValue>,
    ) -> (Self, impl Fn(Option<MeterValue>) + Send + use<>, Arc<AtomicBool>) {
        let latest = Arc::new(Mutex::new(latest.map(|v| (Instant::now(), v))));
        let stop = Arc::new(AtomicBool::new(false));
        let to = latest.clone();
        let tell = move |value: Option<MeterValue>| {
            if let Some(value) = value {
                *to.lock().unwrap_or_else(PoisonError::into_inner) = Some((Instant::now(), value));
            }
        };
        (Self { name: name.to_owned(), latest, stop: stop.clone() }, tell, stop)
    }

    fn follow_sensor(name: &str, Sensor { input, unit, step }: Sensor) -> Result<Self, String> {
        let look = move || unit.value(trimmed(&input)?.parse::<f64>().ok()? * step);
        let (meter, tell, until) = Self::start(name, look());
        run(name, move || {
            while !until.load(Ordering::Relaxed) {
                std::thread::sleep(EVERY);
                tell(look());
            }
        })?;
        Ok(meter)
    }

    fn follow_lines(name: &str, whose: &str, path: &Path, unit: MeterUnit) -> Result<Self, String> {
        let shown = path.display();
        let meta = std::fs::metadata(path).map_err(|e| format!("{whose}: {shown}: {e}"))?;
        if meta.is_dir() {
            return Err(format!("{whose}: {shown} is a folder: give a file that holds one number a line"));
        }
        let streams = meta.file_type().is_fifo() || meta.file_type().is_char_device();
        // Without a writer, opening a FIFO would wait; a serial line must not become our terminal.
        let flags = libc::O_NONBLOCK | libc::O_NOCTTY | libc::O_CLOEXEC;
        let file = std::fs::OpenOptions::new()
            .read(true)
            .custom_flags(flags)
            .open(path)
            .map_err(|e| format!("{whose}: {shown}: {e}"))?;
        let path = path.to_owned();
        let last_line = move || {
            let text = std::fs::read_to_string(&path).ok()?;
            text.lines().rev().find(|l| !l.trim().is_empty()).and_then(|l| unit.read(l))
        };
        let (meter, tell, until) = Self::start(name, if streams { None } else { last_line() });
        run(name, move || {
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
                        tell(std::str::from_utf8(&line).ok().and_then(|l| unit.read(l)));
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
        })?;
        Ok(meter)
    }

    /// The latest reading, unless the meter has fallen silent.
    #[must_use]
    pub fn reading(&self) -> Option<MeterReading> {
        let latest = *self.latest.lock().unwrap_or_else(PoisonError::into_inner);
        let (_, value) = latest.filter(|(at, _)| at.elapsed() < STALE)?;
        Some(MeterReading { name: self.name.clone(), value })
    }
}

fn run(name: &str, work: impl FnOnce() + Send + 'static) -> Result<(), String> {
    let thread = std::thread::Builder::new().name("meter".into()).spawn(work);
    thread.map(drop).map_err(|e| format!("meter {name}: no thread: {e}"))
}

impl Drop for Meter {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
    }
}

/// A drive with meters of the user's beside it.
pub struct WithMeters {
    drive: Box<dyn Drive>,
    meters: Vec<Meter>,
}

impl WithMeters {
    /// Adds them to a drive.
    #[must_use]
    pub fn new(drive: Box<dyn Drive>, meters: Vec<Meter>) -> Self {
        Self { drive, meters }
    }

    /// What those say that are thermometers, or those that are none.
    fn say(&self, thermometers: bool) -> impl Iterator<Item = MeterReading> {
        let readings = self.meters.iter().filter_map(Meter::reading);
        readings.filter(move |r| (r.value.unit == MeterUnit::Celsius) == thermometers)
    }
}

impl Drive for WithMeters {
    fn identity(&self) -> &DriveIdentity {
        self.drive.identity()
    }
    fn engine(&self) -> String {
        self.drive.engine()
    }
    fn ask_health(&mut self, how: Asking) -> bool {
        self.drive.ask_health(how)
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
        all.extend(self.say(true).map(|r| (r.name, Celsius::new(r.value.get()))));
        all
    }
    fn meters(&mut self) -> Vec<MeterReading> {
        let mut all = self.drive.meters();
        all.extend(self.say(false));
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

    fn soon(what: impl Fn() -> bool) -> bool {
        (0..100).any(|_| {
            std::thread::sleep(Duration::from_millis(50));
            what()
        })
    }

    fn says(meter: &Meter) -> Option<f64> {
        meter.reading().map(|r| r.value.get())
    }

    fn follow(name: &str, path: &Path, unit: MeterUnit) -> Result<Meter, String> {
        Meter::open(name, path.to_str().unwrap(), Some(unit))
    }

    #[test]
    fn files_and_pipes_are_read_as_they_grow() {
        let dir = tempfile::tempdir().unwrap();
        let file = dir.path().join("air");
        std::fs::write(&file, "21.0\n22.5\n\n").unwrap();
        let air = follow("air", &file, MeterUnit::Celsius).unwrap();
        assert_eq!(says(&air), Some(22.5));
        std::fs::write(&file, "nonsense\n").unwrap();
        assert!(soon(|| says(&air) == Some(22.5)), "nonsense changes nothing");
        std::fs::write(&file, "23\n").unwrap();
        assert!(soon(|| says(&air) == Some(23.0)));

        let pipe = dir.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
        let probe = follow("probe", &pipe, MeterUnit::Watt).unwrap();
        assert_eq!(says(&probe), None, "nobody has written yet");
        std::fs::write(&pipe, "4.5 W\n41").unwrap();
        assert!(soon(|| says(&probe) == Some(4.5)), "half a line does not count");
        let refused = |path: &Path| follow("x", path, MeterUnit::Watt).err().unwrap();
        assert!(refused(&dir.path().join("none")).contains("meter x"));
        assert!(refused(dir.path()).contains("folder"));
        let unknown = Meter::open("x", file.to_str().unwrap(), None).err().unwrap();
        assert!(unknown.contains("--unit W"), "{unknown}");
    }

    #[test]
    fn sensors_of_the_kernel_are_found_by_name_and_bring_their_unit() {
        let class = tempfile::tempdir().unwrap();
        for (folder, name) in [("hwmon0", "acpi"), ("hwmon1", "bench_psu")] {
            std::fs::create_dir(class.path().join(folder)).unwrap();
            std::fs::write(class.path().join(folder).join("name"), format!("{name}\n")).unwrap();
        }
        let psu = class.path().join("hwmon1");
        for (file, text) in [
            ("power1_input", "4350000"),
            ("power1_label", "slot 2"),
            ("power1_max", "25000000"),
            ("in0_input", "11980"),
            ("curr1_input", "363"),
            ("fan2_input", "1200"),
        ] {
            std::fs::write(psu.join(file), format!("{text}\n")).unwrap();
        }
        let find = |named: &str| sensor(class.path(), named);
        let power = find("bench_psu/slot 2").unwrap();
        assert_eq!((power.unit, power.step), (MeterUnit::Watt, 1e-6));
        assert_eq!(find("hwmon1/power1").unwrap(), power);
        assert_eq!(find("bench_psu/power1_input").unwrap(), power);
        let volts = Meter::follow_sensor("12 V", find("bench_psu/in0").unwrap()).unwrap();
        assert_eq!(volts.reading().unwrap().value.to_string(), "11.98 V");
        assert_eq!(find("bench_psu/curr1").unwrap().unit, MeterUnit::Ampere);
        assert_eq!(
            find("bench_psu/power2").unwrap_err(),
            "the chip bench_psu has no input power2; it has curr1, fan2, in0, slot 2"
        );
        assert!(find("psu/power1").unwrap_err().contains("acpi, bench_psu"));
        assert!(find("bench_psu").unwrap_err().contains("CHIP/INPUT"));
    }
}
