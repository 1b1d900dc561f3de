//! The command line as scripts see it: JSON, exit codes, files.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use common::{Bench, exists, wait_until};
use serde_json::Value;

fn kinds<'a>(findings: &'a Value, kind: &str) -> Vec<&'a Value> {
    findings["findings"].as_array().unwrap().iter().filter(|f| f["kind"] == kind).collect()
}

#[test]
fn a_long_haul_on_every_simulated_drive_finds_its_truth() {
    let bench = Bench::new();
    for sim in bench.json(&["sim", "list", "--json"]).as_array().unwrap() {
        let name = sim["name"].as_str().unwrap();
        if sim["fault"].as_str().is_some_and(|f| f.contains("vanishes")) {
            let gone = bench.run(&["haul", "long-haul", "--on", &format!("sim:{name}"), "--json"]);
            assert_eq!(gone.status.code(), Some(4), "{name}");
            continue;
        }
        let truth = &bench.json(&["sim", "show", name, "--json"])["truth"];
        let done = bench.json(&["haul", "long-haul", "--on", &format!("sim:{name}"), "--json"]);
        assert_eq!(done["state"], "done");
        assert_eq!(done["written_bytes"], sim["capacity_bytes"]);
        let ends = kinds(&done, "cache-end");
        let true_ends = truth["cache_end_bytes"].as_array().unwrap();
        assert_eq!(ends.len(), true_ends.len(), "{name}");
        for (end, t) in ends.iter().zip(true_ends) {
            let (found, t) = (end["written_bytes"].as_f64().unwrap(), t.as_f64().unwrap());
            assert!((found / t - 1.0).abs() < 0.02, "{name}: {found} for {t}");
            assert!(
                end["written_low"].as_f64().unwrap() <= found
                    && found <= end["written_high"].as_f64().unwrap()
            );
        }
        let rates = truth["level_mb_s"].as_array().unwrap();
        if let (Some(first), Some(burst)) = (rates.first(), done["figures"]["burst_mb_s"].as_f64()) {
            assert!((burst / first.as_f64().unwrap() - 1.0).abs() < 0.05, "{name}: burst {burst}");
        }
        // Found again later, in the ledger, and the same to the digit.
        let haul = done["haul"].as_str().unwrap();
        let again = bench.json(&["findings", haul, "--json"]);
        assert_eq!(again["findings"], done["findings"]);
        assert_eq!(again["figures"], done["figures"]);
    }
    let ledger = bench.json(&["ledger", "--json"]);
    assert_eq!(ledger.as_array().unwrap().len(), 11);
    for key in
        ["haul", "drive", "route", "state", "started", "elapsed_s", "written_bytes", "read_bytes", "samples"]
    {
        assert!(!ledger[0][key].is_null(), "{key} is missing in {ledger}");
    }
    assert_eq!(bench.json(&["ledger", "--drive", "moraine-1t", "--json"]).as_array().unwrap().len(), 1);
}

#[test]
fn a_haul_goes_out_as_csv_and_says_the_same_from_there() {
    let bench = Bench::new();
    let haul = bench.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json", "--ambient", "30"]);
    let id = haul["haul"].as_str().unwrap();
    let csv = bench.path("out.csv");
    assert_eq!(bench.run(&["export", id, "--as", "csv", "-o", &csv]).status.code(), Some(0));
    let from_file = bench.json(&["findings", &csv, "--json"]);
    assert!(!from_file["findings"].as_array().unwrap().is_empty());
    assert_eq!(from_file["findings"], haul["findings"]);
    assert_eq!(from_file["figures"], haul["figures"]);
    let imported = bench.json(&["import", &csv, "--json"]);
    let again = bench.json(&["findings", imported["haul"].as_str().unwrap(), "--json"]);
    assert_eq!(again["findings"], haul["findings"]);
}

#[test]
fn a_second_haul_knows_the_first_and_the_findings_tell_cache_heat_and_streams() {
    let bench = Bench::new();
    let first = bench.json(&["haul", "cache-edge", "--on", "sim:ptarmigan-4t", "--json", "--ambient", "20"]);
    let second = bench.json(&["haul", "cache-edge", "--on", "sim:ptarmigan-4t", "--json", "--ambient", "45"]);
    let place = format!("Same place in haul {}", &first["haul"].as_str().unwrap()[..4]);
    let tells = |d: &Value| kinds(d, "cache-end")[0]["evidence"].to_string().contains(&place);
    assert!(!tells(&first) && tells(&second), "{second}");
    // What was known at the start is in the record, and goes out and in with it.
    let csv = bench.path("second.csv");
    assert_eq!(bench.run(&["export", "last", "--as", "csv", "-o", &csv]).status.code(), Some(0));
    assert_eq!(bench.json(&["findings", &csv, "--json"])["findings"], second["findings"]);

    bench.json(&["haul", "breather", "--on", "sim:moraine-1t", "--json", "--ambient", "24"]);
    let asked = ["findings", "last", "--json", "--hold", "620 MB/s", "--buffer", "8 GiB", "--ambient", "38"];
    let told = bench.json(&asked);
    let level = &told["cache"]["levels"][0];
    assert!((level["bytes"]["value"].as_f64().unwrap() / 420e9 - 1.0).abs() < 0.01, "{told}");
    assert!(told["cache"]["recovery"]["half_s"]["value"].as_f64().unwrap() > 60.0, "{told}");
    // 52 s, 24 + 9.4 × 2.1 and 9.4 × 1.5 by the drive's file.
    assert!((told["heat"]["tau_s"]["value"].as_f64().unwrap() / 52.0 - 1.0).abs() < 0.05, "{}", told["heat"]);
    assert!((told["stream"]["stream_mb_s"].as_f64().unwrap() - 620.0).abs() < 1e-9);
    assert!(told["doubts"].as_array().unwrap().is_empty(), "{}", told["doubts"]);
    let words =
        String::from_utf8(bench.run(&["findings", "last", "--hold", "64 channels x 24 bit x 96 kHz"]).stdout);
    let words = words.unwrap();
    for part in [
        "\nfigures\n",
        "\ncache\n",
        "\nheat\n",
        "\nstream\n",
        "18.43 MB/s",
        "Half of it comes back in",
        "it never throttles",
    ] {
        assert!(words.contains(part), "{part:?} is missing in {words}");
    }
    let bad = bench.run(&["findings", "last", "--hold", "64 channels"]);
    assert_eq!(bad.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&bad.stderr).contains("says no bits"), "{bad:?}");
}

#[test]
fn a_record_that_tells_nothing_says_so() {
    let bench = Bench::new();
    let cases = [
        ("empty.csv", "elapsed_s,written_bytes\n", "no samples"),
        ("one.csv", "elapsed_s,written_bytes\n1,1000000\n", "1 sample under load"),
        ("idle.csv", "elapsed_s,written_bytes\n1,0\n2,0\n3,0\n", "nothing was written or read"),
        ("failed.csv", "elapsed_s,written_bytes,errors\n1,0,4\n2,0,9\n", "every operation failed: 9 errors"),
    ];
    for (name, text, why) in cases {
        let path = bench.path(name);
        std::fs::write(&path, text).unwrap();
        let out = bench.run(&["findings", &path, "--json"]);
        // A file without a row may as well be refused, in a sentence.
        let told =
            format!("{}{}", String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
        assert!(told.contains(why) || out.status.code() == Some(2), "{name}: {told}");
        assert!(!told.contains("cache-end") && !told.contains("panicked"), "{name}: {told}");
    }
    for dead in ["0", "255"] {
        let path = bench.path("dead.csv");
        let rows: Vec<String> = (1..400)
            .map(|i| {
                format!("{i},{}000000,{dead}", if i < 200 { i * 2000 } else { 400_000 + (i - 200) * 500 })
            })
            .collect();
        std::fs::write(
            &path,
            format!("# throttle_c=80\nelapsed_s,written_bytes,temperature_c\n{}\n", rows.join("\n")),
        )
        .unwrap();
        let told = bench.json(&["findings", &path, "--json"]);
        // A fall to a quarter that stays: with a dead sensor nobody can say that heat did not do it.
        let end = kinds(&told, "unexplained")[0];
        assert!(end["temperature_c"].is_null(), "{end}");
        assert_eq!(end["may_be"][0]["kind"], "cache-end", "{end}");
        assert!(
            told["doubts"].to_string().contains("Cannot tell heat from other causes"),
            "{}",
            told["doubts"]
        );
        assert!(
            told["heat"]["why"].as_str().unwrap().starts_with("Cannot tell how warm it gets"),
            "{}",
            told["heat"]
        );
    }
}

#[test]
fn a_chart_is_a_page_with_the_finding_on_it() {
    let bench = Bench::new();
    bench.json(&["haul", "cache-edge", "--on", "sim:ptarmigan-4t", "--json"]);
    let svg = bench.path("edge.svg");
    assert_eq!(bench.run(&["chart", "last", "--kind", "lanes", "-o", &svg]).status.code(), Some(0));
    let text = std::fs::read_to_string(&svg).unwrap();
    assert!(text.contains("cache-end at 312.4 GB") && text.contains("rate, MB/s"));
    let well_formed = std::process::Command::new("xmllint").args(["--noout", &svg]).status().unwrap();
    assert!(well_formed.success());
    assert!(bench.refusal(&["chart", "last", "-o", &svg], 2).contains("exists"));
    assert_eq!(
        bench.run(&["chart", "last", "-o", &svg, "--along", "written", "--force"]).status.code(),
        Some(0)
    );
    assert!(bench.refusal(&["chart", "last", "-o", &bench.path("x.gif")], 2).contains("end it in .svg"));
}

#[test]
fn a_real_file_is_written_recorded_and_removed() {
    let bench = Bench::new();
    let route = bench.path("short.toml");
    std::fs::write(&route, "name = \"short\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"100 %\" }\n")
        .unwrap();
    let target = bench.path("try.hm");
    for engine in ["", "threads"] {
        let out = bench
            .command(&["haul", &route, "--on", &format!("file:{target}"), "--size", "96MiB", "--json"])
            .env("HOLLOW_MILE_ENGINE", engine)
            .output()
            .unwrap();
        assert_eq!(out.status.code(), Some(0), "{}", String::from_utf8_lossy(&out.stderr));
        let done: Value = serde_json::from_slice(&out.stdout).unwrap();
        assert_eq!((&done["state"], &done["written_bytes"]), (&"done".into(), &(96u64 << 20).into()));
        let words = done["engine"].as_str().unwrap();
        assert_eq!(words.contains("worker threads"), engine == "threads", "{words}");
        assert!(!exists(&target), "the file is still there");
    }
    assert_eq!(bench.json(&["leftovers", "--json"]), Value::Array(vec![]));
}

fn endless(bench: &Bench) -> String {
    let route = bench.path("endless.toml");
    std::fs::write(
        &route,
        "name = \"endless\"\n[[leg]]\nkind = \"write\"\nuntil = { duration = \"10 min\" }\n",
    )
    .unwrap();
    route
}

#[test]
fn a_kill_loses_at_most_the_last_second_and_the_file_is_found() {
    let bench = Bench::new();
    let target = bench.path("killed.hm");
    let on = format!("file:{target}");
    let began = std::time::Instant::now();
    let mut child =
        bench.command(&["haul", &endless(&bench), "--on", &on, "--size", "64MiB"]).spawn().unwrap();
    wait_until("the haul to begin", || exists(&target));
    std::thread::sleep(std::time::Duration::from_millis(2600));
    child.kill().unwrap();
    let lived = began.elapsed().as_secs_f64();
    child.wait().unwrap();
    let row = &bench.json(&["ledger", "--json"])[0];
    assert_eq!(row["state"], "cut-short");
    // Start-up costs some of that time; the record may miss a second at most beyond it.
    let recorded = row["elapsed_s"].as_f64().unwrap();
    assert!(recorded > 1.6 && recorded < lived, "recorded {recorded} s of {lived} s");
    let id = row["haul"].as_str().unwrap();
    let figures = &bench.json(&["findings", id, "--json"])["figures"];
    assert!(figures["mean_mb_s"].as_f64().unwrap() > 0.0);
    // The file that the kill left behind is known, and nothing else of that name is touched.
    assert!(exists(&target));
    let refused = bench.refusal(&["haul", "long-haul", "--on", &on, "--size", "64MiB"], 3);
    assert!(refused.contains("left behind by haul") && refused.contains("exists and is not"), "{refused}");
    let left = bench.json(&["leftovers", "--remove", "--json"]);
    assert_eq!((&left[0]["haul"], &left[0]["removed"]), (&id.into(), &true.into()));
    assert!(!exists(&target));
}

#[test]
fn a_signal_stops_a_haul_in_good_order() {
    let bench = Bench::new();
    let target = bench.path("stopped.hm");
    let child = bench
        .command(&["haul", &endless(&bench), "--on", &format!("file:{target}"), "--size", "64MiB", "--json"])
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    wait_until("the haul to begin", || exists(&target));
    std::thread::sleep(std::time::Duration::from_millis(500));
    let pid = child.id().to_string();
    std::process::Command::new("kill").args(["-TERM", &pid]).status().unwrap();
    let out = child.wait_with_output().unwrap();
    assert_eq!(out.status.code(), Some(5));
    let done: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(done["state"], "stopped");
    assert!(!exists(&target));
}

#[test]
fn two_programs_share_a_ledger() {
    let bench = Bench::new();
    let args = ["haul", "long-haul", "--on", "sim:corrie-2t", "--json"];
    let children: Vec<_> = (0..3)
        .map(|_| {
            bench
                .command(&args)
                .stdout(std::process::Stdio::null())
                .stderr(std::process::Stdio::piped())
                .spawn()
                .unwrap()
        })
        .collect();
    for child in children {
        let out = child.wait_with_output().unwrap();
        assert_eq!(out.status.code(), Some(0), "{}", String::from_utf8_lossy(&out.stderr));
    }
    let rows = bench.json(&["ledger", "--json"]);
    let states: Vec<_> = rows.as_array().unwrap().iter().map(|r| r["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["done"; 3]);
}

#[test]
fn what_cannot_be_is_refused_in_a_sentence_with_the_right_code() {
    let bench = Bench::new();
    let broken = bench.path("broken.toml");
    std::fs::write(&broken, "name = \"x\"\n[[leg]]\nkind = \"write\"\nblock = \"one\"\n").unwrap();
    let sim = bench.path("broken-sim.toml");
    std::fs::write(&sim, "name = \"x\"\nmodel = 3\n").unwrap();
    let dir = bench.dir.path().display().to_string();
    let folder = format!("file:{dir}");
    let file = format!("file:{}", bench.path("f"));
    let sim_file = format!("sim:{sim}");
    std::fs::write(bench.path("mine"), "precious").unwrap();
    let mine = format!("file:{}", bench.path("mine"));
    for (args, code, words) in [
        (vec!["haul", "long-haul", "--on", "sim:nothing"], 2, "no simulated drive \"nothing\""),
        (vec!["haul", "long-haul", "--on", "corrie"], 2, "is no drive"),
        (vec!["haul", "nowhere", "--on", "sim:corrie-2t"], 2, "no route \"nowhere\""),
        (vec!["haul", "../../etc/passwd", "--on", "sim:corrie-2t"], 2, "no route"),
        (vec!["haul", &broken, "--on", "sim:corrie-2t"], 2, "line 4, column 9"),
        (vec!["route", "check", &broken], 2, "line 4, column 9"),
        (vec!["haul", "long-haul", "--on", &sim_file], 2, "line 2, column 9"),
        (vec!["haul", "long-haul", "--on", &folder, "--size", "64MiB"], 2, "is a folder"),
        (vec!["haul", "long-haul", "--on", &file], 2, "needs a size"),
        (vec!["haul", "long-haul", "--on", &file, "--size", "1000001"], 2, "not a multiple of the block"),
        (vec!["haul", "long-haul", "--on", &file, "--size", "900PB"], 2, "no space for 900 PB"),
        (
            vec!["haul", "long-haul", "--on", &mine, "--size", "64MiB"],
            3,
            "exists and is not a file of this program",
        ),
        (vec!["haul", "long-haul", "--on", "/dev/no-such-drive"], 2, "does not exist"),
        (vec!["findings", "nope"], 2, "no haul \"nope\""),
        (vec!["findings", "nope.csv"], 2, "nope.csv cannot be read"),
        (vec!["haul", "long-haul", "--on", &file, "--size", "big"], 2, "is not a size"),
        (vec!["frobnicate"], 2, "unrecognized subcommand"),
    ] {
        let error = bench.refusal(&args, code);
        assert!(error.contains(words), "{args:?}: {error}");
    }
    assert!(!exists(&bench.path("f")), "a refused haul leaves no file");
    assert_eq!(std::fs::read_to_string(bench.path("mine")).unwrap(), "precious");
    assert_eq!(bench.json(&["ledger", "--json"]), Value::Array(vec![]), "a refused haul leaves no record");
}

#[test]
fn a_home_that_cannot_be_written_says_so() {
    let bench = Bench::new();
    let out = bench
        .command(&["haul", "long-haul", "--on", "sim:corrie-2t"])
        .env("HOLLOW_MILE_HOME", "/proc/hm")
        .output()
        .unwrap();
    assert_eq!(out.status.code(), Some(6));
    assert!(String::from_utf8_lossy(&out.stderr).contains("the ledger in /proc/hm cannot be written"));
    let out = bench.run(&[]);
    assert_eq!(out.status.code(), Some(2), "without a terminal there is no interface");
    assert!(String::from_utf8_lossy(&out.stderr).contains("needs a terminal"));
}

#[test]
fn a_drive_file_of_ones_own_can_be_hauled_on_and_conditions_matter() {
    let bench = Bench::new();
    let text = String::from_utf8(bench.run(&["sim", "show", "moraine-1t"]).stdout).unwrap();
    let own = bench.path("own.toml");
    std::fs::write(&own, text.replace("\"moraine-1t\"", "\"own\"").replace("420 GB", "90 GB")).unwrap();
    let on = format!("sim:{own}");
    let hot = bench.json(&[
        "haul",
        "long-haul",
        "--on",
        &on,
        "--ambient",
        "60",
        "--cooling",
        "bare",
        "--json",
        "--tag",
        "bay=2",
    ]);
    let cool =
        bench.json(&["haul", "long-haul", "--on", &on, "--ambient", "10", "--cooling", "fan", "--json"]);
    for haul in [&hot, &cool] {
        let end = kinds(haul, "cache-end")[0]["written_bytes"].as_f64().unwrap();
        assert!((end / 90e9 - 1.0).abs() < 0.02, "{end}");
    }
    assert!(!kinds(&hot, "throttle").is_empty() && kinds(&cool, "throttle").is_empty());
}
