//! Benches beside one PostgreSQL: how long what they commit takes to be there, what sending costs, and how fast a backlog is caught up.
//!
//! `cargo bench -p hollow-mile-ledger --bench fleet -- BENCHES SECONDS OUTAGE`; 20, 30 and 120 (s) without; with `three` the records lie on
//! three further servers. Each bench has eight hauls that commit twice a
//! second, five samples each time, as a real haul with ten samples a second does.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

#[path = "../tests/server/mod.rs"]
mod server;

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulHead, HaulState, Sample};
use hollow_mile_core::route::Route;
use hollow_mile_ledger::fleet::{self, Address, Membership, Sender};
use hollow_mile_ledger::{HaulWriter, Ledger};

const HAULS: usize = 8;

fn begin(home: &std::path::Path, haul: &str) -> HaulWriter {
    let mut drive = DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(1000));
    (drive.model, drive.serial) = ("Corrie C1 1 TB".into(), haul.into());
    let route: Route = toml::from_str("name = \"long-haul\"").unwrap();
    let mut head = HaulHead::plain(haul, drive, route);
    head.started_unix_ms = 1_795_000_000_000;
    let mut writer = Ledger::open(home).unwrap().begin(&head).unwrap();
    writer.push(Event::HaulStarted(Box::new(head))).unwrap();
    writer
}

fn commit(writer: &mut HaulWriter, turn: u64) {
    for i in 0..5 {
        let end = Duration::from_millis(turn * 500 + i * 100);
        let sample = Sample {
            end,
            span: Duration::from_millis(100),
            written: Bytes::new(95_000_000 + turn * 131 % 7919 * 1000),
            ..Sample::default()
        };
        writer.push(Event::Sample(sample)).unwrap();
    }
    writer.commit().unwrap();
}

/// Processor time of this thread, s.
fn worked() -> f64 {
    let t = rustix::time::clock_gettime(rustix::time::ClockId::ThreadCPUTime);
    t.tv_sec as f64 + t.tv_nsec as f64 / 1e9
}

fn main() {
    let mut given = std::env::args().filter_map(|a| a.parse::<u64>().ok());
    let (benches, seconds) = (given.next().unwrap_or(20) as usize, given.next().unwrap_or(30));
    let outage = given.next().unwrap_or(120);
    let server = server::Server::start();
    let address: Address = server.url("keeper").parse().unwrap();
    fleet::init(&mut address.connect().unwrap(), &address).unwrap();
    let others: Vec<server::Server> = if std::env::args().any(|a| a == "three") {
        (0..3).map(|_| server::Server::start()).collect()
    } else {
        Vec::new()
    };
    if !others.is_empty() {
        let urls: Vec<Address> = others.iter().map(|s| s.url("keeper").parse().unwrap()).collect();
        fleet::spread(&address, &urls).unwrap();
    }
    let dir = tempfile::tempdir_in("/dev/shm").unwrap();
    let homes: Vec<_> = (0..benches).map(|b| dir.path().join(format!("bench-{b}"))).collect();
    let mut senders: Vec<Sender> = homes
        .iter()
        .enumerate()
        .map(|(b, home)| {
            drop(Ledger::open(home).unwrap());
            Sender::new(Membership::join(home, &address, &format!("bench-{b}")).unwrap()).unwrap()
        })
        .collect();
    let over = AtomicBool::new(false);
    // How long a bench's outbox was not empty, at most, each time it was sent.
    let delays = Mutex::new(Vec::<f64>::new());
    let cost = Mutex::new(0.0_f64);
    let mut writers: Vec<Vec<HaulWriter>> = homes
        .iter()
        .enumerate()
        .map(|(b, home)| (0..HAULS).map(|h| begin(home, &format!("{:08x}", b * 256 + h))).collect())
        .collect();
    std::thread::scope(|scope| {
        for (home, sender) in homes.iter().zip(&mut senders) {
            let (over, delays, cost) = (&over, &delays, &cost);
            scope.spawn(move || {
                let ledger = Ledger::open(home).unwrap();
                let before = worked();
                while !over.load(Ordering::Relaxed) {
                    // What was committed right after the last look waits for this step's end.
                    let began = Instant::now();
                    std::thread::sleep(Duration::from_millis(400));
                    sender.step(&ledger).unwrap();
                    delays.lock().unwrap().push(began.elapsed().as_secs_f64());
                }
                *cost.lock().unwrap() += worked() - before;
            });
        }
        let began = Instant::now();
        for turn in 0..seconds * 2 {
            writers.iter_mut().flatten().for_each(|w| commit(w, turn));
            let due = Duration::from_millis((turn + 1) * 500);
            std::thread::sleep(due.saturating_sub(began.elapsed()));
        }
        println!(
            "{} hauls wrote {seconds} s of samples in {:.1} s",
            benches * HAULS,
            began.elapsed().as_secs_f64()
        );
        std::thread::sleep(Duration::from_secs(1));
        over.store(true, Ordering::Relaxed);
    });
    let mut delays = delays.into_inner().unwrap();
    delays.sort_by(f64::total_cmp);
    let at = |q: f64| delays[((delays.len() - 1) as f64 * q) as usize];
    println!(
        "delay: {:.2} s in the median, {:.2} s at p99, {:.2} s at most (asked 5 s at p99)",
        at(0.5),
        at(0.99),
        at(1.0)
    );
    let share = 100.0 * cost.into_inner().unwrap() / (seconds + 1) as f64 / benches as f64;
    println!("sending costs {share:.2} % of a core a bench (asked 2 %)");
    let count = |server: &server::Server| -> i64 {
        server.client().query_one("SELECT COUNT(*) FROM hollow_mile.batch", &[]).unwrap().get(0)
    };
    let here = || -> i64 {
        let count = |h: &std::path::PathBuf| {
            let db = rusqlite::Connection::open(h.join("ledger.sqlite")).unwrap();
            db.query_row("SELECT COUNT(*) FROM batches", [], |r| r.get::<_, i64>(0)).unwrap()
        };
        homes.iter().map(count).sum()
    };
    println!("{} of {} batches are there", count(&server), here());
    // An outage: the hauls go on without the server, and are sent when it is back.
    for turn in seconds * 2..(seconds + outage) * 2 {
        writers.iter_mut().flatten().for_each(|w| commit(w, turn));
    }
    for writer in writers.into_iter().flatten() {
        writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
    }
    let began = Instant::now();
    std::thread::scope(|scope| {
        for (home, sender) in homes.iter().zip(&mut senders) {
            scope.spawn(move || {
                let ledger = Ledger::open(home).unwrap();
                while sender.step(&ledger).unwrap().more || ledger.unsent().unwrap() > 0 {}
            });
        }
    });
    let took = began.elapsed().as_secs_f64();
    println!(
        "{outage} s of {} hauls caught up in {took:.1} s: {:.0} times real time (asked 20); {} of {} batches are there",
        benches * HAULS,
        outage as f64 / took,
        count(&server),
        here()
    );
    // A reader opens records of hauls from all over.
    let desk = dir.path().join("desk");
    drop(Ledger::open(&desk).unwrap());
    Membership::join_to_read(&desk, &address).unwrap();
    let began = Instant::now();
    let mut mirror = fleet::Mirror::open(&desk).unwrap();
    mirror.pull().unwrap();
    let listed = began.elapsed().as_secs_f64();
    let mirror = mirror.into_ledger();
    let rows = mirror.hauls().unwrap();
    let began = Instant::now();
    let opened: Vec<Readings> =
        rows.iter().step_by(rows.len().div_ceil(20)).map(|r| mirror.readings(&r.haul).unwrap()).collect();
    let opened = opened.len();
    println!(
        "a new reader lists {} hauls in {listed:.1} s and reads {opened} records of {} s in {:.2} s each",
        rows.len(),
        seconds + outage,
        began.elapsed().as_secs_f64() / opened as f64
    );
}
