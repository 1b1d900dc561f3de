//! What can be hauled on: files of this machine through io_uring, and simulated drives.
//!
//! The only crate of the workspace with unsafe code, all of it in [`linux`].

mod account;
pub mod latency;
pub mod linux;
pub mod proving;
pub mod sim;
