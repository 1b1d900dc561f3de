//! The levels and findings of one haul of the proving ground: `cargo run --release --example levels SEED`.
#![allow(clippy::unwrap_used, missing_docs)]

use hollow_mile_core::readings::Readings;
use hollow_mile_drives::proving::make;

fn main() {
    let seed = std::env::args().nth(1).and_then(|s| s.parse().ok()).unwrap_or(1);
    let case = make(seed);
    let mut r = Readings::new();
    case.events.iter().for_each(|e| r.push(e));
    println!("{}\n{:?}", case.words, case.ends);
    for l in r.levels().iter().take(40) {
        println!("{:8.1} {:8.1} s  {}  ±{:.3}", l.from.as_secs_f64(), l.to.as_secs_f64(), l.rate, l.spread);
    }
    for f in r.conclude().findings {
        println!("{} {:.1} s {} {:?}", f.kind.word(), f.elapsed.as_secs_f64(), f.written, f.temperature);
    }
}
