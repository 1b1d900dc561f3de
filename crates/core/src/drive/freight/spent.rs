//! What the threads of a freight leg spent their time on, and how long files of each size took: sums, so that any stretches add up
//! exactly.

use std::collections::BTreeMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::quantity::units::{Bytes, Celsius};

/// Thread time, summed over the threads of each side. On the side of the target every thread is always at one of the first seven; on
/// that of the source at one of the last four, until it has no file left.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Vec<u64>", into = "Vec<u64>")]
pub struct Spent {
    /// At the target: waiting for data to be written, or read where only one drive is in use.
    pub data: Duration,
    /// At the target: files and folders are made, opened, closed and removed, or others wait for the folders.
    pub metadata: Duration,
    /// Of that, what single files took beyond eight times the usual: the journal, allocation.
    pub stalled: Duration,
    /// At the target: data is made durable.
    pub durable: Duration,
    /// This machine at work for the target: data is made in memory and copied.
    pub machine: Duration,
    /// The target waits for the source.
    pub starved: Duration,
    /// At the target: no file left to do with, while other threads still have one.
    pub idle: Duration,
    /// At the source: waiting for data.
    pub source_data: Duration,
    /// At the source: files are opened and closed.
    pub source_metadata: Duration,
    /// This machine at work for the source.
    pub source_machine: Duration,
    /// The source waits for room in the queue.
    pub held: Duration,
}

impl Spent {
    /// Each of its sums, to go through all of them alike.
    pub fn each(&mut self) -> [&mut Duration; 11] {
        [
            &mut self.data,
            &mut self.metadata,
            &mut self.stalled,
            &mut self.durable,
            &mut self.machine,
            &mut self.starved,
            &mut self.idle,
            &mut self.source_data,
            &mut self.source_metadata,
            &mut self.source_machine,
            &mut self.held,
        ]
    }

    /// Time of the threads at the target that still had files to do with.
    #[must_use]
    pub fn at_target(&self) -> Duration {
        self.data + self.metadata + self.durable + self.machine + self.starved
    }

    /// Takes in another stretch.
    pub fn add(&mut self, other: &Self) {
        let mut other = *other;
        for (mine, theirs) in self.each().into_iter().zip(other.each()) {
            *mine += *theirs;
        }
    }
}

fn nanos(time: Duration) -> u64 {
    u64::try_from(time.as_nanos()).unwrap_or(u64::MAX)
}

/// As in a record: nanoseconds, in the order of the fields.
impl From<Spent> for Vec<u64> {
    fn from(mut spent: Spent) -> Self {
        spent.each().map(|d| nanos(*d)).to_vec()
    }
}

impl From<Vec<u64>> for Spent {
    fn from(all: Vec<u64>) -> Self {
        let mut spent = Self::default();
        for (time, ns) in spent.each().into_iter().zip(all) {
            *time = Duration::from_nanos(ns);
        }
        spent
    }
}

/// A map whose keys are numbers is a list of pairs: keys of JSON are text.
mod as_pairs {
    use super::{BTreeMap, ClassSums, Deserialize, Serialize};

    pub fn serialize<S: serde::Serializer>(map: &BTreeMap<u8, ClassSums>, s: S) -> Result<S::Ok, S::Error> {
        map.iter().collect::<Vec<_>>().serialize(s)
    }

    pub fn deserialize<'de, D: serde::Deserializer<'de>>(d: D) -> Result<BTreeMap<u8, ClassSums>, D::Error> {
        Vec::deserialize(d).map(|pairs| pairs.into_iter().collect())
    }
}

mod as_nanos {
    use super::{Deserialize, Duration, nanos};

    pub fn serialize<S: serde::Serializer>(time: &Duration, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_u64(nanos(*time))
    }

    pub fn deserialize<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Duration, D::Error> {
        u64::deserialize(d).map(Duration::from_nanos)
    }

    pub mod maybe {
        use super::{Deserialize, Duration, nanos};
        use serde::Serialize;

        pub fn serialize<S: serde::Serializer>(time: &Option<Duration>, s: S) -> Result<S::Ok, S::Error> {
            time.map(nanos).serialize(s)
        }

        pub fn deserialize<'de, D: serde::Deserializer<'de>>(d: D) -> Result<Option<Duration>, D::Error> {
            Ok(Option::<u64>::deserialize(d)?.map(Duration::from_nanos))
        }
    }
}

/// Two classes of size to a doubling: class `2n` begins at 2ⁿ bytes, class `2n + 1` at 1.5 · 2ⁿ; class 0 is what has one byte or none.
#[must_use]
pub const fn class_of(bytes: u64) -> u8 {
    if bytes < 2 {
        return 0;
    }
    let n = 63 - bytes.leading_zeros();
    (2 * n + (bytes >> (n - 1) & 1) as u32) as u8
}

/// The first size of a class and the first past it.
#[must_use]
pub const fn class_sizes(class: u8) -> (u64, u64) {
    const fn begins(class: u32) -> u64 {
        let n = class / 2;
        match (n, class % 2) {
            (0, _) => 0,
            (n, 0) => 1 << n,
            (n, _) => 3 << (n - 1),
        }
    }
    if class < 2 { (0, 2) } else { (begins(class as u32), begins(class as u32 + 1)) }
}

/// Files of one class: how many, and what they took of their threads' time, waiting for the other side not counted.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "[u64; 6]", into = "[u64; 6]")]
pub struct ClassSums {
    /// How many.
    pub files: u64,
    /// Bytes in them.
    pub bytes: Bytes,
    /// Time that they took.
    pub took: Duration,
    /// The squares of these times, in µs², added up; stays at the most that fits.
    pub squares: u64,
    /// Of the time, that in which they were made, opened, closed and removed.
    pub metadata: Duration,
    /// Of the time, that in which they were made durable.
    pub durable: Duration,
}

impl From<ClassSums> for [u64; 6] {
    fn from(c: ClassSums) -> Self {
        [c.files, c.bytes.get(), nanos(c.took), c.squares, nanos(c.metadata), nanos(c.durable)]
    }
}

impl From<[u64; 6]> for ClassSums {
    fn from([files, bytes, took, squares, metadata, durable]: [u64; 6]) -> Self {
        let [took, metadata, durable] = [took, metadata, durable].map(Duration::from_nanos);
        Self { files, bytes: Bytes::new(bytes), took, squares, metadata, durable }
    }
}

impl ClassSums {
    /// Takes in others of the class.
    pub fn add(&mut self, other: &Self) {
        self.files += other.files;
        self.bytes += other.bytes;
        self.took += other.took;
        self.squares = self.squares.saturating_add(other.squares);
        self.metadata += other.metadata;
        self.durable += other.durable;
    }
}

/// What happened to the files of a stretch of a freight leg.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Freighted {
    /// Files that were done with.
    pub files: u64,
    /// Files that the leg has to do with in all.
    pub of_files: u64,
    /// Folders that were made or removed.
    pub folders: u64,
    /// Time that the folders took.
    #[serde(with = "as_nanos")]
    pub folder_time: Duration,
    /// Threads on the side of the target.
    pub threads: u32,
    /// What threads spent their time on.
    pub spent: Spent,
    /// Files by class of size.
    #[serde(with = "as_pairs")]
    pub classes: BTreeMap<u8, ClassSums>,
    /// How full the queue between source and target was, in parts per million, at the end.
    pub queue_ppm: Option<u32>,
    /// Bytes that the block layer wrote to the target.
    pub device_written: Option<Bytes>,
    /// Time in which the drive at the target had something to do, by the block layer's counters.
    #[serde(with = "as_nanos::maybe")]
    pub device_busy: Option<Duration>,
    /// Bytes that the block layer read from the source, or from the only drive.
    pub device_read: Option<Bytes>,
    /// Bytes that this machine held in memory and still had to write, at the end.
    pub unwritten: Option<Bytes>,
    /// Temperature of the source, at the end.
    pub source_temperature: Option<Celsius>,
    /// Size of the file in hand, at the end.
    pub in_hand: Option<Bytes>,
}

impl Freighted {
    /// Takes in the stretch that follows.
    pub fn add(&mut self, next: &Self) {
        self.files += next.files;
        self.of_files = self.of_files.max(next.of_files);
        self.folders += next.folders;
        self.folder_time += next.folder_time;
        self.threads = self.threads.max(next.threads);
        self.spent.add(&next.spent);
        for (class, sums) in &next.classes {
            self.classes.entry(*class).or_default().add(sums);
        }
        let sum = |a: Option<Bytes>, b: Option<Bytes>| match (a, b) {
            (Some(a), Some(b)) => Some(a + b),
            (a, b) => a.or(b),
        };
        self.device_written = sum(self.device_written, next.device_written);
        self.device_read = sum(self.device_read, next.device_read);
        self.device_busy = match (self.device_busy, next.device_busy) {
            (Some(a), Some(b)) => Some(a + b),
            (a, b) => a.or(b),
        };
        self.queue_ppm = next.queue_ppm.or(self.queue_ppm);
        self.unwritten = next.unwritten.or(self.unwritten);
        self.source_temperature = next.source_temperature.or(self.source_temperature);
        self.in_hand = next.in_hand;
    }

    /// A file was done with: its size, what it took of its thread's time, what of that went into making, opening, closing, and what
    /// into making it durable.
    pub fn file(&mut self, bytes: u64, took: Duration, metadata: Duration, durable: Duration) {
        self.files += 1;
        // Of what takes less than four seconds in whole numbers, which are quicker.
        let squares = match u32::try_from(took.as_nanos()) {
            Ok(ns) => (u64::from(ns) * u64::from(ns) + 500_000) / 1_000_000,
            Err(_) => (took.as_secs_f64() * 1e6).powi(2).round() as u64,
        };
        let one = ClassSums { files: 1, bytes: Bytes::new(bytes), took, squares, metadata, durable };
        self.classes.entry(class_of(bytes)).or_default().add(&one);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_size_lies_in_its_class_and_classes_meet() {
        for bytes in (0..200_000).chain([1 << 40, (1 << 40) - 1, 3 << 39, u64::MAX >> 1]) {
            let (from, to) = class_sizes(class_of(bytes));
            assert!((from..to).contains(&bytes), "{bytes}: {from} to {to}");
        }
        for class in 2..80 {
            assert_eq!(class_sizes(class).1, class_sizes(class + 1).0, "{class}");
        }
    }

    #[test]
    fn stretches_add_up() {
        let mut whole = Freighted::default();
        let mut parts = [Freighted::default(), Freighted::default()];
        for i in 0..100u64 {
            let took = Duration::from_micros(50 + i);
            whole.file(i * 1000, took, took / 2, took / 4);
            parts[(i % 2) as usize].file(i * 1000, took, took / 2, took / 4);
        }
        let [mut first, second] = parts;
        first.add(&second);
        assert_eq!(first.files, 100);
        assert_eq!(first, whole);
        let mut spent = Spent { data: Duration::from_secs(1), ..Spent::default() };
        spent.add(&Spent { data: Duration::from_secs(2), held: Duration::from_secs(3), ..Spent::default() });
        assert_eq!((spent.data, spent.held), (Duration::from_secs(3), Duration::from_secs(3)));
    }
}
