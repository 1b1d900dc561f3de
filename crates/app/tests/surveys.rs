//! Scans, spans, ladders, streams, fill sweeps and verifies through the real program, on simulated drives and real files.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use common::Bench;
use serde_json::Value;

fn kinds<'a>(done: &'a Value, kind: &str) -> Vec<&'a Value> {
    done["findings"].as_array().unwrap().iter().filter(|f| f["kind"] == kind).collect()
}

fn route(bench: &Bench, name: &str, text: &str) -> String {
    let path = bench.path(&format!("{name}.toml"));
    std::fs::write(&path, format!("name = \"{name}\"\n{text}")).unwrap();
    path
}

#[test]
fn slow_stretches_of_the_shipped_drives_are_found_to_the_bin() {
    let bench = Bench::new();
    for drive in ["skerry-8t", "skerry-4t", "corrie-1t", "corrie-2t"] {
        let truth = &bench.json(&["sim", "show", drive, "--json"])["truth"];
        let out = bench.run(&["haul", "ground", "--on", &format!("sim:{drive}"), "--json"]);
        let done: Value = serde_json::from_slice(&out.stdout).unwrap();
        let bin = done["surveys"]["ground"]["bin_bytes"].as_f64().unwrap();
        let (found, zones) = (kinds(&done, "slow-zone"), truth["zones"].as_array().unwrap());
        assert_eq!(found.len(), zones.len(), "{drive}");
        for (f, z) in found.iter().zip(zones) {
            for edge in ["position_bytes", "position_end_bytes"] {
                let off = (f[edge].as_f64().unwrap() - z[edge].as_f64().unwrap()).abs();
                assert!(off <= bin, "{drive} {edge}: off by {off}");
            }
        }
        assert_eq!(kinds(&done, "media-error").len(), truth["bad"].as_array().unwrap().len(), "{drive}");
        // A review of the record says the same.
        let again = bench.json(&["findings", done["haul"].as_str().unwrap(), "--json"]);
        assert_eq!(again["findings"], done["findings"]);
        assert_eq!(again["surveys"], done["surveys"]);
    }
}

#[test]
fn what_a_drive_holds_is_proved_block_by_block() {
    let bench = Bench::new();
    let small = "limits = [\"mismatches <= 0\"]\n[[leg]]\nkind = \"write\"\nstamped = true\nuntil = { bytes = \"64 GB\" }\n[[leg]]\nkind = \"verify\"\n";
    let path = route(&bench, "proof-small", small);
    let out = bench.run(&["haul", &path, "--on", "sim:gannet-256", "--json"]);
    assert_eq!(out.status.code(), Some(1), "a missed limit shows in the exit code");
    let done: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!(done["surveys"]["verify"]["holds_bytes"], 32_000_000_000u64);
    let misplaced = done["surveys"]["verify"]["misplaced_bytes"].as_u64().unwrap();
    assert!(misplaced.abs_diff(32_000_000_000) < 1 << 20, "{misplaced}");
    assert_eq!((kinds(&done, "data-mismatch").len(), &done["limits"][0]["verdict"]), (1, &"missed".into()));
    let sound = bench.json(&["haul", &path, "--on", "sim:corrie-1t", "--json"]);
    assert_eq!(
        (&sound["surveys"]["verify"]["wrong_bytes"], sound["limits"][0]["verdict"].as_str()),
        (&0.into(), Some("met"))
    );
}

#[test]
fn a_real_file_is_verified_and_what_was_changed_behind_our_back_is_told() {
    let bench = Bench::new();
    let text = "interval = \"20 ms\"\n[[leg]]\nkind = \"write\"\nstamped = true\nblock = \"64 KiB\"\nuntil = { bytes = \"100 %\" }\n\
                [[leg]]\nkind = \"rest\"\nuntil = { duration = \"3 s\" }\n[[leg]]\nkind = \"verify\"\nblock = \"64 KiB\"\n";
    let path = route(&bench, "file-proof", text);
    let file = bench.path("try.hm");
    let on = format!("file:{file}");
    let args = ["haul", path.as_str(), "--on", on.as_str(), "--size", "16MiB", "--json"];
    let sound = bench.json(&args);
    assert_eq!(sound["surveys"]["verify"]["checked_bytes"], 16 << 20);
    assert_eq!(sound["surveys"]["verify"]["wrong_bytes"], 0);
    // One block is moved over another and one bit is flipped while it rests.
    let child = bench.command(&args).stdout(std::process::Stdio::piped()).spawn().unwrap();
    common::wait_until("the write to be over", || {
        use std::os::unix::fs::FileExt;
        let Ok(f) = std::fs::File::options().read(true).write(true).open(&file) else { return false };
        let mut block = [0u8; 4096];
        // The last block of the file bears its stamp: all is written.
        if f.read_exact_at(&mut block, (16 << 20) - 4096).is_err() || &block[..4] != b"HMs1" {
            return false;
        }
        f.write_all_at(&block, 8 * 4096).unwrap();
        f.read_exact_at(&mut block, 20 * 4096).unwrap();
        block[1000] ^= 1;
        f.write_all_at(&block, 20 * 4096).unwrap();
        f.sync_all().unwrap();
        true
    });
    let out = child.wait_with_output().unwrap();
    let done: Value = serde_json::from_slice(&out.stdout).unwrap();
    let all = done["surveys"]["verify"]["mismatches"].as_array().unwrap();
    assert_eq!(all.len(), 2, "{all:?}");
    assert_eq!(
        (&all[0]["position"], &all[0]["wrong"], &all[0]["belongs"]),
        (&(8 * 4096).into(), &"misplaced".into(), &((16 << 20) - 4096).into())
    );
    assert_eq!((&all[1]["position"], &all[1]["wrong"]), (&(20 * 4096).into(), &"corrupt".into()));
}

#[test]
fn access_depths_and_streams_have_their_figures() {
    let bench = Bench::new();
    let spans = bench.json(&["haul", "spans", "--on", "sim:skerry-8t", "--json"]);
    let spans = spans["surveys"]["spans"]["spans"].as_array().unwrap().clone();
    let means: Vec<f64> = spans.iter().map(|s| s["access_us"]["mean"].as_f64().unwrap()).collect();
    assert!(means[..6].windows(2).all(|w| w[1] < w[0]), "a shorter span is faster on platters: {means:?}");
    // Half a turn at 7,200 a minute and the shortest seek cost at least 4.9 ms.
    assert!(means.iter().all(|m| (4_900.0..30_000.0).contains(m)), "{means:?}");
    assert!(spans[0]["access_us"]["interval"].as_f64().unwrap() > 0.0);
    let ladder = bench.json(&["haul", "ladder", "--on", "sim:corrie-2t", "--json"]);
    let ladder = &ladder["surveys"]["ladder"];
    assert_eq!(ladder["rungs"].as_array().unwrap().len(), 70);
    assert!(ladder["rungs"].as_array().unwrap().iter().any(|r| r["at_link"] == true));
    let text = "[[leg]]\nkind = \"pace\"\noperation = \"write\"\nrate = \"2000 MB/s\"\nbuffer = \"1 GiB\"\nsearch = true\nstep = \"2 min\"\n";
    let path = route(&bench, "search", text);
    let found = bench.json(&["haul", &path, "--on", "sim:corrie-2t", "--json"]);
    let s = &found["surveys"]["streams"];
    let (high, low) = (s["highest_mb_s"].as_f64().unwrap(), s["lowest_missed_mb_s"].as_f64().unwrap());
    assert!(high < low && low / high < 1.021, "{high} to {low}");
    // After its cache the drive writes 1,310 MB/s.
    assert!((1200.0..1420.0).contains(&high), "{high}");
    let stream = bench.run(&["haul", "stream", "--on", "sim:ptarmigan-4t", "--json"]);
    let stream: Value = serde_json::from_slice(&stream.stdout).unwrap();
    let trial = &stream["surveys"]["streams"]["trials"][0];
    assert_eq!((&trial["held"], &trial["cause"]), (&false.into(), &"cache-end".into()));
}

#[test]
fn a_fill_sweep_tells_which_figures_hold() {
    let bench = Bench::new();
    let text = "[[leg]]\nkind = \"wipe\"\n[[leg]]\nkind = \"group\"\nsettle = \"10 min\"\nover = { fill = [\"10 %\", \"50 %\", \"90 %\"] }\n\
                [[leg.leg]]\nkind = \"write\"\nuntil = { bytes = \"250 GB\" }\n[[leg.leg]]\nkind = \"read\"\nrepeat = 3\nuntil = { bytes = \"8 GB\" }\n";
    let path = route(&bench, "sweep", text);
    let done = bench.json(&["haul", &path, "--on", "sim:ptarmigan-4t", "--json"]);
    let measures = done["surveys"]["fill"]["measures"].as_array().unwrap();
    assert_eq!(measures.len(), 2);
    assert_eq!((&measures[0]["holds"], &measures[1]["holds"]), (&false.into(), &true.into()));
    let levels = measures[1]["levels"].as_array().unwrap();
    let fills: Vec<f64> = levels.iter().map(|l| l["fill_percent"].as_f64().unwrap()).collect();
    assert_eq!(fills, [10.0, 50.0, 90.0]);
    assert!(levels.iter().all(|l| l["mb_s"]["repeats"] == 3));
    let cached: Vec<f64> =
        measures[0]["levels"].as_array().unwrap().iter().map(|l| l["cached"].as_f64().unwrap()).collect();
    assert!(cached[0] > cached[2], "a full drive has less cache: {cached:?}");
}

#[test]
fn a_file_system_is_filled_level_by_level_and_given_back() {
    let bench = Bench::new();
    let Some(device) = common::Loop::new(&bench, 1 << 30) else { return };
    let run = |program: &str, args: &[&str]| {
        std::process::Command::new(program).args(args).status().is_ok_and(|s| s.success())
    };
    let bay = bench.path("bay");
    std::fs::create_dir(&bay).unwrap();
    assert!(run("mke2fs", &["-q", "-t", "ext4", &device.node]));
    if !run("mount", &[&device.node, &bay]) {
        return eprintln!("left out: nothing can be mounted here");
    }
    let text = "[[leg]]\nkind = \"group\"\nover = { fill = [\"30 %\", \"85 %\"] }\n[[leg.leg]]\nkind = \"write\"\nrepeat = 2\nuntil = { bytes = \"100 %\" }\n";
    let path = route(&bench, "levels", text);
    let on = format!("file:{bay}/try.hm");
    let done = bench.json(&["haul", &path, "--on", &on, "--size", "32MiB", "--json"]);
    let remarks = done["remarks"].to_string();
    assert!(remarks.contains("to 30.0 %") && remarks.contains("to 85.0 %"), "{remarks}");
    assert_eq!(done["surveys"]["fill"]["measures"][0]["levels"].as_array().unwrap().len(), 2);
    let left = || {
        std::fs::read_dir(&bay).unwrap().filter(|e| e.as_ref().unwrap().file_name() != "lost+found").count()
    };
    assert_eq!(left(), 0, "all fillers are removed");
    let far = route(&bench, "far", &text.replace("85 %", "99 %"));
    let error = bench.refusal(&["haul", &far, "--on", &on, "--size", "32MiB"], 2);
    assert!(error.contains("stay free for others"), "{error}");
    assert_eq!(left(), 0);
    // Killed in the middle, it leaves its files, and knows them.
    let slow = route(
        &bench,
        "slow",
        &text.replace(
            "[[leg.leg]]",
            "[[leg.leg]]\nkind = \"rest\"\nuntil = { duration = \"1 min\" }\n[[leg.leg]]",
        ),
    );
    let mut child = bench.command(&["haul", &slow, "--on", &on, "--size", "32MiB"]).spawn().unwrap();
    let filler = std::path::PathBuf::from(format!("{bay}/try.hm.filler"));
    common::wait_until("the filler to grow", || {
        std::fs::metadata(&filler).is_ok_and(|m| m.len() > 100 << 20)
    });
    child.kill().unwrap();
    child.wait().unwrap();
    assert_eq!(left(), 2);
    bench.json(&["leftovers", "--remove", "--json"]);
    assert_eq!(left(), 0);
    // The kernel lets go of a killed program's ring a moment later.
    common::wait_until("the bay to be free", || run("umount", &["-q", &bay]));
}

#[test]
fn several_drives_go_at_once_and_a_stopped_haul_is_continued() {
    let bench = Bench::new();
    let both =
        bench.json(&["haul", "cache-edge", "--on", "sim:corrie-2t", "--on", "sim:moraine-1t", "--json"]);
    let hauls = both["hauls"].as_array().unwrap();
    assert_eq!((&hauls[0]["drive"], &hauls[1]["drive"]), (&"sim:corrie-2t".into(), &"sim:moraine-1t".into()));
    assert!(hauls.iter().all(|h| h["state"] == "done"));
    let two = [
        "haul",
        "long-haul",
        "--on",
        "sim:moraine-1t",
        "--on",
        "sim:moraine-1t",
        "--cooling",
        "bare",
        "--cooling",
        "fan",
        "--json",
    ];
    let coolers = bench.json(&two);
    let throttles = |i: usize| kinds(&coolers["hauls"][i], "throttle").len();
    assert!(throttles(0) > 0 && throttles(1) == 0, "bare it throttles, with a fan it does not");
    let error = bench.refusal(&["haul", "spans", "--on", "sim:corrie-2t", "--slot", "1", "--slot", "2"], 2);
    assert!(error.contains("--slot is given 2 times for 1 drives"), "{error}");
    // A haul that the drive ended: it is continued from there, on a drive that holds out.
    let text = "[[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"900 GB\" }\n";
    let path = route(&bench, "long", text);
    let failed = bench.run(&["haul", &path, "--on", "sim:ptarmigan-1t", "--json"]);
    let failed: Value = serde_json::from_slice(&failed.stdout).unwrap();
    assert_eq!(failed["state"], "failed");
    // It fails once more, and is continued once more.
    let first = failed["haul"].as_str().unwrap();
    let again = bench.run(&["haul", &path, "--on", "sim:ptarmigan-1t", "--continues", first, "--json"]);
    let again: Value = serde_json::from_slice(&again.stdout).unwrap();
    assert_eq!(again["state"], "failed");
    let haul = again["haul"].as_str().unwrap();
    let rest = bench.json(&["haul", &path, "--on", "sim:corrie-1t", "--continues", haul, "--json"]);
    let sum: u64 = [&failed, &again, &rest].iter().map(|h| h["written_bytes"].as_u64().unwrap()).sum();
    assert_eq!(sum, 900_000_000_000, "no byte twice, none left out");
    let over = rest["haul"].as_str().unwrap();
    let error = bench.refusal(&["haul", &path, "--on", "sim:corrie-1t", "--continues", over], 2);
    assert!(error.contains("nothing to continue"), "{error}");
}

#[test]
fn a_verify_that_was_stopped_or_killed_goes_on_behind_what_it_has_checked() {
    let bench = Bench::new();
    let Some(device) = common::Loop::new(&bench, 64 << 20) else { return };
    let text = "[[leg]]\nkind = \"write\"\nstamped = true\nuntil = { bytes = \"100 %\" }\n[[leg]]\nkind = \"verify\"\nblock = \"64 KiB\"\ndepth = 4\nrate = \"16 MB/s\"\n";
    let path = route(&bench, "slow-proof", text);
    let args = ["haul", &path, "--on", &device.node, "--erase", device.name(), "--json"];
    for signal in ["-INT", "-KILL"] {
        let mut child = bench.command(&args).stdout(std::process::Stdio::null()).spawn().unwrap();
        // The write takes a moment, the verify four seconds.
        common::wait_until("the verify to be under way", || {
            let out = bench.command(&["ledger", "--json"]).output().unwrap();
            let rows: Value = serde_json::from_slice(&out.stdout).unwrap_or_default();
            rows[0]["state"] == "running" && rows[0]["read_bytes"].as_u64() > Some(8 << 20)
        });
        std::process::Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap();
        let code = child.wait().unwrap().code();
        assert_eq!(code, (signal == "-INT").then_some(5));
        let row = &bench.json(&["ledger", "--json"])[0];
        assert_eq!(row["state"], if signal == "-INT" { "stopped" } else { "cut-short" });
        let haul = row["haul"].as_str().unwrap();
        let checked = |done: &Value| done["surveys"]["verify"]["checked_bytes"].as_u64().unwrap();
        let before = checked(&bench.json(&["findings", haul, "--json"]));
        assert!((1 << 20..63 << 20).contains(&before), "{signal}: {before}");
        let rest = bench.json(&[&args[..], &["--continues", haul]].concat());
        assert_eq!(rest["surveys"]["verify"]["wrong_bytes"], 0);
        assert_eq!(rest["written_bytes"], 0, "nothing is written again");
        let both = before + checked(&rest);
        assert!((64 << 20..(64 << 20) + (64 << 10)).contains(&both), "{before} and {}", checked(&rest));
        // Or all of it, by another route: what was flushed is there.
        let of = route(&bench, "again", &format!("[[leg]]\nkind = \"verify\"\nof = \"{haul}\"\n"));
        let again = bench.json(&["haul", &of, "--on", &device.node, "--json"]);
        assert_eq!((checked(&again), &again["surveys"]["verify"]["wrong_bytes"]), (64 << 20, &0.into()));
    }
}

#[test]
fn loss_of_power_is_told_from_a_drive_that_loses_what_was_flushed() {
    use std::os::unix::fs::FileExt;
    let bench = Bench::new();
    let Some(device) = common::Loop::new(&bench, 64 << 20) else { return };
    let text = "[[leg]]\nkind = \"write\"\nstamped = true\nrate = \"12 MB/s\"\nflush_every = \"24 MiB\"\nuntil = { bytes = \"100 %\" }\n";
    let path = route(&bench, "flushed", text);
    let args = ["haul", &path, "--on", &device.node, "--erase", device.name(), "--json"];
    let mut child = bench.command(&args).stdout(std::process::Stdio::null()).spawn().unwrap();
    let row = || bench.json(&["ledger", "--json"])[0].clone();
    common::wait_until("more than was flushed", || row()["written_bytes"].as_u64() > Some(28 << 20));
    child.kill().unwrap();
    child.wait().unwrap();
    let haul = row()["haul"].as_str().unwrap().to_owned();
    let of = route(&bench, "again", &format!("[[leg]]\nkind = \"verify\"\nof = \"{haul}\"\n"));
    let again = |code| {
        let out = bench.command(&["haul", &of, "--on", &device.node, "--json"]).output().unwrap();
        assert_eq!(out.status.code(), Some(code), "{}", String::from_utf8_lossy(&out.stderr));
        let done: Value = serde_json::from_slice(&out.stdout).unwrap();
        (done["surveys"]["verify"].clone(), String::from_utf8(out.stderr).unwrap(), done["findings"].clone())
    };
    let (whole, words, _) = again(0);
    assert!(words.contains("after its last flush"), "{words}");
    assert_eq!(
        (&whole["wrong_bytes"], &whole["unflushed_bytes"]),
        (&0.into(), &0.into()),
        "killed, not lost"
    );
    let written = whole["checked_bytes"].as_u64().unwrap();
    assert!((28 << 20..48 << 20).contains(&written), "{written}");
    // Power goes: the last of it was not flushed; the second MiB was.
    let medium = std::fs::File::options().write(true).open(&device.node).unwrap();
    let lost = 256 << 10;
    medium.write_all_at(&vec![0u8; lost as usize], written - lost).unwrap();
    medium.sync_all().unwrap();
    let (v, _, findings) = again(0);
    assert_eq!((&v["wrong_bytes"], &v["unflushed_bytes"]), (&0.into(), &lost.into()));
    assert_eq!(findings, serde_json::json!([]));
    medium.write_all_at(&[0u8; 8192], 1 << 20).unwrap();
    medium.sync_all().unwrap();
    let (v, _, findings) = again(4);
    assert_eq!((&v["wrong_bytes"], &v["unflushed_bytes"]), (&8192.into(), &lost.into()));
    assert_eq!(findings[0]["kind"], "data-mismatch");
}

#[test]
fn what_cannot_be_is_said_before_the_start() {
    let bench = Bench::new();
    let sink = bench.path("bad.toml");
    let text = "name = \"bad\"\nlimits = [\"misses <= 0\"]\n\n[[leg]]\nkind = \"scan\"\nbins = 3\n\n[[leg]]\nkind = \"write\"\ndepth = 0\nuntil = { bytes = \"1 GB\" }\n";
    std::fs::write(&sink, text).unwrap();
    let error = bench.refusal(&["route", "check", &sink], 2);
    for words in [
        "line 2, column 1: route: the limit",
        "line 6, column 1: leg 1 (scan): bins",
        "line 10, column 1: leg 2 (write): depth",
    ] {
        assert!(error.contains(words), "{words}\n{error}");
    }
    let out = bench.run(&["route", "check", &sink, "--json"]);
    let faults: Value = serde_json::from_slice(&out.stdout).unwrap();
    assert_eq!((faults["good"].as_bool(), faults["faults"].as_array().unwrap().len()), (Some(false), 3));
    let past = route(
        &bench,
        "past",
        "[[leg]]\nkind = \"read\"\nregion = { from = \"1 TB\", to = \"3 TB\" }\nuntil = { duration = \"1 s\" }\n",
    );
    let error = bench.refusal(&["haul", &past, "--on", "sim:corrie-2t"], 2);
    assert!(error.contains("the drive ends at 2 TB"), "{error}");
    let low = route(
        &bench,
        "low",
        "[[leg]]\nkind = \"fill\"\nlevel = \"10 %\"\n[[leg]]\nkind = \"fill\"\nlevel = \"5 %\"\n",
    );
    let out = bench.run(&["haul", &low, "--on", "sim:corrie-2t"]);
    let error = String::from_utf8_lossy(&out.stderr);
    assert!(out.status.success() && error.contains("put a wipe leg first"), "{error}");
    let empty = route(&bench, "empty", "[[leg]]\nkind = \"verify\"\nof = \"nothing\"\n");
    assert!(!bench.refusal(&["haul", &empty, "--on", "sim:corrie-2t"], 2).is_empty());
}

#[test]
fn a_survey_goes_out_as_csv_and_says_the_same_from_there() {
    let bench = Bench::new();
    for (name, drive) in [
        ("ground", "skerry-4t"),
        ("spans", "skerry-8t"),
        ("ladder", "corrie-2t"),
        ("high-water", "corrie-2t"),
        ("stream", "ptarmigan-4t"),
        ("proof", "gannet-64"),
    ] {
        let out = bench.run(&["haul", name, "--on", &format!("sim:{drive}"), "--json"]);
        let done: Value = serde_json::from_slice(&out.stdout).unwrap();
        let csv = bench.path(&format!("{name}.csv"));
        assert!(bench.run(&["export", "last", "-o", &csv]).status.success());
        let again = bench.json(&["findings", &csv, "--json"]);
        for part in ["findings", "figures", "surveys", "limits"] {
            assert_eq!(again[part], done[part], "{name}: {part}");
        }
        // Taken into the ledger it is the same again.
        bench.json(&["import", &csv, "--json"]);
        let kept = bench.json(&["findings", "last", "--json"]);
        assert_eq!(kept["surveys"], done["surveys"], "{name}");
    }
}

#[test]
fn what_zones_do_not_take_is_refused_with_what_they_do() {
    let bench = Bench::new();
    let refused = |leg: &str| {
        let file = bench.dir.path().join("r.toml");
        std::fs::write(&file, format!("name = \"r\"\n[[leg]]\n{leg}")).unwrap();
        let out = bench.run(&["haul", file.to_str().unwrap(), "--on", "sim:strath-4t"]);
        (out.status.code(), String::from_utf8_lossy(&out.stderr).into_owned())
    };
    for (leg, said) in [
        (
            "kind = \"write\"\npattern = \"random\"\nblock = \"4 KiB\"\nuntil = { duration = \"1 s\" }",
            "pattern = \"sequential\"",
        ),
        (
            "kind = \"mixed\"\nblock = \"4 KiB\"\nread_percent = 50\nuntil = { duration = \"1 s\" }",
            "let it read",
        ),
        ("kind = \"scan\"\noperation = \"write\"", "scan it by reading"),
        ("kind = \"wipe\"", "by = \"reset-zones\""),
        ("kind = \"write\"\ndecide = true\nuntil = { duration = \"1 s\" }", "zones anew: decide = false"),
        (
            "kind = \"write\"\nstamped = true\nregion = { from = \"1 MiB\" }\nuntil = { duration = \"1 s\" }",
            "a stamped write begins with a zone",
        ),
        (
            "kind = \"write\"\nstamped = true\nuntil = { bytes = \"5 TB\" }",
            "one pass over its region at most",
        ),
    ] {
        let (code, err) = refused(leg);
        assert_eq!(code, Some(2), "{leg}: {err}");
        assert!(err.contains(said), "{leg}: {err}");
    }
    assert_eq!(refused("kind = \"wipe\"\nby = \"reset-zones\"").0, Some(0));
    assert_eq!(refused("kind = \"read\"\npattern = \"random\"\nuntil = { bytes = \"1 MiB\" }").0, Some(0));
    let plain = bench.dir.path().join("r.toml");
    std::fs::write(&plain, "name = \"r\"\n[[leg]]\nkind = \"wipe\"\nby = \"reset-zones\"").unwrap();
    let out = bench.run(&["haul", plain.to_str().unwrap(), "--on", "sim:corrie-2t"]);
    assert!(String::from_utf8_lossy(&out.stderr).contains("has no zones"), "{out:?}");
}
