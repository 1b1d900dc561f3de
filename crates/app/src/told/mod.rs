//! What is told of hauls and drives: everything that belongs to one gathered once, and its words. Command line, views, charts and
//! reports all read this.

pub mod batch;
pub mod benches;
pub mod contrast;
pub mod drive;
pub mod estimate;
pub mod findings;
mod haul;
pub mod headline;
pub mod held_to;
pub mod measured;
pub mod members;
pub mod power;
pub mod report;
pub mod report_batch;
pub mod road;
pub mod tags;
pub mod wear;
pub mod words;
pub mod wrap;

pub use contrast::Compared;
pub use drive::{DriveFile, Past};
pub use haul::Told;
