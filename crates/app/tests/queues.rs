//! Hauls that wait for their drive: seen and changed in a real terminal and from the command line, and kept going by a process.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::time::Duration;

use common::{Bench, Terminal, put_demo};

/// A route of this name that writes so much.
fn writes(bench: &Bench, name: &str, bytes: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    let text = format!("name = \"{name}\"\n[[leg]]\nkind = \"write\"\nuntil = {{ bytes = \"{bytes}\" }}\n");
    std::fs::write(&path, text).unwrap();
    path
}

/// Moves the cursor of the yard to a drive.
fn cursor_on(t: &Terminal, serial: &str) {
    for _ in 0..20 {
        if t.screen().lines().any(|l| l.contains('▸') && l.contains(serial)) {
            return;
        }
        t.keys(&["j"]);
    }
}

#[test]
fn what_waits_is_shown_edited_paused_and_goes_on_without_the_interface() {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home"));
    let route = writes(&bench, "long", "60 GB");
    for (label, drive) in [("alpha", "sim:corrie-1t"), ("beta", "sim:corrie-1t")] {
        bench.json(&["haul", &route, "--on", drive, "--label", label, "--json"]);
    }
    let haul = |label: &str| {
        bench.json(&["ledger", label, "long", "--json"])[0]["haul"].as_str().unwrap().to_owned()
    };
    let (one, two) = (haul("alpha"), haul("beta"));
    let drive = "sim:corrie-1t";
    // Paused before anything waits, so that all of it can be looked at.
    bench.run(&["queue", "pause", drive]);
    let queued = bench.json(&["again", &one, &two, "--repeat", "2", "--in-turns", "--json"]);
    let waiting = |v: &serde_json::Value| -> Vec<String> {
        v[0]["waiting"].as_array().unwrap().iter().map(|w| w["label"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(waiting(&queued), ["alpha", "beta", "alpha", "beta"]);
    assert_eq!(queued[0]["paused"], true);
    assert_eq!(
        waiting(&bench.json(&["queue", "move", drive, "4", "1", "--json"])),
        ["beta", "alpha", "beta", "alpha"]
    );
    assert_eq!(waiting(&bench.json(&["queue", "remove", drive, "2", "--json"])), ["beta", "beta", "alpha"]);
    let none = bench.refusal(&["queue", "remove", drive, "9"], 2);
    assert!(none.contains("nothing waits at place 9"), "{none}");
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("3 wait, paused (Q)");
    cursor_on(&t, "KW-0188");
    t.keys(&["Q"]);
    t.sees("queue of sim:corrie-1t");
    t.sees("Paused: nothing begins");
    t.keys(&["j", "D"]);
    t.sees("Take this haul out of the queue");
    t.keys(&["y"]);
    t.sees("  2  long, alpha");
    t.keys(&["Space"]);
    t.sees("It goes on by itself");
    t.keys(&["Escape", "q"]);
    drop(t);
    common::wait_until("the queue to be empty", || {
        bench.json(&["queue", "--json"]).as_array().unwrap().is_empty()
    });
    let hauls = bench.json(&["ledger", "--drive", "KW-0188", "--json"]);
    let labels: Vec<&str> = hauls.as_array().unwrap().iter().map(|h| h["label"].as_str().unwrap()).collect();
    assert_eq!(
        labels,
        ["alpha", "beta", "beta", "alpha"],
        "newest first: two, then one, after the first two"
    );
}

#[test]
fn a_queue_waits_for_a_haul_that_is_none_of_its_own() {
    let bench = Bench::new();
    let route = bench.path("long.toml");
    std::fs::write(&route, "name = \"long\"\n[[leg]]\nkind = \"write\"\nuntil = { duration = \"10 min\" }\n")
        .unwrap();
    let target = format!("file:{}", bench.path("q.hm"));
    let args = ["haul", &route, "--on", &target, "--size", "32MiB", "--detach", "--json"];
    let first = bench.json(&args)["haul"].as_str().unwrap().to_owned();
    bench.json(&["again", &first, "--json"]);
    let now = || bench.json(&["queue", "--json"])[0]["now"].as_str().unwrap_or_default().to_owned();
    common::wait_until("the queue to wait", || now().contains(&format!("waits for haul {first}")));
    bench.json(&["tell", &first, "stop", "--json"]);
    common::wait_until("the next haul", || now().starts_with("haul ") && !now().contains(&first));
    let second = bench.json(&["ledger", "--json"])[0]["haul"].as_str().unwrap().to_owned();
    bench.json(&["tell", &second, "stop", "--json"]);
    common::wait_until("both to be over", || {
        let all = bench.json(&["ledger", "--json"]);
        all.as_array().unwrap().iter().filter(|h| h["state"] == "stopped").count() == 2
    });
    common::wait_until("the queue to say why it stands", || {
        bench.json(&["queue", "--json"])[0]["trouble"].as_str().is_some_and(|t| t.contains("stopped by hand"))
    });
}

#[test]
fn a_queue_stops_where_a_haul_cannot_be_made_and_says_why() {
    let bench = Bench::new();
    let route = writes(&bench, "short", "32 MiB");
    let target = format!("file:{}", bench.path("q.hm"));
    bench.json(&["haul", &route, "--on", &target, "--size", "32MiB", "--json"]);
    // Somebody put a file of theirs there meanwhile.
    std::fs::write(bench.path("q.hm"), "mine").unwrap();
    bench.json(&["again", "last", "--repeat", "2", "--rest", "100 ms", "--json"]);
    common::wait_until("the trouble", || bench.json(&["queue", "--json"])[0]["trouble"].is_string());
    let q = bench.json(&["queue", "--json"]);
    assert!(q[0]["trouble"].as_str().unwrap().contains("q.hm") && q[0]["paused"] == true, "{q}");
    assert_eq!(q[0]["waiting"].as_array().unwrap().len(), 2, "nothing is lost: {q}");
    assert_eq!(std::fs::read_to_string(bench.path("q.hm")).unwrap(), "mine");
    std::fs::remove_file(bench.path("q.hm")).unwrap();
    bench.run(&["queue", "go-on", &target]);
    common::wait_until("the queue to be empty", || {
        bench.json(&["queue", "--json"]).as_array().unwrap().is_empty()
    });
    assert_eq!(bench.json(&["ledger", "--json"]).as_array().unwrap().len(), 3);
}

#[test]
fn a_haul_that_waits_survives_the_process_that_took_it() {
    let bench = Bench::new();
    let route = writes(&bench, "short", "32 MiB");
    let target = format!("file:{}", bench.path("killed.hm"));
    bench.json(&["haul", &route, "--on", &target, "--size", "32MiB", "--json"]);
    bench.json(&["again", "last", "--rest", "10 min", "--json"]);
    let queue = || bench.json(&["queue", "--json"])[0].clone();
    common::wait_until("the rest to begin", || queue()["now"].is_string());
    let killed =
        std::process::Command::new("pkill").args(["-9", "-f", &format!("keep-queue {target}")]).status();
    assert!(killed.unwrap().success());
    common::wait_until("its end", || queue()["is_run"] == false);
    bench.run(&["queue", "pause", &target]);
    // Whoever runs it next finds the haul that was taken out, and the new one behind it.
    bench.json(&["again", "last", "--json"]);
    common::wait_until("both to wait", || queue()["waiting"].as_array().unwrap().len() == 2);
    assert_eq!(queue()["waiting"][0]["rest_s"], 600.0);
    for _ in 0..2 {
        bench.run(&["queue", "remove", &target, "1"]);
    }
}

#[test]
fn what_is_moved_or_taken_out_is_what_was_seen_also_when_others_changed_the_queue() {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home"));
    let drive = "sim:corrie-1t";
    let route = writes(&bench, "short", "1 GB");
    bench.run(&["queue", "pause", drive]);
    for label in ["ash", "birch", "cedar", "dogwood"] {
        let one = bench.json(&["haul", &route, "--on", drive, "--label", label, "--json"]);
        bench.json(&["again", one["haul"].as_str().unwrap(), "--json"]);
    }
    let waiting = || -> Vec<String> {
        let queue = bench.json(&["queue", "--json"]);
        let waiting = queue[0]["waiting"].as_array().unwrap();
        waiting.iter().map(|w| w["label"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(waiting(), ["ash", "birch", "cedar", "dogwood"]);
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("4 wait, paused (Q)");
    cursor_on(&t, "KW-0188");
    t.keys(&["Q", "j", "D"]);
    t.sees("short, birch");
    // While it asks, another hand takes the first out: birch goes and cedar stays.
    bench.run(&["queue", "remove", drive, "1"]);
    t.keys(&["y"]);
    t.sees("  1  short, cedar");
    assert_eq!(waiting(), ["cedar", "dogwood"]);
    // The cursor stands on what was seen at its place; moved up it is the first.
    t.keys(&["G", "j", "-"]);
    t.sees("  1  short, dogwood");
    assert_eq!(waiting(), ["dogwood", "cedar"]);
}

#[test]
fn a_queue_that_is_paused_while_it_rests_begins_nothing() {
    let bench = Bench::new();
    let route = writes(&bench, "short", "32 MiB");
    let target = format!("file:{}", bench.path("rested.hm"));
    bench.json(&["haul", &route, "--on", &target, "--size", "32MiB", "--json"]);
    bench.json(&["again", "last", "--rest", "2 s", "--json"]);
    let queue = || bench.json(&["queue", "--json"]);
    common::wait_until("the rest to begin", || queue()[0]["now"].is_string());
    bench.run(&["queue", "pause", &target]);
    std::thread::sleep(Duration::from_secs(4));
    let hauls = || bench.json(&["ledger", "--json"]).as_array().unwrap().len();
    assert_eq!((hauls(), queue()[0]["paused"].as_bool()), (1, Some(true)));
    bench.run(&["queue", "go-on", &target]);
    common::wait_until("the queue to be empty", || queue().as_array().unwrap().is_empty());
    assert_eq!(hauls(), 2);
}

#[test]
fn a_note_goes_to_the_haul_it_was_typed_for_and_a_repeat_leaves_the_draft_alone() {
    let bench = Bench::new();
    let home = bench.dir.path().join("home/demo");
    put_demo(&home);
    let json = |args: &[&str]| -> serde_json::Value {
        let out = bench.command(args).env("HOLLOW_MILE_HOME", &home).output().unwrap();
        serde_json::from_slice(&out.stdout).unwrap()
    };
    let t = Terminal::start(&bench, "demo", 160, 47);
    t.sees("KW-0417");
    // A draft of the first drive, and a repeat of a haul of that drive.
    t.keys(&["Enter", "Tab"]);
    t.sees("▸ ambient");
    t.keys(&["Enter"]);
    t.text("31 C");
    t.keys(&["Enter"]);
    t.sees("31 °C");
    t.keys(&["Escape", "L", "/"]);
    t.text("KW-0417");
    t.keys(&["Enter", "n"]);
    t.sees("note");
    let before = json(&["ledger", "--json"]);
    let seen = before.as_array().unwrap().iter().find(|h| h["serial"] == "KW-0417").unwrap()["haul"].clone();
    // While it is typed, a newer haul of this drive comes to the top of the list.
    let route = writes(&bench, "short", "1 GB");
    json(&["haul", &route, "--on", "sim:corrie-2t", "--json"]);
    t.text("screwed down again");
    t.keys(&["Enter"]);
    let noted = || -> Vec<serde_json::Value> {
        let all = json(&["ledger", "--json"]);
        let all = all.as_array().unwrap().iter();
        all.filter(|h| h["note"] == "screwed down again").map(|h| h["haul"].clone()).collect()
    };
    common::wait_until("the note", || !noted().is_empty());
    assert_eq!(noted(), [seen]);
    t.keys(&["A", "y"]);
    let hauls = before.as_array().unwrap().len() + 1;
    common::wait_until("the repeat", || json(&["ledger", "--json"]).as_array().unwrap().len() > hauls);
    t.keys(&["Escape", "Y", "Enter"]);
    t.sees("31 °C");
}
