//! Real storage of this machine: files of our own on mounted file systems, past the page cache.

mod buffers;
mod file;
mod file_system;
mod pump;
mod queue;
mod ring;
mod thermometer;
mod threads;

pub use file::{EngineChoice, FileDrive, FileError};
pub use file_system::{FileSystem, Room};

#[cfg(test)]
mod tests;
