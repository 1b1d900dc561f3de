//! A tree of files: how large each is, in which folder it lies, and in which order they come. Made from a few numbers and a seed,
//! so that the same numbers give the same tree on every machine.

use serde::{Deserialize, Serialize};

use super::{Cargo, Shape};
use crate::drive::permutation::spread;
use crate::quantity::plain::Plain;
use crate::quantity::units::{Bytes, ParseUnitError};

/// More files than this make no tree: their sizes are held in memory, 12 bytes a file.
pub const MOST_FILES: u64 = 10_000_000;
/// More folders than this make no tree.
pub const MOST_FOLDERS: u64 = 1_000_000;

/// Files of a range of sizes, and their share of all files: `60 % 4 KiB to 64 KiB`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct FileClass {
    /// Smallest.
    pub from: Bytes,
    /// Largest; sizes between are spread evenly over their logarithm.
    pub to: Bytes,
    /// Percent of all files.
    pub percent: f64,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenClass {
    size: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    share: Option<String>,
}

impl FileClass {
    /// `4 KiB to 64 KiB`, or one size.
    #[must_use]
    pub fn sizes(&self) -> String {
        if self.from == self.to {
            self.from.plain()
        } else {
            format!("{} to {}", self.from.plain(), self.to.plain())
        }
    }

    fn read(size: &str, share: Option<&str>) -> Result<Self, ParseUnitError> {
        let (from, to) = size.split_once(" to ").unwrap_or((size, size));
        let (from, to) = (Bytes::read(from.trim())?, Bytes::read(to.trim())?);
        let percent = match share {
            None => 100.0,
            Some(text) => {
                let number = text.trim().trim_end_matches('%').trim().parse::<f64>().ok();
                number
                    .filter(|p| *p > 0.0 && *p <= 100.0)
                    .ok_or_else(|| ParseUnitError::new(text, "a share of files: give one such as 60 %"))?
            }
        };
        Ok(Self { from, to, percent })
    }
}

impl Plain for FileClass {
    fn plain(&self) -> String {
        format!("{} % {}", self.percent, self.sizes())
    }
    fn read(text: &str) -> Result<Self, ParseUnitError> {
        match text.split_once('%') {
            Some((share, size)) => Self::read(size.trim(), Some(share)),
            None => Self::read(text.trim(), None),
        }
    }
}

impl Serialize for FileClass {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        WrittenClass { size: self.sizes(), share: Some(format!("{} %", self.percent)) }.serialize(s)
    }
}

impl<'de> Deserialize<'de> for FileClass {
    fn deserialize<D: serde::Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        let written = WrittenClass::deserialize(d)?;
        Self::read(&written.size, written.share.as_deref()).map_err(serde::de::Error::custom)
    }
}

/// In which order files come.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FileOrder {
    /// One folder after the other.
    #[default]
    Folder,
    /// The smallest first.
    Size,
    /// In an order drawn by the tree's seed.
    Shuffled,
}

/// What a tree is made from.
#[derive(Debug, Clone, PartialEq)]
pub struct TreeSpec {
    /// Sizes and their shares.
    pub classes: Vec<FileClass>,
    /// So many bytes, rounded up to a whole file.
    pub total: Option<Bytes>,
    /// So many files; with `total` too, what comes first.
    pub count: Option<u64>,
    /// Folders below each other, 0 for none.
    pub folder_depth: u32,
    /// Folders beside each other in each.
    pub folder_width: u32,
    /// Draws sizes and order.
    pub seed: u64,
}

/// A tree of files.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tree {
    /// Size of each file, in bytes.
    sizes: Vec<u64>,
    /// Folder of each file; 0 is the root.
    folder_of: Vec<u32>,
    /// The folder above each folder but the root, which is not in it: folder n + 1 lies in `parents[n]`, a lower number.
    parents: Vec<u32>,
    seed: u64,
}

/// A number in 0..1 from a seed.
fn drawn(seed: u64, n: u64) -> f64 {
    (spread(seed, n) >> 11) as f64 / (1u64 << 53) as f64
}

/// The folders of a tree of this depth and width, as the folder above each.
fn folders(depth: u32, width: u32) -> Vec<u32> {
    let (mut parents, mut level) = (Vec::new(), vec![0u32]);
    for _ in 0..depth {
        let mut below = Vec::new();
        for above in level {
            for _ in 0..width {
                parents.push(above);
                below.push(parents.len() as u32);
            }
        }
        level = below;
    }
    parents
}

impl TreeSpec {
    /// How many folders it has; saturates.
    #[must_use]
    pub fn folders(&self) -> u64 {
        let (mut all, mut level) = (0u64, 1u64);
        for _ in 0..self.folder_depth {
            level = level.saturating_mul(self.folder_width.into());
            all = all.saturating_add(level);
        }
        all
    }

    /// Whether it may be made, as far as that can be told from its numbers alone.
    ///
    /// # Errors
    /// What is too many, in a sentence.
    pub fn limits(&self) -> Result<(), String> {
        if self.folders() > MOST_FOLDERS {
            return Err(format!("the tree has {} folders, and may have 1,000,000", self.folders()));
        }
        let whole: f64 = self.classes.iter().map(|c| c.percent).sum();
        if self.classes.is_empty() || whole <= 0.0 || self.total.is_none() && self.count.is_none() {
            return Err("the tree has no files: give files, and total or count".into());
        }
        // The mean of sizes that are spread evenly over their logarithm.
        let mean = |c: &FileClass| {
            let (low, high) = (c.from.as_f64().max(1.0), c.to.as_f64().max(1.0));
            if high > low { (high - low) / (high / low).ln() } else { low }
        };
        let each: f64 = self.classes.iter().map(|c| mean(c) * c.percent / whole).sum();
        let by_total = self.total.map_or(f64::INFINITY, |t| t.as_f64() / each);
        let by_count = self.count.map_or(f64::INFINITY, |n| n as f64);
        if by_total.min(by_count) > MOST_FILES as f64 {
            return Err("the tree has more than 10,000,000 files: give larger files, or less in all".into());
        }
        Ok(())
    }

    /// Makes the tree. Its shares hold as near as whole files allow, from the first file on.
    ///
    /// # Errors
    /// When there would be more files or folders than a tree may have, in a sentence.
    pub fn make(&self) -> Result<Tree, String> {
        self.limits()?;
        let whole: f64 = self.classes.iter().map(|c| c.percent).sum();
        let mut sizes = Vec::new();
        let mut given = vec![0u64; self.classes.len()];
        let mut sum = 0u64;
        while self.count.is_none_or(|n| (sizes.len() as u64) < n) && self.total.is_none_or(|t| sum < t.get())
        {
            if sizes.len() as u64 >= MOST_FILES {
                return Err(
                    "the tree has more than 10,000,000 files: give larger files, or less in all".into()
                );
            }
            let n = sizes.len() as u64 + 1;
            // The class that lags furthest behind its share.
            let behind = |i: usize| self.classes[i].percent / whole * n as f64 - given[i] as f64;
            let class = (0..self.classes.len()).fold(0, |a, b| if behind(b) > behind(a) { b } else { a });
            given[class] += 1;
            let FileClass { from, to, .. } = self.classes[class];
            let (low, high) = (from.as_f64().max(1.0), to.as_f64().max(1.0));
            let size = (low * (high / low).powf(drawn(self.seed, n))).round() as u64;
            let size = if from == to { from.get() } else { size.clamp(from.get(), to.get()) };
            sizes.push(size);
            sum += size;
        }
        let parents = folders(self.folder_depth, self.folder_width);
        // Evenly over the deepest folders.
        let deepest = u64::from(self.folder_width).saturating_pow(self.folder_depth).max(1);
        let first = parents.len() as u64 + 1 - deepest;
        let files = sizes.len().max(1) as u64;
        let folder_of = (0..sizes.len() as u64).map(|i| (first + i * deepest / files) as u32).collect();
        Ok(Tree { sizes, folder_of, parents, seed: self.seed })
    }
}

impl Tree {
    /// A tree of this shape.
    #[must_use]
    pub fn like(shape: &Shape, seed: u64) -> Self {
        let mut sizes = Vec::new();
        let mut folder_of = Vec::new();
        for (folder, runs) in shape.folders() {
            for (size, count) in runs {
                sizes.extend(std::iter::repeat_n(*size, *count as usize));
                folder_of.extend(std::iter::repeat_n(folder, *count as usize));
            }
        }
        Self { sizes, folder_of, parents: shape.parents(), seed }
    }

    /// Number of files.
    #[must_use]
    pub fn files(&self) -> usize {
        self.sizes.len()
    }

    /// Number of folders below the root.
    #[must_use]
    pub fn folders(&self) -> usize {
        self.parents.len()
    }

    /// Size of a file in bytes.
    #[must_use]
    pub fn size(&self, file: usize) -> u64 {
        self.sizes[file]
    }

    /// The folder in which a file lies; 0 is the root.
    #[must_use]
    pub fn folder_of(&self, file: u32) -> u32 {
        self.folder_of[file as usize]
    }

    /// The folder above another that is not the root.
    #[must_use]
    pub fn above(&self, folder: u32) -> u32 {
        self.parents[folder as usize - 1]
    }

    /// What it takes on a file system.
    #[must_use]
    pub fn cargo(&self) -> Cargo {
        Cargo {
            bytes: Bytes::new(self.sizes.iter().sum()),
            files: self.sizes.len() as u64,
            folders: self.parents.len() as u64,
        }
    }

    /// The path of a folder below the root, empty for the root: `d0/d3`.
    #[must_use]
    pub fn folder_path(&self, folder: u32) -> String {
        let mut names = Vec::new();
        let mut at = folder;
        while at > 0 {
            names.push(format!("d{at}"));
            at = self.parents[at as usize - 1];
        }
        names.reverse();
        names.join("/")
    }

    /// The path of a file below the root: `d0/d3/f17`.
    #[must_use]
    pub fn file_path(&self, file: usize) -> String {
        match self.folder_path(self.folder_of[file]) {
            folder if folder.is_empty() => format!("f{file}"),
            folder => format!("{folder}/f{file}"),
        }
    }

    /// Files in the order in which they come.
    #[must_use]
    pub fn order(&self, order: FileOrder) -> Vec<u32> {
        let mut all: Vec<u32> = (0..self.sizes.len() as u32).collect();
        match order {
            FileOrder::Folder => all.sort_by_key(|f| self.folder_of[*f as usize]),
            FileOrder::Size => all.sort_by_key(|f| self.sizes[*f as usize]),
            // Fisher and Yates.
            FileOrder::Shuffled => {
                for i in (1..all.len()).rev() {
                    all.swap(i, (spread(self.seed ^ 0x5348_5546, i as u64) % (i as u64 + 1)) as usize);
                }
            }
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn class(from: u64, to: u64, percent: f64) -> FileClass {
        FileClass { from: Bytes::new(from), to: Bytes::new(to), percent }
    }

    fn spec(classes: Vec<FileClass>) -> TreeSpec {
        TreeSpec { classes, total: None, count: Some(1000), folder_depth: 2, folder_width: 3, seed: 7 }
    }

    #[test]
    fn shares_hold_to_a_file_and_sizes_lie_in_their_range() {
        let tree = spec(vec![class(4096, 65_536, 60.0), class(1 << 20, 1 << 20, 40.0)]).make().unwrap();
        assert_eq!((tree.files(), tree.folders()), (1000, 12));
        let large = (0..1000).filter(|f| tree.size(*f) == 1 << 20).count();
        assert!((399..=401).contains(&large), "{large}");
        let first_ten = (0..10).filter(|f| tree.size(*f) == 1 << 20).count();
        assert_eq!(first_ten, 4, "from the first file on");
        let mut small: Vec<u64> = (0..1000).map(|f| tree.size(f)).filter(|s| *s < 1 << 20).collect();
        small.sort_unstable();
        assert!(small[0] >= 4096 && small[small.len() - 1] <= 65_536);
        // Evenly over the logarithm: the middle of 4 to 64 KiB is 16 KiB.
        let middle = small[small.len() / 2] as f64;
        assert!((12_000.0..22_000.0).contains(&middle), "{middle}");
    }

    #[test]
    fn files_lie_in_the_deepest_folders_and_every_folder_has_its_path() {
        let tree = spec(vec![class(1, 1, 100.0)]).make().unwrap();
        assert_eq!(tree.file_path(0), "d1/d4/f0");
        assert_eq!(tree.file_path(999), "d3/d12/f999");
        let counts = (1..=12u32).map(|d| tree.folder_of.iter().filter(|f| **f == d).count());
        assert_eq!(counts.collect::<Vec<_>>(), [0, 0, 0, 112, 111, 111, 111, 111, 111, 111, 111, 111]);
        let flat = TreeSpec { folder_depth: 0, ..spec(vec![class(1, 1, 100.0)]) }.make().unwrap();
        assert_eq!((flat.file_path(5), flat.folders()), ("f5".into(), 0));
    }

    #[test]
    fn every_order_has_each_file_once() {
        let tree = spec(vec![class(1, 1 << 20, 100.0)]).make().unwrap();
        for order in [FileOrder::Folder, FileOrder::Size, FileOrder::Shuffled] {
            let mut all = tree.order(order);
            let was = all.clone();
            all.sort_unstable();
            assert_eq!(all, (0..1000).collect::<Vec<_>>());
            assert_eq!(was, tree.order(order), "the same each time");
        }
        let by_size = tree.order(FileOrder::Size);
        assert!(by_size.windows(2).all(|w| tree.size(w[0] as usize) <= tree.size(w[1] as usize)));
        assert_ne!(tree.order(FileOrder::Shuffled), tree.order(FileOrder::Folder));
    }

    #[test]
    fn a_total_is_reached_and_not_passed_by_more_than_a_file() {
        let of = |total, count| {
            let s =
                TreeSpec { total: Some(Bytes::new(total)), count, ..spec(vec![class(1000, 3000, 100.0)]) };
            s.make().unwrap().cargo()
        };
        let cargo = of(1_000_000, None);
        assert!((1_000_000..1_003_000).contains(&cargo.bytes.get()), "{cargo:?}");
        assert_eq!(of(1_000_000, Some(3)).files, 3);
    }

    #[test]
    fn what_makes_no_tree_is_said() {
        let all = |f: fn(&mut TreeSpec)| {
            let mut s = spec(vec![class(1, 1, 100.0)]);
            f(&mut s);
            s.make().unwrap_err()
        };
        assert!(all(|s| s.classes.clear()).contains("no files"));
        assert!(all(|s| s.count = None).contains("no files"));
        assert!(all(|s| s.count = Some(u64::MAX)).contains("10,000,000 files"));
        assert!(all(|s| (s.folder_depth, s.folder_width) = (30, 30)).contains("folders"));
    }

    #[test]
    fn a_class_reads_back_to_itself() {
        for text in ["60 % 4 KiB to 64 KiB", "100 % 1 MiB", "12.5 % 144 MB"] {
            assert_eq!(<FileClass as Plain>::read(text).unwrap().plain(), text);
        }
        assert_eq!(<FileClass as Plain>::read("1 MiB").unwrap().percent, 100.0);
        for bad in ["0 % 1 MiB", "110 % 1 MiB", "x % 1 MiB", "60 %", "60 % 4 to"] {
            assert!(<FileClass as Plain>::read(bad).is_err(), "{bad}");
        }
    }
}
