//! What is done with single files: made and written, read, removed; each with what it took.

use std::os::fd::{IntoRawFd, OwnedFd};
use std::time::Duration;

use hollow_mile_core::drive::freight::{Durable, Tree};
use quanta::Instant;
use rustix::fs::{Advice, fadvise, fsync, ftruncate};
use rustix::io::{Errno, read, write};
use rustix::time::{ClockId, clock_gettime};

use super::super::guard::Way;
use super::shared::Shared;
use crate::account::Account;

/// Units of memory and of direct I/O.
pub const UNIT: usize = 4096;

/// Time that this thread has had a processor.
fn processor_time() -> Duration {
    let t = clock_gettime(ClockId::ThreadCPUTime);
    Duration::new(u64::try_from(t.tv_sec).unwrap_or(0), u32::try_from(t.tv_nsec).unwrap_or(0))
}

/// What one file took of its thread's time so far, waiting for the other side not counted.
#[derive(Debug, Clone, Copy, Default)]
pub struct Took {
    /// To make, open, close or remove it.
    pub metadata: Duration,
    /// To make it durable.
    pub durable: Duration,
    /// In all.
    pub all: Duration,
}

/// What went wrong with a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Trouble {
    /// What was being done.
    pub doing: &'static str,
    /// What the kernel said.
    pub error: Errno,
}

fn trouble(doing: &'static str) -> impl Fn(Errno) -> Trouble {
    move |error| Trouble { doing, error }
}

/// A file that is being written.
pub struct Writing {
    file: OwnedFd,
    size: u64,
    written: u64,
    direct: bool,
    took: Took,
    /// When what was done last was done.
    mark: Instant,
    /// What was written and is not told yet: of a file of one block, all at its end.
    untold: Option<(Duration, Option<Duration>, u64)>,
}

impl Writing {
    /// Makes it; its time counts from `began`.
    pub fn begin(
        way: &mut Way,
        tree: &Tree,
        file: u32,
        direct: bool,
        began: Instant,
    ) -> Result<Self, Trouble> {
        let fd = way.create(tree, file, direct).map_err(trouble("making a file"))?;
        let mark = Instant::now();
        let took = Took { metadata: mark - began, ..Took::default() };
        let size = tree.size(file as usize);
        Ok(Self { file: fd, size, written: 0, direct, took, mark, untold: None })
    }

    /// Bytes that are still to be written.
    pub const fn left(&self) -> u64 {
        self.size - self.written
    }

    /// Something of it was written.
    pub const fn has_begun(&self) -> bool {
        self.written > 0
    }

    /// Writes what is next, from memory in which at least a whole unit more lies than is written.
    pub fn write(
        &mut self,
        data: &[u8],
        length: usize,
        looks: bool,
        account: &Shared<Account>,
    ) -> Result<(), Trouble> {
        // What goes past the page cache goes in whole units; the file is cut to its size at the end.
        let whole = if self.direct { length.next_multiple_of(UNIT) } else { length };
        let mut done = 0;
        // What went before it since the last mark is this machine's, and as good as nothing.
        let before = looks.then(processor_time);
        // A clock is asked as seldom as can be: a small file is made in a few microseconds.
        let began = if self.written == 0 && !looks { self.mark } else { Instant::now() };
        while done < whole {
            match write(&self.file, &data[done..whole]) {
                Ok(0) => return Err(Trouble { doing: "writing a file", error: Errno::IO }),
                Ok(n) => done += n,
                Err(Errno::INTR) => {}
                Err(e) => return Err(trouble("writing a file")(e)),
            }
        }
        self.mark = Instant::now();
        let took = self.mark - began;
        let at_work = before.map(|b| processor_time().saturating_sub(b));
        self.took.all += took;
        self.written += length as u64;
        let newest = (took, at_work, length as u64);
        if self.written < self.size || self.untold.is_some() || length as u64 != self.size {
            let mut account = account.lock();
            for (took, at_work, bytes) in self.untold.take().into_iter().chain([newest]) {
                account.transfer(took, at_work);
                account.written += bytes;
            }
        } else {
            self.untold = Some(newest);
        }
        Ok(())
    }

    /// Cuts it to its size, makes it durable where that is asked for each, and closes it. Gives when that was done.
    pub fn end(mut self, durable: Durable, account: &Shared<Account>) -> Result<Instant, Trouble> {
        if self.direct && !self.size.is_multiple_of(UNIT as u64) {
            ftruncate(&self.file, self.size).map_err(trouble("cutting a file to its size"))?;
        }
        if durable == Durable::Each {
            let cut = Instant::now();
            self.took.metadata += cut - self.mark;
            fsync(&self.file).map_err(trouble("making a file durable"))?;
            self.mark = Instant::now();
            self.took.durable = self.mark - cut;
        }
        // As drop does, but that the library's close makes itself ready to be cancelled, which takes longer than all that is noted here.
        // SAFETY: nobody else has this descriptor, and it is not used again.
        unsafe { rustix::io::close(self.file.into_raw_fd()) };
        let over = Instant::now();
        self.took.metadata += over - self.mark;
        self.took.all += self.took.metadata + self.took.durable;
        let mut account = account.lock();
        if let Some((took, at_work, bytes)) = self.untold {
            account.transfer(took, at_work);
            account.written += bytes;
        }
        account.done.spent.durable += self.took.durable;
        account.metadata(self.took.metadata);
        account.done.file(self.size, self.took.all, self.took.metadata, self.took.durable);
        Ok(over)
    }
}

/// Reads once; gives how many bytes came, and how long that took. It is told as a transfer.
pub fn read_with(
    account: &Shared<Account>,
    doing: &'static str,
    mut read: impl FnMut() -> Result<usize, Errno>,
) -> Result<(usize, Duration), Trouble> {
    let looks = account.lock().looks();
    let (began, before) = (Instant::now(), looks.then(processor_time));
    let n = loop {
        match read() {
            Err(Errno::INTR) => {}
            other => break other.map_err(trouble(doing))?,
        }
    };
    let took = began.elapsed();
    let at_work = before.map(|b| processor_time().saturating_sub(b));
    let mut account = account.lock();
    account.transfer(took, at_work);
    account.read += n as u64;
    Ok((n, took))
}

/// A file that is being read.
pub struct Reading {
    file: OwnedFd,
    /// Its size, as it was written.
    pub size: u64,
    took: Took,
}

impl Reading {
    /// Opens it. What the page cache has of it is let go, so that the drive is asked.
    pub fn begin(way: &mut Way, tree: &Tree, file: u32, direct: bool) -> Result<Self, Trouble> {
        let began = Instant::now();
        let fd = way.open(tree, file, direct).map_err(trouble("opening a file"))?;
        if !direct {
            // Advice: where it is not taken, the file is read from memory.
            let _ = fadvise(&fd, 0, None, Advice::DontNeed);
        }
        let took = Took { metadata: began.elapsed(), ..Took::default() };
        Ok(Self { file: fd, size: tree.size(file as usize), took })
    }

    /// Reads what is next; gives how many bytes came, none at its end.
    pub fn read(&mut self, buffer: &mut [u8], account: &Shared<Account>) -> Result<usize, Trouble> {
        let (n, took) = read_with(account, "reading a file", || read(&self.file, &mut *buffer))?;
        self.took.all += took;
        Ok(n)
    }

    /// Closes it; `counts` where it is a file done with, and not one on its way to another drive.
    pub fn end(mut self, counts: bool, account: &Shared<Account>) {
        let began = Instant::now();
        drop(self.file);
        self.took.metadata += began.elapsed();
        self.took.all += self.took.metadata;
        let mut account = account.lock();
        account.metadata(self.took.metadata);
        if counts {
            account.done.file(self.size, self.took.all, self.took.metadata, Duration::ZERO);
        }
    }
}

/// Removes a file.
pub fn remove(way: &mut Way, tree: &Tree, file: u32, account: &Shared<Account>) -> Result<(), Trouble> {
    let began = Instant::now();
    way.remove(tree, file).map_err(trouble("removing a file"))?;
    let took = began.elapsed();
    let mut account = account.lock();
    account.metadata(took);
    account.done.file(tree.size(file as usize), took, took, Duration::ZERO);
    Ok(())
}
