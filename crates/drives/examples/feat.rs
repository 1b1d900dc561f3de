use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Event;
use hollow_mile_drives::proving::*;
use std::collections::BTreeMap;
fn main() {
    let n: u64 = std::env::args().nth(1).unwrap().parse().unwrap();
    let seed: u64 = std::env::args().nth(2).map_or(31, |s| s.parse().unwrap());
    let mut cases = Vec::new();
    for i in 0..n {
        cases.push(("old", make(seed * 1_000_003 + i)));
    }
    for f in Family::ALL {
        for i in 0..n / 17 {
            cases.push((f.word(), make_world(f, seed * 1_000_003 + i)));
        }
    }
    let mut by: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    for (w, case) in cases {
        let mut readings = Readings::new();
        case.events.iter().for_each(|e| readings.push(e));
        for f in readings.conclude().findings {
            if f.may_be.is_empty() {
                continue;
            }
            let near = case
                .ends
                .iter()
                .chain(&case.perhaps)
                .any(|e| (e.elapsed - f.elapsed.as_secs_f64()).abs() < 2.0 + 0.5 * e.ramp_s);
            let all = f.evidence.join(" ");
            let what = if all.contains("below its limit of") {
                "elsewhere"
            } else if all.contains("no temperature") {
                "blind"
            } else if all.contains("has stood there since") {
                "stands"
            } else {
                "no limit"
            };
            let k = format!("{} {what}", if w == "old" { "old" } else { "new" });
            let e = by.entry(k).or_default();
            if near {
                e.0 += 1
            } else {
                e.1 += 1
            }
            let (mut after, mut before, mut pre) = ((999.0f64, 0.0f64, 0.0), 999.0f64, 0.0);
            for e in &case.events {
                if let Event::Sample(s) = e {
                    if let Some(t) = s.temperature {
                        let t = t.degrees();
                        let x = s.end.as_secs_f64() - f.elapsed.as_secs_f64();
                        if x < 0.0 {
                            before = before.min(t);
                            if x > -20.0 && pre == 0.0 {
                                pre = t;
                            }
                        } else {
                            after.0 = after.0.min(t);
                            after.1 = after.1.max(t);
                            after.2 = t;
                        }
                    }
                }
            }
            let limit = readings.throttle_limit().map(|l| l.degrees());
            let next = case
                .ends
                .iter()
                .chain(&case.perhaps)
                .filter(|e| e.elapsed > f.elapsed.as_secs_f64() + 3.0)
                .count();
            println!(
                "{w} {what} {} share {:.2} at {:.0}s t {:.0} limit {limit:?} start {before:.0} 20s-ago {pre:.0} after min {:.0} max {:.0} last {:.0} tail {:.0}s ends after {next}",
                if near { "END" } else { "HEAT" },
                f.after.unwrap().get() / f.before.unwrap().get(),
                f.elapsed.as_secs_f64(),
                f.temperature.map_or(0.0, |t| t.degrees()),
                after.0,
                after.1,
                after.2,
                readings.elapsed().as_secs_f64() - f.elapsed.as_secs_f64()
            );
        }
    }
    for (k, (e, h)) in by {
        println!("{k}: ends {e}, not {h}");
    }
}
