//! Worker threads with pread and pwrite: for systems that refuse io_uring. One thread an operation in flight, up to 64.

use std::os::fd::OwnedFd;
use std::sync::Arc;
use std::time::{Duration, Instant};

use crossbeam_channel::{Receiver, RecvTimeoutError, Sender, bounded};

use super::buffers::Buffers;
use super::calls::perform;
use super::guard::Access;
use super::queue::{Completion, Operation, Queue};

const MOST_THREADS: u32 = 64;

/// A pool of threads for one file.
pub struct Threads {
    work: Option<Sender<Operation>>,
    done: Receiver<Completion>,
    threads: Vec<std::thread::JoinHandle<()>>,
}

fn serve(file: &OwnedFd, buffers: &Buffers, work: &Receiver<Operation>, done: &Sender<Completion>) {
    for op in work {
        // SAFETY: the slot belongs to this operation until its completion is sent.
        let result = unsafe { perform(file, buffers, op) };
        if done.send(Completion { slot: op.slot, result }).is_err() {
            return;
        }
    }
}

impl Queue for Threads {
    fn new(access: &Access, buffers: &Arc<Buffers>, depth: u32) -> std::io::Result<Self> {
        let file = access.descriptor();
        let (work, take) = bounded::<Operation>(depth as usize);
        let (give, done) = bounded::<Completion>(depth as usize);
        let threads = (0..depth.min(MOST_THREADS))
            .map(|i| {
                let (file, buffers, take, give) = (file.clone(), buffers.clone(), take.clone(), give.clone());
                std::thread::Builder::new()
                    .name(format!("haul-io-{i}"))
                    .spawn(move || serve(&file, &buffers, &take, &give))
            })
            .collect::<Result<Vec<_>, _>>()?;
        Ok(Self { work: Some(work), done, threads })
    }

    fn words(&self) -> String {
        format!("{} worker threads", self.threads.len())
    }

    unsafe fn push(&mut self, operation: Operation) -> std::io::Result<()> {
        let work = self.work.as_ref().ok_or(std::io::ErrorKind::BrokenPipe)?;
        work.send(operation).map_err(|_| std::io::ErrorKind::BrokenPipe.into())
    }

    fn wait(&mut self, _: Instant, at_most: Duration, out: &mut Vec<Completion>) -> std::io::Result<()> {
        match self.done.recv_timeout(at_most) {
            Ok(first) => out.push(first),
            Err(RecvTimeoutError::Timeout) => return Ok(()),
            Err(RecvTimeoutError::Disconnected) => return Err(std::io::ErrorKind::BrokenPipe.into()),
        }
        out.extend(self.done.try_iter());
        Ok(())
    }
}

impl Drop for Threads {
    fn drop(&mut self) {
        self.work = None;
        for thread in self.threads.drain(..) {
            let _ = thread.join();
        }
    }
}
