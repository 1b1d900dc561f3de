//! The record of a haul: its events, the steps of its legs, and their bytes.

pub mod bytes;
mod event;
pub mod forecast;
mod freight;
pub mod held_to;
mod inquiry;
mod latencies;
mod pauses;
mod step;

pub use event::{Conditions, Earlier, Event, HaulHead, HaulState, LegEnd, Sample};
pub use freight::FreightSecond;
pub use inquiry::{Arm, ArmKind, Experiment, Fall, InquiryEnd, Recovers, Turns};
pub use latencies::{Latencies, Whose};
pub use pauses::{LEAST_PAUSE, Pauses};
pub use step::{Step, Task};
