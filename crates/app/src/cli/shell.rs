//! Completions for shells and the man page, both from the command line's own definition.

use std::path::Path;

use clap::CommandFactory;
use clap_complete::Shell;

use super::Args;
use crate::error::{AppError, Exit};

fn to_stdout(bytes: &[u8]) -> Result<Exit, AppError> {
    use std::io::Write;
    match std::io::stdout().lock().write_all(bytes) {
        Err(e) if e.kind() != std::io::ErrorKind::BrokenPipe => {
            Err(AppError::machine(format!("standard output cannot be written: {e}")))
        }
        _ => Ok(Exit::Done),
    }
}

pub fn completions(shell: Shell) -> Result<Exit, AppError> {
    let mut out = Vec::new();
    clap_complete::generate(shell, &mut Args::command(), "hollow-mile", &mut out);
    to_stdout(&out)
}

/// The page of the program on standard output, or one for each command into a folder.
pub fn man(folder: Option<&Path>) -> Result<Exit, AppError> {
    let wrong = |e: std::io::Error| AppError::usage(format!("the man page cannot be written: {e}"));
    match folder {
        Some(folder) => {
            std::fs::create_dir_all(folder).map_err(|e| AppError::file(folder, "made", &e))?;
            clap_mangen::generate_to(Args::command(), folder).map_err(wrong)?;
            Ok(Exit::Done)
        }
        None => {
            let mut out = Vec::new();
            clap_mangen::Man::new(Args::command()).render(&mut out).map_err(wrong)?;
            to_stdout(&out)
        }
    }
}
