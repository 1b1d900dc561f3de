//! The house: which part of the program may know of which. Modules of the core lie in layers; command line, words and interface of
//! the program form no circle; views draw from their own state.

#![allow(clippy::unwrap_used, clippy::panic, reason = "tests")]

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// Each may import those before it.
const CORE: [&str; 8] = ["quantity", "drive", "route", "record", "readings", "conclude", "archive", "haul"];

fn sources(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        let name = entry.file_name().to_string_lossy().into_owned();
        if path.is_dir() {
            sources(&path, out);
        } else if name.ends_with(".rs") && !name.ends_with("tests.rs") {
            out.push(path);
        }
    }
}

/// The files of a crate, each with the folder or file of its source folder that it belongs to, and its code without tests and remarks.
fn rooms(krate: &str) -> Vec<(PathBuf, String, String)> {
    let src = Path::new(env!("CARGO_MANIFEST_DIR")).join("..").join(krate).join("src");
    let mut files = Vec::new();
    sources(&src, &mut files);
    assert!(files.len() > 10, "{krate}: {} files", files.len());
    files
        .into_iter()
        .map(|path| {
            let inside = path.strip_prefix(&src).unwrap();
            let room = inside.components().next().unwrap().as_os_str().to_string_lossy().into_owned();
            let text = std::fs::read_to_string(&path).unwrap();
            let code: Vec<&str> = without_tests(&text).lines().collect();
            let code: Vec<&str> = code.into_iter().filter(|l| !l.trim_start().starts_with("//")).collect();
            (inside.to_owned(), room.trim_end_matches(".rs").to_owned(), code.join("\n"))
        })
        .collect()
}

/// Up to the module of tests that a file ends with. A `mod tests;` of another file may stand anywhere.
fn without_tests(text: &str) -> &str {
    let from = |at: usize| text[at..].lines().skip(1).find(|l| !l.starts_with("#["));
    let own = text.match_indices("\n#[cfg(test)]").map(|(at, _)| at + 1);
    let own = own.into_iter().find(|at| from(*at).is_some_and(|l| l.starts_with("mod ") && l.ends_with('{')));
    own.map_or(text, |at| &text[..at])
}

#[test]
fn only_modules_of_tests_are_left_out() {
    let text = "use a;\n#[cfg(test)]\nmod tests;\nfn b() {}\n#[cfg(test)]\n#[allow(x)]\nmod more {\n}\n";
    assert_eq!(without_tests(text), "use a;\n#[cfg(test)]\nmod tests;\nfn b() {}\n");
    assert_eq!(without_tests("fn a() {}"), "fn a() {}");
}

/// Names right behind `crate::`.
fn imports(code: &str) -> BTreeSet<String> {
    let names = code.split("crate::").skip(1);
    names.map(|rest| rest.chars().take_while(|c| c.is_alphanumeric() || *c == '_').collect()).collect()
}

#[test]
fn arrows_of_the_core_go_down_only() {
    let layer = |name: &str| CORE.iter().position(|m| *m == name);
    for (path, room, code) in rooms("core") {
        if room == "lib" {
            continue;
        }
        let own = layer(&room).unwrap_or_else(|| panic!("{room} has no layer: give it one in this test"));
        for name in imports(&code) {
            let other = layer(&name).unwrap_or_else(|| panic!("{}: crate::{name}", path.display()));
            assert!(other <= own, "{} imports {name}, which stands above {room}", path.display());
        }
    }
}

#[test]
fn command_line_words_and_interface_form_no_circle() {
    let mut seen = 0;
    for (path, room, code) in rooms("app") {
        let known = imports(&code);
        let no = |name: &str| assert!(!known.contains(name), "{} imports {name}", path.display());
        match room.as_str() {
            // What is told knows neither of those who ask.
            "told" => ["cli", "ui", "watch", "session"].into_iter().for_each(no),
            "ui" => no("cli"),
            "cli" | "lib" | "main" => {}
            // All else serves both.
            _ => ["cli", "ui"].into_iter().for_each(no),
        }
        let in_views = path.starts_with("ui/views") && path != Path::new("ui/views/mod.rs");
        if in_views {
            seen += 1;
            let app = code.split(|c: char| !c.is_alphanumeric() && c != '_').any(|w| w == "App");
            assert!(!app, "{} draws from the whole of App", path.display());
        }
    }
    assert!(seen >= 10, "{seen} views");
}
