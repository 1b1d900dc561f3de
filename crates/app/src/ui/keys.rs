//! Waiting for keys, and noticing that nobody is there any more.
//!
//! When its terminal is closed, reading from it gives an end of file again and again, and the event reader of the
//! terminal library does not come back from that. So the file is asked first, by poll(2): a terminal that hung up ends
//! the interface.

use std::fs::File;
use std::io::{IsTerminal, stdin};
use std::os::fd::{AsFd, BorrowedFd};
use std::time::Duration;

use ratatui::crossterm::event;
use rustix::event::{PollFd, PollFlags, Timespec, poll};

/// Where keys come from: standard input, or the terminal itself when that is something else.
pub struct Keys {
    terminal: Option<File>,
}

/// What a wait came to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Waited {
    /// There is an event to read.
    Event,
    /// Nothing came.
    Nothing,
    /// The terminal is gone.
    Gone,
}

impl Keys {
    /// Of this process.
    #[must_use]
    pub fn new() -> Self {
        Self { terminal: if stdin().is_terminal() { None } else { File::open("/dev/tty").ok() } }
    }

    /// Waits for an event, at most so long.
    ///
    /// # Errors
    /// What the terminal library says.
    pub fn wait(&self, at_most: Duration) -> std::io::Result<Waited> {
        let input = stdin();
        let file: BorrowedFd<'_> = self.terminal.as_ref().map_or_else(|| input.as_fd(), AsFd::as_fd);
        let mut fds = [PollFd::from_borrowed_fd(file, PollFlags::IN)];
        // A look first: nothing may be asked of the library once the terminal is gone.
        poll(&mut fds, Some(&Timespec { tv_sec: 0, tv_nsec: 0 })).ok();
        if gone(fds[0].revents()) {
            return Ok(Waited::Gone);
        }
        // What was read and not yet taken is not in the file any more, and a resize never was.
        if event::poll(Duration::ZERO)? {
            return Ok(Waited::Event);
        }
        let time = Timespec { tv_sec: at_most.as_secs() as i64, tv_nsec: i64::from(at_most.subsec_nanos()) };
        match poll(&mut fds, Some(&time)) {
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(e) => return Err(e.into()),
        }
        if gone(fds[0].revents()) {
            return Ok(Waited::Gone);
        }
        Ok(if event::poll(Duration::ZERO)? { Waited::Event } else { Waited::Nothing })
    }
}

impl Default for Keys {
    fn default() -> Self {
        Self::new()
    }
}

fn gone(flags: PollFlags) -> bool {
    flags.intersects(PollFlags::HUP | PollFlags::ERR | PollFlags::NVAL)
}
