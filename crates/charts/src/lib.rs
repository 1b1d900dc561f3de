//! Charts from readings: what is on screen, as a page for a report.
//!
//! A chart is computed once into a [`scene::Scene`]; writers turn a scene into a file. Text stays text.

#![forbid(unsafe_code)]

pub mod lanes;
pub mod scene;

#[cfg(test)]
mod tests;
