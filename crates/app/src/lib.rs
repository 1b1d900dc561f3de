//! Hollow Mile: the program. Command line in [`cli`], interface in [`ui`]; everything else is in the other crates.

#![forbid(unsafe_code)]

pub mod cli;
pub mod demo;
pub mod error;
pub mod home;
pub mod machine;
pub mod session;
pub mod targets;
pub mod text;
pub mod ui;
