//! What people do with hauls afterwards, older files, and damaged ones.

use std::os::unix::fs::FileExt;

use super::tests::{events, head, write};
use super::*;
use hollow_mile_core::digest::VERSION as DIGEST;

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
    assert_eq!(ledger.purge(false).unwrap(), 0, "thirty days are not over");
    ledger.restore(&both[..1]).unwrap();
    assert_eq!(ledger.hauls().unwrap().len(), 2);
    // All or none.
    assert!(ledger.delete(&["aaaa0001".to_owned(), "nope".to_owned()]).is_err());
    assert_eq!(ledger.hauls().unwrap().len(), 2);
    ledger.delete(&both).unwrap();
    assert_eq!(ledger.purge(true).unwrap(), 2);
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
    let cache = kept.figure("cache").unwrap();
    assert!((cache.value / 60.5e9 - 1.0).abs() < 0.01, "{cache:?}");
    let (low, high) = kept.figure("sustained").unwrap().interval.unwrap();
    assert!((low - 254e6).abs() < 1e6 && (high - 254e6).abs() < 1e6, "{low} {high}");
    let old =
        serde_json::to_string(&kept).unwrap().replace(&format!("\"version\":{DIGEST}"), "\"version\":0");
    ledger.db.execute("UPDATE hauls SET digest = ?1", [old]).unwrap();
    assert_eq!(ledger.digest("aaaa0001").unwrap(), kept);
    ledger.db.execute("UPDATE hauls SET digest = 'nonsense'", []).unwrap();
    assert_eq!(ledger.digest("aaaa0001").unwrap(), kept);
    assert_eq!(ledger.subject("aaaa").unwrap().digest, kept);
}

#[test]
fn a_ledger_of_version_3_gets_its_conditions_after_a_copy() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = opened(dir.path(), &["aaaa0001"]);
    let columns = ["conditions", "tags", "note", "deleted_unix_ms", "digest", "limits"];
    for column in columns {
        ledger.db.execute(&format!("ALTER TABLE hauls DROP COLUMN {column}"), []).unwrap();
    }
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
    std::fs::write(&left, b"x").unwrap();
    ledger.note_file(&left, "aaaa0001").unwrap();
    let (wear, leftovers) = (ledger.wear("KW-0001").unwrap(), ledger.leftovers().unwrap());
    assert_eq!((wear.len(), leftovers.len()), (1, 1));
    drop(ledger);
    let (ledger, rescued) = rescue::rescue(dir.path()).unwrap();
    assert!(rescued.torn.is_empty() && rescued.lost.is_empty(), "{rescued:?}");
    assert_eq!(ledger.wear("KW-0001").unwrap(), wear);
    assert_eq!(ledger.leftovers().unwrap().len(), 1);
}
