//! The core of Hollow Mile: what a haul is and what it shows.
//!
//! Three nouns: a [`route::Route`] says what to do; a [`haul::Haul`] steps it against a [`drive::Drive`] and gives
//! [`event::Event`]s; [`readings::Readings`] folds events into what is seen: lanes, findings, figures. Live view,
//! review, chart and command line read the same fold.
//!
//! No I/O, no clock, no interface here: the drive brings the time, the caller brings the files.

#![forbid(unsafe_code)]

pub mod claims;
pub mod contrast;
pub mod course;
pub mod digest;
pub mod drive;
pub mod event;
pub mod finding;
pub mod haul;
pub mod health;
pub mod life;
pub mod models;
pub mod permutation;
pub mod plain;
pub mod protocol;
pub mod readings;
pub mod record;
pub mod route;
pub mod scale;
pub mod stamp;
pub mod step;
pub mod surveys;
pub mod units;
pub mod verdict;
