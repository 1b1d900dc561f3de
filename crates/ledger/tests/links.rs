//! What happens to a fleet beside programs: links that are cut, and a server whose disk is full. Both need root, and are left out without.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

#[path = "server/benches.rs"]
mod benches;
mod server;

use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::process::Command;

use benches::{Bench, both, fleet_on, note};
use hollow_mile_ledger::fleet::Address;
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use server::Server;

fn runs(words: &str) -> bool {
    let mut words = words.split(' ');
    let out = Command::new(words.next().unwrap()).args(words).output();
    out.is_ok_and(|o| o.status.success())
}

/// A network of its own with one link to this machine's, taken away in the end.
struct Network {
    name: String,
    link: String,
    here: String,
}

impl Network {
    fn new() -> Option<Self> {
        let n = std::process::id() % 250 + 1;
        let (name, link, here) = (format!("hollow-mile-{n}"), format!("hm{n}a"), format!("10.77.{n}.1"));
        let network = Self { name, link, here };
        let Self { name, link, here } = &network;
        let made = runs(&format!("ip netns add {name}"))
            && runs(&format!("ip link add {link} type veth peer name hm{n}b netns {name}"))
            && runs(&format!("ip addr add {here}/24 dev {link}"))
            && runs(&format!("ip link set {link} up"))
            && runs(&format!("ip -n {name} addr add 10.77.{n}.2/24 dev hm{n}b"))
            && runs(&format!("ip -n {name} link set hm{n}b up"));
        made.then_some(network)
    }

    /// On this machine's side, whichever side asks: the other end sees nothing but silence.
    fn is_cut(&self, cut: bool) {
        let way = if cut { "down" } else { "up" };
        let net = format!("/proc/{}/ns/net", std::process::id());
        assert!(runs(&format!("nsenter --net={net} ip link set {} {way}", self.link)));
    }

    /// What this thread connects to from now on goes over the link.
    fn enter(&self) {
        let file = std::fs::File::open(Path::new("/run/netns").join(&self.name)).unwrap();
        move_into_link_name_space(file.as_fd(), Some(LinkNameSpaceType::Network)).unwrap();
    }
}

impl Drop for Network {
    fn drop(&mut self) {
        runs(&format!("ip netns del {}", self.name));
        runs(&format!("ip link del {}", self.link));
    }
}

#[test]
fn a_link_that_is_cut_holds_up_no_haul_and_what_was_committed_comes_when_it_is_back() {
    let Some(network) = Network::new() else {
        return println!("left out: no network of its own without root");
    };
    let server = Server::start();
    let address: Address = fleet_on(&server).text().replace("127.0.0.1", &network.here).parse().unwrap();
    std::thread::scope(|scope| {
        let bench_is_apart = scope.spawn(|| {
            network.enter();
            let mut bench = Bench::join(&address, "north");
            let mut live = bench.begin("aaaa0001");
            (0..5).for_each(|i| note(&mut live, i));
            bench.send_all();
            // In the middle of a connection: nobody says that the other end is gone.
            network.is_cut(true);
            (5..10).for_each(|i| note(&mut live, i));
            let cut = bench.sender.step(&bench.ledger()).unwrap_err();
            assert!(cut.may_pass(), "{cut}");
            // And where there is none.
            note(&mut live, 10);
            let none = bench.sender.step(&bench.ledger()).unwrap_err();
            assert!(none.may_pass() && none.to_string().contains("hauls go on"), "{none}");
            network.is_cut(false);
            bench.send_all();
            drop(live);
            bench
        });
        // The server is asked from this side.
        let bench = bench_is_apart.join().unwrap();
        let (there, here) = both(&server, &bench, "aaaa0001");
        assert!(here.len() >= 11);
        assert_eq!(there, here);
    });
}

/// A file system of so many megabytes, taken away in the end.
struct Small(PathBuf);

impl Small {
    fn new(megabytes: u32) -> Option<Self> {
        let dir = tempfile::Builder::new().prefix("hollow-mile-small").tempdir().unwrap().keep();
        let made = runs(&format!("mount -t tmpfs -o size={megabytes}m,mode=777 tmpfs {}", dir.display()));
        made.then_some(Self(dir))
    }
}

impl Drop for Small {
    fn drop(&mut self) {
        runs(&format!("umount -l {}", self.0.display()));
        let _ = std::fs::remove_dir(&self.0);
    }
}

#[test]
fn a_server_whose_disk_is_full_loses_nothing() {
    let Some(place) = Small::new(200) else {
        return println!("left out: no file system of its own without root");
    };
    let server = Server::start_in(&place.0);
    let address = fleet_on(&server);
    let mut bench = Bench::join(&address, "north");
    bench.haul("aaaa0001", 20);
    bench.send_all();
    let ballast = place.0.join("ballast");
    // Until nothing more fits.
    let _ = std::fs::write(&ballast, vec![7u8; 200 << 20]);
    let mut writer = bench.begin("aaaa0002");
    let long = "a note that takes room ".repeat(40_000);
    for _ in 0..4 {
        let at = std::time::Duration::ZERO;
        writer.push(hollow_mile_core::record::Event::Note { at, text: long.clone() }).unwrap();
        writer.commit().unwrap();
    }
    let ledger = bench.ledger();
    let refused = (0..20).find_map(|_| {
        let stepped = bench.sender.step(&ledger);
        (0..200).for_each(|i| note(&mut writer, i));
        stepped.err()
    });
    let refused = refused.expect("nothing more fits on the server");
    assert!(refused.may_pass(), "{refused}");
    assert!(ledger.unsent().unwrap() > 0, "it waits");
    // Somebody makes room. A server that stopped for want of it is started again.
    std::fs::remove_file(&ballast).unwrap();
    if postgres::Client::connect(&server.url("keeper"), postgres::NoTls).is_err() {
        server.down("immediate");
        server.up();
    }
    bench.send_all();
    for haul in ["aaaa0001", "aaaa0002"] {
        let (there, here) = both(&server, &bench, haul);
        assert!(here.len() >= 4 && there == here, "{haul}");
    }
}
