//! Batches as people see them: the command, its chart, the view; on drives of the demo's fleet.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use common::Bench;
use hollow_mile::demo_fleet;
use hollow_mile::ui::actions::Action;
use hollow_mile::ui::app::App;
use hollow_mile::ui::theme::{Depth, Theme};
use hollow_mile::ui::views;
use hollow_mile_ledger::Ledger;
use hollow_mile_ledger::fleet;
use ratatui::buffer::Buffer;
use ratatui::layout::Rect;

/// Drives of one model, one of them with a cache that is too small, some hauled twice; one of another model.
fn bench() -> Bench {
    let bench = Bench::new();
    let mut ledger = Ledger::open(&bench.dir.path().join("home")).unwrap();
    for number in (0..30).map(|i| i * 3).chain([123, 1]) {
        ledger = demo_fleet::haul(ledger, number % 40, number, 0).unwrap();
        if number % 24 == 0 {
            ledger = demo_fleet::haul(ledger, number % 40, number, 1).unwrap();
        }
    }
    bench
}

fn text(app: &App, width: u16, height: u16) -> String {
    let area = Rect::new(0, 0, width, height);
    let mut buf = Buffer::empty(area);
    views::render(app, area, &mut buf);
    let line = |y| (0..width).map(|x| buf[(x, y)].symbol()).collect::<String>().trim_end().to_owned();
    (0..height).map(|y| line(y) + "\n").collect()
}

#[test]
fn drives_of_a_kind_are_taken_together() {
    let bench = bench();
    let batch = bench.json(&["batch", "--json", "--promise", "sustained >= 500 MB/s"]);
    assert_eq!((batch["drives"].as_array().unwrap().len(), batch["hauls"].as_u64()), (31, Some(35)));
    assert_eq!(batch["left_out"]["other_model"], 1);
    assert_eq!(batch["wanted"]["stands"], "kept");
    let odd = &batch["odd"][0];
    assert_eq!(batch["drives"][odd["drive"].as_u64().unwrap() as usize]["serial"], "KW-1123");
    let effect = &batch["effects"][0];
    assert_eq!((effect["thing"].as_str(), effect["level"].as_str()), (Some("firmware"), Some("1.4.0")));
    let said = bench.run(&["batch", "--promise", "sustained >= 690 MB/s"]);
    let said = String::from_utf8_lossy(&said.stdout).into_owned();
    assert!(said.contains("cannot be promised") && said.contains("A KW-1123: cache"), "{said}");
    let svg = bench.path("batch.svg");
    assert!(bench.run(&["batch", "Corrie", "-o", &svg]).status.success());
    let drawn = std::fs::read_to_string(&svg).unwrap();
    assert!(drawn.contains("not like the others") && drawn.contains("99 % ≥"), "{drawn:.400}");
    let report = bench.path("batch.md");
    let written = bench.run(&["batch", "Corrie", "--report", &report]);
    assert!(written.status.success(), "{}", String::from_utf8_lossy(&written.stderr));
    let text = std::fs::read_to_string(&report).unwrap();
    for part in [
        "Question",
        "Verdict",
        "Figures",
        "Not like the others",
        "KW-1123",
        "What makes a difference",
        "pivotal",
    ] {
        assert!(text.contains(part), "{part} is not in {text}");
    }
    assert!(bench.run(&["batch", "Corrie", "--report", &bench.path("batch-report.pdf")]).status.success());
    assert!(bench.refusal(&["batch", "--report", &bench.path("x.txt")], 2).contains(".html"));
    assert!(bench.refusal(&["batch", "-o", &svg], 2).contains("exists"));
    assert!(bench.run(&["batch", "-o", &bench.path("batch.pdf")]).status.success());
    let ids: Vec<String> = batch["drives"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|d| d["hauls"].as_array().unwrap().iter().map(|h| h.as_str().unwrap().to_owned()))
        .collect();
    let again = bench.path("again.svg");
    let mut chart: Vec<&str> = vec!["chart", "--kind", "batch", "-o", &again];
    chart.extend(ids.iter().map(String::as_str));
    assert!(bench.run(&chart).status.success());
    assert_eq!(std::fs::read_to_string(&again).unwrap(), drawn, "named or found by words, they are the same");
}

#[test]
fn what_makes_no_batch_is_said() {
    let empty = Bench::new();
    assert!(empty.refusal(&["batch"], 2).contains("no haul"));
    let bench = bench();
    assert!(bench.refusal(&["batch", "no-such-word"], 2).contains("no haul has all of these words"));
    assert!(bench.refusal(&["batch", "--promise", "sustained <= 1 MB/s"], 2).contains("the other way"));
    assert!(bench.refusal(&["batch", "--promise", "no throttle"], 2).contains("no promise"));
    assert!(bench.refusal(&["batch", "--good", "5", "--bad", "1"], 2).contains("--good"));
    assert!(bench.refusal(&["batch", "--content", "100"], 2).contains("no share"));
    assert!(bench.refusal(&["batch", "--firmware", "9.9"], 2).contains("no haul"));
    let one = bench.json(&["batch", "KW-1123", "--json"]);
    assert_eq!(one["drives"].as_array().unwrap().len(), 1);
    assert_eq!(one["rows"][0]["promise"]["why"], "one-drive");
}

#[test]
fn a_haul_is_held_to_its_model_and_to_its_sisters() {
    let bench = bench();
    let home = bench.dir.path().join("home");
    let serial = |haul: &serde_json::Value| haul["serial"].as_str().unwrap_or_default().to_owned();
    let listed = bench.json(&["ledger", "--json"]);
    let of = |wanted: &str| -> String {
        let haul = listed.as_array().unwrap().iter().find(|h| serial(h) == wanted).unwrap();
        haul["haul"].as_str().unwrap().to_owned()
    };
    // The last of its model, whose cache is too small: 30 others had been hauled before it.
    let told = bench.json(&["findings", &of("KW-1123"), "--json"]);
    let found = told["findings"].as_array().unwrap().iter().find(|f| f["kind"] == "outlier").unwrap();
    assert_eq!(found["unlike"][0]["figure"], "cache");
    assert!(found["unlike"][0]["deviations"].as_f64().unwrap() < -5.0, "{found}");
    let said = String::from_utf8_lossy(&bench.run(&["findings", &of("KW-1123")]).stdout).into_owned();
    assert!(said.contains("other drives of its model: cache") && said.contains("not like them"), "{said}");
    let told = bench.json(&["findings", &of("KW-1084"), "--json"]);
    assert!(told["findings"].as_array().unwrap().iter().all(|f| f["kind"] != "outlier"), "{told}");

    // What the batch promises is what the next drives have to meet.
    let limits = home.join("limits");
    std::fs::create_dir(&limits).unwrap();
    let file = limits.join("corrie.toml");
    let file_name = file.to_str().unwrap();
    let out = bench.run(&["batch", "Corrie", "--limits", file_name]);
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    assert!(!String::from_utf8_lossy(&out.stdout).contains("once it lies in"));
    assert!(bench.refusal(&["batch", "Corrie", "--limits", file_name], 2).contains("exists"));
    assert!(bench.refusal(&["batch", "--limits", &bench.path("x.txt")], 2).contains(".toml"));
    let all = bench.json(&["limits", "list", "--json"]);
    let written: Vec<&str> =
        all[0]["limits"].as_array().unwrap().iter().map(|l| l.as_str().unwrap()).collect();
    assert!(written.iter().any(|l| l.starts_with("sustained >= ")), "{written:?}");
    assert!(bench.run(&["limits", "check", file_name]).status.success());
    let ledger = Ledger::open(&home).unwrap();
    let before = ledger.hauls().unwrap();
    let after = demo_fleet::haul(ledger, 0, 90, 0).unwrap().hauls().unwrap();
    let new = after.iter().find(|r| before.iter().all(|b| b.haul != r.haul)).unwrap();
    let met = bench.json(&["findings", &new.haul, "--json"])["limits"].clone();
    let verdicts: Vec<&str> =
        met.as_array().unwrap().iter().map(|l| l["verdict"].as_str().unwrap()).collect();
    assert!(verdicts.len() == written.len() && !verdicts.contains(&"missed"), "{met}");
    assert!(met[0]["standing"].as_bool().unwrap());
    // A promise that is not kept: the exit code says so, whatever the route asks.
    let route = bench.path("short.toml");
    std::fs::write(&route, "name = \"short\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"20 GB\" }\n")
        .unwrap();
    let haul = ["haul", &route, "--on", "sim:moraine-1t"];
    assert!(bench.run(&haul).status.success());
    let model = bench.json(&["ledger", "--json"])[0]["model"].as_str().unwrap().to_owned();
    let own = limits.join("own.toml");
    std::fs::write(&own, format!("model = \"{model}\"\nlimits = [\"mean >= 90 GB/s\", \"access <= 1 s\"]\n"))
        .unwrap();
    let out = bench.run(&haul);
    let said = String::from_utf8_lossy(&out.stdout).into_owned();
    assert_eq!(out.status.code(), Some(1), "{said}");
    assert!(said.contains("limit of its model  missed  mean >= 90 GB/s"), "{said}");
    assert!(!said.contains("access <="), "its route does not measure that: {said}");
    // A file that cannot be read may ask what nobody then judges: no haul begins.
    std::fs::write(&own, "model = \"x\"\nlimits = [\"mean > fast\"]\n").unwrap();
    assert!(bench.refusal(&haul, 2).contains("own.toml: line 2"));
    assert!(bench.refusal(&["limits", "check", own.to_str().unwrap()], 2).contains("line 2"));
    assert_eq!(bench.run(&["limits", "list"]).status.code(), Some(2));
}

#[test]
fn pictures_of_a_batch_and_of_benches() {
    let bench = bench();
    let mut app = App::new(bench.dir.path().join("home"), true, Theme::new(Depth::Mono)).unwrap();
    app.show_batch("Corrie");
    app.finish_making();
    insta::assert_snapshot!("batch", text(&app, 160, 47));
    insta::assert_snapshot!("batch_small", text(&app, 100, 30));
    app.act(Action::CursorLeft);
    assert!(text(&app, 160, 47).contains("◆ KW-1"), "the drive under the cursor is named");
    for name in ["batch_table", "batch_reasons"] {
        app.act(Action::OtherPane);
        insta::assert_snapshot!(name, text(&app, 160, 47));
    }
    for (w, h) in [(1, 1), (80, 24), (81, 25), (240, 70), (400, 24), (80, 200)] {
        (0..3).for_each(|_| {
            app.act(Action::OtherPane);
            text(&app, w, h);
        });
    }
    // Who is in no fleet is told how to come into one.
    app.act(Action::GoLedger);
    app.act(Action::GoBenches);
    assert!(app.message().unwrap_or_default().contains("fleet join"), "{:?}", app.message());
    let a_bench = |number, name: &str| fleet::Bench {
        number,
        name: name.into(),
        left: false,
        seen_s: 3.0,
        clock_off_ms: 40,
        program: "0.1.0".into(),
        unsent_hauls: 0,
        trouble: None,
        hauls: 12,
        running: 0,
        written_bytes: 4_400_000_000_000,
    };
    let mut row = Ledger::open(&bench.dir.path().join("home")).unwrap().hauls().unwrap().remove(0);
    row.state = hollow_mile_core::record::HaulState::Running;
    row.conditions.tags.push(("bench".into(), "south".into()));
    let benches = vec![
        a_bench(1, "north"),
        fleet::Bench { running: 4, ..a_bench(2, "south") },
        fleet::Bench { clock_off_ms: 90_000, unsent_hauls: 3, ..a_bench(3, "west") },
    ];
    let minutes = |n: u64| Some(std::time::Duration::from_secs(n * 60));
    let mut others: Vec<_> = (0..3)
        .map(|i| {
            let mut other = row.clone();
            (other.haul, other.serial) = (format!("0000000{i}"), format!("KW-200{i}"));
            other.elapsed = minutes(2 * i + 1).unwrap();
            other
        })
        .collect();
    others.push(row);
    // Of one nobody knows how long it takes.
    let whole = |haul: &str| if haul == "00000002" { None } else { minutes(10) };
    app.benches.are(Ok(benches.clone()), &others, whole);
    app.screen = hollow_mile::ui::actions::Screen::Benches;
    app.act(Action::Down);
    insta::assert_snapshot!("benches", text(&app, 120, 24));
}

#[test]
fn hauls_go_out_as_tables_by_model_and_month_and_only_once() {
    let bench = bench();
    let lake = bench.path("lake");
    let first = bench.json(&["fleet", "export", &lake, "Corrie", "--json"]);
    assert_eq!((first["written"].as_u64(), first["there"].as_u64()), (Some(35), Some(0)));
    let all = bench.json(&["fleet", "export", &lake, "--json"]);
    assert_eq!((all["written"].as_u64(), all["there"].as_u64()), (Some(1), Some(35)));
    let mut files = Vec::new();
    let mut folders = vec![std::path::PathBuf::from(&lake)];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).unwrap().flatten() {
            if entry.path().is_dir() { folders.push(entry.path()) } else { files.push(entry.path()) }
        }
    }
    assert_eq!(files.len(), 36 * 4);
    let names: Vec<String> = files.iter().map(|f| f.display().to_string()).collect();
    assert!(names.iter().any(|n| n.contains("figures/model=Corrie_C1_1_TB/month=2026-07/")), "{names:?}");
    for file in files.iter().filter(|f| f.display().to_string().contains("samples")) {
        use parquet::file::reader::{FileReader, SerializedFileReader};
        let reader = SerializedFileReader::new(std::fs::File::open(file).unwrap()).unwrap();
        let about = reader.metadata().file_metadata();
        let columns: Vec<&str> = about.schema().get_fields().iter().map(|f| f.name()).collect();
        assert_eq!(columns[..6], ["haul", "bench", "serial", "firmware", "route", "started_unix_ms"]);
        assert!(about.num_rows() > 100, "{}", file.display());
    }
    engines_read(&bench, &lake);
}

/// What DuckDB and pandas read of it is what was exported.
fn engines_read(bench: &Bench, lake: &str) {
    let target = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/engines/bin/python");
    let python = std::env::var_os("HOLLOW_MILE_ENGINES").map_or(target, Into::into);
    if !python.exists() {
        return println!("left out: scripts/test could not fetch DuckDB and pandas");
    }
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/engines.py");
    let out = std::process::Command::new(python).args([script, lake]).output().unwrap();
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let told: serde_json::Value = serde_json::from_slice(&out.stdout).unwrap();
    let ledger = Ledger::open(&bench.dir.path().join("home")).unwrap();
    let rows = ledger.hauls().unwrap();
    let samples: u64 = rows.iter().map(|r| r.samples).sum();
    let sustained: Vec<f64> = rows
        .iter()
        .flat_map(|r| ledger.digest(&r.haul).unwrap().figures)
        .filter(|f| f.name.name() == "sustained")
        .map(|f| f.value)
        .collect();
    let mean = sustained.iter().sum::<f64>() / sustained.len() as f64;
    for engine in ["duckdb", "pandas"] {
        assert_eq!(told["samples"][engine], serde_json::json!([samples, 36, 2]), "{told}");
        for table in ["figures", "findings", "health"] {
            assert_eq!(told[table][engine][1], 36, "{table} of {engine}: {told}");
        }
        let read = told["sustained"][engine].as_f64().unwrap();
        assert!((read / mean - 1.0).abs() < 1e-9, "{engine}: {read}, {mean}");
    }
}
