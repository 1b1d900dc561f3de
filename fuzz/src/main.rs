//! One fuzzed entry a run: the environment's `FUZZ_ENTRY` names it.
#![no_main]

mod entries;

use std::sync::LazyLock;

static ENTRY: LazyLock<entries::Entry> = LazyLock::new(|| {
    let name = std::env::var("FUZZ_ENTRY").unwrap_or_default();
    let found = entries::ALL.iter().find(|(n, _)| *n == name);
    found.unwrap_or_else(|| panic!("no entry {name:?}: set FUZZ_ENTRY")).1
});

libfuzzer_sys::fuzz_target!(|data: &[u8]| ENTRY(data));
