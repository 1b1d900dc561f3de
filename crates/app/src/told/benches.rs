//! The benches of a fleet, in words.

use hollow_mile_core::quantity::units::span_words;
use hollow_mile_ledger::fleet::Bench;

/// A clock that is off by more is told, ms.
const CLOCK_MS: i64 = 2_000;
/// A bench that hauls and was not heard of for so long is told, s.
const SILENT_S: f64 = 60.0;

/// What is wrong with a bench, in a few words; empty where nothing is.
#[must_use]
pub fn wrong(b: &Bench) -> String {
    let mut words = Vec::new();
    if b.left {
        return "left the fleet".into();
    }
    if b.seen_s > SILENT_S && b.running > 0 {
        words.push(format!("hauls, and not heard of for {}", span_words(b.seen_s.round())));
    }
    if b.clock_off_ms.abs() > CLOCK_MS {
        words.push(clock_words(b));
    }
    words.extend(b.trouble.clone());
    words.join(", ")
}

/// How its clock stands against the server's.
#[must_use]
pub fn clock_words(b: &Bench) -> String {
    let off = b.clock_off_ms.abs();
    match b.clock_off_ms {
        _ if off < 1000 => "clock right".into(),
        ms if ms > 0 => format!("clock {} ahead", span_words(off as f64 / 1e3)),
        _ => format!("clock {} behind", span_words(off as f64 / 1e3)),
    }
}

/// How the fleet stands, in a sentence.
#[must_use]
pub fn answer(benches: &[Bench]) -> String {
    let here: Vec<&Bench> = benches.iter().filter(|b| !b.left).collect();
    let count = |n: usize, one: &str, many: &str| match n {
        0 => None,
        1 => Some(format!("1 {one}")),
        n => Some(format!("{n} {many}")),
    };
    let hauling = here.iter().filter(|b| b.running > 0).count();
    let bad = here.iter().filter(|b| !wrong(b).is_empty()).count();
    let unsent = here.iter().filter(|b| b.unsent_hauls > 0).count();
    let parts: Vec<String> = [
        Some(if hauling == 0 {
            "nothing under way".to_owned()
        } else {
            count(hauling, "hauls", "haul").unwrap_or_default()
        }),
        count(bad, "needs somebody", "need somebody"),
        count(unsent, "has something unsent", "have something unsent").or_else(|| Some("all is sent".into())),
    ]
    .into_iter()
    .flatten()
    .collect();
    match here.len() {
        0 => "No bench is in this fleet.".into(),
        1 => format!("1 bench: {}.", parts.join(", ")),
        n => format!("{n} benches: {}.", parts.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bench(name: &str) -> Bench {
        Bench {
            number: 1,
            name: name.into(),
            left: false,
            seen_s: 2.0,
            clock_off_ms: 10,
            program: String::new(),
            unsent_hauls: 0,
            trouble: None,
            hauls: 4,
            running: 0,
            written_bytes: 0,
        }
    }

    #[test]
    fn what_is_wrong_is_counted_and_said() {
        let silent = Bench { running: 1, seen_s: 7200.0, ..bench("b") };
        let year = Bench { clock_off_ms: -31_536_000_000, unsent_hauls: 2, ..bench("c") };
        assert_eq!(wrong(&bench("a")), "");
        assert_eq!(wrong(&silent), "hauls, and not heard of for 2 h");
        assert!(wrong(&year).starts_with("clock ") && wrong(&year).ends_with(" behind"));
        let all = [bench("a"), silent, year, Bench { left: true, ..bench("d") }];
        assert_eq!(answer(&all), "3 benches: 1 hauls, 2 need somebody, 1 has something unsent.");
        assert_eq!(answer(&[bench("a")]), "1 bench: nothing under way, all is sent.");
    }
}
