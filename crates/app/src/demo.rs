//! The demo: a yard of simulated drives and a ledger with hauls in it, in a home of its own.
use std::path::Path;
use crate::error::AppError;
pub fn prepare(_home: &Path) -> Result<(), AppError> { Ok(()) }
