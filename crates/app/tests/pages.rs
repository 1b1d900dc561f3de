//! What the program writes for people, from the demo's data: every kind of chart, reports, and the words of each command.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::fmt::Write;
use std::sync::OnceLock;

use common::Bench;

/// The demo's ledger, made once for all tests here.
fn demo() -> &'static Bench {
    static DEMO: OnceLock<Bench> = OnceLock::new();
    DEMO.get_or_init(|| {
        let bench = Bench::new();
        common::put_demo(&bench.dir.path().join("home"));
        bench
    })
}

/// What a command says, with moments in UTC.
fn said(args: &[&str]) -> String {
    let out = demo().command(args).env("TZ", "UTC").output().unwrap();
    let error = String::from_utf8_lossy(&out.stderr);
    assert_eq!(out.status.code(), Some(0), "{args:?}: {error}");
    assert!(error.is_empty(), "{args:?}: {error}");
    String::from_utf8(out.stdout).unwrap()
}

/// One of an element's attributes.
fn attribute<'a>(element: &'a str, name: &str) -> Option<&'a str> {
    element.split_once(&format!(" {name}=\""))?.1.split('"').next()
}

fn number(element: &str, name: &str) -> f64 {
    attribute(element, name).and_then(|v| v.parse().ok()).unwrap_or_else(|| panic!("{name} of {element}"))
}

/// The page in lines: words with their places, lines and areas with both ends and their number of points. Every place must lie on the
/// page.
fn page(svg: &str) -> String {
    let (width, height) = (number(svg, "width"), number(svg, "height"));
    let body = svg.split_once("</style>").unwrap().1;
    let mut out = format!("page {width} x {height}\n");
    let inside = |x: f64, y: f64| (0.0..=width).contains(&x) && (0.0..=height).contains(&y);
    for element in body.split('<').skip(1) {
        if let Some(rest) = element.strip_prefix("text ") {
            let element = format!(" {rest}");
            let (x, y) = (number(&element, "x"), number(&element, "y"));
            let words = element.split_once('>').unwrap().1;
            assert!(inside(x, y), "\"{words}\" stands at {x}, {y} on a page of {width} x {height}");
            let anchor = attribute(&element, "text-anchor").unwrap_or_default();
            writeln!(out, "{x:>5.0} {y:>5.0} {anchor:<6} {words}").unwrap();
        } else if element.starts_with("polyline") || element.starts_with("polygon") {
            let points: Vec<&str> = attribute(element, "points").unwrap().split(' ').collect();
            for point in &points {
                let (x, y) = point.split_once(',').unwrap();
                let (x, y): (f64, f64) = (x.parse().unwrap(), y.parse().unwrap());
                assert!(inside(x, y), "a line goes through {x}, {y} on a page of {width} x {height}");
            }
            let whole = |p: &str| {
                let rounded = p.split(',').map(|v| format!("{:.0}", v.parse::<f64>().unwrap()));
                rounded.collect::<Vec<_>>().join(",")
            };
            let kind = element.split(' ').next().unwrap();
            let (first, last) = (whole(points[0]), whole(points[points.len() - 1]));
            let dash = attribute(element, "stroke-dasharray").map_or("", |_| " dashed");
            writeln!(out, "{kind} {first} to {last}, {} points{dash}", points.len()).unwrap();
        }
    }
    out
}

#[test]
fn every_kind_of_chart_is_as_it_was() {
    let bench = demo();
    let charts: [(&str, &[&str]); 13] = [
        ("lanes", &["a3f1907c", "--kind", "lanes", "--along", "written"]),
        ("lanes_forecast", &["61c0f7a8", "--kind", "lanes", "--along", "written"]),
        ("lanes_of_a_scan", &["6c02be91", "--kind", "lanes"]),
        ("ground", &["6c02be91", "--kind", "ground"]),
        ("fill", &["0be5d3c8", "--kind", "fill"]),
        ("spans", &["f4417a0d", "--kind", "spans"]),
        ("ladder", &["a77c1e52", "--kind", "ladder"]),
        ("knee", &["a77c1e52", "--kind", "knee"]),
        ("streams", &["58ad20c4", "--kind", "streams"]),
        ("proof", &["3391f06b", "--kind", "proof"]),
        ("heat", &["b7752c06", "--kind", "heat"]),
        (
            "contrast",
            &["a3f1907c", "61c0f7a8", "9e4417d2", "5b20d4e8", "0fd2b96c", "d7a835e1", "--kind", "contrast"],
        ),
        ("wear", &["2d64c0b9", "--kind", "wear"]),
    ];
    for (name, args) in charts {
        let file = bench.path(&format!("chart-{name}.svg"));
        let mut all = vec!["chart"];
        all.extend(args);
        all.extend(["-o", &file]);
        said(&all);
        let svg = std::fs::read_to_string(&file).unwrap();
        insta::assert_snapshot!(format!("chart_{name}"), page(&svg));
        // The same scene as PDF.
        let pdf = bench.path(&format!("chart-{name}.pdf"));
        all.pop();
        all.push(&pdf);
        said(&all);
        assert!(std::fs::read(&pdf).unwrap().starts_with(b"%PDF-"), "{name}");
    }
}

#[test]
fn rounds_have_a_chart_and_pages_of_the_report() {
    let bench = Bench::new();
    let haul = bench.json(&["haul", "pts-throughput", "--on", "sim:moraine-1t", "--json"])["haul"]
        .as_str()
        .unwrap()
        .to_owned();
    let (svg, md) = (bench.path("rounds.svg"), bench.path("rounds.md"));
    assert!(bench.run(&["chart", &haul, "--kind", "rounds", "-o", &svg]).status.success());
    let drawn = page(&std::fs::read_to_string(&svg).unwrap()).replace(&haul, "IDENTITY");
    insta::assert_snapshot!("chart_rounds", drawn);
    assert!(bench.run(&["report", &haul, "-o", &md]).status.success());
    let text = std::fs::read_to_string(&md).unwrap();
    // A page for each group: 128 KiB and 1 MiB.
    assert_eq!(text.matches("How each figure settled over the rounds").count(), 2, "{text}");
    assert!(text.contains("Steady in rounds"), "{text}");
}

#[test]
fn experiments_have_a_chart_and_a_page_of_the_report() {
    let bench = Bench::new();
    let drive = bench.path("place.toml");
    let text = "name = \"place\"\nmodel = \"Place P1 2 TB\"\nserial = \"PL-0001\"\ncapacity = \"2 TB\"\nseed = 7\n[flash]\nread = \"3000 MB/s\"\nrecover = \"500 MB/s\"\n\
                [[flash.level]]\nrate = \"1600 MB/s\"\n[[flash.zone]]\nfrom = \"200 GB\"\nto = \"320 GB\"\nfactor = 0.45\n[heat]\nidle_watts = 1.5\nwatts_per_gb_s = 1.1\n\
                [[heat.cooling]]\nname = \"heatsink\"\nresistance = 5.0\ntau = \"120 s\"\n";
    std::fs::write(&drive, text).unwrap();
    let on = format!("sim:{drive}");
    let haul = bench.json(&["haul", "why", "--on", &on, "--json"])["haul"].as_str().unwrap().to_owned();
    let (svg, md) = (bench.path("tried.svg"), bench.path("tried.md"));
    assert!(bench.run(&["chart", &haul, "--kind", "experiments", "-o", &svg]).status.success());
    let drawn = page(&std::fs::read_to_string(&svg).unwrap()).replace(&haul, "IDENTITY");
    insta::assert_snapshot!("chart_experiments", drawn);
    assert!(bench.run(&["report", &haul, "-o", &md]).status.success());
    let text = std::fs::read_to_string(&md).unwrap();
    assert!(text.contains("What was tried to find out why the rate fell"), "{text}");
}

#[test]
fn files_have_a_chart_and_a_report() {
    let bench = Bench::new();
    let args = ["haul", "hand-over", "--on", "sim:skerry-8t", "--from", "sim:corrie-2t", "--json"];
    let haul = bench.json(&args)["haul"].as_str().unwrap().to_owned();
    let (svg, md) = (bench.path("files.svg"), bench.path("files.md"));
    assert!(bench.run(&["chart", &haul, "--kind", "freight", "-o", &svg]).status.success());
    let drawn = page(&std::fs::read_to_string(&svg).unwrap()).replace(&haul, "IDENTITY");
    insta::assert_snapshot!("chart_freight", drawn);
    assert!(bench.run(&["report", &haul, "-o", &md]).status.success());
    let text = std::fs::read_to_string(&md).unwrap();
    assert!(text.contains("What a file takes against its size") && text.contains("bottleneck"), "{text}");
}

#[test]
fn reports_of_every_survey_are_as_they_were() {
    let bench = demo();
    for (name, hauls) in [
        ("long_haul", &["a3f1907c"][..]),
        ("ground", &["6c02be91"]),
        ("spans", &["f4417a0d"]),
        ("fill", &["0be5d3c8"]),
        ("ladder", &["a77c1e52"]),
        ("proof", &["3391f06b"]),
        ("stream", &["58ad20c4"]),
        ("breather", &["94ae12f7"]),
        ("contrast", &["a3f1907c", "61c0f7a8", "9e4417d2", "5b20d4e8", "0fd2b96c", "d7a835e1"]),
    ] {
        let file = bench.path(&format!("{name}.md"));
        let mut args = vec!["report"];
        args.extend(hauls);
        args.extend(["-o", &file]);
        said(&args);
        let text = std::fs::read_to_string(&file).unwrap();
        // Who made it, and when, is today's.
        let lasting: Vec<&str> = text.lines().filter(|l| !l.contains(" · made ")).collect();
        insta::assert_snapshot!(format!("report_{name}"), lasting.join("\n"));
        for picture in
            text.lines().filter_map(|l| l.strip_prefix("![")?.split_once("](")?.1.strip_suffix(')'))
        {
            let svg = std::fs::read_to_string(bench.path(picture)).unwrap();
            assert!(page(&svg).lines().count() > 10, "{picture} of {name} is all but empty");
        }
        let pdf = bench.path(&format!("{name}.pdf"));
        args.pop();
        args.push(&pdf);
        assert!(said(&args).contains(" pages"), "{name}");
    }
}

#[test]
fn the_words_of_each_command_are_as_they_were() {
    for (name, args) in [
        ("ledger", &["ledger"][..]),
        ("ledger_of_a_drive", &["ledger", "--drive", "KW-0118", "throttle"]),
        ("ledger_of_nothing", &["ledger", "no such words"]),
        ("findings", &["findings", "9e4417d2"]),
        ("findings_ground", &["findings", "6c02be91"]),
        ("findings_proof", &["findings", "3391f06b"]),
        ("findings_ladder", &["findings", "a77c1e52"]),
        ("findings_hold", &["findings", "2d64c0b9", "--hold", "620 MB/s", "--buffer", "64 GB"]),
        ("findings_warmer", &["findings", "b7752c06", "--ambient", "38"]),
        ("contrast", &["contrast", "a3f1907c", "61c0f7a8", "9e4417d2", "5b20d4e8", "0fd2b96c", "d7a835e1"]),
        ("contrast_of_two", &["contrast", "a3f1907c", "5b20d4e8"]),
        ("contrast_in_warmer_air", &["contrast", "a3f1907c", "c81e66f2", "--ambient", "38"]),
        ("drive", &["drive", "KW-0417"]),
        ("drive_platters", &["drive", "KW-0806"]),
        ("claims", &["claims", "list"]),
        ("claims_of_a_model", &["claims", "show", "Moraine M1 1 TB"]),
        ("routes", &["route", "list"]),
        ("route", &["route", "show", "high-water"]),
        ("sims", &["sim", "list"]),
        ("sim", &["sim", "show", "gannet-256"]),
        ("leftovers", &["leftovers"]),
        ("live", &["live"]),
    ] {
        insta::assert_snapshot!(format!("words_{name}"), said(args));
    }
}

#[test]
fn every_command_explains_itself() {
    let mut todo: Vec<Vec<String>> = vec![Vec::new()];
    let mut all = String::new();
    while let Some(path) = todo.pop() {
        let mut args: Vec<&str> = path.iter().map(String::as_str).collect();
        args.push("--help");
        let help = said(&args);
        assert!(help.lines().all(|l| l.chars().count() <= 100), "{path:?}: a line is too long\n{help}");
        writeln!(all, "==== {}\n{help}", path.join(" ")).unwrap();
        let commands =
            help.split_once("Commands:").map_or("", |c| c.1.split("\n\n").next().unwrap_or_default());
        // Names stand two blanks in; longer help of a command stands further in.
        let names = commands.lines().filter_map(|l| l.strip_prefix("  ")?.split(' ').next());
        for name in names.filter(|n| !n.is_empty() && *n != "help") {
            todo.push(path.iter().cloned().chain([name.to_owned()]).collect());
        }
    }
    assert!(all.matches("==== ").count() > 30, "{}", all.matches("==== ").count());
    insta::assert_snapshot!("help", all);
}

#[test]
fn telemetry_of_every_route_comes_back_from_csv() {
    let bench = demo();
    for haul in
        ["a3f1907c", "94ae12f7", "6c02be91", "f4417a0d", "0be5d3c8", "a77c1e52", "3391f06b", "58ad20c4"]
    {
        let file = bench.path(&format!("{haul}.csv"));
        said(&["export", haul, "--as", "csv", "-o", &file]);
        let (kept, read) =
            (bench.json(&["findings", haul, "--json"]), bench.json(&["findings", &file, "--json"]));
        for part in ["findings", "figures", "surveys", "limits", "doubts"] {
            let (kept, read) = (&kept[part], &read[part]);
            assert_eq!(kept, read, "{haul}: {part} of the record and of its file");
        }
    }
}
