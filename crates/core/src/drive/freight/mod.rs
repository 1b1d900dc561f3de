//! Freight: trees of files that are written, read back, copied and deleted, and what the threads that do it spend their time on.

mod shape;
mod spent;
mod tree;

use std::collections::BTreeMap;
use std::ops::Add;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use crate::quantity::units::Bytes;

pub use shape::{Shape, ShapeError};
pub use spent::{ClassSums, Freighted, Spent, class_of, class_sizes};
pub use tree::{FileClass, FileOrder, MOST_FILES, MOST_FOLDERS, Tree, TreeSpec};

/// What is done with a tree.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Carry {
    /// Its folders are made and its files written, from memory.
    Write,
    /// Its files are read.
    #[default]
    Read,
    /// Its files are read at the source and written at the target.
    Copy,
    /// Its files and folders are removed.
    Delete,
}

impl Carry {
    /// In a word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Read => "read",
            Self::Copy => "copy",
            Self::Delete => "delete",
        }
    }

    /// Something is made at the target.
    #[must_use]
    pub const fn makes(self) -> bool {
        matches!(self, Self::Write | Self::Copy)
    }
}

/// On which side of a haul with two drives.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// What `--on` names.
    #[default]
    Target,
    /// What `--from` names.
    Source,
}

/// How bytes go between memory and file.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Through {
    /// Through the page cache, as an application's do.
    #[default]
    Cache,
    /// Past it (`O_DIRECT`).
    Direct,
}

/// When what was written is made durable.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Durable {
    /// Each file, before the next is begun by the same thread.
    Each,
    /// All together, after the last.
    #[default]
    End,
    /// Never asked for.
    Never,
}

/// What a freight load does, beside the block, the workers and the queue that every load has.
#[derive(Debug, Clone, PartialEq)]
pub struct Freight {
    /// What is done.
    pub carry: Carry,
    /// Where a write, a read or a deletion takes place.
    pub side: Side,
    /// The tree that is written, or that was.
    pub tree: Arc<Tree>,
    /// How bytes go.
    pub through: Through,
    /// When they are made durable.
    pub durable: Durable,
    /// In which order files come.
    pub order: FileOrder,
    /// Share of the written 4 KiB that are like one before.
    pub duplicates_percent: u8,
    /// It goes on after a pause.
    pub resumed: bool,
}

/// Trees like folders, by what a leg calls the folder.
pub type Trees = BTreeMap<String, Arc<Tree>>;

/// What a tree takes on a file system: bytes, files and folders.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cargo {
    /// Bytes in all files.
    pub bytes: Bytes,
    /// Files.
    pub files: u64,
    /// Folders.
    pub folders: u64,
}

impl Add for Cargo {
    type Output = Self;

    fn add(self, other: Self) -> Self {
        Self {
            bytes: self.bytes + other.bytes,
            files: self.files + other.files,
            folders: self.folders + other.folders,
        }
    }
}
