//! What numbers mean: units, scales and axes, words for values in files, the figures that a haul has, and statistics of them.

mod figure;
mod finding_kind;
pub mod histogram;
pub mod mb_s;
pub mod plain;
pub mod scale;
pub mod stats;
pub mod steady;
pub mod text;
pub mod units;
pub mod waited_for;
pub mod width;

pub use figure::{Better, FigureId, FigureKey, Needs, Quantity};
pub use finding_kind::FindingKind;
pub use stats::Interval;
