use std::collections::BTreeMap;
use std::fs;

use hollow_mile_core::drive::freight::{FileClass, FileOrder, Freighted, Tree, TreeSpec};
use hollow_mile_core::haul::{Haul, Progress, Setup};
use hollow_mile_core::record::{Event, HaulState};
use hollow_mile_core::route::Route;

use super::*;

fn class(from: u64, to: u64, percent: f64) -> FileClass {
    FileClass { from: Bytes::new(from), to: Bytes::new(to), percent }
}

fn tree(count: u64) -> Arc<Tree> {
    let classes = vec![class(0, 0, 10.0), class(1, 9000, 60.0), class(100_000, 300_000, 30.0)];
    let spec =
        TreeSpec { classes, total: None, count: Some(count), folder_depth: 2, folder_width: 3, seed: 5 };
    Arc::new(spec.make().unwrap())
}

fn of_empty_files(count: u64, folder_depth: u32, folder_width: u32) -> Arc<Tree> {
    let classes = vec![class(0, 0, 100.0)];
    let spec = TreeSpec { classes, total: None, count: Some(count), folder_depth, folder_width, seed: 5 };
    Arc::new(spec.make().unwrap())
}

fn freight(carry: Carry, tree: &Arc<Tree>) -> Freight {
    Freight {
        carry,
        side: Side::Target,
        tree: tree.clone(),
        through: Through::Cache,
        durable: Durable::End,
        order: FileOrder::Shuffled,
        duplicates_percent: 0,
        resumed: false,
    }
}

fn load(freight: Freight, workers: u32) -> Load {
    let block = Bytes::new(64 << 10);
    let freight = Some(freight);
    Load { freight, workers, ..Load::sequential(LoadKind::Freight, Bytes::ZERO, Bytes::ZERO, block, 8) }
}

/// Runs a load to its end: all tallies added up, and how it ended.
fn run(drive: &mut FolderDrive, load: &Load) -> (Tally, Freighted, LoadSummary) {
    drive.begin(load).unwrap();
    let (mut all, mut done) = (Tally::default(), Freighted::default());
    let mut add = |tally: &Tally, done: &mut Freighted| {
        all.written += tally.written;
        all.read += tally.read;
        all.errors += tally.errors;
        all.faults.extend(tally.faults.clone());
        done.add(tally.freight.as_deref().unwrap_or(&Freighted::default()));
    };
    loop {
        let tally = drive.work(Duration::from_millis(20)).unwrap();
        add(&tally, &mut done);
        if tally.finished {
            break;
        }
    }
    let summary = drive.finish(Ending::Durable).unwrap();
    done.add(summary.late.freight.as_deref().unwrap_or(&Freighted::default()));
    let drained = summary.drained;
    all.written += drained.saturating_sub(summary.drained_read);
    all.read += summary.drained_read;
    (all, done, summary)
}

/// Size of every file below a folder, by its path.
fn files(root: &Path) -> BTreeMap<String, u64> {
    let mut found = BTreeMap::new();
    let mut open = vec![root.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).unwrap().map(Result::unwrap) {
            let path = entry.path();
            if entry.file_type().unwrap().is_dir() {
                open.push(path);
            } else {
                found.insert(
                    path.strip_prefix(root).unwrap().display().to_string(),
                    entry.metadata().unwrap().len(),
                );
            }
        }
    }
    found
}

fn stated(tree: &Tree) -> BTreeMap<String, u64> {
    (0..tree.files()).map(|f| (tree.file_path(f), tree.size(f))).collect()
}

#[test]
fn a_tree_is_written_as_stated_read_back_and_deleted() {
    for (through, durable, workers) in [
        (Through::Cache, Durable::End, 1),
        (Through::Cache, Durable::Each, 4),
        (Through::Direct, Durable::Never, 3),
    ] {
        let dir = tempfile::tempdir().unwrap();
        let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
        let root = drive.folders()[0].clone();
        let tree = tree(200);
        let bytes = tree.cargo().bytes;
        let of = |carry| Freight { through, durable, ..freight(carry, &tree) };
        let (moved, done, summary) = run(&mut drive, &load(of(Carry::Write), workers));
        assert_eq!((moved.written, done.files, done.folders), (bytes, 200, 12), "{through:?}");
        assert_eq!(summary.flush.is_some(), durable != Durable::Never);
        assert_eq!(files(&root.join("t1")), stated(&tree));
        assert_eq!(done.classes.values().map(|c| c.files).sum::<u64>(), 200);
        let (moved, done, _) = run(&mut drive, &load(of(Carry::Read), workers));
        assert_eq!((moved.read, done.files, moved.errors), (bytes, 200, 0));
        let (_, done, _) = run(&mut drive, &load(of(Carry::Delete), workers));
        assert_eq!((done.files, done.folders), (200, 12));
        assert_eq!(files(&root.join("t1")), BTreeMap::new());
        drive.release().unwrap();
        assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
    }
}

#[test]
fn a_copy_goes_from_folder_to_folder_and_says_who_waits() {
    let (from, to) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let mut drive = FolderDrive::create(to.path(), 1).unwrap();
    drive.set_source(from.path(), &to_nobody).unwrap();
    assert!(drive.shares_a_drive());
    let folders = drive.folders();
    let tree = tree(150);
    let at_source = Freight { side: Side::Source, ..freight(Carry::Write, &tree) };
    run(&mut drive, &load(at_source, 2));
    assert_eq!(files(&folders[1].join("t1")), stated(&tree));
    let (moved, done, _) = run(&mut drive, &load(freight(Carry::Copy, &tree), 2));
    let bytes = tree.cargo().bytes;
    assert_eq!((moved.written, moved.read, done.files, done.threads), (bytes, bytes, 150, 2));
    assert_eq!(files(&folders[0].join("t1")), stated(&tree));
    // What was read is what was written, byte for byte.
    for file in 0..tree.files() {
        let path = tree.file_path(file);
        let read = |root: &Path| fs::read(root.join("t1").join(&path)).unwrap();
        assert_eq!(read(&folders[0]), read(&folders[1]), "{path}");
    }
    let spent = done.spent;
    assert!(spent.source_metadata > Duration::ZERO && spent.metadata > Duration::ZERO, "{spent:?}");
    assert!(done.queue_ppm.is_some());
    drop(drive);
    assert_eq!(fs::read_dir(from.path()).unwrap().count() + fs::read_dir(to.path()).unwrap().count(), 0);
}

#[test]
fn paused_files_wait_and_go_on_where_they_were() {
    let dir = tempfile::tempdir().unwrap();
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let tree = tree(3000);
    let write = load(freight(Carry::Write, &tree), 2);
    drive.begin(&write).unwrap();
    let mut files_done = drive.work(Duration::from_millis(5)).unwrap().freight.unwrap().files;
    let paused = drive.finish(Ending::AsItIs).unwrap();
    files_done += paused.late.freight.unwrap().files;
    assert!(files_done < 3000, "paused too late to tell");
    drive.begin(&Load::rest()).unwrap();
    let before = files(drive.folders()[0].join("t1").as_path()).len();
    assert!(drive.work(Duration::from_millis(50)).unwrap().freight.is_none());
    assert_eq!(files(drive.folders()[0].join("t1").as_path()).len(), before);
    drive.finish(Ending::AsItIs).unwrap();
    let resumed = Freight { resumed: true, ..freight(Carry::Write, &tree) };
    let (_, done, _) = run(&mut drive, &load(resumed, 2));
    assert_eq!(files_done + done.files, 3000);
    assert_eq!(files(&drive.folders()[0].join("t1")), stated(&tree));
}

#[test]
fn a_pause_is_no_waiting_and_threads_are_told_of_all_the_time() {
    // Files without a byte fill the queue with their names, and each is made durable: the source waits when it is paused.
    let here = std::env::current_dir().unwrap();
    let (from, to) = (tempfile::tempdir_in(&here).unwrap(), tempfile::tempdir_in(&here).unwrap());
    let mut drive = FolderDrive::create(to.path(), 1).unwrap();
    drive.set_source(from.path(), &to_nobody).unwrap();
    let tree = of_empty_files(900, 0, 1);
    run(&mut drive, &load(Freight { side: Side::Source, ..freight(Carry::Write, &tree) }, 1));
    let copy = Freight { durable: Durable::Each, ..freight(Carry::Copy, &tree) };
    drive.begin(&load(copy.clone(), 2)).unwrap();
    let first = drive.work(Duration::from_millis(5)).unwrap();
    let paused = drive.finish(Ending::AsItIs).unwrap();
    std::thread::sleep(Duration::from_millis(900));
    drive.begin(&load(Freight { resumed: true, ..copy }, 2)).unwrap();
    let (mut took, mut done) = (first.took + paused.drain, *first.freight.unwrap());
    done.add(&paused.late.freight.unwrap());
    loop {
        let tally = drive.work(Duration::from_millis(50)).unwrap();
        took += tally.took;
        done.add(&tally.freight.unwrap());
        if tally.finished {
            break;
        }
    }
    assert_eq!(done.files, 900);
    let (spent, whole) = (done.spent, 2 * took);
    let source = spent.source_data + spent.source_metadata + spent.source_machine + spent.held;
    assert!(source < whole + Duration::from_millis(300), "{source:?} of {whole:?}");
    // Both threads at the target are always at something, or have no file left.
    let target = spent.at_target() + spent.idle;
    assert!(target < whole + Duration::from_millis(300), "{target:?} of {whole:?}");
    assert!(target.as_secs_f64() > 0.8 * whole.as_secs_f64(), "{target:?} of {whole:?}");
}

#[test]
fn one_thread_makes_the_folders_and_the_others_wait_for_them() {
    let dir = tempfile::tempdir().unwrap();
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let tree = of_empty_files(8, 2, 60);
    let (_, done, _) = run(&mut drive, &load(freight(Carry::Write, &tree), 4));
    assert!(done.folders > 3000, "{}", done.folders);
    let all = done.spent.metadata.as_secs_f64() / done.folder_time.as_secs_f64();
    assert!((3.5..4.5).contains(&all), "four threads, of which three wait: {all}");
}

#[test]
fn threads_without_a_file_are_idle_while_another_has_one() {
    let dir = tempfile::tempdir_in(std::env::current_dir().unwrap()).unwrap();
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let classes = vec![class(100 << 20, 100 << 20, 100.0)];
    let spec = TreeSpec { classes, total: None, count: Some(1), folder_depth: 0, folder_width: 1, seed: 5 };
    let tree = Arc::new(spec.make().unwrap());
    let each = Freight { durable: Durable::Each, ..freight(Carry::Write, &tree) };
    let (_, done, _) = run(&mut drive, &load(each, 4));
    let idle = done.spent.idle.as_secs_f64() / done.spent.at_target().as_secs_f64();
    assert!((2.5..3.5).contains(&idle), "three of four: {idle}");
}

#[test]
fn a_folder_in_memory_below_dev_is_a_source_like_any_other() {
    let (from, to) = (tempfile::tempdir_in("/dev/shm").unwrap(), tempfile::tempdir().unwrap());
    let mut drive = FolderDrive::create(to.path(), 1).unwrap();
    drive.set_source(from.path(), &to_nobody).unwrap();
    assert_eq!(drive.folders().len(), 2);
}

#[test]
fn what_cannot_be_done_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let missing = FolderDrive::create(&dir.path().join("none"), 1).err().unwrap();
    assert!(missing.to_string().contains("is no folder"), "{missing}");
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let tree = tree(10);
    let mut begin = |f: Freight| drive.begin(&load(f, 1)).unwrap_err().to_string();
    assert!(begin(freight(Carry::Read, &tree)).contains("no tree lies there"));
    assert!(begin(freight(Carry::Copy, &tree)).contains("give one with --from"));
    assert!(
        begin(Freight { side: Side::Source, ..freight(Carry::Write, &tree) })
            .contains("give one with --from")
    );
    let huge = Cargo { bytes: Bytes::from_gb(900_000), files: 1, folders: 0 };
    assert!(drive.fits(huge, Cargo::default()).unwrap_err().to_string().contains("no space for the tree"));
    let raw = Load::sequential(LoadKind::Write, Bytes::ZERO, Bytes::from_mib(1), Bytes::new(4096), 1);
    assert!(drive.begin(&raw).unwrap_err().to_string().contains("takes freight legs"));
}

#[test]
fn what_vanishes_or_breaks_in_the_middle_ends_the_haul_and_leaves_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let tree = tree(300);
    run(&mut drive, &load(freight(Carry::Write, &tree), 1));
    fs::remove_file(drive.folders()[0].join("t1").join(tree.file_path(200))).unwrap();
    drive.begin(&load(freight(Carry::Read, &tree), 1)).unwrap();
    let error = loop {
        match drive.work(Duration::from_millis(20)) {
            Ok(tally) => assert!(!tally.finished, "a file is gone"),
            Err(e) => break e,
        }
    };
    assert!(matches!(error, DriveError::Gone { .. }), "{error}");
    drive.release().unwrap();
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
}

#[test]
fn a_whole_haul_of_files_leaves_its_record_and_nothing_else() {
    let dir = tempfile::tempdir().unwrap();
    let drive = FolderDrive::create(dir.path(), 1).unwrap();
    let route = "name = 'folder'\n[[leg]]\nkind = 'freight'\ncarry = 'write'\ncount = 400\nfolder_depth = 1\nfolder_width = 4\nworkers = 2\n\
                 files = [{ size = '1 kB to 8 kB', share = '70 %' }, { size = '1 MB', share = '30 %' }]\n\
                 [[leg]]\nkind = 'freight'\ncarry = 'read'\n[[leg]]\nkind = 'freight'\ncarry = 'delete'\n";
    let setup = Setup::plain("test", Route::from_toml(route).unwrap());
    let mut haul = Haul::new(drive, setup);
    let mut events = Vec::new();
    while haul.step(&mut events) == Progress::Going {}
    assert!(
        matches!(events.last(), Some(Event::HaulEnded { state: HaulState::Done, .. })),
        "{:?}",
        events.last()
    );
    let mut readings = hollow_mile_core::readings::Readings::new();
    events.iter().for_each(|e| readings.push(e));
    let legs = readings.conclude().surveys.freight.unwrap().legs;
    assert_eq!(
        legs.iter().map(|l| (l.carry, l.files)).collect::<Vec<_>>(),
        [(Carry::Write, 400), (Carry::Read, 400), (Carry::Delete, 400)]
    );
    assert!(legs[0].durable_s.unwrap() >= legs[0].returned_s && legs[1].durable_s.is_none());
    assert_eq!(legs[0].bytes, readings.written());
    let waits = &legs[0].waits;
    assert!(waits.iter().all(|w| (0.0..=1.0).contains(&w.share)) && waits[0].share > 0.2, "{waits:?}");
    drop(haul);
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
}

#[test]
fn a_lookout_reads_a_file_of_its_own_beside_the_tree_and_at_rest() {
    let dir = tempfile::tempdir_in(std::env::current_dir().unwrap()).unwrap();
    let mut drive = FolderDrive::create(dir.path(), 1).unwrap();
    let tree = tree(400);
    let every = Some(Duration::from_millis(5));
    let write = Load {
        lookout: every,
        ..load(Freight { durable: Durable::Each, ..freight(Carry::Write, &tree) }, 1)
    };
    drive.begin(&write).unwrap();
    let mut seen = crate::latency::Bins::default();
    while !{
        let tally = drive.work(Duration::from_millis(20)).unwrap();
        assert_eq!(tally.errors, 0, "{:?}", tally.faults);
        seen.add(&tally.lookout);
        tally.finished
    } {}
    seen.add(&drive.finish(Ending::Durable).unwrap().late.lookout);
    assert!(seen.total() > 5, "{}", seen.total());
    drive.begin(&Load { lookout: every, ..Load::rest() }).unwrap();
    let at_rest = drive.work(Duration::from_millis(200)).unwrap().lookout;
    assert!((20..=45).contains(&at_rest.total()), "{}", at_rest.total());
    drive.finish(Ending::AsItIs).unwrap();
    assert_eq!(files(&drive.folders()[0].join("t1")), stated(&tree), "its file is none of the tree's");
    drive.release().unwrap();
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 0);
}

#[test]
fn a_shape_has_sizes_and_layout_and_follows_no_link() {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("a/b")).unwrap();
    for (name, size) in [("x", 10usize), ("a/y", 4096), ("a/b/z", 0)] {
        fs::write(dir.path().join(name), vec![0; size]).unwrap();
    }
    std::os::unix::fs::symlink("/etc", dir.path().join("a/link")).unwrap();
    let (shape, said) = shape_of(dir.path()).unwrap();
    assert_eq!((shape.files(), shape.parents()), (3, vec![0, 1]));
    assert_eq!(said.len(), 1);
    assert!(said[0].contains("1 entries") && !shape.to_toml().contains("link"), "{said:?}");
    assert!(shape_of(&dir.path().join("x")).unwrap_err().contains("no folder"));
}
