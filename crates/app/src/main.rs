//! The `hollow-mile` program.

use std::io::Write;
use std::process::ExitCode;
use std::sync::Arc;

use clap::Parser;
use hollow_mile::cli::{Args, run};
use hollow_mile::told::words::printable;

fn main() -> ExitCode {
    // Records, charts and reports are their user's alone, whatever the shell would give to others.
    rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
    // At the limit on a file's size a write fails with an error that can be told, and does not end the program.
    let _ = signal_hook::flag::register(signal_hook::consts::SIGXFSZ, Arc::default());
    let exit = match run(Args::parse()) {
        Ok(exit) => exit,
        Err(e) => {
            // The terminal may be gone.
            let _ = writeln!(std::io::stderr(), "hollow-mile: {}", printable(&e.message));
            e.exit
        }
    };
    ExitCode::from(exit as u8)
}
