use super::*;
use hollow_mile_core::archive::digest::Digest;
use hollow_mile_core::drive::DriveKind;
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::FindingKind;
use hollow_mile_core::readings::{During, Readings, Ruler};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_core::route;
use hollow_mile_core::route::Route;

fn haul(spec: SimSpec, route: Route, repeat: u64) -> (Readings, HaulState) {
    let conditions = Conditions::default();
    let drive = SimDrive::new(spec, "sim:test", &conditions, repeat);
    let setup = Setup { conditions, ..Setup::plain("test", route) };
    let mut haul = Haul::new(drive, setup);
    let mut readings = Readings::new();
    let mut events = Vec::new();
    loop {
        let progress = haul.step(&mut events);
        events.drain(..).for_each(|e: Event| readings.push(&e));
        if let Progress::Ended(state) = progress {
            return (readings, state);
        }
    }
}

#[test]
fn every_shipped_drive_reads_and_says_who_it_is() {
    for (name, text) in SHIPPED {
        let spec = SimSpec::from_toml(text).unwrap_or_else(|e| panic!("{name}: {e}"));
        assert_eq!(spec.name, name);
        assert_eq!(spec.identity("sim:x").kind, DriveKind::Simulated);
        let again = SimSpec::from_toml(&toml::to_string(&spec).unwrap()).unwrap();
        assert_eq!(toml::to_string(&again).unwrap(), toml::to_string(&spec).unwrap());
    }
}

#[test]
fn a_broken_drive_file_names_the_fault() {
    let text = SHIPPED[0].1;
    for (from, to, words) in [
        ("\"6150 MB/s\"", "\"6150 Mb/s\"", "line 16, column 8: \"6150 Mb/s\" is not a rate"),
        ("factor = 0.5", "factor = 1.5", "heat.factor must lie between 0 and 1"),
        ("size = \"48 GB\"", "", "every [[flash.level]] but the last needs a size"),
        ("[noise]", "[nose]", "unknown field `nose`"),
        ("resume = \"80 °C\"", "resume = \"90 °C\"", "heat.resume must lie below"),
    ] {
        assert!(text.contains(from), "{from}");
        let error = SimSpec::from_toml(&text.replacen(from, to, 1)).unwrap_err();
        assert!(error.contains(words), "{from} → {to}: {error}");
    }
}

#[test]
fn the_same_seed_gives_the_same_haul_and_another_repeat_another() {
    let route = Route::from_toml("name='x'\n[[leg]]\nkind='write'\nuntil={bytes='300 GB'}").unwrap();
    let spec = shipped("corrie-2t").unwrap();
    let rates = |repeat| {
        let (r, _) = haul(spec.clone(), route.clone(), repeat);
        (0..r.series().len()).map(|i| r.series().moved(i)).collect::<Vec<_>>()
    };
    assert_eq!(rates(0), rates(0));
    assert_ne!(rates(0), rates(1));
}

#[test]
fn long_hauls_on_the_shipped_drives_find_their_truth() {
    for (name, _) in SHIPPED {
        let spec = shipped(name).unwrap();
        let truth = spec.truth();
        let (readings, state) = haul(spec.clone(), route::shipped("long-haul").unwrap(), 0);
        if spec.fault.vanishes_after.is_some() {
            assert_eq!(state, HaulState::Failed, "{name}");
            continue;
        }
        assert_eq!(state, HaulState::Done, "{name}");
        assert_eq!(readings.written(), spec.capacity, "{name}: exactly what the route says is written");
        let found = readings.conclude().findings;
        let ends: Vec<u64> =
            found.iter().filter(|f| f.kind == FindingKind::CacheEnd).map(|f| f.written.get()).collect();
        assert_eq!(ends.len(), truth.cache_end_bytes.len(), "{name}: {found:#?}");
        for (end, true_end) in ends.iter().zip(&truth.cache_end_bytes) {
            let off = (*end as f64 / *true_end as f64 - 1.0).abs();
            assert!(off < 0.005, "{name}: {end} for {true_end}");
        }
        let throttles = found.iter().filter(|f| f.kind == FindingKind::Throttle).count();
        assert_eq!(throttles > 0, name == "moraine-1t", "{name}: {found:#?}");
    }
}

#[test]
fn the_cache_comes_back_in_rest_at_the_stated_rate() {
    let text = "name='x'\n[[leg]]\nkind='write'\nuntil={bytes='400 GB'}\n[[leg]]\nkind='rest'\nuntil={duration='60 s'}\n\
                [[leg]]\nkind='write'\nuntil={bytes='200 GB'}";
    let (readings, _) = haul(shipped("ptarmigan-4t").unwrap(), Route::from_toml(text).unwrap(), 0);
    let ends: Vec<_> =
        readings.conclude().findings.into_iter().filter(|f| f.kind == FindingKind::CacheEnd).collect();
    assert_eq!(ends.len(), 2, "{ends:#?}");
    let after_rest = (ends[1].written.get() - Bytes::from_gb(400).get()) as f64;
    // 60 s at 650 MB/s free 39 GB, but the drive is 10 % full by now, which takes 31.2 GB off the whole.
    assert!((after_rest / 7.76e9 - 1.0).abs() < 0.02, "7.76 GB come back, not {after_rest}");
}

#[test]
fn a_route_can_end_past_the_cache_end() {
    let (readings, _) = haul(shipped("ptarmigan-4t").unwrap(), route::shipped("cache-edge").unwrap(), 0);
    let past = readings.written().gb() - 312.4;
    assert!((60.0..64.0).contains(&past), "ended {past} GB past the cache end");
}

#[test]
fn the_latency_field_holds_every_operation_once_and_its_quantiles() {
    let text = "name = 'x'\n[[leg]]\nkind = 'write'\nblock = '1 MiB'\ndepth = 8\nuntil = { duration = '7.35 s' }\n\
                [[leg]]\nkind = 'rest'\nuntil = { duration = '3 s' }\n\
                [[leg]]\nkind = 'read'\nblock = '64 KiB'\nuntil = { duration = '2 s' }\n";
    let route = Route::from_toml(text).unwrap();
    let (readings, state) = haul(shipped("corrie-2t").unwrap(), route, 1);
    assert_eq!(state, HaulState::Done);
    let ended = readings.legs().iter().filter_map(|l| l.ended.as_ref());
    let all: Vec<(u64, u64)> = ended.flat_map(|(.., s)| s.histogram.clone()).collect();
    let whole = readings.latencies().whole();
    assert_eq!(whole.total(), all.iter().map(|p| p.1).sum::<u64>());
    let mut sorted = all.clone();
    sorted.sort_unstable();
    for q in [0.5, 0.99, 0.9999] {
        let exact = histogram_quantile(&sorted, q).unwrap();
        let told = whole.quantile_ns(q).unwrap();
        assert!((told / exact - 1.0).abs() < 0.03, "{q}: {told} for {exact}");
    }
    let spans: Vec<f64> = readings.latencies().stretches().map(|(_, span, ..)| span.as_secs_f64()).collect();
    assert_eq!(spans.len(), 8 + 2, "a second each, and what is left at the end of a leg: {spans:?}");
    assert!((spans.iter().sum::<f64>() - 9.35).abs() < 0.05, "{spans:?}");
}

#[test]
fn a_pause_and_legs_without_a_lookout_are_no_part_of_its_load() {
    let text = "name = 'x'\n[[leg]]\nkind = 'write'\nlookout = '10 ms'\nuntil = { duration = '4 s' }\n\
                [[leg]]\nkind = 'write'\nuntil = { duration = '20 s' }\n\
                [[leg]]\nkind = 'write'\nlookout = '10 ms'\nuntil = { duration = '10 s' }\n";
    let conditions = Conditions::default();
    let drive = SimDrive::new(shipped("corrie-2t").unwrap(), "sim:test", &conditions, 1);
    let setup = Setup { conditions, ..Setup::plain("test", Route::from_toml(text).unwrap()) };
    let mut haul = Haul::new(drive, setup);
    let (mut readings, mut events) = (Readings::new(), Vec::new());
    let second = Duration::from_secs(1);
    while let Progress::Going = haul.step(&mut events) {
        // From the 26th second on for three seconds.
        haul.pause((26 * second..29 * second).contains(&haul.elapsed()));
        events.drain(..).for_each(|e: Event| readings.push(&e));
    }
    events.drain(..).for_each(|e: Event| readings.push(&e));
    let field = readings.lookout();
    let (rest, load) = (field.during(During::Rest).total(), field.during(During::Load).total());
    // Ten reads in the interval that it takes to pause and to go on.
    assert!(rest.abs_diff(300) <= 20 && load.abs_diff(1100) <= 20, "{rest} at rest, {load} under load");
    // What the leg between moved is nobody's who looked out.
    let moved = |leg: usize| {
        readings.legs()[leg].ended.as_ref().unwrap().2.histogram.iter().map(|p| p.1).sum::<u64>()
    };
    let wanted = (moved(0) + moved(2)) << 20;
    let share = field.moved(During::Load).get() as f64 / wanted as f64;
    assert!((share - 1.0).abs() < 0.03, "{share}");
    // On the ruler of bytes nothing is drawn over that leg.
    let edges = [1, 2].map(|leg| readings.legs()[leg].moved_before.as_f64());
    let between = field.columns(Ruler::Moved, edges[0] + 1.0, edges[1] - 1.0, 1);
    assert_eq!(between[0].total(), 0);
    // A figure lies in its own interval.
    let conclusions = readings.conclude();
    let digest = Digest::of(&readings, &conclusions);
    let quantiles = digest.figures.iter().filter(|f| f.name.to_string().contains(" p"));
    let mut seen = 0;
    for f in quantiles {
        let (low, high) = f.interval.unwrap();
        assert!(
            (low..high).contains(&f.value) && high / low < 1.04,
            "{}: {} in {low} to {high}",
            f.name,
            f.value
        );
        seen += 1;
    }
    assert_eq!(seen, 7, "{:?}", digest.figures.iter().map(|f| f.name.to_string()).collect::<Vec<_>>());
}
