//! Partitions that must be there: a missing or empty one is named, answers mention it, and a copy of it brings its points back.

#![allow(clippy::unwrap_used, reason = "a test may panic")]

mod support;

use std::{
    fs,
    path::{Path, PathBuf},
};

use fenetre_core::time::{Nanos, SECOND};
use fenetre_store::Store;
use support::{START, copy, open, write};

const DAY: Nanos = 86_400 * SECOND;

/// A store with three partitions of a week, closed, and the file of the one in the middle.
fn three_weeks(path: &Path) -> PathBuf {
    let store = open(path);
    for week in 0..3 {
        write(&store, &(0..50).map(|at| (1, START + week * 7 * DAY + at * SECOND, at as f64)).collect::<Vec<_>>());
    }
    store.pack().unwrap();
    let partitions = store.inspect().report(0).unwrap().datasets.remove(0).partitions;
    assert_eq!(partitions.len(), 3);
    partitions[1].path.clone()
}

fn faults(store: &Store) -> Vec<String> {
    store.inspect().report(0).unwrap().faults.into_iter().map(|(_, fault)| fault).collect()
}

fn points(store: &Store) -> u64 {
    store.inspect().report(0).unwrap().datasets[0].partitions.iter().map(|partition| partition.points).sum()
}

fn remove(path: &Path) {
    for suffix in ["", "-wal", "-shm"] {
        let _ = fs::remove_file(format!("{}{suffix}", path.display()));
    }
}

#[test]
fn a_missing_or_empty_partition_is_reported_until_restored_or_accepted() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    let middle = three_weeks(&path);
    let (whole, aside) = (folder.path().join("whole"), folder.path().join("aside.db"));
    copy(&path, &whole);
    fs::copy(&middle, &aside).unwrap();
    let name = middle.strip_prefix(&path).unwrap().to_str().unwrap().to_owned();
    for is_emptied in [false, true] {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        remove(&middle);
        if is_emptied {
            fs::write(&middle, "").unwrap();
        }
        // It stays known over starts.
        for _ in 0..2 {
            let store = open(&path);
            let message = faults(&store);
            assert_eq!(message.len(), 1, "{message:?}");
            assert!(
                message[0].contains(&name) && message[0].contains("is missing or empty") && message[0].contains("storage accept-loss"),
                "{}",
                message[0]
            );
            assert_eq!(points(&store), 100, "the others are there");
        }
    }
    // A copy of it is what it was.
    fs::copy(&aside, &middle).unwrap();
    let store = open(&path);
    assert_eq!((faults(&store), points(&store)), (vec![], 150));
    drop(store);
    // Points that come into its time do not hide that it is lost.
    remove(&middle);
    let store = open(&path);
    write(&store, &[(1, START + 8 * DAY, 1.0)]);
    store.pack().unwrap();
    drop(store);
    let store = open(&path);
    assert_eq!((faults(&store).len(), points(&store)), (1, 101));
    assert!(store.inspect().accept_loss("data/main/other.db").unwrap_err().to_string().contains("is not a lost file"));
    store.inspect().accept_loss(&name).unwrap();
    assert_eq!(faults(&store), Vec::<String>::new());
    drop(store);
    assert_eq!(faults(&open(&path)), Vec::<String>::new());
}

#[test]
fn a_restored_backup_rebuilds_the_rollups_that_it_left_out() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    three_weeks(&path);
    let store = open(&path);
    write(&store, &[(1, START + 30 * DAY, 1.0)]);
    let (backup, again) = (folder.path().join("backup"), folder.path().join("again"));
    store.backup(&backup, None, &mut |_| true).unwrap();
    fenetre_store::restore(&backup, &again, &mut |_| true).unwrap();
    let restored = open(&again);
    assert_eq!((faults(&restored), points(&restored)), (vec![], 151));
}

#[test]
fn routine_expiry_needs_no_consent() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("store");
    three_weeks(&path);
    let store = open(&path);
    let stated = fenetre_core::keeping::LimitSettings { keep_for: Some(Some(fenetre_core::time::Span::parse("10d").unwrap())), ..Default::default() };
    store.retention().set_limits(fenetre_core::keeping::Scope::Store, stated, START).unwrap();
    store.retention().expire(START + 21 * DAY).unwrap();
    let image = folder.path().join("image");
    copy(&path, &image);
    drop(store);
    // Killed at that moment, and stopped in order.
    for path in [&path, &image] {
        let store = open(path);
        assert_eq!(faults(&store), Vec::<String>::new());
        let binned = store.bin().list().unwrap();
        assert!(!binned.is_empty());
        store.retention().set_limits(fenetre_core::keeping::Scope::Store, fenetre_core::keeping::LimitSettings::default(), START).unwrap();
        for one in &binned {
            store.bin().restore(&one.id, None).unwrap();
        }
        drop(store);
        let store = open(path);
        assert_eq!((faults(&store), points(&store)), (vec![], 150));
    }
    // Merged into one of years.
    let wide = fenetre_store::Options { longest_span_days: 3_584, ..support::quiet() };
    let store = support::try_open(&path, wide.clone()).unwrap();
    store.inspect().tidy("main").unwrap();
    let image = folder.path().join("merged");
    copy(&path, &image);
    drop(store);
    for path in [&path, &image] {
        let store = support::try_open(path, wide.clone()).unwrap();
        assert_eq!((faults(&store), points(&store)), (vec![], 150));
        assert_eq!(store.inspect().report(0).unwrap().datasets[0].partitions.len(), 1);
    }
}

/// A store as a kill leaves it, whose journal holds some batches of ten points, and the log of that journal.
fn killed_with(folder: &Path, batches: i64) -> (PathBuf, PathBuf) {
    let (live, path) = (folder.join("live"), folder.join("store"));
    let store = open(&live);
    for batch in 0..batches {
        write(&store, &(0..10).map(|at| (1, START + (batch * 10 + at) * SECOND, batch as f64)).collect::<Vec<_>>());
    }
    copy(&live, &path);
    drop(store);
    (path.clone(), path.join("journal/000001.db-wal"))
}

fn flip(path: &Path, at: u64) {
    let mut bytes = fs::read(path).unwrap();
    bytes[at as usize] ^= 0x10;
    fs::write(path, bytes).unwrap();
}

fn waiting(store: &Store) -> usize {
    let Some(found) = support::series(store, "lock", "lock-1") else { return 0 };
    support::columns(&store.source(), found, fenetre_core::time::TimeRange::ALL).unwrap().times.len()
}

#[test]
fn a_flipped_bit_in_the_journal_loses_only_its_batch_and_is_reported() {
    let folder = tempfile::tempdir().unwrap();
    let (path, log) = killed_with(folder.path(), 12);
    let whole = folder.path().join("whole");
    copy(&path, &whole);
    let length = fs::metadata(&log).unwrap().len();
    let (mut reported_losses, mut most_lost) = (0, 0);
    // Anywhere but in the last frames, which could be those of a commit that a crash cut off.
    for at in (40..length - 2 * 8_216).step_by(1_501) {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        flip(&log, at);
        let store = open(&path);
        let lost = 120 - waiting(&store);
        let message = faults(&store);
        assert_eq!(lost % 10, 0, "whole batches, at {at}");
        assert!(lost <= 20, "at {at} {lost} points are lost: {message:?}");
        assert!(!message.is_empty(), "a flip at {at} is named");
        assert!(
            message[0].contains("journal/000001.db: a part of its log is damaged") && message[0].contains("accept-loss journal/000001.db"),
            "{message:?}"
        );
        assert!(lost == 0 || message[0].contains("batch"), "{message:?}");
        (reported_losses, most_lost) = (reported_losses + 1, most_lost.max(lost));
        // The store works, and names the loss until somebody accepts it.
        write(&store, &[(1, START + 9_000 * SECOND, 1.0)]);
        store.pack().unwrap();
        drop(store);
        let store = open(&path);
        assert_eq!((waiting(&store), faults(&store).len()), (121 - lost, 1), "at {at}");
        store.inspect().accept_loss("journal/000001.db").unwrap();
        drop(store);
        assert_eq!(faults(&open(&path)), Vec::<String>::new());
    }
    assert!(reported_losses > 20, "{reported_losses} places, at most {most_lost} points lost");
}

#[test]
fn a_torn_journal_tail_is_ignored_quietly() {
    let folder = tempfile::tempdir().unwrap();
    let (path, log) = killed_with(folder.path(), 6);
    let whole = folder.path().join("whole");
    copy(&path, &whole);
    let length = fs::metadata(&log).unwrap().len();
    for at in [length - 1, length - 100, length - 5_000] {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        fs::File::options().write(true).open(&log).unwrap().set_len(at).unwrap();
        let store = open(&path);
        assert_eq!((waiting(&store), faults(&store)), (50, vec![]), "cut at {at}");
    }
}

#[test]
fn a_missing_empty_or_truncated_journal_is_reported() {
    let folder = tempfile::tempdir().unwrap();
    let (path, log) = killed_with(folder.path(), 6);
    let file = path.join("journal/000001.db");
    let whole = folder.path().join("whole");
    copy(&path, &whole);
    let changes: [(&str, &dyn Fn()); 3] = [
        ("its log is missing or empty", &|| fs::remove_file(&log).unwrap()),
        ("its log is missing or empty", &|| fs::write(&log, "").unwrap()),
        ("it is missing", &|| [&file, &log].iter().for_each(|path| fs::remove_file(path).unwrap())),
    ];
    for (what, change) in changes {
        let _ = fs::remove_dir_all(&path);
        copy(&whole, &path);
        change();
        let store = open(&path);
        let message = faults(&store);
        assert!(message.len() == 1 && message[0].contains(&format!("journal/000001.db: {what}")), "{what}: {message:?}");
        // Points that come now are kept, and packed.
        write(&store, &[(1, START + 9_000 * SECOND, 1.0)]);
        store.pack().unwrap();
        drop(store);
        assert_eq!(waiting(&open(&path)), 1);
    }
    // After a stop in order the catalogue knows the last batch: one that is missing was acknowledged.
    let _ = fs::remove_dir_all(&path);
    copy(&whole, &path);
    drop(open(&path));
    let length = fs::metadata(&log).unwrap().len();
    fs::File::options().write(true).open(&log).unwrap().set_len(length - 100).unwrap();
    let store = open(&path);
    let message = faults(&store);
    assert_eq!(waiting(&store), 50);
    assert!(message.len() == 1 && message[0].contains("batch 6 is missing from its end"), "{message:?}");
}
