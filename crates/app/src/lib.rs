//! Hollow Mile: the program. Command line in [`cli`], interface in [`ui`]; everything else is in the other crates.

#![forbid(unsafe_code)]

pub mod again;
pub mod claims;
pub mod cli;
pub mod clocks;
pub mod command;
pub mod demo;
pub mod demo_fleet;
pub mod demo_live;
pub mod drafts;
pub mod error;
pub mod fleet;
pub mod freight;
pub mod going_on;
pub mod home;
pub mod limits;
pub mod machine;
pub mod metrics;
pub mod orders;
pub mod queue;
pub mod session;
pub mod targets;
pub mod told;
pub mod ui;
pub mod watch;
