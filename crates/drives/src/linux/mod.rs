//! Real storage of this machine: block devices, and files of our own on mounted file systems, past the page cache.

mod array;
mod buffers;
mod calls;
mod crew;
mod device;
mod erase;
mod erase_ata;
mod file;
mod file_system;
mod filler;
mod freight;
pub mod guard;
pub mod health;
mod lookout;
mod mapper;
mod media_log;
mod members;
mod meter;
mod mover;
mod pace;
mod pass_through;
mod pump;
mod queue;
mod ring;
pub mod sysfs;
mod thermometer;
mod threads;
pub mod traffic;
pub mod tree;
mod watch;
mod wipe;
mod zones;

pub use crew::EngineChoice;
pub use device::{BlockDrive, DeviceError, identify};
pub use file::{FileDrive, FileError};
pub use file_system::{FileSystem, Room};
pub use filler::{filler_path, room_for_level};
pub use freight::{FolderDrive, FolderError, shape_of};
pub use meter::{Meter, WithMeters};

#[cfg(test)]
mod tests;
