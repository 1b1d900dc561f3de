//! The core of Hollow Mile: what a haul is and what it shows.
//!
//! Three nouns: a [`route::Route`] says what to do; a [`haul::Haul`] steps it against a [`drive::Drive`] and gives
//! [`record::Event`]s; [`readings::Readings`] folds events into what is seen: lanes, findings, figures. Live view,
//! review, chart and command line read the same fold.
//!
//! Modules lie in this order, and import only what stands before them: [`quantity`], [`drive`], [`route`], [`record`], [`readings`],
//! [`conclude`], [`archive`], [`haul`].
//!
//! No I/O, no clock, no interface here: the drive brings the time, the caller brings the files.

#![forbid(unsafe_code)]

pub mod archive;
pub mod conclude;
pub mod drive;
pub mod haul;
pub mod quantity;
pub mod readings;
pub mod record;
pub mod route;
