//! Benches and a fleet on a real PostgreSQL server.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

#[path = "server/benches.rs"]
mod benches;
mod server;

use std::path::Path;
use std::time::Duration;

use benches::{Bench, both, fleet_on, note};
use hollow_mile_core::conclude::Conclusions;
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::HaulState;
use hollow_mile_ledger::HaulWriter;
use hollow_mile_ledger::fleet::{self, Address, FleetError, Membership, Mirror, Sender};
use rand::RngExt;
use server::Server;

#[test]
fn what_a_bench_commits_is_in_the_fleet_once_and_to_the_byte() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut bench = Bench::join(&address, "north");
    bench.haul("aaaa0001", 20);
    assert!(bench.send_all() >= 20);
    let (there, here) = both(&server, &bench, "aaaa0001");
    assert!(here.len() >= 20);
    assert_eq!(there, here);
    assert_eq!(bench.sender.step(&bench.ledger()).unwrap().batches, 0, "nothing is left");
    // Everything once more, as after a lost acknowledgement.
    bench.ledger().send_all_anew().unwrap();
    bench.send_all();
    assert_eq!(both(&server, &bench, "aaaa0001").0, here);
    let all = fleet::benches(&address).unwrap();
    assert_eq!((all[0].name.as_str(), all[0].hauls, all[0].unsent_hauls), ("north", 1, 0));
    assert!(all[0].clock_off_ms.abs() < 2000, "{all:?}");
}

#[test]
fn faults_of_every_kind_lose_nothing_and_double_nothing() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut benches = vec![Bench::join(&address, "north"), Bench::join(&address, "south")];
    let mut hauls: Vec<(usize, String, HaulWriter, usize)> = Vec::new();
    let mut rng = rand::rng();
    let rounds = std::env::var("FLEET_FAULTS").ok().and_then(|n| n.parse().ok()).unwrap_or(60);
    let mut over = Vec::new();
    for round in 0..rounds {
        let b = rng.random_range(0..benches.len());
        if hauls.len() < 4 {
            let name = format!("{:08x}", 0x1000_0000 + round);
            hauls.push((b, name.clone(), benches[b].begin(&name), 0));
        }
        for (_, _, writer, n) in &mut hauls {
            for _ in 0..rng.random_range(1..4) {
                note(writer, *n);
                *n += 1;
            }
        }
        match rng.random_range(0..8) {
            // The sender is killed and begins anew, knowing nothing.
            0 => {
                let membership = Membership::read(benches[b].home()).unwrap().unwrap();
                benches[b].sender = Sender::new(membership).unwrap();
            }
            // What it noted as sent is lost: all of it is sent again.
            1 => benches[b].ledger().send_all_anew().unwrap(),
            // The connection is cut by the server.
            2 => {
                let sql = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid() AND application_name = 'hollow-mile'";
                server.client().execute(sql, &[]).unwrap();
            }
            // The server crashes, and is back.
            3 if round % 4 == 0 => {
                server.down("immediate");
                let ledger = benches[b].ledger();
                note(&mut hauls[0].2, 0);
                let told = benches[b].sender.step(&ledger);
                assert!(told.is_err() || ledger.unsent().unwrap() == 0, "nobody answers");
                server.up();
            }
            // A haul ends.
            4 => {
                let (b, name, writer, _) = hauls.swap_remove(rng.random_range(0..hauls.len()));
                writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
                over.push((b, name));
            }
            _ => {}
        }
        let ledger = benches[b].ledger();
        // An error is what the fault made; what was not taken is still in the outbox.
        let _ = benches[b].sender.step(&ledger);
    }
    for (b, name, writer, _) in hauls {
        writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
        over.push((b, name));
    }
    for bench in &mut benches {
        let ledger = bench.ledger();
        while ledger.unsent().unwrap() > 0 {
            let _ = bench.sender.step(&ledger);
        }
    }
    for (b, name) in over {
        let (there, here) = both(&server, &benches[b], &name);
        assert_eq!(there, here, "{name}");
    }
}

#[test]
fn a_mirror_reads_hauls_of_all_benches_as_if_they_were_here() {
    let server = Server::start();
    let address = fleet_on(&server);
    let (mut north, mut south) = (Bench::join(&address, "north"), Bench::join(&address, "south"));
    // Two benches drew the same name for two hauls.
    north.haul("aaaa0001", 3);
    south.haul("aaaa0001", 5);
    let mut live = south.begin("bbbb0002");
    note(&mut live, 0);
    north.send_all();
    south.send_all();
    let mut mirror = Mirror::open(north.home()).unwrap();
    assert_eq!(mirror.pull().unwrap().hauls, 3);
    let ledger = mirror.into_ledger();
    let rows = ledger.hauls().unwrap();
    let bench_of = |haul: &str| {
        let row = rows.iter().find(|r| r.haul == haul).unwrap();
        row.conditions.tags.iter().find(|t| t.0 == "bench").unwrap().1.clone()
    };
    assert_eq!((bench_of("aaaa00010001"), bench_of("aaaa00010002")), ("north".into(), "south".into()));
    let notes = |haul: &str| ledger.readings(haul).unwrap().notes().len();
    assert_eq!((notes("aaaa00010001"), notes("aaaa00010002")), (3, 5));
    let row = ledger.haul("bbbb0002").unwrap();
    assert_eq!(row.state, HaulState::Running, "what runs elsewhere is not cut short here");
    assert_eq!(notes(&row.haul), 1);
    note(&mut live, 1);
    south.send_all();
    assert_eq!(notes(&row.haul), 2, "and is followed");
    // The server is away: what is here is read.
    server.down("fast");
    assert_eq!(notes("aaaa00010001"), 3);
    let mut mirror = Mirror::open(north.home()).unwrap();
    assert!(matches!(mirror.pull(), Err(FleetError::NoServer { .. })));
    assert_eq!(mirror.into_ledger().hauls().unwrap().len(), 3);
}

#[test]
fn names_notes_and_deletions_travel_both_ways_and_the_later_stands() {
    let server = Server::start();
    let address = fleet_on(&server);
    let (mut north, south) = (Bench::join(&address, "north"), Bench::join(&address, "south"));
    north.haul("aaaa0001", 1);
    north.send_all();
    let mirror = || {
        let mut mirror = Mirror::open(south.home()).unwrap();
        mirror.pull().unwrap();
        mirror
    };
    let ledger = mirror().into_ledger();
    ledger.rename("aaaa00010001", Some("from the south")).unwrap();
    ledger.tag("aaaa00010001", &[("lot".into(), "p7".into()), ("bench".into(), "north".into())]).unwrap();
    let _ = mirror();
    north.send_all();
    north.sender = Sender::new(Membership::read(north.home()).unwrap().unwrap()).unwrap();
    north.sender.step(&north.ledger()).unwrap();
    let row = north.ledger().haul("aaaa0001").unwrap();
    assert_eq!(row.label.as_deref(), Some("from the south"));
    assert_eq!(row.conditions.tags, [("lot".to_owned(), "p7".to_owned())], "what bench it is no tag at home");
    std::thread::sleep(Duration::from_millis(5));
    north.ledger().rename("aaaa0001", Some("from home, later")).unwrap();
    north.ledger().delete(&["aaaa0001".into()]).unwrap();
    north.send_all();
    let ledger = mirror().into_ledger();
    assert!(ledger.hauls().unwrap().is_empty());
    assert_eq!(ledger.deleted().unwrap()[0].label.as_deref(), Some("from home, later"));
}

#[test]
fn who_may_not_is_told_so_in_a_sentence() {
    let server = Server::start();
    let why = |r: Result<_, FleetError>| r.map(|_: Membership| ()).unwrap_err().to_string();
    let dir = tempfile::tempdir().unwrap();
    let keeper: Address = server.url("keeper").parse().unwrap();
    assert!(why(Membership::join(dir.path(), &keeper, "x")).contains("fleet init"));
    fleet_on(&server);
    let mut client = server.client();
    client.batch_execute("CREATE ROLE north LOGIN PASSWORD 'p' IN ROLE hollow_mile_bench").unwrap();
    client.batch_execute("CREATE ROLE guest LOGIN PASSWORD 'p'").unwrap();
    // A file of passwords that is ours alone.
    let pass = dir.path().join("pgpass");
    std::fs::write(&pass, "*:*:*:north:p\n*:*:*:guest:p\n*:*:*:wrong:no\n").unwrap();
    std::fs::set_permissions(&pass, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let joined = |user: &str| {
        let out = std::process::Command::new(std::env::current_exe().unwrap())
            .args(["--exact", "joins_as_asked", "--nocapture", "--ignored"])
            .env("PGPASSFILE", &pass)
            .env("FLEET_URL", server.url(user))
            .output()
            .unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    assert!(joined("north").contains("joined as north"), "{}", joined("north"));
    assert!(joined("guest").contains("does not allow guest"), "{}", joined("guest"));
    assert!(joined("wrong").contains("does not let wrong in"), "{}", joined("wrong"));
    let newer = "UPDATE hollow_mile.fleet SET version = 99";
    client.execute(newer, &[]).unwrap();
    assert!(why(Membership::join(dir.path(), &keeper, "x")).contains("newer program"));
    let nobody: Address = "postgres://x@127.0.0.1:1/none?sslmode=disable".parse().unwrap();
    assert!(why(Membership::join(dir.path(), &nobody, "x")).contains("no server answers"));
}

/// Not a test of its own: another test runs it with an environment.
#[test]
#[ignore = "run by another test"]
fn joins_as_asked() {
    let dir = tempfile::tempdir().unwrap();
    let address: Address = std::env::var("FLEET_URL").unwrap().parse().unwrap();
    match Membership::join(dir.path(), &address, address.user()) {
        Ok(m) => println!("joined as {}", m.bench),
        Err(e) => println!("{e}"),
    }
}

#[test]
fn a_bench_changes_what_is_its_own_alone() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 1);
    north.send_all();
    let mut client = server.client();
    client.batch_execute("CREATE ROLE south LOGIN IN ROLE hollow_mile_bench; SET ROLE south").unwrap();
    assert_eq!(client.query("SELECT haul FROM hollow_mile.haul", &[]).unwrap().len(), 1, "it reads all");
    let changed = client.execute("UPDATE hollow_mile.haul SET note = 'mine now'", &[]).unwrap();
    assert_eq!(changed, 0);
    let forged =
        "INSERT INTO hollow_mile.batch (month, bench, haul, seq, bytes) VALUES ('2026-09-01', 1, 'x', 0, '')";
    assert!(client.execute(forged, &[]).is_err());
    assert_eq!(client.execute("DELETE FROM hollow_mile.batch", &[]).unwrap_or(0), 0);
}

#[test]
fn two_benches_of_one_name_and_one_bench_in_two_fleets_are_refused() {
    let server = Server::start();
    let address = fleet_on(&server);
    let north = Bench::join(&address, "north");
    let dir = tempfile::tempdir().unwrap();
    assert!(matches!(Membership::join(dir.path(), &address, "north"), Err(FleetError::NameTaken(_))));
    assert!(matches!(Membership::join(north.home(), &address, "other"), Err(FleetError::Joined(_))));
    assert!(Membership::leave(north.home()).unwrap());
    assert!(fleet::benches(&address).unwrap()[0].left);
    assert!(matches!(Membership::leave(north.home()), Err(FleetError::NotJoined)));
    let again = Membership::join(north.home(), &address, "north").unwrap();
    assert_eq!(again.number, 1, "who left comes back to its hauls");
}

#[test]
fn a_haul_that_the_server_does_not_take_holds_up_no_other_and_a_forgotten_bench_is_told() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 1);
    north.haul("aaaa0002", 2);
    let no = "ALTER TABLE hollow_mile.haul ADD CONSTRAINT no CHECK (haul <> 'aaaa0001')";
    server.client().batch_execute(no).unwrap();
    let ledger = north.ledger();
    let sent = north.sender.step(&ledger).unwrap();
    assert!(sent.refused.unwrap().contains("haul aaaa0001 is not taken"));
    assert_eq!((sent.hauls, ledger.unsent().unwrap()), (1, 1));
    assert!(fleet::benches(&address).unwrap()[0].trouble.as_ref().unwrap().contains("aaaa0001"));
    // However many are refused, what comes after them is sent.
    let none = "ALTER TABLE hollow_mile.haul DROP CONSTRAINT no, ADD CONSTRAINT no CHECK (haul >= 'ffff0000' OR haul = 'aaaa0002')";
    server.client().batch_execute(none).unwrap();
    (0..80).for_each(|i| north.haul(&format!("bbbb{i:04}"), 0));
    north.haul("ffff0001", 1);
    for _ in 0..4 {
        north.sender.step(&ledger).unwrap();
    }
    assert_eq!(ledger.unsent().unwrap(), 81, "all but the last are refused");
    server.client().batch_execute("ALTER TABLE hollow_mile.haul DROP CONSTRAINT no").unwrap();
    // A haul that changes is tried at once, and others after a minute or by the next process.
    ledger.rename("aaaa0001", Some("anew")).unwrap();
    north.sender.step(&ledger).unwrap();
    assert_eq!(ledger.unsent().unwrap(), 80);
    north.sender = Sender::new(Membership::read(north.home()).unwrap().unwrap()).unwrap();
    north.send_all();
    assert_eq!(fleet::benches(&address).unwrap()[0].trouble, None);
    let (there, here) = both(&server, &north, "aaaa0001");
    assert_eq!(there, here);
    server.client().batch_execute("UPDATE hollow_mile.bench SET id = 'another'").unwrap();
    north.haul("aaaa0003", 1);
    assert!(matches!(north.sender.step(&north.ledger()), Err(FleetError::Forgotten(_))));
}

#[test]
fn what_a_reader_says_of_a_haul_is_taken_back() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 1);
    north.send_all();
    server.client().batch_execute("CREATE ROLE guest LOGIN IN ROLE hollow_mile_reader").unwrap();
    let reader: Address = format!("{}&options=-c%20role=guest", server.url("keeper")).parse().unwrap();
    let dir = tempfile::tempdir().unwrap();
    let no_bench = Membership::join(dir.path(), &reader, "desk");
    assert!(matches!(no_bench, Err(FleetError::NotAllowed { .. })), "a reader is no bench");
    let reads = Membership::join_to_read(dir.path(), &reader).unwrap();
    assert!(matches!(Sender::new(reads), Err(FleetError::OnlyReads)));
    assert_eq!(fleet::benches(&address).unwrap().len(), 1, "nobody has joined");
    let mut mirror = Mirror::open(dir.path()).unwrap();
    assert_eq!(mirror.pull().unwrap(), fleet::Pulled { hauls: 1, not_taken: 0 });
    mirror.into_ledger().rename("aaaa00010001", Some("mine")).unwrap();
    let mut mirror = Mirror::open(dir.path()).unwrap();
    assert_eq!(mirror.pull().unwrap().not_taken, 1);
    assert_eq!(mirror.into_ledger().haul("aaaa00010001").unwrap().label, None);
    assert!(Membership::leave(dir.path()).unwrap());
}

fn openssl(dir: &Path, args: &str) {
    let out = std::process::Command::new("openssl").args(args.split(' ')).current_dir(dir).output().unwrap();
    assert!(out.status.success(), "{args}: {}", String::from_utf8_lossy(&out.stderr));
}

/// A certificate authority, and a certificate of it for this name: `NAME.crt`, `NAME.key`, `NAME-ca.crt`.
fn certificate(dir: &Path, name: &str) {
    let curve = "-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes";
    openssl(
        dir,
        &format!("req -x509 {curve} -keyout {name}-ca.key -out {name}-ca.crt -days 2 -subj /CN=lab-ca"),
    );
    openssl(dir, &format!("req {curve} -keyout {name}.key -out {name}.csr -subj /CN={name}"));
    std::fs::write(dir.join("ext"), format!("subjectAltName=DNS:{name}\nbasicConstraints=CA:FALSE\n"))
        .unwrap();
    openssl(
        dir,
        &format!(
            "x509 -req -in {name}.csr -CA {name}-ca.crt -CAkey {name}-ca.key -CAcreateserial -out {name}.crt -days 2 -extfile ext"
        ),
    );
}

#[test]
fn a_server_is_verified_as_far_as_it_is_asked() {
    let server = Server::start();
    let dir = server.folder();
    certificate(dir, "localhost");
    certificate(dir, "elsewhere");
    let with = |name: &str| {
        for ending in ["crt", "key"] {
            std::fs::copy(dir.join(format!("{name}.{ending}")), dir.join(format!("data/server.{ending}")))
                .unwrap();
            server.owned(&dir.join(format!("data/server.{ending}")));
        }
        server.down("fast");
        server.up();
    };
    std::fs::write(dir.join("data/postgresql.auto.conf"), "ssl = on\n").unwrap();
    let to = |mode: &str, root: &str| -> Result<bool, FleetError> {
        let root = dir.join(root).display().to_string();
        let url =
            format!("postgres://keeper@localhost:{}/postgres?sslmode={mode}&sslrootcert={root}", server.port);
        let mut client = url.parse::<Address>()?.connect()?;
        let row = client.query_one("SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()", &[]).unwrap();
        Ok(row.get(0))
    };
    with("localhost");
    for mode in ["verify-full", "verify-ca", "require", "prefer"] {
        assert!(to(mode, "localhost-ca.crt").unwrap(), "{mode}");
    }
    assert!(!to("disable", "localhost-ca.crt").unwrap());
    assert!(to("verify-full", "elsewhere-ca.crt").unwrap_err().to_string().contains("certificate"));
    assert!(to("verify-full", "none.crt").unwrap_err().to_string().contains("none.crt"));
    with("elsewhere");
    assert!(to("verify-ca", "elsewhere-ca.crt").unwrap(), "the name is not asked for");
    assert!(to("verify-full", "elsewhere-ca.crt").is_err(), "the name is asked for");
}

#[test]
fn a_server_that_was_put_back_to_an_earlier_state_gets_what_it_lost() {
    let server = Server::start();
    let address = fleet_on(&server);
    let mut north = Bench::join(&address, "north");
    north.haul("aaaa0001", 4);
    let mut live = north.begin("bbbb0002");
    (0..3).for_each(|i| note(&mut live, i));
    north.send_all();
    let lost = "DELETE FROM hollow_mile.batch; DELETE FROM hollow_mile.haul";
    server.client().batch_execute(lost).unwrap();
    note(&mut live, 3);
    north.ledger().rename("aaaa0001", Some("said later")).unwrap();
    north.send_all();
    for haul in ["aaaa0001", "bbbb0002"] {
        let (there, here) = both(&server, &north, haul);
        assert!(here.len() > 3);
        assert_eq!(there, here, "{haul}");
    }
}
