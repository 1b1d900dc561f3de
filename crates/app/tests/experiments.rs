//! Experiments in the middle of a write, from the command line and in a real terminal.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::time::Duration;

use common::{Bench, Terminal, wait_until};
use serde_json::Value;

/// A drive without a cache that is slow from 200 GB on, for 120 GB; nothing says so but its rate.
const RIDDLE: &str = r#"
name = "riddle"
model = "Riddle R1 2 TB"
serial = "RD-0001"
capacity = "2 TB"
seed = 7

[flash]
read = "3000 MB/s"
recover = "500 MB/s"

[[flash.level]]
rate = "1600 MB/s"

[[flash.zone]]
from = "200 GB"
to = "320 GB"
factor = 0.45
"#;

/// What both keep warm with.
const HEAT: &str = r#"
[heat]
idle_watts = 1.5
watts_per_gb_s = 1.1

[[heat.cooling]]
name = "heatsink"
resistance = 5.0
tau = "120 s"
"#;

/// A drive with a cache that comes back in minutes, rated for 600 TB.
const KEEPS: &str = r#"
name = "keeps"
model = "Riddle R2 2 TB"
serial = "RD-0002"
capacity = "2 TB"
rated_writes = "600 TB"
seed = 7

[flash]
read = "3000 MB/s"
recover = "150 MB/s"

[[flash.level]]
rate = "1600 MB/s"
size = "30 GB"

[[flash.level]]
rate = "500 MB/s"
"#;

fn made(bench: &Bench, name: &str, drive: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    std::fs::write(&path, format!("{drive}{HEAT}")).unwrap();
    format!("sim:{path}")
}

fn riddle(bench: &Bench) -> String {
    made(bench, "riddle", RIDDLE)
}

/// A write of half an hour, with experiments or without.
fn route(bench: &Bench, name: &str, more: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    let text = format!(
        "name = \"{name}\"\n[[leg]]\nkind = \"write\"\n{more}\nuntil = {{ duration = \"20 min\" }}\n"
    );
    std::fs::write(&path, text).unwrap();
    path
}

fn decided(told: &Value) -> Vec<Value> {
    let all = told["findings"].as_array().unwrap();
    all.iter().filter(|f| f.get("decided").is_some()).cloned().collect()
}

#[test]
fn what_the_record_cannot_tell_is_tried_and_the_review_says_the_same() {
    let bench = Bench::new();
    let drive = riddle(&bench);
    let plain = route(&bench, "plain", "");
    let alone = bench.json(&["haul", &plain, "--on", &drive, "--json"]);
    let sure = |f: &Value| f["kind"] == "slow-zone" && f["confidence"].as_f64() > Some(0.9);
    assert!(!alone["findings"].as_array().unwrap().iter().any(sure), "the record alone cannot tell");
    // The shipped route ends so much after the fall that it looked into, and not at the end of the drive.
    let why = bench.json(&["haul", "why", "--on", &drive, "--json"]);
    assert_eq!(decided(&why)[0]["kind"], "slow-zone", "{why}");
    let written = why["written_bytes"].as_f64().unwrap() / 1e9;
    assert!((240.0..275.0).contains(&written), "200 GB, 40 more and what was tried: {written}");
    let looked = route(&bench, "looked", "decide = true");
    let told = bench.json(&["haul", &looked, "--on", &drive, "--json"]);
    let all = decided(&told);
    assert_eq!(all.len(), 1, "{}", told["findings"]);
    let f = &all[0];
    assert_eq!(
        (f["kind"].as_str(), &f["decided"]["causes"]),
        (Some("slow-zone"), &serde_json::json!(["slow-zone"]))
    );
    assert_eq!(f["decided"]["ended"], "decided");
    assert!(f["decided"]["elsewhere"]["low"].as_f64().unwrap() > 1.9, "1 over 0.45 is 2.2: {f}");
    let elsewhere = serde_json::json!({ "seen": "elsewhere", "likely_by": [["slow-zone"]] });
    assert_eq!(f["decided"]["predicted"][0], elsewhere, "{f}");
    assert!(f["evidence"][0].as_str().unwrap().starts_with("Tried out: the fall from 1 6"), "{f}");
    let haul = told["haul"].as_str().unwrap();
    let review = bench.json(&["findings", haul, "--json"]);
    assert_eq!(review["findings"], told["findings"], "live and review agree");
    // The rise at the end of the stretch is its end, and nothing of its own.
    assert!((f["position_end_bytes"].as_f64().unwrap() / 320e9 - 1.0).abs() < 0.05, "{f}");
    assert_eq!(told["findings"].as_array().unwrap().len(), 1, "{}", told["findings"]);
    // As a file for another bench, and when the record was compacted.
    let csv = bench.path("a.csv");
    assert!(bench.run(&["export", haul, "-o", &csv]).status.success());
    let other = Bench::new();
    let id = other.json(&["import", &csv, "--json"])["haul"].as_str().unwrap().to_owned();
    let there = decided(&other.json(&["findings", &id, "--json"]));
    assert_eq!((&there[0]["kind"], &there[0]["decided"]), (&f["kind"], &f["decided"]));
    assert!(bench.run(&["ledger", "--compact", "0"]).status.success());
    let compacted = decided(&bench.json(&["findings", haul, "--json"]));
    assert_eq!((&compacted[0]["kind"], &compacted[0]["decided"]), (&f["kind"], &f["decided"]));
    // The picture knows of it.
    let svg = bench.path("a.svg");
    assert!(bench.run(&["chart", haul, "-o", &svg]).status.success());
    assert!(std::fs::read_to_string(&svg).unwrap().contains("tried out"));
    let svg = bench.path("b.svg");
    assert!(bench.run(&["chart", haul, "--kind", "experiments", "-o", &svg]).status.success());
    let drawn = std::fs::read_to_string(&svg).unwrap();
    for words in
        ["How likely each cause is", "before the fall: 1 6", ">elsewhere<", "over 99 %", "slow addresses"]
    {
        assert!(drawn.contains(words), "{words} is missing in {drawn}");
    }
    let no = bench.refusal(
        &["chart", alone["haul"].as_str().unwrap(), "--kind", "experiments", "-o", &bench.path("c.svg")],
        2,
    );
    assert!(no.contains("has no experiments: `hollow-mile haul why`"), "{no}");
}

#[test]
fn a_rest_is_as_long_as_an_earlier_haul_says_that_half_of_the_cache_needs() {
    let bench = Bench::new();
    let drive = made(&bench, "keeps", KEEPS);
    let rest_and_model = || {
        let why = bench.json(&["haul", "why", "--on", &drive, "--json"]);
        let f = decided(&why)[0].clone();
        assert_eq!(f["kind"], "cache-end", "{why}");
        let arms = f["decided"]["arms"].as_array().unwrap().clone();
        let rest = arms.iter().find(|a| a["kind"] == "rest").map(|a| a["seconds"].as_f64().unwrap());
        let haul = why["haul"].as_str().unwrap().to_owned();
        let review = bench.json(&["findings", &haul, "--json"]);
        assert_eq!(review["findings"], why["findings"], "live and review agree");
        (rest.unwrap(), f)
    };
    let (rest, f) = rest_and_model();
    assert!(rest <= 45.1, "nobody knows how it comes back: {rest}");
    assert!(f["decided"].get("against_model").is_none(), "{f}");
    assert_eq!(f["decided"]["ended"], "nothing-left", "the rest alone leaves a little open: {f}");
    let breather = bench.json(&["haul", "breather", "--on", &drive, "--json"]);
    let told = bench.json(&["findings", breather["haul"].as_str().unwrap(), "--json"]);
    let half = told["cache"]["recovery"]["half_s"]["value"].as_f64().unwrap();
    let (rest, f) = rest_and_model();
    assert!((rest - half).abs() < 0.5, "{rest} s, and half of it is back after {half} s");
    assert_eq!(f["decided"]["causes"], serde_json::json!(["cache-end"]), "{f}");
    let model = &f["decided"]["against_model"];
    let (low, high) = (model["low"].as_f64().unwrap(), model["high"].as_f64().unwrap());
    assert!(low < 1.3 && high > 1.0 / 1.3, "as much came back as the model has: {f}");
    let said = f["evidence"].to_string();
    assert!(said.contains("The model of its cache has"), "{said}");
}

#[test]
fn what_experiments_may_wear_off_is_bounded_and_a_share_of_what_nobody_states_is_refused() {
    let bench = Bench::new();
    let rated = made(&bench, "keeps", KEEPS);
    let bounded = route(&bench, "bounded", "decide = true\ndecide_wear = \"0.001 %\"");
    let told = bench.json(&["haul", &bounded, "--on", &rated, "--json"]);
    // 6 GB of the 600 TB that it is rated for; the arm under way ends with the first sample beyond that.
    let f = &decided(&told)[0];
    let wrote = |a: &Value| match a["kind"].as_str().unwrap() {
        "read" | "read-hot" | "read-cool" | "rest" => 0.0,
        _ => a["seconds"].as_f64().unwrap() * a["mb_s"].as_f64().unwrap_or(0.0) / 1000.0,
    };
    let written: f64 = f["decided"]["arms"].as_array().unwrap().iter().map(wrote).sum();
    assert_eq!(f["decided"]["ended"], "budget", "{f}");
    assert!((5.0..6.8).contains(&written), "{written} GB: {f}");
    let unrated = riddle(&bench);
    let grouped = bench.path("grouped.toml");
    let write =
        "kind = \"write\"\ndecide = true\ndecide_wear = \"0.001 %\"\nuntil = { duration = \"1 min\" }";
    let group = "[[leg]]\nkind = \"group\"\nrepeat = 2\n[[leg.leg]]";
    std::fs::write(&grouped, format!("name = \"grouped\"\n{group}\n{write}\n")).unwrap();
    for route in [&bounded, &grouped] {
        let no = bench.refusal(&["haul", route, "--on", &unrated], 2);
        assert!(no.contains("nobody states that") && no.contains("decide_wear in bytes"), "{no}");
    }
    assert!(bench.json(&["ledger", "--json"]).as_array().unwrap().len() == 1, "and nothing was begun");
}

#[test]
fn a_finding_of_an_earlier_haul_is_looked_into_by_a_haul_of_its_own() {
    let bench = Bench::new();
    let drive = riddle(&bench);
    let plain = route(&bench, "plain", "");
    let first = bench.json(&["haul", &plain, "--on", &drive, "--json"]);
    let haul = first["haul"].as_str().unwrap();
    let falls = |f: &Value| f["before_mb_s"].as_f64() > f["after_mb_s"].as_f64();
    let at = first["findings"].as_array().unwrap().iter().position(falls).unwrap();
    let letter = char::from(b'A' + at as u8).to_string();
    let no = bench.refusal(&["decide", haul, "Q"], 2);
    assert!(no.contains("has no finding Q: it has A"), "{no}");
    let no = bench.refusal(&["tell", haul, "find-out"], 2);
    assert!(no.contains("is over"), "{no}");
    assert!(bench.run(&["decide", haul, &letter]).status.success());
    let hauls = || bench.json(&["ledger", "--json"]).as_array().unwrap().clone();
    let queue = bench.json(&["queue", "--json"]);
    assert!(queue.is_array(), "{queue}");
    wait_until("the deciding haul is over", || hauls().iter().filter(|h| h["state"] == "done").count() == 2);
    let second = hauls().iter().map(|h| h["haul"].as_str().unwrap().to_owned()).find(|h| h != haul).unwrap();
    let told = bench.json(&["findings", &second, "--json"]);
    assert_eq!(decided(&told)[0]["kind"], "slow-zone", "{told}");
    let tags = hauls().iter().find(|h| h["haul"] == second.as_str()).unwrap()["tags"].clone();
    let (tags, of) = (tags.to_string(), format!("{haul} {letter}"));
    assert!(tags.contains(&of) && tags.contains("decides") && !tags.contains("again"), "{tags}");
}

#[test]
fn a_fall_is_looked_into_while_the_haul_is_watched() {
    let bench = Bench::new();
    let routes = bench.dir.path().join("home/routes");
    std::fs::create_dir_all(&routes).unwrap();
    let text =
        "name = \"mine\"\nabout = \"A write.\"\n[[leg]]\nkind = \"write\"\nuntil = { duration = \"3 h\" }\n";
    std::fs::write(routes.join("mine.toml"), text).unwrap();
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("Yard");
    t.keys(&["i"]);
    t.sees("KW-0188");
    t.keys(&["g"]);
    wait_until("the cursor is on the drive", || {
        let there = t.screen().lines().any(|l| l.contains('▸') && l.contains("KW-0188"));
        if !there {
            t.keys(&["j"]);
            std::thread::sleep(Duration::from_millis(150));
        }
        there
    });
    t.keys(&["Enter"]);
    t.sees("long-haul on");
    t.keys(&["G"]);
    t.sees("A write.");
    t.keys(&["s"]);
    t.sees("Start mine?");
    t.keys(&["y"]);
    // Its cache of 60 GB is used up after half a minute, at sixty times real time.
    t.sees("cache-end");
    t.keys(&["E"]);
    t.sees("Find out why the rate fell from");
    t.keys(&["y"]);
    t.sees("Tried out");
    // So often as it takes: places are drawn by when it is asked.
    t.sees("elsewhere ×");
    t.keys(&["E"]);
    t.sees("Find out why the rate fell from");
    t.keys(&["n"]);
    t.keys(&["Enter"]);
    t.sees("count in no figure");
    t.keys(&["Escape"]);
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("stopped");
    t.keys(&["E"]);
    t.sees("This haul is over.");
}
