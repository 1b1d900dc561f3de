//! The pieces that views are made of.

pub mod arms;
pub mod canvas;
pub mod glance;
pub mod held;
pub mod lane;
pub mod log_axis;
pub mod outlook;
pub mod over_time;
pub mod panel;
pub mod ribbon;
pub mod ruler;
pub mod scroll;
pub mod sizes;
pub mod spine;
pub mod strip;
pub mod surface;
pub mod table;
pub mod tails;
pub mod waits;
pub mod window;
pub mod zone_map;
