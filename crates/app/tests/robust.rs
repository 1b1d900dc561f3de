//! Bad input from all sides, and what befalls the machine meanwhile: one sentence, the right code, and no record lost.
#![allow(clippy::unwrap_used, clippy::panic)]

mod common;

use std::io::{Read, Seek, SeekFrom, Write};
use std::os::unix::net::UnixStream;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::{Bench, Loop, PROGRAM, wait_until};
use hollow_mile::command::Speed;
use hollow_mile::session::Session;
use hollow_mile::targets::{self, Target, Wish};
use hollow_mile_core::haul::Setup;
use hollow_mile_core::route::Route;
use hollow_mile_ledger::Ledger;

fn route(bench: &Bench, name: &str, text: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    std::fs::write(&path, text).unwrap();
    path
}

const TEN_SECONDS: &str =
    "name = \"t\"\n[[leg]]\nkind = \"write\"\nrate = \"20 MB/s\"\nuntil = { duration = \"10 s\" }\n";

#[test]
fn repeats_within_repeats_are_counted_and_not_laid_out() {
    let bench = Bench::new();
    let rest = "kind = \"rest\", until = { duration = \"1 s\" }";
    let mut legs = format!("{{ {rest} }}");
    for _ in 0..5 {
        legs = format!("{{ kind = \"group\", repeat = 4000000, leg = [{legs}] }}");
    }
    let file = route(&bench, "deep", &format!("name = \"deep\"\nleg = [{legs}]\n"));
    let began = Instant::now();
    let refused = bench.refusal(&["route", "check", &file], 2);
    assert!(refused.contains("20,000") || refused.contains("repeat"), "{refused}");
    assert!(began.elapsed() < Duration::from_secs(20));
}

#[test]
fn a_name_with_a_line_end_is_refused() {
    let bench = Bench::new();
    let text = TEN_SECONDS.replace("\"t\"", "\"t\\nhaul 1234abcd  done\"");
    let refused = bench.refusal(&["route", "check", &route(&bench, "forged", &text)], 2);
    assert!(refused.contains("line 1, column 1: route: name has a line end"), "{refused}");
}

#[test]
fn a_table_without_line_ends_is_refused_before_it_is_read() {
    let bench = Bench::new();
    let path = bench.path("endless.csv");
    let mut file = std::fs::File::create(&path).unwrap();
    file.write_all(b"elapsed_s,written_bytes\n1,5\n").unwrap();
    // A hole of eight gigabytes: zeroes without a line end.
    file.seek(SeekFrom::Start(8_000_000_000)).unwrap();
    file.write_all(b"\n").unwrap();
    let began = Instant::now();
    let refused = bench.refusal(&["findings", &path], 2);
    assert!(refused.contains("line 3 is longer than"), "{refused}");
    assert!(began.elapsed() < Duration::from_secs(20));
}

/// Resident memory at its highest, in MB, of a run of the program.
fn peak_mb(bench: &Bench, args: &[&str]) -> u64 {
    let mut child = bench.command(args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().unwrap().is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|l| l.strip_prefix("VmHWM:")).unwrap_or("0");
        peak = peak.max(line.trim().trim_end_matches(" kB").trim().parse::<u64>().unwrap_or(0) / 1000);
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(child.wait().unwrap().success());
    peak
}

#[test]
fn a_long_table_is_read_row_by_row() {
    let bench = Bench::new();
    let path = bench.path("long.csv");
    let mut out = std::io::BufWriter::new(std::fs::File::create(&path).unwrap());
    let mut header = "elapsed_s,written_bytes,temperature_c".to_owned();
    // Columns that nobody knows make the file long and its rows few.
    let rest = ",a column of somebody else's, with words of no use to us in each row of it".repeat(20);
    header.push_str(&",x".repeat(40));
    writeln!(out, "{header}").unwrap();
    for i in 1..=100_000u64 {
        writeln!(out, "{},{},40{rest}", i as f64 / 10.0, i * 50_000_000).unwrap();
    }
    drop(out);
    let size = std::fs::metadata(&path).unwrap().len() / 1_000_000;
    let peak = peak_mb(&bench, &["findings", &path]);
    assert!(size > 140 && peak < size / 2, "{peak} MB for a file of {size} MB");
}

#[test]
fn a_socket_lets_go_of_whoever_talks_nonsense_or_nothing_and_heeds_the_one_who_has_something_to_say() {
    let bench = Bench::new();
    let home = bench.dir.path().join("home");
    let ledger = Ledger::open(&home).unwrap();
    let opened = targets::open(&Target::Sim("corrie-2t".into()), &Wish::default()).unwrap();
    let setup = Setup {
        conditions: Default::default(),
        program: "test".into(),
        ..Setup::plain(
            &ledger.new_haul_id().unwrap(),
            Route::from_toml("name='x'\n[[leg]]\nkind='write'\nuntil={duration='10 h'}").unwrap(),
        )
    };
    let mut session = Session::start(opened, setup, ledger, Speed::Times(1.0)).unwrap();
    session.look_away();
    let socket = home.join("live").join(format!("{}.socket", session.haul));
    // An endless message: its length alone ends the connection.
    let mut stream = UnixStream::connect(&socket).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let _ = stream.write_all(&(15u32 << 20).to_le_bytes());
    let mut rest = Vec::new();
    assert!(stream.read_to_end(&mut rest).is_ok(), "it ends");
    // So does what is no message.
    let mut stream = UnixStream::connect(&socket).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let _ = stream.write_all(b"\x05\0\0\0xGET /");
    assert!(stream.read_to_end(&mut rest).is_ok(), "it ends");
    // Eighty who say nothing: never more than 64 are there, and who has something to say is heard.
    let mut silent: Vec<UnixStream> = (0..80).map(|_| UnixStream::connect(&socket).unwrap()).collect();
    let haul = session.haul.clone();
    bench.json(&["tell", &haul, "pause", "--json"]);
    let told = bench.json(&["tell", &haul, "note", "heard all the same", "--json"]);
    assert!(told["watchers"].as_u64().is_none_or(|n| n <= 64), "{told}");
    // After five seconds of silence each is let go.
    for stream in &mut silent {
        stream.set_read_timeout(Some(Duration::from_secs(12))).unwrap();
        assert!(stream.read_to_end(&mut rest).is_ok(), "a silent one is let go");
    }
    session.ask(hollow_mile::command::Command::Stop);
    drop(session.finish().unwrap());
}

#[test]
fn a_ledger_that_is_removed_during_a_haul_goes_on_elsewhere_and_says_where() {
    let bench = Bench::new();
    let file = format!("file:{}", bench.path("try.hm"));
    let r = route(&bench, "t", &TEN_SECONDS.replace("10 s", "4 s"));
    let child = bench
        .command(&["haul", &r, "--on", &file, "--size", "200MB", "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let home = bench.dir.path().join("home");
    wait_until("the haul to begin", || {
        Ledger::open(&home).is_ok_and(|l| l.hauls().is_ok_and(|h| !h.is_empty()))
    });
    std::thread::sleep(Duration::from_secs(1));
    std::fs::remove_dir_all(&home).unwrap();
    let out = child.wait_with_output().unwrap();
    let error = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(0), "{error}");
    let said = error
        .lines()
        .find_map(|l| l.split_once("its record goes on in "))
        .unwrap_or_else(|| panic!("{error}"));
    let elsewhere = std::path::PathBuf::from(said.1.trim());
    let document: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let ledger = Ledger::open(&elsewhere).unwrap();
    let row = ledger.haul(document["haul"].as_str().unwrap()).unwrap();
    assert_eq!(row.state.word(), "done");
    assert_eq!(serde_json::json!(row.samples), document["samples"], "every sample is there");
    let notes = ledger.readings(&row.haul).unwrap();
    assert!(notes.notes().iter().any(|n| n.1.contains("the ledger was removed")));
    std::fs::remove_dir_all(&elsewhere).unwrap();
}

#[test]
fn a_ledger_on_a_medium_that_cannot_be_written_is_read_and_not_written() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 32 << 20) else { return };
    let point = bench.path("medium");
    std::fs::create_dir(&point).unwrap();
    let run = |command: &str, args: &[&str]| Command::new(command).args(args).status().unwrap().success();
    assert!(run("mke2fs", &["-q", "-t", "ext4", &device.node]) && run("mount", &[&device.node, &point]));
    let home = format!("{point}/home");
    let hm =
        |args: &[&str]| Command::new(PROGRAM).args(args).env("HOLLOW_MILE_HOME", &home).output().unwrap();
    let made = hm(&["haul", "first-look", "--on", "sim:corrie-2t", "--json"]);
    let haul: serde_json::Value = serde_json::from_slice(&made.stdout).unwrap();
    let id = haul["haul"].as_str().unwrap();
    let remounted = run("mount", &["-o", "remount,ro", &point]);
    let listed = hm(&["ledger", "--json"]);
    let found = hm(&["findings", id, "--json"]);
    let written = hm(&["haul", "first-look", "--on", "sim:corrie-2t"]);
    let unmounted = run("umount", &[&point]);
    assert!(remounted && unmounted);
    let list: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap();
    assert_eq!(list[0]["haul"], haul["haul"], "{}", String::from_utf8_lossy(&listed.stderr));
    let found: serde_json::Value = serde_json::from_slice(&found.stdout).unwrap();
    assert_eq!(found["findings"], haul["findings"]);
    let error = String::from_utf8_lossy(&written.stderr);
    assert!(
        written.status.code() == Some(6) && error.contains("cannot be written (Read-only file system"),
        "{error}"
    );
}

#[test]
fn a_process_that_stands_still_says_so_and_invents_no_speed() {
    let bench = Bench::new();
    let file = format!("file:{}", bench.path("try.hm"));
    let text = "name = \"t\"\n[[leg]]\nkind = \"write\"\nblock = \"1 MiB\"\ndepth = 16\nuntil = { duration = \"5 s\" }\n";
    let r = route(&bench, "t", text);
    let args = ["haul", &r, "--on", &file, "--size", "64MiB", "--json"];
    let child = bench.command(&args).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().unwrap();
    let signal = |name: &str| {
        assert!(Command::new("kill").args([name, &child.id().to_string()]).status().unwrap().success());
    };
    // A busy machine takes a while to begin.
    std::thread::sleep(Duration::from_secs(3));
    signal("-STOP");
    std::thread::sleep(Duration::from_millis(4500));
    signal("-CONT");
    let out = child.wait_with_output().unwrap();
    let haul: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let found = bench.json(&["findings", haul["haul"].as_str().unwrap(), "--json"]);
    let notes = found["notes"].to_string();
    assert!(notes.contains("this program stood still for"), "{notes}");
    let ledger = Ledger::open(&bench.dir.path().join("home")).unwrap();
    let readings = ledger.readings(haul["haul"].as_str().unwrap()).unwrap();
    let rates: Vec<f64> = (0..readings.series().len()).map(|i| readings.series().rate(i) / 1e6).collect();
    let mut sorted = rates.clone();
    sorted.sort_by(f64::total_cmp);
    let usual = sorted[sorted.len() / 2];
    let most = sorted[sorted.len() - 1];
    assert!(most < usual * 20.0, "{most} MB/s in one interval, {usual} as a rule");
}

#[test]
fn a_drive_that_fails_ends_with_its_code_unless_the_route_allows_it() {
    let bench = Bench::new();
    let drive = bench.path("weak.toml");
    let spec = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/weak.toml")).unwrap();
    std::fs::write(&drive, spec).unwrap();
    let on = format!("sim:{drive}");
    let read = "name = \"r\"\n[[leg]]\nkind = \"read\"\nuntil = { bytes = \"2 GB\" }\n";
    let haul = |limits: &str| {
        let file = route(&bench, "r", &format!("{limits}\n{read}"));
        let out = bench.run(&["haul", &file, "--on", &on, "--json"]);
        let document: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
        assert!(document["errors"].as_u64().unwrap() > 0, "{document}");
        (document["state"].as_str().unwrap().to_owned(), out.status.code().unwrap())
    };
    assert_eq!(haul(""), ("done".into(), 4));
    assert_eq!(haul("limits = [\"errors allowed\"]"), ("done".into(), 0));
    assert_eq!(haul("limits = [\"errors <= 100000\"]"), ("done".into(), 0));
    assert_eq!(haul("limits = [\"errors <= 0\"]"), ("done".into(), 1));
}

#[test]
fn the_limit_on_a_files_size_is_told_as_what_it_is() {
    let bench = Bench::new();
    let file = bench.path("try.hm");
    let r = route(&bench, "t", "name = \"t\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"100 %\" }\n");
    let script = format!("ulimit -f 20000; exec {PROGRAM} haul {r} --on file:{file} --size 64MiB");
    let home = bench.dir.path().join("home");
    let out = Command::new("sh").args(["-c", &script]).env("HOLLOW_MILE_HOME", home).output().unwrap();
    let error = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(4), "{error}");
    assert!(error.contains("(ulimit -f)"), "{error}");
    assert!(!common::exists(&file), "what was made is removed");
}

#[test]
fn sockets_of_killed_hauls_are_cleared_away() {
    let bench = Bench::new();
    let live = bench.dir.path().join("home/live");
    let r = route(&bench, "t", TEN_SECONDS);
    let file = format!("file:{}", bench.path("try.hm"));
    let args = ["haul", &r, "--on", &file, "--size", "300MB"];
    let mut child = bench.command(&args).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let sockets = || std::fs::read_dir(&live).map_or(0, Iterator::count);
    wait_until("its socket", || sockets() == 1);
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(sockets(), 1);
    bench.json(&["live", "--json"]);
    assert_eq!(sockets(), 0);
}
