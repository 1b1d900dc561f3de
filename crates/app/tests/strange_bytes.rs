//! The kept inputs of the fuzzer, through the same entries: none panics. `scripts/fuzz` looks for new ones.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, missing_docs)]

#[path = "../../../fuzz/src/entries.rs"]
mod entries;

use std::path::Path;

#[test]
fn kept_inputs_of_strangers_are_taken_or_refused_and_nothing_falls_over() {
    let corpus = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../fuzz/corpus");
    for (name, entry) in entries::ALL {
        let mut files: Vec<_> =
            std::fs::read_dir(corpus.join(name)).expect(name).map(|f| f.unwrap().path()).collect();
        files.sort();
        assert!(files.len() >= 2, "{name} has {} inputs", files.len());
        for file in files {
            entry(&std::fs::read(&file).unwrap());
        }
    }
}
