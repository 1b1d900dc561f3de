//! What people do with hauls afterwards, older files, and damaged ones.

use crate::annotate::Purge;
use hollow_mile_core::quantity::FigureId;
use std::os::unix::fs::FileExt;

use super::tests::{events, head, write};
use super::*;
use hollow_mile_core::archive::digest::VERSION as DIGEST;
use hollow_mile_core::drive::LatencySummary;
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::readings::Column;
use hollow_mile_core::record::Sample;

fn opened(dir: &Path, hauls: &[&str]) -> Ledger {
    for haul in hauls {
        write(Ledger::open(dir).unwrap(), haul, true);
    }
    Ledger::open(dir).unwrap()
}

#[test]
fn a_name_tags_and_a_note_stay_and_the_record_does_not_change() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001"]);
    assert_eq!(ledger.haul("aaaa").unwrap().label.as_deref(), Some("bench"));
    ledger.rename("aaaa0001", Some("with the fan")).unwrap();
    let tags = vec![("bay".to_owned(), "2".to_owned())];
    ledger.tag("aaaa0001", &tags).unwrap();
    ledger.note("aaaa0001", Some("loose screw")).unwrap();
    let row = Ledger::open(dir.path()).unwrap().haul("aaaa").unwrap();
    assert_eq!((row.label.as_deref(), &row.conditions.tags), (Some("with the fan"), &tags));
    assert_eq!(
        (row.conditions.label.as_deref(), row.note.as_deref()),
        (Some("with the fan"), Some("loose screw"))
    );
    assert_eq!(ledger.head("aaaa0001").unwrap(), head("aaaa0001"));
    assert!(ledger.rename("bbbb", None).is_err());
}

#[test]
fn a_deleted_haul_is_gone_from_the_list_and_can_be_had_back() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001", "aaaa0002"]);
    let both = ["aaaa0001".to_owned(), "aaaa0002".to_owned()];
    ledger.delete(&both[..1]).unwrap();
    assert_eq!(ledger.hauls().unwrap().len(), 1);
    assert_eq!(ledger.deleted().unwrap()[0].haul, "aaaa0001");
    // Now the beginning is unique, and its whole name still finds it.
    assert_eq!(ledger.haul("aaaa").unwrap().haul, "aaaa0002");
    assert_eq!(ledger.readings("aaaa0001").unwrap().series().len(), 1800);
    assert_eq!(ledger.purge(Purge::Old).unwrap(), 0, "thirty days are not over");
    ledger.restore(&both[..1]).unwrap();
    assert_eq!(ledger.hauls().unwrap().len(), 2);
    // All or none.
    assert!(ledger.delete(&["aaaa0001".to_owned(), "nope".to_owned()]).is_err());
    assert_eq!(ledger.hauls().unwrap().len(), 2);
    ledger.delete(&both).unwrap();
    assert_eq!(ledger.purge(Purge::All).unwrap(), 2);
    assert!(ledger.readings("aaaa0001").unwrap().series().is_empty());
}

#[test]
fn a_running_haul_is_not_deleted() {
    let dir = tempfile::tempdir().unwrap();
    let mut writer = Ledger::open(dir.path()).unwrap().begin(&head("aaaa0009")).unwrap();
    writer.push(events("aaaa0009")[0].clone()).unwrap();
    let other = Ledger::open(dir.path()).unwrap();
    let error = other.delete(&["aaaa0009".to_owned()]).unwrap_err().to_string();
    assert!(error.contains("under way"), "{error}");
}

#[test]
fn a_digest_is_kept_and_made_anew_when_it_is_old() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001"]);
    let kept = ledger.digest("aaaa0001").unwrap();
    assert_eq!(kept.version, DIGEST);
    let cache = kept.figure(FigureId::Cache).unwrap();
    assert!((cache.value / 60.5e9 - 1.0).abs() < 0.01, "{cache:?}");
    let (low, high) = kept.figure(FigureId::Sustained).unwrap().interval.unwrap();
    assert!((low - 254e6).abs() < 1e6 && (high - 254e6).abs() < 1e6, "{low} {high}");
    let old =
        serde_json::to_string(&kept).unwrap().replace(&format!("\"version\":{DIGEST}"), "\"version\":0");
    ledger.db.execute("UPDATE hauls SET digest = ?1", [old]).unwrap();
    assert_eq!(ledger.digest("aaaa0001").unwrap(), kept);
    ledger.db.execute("UPDATE hauls SET digest = 'nonsense'", []).unwrap();
    assert_eq!(ledger.digest("aaaa0001").unwrap(), kept);
    assert_eq!(ledger.subject("aaaa").unwrap().digest, kept);
}

/// As leftovers were written down up to version 4.
pub(crate) fn without_marks(ledger: &Ledger) {
    let outbox = "DROP TRIGGER outbox_new; DROP TRIGGER outbox_changed; DROP TRIGGER outbox_overview; DROP TABLE outbox;
                  DROP TABLE sent; ALTER TABLE hauls DROP COLUMN edited_unix_ms";
    ledger.db.execute_batch(outbox).unwrap();
    for column in ["mark", "born_ns"] {
        ledger.db.execute(&format!("ALTER TABLE leftovers DROP COLUMN {column}"), []).unwrap();
    }
}

#[test]
fn a_ledger_of_version_4_keeps_its_leftovers_and_trusts_none_of_them() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001"]);
    let path = dir.path().join("left.hm");
    std::fs::write(&path, [0; 4096]).unwrap();
    ledger.note_file(&path, "aaaa0001").unwrap();
    without_marks(&ledger);
    ledger.db.pragma_update(None, "user_version", 4).unwrap();
    drop(ledger);
    let ledger = Ledger::open(dir.path()).unwrap();
    assert!(dir.path().join("ledger-version-4.sqlite").exists());
    let left = ledger.leftovers().unwrap();
    assert!(left.len() == 1 && !left[0].certain, "{left:?}");
}

#[test]
fn a_ledger_of_version_3_gets_its_conditions_after_a_copy() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001"]);
    let columns = ["conditions", "tags", "note", "deleted_unix_ms", "digest", "limits", "kept_samples"];
    for column in columns {
        ledger.db.execute(&format!("ALTER TABLE hauls DROP COLUMN {column}"), []).unwrap();
    }
    ledger.db.execute("ALTER TABLE overviews DROP COLUMN program", []).unwrap();
    without_marks(&ledger);
    ledger.db.pragma_update(None, "user_version", 3).unwrap();
    drop(ledger);
    let ledger = Ledger::open(dir.path()).unwrap();
    assert!(dir.path().join("ledger-version-3.sqlite").exists());
    let row = ledger.haul("aaaa").unwrap();
    assert_eq!(row.conditions, head("aaaa0001").conditions);
    assert_eq!(ledger.digest("aaaa0001").unwrap().version, DIGEST);
}

/// Overwrites a part of the file with nonsense.
#[allow(clippy::unwrap_used)]
fn harm(path: &Path, at: u64, bytes: usize) {
    let file = OpenOptions::new().write(true).open(path).unwrap();
    file.write_all_at(&vec![0xA5; bytes], at).unwrap();
}

#[test]
fn what_can_be_saved_of_a_damaged_ledger_is_saved_and_said() {
    let dir = tempfile::tempdir().unwrap();
    let hauls = ["aaaa0001", "aaaa0002", "aaaa0003", "aaaa0004"];
    let ledger = opened(dir.path(), &hauls);
    ledger.rename("aaaa0002", Some("kept name")).unwrap();
    ledger.db.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(())).unwrap();
    drop(ledger);
    let path = dir.path().join("ledger.sqlite");
    let whole = std::fs::read(&path).unwrap();
    let (mut saved_most, mut spoilt) = (0, 0);
    // One page at a time, over the whole file but for its first, which names the tables.
    for page in 1..whole.len() / 4096 {
        let home = tempfile::tempdir().unwrap();
        std::fs::create_dir(home.path().join("locks")).unwrap();
        let path = home.path().join("ledger.sqlite");
        std::fs::write(&path, &whole).unwrap();
        harm(&path, page as u64 * 4096, 4096);
        let (ledger, rescued) = rescue::rescue(home.path()).unwrap();
        assert!(rescued.aside.exists() && rescued.hauls >= 3, "page {page}: {rescued:?}");
        saved_most = saved_most.max(rescued.hauls);
        let mut complete = 0;
        for row in ledger.hauls().unwrap() {
            let samples = ledger.readings(&row.haul).unwrap().series().len();
            complete += usize::from(samples == 1800);
            let torn = rescued.torn.iter().any(|t| t.0 == row.haul);
            assert!(samples == 1800 || torn, "page {page}: {} has {samples}, not said", row.haul);
        }
        // What was concluded is there even where a record is not.
        let told = ledger.hauls().unwrap().iter().filter(|r| r.summary.starts_with("cache-end")).count();
        assert!(told >= 3, "page {page}: {told} told");
        spoilt += usize::from(complete < 3);
    }
    // Short hauls share the two pages that lead to their batches: the loss of one takes more than one record.
    assert!(saved_most == 4 && spoilt <= 2, "{saved_most} {spoilt}");
}

#[test]
fn a_file_that_is_no_ledger_is_told_as_damaged() {
    let dir = tempfile::tempdir().unwrap();
    drop(opened(dir.path(), &["aaaa0001"]));
    harm(&dir.path().join("ledger.sqlite"), 0, 100);
    let error = Ledger::open(dir.path()).err().unwrap().to_string();
    assert!(error.contains("--rescue"), "{error}");
}

#[test]
fn health_and_files_left_behind_outlive_a_damaged_ledger() {
    let dir = tempfile::tempdir().unwrap();
    let head = head("aaaa0001");
    let mut writer = Ledger::open(dir.path()).unwrap().begin(&head).unwrap();
    writer.push(Event::HaulStarted(Box::new(head))).unwrap();
    for gb in [10, 13, 17] {
        writer.push(super::tests::vitals(gb)).unwrap();
    }
    let ledger = writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
    let left = dir.path().join("left.bin");
    std::fs::write(&left, [0; 512]).unwrap();
    ledger.note_file(&left, "aaaa0001").unwrap();
    let (wear, leftovers) = (ledger.wear("KW-0001").unwrap(), ledger.leftovers().unwrap());
    assert_eq!((wear.len(), leftovers.len()), (1, 1));
    drop(ledger);
    let (ledger, rescued) = rescue::rescue(dir.path()).unwrap();
    assert!(rescued.torn.is_empty() && rescued.lost.is_empty(), "{rescued:?}");
    assert_eq!(ledger.wear("KW-0001").unwrap(), wear);
    assert!(ledger.leftovers().unwrap()[0].certain, "what it is known by is rescued too");
}

/// A long write in which the cache ends, with one very late operation and one hot moment.
fn long_write(dir: &Path, haul: &str, samples: u64) {
    let head = head(haul);
    let mut writer = Ledger::open(dir).unwrap().begin(&head).unwrap();
    let mut readings = Readings::new();
    let mut push = |event: Event| {
        readings.push(&event);
        writer.push(event).unwrap();
    };
    push(Event::HaulStarted(Box::new(head)));
    push(Event::LegStarted { at: Duration::ZERO, leg: 0 });
    for i in 0..samples {
        let full = i < 7_777;
        push(Event::Sample(Sample {
            end: Duration::from_millis((i + 1) * 100),
            span: Duration::from_millis(100),
            written: Bytes::new(if full { 300_000_000 } else { 40_000_000 } + (i * 7919) % 4_000_000),
            temperature: Some(Celsius::new(if i == 12_345 { 71.0 } else { 50.0 })),
            latency: Some(LatencySummary {
                operations: 9,
                p50_us: 80,
                p99_us: 200,
                max_us: if i == 3_333 { 900_000 } else { 400 },
            }),
            ..Sample::default()
        }));
    }
    push(Event::HaulEnded { at: Duration::from_secs(2_000), state: HaulState::Done, reason: None });
    let conclusions = readings.conclude();
    writer.finish(HaulState::Done, None, &readings, &conclusions).unwrap();
}

/// Slowest and fastest rate, lowest and highest temperature, longest p99, over so many columns.
fn extremes(r: &Readings, columns: usize) -> [Option<f64>; 5] {
    let columns =
        r.columns(hollow_mile_core::readings::Ruler::Elapsed, 0.0, r.elapsed().as_secs_f64(), columns);
    let of = |f: &dyn Fn(&Column) -> Option<f64>, pick: fn(f64, f64) -> f64| {
        columns.iter().filter_map(f).reduce(pick)
    };
    [
        of(&|c| c.slowest.map(|r| r.get()), f64::min),
        of(&|c| c.fastest.map(|r| r.get()), f64::max),
        of(&|c| c.coldest.map(|t| t.degrees()), f64::min),
        of(&|c| c.hottest.map(|t| t.degrees()), f64::max),
        of(&|c| c.p99.map(|p| p.as_secs_f64()), f64::max),
    ]
}

#[test]
fn a_picture_of_a_long_record_is_drawn_from_less_and_has_its_extremes() {
    let dir = tempfile::tempdir().unwrap();
    long_write(dir.path(), "aaaa0001", 120_000);
    let ledger = Ledger::open(dir.path()).unwrap();
    let (whole, conclusions) = ledger.concluded("aaaa0001").unwrap();
    let (short, kept) = ledger.pictured("aaaa0001").unwrap();
    assert!(short.series().len() * 3 < whole.series().len(), "{}", short.series().len());
    assert_eq!(extremes(&short, 660), extremes(&whole, 660));
    assert_eq!((short.written(), short.elapsed()), (whole.written(), whole.elapsed()));
    assert_eq!(kept.findings.len(), conclusions.findings.len());
    // Another version of the program may conclude other things: then the whole record is read.
    ledger.db.execute("UPDATE overviews SET program = '0.0.0'", []).unwrap();
    assert_eq!(ledger.pictured("aaaa0001").unwrap().0.series().len(), whole.series().len());
    assert!(matches!(ledger.pictured("bbbb"), Ok((r, _)) if r.series().is_empty()));
}

#[test]
fn a_compacted_record_keeps_findings_figures_and_extremes() {
    let dir = tempfile::tempdir().unwrap();
    long_write(dir.path(), "aaaa0001", 20_000);
    let ledger = opened(dir.path(), &["aaaa0002"]);
    let (readings, before) = ledger.concluded("aaaa0001").unwrap();
    assert_eq!(before.findings.len(), 1);
    // As it is kept: rates in whole bytes a second.
    let before: Conclusions = serde_json::from_str(&serde_json::to_string(&before).unwrap()).unwrap();
    let digest = ledger.digest("aaaa0001").unwrap();
    assert_eq!(ledger.compact(0).unwrap().hauls, Vec::<String>::new(), "none began before 1970");
    let running = Ledger::open(dir.path()).unwrap().begin(&head("aaaa0003")).unwrap();
    assert!(matches!(ledger.compact(i64::MAX), Err(LedgerError::InUse(h)) if h == "aaaa0003"));
    drop(running);
    let ledger = Ledger::open(dir.path()).unwrap();
    let done = ledger.compact(i64::MAX).unwrap();
    assert_eq!((done.hauls.len(), done.samples_before), (2, 21_800));
    assert!(
        done.samples_after * 7 < done.samples_before && done.bytes_after * 2 < done.bytes_before,
        "{done:?}"
    );
    let (thinned, after) = ledger.concluded("aaaa0001").unwrap();
    assert_eq!(after, before);
    assert_eq!(ledger.digest("aaaa0001").unwrap(), digest);
    assert_eq!(ledger.overview("aaaa0001").unwrap().1, before);
    assert_eq!(extremes(&thinned, 1), extremes(&readings, 1));
    assert_eq!((thinned.written(), thinned.elapsed()), (readings.written(), readings.elapsed()));
    let row = ledger.haul("aaaa0001").unwrap();
    assert_eq!((row.samples, row.kept_samples), (20_000, Some(thinned.series().len() as u64)));
    assert_eq!(ledger.compact(i64::MAX).unwrap().hauls, Vec::<String>::new(), "once is enough");
    // What was concluded is saved from a damaged file too.
    drop(ledger);
    let (rescued, said) = rescue::rescue(dir.path()).unwrap();
    assert!(said.torn.iter().all(|(haul, _)| haul == "aaaa0003"), "of that nothing was written: {said:?}");
    assert_eq!(rescued.concluded("aaaa0001").unwrap().1, before);
    assert_eq!(rescued.digest("aaaa0001").unwrap(), digest);
}
