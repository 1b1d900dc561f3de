//! Keys, pasted text and questions, in a real terminal: nothing happens by mistake.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

mod common;

use std::time::Duration;

use common::{Bench, Terminal, put_demo};

fn demo(width: u16, height: u16) -> (Bench, Terminal) {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home/demo"));
    let t = Terminal::start(&bench, "demo", width, height);
    t.sees("KW-0417");
    (bench, t)
}

#[test]
fn pasted_text_is_no_keys_and_goes_where_text_is_asked_for() {
    let (_bench, t) = demo(220, 50);
    t.keys(&["L"]);
    t.sees("20 hauls");
    // A note of three lines, whose letters would delete, answer yes, and leave.
    t.pastes("D\ny\nq the fan was off\n");
    t.sees("Pasted text was left alone");
    t.keys(&["Escape", "L"]);
    t.sees("20 hauls");
    // A question is not answered by it either.
    t.keys(&["D"]);
    t.sees("Delete this haul?");
    t.pastes("y\n");
    std::thread::sleep(Duration::from_millis(200));
    t.sees("Delete this haul?");
    t.keys(&["n"]);
    // In a line it is one line.
    t.keys(&["n"]);
    t.sees("note on this haul");
    t.pastes("fan off\nD\nq");
    t.sees("fan off D q");
    t.keys(&["Enter"]);
    t.sees("“fan off D q”");
    t.sees("20 hauls");
    // And in the filter.
    t.keys(&["/"]);
    t.pastes("KW-0806\n");
    t.sees("3 of 20 hauls");
    t.keys(&["Enter", "q"]);
    t.sees("left with 0");
}

#[test]
fn marks_mean_what_is_seen_and_what_is_deleted_is_named() {
    let (_bench, t) = demo(160, 47);
    t.keys(&["L"]);
    t.sees("20 hauls");
    t.keys(&["m", "m", "/"]);
    t.text("KW-0806");
    t.keys(&["Enter"]);
    t.sees("2 marked out of sight");
    t.keys(&["D"]);
    let asked = t.sees("Delete this haul?");
    let question: Vec<&str> = asked.lines().filter(|l| l.contains('│')).collect();
    assert!(question.iter().any(|l| l.contains("KW-0806")), "{asked}");
    assert!(!question.iter().any(|l| l.contains("KW-0417")), "{asked}");
    t.keys(&["y"]);
    t.sees("1 haul deleted");
    t.keys(&["Escape", "m", "m"]);
    t.sees("4 marked, A first");
    t.keys(&["M"]);
    std::thread::sleep(Duration::from_millis(200));
    assert!(!t.screen().contains(" marked"), "{}", t.screen());
    t.keys(&["u"]);
    t.sees("20 hauls");
}

#[test]
fn stray_letters_start_and_end_nothing() {
    let (_bench, t) = demo(140, 40);
    t.keys(&["Enter"]);
    t.sees("takes");
    t.keys(&["s"]);
    t.sees("Start long-haul?");
    t.sees("which is simulated");
    // The answer to another question is none to this one, and keys that come together with it are none.
    t.keys(&["n"]);
    t.text("sy");
    t.sees("Start long-haul?");
    t.keys(&["x", "Escape"]);
    t.keys(&["Y"]);
    t.sees("Nothing is hauling");
}

#[test]
fn a_leg_that_was_ended_by_hand_is_told_everywhere() {
    let (bench, t) = demo(160, 47);
    t.keys(&["Enter"]);
    t.starts();
    t.sees("leg 1 of 2, write");
    t.sees("GB written");
    t.keys(&["e"]);
    t.sees("has moved");
    t.keys(&["n"]);
    std::thread::sleep(Duration::from_millis(300));
    t.sees("leg 1 of 2, write");
    t.keys(&["e"]);
    t.sees("End this leg now?");
    t.keys(&["y"]);
    // The rest that follows is soon over.
    t.sees("Leg 1 was ended by hand after");
    t.sees("long-haul  done");
    t.keys(&["L"]);
    t.sees("leg 1 ended by hand");
    drop(t);
    let home = bench.path("home/demo");
    let said = |args: &[&str]| {
        let out = bench.command(args).env("HOLLOW_MILE_HOME", &home).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    let found = said(&["findings", "last"]);
    assert!(found.contains("Leg 1 was ended by hand after"), "{found}");
    let row: serde_json::Value = serde_json::from_str(&said(&["ledger", "--json"])).unwrap();
    let listed = said(&["ledger"]);
    assert!(listed.contains("leg 1 ended by hand"), "{listed}");
    let before = row[1]["haul"].as_str().unwrap().to_owned();
    let contrast = said(&["contrast", "last", &before]);
    assert!(contrast.contains("ended by hand"), "{contrast}");
}

#[test]
fn what_was_typed_wrong_stays_to_be_mended() {
    let (_bench, t) = demo(160, 47);
    t.keys(&["L", "#"]);
    t.sees("tags of this haul");
    t.text(", fan");
    t.keys(&["Enter"]);
    t.sees("is no tag");
    t.text("=on");
    t.keys(&["Enter"]);
    t.sees("fan=on");
}

#[test]
fn a_haul_runs_again_in_two_keys_and_six_repeats_are_set_side_by_side_in_four() {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home"));
    // A short one to repeat, so that six of it are there in a while.
    let route = bench.path("short.toml");
    std::fs::write(&route, "name = \"short\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"20 GB\" }\n")
        .unwrap();
    let first = bench.json(&["haul", &route, "--on", "sim:corrie-2t", "--cooling", "fan", "--json"]);
    let first = first["haul"].as_str().unwrap().to_owned();
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("KW-0417");
    t.keys(&["L"]);
    t.sees("short");
    // The second run, with its conditions: two keys, and five more times the first: two.
    t.keys(&["A"]);
    t.sees("Start short?");
    t.keys(&["6"]);
    common::wait_until("six repeats", || {
        let all = bench.json(&["ledger", "--drive", "KW-0203", "short", "--json"]);
        all.as_array().unwrap().iter().filter(|h| h["state"] == "done").count() == 7
    });
    let all = bench.json(&["ledger", "short", "--json"]);
    for haul in all.as_array().unwrap().iter().take(6) {
        assert!(haul.to_string().contains(&first), "tagged with the first: {haul}");
        assert!(haul.to_string().contains("fan"), "with its conditions: {haul}");
    }
    // The process that kept them is gone a moment after the last record is closed.
    std::thread::sleep(Duration::from_secs(1));
    t.keys(&["q"]);
    t.sees("left with 0");
    drop(t);
    let t = Terminal::start(&bench, "", 160, 47);
    t.sees("KW-0417");
    t.keys(&["L"]);
    t.sees("short");
    t.keys(&["*", "c"]);
    t.sees("Contrast");
    assert!(t.sees("burst").contains("figure"));
}

#[test]
fn a_haul_that_just_ran_is_seen_again_and_a_paused_one_shows_no_rate() {
    let (bench, t) = demo(160, 47);
    t.keys(&["Enter", "Tab"]);
    t.starts();
    t.sees("leg 1 of 2, write");
    t.keys(&["Space"]);
    t.sees("paused: the load is off");
    t.keys(&["Space"]);
    t.sees("MB/s");
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("Stopped after");
    t.keys(&["t"]);
    t.sees("time-lapse, 0:");
    t.keys(&["Escape"]);
    // What is exported is what is shown.
    t.keys(&["l", "+", "+", "x"]);
    t.sees("-lanes-elapsed-part.svg");
    // Repeats that are still to come are hauls under way too.
    t.keys(&["L", "g", "A"]);
    t.sees("Start long-haul?");
    t.keys(&["2"]);
    t.sees("leg 1 of 2, write");
    t.keys(&["e"]);
    t.sees("End this leg now?");
    t.keys(&["y"]);
    t.keys(&[">", ">", ">", ">"]);
    t.sees("long-haul  done");
    t.keys(&["q"]);
    t.sees("A haul is under way");
    t.keys(&["s"]);
    t.sees("left with 0");
    // What is left of a haul is told by commands that work as they are printed.
    drop(t);
    let t = Terminal::start(&bench, "demo", 160, 47);
    t.sees("KW-0417");
    t.keys(&["Enter", "Tab"]);
    t.starts();
    t.sees("leg 1 of 2, write");
    t.keys(&["Space", "q"]);
    t.sees("A haul is under way");
    t.keys(&["n"]);
    t.sees("paused");
    t.keys(&["q"]);
    t.sees("l let run and leave");
    t.keys(&["l"]);
    t.sees("goes on");
    let said = t.sees("left with 0").replace('\n', "");
    let stop = said.split('`').find(|c| c.ends_with(" stop")).unwrap_or_else(|| panic!("{said}")).to_owned();
    // The yard says how far a haul is that another process keeps.
    let t = Terminal::start(&bench, "demo", 160, 47);
    t.sees("is kept by another program");
    let yard = t.sees(" left  ");
    assert!(yard.lines().any(|l| l.contains("KW-0203") && l.contains('%')), "{yard}");
    drop(t);
    let stop = stop.replace("hollow-mile ", &format!("{} ", common::PROGRAM));
    let out = std::process::Command::new("sh").args(["-c", &stop]).output().unwrap();
    assert!(out.status.success(), "{stop}: {}", String::from_utf8_lossy(&out.stderr));
}

#[test]
fn a_size_stays_as_it_was_typed_and_a_wrong_one_too() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "", 140, 40);
    t.sees("a file on this machine");
    t.keys(&["G", "Enter"]);
    t.sees("a new file");
    t.keys(&["Tab", "j", "Enter", "C-u"]);
    t.text("1 GB");
    t.sees("Ctrl-U clear");
    t.keys(&["Enter"]);
    t.sees("size            1 GB");
    t.keys(&["Enter", "C-u"]);
    t.text("38 °X");
    t.keys(&["Enter"]);
    let wrong = t.sees("\"38 °X\" is");
    assert!(wrong.contains("38 °X▏"), "what was typed stays: {wrong}");
}

#[test]
fn a_console_gets_the_letters_that_it_has() {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home/demo"));
    let t = Terminal::start_with(&bench, "HM_CONSOLE=1", "demo", 100, 30);
    t.sees("KW-0417");
    t.keys(&["L", "G", "Enter"]);
    // The yard has a rate too.
    let any = t.sees("temperature, °C");
    assert!(any.chars().any(|c| ('\u{2801}'..='\u{28ff}').contains(&c)), "{any}");
    drop(t);
    let t = Terminal::start_as(&bench, "linux", "demo", 100, 30);
    t.sees("KW-0417");
    t.keys(&["L", "G", "Enter"]);
    let plain = t.sees("temperature, °C");
    assert!(!plain.chars().any(|c| ('\u{2800}'..='\u{28ff}').contains(&c) || "▸▾┊▂▅".contains(c)), "{plain}");
    assert!(plain.contains('█') && plain.contains('▄'), "{plain}");
}

#[test]
fn whoever_looks_elsewhere_is_told_by_bell_and_title() {
    let (_bench, t) = demo(120, 36);
    common::wait_until("the title", || t.title() == "Hollow Mile");
    assert!(!t.rang());
    t.keys(&["Enter", "Tab"]);
    t.starts();
    t.sees("The cache ended");
    common::wait_until("the bell", || t.rang());
    common::wait_until("the title", || t.title().contains("% · Hollow Mile"));
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("Stopped after");
    common::wait_until("the title", || t.title() == "Hollow Mile");
}

#[test]
fn the_command_line_fits_its_terminal_and_is_whole_in_a_pipe() {
    let bench = Bench::new();
    put_demo(&bench.dir.path().join("home"));
    for args in
        ["ledger", "yard", "contrast a3f1 last", "findings last", "drive KW-0417", "vitals sim:corrie-2t"]
    {
        let t = Terminal::start(&bench, args, 60, 60);
        t.sees("left with 0");
        // As the program wrote its lines: what the terminal itself broke is one line again.
        let screen = t.lines_as_written();
        let longest = screen.lines().map(|l| l.chars().count()).max().unwrap_or(0);
        assert!(longest <= 60, "{args}: {screen}");
        if args == "ledger" {
            assert!(
                screen.lines().filter(|l| l.contains("long-haul")).all(|l| l.contains("KW-")),
                "{screen}"
            );
            assert!(screen.contains('…'), "{screen}");
        }
    }
    let out = bench.run(&["ledger"]);
    let piped = String::from_utf8_lossy(&out.stdout);
    assert!(!piped.contains('…') && piped.lines().any(|l| l.chars().count() > 100), "{piped}");
}

#[test]
fn what_was_entered_is_there_next_time_and_becomes_a_route_of_ones_own() {
    let (bench, t) = demo(140, 66);
    t.keys(&["Enter", "Tab"]);
    t.sees("▸ ambient");
    t.keys(&["Enter"]);
    t.text("31 C");
    t.keys(&["Enter"]);
    t.sees("31 °C");
    // Legs are copied, moved, taken out, and put back.
    t.keys(&["G", "&"]);
    t.sees("leg 3, rest");
    t.keys(&["{", "{"]);
    t.sees("leg 1, rest 30 s");
    t.keys(&["{"]);
    t.sees("The leg can go no further");
    t.keys(&["D"]);
    t.sees("The leg is out: u puts it back.");
    t.keys(&["u"]);
    t.sees("leg 3, rest");
    t.keys(&["I", "C-u"]);
    t.text("wryte");
    t.keys(&["Enter"]);
    t.sees("wryte");
    t.keys(&["C-u"]);
    t.text("read");
    t.keys(&["Enter"]);
    t.sees("leg 2, read 10 GB");
    t.sees("long-haul *");
    t.keys(&["q"]);
    t.sees("left with 0");
    drop(t);
    let t = Terminal::start(&bench, "demo", 140, 66);
    t.sees("KW-0417");
    t.keys(&["Enter"]);
    let again = t.sees("leg 2, read 10 GB");
    assert!(again.contains("31 °C") && again.contains("long-haul *"), "{again}");
    // Another drive knows nothing of it.
    t.keys(&["Escape", "j", "Enter"]);
    t.sees("KW-0417 Ptarmigan");
    assert!(!t.screen().contains("31 °C") && !t.screen().contains('*'), "{}", t.screen());
    t.keys(&["Escape", "k", "Enter", "W"]);
    t.sees("name of your route");
    t.sees("my-long-haul");
    t.keys(&["Enter"]);
    t.sees("Route written");
    t.sees("▸ my-long-haul");
    let kept = std::fs::read_to_string(bench.path("home/demo/routes/my-long-haul.toml")).unwrap();
    assert!(kept.contains("kind = \"read\""), "{kept}");
    // A name that is taken is left alone, and what was typed stays.
    t.keys(&["W", "C-u"]);
    t.text("my-long-haul");
    t.keys(&["Enter"]);
    t.sees("exist");
    t.keys(&["Escape"]);
}

#[test]
fn a_stopped_haul_goes_on_by_a_key() {
    let (_bench, t) = demo(160, 47);
    t.keys(&["Enter", "Tab"]);
    t.starts();
    t.sees("leg 1 of 2, write");
    t.keys(&["X"]);
    t.sees("Stop this haul?");
    t.keys(&["y"]);
    t.sees("Stopped after");
    t.keys(&["K"]);
    t.sees("It goes on where haul");
    t.keys(&["y"]);
    t.sees("leg 1 of 2, write");
    t.keys(&["L"]);
    t.sees("continues=");
    t.keys(&["G", "K"]);
    t.sees("came to its end: A runs it again");
}

#[test]
fn a_zoom_keeps_the_point_under_the_cursor_and_ctrl_l_draws_anew() {
    let (_bench, t) = demo(160, 47);
    t.keys(&["L", "G", "Enter"]);
    t.sees("rate, MB/s");
    t.keys(&["l", "S-Right", "S-Right", "l"]);
    let at = |t: &Terminal| -> String {
        let screen = t.sees("cursor   ");
        screen.lines().find_map(|l| l.split("cursor   ").nth(1)).unwrap().trim().to_owned()
    };
    let before = at(&t);
    for _ in 0..4 {
        t.keys(&["+"]);
        assert_eq!(at(&t), before, "closer");
    }
    for _ in 0..5 {
        t.keys(&["-"]);
        assert_eq!(at(&t), before, "farther");
    }
    // Whatever another program wrote over the screen is gone after Ctrl-L.
    let clean = t.sees("cursor   ");
    t.scribbles("STRAY LETTERS");
    t.sees("STRAY LETTERS");
    t.keys(&["C-l"]);
    common::wait_until("a clean screen", || t.screen() == clean);
    // And nothing of a haul stays behind when it is left.
    t.keys(&["Y"]);
    let yard = t.sees("ladder on KW-0203");
    t.keys(&["C-l"]);
    std::thread::sleep(Duration::from_millis(400));
    common::wait_until("the same, drawn anew", || t.screen() == yard);
}

#[test]
fn the_yard_plans_the_marked_drives_and_what_each_costs() {
    let (_bench, t) = demo(160, 47);
    // The second and the fourth are marked; the cursor ends on another.
    t.keys(&["j", "m", "j", "j", "m"]);
    t.sees("2 marked: Enter plans for them");
    t.keys(&["G", "Enter"]);
    let planned = t.sees("at most on 2 drives together");
    assert!(planned.contains("long-haul on KW-0417 Ptarmigan P4 4 TB, and on KW-0806"), "{planned}");
    for drive in ["KW-0417   4 TB at most; 0.333 % of the rated 1.2 PB;", "KW-0806   8 TB at most;"] {
        assert!(planned.contains(drive), "{drive}: {planned}");
    }
    t.keys(&["s"]);
    let asked = t.sees("Start long-haul?");
    assert!(asked.contains("on KW-0417, which") && asked.contains("on KW-0806, which"), "{asked}");
    assert!(!asked.contains("the new file"), "{asked}");
    t.keys(&["n", "Y", "M"]);
    std::thread::sleep(Duration::from_millis(200));
    assert!(!t.screen().contains("marked"), "{}", t.screen());
}

#[test]
fn small_terminals_lose_nothing_without_a_word() {
    let (_bench, t) = demo(100, 30);
    t.keys(&["L", "G", "m", "k", "m", "c"]);
    t.sees("rate, MB/s");
    t.sees("temperature, °C");
    t.sees("more, j");
    t.keys(&["G"]);
    t.sees("above, k");
    t.resize(80, 24);
    t.keys(&["Y"]);
    // What the last haul found is there at 80 columns too.
    t.sees("cache-end 420 GB");
    t.sees("one new file, removed at the end");
}

#[test]
fn the_yard_has_ones_own_drives_and_simulated_ones_when_asked() {
    let bench = Bench::new();
    let t = Terminal::start(&bench, "", 120, 36);
    t.sees("11 simulated drives ship with it: i shows them");
    assert!(!t.screen().contains("KW-0417"), "{}", t.screen());
    t.keys(&["i"]);
    t.sees("KW-0417");
    assert!(!t.screen().contains("i shows them"), "{}", t.screen());
    t.keys(&["i"]);
    t.sees("11 simulated drives ship with it");
    t.keys(&["q"]);
    drop(t);
    // One that was hauled on is there.
    let route = bench.path("short.toml");
    std::fs::write(&route, "name = \"short\"\n[[leg]]\nkind = \"write\"\nuntil = { bytes = \"1 GB\" }\n")
        .unwrap();
    bench.json(&["haul", &route, "--on", "sim:ptarmigan-4t", "--json"]);
    let t = Terminal::start(&bench, "", 120, 36);
    t.sees("10 simulated drives ship with it");
    assert!(t.screen().contains("KW-0417") && !t.screen().contains("KW-0203"), "{}", t.screen());
    // What hauls stands first, with how far it is and how it went.
    let route = bench.path("long.toml");
    std::fs::write(&route, "name = \"long\"\n[[leg]]\nkind = \"write\"\nuntil = { duration = \"10 min\" }\n")
        .unwrap();
    let target = bench.path("a.haul");
    let mut child = bench
        .command(&["haul", &route, "--on", &format!("file:{target}"), "--size", "16MiB"])
        .spawn()
        .unwrap();
    t.sees("is kept by another program");
    let yard = t.sees("a file hauls");
    let line = |words: &str| yard.lines().position(|l| l.contains(words));
    let ordered = line("hauling") < line("file:") && line("file:") < line("at rest  model");
    let below = line("at rest  model") < line("KW-0417");
    bench.json(&["tell", "last", "stop", "--json"]);
    child.wait().unwrap();
    assert!(ordered && below, "{yard}");
    t.sees("Nothing is hauling");
}
