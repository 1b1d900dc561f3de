use super::*;
use crate::quantity::Interval;

fn route(legs: &str) -> Route {
    Route::from_toml(&format!("name = \"x\"\n{legs}")).unwrap()
}

fn one(kind: &str, more: &str) -> Route {
    route(&format!("[[leg]]\nkind = \"{kind}\"\n{more}\n"))
}

fn s(seconds: u64) -> Duration {
    Duration::from_secs(seconds)
}

fn known() -> Known {
    let mut known = Known::default();
    // 100 GB at 2,000 MB/s, then 500 MB/s.
    known.levels.push(Levels {
        burst: Rate::from_mb_s(2000.0),
        cache: Bytes::from_gb(100),
        sustained: Rate::from_mb_s(500.0),
    });
    known
}

const TERA: Bytes = Bytes::new(1_000_000_000_000);

#[test]
fn a_write_takes_what_its_levels_say_and_a_rest_gives_the_cache_back() {
    let k = known();
    let write = one("write", "until = { bytes = \"300 GB\" }");
    // 50 s for the cache and 400 s for the rest of it, from one haul: 15 % either way.
    let span = k.route(&write, TERA).unwrap();
    assert_eq!((span.likely, span.basis), (s(450), Basis::Hauls(1)));
    assert_eq!((span.low.as_secs(), span.high.unwrap().as_secs()), (382, 517));
    let write = "[[leg]]\nkind = \"write\"\nuntil = { bytes = \"100 GB\" }\n";
    let rest = "[[leg]]\nkind = \"rest\"\nuntil = { duration = \"10 s\" }\n";
    assert_eq!(k.route(&route(&format!("{write}{write}")), TERA).unwrap().likely, s(50 + 200));
    assert_eq!(k.route(&route(&format!("{write}{rest}{write}")), TERA).unwrap().likely, s(50 + 10 + 50));
}

#[test]
fn a_stream_takes_its_rate_and_reads_count() {
    let k = known();
    let paced = one("write", "rate = \"100 MB/s\"\nuntil = { bytes = \"360 GB\" }");
    let span = k.route(&paced, TERA).unwrap();
    assert_eq!((span.low, span.high, span.basis), (s(3600), Some(s(3600)), Basis::Legs));
    // Of reads nothing is known: the link tells the least, and nothing the most.
    let read = one("read", "until = { bytes = \"100 %\" }");
    assert_eq!(k.route(&read, TERA), Err(0));
    let link = Known { link: Some(Rate::from_mb_s(500.0)), ..known() };
    let span = link.route(&read, TERA).unwrap();
    assert_eq!((span.low, span.high, span.basis), (s(2000), None, Basis::Link));
    let mut read_before = known();
    read_before.over_the_ground = vec![Rate::from_mb_s(200.0), Rate::from_mb_s(250.0)];
    let span = read_before.route(&one("scan", "passes = 2"), TERA).unwrap();
    assert_eq!((span.low.as_secs(), span.high.unwrap().as_secs()), (7600, 10500));
    assert_eq!(span.basis, Basis::Hauls(2));
}

#[test]
fn time_and_bytes_end_a_leg_whichever_comes_first() {
    let k = known();
    let both = one("write", "until = { bytes = \"300 GB\", duration = \"60 s\" }");
    let span = k.route(&both, TERA).unwrap();
    assert_eq!((span.likely, span.high, span.basis), (s(60), Some(s(60)), Basis::Legs));
    let rest = one("rest", "until = { temperature = \"40 °C\", duration = \"10 min\" }");
    let span = k.route(&rest, TERA).unwrap();
    assert_eq!((span.low, span.high), (s(0), Some(s(600))));
    assert_eq!(k.route(&one("rest", "until = { temperature = \"40 °C\" }"), TERA), Err(0));
    // What ends it is found while it runs: it may be at once, and by its bytes at the latest.
    let steady = one("write", "until = { bytes = \"100 GB\", steady = true }");
    assert_eq!(k.route(&steady, TERA).unwrap().low, s(0));
}

#[test]
fn rounds_take_five_at_least_and_all_at_most() {
    let group = route(
        "[[leg]]\nkind = \"group\"\nrepeat = 25\nsteady = { legs = [1] }\n[[leg.leg]]\nkind = \"write\"\nuntil = { duration = \"60 s\" }\n",
    );
    let span = known().route(&group.laid_out(crate::route::LaidOn::Drive), TERA).unwrap();
    assert_eq!((span.low, span.high), (s(5 * 60), Some(s(25 * 60))));
}

#[test]
fn a_rest_until_it_is_cool_takes_what_its_heat_says() {
    let interval = |value: f64, off: f64| Interval { value, low: value - off, high: value + off };
    let heat = HeatDigest {
        tau_s: interval(100.0, 10.0),
        rise_k_per_gb_s: interval(20.0, 0.0),
        idle_c: interval(30.0, 0.0),
        residual_k: 0.5,
        ambient_c: None,
        limit_c: None,
        seen_mb_s: 2000.0,
        covariance: [[0.0; 2]; 2],
        t95: 2.0,
        at_mb_s: 2000.0,
    };
    let k = Known { heats: vec![heat], ..known() };
    // A long write in the cache, at 2 GB/s: it stands at 70 °C, and cools to 35 °C in ln 8 time constants.
    let write = "[[leg]]\nkind = \"write\"\nrate = \"2 GB/s\"\nuntil = { duration = \"1 h\" }\n";
    let rest = "[[leg]]\nkind = \"rest\"\nuntil = { temperature = \"35 °C\" }\n";
    let legs = k.legs(&route(&format!("{write}{rest}{rest}")), TERA);
    let span = legs[1].unwrap();
    assert!((span.likely.as_secs_f64() - 100.0 * 8f64.ln()).abs() < 0.01, "{span:?}");
    // Its model holds to 10 %, and one haul tells to 15 %.
    assert!((span.low.as_secs_f64() - 0.85 * 90.0 * 8f64.ln()).abs() < 0.01, "{span:?}");
    assert_eq!(span.basis, Basis::Hauls(1));
    // It is there already.
    assert!(legs[2].unwrap().likely < s(1));
    // A write until it is warm: ln 2 time constants to 50 °C.
    let warm = one("write", "rate = \"2 GB/s\"\nuntil = { temperature = \"50 °C\", duration = \"1 h\" }");
    assert_eq!(k.legs(&warm, TERA)[0].unwrap().likely.as_secs(), 69);
    let never = one("rest", "until = { temperature = \"20 °C\", duration = \"1 h\" }");
    assert_eq!(k.legs(&never, TERA)[0].unwrap().likely, s(3600));
    assert_eq!(
        k.route(&one("write", "until = { past_cache_end = \"50 GB\" }"), TERA).unwrap().likely,
        s(150)
    );
}

#[test]
fn the_same_route_tells_more_than_anything_else() {
    let mut k = known();
    let write = one("write", "until = { bytes = \"300 GB\" }");
    k.whole = vec![
        (write.clone(), TERA, s(500)),
        (write.clone(), TERA, s(520)),
        (write.clone(), Bytes::from_gb(1), s(3)),
        (one("read", "until = { bytes = \"1 %\" }"), TERA, s(9)),
    ];
    let span = k.route(&write, TERA).unwrap();
    assert_eq!(span.basis, Basis::SameRoute(2));
    assert_eq!((span.low, span.high), (s(475), Some(s(546))));
}

#[test]
fn a_fill_adds_to_the_one_before() {
    let fill = |level: &str| format!("[[leg]]\nkind = \"fill\"\nlevel = \"{level}\"\n");
    let both = route(&format!("{}{}", fill("20 %"), fill("50 %")));
    let legs = known().legs(&both, TERA);
    // 200 GB: 50 s and 200 s; then 300 GB more at 500 MB/s.
    assert_eq!(legs.iter().map(|l| l.unwrap().likely).collect::<Vec<_>>(), [s(250), s(600)]);
}
