use super::*;
use hollow_mile_core::drive::{DriveIdentity, DriveKind};
use hollow_mile_core::quantity::units::Celsius;
use hollow_mile_core::record::{Conditions, Sample};
use hollow_mile_core::route;
use std::os::unix::fs::MetadataExt;

pub(crate) fn head(haul: &str) -> HaulHead {
    HaulHead {
        haul: haul.into(),
        drive: DriveIdentity {
            model: "Test".into(),
            serial: "KW-0001".into(),
            throttle_limit: Some(Celsius::new(80.0)),
            ..DriveIdentity::plain("sim:test", DriveKind::Simulated, Bytes::from_gb(100))
        },
        route: route::shipped("long-haul").unwrap(),
        conditions: Conditions { label: Some("bench".into()), ..Conditions::default() },
        started_unix_ms: 1_700_000_000_000,
        engine: "test".into(),
        program: "0".into(),
        forecast: None,
        held_to: Default::default(),
    }
}

/// 60 GB at 1 GB/s, then 30 GB at 250 MB/s.
pub(crate) fn events(haul: &str) -> Vec<Event> {
    let mut events =
        vec![Event::HaulStarted(Box::new(head(haul))), Event::LegStarted { at: Duration::ZERO, leg: 0 }];
    let mut written = 0;
    for i in 1..=1800u64 {
        let step = if i <= 600 { 100_000_000 + i % 7 * 300_000 } else { 25_000_000 + i % 5 * 200_000 };
        written += step;
        events.push(Event::Sample(Sample {
            end: Duration::from_millis(i * 100),
            span: Duration::from_millis(100),
            written: Bytes::new(step),
            position: Some(Bytes::new(written)),
            temperature: Some(Celsius::new(50.0 + (i / 400) as f64)),
            ..Sample::default()
        }));
    }
    events.push(Event::HaulEnded { at: Duration::from_secs(180), state: HaulState::Done, reason: None });
    events
}

pub(crate) fn write(ledger: Ledger, haul: &str, finish: bool) {
    let mut writer = ledger.begin(&head(haul)).unwrap();
    let mut readings = Readings::new();
    for event in events(haul) {
        readings.push(&event);
        writer.push(event).unwrap();
    }
    if finish {
        writer.finish(HaulState::Done, None, &readings, &readings.conclude()).unwrap();
    } else {
        writer.commit().unwrap();
        // As after a kill: the lock is freed with the process, nothing else happens.
        drop(writer);
    }
}

#[test]
fn a_haul_comes_back_as_it_went_in() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "ab12cd34", true);
    let ledger = Ledger::open(dir.path()).unwrap();
    let row = ledger.haul("ab1").unwrap();
    assert_eq!((row.state, row.samples, row.label.as_deref()), (HaulState::Done, 1800, Some("bench")));
    assert_eq!(ledger.haul("last").unwrap(), row);
    assert!(row.summary.starts_with("cache-end 60."), "{}", row.summary);
    let mut back = Vec::new();
    ledger.replay(&row.haul, |e| back.push(e.clone())).unwrap();
    assert_eq!(back, events("ab12cd34"));
    assert_eq!(ledger.head("ab12cd34").unwrap(), head("ab12cd34"));
}

#[test]
fn a_running_haul_whose_program_died_is_cut_short_and_a_live_one_is_not() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "dead0001", false);
    let live = Ledger::open(dir.path()).unwrap().begin(&head("live0001")).unwrap();
    let ledger = Ledger::open(dir.path()).unwrap();
    assert_eq!(ledger.haul("dead").unwrap().state, HaulState::CutShort);
    assert!(ledger.haul("dead").unwrap().summary.contains("cache-end"));
    assert_eq!(ledger.haul("live").unwrap().state, HaulState::Running);
    drop(live);
}

#[test]
fn names_that_are_unknown_or_unclear_are_refused_in_words() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "aa000001", true);
    write(Ledger::open(dir.path()).unwrap(), "aa000002", true);
    let ledger = Ledger::open(dir.path()).unwrap();
    let words = |given: &str| ledger.haul(given).unwrap_err().to_string();
    assert!(words("aa").contains("stands for 2 hauls"));
    assert!(words("zz").contains("no haul \"zz\""));
    assert!(words("").contains("no haul"));
    assert!(words("%").contains("no haul"));
}

#[test]
fn a_home_that_cannot_be_written_and_a_newer_ledger_say_so() {
    let error = Ledger::open(Path::new("/proc/nowhere")).err().unwrap().to_string();
    assert!(error.contains("cannot be written") && error.contains("HOLLOW_MILE_HOME"), "{error}");
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(dir.path()).unwrap();
    ledger.db.pragma_update(None, "user_version", 99).unwrap();
    let error = Ledger::open(dir.path()).err().unwrap().to_string();
    assert!(error.contains("version 99"), "{error}");
}

#[test]
fn a_damaged_batch_is_an_error_with_its_place() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "bad00001", true);
    let ledger = Ledger::open(dir.path()).unwrap();
    ledger.db.execute("UPDATE batches SET bytes = substr(bytes, 1, 40) WHERE seq = 1", []).unwrap();
    let mut seen = 0;
    let error = ledger.replay("bad00001", |_| seen += 1).unwrap_err().to_string();
    assert!(error.contains("haul bad00001, batch 1: the batch is damaged"), "{error}");
    assert!(seen >= 1, "what stands before the damage is handed over");
}

/// A file as a haul makes it: with a mark, or on a file system that keeps none.
fn made(path: &std::path::Path, mark: Option<&str>) {
    let mut block = vec![7u8; 4096];
    block[..8].copy_from_slice(&hollow_mile_core::drive::stamp::PLAIN);
    std::fs::write(path, block).unwrap();
    if let Some(mark) = mark {
        let flags = rustix::fs::XattrFlags::CREATE;
        let name = hollow_mile_core::drive::stamp::FILE_MARK;
        rustix::fs::setxattr(path, name, mark.as_bytes(), flags).unwrap();
    }
}

#[test]
fn leftovers_are_ours_only_while_they_are_the_same_file() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "file0001", false);
    let ledger = Ledger::open(dir.path()).unwrap();
    let path = dir.path().join("try.hm");
    made(&path, None);
    ledger.note_file(&path, "file0001").unwrap();
    assert!(ledger.leftovers().unwrap()[0].certain);
    let other = dir.path().join("other");
    std::fs::write(&other, "not ours").unwrap();
    std::fs::rename(&other, &path).unwrap();
    assert_eq!(ledger.leftovers().unwrap(), []);
    assert!(path.exists(), "a file that took its place is left alone");
}

fn no_folder(_: &std::path::Path) -> Result<(), String> {
    panic!("it is no folder")
}

#[test]
fn a_folder_of_ours_is_known_by_the_mark_in_it() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "file0001", false);
    let ledger = Ledger::open(dir.path()).unwrap();
    let folder = dir.path().join("hollow-mile-1");
    let mark = folder.join(".hollow-mile");
    let make = |word: char| {
        std::fs::create_dir(&folder).unwrap();
        std::fs::write(&mark, word.to_string().repeat(32)).unwrap();
        std::fs::write(folder.join("f1"), vec![7; 10_000]).unwrap();
    };
    make('a');
    ledger.note_file(&folder, "file0001").unwrap();
    let left = ledger.leftovers().unwrap();
    assert!(left.len() == 1 && left[0].certain && left[0].size.get() >= 10_000, "{left:?}");
    // Another folder by this name, with another mark, or with a link for one: left alone, even where it got the same inode.
    for linked in [false, true] {
        std::fs::remove_dir_all(&folder).unwrap();
        make('b');
        if linked {
            std::fs::rename(&mark, dir.path().join("elsewhere")).unwrap();
            std::os::unix::fs::symlink(dir.path().join("elsewhere"), &mark).unwrap();
        }
        let inode = std::fs::metadata(&folder).unwrap().ino();
        ledger.db.execute("UPDATE leftovers SET inode = ?1", [inode as i64]).unwrap();
        assert!(!ledger.leftovers().unwrap()[0].certain);
    }
    std::fs::remove_dir_all(&folder).unwrap();
    make('a');
    let inode = std::fs::metadata(&folder).unwrap().ino();
    ledger.db.execute("UPDATE leftovers SET inode = ?1", [inode as i64]).unwrap();
    let left = ledger.leftovers().unwrap();
    let clear = |path: &std::path::Path| std::fs::remove_dir_all(path).map_err(|e| e.to_string());
    assert!(ledger.remove_leftover(&left[0], clear).unwrap() && !folder.exists());
}

#[test]
fn what_was_announced_and_made_is_known_without_more() {
    let dir = tempfile::tempdir().unwrap();
    let ledger = Ledger::open(dir.path()).unwrap();
    let path = dir.path().join("try.hm");
    let announce = || ledger.announce_file(&path, "file0001", "5ea5").unwrap();
    // The program was killed before it was made, or another's file lies there by now.
    announce();
    assert_eq!(ledger.leftovers().unwrap(), []);
    for mark in [None, Some("0ther")] {
        announce();
        made(&path, mark);
        assert_eq!(ledger.leftovers().unwrap(), [], "{mark:?}");
        std::fs::remove_file(&path).unwrap();
    }
    announce();
    made(&path, Some("5ea5"));
    let left = ledger.leftovers().unwrap();
    assert!(left.len() == 1 && left[0].certain && left[0].haul == "file0001", "{left:?}");
    assert!(ledger.remove_leftover(&left[0], no_folder).unwrap() && !path.exists());
    // A folder of the user's lies where a file was announced.
    announce();
    std::fs::create_dir(&path).unwrap();
    assert_eq!(ledger.leftovers().unwrap(), []);
    // One of ours has a name that nothing else has: an empty one was killed before its mark lay in it.
    let refuse = |_: &std::path::Path| Err("not ours".to_owned());
    for (inside, known) in [(None, true), (Some("thesis"), false)] {
        let folder = dir.path().join("hollow-mile-00000000005ea500");
        ledger.announce_file(&folder, "file0001", "5ea5").unwrap();
        std::fs::create_dir(&folder).unwrap();
        inside.iter().for_each(|name| std::fs::write(folder.join(name), "mine").unwrap());
        let left = ledger.leftovers().unwrap();
        assert_eq!(left.iter().filter(|l| l.certain).count(), usize::from(known), "{left:?}");
        left.iter().for_each(|l| assert!(ledger.remove_leftover(l, refuse).unwrap()));
        assert_eq!(folder.exists(), !known);
    }
}

#[test]
fn a_file_that_got_the_inode_of_ours_is_never_removed() {
    let dir = tempfile::tempdir().unwrap();
    write(Ledger::open(dir.path()).unwrap(), "file0001", false);
    let ledger = Ledger::open(dir.path()).unwrap();
    let path = dir.path().join("try.hm");
    for mark in [Some("5ea5"), None] {
        made(&path, mark);
        ledger.note_file(&path, "file0001").unwrap();
        let inode = std::fs::metadata(&path).unwrap().ino();
        // Whether the file system hands the number out at once or not, the ledger is made to believe so.
        std::fs::remove_file(&path).unwrap();
        std::fs::write(&path, "the only copy of a thesis").unwrap();
        let again = std::fs::metadata(&path).unwrap().ino();
        println!("inode {inode}, then {again}");
        ledger.db.execute("UPDATE leftovers SET inode = ?1", [again as i64]).unwrap();
        let left = ledger.leftovers().unwrap();
        assert!(left.len() == 1 && !left[0].certain, "{left:?}");
        assert!(!ledger.remove_leftover(&left[0], no_folder).unwrap());
        assert_eq!(std::fs::read(&path).unwrap(), b"the only copy of a thesis");
        assert_eq!(ledger.leftovers().unwrap(), [], "it is said once and struck off");
        std::fs::remove_file(&path).unwrap();
    }
    // What is ours goes, and a ledger of an earlier version, which knew no more than numbers, lets all stay.
    made(&path, Some("5ea5"));
    ledger.note_file(&path, "file0001").unwrap();
    ledger.db.execute("UPDATE leftovers SET mark = NULL, born_ns = NULL", []).unwrap();
    assert!(!ledger.leftovers().unwrap()[0].certain);
    ledger.note_file(&path, "file0001").unwrap();
    let left = ledger.leftovers().unwrap();
    assert!(ledger.remove_leftover(&left[0], no_folder).unwrap() && !path.exists());
}

#[test]
fn csv_gives_the_same_samples_and_the_same_findings_back() {
    let before = events("ab12cd34");
    let mut text = Vec::new();
    csv::export(&before, &mut text).unwrap();
    let back = csv::import("x.csv", std::io::Cursor::new(&text)).unwrap();
    assert_eq!(back.warnings, Vec::<String>::new());
    let samples = |events: &[Event]| -> Vec<Event> {
        events.iter().filter(|e| matches!(e, Event::Sample(_))).cloned().collect()
    };
    assert_eq!(samples(&before), samples(&back.events));
    let fold = |events: &[Event]| {
        let mut r = Readings::new();
        events.iter().for_each(|e| r.push(e));
        r.conclude()
    };
    assert_eq!(fold(&before).findings.len(), 1);
    assert_eq!(fold(&before), fold(&back.events));
}

#[test]
fn strange_csv_is_read_as_far_as_it_makes_sense() {
    let text = "# capacity_bytes=1000000000000\r\n# throttle_c=80\r\nelapsed_s,written_bytes,temperature_c,mood\r\n\
                1,100,NaN,a\r\n2,200,40,b\r\nx,300,40,c\r\n3,300\r\n3,400,40,d\r\n4,50,41,e\r\n1,150,41,f\r\n2,250,41,g\r\n";
    let got = csv::import("odd.csv", std::io::Cursor::new(&text)).unwrap();
    let words = got.warnings.join("\n");
    for expected in [
        "columns not known and not used: mood",
        "line 6 refused: elapsed_s is \"x\"",
        "line 8 refused: elapsed_s is the same",
        "line 9: written_bytes fell",
        "line 10: the clock went back by 3.000 s; taken as one interval of 1.000 s",
    ] {
        assert!(words.contains(expected), "{expected} is not in\n{words}");
    }
    let mut r = Readings::new();
    got.events.iter().for_each(|e| r.push(e));
    assert_eq!(r.series().len(), 6);
    assert_eq!(r.written(), Bytes::new(300 + 50 + 100 + 100));
    assert_eq!(r.elapsed(), Duration::from_secs(6));
    assert_eq!(r.throttle_limit(), Some(Celsius::new(80.0)));
}

#[test]
fn csv_that_cannot_be_used_says_why() {
    let words = |text: &str| csv::import("x", std::io::Cursor::new(&text)).unwrap_err().to_string();
    assert!(words("a,b\n1,2\n").contains("no column \"elapsed_s\"; it has: a, b"));
    assert!(words("elapsed_s,written_bytes\n").contains("no row"));
    assert!(words("elapsed_s\nabc\n").contains("line 2 refused"));
    assert!(words("").contains("elapsed_s"));
    for odd in ["elapsed_s\n1\n", "elapsed_s,written_bytes\n5,0\n", "elapsed_s,temperature_c\n1,255\n2,255\n"]
    {
        let got = csv::import("x", std::io::Cursor::new(&odd)).unwrap();
        let mut r = Readings::new();
        got.events.iter().for_each(|e| r.push(e));
        assert_eq!(r.conclude().findings, [], "{odd}");
    }
}

pub(crate) fn vitals(written_gb: u64) -> Event {
    let vitals = hollow_mile_core::drive::Vitals {
        host_bytes_written: Some(Bytes::from_gb(written_gb)),
        ..Default::default()
    };
    Event::Vitals { at: Duration::from_secs(written_gb), vitals: Box::new(vitals) }
}

#[test]
fn a_drives_health_is_kept_over_its_hauls() {
    let dir = tempfile::tempdir().unwrap();
    for (haul, from) in [("aaaa0001", 10), ("aaaa0002", 30)] {
        let head = head(haul);
        let mut writer = Ledger::open(dir.path()).unwrap().begin(&head).unwrap();
        writer.push(Event::HaulStarted(Box::new(head))).unwrap();
        for gb in [from, from + 3, from + 7] {
            writer.push(vitals(gb)).unwrap();
        }
        writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
    }
    let ledger = Ledger::open(dir.path()).unwrap();
    let wear = ledger.wear("KW-0001").unwrap();
    let gb = |w: &Wear| (w.before.host_bytes_written.unwrap().gb(), w.after.host_bytes_written.unwrap().gb());
    let mut spans: Vec<_> = wear.iter().map(gb).collect();
    spans.sort_by(|a, b| a.0.total_cmp(&b.0));
    assert_eq!(spans, [(10.0, 17.0), (30.0, 37.0)]);
    assert!(ledger.wear("KW-9999").unwrap().is_empty());

    // A ledger of version 1 had no such table: it is made from the records, after a copy was put aside.
    for column in ["conditions", "tags", "note", "deleted_unix_ms", "digest", "limits", "kept_samples"] {
        ledger.db.execute(&format!("ALTER TABLE hauls DROP COLUMN {column}"), []).unwrap();
    }
    super::archive_tests::without_marks(&ledger);
    ledger.db.execute_batch("DROP TABLE vitals; DROP TABLE overviews; PRAGMA user_version = 1").unwrap();
    drop(ledger);
    let ledger = Ledger::open(dir.path()).unwrap();
    assert_eq!(ledger.wear("KW-0001").unwrap().len(), 2);
    let mut again: Vec<_> = ledger.wear("KW-0001").unwrap().iter().map(gb).collect();
    again.sort_by(|a, b| a.0.total_cmp(&b.0));
    assert_eq!(again, spans);
    assert!(dir.path().join("ledger-version-1.sqlite").exists());
}

#[test]
fn programs_that_make_a_ledger_at_once_wait_for_each_other() {
    for _ in 0..20 {
        let dir = tempfile::tempdir().unwrap();
        std::thread::scope(|scope| {
            let opened: Vec<_> = (0..6).map(|_| scope.spawn(|| Ledger::open(dir.path()).map(drop))).collect();
            for thread in opened {
                assert_eq!(thread.join().unwrap().map_err(|e| e.to_string()), Ok(()));
            }
        });
    }
}

#[test]
fn a_haul_that_ends_while_others_look_is_done_and_not_cut_short() {
    let dir = tempfile::tempdir().unwrap();
    drop(Ledger::open(dir.path()).unwrap());
    std::thread::scope(|scope| {
        let hauls = scope.spawn(|| {
            for i in 0..40 {
                let haul = format!("{i:08x}");
                let mut writer = Ledger::open(dir.path()).unwrap().begin(&head(&haul)).unwrap();
                writer.push(Event::HaulStarted(Box::new(head(&haul)))).unwrap();
                writer.finish(HaulState::Done, None, &Readings::new(), &Conclusions::default()).unwrap();
            }
        });
        while !hauls.is_finished() {
            Ledger::open(dir.path()).unwrap();
        }
    });
    let ledger = Ledger::open(dir.path()).unwrap();
    let states: Vec<HaulState> = ledger.hauls().unwrap().into_iter().map(|r| r.state).collect();
    assert_eq!(states, [HaulState::Done; 40]);
    assert_eq!(
        std::fs::read_dir(dir.path().join("locks")).unwrap().count(),
        1,
        "but for that of the opening"
    );
}

#[test]
fn every_kind_of_finding_is_in_the_summary() {
    use hollow_mile_core::conclude::Finding;
    use hollow_mile_core::quantity::FindingKind;
    for kind in FindingKind::ALL {
        let findings = vec![Finding { written: Bytes::from_gb(3), ..Finding::new(kind) }];
        let words = summary(&Conclusions { findings, ..Conclusions::default() });
        assert!(words.contains(kind.word()) && words != "nothing found", "{kind:?}: {words}");
    }
    let read = Finding { position: Some(Bytes::from_gb(5)), ..Finding::new(FindingKind::OtherTraffic) };
    let words = summary(&Conclusions { findings: vec![read], ..Conclusions::default() });
    assert_eq!(words, "other-traffic 5 GB", "a read haul wrote nothing, and 0 B is no place");
}
