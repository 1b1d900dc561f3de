//! The proving ground: random hauls with a known truth, and how the analysis does on them.
//!
//! The hauls are made here and not by [`crate::sim`], so that the analysis is not fitted to one simulator: other noise
//! (correlated, with outliers), throttling by hysteresis and by a controller that holds the temperature, strangers'
//! traffic, slow stretches, stalls, sensors of other resolution, intervals from 100 ms to 1 s, columns that are missing.

mod judge;
mod make;

pub use judge::{Score, judge};
pub use make::{Case, TrueEnd, TrueThrottle, make};
