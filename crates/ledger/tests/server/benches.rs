//! Benches of a fleet, each with a ledger in a folder of its own.
#![allow(dead_code, clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::Path;
use std::time::Duration;

use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::Bytes;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::{Event, HaulHead, HaulState};
use hollow_mile_core::route::Route;
use hollow_mile_ledger::fleet::{self, Address, Made, Membership, Sender};
use hollow_mile_ledger::{HaulWriter, Ledger};

use crate::server::Server;

pub fn fleet_on(server: &Server) -> Address {
    let address: Address = server.url("keeper").parse().unwrap();
    let mut client = address.connect().unwrap();
    assert_eq!(fleet::init(&mut client, &address).unwrap(), Made::WithRoles);
    assert_eq!(fleet::init(&mut client, &address).unwrap(), Made::Nothing, "twice changes nothing");
    address
}

pub struct Bench {
    pub dir: tempfile::TempDir,
    pub sender: Sender,
}

impl Bench {
    pub fn join(address: &Address, name: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        drop(Ledger::open(dir.path()).unwrap());
        let sender = Sender::new(Membership::join(dir.path(), address, name).unwrap()).unwrap();
        Self { dir, sender }
    }

    pub fn home(&self) -> &Path {
        self.dir.path()
    }

    pub fn ledger(&self) -> Ledger {
        Ledger::open(self.home()).unwrap()
    }

    pub fn send_all(&mut self) -> usize {
        let ledger = self.ledger();
        let mut batches = 0;
        loop {
            let sent = self.sender.step(&ledger).unwrap();
            batches += sent.batches;
            if !sent.more && ledger.unsent().unwrap() == 0 {
                return batches;
            }
        }
    }

    pub fn begin(&self, haul: &str) -> HaulWriter {
        self.begin_at(haul, 1_790_000_000_000)
    }

    pub fn begin_at(&self, haul: &str, started_unix_ms: i64) -> HaulWriter {
        let mut drive = DriveIdentity::plain("sim:x", DriveKind::Simulated, Bytes::from_gb(1000));
        (drive.model, drive.serial) = ("Corrie C2 1 TB".into(), "KW-0007".into());
        let route: Route = toml::from_str("name = \"long-haul\"").unwrap();
        let mut head = HaulHead::plain(haul, drive, route);
        head.started_unix_ms = started_unix_ms;
        let mut writer = self.ledger().begin(&head).unwrap();
        writer.push(Event::HaulStarted(Box::new(head))).unwrap();
        writer
    }

    pub fn haul(&self, haul: &str, notes: usize) {
        self.haul_at(haul, notes, 1_790_000_000_000);
    }

    pub fn haul_at(&self, haul: &str, notes: usize, started_unix_ms: i64) {
        let mut writer = self.begin_at(haul, started_unix_ms);
        for i in 0..notes {
            note(&mut writer, i);
        }
        writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
    }
}

pub fn note(writer: &mut HaulWriter, i: usize) {
    writer.push(Event::Note { at: Duration::from_secs(i as u64), text: format!("number {i}") }).unwrap();
    writer.commit().unwrap();
}

pub type Batches = Vec<(i64, Vec<u8>)>;

/// What of a haul is on the server, and what in the ledger: (number, bytes) of each batch.
pub fn both(server: &Server, bench: &Bench, haul: &str) -> (Batches, Batches) {
    let there = server
        .client()
        .query("SELECT seq, bytes FROM hollow_mile.batch WHERE haul = $1 ORDER BY seq", &[&haul])
        .unwrap()
        .iter()
        .map(|r| (r.get(0), r.get(1)))
        .collect();
    let db = rusqlite::Connection::open(bench.home().join("ledger.sqlite")).unwrap();
    let mut statement = db.prepare("SELECT seq, bytes FROM batches WHERE haul = ?1 ORDER BY seq").unwrap();
    let here =
        statement.query_map([haul], |r| Ok((r.get(0)?, r.get(1)?))).unwrap().map(Result::unwrap).collect();
    (there, here)
}
