//! The archive as scripts see it: contrasts, charts, reports, exports, names and deletion, damaged ledgers, live figures.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::io::{BufRead, BufReader, Read, Write};
use std::path::Path;
use std::process::Stdio;

use common::{Bench, Terminal};
use serde_json::Value;

/// Three hauls bare and three with a fan on a drive that throttles, with a route that ends soon.
fn two_coolers() -> (Bench, Vec<String>) {
    let bench = Bench::new();
    let route = bench.path("warm.toml");
    std::fs::write(
        &route,
        "name = \"warm\"\nabout = \"Heat under a long write\"\nlimits = [\"burst >= 4000 MB/s\", \"no throttle\"]\n\
         [[leg]]\nkind = \"write\"\nblock = \"1 MiB\"\nuntil = { bytes = \"500 GB\" }\n[[leg]]\nkind = \"rest\"\nuntil = { duration = \"1 min\" }\n",
    )
    .unwrap();
    let mut hauls = Vec::new();
    for cooling in ["bare", "fan"] {
        let args = [
            "haul",
            &route,
            "--on",
            "sim:moraine-1t",
            "--ambient",
            "24",
            "--cooling",
            cooling,
            "--repeat",
            "3",
        ];
        let out = bench.run(&args);
        assert!(matches!(out.status.code(), Some(0 | 1)), "{}", String::from_utf8_lossy(&out.stderr));
        let listed = bench.json(&["ledger", "--json"]);
        let new: Vec<String> = listed
            .as_array()
            .unwrap()
            .iter()
            .map(|h| h["haul"].as_str().unwrap().to_owned())
            .filter(|h| !hauls.contains(h))
            .collect();
        hauls.extend(new);
    }
    assert_eq!(hauls.len(), 6);
    (bench, hauls)
}

fn with<'a>(before: &[&'a str], hauls: &'a [String], after: &[&'a str]) -> Vec<&'a str> {
    let mut all = before.to_vec();
    all.extend(hauls.iter().map(String::as_str));
    all.extend(after);
    all
}

fn row<'a>(contrast: &'a Value, name: &str) -> &'a Value {
    contrast["figures"].as_array().unwrap().iter().find(|r| r["name"] == name).unwrap()
}

#[test]
fn a_cooler_is_told_from_none_beyond_the_noise() {
    let (bench, hauls) = two_coolers();
    let c = bench.json(&with(&["contrast"], &hauls, &["--json"]));
    assert_eq!(c["sides"].as_array().unwrap().len(), 2);
    assert_eq!(c["sides"][0]["name"], "cooling bare");
    let rise = row(&c, "rise above ambient");
    assert_eq!(
        (rise["unit"].as_str(), rise["against"][0]["standing"].as_str()),
        (Some("K"), Some("differs"))
    );
    assert!(rise["against"][0]["difference"].as_f64().unwrap() < -20.0, "{rise}");
    assert_eq!(row(&c, "cache")["against"][0]["standing"], "same");
    let differs: Vec<&str> =
        c["differs"].as_array().unwrap().iter().map(|d| d["name"].as_str().unwrap()).collect();
    assert_eq!(differs, ["cooling"]);
    assert!(
        c["answer"][0].as_str().unwrap().contains("beyond the noise of 3 and 3 repeats"),
        "{}",
        c["answer"]
    );
    // Brought to a warmer room, one to one.
    let c = bench.json(&with(&["contrast"], &hauls, &["--ambient", "34", "--json"]));
    let here = row(&c, "hottest")["sides"][0]["mean"].as_f64().unwrap();
    let there = row(&c, "hottest, in air of 34 °C")["sides"][0]["mean"].as_f64().unwrap();
    assert!((there - here - 10.0).abs() < 1e-9, "{here} {there}");
    // Each by itself, and by what is the same in all.
    assert_eq!(
        bench.json(&with(&["contrast"], &hauls, &["--by", "haul", "--json"]))["sides"]
            .as_array()
            .unwrap()
            .len(),
        6
    );
    let error = bench.refusal(&with(&["contrast"], &hauls, &["--by", "slot"]), 2);
    assert!(error.contains("\"slot\" is the same in all"), "{error}");
    // Tags given later set sides apart too.
    for (i, haul) in hauls.iter().enumerate() {
        let tag = format!("bench={}", i % 2);
        bench.json(&["annotate", haul, "--tag", &tag, "--json"]);
    }
    let by = bench.json(&with(&["contrast"], &hauls, &["--by", "bench", "--json"]));
    assert_eq!(by["sides"].as_array().unwrap().len(), 2);
    assert!(
        by["warnings"].as_array().unwrap().iter().any(|w| w.as_str().unwrap().contains("not alike")),
        "{by}"
    );
}

#[test]
fn charts_and_reports_are_files_that_open() {
    let (bench, hauls) = two_coolers();
    for (kind, chosen) in [("lanes", 1), ("heat", 1), ("wear", 1), ("contrast", 6)] {
        for ending in ["svg", "pdf"] {
            let file = bench.path(&format!("{kind}.{ending}"));
            let told =
                bench.json(&with(&["chart"], &hauls[..chosen], &["--kind", kind, "-o", &file, "--json"]));
            let bytes = std::fs::read(&file).unwrap();
            assert_eq!(told["bytes"], bytes.len());
            assert!(bytes.len() < 500_000, "{kind}.{ending}: {}", bytes.len());
            if ending == "pdf" {
                assert!(bytes.starts_with(b"%PDF-") && bytes.windows(5).any(|w| w == b"%%EOF"), "{kind}");
            } else {
                let ok = std::process::Command::new("xmllint").args(["--noout", &file]).status().unwrap();
                assert!(ok.success(), "{kind}.svg is no XML");
            }
        }
    }
    // A kind that the haul has nothing of says what haul would have it.
    let error = bench.refusal(&["chart", &hauls[0], "--kind", "ground", "-o", &bench.path("g.svg")], 2);
    assert!(error.contains("has no scan") && error.contains("haul ground"), "{error}");
    // A file that exists is left alone; a folder that cannot be written is told.
    let lanes = bench.path("lanes.pdf");
    let error = bench.refusal(&["chart", &hauls[0], "-o", &lanes], 2);
    assert!(error.contains("exists") && error.contains("--force"), "{error}");
    let error = bench.refusal(&["chart", &hauls[0], "-o", "/proc/nowhere/x.pdf"], 2);
    assert!(error.contains("/proc/nowhere/x.pdf cannot be written"), "{error}");
    let error = bench.refusal(&["report", &hauls[0], "-o", &bench.path("r.docx")], 2);
    assert!(error.contains(".pdf, .html or .md"), "{error}");
    for (name, chosen) in [("one", 1), ("many", 6)] {
        let told = bench.json(&with(
            &["report"],
            &hauls[..chosen],
            &["-o", &bench.path(&format!("{name}.pdf")), "--json"],
        ));
        let pages = told["pages"].as_u64().unwrap();
        assert!((2..=4).contains(&pages), "{name}: {pages} pages");
        let md = bench.path(&format!("{name}.md"));
        let args =
            with(&["report"], &hauls[..chosen], &["--question", "Does a fan help?", "-o", &md, "--json"]);
        let told = bench.json(&args);
        let text = std::fs::read_to_string(&md).unwrap();
        for part in ["## Question", "Does a fan help?", "## Verdict", "## Figures", "## Method"] {
            assert!(text.contains(part), "{part} is not in {name}.md");
        }
        for file in told["files"].as_array().unwrap() {
            assert!(Path::new(file.as_str().unwrap()).exists());
        }
    }
    // One file, whose picture tells a pointer what was measured.
    let html = bench.path("one.html");
    bench.run(&["report", &hauls[0], "-o", &html]);
    let html = std::fs::read_to_string(html).unwrap();
    assert!(html.contains("<svg") && html.contains("<h2>Verdict</h2>") && !html.contains("src="));
    let told = html.split("class=\"spot\"").nth(3).unwrap();
    assert!(told.split("</title>").next().unwrap().contains("MB/s"), "{told:.300}");
    let text = std::fs::read_to_string(bench.path("one.md")).unwrap();
    for part in ["Moraine M1 leaflet", "write, burst", "| no throttle | route | missed", "of the 600 TB"] {
        assert!(text.contains(part), "{part} is not in the report:\n{text}");
    }
}

#[test]
fn exports_carry_every_sample_and_come_back() {
    let (bench, hauls) = two_coolers();
    let haul = &hauls[0];
    let samples = bench.json(&["export", haul, "--as", "json"]);
    let rows = samples["samples"].as_array().unwrap();
    let listed = bench.json(&["ledger", "--json"]);
    let own = listed.as_array().unwrap().iter().find(|h| h["haul"] == **haul).unwrap();
    assert_eq!(rows.len() as u64, own["samples"].as_u64().unwrap());
    assert_eq!(rows.last().unwrap()["written_bytes"], own["written_bytes"]);
    // CSV into another ledger and out again is the same file but for who it is.
    let (first, second) = (bench.path("a.csv"), bench.path("b.csv"));
    assert!(bench.run(&["export", haul, "-o", &first]).status.success());
    let other = Bench::new();
    let imported = other.json(&["import", &first, "--json"]);
    let id = imported["haul"].as_str().unwrap();
    assert!(other.run(&["export", id, "-o", &second]).status.success());
    let body = |path: &str| -> Vec<String> {
        let text = std::fs::read_to_string(path).unwrap();
        text.lines().filter(|l| !l.starts_with('#')).map(str::to_owned).collect()
    };
    assert_eq!(body(&first), body(&second));
    let again = |b: &Bench, h: &str| b.json(&["findings", h, "--json"])["findings"].clone();
    assert_eq!(again(&bench, haul), again(&other, id));
    // Parquet, read back column by column.
    let file = bench.path("x.parquet");
    assert!(bench.run(&["export", haul, "--as", "parquet", "-o", &file]).status.success());
    let reader = {
        use parquet::file::reader::{FileReader, SerializedFileReader};
        let reader = SerializedFileReader::new(std::fs::File::open(&file).unwrap()).unwrap();
        let about = reader.metadata().file_metadata().key_value_metadata().unwrap();
        assert!(about.iter().any(|kv| kv.key == "serial" && kv.value.as_deref() == Some("KW-0118")));
        let cell = |r: &parquet::record::Row, name: &str| {
            let found = r.get_column_iter().find(|(n, _)| *n == name).map(|(_, f)| f.to_string());
            found.unwrap().trim_matches('"').replace("null", "")
        };
        // What the CSV says of each row beside its counters.
        let text = std::fs::read_to_string(&first).unwrap();
        let head: Vec<&str> = text.lines().find(|l| l.starts_with("elapsed_s")).unwrap().split(',').collect();
        let rows = reader.get_row_iter(None).unwrap().map(Result::unwrap);
        for (row, line) in rows.zip(text.lines().filter(|l| l.starts_with(|c: char| c.is_ascii_digit()))) {
            let fields: Vec<&str> = line.split(',').collect();
            for name in ["leg_kind", "thermal_transitions", "host_busy_percent"] {
                let said = fields[head.iter().position(|h| *h == name).unwrap()];
                let (a, b) = (cell(&row, name), said.to_owned());
                let same = a.parse::<f64>().ok().zip(b.parse::<f64>().ok()).map_or(a == b, |(a, b)| a == b);
                assert!(same, "{name}: {a} and {b}");
            }
        }
        let written = |r: parquet::record::Row| cell(&r, "written_bytes");
        reader.get_row_iter(None).unwrap().map(|r| written(r.unwrap())).collect::<Vec<_>>()
    };
    assert_eq!(reader.len(), rows.len());
    assert_eq!(*reader.last().unwrap(), own["written_bytes"].to_string());
    for of in ["findings", "figures", "latencies"] {
        let csv = bench.run(&["export", haul, "--as", "csv", "--of", of]);
        let json = bench.json(&["export", haul, "--as", "json", "--of", of]);
        let lines = String::from_utf8(csv.stdout).unwrap().lines().count();
        assert_eq!(lines, json[of].as_array().unwrap().len() + 1, "{of}");
    }
}

#[test]
fn names_tags_notes_deletion_and_the_drives_file() {
    let (bench, hauls) = two_coolers();
    let told = bench.json(&[
        "annotate",
        &hauls[0],
        "--label",
        "first",
        "--tag",
        "bay=2",
        "--note",
        "loose screw",
        "--json",
    ]);
    assert_eq!((told["label"].as_str(), told["tags"][0].as_str()), (Some("first"), Some("bay=2")));
    assert_eq!(bench.json(&["ledger", "bay=2", "screw", "--json"]).as_array().unwrap().len(), 1);
    let error = bench.refusal(&["annotate", &hauls[0], "--untag", "nope"], 2);
    assert!(error.contains("has no tag"), "{error}");
    bench.json(&["delete", &hauls[0], &hauls[1], "--json"]);
    assert_eq!(bench.json(&["ledger", "--json"]).as_array().unwrap().len(), 4);
    assert_eq!(bench.json(&["ledger", "--deleted", "--json"]).as_array().unwrap().len(), 2);
    bench.json(&["restore", &hauls[0], "--json"]);
    assert_eq!(bench.json(&["ledger", "bay=2", "--json"]).as_array().unwrap().len(), 1);
    bench.json(&["delete", &hauls[2], "--for-good", "--json"]);
    assert!(bench.refusal(&["restore", &hauls[1]], 2).contains("--deleted"));
    let file = bench.json(&["drive", "kw-0118", "--json"]);
    assert_eq!(file["hauls"].as_array().unwrap().len(), 4);
    assert_eq!(file["treated"]["written_bytes"], 4 * 500_000_000_000u64);
    assert_eq!(file["endurance_bytes"], 600_000_000_000_000u64);
    // Wear goes on from haul to haul; within minutes nothing is projected.
    assert!(file["cannot_project"].as_str().unwrap().contains("not enough history"), "{file}");
    assert!(bench.refusal(&["drive", "KW-9999"], 2).contains("no haul is of a drive"));
}

#[test]
fn claims_with_a_wrong_unit_are_told_and_ones_own_come_first() {
    let bench = Bench::new();
    let file = bench.path("bad.toml");
    std::fs::write(&file, "model = \"X\"\nwrite = \"3300 GB\"\n").unwrap();
    let error = bench.refusal(&["claims", "check", &file], 2);
    assert!(error.contains("bad.toml: line 2") && error.contains("3300 GB"), "{error}");
    let folder = bench.dir.path().join("home/claims");
    std::fs::create_dir_all(&folder).unwrap();
    std::fs::write(
        folder.join("own.toml"),
        "model = \"Moraine M1 1 TB\"\nwrite = \"4 GB/s\"\nendurance = \"100 TB\"\n",
    )
    .unwrap();
    std::fs::write(folder.join("broken.toml"), "model = 7\n").unwrap();
    let list = bench.run(&["claims", "list"]);
    assert!(String::from_utf8_lossy(&list.stderr).contains("broken.toml"));
    assert_eq!(bench.json(&["claims", "show", "moraine m1 1tb", "--json"])["write"], "4000 MB/s");
}

#[test]
fn a_damaged_ledger_is_told_and_rescued() {
    let (bench, _) = two_coolers();
    let path = bench.dir.path().join("home/ledger.sqlite");
    let whole = bench.run(&["ledger", "--rescue"]);
    assert!(String::from_utf8_lossy(&whole.stdout).contains("is whole"));
    // The middle of a record, and then the head of the file.
    let mut bytes = std::fs::read(&path).unwrap();
    let middle = bytes.len() / 2 / 4096 * 4096;
    bytes[middle..middle + 4096].fill(0xA5);
    std::fs::write(&path, &bytes).unwrap();
    let told = bench.json(&["ledger", "--rescue", "--json"]);
    if told["damaged"] == true {
        assert_eq!(told["hauls"], 6, "{told}");
        assert!(Path::new(told["aside"].as_str().unwrap()).exists());
    }
    assert_eq!(bench.json(&["ledger", "--json"]).as_array().unwrap().len(), 6);
    bytes[..100].fill(0);
    std::fs::write(&path, &bytes).unwrap();
    let _ = std::fs::remove_file(path.with_extension("sqlite-wal"));
    let error = bench.refusal(&["ledger"], 6);
    assert!(error.contains("damaged") && error.contains("--rescue"), "{error}");
}

#[test]
fn live_figures_are_served_while_hauling() {
    let bench = Bench::new();
    let route = bench.path("slow.toml");
    std::fs::write(
        &route,
        "name = \"slow\"\n[[leg]]\nkind = \"write\"\nrate = \"20 MB/s\"\nuntil = { duration = \"2 min\" }\n",
    )
    .unwrap();
    let target = format!("file:{}", bench.path("drive.bin"));
    let mut child = bench
        .command(&["haul", &route, "--on", &target, "--size", "64MiB", "--metrics", "0"])
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = BufReader::new(child.stderr.take().unwrap()).lines();
    let line = lines.by_ref().map(Result::unwrap).find(|l| l.contains("live figures")).unwrap();
    let address = line.split("http://").nth(1).unwrap().split('/').next().unwrap().to_owned();
    assert!(address.starts_with("127.0.0.1:"), "{address}");
    let ask = || {
        let mut stream = std::net::TcpStream::connect(&address).unwrap();
        stream.write_all(b"GET /metrics HTTP/1.1\r\nHost: x\r\n\r\n").unwrap();
        let mut text = String::new();
        stream.read_to_string(&mut text).unwrap();
        text
    };
    let written = |text: &str| -> Option<f64> {
        text.lines()
            .find(|l| l.starts_with("hollow_mile_written_bytes_total{"))?
            .rsplit(' ')
            .next()?
            .parse()
            .ok()
    };
    let mut seen = Vec::new();
    common::wait_until("bytes in the figures", || {
        let text = ask();
        assert!(text.starts_with("HTTP/1.1 200") && text.ends_with("# EOF\n"), "{text}");
        seen.extend(written(&text));
        seen.last().is_some_and(|w| *w > 1e6) && seen.len() > 3
    });
    assert!(seen.windows(2).all(|w| w[1] >= w[0]), "{seen:?}");
    assert!(ask().contains("route=\"slow\""));
    rustix::process::kill_process(rustix::process::Pid::from_child(&child), rustix::process::Signal::INT)
        .unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(5));
    let error = bench.refusal(&["haul", &route, "--on", "sim:corrie-2t", "--metrics", "everywhere"], 2);
    assert!(error.contains("no address"), "{error}");
}

#[test]
fn completions_and_the_man_page_come_from_the_definition() {
    let bench = Bench::new();
    for shell in ["bash", "zsh", "fish", "elvish", "powershell"] {
        let out = bench.run(&["completions", shell]);
        let text = String::from_utf8(out.stdout).unwrap();
        assert!(out.status.success() && text.contains("contrast") && text.contains("hollow-mile"), "{shell}");
    }
    let bash = bench.path("complete.bash");
    std::fs::write(&bash, bench.run(&["completions", "bash"]).stdout).unwrap();
    assert!(std::process::Command::new("bash").args(["-n", &bash]).status().unwrap().success());
    let man = String::from_utf8(bench.run(&["man"]).stdout).unwrap();
    assert!(
        man.contains(".TH hollow\\-mile") || man.contains(".TH hollow-mile"),
        "{}",
        &man[..200.min(man.len())]
    );
    assert!(bench.run(&["man", &bench.path("man")]).status.success());
    assert!(Path::new(&bench.path("man/hollow-mile-contrast.1")).exists());
}

#[test]
fn names_from_files_cannot_command_the_terminal() {
    let bench = Bench::new();
    let file = bench.path("odd.csv");
    let rows: String = (1..200).map(|i| format!("{i},{}\n", i * 300_000_000u64)).collect();
    let head =
        "# model=Evil\u{1b}[2J\u{7}\u{202e}\n# serial=\u{1b}]0;x\u{7}\nelapsed_s,written_bytes,od\u{1b}d\n";
    std::fs::write(&file, format!("{head}{}", rows.replace('\n', ",\n"))).unwrap();
    let imported = bench.run(&["import", &file]);
    assert!(imported.status.success(), "{}", String::from_utf8_lossy(&imported.stderr));
    bench.run(&["annotate", "last", "--label", "a\u{1b}[31mb"]);
    let pdf = bench.path("odd.pdf");
    // It is kept as it is, and shown otherwise.
    let kept = bench.json(&["ledger", "--json"]);
    assert!(kept[0]["label"].as_str().unwrap().contains('\u{1b}'));
    for args in [
        vec!["annotate", "last"],
        vec!["ledger"],
        vec!["findings", "last"],
        vec!["drive", "evil"],
        vec!["export", "last", "--as", "json", "--of", "figures"],
        vec!["chart", "last", "-o", &pdf],
        vec!["contrast", "last", "\u{1b}[2J"],
    ] {
        let out = bench.run(&args);
        let all = [out.stdout, out.stderr, imported.stdout.clone(), imported.stderr.clone()].concat();
        let text = String::from_utf8_lossy(&all);
        assert!(!all.contains(&0x1b) && !all.contains(&7) && !text.contains('\u{202e}'), "{args:?}: {text}");
    }
    // Nor in the interface, whose terminal answers for itself.
    let t = Terminal::start(&bench, "", 140, 40);
    t.keys(&["L"]);
    let screen = t.sees("1 haul");
    assert!(screen.contains("]0;x") && !screen.contains('\u{202e}'), "{screen}");
}

#[test]
fn every_file_is_its_users_alone() {
    use std::os::unix::fs::PermissionsExt;
    let bench = Bench::new();
    bench.json(&["haul", "long-haul", "--on", "sim:corrie-2t", "--json"]);
    for (kind, name) in [("csv", "a.csv"), ("json", "a.json"), ("parquet", "a.parquet")] {
        assert!(bench.run(&["export", "last", "--as", kind, "-o", name]).status.success());
    }
    assert!(bench.run(&["chart", "last", "--kind", "lanes", "-o", "a.svg"]).status.success());
    assert!(bench.run(&["report", "last", "-o", "a.pdf"]).status.success());
    assert!(bench.run(&["report", "last", "-o", "a.md"]).status.success());
    let mut folders = vec![bench.dir.path().to_owned()];
    let mut seen = 0;
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            let meta = entry.metadata().unwrap();
            seen += 1;
            let mode = meta.permissions().mode() & 0o777;
            assert_eq!(mode & 0o077, 0, "{} is {mode:o}", entry.path().display());
            if meta.is_dir() {
                folders.push(entry.path());
            }
        }
    }
    assert!(seen >= 9, "{seen} files");
}

#[test]
fn what_others_waited_is_told_limited_exported_and_comes_back() {
    let bench = Bench::new();
    let route = bench.path("look.toml");
    let text = "name = \"look\"\nlimits = [\"lookout p99 <= 1 ms\", \"lookout p99 at rest <= 1 ms\"]\n\
                [[leg]]\nkind = \"rest\"\nlookout = \"10 ms\"\nuntil = { duration = \"20 s\" }\n\
                [[leg]]\nkind = \"write\"\nlookout = \"10 ms\"\nuntil = { bytes = \"500 GB\" }\n";
    std::fs::write(&route, text).unwrap();
    let done = bench.run(&["haul", &route, "--on", "sim:moraine-1t", "--json"]);
    assert_eq!(done.status.code(), Some(1), "a limit is missed");
    let told: serde_json::Value = serde_json::from_slice(&done.stdout).unwrap();
    let verdicts: Vec<&str> =
        told["limits"].as_array().unwrap().iter().map(|l| l["verdict"].as_str().unwrap()).collect();
    assert_eq!(verdicts, ["missed", "met"], "{}", told["limits"]);
    let waits = &told["surveys"]["lookout"];
    assert_eq!(waits["at_rest"]["reads"], 2000);
    let kept = told["findings"].as_array().unwrap().iter().find(|f| f["kind"] == "kept-waiting").unwrap();
    assert!(kept["evidence"].to_string().contains("Past the end of the cache"), "{kept}");
    let chart = bench.path("look.svg");
    assert!(bench.run(&["chart", "last", "-o", &chart]).status.success());
    let drawn = std::fs::read_to_string(&chart).unwrap();
    assert!(drawn.contains("others wait, ms") && drawn.contains("p99.9"), "a lane of what others wait");
    // Every read that was told is in the export, and the record comes back with all of them.
    let rows = bench.json(&["export", "last", "--as", "json", "--of", "latencies"]);
    let reads: u64 = rows["latencies"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r["whose"] == "lookout")
        .map(|r| r["operations"].as_u64().unwrap())
        .sum();
    assert_eq!(reads, 2000 + waits["under_load"]["reads"].as_u64().unwrap());
    let csv = bench.path("look.csv");
    assert!(bench.run(&["export", "last", "-o", &csv]).status.success());
    let other = Bench::new();
    other.json(&["import", &csv, "--json"]);
    let again = other.json(&["findings", "last", "--json"]);
    assert_eq!((&again["surveys"]["lookout"], &again["findings"]), (waits, &told["findings"]));
}
