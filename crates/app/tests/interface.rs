//! The interface as its users see it, in a real terminal.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use common::{Bench, Loop, Terminal, exists, wait_until};

#[test]
fn a_terminal_that_hangs_up_in_the_middle_of_a_key_leaves_no_process_behind() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "", 100, 30);
    t.sees("Yard");
    let ours = || {
        let here = format!("HOLLOW_MILE_HOME={}", bench.dir.path().join("home").display());
        let all = std::fs::read_dir("/proc").unwrap().flatten();
        let of = |p: std::path::PathBuf| {
            let name = std::fs::read_to_string(p.join("comm")).unwrap_or_default();
            let env = std::fs::read(p.join("environ")).unwrap_or_default();
            name.trim() == "hollow-mile" && env.split(|b| *b == 0).any(|v| v == here.as_bytes())
        };
        all.filter(|e| of(e.path())).count()
    };
    assert!(ours() > 0, "it runs");
    // The beginning of an arrow key, and no more.
    t.bytes(&["1b", "5b"]);
    std::thread::sleep(std::time::Duration::from_millis(300));
    drop(t);
    wait_until("it is gone", || ours() == 0);
}

#[test]
fn from_the_yard_to_a_named_cache_end_and_back_from_the_ledger() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "demo", 160, 47);
    t.sees("KW-0417");
    // A route for the second drive, with a label typed in.
    t.keys(&["j", "Enter"]);
    t.sees("of this route on this drive");
    t.keys(&["Tab", "j", "j", "j", "Enter"]);
    t.text("keel survey 7");
    t.keys(&["Enter"]);
    t.sees("keel survey 7");
    t.starts();
    t.sees("leg 1 of 2, write");
    t.keys(&["n"]);
    t.sees("note for the record");
    t.text("fan on");
    t.keys(&["Enter", ">", ">"]);
    let live = t.sees("The cache ended at 312.");
    assert!(live.contains("cache-end  312.") && live.contains("elapsed, h:mm"), "{live}");
    t.sees("\"fan on\"");
    t.keys(&["r"]);
    t.sees("written, GB");
    t.keys(&["r"]);
    t.sees("position on the drive");
    t.keys(&["Space"]);
    t.sees("stands");
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("Stopped after");
    // The frame that first says so may still show what was concluded a moment before.
    std::thread::sleep(std::time::Duration::from_secs(2));
    let stopped = t.screen();
    let line = stopped.lines().find(|l| l.contains("The cache ended at")).unwrap().trim().to_owned();
    // The same haul from the ledger says the same.
    t.keys(&["L"]);
    t.sees("21 hauls");
    t.keys(&["/"]);
    t.text("keel survey 7");
    t.keys(&["Enter"]);
    t.sees("1 of 21 hauls");
    t.keys(&["Escape", "g", "Enter"]);
    // The glance in the ledger has the same words, broken elsewhere.
    t.sees(&line);
    t.keys(&["q"]);
    t.sees("left with 0");
    drop(t);

    let t = Terminal::start(&bench, "demo", 120, 36);
    t.sees("Nothing is hauling");
    t.keys(&["L"]);
    t.sees("21 hauls");
    t.keys(&["Enter"]);
    let reopened = t.sees("The cache ended at");
    let answer = line.split(" MB/s since").next().unwrap();
    assert!(reopened.contains(answer), "{answer}\n{reopened}");
    t.keys(&["r", "x"]);
    t.sees("Chart written:");
    let svg = std::fs::read_dir(bench.dir.path())
        .unwrap()
        .flatten()
        .map(|e| e.path())
        .find(|p| p.extension().is_some_and(|e| e == "svg"))
        .expect("a chart in the present folder");
    assert!(std::fs::read_to_string(svg).unwrap().contains("cache-end at 312."));
    t.keys(&[":"]);
    t.text("ledger");
    t.keys(&["Enter"]);
    t.sees("newest first");
    // The user's own ledger was never touched.
    assert!(!exists(&bench.path("home/ledger.sqlite")));
}

#[test]
fn hauls_are_tagged_deleted_put_back_and_set_side_by_side() {
    let bench = Bench::new();
    common::put_demo(&bench.dir.path().join("home/demo"));
    let t = Terminal::start(&bench, "demo", 160, 47);
    t.sees("KW-0417");
    t.keys(&["L"]);
    t.sees("20 hauls, newest first");
    t.keys(&["G", "#"]);
    t.sees("tags of this haul");
    t.text("bay=2, run=bare");
    t.keys(&["Enter"]);
    t.sees("bay=2, run");
    t.keys(&["N"]);
    t.sees("name of this haul");
    t.text(" again");
    t.keys(&["Enter"]);
    t.sees("as delivered again");
    t.keys(&["D"]);
    // It is named before it goes.
    t.sees("Delete this haul?");
    t.sees("KW-0118  long-haul  as delivered again");
    t.keys(&["y"]);
    t.sees("1 haul deleted: u puts it back");
    t.sees("19 hauls");
    t.keys(&["u"]);
    t.sees("20 hauls");
    t.keys(&["G", "m", "k", "m", "c"]);
    let contrast = t.sees("cooling fan");
    assert!(
        contrast.contains("heat throttled at 210.8 GB") || contrast.contains("heat did not throttle"),
        "{contrast}"
    );
    t.keys(&["a"]);
    t.sees("air temperature");
    t.text("38 C");
    t.keys(&["Enter"]);
    t.sees("hottest, in air of 38 °C");
    t.keys(&["x"]);
    t.sees("Chart written");
    assert!(exists(&bench.path("contrast.svg")));
    t.keys(&["p"]);
    t.sees("Report written");
    assert!(exists(&bench.path("contrast-report.pdf")));
    t.keys(&["L", "d"]);
    t.sees("of its rated life is used");
    t.keys(&["q"]);
    t.sees("left with 0");
}

#[test]
fn every_size_is_drawn_and_a_small_one_says_what_it_needs() {
    let bench = Bench::new();
    common::put_demo(&bench.dir.path().join("home/demo"));
    let t = Terminal::start(&bench, "demo", 100, 30);
    t.sees("KW-0806");
    t.resize(60, 15);
    t.sees("needs 80 columns");
    t.resize(240, 70);
    t.sees("link carries");
    for key in ["Enter", "?", "Escape", "L", "Enter", "?"] {
        t.keys(&[key]);
        for (w, h) in [(80, 24), (100, 30), (20, 5), (160, 47)] {
            t.resize(w, h);
            std::thread::sleep(std::time::Duration::from_millis(60));
        }
    }
    t.sees("What happens on the drive");
    t.keys(&["Escape", "q"]);
    t.sees("left with 0");
}

#[test]
fn a_file_that_a_kill_left_behind_is_offered_for_removal() {
    let bench = Bench::new();
    let route = bench.path("endless.toml");
    std::fs::write(
        &route,
        "name = \"endless\"\n[[leg]]\nkind = \"write\"\nuntil = { duration = \"10 min\" }\n",
    )
    .unwrap();
    let target = bench.path("left.hm");
    let mut child = bench
        .command(&["haul", &route, "--on", &format!("file:{target}"), "--size", "32MiB"])
        .spawn()
        .unwrap();
    wait_until("the haul to begin", || exists(&target));
    std::thread::sleep(std::time::Duration::from_millis(800));
    child.kill().unwrap();
    child.wait().unwrap();
    let t = Terminal::start(&bench, "", 120, 36);
    t.sees("was killed and left");
    t.keys(&["y"]);
    t.sees("is removed");
    assert!(!exists(&target));
}

#[test]
fn a_file_haul_runs_in_the_interface_and_a_closed_terminal_ends_it() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "", 140, 40);
    t.chooses_a_file();
    // Ten minutes on it, so that it is under way when the terminal goes.
    t.keys(&["Tab", "j", "j"]);
    t.sees("hot-walk");
    t.starts();
    t.sees("leg 1 of 3, rest");
    t.keys(&["e"]);
    t.sees("End this leg now?");
    t.keys(&["y"]);
    t.sees("leg 2 of 3, write");
    t.sees("io_uring");
    let target = bench.path("hollow-mile.haul");
    assert!(exists(&target));
    drop(t);
    wait_until("the file to be removed", || !exists(&target));
    wait_until("the record to be closed", || bench.json(&["ledger", "--json"])[0]["state"] == "stopped");
}

#[test]
fn the_terminal_is_given_back_after_a_fault() {
    let bench = Bench::new();
    common::put_demo(&bench.dir.path().join("home/demo"));
    let t = Terminal::start_with(&bench, "HOLLOW_MILE_TEST_FAULT=1", "demo", 100, 30);
    t.sees("KW-0203");
    t.keys(&["F12"]);
    // The shell goes on below what was there before, on its own screen, in its own mode.
    let after = t.sees("left with 101");
    assert!(!after.contains("KW-0203"), "{after}");
    let words = std::fs::read_to_string(bench.path("stderr")).unwrap();
    assert!(words.contains("a fault at will"), "{words}");
    assert!(t.modes().contains(" icanon") && t.modes().contains(" echo"), "{}", t.modes());
}

#[test]
fn a_device_is_planned_guarded_written_and_stopped_from_the_yard() {
    let bench = Bench::new();
    let Some(device) = Loop::new(&bench, 512 << 20) else { return };
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees(&format!("{} ", device.name()));
    let chosen = |screen: &str| {
        screen.lines().any(|l| l.contains('▸') && l.split_whitespace().any(|w| w == device.name()))
    };
    for _ in 0..20 {
        if chosen(&t.screen()) {
            break;
        }
        t.keys(&["j"]);
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    assert!(chosen(&t.screen()), "{}", t.screen());
    t.sees("empty; may be written once its serial is typed");
    t.keys(&["v"]);
    t.sees("a loop device has no health of its own to tell");
    t.keys(&["Escape", "Enter"]);
    t.sees("type its serial in the field erase serial");
    t.keys(&["s"]);
    t.sees("will not be written");
    t.keys(&["Tab", "Enter"]);
    t.text("loop999");
    t.keys(&["Enter"]);
    t.sees("\"loop999\" was typed");
    t.keys(&["Enter", "C-u"]);
    t.text(device.name());
    t.keys(&["Enter"]);
    t.sees("consent is whole");
    t.keys(&["s"]);
    t.sees(&format!("on {}", device.node));
    t.keys(&["n"]);
    t.starts();
    t.sees("write");
    let screen = t.sees("leg ");
    assert!(screen.contains(device.name()), "{screen}");
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("stopped");
    t.keys(&["Y"]);
    t.sees("1 haul");
    t.keys(&["q"]);
}
