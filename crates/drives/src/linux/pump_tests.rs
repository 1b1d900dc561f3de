//! The pump over a queue that answers from a script: short transfers, second tries, failures, and what happens in a drain.

use std::cell::RefCell;
use std::collections::{HashMap, VecDeque};
use std::sync::Arc;
use std::time::{Duration, Instant};

use hollow_mile_core::drive::{Load, LoadKind};
use hollow_mile_core::quantity::units::Bytes;

use super::super::guard::Access;
use super::*;

const BLOCK: u64 = 4096;

thread_local! {
    /// What each address answers, in the order of its tries; whatever is not named answers with all that was asked for.
    static SCRIPT: RefCell<HashMap<u64, VecDeque<i32>>> = RefCell::default();
    /// Addresses that were asked for, with their lengths.
    static ASKED: RefCell<Vec<(u64, u32)>> = RefCell::default();
}

#[derive(Default)]
struct Scripted {
    pushed: Vec<Operation>,
}

impl Queue for Scripted {
    fn new(_: &Access, _: &Arc<Buffers>, _: u32) -> std::io::Result<Self> {
        Ok(Self::default())
    }

    fn words(&self) -> String {
        "scripted".into()
    }

    unsafe fn push(&mut self, operation: Operation) -> std::io::Result<()> {
        ASKED.with_borrow_mut(|a| a.push((operation.address, operation.length)));
        self.pushed.push(operation);
        Ok(())
    }

    fn wait(&mut self, _: Instant, _: Duration, out: &mut Vec<Completion>) -> std::io::Result<()> {
        for op in self.pushed.drain(..) {
            let answer = SCRIPT.with_borrow_mut(|s| s.get_mut(&op.address).and_then(VecDeque::pop_front));
            out.push(Completion { slot: op.slot, result: answer.unwrap_or(op.length as i32) });
        }
        Ok(())
    }
}

/// A read of so many blocks, four at once, of which some addresses answer otherwise.
fn pump(blocks: u64, script: &[(u64, &[i32])]) -> Pump<Scripted> {
    SCRIPT.with_borrow_mut(|s| {
        *s = script.iter().map(|(block, all)| (block * BLOCK, all.iter().copied().collect())).collect();
    });
    ASKED.with_borrow_mut(Vec::clear);
    let access = Access::Read(Arc::new(std::fs::File::open("/dev/null").unwrap().into()));
    let end = Bytes::new(blocks * BLOCK);
    let load = Load::sequential(LoadKind::Read, Bytes::ZERO, end, Bytes::new(BLOCK), 4);
    let share = Share {
        start: 0,
        end: end.get(),
        from: 0,
        limit: Some(end.get()),
        depth: 4,
        rate: None,
        seed: 7,
        zones: None,
        map: None,
    };
    Pump::new(&access, &load, &share).unwrap()
}

fn run(pump: &mut Pump<Scripted>) -> Pumped {
    pump.run(Instant::now() + Duration::from_secs(5)).unwrap()
}

const EIO: i32 = -libc::EIO;

#[test]
fn what_is_short_is_asked_for_again_and_what_is_busy_is_tried_again() {
    let mut p = pump(8, &[(2, &[1024]), (5, &[-libc::EAGAIN, -libc::EINTR])]);
    let sum = run(&mut p);
    assert!(sum.finished);
    assert_eq!((sum.read, sum.errors, sum.in_vain), (8 * BLOCK, 0, 0));
    let asked = ASKED.with_borrow(Clone::clone);
    assert!(asked.contains(&(2 * BLOCK + 1024, 3072)), "the rest of a short read: {asked:?}");
    assert_eq!(asked.iter().filter(|(a, _)| *a == 5 * BLOCK).count(), 3);
}

#[test]
fn a_failure_is_tried_once_more_alone_and_only_then_counted() {
    let mut p = pump(8, &[(1, &[EIO]), (3, &[EIO, EIO]), (6, &[-libc::ENOSPC])]);
    let sum = run(&mut p);
    assert_eq!((sum.read, sum.errors), (6 * BLOCK, 2));
    let told: Vec<(u64, i32, bool)> =
        sum.faults.iter().map(|f| (f.address / BLOCK, f.code, f.recovered)).collect();
    let mut sorted = told.clone();
    sorted.sort_unstable();
    assert_eq!(sorted, [(1, libc::EIO, true), (3, libc::EIO, false), (6, libc::ENOSPC, false)]);
    // What the block layer moved in vain: the first tries of two, and what failed for good.
    assert_eq!(sum.in_vain, 2 * BLOCK + 2 * BLOCK);
}

#[test]
fn an_end_where_there_should_be_none_is_an_error_and_not_an_endless_loop() {
    let mut p = pump(4, &[(0, &[0]), (2, &[0])]);
    let sum = run(&mut p);
    assert_eq!((sum.read, sum.errors, sum.finished), (2 * BLOCK, 2, true));
}

#[test]
fn what_fails_while_the_queue_drains_is_counted_too() {
    let mut p = pump(1000, &[(0, &[EIO, EIO]), (1, &[EIO]), (3, &[-libc::ENODEV])]);
    // Nothing is waited for: the deadline is over as soon as the queue is full.
    let sum = p.run(Instant::now()).unwrap();
    assert_eq!((sum.read, sum.errors), (0, 0));
    let late = p.drain().unwrap();
    assert_eq!((late.read, late.errors, late.faults.len()), (2 * BLOCK, 2, 3));
}

#[test]
fn more_failures_than_are_told_one_by_one_are_counted_all() {
    let script: Vec<(u64, &[i32])> = (0..100).map(|i| (i, &[-libc::ENODEV][..])).collect();
    let mut p = pump(100, &script);
    let sum = run(&mut p);
    assert_eq!((sum.errors, sum.faults.len(), sum.read), (100, FAULTS, 0));
}

#[test]
fn a_load_that_writes_is_refused_without_the_right_to() {
    let access = Access::Read(Arc::new(std::fs::File::open("/dev/null").unwrap().into()));
    let load = Load::sequential(LoadKind::Write, Bytes::ZERO, Bytes::new(1 << 20), Bytes::new(BLOCK), 4);
    let share = Share {
        start: 0,
        end: 1 << 20,
        from: 0,
        limit: None,
        depth: 4,
        rate: None,
        seed: 7,
        zones: None,
        map: None,
    };
    let refused = Pump::<Scripted>::new(&access, &load, &share).err().unwrap();
    assert_eq!(refused.kind(), std::io::ErrorKind::PermissionDenied);
}
