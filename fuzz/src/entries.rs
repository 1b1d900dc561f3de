//! What is fuzzed: every place where bytes of strangers come in. Each entry takes any bytes and must neither panic nor
//! hang nor take much memory; what it says of itself (a decoded value, a record written again) must hold together.
//!
//! The tests replay the kept corpus through the same entries (`crates/app/tests/strange_bytes.rs`).

use hollow_mile::targets;
use hollow_mile::watch::frame::{Frames, Message};
use hollow_mile_core::archive::claims::Claims;
use hollow_mile_core::drive::erasure::Erasure;
use hollow_mile_core::drive::freight::{Shape, Tree};
use hollow_mile_core::drive::protocol::{ata, nvme, nvme_erase, nvme_media, nvme_power, sat, signature};
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::quantity::units::{Bytes, Celsius, Rate};
use hollow_mile_core::readings::Readings;
use hollow_mile_core::record::bytes;
use hollow_mile_core::record::{Conditions, Event};
use hollow_mile_core::route::LaidOn;
use hollow_mile_core::route::Route;
use hollow_mile_drives::sim::{self, SimDrive, SimSpec};
use hollow_mile_ledger::{Ledger, csv, rescue};

/// Takes bytes, whatever they are.
pub type Entry = fn(&[u8]);

/// Each by its name, which is also its folder in the corpus.
pub const ALL: [(&str, Entry); 10] = [
    ("pages", pages),
    ("nvme", nvme_pages),
    ("record", batch),
    ("csv", csv),
    ("route", route),
    ("drive", drive),
    ("shape", shape),
    ("claims", claims),
    ("ledger", ledger),
    ("watch", frames),
];

/// What was read can be shown.
fn shown(value: &impl std::fmt::Debug) {
    assert!(!format!("{value:?}").is_empty());
}

/// Health pages of NVMe and ATA drives, sense data, and what lies at the ends of a medium.
pub fn pages(data: &[u8]) {
    let Some((which, page)) = data.split_first() else { return };
    let mut page = page.to_vec();
    // ATA pages add up to zero; a fuzzer would never get past that.
    if *which >= 128 && page.len() >= 512 {
        let sum = page[..511].iter().fold(0u8, |s, b| s.wrapping_add(*b));
        page[511] = 0u8.wrapping_sub(sum);
    }
    match which % 14 {
        0 => shown(&nvme::IdentifyController::decode(&page)),
        1 => shown(&nvme::IdentifyNamespace::decode(&page)),
        2 => {
            let log = nvme::SmartLog::decode(&page);
            shown(&log);
        }
        3 => nvme::decode_error_log(&page).iter().for_each(|e| shown(&e)),
        4 => {
            if let Ok(log) = nvme::SelfTestLog::decode(&page) {
                shown(&log);
            }
        }
        5 => shown(&ata::IdentifyDevice::decode(&page)),
        6 => {
            let (data, thresholds) = page.split_at(page.len().min(512));
            if let Ok(mut smart) = ata::SmartData::decode(data) {
                shown(&smart.add_thresholds(thresholds));
                shown(&smart.customary_temperature());
                shown(&smart);
            }
        }
        7 => shown(&ata::decode_self_test_log(&page)),
        8 => shown(&ata::decode_error_log(&page)),
        9 => shown(&ata::SctStatus::decode(&page)),
        10 => {
            let mut statistics = ata::DeviceStatistics::default();
            for part in page.chunks(512) {
                let _ = statistics.add_page(part);
            }
            shown(&statistics);
        }
        11 => shown(&sat::Sense::decode(&page)),
        12 => {
            let capacity = page.len() as u64 * 512;
            let (head, tail) = page.split_at(page.len() / 2);
            let mut looked = signature::Looked::new(Bytes::new(capacity));
            looked.add(0, head.to_vec());
            looked.add(capacity - tail.len() as u64, tail.to_vec());
            shown(&signature::detect(&looked));
        }
        _ => {
            let mut word = [0; 4];
            page.iter().take(4).enumerate().for_each(|(i, b)| word[i] = *b);
            shown(&nvme::thermal_management(u32::from_le_bytes(word)));
        }
    }
}

/// Pages of NVMe drives that tell of power, of the media, and of erasing.
pub fn nvme_pages(data: &[u8]) {
    let Some((which, page)) = data.split_first() else { return };
    match which % 8 {
        0 => shown(&nvme_power::PowerState::decode_all(page)),
        1 => shown(&nvme_media::EnduranceGroup::decode(page)),
        2 => shown(&nvme_media::OcpHealth::decode(page)),
        3 => shown(&nvme_media::has_log_page(page, *which)),
        4 => shown(&(nvme_media::has_endurance_groups(page), nvme_media::endurance_group_of(page))),
        5 => shown(
            &nvme_erase::Offers::decode(page).map(|o| Erasure::ALL.map(|by| (o.has(by), o.reaches_all(by)))),
        ),
        6 => shown(&Erasure::ALL.map(|by| nvme_erase::format_dword(page, by))),
        _ => shown(&(nvme_erase::sanitize_status(page), nvme_erase::namespaces(page))),
    }
}

fn from_json(json: &[u8]) -> Result<Event, String> {
    serde_json::from_slice(json).map_err(|e| e.to_string())
}

/// A batch of a ledger's record. What can be read can be written, and read again as the same.
pub fn batch(data: &[u8]) {
    let Ok(events) = bytes::decode(data, from_json) else { return };
    let again = bytes::encode(&events, serde_json::to_vec).expect("what was read can be written");
    assert_eq!(bytes::decode(&again, from_json).expect("and read again"), events);
    conclude(&events);
}

fn conclude(events: &[Event]) {
    let mut readings = Readings::new();
    events.iter().for_each(|e| readings.push(e));
    if events.len() < 4000 {
        let conclusions = readings.conclude();
        for f in &conclusions.findings {
            assert!((0.0..=1.0).contains(&f.confidence), "a confidence of {}", f.confidence);
        }
    }
}

/// A CSV file of telemetry, in and out again.
pub fn csv(data: &[u8]) {
    let Ok(imported) = csv::import("strange.csv", std::io::Cursor::new(data)) else { return };
    conclude(&imported.events);
    let mut out = Vec::new();
    csv::export(&imported.events, &mut out).expect("memory can be written");
    assert!(!out.is_empty());
}

fn setup(route: Route) -> Setup {
    Setup::plain("0badcafe", route)
}

/// A few steps of a route on a drive.
fn steps(drive: SimDrive, route: Route, most: usize) {
    let mut haul = Haul::new(drive, setup(route));
    let mut events = Vec::new();
    for _ in 0..most {
        if matches!(haul.step(&mut events), Progress::Ended(_)) {
            break;
        }
    }
    conclude(&events);
}

/// A route file: told in words, laid out, held against a drive, and begun on it.
pub fn route(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    shown(&text.parse::<Bytes>());
    shown(&text.parse::<Rate>());
    shown(&text.parse::<Celsius>());
    let _ = Route::read_all_faults(text).map_err(|faults| assert!(!faults.is_empty()));
    let Ok(route) = Route::from_toml(text) else { return };
    let spec = sim::shipped("gannet-64").expect("it ships");
    let identity = spec.identity("sim:gannet-64");
    for leg in &route.legs {
        shown(&leg.words());
    }
    shown(&(route.bytes_written_on(identity.capacity), route.fills(), route.destroys()));
    let again = route.to_toml().expect("a route can be written");
    assert_eq!(Route::from_toml(&again).expect("and read again"), route, "{again}");
    shown(&targets::doubts(&route, &identity));
    // A tree of millions of files takes its seconds, and tells nothing that one of thousands does not.
    let small = route
        .legs
        .iter()
        .all(|l| l.count.is_none_or(|n| n < 100_000) && l.total.is_none_or(|t| t.get() < 1 << 32));
    let fits = small && targets::fits(&route, &identity, None).is_ok();
    if fits && route.laid_out(LaidOn::Drive).legs.len() < 200 {
        steps(SimDrive::new(spec, "sim:gannet-64", &Conditions::default(), 0), route, 60);
    }
}

/// A file of a simulated drive: its truth, and a short haul on it.
pub fn drive(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(spec) = SimSpec::from_toml(text) else { return };
    shown(&spec.truth());
    let identity = spec.identity("sim:strange.toml");
    assert!(identity.capacity > Bytes::ZERO);
    let Some(route) = hollow_mile_core::route::shipped("long-haul") else { return };
    if targets::fits(&route, &identity, None).is_ok() {
        steps(SimDrive::new(spec, "sim:strange.toml", &Conditions::default(), 1), route, 120);
    }
}

/// A file of the shape of a folder, and the tree that is made of it.
pub fn shape(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(shape) = Shape::from_toml(text) else { return };
    assert_eq!(Shape::from_toml(&shape.to_toml()).expect("it reads back"), shape);
    if shape.files() < 100_000 {
        let tree = Tree::like(&shape, 1);
        assert_eq!(tree.files() as u64, shape.files());
        shown(&tree.file_path(tree.files() - 1));
    }
}

/// A claims file.
pub fn claims(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(claims) = Claims::parse(text) else { return };
    shown(&claims.is_of("Corrie C2"));
    shown(&claims.drive_writes_per_day(Bytes::new(2_000_000_000_000)));
    shown(&claims.cost(Bytes::new(1_000_000_000_000)));
}

/// A ledger's file: opened, listed, every haul read, and rescued.
pub fn ledger(data: &[u8]) {
    let folder =
        tempfile::Builder::new().tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).expect("a folder");
    let home = folder.path();
    std::fs::write(home.join("ledger.sqlite"), data).expect("a file");
    if let Ok(ledger) = Ledger::open(home) {
        for row in ledger.hauls().unwrap_or_default().iter().take(8) {
            let _ = ledger.head(&row.haul);
            if let Ok(readings) = ledger.readings(&row.haul)
                && readings.series().len() < 4000
            {
                shown(&readings.conclude().findings.len());
            }
            let _ = ledger.overview(&row.haul);
            let _ = ledger.digest(&row.haul);
            let _ = ledger.earlier(&row.serial);
            let _ = ledger.wear(&row.serial);
        }
        let _ = ledger.leftovers();
    }
    if let Ok((new, said)) = rescue::rescue(home) {
        assert!(new.hauls().is_ok_and(|h| h.len() <= said.hauls + 1));
    }
}

/// What comes over the socket of a haul under way, in pieces.
pub fn frames(data: &[u8]) {
    let Some((size, data)) = data.split_first() else { return };
    let mut frames = Frames::default();
    for piece in data.chunks(usize::from(*size).max(1)) {
        frames.take(piece);
        loop {
            match frames.next() {
                Ok(Some(message)) => {
                    let bytes = message.to_bytes().expect("what was read can be written");
                    let mut again = Frames::default();
                    again.take(&bytes);
                    assert_eq!(again.next().ok().flatten().as_ref(), Some(&message));
                    if let Message::Events(events) = &message {
                        conclude(events);
                    }
                }
                Ok(None) => break,
                Err(_) => return,
            }
        }
    }
}
