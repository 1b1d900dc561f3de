//! The shape of an existing folder: how large its files are and how its folders lie in each other, without a name or a byte of content.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::tree::{MOST_FILES, MOST_FOLDERS};
use crate::quantity::text::{line_and_column, named};

/// Folders below each other, at most: paths stay short of what a kernel takes.
const DEEPEST: usize = 64;

/// Why a text is no shape.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct ShapeError(String);

/// Sizes and layout of a folder. As a file it is TOML: of each folder which one lies above it, and its files as `SIZE` or `SIZE*COUNT`
/// in bytes, the smallest first.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Shape {
    /// Of each folder: the one above it, and how many files of each size. The first is the root.
    folders: Vec<(u32, BTreeMap<u64, u64>)>,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct WrittenFolder {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    above: Option<u32>,
    files: String,
}

#[derive(Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Written {
    shape: u32,
    #[serde(default)]
    folder: Vec<WrittenFolder>,
}

impl Shape {
    /// Of a folder with nothing in it.
    #[must_use]
    pub fn new() -> Self {
        Self { folders: vec![(0, BTreeMap::new())] }
    }

    /// Adds a folder in another; gives its number. `None` when there are too many, or it lies too deep.
    pub fn add_folder(&mut self, above: u32) -> Option<u32> {
        let room = (self.folders.len() as u64) <= MOST_FOLDERS && self.depth(above) < DEEPEST;
        room.then(|| {
            self.folders.push((above, BTreeMap::new()));
            self.folders.len() as u32 - 1
        })
    }

    fn depth(&self, folder: u32) -> usize {
        let (mut at, mut depth) = (folder, 0);
        while at > 0 {
            at = self.folders[at as usize].0;
            depth += 1;
        }
        depth
    }

    /// Adds a file of so many bytes to a folder.
    pub fn add_file(&mut self, folder: u32, bytes: u64) {
        *self.folders[folder as usize].1.entry(bytes).or_default() += 1;
    }

    /// Number of files.
    #[must_use]
    pub fn files(&self) -> u64 {
        self.folders.iter().flat_map(|f| f.1.values()).sum()
    }

    /// Each folder with its files: (bytes, how many), the smallest first.
    pub fn folders(&self) -> impl Iterator<Item = (u32, &BTreeMap<u64, u64>)> {
        self.folders.iter().enumerate().map(|(i, f)| (i as u32, &f.1))
    }

    /// The folder above each but the root.
    #[must_use]
    pub fn parents(&self) -> Vec<u32> {
        self.folders.iter().skip(1).map(|f| f.0).collect()
    }

    /// As the text of a file; [`Shape::from_toml`] reads it back.
    #[must_use]
    pub fn to_toml(&self) -> String {
        let mut out =
            String::from("# Sizes in bytes and layout of a folder; no names, no content.\nshape = 1\n");
        for (i, (above, files)) in self.folders.iter().enumerate() {
            let all: Vec<String> = files
                .iter()
                .map(|(size, n)| if *n == 1 { size.to_string() } else { format!("{size}*{n}") })
                .collect();
            out += "\n[[folder]]\n";
            if i > 0 {
                out += &format!("above = {above}\n");
            }
            out += &format!("files = \"{}\"\n", all.join(" "));
        }
        out
    }

    /// Reads it.
    ///
    /// # Errors
    /// What is wrong with it, and where.
    pub fn from_toml(text: &str) -> Result<Self, ShapeError> {
        let written: Written = toml::from_str(text).map_err(|e| {
            let (line, column) = line_and_column(text, e.span().map_or(0, |s| s.start));
            ShapeError(format!("line {line}, column {column}: {}", e.message().replace('\n', " ")))
        })?;
        if written.shape != 1 {
            return Err(ShapeError(format!("shape = {}: this version reads 1", written.shape)));
        }
        let mut shape = Self::default();
        for (i, folder) in written.folder.iter().enumerate() {
            let fault = |what: String| ShapeError(format!("folder {}: {what}", i + 1));
            let above = folder.above.unwrap_or(0);
            if i > 0 && above as usize >= i {
                return Err(fault(format!("lies in folder {above}, which does not come before it")));
            }
            if i as u64 > MOST_FOLDERS {
                return Err(fault("more than 1,000,000 folders".into()));
            }
            shape.folders.push((above, BTreeMap::new()));
            if shape.depth(i as u32) > DEEPEST {
                return Err(fault(format!("more than {DEEPEST} folders lie in each other")));
            }
            for run in folder.files.split_ascii_whitespace() {
                let (size, n) = run.split_once('*').unwrap_or((run, "1"));
                let bad = || fault(format!("\"{}\" is no size in bytes, or SIZE*COUNT", named(run)));
                let size: u64 = size.parse().map_err(|_| bad())?;
                let n: u64 = n.parse().ok().filter(|n| *n <= MOST_FILES).ok_or_else(bad)?;
                *shape.folders[i].1.entry(size).or_default() += n;
            }
            if shape.files() > MOST_FILES {
                return Err(fault("more than 10,000,000 files".into()));
            }
        }
        if shape.files() == 0 {
            return Err(ShapeError("has no files".into()));
        }
        Ok(shape)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{FileOrder, Tree};
    use super::*;

    fn shape() -> Shape {
        let mut s = Shape::new();
        let a = s.add_folder(0).unwrap();
        let b = s.add_folder(a).unwrap();
        for (folder, size) in [(0, 10), (a, 4096), (a, 4096), (b, 0), (b, 1 << 40)] {
            s.add_file(folder, size);
        }
        s
    }

    #[test]
    fn a_shape_reads_back_and_makes_its_tree() {
        let text = shape().to_toml();
        assert!(text.contains("[[folder]]\nabove = 0\nfiles = \"4096*2\"\n"), "{text}");
        let again = Shape::from_toml(&text).unwrap();
        assert_eq!(again, shape());
        let tree = Tree::like(&again, 1);
        assert_eq!((tree.files(), tree.folders()), (5, 2));
        assert_eq!((tree.file_path(1), tree.size(1)), ("d1/f1".into(), 4096));
        assert_eq!((tree.file_path(4), tree.size(4)), ("d1/d2/f4".into(), 1 << 40));
        assert_eq!(tree.order(FileOrder::Size)[0], 3);
    }

    #[test]
    fn what_is_no_shape_says_where() {
        for (text, words) in [
            ("shape = 2\n[[folder]]\nfiles = \"1\"", "shape = 2"),
            ("shape = 1\n", "has no files"),
            ("shape = 1\n[[folder]]\nfiles = \"1 x\"", "folder 1: \"x\""),
            ("shape = 1\n[[folder]]\nfiles = \"1*99999999999\"", "folder 1:"),
            (
                "shape = 1\n[[folder]]\nfiles = \"1\"\n[[folder]]\nabove = 1\nfiles = \"1\"",
                "folder 2: lies in folder 1",
            ),
            ("shape = 1\n[[folder]]\nfils = \"1\"", "line 3, column 1"),
        ] {
            let error = Shape::from_toml(text).unwrap_err().to_string();
            assert!(error.contains(words), "{error}");
        }
        let deep: String = (0..70)
            .map(|i: i32| format!("[[folder]]\nabove = {}\nfiles = \"1\"\n", (i - 1).max(0)))
            .collect();
        assert!(
            Shape::from_toml(&format!("shape = 1\n{deep}")).unwrap_err().to_string().contains("64 folders")
        );
    }
}
