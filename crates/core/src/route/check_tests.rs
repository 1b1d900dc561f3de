//! Every check of a route, with a leg that it refuses; and a look at the source, so that no check is without one.

use super::super::Route;

const W: &str = "until = { bytes = \"1 GB\" }";

/// Fields of a leg (or of a route, where they begin with a name), and words of what is wrong with it.
fn cases() -> Vec<(String, &'static str)> {
    let leg = |kind: &str, fields: &str| format!("kind = \"{kind}\"\n{fields}");
    let inside = "\n[[leg.leg]]\nkind = \"write\"\nuntil = { bytes = \"1 GB\" }";
    let group = |fields: &str| format!("kind = \"group\"\n{fields}{inside}");
    let freight = |fields: &str| leg("freight", fields);
    let tree = |fields: &str| freight(&format!("{fields}\nfiles = [{{ size = '1 MB' }}]\ncount = 1"));
    let ended = |kind: &str, fields: &str| format!("kind = \"{kind}\"\n{fields}\n{W}");
    vec![
        (ended("read", "region = { from = \"9 GB\", to = \"1 GB\" }"), "its region ends before it begins"),
        (ended("read", "region = { from = \"90 %\", to = \"10 %\" }"), "its region ends before it begins"),
        (
            ended("read", "region = { to = \"101 %\" }"),
            "its region goes past the end of the drive: at most 100 %",
        ),
        (ended("read", "repeat = 0"), "repeat must be at least 1"),
        (ended("read", "repeat = 1001"), "repeat must be at most 1,000"),
        (leg("group", "repeat = 2"), "repeats nothing: add at least one [[leg.leg]]"),
        (
            group("over = { depth = [1, 2], block = [\"4 KiB\"] }"),
            "over takes one of fill, region, block and depth; put a group into a group for two",
        ),
        (ended("write", "mix = ['100 % 4 KiB']"), "sizes and places that are drawn need pattern = \"random\""),
        (
            ended("write", "pattern = 'random'\nmix = ['100 % 1000 B']"),
            "sizes of operations are multiples of 512 B up to 64 MiB",
        ),
        (
            ended("write", "pattern = 'random'\nmix = ['50 % 4 KiB']"),
            "the shares of its sizes do not add up to 100 %",
        ),
        (
            ended("write", "pattern = 'random'\nspread = ['50 % in 5 %']"),
            "the shares of its operations do not add up to 100 %",
        ),
        (
            ended("write", "pattern = 'random'\nspread = ['50 % in 60 %', '50 % in 50 %']"),
            "its parts are more than the region",
        ),
        (
            ended("write", &format!("pattern = 'random'\nmix = [{}]", vec!["'0.09 % 4 KiB'"; 1100].join(", "))),
            "there may be 1,000 sizes and parts in all",
        ),
        (group(""), "never repeats: give over, or repeat"),
        (
            group("repeat = 4\nsteady = { legs = [1] }"),
            "rounds until steady need repeat = 5 or more: so many rounds are looked at",
        ),
        (group("repeat = 9\nsteady = { legs = [] }"), "steady.legs names no leg of a round"),
        (
            group("repeat = 9\nsteady = { legs = [1] }\nover = { depth = [1, 2] }"),
            "rounds until steady go over nothing: put a group with over into it",
        ),
        (
            "kind = \"group\"\nrepeat = 9\nsteady = { legs = [1] }\n[[leg.leg]]\nkind = \"group\"\nrepeat = 9\nsteady = { legs = [1] }\n\
             [[leg.leg.leg]]\nkind = \"write\"\nuntil = { bytes = \"1 GB\" }"
                .into(),
            "a group of rounds cannot lie in another",
        ),
        (group("repeat = 9\nsteady = { legs = [2] }"), "steady.legs has 2, and a round ends at leg 1"),
        (
            "kind = \"group\"\nrepeat = 9\nsteady = { legs = [1] }\n[[leg.leg]]\nkind = \"rest\"\nuntil = { duration = \"1 s\" }".into(),
            "leg 1 of a round is a rest: only a write, read or mixed leg can be followed",
        ),
        (group("over = { fill = [\"50 %\", \"20 %\"] }"), "its levels of fill must rise"),
        (group("over = { fill = [\"50 %\", \"120 %\"] }"), "a level of fill is at most 100 %"),
        (group("over = { block = [\"1000 B\"] }"), "blocks are multiples of 512 B up to 64 MiB"),
        (group("over = { depth = [0] }"), "depths lie between 1 and 1,024"),
        (group("over = { depth = [1025] }"), "depths lie between 1 and 1,024"),
        (
            group("repeat = 2\nuntil = { duration = \"1 s\" }"),
            "until.duration does nothing here: it goes with kind = \"rest\", \"write\"",
        ),
        (format!("{}{inside}", ended("write", "")), "legs of legs go with kind = \"group\""),
        (
            ended("write", "over = { depth = [1, 2] }"),
            "over.depth does nothing here: it goes with kind = \"group\"",
        ),
        (
            ended("rest", ""),
            "until.bytes does nothing here: it goes with kind = \"write\", \"read\", \"mixed\", \"breather\" or \"pace\"",
        ),
        (leg("rest", ""), "never ends: give until.duration, until.temperature or until.steady"),
        (leg("write", ""), "never ends: give until.bytes, duration, temperature, past_cache_end or steady"),
        (leg("breather", "rests = [\"1 min\"]"), "never ends: give until.bytes"),
        (leg("pace", "rate = \"1 MB/s\"\nbuffer = \"1 GB\""), "never ends: give until.bytes or duration"),
        (ended("wipe", ""), "until.bytes does nothing here"),
        (leg("wipe", "until = { duration = \"1 s\" }"), "until.duration does nothing here"),
        (
            leg("pace", "rate = \"1 MB/s\"\nuntil = { past_cache_end = \"1 GB\" }"),
            "past_cache_end goes with a write",
        ),
        (leg("write", "until = { bytes = \"0 GB\" }"), "ends before it begins: give more than zero"),
        (leg("write", "until = { duration = \"0 s\" }"), "ends before it begins: give more than zero"),
        (
            freight("carry = 'delete'\nfiles = [{ size = '1 MB' }]\ncount = 1"),
            "a tree is stated where it is written or copied",
        ),
        (
            freight("carry = 'write'\nlike = '/x'\nfiles = [{ size = '1 MB' }]\ncount = 1"),
            "give files or like, not both",
        ),
        (
            freight("carry = 'write'\nfiles = [{ size = '1 MB' }]"),
            "never ends: give total or count with files",
        ),
        (
            freight("carry = 'write'\nfiles = [{ size = '1 MB', share = '50 %' }]\ncount = 1"),
            "the shares of its files do not add up to 100 %",
        ),
        (
            freight("carry = 'write'\nfiles = [{ size = '2 MB to 1 MB' }]\ncount = 1"),
            "sizes of files go from the smaller to the larger, up to 100 TB",
        ),
        (
            freight("carry = 'write'\nfiles = [{ size = '1 kB' }]\ntotal = '1 PB'"),
            "the tree has more than 10,000,000 files",
        ),
        (freight("carry = 'write'\ncount = 1"), "total and count go with files"),
        (freight("carry = 'read'"), "has no tree: give files or like, or put a leg with a tree before it"),
        (tree("carry = 'copy'\nat = 'source'"), "a copy goes from the source to the target: leave out at"),
        (tree("carry = 'write'\nfolder_depth = 17"), "folder_depth must lie between 0 and 16"),
        (tree("carry = 'write'\nfolder_width = 0"), "folder_width must lie between 1 and 10,000"),
        (tree("carry = 'write'\nduplicates_percent = 101"), "duplicates_percent must lie between 0 and 100"),
        (
            tree("carry = 'write'\nthrough = 'direct'\nblock = 512"),
            "a block that goes past the page cache is a multiple of 4 KiB",
        ),
        (ended("write", "block = 1000"), "block must be a multiple of 512 B between 512 B and 64 MiB"),
        (ended("write", "block = \"128 MiB\""), "block must be a multiple of 512 B between 512 B and 64 MiB"),
        (ended("write", "depth = 0"), "depth must lie between 1 and 1,024"),
        (ended("write", "depth = 1025"), "depth must lie between 1 and 1,024"),
        (
            ended("read", "workers = 4\ndepth = 2"),
            "workers must lie between 1 and 64, and be no more than the depth",
        ),
        (ended("read", "workers = 65\ndepth = 128"), "workers must lie between 1 and 64"),
        (ended("read", "read_percent = 50"), "read_percent does nothing here: it goes with kind = \"mixed\""),
        (
            ended("mixed", "read_percent = 100"),
            "read_percent must lie between 1 and 99: use a read or a write leg else",
        ),
        (ended("write", "compressible_percent = 101"), "compressible_percent must lie between 0 and 100"),
        (ended("read", "stamped = true"), "stamped does nothing here: it goes with kind = \"write\""),
        (
            ended("write", "stamped = true\ncompressible_percent = 10"),
            "stamped data is incompressible: leave out compressible_percent",
        ),
        (
            ended("read", "flush_every = \"1 GiB\""),
            "flush_every does nothing here: it goes with kind = \"write\"",
        ),
        (
            ended("write", "decide = true\nstamped = true"),
            "decide goes with a plain write by one worker: not with stamps, drawn sizes or places, a rate, or backwards",
        ),
        (ended("write", "decide_time = \"1 min\""), "decide_time, decide_bytes and decide_wear go with decide"),
        (
            ended("write", "decide = true\ndecide_time = \"0 s\""),
            "decide_time must lie between 1 s and 1 day: with none, leave decide out",
        ),
        (
            ended("write", "decide = true\ndecide_bytes = \"0 B\""),
            "decide_bytes must be more than nothing: with none, leave decide out",
        ),
        (
            ended("write", "decide_wear = \"1 %\""),
            "decide_time, decide_bytes and decide_wear go with decide",
        ),
        (
            ended("write", "decide = true\ndecide_wear = \"0 B\""),
            "decide_wear is a share of what the drive is rated to take, up to 100 %, or bytes: with none, leave decide out",
        ),
        (
            ended("write", "decide = true\ndecide_wear = \"101 %\""),
            "decide_wear is a share of what the drive is rated to take, up to 100 %, or bytes",
        ),
        (ended("write", "lookout = \"100 us\""), "lookout must lie between 1 ms and 10 s"),
        (
            "kind = 'ladder'\nblocks = ['4 KiB']\ndepths = [1]\npatterns = ['random']\nlookout = '10 ms'"
                .to_owned(),
            "lookout does nothing here: it goes with",
        ),
        (ended("write", "flush_every = \"4 KiB\""), "flush_every must be at least one block"),
        (
            ended("write", "flush_every = \"1 GiB\"\nworkers = 2"),
            "flush_every goes with one worker: of several, nobody knows whose part was flushed",
        ),
        (
            ended("write", "stamped = true\npattern = \"random\""),
            "a stamped write goes through its region in order",
        ),
        (ended("write", "rate = \"0 B/s\""), "rate must be at least 1 B/s"),
        (ended("write", "stop_after_errors = 0"), "stop_after_errors must be at least 1"),
        (
            ended("write", "operation = \"write\""),
            "operation does nothing here: it goes with kind = \"scan\", \"ladder\" or \"pace\"",
        ),
        (ended("write", "passes = 2"), "passes does nothing here: it goes with kind = \"scan\""),
        (ended("write", "bins = 32"), "bins does nothing here: it goes with kind = \"scan\""),
        (ended("write", "shares = [\"10 %\"]"), "shares does nothing here: it goes with kind = \"spans\""),
        (ended("write", "blocks = [\"4 KiB\"]"), "blocks does nothing here: it goes with kind = \"ladder\""),
        (ended("write", "depths = [1]"), "depths does nothing here: it goes with kind = \"ladder\""),
        (ended("write", "crews = [1]"), "crews does nothing here: it goes with kind = \"ladder\""),
        (
            ended("write", "patterns = [\"random\"]"),
            "patterns does nothing here: it goes with kind = \"ladder\"",
        ),
        (
            ended("write", "step = \"1 s\""),
            "step does nothing here: it goes with kind = \"spans\", \"ladder\" or \"pace\"",
        ),
        (
            ended("write", "settle = \"1 s\""),
            "settle does nothing here: it goes with kind = \"ladder\" or \"group\"",
        ),
        (ended("write", "level = \"50 %\""), "level does nothing here: it goes with kind = \"fill\""),
        (ended("write", "stream = \"620 MB/s\""), "stream does nothing here: it goes with kind = \"pace\""),
        (ended("write", "buffer = \"1 GB\""), "buffer does nothing here: it goes with kind = \"pace\""),
        (ended("write", "search = true"), "search does nothing here: it goes with kind = \"pace\""),
        (ended("write", "of = \"last\""), "of does nothing here: it goes with kind = \"verify\""),
        (ended("write", "sample = \"10 %\""), "sample does nothing here: it goes with kind = \"verify\""),
        (ended("write", "rests = [\"1 min\"]"), "rests does nothing here: it goes with kind = \"breather\""),
        (leg("fill", ""), "fills to no level: give level = \"50 %\""),
        (leg("fill", "level = \"120 %\""), "a level of fill is at most 100 %"),
        (leg("scan", "passes = 17"), "passes must lie between 1 and 16"),
        (leg("scan", "bins = 3"), "bins must lie between 16 and 65,536"),
        (leg("spans", "shares = [\"120 %\"]"), "a share of the drive is at most 100 %"),
        (
            leg("spans", &format!("shares = [{}]", vec!["\"1 %\""; 33].join(", "))),
            "there may be 32 shares at most",
        ),
        (leg("spans", "repeat = 51"), "each span is measured 50 times at most"),
        (leg("ladder", "blocks = [\"1000 B\"]"), "blocks are multiples of 512 B up to 64 MiB"),
        (leg("ladder", "depths = [0]"), "depths lie between 1 and 1,024"),
        (leg("ladder", "crews = [65]"), "crews lie between 1 and 64 workers"),
        (
            leg(
                "ladder",
                &format!(
                    "depths = [{}]\nblocks = [{}]",
                    vec!["1"; 50].join(","),
                    vec!["\"4 KiB\""; 50].join(",")
                ),
            ),
            "has more than 2,000 rungs",
        ),
        (leg("ladder", "patterns = [\"backward\"]"), "a ladder goes sequential or random"),
        (
            ended("pace", "buffer = \"1 GB\""),
            "a stream needs its rate, or its geometry as stream, and not both",
        ),
        (ended("pace", "rate = \"1 MB/s\"\nbuffer = \"1 KiB\""), "buffer must be at least 64 KiB"),
        (ended("pace", "stream = \"nine channels\""), "is not a factor: give a rate (620 MB/s)"),
        (ended("breather", ""), "never rests: give rests = [\"1 min\", \"4 min\"]"),
        (
            leg("verify", ""),
            "has nothing to read back: put a write with stamped = true before it, or name a haul with of",
        ),
    ]
}

fn refused(text: &str) -> String {
    match Route::read_all_faults(text) {
        Ok(_) => String::new(),
        Err(all) => all.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n"),
    }
}

#[test]
fn every_check_refuses_what_it_is_there_for_at_its_line() {
    for (body, words) in cases() {
        let told = refused(&format!("name = \"x\"\n[[leg]]\n{body}\n"));
        assert!(told.contains(words), "no \"{words}\" for\n{body}\nbut {told}");
        assert!(told.lines().all(|l| l.starts_with("line ") && l.contains(": leg 1")), "{body}: {told}");
    }
    for (text, words) in [
        ("name = \"x\"\n", "has no legs: add at least one [[leg]]"),
        (
            "name = \"x\"\ninterval = \"1 ms\"\n[[leg]]\nkind = \"wipe\"\n",
            "interval must lie between 10 ms and 60 s",
        ),
        (
            "name = \"a\\nb\"\n[[leg]]\nkind = \"wipe\"\n",
            "name has a line end or another control character in it",
        ),
        (
            "name = \"x\"\nlimits = [\"misses <= 0\"]\n[[leg]]\nkind = \"wipe\"\n",
            "is never measured: it needs",
        ),
    ] {
        assert!(refused(text).contains(words), "{text}: {}", refused(text));
    }
    let deep = format!(
        "name = \"x\"\n[[leg]]\nkind = \"group\"\nrepeat = 1000\n[[leg.leg]]\nkind = \"group\"\nrepeat = 1000\n[[leg.leg.leg]]\nkind = \"write\"\n{W}\n"
    );
    assert!(
        refused(&deep).contains("has more than 20,000 legs when its repeats are laid out"),
        "{}",
        refused(&deep)
    );
}

#[test]
fn no_check_is_without_a_case() {
    let all: Vec<String> = cases()
        .iter()
        .map(|(body, _)| refused(&format!("name = \"x\"\n[[leg]]\n{body}\n")))
        .chain([
            refused("name = \"x\"\n"),
            refused("name = \"x\"\ninterval = \"1 ms\"\n[[leg]]\nkind = \"wipe\"\n"),
            refused("name = \"a\\nb\"\n[[leg]]\nkind = \"wipe\"\n"),
        ])
        .collect();
    let source = include_str!("check.rs");
    let from = source.find("fn check_legs").unwrap();
    // Sentences in the source: what stands between two quotation marks and has blanks.
    let sentences = source[from..].replace("\\\"", "\u{1}");
    let sentences = sentences.split('"').skip(1).step_by(2).map(|s| s.replace('\u{1}', "\""));
    let mut seen = 0;
    for sentence in sentences.filter(|s| s.contains(' ') && !s.contains('{') && !s.starts_with("\" or")) {
        seen += 1;
        assert!(all.iter().any(|told| told.contains(&sentence)), "no case is refused by \"{sentence}\"");
    }
    assert!(seen >= 35, "{seen} sentences found");
}
