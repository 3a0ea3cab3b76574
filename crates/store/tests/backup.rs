//! A backup of a live store holds exactly what was acknowledged before it began, can be built on, gone on with and brought back, and
//! never passes off damaged files as whole. A store of format 1 becomes one of this version, its copy beside it.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    fs,
    path::Path,
    sync::atomic::{AtomicBool, AtomicI64, Ordering},
};

use fenetre_core::{
    model::Value,
    time::{Nanos, SECOND, TimeRange, format_utc},
};
use fenetre_store::{BackupReport, Store, StoreError, restore};
use support::{Ends, START, columns, open, quiet, read, series, write};

const WEEK: i64 = 7 * 86_400 * SECOND;

fn back_up(store: &Store, to: &Path, since: Option<&Path>) -> Result<BackupReport, StoreError> {
    store.backup(to, since, &mut |_| true)
}

/// A store with a point in each of four weeks.
fn four_weeks(folder: &Path) -> Store {
    let store = open(&folder.join("store"));
    write(&store, &(0..4).map(|week| (0, START + week * WEEK, week as f64)).collect::<Vec<_>>());
    store
}

fn restored(folder: &Path, backup: &str) -> Store {
    let to = folder.join(format!("from-{backup}"));
    restore(&folder.join(backup), &to, &mut |_| true).unwrap();
    open(&to)
}

#[test]
fn a_backup_restores_acknowledged_points_and_no_later_ones() {
    let folder = tempfile::tempdir().unwrap();
    let store = four_weeks(folder.path());
    let report = back_up(&store, &folder.path().join("monday"), None).unwrap();
    assert_eq!((report.copied, report.kept, report.points), (5, 0, 4));
    write(&store, &[(0, START + 1, 9.0), (1, START, 9.0)]);
    let copy = restored(folder.path(), "monday");
    assert_eq!(read(&copy, 0, TimeRange::ALL).len(), 4);
    write(&copy, &[(0, START + 2, 1.0)]);
    assert_eq!((read(&copy, 0, TimeRange::ALL).len(), read(&copy, 1, TimeRange::ALL).len()), (5, 0));
}

#[test]
fn a_second_backup_copies_only_partitions_that_changed() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let store = four_weeks(folder.path());
    back_up(&store, &path("sunday"), None).unwrap();
    write(&store, &[(0, START + 2 * WEEK + 1, 7.0)]);
    store.inspect().compact_all().unwrap();
    let report = back_up(&store, &path("monday"), Some(&path("sunday"))).unwrap();
    assert_eq!((report.copied, report.kept, report.points), (2, 3, 5));
    let report = back_up(&store, &path("tuesday"), Some(&path("monday"))).unwrap();
    assert_eq!((report.copied, report.kept, report.points), (1, 4, 5));
    // Two backups deep, from elsewhere.
    let moved = tempfile::tempdir().unwrap();
    for name in ["sunday", "monday", "tuesday"] {
        fs::rename(path(name), moved.path().join(name)).unwrap();
    }
    assert_eq!(read(&restored(moved.path(), "tuesday"), 0, TimeRange::ALL), read(&store, 0, TimeRange::ALL));
    fs::remove_dir_all(moved.path().join("sunday")).unwrap();
    let reported = restore(&moved.path().join("tuesday"), &path("again"), &mut |_| true).unwrap_err().to_string();
    assert!(reported.contains("sunday") && reported.contains("is not a backup"), "{reported}");
}

#[test]
fn points_that_came_twice_are_counted_once() {
    let folder = tempfile::tempdir().unwrap();
    let store = four_weeks(folder.path());
    let path = |name: &str| folder.path().join(name);
    let once = back_up(&store, &path("once"), None).unwrap().points;
    // The same points again, packed a second time beside the first.
    let again: Vec<(u8, i64, f64)> = (0..4).map(|week| (0, START + week * WEEK, week as f64)).collect();
    write(&store, &again);
    store.pack().unwrap();
    write(&store, &again);
    store.pack().unwrap();
    let twice = back_up(&store, &path("twice"), None).unwrap().points;
    assert_eq!((once, twice), (4, 4));
}

#[test]
fn a_stopped_backup_resumes() {
    let folder = tempfile::tempdir().unwrap();
    let store = four_weeks(folder.path());
    let to = folder.path().join("monday");
    let mut left = 3;
    let stopped = store.backup(&to, None, &mut |_| {
        left -= 1;
        left > 0
    });
    assert!(matches!(stopped, Err(StoreError::Stopped)));
    assert!(restore(&to, &folder.path().join("early"), &mut |_| true).unwrap_err().to_string().contains("is not a backup"));
    // A copy that is not what was written down is made again, the other is kept.
    let copies: Vec<_> = fs::read_dir(to.join("data/main")).unwrap().map(|entry| entry.unwrap().path()).collect();
    assert_eq!(copies.len(), 2);
    fs::File::options().write(true).open(&copies[0]).unwrap().set_len(5_000).unwrap();
    let report = back_up(&store, &to, None).unwrap();
    assert_eq!((report.copied, report.kept, report.points), (4, 1, 4));
    assert_eq!(read(&restored(folder.path(), "monday"), 0, TimeRange::ALL).len(), 4);
    let reported = back_up(&store, &to, None).unwrap_err().to_string();
    assert!(reported.contains("contains a finished backup"), "{reported}");
}

#[test]
fn unsuitable_backup_destinations_are_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let store = four_weeks(folder.path());
    fs::create_dir(path("full")).unwrap();
    fs::write(path("full/letter.txt"), "hello").unwrap();
    let reported = |result: Result<BackupReport, StoreError>| result.unwrap_err().to_string();
    assert!(reported(back_up(&store, &path("full"), None)).contains("is not empty"));
    for inside in [store.root().join("bin/backup"), store.root().join("new/deep/backup"), store.root().to_owned()] {
        assert!(reported(back_up(&store, &inside, None)).contains("is inside the store"), "{}", inside.display());
    }
    assert!(reported(back_up(&store, &path("monday"), Some(&path("full")))).contains("is not a backup"));
    back_up(&store, &path("monday"), None).unwrap();
    assert!(reported(restore(&path("monday"), &path("full"), &mut |_| true)).contains("is not empty"));
    let stopped = restore(&path("monday"), &path("later"), &mut |_| false);
    assert!(matches!(stopped, Err(StoreError::Stopped)) && !path("later").exists());
    // One flipped bit.
    let partition = fs::read_dir(path("monday/data/main")).unwrap().next().unwrap().unwrap().path();
    let mut bytes = fs::read(&partition).unwrap();
    bytes[5_000] ^= 1;
    fs::write(&partition, bytes).unwrap();
    let text = reported(restore(&path("monday"), &path("again"), &mut |_| true));
    assert!(text.contains("is damaged: its checksum") && !path("again").exists(), "{text}");
    // A manifest that lacks an entry.
    let manifest = fs::read_to_string(path("monday/manifest.json")).unwrap();
    let mut shorter: serde_json::Value = serde_json::from_str(&manifest).unwrap();
    let partition = format!("data/main/{}", partition.file_name().unwrap().to_str().unwrap());
    shorter["files"].as_object_mut().unwrap().remove(&partition);
    fs::write(path("monday/manifest.json"), shorter.to_string()).unwrap();
    let message = reported(restore(&path("monday"), &path("shorter"), &mut |_| true));
    assert!(message.contains(&format!("does not list {partition}")) && !path("shorter").exists(), "{message}");
    // A manifest that leads elsewhere.
    fs::write(path("monday/manifest.json"), manifest.replace("catalogue.db", "../full/letter.txt")).unwrap();
    assert!(reported(restore(&path("monday"), &path("again"), &mut |_| true)).contains("lies outside"));
}

#[test]
fn backups_under_load_hold_whole_batches_up_to_one_instant() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(&folder.path().join("store"));
    let (acknowledged, done) = (AtomicI64::new(0), AtomicBool::new(false));
    std::thread::scope(|scope| {
        scope.spawn(|| {
            // Every batch has a point of each of three series in each of three weeks.
            for n in 0.. {
                let all = (0..3).flat_map(|lock| (0..3).map(move |week| (lock, START + week * WEEK + n * SECOND, n as f64)));
                write(&store, &all.collect::<Vec<_>>());
                acknowledged.store(n + 1, Ordering::SeqCst);
                if done.load(Ordering::SeqCst) {
                    return;
                }
            }
        });
        scope.spawn(|| {
            while !done.load(Ordering::SeqCst) {
                store.pack().unwrap();
                store.inspect().compact_all().unwrap();
            }
        });
        let _ends = Ends(&done);
        for round in 0..5 {
            let before = acknowledged.load(Ordering::SeqCst);
            let name = format!("backup-{round}");
            back_up(&store, &folder.path().join(&name), None).unwrap();
            let copy = restored(folder.path(), &name);
            let counts: Vec<usize> = (0..3)
                .flat_map(|lock| (0..3).map(move |week| (lock, week)))
                .map(|(lock, week)| {
                    let range = TimeRange { start: START + week * WEEK, end: START + week * WEEK + WEEK };
                    read(&copy, lock, range).len()
                })
                .collect();
            assert!(counts.iter().all(|count| *count == counts[0]), "batches are whole: {counts:?}");
            assert!(counts[0] as i64 >= before, "{} points of each, {before} acknowledged before", counts[0]);
        }
    });
}

#[test]
fn a_query_sees_whole_batches_while_they_are_written_packed_and_compacted() {
    let folder = tempfile::tempdir().unwrap();
    let store = open(&folder.path().join("store"));
    let done = AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let _ends = Ends(&done);
            for n in 0..400 {
                let all = (0..3).flat_map(|lock| (0..2).map(move |week| (lock, START + week * WEEK + n % 150 * SECOND, n as f64)));
                write(&store, &all.collect::<Vec<_>>());
            }
        });
        scope.spawn(|| {
            while !done.load(Ordering::SeqCst) {
                store.pack().unwrap();
                store.inspect().compact_all().unwrap();
            }
        });
        let _ends = Ends(&done);
        while !done.load(Ordering::SeqCst) {
            let source = store.source();
            let mut seen = Vec::new();
            for lock in 0..3 {
                let Some(series) = series(&store, "lock", &format!("lock-{lock}")) else { continue };
                for week in 0..2 {
                    let range = TimeRange { start: START + week * WEEK, end: START + week * WEEK + WEEK };
                    seen.push(columns(&source, series, range).unwrap().values);
                }
            }
            assert!(seen.windows(2).all(|pair| pair[0] == pair[1]), "all series are of one moment");
        }
    });
}

/// Format 1, as the first version wrote it: a gauge and a state, 400 points each packed, 30 points of the gauge (20 of them anew) in the
/// journal of a service that was killed.
fn format_1(to: &Path) {
    let from = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/format-1");
    for name in
        ["catalogue.db", "catalogue.db-wal", "data/main/2026-04-30_7d.db", "data/main/2026-05-07_7d.db", "journal/000003.db", "journal/000003.db-wal"]
    {
        let target = to.join(name);
        fs::create_dir_all(target.parent().unwrap()).unwrap();
        fs::write(target, zstd::decode_all(fs::File::open(from.join(format!("{name}.zst"))).unwrap()).unwrap()).unwrap();
    }
}

#[test]
fn a_store_of_format_1_is_copied_and_migrated() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    format_1(&path);
    for _ in 0..2 {
        let store = open(&path);
        let level = columns(&store.source(), of_metric(&store, "level"), TimeRange::ALL).unwrap();
        assert_eq!(level.len(), 420);
        assert_eq!((format_utc(level.times[0]), level.values[0], level.values[389]), ("2026-05-01T00:00:00Z".to_owned(), 300.0, 301.5));
        // What was in the journal came later, and counts.
        assert_eq!(level.values[390..], (390..420).map(f64::from).collect::<Vec<_>>());
        let (dataset, gate) = of_metric(&store, "gate_state");
        let gate = store.with_catalogue(|catalogue| catalogue.dataset("main").unwrap().series(gate).unwrap().clone());
        let gate = store.inspect().latest(dataset, &gate, Nanos::MAX).unwrap().unwrap();
        assert_eq!(gate.value, Value::Word("closed".into()));
        store.pack().unwrap();
        store.inspect().compact_all().unwrap();
    }
    // The copy is a store of format 1 still: brought up to date in its turn, it holds the same.
    let copy = path.join("before-format-5");
    assert_eq!(fs::read_dir(copy.join("data/main")).unwrap().count(), 2);
    let store = open(&copy);
    assert_eq!(columns(&store.source(), of_metric(&store, "level"), TimeRange::ALL).unwrap().len(), 420);
    assert!(Store::open(&copy, quiet()).is_err(), "one owner");
}

fn of_metric(store: &Store, metric: &str) -> (fenetre_core::model::DatasetId, fenetre_core::model::SeriesId) {
    store.with_catalogue(|catalogue| {
        let dataset = catalogue.dataset("main").unwrap();
        (dataset.id, dataset.metric(metric).unwrap().series().next().unwrap())
    })
}
