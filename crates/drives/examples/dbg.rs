use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::Event;
use hollow_mile_drives::proving::*;
fn main() {
    let a: Vec<String> = std::env::args().collect();
    let family = Family::ALL.into_iter().find(|f| f.word() == a[1]).unwrap();
    for seed in a[2..].iter().filter_map(|s| s.parse().ok()) {
        let case = make_world(family, seed);
        println!("{}", case.words);
        println!("ends {:?} perhaps {:?} throttle {:?}", case.ends, case.perhaps, case.throttle);
        let mut readings = Readings::new();
        case.events.iter().for_each(|e| readings.push(e));
        for f in readings.conclude().findings {
            println!(
                "  {:?} {:.1}..{:?} {:?}->{:?} c {:.2} {:?}",
                f.kind,
                f.elapsed.as_secs_f64(),
                f.end_elapsed.map(|e| e.as_secs_f64()),
                f.before.map(|r| r.mb_s() as i64),
                f.after.map(|r| r.mb_s() as i64),
                f.confidence,
                f.may_be
            );
        }
        if std::env::var("DUMP").is_ok() {
            for e in &case.events {
                match e {
                    Event::Sample(s) => println!(
                        "S {:.2} {:.0} {:?}",
                        s.end.as_secs_f64(),
                        s.written.as_f64() / s.span.as_secs_f64() / 1e6,
                        s.temperature.map(|t| t.degrees())
                    ),
                    Event::Vitals { at, vitals } => {
                        println!("V {:.2} {:?}", at.as_secs_f64(), vitals.thermal_transitions)
                    }
                    _ => {}
                }
            }
        }
    }
}
