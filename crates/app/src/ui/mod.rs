//! The interface.
use std::path::PathBuf;
use crate::error::{AppError, Exit};
use crate::session::Session;
pub enum Start { Yard { home: PathBuf, demo: bool }, Watch { home: PathBuf, session: Session } }
pub fn run(_start: Start) -> Result<Exit, AppError> { Ok(Exit::Done) }
