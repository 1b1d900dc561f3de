//! Charts from readings: what is on screen, as a page for a report.
//!
//! A chart is computed once into a [`scene::Scene`]; writers turn a scene into a file. Text stays text.

#![forbid(unsafe_code)]

pub mod batch;
pub mod contrast;
pub mod experiments;
mod field;
pub mod freight;
mod html;
pub mod knee;
pub mod lanes;
pub mod measure;
pub mod models;
pub mod pdf;
pub mod plot;
pub mod proof;
pub mod report;
pub mod rounds;
pub mod scene;
pub mod streams;
pub mod surveys;
mod svg;

#[cfg(test)]
mod tests;
