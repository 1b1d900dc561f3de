//! The `hollow-mile` program.

use std::process::ExitCode;

use clap::Parser;
use hollow_mile::cli::{Args, run};
use hollow_mile::error::Exit;
use hollow_mile::text::printable;

fn main() -> ExitCode {
    let exit = match run(Args::parse()) {
        Ok(exit) => exit,
        Err(e) => {
            eprintln!("hollow-mile: {}", printable(&e.message));
            e.exit
        }
    };
    ExitCode::from(match exit {
        Exit::Done => 0,
        Exit::LimitMissed => 1,
        Exit::Usage => 2,
        Exit::Refused => 3,
        Exit::DriveFailed => 4,
        Exit::Stopped => 5,
    })
}
