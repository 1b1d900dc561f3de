//! The record of a haul: its events, the steps of its legs, and their bytes.

pub mod bytes;
mod event;
mod step;

pub use event::{Conditions, Earlier, Event, HaulHead, HaulState, LegEnd, Sample};
pub use step::{Step, Task};
