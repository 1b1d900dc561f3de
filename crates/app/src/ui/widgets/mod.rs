//! The pieces that views are made of.

pub mod canvas;
pub mod lane;
pub mod panel;
pub mod spine;
